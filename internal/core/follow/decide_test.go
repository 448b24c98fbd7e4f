package follow

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// decided answers what Decide asks, as a registry would; asked counts that.
func decided(n Now, is map[string]Facts) (d Decision, asked int) {
	n.Facts = map[string]Facts{}
	for {
		if d = Decide(n); d.Ask == "" {
			return d, asked
		}
		asked++
		n.Facts[d.Ask] = is[d.Ask]
	}
}

func TestWhatIsTaken(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	long := now.Add(-100 * time.Hour)
	r := rule(t, whole)
	amd := []string{"linux/amd64"}
	is := map[string]Facts{"2.8.0": {"a", amd, long}, "2.8.1": {"b", amd, long}, "2.9.0": {"c", amd, long}, "2.10.0": {"d", []string{"linux/arm64"}, long}, "2.11.0": {"e", amd, now}, "3.0.0": {"f", amd, long}}
	seen := map[string]Seen{}
	var tags []string
	for tag := range is {
		seen[tag] = Seen{At: long}
		tags = append(tags, tag)
	}
	seen["2.11.0"] = Seen{At: now.Add(-time.Hour)}
	passed := []Passed{{"2.11.0", "it is taken once it is 2 h old, at Nov 26 13:00 UTC"}, {"2.10.0", "it is not there for linux/amd64; it has linux/arm64"}}
	for name, c := range map[string]struct {
		change func(*Now)
		want   Decision
		asked  int
	}{
		"a newer one":           {func(n *Now) { n.Tag, n.Digest = "2.8.1", "b" }, Decision{Take: "2.9.0", Digest: "c", Passed: passed, Beyond: "3.0.0", Next: now.Add(time.Hour)}, 3},
		"the first of all":      {func(n *Now) {}, Decision{Take: "2.9.0", Digest: "c", Passed: passed, Beyond: "3.0.0", Next: now.Add(time.Hour)}, 3},
		"it is there":           {func(n *Now) { n.Tag, n.Digest = "2.9.0", "c" }, Decision{Passed: passed, Beyond: "3.0.0", Next: now.Add(time.Hour)}, 3},
		"never an older one":    {func(n *Now) { n.Tag, n.Digest = "2.11.0", "e" }, Decision{Beyond: "3.0.0"}, 1},
		"a tag that was moved":  {func(n *Now) { n.Tag, n.Digest = "2.11.0", "x" }, Decision{Beyond: "3.0.0", Moved: "e"}, 1},
		"a tag of a person":     {func(n *Now) { n.Tag = "2.11.0" }, Decision{Beyond: "3.0.0"}, 0},
		"newer than the range":  {func(n *Now) { n.Tag = "3.0.0" }, Decision{Beyond: "3.0.0", Left: "the file says 3.0.0, which is newer than what >=2.8 <3 takes"}, 0},
		"what is no version":    {func(n *Now) { n.Tag = "latest" }, Decision{Take: "2.9.0", Digest: "c", Passed: passed, Beyond: "3.0.0", Next: now.Add(time.Hour)}, 3},
		"one that was rejected": {func(n *Now) { n.Tag, n.Digest, n.Bad = "2.8.0", "a", map[string]string{"2.9.0": "it crashed"} }, Decision{Take: "2.8.1", Digest: "b", Passed: append(append([]Passed{}, passed...), Passed{"2.9.0", "it was rejected: it crashed"}), Beyond: "3.0.0", Next: now.Add(time.Hour)}, 3},
		"one that was taken back": {func(n *Now) { n.Tag, n.Digest, n.History = "2.8.1", "b", []Past{{Version: "2.9.0"}} },
			Decision{Passed: append(append([]Passed{}, passed...), Passed{"2.9.0", "the file was at it before, and somebody took it back; take it all the same: vigila follow take fare-gate 2.9.0"}), Beyond: "3.0.0", Next: now.Add(time.Hour)}, 3},
		"taken out of the file":      {func(n *Now) { n.History = []Past{{Version: "2.8.1"}} }, Decision{Beyond: "3.0.0", Left: "its file says no version any more, and somebody wanted that; take one: vigila follow take fare-gate VERSION"}, 0},
		"back beyond the range":      {func(n *Now) { n.Tag, n.History = "2.7.0", []Past{{Version: "2.8.1"}, {Version: "2.7.0"}} }, Decision{Beyond: "3.0.0", Left: "its file says 2.7.0, which is none that >=2.8 <3 takes, and somebody wrote that; take one: vigila follow take fare-gate VERSION"}, 0},
		"before the first of all":    {func(n *Now) { n.Tag, n.History = "latest", []Past{{Version: "latest"}} }, Decision{Take: "2.9.0", Digest: "c", Passed: passed, Beyond: "3.0.0", Next: now.Add(time.Hour)}, 3},
		"one that a person wants":    {func(n *Now) { n.Tag, n.Asked, n.Bad = "2.8.1", "3.0.0", map[string]string{"3.0.0": "no"} }, Decision{Take: "3.0.0", Digest: "f", Beyond: "3.0.0"}, 1},
		"one that is moved, wanted":  {func(n *Now) { n.Tag, n.Digest, n.Asked = "2.9.0", "x", "2.9.0" }, Decision{Take: "2.9.0", Digest: "c", Beyond: "3.0.0"}, 1},
		"wanted, and there":          {func(n *Now) { n.Tag, n.Digest, n.Asked = "2.9.0", "c", "2.9.0" }, Decision{Beyond: "3.0.0"}, 1},
		"wanted, and not there":      {func(n *Now) { n.Asked = "9.9.9" }, Decision{Beyond: "3.0.0", Left: "9.9.9 is not there"}, 0},
		"nothing that fits is there": {func(n *Now) { n.Tags = []string{"latest"} }, Decision{}, 0},
	} {
		n := Now{Rule: r, At: now, Tags: tags, Seen: seen}
		c.change(&n)
		got, asked := decided(n, is)
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.asked, asked, "%s: no more is asked than has to be", name)
	}
}

