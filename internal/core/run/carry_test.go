package run

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/ward"
)

var (
	gate    = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "ticketing", Name: "gate"}
	twin    = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "ticketing", Name: "gate-new"}
	migrate = object.Ref{Group: "batch", Kind: "Job", Namespace: "ticketing", Name: "migrate"}
	cleared = object.Ref{Group: "batch", Kind: "Job", Namespace: "ticketing", Name: "clear"}
)

func deployment(image string) object.Object {
	return object.Object{Ref: gate, Version: "apps/v1", Body: map[string]any{"apiVersion": "apps/v1", "kind": "Deployment", "metadata": map[string]any{"name": "gate", "namespace": "ticketing"},
		"spec": map[string]any{"selector": map[string]any{"matchLabels": map[string]any{"app": "gate"}}, "template": map[string]any{"metadata": map[string]any{"labels": map[string]any{"app": "gate"}},
			"spec": map[string]any{"containers": []any{map[string]any{"name": "app", "image": image}}}}}}}
}

// canaried is a run with a canary of gate: a before it, b new in its step, c changed in its step, d after it.
func canaried(t *testing.T, s canary.State) *Machine {
	was, will := canary.Declared{gate: deployment("x:1")}, canary.Declared{gate: deployment("x:2")}
	w := ward.Ward{Canary: []ward.Canary{{Of: "Deployment/gate", Within: time.Hour, Shares: []ward.Share{{At: 20, For: time.Minute}}}}}
	targets, err := canary.Find(w, was, will, func(object.Ref) bool { return true })
	require.NoError(t, err)
	k, err := canary.New(targets, func(string) (ward.Check, bool) { return ward.Check{}, false }, time.Minute, s)
	require.NoError(t, err)
	p := steps(step(-1, group(a)), step(0, plan.Group{Refs: []object.Ref{migrate}, Task: object.Before, Await: true}, group(b, c), group(gate)), step(1, group(d)))
	p.OnFail = []plan.Step{{Groups: []plan.Group{{Refs: []object.Ref{cleared}, Task: object.OnFail, Await: true}}}}
	m := New(p, time.Minute, ward.GoBack)
	m.Carry(k, []object.Ref{gate}, func(r object.Ref) bool { return r == b }, "")
	return m
}

func TestWhatComesBeforeACanary(t *testing.T) {
	p := steps(step(-1, group(a)), step(0, plan.Group{Refs: []object.Ref{migrate}, Task: object.Before, Await: true}, group(b, c), group(gate)), step(1, group(d)))
	applied, tasks := BeforeCanary(p.Steps, []object.Ref{gate}, nil, func(r object.Ref) bool { return r == b })
	assert.Equal(t, []object.Ref{a, b}, applied, "earlier steps, and what is new of its own")
	assert.Equal(t, []object.Ref{migrate}, tasks)
}

// sharing brings it to its share.
func sharing(t *testing.T, m *Machine) {
	begin(t, m, Apply{Ref: a})
	assert.Equal(t, []Action{Apply{migrate, object.Before}}, m.Step(Applied{At: at(1), Ref: a, Health: ready}))
	assert.Equal(t, []Action{Apply{Ref: b}}, m.Step(Applied{At: at(2), Ref: migrate, Health: ready}), "what is new of its step")
	assert.Equal(t, []Action{Carry{canary.Look{}}}, m.Step(Applied{At: at(3), Ref: b, Health: ready}), "and then, before all else, the canary")
	out := m.Step(Told{at(4), canary.Looked{At: at(4), Sides: []canary.Side{{Size: 4, Newest: "x"}}}})
	require.Len(t, out, 1)
	assert.Equal(t, twin, out[0].(Carry).Effect.(canary.Apply).Object.Ref)
	assert.Empty(t, m.Step(Applied{At: at(5), Ref: twin, Health: ready}))
	assert.Equal(t, canary.Sharing, m.Canary().Phase)
}

