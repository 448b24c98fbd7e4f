package keeper

import (
	"context"
	"fmt"
	"hash/maphash"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
)

// clusterLoop hands what a cluster's watches see to the wards that keep it.
type clusterLoop struct {
	k     *Keeper
	conf  record.Cluster
	conn  reach // nil where it can't be reached, and for the cluster of a lookout
	away  *away // the lookout that keeps it; nil for a cluster that is reached from here
	as    func(namespace, account string) (drive.Hands, error)
	err   error  // why there is no connection
	below *below // what controllers made
	calls *turns // what runs and previews ask of the cluster
	// rewound tells that the cluster holds an earlier state than Vigila has applied: its data were put back.
	rewound atomic.Bool
	sweeps  atomic.Bool // it is being looked for what came back with them

	mu     sync.Mutex
	claims map[uint64]*placement // who keeps an object, by a hash of its ref: thousands of them are to stay small
	seed   maphash.Seed
	needs  map[object.Kind]map[string]bool // which placements need the watch of a kind
}

func (k *Keeper) openCluster(c record.Cluster) {
	l := &clusterLoop{k: k, conf: c, claims: map[uint64]*placement{}, seed: maphash.MakeSeed(), needs: map[object.Kind]map[string]bool{},
		calls: newTurns(k.opts.Calls, 10*time.Second, k.metrics.waits.WithLabelValues("cluster "+c.Name))}
	if kept, is := k.lookouts[c.Name]; is {
		l.away = newAway(k, kept)
		time.AfterFunc(awayLong+time.Second, l.away.noted) // where it has not come by then, it is loud
		l.err = fmt.Errorf("cluster %s is kept by its lookout, and this is asked of clusters that the service reaches itself", c.Name)
	} else if conn, err := cluster.Connect(k.clusterConfig(c), k.log); err != nil {
		l.err = err
		k.log.Error("cluster can't be used", "cluster", c.Name, "error", l.err)
	} else {
		l.conn, l.as = conn, func(namespace, account string) (drive.Hands, error) { return conn.As(namespace, account) }
		l.conn.Handle(l)
		l.below = newBelow(l.conn.Children)
	}
	k.mu.Lock()
	k.clusters[c.Name] = l
	k.mu.Unlock()
}

func (k *Keeper) clusterConfig(c record.Cluster) cluster.Config {
	return cluster.Config{Name: c.Name, Kubeconfig: c.Kubeconfig, Text: c.KubeconfigText, Files: k.opts.Kubeconfigs, Context: c.Context, Server: c.Server, Token: c.Token, CA: c.CA, InCluster: c.InCluster, Namespaces: c.Only}
}

// record is the cluster as it is kept.
func (l *clusterLoop) record() record.Cluster {
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	return l.conf
}

// namespaces are those that objects may be kept in: those that can be looked into, and those that are declared.
func (l *clusterLoop) namespaces() (only, may []string) {
	c := l.record()
	return c.Only, c.May
}

func (l *clusterLoop) labels() map[string]string {
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	return l.conf.Labels
}

func (l *clusterLoop) close() {
	if l.conn != nil {
		l.conn.Close()
	}
}

// need makes sure that a kind is watched as long as a placement needs it; release lets it go.
func (l *clusterLoop) need(kind object.Kind, id string) {
	l.mu.Lock()
	if l.needs[kind] == nil {
		l.needs[kind] = map[string]bool{}
	}
	l.needs[kind][id] = true
	l.mu.Unlock()
	l.conn.Watch(kind)
}

func (l *clusterLoop) release(kind object.Kind, id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.needs[kind], id)
	if len(l.needs[kind]) == 0 {
		delete(l.needs, kind)
		l.conn.Unwatch(kind)
	}
}

// releaseAll lets every kind go that a placement needed.
func (l *clusterLoop) releaseAll(id string) {
	l.mu.Lock()
	var all []object.Kind
	for kind, needers := range l.needs {
		if needers[id] {
			all = append(all, kind)
		}
	}
	l.mu.Unlock()
	for _, kind := range all {
		l.release(kind, id)
	}
}

