package canary

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/nearest"
)

// Side is how it is with one target in the cluster: the size of the old version, and the Pods of both.
type Side struct {
	Size   int      // of the workload, as whoever scales it wants it
	Newest string   // the hash of its newest ReplicaSet
	Old    []Pod    // below the workload
	New    []string // names of Pods below what stands beside
	// Alone are Services beside that lead to fewer Pods than are ready: whoever keeps their endpoints has not come to it yet.
	Alone []string
}

// Lead tells whether a Service leads to as many Pods as it is to, by its endpoints.
// Source: https://kubernetes.io/docs/reference/kubernetes-api/service-resources/endpoint-slice-v1/
func Lead(slices []map[string]any, pods int) bool {
	ready := map[string]bool{}
	for _, s := range slices {
		for _, e := range asList(s["endpoints"]) {
			if asMap(asMap(e)["conditions"])["ready"] != false {
				ready[text(asMap(asMap(e)["targetRef"])["name"])] = true
			}
		}
	}
	return len(ready) > 0 && len(ready) >= pods
}

// Endpoint is a Pod among some that a Service leads to, and the number of its port; name is that of a port, "" for the only one. turn
// picks one of several. Why there is none is a problem.
func Endpoint(leads []map[string]any, service, name string, pods []string, turn int) (pod string, port int, problem string) {
	type place struct {
		pod  string
		port int
	}
	var all []place
	var names []string
	for _, s := range leads {
		ports := asList(s["ports"])
		at := 0
		for _, p := range ports {
			m := asMap(p)
			if !slices.Contains(names, text(m["name"])) {
				names = append(names, text(m["name"]))
			}
			if text(m["name"]) == name || name == "" && len(ports) == 1 {
				at = number(m["port"])
			}
		}
		for _, e := range asList(s["endpoints"]) {
			if m := asMap(e); at > 0 && asMap(m["conditions"])["ready"] != false {
				all = append(all, place{text(asMap(m["targetRef"])["name"]), at})
			}
		}
		if at == 0 && name == "" && len(ports) > 1 {
			return "", 0, fmt.Sprintf("Service %s has several ports; name one of them: service: %s:%s", service, service, names[0])
		}
	}
	if name != "" && len(names) > 0 && !slices.Contains(names, name) {
		return "", 0, fmt.Sprintf("Service %s has no port %s; %s", service, name, nearest.Words(name, names))
	}
	kept := all[:0]
	for _, p := range all {
		if slices.Contains(pods, p.pod) {
			kept = append(kept, p)
		}
	}
	if len(kept) == 0 {
		return "", 0, fmt.Sprintf("Service %s leads to no Pod of this version that is ready", service)
	}
	at := kept[turn%len(kept)]
	return at.pod, at.port, ""
}

// ReadyPods counts the ready ones below either version; those of the old one as far as they are of its newest ReplicaSet.
func (s Side) ReadyPods() (old int) {
	for _, p := range s.Old {
		if p.Ready && p.Hash == s.Newest {
			old++
		}
	}
	return old
}

// Pod is one of the old version's.
type Pod struct {
	Name, Hash string
	Ready      bool
}

// SideOf reads a side from live objects: the workload, and the ReplicaSets and Pods below it and below what stands beside it.
func SideOf(workload map[string]any, below, besides []map[string]any) Side {
	s := Side{Size: 1}
	switch n := asMap(workload["spec"])["replicas"].(type) {
	case int64:
		s.Size = int(n)
	case float64:
		s.Size = int(n)
	}
	newest := -1
	for _, b := range below {
		meta := asMap(b["metadata"])
		hash := text(asMap(meta["labels"])[HashLabel])
		switch text(b["kind"]) {
		case "ReplicaSet":
			n, _ := strconv.Atoi(text(asMap(meta["annotations"])["deployment.kubernetes.io/revision"]))
			if n > newest {
				newest, s.Newest = n, hash
			}
		case "Pod":
			if meta["deletionTimestamp"] == nil {
				s.Old = append(s.Old, Pod{text(meta["name"]), hash, health.Pod(b).Word == health.Ready})
			}
		}
	}
	for _, b := range besides {
		if meta := asMap(b["metadata"]); text(b["kind"]) == "Pod" && meta["deletionTimestamp"] == nil {
			s.New = append(s.New, text(meta["name"]))
		}
	}
	slices.SortFunc(s.Old, func(a, b Pod) int { return strings.Compare(a.Name, b.Name) })
	slices.Sort(s.New)
	return s
}

// revisionLabel tells the Pods of one revision of a StatefulSet from those of another.
// Source: https://kubernetes.io/docs/reference/labels-annotations-taints/#controller-revision-hash
const revisionLabel = "controller-revision-hash"

// PartsOf reads a side from a live StatefulSet, of whose Pods some are of the new version, and what is below it.
func PartsOf(workload map[string]any, below []map[string]any) Side {
	s := Side{Size: SideOf(workload, nil, nil).Size}
	status := asMap(workload["status"])
	newest := text(status["updateRevision"])
	for _, b := range below {
		meta := asMap(b["metadata"])
		if text(b["kind"]) != "Pod" || meta["deletionTimestamp"] != nil {
			continue
		}
		if hash := text(asMap(meta["labels"])[revisionLabel]); hash == newest && newest != text(status["currentRevision"]) {
			s.New = append(s.New, text(meta["name"]))
		} else {
			s.Old = append(s.Old, Pod{text(meta["name"]), "", health.Pod(b).Word == health.Ready})
		}
	}
	slices.SortFunc(s.Old, func(a, b Pod) int { return strings.Compare(a.Name, b.Name) })
	slices.Sort(s.New)
	return s
}

// hash is the ReplicaSet whose Pods are the old version's: the newest once half of its Pods are ready, else the one before, as long
// as that has any that are.
func (s Side) hash(before string) string {
	ready := map[string]int{}
	for _, p := range s.Old {
		if p.Ready {
			ready[p.Hash]++
		}
	}
	if before == "" || before == s.Newest || ready[before] == 0 || 2*ready[s.Newest] >= s.Size {
		return s.Newest
	}
	return before
}

// pods are the names of both versions' Pods, for a query.
func (s Side) pods(hash string) map[string][]string {
	out := map[string][]string{judge.New: s.New}
	for _, p := range s.Old {
		if p.Hash == hash || hash == "" {
			out[judge.Old] = append(out[judge.Old], p.Name)
		}
	}
	return out
}
