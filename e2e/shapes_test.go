package e2e

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/client"
)

const shapeDefinition = `apiVersion: apiextensions.k8s.io/v1
kind: CustomResourceDefinition
metadata: {name: shapes.shape.brindle.example}
spec:
  group: shape.brindle.example
  names: {kind: Shape, plural: shapes, singular: shape, listKind: ShapeList}
  scope: Namespaced
  versions:
    - &v1
      name: v1
      served: true
      storage: true
      subresources: {status: {}, scale: {specReplicasPath: .spec.replicas, statusReplicasPath: .status.replicas}}
      schema:
        openAPIV3Schema:
          type: object
          properties:
            status: {type: object, x-kubernetes-preserve-unknown-fields: true}
            spec:
              type: object
              properties:
                replicas: {type: integer}
                tags: {type: array, x-kubernetes-list-type: set, items: {type: string}}
                doors: {type: array, x-kubernetes-list-type: map, x-kubernetes-list-map-keys: [deck, side], items: {type: object, required: [deck, side], properties: {deck: {type: integer}, side: {type: string}, open: {type: boolean}}}}
                route: {type: array, x-kubernetes-list-type: atomic, items: {type: string}}
                grid: {type: array, items: {type: array, items: {type: integer}}}
                crew: {type: object, additionalProperties: {type: string}}
                seal: {type: object, x-kubernetes-map-type: atomic, additionalProperties: {type: string}}
                draught: {x-kubernetes-int-or-string: true}
                note: {type: string, nullable: true}
                weight: {type: number}
                hold: {type: object, x-kubernetes-preserve-unknown-fields: true}
                empty: {type: object, properties: {x: {type: string}}}
                lantern: {type: string, default: lit}
    - name: v2
      served: true
      storage: false
      subresources: {status: {}, scale: {specReplicasPath: .spec.replicas, statusReplicasPath: .status.replicas}}
      schema: {openAPIV3Schema: {type: object, x-kubernetes-preserve-unknown-fields: true}}
---
apiVersion: apiextensions.k8s.io/v1
kind: CustomResourceDefinition
metadata: {name: blobs.shape.brindle.example}
spec:
  group: shape.brindle.example
  names: {kind: Blob, plural: blobs, singular: blob, listKind: BlobList}
  scope: Namespaced
  versions: [{name: v1, served: true, storage: true, schema: {openAPIV3Schema: {type: object, x-kubernetes-preserve-unknown-fields: true}}}]
`

const shapes = `apiVersion: shape.brindle.example/v1
kind: Shape
metadata: {name: ferry}
spec:
  replicas: 1
  tags: [a, b]
  doors: [{deck: 1, side: port, open: true}, {deck: 1, side: starboard, open: true}]
  route: [quay, skerry]
  grid: [[1, 2], [3]]
  crew: {mate: "1", master: "1"}
  seal: {wax: red}
  draught: 2
  weight: 1.0
  hold: {crates: {"7": full}}
  empty: {}
---
apiVersion: shape.brindle.example/v1
kind: Blob
metadata: {name: schemaless}
spec: {list: [{name: x, n: 1}, {name: y, n: 2}], map: {a: {b: 1}}, gone: 1}
---
apiVersion: v1
kind: Service
metadata: {name: ports}
spec: {selector: {app: x}, ports: [{name: a, port: 53, protocol: TCP}, {name: b, port: 53, protocol: UDP}]}
---
apiVersion: networking.k8s.io/v1
kind: NetworkPolicy
metadata: {name: wall}
spec: {podSelector: {}, policyTypes: [Ingress]}
---
apiVersion: v1
kind: Secret
metadata: {name: door}
stringData: {password: low-tide}
---
apiVersion: v1
kind: ConfigMap
metadata: {name: plain, labels: {tier: dock}, annotations: {example.com/note: gale}}
data: {"a.b": "1", gone: "1"}
`

