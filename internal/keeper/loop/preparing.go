package loop

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

// Prepared is a run as it would be started: its entry, its objects and its plan.
type Prepared struct {
	Entry   logbook.Entry
	Objects map[object.Ref]declared.Whole
	Order   map[object.Ref]object.Turn
	Plan    plan.Plan
	Allow   []string
	Canary  *Canaries // that it carries; nil when it carries none
	Unknown string    // why it is not known whether its secrets have values: it can be shown, and does not start
}

// making is a run whose plan is being made.
type making struct {
	*Placement
	ask    Ask
	in     plan.Input
	entry  logbook.Entry
	astray index.Astray
	out    *Prepared
}

// Prepare makes the plan of a run, and starts nothing.
func (p *Placement) Prepare(r Ask) (*Prepared, error) {
	switch {
	case p.Broken != "":
		return nil, fault(Conflict, "%s can't run: %s", p.ID, p.Broken)
	case p.Reach.Down() != nil:
		return nil, fault(Unreachable, "%v", p.Reach.Down())
	case p.will.Leaving != nil && r.Kind != run.Dismantle:
		return nil, fault(Conflict, "%s is being removed, and does nothing else; keep it after all: vigila ward add FILE", p.ID)
	}
	m := &making{Placement: p, ask: r, astray: p.astray(), out: &Prepared{Allow: r.Allow, Objects: map[object.Ref]declared.Whole{}, Order: map[object.Ref]object.Turn{}},
		in:    plan.Input{Baselines: p.index.Baselines(), Prune: p.Ward.Keep.Prune, Passing: p.passing, NoPrune: p.index.Guarded(object.NoPrune), Again: r.Reapply && !r.quiet, Unbound: p.index.Unbound(), Allow: r.Allow},
		entry: logbook.Entry{Placement: p.ID, Kind: r.Kind, Outcome: run.Running, By: r.By, Why: r.Why, ToEntry: r.ToEntry, Started: p.at}}
	if r.Diff {
		m.in.Baselines = p.knownNow()
	}
	if r.carry != nil { // what the canary has made is its own still
		m.in.Baselines = maps.Clone(m.in.Baselines)
		maps.DeleteFunc(m.in.Baselines, func(ref object.Ref, b compare.Baseline) bool { return r.leftBeside(ref, b) })
	}
	m.in.Drifted = m.drifted()
	of, known := map[run.Kind]func() error{run.Sync: m.sync, run.Restore: m.restore, run.Rollback: m.rollback, run.Dismantle: m.dismantle}[r.Kind]
	if !known {
		return nil, fault(Invalid, "there is no run of kind %q", r.Kind)
	}
	if err := of(); err != nil {
		return nil, err
	}
	if len(r.Only) > 0 {
		var err error
		if m.in.Only, err = p.named(r.Kind, r.Only, m.in.Declared); err != nil {
			return nil, err
		}
	}
	m.out.Entry, m.out.Plan = m.entry, plan.Make(m.in)
	if err := m.canaries(); err != nil {
		return nil, err
	}
	m.out.Entry = m.entry // it may say that a canary is left out
	m.inOrder()
	m.withSecrets()
	m.withRules()
	if r.Kind == run.Restore {
		return m.out, nil // its objects were read to begin with
	}
	return m.out, p.fetchObjects(m.out, m.in.Declared)
}

// drifted lists what is put back with the run. A person decides about contested fields as well; drift that is only reported is left
// to a person, whatever else runs.
func (m *making) drifted() []object.Ref {
	switch {
	case m.ask.By != logbook.Vigila && m.Ward.Keep.Additions == ward.RemoveAdded:
		return append(slices.Clone(m.astray.Refs), m.astray.Added...)
	case m.ask.By != logbook.Vigila:
		return m.astray.Refs
	case m.ask.Diff || m.Ward.Keep.Drift != ward.Restore:
		return nil
	}
	return m.astray.Restorable
}

