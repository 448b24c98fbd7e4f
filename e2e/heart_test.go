package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/tools/clientcmd"

	"vigila.dev/vigila/internal/client"
)

var (
	deployments = schema.GroupVersionResource{Group: "apps", Version: "v1", Resource: "deployments"}
	namespaces  = schema.GroupVersionResource{Version: "v1", Resource: "namespaces"}
	definitions = schema.GroupVersionResource{Group: "apiextensions.k8s.io", Version: "v1", Resource: "customresourcedefinitions"}
	configMaps  = schema.GroupVersionResource{Version: "v1", Resource: "configmaps"}
	jobs        = schema.GroupVersionResource{Group: "batch", Version: "v1", Resource: "jobs"}
)

// objects is another client of the test's namespace.
func (s *service) objects(gvr schema.GroupVersionResource) dynamic.ResourceInterface {
	s.t.Helper()
	cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig())
	require.NoError(s.t, err)
	dyn, err := dynamic.NewForConfig(cfg)
	require.NoError(s.t, err)
	return dyn.Resource(gvr).Namespace(s.name)
}

// patch changes an object under another client's name.
func (s *service) patch(as string, gvr schema.GroupVersionResource, name string, kind types.PatchType, body string, subresource ...string) {
	s.t.Helper()
	_, err := s.objects(gvr).Patch(context.Background(), name, kind, []byte(body), metav1.PatchOptions{FieldManager: as}, subresource...)
	require.NoError(s.t, err)
}

// object finds one object of the ward's outline.
func (s *service) object(kind, name string) client.Object {
	s.t.Helper()
	for _, o := range s.detail().Outline {
		if o.Kind == kind && o.Name == name {
			return o
		}
	}
	s.t.Fatalf("the ward has no %s/%s", kind, name)
	return client.Object{}
}

func pathsOf(ds []client.Difference) (out []string) {
	for _, d := range ds {
		out = append(out, d.Path)
	}
	return out
}

// job is a task; notes are its annotations.
func job(name, image, notes string) string {
	return fmt.Sprintf(`apiVersion: batch/v1
kind: Job
metadata: {name: %s, annotations: {%s}}
spec:
  backoffLimit: 0
  template:
    spec:
      restartPolicy: Never
      containers: [{name: task, image: registry.brindle.example/%s}]
`, name, notes, image)
}

// TestTasks: they run in their turn, every time whatever they are named, are cleaned up as asked, and their logs
// are in the entry; a failed one stops the run.
func TestTasks(t *testing.T) {
	t.Parallel()
	s := newService(t)
	notice := "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: notice-page, annotations: {vigila.dev/task: before, vigila.dev/task-clean: always}}\nspec: {selector: {matchLabels: {app: notice}}, template: {metadata: {labels: {app: notice}}, spec: {containers: [{name: web, image: registry.brindle.example/notice:1}]}}}\n"
	s.push("A planner with its migration", map[string]string{
		"app/deployment.yaml": deployment("berth-planner:1.8.2", 1), "app/config.yaml": config("berths", "count", "7"),
		"app/migrate.yaml": job("migrate", "migrate:1", `vigila.dev/task: before, vigila.dev/step: "0"`),
		"app/check.yaml":   job("check", "check:1", `vigila.dev/task: after, vigila.dev/task-clean: never`),
		"app/apology.yaml": job("apology", "apology:1", `vigila.dev/task: failed`),
		"app/notice.yaml":  notice,
	})
	s.add(s.wardFile("sync: ask, drift: restore, every: 1s", "within: 30s, otherwise: stop"))
	w := s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	assert.Equal(t, 3, w.Pending-w.PendingTasks, "the namespace, the config and the deployment")
	preview, _, code := s.cli("sync", s.name, "--preview")
	require.Equal(t, 3, code)
	order := func(text string, names ...string) {
		t.Helper()
		last := -1
		for _, n := range names {
			i := strings.Index(text, n)
			require.Greater(t, i, last, "%s in its turn in:\n%s", n, text)
			last = i
		}
	}
	order(preview, "Namespace "+s.name, "Deployment notice-page  task before", "Job migrate  task before", "ConfigMap berths", "Deployment berth-planner", "Job check  task after")
	assert.Empty(t, s.entries(), "a preview does nothing")

	out := s.ok("sync", s.name)
	order(out, "Deployment notice-page  task before, done", "Job migrate  task before, done", "Deployment berth-planner  ready", "Job check  task after, done")
	assert.NotContains(t, out, "apology")
	s.until("it is in step and ready", inStepAndReady)
	assert.Equal(t, "listening\n", s.ok("logbook", s.name, "1", "--log", "migrate"), "its log is in the entry")
	gone := func(gvr schema.GroupVersionResource, name string) func() bool {
		return func() bool { return live(t, gvr.Group, gvr.Version, gvr.Resource, s.name, name) == nil }
	}
	require.Eventually(t, gone(jobs, "migrate"), patience, 50*time.Millisecond, "cleaned up after success")
	require.Eventually(t, gone(deployments, "notice-page"), patience, 50*time.Millisecond, "the notice page is taken down")
	first := live(t, "batch", "v1", "jobs", s.name, "check")
	require.NotNil(t, first, "never cleaned up")

	// Another commit, the tasks are as they were: they run again all the same.
	s.push("Eight berths", map[string]string{"app/config.yaml": config("berths", "count", "8")})
	out = s.ok("sync", s.name)
	order(out, "Deployment notice-page  task before, done", "Job migrate  task before, done", "ConfigMap berths  ready", "Job check  task after, done")
	assert.NotEqual(t, first.GetUID(), live(t, "batch", "v1", "jobs", s.name, "check").GetUID(), "made anew")
	s.until("it is in step and ready", inStepAndReady)
	s.ok("sync", s.name)
	assert.Len(t, s.entries(), 2, "nothing to do is nothing to do")

	// Drift that is restored is no reason to migrate anything.
	s.edit("hurry", "configmap/berths", "data.count=nine")
	s.until("it is restored", func(w client.Ward) bool { return len(s.entries()) == 3 && inStepAndReady(w) })
	assert.Len(t, s.entry(3).Objects, 1)

	// Only a task changed, and it fails: the run stops before anything else, the task for a failure runs.
	s.push("A migration that breaks", map[string]string{"app/migrate.yaml": job("migrate", "migrate-crashing:2", `vigila.dev/task: before, vigila.dev/step: "0"`), "app/config.yaml": config("berths", "count", "10")})
	w = s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	assert.Equal(t, 1, w.PendingTasks)
	s.fails(1, "container task ended, exit 2", "sync", s.name)
	e := s.entry(4)
	assert.EqualValues(t, "failed", e.Outcome)
	states := map[string]string{}
	for _, o := range e.Objects {
		states[o.Name] = string(o.State)
	}
	assert.Equal(t, map[string]string{"notice-page": "ready", "migrate": "not ready", "berths": "not tried", "check": "not tried", "apology": "ready"}, states)
	assert.Contains(t, s.ok("logbook", s.name, "4", "--log", "migrate"), "no fare table")
	assert.NotNil(t, live(t, "batch", "v1", "jobs", s.name, "migrate"), "what failed stays to be looked at")
	require.Eventually(t, gone(deployments, "notice-page"), patience, 50*time.Millisecond, "always taken down")

	// What is no task any more goes with the next sync.
	s.push("No tasks", map[string]string{"app/migrate.yaml": "", "app/check.yaml": "", "app/apology.yaml": "", "app/notice.yaml": ""})
	s.ok("sync", s.name)
	require.Eventually(t, gone(jobs, "migrate"), patience, 50*time.Millisecond)
	require.Eventually(t, gone(jobs, "check"), patience, 50*time.Millisecond)
	s.until("it is in step and ready", inStepAndReady)
}

