package index

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
)

var (
	now     = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	horn    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "horn"}
	bell    = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "bell"}
	planner = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "planner"}
	migrate = object.Ref{Group: "batch", Kind: "Job", Namespace: "n", Name: "migrate"}
)

// world is a ward that an index asks.
type world struct {
	undeclared map[object.Ref]bool
	scaler     map[object.Ref]string
	details    map[object.Ref]*compare.Detail
	versions   map[object.Ref]string
	moving     map[object.Ref]string
	working    map[object.Ref]bool
	applied    map[object.Ref]int64
	unread     error
}

func (w *world) Left(object.Ref) []object.Pointer { return nil }
func (w *world) Scaler(ref object.Ref) string     { return w.scaler[ref] }
func (w *world) Declares(ref object.Ref) bool     { return !w.undeclared[ref] }
func (w *world) Version(ref object.Ref) string    { return w.versions[ref] }
func (w *world) Moving(ref object.Ref) string     { return w.moving[ref] }
func (w *world) Working(ref object.Ref) bool      { return w.working[ref] }
func (w *world) Applied(ref object.Ref) int64     { return w.applied[ref] }
func (w *world) Detail(ref object.Ref) (*compare.Detail, error) {
	if w.unread != nil {
		return nil, w.unread
	}
	return w.details[ref], nil
}

func digest(s string) string { return "digest of " + s }

func fresh() (*Index, *world) {
	w := &world{undeclared: map[object.Ref]bool{}, scaler: map[object.Ref]string{}, details: map[object.Ref]*compare.Detail{}, versions: map[object.Ref]string{},
		moving: map[object.Ref]string{}, working: map[object.Ref]bool{}, applied: map[object.Ref]int64{}}
	return New(w, Settings{Service: "us", Mask: digest, Additions: "report"}), w
}

// state is an object as Vigila has applied it, with a value; revision and uid are the cluster's.
func state(ref object.Ref, version string, revision int64, uid, value string) map[string]any {
	return map[string]any{"apiVersion": version, "kind": ref.Kind, "data": map[string]any{"v": value},
		"metadata": map[string]any{"name": ref.Name, "namespace": ref.Namespace, "uid": uid, "resourceVersion": strconv.FormatInt(revision, 10), "labels": map[string]any{object.WardLabel: "w"},
			"managedFields": []any{map[string]any{"manager": object.Manager, "operation": "Apply", "apiVersion": version, "fieldsType": "FieldsV1", "fieldsV1": map[string]any{"f:data": map[string]any{"f:v": map[string]any{}}}}}}}
}

// applied keeps an object as it was applied, and sees it so.
func applied(x *Index, w *world, ref object.Ref, version string, revision int64, value string) compare.Baseline {
	body := state(ref, version, revision, "u", value)
	b := compare.NewBaseline(ref, "1", body, body, nil, digest, nil, now)
	w.details[ref], w.versions[ref] = b.Detail, version
	x.Answered(b, body)
	return b
}

// answer gives the answer to a look that is on its way.
func answer(t *testing.T, x *Index, at time.Time, ref object.Ref, a Answer) []Effect {
	t.Helper()
	due, _ := x.Due(at)
	require.Equal(t, []Lookup{{ref, "v1"}}, due)
	return x.Looked(at, ref, a)
}

