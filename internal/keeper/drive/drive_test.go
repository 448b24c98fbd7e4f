package drive

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/util/validation/field"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/record"
)

var horn = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "horn"}

// quay is a cluster that answers what a test says; calls are what it was asked for.
type quay struct {
	live   map[string]any // what is there of the horn
	answer map[string][]error
	below  []map[string]any // what the object set owns
	freed  func()           // what becomes of it when something was removed
	calls  []string
	keeper string // of the horn, as the record has it
	taken  []string
	doubts []object.Ref
}

func (q *quay) say(what string) error {
	q.calls = append(q.calls, what)
	if all := q.answer[what]; len(all) > 0 {
		q.answer[what] = all[1:]
		return all[0]
	}
	return nil
}

func (q *quay) Get(context.Context, string, object.Ref) (map[string]any, error) {
	if err := q.say("get"); err != nil {
		return nil, err
	}
	if q.live == nil {
		return nil, cluster.ErrGone
	}
	return q.live, nil
}

func (q *quay) Apply(_ context.Context, o object.Object, dryRun bool) (map[string]any, error) {
	what := "apply"
	if dryRun {
		what = "try " + o.Ref.Name
	}
	if err := q.say(what); err != nil {
		return nil, err
	}
	out := object.Clone(o.Body)
	meta, _ := out["metadata"].(map[string]any)
	meta["uid"], meta["resourceVersion"] = "new", "7"
	if !dryRun {
		q.live = out
	}
	return out, nil
}

func (q *quay) Remove(_ context.Context, _ string, _ object.Ref, uid string) error {
	if err := q.say("remove " + uid); err != nil {
		return err
	}
	q.live = nil
	if q.freed != nil {
		q.freed()
	}
	return nil
}

func (q *quay) Patch(context.Context, string, object.Ref, []object.Operation, bool) (map[string]any, error) {
	return nil, q.say("patch")
}
func (q *quay) Children(context.Context, string) (cluster.Children, error) {
	return cluster.Children{"set": q.below}, nil
}
func (q *quay) Logs(context.Context, string, string, string, bool, int64) (string, error) {
	return "", nil
}
func (q *quay) Take(ctx context.Context, who string) (func(), error) {
	q.taken = append(q.taken, who)
	return func() {}, ctx.Err()
}
func (q *quay) Commit(_ context.Context, _ string, writes ...record.Write) error {
	for _, w := range writes {
		q.doubts = append(q.doubts, w.(record.Doubt).Refs...)
	}
	return q.say("write")
}
func (q *quay) Detail(context.Context, string, object.Ref) (*compare.Detail, error) {
	return compare.NoDetail(), nil
}
func (q *quay) Keeper(context.Context, string, string, object.Ref) (string, error) {
	return q.keeper, q.say("keeper")
}

// heard is what is told in the course of calls.
type heard struct{ all []string }

func (h *heard) Trying(ref object.Ref, err error) {
	h.all = append(h.all, "trying "+ref.Name+": "+err.Error())
}
func (h *heard) Lost(ref object.Ref) { h.all = append(h.all, "lost "+ref.Name) }

func (q *quay) drive(ctx context.Context, h Hears) *Drive {
	w := &Ward{ID: "w@quay", Name: "w", Cluster: "quay", Service: "us", Mask: func(string) string { return "***" }, Live: q, Hands: q, Book: q, Turns: q}
	d := w.New(ctx, 2, 4, "s", h)
	d.Until(time.Now().Add(30 * time.Second))
	return d
}

func state(uid, mark, service string) map[string]any {
	meta := map[string]any{"name": horn.Name, "namespace": horn.Namespace, "uid": uid, "resourceVersion": "5", "labels": map[string]any{object.WardLabel: mark}}
	if service != "" {
		meta["annotations"] = map[string]any{object.ServiceAnnotation: service}
	}
	return map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": meta}
}

func order() Order {
	return Order{Object: declared.Whole{Object: object.Object{Ref: horn, Version: "v1", Body: state("", "w", "us")}, Hash: "h"}}
}

