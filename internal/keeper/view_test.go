package keeper

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

var deployment = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "berth-planner"}

// view is a ward in step and ready, read on both sides, changed as a case wants it.
func view(change func(*View)) *View {
	v := &View{ID: "berth-planner@quay", Ward: ward.Ward{Name: "berth-planner", Keep: ward.Keep{Sync: "auto", Drift: "report"}}, Standing: compare.InStep,
		Health: health.Result{Word: health.Ready}, Repository: AsOf{Known: true}, Live: AsOf{Known: true},
		Revision: &record.Revision{ID: "1d77f3a000", Subject: "Prefer leeward berths"}, Applied: &record.Revision{ID: "1d77f3a000", Subject: "Prefer leeward berths"}}
	change(v)
	return v
}

func drifted(d ...compare.Difference) func(*View) {
	return func(v *View) {
		v.Standing, v.Drifted, v.DriftedFields = compare.Drifted, 1, len(d)
		v.Astray = []ObjectView{{Ref: deployment, Drift: d, Contested: make([]bool, len(d))}}
	}
}

func TestSaysWhatAPersonNeedsToKnow(t *testing.T) {
	replicas := compare.Difference{Path: "spec.replicas", Pointer: "/spec/replicas", Change: compare.Changed, From: int64(2), To: int64(5), Who: "kubectl-scale"}
	for name, c := range map[string]struct {
		change func(*View)
		last   *record.Entry
		waits  string
		says   string
		todo   string
		tone   Tone
		needs  bool
	}{
		"in step": {change: func(*View) {}, says: "1d77f3a Prefer leeward berths", tone: Quiet},
		"settling": {change: func(v *View) { v.Health = health.Result{Word: health.Settling, Reason: "Deployment/x: 1 of 2 ready"} },
			says: "Deployment/x: 1 of 2 ready", tone: Quiet},
		"never synced": {change: func(v *View) { v.Applied, v.Pending, v.Standing, v.Ward.Keep.Sync = nil, 3, compare.Behind, "ask" },
			says: "Never synced; 3 objects declared", todo: "Sync it: vigila sync berth-planner@quay", tone: ToneBehind, needs: true},
		"behind, asks": {change: func(v *View) { v.Pending, v.Standing, v.Ward.Keep.Sync = 1, compare.Behind, "ask" },
			says: "1 object to sync: 1d77f3a Prefer leeward berths", todo: "Sync it: vigila sync", tone: ToneBehind, needs: true},
		"behind, auto": {change: func(v *View) { v.Pending, v.Standing = 1, compare.Behind },
			says: "1 object to sync", todo: "It will be synced.", tone: ToneBehind},
		"behind, waits": {change: func(v *View) {
			v.Pending, v.Standing, v.WaitsFor = 1, compare.Behind, "platform-base@quay, which is behind and ready"
		},
			says: "Waits for platform-base@quay, which is behind and ready", tone: ToneBehind},
		"guarded": {change: func(v *View) {
			v.Pending, v.Standing, v.Guards = 4, compare.Behind, []plan.Guard{{Name: "mass-removal", Text: "4 of 6 objects would be removed"}}
		}, says: "Stopped before harm: 4 of 6 objects would be removed", todo: "--allow mass-removal", tone: ToneBehind, needs: true},
		"drifted": {change: drifted(replicas), says: "kubectl-scale changed spec.replicas of Deployment/berth-planner from 2 to 5",
			todo: "Reported, not restored: this ward asks first", tone: ToneDrifted, needs: true},
		"drifted twice": {change: drifted(replicas, replicas), says: "from 2 to 5, and 1 more", todo: "this ward asks first", tone: ToneDrifted, needs: true},
		"drifted, restores": {change: func(v *View) { drifted(replicas)(v); v.Ward.Keep.Drift = "restore" },
			says: "kubectl-scale changed", todo: "It will be restored.", tone: ToneDrifted},
		"drifted, held": {change: func(v *View) { drifted(replicas)(v); v.Hold = &record.Hold{By: "operator", Reason: "gale"} },
			says: "kubectl-scale changed", todo: "Held by operator: gale. Not restored while held. Let it go on: vigila release", tone: ToneDrifted, needs: true},
		"a field removed": {change: drifted(compare.Difference{Path: "spec.paused", Change: compare.Removed, From: true, Who: "hurry", Likely: true}),
			says: "Probably hurry removed spec.paused of Deployment/berth-planner", todo: "asks first", tone: ToneDrifted, needs: true},
		"deleted": {change: func(v *View) { drifted()(v); v.Astray[0].Gone = true }, says: "Somebody deleted Deployment/berth-planner", todo: "asks first", tone: ToneDrifted, needs: true},
		"contested": {change: func(v *View) { drifted(replicas)(v); v.Contested, v.Astray[0].Contested[0] = 1, true },
			says: "kubectl-scale undid the restore of spec.replicas of Deployment/berth-planner three times", todo: "leave: [{of: Deployment/berth-planner, fields: [/spec/replicas]}]", tone: ToneContested, needs: true},
		"held, in step": {change: func(v *View) { v.Hold = &record.Hold{By: "operator"} }, says: "Held by operator", todo: "Let it go on", tone: Quiet},
		"held, behind": {change: func(v *View) {
			v.Hold, v.Pending, v.Standing = &record.Hold{By: "operator", Reason: "gale"}, 1, compare.Behind
		},
			says: "Held by operator: gale", todo: "Let it go on", tone: ToneBehind},
		"failing": {change: func(v *View) { v.Health = health.Result{Word: health.Failing, Reason: "Deployment/x: crash-loops"} },
			says: "Deployment/x: crash-loops", todo: "vigila ward show", tone: ToneFailing, needs: true},
		"went back": {change: func(v *View) {
			v.Pending, v.Standing, v.Rejected, v.Revision = 1, compare.Behind, "crash-loops", &record.Revision{ID: "badbadbad0"}
		},
			says: "Went back to 1d77f3a: crash-loops", todo: "badbadb is rejected. Push a newer revision", tone: ToneFailing, needs: true},
		"failed, and stops there": {change: func(v *View) {
			v.Pending, v.Standing, v.Rejected, v.Revision, v.Ward.Settle.Otherwise = 1, compare.Behind, "crash-loops", &record.Revision{ID: "badbadbad0"}, "stop"
		}, says: "badbadb failed: crash-loops", todo: "--retry", tone: ToneFailing, needs: true},
		"rejected by a person": {change: func(v *View) {
			v.Pending, v.Standing, v.Rejected, v.Revision = 1, compare.Behind, "it squeaks", &record.Revision{ID: "badbadbad0", Subject: "A door"}
			v.Rejections = []record.Rejection{{Revision: "badbadbad0", By: "operator", Why: "it squeaks"}}
		}, says: "badbadb A door was rejected by operator: it squeaks", todo: "It stays at 1d77f3a. Lift it: vigila accept berth-planner@quay badbadb", tone: ToneBehind},
		"rejected by a person, and there": {change: func(v *View) {
			v.Rejected, v.Rejections = "it squeaks", []record.Rejection{{Revision: "1d77f3a000", By: "operator", Why: "it squeaks"}}
		}, says: "1d77f3a Prefer leeward berths was rejected by operator: it squeaks", todo: "The cluster holds it. Go back", tone: ToneBehind, needs: true},
		"failed and stayed": {change: func(v *View) { v.Rejected = "crash-loops" }, says: "1d77f3a failed: crash-loops", todo: "try this one again", tone: ToneFailing, needs: true},
		"tried again, and stopped": {change: func(v *View) { v.Rejected, v.Hold = "crash-loops", &record.Hold{By: "operator", Reason: "stopped #4"} },
			says: "Held by operator: stopped #4", todo: "Let it go on", tone: Quiet},
		"going back failed": {change: func(*View) {}, last: &record.Entry{Kind: string(run.Rollback), Outcome: string(run.Failed), ToEntry: 3, Reason: "no answer"},
			says: "Going back to #3 failed: no answer", todo: "Look at what is failing", tone: ToneFailing, needs: true},
		"repository": {change: func(v *View) { v.Standing, v.Repository = compare.Blind, AsOf{Problem: "no such branch"} },
			says: "no such branch", todo: "The cluster is left as it is.", tone: ToneBlind, needs: true},
		"cluster": {change: func(v *View) { v.Standing, v.Live = compare.Blind, AsOf{Problem: "no answer"} },
			says: "no answer", todo: "What is shown is the last known.", tone: ToneBlind, needs: true},
		"empty repository": {change: func(v *View) { v.Standing, v.Revision = compare.Blind, nil }, waits: "waits for the first commit on main in fleet",
			says: "Waits for the first commit on main in fleet", tone: ToneBlind},
		"just started": {change: func(v *View) { v.Standing, v.Live = compare.Blind, AsOf{} }, says: "Looking for the first time", tone: ToneBlind},
		"a task": {change: func(v *View) {
			v.Run = &record.Entry{Number: 4, Kind: "sync", Objects: []record.EntryObject{{Ref: object.Ref{Kind: "Job", Name: "migrate"}, Task: "before", State: "settling", Reason: "1 running"}}}
		}, says: "Sync #4: 0 of 1 done; runs the task migrate: 1 running", todo: "--stop", tone: Quiet},
		"tasks for a failure": {change: func(v *View) {
			v.RunFailing, v.Run = true, &record.Entry{Number: 4, Kind: "sync", Objects: []record.EntryObject{{Ref: object.Ref{Kind: "Job", Name: "apologise"}, Task: "failed", State: "settling"}}}
		}, says: "Sync #4 failed; its tasks for that run; runs the task apologise", todo: "--stop", tone: Quiet},
		"made again": {change: drifted(compare.Difference{Change: compare.Remade, Who: "hurry"}), says: "hurry deleted Deployment/berth-planner and made it again", todo: "asks first", tone: ToneDrifted, needs: true},
		"restored a moment ago": {change: func(v *View) {
			drifted(replicas)(v)
			v.Ward.Keep.Drift, v.RestoreAt = "restore", time.Now().Add(time.Hour)
		}, says: "kubectl-scale changed", todo: "It was restored a moment ago already; it will be again at", tone: ToneDrifted},
		"added to": {change: func(v *View) {
			v.Additions, v.Astray = 2, []ObjectView{{Ref: deployment, Additions: []compare.Difference{{Path: "metadata.labels.tier", Pointer: "/metadata/labels/tier", Who: "kubectl-label"}}}}
		}, says: "kubectl-label added metadata.labels.tier to Deployment/berth-planner, and 1 more", todo: "fields: [/metadata/labels/tier]", tone: Quiet},
		"added to, and to remove": {change: func(v *View) {
			v.Additions, v.Astray, v.Ward.Keep.Additions = 1, []ObjectView{{Ref: deployment, Additions: []compare.Difference{{Path: "x", Who: "hurry"}}}}, "remove"
		}, says: "hurry added x", todo: "Take it away: vigila sync berth-planner@quay", tone: Quiet},
		"running": {change: func(v *View) {
			v.Run = &record.Entry{Number: 4, Kind: "sync", Objects: []record.EntryObject{{Ref: deployment, State: "settling", Reason: "1 of 2 ready"}, {Ref: deployment, State: "ready"}}}
		}, says: "Sync #4: 1 of 2 done; waits for Deployment/berth-planner: 1 of 2 ready", todo: "--stop", tone: Quiet},
	} {
		t.Run(name, func(t *testing.T) {
			v := view(c.change)
			(&placement{last: c.last}).say(v, c.waits)
			assert.Contains(t, v.Says, c.says)
			assert.Contains(t, v.Todo, c.todo)
			assert.Equal(t, c.tone, v.Tone)
			assert.Equal(t, c.needs, v.NeedsYou)
		})
	}
}

