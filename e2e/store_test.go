package e2e

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"

	"vigila.dev/vigila/internal/client"
)

// kvToken is good at the lab's server of secret values, for ever.
const kvToken = "lab-kv-token"

// kvMode makes the lab's server of secret values fail, or well again, for whoever bears a token.
func kvMode(t *testing.T, token, mode string) {
	t.Helper()
	b, _ := json.Marshal(map[string]string{"mode": mode, "token": token})
	q, err := http.NewRequest(http.MethodPut, kvBase+"/lab/mode", bytes.NewReader(b))
	require.NoError(t, err)
	r, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, r.StatusCode)
	_ = r.Body.Close()
}

// pipe runs the command line with a text as standard input, and wants exit code 0.
func (s *service) pipe(in string, args ...string) string {
	s.t.Helper()
	cmd := exec.Command(filepath.Join(bin, "vigila"), args...)
	cmd.Env = append(os.Environ(), "VIGILA_URL="+s.url, "VIGILA_TOKEN="+s.token, "VIGILA_CONTEXTS="+filepath.Join(s.dir, "contexts.yaml"))
	cmd.Stdin = strings.NewReader(in)
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, "vigila %s\n%s", strings.Join(args, " "), out)
	return string(out)
}

// values are those of a live Secret.
func (s *service) values(name string) map[string]string {
	s.t.Helper()
	o, err := s.objects(schema.GroupVersionResource{Version: "v1", Resource: "secrets"}).Get(s.t.Context(), name, metav1.GetOptions{})
	require.NoError(s.t, err)
	data, _, err := unstructured.NestedStringMap(o.Object, "data")
	require.NoError(s.t, err)
	out := map[string]string{}
	for k, v := range data {
		b, err := base64.StdEncoding.DecodeString(v)
		require.NoError(s.t, err)
		out[k] = string(b)
	}
	return out
}

// secretive is a Secret that refers to values, in every way, and a workload that reads one by environment.
func secretive(path string) string {
	return `apiVersion: v1
kind: Secret
metadata: {name: gate, annotations: {vigila.dev/secret-from: harbour/` + path + `}}
data: {folded: "secret://harbour/` + path + `#password"}
stringData:
  password: secret://harbour/` + path + `#password
  plain: open
  url: postgres://gate:${{ secret('harbour/` + path + `#password') }}@db/gate?user=${{ secret("harbour/` + path + `#user") }}
---
` + strings.Replace(deployment("gate-quick:1", 1), "- name: app\n", "- name: app\n          env: [{name: PASSWORD, valueFrom: {secretKeyRef: {name: gate, key: password}}}]\n", 1) + `
---
apiVersion: v1
kind: ConfigMap
metadata: {name: fares}
data: {day: "2"}
`
}

