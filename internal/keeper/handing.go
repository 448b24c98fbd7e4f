package keeper

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/record"
)

// errUnread tells that something can't be removed yet, since another ward may declare it in a commit that it has not
// taken in.
var errUnread = errors.New("somebody has not read the same commit yet, and may declare what is to be removed; try it in a moment")

// unreadPause is how long it takes until that is asked again.
const unreadPause = 100 * time.Millisecond

// waitsForKeeper names the ward that keeps one of some objects. Ownership is waited for: it says nothing about a
// revision. loud tells that the other declares the object as well, so that a person has to decide.
func (p *placement) waitsForKeeper(refs []object.Ref) (what string, loud bool) {
	for _, ref := range refs {
		other := p.cluster.keeper(ref)
		if other == nil || other == p {
			continue
		}
		text := fmt.Sprintf("%s, which keeps %s", other.id, ref.Short())
		if other.says.Load().find(ref) != nil {
			return text + " and declares it as well; one object can belong to one ward, so take it out of one of them", true
		}
		return text + " and is about to let it go", false
	}
	return "", false
}

// heir names the ward that an object is handed over to instead of being removed: one that declares it in the same cluster;
// for a namespace also one that is kept in it.
func (p *placement) heir(ref object.Ref) string {
	for _, other := range p.neighbours() {
		if other.View().leaving != nil {
			continue
		}
		if d := other.says.Load().find(ref); d != nil && d.Task == object.NoTask {
			return other.id
		}
		if ref.Group == "" && ref.Kind == "Namespace" && other.ward.Into.Namespace == ref.Name {
			return other.id
		}
	}
	return ""
}

// neighbours are the other wards of the cluster, by id.
func (p *placement) neighbours() []*placement {
	p.k.mu.RLock()
	defer p.k.mu.RUnlock()
	var out []*placement
	for _, other := range p.k.wards {
		if other != p && other.cluster == p.cluster {
			out = append(out, other)
		}
	}
	slices.SortFunc(out, func(a, b *placement) int {
		if a.id < b.id {
			return -1
		}
		return 1
	})
	return out
}

// unread names who has not taken in yet what was read of the ward's repository, and so may still come to declare what is
// to be removed; "" when everybody has. Who can't read it is not waited for, nor, by a ward that leaves its roster, the
// roster that lets it go.
func (p *placement) unread(leaving bool) string {
	if !leaving {
		p.k.mu.RLock()
		var reading string
		for name, l := range p.k.rosters {
			if l.record().Repo == p.ward.From.Repo && l.reading.Load() > 0 {
				reading = "roster " + name + ", which reads the same commit"
			}
		}
		p.k.mu.RUnlock()
		if reading != "" {
			return reading
		}
	}
	for _, other := range p.neighbours() {
		if other.ward.From.Repo == p.ward.From.Repo && other.unheard() {
			return other.id + ", which reads the same commit"
		}
	}
	return ""
}

// unheard tells that the ward has not taken in what was read of its repository, and nothing is wrong with that.
func (p *placement) unheard() bool {
	return p.broken == "" && (p.reading.Load() > 0 || p.says.Load() == nil && p.View().Repository.Problem == "")
}

// leave begins the removal of the ward: from now on nothing else is done to it, whatever happens to the service.
func (p *placement) leave(l record.Leaving) error {
	switch {
	case p.leaving != nil && p.leaving.Dismantle == l.Dismantle && slices.Equal(p.leaving.Allow, l.Allow):
		return nil
	case p.run != nil && p.run.entry.Kind != string(run.Dismantle):
		return fault(Conflict, "%s is in the middle of %s #%d; wait for it, or stop it first: vigila sync %s --stop", p.id, p.run.entry.Kind, p.run.entry.Number, p.id)
	}
	if l.Dismantle && p.run == nil {
		made, err := p.prepare(Ask{Kind: run.Dismantle, By: l.By, Why: l.Why, Allow: l.Allow})
		if err != nil {
			return err
		}
		if len(made.plan.Guards) > 0 {
			return guarded(p.id, made.plan.Guards)
		}
	}
	if err := p.k.store.SetLeaving(p.ctx, p.id, &l); err != nil {
		return err
	}
	p.leaving, p.failures, p.bring = &l, 0, ""
	return nil
}

// stay takes a removal back.
func (p *placement) stay() error {
	if p.leaving == nil {
		return nil
	}
	if p.finishing || p.run != nil {
		return fault(Conflict, "%s is being removed; wait until that is done", p.id)
	}
	if err := p.k.store.SetLeaving(p.ctx, p.id, nil); err != nil {
		return err
	}
	p.leaving = nil
	return nil
}

// decideLeaving carries a removal on: first the objects, as far as they are to go, then the ward.
func (p *placement) decideLeaving() time.Time {
	if p.finishing {
		return time.Time{}
	}
	if p.leaving.Dismantle && !p.dismantled() {
		if at := p.lastFailed.Add(run.Backoff(p.failures)); p.failures > 0 && time.Now().Before(at) {
			return at
		}
		_, err := p.start(Ask{Kind: run.Dismantle, By: p.leaving.By, Why: p.leaving.Why, Allow: p.leaving.Allow})
		switch {
		case errors.Is(err, errUnread):
			return time.Now().Add(unreadPause)
		case err != nil:
			p.failures++
			p.lastFailed = time.Now()
			p.log.Warn("dismantling did not start", "error", err)
			return time.Now().Add(run.Backoff(p.failures))
		case p.run != nil:
			return time.Time{}
		}
	}
	p.finishing = true
	p.k.spawn(func() {
		if err := p.k.finish(p); err != nil && p.ctx.Err() == nil {
			p.log.Error("the ward can't be removed", "error", err)
			time.AfterFunc(2*time.Second, func() { p.post(func() { p.finishing = false }) })
		}
	})
	return time.Time{}
}

// dismantled tells whether nothing is left that a dismantling would remove.
func (p *placement) dismantled() bool {
	made, err := p.prepare(Ask{Kind: run.Dismantle, By: p.leaving.By, Allow: p.leaving.Allow})
	return err == nil && made.plan.Empty() && len(made.plan.Guards) == 0
}

// finish forgets a ward whose removal is through. What it keeps still is left behind, and listed as that.
func (k *Keeper) finish(p *placement) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	k.mu.RLock()
	still := k.wards[p.id] == p
	k.mu.RUnlock()
	if !still {
		return nil
	}
	return k.retire(k.ctx, p, *p.View().leaving)
}
