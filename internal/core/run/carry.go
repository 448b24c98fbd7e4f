package run

import (
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
)

// carried is a canary within a run. What comes before its gate is the first half of the run; the canary itself follows, and once it is
// through, the rest.
type carried struct {
	*canary.Machine
	gate    int  // index into the run's steps
	step    int  // the number of the step it stands in
	resumed bool // it goes on from what an earlier run left;
	moved   string
	going   bool // it has begun, and is neither handing over to the rest of the run nor over
	through bool // the rest of the run goes on
	over    bool
}

// Carry is something that a canary wants done. Its answers are events of package canary, in Told.
type Carry struct{ canary.Effect }

func (Carry) action() {}

// Told is something that happens to the canary that a run carries.
type Told struct {
	At    time.Time
	Event canary.Event
}

func (e Told) at() time.Time { return e.At }

// Carry lets the run carry a canary of some workloads. fresh tells which objects are new: those of the canary's step are made before it
// begins. A resumed one has its first half behind it; moved is how what was found differs from what was left.
func (m *Machine) Carry(c *canary.Machine, targets []object.Ref, fresh func(object.Ref) bool, moved string) {
	_, routes := c.Refs()
	m.canary = &carried{Machine: c, resumed: c.Began != time.Time{}, moved: moved}
	first, second := halves(m.plan.Steps, targets, routes, fresh)
	if len(second) > 0 {
		m.canary.step = second[0].Number
	}
	m.canary.gate = len(first)
	if m.canary.resumed {
		for i := range first {
			first[i].Groups = slices.DeleteFunc(first[i].Groups, func(g plan.Group) bool { return g.Task == object.Before })
		}
		first = slices.DeleteFunc(first, func(s plan.Step) bool { return len(s.Groups) == 0 })
		m.canary.gate = 0
	}
	m.steps = append(first, second...)
	m.plan.Steps = m.steps
	m.progress, m.order = map[object.Ref]*Progress{}, nil
	m.expect(m.steps)
	for _, ref := range m.plan.Removed() {
		m.progress[ref] = &Progress{Ref: ref, Remove: true, State: Waiting}
		m.order = append(m.order, ref)
	}
}

// BeforeCanary lists what of a run comes before the canary of some workloads: what is applied, and goes back with it, and tasks, whose
// work stays done.
func BeforeCanary(steps []plan.Step, targets, routes []object.Ref, fresh func(object.Ref) bool) (applied, tasks []object.Ref) {
	first, _ := halves(steps, targets, routes, fresh)
	for _, s := range first {
		for _, g := range s.Groups {
			if g.Task == object.NoTask {
				applied = append(applied, g.Refs...)
			} else {
				tasks = append(tasks, g.Refs...)
			}
		}
	}
	return applied, tasks
}

// halves parts the steps of a run at a canary: before it come earlier steps, and of its own step what others live in, tasks before, and
// what is new. Its routes are in neither: it brings them to what is declared at its end.
func halves(steps []plan.Step, targets, routes []object.Ref, fresh func(object.Ref) bool) (first, second []plan.Step) {
	at := -1
	for i, s := range steps {
		for _, g := range s.Groups {
			if at < 0 && slices.ContainsFunc(g.Refs, func(r object.Ref) bool { return slices.Contains(targets, r) }) {
				at = i
			}
		}
	}
	put := func(into *[]plan.Step, s plan.Step, g plan.Group) {
		if len(g.Refs) == 0 {
			return
		}
		if n := len(*into); n == 0 || (*into)[n-1].Number != s.Number {
			*into = append(*into, plan.Step{Number: s.Number})
		}
		last := &(*into)[len(*into)-1]
		last.Groups = append(last.Groups, g)
	}
	for i, s := range steps {
		for _, g := range s.Groups {
			g.Refs = slices.DeleteFunc(slices.Clone(g.Refs), func(r object.Ref) bool { return slices.Contains(routes, r) })
			switch early := g.Task == object.Before || g.Task == object.NoTask && g.Await; {
			case i < at || i == at && early:
				put(&first, s, g)
			case i == at && g.Task == object.NoTask:
				now, later := g, g
				now.Refs = slices.DeleteFunc(slices.Clone(g.Refs), func(r object.Ref) bool { return !fresh(r) })
				later.Refs = slices.DeleteFunc(slices.Clone(g.Refs), fresh)
				put(&first, s, now)
				put(&second, s, later)
			default:
				put(&second, s, g)
			}
		}
	}
	return first, second
}

// Carrying tells whether the canary has the say.
func (m *Machine) Carrying() bool { return m.canary != nil && m.canary.going }

