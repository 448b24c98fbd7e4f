package keeper

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/record"
)

// astray is what the cluster moved.
type astray struct {
	refs       []object.Ref // objects that drifted
	fields     int          // of them; an object that is gone counts as one
	contested  int          // fields that another client takes back each time
	added      []object.Ref // objects that others added to
	additions  int
	restorable []object.Ref // what may be put back now: drifted, and with additions to remove, and not contested
	waiting    []object.Ref // what may be a little later, since the same was put back a moment ago
	at         time.Time    // when the first of those may
}

// astray looks at every kept object that there is something to say of.
func (p *placement) astray() astray {
	var out astray
	now := time.Now()
	p.settle()
	for ref := range p.odd {
		b, l := p.baselines[ref], p.known(ref)
		if l == nil || b.Intent != 0 && !p.ofRun(ref) || b.UID == "" { // what was never made can't have drifted
			continue
		}
		if p.declared != nil && !p.declares(ref) {
			continue // nobody would put it back
		}
		drift := p.drift(ref)
		missing := !l.present && l.verified && !l.ended
		restore := missing || len(drift) > 0
		if missing {
			drift = []compare.Difference{{}}
		}
		if restore {
			out.refs = append(out.refs, ref)
			out.fields += len(drift)
		}
		if l.foreign != "" && l.present { // two services that put it back in turns would never end
			out.contested += len(drift)
			continue
		}
		if len(l.added) > 0 {
			out.added = append(out.added, ref)
			out.additions += len(l.added)
			if p.ward.Keep.Additions == "remove" {
				restore = true
				drift = append(slices.Clone(drift), l.added...)
			}
		}
		fought, at := 0, time.Time{}
		for _, d := range drift {
			if p.contests.Contested(ref, d.Path, d.Who) {
				fought++
			} else if t := p.contests.Wait(ref, d.Path, d.Who, now); t.After(at) {
				at = t
			}
		}
		out.contested += fought
		switch {
		case !restore || fought > 0:
		case at.After(now):
			out.waiting = append(out.waiting, ref)
			if out.at.IsZero() || at.Before(out.at) {
				out.at = at
			}
		default:
			out.restorable = append(out.restorable, ref)
		}
	}
	for _, refs := range [][]object.Ref{out.refs, out.added, out.restorable} {
		slices.SortFunc(refs, object.Ref.Compare)
	}
	return out
}

// ofRun tells whether the run that goes on works on an object.
func (p *placement) ofRun(ref object.Ref) bool {
	return p.run != nil && p.run.works[ref]
}

// behind is what the repository moved, as it was found out last.
type behind struct {
	apply, remove, tasks []object.Ref
	guards               []plan.Guard // that stand in the way of a sync
	count                int          // objects of the ward, declared or kept
	shares               bool         // it wants a namespace that another ward keeps
}

// pending tells what the repository moved: objects to apply, objects to remove, and tasks that are new or changed.
// It is found out anew only after something it depends on has changed.
func (p *placement) pending() *behind {
	if p.behind == nil {
		p.behind = &behind{count: p.count()}
		p.behind.apply, p.behind.remove, p.behind.tasks = p.findPending()
		p.behind.shares = p.declared != nil && slices.ContainsFunc(p.declared.objects, p.shared)
		if p.declared != nil && p.behind.total() > 0 {
			p.behind.guards = p.syncPlan(nil).Guards
		}
	}
	return p.behind
}

func (b *behind) total() int { return len(b.apply) + len(b.remove) + len(b.tasks) }

// count is how many objects the ward has.
func (p *placement) count() int {
	n := len(p.baselines)
	if p.declared == nil {
		return n
	}
	for _, o := range p.declared.objects {
		if _, kept := p.baselines[o.Ref]; !kept && !p.shared(o) {
			n++
		}
	}
	return n + len(p.staleTasks(p.declared))
}

func (p *placement) findPending() (apply, remove, tasks []object.Ref) {
	if p.declared == nil {
		return nil, nil, nil
	}
	apply, remove, tasks = p.pendingOf(p.declared, p.knownNow())
	return apply, append(remove, p.staleTasks(p.declared)...), tasks
}

// knownNow are the baselines as they stand in the middle of a run.
func (p *placement) knownNow() map[object.Ref]compare.Baseline {
	known := p.baselines
	if p.run != nil { // what the run has not applied yet is as it was, what it has applied is done
		known = maps.Clone(p.baselines)
		for ref := range p.run.works {
			b, kept := known[ref]
			if !kept || b.Intent == 0 {
				continue
			}
			before, had := p.run.before[ref]
			switch {
			case p.run.appliedAt[ref] > 0:
				b.Intent = 0
			case had:
				b = before
			}
			known[ref] = b
		}
	}
	return known
}