// TestAdditionsByOthers: they are reported apart from drift, with who; taken away, nothing else is touched.
func TestAdditionsByOthers(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A planner", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1)})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s"))
	s.until("it is in step and ready", inStepAndReady)
	add := func() {
		s.patch("kubectl-edit", deployments, "berth-planner", types.StrategicMergePatchType,
			`{"metadata":{"labels":{"tier":"dock"}},"spec":{"template":{"spec":{"containers":[{"name":"app","env":[{"name":"DEBUG","value":"1"}]},{"name":"side","image":"registry.brindle.example/side:1"}]}}}}`)
	}
	add()
	w := s.until("the additions are seen", func(w client.Ward) bool { return w.AddedFields == 3 })
	assert.EqualValues(t, "in step", w.Standing, "an addition alone is no drift")
	o := s.object("Deployment", "berth-planner")
	assert.Equal(t, []string{"metadata.labels.tier", "spec.template.spec.containers[name=app].env", "spec.template.spec.containers[name=side]"}, generic(pathsOf(o.Additions)))
	assert.Equal(t, "kubectl-edit", o.Additions[0].Who)
	assert.WithinDuration(t, time.Now(), o.Additions[0].When, patience)
	s.fails(3, "Others added", "diff", s.name)
	s.until("its new Pods are ready", inStepAndReady)
	assert.Len(t, s.entries(), 1, "they are reported, and no more")

	// What the deployment's controller writes on it in the course of its work is none.
	note := live(t, "apps", "v1", "deployments", s.name, "berth-planner").GetAnnotations()
	assert.Contains(t, note, "deployment.kubernetes.io/revision")

	s.add(s.wardFile("sync: auto, drift: restore, additions: remove, every: 1s", "within: 30s"))
	s.until("they are taken away", func(w client.Ward) bool { return w.AddedFields == 0 && inStepAndReady(w) && len(s.entries()) == 2 })
	d := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
	containers, _, _ := unstructured.NestedSlice(d.Object, "spec", "template", "spec", "containers")
	require.Len(t, containers, 1)
	assert.NotContains(t, containers[0], "env")
	assert.NotContains(t, d.GetLabels(), "tier")
	assert.Equal(t, note["deployment.kubernetes.io/revision"] != "", d.GetAnnotations()["deployment.kubernetes.io/revision"] != "", "nothing else is touched")

	s.add(s.wardFile("sync: auto, drift: restore, additions: ignore, every: 1s", "within: 30s"))
	add()
	s.edit("hurry", "deployment/berth-planner", "metadata.labels.seen=yes")
	s.patch("hurry", deployments, "berth-planner", types.MergePatchType, `{"spec":{"minReadySeconds":0}}`)
	s.until("it is ready", inStepAndReady)
	assert.Zero(t, s.ward().AddedFields)
}

// generic cuts what the API server's schema decides: whether a single variable or its list is the addition.
func generic(paths []string) []string {
	for i, p := range paths {
		if j := strings.Index(p, ".env"); j > 0 {
			paths[i] = p[:j+4]
		}
	}
	return paths
}