// gated tells whether a canary comes before a step.
func (m *Machine) gated(step int) bool {
	return m.canary != nil && !m.canary.through && !m.canary.over && m.failed == "" && step == m.canary.gate
}

// closes tells whether the canary has to take away what it made, now that all else is ready.
func (m *Machine) closes() bool {
	if m.canary == nil || !m.canary.through || m.canary.over || m.failed != "" {
		return false
	}
	m.canary.going = true
	return true
}

// carries begins the canary.
func (m *Machine) carries(now time.Time) []Action {
	if m.canary.going {
		return nil
	}
	m.canary.going = true
	if m.canary.resumed {
		return m.follow(m.canary.Machine.Step(canary.Resumed{At: now, Moved: m.canary.moved}), now)
	}
	return m.follow(m.canary.Machine.Step(canary.Started{At: now}), now)
}

// carry gives an event to the canary; taken tells that it is nobody else's.
func (m *Machine) carry(ev Event) (out []Action, taken bool) {
	if m.canary == nil || m.canary.over {
		return nil, false
	}
	c, now := m.canary, ev.at()
	give := func(e canary.Event) ([]Action, bool) {
		if !c.going && !c.through {
			return nil, true
		}
		return m.follow(c.Machine.Step(e), now), true
	}
	switch e := ev.(type) {
	case Told:
		return give(e.Event)
	case Applied:
		if c.Carries(e.Ref) {
			return give(canary.Applied{At: now, Ref: e.Ref, Err: e.Err, Outside: e.Outside, Health: e.Health})
		}
	case Removed:
		if c.Carries(e.Ref) {
			return give(canary.Removed{At: now, Ref: e.Ref, Err: e.Err})
		}
	case Seen:
		if c.Carries(e.Ref) {
			return give(canary.Seen{At: now, Ref: e.Ref, Health: e.Health})
		}
		if c.going && m.progress[e.Ref] != nil && m.progress[e.Ref].State == Waiting { // the old version: its size, its Pods
			return give(canary.Seen{At: now, Ref: e.Ref, Health: e.Health})
		}
	case Trying:
		return nil, c.Carries(e.Ref)
	case Stop:
		if c.going && c.Before() {
			return give(canary.Stopped{At: now, Reason: e.Reason})
		}
	case Tick:
		if c.going {
			return give(canary.Tick{At: now})
		}
	}
	return nil, false
}

// follow does what the canary wants, and goes on with the run once it is through or over.
func (m *Machine) follow(effects []canary.Effect, now time.Time) (out []Action) {
	c := m.canary
	for _, e := range effects {
		switch e := e.(type) {
		case canary.Carried:
			c.going, c.through = false, true
			m.deadline = now.Add(m.within)
			if m.step, m.group = c.gate, 0; m.step < len(m.steps) {
				out = append(out, m.start(now)...)
			} else {
				out = append(out, m.advance(now)...)
			}
		case canary.Ended:
			c.going, c.over = false, true
			m.deadline = now.Add(m.within)
			switch back := e.Back; {
			case back != nil && back.Stopped:
				out = append(out, m.end(Stopped, back.Reason)...)
			case m.stopped != "": // while it was on its way
				out = append(out, m.end(Stopped, m.stopped)...)
			case back == nil:
				out = append(out, m.prune(now)...)
			default:
				m.outside = back.Blameless
				reason := back.Reason
				if back.Trouble != "" {
					reason += "; and on the way back: " + back.Trouble
				}
				out = append(out, m.fail(reason, now)...)
			}
		default:
			out = append(out, Carry{e})
		}
	}
	return out
}

// beside is the progress of what the canary makes and moves.
func (m *Machine) beside() (out []Progress) {
	if m.canary == nil {
		return nil
	}
	for _, p := range m.canary.Pieces() {
		x := Progress{Ref: p.Ref, Step: m.canary.step, Remove: p.Removed, Health: p.Health, Reason: p.Health.Reason, Began: p.Began, Ended: p.Ended}
		switch {
		case p.Gone:
			x.State = Gone
		case p.Calling && p.Removed:
			x.State = Removing
		case p.Calling:
			x.State = Applying
		case p.Refused:
			x.State = Refused
		case p.Ready():
			x.State, x.Reason = Ready, ""
		case m.ended:
			x.State = NotReady
		default:
			x.State = Settling
		}
		out = append(out, x)
	}
	return out
}

// Canary is how it is with the canary that the run carries; nil when it carries none.
func (m *Machine) Canary() *canary.Machine {
	if m.canary == nil {
		return nil
	}
	return m.canary.Machine
}
