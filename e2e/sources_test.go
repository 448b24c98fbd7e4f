package e2e

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/registry"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	authenticationv1 "k8s.io/api/authentication/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/discovery"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/tools/clientcmd"
	"oras.land/oras-go/v2"
	"oras.land/oras-go/v2/content/memory"
	"oras.land/oras-go/v2/registry/remote"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/render"
)

// of reads one ward; false when there is none.
func (s *service) of(id string) (client.Ward, bool) {
	s.t.Helper()
	r, err := s.api.GetWardWithResponse(context.Background(), id)
	if r != nil && r.StatusCode() == http.StatusNotFound {
		return client.Ward{}, false
	}
	require.NoError(s.t, s.api.Check(r, err))
	return r.JSON200.Ward, true
}

// untilOf waits for a condition of one ward among many.
func (s *service) untilOf(id, what string, cond func(client.Ward) bool) client.Ward {
	s.t.Helper()
	var w client.Ward
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		var there bool
		if w, there = s.of(id); there && cond(w) {
			return w
		}
		if time.Now().After(end) {
			text, _ := json.MarshalIndent(w, "", " ")
			roster, _, _ := s.cli("roster", "list")
			s.t.Fatalf("waited in vain until %s %s; the ward is:\n%s\n%s", id, what, text, roster)
		}
	}
}

func (s *service) rosterUntil(name, what string, cond func(client.Roster) bool) client.Roster {
	s.t.Helper()
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		r, err := s.api.GetRosterWithResponse(context.Background(), name)
		require.NoError(s.t, s.api.Check(r, err))
		if cond(*r.JSON200) {
			return *r.JSON200
		}
		if time.Now().After(end) {
			text, _ := json.MarshalIndent(r.JSON200, "", " ")
			s.t.Fatalf("waited in vain until roster %s %s; it is:\n%s", name, what, text)
		}
	}
}

func wardText(name, ns, more string) string {
	return fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nowner: harbour-ops\nfrom: {path: apps/%[1]s}\ninto: {cluster: quay, namespace: %[2]s, create_namespace: true}\n%[3]s", name, ns, more)
}

const auto = "keep: {sync: auto, drift: restore, every: 1s}\n"

// TestARosterDeclaresWhatIsKept: wards come, change and go with their files; a broken one stops nobody else; what goes
// is left behind or dismantled, and many at once ask first.
func TestARosterDeclaresWhatIsKept(t *testing.T) {
	t.Parallel()
	s := newService(t)
	ns := func(n string) string { return "roster-" + n }
	files := map[string]string{"wards/cluster.yaml": "vigila: cluster/v1\nname: quay\nlabels: {tier: rehearsal}\nlinks: {Runbook: \"https://docs.brindle.example/quay\"}\n"}
	for _, n := range []string{"one", "two", "three"} {
		files["apps/"+n+"/c.yaml"] = config("mark", "v", n)
		files["wards/"+n+".yaml"] = wardText(n, ns(n), auto)
	}
	files["wards/two.yaml"] = wardText("two", ns("two"), "keep: {sync: ask, every: 1s, on_removal: dismantle}\nafter: [one]\n")
	files["wards/three.yaml"] = strings.Replace(wardText("three", ns("three"), "keep: {sync: auto, every: 1s}\nafter: [two]\n"), "cluster: quay", "clusters: {tier: rehearsal}", 1)
	files["wards/health.yaml"] = "vigila: health/v1\nof: Berth.brindle.example\nready: object.status.open == true\n"
	s.push("All", files)
	s.fails(1, `has no "wads"`, "roster", "add", "sound", "--repo", s.name, "--path", "wads")
	s.fails(1, `there is no repository "nope"`, "roster", "add", "sound", "--repo", "nope")
	s.ok("roster", "add", "sound", "--repo", s.name, "--path", "wards")
	r := s.rosterUntil("sound", "keeps its wards", func(r client.Roster) bool { return r.Wards == 3 })
	assert.EqualValues(t, "in step", r.Standing)
	assert.Empty(t, r.Problems)
	s.untilOf("one@quay", "is in step", inStepAndReady)
	w := s.untilOf("three@quay", "waits", func(w client.Ward) bool { return strings.HasPrefix(w.WaitsFor, "two@quay") })
	assert.Equal(t, "sound", w.Roster)
	assert.Equal(t, "wards/three.yaml", w.Source)
	clusters := s.ok("cluster", "list")
	assert.Contains(t, clusters, "tier=rehearsal", "labels are declared as well")
	s.fails(1, "ward one is declared by roster sound, in wards/one.yaml; change it there", "ward", "add", s.file("one.yaml", strings.Replace(wardText("one", ns("one"), auto), "from: {", "from: {repo: "+s.name+", ", 1)))
	s.fails(1, "remove wards/one.yaml there", "ward", "remove", "one")

	out := s.ok("roster", "sync", "sound") // two asks, and is brought up all the same, in its turn
	assert.Contains(t, out, "All 3 are in step and ready")
	firstOf := func(id string) client.Entry {
		r, err := s.api.GetEntryWithResponse(context.Background(), id, 1)
		require.NoError(t, s.api.Check(r, err))
		return *r.JSON200
	}
	assert.False(t, firstOf("three@quay").Started.Before(firstOf("two@quay").Ended), "each in its turn")
	assert.Equal(t, "brought up by admin", firstOf("two@quay").Why)

	// A broken file stops nobody else, and its ward keeps its last good declaration.
	s.push("Break two", map[string]string{"wards/two.yaml": files["wards/two.yaml"] + "kep: {}\n", "apps/one/c.yaml": config("mark", "v", "another")})
	w = s.untilOf("two@quay", "is blind", func(w client.Ward) bool { return w.Standing == "blind" })
	assert.Contains(t, w.Says, "wards/two.yaml:8: unknown key kep; did you mean keep?")
	assert.True(t, w.NeedsYou)
	s.until2("one@quay", "v", "another")
	r = s.rosterUntil("sound", "says so", func(r client.Roster) bool { return len(r.Problems) == 1 })
	assert.EqualValues(t, "behind", r.Standing)
	assert.Equal(t, client.RosterProblem{File: "wards/two.yaml", Line: 8, Text: "unknown key kep; did you mean keep?"}, r.Problems[0])
	assert.Contains(t, s.ok("roster", "show", "sound"), "wards/two.yaml:8: unknown key kep; did you mean keep?")
	s.push("A wrong repository", map[string]string{"wards/two.yaml": strings.Replace(files["wards/two.yaml"], "from: {", "from: {repo: nowhere, ", 1)})
	w = s.untilOf("two@quay", "is still blind", func(w client.Ward) bool {
		return strings.Contains(w.Says, `comes from repository "nowhere", which is not known`)
	})
	assert.EqualValues(t, "blind", w.Standing)
	s.push("A slip", map[string]string{"wards/two.yaml": "vigla" + strings.TrimPrefix(files["wards/two.yaml"], "vigila")})
	s.untilOf("two@quay", "is not taken for removed", func(w client.Ward) bool {
		return strings.Contains(w.Says, "its first key is not vigila: ward/v1 any more")
	})
	s.push("Mend it", map[string]string{"wards/two.yaml": files["wards/two.yaml"]})
	s.untilOf("two@quay", "is in step again", inStepAndReady)

	// What goes is left behind, or dismantled; objects of neither are touched otherwise.
	s.push("Two and three go", map[string]string{"wards/two.yaml": "", "wards/three.yaml": ""})
	r = s.rosterUntil("sound", "asks about the namespace", func(r client.Roster) bool { return len(r.Left) == 1 && len(r.Problems) == 1 })
	assert.Contains(t, r.Says, "it left the roster and is to be dismantled, but Namespace/"+ns("two")+" would be removed")
	assert.Equal(t, "three@quay", r.Left[0].Ward)
	assert.Contains(t, r.Left[0].Objects, ns("three")+"/ConfigMap/mark")
	assert.NotNil(t, live(t, "", "v1", "configmaps", ns("three"), "mark"), "left in the cluster")
	s.ok("ward", "remove", "two@quay", "--dismantle", "--allow", "Namespace/"+ns("two"))
	s.gone(ns("two"), "mark")
	s.rosterUntil("sound", "has let it go", func(r client.Roster) bool { return r.Wards == 1 && len(r.Problems) == 0 })
	s.push("Three comes back", map[string]string{"wards/three.yaml": strings.Replace(files["wards/three.yaml"], "after: [two]\n", "", 1)})
	s.untilOf("three@quay", "is in step, and nothing was made anew", inStepAndReady)
	assert.Empty(t, s.rosterUntil("sound", "keeps it again", func(r client.Roster) bool { return r.Wards == 2 }).Left)

	// All at once asks.
	s.push("An accident", map[string]string{"wards/one.yaml": "", "wards/three.yaml": ""})
	r = s.rosterUntil("sound", "stops", func(r client.Roster) bool { return r.Guard != "" })
	assert.Equal(t, "mass-removal", r.Guard)
	assert.Contains(t, r.Says, "Stopped before harm: 2 of its 2 wards are not in its files any more: one, three")
	assert.Equal(t, 2, r.Wards, "they are kept on")
	s.ok("roster", "sync", "sound", "--allow", "mass-removal")
	r = s.rosterUntil("sound", "let them go", func(r client.Roster) bool { return r.Wards == 0 })
	assert.Len(t, r.Left, 2)
	s.ok("roster", "forget", "one@quay")
	s.fails(1, "nothing was left behind of one@quay", "roster", "forget", "one@quay")
	assert.NotNil(t, live(t, "", "v1", "configmaps", ns("one"), "mark"))
	s.ok("roster", "remove", "sound")
}

