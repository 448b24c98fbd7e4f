package health

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	utiljson "k8s.io/apimachinery/pkg/util/json"
)

func body(t *testing.T, text string) map[string]any {
	t.Helper()
	var b map[string]any
	require.NoError(t, utiljson.Unmarshal([]byte(text), &b))
	return b
}

func TestOf(t *testing.T) {
	for name, c := range map[string]struct {
		group, kind, body string
		word              Word
		reason            string
	}{
		"being deleted":       {"", "ConfigMap", `{"metadata":{"deletionTimestamp":"2026-11-23T06:00:00Z"}}`, Settling, "being deleted"},
		"no status":           {"", "ConfigMap", `{"data":{}}`, Ready, ""},
		"not seen yet":        {"apps", "Deployment", `{"metadata":{"generation":2},"status":{"observedGeneration":1}}`, Settling, "its controller has not seen the change yet"},
		"deployment new":      {"apps", "Deployment", `{"spec":{"replicas":2}}`, Settling, "not started yet"},
		"deployment ready":    {"apps", "Deployment", `{"metadata":{"generation":1},"spec":{"replicas":2},"status":{"observedGeneration":1,"replicas":2,"updatedReplicas":2,"availableReplicas":2}}`, Ready, ""},
		"deployment rolling":  {"apps", "Deployment", `{"spec":{"replicas":2},"status":{"observedGeneration":1,"replicas":3,"updatedReplicas":1,"availableReplicas":2}}`, Settling, "1 of 2 new Pods made"},
		"deployment old pods": {"apps", "Deployment", `{"spec":{"replicas":2},"status":{"observedGeneration":1,"replicas":3,"updatedReplicas":2,"availableReplicas":2}}`, Settling, "1 old Pod still to go"},
		"deployment scaled 0": {"apps", "Deployment", `{"spec":{"replicas":0},"status":{"observedGeneration":1}}`, Ready, ""},
		"deployment late":     {"apps", "Deployment", `{"spec":{"replicas":1},"status":{"observedGeneration":1,"replicas":1,"updatedReplicas":1,"conditions":[{"type":"Progressing","status":"False","reason":"ProgressDeadlineExceeded"}]}}`, Failing, "0 of 1 ready after its progress deadline"},
		"deployment quota":    {"apps", "Deployment", `{"spec":{"replicas":1},"status":{"observedGeneration":1,"conditions":[{"type":"ReplicaFailure","status":"True","message":"exceeded quota"}]}}`, Failing, "exceeded quota"},
		"statefulset":         {"apps", "StatefulSet", `{"spec":{"replicas":3},"status":{"observedGeneration":1,"readyReplicas":1}}`, Settling, "1 of 3 ready"},
		"statefulset rolling": {"apps", "StatefulSet", `{"spec":{"replicas":3},"status":{"observedGeneration":1,"readyReplicas":3,"updatedReplicas":1}}`, Settling, "1 of 3 updated"},
		"statefulset part":    {"apps", "StatefulSet", `{"spec":{"replicas":3,"updateStrategy":{"rollingUpdate":{"partition":2}}},"status":{"observedGeneration":1,"readyReplicas":3,"updatedReplicas":1}}`, Ready, ""},
		"daemonset":           {"apps", "DaemonSet", `{"status":{"observedGeneration":1,"desiredNumberScheduled":3,"updatedNumberScheduled":3,"numberAvailable":2}}`, Settling, "2 of 3 nodes ready"},
		"job done":            {"batch", "Job", `{"status":{"conditions":[{"type":"Complete","status":"True"}]}}`, Ready, ""},
		"job failed":          {"batch", "Job", `{"status":{"conditions":[{"type":"Failed","status":"True","message":"back-off limit"}]}}`, Failing, "back-off limit"},
		"claim":               {"", "PersistentVolumeClaim", `{"status":{"phase":"Pending"}}`, Settling, "waits for a volume"},
		"namespace":           {"", "Namespace", `{"status":{"phase":"Active"}}`, Ready, ""},
		"load balancer":       {"", "Service", `{"spec":{"type":"LoadBalancer"}}`, Settling, "waits for a load balancer address"},
		"definition":          {"apiextensions.k8s.io", "CustomResourceDefinition", `{"status":{"conditions":[{"type":"Established","status":"True"}]}}`, Ready, ""},
		"definition new":      {"apiextensions.k8s.io", "CustomResourceDefinition", `{}`, Settling, "not established yet"},
		"custom, ready":       {"x.example", "Berth", `{"status":{"conditions":[{"type":"Ready","status":"True"}]}}`, Ready, ""},
		"custom, not ready":   {"x.example", "Berth", `{"status":{"conditions":[{"type":"Ready","status":"False","message":"tide too low"}]}}`, Settling, "tide too low"},
		"custom, stalled":     {"x.example", "Berth", `{"status":{"conditions":[{"type":"Ready","status":"False"},{"type":"Stalled","status":"True","message":"no such pier"}]}}`, Failing, "no such pier"},
		"broken shapes":       {"apps", "Deployment", `{"spec":"x","status":{"observedGeneration":"y","conditions":"z"}}`, Settling, "0 of 1 new Pods made"},
	} {
		t.Run(name, func(t *testing.T) {
			r := Of(c.group, c.kind, body(t, c.body))
			assert.Equal(t, c.word, r.Word)
			assert.Equal(t, c.reason, r.Reason)
		})
	}
}

func TestCauseIsWhatReallyFails(t *testing.T) {
	crash := body(t, `{"metadata":{"name":"b"},"status":{"phase":"Running","containerStatuses":[{"name":"app","restartCount":3,
		"state":{"waiting":{"reason":"CrashLoopBackOff"}},"lastState":{"terminated":{"exitCode":2,"reason":"Error","message":"starting\nno fare table\n"}}}]}}`)
	fine := body(t, `{"metadata":{"name":"a"},"status":{"phase":"Running","conditions":[{"type":"Ready","status":"True"}]}}`)
	r, bad := Cause([]map[string]any{crash, fine})
	assert.True(t, bad)
	assert.Equal(t, Result{Word: Failing, Reason: "container app crash-loops, exit 2, “no fare table”, restarted 3 times"}, r)
	_, bad = Cause([]map[string]any{fine})
	assert.False(t, bad)

	for text, want := range map[string]string{
		`{"status":{"phase":"Pending","containerStatuses":[{"name":"app","image":"i:1","state":{"waiting":{"reason":"ImagePullBackOff","message":"not found"}}}]}}`: "image i:1 can't be pulled: not found",
		`{"status":{"phase":"Failed","reason":"Evicted","message":"node is full"}}`:                                                                                 "node is full",
		`{"status":{"phase":"Running","containerStatuses":[{"name":"app","state":{"terminated":{"exitCode":137,"reason":"OOMKilled"}}}]}}`:                          "container app ended, exit 137 (OOMKilled)",
	} {
		r := Pod(body(t, text))
		assert.Equal(t, Failing, r.Word)
		assert.Equal(t, want, r.Reason)
	}
}
