// Package e2e plays Vigila as its users do: the real binary against a real API server, real git and a real
// browser, through the command line, the HTTP API and the console.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/tools/clientcmd"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"vigila.dev/vigila/internal/client"
)

// patience bounds every wait for a condition. Nothing is asserted about speed: machines are noisy.
const patience = 60 * time.Second

var (
	bin     string // directory of the built binaries
	labDir  string
	gitBase string
	gateway string // address of the lab's, for quay
	metrics string // and of its metrics server
	// hostBase is the address of its code host.
	hostBase    string
	kvBase      string // of its server of secret values
	inboxURL    string // of what came in: chat, mail and events
	providerURL string // by which people sign in
	mailAt      string // HOST:PORT of its mail server
	mailCA      string // file of the certificate that signs that one's
)

func TestMain(m *testing.M) {
	code, err := run(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "e2e:", err)
		code = 1
	}
	os.Exit(code)
}

func run(m *testing.M) (int, error) {
	var err error
	if bin, err = filepath.Abs("../bin"); err != nil {
		return 1, err
	}
	for _, b := range []string{"vigila", "vigila-lab"} {
		if _, err := os.Stat(filepath.Join(bin, b)); err != nil {
			return 1, fmt.Errorf("%s is not built; run make test, or make build lab first", b)
		}
	}
	if labDir, err = os.MkdirTemp("", "vigila-e2e-"); err != nil {
		return 1, err
	}
	defer os.RemoveAll(labDir)
	images, err := filepath.Abs("../lab/demo/images.yaml")
	if err != nil {
		return 1, err
	}
	lab := exec.Command(filepath.Join(bin, "vigila-lab"), "up", "--dir", labDir, "--clusters", "quay", "--slipway", "quay", "--catalogue", images, "--gateway", "--prometheus", "prometheus", "--host-token", hostToken, "--kv-token", kvToken, "--inbox-token", inboxToken, "--provider-secret", providerSecret)
	lab.Stdout, lab.Stderr = os.Stderr, os.Stderr
	if err := lab.Start(); err != nil {
		return 1, err
	}
	defer func() {
		_ = lab.Process.Signal(syscall.SIGTERM)
		_ = lab.Wait()
	}()
	for end := time.Now().Add(2 * time.Minute); ; {
		var state struct {
			Git, Metrics, Host, KV, Inbox, Mail, Provider string
			MailCA                                        string `json:"mail_ca"`
			Gateways                                      map[string]string
		}
		if b, err := os.ReadFile(filepath.Join(labDir, "lab.json")); err == nil && json.Unmarshal(b, &state) == nil {
			inboxURL, mailAt, mailCA, providerURL = state.Inbox, state.Mail, state.MailCA, state.Provider
			gitBase, gateway, metrics, hostBase, kvBase = state.Git, state.Gateways["quay"], state.Metrics, state.Host, state.KV
			break
		}
		if time.Now().After(end) {
			return 1, errors.New("the lab was not ready within two minutes")
		}
		time.Sleep(50 * time.Millisecond)
	}
	return m.Run(), nil
}

func kubeconfig() string { return filepath.Join(labDir, "kubeconfig", "quay.yaml") }

// service is a running vigila serve with a data directory of its own, and a repository of its own.
type service struct {
	t     *testing.T
	dir   string
	url   string
	token string
	cmd   *exec.Cmd
	log   *lockedBuffer
	name  string // of the test: its repository, its ward, its namespace
	api   *client.Conn
	args  []string
}

type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// newService starts a service that knows the cluster quay and an empty repository, both of the lab.
func newService(t *testing.T) *service {
	t.Helper()
	name := strings.ToLower(strings.NewReplacer("Test", "", "/", "-", "_", "-").Replace(t.Name()))
	s := &service{t: t, dir: t.TempDir(), log: &lockedBuffer{}, name: name}
	s.start()
	t.Cleanup(s.kill)
	git(t, "", "init", "--quiet", "--bare", "--initial-branch=main", filepath.Join(labDir, "git", name+".git"))
	git(t, filepath.Join(labDir, "git", name+".git"), "config", "http.receivepack", "true")
	s.ok("repo", "add", name, s.origin())
	s.ok("cluster", "add", "quay", "--kubeconfig", kubeconfig())
	return s
}

