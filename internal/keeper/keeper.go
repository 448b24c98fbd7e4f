// Package keeper joins repositories, rendering, clusters and the record: it looks, compares, decides and runs.
// Each ward in a cluster has a goroutine of its own, so that one never blocks another. Start with Keeper.
package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"runtime"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/metrics"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
)

// Fault is a request that can't be met, with the reason and what to do; Ask says which run is wanted.
type (
	Fault     = loop.Fault
	FaultKind = loop.FaultKind
	Ask       = loop.Ask
)

// The kinds of fault.
const (
	NotFound    = loop.NotFound
	Invalid     = loop.Invalid
	Conflict    = loop.Conflict
	Guarded     = loop.Guarded
	Unreachable = loop.Unreachable
	Unwritten   = loop.Unwritten
	Denied      = loop.Denied
)

func fault(kind FaultKind, format string, args ...any) *Fault {
	return &Fault{Kind: kind, Text: fmt.Sprintf(format, args...)}
}

// unknown tells that there is no such thing: the nearest, or which there are, or how the first is made.
func unknown(what, name string, known []string, first string) *Fault {
	if len(known) == 0 {
		return fault(NotFound, "there is no %s %q, nor any other yet; the first: %s", what, name, first)
	}
	return fault(NotFound, "there is no %s %q; %s", what, name, nearest.Words(name, known))
}

// Filter says which wards are wanted; what is empty is not asked for.
type Filter struct{ Cluster, Owner, Roster string }

// Check refuses a filter by something that there is not: no ward would match it, and that would look like good news.
func (k *Keeper) Check(f Filter) error {
	k.mu.RLock()
	_, cluster := k.clusters[f.Cluster]
	_, roster := k.rosters[f.Roster]
	var owners []string
	if f.Owner != "" {
		for _, p := range k.kept.all {
			owners = append(owners, p.Ward.Owner)
		}
	}
	k.mu.RUnlock()
	owners = slices.DeleteFunc(owners, func(o string) bool { return o == "" })
	switch {
	case f.Cluster != "" && !cluster:
		return k.unknownCluster(f.Cluster)
	case f.Roster != "" && !roster:
		_, err := k.roster(f.Roster)
		return err
	case f.Owner != "" && !slices.Contains(owners, f.Owner):
		slices.Sort(owners)
		return unknown("owner", f.Owner, slices.Compact(owners), "write owner: in a ward file")
	}
	return nil
}

// Options are the settings of a Keeper.
type Options struct {
	MirrorDir       string
	AllowLocalRepos bool
	Parallel        int // objects applied at a time in one run
	Calls           int // calls to one cluster at a time, over all its runs; 4 × Parallel when 0
	Keep            record.Retention
	KeepAudit       time.Duration // how long is kept what was done; 0: for ever
	SessionIdle     time.Duration // how long a session is taken that nobody uses; 8 h when 0
	SessionFor      time.Duration // how long one is taken at all; 24 h when 0
	Lookout         *LookoutOf    // nil for a service
	ChecksLocal     bool          // requests of checks may reach this machine and its link
	Kubeconfigs     cluster.Kubeconfigs
	// Render renders; render.Render, in this process, when nil.
	Render func(context.Context, render.Request) (*render.Result, error)
}

// Contexts lists the contexts of a kubeconfig in the directory that is set for them.
func (k *Keeper) Contexts(file string) ([]string, error) {
	names, err := k.opts.Kubeconfigs.Contexts(file)
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	return names, nil
}

// Keeper keeps every ward. Its methods may be called by many goroutines.
type Keeper struct {
	store   *record.Store
	ledger  ledger       // store, as wards use it
	service string       // the id of this service
	mask    compare.Mask // of secret values
	log     *slog.Logger
	opts    Options
	ctx     context.Context
	cancel  context.CancelFunc
	metrics *counters
	broker  *broker
	fetches *turns   // of repositories
	renders *turns   // of wards
	recent  sync.Map // ids of snapshots put lately, to when
	outside
	holdings
}

// outside is who asks and who is asked beside clusters and repositories, and how much is being done there.
type outside struct {
	asks    asker
	up      *uplink      // the service, at a lookout; nil at a service
	driving atomic.Int64 // runs that go on
	common  *loop.Common // of all wards
	reads   *reading.Common
	board   board
	tidying sync.RWMutex // what is put, or found to be there, is not taken for unused meanwhile
}

// holdings are what a Keeper keeps.
type holdings struct {
	mu    sync.RWMutex
	repos map[string]*sources.Loop
	grounds
	kept       keptWards
	rosters    map[string]*rosterLoop
	measured   []record.Metrics  // metrics sources, by name
	registries []record.Registry // by name
	closed     bool
	done       sync.WaitGroup
	changing   sync.Mutex // one registration at a time
	endings    sync.Mutex // one end of a token at a time
	ways
	people people
	asked  *turns   // of asking registries
	pushed sync.Map // registries, to when the last push was taken
}

