package object

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTurns(t *testing.T) {
	read := func(notes string) (Turn, error) {
		o, err := FromBody(map[string]any{"apiVersion": "batch/v1", "kind": "Job", "metadata": map[string]any{"name": "migrate", "annotations": body(t,
			`{"apiVersion":"v1","kind":"X","metadata":{"name":"x"},"a":{`+notes+`}}`)["a"]}})
		require.NoError(t, err)
		return o.Turn()
	}
	for notes, want := range map[string]Turn{
		``:                       {Clean: CleanSuccess},
		`"vigila.dev/step":"-1"`: {Clean: CleanSuccess, Step: -1, Stepped: true},
		`"vigila.dev/task":"before","vigila.dev/task-clean":"never"`:  {Task: Before, Clean: CleanNever},
		`"vigila.dev/task":"failed","other.example/x":"y"`:            {Task: OnFail, Clean: CleanSuccess},
		`"vigila.dev/guard":"no-prune, no-replace"`:                   {Clean: CleanSuccess, NoPrune: true, NoReplace: true},
		`"vigila.dev/secret-fields":"/spec/a, /data/b"`:               {Clean: CleanSuccess},
		`"vigila.dev/replace":"when-immutable","vigila.dev/step":"2"`: {Clean: CleanSuccess, Replace: true, Step: 2, Stepped: true},
	} {
		got, err := read(notes)
		require.NoError(t, err, notes)
		assert.Equal(t, want, got, notes)
	}
	for notes, want := range map[string]string{
		`"vigila.dev/step":"first"`:           `vigila.dev/step of Job/migrate is "first"; it must be a whole number in quotes`,
		`"vigila.dev/step":1`:                 `vigila.dev/step of Job/migrate is "1"; the value of an annotation must be a text, in quotes`,
		`"vigila.dev/task":"pre"`:             `write before, after or failed`,
		`"vigila.dev/task-clean":"never"`:     `Job/migrate has vigila.dev/task-clean but no vigila.dev/task`,
		`"vigila.dev/guard":"no-prun"`:        `write no-prune, no-replace or both`,
		`"vigila.dev/secret-fields":"spec.a"`: `write pointers to fields, with commas between`,
		`"vigila.dev/replace":"true"`:         `write when-immutable`,
		`"vigila.dev/stpe":"1"`:               `has the annotation vigila.dev/stpe, which has no meaning; there are vigila.dev/step`,
	} {
		_, err := read(notes)
		assert.ErrorContains(t, err, want, notes)
	}
}

// crowded is an object of ours that others have added to.
const crowded = `{
 "apiVersion":"apps/v1","kind":"Deployment",
 "metadata":{"name":"d","resourceVersion":"7","finalizers":["x.example/f"],"annotations":{"note.example/why":"gale","keep":"1"},"labels":{"app":"d"},"managedFields":[
  {"manager":"vigila","operation":"Apply","time":"2026-11-23T06:00:00Z","fieldsV1":{"f:metadata":{"f:labels":{"f:app":{}}},
    "f:spec":{"f:replicas":{},"f:empty":{},"f:template":{"f:spec":{"f:containers":{"k:{\"name\":\"app\"}":{".":{},"f:name":{},"f:env":{"k:{\"name\":\"A\"}":{".":{},"f:name":{},"f:value":{}}}}}}}}}},
  {"manager":"vigila","operation":"Update","time":"2026-11-23T06:00:00Z","fieldsV1":{"f:spec":{"f:admitted":{}}}},
  {"manager":"kube-controller-manager","operation":"Update","time":"2026-11-23T06:00:01Z","fieldsV1":{"f:metadata":{"f:annotations":{"f:keep":{}}}}},
  {"manager":"tide-injector","operation":"Update","time":"2026-11-23T06:00:01Z","fieldsV1":{"f:spec":{"f:injected":{}}}},
  {"manager":"kubelet","operation":"Update","subresource":"status","time":"2026-11-23T06:00:01Z","fieldsV1":{"f:metadata":{"f:annotations":{"f:keep":{}}}}},
  {"manager":"hurry","operation":"Update","time":"2026-11-23T06:05:00Z","fieldsV1":{"f:metadata":{"f:finalizers":{"v:\"x.example/f\"":{}},"f:annotations":{".":{},"f:note.example/why":{}}},
    "f:spec":{"f:replicas":{},"f:empty":{"f:x":{}},"f:list":{},"f:template":{"f:spec":{"f:containers":{
      "k:{\"name\":\"side\"}":{".":{},"f:name":{},"f:image":{}},
      "k:{\"name\":\"app\"}":{"f:env":{"k:{\"name\":\"B\"}":{".":{},"f:name":{},"f:value":{}}},"f:resources":{"f:limits":{"f:cpu":{}}}}}}}}}}]},
 "spec":{"replicas":2,"admitted":true,"injected":1,"empty":{"x":1},"list":[1,2],
  "template":{"spec":{"containers":[{"name":"side","image":"s:1"},{"name":"app","env":[{"name":"A","value":"1"},{"name":"B","value":"2"}],"resources":{"limits":{"cpu":"1"}}}]}}}}`