var (
	silence   = cluster.Unreachable(errors.New("no answer"))
	immutable = apierrors.NewInvalid(schema.GroupKind{Kind: "ConfigMap"}, "horn", field.ErrorList{field.Invalid(field.NewPath("data"), nil, "field is immutable")})
	forbidden = apierrors.NewForbidden(schema.GroupResource{Resource: "configmaps"}, "horn", fmt.Errorf(`%s "deployer" cannot patch resource "configmaps" in API group ""`, "User"))
)

// TestAnApply: what is called for one object, in what order, and what comes of it.
func TestAnApply(t *testing.T) {
	before := compare.Baseline{Ref: horn, Version: "v1", UID: "old"}
	for name, c := range map[string]struct {
		order  func(*Order)
		live   map[string]any
		answer map[string][]error
		calls  string
		told   []string
		failed *Failure
		want   func(*testing.T, Applied)
	}{
		"a new one is looked for first": {calls: "get, apply", want: func(t *testing.T, a Applied) {
			assert.Equal(t, "new", a.Baseline.UID)
			assert.Equal(t, "h", a.Baseline.Declared)
			assert.Equal(t, "s", a.Baseline.Snapshot)
			assert.Equal(t, 4, a.Baseline.Intent, "until the run has ended")
		}},
		"one that it keeps is not":     {order: func(o *Order) { o.Before = before }, live: state("old", "w", "us"), calls: "apply"},
		"replicas are an autoscaler's": {order: func(o *Order) { o.Scaled = true }, calls: "get, apply", want: func(t *testing.T, a Applied) { assert.Equal(t, declared.ScaledMark+"h", a.Baseline.Declared) }},
		"another ward's":               {order: func(o *Order) { o.Refused = "v" }, failed: &Failure{Text: "ward v keeps it already; one object can belong to one ward", Outside: true}},
		"another service's": {live: state("theirs", "v", "them"), calls: "get",
			failed: &Failure{Text: compare.AnotherService("them") + " keeps it already, in its ward v; remove it there, or write keep.take_over: [vigila/them] to take it over", Outside: true}},
		"for a time it adopts nothing": {order: func(o *Order) { o.Passing = true }, live: state("theirs", "", ""), calls: "get",
			failed: &Failure{Text: "ConfigMap/horn is there already, and is not this ward's; give one of the two another name", Outside: true}},
		"for a time, after a kill": {order: func(o *Order) { o.Passing, o.Before.Snapshot = true, "w" }, live: state("new", "w", "us"), calls: "get, apply", want: func(t *testing.T, a Applied) {
			assert.Equal(t, []any{"w", 0}, []any{a.Baseline.Snapshot, a.Baseline.Intent}, "it stays part of what it was of, and is in no doubt")
		}},
		"no rights":                    {answer: map[string][]error{"apply": {forbidden}}, calls: "get, apply", failed: &Failure{Text: forbidden.Error(), Outside: true}},
		"silence is waited for":        {answer: map[string][]error{"apply": {silence, silence}}, calls: "get, apply, get, apply, get, apply", told: []string{"trying horn: " + silence.Error(), "trying horn: " + silence.Error()}},
		"what can't be changed is not": {order: func(o *Order) { o.Before = before }, answer: map[string][]error{"apply": {immutable}}, calls: "apply", failed: &Failure{Text: "data can't be changed in place; let it be deleted and made again (vigila.dev/replace: when-immutable), make it under a new name, or undo the change"}},
		"unless its guard forbids it":  {order: func(o *Order) { o.Before, o.Turn = before, object.Turn{Replace: true, NoReplace: true} }, answer: map[string][]error{"apply": {immutable}}, calls: "apply", failed: &Failure{Text: "data can't be changed in place; it is guarded (vigila.dev/guard: no-replace), so make it under a new name, or take the guard away first"}},
		"or it may be made again: first it is tried, then written down": {order: func(o *Order) { o.Before, o.Turn = before, object.Turn{Replace: true} }, live: state("old", "w", "us"), answer: map[string][]error{"apply": {immutable}},
			calls: "apply, try horn-vigila-try, get, write, remove old, apply", told: []string{"lost horn"}, want: func(t *testing.T, a Applied) {
				assert.True(t, a.Replaced)
				assert.Equal(t, "new", a.Baseline.UID)
			}},
		"and not deleted when the new one would be refused": {order: func(o *Order) { o.Before, o.Turn = before, object.Turn{Replace: true} }, live: state("old", "w", "us"), answer: map[string][]error{"apply": {immutable}, "try horn-vigila-try": {forbidden}},
			calls: "apply, try horn-vigila-try", failed: &Failure{Text: "it would have to be deleted and made again, and the new one would be refused, so it is left as it is: " + forbidden.Error(), Outside: true}},
		"nor while that can't be written down": {order: func(o *Order) { o.Before, o.Turn = before, object.Turn{Replace: true} }, live: state("old", "w", "us"), answer: map[string][]error{"apply": {immutable}, "write": {errors.New("no room")}},
			calls: "apply, try horn-vigila-try, get, write", failed: &Failure{Text: "that ConfigMap n/horn is about to be deleted can't be written down: no room"}},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				q, h, o := &quay{live: c.live, answer: c.answer}, &heard{}, order()
				if c.order != nil {
					c.order(&o)
				}
				d := q.drive(t.Context(), h)
				defer d.End()
				got := d.Apply(o)
				assert.Equal(t, c.calls, strings.Join(q.calls, ", "))
				assert.Equal(t, c.told, h.all)
				if c.failed != nil {
					c.failed.Text = strings.ReplaceAll(c.failed.Text, "ConfigMap n/horn", horn.String())
				}
				assert.Equal(t, c.failed, got.Failed)
				if c.want != nil {
					c.want(t, got)
				}
			})
		})
	}
}

