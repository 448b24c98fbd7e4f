package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/secrets"
)

// LookoutKey is the service's own key, which every lookout knows it by. It is made once.
func (k *Keeper) LookoutKey(ctx context.Context) (*link.Key, error) {
	k.keys.Lock() // its own lock: a lookout calls again while something that changes waits for it
	defer k.keys.Unlock()
	seed, err := k.store.Setting(ctx, "lookout_key")
	if err != nil {
		return nil, err
	}
	if seed != nil {
		return link.ParseKey(seed)
	}
	key, err := link.NewKey()
	if err != nil {
		return nil, err
	}
	return key, k.store.PutSetting(ctx, "lookout_key", key.Seed())
}

// TakeLookout speaks with a lookout until it goes. conn is ended then.
func (k *Keeper) TakeLookout(ctx context.Context, conn net.Conn, from, version string) error {
	defer conn.Close()
	k.mu.RLock()
	closed := k.closed
	if !closed {
		k.done.Add(1) // what is noted when it goes has to be written before the record is closed
		defer k.done.Done()
	}
	k.mu.RUnlock()
	if closed {
		return nil
	}
	own, err := k.LookoutKey(ctx)
	if err != nil {
		return err
	}
	safe, caller, err := link.Answer(ctx, conn, own)
	if err != nil {
		return fmt.Errorf("a lookout from %s: %w", from, err)
	}
	v := &visitor{k: k, key: caller, from: from, version: version, log: k.log.With("from", from)}
	v.peer = link.New(k.ctx, safe, v)
	v.peer.Limit(strangersSay)
	late := time.AfterFunc(helloWithin, func() {
		if v.of() == nil {
			v.peer.Close(errors.New("it has not said who it is"))
		}
	})
	err = v.peer.Run()
	late.Stop()
	v.mu.Lock()
	a := v.away
	v.mu.Unlock()
	if a != nil {
		a.left(v.peer, err)
	}
	return nil
}

// strangersSay is how much somebody may say at a time of whom it is not known yet who they are, in bytes.
const strangersSay = 64 << 10

// helloWithin is how long a lookout has to say who it is.
const helloWithin = 20 * time.Second

// visitor is a lookout that has called. Before it has said who it is it is asked nothing and told nothing.
type visitor struct {
	k             *Keeper
	peer          *link.Peer
	key           string
	from, version string
	log           *slog.Logger

	mu   sync.Mutex
	away *away
}

