// Package soak plays random faults against a running Vigila with many wards, while a checker that shares no code with
// it holds the repository, the cluster and what the API claims against each other. The first false claim ends it.
// A seed plays the same faults again. Start with Run.
package soak

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/dynamic"

	"vigila.dev/lab/edit"
	"vigila.dev/lab/faults"
	"vigila.dev/lab/gitserve"
	"vigila.dev/lab/hostile"
	"vigila.dev/lab/inbox"
	"vigila.dev/lab/kv"
	"vigila.dev/lab/nodes"
	"vigila.dev/lab/plane"
)

// Options are the settings of a soak.
type Options struct {
	Dir      string        // for everything it makes; it must not exist yet
	Vigila   string        // the binary under test
	Duration time.Duration // of the faults; coming to rest is not counted
	Seed     uint64
	Wards    int
	Rewinds  bool      // the cluster's data are put back now and then
	Lookout  bool      // a lookout keeps the cluster, and is cut off and killed too
	Hostile  bool      // wards from a hostile repository stand beside the others
	Out      io.Writer // tells what is done
}

// grace is how long a claim may lag behind the truth. Far longer than the service takes, so that a busy machine is no
// false claim, and far shorter than any mistake that stays.
const grace = 12 * time.Second

// storeSilent is how long the service waits for a store that does not answer: what was asked while it was slow is answered to no more.
const storeSilent = 15 * time.Second

// calm is how long everything may take to come to rest once the faults are over.
const calm = 3 * time.Minute

type soak struct {
	Options
	ctx   context.Context
	dice  *rand.Rand
	began time.Time

	plane   *plane.Plane
	cluster *plane.Cluster
	// stopNodes ends what stands in for the nodes.
	stopNodes func()
	proxy     *faults.Proxy
	git       *gitserve.Server
	kv        *kv.Server
	inbox     *inbox.Server
	keeper    keeper
	gitPort   int
	dyn       dynamic.Interface
	token     string
	address   string

	service struct {
		sync.Mutex
		cmd *exec.Cmd
		up  time.Time // zero while it is down
	}

	mu        sync.Mutex // guards the world below
	wards     []*ward
	fault     faults.Fault
	faulted   time.Time // since when
	work      string    // the work tree of the repository
	changes   int
	restored  int       // how often etcd was put back
	storeAway time.Time // when the store of secret values failed last

	counts  map[string]int
	checks  int
	jobsMu  sync.Mutex
	jobs    map[string]map[string]bool // tasks that were made, by ward and uid
	before  map[string]int             // how many of them were made before the ward was removed and came back
	uids    map[string]string          // objects that wards hand to each other
	remade  string                     // one of them that was made anew
	excused bool                       // it may be, until all is at rest
	things  []hostile.Thing
	beside  beside
	dice2   *rand.Rand // of looks, which happen whenever they do: what happens follows from the seed alone
	most    int        // MiB of memory that the service had
}

