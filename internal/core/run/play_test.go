package run

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/ward"
)

// play is a run with a cluster that does whatever it likes.
type play struct {
	t        *testing.T
	r        *rand.Rand
	m        *Machine
	p        plan.Plan
	now      time.Time
	applying []Apply
	removing []Remove
	applied  map[object.Ref]bool
	stopped  bool
	ended    *End
	log      []string
}

// invent makes a plan with steps, groups, tasks, removals and tasks for a failure.
func invent(r *rand.Rand) plan.Plan {
	n := 0
	refs := func(kind string) []object.Ref {
		var out []object.Ref
		for range 1 + r.IntN(3) {
			n++
			out = append(out, object.Ref{Kind: kind, Name: fmt.Sprint(n)})
		}
		return out
	}
	steps := func(tasks bool) []plan.Step {
		var out []plan.Step
		for i := range r.IntN(4) {
			s := plan.Step{Number: i}
			for range 1 + r.IntN(3) {
				switch {
				case tasks:
					s.Groups = append(s.Groups, plan.Group{Refs: refs("Fail"), Task: object.OnFail, Await: true})
				case r.IntN(3) == 0:
					s.Groups = append(s.Groups, plan.Group{Refs: refs("Task"), Task: object.Before, Await: true})
				default:
					s.Groups = append(s.Groups, plan.Group{Refs: refs("Object"), Await: r.IntN(3) == 0})
				}
			}
			out = append(out, s)
		}
		return out
	}
	p := plan.Plan{Steps: steps(false)}
	for range r.IntN(3) {
		p.Removals = append(p.Removals, plan.Group{Refs: refs("Old"), Await: true})
	}
	if r.IntN(2) == 0 {
		p.OnFail = steps(true)
	}
	return p
}

func (g *play) state(ref object.Ref) State {
	for _, p := range g.m.Progress() {
		if p.Ref == ref {
			return p.State
		}
	}
	return ""
}

func (g *play) step(ev Event) {
	g.log = append(g.log, fmt.Sprintf("%#v", ev))
	// What is ready before the event's actions: the event itself may make one more ready.
	for _, act := range g.m.Step(ev) {
		require.Nil(g.t, g.ended, "nothing comes after the end\n%v", g.log)
		if _, end := act.(End); g.stopped && !end {
			require.Fail(g.t, "nothing new begins once it is stopped", "%#v\n%v", act, g.log)
		}
		switch act := act.(type) {
		case Apply:
			require.False(g.t, g.applied[act.Ref], "%v is applied once\n%v", act.Ref, g.log)
			g.applied[act.Ref] = true
			g.applying = append(g.applying, act)
			g.inTurn(act.Ref)
		case Remove:
			for _, s := range g.p.Steps {
				for _, group := range s.Groups {
					for _, ref := range group.Refs {
						require.Equal(g.t, Ready, g.state(ref), "nothing is removed before all is ready\n%v", g.log)
					}
				}
			}
			g.removing = append(g.removing, act)
		case End:
			g.ended = &act
		}
	}
}

// inTurn checks that everything an object has to wait for is ready, or has been refused within its own step.
func (g *play) inTurn(ref object.Ref) {
	all := append(slices.Clone(g.p.Steps), g.p.OnFail...)
	for _, s := range all {
		if slices.ContainsFunc(s.Groups[1:], func(x plan.Group) bool { return slices.Contains(x.Refs, ref) }) {
			all = []plan.Step{s} // in the middle of its step: earlier ones were ready when it began
		}
	}
	for _, s := range all {
		mine := -1
		for i, group := range s.Groups {
			if slices.Contains(group.Refs, ref) {
				mine = i
			}
		}
		if mine < 0 {
			if ref.Kind == "Fail" && s.Groups[0].Refs[0].Kind != "Fail" {
				continue // what failed is not waited for
			}
			for _, group := range s.Groups {
				for _, before := range group.Refs {
					require.Equal(g.t, Ready, g.state(before), "%v waits for the step of %v\n%v", ref, before, g.log)
				}
			}
			continue
		}
		for _, group := range s.Groups[:mine] {
			for _, before := range group.Refs {
				if s.Groups[mine-1].Await { // else they were ready when their own next group began
					require.Equal(g.t, Ready, g.state(before), "%v waits for %v\n%v", ref, before, g.log)
				}
			}
		}
		return
	}
}