// grounds are the clusters, and what the record has of the lookouts that keep some.
type grounds struct {
	clusters map[string]*clusterLoop
	lookouts map[string]record.Lookout
	keys     sync.Mutex // one makes the service's own key
}

// ways are the ways of changes: their reviews, here and on code hosts, and from environment to environment.
type ways struct {
	proposals proposals
	lanes     lanes
	hosts     hosts
	stores    stores
	alerts    alerts
	makings   makings
}

func newHoldings() holdings {
	return holdings{repos: map[string]*sources.Loop{}, grounds: grounds{clusters: map[string]*clusterLoop{}, lookouts: map[string]record.Lookout{}}, kept: newKept(), rosters: map[string]*rosterLoop{}, ways: ways{newProposals(), newLanes(), newHosts(), newStores(), newAlerts(), newMakings()}, people: newPeople()}
}

// New opens everything the record knows and starts to look. It asks nothing of the network before it returns:
// what can't be reached shows as blind.
func New(ctx context.Context, store *record.Store, opts Options, log *slog.Logger) (*Keeper, error) {
	if opts.Parallel <= 0 {
		opts.Parallel = 8
	}
	if opts.Render == nil {
		opts.Render = render.Render
	}
	if opts.Calls <= 0 {
		opts.Calls = 4 * opts.Parallel
	}
	k := &Keeper{store: store, ledger: store, service: store.ServiceID(), mask: store.Vault().Digest, log: log, opts: opts, metrics: newCounters(), broker: newBroker(), holdings: newHoldings()}
	k.ctx, k.cancel = context.WithCancel(context.Background())
	k.fetches = newTurns(8, 5*time.Second, k.metrics.waits.WithLabelValues("fetch"))
	k.asked = newTurns(8, 5*time.Second, k.metrics.waits.WithLabelValues("registry"))
	k.renders = newTurns(max(2, runtime.NumCPU()), 5*time.Second, k.metrics.waits.WithLabelValues("render"))
	k.asks = &metrics.Asker{Local: opts.ChecksLocal, Source: func(name string) (metrics.Source, bool) {
		m, known := k.metricsSource(name)
		return sourceOf(m), known
	}}
	if opts.Lookout != nil {
		store.Mirrors()
		store.Vault().DigestsAs(opts.Lookout.Digest)
		k.service, k.up = opts.Lookout.Service, newUplink(k, opts.Lookout)
	}
	k.share()
	k.metrics.watch(k)
	n, err := store.InterruptRunning(ctx)
	if err != nil {
		return nil, err
	}
	if n > 0 {
		log.Warn("runs were interrupted by the last end of the service", "runs", n)
	}
	if err := k.openSources(ctx); err != nil {
		return nil, err
	}
	if err := k.openStores(ctx); err != nil {
		log.Error("stores can't be read; what refers to them is not known", "error", err)
	}
	if err := k.openWards(ctx); err != nil {
		return nil, err
	}
	if err := k.readPeople(ctx); err != nil {
		log.Error("providers and teams can't be read; nobody signs in by a provider until they can", "error", err)
	}
	if err := k.openHosts(ctx); err != nil {
		log.Error("code hosts can't be read; nothing is told there", "error", err)
	}
	for _, l := range k.rosters {
		l.start()
	}
	k.spawn(k.keepProposals)
	k.spawn(k.keepLanes)
	if err := k.openAlerts(ctx); err != nil {
		log.Error("the ways of alerts can't be read; nobody is told of anything", "error", err)
	}
	k.spawn(k.keepAlerts)
	k.spawn(k.deliver)
	k.spawn(k.tidy)
	k.spawn(k.giveBack)
	return k, nil
}

// openSources opens the repositories, clusters and rosters that the record knows.
func (k *Keeper) openSources(ctx context.Context) error {
	repos, err := k.store.Repos(ctx)
	if err != nil {
		return err
	}
	for _, r := range repos {
		if err := k.openRepo(r); err != nil {
			k.log.Error("a repository can't be opened; its wards are blind, and the others go on", "repo", r.Name, "error", err)
		}
	}
	clusters, err := k.store.Clusters(ctx)
	if err != nil {
		return err
	}
	lookouts, err := k.store.Lookouts(ctx)
	if err != nil {
		return err
	}
	for _, l := range lookouts {
		k.lookouts[l.Cluster] = l
	}
	for _, c := range clusters {
		k.openCluster(c)
	}
	if err := k.readMetrics(ctx); err != nil {
		k.log.Error("metrics sources can't be read; checks that ask them know nothing", "error", err)
	}
	if err := k.readRegistries(ctx); err != nil {
		k.log.Error("registries can't be read; follows know nothing", "error", err)
	}
	rosters, err := k.store.Rosters(ctx)
	if err != nil {
		return err
	}
	for _, r := range rosters {
		k.openRoster(r)
	}
	return nil
}

// share makes what all wards have in common.
func (k *Keeper) share() {
	k.common = &loop.Common{Service: k.service, Mask: k.mask, Clock: time.Now, Runs: k.driving.Load}
	k.reads = &reading.Common{House: shelves{k}, Cache: k.store, Service: k.service, Mask: k.mask, Render: k.opts.Render, Counts: k.metrics.renders.Inc}
}

