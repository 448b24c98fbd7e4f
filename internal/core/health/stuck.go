package health

import (
	"slices"
	"strconv"
	"strings"
)

// Stuck lists the Pods of a StatefulSet that keep it from going back: of another revision than the one that they are to have, and not
// ready, so that it waits for them for ever. Settled tells that the cluster has seen what it is to have, and nothing is left to wait
// for. Pods below its partition, and those of one that is updated by hand, are to have none.
// Source: https://kubernetes.io/docs/concepts/workloads/controllers/statefulset/#forced-rollback
func Stuck(set map[string]any, pods []map[string]any) (stuck []map[string]any, settled bool) {
	if str(at(set, "spec", "updateStrategy", "type")) == "OnDelete" {
		return nil, true
	}
	if num(at(set, "status", "observedGeneration")) < num(at(set, "metadata", "generation")) {
		return nil, false
	}
	want := str(at(set, "status", "updateRevision"))
	first := num(at(set, "spec", "ordinals", "start")) + num(at(set, "spec", "updateStrategy", "rollingUpdate", "partition"))
	settled = true
	for _, p := range pods {
		name := str(at(p, "metadata", "name"))
		ordinal, err := strconv.ParseInt(name[strings.LastIndex(name, "-")+1:], 10, 64)
		if err != nil || ordinal < first || str(at(p, "metadata", "labels", "controller-revision-hash")) == want {
			continue
		}
		settled = false
		if at(p, "metadata", "deletionTimestamp") == nil && Pod(p).Word != Ready {
			stuck = append(stuck, p)
		}
	}
	return slices.Clip(stuck), settled
}
