package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
)

// pretender is a simulated lookout: it speaks the real protocol over a real connection, and says of every ward that it is told to keep that it is
// in step. There is no cluster behind it.
type pretender struct {
	cluster string
	peer    *link.Peer
	kept    atomic.Int64
	now     time.Time
}

// Asked is part of link.Handler.
func (p *pretender) Asked(_ context.Context, method string, args link.Raw, _ func(any) error) (any, error) {
	if method != "keep" {
		return nil, nil
	}
	var w struct{ Name string }
	if err := link.Decode(args, &w); err != nil {
		return nil, err
	}
	p.kept.Add(1)
	rev := &logbook.Revision{ID: "8c1f0f6f3a7f4d7c9f5e6a1b2c3d4e5f60718293", Subject: "Dredge the north basin by half a berth", Author: "harbour-ops", At: p.now}
	v := &standing.View{Head: rev.ID, Form: "plain", Standing: compare.InStep, Health: health.Result{Word: health.Ready}, Since: p.now, Says: "", Repository: standing.AsOf{Known: true, At: p.now, Next: p.now.Add(time.Hour)},
		Live: standing.AsOf{Known: true, At: p.now}, Revision: rev, Applied: rev, Count: 12, Kept: 12,
		Standings: []logbook.Stretch{{From: p.now.Add(-time.Hour), Standing: string(compare.Behind), Health: string(health.Ready)}, {From: p.now, Standing: string(compare.InStep), Health: string(health.Ready)}},
		Notches:   []standing.Notch{{Number: 1, At: p.now, Outcome: "done"}}}
	return nil, p.peer.Tell("view", struct {
		Ward string
		View *standing.View
	}{w.Name + "@" + p.cluster, v})
}

// Told is part of link.Handler.
func (p *pretender) Told(string, link.Raw) error { return nil }