// of is the cluster whose lookout it is; nil as long as that is not known, and once it keeps that no more.
func (v *visitor) of() *away {
	v.mu.Lock()
	a := v.away
	v.mu.Unlock()
	if a == nil {
		return nil
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.ended {
		return nil
	}
	return a
}

// Asked is part of link.Handler.
func (v *visitor) Asked(ctx context.Context, method string, args link.Raw, part func(any) error) (any, error) {
	if method == "hello" {
		return answered(args, func(h Hello) (any, error) { return v.hello(ctx, h) })
	}
	a := v.of()
	if a == nil {
		return nil, &link.Refusal{Kind: int(Denied), Text: "say hello first"}
	}
	switch method {
	case "ready":
		return answered(args, func(r ready) (any, error) { return nil, a.came(v.peer, r) })
	case "read":
		return answered(args, func(r readWard) (any, error) { return a.read(ctx, r, part) })
	case "objects":
		return answered(args, func(r getObjects) (any, error) { return nil, a.k.partsOf(ctx, r, part) })
	case "value":
		return answered(args, func(r askValue) (any, error) { return a.value(ctx, r) })
	case "check":
		return answered(args, func(r askCheck) (any, error) {
			var out toldCheck
			p := a.ward(r.Ward)
			if p == nil || !p.mayAsk(r.Check) { // it would ask whatever the service can reach
				return nil, fault(Denied, "%s declares no such check as %q", r.Ward, r.Check.Name)
			}
			out.New, out.Old = a.k.asks.Ask(ctx, r.Check, r.Pods, r.Old)
			return out, nil
		})
	case "unread":
		return answered(args, func(q askUnread) (any, error) { return nil, a.unread(ctx, q) })
	case "whole":
		return answered(args, func(w toldWhole) (any, error) { return nil, a.tookWhole(ctx, w) })
	case "writes":
		return answered(args, func(w toldWrites) (any, error) { return a.took(ctx, w) })
	}
	return nil, &link.Refusal{Kind: int(NotFound), Text: "this service knows no " + method + "; it is older than the lookout"}
}

// answered decodes what is asked with, and tells errors as the other side is told them.
func answered[A any](args link.Raw, f func(A) (any, error)) (any, error) {
	var a A
	if err := link.Decode(args, &a); err != nil {
		return nil, err
	}
	out, err := f(a)
	return out, refusal(err)
}

// Told is part of link.Handler.
func (v *visitor) Told(method string, args link.Raw) error {
	a := v.of()
	if a == nil {
		return errors.New("it tells something before it has said hello")
	}
	switch method {
	case "view":
		return told(args, func(t toldView) { a.tookView(v.peer, t) })
	case "facts":
		return told(args, func(f toldFacts) { a.tookFacts(f) })
	case "use":
		return told(args, func(u toldUse) {
			if p := a.ward(u.Ward); p != nil { // which places it may know of follows from what was rendered here, not from what it says
				a.k.use(p.ID, loop.Places(p.Says()))
				p.post(loop.Told{})
			}
		})
	case "finished":
		return told(args, func(id string) {
			if p := a.ward(id); p != nil {
				a.k.spawn(func() {
					if err := a.k.finish(p); err != nil && a.k.ctx.Err() == nil {
						p.Log.Error("the ward can't be removed", "error", err)
					}
				})
			}
		})
	}
	return nil // of a newer lookout
}

func told[A any](args link.Raw, f func(A)) error {
	var a A
	if err := link.Decode(args, &a); err != nil {
		return err
	}
	f(a)
	return nil
}

// ward is a ward that the lookout keeps; nil for any other, whatever it says.
func (a *away) ward(id string) *placement {
	a.k.mu.RLock()
	defer a.k.mu.RUnlock()
	if p := a.k.kept.all[id]; p != nil && p.cluster.away == a {
		return p
	}
	return nil
}

// hello finds out whose lookout has called: by its key, or, the first time, by its token.
func (v *visitor) hello(ctx context.Context, h Hello) (*Welcome, error) {
	spoken := min(protocol, h.Protocol)
	if spoken < max(protocolLeast, h.Least) {
		return nil, fault(Conflict, "this service speaks %d to %d and the lookout %d to %d; bring the older of the two up to date", protocolLeast, protocol, h.Least, h.Protocol)
	}
	a, err := v.whose(ctx, h.Token)
	if err != nil {
		v.log.Warn("a lookout is refused", "error", err)
		return nil, err
	}
	a.mu.Lock()
	a.kept.Told.Version, a.kept.Told.Protocol, a.last = h.Version, spoken, h.Last
	seen := a.kept.Seen
	a.mu.Unlock()
	l := a.k.clusterNamed(a.name)
	if l == nil {
		return nil, fault(NotFound, "cluster %s is not known any more", a.name)
	}
	v.mu.Lock()
	v.away = a
	v.mu.Unlock()
	v.peer.Limit(0)
	return &Welcome{Protocol: spoken, Version: v.version, Service: a.k.service, Cluster: a.name, Labels: l.labels(), Digest: a.k.store.Vault().DigestKey(), Seen: seen}, nil
}

// errStranger is all that somebody is told who has no key and no token that are known.
var errStranger = fault(Denied, "this lookout is not known here: its token has been used, has ended, or was never given. Ask for another: vigila cluster add NAME --by-lookout")

func (v *visitor) whose(ctx context.Context, token string) (*away, error) {
	k := v.k
	k.mu.RLock()
	var byKey, byToken *away
	text := HashToken(token)
	for _, c := range k.clusters {
		if c.away == nil {
			continue
		}
		c.away.mu.Lock()
		if c.away.kept.Key != "" && c.away.kept.Key == v.key {
			byKey = c.away
		}
		if token != "" && c.away.kept.Token == text {
			byToken = c.away
		}
		c.away.mu.Unlock()
	}
	k.mu.RUnlock()
	switch {
	case byKey != nil:
		return byKey, nil
	case byToken == nil:
		return nil, errStranger
	}
	now := time.Now()
	err := k.store.JoinLookout(ctx, byToken.name, text, v.key, now)
	if errors.Is(err, record.ErrNone) {
		byToken.refused(now, v.from)
		return nil, errStranger
	}
	if err != nil {
		return nil, err
	}
	byToken.mu.Lock()
	byToken.kept.Key, byToken.kept.Used, byToken.kept.Seen = v.key, now, 0
	byToken.kept.Told.Joined = now
	byToken.mu.Unlock()
	k.log.Info("a lookout has joined", "cluster", byToken.name, "from", v.from)
	k.byItself(ctx, Subject{"join", "cluster", byToken.name}, "its lookout came with its token", details{"from": v.from, "key": v.key})
	return byToken, nil
}

// refused notes that somebody came with a token that was used or has ended: that is loud.
func (a *away) refused(at time.Time, from string) {
	a.mu.Lock()
	a.kept.Told.Refused, a.kept.Told.At = from, at
	a.mu.Unlock()
	a.write()
	a.k.Refused(a.k.ctx, Actor{Name: "a lookout from " + from}, Subject{"join", "cluster", a.name}, "the token was used before, or has ended")
	a.k.broker.send(Note{"cluster", a.name})
}

// refusedFor is how long somebody is told that somebody was refused.
const refusedFor = 24 * time.Hour

// trouble is that somebody came with a token of the cluster's lookout that was used, or has ended; nil when nobody has of late. That the lookout is away
// its wards tell.
func (a *away) trouble(now time.Time) *alert.Trouble {
	a.mu.Lock()
	from, at := a.kept.Told.Refused, a.kept.Told.At
	a.mu.Unlock()
	if from == "" || now.Sub(at) > refusedFor {
		return nil
	}
	return &alert.Trouble{Subject: ofCluster + a.name, Topic: alert.NeedsYou, Text: fmt.Sprintf("somebody from %s came with a token of its lookout that was used before, or has ended, and was refused", from), Since: at, Link: "/clusters/" + a.name,
		Todo: "Who has it? vigila audit --search " + a.name + ". If it got about, let a lookout join anew: vigila cluster add " + a.name + " --by-lookout"}
}

// came begins to keep the lookout up to date. A connection of before, which may hang, is ended.
func (a *away) came(peer *link.Peer, r ready) error {
	now := time.Now()
	a.mu.Lock()
	if a.ended {
		a.mu.Unlock()
		return errStranger
	}
	old := a.peer
	a.peer = peer
	if heard := a.kept.Told.Heard; old == nil && !heard.IsZero() {
		alone := append(slices.Clone(a.kept.Told.Alone), record.Alone{From: heard, To: now})
		a.kept.Told.Alone = alone[max(0, len(alone)-keptAlone):]
	}
	a.since, a.kept.Told.Heard = now, now
	a.mu.Unlock()
	if old != nil && old != peer {
		old.Close(errors.New("the lookout has called anew"))
	}
	a.write()
	a.k.spawn(func() { a.heeds(peer) })
	a.k.log.Info("a lookout is here", "cluster", a.name, "wards", len(r.Wards))
	a.turned(func(p *placement) { p.post(attached{}) })
	a.k.spawn(func() { a.letGoOf(r.Wards) })
	return nil
}

// heeds writes down now and then when the lookout was heard of, so that a service which is killed knows since when nobody was.
func (a *away) heeds(peer *link.Peer) {
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		select {
		case <-peer.Done():
			return
		case <-tick.C:
		}
		a.mu.Lock()
		mine := a.peer == peer
		if mine {
			a.kept.Told.Heard = peer.Heard()
		}
		a.mu.Unlock()
		if !mine {
			return
		}
		a.write()
	}
}

