package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// placement is one ward in one cluster. All fields below the line are touched by its own goroutine alone; what
// others need to know is in its View.
type placement struct {
	k       *Keeper
	id      string
	ward    ward.Ward
	file    string
	roster  string // that declares it; "" when a person registered it
	source  string // the file in the roster's repository
	limits  record.Limits
	repo    *repoLoop
	cluster *clusterLoop
	hands   *cluster.Cluster               // the cluster, acted in as the ward's service account where it has one
	inputs  atomic.Pointer[[]render.Input] // what was declared is made of
	log     *slog.Logger
	ctx     context.Context
	cancel  context.CancelFunc
	ended   chan struct{}
	view    atomic.Pointer[View]
	says    atomic.Pointer[declaration] // what it declares, for the others
	reading atomic.Int32                // looks at its repository that it was told of and has not taken in yet

	mu    sync.Mutex
	queue []func()
	wake  chan struct{}

	// ----
	repository AsOf // the repository, as this ward needs it: rendered too
	declared   *declaration
	others     map[string]AsOf                     // the ward's other repositories, as far as they were looked at
	misfiled   string                              // what is wrong with the ward's file since it was last read well
	limited    string                              // what its roster's limits say against its file
	heldBack   string                              // what they say against what it declares
	broken     string                              // why what the record holds of it can't be used; nothing runs then
	leaving    *record.Leaving                     // it is being removed, and does nothing else
	finishing  bool                                // the end of that is on its way
	noticed    map[object.Ref][]compare.Difference // drift that the logbook tells of
	toldBefore string                              // what it told of before the service was started anew
	notedAt    time.Time                           // when it was told something of drift last,
	notePause  time.Duration                       // and how long it is told nothing more then
	bring      string                              // who brings the ward up: it syncs by itself until it is in step
	stored     *declaration                        // what was declared before the service started; used if the tree is still the same
	rendering  bool
	taking     int32 // of reading, those that the rendering will have taken in
	renderNext bool
	looking    []chan struct{}

	baselines map[object.Ref]compare.Baseline // what is kept, without details; changed by keep and drop alone
	lives     map[object.Ref]*liveObject
	kinds     [][2]string         // version and kind of everything watched for this ward
	kept      map[[2]string]int   // how many baselines there are of each version and kind
	odd       map[object.Ref]bool // kept objects that are not plainly as they should be: there is more to say of them
	unseen    map[object.Ref]bool // kept objects that nobody has looked at yet
	late      map[object.Ref]bool // what a run was about to apply when the service was killed: a call on its way may still land
	behind    *behind             // what the repository moved; nil when it has to be found out

	doubts    map[object.Ref]bool    // kept objects that may have been applied without an answer
	dirty     map[object.Ref]bool    // objects of which something has changed since odd, unseen and doubts were made
	looks     map[object.Ref]*lookup // looks by name that are on their way, or to be made again in a moment
	sought    time.Time              // when everything unseen was looked for last
	appliedIn string                 // the snapshot that appliedOf is of
	appliedOf map[object.Ref]string  // the objects of what was applied as a whole, to their hashes

	newest     map[object.Ref]map[string]any // newest states that wait to be taken in; guarded by mu
	manyNew    bool                          // they were many; guarded by mu
	recheck    map[object.Ref]bool           // objects outside the watch that are looked at again
	tasks      map[object.Ref]record.TaskObject
	rules      health.Rules
	scaled     map[object.Ref]string // declared autoscalers, by what they scale
	againAt    time.Time             // keep.reapply
	applied    *record.Revision
	snapshot   string
	done       map[string]string // the tasks of what was applied last, to their hashes
	hold       *record.Hold
	rejections map[string]record.Rejection
	contests   compare.Contests
	run        *activeRun
	last       *record.Entry // the newest run that ended
	failures   int
	lastFailed time.Time
	standings  []record.Stretch
	notches    []Notch
	since      time.Time // of the standing
	timer      *time.Timer
	viewed     time.Time     // when the view was made last
	viewCost   time.Duration // and how long that took
}

// declaration is what the repository says at a revision: identities and hashes. The objects themselves are in
// the record, as a snapshot.
type declaration struct {
	revision record.Revision
	head     string // the commit that its repository was at
	inputs   []render.Input
	form     string
	chart    string   // name and version
	notes    []string // what of a chart was left out
	snapshot string
	objects  []declaredObject  // sorted by Ref
	tasks    map[string]string // keys of the tasks among them, to their hashes
	rules    health.Rules
	files    []record.File // the health files
	kinds    [][2]string   // version and kind of all objects
	scaled   map[object.Ref]string
	waits    string // why there is nothing declared yet, and that this is no error
}