func TestACanaryComesBeforeTheRestOfItsStep(t *testing.T) {
	m := canaried(t, canary.State{})
	sharing(t, m)
	assert.Empty(t, m.Step(Tick{at(64)}))
	assert.Empty(t, m.Step(Seen{at(64), a, soon}), "what runs meanwhile has its say afterwards")
	assert.Empty(t, m.Step(Seen{at(64), a, ready}))
	assert.Equal(t, twin, m.Step(Tick{at(66)})[0].(Carry).Effect.(canary.Apply).Object.Ref, "at full size")
	assert.Equal(t, []Action{Apply{Ref: c}}, m.Step(Applied{At: at(67), Ref: twin, Health: ready}), "and then the rest")
	assert.Equal(t, at(67).Add(time.Minute), m.Deadline(), "which has the time that a run has")
	assert.Equal(t, []Action{Apply{Ref: gate}}, m.Step(Applied{At: at(68), Ref: c, Health: ready}))
	assert.Equal(t, []Action{Apply{Ref: d}}, m.Step(Applied{At: at(69), Ref: gate, Health: ready}))
	assert.Equal(t, []Action{Carry{canary.Remove{Ref: twin}}}, m.Step(Applied{At: at(70), Ref: d, Health: ready}), "what stood beside goes once all is ready")
	assert.Equal(t, End{Outcome: Done}, end(t, m.Step(Removed{At: at(71), Ref: twin})))
	last := m.Progress()[len(m.Progress())-1]
	assert.Equal(t, twin, last.Ref)
	assert.Equal(t, Gone, last.State)
}

func TestACanaryThatGoesBackFailsItsRun(t *testing.T) {
	m := canaried(t, canary.State{})
	sharing(t, m)
	out := m.Step(Told{at(6), canary.Said{At: at(6), Word: canary.GoBack, By: "operator"}})
	assert.Equal(t, []Action{Carry{canary.Remove{Ref: twin}}}, out)
	assert.Equal(t, []Action{Apply{cleared, object.OnFail}}, m.Step(Removed{At: at(7), Ref: twin}), "tasks for a failure run")
	e := end(t, m.Step(Applied{At: at(8), Ref: cleared, Health: ready}))
	assert.Equal(t, End{Outcome: Failed, Reason: "sent back by operator", GoBack: true}, e)
	for _, p := range m.Progress() {
		if p.Ref == c || p.Ref == gate || p.Ref == d {
			assert.Equal(t, Untried, p.State, "%s", p.Ref)
		}
	}
}

func TestAStoppedCanaryGoesBackFirst(t *testing.T) {
	m := canaried(t, canary.State{})
	sharing(t, m)
	assert.Equal(t, []Action{Carry{canary.Remove{Ref: twin}}}, m.Step(Stop{at(6), "stopped by operator"}))
	assert.Empty(t, m.Step(Stop{at(6), "stopped by reader"}), "once more changes nothing")
	assert.Equal(t, End{Outcome: Stopped, Reason: "stopped by operator"}, end(t, m.Step(Removed{At: at(7), Ref: twin})))
}

func TestAResumedCanaryHasItsFirstHalfBehindIt(t *testing.T) {
	first := canaried(t, canary.State{})
	sharing(t, first)
	m := canaried(t, first.Canary().State)
	out := m.Step(Started{at(10)})
	require.NotEmpty(t, out)
	for _, x := range out {
		_, carries := x.(Carry)
		assert.True(t, carries, "%#v", x)
	}
	m.Step(Applied{At: at(11), Ref: twin, Health: ready})
	m.Step(Seen{at(11), twin, ready})
	m.Step(Told{at(11), canary.Looked{At: at(11), Sides: []canary.Side{{Size: 4, Newest: "x"}}}})
	out = m.Step(Tick{at(80)})
	require.Len(t, out, 1, "%#v", out)
	out = m.Step(Applied{At: at(81), Ref: twin, Health: ready})
	assert.Equal(t, []Action{Apply{Ref: a}}, out, "what of the first half is not there is applied with the rest, and no task runs twice")
	for _, p := range m.Progress() {
		assert.NotEqual(t, migrate, p.Ref)
	}
}
