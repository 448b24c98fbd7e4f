package proposal

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var at = time.Date(2026, 11, 26, 3, 0, 0, 0, time.UTC)

func open() Proposal {
	p := Proposal{Number: 3, Repo: "moorings", Base: "main", Branch: "vigila/gate", Standing: Opening, More: More{Title: "gate 2.8.1", By: "operator"}}
	return p.Opens("c1")
}

func TestAfterALook(t *testing.T) {
	for _, c := range []struct {
		what  string
		seen  Seen
		is    Standing
		says  string
		own   bool
		loud  bool
		wants string // the result
	}{
		{"nothing has moved", Seen{Base: "b1", Head: "c1"}, Open, "waits for a review", true, true, ""},
		{"somebody pushed to its branch", Seen{Base: "b1", Head: "c2"}, Open, "waits for a review", false, true, ""},
		{"both changed a file", Seen{Base: "b2", Head: "c1", Conflicts: []string{"a.yaml", "b.yaml", "c.yaml", "d.yaml"}}, Stale, "changed on main as well, in another way: a.yaml, b.yaml, c.yaml and 1 more", true, true, ""},
		{"merged by somebody, its branch still there", Seen{Base: "b2", Head: "c1", Within: true}, Merged, "was merged in the repository", true, false, "b2"},
		{"merged by somebody, its branch gone", Seen{Base: "b2", Within: true}, Merged, "was merged in the repository", true, false, "b2"},
		{"its commits were made one, and its branch deleted", Seen{Base: "b2", Same: true}, Merged, "the same is on main by now", true, false, "b2"},
		{"its branch was deleted", Seen{Base: "b1"}, Withdrawn, "its branch was deleted in the repository", true, false, ""},
		{"the base is gone", Seen{Head: "c1"}, Stale, "there is no branch main in moorings any more", true, true, ""},
		{"no common history", Seen{Base: "b1", Head: "c1", Problem: "main and vigila/gate have no commit in common"}, Stale, "main and vigila/gate have no commit in common", true, true, ""},
	} {
		p := open()
		got := p.After(c.seen)
		says, loud := got.Says()
		assert.Equal(t, c.is, got.Standing, c.what)
		assert.Equal(t, c.says, says, c.what)
		assert.Equal(t, c.own, got.Own, c.what)
		assert.Equal(t, c.loud, loud, c.what)
		assert.Equal(t, c.wants, got.Result, c.what)
		assert.Equal(t, got, got.After(c.seen), "%s: the same look again changes nothing", c.what)
	}
}

func TestAnEndIsAnEnd(t *testing.T) {
	p := open().End(Withdrawn, at, "operator", "not now", "")
	assert.Equal(t, p, p.After(Seen{Base: "b2", Head: "c9", Within: true}))
	says, _ := p.Says()
	assert.Equal(t, "withdrawn by operator: not now", says)
	waiting := Proposal{Standing: Opening}
	assert.Equal(t, waiting, waiting.After(Seen{Base: "b1"}), "a branch that was not pushed yet is not deleted")
}

// TestAnotherConflictIsAChange: names that read alike when they stand side by side are others all the same.
func TestAnotherConflictIsAChange(t *testing.T) {
	p := open()
	assert.True(t, p.Same(p.After(Seen{Base: "b1", Head: "c1"})))
	a, b := p.After(Seen{Base: "b1", Head: "c1", Conflicts: []string{"a b"}}), p.After(Seen{Base: "b1", Head: "c1", Conflicts: []string{"a", "b"}})
	a.Said, b.Said = "", ""
	assert.False(t, a.Same(b))
}

func TestStaleUntilTheTwoGoTogether(t *testing.T) {
	p := open().After(Seen{Base: "b2", Head: "c1", Conflicts: []string{"a.yaml"}})
	require.Equal(t, Stale, p.Standing)
	p = p.After(Seen{Base: "b3", Head: "c1"})
	assert.Equal(t, Open, p.Standing)
	assert.Empty(t, p.Conflicts)
	assert.Empty(t, p.Said)
}

func TestAnApprovalIsOfACommit(t *testing.T) {
	p := open().Approve("reader", nil, at).Approve("operator", nil, at)
	says, _ := p.Says()
	assert.Equal(t, "approved by reader, operator; waits for its merge", says)
	p = p.After(Seen{Base: "b1", Head: "c2"})
	now, earlier := p.Approved()
	assert.Empty(t, now)
	assert.Equal(t, []string{"reader", "operator"}, earlier)
	says, _ = p.Says()
	assert.Equal(t, "approved by reader, operator before its branch was changed; waits for a review", says)
	p = p.Approve("reader", nil, at)
	now, earlier = p.Approved()
	assert.Equal(t, []string{"reader"}, now)
	assert.Equal(t, []string{"operator"}, earlier)
}

func TestOneProposalOfAFollow(t *testing.T) {
	a, b := Origin{Follow, "gate", "2.8.1"}, Origin{Follow, "gate", "2.8.2"}
	assert.True(t, b.Replaces(a))
	assert.False(t, a.Replaces(a), "the same wish is the same proposal")
	assert.False(t, Origin{Follow, "tide", "1"}.Replaces(a))
	assert.False(t, Origin{Files, "gate", "x"}.Replaces(Origin{Files, "gate", "y"}))
	assert.NotEqual(t, a.Key(), b.Key())
}

func TestLay(t *testing.T) {
	file := func(id string) Leaf { return Leaf{"100644", id} }
	base := map[string]Leaf{"kept": file("1"), "same": file("2"), "both": file("3"), "gone here": {}, "gone there": file("1")}
	changes := []Change{
		{"kept", file("1"), file("9")}, {"same", file("1"), file("2")}, {"both", file("1"), file("2")}, {"gone here", file("1"), file("2")},
		{"gone there", file("1"), Leaf{}}, {"new", Leaf{}, file("5")},
	}
	got, err := Lay(changes, func(p string) (Leaf, error) { return base[p], nil })
	require.NoError(t, err)
	assert.Equal(t, []Change{changes[4], changes[0], changes[5]}, got.Write)
	assert.Equal(t, []Change{changes[2], changes[3]}, got.Both)
	assert.Equal(t, []string{"same"}, got.Same)
	assert.True(t, changes[2].Text(base["both"]))
	assert.False(t, changes[3].Text(base["gone here"]), "deleted there, changed here")
	assert.False(t, Change{"x", file("1"), Leaf{"100755", "1"}}.Text(file("2")), "another mode")
	assert.False(t, Change{"x", Leaf{"120000", "1"}, Leaf{"120000", "2"}}.Text(Leaf{"120000", "3"}), "a link has no lines")
	_, err = Lay(changes, func(string) (Leaf, error) { return Leaf{}, errors.New("unread") })
	assert.Error(t, err)
}