// Run plays until the time is over, something is found or the context ends.
func Run(ctx context.Context, o Options) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &soak{Options: o, ctx: ctx, dice: rand.New(rand.NewPCG(o.Seed, 7)), dice2: rand.New(rand.NewPCG(o.Seed, 8)), began: time.Now(), counts: map[string]int{}, jobs: map[string]map[string]bool{}, before: map[string]int{}, uids: map[string]string{}}
	if err := os.MkdirAll(o.Dir, 0o755); err != nil {
		return err
	}
	s.say("seed %d: %s of faults, %d wards; the service's log is in %s", o.Seed, o.Duration, o.Wards, filepath.Join(o.Dir, "service.log"))
	var err error
	if s.plane, err = plane.Start(ctx, filepath.Join(o.Dir, "plane"), []string{"quay"}); err != nil {
		return err
	}
	defer func() { s.plane.Stop() }()
	s.cluster = s.plane.Clusters[0]
	if err := s.startNodes(); err != nil {
		return err
	}
	defer func() { s.stopNodes() }()
	if s.proxy, err = faults.Start(s.cluster.Config, o.Seed); err != nil {
		return err
	}
	defer s.proxy.Close()
	if err := s.proxy.Kubeconfig(filepath.Join(o.Dir, "through.yaml"), "quay"); err != nil {
		return err
	}
	if s.dyn, err = dynamic.NewForConfig(s.cluster.Config); err != nil {
		return err
	}
	if s.gitPort, err = plane.FreePort(0); err != nil {
		return err
	}
	if err := s.startGit(); err != nil {
		return err
	}
	defer func() { s.git.Close() }()
	if s.kv, err = kv.Start(0, storeToken, ""); err != nil {
		return err
	}
	defer s.kv.Close()
	if err := s.furnish(); err != nil {
		return err
	}
	var watching sync.WaitGroup
	defer watching.Wait()
	watched, end := context.WithCancel(ctx)
	defer end()
	watching.Go(func() { s.watchTasks(watched) }) // before the first sync: its task is made, and cleaned away, within moments
	if err := s.prepare(); err != nil {
		return err
	}
	defer s.inbox.Close()
	defer s.stop()
	defer s.endLookout()
	return s.play()
}

func (s *soak) say(format string, args ...any) {
	fmt.Fprintf(s.Out, "%7.1f s  %s\n", time.Since(s.began).Seconds(), fmt.Sprintf(format, args...))
}

// startNodes starts the stand-ins of the nodes; tasks take longer there than a restore does.
func (s *soak) startNodes() error {
	ctx, cancel := context.WithCancel(s.ctx)
	slow := &nodes.Catalogue{Images: []nodes.Image{{Image: "registry.brindle.example/migrate:*", Behaviour: "exits", After: 4 * time.Second}}}
	n, err := nodes.Start(ctx, s.cluster.Config, slow, 2)
	if err != nil {
		cancel()
		return err
	}
	s.stopNodes = func() { cancel(); n.Close() } // they run until the context ends
	return nil
}

func (s *soak) startGit() (err error) {
	s.git, err = gitserve.Start(filepath.Join(s.Dir, "git"), s.gitPort, "", "")
	return err
}

// prepare makes the repository, starts the service and registers the wards.
func (s *soak) prepare() error {
	if err := s.git.Create("moorings"); err != nil {
		return err
	}
	s.work = filepath.Join(s.Dir, "work")
	if err := run("", "git", "init", "-q", "--initial-branch=main", s.work); err != nil {
		return err
	}
	var gates strings.Builder
	for i := range s.Wards {
		w := newWard(i)
		s.wards = append(s.wards, w)
		gates.WriteString("---\n" + w.gate())
	}
	for _, w := range s.wards {
		if err := s.store(w); err != nil {
			return err
		}
	}
	if err := s.write(map[string]string{".vigila/rules/rulebook.yaml": rulebook, ".vigila/rules/no-claims.yaml": noClaims}); err != nil {
		return err
	}
	if err := s.furnishDocks(); err != nil {
		return err
	}
	if err := s.listen(); err != nil {
		return err
	}
	if err := s.commit("First", s.wards...); err != nil {
		return err
	}
	if err := s.start(); err != nil {
		return err
	}
	through, err := os.ReadFile(filepath.Join(s.Dir, "through.yaml"))
	if err != nil {
		return err
	}
	type added struct {
		path string
		body any
	}
	cluster := added{"clusters", map[string]string{"name": "quay", "kubeconfig": string(through), "context": "quay"}}
	if s.Lookout {
		if err := s.lookOut(); err != nil {
			return err
		}
		cluster = added{"clusters", map[string]any{"name": "quay", "labels": map[string]string{"kept": "by-lookout"}}}
	}
	for _, c := range []added{{"repos", map[string]string{"name": "moorings", "url": s.git.URL("moorings")}}, cluster,
		{"stores", map[string]any{"name": "harbour", "form": "kv", "url": s.kv.URL, "mount": "secret", "token": storeToken, "every_seconds": 5}},
		{"wards", map[string]string{"name": "wards.yaml", "file": gates.String()}}} {
		if err := s.call(http.MethodPost, c.path, c.body, nil); err != nil {
			return err
		}
	}
	if err := s.tell(); err != nil {
		return err
	}
	if err := s.setSail(); err != nil {
		return err
	}
	return s.besiege()
}

