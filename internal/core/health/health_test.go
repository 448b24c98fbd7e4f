package health

import (
	"encoding/json"
	"errors"
	"strings"
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
		"replication":         {"", "ReplicationController", `{"spec":{"replicas":2},"status":{"readyReplicas":1}}`, Settling, "1 of 2 ready"},
		"claim lost":          {"", "PersistentVolumeClaim", `{"status":{"phase":"Lost"}}`, Failing, "its volume is lost"},
		"ingress":             {"networking.k8s.io", "Ingress", `{"status":{"loadBalancer":{"ingress":[{"ip":"192.0.2.1"}]}}}`, Ready, ""},
		"ingress new":         {"networking.k8s.io", "Ingress", `{}`, Ready, "no address yet"},
		"cronjob":             {"batch", "CronJob", `{"spec":{"suspend":true}}`, Ready, "suspended"},
		"job suspended":       {"batch", "Job", `{"spec":{"suspend":true}}`, Settling, "suspended"},
		"autoscaler":          {"autoscaling", "HorizontalPodAutoscaler", `{"status":{"conditions":[{"type":"AbleToScale","status":"True"},{"type":"ScalingActive","status":"False","reason":"FailedGetResourceMetric","message":"no metrics for cpu"}]}}`, Ready, "does not scale: no metrics for cpu"},
		"autoscaler at zero":  {"autoscaling", "HorizontalPodAutoscaler", `{"status":{"conditions":[{"type":"ScalingActive","status":"False","reason":"ScalingDisabled"}]}}`, Ready, ""},
		"budget":              {"policy", "PodDisruptionBudget", `{"status":{"conditions":[{"type":"DisruptionAllowed","status":"False","reason":"InsufficientPods"}]}}`, Ready, ""},
		"budget of nothing":   {"policy", "PodDisruptionBudget", `{"status":{"conditions":[{"type":"DisruptionAllowed","status":"False","reason":"SyncFailed","message":"no controllers found"}]}}`, Ready, "it watches over nothing: no controllers found"},
		"apiservice":          {"apiregistration.k8s.io", "APIService", `{"status":{"conditions":[{"type":"Available","status":"False","message":"no response"}]}}`, Settling, "no response"},
		"definition refused":  {"apiextensions.k8s.io", "CustomResourceDefinition", `{"status":{"conditions":[{"type":"NamesAccepted","status":"False","message":"plural in use"}]}}`, Failing, "plural in use"},
		"route":               {"gateway.networking.k8s.io", "HTTPRoute", `{"spec":{"parentRefs":[{"name":"pier"}]},"status":{"parents":[{"parentRef":{"name":"pier"},"conditions":[{"type":"Accepted","status":"True"},{"type":"ResolvedRefs","status":"True"}]}]}}`, Ready, ""},
		"route refused":       {"gateway.networking.k8s.io", "HTTPRoute", `{"spec":{"parentRefs":[{"name":"pier"}]},"status":{"parents":[{"parentRef":{"name":"pier"},"conditions":[{"type":"Accepted","status":"True"},{"type":"ResolvedRefs","status":"False","message":"no Service berths"}]}]}}`, Failing, "Gateway pier: no Service berths"},
		"route new":           {"gateway.networking.k8s.io", "GRPCRoute", `{"spec":{"parentRefs":[{"name":"pier"}]}}`, Settling, "0 of 1 parents have accepted it"},
		"gateway":             {"gateway.networking.k8s.io", "Gateway", `{"status":{"conditions":[{"type":"Accepted","status":"True"},{"type":"Programmed","status":"True"}]}}`, Ready, ""},
		"gateway pending":     {"gateway.networking.k8s.io", "Gateway", `{"status":{"conditions":[{"type":"Programmed","status":"False","reason":"Pending","message":"waits for an address"}]}}`, Settling, "waits for an address"},
		"gateway unclaimed":   {"gateway.networking.k8s.io", "Gateway", `{}`, Settling, "no controller has taken it up yet"},
		"custom, observed":    {"x.example", "Berth", `{"metadata":{"generation":3},"status":{"observedGeneration":2}}`, Settling, "its controller has not seen the change yet"},
		"custom, at work":     {"x.example", "Berth", `{"status":{"conditions":[{"type":"Ready","status":"True"},{"type":"Reconciling","status":"True","message":"moving it"}]}}`, Settling, "moving it"},
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

func TestATaskIsThroughWhenItHasEnded(t *testing.T) {
	running := `{"status":{"phase":"Running","conditions":[{"type":"Ready","status":"True"}]}}`
	assert.Equal(t, Ready, Of("", "Pod", body(t, running)).Word)
	assert.Equal(t, Settling, Task("", "Pod", body(t, running)).Word)
	assert.Equal(t, Ready, Task("", "Pod", body(t, `{"status":{"phase":"Succeeded"}}`)).Word)
	assert.True(t, Task("", "Pod", body(t, `{"status":{"phase":"Failed","message":"disk full"}}`)).Final)
}

func TestAPodWithoutANodeSaysWhy(t *testing.T) {
	pod := body(t, `{"metadata":{"name":"a"},"status":{"phase":"Pending","conditions":[{"type":"PodScheduled","status":"False","message":"0/3 nodes are available: 3 Insufficient cpu."}]}}`)
	r, ok := Cause([]map[string]any{pod})
	require.True(t, ok)
	assert.Equal(t, Result{Word: Settling, Reason: "no node takes its Pod: 0/3 nodes are available: 3 Insufficient cpu."}, r)
}

const berths = `# how our berths do
vigila: health/v1
of: Berth.harbour.brindle.example
ready: object.status.phase == "moored"
failing: has(object.status.aground) && object.status.aground
reason: '"phase " + object.status.phase'
`

func TestPodsThatKeepAStatefulSetFromGoingBack(t *testing.T) {
	set := func(seen int) map[string]any {
		return map[string]any{"metadata": map[string]any{"generation": int64(3)}, "status": map[string]any{"observedGeneration": int64(seen), "updateRevision": "old"}}
	}
	pod := func(name, revision, ready string) map[string]any {
		return map[string]any{"metadata": map[string]any{"name": name, "labels": map[string]any{"controller-revision-hash": revision}},
			"status": map[string]any{"phase": "Running", "conditions": []any{map[string]any{"type": "Ready", "status": ready}}}}
	}
	byHand, parted := set(3), set(3)
	byHand["spec"] = map[string]any{"updateStrategy": map[string]any{"type": "OnDelete"}}
	parted["spec"] = map[string]any{"ordinals": map[string]any{"start": int64(1)}, "updateStrategy": map[string]any{"rollingUpdate": map[string]any{"partition": int64(3)}}}
	broken, leaving := pod("x-3", "new", "False"), pod("x-2", "new", "False")
	leaving["metadata"].(map[string]any)["deletionTimestamp"] = "2026-11-26T03:00:00Z"
	for _, s := range []map[string]any{byHand, parted} {
		stuck, settled := Stuck(s, []map[string]any{broken})
		assert.Empty(t, stuck, "it is not to be of that revision")
		assert.True(t, settled)
	}
	for name, c := range map[string]struct {
		seen    int
		pods    []map[string]any
		stuck   []map[string]any
		settled bool
	}{
		"not seen yet":                   {2, []map[string]any{broken}, nil, false},
		"a broken one":                   {3, []map[string]any{pod("x-0", "old", "True"), broken}, []map[string]any{broken}, false},
		"one that leaves":                {3, []map[string]any{leaving}, nil, false},
		"a ready one, which is its turn": {3, []map[string]any{pod("x-3", "new", "True")}, nil, false},
		"an old one that is starting":    {3, []map[string]any{pod("x-0", "old", "False")}, nil, true},
	} {
		stuck, settled := Stuck(set(c.seen), c.pods)
		assert.Equal(t, []any{len(c.stuck), c.settled}, []any{len(stuck), settled}, name)
		if len(c.stuck) > 0 {
			assert.Equal(t, c.stuck, stuck, name)
		}
	}
}

func TestYourOwnRule(t *testing.T) {
	rules, errs := ParseRules("health/berth.yaml", []byte(berths))
	require.Empty(t, errs)
	all := Rules{{rules[0].Group, rules[0].Kind}: rules[0]}
	of := func(text string) Result { return all.Of("harbour.brindle.example", "Berth", body(t, text)) }
	assert.Equal(t, Result{Word: Ready}, of(`{"status":{"phase":"moored"}}`))
	assert.Equal(t, Result{Word: Settling, Reason: "phase arriving"}, of(`{"status":{"phase":"arriving"}}`))
	assert.Equal(t, Result{Word: Failing, Reason: "phase x"}, of(`{"status":{"phase":"x","aground":true}}`))
	assert.Equal(t, Result{Word: Settling, Reason: "its health rule can't tell yet: no such key: status"}, of(`{}`), "a field that is not there yet is no error")
	assert.Equal(t, Result{Word: Settling, Reason: "being deleted"}, of(`{"metadata":{"deletionTimestamp":"2026-11-23T06:00:00Z"},"status":{"phase":"moored"}}`))
	assert.Equal(t, Ready, all.Of("", "ConfigMap", body(t, `{}`)).Word, "other kinds are looked at as ever")
}

func TestMistakesInARuleNameThePlace(t *testing.T) {
	for from, c := range map[string][2]string{
		"health/v1":                           {"health/v9", `b.yaml:2: the first key must be vigila: health/v1, not "health/v9"`},
		"ready: o":                            {"raedy: o", "b.yaml:4: unknown key raedy; known here"},
		`== "moored"`:                         {"==", "b.yaml:4: ready is no valid CEL: Syntax error"},
		"object.status.phase ==":              {"subject.status.phase ==", "b.yaml:4: ready is no valid CEL: undeclared reference to 'subject'"},
		`'"phase " + object.status.phase'`:    {"size([1])", "b.yaml:6: reason gives a int; it must give a string"},
		"of: Berth.harbour.brindle.example\n": {"", "b.yaml:2: the rule has no of"},
	} {
		from = strings.ReplaceAll(from, "\\n", "\n")
		require.Contains(t, berths, from)
		_, errs := ParseRules("b.yaml", []byte(strings.Replace(berths, from, c[0], 1)))
		require.NotEmpty(t, errs, from)
		assert.ErrorContains(t, errors.Join(errs...), c[1])
	}
	assert.True(t, IsRules([]byte(berths)))
	assert.False(t, IsRules([]byte("vigila: ward/v1")))
}

func TestTheSchemaKnowsTheSameKeys(t *testing.T) {
	var schema struct {
		Required   []string
		Properties map[string]struct{ Examples []string }
	}
	require.NoError(t, json.Unmarshal(Schema, &schema))
	_, errs := ParseRules("b.yaml", []byte("vigila: health/v1\nzzz: 1\n"))
	known := strings.Split(strings.Split(errors.Join(errs...).Error(), "known here: ")[1], "\n")[0]
	var keys []string
	for k := range schema.Properties {
		keys = append(keys, k)
	}
	assert.ElementsMatch(t, strings.Split(known, ", "), keys)
	assert.Equal(t, []string{"vigila", "of", "ready"}, schema.Required)
	rule := "vigila: health/v1\n"
	for _, k := range []string{"of", "ready", "failing", "reason"} {
		rule += k + ": '" + schema.Properties[k].Examples[0] + "'\n"
	}
	_, errs = ParseRules("b.yaml", []byte(rule))
	assert.Empty(t, errs, "its examples are valid")
}

// FuzzParseRules: whatever the file, there is no panic, and a rule without mistakes can be asked.
func FuzzParseRules(f *testing.F) {
	f.Add(berths)
	f.Add("vigila: health/v1\nof: X\nready: 'true'\n---\n- 1\n")
	f.Fuzz(func(t *testing.T, text string) {
		rules, errs := ParseRules("f.yaml", []byte(text))
		if len(errs) > 0 {
			return
		}
		for _, r := range rules {
			r.of(map[string]any{"status": map[string]any{"phase": "x"}})
		}
	})
}
