package e2e

import (
	"bufio"
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"vigila.dev/vigila/internal/client"
)

// TestStory is the whole main job, in the order a team meets it.
func TestStory(t *testing.T) {
	t.Parallel()
	s := newService(t)
	first := s.push("Set up the planner", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 2), "app/service.yaml": webService, "app/config.yaml": config("berths", "count", "7")})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 60s, otherwise: rollback"))
	w := s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	assert.Equal(t, 4, w.Pending, "the namespace, the config, the service and the deployment")
	assert.Equal(t, first, w.Revision.Id)

	out := s.ok("sync", s.name)
	assert.Contains(t, out, "● Deployment berth-planner  ready")
	assert.Contains(t, out, "Done in")
	s.until("it is in step and ready", inStepAndReady)

	// A commit moves the repository: behind, and exactly that field.
	s.push("Three planners", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 3)})
	s.until("it is behind within the interval", func(w client.Ward) bool { return w.Standing == "behind" && w.Pending == 1 })
	r, err := s.api.DiffWardWithResponse(context.Background(), s.name)
	require.NoError(t, s.api.Check(r, err))
	require.Len(t, r.JSON200.Changes, 1)
	assert.Equal(t, []client.Difference{{Path: "spec.replicas", Change: "changed", From: 2.0, To: 3.0}}, r.JSON200.Changes[0].Fields)
	assert.Empty(t, r.JSON200.Drift)
	s.fails(3, "spec.replicas  2  →  3", "diff", s.name)
	s.ok("sync", s.name)
	s.until("it is in step and ready", inStepAndReady)
	assert.EqualValues(t, 3, replicas(t, s))

	// Another client moves the cluster: drifted, who, which field, both values.
	s.edit("kubectl-scale", "deployment/berth-planner", "spec.replicas=5")
	w = s.until("it is drifted", func(w client.Ward) bool { return w.Standing == "drifted" })
	assert.Equal(t, "kubectl-scale changed spec.replicas of Deployment/berth-planner from 3 to 5", w.Says)
	assert.True(t, w.NeedsYou)
	assert.Zero(t, w.Pending, "the repository did not move")
	var fields []client.Difference
	for _, o := range s.detail().Outline {
		fields = append(fields, o.Fields...)
	}
	require.Len(t, fields, 1)
	assert.Equal(t, "kubectl-scale", fields[0].Who)
	assert.WithinDuration(t, time.Now(), fields[0].When, patience)
	assert.Equal(t, []any{3.0, 5.0}, []any{fields[0].From, fields[0].To})
	s.fails(3, "applied 3  live 5  kubectl-scale", "diff", s.name)
	s.ok("sync", s.name) // put it back
	s.until("it is restored", inStepAndReady)
	assert.EqualValues(t, 3, replicas(t, s))

	// From here on it syncs by itself. A bad image: fails at its deadline, goes back, and is rejected.
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 15s, otherwise: rollback"))
	bad := s.push("A broken planner", map[string]string{"app/deployment.yaml": deployment("berth-crashing:9.9.9", 3)})
	w = s.until("it went back", func(w client.Ward) bool { return w.Rejected != "" && w.Run.Number == 0 && w.Health == "ready" })
	assert.Equal(t, bad, w.Revision.Id)
	assert.NotEqual(t, bad, w.Applied.Id)
	assert.Contains(t, w.Says, "Went back to "+w.Applied.Id[:7])
	assert.Contains(t, w.Says, "container app crash-loops, exit 2, “no fare table”")
	assert.True(t, w.NeedsYou)
	entries := s.entries()
	require.GreaterOrEqual(t, len(entries), 2)
	assert.EqualValues(t, "rollback", entries[0].Kind)
	assert.EqualValues(t, "done", entries[0].Outcome)
	assert.EqualValues(t, "rolled back", entries[1].Outcome)
	image := func() string {
		d := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
		c, _, _ := unstructured.NestedSlice(d.Object, "spec", "template", "spec", "containers")
		v, _ := c[0].(map[string]any)["image"].(string)
		return v
	}
	assert.Equal(t, "registry.brindle.example/berth-planner:1.8.2", image())
	count := len(entries)
	for range 3 { // looked at again and again, and not tried again
		s.ok("look", s.name)
	}
	assert.Len(t, s.entries(), count)

	// Back by hand to the first entry: held there, and it stays when a new commit arrives.
	out = s.ok("rollback", s.name, "1", "--why", "gale")
	assert.Contains(t, out, "Held at #1")
	assert.EqualValues(t, 2, replicas(t, s))
	s.push("Four planners", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.9.0", 4)})
	s.ok("look", s.name)
	w = s.until("the new commit is seen", func(w client.Ward) bool { return w.Revision.Subject == "Four planners" })
	assert.Equal(t, "admin", w.Hold.By)
	assert.Equal(t, 1, w.Hold.Entry)
	assert.EqualValues(t, "behind", w.Standing)
	assert.Zero(t, w.Run.Number)
	assert.EqualValues(t, 2, replicas(t, s), "a rollback sticks")

	// Released, it runs forward.
	assert.Contains(t, s.ok("release", s.name), "runs forward")
	s.until("it ran forward", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Four planners" })
	assert.EqualValues(t, 4, replicas(t, s))

	// The history is there from the first day.
	w = s.ward()
	var stood []string
	for _, x := range w.Watch {
		stood = append(stood, string(x.Standing))
	}
	assert.Contains(t, stood, "behind")
	assert.Contains(t, stood, "drifted")
	assert.NotEmpty(t, w.Runs)
	assert.Contains(t, s.ok("logbook", s.name), "rollback to #1, done")
	assert.Contains(t, s.ok("ward", "show", s.name), "step 0")
	assert.Contains(t, s.ok("ward", "list", "-o", "json"), `"total": 1`)
}

// TestNothingNormalisedIsDrift: defaults, normalised values, what the API server fills in, and status changes
// are never drift.
func TestNothingNormalisedIsDrift(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Everything that is normalised", map[string]string{
		"app/deployment.yaml": deployment("berth-planner:1.8.2", 1), // cpu: 1000m becomes 1
		"app/service.yaml":    webService,                           // clusterIP is filled in
		"app/more.yaml": `apiVersion: v1
kind: Secret
metadata: {name: s}
stringData: {password: tide}
---
apiVersion: batch/v1
kind: CronJob
metadata: {name: c}
spec: {schedule: "0 3 * * *", jobTemplate: {spec: {template: {spec: {restartPolicy: Never, containers: [{name: c, image: registry.brindle.example/c:1, resources: {requests: {memory: 1024Mi}}}]}}}}}
---
apiVersion: networking.k8s.io/v1
kind: NetworkPolicy
metadata: {name: p}
spec: {podSelector: {}, ingress: [{}]}
---
apiVersion: autoscaling/v2
kind: HorizontalPodAutoscaler
metadata: {name: h}
spec: {scaleTargetRef: {apiVersion: apps/v1, kind: Deployment, name: other}, maxReplicas: 3}
`})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 30s, otherwise: stop"))
	s.until("it is in step and ready", inStepAndReady)
	d := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
	limits, _, _ := unstructured.NestedSlice(d.Object, "spec", "template", "spec", "containers")
	assert.Equal(t, "1", limits[0].(map[string]any)["resources"].(map[string]any)["limits"].(map[string]any)["cpu"], "the API server has normalised it")
	ip, _, _ := unstructured.NestedString(live(t, "", "v1", "services", s.name, "berth-planner").Object, "spec", "clusterIP")
	assert.NotEmpty(t, ip)

	// A status change, another client's own field, and then a real change, so that all before it has been seen.
	s.edit("another", "deployment/berth-planner", "metadata.annotations.note=hello", "spec.minReadySeconds=1")
	s.edit("hurry", "service/berth-planner", "spec.selector.app=elsewhere")
	s.until("the real change is drift", func(w client.Ward) bool { return w.Drifted > 0 })
	s.until("the deployment is ready again", func(w client.Ward) bool { return w.Health == "ready" })
	for _, o := range s.detail().Outline {
		if o.Kind == "Service" {
			require.Len(t, o.Fields, 1)
			assert.Equal(t, "hurry", o.Fields[0].Who)
		} else {
			assert.Empty(t, o.Fields, "%s/%s", o.Kind, o.Name)
		}
	}
	// After a restart everything is compared anew, from what was kept.
	s.kill()
	s.start()
	w := s.until("its standing is known again", func(w client.Ward) bool { return w.Standing == "drifted" })
	assert.Equal(t, 1, w.Drifted)
}

