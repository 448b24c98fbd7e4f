package keeper

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

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
	p.keep(made)
	a := &activeRun{works: map[object.Ref]bool{horn: true}, appliedAt: map[object.Ref]int64{horn: 5}, doubted: map[object.Ref]bool{}, entry: record.Entry{Number: 4},
		machine: run.New(plan.Plan{}, time.Minute, run.Stay)}
	b := p.baselines[horn]
	b.Intent = 4
	p.keep(b)
	p.settleBaselines(a)
	p.settle()
	assert.Zero(t, p.baselines[horn].Intent)
	assert.Equal(t, 3, p.baselines[bell].Intent)
	assert.True(t, p.doubts[bell])
	assert.Empty(t, p.unseen, "so the ward is not blind for something that nobody looks for")
	assert.Equal(t, []object.Ref{bell}, p.pending().apply, "it is pending")
	kept, _, err := p.k.store.Doing(p.ctx, p.id)
	require.NoError(t, err)
	assert.Contains(t, kept, bell, "and after the next kill too")
}

// TestALookIsTakenForWhatItIs plays answers to looks by name in every order.
func TestALookIsTakenForWhatItIs(t *testing.T) {
	fresh := func() *placement {
		p := placed(t, ward.Keep{})
		p.recheck = map[object.Ref]bool{}
		p.declaring(declare(horn, "1"))
		p.applies(horn)
		b := p.baselines[horn]
		b.Version, b.Revision = "v1", 5
		p.keep(b)
		require.NoError(t, p.k.store.PutBaselines(p.ctx, p.id, []compare.Baseline{{Ref: horn, Version: "v1", Declared: "1", UID: "u", Revision: 5, Detail: &compare.Detail{Owned: object.Owned(nil, nil)}}}))
		p.live(horn).revision = 5
		return p
	}
	p := fresh()
	p.lookedUp(horn, &lookup{asked: 5}, nil, errors.New("no answer"))
	assert.NotNil(t, p.looks[horn], "what is not answered is asked for again")
	p.settle()
	assert.True(t, p.unseen[horn], "and until then it is not known")

	p = fresh()
	p.live(horn).revision = 9
	p.lookedUp(horn, &lookup{asked: 5}, nil, cluster.ErrGone)
	assert.True(t, p.known(horn).present, "an answer from before what was seen since says nothing")

	p = fresh()
	p.lookedUp(horn, &lookup{asked: 5}, nil, cluster.ErrGone)
	assert.False(t, p.known(horn).present)
	assert.Equal(t, []object.Ref{horn}, p.astray().refs)

	p = fresh()
	p.sawLive(horn, stateOf(horn, "3", "u"), false)
	assert.EqualValues(t, 5, p.known(horn).revision, "an older state that a watch brings is late")
	p.lookedUp(horn, &lookup{asked: 5}, stateOf(horn, "3", "u"), nil)
	assert.EqualValues(t, 3, p.known(horn).revision, "one that was asked for by name is what the cluster holds now: it was restored")
	assert.True(t, p.known(horn).verified)

	p = fresh()
	other := stateOf(horn, "9", "u")
	other["apiVersion"] = "v2"
	p.sawLive(horn, other, false)
	assert.EqualValues(t, 5, p.known(horn).revision, "the watch of another version is not asked")
}

func TestWhatEndsByItsOwnRuleIsNoDrift(t *testing.T) {
	for name, c := range map[string]struct {
		seen, finished, brief bool
		drift                 bool
	}{
		"finished, and removed":         {true, true, true, false},
		"deleted while it ran":          {true, false, true, true},
		"finished, without such a rule": {true, true, false, true},
		"gone while nobody looked":      {false, false, true, false},
		"gone, and had no rule":         {false, false, false, true},
	} {
		t.Run(name, func(t *testing.T) {
			p := placed(t, ward.Keep{})
			p.declaring(declare(migrate, "1"))
			p.applies(migrate)
			detail := &compare.Detail{Owned: object.Owned(nil, nil)}
			if c.brief {
				detail.Fields = []object.Field{{Path: "spec.ttlSecondsAfterFinished", Value: int64(5)}}
			}
			require.NoError(t, p.k.store.PutBaselines(p.ctx, p.id, []compare.Baseline{{Ref: migrate, Declared: "1", UID: "u", Detail: detail}}))
			l := p.live(migrate)
			l.present, l.verified, l.finished, l.brief = c.seen, c.seen, c.finished, c.brief
			for range 2 { // asked again it is the same
				p.gone(migrate)
				assert.Equal(t, c.drift, len(p.astray().refs) > 0)
			}
		})
	}
}

