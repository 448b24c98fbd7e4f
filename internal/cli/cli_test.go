package cli

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

func text(f func(*printer)) string {
	var b bytes.Buffer
	f(newPrinter(&b))
	return b.String()
}

func ward(standing client.Standing) client.Ward {
	return client.Ward{Id: "berth-planner@quay", Standing: standing, Health: "ready", Since: time.Now().Add(-36 * time.Minute),
		Applied: client.Revision{Id: "1d77f3a0000", Subject: "Prefer leeward berths in a gale"}}
}

func TestDiffOfADriftedWard(t *testing.T) {
	w := ward("drifted")
	w.Drifted, w.DriftedFields = 1, 1
	got := text(func(p *printer) {
		p.diff(&client.WardDiff{Ward: w, Drift: []client.Object{{Kind: "Deployment", Name: "berth-planner", Fields: []client.Difference{
			{Path: "spec.replicas", Pointer: "/spec/replicas", Change: "changed", From: 2.0, To: 5.0, Who: "kubectl-scale", When: time.Now().Add(-36 * time.Minute)}}}}})
	})
	assert.Equal(t, `berth-planner@quay  ≠ drifted 36 min, 1 field  ● ready  1d77f3a Prefer leeward berths in a gale

The cluster moved
  Deployment berth-planner
    spec.replicas  applied 2  live 5  kubectl-scale, 36 min ago

Restore it: vigila restore berth-planner@quay
Leave it to others: leave: [{of: Deployment/berth-planner, fields: [/spec/replicas]}]
`, got)
}

func TestDiffOfAWardThatIsBehind(t *testing.T) {
	w := ward("behind")
	w.Pending = 4
	w.Revision = client.Revision{Id: "2ca06650000", Subject: "Larger type"}
	got := text(func(p *printer) {
		p.diff(&client.WardDiff{Ward: w, Guards: []client.Guard{{Name: "mass-removal", Text: "4 of 6 objects would be removed"}}, Changes: []client.PendingObject{
			{Kind: "Deployment", Name: "d", Change: "update", Fields: []client.Difference{{Path: "spec.paused", Change: "added", To: true}, {Path: "spec.x", Change: "removed", From: "a\nb"}}},
			{Kind: "Service", Name: "s", Change: "create", Fields: []client.Difference{{Path: "spec.type", Change: "added", To: "ClusterIP"}, {Path: "metadata.annotations[about]", Change: "added", To: strings.Repeat("long ", 20)}}},
			{Kind: "ConfigMap", Name: "many", Change: "create", Fields: make([]client.Difference, 300)},
			{Kind: "Service", Name: "t", Change: "update", AlreadyThere: true},
			{Kind: "ConfigMap", Name: "c", Change: "remove", Fields: []client.Difference{{Path: "data.v", Change: "removed", From: "9"}}},
			{Kind: "ConfigMap", Name: "k", Change: "keep", Fields: []client.Difference{{Path: "data.v", Change: "removed", From: "9"}}},
			{Kind: "Job", Name: "j", Change: "update", Refused: "spec.template: field is immutable"},
		}})
	})
	for _, want := range []string{
		"The repository moved: 2ca0665 Larger type",
		"    spec.paused  nothing  →  true\n",
		"    spec.x\n      from\n        a\n        b\n      to nothing\n",
		"Service s  create\n    spec.type  ClusterIP\n    metadata.annotations[about]\n      " + strings.Repeat("long ", 20) + "\n",
		"ConfigMap many  create\n    300 fields; -o yaml shows them\n",
		"Service t  already there, to be adopted\n    no field changes\n",
		"ConfigMap c  remove\n    data.v  9\n", "ConfigMap k  not declared any more, kept\n  Job j",
		"▲ would be refused: spec.template: field is immutable",
		"Guard mass-removal: 4 of 6 objects would be removed",
		"Sync it: vigila sync berth-planner@quay --allow mass-removal",
	} {
		assert.Contains(t, got, want)
	}
}

