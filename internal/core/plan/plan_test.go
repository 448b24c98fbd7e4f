package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
)

func ref(group, kind, name string) object.Ref {
	return object.Ref{Group: group, Kind: kind, Name: name}
}

var (
	namespace  = ref("", "Namespace", "n")
	definition = ref("apiextensions.k8s.io", "CustomResourceDefinition", "berths.x")
	account    = ref("", "ServiceAccount", "a")
	config     = ref("", "ConfigMap", "c")
	service    = ref("", "Service", "s")
	workload   = ref("apps", "Deployment", "d")
	custom     = ref("x", "Berth", "b")
)

func declared(refs ...object.Ref) (out []Declared) {
	for _, r := range refs {
		out = append(out, Declared{Ref: r, Hash: "1"})
	}
	return out
}

func kept(refs ...object.Ref) map[object.Ref]compare.Baseline {
	out := map[object.Ref]compare.Baseline{}
	for _, r := range refs {
		out[r] = compare.Baseline{Ref: r, Declared: "1"}
	}
	return out
}

func names(gs []Guard) (out []string) {
	for _, g := range gs {
		out = append(out, g.Name)
	}
	return out
}

func TestOrderByKindWithinAStep(t *testing.T) {
	p := Make(Input{Declared: declared(custom, workload, service, config, account, definition, namespace)})
	assert.Equal(t, []object.Ref{namespace, definition, account, config, service, workload, custom}, p.Refs())
	assert.Len(t, p.Steps, 1)
	assert.True(t, p.Steps[0].Groups[0].Await, "a namespace must be there before what lives in it")
	assert.True(t, p.Steps[0].Groups[1].Await, "a definition too")
	assert.False(t, p.Steps[0].Groups[2].Await)
}

func TestStepsComeFirst(t *testing.T) {
	d := declared(workload, config, service)
	d[0].Step, d[2].Step = -1, 2
	p := Make(Input{Declared: d})
	assert.Equal(t, []object.Ref{workload, config, service}, p.Refs())
	assert.Equal(t, []int{-1, 0, 2}, []int{p.Steps[0].Number, p.Steps[1].Number, p.Steps[2].Number})
}

func TestOnlyWhatDiffersIsDone(t *testing.T) {
	in := Input{Declared: declared(config, service), Baselines: kept(config, service), Prune: true}
	assert.True(t, Make(in).Empty())
	in.Drifted = []object.Ref{service, workload}
	assert.Equal(t, []object.Ref{service}, Make(in).Refs(), "what is not declared any more is not put back")
	in.Declared[0].Hash = "2"
	assert.Equal(t, []object.Ref{config, service}, Make(in).Refs())
	in.OnlyDrift = true
	assert.Equal(t, []object.Ref{service}, Make(in).Refs(), "a restore carries nothing new")
}

func TestPruning(t *testing.T) {
	in := Input{Declared: declared(config), Baselines: kept(config, service, workload, account), Prune: true}
	p := Make(in)
	assert.Equal(t, []object.Ref{workload, service, account}, p.Removed(), "in the reverse order of applying")
	assert.Len(t, p.Removals, 3, "each kind waits for the one before")
	in.NoPrune = map[object.Ref]bool{service: true}
	p = Make(in)
	assert.Equal(t, []object.Ref{workload, account}, p.Removed())
	assert.Equal(t, []object.Ref{service}, p.Kept)
	in.Prune = false
	assert.True(t, Make(in).Empty())
}

func TestGuards(t *testing.T) {
	six := []object.Ref{config, service, workload, account, custom, ref("", "ConfigMap", "e")}
	for name, c := range map[string]struct {
		in   Input
		want []string
	}{
		"empty render":           {Input{Baselines: kept(config, service), Prune: true}, []string{"empty-render"}},
		"empty, nothing to lose": {Input{Prune: true}, nil},
		"empty, pruning off":     {Input{Baselines: kept(config)}, nil},
		"more than half":         {Input{Declared: declared(config, service), Baselines: kept(six...), Prune: true}, []string{"mass-removal"}},
		"just half":              {Input{Declared: declared(config, service, workload), Baselines: kept(six...), Prune: true}, nil},
		"small ward":             {Input{Declared: declared(config), Baselines: kept(config, service, account), Prune: true}, nil},
		"precious":               {Input{Declared: declared(config), Baselines: kept(config, namespace), Prune: true}, []string{"Namespace/n"}},
		"allowed":                {Input{Declared: declared(config), Baselines: kept(config, namespace), Prune: true, Allow: []string{"Namespace/n"}}, nil},
		"another allowed":        {Input{Baselines: kept(config, namespace), Prune: true, Allow: []string{"empty-render"}}, []string{"Namespace/n"}},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, names(Make(c.in).Guards)) })
	}
}

