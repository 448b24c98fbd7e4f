// Package health tells how one object does, from its status alone, in one word and a reason. Start with Of.
package health

import (
	"fmt"
	"sort"
	"strings"

	"vigila.dev/vigila/internal/core/object"
)

// Word is the health of an object.
type Word string

// The words, from best to worst; Unknown is what was not looked at.
const (
	Ready    Word = "ready"
	Settling Word = "settling"
	Failing  Word = "failing"
	Absent   Word = "absent"
	Unknown  Word = "unknown"
)

// Result is an object's health. Final means that waiting can't mend it (a failed Job).
type Result struct {
	Word   Word   `json:"word"`
	Reason string `json:"reason,omitempty"`
	Final  bool   `json:"final,omitempty"`
}

var order = map[Word]int{Ready: 0, Unknown: 1, Settling: 2, Absent: 3, Failing: 4}

// Words lists them.
func Words() []string {
	return []string{string(Ready), string(Settling), string(Failing), string(Absent), string(Unknown)}
}

// Worst is the worse of two results; the health of a ward is the worst of its objects.
func Worst(a, b Result) Result {
	if order[b.Word] > order[a.Word] {
		return b
	}
	return a
}

// WaitsForVolume is why a claim settles that is not bound.
const WaitsForVolume = "waits for a volume"

// Of reads the health of a live object. Kinds that have no status are ready as soon as they exist.
// Sources: the status fields of https://kubernetes.io/docs/reference/kubernetes-api/ by kind; for others the
// conditions convention of https://github.com/kubernetes/community/blob/master/contributors/devel/sig-architecture/api-conventions.md
func Of(group, kind string, body map[string]any) Result {
	if t, ok := at(body, "metadata", "deletionTimestamp").(string); ok && t != "" {
		return Result{Word: Settling, Reason: "being deleted"}
	}
	if want, seen := num(at(body, "metadata", "generation")), num(at(body, "status", "observedGeneration")); want > 0 && at(body, "status", "observedGeneration") != nil && seen < want {
		return Result{Word: Settling, Reason: "its controller has not seen the change yet"}
	}
	switch group + "/" + kind {
	case "apps/Deployment":
		return deployment(body)
	case "apps/StatefulSet":
		return statefulSet(body)
	case "apps/DaemonSet":
		return daemonSet(body)
	case "apps/ReplicaSet", "/ReplicationController":
		return counted(body, "readyReplicas")
	case "batch/Job":
		return job(body)
	case "/Pod":
		return Pod(body)
	case "/PersistentVolumeClaim":
		switch phase := str(at(body, "status", "phase")); phase {
		case "Bound":
			return Result{Word: Ready}
		case "Lost":
			return Result{Word: Failing, Reason: "its volume is lost"}
		default:
			return Result{Word: Settling, Reason: WaitsForVolume}
		}
	case "/Namespace":
		if str(at(body, "status", "phase")) == "Terminating" {
			return Result{Word: Settling, Reason: "being deleted"}
		}
		return Result{Word: Ready}
	case "/Service":
		if str(at(body, "spec", "type")) == "LoadBalancer" && len(list(at(body, "status", "loadBalancer", "ingress"))) == 0 {
			return Result{Word: Settling, Reason: "waits for a load balancer address"}
		}
		return Result{Word: Ready}
	case "apiextensions.k8s.io/CustomResourceDefinition":
		if c := condition(body, "Established"); c["status"] == "True" {
			return Result{Word: Ready}
		}
		if c := condition(body, "NamesAccepted"); c["status"] == "False" {
			return Result{Word: Failing, Reason: str(c["message"]), Final: true}
		}
		return Result{Word: Settling, Reason: "not established yet"}
	case "apiregistration.k8s.io/APIService":
		if c := condition(body, "Available"); c["status"] != "True" {
			return Result{Word: Settling, Reason: orElse(str(c["message"]), "not available yet")}
		}
		return Result{Word: Ready}
	case "autoscaling/HorizontalPodAutoscaler":
		return autoscaler(body)
	case "policy/PodDisruptionBudget":
		// A budget that allows no eviction right now does its work.
		if c := condition(body, "DisruptionAllowed"); c["status"] == "False" && c["reason"] == "SyncFailed" {
			return Result{Word: Ready, Reason: "it watches over nothing: " + str(c["message"])}
		}
		return Result{Word: Ready}
	case "batch/CronJob":
		if v, _ := at(body, "spec", "suspend").(bool); v {
			return Result{Word: Ready, Reason: "suspended"}
		}
		return Result{Word: Ready}
	case "networking.k8s.io/Ingress":
		if len(list(at(body, "status", "loadBalancer", "ingress"))) == 0 {
			return Result{Word: Ready, Reason: "no address yet"} // many controllers never write one
		}
		return Result{Word: Ready}
	}
	if group == "gateway.networking.k8s.io" {
		return gateway(kind, body)
	}
	return standard(body)
}

