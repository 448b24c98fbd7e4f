package e2e

import (
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// TestOneStandsBy: a service that stands by says so, works on nothing, and takes over when the other is killed in the middle of a run: that is
// interrupted and made once more, and no task runs without its entry.
func TestOneStandsBy(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Two berths", map[string]string{"app/c.yaml": config(s.name, "berths", "2"), "app/d.yaml": deployment("registry.brindle.example/berth-planner:1.0.0", 1)})
	log := &lockedBuffer{}
	second := exec.Command(filepath.Join(bin, "vigila"), "serve", "--stand-by", "--listen", "127.0.0.1:0", "--data", filepath.Join(s.dir, "data"), "--log-format", "json")
	second.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	second.Stderr = log
	require.NoError(t, second.Start())
	t.Cleanup(func() {
		_ = syscall.Kill(-second.Process.Pid, syscall.SIGKILL)
		_ = second.Wait()
	})
	address := func(of string) (url string) {
		require.Eventually(t, func() bool {
			for line := range strings.Lines(log.String()) {
				if strings.Contains(line, of) {
					_, rest, _ := strings.Cut(line, `"address":"`)
					url, _, _ = strings.Cut(rest, `"`)
				}
			}
			return url != ""
		}, patience, 20*time.Millisecond)
		return url
	}
	at := address("stands by")
	for path, want := range map[string]int{"/healthz": http.StatusOK, "/readyz": http.StatusServiceUnavailable, "/api/v1/wards": http.StatusServiceUnavailable} {
		r, err := http.Get(at + path)
		require.NoError(t, err)
		_ = r.Body.Close()
		assert.Equal(t, want, r.StatusCode, path)
	}
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s"))
	s.until("a run goes on", func(w client.Ward) bool { return w.Run.Number > 0 || inStepAndReady(w) })
	s.kill()
	killed := time.Now()
	assert.Equal(t, at, address("keeps watch"), "at its own address")
	t.Logf("taken over %s after the kill", time.Since(killed).Round(time.Millisecond))
	s.url = at
	var err error
	s.api, err = client.New(client.Context{Name: "test", URL: s.url, Token: s.token})
	require.NoError(t, err)
	s.until("in step", inStepAndReady)
	all := s.entries()
	for i, e := range all {
		assert.Equal(t, len(all)-i, e.Number)
		assert.Contains(t, []string{"done", "interrupted"}, string(e.Outcome), "no run is lost, and none is half known")
	}

	s.fails(1, "another Vigila already uses", "serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(s.dir, "data"))
}

// TestOneStandsByOnACopy: of two services on two machines the one that holds the Lease works, and the other has a copy of its record that nothing is
// missing of; it takes over when that one is killed, and the one that comes back stands by in its turn.
func TestOneStandsByOnACopy(t *testing.T) {
	t.Parallel()
	a := newService(t)
	a.push("Two berths", map[string]string{"app/c.yaml": config(a.name, "berths", "2"), "app/d.yaml": deployment("registry.brindle.example/berth-planner:1.0.0", 1)})
	a.kill()
	b := &service{t: t, dir: t.TempDir(), log: &lockedBuffer{}, name: a.name, url: "http://" + freeAddress(t)}
	pair := func(other string) []string {
		return []string{"--lease", "default/" + a.name, "--lease-kubeconfig", kubeconfig(), "--stand-by-of", other}
	}
	a.args, b.args = pair(b.url), pair(a.url)
	a.start()
	require.NoError(t, os.MkdirAll(filepath.Join(b.dir, "data"), 0o700))
	key, err := os.ReadFile(filepath.Join(a.dir, "data", "vigila.key"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "data", "vigila.key"), key, 0o600))
	token, err := os.ReadFile(filepath.Join(a.dir, "token"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "token"), token, 0o600))
	tookOver := make(chan struct{})
	go func() {
		defer close(tookOver)
		b.start()
	}()
	t.Cleanup(b.kill)
	inStep := func(s *service) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(s.log.String(), "the copy is in step") }, patience, 20*time.Millisecond)
	}
	inStep(b)
	r, err := http.Get(b.url + "/readyz")
	require.NoError(t, err)
	_ = r.Body.Close()
	assert.Equal(t, http.StatusServiceUnavailable, r.StatusCode)
	a.fails(2, "stand_by_of needs lease", "serve", "--stand-by-of", b.url)
	c := newService(t) // which was never a part of the pair
	c.kill()
	theirs := filepath.Join(c.dir, "data")
	require.NoError(t, os.WriteFile(filepath.Join(theirs, "vigila.key"), key, 0o600))
	a.fails(1, filepath.Join(theirs, "vigila.db")+" holds that of", append([]string{"serve", "--listen", "127.0.0.1:0", "--data", theirs}, pair(a.url)...)...)

	a.add(a.wardFile("sync: auto, every: 1s", "within: 60s"))
	a.until("in step", inStepAndReady)
	a.ok("hold", a.name, "--why", "the tide is high")
	a.ok("release", a.name)
	a.push("Three berths", map[string]string{"app/c.yaml": config(a.name, "berths", "3")})
	a.until("a run goes on, or has ended", func(w client.Ward) bool { return w.Run.Number > 0 || strings.Contains(w.Applied.Subject, "Three") })
	before := a.entries()
	a.kill()
	killed := time.Now()
	<-tookOver
	t.Logf("taken over %s after the kill", time.Since(killed).Round(100*time.Millisecond))
	b.until("in step", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Three") })
	after := b.entries()
	require.GreaterOrEqual(t, len(after), len(before), "nothing that was answered is lost")
	for i, e := range before {
		was := after[len(after)-len(before)+i]
		assert.Equal(t, e.Number, was.Number)
		if !e.Ended.IsZero() {
			assert.Equal(t, e, was)
		}
	}
	for i, e := range after {
		assert.Equal(t, len(after)-i, e.Number)
	}

	// The one that was killed comes back: what it had is old by now.
	back := make(chan struct{})
	go func() {
		defer close(back)
		a.start()
	}()
	inStep(a)
	b.ok("hold", b.name, "--why", "by the other one")
	_ = syscall.Kill(b.cmd.Process.Pid, syscall.SIGTERM) // it gives the Lease back
	<-back
	assert.Equal(t, "by the other one", a.ward().Hold.Why)
	_, err = os.Stat(filepath.Join(a.dir, "data", "vigila.db.before"))
	require.NoError(t, err, "what it had is kept")
}

func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}