type declaredObject struct {
	plan.Declared
	made    bool // a namespace that is declared by into.create_namespace alone
	version string
	file    string
	line    int
}

// liveObject is what is known of an object in the cluster, without the object.
type liveObject struct {
	revision   int64
	uid        string
	health     health.Result
	present    bool
	verified   bool // it was looked for by name
	causeKnown bool // what is wrong below it was looked for
	below      bool // a look below is on its way
	watched    bool // seen by a watch
	unmarked   bool // it has lost the ward's label, so no watch brings it
	unbound    bool // a claim that was never bound
	later      bool // a claim that is bound when a Pod uses it first, and none does
	brief      bool // a Job that is removed by its own rule once it is finished
	finished   bool // a Job that is
	ended      bool // it is not there, by its own rule
	*trouble        // never nil; read it, and change it through upset
}

// trouble is what there is to say of an object that is not simply as it should be.
type trouble struct {
	imprint object.Imprint // that drift and added were found for
	foreign string         // the id of another service that says it keeps the object
	cause   *health.Result // what is wrong below it, while it is not ready
	drift   []compare.Difference
	added   []compare.Difference // what others added
	since   time.Time            // of the drift, as noticed
	restart *object.Restart      // somebody let its Pods be made anew
}

// none is the trouble of the many objects that have none.
var none = &trouble{}

// upset gives an object a trouble of its own.
func (l *liveObject) upset() *trouble {
	if l.trouble == none {
		l.trouble = &trouble{}
	}
	return l.trouble
}

func (l *liveObject) state() health.Result {
	if l.later {
		return health.Result{Word: health.Ready, Reason: "is bound when a Pod uses it first"}
	}
	if l.cause != nil && l.cause.Word == health.Settling && l.health.Word == health.Settling && l.health.Reason != "" {
		return health.Result{Word: health.Settling, Reason: l.health.Reason + "; " + l.cause.Reason, Final: l.health.Final}
	}
	if l.cause != nil && l.health.Word != health.Ready {
		return health.Worst(health.Result{Word: l.cause.Word, Reason: l.cause.Reason, Final: l.health.Final}, health.Result{Word: l.health.Word, Reason: l.cause.Reason, Final: l.health.Final})
	}
	return l.health
}