// TestWhatIsStoppedIsNotBegun: once a run is stopped or over, nothing new is called; what waits is told so.
func TestWhatIsStoppedIsNotBegun(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := &quay{answer: map[string][]error{}}
		d := q.drive(t.Context(), &heard{})
		d.Stop()
		got := d.Apply(order())
		require.NotNil(t, got.Failed)
		assert.True(t, got.Failed.Stopped)
		_, err := d.Remove(compare.Baseline{Ref: horn, UID: "u"}, false, func() (Spared, error) { return Spared{}, nil })
		assert.True(t, Failed(err).Stopped)
		assert.Empty(t, q.calls)
	})
	synctest.Test(t, func(t *testing.T) {
		var never []error
		for range 100 {
			never = append(never, silence)
		}
		q := &quay{answer: map[string][]error{"apply": never}}
		d := q.drive(t.Context(), &heard{})
		defer d.End()
		began := time.Now()
		got := d.Apply(order())
		assert.Equal(t, &Failure{Text: silence.Error(), Silent: true, Outside: true}, got.Failed, "it may have gone through")
		assert.InDelta(t, 30*time.Second, time.Since(began), float64(6*time.Second), "as long as the run has time")
	})
}

// TestARemoval: what is there is removed by its uid, and only what is the ward's.
func TestARemoval(t *testing.T) {
	kept := compare.Baseline{Ref: horn, Version: "v1", UID: "u"}
	doubt := compare.Baseline{Ref: horn, Version: "v1"}
	mine := func(uid string) map[string]any {
		o := state(uid, "w", "us")
		o["metadata"].(map[string]any)["managedFields"] = []any{map[string]any{"manager": object.Manager, "operation": "Apply", "apiVersion": "v1", "time": "2026-11-23T06:00:00Z", "fieldsType": "FieldsV1",
			"fieldsV1": map[string]any{"f:metadata": map[string]any{"f:labels": map[string]any{"f:" + object.WardLabel: map[string]any{}}}}}}
		return o
	}
	for name, c := range map[string]struct {
		b      compare.Baseline
		other  bool
		live   map[string]any
		wanted Spared
		err    error
		calls  string
		marked bool   // it is found with another ward's mark
		later  Spared // who wants it once it was looked at
	}{
		"what it keeps":                         {b: kept, live: state("u", "w", "us"), calls: "remove u"},
		"in doubt, and it never came":           {b: doubt, calls: "get"},
		"in doubt, and its own":                 {b: doubt, live: state("u", "w", "us"), calls: "get, remove "},
		"in doubt, and somebody's":              {b: doubt, live: state("u", "v", "us"), calls: "get", marked: true},
		"another's, put back with the cluster":  {b: kept, other: true, live: state("x", "v", "us"), calls: "get", marked: true},
		"made again by somebody, without one":   {b: kept, other: true, live: state("x", "", "us"), calls: "get"},
		"made again by itself":                  {b: kept, other: true, live: mine("x"), calls: "get, remove x"},
		"made again by somebody, with its mark": {b: kept, other: true, live: state("x", "w", "us"), calls: "get, remove u"},
		"wanted again while it was looked at":   {b: kept, other: true, live: mine("x"), calls: "get", later: Spared{Again: "9d55792"}},
		"another ward wants it":                 {b: kept, wanted: Spared{Heir: "v@quay"}},
		"it is wanted again":                    {b: kept, wanted: Spared{Again: "9d55792"}},
		"nobody knows yet":                      {b: kept, err: errors.New("somebody has to read first")},
	} {
		t.Run(name, func(t *testing.T) {
			q := &quay{live: c.live}
			d := q.drive(t.Context(), &heard{})
			defer d.End()
			asked := false
			spared, err := d.Remove(c.b, c.other, func() (Spared, error) {
				if asked {
					return c.later, c.err
				}
				asked = true
				return c.wanted, c.err
			})
			if !c.wanted.Any() {
				c.wanted = c.later
			}
			assert.Equal(t, c.err, err)
			if c.marked {
				c.wanted.Marked = c.live
			}
			assert.Equal(t, c.wanted, spared)
			assert.Equal(t, c.calls, strings.Join(q.calls, ", "))
		})
	}
}

