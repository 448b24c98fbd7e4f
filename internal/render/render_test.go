package render

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

func file(path, text string) repo.File { return repo.File{Path: path, Data: []byte(text)} }

const (
	configMap = "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: c}\n"
	role      = "apiVersion: rbac.authorization.k8s.io/v1\nkind: ClusterRole\nmetadata: {name: r}\n"
)

func namespaced(o object.Object) (bool, error) {
	switch o.Ref.Kind {
	case "ClusterRole", "Namespace":
		return false, nil
	case "Unknown":
		return false, errors.New("no such kind")
	}
	return true, nil
}

func TestPlainReportsEveryMistake(t *testing.T) {
	_, err := Plain([]repo.File{file("a.yaml", "kind: ["), file("b.yaml", "a: 1"), file("Chart.yaml", "name: x"), file("c.yaml", configMap), file("d.yaml", "---\n"+configMap)})
	for _, want := range []string{"a.yaml:1:", "b.yaml:1:", "Chart.yaml:1: this is a chart below plain files", "d.yaml:2: ConfigMap/c is declared twice; first at c.yaml:1"} {
		assert.ErrorContains(t, err, want)
	}
	objects, err := Plain([]repo.File{file("w.yaml", "vigila: ward/v1\nname: x\n"), file("c.json", `{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"c"}}`)})
	require.NoError(t, err)
	assert.Len(t, objects, 1, "ward files are passed over")
	_, err = Plain([]repo.File{file("t.yaml", "apiVersion: batch/v1\nkind: Job\nmetadata: {name: t, annotations: {vigila.dev/task: pre}}")})
	assert.ErrorContains(t, err, `t.yaml:1: vigila.dev/task of Job/t is "pre"; write before, after or failed`)
}

func TestRulesAreNoObjects(t *testing.T) {
	rule := "vigila: health/v1\nof: Berth.harbour.example\nready: object.status.phase == 'moored'\n"
	files := []repo.File{file("health.yaml", rule), file("c.yaml", configMap), file("w.yaml", "vigila: ward/v1\nname: x\n")}
	objects, err := Plain(files)
	require.NoError(t, err)
	assert.Len(t, objects, 1)
	rules, err := Rules(files)
	require.NoError(t, err)
	assert.Contains(t, rules, [2]string{"harbour.example", "Berth"})
	_, err = Rules(append(files, file("more/again.yaml", rule)))
	assert.ErrorContains(t, err, "again.yaml:1: there is a health rule for Berth already, at health.yaml:1")
}

func TestWhatWardsShare(t *testing.T) {
	files := []repo.File{
		{Path: ".vigila/checks.yaml", Data: []byte("vigila: checks/v1\nchecks: {errors: {request: {service: gate}, good: 'true'}}\n")},
		{Path: ".vigila/health.yaml", Data: []byte("vigila: health/v1\nof: Berth.harbour.brindle.example\nready: 'true'\n")},
		{Path: "app/a.yaml", Data: []byte("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\n")},
	}
	rules, checks, err := Shared(files)
	require.NoError(t, err)
	assert.Len(t, rules, 1)
	require.Len(t, checks, 1)
	assert.Equal(t, "errors", checks[0].Name)
	objects, err := Plain(files)
	require.NoError(t, err)
	assert.Len(t, objects, 1, "neither is an object")
	_, _, err = Shared(append(files, repo.File{Path: "more.yaml", Data: []byte("vigila: checks/v1\nchecks: {errors: {request: {service: gate}, good: 'true'}}\n")}))
	assert.ErrorContains(t, err, "more.yaml:2: there is a check errors already, at .vigila/checks.yaml:2")
}

func TestPlaceFillsInAndMarks(t *testing.T) {
	w := ward.Ward{Name: "berth-planner", Into: ward.Into{Namespace: "harbour", CreateNamespace: true}}
	objects, err := Plain([]repo.File{file("a.yaml", configMap+"---\n"+role)})
	require.NoError(t, err)
	placed, err := Place(w, "", objects, namespaced)
	require.NoError(t, err)
	require.Len(t, placed, 3)
	assert.Equal(t, "harbour", placed[0].Ref.Namespace)
	assert.Empty(t, placed[1].Ref.Namespace)
	assert.Equal(t, object.Ref{Kind: "Namespace", Name: "harbour"}, placed[2].Ref)
	for _, o := range placed {
		assert.Equal(t, "berth-planner", object.Label(o.Body, object.WardLabel))
	}
	assert.Empty(t, object.Label(objects[0].Body, object.WardLabel), "what was read is left as it was")

	w.Into.Namespace, w.Into.CreateNamespace = "", false
	_, err = Place(w, "", objects, namespaced)
	assert.ErrorContains(t, err, "a.yaml:1: ConfigMap/c names no namespace, and neither does the ward")
	unknown, err := Plain([]repo.File{file("u.yaml", "apiVersion: x/v1\nkind: Unknown\nmetadata: {name: u}")})
	require.NoError(t, err)
	_, err = Place(w, "", unknown, namespaced)
	assert.ErrorContains(t, err, "u.yaml:1: no such kind")
}

func TestStringDataIsFoldedIntoData(t *testing.T) {
	objects, err := Plain([]repo.File{file("s.yaml", "apiVersion: v1\nkind: Secret\nmetadata: {name: s, namespace: harbour}\ndata: {a: eA==}\nstringData: {b: tide}\n")})
	require.NoError(t, err)
	placed, err := Place(ward.Ward{Name: "w"}, "abc", objects, namespaced)
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"a": "eA==", "b": "dGlkZQ=="}, placed[0].Body["data"])
	assert.NotContains(t, placed[0].Body, "stringData")
}

// TestASecretIsLookedAtBeforeItIsSent: what the API server would refuse, it would quote.
func TestASecretIsLookedAtBeforeItIsSent(t *testing.T) {
	w := ward.Ward{Name: "berths", Into: ward.Into{Namespace: "n"}}
	for body, want := range map[string]string{
		`stringData: {pin: 48151623}`:   "secret.yaml:1: Secret/pins: stringData.pin is no text; put its value in quotes",
		`stringData: {pin: [48151623]}`: "stringData.pin is no text",
		`stringData: 48151623`:          "stringData must be a mapping",
		`data: {pin: 48151623}`:         "data.pin is no text",
		`data: {pin: "48151623!"}`:      "data.pin is not in base64; write it as it is below stringData instead",
		`data: {"48151623 x": ""}`:      "data has a key that is none",
		`type: 48151623`:                "type must be a text",
		`immutable: "48151623"`:         "immutable must be true or false",
		`stringData: {pin: "48151623", none: }, data: {pin: NDgxNTE2MjM=, none: }, type: Opaque, immutable: true`: "",
	} {
		objects, err := object.Parse("secret.yaml", []byte("{apiVersion: v1, kind: \"Secret\", metadata: {name: pins}, "+body+"}\n"))
		require.NoError(t, err, body)
		placed, err := Place(w, "id", objects, func(object.Object) (bool, error) { return true, nil })
		if want == "" {
			require.NoError(t, err, body)
			assert.Equal(t, map[string]any{"pin": "NDgxNTE2MjM=", "none": ""}, placed[0].Body["data"])
			continue
		}
		require.ErrorContains(t, err, want, body)
		assert.NotContains(t, err.Error(), "48151623", body)
	}
}
