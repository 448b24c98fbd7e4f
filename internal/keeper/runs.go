package keeper

import (
	"context"
	"errors"
	"fmt"
	"strings"
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

// startRun says which run should start.
type startRun struct {
	kind    run.Kind
	by      string
	why     string
	toEntry int
	allow   []string
	// of a rollback that Vigila starts by itself
	failed *record.Entry
}

// activeRun is a run that goes on.
type activeRun struct {
	entry       record.Entry
	machine     *run.Machine
	objects     map[object.Ref]record.SnapshotObject
	works       map[object.Ref]bool
	appliedAt   map[object.Ref]int64 // resourceVersion of the answer
	before      map[object.Ref]compare.Baseline
	ctx         context.Context
	cancel      context.CancelFunc
	removals    context.Context // ends when a person stops the run: waiting for a finalizer may take for ever
	letGo       context.CancelFunc
	slots       chan struct{}
	unreachable bool
	failed      *record.Entry    // the sync whose failure this rollback mends
	restored    []record.Restore // what a restore puts back
}

// start begins a run and returns its entry's number; 0 when there is nothing to do.
func (p *placement) start(r startRun) (int, error) {
	if p.run != nil {
		return 0, fault(Conflict, "%s is in the middle of %s #%d; wait for it, or stop it: vigila sync %s --stop", p.id, p.run.entry.Kind, p.run.entry.Number, p.id)
	}
	if p.cluster.conn == nil {
		return 0, fault(Unreachable, "%v", p.cluster.err)
	}
	ctx := p.ctx
	in := plan.Input{Baselines: p.baselines, Prune: p.ward.Keep.Prune, NoPrune: p.noPrune(), Allow: r.allow}
	e := record.Entry{Placement: p.id, Kind: string(r.kind), Outcome: string(run.Running), By: r.by, Why: r.why, ToEntry: r.toEntry, Started: time.Now()}
	_, _, _, restorable := p.driftedRefs()
	switch {
	case r.by != byVigila: // a person decides about contested fields as well
		restorable, _, _, _ = p.driftedRefs()
	case p.ward.Keep.Drift != "restore": // drift that is only reported is left to a person, whatever else runs
		restorable = nil
	}
	in.Drifted = restorable
	switch r.kind {
	case run.Sync:
		if p.declared == nil {
			return 0, fault(Conflict, "%s can't be synced: %s", p.id, orElse(p.repository.Problem, "the repository has not been read yet"))
		}
		if p.declared.waits != "" {
			return 0, fault(Conflict, "%s has nothing to sync: it %s", p.id, p.declared.waits)
		}
		if !p.repository.Known {
			return 0, fault(Conflict, "%s can't be synced, what it declares is not known now: %s", p.id, p.repository.Problem)
		}
		rev := p.declared.revision
		e.Revision, e.Snapshot = &rev, p.declared.snapshot
		if p.snapshot != p.declared.snapshot {
			// It never ended done, perhaps it was stopped: what is there but not ready is applied again and waited
			// for. Only what was seen ready becomes what a ward goes back to.
			for _, o := range p.declared.objects {
				if l := p.lives[o.Ref]; l != nil && l.present && l.state().Word != health.Ready {
					in.Drifted = append(in.Drifted, o.Ref)
				}
			}
		}
	case run.Restore:
		if p.snapshot == "" {
			return 0, fault(Conflict, "%s has never been synced, so there is nothing to restore", p.id)
		}
		e.Revision, e.Snapshot = p.applied, p.snapshot
		in.OnlyDrift = true
	case run.Rollback:
		if r.failed == nil {
			to, err := p.k.store.Entry(ctx, p.id, r.toEntry)
			if errors.Is(err, record.ErrNone) {
				return 0, fault(NotFound, noEntry, p.id, r.toEntry, p.id)
			}
			if err != nil {
				return 0, err
			}
			if to.Snapshot == "" {
				return 0, fault(Invalid, "entry #%d of %s is a %s and keeps no objects; choose a run (vigila logbook %s)", to.Number, p.id, to.Kind, p.id)
			}
			e.Revision, e.Snapshot = to.Revision, to.Snapshot
		} else {
			e.Revision, e.Snapshot = p.applied, p.snapshot
		}
	case run.Dismantle:
		in.Prune = true
	default:
		return 0, fault(Invalid, "there is no run of kind %q", r.kind)
	}
	a := &activeRun{objects: map[object.Ref]record.SnapshotObject{}, works: map[object.Ref]bool{}, appliedAt: map[object.Ref]int64{},
		before: map[object.Ref]compare.Baseline{}, slots: make(chan struct{}, p.k.opts.Parallel), failed: r.failed}
	if e.Snapshot != "" {
		objects, err := p.k.store.Snapshot(ctx, e.Snapshot)
		if err != nil {
			return 0, fmt.Errorf("read the objects of the run: %w", err)
		}
		for _, o := range objects {
			a.objects[o.Object.Ref] = o
			in.Declared = append(in.Declared, plan.Declared{Ref: o.Object.Ref, Hash: o.Hash, Step: o.Step})
		}
	}
	made := plan.Make(in)
	if len(made.Guards) > 0 {
		f := fault(Guarded, "%s stops before harm: %s", p.id, guardText(made.Guards))
		f.Guards = made.Guards
		return 0, f
	}
	if made.Empty() && r.kind != run.Rollback && r.kind != run.Dismantle {
		if r.kind == run.Sync && (p.applied == nil || p.applied.ID != e.Revision.ID) { // nothing differs: the revision is applied already
			return 0, p.setApplied(*e.Revision, e.Snapshot)
		}
		return 0, nil
	}
	e, err := p.k.store.AddEntry(ctx, e)
	if err != nil {
		return 0, fmt.Errorf("write the logbook: %w", err)
	}
	abandon := func(err error) (int, error) {
		e.Outcome, e.Reason, e.Ended = string(run.Failed), err.Error(), time.Now()
		return 0, errors.Join(err, p.k.store.EndEntry(ctx, e))
	}
	if r.kind == run.Rollback && r.failed == nil {
		if err := p.setHold(&record.Hold{By: r.by, At: time.Now(), Reason: orElse(r.why, fmt.Sprintf("rolled back to #%d", r.toEntry)), Entry: r.toEntry}); err != nil {
			return abandon(err)
		}
	}
	// What is about to be applied is written down first, so that after a crash it is known what may be there.
	var intents []compare.Baseline
	for _, ref := range made.Refs() {
		b, had := p.baselines[ref]
		if had {
			a.before[ref] = b
		} else {
			b = compare.Baseline{Ref: ref, Version: a.objects[ref].Object.Version, At: e.Started}
		}
		b.Intent = e.Number
		intents = append(intents, b)
		a.works[ref] = true
		if had && r.kind == run.Restore {
			for _, d := range p.live(ref).drift {
				a.restored = append(a.restored, record.Restore{Ref: ref, Path: d.Path, Who: d.Who})
			}
		}
	}
	for _, ref := range made.Removed() {
		a.works[ref] = true
	}
	// An object that another ward keeps gets no baseline: it is refused when its turn comes.
	if intents, err = p.k.store.Claim(ctx, p.cluster.conf.Name, p.id, intents); err != nil {
		return abandon(fmt.Errorf("write down what is about to be applied: %w", err))
	}
	for _, b := range intents {
		p.baselines[b.Ref] = b
		p.cluster.claim(b.Ref, p.id)
		p.watchKind(b.Version, b.Ref.Kind)
	}
	a.entry = e
	a.ctx, a.cancel = context.WithDeadline(p.ctx, time.Now().Add(p.ward.Settle.Within+callGrace))
	a.removals, a.letGo = context.WithCancel(a.ctx)
	otherwise := run.Stay
	if r.kind == run.Sync && p.ward.Settle.Otherwise == "rollback" {
		otherwise = run.GoBack
	}
	a.machine = run.New(made, p.ward.Settle.Within, otherwise)
	p.run = a
	p.log.Info("run starts", "kind", e.Kind, "entry", e.Number, "by", e.By, "apply", len(made.Refs()), "remove", len(made.Removed()))
	p.feed(run.Started{At: time.Now()})
	return e.Number, nil
}

// callGrace is how long calls that are on their way at the deadline may still take.
const callGrace = 5 * time.Second

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

// feed gives the run an event and does what it wants done.
func (p *placement) feed(ev run.Event) {
	a := p.run
	if a == nil {
		return
	}
	for _, act := range a.machine.Step(ev) {
		switch act := act.(type) {
		case run.Apply:
			p.apply(a, act.Ref)
		case run.Remove:
			p.remove(a, act.Ref)
		case run.End:
			p.end(a, act)
		}
	}
}

func (p *placement) apply(a *activeRun, ref object.Ref) {
	o := a.objects[ref]
	p.k.spawn(func() {
		a.slots <- struct{}{}
		answer, err := p.applyOne(a.ctx, o.Object)
		<-a.slots
		p.post(func() {
			if p.run != a {
				return
			}
			ev := run.Applied{At: time.Now(), Ref: ref}
			if err != nil {
				var gone *cluster.UnreachableError
				a.unreachable = a.unreachable || errors.As(err, &gone)
				ev.Err = err.Error()
				p.feed(ev)
				return
			}
			b := compare.NewBaseline(ref, o.Hash, answer, p.ward.Left(ref), p.k.store.Vault().Digest, time.Now())
			b.Intent = a.entry.Number // until the run has ended: after a crash it is applied again and waited for
			if err := p.k.store.PutBaselines(p.ctx, p.id, []compare.Baseline{b}); err != nil {
				ev.Err = "applied, but it can't be written down: " + err.Error()
				p.feed(ev)
				return
			}
			p.baselines[ref] = b
			a.appliedAt[ref] = b.Revision
			l := p.live(ref)
			l.drift, l.cause = nil, nil
			if b.Revision >= l.revision || l.uid != b.UID {
				l.present, l.watched, l.revision, l.uid = true, true, b.Revision, b.UID
				l.health = health.Of(ref.Group, ref.Kind, answer)
				if l.health.Word != health.Ready {
					p.lookBelow(ref, 500*time.Millisecond)
				}
			}
			ev.Health = l.state()
			p.feed(ev)
		})
	})
}

// applyOne applies an object, again and again while the cluster does not answer, until the run's time is over.
func (p *placement) applyOne(ctx context.Context, o object.Object) (map[string]any, error) {
	if w := p.other(ctx, o.Ref); w != "" {
		return nil, fmt.Errorf("ward %s keeps it already; one object can belong to one ward", w)
	}
	for wait := 200 * time.Millisecond; ; wait = min(wait*2, 5*time.Second) {
		prepared, _, err := p.prepare(ctx, o)
		var answer map[string]any
		if err == nil {
			answer, err = p.cluster.conn.Apply(ctx, prepared, false)
		}
		if err == nil || !cluster.Transient(err) || ctx.Err() != nil {
			return answer, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(wait):
		}
	}
}

// prepare makes the body to apply: fields that are left to others are taken out where another client owns them,
// and hold the live value where Vigila alone does. live is nil unless it had to be read.
func (p *placement) prepare(ctx context.Context, o object.Object) (object.Object, map[string]any, error) {
	left := p.ward.Left(o.Ref)
	if len(left) == 0 {
		return o, nil, nil
	}
	live, err := p.cluster.conn.Get(ctx, o.Version, o.Ref)
	if errors.Is(err, cluster.ErrGone) || p.cluster.conn.UnknownKind(err) {
		return o, nil, nil // a new object starts with the declared values
	}
	if err != nil {
		return o, nil, err
	}
	o.Body = object.Clone(o.Body)
	owners := object.Owners(live)
	for _, l := range left {
		v, there := l.Lookup(live)
		others := false
		for _, owner := range owners {
			if owner.Manager == object.Manager && owner.Operation == "Apply" || owner.Set == nil {
				continue
			}
			owner.Set.Iterate(func(path fieldpath.Path) { others = others || l.Covers(path) })
		}
		l.Set(o.Body, object.Clone(v), there && !others)
	}
	return o, live, nil
}

func (p *placement) remove(a *activeRun, ref object.Ref) {
	b := p.baselines[ref]
	p.k.spawn(func() {
		a.slots <- struct{}{}
		err := p.removeOne(a.removals, b)
		<-a.slots
		p.post(func() {
			if p.run != a {
				return
			}
			ev := run.Removed{At: time.Now(), Ref: ref}
			if err == nil {
				err = p.k.store.RemoveBaseline(p.ctx, p.id, ref)
			}
			if err != nil {
				ev.Err = err.Error()
			} else {
				delete(p.baselines, ref)
				delete(p.lives, ref)
				p.cluster.drop(ref)
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
	return p.cluster.conn.Remove(ctx, b.Version, b.Ref, b.UID)
}

// end closes a run: the entry, what is applied now, what is rejected, and whether to go back.
func (p *placement) end(a *activeRun, end run.End) {
	a.letGo()
	a.cancel()
	p.run = nil
	e := &a.entry
	e.Outcome, e.Reason, e.Ended = string(end.Outcome), end.Reason, time.Now()
	var untouched []compare.Baseline
	for _, o := range a.machine.Progress() {
		e.Objects = append(e.Objects, record.EntryObject{Ref: o.Ref, Step: o.Step, State: string(o.State), Reason: o.Reason})
		if b, ok := a.before[o.Ref]; ok && (o.State == run.Untried || o.State == run.Refused) && p.baselines[o.Ref].Intent != 0 {
			untouched = append(untouched, b) // never applied: what was known of it still holds
		}
	}
	if err := p.k.store.PutBaselines(p.ctx, p.id, untouched); err != nil {
		p.log.Error("baselines can't be written", "error", err)
	}
	for _, b := range untouched {
		p.baselines[b.Ref] = b
	}
	// Objects that were never made leave nothing behind to keep.
	for _, o := range a.machine.Progress() {
		if b, ok := p.baselines[o.Ref]; ok && b.UID == "" && (o.State == run.Untried || o.State == run.Refused) && !a.unreachable {
			if err := p.k.store.RemoveBaseline(p.ctx, p.id, o.Ref); err == nil {
				delete(p.baselines, o.Ref)
				p.cluster.drop(o.Ref)
			}
		}
	}
	if err := p.k.store.ClearIntents(p.ctx, p.id); err != nil {
		p.log.Error("baselines can't be written", "error", err)
	}
	for ref, b := range p.baselines {
		b.Intent = 0
		p.baselines[ref] = b
	}
	p.dropKinds()
	if err := p.k.store.EndEntry(p.ctx, *e); err != nil {
		p.log.Error("the end of a run can't be written", "entry", e.Number, "error", err)
	}
	p.k.metrics.runs.WithLabelValues(e.Kind, e.Outcome).Inc()
	p.log.Info("run ended", "kind", e.Kind, "entry", e.Number, "outcome", e.Outcome, "reason", e.Reason)
	p.notch(*e)
	p.last = e
	now := time.Now()
	switch end.Outcome {
	case run.Done:
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
			if err := p.setApplied(*revisionOr(e.Revision), e.Snapshot); err != nil {
				p.log.Error("what is applied can't be written", "error", err)
			}
			if e.Kind == string(run.Sync) {
				if p.rejections[e.Revision.ID] != "" {
					delete(p.rejections, e.Revision.ID)
					if err := p.k.store.Unreject(p.ctx, p.id, e.Revision.ID); err != nil {
						p.log.Error("a rejection can't be lifted", "error", err)
					}
				}
				for ref := range a.works {
					p.contests.Forget(ref)
					if err := p.k.store.ForgetRestores(p.ctx, p.id, ref); err != nil {
						p.log.Error("restores can't be forgotten", "error", err)
					}
				}
			}
		case run.Dismantle:
			p.applied, p.snapshot = nil, ""
		}
		if a.failed != nil && a.failed.Number > 0 {
			a.failed.Outcome = string(run.RolledBack)
			if err := p.k.store.SetOutcome(p.ctx, p.id, a.failed.Number, a.failed.Outcome); err != nil {
				p.log.Error("an outcome can't be written", "error", err)
			}
			p.notch(*a.failed)
		}
	case run.Failed:
		p.failures++
		p.lastFailed = now
		if run.Kind(e.Kind) != run.Sync || a.unreachable {
			return // the cluster's silence says nothing about the revision
		}
		p.rejections[e.Revision.ID] = e.Reason
		if err := p.k.store.Reject(p.ctx, p.id, e.Revision.ID, e.Reason, byVigila); err != nil {
			p.log.Error("a rejection can't be written", "error", err)
		}
		if end.GoBack {
			p.goBack(e, e.Reason)
		}
	case run.Stopped:
		if e.Kind == string(run.Sync) && e.Revision != nil && p.hold == nil && p.ward.Keep.Sync == "auto" {
			// A person who stops an automatic run does not want it to start again the next moment.
			if err := p.setHold(&record.Hold{By: strings.TrimPrefix(e.Reason, "stopped by "), At: now, Reason: fmt.Sprintf("stopped #%d", e.Number)}); err != nil {
				p.log.Error("hold can't be written", "error", err)
			}
		}
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
	if _, err := p.start(startRun{kind: run.Rollback, by: byVigila, why: why, toEntry: p.lastGood(), failed: failed, allow: []string{"mass-removal"}}); err != nil {
		p.log.Error("going back did not start", "error", err)
		p.failures++
		p.lastFailed = time.Now()
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

func (p *placement) setApplied(r record.Revision, snapshot string) error {
	p.applied, p.snapshot = &r, snapshot
	return p.k.store.SetApplied(p.ctx, p.id, r, snapshot)
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

func (p *placement) write(kind, by, why string) error {
	e, err := p.k.store.AddEntry(p.ctx, record.Entry{Placement: p.id, Kind: kind, Outcome: string(run.Done), By: by, Why: why, Revision: p.applied, Started: time.Now(), Ended: time.Now()})
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
