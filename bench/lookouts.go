package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"vigila.dev/vigila/internal/client"
)

// byLookout lets a lookout keep the service's cluster, as a process of its own that ends with the service.
func (s *service) byLookout(ctx context.Context) (stop func(), err error) {
	r, err := s.api.LetLookoutJoinWithResponse(ctx, "quay", client.LetLookoutJoin{})
	if err := s.api.Check(r, err); err != nil {
		return nil, err
	}
	log, err := os.Create(filepath.Join(s.dir, "lookout.log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(s.world.bin, "vigila"), "lookout", "--service", s.address, "--service-key", r.JSON200.ServiceKey, "--kubeconfig", s.world.kubeconfig(), "--data", filepath.Join(s.dir, "lookout"))
	cmd.Env = append(os.Environ(), "VIGILA_JOIN="+r.JSON200.JoinToken)
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	stop = func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	}
	return stop, until(ctx, "the lookout has joined", func() (bool, error) {
		l, err := s.lookout(ctx)
		return l.Here, err
	})
}

// lookout is the lookout of the service's cluster.
func (s *service) lookout(ctx context.Context) (client.Lookout, error) {
	r, err := s.api.GetClusterWithResponse(ctx, "quay")
	if err := s.api.Check(r, err); err != nil {
		return client.Lookout{}, err
	}
	return r.JSON200.ClusterOf.Lookout, nil
}

// distant is a crowd in a cluster that a lookout keeps.
type distant struct {
	crowd
	stop func()
}

// end ends it: what it watches would be in the way of the measures that follow.
func (d *distant) end() {
	if d.stop != nil {
		d.stop()
		d.service.stop()
	}
}

func (d *distant) ready(ctx context.Context) (err error) {
	if d.service == nil {
		if d.service, err = d.world.service(ctx, "distant"); err != nil {
			return err
		}
		if d.repo, err = d.world.repository("distant"); err != nil {
			return err
		}
		if err := errors.Join(d.repo.push("First", map[string]string{"README.md": "A crowd."}), d.cli("repo", "add", "crowd", d.repo.url)); err != nil {
			return err
		}
		if d.stop, err = d.byLookout(ctx); err != nil {
			return err
		}
	}
	return d.crowd.ready(ctx, d.objects)
}

// drift: a write by hand in a lookout's cluster until the service's API shows it.
func (d *distant) drift(ctx context.Context) (row, error) {
	if err := d.ready(ctx); err != nil {
		return row{}, err
	}
	r, err := d.crowd.drift(ctx)
	r.what = fmt.Sprintf("write by another client in a cluster that a lookout keeps until the service's API shows the drift, %d watched objects, p50 and p99", d.objects)
	return r, err
}

// wire: what goes between a service and a lookout in step.
func (d *distant) wire(ctx context.Context) (row, error) {
	const watched = 2 * time.Minute
	r := row{what: fmt.Sprintf("bytes between the service and a lookout in step, an hour, %d objects in %d wards", d.objects, d.objects/perWard), against: "nothing", goal: "under 50 KB", limit: "0",
		how: fmt.Sprintf("What the service has received and sent by the lookout's connection within %s, times %d; frames as they are written, without those of TLS, WebSocket and TCP around them, of which each has about 35, 8 and 52 more. The wards look at their repository once an hour.", watched, time.Hour/watched)}
	if err := d.ready(ctx); err != nil {
		return r, err
	}
	if err := sleep(ctx, 15*time.Second); err != nil { // what follows from getting into step is through
		return r, err
	}
	hourly, err := hourlyBytes(ctx, watched, func() (map[string]int64, error) {
		l, err := d.lookout(ctx)
		return map[string]int64{"quay": l.Received + l.Sent}, err
	})
	if err != nil {
		return r, err
	}
	r.ours = fmt.Sprintf("%.1f KB", float64(hourly["quay"])/1000)
	r.verdict, r.met = r.ours, hourly["quay"] < 50_000
	return r, nil
}

// hourlyBytes is what goes over some connections in an hour, by what they count within a shorter time.
func hourlyBytes(ctx context.Context, watched time.Duration, read func() (map[string]int64, error)) (map[string]int64, error) {
	before, err := read()
	if err != nil {
		return nil, err
	}
	if err := sleep(ctx, watched); err != nil {
		return nil, err
	}
	after, err := read()
	for name := range after {
		after[name] = (after[name] - before[name]) * int64(time.Hour/watched)
	}
	return after, err
}
