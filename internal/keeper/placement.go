package keeper

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
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
	repo    *repoLoop
	cluster *clusterLoop
	log     *slog.Logger
	ctx     context.Context
	cancel  context.CancelFunc
	ended   chan struct{}
	view    atomic.Pointer[View]

	mu    sync.Mutex
	queue []func()
	wake  chan struct{}

	// ----
	repository AsOf // the repository, as this ward needs it: rendered too
	declared   *declaration
	rendering  bool
	renderNext bool
	looking    []chan struct{}

	baselines map[object.Ref]compare.Baseline
	lives     map[object.Ref]*liveObject
	kinds     [][2]string // version and kind of everything watched for this ward

	newest     map[object.Ref]map[string]any // newest states that wait to be taken in; guarded by mu
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
}

// declaration is what the repository says at a revision: identities and hashes. The objects themselves are in
// the record, as a snapshot.
type declaration struct {
	revision record.Revision
	tree     string
	snapshot string
	objects  []declaredObject
	index    map[object.Ref]int
	tasks    map[string]string // keys of the tasks among them, to their hashes
	rules    health.Rules
	files    []record.File // the health files
	scaled   map[object.Ref]string
	waits    string // why there is nothing declared yet, and that this is no error
}

type declaredObject struct {
	plan.Declared
	version string
	file    string
	line    int
}

// liveObject is what is known of an object in the cluster, without the object.
type liveObject struct {
	present    bool
	verified   bool // it was looked for by name
	revision   int64
	uid        string
	health     health.Result
	cause      *health.Result // what is wrong below it, while it is not ready
	causeKnown bool           // it was looked for
	below      bool           // a look below is on its way
	drift      []compare.Difference
	added      []compare.Difference // what others added
	since      time.Time            // of the drift, as noticed
	watched    bool                 // seen by a watch
	unmarked   bool                 // it has lost the ward's label, so no watch brings it
}

func (l *liveObject) state() health.Result {
	if l.cause != nil && l.health.Word != health.Ready {
		return health.Worst(health.Result{Word: l.cause.Word, Reason: l.cause.Reason, Final: l.health.Final}, health.Result{Word: l.health.Word, Reason: l.cause.Reason, Final: l.health.Final})
	}
	return l.health
}

