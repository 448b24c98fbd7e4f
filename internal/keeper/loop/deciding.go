package loop

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
)

func (p *Placement) astray() index.Astray { return p.index.Astray(p.at) }

// behind is what the repository moved, as it was found out last.
type behind struct {
	of stamp
	*declared.Behind
	guards []plan.Guard // that stand in the way of a sync
}

// stamp tells of what was worked out whether it still holds. It is made of all that follows from, so nobody has to remember to say that
// something is another.
type stamp struct {
	index    uint64 // its moves
	tasks    uint64 // theirs
	declared *declared.Declaration
	applied  *logbook.Revision // as a whole; with it come the snapshot and the tasks that it ran
	run      *activeRun
	fed      int    // what the run was told
	around   uint64 // what others let go of, and autoscalers that came or went
	broken   int    // of what is declared so much breaks rules that refuse
}

func (p *Placement) stamp() stamp {
	s := stamp{index: p.index.Moves(), tasks: p.tasks.moves, declared: p.declared, applied: p.will.Applied, run: p.run, around: p.around, broken: broken(p.declared, p.at)}
	if p.run != nil {
		s.fed = p.run.fed
	}
	return s
}

// pending tells what the repository moved. It is found out anew only after something it depends on has changed.
func (p *Placement) pending() *behind {
	if now := p.stamp(); p.behind == nil || p.behind.of != now {
		s := p.side()
		p.behind = &behind{of: now, Behind: p.declared.Pending(s)}
		if p.behind.Total() > 0 {
			p.behind.guards = p.declared.Plan(s, p.behind.Behind, p.astray().Restorable, nil).Guards
			if g := p.guardCanary(p.behind.Apply); g != nil {
				p.behind.guards = append(p.behind.guards, *g)
			}
			p.behind.guards = append(p.behind.guards, p.guardSecrets(append(slices.Clone(p.behind.Apply), p.behind.Tasks...))...)
			p.behind.guards = append(p.behind.guards, p.guardRules(p.declared, append(slices.Clone(p.behind.Apply), p.behind.Tasks...))...)
		}
	}
	return p.behind
}

// side is what a declaration is held against.
func (p *Placement) side() declared.Side {
	return declared.Side{Index: p.index, Known: p.knownNow(), Done: p.will.Done, Tasks: slices.SortedFunc(maps.Keys(p.tasks.all), object.Ref.Compare), Prune: p.Ward.Keep.Prune, Passing: p.passing, Shared: p.shared, Scaler: p.Scaler, Secrets: p.secrets}
}

// knownNow are the baselines as they stand in the middle of a run: what it has not applied yet is as it was, what it has applied is
// done.
func (p *Placement) knownNow() map[object.Ref]compare.Baseline {
	if p.run == nil {
		return p.index.Baselines()
	}
	known := maps.Clone(p.index.Baselines())
	for ref, x := range p.run.pieces {
		b, kept := known[ref]
		if p.run.carries(ref) { // what a canary moves or makes is not for the repository to tell
			switch {
			case p.run.beside.made[ref]:
				delete(known, ref)
			case kept && (strings.HasPrefix(b.Declared, canary.Mark) || b.Intent != 0):
				b.Declared, b.Intent = p.hashNow(p.run.beside.was[ref]), 0
				known[ref] = b
			}
			continue
		}
		if !x.works || !kept || b.Intent == 0 {
			continue
		}
		switch {
		case x.appliedAt > 0:
			b.Intent = 0
		case x.had:
			b = x.before
		}
		known[ref] = b
	}
	return known
}

// shared tells whether a declared object is a namespace that the ward only wants to be there, and another ward keeps it.
func (p *Placement) shared(o declared.Object) bool {
	if !o.Made {
		return false
	}
	return p.keptByAnother(o.Ref)
}

// evaluate looks at where the ward stands, tells whoever listens, and starts what should run by itself.
func (p *Placement) evaluate() time.Duration {
	if p.Broken != "" {
		p.Publish()
		return time.Hour
	}
	if p.will.Hold != nil && !p.will.Hold.Until.IsZero() && p.at.After(p.will.Hold.Until) {
		_ = p.release(logbook.Vigila, "the end of the hold was reached") // it is held
	}
	if p.holdsAlready() {
		p.setApplied(p.declared.Revision, p.declared.Snapshot, p.will.Done)
	}
	sought := sooner(p.seek(p.at), p.lookForStrays(p.at))
	p.forgetGone()
	if p.run == nil && p.Ward.Keep.Drift == ward.Restore {
		p.Publish() // drift that is restored at once is history all the same
	}
	again := p.decide()
	noting := p.noteDrift()
	wait := time.Hour
	if late := p.nextView(); p.run != nil && p.View().Run != nil && late > 0 { // the progress of a big run is not drawn at each of its steps
		wait = late
	} else {
		p.Publish()
	}
	if p.run != nil {
		if p.run.started {
			if at := p.run.machine.Wake(); !at.IsZero() {
				wait = min(wait, at.Sub(p.at))
			}
		}
	} else if !again.IsZero() {
		wait = again.Sub(p.at)
	}
	if !sought.IsZero() {
		wait = min(wait, sought.Sub(p.at))
	}
	if noting > 0 {
		wait = min(wait, noting)
	}
	if p.will.Hold != nil && !p.will.Hold.Until.IsZero() {
		wait = min(wait, p.will.Hold.Until.Sub(p.at))
	}
	return max(wait, 10*time.Millisecond)
}

