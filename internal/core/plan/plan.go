// Package plan turns differences into ordered work: which objects are applied in which step, what is removed
// after them, and what must be asked first. Start with Make.
package plan

import (
	"cmp"
	"fmt"
	"slices"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
)

// Declared is one declared object as far as a plan needs it.
type Declared struct {
	Ref  object.Ref
	Hash string
	Step int
}

// Input is what a plan is made of.
type Input struct {
	Declared  []Declared
	Baselines map[object.Ref]compare.Baseline
	Drifted   []object.Ref // objects to put back as well; those not declared any more are ignored
	OnlyDrift bool         // restore: put back what drifted, carry nothing new
	Prune     bool         // remove what is not declared any more
	NoPrune   map[object.Ref]bool
	Allow     []string // guards that a person allows, by name
}

// Step is a set of objects that must all be ready before the next step starts. Its groups are applied one
// after the other, the objects of a group at the same time.
type Step struct {
	Number int
	Groups []Group
}

// Group holds objects of one rank. Await means that the next group needs these ready: a namespace or a
// definition must exist before what lives in it.
type Group struct {
	Refs  []object.Ref
	Await bool
}

// Guard is a rule that stops the plan until a person allows it by Name.
type Guard struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Plan is the work of one run. Removals come after all steps, one group after the other.
type Plan struct {
	Steps    []Step
	Removals []Group
	Kept     []object.Ref // not declared any more, and left in the cluster because pruning is off or guarded
	Guards   []Guard      // what is in the way; empty when the plan may run
}

// Empty tells whether there is nothing to do.
func (p Plan) Empty() bool { return len(p.Steps) == 0 && len(p.Removals) == 0 }

// Refs lists every object the plan applies, in order.
func (p Plan) Refs() []object.Ref {
	var out []object.Ref
	for _, s := range p.Steps {
		for _, g := range s.Groups {
			out = append(out, g.Refs...)
		}
	}
	return out
}

// Removed lists every object the plan removes, in order.
func (p Plan) Removed() []object.Ref {
	var out []object.Ref
	for _, g := range p.Removals {
		out = append(out, g.Refs...)
	}
	return out
}

// rank orders kinds within a step: what others need comes first.
var rank = map[string]int{
	"/Namespace": 0,
	"apiextensions.k8s.io/CustomResourceDefinition": 1,
	"scheduling.k8s.io/PriorityClass":               2, "storage.k8s.io/StorageClass": 2, "/ResourceQuota": 2, "/LimitRange": 2, "networking.k8s.io/NetworkPolicy": 2,
	"/ServiceAccount": 3, "rbac.authorization.k8s.io/Role": 3, "rbac.authorization.k8s.io/ClusterRole": 3,
	"rbac.authorization.k8s.io/RoleBinding": 4, "rbac.authorization.k8s.io/ClusterRoleBinding": 4,
	"/Secret": 5, "/ConfigMap": 5, "/PersistentVolume": 5, "/PersistentVolumeClaim": 6,
	"/Service":       7,
	"apps/DaemonSet": 8, "apps/StatefulSet": 8, "apps/Deployment": 8, "apps/ReplicaSet": 8, "/Pod": 8, "/ReplicationController": 8, "batch/Job": 8, "batch/CronJob": 8,
	"autoscaling/HorizontalPodAutoscaler": 9, "policy/PodDisruptionBudget": 9,
	"networking.k8s.io/Ingress": 10, "gateway.networking.k8s.io/HTTPRoute": 10,
	"apiregistration.k8s.io/APIService": 11, "admissionregistration.k8s.io/ValidatingWebhookConfiguration": 12, "admissionregistration.k8s.io/MutatingWebhookConfiguration": 12,
}

// custom resources come after workloads: their controllers may be among them.
const otherRank = 10

func rankOf(r object.Ref) int {
	if n, ok := rank[r.Group+"/"+r.Kind]; ok {
		return n
	}
	return otherRank
}

func awaited(r object.Ref) bool {
	return rankOf(r) <= 1
}

// massRemoval is the share of a ward that may leave without being asked, once it has more than smallWard objects.
const (
	smallWard   = 5
	massRemoval = 0.5
)

// precious kinds take other things with them when they are removed.
func precious(r object.Ref) bool {
	switch r.Group + "/" + r.Kind {
	case "/Namespace", "apiextensions.k8s.io/CustomResourceDefinition", "/PersistentVolumeClaim":
		return true
	}
	return false
}

// Make plans a run.
func Make(in Input) Plan {
	items := make([]compare.Item, len(in.Declared))
	byRef := make(map[object.Ref]Declared, len(in.Declared))
	for i, d := range in.Declared {
		items[i] = compare.Item{Ref: d.Ref, Hash: d.Hash}
		byRef[d.Ref] = d
	}
	apply, remove := compare.Pending(items, in.Baselines)
	if in.OnlyDrift {
		apply, remove = nil, nil
	}
	for _, ref := range in.Drifted {
		if _, ok := byRef[ref]; ok && !slices.Contains(apply, ref) {
			apply = append(apply, ref)
		}
	}
	var p Plan
	p.Steps = steps(apply, byRef)
	slices.SortFunc(remove, func(a, b object.Ref) int {
		return cmp.Or(cmp.Compare(rankOf(b), rankOf(a)), a.Compare(b))
	})
	for _, ref := range remove {
		if !in.Prune || in.NoPrune[ref] {
			p.Kept = append(p.Kept, ref)
			continue
		}
		if n := len(p.Removals); n == 0 || rankOf(p.Removals[n-1].Refs[0]) != rankOf(ref) {
			p.Removals = append(p.Removals, Group{Await: true})
		}
		g := &p.Removals[len(p.Removals)-1]
		g.Refs = append(g.Refs, ref)
	}
	p.Guards = guards(p, in)
	return p
}

func steps(apply []object.Ref, byRef map[object.Ref]Declared) []Step {
	slices.SortFunc(apply, func(a, b object.Ref) int {
		return cmp.Or(cmp.Compare(byRef[a].Step, byRef[b].Step), cmp.Compare(rankOf(a), rankOf(b)), a.Compare(b))
	})
	var out []Step
	for i, ref := range apply {
		number := byRef[ref].Step
		if len(out) == 0 || out[len(out)-1].Number != number {
			out = append(out, Step{Number: number})
		}
		s := &out[len(out)-1]
		if len(s.Groups) == 0 || rankOf(apply[i-1]) != rankOf(ref) {
			s.Groups = append(s.Groups, Group{Await: awaited(ref)})
		}
		g := &s.Groups[len(s.Groups)-1]
		g.Refs = append(g.Refs, ref)
	}
	return out
}

func guards(p Plan, in Input) []Guard {
	var out []Guard
	add := func(name, text string) {
		if !slices.Contains(in.Allow, name) {
			out = append(out, Guard{name, text})
		}
	}
	had, removed := len(in.Baselines), p.Removed()
	switch {
	case len(in.Declared) == 0 && len(removed) > 0:
		add("empty-render", fmt.Sprintf("the repository declares nothing any more; all %d objects of this ward would be removed", len(removed)))
	case had > smallWard && float64(len(removed)) > massRemoval*float64(had):
		add("mass-removal", fmt.Sprintf("%d of %d objects would be removed", len(removed), had))
	}
	for _, ref := range removed {
		if precious(ref) {
			add(ref.Short(), fmt.Sprintf("%s would be removed, and what lives in it", ref))
		}
	}
	return out
}