// letGoOf tells the lookout of wards that were removed while it was away. One that this service has never known is left to it.
func (a *away) letGoOf(ids []string) {
	for _, id := range ids {
		if a.ward(id) != nil {
			continue
		}
		past, err := a.k.store.Past(a.k.ctx, id)
		if err != nil || !slices.Contains(past, id) {
			continue
		}
		why := logbook.Leaving{By: logbook.Vigila, Why: "it was removed while the lookout was away", At: time.Now()}
		if err := a.call(a.k.ctx, "let_go", letGo{id, why}, nil); err != nil && a.k.ctx.Err() == nil {
			a.k.log.Warn("a ward that was removed is still kept by its lookout", "ward", id, "error", err)
		}
	}
}

// end ends the connection, and lets nobody back in with the key that was known.
func (a *away) end(why string) {
	a.mu.Lock()
	peer := a.peer
	a.peer, a.kept.Key, a.kept.Token, a.ended = nil, "", "", true
	a.mu.Unlock()
	if peer != nil {
		peer.Close(errors.New(why))
	}
}

// left notes that the lookout is gone.
func (a *away) left(peer *link.Peer, why error) {
	a.mu.Lock()
	mine := a.peer == peer
	if mine {
		a.peer, a.since, a.kept.Told.Heard = nil, time.Now(), peer.Heard()
	}
	a.mu.Unlock()
	if !mine || a.k.ctx.Err() != nil {
		a.write()
		return
	}
	a.k.log.Warn("a lookout is away; it goes on by itself", "cluster", a.name, "why", why)
	a.write()
	a.noted()
	time.AfterFunc(awayLong+time.Second, a.noted) // by then it is loud
}