func (s *service) origin() string { return gitBase + "/" + s.name + ".git" }

func (s *service) start() {
	s.t.Helper()
	listen := "127.0.0.1:0"
	if s.url != "" {
		listen = strings.TrimPrefix(s.url, "http://") // after a restart, at the same address
	}
	tokenFile := filepath.Join(s.dir, "token")
	s.cmd = exec.Command(filepath.Join(bin, "vigila"), append([]string{"serve", "--listen", listen, "--data", filepath.Join(s.dir, "data"), "--admin-token-file", tokenFile, "--log-format", "json"}, s.args...)...)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	out, err := s.cmd.StderrPipe()
	require.NoError(s.t, err)
	require.NoError(s.t, s.cmd.Start())
	ready := make(chan string, 1)
	go func() {
		var line []byte
		buf := make([]byte, 4096)
		for {
			n, err := out.Read(buf)
			_, _ = s.log.Write(buf[:n])
			line = append(line, buf[:n]...)
			for {
				i := bytes.IndexByte(line, '\n')
				if i < 0 {
					break
				}
				var row struct{ Msg, Address string }
				if json.Unmarshal(line[:i], &row) == nil && strings.Contains(row.Msg, "keeps watch") {
					ready <- row.Address
				}
				line = line[i+1:]
			}
			if err != nil {
				return
			}
		}
	}()
	select {
	case s.url = <-ready:
	case <-time.After(patience):
		s.t.Fatalf("the service did not start:\n%s", s.log)
	}
	token, err := os.ReadFile(tokenFile)
	require.NoError(s.t, err)
	s.token = strings.TrimSpace(string(token))
	s.api, err = client.New(client.Context{Name: "test", URL: s.url, Token: s.token})
	require.NoError(s.t, err)
}

// tail is the last lines of a text.
func tail(text string, lines int) string {
	all := strings.Split(text, "\n")
	return strings.Join(all[max(0, len(all)-lines):], "\n")
}

// kill ends the service as a crash does, and waits for it.
func (s *service) kill() {
	_ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL) // with the gits that it has started, which would go on writing
	_ = s.cmd.Wait()
	if s.t.Failed() {
		s.t.Logf("log of the service, its end:\n%s", tail(s.log.String(), 100)) // short, so that what failed is seen above it
	}
}

// cli runs the command line and returns what it printed and its exit code.
func (s *service) cli(args ...string) (stdout, stderr string, code int) {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "vigila"), args...)
	cmd.Env = append(os.Environ(), "VIGILA_URL="+s.url, "VIGILA_TOKEN="+s.token, "VIGILA_CONTEXTS="+filepath.Join(s.dir, "contexts.yaml"))
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		s.t.Fatalf("vigila %s: %v", strings.Join(args, " "), err)
	}
	return out.String(), errs.String(), cmd.ProcessState.ExitCode()
}

// ok runs the command line and wants exit code 0.
func (s *service) ok(args ...string) string {
	s.t.Helper()
	out, errs, code := s.cli(args...)
	require.Zero(s.t, code, "vigila %s\n%s%s", strings.Join(args, " "), out, errs)
	return out
}

// fails runs the command line and wants it to fail with some words.
func (s *service) fails(code int, want string, args ...string) {
	s.t.Helper()
	out, errs, got := s.cli(args...)
	require.Equal(s.t, code, got, "vigila %s\n%s%s", strings.Join(args, " "), out, errs)
	require.Contains(s.t, out+errs, want)
}

// wardFile is a ward file for the test's repository and namespace; keep and settle as given.
func (s *service) wardFile(keep, settle string) string {
	return fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nowner: harbour-ops\nfrom: {repo: %[1]s, path: app}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {%[2]s}\nsettle: {%[3]s}\n", s.name, keep, settle)
}