// TestAutoscaledReplicas: an autoscaler has them, whoever made it; they are neither drift nor ever reset.
func TestAutoscaledReplicas(t *testing.T) {
	t.Parallel()
	s := newService(t)
	scaler := "apiVersion: autoscaling/v2\nkind: HorizontalPodAutoscaler\nmetadata: {name: berth-planner}\nspec: {minReplicas: 1, maxReplicas: 9, scaleTargetRef: {apiVersion: apps/v1, kind: Deployment, name: berth-planner}, metrics: [{type: Resource, resource: {name: cpu, target: {type: Utilization, averageUtilization: 80}}}]}\n"
	s.push("An autoscaled planner", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 2), "app/scaler.yaml": scaler})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s"))
	s.until("it is in step and ready", inStepAndReady)
	assert.Equal(t, "HorizontalPodAutoscaler/berth-planner", s.object("Deployment", "berth-planner").Scaler)
	assert.Contains(t, s.ok("ward", "show", s.name), "replicas are left to HorizontalPodAutoscaler/berth-planner")

	s.patch("kube-controller-manager", deployments, "berth-planner", types.MergePatchType, `{"spec":{"replicas":4}}`, "scale")
	s.until("the four are ready", func(w client.Ward) bool {
		d := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
		n, _, _ := unstructured.NestedInt64(d.Object, "status", "readyReplicas")
		return n == 4 && inStepAndReady(w)
	})
	s.push("A newer planner, still saying 2", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.9.0", 2)})
	s.until("it is synced", func(w client.Ward) bool {
		return inStepAndReady(w) && w.Applied.Subject == "A newer planner, still saying 2"
	})
	assert.EqualValues(t, 4, replicas(t, s), "a sync does not reset what an autoscaler has")
	assert.Len(t, s.entries(), 2, "nothing was restored")

	// Without its autoscaler the declared number counts again.
	s.push("No autoscaler", map[string]string{"app/scaler.yaml": ""})
	s.until("it is synced", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "No autoscaler" })
	require.Eventually(t, func() bool { return replicas(t, s) == 2 }, patience, 50*time.Millisecond)
	assert.Empty(t, s.object("Deployment", "berth-planner").Scaler)
}

// TestChangesThatCantBeMadeInPlace are refused with the way out, or replaced where the object allows it.
func TestChangesThatCantBeMadeInPlace(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A planner", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1)})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 30s, otherwise: stop"))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	s.ok("sync", s.name)
	uid := live(t, "apps", "v1", "deployments", s.name, "berth-planner").GetUID()
	other := strings.ReplaceAll(deployment("berth-planner:1.8.2", 1), "app: berth-planner}", "app: berth-planner, part: web}")
	s.push("Another selector", map[string]string{"app/deployment.yaml": other})
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	way := "spec.selector can't be changed in place; let it be deleted and made again (vigila.dev/replace: when-immutable)"
	s.fails(1, way, "sync", s.name, "--preview")
	s.fails(1, way, "sync", s.name)
	assert.Equal(t, uid, live(t, "apps", "v1", "deployments", s.name, "berth-planner").GetUID())

	note := func(notes string) string {
		return strings.Replace(other, "  name: berth-planner\n", "  name: berth-planner\n  annotations: {"+notes+"}\n", 1)
	}
	s.push("Guarded", map[string]string{"app/deployment.yaml": note("vigila.dev/replace: when-immutable, vigila.dev/guard: no-replace")})
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" && w.Revision.Subject == "Guarded" })
	s.fails(1, "it is guarded (vigila.dev/guard: no-replace)", "sync", s.name)

	s.push("Let it be replaced", map[string]string{"app/deployment.yaml": note("vigila.dev/replace: when-immutable")})
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" && w.Revision.Subject == "Let it be replaced" })
	s.fails(3, "to be deleted and made again", "sync", s.name, "--preview")
	assert.Contains(t, s.ok("sync", s.name), "Deployment berth-planner  ready, deleted and made again")
	assert.NotEqual(t, uid, live(t, "apps", "v1", "deployments", s.name, "berth-planner").GetUID())
	w := s.until("it is in step and ready", inStepAndReady)
	assert.Zero(t, w.Drifted)

	// A claim holds data: the annotation alone is not enough.
	claim := func(class string) string {
		return "apiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: {name: tides, annotations: {vigila.dev/replace: when-immutable, vigila.dev/step: \"9\"}}\nspec: {storageClassName: " + class + ", accessModes: [ReadWriteOnce], resources: {requests: {storage: 1Gi}}}\n"
	}
	s.push("A claim", map[string]string{"app/claim.yaml": claim("slow")})
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	s.ok("sync", s.name, "--only", "PersistentVolumeClaim/tides", "--no-wait")
	s.until("the claim is there", func(client.Ward) bool { return live(t, "", "v1", "persistentvolumeclaims", s.name, "tides") != nil })
	s.ok("sync", s.name, "--stop")
	s.until("the run has stopped", func(w client.Ward) bool { return w.Run.Number == 0 })
	s.push("A faster claim", map[string]string{"app/claim.yaml": claim("fast")})
	s.ok("look", s.name)
	s.fails(1, "--allow PersistentVolumeClaim/tides", "sync", s.name)
}

