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
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

var (
	horn    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "horn"}
	bell    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "bell"}
	migrate = object.Ref{Group: "batch", Kind: "Job", Namespace: "n", Name: "migrate"}
)

// placed is a ward in a cluster that is not reached, with a record of its own.
func placed(t *testing.T, keep ward.Keep) *placement { return placedIn(t, t.TempDir(), keep) }

func placedIn(t *testing.T, dir string, keep ward.Keep) *placement {
	t.Helper()
	store, err := record.Open(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, store.Close()) })
	require.NoError(t, store.PutCluster(context.Background(), record.Cluster{Name: "quay", Labels: map[string]string{}}))
	require.NoError(t, store.PutWard(context.Background(), record.Ward{Name: "w"}, []string{"quay"}))
	k := &Keeper{store: store, ledger: store, service: store.ServiceID(), mask: store.Vault().Digest, ctx: context.Background(), log: slog.New(slog.DiscardHandler), broker: newBroker(), metrics: newMetrics(), registry: newRegistry(), opts: Options{Parallel: 2}}
	p := k.newPlacement(record.Placement{ID: "w@quay"}, ward.Ward{Name: "w", Keep: keep}, record.Ward{}, &clusterLoop{k: k, conf: record.Cluster{Name: "quay"}, claims: map[uint64]*placement{}, seed: maphash.MakeSeed()})
	p.will.Rejections, p.will.Done = map[string]logbook.Rejection{}, map[string]string{}
	return p
}

// commits writes down what is to be, as the ward's goroutine would.
func (p *placement) commits(t *testing.T) {
	t.Helper()
	b := p.now
	p.now = batch{}
	require.NoError(t, p.k.store.Commit(p.ctx, p.id, b.writes...))
	p.through(&b)
}

func (p *placement) declaring(objects ...declared.Object) {
	p.declared, p.repository.Known = &declared.Declaration{Revision: logbook.Revision{ID: "newrev0"}, Snapshot: "s", Scaled: map[object.Ref]string{}}, true
	p.moved++
	p.declared.Take(objects)
}

func declare(ref object.Ref, hash string) declared.Object {
	return declared.Object{Declared: plan.Declared{Ref: ref, Hash: hash}, Version: "v1"}
}

func (p *placement) applies(refs ...object.Ref) {
	for _, ref := range refs {
		p.index.Keep(compare.Baseline{Ref: ref, Version: "v1", Declared: "1", UID: "u"})
		p.index.Put(ref, index.Live{Present: true, Verified: true, UID: "u", Health: health.Result{Word: health.Ready}})
	}
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
	a := &activeRun{pieces: map[object.Ref]*piece{horn: {works: true}, bell: {works: true, outcome: outcome{silent: true}}},
		machine: run.New(plan.Plan{Steps: []plan.Step{{Groups: []plan.Group{{Refs: []object.Ref{horn, bell}}}}}}, time.Minute, run.Stay)}
	for _, b := range p.index.All() {
		b.Detail = &compare.Detail{Owned: object.FieldSet{Set: fieldpath.NewSet(fieldpath.MakePathOrDie("data", "x"))}, Fields: []object.Field{{Path: "data.x", Value: "1"}}}
		require.NoError(t, p.k.store.Commit(p.ctx, p.id, record.PutBaselines{All: []compare.Baseline{b}}))
		b.Intent = 7
		p.index.Keep(b)
	}
	now := time.Now()
	a.machine.Step(run.Started{At: now})
	for _, ref := range []object.Ref{horn, bell} {
		a.machine.Step(run.Applied{At: now, Ref: ref, Err: "no"})
	}
	p.settleBaselines(a)
	p.declaring(declare(horn, "1"), declare(bell, "1"))
	assert.Equal(t, []object.Ref{bell}, p.pending().Apply, "a refusal leaves an object as it was; silence may have changed it")
	pending, err := p.Detail(bell)
	require.NoError(t, err)
	assert.Empty(t, pending.Fields, "and nobody has to wait for the record to know that")
	p.commits(t)
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
	p.reject(logbook.Rejection{Revision: "newrev0", Subject: "Squeaks", Why: "it squeaks", By: "operator", At: time.Now()})
	assert.Equal(t, "it squeaks", p.rejected())
	p.commits(t)
	all, err := p.k.store.Rejections(p.ctx, p.id)
	require.NoError(t, err)
	assert.Equal(t, "operator", all["newrev0"].By)
	p.unreject("newrev0")
	assert.Empty(t, p.rejected())
	p.commits(t)
	all, err = p.k.store.Rejections(p.ctx, p.id)
	require.NoError(t, err)
	assert.Empty(t, all)
}

func TestTidyAsksWhatIsInUse(t *testing.T) {
	store, err := record.Open(context.Background(), filepath.Join(t.TempDir(), "data"))
	require.NoError(t, err)
	defer store.Close()
	k, err := New(context.Background(), store, Options{MirrorDir: t.TempDir()}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer k.Close()
	objects := []declared.Whole{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"x": "1"}}, Hash: "1"}}
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

func TestAnApplyThatLandsAfterTheKillIsNotLeftBehind(t *testing.T) {
	p := placed(t, ward.Keep{Prune: true})
	p.declaring()
	body := func(mark, service string) map[string]any {
		return map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": horn.Name, "namespace": horn.Namespace, "uid": "u", "resourceVersion": "3",
			"labels": map[string]any{object.WardLabel: mark}, "annotations": map[string]any{object.ServiceAnnotation: service}}}
	}
	mine := p.k.store.ServiceID()
	p.sawLive(horn, body("w", mine), index.Watched)
	assert.Zero(t, p.index.Len(), "what no run was about to apply is somebody's, or was left on purpose")
	p.late = map[object.Ref]bool{horn: true}
	p.sawLive(horn, body("another", mine), index.Watched)
	p.sawLive(horn, body("w", "another"), index.Watched)
	assert.Zero(t, p.index.Len())
	p.sawLive(horn, body("w", mine), index.Watched)
	assert.Equal(t, []object.Ref{horn}, p.pending().Remove)
	p.commits(t)
	kept, err := p.k.store.Baselines(p.ctx, p.id)
	require.NoError(t, err)
	assert.Contains(t, kept, horn, "and after the next kill it is known as well")
}