// Task reads the health of an object that is a task: a Pod is through when it has ended, not when it runs.
func Task(group, kind string, body map[string]any) Result {
	r := Of(group, kind, body)
	if group == "" && kind == "Pod" && r.Word == Ready && str(at(body, "status", "phase")) != "Succeeded" {
		return Result{Word: Settling, Reason: "running"}
	}
	return r
}

// autoscaler tells what keeps an autoscaler from its work, but calls it ready: what it scales runs all the same.
func autoscaler(b map[string]any) Result {
	for _, kind := range []string{"AbleToScale", "ScalingActive"} {
		if c := condition(b, kind); c["status"] == "False" && c["reason"] != "ScalingDisabled" {
			return Result{Word: Ready, Reason: "does not scale: " + orElse(str(c["message"]), str(c["reason"]))}
		}
	}
	return Result{Word: Ready}
}

// gateway reads the kinds of the Gateway API. A route is ready when each of its parents has accepted it; one that
// no controller has looked at yet settles.
// Source: https://gateway-api.sigs.k8s.io/reference/spec/ (RouteStatus, GatewayConditionType)
func gateway(kind string, b map[string]any) Result {
	verdict := func(of map[string]any, types ...string) (Result, bool) {
		for _, t := range types {
			for _, c := range list(of["conditions"]) {
				if c["type"] == t && c["status"] == "False" {
					return Result{Word: Failing, Reason: orElse(str(c["message"]), str(c["reason"]))}, true
				}
			}
		}
		for _, c := range list(of["conditions"]) {
			if c["type"] == types[0] && c["status"] == "True" {
				return Result{Word: Ready}, true
			}
		}
		return Result{}, false
	}
	if !strings.HasSuffix(kind, "Route") {
		status := asMap(at(b, "status"))
		if c := condition(b, "Programmed"); kind == "Gateway" && c["status"] == "False" && c["reason"] == "Pending" {
			return Result{Word: Settling, Reason: orElse(str(c["message"]), "not programmed yet")}
		}
		if r, known := verdict(status, pickTypes(kind)...); known {
			return r
		}
		if kind == "Gateway" || kind == "GatewayClass" {
			return Result{Word: Settling, Reason: "no controller has taken it up yet"}
		}
		return standard(b)
	}
	parents := list(at(b, "status", "parents"))
	wanted := len(list(at(b, "spec", "parentRefs")))
	worst := Result{Word: Ready}
	accepted := 0
	for _, p := range parents {
		r, known := verdict(p, "Accepted", "ResolvedRefs")
		if !known {
			continue
		}
		accepted++
		if r.Word == Failing {
			r.Reason = fmt.Sprintf("%s %s: %s", orElse(str(at(p, "parentRef", "kind")), "Gateway"), str(at(p, "parentRef", "name")), r.Reason)
		}
		worst = Worst(worst, r)
	}
	if worst.Word == Ready && accepted < wanted {
		return Result{Word: Settling, Reason: fmt.Sprintf("%d of %d parents have accepted it", accepted, wanted)}
	}
	return worst
}