func TestADiffIsNeverCut(t *testing.T) {
	var b bytes.Buffer
	p := &printer{Writer: shown{&b}, width: 60}
	p.diff(&client.WardDiff{Ward: ward("behind"), Changes: []client.PendingObject{{Kind: "Deployment", Name: "d", Change: "update", Fields: []client.Difference{
		{Path: "spec.template.spec.containers[name=app].image", Change: "changed", From: "registry.brindle.example/passage-board:0.9.4", To: "registry.brindle.example/passage-board:0.9.5"}}}}})
	assert.Contains(t, b.String(), "    spec.template.spec.containers[name=app].image\n      registry.brindle.example/passage-board:0.9.4  →  registry.brindle.example/passage-board:0.9.5\n")
	assert.NotContains(t, b.String(), "…")
}

func TestDiffOfAWardInStep(t *testing.T) {
	w := ward("in step")
	w.Revision = w.Applied
	assert.Contains(t, text(func(p *printer) { p.diff(&client.WardDiff{Ward: w}) }), "No differences: the cluster holds what 1d77f3a Prefer leeward berths in a gale declares.")
	w = ward("blind")
	w.Says = "cluster quay does not answer"
	got := text(func(p *printer) { p.diff(&client.WardDiff{Ward: w}) })
	assert.NotContains(t, got, "No differences", "what was not looked at is not called the same")
	assert.Contains(t, got, "cluster quay does not answer")
}

func TestTheBoardHasNoHiddenEnd(t *testing.T) {
	w := ward("drifted")
	w.NeedsYou, w.Says, w.DriftedFields, w.Pending = true, strings.Repeat("x", 200), 2, 3
	got := text(func(p *printer) {
		p.board(&client.WardList{Items: []client.Ward{w}, Total: 250, NeedYou: 3, InStep: 200}, &listFlags{limit: 100, page: 1})
	})
	assert.Contains(t, got, "≠ drifted, 2 fields; behind, 3 objects")
	assert.Contains(t, got, strings.Repeat("x", 200)+"\n", "nothing is cut where there is no terminal")
	narrow := &bytes.Buffer{}
	(&printer{Writer: shown{narrow}, width: 100}).board(&client.WardList{Items: []client.Ward{w}, Total: 1}, &listFlags{limit: 100, page: 1})
	assert.Contains(t, narrow.String(), "x…\n")
	for _, row := range strings.Split(narrow.String(), "\n") {
		assert.LessOrEqual(t, len([]rune(row)), 100)
	}
	assert.Contains(t, got, "250 wards, 200 in step, 3 need you. Page 1 of 3; the next: --page 2")
	assert.Contains(t, text(func(p *printer) { p.board(&client.WardList{}, &listFlags{}) }), "Register one: vigila ward add FILE")
	assert.Equal(t, "No ward matches.\n", text(func(p *printer) { p.board(&client.WardList{}, &listFlags{search: "x"}) }))
}

// TestBehindWithNothingToSync: all is applied, and a run waits until it is ready; nothing is counted that is not there.
func TestBehindWithNothingToSync(t *testing.T) {
	w := ward("behind")
	assert.Equal(t, "behind", standingWords(w))
	w.Pending = 1
	assert.Equal(t, "behind, 1 object", standingWords(w))
}

