package e2e

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/link"
)

// lookout is a lookout of a service, as a process of its own.
type lookout struct {
	s    *service
	args []string
	env  []string
	cmd  *exec.Cmd
	log  *lockedBuffer
}

// lookoutOf lets a lookout join that keeps a cluster of the service.
func (s *service) lookoutOf(cluster string, more ...string) *lookout {
	s.t.Helper()
	r, err := s.api.LetLookoutJoinWithResponse(s.t.Context(), cluster, client.LetLookoutJoin{})
	require.NoError(s.t, s.api.Check(r, err))
	j := r.JSON200
	l := &lookout{s: s, log: &lockedBuffer{}, env: []string{"VIGILA_JOIN=" + j.JoinToken}}
	l.args = append([]string{"lookout", "--service", s.url, "--service-key", j.ServiceKey, "--kubeconfig", kubeconfig(), "--data", filepath.Join(s.t.TempDir(), "data"), "--log-format", "json"}, more...)
	l.start()
	s.t.Cleanup(l.kill)
	return l
}

func (l *lookout) start() {
	l.s.t.Helper()
	l.cmd = exec.Command(filepath.Join(bin, "vigila"), l.args...)
	l.cmd.Env = append(os.Environ(), l.env...)
	l.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	l.cmd.Stderr = l.log
	require.NoError(l.s.t, l.cmd.Start())
}

// kill ends the lookout as a crash does, and waits for it.
func (l *lookout) kill() {
	if l.cmd == nil {
		return
	}
	_ = syscall.Kill(-l.cmd.Process.Pid, syscall.SIGKILL)
	_ = l.cmd.Wait()
	l.cmd = nil
	if l.s.t.Failed() {
		l.s.t.Logf("the lookout of %s:\n%s", l.s.name, tail(l.log.String(), 60))
	}
}

// here waits until the lookout is, or is not, connected.
func (s *service) here(cluster string, want bool) client.Lookout {
	s.t.Helper()
	var out client.Lookout
	require.Eventually(s.t, func() bool {
		r, err := s.api.GetClusterWithResponse(s.t.Context(), cluster)
		require.NoError(s.t, s.api.Check(r, err))
		out = r.JSON200.ClusterOf.Lookout
		return out.Here == want
	}, patience, 50*time.Millisecond)
	return out
}

