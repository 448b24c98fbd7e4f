package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/record"
)

// noEntry says that a logbook has no such entry: the ward, the number, the ward again.
const noEntry = "%s has no entry #%d; see vigila logbook %s"

// byVigila is who did what nobody asked for.
const byVigila = "vigila"

// Ask says which run is wanted.
type Ask struct {
	Kind     run.Kind
	By       string
	Why      string
	ToEntry  int      // rollback: the entry to go back to
	Allow    []string // guards that are allowed, by name
	Only     []string // sync: these objects and nothing else, as Kind/name
	Revision string   // sync: another revision than the one the ward follows
	Retry    bool     // sync: although the revision is rejected
	Reapply  bool     // sync: everything, changed or not, and the tasks
	Tasks    bool     // rollback: run the tasks of that entry as well

	failed   *record.Entry // of a rollback that Vigila starts by itself: the sync it mends
	diff     bool          // what is pending alone: no drift, no tasks
	quiet    bool          // worth an entry only if it changes something
	declared *declaration  // of Revision
}

// activeRun is a run that goes on.
type activeRun struct {
	ask         Ask
	entry       record.Entry
	machine     *run.Machine
	objects     map[object.Ref]record.SnapshotObject
	works       map[object.Ref]bool
	appliedAt   map[object.Ref]int64 // resourceVersion of the answer
	before      map[object.Ref]compare.Baseline
	found       map[object.Ref]*fieldpath.Set // what others owned of an object at its first apply, where that is anything
	early       map[object.Ref]map[string]any // states of objects that came before the answer to their apply
	answered    []answer                      // applies that have been answered, and not taken in yet
	refused     map[object.Ref]string         // objects that another ward keeps, with its name
	added       map[object.Ref]bool           // others added to it, and that is to be removed
	left        map[object.Ref][]object.Pointer
	scaled      map[object.Ref]bool
	tasks       map[object.Ref]*activeTask
	order       map[object.Ref]object.Turn
	logs        map[object.Ref]bool // tasks whose log is kept
	defined     map[[2]string]bool  // kinds whose definitions come with the same objects
	silent      map[object.Ref]bool // an apply of it was never answered: it may have gone through
	lost        map[object.Ref]bool // it was deleted to be made again
	doubted     map[object.Ref]bool // what is there of it was in doubt when the run began
	spared      []plan.Guard        // what a guard protects was left where it is
	changed     int                 // objects whose apply made a difference
	gaveWay     bool                // to a newer revision
	ctx         context.Context
	cancel      context.CancelFunc
	stopping    context.Context // ends when the run is stopped: nothing new begins, and waiting for a finalizer may take for ever
	letGo       context.CancelFunc
	giveUp      atomic.Int64 // the machine's deadline, in Unix nanoseconds
	slots       chan struct{}
	unreachable bool
	restored    []record.Restore // what a restore puts back
}

// until bounds a call by the time that the run has; calls that are on their way at the deadline may take callGrace.
func (a *activeRun) until(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithDeadline(ctx, time.Unix(0, a.giveUp.Load()).Add(callGrace))
}

// prepared is a run as it would be started: its entry, its objects and its plan.
type prepared struct {
	entry   record.Entry
	objects map[object.Ref]record.SnapshotObject
	order   map[object.Ref]object.Turn
	plan    plan.Plan
	allow   []string
}