func TestAWardsPage(t *testing.T) {
	w := ward("behind")
	w.Pending, w.Says, w.Repo, w.Ref, w.Path, w.Owner = 1, "1 object to sync", "moorings", "main", "services", "harbour-ops"
	w.Revision = client.Revision{Id: "2ca06650000", Subject: "Larger type"}
	w.Repository = client.AsOf{Known: true, At: time.Now(), Next: time.Now().Add(31 * time.Second)}
	w.Live = client.AsOf{Problem: "it is silent", At: time.Now().Add(-time.Hour)}
	w.Hold = client.Hold{By: "operator", At: time.Now(), Why: "gale"}
	got := text(func(p *printer) {
		p.ward(&client.WardDetail{Ward: w, Outline: []client.Object{
			{Kind: "ConfigMap", Name: "c", Step: -1, Standing: "drifted", Health: "absent", Gone: true},
			{Kind: "Deployment", Name: "d", Standing: "behind", Change: "update", Health: "failing", Reason: "crash-loops",
				Fields: []client.Difference{{Path: "spec.x", Change: "removed", From: "a", Who: "hurry", Likely: true}},
				Below:  []client.Below{{Kind: "Pod", Name: "d-1", Depth: 2, Health: "failing", Reason: "exit 2"}}},
		}})
	})
	for _, want := range []string{"from        moorings main services\n", "owner       harbour-ops\n", "keep        sync ask, drift report, additions", "next look in 3", "can't be read, last heard 60 min ago: it is silent",
		"newest      2ca0665 Larger type\n", "held        by operator, 0 s ago: gale\n", "step -1\n  ≠ ConfigMap c  ○ absent  deleted from the cluster by somebody\n",
		"step 0\n  < Deployment d  ▲ failing  to update; crash-loops\n      spec.x  applied a  live nothing  probably hurry\n        Pod d-1  ▲ failing  exit 2\n"} {
		assert.Contains(t, got, want)
	}
}

func TestColoursOnlyWhenAsked(t *testing.T) {
	var b bytes.Buffer
	p := &printer{Writer: shown{&b}, color: true}
	p.line("%s", p.paint("drifted", "x"))
	assert.Equal(t, "\x1b[38;5;214mx\x1b[0m\n", b.String())
	b.Reset()
	p.line("%s %s", p.paint("drifted", "\x1b[2K"), "\x1b[38;5;214mforged\x1b[0m")
	assert.Equal(t, "\x1b[38;5;214m\\x1b[2K\x1b[0m \\x1b[38;5;214mforged\\x1b[0m\n", b.String(), "what others wrote colours nothing")
	b.Reset()
	assert.Equal(t, "x", p.paint("in step", "x"), "almost no colour while all is in step")
	assert.False(t, (&app{}).printer(&b).color, "not a terminal")
	p.table([][]cell{{{"≠ a", "drifted"}, plain("b")}, {plain("long"), plain("c")}})
	assert.Equal(t, "\x1b[38;5;214m≠ a\x1b[0m   b\nlong  c\n", b.String(), "colours don't count as width")
}

func TestSpansAndValues(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "0 s", 59 * time.Second: "59 s", 119 * time.Minute: "119 min", 2 * time.Hour: "2 h", 47 * time.Hour: "47 h", 50 * time.Hour: "2 d"} {
		assert.Equal(t, want, span(d))
	}
	for want, v := range map[string]any{"nothing": nil, "5": 5.0, "1000000": 1e6, "x": "x", `""`: "", `{"a":1}`: map[string]any{"a": 1.0}, "true": true} {
		assert.Equal(t, want, value(v))
	}
	assert.Equal(t, "never", ago(time.Time{}))
}

func TestEveryCommandHasHelpAndAnExample(t *testing.T) {
	var visit func(c *cobra.Command)
	seen := 0
	visit = func(c *cobra.Command) {
		if c.Name() == "completion" || c.Name() == "help" {
			return
		}
		if seen++; c.Hidden { // the name of before
			return
		}
		assert.NotEmpty(t, c.Short, c.CommandPath())
		if c.Runnable() || c.HasSubCommands() { // a topic of the help has none
			assert.NotEmpty(t, c.Example, c.CommandPath())
		}
		for _, sub := range c.Commands() {
			visit(sub)
		}
	}
	visit(Root("test"))
	assert.Greater(t, seen, 20)
}