func pickTypes(kind string) []string {
	if kind == "Gateway" {
		return []string{"Programmed", "Accepted"}
	}
	return []string{"Accepted"}
}

// standard reads the conditions that most custom resources follow.
func standard(body map[string]any) Result {
	if c := condition(body, "Stalled"); c["status"] == "True" {
		return Result{Word: Failing, Reason: orElse(str(c["message"]), orElse(str(c["reason"]), "stalled"))}
	}
	if c := condition(body, "Reconciling"); c["status"] == "True" {
		return Result{Word: Settling, Reason: orElse(str(c["message"]), "its controller is at work")}
	}
	for _, t := range []string{"Ready", "Available"} {
		c := condition(body, t)
		switch c["status"] {
		case "True":
			return Result{Word: Ready}
		case "False":
			return Result{Word: Settling, Reason: orElse(str(c["message"]), str(c["reason"]))}
		case "Unknown":
			return Result{Word: Settling, Reason: orElse(str(c["message"]), "its controller is not done")}
		}
	}
	return Result{Word: Ready}
}

func deployment(b map[string]any) Result {
	want := wanted(b)
	if at(b, "status", "observedGeneration") == nil {
		return Result{Word: Settling, Reason: "not started yet"}
	}
	if paused, _ := at(b, "spec", "paused").(bool); paused { // nobody waits for what does not move
		return Result{Word: Ready, Reason: "paused: its newest version is not rolled out"}
	}
	updated, total, available := num(at(b, "status", "updatedReplicas")), num(at(b, "status", "replicas")), num(at(b, "status", "availableReplicas"))
	if updated >= want && total == updated && available >= want {
		return Result{Word: Ready}
	}
	if c := condition(b, "Progressing"); c["status"] == "False" && str(c["reason"]) == "ProgressDeadlineExceeded" {
		return Result{Word: Failing, Reason: fmt.Sprintf("%d of %d ready after its progress deadline", available, want)}
	}
	if c := condition(b, "ReplicaFailure"); c["status"] == "True" {
		return Result{Word: Failing, Reason: str(c["message"])}
	}
	switch {
	case updated < want:
		return Result{Word: Settling, Reason: fmt.Sprintf("%d of %d new Pods made", updated, want)}
	case available < want:
		return Result{Word: Settling, Reason: fmt.Sprintf("%d of %d ready", available, want)}
	case total-updated == 1:
		return Result{Word: Settling, Reason: "1 old Pod still to go"}
	default:
		return Result{Word: Settling, Reason: fmt.Sprintf("%d old Pods still to go", total-updated)}
	}
}

func statefulSet(b map[string]any) Result {
	want := wanted(b)
	if at(b, "status", "observedGeneration") == nil {
		return Result{Word: Settling, Reason: "not started yet"}
	}
	counts := "readyReplicas"
	if num(at(b, "spec", "minReadySeconds")) > 0 {
		counts = "availableReplicas"
	}
	if ready := num(at(b, "status", counts)); ready < want {
		return Result{Word: Settling, Reason: fmt.Sprintf("%d of %d ready", ready, want)}
	}
	partition := num(at(b, "spec", "updateStrategy", "rollingUpdate", "partition"))
	if str(at(b, "spec", "updateStrategy", "type")) != "OnDelete" {
		if updated := num(at(b, "status", "updatedReplicas")); updated < want-partition {
			return Result{Word: Settling, Reason: fmt.Sprintf("%d of %d updated", updated, want-partition)}
		}
	}
	return Result{Word: Ready}
}

