package e2e

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"

	"vigila.dev/vigila/internal/client"
)

const slowTask = "apiVersion: batch/v1\nkind: Job\nmetadata: {name: migrate, annotations: {vigila.dev/task: before, vigila.dev/task-clean: never}}\nspec: {template: {spec: {restartPolicy: Never, containers: [{name: migrate, image: registry.brindle.example/migrate:1}]}}}\n"

// TestARestoreRestoresAndNothingElse: no task, nothing new, no rejection; and what was changed is in the logbook.
func TestARestoreRestoresAndNothingElse(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("One", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "app/task.yaml": slowTask})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 30s"))
	s.ok("sync", s.name)
	ran := live(t, "batch", "v1", "jobs", s.name, "migrate")
	require.NotNil(t, ran)
	s.push("Two", map[string]string{"app/bell.yaml": config("bell", "x", "1")})
	s.until("it is behind", func(w client.Ward) bool { return w.Pending > 0 })
	s.edit("kubectl-edit", "configmap/horn", "data.interval=10s")
	w := s.until("it is drifted", func(w client.Ward) bool { return w.Standing == "drifted" })
	assert.Contains(t, w.Todo, "Restore it: vigila restore "+s.name+"@quay")
	s.fails(3, "data.interval  10s  →  30s", "restore", s.name, "--preview")
	s.ok("restore", s.name)
	assert.Equal(t, ran.GetUID(), live(t, "batch", "v1", "jobs", s.name, "migrate").GetUID(), "no task runs")
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "bell"), "nothing new is carried in")
	w = s.until("it is behind again", func(w client.Ward) bool { return w.Standing == "behind" })
	assert.Empty(t, w.Rejected)
	assert.Contains(t, s.ok("logbook", "--search", "kubectl-edit "+s.name), "kubectl-edit changed data.interval of ConfigMap/horn from 30s to 10s")
}

// TestWhatIsRemovedIsNotBuiltUpAgain: an automatic ward is dismantled, also across a kill, and its logbook stays readable.
func TestWhatIsRemovedIsNotBuiltUpAgain(t *testing.T) {
	t.Parallel()
	s := newService(t)
	kept := "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: charts, annotations: {vigila.dev/guard: no-prune}}\n"
	s.push("One", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1), "app/charts.yaml": kept, "app/horn.yaml": config("horn", "x", "1")})
	s.add(strings.Replace(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"), ", create_namespace: true", "", 1))
	_, err := dynamicClient(t).Resource(namespaces).Create(context.Background(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "Namespace", "metadata": map[string]any{"name": s.name}}}, metav1.CreateOptions{})
	require.NoError(t, err)
	s.until("it is in step", inStepAndReady)
	r, err := s.api.RemoveWardWithResponse(context.Background(), s.name+"@quay", &client.RemoveWardParams{Dismantle: true, Why: "gale"})
	require.NoError(t, s.api.Check(r, err))
	s.kill()
	s.start()
	s.ok("ward", "list") // it goes on by itself
	require.Eventually(t, func() bool {
		r, err := s.api.GetWardWithResponse(context.Background(), s.name+"@quay")
		return err == nil && r.StatusCode() == 404
	}, patience, patience/600)
	assert.Nil(t, live(t, "apps", "v1", "deployments", s.name, "berth-planner"))
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "horn"))
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "charts"), "what may never be removed is left")
	out := s.ok("logbook", s.name)
	assert.Contains(t, out, "is not kept any more; this is its logbook")
	assert.Contains(t, out, "first sync")
	assert.Contains(t, out, "remove")
}

// TestAHandOverWithinOneCommit: an object moves from one ward to another, and is never gone; where a lookout keeps both of them too, which does not
// know of the other ward before it is told.
func TestAHandOverWithinOneCommit(t *testing.T) {
	t.Parallel()
	t.Run("reached", func(t *testing.T) {
		t.Parallel()
		handsOver(t, newService(t))
	})
	t.Run("by a lookout", func(t *testing.T) {
		t.Parallel()
		s := newService(t)
		l := s.lookoutOf("quay")
		handsOver(t, s)
		l.kill()
		s.here("quay", false)
		out, _, _ := s.cli("roster", "sync", s.name, "--preview")
		assert.Contains(t, out, "was heard of last at", "a lookout that is away keeps nobody from seeing the others")
	})
}

