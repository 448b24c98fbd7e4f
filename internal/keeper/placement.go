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

	applied    *record.Revision
	snapshot   string
	hold       *record.Hold
	rejections map[string]string
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
	waits    string // why there is nothing declared yet, and that this is no error
}

type declaredObject struct {
	plan.Declared
	version string
	file    string
	line    int
	noPrune bool
}

// liveObject is what is known of an object in the cluster, without the object.
type liveObject struct {
	present  bool
	verified bool // it was looked for by name
	revision int64
	uid      string
	health   health.Result
	cause    *health.Result // what is wrong below it, while it is not ready
	below    bool           // a look below is on its way
	drift    []compare.Difference
	since    time.Time // of the drift, as noticed
	watched  bool      // seen by a watch
}

func (l *liveObject) state() health.Result {
	if l.cause != nil && l.health.Word != health.Ready {
		return health.Result{Word: l.cause.Word, Reason: l.cause.Reason, Final: l.health.Final}
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
		wake: make(chan struct{}, 1), lives: map[object.Ref]*liveObject{}, applied: rec.Applied, snapshot: rec.Snapshot, hold: rec.Hold}
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
	if failedSync && l.Revision != nil && p.rejections[l.Revision.ID] != "" || brokenBack {
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
		d, err := p.declare(p.ctx, old)
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
	p.repository = AsOf{Known: true, At: a.At, Next: p.repository.Next}
	if p.cluster.conn != nil {
		for _, o := range d.objects {
			p.watchKind(o.version, o.Ref.Kind)
		}
		p.dropKinds()
	}
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

// declare reads what the repository declares. With the same tree as before nothing is rendered.
func (p *placement) declare(ctx context.Context, old *declaration) (*declaration, error) {
	m := p.repo.mirror
	head, err := m.Resolve(ctx, p.ward.From.Ref)
	if errors.Is(err, repo.ErrEmpty) {
		return &declaration{waits: fmt.Sprintf("waits for the first commit on %s in %s", p.ward.From.Ref, m.Name())}, nil
	}
	if err != nil {
		return nil, err
	}
	tree, err := m.Tree(head.ID, p.ward.From.Path)
	if err != nil {
		return nil, err
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
	d := &declaration{revision: record.Revision{ID: rev.ID, Subject: rev.Subject, Author: rev.Author, At: rev.At}, tree: tree}
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
		step, err := o.Step()
		if err != nil {
			return nil, err
		}
		kept[i] = record.SnapshotObject{Object: o, Hash: p.hash(o), Step: step}
	}
	if d.snapshot, err = p.k.store.PutSnapshot(ctx, kept); err != nil {
		return nil, err
	}
	d.objects, d.index = declaredOf(kept)
	return d, nil
}

func declaredOf(kept []record.SnapshotObject) ([]declaredObject, map[object.Ref]int) {
	out := make([]declaredObject, len(kept))
	index := make(map[object.Ref]int, len(kept))
	for i, o := range kept {
		guard, _ := o.Object.Annotation(object.GuardAnnotation)
		out[i] = declaredObject{Declared: plan.Declared{Ref: o.Object.Ref, Hash: o.Hash, Step: o.Step}, version: o.Object.Version,
			file: o.Object.File, line: o.Object.Line, noPrune: slices.Contains(splitList(guard), "no-prune")}
		index[o.Object.Ref] = i
	}
	return out, index
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
	l.health = health.Of(ref.Group, ref.Kind, body)
	if l.health.Word == health.Ready {
		l.cause = nil
	} else {
		p.lookBelow(ref, 300*time.Millisecond)
	}
	b, kept := p.baselines[ref]
	applied := b.Intent == 0 || p.run != nil && p.run.appliedAt[ref] > 0
	if kept && applied && rv >= b.Revision {
		drift := compare.Drift(b, body, p.k.store.Vault().Digest)
		if len(drift) > 0 && len(l.drift) == 0 {
			l.since = time.Now()
		}
		l.drift = drift
	}
	p.feedHealth(ref)
}

// feedHealth tells a run that goes on how an object does, unless the news is older than its own apply.
func (p *placement) feedHealth(ref object.Ref) {
	if p.run == nil {
		return
	}
	l := p.lives[ref]
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
			if err == nil && l.uid == uid {
				var pods []map[string]any
				for _, o := range children.Below(uid) {
					if o.Ref.Kind == "Pod" {
						pods = append(pods, o.Body)
					}
				}
				l.cause = nil
				if r, bad := health.Cause(pods); bad {
					l.cause = &health.Result{Word: health.Failing, Reason: r.Reason}
				}
				p.feedHealth(ref)
			}
			p.lookBelow(ref, 2*time.Second)
		})
	})
}

