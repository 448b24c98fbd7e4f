package main

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"

	"vigila.dev/vigila/internal/client"
)

// world is a lab with one cluster, and what the measures need of it.
type world struct {
	dir     string
	bin     string
	lab     *exec.Cmd
	git     string // address of the git server
	gateway string // and of the gateway
	rest    *rest.Config
	dyn     dynamic.Interface
	all     []*service
}

func newWorld(ctx context.Context, more ...string) (*world, error) {
	bin, err := filepath.Abs("bin")
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "vigila-bench-")
	if err != nil {
		return nil, err
	}
	w := &world{dir: dir, bin: bin}
	w.lab = exec.Command(filepath.Join(bin, "vigila-lab"), "up", "--dir", filepath.Join(dir, "lab"), "--clusters", strings.Join(append([]string{"quay"}, more...), ","), "--gateway")
	w.lab.Stderr = os.Stderr
	if err := w.lab.Start(); err != nil {
		return nil, fmt.Errorf("%w; build it with make lab", err)
	}
	var state struct {
		Git      string
		Gateways map[string]string
	}
	if err := until(ctx, "the lab is up", func() (bool, error) {
		b, err := os.ReadFile(filepath.Join(dir, "lab", "lab.json"))
		return err == nil && json.Unmarshal(b, &state) == nil, nil
	}); err != nil {
		w.close()
		return nil, err
	}
	w.git, w.gateway = state.Git, state.Gateways["quay"]
	if w.rest, err = clientcmd.BuildConfigFromFlags("", w.kubeconfig()); err != nil {
		w.close()
		return nil, err
	}
	w.rest.QPS = -1
	if w.dyn, err = dynamic.NewForConfig(w.rest); err != nil {
		w.close()
		return nil, err
	}
	return w, nil
}

func (w *world) kubeconfig() string { return w.kubeconfigOf("quay") }

func (w *world) kubeconfigOf(cluster string) string {
	return filepath.Join(w.dir, "lab", "kubeconfig", cluster+".yaml")
}

func (w *world) close() {
	for _, s := range w.all {
		s.stop()
	}
	_ = w.lab.Process.Signal(syscall.SIGTERM)
	_ = w.lab.Wait()
	_ = os.RemoveAll(w.dir)
}

// until waits for a condition, ten minutes at most.
func until(ctx context.Context, what string, cond func() (bool, error)) error {
	return within(ctx, 10*time.Minute, what, cond)
}

