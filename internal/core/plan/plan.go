// Package plan turns differences into ordered work: which objects are applied in which step, what is removed
// after them, and what must be asked first. Start with Make.
package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
)

// Declared is one declared object as far as a plan needs it.
type Declared struct {
	Ref  object.Ref
	Hash string
	object.Turn
	Secrets []secret.Ref // that it is applied with the values of
}

// Tasks says whether a plan runs the tasks among the declared objects.
type Tasks int

// When tasks run.
const (
	NoTasks  Tasks = iota
	WithWork       // when there is other work as well
	Always
)

// Input is what a plan is made of.
type Input struct {
	Declared  []Declared
	Baselines map[object.Ref]compare.Baseline
	Drifted   []object.Ref // objects to put back as well; those not declared any more are ignored
	OnlyDrift bool         // restore: put back what drifted, carry nothing new
	Again     bool         // apply what has not changed as well
	Prune     bool         // remove what is not declared any more
	NoPrune   map[object.Ref]bool
	Passing   func(object.Ref) bool // what a canary made for its own time goes, whatever Prune says, and counts for no guard; may be nil
	Tasks     Tasks
	Stale     []object.Ref // objects of tasks that are declared no more, to remove as well
	Only      []object.Ref // a partial run: these and nothing else, tasks among them too; everything when empty
	Allow     []string     // guards that a person allows, by name
	// Spare leaves what a guard protects where it is instead of stopping the whole: going back comes first.
	Spare   bool
	Unbound map[object.Ref]bool // they hold nothing: claims that were never bound, and what is gone already
}

// Step is a set of objects that must all be ready before the next step starts. Its groups are worked on one
// after the other, the objects of a group at the same time.
type Step struct {
	Number int
	Groups []Group
}

// Group holds objects of one rank. Await means that the next group needs everything so far ready: a namespace or a
// definition must exist before what lives in it, a task has ended before what it prepares.
type Group struct {
	Refs  []object.Ref
	Task  object.Task // what the objects are; NoTask for those that are kept
	Await bool
}

// Guard is a rule that stops the plan until a person allows it by Name.
type Guard struct {
	Name string `json:"name"`
	Text string `json:"text"`
	Mend string `json:"mend,omitempty"` // what lets the run go on, where allowing it can't
	// Instead is what to declare instead, where it can be allowed but had better not be.
	Instead string `json:"instead,omitempty"`
}

// Plan is the work of one run. Removals come after all steps, one group after the other.
type Plan struct {
	Steps    []Step
	Removals []Group
	OnFail   []Step       // tasks for the case that the run fails
	Kept     []object.Ref // not declared any more, and left in the cluster because pruning is off or guarded
	Spared   []Guard      // guards that would have stopped the plan; what they protect is among Kept
	Guards   []Guard      // what is in the way; empty when the plan may run
}

// Empty tells whether there is nothing to do.
func (p Plan) Empty() bool { return len(p.Steps) == 0 && len(p.Removals) == 0 }

// Refs lists every object the plan applies, in order; tasks are not among them.
func (p Plan) Refs() []object.Ref {
	return p.refs(func(g Group) bool { return g.Task == object.NoTask })
}

// Tasks lists every task the plan runs unless the run fails, in order.
func (p Plan) Tasks() []object.Ref {
	return p.refs(func(g Group) bool { return g.Task != object.NoTask })
}