func daemonSet(b map[string]any) Result {
	if at(b, "status", "observedGeneration") == nil {
		return Result{Word: Settling, Reason: "not started yet"}
	}
	want := num(at(b, "status", "desiredNumberScheduled"))
	updated, ready := num(at(b, "status", "updatedNumberScheduled")), num(at(b, "status", "numberAvailable"))
	if str(at(b, "spec", "updateStrategy", "type")) != "OnDelete" && updated < want {
		return Result{Word: Settling, Reason: fmt.Sprintf("%d of %d nodes updated", updated, want)}
	}
	if ready < want {
		return Result{Word: Settling, Reason: fmt.Sprintf("%d of %d nodes ready", ready, want)}
	}
	return Result{Word: Ready}
}

func counted(b map[string]any, field string) Result {
	want := wanted(b)
	if got := num(at(b, "status", field)); got < want {
		return Result{Word: Settling, Reason: fmt.Sprintf("%d of %d ready", got, want)}
	}
	return Result{Word: Ready}
}

func job(b map[string]any) Result {
	if c := condition(b, "Failed"); c["status"] == "True" {
		return Result{Word: Failing, Reason: orElse(str(c["message"]), str(c["reason"])), Final: true}
	}
	if c := condition(b, "Complete"); c["status"] == "True" {
		return Result{Word: Ready}
	}
	if v, _ := at(b, "spec", "suspend").(bool); v {
		return Result{Word: Settling, Reason: "suspended"}
	}
	switch n := num(at(b, "status", "active")); {
	case n == 1:
		return Result{Word: Settling, Reason: "1 Pod at work"}
	case n > 1:
		return Result{Word: Settling, Reason: fmt.Sprintf("%d Pods at work", n)}
	}
	return Result{Word: Settling} // its Pods are being made, or counted
}

// Finished tells whether a Job has ended, well or not.
func Finished(body map[string]any) bool {
	return condition(body, "Complete")["status"] == "True" || condition(body, "Failed")["status"] == "True"
}

// Pod reads the health of a Pod from its phase and its containers.
// Source: https://kubernetes.io/docs/concepts/workloads/pods/pod-lifecycle/
func Pod(b map[string]any) Result {
	containers := append(list(at(b, "status", "initContainerStatuses")), list(at(b, "status", "containerStatuses"))...)
	for _, c := range containers {
		if r, bad := container(c); bad {
			return r
		}
	}
	switch phase := str(at(b, "status", "phase")); phase {
	case "Succeeded":
		return Result{Word: Ready, Reason: "finished"}
	case "Failed":
		return Result{Word: Failing, Reason: orElse(str(at(b, "status", "message")), orElse(str(at(b, "status", "reason")), "failed")), Final: true}
	case "Running":
		if condition(b, "Ready")["status"] == "True" {
			return Result{Word: Ready}
		}
		return Result{Word: Settling, Reason: notReadyYet}
	case "":
		return Result{Word: Settling, Reason: "not started yet"}
	default:
		if c := condition(b, "PodScheduled"); c["status"] == "False" {
			return Result{Word: Settling, Reason: orElse(str(c["message"]), "not placed on a node yet")}
		}
		for _, c := range containers {
			if w := str(at(c, "state", "waiting", "reason")); w != "" {
				return Result{Word: Settling, Reason: w}
			}
		}
		return Result{Word: Settling, Reason: strings.ToLower(phase)}
	}
}

const notReadyYet = "running, not ready"