// within waits for a condition, for some time at most.
func within(ctx context.Context, most time.Duration, what string, cond func() (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	for {
		ok, err := cond()
		if ok || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("waited in vain until %s", what)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// sleep lets time pass, unless ctx ends.
func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// service is a running vigila serve.
type service struct {
	world    *world
	dir      string
	cmd      *exec.Cmd
	api      *client.Conn
	profiles string
	address  string
	token    string
	listen   string // where it is to listen; a free port when empty
}

func (w *world) service(ctx context.Context, name string) (*service, error) {
	s := &service{world: w, dir: filepath.Join(w.dir, name)}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return nil, err
	}
	w.all = append(w.all, s)
	if err := s.start(ctx); err != nil {
		return nil, err
	}
	return s, s.cli("cluster", "add", "quay", "--kubeconfig", w.kubeconfig())
}

// start begins the service and returns when it listens.
func (s *service) start(ctx context.Context) error {
	log, err := os.Create(filepath.Join(s.dir, "log"))
	if err != nil {
		return err
	}
	defer log.Close()
	token := filepath.Join(s.dir, "token")
	s.cmd = exec.Command(filepath.Join(s.world.bin, "vigila"), "serve", "--listen", cmp.Or(s.listen, "127.0.0.1:0"), "--data", filepath.Join(s.dir, "data"), "--admin-token-file", token,
		"--log-format", "json", "--profiles", "127.0.0.1:0")
	s.cmd.Stderr = log
	if err := s.cmd.Start(); err != nil {
		return err
	}
	address, profiles := regexp.MustCompile(`"address":"([^"]+)"`), regexp.MustCompile(`"profiles":"([^"]+)"`)
	if err := until(ctx, "the service listens", func() (bool, error) {
		b, err := os.ReadFile(log.Name())
		a, p := address.FindSubmatch(b), profiles.FindSubmatch(b)
		if err != nil || a == nil || p == nil {
			return false, err
		}
		s.address, s.profiles = string(a[1]), string(p[1])
		return true, nil
	}); err != nil {
		return err
	}
	b, err := os.ReadFile(token)
	if err != nil {
		return err
	}
	s.token = strings.TrimSpace(string(b))
	s.api, err = client.New(client.Context{Name: "bench", URL: s.address, Token: s.token})
	return err
}

func (s *service) stop() {
	if s.cmd != nil && s.cmd.Process != nil && s.cmd.ProcessState == nil {
		_ = s.cmd.Process.Signal(syscall.SIGTERM)
		_ = s.cmd.Wait()
	}
}

func (s *service) command(args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(s.world.bin, "vigila"), args...)
	cmd.Env = append(os.Environ(), "VIGILA_URL="+s.address, "VIGILA_TOKEN="+s.api.Context.Token, "VIGILA_CONTEXTS="+filepath.Join(s.dir, "contexts.yaml"))
	return cmd
}

func (s *service) cli(args ...string) error {
	out, err := s.command(args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("vigila %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

// add registers a ward file.
func (s *service) add(text string) error {
	file := filepath.Join(s.dir, "ward.yaml")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return err
	}
	return s.cli("ward", "add", file)
}

// wards lists every ward by its name.
func (s *service) wards(ctx context.Context) (map[string]client.Ward, error) {
	r, err := s.api.ListWardsWithResponse(ctx, &client.ListWardsParams{Limit: 1000})
	if err := s.api.Check(r, err); err != nil {
		return nil, err
	}
	out := make(map[string]client.Ward, len(r.JSON200.Items))
	for _, x := range r.JSON200.Items {
		out[x.Name] = x
	}
	return out, nil
}

// all waits until every one of so many wards is as a condition wants it.
func (s *service) all(ctx context.Context, what string, n int, cond func(client.Ward) bool) error {
	return until(ctx, what, func() (bool, error) {
		all, err := s.wards(ctx)
		ok := len(all) == n
		for _, x := range all {
			ok = ok && cond(x)
		}
		return ok, err
	})
}

func inStep(x client.Ward) bool {
	return x.Standing == "in step" && x.Health == "ready" && x.Run.Number == 0
}

// metric reads one number of /metrics.
func (s *service) metric(name string) (float64, error) {
	q, err := http.NewRequest(http.MethodGet, s.address+"/metrics", nil)
	if err != nil {
		return 0, err
	}
	q.Header.Set("Authorization", "Bearer "+s.token)
	r, err := http.DefaultClient.Do(q)
	if err != nil {
		return 0, err
	}
	defer r.Body.Close()
	var b bytes.Buffer
	if _, err := b.ReadFrom(r.Body); err != nil {
		return 0, err
	}
	for _, line := range strings.Split(b.String(), "\n") {
		if v, ok := strings.CutPrefix(line, name+" "); ok {
			return strconv.ParseFloat(v, 64)
		}
	}
	return 0, fmt.Errorf("there is no metric %s", name)
}

// resident is the memory that the system counts for the service, in bytes: VmRSS now, VmHWM at most so far.
func (s *service) resident(which string) (float64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	if err != nil {
		return 0, err
	}
	m := regexp.MustCompile(which + `:\s+(\d+) kB`).FindSubmatch(b)
	if m == nil {
		return 0, errors.New("the system does not tell how much memory the service has")
	}
	n, err := strconv.ParseFloat(string(m[1]), 64)
	return n * 1024, err
}

// profiled runs a measure under a CPU profile of the service and returns its heaviest functions.
func (s *service) profiled(do func() error) (string, error) {
	file := filepath.Join(s.dir, "cpu.pprof")
	cmd := exec.Command("curl", "-sS", "-o", file, s.profiles+"profile?seconds=15")
	if err := cmd.Start(); err != nil {
		return "", err
	}
	err := do()
	if werr := cmd.Wait(); werr != nil || err != nil {
		return "", errors.Join(err, werr)
	}
	return pprofTop(s, file)
}

// inTurns measures something so many times, each beside its limit, under a CPU profile of the service.
func (s *service) inTurns(rounds int, one func(n int) (ours, limit time.Duration, err error)) (ours, limit []time.Duration, profile string, err error) {
	profile, err = s.profiled(func() error {
		for n := range rounds {
			o, l, err := one(n)
			if err != nil {
				return err
			}
			ours, limit = append(ours, o), append(limit, l)
		}
		return nil
	})
	return ours, limit, profile, err
}

// why adds what the service does to a row that has missed its goal.
func (s *service) why(r *row) error {
	if r.met {
		return nil
	}
	profile, err := s.profiled(func() error { return nil })
	r.profiles = []string{profile}
	return err
}

// pprofTop is the heaviest functions of a profile, with all they call.
func pprofTop(s *service, file string) (string, error) {
	out, err := exec.Command("go", "tool", "pprof", "-top", "-cum", "-nodecount", "45", filepath.Join(s.world.bin, "vigila"), file).CombinedOutput()
	rows := slices.DeleteFunc(strings.Split(string(out), "\n"), func(r string) bool { return strings.HasPrefix(r, "Build ID") || strings.HasPrefix(r, "Time:") })
	return strings.Join(rows, "\n"), err
}

// repository is a work tree whose commits are pushed to the lab's git server.
type repository struct{ url, work string }

func (w *world) repository(name string) (*repository, error) {
	r := &repository{url: w.git + "/" + name + ".git", work: filepath.Join(w.dir, "work-"+name)}
	bare := filepath.Join(w.dir, "lab", "git", name+".git")
	for _, args := range [][]string{{"init", "-q", "--bare", "--initial-branch=main", bare}, {"-C", bare, "config", "http.receivepack", "true"}, {"init", "-q", "--initial-branch=main", r.work}} {
		if err := git("", args...); err != nil {
			return nil, err
		}
	}
	return r, nil
}

func git(dir string, args ...string) error {
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_TERMINAL_PROMPT=0",
		"GIT_AUTHOR_NAME=operator", "GIT_AUTHOR_EMAIL=operator@brindle.example", "GIT_COMMITTER_NAME=operator", "GIT_COMMITTER_EMAIL=operator@brindle.example"}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

// push writes files, commits and pushes them.
func (r *repository) push(message string, files map[string]string) error {
	for name, text := range files {
		path := filepath.Join(r.work, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			return err
		}
	}
	for _, args := range [][]string{{"add", "-A"}, {"commit", "-q", "-m", message}, {"-c", "http.postBuffer=1000000000", "push", "-q", r.url, "main"}} {
		if err := git(r.work, args...); err != nil {
			return err
		}
	}
	return nil
}

// quantile is the q-th of some times (0.5: the median).
func quantile(times []time.Duration, q float64) time.Duration {
	s := slices.Clone(times)
	slices.Sort(s)
	return s[min(len(s)-1, int(q*float64(len(s))))]
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

// manifest is one declared object; version goes into it, so that another version is a change. Half are ConfigMaps, the
// others workloads (scaled to none, since no machine runs here) and network policies.
func manifest(name string, i, version int) string {
	labels := fmt.Sprintf("{app: %s, tier: rehearsal, team: harbour-ops}", name)
	switch i % 4 {
	case 1:
		return fmt.Sprintf(`apiVersion: apps/v1
kind: Deployment
metadata: {name: %[1]s, labels: %[2]s}
spec:
  replicas: 0
  selector: {matchLabels: {app: %[1]s}}
  template:
    metadata: {labels: %[2]s, annotations: {brindle.example/version: "%[3]d"}}
    spec:
      containers:
        - name: %[1]s
          image: registry.brindle.example/%[1]s:1.%[3]d
          args: [--listen, ":8080", --berths, "7"]
          env: [{name: MODE, value: lee}, {name: INTERVAL, value: 30s}, {name: TIDE_TABLE, value: /etc/tides/table.json}]
          ports: [{name: http, containerPort: 8080}]
          resources: {requests: {cpu: 50m, memory: 64Mi}, limits: {memory: 128Mi}}
          readinessProbe: {httpGet: {path: /ready, port: http}, periodSeconds: 5}
          volumeMounts: [{name: tides, mountPath: /etc/tides}]
      volumes: [{name: tides, configMap: {name: tides}}]
`, name, labels, version)
	case 3:
		return fmt.Sprintf(`apiVersion: networking.k8s.io/v1
kind: NetworkPolicy
metadata: {name: %[1]s, labels: %[2]s, annotations: {brindle.example/version: "%[3]d"}}
spec:
  podSelector: {matchLabels: {app: %[1]s}}
  policyTypes: [Ingress]
  ingress: [{from: [{podSelector: {matchLabels: {tier: rehearsal}}}], ports: [{port: 8080, protocol: TCP}]}]
`, name, labels, version)
	}
	return fmt.Sprintf(`apiVersion: v1
kind: ConfigMap
metadata: {name: %[1]s, labels: %[2]s}
data:
  version: "%[3]d"
  interval: 30s
  berths: "north-1 north-2 north-3 lee-1 lee-2 gale-1 gale-2"
  table.json: '{"high": ["05:12", "17:40"], "low": ["11:21", "23:52"], "datum": "chart", "station": "brindle sound, north pier"}'
`, name, labels, version)
}

// gate makes a ward file.
func gate(name, repo, path, keep string) string {
	return fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nowner: harbour-ops\nfrom: {repo: %[2]s, path: %[3]s}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {%[4]s, every: 1h}\nsettle: {within: 10m}\n", name, repo, path, keep)
}