func (k *Keeper) openPlacement(ctx context.Context, rec record.Placement, w ward.Ward, file string) error {
	k.mu.RLock()
	r, c := k.repos[w.From.Repo], k.clusters[rec.Cluster]
	k.mu.RUnlock()
	if r == nil || c == nil {
		return fmt.Errorf("ward %s needs repository %s and cluster %s, and one of them is not known any more", rec.ID, w.From.Repo, rec.Cluster)
	}
	p := &placement{k: k, id: rec.ID, ward: w, file: file, repo: r, cluster: c, log: k.log.With("ward", rec.ID), ended: make(chan struct{}),
		wake: make(chan struct{}, 1), lives: map[object.Ref]*liveObject{}, applied: rec.Applied, snapshot: rec.Snapshot, done: rec.Tasks, hold: rec.Hold,
		newest: map[object.Ref]map[string]any{}, recheck: map[object.Ref]bool{}}
	p.ctx, p.cancel = context.WithCancel(k.ctx)
	var err error
	if p.baselines, err = k.store.Baselines(ctx, p.id); err != nil {
		return err
	}
	for ref, b := range p.baselines {
		p.baselines[ref] = b.Without(w.Left(ref)) // the ward file may leave more to others than it did then
		c.claim(ref, p.id)
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
	for i, st := range slices.Backward(p.standings) {
		if st.Standing != p.standings[len(p.standings)-1].Standing {
			break
		}
		p.since = p.standings[i].From
	}
	p.repository = r.subscribe(p)
	p.repository.Known = false // read, perhaps, but not rendered by this ward yet
	p.view.Store(p.build())
	k.mu.Lock()
	k.wards[p.id] = p
	k.mu.Unlock()
	if c.conn != nil {
		for _, b := range p.baselines {
			p.watchKind(b.Version, b.Ref.Kind)
		}
		for _, t := range p.tasks {
			p.watchKind(t.Version, t.Ref.Kind)
		}
	}
	k.spawn(p.loop)
	p.post(p.resume)
	p.post(p.watchChanged) // watches that other wards began may have told everything already
	k.spawn(func() { _ = r.look(p.ctx) })
	return nil
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
// never longer than the ward.
func (p *placement) saw(ref object.Ref, body map[string]any) {
	p.mu.Lock()
	old, waits := p.newest[ref]
	if !waits || compare.ResourceVersion(old) <= compare.ResourceVersion(body) {
		p.newest[ref] = body
	}
	p.mu.Unlock()
	if waits {
		return
	}
	p.post(func() {
		p.mu.Lock()
		newest := p.newest[ref]
		delete(p.newest, ref)
		p.mu.Unlock()
		p.sawLive(ref, newest)
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

// ---- the repository

// repoRead is told after each look at the repository.
func (p *placement) repoRead(a AsOf) {
	p.post(func() {
		if !a.Known {
			p.repository.Known, p.repository.Problem, p.repository.Next = false, a.Problem, a.Next
			p.looked()
			return
		}
		p.repository.Next = a.Next
		p.render(a)
	})
}

func (p *placement) looked() {
	if p.rendering {
		return
	}
	for _, c := range p.looking {
		close(c)
	}
	p.looking = nil
}

// render resolves the ward's revision and, when its tree is another, reads and renders it; beside the ward's
// goroutine, one at a time.
func (p *placement) render(a AsOf) {
	if p.rendering {
		p.renderNext = true
		return
	}
	p.rendering = true
	old := p.declared
	p.k.spawn(func() {
		turn, err := p.k.renders.take(p.ctx, p.id)
		var d *declaration
		if err == nil {
			d, err = p.declare(p.ctx, p.ward.From.Ref, old)
			turn()
		}
		p.post(func() {
			p.rendering = false
			p.rendered(a, d, err)
			if p.renderNext {
				p.renderNext = false
				p.render(a)
			}
			p.looked()
		})
	})
}

func (p *placement) rendered(a AsOf, d *declaration, err error) {
	if p.ctx.Err() != nil {
		return
	}
	if err != nil {
		var gone *cluster.UnreachableError
		if errors.As(err, &gone) {
			p.repository.Known, p.repository.Problem = false, "its kinds can't be checked: "+err.Error()
			if p.cluster.conn != nil {
				p.retryRender(a)
			}
		} else {
			p.repository.Known, p.repository.Problem = false, err.Error()
		}
		return
	}
	if p.declared == nil || p.declared.revision.ID != d.revision.ID {
		p.failures = 0
	}
	p.declared = d
	p.scaled = d.scaled
	if d.files != nil || len(p.rules) > 0 {
		p.setRules(d)
	}
	p.repository = AsOf{Known: true, At: a.At, Next: p.repository.Next}
	if p.cluster.conn != nil {
		for _, o := range d.objects {
			p.watchKind(o.version, o.Ref.Kind)
		}
		p.dropKinds()
	}
}

// setRules takes newly read health rules; what they say of objects is known with their next event, so those of their
// kinds are looked at again.
func (p *placement) setRules(d *declaration) {
	old := p.rules
	p.rules = d.rules
	if err := p.k.store.SetRules(p.ctx, p.id, d.files); err != nil {
		p.log.Error("health rules can't be written", "error", err)
	}
	for ref := range p.baselines {
		k := [2]string{ref.Group, ref.Kind}
		if p.cluster.conn != nil && p.lives[ref] != nil && (old[k] != nil || p.rules[k] != nil) {
			p.look(ref)
		}
	}
}

// look reads an object by name and takes its state in.
func (p *placement) look(ref object.Ref) {
	b := p.baselines[ref]
	p.k.spawn(func() {
		if body, err := p.cluster.conn.Get(p.ctx, b.Version, ref); err == nil {
			p.saw(ref, body)
		}
	})
}

func (p *placement) retryRender(a AsOf) {
	time.AfterFunc(2*time.Second, func() {
		p.post(func() {
			if !p.repository.Known && p.ctx.Err() == nil {
				p.render(a)
			}
		})
	})
}

// declare reads what the repository declares at a ref. With the same tree as before nothing is rendered.
func (p *placement) declare(ctx context.Context, ref string, old *declaration) (*declaration, error) {
	m := p.repo.mirror
	head, err := m.Resolve(ctx, ref)
	if errors.Is(err, repo.ErrEmpty) {
		return &declaration{waits: fmt.Sprintf("waits for the first commit on %s in %s", ref, m.Name())}, nil
	}
	if err != nil {
		return nil, err
	}
	tree, err := m.Tree(head.ID, p.ward.From.Path)
	if err != nil {
		return nil, err
	}
	if rules, err := m.Tree(head.ID, render.RulesDir); err == nil {
		tree += " " + rules
	}
	if old != nil && old.tree == tree {
		return old, nil
	}
	rev, err := m.LastChange(ctx, head, p.ward.From.Path)
	if err != nil {
		return nil, err
	}
	files, err := m.Files(head.ID, p.ward.From.Path, render.Wanted)
	if err != nil {
		return nil, err
	}
	objects, err := render.Plain(files)
	if err != nil {
		return nil, err
	}
	d := &declaration{revision: record.Revision{ID: rev.ID, Subject: rev.Subject, Author: rev.Author, At: rev.At}, tree: tree, scaled: map[object.Ref]string{}}
	if strings.Contains(tree, " ") {
		common, err := m.Files(head.ID, render.RulesDir, render.Wanted)
		if err != nil {
			return nil, err
		}
		if p.ward.From.Path != "" { // else they are among the files already
			files = append(files, common...)
		}
	}
	if d.rules, err = render.Rules(files); err != nil {
		return nil, err
	}
	for _, f := range files {
		if health.IsRules(f.Data) {
			d.files = append(d.files, record.File{Path: f.Path, Text: string(f.Data)})
		}
	}
	if len(objects) == 0 && len(p.View().Baselines) == 0 {
		d.waits = fmt.Sprintf("waits for a first object below %q in %s; there are no manifests yet", p.ward.From.Path, m.Name())
	}
	if p.cluster.conn == nil {
		return nil, p.cluster.err
	}
	if objects, err = render.Place(p.ward, objects, p.scopes(objects)); err != nil {
		return nil, err
	}
	if d.waits != "" {
		return d, nil
	}
	kept := make([]record.SnapshotObject, len(objects))
	for i, o := range objects {
		turn, err := o.Turn()
		if err != nil {
			return nil, err
		}
		kept[i] = record.SnapshotObject{Object: o, Hash: p.hash(o), Step: turn.Step}
		if scaled, ok := cluster.ScaleTarget(o.Body); ok {
			d.scaled[scaled] = o.Ref.Short()
		}
	}
	if d.snapshot, err = p.k.putSnapshot(ctx, kept); err != nil {
		return nil, err
	}
	d.objects, d.index = declaredOf(kept)
	d.tasks = tasksOf(d.objects)
	return d, nil
}

func declaredOf(kept []record.SnapshotObject) ([]declaredObject, map[object.Ref]int) {
	out := make([]declaredObject, len(kept))
	index := make(map[object.Ref]int, len(kept))
	for i, o := range kept {
		turn, err := o.Object.Turn()
		if err != nil {
			turn.Step = o.Step // kept by an older version, which knew fewer annotations
		}
		out[i] = declaredObject{Declared: plan.Declared{Ref: o.Object.Ref, Hash: o.Hash, Turn: turn}, version: o.Object.Version,
			file: o.Object.File, line: o.Object.Line}
		index[o.Object.Ref] = i
	}
	return out, index
}

func tasksOf(objects []declaredObject) map[string]string {
	out := map[string]string{}
	for _, o := range objects {
		if o.Task != object.NoTask {
			out[o.Ref.Key()] = o.Hash
		}
	}
	return out
}

// hash is the declared object's, with what is left to others; of a Secret a keyed one, since even a plain hash
// tells something.
func (p *placement) hash(o object.Object) string {
	h := object.Hash(o.Body)
	if left := p.ward.Left(o.Ref); len(left) > 0 {
		texts := make([]string, len(left))
		for i, l := range left {
			texts[i] = l.String()
		}
		h = object.Hash([]any{h, strings.Join(texts, " ")})
	}
	if o.Ref.Secret() {
		return "keyed " + p.k.store.Vault().Digest(h)
	}
	return h
}

// scopes tells which kinds live in namespaces: the cluster's, and those whose definitions are among the objects.
func (p *placement) scopes(objects []object.Object) func(object.Object) (bool, error) {
	defined := map[[2]string]bool{}
	for _, o := range objects {
		if o.Ref.Kind == "CustomResourceDefinition" {
			spec, _ := o.Body["spec"].(map[string]any)
			names, _ := spec["names"].(map[string]any)
			group, _ := spec["group"].(string)
			kind, _ := names["kind"].(string)
			defined[[2]string{group, kind}] = spec["scope"] == "Namespaced"
		}
	}
	return func(o object.Object) (bool, error) {
		if namespaced, ok := defined[[2]string{o.Ref.Group, o.Ref.Kind}]; ok {
			return namespaced, nil
		}
		return p.cluster.conn.Namespaced(o)
	}
}

// ---- the cluster

func (p *placement) watchKind(version, kind string) {
	k := [2]string{version, kind}
	if !slices.Contains(p.kinds, k) {
		p.kinds = append(p.kinds, k)
		p.cluster.need(k, p.id)
	}
}

// dropKinds lets go of the watches of kinds that the ward has nothing of any more: the definition of such a kind
// may be gone, and a watch of it broken for ever.
func (p *placement) dropKinds() {
	var keep [][2]string
	for _, b := range p.baselines {
		keep = append(keep, [2]string{b.Version, b.Ref.Kind})
	}
	for _, t := range p.tasks {
		keep = append(keep, [2]string{t.Version, t.Ref.Kind})
	}
	if p.declared != nil {
		for _, o := range p.declared.objects {
			keep = append(keep, [2]string{o.version, o.Ref.Kind})
		}
	}
	p.kinds = slices.DeleteFunc(p.kinds, func(k [2]string) bool {
		if slices.Contains(keep, k) {
			return false
		}
		p.cluster.release(k, p.id)
		return true
	})
}

// clusterKnown tells whether everything this ward keeps has been looked at and is being watched.
func (p *placement) clusterKnown() cluster.State {
	if p.cluster.conn == nil {
		return cluster.State{Problem: p.cluster.err.Error()}
	}
	var kinds [][2]string
	for _, b := range p.baselines {
		if k := [2]string{b.Version, b.Ref.Kind}; !slices.Contains(kinds, k) {
			kinds = append(kinds, k)
		}
	}
	s := p.cluster.conn.Known(kinds)
	if len(kinds) > 0 && !p.cluster.conn.ScalersKnown() {
		s.Known = false // an autoscaler not yet seen would make its work look like drift
	}
	for ref, b := range p.baselines {
		if b.Intent != 0 {
			continue
		}
		if l := p.lives[ref]; l == nil || !l.watched && !l.verified {
			s.Known = false
		}
	}
	return s
}

// watchChanged runs when a watch came up or broke. Objects that a fresh list did not hold are looked for by name.
func (p *placement) watchChanged() {
	if p.cluster.conn == nil {
		return
	}
	for ref, b := range p.baselines {
		l := p.lives[ref]
		if l == nil && b.Intent == 0 && p.cluster.conn.Known([][2]string{{b.Version, b.Ref.Kind}}).Known {
			p.verify(ref)
		}
	}
}

func (p *placement) live(ref object.Ref) *liveObject {
	l := p.lives[ref]
	if l == nil {
		l = &liveObject{health: health.Result{Word: health.Unknown}}
		p.lives[ref] = l
	}
	return l
}

// tracked tells whether the ward has anything to do with an object.
func (p *placement) tracked(ref object.Ref) bool {
	if _, ok := p.baselines[ref]; ok {
		return true
	}
	if _, ok := p.tasks[ref]; ok {
		return true
	}
	if p.declared != nil {
		_, ok := p.declared.index[ref]
		return ok
	}
	return false
}

// sawLive takes the newest state of an object in.
func (p *placement) sawLive(ref object.Ref, body map[string]any) {
	if !p.tracked(ref) {
		return
	}
	l := p.live(ref)
	rv := compare.ResourceVersion(body)
	if rv < l.revision && l.present {
		return
	}
	meta, _ := body["metadata"].(map[string]any)
	l.uid, _ = meta["uid"].(string)
	l.present, l.watched, l.revision = true, true, rv
	l.unmarked = object.Label(body, object.WardLabel) == ""
	if _, task := p.tasks[ref]; task {
		p.sawTask(ref, body)
		return
	}
	l.health = p.rules.Of(ref.Group, ref.Kind, body)
	if l.health.Word == health.Ready {
		l.cause, l.causeKnown = nil, false
	} else {
		p.lookBelow(ref, 300*time.Millisecond)
	}
	b, kept := p.baselines[ref]
	applied := b.Intent == 0 || p.run != nil && p.run.appliedAt[ref] > 0
	if kept && applied && rv >= b.Revision {
		mask := p.k.store.Vault().Digest
		drift := compare.Drift(b, body, mask)
		if len(drift) > 0 && len(l.drift) == 0 {
			l.since = time.Now()
		}
		l.drift, l.added = drift, nil
		if p.ward.Keep.Additions != "ignore" {
			l.added = compare.Additions(b, body, p.left(ref), mask)
		}
	}
	if kept && l.unmarked {
		p.lookAgain(ref)
	}
	p.feedHealth(ref)
}

// left lists the fields of an object that are left to others: as the ward says, and the replicas of what an
// autoscaler scales.
func (p *placement) left(ref object.Ref) []object.Pointer {
	out := p.ward.Left(ref)
	if p.scaler(ref) != "" {
		out = append(out[:len(out):len(out)], replicas)
	}
	return out
}

var replicas = func() object.Pointer {
	p, err := object.ParsePointer("/spec/replicas")
	if err != nil {
		panic(err)
	}
	return p
}()

// scaler names the autoscaler of a workload, live or declared by this ward; empty when there is none.
func (p *placement) scaler(ref object.Ref) string {
	if p.cluster.conn != nil {
		if name := p.cluster.conn.Scaler(ref); name != "" {
			return name
		}
	}
	return p.scaled[ref]
}

// drift is what others changed of an object, less what an autoscaler does.
func (p *placement) drift(ref object.Ref) []compare.Difference {
	l := p.lives[ref]
	if l == nil || len(l.drift) == 0 || p.scaler(ref) == "" {
		if l == nil {
			return nil
		}
		return l.drift
	}
	return slices.DeleteFunc(slices.Clone(l.drift), func(d compare.Difference) bool { return d.Path == "spec.replicas" })
}

// lookAgain looks at an object that no watch brings any more, since it has lost the ward's label, every now and
// then until it is marked again.
func (p *placement) lookAgain(ref object.Ref) {
	if p.recheck[ref] {
		return
	}
	p.recheck[ref] = true
	time.AfterFunc(15*time.Second, func() {
		p.post(func() {
			delete(p.recheck, ref)
			if l := p.lives[ref]; l != nil && l.unmarked && p.ctx.Err() == nil {
				p.verify(ref)
			}
		})
	})
}

// feedHealth tells a run that goes on how an object does, unless the news is older than its own apply.
func (p *placement) feedHealth(ref object.Ref) {
	if p.run == nil {
		return
	}
	l := p.lives[ref]
	if l.health.Final && cluster.HasBelow(ref) && !l.causeKnown {
		return // why is told by what is below, and that is being looked at
	}
	if l.revision >= p.run.appliedAt[ref] {
		p.feed(run.Seen{At: time.Now(), Ref: ref, Health: l.state()})
	}
}

// verify looks for an object by name: it left the watch, or was never in it.
func (p *placement) verify(ref object.Ref) {
	b, ok := p.baselines[ref]
	if !ok {
		if l := p.lives[ref]; l != nil {
			delete(p.lives, ref)
		}
		return
	}
	asked := int64(0)
	if l := p.lives[ref]; l != nil {
		asked = l.revision
	}
	p.k.spawn(func() {
		body, err := p.cluster.conn.Get(p.ctx, b.Version, ref)
		p.post(func() {
			if l := p.lives[ref]; l != nil && l.revision > asked {
				return // something newer was seen meanwhile
			}
			switch {
			case err == nil:
				p.live(ref).verified = true
				p.sawLive(ref, body)
			case errors.Is(err, cluster.ErrGone):
				p.gone(ref)
			default:
				time.AfterFunc(2*time.Second, func() { p.post(func() { p.verify(ref) }) })
			}
		})
	})
}

func (p *placement) gone(ref object.Ref) {
	l := p.live(ref)
	l.added, l.unmarked = nil, false
	if l.present || l.since.IsZero() {
		l.since = time.Now()
	}
	l.present, l.verified, l.drift, l.cause = false, true, nil, nil
	l.health = health.Result{Word: health.Absent, Reason: "it is not in the cluster"}
	if p.run != nil && p.run.appliedAt[ref] > 0 {
		p.feed(run.Seen{At: time.Now(), Ref: ref, Health: l.health})
	}
}

// lookBelow finds out why a workload is not ready, from the Pods below it, again and again until it is.
func (p *placement) lookBelow(ref object.Ref, after time.Duration) {
	l := p.live(ref)
	if l.below || !cluster.HasBelow(ref) {
		return
	}
	l.below = true
	uid := l.uid
	time.AfterFunc(after, func() {
		select {
		case p.cluster.slow <- struct{}{}:
		case <-p.ctx.Done():
			return
		}
		children, err := p.cluster.conn.Children(p.ctx, ref.Namespace)
		<-p.cluster.slow
		p.post(func() {
			l.below = false
			if l.health.Word == health.Ready || !l.present || p.lives[ref] != l {
				return
			}
			l.causeKnown = true
			if err == nil && l.uid == uid {
				var pods []map[string]any
				for _, o := range children.Below(uid) {
					if o.Ref.Kind == "Pod" {
						pods = append(pods, o.Body)
					}
				}
				l.cause = nil
				if r, bad := health.Cause(pods); bad {
					l.cause = &r
				}
			}
			p.feedHealth(ref)
			p.lookBelow(ref, 2*time.Second)
		})
	})
}

// ---- deciding

// astray is what the cluster moved.
type astray struct {
	refs       []object.Ref // objects that drifted
	fields     int          // of them; an object that is gone counts as one
	contested  int          // fields that another client takes back each time
	added      []object.Ref // objects that others added to
	additions  int
	restorable []object.Ref // what may be put back: drifted, and with additions to remove, and not contested
	at         time.Time    // not before
}

// astray looks at every object that the ward keeps.
func (p *placement) astray() astray {
	var out astray
	now := time.Now()
	for ref, b := range p.baselines {
		l := p.lives[ref]
		if l == nil || b.Intent != 0 && !p.ofRun(ref) {
			continue
		}
		drift := p.drift(ref)
		missing := !l.present && l.verified
		restore := missing || len(drift) > 0
		if missing {
			drift = []compare.Difference{{}}
		}
		if restore {
			out.refs = append(out.refs, ref)
			out.fields += len(drift)
		}
		if len(l.added) > 0 {
			out.added = append(out.added, ref)
			out.additions += len(l.added)
			if p.ward.Keep.Additions == "remove" {
				restore = true
				drift = append(slices.Clone(drift), l.added...)
			}
		}
		fought := 0
		for _, d := range drift {
			if p.contests.Contested(ref, d.Path, d.Who) {
				fought++
			} else if at := p.contests.Wait(ref, d.Path, d.Who, now); at.After(out.at) {
				out.at = at
			}
		}
		out.contested += fought
		if restore && fought == 0 {
			out.restorable = append(out.restorable, ref)
		}
	}
	for _, refs := range [][]object.Ref{out.refs, out.added, out.restorable} {
		slices.SortFunc(refs, object.Ref.Compare)
	}
	return out
}

// ofRun tells whether the run that goes on works on an object.
func (p *placement) ofRun(ref object.Ref) bool {
	return p.run != nil && p.run.works[ref]
}

// pending tells what the repository moved: objects to apply, objects to remove, and tasks that are new or changed.
func (p *placement) pending() (apply, remove, tasks []object.Ref) {
	if p.declared == nil {
		return nil, nil, nil
	}
	known := p.baselines
	if p.run != nil { // what the run has not applied yet is as it was, what it has applied is done
		known = make(map[object.Ref]compare.Baseline, len(p.baselines))
		for ref, b := range p.baselines {
			if p.run.works[ref] && b.Intent != 0 {
				before, had := p.run.before[ref]
				switch {
				case p.run.appliedAt[ref] > 0:
					b.Intent = 0
				case had:
					b = before
				}
			}
			known[ref] = b
		}
	}
	items := make([]compare.Item, 0, len(p.declared.objects))
	for _, o := range p.declared.objects {
		if o.Task == object.NoTask {
			items = append(items, compare.Item{Ref: o.Ref, Hash: p.hashNow(o.Ref, o.Hash)})
		} else if p.done[o.Ref.Key()] != o.Hash {
			tasks = append(tasks, o.Ref)
		}
	}
	apply, remove = compare.Pending(items, known)
	if !p.ward.Keep.Prune {
		remove = nil
	}
	return apply, remove, tasks
}

// scaledMark stands before the hash of an object that was applied without its replicas, because an autoscaler has
// them: once the autoscaler is gone, the object is applied again.
const scaledMark = "scaled "

// hashNow is the hash to hold against the baseline's.
func (p *placement) hashNow(ref object.Ref, hash string) string {
	if p.scaler(ref) != "" && p.baselines[ref].Declared != hash { // one that came later is no reason to apply again
		return scaledMark + hash
	}
	return hash
}

// plan makes the plan of a sync as it would run now.
func (p *placement) syncPlan(allow []string) plan.Plan {
	_, _, tasks := p.pending()
	return plan.Make(plan.Input{Declared: p.declaredNow(p.declared.objects), Baselines: p.baselines, Drifted: p.astray().restorable,
		Prune: p.ward.Keep.Prune, NoPrune: p.noPrune(), Tasks: tasksWhen(len(tasks) > 0), Allow: allow})
}

// tasksWhen says when a sync runs its tasks: always when one of them is new, else along with other work.
func tasksWhen(changed bool) plan.Tasks {
	if changed {
		return plan.Always
	}
	return plan.WithWork
}

// declaredNow is what a plan needs of declared objects.
func (p *placement) declaredNow(objects []declaredObject) []plan.Declared {
	out := make([]plan.Declared, len(objects))
	for i, o := range objects {
		out[i] = o.Declared
		out[i].Hash = p.hashNow(o.Ref, o.Hash)
	}
	return out
}

// noPrune lists what a run may never remove: as the objects said when they were applied last.
func (p *placement) noPrune() map[object.Ref]bool {
	out := map[object.Ref]bool{}
	for ref, b := range p.baselines {
		out[ref] = slices.Contains(appliedGuards(b), "no-prune")
	}
	return out
}

// appliedGuards is what an object said about itself when it was applied last.
func appliedGuards(b compare.Baseline) []string {
	for _, f := range b.Fields {
		if f.Path == "metadata.annotations["+object.GuardAnnotation+"]" {
			s, _ := f.Value.(string)
			return splitList(s)
		}
	}
	return nil
}

// evaluate looks at where the ward stands, tells whoever listens, and starts what should run by itself.
func (p *placement) evaluate() {
	if p.ctx.Err() != nil {
		return
	}
	if p.hold != nil && !p.hold.Until.IsZero() && time.Now().After(p.hold.Until) {
		if err := p.release(byVigila, "the end of the hold was reached"); err != nil {
			p.log.Error("hold can't be released", "error", err)
		}
	}
	if d := p.declared; p.run == nil && d != nil && p.applied != nil && d.snapshot == p.snapshot && d.revision.ID != p.applied.ID {
		// A commit that changes no object: the cluster holds it already.
		if err := p.setApplied(d.revision, d.snapshot, p.done); err != nil {
			p.log.Error("what is applied can't be written", "error", err)
		}
	}
	if p.run == nil && p.ward.Keep.Drift == "restore" {
		p.publish() // drift that is restored at once is history all the same
	}
	again := p.decide()
	p.publish()
	wait := time.Hour
	if p.run != nil {
		wait = time.Until(p.run.machine.Deadline())
	} else if !again.IsZero() {
		wait = time.Until(again)
	}
	if p.hold != nil && !p.hold.Until.IsZero() {
		wait = min(wait, time.Until(p.hold.Until))
	}
	p.timer.Reset(max(wait, 10*time.Millisecond))
}

func (p *placement) decide() time.Time {
	if p.run != nil {
		p.giveWay()
		return time.Time{}
	}
	apply, remove, tasks := p.pending()
	astray := p.astray()
	s := run.Situation{Now: time.Now(), AutoSync: p.ward.Keep.Sync == "auto", RestoreDrift: p.ward.Keep.Drift == "restore",
		Held: p.hold != nil, Blind: !p.clusterKnown().Known, RepoBlind: !p.repository.Known, Pending: len(apply) + len(remove) + len(tasks), Restorable: len(astray.restorable),
		RestoreAt: astray.at, Rejected: p.rejected(), WaitsFor: p.waitsFor(), LastFailed: p.lastFailed, FailuresInRow: p.failures}
	if p.ward.Keep.Reapply && p.snapshot != "" {
		if p.againAt.IsZero() {
			p.againAt = s.Now.Add(p.ward.Keep.Every)
		}
		s.AgainAt = p.againAt
	}
	if p.declared != nil && s.Pending > 0 {
		s.Guarded = len(p.syncPlan(nil).Guards) > 0
	}
	kind, _, again := run.Next(s)
	var err error
	switch kind {
	case run.Sync:
		_, err = p.start(Ask{Kind: run.Sync, By: byVigila, Why: p.syncWhy()})
	case run.Restore:
		_, err = p.start(Ask{Kind: run.Restore, By: byVigila, Why: p.View().Says})
	case run.Again:
		p.againAt = s.Now.Add(p.ward.Keep.Every)
		_, err = p.start(Ask{Kind: run.Restore, By: byVigila, Why: "applied again, as keep.reapply asks", Reapply: true, quiet: true})
	}
	if err != nil {
		p.failures++
		p.lastFailed = time.Now()
		p.log.Warn("automatic run did not start", "kind", kind, "error", err)
		return time.Now().Add(run.Backoff(p.failures))
	}
	return again
}

// giveWay stops an automatic sync when a newer revision has come and the ward wants that to take over.
func (p *placement) giveWay() {
	a := p.run
	if p.ward.Keep.Newer != "replace" || a.gaveWay || a.entry.Kind != string(run.Sync) || a.entry.By != byVigila || p.declared == nil || p.declared.waits != "" || !p.repository.Known {
		return
	}
	if now := p.declared.revision; now.ID != a.entry.Revision.ID && p.rejected() == "" {
		a.gaveWay = true
		p.stop(fmt.Sprintf("%s takes over", short(&now)))
	}
}

func (p *placement) syncWhy() string {
	if p.applied == nil {
		return "first sync"
	}
	return "new revision"
}

func (p *placement) rejected() string {
	if p.declared == nil {
		return ""
	}
	return p.rejections[p.declared.revision.ID].Why
}

// waitsFor names the first ward of `after` that is not in step and ready in the same cluster.
func (p *placement) waitsFor() string {
	for _, name := range p.ward.After {
		id := name + "@" + p.cluster.conf.Name
		p.k.mu.RLock()
		other := p.k.wards[id]
		p.k.mu.RUnlock()
		if other == nil {
			return id + ", which is not known"
		}
		if v := other.View(); v.Standing != compare.InStep || v.Health.Word != health.Ready {
			return fmt.Sprintf("%s, which is %s and %s", id, v.Standing, v.Health.Word)
		}
	}
	return ""
}