func (k *Keeper) openPlacement(ctx context.Context, rec record.Placement, w ward.Ward, of record.Ward) error {
	k.mu.RLock()
	r, c := k.repos[w.From.Repo], k.clusters[rec.Cluster]
	var limits record.Limits
	if l := k.rosters[of.Roster]; l != nil {
		limits = l.limits()
	}
	k.mu.RUnlock()
	if r == nil || c == nil {
		return fmt.Errorf("ward %s needs repository %s and cluster %s, and one of them is not known any more", rec.ID, w.From.Repo, rec.Cluster)
	}
	if rec.Err != nil {
		return rec.Err
	}
	w = w.For(rec.Cluster, c.labels())
	if limits.As != "" {
		w.Into.As = limits.As
	}
	p := &placement{k: k, id: rec.ID, ward: w, file: of.File, roster: of.Roster, source: of.Source, limits: limits, others: map[string]AsOf{}, repo: r, cluster: c, log: k.log.With("ward", rec.ID), ended: make(chan struct{}),
		wake: make(chan struct{}, 1), lives: map[object.Ref]*liveObject{}, applied: rec.Applied, snapshot: rec.Snapshot, done: rec.Tasks, hold: rec.Hold, leaving: rec.Leaving, noticed: map[object.Ref][]compare.Difference{},
		newest: map[object.Ref]map[string]any{}, recheck: map[object.Ref]bool{}, kept: map[[2]string]int{}, odd: map[object.Ref]bool{}, unseen: map[object.Ref]bool{}}
	p.ctx, p.cancel = context.WithCancel(k.ctx)
	var err error
	if c.conn != nil {
		if p.hands, err = c.conn.As(w.Into.Namespace, w.Into.As); err != nil {
			return err
		}
	}
	if p.baselines, err = k.store.Baselines(ctx, p.id); err != nil {
		return err
	}
	if p.late, _, err = k.store.Doing(ctx, p.id); err != nil {
		return err
	}
	for _, b := range p.baselines {
		p.keep(b)
	}
	if p.rejections, err = k.store.Rejections(ctx, p.id); err != nil {
		return err
	}
	if p.tasks, err = k.store.Tasks(ctx, p.id); err != nil {
		return err
	}
	var health []repo.File
	for _, f := range rec.Rules {
		health = append(health, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	if p.rules, err = render.Rules(health); err != nil {
		p.log.Warn("health rules can't be read any more", "error", err)
	}
	restores, err := k.store.Restores(ctx, p.id, time.Now().Add(-7*watchSpan)) // a contest outlives the service
	if err != nil {
		return err
	}
	for _, r := range restores {
		p.contests.Restored(r.Ref, r.Path, r.Who, r.At)
	}
	if p.standings, err = k.store.Standings(ctx, p.id, time.Now().Add(-watchSpan)); err != nil {
		return err
	}
	entries, _, err := k.store.Entries(ctx, record.Find{Placement: p.id, Since: time.Now().Add(-watchSpan)})
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(entries) {
		p.notch(e)
	}
	if newest, _, err := k.store.Entries(ctx, record.Find{Placement: p.id, Limit: 50}); err != nil {
		return err
	} else if i := slices.IndexFunc(newest, isRun); i >= 0 {
		p.last = &newest[i]
	}
	if newest, _, err := k.store.Entries(ctx, record.Find{Placement: p.id, Limit: 50}); err == nil {
		for _, e := range newest {
			if isRun(e) {
				break
			}
			if e.Kind == driftKind {
				p.toldBefore += e.Why + "\n"
			}
		}
	}
	for i, st := range slices.Backward(p.standings) {
		if st.Standing != p.standings[len(p.standings)-1].Standing {
			break
		}
		p.since = p.standings[i].From
	}
	if p.stored, err = p.storedDeclaration(ctx); err != nil {
		return err
	}
	if p.stored != nil {
		p.inputs.Store(&p.stored.inputs)
	}
	for _, name := range sources(w) {
		if l, err := k.repoLoop(name); err == nil {
			p.others[name] = l.subscribe(p)
			l.lookSoon()
		} else {
			p.others[name] = AsOf{Problem: err.Error()}
		}
	}
	p.repository = r.subscribe(p)
	p.repository.Known = false // read, perhaps, but not rendered by this ward yet
	p.view.Store(p.build())
	for ref := range p.baselines {
		c.claim(ref, p)
	}
	k.mu.Lock()
	k.wards[p.id] = p
	k.mu.Unlock()
	if c.conn != nil {
		for k := range p.kept {
			p.watchKind(k[0], k[1])
		}
		for _, t := range p.tasks {
			p.watchKind(t.Version, t.Ref.Kind)
		}
	}
	k.spawn(p.loop)
	p.post(p.resume)
	p.post(p.watchChanged) // watches that other wards began may have told everything already
	if p.repository.At.IsZero() {
		r.lookSoon()
	} else { // it was read a moment ago; a thousand wards that a roster declares need no thousand looks
		p.repoRead(r.name, r.info().Repository)
	}
	return nil
}

// openBroken stands in for a placement that can't be opened: it is blind and says why, and keeps nobody else from anything.
func (k *Keeper) openBroken(rec record.Placement, w ward.Ward, of record.Ward, why error) {
	k.log.Error("a ward can't be opened; the others go on", "ward", rec.ID, "error", why)
	k.mu.RLock()
	r, c := k.repos[w.From.Repo], k.clusters[rec.Cluster]
	k.mu.RUnlock()
	if c == nil {
		c = &clusterLoop{k: k, conf: record.Cluster{Name: rec.Cluster}, err: fmt.Errorf("cluster %s is not known", rec.Cluster), claims: map[uint64]*placement{}, needs: map[[2]string]map[string]bool{}}
	}
	if w.Name == "" {
		w.Name = rec.Ward
	}
	p := &placement{k: k, id: rec.ID, ward: w, file: of.File, roster: of.Roster, source: of.Source, others: map[string]AsOf{}, repo: r, cluster: c, log: k.log.With("ward", rec.ID), ended: make(chan struct{}),
		wake: make(chan struct{}, 1), lives: map[object.Ref]*liveObject{}, applied: rec.Applied, hold: rec.Hold, broken: why.Error(), baselines: map[object.Ref]compare.Baseline{}, rejections: map[string]record.Rejection{},
		newest: map[object.Ref]map[string]any{}, recheck: map[object.Ref]bool{}, kept: map[[2]string]int{}, odd: map[object.Ref]bool{}, unseen: map[object.Ref]bool{}, since: time.Now()}
	p.ctx, p.cancel = context.WithCancel(k.ctx)
	p.view.Store(p.build())
	k.mu.Lock()
	k.wards[p.id] = p
	k.mu.Unlock()
	k.spawn(p.loop)
}

func isRun(e record.Entry) bool {
	switch run.Kind(e.Kind) {
	case run.Sync, run.Restore, run.Rollback, run.Dismantle:
		return true
	}
	return false
}

// close ends the placement's goroutine. A run that began just before is called interrupted.
func (p *placement) close() {
	p.cancel()
	<-p.ended
	if p.run == nil {
		return
	}
	e := p.run.entry
	e.Outcome, e.Reason, e.Ended = string(run.Interrupted), "the ward was changed or removed while it ran", time.Now()
	if err := p.k.store.EndEntry(context.Background(), e); err != nil {
		p.log.Error("the end of a run can't be written", "entry", e.Number, "error", err)
	}
}

// post hands work to the placement's goroutine; it never blocks.
func (p *placement) post(f func()) {
	p.mu.Lock()
	p.queue = append(p.queue, f)
	p.mu.Unlock()
	select {
	case p.wake <- struct{}{}:
	default:
	}
}

// saw takes the newest state of an object in, later; of several that wait only the newest is kept, so the queue is
// never longer than the ward. Of a state from a whole list that is older than what is known it is asked by name which holds:
// a list may be stale, and a cluster may have been restored to an earlier state.
func (p *placement) saw(ref object.Ref, body map[string]any, listed bool) {
	if listed {
		p.post(func() {
			if l := p.known(ref); l != nil && l.present && compare.ResourceVersion(body) < l.revision {
				p.verify(ref)
			}
		})
	}
	p.mu.Lock()
	old, waits := p.newest[ref]
	if !waits || compare.ResourceVersion(old) <= compare.ResourceVersion(body) {
		p.newest[ref] = body
		p.manyNew = p.manyNew || len(p.newest) > 64
	}
	p.mu.Unlock()
	if waits {
		return
	}
	p.post(func() {
		p.mu.Lock()
		newest := p.newest[ref]
		if delete(p.newest, ref); len(p.newest) == 0 && p.manyNew {
			p.newest, p.manyNew = map[object.Ref]map[string]any{}, false // a map never shrinks, and after a list it was as large as the ward
		}
		p.mu.Unlock()
		p.sawLive(ref, newest, false)
	})
}

func (p *placement) depth() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.queue)
}

