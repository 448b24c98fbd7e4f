package compare

import (
	"encoding/json"
	"fmt"
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
	b := NewBaseline(ref, "h", nil, answer(t, both, "", `{"replicas":2,"paused":false,"minReadySeconds":0}`), nil, mask, nil, applied)
	assert.Equal(t, int64(7), b.Revision)
	assert.Equal(t, "u", b.UID)

	assert.Empty(t, Drift(b, answer(t, both, "", `{"replicas":2,"paused":false,"minReadySeconds":9}`), mask), "a default is not ours")
	assert.Empty(t, Drift(b, answer(t, both, "", `{"replicas":2.0,"paused":false}`), mask), "2 and 2.0 are the same number")

	got := Drift(b, answer(t, `{"f:spec":{"f:paused":{}}}`, `{"f:spec":{"f:replicas":{}}}`, `{"replicas":5,"paused":false}`), mask)
	assert.Equal(t, []Difference{{Path: "spec.replicas", Pointer: "/spec/replicas", Change: Changed, From: int64(2), To: int64(5), Who: "hurry", When: applied.Add(5 * time.Minute)}}, got)

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
	b := NewBaseline(ref, "h", nil, answer(t, set, "", `{"replicas":2,"paused":false}`), []object.Pointer{p}, mask, nil, applied)
	assert.Empty(t, Drift(b, answer(t, `{"f:spec":{"f:paused":{}}}`, `{"f:spec":{"f:replicas":{}}}`, `{"replicas":5,"paused":false}`), mask))
}

func TestSecretsAreMasked(t *testing.T) {
	secret := object.Ref{Kind: "Secret", Name: "s"}
	fields := mask.Fields(secret, []object.Field{{Path: "data.password", Value: "aHVudGVyMg=="}, {Path: "metadata.labels.a", Value: "b"}})
	assert.Equal(t, `secret #"`, fields[0].Value)
	assert.Equal(t, "b", fields[1].Value)
}

// TestWhatLooksLikeASecretIsMasked in any object, and so are the fields that it says are secret: in a difference, and as a whole; another value is told
// as another.
func TestWhatLooksLikeASecretIsMasked(t *testing.T) {
	keyed := Mask(func(v string) string { return object.Hash(v)[:6] })
	body := func(password, key string) map[string]any {
		return map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": "gate", "annotations": map[string]any{object.SecretFieldsAnnotation: "/spec/apiKey, /data/plan", lastApplied: `{"data":{"password":"` + password + `"}}`}},
			"data": map[string]any{"app.properties": "mode=night\npassword=" + password + "\n", "plan": "north pier"},
			"spec": map[string]any{"apiKey": map[string]any{"one": key}, "env": []any{map[string]any{"name": "DB_PASSWORD", "value": password}, map[string]any{"name": "USER", "value": "gate"}}}}
	}
	hidden := func(text string) {
		for _, word := range []string{"Xk29vmQ8plfe", "Zk31wnR7qmgd", "short", "longer", "north pier"} {
			assert.NotContains(t, text, word)
		}
	}
	old, now := body("Xk29vmQ8plfe", "short"), body("Zk31wnR7qmgd", "longer")
	diffs := Preview(ref, old, now, keyed)
	var paths []string
	for _, d := range diffs {
		paths = append(paths, d.Path)
		hidden(fmt.Sprint(d.From, d.To))
		assert.NotEqual(t, d.From, d.To)
	}
	assert.Equal(t, []string{"data[app.properties]", "metadata.annotations[" + lastApplied + "]", "spec.apiKey.one", "spec.env[name=DB_PASSWORD].value"}, paths)
	assert.Regexp(t, `^mode=night\npassword=secret [0-9a-f]{6}\n$`, diffs[0].From)

	shown := keyed.Body(ref, now, nil)
	hidden(fmt.Sprint(shown))
	assert.Contains(t, fmt.Sprint(shown), "mode=night")
	assert.NotContains(t, fmt.Sprint(shown), lastApplied, "it repeats the values")
	assert.Equal(t, "Zk31wnR7qmgd", now["spec"].(map[string]any)["env"].([]any)[0].(map[string]any)["value"], "the body itself stays")

	// Whoever takes the annotation away from the live object shows nothing by that.
	bared := body("Zk31wnR7qmgd", "longer")
	delete(bared["metadata"].(map[string]any), "annotations")
	for _, d := range Preview(ref, bared, old, keyed) {
		if d.Path != "metadata.annotations["+object.SecretFieldsAnnotation+"]" {
			hidden(fmt.Sprint(d.From, d.To))
		}
	}
	hidden(fmt.Sprint(keyed.Body(ref, bared, old)))
	moved := Declared([]object.Object{{Ref: ref, Body: old}}, []object.Object{{Ref: ref, Body: now}}, keyed)
	hidden(fmt.Sprint(moved))
	require.Len(t, moved, 1)
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