func TestWhatIsRememberedOfAFollow(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	var s State
	s.See(now, []string{"1", "2"})
	s.See(now.Add(time.Hour), []string{"2", "3"})
	assert.Equal(t, map[string]Seen{"2": {At: now, Standing: true}, "3": {At: now.Add(time.Hour)}}, s.Seen, "what is gone is forgotten, and what came is new")
	s.Learn(Facts{Digest: "a"})
	_, known := s.Fact("a")
	assert.True(t, known)
	for i := range 60 {
		s.Learn(Facts{Digest: string(rune('b' + i))})
	}
	_, known = s.Fact("a")
	assert.False(t, known)
	s.Wrote(Past{Version: "1", Digest: "a"})
	s.Wrote(Past{Version: "2", Digest: "b"})
	s.Wrote(Past{Version: "1", Digest: "c"})
	assert.Equal(t, []Past{{Version: "2", Digest: "b"}, {Version: "1", Digest: "c"}}, s.History)
	assert.Equal(t, []string{"1", "c"}, []string{s.Tag, s.Digest})
}

// TestByTime: of what was there at the first look what the image says counts, of what came since when it was seen; each is asked for once.
func TestByTime(t *testing.T) {
	r := rule(t, "vigila: follow/v1\nname: a\nimage: a.example/x\nversions: {match: '^main-', order: time}\ninto: {repo: m, file: v.yaml}\n")
	first := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	st := &State{}
	made := map[string]time.Time{"main-b": first.Add(-3 * time.Hour), "main-a": first.Add(-time.Hour), "main-c": {}, "main-z": first.Add(time.Hour)}
	asked := 0
	look := func(at time.Time, tags ...string) Decision {
		fits, _ := r.Sorted(tags)
		st.See(at, fits)
		n := Now{Rule: r, At: at, Tags: tags, Tag: st.Tag, Digest: st.Digest, Facts: map[string]Facts{}, Seen: st.Seen, History: st.History}
		for {
			d := Decide(n)
			if d.Ask == "" {
				return d
			}
			asked++
			n.Facts[d.Ask] = Facts{Digest: "sha256:" + d.Ask, Created: made[d.Ask]}
			st.Made(d.Ask, n.Facts[d.Ask])
		}
	}
	d := look(first, "main-b", "main-a", "other")
	assert.Equal(t, "main-a", d.Take)
	assert.Equal(t, 2, asked)
	st.Wrote(Past{Version: d.Take, Digest: d.Digest, At: first})
	d = look(first.Add(time.Minute), "main-b", "main-a", "main-0")
	assert.Equal(t, "main-0", d.Take, "it came since, whatever it says of itself")
	assert.Equal(t, 3, asked, "the others are known")

	st, asked = &State{}, 0
	d = look(first, "main-a", "main-c", "main-z")
	assert.Equal(t, "main-z", d.Take, "what says nothing, or that it comes from the future, was made when it was seen; then the text")
	many := []string{}
	for i := range maxTimed + 1 {
		many = append(many, fmt.Sprint("main-", i))
	}
	assert.Contains(t, look(first, many...).Left, "201 tags match ^main-; 200 are ordered by time at most")
}

func TestWhatAFollowSays(t *testing.T) {
	r := rule(t, whole)
	at := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	for want, c := range map[string]struct {
		s    State
		loud bool
	}{
		"not looked yet":                                         {State{}, false},
		"registry harbour: no":                                   {State{Looked: at, Problem: "registry harbour: no"}, true},
		"at 2.9.0; 2.10.0 waits for a review (#7)":               {State{Looked: at, Tag: "2.9.0", Offered: Offered{Version: "2.10.0", Proposal: 7}}, true},
		"nothing is written yet; 2.10.0 waits for a review (#7)": {State{Looked: at, Offered: Offered{Version: "2.10.0", Proposal: 7}}, true},
		"at 2.9.0, the newest":                                   {State{Looked: at, Tag: "2.9.0"}, false},
		"at 2.9.0, the newest that fits; 3.0.0 is there":         {State{Looked: at, Tag: "2.9.0", Beyond: "3.0.0"}, false},
		"at 2.9.0; 2.10.0 is not taken: it is young":             {State{Looked: at, Tag: "2.9.0", Passed: []Passed{{"2.10.0", "it is young"}}}, false},
		"2.10.0 is not taken: it is young":                       {State{Looked: at, Passed: []Passed{{"2.10.0", "it is young"}}}, true},
		"no version fits >=2.8 <3":                               {State{Looked: at}, true},
		"2.9.0 was moved to another image, sha256:0123456789ab…; take it: vigila follow take fare-gate 2.9.0": {State{Looked: at, Tag: "2.9.0", Moved: "sha256:0123456789abcdef"}, true},
	} {
		says, loud := c.s.Says(r)
		assert.Equal(t, want, says)
		assert.Equal(t, c.loud, loud, want)
	}
}
