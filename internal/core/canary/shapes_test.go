package canary

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// fareGate is a service with its route, its settings and one canary, at an image and a setting.
func fareGate(t require.TestingT, image, fare string) Declared {
	return read(t, fmt.Sprintf(`
apiVersion: apps/v1
kind: Deployment
metadata: {name: fare-gate, namespace: ticketing, labels: {vigila.dev/ward: fare-gate}}
spec:
  replicas: 4
  selector: {matchLabels: {app: fare-gate}}
  template:
    metadata: {labels: {app: fare-gate, tier: web}}
    spec:
      containers:
        - name: app
          image: %s
          envFrom: [{configMapRef: {name: fares}}, {secretRef: {name: keys}}]
          env: [{name: X, valueFrom: {configMapKeyRef: {name: fares, key: x}}}]
      volumes: [{name: a, configMap: {name: fares}}, {name: b, projected: {sources: [{secret: {name: keys}}]}}]
---
apiVersion: v1
kind: ConfigMap
metadata: {name: fares, namespace: ticketing}
data: {x: %q}
---
apiVersion: v1
kind: Service
metadata: {name: fare-gate, namespace: ticketing}
spec: {type: LoadBalancer, clusterIP: 10.0.0.9, selector: {app: fare-gate}, ports: [{port: 80, targetPort: 8080, nodePort: 30001}]}
---
apiVersion: v1
kind: Service
metadata: {name: timetable, namespace: ticketing}
spec: {selector: {app: timetable}, ports: [{port: 80}]}
---
apiVersion: gateway.networking.k8s.io/v1
kind: HTTPRoute
metadata: {name: fare-gate, namespace: ticketing}
spec:
  rules:
    - matches: [{path: {type: PathPrefix, value: /fares}}]
      backendRefs: [{name: fare-gate, port: 80, weight: 3}, {name: timetable, port: 80}]
    - backendRefs: [{name: timetable, port: 80}]
`, image, fare))
}

func read(t require.TestingT, text string) Declared {
	d := Declared{}
	for _, doc := range strings.Split(text, "\n---\n") {
		v, err := object.DecodeYAML("x.yaml", object.Document{Line: 1, Text: []byte(doc)})
		require.NoError(t, err)
		o, err := object.FromBody(v.(map[string]any))
		require.NoError(t, err)
		d[o.Ref] = o
	}
	return d
}

var byRoute = ward.Canary{Of: "Deployment/fare-gate", Routes: []string{"HTTPRoute/fare-gate"}, Within: time.Hour,
	Shares: []ward.Share{{At: 5, For: time.Minute}, {At: 20, For: time.Minute}, {At: 80, Person: true}}, Checks: []string{"errors"}}

func changed(was, will Declared) func(object.Ref) bool {
	return func(r object.Ref) bool { return object.Hash(was[r].Body) != object.Hash(will[r].Body) }
}

func find(t require.TestingT, c ward.Canary, was, will Declared) *Target {
	all, err := Find(ward.Ward{Canary: []ward.Canary{c}}, was, will, changed(was, will))
	require.NoError(t, err)
	require.Len(t, all, 1)
	return all[0]
}

func yamlOf(t *testing.T, v any) string {
	b, err := yaml.Marshal(v)
	require.NoError(t, err)
	return string(b)
}

func TestOnlyAChangedTemplateMakesACanary(t *testing.T) {
	was := fareGate(t, "a:1", "1")
	w := ward.Ward{Canary: []ward.Canary{byRoute}}
	for name, c := range map[string]struct {
		was, will Declared
		want      int
	}{
		"another image":          {was, fareGate(t, "a:2", "1"), 1},
		"nothing":                {was, fareGate(t, "a:1", "1"), 0},
		"another setting alone":  {was, fareGate(t, "a:1", "2"), 0},
		"a first sync":           {Declared{}, fareGate(t, "a:2", "1"), 0},
		"the workload goes away": {was, Declared{}, 0},
	} {
		all, err := Find(w, c.was, c.will, changed(c.was, c.will))
		require.NoError(t, err, name)
		assert.Len(t, all, c.want, name)
	}
	scaled := fareGate(t, "a:1", "1")
	for ref, o := range scaled {
		if ref.Kind == "Deployment" {
			asMap(o.Body["spec"])["replicas"] = int64(9)
		}
	}
	all, err := Find(w, was, scaled, changed(was, scaled))
	require.NoError(t, err)
	assert.Empty(t, all, "another size is no other template")
}