// pendingOf is what of a declaration differs from what is known.
func (p *placement) pendingOf(d *declaration, known map[object.Ref]compare.Baseline) (apply, remove, tasks []object.Ref) {
	items := make([]compare.Item, 0, len(d.objects))
	isTask := map[object.Ref]bool{}
	for _, o := range d.objects {
		if p.shared(o) {
			continue
		}
		if o.Task == object.NoTask {
			items = append(items, compare.Item{Ref: o.Ref, Hash: p.hashNow(o.Ref, o.Hash)})
			continue
		}
		isTask[o.Ref] = true
		if p.done[o.Ref.Key()] != o.Hash {
			tasks = append(tasks, o.Ref)
		}
	}
	apply, remove = compare.Pending(items, known)
	remove = slices.DeleteFunc(remove, func(ref object.Ref) bool { return isTask[ref] })
	if !p.ward.Keep.Prune {
		remove = nil
	}
	if len(remove) > 0 { // what a run may never remove is not waited for
		keep := p.noPrune()
		remove = slices.DeleteFunc(remove, func(ref object.Ref) bool { return keep[ref] })
	}
	return apply, remove, tasks
}

// shared tells whether a declared object is a namespace that the ward only wants to be there, and another ward keeps it.
func (p *placement) shared(o declaredObject) bool {
	if !o.made {
		return false
	}
	other := p.cluster.keeper(o.Ref)
	return other != nil && other != p
}

// staleTasks lists objects of tasks that are in the cluster, and declared no more.
func (p *placement) staleTasks(d *declaration) []object.Ref {
	var out []object.Ref
	for ref := range p.tasks {
		if d.find(ref) == nil {
			out = append(out, ref)
		}
	}
	slices.SortFunc(out, object.Ref.Compare)
	return out
}

// scaledMark stands before the hash of an object that was applied without its replicas, because an autoscaler has
// them: once the autoscaler is gone, the object is applied again.
const scaledMark = "scaled "

// hashNow is the hash to hold against the baseline's.
func (p *placement) hashNow(ref object.Ref, hash string) string {
	if p.scaler(ref) != "" && p.baselines[ref].Declared != hash { // one that came later is no reason to apply again
		return scaledMark + hash
	}
	return hash
}

// syncPlan is the plan of a sync as it would run now.
func (p *placement) syncPlan(allow []string) plan.Plan {
	return plan.Make(plan.Input{Declared: p.declaredNow(p.declared.objects), Baselines: p.baselines, Drifted: p.astray().restorable,
		Prune: p.ward.Keep.Prune, NoPrune: p.noPrune(), Tasks: tasksWhen(len(p.pending().tasks) > 0), Stale: p.staleTasks(p.declared), Unbound: p.unbound(), Allow: allow})
}

// unbound lists the claims that were never bound.
func (p *placement) unbound() map[object.Ref]bool {
	out := map[object.Ref]bool{}
	for ref, l := range p.lives {
		if l.unbound && l.present {
			out[ref] = true
		}
	}
	return out
}

// tasksWhen says when a sync runs its tasks: always when one of them is new, else along with other work.
func tasksWhen(changed bool) plan.Tasks {
	if changed {
		return plan.Always
	}
	return plan.WithWork
}

// declaredNow is what a plan needs of declared objects.
func (p *placement) declaredNow(objects []declaredObject) []plan.Declared {
	out := make([]plan.Declared, 0, len(objects))
	for _, o := range objects {
		if p.shared(o) {
			continue
		}
		o.Declared.Hash = p.hashNow(o.Ref, o.Hash)
		out = append(out, o.Declared)
	}
	return out
}

// noPrune lists what a run may never remove: as the objects said when they were applied last.
func (p *placement) noPrune() map[object.Ref]bool {
	out := map[object.Ref]bool{}
	for ref, b := range p.baselines {
		if b.Guards != "" && slices.Contains(splitList(b.Guards), "no-prune") {
			out[ref] = true
		}
	}
	return out
}