// TestEveryShapeOnTheRealServer: whatever a field looks like, a change of it by another client is seen, at the right
// place and only there; and it is put back.
func TestEveryShapeOnTheRealServer(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Shapes", map[string]string{"app/definition.yaml": shapeDefinition, "app/shapes.yaml": shapes})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 60s"))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	s.ok("sync", s.name)
	s.until("nothing that was filled in is drift", inStepAndReady)

	of := func(version, resource string) schema.GroupVersionResource {
		return schema.GroupVersionResource{Group: "shape.brindle.example", Version: version, Resource: resource}
	}
	ferry := func(spec string) {
		s.patch("hurry", of("v1", "shapes"), "ferry", types.MergePatchType, `{"spec":`+spec+`}`)
	}
	seen := func(kind, name string) string {
		var out []string
		for _, o := range s.detail().Outline {
			if o.Kind == kind && o.Name == name {
				for _, f := range o.Fields {
					text := f.Path + " " + string(f.Change)
					if f.Who != "hurry" || f.When.IsZero() {
						text += " by " + f.Who
					}
					out = append(out, text)
				}
			}
		}
		return strings.Join(out, "; ")
	}
	for _, c := range []struct {
		what, kind, name, want string
		do                     func()
	}{
		{"an item of a set", "Shape", "ferry", "spec.tags[b] removed", func() { ferry(`{"tags":["a","c"]}`) }},
		{"a key of a map list", "Shape", "ferry", "spec.doors[deck=1,side=starboard].open changed", func() {
			ferry(`{"doors":[{"deck":2,"side":"port"},{"deck":1,"side":"starboard","open":false},{"deck":1,"side":"port","open":true}]}`)
		}},
		{"the order of an atomic list", "Shape", "ferry", "spec.route changed", func() { ferry(`{"route":["skerry","quay"]}`) }},
		{"a list in a list", "Shape", "ferry", "spec.grid changed", func() { ferry(`{"grid":[[1,2],[4]]}`) }},
		{"a key of a map", "Shape", "ferry", "spec.crew.mate changed", func() { ferry(`{"crew":{"mate":"2","cook":"1"}}`) }},
		{"a key that is gone", "Shape", "ferry", "spec.crew.mate removed", func() { ferry(`{"crew":{"mate":null}}`) }},
		{"an atomic map", "Shape", "ferry", "spec.seal changed", func() { ferry(`{"seal":{"wax":"red","ring":"gold"}}`) }},
		{"a number that becomes a text", "Shape", "ferry", "spec.draught changed", func() { ferry(`{"draught":"2m"}`) }},
		{"an unknown field in an open map", "Shape", "ferry", "spec.hold.crates.7 changed", func() { ferry(`{"hold":{"crates":{"7":"empty"}}}`) }},
		{"through another version", "Shape", "ferry", "spec.crew.master changed", func() {
			s.patch("hurry", of("v2", "shapes"), "ferry", types.MergePatchType, `{"spec":{"crew":{"master":"2"}}}`)
		}},
		{"through the scale", "Shape", "ferry", "spec.replicas changed by hurry", func() { // the API server keeps no time for it
			s.patch("hurry", of("v1", "shapes"), "ferry", types.MergePatchType, `{"spec":{"replicas":3}}`, "scale")
		}},
		{"without a schema, a list is one field", "Blob", "schemaless", "spec.list changed", func() {
			s.patch("hurry", of("v1", "blobs"), "schemaless", types.MergePatchType, `{"spec":{"list":[{"name":"x","n":9},{"name":"y","n":2}]}}`)
		}},
		{"without a schema, deep in a map", "Blob", "schemaless", "spec.map.a.b changed", func() {
			s.patch("hurry", of("v1", "blobs"), "schemaless", types.MergePatchType, `{"spec":{"map":{"a":{"b":2}}}}`)
		}},
		{"one of two ports of one number", "Service", "ports", "spec.ports[port=53,protocol=UDP].name changed", func() {
			s.patch("hurry", schema.GroupVersionResource{Version: "v1", Resource: "services"}, "ports", types.MergePatchType, `{"spec":{"ports":[{"name":"c","port":53,"protocol":"UDP"},{"name":"a","port":53,"protocol":"TCP"}]}}`)
		}},
		{"an atomic selector that we left empty", "NetworkPolicy", "wall", "spec.podSelector changed", func() {
			s.patch("hurry", schema.GroupVersionResource{Group: "networking.k8s.io", Version: "v1", Resource: "networkpolicies"}, "wall", types.MergePatchType, `{"spec":{"podSelector":{"matchLabels":{"a":"b"}}}}`)
		}},
		{"what was declared as stringData", "Secret", "door", "data.password changed", func() {
			s.patch("hurry", schema.GroupVersionResource{Version: "v1", Resource: "secrets"}, "door", types.MergePatchType, `{"stringData":{"password":"high-tide"}}`)
		}},
		{"a label and an annotation", "ConfigMap", "plain", "metadata.annotations[example.com/note] changed; metadata.labels.tier changed", func() {
			s.patch("hurry", configMaps, "plain", types.MergePatchType, `{"metadata":{"labels":{"tier":"sea"},"annotations":{"example.com/note":"calm"}}}`)
		}},
		{"a key with a dot", "ConfigMap", "plain", "data[a.b] changed", func() { s.patch("hurry", configMaps, "plain", types.MergePatchType, `{"data":{"a.b":"2"}}`) }},
	} {
		c.do()
		got := ""
		s.until(c.what+" is seen", func(w client.Ward) bool {
			got = seen(c.kind, c.name)
			return w.Drifted == 1 && got != ""
		})
		if strings.HasSuffix(c.want, "removed") { // nobody owns what is gone
			got, _, _ = strings.Cut(got, " by ")
		}
		assert.Equal(t, c.want, got, c.what)
		s.ok("sync", s.name)
		s.until(c.what+" is put back", func(w client.Ward) bool { return w.Drifted == 0 && w.Run.Number == 0 })
	}

	// None of these is drift: a status, what a default fills in, what others put into an empty map, 1 for 1.0.
	s.patch("controller", of("v1", "shapes"), "ferry", types.MergePatchType, `{"status":{"replicas":1}}`, "status")
	ferry(`{"lantern":"dim","empty":{"x":"y"},"weight":1,"note":null}`)
	s.patch("hurry", configMaps, "plain", types.MergePatchType, `{"data":{"seen":"yes"}}`)
	w := s.until("all of it was looked at", func(w client.Ward) bool {
		o := s.object("ConfigMap", "plain")
		return slices.Contains(pathsOf(o.Additions), "data.seen")
	})
	assert.Zero(t, w.Drifted)
	assert.Subset(t, pathsOf(s.object("Shape", "ferry").Additions), []string{"spec.empty.x", "spec.lantern"})

	// A field that leaves the repository leaves the object.
	s.push("Less", map[string]string{"app/shapes.yaml": strings.NewReplacer(`, gone: "1"`, "", ", gone: 1", "", "  seal: {wax: red}\n", "", "side: starboard, open: true", "side: starboard", "tags: [a, b]", "tags: [b]").Replace(shapes)})
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	s.ok("sync", s.name)
	o, err := s.objects(of("v1", "shapes")).Get(context.Background(), "ferry", metav1.GetOptions{})
	require.NoError(t, err)
	spec, _, _ := unstructured.NestedMap(o.Object, "spec")
	assert.NotContains(t, spec, "seal")
	assert.ElementsMatch(t, []any{"b", "c"}, spec["tags"], "a is gone; c is of another")
	assert.NotContains(t, fmt.Sprint(spec["doors"]), "map[deck:1 open:true side:starboard]")
	data, _, _ := unstructured.NestedStringMap(live(t, "", "v1", "configmaps", s.name, "plain").Object, "data")
	assert.Equal(t, map[string]string{"a.b": "1", "seen": "yes"}, data, "and what another added stays")
	for _, o := range s.detail().Outline {
		if o.Kind == "CustomResourceDefinition" { // the namespace goes with the test's lab, the definitions serve nobody else
			assert.EqualValues(t, "ready", o.Health)
		}
	}
}

