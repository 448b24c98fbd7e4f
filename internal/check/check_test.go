package check

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/repo"
)

const (
	config = "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: horn}\n"
	gate   = "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: quay, namespace: fares}\n"
	horn   = "vigila: ward/v1\nname: horn\nfrom: {path: app}\ninto: {cluster: quay, namespace: horns}\n"
	limits = "vigila: roster/v1\nname: ticketing\nfrom: {path: teams}\nlimits: {namespaces: [fares], clusters: [quay]}\n"
)

// TestWhatTheServiceWouldRefuse is found before the merge, with its place.
func TestWhatTheServiceWouldRefuse(t *testing.T) {
	for _, c := range []struct {
		name  string
		files map[string]string
		want  []string
	}{
		{"nothing wrong", map[string]string{"wards/gate.yaml": gate, "app/a.yaml": config}, nil},
		{"twice, once its namespace is filled in", map[string]string{"wards/gate.yaml": gate, "app/a.yaml": config, "app/b.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: horn, namespace: fares}\n"},
			[]string{"app/b.yaml:1: fares/ConfigMap/horn is declared twice once the ward's namespace is filled in; first at app/a.yaml:1"}},
		{"no namespace", map[string]string{"wards/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: quay}\n", "app/a.yaml": config},
			[]string{"app/a.yaml:1: ConfigMap/horn names no namespace, and neither does the ward; write metadata.namespace here or into.namespace in the ward file"}},
		{"a kind of the cluster needs none", map[string]string{"wards/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: quay}\n", "app/a.yaml": "apiVersion: rbac.authorization.k8s.io/v1\nkind: ClusterRole\nmetadata: {name: horn}\nrules: []\n"}, nil},
		{"nor is one of your own known", map[string]string{"wards/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: quay}\n", "app/a.yaml": "apiVersion: harbour.brindle.example/v1\nkind: Berth\nmetadata: {name: one}\n"}, nil},
		{"unless it is defined beside it", map[string]string{"wards/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: quay}\n", "app/a.yaml": "apiVersion: harbour.brindle.example/v1\nkind: Berth\nmetadata: {name: one}\n---\n" +
			"apiVersion: apiextensions.k8s.io/v1\nkind: CustomResourceDefinition\nmetadata: {name: berths.harbour.brindle.example}\nspec: {group: harbour.brindle.example, scope: Namespaced, names: {plural: berths, kind: Berth}, versions: [{name: v1, served: true, storage: true}]}\n"},
			[]string{"app/a.yaml:1: Berth/one names no namespace"}},
		{"a Secret that is none, without its value", map[string]string{"wards/gate.yaml": gate, "app/s.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: key}\ndata: {password: spring-tide}\n"},
			[]string{"app/s.yaml:1: Secret/key: data.password is not in base64; write it as it is below stringData instead"}},
		{"in a manifest that no ward takes", map[string]string{"loose.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: key}\nstringData: {pin: 1234}\n"},
			[]string{"loose.yaml:1: Secret/key: stringData.pin is no text; put its value in quotes"}},
		{"only some clusters say which namespace", map[string]string{"app/a.yaml": config, "wards/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {clusters: {sea: sound}}\nset: [{where: {cluster: quay}, into: {namespace: fares}}]\n"}, nil},
		{"within its roster's limits", map[string]string{"rosters.yaml": limits, "teams/gate.yaml": gate, "app/a.yaml": config}, nil},
		{"outside them: a namespace and a cluster", map[string]string{"rosters.yaml": limits, "teams/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: skerry, namespace: tides}\n", "app/a.yaml": config},
			[]string{`teams/gate.yaml:1: it is more than its roster may: roster ticketing lets its wards keep the namespaces fares, not "tides"`, "app/a.yaml:1: tides/ConfigMap/horn is outside the namespaces that roster ticketing lets its wards keep: fares"}},
		{"outside them: a cluster by its labels", map[string]string{"rosters.yaml": limits + "---\nvigila: cluster/v1\nname: skerry\nlabels: {sea: open}\n", "teams/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {clusters: {sea: open}, namespace: fares}\n", "app/a.yaml": config},
			[]string{"teams/gate.yaml:1: it is more than its roster may: roster ticketing lets its wards go into the clusters quay, not skerry"}},
		{"outside them: an object, and another repository", map[string]string{"rosters.yaml": limits, "teams/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app, values_in: [{repo: theirs, path: v.yaml}]}\ninto: {cluster: quay, namespace: fares}\n", "app/a.yaml": config},
			[]string{"teams/gate.yaml:1: it is more than its roster may: roster ticketing lets its wards read here, not theirs (limits.repos)"}},
		{"what no ward takes has no limits", map[string]string{"rosters.yaml": limits, "teams/loose.yaml": config, "teams/overlay/kustomization.yaml": "resources: [a.yaml]\n", "teams/overlay/a.yaml": config}, nil},
		{"wards that wait for each other", map[string]string{"wards/gate.yaml": gate + "after: [horn]\n---\n" + horn + "after: [gate]\n", "app/a.yaml": config},
			[]string{"wards/gate.yaml:5: these wards wait for each other in after, so none could start: gate → horn → gate", "wards/gate.yaml:11: these wards wait for each other"}},
		{"a ward that is not there", map[string]string{"wards/gate.yaml": gate + "after: [horm, far]\n---\n" + horn, "app/a.yaml": config},
			[]string{"wards/gate.yaml:5: ward gate waits for horm, which this repository does not declare; did you mean horn? If another does: --elsewhere horm"}},
		{"and in a file with another mistake", map[string]string{"wards/gate.yaml": gate + "kepe: {}\nafter: [horm]\n---\n" + horn, "app/a.yaml": config},
			[]string{"wards/gate.yaml:5: unknown key kepe; did you mean keep?", "wards/gate.yaml:6: ward gate waits for horm, which this repository does not declare; did you mean horn? If another does: --elsewhere horm"}},
		{"a ward that is not there where it is waited for", map[string]string{"wards/gate.yaml": gate + "after: [horn]\n---\n" + strings.ReplaceAll(horn, "quay", "skerry"), "app/a.yaml": config},
			[]string{"wards/gate.yaml:5: ward gate waits for horn, which goes into skerry and not into quay, so there it would wait for ever"}},
		{"by labels, which clusters of here have", map[string]string{"wards/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {clusters: {sea: open}, namespace: fares}\nafter: [horn]\n---\n" + horn, "app/a.yaml": config,
			"clusters.yaml": "vigila: cluster/v1\nname: quay\nlabels: {sea: open}\n---\nvigila: cluster/v1\nname: skerry\nlabels: {sea: open}\n"}, []string{"wards/gate.yaml:5: ward gate waits for horn, which goes into quay and not into skerry"}},
		{"a template that no ward takes", map[string]string{"t/template.yaml": "vigila: template/v1\nparameters: {properties: {berth: {type: integr}}}\n", "u/template.yaml": "vigila: template/v1\n", "u/a.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata:\n  name: ${{ ward. }}\n"},
			[]string{"t/template.yaml:2: parameters: this is not a JSON Schema", "u/a.yaml:4: ${{ ward. }}: "}},
		{"a value that fits nothing, where it is written", map[string]string{"t/template.yaml": "vigila: template/v1\nparameters: {required: [berth], properties: {berth: {type: integer}, tide: {properties: {height: {type: integer}}}}}\n", "t/a.yaml": config,
			"v.yaml": "# of the tide\ntide:\n  height: tall\n", "wards/gate.yaml": "vigila: ward/v1\nname: gate\nfrom:\n  path: t\n  values_in: [v.yaml]\n  values:\n    birth: 3\ninto: {cluster: quay, namespace: fares}\n"},
			[]string{"wards/gate.yaml:7: value birth: template t takes none of that name; did you mean berth?", "wards/gate.yaml:3: value berth is missing, and template t needs it", "v.yaml:3: value tide.height: got string, want integer, says template t"}},
		{"names that Kubernetes refuses, and one mistake hides no other", map[string]string{"wards/gate.yaml": gate, "app/a.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: G_X, labels: {\"a b\": c, d: \"e f\"}}\n---\napiVersion: v1\nkind: ConfigMap\nmetdata: {name: x}\n---\n" +
			"apiVersion: rbac.authorization.k8s.io/v1\nkind: Role\nmetadata: {name: \"system:Gate\"}\n---\napiVersion: v1\nkind: Secret\nmetadata: {name: key}\ndata: {a: spring-tide, b: spring-tide}\n"},
			[]string{`app/a.yaml:1: ConfigMap/G_X: "G_X" is no name that Kubernetes takes`, `app/a.yaml:1: ConfigMap/G_X: metadata.labels has the key "a b", which Kubernetes refuses`, `metadata.labels.d is "e f", which no label can be`,
				"app/a.yaml:5: ConfigMap has no metadata.name", "app/a.yaml:13: Secret/key: data.a is not in base64", "app/a.yaml:13: Secret/key: data.b is not in base64"}},
		{"what is left of nothing, and a rule for nothing", map[string]string{"wards/gate.yaml": gate + "leave:\n  - {of: ConfigMap/*, fields: [/data/a]}\n  - {of: Deploymnt/gate, fields: [/spec/replicas]}\n", "app/a.yaml": config,
			".vigila/health.yaml": "vigila: health/v1\nof: Berth.harbour.brindle.example\nready: 'true'\n"},
			[]string{"wards/gate.yaml:7: leave means Deploymnt/gate, and ward gate declares nothing of that name", ".vigila/health.yaml:1: this health rule is for Berth, and nothing here is one"}},
		{"canaries of nothing, and of a route that leads elsewhere", map[string]string{"wards/gate.yaml": gate + "canary:\n  - {of: Deployment/gates, by: replicas, shares: [20], each: 1m, within: 1h}\n  - {of: Deployment/gate, by: HTTPRoute/gate, shares: [20], each: 1m, within: 1h}\n",
			"app/a.yaml": "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: gate}\nspec: {selector: {matchLabels: {a: b}}, template: {metadata: {labels: {a: b}}, spec: {containers: [{name: c, image: d}]}}}\n---\napiVersion: gateway.networking.k8s.io/v1\nkind: HTTPRoute\nmetadata: {name: gate}\nspec: {rules: [{backendRefs: [{name: horn, port: 80}]}]}\n"},
			[]string{"wards/gate.yaml:6: canary means Deployment/gates, and the ward declares nothing of that name", "wards/gate.yaml:7: the canary of Deployment/gate can't be made: no rule of HTTPRoute/gate leads to a Service of this ward that selects the Pods of Deployment/gate"}},
		{"checks that there are none of, or twice", map[string]string{"wards/gate.yaml": gate + "canary:\n  - {of: Deployment/gate, by: replicas, shares: [20], each: 1m, within: 1h, checks: [error, tills]}\nchecks: {tills: {request: {service: gate}, good: 'true'}}\n",
			"app/a.yaml": "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: gate}\nspec: {selector: {matchLabels: {a: b}}, template: {metadata: {labels: {a: b}}, spec: {containers: [{name: c, image: d}]}}}\n", ".vigila/a.yaml": "vigila: checks/v1\nchecks:\n  errors: {request: {service: gate}, good: 'true'}\n", ".vigila/b.yaml": "vigila: checks/v1\nchecks:\n  errors: {request: {service: gate}, good: 'true'}\n  late: {request: {service: gate}}\n", ".vigila/c.yaml": "vigila: checks/v1\nchecks:\n  errors: {request: {service: gate}, good: 'true'}\n"},
			[]string{`wards/gate.yaml:6: canary.checks names "error", which is none of this ward's checks, nor of those that it shares; did you mean errors?`, ".vigila/c.yaml:3: there is a check errors already, at .vigila/a.yaml:3", ".vigila/b.yaml:4: checks.late.good is missing"}},
		{"a StatefulSet that can't be parted", map[string]string{"wards/gate.yaml": gate + "canary:\n  - {of: StatefulSet/gate, by: replicas, shares: [20], each: 1m, within: 1h, checks: [errors]}\n", ".vigila/a.yaml": "vigila: checks/v1\nchecks:\n  errors: {request: {service: gate}, good: 'true'}\n",
			"app/a.yaml": "apiVersion: apps/v1\nkind: StatefulSet\nmetadata: {name: gate}\nspec: {updateStrategy: {type: OnDelete}, selector: {matchLabels: {a: b}}, template: {metadata: {labels: {a: b}}, spec: {containers: [{name: c, image: d}]}}}\n"},
			[]string{"wards/gate.yaml:6: the canary of StatefulSet/gate can't be made: its updateStrategy is OnDelete"}},
		{"versions of nothing, of two wards, and of a file that is none", map[string]string{"wards/gate.yaml": strings.Replace(gate, "path: app", "path: app, versions: [v/both.yaml, v/one.yaml]", 1) + "---\n" + strings.Replace(strings.Replace(gate, "name: gate", "name: tide", 1), "path: app", "path: tide, versions: [v/both.yaml, v/none.yaml]", 1),
			"app/a.yaml": "apiVersion: v1\nkind: Pod\nmetadata: {name: a}\nspec: {containers: [{name: a, image: \"a.example/a:1\"}]}\n", "tide/b.yaml": "apiVersion: v1\nkind: Pod\nmetadata: {name: b}\nspec: {containers: [{name: b, image: \"a.example/b:1\"}]}\n",
			"v/both.yaml": "vigila: versions/v1\nimages: {a.example/a: 2, a.example/b: 2}\n", "v/one.yaml": "vigila: versions/v1\nimages:\n  a.example/c: 2\n"},
			[]string{"v/one.yaml:3: it says the version of image a.example/c, and no ward that it is laid over has one", "versions of ward tide: "}},
		{"the innermost roster counts", map[string]string{"rosters.yaml": limits + "---\nvigila: roster/v1\nname: pilots\nfrom: {path: teams/pilots}\n", "teams/pilots/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: skerry, namespace: tides}\n", "app/a.yaml": config}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := t.TempDir()
			for name, text := range c.files {
				at := filepath.Join(root, name)
				require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
				require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
			}
			r, err := Dir(t.Context(), repo.Folder{Root: root}, "", Options{Elsewhere: []string{"far"}})
			require.NoError(t, err)
			var out bytes.Buffer
			r.Text(&out)
			assert.Equal(t, len(c.want), r.Errors(false), out.String())
			for _, want := range c.want {
				assert.Contains(t, out.String(), want)
			}
			assert.NotContains(t, out.String(), "spring-tide")
		})
	}
}

