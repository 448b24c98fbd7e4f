package keeper

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
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
	// facted grows with the facts: a chart may see more of the cluster than it did.
	facted int64

	// long are calls that last as long as the lookout takes for something, such as a rendering: were all that it answers at a time of those, it could be
	// asked nothing else, and they may wait for what else is asked.
	long *turns

	writing sync.Mutex // what was told
	ended   bool       // another, or none, is to keep the cluster
}

// keptAlone is how many of them are remembered.
const keptAlone = 20

func newAway(k *Keeper, kept record.Lookout) *away {
	return &away{k: k, name: kept.Cluster, kept: kept, since: time.Now(), long: longTurns(k, "lookout "+kept.Cluster)}
}

// longTurns are for calls to the other side that may last.
func longTurns(k *Keeper, queue string) *turns {
	var waited prometheus.Observer = prometheus.ObserverFunc(func(float64) {})
	if k != nil {
		waited = k.metrics.waits.WithLabelValues(queue)
	}
	return newTurns(longAtOnce, longPatience, waited)
}

// So many calls that may last are made at a time; one that has lasted so long lets another begin.
const (
	longAtOnce   = 128
	longPatience = 10 * time.Second
)

// heard is when the lookout was heard of last; zero when it never was.
func (a *away) heard() (at time.Time, here bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.peer != nil {
		return a.peer.Heard(), true
	}
	return a.kept.Told.Heard, false
}

// now is the connection; nil when there is none.
func (a *away) now() *link.Peer {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.peer
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

// seen is how a ward that the lookout keeps stands: as it was told, while the connection is there that it was told by. What was told before the
// lookout was away is what was known last, and no more, until it is told anew.
func (a *away) seen(v *standing.View, by *link.Peer) *standing.View {
	a.mu.Lock()
	peer, long, at := a.peer, time.Since(a.since) > awayLong, a.kept.Told.Heard
	a.mu.Unlock()
	switch {
	case peer == nil:
		return standing.Away(v, at, awayText(a.name, at), long)
	case peer != by:
		return standing.Away(v, at, fmt.Sprintf("the lookout of %s has not told yet how it stands", a.name), long)
	}
	at = peer.Heard()
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
	a.facted++
	a.mu.Unlock()
	a.write()
	a.k.broker.send(Note{"cluster", a.name})
}

// write writes down what was told. That it fails costs what is known after the next start, and no more.
func (a *away) write() {
	a.writing.Lock() // one after the other: what was older must not be written last
	defer a.writing.Unlock()
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
