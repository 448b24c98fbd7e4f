package standing

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
)

var now = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)

var deployment = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "berth-planner"}

// view is a ward in step and ready, read on both sides, changed as a case wants it.
func view(change func(*View)) *View {
	v := &View{ID: "berth-planner@quay", Ward: &ward.Ward{Name: "berth-planner", Keep: ward.Keep{Sync: "auto", Drift: "report"}}, Standing: compare.InStep,
		Health: health.Result{Word: health.Ready}, Repository: AsOf{Known: true}, Live: AsOf{Known: true},
		Revision: &logbook.Revision{ID: "1d77f3a000", Subject: "Prefer leeward berths"}, Applied: &logbook.Revision{ID: "1d77f3a000", Subject: "Prefer leeward berths"}}
	change(v)
	return v
}

func drifted(d ...compare.Difference) func(*View) {
	return func(v *View) {
		v.Standing, v.Drifted, v.DriftedFields = compare.Drifted, 1, len(d)
		v.Astray = []Object{{Ref: deployment, Drift: d, Contested: make([]bool, len(d))}}
	}
}

func TestSaysWhatAPersonNeedsToKnow(t *testing.T) {
	replicas := compare.Difference{Path: "spec.replicas", Pointer: "/spec/replicas", Change: compare.Changed, From: int64(2), To: int64(5), Who: "kubectl-scale"}
	behind := func(v *View) { v.Pending, v.Standing = 1, compare.Behind }
	stopped := &logbook.Entry{Number: 7, Kind: "sync", Outcome: run.Stopped, Revision: &logbook.Revision{ID: "badbadbad0"}}
	half := func(v *View) {
		behind(v)
		v.Half, v.Count, v.Ward.Keep.Sync, v.Revision = 1, 2, "ask", &logbook.Revision{ID: "badbadbad0"}
	}
	leaving := func(v *View) {
		v.Standing, v.Leaving, v.Retry = compare.Behind, &logbook.Leaving{By: "operator", Dismantle: true}, now
	}
	played := map[string]bool{}
	for name, c := range map[string]struct {
		change func(*View)
		facts  Facts
		says   string
		todo   string
		tone   Tone
		needs  bool
	}{
		"rendered for long": {change: func(v *View) { v.Standing = compare.Blind }, facts: Facts{Waits: "waits for the first commit", Rendering: 3 * time.Second}, says: "Its files are being rendered", tone: ToneBlind},
		"rendered just now": {change: func(v *View) { v.Standing = compare.Blind }, facts: Facts{Waits: "waits for the first commit", Rendering: time.Second}, says: "Waits for the first commit", tone: ToneBlind},
		"read for long":     {change: func(v *View) { v.Standing = compare.Blind }, facts: Facts{Rendering: ReadLong}, says: "What the repository declares now is still being read", tone: ToneBlind},
		"read just now":     {change: func(*View) {}, facts: Facts{Rendering: ReadLong - 1}, says: "1d77f3a Prefer leeward berths", tone: Quiet},
		"in step":           {change: func(*View) {}, says: "1d77f3a Prefer leeward berths", tone: Quiet},
		"settling": {change: func(v *View) {
			v.Health = health.Result{Word: health.Settling, Reason: "Deployment/x: 1 of 2 ready"}
		},
			says: "Deployment/x: 1 of 2 ready", tone: Quiet},
		"never synced": {change: func(v *View) {
			v.Applied, v.Pending, v.Standing, v.Ward.Keep.Sync = nil, 3, compare.Behind, "ask"
		},
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
		"a secret is missing": {change: func(v *View) {
			v.Pending, v.Standing, v.Guards = 4, compare.Behind, []plan.Guard{{Name: "mass-removal", Text: "4 of 6"}, {Name: "missing-secret", Text: "Secret/gate needs harbour/gate#password, and store harbour has no such value", Mend: "Set it: vigila secret set harbour/gate#password."}}
		}, says: "Nothing is applied: Secret/gate needs harbour/gate#password", todo: "Set it: vigila secret set harbour/gate#password", tone: ToneBehind, needs: true},
		"another secret value": {change: func(v *View) {
			v.Pending, v.Standing, v.Rotated = 2, compare.Behind, []object.Ref{{Kind: "Secret", Name: "gate"}, {Group: "apps", Kind: "Deployment", Name: "gate"}}
		}, says: "Another secret value for Secret/gate and 1 object more", todo: "It will be synced.", tone: ToneBehind},
		"drifted": {change: drifted(replicas), says: "kubectl-scale changed spec.replicas of Deployment/berth-planner from 2 to 5",
			todo: "Reported, not restored: so its file says (keep.drift)", tone: ToneDrifted, needs: true},
		"drifted twice": {change: drifted(replicas, replicas), says: "from 2 to 5, and 1 more", todo: "so its file says", tone: ToneDrifted, needs: true},
		"drifted, asks": {change: func(v *View) { drifted(replicas)(v); v.Ward.Keep.Sync = "ask" }, says: "kubectl-scale changed", todo: "Reported, not restored: this ward asks first", tone: ToneDrifted, needs: true},
		"drifted, restores": {change: func(v *View) { drifted(replicas)(v); v.Ward.Keep.Drift = "restore" },
			says: "kubectl-scale changed", todo: "It will be restored.", tone: ToneDrifted},
		"drifted, held": {change: func(v *View) { drifted(replicas)(v); v.Hold = &logbook.Hold{By: "operator", Reason: "gale"} },
			says: "kubectl-scale changed", todo: "Held by operator: gale. Not restored while held. Let it go on: vigila release", tone: ToneDrifted, needs: true},
		"a field removed": {change: drifted(compare.Difference{Path: "spec.paused", Change: compare.Removed, From: true, Who: "hurry", Likely: true}),
			says: "Probably hurry removed spec.paused of Deployment/berth-planner", todo: "so its file says", tone: ToneDrifted, needs: true},
		"deleted": {change: func(v *View) { drifted()(v); v.Astray[0].Gone = true }, says: "Somebody deleted Deployment/berth-planner", todo: "so its file says", tone: ToneDrifted, needs: true},
		"contested": {change: func(v *View) { drifted(replicas)(v); v.Contested, v.Astray[0].Contested[0] = 1, true },
			says: "kubectl-scale undid the restore of spec.replicas of Deployment/berth-planner three times", todo: "leave: [{of: Deployment/berth-planner, fields: [/spec/replicas]}]", tone: ToneContested, needs: true},
		"held, in step": {change: func(v *View) { v.Hold = &logbook.Hold{By: "operator"} }, says: "Held by operator", todo: "Let it go on", tone: Quiet},
		"held, behind": {change: func(v *View) {
			v.Hold, v.Pending, v.Standing = &logbook.Hold{By: "operator", Reason: "gale"}, 1, compare.Behind
		},
			says: "Held by operator: gale", todo: "Let it go on", tone: ToneBehind},
		"failing": {change: func(v *View) {
			v.Health = health.Result{Word: health.Failing, Reason: "Deployment/x: crash-loops"}
		},
			says: "Deployment/x: crash-loops", todo: "vigila ward show", tone: ToneFailing, needs: true},
		"went back": {change: func(v *View) {
			v.Pending, v.Standing, v.Rejected, v.Revision = 1, compare.Behind, "crash-loops", &logbook.Revision{ID: "badbadbad0"}
		},
			says: "Went back to 1d77f3a: crash-loops", todo: "badbadb is rejected. Push a newer revision", tone: ToneFailing, needs: true},
		"went back, and back further by hand": {change: func(v *View) {
			v.Pending, v.Standing, v.Rejected, v.Revision, v.Hold = 1, compare.Behind, "crash-loops", &logbook.Revision{ID: "badbadbad0"}, &logbook.Hold{By: "operator", Reason: "rolled back to #1"}
		}, says: "Held by operator: rolled back to #1", todo: "Let it go on: vigila release", tone: ToneBehind},
		"failed, and stops there": {change: func(v *View) {
			v.Pending, v.Standing, v.Rejected, v.Revision, v.Ward.Settle.Otherwise = 1, compare.Behind, "crash-loops", &logbook.Revision{ID: "badbadbad0"}, "stop"
		}, says: "badbadb failed: crash-loops", todo: "--retry", tone: ToneFailing, needs: true},
		"rejected by a person": {change: func(v *View) {
			v.Pending, v.Standing, v.Rejected, v.Revision = 1, compare.Behind, "it squeaks", &logbook.Revision{ID: "badbadbad0", Subject: "A door"}
			v.Rejections = []logbook.Rejection{{Revision: "badbadbad0", By: "operator", Why: "it squeaks"}}
		}, says: "badbadb A door was rejected by operator: it squeaks", todo: "It stays at 1d77f3a. Lift it: vigila accept berth-planner@quay badbadb", tone: ToneBehind},
		"rejected by a person, and there": {change: func(v *View) {
			v.Rejected, v.Rejections = "it squeaks", []logbook.Rejection{{Revision: "1d77f3a000", By: "operator", Why: "it squeaks"}}
		}, says: "1d77f3a Prefer leeward berths was rejected by operator: it squeaks", todo: "The cluster holds it. Go back", tone: ToneBehind, needs: true},
		"failed and stayed": {change: func(v *View) { v.Rejected = "crash-loops" }, says: "1d77f3a failed: crash-loops", todo: "try this one again", tone: ToneFailing, needs: true},
		"tried again, and stopped": {change: func(v *View) {
			v.Rejected, v.Hold = "crash-loops", &logbook.Hold{By: "operator", Reason: "stopped #4"}
		},
			says: "Held by operator: stopped #4", todo: "Let it go on", tone: Quiet},
		"going back failed": {change: func(*View) {}, facts: Facts{Last: &logbook.Entry{Kind: run.Rollback, Outcome: run.Failed, ToEntry: 3, Reason: "no answer"}},
			says: "Going back to #3 failed: no answer", todo: "Look at what is failing", tone: ToneFailing, needs: true},
		"repository": {change: func(v *View) {
			v.Standing, v.Repository = compare.Blind, AsOf{Problem: "no such branch"}
		},
			says: "no such branch", todo: "The cluster is left as it is.", tone: ToneBlind, needs: true},
		"cluster": {change: func(v *View) { v.Standing, v.Live = compare.Blind, AsOf{Problem: "no answer"} },
			says: "no answer", todo: "What is shown is the last known.", tone: ToneBlind, needs: true},
		"empty repository": {change: func(v *View) { v.Standing, v.Revision = compare.Blind, nil }, facts: Facts{Waits: "waits for the first commit on main in moorings"},
			says: "Waits for the first commit on main in moorings", tone: ToneBlind},
		"a first commit that can't be read": {change: func(v *View) {
			v.Standing, v.Revision, v.Repository = compare.Blind, nil, AsOf{Problem: "app/a.yaml:1: no kind"}
		},
			facts: Facts{Waits: "waits for the first commit on main in moorings"}, says: "app/a.yaml:1: no kind", todo: "The cluster is left as it is.", tone: ToneBlind, needs: true},
		"just started": {change: func(v *View) { v.Standing, v.Live = compare.Blind, AsOf{} }, says: "Looking for the first time", tone: ToneBlind},
		"a task": {change: func(v *View) {
			v.Run = &logbook.Entry{Number: 4, Kind: "sync", Objects: []logbook.EntryObject{{Ref: object.Ref{Kind: "Job", Name: "migrate"}, Task: "before", State: "settling", Reason: "1 running"}}}
		}, says: "Sync #4: 0 of 1 done; runs the task migrate: 1 running", todo: "--stop", tone: Quiet},
		"tasks for a failure": {change: func(v *View) {
			v.RunFailing, v.Run = true, &logbook.Entry{Number: 4, Kind: "sync", Objects: []logbook.EntryObject{{Ref: object.Ref{Kind: "Job", Name: "apologise"}, Task: "failed", State: "settling"}}}
		}, says: "Sync #4 failed; its tasks for that run; runs the task apologise", todo: "--stop", tone: Quiet},
		"made again": {change: drifted(compare.Difference{Change: compare.Remade, Who: "hurry"}), says: "hurry deleted Deployment/berth-planner and made it again", todo: "so its file says", tone: ToneDrifted, needs: true},
		"restored a moment ago": {change: func(v *View) {
			drifted(replicas)(v)
			v.Ward.Keep.Drift, v.RestoreAt = "restore", now.Add(time.Hour)
		}, says: "kubectl-scale changed", todo: "It was restored a moment ago already; it will be again at", tone: ToneDrifted},
		"added to": {change: func(v *View) {
			v.Additions, v.Astray = 2, []Object{{Ref: deployment, Additions: []compare.Difference{{Path: "metadata.labels.tier", Pointer: "/metadata/labels/tier", Who: "kubectl-label"}}}}
		}, says: "kubectl-label added metadata.labels.tier to Deployment/berth-planner, and 1 more", todo: "fields: [/metadata/labels/tier]", tone: Quiet},
		"added to, and to remove": {change: func(v *View) {
			v.Additions, v.Astray, v.Ward.Keep.Additions = 1, []Object{{Ref: deployment, Additions: []compare.Difference{{Path: "x", Who: "hurry"}}}}, "remove"
		}, says: "hurry added x", todo: "Take it away: vigila sync berth-planner@quay", tone: Quiet},
		"running": {change: func(v *View) {
			v.Run = &logbook.Entry{Number: 4, Kind: "sync", Objects: []logbook.EntryObject{{Ref: deployment, State: "settling", Reason: "1 of 2 ready"}, {Ref: deployment, State: "ready"}}}
		}, says: "Sync #4: 1 of 2 done; waits for Deployment/berth-planner: 1 of 2 ready", todo: "--stop", tone: Quiet},
		"a canary that waits for a person": {change: canaryAt(canary.Sharing, func(c *canary.State) { c.Share = 1 }), says: "The new version of Deployment/berth-planner has 20 % of the traffic, and all of it waits for a person",
			todo: "vigila canary next berth-planner@quay, vigila canary back berth-planner@quay", tone: ToneBehind, needs: true},
		"a canary whose time runs": {change: canaryAt(canary.Sharing, nil), says: "has 5 % of the traffic; 20 % at 06:05:00 UTC", todo: "vigila canary show berth-planner@quay", tone: ToneBehind},
		"a canary that knows nothing": {change: canaryAt(canary.Sharing, func(c *canary.State) {
			c.Spent, c.Targets[0].Checks = time.Hour, []ward.Check{{Name: "errors"}}
		}), says: "20 % once it is known how it does: errors", todo: "canary show", tone: ToneBehind},
		"a canary that is held":   {change: canaryAt(canary.Sharing, func(c *canary.State) { c.Held = &canary.Held{By: "operator", Why: "gale watch"} }), says: "is held there by operator: gale watch", todo: "vigila canary next", tone: ToneBehind},
		"a canary that goes back": {change: canaryAt(canary.Back, func(c *canary.State) { c.Going = &canary.Going{Reason: "check errors: value 0.4"} }), says: "Goes back from the new version of Deployment/berth-planner: check errors: value 0.4", tone: ToneFailing},
		"half done": {change: half, facts: Facts{Last: stopped, LastGood: 3}, says: "Sync #7 was stopped half way: 1 object of 2 are not as in 1d77f3a Prefer leeward berths",
			todo: "Go on: vigila sync berth-planner@quay. Go back: vigila rollback berth-planner@quay 3", tone: ToneFailing, needs: true},
		"half done the first time": {change: func(v *View) { half(v); v.Applied = nil }, facts: Facts{Last: stopped}, says: "Sync #7 was stopped before badbadb was there as a whole",
			todo: "Go on: vigila sync berth-planner@quay", tone: ToneFailing, needs: true},
		"all of it applied, never ready": {change: func(v *View) {
			half(v)
			v.Pending, v.Rejected, v.Health = 0, "crash-loops", health.Result{Word: health.Failing, Reason: "Deployment/x: crash-loops"}
		}, facts: Facts{Last: stopped}, says: "all of badbadb is applied, and it was never ready; Deployment/x: crash-loops", todo: "--retry", tone: ToneFailing, needs: true},
		"half done, and goes on by itself": {change: func(v *View) { half(v); v.Ward.Keep.Sync = "auto" }, facts: Facts{Last: stopped}, says: "1 object to sync", todo: "It will be synced.", tone: ToneBehind},
		"going":                            {change: leaving, says: "It is being removed, its objects first, asked for by operator", tone: ToneBehind},
		"going, and stuck":                 {change: leaving, facts: Facts{Failures: 1, Stuck: "the claim is bound"}, says: "Dismantling it does not start: the claim is bound", todo: "--dismantle --allow", tone: ToneFailing, needs: true},
		"going, and failed":                {change: leaving, facts: Facts{Failures: 1, Last: &logbook.Entry{Reason: "no answer"}}, says: "Dismantling it has failed: no answer", todo: "It is tried again at 06:00:00 UTC.", tone: ToneFailing, needs: true},
		"nothing can be written down": {change: func(v *View) { behind(v); v.Run = &logbook.Entry{Number: 4, Kind: "sync"} }, facts: Facts{Unwritten: "database or disk is full"},
			says: "What is done can't be written down, so nothing more is done: database or disk is full", todo: "It goes on by itself", tone: ToneFailing, needs: true},
		"a record that can't be used": {change: func(v *View) { v.Standing = compare.Blind }, facts: Facts{Broken: "its record is torn"}, says: "Its record is torn", todo: "The others go on.", tone: ToneBlind, needs: true},
		"a wrong file":                {change: func(v *View) { v.Standing, v.Misfiled = compare.Blind, "wards/a.yaml:2: no such key" }, says: "wards/a.yaml:2: no such key", todo: "stays in force", tone: ToneBlind, needs: true},
		"beyond its limits":           {change: func(v *View) { behind(v); v.HeldBack = "ConfigMap/x is outside" }, says: "ConfigMap/x is outside", todo: "stays in force", tone: ToneBehind, needs: true},
		"taken over": {change: func(v *View) {
			drifted(replicas)(v)
			v.Astray[0].Foreign = "k3"
		}, says: "Another Vigila (k3) has taken Deployment/berth-planner over; it is left alone here", todo: "take it back with vigila sync", tone: ToneContested, needs: true},
		"waits loudly": {change: func(v *View) {
			behind(v)
			v.WaitsFor, v.WaitsLoud, v.Ward.Keep.Sync = "tide@quay, which keeps it", true, "ask"
		}, says: "Waits for tide@quay, which keeps it", tone: ToneBehind, needs: true},
		"did not go through": {change: func(v *View) { behind(v); v.Retry = now }, facts: Facts{Failures: 1, Last: &logbook.Entry{Number: 4, Kind: "sync", Outcome: run.Failed, Reason: "no rights"}},
			says: "Sync #4 did not go through: no rights", todo: "It is tried again at 06:00:00 UTC, or now: vigila sync", tone: ToneBehind},
		"did not go through again, brought up": {change: func(v *View) { behind(v); v.Ward.Keep.Sync = "ask" }, facts: Facts{BroughtUp: true, Failures: 2, Last: &logbook.Entry{Number: 4, Kind: "sync", Outcome: run.Failed, Reason: "no rights"}},
			says: "Sync #4 did not go through", todo: "tried again", tone: ToneBehind, needs: true},
	} {
		t.Run(name, func(t *testing.T) {
			v := view(c.change)
			c.facts.Now = now
			played[(&saying{v, c.facts}).rule().name] = true
			Say(v, c.facts)
			assert.Contains(t, v.Says, c.says)
			assert.Contains(t, v.Todo, c.todo)
			assert.Equal(t, c.tone, v.Tone)
			assert.Equal(t, c.needs, v.NeedsYou)
		})
	}
	for _, r := range rules {
		assert.True(t, played[r.name], "no case here says: %s", r.name)
	}
}

// canaryAt is a run that carries a canary of 5 % for five minutes and 20 % until a person says.
func canaryAt(p canary.Phase, more func(*canary.State)) func(*View) {
	return func(v *View) {
		v.Run = &logbook.Entry{Number: 4, Kind: "sync"}
		v.Canary = &canary.State{Phase: p, Began: now, Seen: now, Steps: []ward.Share{{At: 5, For: 5 * time.Minute}, {At: 20, Person: true}}, Targets: []canary.TargetState{{Ref: deployment, Ready: true}}}
		if more != nil {
			more(v.Canary)
		}
	}
}

func TestWhatMattersMoreIsSaidFirst(t *testing.T) {
	v := view(func(v *View) {
		v.Pending, v.Drifted, v.Standing = 1, 1, compare.Drifted
		v.Hold, v.Misfiled = &logbook.Hold{By: "operator"}, "no such key"
		v.Health = health.Result{Word: health.Failing, Reason: "crash-loops"}
		v.Astray = []Object{{Ref: deployment, Gone: true}}
	})
	for _, c := range []struct {
		says string
		then func()
	}{
		{"no such key", func() { v.Misfiled = "" }},
		{"crash-loops", func() { v.Health.Word = health.Ready }},
		{"Somebody deleted Deployment/berth-planner", func() { v.Drifted = 0 }},
		{"Held by operator", func() { v.Hold = nil }},
		{"1 object to sync", func() { v.Pending = 0 }},
		{"1d77f3a Prefer leeward berths", func() {}},
	} {
		Say(v, Facts{Now: now})
		assert.Contains(t, v.Says, c.says)
		c.then()
	}
}

func TestAHintNamesWhatIsToBeLeft(t *testing.T) {
	d := func(pointers ...string) (out []compare.Difference) {
		for _, p := range pointers {
			out = append(out, compare.Difference{Pointer: p})
		}
		return out
	}
	for name, c := range map[string]struct {
		astray []Object
		want   string
	}{
		"nothing":                      {nil, ""},
		"one":                          {[]Object{{Ref: deployment, Drift: d("/spec/replicas")}}, "Leave it to others: leave: [{of: Deployment/berth-planner, fields: [/spec/replicas]}]"},
		"each field once":              {[]Object{{Ref: deployment, Drift: d("/a", "/b", "/a")}}, "Leave it to others: leave: [{of: Deployment/berth-planner, fields: [/a, /b]}]"},
		"the mark":                     {[]Object{{Ref: deployment, Drift: d("")}}, ""},
		"drift, before what was added": {[]Object{{Ref: deployment, Drift: d("/a"), Additions: d("/b")}}, "Leave it to others: leave: [{of: Deployment/berth-planner, fields: [/a]}]"},
		"too many":                     {[]Object{{Ref: deployment, Drift: d("/1", "/2", "/3", "/4", "/5", "/6", "/7")}}, "Leave fields to others with leave: in the ward file"},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, leaveHint(&View{Astray: c.astray})) })
	}
}

