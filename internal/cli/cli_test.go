package cli

import (
	"bytes"
	"context"
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
	f(&printer{Writer: &b})
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
		p.diff(&client.WardDiff{Ward: w, Drifted: []client.Object{{Kind: "Deployment", Name: "berth-planner", Fields: []client.Difference{
			{Path: "spec.replicas", Pointer: "/spec/replicas", Change: "changed", From: 2.0, To: 5.0, Who: "kubectl-scale", When: time.Now().Add(-36 * time.Minute)}}}}})
	})
	assert.Equal(t, `berth-planner@quay  ≠ drifted 36 min, 1 field  ● ready  1d77f3a Prefer leeward berths in a gale

The cluster moved
  Deployment berth-planner
    spec.replicas  applied 2  live 5  kubectl-scale, 36 min ago

Restore it: vigila sync berth-planner@quay
Leave it to others: leave: [{of: Deployment/berth-planner, fields: [/spec/replicas]}]
`, got)
}

func TestDiffOfAWardThatIsBehind(t *testing.T) {
	w := ward("behind")
	w.Pending = 4
	w.Revision = client.Revision{Id: "2ca06650000", Subject: "Larger type"}
	got := text(func(p *printer) {
		p.diff(&client.WardDiff{Ward: w, Guards: []client.Guard{{Name: "mass-removal", Text: "4 of 6 objects would be removed"}}, Pending: []client.PendingObject{
			{Kind: "Deployment", Name: "d", Change: "update", Fields: []client.Difference{{Path: "spec.paused", Change: "added", To: true}, {Path: "spec.x", Change: "removed", From: "a\nb"}}},
			{Kind: "Service", Name: "s", Change: "create", Fields: make([]client.Difference, 3)},
			{Kind: "Service", Name: "t", Change: "update", AlreadyThere: true},
			{Kind: "ConfigMap", Name: "c", Change: "remove"},
			{Kind: "ConfigMap", Name: "k", Change: "keep"},
			{Kind: "Job", Name: "j", Change: "update", Refused: "spec.template: field is immutable"},
		}})
	})
	for _, want := range []string{
		"The repository moved: 2ca0665 Larger type",
		"    spec.paused  nothing  →  true\n",
		"    spec.x       \"a\\nb\"   →  nothing\n",
		"Service s  create\n    3 fields\n",
		"Service t  already there, to be adopted\n    no field changes\n",
		"ConfigMap c  remove\n", "ConfigMap k  not declared any more, kept\n",
		"▲ would be refused: spec.template: field is immutable",
		"Guard mass-removal: 4 of 6 objects would be removed",
		"Sync it: vigila sync berth-planner@quay --allow mass-removal",
	} {
		assert.Contains(t, got, want)
	}
}

func TestADiffIsNeverCut(t *testing.T) {
	var b bytes.Buffer
	p := &printer{Writer: &b, width: 60}
	p.diff(&client.WardDiff{Ward: ward("behind"), Pending: []client.PendingObject{{Kind: "Deployment", Name: "d", Change: "update", Fields: []client.Difference{
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
		p.board(&client.WardList{Items: []client.Ward{w}, Total: 250, NeedsYou: 3, InStep: 200}, &listFlags{limit: 100, page: 1})
	})
	assert.Contains(t, got, "≠ drifted, 2 fields; behind, 3 objects")
	assert.Contains(t, got, strings.Repeat("x", 200)+"\n", "nothing is cut where there is no terminal")
	narrow := &bytes.Buffer{}
	(&printer{Writer: narrow, width: 100}).board(&client.WardList{Items: []client.Ward{w}, Total: 1}, &listFlags{limit: 100, page: 1})
	assert.Contains(t, narrow.String(), "x…\n")
	for _, row := range strings.Split(narrow.String(), "\n") {
		assert.LessOrEqual(t, len([]rune(row)), 100)
	}
	assert.Contains(t, got, "250 wards, 200 in step, 3 need you. Page 1 of 3: --page 2")
	assert.Contains(t, text(func(p *printer) { p.board(&client.WardList{}, &listFlags{}) }), "Register one: vigila ward add FILE")
	assert.Equal(t, "No ward matches.\n", text(func(p *printer) { p.board(&client.WardList{}, &listFlags{search: "x"}) }))
}

func TestAWardsPage(t *testing.T) {
	w := ward("behind")
	w.Pending, w.Says, w.Repo, w.Ref, w.Path, w.Owner = 1, "1 object to sync", "fleet", "main", "services", "harbour-ops"
	w.Revision = client.Revision{Id: "2ca06650000", Subject: "Larger type"}
	w.Repository = client.AsOf{Known: true, At: time.Now(), Next: time.Now().Add(31 * time.Second)}
	w.Live = client.AsOf{Problem: "it is silent", At: time.Now().Add(-time.Hour)}
	w.Hold = client.Hold{By: "operator", At: time.Now(), Reason: "gale"}
	got := text(func(p *printer) {
		p.ward(&client.WardDetail{Ward: w, Outline: []client.Object{
			{Kind: "ConfigMap", Name: "c", Step: -1, Standing: "drifted", Health: "absent", Gone: true},
			{Kind: "Deployment", Name: "d", Standing: "behind", Change: "update", Health: "failing", Reason: "crash-loops",
				Fields: []client.Difference{{Path: "spec.x", Change: "removed", From: "a", Who: "hurry", Likely: true}},
				Below:  []client.Below{{Kind: "Pod", Name: "d-1", Depth: 2, Health: "failing", Reason: "exit 2"}}},
		}})
	})
	for _, want := range []string{"from        fleet main services\n", "owner       harbour-ops\n", "keep        sync ask, drift report, additions", "next look in 3", "can't be read, last heard 60 min ago: it is silent",
		"newest      2ca0665 Larger type\n", "held        by operator, 0 s ago: gale\n", "step -1\n  ≠ ConfigMap c  ○ absent  deleted from the cluster by somebody\n",
		"step 0\n  < Deployment d  ▲ failing  to update; crash-loops\n      spec.x  applied a  live nothing  probably hurry\n        Pod d-1  ▲ failing  exit 2\n"} {
		assert.Contains(t, got, want)
	}
}

func TestColoursOnlyWhenAsked(t *testing.T) {
	var b bytes.Buffer
	p := &printer{Writer: &b, color: true}
	assert.Equal(t, "\x1b[38;5;214mx\x1b[0m", p.paint("drifted", "x"))
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
		seen++
		assert.NotEmpty(t, c.Short, c.CommandPath())
		assert.NotEmpty(t, c.Example, c.CommandPath())
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
		{[]string{"nonsense"}, ExitUsage, "unknown command"},
		{[]string{"diff"}, ExitUsage, "needs the name of a ward"},
		{[]string{"diff", "--nonsense"}, ExitUsage, "unknown flag"},
		{[]string{"ward", "add"}, ExitUsage, "needs one ward file or more"},
		{[]string{"rollback", "x"}, ExitUsage, "needs a ward and the number of an entry"},
		{[]string{"rollback", "x", "first"}, ExitUsage, "is not the number of an entry"},
		{[]string{"logbook", "a", "b", "c"}, ExitUsage, "a ward and an entry at most"},
		{[]string{"ward", "list"}, ExitFailed, "not signed in; run vigila sign-in LINK"},
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
