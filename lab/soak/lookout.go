package soak

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"vigila.dev/lab/faults"
)

// keeper is the lookout that keeps the cluster in place of the service, and the wire between the two.
type keeper struct {
	wire    *faults.Wire
	cmd     *exec.Cmd
	key     string
	faulted time.Time // when the wire failed last, or the lookout was killed
}

// lookOut lets a lookout keep the cluster.
func (s *soak) lookOut() (err error) {
	if s.keeper.wire, err = faults.StartWire(s.address); err != nil {
		return err
	}
	var join struct {
		JoinToken  string `json:"join_token"`
		ServiceKey string `json:"service_key"`
	}
	if err := s.call(http.MethodPost, "clusters/quay/lookout", map[string]any{}, &join); err != nil {
		return err
	}
	s.keeper.key = join.ServiceKey
	return s.startLookout(join.JoinToken)
}

func (s *soak) startLookout(token string) error {
	log, err := os.OpenFile(filepath.Join(s.Dir, "lookout.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(s.Vigila, "lookout", "--service", "http://"+s.keeper.wire.Addr(), "--service-key", s.keeper.key, "--kubeconfig", filepath.Join(s.Dir, "through.yaml"), "--data", filepath.Join(s.Dir, "lookout"), "--log-format", "json")
	cmd.Env = append(os.Environ(), "VIGILA_JOIN="+token)
	cmd.Stderr, cmd.Stdout = log, log
	s.keeper.cmd = cmd
	return cmd.Start()
}

// endLookout ends the lookout, and the wire.
func (s *soak) endLookout() {
	if s.keeper.cmd != nil && s.keeper.cmd.ProcessState == nil {
		_ = s.keeper.cmd.Process.Signal(syscall.SIGTERM)
		_ = s.keeper.cmd.Wait()
	}
	if s.keeper.wire != nil {
		s.keeper.wire.Close()
	}
}

func (s *soak) strained() {
	s.mu.Lock()
	s.keeper.faulted = time.Now()
	s.mu.Unlock()
}

// killLookout ends the lookout as a crash does; now and then the service with it.
func (s *soak) killLookout() (string, error) {
	if s.keeper.wire == nil {
		return "there is no lookout", nil
	}
	both := s.dice.IntN(3) == 0
	_ = s.keeper.cmd.Process.Kill()
	_ = s.keeper.cmd.Wait()
	what := "the lookout is killed"
	if both {
		s.kill()
		what = "the lookout and the service are killed"
	}
	pause := time.Duration(s.dice.IntN(4000)) * time.Millisecond
	time.Sleep(pause)
	s.strained()
	if both {
		if err := s.start(); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("%s, to start again %.1f s later", what, pause.Seconds()), s.startLookout("")
}

// strain makes the wire between the lookout and the service fail.
func (s *soak) strain() (string, error) {
	if s.keeper.wire == nil {
		return "there is no wire", nil
	}
	if s.dice.IntN(4) == 0 {
		s.keeper.wire.Cut()
		s.strained()
		return "the wire to the lookout is cut once", nil
	}
	modes := []string{faults.WireCut, faults.WireSilent, faults.WireSlow}
	mode := modes[s.dice.IntN(len(modes))]
	pause := time.Duration(500+s.dice.IntN(12000)) * time.Millisecond
	s.keeper.wire.Set(mode)
	time.Sleep(pause)
	s.keeper.wire.Set(faults.WireWell)
	s.strained()
	return fmt.Sprintf("the wire to the lookout was %s for %.1f s", mode, pause.Seconds()), nil
}

// grace is how long a claim may lag behind the truth: longer after the wire failed, since a side that is silent is missed after a while only.
func (s *soak) grace() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.keeper.wire != nil && time.Since(s.keeper.faulted) < time.Minute {
		return grace + 30*time.Second
	}
	return grace
}