// TestALookIsTakenForWhatItIs plays answers to looks by name in every order.
func TestALookIsTakenForWhatItIs(t *testing.T) {
	begin := func() (*Index, *world) {
		x, w := fresh()
		applied(x, w, horn, "v1", 5, "1")
		return x, w
	}
	x, _ := begin()
	x.Look(now, horn)
	answer(t, x, now, horn, Answer{})
	assert.True(t, x.Looking(horn), "what is not answered is asked for again")
	assert.Equal(t, 1, x.Unseen(), "and until then it is not known")
	due, next := x.Due(now)
	assert.Empty(t, due)
	assert.Equal(t, now.Add(unansweredPause), next)
	answer(t, x, next, horn, Answer{Body: state(horn, "v1", 5, "u", "1")})
	assert.Zero(t, x.Unseen())
	assert.False(t, x.Looking(horn))

	x, _ = begin()
	x.Look(now, horn)
	due, _ = x.Due(now)
	require.Len(t, due, 1)
	x.Saw(now, horn, state(horn, "v1", 9, "u", "1"), Watched)
	x.Looked(now, horn, Answer{Gone: true})
	assert.True(t, x.Known(horn).Present, "an answer from before what was seen since says nothing")
	x.Look(now, horn)
	x.Look(now, horn)
	answer(t, x, now, horn, Answer{Gone: true})
	assert.False(t, x.Known(horn).Present)
	assert.Equal(t, []object.Ref{horn}, x.Astray(now).Refs)
	assert.Empty(t, x.Looked(now, horn, Answer{Body: state(horn, "v1", 9, "u", "1")}), "an answer that nobody waits for")
	assert.False(t, x.Known(horn).Present)

	x, _ = begin()
	x.Look(now, horn)
	x.Due(now)
	x.Look(now, horn) // once more, since the answer on its way may be from before
	x.Looked(now, horn, Answer{Gone: true})
	assert.True(t, x.Known(horn).Present)
	answer(t, x, now, horn, Answer{Gone: true})
	assert.False(t, x.Known(horn).Present)

	x, _ = begin()
	x.Saw(now, horn, state(horn, "v1", 3, "u", "1"), Watched)
	assert.EqualValues(t, 5, x.Known(horn).Revision, "an older state that a watch brings is late")
	x.Look(now, horn)
	assert.Contains(t, answer(t, x, now, horn, Answer{Body: state(horn, "v1", 3, "u", "1")}), Effect(Rewound{}))
	assert.EqualValues(t, 3, x.Known(horn).Revision, "one that was asked for by name is what the cluster holds now: it was restored")
	assert.True(t, x.Known(horn).Verified)

	x, w := begin()
	b, _ := x.Baseline(horn)
	x, w2 := fresh() // the service has started again since
	*w2 = *w
	x.ward = w
	x.Keep(b)
	x.Saw(now, horn, state(horn, "v1", 3, "u", "1"), Watched)
	assert.Equal(t, 1, x.Unseen(), "what is older than what was applied says nothing before it was asked for by name")
	x.Look(now, horn)
	answer(t, x, now, horn, Answer{Body: state(horn, "v1", 3, "u", "1")})
	assert.Zero(t, x.Unseen())

	x, _ = begin()
	x.Look(now, horn)
	answer(t, x, now, horn, Answer{Gone: true})
	x.Saw(now, horn, state(horn, "v1", 3, "u", "2"), Watched)
	assert.Equal(t, 1, x.Unseen(), "it is there again, and older than what was applied: that it was not there says nothing of it")
	x.Look(now, horn)
	answer(t, x, now, horn, Answer{Body: state(horn, "v1", 3, "u", "2")})
	assert.Equal(t, []object.Ref{horn}, x.Astray(now).Refs)

	x, _ = begin()
	x.Saw(now, horn, state(horn, "v2", 9, "u", "1"), Watched)
	assert.EqualValues(t, 5, x.Known(horn).Revision, "the watch of another version is not asked")
	x.Look(now, horn)
	answer(t, x, now, horn, Answer{Body: state(horn, "v2", 9, "u", "1")})
	assert.EqualValues(t, 9, x.Known(horn).Revision, "but when it is all there is")

	x, w = begin()
	w.unread = errors.New("torn")
	effects := x.Saw(now, horn, state(horn, "v1", 9, "u", "2"), Watched)
	assert.Contains(t, effects, Effect(Unread{horn, w.unread}))
	assert.Equal(t, 1, x.Unseen(), "what can't be compared is not known")
	w.unread = nil
	answer(t, x, now.Add(unansweredPause), horn, Answer{Body: state(horn, "v1", 9, "u", "2")})
	assert.Equal(t, []object.Ref{horn}, x.Astray(now).Refs, "and is compared as soon as it can be")
}