// TestALookoutKeepsACluster: what a lookout keeps is synced, told, asked about, held and gone back with as if the service reached the cluster
// itself.
func TestALookoutKeepsACluster(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Two berths", map[string]string{"app/c.yaml": config(s.name, "berths", "2")})
	s.lookoutOf("quay")
	s.add(s.wardFile("sync: auto, every: 1s, drift: report", "within: 30s"))
	s.until("in step", inStepAndReady)
	assert.Contains(t, s.ok("cluster", "show", "quay"), "here, came")

	s.push("Three berths", map[string]string{"app/c.yaml": config(s.name, "berths", "3")})
	s.until("the newer one is in step", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Three") })
	require.Len(t, s.entries(), 2)
	assert.Contains(t, s.ok("logbook", s.name, "2"), "ConfigMap "+s.name)
	require.Eventually(t, func() bool { return strings.Contains(s.metrics(), `vigila_runs_total{kind="sync",outcome="done"} 2`) }, patience, 50*time.Millisecond, "its runs are counted where people look")

	s.edit("kubectl-edit", "configmap/"+s.name, `data.berths="9"`)
	s.until("drift is told", func(w client.Ward) bool { return w.Standing == "drifted" })
	out, _, code := s.cli("diff", s.name)
	assert.Equal(t, 3, code)
	for _, want := range []string{"data.berths", "live 9", "kubectl-edit"} {
		assert.Contains(t, out, want)
	}
	out, _, _ = s.cli("restore", s.name, "--preview")
	assert.Contains(t, out, "data.berths")
	s.ok("restore", s.name)
	s.until("restored", inStepAndReady)

	s.ok("rollback", s.name, "1")
	w := s.until("gone back", func(w client.Ward) bool { return w.Hold.By != "" && w.Run.Number == 0 })
	assert.Contains(t, w.Applied.Subject, "Two")
	assert.Contains(t, s.ok("logbook", s.name), "rollback to #1, done")
	s.ok("release", s.name)
	s.until("forward again", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Three") })

	s.ok("ward", "remove", s.name, "--dismantle", "--allow", "Namespace/"+s.name)
	require.Eventually(t, func() bool {
		_, _, code := s.cli("ward", "show", s.name)
		return code == 1
	}, patience, 50*time.Millisecond, "it is dismantled")
	assert.Contains(t, s.ok("logbook", s.name), "dismantle, done", "its logbook stays")
}

// berths is what the ConfigMap of the test has in the cluster itself.
func (s *service) berths() string {
	v, _, err := unstructured.NestedString(s.live("configmaps", s.name).Object, "data", "berths")
	require.NoError(s.t, err)
	return v
}

// TestALookoutGoesOnAlone: without the service it restores, and keeps its logbook, whole and in order; the service says what it does not know.
func TestALookoutGoesOnAlone(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Two berths", map[string]string{"app/c.yaml": config(s.name, "berths", "2")})
	l := s.lookoutOf("quay")
	s.add(s.wardFile("sync: auto, every: 1s, drift: restore", "within: 30s"))
	s.until("in step", inStepAndReady)

	s.kill()
	s.edit("kubectl-edit", "configmap/"+s.name, `data.berths="9"`)
	restored := func() {
		require.Eventually(t, func() bool { return s.berths() == "2" }, patience, 50*time.Millisecond, "it is put back without the service")
	}
	restored()
	l.kill() // and after its own end as well
	s.edit("kubectl-edit", "configmap/"+s.name, `data.berths="8"`)
	l.start()
	restored()

	s.start()
	s.until("in step", inStepAndReady)
	require.Eventually(t, func() bool { return len(s.entries()) >= 3 }, patience, 50*time.Millisecond, "the logbook of the time between arrives")
	var kinds []string
	all := s.entries()
	for i, e := range all {
		assert.Equal(t, len(all)-i, e.Number, "numbers are whole and in order")
		kinds = append(kinds, string(e.Kind))
	}
	assert.Contains(t, kinds, "restore")
	assert.NotEmpty(t, s.here("quay", true).Alone, "when it was on its own is told")

	l.kill()
	s.here("quay", false)
	w := s.ward()
	assert.EqualValues(t, "blind", w.Standing)
	assert.Contains(t, w.Says, "lookout of quay was heard of last")
	s.fails(1, "goes on by itself", "sync", s.name)
	s.push("Three berths", map[string]string{"app/c.yaml": config(s.name, "berths", "3")})
	s.ok("repo", "look", s.name)
	assert.EqualValues(t, "blind", s.ward().Standing, "never in step while nobody can know")
	l.start()
	s.until("the newer one is in step", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Three") })
}

// TestALookoutJoinsOnce: a token is good once; who has it afterwards is refused, and that is loud.
func TestALookoutJoinsOnce(t *testing.T) {
	t.Parallel()
	s := newService(t)
	l := s.lookoutOf("quay")
	s.here("quay", true)
	second := &lookout{s: s, log: &lockedBuffer{}, env: l.env}
	for _, a := range l.args {
		second.args = append(second.args, strings.Replace(a, "/data", "/other", 1))
	}
	second.start()
	assert.Error(t, second.cmd.Wait())
	second.cmd = nil
	assert.Contains(t, second.log.String()+tail(s.log.String(), 5), "its token has been used")
	assert.Contains(t, s.ok("cluster", "show", "quay"), "came with a token that was used")
	assert.Contains(t, s.ok("audit", "--search", "quay"), "the token was used before")
	assert.True(t, s.here("quay", true).Here, "the first one stays")

	wrong := &lookout{s: s, log: &lockedBuffer{}, args: append([]string{}, l.args...)}
	for i, a := range wrong.args {
		if wrong.args[max(0, i-1)] == "--service-key" {
			wrong.args[i] = strings.Repeat("A", len(a))
		}
		wrong.args[i] = strings.Replace(wrong.args[i], "/data", "/third", 1)
	}
	wrong.start()
	t.Cleanup(wrong.kill)
	require.Eventually(t, func() bool {
		return strings.Contains(wrong.log.String(), "is not the service; nothing it says is taken in")
	}, patience, 50*time.Millisecond)

	s.ok("cluster", "remove", "quay")
	require.Eventually(t, func() bool { return strings.Contains(l.log.String(), "the service can't be reached") }, patience, 50*time.Millisecond, "its key is good no more")
}

// TestABackupIsRestored: a service that was put back to a backup is told by its lookout what it has lost, and keeps watch as before.
func TestABackupIsRestored(t *testing.T) {
	t.Parallel()
	s := newService(t)
	data, place := filepath.Join(s.dir, "data"), filepath.Join(s.dir, "backups")
	s.push("Two berths", map[string]string{"app/c.yaml": config(s.name, "berths", "2")})
	s.lookoutOf("quay")
	s.add(s.wardFile("sync: auto, every: 1s, drift: restore", "within: 30s"))
	s.until("in step", inStepAndReady)
	require.Eventually(t, func() bool { return len(s.entries()) == 1 }, patience, 50*time.Millisecond)
	assert.Contains(t, s.ok("backup", "take", "--data", data, "--to", place), "is encrypted with the key of")

	s.push("Three berths", map[string]string{"app/c.yaml": config(s.name, "berths", "3")})
	s.until("the newer one is in step", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Three") })
	s.ok("hold", s.name, "--why", "the tide is high")
	require.Eventually(t, func() bool { return len(s.entries()) == 3 }, patience, 50*time.Millisecond)
	before := s.entries()

	s.kill()
	s.fails(1, "is there already; nothing is written over", "backup", "restore", "--data", data, "--from", place)
	require.NoError(t, os.Rename(filepath.Join(data, "vigila.db"), filepath.Join(s.dir, "lost.db")))
	for _, more := range []string{"-wal", "-shm"} {
		_ = os.Remove(filepath.Join(data, "vigila.db"+more))
	}
	assert.Contains(t, s.ok("backup", "list", "--in", place), "vigila-20")
	assert.Contains(t, s.ok("backup", "list", "--in", place, "-o", "yaml"), "  name: vigila-20")
	s.fails(2, "write text, json or yaml", "backup", "list", "--in", place, "-o", "csv")
	s.ok("backup", "restore", "--data", data, "--from", place)
	s.start()
	s.here("quay", true)
	require.Eventually(t, func() bool { return len(s.entries()) == 3 }, patience, 50*time.Millisecond, "what was lost is told anew")
	assert.Equal(t, before, s.entries())
	w := s.until("in step", func(w client.Ward) bool { return w.Standing == "in step" })
	assert.Equal(t, "the tide is high", w.Hold.Why)
	s.ok("release", s.name)
	require.Eventually(t, func() bool { return len(s.entries()) == 4 }, patience, 50*time.Millisecond, "and it goes on from there")
}

// TestALookoutBehindAProxy: it calls out through a proxy that lets connections out and none in, by the name of the service, which only the proxy can
// resolve; what goes through says nothing to the proxy, and when that has gone for a while all is as before.
func TestALookoutBehindAProxy(t *testing.T) {
	t.Parallel()
	s := newService(t)
	cert, key := s.certificate("vigila.brindle.example")
	pair, err := tls.LoadX509KeyPair(cert, key)
	require.NoError(t, err)
	to, err := url.Parse(s.url)
	require.NoError(t, err)
	front := httptest.NewUnstartedServer(httputil.NewSingleHostReverseProxy(to)) // what speaks HTTPS before the service
	front.TLS = &tls.Config{Certificates: []tls.Certificate{pair}}
	front.StartTLS()
	t.Cleanup(front.Close)
	s.push("Two berths", map[string]string{"app/c.yaml": config(s.name, "berths", "2")})
	p := startProxy(t, "vigila.brindle.example:443", strings.TrimPrefix(front.URL, "https://"))
	r, err := s.api.LetLookoutJoinWithResponse(t.Context(), "quay", client.LetLookoutJoin{})
	require.NoError(t, s.api.Check(r, err))
	l := &lookout{s: s, log: &lockedBuffer{}, env: []string{"VIGILA_JOIN=" + r.JSON200.JoinToken, "HTTPS_PROXY=http://" + p.address, "NO_PROXY=127.0.0.1", "SSL_CERT_FILE="}}
	l.args = []string{"lookout", "--service", "https://vigila.brindle.example", "--ca-file", cert, "--service-key", r.JSON200.ServiceKey, "--kubeconfig", kubeconfig(), "--data", filepath.Join(t.TempDir(), "data"), "--log-format", "json"}
	l.start()
	t.Cleanup(l.kill)
	s.here("quay", true)
	s.add(s.wardFile("sync: auto, every: 1s, drift: restore", "within: 30s"))
	s.until("in step", inStepAndReady)
	assert.NotContains(t, p.seen.String(), s.name, "the proxy reads nothing")
	p.cut(true)
	s.here("quay", false)
	s.edit("kubectl-edit", "configmap/"+s.name, `data.berths="9"`)
	require.Eventually(t, func() bool { return s.berths() == "2" }, patience, 50*time.Millisecond, "it goes on by itself")
	p.cut(false)
	s.here("quay", true)
	s.until("in step", inStepAndReady)
	require.Eventually(t, func() bool { return len(s.entries()) == 2 }, patience, 50*time.Millisecond)
}

// proxy is an HTTP proxy that lets connections to one place out.
type proxy struct {
	pipes
	address string
	seen    lockedBuffer // what went through
}

func startProxy(t *testing.T, name, at string) *proxy {
	t.Helper()
	p := &proxy{}
	p.read = &p.seen
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.Method != http.MethodConnect || q.Host != name {
			http.Error(w, "not through here", http.StatusForbidden)
			return
		}
		out, err := net.Dial("tcp", at)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		in, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			return
		}
		_, _ = in.Write([]byte("HTTP/1.1 200 Connection established\r\n\r\n"))
		p.join(in, out)
	}))
	t.Cleanup(func() { p.cut(true); h.Close() })
	p.address = strings.TrimPrefix(h.URL, "http://")
	return p
}

