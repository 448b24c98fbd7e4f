package loop

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
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
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

var (
	horn    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "horn"}
	bell    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "bell"}
	migrate = object.Ref{Group: "batch", Kind: "Job", Namespace: "n", Name: "migrate"}
)

// sea is a cluster of which everything is known, and where nobody else is.
type sea struct {
	down    error
	rewound bool
	keepers map[object.Ref]string // of what others keep
	heirs   map[object.Ref]string
	wards   map[string]*standing.View // others, by id
	twins   map[string]*standing.View
}

func (s *sea) Down() error                          { return s.down }
func (s *sea) Known([]object.Kind) Sight            { return Sight{Known: true} }
func (s *sea) ScalersKnown() bool                   { return true }
func (s *sea) Scaler(object.Ref) string             { return "" }
func (s *sea) Lacking(object.Kind) bool             { return false }
func (s *sea) Rewound() bool                        { return s.rewound }
func (s *sea) Keeper(ref object.Ref) (string, bool) { return s.keepers[ref], false }
func (s *sea) Claim(object.Ref)                     {}
func (s *sea) ClaimFor(ref object.Ref) string       { return s.keepers[ref] }
func (s *sea) Drop(object.Ref)                      {}
func (s *sea) Heir(ref object.Ref) string           { return s.heirs[ref] }
func (s *sea) KeptElsewhere(object.Ref) bool        { return false }
func (s *sea) Unread(Marks, bool) string            { return "" }
func (s *sea) Neighbour(id string) *standing.View   { return s.wards[id] }
func (s *sea) Twins() map[string]*standing.View     { return s.twins }

// shelf is a record of its own.
type shelf struct {
	*record.Store
	ctx context.Context
	id  string
}

func (b shelf) Detail(ref object.Ref) (*compare.Detail, error) {
	return b.Store.Detail(b.ctx, b.id, ref)
}
func (b shelf) Found() (map[object.Ref]*fieldpath.Set, error) { return b.Store.Found(b.ctx, b.id) }
func (b shelf) Removed(uid string) (bool, error)              { return b.Store.Removed(b.ctx, b.id, uid) }
func (b shelf) Entry(number int) (logbook.Entry, error)       { return b.Store.Entry(b.ctx, b.id, number) }
func (b shelf) Entries() ([]logbook.Entry, error) {
	all, _, err := b.Store.Entries(b.ctx, record.Find{Placement: b.id})
	return all, err
}
func (b shelf) Snapshot(id string, only ...object.Ref) ([]declared.Whole, error) {
	return b.Store.Snapshot(b.ctx, id, only...)
}
func (b shelf) SnapshotHashes(id string) (map[object.Ref]string, error) {
	return b.Store.SnapshotHashes(b.ctx, id)
}

func storeOf(p *Placement) *record.Store { return p.Book.(shelf).Store }

// placed is a ward in a cluster, with a record of its own.
func placed(t *testing.T, keep ward.Keep) *Placement {
	t.Helper()
	store, err := record.Open(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, store.Close()) })
	require.NoError(t, store.PutCluster(context.Background(), record.Cluster{Name: "quay", Labels: map[string]string{}}))
	require.NoError(t, store.PutWard(context.Background(), record.Ward{Name: "w"}, []string{"quay"}))
	s := &sea{}
	p := New(Identity{ID: "w@quay", Cluster: "quay", Ward: &ward.Ward{Name: "w", Keep: keep}},
		Deps{Reach: s, Others: s, Book: shelf{store, context.Background(), "w@quay"}, Log: slog.New(slog.DiscardHandler),
			Common: &Common{Service: store.ServiceID(), Mask: store.Vault().Digest, Clock: time.Now}}, time.Now())
	p.Load(Past{})
	p.will.Done = map[string]string{}
	return p
}

// commits writes down what is to be, as the ward's goroutine would.
func (p *Placement) commits(t *testing.T) {
	t.Helper()
	for all := p.Ready(); len(all) > 0; all = p.Ready() {
		for _, e := range all {
			if c, is := e.(Commit); is {
				p.Step(p.at, Written{storeOf(p).Commit(t.Context(), p.ID, c.Writes...)})
			}
		}
	}
}

func (p *Placement) declaring(objects ...declared.Object) {
	p.declared, p.repository.Known = &declared.Declaration{Revision: logbook.Revision{ID: "newrev0"}, Snapshot: "s", Scaled: map[object.Ref]string{}}, true
	p.declared.Take(objects)
}

func declare(ref object.Ref, hash string) declared.Object {
	return declared.Object{Declared: plan.Declared{Ref: ref, Hash: hash}, Version: "v1"}
}

func (p *Placement) applies(refs ...object.Ref) {
	for _, ref := range refs {
		p.index.Keep(compare.Baseline{Ref: ref, Version: "v1", Declared: "1", UID: "u"})
		p.index.Put(ref, index.Live{Present: true, Verified: true, UID: "u", Health: health.Result{Word: health.Ready}})
	}
}

