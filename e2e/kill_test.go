package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/tools/clientcmd"

	"vigila.dev/vigila/internal/client"
)

func cluster(t *testing.T) dynamic.Interface {
	t.Helper()
	cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig())
	require.NoError(t, err)
	cfg.QPS = -1
	dyn, err := dynamic.NewForConfig(cfg)
	require.NoError(t, err)
	return dyn
}

var jobsResource = schema.GroupVersionResource{Group: "batch", Version: "v1", Resource: "jobs"}

// made notes the uid of every Job that is ever made in some namespaces.
type made struct {
	mu   sync.Mutex
	uids map[string]map[string]bool
}

func (m *made) note(o *unstructured.Unstructured) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.uids[o.GetNamespace()] == nil {
		m.uids[o.GetNamespace()] = map[string]bool{}
	}
	m.uids[o.GetNamespace()][string(o.GetUID())] = true
}

func (m *made) count(namespace string) int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.uids[namespace])
}

func (m *made) watch(ctx context.Context, dyn dynamic.Interface) {
	for ctx.Err() == nil {
		list, err := dyn.Resource(jobsResource).List(ctx, metav1.ListOptions{})
		if err != nil {
			continue
		}
		for i := range list.Items {
			m.note(&list.Items[i])
		}
		w, err := dyn.Resource(jobsResource).Watch(ctx, metav1.ListOptions{ResourceVersion: list.GetResourceVersion()})
		if err != nil {
			continue
		}
		for ev := range w.ResultChan() {
			if o, ok := ev.Object.(*unstructured.Unstructured); ok && o.GetKind() == "Job" {
				m.note(o)
			}
		}
	}
}