func TestDriftIsRestoredAndAFightIsNot(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Config", map[string]string{"app/config.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	for i := range 3 {
		s.edit("horn-tuner", "configmap/horn", "data.interval=10s")
		s.until("it is restored", func(w client.Ward) bool { return inStepAndReady(w) && len(s.entries()) == i+2 })
	}
	s.edit("horn-tuner", "configmap/horn", "data.interval=10s")
	w := s.until("it is contested", func(w client.Ward) bool { return w.Standing == "contested" })
	assert.Contains(t, w.Says, "horn-tuner undid the restore of data.interval")
	assert.Contains(t, w.Todo, "leave: [{of: ConfigMap/horn, fields: [/data/interval]}]")
	assert.Len(t, s.entries(), 5, "one sync, three restores, what was not restored any more, and no more")
	assert.EqualValues(t, "drift", s.entries()[0].Kind)
	assert.Contains(t, s.entries()[0].Why, "horn-tuner changed data.interval of ConfigMap/horn from 30s to 10s")
	s.kill()
	s.start()
	s.until("it is contested after a restart too", func(w client.Ward) bool { return w.Standing == "contested" })
	assert.Len(t, s.entries(), 5, "a restart tells nothing twice")

	// Left to others, it is nobody's business any more, and an apply does not reset it.
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s") + "leave: [{of: ConfigMap/horn, fields: [/data/interval]}]\n")
	id := s.push("Add a pattern", map[string]string{"app/config.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: horn}\ndata: {interval: 30s, pattern: long}\n"})
	s.until("the new key is applied", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Id == id })
	data, _, _ := unstructured.NestedStringMap(live(t, "", "v1", "configmaps", s.name, "horn").Object, "data")
	assert.Equal(t, map[string]string{"interval": "10s", "pattern": "long"}, data)
}