// TestWhatWasSeenInDoubtIsLookedAtAgain: a state that came while nobody knew what was applied is held against nothing; once that is
// known, it is asked for.
func TestWhatWasSeenInDoubtIsLookedAtAgain(t *testing.T) {
	x, w := fresh()
	b := applied(x, w, horn, "v1", 5, "1")
	b.Intent = 7
	x.Keep(b)
	x.Saw(now, horn, state(horn, "v1", 6, "u", "somebody's"), Watched)
	assert.Zero(t, x.Unseen(), "it is in doubt, not unseen")
	b.Intent = 0 // the run that doubted it has ended without applying it
	x.Keep(b)
	assert.Equal(t, 1, x.Unseen())
	x.Look(now, horn)
	answer(t, x, now, horn, Answer{Body: state(horn, "v1", 6, "u", "somebody's")})
	assert.Equal(t, []object.Ref{horn}, x.Astray(now).Refs)

	x, w = fresh()
	b = applied(x, w, horn, "v1", 5, "1")
	b.Intent = 7
	x.Keep(b)
	x.Saw(now, horn, state(horn, "v1", 6, "u", "1"), Watched)
	applied(x, w, horn, "v1", 7, "2")
	assert.Zero(t, x.Unseen(), "a new apply settles it")
}

func TestWhatNoWatchBringsIsLookedForAgain(t *testing.T) {
	x, w := fresh()
	applied(x, w, horn, "v1", 5, "1")
	lost := state(horn, "v1", 6, "u", "1")
	lost["metadata"].(map[string]any)["labels"] = nil
	x.Saw(now, horn, lost, Named)
	due, next := x.Due(now)
	assert.Empty(t, due)
	assert.Equal(t, now.Add(unmarkedPause), next)
	due, _ = x.Due(next)
	assert.Len(t, due, 1)
	x.Looked(next, horn, Answer{Body: lost})
	_, after := x.Due(next)
	assert.Equal(t, next.Add(unmarkedPause), after, "again and again")
	x.Saw(next, horn, state(horn, "v1", 7, "u", "1"), Watched)
	due, after = x.Due(after)
	assert.Empty(t, due, "until it is marked again")
	assert.Zero(t, after)
}

func TestWhatIsNotKnownIsSoughtByItself(t *testing.T) {
	x, w := fresh()
	x.Keep(compare.Baseline{Ref: horn, Version: "v1", UID: "u"})
	x.Keep(compare.Baseline{Ref: bell, Version: "v1", Intent: 3})
	read, pending := false, true
	s := Seeking{Read: func(object.Kind) bool { return read }, Pending: func(object.Ref, compare.Baseline) bool { return pending }}
	next := x.Seek(now, s)
	assert.Equal(t, now.Add(soughtPause), next, "its kind is being read")
	assert.False(t, x.Looking(horn))
	read = true
	assert.Equal(t, next, x.Seek(now, s), "not at every event")
	s.Waits = true
	x.Seek(next, s)
	assert.False(t, x.Looking(horn), "what waits may be just that")
	s.Waits = false
	w.working[horn] = true
	x.SeekAtOnce()
	x.Seek(next, s)
	assert.False(t, x.Looking(horn), "a run works on it, and its answer comes")
	w.working[horn] = false
	x.SeekAtOnce()
	x.Seek(next, s)
	assert.True(t, x.Looking(horn))
	assert.False(t, x.Looking(bell), "what may have been applied and is declared is applied again")
	pending = false
	x.SeekAtOnce()
	x.Seek(next, s)
	assert.True(t, x.Looking(bell))
	assert.True(t, x.Doubtful(bell))
}

// TestWhereThereIsNothingToAskItIsLookedEverLessOften: a ward whose run could apply nothing waits for its next try with all of its objects unseen. Once there
// is something to ask it is asked as soon as anything happens.
func TestWhereThereIsNothingToAskItIsLookedEverLessOften(t *testing.T) {
	x, _ := fresh()
	x.Keep(compare.Baseline{Ref: horn, Version: "v1", Intent: 3})
	pending := true
	s := Seeking{Read: func(object.Kind) bool { return true }, Pending: func(object.Ref, compare.Baseline) bool { return pending }}
	at, looks := now, 0
	for end := now.Add(time.Hour); at.Before(end); looks++ {
		next := x.Seek(at, s)
		require.True(t, next.After(at) && next.Sub(at) <= mostIdle, "and never not at all")
		at = next
	}
	assert.Less(t, looks, int(time.Hour/mostIdle)+10)
	event := at.Add(-mostIdle / 2)
	pending = false // it is not declared any more
	assert.Equal(t, event.Add(soughtPause), x.Seek(event, s))
	assert.True(t, x.Looking(horn))
}

