package run

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/ward"
)

var (
	start = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	a     = object.Ref{Kind: "A", Name: "a"}
	b     = object.Ref{Kind: "B", Name: "b"}
	c     = object.Ref{Kind: "C", Name: "c"}
	d     = object.Ref{Kind: "D", Name: "d"}
	ready = health.Result{Word: health.Ready}
	soon  = health.Result{Word: health.Settling, Reason: "0 of 1 ready"}
	loop  = health.Result{Word: health.Failing, Reason: "crash-loops, exit 2"}
)

func steps(s ...plan.Step) plan.Plan { return plan.Plan{Steps: s} }

func step(n int, groups ...plan.Group) plan.Step { return plan.Step{Number: n, Groups: groups} }

func group(refs ...object.Ref) plan.Group { return plan.Group{Refs: refs} }

func at(seconds int) time.Time { return start.Add(time.Duration(seconds) * time.Second) }

// begin starts a machine and checks its first actions.
func begin(t *testing.T, m *Machine, want ...Action) {
	t.Helper()
	assert.Equal(t, want, m.Step(Started{start}))
}

func end(t *testing.T, actions []Action) End {
	t.Helper()
	require.Len(t, actions, 1)
	e, ok := actions[0].(End)
	require.True(t, ok, "%#v", actions[0])
	return e
}