func handsOver(t *testing.T, s *service) {
	file := func(name string) string {
		return fmt.Sprintf("vigila: ward/v1\nname: %[2]s\nfrom: {path: apps/%[2]s}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\nsettle: {within: 30s}\n", s.name, name)
	}
	a, b := s.name+"-a", s.name+"-b"
	s.push("Two wards", map[string]string{"wards/a.yaml": file(a), "apps/" + a + "/own.yaml": config("own-a", "x", "1"), "apps/" + a + "/moving.yaml": config("moving", "x", "1")})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.untilOf(a+"@quay", "is in step", inStepAndReady)
	before := live(t, "", "v1", "configmaps", s.name, "moving")
	require.NotNil(t, before)
	s.push("Moved", map[string]string{"apps/" + a + "/moving.yaml": "", "wards/b.yaml": file(b), "apps/" + b + "/moving.yaml": config("moving", "x", "1"), "apps/" + b + "/own.yaml": config("own-b", "x", "1")})
	s.ok("roster", "look", s.name)
	s.untilOf(b+"@quay", "keeps it", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Moved" })
	w := s.untilOf(a+"@quay", "let it go", inStepAndReady)
	assert.Empty(t, w.Rejected)
	after := live(t, "", "v1", "configmaps", s.name, "moving")
	require.NotNil(t, after)
	assert.Equal(t, before.GetUID(), after.GetUID(), "it was never gone")
	assert.Equal(t, b, after.GetLabels()["vigila.dev/ward"])

	// The ward is renamed: its objects are handed over, and the namespace that both wanted belongs to nobody's prune.
	c := s.name + "-c"
	s.push("Renamed", map[string]string{"wards/b.yaml": "", "wards/c.yaml": strings.Replace(file(c), "apps/"+c, "apps/"+b, 1)})
	s.ok("roster", "look", s.name)
	s.untilOf(c+"@quay", "keeps them", inStepAndReady)
	renamed := live(t, "", "v1", "configmaps", s.name, "moving")
	require.NotNil(t, renamed)
	assert.Equal(t, before.GetUID(), renamed.GetUID())
	assert.Equal(t, c, renamed.GetLabels()["vigila.dev/ward"])
}

// TestARemovalTakenBackInTime: while a sync that is to remove an object still waits for another, a commit declares the object again.
func TestARemovalTakenBackInTime(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A horn", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "app/bell.yaml": config("bell", "interval", "30s"), "app/mast.yaml": config("mast", "height", "9")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s"))
	s.until("it is in step", inStepAndReady)
	before := live(t, "", "v1", "configmaps", s.name, "horn")
	require.NotNil(t, before)
	s.push("A gate for the horn and the bell", map[string]string{"app/gate.yaml": gate, "app/horn.yaml": "", "app/bell.yaml": ""})
	s.until("it waits for an address", func(w client.Ward) bool { return w.Run.Number == 2 })
	s.push("The horn is wanted after all", map[string]string{"app/horn.yaml": config("horn", "interval", "30s")})
	s.until("that is read", func(w client.Ward) bool { return w.Revision.Subject == "The horn is wanted after all" })
	s.open(true)
	s.until("it goes on", func(w client.Ward) bool {
		return inStepAndReady(w) && w.Applied.Subject == "The horn is wanted after all"
	})
	after := live(t, "", "v1", "configmaps", s.name, "horn")
	require.NotNil(t, after)
	assert.Equal(t, before.GetUID(), after.GetUID(), "it was never gone")
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "bell"), "nobody took that back")
	out := s.ok("logbook", s.name, "2")
	assert.Contains(t, out, "declared again by ")
}

