package health

import "slices"

// Stuck lists the Pods of a StatefulSet that keep it from going back: of another revision than the one that it is to have, and not
// ready, so that it waits for them for ever. Settled tells that the cluster has seen what it is to have, and nothing is left to wait
// for.
// Source: https://kubernetes.io/docs/concepts/workloads/controllers/statefulset/#forced-rollback
func Stuck(set map[string]any, pods []map[string]any) (stuck []map[string]any, settled bool) {
	if num(at(set, "status", "observedGeneration")) < num(at(set, "metadata", "generation")) {
		return nil, false
	}
	want := str(at(set, "status", "updateRevision"))
	settled = true
	for _, p := range pods {
		if str(at(p, "metadata", "labels", "controller-revision-hash")) == want {
			continue
		}
		settled = false
		if at(p, "metadata", "deletionTimestamp") == nil && Pod(p).Word != Ready {
			stuck = append(stuck, p)
		}
	}
	return slices.Clip(stuck), settled
}