// holdsAlready tells whether the cluster holds the newest revision without a run: a commit that changes no object, or,
// for a ward that syncs by itself, one that only leaves objects that are kept; or what a run that failed at its very end has left to
// do, and somebody else did.
func (p *Placement) holdsAlready() bool {
	d := p.declared
	switch {
	case p.run != nil || p.canary != nil || !d.Known() || p.will.Applied != nil && d.Revision.ID == p.will.Applied.ID:
		return false
	case p.will.Applied == nil && p.index.Len() == 0: // nothing was ever begun
		return false
	}
	if d.Snapshot == p.will.Snapshot {
		return true
	}
	if p.will.Leaving != nil || p.will.Hold != nil || p.rejected() != "" || !p.repository.Known || !p.clusterKnown().Known {
		return false
	}
	return p.index.Ready() && p.pending().Total() == 0 // what was never seen ready is nothing to go back to
}

func (p *Placement) decide() time.Time {
	if p.run != nil {
		p.giveWay()
		return time.Time{}
	}
	if p.canary != nil && p.will.Leaving == nil {
		return p.decideCanary()
	}
	if p.will.Leaving != nil {
		return p.decideLeaving()
	}
	if p.will.BroughtUpBy != "" && (p.repository.Known && p.pending().Total() == 0 || p.will.Hold != nil || p.rejected() != "" || len(p.pending().guards) > 0) {
		p.will.BroughtUpBy = "" // it is up, or a person has to see to it
	}
	behind, astray := p.pending(), p.astray()
	s := run.Situation{Now: p.at, AutoSync: p.Ward.Keep.Sync == ward.Auto || p.will.BroughtUpBy != "", RestoreDrift: p.Ward.Keep.Drift == ward.Restore,
		Held: p.will.Hold != nil, Blind: !p.clusterKnown().Known, RepoBlind: !p.repository.Known, Pending: behind.Total(), Guarded: len(behind.guards) > 0, Restorable: len(astray.Restorable) + len(astray.Waiting),
		Rejected: p.rejected(), LastFailed: p.will.LastFailed, FailuresInRow: p.will.Failures}
	if s.Pending == 0 { // all of it is applied by a run that was stopped before it was ready: a sync waits for that, with a deadline
		s.Pending = p.half()
	}
	if s.Pending > 0 {
		s.WaitsFor, _ = p.waits()
	}
	if len(astray.Restorable) == 0 {
		s.RestoreAt = astray.At
	}
	if p.Ward.Keep.Reapply && p.will.Snapshot != "" {
		if p.will.AgainAt.IsZero() {
			p.will.AgainAt = s.Now.Add(p.Ward.Keep.Every)
		}
		s.AgainAt = p.will.AgainAt
	}
	kind, _, again := run.Next(s)
	var err error
	switch kind {
	case run.Sync:
		_, err = p.start(Ask{Kind: run.Sync, By: logbook.Vigila, Why: p.syncWhy()})
		if p.will.BroughtUpBy != "" && err != nil {
			p.will.BroughtUpBy = "" // a person has to see to it
		}
	case run.Restore:
		_, err = p.start(Ask{Kind: run.Restore, By: logbook.Vigila, Why: p.driftWhy(astray.Restorable)})
	case run.Again:
		p.will.AgainAt = s.Now.Add(p.Ward.Keep.Every)
		_, err = p.start(Ask{Kind: run.Restore, By: logbook.Vigila, Why: "applied again, as keep.reapply asks", Reapply: true, own: own{quiet: true}})
	}
	if errors.Is(err, ErrUnread) || kind == "" && s.WaitsFor != "" && len(behind.Remove) > 0 && p.unread() != "" {
		return s.Now.Add(unreadPause) // nobody tells when the others have read the same
	}
	if err != nil {
		p.Log.Warn("automatic run did not start", "kind", kind, "error", err)
		return s.Now.Add(p.will.Failed(s.Now))
	}
	return again
}

