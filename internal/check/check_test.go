package check

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/repo"
)

const (
	config = "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: horn}\n"
	gate   = "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: quay, namespace: fares}\n"
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
		{"the innermost roster counts", map[string]string{"rosters.yaml": limits + "---\nvigila: roster/v1\nname: pilots\nfrom: {path: teams/pilots}\n", "teams/pilots/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: skerry, namespace: tides}\n", "app/a.yaml": config}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			root := t.TempDir()
			for name, text := range c.files {
				at := filepath.Join(root, name)
				require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
				require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
			}
			r, err := Dir(t.Context(), repo.Folder{Root: root}, "", Options{})
			require.NoError(t, err)
			var out bytes.Buffer
			r.Text(&out)
			assert.Len(t, r.Findings, len(c.want), out.String())
			for _, want := range c.want {
				assert.Contains(t, out.String(), want)
			}
			assert.NotContains(t, out.String(), "spring-tide")
		})
	}
}