// evaluate looks at where the ward stands, tells whoever listens, and starts what should run by itself.
func (p *placement) evaluate() {
	if p.ctx.Err() != nil {
		return
	}
	if p.broken != "" {
		p.timer.Reset(time.Hour)
		p.publish()
		return
	}
	if p.hold != nil && !p.hold.Until.IsZero() && time.Now().After(p.hold.Until) {
		if err := p.release(byVigila, "the end of the hold was reached"); err != nil {
			p.log.Error("hold can't be released", "error", err)
		}
	}
	if p.holdsAlready() {
		if err := p.setApplied(p.declared.revision, p.declared.snapshot, p.done); err != nil {
			p.log.Error("what is applied can't be written", "error", err)
		}
	}
	sought := p.seek()
	p.forgetGone()
	if p.run == nil && p.ward.Keep.Drift == "restore" {
		p.publish() // drift that is restored at once is history all the same
	}
	again := p.decide()
	noting := p.noteDrift()
	wait := time.Hour
	if late := p.nextView(); p.run != nil && p.View().Run != nil && late > 0 { // the progress of a big run is not drawn at each of its steps
		wait = late
	} else {
		p.publish()
	}
	if p.run != nil {
		wait = min(wait, time.Until(p.run.machine.Deadline()))
	} else if !again.IsZero() {
		wait = time.Until(again)
	}
	for _, w := range []time.Duration{sought, noting} {
		if w > 0 {
			wait = min(wait, w)
		}
	}
	if p.hold != nil && !p.hold.Until.IsZero() {
		wait = min(wait, time.Until(p.hold.Until))
	}
	p.timer.Reset(max(wait, 10*time.Millisecond))
}

// holdsAlready tells whether the cluster holds the newest revision without a run: a commit that changes no object, or,
// for a ward that syncs by itself, one that only leaves objects that are kept.
func (p *placement) holdsAlready() bool {
	d := p.declared
	if p.run != nil || d == nil || d.waits != "" || p.applied == nil || d.revision.ID == p.applied.ID {
		return false
	}
	if d.snapshot == p.snapshot {
		return true
	}
	if p.leaving != nil || p.hold != nil || p.rejected() != "" || !p.repository.Known || !p.clusterKnown().Known {
		return false
	}
	for ref := range p.odd {
		if l := p.known(ref); l == nil || l.state().Word != health.Ready {
			return false // what was never seen ready is nothing to go back to
		}
	}
	return p.pending().total() == 0
}

func (p *placement) decide() time.Time {
	if p.run != nil {
		p.giveWay()
		return time.Time{}
	}
	if p.leaving != nil {
		return p.decideLeaving()
	}
	if p.bring != "" && (p.repository.Known && p.pending().total() == 0 || p.hold != nil || p.rejected() != "" || len(p.pending().guards) > 0) {
		p.bring = "" // it is up, or a person has to see to it
	}
	behind, astray := p.pending(), p.astray()
	s := run.Situation{Now: time.Now(), AutoSync: p.ward.Keep.Sync == "auto" || p.bring != "", RestoreDrift: p.ward.Keep.Drift == "restore",
		Held: p.hold != nil, Blind: !p.clusterKnown().Known, RepoBlind: !p.repository.Known, Pending: behind.total(), Guarded: len(behind.guards) > 0, Restorable: len(astray.restorable) + len(astray.waiting),
		Rejected: p.rejected(), LastFailed: p.lastFailed, FailuresInRow: p.failures}
	if s.Pending > 0 {
		s.WaitsFor, _ = p.waits()
	}
	if len(astray.restorable) == 0 {
		s.RestoreAt = astray.at
	}
	if p.ward.Keep.Reapply && p.snapshot != "" {
		if p.againAt.IsZero() {
			p.againAt = s.Now.Add(p.ward.Keep.Every)
		}
		s.AgainAt = p.againAt
	}
	kind, _, again := run.Next(s)
	var err error
	switch kind {
	case run.Sync:
		_, err = p.start(Ask{Kind: run.Sync, By: byVigila, Why: p.syncWhy()})
		if p.bring != "" && err != nil {
			p.bring = "" // a person has to see to it
		}
	case run.Restore:
		_, err = p.start(Ask{Kind: run.Restore, By: byVigila, Why: p.driftWhy(astray.restorable)})
	case run.Again:
		p.againAt = s.Now.Add(p.ward.Keep.Every)
		_, err = p.start(Ask{Kind: run.Restore, By: byVigila, Why: "applied again, as keep.reapply asks", Reapply: true, quiet: true})
	}
	if errors.Is(err, errUnread) {
		return time.Now().Add(unreadPause)
	}
	if err != nil {
		p.failures++
		p.lastFailed = time.Now()
		p.log.Warn("automatic run did not start", "kind", kind, "error", err)
		return time.Now().Add(run.Backoff(p.failures))
	}
	return again
}