// until2 waits until the ConfigMap mark of a ward's namespace holds a value.
func (s *service) until2(id, key, want string) {
	s.t.Helper()
	w, _ := s.of(id)
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		o := live(s.t, "", "v1", "configmaps", w.Namespace, "mark")
		if o != nil {
			if v, _, _ := unstructured.NestedString(o.Object, "data", key); v == want {
				return
			}
		}
		require.False(s.t, time.Now().After(end), "ConfigMap mark of %s never holds %s: %s", w.Namespace, key, want)
	}
}

// gone waits until a ConfigMap is not there.
func (s *service) gone(namespace, name string) {
	s.t.Helper()
	maps := cluster(s.t).Resource(schema.GroupVersionResource{Version: "v1", Resource: "configmaps"}).Namespace(namespace)
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		if _, err := maps.Get(context.Background(), name, metav1.GetOptions{}); apierrors.IsNotFound(err) {
			return
		}
		require.False(s.t, time.Now().After(end), "%s/%s never goes", namespace, name)
	}
}

// file writes a file of the test's and returns its path.
func (s *service) file(name, text string) string {
	s.t.Helper()
	path := filepath.Join(s.dir, name)
	require.NoError(s.t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// TestRostersNestAndHaveLimits: a roster declares another, which may only do so much, and acts as a service account.
func TestRostersNestAndHaveLimits(t *testing.T) {
	t.Parallel()
	s := newService(t)
	dyn := cluster(t)
	space := schema.GroupVersionResource{Version: "v1", Resource: "namespaces"}
	ns := s.name
	_, err := dyn.Resource(space).Create(context.Background(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "Namespace", "metadata": map[string]any{"name": ns}}}, metav1.CreateOptions{})
	require.NoError(t, err)
	apply := func(text string) { s.applyByHand(text) }
	role := func(resources string) string {
		return "apiVersion: v1\nkind: ServiceAccount\nmetadata: {name: deployer, namespace: " + ns + "}\n---\napiVersion: rbac.authorization.k8s.io/v1\nkind: Role\nmetadata: {name: deployer, namespace: " + ns + "}\nrules: [{apiGroups: [\"\"], resources: [" + resources + "], verbs: [get, create, patch, delete]}]\n---\n" +
			"apiVersion: rbac.authorization.k8s.io/v1\nkind: RoleBinding\nmetadata: {name: deployer, namespace: " + ns + "}\nroleRef: {apiGroup: rbac.authorization.k8s.io, kind: Role, name: deployer}\nsubjects: [{kind: ServiceAccount, name: deployer, namespace: " + ns + "}]\n"
	}
	apply(role("configmaps"))
	nested := "vigila: roster/v1\nname: team\nfrom: {path: team}\nlimits: {namespaces: [" + ns + "], as: deployer}\n"
	ward := func(name, namespace string) string {
		return "vigila: ward/v1\nname: " + name + "\nfrom: {path: apps/" + name + "}\ninto: {cluster: quay, namespace: " + namespace + "}\n" + auto + "settle: {within: 5s, otherwise: stop}\n"
	}
	s.push("All", map[string]string{"wards/readme.md": "Wards.", "wards/team.yaml": nested, "team/mine.yaml": ward("mine", ns), "team/theirs.yaml": ward("theirs", "kube-system"),
		"team/cluster.yaml": "vigila: cluster/v1\nname: quay\n", "apps/mine/c.yaml": config("mark", "v", "1"), "apps/theirs/c.yaml": config("mark", "v", "1")})
	s.ok("roster", "add", "top", "--repo", s.name, "--path", "wards")
	s.untilOf("mine@quay", "is in step", inStepAndReady)
	r := s.rosterUntil("team", "says what it may not", func(r client.Roster) bool { return len(r.Problems) == 2 })
	assert.Equal(t, "top", r.Parent)
	text := r.Problems[0].Text + r.Problems[1].Text
	assert.Contains(t, text, "roster team has limits, so it may declare wards alone, not cluster quay")
	assert.Contains(t, text, `roster team lets its wards keep the namespaces `+ns+`, not "kube-system"`)
	_, there := s.of("theirs@quay")
	assert.False(t, there)

	s.push("More than it may", map[string]string{"apps/mine/s.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: tides}\nstringData: {a: b}\n", "apps/mine/n.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: far, namespace: default}\n"})
	w := s.untilOf("mine@quay", "is told about the namespace", func(w client.Ward) bool { return strings.Contains(w.Says, "outside the namespaces") })
	assert.EqualValues(t, "behind", w.Standing, "it was read, and is not let in")
	assert.Contains(t, w.Says, "default/ConfigMap/far is outside the namespaces that roster team lets its wards keep")
	s.push("Within it", map[string]string{"apps/mine/n.yaml": ""})
	w = s.untilOf("mine@quay", "is refused by the cluster", func(w client.Ward) bool { return strings.Contains(w.Says, "did not go through") })
	assert.Empty(t, w.Rejected, "rights say nothing about a revision")
	assert.Contains(t, w.Says, `User "system:serviceaccount:`+ns+`:deployer" cannot patch resource "secrets"`, "a repository can do no more than its owner may")
	apply(role("configmaps, secrets"))
	s.ok("sync", "mine")
	s.untilOf("mine@quay", "is in step", inStepAndReady)

	// The printed RBAC is taken by a real API server, and enough.
	apply(s.ok("cluster", "rbac", "--as", ns+"/deployer"))
	apply(s.ok("cluster", "rbac", "--namespace", ns, "--read-only"))
	apply(s.ok("cluster", "rbac"))
	server, token, ca := s.account("vigila")
	raw, err := clientcmd.LoadFromFile(kubeconfig())
	require.NoError(t, err)
	args := []string{"cluster", "add", "far", "--server", server, "--token-file", s.file("token.txt", token), "--label", "sea=far"}
	s.fails(1, "certificate", args...)
	s.ok(append(args, "--ca-file", s.file("ca.pem", ca))...)
	list, err := s.api.ListClustersWithResponse(context.Background(), &client.ListClustersParams{Search: "sea=far", Limit: 10})
	require.NoError(t, s.api.Check(list, err))
	require.Equal(t, 1, list.JSON200.Total)
	assert.EqualValues(t, "token", list.JSON200.Items[0].By)
	assert.NotContains(t, string(list.Body), token)
	s.ok("cluster", "add", "far", "--label", "sea=near")
	assert.Contains(t, s.ok("cluster", "list"), "sea=near", "labels change without the token")
	assert.Contains(t, s.ok("cluster", "contexts", kubeconfig()), raw.CurrentContext)
	s.fails(2, "it has: "+raw.CurrentContext, "cluster", "add", "x", "--kubeconfig", kubeconfig(), "--kube-context", "nope")

	s.push("The team goes", map[string]string{"wards/team.yaml": ""})
	s.rosterUntil("top", "asks or has let it go", func(r client.Roster) bool { return r.Guard == "" || r.Guard == "mass-removal" })
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		if _, there := s.of("mine@quay"); !there {
			break
		}
		require.False(t, time.Now().After(end), "the nested roster never goes")
	}
}