func (m *making) sync() error {
	r, d := m.ask, m.declared
	if r.Declared != nil {
		d = r.Declared
	}
	switch {
	case d == nil:
		f := fault(Conflict, "%s can't be synced: %s", m.ID, cmp.Or(m.problem(), notReadYet))
		f.Soon = m.problem() == ""
		return f
	case d.Waits != "":
		return fault(Conflict, "%s has nothing to sync: it %s", m.ID, d.Waits)
	case !m.repository.Known && r.Declared == nil:
		return fault(Conflict, "%s can't be synced, what it declares is not known now: %s", m.ID, cmp.Or(m.problem(), notReadYet))
	}
	rev := d.Revision
	if no := m.rejection(d); no != nil && r.By != logbook.Vigila && !r.Retry {
		return fault(Conflict, "%s is rejected for %s: %s. Push a newer revision, or try this one again: vigila sync %s --retry", rev.Short(), m.ID, no.Why, m.ID)
	}
	m.entry.Revision, m.entry.Snapshot = &rev, d.Snapshot
	if m.will.Snapshot != d.Snapshot && len(r.Only) == 0 && !r.Diff {
		// It never ended done, perhaps it was stopped: what is there but not ready is applied again and waited
		// for. Only what was seen ready becomes what a ward goes back to.
		for _, o := range d.Objects {
			if l := m.index.Known(o.Ref); l != nil && l.Present && l.State().Word != health.Ready {
				m.in.Drifted = append(m.in.Drifted, o.Ref)
			}
		}
	}
	fresh := false
	for key, hash := range d.Tasks {
		fresh = fresh || m.will.Done[key] != hash
	}
	m.in.Tasks = declared.TasksWhen(fresh || r.Reapply)
	m.in.Stale = d.Stale(m.side().Tasks)
	m.in.Prune = m.in.Prune && d.Snapshot != ""
	return m.carries()
}

func (m *making) restore() error {
	if m.will.Snapshot == "" && m.index.Len() == 0 {
		return fault(Conflict, "%s has never been synced, so there is nothing to restore", m.ID)
	}
	m.entry.Revision, m.entry.Snapshot = m.will.Applied, m.will.Snapshot
	m.in.OnlyDrift = true
	refs := m.in.Drifted
	if m.ask.quiet {
		refs = m.again()
	}
	if err := m.asApplied(m.out, refs); err != nil {
		return err
	}
	m.in.Drifted = nil
	for ref, o := range m.out.Objects {
		m.in.Drifted = append(m.in.Drifted, ref)
		m.in.Declared = append(m.in.Declared, plan.Declared{Ref: ref, Hash: o.Hash, Turn: m.out.Order[ref], Secrets: secret.Of(o.Object)})
	}
	return nil
}

// again lists what is applied once more although nothing has changed. It takes up no quarrel that was given up, and runs nothing that
// has ended.
func (m *making) again() (out []object.Ref) {
	fought := map[object.Ref]bool{}
	for _, ref := range append(slices.Clone(m.astray.Refs), m.astray.Added...) {
		fought[ref] = !slices.Contains(m.astray.Restorable, ref) && !slices.Contains(m.astray.Waiting, ref)
	}
	for ref, b := range m.index.All() {
		if l := m.index.Known(ref); b.UID != "" && !fought[ref] && (l == nil || !l.Ended) {
			out = append(out, ref)
		}
	}
	return out
}

func (m *making) rollback() error {
	m.entry.Revision, m.entry.Snapshot = m.will.Applied, m.will.Snapshot
	if m.in.Spare = m.ask.failed != nil; !m.in.Spare {
		to, err := m.Book.Entry(m.ask.ToEntry)
		switch {
		case errors.Is(err, record.ErrNone):
			return NoEntry(m.ID, m.ask.ToEntry)
		case err != nil:
			return err
		case to.Snapshot == "":
			return fault(Invalid, "entry #%d of %s is a %s and keeps no objects; choose a run (vigila logbook %s)", to.Number, m.ID, to.Kind, m.ID)
		}
		m.entry.Revision, m.entry.Snapshot = to.Revision, to.Snapshot
	}
	if m.ask.Tasks {
		m.in.Tasks = plan.Always
	}
	return m.carries()
}

func (m *making) dismantle() error {
	m.in.Prune, m.in.Stale = true, m.side().Tasks
	m.in.Allow = append(slices.Clone(m.ask.Allow), plan.GuardMass, plan.GuardEmpty) // that is what is asked for
	return nil
}

// carries reads what the run's snapshot declares.
func (m *making) carries() error {
	if m.entry.Snapshot == "" {
		return nil
	}
	all, err := m.declaredIn(m.entry.Snapshot, m.ask.Declared)
	if err != nil {
		return fmt.Errorf("read the objects of the run: %w", err)
	}
	m.in.Declared = m.side().Planned(all)
	for _, o := range all {
		m.out.Order[o.Ref] = o.Turn
	}
	return nil
}

