package repo

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestProposeTakesOnePathBack(t *testing.T) {
	ctx := context.Background()
	dir, m := origin(t)
	old := commit(t, dir, "Old", map[string]string{"app/a.yaml": "1", "app/sub/b.yaml": "1", "other/c.yaml": "1"})
	git(t, dir, "rm", "-q", "app/sub/b.yaml")
	now := commit(t, dir, "New", map[string]string{"app/a.yaml": "2", "app/new.yaml": "2", "other/c.yaml": "2"})
	require.NoError(t, m.Fetch(ctx))

	c, err := m.Propose(ctx, Change{Base: "main", Branch: "vigila/back", Path: "app", At: old, Subject: "Take it back", Body: "Because.\n"})
	require.NoError(t, err)
	assert.Equal(t, "Take it back", c.Subject)
	assert.Equal(t, "Vigila", c.Author)
	assert.Equal(t, git(t, dir, "rev-parse", old+":app"), git(t, dir, "rev-parse", "vigila/back:app"), "the path is as it was, files that were added are gone")
	assert.Equal(t, git(t, dir, "rev-parse", now+":other"), git(t, dir, "rev-parse", "vigila/back:other"), "nothing beside it is touched")
	assert.Equal(t, now, git(t, dir, "rev-parse", "vigila/back^"))
	assert.Equal(t, now, git(t, dir, "rev-parse", "main"), "the branch it is meant for is left alone")
	assert.Equal(t, "Take it back\n\nBecause.", git(t, dir, "log", "-1", "--format=%B", "vigila/back"))

	again, err := m.Propose(ctx, Change{Base: "main", Branch: "vigila/back", Path: "app", At: old, Subject: "Take it back"})
	require.NoError(t, err, "the same change is there already")
	assert.Equal(t, c.ID, again.ID)

	file, err := m.Propose(ctx, Change{Base: "main", Branch: "vigila/file", Path: "other/c.yaml", At: old, Subject: "One file"})
	require.NoError(t, err)
	assert.Equal(t, "1", git(t, dir, "show", file.ID+":other/c.yaml"))
	assert.Equal(t, "2", git(t, dir, "show", file.ID+":app/a.yaml"))

	whole, err := m.Propose(ctx, Change{Base: "main", Branch: "vigila/whole", At: old, Subject: "All"})
	require.NoError(t, err)
	assert.Equal(t, git(t, dir, "rev-parse", old+"^{tree}"), git(t, dir, "rev-parse", whole.ID+"^{tree}"))
}

func TestWhatCantBeProposed(t *testing.T) {
	ctx := context.Background()
	dir, m := origin(t)
	first := commit(t, dir, "First", map[string]string{"app/a.yaml": "1"})
	git(t, dir, "branch", "behind")
	second := commit(t, dir, "Second", map[string]string{"app/a.yaml": "2", "late/b.yaml": "1"})
	require.NoError(t, m.Fetch(ctx))
	for name, c := range map[string]struct {
		change Change
		want   string
	}{
		"nothing to change":  {Change{Base: "main", Branch: "x", Path: "app", At: second}, "there is nothing to change"},
		"no such base":       {Change{Base: "nope", Branch: "x", Path: "app", At: first}, `no branch, tag or commit "nope"`},
		"no such commit":     {Change{Base: "main", Branch: "x", Path: "app", At: "0123456789012345678901234567890123456789"}, "moorings has no commit 0123456 any more"},
		"no such path then":  {Change{Base: "main", Branch: "x", Path: "late", At: first}, `had no files below "late"`},
		"a bad name":         {Change{Base: "main", Branch: "a..b", Path: "app", At: first}, `"a..b" can't be the name of a branch`},
		"its own base":       {Change{Base: "main", Branch: "main", Path: "app", At: first}, "a proposal needs a branch of its own"},
		"a branch with more": {Change{Base: "main", Branch: "behind", Path: "app", At: first, Subject: "s"}, "has a branch behind already that holds something else; choose another with --branch"},
	} {
		_, err := m.Propose(ctx, c.change)
		assert.ErrorContains(t, err, c.want, name)
	}
	assert.Equal(t, first, git(t, dir, "rev-parse", "behind"), "a branch is never overwritten, not even forward")
	_, err := m.Propose(ctx, Change{Base: "main", Branch: "x", Path: "app", At: second})
	assert.ErrorIs(t, err, ErrSame)
}