func TestExitCodes(t *testing.T) {
	t.Setenv("VIGILA_CONTEXTS", t.TempDir()+"/none")
	t.Setenv("VIGILA_URL", "")
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"version"}, ExitDone, ""},
		{[]string{"nonsense"}, ExitUsage, "unknown command \"nonsense\" for vigila. See vigila --help"},
		{[]string{"snyc"}, ExitUsage, "unknown command \"snyc\" for vigila; did you mean vigila sync? See vigila --help"},
		{[]string{"ward", "lst"}, ExitUsage, "unknown command \"lst\" for vigila ward; did you mean vigila ward list? See vigila ward --help"},
		{[]string{"repo", "notices", "moorings"}, ExitUsage, "it is called vigila repo pushes NAME now; --new-key makes a key"},
		{[]string{"diff"}, ExitUsage, "needs the name of a ward"},
		{[]string{"diff", "--nonsense"}, ExitUsage, "unknown flag"},
		{[]string{"ward", "add"}, ExitUsage, "needs one ward file or more"},
		{[]string{"rollback", "x"}, ExitUsage, "needs a ward and the number of an entry"},
		{[]string{"rollback", "x", "first"}, ExitUsage, "is not the number of an entry"},
		{[]string{"logbook", "a", "b", "c"}, ExitUsage, "a ward and an entry at most"},
		{[]string{"ward", "list"}, ExitFailed, "not signed in; run vigila sign-in ADDRESS"},
	} {
		var errs bytes.Buffer
		root := Root("test")
		root.SetArgs(c.args)
		root.SetOut(&bytes.Buffer{})
		code := Main(context.Background(), root, &errs)
		assert.Equal(t, c.code, code, c.args)
		assert.Contains(t, errs.String(), c.want, c.args)
	}
	n, err := entryNumber("#12")
	require.NoError(t, err)
	assert.Equal(t, 12, n)
}

func TestAPlanIsShownInItsOrder(t *testing.T) {
	w := ward("behind")
	w.Pending = 4
	d := &client.RunPreview{Ward: w, Revision: client.Revision{Id: "2ca06650000", Subject: "Larger type"}, Objects: []client.PendingObject{
		{Kind: "StatefulSet", Name: "db", Step: -1, Change: "create", Fields: []client.Difference{{Path: "spec.replicas", Change: "added", To: 1.0}}},
		{Kind: "Job", Name: "migrate", Task: "before", Change: "run"},
		{Kind: "Deployment", Name: "app", Change: "update", Replaced: true, Fields: []client.Difference{{Path: "spec.selector", Change: "changed", From: "a", To: "b"}}},
		{Kind: "ConfigMap", Name: "old", Change: "remove"},
		{Kind: "ConfigMap", Name: "kept", Change: "keep"},
	}}
	got := text(func(p *printer) { p.plan(d, "vigila sync berth-planner@quay --reapply") })
	assert.Equal(t, `berth-planner@quay  < behind 36 min, 4 objects  ● ready  2ca0665 Larger type
A preview; nothing is done.

step -1
  StatefulSet db  create
    spec.replicas  1

step 0
  Job migrate  task before
  Deployment app  to be deleted and made again: it can't be changed in place
    spec.selector  a  →  b

then remove
  ConfigMap old  remove

and leave
  ConfigMap kept  not declared any more, kept

Do it: vigila sync berth-planner@quay --reapply
`, got)

	d.Guards = []client.Guard{{Name: "mass-removal", Text: "4 of 6 objects would be removed"}}
	d.Allowed = []client.Guard{{Name: "Namespace/n", Text: "n would be removed"}}
	got = text(func(p *printer) { p.plan(d, "vigila sync berth-planner@quay --reapply") })
	assert.Contains(t, got, "Allowed, guard Namespace/n: n would be removed\n▲ Guard mass-removal would stop it: 4 of 6 objects would be removed\nTo go on: vigila sync berth-planner@quay --reapply --allow mass-removal\n")
	d.Objects[2].Refused = "no"
	assert.Contains(t, text(func(p *printer) { p.plan(d, "vigila sync berth-planner@quay --reapply") }), "It would fail: 1 object refused.")
	d.Objects = nil
	assert.Contains(t, text(func(p *printer) { p.plan(d, "vigila sync berth-planner@quay --reapply") }), "Nothing to do: it is as declared.")
}