// TestWhoseTurnItIs: a revision goes on to a cluster once those before it have it, and hold it.
func TestWhoseTurnItIs(t *testing.T) {
	for _, c := range []struct {
		why   string
		first func(*standing.View)
		want  string
	}{
		{"it has it, and holds it", func(*standing.View) {}, ""},
		{"it has not seen it", func(v *standing.View) { v.Head = "oldrev" }, "w@anchor, which has not seen the revision yet"},
		{"it follows something else", func(v *standing.View) {
			v.Head, v.Ward = "oldrev", &ward.Ward{From: ward.From{Ref: "release"}}
		}, ""},
		{"it failed there", func(v *standing.View) { v.Rejected = "newrev0" }, "w@anchor, where the revision failed"},
		{"it is on its way", func(v *standing.View) { v.Run = &logbook.Entry{Number: 3} }, "w@anchor, which is in step and ready"},
		{"it is not ready", func(v *standing.View) { v.Health.Word = health.Settling }, "w@anchor, which is in step and settling"},
		{"it is not known", func(v *standing.View) { v.Standing, v.Health.Word = compare.Blind, health.Unknown }, "w@anchor, which is blind and unknown"},
	} {
		p := placed(t, ward.Keep{})
		p.Ward.From.Ref, p.Ward.Spread = "main", ward.Spread{InTurn: true, Order: []string{"anchor"}}
		p.declaring()
		p.declared.Head = "newrev0"
		v := &standing.View{ID: "w@anchor", Ward: p.Ward, Head: "newrev0", Standing: compare.InStep, Health: health.Result{Word: health.Ready}}
		c.first(v)
		p.Others.(*sea).twins = map[string]*standing.View{"anchor": v, "skerry": {ID: "w@skerry", Ward: p.Ward, Rejected: "newrev0"}}
		assert.Equal(t, c.want, p.waitsForTurn(), c.why)
		p.Others.(*sea).twins = nil
		assert.Contains(t, p.waitsForTurn(), "has not told of yet", "what is not known is nobody's turn")
		p.Others.(*sea).twins = map[string]*standing.View{}
		assert.Empty(t, p.waitsForTurn(), "it is the only one")
	}
}

func TestAPersonNamesObjects(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.applies(bell)
	task := plan.Declared{Ref: migrate, Turn: object.Turn{Task: object.Before}}
	declared := []plan.Declared{{Ref: horn}, task}
	got, err := p.named(run.Sync, []string{"configmap/horn"}, declared)
	require.NoError(t, err)
	assert.Equal(t, []object.Ref{horn}, got)
	got, err = p.named(run.Sync, []string{"n/ConfigMap/horn", "ConfigMap/bell"}, declared)
	require.NoError(t, err)
	assert.Equal(t, []object.Ref{horn, bell}, got, "also one that is not declared any more")
	_, err = p.named(run.Sync, []string{"ConfigMap/horn", "ConfigMap/whistle"}, declared)
	assert.ErrorContains(t, err, "w@quay has no ConfigMap/whistle; its objects: vigila ward show w@quay")
	_, err = p.named(run.Rollback, []string{"Job/migrate"}, declared)
	assert.ErrorContains(t, err, "Job/migrate is a task of w@quay, which a rollback of a part does not run; run it as it is declared now: vigila sync w@quay --only Job/migrate")
	got, err = p.named(run.Sync, []string{"Job/migrate"}, declared)
	require.NoError(t, err)
	assert.Equal(t, []object.Ref{migrate}, got)
}

