package roster

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
)

func file(path, text string) File { return File{Path: path, Data: []byte(text)} }

func gate(name, into string) string {
	return "vigila: ward/v1\nname: " + name + "\nfrom: {path: services/" + name + "}\ninto: {" + into + "}\n"
}

var top = Roster{Name: "top", Repo: "moorings", Ref: "main", Path: "wards"}

func TestWhatTheFilesOfARosterDeclare(t *testing.T) {
	limited := top
	limited.Limits.Clusters = []string{"quay"}
	kept := []Kept{{Name: "fare-gate", Roster: "top", Source: "wards/fare-gate.yaml"}}
	for _, c := range []struct {
		name     string
		roster   Roster
		files    []File
		wards    []string
		count    int
		problems []string
	}{
		{"wards, a cluster and a repository", top, []File{
			file("wards/fare-gate.yaml", gate("fare-gate", "cluster: quay")),
			file("wards/more.yaml", "vigila: cluster/v1\nname: quay\n---\nvigila: repo/v1\nname: charts\nurl: https://charts.brindle.example\n---\n"+gate("tide-gauge", "cluster: quay"))},
			[]string{"fare-gate", "tide-gauge"}, 2, nil},
		{"what declares nothing is passed over", top, []File{file("wards/fare-gate.yaml", gate("fare-gate", "cluster: quay")), file("wards/notes.yaml", "a: b\n")}, []string{"fare-gate"}, 1, nil},
		{"a file that can't be read stops no other", top, []File{file("wards/bad.yaml", gate("x", "cluster: quay")+"form: {}\n"), file("wards/fare-gate.yaml", gate("fare-gate", "cluster: quay"))},
			[]string{"fare-gate"}, 2, []string{"wards/bad.yaml:5: unknown key form"}},
		{"a slip in the first line is no removal", top, []File{file("wards/fare-gate.yaml", "vigilla: ward/v1\n")}, nil, 0,
			[]string{"wards/fare-gate.yaml:1: its first key is not vigila: ward/v1 any more; to stop keeping ward fare-gate, take the file away"}},
		{"nor is a health rule in its place", top, []File{file("wards/fare-gate.yaml", "vigila: health/v1\nof: Berth.x\nready: 'true'\n")}, nil, 0,
			[]string{"wards/fare-gate.yaml:1: its first key is not"}},
		{"limits leave wards alone", limited, []File{file("wards/fare-gate.yaml", gate("fare-gate", "cluster: quay")),
			file("wards/b.yaml", "vigila: cluster/v1\nname: quay\n---\nvigila: repo/v1\nname: r\nurl: https://git.brindle.example/r\n---\nvigila: roster/v1\nname: inner\n---\nvigila: store/v1\nname: harbour\nurl: https://secrets.brindle.example\n")},
			[]string{"fare-gate"}, 2, []string{"wards/b.yaml:1: roster top has limits, so it may declare wards alone, not cluster quay", "wards/b.yaml:4: roster top has limits, so it may declare wards alone, not repository r",
				"wards/b.yaml:8: roster top has limits, so it may declare wards alone, not roster inner", "wards/b.yaml:11: roster top has limits, so it may declare wards alone, not store harbour"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, problems := Read(c.roster, c.files, "vigila/health", kept)
			var wards []string
			for _, w := range f.Wards {
				wards = append(wards, w.Name)
				assert.Equal(t, "moorings", w.From.Repo, "it comes from where its file lives")
			}
			assert.Equal(t, c.wards, wards)
			assert.Equal(t, c.count, f.Count)
			require.Len(t, problems, len(c.problems), "%v", problems)
			for i, want := range c.problems {
				assert.Contains(t, problems[i].At(), want)
			}
			if c.roster.Limits.Any() {
				assert.Empty(t, len(f.Clusters)+len(f.Repos)+len(f.Rosters))
			}
		})
	}
}