// prepare makes the plan of a run, and starts nothing.
func (p *placement) prepare(r Ask) (*prepared, error) {
	if p.broken != "" {
		return nil, fault(Conflict, "%s can't run: %s", p.id, p.broken)
	}
	if p.cluster.conn == nil {
		return nil, fault(Unreachable, "%v", p.cluster.err)
	}
	if p.leaving != nil && r.Kind != run.Dismantle {
		return nil, fault(Conflict, "%s is being removed, and does nothing else; keep it after all: vigila ward add FILE", p.id)
	}
	in := plan.Input{Baselines: p.baselines, Prune: p.ward.Keep.Prune, NoPrune: p.noPrune(), Again: r.Reapply && !r.quiet, Unbound: p.unbound(), Allow: r.Allow}
	if r.diff {
		in.Baselines = p.knownNow()
	}
	e := record.Entry{Placement: p.id, Kind: string(r.Kind), Outcome: string(run.Running), By: r.By, Why: r.Why, ToEntry: r.ToEntry, Started: time.Now()}
	astray := p.astray()
	in.Drifted = astray.restorable
	switch {
	case r.By != byVigila: // a person decides about contested fields as well
		in.Drifted = astray.refs
		if p.ward.Keep.Additions == "remove" {
			in.Drifted = append(slices.Clone(in.Drifted), astray.added...)
		}
	case r.diff || p.ward.Keep.Drift != "restore": // drift that is only reported is left to a person, whatever else runs
		in.Drifted = nil
	}
	switch r.Kind {
	case run.Sync:
		d := p.declared
		if r.declared != nil {
			d = r.declared
		}
		if d == nil {
			return nil, fault(Conflict, "%s can't be synced: %s", p.id, orElse(p.repository.Problem, "the repository has not been read yet"))
		}
		if d.waits != "" {
			return nil, fault(Conflict, "%s has nothing to sync: it %s", p.id, d.waits)
		}
		if !p.repository.Known && r.declared == nil {
			return nil, fault(Conflict, "%s can't be synced, what it declares is not known now: %s", p.id, p.repository.Problem)
		}
		rev := d.revision
		if no := p.rejection(d); no != nil && r.By != byVigila && !r.Retry {
			return nil, fault(Conflict, "%s is rejected for %s: %s. Push a newer revision, or try this one again: vigila sync %s --retry", short(&rev), p.id, no.Why, p.id)
		}
		e.Revision, e.Snapshot = &rev, d.snapshot
		if p.snapshot != d.snapshot && len(r.Only) == 0 && !r.diff {
			// It never ended done, perhaps it was stopped: what is there but not ready is applied again and waited
			// for. Only what was seen ready becomes what a ward goes back to.
			for _, o := range d.objects {
				if l := p.known(o.Ref); l != nil && l.present && l.state().Word != health.Ready {
					in.Drifted = append(in.Drifted, o.Ref)
				}
			}
		}
		fresh := false
		for key, hash := range d.tasks {
			fresh = fresh || p.done[key] != hash
		}
		in.Tasks = tasksWhen(fresh || r.Reapply)
		in.Stale = p.staleTasks(d)
		in.Prune = in.Prune && d.snapshot != ""
	case run.Restore:
		if p.snapshot == "" && len(p.baselines) == 0 {
			return nil, fault(Conflict, "%s has never been synced, so there is nothing to restore", p.id)
		}
		e.Revision, e.Snapshot = p.applied, p.snapshot
		in.OnlyDrift = true
	case run.Rollback:
		if r.failed == nil {
			to, err := p.k.store.Entry(p.ctx, p.id, r.ToEntry)
			if errors.Is(err, record.ErrNone) {
				return nil, fault(NotFound, noEntry, p.id, r.ToEntry, p.id)
			}
			if err != nil {
				return nil, err
			}
			if to.Snapshot == "" {
				return nil, fault(Invalid, "entry #%d of %s is a %s and keeps no objects; choose a run (vigila logbook %s)", to.Number, p.id, to.Kind, p.id)
			}
			e.Revision, e.Snapshot = to.Revision, to.Snapshot
		} else {
			e.Revision, e.Snapshot = p.applied, p.snapshot
			in.Spare = true
		}
		if r.Tasks {
			in.Tasks = plan.Always
		}
	case run.Dismantle:
		in.Prune, in.Stale = true, p.staleTasks(nil)
		in.Allow = append(slices.Clone(r.Allow), massRemoval, "empty-render") // that is what is asked for
	default:
		return nil, fault(Invalid, "there is no run of kind %q", r.Kind)
	}
	out := &prepared{allow: r.Allow, objects: map[object.Ref]record.SnapshotObject{}, order: map[object.Ref]object.Turn{}}
	fought := map[object.Ref]bool{}
	for _, ref := range append(slices.Clone(astray.refs), astray.added...) {
		fought[ref] = !slices.Contains(astray.restorable, ref) && !slices.Contains(astray.waiting, ref)
	}
	if r.Kind == run.Restore {
		refs := in.Drifted
		if r.quiet { // applying again must not take up a quarrel that was given up, nor run what has ended
			refs = nil
			for ref, b := range p.baselines {
				if l := p.known(ref); b.UID != "" && !fought[ref] && (l == nil || !l.ended) {
					refs = append(refs, ref)
				}
			}
		}
		if err := p.asApplied(out, refs); err != nil {
			return nil, err
		}
		in.Drifted, in.Declared = nil, nil
		for ref, o := range out.objects {
			in.Drifted = append(in.Drifted, ref)
			turn := out.order[ref]
			in.Declared = append(in.Declared, plan.Declared{Ref: ref, Hash: o.Hash, Turn: turn})
		}
	} else if e.Snapshot != "" {
		declared, err := p.declaredIn(e.Snapshot, r.declared)
		if err != nil {
			return nil, fmt.Errorf("read the objects of the run: %w", err)
		}
		in.Declared = p.declaredNow(declared)
		for _, o := range declared {
			out.order[o.Ref] = o.Turn
		}
	}
	if len(r.Only) > 0 {
		var err error
		if in.Only, err = p.named(r.Only, in.Declared); err != nil {
			return nil, err
		}
	}
	out.entry, out.plan = e, plan.Make(in)
	if r.Kind == run.Sync && r.By != byVigila && !r.diff && !out.plan.Empty() {
		if what := p.waitsFor(); what != "" && !slices.Contains(r.Allow, orderGuard) {
			out.plan.Guards = append(out.plan.Guards, plan.Guard{Name: orderGuard, Text: "it is to wait for " + what})
		}
	}
	if r.Kind == run.Restore {
		return out, nil
	}
	return out, p.fetchObjects(out, in.Declared)
}

