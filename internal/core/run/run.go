// Package run plays a run as a state machine without IO: events go in, actions come out, and time is a value
// inside the events. Every failure can so be played in a table test. Start with Machine; Next decides whether a
// run should start at all.
package run

import (
	"fmt"
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/ward"
)

// Kind is what a run is for, Outcome how it ended, and State how far it is with one object. An entry of the logbook holds them.
type (
	Kind    = logbook.Kind
	Outcome = logbook.Outcome
	State   = logbook.State
)

// The kinds of run.
const (
	Sync      Kind = "sync"
	Restore   Kind = "restore"
	Rollback  Kind = "rollback"
	Dismantle Kind = "dismantle"
)

// Is tells a run from what else a logbook tells of.
func Is(k Kind) bool { return k == Sync || k == Restore || k == Rollback || k == Dismantle }

// The outcomes. Running is a run that has not ended.
const (
	Running     Outcome = "running"
	Done        Outcome = "done"
	Failed      Outcome = "failed"
	RolledBack  Outcome = "rolled back"
	Stopped     Outcome = "stopped"
	Interrupted Outcome = "interrupted"
)

// The states of an object within a run.
const (
	Waiting  State = "waiting"
	Applying State = "applying"
	Settling State = "settling"
	Ready    State = "ready"
	Removing State = "removing"
	Gone     State = "removed"
	Refused  State = "refused"
	Untried  State = "not tried"
	NotReady State = "not ready" // applied, and not ready when the run ended
)

// Progress is one object of a run.
type Progress struct {
	Ref      object.Ref
	Step     int
	Task     object.Task // NoTask for an object that is kept
	Remove   bool
	Replaced bool // it was deleted and made again, since the change could not be applied in place
	State    State
	Reason   string
	Outside  bool // it was refused for a reason that is not its own
	Health   health.Result
	Began    time.Time // when work on it began; zero while it waits
	Ended    time.Time // when it was ready, removed or refused
}

// Event is something that happened. At is when.
type Event interface{ at() time.Time }

// Started begins the run.
type Started struct{ At time.Time }

// Applied is the answer to an Apply action. Err is empty when it went through; Health is read from the answer.
type Applied struct {
	At       time.Time
	Ref      object.Ref
	Err      string
	Outside  bool // Err says nothing about the object: no rights, no answer, another ward's object
	Untried  bool // the run was stopped before its turn came
	Replaced bool
	Health   health.Result
}

// Trying tells that an Apply or Remove is tried again, and why it did not go through so far.
type Trying struct {
	At     time.Time
	Ref    object.Ref
	Reason string
}

// Removed is the answer to a Remove action, once the object is gone.
type Removed struct {
	At      time.Time
	Ref     object.Ref
	Err     string
	Outside bool   // Err says nothing about the object
	Note    string // what was done instead of removing it
	Untried bool   // the run was stopped before its turn came
	Wanted  bool   // it is declared again by now, and was left: Note says by what
}

// Seen is a newer health of an object, from the watch.
type Seen struct {
	At     time.Time
	Ref    object.Ref
	Health health.Result
}

// Tick is the passing of time.
type Tick struct{ At time.Time }

// Stop is the wish to stop: a person's, or that of a newer revision.
type Stop struct {
	At     time.Time
	Reason string // such as: stopped by operator
}

func (e Started) at() time.Time { return e.At }
func (e Applied) at() time.Time { return e.At }
func (e Removed) at() time.Time { return e.At }
func (e Seen) at() time.Time    { return e.At }
func (e Trying) at() time.Time  { return e.At }
func (e Tick) at() time.Time    { return e.At }
func (e Stop) at() time.Time    { return e.At }

// Action is something the machine wants done.
type Action interface{ action() }

// Apply asks for one object to be applied; a task is made anew first.
type Apply struct {
	Ref  object.Ref
	Task object.Task
}

// Remove asks for one object to be removed.
type Remove struct{ Ref object.Ref }

// End says that the run is over. Reason tells why it did not end done. Blameless tells that it failed for reasons outside
// of what it carried, so that the same may go well another time. GoBack asks for a rollback to the last good snapshot.
type End struct {
	Outcome   Outcome
	Reason    string
	Blameless bool
	GoBack    bool
}

