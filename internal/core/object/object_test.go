package object

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
)

func TestParseReadsStreamsListsAndJSON(t *testing.T) {
	objects, err := Parse("a.yaml", []byte(`# comment
---
apiVersion: v1
kind: ConfigMap
metadata: {name: one, namespace: quay}
---
# only a comment
---

apiVersion: v1
kind: List
items:
  - {apiVersion: apps/v1, kind: Deployment, metadata: {name: two}}
  - {apiVersion: v1, kind: Service, metadata: {name: three}}
`))
	require.NoError(t, err)
	require.Len(t, objects, 3)
	assert.Equal(t, Ref{Kind: "ConfigMap", Namespace: "quay", Name: "one"}, objects[0].Ref)
	assert.Equal(t, "a.yaml:3", objects[0].At())
	assert.Equal(t, Ref{Group: "apps", Kind: "Deployment", Name: "two"}, objects[1].Ref)
	assert.Equal(t, 10, objects[2].Line)

	objects, err = Parse("b.json", []byte(`{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"x"},"data":{"n":"1"}}`))
	require.NoError(t, err)
	require.Len(t, objects, 1)
}

func TestParseNamesThePlaceAndTheMend(t *testing.T) {
	for name, c := range map[string]struct{ in, want string }{
		"broken":        {"apiVersion: v1\nkind: ConfigMap\nmetadata:\n  name: a\n bad: [", "f.yaml:4: this is not valid YAML"},
		"not a text":    {"apiVersion: v1\nkind: Pod\nmetadata: {name: a, namespace: n}", "reads as false, not as a text; put it in quotes"},
		"second":        {"apiVersion: v1\nkind: A\nmetadata: {name: a}\n---\nkind: [", "f.yaml:5: this is not valid YAML"},
		"duplicate":     {"apiVersion: v1\nkind: A\nkind: B\nmetadata: {name: a}", `key "kind" already set`},
		"no kind":       {"a: 1", "f.yaml:1: it has no apiVersion or no kind"},
		"no name":       {"apiVersion: v1\nkind: Pod", "Pod has no metadata.name"},
		"generate name": {"apiVersion: v1\nkind: Job\nmetadata: {generateName: a-}", "needs metadata.name"},
		"not a mapping": {"- 1", "f.yaml:1: this document is not a mapping"},
		"bad step":      {"apiVersion: v1\nkind: A\nmetadata: {name: a, annotations: {vigila.dev/step: first}}", `must be a whole number in quotes`},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Parse("f.yaml", []byte(c.in))
			require.ErrorContains(t, err, c.want)
		})
	}
}

// live is a Deployment as an API server answers it: our fields, defaults, and another client's field.
const live = `{
 "apiVersion":"apps/v1","kind":"Deployment",
 "metadata":{"name":"d","labels":{"app":"d","example.com/tier":"x"},"managedFields":[
  {"manager":"vigila","operation":"Apply","time":"2026-11-23T06:00:00Z","fieldsV1":{
    "f:metadata":{"f:labels":{"f:app":{},"f:example.com/tier":{}}},
    "f:spec":{"f:replicas":{},"f:selector":{},"f:template":{"f:spec":{"f:containers":{"k:{\"name\":\"app\"}":{".":{},"f:name":{},"f:image":{},"f:args":{},"f:securityContext":{},
      "f:ports":{"k:{\"containerPort\":80,\"protocol\":\"TCP\"}":{".":{},"f:containerPort":{}}}}}}}}}},
  {"manager":"kubelet","operation":"Update","subresource":"status","time":"2026-11-23T06:00:01Z","fieldsV1":{"f:status":{"f:replicas":{}}}}]},
 "spec":{"replicas":2,"revisionHistoryLimit":10,"selector":{"matchLabels":{"app":"d"}},
  "template":{"spec":{"restartPolicy":"Always","containers":[{"name":"other"},{"name":"app","image":"i:1","args":["a","b"],"securityContext":{},"ports":[{"containerPort":80,"protocol":"TCP"}]}]}}},
 "status":{"replicas":2}}`

func body(t *testing.T, text string) map[string]any {
	t.Helper()
	objects, err := Parse("x.json", []byte(text))
	require.NoError(t, err)
	return objects[0].Body
}

func TestProjectReadsExactlyTheOwnedFields(t *testing.T) {
	b := body(t, live)
	owned := Owned(b, nil)
	paths := map[string]any{}
	for _, f := range owned.Project(b) {
		paths[f.Path] = f.Value
	}
	assert.Equal(t, map[string]any{
		"metadata.labels.app":                                     "d",
		"metadata.labels[example.com/tier]":                       "x",
		"spec.replicas":                                           int64(2),
		"spec.selector":                                           map[string]any{"matchLabels": map[string]any{"app": "d"}},
		"spec.template.spec.containers[name=app].name":            "app",
		"spec.template.spec.containers[name=app].image":           "i:1",
		"spec.template.spec.containers[name=app].args":            []any{"a", "b"},
		"spec.template.spec.containers[name=app].securityContext": map[string]any{},
		"spec.template.spec.containers[name=app].ports[containerPort=80,protocol=TCP].containerPort": int64(80),
	}, paths)
}

