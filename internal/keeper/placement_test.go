package keeper

import (
	"context"
	"hash/maphash"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

var (
	horn    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "horn"}
	bell    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "bell"}
	planner = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "planner"}
	migrate = object.Ref{Group: "batch", Kind: "Job", Namespace: "n", Name: "migrate"}
)

// placed is a ward in a cluster that is not reached, with a record of its own.
func placed(t *testing.T, keep ward.Keep) *placement {
	t.Helper()
	store, err := record.Open(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, store.Close()) })
	require.NoError(t, store.PutCluster(context.Background(), record.Cluster{Name: "quay", Labels: map[string]string{}}))
	require.NoError(t, store.PutWard(context.Background(), record.Ward{Name: "w"}, []string{"quay"}))
	k := &Keeper{store: store, log: slog.New(slog.DiscardHandler), broker: newBroker(), metrics: newMetrics(), wards: map[string]*placement{}, opts: Options{Parallel: 2}}
	p := &placement{k: k, id: "w@quay", ward: ward.Ward{Name: "w", Keep: keep}, cluster: &clusterLoop{k: k, conf: record.Cluster{Name: "quay"}, claims: map[uint64]*placement{}, seed: maphash.MakeSeed()}, log: k.log, ctx: context.Background(),
		baselines: map[object.Ref]compare.Baseline{}, kept: map[[2]string]int{}, odd: map[object.Ref]bool{}, unseen: map[object.Ref]bool{}, lives: map[object.Ref]*liveObject{}, rejections: map[string]record.Rejection{}, scaled: map[object.Ref]string{}, done: map[string]string{}}
	return p
}

func (p *placement) declaring(objects ...declaredObject) {
	p.declared, p.behind, p.repository.Known = &declaration{revision: record.Revision{ID: "newrev0"}, snapshot: "s"}, nil, true
	p.declared.take(objects)
}

func declare(ref object.Ref, hash string) declaredObject {
	return declaredObject{Declared: plan.Declared{Ref: ref, Hash: hash}, version: "v1"}
}

func (p *placement) applies(refs ...object.Ref) {
	for _, ref := range refs {
		p.lives[ref] = &liveObject{present: true, verified: true, trouble: none, health: health.Result{Word: health.Ready}}
		p.keep(compare.Baseline{Ref: ref, Declared: "1", UID: "u"})
	}
}

func TestTasksThatChangedArePending(t *testing.T) {
	p := placed(t, ward.Keep{Prune: true})
	task := declare(migrate, "a")
	task.Task = object.Before
	p.declaring(declare(horn, "1"), task)
	p.applies(horn)
	pending := p.pending()
	assert.Empty(t, append(pending.apply, pending.remove...), "a task is no object that is kept")
	assert.Equal(t, []object.Ref{migrate}, pending.tasks)
	p.done, p.behind = map[string]string{migrate.Key(): "a"}, nil
	assert.Empty(t, p.pending().tasks, "it ran with what is applied")
	assert.True(t, p.syncPlan(nil).Empty())
	p.done[migrate.Key()], p.behind = "older", nil
	made := p.syncPlan(nil)
	assert.Equal(t, []object.Ref{migrate}, made.Tasks(), "a task that changed is reason enough for a run")
	assert.Empty(t, made.Refs())
}

func TestAnAutoscalerComesAndGoes(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring(declare(planner, "1"))
	p.applies(planner)
	p.lives[planner].upset().drift = []compare.Difference{{Path: "spec.replicas", Who: "kube-controller-manager"}, {Path: "spec.paused", Who: "hurry"}}
	pending := func() int { p.behind = nil; return len(p.pending().apply) }
	assert.Len(t, p.drift(planner), 2)
	assert.Empty(t, p.left(planner))

	p.scaled[planner] = "HorizontalPodAutoscaler/planner"
	assert.Zero(t, pending(), "an autoscaler that comes is no reason to apply anything")
	assert.Len(t, p.left(planner), 1)
	require.Len(t, p.drift(planner), 1)
	assert.Equal(t, "spec.paused", p.drift(planner)[0].Path, "its work is no drift, other changes are")

	b := p.baselines[planner] // the next sync applies the object without its replicas
	b.Declared = scaledMark + "1"
	p.baselines[planner] = b
	assert.Zero(t, pending())
	delete(p.scaled, planner)
	assert.Equal(t, 1, pending(), "once it is gone, the declared number counts again")
}