// applyByHand applies objects as an engineer does who sets a cluster up.
func (s *service) applyByHand(text string) {
	s.t.Helper()
	dyn := cluster(s.t)
	rbac := func(resource string) schema.GroupVersionResource {
		return schema.GroupVersionResource{Group: "rbac.authorization.k8s.io", Version: "v1", Resource: resource}
	}
	for _, doc := range strings.Split(text, "---\n") {
		var body map[string]any
		require.NoError(s.t, yaml.Unmarshal([]byte(doc), &body))
		if body == nil {
			continue
		}
		o := &unstructured.Unstructured{Object: body}
		gvr := map[string]schema.GroupVersionResource{"ServiceAccount": {Version: "v1", Resource: "serviceaccounts"}, "Namespace": {Version: "v1", Resource: "namespaces"},
			"Role": rbac("roles"), "RoleBinding": rbac("rolebindings"), "ClusterRole": rbac("clusterroles"), "ClusterRoleBinding": rbac("clusterrolebindings")}[o.GetKind()]
		var err error
		if o.GetNamespace() == "" {
			_, err = dyn.Resource(gvr).Apply(context.Background(), o.GetName(), o, metav1.ApplyOptions{FieldManager: "test", Force: true})
		} else {
			_, err = dyn.Resource(gvr).Namespace(o.GetNamespace()).Apply(context.Background(), o.GetName(), o, metav1.ApplyOptions{FieldManager: "test", Force: true})
		}
		require.NoError(s.t, err, doc)
	}
}

// account is how the service account vigila of a namespace reaches the cluster.
func (s *service) account(namespace string) (server, token, ca string) {
	s.t.Helper()
	rc, err := clientcmd.BuildConfigFromFlags("", kubeconfig())
	require.NoError(s.t, err)
	typed, err := kubernetes.NewForConfig(rc)
	require.NoError(s.t, err)
	t, err := typed.CoreV1().ServiceAccounts(namespace).CreateToken(context.Background(), "vigila", &authenticationv1.TokenRequest{}, metav1.CreateOptions{})
	require.NoError(s.t, err)
	raw, err := clientcmd.LoadFromFile(kubeconfig())
	require.NoError(s.t, err)
	return rc.Host, t.Status.Token, string(raw.Clusters[raw.Contexts[raw.CurrentContext].Cluster].CertificateAuthorityData)
}