// storeToken is what the service signs in to the store with; the soak has another, for which the store never fails.
const storeToken, ownToken = "soak", "soak-own"

// rulebook has rules that nothing of the wards breaks, but for what is warned of.
const rulebook = "vigila: rulebook/v1\nname: soak\nours: [images-pinned, own-namespace, resources-stated, probes-stated, secret-looking, selectors-meet, leads-somewhere, api-removed]\notherwise: {own-namespace: warn, no-claims: off}\n"

// store sets the value that a ward's Secret refers to.
func (s *soak) store(w *ward) error {
	if w.secret == 0 {
		return nil
	}
	return s.ask(http.MethodPost, "/v1/secret/data/"+w.name, map[string]any{"data": map[string]any{"k": w.value()}})
}

// ask asks the store's server something.
func (s *soak) ask(method, path string, body any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	q, err := http.NewRequestWithContext(s.ctx, method, s.kv.URL+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	q.Header.Set("X-Vault-Token", ownToken)
	r, err := http.DefaultClient.Do(q)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode >= 300 {
		return fmt.Errorf("%s %s: %s", method, path, r.Status)
	}
	return nil
}

// rotate sets another value.
func (s *soak) rotate() (string, error) {
	w := s.wards[s.dice.IntN(len(s.wards)/2)*2+1]
	s.mu.Lock()
	w.secret++
	s.mu.Unlock()
	return fmt.Sprintf("the secret value of %s is another", w.name), s.store(w)
}

// storeDown makes the store fail for the service, in one of the ways that there are.
func (s *soak) storeDown() (string, error) {
	modes := []string{kv.Down, kv.Slow, kv.Forbids, kv.Busy, kv.Sealed, kv.Lies}
	mode := modes[s.dice.IntN(len(modes))]
	pause := time.Duration(500+s.dice.IntN(6000)) * time.Millisecond
	if err := s.ask(http.MethodPut, "/lab/mode", map[string]string{"mode": mode, "token": storeToken}); err != nil {
		return "", err
	}
	time.Sleep(pause)
	s.mu.Lock()
	s.storeAway = time.Now()
	s.mu.Unlock()
	return fmt.Sprintf("the store of secret values failed for %.1f s: %s", pause.Seconds(), mode), s.ask(http.MethodPut, "/lab/mode", map[string]string{"mode": kv.Well, "token": storeToken})
}

// furnish makes what no ward keeps.
func (s *soak) furnish() error {
	for r, o := range map[schema.GroupVersionResource]map[string]any{
		{Version: "v1", Resource: "namespaces"}:                              {"apiVersion": "v1", "kind": "Namespace", "metadata": map[string]any{"name": shared}},
		{Group: "storage.k8s.io", Version: "v1", Resource: "storageclasses"}: {"apiVersion": "storage.k8s.io/v1", "kind": "StorageClass", "metadata": map[string]any{"name": class}, "provisioner": "disks.brindle.example", "volumeBindingMode": "WaitForFirstConsumer"},
	} {
		if _, err := s.dyn.Resource(r).Create(s.ctx, &unstructured.Unstructured{Object: o}, metav1.CreateOptions{}); err != nil {
			return err
		}
	}
	return nil
}

// start runs the service; it keeps its address over its lives.
func (s *soak) start() error {
	s.service.Lock()
	defer s.service.Unlock()
	log, err := os.OpenFile(filepath.Join(s.Dir, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	if s.address == "" {
		port, err := plane.FreePort(0)
		if err != nil {
			return err
		}
		s.address = fmt.Sprintf("127.0.0.1:%d", port)
	}
	token := filepath.Join(s.Dir, "token")
	cmd := exec.Command(s.Vigila, "serve", "--listen", s.address, "--data", filepath.Join(s.Dir, "data"), "--admin-token-file", token, "--log-format", "json")
	cmd.Stderr, cmd.Stdout = log, log
	if err := cmd.Start(); err != nil {
		return err
	}
	s.service.cmd = cmd
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if r, err := http.Get("http://" + s.address + "/healthz"); err == nil {
			_ = r.Body.Close()
			break
		}
		if time.Now().After(end) {
			return fmt.Errorf("the service does not start; see %s", log.Name())
		}
	}
	b, err := os.ReadFile(token)
	s.token = strings.TrimSpace(string(b))
	s.service.up = time.Now()
	return err
}

// kill ends the service as a crash does.
func (s *soak) kill() {
	s.service.Lock()
	defer s.service.Unlock()
	s.service.up = time.Time{}
	_ = s.service.cmd.Process.Kill()
	_ = s.service.cmd.Wait()
}

func (s *soak) stop() {
	s.service.Lock()
	defer s.service.Unlock()
	if s.service.cmd != nil && s.service.cmd.ProcessState == nil {
		_ = s.service.cmd.Process.Signal(syscall.SIGTERM)
		_ = s.service.cmd.Wait()
	}
}

func (s *soak) upSince() time.Time {
	s.service.Lock()
	defer s.service.Unlock()
	return s.service.up
}

// call makes a call of the API.
func (s *soak) call(method, path string, body, into any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(s.ctx, 40*time.Second)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, method, "http://"+s.address+"/api/v1/"+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	q.Header.Set("Authorization", "Bearer "+s.token)
	q.Header.Set("Content-Type", "application/json")
	r, err := http.DefaultClient.Do(q)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	answer, err := io.ReadAll(r.Body)
	if err != nil {
		return err
	}
	if r.StatusCode >= 300 {
		return fmt.Errorf("%s %s: %s: %s", method, path, r.Status, answer)
	}
	if into != nil {
		return json.Unmarshal(answer, into)
	}
	return nil
}

func run(dir, name string, args ...string) error {
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null",
		"GIT_AUTHOR_NAME=operator", "GIT_AUTHOR_EMAIL=operator@brindle.example", "GIT_COMMITTER_NAME=operator", "GIT_COMMITTER_EMAIL=operator@brindle.example"}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, out)
	}
	return nil
}

