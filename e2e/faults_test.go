package e2e

import (
	"bufio"
	"context"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	_ "modernc.org/sqlite" // the driver

	"vigila.dev/vigila/internal/client"
)

// troubled is a proxy of the lab that makes faults; it returns a kubeconfig that leads through it, and the way to ask
// for a fault.
func troubled(t *testing.T) (file string, fault func(kind string)) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "through.yaml")
	cmd := exec.Command(filepath.Join(bin, "vigila-lab"), "proxy", "--kubeconfig", kubeconfig(), "--write", file)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	control, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return file, func(kind string) {
		t.Helper()
		r, err := http.Post(strings.TrimSpace(control)+"/"+kind, "", nil)
		require.NoError(t, err)
		defer r.Body.Close()
		text, _ := io.ReadAll(r.Body)
		require.Equal(t, http.StatusOK, r.StatusCode, "%s: %s", kind, text)
	}
}

// far places the test's ward in a cluster behind a proxy that makes faults; it returns the ward as the API tells it, and
// the way to ask for a fault.
func (s *service) far(drift string) (ward func() client.Ward, fault func(kind string)) {
	s.t.Helper()
	file, fault := troubled(s.t)
	s.ok("cluster", "add", "far", "--kubeconfig", file)
	s.push("First", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "app/bell.yaml": config("bell", "tone", "low")})
	s.add(strings.Replace(s.wardFile("sync: auto, drift: "+drift+", every: 1s", "within: 120s"), "cluster: quay", "cluster: far", 1))
	return func() client.Ward {
		s.t.Helper()
		r, err := s.api.GetWardWithResponse(context.Background(), s.name+"@far")
		require.NoError(s.t, s.api.Check(r, err))
		return r.JSON200.Ward
	}, fault
}

// metric reads one number of the service's metrics.
func (s *service) metric(name string) float64 {
	s.t.Helper()
	rows := bufio.NewScanner(strings.NewReader(s.metrics()))
	for rows.Scan() {
		if v, ok := strings.CutPrefix(rows.Text(), name+" "); ok {
			n, err := strconv.ParseFloat(v, 64)
			require.NoError(s.t, err)
			return n
		}
	}
	s.t.Fatalf("there is no metric %s", name)
	return 0
}

// collect runs the garbage collector of the service.
func (s *service) collect() {
	s.t.Helper()
	_, at, ok := strings.Cut(s.log.String(), `"profiles":"`)
	require.True(s.t, ok)
	at, _, _ = strings.Cut(at, `"`)
	for range 2 {
		r, err := http.Get(at + "heap?gc=1")
		require.NoError(s.t, err)
		_, err = io.Copy(io.Discard, r.Body)
		require.NoError(s.t, err)
		require.NoError(s.t, r.Body.Close())
	}
}

// TestFaultsOfTheCluster plays an hour's worth of faults, one for each minute of it, without the waiting between them:
// the standing is never in step while it is not known, every change made meanwhile is noticed, and in the end the
// service has no more goroutines and memory than at the beginning.
func TestFaultsOfTheCluster(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.kill()
	s.args = []string{"--profiles", "127.0.0.1:0"}
	s.start()
	ward, fault := s.far("report")
	until := func(what string, cond func(client.Ward) bool) {
		t.Helper()
		var w client.Ward
		require.Eventually(t, func() bool { w = ward(); return cond(w) }, patience, 20*time.Millisecond, "%s; it is %v", what, &w)
	}
	until("it is in step", inStepAndReady)
	s.collect()
	goroutines, memory := s.metric("go_goroutines"), s.metric("go_gc_heap_live_bytes")
	kinds := []string{"cut", "gone", "slow?delay=1500ms", "half", "busy?share=0.7", "half?share=0.5", "silent", "down"}
	for n := range 60 {
		kind := kinds[n%len(kinds)]
		fault(kind)
		value := fmt.Sprint(n)
		s.edit("hurry", "configmap/horn", "data.interval="+strconv.Quote(value)) // past the proxy
		if kind == "down" || kind == "silent" {
			until("it is called blind", func(w client.Ward) bool { return w.Standing == "blind" })
		}
		if kind != "cut" {
			fault("none")
		}
		if n%4 == 3 { // put back by hand, which must be noticed as well
			until("the drift of "+kind+" is seen", func(w client.Ward) bool { return w.Standing == "drifted" })
			s.edit("hurry", "configmap/horn", `data.interval="30s"`)
			until("that it is as applied after "+kind+" is seen", inStepAndReady)
		}
	}
	until("it is in step", inStepAndReady)
	assert.Eventually(t, func() bool { return s.metric("go_goroutines") <= goroutines+5 }, patience, 100*time.Millisecond, "goroutines: %v before", goroutines)
	s.collect()
	now := s.metric("go_gc_heap_live_bytes")
	assert.Less(t, now, memory*1.3+4e6, "memory: %.1f MB before, %.1f MB after", memory/1e6, now/1e6)
	t.Logf("goroutines %v, then %v; live heap %.1f MB, then %.1f MB", goroutines, s.metric("go_goroutines"), memory/1e6, now/1e6)
}