// TestASecretComesFromItsStore: what is missing is told before anything is applied, what is set arrives, and so does another value; a store
// that fails in whatever way empties nothing.
func TestASecretComesFromItsStore(t *testing.T) {
	t.Parallel()
	s := newService(t)
	token := kvToken + "-of-one-that-fails"
	path := s.name + "/gate"
	s.fails(1, "signing in", "store", "add", "harbour", kvBase, "--token-file", s.file("bad", "no-such-token"))
	out := s.ok("store", "add", "harbour", kvBase, "--token-file", s.file("token", token), "--every", "5s", "--for-ward", s.name)
	assert.Contains(t, out, "harbour is known now")
	s.push("All", map[string]string{"app/a.yaml": secretive(path)})
	s.add(s.wardFile("sync: auto, every: 1s, restart: on_secrets", "within: 60s"))

	w := s.until("says what is missing", func(w client.Ward) bool { return w.NeedsYou })
	assert.Equal(t, client.Standing("behind"), w.Standing)
	assert.Contains(t, w.Says, "Nothing is applied")
	assert.Contains(t, w.Says, "harbour/"+path+"#password")
	assert.Contains(t, w.Todo, "vigila secret set harbour/"+path)
	_, err := s.objects(schema.GroupVersionResource{Version: "v1", Resource: "configmaps"}).Get(t.Context(), "fares", metav1.GetOptions{})
	require.Error(t, err, "nothing of the run is applied")
	s.fails(1, "there is no guard", "sync", s.name, "--allow", "missing-secret")
	s.fails(1, "has no such value", "sync", s.name)
	assert.Contains(t, s.ok("secret", "list", "--missing"), "▲ missing")

	assert.Contains(t, s.pipe("tide\n", "secret", "set", "harbour/"+path+"#user"), "is set. "+s.name+"@quay refers to it.")
	s.pipe("first-berth-word\n", "secret", "set", "harbour/"+path+"#password")
	s.until("is in step", inStepAndReady)
	want := map[string]string{"password": "first-berth-word", "folded": "first-berth-word", "user": "tide", "plain": "open", "url": "postgres://gate:first-berth-word@db/gate?user=tide"}
	assert.Equal(t, want, s.values("gate"))
	assert.NotContains(t, s.ok("secret", "list"), "missing")
	assert.Contains(t, s.ok("secret", "list", "--missing"), "No such reference.")
	assert.Contains(t, s.ok("logbook", s.name), "set harbour/"+path+"#password")
	assert.Contains(t, s.ok("store", "list"), s.name+"@quay")
	read := func() string {
		o := s.live("deployments", "berth-planner")
		v, _, _ := unstructured.NestedString(o.Object, "spec", "template", "metadata", "annotations", "vigila.dev/secrets-read")
		return v
	}
	before := read()
	assert.Len(t, before, 16)

	// Another value, set beside Vigila, is a reason of its own; the Pods that read it are made anew.
	kvPut(t, path, map[string]any{"user": "tide", "password": "second-berth-word"})
	s.until("has the second", func(w client.Ward) bool {
		return inStepAndReady(w) && s.values("gate")["password"] == "second-berth-word" && read() != before // the Secret comes first
	})
	assert.Contains(t, s.ok("logbook", s.name), "another secret value")

	// Going back restores references, and the value is today's.
	s.push("More", map[string]string{"app/a.yaml": strings.Replace(secretive(path), "plain: open", "plain: shut", 1)})
	s.until("has it", func(w client.Ward) bool { return inStepAndReady(w) && s.values("gate")["plain"] == "shut" })
	first := 0
	for _, e := range s.entries() {
		if e.Kind == "sync" && e.Outcome == "done" {
			first = e.Number // the oldest comes last
		}
	}
	s.ok("rollback", s.name, strconv.Itoa(first))
	s.until("went back", func(w client.Ward) bool { return w.Hold.By != "" && w.Run.Number == 0 })
	assert.Equal(t, "open", s.values("gate")["plain"])
	assert.Equal(t, "second-berth-word", s.values("gate")["password"])
	s.ok("release", s.name)
	s.until("is forward again", inStepAndReady)

	// Whatever becomes of the store, what was applied stays, and nothing is called missing.
	for _, mode := range []string{"down", "forbid", "busy", "sealed", "lie"} {
		kvMode(t, token, mode)
		s.until("says so of "+mode, func(w client.Ward) bool { return len(w.Notes) > 0 && strings.Contains(w.Notes[0], "store harbour") })
		w := s.ward()
		assert.Equal(t, client.Standing("in step"), w.Standing, mode)
		assert.Equal(t, "second-berth-word", s.values("gate")["password"], mode)
		s.push("While "+mode, map[string]string{"app/a.yaml": strings.Replace(secretive(path), "plain: open", "plain: "+mode, 1)})
		w = s.until("waits for the store", func(w client.Ward) bool { return w.Pending > 0 && strings.Contains(w.WaitsFor+w.Says, "store harbour") })
		assert.Equal(t, client.Standing("behind"), w.Standing, mode)
		assert.Zero(t, w.Run.Number, mode)
		s.fails(1, "store harbour", "sync", s.name)
		kvMode(t, token, "well")
		s.until("goes on by itself", func(w client.Ward) bool { return inStepAndReady(w) && s.values("gate")["plain"] == mode })
	}
	kvMode(t, token, "no-metadata")
	kvPut(t, path, map[string]any{"user": "tide", "password": "third-berth-word"})
	s.until("reads values where it may read no versions", func(w client.Ward) bool {
		return inStepAndReady(w) && s.values("gate")["password"] == "third-berth-word"
	})
	kvMode(t, token, "well")

	// A value that is gone is told, and what is applied stays.
	kvPut(t, path, map[string]any{"user": "tide"})
	w = s.until("says that it is gone", func(w client.Ward) bool { return w.NeedsYou })
	assert.Contains(t, w.Says, "#password")
	assert.Equal(t, "third-berth-word", s.values("gate")["password"])

	// Nobody but the wards it is for may use it, and it is in use.
	s.fails(1, "refers to store harbour", "store", "remove", "harbour")
	s.ok("store", "add", "harbour", kvBase, "--for-ward", "another", "--token-file", s.file("token", token))
	w = s.until("may not use it", func(w client.Ward) bool { return w.NeedsYou && strings.Contains(w.Says, "may not use") })
	assert.Contains(t, w.Says, "is for wards another only")

	s.kill()
	said := s.log.String()
	for _, value := range []string{"first-berth-word", "second-berth-word", "third-berth-word", token} {
		assert.NotContains(t, said, value)
		for _, file := range walkFiles(t, filepath.Join(s.dir, "data")) {
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.False(t, bytes.Contains(b, []byte(value)), "%s is in %s", value, file)
			assert.False(t, bytes.Contains(b, []byte(base64.StdEncoding.EncodeToString([]byte(value)))), "%s is in %s, in base64", value, file)
		}
	}
}

