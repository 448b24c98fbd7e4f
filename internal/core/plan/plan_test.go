package plan

import (
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
