package render

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/ward"
)

// FuzzChart: whatever a template and its values say, rendering ends, without a panic and within its bounds.
func FuzzChart(f *testing.F) {
	for _, s := range [][2]string{
		{"{{ .Values.a | toYaml | nindent 2 }}", "a: {b: [1, x]}"}, {`{{ define "x" }}{{ include "x" . }}{{ end }}{{ include "x" . }}`, ""}, {"{{ range until 99999999 }}{{ end }}", ""},
		{"{{ tpl .Values.t . }}", "t: '{{ tpl .Values.t . }}'"}, {"apiVersion: v1\nkind: ConfigMap\nmetadata: {name: {{ .Release.Name }}}", ""}, {`{{ repeat 99 (repeat 99 "x") | b64enc | sha256sum }}`, ""},
		{`{{ $x := dict }}{{ $_ := set $x "a" $x }}{{ $x | toJson }}`, ""}, {`{{ index .Values.l 9 }}{{ slice .Values.l 3 1 }}{{ .Values.s.x.y }}`, "l: [1]\ns: text"}, {"{{ regexReplaceAll \"(\" .Values.a \"\" }}", "a: b"},
	} {
		f.Add(s[0], s[1])
	}
	f.Fuzz(func(t *testing.T, template, values string) {
		tree := memory{"c/Chart.yaml": "name: x\nversion: 1.0.0", "c/templates/x.yaml": template, "c/values.yaml": values}
		w := ward.Ward{Name: "a", From: ward.From{Repo: "r", Path: "c"}, Into: ward.Into{Namespace: "n"}}
		r, err := Render(t.Context(), Request{Ward: w, Tree: tree})
		if err != nil {
			require.NotContains(t, err.Error(), "runtime error: invalid memory address")
			return
		}
		for _, o := range r.Objects {
			require.NotEmpty(t, o.Ref.Name)
			require.True(t, strings.HasPrefix(o.File, "c/"))
		}
	})
}

// FuzzTemplate is the same for our own templates.
func FuzzTemplate(f *testing.F) {
	for _, s := range []string{"a: ${{ params.x }}", "${{ [1,2].map(x, {'a': x}) }}", "a: '${{ \"}}\" }}'", "${{", "- ${{ nothing }}\n- b", "a: |\n  x ${{ 1 +\n 2 }} y\nb: ${{ nope }}", "{${{ 'k' }}: 1}", "a: &x ${{ 1 }}\nb: *x"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		tree := memory{"t/template.yaml": "vigila: template/v1\nparameters: {properties: {x: {default: {a: [1]}}}}\n", "t/x.yaml": text}
		_, err := Render(t.Context(), Request{Ward: ward.Ward{Name: "a", From: ward.From{Repo: "r", Path: "t"}}, Tree: tree})
		if err != nil {
			require.NotContains(t, err.Error(), "runtime error")
		}
	})
}

// FuzzArchive: whatever a packaged chart holds, rendering ends, and takes nothing from beside it.
func FuzzArchive(f *testing.F) {
	pack := func(files ...[2]string) []byte {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		t := tar.NewWriter(z)
		for _, x := range files {
			require.NoError(f, t.WriteHeader(&tar.Header{Name: x[0], Mode: 0o644, Size: int64(len(x[1])), Typeflag: tar.TypeReg}))
			_, err := t.Write([]byte(x[1]))
			require.NoError(f, err)
		}
		require.NoError(f, t.Close())
		require.NoError(f, z.Close())
		return b.Bytes()
	}
	const meta, object = "name: x\nversion: 1.0.0\n", "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: {{ .Release.Name }}}\n"
	inner := pack([2]string{"sub/Chart.yaml", "name: sub\nversion: 1.0.0\n"}, [2]string{"sub/templates/a.yaml", object})
	f.Add(pack([2]string{"x/Chart.yaml", meta}, [2]string{"x/templates/a.yaml", object}))
	f.Add(pack([2]string{"x/Chart.yaml", meta + "dependencies: [{name: sub, version: 1.x, alias: other}]\n"}, [2]string{"x/charts/sub-1.0.0.tgz", string(inner)}))
	f.Add(pack([2]string{"../../etc/Chart.yaml", meta}, [2]string{"/x/Chart.yaml", meta}, [2]string{"x\\Chart.yaml", meta}))
	f.Add(pack([2]string{"x/Chart.yaml", meta}, [2]string{"x/values.yaml", "a: [\n"}, [2]string{"x/values.schema.json", "{"}, [2]string{"x/.helmignore", "[\n**/*\n"}))
	f.Add(inner[:len(inner)/2])
	f.Fuzz(func(t *testing.T, data []byte) {
		w := ward.Ward{Name: "a", From: ward.From{Repo: "r", Chart: ward.Chart{Repo: "r", Name: "x", Version: "1"}}, Into: ward.Into{Namespace: "n"}}
		r, err := Render(t.Context(), Request{Ward: w, Chart: func(string, string, string) (Package, error) { return Package{Data: data, Version: "1.0.0"}, nil }})
		if err != nil {
			require.NotContains(t, err.Error(), "runtime error")
			return
		}
		for _, o := range r.Objects {
			require.NotEmpty(t, o.Ref.Name)
		}
	})
}