func TestHealthRulesOfARoster(t *testing.T) {
	rule := "vigila: health/v1\nof: Berth.x\nready: 'true'\n"
	f, problems := Read(top, []File{file("wards/berth.yaml", rule), file("vigila/health/berth.yaml", rule)}, "vigila/health", nil)
	assert.Empty(t, problems)
	require.Len(t, f.Rules, 1, "those of the repository hold for each of its wards anyway")
	assert.Equal(t, "wards/berth.yaml", f.Rules[0].Path)
}

func TestChecksOfARoster(t *testing.T) {
	const checks = "vigila: checks/v1\nchecks: {errors: {request: {service: gate}, good: 'true'}}\n"
	files, problems := Read(Roster{Name: "moorings", Repo: "moorings"}, []File{{"checks.yaml", []byte(checks)}, {".vigila/checks.yaml", []byte(checks)}}, ".vigila", nil)
	assert.Empty(t, problems)
	require.Len(t, files.Rules, 1, "those of the repository hold anyway")
	assert.Equal(t, "checks.yaml", files.Rules[0].Path)
}

func TestWhatARosterMayNotTake(t *testing.T) {
	known := Known{Repos: []string{"moorings", "charts"}, Clusters: map[string]map[string]string{"quay": {"sea": "sound"}, "skerry": {"sea": "open"}},
		Wards: map[string]Kept{"theirs": {Name: "theirs", Roster: "other", Source: "x/theirs.yaml"}, "hand": {Name: "hand"}, "own": {Name: "own", Roster: "top"}}}
	with := func(l Limits) Roster { r := top; r.Limits = l; return r }
	read := func(text string) ward.Ward {
		all, err := ward.ParseIn(top.Home(), "w.yaml", []byte(text))
		require.NoError(t, err)
		return all[0]
	}
	chart := "vigila: ward/v1\nname: a\nfrom: {chart: {repo: charts, name: gate, version: 1.x}}\ninto: {cluster: quay}\n"
	for _, c := range []struct {
		name, ward string
		roster     Roster
		cycle      []string
		limit      bool
		want       string
	}{
		{"nothing in the way", gate("a", "cluster: quay"), top, nil, false, ""},
		{"its own", gate("own", "cluster: quay"), top, nil, false, ""},
		{"a person's, without limits", gate("hand", "cluster: quay"), top, nil, false, ""},
		{"a person's, with limits", gate("hand", "cluster: quay"), with(Limits{Clusters: []string{"quay"}}), nil, false, "registered by a person, and roster top has limits"},
		{"another roster's", gate("theirs", "cluster: quay"), top, nil, false, "there is a ward theirs already, declared by roster other in x/theirs.yaml"},
		{"one that waits for itself", gate("a", "cluster: quay"), top, []string{"a", "b", "a"}, false, "so none could start: a → b → a"},
		{"one of a like name does not", gate("a", "cluster: quay"), top, []string{"aa", "b", "aa"}, false, ""},
		{"a cluster that nobody knows", gate("a", "cluster: key"), top, nil, false, `ward a goes into cluster "key", which is not known; there are quay and skerry`},
		{"labels that no cluster has yet", gate("a", "clusters: {sea: none}"), top, nil, false, ""},
		{"a repository that nobody knows", "vigila: ward/v1\nname: a\nfrom: {repo: nope, path: a}\ninto: {cluster: quay}\n", top, nil, false, `comes from repository "nope", which is not known; there are charts and moorings`},
		{"a chart", chart, top, nil, false, ""},
		{"a chart that limits leave out", chart, with(Limits{Clusters: []string{"quay"}}), nil, true, "roster top lets its wards read moorings, not charts (limits.repos)"},
		{"a chart that limits let in", chart, with(Limits{Repos: []string{"charts"}}), nil, false, ""},
		{"a namespace", gate("a", "cluster: quay, namespace: tides"), with(Limits{Namespaces: []string{"fares"}}), nil, true, `keep the namespaces fares, not "tides"`},
		{"no namespace", gate("a", "cluster: quay"), with(Limits{Namespaces: []string{"fares"}}), nil, true, `keep the namespaces fares, not ""`},
		{"one of its clusters", gate("a", "clusters: {sea: open}"), with(Limits{Clusters: []string{"quay"}}), nil, true, "go into the clusters quay, not skerry"},
		{"a namespace in one of its clusters", gate("a", "clusters: {sea: open}, namespace: fares") + "set: [{where: {cluster: skerry}, into: {namespace: tides}}]\n", with(Limits{Namespaces: []string{"fares"}}), nil, true, `not "tides"`},
	} {
		t.Run(c.name, func(t *testing.T) {
			no := known.Refuses(c.roster, read(c.ward), c.cycle)
			if c.want == "" {
				assert.Nil(t, no)
				return
			}
			require.NotNil(t, no)
			assert.Contains(t, no.Text, c.want)
			assert.Equal(t, c.limit, no.Limit)
		})
	}
	w := read(gate("a", "clusters: {sea: none}"))
	assert.Equal(t, []string{"no cluster has the labels that ward a asks for; there are quay and skerry"}, known.Missing(w), "a person who adds it is told")
	assert.Contains(t, Known{}.Missing(w)[0], "there are none yet; add one with vigila repo add")
}