func TestProjectIgnoresWhatOthersAddAndStatus(t *testing.T) {
	b := body(t, live)
	owned := Owned(b, nil)
	before := Hash(owned.Project(b))
	spec := b["spec"].(map[string]any)
	b["status"] = map[string]any{"replicas": int64(9)}
	spec["revisionHistoryLimit"] = int64(3)
	app := spec["template"].(map[string]any)["spec"].(map[string]any)["containers"].([]any)[1].(map[string]any)
	app["env"] = []any{map[string]any{"name": "A", "value": "1"}}
	app["securityContext"] = map[string]any{"runAsUser": int64(5)} // we left it empty: what is inside is theirs
	assert.Equal(t, before, Hash(owned.Project(b)))
	spec["replicas"] = int64(5)
	assert.NotEqual(t, before, Hash(owned.Project(b)))
}

func TestFieldSetSurvivesStorage(t *testing.T) {
	b := body(t, live)
	owned := Owned(b, nil)
	text, err := json.Marshal(owned)
	require.NoError(t, err)
	var back FieldSet
	require.NoError(t, json.Unmarshal(text, &back))
	assert.Equal(t, Hash(owned.Project(b)), Hash(back.Project(b)))
	assert.Equal(t, owned.Shells, back.Shells)
}

func TestAReplacedAtomicMapIsSeen(t *testing.T) {
	b := body(t, `{"apiVersion":"networking.k8s.io/v1","kind":"NetworkPolicy","metadata":{"name":"p","managedFields":[
	  {"manager":"vigila","operation":"Apply","fieldsV1":{"f:spec":{"f:podSelector":{}}}}]},"spec":{"podSelector":{}}}`)
	owned := Owned(b, nil)
	before := Hash(owned.Project(b))
	changed := body(t, `{"apiVersion":"networking.k8s.io/v1","kind":"NetworkPolicy","metadata":{"name":"p","managedFields":[
	  {"manager":"hurry","operation":"Update","fieldsV1":{"f:spec":{"f:podSelector":{}}}}]},"spec":{"podSelector":{"matchLabels":{"a":"b"}}}}`)
	assert.NotEqual(t, before, Hash(owned.Project(changed)))
}

func TestPointers(t *testing.T) {
	b := body(t, live)
	p, err := ParsePointer("/spec/template/spec/containers[name=app]/image")
	require.NoError(t, err)
	v, ok := p.Lookup(b)
	assert.True(t, ok)
	assert.Equal(t, "i:1", v)
	left := Owned(b, nil).Without([]Pointer{p}, In(b))
	for _, f := range left.Project(b) {
		assert.NotEqual(t, "spec.template.spec.containers[name=app].image", f.Path)
	}
	label, err := ParsePointer("/metadata/labels/example.com~1tier")
	require.NoError(t, err)
	v, _ = label.Lookup(b)
	assert.Equal(t, "x", v)
	for in, want := range map[string]string{"spec/replicas": "not a JSON pointer", "/": "not a JSON pointer", "/a[": "without its ]", "/a[x]/b": "key=value", "/a//b": "empty part"} {
		_, err := ParsePointer(in)
		assert.ErrorContains(t, err, want, in)
	}
}

func TestKeysAreReadBack(t *testing.T) {
	r := Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "d"}
	back, err := ParseKey(r.Key())
	require.NoError(t, err)
	assert.Equal(t, r, back)
	_, err = ParseKey("x")
	assert.Error(t, err)
}

func TestPointersAreReadBack(t *testing.T) {
	name := "app"
	for want, path := range map[string]fieldpath.Path{
		"/spec/replicas":                       fieldpath.MakePathOrDie("spec", "replicas"),
		"/metadata/labels/example.com~1tier":   fieldpath.MakePathOrDie("metadata", "labels", "example.com/tier"),
		"/spec/containers[name=app]/image":     fieldpath.MakePathOrDie("spec", "containers", fieldpath.KeyByFields("name", name), "image"),
		"/data/a.b":                            fieldpath.MakePathOrDie("data", "a.b"),
		"/metadata/finalizers[=example.com/x]": fieldpath.MakePathOrDie("metadata", "finalizers", valueOf("example.com/x")),
	} {
		assert.Equal(t, want, PointerTo(path))
		p, err := ParsePointer(want)
		require.NoError(t, err, want)
		assert.True(t, p.Covers(path, In(nil)), want)
	}
	assert.Empty(t, PointerTo(fieldpath.MakePathOrDie("spec", "args", 2)), "a place in a list is nobody's")
}
