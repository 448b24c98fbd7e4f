package keeper

import (
	"encoding/json"
	"errors"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"k8s.io/apimachinery/pkg/api/meta"
	utiljson "k8s.io/apimachinery/pkg/util/json"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
)

func overTheWire[T any](t *testing.T, v T) (out T) {
	t.Helper()
	b, err := link.Encode(v)
	require.NoError(t, err)
	require.NoError(t, link.Decode(b, &out))
	return out
}

// TestBodiesComeAsTheyWent: an object that came over the wire is applied, hashed and compared as one that was read here.
func TestBodiesComeAsTheyWent(t *testing.T) {
	var body map[string]any
	require.NoError(t, utiljson.Unmarshal([]byte(`{"a":1,"b":-3,"c":2.5,"d":[null,true,"x",{"e":9007199254740993}],"f":{},"g":[],"h":null,"i":1e30,"j":"2026-11-27T10:00:00Z","k":"\u0000ü"}`), &body))
	w := declared.Whole{Object: object.Object{Ref: object.Ref{Group: "apps", Kind: "Deployment", Namespace: "a", Name: "b"}, Version: "apps/v1", Body: body, File: "x.yaml", Line: 7}, Hash: "h", Step: -1}
	got := overTheWire(t, w)
	assert.Equal(t, w, got)
	assert.Equal(t, object.Hash(w.Object.Body), object.Hash(got.Object.Body))
	for name, v := range body {
		assert.Equal(t, reflect.TypeOf(v), reflect.TypeOf(got.Object.Body[name]), name)
	}
}

// filled gives every field of a value something, so that one which does not travel is found.
func filled(v reflect.Value, depth int) {
	switch v.Kind() {
	case reflect.String:
		v.SetString("s")
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int64, reflect.Int32, reflect.Uint8, reflect.Int8:
		if v.CanInt() {
			v.SetInt(3)
		}
	case reflect.Float64:
		v.SetFloat(2.5)
	case reflect.Pointer:
		if depth < 6 {
			v.Set(reflect.New(v.Type().Elem()))
			filled(v.Elem(), depth+1)
		}
	case reflect.Slice:
		if depth < 6 {
			v.Set(reflect.MakeSlice(v.Type(), 1, 1))
			filled(v.Index(0), depth+1)
		}
	case reflect.Map:
		if depth < 6 && v.Type().Key().Kind() == reflect.String {
			v.Set(reflect.MakeMap(v.Type()))
			k, x := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
			filled(k, depth+1)
			filled(x, depth+1)
			v.SetMapIndex(k, x)
		}
	case reflect.Interface:
		if v.NumMethod() == 0 {
			v.Set(reflect.ValueOf("any"))
		}
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[time.Time]() {
			v.Set(reflect.ValueOf(time.Date(2026, 11, 27, 3, 4, 5, 6000, time.UTC)))
			return
		}
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() && v.Type().Field(i).Tag.Get("cbor") != "-" {
				filled(v.Field(i), depth+1)
			}
		}
	}
}

// TestWhatIsToldIsWhole: no field of a view, an entry, a wish or an answer is lost on the way.
func TestWhatIsToldIsWhole(t *testing.T) {
	for _, v := range []any{&standing.View{}, &standing.Object{}, &logbook.Entry{}, &Preview{}, &CanaryNow{}, &Bringing{}, &keepWard{}, &Welcome{}, &Hello{}, &toldFacts{}, &toldKnown{}, &canary.State{}, &loop.Unreadable{}} {
		if p, is := v.(*Preview); is {
			p.View = nil
		}
		filled(reflect.ValueOf(v).Elem(), 0)
		b, err := link.Encode(v)
		require.NoError(t, err, "%T", v)
		back := reflect.New(reflect.TypeOf(v).Elem())
		require.NoError(t, link.Decode(b, back.Interface()), "%T", v)
		assert.Equal(t, v, back.Interface(), "%T", v)
	}
}