func task(name string, when object.Task, step ...int) Declared {
	d := Declared{Ref: ref("batch", "Job", name), Hash: "1", Turn: object.Turn{Task: when}}
	if len(step) > 0 {
		d.Step, d.Stepped = step[0], true
	}
	return d
}

// outline writes a plan as 0[Kind/name Kind/name*] 1[…]; * awaits.
func outline(steps []Step) string {
	var all []string
	for _, s := range steps {
		var groups []string
		for _, g := range s.Groups {
			var refs []string
			for _, r := range g.Refs {
				refs = append(refs, r.Name)
			}
			text := strings.Join(refs, "+")
			if g.Await {
				text += "*"
			}
			groups = append(groups, text)
		}
		all = append(all, fmt.Sprintf("%d[%s]", s.Number, strings.Join(groups, " ")))
	}
	return strings.Join(all, " ")
}

func TestWhatOthersLiveInComesFirst(t *testing.T) {
	d := declared(namespace, workload, definition)
	d[1].Step = -3
	assert.Equal(t, "-3[n* berths.x* d]", outline(Make(Input{Declared: d}).Steps))
	d[2].Stepped, d[2].Step = true, 2
	assert.Equal(t, "-3[n* d] 2[berths.x*]", outline(Make(Input{Declared: d}).Steps), "unless it names a step itself")
}

func refsOf(steps []Step) []object.Ref {
	return Plan{Steps: steps}.Tasks()
}

func TestWhereTasksHaveTheirTurn(t *testing.T) {
	at := func(d []Declared, step int) []Declared { d[0].Step = step; return d }
	objects := append(declared(namespace, config, workload), at(declared(service), 5)...)
	for name, c := range map[string]struct {
		tasks []Declared
		want  string
	}{
		"none": {nil, "0[n* c d] 5[s]"},
		"before all, once its namespace is there":  {[]Declared{task("up", object.Before)}, "0[n* up* c d] 5[s]"},
		"after all, once everything is ready":      {[]Declared{task("down", object.After)}, "0[n* c d] 5[s* down*]"},
		"before a step":                            {[]Declared{task("mid", object.Before, 5)}, "0[n* c d] 5[mid* s]"},
		"after a step":                             {[]Declared{task("mid", object.After, 0)}, "0[n* c d* mid*] 5[s]"},
		"in a step that has nothing else":          {[]Declared{task("mid", object.Before, 3)}, "0[n* c d] 3[mid*] 5[s]"},
		"ahead of everything":                      {[]Declared{task("mid", object.Before, -2)}, "-2[n* mid*] 0[c d] 5[s]"},
		"without a step before those of the first": {[]Declared{task("b", object.Before), task("a", object.Before, 0)}, "0[n* b* a* c d] 5[s]"},
		"without a step after those of the last":   {[]Declared{task("a", object.After), task("b", object.After, 5)}, "0[n* c d] 5[s* b* a*]"},
		"those for a failure are not among them":   {[]Declared{task("f", object.OnFail)}, "0[n* c d] 5[s]"},
	} {
		t.Run(name, func(t *testing.T) {
			p := Make(Input{Declared: append(slices.Clone(objects), c.tasks...), Tasks: WithWork})
			assert.Equal(t, c.want, outline(p.Steps))
			assert.Len(t, append(p.Tasks(), refsOf(p.OnFail)...), len(c.tasks))
			assert.Equal(t, []object.Ref{namespace, config, workload, service}, p.Refs(), "a task is no object that is kept")
		})
	}
	p := Make(Input{Declared: append(slices.Clone(objects), task("f", object.OnFail, 2), task("g", object.OnFail)), Tasks: WithWork})
	assert.Equal(t, "0[g*] 2[f*]", outline(p.OnFail))
}