func TestWhatCanNotWorkIsSaid(t *testing.T) {
	was := fareGate(t, "a:1", "1")
	for name, c := range map[string]struct {
		change func(was, will Declared)
		route  string
		want   string
	}{
		"no such route": {route: "HTTPRoute/other", want: "this ward keeps no HTTPRoute/other"},
		"it leads elsewhere": {change: func(was, _ Declared) {
			delete(was, object.Ref{Kind: "Service", Namespace: "ticketing", Name: "fare-gate"})
		}, want: "no rule of HTTPRoute/fare-gate leads to a Service"},
		"the route goes away": {change: func(_, will Declared) { delete(will, routeRef) }, want: "takes HTTPRoute/fare-gate away"},
		"a name is taken": {change: func(_, will Declared) {
			o := will[object.Ref{Kind: "Service", Namespace: "ticketing", Name: "fare-gate"}]
			o.Ref.Name = "fare-gate-new"
			will[o.Ref] = o
		}, want: "Service/fare-gate-new is declared"},
	} {
		a, b := fareGate(t, "a:1", "1"), fareGate(t, "a:2", "1")
		if c.change != nil {
			c.change(a, b)
		}
		canary := byRoute
		if c.route != "" {
			canary.Routes = []string{c.route}
		}
		_, err := Find(ward.Ward{Canary: []ward.Canary{canary}}, a, b, changed(was, b))
		assert.ErrorContains(t, err, c.want, name)
	}
}

var routeRef = object.Ref{Group: "gateway.networking.k8s.io", Kind: "HTTPRoute", Namespace: "ticketing", Name: "fare-gate"}

func TestTheTwinReadsItsOwnSettings(t *testing.T) {
	target := find(t, byRoute, fareGate(t, "a:1", "1"), fareGate(t, "a:2", "2"))
	copies := target.Copies()
	require.Len(t, copies, 1, "the Secret is none of the ward's")
	assert.Equal(t, "fares-new", copies[0].Ref.Name)
	assert.Contains(t, yamlOf(t, copies[0].Body), `x: "2"`)
	twin := yamlOf(t, target.TwinOf(3, 4).Body)
	for _, want := range []string{"image: a:2", "name: fare-gate-new", "replicas: 3", "vigila.dev/track: new", "tier: web", "vigila.dev/ward: fare-gate"} {
		assert.Contains(t, twin, want)
	}
	assert.Equal(t, 3, strings.Count(twin, "name: fares-new"), "every place that names it")
	assert.NotContains(t, twin, "name: fares\n")
	assert.Equal(t, 1, strings.Count(twin, "name: keys\n")+strings.Count(twin, "secretName: keys\n")-1, "what is not changed is read as it is")
	assert.NotContains(t, yamlOf(t, target.template.Body), "track", "what is declared stays as it is")
}

func TestTwoServicesTellTheOldFromTheNew(t *testing.T) {
	all := find(t, byRoute, fareGate(t, "a:1", "1"), fareGate(t, "a:2", "1")).Services("abc")
	require.Len(t, all, 2)
	old, next := yamlOf(t, all[0].Body), yamlOf(t, all[1].Body)
	assert.Contains(t, old, "pod-template-hash: abc")
	assert.Contains(t, old, "name: fare-gate-old")
	assert.Contains(t, next, "vigila.dev/track: new")
	for _, s := range []string{old, next} {
		assert.Contains(t, s, "app: fare-gate")
		assert.Contains(t, s, "targetPort: 8080")
		for _, no := range []string{"nodePort", "clusterIP", "LoadBalancer"} {
			assert.NotContains(t, s, no)
		}
	}
}

