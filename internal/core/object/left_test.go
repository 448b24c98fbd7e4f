package object

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
)

// TestEveryDocumentIsRead: n documents with any legal separator come back as n, or what is left over is refused.
func TestEveryDocumentIsRead(t *testing.T) {
	one := func(i int) string {
		return fmt.Sprintf("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: c%d}\ndata:\n  text: |\n    a\n    --- b\n", i)
	}
	flow := func(i int) string {
		return fmt.Sprintf("{apiVersion: v1, kind: ConfigMap, metadata: {name: c%d}}\n", i)
	}
	for name, c := range map[string]struct {
		mark string
		doc  func(int) string
	}{
		"plain": {"---\n", one}, "with words": {"---  # words\n", one}, "with a tab": {"---\t# words\n", one}, "after an end": {"...\n---\n", one}, "an end alone": {"...\n", one},
		"an end with words": {"... # end\n", one}, "empty ones between": {"---\n# nothing\n---\n\n---\n", one}, "on the same line": {"--- ", flow}, "a tag": {"--- !!map\n", one},
		"a directive": {"...\n%YAML 1.1\n---\n", one}, "blanks behind": {"---   \n", one},
	} {
		for _, breaks := range []string{"\n", "\r\n", "\r"} {
			for n := 1; n <= 4; n++ {
				text := ""
				for i := range n {
					if i > 0 || strings.HasPrefix(c.mark, "---") {
						text += c.mark
					}
					text += c.doc(i)
				}
				objects, err := Parse("a.yaml", []byte(strings.ReplaceAll(text, "\n", breaks)))
				require.NoError(t, err, "%s, %q\n%s", name, breaks, text)
				require.Len(t, objects, n, "%s, %q\n%s", name, breaks, text)
				for i, o := range objects {
					assert.Equal(t, fmt.Sprintf("c%d", i), o.Ref.Name)
				}
			}
		}
	}
	jsonText := `{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"a"}}`
	objects, err := Parse("a.json", []byte(jsonText+"\n"+strings.Replace(jsonText, `"a"`, `"b"`, 1)))
	require.NoError(t, err)
	require.Len(t, objects, 2, "JSON texts one after the other")
	assert.Equal(t, 2, objects[1].Line)
	for name, text := range map[string]string{
		"YAML behind JSON":       jsonText + "\nkind: A\n",
		"less indented":          "  apiVersion: v1\n  kind: ConfigMap\n  metadata: {name: a}\nkind: Secret\n",
		"a flow mapping, twice":  "{apiVersion: v1, kind: A, metadata: {name: a}}\n{apiVersion: v1, kind: A, metadata: {name: b}}\n",
		"an odd line separator":  "apiVersion: v1\nkind: A\nmetadata: {name: a}\u2028---\nkind: B\n",
		"another, behind a list": "[]\n{}\n",
	} {
		_, err := Parse("f.yaml", []byte(text))
		var at *SyntaxError
		require.ErrorAs(t, err, &at, name)
	}
	_, err = DecodeFile("values.yaml", []byte("a: 1\n---\nb: 2\n"))
	require.ErrorContains(t, err, "values.yaml:3: this file is to hold one document, and holds 2")
	nested, err := Parse("l.yaml", []byte("apiVersion: v1\nkind: List\nitems:\n- {apiVersion: v1, kind: List, items: [{apiVersion: v1, kind: A, metadata: {name: a}}]}\n"))
	require.NoError(t, err)
	assert.Len(t, nested, 1, "a List in a List")
}

// FuzzKey: every legal name, and every illegal one, is read back as it was.
func FuzzKey(f *testing.F) {
	f.Add("rbac.authorization.k8s.io", "ClusterRole", "", "system:a|b%7C")
	f.Add("g|", "K%", "n|n", "|||")
	f.Fuzz(func(t *testing.T, group, kind, namespace, name string) {
		r := Ref{Group: group, Kind: kind, Namespace: namespace, Name: name}
		back, err := ParseKey(r.Key())
		require.NoError(t, err)
		require.Equal(t, r, back)
	})
}

func pointers(t *testing.T, texts ...string) (out []Pointer) {
	t.Helper()
	for _, s := range texts {
		p, err := ParsePointer(s)
		require.NoError(t, err)
		out = append(out, p)
	}
	return out
}

// owned is a live ConfigMap-like body whose fields are shared out between us and another client.
func owned(t *testing.T, ours, theirs, rest string) map[string]any {
	t.Helper()
	return body(t, `{"apiVersion":"v1","kind":"A","metadata":{"name":"a","managedFields":[{"manager":"vigila","operation":"Apply","fieldsV1":`+ours+`},{"manager":"other","operation":"Update","fieldsV1":`+theirs+`}]},`+rest+`}`)
}

