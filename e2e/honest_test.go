package e2e

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"

	"vigila.dev/vigila/internal/client"
)

// TestAStoppedRolloutIsSaid: what a person stopped half way is in step with nothing, needs a person, and names both ways out.
func TestAStoppedRolloutIsSaid(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Whole", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1), "app/horn.yaml": config("horn", "x", "1")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	whole := s.until("it is in step", inStepAndReady)
	late := strings.Replace(config("bell", "x", "1"), "{name: bell}", "{name: bell, annotations: {vigila.dev/step: \"1\"}}", 1)
	s.push("Half", map[string]string{"app/deployment.yaml": deployment("berth-hung:1", 1), "app/bell.yaml": late})
	s.until("it waits for the Pod that hangs", func(w client.Ward) bool {
		d := live(t, "apps", "v1", "deployments", s.name, "berth-planner")
		return w.Run.Number > 0 && strings.Contains(s.object("Deployment", "berth-planner").Reason, "running, not ready") && strings.Contains(jsonText(t, d.Object), "berth-hung")
	})
	s.ok("sync", s.name, "--stop")
	w := s.until("it is stopped", func(w client.Ward) bool { return w.Run.Number == 0 && w.Hold.By != "" })
	assert.NotEqual(t, "in step", string(w.Standing))
	assert.True(t, w.NeedsYou)
	assert.Contains(t, w.Says, "Sync #2 was stopped half way")
	assert.Contains(t, w.Says, whole.Applied.Id[:7])
	assert.Contains(t, w.Todo, "Go back: vigila rollback "+s.name+"@quay 1")
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "bell"))
	s.ok("rollback", s.name, "1")
	w = s.until("it is back", func(w client.Ward) bool { return w.Run.Number == 0 && w.Health == "ready" })
	assert.NotContains(t, w.Says, "half way")
}

// TestAClusterThatWasRestored: one whose etcd goes back to an earlier state, and one that is built anew at the same
// address, are compared as they are, though every version of theirs is lower than what was seen before.
func TestAClusterThatWasRestored(t *testing.T) {
	t.Parallel()
	s := newService(t)
	dir := filepath.Join(t.TempDir(), "lab")
	stop := startLab(t, dir)
	s.ok("cluster", "add", "skerry", "--kubeconfig", filepath.Join(dir, "kubeconfig", "skerry.yaml"))
	id := s.name + "@skerry"
	s.push("One", map[string]string{"app/horn.yaml": config("horn", "x", "1"), "app/bell.yaml": config("bell", "x", "1")})
	s.add(strings.Replace(s.wardFile("sync: auto, drift: report, every: 1s", "within: 30s"), "cluster: quay", "cluster: skerry", 1))
	s.untilOf(id, "is in step", inStepAndReady)
	stop()
	require.NoError(t, os.CopyFS(filepath.Join(dir, "kept"), os.DirFS(filepath.Join(dir, "etcd"))))
	stop = startLab(t, dir)
	s.push("Two", map[string]string{"app/horn.yaml": config("horn", "x", "2"), "app/bell.yaml": ""})
	s.untilOf(id, "is in step with Two", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Two" })

	stop()
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "etcd")))
	require.NoError(t, os.Rename(filepath.Join(dir, "kept"), filepath.Join(dir, "etcd")))
	stop = startLab(t, dir)
	w := s.untilOf(id, "is seen to be as it was before", func(w client.Ward) bool { return w.Standing == "drifted" && w.Run.Number == 0 })
	assert.Equal(t, 1, w.Drifted, w.Says)
	out, _, _ := s.cli("diff", id)
	assert.Regexp(t, `data\.x +applied 2 +live 1`, out)
	s.ok("restore", id)
	s.untilOf(id, "is in step again", inStepAndReady)
	require.Eventually(t, func() bool { return !strings.Contains(s.ok("ward", "show", id), "bell") }, patience, patience/600, "what was removed is removed once more")

	stop()
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "etcd")))
	startLab(t, dir)
	w = s.untilOf(id, "is seen to be empty", func(w client.Ward) bool { return w.Standing == "drifted" && w.Drifted >= 2 })
	assert.Contains(t, w.Says, "and 1 more", "all of it")
	s.ok("restore", id)
	s.untilOf(id, "is whole again", inStepAndReady)
}

// startLab runs a cluster of its own, skerry, that can be stopped and started again over the same state.
func startLab(t *testing.T, dir string) (stop func()) {
	t.Helper()
	_ = os.Remove(filepath.Join(dir, "lab.json"))
	cmd := exec.Command(filepath.Join(bin, "vigila-lab"), "up", "--dir", dir, "--clusters", "skerry")
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	over := false
	stop = func() {
		if !over {
			over = true
			_ = cmd.Process.Signal(syscall.SIGTERM)
			_ = cmd.Wait()
		}
	}
	t.Cleanup(stop)
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "lab.json"))
		return err == nil
	}, 2*time.Minute, 50*time.Millisecond)
	return stop
}

func jsonText(t *testing.T, v any) string {
	t.Helper()
	b, err := json.Marshal(v)
	require.NoError(t, err)
	return string(b)
}