// decideCanary goes on with a canary that an earlier run left, once the cluster is known.
func (p *Placement) decideCanary() time.Time {
	if !p.clusterKnown().Known {
		return time.Time{}
	}
	left := p.canary
	again, err := p.goOn()
	switch {
	case again:
		return p.at.Add(unreadPause)
	case err != nil:
		p.Log.Warn("a canary can't be gone on with", "error", err)
		p.abandon(left, err.Error())
		p.goBack(nil, "a canary can't be gone on with: "+err.Error())
	case p.run == nil: // there is nothing of it to carry any more
		p.abandon(left, "the cluster holds its revision already")
	case p.run.beside == nil:
		p.abandon(left, "the ward file asks for none any more")
	}
	return time.Time{}
}

// giveWay stops an automatic sync when a newer revision has come and the ward wants that to take over.
func (p *Placement) giveWay() {
	a := p.run
	if p.Ward.Keep.Newer != ward.Replace || a.gaveWay || a.entry.Kind != run.Sync || a.entry.By != logbook.Vigila || !p.declared.Known() || !p.repository.Known {
		return
	}
	if now := p.declared.Revision; now.ID != a.entry.Revision.ID && p.rejected() == "" {
		a.gaveWay = true
		p.stop(fmt.Sprintf("%s takes over", now.Short()))
	}
}

func (p *Placement) syncWhy() string {
	if p.will.BroughtUpBy != "" && p.Ward.Keep.Sync != ward.Auto { // who syncs by itself does so without being asked
		return "brought up by " + p.will.BroughtUpBy
	}
	if p.will.Applied == nil {
		return "first sync"
	}
	if b := p.pending(); b.Total() > 0 && len(b.Rotated) == b.Total() {
		return "another secret value"
	}
	return "new revision"
}

func (p *Placement) rejected() string {
	if p.declared == nil {
		return ""
	}
	if r := p.rejection(p.declared); r != nil {
		return r.Why
	}
	return ""
}

// rejection is what rejects a declaration; nil when nothing does.
func (p *Placement) rejection(d *declared.Declaration) *logbook.Rejection {
	return p.will.Rejection(d.Revision.ID, p.digest(d))
}

// digest names what is declared: the objects, and what the ward file says about how they are brought in.
func (p *Placement) digest(d *declared.Declaration) string {
	w := p.Ward
	of := []any{d.Snapshot, fmt.Sprint(w.From, w.Into, w.Settle, w.Keep.Prune, w.Leave)}
	if len(w.Canary) > 0 {
		of = append(of, w.CanaryText(d.Checks))
	}
	return object.Hash(of)
}

// waits names what a sync waits for: wards in after, a cluster of the spread, another ward that keeps one of the
// objects, somebody who has not read the same commit yet. loud tells that it needs a person.
func (p *Placement) waits() (what string, loud bool) {
	if what := p.waitsFor(); what != "" {
		return what, false
	}
	for _, ref := range p.pending().Apply { // two services that take it from each other in turns would never end
		if l := p.index.Known(ref); l != nil && l.Present && l.Foreign != "" {
			return fmt.Sprintf("%s, which has taken %s over", compare.AnotherService(l.Foreign), ref.Short()), true
		}
	}
	if what, loud := p.waitsForKeeper(p.pending().Apply); what != "" {
		return what, loud
	}
	if what := p.unknownSecrets(p.pending().Apply); what != "" {
		return what, false
	}
	if len(p.pending().Remove) > 0 {
		return p.unread(), false
	}
	return "", false
}

// waitsFor names the first ward of `after` that is not in step and ready in the same cluster.
func (p *Placement) waitsFor() string {
	for _, name := range p.Ward.After {
		id := ward.ID(name, p.Cluster)
		v := p.Others.Neighbour(id)
		if v == nil {
			return id + ", which is not known"
		}
		if v.Standing != compare.InStep || v.Health.Word != health.Ready {
			return fmt.Sprintf("%s, which is %s and %s", id, v.Standing, v.Health.Word)
		}
	}
	return p.waitsForTurn()
}

// waitsForTurn names the cluster that a new revision has to reach before this one.
func (p *Placement) waitsForTurn() string {
	if !p.Ward.Spread.InTurn || p.declared == nil {
		return ""
	}
	others := p.Others.Twins()
	if others == nil { // a lookout that has just been started
		return "the clusters before this one, which the service has not told of yet"
	}
	for _, c := range p.Ward.Spread.Before(p.Cluster, slices.Sorted(maps.Keys(others))) {
		v := others[c]
		late := v.Ward.From.Ref == p.Ward.From.Ref && v.Head != p.declared.Head
		switch {
		case v.Rejected != "":
			return fmt.Sprintf("%s, where the revision failed", v.ID)
		case late && v.Standing == compare.InStep:
			return fmt.Sprintf("%s, which has not seen the revision yet", v.ID)
		case v.Standing != compare.InStep || v.Health.Word != health.Ready || v.Run != nil:
			return fmt.Sprintf("%s, which is %s and %s", v.ID, v.Standing, v.Health.Word)
		}
	}
	return ""
}
