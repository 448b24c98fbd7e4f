package render

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/ward"
)

// TestVersionsAreLaidOverEveryForm: whatever the form, every image has the version that the last file says, and manifests stay as they
// are.
func TestVersionsAreLaidOverEveryForm(t *testing.T) {
	const gate = "apiVersion: v1\nkind: Pod\nmetadata: {name: gate}\nspec: {containers: [{name: app, image: \"a.example/gate:1\"}]}\n"
	for form, tree := range map[string]memory{
		PlainForm:    {"app/a.yaml": gate},
		OverlayForm:  {"app/kustomization.yaml": "resources: [a.yaml]\n", "app/a.yaml": gate},
		ChartForm:    {"app/Chart.yaml": "apiVersion: v2\nname: gates\nversion: 1.0.0\n", "app/templates/a.yaml": gate},
		TemplateForm: {"app/template.yaml": "vigila: template/v1\n", "app/a.yaml": gate},
	} {
		t.Run(form, func(t *testing.T) {
			tree["quay/versions.yaml"] = "vigila: versions/v1\nimages: {a.example/gate: 2, a.example/horn: 1}\n"
			tree["versions.yaml"] = "vigila: versions/v1\nimages: {a.example/gate: 1.9}\n"
			w := ward.Ward{Name: "w", From: ward.From{Repo: "moorings", Ref: "main", Path: "app", Versions: []ward.ValuesFile{{Path: "versions.yaml"}, {Path: "quay/versions.yaml"}}}}
			r, err := Render(t.Context(), Request{Ward: w, Tree: tree})
			require.NoError(t, err)
			require.Len(t, r.Objects, 1)
			assert.Equal(t, form, r.Form)
			image := r.Objects[0].Body["spec"].(map[string]any)["containers"].([]any)[0].(map[string]any)["image"]
			assert.Equal(t, "a.example/gate:2", image)
			for _, p := range []string{"quay/versions.yaml", "versions.yaml"} {
				hash, _ := tree.Hash(p)
				assert.Contains(t, r.Inputs, declared.Input{Repo: "moorings", Path: p, Hash: hash}, "a change of it is a change of the ward")
			}
			assert.Equal(t, []Unused{{"quay/versions.yaml", 2, "image a.example/horn"}}, r.Unused)
			assert.Empty(t, r.Notes)
		})
	}
}

func TestVersionsOfCharts(t *testing.T) {
	tree := memory{"versions.yaml": "vigila: versions/v1\ncharts: {gates: 1.4.2, tides: 2.0.0}\n"}
	w := ward.Ward{Name: "w", From: ward.From{Repo: "moorings", Ref: "main", Chart: ward.Chart{Repo: "charts", Name: "gates", Version: "1.0.0"}, Versions: []ward.ValuesFile{{Path: "versions.yaml"}}}}
	asked := ""
	_, err := Render(t.Context(), Request{Ward: w, Tree: tree, Chart: func(_, name, version string) (Package, error) {
		asked = name + " " + version
		return Package{}, assert.AnError
	}})
	assert.ErrorIs(t, err, assert.AnError)
	assert.Equal(t, "gates 1.4.2", asked)
}

func TestMistakesOfVersionsSayWhere(t *testing.T) {
	at := func(p string) ward.Ward {
		return ward.Ward{Name: "w", From: ward.From{Repo: "moorings", Ref: "main", Path: "app", Versions: []ward.ValuesFile{{Path: p}}}}
	}
	tree := memory{"app/a.yaml": configMap, "bad.yaml": "vigila: versions/v1\nimages: {a.example/x: {}}\n", "other.yaml": "a: b\n", "far.yaml": "vigila: versions/v1\nimages: {a.example/x: 1}\n"}
	for p, want := range map[string]string{
		"none.yaml":  "versions of ward w: no \"none.yaml\"",
		"bad.yaml":   "bad.yaml:2: images.a.example/x has neither a tag nor a digest",
		"other.yaml": "other.yaml:1: this is no versions file; its first key is vigila: versions/v1",
	} {
		_, err := Render(t.Context(), Request{Ward: at(p), Tree: tree})
		assert.ErrorContains(t, err, want, p)
	}
	r, err := Render(t.Context(), Request{Ward: at("far.yaml"), Tree: tree})
	require.NoError(t, err)
	assert.Equal(t, []string{"far.yaml says versions of nothing that is declared here"}, r.Notes)
}
