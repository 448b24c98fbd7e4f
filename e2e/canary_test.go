package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// gateWith is a Deployment with a Service and a route that leads to it. name is also the host; more are other objects.
func gateWith(name, image string, size int, version string) string {
	return fmt.Sprintf(`apiVersion: apps/v1
kind: Deployment
metadata: {name: gate}
spec:
  replicas: %[3]d
  selector: {matchLabels: {app: gate}}
  template:
    metadata: {labels: {app: gate}}
    spec:
      containers: [{name: app, image: "registry.brindle.example/%[2]s"}]
---
apiVersion: v1
kind: Service
metadata: {name: gate}
spec: {selector: {app: gate}, ports: [{port: 80, targetPort: 8080}]}
---
apiVersion: gateway.networking.k8s.io/%[4]s
kind: HTTPRoute
metadata: {name: gate}
spec:
  parentRefs: [{name: harbour}]
  hostnames: [%[1]s.brindle.example]
  rules: [{backendRefs: [{name: gate, port: 80}]}]
`, name, image, size, version)
}

// requests is a steady load on a host of the lab's gateway, which tells what of it failed and who answered.
type requests struct {
	mu     sync.Mutex
	sent   int
	failed []string
	images map[string]int
	cancel context.CancelFunc
	done   sync.WaitGroup
}

func load(t *testing.T, host string, rate int) *requests {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
	l := &requests{images: map[string]int{}, cancel: cancel}
	client := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 256}}
	l.done.Go(func() {
		tick := time.NewTicker(time.Second / time.Duration(rate))
		defer tick.Stop()
		for ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-tick.C:
				l.done.Go(func() { l.one(client, host) })
			}
		}
	})
	t.Cleanup(func() { l.end() })
	return l
}

func (l *requests) one(client *http.Client, host string) {
	image, err := ask(client, host, nil)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sent++
	l.images[image]++
	if err != nil {
		l.failed = append(l.failed, time.Now().UTC().Format("15:04:05.000")+" "+err.Error())
	}
}

// ask asks a host once; the answer is the image that gave it.
func ask(client *http.Client, host string, headers map[string]string) (image string, err error) {
	r, err := http.NewRequest(http.MethodGet, gateway+"/", nil)
	if err != nil {
		return "", err
	}
	r.Host = host
	for k, v := range headers {
		r.Header.Set(k, v)
	}
	answer, err := client.Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	image = strings.TrimPrefix(answer.Header.Get("X-Image"), "registry.brindle.example/")
	if err == nil && image == "" {
		err = fmt.Errorf("%s: %s", answer.Status, body)
	}
	return image, err
}

func (l *requests) end() {
	l.cancel()
	l.done.Wait()
}

// lost are the requests that nobody answered.
func (l *requests) lost() (sent int, lost []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.sent, append([]string{}, l.failed...)
}

func (s *service) host() string { return s.name + ".brindle.example" }

// canary is the newest of the test's ward.
func (s *service) canary() client.Canary {
	s.t.Helper()
	r, err := s.api.GetCanaryWithResponse(context.Background(), s.name+"@quay", nil)
	if err == nil && r.StatusCode() == http.StatusNotFound {
		return client.Canary{}
	}
	require.NoError(s.t, s.api.Check(r, err))
	return *r.JSON200
}

// canaryUntil waits for a condition of the canary.
func (s *service) canaryUntil(what string, cond func(client.Canary) bool) client.Canary {
	s.t.Helper()
	for end := time.Now().Add(2 * patience); ; time.Sleep(50 * time.Millisecond) {
		c := s.canary()
		if cond(c) {
			return c
		}
		if time.Now().After(end) {
			out, _, _ := s.cli("canary", "show", s.name+"@quay")
			board, _, _ := s.cli("ward", "show", s.name+"@quay")
			s.t.Fatalf("waited in vain until %s; the canary is:\n%s\n%s", what, out, board)
		}
	}
}

func at(share int) func(client.Canary) bool {
	return func(c client.Canary) bool { return c.Phase == "sharing" && c.Share == share }
}

// shareSeen is the share of so many requests that an image answers, in percent.
func shareSeen(t *testing.T, host, image string, of int) float64 {
	t.Helper()
	client := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 16}}
	n := 0
	for range of {
		got, err := ask(client, host, nil)
		require.NoError(t, err)
		if got == image {
			n++
		}
	}
	return 100 * float64(n) / float64(of)
}

const asksPeople = `canary:
  - of: Deployment/gate
    by: HTTPRoute/gate
    shares: [{at: 20, until: person}, {at: 50, until: person}]
    within: 10m
    checks: [errors]
checks:
  errors:
    query: sum(rate(http_requests_total{pod=~"${{ new.pods }}",code=~"5.."}[5s])) / sum(rate(http_requests_total{pod=~"${{ new.pods }}"}[5s])) or vector(0)
    from: harbour-metrics
    good: value < 0.05
    every: 1s
`

// TestACanaryGoesThrough carries a new version in shares under steady traffic: each share is what the requests see, nothing is lost, and
// nothing of what ran before is changed until it is through.
func TestACanaryGoesThrough(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.ok("metrics", "add", "harbour-metrics", metrics)
	s.push("All", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:1", 4, "v1")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s") + asksPeople)
	s.until("is in step", inStepAndReady)
	l := load(t, s.host(), 100)

	s.push("Two", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:2", 4, "v1")})
	c := s.canaryUntil("waits at 20 %", at(0))
	assert.True(t, c.WaitsForPerson)
	assert.InDelta(t, 20, shareSeen(t, s.host(), "gate-quick:2", 2000), 3)
	w := s.until("asks for a person", func(w client.Ward) bool { return w.NeedsYou })
	assert.Contains(t, w.Says, "has 20 % of the traffic, and 50 % waits for a person")
	assert.Zero(t, w.Drifted)
	s.ok("canary", "next", s.name+"@quay", "--why", "looks well")
	s.canaryUntil("waits at 50 %", at(1))
	assert.InDelta(t, 50, shareSeen(t, s.host(), "gate-quick:2", 2000), 3)
	s.ok("canary", "next", s.name+"@quay")
	s.until("is in step", inStepAndReady)
	assert.InDelta(t, 100, shareSeen(t, s.host(), "gate-quick:2", 200), 0)
	l.end()
	sent, lost := l.lost()
	assert.Empty(t, lost, "of %d", sent)
	out := s.ok("ward", "show", s.name+"@quay")
	assert.NotContains(t, out, "gate-new")
}
