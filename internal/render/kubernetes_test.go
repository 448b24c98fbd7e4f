package render

import (
	"encoding/json"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// wide are the kinds among these manifests that live in no namespace.
var wide = []string{"Namespace", "ClusterRole", "ClusterRoleBinding", "StorageClass", "APIService", "CustomResourceDefinition", "PersistentVolume", "PriorityClass", "VolumeSnapshotClass", "FlowSchema",
	"PriorityLevelConfiguration", "ValidatingAdmissionPolicy", "ValidatingAdmissionPolicyBinding", "CSIDriver", "DeviceClass", "Node"}

// TestKubernetesOwnManifests reads every set of manifests that Kubernetes ships for its add-ons and its own tests: each is
// taken whole, or refused with a reason that a person agrees with.
func TestKubernetesOwnManifests(t *testing.T) {
	cmd := exec.Command("go", "list", "-m", "-json", "k8s.io/kubernetes")
	cmd.Dir = "../../lab"
	out, err := cmd.Output()
	require.NoError(t, err)
	var m struct{ Dir string }
	require.NoError(t, json.Unmarshal(out, &m))
	if m.Dir == "" {
		out, err = exec.Command("sh", "-c", "cd ../../lab && go mod download k8s.io/kubernetes").CombinedOutput()
		require.NoError(t, err, "%s", out)
		out, err = cmd.Output()
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(out, &m))
	}
	refused := map[string]string{ // what a set is refused for
		// texts with variables that a script fills in; until then they are no YAML
		"cluster/addons/fluentd-gcp":                "fluentd-gcp-ds.yaml:116: this is not valid YAML",
		"cluster/addons/metadata-agent/stackdriver": "metadata-agent.yaml:10: this is not valid YAML",
		// alternatives, of which one test takes one
		"test/e2e/testing-manifests/storage-csi/mock":     "StatefulSet/csi-mockplugin is declared twice",
		"test/e2e/testing-manifests/sample-device-plugin": "DaemonSet/sample-device-plugin-beta is declared twice",
		// the configuration of programs, which is no object
		"test/e2e/testing-manifests/auth/encrypt": "EncryptionConfiguration has no metadata.name",
	}
	sets := map[string][]object.Object{}
	errs := map[string][]string{}
	for _, top := range []string{"cluster/addons", "test/e2e/testing-manifests"} {
		require.NoError(t, filepath.WalkDir(filepath.Join(m.Dir, top), func(path string, d fs.DirEntry, err error) error {
			if ext := filepath.Ext(path); err != nil || d.IsDir() || ext != ".yaml" && ext != ".yml" && ext != ".json" {
				return err
			}
			rel, err := filepath.Rel(m.Dir, path)
			require.NoError(t, err)
			set := filepath.Dir(rel)
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			objects, err := object.Parse(rel, data)
			if err != nil {
				errs[set] = append(errs[set], err.Error())
			}
			sets[set] = append(sets[set], objects...)
			return nil
		}))
	}
	n := 0
	for set, objects := range sets {
		placed, err := Place(ward.Ward{Name: "addons", Into: ward.Into{Cluster: "quay", Namespace: "addons"}}, "s", objects, func(o object.Object) (bool, error) { return !slices.Contains(wide, o.Ref.Kind), nil })
		if err != nil {
			errs[set] = append(errs[set], err.Error())
		}
		n += len(placed)
		for _, o := range placed {
			if slices.Contains(wide, o.Ref.Kind) {
				assert.Empty(t, o.Ref.Namespace, "%s is taken as Kubernetes takes it", o.Ref)
			}
		}
		if want, known := refused[set]; known {
			assert.Contains(t, strings.Join(errs[set], "\n"), want, set)
		} else {
			assert.Empty(t, errs[set], set)
		}
	}
	assert.Greater(t, len(sets), 20)
	assert.Greater(t, n, 120)
}