// TestAClusterIsPutBackInTheMiddleOfARun: what is different since is told at once, not when the run has ended, whether the run has
// applied it, is about to remove it, or has nothing to do with it.
func TestAClusterIsPutBackInTheMiddleOfARun(t *testing.T) {
	for name, c := range map[string]struct {
		works     bool
		appliedAt int64
	}{"applied": {true, 6}, "to be removed": {true, 0}, "beside it": {false, 0}} {
		t.Run(name, func(t *testing.T) {
			x, w := fresh()
			applied(x, w, horn, "v1", 6, "new")
			w.working[horn], w.applied[horn] = c.works, c.appliedAt
			x.Saw(now, horn, state(horn, "v1", 3, "u", "as it was"), Watched)
			assert.Empty(t, x.Astray(now).Refs, "what a watch brings may be late")
			x.Look(now, horn)
			effects := answer(t, x, now, horn, Answer{Body: state(horn, "v1", 3, "u", "as it was")})
			assert.Equal(t, []object.Ref{horn}, x.Astray(now).Refs)
			assert.Contains(t, effects, Effect(Rewound{}))
		})
	}
}

// TestWhatIsThereAgainInTheMiddleOfARun: it was deleted, and came back with the cluster's data while a run was about to remove it
// that was stopped before. It is not taken for what was applied.
func TestWhatIsThereAgainInTheMiddleOfARun(t *testing.T) {
	x, w := fresh()
	applied(x, w, horn, "v1", 6, "new")
	x.Look(now, horn)
	answer(t, x, now, horn, Answer{Gone: true})
	w.working[horn] = true
	again := state(horn, "v1", 3, "u", "as it was")
	require.Contains(t, x.Saw(now, horn, again, Watched), Effect(Early{horn, again}))
	w.working[horn] = false
	x.Weigh(now, horn, again)
	assert.Equal(t, 1, x.Unseen(), "so it is looked for by name")
}

// TestAStateOfAnotherVersionIsNoDrift: while an object moves from one version to another, states of both arrive before the answer
// to its apply. Only one of the new version can be held against it.
func TestAStateOfAnotherVersionIsNoDrift(t *testing.T) {
	begin := func() (*Index, *world) {
		x, w := fresh()
		b := applied(x, w, horn, "v1", 5, "old")
		b.Intent = 7
		x.Keep(b)
		w.working[horn], w.moving[horn] = true, "v2"
		return x, w
	}
	early := func(effects []Effect) map[string]any {
		for _, e := range effects {
			if e, ok := e.(Early); ok {
				return e.Body
			}
		}
		return nil
	}
	x, w := begin()
	before := early(x.Saw(now, horn, state(horn, "v1", 6, "u", "as v1 has it"), Watched))
	require.NotNil(t, before)
	applied(x, w, horn, "v2", 6, "new")
	x.Weigh(now, horn, before)
	assert.Empty(t, x.Astray(now).Refs, "it was read in the version from before")

	x, w = begin()
	before = early(x.Saw(now, horn, state(horn, "v2", 9, "u", "somebody's"), Watched))
	require.NotNil(t, before, "what the watch of the new version brings before the answer is not lost")
	applied(x, w, horn, "v2", 6, "new")
	w.applied[horn] = 6
	x.Weigh(now, horn, before)
	assert.Equal(t, []object.Ref{horn}, x.Astray(now).Refs)
}

// TestWithItsDefinitionEverythingIsGone: what a definition defines is not known any more once the definition is gone, whatever a
// watch has said of it last.
func TestWithItsDefinitionEverythingIsGone(t *testing.T) {
	x, w := fresh()
	definition := object.Ref{Group: "apiextensions.k8s.io", Kind: "CustomResourceDefinition", Name: "tugs.mend.brindle.example"}
	tug := object.Ref{Group: "mend.brindle.example", Kind: "Tug", Namespace: "n", Name: "north"}
	for _, ref := range []object.Ref{definition, tug, horn} {
		applied(x, w, ref, "v1", 5, "1")
	}
	require.Zero(t, x.Unseen())
	x.Look(now, definition)
	effects := answer(t, x, now, definition, Answer{Gone: true})
	assert.Contains(t, effects, Effect(Undefined{"mend.brindle.example"}), "the others are told")
	assert.Equal(t, 1, x.Unseen())
	assert.Equal(t, []object.Ref{definition}, x.Astray(now).Refs)
	answer(t, x, now, tug, Answer{Gone: true})
	assert.Equal(t, []object.Ref{definition, tug}, x.Astray(now).Refs)
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
			x, w := fresh()
			w.details[migrate], w.versions[migrate] = &compare.Detail{}, "v1"
			if c.brief {
				w.details[migrate].Fields = []object.Field{{Path: "spec.ttlSecondsAfterFinished", Value: int64(5)}}
			}
			x.Keep(compare.Baseline{Ref: migrate, Version: "v1", Declared: "1", UID: "u"})
			if c.seen {
				x.Put(migrate, Live{Present: true, Verified: true, Finished: c.finished, Brief: c.brief})
			}
			for range 2 { // asked again it is the same
				x.Look(now, migrate)
				answer(t, x, now, migrate, Answer{Gone: true})
				assert.Equal(t, c.drift, len(x.Astray(now).Refs) > 0)
			}
		})
	}
}