// TestEveryShapeOfField holds each shape that managedFields can have: what we applied, what is there now, and what
// is said to have changed. The same shapes are tried on a real API server in the end-to-end tests.
func TestEveryShapeOfField(t *testing.T) {
	for name, c := range map[string]struct{ owned, from, to, want string }{
		"a map, key by key":            {`{"f:m":{"f:a":{},"f:b":{}}}`, `{"m":{"a":"1","b":"2"}}`, `{"m":{"a":"1","b":"3","c":"4"}}`, "spec.m.b 2→3"},
		"a field that is gone":         {`{"f:m":{"f:a":{}}}`, `{"m":{"a":"1"}}`, `{"m":{}}`, "spec.m.a 1→-"},
		"items by name, in any order":  {`{"f:c":{"k:{\"name\":\"x\"}":{"f:image":{}},"k:{\"name\":\"y\"}":{"f:image":{}}}}`, `{"c":[{"name":"x","image":"1"},{"name":"y","image":"2"}]}`, `{"c":[{"name":"z"},{"name":"y","image":"2"},{"name":"x","image":"9"}]}`, "spec.c[name=x].image 1→9"},
		"an item that is gone":         {`{"f:c":{"k:{\"name\":\"x\"}":{".":{},"f:name":{}}}}`, `{"c":[{"name":"x"}]}`, `{"c":[]}`, "spec.c[name=x].name x→-"},
		"ports by port and protocol":   {`{"f:ports":{"k:{\"port\":53,\"protocol\":\"UDP\"}":{"f:targetPort":{}}}}`, `{"ports":[{"port":53,"protocol":"TCP","targetPort":1},{"port":53,"protocol":"UDP","targetPort":2}]}`, `{"ports":[{"port":53,"protocol":"UDP","targetPort":3},{"port":53,"protocol":"TCP","targetPort":9}]}`, "spec.ports[port=53,protocol=UDP].targetPort 2→3"},
		"a variable":                   {`{"f:env":{"k:{\"name\":\"A\"}":{"f:value":{}}}}`, `{"env":[{"name":"A","value":"1"}]}`, `{"env":[{"name":"B","value":"1"},{"name":"A","value":"2"}]}`, "spec.env[name=A].value 1→2"},
		"a set":                        {`{"f:s":{"v:\"a\"":{},"v:\"b\"":{}}}`, `{"s":["a","b"]}`, `{"s":["c","b"]}`, "spec.s[a] a→-"},
		"a set of numbers":             {`{"f:s":{"v:1":{}}}`, `{"s":[1]}`, `{"s":[2,1.0]}`, ""},
		"an atomic list, as a whole":   {`{"f:args":{}}`, `{"args":["a","b"]}`, `{"args":["b","a"]}`, `spec.args ["a","b"]→["b","a"]`},
		"an atomic map, as a whole":    {`{"f:sel":{}}`, `{"sel":{"a":"1"}}`, `{"sel":{"a":"1","b":"2"}}`, `spec.sel {"a":"1"}→{"a":"1","b":"2"}`},
		"lists in lists, without keys": {`{"f:grid":{}}`, `{"grid":[[1,2],[3]]}`, `{"grid":[[1,2],[4]]}`, "spec.grid [[1,2],[3]]→[[1,2],[4]]"},
		"null is no absence":           {`{"f:n":{}}`, `{"n":null}`, `{}`, "spec.n null→-"},
		"null stays null":              {`{"f:n":{}}`, `{"n":null}`, `{"n":null,"m":1}`, ""},
		"1 and 1.0":                    {`{"f:n":{}}`, `{"n":1}`, `{"n":1.0}`, ""},
		"1 and a text":                 {`{"f:n":{}}`, `{"n":1}`, `{"n":"1"}`, "spec.n 1→1"},
		"a quantity as it was kept":    {`{"f:cpu":{}}`, `{"cpu":"1"}`, `{"cpu":"1"}`, ""},
		"an empty map that was filled": {`{"f:e":{}}`, `{"e":{}}`, `{"e":{"x":1}}`, ""},
		"an empty map that is gone":    {`{"f:e":{}}`, `{"e":{}}`, `{}`, "spec.e {}→-"},
		"what we don't own":            {`{"f:a":{}}`, `{"a":1,"b":1}`, `{"a":1,"b":2}`, ""},
	} {
		t.Run(name, func(t *testing.T) {
			set := `{"f:spec":` + c.owned + `}`
			b := NewBaseline(ref, "h", nil, answer(t, set, "", c.from), nil, mask, nil, applied)
			got := []string{}
			for _, d := range Drift(b, answer(t, set, "", c.to), mask) {
				text := func(v any) string {
					if s, ok := v.(string); ok {
						return s
					}
					raw, _ := json.Marshal(v)
					return string(raw)
				}
				to := text(d.To)
				if d.Change == Removed {
					to = "-"
				}
				got = append(got, d.Path+" "+text(d.From)+"→"+to)
			}
			assert.Equal(t, c.want, strings.Join(got, "; "))
		})
	}
}