// commit writes some wards as they are in the model, and pushes them straight into the repository on disk, so that a
// git server that is down is only down for readers.
func (s *soak) commit(message string, wards ...*ward) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range wards {
		dir := filepath.Join(s.work, w.name)
		if err := os.RemoveAll(dir); err != nil {
			return err
		}
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		for file, text := range w.files() {
			if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600); err != nil {
				return err
			}
		}
	}
	s.changes++
	if err := os.WriteFile(filepath.Join(s.work, "changes"), []byte(fmt.Sprint(s.changes)), 0o600); err != nil {
		return err
	}
	for _, args := range [][]string{{"add", "-A"}, {"commit", "-q", "-m", message}} {
		if err := run(s.work, "git", args...); err != nil {
			return err
		}
	}
	bare := filepath.Join(s.Dir, "git", "moorings.git")
	for range 20 { // the service pushes as well, where a lot goes on
		if s.changes > 1 {
			if err := run(s.work, "git", "pull", "-q", "--rebase", bare, "main"); err != nil {
				return err
			}
		}
		if run(s.work, "git", "push", "-q", bare, "main") == nil {
			return nil
		}
	}
	return errors.New("nothing can be pushed")
}

// play does one thing after the other; now and then everything has to come to rest and be right.
func (s *soak) play() error {
	ctx, cancel := context.WithCancel(s.ctx)
	defer cancel()
	failed := make(chan error, 2)
	go func() { failed <- s.follow(ctx) }()
	go func() { failed <- s.lookBeside(ctx) }()
	if err := s.rest(failed); err != nil {
		return err
	}
	for end := time.Now().Add(s.Duration); time.Now().Before(end); {
		stop := time.Now().Add(time.Duration(15+s.dice.IntN(20)) * time.Second)
		for time.Now().Before(stop) && time.Now().Before(end) {
			if err := s.act(); err != nil {
				return err
			}
			select {
			case err := <-failed:
				return err
			case <-s.ctx.Done():
				return s.ctx.Err()
			case <-time.After(time.Duration(s.dice.IntN(900)) * time.Millisecond):
			}
		}
		if err := s.rest(failed); err != nil {
			return err
		}
	}
	if err := s.tasksOnce(); err != nil {
		return err
	}
	if err := s.told(); err != nil {
		return err
	}
	if err := s.together(); err != nil {
		return err
	}
	var done []string
	for _, a := range actions {
		done = append(done, fmt.Sprintf("%d %s", s.counts[a.name], a.name))
	}
	s.say("seed %d: nothing false. %s. %d claims were checked; the service had at most %d MiB; requests by fault: %s", s.Seed, strings.Join(done, ", "), s.checks, s.most, s.proxy.Counts())
	return nil
}

