package render

import (
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
