package secret

import (
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		text string
		want Ref
		says string
	}{
		{"secret://harbour/fare-gate#password", Ref{"harbour", "fare-gate", "password"}, ""},
		{"harbour/fare-gate#password", Ref{"harbour", "fare-gate", "password"}, ""},
		{"harbour/a/b.c/d_e#tls.key", Ref{"harbour", "a/b.c/d_e", "tls.key"}, ""},
		{"harbour/fare-gate", Ref{}, "names no key"},
		{"harbour/fare-gate#", Ref{}, "has a key that is none"},
		{"harbour/fare-gate#a#b", Ref{}, "has a key that is none"},
		{"harbour/fare-gate#a/b", Ref{}, "has a key that is none"},
		{"harbour#a", Ref{}, "names no path"},
		{"/x#a", Ref{}, "names no store"},
		{"Harbour/x#a", Ref{}, "names no store"},
		{"harbour//x#a", Ref{}, "has a path that is none"},
		{"harbour/../x#a", Ref{}, "has a path that is none"},
		{"harbour/./x#a", Ref{}, "has a path that is none"},
		{"harbour/x y#a", Ref{}, "has a path that is none"},
		{"harbour/x?v=1#a", Ref{}, "has a path that is none"},
		{"harbour/" + strings.Repeat("x/", 600) + "x#a", Ref{}, "more than 1024 bytes"},
		{"", Ref{}, "names no store"},
	} {
		got, err := Parse(c.text)
		if c.says == "" {
			require.NoError(t, err, c.text)
			assert.Equal(t, c.want, got)
			again, err := Parse(got.String())
			require.NoError(t, err)
			assert.Equal(t, got, again)
		} else {
			assert.ErrorContains(t, err, c.says, c.text)
		}
	}
	_, err := ParsePlace("harbour/fare-gate#password")
	require.ErrorContains(t, err, "names a key")
	_, err = ParsePlace("harbour")
	require.ErrorContains(t, err, "names no path in the store; write STORE/PATH")
	assert.NotContains(t, err.Error(), "#KEY")
	p, err := ParsePlace("harbour/fare-gate")
	require.NoError(t, err)
	assert.Equal(t, Place{"harbour", "fare-gate"}, p)
}

func b64(text string) string { return base64.StdEncoding.EncodeToString([]byte(text)) }

func read1(t *testing.T, text string) object.Object {
	t.Helper()
	all, err := object.Parse("a.yaml", []byte(text))
	require.NoError(t, err)
	require.Len(t, all, 1)
	return all[0]
}

const gate = `{apiVersion: v1, kind: Secret, metadata: {name: gate, annotations: {vigila.dev/secret-from: harbour/all}},
data: {as-it-is: "secret://harbour/gate#password", encoded: "` + "c2VjcmV0Oi8vaGFyYm91ci9nYXRlI3Bhc3N3b3Jk" + `", literal: "b3Blbg==", empty: ""},
stringData: {whole: "secret://harbour/gate#user\n", within: "a ${{ secret('harbour/gate#user') }}:${{secret(\"harbour/other#password\")}} ${{ github.ref }} z", open: open}}`

func TestWhatASecretRefersTo(t *testing.T) {
	o := read1(t, gate)
	assert.Equal(t, []Ref{{"harbour", "all", ""}, {"harbour", "gate", "password"}, {"harbour", "gate", "user"}, {"harbour", "other", "password"}}, Of(o))
	assert.Equal(t, []string{"literal", "open"}, Literal(o))
	assert.Empty(t, Wrong(o))
	assert.Empty(t, Of(read1(t, `{apiVersion: v1, kind: ConfigMap, metadata: {name: x}, data: {a: "secret://harbour/gate#user"}}`)), "only a Secret may")
}

func TestWrongReferencesAreTold(t *testing.T) {
	for text, says := range map[string]string{
		`stringData: {a: "secret://harbour"}`:                               "stringData.a: \"secret://harbour\" names no path",
		`stringData: {a: "secret://harbour/x"}`:                             "names no key",
		`data: {a: "secret://harbour/x#"}`:                                  "data.a: ",
		`stringData: {a: "x ${{ secret(harbour/x#k) }}"}`:                   "is not written as one",
		`stringData: {a: "x ${{ secret('harbour/x') }}"}`:                   "names no key",
		`stringData: {a: "x ${{ secret('harbour/x#k') "}`:                   "is not written as one",
		`metadata: {name: x, annotations: {vigila.dev/secret-from: a/b#c}}`: "names a key",
	} {
		if !strings.HasPrefix(text, "metadata") {
			text = "metadata: {name: x}, " + text
		}
		got := Wrong(read1(t, "{apiVersion: v1, kind: Secret, "+text+"}"))
		require.Len(t, got, 1, text)
		assert.Contains(t, got[0], says)
	}
}

func TestFill(t *testing.T) {
	o := read1(t, gate)
	values := Values{{"harbour", "gate"}: {"password": "p\x00\xff", "user": "u"}, {"harbour", "other"}: {"password": "$1"}, {"harbour", "all"}: {"literal": "not this", "more": "m"}}
	out, err := Fill(o, values, "d")
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"as-it-is": b64("p\x00\xff"), "encoded": b64("p\x00\xff"), "literal": b64("open"), "empty": "", "whole": b64("u"), "within": b64("a u:$1 ${{ github.ref }} z"), "more": b64("m")}, out.Body["data"])
	assert.Equal(t, map[string]any{"open": "open"}, out.Body["stringData"], "what is no reference stays where it is")
	assert.Equal(t, Of(read1(t, gate)), Of(o), "what was given is as it was")

	delete(values[Place{"harbour", "gate"}], "user")
	delete(values, Place{"harbour", "all"})
	_, err = Fill(o, values, "d")
	var missing *MissingError
	require.ErrorAs(t, err, &missing)
	assert.Equal(t, []Ref{{"harbour", "all", ""}, {"harbour", "gate", "user"}}, missing.Refs)
	assert.EqualError(t, err, "harbour/all, harbour/gate#user has no value; set it: vigila secret set harbour/all#KEY")

	values[Place{"harbour", "all"}] = map[string]string{"no key": "x"}
	values[Place{"harbour", "gate"}]["user"] = "u"
	_, err = Fill(o, values, "d")
	require.ErrorContains(t, err, "harbour/all has a key that a Secret can't have")
	assert.NotContains(t, err.Error(), "no key")

	plain := read1(t, `{apiVersion: v1, kind: Secret, metadata: {name: x}, data: {a: "b3Blbg=="}}`)
	same, err := Fill(plain, nil, "")
	require.NoError(t, err)
	assert.Equal(t, plain, same)
}