func TestAnEntryWithTasks(t *testing.T) {
	began := time.Now().Add(-time.Minute)
	e := &client.Entry{Ward: "berth-planner@quay", Number: 7, Kind: "sync", Outcome: "failed", Reason: "Deployment/app: crash-loops", By: "vigila", Started: began, Ended: began.Add(20 * time.Second), HasSnapshot: true, Objects: []client.EntryObject{
		{Key: "1", Kind: "StatefulSet", Name: "db", Step: -1, State: "ready"},
		{Key: "2", Kind: "Job", Name: "migrate", Task: "before", State: "ready", Began: began, Ended: began.Add(4 * time.Second), Log: true},
		{Key: "3", Kind: "Deployment", Name: "app", State: "not ready", Reason: "crash-loops", Replaced: true},
		{Key: "4", Kind: "Job", Name: "later", Task: "after", State: "not tried"},
		{Key: "5", Kind: "Job", Name: "report", Task: "failed", State: "not ready", Reason: "exit 1"},
	}}
	var many []client.Difference
	for i := range 14 {
		many = append(many, client.Difference{Path: fmt.Sprintf("spec.f%02d", i), From: i, To: i + 1})
	}
	moved := map[string]client.MovedObject{"1": {Change: "added"}, "3": {Change: "changed", Fields: many}}
	got := text(func(p *printer) { p.entry(e, moved) })
	assert.Contains(t, got, `
  step -1
  ● StatefulSet db  ready  new
  step 0
  ● Job migrate  task before, done  4 s
  ▲ Deployment app  not ready, deleted and made again: crash-loops
      spec.f00  0   →  1
`+"      spec.f01  1   →  2\n      spec.f02  2   →  3\n      spec.f03  3   →  4\n      spec.f04  4   →  5\n      spec.f05  5   →  6\n      spec.f06  6   →  7\n      spec.f07  7   →  8\n      spec.f08  8   →  9\n      spec.f09  9   →  10\n      spec.f10  10  →  11\n      spec.f11  11  →  12\n"+`      and 2 more
  ○ Job later  task after, not tried
  when it had failed
  ▲ Job report  task on failure, not done: exit 1

The log of its task: vigila logbook berth-planner@quay 7 --log migrate
Run it once more, as it is declared now: vigila sync berth-planner@quay --only Job/report

What has changed since: vigila compare berth-planner@quay 7
`)
	assert.NotContains(t, got, "Go back to it", "it did not end well")
}

func TestTwoEntriesCompared(t *testing.T) {
	c := &client.Comparison{From: client.Entry{Number: 3, Revision: client.Revision{Id: "aaaaaaa0", Subject: "Old"}}, To: client.Entry{Number: 5, Revision: client.Revision{Id: "bbbbbbb0", Subject: "New"}}, Objects: []client.MovedObject{
		{Kind: "ConfigMap", Name: "a", Change: "changed", Fields: []client.Difference{{Path: "data.x", Change: "changed", From: "1", To: "2"}, {Path: "data.longer", Change: "added", To: "y"}}},
		{Kind: "Service", Name: "s", Change: "added", Fields: []client.Difference{{Path: "spec.port", Change: "added", To: 80.0}}}, {Kind: "Secret", Name: "t", Change: "removed", Fields: []client.Difference{{Path: "data.key", Change: "removed", From: "secret 1a2b"}}}}}
	assert.Equal(t, `berth-planner@quay  #3 aaaaaaa Old  →  #5 bbbbbbb New

  ConfigMap a
    data.x       1        →  2
    data.longer  nothing  →  y

  Service s  new
    spec.port  80

  Secret t  gone
    data.key  secret 1a2b
`, text(func(p *printer) { p.comparison("berth-planner@quay", c) }))
	turned := back(c)
	assert.EqualValues(t, "removed", turned.Objects[1].Change)
	assert.Equal(t, client.Difference{Path: "data.longer", Change: "removed", From: "y"}, turned.Objects[0].Fields[1])
	assert.EqualValues(t, "added", c.Objects[1].Change, "the comparison itself stays as it is")
	c.To, c.Objects, c.Revision = client.Entry{}, nil, client.Revision{Id: "ccccccc0", Subject: "Newest"}
	got := text(func(p *printer) { p.comparison("berth-planner@quay", c) })
	assert.Contains(t, got, "→  the repository now ccccccc Newest")
	assert.Contains(t, got, "No differences: both declare the same.")
}