func TestOneOfANameIsTaken(t *testing.T) {
	f, problems := Read(top, []File{file("wards/a.yaml", gate("a", "cluster: quay")), file("wards/b.yaml", gate("a", "cluster: quay")+"---\n"+gate("c", "cluster: key"))}, "r", nil)
	require.Empty(t, problems)
	take, problems := f.Plan(top, Known{Repos: []string{"moorings"}, Clusters: map[string]map[string]string{"quay": nil}}, nil)
	require.Len(t, take, 1)
	assert.Equal(t, "wards/a.yaml", take[0].File)
	require.Len(t, problems, 2)
	assert.Equal(t, "wards/b.yaml:1: ward a is declared twice; first in wards/a.yaml", problems[0].At())
	assert.Equal(t, 6, problems[1].Line)
	misfiled, limited := f.Standing(Kept{Name: "c"}, problems)
	assert.Contains(t, misfiled, "wards/b.yaml:6: ward c goes into cluster")
	assert.Empty(t, limited)
	misfiled, limited = f.Standing(Kept{Name: "c"}, []Problem{{File: "x", Line: 2, Ward: "c", Text: "too much", Limit: true}})
	assert.Empty(t, misfiled, "it was read well")
	assert.Equal(t, "x:2: too much", limited)
	misfiled, _ = f.Standing(Kept{Name: "other"}, problems)
	assert.Empty(t, misfiled, "nobody else is stopped by it")
}

func TestCycles(t *testing.T) {
	after := map[string][]string{"fare-gate": {"tide"}, "tide": {"fare-gate"}, "gate": {"fare-gate-report"}, "lamp": {"tide"}, "self": {"self"}}
	assert.Equal(t, []string{"fare-gate", "tide", "fare-gate"}, Cycle(after, []string{"gate", "fare-gate"}))
	assert.Equal(t, []string{"tide", "fare-gate", "tide"}, Cycle(after, []string{"lamp"}), "it would wait for ever")
	assert.Equal(t, []string{"self", "self"}, Cycle(after, []string{"self"}))
	assert.Empty(t, Cycle(after, []string{"gate"}))
}