// TestRightsInTwoNamespacesAreEnough: whoever may only look into some namespaces watches those, each by itself; what is declared elsewhere is
// told before it is applied, and so are the namespaces that git names for the cluster. A lookout is no other.
func TestRightsInTwoNamespacesAreEnough(t *testing.T) {
	t.Parallel()
	s := newService(t)
	one, two := s.name+"-one", s.name+"-two"
	for _, ns := range []string{s.name, one, two} {
		s.applyByHand("apiVersion: v1\nkind: Namespace\nmetadata: {name: " + ns + "}\n")
	}
	// As vigila cluster rbac prints it, for a service account that no other test has.
	s.applyByHand(strings.NewReplacer("namespace: vigila}", "namespace: "+s.name+"}", "metadata: {name: vigila}", "metadata: {name: "+s.name+"}", "vigila-namespaces", s.name).Replace(s.ok("cluster", "rbac", "--namespace", one, "--namespace", two)))
	server, token, ca := s.account(s.name)
	args := []string{"cluster", "add", "narrow", "--server", server, "--token-file", s.file("token.txt", token), "--ca-file", s.file("ca.pem", ca)}
	s.ok(args...)
	gate := func(ns string) string {
		return "vigila: ward/v1\nname: " + ns + "\nfrom: {repo: " + s.name + ", path: app}\ninto: {cluster: narrow, namespace: " + ns + "}\nkeep: {sync: auto, drift: report, every: 1s}\nsettle: {within: 10s}\n"
	}
	s.push("First", map[string]string{"app/c.yaml": config("mark", "v", "1")})
	s.add(gate(one))
	at := func(id, what string, cond func(client.Ward) bool) client.Ward {
		t.Helper()
		return s.untilOf(id, what, cond)
	}
	at(one+"@narrow", "is told how to look into some namespaces", func(w client.Ward) bool { return strings.Contains(w.Says, "--only-namespace") })

	s.ok("cluster", "add", "narrow", "--only-namespace", one, "--only-namespace", two, "--only-namespace", one)
	s.add(gate(two))
	at(one+"@narrow", "is in step", inStepAndReady)
	at(two+"@narrow", "is in step", inStepAndReady)
	assert.Contains(t, s.ok("cluster", "show", "narrow"), "looked into are the namespaces "+one+", "+two+" alone")
	lab(t, "edit", "configmap/mark", "--kubeconfig", kubeconfig(), "-n", two, "--as", "kubectl-edit", `data.v="9"`)
	at(two+"@narrow", "has drifted", func(w client.Ward) bool { return w.Standing == "drifted" })
	other, _ := s.of(one + "@narrow")
	assert.EqualValues(t, "in step", other.Standing)
	s.push("More than can be looked into", map[string]string{"app/far.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: far, namespace: default}\ndata: {a: b}\n"})
	at(one+"@narrow", "says what lies outside", func(w client.Ward) bool {
		return strings.Contains(w.Says, "default/ConfigMap/far is outside the namespaces that Vigila may look into in cluster narrow (--only-namespace): "+one+", "+two)
	})
	s.push("Within", map[string]string{"app/far.yaml": "", "wards/c.yaml": "vigila: cluster/v1\nname: narrow\nnamespaces: [" + one + "]\n"})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	at(two+"@narrow", "says what git lets be kept", func(w client.Ward) bool {
		return strings.Contains(w.Says, "is outside the namespaces that are declared for cluster narrow (namespaces of its cluster/v1): "+one)
	})
	s.push("Both", map[string]string{"wards/c.yaml": "vigila: cluster/v1\nname: narrow\nnamespaces: [" + one + ", " + two + "]\n"})
	at(two+"@narrow", "is let in again", func(w client.Ward) bool { return w.Standing == "drifted" })
	s.ok("sync", two, "--why", "both")
	at(two+"@narrow", "is in step again", inStepAndReady)

	// A lookout with the same rights.
	l := s.lookoutOf("narrow", "--kubeconfig", s.file("narrow.yaml", fmt.Sprintf("apiVersion: v1\nkind: Config\ncurrent-context: a\ncontexts: [{name: a, context: {cluster: a, user: a}}]\nclusters: [{name: a, cluster: {server: %s, certificate-authority-data: %s}}]\nusers: [{name: a, user: {token: %s}}]\n",
		server, base64.StdEncoding.EncodeToString([]byte(ca)), token)), "--only-namespace", one+","+two)
	s.here("narrow", true)
	at(two+"@narrow", "is in step by the lookout", inStepAndReady)
	s.push("Second", map[string]string{"app/c.yaml": config("mark", "v", "2")})
	at(one+"@narrow", "is in step with the second", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Second") })
	assert.NotContains(t, l.log.String(), "forbidden")

	// What can be looked into stays so until somebody says otherwise.
	s.fails(1, "is not a name", "cluster", "add", "narrow", "--by-lookout", "--only-namespace", "Not A Name")
	assert.Contains(t, s.ok("cluster", "add", "narrow", "--by-lookout"), "--only-namespace "+one+","+two)
	assert.NotContains(t, s.ok("cluster", "add", "narrow", "--by-lookout", "--only-namespace", "*"), "--only-namespace")
	assert.NotContains(t, s.ok("cluster", "show", "narrow"), "looked into are")
}

// TestOneClusterAfterTheOther: a new revision reaches the clusters of a ward in turn, and stops at the first failure.
func TestOneClusterAfterTheOther(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.ok("cluster", "add", "quay", "--label", "sea=sound")
	s.ok("cluster", "add", "far", "--kubeconfig", kubeconfig(), "--label", "sea=sound")
	app := func(image string) string { return deployment(image, 1) }
	file := fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nfrom: {repo: %[1]s, path: app}\ninto: {clusters: {sea: sound}, namespace: %[1]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\nsettle: {within: 15s}\n"+
		"spread: {one_at_a_time: [quay]}\nset:\n  - where: {cluster: far}\n    into: {namespace: %[1]s-far}\n", s.name)
	s.push("First", map[string]string{"app/d.yaml": app("horn:1.0.0")})
	s.add(file)
	s.until("the first cluster is in step", inStepAndReady)
	far := s.untilOf(s.name+"@far", "is in step", inStepAndReady)
	assert.Equal(t, s.name+"-far", far.Namespace, "a set block gives it a namespace of its own")
	first := s.entries()[0]
	second := func() client.Entry {
		r, err := s.api.ListWardEntriesWithResponse(context.Background(), s.name+"@far", &client.ListWardEntriesParams{Limit: 1})
		require.NoError(t, s.api.Check(r, err))
		return r.JSON200.Items[0]
	}
	assert.False(t, second().Started.Before(first.Ended), "far starts when quay has ended: %s, %s", second().Started, first.Ended)

	s.push("Broken", map[string]string{"app/d.yaml": app("fare-gate:2.8.0")})
	s.until("quay went back", func(w client.Ward) bool { return w.Rejected != "" && w.Run.Number == 0 })
	far = s.untilOf(s.name+"@far", "waits", func(w client.Ward) bool { return strings.Contains(w.WaitsFor, "where the revision failed") })
	assert.Equal(t, "First", far.Applied.Subject)
	assert.Equal(t, "Waits for "+s.name+"@quay, where the revision failed", far.Says)
	s.push("Mended", map[string]string{"app/d.yaml": app("horn:1.1.0")})
	s.untilOf(s.name+"@far", "has the mended one", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Mended" })

	// Labels change, placements follow.
	s.ok("cluster", "add", "far", "--label", "sea=other")
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		if _, there := s.of(s.name + "@far"); !there {
			break
		}
		require.False(t, time.Now().After(end), "the placement never goes")
	}
	assert.NotNil(t, live(t, "apps", "v1", "deployments", s.name+"-far", "berth-planner"), "its objects stay")
	s.ok("cluster", "add", "far", "--label", "sea=sound")
	s.untilOf(s.name+"@far", "is in step again", inStepAndReady)
}

// pack makes a packaged chart.
func pack(t *testing.T, name, version string, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	files["Chart.yaml"] += "apiVersion: v2\nname: " + name + "\nversion: " + version + "\n"
	for path, text := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: name + "/" + path, Mode: 0o644, Size: int64(len(text)), Typeflag: tar.TypeReg}))
		_, err := io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	return b.Bytes()
}