func TestWhatNobodyDeclaresIsNotMissed(t *testing.T) {
	x, w := fresh()
	applied(x, w, horn, "v1", 5, "1")
	applied(x, w, bell, "v1", 5, "1")
	w.undeclared[horn] = true
	for _, ref := range []object.Ref{horn, bell} {
		x.Look(now, ref)
	}
	x.Due(now)
	x.Looked(now, horn, Answer{Gone: true})
	x.Looked(now, bell, Answer{Gone: true})
	assert.Equal(t, []object.Ref{bell}, x.Astray(now).Refs, "nobody would put the horn back")
	assert.Equal(t, []object.Ref{horn}, x.Gone())
	x.Drop(horn)
	x.Forget(horn)
	w.undeclared[horn] = false
	x.Keep(compare.Baseline{Ref: horn, Version: "v1", Intent: 9})
	assert.Equal(t, []object.Ref{bell}, x.Astray(now).Refs, "what is about to be made again has not drifted")
}

func TestWhatIsAstrayAndMayBePutBack(t *testing.T) {
	x, w := fresh()
	for _, ref := range []object.Ref{horn, bell, planner} {
		applied(x, w, ref, "v1", 5, "1")
	}
	x.Live(horn).upset().Drift = []compare.Difference{{Path: "data.x", Who: "hurry"}}
	x.Live(bell).Present, x.Live(bell).Verified = false, true
	x.Live(planner).upset().Added = []compare.Difference{{Path: "metadata.labels.tier", Who: "hurry"}}
	a := x.Astray(now)
	assert.Equal(t, []object.Ref{bell, horn}, a.Refs)
	assert.Equal(t, 2, a.Fields)
	assert.Equal(t, 1, a.Additions)
	assert.Equal(t, []object.Ref{bell, horn}, a.Restorable, "additions are reported only")
	assert.True(t, a.At.IsZero())
	assert.Empty(t, x.PutBack(planner))

	x.Additions = "remove"
	assert.ElementsMatch(t, []object.Ref{planner, bell, horn}, x.Astray(now).Restorable)
	assert.Len(t, x.PutBack(planner), 1)
	assert.Equal(t, []compare.Difference{Missing}, x.PutBack(bell))

	x.Contests.Restored(horn, "data.x", "hurry", now)
	a = x.Astray(now)
	assert.True(t, a.At.After(now), "the next restore of it is put off")
	assert.Equal(t, []object.Ref{horn}, a.Waiting)
	assert.Contains(t, a.Restorable, bell, "others don't wait for it")
	for range 2 {
		x.Contests.Restored(horn, "data.x", "hurry", now)
	}
	for range 3 {
		x.Contests.Restored(bell, "", "", now)
		x.Contests.Restored(planner, "metadata.labels.tier", "hurry", now)
	}
	a = x.Astray(now)
	assert.Equal(t, 3, a.Contested, "a field, a deletion and an addition that somebody insists on")
	assert.Empty(t, a.Restorable)
}

func TestAnAutoscalersWorkIsNoDrift(t *testing.T) {
	x, w := fresh()
	applied(x, w, planner, "v1", 5, "1")
	x.Live(planner).upset().Drift = []compare.Difference{{Path: "spec.replicas", Who: "kube-controller-manager"}, {Path: "spec.paused", Who: "hurry"}}
	assert.Len(t, x.Drift(planner), 2)
	assert.Empty(t, x.Leave(planner))
	w.scaler[planner] = "HorizontalPodAutoscaler/planner"
	assert.Len(t, x.Leave(planner), 1)
	require.Len(t, x.Drift(planner), 1)
	assert.Equal(t, "spec.paused", x.Drift(planner)[0].Path, "other changes are")
}