// faulty is an API server that has bad moments: what it does with a request is up to the test.
func faulty(t *testing.T, trouble func(*http.Request) (status int, drop bool)) (kubeconfigFile string) {
	t.Helper()
	cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig())
	require.NoError(t, err)
	target, err := url.Parse(cfg.Host)
	require.NoError(t, err)
	transport, err := rest.TransportFor(cfg)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.Transport, proxy.FlushInterval = transport, -1
	proxy.ErrorLog = nil
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		status, drop := trouble(r)
		switch {
		case drop:
			panic(http.ErrAbortHandler)
		case status != 0:
			w.Header().Set("Content-Type", "application/json")
			if status == http.StatusTooManyRequests {
				w.Header().Set("Retry-After", "0")
			}
			w.WriteHeader(status)
			reason := map[int]string{429: "TooManyRequests", 500: "InternalError", 503: "ServiceUnavailable", 504: "Timeout", 409: "Conflict"}[status]
			_, _ = fmt.Fprintf(w, `{"kind":"Status","apiVersion":"v1","status":"Failure","reason":%q,"message":"a bad moment","code":%d}`, reason, status)
		default:
			r.Host = target.Host
			proxy.ServeHTTP(w, r)
		}
	}))
	server.Config.ErrorLog = nil
	server.TLS = &tls.Config{NextProtos: []string{"http/1.1"}}
	server.StartTLS()
	t.Cleanup(server.CloseClientConnections)
	text, err := yaml.Marshal(map[string]any{"apiVersion": "v1", "kind": "Config", "current-context": "quay",
		"clusters": []any{map[string]any{"name": "quay", "cluster": map[string]any{"server": server.URL, "insecure-skip-tls-verify": true}}},
		"users":    []any{map[string]any{"name": "u", "user": map[string]any{}}},
		"contexts": []any{map[string]any{"name": "quay", "context": map[string]any{"cluster": "quay", "user": "u"}}}})
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "kubeconfig.yaml")
	require.NoError(t, os.WriteFile(file, text, 0o600))
	return file
}

