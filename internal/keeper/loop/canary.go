package loop

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

// canaryGuard stands before a sync whose canary can't be made; whoever allows it leaves the canary out.
const canaryGuard = "canary"

// Canaries are those that a run carries.
type Canaries struct {
	Targets []*canary.Target

	// Applied and Tasks come before them in the run; the first go back with them.
	Applied, Tasks []object.Ref

	machine   *canary.Machine
	needs     []canary.Was
	was, will map[object.Ref]declared.Whole
}

// beside is the canary of the run that goes on, as the ward knows it beside the machine.
type beside struct {
	*Canaries
	made    map[object.Ref]bool
	routes  map[object.Ref]bool
	parts   map[object.Ref]bool // workloads of whose Pods some are new
	version int                 // of the state that is written down
}

// carries tells whether an object is made or moved by the canary of the run that goes on.
func (a *activeRun) carries(ref object.Ref) bool {
	if a == nil || a.beside == nil {
		return false
	}
	return a.beside.made[ref] || a.beside.routes[ref] || a.beside.parts[ref] && a.machine.Canary().Carries(ref)
}

// canaries finds the canaries of a revision: changes tells what the run applies. left is the canary that an earlier run left. What is
// wrong with them is a guard; nil when they can be made, or there are none.
func (p *Placement) canaries(refs []object.Ref, snapshot string, changes func(object.Ref) bool, checks []ward.Check, left *canary.State) (*Canaries, *plan.Guard, error) {
	spaces := map[string]bool{}
	for _, c := range p.Ward.Canary {
		for _, ref := range refs {
			if b, kept := p.index.Baseline(ref); kept && b.UID != "" && canary.Means(c.Of, ref) && changes(ref) {
				spaces[ref.Namespace] = true
			}
		}
	}
	if len(spaces) == 0 {
		return nil, nil, nil
	}
	concerned := func(ref object.Ref) bool { return spaces[ref.Namespace] && canary.Concerns(ref) }
	out := &Canaries{was: map[object.Ref]declared.Whole{}, will: map[object.Ref]declared.Whole{}}
	from := map[string][]object.Ref{}
	in := map[object.Ref]string{}
	if left != nil {
		for _, w := range left.Was {
			from[w.Snapshot], in[w.Ref] = append(from[w.Snapshot], w.Ref), w.Snapshot
		}
	} else {
		var kept []object.Ref
		for ref, b := range p.index.All() {
			if b.UID != "" && concerned(ref) && !p.passing(ref) {
				kept = append(kept, ref)
			}
		}
		from = p.AppliedIn(kept)
	}
	was, will := canary.Declared{}, canary.Declared{}
	for id, refs := range from {
		all, err := p.Book.Snapshot(id, refs...)
		if err != nil {
			return nil, nil, fmt.Errorf("read the objects as they were applied: %w", err)
		}
		for _, o := range all {
			if o.Turn().Task == object.NoTask {
				out.was[o.Object.Ref], was[o.Object.Ref], in[o.Object.Ref] = o, o.Object, id
			}
		}
	}
	all, err := p.Book.Snapshot(snapshot, slices.DeleteFunc(slices.Clone(refs), func(ref object.Ref) bool { return !concerned(ref) })...)
	if err != nil {
		return nil, nil, fmt.Errorf("read the objects of the run: %w", err)
	}
	for _, o := range all {
		if o.Turn().Task == object.NoTask {
			out.will[o.Object.Ref], will[o.Object.Ref] = o, o.Object
		}
	}
	if out.Targets, err = canary.Find(*p.Ward, was, will, changes); err != nil {
		return nil, &plan.Guard{Name: canaryGuard, Text: err.Error()}, nil
	}
	if len(out.Targets) == 0 {
		return nil, nil, nil
	}
	for _, t := range out.Targets {
		if text := p.Ward.NoCheck(t.Canary, checks); text != "" {
			return nil, &plan.Guard{Name: canaryGuard, Text: text}, nil
		}
		for _, ref := range t.Needs() {
			if !slices.ContainsFunc(out.needs, func(w canary.Was) bool { return w.Ref == ref }) {
				out.needs = append(out.needs, canary.Was{Ref: ref, Snapshot: in[ref], Moves: changes(ref)})
			}
		}
	}
	return out, nil, nil
}

