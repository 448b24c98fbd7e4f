package e2e

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/tools/clientcmd"
	"sigs.k8s.io/yaml"
)

// resourceOf names the resources of the kinds that are installed.
var resourceOf = map[string]string{"Namespace": "namespaces", "ServiceAccount": "serviceaccounts", "ClusterRole": "clusterroles", "ClusterRoleBinding": "clusterrolebindings", "Role": "roles", "RoleBinding": "rolebindings", "Service": "services",
	"StatefulSet": "statefulsets", "Deployment": "deployments", "PersistentVolumeClaim": "persistentvolumeclaims", "NetworkPolicy": "networkpolicies", "Ingress": "ingresses", "Secret": "secrets", "ConfigMap": "configmaps"}

// applied is what the API server answers to manifests that are tried out on it, one after the other; warnings and all.
func (s *service) applied(text string) (kinds []string) {
	s.t.Helper()
	for _, doc := range strings.Split(text, "---\n") {
		var o unstructured.Unstructured
		require.NoError(s.t, yaml.UnmarshalStrict([]byte(doc), &o.Object), doc)
		if len(o.Object) == 0 {
			continue
		}
		gvr := o.GroupVersionKind().GroupVersion().WithResource(resourceOf[o.GetKind()])
		client := s.dynamic().Resource(gvr)
		how := metav1.ApplyOptions{FieldManager: "kubectl", Force: true, DryRun: []string{metav1.DryRunAll}} // others try the same names
		if o.GetKind() == "Namespace" {
			how.DryRun, how.Force = nil, false // what follows lives in it
		}
		var err error
		if o.GetNamespace() != "" {
			_, err = client.Namespace(o.GetNamespace()).Apply(context.Background(), o.GetName(), &o, how)
		} else {
			_, err = client.Apply(context.Background(), o.GetName(), &o, how)
		}
		require.NoError(s.t, err, doc)
		kinds = append(kinds, o.GetKind())
	}
	return kinds
}

// dynamic is a client of the cluster that is not Vigila's.
func (s *service) dynamic() dynamic.Interface {
	s.t.Helper()
	cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig())
	require.NoError(s.t, err)
	dyn, err := dynamic.NewForConfig(cfg)
	require.NoError(s.t, err)
	return dyn
}