// call has a simulated lookout join, and speak until ctx ends.
func (p *pretender) call(ctx context.Context, s *service) error {
	r, err := s.api.LetLookoutJoinWithResponse(ctx, p.cluster, client.LetLookoutJoin{Labels: map[string]string{"coast": "simulated"}})
	if err := s.api.Check(r, err); err != nil {
		return err
	}
	key, err := link.NewKey()
	if err != nil {
		return err
	}
	var conn net.Conn
	for { // no more are taken in a second than the service can bear
		if conn, err = link.Dial(ctx, s.address, nil); err == nil || !strings.Contains(err.Error(), "503") {
			break
		}
		if err := sleep(ctx, 100*time.Millisecond); err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	safe, err := link.Call(ctx, conn, key, r.JSON200.ServiceKey)
	if err != nil {
		return errors.Join(err, conn.Close())
	}
	p.peer = link.New(ctx, safe, p)
	go func() { _ = p.peer.Run() }()
	if _, err := keeper.SayHello(ctx, p.peer, keeper.Hello{Token: r.JSON200.JoinToken, Version: "simulated"}); err != nil {
		return err
	}
	facts := struct{ record.LookoutsFacts }{record.LookoutsFacts{Version: "v1.37.2", APIs: []string{"v1", "apps/v1"}, Whole: true}}
	if err := p.peer.Tell("facts", facts); err != nil {
		return err
	}
	return p.peer.Call(ctx, "ready", struct{ Wards []string }{}, nil)
}

// simulated: very many wards in one service.
func (w *world) simulated(ctx context.Context, wards int) (row, error) {
	const clusters, asked = 100, 200
	each := wards / clusters
	r := row{what: fmt.Sprintf("%d wards in the service, by %d simulated lookouts: list, search, filter and the board's first page, p99", wards, clusters), against: "nothing", goal: "each under 100 ms at p99; under 4 KiB a ward", limit: "0",
		how: fmt.Sprintf("The lookouts are part of the bench; each speaks the real protocol and says of %d wards that they are in step. %d requests of each sort, one after the other, to the API on loopback. Memory is the live heap after a forced collection (go_gc_heap_live_bytes) with all wards, less that before the first, by their number; their logbooks are empty.", each, asked)}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &service{world: w, dir: filepath.Join(w.dir, "simulated")}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return r, err
	}
	w.all = append(w.all, s)
	if err := s.start(ctx); err != nil {
		return r, err
	}
	defer s.stop()
	repo, err := w.repository("simulated")
	if err != nil {
		return r, err
	}
	if err := errors.Join(repo.push("First", map[string]string{"README.md": "A crowd."}), s.cli("repo", "add", "simulated", repo.url)); err != nil {
		return r, err
	}
	all := make([]*pretender, clusters)
	for i := range all {
		all[i] = &pretender{cluster: fmt.Sprintf("sound-%03d", i), now: time.Now()}
		if err := all[i].call(ctx, s); err != nil {
			return r, err
		}
	}
	before, err := s.live()
	if err != nil {
		return r, err
	}
	began := time.Now()
	const atOnce = 50
	for from := 0; from < each; from += atOnce {
		var text strings.Builder
		for n := from; n < min(each, from+atOnce); n++ {
			fmt.Fprintf(&text, "---\nvigila: ward/v1\nname: buoy-%04d\nowner: harbour-ops\nabout: Keeps the light of buoy %[1]d.\nfrom: {repo: simulated, path: buoys/%04[1]d}\ninto: {clusters: {coast: simulated}, namespace: buoy-%04[1]d}\nkeep: {sync: auto, drift: report, every: 1h}\n", n)
		}
		if err := s.add(text.String()); err != nil {
			return r, err
		}
		fmt.Fprintf(os.Stderr, "%s  %d wards are registered\n", time.Now().Format("15:04:05"), (from+atOnce)*clusters)
	}
	if err := until(ctx, "every ward is in step", func() (bool, error) {
		time.Sleep(500 * time.Millisecond)
		n, err := s.count(ctx, &client.ListWardsParams{Standing: client.StandingInStep})
		return n == each*clusters, err
	}); err != nil {
		return r, err
	}
	took := time.Since(began)
	after, err := s.live()
	if err != nil {
		return r, err
	}
	var says []string
	var worst time.Duration
	profile, err := s.profiled(func() error {
		for _, q := range []struct {
			what string
			ask  client.ListWardsParams
		}{{"list", client.ListWardsParams{Limit: 50, Offset: wards / 2}}, {"search", client.ListWardsParams{Limit: 50, Search: "buoy-0777 sound-042"}},
			{"filter", client.ListWardsParams{Limit: 50, Standing: client.StandingInStep, Cluster: "sound-017"}}, {"first page", client.ListWardsParams{Limit: 50, Fold: client.ListWardsParamsFoldCluster}}} {
			var times []time.Duration
			for range asked {
				start := time.Now()
				x, err := s.api.ListWardsWithResponse(ctx, &q.ask)
				if err := s.api.Check(x, err); err != nil {
					return err
				}
				times = append(times, time.Since(start))
			}
			p99 := quantile(times, .99)
			worst = max(worst, p99)
			says = append(says, q.what+" "+ms(p99))
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	bytes := (after - before) / float64(each*clusters)
	r.ours = fmt.Sprintf("%s; %.0f bytes a ward; registered and in step after %.0f s", strings.Join(says, ", "), bytes, took.Seconds())
	r.verdict, r.met, r.profiles = fmt.Sprintf("%s at most, %.0f bytes", ms(worst), bytes), worst < 100*time.Millisecond && bytes < 4096, []string{profile}
	if bytes >= 4096 {
		x, err := http.Get(s.profiles + "heap?gc=1")
		if err != nil {
			return r, err
		}
		defer x.Body.Close()
		heap, err := top(s, x.Body, "heap.pprof")
		if err != nil {
			return r, err
		}
		r.profiles = append(r.profiles, heap)
	}
	return r, nil
}

// live is the live heap of the service after a forced collection, in bytes.
func (s *service) live() (float64, error) {
	for range 3 {
		x, err := http.Get(s.profiles + "heap?gc=1")
		if err != nil {
			return 0, err
		}
		_, err = io.Copy(io.Discard, x.Body)
		_ = x.Body.Close()
		if err != nil {
			return 0, err
		}
	}
	return s.metric("go_gc_heap_live_bytes")
}