// actions are what may happen, and how often beside the others.
var actions = []struct {
	name  string
	often int
	do    func(*soak) (string, error)
}{
	{"changes", 5, func(s *soak) (string, error) { return s.change((*ward).alter) }},
	{"additions", 2, func(s *soak) (string, error) { return s.change((*ward).add) }},
	{"removals", 2, func(s *soak) (string, error) { return s.change((*ward).remove) }},
	{"broken commits", 1, func(s *soak) (string, error) { return s.change((*ward).smash) }},
	{"edits by hand", 5, (*soak).edit},
	{"deletions by hand", 2, (*soak).delete},
	{"kills", 2, (*soak).crash},
	{"kills of the lookout", 2, (*soak).killLookout},
	{"failures of the wire", 3, (*soak).strain},
	{"parts", 1, (*soak).part},
	{"stops", 1, (*soak).stopRun},
	{"removals of a ward", 1, (*soak).dismantle},
	{"moves between wards", 2, (*soak).move},
	{"adoptions", 1, (*soak).adopt},
	{"claims", 2, func(s *soak) (string, error) { return s.change((*ward).claim) }},
	{"releases", 3, (*soak).release},
	{"lots", 2, (*soak).sendLot},
	{"stricter rules", 1, (*soak).tighten},
	{"other versions", 1, func(s *soak) (string, error) { return s.change((*ward).rewrite) }},
	{"restores by hand", 1, (*soak).restore},
	{"faults of the cluster", 4, (*soak).disturb},
	{"cut connections", 1, func(s *soak) (string, error) { s.proxy.Cut(); return "every connection to the cluster is cut", nil }},
	{"silences of git", 1, (*soak).gitDown},
	{"other secret values", 2, (*soak).rotate},
	{"failures of the store", 1, (*soak).storeDown},
	{"failures of the chat", 1, (*soak).chatDown},
	{"restored etcds", 1, (*soak).restoreEtcd},
}

func (s *soak) act() error {
	total := 0
	for _, a := range actions {
		total += a.often
	}
	n := s.dice.IntN(total)
	for _, a := range actions {
		if n -= a.often; n < 0 {
			s.counts[a.name]++
			text, err := a.do(s)
			if err != nil {
				return fmt.Errorf("%s: %w", a.name, err)
			}
			s.say("%s", text)
			return nil
		}
	}
	return nil
}

func (s *soak) change(how func(*ward, *rand.Rand) string) (string, error) {
	w := s.wards[s.dice.IntN(len(s.wards))]
	s.mu.Lock()
	what := how(w, s.dice)
	s.claimed(w)
	s.mu.Unlock()
	return fmt.Sprintf("commit: %s %s", w.name, what), s.commit(what, w)
}