func TestWhatIsAstrayAndMayBePutBack(t *testing.T) {
	p := placed(t, ward.Keep{Additions: "report"})
	p.applies(horn, bell, planner)
	p.lives[horn].upset().drift = []compare.Difference{{Path: "data.x", Who: "hurry"}}
	p.lives[bell].present = false
	p.lives[planner].upset().added = []compare.Difference{{Path: "metadata.labels.tier", Who: "hurry"}}
	for _, ref := range []object.Ref{horn, bell, planner} {
		p.touch(ref)
	}
	a := p.astray()
	assert.Equal(t, []object.Ref{bell, horn}, a.refs)
	assert.Equal(t, 2, a.fields)
	assert.Equal(t, 1, a.additions)
	assert.Equal(t, []object.Ref{bell, horn}, a.restorable, "additions are reported only")
	assert.True(t, a.at.IsZero())

	p.ward.Keep.Additions = "remove"
	assert.Equal(t, []object.Ref{planner, bell, horn}[1:], p.astray().restorable[:2])
	assert.Contains(t, p.astray().restorable, planner)

	now := time.Now()
	p.contests.Restored(horn, "data.x", "hurry", now)
	a = p.astray()
	assert.True(t, a.at.After(now), "the next restore of it is put off")
	assert.Equal(t, []object.Ref{horn}, a.waiting)
	assert.Contains(t, a.restorable, bell, "others don't wait for it")
	for range 2 {
		p.contests.Restored(horn, "data.x", "hurry", now)
	}
	for range 3 {
		p.contests.Restored(bell, "", "", now)
		p.contests.Restored(planner, "metadata.labels.tier", "hurry", now)
	}
	a = p.astray()
	assert.Equal(t, 3, a.contested, "a field, a deletion and an addition that somebody insists on")
	assert.Empty(t, a.restorable)
}

func TestAPersonNamesObjects(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.applies(bell)
	task := plan.Declared{Ref: migrate, Turn: object.Turn{Task: object.Before}}
	declared := []plan.Declared{{Ref: horn}, task}
	got, err := p.named([]string{"configmap/horn"}, declared)
	require.NoError(t, err)
	assert.Equal(t, []object.Ref{horn}, got)
	got, err = p.named([]string{"n/ConfigMap/horn", "ConfigMap/bell"}, declared)
	require.NoError(t, err)
	assert.Equal(t, []object.Ref{horn, bell}, got, "also one that is not declared any more")
	_, err = p.named([]string{"ConfigMap/horn", "ConfigMap/whistle"}, declared)
	assert.ErrorContains(t, err, "w@quay has no ConfigMap/whistle; its objects: vigila ward show w@quay")
	_, err = p.named([]string{"Job/migrate"}, declared)
	assert.ErrorContains(t, err, "Job/migrate is a task of w@quay: it runs with a sync of the whole, never by itself")
}

func TestWhatWasNeverAnsweredIsPending(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.applies(horn, bell)
	a := &activeRun{works: map[object.Ref]bool{horn: true, bell: true}, before: map[object.Ref]compare.Baseline{horn: p.baselines[horn], bell: p.baselines[bell]}, silent: map[object.Ref]bool{bell: true}, appliedAt: map[object.Ref]int64{},
		machine: run.New(plan.Plan{Steps: []plan.Step{{Groups: []plan.Group{{Refs: []object.Ref{horn, bell}}}}}}, time.Minute, run.Stay)}
	for _, b := range p.baselines {
		b.Detail = &compare.Detail{Owned: object.FieldSet{Set: fieldpath.NewSet(fieldpath.MakePathOrDie("data", "x"))}, Fields: []object.Field{{Path: "data.x", Value: "1"}}}
		require.NoError(t, p.k.store.PutBaselines(p.ctx, p.id, []compare.Baseline{b}))
		b.Intent = 7
		p.keep(b)
	}
	now := time.Now()
	a.machine.Step(run.Started{At: now})
	for _, ref := range []object.Ref{horn, bell} {
		a.machine.Step(run.Applied{At: now, Ref: ref, Err: "no"})
	}
	p.settleBaselines(a)
	p.declaring(declare(horn, "1"), declare(bell, "1"))
	assert.Equal(t, []object.Ref{bell}, p.pending().apply, "a refusal leaves an object as it was; silence may have changed it")
	detail, err := p.k.store.Detail(p.ctx, p.id, bell)
	require.NoError(t, err)
	assert.Empty(t, detail.Fields, "so nothing of it is called drift")
	kept, err := p.k.store.Baselines(p.ctx, p.id)
	require.NoError(t, err)
	assert.Equal(t, "1", kept[horn].Declared)
	assert.Empty(t, kept[bell].Declared)
}

