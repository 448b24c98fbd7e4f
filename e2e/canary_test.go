package e2e

import (
	"context"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"

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

// live reads an object of the test's namespace from the cluster.
func (s *service) live(resource, name string) *unstructured.Unstructured {
	s.t.Helper()
	gvr := map[string]schema.GroupVersionResource{"deployments": {Group: "apps", Version: "v1", Resource: "deployments"}, "configmaps": {Version: "v1", Resource: "configmaps"}}[resource]
	o, err := s.objects(gvr).Get(context.Background(), name, metav1.GetOptions{})
	require.NoError(s.t, err)
	return o
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
	assert.InDelta(t, 20, shareSeen(t, s.host(), "gate-quick:2", 3000), 3)
	w := s.until("asks for a person", func(w client.Ward) bool { return w.NeedsYou })
	assert.Contains(t, w.Says, "has 20 % of the traffic, and 50 % waits for a person")
	assert.Zero(t, w.Drifted)
	s.ok("canary", "next", s.name+"@quay", "--why", "looks well")
	s.canaryUntil("waits at 50 %", at(1))
	assert.InDelta(t, 50, shareSeen(t, s.host(), "gate-quick:2", 4000), 3)
	s.ok("canary", "next", s.name+"@quay")
	s.until("is in step", inStepAndReady)
	assert.InDelta(t, 100, shareSeen(t, s.host(), "gate-quick:2", 200), 0)
	l.end()
	sent, lost := l.lost()
	assert.Empty(t, lost, "of %d", sent)
	out := s.ok("ward", "show", s.name+"@quay")
	assert.NotContains(t, out, "gate-new")
}

// TestACanaryGoesBack sends errors with the new version: all of the traffic is on the old one again without a lost request, the revision
// is rejected with the check's own words, and after a false alarm the same revision is tried again.
func TestACanaryGoesBack(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.ok("metrics", "add", "harbour-metrics", metrics)
	good := gateWith(s.name, "gate-quick:1", 4, "v1beta1")
	s.push("All", map[string]string{"app/a.yaml": good})
	ward := s.wardFile("sync: auto, every: 1s", "within: 60s") + strings.Replace(asksPeople, "{at: 20, until: person}", "{at: 20, for: 10m}", 1)
	s.add(strings.Replace(ward, "within: 10m", "within: 30m", 1))
	s.until("is in step", inStepAndReady)
	before := s.live("deployments", "gate").GetGeneration()
	l := load(t, s.host(), 100)

	s.push("Wrong", map[string]string{"app/a.yaml": gateWith(s.name, "gate-wrong:2", 4, "v1beta1")})
	w := s.until("has gone back", func(w client.Ward) bool { return w.Rejected != "" && w.Run.Number == 0 })
	assert.Contains(t, w.Rejected, "check errors: value 0.2")
	assert.Contains(t, w.Rejected, "good is value < 0.05")
	assert.Equal(t, before, s.live("deployments", "gate").GetGeneration(), "the old version was never touched")
	c := s.canary()
	assert.False(t, c.GoingOn)
	assert.NotEmpty(t, c.Workloads[0].Checks[0].Points)
	assert.InDelta(t, 100, shareSeen(t, s.host(), "gate-quick:1", 200), 0)
	out, _, code := s.cli("canary", "show", s.name+"@quay")
	assert.Zero(t, code)
	assert.Contains(t, out, "Went back from the new version of Deployment/gate: check errors")
	s.fails(1, "no canary goes on", "canary", "next", s.name+"@quay")

	s.ok("sync", s.name+"@quay", "--retry", "--no-wait", "--why", "the till was down")
	s.canaryUntil("is tried again", func(c client.Canary) bool { return c.GoingOn && at(0)(c) })
	s.ok("canary", "hold", s.name+"@quay", "--why", "looking")
	s.ok("canary", "back", s.name+"@quay", "--why", "no false alarm")
	w = s.until("has gone back", func(w client.Ward) bool {
		return w.Run.Number == 0 && strings.Contains(w.Rejected, "sent back by admin")
	})
	assert.Equal(t, "ready", string(w.Health))
	l.end()
	sent, lost := l.lost()
	assert.Empty(t, lost, "of %d", sent)
}

// TestACanaryOutlivesTheService kills the service again and again while a canary goes on: it goes on at the same share, and nothing is
// lost.
func TestACanaryOutlivesTheService(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("All", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:1", 3, "v1") + "---\n" + config("tides", "table", "spring")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s") + `canary:
  - of: Deployment/gate
    by: HTTPRoute/gate
    shares: [{at: 10, for: 2s}, {at: 30, until: person}, {at: 60, for: 2s}]
    within: 10m
`)
	s.until("is in step", inStepAndReady)
	l := load(t, s.host(), 100)
	s.push("Two", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:2", 3, "v1") + "---\n" + config("tides", "table", "neap")})
	for _, phase := range []client.CanaryPhase{"making", "sizing", "leading"} { // whichever of them are seen
		for end := time.Now().Add(3 * time.Second); time.Now().Before(end); {
			if c := s.canary(); c.Phase == phase || c.Phase == "sharing" {
				break
			}
		}
		s.kill()
		s.start()
	}
	c := s.canaryUntil("waits at 30 %", at(1))
	assert.Contains(t, fmt.Sprint(c.Happened), "goes on, after Vigila was away")
	assert.InDelta(t, 30, shareSeen(t, s.host(), "gate-quick:2", 4000), 3) // four times what chance does
	s.kill()
	s.start()
	c = s.canaryUntil("waits at 30 % still", func(c client.Canary) bool { return c.GoingOn && at(1)(c) })
	assert.Contains(t, fmt.Sprint(c.Why), "new revision")
	s.ok("canary", "next", s.name+"@quay")
	s.canaryUntil("is at 60 %", func(c client.Canary) bool { return c.Share == 2 })
	s.kill()
	s.start()
	s.until("is in step", inStepAndReady)
	assert.InDelta(t, 100, shareSeen(t, s.host(), "gate-quick:2", 200), 0)
	l.end()
	sent, lost := l.lost()
	assert.Empty(t, lost, "of %d", sent)
	assert.NotContains(t, s.ok("ward", "show", s.name+"@quay"), "gate-new")
}

// TestACanaryAmongOthers scales the workload meanwhile, edits beside it, changes its ConfigMap with it, and has two routes.
func TestACanaryAmongOthers(t *testing.T) {
	t.Parallel()
	s := newService(t)
	app := func(image, table string) string {
		text := strings.Replace(gateWith(s.name, image, 4, "v1"), "containers: [{", "containers: [{envFrom: [{configMapRef: {name: tides}}], ", 1)
		second := strings.NewReplacer("HTTPRoute\nmetadata: {name: gate}", "HTTPRoute\nmetadata: {name: side}", "hostnames: [", "hostnames: [side-").Replace(text[strings.Index(text, "apiVersion: gateway"):])
		return text + "---\n" + config("tides", "table", table) + "---\n" + config("piers", "count", "7") + "---\n" + second
	}
	s.push("All", map[string]string{"app/a.yaml": app("gate-quick:1", "spring")})
	s.add(s.wardFile("sync: auto, every: 1s, drift: report", "within: 60s") + `canary:
  - of: Deployment/gate
    by: [HTTPRoute/gate, HTTPRoute/side]
    shares: [{at: 25, until: person}]
    within: 10m
`)
	s.until("is in step", inStepAndReady)
	s.push("Two", map[string]string{"app/a.yaml": app("gate-quick:2", "neap")})
	s.canaryUntil("waits at 25 %", at(0))
	assert.Equal(t, "spring", s.live("configmaps", "tides").Object["data"].(map[string]any)["table"], "the old version never reads the new table")
	assert.Equal(t, "neap", s.live("configmaps", "tides-new").Object["data"].(map[string]any)["table"])
	assert.InDelta(t, 25, shareSeen(t, s.host(), "gate-quick:2", 4000), 3)
	assert.InDelta(t, 25, shareSeen(t, "side-"+s.host(), "gate-quick:2", 4000), 3)

	s.edit("kubectl-edit", "configmap/piers", "data.count=nine")
	s.until("has drifted beside it", func(w client.Ward) bool { return w.Drifted == 1 })
	assert.True(t, at(0)(s.canary()), "what it does not touch is none of its business")
	s.edit("kube-controller-manager", "deployment/gate", "spec.replicas=8", "--subresource", "scale")
	s.canaryUntil("follows the size", func(c client.Canary) bool {
		return c.Workloads[0].OldSize == 8 && c.Workloads[0].NewSize == 2 && c.Workloads[0].NewReady
	})
	s.fails(1, "is in the middle of sync", "ward", "remove", s.name, "--dismantle")
	s.ok("canary", "finish", s.name+"@quay")
	s.until("has nothing to do but the edits", func(w client.Ward) bool { return w.Run.Number == 0 && w.Pending == 0 })
	assert.Equal(t, "neap", s.live("configmaps", "tides").Object["data"].(map[string]any)["table"])
	assert.InDelta(t, 100, shareSeen(t, "side-"+s.host(), "gate-quick:2", 100), 0)

	// Without a canary, once, with who and why.
	s.push("Three", map[string]string{"app/a.yaml": app("gate-quick:3", "neap")})
	s.canaryUntil("waits at 25 %", func(c client.Canary) bool { return c.GoingOn && at(0)(c) })
	s.ok("sync", s.name+"@quay", "--stop")
	s.until("has gone back", func(w client.Ward) bool { return w.Run.Number == 0 && w.Standing != "in step" })
	assert.InDelta(t, 100, shareSeen(t, s.host(), "gate-quick:2", 100), 0)
}

// TestACanaryThatSomebodyMeddlesWith goes back when somebody moves its weights, and can't be made where its route leads elsewhere.
func TestACanaryThatSomebodyMeddlesWith(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("All", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:1", 2, "v1")})
	ward := s.wardFile("sync: ask, every: 1s", "within: 60s") + "canary:\n  - {of: Deployment/gate, by: HTTPRoute/gate, shares: [{at: 50, until: person}], within: 10m}\n"
	s.add(ward)
	s.ok("sync", s.name+"@quay")
	s.push("Two", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:2", 2, "v1")})
	s.ok("sync", s.name+"@quay", "--no-wait")
	s.canaryUntil("waits at 50 %", at(0))
	s.edit("kubectl-edit", "deployment/gate-new", "spec.replicas=0")
	w := s.until("has gone back", func(w client.Ward) bool { return w.Run.Number == 0 && w.Pending > 0 })
	assert.Empty(t, w.Rejected, "the revision has no blame in it")
	assert.Contains(t, s.canary().Back.Reason, "kubectl-edit")
	assert.InDelta(t, 100, shareSeen(t, s.host(), "gate-quick:1", 100), 0)
	s.ok("sync", s.name+"@quay", "--now", "--why", "the till is down")
	assert.InDelta(t, 100, shareSeen(t, s.host(), "gate-quick:2", 100), 0)
	assert.Contains(t, s.ok("logbook", s.name+"@quay"), "the till is down; without its canary")

	s.add(strings.Replace(ward, "by: HTTPRoute/gate", "by: HTTPRoute/gates", 1))
	s.push("Three", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:3", 2, "v1")})
	w = s.until("is stopped before harm", func(w client.Ward) bool { return len(w.Guards) > 0 })
	assert.Contains(t, w.Guards[0].Text, "keeps no HTTPRoute/gates")
	s.fails(1, "--allow canary", "sync", s.name+"@quay")
	s.ok("sync", s.name+"@quay", "--allow", "canary")
}

// TestACanaryByReplicas has no route: the share follows from the sizes, requests and a load are asked of it, and a crash sends it back at
// once.
func TestACanaryByReplicas(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.kill()
	s.args = []string{"--checks-may-reach-local"}
	s.start()
	s.push("All", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:1", 3, "v1")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s") + fmt.Sprintf(`canary:
  - {of: Deployment/gate, by: replicas, shares: [{at: 25, for: 3s}, {at: 50, for: 2s}], within: 10m, checks: [answers, load]}
checks:
  answers:
    request: {url: "%[1]s/", headers: {Host: %[2]s}}
    good: status == 200 && body.contains("gate")
    every: 1s
  load:
    load: {url: "%[1]s/", rate: 20/s, headers: {Host: %[2]s}}
    good: load.failed_share < 0.01 && load.p99 < 5.0
    every: 1s
`, gateway, s.host()))
	s.until("is in step", inStepAndReady)
	s.push("Two", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:2", 3, "v1")})
	c := s.canaryUntil("is at 25 %", at(0))
	assert.Equal(t, 1, c.Workloads[0].NewSize)
	s.until("is in step", inStepAndReady)
	c = s.canary()
	for _, check := range c.Workloads[0].Checks {
		assert.EqualValues(t, "good", check.Last, check.Name)
		assert.Positive(t, check.Asked)
	}
	assert.InDelta(t, 100, shareSeen(t, s.host(), "gate-quick:2", 50), 0)

	s.push("Three", map[string]string{"app/a.yaml": gateWith(s.name, "gate-crashing:3", 3, "v1")})
	w := s.until("has gone back", func(w client.Ward) bool { return w.Rejected != "" && w.Run.Number == 0 })
	assert.Contains(t, w.Rejected, "Deployment/gate-new container app crash-loops, exit 2")
	assert.InDelta(t, 100, shareSeen(t, s.host(), "gate-quick:2", 50), 0)
}

// tills is a StatefulSet that reads a ConfigMap, with a Service and a route that leads to it.
func tills(host, image, fare string) string {
	return strings.Replace(strings.Replace(gateWith(host, image, 4, "v1"), "kind: Deployment", "kind: StatefulSet", 1), `containers: [{name: app,`, `containers: [{name: app, envFrom: [{configMapRef: {name: fares}}],`, 1) + `---
apiVersion: v1
kind: ConfigMap
metadata: {name: fares}
data: {day: "` + fare + `"}
`
}

// images are those of the tills, by the names of their Pods.
func (s *service) images() map[string]string {
	s.t.Helper()
	out := map[string]string{}
	all, err := s.objects(schema.GroupVersionResource{Version: "v1", Resource: "pods"}).List(context.Background(), metav1.ListOptions{})
	require.NoError(s.t, err)
	for _, p := range all.Items {
		c, _, err := unstructured.NestedSlice(p.Object, "spec", "containers")
		require.NoError(s.t, err)
		out[p.GetName()] = strings.TrimPrefix(c[0].(map[string]any)["image"].(string), "registry.brindle.example/")
	}
	return out
}

// TestACanaryOfAStatefulSet makes some of its own Pods new, the highest: they alone read the new settings, a check that wards share asks
// them through the API server, and when they crash they do not keep it from going back.
func TestACanaryOfAStatefulSet(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.ok("metrics", "add", "harbour-metrics", metrics)
	const checks = "vigila: checks/v1\nchecks:\n  answers: {request: {service: gate, path: /}, good: 'status == 200 && body.contains(\"gate\") && old.status == 200', every: 1s}\n"
	s.push("All", map[string]string{"app/a.yaml": tills(s.name, "gate-quick:1", "2"), ".vigila/checks.yaml": checks})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s") + `canary:
  - of: StatefulSet/gate
    by: replicas
    shares: [{at: 25, until: person}, {at: 60, for: 2s}]
    within: 10m
    checks: [answers]
    traffic: {query: 'sum(rate(http_requests_total{pod=~"${{ new.pods }}"}[5s]))', from: harbour-metrics, every: 1s}
`)
	s.until("is in step", inStepAndReady)
	s.fails(1, "is asked by the checks of", "metrics", "remove", "harbour-metrics")
	l := load(t, s.host(), 50)

	s.push("Two", map[string]string{"app/a.yaml": tills(s.name, "gate-quick:2", "3")})
	parted := map[string]string{"gate-0": "gate-quick:1", "gate-1": "gate-quick:1", "gate-2": "gate-quick:1", "gate-3": "gate-quick:2"}
	c := s.canaryUntil("knows how the new one does", func(c client.Canary) bool {
		if !at(0)(c) || c.Workloads[0].Checks[0].Last != "good" {
			return false
		}
		seen := c.Workloads[0].SeenShare // the first rates over a few seconds are of Pods of different ages
		return seen != nil && math.Abs(*seen-25) <= 15
	})
	assert.Equal(t, parted, s.images())
	assert.Equal(t, []any{true, 3, 1}, []any{c.Workloads[0].InPlace, c.Workloads[0].OldSize, c.Workloads[0].NewSize})
	assert.Equal(t, "Service/gate /", c.Workloads[0].Checks[0].Text)
	assert.Equal(t, "2", s.live("configmaps", "fares").Object["data"].(map[string]any)["day"], "the old ones read the old settings")
	assert.Zero(t, s.until("is there", func(client.Ward) bool { return true }).Drifted)
	assert.Contains(t, s.ok("canary", "show", s.name+"@quay"), "TRAFFIC SEEN")
	s.kill()
	s.start()
	s.canaryUntil("goes on at 25 %", func(c client.Canary) bool { return at(0)(c) && c.GoingOn })
	assert.Equal(t, parted, s.images())
	s.ok("canary", "next", s.name+"@quay")
	s.until("is in step", inStepAndReady)
	assert.Equal(t, map[string]string{"gate-0": "gate-quick:2", "gate-1": "gate-quick:2", "gate-2": "gate-quick:2", "gate-3": "gate-quick:2"}, s.images())
	assert.Equal(t, "3", s.live("configmaps", "fares").Object["data"].(map[string]any)["day"])

	s.push("Three", map[string]string{"app/a.yaml": tills(s.name, "gate-crashing:3", "4")})
	w := s.until("has gone back", func(w client.Ward) bool {
		return w.Rejected != "" && w.Run.Number == 0 && w.Health == "ready"
	})
	assert.Contains(t, w.Rejected, "StatefulSet/gate")
	assert.Equal(t, "gate-quick:2", s.images()["gate-3"])
	assert.Equal(t, "3", s.live("configmaps", "fares").Object["data"].(map[string]any)["day"])
	assert.NotContains(t, s.ok("ward", "show", s.name+"@quay"), "fares-new")
	l.end()
	sent, lost := l.lost()
	assert.Empty(t, lost, "of %d", sent)
}

// TestAStatefulSetGoesBack: Kubernetes waits for the Pod of the failed revision for ever; a rollback does not.
func TestAStatefulSetGoesBack(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("All", map[string]string{"app/a.yaml": tills(s.name, "gate-quick:1", "2")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 20s"))
	s.until("is in step", inStepAndReady)
	s.push("Broken", map[string]string{"app/a.yaml": tills(s.name, "gate-broken:2", "3")})
	w := s.until("has gone back", func(w client.Ward) bool {
		return w.Rejected != "" && w.Run.Number == 0 && w.Health == "ready"
	})
	assert.Contains(t, w.Rejected, "StatefulSet/gate")
	assert.Equal(t, "gate-quick:1", s.images()["gate-3"])
}

// TestACheckThatThereIsNone is told on the ward before a change comes, stands in its way, and goes once it is written.
func TestACheckThatThereIsNone(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("All", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:1", 2, "v1")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s") + "canary: [{of: Deployment/gate, by: HTTPRoute/gate, shares: [{at: 50, for: 1s}], within: 5m, checks: [answers]}]\n")
	s.until("is in step", inStepAndReady)
	assert.Contains(t, s.ok("ward", "show", s.name+"@quay"), `canary.checks names "answers"`)
	s.push("Two", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:2", 2, "v1")})
	w := s.until("is stopped", func(w client.Ward) bool { return w.NeedsYou })
	assert.Contains(t, w.Says, `canary.checks names "answers"`)
	s.push("Checks", map[string]string{".vigila/checks.yaml": "vigila: checks/v1\nchecks:\n  answers: {request: {service: gate}, good: status == 200, every: 1s}\n"})
	s.until("is in step", inStepAndReady)
	assert.Positive(t, s.canary().Workloads[0].Checks[0].Asked)
}

// TestSeveralCanariesMoveTogether, and a newer revision that replaces one that goes on has it go back first.
func TestSeveralCanariesMoveTogether(t *testing.T) {
	t.Parallel()
	s := newService(t)
	two := func(image string) string {
		gate := gateWith(s.name, image, 2, "v1")
		till := strings.ReplaceAll(strings.ReplaceAll(gateWith(s.name, image, 2, "v1"), "gate}", "till}"), "name: gate,", "name: till,")
		till, _, _ = strings.Cut(till, "---")
		return gate + "---\n" + till
	}
	s.push("All", map[string]string{"app/a.yaml": two("gate-quick:1")})
	s.add(s.wardFile("sync: auto, every: 1s, newer: replace", "within: 60s") + `canary:
  - {of: Deployment/gate, by: HTTPRoute/gate, shares: [{at: 20, for: 2s}, {at: 50, until: person}], within: 10m}
  - {of: Deployment/till, by: replicas, shares: [{at: 50, for: 1s}], within: 10m}
`)
	s.until("is in step", inStepAndReady)
	s.push("Two", map[string]string{"app/a.yaml": two("gate-quick:2")})
	c := s.canaryUntil("both are at their second share", at(1))
	assert.Len(t, c.Workloads, 2)
	assert.True(t, c.WaitsForPerson)
	first := c.Entry
	s.push("Three", map[string]string{"app/a.yaml": two("gate-quick:3")})
	c = s.canaryUntil("the next has taken over", func(c client.Canary) bool { return c.Entry != first && at(1)(c) })
	assert.Contains(t, s.ok("logbook", s.name+"@quay"), "stopped")
	assert.Contains(t, c.Workloads[0].OldImage, "gate-quick:1", "what went back was never through")
	s.ok("canary", "finish", s.name+"@quay")
	s.until("is in step", inStepAndReady)
	for name, image := range s.images() {
		assert.Equal(t, "gate-quick:3", image, name)
	}
}

// TestCanariesKilledAtAnyMoment kills the service, as a crash does, at random moments of three canaries under steady traffic: each goes
// through, none goes back, no request is lost, and nothing is left beside.
func TestCanariesKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("All", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:1", 2, "v1")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s") + `canary:
  - of: Deployment/gate
    by: HTTPRoute/gate
    shares: [{at: 10, for: 1s}, {at: 50, for: 1s}]
    within: 10m
`)
	s.until("is in step", inStepAndReady)
	l := load(t, s.host(), 50)
	r := rand.New(rand.NewPCG(26, uint64(time.Now().UnixNano())))
	kills := 0
	for version := 2; version <= 4; version++ {
		head := s.push("Another", map[string]string{"app/a.yaml": gateWith(s.name, fmt.Sprintf("gate-quick:%d", version), 2, "v1")})
		through := func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Id == head }
		for end := time.Now().Add(2 * patience); !through(s.ward()) && kills < 8*version; {
			require.True(t, time.Now().Before(end), "it never goes through")
			time.Sleep(time.Duration(100+r.IntN(1500)) * time.Millisecond)
			s.kill()
			kills++
			s.start()
		}
		s.until("is in step", through)
		c := s.canary()
		assert.Zero(t, c.Back.At, "after %d kills: %s\n%+v", kills, c.Back.Reason, c.Happened)
		assert.InDelta(t, 100, shareSeen(t, s.host(), fmt.Sprintf("gate-quick:%d", version), 20), 0)
	}
	l.end()
	sent, lost := l.lost()
	assert.Empty(t, lost, "of %d, with %d kills", sent, kills)
	assert.NotContains(t, s.ok("ward", "show", s.name+"@quay"), "gate-new")
	t.Logf("%d kills, %d requests", kills, sent)
}

// TestACanaryInTheConsole is seen on its ward's page, held, sent on and sent back from there; a chart draws each check.
func TestACanaryInTheConsole(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.ok("metrics", "add", "harbour-metrics", metrics)
	s.push("All", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:1", 4, "v1")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s") + asksPeople)
	s.until("is in step", inStepAndReady)
	s.push("Two", map[string]string{"app/a.yaml": gateWith(s.name, "gate-quick:2", 4, "v1")})
	s.canaryUntil("waits at 20 %", at(0))
	s.canaryUntil("was asked about", func(c client.Canary) bool { return len(c.Workloads[0].Checks[0].Points) > 1 })

	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("waits for a person")
	b.open(s.url + "/wards/" + s.name + "@quay")
	b.shows("Canary of sync #2")
	b.shows("gate-quick:1")
	b.shows("gate-quick:2")
	drawn, err := false, error(nil)
	for end := time.Now().Add(patience); !drawn && err == nil && time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		drawn, err = chromedp.Run(b.ctx, chromedp.Evaluate[bool](`[...document.querySelectorAll("figure canvas")].some(c => { const d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data; return d.some(v => v > 0); })`))
	}
	require.NoError(t, err)
	assert.True(t, drawn, "the check is drawn")
	b.click("Hold here")
	b.shows("held by admin")
	b.click("Go on to 50 %")
	s.canaryUntil("waits at 50 %", at(1))
	b.shows("sent on by admin")
	b.click("Send back")
	b.shows("Send the canary back")
	b.do(chromedp.SendKeys(chromedp.Search(`//label[contains(., "Why, for whoever")]/input`), "squeaks"))
	_, err = chromedp.Run(b.ctx, chromedp.Evaluate[bool](`[...document.querySelectorAll("[role=dialog] button")].find(e => e.textContent === "Send back").click() || true`))
	require.NoError(t, err)
	w := s.until("has gone back", func(w client.Ward) bool { return w.Rejected != "" && w.Run.Number == 0 })
	assert.Contains(t, w.Rejected, "sent back by admin: squeaks")
	b.shows("Went back to")
	b.opens(`//button[contains(., "#2 sync")]`, "The canary took")
	b.shows("sent back by admin: squeaks")
}