// TestEveryWishTravels: what somebody may want of a ward, they may want of one that a lookout keeps.
func TestEveryWishTravels(t *testing.T) {
	now := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	for _, w := range []loop.Wish{
		loop.StartRun{Ask: Ask{Kind: run.Rollback, By: "operator", Why: "a", ToEntry: 3, Allow: []string{"x"}, Tasks: true}}, loop.StopRun{By: "operator"}, loop.Hold{By: "operator", Reason: "r", Until: now}, loop.Release{By: "a", Reason: "b"},
		loop.Reject{Rejection: logbook.Rejection{Revision: "r", At: now}, Of: logbook.Revision{ID: "r", At: now}, Said: "why"}, loop.Lift{Revision: "r", By: "a", Why: "b"}, loop.Leave{Leaving: logbook.Leaving{By: "a", At: now, Dismantle: true, Allow: []string{"x"}}},
		loop.Stay{}, loop.BringUp{By: "a"}, loop.NoteSecret{By: "a"}, loop.SayCanary{Word: canary.Word("on"), By: "a", Why: "b"}, loop.BeWritten{},
	} {
		name, body, err := toldWishes.pack(w)
		require.NoError(t, err, "%T", w)
		got, err := toldWishes.open(name, body)
		require.NoError(t, err, "%T", w)
		assert.Equal(t, w, got)
	}
	_, _, err := toldWishes.pack(struct{}{})
	assert.ErrorContains(t, err, "does not go to a lookout")
	_, err = toldWishes.open("tides", nil)
	assert.ErrorContains(t, err, "this side is older")
}

func TestRefusalsMeanTheSameOnBothSides(t *testing.T) {
	for _, err := range []error{nil, fault(Guarded, "a guard"), &Fault{Kind: Conflict, Text: "t", Run: 4, Guards: []plan.Guard{{Name: "mass-removal", Text: "much"}}}, loop.ErrQuiet, loop.ErrUnread, errNotKept, errors.New("no berth is free")} {
		var there error
		if r := refusal(err); r != nil {
			var x *link.Refusal
			require.ErrorAs(t, r, &x)
			there = overTheWireRefusal(t, x)
		}
		got := unrefused(there, "the lookout of quay")
		if err == nil {
			assert.NoError(t, got)
			continue
		}
		assert.Equal(t, err.Error(), got.Error())
		var f, g *Fault
		if errors.As(err, &f) {
			require.ErrorAs(t, got, &g)
			assert.Equal(t, f, g)
		}
		for _, known := range []error{loop.ErrQuiet, loop.ErrUnread, errNotKept} {
			assert.Equal(t, errors.Is(err, known), errors.Is(got, known))
		}
	}
	var away *Fault
	require.ErrorAs(t, unrefused(link.ErrAway, "the lookout of quay"), &away)
	assert.Equal(t, Unreachable, away.Kind)
	assert.True(t, meta.IsNoMatchError(noKind(object.Object{Version: "a/v1", Ref: object.Ref{Kind: "B"}})))
}

func overTheWireRefusal(t *testing.T, r *link.Refusal) error {
	out := overTheWire(t, *r)
	return &out
}

// TestADeclarationHasOneDigest: on both sides, wherever it was read, and whatever commit its repository is at; anything else makes another.
func TestADeclarationHasOneDigest(t *testing.T) {
	d := &declared.Declaration{Revision: logbook.Revision{ID: "r", At: time.Date(2026, 11, 27, 4, 0, 0, 0, time.FixedZone("", 3600))}, Head: "h", Form: declared.Plain, Snapshot: "s", Notes: []string{"n"},
		Scaled: map[object.Ref]string{{Kind: "A", Name: "a"}: "x", {Kind: "B", Name: "b"}: "y", {Kind: "C", Name: "c"}: "z"}}
	d.Take([]declared.Object{{Declared: plan.Declared{Ref: object.Ref{Kind: "ConfigMap", Name: "c"}, Hash: "h"}, Version: "v1"}})
	want := packed(d).Digest()
	for range 20 {
		back, err := overTheWire(t, *packed(d)).Open()
		require.NoError(t, err)
		assert.Equal(t, want, packed(back).Digest())
	}
	other := *d
	other.Head, other.Tag = "elsewhere", "v2"
	assert.Equal(t, want, packed(&other).Digest())
	other.Revision.ID = "another"
	assert.NotEqual(t, want, packed(&other).Digest())
}