// TestLeavingIsDecidedLeafByLeaf: at every level of nesting, with another owner at one leaf.
func TestLeavingIsDecidedLeafByLeaf(t *testing.T) {
	for name, c := range map[string]struct{ leave, declared, live, ours, theirs, want string }{
		"a container: ours alone keeps its live value, theirs goes": {"/data", `"data":{"a":"1","b":"2"}`, `"data":{"a":"9","b":"8"}`, `{"f:data":{"f:a":{}}}`, `{"f:data":{"f:b":{}}}`, `{"data":{"a":"9"}}`},
		"a container: theirs all of it":                             {"/data", `"data":{"b":"2"}`, `"data":{"b":"8"}`, `{}`, `{"f:data":{"f:b":{}}}`, `{}`},
		"ours, and not declared any more":                           {"/data", `"x":1`, `"data":{"a":"9"}`, `{"f:data":{"f:a":{}}}`, `{}`, `{"data":{"a":"9"},"x":1}`},
		"a default that nobody owns does not become ours":           {"/spec/strategy", `"spec":{"strategy":{"type":"R"},"n":1}`, `"spec":{"strategy":{"type":"R"},"n":1}`, `{"f:spec":{"f:n":{}}}`, `{}`, `{"spec":{"n":1}}`},
		"owned by both: given up":                                   {"/spec/n", `"spec":{"n":2,"m":1}`, `"spec":{"n":5,"m":1}`, `{"f:spec":{"f:n":{},"f:m":{}}}`, `{"f:spec":{"f:n":{}}}`, `{"spec":{"m":1}}`},
		"an item of a list, by another key than the list's": {"/ports[name=http]", `"ports":[{"port":80,"name":"http","at":1},{"port":443,"name":"https","at":1}]`, `"ports":[{"port":80,"name":"http","at":7},{"port":443,"name":"https","at":1}]`,
			`{"f:ports":{"k:{\"port\":80}":{".":{},"f:port":{},"f:name":{},"f:at":{}},"k:{\"port\":443}":{".":{},"f:port":{},"f:name":{},"f:at":{}}}}`, `{}`, `{"ports":[{"port":80,"name":"http","at":7},{"port":443,"name":"https","at":1}]}`},
		"an item of a list, theirs in one field": {"/ports[name=http]", `"ports":[{"port":80,"name":"http","at":1}]`, `"ports":[{"port":80,"name":"http","at":7}]`,
			`{"f:ports":{"k:{\"port\":80}":{".":{},"f:port":{},"f:name":{}}}}`, `{"f:ports":{"k:{\"port\":80}":{"f:at":{}}}}`, `{"ports":[{"port":80,"name":"http"}]}`},
		"an item of a list, theirs altogether": {"/ports[port=80]", `"ports":[{"port":80,"at":1},{"port":443}]`, `"ports":[{"port":80,"at":7},{"port":443}]`,
			`{"f:ports":{"k:{\"port\":443}":{".":{},"f:port":{}}}}`, `{"f:ports":{"k:{\"port\":80}":{".":{},"f:port":{},"f:at":{}}}}`, `{"ports":[{"port":443}]}`},
		"an item of a set": {"/s[=x]", `"s":["x","y"]`, `"s":["x","y"]`, `{"f:s":{"v:\"y\"":{}}}`, `{"f:s":{"v:\"x\"":{}}}`, `{"s":["y"]}`},
	} {
		t.Run(name, func(t *testing.T) {
			l := owned(t, c.ours, c.theirs, c.live)
			d := body(t, `{"apiVersion":"v1","kind":"A","metadata":{"name":"a"},`+c.declared+`}`)
			got := Complete(d, l, pointers(t, c.leave))
			delete(got, "apiVersion")
			delete(got, "kind")
			delete(got, "metadata")
			want := body(t, `{"apiVersion":"v1","kind":"A","metadata":{"name":"a"},"w":`+c.want+`}`)["w"]
			assert.Equal(t, Hash(want), Hash(got), "%v", got)
		})
	}
	l := owned(t, `{"f:spec":{"f:n":{}}}`, `{"f:spec":{"f:replicas":{}}}`, `"spec":{"n":1,"replicas":7}`)
	d := body(t, `{"apiVersion":"v1","kind":"A","metadata":{"name":"a"},"spec":{"n":2,"replicas":2}}`)
	assert.EqualValues(t, 7, Carry(d, l, pointers(t, "/spec/replicas"))["spec"].(map[string]any)["replicas"], "made again, it is as somebody else had it")
	assert.EqualValues(t, 2, d["spec"].(map[string]any)["replicas"], "what is declared is not changed")
}

func TestAnItemIsLeftByAnyOfItsFields(t *testing.T) {
	b := body(t, `{"apiVersion":"v1","kind":"A","metadata":{"name":"a"},"ports":[{"port":80,"protocol":"TCP","name":"http"},{"port":443,"protocol":"TCP","name":"https"}]}`)
	leave := pointers(t, "/ports[name=http]")[0]
	at := func(port int) fieldpath.Path {
		return fieldpath.MakePathOrDie("ports", fieldpath.KeyByFields("port", port, "protocol", "TCP"), "targetPort")
	}
	assert.True(t, leave.Covers(at(80), In(b)))
	assert.False(t, leave.Covers(at(443), In(b)), "not every item")
	assert.False(t, leave.Covers(at(8080), In(b)), "nor one that is not there")
	fields := []Field{{Path: "ports[port=80,protocol=TCP].name", Value: "http"}}
	assert.True(t, leave.Covers(at(80), InFields(fields)), "also of a baseline")
	assert.False(t, leave.Covers(at(443), InFields(fields)))
}