// TestSecretsOfEncryptedFiles in git are a store, which the format's own tools write: the files of this test are made by its library.
func TestSecretsOfEncryptedFiles(t *testing.T) {
	t.Parallel()
	s := newService(t)
	data := filepath.Join("..", "internal", "secrets", "testdata")
	sealed := func(name string) string {
		b, err := os.ReadFile(filepath.Join(data, name))
		require.NoError(t, err)
		return string(b)
	}
	s.push("All", map[string]string{"app/a.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: gate}\nstringData: {password: \"secret://sealed/gate#stringData.password\"}\n", "secrets/other.yaml": sealed("plain.yaml")})
	s.fails(1, "its key is none of age", "store", "add", "sealed", "--files", s.name+"/secrets", "--token-file", s.file("no-key", "x"))
	s.fails(1, "there is no repository", "store", "add", "sealed", "--files", "nowhere/secrets", "--token-file", filepath.Join(data, "key.txt"))
	s.fails(2, "say where the store is, once", "store", "add", "sealed")
	s.ok("store", "add", "sealed", "--files", s.name+"/secrets", "--token-file", filepath.Join(data, "key.txt"), "--every", "5s")
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s"))
	w := s.until("says what is missing", func(w client.Ward) bool { return w.NeedsYou })
	assert.Equal(t, "Set it in secrets/gate.yaml of "+s.name+", branch main, encrypted, and push", w.Todo)
	assert.Contains(t, s.ok("secret", "list", "--missing"), "set it in secrets/gate.yaml")
	s.push("The value", map[string]string{"secrets/gate.yaml": sealed("secret.yaml")})
	s.until("is in step", inStepAndReady)
	assert.Equal(t, map[string]string{"password": "berth of the tide"}, s.values("gate"))
	s.push("Touched", map[string]string{"secrets/gate.yaml": strings.Replace(sealed("secret.yaml"), "name: gate", "name: gale", 1)})
	w = s.until("says so", func(w client.Ward) bool {
		return len(w.Notes) > 0 && strings.Contains(w.Notes[0], "its MAC is another")
	})
	assert.Equal(t, client.Standing("in step"), w.Standing)
	assert.Equal(t, map[string]string{"password": "berth of the tide"}, s.values("gate"))
	said := s.log.String()
	assert.NotContains(t, said, "berth of the")
	assert.NotContains(t, said, "AGE-SECRET-KEY-1")
}