// TestATask is made anew each time: what an earlier run left goes first, what is somebody else's stays.
func TestATask(t *testing.T) {
	for name, c := range map[string]struct {
		live   map[string]any
		keeper string
		answer map[string][]error
		calls  string
		err    string
	}{
		"for the first time":                      {calls: "keeper, get, apply"},
		"again":                                   {live: state("u", "w", "us"), calls: "keeper, get, remove u, apply"},
		"under a name that is taken":              {live: state("u", "v", "us"), calls: "keeper, get", err: "is not this ward's task"},
		"that another ward keeps":                 {keeper: "v", calls: "keeper", err: "ward v keeps it already"},
		"whose answer was lost is not made twice": {answer: map[string][]error{"apply": {silence}}, calls: "keeper, get, apply, get, apply"},
		"while nobody can say who keeps it":       {answer: map[string][]error{"keeper": {errors.New("no room")}}, calls: "keeper", err: "who keeps ConfigMap/horn can't be read: no room"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				q := &quay{live: c.live, keeper: c.keeper, answer: c.answer}
				d := q.drive(t.Context(), &heard{})
				defer d.End()
				_, err := d.Task(order().Object.Object, false)
				assert.Equal(t, c.calls, strings.Join(q.calls, ", "))
				if c.err == "" {
					assert.NoError(t, err)
				} else {
					assert.ErrorContains(t, err, c.err)
				}
			})
		})
	}
}

