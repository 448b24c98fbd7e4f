package keeper

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"sync"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/secrets"
)

// away is a cluster that a lookout keeps, as the service knows it: what was told last, and the connection while there is one.
type away struct {
	k    *Keeper
	name string

	mu    sync.Mutex
	kept  record.Lookout
	peer  *link.Peer // nil while it is away
	since time.Time  // when it came, or went
	last  int64      // the number of its last write when it came
	ended bool       // another, or none, is to keep the cluster
}

// keptAlone is how many of them are remembered.
const keptAlone = 20

func newAway(k *Keeper, kept record.Lookout) *away {
	return &away{k: k, name: kept.Cluster, kept: kept, since: time.Now()}
}

// heard is when the lookout was heard of last; zero when it never was.
func (a *away) heard() (at time.Time, here bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.peer != nil {
		return a.peer.Heard(), true
	}
	return a.kept.Told.Heard, false
}

// there is the connection; a *Fault of kind Unreachable when there is none.
func (a *away) there() (*link.Peer, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.peer == nil {
		return nil, fault(Unreachable, "%s; it goes on by itself, and takes wishes again when it is back", awayText(a.name, a.kept.Told.Heard))
	}
	return a.peer, nil
}

// call asks the lookout. Errors are a *Fault.
func (a *away) call(ctx context.Context, method string, args, into any) error {
	return a.stream(ctx, method, args, into, nil)
}

func (a *away) stream(ctx context.Context, method string, args, into any, part func(link.Raw) error) error {
	peer, err := a.there()
	if err != nil {
		return err
	}
	return unrefused(peer.Stream(ctx, method, args, into, part), "the lookout of "+a.name)
}

// tell tells the lookout something; what it is not told it is told anew when it comes back.
func (a *away) tell(method string, args any) {
	peer, err := a.there()
	if err != nil {
		return
	}
	if err := peer.Tell(method, args); err != nil && !errors.Is(err, link.ErrAway) {
		a.k.log.Error("a lookout can't be told something", "cluster", a.name, "what", method, "error", err)
	}
}

// seen is how a ward that the lookout keeps stands: as it was told, while the lookout is there.
func (a *away) seen(v *standing.View) *standing.View {
	at, here := a.heard()
	if !here {
		a.mu.Lock()
		long := time.Since(a.since) > awayLong
		a.mu.Unlock()
		return standing.Away(v, at, awayText(a.name, at), long)
	}
	out := *v
	if out.Live.Known {
		out.Live.At = at
	}
	return &out
}

// awayLong is how long a lookout may be away before somebody is to see to it.
const awayLong = time.Minute

// ---- what a reading knows of the cluster

func (a *away) facts() record.LookoutsFacts {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.kept.Told.Facts
}

// down tells why nothing can be rendered for the cluster.
func (a *away) down() error {
	if a.facts().Version == "" {
		at, _ := a.heard()
		return cluster.Unreachable(errors.New(awayText(a.name, at)))
	}
	return nil
}