func TestStepsWaitForEachOther(t *testing.T) {
	m := New(steps(step(0, group(a), group(b)), step(1, group(c))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	assert.Equal(t, []Action{Apply{Ref: b}}, m.Step(Applied{At: at(1), Ref: a, Health: soon}), "the next group of a step does not wait")
	assert.Empty(t, m.Step(Applied{At: at(2), Ref: b, Health: ready}), "the next step does")
	assert.Equal(t, []Action{Apply{Ref: c}}, m.Step(Seen{At: at(3), Ref: a, Health: ready}))
	assert.Equal(t, End{Outcome: Done}, end(t, m.Step(Applied{At: at(4), Ref: c, Health: ready})))
	assert.Empty(t, m.Step(Tick{at(500)}), "after the end nothing comes")
}

func TestANamespaceIsAwaitedWithinItsStep(t *testing.T) {
	m := New(steps(step(0, plan.Group{Refs: []object.Ref{a}, Await: true}, group(b))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	assert.Empty(t, m.Step(Applied{At: at(1), Ref: a, Health: soon}))
	assert.Equal(t, []Action{Apply{Ref: b}}, m.Step(Seen{At: at(2), Ref: a, Health: ready}))
}

func TestReadyCanBeLostBeforeTheStepEnds(t *testing.T) {
	m := New(steps(step(0, group(a, b))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a}, Apply{Ref: b})
	m.Step(Applied{At: at(1), Ref: a, Health: ready})
	m.Step(Seen{At: at(2), Ref: a, Health: soon})
	assert.Empty(t, m.Step(Applied{At: at(3), Ref: b, Health: ready}))
	assert.Equal(t, Done, end(t, m.Step(Seen{At: at(4), Ref: a, Health: ready})).Outcome)
}

func TestNotReadyInTimeGoesBack(t *testing.T) {
	for otherwise, back := range map[ward.Otherwise]bool{ward.GoBack: true, ward.Stay: false} {
		m := New(steps(step(0, group(a, b))), 20*time.Second, otherwise)
		begin(t, m, Apply{Ref: a}, Apply{Ref: b})
		m.Step(Applied{At: at(1), Ref: a, Health: soon})
		m.Step(Applied{At: at(1), Ref: b, Health: soon})
		m.Step(Seen{At: at(2), Ref: b, Health: loop})
		assert.Empty(t, m.Step(Tick{at(19)}))
		e := end(t, m.Step(Tick{at(20)}))
		assert.Equal(t, Failed, e.Outcome)
		assert.Equal(t, back, e.GoBack)
		assert.Equal(t, "B/b: crash-loops, exit 2 (and 1 more); not ready within 20 s", e.Reason, "what is failing comes before what is slow")
		assert.Equal(t, NotReady, m.Progress()[1].State)
	}
}

func TestAnAnswerOnItsWayIsWaitedForAtTheDeadline(t *testing.T) {
	m := New(steps(step(0, group(a))), 20*time.Second, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	assert.Empty(t, m.Step(Tick{at(21)}))
	assert.Equal(t, Failed, end(t, m.Step(Applied{At: at(22), Ref: a, Health: soon})).Outcome)
}

func TestWhatWaitingCantMendEndsAtOnce(t *testing.T) {
	m := New(steps(step(0, group(a))), time.Hour, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	e := end(t, m.Step(Applied{At: at(1), Ref: a, Health: health.Result{Word: health.Failing, Reason: "back-off limit", Final: true}}))
	assert.Equal(t, Failed, e.Outcome)
	assert.Contains(t, e.Reason, "back-off limit")
}

func TestARefusedObjectStopsTheRunAfterItsStep(t *testing.T) {
	m := New(steps(step(0, group(a), group(b)), step(1, group(c))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	assert.Equal(t, []Action{Apply{Ref: b}}, m.Step(Applied{At: at(1), Ref: a, Err: "spec.x: invalid"}), "the others of the step are still tried")
	e := end(t, m.Step(Applied{At: at(2), Ref: b, Health: soon}))
	assert.Equal(t, "A/a refused: spec.x: invalid", e.Reason)
	states := map[object.Ref]State{}
	for _, p := range m.Progress() {
		states[p.Ref] = p.State
	}
	assert.Equal(t, map[object.Ref]State{a: Refused, b: NotReady, c: Untried}, states)
}

func TestARefusedNamespaceStopsWhatLivesInIt(t *testing.T) {
	m := New(steps(step(0, plan.Group{Refs: []object.Ref{a}, Await: true}, group(b))), time.Minute, ward.Stay)
	begin(t, m, Apply{Ref: a})
	assert.Equal(t, Failed, end(t, m.Step(Applied{At: at(1), Ref: a, Err: "forbidden"})).Outcome)
}

func TestRemovalsComeLastAndGroupByGroup(t *testing.T) {
	p := steps(step(0, group(a)))
	p.Removals = []plan.Group{group(c), group(d)}
	m := New(p, time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	assert.Empty(t, m.Step(Applied{At: at(1), Ref: a, Health: soon}), "nothing is removed before everything is ready")
	assert.Equal(t, []Action{Remove{c}}, m.Step(Seen{At: at(2), Ref: a, Health: ready}))
	assert.Equal(t, []Action{Remove{d}}, m.Step(Removed{At: at(3), Ref: c}))
	assert.Equal(t, Done, end(t, m.Step(Removed{At: at(4), Ref: d})).Outcome)
}

func TestWhatIsDeclaredAgainIsLeft(t *testing.T) {
	m := New(plan.Plan{Removals: []plan.Group{group(c), group(d)}}, time.Minute, ward.Stay)
	begin(t, m, Remove{c})
	assert.Empty(t, m.Step(Trying{At: at(1), Ref: c, Reason: "waits until the newest commit is read"}))
	assert.Equal(t, []Action{Remove{d}}, m.Step(Removed{At: at(1), Ref: c, Wanted: true, Note: "declared again by 9d55792"}))
	assert.Equal(t, Done, end(t, m.Step(Removed{At: at(4), Ref: d})).Outcome)
	left := m.Progress()[0]
	assert.Equal(t, Untried, left.State)
	assert.Equal(t, "declared again by 9d55792", left.Reason)
}

func TestARemovalThatFailsFailsTheRun(t *testing.T) {
	m := New(plan.Plan{Removals: []plan.Group{group(c), group(d)}}, time.Minute, ward.Stay)
	begin(t, m, Remove{c})
	e := end(t, m.Step(Removed{At: at(1), Ref: c, Err: "it waits for a finalizer"}))
	assert.Equal(t, Failed, e.Outcome)
	assert.Contains(t, e.Reason, "finalizer")
}

func TestStopWaitsForWhatIsOnItsWay(t *testing.T) {
	m := New(steps(step(0, group(a)), step(1, group(b))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	assert.Empty(t, m.Step(Stop{At: at(1), Reason: "stopped by operator"}))
	e := end(t, m.Step(Applied{At: at(2), Ref: a, Health: ready}))
	assert.Equal(t, End{Outcome: Stopped, Reason: "stopped by operator"}, e, "a person who stops does not ask for a rollback")
}

func TestAnEmptyPlanIsDone(t *testing.T) {
	assert.Equal(t, Done, end(t, New(plan.Plan{}, time.Minute, ward.GoBack).Step(Started{start})).Outcome)
}

func TestNext(t *testing.T) {
	auto := Situation{Now: start, AutoSync: true, RestoreDrift: true}
	with := func(f func(*Situation)) Situation {
		s := auto
		f(&s)
		return s
	}
	for name, c := range map[string]struct {
		s    Situation
		kind Kind
		why  string
	}{
		"nothing to do":                     {auto, "", ""},
		"a new revision":                    {with(func(s *Situation) { s.Pending = 1 }), Sync, ""},
		"drift":                             {with(func(s *Situation) { s.Restorable = 1 }), Restore, ""},
		"both":                              {with(func(s *Situation) { s.Pending, s.Restorable = 1, 1 }), Sync, ""},
		"held":                              {with(func(s *Situation) { s.Pending, s.Restorable, s.Held = 1, 1, true }), "", "held"},
		"asks":                              {with(func(s *Situation) { s.Pending, s.AutoSync = 1, false }), "", "asks first"},
		"reports":                           {with(func(s *Situation) { s.Restorable, s.RestoreDrift = 1, false }), "", "asks first"},
		"cluster blind":                     {with(func(s *Situation) { s.Pending, s.Blind = 1, true }), "", "cluster can't be read"},
		"repository blind":                  {with(func(s *Situation) { s.Pending, s.RepoBlind = 1, true }), "", "repository can't be read"},
		"repository not known, drift waits": {with(func(s *Situation) { s.Pending, s.Restorable, s.RepoBlind = 1, 1, true }), "", "repository can't be read"},
		"being removed":                     {with(func(s *Situation) { s.Pending, s.Restorable, s.Leaving = 1, 1, true }), "", "being removed"},
		"rejected":                          {with(func(s *Situation) { s.Pending, s.Rejected = 1, "bad" }), "", "rejected"},
		"rejected, drift":                   {with(func(s *Situation) { s.Pending, s.Restorable, s.Rejected = 1, 1, "bad" }), Restore, ""},
		"waits":                             {with(func(s *Situation) { s.Pending, s.WaitsFor = 1, "platform-base" }), "", "waits for platform-base"},
		"guarded":                           {with(func(s *Situation) { s.Pending, s.Guarded = 1, true }), "", "guard"},
		"failed just now":                   {with(func(s *Situation) { s.Pending, s.FailuresInRow, s.LastFailed = 1, 1, start }), "", "waits after a failure"},
		"failed long ago":                   {with(func(s *Situation) { s.Pending, s.FailuresInRow, s.LastFailed = 1, 1, start.Add(-time.Hour) }), Sync, ""},
	} {
		t.Run(name, func(t *testing.T) {
			kind, why, again := Next(c.s)
			assert.Equal(t, c.kind, kind)
			assert.True(t, strings.Contains(why, c.why), why)
			assert.Equal(t, strings.Contains(why, "failure"), !again.IsZero())
		})
	}
}

func TestBackoffIsBounded(t *testing.T) {
	assert.Equal(t, time.Duration(0), Backoff(0))
	assert.Equal(t, 5*time.Second, Backoff(1))
	assert.Equal(t, 10*time.Second, Backoff(2))
	assert.Equal(t, 5*time.Minute, Backoff(1000))
}

var (
	before = plan.Group{Refs: []object.Ref{a}, Task: object.Before, Await: true}
	dead   = health.Result{Word: health.Failing, Reason: "exit 1", Final: true}
)

func TestATaskEndsBeforeWhatItPrepares(t *testing.T) {
	m := New(steps(step(0, before, group(b))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a, Task: object.Before})
	assert.Empty(t, m.Step(Applied{At: at(1), Ref: a, Health: soon}))
	assert.Equal(t, []Action{Apply{Ref: b}}, m.Step(Seen{At: at(2), Ref: a, Health: ready}))
	assert.Empty(t, m.Step(Seen{At: at(3), Ref: a, Health: health.Result{Word: health.Absent}}), "its object may go once it has ended well")
	assert.Equal(t, End{Outcome: Done}, end(t, m.Step(Applied{At: at(4), Ref: b, Health: ready})))
	assert.Equal(t, Ready, m.Progress()[0].State)
	assert.Equal(t, at(2), m.Progress()[0].Ended)
	assert.Equal(t, at(4), m.Progress()[1].Ended)
	m = New(steps(step(0, group(a), group(b))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	m.Step(Applied{At: at(1), Ref: a, Health: ready})
	m.Step(Seen{At: at(5), Ref: a, Health: ready})
	assert.Equal(t, at(1), m.Progress()[0].Ended, "seen ready again, it has been so since")
}

func TestAFailedTaskStopsTheRun(t *testing.T) {
	m := New(steps(step(0, before, group(b))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a, Task: object.Before})
	m.Step(Applied{At: at(1), Ref: a, Health: soon})
	assert.Equal(t, End{Outcome: Failed, Reason: "A/a: exit 1", GoBack: true}, end(t, m.Step(Seen{At: at(2), Ref: a, Health: dead})))
	assert.Equal(t, Untried, m.Progress()[1].State)
}

func TestTasksForAFailure(t *testing.T) {
	p := steps(step(0, group(a)))
	p.OnFail = []plan.Step{step(0, plan.Group{Refs: []object.Ref{c}, Task: object.OnFail, Await: true}), step(1, plan.Group{Refs: []object.Ref{d}, Task: object.OnFail, Await: true})}
	fail := func() *Machine {
		m := New(p, time.Minute, ward.GoBack)
		begin(t, m, Apply{Ref: a})
		assert.Len(t, m.Progress(), 1, "they are no part of a run that goes well")
		assert.Equal(t, []Action{Apply{Ref: c, Task: object.OnFail}}, m.Step(Applied{At: at(1), Ref: a, Err: "no"}))
		assert.True(t, m.Failing())
		assert.Empty(t, m.Step(Seen{At: at(1), Ref: a, Health: loop}), "what failed is known")
		return m
	}
	m := fail()
	assert.Equal(t, []Action{Apply{Ref: d, Task: object.OnFail}}, m.Step(Applied{At: at(2), Ref: c, Health: ready}))
	assert.Equal(t, End{Outcome: Failed, Reason: "A/a refused: no", GoBack: true}, end(t, m.Step(Applied{At: at(3), Ref: d, Health: ready})), "only then does it go back")

	m = fail()
	m.Step(Applied{At: at(2), Ref: c, Health: soon})
	assert.Equal(t, "A/a refused: no; then C/c: exit 1", end(t, m.Step(Seen{At: at(3), Ref: c, Health: dead})).Reason, "one that fails too is told")

	m = fail()
	m.Step(Applied{At: at(2), Ref: c, Health: soon})
	assert.Equal(t, "A/a refused: no; then C/c: 0 of 1 ready; not ready within 1 min", end(t, m.Step(Tick{at(61)})).Reason, "they have the same time again")

	m = fail()
	m.Step(Applied{At: at(2), Ref: c, Health: soon})
	assert.Equal(t, End{Outcome: Failed, Reason: "A/a refused: no", GoBack: true}, end(t, m.Step(Stop{At: at(3), Reason: "stopped by operator"})), "a person may stop them; the run failed all the same")

	m = New(p, time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	assert.Equal(t, Done, end(t, m.Step(Applied{At: at(1), Ref: a, Health: ready})).Outcome)
}

func TestWhatIsTriedAgainSaysWhy(t *testing.T) {
	m := New(steps(step(0, group(a))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	assert.Empty(t, m.Step(Trying{At: at(1), Ref: a, Reason: "too many requests"}))
	assert.Equal(t, Progress{Ref: a, State: Applying, Reason: "too many requests", Began: at(0)}, m.Progress()[0])
	assert.Equal(t, Done, end(t, m.Step(Applied{At: at(2), Ref: a, Health: ready, Replaced: true})).Outcome)
	assert.True(t, m.Progress()[0].Replaced)
	assert.Empty(t, m.Progress()[0].Reason)
}

func TestWhenARestoreHasItsTurn(t *testing.T) {
	s := Situation{Now: at(0), RestoreDrift: true, Restorable: 1}
	kind, _, _ := Next(s)
	assert.Equal(t, Restore, kind)
	s.RestoreAt = at(4)
	kind, why, again := Next(s)
	assert.Empty(t, kind)
	assert.Contains(t, why, "a moment ago")
	assert.Equal(t, at(4), again)

	s = Situation{Now: at(0), AgainAt: at(60)}
	kind, _, again = Next(s)
	assert.Empty(t, kind)
	assert.Equal(t, at(60), again)
	s.Now = at(60)
	kind, _, _ = Next(s)
	assert.Equal(t, Again, kind, "everything is applied again when it is due")
	s.Held = true
	kind, _, _ = Next(s)
	assert.Empty(t, kind)
}

func TestWhatWasReadyInItsTurnMustBeSoAtTheEnd(t *testing.T) {
	m := New(steps(step(0, group(a)), step(1, group(b))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a})
	m.Step(Applied{At: at(1), Ref: a, Health: ready})
	m.Step(Seen{At: at(2), Ref: a, Health: loop})
	assert.Empty(t, m.Step(Applied{At: at(3), Ref: b, Health: ready}), "a crashes again")
	assert.Equal(t, Failed, end(t, m.Step(Tick{at(60)})).Outcome)
}

func TestAStopReachesWhatWaitsForItsTurn(t *testing.T) {
	m := New(steps(step(0, group(a, b))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a}, Apply{Ref: b})
	assert.Empty(t, m.Step(Stop{At: at(1), Reason: "stopped by operator"}))
	assert.Empty(t, m.Step(Applied{At: at(1), Ref: b, Untried: true}), "a is on its way")
	assert.Equal(t, Stopped, end(t, m.Step(Applied{At: at(2), Ref: a, Health: ready})).Outcome)
	assert.Equal(t, []State{Ready, Untried}, []State{m.Progress()[0].State, m.Progress()[1].State})

	m = New(plan.Plan{Removals: []plan.Group{{Refs: []object.Ref{a, b}}}}, time.Minute, ward.GoBack)
	begin(t, m, Remove{a}, Remove{b})
	m.Step(Stop{At: at(1), Reason: "stopped by operator"})
	m.Step(Removed{At: at(1), Ref: b, Untried: true})
	assert.Equal(t, Stopped, end(t, m.Step(Removed{At: at(2), Ref: a})).Outcome)
	assert.Equal(t, []State{Gone, Untried}, []State{m.Progress()[0].State, m.Progress()[1].State})
}

// TestStoppingNeverHangs: two applies on their way, one refused, and a later group of the step.
func TestStoppingNeverHangs(t *testing.T) {
	m := New(steps(step(0, group(a, b), group(c))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a}, Apply{Ref: b})
	assert.Empty(t, m.Step(Stop{At: at(1), Reason: "stopped by operator"}))
	assert.Empty(t, m.Step(Applied{At: at(2), Ref: a, Err: "no"}), "the rest of the step does not begin")
	assert.Equal(t, End{Outcome: Stopped, Reason: "stopped by operator"}, end(t, m.Step(Applied{At: at(3), Ref: b, Health: ready})))
	assert.Equal(t, Untried, m.Progress()[2].State)
}

// TestBlameWhereItBelongs: only what is the revision's own fault goes back.
func TestBlameWhereItBelongs(t *testing.T) {
	for name, c := range map[string]struct {
		outside [2]bool
		want    End
	}{
		"no rights":              {[2]bool{true, true}, End{Outcome: Failed, Blameless: true}},
		"no rights, and a wrong": {[2]bool{true, false}, End{Outcome: Failed, GoBack: true}},
		"both are wrong":         {[2]bool{false, false}, End{Outcome: Failed, GoBack: true}},
	} {
		t.Run(name, func(t *testing.T) {
			m := New(steps(step(0, group(a, b))), time.Minute, ward.GoBack)
			begin(t, m, Apply{Ref: a}, Apply{Ref: b})
			assert.Empty(t, m.Step(Applied{At: at(1), Ref: a, Err: "no", Outside: c.outside[0]}))
			got := end(t, m.Step(Applied{At: at(2), Ref: b, Err: "no", Outside: c.outside[1]}))
			got.Reason = ""
			assert.Equal(t, c.want, got)
		})
	}
	m := New(steps(step(0, group(a, b))), time.Minute, ward.GoBack)
	begin(t, m, Apply{Ref: a}, Apply{Ref: b})
	m.Step(Applied{At: at(1), Ref: a, Health: health.Result{Word: health.Failing, Reason: "dead", Final: true}})
	assert.True(t, end(t, m.Step(Applied{At: at(2), Ref: b, Err: "no", Outside: true})).GoBack, "what crashed is its own")
}