// TestWhatWasToldBeforeIsNotWhatIs: a lookout that is back has told nothing yet, whatever it told before it was away.
func TestWhatWasToldBeforeIsNotWhatIs(t *testing.T) {
	a := newAway(nil, record.Lookout{Cluster: "skerry", Told: record.LookoutTold{Heard: time.Now().Add(-time.Hour)}})
	before, now := &link.Peer{}, &link.Peer{}
	v := &standing.View{Standing: compare.InStep, Live: standing.AsOf{Known: true}}
	a.peer = now
	assert.Equal(t, compare.Blind, a.seen(v, before).Standing)
	assert.Equal(t, compare.InStep, a.seen(v, now).Standing)
	a.peer = nil
	assert.Equal(t, compare.Blind, a.seen(v, now).Standing)
}

// TestNobodyHearsOfIt: a ward whose lookout is away is blind, whatever it was, and says since when.
func TestNobodyHearsOfIt(t *testing.T) {
	at := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	v := &standing.View{ID: "a@quay", Ward: &ward.Ward{Name: "a"}, Standing: compare.InStep, Health: health.Result{Word: health.Ready}, Live: standing.AsOf{Known: true, At: at.Add(time.Hour)}, Since: at.Add(-time.Hour), Loudest: true}
	before, err := json.Marshal(v)
	require.NoError(t, err)
	got := standing.Away(v, at, awayText("quay", at), true)
	assert.Equal(t, compare.Blind, got.Standing)
	assert.Equal(t, health.Unknown, got.Health.Word)
	assert.Equal(t, standing.AsOf{At: at, Problem: "the lookout of quay was heard of last at 2026-11-27 03:00:00 UTC"}, got.Live)
	assert.Equal(t, at, got.Since)
	assert.True(t, got.NeedsYou)
	assert.EqualValues(t, "blind", got.Trouble().Topic)
	assert.Equal(t, "cluster "+got.Cluster, got.Trouble().Cause, "one trouble for all wards of the cluster")
	assert.False(t, standing.Away(v, at, "w", false).NeedsYou, "for a moment that is nobody's trouble")
	v.Says, v.Rule = "Went back to 1d77f3a", "it went back"
	assert.Equal(t, "The lookout is away; until then: Went back to 1d77f3a", standing.Away(v, at, "the lookout is away", true).Says)
	v.Says, v.Rule = "", ""
	after, err := json.Marshal(v)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after), "what was told is not changed by it")
}

// TestTwinsTravel: whose turn it is is decided at a lookout as at the service, and what else is known of another cluster stays where it is.
func TestTwinsTravel(t *testing.T) {
	v := &standing.View{ID: "w@anchor", Ward: &ward.Ward{Name: "w", From: ward.From{Ref: "main"}}, Head: "newrev0", Rejected: "oldrev", Standing: compare.Drifted, Health: health.Result{Word: health.Ready, Reason: "2 of 2"},
		Says: "Drifted", Run: &logbook.Entry{Number: 7, Why: "the harbour floods"}, Astray: []standing.Object{{UID: "x"}}}
	got := overTheWire(t, twinsOf("w@quay", map[string]*standing.View{"anchor": v})).views()["anchor"]
	assert.Equal(t, &standing.View{ID: "w@anchor", Ward: &ward.Ward{From: ward.From{Ref: "main"}}, Head: "newrev0", Rejected: "oldrev", Standing: compare.Drifted, Health: health.Result{Word: health.Ready}, Run: &logbook.Entry{Number: 7}}, got)
	none := overTheWire(t, twinsOf("w@quay", nil)).views()
	assert.NotNil(t, none, "that there is none is known")
	assert.Empty(t, none)
	assert.Empty(t, toldTwins{By: map[string]*standing.View{"anchor": nil}}.views())
}