func TestTheWatchLine(t *testing.T) {
	at := func(hours int) time.Time { return now.Add(time.Duration(hours) * time.Hour) }
	l := NewLine([]logbook.Stretch{{From: at(-30), Standing: "in step", Health: "ready"}, {From: at(-3), Standing: "behind", Health: "ready"}, {From: at(-2), Standing: "behind", Health: "settling"}},
		[]logbook.Entry{{Number: 1, Kind: "sync", Outcome: "running", Started: at(-2)}})
	v := view(func(v *View) { v.Standing, v.Health.Word = compare.Behind, health.Settling })
	assert.Nil(t, l.Add(now, v), "nothing has changed")
	assert.Equal(t, at(-3), v.Since, "of the standing, whatever its health was")
	l.Notch(logbook.Entry{Number: 1, Kind: "sync", Outcome: "done", Started: at(-2)})
	v = view(func(*View) {})
	begins := l.Add(at(1), v)
	assert.Equal(t, &logbook.Stretch{From: at(1), Standing: "in step", Health: "ready"}, begins)
	assert.Equal(t, at(1), v.Since)
	assert.Equal(t, []Notch{{At: at(-2), Number: 1, Kind: "sync", Outcome: "done"}}, v.Notches, "once, as it ended")
	blind := view(func(v *View) { v.Standing, v.Live = compare.Blind, AsOf{} })
	assert.Nil(t, l.Add(at(2), blind), "a service that has just started")
	blind.Live.Problem = "no answer"
	assert.NotNil(t, l.Add(at(2), blind))
	later := view(func(*View) {})
	l.Add(at(26), later)
	assert.Empty(t, later.Notches, "what is older than a day is left out")
	assert.Equal(t, at(1), later.Standings[0].From, "but what held then is there")
	assert.Len(t, v.Standings, 4, "a view that was made never changes")
}

func TestSecretValuesAreNotInSentences(t *testing.T) {
	door := object.Ref{Kind: "Secret", Name: "door"}
	d := compare.Difference{Path: "data.password", Change: compare.Changed, From: "secret 1", To: "secret 2", Who: "hurry"}
	assert.Equal(t, "hurry changed data.password of Secret/door", DriftWords(door, d))
	assert.Equal(t, "data.password of Secret/door is as it was applied again", EndWords(door, d))
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
	a, b := view(func(*View) {}), view(func(v *View) {
		v.Repository.At, v.Repository.Next, v.Live.At = now, now, now
	})
	assert.True(t, Same(a, b))
	b.Pending = 1
	assert.False(t, Same(a, b))
}
