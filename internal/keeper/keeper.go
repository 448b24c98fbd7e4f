// Package keeper joins repositories, rendering, clusters and the record: it looks, compares, decides and runs.
// Each ward in a cluster has a goroutine of its own, so that one never blocks another. Start with Keeper.
package keeper

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"runtime"
	"runtime/debug"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/charts"
	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/loopback"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// FaultKind says what sort of no an answer is.
type FaultKind int

// The kinds of fault.
const (
	NotFound FaultKind = iota + 1
	Invalid
	Conflict
	Guarded
	Unreachable
	Unwritten // it can't be written down now, and is tried again
)

// Fault is a request that can't be met, with the reason and what to do.
type Fault struct {
	Kind   FaultKind
	Text   string
	Guards []plan.Guard
}

func (f *Fault) Error() string { return f.Text }

func fault(kind FaultKind, format string, args ...any) *Fault {
	return &Fault{Kind: kind, Text: fmt.Sprintf(format, args...)}
}

// Options are the settings of a Keeper.
type Options struct {
	MirrorDir       string
	AllowLocalRepos bool
	Parallel        int // objects applied at a time in one run
	Calls           int // calls to one cluster at a time, over all its runs; 4 × Parallel when 0
	Keep            record.Retention
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
	metrics *metrics
	broker  *broker
	fetches *turns   // of repositories
	renders *turns   // of wards
	recent  sync.Map // ids of snapshots put lately, to when
	registry
}

// registry is what a Keeper keeps.
type registry struct {
	mu       sync.RWMutex
	repos    map[string]*sources.Loop
	clusters map[string]*clusterLoop
	wards    map[string]*placement // by name@cluster
	rosters  map[string]*rosterLoop
	closed   bool
	done     sync.WaitGroup
	changing sync.Mutex // one registration at a time
	endings  sync.Mutex // one end of a token at a time
}