// canaries lets a sync carry the canaries that the ward file asks for, or stops it where they can't be made.
func (m *making) canaries() error {
	if m.ask.Kind != run.Sync || m.ask.Diff || len(m.Ward.Canary) == 0 || len(m.entry.Snapshot) == 0 {
		return nil
	}
	planned := map[object.Ref]bool{}
	for _, ref := range m.out.Plan.Refs() {
		planned[ref] = true
	}
	changes := func(ref object.Ref) bool { return planned[ref] }
	if left := m.ask.carry; left != nil {
		changes = func(ref object.Ref) bool {
			return slices.ContainsFunc(left.Was, func(w canary.Was) bool { return w.Ref == ref && w.Moves })
		}
	}
	var refs []object.Ref
	for _, d := range m.in.Declared {
		refs = append(refs, d.Ref)
	}
	checks := m.checks()
	found, guard, err := m.Placement.canaries(refs, m.entry.Snapshot, changes, checks, m.ask.carry)
	if err != nil {
		return err
	}
	if m.ask.Now || slices.Contains(m.ask.Allow, canaryGuard) {
		if found != nil || guard != nil {
			m.entry.Why = strings.TrimPrefix(m.entry.Why+"; without its canary", "; ")
		}
		return nil
	}
	if guard != nil {
		m.out.Plan.Guards = append(m.out.Plan.Guards, *guard)
	}
	if found == nil {
		return nil
	}
	m.out.Canary = found
	var routes []object.Ref
	for _, t := range found.Targets {
		routes = append(routes, t.Routes()...)
	}
	found.Applied, found.Tasks = run.BeforeCanary(m.out.Plan.Steps, found.workloads(), routes, m.fresh)
	return found.make(m.Placement, m.ask, checks)
}

// checks are those that the declaration which is synced shares with other wards; of a canary that goes on, those that it began with.
func (m *making) checks() (out []ward.Check) {
	if left := m.ask.carry; left != nil {
		for _, t := range left.Targets {
			out = append(out, t.Checks...)
		}
		return out
	}
	d := m.declared
	if m.ask.Declared != nil {
		d = m.ask.Declared
	}
	if d != nil {
		out = d.Checks
	}
	return out
}

// guardCanary is the guard that stands before the sync of what is pending; nil when none does.
func (p *Placement) guardCanary(apply []object.Ref) *plan.Guard {
	if p.run != nil || p.canary != nil || len(p.Ward.Canary) == 0 || !p.declared.Known() || len(apply) == 0 {
		return nil
	}
	pending := map[object.Ref]bool{}
	for _, ref := range apply {
		pending[ref] = true
	}
	var refs []object.Ref
	for _, o := range p.declared.Objects {
		refs = append(refs, o.Ref)
	}
	_, guard, err := p.canaries(refs, p.declared.Snapshot, func(ref object.Ref) bool { return pending[ref] }, p.declared.Checks, nil)
	if err != nil {
		p.Log.Error("what a canary would be can't be read", "error", err)
	}
	return guard
}

// passing tells whether an object was made by a canary for its own time: it goes, whatever keep.prune says, and nobody is asked.
func (p *Placement) passing(ref object.Ref) bool {
	b, kept := p.index.Baseline(ref)
	return kept && strings.HasPrefix(b.Declared, canary.Mark) && p.declared.Find(ref) == nil
}

// make makes the machine: a new one, or one that goes on with what an earlier run left.
func (c *Canaries) make(p *Placement, r Ask, checks []ward.Check) (err error) {
	s := canary.State{By: r.By, Why: r.Why, Allow: r.Allow, Was: c.needs}
	if r.carry != nil {
		s = r.carry.Clone()
		for i, t := range c.Targets {
			if len(s.Targets) != len(c.Targets) || s.Targets[i].Ref != t.Ref {
				return errors.New("the ward file names other workloads than it did when the canary began")
			}
		}
	}
	c.machine, err = canary.New(c.Targets, func(name string) (ward.Check, bool) { return p.Ward.Find(name, checks) }, p.Ward.Settle.Within, s)
	return err
}

// embark lets a run that is about to start carry a canary, and lists what it makes and moves beside what is planned.
func (p *Placement) embark(a *activeRun, found *Canaries, planned []object.Ref) (more []object.Ref) {
	machine, moved := found.machine, ""
	machine.Run, machine.Snapshot = a.entry.Number, a.entry.Snapshot
	a.beside = &beside{Canaries: found, made: map[object.Ref]bool{}, routes: map[object.Ref]bool{}, parts: map[object.Ref]bool{}, version: -1}
	for _, ref := range machine.InPlace() {
		a.beside.parts[ref] = true
	}
	_, routes := machine.Refs()
	for _, ref := range routes {
		a.beside.routes[ref] = true
		if x := a.pieces[ref]; x == nil {
			a.pieces[ref] = &piece{object: found.was[ref], turn: found.was[ref].Turn()}
		}
		if !slices.Contains(planned, ref) {
			more = append(more, ref)
		}
	}
	for _, t := range found.Targets {
		for _, o := range t.Beside() {
			if a.beside.made[o.Ref] {
				continue // two workloads may share a Service
			}
			a.beside.made[o.Ref] = true
			a.pieces[o.Ref] = &piece{object: declared.Whole{Object: o}}
			more = append(more, o.Ref)
		}
	}
	if a.ask.carry != nil {
		for _, ref := range slices.Concat(more, routes, machine.InPlace()) {
			if words := p.meddled(ref); words != "" {
				moved = words
			}
		}
	}
	a.machine.Carry(machine, found.workloads(), p.fresh, moved)
	return more
}