func TestWhatNobodyDeclaresIsNotMissed(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring(declare(bell, "1"))
	p.applies(horn, bell)
	p.gone(horn)
	assert.Empty(t, p.astray().refs, "nobody would put it back")
	p.forgetGone()
	assert.NotContains(t, p.baselines, horn)
	p.gone(bell)
	p.forgetGone()
	assert.Contains(t, p.baselines, bell)
	p.gone(horn) // a late answer about what was removed
	p.keep(compare.Baseline{Ref: horn, Version: "v1", Intent: 9})
	p.declaring(declare(bell, "1"), declare(horn, "2"))
	assert.Equal(t, []object.Ref{bell}, p.astray().refs, "what is about to be made again has not drifted")
}

// TestARejectionIsOfWhatWasDeclared: a mend in the ward file counts, a commit that changes nothing does not.
func TestARejectionIsOfWhatWasDeclared(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.ward.From.Values = map[string]any{"a": "1"}
	p.declaring(declare(horn, "1"))
	p.reject(record.Rejection{Revision: "newrev0", Why: "crashes", By: byVigila, Declared: p.digest(p.declared)})
	assert.Equal(t, "crashes", p.rejected())
	p.declared.revision.ID = "newer00"
	assert.Equal(t, "crashes", p.rejected(), "the same again, whatever commit it comes in")
	p.ward.From.Values = map[string]any{"a": "2"}
	assert.Empty(t, p.rejected())
	p.declared.revision.ID = "newrev0"
	assert.Empty(t, p.rejected())
	p.ward.From.Values = map[string]any{"a": "1"}
	p.ward.Settle.Within = time.Hour
	assert.Empty(t, p.rejected(), "more time is a mend too")
	p.reject(record.Rejection{Revision: "newrev0", Why: "squeaks", By: "operator"})
	assert.Equal(t, "squeaks", p.rejected(), "a person rejects a revision, whatever is declared in it")
}

func TestARestoreGoesBackToWhatWasApplied(t *testing.T) {
	p := placed(t, ward.Keep{})
	old := []record.SnapshotObject{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"v": "old"}}, Hash: "1"}, {Object: object.Object{Ref: bell, Version: "v1", Body: map[string]any{"v": "old"}}, Hash: "b"}}
	newer := []record.SnapshotObject{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"v": "new"}}, Hash: "2"}}
	require.NoError(t, p.k.store.PutSnapshot(p.ctx, "old", old))
	require.NoError(t, p.k.store.PutSnapshot(p.ctx, "newer", newer))
	p.snapshot = "old"
	p.applies(horn, bell)
	b := p.baselines[horn]
	b.Declared, b.Snapshot = "2", "newer" // of a sync of a part
	p.keep(b)
	out := &prepared{objects: map[object.Ref]record.SnapshotObject{}, order: map[object.Ref]object.Turn{}}
	require.NoError(t, p.asApplied(out, []object.Ref{horn, bell}))
	assert.Equal(t, "new", out.objects[horn].Object.Body["v"])
	assert.Equal(t, "old", out.objects[bell].Object.Body["v"])
}