// ask runs a function on the placement's goroutine and waits for it.
func (p *placement) ask(ctx context.Context, f func() error) error {
	c := make(chan error, 1)
	p.post(func() { c <- f() })
	select {
	case err := <-c:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-p.ended:
		return fault(NotFound, "ward %s is not kept any more", p.id)
	}
}

func (p *placement) loop() {
	defer close(p.ended)
	p.timer = time.NewTimer(time.Hour)
	defer p.timer.Stop()
	for {
		select {
		case <-p.ctx.Done():
			return
		case <-p.wake:
		case <-p.timer.C:
			if p.run != nil {
				p.feed(run.Tick{At: time.Now()})
			}
		}
		p.mu.Lock()
		work := p.queue
		p.queue = nil
		p.mu.Unlock()
		for _, f := range work {
			if p.ctx.Err() != nil {
				return
			}
			f()
		}
		p.takeAnswers()
		p.evaluate()
	}
}

// resume takes up what a crash left: a failed run that was about to go back, goes back.
func (p *placement) resume() {
	if p.last == nil || p.hold != nil || p.ward.Settle.Otherwise != "rollback" {
		return
	}
	l := p.last
	failedSync := l.Kind == string(run.Sync) && l.Outcome == string(run.Failed) && l.Snapshot != p.snapshot
	brokenBack := l.Kind == string(run.Rollback) && l.Outcome == string(run.Interrupted) && l.By == byVigila
	if failedSync && l.Revision != nil && p.rejections[l.Revision.ID].Why != "" || brokenBack {
		p.goBack(nil, "the service ended before it had gone back")
	}
}