func TestWhatHasLeftARoster(t *testing.T) {
	var kept []Kept
	for i := range 8 {
		kept = append(kept, Kept{fmt.Sprint("w", i), "top", fmt.Sprintf("wards/w%d.yaml", i)})
	}
	kept = append(kept, Kept{"in", "inner", "i/in.yaml"}, Kept{"deep", "deeper", "d/deep.yaml"}, Kept{"other", "other", "o/o.yaml"}, Kept{"hand", "", ""})
	parents := map[string]string{"top": "", "other": "", "inner": "top", "deeper": "inner"}
	declares := func(n int, inner bool) *Files {
		f := &Files{Broken: map[string]string{}}
		for i := range n {
			f.Wards = append(f.Wards, Ward{Ward: ward.Ward{Name: fmt.Sprint("w", i)}})
		}
		if inner {
			f.Rosters = []ward.Roster{{Name: "inner"}}
		}
		return f
	}
	assert.Empty(t, declares(8, true).Left(top, kept, parents).Wards)
	left := declares(7, true).Left(top, kept, parents)
	assert.Equal(t, Leaving{Wards: []string{"w7"}, Of: 8}, left)
	assert.Empty(t, left.Guarded())
	left = declares(8, false).Left(top, kept, parents)
	assert.Equal(t, Leaving{Wards: []string{"in", "deep"}, Rosters: []string{"inner", "deeper"}, Of: 10}, left, "what is in a roster goes with it")
	assert.Empty(t, left.Guarded())
	assert.Empty(t, declares(3, true).Left(top, kept, parents).Guarded(), "five of eight")
	assert.Equal(t, "6 of its 8 wards are not in its files any more: w2, w3, w4, w5, w6, w7", declares(2, true).Left(top, kept, parents).Guarded())
	assert.Contains(t, declares(1, false).Left(top, kept, parents).Guarded(), "9 of its 10 wards are not in its files any more: w1, w2, w3, w4, w5, w6, 3 more")
	assert.NotEmpty(t, Leaving{Wards: []string{"a", "b"}, Of: 2}.Guarded(), "all of several")
	assert.Empty(t, Leaving{Wards: []string{"a"}, Of: 1}.Guarded(), "one is one")
	assert.Empty(t, Leaving{}.Guarded())

	slip := declares(7, false)
	slip.Broken["wards/w7.yaml"] = "x"
	assert.Equal(t, Leaving{Of: 8}, slip.Left(top, kept, parents), "a file that can't be read is no removal, of a roster neither")
	elsewhere := declares(7, true)
	elsewhere.Broken["wards/w3.yaml"] = "x"
	assert.Equal(t, []string{"w7"}, elsewhere.Left(top, kept, parents).Wards)
}

func TestMistakesHaveTheirPlaces(t *testing.T) {
	err := errors.Join(&ward.Error{File: "a.yaml", Line: 3, Text: "one"}, errors.Join(errors.New("a.yaml:7: two: more")), errors.New("three"))
	assert.Equal(t, []Problem{{File: "a.yaml", Line: 3, Text: "one"}, {File: "a.yaml", Line: 7, Text: "two: more"}, {File: "a.yaml", Line: 1, Text: "three"}}, Places("a.yaml", err))
}

// TestWhatARosterSays: each state is said before those that matter less.
func TestWhatARosterSays(t *testing.T) {
	s := State{AsOf: standing.AsOf{Problem: "no such branch"}, Waits: "waits for a first ward file", Problems: []Problem{{File: "a", Line: 2, Text: "x"}, {}}, Guarded: "6 of its 8 wards", Leaving: []string{"w"}}
	says := func(want compare.Standing, needs bool, text, todo string) {
		t.Helper()
		got := s.Say("top")
		assert.Equal(t, want, got.Standing)
		assert.Equal(t, needs, got.NeedsYou)
		assert.Contains(t, got.Says, text)
		assert.Contains(t, got.Todo, todo)
	}
	says(compare.Blind, true, "no such branch", "kept as they were declared last")
	s.AsOf.Known = true
	says(compare.Blind, false, "Waits for a first ward file", "")
	s.Waits = ""
	says(compare.Blind, false, "Looking for the first time", "")
	s.Known = true
	says(compare.Behind, true, "a:2: x, and 1 more", "vigila roster show top")
	s.Problems = nil
	says(compare.Behind, true, "Stopped before harm: 6 of its 8 wards", "vigila roster sync top --allow mass-removal")
	s.Guarded = ""
	says(compare.Behind, false, "w left the roster, and has to end first", "")
	s.Leaving, s.Revision = nil, &logbook.Revision{ID: "aaaaaaaaaa", Subject: "Open the quay"}
	says(compare.InStep, false, "Open the quay", "")
}