const markTemplate = "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: mark}\ndata:\n  v: {{ .Chart.Version | quote }}\n  from: {{ .Values.from | quote }}\n  kube: {{ .Capabilities.KubeVersion.Major | quote }}\n  flow: {{ .Capabilities.APIVersions.Has \"flowcontrol.apiserver.k8s.io/v1\" | quote }}\n"

// TestChartsFromElsewhere: packaged charts over HTTP and from a registry, with values from another repository.
func TestChartsFromElsewhere(t *testing.T) {
	t.Parallel()
	s := newService(t)
	charts := map[string][]byte{}
	add := func(version string, more map[string]string) {
		files := map[string]string{"templates/m.yaml": markTemplate, "values.yaml": "from: chart\n"}
		for k, v := range more {
			files[k] = v
		}
		charts["mark-"+version+".tgz"] = pack(t, "mark", version, files)
	}
	add("1.2.0", nil)
	add("2.0.0", map[string]string{"Chart.yaml": "kubeVersion: '>=1.99'\n"})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != "vigila" || password != "open-sesame" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if r.URL.Path == "/index.yaml" {
			fmt.Fprintln(w, "apiVersion: v1\nentries:\n  mark:")
			for name, b := range charts {
				sum := sha256.Sum256(b)
				fmt.Fprintf(w, "    - {name: mark, version: %s, digest: %s, urls: [%s]}\n", strings.TrimSuffix(strings.TrimPrefix(name, "mark-"), ".tgz"), hex.EncodeToString(sum[:]), name)
			}
			return
		}
		_, _ = w.Write(charts[strings.TrimPrefix(r.URL.Path, "/")])
	}))
	defer server.Close()
	s.fails(1, "the server refuses the sign-in", "repo", "add", "charts", server.URL, "--charts")
	assert.Contains(t, s.ok("repo", "add", "charts", server.URL, "--charts", "--user", "vigila", "--password-file", s.file("p", "open-sesame\n")), "charts: mark")
	s.push("Values", map[string]string{"quay.yaml": "from: values\n"})
	file := func(repo, version string) string {
		return fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nfrom:\n  chart: {repo: %[2]s, name: mark, version: %[3]q}\n  values_in: [{repo: %[1]s, path: quay.yaml}]\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\n", s.name, repo, version)
	}
	data := func() map[string]string {
		o := live(t, "", "v1", "configmaps", s.name, "mark")
		m, _, _ := unstructured.NestedStringMap(o.Object, "data")
		return m
	}
	s.add(file("charts", ">=1 <2"))
	w := s.until("the chart is there", inStepAndReady)
	assert.Equal(t, map[string]string{"v": "1.2.0", "from": "values", "kube": "1", "flow": "true"}, data())
	assert.Equal(t, "mark 1.2.0", w.Chart)
	assert.EqualValues(t, "chart", w.Form)
	assert.Contains(t, w.Applied.Subject, "chart mark 1.2.0")
	assert.Contains(t, s.ok("ward", "show", s.name), "chart mark 1.2.0")

	s.push("Other values", map[string]string{"quay.yaml": "from: changed\n"})
	s.until("they are taken", func(w client.Ward) bool { return inStepAndReady(w) && data()["from"] == "changed" })
	add("1.3.0", nil)
	s.ok("repo", "look", "charts")
	s.until("the newer chart is taken", func(w client.Ward) bool { return inStepAndReady(w) && data()["v"] == "1.3.0" })
	s.ok("rollback", s.name, "1", "--why", "as it was")
	assert.Equal(t, "1.2.0", data()["v"], "going back needs no chart")
	s.ok("release", s.name)
	s.until("it goes on", func(w client.Ward) bool { return inStepAndReady(w) && data()["v"] == "1.3.0" })

	s.add(file("charts", "2.x"))
	w = s.until("it says what the chart wants", func(w client.Ward) bool { return strings.Contains(w.Says, "wants Kubernetes") })
	assert.Contains(t, w.Says, "mark-2.0.0/Chart.yaml:1: chart mark 2.0.0 wants Kubernetes >=1.99; cluster quay has v1.")
	s.add(file("charts", "7.x"))
	s.until("there is no such version", func(w client.Ward) bool {
		return strings.Contains(w.Says, `chart repository charts has no version of mark in "7.x"; its versions are: 2.0.0, 1.3.0, 1.2.0`)
	})

	// The same from a registry.
	reg := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer reg.Close()
	host := strings.TrimPrefix(reg.URL, "http://")
	target, err := remote.NewRepository(host + "/brindle/mark")
	require.NoError(t, err)
	target.PlainHTTP = true
	for _, version := range []string{"1.2.0", "1.3.0"} {
		store := memory.New()
		layer, err := oras.PushBytes(context.Background(), store, "application/vnd.cncf.helm.chart.content.v1.tar+gzip", charts["mark-"+version+".tgz"])
		require.NoError(t, err)
		manifest, err := oras.PackManifest(context.Background(), store, oras.PackManifestVersion1_1, "application/vnd.cncf.helm.config.v1+json", oras.PackManifestOptions{Layers: []ocispec.Descriptor{layer}})
		require.NoError(t, err)
		require.NoError(t, store.Tag(context.Background(), manifest, version))
		_, err = oras.Copy(context.Background(), store, version, target, version, oras.DefaultCopyOptions)
		require.NoError(t, err)
	}
	s.ok("repo", "add", "registry", "oci://"+host+"/brindle")
	s.add(file("registry", "~1.2"))
	s.until("it comes from the registry", func(w client.Ward) bool { return inStepAndReady(w) && data()["v"] == "1.2.0" })
	s.add(file("registry", "~9"))
	s.until("and says what it has", func(w client.Ward) bool { return strings.Contains(w.Says, "its versions are: 1.2.0, 1.3.0") })

	// A follow writes the newest into a versions file, which the ward takes.
	follow := func(repo string) string {
		return fmt.Sprintf("vigila: follow/v1\nname: %[1]s\nchart: {repo: %[2]s, name: mark}\nversions: \">=1 <2\"\ninto: {file: versions.yaml}\nevery: 10s\n", s.name, repo)
	}
	s.push("Follow", map[string]string{"wards/follow.yaml": follow("charts")})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.add(strings.Replace(file("charts", "1.0.0"), "  values_in:", fmt.Sprintf("  versions: [{repo: %s, path: versions.yaml}]\n  values_in:", s.name), 1))
	s.until("the newest that fits is taken", func(w client.Ward) bool { return inStepAndReady(w) && data()["v"] == "1.3.0" })
	assert.Equal(t, "vigila: versions/v1\ncharts:\n  mark: 1.3.0\n", git(t, filepath.Join(labDir, "git", s.name+".git"), "show", "main:versions.yaml"))
	f := s.theFollow(s.name)
	assert.Equal(t, []string{"chart mark of charts", "at 1.3.0, the newest that fits; 2.0.0 is there"}, []string{f.Image, f.Says})
	add("1.4.0", nil)
	assert.Equal(t, "1.4.0", s.theFollow(s.name).Version)
	s.until("a newer one is taken", func(w client.Ward) bool { return inStepAndReady(w) && data()["v"] == "1.4.0" })
	s.push("From the registry", map[string]string{"wards/follow.yaml": follow("registry")})
	s.until("it is left: the registry has no newer one", func(client.Ward) bool {
		return strings.Contains(s.theFollow(s.name).Says, "says 1.4.0, which is none that >=1 <2 takes")
	})
	s.fails(1, "is used by follow "+s.name, "repo", "remove", "registry")
}

