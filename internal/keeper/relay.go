package keeper

import (
	"context"
	"fmt"
	"time"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/keeper/loop"
)

// attached tells a ward that its lookout is here.
type attached struct{}

// relays begins the goroutine of a ward that a lookout keeps. There are very many such wards, and hardly ever does something happen to one: the
// goroutine ends once nothing waits.
func (p *placement) relays() {
	if p.ctx.Err() != nil {
		close(p.ended)
		return
	}
	p.k.spawn(p.relay)
}

// relay tells the lookout what happens to the ward. After the ward's end none begins any more.
func (p *placement) relay() {
	for work := p.take(); len(work) > 0; work = p.take() {
		for _, ev := range work {
			if p.ctx.Err() != nil {
				close(p.ended)
				return
			}
			if f, is := ev.(loop.Filed); is {
				if f == p.filed {
					continue
				}
				p.filed = f
			}
			p.passOn(ev, p.filed)
		}
	}
}

func (p *placement) passOn(ev loop.Event, filed loop.Filed) {
	a := p.cluster.away
	switch ev := ev.(type) {
	case attached:
		p.introduce(filed)
	case loop.WasRead:
		p.loses(ev.Name, !ev.AsOf.Known)
		a.long.Then(p.ID, p.k.spawn, func() {
			_ = p.ofKept(p.ctx, "was_read", wasRead{p.ID, ev.Name, ev.AsOf}, nil) // it is told anew when it is back
			p.Hears().Taken.Add(1)
		})
	case loop.WasSame:
		if v := p.Placement.View(); v.Repository.Known && !p.lost[ev.Name] && (v.Form != declared.Chart || p.readFor.Load() == a.moved()) { // nothing goes where nothing has changed
			if ev.Name == p.Ward.From.Repo {
				p.lookedAt(ev.AsOf)
			}
			return
		}
		p.loses(ev.Name, false)
		p.tellEvent(ev)
	case loop.Filed, loop.Forgotten:
		p.tellEvent(ev)
	case loop.Told:
		p.tellKnown(ev.Others)
	case loop.Woken:
		p.tellTwins()
	case loop.Wished:
		p.k.spawn(func() { p.waiters.answer(p.wishThere(ev)) })
	case loop.AwaitRead:
		p.k.spawn(func() {
			p.waiters.answer(loop.Answer{Ticket: ev.Ticket, Err: a.call(p.ctx, "await_read", p.ID, nil)})
		})
	case loop.Question:
		p.waiters.answer(loop.Answer{Ticket: ev.Ticket, Err: fault(Unreachable, "%s is kept by the lookout of %s, which can't be asked this", p.ID, a.name)})
	}
}

// loses notes whether the lookout was told that a repository can't be read: what it makes of that may not have come yet when the next look goes well.
func (p *placement) loses(repo string, lost bool) {
	if !lost {
		delete(p.lost, repo)
		return
	}
	if p.lost == nil {
		p.lost = map[string]bool{}
	}
	p.lost[repo] = true
}

func (p *placement) tellEvent(ev loop.Event) {
	kind, body, err := toldEvents.pack(ev)
	if err != nil {
		p.Log.Error("an event can't be told", "error", err)
		return
	}
	p.cluster.away.tell("event", wardEvent{p.ID, kind, body})
}

// tellKnown tells what stores have, as far as the ward may use them.
func (p *placement) tellKnown(others bool) {
	out := toldKnown{Ward: p.ID, Others: others}
	p.k.stores.mu.Lock()
	places := make([]secret.Place, 0, len(p.k.stores.uses[p.ID]))
	for at := range p.k.stores.uses[p.ID] {
		places = append(places, at)
	}
	p.k.stores.mu.Unlock()
	for _, at := range places {
		out.Known = append(out.Known, knownPlace{at, uses{p}.Known(at)})
	}
	p.cluster.away.tell("known", out)
}

// tellTwins tells how the same ward stands in other clusters, where it goes into them in turn.
func (p *placement) tellTwins() {
	if p.Ward.Spread.InTurn {
		p.cluster.away.tell("twins", twinsOf(p.ID, others{p}.Twins()))
	}
}