// TestACentreIsRebuiltFromItsLookouts: of a service that lost everything, its key too, another one takes the place: what was declared comes from git,
// and what was written down from its lookouts, whichever of them is known first.
func TestACentreIsRebuiltFromItsLookouts(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Two berths", map[string]string{"app/c.yaml": config(s.name, "berths", "2"), "keys/s.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: tides}\nstringData: {key: high-water}\n", "keys/c.yaml": config("mark", "v", "1")})
	l := s.lookoutOf("quay")
	wards := s.wardFile("sync: auto, every: 1s, drift: restore", "within: 30s") + "---\n" + strings.NewReplacer("name: "+s.name+"\n", "name: "+s.name+"-keys\n", "path: app", "path: keys", ", create_namespace: true", "").Replace(s.wardFile("sync: auto, every: 1s, drift: restore", "within: 30s"))
	s.add(wards)
	s.until("in step", inStepAndReady)
	keys := s.name + "-keys@quay"
	s.untilOf(keys, "in step", inStepAndReady)
	s.push("Three berths", map[string]string{"app/c.yaml": config(s.name, "berths", "3")})
	s.until("the newer one is in step", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Three") })
	s.edit("kubectl-edit", "configmap/"+s.name, `data.berths="9"`)
	require.Eventually(t, func() bool { return s.berths() == "3" }, patience, 50*time.Millisecond)
	s.ok("rollback", s.name, "1", "--why", "the third berth leaks")
	s.until("gone back", func(w client.Ward) bool {
		return w.Hold.By != "" && w.Run.Number == 0 && strings.Contains(w.Applied.Subject, "Two")
	})
	var before []client.Entry
	require.Eventually(t, func() bool { before = s.entries(); return len(before) >= 4 && !before[0].Ended.IsZero() }, patience, 50*time.Millisecond)
	held := s.ward().Hold

	s.kill()
	require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "data")))
	s.start()
	r, err := s.api.LetLookoutJoinWithResponse(t.Context(), "quay", client.LetLookoutJoin{})
	require.NoError(t, s.api.Check(r, err))
	l.kill()
	for i := range l.args {
		if l.args[max(0, i-1)] == "--service-key" {
			l.args[i] = r.JSON200.ServiceKey
		}
	}
	l.env = nil
	l.start()
	require.Eventually(t, func() bool { return strings.Contains(l.log.String(), "vigila serve --in-place-of ") }, patience, 50*time.Millisecond, "a key alone makes no other service its own")
	_, rest, _ := strings.Cut(l.log.String(), "vigila serve --in-place-of ")
	id := rest[:10]
	l.kill()
	l.env = []string{"VIGILA_JOIN=" + r.JSON200.JoinToken}
	l.start()
	require.Eventually(t, func() bool {
		return strings.Contains(l.log.String(), "where the service is lost, start the other in its place")
	}, patience, 50*time.Millisecond, "nor does a token")
	s.edit("kubectl-edit", "configmap/mark", `data.v="7"`)
	require.Eventually(t, func() bool { return strings.Count(l.log.String(), `"kind":"restore"`) >= 4 }, patience, 50*time.Millisecond, "it goes on by itself meanwhile")
	s.kill()
	s.fails(2, "keeps wards or lookouts already", "serve", "--in-place-of", id, "--listen", "127.0.0.1:0", "--data", filepath.Join(s.dir, "data"))
	require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "data")))
	s.args = []string{"--in-place-of", id}
	s.start()
	r, err = s.api.LetLookoutJoinWithResponse(t.Context(), "quay", client.LetLookoutJoin{})
	require.NoError(t, s.api.Check(r, err))
	l.kill()
	for i := range l.args {
		if l.args[max(0, i-1)] == "--service-key" {
			l.args[i] = r.JSON200.ServiceKey
		}
	}
	l.env = []string{"VIGILA_JOIN=" + r.JSON200.JoinToken}
	l.start()
	s.here("quay", true)
	s.ok("repo", "add", s.name, s.origin())
	s.add(wards)
	w := s.until("as it was", func(w client.Ward) bool { return w.Hold.By != "" && w.Standing == "behind" })
	assert.Equal(t, held.Why, w.Hold.Why)
	s.untilOf(keys, "in step", inStepAndReady)
	require.Eventually(t, func() bool { return len(s.entries()) == len(before) }, patience, 50*time.Millisecond, "the logbook comes back")
	assert.Equal(t, before, s.entries())
	assert.Contains(t, s.ok("logbook", keys), "restore, done", "and what the lookout did alone")
	s.ok("release", s.name)
	s.until("it goes on from there", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Three") })
}