// TestPartsRevisionsAndRejections: a part of a ward, another revision, a revision that is no good.
func TestPartsRevisionsAndRejections(t *testing.T) {
	t.Parallel()
	s := newService(t)
	first := s.push("Seven berths", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1), "app/config.yaml": config("berths", "count", "7"), "app/secret.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: door}\nstringData: {password: low-tide}\n"})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 30s"))
	s.until("it is in step and ready", inStepAndReady)
	s.ok("hold", s.name, "--why", "trying parts")
	second := s.push("Eight berths and a door", map[string]string{"app/config.yaml": config("berths", "count", "8"), "app/service.yaml": webService,
		"app/secret.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: door}\nstringData: {password: high-tide}\n"})
	s.ok("look", s.name)
	assert.Equal(t, 3, s.ward().Pending)

	s.fails(1, "has no Service/brth", "sync", s.name, "--only", "Service/brth")
	s.ok("sync", s.name, "--only", "configmap/berths")
	w := s.ward()
	assert.Equal(t, 2, w.Pending, "the rest waits")
	assert.Equal(t, first, w.Applied.Id, "a part is not the revision")
	data, _, _ := unstructured.NestedStringMap(live(t, "", "v1", "configmaps", s.name, "berths").Object, "data")
	assert.Equal(t, "8", data["count"])
	s.ok("sync", s.name, "--only", "Service/berth-planner,Secret/door")
	w = s.until("the parts make a whole", func(w client.Ward) bool { return w.Applied.Id == second })
	assert.Zero(t, w.Pending)

	// What two entries declare differently, secrets as digests.
	numbers := s.entries()
	last := numbers[0].Number
	out, _, code := s.cli("compare", s.name, "1", fmt.Sprint(last))
	assert.Equal(t, 3, code)
	for _, want := range []string{"ConfigMap berths", "data.count  7  →  8", "Service berth-planner  new", "data.password  secret "} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "tide")
	assert.NotContains(t, out, "bG93") // low-tide, in base64
	s.ok("compare", s.name, fmt.Sprint(last), fmt.Sprint(last))
	s.ok("compare", s.name, fmt.Sprint(last))
	s.fails(1, "is a hold and keeps no objects", "compare", s.name, "2", "1")
	s.fails(1, "has no entry #99", "compare", s.name, "1", "99")

	// Another revision: it holds there.
	s.ok("release", s.name)
	s.fails(1, "can't be synced", "sync", s.name, "--revision", "no-such-branch")
	s.ok("sync", s.name, "--revision", first[:9], "--why", "the old door")
	w = s.ward()
	assert.Equal(t, first, w.Applied.Id)
	assert.Equal(t, "the old door", w.Hold.Why)
	assert.EqualValues(t, "behind", w.Standing)
	assert.Nil(t, live(t, "", "v1", "services", s.name, "berth-planner"), "what the newer one had added is pruned")

	// git is to say what the cluster holds.
	out = s.ok("rollback", s.name, "--propose")
	branch := "vigila/" + s.name + "-back-to-" + first[:7]
	assert.Contains(t, out, branch)
	bare := filepath.Join(labDir, "git", s.name+".git")
	assert.Equal(t, strings.TrimSpace(git(t, bare, "rev-parse", first+":app")), strings.TrimSpace(git(t, bare, "rev-parse", branch+":app")))
	assert.Equal(t, second, strings.TrimSpace(git(t, bare, "rev-parse", branch+"^")), "on top of the newest")
	message := git(t, bare, "log", "-1", "--format=%an%n%B", branch)
	assert.Contains(t, message, "Vigila\nTake "+s.name+" back to "+first[:7])
	assert.Contains(t, message, "Asked for by admin")
	s.ok("rollback", s.name, "--propose") // again: it is there already
	git(t, bare, "update-ref", "refs/heads/taken", first)
	s.fails(1, "choose another with --branch", "rollback", s.name, "--propose", "--branch", "taken")
	s.fails(1, "main says so already; there is nothing to propose", "rollback", s.name, fmt.Sprint(last), "--propose")
	git(t, bare, "update-ref", "refs/heads/main", branch)
	s.ok("look", s.name)
	s.until("git says what the cluster holds", func(w client.Ward) bool { return w.Standing == "in step" })
	s.fails(1, "there is nothing to propose", "rollback", s.name, "--propose")

	// A revision that is no good: by hand, listed, lifted, retried.
	s.ok("release", s.name)
	s.ok("reject", s.name, "main", "--why", "the door squeaks")
	s.ok("hold", s.name)
	bad := s.push("A squeaking door", map[string]string{"app/config.yaml": config("berths", "count", "9")})
	s.ok("look", s.name)
	s.ok("reject", s.name, bad, "--why", "it squeaks")
	s.ok("release", s.name)
	out = s.ok("rejections", s.name)
	assert.Contains(t, out, "A squeaking door")
	assert.Contains(t, out, "it squeaks")
	for range 3 {
		s.ok("look", s.name)
	}
	assert.NotEqual(t, bad, s.ward().Applied.Id, "automatic runs don't go there")
	s.fails(1, "is rejected for "+s.name+"@quay: it squeaks", "sync", s.name)
	s.ok("sync", s.name, "--retry")
	w = s.until("it is there", func(w client.Ward) bool { return w.Applied.Id == bad })
	assert.Empty(t, w.Rejected, "it went well, so it is good")
	s.fails(1, "has not rejected a revision", "accept", s.name, bad)
	s.ok("reject", s.name, bad)
	s.ok("accept", s.name, bad[:7])
	assert.Contains(t, s.ok("logbook", s.name), "accept")
}