// TestCommitsAmongOthers: two services and ten people push to one branch at the same time, a hundred and twenty times: nobody's commit is lost, none is made twice, and
// what is read is what is written over.
func TestCommitsAmongOthers(t *testing.T) {
	ctx := context.Background()
	dir, one := origin(t)
	first := commit(t, dir, "First", map[string]string{"count.yaml": "0", "other.yaml": "1"})
	git(t, dir, "checkout", "-q", "--detach") // a branch that is looked at takes no pushes
	two, err := Open(ctx, t.TempDir(), Source{Name: "two", URL: one.source.URL})
	require.NoError(t, err)
	t.Cleanup(two.Close)
	const each = 6
	var all sync.WaitGroup
	failed := make(chan error, 3*each)
	for _, m := range []*Mirror{one, two} {
		for n := range 2 {
			all.Go(func() {
				for i := range each {
					_, err := m.Commit(ctx, "main", func(at *Tree) (Draft, error) {
						was, err := at.Read("count.yaml")
						return Draft{Files: []File{{Path: "count.yaml", Data: []byte(string(was) + "+")}}, Subject: fmt.Sprintf("%s %d %d", m.Name(), n, i)}, err
					})
					if err != nil {
						failed <- err
					}
				}
			})
		}
	}
	const people, pushes = 10, 10
	var turn sync.Mutex // among people, for a machine that has few cores; the services wait for nobody
	for n := range people {
		work := t.TempDir()
		git(t, "", "clone", "-q", "--bare", one.source.URL, work)
		all.Go(func() { // a commit without a work tree, since a rebase takes a dozen processes
			for i := range pushes {
				turn.Lock()
				for pushed := false; !pushed && t.Context().Err() == nil; {
					if tryGit(work, "fetch", "-q", "origin", "+main:theirs") != nil {
						continue
					}
					id := git(t, work, "commit-tree", "theirs^{tree}", "-p", "theirs", "-m", fmt.Sprintf("person %d %d", n, i))
					pushed = tryGit(work, "push", "-q", "origin", id+":refs/heads/main") == nil
				}
				turn.Unlock()
			}
		})
	}
	all.Wait()
	close(failed)
	for err := range failed {
		assert.NoError(t, err)
	}
	subjects := strings.Split(git(t, dir, "log", "--format=%s", first+"..main"), "\n")
	seen := map[string]int{}
	for _, s := range subjects {
		seen[s]++
	}
	assert.Len(t, seen, 4*each+people*pushes, "none is lost")
	assert.Len(t, subjects, 4*each+people*pushes, "and none is there twice")
	assert.Equal(t, "0"+strings.Repeat("+", 4*each), git(t, dir, "show", "main:count.yaml"))
	assert.Equal(t, "1", git(t, dir, "show", "main:other.yaml"))
}

func TestWhatIsNotCommitted(t *testing.T) {
	ctx := context.Background()
	dir, m := origin(t)
	commit(t, dir, "First", map[string]string{"a.yaml": "1"})
	git(t, dir, "checkout", "-q", "--detach")
	to := func(files ...File) func(*Tree) (Draft, error) {
		return func(*Tree) (Draft, error) { return Draft{Files: files, Subject: "x"}, nil }
	}
	_, err := m.Commit(ctx, "main", to(File{Path: "a.yaml", Data: []byte("1")}))
	require.ErrorIs(t, err, ErrSame)
	_, err = m.Commit(ctx, "none", to(File{Path: "a.yaml", Data: []byte("2")}))
	require.ErrorContains(t, err, "has no branch none")
	_, err = m.Commit(ctx, "-x", to())
	require.ErrorContains(t, err, "can't be the name of a branch")
	for _, p := range []string{"../a", ".git/config", "a/.GIT/hooks/x", ".git", "", "a\nb"} {
		_, err = m.Commit(ctx, "main", to(File{Path: p, Data: []byte("2")}))
		require.ErrorContains(t, err, "can't be the path of a file", p)
	}
	no := errors.New("no")
	_, err = m.Commit(ctx, "main", func(*Tree) (Draft, error) { return Draft{}, no })
	require.ErrorIs(t, err, no)
	made, err := m.Commit(ctx, "main", to(File{Path: "b/c.yaml", Data: []byte("2")}))
	require.NoError(t, err)
	assert.Equal(t, made.ID, git(t, dir, "rev-parse", "main"))
	assert.Equal(t, "Vigila", made.Author)
}