func TestRejectionsAreKeptWithWhoAndWhy(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring()
	p.reject(record.Rejection{Revision: "newrev0", Subject: "Squeaks", Why: "it squeaks", By: "operator", At: time.Now()})
	assert.Equal(t, "it squeaks", p.rejected())
	all, err := p.k.store.Rejections(p.ctx, p.id)
	require.NoError(t, err)
	assert.Equal(t, "operator", all["newrev0"].By)
	p.unreject("newrev0")
	assert.Empty(t, p.rejected())
	all, err = p.k.store.Rejections(p.ctx, p.id)
	require.NoError(t, err)
	assert.Empty(t, all)
}

func TestTheNewestStateOfAnObjectIsTakenIn(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.newest, p.wake = map[object.Ref]map[string]any{}, make(chan struct{}, 1)
	state := func(version string) map[string]any {
		return map[string]any{"metadata": map[string]any{"resourceVersion": version}}
	}
	p.saw(horn, state("5"), false)
	p.saw(horn, state("9"), false)
	p.saw(horn, state("7"), false) // late
	p.saw(bell, state("1"), false)
	assert.Equal(t, 2, p.depth(), "the queue is never longer than the ward")
	assert.Equal(t, state("9"), p.newest[horn])
}

func TestTidyAsksWhatIsInUse(t *testing.T) {
	store, err := record.Open(context.Background(), filepath.Join(t.TempDir(), "data"))
	require.NoError(t, err)
	defer store.Close()
	k, err := New(context.Background(), store, Options{MirrorDir: t.TempDir()}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer k.Close()
	objects := []record.SnapshotObject{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"x": "1"}}, Hash: "1"}}
	id, err := k.putSnapshot(context.Background(), objects)
	require.NoError(t, err)
	got, err := k.Tidy(context.Background())
	require.NoError(t, err)
	assert.Zero(t, got, "what was just put is about to be named by something")
	k.recent.Store(id, time.Now().Add(-time.Hour))
	got, err = k.Tidy(context.Background())
	require.NoError(t, err)
	assert.Equal(t, record.Tidied{Snapshots: 1, Blobs: 1}, got)
}

func TestWhatMayNeverBeRemovedIsNotWaitedFor(t *testing.T) {
	p := placed(t, ward.Keep{Prune: true})
	p.declaring(declare(bell, "1"))
	p.applies(bell, horn)
	assert.Equal(t, []object.Ref{horn}, p.pending().remove)
	b := p.baselines[horn]
	b.Guards = "no-replace, no-prune"
	p.keep(b)
	assert.Empty(t, p.pending().remove, "else the ward would be behind for ever")
	assert.Equal(t, []object.Ref{horn}, p.syncPlan(nil).Kept, "the plan still tells of it")
}

func TestAnApplyThatLandsAfterTheKillIsNotLeftBehind(t *testing.T) {
	p := placed(t, ward.Keep{Prune: true})
	p.declaring()
	body := func(mark, service string) map[string]any {
		return map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": horn.Name, "namespace": horn.Namespace, "uid": "u", "resourceVersion": "3",
			"labels": map[string]any{object.WardLabel: mark}, "annotations": map[string]any{object.ServiceAnnotation: service}}}
	}
	mine := p.k.store.ServiceID()
	p.sawLive(horn, body("w", mine), false)
	assert.Empty(t, p.baselines, "what no run was about to apply is somebody's, or was left on purpose")
	p.late = map[object.Ref]bool{horn: true}
	p.sawLive(horn, body("another", mine), false)
	p.sawLive(horn, body("w", "another"), false)
	assert.Empty(t, p.baselines)
	p.sawLive(horn, body("w", mine), false)
	assert.Equal(t, []object.Ref{horn}, p.pending().remove)
	kept, err := p.k.store.Baselines(p.ctx, p.id)
	require.NoError(t, err)
	assert.Contains(t, kept, horn, "and after the next kill it is known as well")
}