// TestGoingBackIsNotHeldUpByAGuard: the workloads are put back, whatever a guard protects of what the failed revision
// added: a claim that is bound stays and is told of, one that never was holds nothing.
func TestGoingBackIsNotHeldUpByAGuard(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A planner", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1)})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 15s"))
	s.until("it is in step and ready", inStepAndReady)
	s.push("Crashing, with a volume", map[string]string{"app/deployment.yaml": deployment("berth-crashing:2", 1),
		"app/claims.yaml": claim("tides") + "---  # never bound\n" + claim("ebbs")})
	pvs := schema.GroupVersionResource{Version: "v1", Resource: "persistentvolumes"}
	_, err := dynamicClient(t).Resource(pvs).Create(context.Background(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "PersistentVolume", "metadata": map[string]any{"name": s.name},
		"spec": map[string]any{"storageClassName": "none", "capacity": map[string]any{"storage": "1Gi"}, "accessModes": []any{"ReadWriteOnce"}, "hostPath": map[string]any{"path": "/nonexistent"},
			"claimRef": map[string]any{"namespace": s.name, "name": "tides"}}}}, metav1.CreateOptions{})
	require.NoError(t, err)
	w := s.until("it went back", func(w client.Ward) bool { return w.Rejected != "" && w.Run.Number == 0 && w.Health == "ready" })
	assert.Contains(t, w.Says, "Went back to")
	back := s.entries()[0]
	assert.EqualValues(t, "rollback", back.Kind)
	assert.EqualValues(t, "done", back.Outcome)
	assert.Contains(t, back.Reason, "PersistentVolumeClaim/tides")
	assert.NotContains(t, back.Reason, "ebbs")
	assert.NotNil(t, live(t, "", "v1", "persistentvolumeclaims", s.name, "tides"), "it may hold data")
	assert.Nil(t, live(t, "", "v1", "persistentvolumeclaims", s.name, "ebbs"), "it never held any")
	s.push("Without them", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.9.0", 1), "app/claims.yaml": ""})
	s.until("the guard asks a person", func(w client.Ward) bool {
		return strings.Contains(w.Says, "PersistentVolumeClaim/tides would be removed")
	})
	s.ok("sync", s.name, "--allow", "PersistentVolumeClaim/tides")
	s.until("it is in step", inStepAndReady)
}

func claim(name string) string {
	return "apiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: {name: " + name + "}\nspec: {storageClassName: none, accessModes: [ReadWriteOnce], resources: {requests: {storage: 1Gi}}}\n"
}