func TestHalfIsSaidAsHalf(t *testing.T) {
	p := placed(t, ward.Keep{})
	require.NoError(t, p.k.store.PutSnapshot(p.ctx, "old", []record.SnapshotObject{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{}}, Hash: "1"}, {Object: object.Object{Ref: bell, Version: "v1", Body: map[string]any{}}, Hash: "1"}}))
	p.snapshot, p.applied = "old", &record.Revision{ID: "oldrev0000"}
	p.declaring(declare(horn, "2"), declare(bell, "2"))
	p.applies(horn, bell)
	assert.Zero(t, p.half(), "nothing was begun")
	b := p.baselines[horn]
	b.Declared = "2"
	p.keep(b)
	p.last = &record.Entry{Number: 7, Kind: string(run.Sync), Outcome: string(run.Stopped), Snapshot: "s", Revision: &p.declared.revision}
	assert.Equal(t, 1, p.half())
	p.repository.Known = true
	v := view(func(v *View) { v.Half, v.Count, v.Pending, v.Ward.Keep.Sync, v.Applied = 1, 2, 1, "ask", p.applied })
	p.say(v, "")
	assert.Contains(t, v.Says, "Sync #7 was stopped half way: 1 object of 2 are not as in oldrev0")
	assert.Contains(t, v.Todo, "Go on: vigila sync")
	assert.True(t, v.NeedsYou)
	b.Declared = "1"
	p.keep(b)
	p.snapshot = ""
	assert.Positive(t, p.half(), "parts of what never was a whole")
	assert.Equal(t, compare.Behind, compare.Stand(compare.Input{RepoKnown: true, ClusterKnown: true, Unfinished: true}), "nothing is in step that is not wholly there")
}

// TestOneBadRecordStopsNobody: a ward that can't be opened is blind, with the reason; the others go on.
func TestOneBadRecordStopsNobody(t *testing.T) {
	ctx := context.Background()
	store, err := record.Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer store.Close()
	require.NoError(t, store.PutCluster(ctx, record.Cluster{Name: "quay", Labels: map[string]string{}}))
	require.NoError(t, store.PutWard(ctx, record.Ward{Name: "bad", File: "vigila: ward/v0\n"}, []string{"quay"}))
	k, err := New(ctx, store, Options{MirrorDir: t.TempDir()}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer k.Close()
	v, err := k.Ward("bad")
	require.NoError(t, err)
	assert.Equal(t, compare.Blind, v.Standing)
	assert.Contains(t, v.Says, "The stored file of ward bad can't be read any more")
	assert.True(t, v.NeedsYou)
	_, err = k.Start(ctx, "bad", Ask{Kind: run.Sync, By: "operator"})
	assert.ErrorContains(t, err, "can't run")
	require.NoError(t, k.Remove(ctx, "bad", record.Leaving{By: "operator"}))
	entries, _, err := k.Entries(ctx, "bad", 10, 0)
	require.NoError(t, err)
	assert.Equal(t, "remove", entries[0].Kind, "its logbook is there still")
	assert.True(t, k.Gone(ctx, "bad@quay"))
}

func TestAWardIsNotTakenForAnotherOfALikeName(t *testing.T) {
	k := &Keeper{wards: map[string]*placement{}}
	cycle := k.cycle([]ward.Ward{{Name: "fare-gate", After: []string{"tide"}}, {Name: "tide", After: []string{"fare-gate"}}, {Name: "gate"}})
	assert.Equal(t, []string{"fare-gate", "tide", "fare-gate"}, cycle)
	assert.NotContains(t, cycle, "gate")
}

func TestEvidenceIsWrittenDown(t *testing.T) {
	p := placed(t, ward.Keep{Drift: "report"})
	p.noticed = map[object.Ref][]compare.Difference{}
	p.cluster.conn = nil
	p.declaring(declare(horn, "1"))
	p.applies(horn)
	p.lives[horn].upset().drift = []compare.Difference{{Path: "data.x", Change: compare.Changed, From: "1", To: "2", Who: "hurry"}}
	assert.Equal(t, "hurry changed data.x of ConfigMap/horn from 1 to 2", p.driftWhy([]object.Ref{horn}), "a reason of its own, never the board's sentence")
	assert.Equal(t, "data.x of ConfigMap/horn is 1 again", endWords(horn, p.lives[horn].drift[0]))
	assert.Contains(t, listed(make([]string, 50)), "and 10 more")
	assert.Equal(t, health.Ready, p.known(horn).health.Word)
}