// edit changes a field of a live object, each time as another client: a quarrel is not what is looked for here.
func (s *soak) edit() (string, error) {
	w := s.wards[s.dice.IntN(len(s.wards))]
	s.mu.Lock()
	name := w.some(s.dice)
	s.mu.Unlock()
	who := fmt.Sprintf("hand-%d", s.dice.IntN(1<<30))
	err := edit.Set(s.ctx, s.cluster.Config, w.name, "configmap/"+name, who, "", map[string]string{"data.v": `"by hand"`})
	if err != nil { // it may not have been made yet
		return fmt.Sprintf("%s would have changed %s/%s, which is not there", who, w.name, name), nil
	}
	return fmt.Sprintf("%s changes %s/%s", who, w.name, name), nil
}

func (s *soak) delete() (string, error) {
	w := s.wards[s.dice.IntN(len(s.wards))]
	s.mu.Lock()
	name := w.some(s.dice)
	again := w.deleted[name] // a third time would be a quarrel
	w.deleted[name] = true
	s.mu.Unlock()
	if again || edit.Delete(s.ctx, s.cluster.Config, w.name, "configmap/"+name) != nil {
		return "nothing is deleted", nil
	}
	return fmt.Sprintf("somebody deletes %s/%s", w.name, name), nil
}

// part asks for one object of a ward; that it is refused in the middle of a run, or while the service is down, is fine.
func (s *soak) part() (string, error) {
	w := s.wards[s.dice.IntN(len(s.wards))]
	s.mu.Lock()
	name := w.some(s.dice)
	s.mu.Unlock()
	_ = s.call(http.MethodPost, "wards/"+w.name+"@quay/runs", map[string]any{"kind": "sync", "only": []string{"ConfigMap/" + name}}, nil)
	return fmt.Sprintf("only %s/%s is asked for", w.name, name), nil
}

// stopRun stops whatever goes on in a ward, and lets it go on.
func (s *soak) stopRun() (string, error) {
	w := s.wards[s.dice.IntN(len(s.wards))]
	if s.call(http.MethodDelete, "wards/"+w.name+"@quay/runs/current", nil, nil) != nil {
		return "nothing is stopped", nil
	}
	return fmt.Sprintf("the run of %s is stopped", w.name), nil
}

// dismantle removes a ward with its objects; it comes back when all is at rest.
func (s *soak) dismantle() (string, error) {
	w := s.wards[s.dice.IntN(len(s.wards))]
	if w.gone {
		return "nothing is removed", nil
	}
	s.mu.Lock()
	w.gone = true
	s.mu.Unlock()
	s.excuse(true)
	if err := s.call(http.MethodDelete, "wards/"+w.name+"?dismantle=true&why=soak&allow=Namespace/"+w.name, nil, nil); err != nil {
		s.mu.Lock()
		w.gone = false
		s.mu.Unlock()
		return fmt.Sprintf("%s is not removed: %v", w.name, err), nil
	}
	return fmt.Sprintf("%s is removed, with its objects", w.name), nil
}

// back keeps a ward again that was removed.
func (s *soak) back(w *ward) error {
	s.jobsMu.Lock()
	s.before[w.name] = len(s.jobs[w.name])
	s.jobsMu.Unlock()
	if err := s.call(http.MethodPost, "wards", map[string]string{"name": w.name + ".yaml", "file": w.gate()}, nil); err != nil {
		return err
	}
	// What its earlier life has left behind in an older state of the cluster is nobody's.
	if err := os.RemoveAll(filepath.Join(s.Dir, "etcd-kept")); err != nil {
		return err
	}
	s.mu.Lock()
	w.gone = false
	clear(w.deleted)
	clear(w.adopted)
	s.mu.Unlock()
	s.say("%s is kept again", w.name)
	return nil
}

// move hands an object from one ward to its neighbour, within one commit.
func (s *soak) move() (string, error) {
	i := s.dice.IntN(len(s.wards)/2) * 2
	a, b := s.wards[i], s.wards[i+1]
	s.mu.Lock()
	a.moving, b.moving = b.moving, a.moving
	a.broken, b.broken = false, false
	to := a
	if b.moving != "" {
		to = b
	}
	gone := a.gone || b.gone
	s.mu.Unlock()
	if gone {
		s.excuse(true)
	}
	what := fmt.Sprintf("%s moves to %s", to.moving, to.name)
	return "commit: " + what, s.commit(to.moving+" moves", a, b) // which whoever may see one of the two wards reads
}

