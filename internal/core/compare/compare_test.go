package compare

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
)

var (
	ref     = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "d"}
	applied = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	mask    = Mask(func(v string) string { return "#" + v[:1] })
)

// answer is what the API server says; fields of vigila, then of a client called hurry.
func answer(t *testing.T, ours, theirs, spec string) map[string]any {
	t.Helper()
	entry := func(who, op, at, set string) string {
		return `{"manager":"` + who + `","operation":"` + op + `","time":"` + at + `","fieldsV1":` + set + `}`
	}
	entries := []string{entry("vigila", "Apply", "2026-11-23T06:00:00Z", ours)}
	if theirs != "" {
		entries = append(entries, entry("hurry", "Update", "2026-11-23T06:05:00Z", theirs))
	}
	objects, err := object.Parse("x.json", []byte(`{"apiVersion":"apps/v1","kind":"Deployment","metadata":{"name":"d","resourceVersion":"7","uid":"u","managedFields":[`+strings.Join(entries, ",")+`]},"spec":`+spec+`}`))
	require.NoError(t, err)
	return objects[0].Body
}

func TestDriftSaysWhatWhoAndWhen(t *testing.T) {
	both := `{"f:spec":{"f:replicas":{},"f:paused":{}}}`
	b := NewBaseline(ref, "h", answer(t, both, "", `{"replicas":2,"paused":false,"minReadySeconds":0}`), nil, mask, applied)
	assert.Equal(t, int64(7), b.Revision)
	assert.Equal(t, "u", b.UID)

	assert.Empty(t, Drift(b, answer(t, both, "", `{"replicas":2,"paused":false,"minReadySeconds":9}`), mask), "a default is not ours")
	assert.Empty(t, Drift(b, answer(t, both, "", `{"replicas":2.0,"paused":false}`), mask), "2 and 2.0 are the same number")

	got := Drift(b, answer(t, `{"f:spec":{"f:paused":{}}}`, `{"f:spec":{"f:replicas":{}}}`, `{"replicas":5,"paused":false}`), mask)
	assert.Equal(t, []Difference{{Path: "spec.replicas", Change: Changed, From: int64(2), To: int64(5), Who: "hurry", When: applied.Add(5 * time.Minute)}}, got)

	gone := Drift(b, answer(t, `{"f:spec":{"f:paused":{}}}`, `{"f:spec":{"f:strategy":{}}}`, `{"paused":false}`), mask)
	require.Len(t, gone, 1)
	assert.Equal(t, Removed, gone[0].Change)
	assert.Equal(t, "hurry", gone[0].Who)
	assert.True(t, gone[0].Likely, "nobody owns a field that is gone")
}

func TestLeftFieldsAreNoDrift(t *testing.T) {
	p, err := object.ParsePointer("/spec/replicas")
	require.NoError(t, err)
	set := `{"f:spec":{"f:replicas":{},"f:paused":{}}}`
	b := NewBaseline(ref, "h", answer(t, set, "", `{"replicas":2,"paused":false}`), []object.Pointer{p}, mask, applied)
	assert.Empty(t, Drift(b, answer(t, `{"f:spec":{"f:paused":{}}}`, `{"f:spec":{"f:replicas":{}}}`, `{"replicas":5,"paused":false}`), mask))
}

func TestSecretsAreMasked(t *testing.T) {
	secret := object.Ref{Kind: "Secret", Name: "s"}
	fields := mask.Fields(secret, []object.Field{{Path: "data.password", Value: "aHVudGVyMg=="}, {Path: "metadata.labels.a", Value: "b"}})
	assert.Equal(t, `secret #"`, fields[0].Value)
	assert.Equal(t, "b", fields[1].Value)
}

func TestPreviewLeavesOutWhatNobodyDeclares(t *testing.T) {
	live := answer(t, `{"f:spec":{"f:replicas":{}}}`, "", `{"replicas":2,"paused":false}`)
	next := answer(t, `{"f:spec":{"f:replicas":{}}}`, "", `{"replicas":3,"paused":false}`)
	next["metadata"].(map[string]any)["resourceVersion"] = "9"
	next["status"] = map[string]any{"x": int64(1)}
	assert.Equal(t, []Difference{{Path: "spec.replicas", Change: Changed, From: int64(2), To: int64(3)}}, Preview(ref, live, next, mask))
	created := Preview(ref, nil, next, mask)
	require.NotEmpty(t, created)
	assert.Equal(t, Added, created[0].Change)
}

func TestPending(t *testing.T) {
	a, b, c := object.Ref{Kind: "A", Name: "a"}, object.Ref{Kind: "B", Name: "b"}, object.Ref{Kind: "C", Name: "c"}
	apply, remove := Pending([]Item{{a, "1"}, {b, "1"}}, map[object.Ref]Baseline{a: {Ref: a, Declared: "1"}, b: {Ref: b, Declared: "0"}, c: {Ref: c, Declared: "1"}})
	assert.Equal(t, []object.Ref{b}, apply)
	assert.Equal(t, []object.Ref{c}, remove)
	apply, _ = Pending([]Item{{a, "1"}}, map[object.Ref]Baseline{a: {Ref: a, Declared: "1", Intent: 4}})
	assert.Equal(t, []object.Ref{a}, apply, "what a crash left in doubt is pending")
}

func TestStand(t *testing.T) {
	for _, c := range []struct {
		in   Input
		want Standing
	}{
		{Input{RepoKnown: true, ClusterKnown: true}, InStep},
		{Input{RepoKnown: true, ClusterKnown: true, Pending: 1}, Behind},
		{Input{RepoKnown: true, ClusterKnown: true, Pending: 1, Drifted: 1}, Drifted},
		{Input{RepoKnown: true, ClusterKnown: true, Drifted: 1, Contested: 1}, Contested},
		{Input{RepoKnown: false, ClusterKnown: true}, Blind},
		{Input{RepoKnown: true, ClusterKnown: false, Drifted: 2}, Blind},
	} {
		assert.Equal(t, c.want, Stand(c.in), "%+v", c.in)
	}
}

func TestContest(t *testing.T) {
	var c Contests
	at := applied
	for i := range 3 {
		assert.False(t, c.Contested(ref, "spec.replicas", "hurry"), i)
		c.Restored(ref, "spec.replicas", "hurry", at)
		at = at.Add(time.Minute)
	}
	assert.True(t, c.Contested(ref, "spec.replicas", "hurry"))
	assert.False(t, c.Contested(ref, "spec.replicas", "another"), "another client is no contest")
	assert.False(t, c.Contested(ref, "spec.paused", "hurry"))
	c.Forget(ref)
	assert.False(t, c.Contested(ref, "spec.replicas", "hurry"))
	for range 4 {
		c.Restored(ref, "spec.paused", "hurry", at)
		at = at.Add(6 * time.Minute)
	}
	assert.False(t, c.Contested(ref, "spec.paused", "hurry"), "three restores in more than ten minutes are no contest")
}

func TestHealthIsTheWorst(t *testing.T) {
	assert.Equal(t, health.Unknown, Health(nil).Word)
	assert.Equal(t, health.Failing, Health([]health.Result{{Word: health.Ready}, {Word: health.Failing}, {Word: health.Settling}}).Word)
}