// introduce has the lookout keep the ward, and tells it all that it would have been told meanwhile.
func (p *placement) introduce(filed loop.Filed) {
	if _, err := p.cluster.away.there(); err != nil {
		return // it is introduced when its lookout comes
	}
	done, err := p.cluster.away.long.Take(p.ctx, p.ID)
	if err != nil {
		return
	}
	defer done()
	w, err := p.toKeep()
	if err == nil {
		err = p.cluster.away.call(p.ctx, "keep", w, nil)
	}
	if err != nil {
		if _, gone := p.cluster.away.there(); p.ctx.Err() == nil && gone == nil { // in the middle of a run it is kept as it was until that has ended
			p.Log.Info("a lookout does not take the ward yet", "error", err)
			time.AfterFunc(retell, func() { p.post(attached{}) })
		}
		return
	}
	if filed != (loop.Filed{}) {
		p.tellEvent(filed)
	}
	p.tellTwins()
	for _, name := range append([]string{p.Ward.From.Repo}, p.Ward.Reads()...) {
		l, err := p.k.source(name)
		if err != nil {
			continue
		}
		if now := l.State().AsOf; !now.At.IsZero() || now.Problem != "" {
			p.WasRead(name, now)
		} else {
			l.LookSoon()
		}
	}
}

// retell is how long it takes until a lookout is told again of a ward that it did not take.
const retell = 2 * time.Second

// toKeep is the ward as its lookout is told of it. What is read for it is short, and a ward's own context would hold on to having been read with.
func (p *placement) toKeep() (w keepWard, err error) {
	of, err := p.k.store.Ward(p.k.ctx, p.Ward.Name)
	if err != nil {
		return w, fmt.Errorf("read ward %s from the record: %w", p.Ward.Name, err)
	}
	w = keepWard{Name: of.Name, File: of.File, Roster: of.Roster, Source: of.Source, Home: of.Home, Limits: p.reading.Limits, Labels: p.cluster.labels()}
	if w.Number, err = p.k.ledger.LastNumber(p.k.ctx, p.ID); err != nil {
		return w, err
	}
	v := p.Placement.View()
	w.Hold, w.Leaving = v.Hold, v.Leaving
	rejected, err := p.k.ledger.Rejections(p.k.ctx, p.ID)
	for _, key := range sortedKeys(rejected) {
		w.Rejections = append(w.Rejections, rejected[key])
	}
	return w, err
}

// wishThere has a wish granted where the ward is kept.
func (p *placement) wishThere(ev loop.Wished) loop.Answer {
	out := loop.Answer{Ticket: ev.Ticket}
	if _, is := ev.Wish.(loop.BeWritten); is {
		if _, err := p.cluster.away.there(); err != nil { // there is nothing that would have to be written here
			return out
		}
	}
	w := wardWish{Ward: p.ID}
	wish := ev.Wish
	if s, is := wish.(loop.StartRun); is {
		w.Declared, s.Ask.Declared = packed(s.Ask.Declared), nil
		wish = s
	}
	if w.Kind, w.Wish, out.Err = toldWishes.pack(wish); out.Err == nil {
		out.Err = p.ofKept(p.ctx, "want", w, &out.Number)
	}
	if out.Err == nil && out.Number > 0 {
		p.entered(out.Number)
	}
	return out
}

// entered waits until an entry that the lookout has answered with has arrived as well: whoever is told its number asks for it next.
func (p *placement) entered(number int) {
	ctx, cancel := context.WithTimeout(p.ctx, introduced)
	defer cancel()
	for {
		if last, err := p.k.ledger.LastNumber(ctx, p.ID); err != nil || last >= number {
			return
		}
		if _, err := p.cluster.away.there(); err != nil || !rest(ctx, nil, 10*time.Millisecond) {
			return
		}
	}
}

// leftThere lets go of the ward where it is kept: what of it stays in the cluster.
func (p *placement) leftThere(ctx context.Context, l logbook.Leaving) ([]object.Ref, error) {
	var out leftThere
	if _, err := p.cluster.away.there(); err != nil && l.By != logbook.Vigila && !l.Dismantle {
		return nil, nil // a person wants it gone here; the lookout is told when it is back
	}
	if err := p.cluster.away.call(ctx, "let_go", letGo{p.ID, l}, &out); err != nil {
		return nil, err
	}
	var refs []object.Ref
	for _, key := range out.Keys {
		ref, err := object.ParseKey(key)
		if err != nil {
			return nil, err
		}
		refs = append(refs, ref)
	}
	return refs, nil
}
