// Package declared holds what the repository says that a ward is to be: which objects, from which commit, and what of that the
// cluster does not hold yet. Start with Declaration.
package declared

import (
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
)

// Input is one thing that a rendering read: while all of them have the same hash, it would give the same result.
type Input struct {
	Repo string `json:"repo,omitempty"` // "" for the cluster
	Ref  string `json:"ref,omitempty"`  // of values from another repository
	Path string `json:"path,omitempty"` // of a chart NAME VERSION
	Hash string `json:"hash"`           // "" when there was nothing
}

// File is a small text file by name.
type File struct {
	Path string `json:"path"`
	Text string `json:"text"`
}

// Whole is one declared object with its body, as a snapshot keeps it.
type Whole struct {
	Object object.Object
	Hash   string // of the declared object; of a Secret a keyed one, for even a plain hash tells something
	Step   int
}

// Turn is when the object's turn comes in a run.
func (w Whole) Turn() object.Turn {
	turn, err := w.Object.Turn()
	if err != nil {
		turn.Step = w.Step // kept by an older version, which knew fewer annotations
	}
	return turn
}

// Object is one declared object without its body.
type Object struct {
	plan.Declared
	Made    bool // a namespace that is declared by into.create_namespace alone
	Version string
	File    string
	Line    int
}

// The forms that files come in.
const (
	Plain    = "plain"
	Overlay  = "overlay"
	Chart    = "chart"
	Template = "template"
)

// Declaration is what the repository says at a revision: identities and hashes. The objects themselves are in
// the record, as a snapshot.
type Declaration struct {
	Revision logbook.Revision
	Head     string // the commit that its repository was at
	Tag      string // that a range of versions took
	Inputs   []Input
	Form     string
	Chart    string   // name and version
	Notes    []string // what of a chart was left out
	Snapshot string
	Objects  []Object          // sorted by Ref
	Tasks    map[string]string // keys of the tasks among them, to their hashes
	Rules    health.Rules
	Checks   []ward.Check          // that the ward's canaries share with others
	Files    []File                // what Rules, Checks and Findings are from
	Findings []rule.Finding        // what breaks the rules that hold for it
	Judged   string                // names these rules, and what they know beside the objects
	Kinds    []object.Kind         // of all objects
	Scaled   map[object.Ref]string // declared autoscalers, by what they scale
	Waits    string                // why there is nothing declared yet, and that this is no error
}

// Of are the objects of a snapshot without their bodies.
func Of(all []Whole) []Object {
	out := make([]Object, len(all))
	for i, o := range all {
		out[i] = Object{Declared: plan.Declared{Ref: o.Object.Ref, Hash: o.Hash, Turn: o.Turn(), Secrets: secret.Of(o.Object)}, Version: o.Object.Version, File: o.Object.File, Line: o.Object.Line}
	}
	return out
}

// Take fills in the objects, and what follows from them.
func (d *Declaration) Take(objects []Object) {
	slices.SortFunc(objects, func(a, b Object) int { return a.Ref.Compare(b.Ref) })
	d.Objects, d.Tasks, d.Kinds = objects, map[string]string{}, nil
	kinds := map[object.Kind]bool{}
	for i, o := range objects {
		objects[i].Made = o.Ref.Group == "" && o.Ref.Kind == "Namespace" && o.File == "" // no file declares it
		kinds[object.Kind{Version: o.Version, Kind: o.Ref.Kind}] = true
		if o.Task != object.NoTask {
			d.Tasks[o.Ref.Key()] = o.Hash
		}
	}
	for k := range kinds {
		d.Kinds = append(d.Kinds, k)
	}
}

// Known tells whether it is known what is declared, and something is.
func (d *Declaration) Known() bool { return d != nil && d.Waits == "" }

// Find is a declared object; nil when there is none of this ref, or no declaration.
func (d *Declaration) Find(ref object.Ref) *Object {
	if d == nil {
		return nil
	}
	i, found := slices.BinarySearchFunc(d.Objects, ref, func(o Object, ref object.Ref) int { return o.Ref.Compare(ref) })
	if !found {
		return nil
	}
	return &d.Objects[i]
}