func TestAnObjectMadeAgainByAnother(t *testing.T) {
	set := `{"f:spec":{"f:replicas":{}}}`
	b := NewBaseline(ref, "h", nil, answer(t, set, "", `{"replicas":2}`), nil, mask, nil, applied)
	other := answer(t, `{}`, `{"f:spec":{"f:replicas":{}}}`, `{"replicas":2}`)
	meta := other["metadata"].(map[string]any)
	meta["uid"], meta["creationTimestamp"] = "v", "2026-11-23T06:04:00Z"
	meta["managedFields"] = meta["managedFields"].([]any)[1:]
	assert.Equal(t, []Difference{{Change: Remade, Who: "hurry", When: applied.Add(4 * time.Minute)}}, Drift(b, other, mask), "even with the same values it is not the one we made")
	assert.Empty(t, Additions(b, other, nil, mask), "of an object that is not ours nothing is an addition")
}

func TestAdditionsSayWhoAndWhenAndHideSecrets(t *testing.T) {
	ours, theirs := `{"f:data":{"f:a":{}}}`, `{"f:data":{"f:b":{}},"f:metadata":{"f:annotations":{"f:kubectl.kubernetes.io/last-applied-configuration":{}},"f:labels":{"f:tier":{}}}}`
	secret := object.Ref{Kind: "Secret", Namespace: "n", Name: "d"}
	b := NewBaseline(secret, "h", nil, answer(t, ours, "", `{}`), nil, mask, nil, applied)
	now := answer(t, ours, theirs, `{}`)
	now["data"] = map[string]any{"a": "x", "b": "cGFzc3dvcmQ="}
	meta := now["metadata"].(map[string]any)
	meta["annotations"] = map[string]any{"kubectl.kubernetes.io/last-applied-configuration": `{"data":{"b":"cGFzc3dvcmQ="}}`}
	meta["labels"] = map[string]any{"tier": "dock"}
	got := Additions(b, now, nil, mask)
	require.Len(t, got, 3)
	assert.Equal(t, Difference{Path: "data.b", Pointer: "/data/b", Change: Added, To: `secret #"`, Who: "hurry", When: applied.Add(5 * time.Minute)}, got[0])
	assert.Equal(t, "metadata.annotations[kubectl.kubernetes.io/last-applied-configuration]", got[1].Path)
	assert.Equal(t, `secret #"`, got[1].To, "the annotation repeats the values")
	assert.Equal(t, "dock", got[2].To)
	p, err := object.ParsePointer("/metadata")
	require.NoError(t, err)
	assert.Len(t, Additions(b, now, []object.Pointer{p}, mask), 1, "what is left to others is no addition")
}