// TestATrialChangesNothing, and says what an apply would do.
func TestATrialChangesNothing(t *testing.T) {
	before := compare.Baseline{Ref: horn, Version: "v1", UID: "old"}
	for name, c := range map[string]struct {
		mine   bool
		turn   object.Turn
		live   map[string]any
		keeper string
		answer map[string][]error
		want   Tried
		err    error
	}{
		"a new one":            {want: Tried{Change: "create"}},
		"one that it keeps":    {mine: true, live: state("old", "w", "us"), want: Tried{Change: "update"}},
		"one that is there":    {live: state("x", "", ""), want: Tried{Change: "update", AlreadyThere: true}},
		"another ward's":       {keeper: "v", want: Tried{Change: "update", Refused: "ward v keeps it already; one object can belong to one ward"}},
		"it would be refused":  {answer: map[string][]error{"try horn": {forbidden}}, want: Tried{Change: "create", Refused: forbidden.Error()}},
		"it would be replaced": {mine: true, turn: object.Turn{Replace: true}, live: state("old", "w", "us"), answer: map[string][]error{"try horn": {immutable}}, want: Tried{Change: "update", Replaced: true}},
		"it can't be changed": {mine: true, live: state("old", "w", "us"), answer: map[string][]error{"try horn": {immutable}},
			want: Tried{Change: "update", Refused: "data can't be changed in place; let it be deleted and made again (vigila.dev/replace: when-immutable), make it under a new name, or undo the change"}},
		"silence": {answer: map[string][]error{"get": {silence}}, want: Tried{Change: "update"}, err: silence},
	} {
		t.Run(name, func(t *testing.T) {
			q := &quay{live: c.live, keeper: c.keeper, answer: c.answer}
			was := fmt.Sprint(c.live)
			d := q.drive(t.Context(), &heard{})
			defer d.End()
			o := order()
			o.Turn = c.turn
			if c.mine {
				o.Before = before
			}
			got, err := d.Try(t.Context(), o, c.mine)
			assert.Equal(t, c.err, err)
			got.Fields = nil
			assert.Equal(t, c.want, got)
			assert.Equal(t, was, fmt.Sprint(q.live))
			assert.NotContains(t, q.calls, "apply")
			assert.Equal(t, []string{"preview w@quay"}, q.taken, "in its turn")
		})
	}
}

// TestAStatefulSetIsFreed deletes the Pods that keep it from going back, and nothing else, until it is back.
func TestAStatefulSetIsFreed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		pod := func(name, revision, ready string) map[string]any {
			return map[string]any{"apiVersion": "v1", "kind": "Pod", "metadata": map[string]any{"name": name, "namespace": "n", "uid": name, "labels": map[string]any{"controller-revision-hash": revision}},
				"status": map[string]any{"phase": "Running", "conditions": []any{map[string]any{"type": "Ready", "status": ready}}}}
		}
		set := map[string]any{"metadata": map[string]any{"uid": "set", "generation": int64(2)}, "status": map[string]any{"observedGeneration": int64(2), "updateRevision": "old"}}
		q := &quay{live: set, below: []map[string]any{pod("x-0", "old", "True"), pod("x-1", "new", "False")}, answer: map[string][]error{"remove x-1": {errors.New("Pods are not yours")}}}
		q.freed = func() { q.live, q.below = set, q.below[:1] }
		var h heard
		q.drive(t.Context(), &h).Unstick("apps/v1", object.Ref{Group: "apps", Kind: "StatefulSet", Namespace: "n", Name: "x"})
		assert.Equal(t, []string{"get", "remove x-1", "get", "remove x-1", "get"}, q.calls, "until none is left")
		require.Len(t, h.all, 1)
		assert.Contains(t, h.all[0], "Pod/x-1, of the revision that it goes back from, is not ready and keeps it from going back; it can't be deleted: Pods are not yours")

		q = &quay{live: set, below: []map[string]any{pod("x-1", "new", "True")}}
		q.drive(t.Context(), &h).Unstick("apps/v1", object.Ref{Group: "apps", Kind: "StatefulSet", Namespace: "n", Name: "x"})
		assert.NotContains(t, strings.Join(q.calls, " "), "remove", "one that is ready is replaced in its turn; it ends with the run's time")
	})
}