// orderGuard stands before a sync by hand of a ward that is to wait for others.
const orderGuard = "order"

// asApplied reads some objects as they were applied last, each from where it was applied from.
func (p *placement) asApplied(out *prepared, refs []object.Ref) error {
	from := map[string][]object.Ref{}
	for _, ref := range refs {
		if s := orElse(p.baselines[ref].Snapshot, p.snapshot); s != "" {
			from[s] = append(from[s], ref)
		}
	}
	for snapshot, refs := range from {
		objects, err := p.k.store.Snapshot(p.ctx, snapshot, refs...)
		if err != nil {
			return fmt.Errorf("read the objects as they were applied: %w", err)
		}
		for _, o := range objects {
			turn, err := o.Object.Turn()
			if err != nil {
				turn.Step = o.Step
			}
			if turn.Task == object.NoTask {
				out.objects[o.Object.Ref], out.order[o.Object.Ref] = o, turn
			}
		}
	}
	return nil
}

// declaredIn lists what a snapshot declares; of the newest declaration, or the one given, that is known already.
func (p *placement) declaredIn(snapshot string, given *declaration) ([]declaredObject, error) {
	for _, d := range []*declaration{given, p.declared} {
		if d != nil && d.snapshot == snapshot {
			return d.objects, nil
		}
	}
	objects, err := p.k.store.Snapshot(p.ctx, snapshot)
	if err != nil {
		return nil, err
	}
	return declaredOf(objects), nil
}

// fetchObjects reads the objects that a plan works with, and no others: what it applies, every task, and definitions.
func (p *placement) fetchObjects(out *prepared, declared []plan.Declared) error {
	refs := out.plan.Refs()
	for _, d := range declared {
		if d.Task != object.NoTask || d.Ref.Kind == "CustomResourceDefinition" {
			refs = append(refs, d.Ref)
		}
	}
	if len(refs) == 0 {
		return nil
	}
	objects, err := p.k.store.Snapshot(p.ctx, out.entry.Snapshot, refs...)
	if err != nil {
		return fmt.Errorf("read the objects of the run: %w", err)
	}
	for _, o := range objects {
		out.objects[o.Object.Ref] = o
	}
	for _, ref := range refs {
		if _, ok := out.objects[ref]; !ok {
			return fmt.Errorf("the record has lost %s, which snapshot %.7s should hold; look at the repository again: vigila look %s", ref, out.entry.Snapshot, p.id)
		}
	}
	return nil
}

// named finds the objects that a person means by Kind/name or namespace/Kind/name. A task is none of them.
func (p *placement) named(names []string, declared []plan.Declared) ([]object.Ref, error) {
	var out []object.Ref
	for _, name := range names {
		meant := func(ref object.Ref) bool {
			return strings.EqualFold(ref.Short(), name) || strings.EqualFold(ref.String(), name)
		}
		found := len(out)
		for _, d := range declared {
			if meant(d.Ref) && d.Task != object.NoTask {
				return nil, fault(Invalid, "%s is a task of %s: it runs with a sync of the whole, never by itself", d.Ref.Short(), p.id)
			}
			if meant(d.Ref) {
				out = append(out, d.Ref)
			}
		}
		for ref := range p.baselines {
			if meant(ref) && !slices.Contains(out, ref) {
				out = append(out, ref)
			}
		}
		if len(out) == found {
			return nil, fault(NotFound, "%s has no %s; its objects: vigila ward show %s", p.id, name, p.id)
		}
	}
	return out, nil
}

// errQuiet tells that everything is being applied again, as keep.reapply asks; that is over in a moment.
var errQuiet = errors.New("everything is being applied again; try it in a moment")

