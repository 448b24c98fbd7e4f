package render

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// module fetches somebody else's Go module from the module proxy; charts and overlays come with some of them.
func module(t *testing.T, at string) repo.Folder {
	t.Helper()
	cmd := exec.Command("go", "mod", "download", "-json", at)
	cmd.Dir = t.TempDir()
	out, err := cmd.Output()
	require.NoError(t, err, "%s", out)
	var m struct{ Dir string }
	require.NoError(t, json.Unmarshal(out, &m))
	return repo.Folder{Root: m.Dir}
}

// TestWhatOthersWroteRenders renders charts and overlays that know nothing of this renderer.
func TestWhatOthersWroteRenders(t *testing.T) {
	if testing.Short() {
		t.Skip("it fetches modules")
	}
	for _, c := range []struct {
		module, path, values string
		kinds                map[string]int
		check                func(t *testing.T, r *Result)
	}{
		{"sigs.k8s.io/metrics-server@v0.7.2", "charts/metrics-server", "{replicas: 2, podDisruptionBudget: {enabled: true, minAvailable: 1}, args: [--kubelet-insecure-tls]}",
			map[string]int{"Deployment": 1, "Service": 1, "APIService": 1, "ServiceAccount": 1, "ClusterRole": 2, "ClusterRoleBinding": 2, "RoleBinding": 1, "PodDisruptionBudget": 1},
			func(t *testing.T, r *Result) {
				d := body(t, r, "Deployment/tides-metrics-server")
				assert.Equal(t, int64(2), at2(t, d, "spec", "replicas"))
				c := at2(t, d, "spec", "template", "spec", "containers", 0)
				assert.Equal(t, "registry.k8s.io/metrics-server/metrics-server:v0.7.1", at2(t, c, "image"))
				assert.Contains(t, at2(t, c, "args"), "--kubelet-insecure-tls")
				assert.Equal(t, "Vigila", at2(t, d, "metadata", "labels", "app.kubernetes.io/managed-by"))
				assert.Equal(t, map[string]any{"app.kubernetes.io/name": "metrics-server", "app.kubernetes.io/instance": "tides"}, at2(t, d, "spec", "selector", "matchLabels"))
			}},
		{"sigs.k8s.io/external-dns@v0.15.1", "charts/external-dns", "{provider: {name: webhook, webhook: {image: {repository: registry.brindle.example/hook, tag: '1'}}}, sources: [ingress, crd], domainFilters: [brindle.example]}",
			map[string]int{"Deployment": 1, "Service": 1, "ServiceAccount": 1, "ClusterRole": 1, "ClusterRoleBinding": 1, "CustomResourceDefinition": 1},
			func(t *testing.T, r *Result) {
				assert.Contains(t, asText(t, r), `"--domain-filter=brindle.example"`)
			}},
		{"sigs.k8s.io/kueue@v0.10.1", "charts/kueue", "{}", nil, func(t *testing.T, r *Result) {
			assert.Greater(t, len(r.Objects), 40)
			assert.Contains(t, strings.Join(names(r.Objects), " "), "CustomResourceDefinition/clusterqueues.kueue.x-k8s.io")
		}},
		{"sigs.k8s.io/metrics-server@v0.7.2", "manifests/overlays/test-ha", "", map[string]int{"Deployment": 1, "Service": 1, "APIService": 1, "ServiceAccount": 1, "ClusterRole": 2, "ClusterRoleBinding": 2, "RoleBinding": 1, "PodDisruptionBudget": 1},
			func(t *testing.T, r *Result) {
				d := body(t, r, "Deployment/metrics-server")
				assert.Equal(t, int64(2), at2(t, d, "spec", "replicas"), "of the component high-availability")
				assert.Equal(t, "manifests/base/deployment.yaml", r.Objects[indexOf(r, "Deployment/metrics-server")].File)
			}},
		{"sigs.k8s.io/gateway-api@v1.2.1", "config/crd", "", map[string]int{"CustomResourceDefinition": 5}, nil},
		{"sigs.k8s.io/kueue@v0.10.1", "config/default", "", nil, func(t *testing.T, r *Result) {
			assert.Greater(t, len(r.Objects), 40)
			assert.Contains(t, strings.Join(names(r.Objects), " "), "Deployment/kueue-controller-manager")
		}},
	} {
		t.Run(c.module+" "+c.path, func(t *testing.T) {
			tree := module(t, c.module)
			req := request(t, "path: "+c.path, nil)
			req.Tree, req.Ward.From.Release = tree, "tides"
			if c.values != "" {
				w, err := ward.Parse("w", []byte("vigila: ward/v1\nname: a\nfrom: {repo: r, values: "+c.values+"}\ninto: {cluster: c}\n"))
				require.NoError(t, err)
				req.Ward.From.Values = w[0].From.Values
			}
			r, err := Render(t.Context(), req)
			require.NoError(t, err)
			kinds := map[string]int{}
			for _, o := range r.Objects {
				kinds[o.Ref.Kind]++
			}
			if c.kinds != nil {
				assert.Equal(t, c.kinds, kinds)
			}
			if c.check != nil {
				c.check(t, r)
			}
			again, err := Render(t.Context(), req)
			require.NoError(t, err)
			assert.Equal(t, asText(t, r), asText(t, again), "the same bytes")
		})
	}
}

func indexOf(r *Result, short string) int {
	for i, o := range r.Objects {
		if o.Ref.Short() == short {
			return i
		}
	}
	return -1
}