func TestWeightsKeepTheirProportions(t *testing.T) {
	target := find(t, byRoute, fareGate(t, "a:1", "1"), fareGate(t, "a:2", "1"))
	for share, want := range map[int]string{
		0:   "fare-gate-old 3, fare-gate-new 0, timetable 1",
		5:   "fare-gate-old 57, fare-gate-new 3, timetable 20",
		20:  "fare-gate-old 12, fare-gate-new 3, timetable 5",
		100: "fare-gate-old 0, fare-gate-new 3, timetable 1",
	} {
		r, err := target.Weighted(target.routes[0], share)
		require.NoError(t, err)
		rules := asList(asMap(r.Body["spec"])["rules"])
		require.Len(t, rules, 3, "one more, for who asks for the new version")
		var got []string
		for _, b := range asList(asMap(rules[1])["backendRefs"]) {
			got = append(got, fmt.Sprintf("%s %d", asMap(b)["name"], asMap(b)["weight"]))
		}
		assert.Equal(t, want, strings.Join(got, ", "), "at %d %%", share)
		asked := yamlOf(t, rules[0])
		assert.Contains(t, asked, "name: X-Track")
		assert.Contains(t, asked, "value: /fares", "what else the rule matches")
		assert.Contains(t, asked, "fare-gate-new")
		assert.NotContains(t, asked, "timetable")
		assert.Equal(t, yamlOf(t, asList(asMap(target.routes[0].Body["spec"])["rules"])[1]), yamlOf(t, rules[2]), "a rule that leads elsewhere stays")
	}
	heavy := target.routes[0]
	heavy.Body = object.Clone(heavy.Body)
	backends(heavy.Body)[0]["weight"] = int64(999_999)
	_, err := target.Weighted(heavy, 33)
	assert.ErrorContains(t, err, "too large")
}

func TestSizes(t *testing.T) {
	for _, c := range []struct {
		live, share int
		replicas    bool
		want        int
	}{
		{4, 0, false, 4}, {4, 5, false, 1}, {4, 20, false, 1}, {4, 50, false, 2}, {4, 80, false, 4}, {4, 100, false, 4}, {0, 20, false, 1}, {10, 33, false, 4},
		{4, 20, true, 1}, {4, 50, true, 4}, {10, 5, true, 1}, {10, 20, true, 3}, {1, 50, true, 1}, {3, 100, true, 3},
	} {
		assert.Equal(t, c.want, Size(c.live, c.share, c.replicas), "%+v", c)
	}
}

// stateful makes a StatefulSet of the Deployment among declared objects.
func stateful(d Declared) Declared {
	for ref, o := range d {
		if ref.Kind == "Deployment" {
			delete(d, ref)
			o.Body["kind"], o.Ref.Kind = "StatefulSet", "StatefulSet"
			d[o.Ref] = o
		}
	}
	return d
}

var inPlace = ward.Canary{Of: "StatefulSet/fare-gate", Within: time.Hour, Checks: []string{"errors"}, Shares: []ward.Share{{At: 20, For: time.Minute}, {At: 60, For: time.Minute}}}

func TestAStatefulSetIsParted(t *testing.T) {
	was := stateful(fareGate(t, "a:1", "1"))
	target := find(t, inPlace, was, stateful(fareGate(t, "a:2", "2")))
	assert.Equal(t, target.Ref, target.Twin)
	assert.NotContains(t, target.Made(), target.Ref, "it stays when the canary is over")
	o := target.TwinOf(2, 5)
	text := yamlOf(t, o.Body)
	for _, want := range []string{"image: a:2", "name: fares-new", "partition: 3", "kind: StatefulSet"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, TrackLabel, "another label would be another template, and all would be made anew at the end")
	spec := asMap(o.Body["spec"])
	spec["template"] = templateOf(was[target.Ref].Body)
	delete(spec, "updateStrategy")
	assert.Equal(t, object.Hash(was[target.Ref].Body), object.Hash(o.Body), "all else is as it was")

	for _, c := range [][3]int{{5, 1, 1}, {5, 20, 1}, {5, 21, 2}, {5, 99, 4}, {2, 60, 1}, {1, 50, 1}, {10, 50, 5}, {0, 20, 1}} {
		assert.Equal(t, c[2], PartOf(c[0], c[1]), "%v", c)
	}
	for want, strategy := range map[string]map[string]any{
		"its Pods are replaced by hand":         {"type": "OnDelete"},
		"it declares a partition of its own, 2": {"type": "RollingUpdate", "rollingUpdate": map[string]any{"partition": int64(2)}},
	} {
		will := stateful(fareGate(t, "a:2", "2"))
		asMap(will[target.Ref].Body["spec"])["updateStrategy"] = strategy
		_, err := Find(ward.Ward{Canary: []ward.Canary{inPlace}}, was, will, changed(was, will))
		assert.ErrorContains(t, err, want)
	}
}

