package keeper

import (
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/keeper/drive"
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
		if other.says.Load().Find(ref) != nil {
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
		if other.View().Leaving != nil {
			continue
		}
		if d := other.says.Load().Find(ref); d != nil && d.Task == object.NoTask {
			return other.id
		}
		if ref.Group == "" && ref.Kind == "Namespace" && other.ward.Into.Namespace == ref.Name {
			return other.id
		}
	}
	return ""
}

// spare tells who wants an object when the turn comes to remove it. A run may take long: by then another ward may declare the
// object, or, where the run follows the repository, this one again. errUnread tells that somebody has to read first what has come
// since. It is asked beside the ward's goroutine.
func (p *placement) spare(r removal) (s drive.Spared, err error) {
	if r.theirs != "" {
		s.Theirs = r.theirs
		return s, nil
	}
	if !r.kept {
		return s, nil
	}
	if (r.intent.kind == run.Sync || r.intent.kind == run.Dismantle) && p.unreadSince(r.asked, r.leaving) != "" {
		return s, errUnread
	}
	if r.intent.kind == run.Sync && r.intent.follows {
		if p.broken == "" && !r.asked.heard(&p.hears) {
			return s, errUnread
		}
		if says := p.says.Load(); says != nil {
			if d := says.Find(r.ref); d != nil && d.Task == object.NoTask {
				s.Again = says.Revision.Short()
				return s, nil
			}
		}
	}
	s.Heir = p.heir(r.ref)
	return s, nil
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
	if p.marks == nil {
		p.marks = marks{}
	}
	who := p.unreadSince(p.marks, leaving)
	if who == "" {
		p.marks = nil // the next time is about what is read by then
	}
	return who
}

// unreadSince is unread for one who asks again and again, and keeps what had been told when it first did.
func (p *placement) unreadSince(m marks, leaving bool) string {
	if !leaving {
		p.k.mu.RLock()
		var reading string
		for name, l := range p.k.rosters {
			if l.record().Repo == p.ward.From.Repo && !m.heard(&l.hears) {
				reading = "roster " + name + ", which reads the same commit"
			}
		}
		p.k.mu.RUnlock()
		if reading != "" {
			return reading
		}
	}
	for _, other := range p.neighbours() {
		if other.ward.From.Repo == p.ward.From.Repo && other.broken == "" && (!m.heard(&other.hears) || other.says.Load() == nil && other.View().Repository.Problem == "") {
			return other.id + ", which reads the same commit"
		}
	}
	return ""
}

// hearing counts the looks at a repository that somebody was told of, and those of them that were taken in.
type hearing struct{ told, taken atomic.Int64 }

// marks are what several had been told when somebody first asked.
type marks map[*hearing]int64

// heard tells whether somebody has taken in all that had been told when it was first asked. What is read since then is not waited
// for: on a busy machine there is always something.
func (m marks) heard(h *hearing) bool {
	mark, asked := m[h]
	if !asked {
		mark = h.told.Load()
		m[h] = mark
	}
	return h.taken.Load() >= mark
}

// leave begins the removal of the ward: from now on nothing else is done to it, whatever happens to the service.
func (p *placement) leave(l logbook.Leaving) error {
	switch {
	case p.will.Leaving != nil && p.will.Leaving.Dismantle == l.Dismantle && slices.Equal(p.will.Leaving.Allow, l.Allow):
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
	p.write(record.SetLeaving{Leaving: &l})
	p.will.Leaving, p.will.Failures, p.will.BroughtUpBy = &l, 0, ""
	return nil
}

// stay takes a removal back.
func (p *placement) stay() error {
	if p.will.Leaving == nil {
		return nil
	}
	if p.finishing || p.run != nil {
		return fault(Conflict, "%s is being removed; wait until that is done", p.id)
	}
	p.write(record.SetLeaving{})
	p.will.Leaving = nil
	return nil
}

// decideLeaving carries a removal on: first the objects, as far as they are to go, then the ward.
func (p *placement) decideLeaving() time.Time {
	if p.finishing {
		return time.Time{}
	}
	if p.will.Leaving.Dismantle && !p.dismantled() {
		if at := p.will.Retry(); p.at.Before(at) {
			return at
		}
		_, err := p.start(Ask{Kind: run.Dismantle, By: p.will.Leaving.By, Why: p.will.Leaving.Why, Allow: p.will.Leaving.Allow})
		switch {
		case errors.Is(err, errUnread):
			return p.at.Add(unreadPause)
		case err != nil:
			p.will.Stuck = err.Error()
			p.log.Warn("dismantling did not start", "error", err)
			return p.at.Add(p.will.Failed(p.at))
		case p.run != nil:
			p.will.Stuck = ""
			return time.Time{}
		}
	}
	p.finishing = true
	p.after(finish{})
	return time.Time{}
}

// dismantled tells whether nothing is left that a dismantling would remove.
func (p *placement) dismantled() bool {
	made, err := p.prepare(Ask{Kind: run.Dismantle, By: p.will.Leaving.By, Allow: p.will.Leaving.Allow})
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
	return k.retire(k.ctx, p, *p.View().Leaving)
}