// ---- deciding

// driftedRefs lists the objects that the cluster moved, and how many of their fields; contested ones apart.
func (p *placement) driftedRefs() (refs []object.Ref, fields, contested int, restorable []object.Ref) {
	for ref, b := range p.baselines {
		l := p.lives[ref]
		if l == nil || b.Intent != 0 && !p.ofRun(ref) {
			continue
		}
		if !l.present && l.verified {
			refs, restorable = append(refs, ref), append(restorable, ref)
			fields++
			continue
		}
		if len(l.drift) == 0 {
			continue
		}
		refs = append(refs, ref)
		fields += len(l.drift)
		fought := 0
		for _, d := range l.drift {
			if p.contests.Contested(ref, d.Path, d.Who) {
				fought++
			}
		}
		contested += fought
		if fought == 0 {
			restorable = append(restorable, ref)
		}
	}
	slices.SortFunc(refs, object.Ref.Compare)
	slices.SortFunc(restorable, object.Ref.Compare)
	return refs, fields, contested, restorable
}

// ofRun tells whether the run that goes on works on an object.
func (p *placement) ofRun(ref object.Ref) bool {
	return p.run != nil && p.run.works[ref]
}

func (p *placement) pending() (apply, remove []object.Ref) {
	if p.declared == nil {
		return nil, nil
	}
	items := make([]compare.Item, len(p.declared.objects))
	for i, o := range p.declared.objects {
		items[i] = compare.Item{Ref: o.Ref, Hash: o.Hash}
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
	apply, remove = compare.Pending(items, known)
	if !p.ward.Keep.Prune {
		remove = nil
	}
	return apply, remove
}

// plan makes the plan of a sync as it would run now.
func (p *placement) syncPlan(allow []string) plan.Plan {
	_, _, _, restorable := p.driftedRefs()
	return plan.Make(plan.Input{Declared: p.declared.plan(), Baselines: p.baselines, Drifted: restorable,
		Prune: p.ward.Keep.Prune, NoPrune: p.noPrune(), Allow: allow})
}

func (d *declaration) plan() []plan.Declared {
	out := make([]plan.Declared, len(d.objects))
	for i, o := range d.objects {
		out[i] = o.Declared
	}
	return out
}

// noPrune lists what a run may never remove: as the objects said when they were applied last.
func (p *placement) noPrune() map[object.Ref]bool {
	out := map[object.Ref]bool{}
	for ref, b := range p.baselines {
		for _, f := range b.Fields {
			if f.Path == "metadata.annotations["+object.GuardAnnotation+"]" {
				s, _ := f.Value.(string)
				out[ref] = slices.Contains(splitList(s), "no-prune")
			}
		}
	}
	return out
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
		if err := p.setApplied(d.revision, d.snapshot); err != nil {
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
		return time.Time{}
	}
	apply, remove := p.pending()
	_, _, _, restorable := p.driftedRefs()
	s := run.Situation{Now: time.Now(), AutoSync: p.ward.Keep.Sync == "auto", RestoreDrift: p.ward.Keep.Drift == "restore",
		Held: p.hold != nil, Blind: !p.clusterKnown().Known, RepoBlind: !p.repository.Known, Pending: len(apply) + len(remove), Restorable: len(restorable),
		Rejected: p.rejected(), WaitsFor: p.waitsFor(), LastFailed: p.lastFailed, FailuresInRow: p.failures}
	if p.declared != nil && s.Pending > 0 {
		s.Guarded = len(p.syncPlan(nil).Guards) > 0
	}
	kind, _, again := run.Next(s)
	var err error
	switch kind {
	case run.Sync:
		_, err = p.start(startRun{kind: run.Sync, by: byVigila, why: p.syncWhy()})
	case run.Restore:
		_, err = p.start(startRun{kind: run.Restore, by: byVigila, why: p.View().Says})
	}
	if err != nil {
		p.failures++
		p.lastFailed = time.Now()
		p.log.Warn("automatic run did not start", "kind", kind, "error", err)
		return time.Now().Add(run.Backoff(p.failures))
	}
	return again
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
	return p.rejections[p.declared.revision.ID]
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