func TestWhatWasNeverAnsweredIsPending(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.applies(horn, bell)
	a := &activeRun{pieces: map[object.Ref]*piece{horn: {works: true}, bell: {works: true, outcome: outcome{silent: true}}},
		machine: run.New(plan.Plan{Steps: []plan.Step{{Groups: []plan.Group{{Refs: []object.Ref{horn, bell}}}}}}, time.Minute, ward.Stay)}
	for _, b := range p.index.All() {
		b.Detail = &compare.Detail{Owned: object.FieldSet{Set: fieldpath.NewSet(fieldpath.MakePathOrDie("data", "x"))}, Fields: []object.Field{{Path: "data.x", Value: "1"}}}
		require.NoError(t, storeOf(p).Commit(t.Context(), p.ID, record.PutBaselines{All: []compare.Baseline{b}}))
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
	detail, err := storeOf(p).Detail(t.Context(), p.ID, bell)
	require.NoError(t, err)
	assert.Empty(t, detail.Fields, "so nothing of it is called drift")
	kept, err := storeOf(p).Baselines(t.Context(), p.ID)
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
	all, err := storeOf(p).Rejections(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, "operator", all["newrev0"].By)
	p.unreject("newrev0")
	assert.Empty(t, p.rejected())
	p.commits(t)
	all, err = storeOf(p).Rejections(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Empty(t, all)
}

func TestAnApplyThatLandsAfterTheKillIsNotLeftBehind(t *testing.T) {
	p := placed(t, ward.Keep{Prune: true})
	p.declaring()
	body := func(mark, service string) map[string]any {
		return map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": horn.Name, "namespace": horn.Namespace, "uid": "u", "resourceVersion": "3",
			"labels": map[string]any{object.WardLabel: mark}, "annotations": map[string]any{object.ServiceAnnotation: service}}}
	}
	mine := p.Service
	p.sawLive(horn, body("w", mine), index.Watched)
	assert.Zero(t, p.index.Len(), "what no run was about to apply is somebody's, or was left on purpose")
	p.late = map[object.Ref]bool{horn: true}
	p.sawLive(horn, body("another", mine), index.Watched)
	p.sawLive(horn, body("w", "another"), index.Watched)
	assert.Zero(t, p.index.Len())
	p.sawLive(horn, body("w", mine), index.Watched)
	assert.Equal(t, []object.Ref{horn}, p.pending().Remove)
	p.commits(t)
	kept, err := storeOf(p).Baselines(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Contains(t, kept, horn, "and after the next kill it is known as well")
}

func stateOf(ref object.Ref, version, uid string) map[string]any {
	return map[string]any{"apiVersion": "v1", "kind": ref.Kind, "metadata": map[string]any{"name": ref.Name, "namespace": ref.Namespace, "uid": uid, "resourceVersion": version,
		"labels": map[string]any{object.WardLabel: "w"}}}
}

// TestWhatARunDidNotTouchStaysInDoubt: a restore after a kill clears nothing that it has not applied, so what the killed
// run was about to make is neither forgotten nor looked for in vain.
func TestWhatARunDidNotTouchStaysInDoubt(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring(declare(horn, "1"), declare(bell, "1"))
	p.applies(horn)
	made := compare.Baseline{Ref: bell, Version: "v1", Intent: 3} // about to be made when the service was killed
	p.index.Keep(made)
	a := &activeRun{pieces: map[object.Ref]*piece{horn: {works: true, outcome: outcome{appliedAt: 5}}}, entry: logbook.Entry{Number: 4},
		machine: run.New(plan.Plan{}, time.Minute, ward.Stay)}
	b, _ := p.index.Baseline(horn)
	b.Intent = 4
	p.index.Keep(b)
	p.settleBaselines(a)
	now, _ := p.index.Baseline(horn)
	assert.Zero(t, now.Intent)
	now, _ = p.index.Baseline(bell)
	assert.Equal(t, 3, now.Intent)
	assert.True(t, p.index.Doubtful(bell))
	assert.Zero(t, p.index.Unseen(), "so the ward is not blind for something that nobody looks for")
	assert.Equal(t, []object.Ref{bell}, p.pending().Apply, "it is pending")
	p.commits(t)
	kept, _, err := storeOf(p).Doing(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Contains(t, kept, bell, "and after the next kill too")
}

// TestWhatARunDidNotComeToAndIsThere: the cluster's data were put back with an object that a run was about to make, and that nobody
// declares any more once the run was stopped.
func TestWhatARunDidNotComeToAndIsThere(t *testing.T) {
	for _, during := range []bool{false, true} {
		p := placed(t, ward.Keep{Prune: true})
		p.declaring(declare(bell, "1"))
		mine := stateOf(bell, "3", "u")
		meta := mine["metadata"].(map[string]any)
		meta["annotations"] = map[string]any{object.ServiceAnnotation: p.Service}
		meta["managedFields"] = []any{map[string]any{"manager": object.Manager, "operation": "Apply", "apiVersion": "v1", "time": time.Now().UTC().Format(time.RFC3339), "fieldsType": "FieldsV1",
			"fieldsV1": map[string]any{"f:metadata": map[string]any{"f:labels": map[string]any{"f:" + object.WardLabel: map[string]any{}}}}}}
		if !during {
			p.sawLive(bell, mine, index.Watched)
		}
		p.index.Keep(compare.Baseline{Ref: bell, Version: "v1", Intent: 4})
		p.run = &activeRun{pieces: map[object.Ref]*piece{bell: {works: true}}, entry: logbook.Entry{Number: 4}, state: state{started: true},
			machine: run.New(plan.Plan{Steps: []plan.Step{{Groups: []plan.Group{{Refs: []object.Ref{bell}}}}}}, time.Minute, ward.Stay)}
		if during {
			p.sawLive(bell, mine, index.Watched)
		}
		p.lookForStrays(p.at)
		p.stop("a newer commit takes over")
		require.False(t, p.index.Keeps(bell))
		assert.Contains(t, p.strays, bell, "so it is looked for, and kept until it is removed; seen during the run: %v", during)
	}
}

// TestWhatIsAnothersIsToldTo that ward once this one keeps it no more: it came back with the mark from before it was handed over.
func TestWhatIsAnothersIsToldTo(t *testing.T) {
	p := placed(t, ward.Keep{Prune: true})
	p.declaring(declare(bell, "1"))
	p.applies(horn)
	b, _ := p.index.Baseline(horn)
	p.run = &activeRun{pieces: map[object.Ref]*piece{horn: {works: true}}, entry: logbook.Entry{Number: 4}, state: state{started: true},
		machine: run.New(plan.Plan{Removals: []plan.Group{{Refs: []object.Ref{horn}}}}, time.Minute, ward.Stay)}
	p.run.machine.Step(run.Started{At: p.at})
	theirs := stateOf(horn, "3", "u")
	theirs["metadata"].(map[string]any)["labels"] = map[string]any{object.WardLabel: "v"}
	p.tookRemoval(Removed{Removal: Removal{Run: 4, Ref: horn, Baseline: b, Kept: true}, Spared: drive.Spared{Marked: theirs}})
	assert.False(t, p.index.Keeps(horn))
	var told, free int
	for i, e := range p.now.then {
		switch e := e.(type) {
		case letGo:
			free = i + 1
		case PassOn:
			told = i + 1
			assert.Equal(t, PassOn{horn, theirs}, e)
		}
	}
	assert.Positive(t, free)
	assert.Greater(t, told, free, "and only then, or it would seem to be kept")
}

// TestWhatIsGoneAndNobodyDeclaresIsForgotten: whoever deleted it did what was left to do.
func TestWhatIsGoneAndNobodyDeclaresIsForgotten(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring(declare(bell, "1"))
	p.applies(horn, bell)
	for _, ref := range []object.Ref{horn, bell} {
		b, _ := p.index.Baseline(ref)
		b.Intent = 3 // and nobody knows whether the killed service made it
		p.index.Keep(b)
		p.index.Put(ref, index.Live{Verified: true})
	}
	require.NoError(t, storeOf(p).Commit(t.Context(), p.ID, record.Claim{Cluster: "quay", Number: 3, All: []compare.Baseline{{Ref: horn, Version: "v1"}, {Ref: bell, Version: "v1"}}, Refused: map[object.Ref]string{}}))
	p.forgetGone()
	assert.False(t, p.index.Keeps(horn))
	assert.True(t, p.index.Keeps(bell))
	p.commits(t)
	kept, err := storeOf(p).Baselines(t.Context(), p.ID)
	require.NoError(t, err)
	assert.NotContains(t, kept, horn)
	doing, _, err := storeOf(p).Doing(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, map[object.Ref]bool{bell: true}, doing, "nor is it in doubt")
}

// TestADigestIsOfWhatIsDeclaredAndHow: a mend in the ward file counts, a commit that changes nothing does not.
func TestADigestIsOfWhatIsDeclaredAndHow(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring(declare(horn, "1"))
	p.Ward.From.Values = map[string]any{"a": "1"}
	was := p.digest(p.declared)
	p.declared.Revision.ID = "newer00"
	assert.Equal(t, was, p.digest(p.declared))
	p.Ward.From.Values = map[string]any{"a": "2"}
	assert.NotEqual(t, was, p.digest(p.declared))
	p.Ward.From.Values = map[string]any{"a": "1"}
	p.Ward.Settle.Within = time.Hour
	assert.NotEqual(t, was, p.digest(p.declared), "more time is a mend too")
}

func TestARestoreGoesBackToWhatWasApplied(t *testing.T) {
	p := placed(t, ward.Keep{})
	old := []declared.Whole{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"v": "old"}}, Hash: "1"}, {Object: object.Object{Ref: bell, Version: "v1", Body: map[string]any{"v": "old"}}, Hash: "b"}}
	newer := []declared.Whole{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"v": "new"}}, Hash: "2"}}
	require.NoError(t, storeOf(p).PutSnapshot(t.Context(), "old", old))
	require.NoError(t, storeOf(p).PutSnapshot(t.Context(), "newer", newer))
	p.will.Snapshot = "old"
	p.applies(horn, bell)
	b, _ := p.index.Baseline(horn)
	b.Declared, b.Snapshot = "2", "newer" // of a sync of a part
	p.index.Keep(b)
	out := &Prepared{Objects: map[object.Ref]declared.Whole{}, Order: map[object.Ref]object.Turn{}}
	require.NoError(t, p.asApplied(out, []object.Ref{horn, bell}))
	assert.Equal(t, "new", out.Objects[horn].Object.Body["v"])
	assert.Equal(t, "old", out.Objects[bell].Object.Body["v"])
}