// start begins a run and returns its entry's number; 0 when there is nothing to do.
func (p *placement) start(r Ask) (int, error) {
	if p.run != nil && p.run.ask.quiet {
		return 0, errQuiet
	}
	if p.run != nil {
		return 0, fault(Conflict, "%s is in the middle of %s #%d; wait for it, or stop it: vigila sync %s --stop", p.id, p.run.entry.Kind, p.run.entry.Number, p.id)
	}
	ready, err := p.prepare(r)
	if err != nil {
		return 0, err
	}
	ctx, e, made := p.ctx, ready.entry, ready.plan
	if len(made.Guards) > 0 {
		return 0, guarded(p.id, made.Guards)
	}
	if len(made.Removals) > 0 && (r.Kind == run.Sync || r.Kind == run.Dismantle) && p.unread(p.leaving != nil) != "" {
		return 0, errUnread
	}
	if made.Empty() && r.Kind != run.Rollback && r.Kind != run.Dismantle {
		if r.Kind == run.Sync && r.Retry && len(r.Only) == 0 {
			p.unrejectWhole(r.declared) // the cluster holds it already
		}
		if r.Kind == run.Sync && len(r.Only) == 0 && (p.applied == nil || p.applied.ID != e.Revision.ID) { // nothing differs: the revision is applied already
			return 0, p.setApplied(*e.Revision, e.Snapshot, p.done)
		}
		return 0, nil
	}
	if e, err = p.k.store.AddEntry(ctx, e); err != nil {
		return 0, fmt.Errorf("write the logbook: %w", err)
	}
	abandon := func(err error) (int, error) {
		e.Outcome, e.Reason, e.Ended = string(run.Failed), err.Error(), time.Now()
		return 0, errors.Join(err, p.k.store.EndEntry(ctx, e))
	}
	hold := func(h record.Hold) error {
		h.By, h.At = r.By, time.Now()
		return p.setHold(&h)
	}
	switch {
	case r.Kind == run.Rollback && r.failed == nil:
		err = hold(record.Hold{Reason: orElse(r.Why, fmt.Sprintf("rolled back to #%d", r.ToEntry)), Entry: r.ToEntry})
	case r.Kind == run.Dismantle && p.leaving == nil:
		err = hold(record.Hold{Reason: orElse(r.Why, "dismantled")}) // it would be built up again the next moment
	case r.declared != nil && p.hold == nil && p.declared != nil && p.declared.revision.ID != r.declared.revision.ID && p.ward.Keep.Sync == "auto":
		// It would run forward to its own revision the next moment.
		err = hold(record.Hold{Reason: orElse(r.Why, "synced to "+short(&r.declared.revision)), Entry: e.Number})
	}
	if err != nil {
		return abandon(err)
	}
	a := &activeRun{ask: r, objects: ready.objects, order: ready.order, works: map[object.Ref]bool{}, appliedAt: map[object.Ref]int64{}, before: map[object.Ref]compare.Baseline{},
		added: map[object.Ref]bool{}, left: map[object.Ref][]object.Pointer{}, scaled: map[object.Ref]bool{}, tasks: map[object.Ref]*activeTask{},
		early: map[object.Ref]map[string]any{}, logs: map[object.Ref]bool{}, silent: map[object.Ref]bool{}, doubted: map[object.Ref]bool{}, lost: map[object.Ref]bool{}, slots: make(chan struct{}, p.k.opts.Parallel)}
	var all []object.Object
	for _, o := range a.objects {
		all = append(all, o.Object)
	}
	a.defined = definitions(all)
	// What is about to be applied is written down first, so that after a crash it is known what may be there.
	var intents []compare.Baseline
	for _, ref := range made.Refs() {
		b, had := p.baselines[ref]
		a.doubted[ref] = b.Intent != 0
		if had {
			a.before[ref] = b
		} else {
			b = compare.Baseline{Ref: ref, Version: a.objects[ref].Object.Version}
		}
		b.Intent = e.Number
		intents = append(intents, b)
		a.works[ref] = true
		a.left[ref], a.scaled[ref] = p.left(ref), p.scaler(ref) != ""
		if !had {
			continue
		}
		l := p.known(ref)
		if l == nil {
			continue
		}
		a.added[ref] = len(l.added) > 0 && p.ward.Keep.Additions == "remove"
		if r.Kind == run.Restore {
			back := p.drift(ref)
			if !l.present && l.verified && !l.ended {
				back = []compare.Difference{{}}
			}
			if a.added[ref] {
				back = append(slices.Clone(back), l.added...)
			}
			for _, d := range back {
				a.restored = append(a.restored, record.Restore{Ref: ref, Path: d.Path, Who: d.Who})
			}
		}
	}
	for _, ref := range made.Removed() {
		a.works[ref] = true
	}
	// An object that another ward keeps gets no baseline: it is refused when its turn comes.
	if a.refused, err = p.k.store.Claim(ctx, p.cluster.conf.Name, p.id, e.Number, intents); err != nil {
		return abandon(fmt.Errorf("write down what is about to be applied: %w", err))
	}
	if a.found, err = p.k.store.Found(ctx, p.id); err != nil {
		return abandon(fmt.Errorf("read what was there before: %w", err))
	}
	for _, b := range intents {
		if a.refused[b.Ref] != "" {
			continue
		}
		p.keep(b)
		p.cluster.claim(b.Ref, p)
		p.watchKind(b.Version, b.Ref.Kind)
	}
	tasks := made.Tasks()
	for _, s := range made.OnFail {
		for _, g := range s.Groups {
			tasks = append(tasks, g.Refs...)
		}
	}
	for _, ref := range tasks {
		a.tasks[ref] = &activeTask{}
		p.watchKind(a.objects[ref].Object.Version, ref.Kind)
	}
	a.entry = e
	// The tasks for a failure have the same time again.
	a.ctx, a.cancel = context.WithDeadline(p.ctx, time.Now().Add(2*p.ward.Settle.Within+callGrace))
	a.stopping, a.letGo = context.WithCancel(a.ctx)
	otherwise := run.Stay
	if r.Kind == run.Sync && p.ward.Settle.Otherwise == "rollback" && len(r.Only) == 0 {
		otherwise = run.GoBack
	}
	a.spared = made.Spared
	a.machine = run.New(made, p.ward.Settle.Within, otherwise)
	p.run = a
	p.log.Info("run starts", "kind", e.Kind, "entry", e.Number, "by", e.By, "apply", len(made.Refs()), "tasks", len(tasks), "remove", len(made.Removed()))
	p.feed(run.Started{At: time.Now()})
	return e.Number, nil
}

