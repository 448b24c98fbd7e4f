package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// lookout is a lookout of a service, as a process of its own.
type lookout struct {
	s    *service
	dir  string
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
	l := &lookout{s: s, dir: s.t.TempDir(), log: &lockedBuffer{}, env: []string{"VIGILA_JOIN=" + j.JoinToken}}
	l.args = append([]string{"lookout", "--service", s.url, "--service-key", j.ServiceKey, "--kubeconfig", kubeconfig(), "--data", filepath.Join(l.dir, "data"), "--log-format", "json"}, more...)
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

// TestALookoutKeepsACluster: what a lookout keeps is synced, told, restored and gone back with as if the service reached the cluster itself.
func TestALookoutKeepsACluster(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Two berths", map[string]string{"app/c.yaml": config(s.name, "berths", "2")})
	l := s.lookoutOf("quay")
	s.add(s.wardFile("sync: auto, every: 1s, drift: restore", "within: 30s"))
	s.until("in step", inStepAndReady)
	assert.Contains(t, s.ok("cluster", "show", "quay"), "here since")

	s.push("Three berths", map[string]string{"app/c.yaml": config(s.name, "berths", "3")})
	s.until("the newer one is in step", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Three") })
	assert.NotEmpty(t, s.entries())
	assert.Contains(t, s.ok("ward", "show", s.name), s.name)
	_ = l
}