func TestWhatOthersDidIsTold(t *testing.T) {
	w := ward("drifted")
	w.Drifted, w.DriftedFields, w.AddedFields, w.KeepAdditions = 1, 1, 1, "remove"
	o := client.Object{Kind: "ConfigMap", Name: "c", Standing: "drifted", Health: "ready", Scaler: "HorizontalPodAutoscaler/h", Left: []string{"/data/x"},
		Fields:    []client.Difference{{Change: "made again", Who: "kubectl-create"}},
		Additions: []client.Difference{{Path: "metadata.labels.tier", Pointer: "/metadata/labels/tier", Change: "added", To: "dock", Who: "kubectl-label"}}}
	got := text(func(p *printer) { p.diff(&client.WardDiff{Ward: w, Drift: []client.Object{o}}) })
	assert.Contains(t, got, "≠ drifted 36 min, 1 field, +1 by others")
	assert.Contains(t, got, "The cluster moved\n  ConfigMap c\n    deleted, and made again  kubectl-create\n")
	assert.Contains(t, got, "Others added\n  ConfigMap c\n    metadata.labels.tier  dock  kubectl-label\n")
	assert.Contains(t, got, "Leave it to others: leave: [{of: ConfigMap/c, fields: [/metadata/labels/tier]}]")

	got = text(func(p *printer) {
		p.ward(&client.WardDetail{Ward: w, Outline: []client.Object{o, {Kind: "Job", Name: "j", Standing: "behind", Health: "unknown", Reason: "runs with the next sync", Task: "before", Change: "run"}}})
	})
	for _, want := range []string{"deleted, and made again  kubectl-create", "metadata.labels.tier  added dock  kubectl-label", "replicas are left to HorizontalPodAutoscaler/h", "left to others: /data/x", "< Job j  task before, runs with the next sync\n", "additions remove"} {
		assert.Contains(t, got, want)
	}

	// Only additions: nothing to restore, but they can be taken away.
	o.Fields = nil
	w.Standing, w.Drifted, w.DriftedFields = "in step", 0, 0
	got = text(func(p *printer) { p.diff(&client.WardDiff{Ward: w, Drift: []client.Object{o}}) })
	assert.NotContains(t, got, "The cluster moved")
	assert.Contains(t, got, "Take it away: vigila sync")
	w.KeepAdditions = "report"
	got = text(func(p *printer) { p.diff(&client.WardDiff{Ward: w, Drift: []client.Object{o}}) })
	assert.NotContains(t, got, "vigila sync")

	w.Standing, w.Pending, w.Rejected, w.Revision = "behind", 1, "it squeaks", client.Revision{Id: "badbadb000"}
	got = text(func(p *printer) {
		p.diff(&client.WardDiff{Ward: w, Changes: []client.PendingObject{{Kind: "Job", Name: "j", Task: "before", Change: "run"}}})
	})
	assert.Contains(t, got, "badbadb is rejected: it squeaks\nSync it: vigila sync berth-planner@quay --retry")
}

