package check

import (
	"bytes"
	"encoding/json"
	"flag"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/rule"
)

var golden = flag.Bool("golden", false, "write testdata anew")

// TestRealManifestsUnderOurRules: what all rules of ours say of manifests that nobody here wrote, those of Kubernetes' own add-ons and tests. The
// findings were read, and a person agrees with them; another one is to be read as well.
func TestRealManifestsUnderOurRules(t *testing.T) {
	cmd := exec.Command("sh", "-c", "cd ../../lab && go mod download -json k8s.io/kubernetes")
	out, err := cmd.Output()
	require.NoError(t, err)
	var m struct{ Dir string }
	require.NoError(t, json.Unmarshal(out, &m))
	files := map[string]string{".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: all\nours: [" + strings.Join(rule.Names(), ", ") + "]\n"}
	sets := []string{"cluster/addons/dns/coredns", "cluster/addons/dns/nodelocaldns", "cluster/addons/metrics-server", "cluster/addons/rbac/kubelet-api-auth", "test/e2e/testing-manifests/guestbook",
		"test/e2e/testing-manifests/statefulset/cassandra", "test/e2e/testing-manifests/statefulset/cockroachdb", "test/e2e/testing-manifests/statefulset/mysql-upgrade", "test/e2e/testing-manifests/statefulset/zookeeper",
		"test/e2e/testing-manifests/statefulset/etcd", "test/e2e/testing-manifests/serviceloadbalancer", "test/e2e/testing-manifests/storage-csi/hostpath/hostpath", "test/e2e/testing-manifests/storage-csi/any-volume-datasource"}
	for _, set := range sets {
		require.NoError(t, filepath.WalkDir(filepath.Join(m.Dir, set), func(path string, d fs.DirEntry, err error) error {
			if ext := filepath.Ext(path); err != nil || d.IsDir() || ext != ".yaml" && ext != ".json" {
				return err
			}
			text, err := os.ReadFile(path)
			rel, _ := filepath.Rel(m.Dir, path)
			files[filepath.ToSlash(rel)] = string(text)
			return err
		}))
	}
	r := checked(t, files, Options{})
	require.Greater(t, r.Objects, 60)
	for _, f := range r.Findings {
		assert.NotContains(t, f.Text, "can't be evaluated")
	}
	var said bytes.Buffer
	r.Text(&said)
	const at = "testdata/real.txt"
	if *golden {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(at, said.Bytes(), 0o600))
	}
	want, err := os.ReadFile(at)
	require.NoError(t, err)
	assert.Equal(t, string(want), said.String())
}