// TestWhoIsBroughtUp: what a person has decided about a ward stays so.
func TestWhoIsBroughtUp(t *testing.T) {
	ready := Candidate{ID: "fare-gate@quay", Readable: true, Pending: 3}
	with := func(f func(*Candidate)) Candidate { c := ready; f(&c); return c }
	for _, c := range []struct {
		of   Candidate
		sync bool
		why  string
	}{
		{ready, true, "never synced"},
		{with(func(c *Candidate) { c.WaitsFor = "tides" }), true, "never synced; waits for tides"},
		{with(func(c *Candidate) { c.Up, c.Auto = true, true }), true, "it syncs by itself"},
		{with(func(c *Candidate) { c.Up = true }), false, "it is up, and asks first: vigila sync fare-gate@quay"},
		{with(func(c *Candidate) { c.Guard = "n would be removed" }), false, "a guard would stop it: n would be removed"},
		{with(func(c *Candidate) { c.Pending, c.WaitsFor = 0, "tides" }), false, "as declared"},
		{with(func(c *Candidate) { c.Waits = "waits for a first commit" }), false, "waits for a first commit"},
		{with(func(c *Candidate) { c.Readable = false }), true, "once its repository can be read"},
		{with(func(c *Candidate) { c.Readable, c.Up, c.Auto = false, true, true }), true, "once its repository can be read"},
		{with(func(c *Candidate) { c.Readable, c.Up = false, true }), false, "its repository can't be read, and it asks first"},
		{with(func(c *Candidate) { c.Rejected = "it failed" }), false, "its revision is rejected: it failed"},
		{with(func(c *Candidate) { c.Hold = &logbook.Hold{By: "operator"} }), false, "held by operator: no reason given"},
		{with(func(c *Candidate) { c.Leaving, c.Hold = true, &logbook.Hold{By: "operator"} }), false, "it is being removed"},
		{with(func(c *Candidate) { c.Broken, c.Leaving = "its file can't be read", true }), false, "its file can't be read"},
	} {
		sync, why := c.of.Bring()
		assert.Equal(t, c.why, why)
		assert.Equal(t, c.sync, sync, why)
	}
}

// TestAFileOfLanesIsNoEmptyRoster: what has lanes or follows alone waits for no first ward.
func TestAFileOfLanesIsNoEmptyRoster(t *testing.T) {
	f, problems := Read(Roster{Name: "moorings", Repo: "moorings", Ref: "main"}, []File{
		{"lane.yaml", []byte("vigila: lane/v1\nname: gate\ncarries: [{versions: \"s/{stop}/v.yaml\"}]\nstops: [{name: a, wards: [g], lets_in: by itself}, {name: b, after: [a], wards: [g], lets_in: ask}]\n")},
		{"follow.yaml", []byte("vigila: follow/v1\nname: gate\nimage: a/gate\nversions: \">=1\"\ninto: {file: v.yaml}\n")},
		{"notes.yaml", []byte("a: 1\n")}}, ".vigila", nil)
	assert.Empty(t, problems)
	assert.Equal(t, []int{2, 1, 1, 0}, []int{f.Count, len(f.Lanes), len(f.Follows), len(f.Wards)})
}