func TestTheSidesOfAStatefulSet(t *testing.T) {
	pod := func(name, hash string, ready string) map[string]any {
		return map[string]any{"kind": "Pod", "metadata": map[string]any{"name": name, "labels": map[string]any{revisionLabel: hash}},
			"status": map[string]any{"phase": "Running", "conditions": []any{map[string]any{"type": "Ready", "status": ready}}}}
	}
	set := func(update string) map[string]any {
		return map[string]any{"spec": map[string]any{"replicas": int64(3)}, "status": map[string]any{"currentRevision": "a", "updateRevision": update}}
	}
	below := []map[string]any{pod("x-2", "b", "True"), pod("x-1", "a", "False"), pod("x-0", "a", "True")}
	assert.Equal(t, Side{Size: 3, Old: []Pod{{"x-0", "", true}, {"x-1", "", false}}, New: []string{"x-2"}}, PartsOf(set("b"), below))
	assert.Empty(t, PartsOf(set("a"), below).New, "before it is parted, all are old")
}

func TestAPodBehindAService(t *testing.T) {
	slice := func(ports []any, pods ...any) map[string]any {
		var all []any
		for _, p := range pods {
			all = append(all, map[string]any{"conditions": map[string]any{"ready": p != "late"}, "targetRef": map[string]any{"name": p}})
		}
		return map[string]any{"ports": ports, "endpoints": all}
	}
	web := map[string]any{"name": "web", "port": int64(8080)}
	admin := map[string]any{"name": "admin", "port": float64(9000)}
	both := []map[string]any{slice([]any{web, admin}, "old", "new", "late")}
	for _, c := range []struct {
		slices  []map[string]any
		port    string
		pods    []string
		want    string
		problem string
	}{
		{[]map[string]any{slice([]any{web}, "old", "new")}, "", []string{"new"}, "new:8080", ""},
		{both, "admin", []string{"new"}, "new:9000", ""},
		{both, "", []string{"new"}, "", "has several ports; name one of them: service: gate:web"},
		{both, "wep", []string{"new"}, "", "has no port wep; did you mean web?"},
		{both, "web", []string{"late"}, "", "leads to no Pod of this version that is ready"},
		{nil, "", []string{"new"}, "", "leads to no Pod"},
	} {
		pod, port, problem := Endpoint(c.slices, "gate", c.port, c.pods, 7)
		assert.Contains(t, problem, c.problem)
		if c.want != "" {
			assert.Equal(t, c.want, fmt.Sprint(pod, ":", port))
		}
	}
}

func TestTheOldServiceFollowsARestart(t *testing.T) {
	pods := func(of map[string]int) (out []Pod) {
		for hash, n := range of {
			for range n {
				out = append(out, Pod{Name: fmt.Sprint(hash, len(out)), Hash: hash, Ready: true})
			}
		}
		return out
	}
	for name, c := range map[string]struct {
		before, newest string
		ready          map[string]int
		want           string
	}{
		"the first":                {"", "a", map[string]int{"a": 4}, "a"},
		"nothing has changed":      {"a", "a", map[string]int{"a": 4}, "a"},
		"none of the new is ready": {"a", "b", map[string]int{"a": 4}, "a"},
		"a quarter is":             {"a", "b", map[string]int{"a": 3, "b": 1}, "a"},
		"half is":                  {"a", "b", map[string]int{"a": 2, "b": 2}, "b"},
		"the old ones are gone":    {"a", "b", map[string]int{}, "b"},
	} {
		assert.Equal(t, c.want, Side{Size: 4, Newest: c.newest, Old: pods(c.ready)}.hash(c.before), name)
	}
}