// TestHoldsEndByThemselves: a hold with an end is released then, and the ward runs forward.
func TestHoldsEndByThemselves(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Config", map[string]string{"app/horn.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	assert.Contains(t, s.ok("hold", s.name, "--why", "gale watch", "--for", "10s"), "is held for")
	id := s.push("Config", map[string]string{"app/horn.yaml": config("horn", "interval", "40s")})
	s.edit("hurry", "configmap/horn", "data.interval=1s")
	w := s.until("the drift is seen", func(w client.Ward) bool { return w.Drifted > 0 || w.Hold.By == "" })
	assert.Equal(t, "gale watch", w.Hold.Why)
	assert.Contains(t, w.Todo, "Not restored while held")
	s.until("the hold has ended and it ran forward", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Id == id })
	out := s.ok("logbook", s.name)
	assert.Contains(t, out, "the end of the hold was reached")
	assert.Contains(t, out, "gale watch")
}

// TestWatchIsLive: without a terminal each change is a line.
func TestWatchIsLive(t *testing.T) {
	t.Parallel()
	s := newService(t)
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "vigila"), "watch")
	cmd.Env = append(os.Environ(), "VIGILA_URL="+s.url, "VIGILA_TOKEN="+s.token)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	s.push("Config", map[string]string{"app/horn.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 30s"))
	rows := bufio.NewScanner(out)
	see := func(want string) {
		for rows.Scan() {
			if strings.Contains(rows.Text(), want) {
				return
			}
		}
		t.Fatalf("watch ended without %q: %v", want, rows.Err())
	}
	see("= in step  ● ready")
	s.edit("hurry", "configmap/horn", "data.interval=1s")
	see("≠ drifted, 1 field  ● ready  hurry changed data.interval of ConfigMap/horn from 30s to 1s")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	assert.NoError(t, cmd.Wait(), "Ctrl-C ends it well")
}