func TestTwoEntriesFieldByField(t *testing.T) {
	parse := func(text string) []object.Object {
		all, err := object.Parse("x.yaml", []byte(text))
		require.NoError(t, err)
		return all
	}
	from := parse("{apiVersion: v1, kind: ConfigMap, metadata: {name: a}, data: {x: '1', w: '2'}}\n---\n{apiVersion: v1, kind: Secret, metadata: {name: s}, data: {p: b2xk}}\n---\n{apiVersion: v1, kind: Service, metadata: {name: gone}}\n---\n{apiVersion: v1, kind: Service, metadata: {name: same}}")
	to := parse("{apiVersion: v1, kind: ConfigMap, metadata: {name: a}, data: {x: '1', w: '3', z: '4'}}\n---\n{apiVersion: v1, kind: Secret, metadata: {name: s}, data: {p: bmV3}}\n---\n{apiVersion: v1, kind: Service, metadata: {name: same}}\n---\n{apiVersion: v1, kind: Service, metadata: {name: made}}")
	hidden := Mask(func(v string) string { return "#" + strings.Repeat("*", len(v)) + v[len(v)-2:len(v)-1] })
	got := Declared(from, to, hidden)
	require.Len(t, got, 4)
	assert.Equal(t, Moved{Ref: object.Ref{Kind: "ConfigMap", Name: "a"}, Change: Changed, Fields: []Difference{
		{Path: "data.w", Change: Changed, From: "2", To: "3"}, {Path: "data.z", Change: Added, To: "4"}}}, got[0])
	assert.Equal(t, "data.p", got[1].Fields[0].Path)
	assert.NotContains(t, fmt.Sprint(got[1]), "bmV3")
	assert.Equal(t, []Change{Removed, Added}, []Change{got[2].Change, got[3].Change})
	assert.Empty(t, Declared(from, from, hidden))
	versions := Declared(parse("{apiVersion: x.example/v1, kind: Berth, metadata: {name: a}}"), parse("{apiVersion: x.example/v2, kind: Berth, metadata: {name: a}}"), hidden)
	require.Len(t, versions, 1)
	assert.Equal(t, "apiVersion", versions[0].Fields[0].Path, "the same object in another version is one object")
}

func TestRestoresArePutOffMoreAndMore(t *testing.T) {
	var c Contests
	assert.True(t, c.Wait(ref, "spec.x", "hurry", applied).IsZero(), "the first is at once")
	c.Restored(ref, "spec.x", "hurry", applied)
	assert.Equal(t, applied.Add(2*time.Second), c.Wait(ref, "spec.x", "hurry", applied.Add(time.Second)))
	c.Restored(ref, "spec.x", "hurry", applied.Add(3*time.Second))
	assert.Equal(t, applied.Add(7*time.Second), c.Wait(ref, "spec.x", "hurry", applied.Add(4*time.Second)))
	assert.True(t, c.Wait(ref, "spec.x", "other", applied).IsZero())
	assert.True(t, c.Wait(ref, "spec.x", "hurry", applied.Add(time.Hour)).IsZero(), "an hour later it is the first again")
}

func TestAContestNeedsAClockThatGoesForward(t *testing.T) {
	var c Contests
	now := applied.Add(time.Hour)
	for range 2 { // noted by a clock that was two hours ahead, and set back since
		c.Restored(ref, "spec.replicas", "hurry", now.Add(2*time.Hour))
	}
	assert.True(t, c.Wait(ref, "spec.replicas", "hurry", now).IsZero(), "what lies ahead puts nothing off")
	c.Restored(ref, "spec.replicas", "hurry", now)
	assert.False(t, c.Contested(ref, "spec.replicas", "hurry"), "and proves no quarrel")
	assert.Equal(t, now.Add(2*time.Second), c.Wait(ref, "spec.replicas", "hurry", now))
}