// callGrace is how long calls that are on their way at the deadline may still take.
const callGrace = 5 * time.Second

// guarded is the no of guards.
func guarded(id string, gs []plan.Guard) *Fault {
	f := fault(Guarded, "%s stops before harm: %s", id, guardText(gs))
	f.Guards = gs
	return f
}

func guardNamesOf(gs []plan.Guard) []string {
	var names []string
	for _, g := range gs {
		names = append(names, g.Name)
	}
	return names
}

func guardText(gs []plan.Guard) string {
	var all, names []string
	for _, g := range gs {
		all, names = append(all, g.Text), append(names, g.Name)
	}
	return strings.Join(all, "; ") + ". To go on: --allow " + strings.Join(names, ",")
}

// other names the other ward that keeps an object in this cluster; empty when none does.
func (p *placement) other(ctx context.Context, ref object.Ref) string {
	w, err := p.k.store.Keeper(ctx, p.cluster.conf.Name, p.id, ref)
	if err != nil {
		p.log.Error("who keeps an object can't be read", "object", ref.String(), "error", err)
	}
	return w
}

// stop ends the run that goes on: calls that are on their way have a little time to be answered.
func (p *placement) stop(reason string) {
	a := p.run
	a.letGo()
	time.AfterFunc(callGrace, a.cancel)
	p.feed(run.Stop{At: time.Now(), Reason: reason})
}

// feed gives the run an event and does what it wants done.
func (p *placement) feed(ev run.Event) {
	a := p.run
	if a == nil {
		return
	}
	p.behind = nil
	actions := a.machine.Step(ev)
	a.giveUp.Store(a.machine.Deadline().UnixNano())
	for _, act := range actions {
		switch act := act.(type) {
		case run.Apply:
			if act.Task != object.NoTask {
				p.runTask(a, act.Ref)
			} else {
				p.apply(a, act.Ref)
			}
		case run.Remove:
			p.remove(a, act.Ref)
		case run.End:
			p.end(a, act)
		}
	}
}