// noted tells whoever listens that every ward of the cluster may stand otherwise.
func (a *away) noted() {
	if a.k.ctx.Err() == nil {
		a.turned(func(p *placement) { a.k.broker.send(Note{"ward", p.ID}) })
	}
}

// turned does something with every ward of the cluster, since its lookout came or went.
func (a *away) turned(f func(*placement)) {
	a.k.broker.send(Note{"cluster", a.name})
	for _, p := range a.k.keptIn(a.name) {
		if p.cluster.away == a {
			f(p)
		}
	}
}

// ---- what it asks and tells

// read reads what a ward declares now, for the lookout.
func (a *away) read(ctx context.Context, r readWard, part func(any) error) (*readTold, error) {
	p := a.ward(r.Ward)
	if p == nil {
		return nil, fault(NotFound, "ward %s is not kept any more", r.Ward)
	}
	ev, err := p.readOnce(ctx, r.AsOf)
	if err != nil {
		return nil, err
	}
	if ev.Failed == nil {
		if whole, err := a.k.hasWhole(ctx, ev.Declared); err != nil {
			return nil, err
		} else if !whole { // its objects are not here any more, so it is read from the beginning
			ev = p.read(loop.Read{AsOf: r.AsOf}).(loop.Rendered)
		}
	}
	if ev.Failed != nil {
		return &readTold{Failed: ev.Failed}, nil
	}
	known := p.Says() != nil
	if p.Show(nil, ev.Declared); !known { // its objects are found by their names from now on
		p.k.broker.send(Note{"ward", p.ID})
	}
	p.letAsk(ev.Declared)
	if a.k.use(p.ID, loop.Places(ev.Declared)) { // the lookout says so only where it is new to it, which it may have been before this service knew the ward
		p.post(loop.Told{})
	}
	p.readFor.Store(a.moved())
	out := packed(ev.Declared)
	if r.Had != "" && r.Had == out.Digest() {
		return &readTold{Same: true, Head: out.Head, Tag: out.Tag}, nil
	}
	if ev.Declared.Snapshot != "" {
		if err := a.k.partsOf(ctx, getObjects{ev.Declared.Snapshot, r.Have}, part); err != nil {
			return nil, err
		}
	}
	return &readTold{Declared: out}, nil
}

// readOnce reads what the ward declares. A lookout that has called anew asks again while what it asked for before is still being rendered: whoever comes
// second has what that gave, since what was rendered, or took too much, is not rendered again. Each would take its turn else.
func (p *placement) readOnce(ctx context.Context, at standing.AsOf) (ev loop.Rendered, err error) {
	p.asked.Lock()
	defer p.asked.Unlock()
	if ctx.Err() != nil { // nobody waits for it any more
		return ev, ctx.Err()
	}
	return p.read(loop.Read{AsOf: at, Old: p.Says()}).(loop.Rendered), nil
}