func TestSecretValuesAreNotInSentences(t *testing.T) {
	door := object.Ref{Kind: "Secret", Name: "door"}
	d := compare.Difference{Path: "data.password", Change: compare.Changed, From: "secret 1", To: "secret 2", Who: "hurry"}
	assert.Equal(t, "hurry changed data.password of Secret/door", driftWords(door, d))
	assert.Equal(t, "data.password of Secret/door is as it was applied again", endWords(door, d))
}

func TestWhatNeedsAPersonComesFirst(t *testing.T) {
	vs := []*View{{ID: "b@quay", Cluster: "quay", Tone: Quiet}, {ID: "a@skerry", Cluster: "skerry", Tone: ToneDrifted, NeedsYou: true},
		{ID: "c@quay", Cluster: "quay", Tone: ToneBehind}, {ID: "d@quay", Cluster: "quay", Tone: ToneFailing, NeedsYou: true}, {ID: "a@quay", Cluster: "quay", Tone: Quiet}, {ID: "z@skerry", Cluster: "skerry", Tone: ToneFailing, NeedsYou: true, Loudest: true}}
	Order(vs)
	var ids []string
	for _, v := range vs {
		ids = append(ids, v.ID)
	}
	assert.Equal(t, []string{"z@skerry", "d@quay", "a@skerry", "a@quay", "b@quay", "c@quay"}, ids)
}

func TestTimesOfLookingAreNoChange(t *testing.T) {
	a, b := view(func(*View) {}), view(func(v *View) { v.Repository.At, v.Repository.Next, v.Live.At = time.Now(), time.Now(), time.Now() })
	assert.True(t, same(a, b))
	b.Pending = 1
	assert.False(t, same(a, b))
}

func TestListenersLoseNoChange(t *testing.T) {
	k := &Keeper{broker: newBroker()}
	l := k.Listen()
	for range 3 {
		k.broker.send(Note{"ward", "a"})
	}
	k.broker.send(Note{"ward", "b"})
	<-l.Wake()
	assert.Equal(t, []Note{{"ward", "a"}, {"ward", "b"}}, l.Take(), "each once, however slow the listener")
	assert.Empty(t, l.Take())
	k.broker.send(Note{"ward", "a"})
	<-l.Wake()
	assert.Len(t, l.Take(), 1)
	l.Close()
	k.broker.send(Note{"ward", "a"})
	assert.Empty(t, l.Take())
}