// workloads are those that the canaries are of.
func (c *Canaries) workloads() (out []object.Ref) {
	for _, t := range c.Targets {
		out = append(out, t.Ref)
	}
	return out
}

// fresh tells whether an object is new.
func (p *Placement) fresh(ref object.Ref) bool {
	b, kept := p.index.Baseline(ref)
	return !kept || b.UID == ""
}

// leftBeside tells whether an object was made by the canary that goes on with this run.
func (r Ask) leftBeside(ref object.Ref, b compare.Baseline) bool {
	return r.Declared.Find(ref) == nil && (strings.HasPrefix(b.Declared, canary.Mark) || b.UID == "" && b.Intent != 0)
}

// meddled says what somebody else did to an object that a canary has applied; "" when nobody did anything.
func (p *Placement) meddled(ref object.Ref) string {
	b, kept := p.index.Baseline(ref)
	if !kept || b.Intent != 0 || b.UID == "" {
		return ""
	}
	changes := p.index.Changes(ref)
	if len(changes) == 0 {
		return ""
	}
	return standing.DriftWords(ref, changes[0])
}

// keepCanary writes down how far the canary is, before anything more is done.
func (p *Placement) keepCanary(a *activeRun) {
	c := a.machine.Canary()
	if c == nil || a.beside.version == c.Version() || c.Began.IsZero() {
		return
	}
	a.beside.version = c.Version()
	p.write(record.PutCanary{State: c.State.Clone(), Active: true})
}

// carryCanary does what the canary of the run wants done.
func (p *Placement) carryCanary(a *activeRun, e canary.Effect) {
	switch e := e.(type) {
	case canary.Look:
		look := LookBeside{Run: a.entry.Number}
		for _, t := range a.beside.Targets {
			old, next := t.Alone()
			look.Of = append(look.Of, BesideOf{t.Ref, t.Twin, a.of(t.Twin).object.Object.Version, old, next})
		}
		p.out(look)
	case canary.Ask:
		p.out(AskCheck{a.entry.Number, a.beside.Targets[e.Target].Ref.Namespace, e})
	case canary.Apply:
		p.applyBeside(a, e)
	case canary.Remove:
		p.removeBeside(a, e.Ref)
	}
}

// applyBeside has an object applied as the canary wants it. That it is about to be is written down: what is found after a kill is
// not known then.
func (p *Placement) applyBeside(a *activeRun, e canary.Apply) {
	ref := e.Object.Ref
	x := a.of(ref)
	b, kept := p.index.Baseline(ref)
	if !kept {
		b = compare.Baseline{Ref: ref, Version: e.Object.Version}
	}
	b.Intent = a.entry.Number
	p.index.Keep(b)
	p.write(record.Claim{Cluster: p.Cluster, Number: a.entry.Number, All: []compare.Baseline{b}, Refused: map[object.Ref]string{}})
	x.appliedAt, x.early, x.silent = 0, nil, false
	o := drive.Order{Object: declared.Whole{Object: e.Object, Hash: canary.Mark + a.entry.Snapshot}, Before: b, Turn: x.turn, Refused: x.refused, Defined: a.defines(ref), Allow: a.ask.Allow, Found: x.found, Passing: true}
	if e.Declared {
		whole := a.beside.will[ref]
		if o.Passing = a.machine.Canary().Going != nil; o.Passing {
			whole = a.beside.was[ref]
		}
		o.Object.Hash = whole.Hash
	}
	if a.beside.parts[ref] {
		o.Left, o.Scaled = x.left, x.scaled
	}
	if a.beside.routes[ref] { // what a route leads to is the canary's own for a while
		o.Left = slices.DeleteFunc(slices.Clone(x.left), func(f object.Pointer) bool { return strings.HasPrefix(f.String(), "/spec") && !e.Declared })
	}
	p.after(ApplyObject{a.entry.Number, o})
}

// removeBeside has an object removed that the canary has made. Nobody is asked: no repository declares it.
func (p *Placement) removeBeside(a *activeRun, ref object.Ref) {
	b, kept := p.index.Baseline(ref)
	if !kept {
		b = compare.Baseline{Ref: ref, Version: a.of(ref).object.Object.Version}
	}
	r := Removal{Run: a.entry.Number, Ref: ref, Baseline: b, Kept: kept, Intent: Intent{Kind: run.Rollback}, Asked: Marks{}}
	if l := p.index.Known(ref); l != nil && l.Present && l.UID != b.UID {
		r.Other = l.UID
	}
	p.after(RemoveObject{r})
}