// TestAnAdoptionShowsWhatChanges: of an object made by a client-side apply, the mark and what is not declared any more;
// defaults, which the API server fills in again, are no change.
func TestAnAdoptionShowsWhatChanges(t *testing.T) {
	t.Parallel()
	s := newService(t)
	dyn := dynamicClient(t)
	_, err := dyn.Resource(namespaces).Create(context.Background(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "Namespace", "metadata": map[string]any{"name": s.name}}}, metav1.CreateOptions{})
	require.NoError(t, err)
	old := map[string]any{"apiVersion": "apps/v1", "kind": "Deployment", "metadata": map[string]any{"name": "berth-planner", "annotations": map[string]any{"kubectl.kubernetes.io/last-applied-configuration": "{\"kind\":\"Deployment\"}"}},
		"spec": map[string]any{"replicas": int64(1), "minReadySeconds": int64(1), "selector": map[string]any{"matchLabels": map[string]any{"app": "berth-planner"}}, "template": map[string]any{"metadata": map[string]any{"labels": map[string]any{"app": "berth-planner"}},
			"spec": map[string]any{"containers": []any{map[string]any{"name": "app", "image": "registry.brindle.example/berth-planner:1.8.2", "ports": []any{map[string]any{"containerPort": int64(8080)}}, "resources": map[string]any{"limits": map[string]any{"cpu": "1", "memory": "128Mi"}}}}}}}}
	_, err = dyn.Resource(deployments).Namespace(s.name).Create(context.Background(), &unstructured.Unstructured{Object: old}, metav1.CreateOptions{FieldManager: "kubectl-client-side-apply"})
	require.NoError(t, err)
	s.push("The same", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1)})
	s.add(strings.Replace(s.wardFile("sync: ask, drift: report, every: 1s", "within: 60s"), ", create_namespace: true", "", 1))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	r, err := s.api.DiffWardWithResponse(context.Background(), s.name)
	require.NoError(t, s.api.Check(r, err))
	require.Len(t, r.JSON200.Changes, 1)
	got := map[string]string{}
	for _, f := range r.JSON200.Changes[0].Fields {
		got[f.Path] = string(f.Change)
	}
	assert.Equal(t, map[string]string{"metadata.labels[vigila.dev/ward]": "added", "metadata.annotations[vigila.dev/service]": "added",
		"metadata.annotations[kubectl.kubernetes.io/last-applied-configuration]": "removed", "spec.minReadySeconds": "removed"}, got)
	s.ok("sync", s.name)
	d := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
	_, there, err := unstructured.NestedInt64(d.Object, "spec", "minReadySeconds")
	require.NoError(t, err)
	assert.False(t, there, "and so it is done")
	s.until("it is in step", inStepAndReady)
}

// TestADeletedDefinitionIsMended: the ward that keeps it is not blind, and makes it again with what it defines.
func TestADeletedDefinitionIsMended(t *testing.T) {
	t.Parallel()
	s := newService(t)
	definition := "apiVersion: apiextensions.k8s.io/v1\nkind: CustomResourceDefinition\nmetadata: {name: tugs.mend.brindle.example}\nspec: {group: mend.brindle.example, names: {kind: Tug, plural: tugs}, scope: Namespaced, versions: [{name: v1, served: true, storage: true, schema: {openAPIV3Schema: {type: object, x-kubernetes-preserve-unknown-fields: true}}}]}\n"
	s.push("A tug", map[string]string{"app/definition.yaml": definition, "app/tug.yaml": "apiVersion: mend.brindle.example/v1\nkind: Tug\nmetadata: {name: north}\nspec: {length: 20}\n"})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	s.until("it is in step", inStepAndReady)
	require.NoError(t, dynamicClient(t).Resource(definitions).Delete(context.Background(), "tugs.mend.brindle.example", metav1.DeleteOptions{}))
	s.until("it is seen", func(w client.Ward) bool {
		return w.Standing != "in step" || w.Run.Number > 0 || w.Applied.Id != "" && len(s.entries()) > 1
	})
	s.until("it is mended", func(w client.Ward) bool { return inStepAndReady(w) && len(s.entries()) > 1 })
	assert.NotNil(t, live(t, "mend.brindle.example", "v1", "tugs", s.name, "north"))
}