// TestALongValueSetsNoWidth: it stands whole below its field, structured ones as YAML, and the rows beside it stay narrow.
func TestALongValueSetsNoWidth(t *testing.T) {
	all := []change{
		between("spec.a", "1", false, "2", false),
		between("spec.config", nil, true, strings.Repeat("x", 900), false),
		between("spec.env", map[string]any{"first": strings.Repeat("y", 40), "second": []any{"a", strings.Repeat("z", 40)}}, false, nil, true),
		between("spec.longer", "3", false, "4", false),
		{path: "data.lines", values: []side{{label: "applied", value: "a\n\tb\n"}, {label: "live", value: "a\n", color: "drifted"}}, note: "hurry, 2 min ago"},
	}
	want := `  spec.a       1  →  2
  spec.config
    from nothing
    to
      ` + strings.Repeat("x", 900) + `
  spec.env
    from
      first: ` + strings.Repeat("y", 40) + `
      second:
      - a
      - ` + strings.Repeat("z", 40) + `
    to nothing
  spec.longer  3  →  4
  data.lines  hurry, 2 min ago
    applied
      a
      \tb
    live
      a
`
	got := text(func(p *printer) { p.changes("  ", all) })
	assert.Equal(t, want, got, "a tab is seen")
	narrow := &bytes.Buffer{}
	(&printer{Writer: shown{narrow}, width: 12}).changes("  ", all[:1])
	assert.Equal(t, "  spec.a\n    1  →  2\n", narrow.String())
}

func TestQuietWardsFoldOnATerminal(t *testing.T) {
	l := &client.WardList{Total: 61, InStep: 60, NeedYou: 1, Folded: 60, Items: []client.Ward{{Id: "fare-gate@quay", Standing: "drifted", Health: "ready", DriftedFields: 1, NeedsYou: true, Says: "hurry changed it"}},
		Groups: []client.WardGroup{{By: "cluster", Name: "quay", Total: 31, InStep: 30, Folded: 30, Watch: []client.Stretch{{From: time.Now().Add(-3 * time.Hour), Standing: "in step", Health: "ready"}}},
			{By: "owner", Name: "signals", Total: 61}, {By: "cluster", Name: "skerry", Total: 30, InStep: 30, Folded: 30}}}
	got := text(func(p *printer) { p.board(l, &listFlags{limit: 100, page: 1}) })
	assert.Contains(t, got, "30 wards in quay    = in step           ● ready  3 h  quiet; each on a line: vigila ward list --all --cluster quay")
	assert.Contains(t, got, "30 wards in skerry  = in step           ● ready")
	assert.NotContains(t, got, "signals")
	assert.Contains(t, got, "61 wards, 60 in step, 1 need you")
	assert.NotContains(t, got, "Page", "one line and two groups are one page")
	assert.Equal(t, client.ListWardsParamsFold("cluster"), (&listFlags{limit: 1, page: 1}).params(true).Fold)
	assert.Empty(t, (&listFlags{limit: 1, page: 1, all: true}).params(true).Fold)
	assert.Empty(t, (&listFlags{limit: 1, page: 1}).params(false).Fold, "what is read by a program has a line for each")
}

func TestSince(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.FixedZone("", 3600))
	for text, want := range map[string]string{"2h": "2026-11-23T09:00:00Z", "3d": "2026-11-20T11:00:00Z", "2026-11-20": "2026-11-19T23:00:00Z", "2026-11-20 03:00": "2026-11-20T02:00:00Z",
		"2026-11-20T03:00:00Z": "2026-11-20T03:00:00Z", "90m": "2026-11-23T09:30:00Z"} {
		got, err := sinceWhen(text, now)
		require.NoError(t, err, text)
		assert.Equal(t, want, got.Format(time.RFC3339), text)
	}
	none, err := sinceWhen("", now)
	require.NoError(t, err)
	assert.True(t, none.IsZero())
	for _, text := range []string{"yesterday", "-2h", "0h", "20.11.2026"} {
		_, err := sinceWhen(text, now)
		assert.ErrorContains(t, err, "is no time; write a span such as 2h or 3d, a day such as 2026-11-23", text)
	}
}