// TestAnEmptyContainerIsNotItsContents: `strategy: {}` is a place that was named, not everything in it; what another sets
// there is an addition, and restoring takes nothing of it as our own.
func TestAnEmptyContainerIsNotItsContents(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("An empty strategy", map[string]string{"app/deployment.yaml": strings.Replace(deployment("berth-planner:1.8.2", 1), "spec:\n  replicas", "spec:\n  strategy: {}\n  replicas", 1)})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	s.until("it is in step", inStepAndReady)
	s.patch("tuner", deployments, "berth-planner", types.StrategicMergePatchType, `{"spec": {"strategy": {"rollingUpdate": {"maxSurge": 3}}}}`)
	s.until("it is an addition", func(w client.Ward) bool { return w.AddedFields == 1 && w.Standing == "in step" })
	s.edit("kubectl-scale", "deployment/berth-planner", "spec.replicas=2")
	s.until("that is put back", func(w client.Ward) bool {
		return inStepAndReady(w) && slices.ContainsFunc(s.entries(), func(e client.Entry) bool { return e.Kind == "restore" })
	})
	surge, _, err := unstructured.NestedInt64(live(t, "apps", "v1", "deployments", s.name, "berth-planner").Object, "spec", "strategy", "rollingUpdate", "maxSurge")
	require.NoError(t, err)
	assert.EqualValues(t, 3, surge)
	s.patch("tuner", deployments, "berth-planner", types.StrategicMergePatchType, `{"spec": {"strategy": {"rollingUpdate": {"maxSurge": 4}}}}`)
	s.edit("kubectl-edit", "deployment/berth-planner", "spec.replicas=3") // once this is noticed, so is what came before it
	s.until("that is put back too", func(w client.Ward) bool {
		return inStepAndReady(w) && slices.ContainsFunc(s.entries(), func(e client.Entry) bool { return e.Kind == "restore" && strings.Contains(e.Why, "kubectl-edit") })
	})
	for _, e := range s.entries() {
		assert.NotContains(t, e.Why+e.Reason, "maxSurge", "%s #%d", e.Kind, e.Number)
	}
	assert.Equal(t, 1, s.ward().AddedFields)
}

// TestWhatNobodyHasToWaitFor: a Deployment that is paused and a claim that is bound once a Pod uses it are no reason to
// let a run fail.
func TestWhatNobodyHasToWaitFor(t *testing.T) {
	t.Parallel()
	s := newService(t)
	classes := dynamicClient(t).Resource(schema.GroupVersionResource{Group: "storage.k8s.io", Version: "v1", Resource: "storageclasses"})
	_, err := classes.Create(context.Background(), &unstructured.Unstructured{Object: map[string]any{"apiVersion": "storage.k8s.io/v1", "kind": "StorageClass", "metadata": map[string]any{"name": s.name},
		"provisioner": "disks.brindle.example", "volumeBindingMode": "WaitForFirstConsumer"}}, metav1.CreateOptions{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = classes.Delete(context.Background(), s.name, metav1.DeleteOptions{}) })
	paused := strings.Replace(deployment("berth-planner:1.8.2", 1), "spec:\n  replicas", "spec:\n  paused: true\n  replicas", 1)
	s.push("A pause and a claim", map[string]string{"app/deployment.yaml": paused, "app/claim.yaml": strings.Replace(claim("charts"), "storageClassName: none", "storageClassName: "+s.name, 1)})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 10s"))
	w := s.until("it is in step", func(w client.Ward) bool { return len(s.entries()) > 0 && s.entries()[0].Outcome != "running" })
	assert.Empty(t, w.Rejected)
	assert.EqualValues(t, "done", s.entries()[0].Outcome, s.entries()[0].Reason)
	s.until("it is ready", inStepAndReady)
	// The same claim in a class that binds at once is waited for.
	s.push("And one that is bound at once", map[string]string{"app/now.yaml": claim("now")})
	s.until("that is waited for, and fails", func(w client.Ward) bool {
		return w.Run.Number == 0 && slices.ContainsFunc(s.entries(), func(e client.Entry) bool { return e.Kind == "sync" && e.Outcome != "done" })
	})
}

// TestASyncByHandAsksBeforeItsTurn: a ward that is to wait for others says so when a person starts it, and in the preview.
func TestASyncByHandAsksBeforeItsTurn(t *testing.T) {
	t.Parallel()
	s := newService(t)
	base := s.name + "-base"
	s.push("Two", map[string]string{"base/deployment.yaml": config("base", "x", "1"), "app/horn.yaml": config("horn", "x", "1")})
	file := s.wardFile("sync: ask, every: 1s", "within: 30s")
	s.add(strings.Replace(strings.Replace(file, "path: app", "path: base", 1), "name: "+s.name+"\n", "name: "+base+"\n", 1))
	s.add(file + "after: [" + base + "]\n")
	s.until("it is read", func(w client.Ward) bool { return w.Pending > 0 })
	out, _, _ := s.cli("sync", s.name, "--preview")
	assert.Contains(t, out, "it is to wait for "+base+"@quay")
	s.fails(1, "--allow order", "sync", s.name)
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "horn"))
	s.ok("sync", s.name, "--allow", "order")
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "horn"))
	s.ok("sync", base)
	s.push("Again", map[string]string{"app/horn.yaml": config("horn", "x", "2")})
	s.ok("look", s.name)
	s.ok("sync", s.name)
}