func TestWhenTasksRun(t *testing.T) {
	d := append(declared(config), task("up", object.Before), task("down", object.After))
	assert.True(t, Make(Input{Declared: d, Baselines: kept(config), Tasks: WithWork}).Empty(), "nothing else to do")
	assert.Equal(t, "0[up* down*]", outline(Make(Input{Declared: d, Baselines: kept(config), Tasks: Always}).Steps))
	assert.Equal(t, "0[c]", outline(Make(Input{Declared: d}).Steps), "a restore runs none")
	removal := Make(Input{Declared: d, Baselines: kept(config, service), Prune: true, Tasks: WithWork})
	assert.Equal(t, "0[up* down*]", outline(removal.Steps), "a removal is work too")
	assert.Equal(t, []object.Ref{service}, removal.Removed())
	assert.Empty(t, Make(Input{Declared: d, Baselines: kept(config, service), Prune: true, Tasks: Always, Only: []object.Ref{service}}).Steps, "a partial run runs none")
	assert.Equal(t, "0[up*]", outline(Make(Input{Declared: d, Baselines: kept(config), Only: []object.Ref{ref("batch", "Job", "up")}}).Steps), "unless it is named")
	failing := append(declared(config), task("tidy", object.OnFail))
	named := Make(Input{Declared: failing, Baselines: kept(config), Only: []object.Ref{ref("batch", "Job", "tidy")}})
	assert.Equal(t, "0[tidy*]", outline(named.Steps), "then it waits for no failure either")
	assert.Empty(t, named.OnFail)
}

func TestAPartialRun(t *testing.T) {
	in := Input{Declared: declared(config, service, workload), Baselines: kept(custom, account), Prune: true, Only: []object.Ref{workload, account}}
	p := Make(in)
	assert.Equal(t, []object.Ref{workload}, p.Refs())
	assert.Equal(t, []object.Ref{account}, p.Removed())
	assert.Empty(t, p.Guards)
}

func TestEverythingAgain(t *testing.T) {
	p := Make(Input{Declared: declared(config, service), Baselines: kept(config, service), Again: true, Drifted: []object.Ref{config}})
	assert.Equal(t, []object.Ref{config, service}, p.Refs())
}

func TestTasksAloneDeclareNothing(t *testing.T) {
	p := Make(Input{Declared: []Declared{task("up", object.Before)}, Baselines: kept(config), Prune: true, Tasks: WithWork})
	assert.Equal(t, []string{"empty-render"}, names(p.Guards))
}

func TestWhatBecomesATaskOrIsOneNoMore(t *testing.T) {
	job := ref("batch", "Job", "up")
	p := Make(Input{Declared: append(declared(config), task("up", object.Before)), Baselines: kept(config, job), Prune: true, Tasks: Always})
	assert.Equal(t, "0[up*]", outline(p.Steps))
	assert.Empty(t, p.Removed(), "it runs; it is not removed as well")
	p = Make(Input{Declared: declared(config), Baselines: kept(config, service), Prune: true, Stale: []object.Ref{job}})
	assert.Equal(t, []object.Ref{job, service}, p.Removed(), "a task that left goes first")
	assert.Empty(t, p.Guards, "and no guard counts it")
	assert.Empty(t, Make(Input{Declared: declared(config), Baselines: kept(config), Stale: []object.Ref{job}, Only: []object.Ref{config}}).Removed())
}

// TestGoingBackComesFirst: a guard never keeps workloads from being put back; what it protects is left and told.
func TestGoingBackComesFirst(t *testing.T) {
	claim, unused := ref("", "PersistentVolumeClaim", "tides"), ref("", "PersistentVolumeClaim", "ebbs")
	baselines := kept(claim, unused, config, workload)
	changed := baselines[workload]
	changed.Declared = "2"
	baselines[workload] = changed
	in := Input{Declared: declared(workload), Baselines: baselines, Prune: true, Unbound: map[object.Ref]bool{unused: true}}
	assert.Equal(t, []string{"PersistentVolumeClaim/tides"}, names(Make(in).Guards), "a claim that was never bound holds nothing")
	in.Spare = true
	p := Make(in)
	assert.Empty(t, p.Guards)
	assert.Equal(t, []object.Ref{workload}, p.Refs())
	assert.ElementsMatch(t, []object.Ref{config, unused}, p.Removed())
	assert.Equal(t, []object.Ref{claim}, p.Kept)
	assert.Equal(t, []string{"PersistentVolumeClaim/tides"}, names(p.Spared))
	in.Allow = []string{"PersistentVolumeClaim/tides"}
	assert.Contains(t, Make(in).Removed(), claim)
	in = Input{Baselines: kept(config, workload), Prune: true, Spare: true}
	assert.Empty(t, Make(in).Guards, "back to nothing is a way back too")
}