var moods = []health.Result{{Word: health.Ready}, {Word: health.Ready}, {Word: health.Ready}, {Word: health.Settling, Reason: "soon"}, {Word: health.Failing, Reason: "crash"},
	{Word: health.Absent}, {Word: health.Failing, Reason: "dead", Final: true}}

// TestWhateverTheClusterDoes plays thousands of runs with a cluster in every mood: the order holds, nothing is done
// twice, and every run ends with each object accounted for.
func TestWhateverTheClusterDoes(t *testing.T) {
	outcomes := map[Outcome]int{}
	for seed := range uint64(4000) {
		r := rand.New(rand.NewPCG(seed, 7))
		p := invent(r)
		g := &play{t: t, r: r, p: p, m: New(p, time.Minute, ward.GoBack), now: start, applied: map[object.Ref]bool{}}
		kind := r.IntN(4) // how kind this cluster is
		mood := func() health.Result {
			if kind > 0 && r.IntN(8*kind) > 0 {
				return moods[r.IntN(4)]
			}
			return moods[r.IntN(len(moods))]
		}
		refusal := func() string {
			if r.IntN(10*(1+kind)) == 0 {
				return "no"
			}
			return ""
		}
		g.step(Started{At: g.now})
		for i := 0; g.ended == nil; i++ {
			require.Less(t, i, 5000, "seed %d does not end: %+v\n%+v", seed, g.m.Progress(), g.log[:min(len(g.log), 60)])
			g.now = g.now.Add(time.Duration(r.IntN(3)) * time.Second)
			switch n := r.IntN(10); {
			case r.IntN([]int{600, 40, 5}[seed%3]) == 0: // at every event, in some plays soon
				g.stopped = true
				g.step(Stop{At: g.now, Reason: "stopped by operator"})
			case n < 3 && len(g.applying) > 0:
				k := r.IntN(len(g.applying))
				ref := g.applying[k].Ref
				g.applying = slices.Delete(g.applying, k, k+1)
				g.step(Applied{At: g.now, Ref: ref, Err: refusal(), Health: mood()})
			case n < 5 && len(g.removing) > 0:
				k := r.IntN(len(g.removing))
				ref := g.removing[k].Ref
				g.removing = slices.Delete(g.removing, k, k+1)
				g.step(Removed{At: g.now, Ref: ref, Err: refusal()})
			case n < 8:
				if all := g.m.Progress(); len(all) > 0 {
					g.step(Seen{At: g.now, Ref: all[r.IntN(len(all))].Ref, Health: mood()})
				}
			default:
				g.step(Tick{At: g.now})
			}
		}
		outcomes[g.ended.Outcome]++
		require.Empty(t, g.applying, "no call is on its way at the end\n%v", g.log)
		require.Empty(t, g.removing)
		for _, o := range g.m.Progress() {
			require.NotContains(t, []State{Waiting, Applying, Settling, Removing}, o.State, "%v is accounted for\n%v", o.Ref, g.log)
			if g.ended.Outcome == Done {
				require.Contains(t, []State{Ready, Gone}, o.State)
			}
		}
		require.Equal(t, g.ended.Outcome == Done, g.ended.Reason == "", "what did not end done says why")
		require.Equal(t, g.ended.Outcome == Failed, g.ended.GoBack)
		require.Empty(t, g.m.Step(Tick{At: g.now.Add(time.Hour)}))
	}
	for _, o := range []Outcome{Done, Failed, Stopped} {
		require.Greater(t, outcomes[o], 20, "the plays end in every way: %v", outcomes)
	}
}
