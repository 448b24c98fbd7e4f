package object

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	utiljson "k8s.io/apimachinery/pkg/util/json"
)

// FuzzParse: whatever stands in a manifest, it is an object or an error that names the place; what is read is read
// the same again.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"apiVersion: v1\nkind: ConfigMap\nmetadata: {name: horn}\ndata: {a: \"1\"}\n---\n# only a comment\n---\n{\"apiVersion\": \"v1\", \"kind\": \"A\", \"metadata\": {\"name\": \"b\"}}",
		"apiVersion: v1\nkind: List\nitems: [{apiVersion: v1, kind: A, metadata: {name: a}}, 7]", "a: &a [x]\nb: *a\n<<: *a", "metadata: {name: 1e3}\napiVersion: v1\nkind: A", "--- # x\n? [a]\n: b", "a: !!binary eA==\n",
		"apiVersion: v1\nkind: A\nmetadata: {name: a, annotations: {vigila.dev/step: \"99999999999999999999\"}}"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		objects, err := Parse("app/x.yaml", data)
		if err != nil {
			var at *SyntaxError
			require.ErrorAs(t, err, &at)
			require.Equal(t, "app/x.yaml", at.File)
			require.GreaterOrEqual(t, at.Line, 1)
			require.LessOrEqual(t, at.Line, bytes.Count(data, []byte("\n"))+1, "%v", err)
			require.NotEmpty(t, at.Text)
			return
		}
		for _, o := range objects {
			require.NotEmpty(t, o.Ref.Kind)
			require.NotEmpty(t, o.Ref.Name)
			text, err := json.Marshal(o.Body)
			require.NoError(t, err)
			again, err := Parse("again.json", text)
			require.NoError(t, err, "%s", text)
			require.Len(t, again, 1)
			require.Equal(t, Hash(o.Body), Hash(again[0].Body))
			back, err := ParseKey(o.Ref.Key())
			if !strings.Contains(o.Ref.Group+o.Ref.Kind+o.Ref.Namespace+o.Ref.Name, "|") {
				require.NoError(t, err)
				require.Equal(t, o.Ref, back)
			}
		}
	})
}

// FuzzProject: whatever a live object and its managedFields hold, what is ours of it is found, and is the same each time.
func FuzzProject(f *testing.F) {
	for _, s := range []string{`{"metadata":{"managedFields":[{"manager":"vigila","operation":"Apply","fieldsV1":{"f:spec":{"f:ports":{"k:{\"port\":80}":{".":{},"f:port":{}}},"f:list":{"v:\"a\"":{},"i:0":{}},"f:empty":{}}}}]},"spec":{"ports":[{"port":80}],"list":["a","b"],"empty":{}}}`,
		`{"metadata":{"managedFields":[{"manager":"vigila","operation":"Apply","fieldsV1":{"k:{":{},"v:":{},"":{},".":{},"f:":{}}},{"manager":7},null]}}`, `{"metadata":[]}`,
		`{"metadata":{"managedFields":[{"manager":"x","operation":"Update","time":"2026-11-23T06:00:00Z","fieldsV1":{"f:data":{"f:b":{}}}}]},"data":{"b":1.50}}`} {
		f.Add([]byte(s), "/spec/ports")
	}
	f.Fuzz(func(t *testing.T, data []byte, pointer string) {
		var body map[string]any
		if utiljson.Unmarshal(data, &body) != nil || body == nil {
			return
		}
		var leave []Pointer
		if p, err := ParsePointer(pointer); err == nil {
			leave = append(leave, p)
			p.Lookup(body)
		}
		owned := Owned(body, nil).Without(leave, In(body))
		first := owned.Project(body)
		require.Equal(t, first, owned.Project(Clone(body)))
		for i := 1; i < len(first); i++ {
			require.LessOrEqual(t, first[i-1].Path, first[i].Path)
		}
		require.Equal(t, ImprintOf(body, leave), ImprintOf(Clone(body), leave))
		require.Equal(t, ImprintOf(body, leave), ParseImprint(ImprintOf(body, leave).Text()))
		for _, a := range owned.Additions(body, nil) {
			require.NotEmpty(t, a.Path)
		}
		owned.Removal(body, owned.Additions(body, nil))
		Flatten(body, owned.Set)
		text, err := json.Marshal(owned)
		require.NoError(t, err)
		var back FieldSet
		require.NoError(t, json.Unmarshal(text, &back))
		require.True(t, owned.Set.Equals(back.Set), "%s", text)
	})
}

// TestHostileManifests: small files that would grow without bound are refused, at a bounded cost.
func TestHostileManifests(t *testing.T) {
	laughs := "a0: &a0 [x, x, x, x, x, x, x, x, x]\n"
	for i := 1; i < 12; i++ {
		laughs += fmt.Sprintf("a%d: &a%d [%s]\n", i, i, strings.Join([]string{strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 8), fmt.Sprintf("*a%d", i-1)}, ""))
	}
	for name, c := range map[string]struct{ text, want string }{
		"aliases of aliases":     {laughs, "aliases written out"},
		"aliases of a long text": {"big: &big " + strings.Repeat("x", 1<<20) + "\nall: [" + strings.Repeat("*big, ", 5000) + "*big]\n", "aliases"},
		"an alias of itself":     {"a: &a [*a]\n", "an alias holds itself"},
		"deep":                   {strings.Repeat("[", 5000) + strings.Repeat("]", 5000), "deep"},
		"deeper":                 {strings.Repeat("{a: ", 50_000) + strings.Repeat("}", 50_000), "x.yaml:1"},
		"deep by indent":         {deepByIndent(2000), "deep"},
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := Parse("x.yaml", []byte(c.text))
			runtime.ReadMemStats(&after)
			require.Error(t, err)
			assert.ErrorContains(t, err, c.want)
			assert.Less(t, len(err.Error()), 400, "an error is short, whatever the input")
			grown := after.TotalAlloc - before.TotalAlloc
			assert.Less(t, grown, uint64(256<<20), "memory is bounded")
			var at *SyntaxError
			assert.True(t, errors.As(err, &at))
		})
	}
	fine := "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a, labels: &l {app: a}}\nspec: {selector: *l, cron: \"*/5 * * * *\"}\n"
	objects, err := Parse("x.yaml", []byte(fine))
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"app": "a"}, objects[0].Body["spec"].(map[string]any)["selector"], "honest aliases are fine")
}

func deepByIndent(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return b.String()
}