// add registers a ward file.
func (s *service) add(text string) {
	s.t.Helper()
	file := filepath.Join(s.dir, "ward.yaml")
	require.NoError(s.t, os.WriteFile(file, []byte(text), 0o600))
	s.ok("ward", "add", file)
}

// push writes files (an empty text removes one) and pushes them as a commit; it returns the commit's hash.
func (s *service) push(message string, files map[string]string) string {
	s.t.Helper()
	return s.pushTo("main", message, files)
}

// pushTo is push to a branch, which is made anew from main when it is another.
func (s *service) pushTo(branch, message string, files map[string]string) string {
	s.t.Helper()
	work := s.t.TempDir()
	git(s.t, "", "clone", "--quiet", s.origin(), work)
	git(s.t, work, "checkout", "--quiet", "-B", branch)
	for name, text := range files {
		path := filepath.Join(work, name)
		if text == "" {
			require.NoError(s.t, os.Remove(path))
			continue
		}
		require.NoError(s.t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(s.t, os.WriteFile(path, []byte(text), 0o600))
	}
	git(s.t, work, "add", "-A")
	git(s.t, work, "commit", "--quiet", "-m", message)
	to := "HEAD:" + branch
	if branch != "main" {
		to = "+" + to
	}
	git(s.t, work, "push", "--quiet", "origin", to)
	return strings.TrimSpace(git(s.t, work, "rev-parse", "HEAD"))
}

func git(t *testing.T, dir string, args ...string) string {
	t.Helper()
	out, err := tryGit(dir, args...)
	require.NoError(t, err, "git %s: %s", strings.Join(args, " "), out)
	return out
}

func tryGit(dir string, args ...string) (string, error) {
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_TERMINAL_PROMPT=0",
		"GIT_AUTHOR_NAME=operator", "GIT_AUTHOR_EMAIL=operator@brindle.example", "GIT_COMMITTER_NAME=operator", "GIT_COMMITTER_EMAIL=operator@brindle.example"}
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// lab runs the lab's command: another client of the cluster.
func lab(t *testing.T, args ...string) {
	t.Helper()
	out, err := exec.Command(filepath.Join(bin, "vigila-lab"), args...).CombinedOutput()
	require.NoError(t, err, "vigila-lab %s: %s", strings.Join(args, " "), out)
}

// edit changes a live object of the test's namespace under another client's name.
func (s *service) edit(as, object string, values ...string) {
	s.t.Helper()
	lab(s.t, append([]string{"edit", object, "--kubeconfig", kubeconfig(), "-n", s.name, "--as", as}, values...)...)
}

// ward reads the ward from the API.
func (s *service) ward() client.Ward {
	s.t.Helper()
	return s.detail().Ward
}

func (s *service) detail() *client.WardDetail {
	s.t.Helper()
	r, err := s.api.GetWardWithResponse(context.Background(), s.name+"@quay")
	require.NoError(s.t, s.api.Check(r, err))
	return r.JSON200
}

// until waits for a condition of the ward and returns the ward as it was then.
func (s *service) until(what string, cond func(client.Ward) bool) client.Ward {
	s.t.Helper()
	var w client.Ward
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		if w = s.ward(); cond(w) {
			return w
		}
		if time.Now().After(end) {
			text, _ := json.MarshalIndent(w, "", " ")
			s.t.Fatalf("waited in vain until %s; the ward is:\n%s", what, text)
		}
	}
}

func inStepAndReady(w client.Ward) bool {
	return w.Standing == "in step" && w.Health == "ready" && w.Run.Number == 0
}

// entry reads one entry of the logbook.
func (s *service) entry(n int) client.Entry {
	s.t.Helper()
	r, err := s.api.GetEntryWithResponse(context.Background(), s.name+"@quay", n)
	require.NoError(s.t, s.api.Check(r, err))
	return *r.JSON200
}

// metrics reads /metrics, signed in.
func (s *service) metrics() string {
	s.t.Helper()
	q, err := http.NewRequest(http.MethodGet, s.url+"/metrics", nil)
	require.NoError(s.t, err)
	q.Header.Set("Authorization", "Bearer "+s.token)
	r, err := http.DefaultClient.Do(q)
	require.NoError(s.t, err)
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	require.NoError(s.t, err)
	return string(b)
}

