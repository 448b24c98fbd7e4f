package e2e

import (
	"net/http"
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