// giveWay stops an automatic sync when a newer revision has come and the ward wants that to take over.
func (p *placement) giveWay() {
	a := p.run
	if p.ward.Keep.Newer != "replace" || a.gaveWay || a.entry.Kind != string(run.Sync) || a.entry.By != byVigila || p.declared == nil || p.declared.waits != "" || !p.repository.Known {
		return
	}
	if now := p.declared.revision; now.ID != a.entry.Revision.ID && p.rejected() == "" {
		a.gaveWay = true
		p.stop(fmt.Sprintf("%s takes over", short(&now)))
	}
}

func (p *placement) syncWhy() string {
	if p.bring != "" {
		return "brought up by " + p.bring
	}
	if p.applied == nil {
		return "first sync"
	}
	return "new revision"
}

func (p *placement) rejected() string {
	if p.declared == nil {
		return ""
	}
	if r := p.rejection(p.declared); r != nil {
		return r.Why
	}
	return ""
}

// rejection is what rejects a declaration: a person's word about its revision, or that the same was declared before and
// failed. nil when nothing does.
func (p *placement) rejection(d *declaration) *record.Rejection {
	if r, ok := p.rejections[d.revision.ID]; ok && (r.Declared == "" || r.Declared == p.digest(d)) {
		return &r
	}
	for _, r := range p.rejections {
		if r.Declared != "" && r.Declared == p.digest(d) {
			return &r
		}
	}
	return nil
}

// digest names what is declared: the objects, and what the ward file says about how they are brought in.
func (p *placement) digest(d *declaration) string {
	w := p.ward
	return object.Hash([]any{d.snapshot, fmt.Sprint(w.From, w.Into, w.Settle, w.Keep.Prune, w.Leave)})
}

// waits names what a sync waits for: wards in after, a cluster of the spread, another ward that keeps one of the
// objects, somebody who has not read the same commit yet. loud tells that it needs a person.
func (p *placement) waits() (what string, loud bool) {
	if what := p.waitsFor(); what != "" {
		return what, false
	}
	for _, ref := range p.pending().apply { // two services that take it from each other in turns would never end
		if l := p.known(ref); l != nil && l.present && l.foreign != "" {
			return fmt.Sprintf("%s, which has taken %s over", anotherService(l.foreign), ref.Short()), true
		}
	}
	if what, loud := p.waitsForKeeper(p.pending().apply); what != "" {
		return what, loud
	}
	if len(p.pending().remove) > 0 {
		return p.unread(p.leaving != nil), false
	}
	return "", false
}

// waitsFor names the first ward of `after` that is not in step and ready in the same cluster.
func (p *placement) waitsFor() string {
	for _, name := range p.ward.After {
		id := name + "@" + p.cluster.conf.Name
		p.k.mu.RLock()
		other := p.k.wards[id]
		p.k.mu.RUnlock()
		if other == nil {
			return id + ", which is not known"
		}
		if v := other.View(); v.Standing != compare.InStep || v.Health.Word != health.Ready {
			return fmt.Sprintf("%s, which is %s and %s", id, v.Standing, v.Health.Word)
		}
	}
	return p.waitsForWave()
}

// waitsForWave names the cluster that a new revision has to reach before this one.
func (p *placement) waitsForWave() string {
	if !p.ward.Spread.Waves || p.declared == nil {
		return ""
	}
	p.k.mu.RLock()
	others := map[string]*placement{}
	for _, x := range p.k.wards {
		if x.ward.Name == p.ward.Name && x != p {
			others[x.cluster.conf.Name] = x
		}
	}
	p.k.mu.RUnlock()
	all := slices.Sorted(maps.Keys(others))
	for _, c := range p.ward.Spread.Before(p.cluster.conf.Name, all) {
		other := others[c]
		v := other.View()
		late := other.ward.From.Ref == p.ward.From.Ref && v.Head != p.declared.head
		switch {
		case v.Rejected != "":
			return fmt.Sprintf("%s, where the revision failed", other.id)
		case late && v.Standing == compare.InStep:
			return fmt.Sprintf("%s, which has not seen the revision yet", other.id)
		case v.Standing != compare.InStep || v.Health.Word != health.Ready || v.Run != nil:
			return fmt.Sprintf("%s, which is %s and %s", other.id, v.Standing, v.Health.Word)
		}
	}
	return ""
}