// Share lets a declaration use the texts that the baselines hold already: thousands of objects name the same kinds,
// namespaces and files, and nearly all of them have the hash that was applied.
func (d *Declaration) Share(baselines map[object.Ref]compare.Baseline) {
	texts := map[string]string{}
	one := func(s *string) {
		if t, ok := texts[*s]; ok {
			*s = t
		} else {
			texts[*s] = *s
		}
	}
	for i := range d.Objects {
		o := &d.Objects[i]
		if b, kept := baselines[o.Ref]; kept {
			o.Ref = b.Ref
			if o.Hash == b.Declared {
				o.Hash = b.Declared
			}
		}
		for _, s := range []*string{&o.Ref.Group, &o.Ref.Kind, &o.Ref.Namespace, &o.Version, &o.File} {
			one(s)
		}
	}
}

// Definitions lists the kinds that some objects define, by group and kind, and whether they live in namespaces.
func Definitions(objects []object.Object) map[[2]string]bool {
	out := map[[2]string]bool{}
	for _, o := range objects {
		if o.Ref.Kind == "CustomResourceDefinition" {
			spec, _ := o.Body["spec"].(map[string]any)
			names, _ := spec["names"].(map[string]any)
			group, _ := spec["group"].(string)
			kind, _ := names["kind"].(string)
			out[[2]string{group, kind}] = spec["scope"] == "Namespaced"
		}
	}
	return out
}

// Side is what a declaration is held against.
type Side struct {
	Index   *index.Index
	Known   map[object.Ref]compare.Baseline // the index's, as they stand in the middle of a run; nil outside of one
	Done    map[string]string               // the tasks of what was applied last by key, to their hashes
	Tasks   []object.Ref                    // objects of tasks that are, or may be, in the cluster; sorted
	Prune   bool                            // keep.prune
	Passing func(object.Ref) bool           // it was made by a canary for its own time, and goes whatever keep.prune says
	Shared  func(Object) bool               // a namespace that the ward only wants to be there, and another ward keeps
	Scaler  func(object.Ref) string         // the autoscaler that has an object's replicas; "" when none has
	Secrets func([]secret.Ref) secret.Standing
}

func (s Side) known() map[object.Ref]compare.Baseline {
	if s.Known != nil {
		return s.Known
	}
	return s.Index.Baselines()
}

// Behind is what the repository moved.
type Behind struct {
	Apply, Remove, Tasks []object.Ref
	Rotated              []object.Ref // of Apply: nothing but the values of their secrets is another
	Count                int          // objects of the ward, declared or kept
	Shares               bool         // it wants a namespace that another ward keeps
}

func (s Side) passing(ref object.Ref) bool { return s.Passing != nil && s.Passing(ref) }

// Total is how many objects that are.
func (b *Behind) Total() int { return len(b.Apply) + len(b.Remove) + len(b.Tasks) }

// Changes is what a sync would do to each pending object: create, update, remove or run.
func (b *Behind) Changes(x *index.Index) map[object.Ref]string {
	out := make(map[object.Ref]string, b.Total())
	for _, ref := range b.Apply {
		out[ref] = "update"
		if b, kept := x.Baseline(ref); !kept || b.UID == "" {
			out[ref] = "create"
		}
	}
	for _, ref := range b.Remove {
		out[ref] = "remove"
	}
	for _, ref := range b.Tasks {
		out[ref] = "run"
	}
	return out
}