func (Apply) action()  {}
func (Remove) action() {}
func (End) action()    {}

// Machine is one run. Make it with New, and give it events one at a time with Step.
type Machine struct {
	plan      plan.Plan
	within    time.Duration
	otherwise ward.Otherwise

	deadline time.Time
	steps    []plan.Step // the plan's, or its tasks for a failure once it has failed
	step     int         // index into steps; len(steps) when pruning
	group    int
	progress map[object.Ref]*Progress
	order    []object.Ref
	busy     int       // objects whose call is on its way
	rough    bool      // something was refused, or will never be ready
	waitsOn  *Progress // the last one that was found not to be ready: most often it still is not
	outside  bool      // all that made it fail is outside of what it carries
	stopped  string    // why, once somebody wants it to stop
	failed   string    // why, once it has failed and the tasks for that run
	ended    bool
	canary   *carried // nil when the run carries none
}

// New makes a machine for a plan that no guard stops. within is the time until everything must be ready.
func New(p plan.Plan, within time.Duration, otherwise ward.Otherwise) *Machine {
	m := &Machine{plan: p, within: within, otherwise: otherwise, progress: map[object.Ref]*Progress{}, steps: p.Steps, step: -1}
	m.expect(p.Steps)
	for _, ref := range p.Removed() {
		m.progress[ref] = &Progress{Ref: ref, Remove: true, State: Waiting}
		m.order = append(m.order, ref)
	}
	return m
}

func (m *Machine) expect(steps []plan.Step) {
	for _, s := range steps {
		for _, g := range s.Groups {
			for _, ref := range g.Refs {
				m.progress[ref] = &Progress{Ref: ref, Step: s.Number, Task: g.Task, State: Waiting}
				m.order = append(m.order, ref)
			}
		}
	}
}

// Deadline is when the run gives up, or while a canary goes on the work of it that is on its way; zero before Started.
func (m *Machine) Deadline() time.Time {
	if m.Carrying() {
		return m.canary.GiveUp()
	}
	return m.deadline
}

// Wake is when the run has to be told the time; zero before Started.
func (m *Machine) Wake() time.Time {
	if m.Carrying() {
		return m.canary.Wake()
	}
	return m.deadline
}

// Failing tells whether the run has failed already and its tasks for that case go on.
func (m *Machine) Failing() bool { return m.failed != "" && !m.ended }

// Progress lists the objects of the run in the order they are worked on.
func (m *Machine) Progress() []Progress {
	beside := m.beside()
	out := make([]Progress, 0, len(m.order)+len(beside))
	for _, ref := range m.order {
		p := *m.progress[ref]
		same := func(x Progress) bool { return x.Ref == ref }
		if i := slices.IndexFunc(beside, same); i >= 0 { // a canary in place goes before the run's own turn
			if p.State == Waiting || p.State == Untried {
				p = beside[i]
			}
			beside = slices.DeleteFunc(beside, same)
		}
		out = append(out, p)
	}
	return append(out, beside...)
}

// Step takes one event and answers with what is to be done now. After an End no more actions come.
func (m *Machine) Step(ev Event) []Action {
	if m.ended {
		return nil
	}
	if out, taken := m.carry(ev); taken {
		return out
	}
	switch e := ev.(type) {
	case Started:
		m.deadline = e.At.Add(m.within)
		return m.advance(e.At)
	case Applied:
		p := m.progress[e.Ref]
		if p == nil || p.State != Applying {
			return nil
		}
		p.Replaced = e.Replaced
		p.Outside = e.Outside
		if m.answered(p, e.Untried, e.Err, e.At) {
			m.settle(p, e.Health, e.At)
		}
	case Removed:
		p := m.progress[e.Ref]
		if p == nil || p.State != Removing {
			return nil
		}
		p.Outside = e.Outside
		if m.answered(p, e.Untried, e.Err, e.At) {
			p.State, p.Reason, p.Ended = Gone, e.Note, e.At
			if e.Wanted {
				p.State = Untried
			}
		}
	case Seen:
		p := m.progress[e.Ref]
		if p == nil || p.Remove || p.State != Settling && p.State != Ready || p.Task != object.NoTask && p.State == Ready {
			return nil // a task that has ended well may be removed, and says no more
		}
		m.settle(p, e.Health, e.At)
	case Trying:
		if p := m.progress[e.Ref]; p != nil && (p.State == Applying || p.State == Removing) {
			p.Reason = e.Reason
		}
	case Stop:
		m.stopped = e.Reason
	}
	return m.check(ev.at())
}