// TestALimitedRosterUsesNoStoreByItself, whatever its ward files say of themselves; who may is said where the store is added.
func TestALimitedRosterUsesNoStoreByItself(t *testing.T) {
	t.Parallel()
	s := newService(t)
	kvPut(t, s.name+"/gate", map[string]any{"password": "limited-berth-word"})
	add := func(more ...string) {
		t.Helper()
		s.ok(append([]string{"store", "add", "harbour", kvBase, "--token-file", s.file("token", kvToken), "--every", "5s"}, more...)...)
	}
	add("--for-owner", "harbour-ops")
	s.push("All", map[string]string{"app/a.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: gate}\nstringData: {password: \"secret://harbour/" + s.name + "/gate#password\"}\n",
		"wards/gate.yaml": "vigila: ward/v1\nname: " + s.name + "\nowner: harbour-ops\nfrom: {path: app}\ninto: {cluster: quay, namespace: " + s.name + "}\nkeep: {sync: auto, every: 1s}\n"})
	_, err := dynamicClient(t).Resource(namespaces).Create(t.Context(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "Namespace", "metadata": map[string]any{"name": s.name}}}, metav1.CreateOptions{})
	require.NoError(t, err)
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards", "--namespace", s.name)
	w := s.untilOf(s.name+"@quay", "is refused", func(w client.Ward) bool { return w.NeedsYou && strings.Contains(w.Says, "may not use") })
	assert.Contains(t, w.Says, "roster "+s.name+" has limits, and store harbour does not name it")
	s.fails(1, "has limits", "sync", s.name)
	assert.Contains(t, s.ok("secret", "list"), "▲ refused")
	add("--for-roster", "another")
	w = s.untilOf(s.name+"@quay", "is refused still", func(w client.Ward) bool { return strings.Contains(w.Says, "is for wards of roster another only") })
	assert.True(t, w.NeedsYou)
	add("--for-roster", s.name)
	s.until("is in step", inStepAndReady)
	assert.Equal(t, map[string]string{"password": "limited-berth-word"}, s.values("gate"))
}

// TestSecretsInTheConsole: a store is added, what is missing is found from the ward's own page, and set; the value is on no page.
func TestSecretsInTheConsole(t *testing.T) {
	t.Parallel()
	s := newService(t)
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("Watch")
	b.opens(`//nav//a[text()="Set up"]`, "Stores")
	b.opens(`//nav//a[text()="Stores"]`, "No stores yet.")
	b.click("Add a store")
	b.fill("name", "harbour")
	b.fill("url", kvBase)
	b.fill("token", "wrong")
	b.click("Check and add it")
	b.shows("forbids signing in")
	b.fill("token", kvToken)
	b.click("Check and add it")
	b.shows("1 store that secret values live in")
	s.push("All", map[string]string{"app/a.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: gate}\nstringData: {password: \"secret://harbour/" + s.name + "/gate#password\"}\n"})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s"))
	b.open(s.url + "/wards/" + s.name + "@quay")
	b.shows("Nothing is applied: Secret/gate needs")
	b.opens(`//a[text()="Set it"]`, "1 reference has no value")
	b.shows("missing")
	b.click("Set it")
	b.fill("value", "console-berth-word")
	b.click("Set the value")
	b.shows("Every reference has a value")
	s.until("is in step", inStepAndReady)
	assert.Equal(t, map[string]string{"password": "console-berth-word"}, s.values("gate"))
	assert.NotContains(t, b.text(), "console-berth-word")
	b.open(s.url + "/wards/" + s.name + "@quay")
	b.shows("secret set")
	assert.NotContains(t, b.text(), "console-berth-word")
}

// kvPut sets all values at a path of the lab's server, beside Vigila.
func kvPut(t *testing.T, path string, data map[string]any) {
	t.Helper()
	b, _ := json.Marshal(map[string]any{"data": data})
	q, err := http.NewRequest(http.MethodPost, kvBase+"/v1/secret/data/"+path, bytes.NewReader(b))
	require.NoError(t, err)
	q.Header.Set("X-Vault-Token", kvToken)
	r, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, r.StatusCode)
	_ = r.Body.Close()
}

// walkFiles lists the files below a directory.
func walkFiles(t *testing.T, dir string) (out []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			out = append(out, path)
		}
		return err
	}))
	return out
}