// TestRollbackNeedsNeitherRepositoryNorRestart: from the snapshot alone, with the repository gone and after a crash
// in the middle of the way back.
func TestRollbackNeedsOnlyItsSnapshot(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("One", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1), "app/config.yaml": config("berths", "count", "1")})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 15s"))
	s.until("it is in step and ready", inStepAndReady)
	s.push("Two", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.9.0", 2), "app/config.yaml": config("berths", "count", "2")})
	s.until("it is in step with two", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Two" })
	bad := s.push("Three", map[string]string{"app/deployment.yaml": deployment("berth-crashing:3", 3), "app/config.yaml": config("berths", "count", "3")})
	s.until("it goes back", func(w client.Ward) bool { return w.Run.Kind == "rollback" || w.Rejected != "" })
	s.kill()
	require.NoError(t, os.RemoveAll(filepath.Join(labDir, "git", s.name+".git")))
	s.start()
	count := func() string {
		data, _, _ := unstructured.NestedStringMap(live(t, "", "v1", "configmaps", s.name, "berths").Object, "data")
		return data["count"]
	}
	s.until("it went back although killed on the way", func(w client.Ward) bool {
		return w.Run.Number == 0 && w.Health == "ready" && count() == "2" && replicas(t, s) == 2
	})
	r, err := s.api.ListRejectionsWithResponse(context.Background(), s.name)
	require.NoError(t, s.api.Check(r, err))
	require.Len(t, r.JSON200.Items, 1)
	assert.Equal(t, bad, r.JSON200.Items[0].Revision.Id)
	s.ok("rollback", s.name, "1")
	assert.Equal(t, "1", count())
	assert.EqualValues(t, 1, replicas(t, s))
	assert.EqualValues(t, "blind", s.ward().Standing, "the repository can't be read, and that is said")
	s.fails(3, "data.count  1  →  2", "compare", s.name, "1", "2")
}

// TestAnotherTakesAnObject: deleted and made again by someone, or stripped of the ward's mark.
func TestAnotherTakesAnObject(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Config", map[string]string{"app/config.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 30s"))
	s.until("it is in step and ready", inStepAndReady)
	again := func(labels map[string]any) {
		o := live(t, "", "v1", "configmaps", s.name, "horn")
		require.NoError(t, s.objects(configMaps).Delete(context.Background(), "horn", metav1.DeleteOptions{}))
		meta := map[string]any{"name": "horn", "labels": labels, "annotations": o.Object["metadata"].(map[string]any)["annotations"]}
		_, err := s.objects(configMaps).Create(context.Background(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": meta, "data": o.Object["data"]}}, metav1.CreateOptions{FieldManager: "kubectl-create"})
		require.NoError(t, err)
	}
	again(map[string]any{"vigila.dev/ward": s.name})
	s.until("it is seen, though every value is the same", func(w client.Ward) bool {
		return w.Drifted == 1 && w.Says == "kubectl-create deleted ConfigMap/horn and made it again"
	})
	s.fails(3, "deleted, and made again  kubectl-create", "diff", s.name)
	s.ok("sync", s.name)
	s.until("it is the ward's again", inStepAndReady)

	s.patch("hurry", configMaps, "horn", types.MergePatchType, `{"metadata":{"labels":{"vigila.dev/ward":null}}}`)
	w := s.until("the lost mark is seen", func(w client.Ward) bool { return w.Drifted == 1 })
	assert.Contains(t, w.Says, "removed metadata.labels[vigila.dev/ward] of ConfigMap/horn", "and it is not thought deleted")
	s.ok("sync", s.name)
	s.until("it is marked again", inStepAndReady)
}

// TestTakingOver: what a client-side apply, or another tool, had set and the repository does not declare goes when
// Vigila adopts the object, and is shown before.
func TestTakingOver(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Config", map[string]string{"app/config.yaml": config("horn", "interval", "30s")})
	s.add(strings.Replace(s.wardFile("sync: ask, drift: report, every: 1s, take_over: [old-tool]", "within: 30s"), ", create_namespace: true", "", 1))
	ns := schema.GroupVersionResource{Version: "v1", Resource: "namespaces"}
	cfg, err := clientcmd.BuildConfigFromFlags("", kubeconfig())
	require.NoError(t, err)
	dyn, err := dynamic.NewForConfig(cfg)
	require.NoError(t, err)
	_, err = dyn.Resource(ns).Create(context.Background(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "Namespace", "metadata": map[string]any{"name": s.name}}}, metav1.CreateOptions{})
	require.NoError(t, err)
	_, err = s.objects(configMaps).Create(context.Background(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "ConfigMap",
		"metadata": map[string]any{"name": "horn", "annotations": map[string]any{"kubectl.kubernetes.io/last-applied-configuration": "{}"}},
		"data":     map[string]any{"interval": "20s", "left-over": "x"}}}, metav1.CreateOptions{FieldManager: "kubectl-client-side-apply"})
	require.NoError(t, err)
	force := true
	_, err = s.objects(configMaps).Patch(context.Background(), "horn", types.ApplyPatchType, []byte(`{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"horn"},"data":{"older":"y"}}`), metav1.PatchOptions{FieldManager: "old-tool", Force: &force})
	require.NoError(t, err)
	s.patch("kubectl-edit", configMaps, "horn", types.MergePatchType, `{"data":{"by-hand":"z"}}`)

	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	r, err := s.api.DiffWardWithResponse(context.Background(), s.name)
	require.NoError(t, s.api.Check(r, err))
	require.Len(t, r.JSON200.Changes, 1)
	assert.True(t, r.JSON200.Changes[0].AlreadyThere)
	assert.Equal(t, []string{"data.interval", "data.left-over", "data.older", "metadata.annotations[kubectl.kubernetes.io/last-applied-configuration]", "metadata.annotations[vigila.dev/service]", "metadata.labels[vigila.dev/ward]"}, pathsOf(r.JSON200.Changes[0].Fields))
	s.ok("sync", s.name)
	data, _, _ := unstructured.NestedStringMap(live(t, "", "v1", "configmaps", s.name, "horn").Object, "data")
	assert.Equal(t, map[string]string{"interval": "30s", "by-hand": "z"}, data, "a person's own edit is not taken over")
	s.until("it is in step", inStepAndReady)
	assert.Zero(t, s.ward().AddedFields, "what was there already is no addition")
}

// TestYourOwnHealthRule: a kind of your own is ready when your rule says so.
func TestYourOwnHealthRule(t *testing.T) {
	t.Parallel()
	s := newService(t)
	definition := `apiVersion: apiextensions.k8s.io/v1
kind: CustomResourceDefinition
metadata: {name: ferries.rule.brindle.example}
spec:
  group: rule.brindle.example
  names: {kind: Ferry, plural: ferries, singular: ferry, listKind: FerryList}
  scope: Namespaced
  versions:
    - name: v1
      served: true
      storage: true
      subresources: {status: {}}
      schema: {openAPIV3Schema: {type: object, x-kubernetes-preserve-unknown-fields: true}}
`
	rule := "vigila: health/v1\nof: Ferry.rule.brindle.example\nready: object.status.phase == 'moored'\nfailing: object.status.phase == 'aground'\nreason: \"'it is ' + object.status.phase\"\n"
	s.push("A ferry", map[string]string{"app/definition.yaml": definition, "app/ferry.yaml": "apiVersion: rule.brindle.example/v1\nkind: Ferry\nmetadata: {name: north}\nspec: {length: 80}\n", ".vigila/ferry.yaml": rule})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	ferries := schema.GroupVersionResource{Group: "rule.brindle.example", Version: "v1", Resource: "ferries"}
	s.until("the ferry is there", func(w client.Ward) bool {
		o, err := s.objects(ferries).Get(context.Background(), "north", metav1.GetOptions{})
		return err == nil && o.GetName() == "north"
	})
	assert.NotZero(t, s.ward().Run.Number, "the run waits for the rule")
	say := func(phase string) {
		s.patch("harbour-master", ferries, "north", types.MergePatchType, `{"status":{"phase":"`+phase+`"}}`, "status")
	}
	say("arriving")
	s.until("why it waits is said", func(w client.Ward) bool { return strings.Contains(w.Says, "it is arriving") })
	say("moored")
	s.until("it is in step and ready", inStepAndReady)
	say("aground")
	w := s.until("it is failing", func(w client.Ward) bool { return w.Health == "failing" })
	assert.Equal(t, "Ferry/north: it is aground", w.Says)
	assert.EqualValues(t, "in step", w.Standing)
	s.push("A rule with a mistake", map[string]string{".vigila/ferry.yaml": strings.Replace(rule, "== 'moored'", "=", 1)})
	s.until("the mistake is named", func(w client.Ward) bool {
		return strings.Contains(w.Says, ".vigila/ferry.yaml:3: ready is no valid CEL")
	})
	s.patch("hurry", schema.GroupVersionResource{Group: "rule.brindle.example", Version: "v1", Resource: "ferries"}, "north", types.MergePatchType, `{"metadata":{"finalizers":null}}`)
}

// TestAppliedAgainAndTakenOver: everything is applied again at each interval, silently; a newer revision takes over
// from a sync that waits.
func TestAppliedAgainAndTakenOver(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("One", map[string]string{"app/config.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s, reapply: true, newer: replace", "within: 120s"))
	s.until("it is in step and ready", inStepAndReady)
	runs := func() int { return strings.Count(s.log.String(), `"msg":"run starts"`) }
	begun := runs()
	require.Eventually(t, func() bool { return runs() >= begun+3 }, patience, 50*time.Millisecond, "again and again")
	for _, e := range s.entries() {
		assert.True(t, e.Number == 1 || e.Outcome == "running", "what changes nothing is worth no entry: %+v", e)
	}

	s.push("Never ready", map[string]string{"app/deployment.yaml": deployment("berth-hung:1", 1)})
	s.until("it waits for the deployment", func(w client.Ward) bool { return w.Run.Kind == "sync" && w.Run.Revision.Subject == "Never ready" })
	s.push("Ready after all", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1)})
	s.until("the newer one took over", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Ready after all" })
	w := s.ward()
	assert.Empty(t, w.Hold.By)
	assert.Zero(t, w.Rejections, "a revision that gave way is not bad")
	var stopped []client.Entry
	for _, e := range s.entries() {
		if e.Outcome == "stopped" {
			stopped = append(stopped, e)
		}
	}
	require.Len(t, stopped, 1)
	assert.Contains(t, stopped[0].Reason, "takes over")
}