func paths(as []Addition) (out []string) {
	for _, a := range as {
		out = append(out, PathString(a.Path))
	}
	return out
}

func TestAdditionsAreWhatOthersPutBesideOurs(t *testing.T) {
	b := body(t, crowded)
	got := Owned(b, nil).Additions(b, nil)
	assert.Equal(t, []string{
		"metadata.annotations[note.example/why]",
		"spec.empty.x", // we left it empty: what is inside is theirs
		"spec.list",    // an atomic list is one field
		"spec.template.spec.containers[name=app].env[name=B]", // a whole item, not each of its fields
		"spec.template.spec.containers[name=app].resources.limits.cpu",
		"spec.template.spec.containers[name=side]",
	}, paths(got), "not what is shared, nor what controllers, webhooks and admission do, nor finalizers")
	assert.Equal(t, "hurry", got[0].Owner.Manager)
	assert.Equal(t, "gale", got[0].Value)
	assert.Empty(t, Owned(b, nil).Additions(b, Others(b)), "what was there at the first apply is no addition")
}

func TestRemovalTakesAdditionsAndNothingElse(t *testing.T) {
	b := body(t, crowded)
	owned := Owned(b, nil)
	ops := owned.Removal(b, owned.Additions(b, nil))
	assert.Equal(t, Operation{Op: "replace", Path: "/metadata/resourceVersion", Value: "7"}, ops[0], "only while nobody wrote since")
	var gone []string
	for _, o := range ops[1:] {
		assert.Equal(t, "remove", o.Op)
		gone = append(gone, o.Path)
	}
	assert.Equal(t, []string{
		"/spec/template/spec/containers/1/resources", // empty without the limit, and not ours
		"/spec/template/spec/containers/1/env/1",
		"/spec/template/spec/containers/0", // after those of the items behind it
		"/spec/list",
		"/spec/empty/x", // the empty map is ours and stays
		"/metadata/annotations/note.example~1why",
	}, gone)
	assert.Empty(t, owned.Removal(body(t, live), owned.Additions(b, nil)), "what is gone already needs no patch")
}

func TestTakingOver(t *testing.T) {
	b := body(t, `{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"c","resourceVersion":"3","annotations":{"kubectl.kubernetes.io/last-applied-configuration":"{}"},"managedFields":[
	  {"manager":"kubectl-client-side-apply","operation":"Update","fieldsV1":{"f:data":{"f:a":{},"f:old":{}},"f:metadata":{"f:annotations":{"f:kubectl.kubernetes.io/last-applied-configuration":{}}}}},
	  {"manager":"old-tool","operation":"Apply","fieldsV1":{"f:data":{"f:older":{}}}},
	  {"manager":"kubectl-edit","operation":"Update","fieldsV1":{"f:data":{"f:by-hand":{}}}}]},
	  "data":{"a":"1","old":"2","older":"3","by-hand":"4"}}`)
	assert.Equal(t, []string{"kubectl-client-side-apply"}, Predecessors(b, nil), "a client-side apply is always taken over, a person's edit never")
	from := Predecessors(b, []string{"old-tool"})
	assert.Equal(t, []string{"kubectl-client-side-apply", "old-tool"}, from)

	ops, err := TakeOver(b, from, nil)
	require.NoError(t, err)
	require.Len(t, ops, 2)
	entries := ops[1].Value.([]any)
	require.Len(t, entries, 2, "the hand's own entry stays")
	assert.Equal(t, "kubectl-edit", entries[0].(map[string]any)["manager"])
	assert.Equal(t, Manager, entries[1].(map[string]any)["manager"])
	assert.Contains(t, string(entries[1].(map[string]any)["fieldsV1"].(json.RawMessage)), `"f:older"`)

	answer := body(t, `{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"c","managedFields":[{"manager":"vigila","operation":"Apply","fieldsV1":{"f:data":{"f:a":{}}}}]},"data":{"a":"1"}}`)
	var dropped []string
	for _, p := range Dropped(b, from, Owned(answer, nil), nil) {
		dropped = append(dropped, PathString(p))
	}
	assert.Equal(t, []string{"data.old", "data.older", "metadata.annotations[kubectl.kubernetes.io/last-applied-configuration]"}, dropped)
	assert.Equal(t, map[string]any{"a": "1", "by-hand": "4"}, Cut(b, Dropped(b, from, Owned(answer, nil), nil))["data"])

	nothing, err := TakeOver(body(t, live), nil, nil)
	require.NoError(t, err)
	assert.Empty(t, nothing)
}