func (s *service) entries() []client.Entry {
	s.t.Helper()
	return s.entriesOf(s.name + "@quay")
}

func (s *service) entriesOf(id string) []client.Entry {
	s.t.Helper()
	r, err := s.api.ListWardEntriesWithResponse(context.Background(), id, &client.ListWardEntriesParams{Limit: 100})
	require.NoError(s.t, s.api.Check(r, err))
	return r.JSON200.Items
}

// live reads an object straight from the cluster; nil when it is not there.
func live(t *testing.T, group, version, resource, namespace, name string) *unstructured.Unstructured {
	t.Helper()
	o, err := dynamicClient(t).Resource(schema.GroupVersionResource{Group: group, Version: version, Resource: resource}).Namespace(namespace).Get(context.Background(), name, metav1.GetOptions{})
	if err != nil {
		require.Contains(t, err.Error(), "not found")
		return nil
	}
	return o
}

// dynamicClient is another client of the cluster, which can do everything.
func dynamicClient(t *testing.T) dynamic.Interface {
	t.Helper()
	cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig())
	require.NoError(t, err)
	dyn, err := dynamic.NewForConfig(cfg)
	require.NoError(t, err)
	return dyn
}

func replicas(t *testing.T, s *service) int64 {
	t.Helper()
	d := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
	require.NotNil(t, d)
	n, _, err := unstructured.NestedInt64(d.Object, "spec", "replicas")
	require.NoError(t, err)
	return n
}

// deployment is a plain manifest with an image of the lab's catalogue.
func deployment(image string, replicas int) string {
	return fmt.Sprintf(`apiVersion: apps/v1
kind: Deployment
metadata:
  name: berth-planner
spec:
  replicas: %d
  selector: {matchLabels: {app: berth-planner}}
  template:
    metadata: {labels: {app: berth-planner}}
    spec:
      containers:
        - name: app
          image: registry.brindle.example/%s
          resources: {limits: {cpu: 1000m, memory: 128Mi}}
          ports: [{containerPort: 8080}]
`, replicas, image)
}

func config(name, key, value string) string {
	return fmt.Sprintf("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: %s}\ndata: {%s: %q}\n", name, key, value)
}

const webService = "apiVersion: v1\nkind: Service\nmetadata: {name: berth-planner}\nspec: {selector: {app: berth-planner}, ports: [{port: 80, targetPort: 8080}]}\n"

// pipes are the connections that go through a proxy, which a test can cut.
type pipes struct {
	mu   sync.Mutex
	ends map[net.Conn]struct{}
	down bool
	read io.Writer // gets what goes through; may be nil
}

// join lets two connections speak with each other, until either ends; while nothing goes through it ends both.
func (p *pipes) join(a, b net.Conn) {
	p.mu.Lock()
	down := p.down
	if !down {
		if p.ends == nil {
			p.ends = map[net.Conn]struct{}{}
		}
		p.ends[a], p.ends[b] = struct{}{}, struct{}{}
	}
	p.mu.Unlock()
	pipe := func(to, from net.Conn) {
		var all io.Reader = from
		if p.read != nil {
			all = io.TeeReader(from, p.read)
		}
		if !down {
			_, _ = io.Copy(to, all)
		}
		_ = to.Close()
		_ = from.Close()
	}
	go pipe(a, b)
	go pipe(b, a)
}

// cut ends every connection and refuses new ones, or lets them through again.
func (p *pipes) cut(down bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.down = down
	for c := range p.ends {
		_ = c.Close()
	}
	clear(p.ends)
}

// breakable is a TCP proxy to the API server that a test can cut.
type breakable struct {
	pipes
	l net.Listener
}

func newBreakable(t *testing.T, target string) *breakable {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	b := &breakable{l: l}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			if up, err := net.Dial("tcp", target); err != nil {
				_ = c.Close()
			} else {
				b.join(c, up)
			}
		}
	}()
	return b
}

func jsonInto(b []byte, v any) bool { return json.Unmarshal(b, v) == nil }