// TestLeftFieldsBelongToOthers: by patterns of kind and name, by keys in lists; an apply of the same object for
// another reason never resets them, and takes them from nobody.
func TestLeftFieldsBelongToOthers(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A planner whose image others choose", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1), "app/config.yaml": config("berths", "count", "7")})
	ward := s.wardFile("sync: auto, drift: restore, additions: remove, every: 1s", "within: 30s") +
		"leave:\n  - {of: \"Deployment/berth-*\", fields: [\"/spec/template/spec/containers[name=app]/image\"]}\n  - {of: \"*/berths\", fields: [/data/count, /metadata/labels/tier]}\n"
	s.add(ward)
	s.until("it is in step and ready", inStepAndReady)
	image := func() string {
		c, _, _ := unstructured.NestedSlice(live(t, "apps", "v1", "deployments", s.name, "berth-planner").Object, "spec", "template", "spec", "containers")
		return c[0].(map[string]any)["image"].(string)
	}
	s.patch("image-picker", deployments, "berth-planner", types.StrategicMergePatchType, `{"spec":{"template":{"spec":{"containers":[{"name":"app","image":"registry.brindle.example/berth-planner:1.9.0"}]}}}}`)
	s.edit("counter", "configmap/berths", "data.count=nine", "metadata.labels.tier=dock")
	s.until("the new Pods are ready", func(w client.Ward) bool {
		return inStepAndReady(w) && image() == "registry.brindle.example/berth-planner:1.9.0"
	})
	assert.Zero(t, s.ward().AddedFields, "what is left is no addition either")
	assert.Contains(t, s.object("Deployment", "berth-planner").Left, "/spec/template/spec/containers[name=app]/image")

	s.push("Another image, and more replicas", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.7.0", 2), "app/config.yaml": strings.Replace(config("berths", "count", "8"), `"8"}`, `"8", more: "1"}`, 1)})
	s.until("it is synced", func(w client.Ward) bool {
		return inStepAndReady(w) && w.Applied.Subject == "Another image, and more replicas"
	})
	assert.EqualValues(t, 2, replicas(t, s), "the rest of the object is as declared")
	assert.Equal(t, "registry.brindle.example/berth-planner:1.9.0", image(), "and the image as others chose it")
	o := live(t, "", "v1", "configmaps", s.name, "berths")
	data, _, _ := unstructured.NestedStringMap(o.Object, "data")
	assert.Equal(t, map[string]string{"count": "nine", "more": "1"}, data)
	assert.Equal(t, "dock", o.GetLabels()["tier"])
	assert.Len(t, s.entries(), 2, "nothing was restored")
	for _, f := range o.GetManagedFields() {
		if f.Manager == "vigila" {
			assert.NotContains(t, f.FieldsV1.String(), "f:count", "what another owns is not taken from it")
		}
	}
}

// TestStepsWaitForEachOther: each step waits until all before it is ready, a failure leaves the later ones untried,
// and what leaves goes in the reverse order of kinds.
func TestStepsWaitForEachOther(t *testing.T) {
	t.Parallel()
	s := newService(t)
	at := func(manifest, step string) string {
		return strings.Replace(manifest, "metadata:\n  name: berth-planner\n", "metadata:\n  name: berth-planner\n  annotations: {vigila.dev/step: \""+step+"\"}\n", 1)
	}
	first := at(deployment("berth-planner:1.8.2", 1), "-1")
	last := "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: opened, annotations: {vigila.dev/step: \"7\"}}\ndata: {x: \"1\"}\n"
	s.push("A planner, then the rest", map[string]string{"app/deployment.yaml": first, "app/config.yaml": config("berths", "count", "7"), "app/last.yaml": last})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 15s"))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	s.ok("sync", s.name)
	e := s.entry(1)
	var order []string
	for i, o := range e.Objects {
		order = append(order, fmt.Sprintf("%d %s", o.Step, o.Kind))
		if i > 0 && o.Step > e.Objects[i-1].Step {
			assert.False(t, o.Began.Before(e.Objects[i-1].Ended), "%s waits for %s", o.Name, e.Objects[i-1].Name)
		}
	}
	assert.Equal(t, []string{"-1 Namespace", "-1 Deployment", "0 ConfigMap", "7 ConfigMap"}, order)

	s.push("It never gets ready", map[string]string{"app/deployment.yaml": at(deployment("berth-hung:1", 1), "-1"), "app/config.yaml": config("berths", "count", "8"), "app/last.yaml": strings.Replace(last, `"1"}`, `"2"}`, 1)})
	s.until("it is behind", func(w client.Ward) bool { return w.Pending == 3 })
	s.fails(1, "not ready within 15 s", "sync", s.name)
	require.Eventually(t, func() bool { e = s.entry(2); return e.Outcome == "rolled back" }, patience, 50*time.Millisecond, "it is so once it has gone back")
	states := map[string]string{}
	for _, o := range e.Objects {
		states[o.Name] = string(o.State)
	}
	assert.Equal(t, map[string]string{"berth-planner": "not ready", "berths": "not tried", "opened": "not tried"}, states)
	data, _, _ := unstructured.NestedStringMap(live(t, "", "v1", "configmaps", s.name, "berths").Object, "data")
	assert.Equal(t, "7", data["count"])
	s.until("it is back", func(w client.Ward) bool { return w.Health == "ready" && w.Run.Number == 0 })

	s.push("Only the namespace", map[string]string{"app/deployment.yaml": "", "app/last.yaml": "", "app/config.yaml": "", "app/other.yaml": config("other", "x", "1")})
	s.ok("look", s.name)
	s.ok("sync", s.name, "--allow", "mass-removal")
	order = nil
	for _, o := range s.entries() {
		if o.Number == 4 {
			for _, x := range s.entry(4).Objects {
				order = append(order, x.Kind+" "+string(x.State))
			}
		}
	}
	assert.Equal(t, []string{"ConfigMap ready", "Deployment removed", "ConfigMap removed", "ConfigMap removed"}, order)
}

// TestTasksOnlyWhereTheyBelong: a rollback runs them when asked, a partial sync never, applying everything again does.
func TestTasksOnlyWhereTheyBelong(t *testing.T) {
	t.Parallel()
	s := newService(t)
	migrate := job("migrate", "migrate:1", `vigila.dev/task: before, vigila.dev/task-clean: never`)
	s.push("One", map[string]string{"app/config.yaml": config("berths", "count", "1"), "app/migrate.yaml": migrate})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 30s"))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	s.ok("sync", s.name)
	ran := func() types.UID { return live(t, "batch", "v1", "jobs", s.name, "migrate").GetUID() }
	first := ran()
	s.push("Two", map[string]string{"app/config.yaml": config("berths", "count", "2")})
	s.ok("look", s.name)
	s.ok("sync", s.name, "--only", "ConfigMap/berths")
	assert.Equal(t, first, ran(), "not with a part")
	s.ok("rollback", s.name, "1")
	assert.Equal(t, first, ran(), "not with a rollback")
	assert.Contains(t, s.ok("rollback", s.name, "1", "--tasks"), "Job migrate  task before, done")
	second := ran()
	assert.NotEqual(t, first, second, "but when asked")
	s.ok("release", s.name)
	s.ok("sync", s.name)
	s.until("it is in step", inStepAndReady)
	third := ran()
	assert.NotEqual(t, second, third, "with a sync")
	assert.Contains(t, s.ok("sync", s.name), "Nothing to do")
	assert.Equal(t, third, ran())
	s.ok("sync", s.name, "--reapply")
	assert.NotEqual(t, third, ran(), "and when everything is applied again")

	// A task that comes to be kept is adopted, one that was kept becomes a task again; none is removed on the way.
	plainJob := job("migrate", "migrate:1", `vigila.dev/replace: when-immutable`)
	s.push("A Job that is kept", map[string]string{"app/migrate.yaml": plainJob})
	s.ok("look", s.name)
	s.ok("sync", s.name)
	s.until("it is kept", inStepAndReady)
	assert.Empty(t, s.object("Job", "migrate").Task)
	s.push("A task again", map[string]string{"app/migrate.yaml": migrate})
	s.ok("look", s.name)
	assert.Contains(t, s.ok("sync", s.name), "Job migrate  task before, done")
	s.until("it is in step", inStepAndReady)
	assert.EqualValues(t, "before", s.object("Job", "migrate").Task)

	// A task that leaves the repository leaves the cluster, for nothing else's sake.
	s.push("No task", map[string]string{"app/migrate.yaml": ""})
	s.ok("look", s.name)
	assert.Equal(t, 1, s.ward().Pending)
	assert.EqualValues(t, "remove", s.object("Job", "migrate").Change)
	assert.Contains(t, s.ok("sync", s.name), "Job migrate  removed")
	assert.Nil(t, live(t, "batch", "v1", "jobs", s.name, "migrate"))
	s.until("it is in step", inStepAndReady)
	s.push("A task once more", map[string]string{"app/migrate.yaml": migrate})
	s.ok("look", s.name)
	s.ok("sync", s.name)

	// A Job of that name that is not the ward's own is never removed.
	background := metav1.DeletePropagationBackground
	require.NoError(t, s.objects(jobs).Delete(context.Background(), "migrate", metav1.DeleteOptions{PropagationPolicy: &background}))
	require.Eventually(t, func() bool { return live(t, "batch", "v1", "jobs", s.name, "migrate") == nil }, patience, 50*time.Millisecond)
	_, err := s.objects(jobs).Create(context.Background(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "batch/v1", "kind": "Job", "metadata": map[string]any{"name": "migrate"},
		"spec": map[string]any{"suspend": true, "template": map[string]any{"spec": map[string]any{"restartPolicy": "Never", "containers": []any{map[string]any{"name": "x", "image": "x"}}}}}}}, metav1.CreateOptions{})
	require.NoError(t, err)
	foreign := ran()
	s.fails(1, "is not this ward's task", "sync", s.name, "--reapply")
	assert.Equal(t, foreign, ran())
}
