package keeper

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// AsOf is what was last known of a source, and since when.
type AsOf struct {
	Known   bool
	At      time.Time // of the last look that went well
	Next    time.Time // zero for a watch
	Problem string
}

// ---- repositories

// repoLoop looks at one repository, once for all its wards.
type repoLoop struct {
	k      *Keeper
	mirror *repo.Mirror
	cancel context.CancelFunc
	asked  chan chan error

	mu          sync.Mutex
	conf        record.Repo
	subscribers map[*placement]struct{}
	asOf        AsOf
	branches    []string
	failures    int
}

const fetchTimeout = 2 * time.Minute

func (k *Keeper) openRepo(r record.Repo) error {
	ctx, cancel := context.WithCancel(k.ctx)
	m, err := repo.Open(ctx, k.opts.MirrorDir, repo.Source(r))
	if err != nil {
		cancel()
		return err
	}
	l := &repoLoop{k: k, mirror: m, cancel: cancel, asked: make(chan chan error), conf: r, subscribers: map[*placement]struct{}{}}
	k.mu.Lock()
	k.repos[r.Name] = l
	k.mu.Unlock()
	k.spawn(func() { l.run(ctx) })
	return nil
}

func (l *repoLoop) run(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		var waiting []chan error
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case c := <-l.asked:
			waiting = append(waiting, c)
		}
		for more := true; more; { // whoever asked meanwhile is served by the same fetch
			select {
			case c := <-l.asked:
				waiting = append(waiting, c)
			default:
				more = false
			}
		}
		err := l.fetch(ctx)
		for _, c := range waiting {
			c <- err
		}
		timer.Reset(time.Until(l.next()))
	}
}

// fetch reads the repository and tells every ward.
func (l *repoLoop) fetch(ctx context.Context) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	turn, err := l.k.fetches.take(ctx, l.mirror.Name())
	if err != nil {
		return err
	}
	defer turn()
	start := time.Now()
	fctx, cancel := context.WithTimeout(ctx, fetchTimeout)
	defer cancel()
	err = l.mirror.Fetch(fctx)
	var branches []string
	if err == nil {
		branches, err = l.mirror.Branches(fctx)
	}
	l.k.metrics.fetches.WithLabelValues(l.mirror.Name(), result(err)).Observe(time.Since(start).Seconds())
	l.mu.Lock()
	was := l.asOf.Known
	if err == nil {
		l.failures, l.branches = 0, branches
		l.asOf = AsOf{Known: true, At: time.Now()}
	} else {
		l.failures++
		l.asOf = AsOf{At: l.asOf.At, Problem: err.Error()}
	}
	l.asOf.Next = time.Now().Add(l.pause())
	asOf, subscribers := l.asOf, make([]*placement, 0, len(l.subscribers))
	for p := range l.subscribers {
		subscribers = append(subscribers, p)
	}
	l.mu.Unlock()
	if err != nil && ctx.Err() == nil {
		l.k.log.Warn("repository can't be read", "repo", l.mirror.Name(), "error", err)
	}
	if was != (err == nil) {
		l.k.broker.send(Note{"repo", l.mirror.Name()})
	}
	for _, p := range subscribers {
		p.repoRead(asOf)
	}
	return err
}

func result(err error) string {
	if err != nil {
		return "failed"
	}
	return "ok"
}

// pause is the time until the next look: the shortest interval any ward asks for, spread a little; longer after
// failures.
func (l *repoLoop) pause() time.Duration {
	every := 5 * time.Minute
	for p := range l.subscribers {
		every = min(every, p.ward.Keep.Every)
	}
	d := min(every<<min(l.failures, 5), max(every, 5*time.Minute))
	return d + time.Duration((rand.Float64()-0.5)*0.2*float64(d))
}

func (l *repoLoop) next() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.asOf.Next
}

// look fetches now and returns when every ward was told; wards render on their own.
func (l *repoLoop) look(ctx context.Context) error {
	c := make(chan error, 1)
	select {
	case l.asked <- c:
	case <-ctx.Done():
		return ctx.Err()
	case <-l.k.ctx.Done():
		return errors.New("the service is ending")
	}
	select {
	case err := <-c:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-l.k.ctx.Done():
		return errors.New("the service is ending")
	}
}

func (l *repoLoop) change(r record.Repo) {
	l.mu.Lock()
	l.conf = r
	l.mu.Unlock()
	l.mirror.SetSource(repo.Source(r))
}

func (l *repoLoop) subscribe(p *placement) AsOf {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.subscribers[p] = struct{}{}
	return l.asOf
}

func (l *repoLoop) unsubscribe(p *placement) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.subscribers, p)
}