// inOrder lets a guard stand before a sync by hand of a ward that is to wait for others.
func (m *making) inOrder() {
	if m.ask.Kind != run.Sync || m.ask.By == logbook.Vigila || m.ask.Diff || m.out.Plan.Empty() || slices.Contains(m.ask.Allow, orderGuard) {
		return
	}
	if what := m.waitsFor(); what != "" {
		m.out.Plan.Guards = append(m.out.Plan.Guards, plan.Guard{Name: orderGuard, Text: "it is to wait for " + what})
	}
}

// orderGuard stands before a sync by hand of a ward that is to wait for others.
const orderGuard = "order"

// AppliedIn finds the snapshots in which some objects are as they were applied last.
func (p *Placement) AppliedIn(refs []object.Ref) map[string][]object.Ref {
	from := map[string][]object.Ref{}
	for _, ref := range refs {
		b, _ := p.index.Baseline(ref)
		s := cmp.Or(b.Snapshot, p.will.Snapshot)
		// One that a revision left where it was, and a later one declares again as it is, is in no whole that was applied since.
		if d := p.declared.Find(ref); d != nil && b.Snapshot == "" && d.Hash == secret.Bare(b.Declared) && d.Task == object.NoTask {
			s = cmp.Or(p.declared.Snapshot, s)
		}
		if s != "" {
			from[s] = append(from[s], ref)
		}
	}
	return from
}

// asApplied reads some objects as they were applied last.
func (p *Placement) asApplied(out *Prepared, refs []object.Ref) error {
	for snapshot, refs := range p.AppliedIn(refs) {
		objects, err := p.Book.Snapshot(snapshot, refs...)
		if err != nil {
			return fmt.Errorf("read the objects as they were applied: %w", err)
		}
		for _, o := range objects {
			turn, err := o.Object.Turn()
			if err != nil {
				turn.Step = o.Step
			}
			if turn.Task == object.NoTask {
				out.Objects[o.Object.Ref], out.Order[o.Object.Ref] = o, turn
			}
		}
	}
	return nil
}

// declaredIn lists what a snapshot declares; of the newest declaration, or the one given, that is known already.
func (p *Placement) declaredIn(snapshot string, given *declared.Declaration) ([]declared.Object, error) {
	for _, d := range []*declared.Declaration{given, p.declared} {
		if d != nil && d.Snapshot == snapshot {
			return d.Objects, nil
		}
	}
	objects, err := p.Book.Snapshot(snapshot)
	if err != nil {
		return nil, err
	}
	return declared.Of(objects), nil
}

// fetchObjects reads the objects that a plan works with, and no others: what it applies, every task, and definitions.
func (p *Placement) fetchObjects(out *Prepared, declared []plan.Declared) error {
	refs := out.Plan.Refs()
	for _, d := range declared {
		if d.Task != object.NoTask || d.Ref.Kind == "CustomResourceDefinition" {
			refs = append(refs, d.Ref)
		}
	}
	if len(refs) == 0 {
		return nil
	}
	objects, err := p.Book.Snapshot(out.Entry.Snapshot, refs...)
	if err != nil {
		return fmt.Errorf("read the objects of the run: %w", err)
	}
	for _, o := range objects {
		out.Objects[o.Object.Ref] = o
	}
	for _, ref := range refs {
		if _, ok := out.Objects[ref]; !ok {
			return fmt.Errorf("the record has lost %s, which snapshot %.7s should hold; look at the repository again: vigila look %s", ref, out.Entry.Snapshot, p.ID)
		}
	}
	return nil
}

// named finds the objects that a person means by Kind/name or namespace/Kind/name. A sync may name a task: it is run once more.
func (p *Placement) named(kind run.Kind, names []string, declared []plan.Declared) ([]object.Ref, error) {
	var out []object.Ref
	for _, name := range names {
		meant := func(ref object.Ref) bool {
			return strings.EqualFold(ref.Short(), name) || strings.EqualFold(ref.String(), name)
		}
		found := len(out)
		for _, d := range declared {
			if meant(d.Ref) && d.Task != object.NoTask && kind != run.Sync {
				return nil, fault(Invalid, "%s is a task of %s, which a rollback of a part does not run; run it as it is declared now: vigila sync %s --only %s", d.Ref.Short(), p.ID, p.ID, d.Ref.Short())
			}
			if meant(d.Ref) {
				out = append(out, d.Ref)
			}
		}
		for ref := range p.index.All() {
			if meant(ref) && !slices.Contains(out, ref) {
				out = append(out, ref)
			}
		}
		if len(out) == found {
			return nil, fault(NotFound, "%s has no %s; its objects: vigila ward show %s", p.ID, name, p.ID)
		}
	}
	return out, nil
}
