package main

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/client"
)

// back: a canary whose check breaks its limit, until no request reaches the new version any more.
func (w *world) back(ctx context.Context) (row, error) {
	const rounds, every = 7, time.Second
	r := row{what: "first bad sample of a canary's check until all of the traffic is on the old version", against: "the check's own interval", goal: "one interval plus 1 s",
		how: fmt.Sprintf("A canary by route has half of the traffic, and a check asks a metrics source every %s. From the moment from which the source answers badly until the last request that the new version answers, at 100 requests a second through the lab's gateway. The check bears no miss. Median and worst of %d.", every, rounds)}
	var bad atomic.Bool
	source := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, q *http.Request) {
		value := "0.01"
		switch {
		case q.FormValue("query") == "vector(1)": // whether it answers at all
			value = "1"
		case bad.Load():
			value = "0.5"
		}
		out.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(out, `{"status":"success","data":{"resultType":"scalar","result":[1700000000,%q]}}`, value)
	}))
	defer source.Close()
	s, err := w.service(ctx, "canary")
	if err != nil {
		return r, err
	}
	defer s.stop()
	repo, err := w.repository("canary")
	if err != nil {
		return r, err
	}
	app := func(version int) map[string]string {
		return map[string]string{"app/a.yaml": fmt.Sprintf(`apiVersion: apps/v1
kind: Deployment
metadata: {name: gate}
spec: {replicas: 4, selector: {matchLabels: {app: gate}}, template: {metadata: {labels: {app: gate}}, spec: {containers: [{name: app, image: "registry.brindle.example/gate:%d"}]}}}
---
apiVersion: v1
kind: Service
metadata: {name: gate}
spec: {selector: {app: gate}, ports: [{port: 80}]}
---
apiVersion: gateway.networking.k8s.io/v1
kind: HTTPRoute
metadata: {name: gate}
spec: {parentRefs: [{name: harbour}], hostnames: [canary.brindle.example], rules: [{backendRefs: [{name: gate, port: 80}]}]}
`, version)}
	}
	if err := repo.push("The first", app(1)); err != nil {
		return r, err
	}
	if err := s.cli("repo", "add", "canary", repo.url); err != nil {
		return r, err
	}
	if err := s.cli("metrics", "add", "bench", source.URL); err != nil {
		return r, err
	}
	if err := s.add(fmt.Sprintf(`vigila: ward/v1
name: canary
from: {repo: canary, path: app}
into: {cluster: quay, namespace: bench-canary, create_namespace: true}
keep: {sync: auto, every: 1s}
canary: [{of: Deployment/gate, by: HTTPRoute/gate, shares: [{at: 50, for: 1h}], within: 2h, checks: [errors]}]
checks: {errors: {query: errors, from: bench, good: value < 0.05, every: %s}}
`, every)); err != nil {
		return r, err
	}
	if err := s.all(ctx, "the ward is in step", 1, inStep); err != nil {
		return r, err
	}
	var ours []time.Duration
	profile, err := s.profiled(func() error {
		for n := range rounds {
			bad.Store(false)
			if err := repo.push(fmt.Sprint("Another ", n), app(n+2)); err != nil {
				return err
			}
			if err := s.canaryAsked(ctx, n); err != nil {
				return err
			}
			// Anywhere within an interval, differently each time.
			time.Sleep(time.Duration(n) * every / rounds)
			since := time.Now()
			bad.Store(true)
			last, err := w.lastOf(ctx, s, "canary.brindle.example", fmt.Sprintf("gate:%d", n+2))
			if err != nil {
				return err
			}
			ours = append(ours, last.Sub(since))
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	o, worst := quantile(ours, .5), quantile(ours, 1)
	r.ours, r.limit = fmt.Sprintf("%s, %s at worst", ms(o), ms(worst)), ms(every)
	r.verdict, r.met, r.profiles = fmt.Sprintf("%.2f times, at worst %.2f", float64(o)/float64(every), float64(worst)/float64(every)), worst <= every+time.Second, []string{profile}
	return r, nil
}

// canaryAsked waits until the canary of the newest revision has its share, and its check was answered.
func (s *service) canaryAsked(ctx context.Context, rejected int) error {
	return until(ctx, "the canary has its share", func() (bool, error) {
		got, err := s.api.GetCanaryWithResponse(ctx, "canary@quay", nil)
		if err != nil || got.JSON200 == nil {
			return false, err
		}
		c := got.JSON200
		return c.GoingOn && c.Phase == "sharing" && c.Entry > 2*rejected && c.Workloads[0].Checks[0].Last == "good", nil
	})
}

// lastOf sends requests until the ward has gone back, and is when an image answered last.
func (w *world) lastOf(ctx context.Context, s *service, host, image string) (last time.Time, err error) {
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	over := make(chan error, 1)
	go func() {
		over <- s.all(ctx, "it has gone back", 1, func(x client.Ward) bool { return x.Run.Number == 0 && x.Rejected != "" })
	}()
	for {
		select {
		case err := <-over:
			return last, err
		case <-tick.C:
		}
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, w.gateway, nil)
		if err != nil {
			return last, err
		}
		q.Host = host
		a, err := http.DefaultClient.Do(q)
		if err != nil {
			return last, err
		}
		if strings.HasSuffix(a.Header.Get("X-Image"), image) {
			last = time.Now()
		}
		if a.StatusCode != http.StatusOK {
			err = fmt.Errorf("a request was lost: %s", a.Status)
		}
		if _ = a.Body.Close(); err != nil {
			return last, err
		}
	}
}