// TestSecretsAreLifted out of a work tree, and come to the cluster as they were; what another has set in the store meanwhile is not overwritten.
func TestSecretsAreLifted(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.ok("store", "add", "harbour", kvBase, "--token-file", s.file("token", kvToken), "--every", "1h")
	dir := filepath.Join(s.dir, "work")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "templates"), 0o755))
	const text = "# ours\napiVersion: v1\nkind: Secret\nmetadata: {name: gate}\nstringData:\n  password: lifted-berth-word # of the database\n  pem: |\n    lifted-one\n    lifted-two\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.yaml"), []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "templates", "b.yaml"), []byte("kind: Secret\n{{ if .Values.x }}\n"), 0o600))
	to := "harbour/" + s.name
	out := s.ok("secret", "lift", dir, "--to", to, "--preview")
	assert.Contains(t, out, "a.yaml:6  gate  to "+to+"/gate#password")
	assert.Contains(t, out, "templates/b.yaml: it is a template")
	s.pipe("another", "secret", "set", to+"/gate#password")
	s.fails(1, "has another value already", "secret", "lift", dir, "--to", to)
	b, err := os.ReadFile(filepath.Join(dir, "a.yaml"))
	require.NoError(t, err)
	assert.Equal(t, text, string(b), "nothing is written before all is set")
	out = s.ok("secret", "lift", dir, "--to", to, "--over")
	assert.Contains(t, out, "2 values in harbour")
	assert.NotContains(t, out, "lifted-")
	b, err = os.ReadFile(filepath.Join(dir, "a.yaml"))
	require.NoError(t, err)
	assert.Equal(t, "# ours\napiVersion: v1\nkind: Secret\nmetadata: {name: gate}\nstringData:\n  password: secret://"+to+"/gate#password # of the database\n  pem: secret://"+to+"/gate#pem\n", string(b))
	assert.Contains(t, s.ok("secret", "lift", dir, "--to", to), "No Secret there holds a value")
	s.push("Lifted", map[string]string{"app/a.yaml": string(b)})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s"))
	s.until("is in step", inStepAndReady)
	assert.Equal(t, map[string]string{"password": "lifted-berth-word", "pem": "lifted-one\nlifted-two\n"}, s.values("gate"))

	// A push makes another value seen long before the hour is over.
	assert.Contains(t, s.ok("store", "pushes", "harbour"), "Make one: vigila store pushes harbour --new-key")
	var made struct{ Key, Path string }
	require.True(t, jsonInto([]byte(s.ok("store", "pushes", "harbour", "--new-key", "-o", "json")), &made))
	kvPut(t, s.name+"/gate", map[string]any{"password": "pushed-berth-word", "pem": "one"})
	for key, want := range map[string]int{"another": http.StatusUnauthorized, made.Key: http.StatusAccepted} {
		q, err := http.NewRequest(http.MethodPost, s.url+made.Path, strings.NewReader("{}"))
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer "+key)
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		assert.Equal(t, want, r.StatusCode)
	}
	s.until("has what was pushed", func(w client.Ward) bool {
		return inStepAndReady(w) && s.values("gate")["password"] == "pushed-berth-word"
	})
}

// TestSecretsOfANamespace are a store: read, set, told when they change, and never those of a ward.
func TestSecretsOfANamespace(t *testing.T) {
	t.Parallel()
	s := newService(t)
	space, secrets := s.name+"-store", schema.GroupVersionResource{Version: "v1", Resource: "secrets"}
	dyn := dynamicClient(t)
	_, err := dyn.Resource(namespaces).Create(t.Context(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "Namespace", "metadata": map[string]any{"name": space}}}, metav1.CreateOptions{})
	require.NoError(t, err)
	s.push("All", map[string]string{"app/a.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: gate}\nstringData: {password: \"secret://vault/of-gate#password\", more: \"secret://vault/of-gate#more\"}\n"})
	s.ok("store", "add", "vault", "--namespace", "quay/"+space, "--every", "5s")
	s.fails(1, "nowhere", "store", "add", "other", "--namespace", "nowhere/x")
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s"))
	w := s.until("says what is missing", func(w client.Ward) bool { return w.NeedsYou })
	assert.Contains(t, w.Todo, "vigila secret set vault/of-gate#")
	s.pipe("first-of-two", "secret", "set", "vault/of-gate#password")
	s.pipe("more-of-two", "secret", "set", "vault/of-gate#more")
	s.until("is in step", inStepAndReady)
	assert.Equal(t, map[string]string{"password": "first-of-two", "more": "more-of-two"}, s.values("gate"))
	_, err = dyn.Resource(secrets).Namespace(space).Patch(t.Context(), "of-gate", types.MergePatchType, []byte(`{"stringData": {"password": "second-of-two"}}`), metav1.PatchOptions{FieldManager: "kubectl"})
	require.NoError(t, err)
	s.until("has the second", func(w client.Ward) bool { return inStepAndReady(w) && s.values("gate")["password"] == "second-of-two" })

	// What a ward declares is no place to set a value at: it would be put back.
	s.ok("store", "add", "own", "--namespace", "quay/"+s.name)
	cmd := exec.Command(filepath.Join(bin, "vigila"), "secret", "set", "own/gate#password")
	cmd.Env = append(os.Environ(), "VIGILA_URL="+s.url, "VIGILA_TOKEN="+s.token)
	cmd.Stdin = strings.NewReader("x")
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "is kept by ward "+s.name)
}