// quiet answers nothing that it is asked.
type quiet struct{}

func (quiet) Asked(context.Context, string, link.Raw, func(any) error) (any, error) { return nil, nil }
func (quiet) Told(string, link.Raw) error                                           { return nil }

// rogue calls the service as a lookout with a key of its own, and says what it likes.
func (s *service) rogue(service string) *link.Peer {
	s.t.Helper()
	key, err := link.NewKey()
	require.NoError(s.t, err)
	conn, err := link.Dial(s.t.Context(), s.url, nil)
	require.NoError(s.t, err)
	safe, err := link.Call(s.t.Context(), conn, key, service)
	require.NoError(s.t, err)
	p := link.New(s.t.Context(), safe, quiet{})
	go func() { _ = p.Run() }()
	s.t.Cleanup(func() { p.Close(nil) })
	return p
}

// TestARogueLookoutGetsNothing: whoever has not joined is asked and told nothing, and whoever has is told of its own cluster alone.
func TestARogueLookoutGetsNothing(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Two berths", map[string]string{"app/c.yaml": config(s.name, "berths", "2")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 30s"))
	s.until("in step", inStepAndReady)
	r, err := s.api.LetLookoutJoinWithResponse(t.Context(), "skerry", client.LetLookoutJoin{})
	require.NoError(t, s.api.Check(r, err))
	ctx, id := t.Context(), s.name+"@quay"
	refused := func(p *link.Peer, want, method string, args any) {
		t.Helper()
		err := p.Call(ctx, method, args, nil)
		require.Error(t, err)
		assert.Contains(t, err.Error(), want)
	}
	hello := map[string]any{"Protocol": 1, "Least": 1, "Version": "rogue"}

	stranger := s.rogue(r.JSON200.ServiceKey)
	for _, method := range []string{"ready", "read", "objects", "value", "check", "writes", "whole"} {
		refused(stranger, "say hello first", method, map[string]any{})
	}
	refused(stranger, "not known here", "hello", hello)
	refused(stranger, "speaks 1 to 1 and the lookout 7 to 9", "hello", map[string]any{"Protocol": 9, "Least": 7})
	require.NoError(t, stranger.Tell("view", map[string]any{"Ward": id}))
	<-stranger.Done() // that ends it
	large := s.rogue(r.JSON200.ServiceKey)
	_ = large.Call(ctx, "hello", map[string]any{"Version": strings.Repeat("x", 1<<20)}, nil)
	<-large.Done()

	joined := s.rogue(r.JSON200.ServiceKey)
	hello["Token"] = r.JSON200.JoinToken
	require.NoError(t, joined.Call(ctx, "hello", hello, nil))
	require.NoError(t, joined.Call(ctx, "ready", map[string]any{}, nil))
	for _, method := range []string{"read", "value"} {
		refused(joined, "is not kept any more", method, map[string]any{"Ward": id, "Store": "harbour", "Path": "x"})
	}
	refused(joined, "knows no tides", "tides", nil)
	require.NoError(t, joined.Tell("view", map[string]any{"Ward": id, "View": map[string]any{"Standing": "contested", "Says": "ahoy"}}))
	require.NoError(t, joined.Tell("finished", id))
	var seen int64
	require.NoError(t, joined.Call(ctx, "writes", map[string]any{"All": []map[int]any{{1: 1, 2: id, 3: "remove_entry", 4: []byte(`{"Number":1}`)}}}, &seen))
	assert.EqualValues(t, 1, seen)
	require.NoError(t, joined.Call(ctx, "whole", map[string]any{"All": map[string]any{id: map[string]any{}}, "UpTo": 1}, nil))
	assert.Len(t, s.entries(), 1, "the logbook of another cluster's ward stays")
	assert.EqualValues(t, "in step", s.ward().Standing)

	// Nor does what it says of its own wards do more than say something of them.
	s.add(strings.ReplaceAll(strings.Replace(s.wardFile("sync: auto, every: 1s", "within: 30s"), "name: "+s.name, "name: own", 1), "cluster: quay", "cluster: skerry"))
	require.NoError(t, joined.Tell("view", map[string]any{"Ward": "own@skerry", "View": map[string]any{"Standing": "in step", "Canary": map[string]any{"run": 1, "share": -7, "phase": "sharing"}, "Run": map[string]any{"Number": 1}}}))
	require.NoError(t, joined.Tell("finished", "own@skerry"))
	refused(joined, "declares no such check", "check", map[string]any{"Ward": "own@skerry", "Check": map[string]any{"Name": "errors", "Ask": map[string]any{"URL": s.url}}})
	assert.Contains(t, s.ok("ward", "list", "--search", "own@skerry"), "own@skerry")
	joined.Close(nil)
	s.here("skerry", false)
	s.ok("ward", "remove", "own")
	s.ok("cluster", "remove", "skerry")
}