// TestWhatIsInstalledIsTaken: the API server takes every manifest, and its Pods keep to what Kubernetes calls restricted.
func TestWhatIsInstalledIsTaken(t *testing.T) {
	t.Parallel()
	s := newService(t)
	out := s.ok("install", "cluster", "--image", "registry.brindle.example/vigila:1", "--namespace", s.name, "--host", "vigila.brindle.example", "--tls-secret", "tls", "--backup-to", "s3://harbour/vigila?endpoint=https://s3.brindle.example", "--keep-this-cluster", "--storage-class", "fast")
	assert.Subset(t, s.applied(out), []string{"StatefulSet", "Service", "NetworkPolicy", "Ingress", "ClusterRole"})
	restricted := `{"metadata":{"labels":{"pod-security.kubernetes.io/enforce":"restricted"}}}`
	_, err := s.dynamic().Resource(schema.GroupVersionResource{Version: "v1", Resource: "namespaces"}).Patch(t.Context(), s.name, "application/merge-patch+json", []byte(restricted), metav1.PatchOptions{})
	require.NoError(t, err)
	pair := s.ok("install", "cluster", "--image", "i", "--namespace", s.name, "--pair")
	assert.Subset(t, s.applied(pair), []string{"StatefulSet", "Service", "Role", "RoleBinding"})
	for _, want := range []string{"replicas: 2", `"--lease=` + s.name + `/vigila"`, "http://vigila-0.vigila-each." + s.name + ":7740,http://vigila-1.", "publishNotReadyAddresses: true", "secretKeyRef: {name: vigila-key, key: key}"} {
		assert.Contains(t, pair, want)
	}
	key := s.ok("install", "key", "--namespace", s.name)
	assert.Equal(t, []string{"Secret"}, s.applied(key))
	assert.NotEqual(t, key, s.ok("install", "key", "--namespace", s.name))
	for _, text := range []string{out, pair, s.ok("install", "cluster", "--image", "i", "--namespace", s.name)} {
		s.podsAreTaken(text)
	}

	join := s.ok("cluster", "add", "skerry", "--by-lookout", "--image", "registry.brindle.example/vigila:1", "--only-namespace", s.name, "--call", "https://vigila.brindle.example")
	join = strings.ReplaceAll(strings.ReplaceAll(join, "namespace: vigila", "namespace: "+s.name), "Namespace\nmetadata: {name: vigila}", "Namespace\nmetadata: {name: "+s.name+"}")
	assert.Subset(t, s.applied(join), []string{"Deployment", "PersistentVolumeClaim", "Secret", "Role"})
	s.podsAreTaken(join)
	assert.Contains(t, join, `"--only-namespace=`+s.name+`"`)

	dir := filepath.Join(t.TempDir(), "git")
	secret := s.ok("cluster", "add", "skerry", "--by-lookout", "--image", "i", "--dir", dir)
	text, err := os.ReadFile(filepath.Join(dir, "lookout.yaml"))
	require.NoError(t, err)
	assert.Contains(t, secret, "kind: Secret")
	assert.NotContains(t, string(text), "vigila_", "no token goes into git")

	s.fails(2, "needs --image", "install", "cluster")
	for flag, bad := range map[string]string{"--image": "a b", "--namespace": "Foo Bar", "--volume": "much", "--storage-class": "a: b", "--tls-secret": "x\ny"} {
		s.fails(2, flag+" is", "install", "cluster", "--image", "i", "--host", "h", "--tls-secret", "t", flag, bad)
	}
	s.fails(2, "--call is", "cluster", "add", "skerry", "--by-lookout", "--call", "vigila")
	s.fails(2, "is no address of a service", "lookout", "--service", "foo", "--service-key", "x")
	s.fails(2, "is no name of a key", "lookout", "--service", "https://vigila.brindle.example", "--service-key", "x")
	s.fails(2, "belong together", "install", "cluster", "--image", "i", "--host", "a")
	for _, args := range [][]string{{"install", "systemd"}, {"install", "systemd", "--for-lookout"}} {
		assert.Contains(t, s.ok(args...), "NoNewPrivileges=yes")
	}
	man := filepath.Join(t.TempDir(), "man1")
	assert.Contains(t, s.ok("install", "man", "--dir", man), "pages are in")
	page, err := os.ReadFile(filepath.Join(man, "vigila-cluster-add.1"))
	require.NoError(t, err)
	assert.Contains(t, string(page), "by-lookout")
}

// podsAreTaken makes a Pod of every template, in a namespace that takes restricted ones only.
func (s *service) podsAreTaken(text string) {
	s.t.Helper()
	found := false
	for _, doc := range strings.Split(text, "---\n") {
		var o unstructured.Unstructured
		require.NoError(s.t, yaml.Unmarshal([]byte(doc), &o.Object))
		template, is, _ := unstructured.NestedMap(o.Object, "spec", "template")
		if !is {
			continue
		}
		found = true
		delete(template["spec"].(map[string]any), "serviceAccountName") // it is not there, nor does it matter
		for _, c := range template["spec"].(map[string]any)["containers"].([]any) {
			delete(c.(map[string]any), "volumeMounts")
		}
		pod := &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "Pod", "metadata": map[string]any{"name": "trial"}, "spec": template["spec"]}}
		_, err := s.dynamic().Resource(schema.GroupVersionResource{Version: "v1", Resource: "pods"}).Namespace(s.name).Create(s.t.Context(), pod, metav1.CreateOptions{DryRun: []string{metav1.DryRunAll}})
		require.NoError(s.t, err)
	}
	assert.True(s.t, found)
}