// settleBeside notes that what canaries have applied is in no doubt any more: what is found of it after a kill is held against that.
func (p *Placement) settleBeside(a *activeRun) {
	p.write(record.SettleIntents{Number: a.entry.Number, Doubtful: p.doubtful()})
}

// watchBeside tells the canary when somebody else changes what is its own for a while.
func (p *Placement) watchBeside(ref object.Ref) {
	a := p.run
	if !a.carries(ref) || a.of(ref).appliedAt == 0 {
		return
	}
	if words := p.meddled(ref); words != "" {
		p.feed(run.Told{At: p.at, Event: canary.Changed{At: p.at, Ref: ref, Words: words}})
	}
}

// endCanary notes that the canary of a run that has ended goes on no more.
func (p *Placement) endCanary(a *activeRun) {
	if a.beside == nil {
		return
	}
	c := a.machine.Canary()
	s := c.State.Clone()
	if s.Phase != canary.Over {
		s.Phase, s.Ended = canary.Over, p.at
		s.Log = append(s.Log, canary.Line{At: p.at, Text: "ends with its run: " + string(a.entry.Outcome)})
	}
	p.write(record.PutCanary{State: s})
	for ref := range a.beside.made { // what was to be made, and never was
		if b, kept := p.index.Baseline(ref); kept && b.UID == "" && a.of(ref).appliedAt == 0 && !a.of(ref).silent {
			p.drop(ref)
			p.index.Forget(ref)
		}
	}
}

// goOn takes up the canary that was going on when the service ended.
func (p *Placement) goOn() (again bool, err error) {
	left := p.canary
	d := p.declared
	if !d.Known() || d.Snapshot != left.Snapshot {
		e, err := p.Book.Entry(left.Run)
		if err != nil {
			return false, err
		}
		all, err := p.Book.Snapshot(left.Snapshot)
		if err != nil {
			return false, err
		}
		d = &declared.Declaration{Revision: *revisionOr(e.Revision), Snapshot: left.Snapshot}
		d.Take(declared.Of(all))
	}
	_, err = p.start(Ask{Kind: run.Sync, By: left.By, Why: fmt.Sprintf("goes on with the canary of #%d", left.Run), Allow: left.Allow, Retry: true, Declared: d, own: own{carry: left}})
	return errors.Is(err, ErrUnread) || errors.Is(err, ErrQuiet), err
}

// abandon gives up a canary that can't be gone on with: what it made is in the way of nothing, and goes with the next run.
func (p *Placement) abandon(left *canary.State, why string) {
	s := left.Clone()
	s.Phase, s.Ended = canary.Over, p.at
	s.Going = &canary.Going{Reason: why, At: p.at, Blameless: true}
	s.Log = append(s.Log, canary.Line{At: p.at, Text: "can't be gone on with: " + why})
	p.write(record.PutCanary{State: s})
	p.canary = nil
}

// SayCanary is what a person wants of the canary that goes on.
type SayCanary struct {
	Word    canary.Word
	By, Why string
}

func (w SayCanary) grant(p *Placement) (int, error) {
	if p.run == nil || p.run.beside == nil {
		return 0, fault(Conflict, "no canary goes on in %s", p.ID)
	}
	if !slices.Contains(canary.Words, w.Word) {
		return 0, fault(Invalid, "there is no word %q for a canary; write next, hold, finish or back", w.Word)
	}
	if no := p.run.machine.Canary().May(w.Word); no != "" || !p.run.machine.Carrying() {
		if no == "" {
			no = "it has not begun yet, or is through"
		}
		return 0, fault(Conflict, "the canary of %s can't %s now: %s", p.ID, w.Word.Wants(), no)
	}
	p.feed(run.Told{At: p.at, Event: canary.Said{At: p.at, Word: w.Word, By: w.By, Why: w.Why}})
	p.Publish()
	if p.run == nil {
		return 0, nil
	}
	return p.run.entry.Number, nil
}

// needed lists the snapshots that the canary that goes on, or is to go on, needs.
func (p *Placement) needed() (out []string) {
	of := func(s *canary.State) {
		out = append(out, s.Snapshot)
		for _, w := range s.Was {
			out = append(out, w.Snapshot)
		}
	}
	if p.canary != nil {
		of(p.canary)
	}
	if c := p.CanaryNow(); c != nil {
		of(&c.State)
	}
	return out
}

// CanaryNow is the canary of the run that goes on, with all that is remembered of it; nil when there is none. It is asked on the
// ward's goroutine.
func (p *Placement) CanaryNow() *canary.Machine {
	if p.run == nil || p.run.beside == nil {
		return nil
	}
	return p.run.machine.Canary()
}