func (a *away) namespaced(o object.Object) (bool, error) {
	key := record.KindKey(object.Kind{Version: o.Version, Kind: o.Ref.Kind})
	a.mu.Lock()
	is, known := a.kept.Told.Facts.Kinds[key]
	a.mu.Unlock()
	if known {
		return is, nil
	}
	ctx, cancel := context.WithTimeout(a.k.ctx, 30*time.Second)
	defer cancel()
	peer, err := a.there()
	if err != nil {
		return false, cluster.Unreachable(err)
	}
	err = peer.Call(ctx, "kind", askKind{o.Version, o.Ref.Kind}, &is)
	var r *link.Refusal
	switch {
	case errors.As(err, &r) && r.Kind == refusedKind:
		return false, noKind(o)
	case err != nil:
		return false, cluster.Unreachable(err)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	kinds := map[string]bool{key: is}
	for k, v := range a.kept.Told.Facts.Kinds {
		kinds[k] = v
	}
	a.kept.Told.Facts.Kinds = kinds
	return is, nil
}

// tookFacts takes in what there is to know of the cluster.
func (a *away) tookFacts(f toldFacts) {
	if f.Problem != "" {
		return // what was known stays; the views tell that it does not answer
	}
	a.mu.Lock()
	if slices.Equal(a.kept.Told.Facts.APIs, f.APIs) {
		f.Kinds = a.kept.Told.Facts.Kinds
	}
	a.kept.Told.Facts = f.LookoutsFacts
	a.mu.Unlock()
	a.write()
	a.k.broker.send(Note{"cluster", a.name})
}

// write writes down what was told. That it fails costs what is known after the next start, and no more.
func (a *away) write() {
	a.mu.Lock()
	kept, ended := a.kept, a.ended
	a.mu.Unlock()
	if ended {
		return
	}
	if err := a.k.store.TellLookout(context.WithoutCancel(a.k.ctx), kept); err != nil {
		a.k.log.Error("what a lookout told can't be written", "cluster", a.name, "error", err)
	}
}

// ---- how it comes and goes

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
			out.New, out.Old = a.k.asks.Ask(ctx, r.Check, r.Pods, r.Old)
			return out, nil
		})
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
		return told(args, a.tookView)
	case "facts":
		return told(args, func(f toldFacts) { a.tookFacts(f) })
	case "use":
		return told(args, func(u toldUse) {
			if p := a.ward(u.Ward); p != nil { // which places it may know of follows from what was rendered here, not from what it says
				a.k.use(p.ID, loop.Places(p.Says()))
				p.post(loop.Told{Others: false})
			}
		})
	case "finished":
		return told(args, func(id string) {
			if p := a.ward(id); p != nil {
				a.k.spawn(func() {
					if err := a.k.finish(p); err != nil && a.k.ctx.Err() == nil {
						p.log.Error("the ward can't be removed", "error", err)
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
	if p := a.k.wards[id]; p != nil && p.cluster.away == a {
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
	defer byToken.mu.Unlock()
	byToken.kept.Key, byToken.kept.Used, byToken.kept.Seen = v.key, now, 0
	byToken.kept.Told.Joined = now
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
	ev := p.read(loop.Read{AsOf: r.AsOf, Old: p.Says()}).(loop.Rendered)
	if ev.Failed != nil {
		return &readTold{Failed: ev.Failed}, nil
	}
	p.Show(nil, ev.Declared)
	if ev.Declared.Snapshot != "" {
		if err := a.k.partsOf(ctx, getObjects{ev.Declared.Snapshot, r.Have}, part); err != nil {
			return nil, err
		}
	}
	return &readTold{Declared: packed(ev.Declared)}, nil
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
	entries, _, err := p.ledger.Entries(ctx, record.Find{Placement: p.ID})
	if err != nil {
		return false, err
	}
	seen := map[string]bool{"": true}
	for _, e := range entries {
		if seen[e.Snapshot] {
			continue
		}
		seen[e.Snapshot] = true
		whole, err := p.ledger.Snapshot(ctx, e.Snapshot)
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
	a.kept.Seen = seen
	a.mu.Unlock()
	told := map[string]bool{}
	for _, o := range w.All {
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

func (a *away) tookView(t toldView) {
	if p := a.ward(t.Ward); p != nil && t.View != nil {
		p.shown(t.View)
	}
}

// shown takes in how the ward stands where it is kept.
func (p *placement) shown(v *standing.View) {
	v.ID, v.Cluster, v.Ward, v.File, v.Roster, v.Source = p.ID, p.cluster.conf.Name, p.Ward, p.File, p.Roster, p.Source
	if v.Repository.Known && p.repo != nil {
		if now := p.repo.State().AsOf; now.Known {
			v.Repository.At, v.Repository.Next = now.At, now.Next
		}
	}
	old := p.Placement.View()
	p.Show(v, nil)
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
	return p.cluster.away.seen(v)
}

// ---- a ward that a lookout keeps

// attached tells a ward that its lookout is here.
type attached struct{}

// relay is the goroutine of a ward that a lookout keeps: what happens to it is told there.
func (p *placement) relay() {
	defer close(p.ended)
	var filed loop.Filed
	for {
		select {
		case <-p.ctx.Done():
			return
		case <-p.wake:
		}
		for _, ev := range p.take() {
			if p.ctx.Err() != nil {
				return
			}
			if f, is := ev.(loop.Filed); is {
				if f == filed {
					continue
				}
				filed = f
			}
			p.passOn(ev, filed)
		}
	}
}

func (p *placement) passOn(ev loop.Event, filed loop.Filed) {
	a := p.cluster.away
	switch ev := ev.(type) {
	case attached:
		p.introduce(filed)
	case loop.WasRead:
		p.k.spawn(func() {
			_ = p.ofKept(p.ctx, "was_read", wasRead{p.ID, ev.Name, ev.AsOf}, nil) // it is told anew when it is back
			p.Hears().Taken.Add(1)
		})
	case loop.WasSame:
		if v := p.Placement.View(); v.Repository.Known && v.Form != declared.Chart {
			if ev.Name == p.Ward.From.Repo {
				now := *v
				now.Repository.At, now.Repository.Next = ev.AsOf.At, ev.AsOf.Next
				p.Show(&now, nil)
			}
			return
		}
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

func (p *placement) tellEvent(ev loop.Event) {
	kind, body, err := toldEvents.pack(ev)
	if err != nil {
		p.log.Error("an event can't be told", "error", err)
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
		p.cluster.away.tell("twins", toldTwins{p.ID, others{p}.Twins()})
	}
}

// introduce has the lookout keep the ward, and tells it all that it would have been told meanwhile.
func (p *placement) introduce(filed loop.Filed) {
	if _, err := p.cluster.away.there(); err != nil {
		return // it is introduced when its lookout comes
	}
	w, err := p.toKeep()
	if err == nil {
		err = p.cluster.away.call(p.ctx, "keep", w, nil)
	}
	if err != nil {
		if _, gone := p.cluster.away.there(); p.ctx.Err() == nil && gone == nil { // in the middle of a run it is kept as it was until that has ended
			p.log.Info("a lookout does not take the ward yet", "error", err)
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

// toKeep is the ward as its lookout is told of it.
func (p *placement) toKeep() (w keepWard, err error) {
	all, err := p.k.store.Wards(p.ctx)
	if err != nil {
		return w, err
	}
	i := slices.IndexFunc(all, func(x record.Ward) bool { return x.Name == p.Ward.Name })
	if i < 0 {
		return w, fmt.Errorf("ward %s is not in the record", p.Ward.Name)
	}
	of := all[i]
	w = keepWard{Name: of.Name, File: of.File, Roster: of.Roster, Source: of.Source, Home: of.Home, Limits: p.reading.Limits, Labels: p.cluster.labels()}
	if w.Number, err = p.ledger.LastNumber(p.ctx, p.ID); err != nil {
		return w, err
	}
	v := p.Placement.View()
	w.Hold = v.Hold
	rejected, err := p.ledger.Rejections(p.ctx, p.ID)
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
	return out
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

// ---- checks, which ask metrics sources that the service knows

type askCheck struct {
	Check ward.Check
	Pods  map[string][]string
	Old   bool
}

type toldCheck struct {
	New judge.Answer
	Old *judge.Answer
}

// ---- the cluster as it is told of

// info tells of the cluster of a lookout.
func (a *away) info(out *Cluster) {
	a.mu.Lock()
	kept, peer, since := a.kept, a.peer, a.since
	l := &Lookout{Joined: kept.Told.Joined, Until: kept.Until, Version: kept.Told.Version, Protocol: kept.Told.Protocol, Older: kept.Told.Protocol > 0 && kept.Told.Protocol < protocol,
		Heard: kept.Told.Heard, Refused: kept.Told.Refused, RefusedAt: kept.Told.At, Alone: kept.Told.Alone, Waiting: max(0, a.last-kept.Seen)}
	a.mu.Unlock()
	if l.Here = peer != nil; l.Here {
		l.Heard, l.Since = peer.Heard(), since
		l.BytesIn, l.BytesOut = peer.Bytes()
	}
	out.Lookout, out.Server, out.Version = l, kept.Told.Facts.Server, kept.Told.Facts.Version
	out.Live = standing.AsOf{Known: l.Here, At: l.Heard}
	if !l.Here {
		out.Live.Problem = cmp.Or(joinText(kept), awayText(a.name, l.Heard))
	}
}

// joinText tells of a lookout that has not joined yet; "" of one that has.
func joinText(l record.Lookout) string {
	switch {
	case l.Key != "":
		return ""
	case l.Until.Before(time.Now()):
		return fmt.Sprintf("its lookout has not joined, and its token has ended; another: vigila cluster add %s --by-lookout", l.Cluster)
	}
	return fmt.Sprintf("waits for its lookout to join; its token is good until %s", l.Until.UTC().Format("15:04 MST"))
}

// Lookout is how the lookout of a cluster is.
type Lookout struct {
	Here              bool
	Since             time.Time // it has been here
	Heard             time.Time // last
	Joined, Until     time.Time // when it did, or until when it can
	Version           string
	Protocol          int
	Older             bool // it speaks an older protocol than the service
	Refused           string
	RefusedAt         time.Time
	Alone             []record.Alone
	Waiting           int64 // writes of it that are still to come
	BytesIn, BytesOut int64 // since it is here
}

// renderFacts are what a rendering knows of the cluster.
func (a *away) renderFacts(out render.Cluster) (render.Cluster, bool, error) {
	f := a.facts()
	if f.Version == "" {
		return out, false, a.down()
	}
	out.Version, out.APIs = f.Version, f.APIs
	return out, f.Whole, nil
}