// claim notes that a placement keeps an object. Should two refs ever share a hash, the placement that is asked says that
// it does not keep the other, and the object's mark decides.
func (l *clusterLoop) claim(ref object.Ref, p *placement) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.claims[maphash.Comparable(l.seed, ref)] = p
}

// claimFor is claim for an object that may be another's: then it stays so, and the other is returned.
func (l *clusterLoop) claimFor(ref object.Ref, p *placement) (other *placement) {
	l.mu.Lock()
	defer l.mu.Unlock()
	hash := maphash.Comparable(l.seed, ref)
	if other := l.claims[hash]; other != nil && other != p {
		return other
	}
	l.claims[hash] = p
	return nil
}

// drop notes that a placement keeps an object no more; what another keeps by now stays its own.
func (l *clusterLoop) drop(ref object.Ref, p *placement) {
	l.mu.Lock()
	if hash := maphash.Comparable(l.seed, ref); l.claims[hash] == p {
		delete(l.claims, hash)
	}
	l.mu.Unlock()
	l.freed()
}

// freed wakes the wards that may have waited for an object that another has let go of.
func (l *clusterLoop) freed() {
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	for _, p := range l.k.kept.in[l.conf.Name] {
		if v := p.View(); p.cluster == l && v != nil && (v.Pending > 0 || v.Shares) {
			p.post(loop.Freed{})
		}
	}
}

// keeper is the ward that keeps an object; nil when none does.
func (l *clusterLoop) keeper(ref object.Ref) *placement {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.claims[maphash.Comparable(l.seed, ref)]
}

func (l *clusterLoop) unclaim(p *placement) {
	l.mu.Lock()
	maps.DeleteFunc(l.claims, func(_ uint64, x *placement) bool { return x == p })
	l.mu.Unlock()
	l.freed()
}

// owner finds the ward that an event is for: the one that keeps the object, else the one it is marked with.
func (l *clusterLoop) owner(body map[string]any) (*placement, object.Ref) {
	o, err := object.FromBody(body)
	if err != nil {
		return nil, object.Ref{}
	}
	l.mu.Lock()
	p := l.claims[maphash.Comparable(l.seed, o.Ref)]
	l.mu.Unlock()
	if p == nil {
		p = l.marked(body)
	}
	return p, o.Ref
}

// each calls something with every ward that is kept in the cluster.
func (l *clusterLoop) each(f func(*placement)) {
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	for _, p := range l.k.kept.in[l.conf.Name] {
		if p.cluster == l {
			f(p)
		}
	}
}

// PutBack is part of cluster.Handler.
func (l *clusterLoop) PutBack() { l.putBack() }

// putBack takes in that the cluster's data were put back. What comes back with them may be of a kind that nobody watches any more,
// so everything that bears a mark is looked at once.
func (l *clusterLoop) putBack() {
	if l.rewound.CompareAndSwap(false, true) {
		l.each(func(p *placement) { p.post(loop.Woken{}) }) // each looks for its strays
	}
	if l.conn == nil || !l.sweeps.CompareAndSwap(false, true) {
		return
	}
	l.k.spawn(func() {
		defer l.sweeps.Store(false)
		for l.k.ctx.Err() == nil {
			if err := l.conn.Marked(l.k.ctx, func(f cluster.Found) { l.Changed(f.Body, false) }); err == nil {
				return
			}
			select {
			case <-l.k.ctx.Done():
			case <-time.After(sweepPause):
			}
		}
	})
}

// sweepPause is how long it takes until a look at everything that was not answered is made again.
const sweepPause = 2 * time.Second

// keptElsewhere tells whether the same ward keeps an object of this name in another cluster: that may be the same one, under
// another name.
func (k *Keeper) keptElsewhere(ref object.Ref, of *placement) bool {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, l := range k.clusters {
		if l == of.cluster {
			continue
		}
		l.mu.Lock()
		p := l.claims[maphash.Comparable(l.seed, ref)]
		l.mu.Unlock()
		if p != nil && p.Ward.Name == of.Ward.Name {
			return true
		}
	}
	return false
}