// adopt lets somebody make an object as most of the world does, and then declares it.
func (s *soak) adopt() (string, error) {
	w := s.wards[s.dice.IntN(len(s.wards))]
	s.mu.Lock()
	w.next++
	name := fmt.Sprintf("c%03d", w.next)
	s.mu.Unlock()
	o := &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": name, "annotations": map[string]any{
		"kubectl.kubernetes.io/last-applied-configuration": `{"apiVersion":"v1","kind":"ConfigMap","data":{"v":"0","stray":"yes"}}`}}, "data": map[string]any{"v": "0", "stray": "yes"}}}
	_, err := s.dyn.Resource(resources[0]).Namespace(w.name).Create(s.ctx, o, metav1.CreateOptions{FieldManager: "kubectl-client-side-apply"})
	s.mu.Lock()
	w.configs[name], w.broken = 1, false
	w.adopted[name] = err == nil
	s.mu.Unlock()
	what := fmt.Sprintf("declares %s, which somebody made", name)
	return fmt.Sprintf("commit: %s %s", w.name, what), s.commit(what, w)
}

// restoreEtcd takes the cluster back to where it was when this last happened.
func (s *soak) restoreEtcd() (string, error) {
	if !s.Rewinds {
		return "the cluster's data are left alone", nil
	}
	if len(s.gone()) > 0 {
		return "the cluster's etcd stays as it is: what would come back is nobody's", nil
	}
	etcd, kept, now := filepath.Join(s.plane.Dir, "etcd"), filepath.Join(s.Dir, "etcd-kept"), filepath.Join(s.Dir, "etcd-now")
	s.set(faults.Fault{Kind: "none"})
	s.excuse(true)
	s.stopNodes() // their streams would go on where the cluster no longer is
	s.plane.Stop()
	if err := os.CopyFS(now, os.DirFS(etcd)); err != nil {
		return "", err
	}
	what := "the cluster's etcd is kept aside"
	if _, err := os.Stat(kept); err == nil {
		what = "the cluster's etcd is as it was the last time"
		if err := errors.Join(os.RemoveAll(etcd), os.Rename(kept, etcd)); err != nil {
			return "", err
		}
	}
	if err := os.Rename(now, kept); err != nil {
		return "", err
	}
	p, err := plane.Start(s.ctx, s.plane.Dir, []string{"quay"})
	if err != nil {
		return "", err
	}
	s.plane = p
	if p.Clusters[0].URL != s.cluster.URL {
		return "", errors.New("the cluster answers elsewhere")
	}
	if err := s.startNodes(); err != nil {
		return "", err
	}
	s.mu.Lock()
	s.restored++
	for _, w := range s.wards { // what was adopted may be as it was before: what is not declared is then somebody's addition
		clear(w.adopted)
	}
	s.mu.Unlock()
	s.set(faults.Fault{Kind: "none"})
	return what, nil
}

func (s *soak) restore() (string, error) {
	w := s.wards[s.dice.IntN(len(s.wards))]
	_ = s.call(http.MethodPost, "wards/"+w.name+"@quay/runs", map[string]any{"kind": "restore"}, nil)
	return fmt.Sprintf("a restore of %s is asked for", w.name), nil
}

func (s *soak) crash() (string, error) {
	s.kill()
	pause := time.Duration(s.dice.IntN(1500)) * time.Millisecond
	time.Sleep(pause)
	return fmt.Sprintf("the service is killed, and starts again %.1f s later", pause.Seconds()), s.start()
}