func newRegistry() registry {
	return registry{repos: map[string]*sources.Loop{}, clusters: map[string]*clusterLoop{}, wards: map[string]*placement{}, rosters: map[string]*rosterLoop{}}
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
	k := &Keeper{store: store, ledger: store, service: store.ServiceID(), mask: store.Vault().Digest, log: log, opts: opts, metrics: newMetrics(), broker: newBroker(), registry: newRegistry()}
	k.ctx, k.cancel = context.WithCancel(context.Background())
	k.fetches = newTurns(8, 5*time.Second, k.metrics.waits.WithLabelValues("fetch"))
	k.renders = newTurns(max(2, runtime.NumCPU()), 5*time.Second, k.metrics.waits.WithLabelValues("render"))
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
	if err := k.openWards(ctx); err != nil {
		return nil, err
	}
	for _, l := range k.rosters {
		l.start()
	}
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
	for _, c := range clusters {
		k.openCluster(c)
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
	k.recent.Store(id, time.Now())
	return id, k.store.PutSnapshot(ctx, id, kept)
}

// Tidy drops what the settings don't keep, now.
func (k *Keeper) Tidy(ctx context.Context) (record.Tidied, error) {
	k.mu.RLock()
	var live []string
	for _, p := range k.wards {
		live = append(live, p.View().Snapshots...)
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

// ---- repositories

// Repo is a known repository as it was last read.
type Repo struct {
	Name, URL, User string
	Wards           int
	Rosters         int
	Branches        []string // charts, of a chart repository
	Repository      standing.AsOf
	More            record.RepoMore
	SignedIn        bool   // with credentials
	WithKey         bool   // over SSH
	Warning         string // about credentials that end soon
}

func repoOf(l *sources.Loop) Repo {
	s := l.State()
	r := s.Repo
	return Repo{Name: r.Name, URL: r.URL, User: r.User, Wards: s.Subscribers, Branches: s.Names, Repository: s.AsOf, More: r.RepoMore, SignedIn: r.Password != "" || r.Key != "", WithKey: r.Key != ""}
}

// house is what the loops of repositories need.
func (k *Keeper) house() *sources.House {
	return &sources.House{Ctx: k.ctx, Dir: k.opts.MirrorDir, Log: k.log, Spawn: k.spawn, Turn: k.fetches.take, Keep: k.store.PutRepo, Looked: k.rosterRead, At: k.mirrorAt,
		Changed: func(name string) { k.broker.send(Note{"repo", name}) },
		Fetched: func(name string, took time.Duration, err error) {
			k.metrics.fetches.WithLabelValues(name, result(err)).Observe(took.Seconds())
		}}
}

func result(err error) string {
	if err != nil {
		return "failed"
	}
	return "ok"
}

func (k *Keeper) openRepo(r record.Repo) error {
	l, err := sources.Open(k.house(), r)
	if err != nil {
		return err
	}
	k.mu.Lock()
	k.repos[r.Name] = l
	k.mu.Unlock()
	return nil
}

// mirrorAt is the mirror of the known repository at an address; nil when there is none.
func (k *Keeper) mirrorAt(address string) *repo.Mirror {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, l := range k.repos {
		if m, ok := l.Git(); ok && repo.SameURL(l.URL(), address) {
			return m
		}
	}
	return nil
}

// checkRepo refuses what a repository can't be like, whoever says so.
func (k *Keeper) checkRepo(r record.Repo) error {
	if err := ward.Name(r.Name); err != nil {
		return fault(Invalid, "name: %v", err)
	}
	check := func() error { return repo.CheckURL(r.URL, k.opts.AllowLocalRepos) }
	if r.Charts {
		check = func() error { return charts.CheckURL(r.URL) }
	}
	if err := check(); err != nil {
		return fault(Invalid, "%v", err)
	}
	if r.Password != "" && loopback.InTheClear(r.URL) {
		return fault(Invalid, "%s is not https: the credentials would go over the network as they are", r.URL)
	}
	if r.Signers != "" {
		if err := repo.CheckSigners(r.Signers); err != nil {
			return fault(Invalid, "%v", err)
		}
	}
	if r.Key != "" {
		if _, err := repo.ParseKey(r.Key, r.Passphrase); err != nil {
			return fault(Invalid, "%v", err)
		}
	}
	if err := repo.CheckKnownHosts(r.KnownHosts); err != nil {
		return fault(Invalid, "%v", err)
	}
	return nil
}

func (k *Keeper) addRepo(ctx context.Context, n AddRepo) (Repo, error) {
	r := n.Repo
	r.URL, r.Person = repo.CleanURL(r.URL), true
	r.Charts = r.Charts || strings.HasPrefix(r.URL, "oci://")
	k.mu.RLock()
	loop := k.repos[r.Name]
	k.mu.RUnlock()
	if loop != nil {
		old := loop.Record()
		if old.Charts != r.Charts && loop.State().Subscribers > 0 {
			return Repo{}, fault(Conflict, "%s is used by %d wards; it can't change between git and charts", r.Name, loop.State().Subscribers)
		}
		if old.URL == r.URL {
			keep := func(into *string, was string) {
				if *into == "" {
					*into = was
				}
			}
			if r.Password == "" && r.Key == "" {
				r.Password, r.Key, r.Passphrase = old.Password, old.Key, old.Passphrase
				keep(&r.User, old.User)
				r.Bearer = r.Bearer || old.Bearer
			}
			keep(&r.CA, old.CA)
			keep(&r.KnownHosts, old.KnownHosts)
			keep(&r.Signers, old.Signers)
		}
		r.Roster, r.About = old.Roster, old.About
	}
	if err := k.checkRepo(r); err != nil {
		return Repo{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if n.Trust != "" {
		line, err := repo.Trust(ctx, r.URL, n.Trust)
		if err != nil {
			return Repo{}, fault(Invalid, "%v", err)
		}
		r.KnownHosts = line
	}
	if r.Charts {
		if err := charts.Open(k.opts.MirrorDir, sources.OfCharts(r)).Refresh(ctx); err != nil {
			return Repo{}, fault(Invalid, "%v", err)
		}
	} else {
		found, err := repo.Check(ctx, sources.OfGit(r))
		if err != nil {
			return Repo{}, fault(Invalid, "%v", err)
		}
		r.Expires = found.Expires
	}
	return k.putRepo(ctx, r, loop)
}

// putRepo keeps a repository that was looked at.
func (k *Keeper) putRepo(ctx context.Context, r record.Repo, loop *sources.Loop) (Repo, error) {
	loop, err := k.placeRepo(ctx, r, loop)
	if err != nil {
		return Repo{}, err
	}
	_ = loop.Look(ctx) // what is wrong is part of the answer
	k.nudgeRosters()   // one of them may have waited for it
	k.broker.send(Note{"repo", r.Name})
	return repoOf(loop), nil
}

// placeRepo gives a repository its loop; nothing is fetched while changes wait.
func (k *Keeper) placeRepo(ctx context.Context, r record.Repo, loop *sources.Loop) (*sources.Loop, error) {
	k.changing.Lock()
	defer k.changing.Unlock()
	if err := k.store.PutRepo(ctx, r); err != nil {
		return nil, err
	}
	if loop != nil && loop.Record().Charts != r.Charts {
		loop.End()
		loop.Close()
		loop = nil
	}
	if loop != nil {
		loop.Change(r)
	} else if err := k.openRepo(r); err != nil {
		return nil, err
	} else {
		k.mu.RLock()
		loop = k.repos[r.Name]
		k.mu.RUnlock()
	}
	return loop, nil
}

func (k *Keeper) makeNoticeKey(ctx context.Context, name string) (string, error) {
	if _, err := k.source(name); err != nil {
		return "", err
	}
	key := rand.Text()
	return key, k.store.SetNoticeKey(ctx, name, []byte(key))
}

// Signature is how a push notice is signed: as its headers say.
type Signature struct {
	HMAC  string // HMAC-SHA256 of the body, in hex, perhaps after "sha256="
	Token string // the key itself
	// Of the Standard Webhooks specification (https://www.standardwebhooks.com): the signature is over id, time and body.
	ID, Time, Standard string
}

// noticeAge is how old a notice that names its time may be.
const noticeAge = 5 * time.Minute

// TakesNotices tells whether there is a key for push notices of a repository.
func (k *Keeper) TakesNotices(ctx context.Context, name string) bool {
	if ward.Name(name) != nil {
		return false
	}
	_, err := k.store.NoticeKey(ctx, name)
	return err == nil
}

// Notice takes a push notice: when it is signed with the repository's key, the repository is looked at now. false tells
// that it is not signed so; it says nothing about whether there is such a repository. The body is read through and never kept.
func (k *Keeper) Notice(ctx context.Context, name string, body io.Reader, s Signature) (bool, error) {
	key, err := k.store.NoticeKey(ctx, name)
	if errors.Is(err, record.ErrNone) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if ok, err := s.signed(key, body); err != nil || !ok {
		return false, err
	}
	l, err := k.source(name)
	if err != nil {
		return false, err
	}
	l.LookSoon()
	return true, nil
}

// signed reads the body to its end; errors are those of reading.
func (s Signature) signed(key []byte, body io.Reader) (bool, error) {
	h := hmac.New(sha256.New, key)
	if s.HMAC == "" && s.Standard != "" {
		h.Write([]byte(s.ID + "." + s.Time + "."))
	}
	if _, err := io.Copy(h, body); err != nil {
		return false, err
	}
	return s.is(key, h.Sum(nil)), nil
}

// is tells whether the headers say what a key makes of a body.
func (s Signature) is(key, want []byte) bool {
	switch {
	case s.HMAC != "":
		got, err := hex.DecodeString(strings.TrimPrefix(strings.TrimSpace(s.HMAC), "sha256="))
		return err == nil && hmac.Equal(got, want)
	case s.Standard != "":
		sent, err := strconv.ParseInt(s.Time, 10, 64)
		if err != nil || time.Since(time.Unix(sent, 0)).Abs() > noticeAge {
			return false
		}
		for _, one := range strings.Fields(s.Standard) {
			version, text, _ := strings.Cut(one, ",")
			if got, err := base64.StdEncoding.DecodeString(text); err == nil && version == "v1" && hmac.Equal(got, want) {
				return true
			}
		}
		return false
	}
	return s.Token != "" && hmac.Equal([]byte(s.Token), key)
}

// LookAtRepo looks at a repository now.
func (k *Keeper) LookAtRepo(ctx context.Context, name string) (Repo, error) {
	l, err := k.source(name)
	if err != nil {
		return Repo{}, err
	}
	_ = l.Look(ctx) // what is wrong is in the answer
	for _, r := range k.Repos() {
		if r.Name == name {
			return r, nil
		}
	}
	return repoOf(l), nil
}

func (k *Keeper) source(name string) (*sources.Loop, error) {
	k.mu.RLock()
	l := k.repos[name]
	k.mu.RUnlock()
	if l == nil {
		return nil, fault(NotFound, "there is no repository %q; known: %s", name, k.repoNames())
	}
	return l, nil
}

// Repos lists the known repositories by name.
func (k *Keeper) Repos() []Repo {
	k.mu.RLock()
	defer k.mu.RUnlock()
	out := make([]Repo, 0, len(k.repos))
	for _, r := range k.repos {
		one := repoOf(r)
		for _, l := range k.rosters {
			if l.record().Repo == one.Name {
				one.Rosters++
			}
		}
		if e := one.More.Expires; !e.IsZero() && time.Until(e) < 14*24*time.Hour {
			one.Warning = "its token ends on " + e.UTC().Format("2 January 2006") + "; give a new one: vigila repo add " + one.Name + " " + one.URL + " --user USER --password-file FILE"
		}
		out = append(out, one)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

func (k *Keeper) removeRepo(ctx context.Context, name string) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	r, err := k.source(name)
	if err != nil {
		return err
	}
	if n := r.State().Subscribers; n > 0 {
		return fault(Conflict, "repository %s is used by %d wards; remove or change them first", name, n)
	}
	k.mu.RLock()
	for _, l := range k.rosters {
		if conf := l.record(); conf.Repo == name {
			defer k.mu.RUnlock()
			return fault(Conflict, "repository %s holds roster %s; remove that first: vigila roster remove %s", name, conf.Name, conf.Name)
		}
	}
	k.mu.RUnlock()
	if err := k.store.RemoveRepo(ctx, name); err != nil {
		return err
	}
	k.mu.Lock()
	delete(k.repos, name)
	k.mu.Unlock()
	r.End()
	k.broker.send(Note{"repo", name})
	return r.Remove()
}

func (k *Keeper) repoNames() string {
	var names []string
	for _, r := range k.Repos() {
		names = append(names, r.Name)
	}
	return orNone(names, "none yet; add one with vigila repo add NAME URL")
}

func orNone(names []string, none string) string {
	if len(names) == 0 {
		return none
	}
	return strings.Join(names, ", ")
}

// ---- clusters

// Cluster is a known cluster as it was last seen.
type Cluster struct {
	record.Cluster
	Server  string
	Version string
	Wards   int
	Live    standing.AsOf
}

// checkCluster refuses what a cluster can't be like, whoever says so.
func checkCluster(c record.Cluster) error {
	if err := ward.Name(c.Name); err != nil {
		return fault(Invalid, "name: %v", err)
	}
	for name, url := range c.Links {
		if err := ward.Link(url); err != nil {
			return fault(Invalid, "links.%s: %v", name, err)
		}
	}
	return nil
}

func (k *Keeper) addCluster(ctx context.Context, c record.Cluster) (Cluster, error) {
	if err := checkCluster(c); err != nil {
		return Cluster{}, err
	}
	if c.Labels == nil {
		c.Labels = map[string]string{}
	}
	k.mu.RLock()
	old := k.clusters[c.Name]
	k.mu.RUnlock()
	if old != nil {
		was := old.record()
		if c.Kubeconfig == "" && c.KubeconfigText == "" && c.Server == "" && !c.InCluster { // only labels and links change
			c.Kubeconfig, c.KubeconfigText, c.Context, c.Server, c.Token, c.CA, c.InCluster = was.Kubeconfig, was.KubeconfigText, was.Context, was.Server, was.Token, was.CA, was.InCluster
		} else if c.Server != "" && c.Token == "" && c.Server == was.Server {
			c.Token = was.Token
		}
		c.Roster = was.Roster
	}
	conn, err := cluster.Connect(k.clusterConfig(c), k.log)
	if err != nil {
		return Cluster{}, fault(Invalid, "%v", err)
	}
	defer conn.Close()
	if _, err := conn.Version(ctx); err != nil {
		return Cluster{}, fault(Unreachable, "%v", err)
	}
	k.changing.Lock()
	defer k.changing.Unlock()
	anew := old != nil && k.clusterConfig(old.record()) != k.clusterConfig(c)
	if n := k.wardsIn(c.Name); anew && n > 0 && old.conn != nil && old.conn.Server() != conn.Server() {
		return Cluster{}, fault(Conflict, "cluster %s is at %s and keeps %d wards; it can be at another address only when it keeps none. Credentials may change at any time", c.Name, old.conn.Server(), n)
	}
	if anew {
		if err := k.idle(k.keptIn(c.Name)); err != nil {
			return Cluster{}, err
		}
	}
	if err := k.store.PutCluster(ctx, c); err != nil {
		return Cluster{}, err
	}
	changed := old == nil || anew || !maps.Equal(old.labels(), c.Labels)
	switch {
	case anew:
		old.close()
		k.openCluster(c)
		if err := k.reconnect(ctx, c.Name); err != nil {
			return Cluster{}, err
		}
	case old == nil:
		k.openCluster(c)
	default:
		k.mu.Lock()
		old.conf = c
		k.mu.Unlock()
	}
	if changed {
		if err := k.replace(ctx, c.Name); err != nil {
			return Cluster{}, err
		}
		k.nudgeRosters()
	}
	k.broker.send(Note{"cluster", c.Name})
	for _, x := range k.Clusters(ctx) {
		if x.Name == c.Name {
			return x, nil
		}
	}
	return Cluster{}, fault(NotFound, "cluster %s is gone", c.Name)
}

// Clusters lists the known clusters by name.
func (k *Keeper) Clusters(ctx context.Context) []Cluster {
	k.mu.RLock()
	loops := make([]*clusterLoop, 0, len(k.clusters))
	for _, c := range k.clusters {
		loops = append(loops, c)
	}
	k.mu.RUnlock()
	out := make([]Cluster, len(loops))
	var wg sync.WaitGroup
	for i, c := range loops {
		wg.Go(func() {
			out[i] = c.info(ctx)
			out[i].Wards = k.wardsIn(c.conf.Name)
		})
	}
	wg.Wait()
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

func (k *Keeper) wardsIn(clusterName string) int {
	k.mu.RLock()
	defer k.mu.RUnlock()
	n := 0
	for _, p := range k.wards {
		if p.cluster.conf.Name == clusterName {
			n++
		}
	}
	return n
}

func (k *Keeper) removeCluster(ctx context.Context, name string) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	k.mu.RLock()
	c := k.clusters[name]
	k.mu.RUnlock()
	if c == nil {
		return fault(NotFound, "there is no cluster %q; known: %s", name, k.clusterNames())
	}
	if n := k.wardsIn(name); n > 0 {
		return fault(Conflict, "cluster %s keeps %d wards; remove them first", name, n)
	}
	if err := k.store.RemoveCluster(ctx, name); err != nil {
		return err
	}
	k.mu.Lock()
	delete(k.clusters, name)
	k.mu.Unlock()
	c.close()
	k.broker.send(Note{"cluster", name})
	return nil
}

func (k *Keeper) clusterNames() string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var names []string
	for n := range k.clusters {
		names = append(names, n)
	}
	slices.Sort(names)
	return orNone(names, "none yet; add one with vigila cluster add NAME --kubeconfig FILE")
}

// ---- wards

// addFile checks repository, clusters and order first, and returns the placements.
func (k *Keeper) addFile(ctx context.Context, name, text string) ([]string, error) {
	wards, err := ward.Parse(name, []byte(text))
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	k.changing.Lock()
	defer k.changing.Unlock()
	known := k.known(nil)
	var errs []error
	for _, w := range wards {
		for _, text := range known.Missing(w) {
			errs = append(errs, fmt.Errorf("%s:%d: %s", name, w.Line, text))
		}
	}
	for _, w := range wards {
		for _, p := range k.named(w.Name) {
			if p.roster != "" {
				return nil, fault(Conflict, "ward %s is declared by roster %s, in %s; change it there", w.Name, p.roster, p.source)
			}
		}
		if err := k.idle(k.named(w.Name)); err != nil {
			return nil, err
		}
	}
	if cycle := k.cycle(wards); len(cycle) > 0 {
		errs = append(errs, fmt.Errorf("%s: %s", name, roster.Cycled(cycle)))
	}
	if err := errors.Join(errs...); err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	docs := object.Split([]byte(text))
	var ids []string
	for i, w := range wards {
		file := strings.TrimLeft(string(docs[i].Text), "\n")
		if err := k.put(ctx, w, record.Ward{Name: w.Name, File: file}, "the ward no longer goes there"); err != nil {
			return ids, err
		}
		for _, c := range k.matching(w) {
			ids = append(ids, w.Name+"@"+c)
		}
		if l, err := k.source(w.From.Repo); err == nil {
			l.LookSoon() // whoever adds a ward wants to see it as it is now
		}
	}
	return ids, nil
}

// known is what there is to keep wards of, and in, with the registered wards as they are given.
func (k *Keeper) known(wards []record.Ward) roster.Known {
	out := roster.Known{Clusters: map[string]map[string]string{}, Wards: map[string]roster.Kept{}}
	for _, w := range keptOf(wards) {
		out.Wards[w.Name] = w
	}
	k.mu.RLock()
	defer k.mu.RUnlock()
	out.Repos = slices.Sorted(maps.Keys(k.repos))
	for name, c := range k.clusters {
		out.Clusters[name] = c.conf.Labels
	}
	return out
}

// matching lists the clusters that a ward goes into, by name.
func (k *Keeper) matching(w ward.Ward) []string { return k.known(nil).Matching(w) }

// cycle finds wards that wait for each other, with these added to the registered ones: the first is named again at the end.
func (k *Keeper) cycle(added []ward.Ward) []string {
	after := map[string][]string{}
	k.mu.RLock()
	for _, p := range k.wards {
		after[p.ward.Name] = p.ward.After
	}
	k.mu.RUnlock()
	var from []string
	for _, w := range added {
		after[w.Name] = w.After
		from = append(from, w.Name)
	}
	return roster.Cycle(after, from)
}

// put stores a ward and opens its placements. What stays where it goes no more is left behind, or dismantled before.
// changing is held.
func (k *Keeper) put(ctx context.Context, w ward.Ward, of record.Ward, why string) error {
	clusters := k.matching(w)
	for _, p := range k.named(w.Name) {
		if !slices.Contains(clusters, p.cluster.conf.Name) {
			if err := k.leave(ctx, p, why); err != nil {
				return err
			}
		}
	}
	if err := k.store.PutWard(ctx, of, clusters); err != nil {
		return err
	}
	for _, p := range k.named(w.Name) {
		p.close()
		k.forget(p)
	}
	placements, err := k.store.Placements(ctx, w.Name)
	if err != nil {
		return err
	}
	for _, p := range placements {
		if p.Leaving != nil { // it is wanted again
			if err := k.store.Commit(ctx, p.ID, record.SetLeaving{}); err != nil {
				return err
			}
			p.Leaving = nil
		}
		if err := k.openPlacement(ctx, p, w, of); err != nil {
			return err
		}
		if _, err := k.store.RemoveLeftBehind(ctx, p.ID); err != nil { // it is kept again
			return err
		}
	}
	return nil
}

// replace places wards anew after a cluster came or its labels changed. changing is held.
func (k *Keeper) replace(ctx context.Context, cluster string) error {
	wards, err := k.store.Wards(ctx)
	if err != nil {
		return err
	}
	for _, rec := range wards {
		one, err := parseWard(rec)
		if err != nil {
			continue // it is blind, and says so
		}
		var have []string
		set := false // the cluster's labels choose what its placement is like
		for _, p := range k.named(rec.Name) {
			have = append(have, p.cluster.conf.Name)
			set = set || p.cluster.conf.Name == cluster && len(one.Set) > 0
		}
		slices.Sort(have)
		if slices.Equal(have, k.matching(one)) && !set {
			continue
		}
		if err := k.idle(k.named(rec.Name)); err != nil {
			return err
		}
		if err := k.put(ctx, one, rec, "the labels of cluster "+cluster+" match no more"); err != nil {
			return err
		}
	}
	return nil
}

// keptIn lists what is kept in a cluster.
func (k *Keeper) keptIn(cluster string) (out []*placement) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, p := range k.wards {
		if p.cluster.conf.Name == cluster {
			out = append(out, p)
		}
	}
	return out
}

// reconnect opens the wards in a cluster anew, since it is reached by another connection now.
func (k *Keeper) reconnect(ctx context.Context, cluster string) error {
	wards, err := k.store.Wards(ctx)
	if err != nil {
		return err
	}
	for _, rec := range wards {
		if !slices.ContainsFunc(k.named(rec.Name), func(p *placement) bool { return p.cluster.conf.Name == cluster }) {
			continue
		}
		one, err := parseWard(rec)
		if err != nil {
			continue // it is blind, and says so
		}
		if err := k.put(ctx, one, rec, "cluster "+cluster+" is reached in another way"); err != nil {
			return err
		}
	}
	return nil
}

func (k *Keeper) forget(p *placement) {
	k.mu.Lock()
	delete(k.wards, p.id)
	k.mu.Unlock()
	p.cluster.unclaim(p)
	for kind := range p.kinds { // its goroutine has ended
		p.cluster.release(kind, p.id)
	}
	if p.repo != nil {
		p.repo.Unsubscribe(p)
	}
	for _, name := range p.ward.Reads() {
		if l, err := k.source(name); err == nil {
			l.Unsubscribe(p)
		}
	}
	k.broker.send(Note{"ward", p.id})
}

func (k *Keeper) remove(ctx context.Context, name string, l logbook.Leaving) error {
	l.At = time.Now()
	k.changing.Lock()
	defer k.changing.Unlock()
	ps := k.named(name)
	if len(ps) == 0 {
		return k.unknown(name)
	}
	for _, p := range ps {
		if v := p.View(); v.Run != nil && v.Run.Kind != string(run.Dismantle) {
			return k.idle(ps)
		}
		if l := k.rosterOf(p); l != nil && !l.lets(p.ward.Name) {
			return fault(Conflict, "ward %s is declared by roster %s; remove %s there, and it is not kept any more", p.ward.Name, p.roster, p.source)
		}
	}
	for _, p := range ps {
		if l.Dismantle && p.broken == "" {
			if err := p.ask(ctx, func() error { return p.leave(l) }); err != nil {
				return err
			}
			if _, err := p.fresh(ctx); err != nil {
				return err
			}
			continue
		}
		if err := k.idle([]*placement{p}); err != nil {
			return err
		}
		if err := k.retire(ctx, p, l); err != nil {
			return err
		}
	}
	return nil
}

// rosterOf is the roster that declares a ward; nil when none does.
func (k *Keeper) rosterOf(p *placement) *rosterLoop {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.rosters[p.roster]
}

// idle refuses to change or remove wards in the middle of a run.
func (k *Keeper) idle(ps []*placement) error {
	for _, p := range ps {
		if v := p.View(); v.Run != nil {
			return fault(Conflict, "%s is in the middle of %s #%d; wait for it, or stop it first: vigila sync %s --stop", p.id, v.Run.Kind, v.Run.Number, p.id)
		}
	}
	return nil
}

func (k *Keeper) named(name string) []*placement {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if p := k.wards[name]; p != nil {
		return []*placement{p}
	}
	var out []*placement
	for _, p := range k.wards {
		if p.ward.Name == name {
			out = append(out, p)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].id < out[j].id })
	return out
}

func (k *Keeper) unknown(name string) error {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var ids []string
	for id := range k.wards {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	if len(ids) > 12 {
		ids = append(ids[:12], "…")
	}
	return fault(NotFound, "there is no ward %q; known: %s", name, orNone(ids, "none yet; add one with vigila ward add FILE"))
}

// one finds a single placement by name@cluster, or by the name alone where there is one.
func (k *Keeper) one(name string) (*placement, error) {
	ps := k.named(name)
	switch len(ps) {
	case 0:
		return nil, k.unknown(name)
	case 1:
		return ps[0], nil
	}
	var ids []string
	for _, p := range ps {
		ids = append(ids, p.id)
	}
	return nil, fault(Invalid, "%s is placed in several clusters; say which: %s", name, strings.Join(ids, ", "))
}

// Views lists every ward as it stands.
func (k *Keeper) Views() []*standing.View {
	k.mu.RLock()
	defer k.mu.RUnlock()
	out := make([]*standing.View, 0, len(k.wards))
	for _, p := range k.wards {
		out = append(out, p.View())
	}
	return out
}

// Ward is one ward as it stands.
func (k *Keeper) Ward(name string) (*standing.View, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	return p.View(), nil
}

// AllEntries searches the logbooks of all wards, the newest first; total is how many there are.
func (k *Keeper) AllEntries(ctx context.Context, find record.Find) (page []logbook.Entry, total int, err error) {
	page, total, err = k.store.Entries(ctx, find)
	k.mu.RLock()
	defer k.mu.RUnlock()
	for i, e := range page {
		if p := k.wards[e.Placement]; p != nil && e.Ended.IsZero() {
			page[i] = p.newest(e)
		}
	}
	return page, total, err
}

// Writable tells why nothing can be written down; nil when it can.
func (k *Keeper) Writable(ctx context.Context) error { return k.store.Ping(ctx) }

// dependents wakes the wards that wait for one that changed.
func (k *Keeper) dependents(of *placement) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, p := range k.wards {
		if p.cluster == of.cluster && slices.Contains(p.ward.After, of.ward.Name) || p.ward.Name == of.ward.Name && p != of && p.ward.Spread.Waves {
			p.post(func() {})
		}
	}
}