// TestReportedDriftIsLeftToAPerson: an automatic sync of something else does not put it back.
func TestReportedDriftIsLeftToAPerson(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Two", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "app/lamp.yaml": config("lamp", "colour", "amber")})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	s.edit("hurry", "configmap/horn", "data.interval=1s")
	s.until("it is drifted", func(w client.Ward) bool { return w.Standing == "drifted" })
	id := s.push("Another lamp", map[string]string{"app/lamp.yaml": config("lamp", "colour", "white")})
	w := s.until("the commit is synced", func(w client.Ward) bool { return w.Applied.Id == id && w.Run.Number == 0 })
	assert.EqualValues(t, "drifted", w.Standing)
	data, _, _ := unstructured.NestedStringMap(live(t, "", "v1", "configmaps", s.name, "horn").Object, "data")
	assert.Equal(t, "1s", data["interval"])
}

func TestADeletedObjectIsMadeAgain(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Config", map[string]string{"app/config.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	lab(t, "edit", "configmap/horn", "--delete", "--kubeconfig", kubeconfig(), "-n", s.name)
	w := s.until("it is missed", func(w client.Ward) bool { return w.Standing == "drifted" })
	assert.Equal(t, "Somebody deleted ConfigMap/horn", w.Says)
	s.ok("sync", s.name)
	s.until("it is there again", inStepAndReady)
	require.NotNil(t, live(t, "", "v1", "configmaps", s.name, "horn"))

	// Without its mark it leaves our watch, but is not thought deleted.
	s.edit("hurry", "configmap/horn", `metadata.labels={"vigila.dev/ward":null}`)
	w = s.until("the lost mark is drift", func(w client.Ward) bool { return w.Standing == "drifted" })
	assert.Contains(t, w.Says, "metadata.labels[vigila.dev/ward]")
}

func TestPruningAndGuards(t *testing.T) {
	t.Parallel()
	s := newService(t)
	files := map[string]string{}
	for _, n := range []string{"a", "b", "c", "d", "e", "f"} {
		files["app/"+n+".yaml"] = config(n, "k", "v")
	}
	s.push("Six", files)
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	s.push("One less", map[string]string{"app/f.yaml": ""})
	s.until("it is pruned", func(w client.Ward) bool { return inStepAndReady(w) && w.ObjectCount == 6 })
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "f"), "what leaves the repository leaves the cluster")

	s.push("Most go", map[string]string{"app/b.yaml": "", "app/c.yaml": "", "app/d.yaml": "", "app/e.yaml": ""})
	w := s.until("the guard stops it", func(w client.Ward) bool { return len(w.Guards) > 0 })
	assert.Equal(t, "mass-removal", w.Guards[0].Name)
	assert.Contains(t, w.Says, "4 of 6 objects would be removed")
	assert.True(t, w.NeedsYou)
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "b"))
	s.fails(1, "--allow mass-removal", "sync", s.name)
	s.ok("sync", s.name, "--allow", "mass-removal")
	s.until("it is in step", inStepAndReady)
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "b"))

	// A guarded object stays when it leaves the repository, and nothing waits for it.
	s.push("A guarded one", map[string]string{"app/kept.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: kept, annotations: {vigila.dev/guard: no-prune}}\n"})
	s.until("it is there", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "A guarded one" })
	s.push("Not declared any more", map[string]string{"app/kept.yaml": ""})
	s.until("it is in step without it", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Not declared any more" })
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "kept"))
	s.fails(3, "ConfigMap kept  not declared any more, kept", "diff", s.name)

	// The path disappears: that is an error to read, never a wish to remove everything.
	s.push("All gone", map[string]string{"app/a.yaml": "", "README.md": "moved"})
	w = s.until("it is blind", func(w client.Ward) bool { return w.Standing == "blind" })
	assert.Contains(t, w.Says, `has no "app"`)
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "a"))

	s.fails(1, "--allow", "ward", "remove", s.name, "--dismantle")
	s.ok("ward", "remove", s.name, "--dismantle", "--allow", "empty-render,Namespace/"+s.name)
	assert.Nil(t, live(t, "", "v1", "namespaces", "", s.name))
	assert.Contains(t, s.ok("ward", "list"), "No wards yet")
}