// TestADefinitionBesideItsObjects is one to hold them against.
func TestADefinitionBesideItsObjects(t *testing.T) {
	root := t.TempDir()
	crd := "apiVersion: apiextensions.k8s.io/v1\nkind: CustomResourceDefinition\nmetadata: {name: berths.harbour.brindle.example}\nspec:\n  group: harbour.brindle.example\n  scope: Namespaced\n  names: {plural: berths, kind: Berth}\n  versions:\n    - {name: v1, served: true, storage: true, schema: {openAPIV3Schema: {type: object, properties: {spec: {type: object, properties: {length: {type: integer}}}}}}}\n"
	for name, text := range map[string]string{
		"base/crd.yaml": crd,
		"app/a.yaml":    "apiVersion: harbour.brindle.example/v1\nkind: Berth\nmetadata: {name: one, labels: {a: b}}\nspec: {length: 3}\n---\napiVersion: harbour.brindle.example/v1\nkind: Berth\nmetadata: {name: two}\nspec: {length: long, width: 2}\n---\napiVersion: harbour.brindle.example/v2\nkind: Berth\nmetadata: {name: three}\n",
		"wards.yaml":    gate + "---\nvigila: ward/v1\nname: base\nfrom: {path: base}\ninto: {cluster: quay}\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o600))
	}
	schema, err := ParseSchema([]byte(`{"definitions": {"crd": {"x-kubernetes-group-version-kind": [{"group": "apiextensions.k8s.io", "version": "v1", "kind": "CustomResourceDefinition"}]}}}`))
	require.NoError(t, err)
	r, err := Dir(t.Context(), repo.Folder{Root: root}, "", Options{Schema: schema})
	require.NoError(t, err)
	var out bytes.Buffer
	r.Text(&out)
	assert.Equal(t, "app/a.yaml:6: Berth/two: spec.length: got string, want integer\napp/a.yaml:6: Berth/two: spec: unknown fields 'width' not allowed\n"+
		"app/a.yaml:11: Berth/three: the cluster knows no Berth in harbour.brindle.example/v2; it has it in harbour.brindle.example/v1\n\n4 objects in 3 files, 2 wards: 3 mistakes\n", out.String())
	out.Reset()
	require.NoError(t, r.JUnit(&out))
	assert.Contains(t, out.String(), `tests="2" failures="1"`, "what failed is shown as failed, and nothing twice")
	assert.Regexp(t, `(?s)<testcase name="ward gate"[^/]*<failure`, out.String())
	assert.Contains(t, out.String(), `<testcase name="ward base" classname="vigila.check"></testcase>`)
}