func TestKitsOfARoster(t *testing.T) {
	files := []File{
		{"wards/kits/logs/kit.yaml", []byte("vigila: kit/v1\nname: logs\nswitch: {from: {path: components/logs}, into: {namespace: logs}}\nparameters: {properties: {days: {type: integer, default: 7}}}\n")},
		{"wards/kits/web/kit.yaml", []byte("vigila: kit/v1\nname: web\nmakes: {path: services}\n")},
		{"wards/kits/web/files/ward.yaml", []byte("vigila: ward/v1\nname: ${{ params.name }}\n")},
		{"wards/components/quay.yaml", []byte("vigila: components/v1\nname: quay\ncomponents:\n  logs: {use: true}\n")},
	}
	in, problems := Read(Roster{Name: "moorings", Repo: "moorings", Ref: "main", Path: "wards"}, files, ".vigila", nil)
	require.Empty(t, problems)
	require.Len(t, in.Wards, 1, "what a kit makes files of declares nothing")
	w := in.Wards[0]
	assert.Equal(t, []any{"logs-quay", "quay", "logs", "moorings", map[string]any{"days": int64(7)}, "wards/components/quay.yaml", 4}, []any{w.Name, w.Into.Cluster, w.Into.Namespace, w.From.Repo, w.From.Values, w.File, w.Line})
	assert.Len(t, in.Kits, 2)
	assert.Len(t, in.Places, 1)

	fits := func(may string, labels map[string]string) []Problem {
		files[0].Data = []byte("vigila: kit/v1\nname: logs\nswitch: {from: {path: components/logs}, into: {namespace: logs}}\nparameters: {properties: {days: {type: integer, default: 7}}}\n" + may)
		in, _ := Read(Roster{Name: "moorings", Repo: "moorings", Ref: "main", Path: "wards"}, files, ".vigila", nil)
		problems := in.Fit(map[string]map[string]string{"quay": labels})
		assert.Equal(t, len(problems) == 0, len(in.Wards) == 1)
		return problems
	}
	assert.Empty(t, fits("", nil))
	assert.Empty(t, fits("may: {clusters: {tier: rehearsal}}\n", map[string]string{"tier": "rehearsal"}))
	wrong := fits("may: {clusters: {tier: rehearsal}}\n", map[string]string{"tier": "production"})
	require.Len(t, wrong, 1)
	assert.Equal(t, "wards/components/quay.yaml:4: kit logs is for clusters with tier: rehearsal, and quay has not those labels", wrong[0].At())

	kept := []Kept{{Name: "logs-quay", Roster: "moorings", Source: "wards/components/quay.yaml"}}
	files[3].Data = []byte("vigila: components/v1\nname: quay\ncomponents:\n  logs: {use: true, with: {days: many}}\n")
	in, problems = Read(Roster{Name: "moorings", Repo: "moorings", Ref: "main", Path: "wards"}, files, ".vigila", kept)
	require.Len(t, problems, 1)
	assert.Equal(t, "wards/components/quay.yaml:4: components.logs.with.days: got string, want integer, says kit logs", problems[0].At())
	assert.Empty(t, in.Left(Roster{Name: "moorings"}, kept, nil).Wards, "what has a mistake stays as it was")
	files[0].Data = []byte("vigila: kit/v1\nname: logs\n")
	in, problems = Read(Roster{Name: "moorings", Repo: "moorings", Ref: "main", Path: "wards"}, files, ".vigila", kept)
	assert.Len(t, problems, 2, "of the kit, and of what uses it")
	assert.Empty(t, in.Left(Roster{Name: "moorings"}, kept, nil).Wards, "a kit that can't be read ends nothing")
	files[3].Data = []byte("vigila: components/v1\nname: quay\ncomponents:\n  logs: {use: false}\n")
	files[0].Data = []byte("vigila: kit/v1\nname: logs\nswitch: {from: {path: components/logs}, into: {namespace: logs}}\n")
	in, problems = Read(Roster{Name: "moorings", Repo: "moorings", Ref: "main", Path: "wards"}, files, ".vigila", kept)
	assert.Empty(t, problems)
	assert.Equal(t, []string{"logs-quay"}, in.Left(Roster{Name: "moorings"}, kept, nil).Wards, "what is off leaves")
}