// TestBadMomentsOfTheCluster: busy, broken, conflicting and dropped answers are asked again; a no is a no.
func TestBadMomentsOfTheCluster(t *testing.T) {
	t.Parallel()
	s := newService(t)
	var n atomic.Int64
	var on atomic.Bool
	bad := []int{429, 500, 503, 504, 409, 0}
	file := faulty(t, func(r *http.Request) (int, bool) {
		if !on.Load() || r.Method != http.MethodPatch && r.Method != http.MethodDelete || strings.Contains(r.URL.RawQuery, "dryRun") {
			return 0, false
		}
		i := n.Add(1)
		if i > int64(len(bad)) {
			return 0, false
		}
		status := bad[int(i)%len(bad)]
		return status, status == 0
	})
	s.ok("cluster", "add", "troubled", "--kubeconfig", file)
	text := strings.Replace(s.wardFile("sync: ask, drift: report, every: 1s", "within: 60s"), "cluster: quay", "cluster: troubled", 1)
	s.push("Five objects", map[string]string{"app/a.yaml": config("a", "x", "1"), "app/b.yaml": config("b", "x", "1"), "app/c.yaml": config("c", "x", "1"), "app/d.yaml": config("d", "x", "1")})
	s.add(text)
	id := s.name + "@troubled"
	on.Store(true)
	out := s.ok("sync", id)
	assert.Contains(t, out, "Done in")
	assert.Greater(t, n.Load(), int64(len(bad)))
	assert.Contains(t, out, "tried again: apply", "and what is going on is said")

	// Removals too.
	n.Store(0)
	s.push("One of them", map[string]string{"app/b.yaml": "", "app/c.yaml": ""})
	s.ok("sync", id)
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "b"))

	// A refusal is told at once, with the others of its step still tried.
	on.Store(false)
	s.push("A bad name", map[string]string{"app/a.yaml": config("a", "x", "2"), "app/bad.yaml": config("b", "not/allowed", "1")})
	out, _, code := s.cli("sync", id)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "ConfigMap a  ready")
	assert.Contains(t, out, "ConfigMap/b refused")

	// The queues and how long work waits in them are measured.
	body := s.metrics()
	for _, want := range []string{`vigila_turn_queue_depth{queue="cluster troubled"} 0`, `vigila_turn_queue_depth{queue="fetch"}`, `vigila_turn_wait_seconds_count{queue="cluster troubled"}`, `vigila_turn_wait_seconds_count{queue="render"}`} {
		assert.Contains(t, body, want)
	}
}