// TestWhatGitIgnoresIsInNoCommit: the service would not see it either.
func TestWhatGitIgnoresIsInNoCommit(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "app", "out"), 0o755))
	for name, text := range map[string]string{"wards.yaml": gate, "app/kustomization.yaml": "resources: [a.yaml, out/b.yaml]\n", "app/a.yaml": config, "app/out/b.yaml": "{", "app/out/loose.yaml": "kind: {"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o600))
	}
	r, err := Dir(t.Context(), repo.Folder{Root: root, Without: map[string]bool{"app/out": true}}, "", Options{})
	require.NoError(t, err)
	require.Len(t, r.Findings, 1, r.Findings)
	assert.Contains(t, r.Findings[0].Text, "there is no base app/out/b.yaml")
}

// TestAPartKnowsTheWhole: what is checked may wait for what the repository declares beside it, and is not told of mistakes there.
func TestAPartKnowsTheWhole(t *testing.T) {
	root := t.TempDir()
	for name, text := range map[string]string{"teams/gate.yaml": gate + "after: [horn]\n", "app/a.yaml": config, "platform/horn.yaml": horn + "---\nvigila: ward/v1\nname: broken\n"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o600))
	}
	r, err := Dir(t.Context(), repo.Folder{Root: root}, "teams", Options{})
	require.NoError(t, err)
	assert.Empty(t, r.Findings)
	r, err = Dir(t.Context(), repo.Folder{Root: root}, "", Options{})
	require.NoError(t, err)
	assert.NotEmpty(t, r.Findings)
}