func workload(kind, container string) object.Object {
	all, _ := object.Parse("a.yaml", []byte(`{apiVersion: apps/v1, kind: `+kind+`, metadata: {name: w, namespace: ns}, spec: {template: {spec: {containers: [`+container+`]}}}}`))
	return all[0]
}

func TestRestarts(t *testing.T) {
	s := read1(t, `{apiVersion: v1, kind: Secret, metadata: {name: gate, namespace: ns}, stringData: {a: "secret://harbour/gate#user", b: open}}`)
	literal := read1(t, `{apiVersion: v1, kind: Secret, metadata: {name: literal, namespace: ns}, stringData: {b: open}}`)
	for _, c := range []struct {
		o    object.Object
		want string
	}{
		{workload("Deployment", `{name: a, env: [{name: X, valueFrom: {secretKeyRef: {name: gate, key: a}}}]}`), "secret://harbour/gate#user"},
		{workload("StatefulSet", `{name: a, envFrom: [{secretRef: {name: gate}}]}`), "secret://harbour/gate#user"},
		{workload("DaemonSet", `{name: a, envFrom: [{secretRef: {name: gate}}]}`), "secret://harbour/gate#user"},
		{workload("Deployment", `{name: a, envFrom: [{secretRef: {name: literal}}]}`), ""},
		{workload("Deployment", `{name: a, envFrom: [{configMapRef: {name: gate}}]}`), ""},
		{workload("Deployment", `{name: a}`), ""},
	} {
		Restarts([]object.Object{s, literal, c.o})
		text, _ := restarts(c.o.Body)[RestartAnnotation].(string)
		assert.Equal(t, c.want, text)
		if c.want == "" {
			assert.Empty(t, Of(c.o))
			continue
		}
		assert.Equal(t, []Ref{{"harbour", "gate", "user"}}, Of(c.o))
		out, err := Fill(c.o, Values{{"harbour", "gate"}: {"user": "u"}}, "digest")
		require.NoError(t, err)
		assert.Equal(t, "digest", restarts(out.Body)[RestartAnnotation])
		assert.Equal(t, c.want, restarts(c.o.Body)[RestartAnnotation])
	}
}

func TestStand(t *testing.T) {
	mask := func(s string) string { return "<" + s + ">" }
	user, all := Ref{"harbour", "gate", "user"}, Ref{"harbour", "gate", ""}
	keys := map[string]string{"user": "1", "other": "2"}
	for _, c := range []struct {
		name  string
		ref   Ref
		known Known
		want  Standing
	}{
		{"a value", user, Known{Looked: true, Keys: keys}, Standing{Digest: "<harbour/gate#user=1\n>"}},
		{"a whole place", all, Known{Looked: true, Keys: keys}, Standing{Digest: "<harbour/gate#other=2\nharbour/gate#user=1\n>"}},
		{"nobody has looked", user, Known{}, Standing{Unknown: "store harbour has not been looked at yet"}},
		{"it can't be read, and never was", user, Known{Problem: "p"}, Standing{Unknown: "p", Unread: "p"}},
		{"it can't be read, and was", user, Known{Looked: true, Keys: keys, Problem: "p"}, Standing{Digest: "<harbour/gate#user=1\n>", Unread: "p"}},
		{"it can't be read, and had none", user, Known{Looked: true, Problem: "p"}, Standing{Unknown: "p", Unread: "p"}},
		{"it has none", user, Known{Looked: true, Keys: map[string]string{"other": "2"}}, Standing{Missing: []Ref{user}}},
		{"the place is empty", all, Known{Looked: true}, Standing{Missing: []Ref{all}}},
		{"it may not be used", user, Known{Refused: "no"}, Standing{Refused: "no"}},
	} {
		assert.Equal(t, c.want, Stand([]Ref{c.ref}, func(Place) Known { return c.known }, mask), c.name)
	}
	// What is known of a store and what was read of it come to the same digest.
	values := Values{{"harbour", "gate"}: {"user": "x", "other": "y"}}
	for _, refs := range [][]Ref{{user}, {all}, {all, user}} {
		known := Known{Looked: true, Keys: map[string]string{"user": mask("x"), "other": mask("y")}}
		assert.Equal(t, Stand(refs, func(Place) Known { return known }, mask).Digest, Digest(refs, values, mask))
	}
	assert.Equal(t, Standing{}, Stand(nil, nil, mask))
}

func TestMarks(t *testing.T) {
	assert.Equal(t, "h", Mark("h", ""))
	assert.Equal(t, "h", Bare(Mark("h", "d")))
	assert.Equal(t, "keyed h", Bare(Mark("keyed h", "d")))
	assert.Equal(t, "d", DigestIn(Mark("h", "d")))
	assert.Empty(t, DigestIn("h"))
	assert.NotEqual(t, Mark("h", "d"), Mark("h", "e"))
}
