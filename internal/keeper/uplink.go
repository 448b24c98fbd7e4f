package keeper

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/secrets"
)

// LookoutOf makes a Keeper that of a lookout: it keeps the wards of one cluster, which a service tells it of.
type LookoutOf struct {
	Service string        // the id of the service
	Digest  []byte        // the key of its digests
	Limits  roster.Limits // what the lookout does in its cluster at most, whatever the service says
	// Stores opens a server of secret values that the lookout asks; nil where it was given none. Errors are a *secrets.Error.
	Stores func(name string) (secrets.Store, error)
	// Relabelled is told when the service has other labels for the cluster; may be nil.
	Relabelled func(labels map[string]string)
}

// uplink is the service, as a lookout knows it: what was told last, and the connection while there is one.
type uplink struct {
	k      *Keeper
	of     *LookoutOf
	limits roster.Limits
	wrote  chan struct{} // there is something that the service has not got
	long   *turns        // readings, which last as long as the service renders

	mu    sync.Mutex
	peer  *link.Peer // nil while it can't be reached
	known map[string]map[secret.Place]secret.Known
	twins map[string]map[string]*standing.View
	uses  map[string][]secret.Place
	lacks map[string]bool // the wards that the service has less of than was written down
}

func newUplink(k *Keeper, of *LookoutOf) *uplink {
	return &uplink{k: k, of: of, long: longTurns(k, "read"), limits: of.Limits, wrote: make(chan struct{}, 1), known: map[string]map[secret.Place]secret.Known{}, twins: map[string]map[string]*standing.View{}, uses: map[string][]secret.Place{}, lacks: map[string]bool{}}
}

// errAlone tells that the service can't be asked.
var errAlone = errors.New("the service can't be reached; the lookout goes on by itself with what it knows")

func (u *uplink) there() (*link.Peer, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.peer == nil {
		return nil, errAlone
	}
	return u.peer, nil
}

// SayHello begins to speak with a service. Errors are a *Fault where it says no.
func SayHello(ctx context.Context, peer *link.Peer, h Hello) (w Welcome, err error) {
	h.Protocol, h.Least = protocol, protocolLeast
	err = peer.Call(ctx, "hello", h, &w)
	return w, unrefused(err, "the service")
}

// Serve speaks with the service until the connection ends. The peer's handler is the Keeper's own (FromService).
func (k *Keeper) Serve(ctx context.Context, peer *link.Peer, w Welcome) error {
	u := k.up
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	waiting, last, err := k.store.OutgoingSpan(ctx)
	if err != nil {
		return err
	}
	lost := w.Seen < last-int64(waiting) || w.Seen > last // one of the two was put back to an earlier state
	if !lost {
		if err := k.store.WentOut(ctx, w.Seen); err != nil {
			return err
		}
	}
	u.mu.Lock()
	u.peer = peer
	u.mu.Unlock()
	defer func() {
		u.mu.Lock()
		if u.peer == peer {
			u.peer = nil
		}
		u.mu.Unlock()
	}()
	u.relabel(w.Labels)
	var all sync.WaitGroup
	listener := k.Listen()
	defer listener.Close()
	facts := u.facts(ctx)
	if err := peer.Tell("facts", facts); err != nil {
		return err
	}
	var ids []string
	for _, v := range k.Views() {
		ids = append(ids, v.ID)
	}
	if err := peer.Call(ctx, "ready", ready{ids}, nil); err != nil {
		return unrefused(err, "the service")
	}
	all.Go(func() { u.tellViews(ctx, peer, listener, ids) })
	all.Go(func() {
		for lost && ctx.Err() == nil {
			if err := u.tellWhole(ctx, peer); err == nil {
				break
			} else if !errors.Is(err, link.ErrAway) {
				u.k.log.Error("what was written down can't be told to the service; it is tried again", "error", err)
			}
			select {
			case <-ctx.Done():
			case <-time.After(2 * time.Second):
			}
		}
		u.tellWrites(ctx, peer)
	})
	all.Go(func() { u.tellFacts(ctx, peer, facts) })
	u.mu.Lock()
	used := maps.Clone(u.uses)
	u.mu.Unlock()
	for id, places := range used {
		_ = peer.Tell("use", toldUse{id, places})
	}
	<-peer.Done()
	stop()
	all.Wait()
	return nil
}

