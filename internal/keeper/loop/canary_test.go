package loop

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

var (
	gate = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "gate"}
	twin = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "gate-new"}
)

// gateOf is a Deployment of an image.
func gateOf(image string) declared.Whole {
	body := map[string]any{"apiVersion": "apps/v1", "kind": "Deployment", "metadata": map[string]any{"name": "gate", "namespace": "n"}, "spec": map[string]any{"replicas": int64(4), "selector": map[string]any{"matchLabels": map[string]any{"app": "gate"}},
		"template": map[string]any{"metadata": map[string]any{"labels": map[string]any{"app": "gate"}}, "spec": map[string]any{"containers": []any{map[string]any{"name": "app", "image": image}}}}}}
	return declared.Whole{Object: object.Object{Ref: gate, Version: "apps/v1", Body: body}, Hash: object.Hash(body)}
}

// canaried is a ward that holds gate:1 as a whole, declares gate:2, and asks for a canary by replicas.
func canaried(t *testing.T, keep ward.Keep) *Placement {
	t.Helper()
	p := placed(t, keep)
	p.Ward.Settle = ward.Settle{Within: time.Minute, Otherwise: ward.GoBack}
	p.Ward.Canary = []ward.Canary{{Of: "Deployment/gate", Shares: []ward.Share{{At: 25, Person: true}}, Within: time.Hour}}
	was, will := gateOf("gate:1"), gateOf("gate:2")
	first, second := record.SnapshotID([]declared.Whole{was}), record.SnapshotID([]declared.Whole{will})
	require.NoError(t, storeOf(p).PutSnapshot(t.Context(), first, []declared.Whole{was}))
	require.NoError(t, storeOf(p).PutSnapshot(t.Context(), second, []declared.Whole{will}))
	p.will.Applied, p.will.Snapshot = &logbook.Revision{ID: "oldrev0"}, first
	p.declared, p.repository.Known = &declared.Declaration{Revision: logbook.Revision{ID: "newrev0"}, Snapshot: second, Scaled: map[object.Ref]string{}}, true
	p.declared.Take(declared.Of([]declared.Whole{will}))
	p.index.Keep(compare.Baseline{Ref: gate, Version: "apps/v1", Declared: was.Hash, UID: "u"})
	p.index.Put(gate, index.Live{Present: true, Verified: true, UID: "u", Health: health.Result{Word: health.Ready}})
	p.Publish()
	return p
}

// goes takes a ward's turns until nothing is left to write down, and gives what it wants done.
func goes(t *testing.T, p *Placement) (out []Effect) {
	t.Helper()
	for all := p.Ready(); len(all) > 0; all = p.Ready() {
		for _, e := range all {
			c, is := e.(Commit)
			if !is {
				out = append(out, e)
				continue
			}
			require.NoError(t, storeOf(p).Commit(t.Context(), p.ID, c.Writes...))
			p.Step(p.at, Written{})
		}
	}
	return out
}

func only[T Effect](all []Effect) (out []T) {
	for _, e := range all {
		if x, is := e.(T); is {
			out = append(out, x)
		}
	}
	return out
}

// TestACanaryIsWrittenDownBeforeItIsMade, and what it makes is nobody's to remove or to wait for.
func TestACanaryIsWrittenDownBeforeItIsMade(t *testing.T) {
	p := canaried(t, ward.Keep{Sync: ward.Auto, Newer: ward.Wait})
	now := time.Date(2026, 11, 26, 6, 0, 0, 0, time.UTC)
	p.Step(now, Woken{})
	p.Settle(now, false)
	looks := only[LookBeside](goes(t, p))
	require.Len(t, looks, 1, "it looks how large the old version is")
	assert.Equal(t, []BesideOf{{Workload: gate, Twin: twin, Version: "apps/v1"}}, looks[0].Of)

	p.Step(now, LookedBeside{Run: looks[0].Run, Sides: []canary.Side{{Size: 4, Newest: "h1"}}})
	var written []record.Write
	for _, e := range p.Ready() {
		switch e := e.(type) {
		case Commit:
			written = append(written, e.Writes...)
		case ApplyObject:
			t.Error("it is made before that is written down")
		}
	}
	require.NotEmpty(t, written)
	kinds := map[string]bool{}
	for _, w := range written {
		switch w := w.(type) {
		case record.PutCanary:
			kinds["state"] = w.Active
		case record.Claim:
			kinds["claim"] = w.All[0].Ref == twin
		}
	}
	assert.Equal(t, map[string]bool{"state": true, "claim": true}, kinds)
	require.NoError(t, storeOf(p).Commit(t.Context(), p.ID, written...))
	p.Step(now, Written{})
	made := only[ApplyObject](goes(t, p))
	require.Len(t, made, 1)
	assert.Equal(t, twin, made[0].Order.Object.Object.Ref)
	assert.EqualValues(t, 1, made[0].Order.Object.Object.Body["spec"].(map[string]any)["replicas"])
	assert.True(t, made[0].Order.Passing)

	b := compare.Baseline{Ref: twin, Version: "apps/v1", Declared: made[0].Order.Object.Hash, UID: "t", Revision: 7, Detail: compare.NoDetail()}
	p.Step(now, Applied{Run: looks[0].Run, Applied: drive.Applied{Ref: twin, Baseline: b, Body: map[string]any{"metadata": map[string]any{"uid": "t", "resourceVersion": "7"}}}})
	p.Settle(now, false)
	goes(t, p)
	doing, _, err := storeOf(p).Doing(t.Context(), p.ID)
	require.NoError(t, err)
	assert.False(t, doing[twin], "what was answered is in no doubt, though the run goes on")
	assert.True(t, doing[gate])
	assert.Equal(t, []object.Ref{gate}, p.pending().Apply)
	assert.Empty(t, p.pending().Remove)
	assert.NotNil(t, p.View().Canary)

	// It was left by a kill: the next life goes on with it, and looks before it does anything.
	left, err := storeOf(p).Canary(t.Context(), p.ID, 0)
	require.NoError(t, err)
	require.NotNil(t, left)
	q := canaried(t, p.Ward.Keep)
	q.Book = p.Book
	q.Load(Past{Canary: left, Number: p.number, Placement: record.Placement{Applied: p.will.Applied, Snapshot: p.will.Snapshot}, Doing: doing})
	q.index.Keep(b)
	q.index.Put(twin, index.Live{Present: true, Verified: true, UID: "t", Revision: 7, Health: health.Result{Word: health.Ready}})
	q.Step(now.Add(time.Minute), Wished{1, StartRun{Ask{Kind: run.Sync, By: "operator"}}})
	var f *Fault
	require.ErrorAs(t, only[Answer](goes(t, q))[0].Err, &f)
	assert.Contains(t, f.Text, "goes on with it once the cluster is known")
	q.Settle(now.Add(time.Minute), false)
	require.NotNil(t, q.run)
	assert.Equal(t, []any{"goes on with the canary of #1", run.Sync}, []any{q.run.entry.Why, q.run.entry.Kind})
	assert.Nil(t, q.canary)
	assert.Empty(t, q.run.machine.Progress()[0].Remove, "what it made is not removed")
	assert.Len(t, only[LookBeside](goes(t, q)), 1)
	active, err := storeOf(q).Canary(t.Context(), q.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, 2, active.Run, "one at a time is")
}