// TestAnEmptyContainerIsOursEmpty: what the API server fills in and others set in it is theirs.
func TestAnEmptyContainerIsOursEmpty(t *testing.T) {
	sent := body(t, `{"apiVersion":"v1","kind":"A","metadata":{"name":"a"},"spec":{"strategy":{}}}`)
	answer := owned(t, `{"f:spec":{"f:strategy":{}}}`, `{}`, `"spec":{"strategy":{"type":"RollingUpdate","maxSurge":"25%"}}`)
	set := Owned(answer, sent)
	assert.True(t, set.Shells["spec.strategy"])
	before := Hash(set.Project(answer))
	changed := owned(t, `{"f:spec":{"f:strategy":{}}}`, `{"f:spec":{"f:strategy":{"f:maxSurge":{}}}}`, `"spec":{"strategy":{"type":"RollingUpdate","maxSurge":"50%"}}`)
	assert.Equal(t, before, Hash(set.Project(changed)), "no drift")
	assert.Len(t, set.Additions(changed, nil), 1, "but an addition")
	assert.NotEqual(t, before, Hash(set.Project(owned(t, `{}`, `{}`, `"spec":{}`))), "that it is there is ours")
}

func TestARestartIsNoAddition(t *testing.T) {
	b := owned(t, `{"f:spec":{"f:n":{}}}`, `{"f:spec":{"f:template":{"f:metadata":{"f:annotations":{"f:kubectl.kubernetes.io/restartedAt":{},"f:x":{}}}}}}`,
		`"spec":{"n":1,"template":{"metadata":{"annotations":{"kubectl.kubernetes.io/restartedAt":"2026-11-25T06:00:00Z","x":"1"}}}}`)
	added := Owned(b, nil).Additions(b, nil)
	require.Len(t, added, 1, "taking it away would restart again")
	assert.Equal(t, "spec.template.metadata.annotations.x", PathString(added[0].Path))
	r := RestartOf(b)
	require.NotNil(t, r)
	assert.Equal(t, "other", r.Who)
	assert.Equal(t, 6, r.When.Hour())
}

// TestAnAdoptionLeavesWhatIsLeft: the fields of a predecessor that are left to others stay its own.
func TestAnAdoptionLeavesWhatIsLeft(t *testing.T) {
	b := body(t, `{"apiVersion":"v1","kind":"A","metadata":{"name":"a","resourceVersion":"3","managedFields":[{"manager":"kubectl-client-side-apply","operation":"Update","fieldsV1":{"f:data":{"f:a":{},"f:b":{}}}}]},"data":{"a":"1","b":"2"}}`)
	leave := pointers(t, "/data/a")
	ops, err := TakeOver(b, Predecessors(b, nil), leave)
	require.NoError(t, err)
	entries := ops[1].Value.([]any)
	require.Len(t, entries, 2)
	assert.Equal(t, "kubectl-client-side-apply", entries[0].(map[string]any)["manager"])
	assert.Contains(t, fmt.Sprint(entries[0].(map[string]any)["fieldsV1"]), fmt.Sprint([]byte(`{"f:data":{"f:a":{}}}`)))
	dropped := Dropped(b, Predecessors(b, nil), FieldSet{Set: &fieldpath.Set{}}, leave)
	require.Len(t, dropped, 1)
	assert.Equal(t, "data.b", PathString(dropped[0]))
	refilled := Refill(b, map[string]any{"data": map[string]any{"b": "default"}}, dropped)
	assert.Equal(t, map[string]any{"a": "1", "b": "default"}, refilled["data"], "what the API server fills in again is told as that")
}

func TestAMarkIsVigilasOwnOrACopy(t *testing.T) {
	marked := func(manager, operation string) map[string]any {
		return map[string]any{"metadata": map[string]any{"labels": map[string]any{WardLabel: "berths"}, "managedFields": []any{map[string]any{"manager": manager, "operation": operation, "apiVersion": "v1",
			"fieldsType": "FieldsV1", "fieldsV1": map[string]any{"f:metadata": map[string]any{"f:labels": map[string]any{"f:" + WardLabel: map[string]any{}}}}}}}}
	}
	is := func(body map[string]any, ward string) bool {
		_, yes := Marked(body, ward)
		return yes
	}
	assert.True(t, is(marked(Manager, "Apply"), "berths"))
	assert.False(t, is(marked(Manager, "Apply"), "another"))
	assert.False(t, is(marked("kubectl-create", "Update"), "berths"), "somebody copied it, label and all")
	assert.False(t, is(map[string]any{}, "berths"))
}