// answered notes that the call about an object is over, and tells whether it went through.
func (m *Machine) answered(p *Progress, untried bool, err string, at time.Time) bool {
	m.busy--
	switch {
	case untried:
		p.State, p.Reason, p.Began = Untried, "", time.Time{}
	case err != "":
		m.rough = true
		p.State, p.Reason, p.Ended = Refused, err, at
	default:
		return true
	}
	return false
}

func (m *Machine) settle(p *Progress, h health.Result, at time.Time) {
	p.Health, p.Reason = h, h.Reason
	m.rough = m.rough || h.Final
	if h.Word != health.Ready {
		p.State, p.Ended = Settling, time.Time{}
		return
	}
	if p.State != Ready {
		p.State, p.Ended = Ready, at
	}
	p.Reason = ""
}

// check looks where the run stands after an event.
func (m *Machine) check(now time.Time) []Action {
	if m.Carrying() {
		return nil // the canary has the say, and its time
	}
	busy := m.busy > 0
	if busy && !m.rough && (m.deadline.IsZero() || now.Before(m.deadline)) {
		return nil
	}
	var refused, final []*Progress
	for _, ref := range m.order {
		p := m.progress[ref]
		if m.failed != "" && p.Task != object.OnFail {
			continue // what made the run fail is known; now its tasks count
		}
		if p.State == Refused {
			refused = append(refused, p)
		}
		if p.State == Settling && p.Health.Final {
			final = append(final, p)
		}
	}
	if m.stopped != "" {
		if busy {
			return nil // nothing new begins, and what is on its way is answered
		}
		if m.failed != "" {
			return m.end(Failed, m.failed)
		}
		return m.end(Stopped, m.stopped)
	}
	if len(refused) > 0 {
		// The others of the step are still tried, then the run stops.
		if more := m.others(now); len(more) > 0 {
			return more
		}
		if busy {
			return nil
		}
		if m.failed == "" {
			m.outside = len(final) == 0 && !slices.ContainsFunc(refused, func(p *Progress) bool { return !p.Outside })
		}
		return m.fail(reasons(refused, "refused"), now)
	}
	if !busy && len(final) > 0 {
		return m.fail(reasons(final, ""), now)
	}
	if !m.deadline.IsZero() && !now.Before(m.deadline) {
		if busy {
			return nil // the answer to a call that is on its way comes first
		}
		return m.fail(m.late(), now)
	}
	if busy {
		return nil
	}
	return m.advance(now)
}

// fail starts the tasks for a failure, or ends the run when there are none or they are through.
func (m *Machine) fail(reason string, now time.Time) []Action {
	if m.failed != "" {
		return m.end(Failed, m.failed+"; then "+reason)
	}
	if len(m.plan.OnFail) == 0 {
		return m.end(Failed, reason)
	}
	m.failed, m.waitsOn = reason, nil
	m.close()
	m.steps, m.step, m.group = m.plan.OnFail, 0, 0
	m.expect(m.steps)
	m.deadline = now.Add(m.within)
	return m.start(now)
}

// others starts every group of the current step that has not started.
func (m *Machine) others(now time.Time) []Action {
	var out []Action
	if m.step < 0 || m.step >= len(m.steps) {
		return nil
	}
	for m.group+1 < len(m.steps[m.step].Groups) {
		if m.steps[m.step].Groups[m.group].Await {
			return out // what needs a refused namespace, definition or task can't go through
		}
		m.group++
		out = append(out, m.start(now)...)
	}
	return out
}