func (p *placement) remove(a *activeRun, ref object.Ref) {
	b, kept := p.baselines[ref]
	task, isTask := p.tasks[ref]
	if isTask && !kept {
		b = compare.Baseline{Ref: ref, Version: task.Version, UID: task.UID}
	}
	l := p.known(ref)
	theirs := l != nil && l.foreign != "" // another service keeps it now: it is let go of, not removed
	note := ""
	if theirs {
		note = "left to " + anotherService(l.foreign)
	}
	if kept && !theirs {
		if heir := p.heir(ref); heir != "" {
			theirs, note = true, "handed over to "+heir
		}
	}
	p.k.spawn(func() {
		err := p.turn(a, func() error {
			if theirs {
				return nil
			}
			ctx, cancel := a.until(a.stopping)
			defer cancel()
			return p.removeOne(ctx, b)
		})
		p.post(func() {
			if p.run != a {
				return
			}
			ev := run.Removed{At: time.Now(), Ref: ref, Note: note, Outside: outside(err)}
			if err == nil && isTask {
				err = p.k.store.RemoveTask(p.ctx, p.id, ref)
			}
			if err == nil {
				err = p.k.store.RemoveBaseline(p.ctx, p.id, ref)
			}
			if err != nil {
				ev.Err, ev.Untried = err.Error(), errors.Is(err, errStopped)
			} else {
				delete(p.tasks, ref)
				delete(p.lives, ref)
				p.drop(ref)
				p.cluster.drop(ref)
				p.lookForLate(b)
			}
			p.feed(ev)
		})
	})
}

