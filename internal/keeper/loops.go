package keeper

import (
	"context"
	"errors"
	"hash/maphash"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/charts"
	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// ---- repositories

// repoLoop looks at one repository, once for all its wards.
type repoLoop struct {
	k      *Keeper
	name   string
	mirror *repo.Mirror  // nil for a chart repository
	shelf  *charts.Shelf // of a chart repository
	cancel context.CancelFunc
	asked  chan chan error
	nudged chan struct{}
	moved  chan struct{} // the next look is earlier than it was

	mu          sync.Mutex
	conf        record.Repo
	subscribers map[*placement]map[string]string // to the commits that each was told of last, by ref
	asOf        standing.AsOf
	branches    []string
	failures    int
	expiryAsked time.Time
}

const fetchTimeout = 2 * time.Minute

func (k *Keeper) openRepo(r record.Repo) error {
	ctx, cancel := context.WithCancel(k.ctx)
	l := &repoLoop{k: k, name: r.Name, cancel: cancel, asked: make(chan chan error), nudged: make(chan struct{}, 1), moved: make(chan struct{}, 1), conf: r, subscribers: map[*placement]map[string]string{}}
	if r.Charts {
		l.shelf = charts.Open(k.opts.MirrorDir, chartSource(r))
	} else {
		m, err := repo.Open(ctx, k.opts.MirrorDir, source(r))
		if err != nil {
			cancel()
			return err
		}
		m.Link(k.mirrorAt)
		l.mirror = m
	}
	k.mu.Lock()
	k.repos[r.Name] = l
	k.mu.Unlock()
	k.spawn(func() { l.run(ctx) })
	return nil
}

// mirrorAt is the mirror of the known repository at an address; nil when there is none.
func (k *Keeper) mirrorAt(address string) *repo.Mirror {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, l := range k.repos {
		if l.mirror != nil && repo.SameURL(l.url(), address) {
			return l.mirror
		}
	}
	return nil
}

// record is the repository as it is kept.
func (l *repoLoop) record() record.Repo {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conf
}

func (l *repoLoop) url() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conf.URL
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
		case <-l.nudged:
		case <-l.moved:
			timer.Reset(time.Until(l.next()))
			continue
		case c := <-l.asked:
			waiting = append(waiting, c)
		}
		for more := true; more; { // whoever asked meanwhile is served by the same fetch
			select {
			case <-l.nudged:
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
	turn, err := l.k.fetches.take(ctx, l.name)
	if err != nil {
		return err
	}
	defer turn()
	start := time.Now()
	fctx, cancel := context.WithTimeout(ctx, fetchTimeout)
	defer cancel()
	if l.shelf != nil {
		err = l.shelf.Refresh(fctx)
	} else {
		err = l.mirror.Fetch(fctx)
	}
	l.k.metrics.fetches.WithLabelValues(l.name, result(err)).Observe(time.Since(start).Seconds())
	l.mu.Lock()
	was := l.asOf.Known
	if err == nil {
		l.failures = 0
		l.asOf = standing.AsOf{Known: true, At: time.Now()}
	} else {
		l.failures++
		l.asOf = standing.AsOf{At: l.asOf.At, Problem: err.Error()}
	}
	l.asOf.Next = time.Now().Add(l.pause())
	asOf := l.asOf
	subscribers := slices.Collect(maps.Keys(l.subscribers))
	l.mu.Unlock()
	if err != nil && ctx.Err() == nil {
		l.k.log.Warn("repository can't be read", "repo", l.name, "error", err)
	}
	if was != (err == nil) {
		l.k.broker.send(Note{"repo", l.name})
	}
	if err != nil {
		for _, p := range subscribers {
			p.repoRead(l.name, asOf)
		}
		l.k.rosterRead(l.name, asOf)
		return err
	}
	if l.shelf != nil {
		for _, p := range subscribers {
			p.repoRead(l.name, asOf)
		}
		l.mu.Lock()
		l.branches = l.shelf.Names()
		l.mu.Unlock()
		return nil
	}
	l.k.rosterRead(l.name, asOf)
	l.tell(fctx, asOf)
	l.askExpiry(fctx)
	branches, err := l.mirror.Branches(fctx)
	l.mu.Lock()
	l.branches = branches
	l.mu.Unlock()
	return err
}

// askExpiry asks the server once a day when the credentials end.
func (l *repoLoop) askExpiry(ctx context.Context) {
	conf := l.record()
	l.mu.Lock()
	due := conf.Password != "" && time.Since(l.expiryAsked) > 24*time.Hour
	if due {
		l.expiryAsked = time.Now()
	}
	l.mu.Unlock()
	if !due {
		return
	}
	at := repo.Expires(ctx, source(conf))
	if at.Equal(conf.Expires) {
		return
	}
	l.mu.Lock()
	if l.conf.Password != conf.Password || l.conf.URL != conf.URL { // it was changed meanwhile
		l.mu.Unlock()
		return
	}
	l.conf.Expires = at
	conf = l.conf
	l.mu.Unlock()
	if err := l.k.store.PutRepo(ctx, conf); err != nil {
		l.k.log.Warn("when credentials end can't be written", "repo", l.name, "error", err)
	}
}

// lookSoon asks for a look at the repository without waiting for it; many such wishes become one look.
func (l *repoLoop) lookSoon() {
	select {
	case l.nudged <- struct{}{}:
	default: // it is about to look anyway
	}
}

// tell tells the wards of a repository what a look has found: first those for which something has changed, then the
// others. One commit among a thousand wards concerns one of them.
func (l *repoLoop) tell(ctx context.Context, a standing.AsOf) {
	l.mu.Lock()
	last := maps.Clone(l.subscribers)
	l.mu.Unlock()
	heads, moves := map[string]string{}, map[[2]string]*repo.Moved{}
	head := func(ref string) string {
		id, known := heads[ref]
		if !known {
			if r, err := l.mirror.Resolve(ctx, ref); err == nil {
				id = r.ID
			}
			heads[ref] = id
		}
		return id
	}
	// touched tells whether what a placement reads at a ref is another than it was.
	touched := func(i interest, old, id string) bool {
		if id != "" && old == id {
			return false
		}
		if id == "" || old == "" {
			return true
		}
		pair := [2]string{old, id}
		moved, known := moves[pair]
		if !known {
			var err error
			if moved, err = l.mirror.Moved(old, id); err != nil { // the old commit may be gone
				moved = nil
			}
			moves[pair] = moved
		}
		return moved == nil || slices.ContainsFunc(i.paths, moved.Touches)
	}
	var rest []*placement
	now := map[*placement]map[string]string{}
	for p, old := range last {
		same := true
		now[p] = map[string]string{}
		for _, i := range p.interests(l.name) {
			id := head(i.ref)
			now[p][i.ref] = id
			same = same && !touched(i, old[i.ref], id)
		}
		if same {
			rest = append(rest, p)
		} else {
			p.repoRead(l.name, a)
		}
	}
	l.mu.Lock()
	for p, ids := range now {
		if _, still := l.subscribers[p]; still {
			l.subscribers[p] = ids
		}
	}
	l.mu.Unlock()
	for _, p := range rest {
		p.repoSame(l.name, a)
	}
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
	if l.shelf != nil {
		l.shelf.SetSource(chartSource(r))
	} else {
		l.mirror.SetSource(source(r))
	}
}

// close ends the loop's processes.
func (l *repoLoop) close() {
	if l.mirror != nil {
		l.mirror.Close()
	}
}

// remove deletes what is kept of the repository on disk.
func (l *repoLoop) remove() error {
	if l.shelf != nil {
		return l.shelf.Remove()
	}
	return l.mirror.Remove()
}

func (l *repoLoop) subscribe(p *placement) standing.AsOf {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.subscribers[p] = nil
	if next := time.Now().Add(p.ward.Keep.Every); l.failures == 0 && !l.asOf.Next.IsZero() && next.Before(l.asOf.Next) { // it wants to be looked at more often
		l.asOf.Next = next
		select {
		case l.moved <- struct{}{}:
		default:
		}
	}
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
	c := l.conf
	return Repo{Name: c.Name, URL: c.URL, User: c.User, Wards: len(l.subscribers), Branches: l.branches, Repository: l.asOf, More: c.RepoMore, SignedIn: c.Password != "" || c.Key != "", WithKey: c.Key != ""}
}

// ---- clusters

// clusterLoop hands what a cluster's watches see to the wards that keep it.
type clusterLoop struct {
	k     *Keeper
	conf  record.Cluster
	conn  reach
	as    func(namespace, account string) (hands, error)
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
	if conn, err := cluster.Connect(k.clusterConfig(c), k.log); err != nil {
		l.err = err
		k.log.Error("cluster can't be used", "cluster", c.Name, "error", l.err)
	} else {
		l.conn, l.as = conn, func(namespace, account string) (hands, error) { return conn.As(namespace, account) }
		l.conn.Handle(l)
		l.below = newBelow(l.conn.Children)
	}
	k.mu.Lock()
	k.clusters[c.Name] = l
	k.mu.Unlock()
}

func (k *Keeper) clusterConfig(c record.Cluster) cluster.Config {
	return cluster.Config{Name: c.Name, Kubeconfig: c.Kubeconfig, Text: c.KubeconfigText, Files: k.opts.Kubeconfigs, Context: c.Context, Server: c.Server, Token: c.Token, CA: c.CA, InCluster: c.InCluster}
}

// record is the cluster as it is kept.
func (l *clusterLoop) record() record.Cluster {
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	return l.conf
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
	for _, p := range l.k.wards {
		if v := p.View(); p.cluster == l && v != nil && (v.Pending > 0 || v.Shares) {
			p.post(func() { p.moved++ })
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
	for _, p := range l.k.wards {
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
		l.each(func(p *placement) { p.post(func() {}) }) // each looks for its strays
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
		if p != nil && p.ward.Name == of.ward.Name {
			return true
		}
	}
	return false
}

// marked is the ward that an object is marked with.
func (l *clusterLoop) marked(body map[string]any) *placement {
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	return l.k.wards[object.Label(body, object.WardLabel)+"@"+l.conf.Name]
}

// Changed is part of cluster.Handler.
func (l *clusterLoop) Changed(body map[string]any, listed bool) {
	if p, ref := l.owner(body); p != nil {
		p.saw(ref, body, listed)
	}
}

// Deleted is part of cluster.Handler.
func (l *clusterLoop) Deleted(body map[string]any) {
	if p, ref := l.owner(body); p != nil {
		p.post(func() { p.index.LastSeen(time.Now(), ref, body) })
	}
}

// Listed is part of cluster.Handler.
func (l *clusterLoop) Listed(group, kind string, all map[object.Ref]bool) {
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
		if p := l.k.wards[id]; p != nil {
			p.post(func() { p.index.Listed(time.Now(), group, kind, all) })
		}
	}
}

// WatchChanged is part of cluster.Handler.
func (l *clusterLoop) WatchChanged() {
	l.each(func(p *placement) { p.post(p.watchChanged) })
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