func TestHalfIsSaidAsHalf(t *testing.T) {
	p := placed(t, ward.Keep{})
	require.NoError(t, storeOf(p).PutSnapshot(t.Context(), "old", []declared.Whole{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{}}, Hash: "1"}, {Object: object.Object{Ref: bell, Version: "v1", Body: map[string]any{}}, Hash: "1"}}))
	p.will.Snapshot, p.will.Applied = "old", &logbook.Revision{ID: "oldrev0000"}
	p.declaring(declare(horn, "2"), declare(bell, "2"))
	p.applies(horn, bell)
	assert.Zero(t, p.half(), "nothing was begun")
	b, _ := p.index.Baseline(horn)
	b.Declared = "2"
	p.index.Keep(b)
	p.will.Last = &logbook.Entry{Number: 7, Kind: run.Sync, Outcome: run.Stopped, Snapshot: "s", Revision: &p.declared.Revision}
	assert.Equal(t, 1, p.half())
	p.repository.Known = true
	assert.Equal(t, standing.Facts{Last: p.will.Last, Now: p.Made}, p.facts(&standing.View{}, "", p.Made))
	b.Declared = "1"
	p.index.Keep(b)
	p.will.Snapshot = ""
	assert.Positive(t, p.half(), "parts of what never was a whole")
	assert.Equal(t, compare.Behind, compare.Stand(compare.Input{RepoKnown: true, ClusterKnown: true, Unfinished: true}), "nothing is in step that is not wholly there")
}

