package secret

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLift(t *testing.T) {
	const before = `# What the gate signs in with.
apiVersion: v1
kind: Secret
metadata: {name: gate}
type: Opaque
stringData:
  # the database
  plain: open sesame   # as it was
  "quoted": "a \" b"   # a comment
  single: 'it''s'
  refers: secret://harbour/x#y
  empty: ""
  pem: |
    -----BEGIN-----
    tide

    -----END-----

  folded: >-
    two
    lines
  last: z
data:
    encoded: b3Blbg== # in base64
---
apiVersion: v1
kind: ConfigMap
metadata: {name: fares}
data: {day: "2"}
---
{"apiVersion": "v1", "kind": "List", "items": [{"apiVersion": "v1", "kind": "Secret", "metadata": {"name": "tide"}, "stringData": {"ö-ö": "ü", "b": "c"}}]}
`
	const after = `# What the gate signs in with.
apiVersion: v1
kind: Secret
metadata: {name: gate}
type: Opaque
stringData:
  # the database
  plain: secret://harbour/quay/gate#plain   # as it was
  "quoted": "secret://harbour/quay/gate#quoted"   # a comment
  single: 'secret://harbour/quay/gate#single'
  refers: secret://harbour/x#y
  empty: ""
  pem: secret://harbour/quay/gate#pem

  folded: secret://harbour/quay/gate#folded
  last: secret://harbour/quay/gate#last
data:
    encoded: secret://harbour/quay/gate#encoded # in base64
---
apiVersion: v1
kind: ConfigMap
metadata: {name: fares}
data: {day: "2"}
---
{"apiVersion": "v1", "kind": "List", "items": [{"apiVersion": "v1", "kind": "Secret", "metadata": {"name": "tide"}, "stringData": {"ö-ö": "secret://harbour/quay/x#k", "b": "secret://harbour/quay/tide#b"}}]}
`
	to := func(name, key string) (Ref, error) {
		if key == "ö-ö" {
			return Ref{"harbour", "quay/x", "k"}, nil
		}
		return Ref{"harbour", "quay/" + name, key}, nil
	}
	out, lifted, err := Lift("a.yaml", []byte(before), to)
	require.NoError(t, err)
	assert.Equal(t, after, string(out))
	values := map[string]string{}
	for _, x := range lifted {
		values[x.Ref.Key] = x.Value
	}
	assert.Equal(t, map[string]string{"plain": "open sesame", "quoted": `a " b`, "single": "it's", "pem": "-----BEGIN-----\ntide\n\n-----END-----\n", "folded": "two lines", "last": "z", "encoded": "open", "k": "ü", "b": "c"}, values)

	good := func(name, key string) (Ref, error) { return Ref{"harbour", "quay/" + name, key}, nil }
	for text, says := range map[string]string{
		"stringData: {a: &x y, b: *x}":          "a.yaml:4: stringData.a bears an anchor",
		"stringData: {a: !!str y}":              "a.yaml:4: stringData.a bears an anchor or a tag",
		"stringData:\n  a: one\n    two":        "goes over several lines without quotes",
		"data: {a: \"%\"}":                      "data.a is not in base64",
		"data: {a: /w==}":                       "is no text in UTF-8",
		"stringData: {a: \"secret://harbour\"}": "names no path",
	} {
		_, lifted, err := Lift("a.yaml", []byte("apiVersion: v1\nkind: Secret\nmetadata: {name: x}\n"+text+"\n"), good)
		require.ErrorContains(t, err, says, text)
		assert.Empty(t, lifted)
	}
	same, lifted, err := Lift("a.yaml", []byte("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: x}\ndata: {a: b}\n"), good)
	require.NoError(t, err)
	assert.Empty(t, lifted)
	assert.Equal(t, "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: x}\ndata: {a: b}\n", string(same))
}
