// Package metrics runs a real Prometheus server beside the lab, which asks the Pods of its nodes every second. Start with Start.
package metrics

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Server is a running Prometheus.
type Server struct {
	URL string

	cmd *exec.Cmd
	log *os.File
}

// Start runs a program, Prometheus, that asks what is listed at some addresses, and returns once it answers. Its state is kept in dir, and
// its port too, so that it is found again.
func Start(ctx context.Context, program, dir string, targets map[string]string) (*Server, error) {
	dir, err := filepath.Abs(filepath.Join(dir, "metrics"))
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	var b strings.Builder
	b.WriteString("global: {scrape_interval: 1s, evaluation_interval: 1m}\nscrape_configs:\n")
	for name, at := range targets {
		fmt.Fprintf(&b, "  - job_name: %s\n    static_configs: []\n    http_sd_configs: [{url: %q, refresh_interval: 1s}]\n    relabel_configs: [{target_label: cluster, replacement: %s}]\n", name, at, name)
	}
	config := filepath.Join(dir, "prometheus.yml")
	if err := os.WriteFile(config, []byte(b.String()), 0o600); err != nil {
		return nil, err
	}
	address, err := address(filepath.Join(dir, "address"))
	if err != nil {
		return nil, err
	}
	s := &Server{URL: "http://" + address}
	if s.log, err = os.Create(filepath.Join(dir, "log")); err != nil {
		return nil, err
	}
	s.cmd = exec.Command(program, "--config.file="+config, "--storage.tsdb.path="+filepath.Join(dir, "data"), "--storage.tsdb.retention.time=6h", "--web.listen-address="+address)
	s.cmd.Stdout, s.cmd.Stderr = s.log, s.log
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	ended := make(chan error, 1)
	go func() { ended <- s.cmd.Wait() }()
	for {
		if r, err := http.Get(s.URL + "/-/ready"); err == nil {
			_ = r.Body.Close()
			if r.StatusCode == http.StatusOK {
				return s, nil
			}
		}
		select {
		case <-ctx.Done():
			s.Close()
			return nil, ctx.Err()
		case err := <-ended:
			return nil, fmt.Errorf("the metrics server ended (%v); see %s", err, s.log.Name())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Pid is its process.
func (s *Server) Pid() int { return s.cmd.Process.Pid }

// Close ends it.
func (s *Server) Close() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	_ = s.log.Close()
}

// address is a loopback address that is kept in a file.
func address(file string) (string, error) {
	if b, err := os.ReadFile(file); err == nil {
		return string(b), nil
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), os.WriteFile(file, []byte(l.Addr().String()), 0o600)
}