func TestEvidenceIsWrittenDown(t *testing.T) {
	p := placed(t, ward.Keep{Drift: "report"})
	p.noticed = map[object.Ref][]compare.Difference{}
	p.declaring(declare(horn, "1"))
	p.applies(horn)
	drift := []compare.Difference{{Path: "data.x", Change: compare.Changed, From: "1", To: "2", Who: "hurry"}}
	p.index.Put(horn, index.Live{Present: true, Verified: true, Health: health.Result{Word: health.Ready}, Trouble: &index.Trouble{Drift: drift}})
	assert.Equal(t, "hurry changed data.x of ConfigMap/horn from 1 to 2", p.driftWhy([]object.Ref{horn}), "a reason of its own, never the board's sentence")
	assert.Equal(t, "data.x of ConfigMap/horn is 1 again", standing.EndWords(horn, drift[0]))
	assert.Contains(t, standing.Listed(make([]string, 50)), "and 10 more")
	assert.Equal(t, health.Ready, p.index.Known(horn).Health.Word)
}

// TestWhatWasRemovedAndIsThereAgain: a cluster whose data were put back holds an object that nobody declares any more; it is
// kept again, so that it is removed. A copy of it that somebody made is theirs.
func TestWhatWasRemovedAndIsThereAgain(t *testing.T) {
	p := placed(t, ward.Keep{})
	require.NoError(t, storeOf(p).Commit(t.Context(), p.ID, record.PutBaselines{All: []compare.Baseline{{Ref: horn, Version: "v1", Declared: "1", UID: "u", Revision: 5, Detail: &compare.Detail{Owned: object.Owned(nil, nil)}}}}))
	require.NoError(t, storeOf(p).Commit(t.Context(), p.ID, record.RemoveBaseline{Ref: horn, At: time.Now()}))
	p.index.Drop(horn)
	p.index.Forget(horn)
	again := func(uid string) map[string]any {
		o := stateOf(horn, "3", uid)
		meta := o["metadata"].(map[string]any)
		meta["labels"] = map[string]any{object.WardLabel: p.Ward.Name}
		meta["annotations"] = map[string]any{object.ServiceAnnotation: p.Service}
		return o
	}
	p.sawLive(horn, again("another"), index.Named)
	assert.Zero(t, p.index.Len())
	p.sawLive(horn, again("u"), index.Named)
	require.True(t, p.index.Keeps(horn))
	assert.Nil(t, p.declared.Find(horn), "so it is to be removed")
	assert.Contains(t, p.outs, PutBack{}, "and by that the cluster is known to have been put back")

	// What this ward has applied itself is its own again whatever its uid; what one of its name has left behind is not.
	applied := func(at time.Time) map[string]any {
		o := again("a third")
		o["metadata"].(map[string]any)["managedFields"] = []any{map[string]any{"manager": object.Manager, "operation": "Apply", "apiVersion": "v1", "time": at.UTC().Format(time.RFC3339), "fieldsType": "FieldsV1",
			"fieldsV1": map[string]any{"f:metadata": map[string]any{"f:labels": map[string]any{"f:" + object.WardLabel: map[string]any{}}}}}}
		return o
	}
	p.index.Drop(horn)
	p.index.Forget(horn)
	p.Made, p.declared = time.Now(), &declared.Declaration{}
	p.sawLive(horn, applied(p.Made.Add(-time.Hour)), index.Named)
	assert.Zero(t, p.index.Len())
	p.sawLive(horn, applied(p.Made.Add(time.Minute)), index.Named)
	assert.Zero(t, p.index.Len(), "as long as nothing tells that the cluster was put back")
	assert.Contains(t, p.strays, horn)
	p.strays[horn].asked = true
	p.sawLive(horn, applied(p.Made.Add(time.Minute)), index.Named)
	assert.True(t, p.index.Keeps(horn), "but not for ever: it is there, it is this ward's, and nobody keeps it")
	p.index.Drop(horn)
	p.index.Forget(horn)
	near := p.Reach.(*sea)
	near.rewound = true
	p.declared = nil
	p.sawLive(horn, applied(p.Made.Add(time.Minute)), index.Named)
	assert.Zero(t, p.index.Len(), "nor as long as nobody knows what is declared")
	p.declared = &declared.Declaration{}
	near.keepers = map[object.Ref]string{horn: "heir@quay"}
	p.sawLive(horn, applied(p.Made.Add(time.Minute)), index.Named)
	assert.Zero(t, p.index.Len(), "it was handed to another ward since, whose it is though it bears the mark from before")
	near.keepers = nil
	p.sawLive(horn, applied(p.Made.Add(time.Minute)), index.Named)
	assert.True(t, p.index.Keeps(horn))
}