// advance starts the next group, step or removal whose turn it is.
func (m *Machine) advance(now time.Time) []Action {
	for {
		if m.step >= len(m.steps) {
			if m.failed != "" {
				return m.end(Failed, m.failed)
			}
			if !m.through(m.steps) {
				return nil
			}
			if m.closes() {
				return m.follow(m.canary.Machine.Step(canary.Rest{At: now}), now)
			}
			return m.prune(now)
		}
		if m.step < 0 {
			if m.gated(0) {
				return m.carries(now)
			}
			m.step, m.group = 0, 0
			if len(m.steps) == 0 {
				continue
			}
			return m.start(now)
		}
		s := m.steps[m.step]
		if m.group+1 < len(s.Groups) {
			if s.Groups[m.group].Await && !m.ready(s.Groups[:m.group+1]) {
				return nil
			}
			m.group++
			return m.start(now)
		}
		if !m.through(m.steps[:m.step+1]) {
			return nil
		}
		if m.gated(m.step + 1) {
			return m.carries(now)
		}
		m.step++
		m.group = 0
		if m.step < len(m.steps) {
			return m.start(now)
		}
	}
}

func (m *Machine) start(now time.Time) []Action {
	var out []Action
	g := m.steps[m.step].Groups[m.group]
	for _, ref := range g.Refs {
		p := m.progress[ref]
		p.State, p.Began = Applying, now
		m.busy++
		out = append(out, Apply{ref, g.Task})
	}
	return out
}

// through tells whether everything in some steps is ready; what was so in its turn may not be any more.
func (m *Machine) through(steps []plan.Step) bool {
	if m.waitsOn != nil && m.waitsOn.State != Ready { // what is looked at only grows, so it is among these too
		return false
	}
	for _, s := range steps {
		if !m.ready(s.Groups) {
			return false
		}
	}
	return true
}

func (m *Machine) ready(groups []plan.Group) bool {
	for _, g := range groups {
		for _, ref := range g.Refs {
			if p := m.progress[ref]; p.State != Ready {
				m.waitsOn = p
				return false
			}
		}
	}
	return true
}

// prune removes one group after the other, and ends the run when all are gone.
func (m *Machine) prune(now time.Time) []Action {
	for _, g := range m.plan.Removals {
		var out []Action
		for _, ref := range g.Refs {
			if p := m.progress[ref]; p.State == Waiting {
				p.State, p.Began = Removing, now
				m.busy++
				out = append(out, Remove{ref})
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	return m.end(Done, "")
}

// close gives every object that is not through the state it keeps.
func (m *Machine) close() {
	for _, p := range m.progress {
		switch p.State {
		case Waiting:
			p.State = Untried
		case Settling:
			p.State = NotReady
		}
	}
}

func (m *Machine) end(o Outcome, reason string) []Action {
	m.ended = true
	m.close()
	outside := o == Failed && m.outside
	return []Action{End{Outcome: o, Reason: reason, Blameless: outside, GoBack: o == Failed && m.otherwise == ward.GoBack && !outside}}
}

// late says what was not ready at the deadline.
func (m *Machine) late() string {
	var waiting []*Progress
	for _, p := range m.progress {
		if p.State == Settling && (m.failed == "" || p.Task == object.OnFail) {
			waiting = append(waiting, p)
		}
	}
	if len(waiting) == 0 {
		return "not done within " + span(m.within)
	}
	return fmt.Sprintf("%s; not ready within %s", reasons(waiting, ""), span(m.within))
}

// span writes a time as people do: 20 s, 5 min, 1 h.
func span(d time.Duration) string {
	switch {
	case d%time.Hour == 0:
		return fmt.Sprintf("%d h", d/time.Hour)
	case d%time.Minute == 0:
		return fmt.Sprintf("%d min", d/time.Minute)
	case d%time.Second == 0:
		return fmt.Sprintf("%d s", d/time.Second)
	}
	return d.String()
}

// reasons names the first of some objects, what is wrong with it, and how many more there are.
func reasons(of []*Progress, verb string) string {
	slices.SortFunc(of, func(a, b *Progress) int {
		if af, bf := a.Health.Word == health.Failing, b.Health.Word == health.Failing; af != bf {
			if af {
				return -1
			}
			return 1
		}
		return a.Ref.Compare(b.Ref)
	})
	s := of[0].Ref.Short()
	if verb != "" {
		s += " " + verb
	}
	if of[0].Reason != "" {
		s += ": " + of[0].Reason
	}
	if more := len(of) - 1; more > 0 {
		s += fmt.Sprintf(" (and %d more)", more)
	}
	return s
}