// TestTheConsoleLetsALookoutJoin: from the form to a cluster that is kept, and back to one whose lookout is away.
func TestTheConsoleLetsALookoutJoin(t *testing.T) {
	t.Parallel()
	s := newService(t)
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("No wards yet")
	b.open(s.url + "/clusters")
	b.click("Add a cluster")
	b.fill("name", "skerry")
	b.do(chromedp.SendKeys(chromedp.CSS("#by"), "lookout"))
	b.click("Check and add it")
	b.shows("The token is good once")
	words := strings.Fields(strings.ReplaceAll(b.text(), "\\", " "))
	after := func(word string) string {
		for i, w := range words {
			if rest, is := strings.CutPrefix(w, word+"="); is {
				return rest
			}
			if w == word && i+1 < len(words) {
				return words[i+1]
			}
		}
		t.Fatalf("the page says no %s:\n%s", word, b.text())
		return ""
	}
	l := &lookout{s: s, log: &lockedBuffer{}, env: []string{"VIGILA_JOIN=" + after("VIGILA_JOIN")}}
	l.args = []string{"lookout", "--service", after("--service"), "--service-key", after("--service-key"), "--kubeconfig", kubeconfig(), "--data", filepath.Join(t.TempDir(), "data"), "--log-format", "json"}
	b.click("Close")
	b.shows("waits for its lookout")
	l.start()
	t.Cleanup(l.kill)
	s.here("skerry", true)
	b.open(s.url + "/clusters")
	b.shows("by lookout")
	b.open(s.url + "/clusters/skerry")
	b.shows("here, came")
	b.shows("Nothing is kept here yet")
	l.kill()
	s.here("skerry", false)
	b.open(s.url + "/clusters/skerry")
	b.shows("Its lookout is away, and goes on by itself")
	b.open(s.url + "/clusters")
	b.shows("its lookout is away")
}