// TestNobodyStandsByWhatWasReadBefore for long once the repository may have moved: a cluster that is silent while it is asked for its
// kinds held a ward in step with a commit of before.
func TestNobodyStandsByWhatWasReadBefore(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring(declare(horn, "1"))
	p.applies(horn)
	p.will.Snapshot, p.will.Applied = "s", &p.declared.Revision
	stands := func(long time.Duration, reading bool) compare.Standing {
		p.rendering, p.renderFrom = reading, p.at.Add(-long)
		p.Publish()
		return p.View().Standing
	}
	require.Equal(t, compare.InStep, stands(0, false), p.View().Says)
	assert.Equal(t, compare.InStep, stands(standing.ReadLong-time.Second, true), "it may be the same")
	assert.Equal(t, compare.Blind, stands(standing.ReadLong, true))
	assert.Contains(t, p.View().Says, "is still being read")
	assert.Equal(t, compare.InStep, stands(standing.ReadLong, false))
}

// ready is what is to be done, as far as it is of a kind.
func ready[T Effect](p *Placement) (of []T) {
	for _, e := range p.Ready() {
		if x, is := e.(T); is {
			of = append(of, x)
		}
	}
	return of
}

// TestNothingIsDoneBeforeItIsWrittenDown: while the record refuses, whoever asks is told, nothing is called, and the truth is told
// all the same; once it takes writes again everything goes on, in its order.
func TestNothingIsDoneBeforeItIsWrittenDown(t *testing.T) {
	p := placed(t, ward.Keep{})
	now := time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	p.Step(now, Wished{1, Hold{By: "operator", Reason: "gale"}})
	first := ready[Commit](p)
	require.Len(t, first, 1)
	p.Step(now, Wished{2, Release{By: "operator"}})
	p.after(LookFor{Ref: horn})
	p.Settle(now, false)
	assert.Nil(t, p.will.Hold, "what is wanted is known at once")
	assert.Empty(t, ready[Commit](p), "one transaction at a time")

	p.Step(now, Written{errors.New("no room")})
	p.Settle(now, false)
	var answers []Answer
	var again []Later
	for _, e := range p.Ready() {
		switch e := e.(type) {
		case Answer:
			answers = append(answers, e)
		case Later:
			again = append(again, e)
		case Commit, LookFor:
			t.Errorf("%T comes before what was to come first is written down", e)
		}
	}
	require.Len(t, answers, 1)
	assert.Equal(t, Ticket(1), answers[0].Ticket)
	var f *Fault
	require.ErrorAs(t, answers[0].Err, &f)
	assert.Equal(t, Unwritten, f.Kind)
	assert.Contains(t, f.Text, "w@quay: what was asked for can't be written down: no room")
	assert.Contains(t, p.View().Says, "What is done can't be written down, so nothing more is done: ")
	require.Len(t, again, 1)
	p.Step(now, Question{3, func() error { return nil }})
	assert.Equal(t, []Answer{{Ticket: 3}}, ready[Answer](p), "whoever only looks does not wait")

	p.Step(now, again[0].Event)
	assert.Equal(t, first, ready[Commit](p), "the same, once more")
	p.Step(now, Written{})
	second := ready[Commit](p)
	require.Len(t, second, 1, "and then what came meanwhile")
	assert.Len(t, p.Unwrote(false), 0)
	assert.Equal(t, second[0].Writes, p.Unwrote(true), "should it not go through, and the service end")
	p.Step(now, Written{})
	last := p.Ready()
	assert.Contains(t, last, Effect(LookFor{Ref: horn}))
	assert.Contains(t, last, Effect(Answer{Ticket: 2}))
}