// hasWhole tells whether all objects of what is declared are in the record, and keeps them there for whoever is about to use them.
func (k *Keeper) hasWhole(ctx context.Context, d *declared.Declaration) (bool, error) {
	if d.Snapshot == "" {
		return true, nil
	}
	k.tidying.RLock()
	defer k.tidying.RUnlock()
	there, err := k.ledger.SnapshotHashes(ctx, d.Snapshot)
	if err != nil || len(there) != len(d.Objects) {
		return false, err
	}
	k.recent.Store(d.Snapshot, time.Now())
	return true, nil
}

// letAsk notes the checks that the ward declares, or has declared since the service started: a run that goes on asks those that it began with.
func (p *placement) letAsk(d *declared.Declaration) {
	all := p.Ward.Checks
	if d != nil {
		all = slices.Concat(all, d.Checks)
	}
	for _, c := range all {
		p.checks.Store(checkKey(c), true)
	}
}

func (p *placement) mayAsk(c ward.Check) bool {
	_, may := p.checks.Load(checkKey(c))
	return may
}

// checkKey is what a check asks, wherever it is written: a lookout has the ward's file by itself, with lines of its own.
func checkKey(c ward.Check) string {
	c.File, c.Line = "", 0
	text, _ := json.Marshal(c) // of plain values
	return string(text)
}

// moved grows whenever the cluster has other kinds, or another version.
func (a *away) moved() int64 {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.facted
}

// partsOf gives the objects of a snapshot that somebody lacks, one after the other.
func (k *Keeper) partsOf(ctx context.Context, r getObjects, part func(any) error) error {
	all, err := lacking(ctx, k.ledger, r.Snapshot, r.Have)
	if err != nil {
		return err
	}
	for _, o := range all {
		if err := part(o); err != nil {
			return err
		}
	}
	return nil
}

// value reads the secret values of a place for a ward that may use it.
func (a *away) value(ctx context.Context, r askValue) (toldValue, error) {
	p := a.ward(r.Ward)
	if p == nil {
		return toldValue{}, fault(NotFound, "ward %s is not kept any more", r.Ward)
	}
	refers, err := p.mayKnow(ctx, r.Place)
	if err == nil && !refers {
		err = fmt.Errorf("nothing that %s declares, or has applied, refers to %s", p.ID, r.Place)
	}
	if err != nil {
		return toldValue{Failed: err.Error()}, nil
	}
	if l := a.k.storeLoopOf(r.Store); l != nil && a.k.keptBy(l.conf) == a {
		if no := l.refuses(p); no != "" {
			return toldValue{Failed: no}, nil
		}
		if l.conf.Namespace == "" { // an older lookout takes that for a refusal
			return toldValue{Asks: true, Failed: fmt.Sprintf("store %s is one that a lookout asks itself, which this one is too old for", r.Store)}, nil
		}
		return toldValue{Own: l.conf.Namespace}, nil
	}
	keys, err := filler{p}.values(ctx, r.Place)
	switch {
	case errors.Is(err, secrets.ErrNone):
		return toldValue{None: true}, nil
	case err != nil:
		var why *secrets.Error
		return toldValue{Failed: err.Error(), Away: errors.As(err, &why) && why.Away}, nil
	}
	return toldValue{Keys: keys}, nil
}

// mayKnow tells whether what the ward declares, or what is kept of what it applied, refers to a place: a lookout is told no other values.
func (p *placement) mayKnow(ctx context.Context, at secret.Place) (bool, error) {
	if len(p.refersTo(at)) > 0 {
		return true, nil
	}
	entries, _, err := p.k.ledger.Entries(ctx, record.Find{Placement: p.ID})
	if err != nil {
		return false, err
	}
	seen := map[string]bool{"": true}
	for _, e := range entries {
		if seen[e.Snapshot] {
			continue
		}
		seen[e.Snapshot] = true
		whole, err := p.k.ledger.Snapshot(ctx, e.Snapshot)
		if err != nil {
			return false, err
		}
		for _, o := range whole {
			if slices.ContainsFunc(secret.Of(o.Object), func(r secret.Ref) bool { return r.Place() == at }) {
				return true, nil
			}
		}
	}
	return false, nil
}