func (p Plan) refs(wanted func(Group) bool) []object.Ref {
	var out []object.Ref
	for _, s := range p.Steps {
		for _, g := range s.Groups {
			if wanted(g) {
				out = append(out, g.Refs...)
			}
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

// Guards against removing more than anybody meant, by name.
const (
	GuardEmpty = "empty-render"
	GuardMass  = "mass-removal"
)

// massRemoval is the share of a ward that may leave without being asked, once it has more than smallWard objects.
const (
	smallWard   = 5
	massRemoval = 0.5
)

// Precious kinds take other things with them when they are removed.
func Precious(r object.Ref) bool {
	switch r.Group + "/" + r.Kind {
	case "/Namespace", "apiextensions.k8s.io/CustomResourceDefinition", "/PersistentVolumeClaim":
		return true
	}
	return false
}

// Make plans a run.
func Make(in Input) Plan {
	var items []compare.Item
	byRef := make(map[object.Ref]Declared, len(in.Declared))
	var tasks []Declared
	for _, d := range in.Declared {
		if d.Task != object.NoTask {
			tasks = append(tasks, d)
			continue
		}
		items = append(items, compare.Item{Ref: d.Ref, Hash: d.Hash})
		byRef[d.Ref] = d
	}
	apply, remove := compare.Pending(items, in.Baselines)
	for _, t := range tasks { // what was kept and is a task now is not removed but run
		remove = slices.DeleteFunc(remove, func(r object.Ref) bool { return r == t.Ref })
	}
	if in.OnlyDrift {
		apply, remove = nil, nil
	}
	also := in.Drifted
	if in.Again {
		for _, i := range items {
			also = append(also, i.Ref)
		}
	}
	seen := make(map[object.Ref]bool, len(apply))
	for _, ref := range apply {
		seen[ref] = true
	}
	for _, ref := range also {
		if _, ok := byRef[ref]; ok && !seen[ref] {
			seen[ref] = true
			apply = append(apply, ref)
		}
	}
	if len(in.Only) > 0 {
		others := func(r object.Ref) bool { return !slices.Contains(in.Only, r) }
		apply, remove = slices.DeleteFunc(apply, others), slices.DeleteFunc(remove, others)
		tasks = slices.DeleteFunc(tasks, func(t Declared) bool { return others(t.Ref) })
		for i, t := range tasks {
			if t.Task == object.OnFail { // asked for by name, it waits for no failure
				tasks[i].Task = object.Before
			}
		}
	}
	var p Plan
	slices.SortFunc(remove, func(a, b object.Ref) int {
		return cmp.Or(cmp.Compare(rankOf(b), rankOf(a)), a.Compare(b))
	})
	for _, ref := range remove {
		if !in.passing(ref) && (!in.Prune || in.NoPrune[ref]) {
			p.Kept = append(p.Kept, ref)
			continue
		}
		if g, guarded := in.precious(ref); guarded && in.Spare {
			p.Kept, p.Spared = append(p.Kept, ref), append(p.Spared, g)
			continue
		}
		if n := len(p.Removals); n == 0 || rankOf(p.Removals[n-1].Refs[0]) != rankOf(ref) {
			p.Removals = append(p.Removals, Group{Await: true})
		}
		g := &p.Removals[len(p.Removals)-1]
		g.Refs = append(g.Refs, ref)
	}
	if len(in.Only) == 0 && (in.Tasks == NoTasks || in.Tasks == WithWork && len(apply)+len(p.Removals) == 0) {
		tasks = nil
	}
	p.Steps, p.OnFail = steps(apply, byRef, tasks)
	p.Guards = guards(p, in)
	if len(in.Stale) > 0 && len(in.Only) == 0 {
		p.Removals = append([]Group{{Refs: slices.SortedFunc(slices.Values(in.Stale), object.Ref.Compare), Await: true}}, p.Removals...)
	}
	return p
}

// piece is one object with its place in the order.
type piece struct {
	Declared
	phase int // 0: what tasks need to live in, 1: tasks before, 2: objects, 3: tasks after
}

// steps orders objects and tasks. Namespaces and definitions that name no step come in the first one. A task that names no step runs before the first or after the last one, whatever
// that is; but the namespaces and definitions of its step come before it, since it may live in them.
func steps(apply []object.Ref, byRef map[object.Ref]Declared, tasks []Declared) (out, onFail []Step) {
	var pieces, failing []piece
	var numbers []int
	for _, ref := range apply {
		numbers = append(numbers, byRef[ref].Step)
	}
	for _, t := range tasks {
		if t.Stepped && t.Task != object.OnFail {
			numbers = append(numbers, t.Step)
		}
	}
	first, last := 0, 0
	if len(numbers) > 0 {
		first, last = slices.Min(numbers), slices.Max(numbers)
	}
	for _, ref := range apply {
		d := byRef[ref]
		if !awaited(ref) {
			pieces = append(pieces, piece{d, 2})
			continue
		}
		if !d.Stepped { // what others live in comes first, unless it says otherwise
			d.Step = first
		}
		pieces = append(pieces, piece{d, 0})
	}
	for _, t := range tasks {
		if !t.Stepped {
			switch t.Task {
			case object.Before:
				t.Step = first
			case object.After:
				t.Step = last
			}
		}
		switch t.Task {
		case object.Before:
			pieces = append(pieces, piece{t, 1})
		case object.After:
			pieces = append(pieces, piece{t, 3})
		default:
			failing = append(failing, piece{t, 1})
		}
	}
	return order(pieces), order(failing)
}

func order(pieces []piece) []Step {
	// A task without a step of its own comes before those of the first step and after those of the last.
	outer := func(p piece) int {
		switch {
		case p.Task == object.NoTask || p.Stepped:
			return 0
		case p.Task == object.After:
			return 1
		}
		return -1
	}
	slices.SortFunc(pieces, func(a, b piece) int {
		return cmp.Or(cmp.Compare(a.Step, b.Step), cmp.Compare(a.phase, b.phase), cmp.Compare(outer(a), outer(b)), cmp.Compare(rankOf(a.Ref), rankOf(b.Ref)), a.Ref.Compare(b.Ref))
	})
	var out []Step
	for i, p := range pieces {
		if len(out) == 0 || out[len(out)-1].Number != p.Step {
			out = append(out, Step{Number: p.Step})
		}
		s := &out[len(out)-1]
		fresh := len(s.Groups) == 0
		if !fresh {
			q := pieces[i-1]
			fresh = rankOf(q.Ref) != rankOf(p.Ref) || q.phase != p.phase || outer(q) != outer(p)
			if fresh && p.phase == 3 { // tasks after wait for everything before them
				s.Groups[len(s.Groups)-1].Await = true
			}
		}
		if fresh {
			s.Groups = append(s.Groups, Group{Task: p.Task, Await: p.Task != object.NoTask || awaited(p.Ref)})
		}
		g := &s.Groups[len(s.Groups)-1]
		g.Refs = append(g.Refs, p.Ref)
	}
	return out
}

// precious is the guard that stands before the removal of an object, unless a person allows it.
func (in Input) precious(ref object.Ref) (Guard, bool) {
	if !Precious(ref) || in.Unbound[ref] || slices.Contains(in.Allow, ref.Short()) {
		return Guard{}, false
	}
	return Guard{Name: ref.Short(), Text: fmt.Sprintf("%s would be removed, and what lives in it", ref)}, true
}

// Names are the names of some guards, as --allow takes them; those that can't be allowed are not among them.
func Names(gs []Guard) (out []string) {
	for _, g := range gs {
		if g.Mend == "" {
			out = append(out, g.Name)
		}
	}
	return out
}

// Without is the plan with some objects left as they are, each for what its guard says: going back comes first.
func (p Plan) Without(left map[object.Ref]Guard) Plan {
	var steps []Step
	for _, s := range p.Steps {
		var groups []Group
		for _, g := range s.Groups {
			g.Refs = slices.DeleteFunc(slices.Clone(g.Refs), func(ref object.Ref) bool { _, leave := left[ref]; return leave })
			if len(g.Refs) > 0 {
				groups = append(groups, g)
			}
		}
		if len(groups) > 0 {
			steps = append(steps, Step{s.Number, groups})
		}
	}
	p.Steps = steps
	for _, ref := range slices.SortedFunc(maps.Keys(left), object.Ref.Compare) {
		p.Spared = append(p.Spared, left[ref])
	}
	return p
}

func (in Input) passing(ref object.Ref) bool { return in.Passing != nil && in.Passing(ref) }

func guards(p Plan, in Input) []Guard {
	if in.Spare { // the others ask whether the repository means it; here it is not the repository that asks
		return nil
	}
	var out []Guard
	add := func(name, text string) {
		if !slices.Contains(in.Allow, name) {
			out = append(out, Guard{Name: name, Text: text})
		}
	}
	had, removed := len(in.Baselines), slices.DeleteFunc(p.Removed(), in.passing)
	declares := func(that func(object.Ref) bool) bool {
		return slices.ContainsFunc(in.Declared, func(d Declared) bool { return d.Task == object.NoTask && that(d.Ref) })
	}
	real := func(r object.Ref) bool { return r.Kind != "Namespace" }
	switch {
	case len(in.Only) > 0 || len(removed) == 0:
	case !declares(func(object.Ref) bool { return true }):
		add(GuardEmpty, fmt.Sprintf("the repository declares nothing any more; all %d objects of this ward would be removed", len(removed)))
	case !declares(real) && slices.ContainsFunc(removed, real): // a namespace that the ward makes for itself is declared whatever the repository holds
		add(GuardEmpty, fmt.Sprintf("the repository declares nothing but namespaces any more; the other %d objects of this ward would be removed", len(removed)))
	}
	switch {
	case len(out) > 0:
	case had > smallWard && float64(len(removed)) > massRemoval*float64(had):
		add(GuardMass, fmt.Sprintf("%d of %d objects would be removed", len(removed), had))
	}
	for _, ref := range removed {
		if g, guarded := in.precious(ref); guarded {
			out = append(out, g)
		}
	}
	return out
}