// TestWhatIsDeclaredAgainIsRestored: an object that a revision left where it was, and that the next declares again just as it is, is in
// no whole that was applied since; its drift was never put back.
func TestWhatIsDeclaredAgainIsRestored(t *testing.T) {
	p := placed(t, ward.Keep{})
	whole := func(ref object.Ref, hash string) declared.Whole {
		return declared.Whole{Object: object.Object{Ref: ref, Version: "v1", Body: map[string]any{"v": hash}}, Hash: hash}
	}
	require.NoError(t, storeOf(p).PutSnapshot(t.Context(), "without", []declared.Whole{whole(bell, "1")}))
	require.NoError(t, storeOf(p).PutSnapshot(t.Context(), "s", []declared.Whole{whole(horn, "1"), whole(bell, "1")}))
	p.will.Snapshot = "without"
	p.declaring(declare(horn, "1"), declare(bell, "1"))
	p.applies(horn, bell)
	out := &Prepared{Objects: map[object.Ref]declared.Whole{}, Order: map[object.Ref]object.Turn{}}
	require.NoError(t, p.asApplied(out, []object.Ref{horn, bell}))
	assert.Contains(t, out.Objects, horn)
	assert.Contains(t, out.Objects, bell)
}

// TestWhatIsForgottenIsNotPending: nobody has to say that what was worked out holds no more.
func TestWhatIsForgottenIsNotPending(t *testing.T) {
	p := placed(t, ward.Keep{Prune: true})
	p.declaring(declare(horn, "1"))
	require.Equal(t, []object.Ref{horn}, p.pending().Apply)
	held := p.pending()
	assert.Same(t, held, p.pending(), "it is not worked out again as long as nothing has changed")
	p.tasks.put(record.TaskObject{Ref: migrate, Version: "batch/v1"})
	assert.Equal(t, []object.Ref{migrate}, p.pending().Remove, "a task that nobody declares")
	p.tasks.drop(migrate)
	assert.Empty(t, p.pending().Remove)
	p.Step(p.at, Forgotten{standing.AsOf{Known: true}})
	assert.Zero(t, p.pending().Total())
}

// TestWhatMeansNothingIsTold on the ward: an entry of leave, a health rule beside its objects, a ward to wait for.
func TestWhatMeansNothingIsTold(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.Ward.From.Path = "services/w"
	p.Ward.After = []string{"base"}
	p.Ward.Leave = []ward.Leave{{Kind: "ConfigMap", Name: "*"}, {Kind: "Deploymnt", Name: "w"}}
	rule := func(at, kind string) *health.Rule { return &health.Rule{At: at, Group: "brindle.example", Kind: kind} }
	d := &declared.Declaration{Revision: logbook.Revision{ID: "newrev0"}, Files: []declared.File{{Path: ".vigila/all.yaml"}, {Path: "services/w/health.yaml"}},
		Rules: health.Rules{{"", "Ferry"}: rule("all.yaml:1", "Ferry"), {"", "Berth"}: rule("health.yaml:1", "Berth")}}
	d.Take([]declared.Object{declare(horn, "1")})
	p.rendered(standing.AsOf{Known: true}, d, nil)
	p.Publish()
	assert.Equal(t, []string{"leave means Deploymnt/w, and nothing of that name is declared", "the health rule at health.yaml:1 is for Berth, and none is declared", "after means base@quay, which is not known"}, p.View().Notes)
	waits := &declared.Declaration{Waits: "there is no such path yet"}
	p.rendered(standing.AsOf{Known: true}, waits, nil)
	assert.Empty(t, p.idle, "as long as nothing is declared, nothing can be said")
}