func TestWhyAWorkloadIsNotReadyIsLookedForBelowIt(t *testing.T) {
	x, w := fresh()
	applied(x, w, planner, "v1", 5, "1")
	x.Live(planner).Below = false
	unready := func(revision int64, uid string) []Effect {
		o := state(planner, "v1", revision, uid, "1")
		o["spec"], o["status"] = map[string]any{"replicas": int64(1)}, map[string]any{}
		return x.Saw(now, planner, o, Watched)
	}
	effects := unready(6, "u")
	assert.Contains(t, effects, Effect(LookBelow{planner, "u", 300 * time.Millisecond}))
	assert.NotContains(t, unready(7, "u"), Effect(LookBelow{planner, "u", 300 * time.Millisecond}), "one look at a time")
	crash := map[string]any{"metadata": map[string]any{"name": "p"}, "status": map[string]any{"phase": "Pending",
		"containerStatuses": []any{map[string]any{"name": "c", "state": map[string]any{"waiting": map[string]any{"reason": "ImagePullBackOff", "message": "no such image"}}}}}}
	effects = x.Below(planner, "u", []map[string]any{crash}, true)
	assert.Equal(t, []Effect{News{planner}, LookBelow{planner, "u", 2 * time.Second}}, effects, "again and again, until it is ready")
	assert.Contains(t, x.Known(planner).State().Reason, "no such image")
	unready(8, "another")
	assert.Empty(t, x.Below(planner, "u", nil, true), "an answer about the one before")
	assert.True(t, x.Known(planner).Below, "one about the new one is on its way")
}

func TestTheHealthOfAWardIsItsWorst(t *testing.T) {
	x, w := fresh()
	assert.Equal(t, health.Unknown, x.Health().Word, "nothing is kept")
	applied(x, w, horn, "v1", 5, "1")
	assert.Equal(t, health.Ready, x.Health().Word)
	x.Live(horn).Health = health.Result{Word: health.Failing, Reason: "crash-loops"}
	assert.Equal(t, health.Result{Word: health.Failing, Reason: "ConfigMap/horn: crash-loops"}, x.Health())
	assert.False(t, x.Ready())
}

func TestABaselineThatMovesIsNoticed(t *testing.T) {
	x, w := fresh()
	at := x.Moves()
	b := applied(x, w, horn, "v1", 5, "1")
	assert.NotEqual(t, at, x.Moves())
	assert.True(t, x.KeepsKind(object.Kind{Version: "v1", Kind: "ConfigMap"}))
	at = x.Moves()
	x.Saw(now, horn, state(horn, "v1", 6, "u", "2"), Watched)
	assert.Equal(t, at, x.Moves(), "a state moves none")
	b.Version, b.Guards = "v2", "no-replace, no-prune"
	x.Keep(b)
	assert.Equal(t, []object.Kind{{Version: "v2", Kind: "ConfigMap"}}, x.Kinds())
	assert.Equal(t, map[object.Ref]bool{horn: true}, x.Guarded("no-prune"))
	x.Drop(horn)
	assert.Empty(t, x.Kinds())
	assert.Zero(t, x.Len())
}