// took takes in writes of the lookout.
func (a *away) took(ctx context.Context, w toldWrites) (int64, error) {
	seen, err := a.k.store.TakeIn(ctx, a.name, w.All)
	if err != nil {
		a.k.log.Error("what a lookout has written down can't be taken in", "cluster", a.name, "error", err)
		return 0, err
	}
	a.mu.Lock()
	had := a.kept.Seen
	a.kept.Seen = seen
	a.mu.Unlock()
	told := map[string]bool{}
	for _, o := range w.All {
		if e, is := o.Ended(); is && o.N > had && o.N <= seen && a.ward(o.Placement) != nil {
			a.k.metrics.ran(e.Kind, e.Outcome)
		}
		if !told[o.Placement] {
			told[o.Placement] = true
			a.k.broker.send(Note{"ward", o.Placement})
		}
	}
	return seen, nil
}

// tookWhole takes in all that the lookout has of its wards: this service has lost some of what it was told.
func (a *away) tookWhole(ctx context.Context, w toldWhole) error {
	if err := a.k.store.TakeWhole(ctx, a.name, w.All, w.UpTo); err != nil {
		return err
	}
	a.mu.Lock()
	if w.UpTo >= 0 {
		a.kept.Seen = w.UpTo
	}
	a.mu.Unlock()
	if w.UpTo >= 0 {
		a.k.log.Info("what a lookout has written down was taken in anew", "cluster", a.name)
	}
	for id := range w.All {
		a.k.broker.send(Note{"ward", id})
	}
	return nil
}

func (a *away) tookView(by *link.Peer, t toldView) {
	if p := a.ward(t.Ward); p != nil && t.View != nil {
		p.shown(by, t.View)
	}
}

// lookedAt takes in that the ward's repository was looked at, and that nothing is another.
func (p *placement) lookedAt(at standing.AsOf) {
	p.showing.Lock()
	defer p.showing.Unlock()
	now := *p.Placement.View()
	now.Repository.At, now.Repository.Next = at.At, at.Next
	p.Show(&now, nil)
}

// shown takes in how the ward stands where it is kept. It comes from outside: what others here count on is looked at first. One that was made before
// the one that is known, or that came by a connection that is no more, was long in coming, and says nothing any more.
func (p *placement) shown(by *link.Peer, v *standing.View) {
	if c := v.Canary; c != nil && (c.Share < 0 || c.Share >= len(c.Steps)) {
		v.Canary = nil
	}
	v.ID, v.Cluster, v.Ward, v.File, v.Roster, v.Source = p.ID, p.cluster.conf.Name, p.Ward, p.File, p.Roster, p.Source
	if v.Repository.Known && p.repo != nil {
		if now := p.repo.State().AsOf; now.Known {
			v.Repository.At, v.Repository.Next = now.At, now.Next
		}
	}
	if p.repo != nil {
		v.Revision, v.Applied = p.repo.Shared(v.Revision), p.repo.Shared(v.Applied)
	}
	if v.Revision != nil && v.Head == v.Revision.ID {
		v.Head = v.Revision.ID
	}
	p.showing.Lock()
	old := p.Placement.View()
	if p.toldBy.Load() != by {
		old = nil // it is not what was known last any more
	}
	late := old != nil && v.Made < old.Made || by == nil || p.cluster.away.now() != by
	if !late {
		p.Show(v, nil)
		p.toldBy.Store(by)
	}
	p.showing.Unlock()
	if late {
		return
	}
	if old != nil && standing.Same(old, v) {
		return
	}
	p.k.broker.send(Note{"ward", p.ID})
	if old == nil || old.Standing != v.Standing || old.Health.Word != v.Health.Word || old.Head != v.Head || (old.Run == nil) != (v.Run == nil) {
		p.k.dependents(p)
	}
}

// View is the ward as it stands now. It may be read by anybody.
func (p *placement) View() *standing.View {
	v := p.Placement.View()
	if p.cluster == nil || p.cluster.away == nil || v == nil {
		return v
	}
	return p.cluster.away.seen(v, p.toldBy.Load())
}

// ---- checks, which ask metrics sources that the service knows

type askCheck struct {
	Ward  string
	Check ward.Check
	Pods  map[string][]string
	Old   bool
}

type toldCheck struct {
	New judge.Answer
	Old *judge.Answer
}