// openWards opens the wards that the record knows. One that can't be opened keeps no other from anything.
func (k *Keeper) openWards(ctx context.Context) error {
	wards, err := k.store.Wards(ctx)
	if err != nil {
		return err
	}
	parsed := map[string]ward.Ward{}
	kept := map[string]record.Ward{}
	unread := map[string]error{}
	for _, w := range wards {
		one, err := parseWard(w)
		if err != nil {
			unread[w.Name] = err
		}
		parsed[w.Name], kept[w.Name] = one, w
	}
	placements, err := k.store.Placements(ctx, "")
	if err != nil {
		return err
	}
	for _, p := range placements {
		err := unread[p.Ward]
		if err == nil {
			err = k.openPlacement(ctx, p, parsed[p.Ward], kept[p.Ward])
		}
		if err != nil && ctx.Err() != nil {
			return err
		}
		if err != nil {
			k.openBroken(p, parsed[p.Ward], kept[p.Ward], err)
		}
	}
	return nil
}

// parseWard reads the stored file of a ward.
func parseWard(w record.Ward) (ward.Ward, error) {
	all, err := ward.ParseIn(ward.From{Repo: w.Home.Repo, Ref: w.Home.Ref}, w.Name+".yaml", []byte(w.File))
	if err != nil || len(all) != 1 {
		return ward.Ward{}, fmt.Errorf("the stored file of ward %s can't be read any more: %w", w.Name, err)
	}
	return all[0], nil
}

// giveBack returns memory to the system once everything has been looked at after a start: reading all objects takes
// many times what is kept of them.
func (k *Keeper) giveBack() {
	again := time.NewTicker(2 * time.Second)
	defer again.Stop()
	for known := false; !known; {
		select {
		case <-k.ctx.Done():
			return
		case <-again.C:
		}
		known = !slices.ContainsFunc(k.Views(), func(v *standing.View) bool { return !v.Live.Known })
	}
	debug.FreeOSMemory()
}

// tidy keeps the record as small as the settings say: a minute after the start, and every hour.
func (k *Keeper) tidy() {
	for wait := time.Minute; ; wait = time.Hour {
		select {
		case <-k.ctx.Done():
			return
		case <-time.After(wait):
		}
		if _, err := k.Tidy(k.ctx); err != nil && k.ctx.Err() == nil {
			k.log.Error("the logbooks can't be tidied", "error", err)
		}
	}
}

// putSnapshot keeps declared objects, safe from Tidy until something names them.
func (k *Keeper) putSnapshot(ctx context.Context, kept []declared.Whole) (string, error) {
	id := record.SnapshotID(kept)
	k.tidying.RLock()
	defer k.tidying.RUnlock()
	k.recent.Store(id, time.Now())
	return id, k.store.PutSnapshot(ctx, id, kept)
}

// Tidy drops what the settings don't keep, now.
func (k *Keeper) Tidy(ctx context.Context) (record.Tidied, error) {
	k.tidying.Lock()
	defer k.tidying.Unlock()
	k.mu.RLock()
	var live []string
	for _, p := range k.kept.all {
		live = append(live, p.View().Snapshots...)
		if d := p.Says(); d != nil { // of a ward that a lookout keeps nothing may have been told yet
			live = append(live, d.Snapshot)
		}
	}
	k.mu.RUnlock()
	now := time.Now()
	k.recent.Range(func(id, at any) bool { // a snapshot that was just put may not be in any view yet
		if now.Sub(at.(time.Time)) < 10*time.Minute {
			live = append(live, id.(string))
		} else {
			k.recent.Delete(id)
		}
		return true
	})
	if k.opts.KeepAudit > 0 {
		if err := k.store.ForgetAudit(ctx, now.Add(-k.opts.KeepAudit)); err != nil {
			return record.Tidied{}, err
		}
	}
	idle, _ := k.sessionSpans()
	if err := k.store.EndSessions(ctx, now, now.Add(-idle-time.Minute)); err != nil {
		return record.Tidied{}, err
	}
	t, err := k.store.Tidy(ctx, k.opts.Keep, live, now)
	if err == nil && t != (record.Tidied{}) {
		k.log.Info("tidied", "entries", t.Entries, "snapshots", t.Snapshots, "objects", t.Blobs)
	}
	return t, err
}

// Close stops every loop and waits for them. Runs that go on are left as they are and called interrupted by
// the next start.
func (k *Keeper) Close() {
	k.mu.Lock()
	k.closed = true
	k.cancel()
	for _, p := range k.kept.all {
		p.cancel()
	}
	clusters := k.clusters
	repos := k.repos
	k.mu.Unlock()
	for _, c := range clusters {
		c.close()
	}
	k.done.Wait()
	for _, r := range repos {
		r.Close()
	}
	k.broker.close()
}

func (k *Keeper) spawn(f func()) {
	k.done.Add(1)
	go func() {
		defer k.done.Done()
		f()
	}()
}