// Pending tells what the repository moved: objects to apply, objects to remove, and tasks that are new or changed. It is all right
// for a declaration that is nil: then nothing is pending.
func (d *Declaration) Pending(s Side) *Behind {
	out := &Behind{Count: s.Index.Len()}
	if d == nil {
		return out
	}
	items := make([]compare.Item, 0, len(d.Objects))
	isTask := map[object.Ref]bool{}
	for _, o := range d.Objects {
		if s.Shared(o) {
			out.Shares = true
			continue
		}
		if !s.Index.Keeps(o.Ref) {
			out.Count++
		}
		if o.Task == object.NoTask {
			items = append(items, compare.Item{Ref: o.Ref, Hash: s.HashNow(o.Declared)})
			continue
		}
		isTask[o.Ref] = true
		if s.Done[o.Ref.Key()] != o.Hash {
			out.Tasks = append(out.Tasks, o.Ref)
		}
	}
	out.Apply, out.Remove = compare.Pending(items, s.known())
	for _, ref := range out.Apply {
		b, kept := s.known()[ref]
		if o := d.Find(ref); kept && len(o.Secrets) > 0 && b.Intent == 0 && bare(b.Declared) == o.Hash {
			out.Rotated = append(out.Rotated, ref)
		}
	}
	out.Remove = slices.DeleteFunc(out.Remove, func(ref object.Ref) bool { return isTask[ref] })
	if !s.Prune {
		out.Remove = slices.DeleteFunc(out.Remove, func(ref object.Ref) bool { return !s.passing(ref) })
	}
	if len(out.Remove) > 0 { // what a run may never remove is not waited for
		keep := s.Index.Guarded(object.NoPrune)
		out.Remove = slices.DeleteFunc(out.Remove, func(ref object.Ref) bool { return keep[ref] })
	}
	stale := d.Stale(s.Tasks)
	out.Count += len(stale)
	out.Remove = append(out.Remove, stale...)
	return out
}

// Stale lists objects of tasks that are in the cluster, and declared no more.
func (d *Declaration) Stale(tasks []object.Ref) (out []object.Ref) {
	for _, ref := range tasks {
		if d.Find(ref) == nil {
			out = append(out, ref)
		}
	}
	return out
}

// ScaledMark stands before the hash of an object that was applied without its replicas, because an autoscaler has
// them: once the autoscaler is gone, the object is applied again.
const ScaledMark = "scaled "

// HashNow is the hash to hold against the baseline's. An autoscaler that came later is no reason to apply again, and neither is a store that
// can't be read now; that a value is another, or gone, is one.
func (s Side) HashNow(o plan.Declared) string {
	b, _ := s.Index.Baseline(o.Ref)
	hash := o.Hash
	if len(o.Secrets) > 0 {
		now := s.Secrets(o.Secrets)
		if now.Unknown != "" && now.Refused == "" && len(now.Missing) == 0 && bare(b.Declared) == o.Hash {
			return b.Declared
		}
		hash = secret.Mark(o.Hash, now.Digest)
	}
	if s.Scaler(o.Ref) != "" && b.Declared != hash {
		return ScaledMark + hash
	}
	return hash
}

// bare is the hash of what was declared, without the marks of how it was applied.
func bare(mark string) string { return secret.Bare(strings.TrimPrefix(mark, ScaledMark)) }

// Planned is what a plan needs of declared objects.
func (s Side) Planned(objects []Object) []plan.Declared {
	out := make([]plan.Declared, 0, len(objects))
	for _, o := range objects {
		if s.Shared(o) {
			continue
		}
		o.Declared.Hash = s.HashNow(o.Declared)
		out = append(out, o.Declared)
	}
	return out
}

// TasksWhen says when a sync runs its tasks: always when one of them is new, else along with other work.
func TasksWhen(changed bool) plan.Tasks {
	if changed {
		return plan.Always
	}
	return plan.WithWork
}

// Plan is the plan of a sync as it would run now. restore lists what is put back on the way.
func (d *Declaration) Plan(s Side, b *Behind, restore []object.Ref, allow []string) plan.Plan {
	return plan.Make(plan.Input{Declared: s.Planned(d.Objects), Baselines: s.Index.Baselines(), Drifted: restore,
		Prune: s.Prune, Passing: s.Passing, NoPrune: s.Index.Guarded(object.NoPrune), Tasks: TasksWhen(len(b.Tasks) > 0), Stale: d.Stale(s.Tasks), Unbound: s.Index.Unbound(), Allow: allow})
}

// Half counts what is not as what was applied as a whole has it: whole, by ref to hash. The objects of a declaration that is
// there in parts count, and those that an unfinished run applied.
func (d *Declaration) Half(x *index.Index, whole map[object.Ref]string, done map[string]string) (n int) {
	for ref, b := range x.All() {
		hash, held := whole[ref]
		if !held && (d.Find(ref) != nil || b.Snapshot != "") || held && bare(b.Declared) != hash {
			n++
		}
	}
	for ref := range whole {
		if !x.Keeps(ref) && done[ref.Key()] == "" {
			n++
		}
	}
	return n
}