// TestTwoVersionsOfOneKind: each ward reads its objects in the version it declares them in, so that what one version
// lacks is nobody's drift; and an object moves from one version to the other where it is.
func TestTwoVersionsOfOneKind(t *testing.T) {
	t.Parallel()
	s := newService(t)
	scaler := func(name, version, target string) string {
		return fmt.Sprintf("apiVersion: autoscaling/%s\nkind: HorizontalPodAutoscaler\nmetadata: {name: %s}\nspec: {minReplicas: 2, maxReplicas: 5, scaleTargetRef: {apiVersion: apps/v1, kind: Deployment, name: nobody}, %s}\n", version, name, target)
	}
	const first, second = "targetCPUUtilizationPercentage: 60", "metrics: [{type: Resource, resource: {name: cpu, target: {type: Utilization, averageUtilization: 60}}}]"
	s.push("Two versions", map[string]string{"app/old.yaml": scaler("old", "v1", first), "app/new.yaml": scaler("new", "v2", second)})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s, otherwise: stop"))
	s.until("all of it is there", func(w client.Ward) bool { return w.Standing == "in step" && w.Run.Number == 0 })
	before := live(t, "autoscaling", "v2", "horizontalpodautoscalers", s.name, "old")
	s.push("One more", map[string]string{"app/horn.yaml": config("horn", "x", "1")})
	s.until("it is in step again", func(w client.Ward) bool { return w.Standing == "in step" && w.Applied.Subject == "One more" })
	s.edit("kubectl-edit", "horizontalpodautoscaler/old", "spec.maxReplicas=9")
	s.until("that is noticed and put back, and nothing else", func(w client.Ward) bool {
		return w.Standing == "in step" && w.Run.Number == 0 && len(s.entries()) == 3
	})
	drift := s.entries()[0]
	assert.EqualValues(t, "restore", drift.Kind)
	assert.Contains(t, drift.Why, "kubectl-edit changed spec.maxReplicas of HorizontalPodAutoscaler/old from 5 to 9")

	s.push("Both are new", map[string]string{"app/old.yaml": scaler("old", "v2", second)})
	s.until("it has moved", func(w client.Ward) bool { return w.Standing == "in step" && w.Applied.Subject == "Both are new" })
	after := live(t, "autoscaling", "v2", "horizontalpodautoscalers", s.name, "old")
	assert.Equal(t, before.GetUID(), after.GetUID())
	s.ok("look", s.name)
	w := s.ward()
	assert.Equal(t, "in step", string(w.Standing), w.Says)
	for _, e := range s.entries()[:1] {
		assert.EqualValues(t, "sync", e.Kind, "the move is no drift: %s %s", e.Reason, e.Why)
	}
}