// TestAMinuteWithoutTheCluster: blind all the time, and then what happened meanwhile.
func TestAMinuteWithoutTheCluster(t *testing.T) {
	t.Parallel()
	s := newService(t)
	ward, fault := s.far("restore")
	require.Eventually(t, func() bool { return inStepAndReady(ward()) }, patience, 20*time.Millisecond)
	fault("down")
	s.edit("hurry", "configmap/horn", `data.interval="1s"`)
	lab(t, "edit", "configmap/bell", "--kubeconfig", kubeconfig(), "-n", s.name, "--delete")
	require.Eventually(t, func() bool { return ward().Standing == "blind" }, patience, 20*time.Millisecond)
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(100 * time.Millisecond) { // the minute is what is being played
		w := ward()
		require.EqualValues(t, "blind", w.Standing)
		require.Contains(t, w.Says, "does not answer")
	}
	s.push("Meanwhile", map[string]string{"app/light.yaml": config("light", "on", "yes")})
	fault("none")
	require.Eventually(t, func() bool { w := ward(); return inStepAndReady(w) && w.Applied.Subject == "Meanwhile" }, patience, 20*time.Millisecond)
	assert.Equal(t, "30s", live(t, "", "v1", "configmaps", s.name, "horn").Object["data"].(map[string]any)["interval"])
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "bell"))
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "light"))
}