func container(c map[string]any) (Result, bool) {
	name := str(c["name"])
	waiting := str(at(c, "state", "waiting", "reason"))
	last := asMap(at(c, "lastState", "terminated"))
	if last == nil {
		last = asMap(at(c, "state", "terminated"))
	}
	restarts := num(c["restartCount"])
	switch waiting {
	case "CrashLoopBackOff":
		reason := fmt.Sprintf("container %s crash-loops, %s", name, exit(last))
		if restarts > 0 {
			reason += ", restarted " + times(restarts)
		}
		return Result{Word: Failing, Reason: reason}, true
	case "ImagePullBackOff", "ErrImagePull", "InvalidImageName", "ErrImageNeverPull":
		return Result{Word: Failing, Reason: fmt.Sprintf("image %s can't be pulled: %s", str(c["image"]), orElse(str(at(c, "state", "waiting", "message")), waiting))}, true
	case "CreateContainerConfigError", "CreateContainerError", "RunContainerError":
		return Result{Word: Failing, Reason: fmt.Sprintf("container %s can't start: %s", name, orElse(str(at(c, "state", "waiting", "message")), waiting))}, true
	}
	if t := asMap(at(c, "state", "terminated")); t != nil && num(t["exitCode"]) != 0 {
		return Result{Word: Failing, Reason: fmt.Sprintf("container %s ended, %s", name, exit(t))}, true
	}
	return Result{}, false
}

func exit(t map[string]any) string {
	if t == nil {
		return "no exit code known"
	}
	s := fmt.Sprintf("exit %d", num(t["exitCode"]))
	if r := str(t["reason"]); r != "" && r != "Error" && r != "Completed" {
		s += " (" + r + ")"
	}
	if m := strings.TrimSpace(str(t["message"])); m != "" {
		rows := strings.Split(m, "\n")
		s += ", “" + strings.TrimSpace(rows[len(rows)-1]) + "”"
	}
	return s
}

func times(n int64) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// Cause looks at the Pods below a workload that is not ready and tells what is really wrong, by Pod name: what is
// failing, else what a Pod that has not started waits for (no room on any node, a volume), else which one runs and is not
// ready. It is ok=false when no
// Pod says more than the workload does.
func Cause(pods []map[string]any) (r Result, ok bool) {
	sort.Slice(pods, func(i, j int) bool {
		return str(at(pods[i], "metadata", "name")) < str(at(pods[j], "metadata", "name"))
	})
	for _, p := range pods {
		if h := Pod(p); h.Word == Failing {
			return h, true
		}
	}
	for _, p := range pods {
		if c := condition(p, "PodScheduled"); c["status"] == "False" && str(c["message"]) != "" {
			return Result{Word: Settling, Reason: "no node takes its Pod: " + str(c["message"])}, true
		}
	}
	for _, p := range pods {
		if h := Pod(p); h.Word == Settling && h.Reason == notReadyYet {
			return Result{Word: Settling, Reason: "Pod " + str(at(p, "metadata", "name")) + " is running, not ready"}, true
		}
	}
	return Result{}, false
}

func wanted(b map[string]any) int64 {
	if v := at(b, "spec", "replicas"); v != nil {
		return num(v)
	}
	return 1
}

func condition(b map[string]any, kind string) map[string]any {
	for _, c := range list(at(b, "status", "conditions")) {
		if c["type"] == kind {
			return c
		}
	}
	return map[string]any{}
}

func at(v any, path ...string) any {
	for _, p := range path {
		m, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = m[p]
	}
	return v
}

func list(v any) []map[string]any {
	items, _ := v.([]any)
	out := make([]map[string]any, 0, len(items))
	for _, x := range items {
		if m, ok := x.(map[string]any); ok {
			out = append(out, m)
		}
	}
	return out
}

func asMap(v any) map[string]any { m, _ := v.(map[string]any); return m }
func str(v any) string           { s, _ := v.(string); return s }

func num(v any) int64 {
	switch v := v.(type) {
	case int64:
		return v
	case float64:
		return int64(v)
	case int:
		return int64(v)
	}
	return 0
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// HasBelow tells whether a controller makes other objects for one of a kind, whose Pods say why it is not ready.
func HasBelow(ref object.Ref) bool {
	switch ref.Group + "/" + ref.Kind {
	case "apps/Deployment", "apps/StatefulSet", "apps/DaemonSet", "apps/ReplicaSet", "batch/CronJob", "batch/Job", "/ReplicationController":
		return true
	}
	return false
}