// TestARefusedReplacementLosesNothing: what would be refused as a new object is refused before the old one is deleted.
func TestARefusedReplacementLosesNothing(t *testing.T) {
	t.Parallel()
	s := newService(t)
	changed := func(app string) string {
		return strings.Replace(strings.ReplaceAll(deployment("berth-planner:1.8.2", 1), "app: berth-planner", "app: "+app), "  name: berth-planner\n", "  name: berth-planner\n  annotations: {vigila.dev/replace: when-immutable}\n", 1)
	}
	s.push("A planner", map[string]string{"app/deployment.yaml": changed("berth-planner")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	before := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
	// From now on the cluster takes no new Deployment there.
	dyn := dynamicClient(t)
	admission := schema.GroupVersion{Group: "admissionregistration.k8s.io", Version: "v1"}
	for _, o := range []map[string]any{
		{"apiVersion": admission.String(), "kind": "ValidatingAdmissionPolicy", "metadata": map[string]any{"name": s.name}, "spec": map[string]any{"failurePolicy": "Fail",
			"matchConstraints": map[string]any{"resourceRules": []any{map[string]any{"apiGroups": []any{"apps"}, "apiVersions": []any{"v1"}, "operations": []any{"CREATE"}, "resources": []any{"deployments"}}}},
			"validations":      []any{map[string]any{"expression": "false", "message": "no new planners before spring"}}}},
		{"apiVersion": admission.String(), "kind": "ValidatingAdmissionPolicyBinding", "metadata": map[string]any{"name": s.name}, "spec": map[string]any{"policyName": s.name, "validationActions": []any{"Deny"},
			"matchResources": map[string]any{"namespaceSelector": map[string]any{"matchLabels": map[string]any{"kubernetes.io/metadata.name": s.name}}}}}} {
		r := dyn.Resource(admission.WithResource(map[string]string{"ValidatingAdmissionPolicy": "validatingadmissionpolicies", "ValidatingAdmissionPolicyBinding": "validatingadmissionpolicybindings"}[o["kind"].(string)]))
		_, err := r.Create(context.Background(), &unstructured.Unstructured{Object: o}, metav1.CreateOptions{})
		require.NoError(t, err)
		t.Cleanup(func() { _ = r.Delete(context.Background(), s.name, metav1.DeleteOptions{}) })
	}
	require.Eventually(t, func() bool {
		probe := before.DeepCopy()
		probe.Object["metadata"] = map[string]any{"name": "probe", "namespace": s.name}
		_, err := s.objects(deployments).Create(context.Background(), probe, metav1.CreateOptions{DryRun: []string{metav1.DryRunAll}})
		return err != nil && strings.Contains(err.Error(), "before spring")
	}, patience, patience/600)
	s.push("Another selector", map[string]string{"app/deployment.yaml": changed("berth-planner-2")})
	w := s.until("it is refused", func(w client.Ward) bool { return w.Rejected != "" && w.Run.Number == 0 })
	failed := s.entries()
	i := slices.IndexFunc(failed, func(e client.Entry) bool { return e.Kind == "sync" && e.Outcome != "done" })
	require.GreaterOrEqual(t, i, 0, w.Says)
	assert.Contains(t, failed[i].Reason, "the new one would be refused, so it is left as it is")
	assert.Contains(t, failed[i].Reason, "no new planners before spring")
	after := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
	require.NotNil(t, after)
	assert.Equal(t, before.GetUID(), after.GetUID(), "it was never deleted")
}

// TestAKeptJobThatEndsByItsOwnRule: the cluster removes it, and nobody makes it again.
func TestAKeptJobThatEndsByItsOwnRule(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A report", map[string]string{"app/job.yaml": strings.Replace(job("report", "gate-report:1", ""), "spec:\n", "spec:\n  ttlSecondsAfterFinished: 1\n", 1), "app/horn.yaml": config("horn", "x", "1")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	require.Eventually(t, func() bool { return live(t, "batch", "v1", "jobs", s.name, "report") == nil }, patience, patience/600)
	s.edit("kubectl-edit", "configmap/horn", "data.x=loud") // what is drift is put back, so the restores do go on
	s.until("that is put back", func(w client.Ward) bool {
		return inStepAndReady(w) && slices.ContainsFunc(s.entries(), func(e client.Entry) bool { return e.Kind == "restore" })
	})
	assert.Nil(t, live(t, "batch", "v1", "jobs", s.name, "report"), "it ran, and is over")
	for _, e := range s.entries() {
		assert.NotContains(t, e.Why+e.Reason, "Job/report", "%s #%d", e.Kind, e.Number)
	}
}

// TestATaskWaitsForTheOneBefore: a task is gone when its Pods are gone, not when it was asked to go.
func TestATaskWaitsForTheOneBefore(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("One", map[string]string{"app/horn.yaml": config("horn", "x", "1"), "app/task.yaml": slowTask})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 60s"))
	s.ok("sync", s.name)
	first := live(t, "batch", "v1", "jobs", s.name, "migrate")
	require.NotNil(t, first)
	pods := schema.GroupVersionResource{Version: "v1", Resource: "pods"}
	list, err := s.objects(pods).List(context.Background(), metav1.ListOptions{})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	pod := list.Items[0].GetName()
	s.patch("node", pods, pod, types.MergePatchType, `{"metadata": {"finalizers": ["brindle.example/still-writing"]}}`)
	s.push("Two", map[string]string{"app/horn.yaml": config("horn", "x", "2")})
	s.ok("look", s.name)
	s.ok("sync", s.name, "--no-wait")
	require.Eventually(t, func() bool {
		p := live(t, "", "v1", "pods", s.name, pod)
		return p != nil && p.GetDeletionTimestamp() != nil
	}, patience, patience/600)
	now := live(t, "batch", "v1", "jobs", s.name, "migrate")
	require.NotNil(t, now, "the old one stands as long as its Pod does")
	assert.Equal(t, first.GetUID(), now.GetUID())
	assert.Equal(t, "1", live(t, "", "v1", "configmaps", s.name, "horn").Object["data"].(map[string]any)["x"], "and nothing goes past it")
	s.patch("node", pods, pod, types.MergePatchType, `{"metadata": {"finalizers": null}}`)
	s.until("the run ends", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Two" })
	now = live(t, "batch", "v1", "jobs", s.name, "migrate")
	require.NotNil(t, now)
	assert.NotEqual(t, first.GetUID(), now.GetUID())
}

// TestBringingUpRespectsWhatPeopleDecided: only what was never up, or syncs by itself, moves when a roster is brought up;
// and a ward that asks keeps asking when its first run fails.
func TestBringingUpRespectsWhatPeopleDecided(t *testing.T) {
	t.Parallel()
	s := newService(t)
	file := func(name string) string {
		return fmt.Sprintf("vigila: ward/v1\nname: %[2]s\nfrom: {path: apps/%[2]s}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {sync: ask, every: 1s}\nsettle: {within: 4s, otherwise: stop}\n", s.name, name)
	}
	a, b, c := s.name+"-a", s.name+"-b", s.name+"-c"
	s.push("One", map[string]string{"wards/a.yaml": file(a), "apps/" + a + "/horn.yaml": config("horn", "x", "1")})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.ok("roster", "sync", s.name)
	s.push("Two", map[string]string{"apps/" + a + "/horn.yaml": config("horn", "x", "2")})
	s.ok("look", a)
	s.ok("sync", a)
	s.ok("rollback", a, "1", "--why", "it is too loud")
	s.push("Two more wards", map[string]string{"wards/b.yaml": file(b), "apps/" + b + "/bell.yaml": config("bell", "x", "1"),
		"wards/c.yaml": file(c), "apps/" + c + "/deployment.yaml": deployment("berth-hung:1", 1)})
	s.ok("roster", "look", s.name)
	s.untilOf(c+"@quay", "is read", func(w client.Ward) bool { return w.Pending > 0 })
	s.untilOf(b+"@quay", "is read", func(w client.Ward) bool { return w.Pending > 0 })
	s.untilOf(a+"@quay", "is behind", func(w client.Ward) bool { return w.Pending > 0 })
	out := s.ok("roster", "sync", s.name, "--preview")
	assert.Contains(t, out, "2 wards of 3 would sync")
	assert.Regexp(t, a+`@quay +stay as it is +1 +held by admin: it is too loud`, out)
	assert.Regexp(t, b+`@quay +sync +\d +never synced`, out)
	out, _, code := s.cli("roster", "sync", s.name)
	assert.Equal(t, 1, code, "one of them can't get there: %s", out)
	assert.Contains(t, out, a+"@quay")
	s.untilOf(b+"@quay", "came up", inStepAndReady)
	s.untilOf(c+"@quay", "failed", func(w client.Ward) bool { return w.Run.Number == 0 && len(s.entriesOf(c)) > 0 })
	assert.Equal(t, "1", live(t, "", "v1", "configmaps", s.name, "horn").Object["data"].(map[string]any)["x"], "what was taken back stays so")
	runs := len(s.entriesOf(c))
	s.push("It still hangs", map[string]string{"apps/" + c + "/deployment.yaml": deployment("berth-hung:2", 1)})
	s.ok("look", c)
	s.untilOf(c+"@quay", "is behind", func(w client.Ward) bool { return w.Pending > 0 && w.Revision.Subject == "It still hangs" })
	assert.Len(t, s.entriesOf(c), runs, "it asks")
}