// TestWhatACanaryLeftIsTakenAway, whatever keep.prune says, and no guard counts it.
func TestWhatACanaryLeftIsTakenAway(t *testing.T) {
	p := canaried(t, ward.Keep{Sync: ward.Ask})
	p.Ward.Canary = nil
	p.index.Keep(compare.Baseline{Ref: twin, Version: "apps/v1", Declared: canary.Mark + "s", UID: "t"})
	p.index.Keep(compare.Baseline{Ref: horn, Version: "v1", Declared: "1", UID: "h"})
	assert.Equal(t, []object.Ref{twin}, p.pending().Remove, "keep.prune is off, and the horn stays")
	made, err := p.Prepare(Ask{Kind: run.Sync, By: "operator"})
	require.NoError(t, err)
	assert.Equal(t, []object.Ref{twin}, made.Plan.Removed())
	assert.Nil(t, made.Canary)
}

// TestACanaryThatCanNotBeMadeStopsTheSync before harm; --now and --allow canary leave it out.
func TestACanaryThatCanNotBeMadeStopsTheSync(t *testing.T) {
	p := canaried(t, ward.Keep{Sync: ward.Auto})
	p.Ward.Canary[0].Routes = []string{"HTTPRoute/gate"}
	p.behind = nil // another file makes another ward
	require.Len(t, p.pending().guards, 1)
	assert.Equal(t, "canary", p.pending().guards[0].Name)
	assert.Contains(t, p.pending().guards[0].Text, "this ward keeps no HTTPRoute/gate in namespace n")
	for _, ask := range []Ask{{Kind: run.Sync, By: "operator", Now: true, Why: "the till is down"}, {Kind: run.Sync, By: "operator", Why: "the till is down", Allow: []string{"canary"}}} {
		made, err := p.Prepare(ask)
		require.NoError(t, err)
		assert.Empty(t, made.Plan.Guards)
		assert.Nil(t, made.Canary)
		assert.Equal(t, "the till is down; without its canary", made.Entry.Why)
	}
	assert.ErrorContains(t, Ask{Kind: run.Restore, Now: true}.Check(), "now belong to a sync")
}

func TestNobodySpeaksToACanaryThatIsNotThere(t *testing.T) {
	p := canaried(t, ward.Keep{Sync: ward.Ask})
	_, err := SayCanary{Word: canary.Next, By: "operator"}.grant(p)
	assert.ErrorContains(t, err, "no canary goes on in w@quay")
	p.Step(p.at, Wished{1, StartRun{Ask{Kind: run.Sync, By: "operator"}}})
	p.Settle(p.at, false)
	goes(t, p)
	_, err = SayCanary{Word: "onwards"}.grant(p)
	assert.ErrorContains(t, err, `there is no word "onwards"`)
	_, err = SayCanary{Word: canary.Next}.grant(p)
	assert.ErrorContains(t, err, "can't go on to its next share now: the share of 25 % has not begun, since its new version is being made ready; try it in a moment")
	n, err := SayCanary{Word: canary.GoBack, By: "operator", Why: "not today"}.grant(p)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	gone := only[RemoveObject](goes(t, p))
	require.Len(t, gone, 1, "it may have been made")
	p.Step(p.at, Removed{Removal: gone[0].Removal})
	assert.False(t, p.index.Keeps(twin))
	require.Equal(t, run.Rollback, p.run.entry.Kind, "and what an earlier step has changed is put back")
	assert.Equal(t, run.Failed, p.will.Last.Outcome)
	assert.Contains(t, p.will.Last.Reason, "sent back by operator: not today")
}