// removeOne removes what the ward keeps. Of an object that a crash left in doubt only the ward's own is removed.
func (p *placement) removeOne(ctx context.Context, b compare.Baseline) error {
	if b.UID == "" {
		live, err := p.cluster.conn.Get(ctx, b.Version, b.Ref)
		if errors.Is(err, cluster.ErrGone) || err == nil && object.Label(live, object.WardLabel) != p.ward.Name {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return p.hands.Remove(ctx, b.Version, b.Ref, b.UID)
}

// end closes a run: the entry, what is applied now, what is rejected, and whether to go back.
func (p *placement) end(a *activeRun, end run.End) {
	a.letGo()
	a.cancel()
	p.run, p.behind = nil, nil
	e := &a.entry
	e.Outcome, e.Reason, e.Ended = string(end.Outcome), end.Reason, time.Now()
	e.Objects = a.outcomes()
	if len(a.spared) > 0 && end.Outcome == run.Done {
		e.Reason = "left where it is: " + strings.Join(guardNamesOf(a.spared), ", ") + ", which a guard protects"
	}
	p.settleBaselines(a)
	p.putBack(a)
	p.endTasks(a, end.Outcome)
	p.dropKinds()
	if a.ask.quiet && end.Outcome == run.Done && a.changed == 0 {
		p.failures = 0
		if err := p.k.store.RemoveEntry(p.ctx, p.id, e.Number); err != nil {
			p.log.Error("an entry can't be taken back", "entry", e.Number, "error", err)
		}
		return
	}
	if err := p.k.store.EndEntry(p.ctx, *e); err != nil {
		p.log.Error("the end of a run can't be written", "entry", e.Number, "error", err)
	}
	p.k.metrics.runs.WithLabelValues(e.Kind, e.Outcome).Inc()
	p.log.Info("run ended", "kind", e.Kind, "entry", e.Number, "outcome", e.Outcome, "reason", e.Reason)
	p.notch(*e)
	last := *e
	last.Objects = nil // the logbook has them
	p.last = &last
	switch end.Outcome {
	case run.Done:
		p.wentWell(a)
	case run.Failed:
		p.failures++
		p.lastFailed = time.Now()
		if !end.Blameless && !a.unreachable {
			p.bring = "" // a person has to see to it
		}
		if run.Kind(e.Kind) != run.Sync || a.unreachable || end.Blameless || len(a.ask.Only) > 0 || e.Snapshot == p.snapshot {
			return // what is not the revision's own fault rejects nothing, nor does a part of it, or what the cluster holds already
		}
		d := p.declared
		if a.ask.declared != nil {
			d = a.ask.declared
		}
		declared := ""
		if d != nil && d.snapshot == e.Snapshot {
			declared = p.digest(d)
		}
		p.reject(record.Rejection{Revision: e.Revision.ID, Subject: e.Revision.Subject, Why: e.Reason, By: byVigila, At: time.Now(), Declared: declared})
		if end.GoBack {
			p.goBack(e, e.Reason)
		}
	case run.Stopped:
		again := e.Kind == string(run.Sync) && e.Revision != nil && p.ward.Keep.Sync == "auto" || e.Kind == string(run.Restore) && p.ward.Keep.Drift == "restore"
		p.bring = ""
		if again && p.hold == nil && p.leaving == nil && !a.gaveWay {
			// A person who stops an automatic run does not want it to start again the next moment.
			if err := p.setHold(&record.Hold{By: strings.TrimPrefix(e.Reason, "stopped by "), At: time.Now(), Reason: fmt.Sprintf("stopped #%d", e.Number)}); err != nil {
				p.log.Error("hold can't be written", "error", err)
			}
		}
	}
}

// outcomes is how far the run is, or was, with each object.
func (a *activeRun) outcomes() []record.EntryObject {
	var out []record.EntryObject
	for _, o := range a.machine.Progress() {
		out = append(out, record.EntryObject{Ref: o.Ref, Step: o.Step, Task: string(o.Task), Replaced: o.Replaced, State: string(o.State), Reason: o.Reason,
			Began: o.Began, Ended: o.Ended, Log: a.logs[o.Ref]})
	}
	return out
}

// settleBaselines writes what is known of the objects once a run has ended.
func (p *placement) settleBaselines(a *activeRun) {
	var doubtful []object.Ref
	for _, o := range a.machine.Progress() {
		if b, ok := p.baselines[o.Ref]; ok && (a.silent[o.Ref] || a.lost[o.Ref]) && a.appliedAt[o.Ref] == 0 {
			b.Declared, b.Imprint, b.Size, b.Guards = "", object.Imprint{}, 0, "" // what is there is not known: it is pending
			doubtful = append(doubtful, o.Ref)
			p.keep(b)
		}
	}
	if len(doubtful) > 0 {
		if err := p.k.store.Doubt(p.ctx, p.id, doubtful); err != nil {
			p.log.Error("baselines can't be written", "error", err)
		}
	}
	// Objects that were never made leave nothing behind to keep.
	for _, o := range a.machine.Progress() {
		if b, ok := p.baselines[o.Ref]; ok && b.UID == "" && (o.State == run.Untried || o.State == run.Refused) && !a.unreachable {
			if err := p.k.store.RemoveBaseline(p.ctx, p.id, o.Ref); err == nil {
				p.drop(o.Ref)
				p.cluster.drop(o.Ref)
			}
		}
	}
	// What an earlier run left in doubt, and this one has neither applied nor removed, stays so.
	var still []object.Ref
	for ref, b := range p.baselines {
		if b.Intent == 0 {
			continue
		}
		if a.works[ref] && (a.appliedAt[ref] > 0 || !a.doubted[ref]) {
			b.Intent = 0
			p.keep(b)
		} else {
			still = append(still, ref)
		}
	}
	if err := p.k.store.SettleIntents(p.ctx, p.id, a.entry.Number, still); err != nil {
		p.log.Error("baselines can't be written", "error", err)
	}
	for ref, body := range a.early { // what came while nobody could tell what to hold it against
		if b, kept := p.baselines[ref]; kept {
			p.weighEarly(b, body)
		}
	}
}

// wentWell notes what a run that ended well has left.
func (p *placement) wentWell(a *activeRun) {
	e, now := &a.entry, time.Now()
	p.failures = 0
	for i, r := range a.restored {
		a.restored[i].At = now
		p.contests.Restored(r.Ref, r.Path, r.Who, now)
	}
	if err := p.k.store.AddRestores(p.ctx, p.id, a.restored); err != nil {
		p.log.Error("what was restored can't be written", "error", err)
	}
	switch run.Kind(e.Kind) {
	case run.Sync, run.Rollback:
		whole := len(a.ask.Only) == 0
		if !whole && p.declared != nil && p.declared.snapshot == e.Snapshot {
			whole = p.pending().total() == 0 // the parts make a whole
		}
		if whole {
			tasks := map[string]string{}
			for ref, t := range a.order {
				if t.Task != object.NoTask {
					tasks[ref.Key()] = a.objects[ref].Hash
				}
			}
			if err := p.setApplied(*revisionOr(e.Revision), e.Snapshot, tasks); err != nil {
				p.log.Error("what is applied can't be written", "error", err)
			}
		}
		if e.Kind == string(run.Sync) {
			if whole {
				p.unrejectWhole(a.ask.declared)
			}
			for ref := range a.works {
				p.contests.Forget(ref)
				if err := p.k.store.ForgetRestores(p.ctx, p.id, ref); err != nil {
					p.log.Error("restores can't be forgotten", "error", err)
				}
			}
		}
	case run.Dismantle:
		if err := p.setApplied(record.Revision{}, "", nil); err != nil {
			p.log.Error("that nothing is applied can't be written", "error", err)
		}
		p.applied = nil
	}
	if failed := a.ask.failed; failed != nil && failed.Number > 0 {
		failed.Outcome = string(run.RolledBack)
		if err := p.k.store.SetOutcome(p.ctx, p.id, failed.Number, failed.Outcome); err != nil {
			p.log.Error("an outcome can't be written", "error", err)
		}
		p.notch(*failed)
	}
}

func (p *placement) reject(r record.Rejection) {
	p.rejections[r.Revision] = r
	if err := p.k.store.Reject(p.ctx, p.id, r); err != nil {
		p.log.Error("a rejection can't be written", "error", err)
	}
}

func (p *placement) unreject(revision string) {
	delete(p.rejections, revision)
	if err := p.k.store.Unreject(p.ctx, p.id, revision); err != nil {
		p.log.Error("a rejection can't be lifted", "error", err)
	}
}

// unrejectWhole lifts whatever rejects a declaration: given, or that of now.
func (p *placement) unrejectWhole(d *declaration) {
	if d == nil {
		d = p.declared
	}
	if d == nil {
		return
	}
	for r := p.rejection(d); r != nil; r = p.rejection(d) {
		p.unreject(r.Revision)
	}
}

func revisionOr(r *record.Revision) *record.Revision {
	if r == nil {
		return &record.Revision{}
	}
	return r
}

// goBack starts the rollback to what was applied last.
func (p *placement) goBack(failed *record.Entry, why string) {
	if p.snapshot == "" {
		p.log.Warn("nothing to go back to", "reason", why)
		return
	}
	if failed == nil {
		failed = p.last
	}
	if failed.Kind != string(run.Sync) {
		failed = &record.Entry{}
	}
	r := Ask{Kind: run.Rollback, By: byVigila, Why: why, ToEntry: p.lastGood(), failed: failed}
	if _, err := p.start(r); err != nil {
		p.log.Error("going back did not start", "error", err)
		p.failures++
		p.lastFailed = time.Now()
		reason := err.Error()
		var f *Fault
		if errors.As(err, &f) && len(f.Guards) > 0 {
			reason = "stopped before harm, " + guardText(f.Guards)
		}
		// It is the loudest thing there is, so it has an entry of its own.
		e, werr := p.k.store.AddEntry(p.ctx, record.Entry{Placement: p.id, Kind: string(run.Rollback), Outcome: string(run.Failed), By: byVigila, Why: why, Reason: reason,
			ToEntry: r.ToEntry, Revision: p.applied, Started: time.Now(), Ended: time.Now()})
		if werr != nil {
			p.log.Error("the logbook can't be written", "error", werr)
		}
		p.notch(e)
		p.last = &e
	}
}

// lastGood is the number of the newest entry that left the ward as it was applied last.
func (p *placement) lastGood() int {
	entries, _, err := p.k.store.Entries(p.ctx, record.Find{Placement: p.id})
	if err != nil {
		return 0
	}
	for _, e := range entries {
		if e.Outcome == string(run.Done) && e.Snapshot == p.snapshot {
			return e.Number
		}
	}
	return 0
}

func (p *placement) setApplied(r record.Revision, snapshot string, tasks map[string]string) error {
	p.applied, p.snapshot, p.done, p.behind = &r, snapshot, tasks, nil
	for ref, b := range p.baselines {
		if b.Snapshot != "" {
			b.Snapshot = ""
			p.baselines[ref] = b
		}
	}
	return p.k.store.SetApplied(p.ctx, p.id, r, snapshot, tasks)
}

func (p *placement) setHold(h *record.Hold) error {
	if err := p.k.store.SetHold(p.ctx, p.id, h); err != nil {
		return err
	}
	p.hold = h
	return nil
}

// holdBy stops automatic runs and writes it into the logbook.
func (p *placement) holdBy(by, reason string, until time.Time) error {
	if p.hold != nil {
		return fault(Conflict, "%s is held already, by %s: %s", p.id, p.hold.By, orElse(p.hold.Reason, "no reason given"))
	}
	if err := p.setHold(&record.Hold{By: by, At: time.Now(), Until: until, Reason: reason}); err != nil {
		return err
	}
	return p.write("hold", by, reason)
}

func (p *placement) release(by, reason string) error {
	if p.hold == nil {
		return fault(Conflict, "%s is not held", p.id)
	}
	if err := p.setHold(nil); err != nil {
		return err
	}
	p.failures = 0
	return p.write("release", by, reason)
}

func (p *placement) write(kind, by, why string) error { return p.writeAbout(kind, by, why, p.applied) }

func (p *placement) writeAbout(kind, by, why string, revision *record.Revision) error {
	e, err := p.k.store.AddEntry(p.ctx, record.Entry{Placement: p.id, Kind: kind, Outcome: string(run.Done), By: by, Why: why, Revision: revision, Started: time.Now(), Ended: time.Now()})
	if err == nil {
		p.notch(e)
	}
	return err
}

func splitList(s string) []string {
	var out []string
	for _, x := range strings.Split(s, ",") {
		if x = strings.TrimSpace(x); x != "" {
			out = append(out, x)
		}
	}
	return out
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}