// TestOverlaysFollowTheirBases: a commit to a base outside the ward's path is a new revision, one beside it is not, and
// nothing is rendered twice, not even by another ward after a restart.
func TestOverlaysFollowTheirBases(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"base/kustomization.yaml": "resources: [c.yaml]\n", "base/c.yaml": config("mark", "v", "1"), "app/kustomization.yaml": "resources: [../base]\nnamePrefix: quay-\n", "else/x.yaml": "a: 1\n"})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 20s"))
	w := s.until("it is in step", inStepAndReady)
	assert.EqualValues(t, "overlay", w.Form)
	renders := func() string {
		for _, row := range strings.Split(s.metrics(), "\n") {
			if n, ok := strings.CutPrefix(row, "vigila_renders_total "); ok {
				return n
			}
		}
		return "?"
	}
	require.Equal(t, "1", renders())
	s.push("Beside it", map[string]string{"else/x.yaml": "a: 2\n"})
	s.ok("look", s.name)
	assert.Equal(t, "First", s.ward().Revision.Subject)
	assert.Equal(t, "1", renders())
	s.push("The base", map[string]string{"base/c.yaml": config("mark", "v", "2")})
	w = s.until("the base is followed", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "The base" })
	assert.Equal(t, "2", renders())
	s.kill()
	s.start()
	s.until("it is known again", inStepAndReady)
	assert.Equal(t, "0", renders(), "a restart renders nothing")
	s.push("There and back", map[string]string{"base/c.yaml": config("mark", "v", "1")})
	s.until("it is back", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "There and back" })
	assert.Equal(t, "0", renders(), "what was rendered once is not rendered again")
}

// TestAdoption: what is there already is declared without a change to the cluster.
func TestAdoption(t *testing.T) {
	t.Parallel()
	s := newService(t)
	ctx := context.Background()
	dyn := cluster(t)
	create := func(group, version, resource string, body map[string]any) {
		r := dyn.Resource(schema.GroupVersionResource{Group: group, Version: version, Resource: resource})
		var err error
		if o := (&unstructured.Unstructured{Object: body}); resource == "namespaces" {
			_, err = r.Create(ctx, o, metav1.CreateOptions{FieldManager: "kubectl-create"})
		} else {
			_, err = r.Namespace(s.name).Create(ctx, o, metav1.CreateOptions{FieldManager: "kubectl-create"})
		}
		require.NoError(t, err)
	}
	create("", "v1", "namespaces", map[string]any{"apiVersion": "v1", "kind": "Namespace", "metadata": map[string]any{"name": s.name}})
	for _, text := range []string{deployment("horn:1.0.0", 2), config("mark", "v", "1"), "apiVersion: v1\nkind: Secret\nmetadata: {name: keys}\nstringData: {a: hunter2}\n",
		"apiVersion: v1\nkind: Service\nmetadata: {name: web}\nspec: {selector: {app: app}, ports: [{port: 80}]}\n"} {
		var body map[string]any
		require.NoError(t, yaml.Unmarshal([]byte(strings.Split(text, "---\n")[0]), &body))
		plural := map[string][3]string{"Deployment": {"apps", "v1", "deployments"}, "ConfigMap": {"", "v1", "configmaps"}, "Secret": {"", "v1", "secrets"}, "Service": {"", "v1", "services"}}[body["kind"].(string)]
		create(plural[0], plural[1], plural[2], body)
	}
	s.push("First", map[string]string{"readme": "r"})
	s.fails(1, "has no namespace nowhere", "adopt", "nowhere@quay", "--repo", s.name)
	s.fails(2, "needs one of --repo and --dir", "adopt", s.name+"@quay")
	out := s.ok("adopt", s.name+"@quay", "--repo", s.name, "--branch", "adopt/it")
	assert.Contains(t, out, "3 objects")
	assert.Contains(t, out, "Secret/keys: a Secret never enters git")
	bare := filepath.Join(labDir, "git", s.name+".git")
	tree := git(t, bare, "ls-tree", "-r", "--name-only", "adopt/it")
	assert.Equal(t, s.name+"/configmap.yaml\n"+s.name+"/deployment.yaml\n"+s.name+"/service.yaml\nreadme\nwards/"+s.name+".yaml\n", tree)
	all := git(t, bare, "archive", "--format=tar", "adopt/it")
	for _, noise := range []string{"managedFields", "resourceVersion", "creationTimestamp", "clusterIP:", "hunter2", "status:"} {
		assert.NotContains(t, all, noise)
	}
	git(t, bare, "update-ref", "refs/heads/main", "adopt/it") // reviewed and merged
	s.ok("repo", "look", s.name)
	s.ok("roster", "add", "all", "--repo", s.name, "--path", "wards")
	s.until("it is read", func(w client.Ward) bool { return w.Standing == "behind" })
	stdout, _, code := s.cli("diff", s.name, "-o", "json")
	require.Equal(t, 3, code)
	var d client.WardDiff
	require.NoError(t, json.Unmarshal([]byte(stdout), &d))
	require.Len(t, d.Changes, 3)
	for _, o := range d.Changes {
		assert.True(t, o.AlreadyThere, o.Key)
		for _, f := range o.Fields {
			assert.Contains(t, f.Path, "vigila.dev", "only the mark differs: %s %v → %v", f.Path, f.From, f.To)
		}
	}
	before := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
	s.ok("sync", s.name)
	after := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
	assert.Equal(t, before.Object["spec"], after.Object["spec"], "nothing was rolled out")
	s.ok("adopt", "kube-public@quay", "--dir", filepath.Join(s.dir, "out"))
	assert.FileExists(t, filepath.Join(s.dir, "out", "wards", "kube-public.yaml"))
}