// relabel takes over the labels that the service has for the cluster.
func (u *uplink) relabel(labels map[string]string) {
	moved := false
	u.k.mu.Lock()
	for _, c := range u.k.clusters {
		moved = moved || !maps.Equal(c.conf.Labels, labels)
		c.conf.Labels = labels
	}
	u.k.mu.Unlock()
	if moved && u.of.Relabelled != nil {
		u.of.Relabelled(labels)
	}
}

// ---- what is told to the service

// tellViews tells how wards stand, whenever one stands otherwise.
func (u *uplink) tellViews(ctx context.Context, peer *link.Peer, l *Listener, first []string) {
	dirty := first
	for {
		for _, id := range dirty {
			v, err := u.k.Ward(id)
			if err != nil {
				continue
			}
			err = peer.Tell("view", toldView{id, v})
			if err != nil && !errors.Is(err, link.ErrAway) { // what is astray may be too much for a frame; whoever looks at the ward asks for that anyway
				u.k.log.Warn("how a ward stands is told without what is astray", "ward", id, "objects", len(v.Astray), "error", err)
				bare := *v
				bare.Astray = nil
				err = peer.Tell("view", toldView{id, &bare})
			}
			if errors.Is(err, link.ErrAway) {
				return
			}
			if err != nil {
				u.k.log.Error("how a ward stands can't be told", "ward", id, "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-l.Wake():
		}
		dirty = nil
		for _, n := range l.Take() {
			if n.Kind == "ward" {
				dirty = append(dirty, n.Name)
			}
		}
	}
}

// writesAtOnce is how many writes go in one call.
const writesAtOnce = 200

// tellWrites gives the service what was written down, in its order; what it has is forgotten here.
func (u *uplink) tellWrites(ctx context.Context, peer *link.Peer) {
	for ctx.Err() == nil {
		all, err := u.k.store.Outgoing(ctx, 0, writesAtOnce)
		all = some(all)
		if err == nil && len(all) > 0 {
			var seen int64
			if err = peer.Call(ctx, "writes", toldWrites{all}, &seen); err == nil {
				if err = u.k.store.WentOut(ctx, seen); err == nil {
					continue
				}
			}
		}
		if err == nil {
			var more bool
			if more, err = u.tellLacking(ctx, peer); more {
				continue
			}
		}
		wait := time.NewTimer(time.Hour)
		if err != nil {
			if ctx.Err() == nil && !errors.Is(err, link.ErrAway) {
				u.k.log.Error("what was written down can't be told to the service; it is tried again", "error", err)
			}
			wait.Reset(2 * time.Second)
		}
		select {
		case <-ctx.Done():
		case <-u.wrote:
		case <-wait.C:
		}
		wait.Stop()
	}
}

// tellLacking gives the service all of a ward that it has less of than was written down: it has come to know the ward only now, when what had been
// written of it was told already. more tells that there is something else to be told at once.
func (u *uplink) tellLacking(ctx context.Context, peer *link.Peer) (more bool, err error) {
	u.mu.Lock()
	ids := sortedKeys(u.lacks)
	u.mu.Unlock()
	var errs []error
	for _, id := range ids {
		w, waiting, err := u.k.store.WholeOf(ctx, id)
		if waiting > 0 {
			return true, nil
		}
		for _, part := range w.Parts(sayAtOnce) {
			if err == nil {
				err = peer.Call(ctx, "whole", toldWhole{All: map[string]record.Whole{id: part}, UpTo: -1}, nil)
			}
		}
		if err != nil && !errors.Is(err, record.ErrNone) { // none is left of a ward that was let go of
			errs = append(errs, err)
			continue
		}
		u.mu.Lock()
		delete(u.lacks, id)
		u.mu.Unlock()
	}
	return false, errors.Join(errs...)
}

// sayAtOnce is about how much is said in one call, in bytes; a frame holds more.
const sayAtOnce = 4 << 20

// some are the first of some writes that go together in one call.
func some(all []record.Outgoing) []record.Outgoing {
	size := 0
	for i, o := range all {
		if size += len(o.Body); size > sayAtOnce && i > 0 {
			return all[:i]
		}
	}
	return all
}

// tellWhole gives the service all that it is to have of every ward: a ward at a time, since logbooks are long.
func (u *uplink) tellWhole(ctx context.Context, peer *link.Peer) error {
	all, asOf, err := u.k.store.Wholes(ctx)
	if err != nil {
		return err
	}
	for _, id := range sortedKeys(all) {
		for _, part := range all[id].Parts(sayAtOnce) {
			if err := peer.Call(ctx, "whole", toldWhole{All: map[string]record.Whole{id: part}, UpTo: -1}, nil); err != nil {
				return err
			}
		}
	}
	if err := peer.Call(ctx, "whole", toldWhole{UpTo: asOf}, nil); err != nil {
		return err
	}
	return u.k.store.WentOut(ctx, asOf)
}

// factsEvery is how often it is looked whether the cluster has other kinds, or another version.
const factsEvery = 30 * time.Second

// tellFacts tells what there is to know of the cluster, whenever that is other than what was told last.
func (u *uplink) tellFacts(ctx context.Context, peer *link.Peer, told toldFacts) {
	tick := time.NewTicker(factsEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		now := u.facts(ctx)
		if now.Problem == "" && now.Version == told.Version && slices.Equal(now.APIs, told.APIs) && now.Whole == told.Whole {
			continue
		}
		if told = now; peer.Tell("facts", now) != nil {
			return
		}
	}
}

func (u *uplink) facts(ctx context.Context) (out toldFacts) {
	c := u.own()
	if c == nil {
		return toldFacts{Problem: "there is no cluster"}
	}
	f, whole, err := near{c}.Facts(ctx)
	if err != nil {
		return toldFacts{Problem: err.Error()}
	}
	out.Version, out.APIs, out.Whole = f.Version, f.APIs, whole
	if c.conn != nil {
		out.Server = c.conn.Server()
	}
	return out
}

// own is the one cluster of a lookout.
func (u *uplink) own() *clusterLoop {
	u.k.mu.RLock()
	defer u.k.mu.RUnlock()
	for _, c := range u.k.clusters {
		return c
	}
	return nil
}

// use tells which places of stores a ward declares references to.
func (u *uplink) use(id string, places []secret.Place) {
	u.mu.Lock()
	if len(places) == 0 {
		delete(u.uses, id)
		delete(u.known, id)
	} else {
		u.uses[id] = places
	}
	peer := u.peer
	u.mu.Unlock()
	if peer != nil {
		_ = peer.Tell("use", toldUse{id, places})
	}
}

// knows is what the service told of a place.
func (u *uplink) knows(id string, at secret.Place) secret.Known {
	u.mu.Lock()
	defer u.mu.Unlock()
	k, told := u.known[id][at]
	if !told && u.peer == nil {
		k.Problem = errAlone.Error()
	}
	return k
}

// value asks for the secret values of a place.
func (u *uplink) value(ctx context.Context, id string, at secret.Place) (map[string]string, error) {
	peer, err := u.there()
	if err != nil {
		return nil, &secrets.Error{Text: err.Error(), Away: true}
	}
	var out toldValue
	if err := peer.Call(ctx, "value", askValue{id, at}, &out); err != nil {
		return nil, &secrets.Error{Text: err.Error(), Away: errors.Is(err, link.ErrAway)}
	}
	switch {
	case out.Asks:
		return u.ownValues(ctx, at, "")
	case out.Own != "":
		return u.ownValues(ctx, at, out.Own)
	case out.None:
		return nil, secrets.ErrNone
	case out.Failed != "":
		return nil, &secrets.Error{Text: out.Failed, Away: out.Away}
	}
	return out.Keys, nil
}

// ask has the service ask a check of a ward.
func (u *uplink) ask(ctx context.Context, id string, c ward.Check, pods map[string][]string, old bool) (now judge.Answer, before *judge.Answer) {
	var out toldCheck
	peer, err := u.there()
	if err == nil {
		err = peer.Call(ctx, "check", askCheck{id, c, pods, old}, &out)
	}
	if err != nil {
		now.Problem = err.Error()
		if old {
			before = &now
		}
		return now, before
	}
	return out.New, out.Old
}

// finished tells that the removal of a ward is through.
func (u *uplink) finished(id string) error {
	peer, err := u.there()
	if err != nil {
		return err
	}
	return peer.Tell("finished", id)
}

// ---- what the ward declares

// toldBy is what a ward of a lookout reads its declaration from: the service.
type toldBy struct{ p *placement }

// toldKey is where the record of a lookout has what a ward declared last.
const toldKey = "told"

// Read asks the service what the ward declares. While that can't be reached, what it declared last stands: nothing new begins, and what was
// begun goes on.
func (t toldBy) Read(ctx context.Context, asOf standing.AsOf, old *declared.Declaration) (*declared.Declaration, *loop.Unreadable) {
	p, u := t.p, t.p.k.up
	peer, err := u.there()
	if err != nil {
		if old != nil {
			same := *old
			return &same, nil
		}
		return nil, &loop.Unreadable{Text: err.Error(), Unasked: true}
	}
	ask := readWard{Ward: p.ID, AsOf: asOf}
	if old != nil {
		ask.Have, ask.Had = old.Snapshot, packed(old).Digest()
	}
	var out readTold
	var came []declared.Whole
	turn, err := u.long.Take(ctx, p.ID)
	if err != nil {
		return nil, &loop.Unreadable{Text: err.Error(), Unasked: true}
	}
	err = peer.Stream(ctx, "read", ask, &out, gather(&came))
	turn()
	if errors.Is(err, link.ErrAway) {
		return nil, &loop.Unreadable{Text: errAlone.Error(), Unasked: true}
	}
	if err != nil {
		return nil, &loop.Unreadable{Text: unrefused(err, "the service").Error(), Unchecked: true}
	}
	if out.Failed != nil {
		return nil, out.Failed
	}
	if out.Same && old != nil {
		same := *old
		same.Head, same.Tag = out.Head, out.Tag
		return &same, nil
	}
	if out.Declared == nil {
		return nil, &loop.Unreadable{Text: "the service tells neither what is declared nor why it can't be read", Unchecked: true}
	}
	d, err := u.take(ctx, p, *out.Declared, came, ask.Have)
	if err != nil {
		return nil, &loop.Unreadable{Text: "what the service told can't be used: " + err.Error()}
	}
	if over := u.beyond(ctx, d); over != nil {
		return nil, over
	}
	if d.Snapshot != "" {
		if err := p.k.store.PutDeclaration(ctx, p.ID, toldKey, out.Declared); err != nil {
			return nil, &loop.Unreadable{Text: err.Error(), Unchecked: true}
		}
	}
	return d, nil
}

// Stored is what the ward declared before the lookout started; nil when that is not known.
func (t toldBy) Stored(ctx context.Context) (*declared.Declaration, error) {
	var in reading.Packed
	err := t.p.k.store.Declaration(ctx, t.p.ID, toldKey, &in)
	if errors.Is(err, record.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	d, err := in.Open()
	if err == nil && t.p.k.up.beyond(ctx, d) != nil { // its limits are narrower than they were
		return nil, nil
	}
	return d, err
}

// gather takes in the objects of a snapshot that come in parts.
func gather(into *[]declared.Whole) func(link.Raw) error {
	return func(part link.Raw) error {
		var o declared.Whole
		if err := link.Decode(part, &o); err != nil {
			return err
		}
		*into = append(*into, o)
		return nil
	}
}

// take keeps a declaration that came, with its objects.
func (u *uplink) take(ctx context.Context, p *placement, in reading.Packed, came []declared.Whole, have string) (*declared.Declaration, error) {
	d, err := in.Open()
	if err != nil || d.Snapshot == "" {
		return d, err
	}
	whole, err := u.k.hasWhole(ctx, d)
	if err != nil || whole && len(came) == 0 {
		return d, err
	}
	all, err := together(ctx, p.k.ledger, d, came, have)
	if err != nil {
		return nil, err
	}
	_, err = u.k.putSnapshot(ctx, all)
	return d, err
}

// bring is a declaration that the service wants something done with, once; its objects are asked for.
func (u *uplink) bring(ctx context.Context, p *placement, in reading.Packed) (*declared.Declaration, error) {
	have := ""
	if now := p.Says(); now != nil {
		have = now.Snapshot
	}
	peer, err := u.there()
	if err != nil {
		return nil, fault(Unreachable, "%v", err)
	}
	var came []declared.Whole
	if in.Snapshot != "" && in.Snapshot != have {
		if err := peer.Stream(ctx, "objects", getObjects{in.Snapshot, have}, nil, gather(&came)); err != nil {
			return nil, unrefused(err, "the service")
		}
	}
	d, err := u.take(ctx, p, in, came, have)
	if err != nil {
		return nil, err
	}
	if over := u.beyond(ctx, d); over != nil {
		return nil, fault(Conflict, "%s", over.Text)
	}
	return d, nil
}

// beyond holds what is declared to what the lookout may do in its cluster at all: the service can't make it exceed that.
func (u *uplink) beyond(ctx context.Context, d *declared.Declaration) *loop.Unreadable {
	if !u.limits.Any() || d.Snapshot == "" {
		return nil
	}
	all, err := u.k.ledger.Snapshot(ctx, d.Snapshot)
	if err != nil {
		return &loop.Unreadable{Text: err.Error(), Unchecked: true}
	}
	objects := make([]object.Object, len(all))
	for i, o := range all {
		objects[i] = o.Object
	}
	if err := (roster.Roster{Name: "of the lookout", Limits: u.limits}).Within(objects); err != nil {
		return &loop.Unreadable{Text: "the lookout's own limits: " + err.Error(), HeldBack: true}
	}
	return nil
}

// ---- what the service asks and tells

// FromService takes in what the service asks and tells. It is made before there is a Keeper, which a lookout that has not joined yet has not.
type FromService struct {
	ctx   context.Context
	ready chan struct{}
	k     *Keeper
}

// NewFromService is a handler that waits until Is was called, or ctx ends.
func NewFromService(ctx context.Context) *FromService {
	return &FromService{ctx: ctx, ready: make(chan struct{})}
}

// Is says whose it is.
func (f *FromService) Is(k *Keeper) {
	f.k = k
	close(f.ready)
}

// Asked is part of link.Handler.
func (f *FromService) Asked(ctx context.Context, method string, args link.Raw, part func(any) error) (any, error) {
	select {
	case <-f.ready:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	return f.k.up.asked(ctx, method, args, part)
}

// Told is part of link.Handler.
func (f *FromService) Told(method string, args link.Raw) error {
	select {
	case <-f.ready:
		return f.k.up.told(method, args)
	case <-f.ctx.Done():
		return f.ctx.Err()
	}
}

func (u *uplink) asked(ctx context.Context, method string, args link.Raw, part func(any) error) (any, error) {
	k := u.k
	if name, is := strings.CutPrefix(method, "ask:"); is {
		answer := answers[name]
		if answer == nil {
			return nil, &link.Refusal{Kind: int(NotFound), Text: "this lookout can't be asked that; it is older than the service"}
		}
		return answered(args, func(a wardAsks) (any, error) { return answer(ctx, k, a) })
	}
	switch method {
	case "keep":
		return answered(args, func(w keepWard) (any, error) {
			err := u.keep(ctx, w)
			// By now the service knows the ward: what it was told of it before went by it, and may be all that there is to tell.
			k.broker.send(Note{"ward", ward.ID(w.Name, u.own().conf.Name)})
			return nil, err
		})
	case "let_go":
		return answered(args, func(l letGo) (any, error) { return u.letGo(ctx, l) })
	case "was_read":
		return answered(args, func(w wasRead) (any, error) {
			p, err := k.one(w.Ward)
			if err != nil {
				return nil, errNotKept
			}
			p.WasRead(w.Name, w.AsOf)
			_, err = p.await(ctx, func(t loop.Ticket) loop.Event { return loop.AwaitRead{Ticket: t} })
			return nil, err
		})
	case "await_read":
		return answered(args, func(id string) (any, error) {
			p, err := k.one(id)
			if err != nil {
				return nil, err
			}
			_, err = p.await(ctx, func(t loop.Ticket) loop.Event { return loop.AwaitRead{Ticket: t} })
			return nil, err
		})
	case "want":
		return answered(args, func(w wardWish) (any, error) { return u.want(ctx, w) })
	case "follow":
		return answered(args, func(a wardAsks) (any, error) {
			var t askTask
			if err := link.Decode(a.Args, &t); err != nil {
				return nil, err
			}
			return nil, k.FollowTaskLog(ctx, a.Ward, t.Number, t.Key, asParts(part))
		})
	case "kind":
		return answered(args, func(a askKind) (any, error) {
			return near{u.own()}.Namespaced(object.Object{Ref: object.Ref{Kind: a.Kind}, Version: a.Version})
		})
	case "secret":
		return answered(args, func(q askSecret) (any, error) { return u.secret(ctx, q), nil })
	case "nodes":
		return answered(args, func(nothingAsked) (any, error) { return u.own().nodes(ctx) })
	case "warnings":
		return answered(args, func(since time.Time) (any, error) { return u.own().warnings(ctx, since) })
	}
	return nil, &link.Refusal{Kind: int(NotFound), Text: "this lookout knows no " + method + "; it is older than the service"}
}

// asParts writes what is read as parts of an answer.
type asParts func(any) error

func (w asParts) Write(b []byte) (int, error) { return len(b), w(b) }

var _ io.Writer = asParts(nil)

func (u *uplink) told(method string, args link.Raw) error {
	switch method {
	case "event":
		return told(args, func(w wardEvent) {
			p, err := u.k.one(w.Ward)
			if err != nil {
				return // it comes once the ward is kept
			}
			ev, err := toldEvents.open(w.Kind, w.Event)
			if err != nil {
				p.Log.Warn("something that the service told is not understood", "error", err)
				return
			}
			p.post(ev)
		})
	case "known":
		return told(args, func(t toldKnown) {
			now := map[secret.Place]secret.Known{}
			for _, x := range t.Known {
				now[x.Place] = x.Known
			}
			u.mu.Lock()
			u.known[t.Ward] = now
			u.mu.Unlock()
			if p, err := u.k.one(t.Ward); err == nil {
				p.post(loop.Told{Others: t.Others})
			}
		})
	case "labels":
		return told(args, u.relabel)
	case "twins":
		return told(args, func(t toldTwins) {
			u.mu.Lock()
			u.twins[t.Ward] = t.views()
			u.mu.Unlock()
			if p, err := u.k.one(t.Ward); err == nil {
				p.post(loop.Woken{})
			}
		})
	}
	return nil
}

// want grants a wish. Who wants it, and whether they may, the service has found out.
func (u *uplink) want(ctx context.Context, w wardWish) (int, error) {
	p, err := u.k.one(w.Ward)
	if err != nil {
		return 0, errNotKept
	}
	v, err := toldWishes.open(w.Kind, w.Wish)
	if err != nil {
		return 0, fault(Invalid, "%v", err)
	}
	wish := v.(loop.Wish)
	if s, is := wish.(loop.StartRun); is && w.Declared != nil {
		if s.Ask.Declared, err = p.brought(ctx, w.Declared); err != nil {
			return 0, err
		}
		wish = s
	}
	return p.want(ctx, wish)
}

// keep begins to keep a ward, or keeps it otherwise.
func (u *uplink) keep(ctx context.Context, w keepWard) error {
	k := u.k
	u.relabel(w.Labels)
	k.changing.Lock()
	defer k.changing.Unlock()
	rec := record.Ward{Name: w.Name, File: w.File, Roster: w.Roster, Source: w.Source, Home: w.Home, Limits: w.Limits}
	one, err := parseWard(rec)
	if err != nil {
		return err
	}
	c := u.own()
	id := ward.ID(w.Name, c.conf.Name)
	k.mu.RLock()
	have := k.kept.all[id]
	k.mu.RUnlock()
	last, err := k.store.LastNumber(ctx, id)
	if err != nil {
		return err
	}
	knew := last > 0
	if have != nil && last > w.Number {
		u.mu.Lock()
		u.lacks[id] = true
		u.mu.Unlock()
		rouse(u.wrote)
	}
	if have != nil && have.Broken == "" {
		x, err := k.store.Ward(ctx, rec.Name)
		if err != nil && !errors.Is(err, record.ErrNone) {
			return err
		}
		there := wardIn(one, c.conf.Name, w.Labels, rec.Limits) // what it is like here follows from labels too
		if err == nil && reflect.DeepEqual(there, *have.Ward) && x.File == rec.File && x.Roster == rec.Roster && x.Source == rec.Source && x.Home == rec.Home && fmt.Sprint(x.Limits) == fmt.Sprint(rec.Limits) {
			return nil
		}
	}
	if err := k.idle(k.named(w.Name)); err != nil {
		return err
	}
	if err := k.store.PutWard(ctx, rec, []string{c.conf.Name}); err != nil {
		return err
	}
	if last < w.Number {
		if err := u.beginAfter(ctx, id, w); err != nil {
			return err
		}
	}
	if err := k.putIn(ctx, one, rec, []string{c.conf.Name}, "the ward no longer goes there"); err != nil { // that it goes there the service has found out
		return err
	}
	if have != nil || w.Leaving == nil || !knew {
		return nil
	}
	// It was kept here, and its removal was through; the service has not heard the end of it. A lookout that lost its record does not know what of it is
	// still there, and keeps it until somebody removes it again.
	p, err := k.one(id)
	if err == nil {
		_, err = p.want(ctx, loop.Leave{Leaving: *w.Leaving})
	}
	return err
}

// beginAfter takes over what the service knows of a ward that this lookout does not know, or of which it has lost something.
func (u *uplink) beginAfter(ctx context.Context, id string, w keepWard) error {
	if err := u.k.store.SetBefore(ctx, id, w.Number); err != nil {
		return err
	}
	writes := []record.Write{record.SetHold{Hold: w.Hold}}
	for _, r := range w.Rejections {
		writes = append(writes, record.Reject{Rejection: r})
	}
	return u.k.store.Commit(ctx, id, writes...)
}

// letGo ends that a ward is kept: what of it stays in the cluster is told.
func (u *uplink) letGo(ctx context.Context, l letGo) (out leftThere, err error) {
	k := u.k
	k.changing.Lock()
	defer k.changing.Unlock()
	p, err := k.one(l.Ward)
	var f *Fault
	if errors.As(err, &f) && f.Kind == NotFound {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	kept, err := k.store.Baselines(ctx, p.ID)
	if err != nil {
		return out, err
	}
	for ref := range kept {
		out.Keys = append(out.Keys, ref.Key())
	}
	slices.Sort(out.Keys)
	u.use(p.ID, nil)
	if _, err := p.want(ctx, loop.BeWritten{}); err != nil {
		return out, err
	}
	if err := u.flushed(ctx); err != nil {
		return out, err
	}
	return out, k.retire(ctx, p, l.Leaving)
}

// flushed waits until the service has all that was written down: what comes once it has forgotten the ward is lost.
func (u *uplink) flushed(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		waiting, _, err := u.k.store.OutgoingSpan(ctx)
		if err != nil || waiting == 0 {
			return err
		}
		rouse(u.wrote)
		select {
		case <-ctx.Done():
			return fault(Conflict, "what was written down has not reached the service yet")
		case <-time.After(20 * time.Millisecond):
		}
	}
}