func (s *soak) disturb() (string, error) {
	kinds := []string{"down", "silent", "slow", "half", "busy", "gone", "none", "none"}
	f := faults.Fault{Kind: kinds[s.dice.IntN(len(kinds))], Share: []float64{1, .5, .2}[s.dice.IntN(3)], Delay: time.Duration(100+s.dice.IntN(3000)) * time.Millisecond}
	if f.Kind == "down" || f.Kind == "silent" {
		f.Share = 1
	}
	s.set(f)
	return fmt.Sprintf("the cluster: %s (share %.1f)", f.Kind, f.Share), nil
}

func (s *soak) set(f faults.Fault) {
	s.mu.Lock()
	s.fault, s.faulted = f, time.Now()
	s.mu.Unlock()
	s.proxy.Set(f)
}

func (s *soak) gitDown() (string, error) {
	s.git.Close()
	pause := time.Duration(500+s.dice.IntN(3000)) * time.Millisecond
	time.Sleep(pause)
	return fmt.Sprintf("the git server was away for %.1f s", pause.Seconds()), s.startGit()
}

// rest ends every fault and waits until each ward holds, and says that it holds, exactly what is declared.
func (s *soak) rest(failed chan error) error {
	s.set(faults.Fault{Kind: "none"})
	var broken []*ward
	s.mu.Lock()
	for _, w := range s.wards {
		if w.broken {
			w.broken = false
			broken = append(broken, w)
		}
	}
	s.mu.Unlock()
	if len(broken) > 0 {
		if err := s.commit("Mend", broken...); err != nil {
			return err
		}
	}
	if !s.beside.strict.IsZero() {
		if err := s.rule(false); err != nil {
			return err
		}
	}
	began := time.Now()
	asked := map[string]time.Time{}
	for {
		select {
		case err := <-failed:
			return err
		case <-s.ctx.Done():
			return s.ctx.Err()
		default:
		}
		claims, truth, err := s.sample()
		wrong := ""
		if err != nil {
			wrong = err.Error()
		}
		for _, w := range s.wards {
			c, known := claims[w.name]
			switch diff := truth[w.name]; {
			case wrong != "":
			case w.gone && known:
				wrong = fmt.Sprintf("%s is still being removed: %s, %s, run #%d: %s", w.name, c.Standing, c.Health, c.Run.Number, c.Says)
			case w.gone && len(diff) == 0:
				wrong = w.name + " is not kept again yet"
				if err := s.back(w); err != nil {
					return err
				}
			case !known:
				wrong = w.name + " is not listed"
			case len(diff) > 0:
				wrong = fmt.Sprintf("%s: %s", w.name, texts(diff))
			case c.Standing != "in step" || c.Health != "ready" || c.Run.Number != 0:
				wrong = fmt.Sprintf("%s says %s, %s, run #%d: %s", w.name, c.Standing, c.Health, c.Run.Number, c.Says)
			}
			// What is only reported, or failed while the cluster was away, is put right by a person.
			if known && c.Run.Number == 0 && time.Since(asked[w.name]) > 5*time.Second {
				switch {
				case c.Hold.By != "": // somebody stopped its run
					asked[w.name] = time.Now()
					_ = s.call(http.MethodDelete, "wards/"+w.name+"@quay/hold", nil, nil)
				case c.Standing == "drifted" || c.Standing == "contested" || c.Rejected != "":
					asked[w.name] = time.Now()
					_ = s.call(http.MethodPost, "wards/"+w.name+"@quay/runs", map[string]any{"kind": "sync", "retry": true}, nil)
				case c.Standing == "blind":
					asked[w.name] = time.Now()
					_ = s.call(http.MethodPost, "wards/"+w.name+"@quay/look", nil, nil)
				}
			}
		}
		if wrong == "" {
			wrong = s.docked(claims)
		}
		if wrong == "" {
			wrong = s.wrecks(claims)
		}
		if wrong == "" {
			s.excuse(false)
			s.say("all is at rest and as declared after %.1f s", time.Since(began).Seconds())
			return nil
		}
		if time.Since(began) > calm {
			return fmt.Errorf("seed %d: %s after the last fault, this is still not right: %s", s.Seed, calm, wrong)
		}
		time.Sleep(100 * time.Millisecond)
	}
}