func (l *repoLoop) info() Repo {
	l.mu.Lock()
	defer l.mu.Unlock()
	return Repo{Name: l.conf.Name, URL: l.conf.URL, User: l.conf.User, Wards: len(l.subscribers), Branches: l.branches, Repository: l.asOf}
}

// ---- clusters

// clusterLoop hands what a cluster's watches see to the wards that keep it.
type clusterLoop struct {
	k     *Keeper
	conf  record.Cluster
	conn  *cluster.Cluster
	err   error         // why there is no connection
	slow  chan struct{} // bounds the looks below workloads
	calls *turns        // what runs and previews ask of the cluster

	mu     sync.Mutex
	claims map[object.Ref]string         // which placement keeps an object
	needs  map[[2]string]map[string]bool // which placements need the watch of a kind (version, kind)
}

func (k *Keeper) openCluster(c record.Cluster) {
	l := &clusterLoop{k: k, conf: c, claims: map[object.Ref]string{}, needs: map[[2]string]map[string]bool{}, slow: make(chan struct{}, 4),
		calls: newTurns(k.opts.Calls, 10*time.Second, k.metrics.waits.WithLabelValues("cluster "+c.Name))}
	l.conn, l.err = cluster.Connect(cluster.Config{Name: c.Name, Kubeconfig: c.Kubeconfig, Context: c.Context}, k.log)
	if l.err != nil {
		k.log.Error("cluster can't be used", "cluster", c.Name, "error", l.err)
	} else {
		l.conn.Handle(l)
	}
	k.mu.Lock()
	k.clusters[c.Name] = l
	k.mu.Unlock()
}

func (l *clusterLoop) close() {
	if l.conn != nil {
		l.conn.Close()
	}
}

// need makes sure that a kind is watched as long as a placement needs it; release lets it go.
func (l *clusterLoop) need(kind [2]string, id string) {
	l.mu.Lock()
	if l.needs[kind] == nil {
		l.needs[kind] = map[string]bool{}
	}
	l.needs[kind][id] = true
	l.mu.Unlock()
	l.conn.Watch(kind[0], kind[1])
}

func (l *clusterLoop) release(kind [2]string, id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.needs[kind], id)
	if len(l.needs[kind]) == 0 {
		delete(l.needs, kind)
		l.conn.Unwatch(kind[0], kind[1])
	}
}

func (l *clusterLoop) claim(ref object.Ref, id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.claims[ref] = id
}

func (l *clusterLoop) drop(ref object.Ref) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.claims, ref)
}

func (l *clusterLoop) unclaim(id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for ref, p := range l.claims {
		if p == id {
			delete(l.claims, ref)
		}
	}
}

// owner finds the ward that an event is for: the one that keeps the object, else the one it is marked with.
func (l *clusterLoop) owner(body map[string]any) (*placement, object.Ref) {
	o, err := object.FromBody(body)
	if err != nil {
		return nil, object.Ref{}
	}
	l.mu.Lock()
	id, ok := l.claims[o.Ref]
	l.mu.Unlock()
	if !ok {
		id = object.Label(body, object.WardLabel) + "@" + l.conf.Name
	}
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	return l.k.wards[id], o.Ref
}

// Changed is part of cluster.Handler.
func (l *clusterLoop) Changed(body map[string]any) {
	if p, ref := l.owner(body); p != nil {
		p.saw(ref, body)
	}
}

// Deleted is part of cluster.Handler.
func (l *clusterLoop) Deleted(body map[string]any) {
	if p, ref := l.owner(body); p != nil {
		p.post(func() { p.verify(ref) })
	}
}

// WatchChanged is part of cluster.Handler.
func (l *clusterLoop) WatchChanged() {
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	for _, p := range l.k.wards {
		if p.cluster == l {
			p.post(func() { p.watchChanged() })
		}
	}
	l.k.broker.send(Note{"cluster", l.conf.Name})
}

func (l *clusterLoop) info(ctx context.Context) Cluster {
	l.k.mu.RLock()
	out := Cluster{Cluster: l.conf}
	l.k.mu.RUnlock()
	if l.err != nil {
		out.Live.Problem = l.err.Error()
		return out
	}
	out.Server = l.conn.Server()
	state, watches := l.conn.AllWatches()
	out.Live = AsOf{Known: state.Known && watches > 0, At: state.At, Problem: state.Problem}
	v, err := l.conn.Version(ctx)
	if err != nil {
		out.Live = AsOf{At: state.At, Problem: err.Error()}
		return out
	}
	out.Version = v
	if watches == 0 {
		out.Live = AsOf{Known: true, At: time.Now()}
	}
	return out
}