// TestALockedDatabase: another process holds the database for longer than a write waits. What is seen is still told, and
// what could not be written is done once it can be.
func TestALockedDatabase(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/horn.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 120s"))
	s.until("it is in step", inStepAndReady)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(s.dir, "data", "vigila.db")+"?_txlock=immediate&_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	defer db.Close()
	tx, err := db.Begin()
	require.NoError(t, err)
	s.edit("hurry", "configmap/horn", `data.interval="1s"`)
	s.until("the drift is told although nothing can be written", func(w client.Ward) bool { return w.Standing == "drifted" })
	s.push("Meanwhile", map[string]string{"app/bell.yaml": config("bell", "tone", "low")})
	require.Eventually(t, func() bool { return strings.Contains(s.log.String(), "nothing more is done until it is") }, patience, 50*time.Millisecond, "longer than a write waits")
	assert.NotEqualValues(t, "in step", s.ward().Standing)
	require.NoError(t, tx.Rollback())
	s.until("it goes on by itself", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Meanwhile" })
	assert.Equal(t, "30s", live(t, "", "v1", "configmaps", s.name, "horn").Object["data"].(map[string]any)["interval"])
}

// TestAFullDisk: nothing can be written. Nothing is started that could not be finished, nothing false is said, and once
// there is room everything goes on by itself.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root may make a small disk")
	}
	disk := t.TempDir()
	if err := syscall.Mount("tmpfs", disk, "tmpfs", 0, "size=24m"); err != nil {
		t.Skipf("a small disk can't be made here: %v", err)
	}
	t.Cleanup(func() { assert.NoError(t, syscall.Unmount(disk, syscall.MNT_DETACH)) })
	s := newService(t)
	s.kill()
	require.NoError(t, os.CopyFS(filepath.Join(disk, "data"), os.DirFS(filepath.Join(s.dir, "data"))))
	require.NoError(t, os.Chmod(filepath.Join(disk, "data", "vigila.key"), 0o600))
	require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "data")))
	require.NoError(t, os.Symlink(filepath.Join(disk, "data"), filepath.Join(s.dir, "data")))
	s.start()
	s.push("First", map[string]string{"app/horn.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 120s"))
	s.until("it is in step", inStepAndReady)
	entries := len(s.entries())

	filler, err := os.Create(filepath.Join(disk, "filler"))
	require.NoError(t, err)
	for size := 1 << 20; size > 0; size /= 2 {
		for err = nil; err == nil; {
			_, err = filler.Write(make([]byte, size))
		}
	}
	require.NoError(t, filler.Close())
	s.edit("hurry", "configmap/horn", `data.interval="1s"`)
	s.until("the drift is told", func(w client.Ward) bool { return w.Standing == "drifted" || w.Standing == "blind" })
	s.push("Meanwhile", map[string]string{"app/bell.yaml": config("bell", "tone", "low")})
	require.Eventually(t, func() bool {
		return strings.Contains(s.log.String(), "full") || strings.Contains(s.log.String(), "No space left")
	}, patience, 50*time.Millisecond)
	r, err := http.Get(s.url + "/readyz")
	require.NoError(t, err)
	_ = r.Body.Close()
	assert.Equal(t, http.StatusServiceUnavailable, r.StatusCode, "and whoever watches over the service is told")
	for range 20 {
		assert.NotEqualValues(t, "in step", s.ward().Standing)
	}
	require.NoError(t, os.Remove(filler.Name()))
	s.until("it goes on by itself", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Meanwhile" })
	assert.Greater(t, len(s.entries()), entries)
	assert.Equal(t, "30s", live(t, "", "v1", "configmaps", s.name, "horn").Object["data"].(map[string]any)["interval"])
}

// TestTheClockWasSetBack: everything the record knows was written by a clock that was two hours ahead.
func TestTheClockWasSetBack(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/horn.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	s.until("it is in step", inStepAndReady)
	for i := range 2 { // restores that the next one would have to wait for
		s.edit("hurry", "configmap/horn", fmt.Sprintf(`data.interval="%ds"`, i))
		s.until("it is restored", func(w client.Ward) bool { return inStepAndReady(w) && len(s.entries()) == 2+i })
	}
	s.kill()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(s.dir, "data", "vigila.db"))
	require.NoError(t, err)
	for table, columns := range map[string][]string{"entries": {"started", "ended"}, "standings": {"at"}, "restores": {"at"}, "baselines": {"applied"}, "wards": {"made"}} {
		for _, c := range columns {
			_, err := db.Exec(fmt.Sprintf("UPDATE %s SET %s=%s+7200000 WHERE %s>0", table, c, c, c))
			require.NoError(t, err)
		}
	}
	require.NoError(t, db.Close())
	s.start()
	s.until("it is in step", inStepAndReady)
	s.edit("hurry", "configmap/horn", `data.interval="9s"`)
	s.until("it is restored, and not in two hours", func(w client.Ward) bool { return inStepAndReady(w) && len(s.entries()) == 4 })
	assert.Equal(t, []int{4, 3, 2, 1}, []int{s.entries()[0].Number, s.entries()[1].Number, s.entries()[2].Number, s.entries()[3].Number}, "the logbook is in the order of its numbers")
	s.push("Later", map[string]string{"app/horn.yaml": config("horn", "interval", "40s")})
	s.until("and it syncs", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Later" })
}