// TestWhatAdmissionAddsIsNobodys: what the cluster itself adds to an object on its way in is neither drift nor an
// addition, though it adds it to every apply.
func TestWhatAdmissionAddsIsNobodys(t *testing.T) {
	t.Parallel()
	s := newService(t)
	policy := fmt.Sprintf(`apiVersion: admissionregistration.k8s.io/v1
kind: MutatingAdmissionPolicy
metadata: {name: %[1]s}
spec:
  matchConstraints: {namespaceSelector: {matchLabels: {kubernetes.io/metadata.name: %[1]s}}, resourceRules: [{apiGroups: [""], apiVersions: [v1], operations: [CREATE, UPDATE], resources: [configmaps]}]}
  failurePolicy: Fail
  reinvocationPolicy: Never
  mutations:
    - patchType: ApplyConfiguration
      applyConfiguration: {expression: 'Object{metadata: Object.metadata{annotations: {"stamp.brindle.example/by": "admission"}}}'}
---
apiVersion: admissionregistration.k8s.io/v1
kind: MutatingAdmissionPolicyBinding
metadata: {name: %[1]s}
spec: {policyName: %[1]s}
`, s.name)
	s.push("A policy, and what it stamps", map[string]string{"app/policy.yaml": strings.Replace(strings.Replace(policy, "metadata: {name", `metadata: {annotations: {vigila.dev/step: "-2"}, name`, 2), "\n\n", "\n", -1), "app/config.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: restore, additions: remove, every: 1s", "within: 60s"))
	s.until("it is in step and ready", inStepAndReady)
	stamped := func() bool {
		return live(t, "", "v1", "configmaps", s.name, "horn").GetAnnotations()["stamp.brindle.example/by"] == "admission"
	}
	for end := 0; !stamped() && end < 20; end++ { // the API server takes a policy up a little later
		s.push(fmt.Sprintf("Interval %d", end), map[string]string{"app/config.yaml": config("horn", "interval", fmt.Sprint(31+end, "s"))})
		s.ok("look", s.name)
		s.until("it is synced", inStepAndReady)
	}
	require.True(t, stamped(), "the policy stamps")
	count := len(s.entries())
	s.push("Another interval", map[string]string{"app/config.yaml": config("horn", "interval", "90s")})
	s.ok("look", s.name)
	s.until("it is synced", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Another interval" })
	assert.True(t, stamped())
	w := s.ward()
	assert.Zero(t, w.AddedFields)
	assert.Zero(t, w.Drifted)
	assert.Len(t, s.entries(), count+1, "nothing is put back or taken away")
}

// TestASilentClusterDelaysNobodyElse: a cluster that takes calls and never answers holds up its own wards only.
func TestASilentClusterDelaysNobodyElse(t *testing.T) {
	t.Parallel()
	s := newService(t)
	over := make(chan struct{})
	var silent atomic.Bool
	file := faulty(t, func(r *http.Request) (int, bool) {
		if silent.Load() && r.Method == http.MethodPatch {
			select {
			case <-over:
			case <-r.Context().Done():
			}
			return 0, true
		}
		return 0, false
	})
	defer close(over)
	s.ok("cluster", "add", "silent", "--kubeconfig", file)
	s.push("Config", map[string]string{"app/a.yaml": config("a", "x", "1"), "app/b.yaml": config("b", "x", "1"), "other/c.yaml": config("c", "x", "1")})
	silent.Store(true)
	s.add(strings.Replace(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 120s"), "cluster: quay", "cluster: silent", 1))
	waits := func() client.Ward {
		r, err := s.api.GetWardWithResponse(context.Background(), s.name+"@silent")
		require.NoError(t, s.api.Check(r, err))
		return r.JSON200.Ward
	}
	require.Eventually(t, func() bool { return waits().Run.Number == 1 }, patience, 20*time.Millisecond)
	for i := range 3 {
		name := fmt.Sprintf("quick-%d", i)
		s.add(fmt.Sprintf("vigila: ward/v1\nname: %s\nfrom: {repo: %s, path: other}\ninto: {cluster: quay, namespace: %s-%s, create_namespace: true}\nkeep: {sync: auto, drift: restore, every: 1s}\n", name, s.name, s.name, name))
	}
	for i := range 3 {
		id := fmt.Sprintf("quick-%d@quay", i)
		require.Eventually(t, func() bool {
			r, err := s.api.GetWardWithResponse(context.Background(), id)
			return s.api.Check(r, err) == nil && inStepAndReady(r.JSON200.Ward)
		}, patience, 20*time.Millisecond, id)
	}
	w := waits()
	assert.Equal(t, 1, w.Run.Number, "and that one still waits, and says so: %s", w.Says)
	s.ok("sync", s.name+"@silent", "--stop")
	require.Eventually(t, func() bool { return waits().Run.Number == 0 }, patience, 20*time.Millisecond, "and can be stopped")
}
