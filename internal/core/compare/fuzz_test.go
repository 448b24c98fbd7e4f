package compare

import (
	"testing"

	"github.com/stretchr/testify/require"
	utiljson "k8s.io/apimachinery/pkg/util/json"

	"vigila.dev/vigila/internal/core/object"
)

// FuzzDiffer: an imprint never hides anything. Of any two states of an object, when the imprint of the second says
// that nothing has moved since the first, the differ finds no drift and no addition either.
func FuzzDiffer(f *testing.F) {
	meta := `"metadata":{"name":"d","uid":"u","managedFields":[{"manager":"vigila","operation":"Apply","fieldsV1":`
	first := `{"apiVersion":"v1","kind":"A",` + meta + `{"f:spec":{"f:a":{},"f:l":{"k:{\"n\":\"x\"}":{".":{},"f:n":{},"f:v":{}}},"f:e":{}}}}]},"spec":{"a":1,"l":[{"n":"x","v":"1"}],"e":{}}}`
	for _, second := range []string{first,
		`{"apiVersion":"v1","kind":"A",` + meta + `{"f:spec":{"f:l":{"k:{\"n\":\"x\"}":{".":{},"f:n":{},"f:v":{}}},"f:e":{}}}},{"manager":"hurry","operation":"Update","time":"2026-11-23T06:00:00Z","fieldsV1":{"f:spec":{"f:a":{},"f:b":{}}}}]},"spec":{"a":2,"b":3,"l":[{"n":"x","v":"1"}],"e":{"y":1}}}`,
		`{"metadata":{"uid":"v"},"spec":null}`, `{"metadata":{"managedFields":[{"manager":"vigila","operation":"Apply","fieldsV1":{"f:spec":{"f:a":{},"f:a.":{}}}}]},"spec":{"a":1.0}}`} {
		f.Add([]byte(first), []byte(second), "Secret", "/spec/a")
		f.Add([]byte(second), []byte(first), "A", "")
	}
	f.Fuzz(func(t *testing.T, a, b []byte, kind, pointer string) {
		var first, second map[string]any
		if utiljson.Unmarshal(a, &first) != nil || utiljson.Unmarshal(b, &second) != nil || first == nil || second == nil {
			return
		}
		var leave []object.Pointer
		if p, err := object.ParsePointer(pointer); err == nil {
			leave = append(leave, p)
		}
		ref := object.Ref{Kind: kind, Name: "d"}
		mask := Mask(func(v string) string { return "#" + object.Hash(v)[:15] })
		base := NewBaseline(ref, "h", nil, first, leave, mask, nil, applied)
		for _, state := range []map[string]any{first, second} {
			drift, added := Drift(base, state, mask), Additions(base, state, leave, mask)
			if base.Same(mask.Imprint(ref, state, leave), object.UID(state)) {
				require.Empty(t, drift)
				require.Empty(t, added)
			}
			for _, d := range drift {
				require.True(t, d.Path != "" || d.Change == Remade)
			}
		}
		Preview(ref, first, second, mask)
		Declared([]object.Object{{Ref: ref, Body: first}}, []object.Object{{Ref: ref, Body: second}}, mask)
	})
}