// marked is the ward that an object is marked with.
func (l *clusterLoop) marked(body map[string]any) *placement {
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	return l.k.kept.all[ward.ID(object.Label(body, object.WardLabel), l.conf.Name)]
}

// Changed is part of cluster.Handler.
func (l *clusterLoop) Changed(body map[string]any, listed bool) {
	if p, ref := l.owner(body); p != nil {
		p.saw(ref, body, listed)
	}
}

// Of what lists bring so many states wait at most, and this long is waited for that at a time: a ward that takes none in, whatever
// the reason, holds up nobody for good.
const (
	crowded = 512
	breath  = 200 * time.Millisecond
)

// Breathe is part of cluster.Handler.
func (l *clusterLoop) Breathe() {
	for end := time.Now().Add(breath); l.waiting() > crowded && time.Now().Before(end); {
		select {
		case <-l.k.ctx.Done():
			return
		case <-time.After(time.Millisecond):
		}
	}
}

// waiting is how many states of objects wait, over all wards of the cluster.
func (l *clusterLoop) waiting() (n int) {
	l.each(func(p *placement) { n += p.states() })
	return n
}

// Deleted is part of cluster.Handler.
func (l *clusterLoop) Deleted(body map[string]any) {
	if p, ref := l.owner(body); p != nil {
		p.post(loop.SawGone{Ref: ref, Body: body})
	}
}

// Listed is part of cluster.Handler.
func (l *clusterLoop) Listed(group, kind, namespace string, all map[object.Ref]bool) {
	l.mu.Lock()
	var ids []string
	for k, needers := range l.needs {
		if k.Kind == kind {
			ids = append(ids, slices.Collect(maps.Keys(needers))...)
		}
	}
	l.mu.Unlock()
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	for _, id := range ids {
		if p := l.k.kept.all[id]; p != nil {
			p.post(loop.Listed{Group: group, Kind: kind, Namespace: namespace, All: all})
		}
	}
}

// WatchChanged is part of cluster.Handler.
func (l *clusterLoop) WatchChanged() {
	l.each(func(p *placement) { p.post(loop.WatchMoved{}) })
	l.k.broker.send(Note{"cluster", l.conf.Name})
}

// nodes are the cluster's machines; warnings what its events warn of, and whether that is all.
func (l *clusterLoop) nodes(ctx context.Context) (out []cluster.Node, err error) {
	switch {
	case l.away != nil:
		return out, l.away.call(ctx, "nodes", nothingAsked{}, &out)
	case l.conn == nil:
		return nil, nil
	}
	return l.conn.Nodes(ctx)
}

func (l *clusterLoop) warnings(ctx context.Context, since time.Time) (out toldWarnings, err error) {
	switch {
	case l.away != nil:
		return out, l.away.call(ctx, "warnings", since, &out)
	case l.conn == nil:
		return toldWarnings{Whole: true}, nil
	}
	out.All, out.Whole, err = l.conn.Warnings(ctx, since)
	return out, err
}

// toldWarnings are warnings of a cluster, and whether they are all.
type toldWarnings struct {
	All   []cluster.Event
	Whole bool
}

func (l *clusterLoop) info(ctx context.Context) Cluster {
	l.k.mu.RLock()
	out := Cluster{Cluster: l.conf}
	l.k.mu.RUnlock()
	if l.away != nil {
		l.away.info(&out)
		return out
	}
	if l.err != nil {
		out.Live.Problem = l.err.Error()
		return out
	}
	out.Server = l.conn.Server()
	state, watches := l.conn.AllWatches()
	out.Live = standing.AsOf{Known: state.Known && watches > 0, At: state.At, Problem: state.Problem}
	v, err := l.conn.Version(ctx)
	if err != nil {
		out.Live = standing.AsOf{At: state.At, Problem: err.Error()}
		return out
	}
	out.Version = v
	if watches == 0 {
		out.Live = standing.AsOf{Known: true, At: time.Now()}
	}
	return out
}