// TestKilledAtAnyMoment kills the service, as a crash does, at 200 random moments of syncs, prunes, tasks and rollbacks.
// It always converges, nothing is lost, no task runs twice in one run, and no object is left behind.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	kills := 200
	if n, err := strconv.Atoi(os.Getenv("VIGILA_KILLS")); err == nil {
		kills = n
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	dice := rand.New(rand.NewPCG(seed, 1))
	s := newService(t)
	dyn := cluster(t)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	jobs := &made{uids: map[string]map[string]bool{}}
	go jobs.watch(ctx, dyn)

	// Three wards: one that syncs and prunes, one with a task, one that is rolled back.
	names := []string{"killed-plain", "killed-task", "killed-back"}
	gates := ""
	for _, n := range names {
		gates += fmt.Sprintf("---\nvigila: ward/v1\nname: %[1]s\nfrom: {repo: %[2]s, path: %[1]s}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {sync: auto, drift: restore, every: 1s}\nsettle: {within: 60s}\n", n, s.name)
	}
	work := t.TempDir()
	git(t, "", "clone", "--quiet", s.origin(), work)
	git(t, work, "checkout", "--quiet", "-B", "main")
	declared := map[string]map[string]int{} // ward, ConfigMap, version
	next := 0
	commit := func() {
		for _, n := range names {
			require.NoError(t, os.RemoveAll(filepath.Join(work, n)))
			require.NoError(t, os.MkdirAll(filepath.Join(work, n), 0o755))
			text := ""
			for c, v := range declared[n] {
				text += "---\n" + config(c, "v", fmt.Sprint(v))
			}
			if n == "killed-task" {
				text += "---\napiVersion: batch/v1\nkind: Job\nmetadata: {name: migrate, annotations: {vigila.dev/task: before}}\nspec: {template: {spec: {restartPolicy: Never, containers: [{name: m, image: \"registry.brindle.example/boards-alight:1\"}]}}}\n"
			}
			require.NoError(t, os.WriteFile(filepath.Join(work, n, "all.yaml"), []byte(text), 0o600))
		}
		git(t, work, "add", "-A")
		git(t, work, "commit", "--quiet", "--allow-empty", "-m", fmt.Sprintf("Change %d", next))
		git(t, work, "push", "--quiet", "origin", "main")
	}
	change := func() {
		for _, n := range names {
			for c := range declared[n] {
				if dice.IntN(8) == 0 {
					declared[n][c]++
				}
			}
			if dice.IntN(3) > 0 {
				continue
			}
			next++
			declared[n][fmt.Sprintf("c%04d", next)] = 1
			for c := range declared[n] { // as many leave as come; never so many that a guard would rightly ask
				if len(declared[n]) > 24 {
					delete(declared[n], c)
				}
			}
		}
		commit()
	}
	for _, n := range names {
		declared[n] = map[string]int{}
		for i := range 24 {
			declared[n][fmt.Sprintf("first%d", i)] = 1
		}
	}
	commit()
	s.add(gates)

	ward := func(n string) client.Ward {
		r, err := s.api.GetWardWithResponse(ctx, n+"@quay")
		require.NoError(t, s.api.Check(r, err))
		return r.JSON200.Ward
	}
	wrong := func(n string) string {
		if w := ward(n); !inStepAndReady(w) {
			return fmt.Sprintf("%s, %s, run #%d: %s", w.Standing, w.Health, w.Run.Number, w.Says)
		}
		list, err := dyn.Resource(schema.GroupVersionResource{Version: "v1", Resource: "configmaps"}).Namespace(n).List(ctx, metav1.ListOptions{LabelSelector: "vigila.dev/ward=" + n})
		require.NoError(t, err)
		live := map[string]string{}
		for _, o := range list.Items {
			v, _, _ := unstructured.NestedString(o.Object, "data", "v")
			live[o.GetName()] = v
		}
		want := map[string]string{}
		for c, v := range declared[n] {
			want[c] = fmt.Sprint(v)
		}
		if !assert.ObjectsAreEqual(want, live) {
			return fmt.Sprintf("it holds %v, declared is %v", live, want)
		}
		return ""
	}
	converges := func(when string) {
		_, _, _ = s.cli("release", "killed-back") // it may not be held
		s.ok("look", "killed-plain")
		for _, n := range names {
			for end := time.Now().Add(2 * patience); ; time.Sleep(50 * time.Millisecond) {
				text := wrong(n)
				if text == "" {
					break
				}
				if w := ward(n); len(w.Guards) > 0 && w.Run.Number == 0 { // rolled back again and again it holds much that git no longer has: a guard rightly asks, and a person says so
					_, _, _ = s.cli("sync", n, "--allow", "mass-removal")
				}
				require.False(t, time.Now().After(end), "seed %d, %s: %s does not converge: %s", seed, when, n, text)
			}
		}
	}
	converges("at first")
	for i := range kills {
		change()
		entries, err := s.api.ListWardEntriesWithResponse(ctx, "killed-back@quay", &client.ListWardEntriesParams{Limit: 30})
		require.NoError(t, s.api.Check(entries, err))
		go func(api *client.Conn) { _, _ = api.LookNowWithResponse(ctx, "killed-plain@quay") }(s.api)
		for _, e := range entries.JSON200.Items {
			if e.Kind == "sync" && e.Outcome == "done" && dice.IntN(3) == 0 {
				_, _ = s.api.StartRunWithResponse(ctx, "killed-back@quay", client.StartRun{Kind: "rollback", ToEntry: e.Number})
				break
			}
		}
		time.Sleep(time.Duration(dice.IntN(500)) * time.Millisecond) // the moment is what is being played
		s.kill()
		s.start()
		if i%20 == 19 {
			converges(fmt.Sprintf("after kill %d", i+1))
		}
	}
	converges("at the end")

	for _, n := range names {
		r, err := s.api.ListWardEntriesWithResponse(ctx, n+"@quay", &client.ListWardEntriesParams{Limit: 1000})
		require.NoError(t, s.api.Check(r, err))
		syncs, interrupted := 0, 0
		for i, e := range r.JSON200.Items {
			assert.Equal(t, r.JSON200.Total-i, e.Number, "%s: no entry is lost", n)
			assert.NotEqual(t, client.Outcome("running"), e.Outcome, "%s #%d: no run is left half-known", n, e.Number)
			if e.Kind == "sync" {
				syncs++
			}
			if e.Outcome == "interrupted" {
				interrupted++
			}
		}
		t.Logf("%s: %d entries, %d of them interrupted; %d Jobs were made", n, r.JSON200.Total, interrupted, jobs.count(n))
		if n == "killed-task" {
			assert.LessOrEqual(t, jobs.count(n), syncs, "no task runs twice in one run")
			assert.Positive(t, jobs.count(n))
		}
		left, err := dyn.Resource(jobsResource).Namespace(n).List(ctx, metav1.ListOptions{})
		require.NoError(t, err)
		var names []string
		for _, o := range left.Items {
			names = append(names, o.GetName())
		}
		assert.LessOrEqual(t, len(names), 1, "no object is left behind: %s", strings.Join(names, ", "))
	}
}