// TestAStrayIsForgottenOnceSomebodyKeepsIt, and not while a run is only about to: it may be stopped before it comes to it.
func TestAStrayIsForgottenOnceSomebodyKeepsIt(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring()
	now := time.Now()
	s := p.Others.(*sea)
	busy := &standing.View{Run: &logbook.Entry{}}
	s.wards = map[string]*standing.View{"v@quay": busy}
	p.remember(horn, p.noteStray(horn, "v1"))
	look := func(after time.Duration) bool {
		p.lookForStrays(now.Add(after))
		return p.strays[horn] != nil
	}
	s.keepers = map[object.Ref]string{horn: "v@quay"}
	assert.True(t, look(0))
	assert.True(t, look(2*strayPause), "v is at work on it")
	s.keepers = nil
	assert.True(t, look(2*strayPause))
	assert.Contains(t, p.outs, LookFor{horn, "v1"}, "it was stopped, and nobody keeps it")
	p.noteStray(bell, "v1")
	p.lookForStrays(now.Add(2 * strayPause))
	p.commits(t)
	looked, err := storeOf(p).Handed(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Contains(t, looked, bell, "what is looked for is remembered: no answer may come before a kill")
	p.forgetStray(bell)
	s.keepers = map[object.Ref]string{horn: "v@quay"}
	s.wards["v@quay"] = &standing.View{}
	assert.True(t, look(3*strayPause))
	assert.False(t, look(4*strayPause), "it is kept, and no run goes on")
	p.commits(t)
	handed, err := storeOf(p).Handed(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Empty(t, handed)
}

// TestWhatCameBackIsRemembered: after a kill nobody may watch its kind any more.
func TestWhatCameBackIsRemembered(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring()
	p.Others.(*sea).heirs = map[object.Ref]string{horn: "v@quay"}
	mine := stateOf(horn, "3", "u")
	meta := mine["metadata"].(map[string]any)
	meta["annotations"] = map[string]any{object.ServiceAnnotation: p.Service}
	meta["managedFields"] = []any{map[string]any{"manager": object.Manager, "operation": "Apply", "apiVersion": "v1", "time": time.Now().UTC().Format(time.RFC3339), "fieldsType": "FieldsV1",
		"fieldsV1": map[string]any{"f:metadata": map[string]any{"f:labels": map[string]any{"f:" + object.WardLabel: map[string]any{}}}}}}
	p.sawLive(horn, mine, index.Watched)
	p.commits(t)
	handed, err := storeOf(p).Handed(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, map[object.Ref]string{horn: "v1"}, handed)
}

// TestWhatIsWrongStaysSo while whoever reads it can't be asked: that nobody could be asked is news only where nothing was wrong.
func TestWhatIsWrongStaysSo(t *testing.T) {
	p := placed(t, ward.Keep{})
	bomb, away := &Unreadable{Text: "rendering took more than 30s and was ended"}, &Unreadable{Text: "the service can't be reached", Unasked: true}
	for _, c := range []struct {
		come []*Unreadable
		want string
	}{{[]*Unreadable{away}, away.Text}, {[]*Unreadable{bomb, away}, bomb.Text}, {[]*Unreadable{away, bomb}, bomb.Text}, {[]*Unreadable{bomb, nil, away}, away.Text}} {
		p.repository = standing.AsOf{}
		for _, failed := range c.come {
			p.rendered(standing.AsOf{Known: true}, &declared.Declaration{Revision: logbook.Revision{ID: "newrev0"}}, failed)
		}
		assert.False(t, p.repository.Known)
		assert.Equal(t, c.want, p.repository.Problem)
	}
	assert.NotEmpty(t, p.Ready(), "it is asked again")
}

// TestWhatWasOutOfReachIsNotAnyMore once a look goes well, however long it takes to read what it declares: a repository that renders one thing after
// the other was told of as out of reach for minutes.
func TestWhatWasOutOfReachIsNotAnyMore(t *testing.T) {
	const gone = "moorings can't be reached"
	fine, lost, away := standing.AsOf{Known: true}, standing.AsOf{Problem: gone}, &Unreadable{Text: "the service can't be reached", Unasked: true}
	begin := func(declared bool) *Placement {
		p := placed(t, ward.Keep{})
		p.Ward.From.Repo, p.Ward.From.ValuesIn = "moorings", []ward.ValuesFile{{Repo: "charts", Path: "v.yaml"}}
		p.declared = nil
		if declared {
			p.declaring(declare(horn, "1"))
		}
		p.repository = standing.AsOf{Known: declared}
		return p
	}
	after := func(p *Placement, d time.Duration) string {
		p.at = p.at.Add(d)
		p.Publish()
		return p.View().Says
	}
	for name, repo := range map[string]string{"its own": "", "one that it reads beside": "charts"} {
		for _, declared := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, declared before: %t", name, declared), func(t *testing.T) {
				p := begin(declared)
				of := cmp.Or(repo, p.Ward.From.Repo)
				p.tookIn(WasRead{of, lost})
				assert.Equal(t, gone, after(p, 0))
				p.foundSame(WasSame{of, fine})
				require.True(t, p.rendering)
				assert.Equal(t, gone, after(p, time.Second), "nothing flickers where it is read at once")
				assert.Contains(t, after(p, standing.ReadLong), "being re")
				assert.False(t, p.View().NeedsYou)
				assert.False(t, p.View().Repository.Known)
				assert.ErrorContains(t, (&making{Placement: p, ask: Ask{Kind: run.Sync}}).sync(), notReadYet)
				p.tookIn(WasRead{of, lost})
				assert.Equal(t, gone, after(p, 0), "it is lost again meanwhile")
				p.foundSame(WasSame{of, fine})
				p.tookRendering(Rendered{AsOf: fine, Failed: away})
				assert.Equal(t, away.Text, after(p, 0), "what was known to be wrong is over")
			})
		}
	}
}