// TestADefinitionAndItsObjectsInOneRun: they come together the first time, and leave together.
func TestADefinitionAndItsObjectsInOneRun(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Berths", map[string]string{"app/config.yaml": config("horn", "interval", "30s"), "app/a-berth.yaml": "apiVersion: brindle.example/v1\nkind: Berth\nmetadata: {name: north}\nspec: {length: 80, tags: [a, b]}\n",
		"app/z-definition.yaml": `apiVersion: apiextensions.k8s.io/v1
kind: CustomResourceDefinition
metadata: {name: berths.brindle.example}
spec:
  group: brindle.example
  names: {kind: Berth, plural: berths, singular: berth, listKind: BerthList}
  scope: Namespaced
  versions:
    - name: v1
      served: true
      storage: true
      schema: {openAPIV3Schema: {type: object, properties: {spec: {type: object, x-kubernetes-preserve-unknown-fields: true}}}}
`})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 30s"))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	s.fails(3, "Berth north  create", "diff", s.name)
	s.ok("sync", s.name)
	s.until("it is in step", inStepAndReady)
	s.edit("hurry", "berth/north", "spec.length=90")
	w := s.until("drift of a custom resource is seen", func(w client.Ward) bool { return w.Drifted > 0 })
	assert.Equal(t, "hurry changed spec.length of Berth/north from 80 to 90", w.Says)

	s.push("No berths", map[string]string{"app/a-berth.yaml": "", "app/z-definition.yaml": ""})
	s.ok("look", s.name)
	s.fails(1, "--allow CustomResourceDefinition/berths.brindle.example", "sync", s.name)
	s.ok("sync", s.name, "--allow", "CustomResourceDefinition/berths.brindle.example")
	s.until("it is in step without them", inStepAndReady)
	for range 3 { // a watch of the kind that is gone would break now
		s.ok("look", s.name)
	}
	assert.True(t, inStepAndReady(s.ward()))
	r, err := s.api.ListClustersWithResponse(context.Background(), &client.ListClustersParams{Limit: 100})
	require.NoError(t, s.api.Check(r, err))
	assert.True(t, r.JSON200.Items[0].Live.Known, r.JSON200.Items[0].Live.Problem)
}

func TestTwoWardsOneObjectAndAdoption(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Config", map[string]string{"app/config.yaml": config("horn", "interval", "30s"), "other/config.yaml": config("horn", "interval", "40s")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	second := "vigila: ward/v1\nname: second\nfrom: {repo: " + s.name + ", path: other}\ninto: {cluster: quay, namespace: " + s.name + "}\n"
	s.add(second)
	s.fails(1, "ward "+s.name+" keeps it already", "sync", "second")
	data, _, _ := unstructured.NestedStringMap(live(t, "", "v1", "configmaps", s.name, "horn").Object, "data")
	assert.Equal(t, "30s", data["interval"])

	// An object that is already there, and nobody's, is adopted: exactly what would change is shown first.
	s.ok("ward", "remove", s.name)
	s.fails(3, "already there, to be adopted", "diff", "second")
	s.fails(3, "data.interval", "diff", "second")
	s.ok("sync", "second", "--retry")
}

func TestEveryCallNeedsAToken(t *testing.T) {
	t.Parallel()
	s := newService(t)
	for _, path := range []string{"/wards", "/me", "/events", "/entries", "/repos", "/clusters"} {
		for _, token := range []string{"", "Bearer wrong", "Basic " + s.token} {
			r, err := http.NewRequest(http.MethodGet, s.url+"/api/v1"+path, nil)
			require.NoError(t, err)
			r.Header.Set("Authorization", token)
			answer, err := http.DefaultClient.Do(r)
			require.NoError(t, err)
			assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, path)
			assert.Equal(t, "application/problem+json", strings.Split(answer.Header.Get("Content-Type"), ";")[0])
			_ = answer.Body.Close()
		}
	}
	for path, status := range map[string]int{"/healthz": 200, "/readyz": 200, "/metrics": 401, "/": 200, "/wards/anything": 200, "/api/v1/nothing": 404} {
		answer, err := http.Get(s.url + path)
		require.NoError(t, err)
		assert.Equal(t, status, answer.StatusCode, path)
		_ = answer.Body.Close()
	}
	assert.NotContains(t, s.log.String(), s.token)
}