// TestTwoServices: two on one database, of which the second refuses to start; and two on one cluster, which are told
// apart and told so.
func TestTwoServices(t *testing.T) {
	t.Parallel()
	s := newService(t)
	out, err := exec.Command(filepath.Join(bin, "vigila"), "serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(s.dir, "data")).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "another Vigila already uses "+filepath.Join(s.dir, "data")+"; stop it, or choose another --data")

	s.push("First", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "app/bell.yaml": config("bell", "tone", "low")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 20s, otherwise: stop"))
	s.until("it is in step", inStepAndReady)

	second := &service{t: t, dir: t.TempDir(), log: &lockedBuffer{}, name: s.name}
	second.start()
	t.Cleanup(second.kill)
	second.ok("repo", "add", s.name, s.origin())
	second.ok("cluster", "add", "quay", "--kubeconfig", kubeconfig())
	second.add(second.wardFile("sync: auto, drift: restore, every: 1s", "within: 20s, otherwise: stop"))
	w := second.until("the second is refused, and told who keeps it", func(w client.Ward) bool { return strings.Contains(w.Says, "another Vigila (") })
	assert.Contains(t, w.Says, "keeps it already, in its ward "+s.name)
	_, id, _ := strings.Cut(w.Says, "another Vigila (")
	id, _, _ = strings.Cut(id, ")")
	assert.Contains(t, w.Says, "keep.take_over: [vigila/"+id+"]")
	assert.True(t, inStepAndReady(s.ward()), "the first is not disturbed")
	second.fails(3, "another Vigila ("+id+")", "diff", s.name)

	// Taken over on purpose, the first lets go of it: it says so, and puts nothing back.
	second.add(second.wardFile("sync: auto, drift: restore, every: 1s, take_over: [vigila/"+id+"]", "within: 20s, otherwise: stop"))
	second.until("the second keeps them, by itself", inStepAndReady)
	w = s.until("the first is told", func(w client.Ward) bool { return w.Standing == "contested" })
	assert.Contains(t, w.Says, "nother Vigila (")
	assert.Contains(t, w.Says, "over; it is left alone here")
	assert.True(t, w.NeedsYou)
	entries := len(s.entries())
	second.push("By the second", map[string]string{"app/horn.yaml": config("horn", "interval", "50s")})
	second.until("the second goes on", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "By the second" })
	assert.Equal(t, "50s", live(t, "", "v1", "configmaps", s.name, "horn").Object["data"].(map[string]any)["interval"])
	assert.LessOrEqual(t, len(s.entries()), entries+1, "the two don't take turns")
}

// TestATaskWhoseAnswerIsLostRunsOnce: the API server makes the task's object, and the answer never arrives. The call is
// made again, the task is not.
func TestATaskWhoseAnswerIsLostRunsOnce(t *testing.T) {
	t.Parallel()
	s := newService(t)
	cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig())
	require.NoError(t, err)
	direct, err := rest.HTTPClientFor(cfg)
	require.NoError(t, err)
	var lost atomic.Int64
	file := faulty(t, func(r *http.Request) (int, bool) {
		if r.Method != http.MethodPatch || !strings.Contains(r.URL.Path, "/jobs/") || lost.Add(1) > 2 {
			return 0, false
		}
		q, err := http.NewRequest(r.Method, cfg.Host+r.URL.String(), r.Body)
		if err == nil {
			q.Header = r.Header.Clone()
			q.Header.Del("Authorization")
			var answer *http.Response
			if answer, err = direct.Do(q); err == nil {
				err = answer.Body.Close()
			}
		}
		return 0, assert.NoError(t, err)
	})
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	jobs := &made{uids: map[string]map[string]bool{}}
	go jobs.watch(ctx, cluster(t))
	s.ok("cluster", "add", "far", "--kubeconfig", file)
	s.push("A task", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "app/task.yaml": "apiVersion: batch/v1\nkind: Job\nmetadata: {name: migrate, annotations: {vigila.dev/task: before, vigila.dev/task-clean: never}}\nspec: {template: {spec: {restartPolicy: Never, containers: [{name: m, image: \"registry.brindle.example/boards-alight:1\"}]}}}\n"})
	s.add(strings.Replace(s.wardFile("sync: auto, every: 1s", "within: 60s"), "cluster: quay", "cluster: far", 1))
	require.Eventually(t, func() bool {
		r, err := s.api.GetWardWithResponse(ctx, s.name+"@far")
		return s.api.Check(r, err) == nil && inStepAndReady(r.JSON200.Ward)
	}, patience, 50*time.Millisecond)
	assert.Positive(t, lost.Load(), "an answer was lost")
	assert.Equal(t, 1, jobs.count(s.name), "and the task ran once")
}