// TestCheckBeforeTheMerge: everything in a directory, against a real cluster's own description of its kinds.
func TestCheckBeforeTheMerge(t *testing.T) {
	t.Parallel()
	s := newService(t)
	saved := s.file("quay.json", s.ok("cluster", "schema", "quay"))
	dir := filepath.Join(s.dir, "tree")
	write := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	write("app/d.yaml", deployment("horn:1.0.0", 2))
	write("app/crd.yaml", "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: x}\ndata: {port: \"80\"}\n")
	write("charts/gate/Chart.yaml", "name: gate\nversion: 1.0.0\n")
	write("charts/gate/templates/m.yaml", markTemplate)
	write("envs/quay/kustomization.yaml", "resources: [../../app]\n")
	write("app/kustomization.yaml", "resources: [d.yaml, crd.yaml]\n")
	write("wards/gate.yaml", "vigila: ward/v1\nname: gate\nfrom: {path: charts/gate, values: {from: here}}\ninto: {cluster: quay, namespace: gate}\n")
	write("notes.yaml", "just: notes\n")
	out := s.ok("check", dir, "--schema", saved)
	assert.Contains(t, out, "1 ward: nothing wrong")
	write("app/crd.yaml", "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: x}\ndata: {port: 80}\nspec: {}\n")
	write("app/d.yaml", strings.Replace(deployment("x", 2), "replicas: 2", "replicas: many", 1))
	write("charts/gate/templates/m.yaml", "a: {{ .Values.no.such.value }}\n")
	write("wards/gate.yaml", "vigila: ward/v1\nname: gate\nfrom: {path: charts/gate}\ninto: {clster: quay}\n")
	write("wards/old.yaml", "apiVersion: extensions/v1beta1\nkind: Ingress\nmetadata: {name: old}\n")
	stdout, _, code := s.cli("check", dir, "--schema", saved)
	assert.Equal(t, 1, code)
	for _, want := range []string{"wards/gate.yaml:4: unknown key into.clster; did you mean cluster?", "charts/gate/templates/m.yaml:1: .Values.no.such.value: there is no such value",
		"app/crd.yaml:1: ConfigMap/x: data.port: got number, want string", "app/crd.yaml:1: ConfigMap/x: it: unknown fields 'spec' not allowed", "app/d.yaml:1: Deployment/berth-planner: spec.replicas: got string, want integer",
		"wards/old.yaml:1: Ingress/old: the cluster knows no Ingress in extensions/v1beta1; it has it in networking.k8s.io/v1"} {
		assert.Contains(t, stdout, want)
	}
	stdout, _, _ = s.cli("check", dir, "-o", "sarif", "--schema", saved)
	var sarif struct {
		Runs []struct{ Results []struct{ RuleID string } }
	}
	require.NoError(t, json.Unmarshal([]byte(stdout), &sarif))
	assert.GreaterOrEqual(t, len(sarif.Runs[0].Results), 5)
	stdout, _, _ = s.cli("check", dir, "-o", "junit")
	assert.Contains(t, stdout, `<testsuite name="vigila check"`)
	stdout, _, _ = s.cli("check", dir, "-o", "json")
	assert.Contains(t, stdout, `"rule": "ward"`)
	s.fails(2, "-o xml is not known", "check", dir, "-o", "xml")
}

// TestWhatLivesInNamespacesIsKnownWithoutACluster, of every kind that a real one has by itself.
func TestWhatLivesInNamespacesIsKnownWithoutACluster(t *testing.T) {
	t.Parallel()
	cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig())
	require.NoError(t, err)
	disco, err := discovery.NewDiscoveryClientForConfig(cfg)
	require.NoError(t, err)
	lists, err := disco.ServerPreferredResources()
	require.NoError(t, err)
	checked := 0
	for _, list := range lists {
		gv, err := schema.ParseGroupVersion(list.GroupVersion)
		require.NoError(t, err)
		if strings.HasSuffix(gv.Group, ".example") || strings.HasSuffix(gv.Group, "cluster.x-k8s.io") { // what other tests, and the lab, define
			continue
		}
		for _, r := range list.APIResources {
			namespaced, err := render.KnownScopes(object.Object{Ref: object.Ref{Group: gv.Group, Kind: r.Kind, Name: "x"}})
			require.NoError(t, err)
			if slices.Contains(r.Verbs, "list") { // reviews are asked for, never kept
				assert.Equal(t, r.Namespaced, namespaced, "%s in %s", r.Kind, list.GroupVersion)
				checked++
			}
		}
	}
	assert.Greater(t, checked, 40)
}

// sign is the HMAC-SHA256 of a text.
func sign(key, text string) []byte {
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(text))
	return mac.Sum(nil)
}