// TestInTheEndWhatIsKnownIsTrue plays a cluster in which objects are changed, deleted, made again and put back, while states come
// late and twice, and looks are answered late, out of order, or not at all. At every moment a thing that is not known has something
// on its way; once everything has arrived, what is known is what is there.
func TestInTheEndWhatIsKnownIsTrue(t *testing.T) {
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 7))
		x, w := fresh()
		at := now
		refs := []object.Ref{horn, bell, {Kind: "ConfigMap", Namespace: "n", Name: "lamp"}}
		there := map[object.Ref]map[string]any{}
		revision := int64(5)
		for _, ref := range refs {
			applied(x, w, ref, "v1", revision, "1")
			there[ref] = state(ref, "v1", revision, "u", "1")
		}
		type event func()
		var late []event // what is on its way
		onWay := map[object.Ref]bool{}
		ask := func() {
			x.Seek(at, Seeking{Read: func(object.Kind) bool { return true }, Waits: len(late) > 0, Pending: func(object.Ref, compare.Baseline) bool { return false }})
			due, _ := x.Due(at)
			for _, l := range due {
				require.False(t, onWay[l.Ref], "seed %d: two looks at one object", seed)
				onWay[l.Ref] = true
				body, present := there[l.Ref]
				fails := r.IntN(4) == 0
				late = append(late, func() {
					delete(onWay, l.Ref)
					switch {
					case fails:
						x.Looked(at, l.Ref, Answer{})
					case present:
						x.Looked(at, l.Ref, Answer{Body: body})
					default:
						x.Looked(at, l.Ref, Answer{Gone: true})
					}
				})
			}
		}
		for range 30 {
			ref := refs[r.IntN(len(refs))]
			revision++
			switch r.IntN(6) {
			case 0, 1, 2: // somebody changes it, or makes it again
				uid := "u"
				if there[ref] == nil {
					uid = fmt.Sprint("u", revision)
				}
				body := state(ref, "v1", revision, uid, fmt.Sprint(r.IntN(3)))
				there[ref] = body
				late = append(late, func() { x.Saw(at, ref, body, Watched) })
				if r.IntN(3) == 0 {
					late = append(late, func() { x.Saw(at, ref, body, Watched) })
				}
			case 3:
				if body := there[ref]; body != nil {
					delete(there, ref)
					late = append(late, func() { x.LastSeen(at, ref, body) })
				}
			case 4: // the watch is broken, and read anew
				all := map[object.Ref]bool{}
				for _, ref := range refs {
					if body := there[ref]; body != nil {
						all[ref] = true
						late = append(late, func() {
							if x.ListedAs(at, ref, body) {
								x.Saw(at, ref, body, Watched)
							}
							x.Saw(at, ref, body, Watched)
						})
					}
				}
				late = append(late, func() {
					x.Listed(at, "", "ConfigMap", "elsewhere", nil) // says nothing of what is here
					x.Listed(at, "", "ConfigMap", "", all)
				})
			}
			at = at.Add(time.Duration(r.IntN(3000)) * time.Millisecond)
			ask()
			for len(late) > 0 && r.IntN(3) > 0 { // a watch keeps its order, nothing else does
				i := 0
				if r.IntN(4) == 0 {
					i = r.IntN(len(late))
				}
				do := late[i]
				late = slices.Delete(late, i, i+1)
				do()
			}
		}
		// Everything arrives; a last list says what is there, as it does after every broken watch.
		for range 200 {
			for len(late) > 0 {
				do := late[0]
				late = late[1:]
				do()
			}
			at = at.Add(3 * time.Second)
			ask()
			if len(late) == 0 && x.Unseen() == 0 {
				break
			}
		}
		all := map[object.Ref]bool{}
		for _, ref := range refs {
			if body := there[ref]; body != nil {
				all[ref] = true
				if x.ListedAs(at, ref, body) {
					x.Saw(at, ref, body, Watched)
				}
				x.Saw(at, ref, body, Watched)
			}
		}
		x.Listed(at, "", "ConfigMap", "", all)
		for range 200 {
			at = at.Add(3 * time.Second)
			ask()
			for len(late) > 0 {
				do := late[0]
				late = late[1:]
				do()
			}
		}
		require.Zero(t, x.Unseen(), "seed %d", seed)
		for _, ref := range refs {
			body, present := there[ref]
			require.Equal(t, present, x.Known(ref).Present, "seed %d: %s", seed, ref)
			differs := !present || body["data"].(map[string]any)["v"] != "1" || object.UID(body) != "u"
			require.Equal(t, differs, slices.Contains(x.Astray(at).Refs, ref), "seed %d: %s", seed, ref)
		}
	}
}

// BenchmarkSaw is what one watched state in step costs; the allocations are what counts.
func BenchmarkSaw(b *testing.B) {
	x, w := fresh()
	applied(x, w, horn, "v1", 5, "1")
	states := []map[string]any{state(horn, "v1", 6, "u", "1"), state(horn, "v1", 7, "u", "1")}
	b.ReportAllocs()
	for i := range b.N {
		body := states[i%2]
		body["metadata"].(map[string]any)["resourceVersion"] = strconv.Itoa(i + 8)
		x.Saw(now, horn, body, Watched)
		x.settle()
	}
}