// TestPushesOfCodeHosts: the signatures that code hosts send are taken, and no others.
func TestPushesOfCodeHosts(t *testing.T) {
	t.Parallel()
	s := newService(t)
	var key struct{ Key, Path string }
	require.NoError(t, json.Unmarshal([]byte(s.ok("repo", "pushes", s.name, "--new-key", "-o", "json")), &key))
	body := `{"ref": "refs/heads/main"}`
	send := func(headers map[string]string) int {
		r, err := http.NewRequest(http.MethodPost, s.url+key.Path, strings.NewReader(body))
		require.NoError(t, err)
		for k, v := range headers {
			r.Header.Set(k, v)
		}
		res, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		_ = res.Body.Close()
		return res.StatusCode
	}
	hexed, now := hex.EncodeToString(sign(key.Key, body)), fmt.Sprint(time.Now().Unix())
	old := fmt.Sprint(time.Now().Add(-time.Hour).Unix())
	standard := func(at string) map[string]string {
		return map[string]string{"webhook-id": "m1", "webhook-timestamp": at, "webhook-signature": "v1,AAAA v1," + base64.StdEncoding.EncodeToString(sign(key.Key, "m1."+at+"."+body))}
	}
	for name, c := range map[string]struct {
		headers map[string]string
		want    int
	}{
		"hub":           {map[string]string{"X-Hub-Signature-256": "sha256=" + hexed}, 202},
		"gitea":         {map[string]string{"X-Gitea-Signature": hexed}, 202},
		"token":         {map[string]string{"X-Gitlab-Token": key.Key}, 202},
		"standard":      {standard(now), 202},
		"a replay":      {standard(old), 401},
		"a wrong token": {map[string]string{"X-Gitlab-Token": "guess"}, 401},
		"a wrong sign":  {map[string]string{"X-Hub-Signature-256": "sha256=" + strings.Repeat("0", 64)}, 401},
		"nothing":       {nil, 401},
	} {
		assert.Equal(t, c.want, send(c.headers), name)
	}
}

// TestListsOfSourcesSearchAndPage: lists have no hidden end.
func TestListsOfSourcesSearchAndPage(t *testing.T) {
	t.Parallel()
	s := newService(t)
	for i := range 4 {
		s.ok("repo", "add", fmt.Sprintf("copy-%d", i), s.origin())
	}
	r, err := s.api.ListReposWithResponse(context.Background(), &client.ListReposParams{Search: "copy", Limit: 3})
	require.NoError(t, s.api.Check(r, err))
	assert.Equal(t, 4, r.JSON200.Total)
	assert.Len(t, r.JSON200.Items, 3)
	out := s.ok("repo", "list", "--limit", "3", "--page", "2")
	assert.Contains(t, out, "copy-3")
	assert.NotContains(t, out, "copy-0")
	assert.Contains(t, s.ok("repo", "list", "--search", "zzz"), "No repository matches.")
	assert.Contains(t, s.ok("cluster", "list", "--search", "zzz"), "No cluster matches.")
	assert.Contains(t, s.ok("roster", "list"), "No rosters yet.")
	// Credentials go to no other address.
	s.ok("repo", "add", "copy-0", s.origin(), "--user", "vigila", "--password-file", s.file("p", "open-sesame"))
	s.ok("repo", "add", "copy-0", s.origin()+"/")
	r, err = s.api.ListReposWithResponse(context.Background(), &client.ListReposParams{Search: "copy-0", Limit: 3})
	require.NoError(t, s.api.Check(r, err))
	assert.False(t, r.JSON200.Items[0].SignedIn)
}

// TestVersionsOfTheirOwn: a file of versions is laid over what the manifests say, in each cluster its own; its commits are revisions, and
// going back is going back to the version before.
func TestVersionsOfTheirOwn(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.ok("cluster", "add", "quay", "--label", "sea=sound")
	s.ok("cluster", "add", "far", "--kubeconfig", kubeconfig(), "--label", "sea=sound")
	versions := func(tag string) string {
		return "vigila: versions/v1\nimages: {registry.brindle.example/horn: " + tag + "}\n"
	}
	s.push("First", map[string]string{"app/d.yaml": deployment("horn:1.0.0", 1), "quay/versions.yaml": versions("1.1.0"), "far/versions.yaml": versions("1.0.5")})
	s.add(fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nfrom: {repo: %[1]s, path: app}\ninto: {clusters: {sea: sound}, namespace: %[1]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\nsettle: {within: 15s}\n"+
		"set:\n  - where: {cluster: quay}\n    from: {versions: [quay/versions.yaml]}\n  - where: {cluster: far}\n    from: {versions: [far/versions.yaml]}\n    into: {namespace: %[1]s-far}\n", s.name))
	s.until("is in step", inStepAndReady)
	s.untilOf(s.name+"@far", "is in step", inStepAndReady)
	for _, img := range s.images() {
		assert.Equal(t, "horn:1.1.0", img)
	}
	s.push("Horn 1.2.0 at the quay", map[string]string{"quay/versions.yaml": versions("1.2.0")})
	s.until("has the new one", func(w client.Ward) bool {
		return inStepAndReady(w) && w.Applied.Subject == "Horn 1.2.0 at the quay"
	})
	assert.Equal(t, "First", s.untilOf(s.name+"@far", "is there", func(client.Ward) bool { return true }).Applied.Subject, "it is no change there")
	out, _, code := s.cli("compare", s.name+"@quay", "1", "2")
	assert.Equal(t, 3, code, "they differ")
	assert.Contains(t, out, "registry.brindle.example/horn:1.1.0  →  registry.brindle.example/horn:1.2.0")
	s.push("Wrong", map[string]string{"quay/versions.yaml": "vigila: versions/v1\nimages: {registry.brindle.example/horn: {tga: 1}}\n"})
	w := s.until("says what is wrong", func(w client.Ward) bool { return w.Standing == "blind" })
	assert.Contains(t, w.Says, "quay/versions.yaml:2: unknown key images.registry.brindle.example/horn.tga")
	s.push("Mended", map[string]string{"quay/versions.yaml": versions("1.2.0")})
	s.until("is in step again", inStepAndReady)
	s.ok("rollback", s.name+"@quay", "1", "--why", "too loud")
	s.until("is back", func(w client.Ward) bool { return w.Hold.By != "" && w.Run.Number == 0 && w.Health == "ready" })
	for _, img := range s.images() {
		assert.Equal(t, "horn:1.1.0", img)
	}
}
