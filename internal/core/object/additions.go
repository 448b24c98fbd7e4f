package object

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
)

// Addition is a field, or a whole item of a list, that another client put beside the fields that Vigila owns.
type Addition struct {
	Path  fieldpath.Path
	Value any
	Owner Owner
}

// Others is what other clients own of an object itself: not of its status or scale, and not what they own only
// because a change of Vigila's was completed on its way (those entries bear Vigila's name).
func Others(body map[string]any) *fieldpath.Set {
	out := &fieldpath.Set{}
	for _, o := range Owners(body) {
		if o.Manager != Manager && o.Subresource == "" {
			out = out.Union(o.Set)
		}
	}
	return out
}

// system are the clients of a Kubernetes control plane; what they write to an object is their work.
var system = []string{"kube-controller-manager", "kube-scheduler", "kube-apiserver", "kubelet", "cloud-controller-manager"}

// atWork tells whether a client writes to objects in the course of its work, by the name that controllers give
// themselves: the control plane's own, and what ends the way controllers, operators and webhooks are named.
func atWork(manager string) bool {
	if slices.Contains(system, manager) {
		return true
	}
	for _, end := range []string{"-controller", "-controller-manager", "-operator", "-webhook", "-injector"} {
		if strings.HasSuffix(manager, end) {
			return true
		}
	}
	return false
}

// upkeep are fields that controllers fill in on objects of others, whatever they call themselves.
func upkeep(p fieldpath.Path) bool {
	name := func(i int) string {
		if i < len(p) && p[i].FieldName != nil {
			return *p[i].FieldName
		}
		return ""
	}
	switch name(0) {
	case "status":
		return true
	case "metadata":
		return name(1) == "finalizers" || name(1) == "ownerReferences"
	}
	return len(p) > 0 && name(len(p)-1) == "caBundle"
}

// Additions lists what others added to an object, sorted by path: their fields in managedFields, less ours, less
// what was there when Vigila first applied the object (found), less what controllers do in the course of their
// work. Of a list item that is not ours the whole item is one addition.
func (fs FieldSet) Additions(body map[string]any, found *fieldpath.Set) []Addition {
	byPath := map[string]Addition{}
	for _, o := range Owners(body) {
		if o.Manager == Manager || o.Subresource != "" || atWork(o.Manager) {
			continue
		}
		added(body, o.Set, fs.Set, nil, func(p fieldpath.Path, v any) {
			if upkeep(p) || isRestart(p) || found != nil && holds(found, p) {
				return
			}
			name := PathString(p)
			if old, ok := byPath[name]; !ok || old.Owner.Time.Before(o.Time) {
				byPath[name] = Addition{Path: p.Copy(), Value: v, Owner: o}
			}
		})
	}
	out := make([]Addition, 0, len(byPath))
	for _, a := range byPath {
		out = append(out, a)
	}
	slices.SortFunc(out, func(a, b Addition) int { return strings.Compare(PathString(a.Path), PathString(b.Path)) })
	return out
}

// added calls each for every part of v that is in theirs and has nothing of ours at or below it.
func added(v any, theirs, ours *fieldpath.Set, path fieldpath.Path, each func(fieldpath.Path, any)) {
	if ours == nil {
		ours = &fieldpath.Set{}
	}
	look := func(pe fieldpath.PathElement, below *fieldpath.Set) {
		x, there := get(v, pe)
		if !there {
			return
		}
		p := append(path[:len(path):len(path)], pe)
		oursBelow, shared := ours.Children.Get(pe)
		mine := ours.Members.Has(pe)
		switch {
		case below == nil: // a leaf, or an atomic list or map
			if !mine && !shared {
				each(p, x)
			}
		case pe.FieldName != nil && isContainer(x) || shared || mine && isContainer(x) && pe.Key != nil:
			added(x, below, oursBelow, p, each)
		case !mine:
			each(p, x)
		}
	}
	theirs.Members.Iterate(func(pe fieldpath.PathElement) {
		if _, more := theirs.Children.Get(pe); !more {
			look(pe, nil)
		}
	})
	theirs.Children.Iterate(func(pe fieldpath.PathElement) {
		below, _ := theirs.Children.Get(pe)
		look(pe, below)
	})
}

// holds tells whether a set has a path, or something below it.
func holds(s *fieldpath.Set, p fieldpath.Path) bool {
	return s.Has(p) || hasChildren(s, p)
}

// Operation is one operation of a JSON Patch (RFC 6902).
type Operation struct {
	Op    string `json:"op"`
	Path  string `json:"path"`
	Value any    `json:"value,omitempty"`
}

// Removal is the JSON Patch that takes additions out of an object and touches nothing else; it goes through only
// while the object is as it was read. A mapping that is empty without them goes with them, unless Vigila owns it.
// Empty when nothing of them is there any more.
func (fs FieldSet) Removal(body map[string]any, additions []Addition) []Operation {
	type place struct {
		parts []string
		path  fieldpath.Path
	}
	var places []place
	rest := Clone(body)
	for _, a := range additions {
		path := a.Path
		for {
			parts, ok := indexes(body, path)
			if !ok {
				break
			}
			parent := path[:len(path)-1]
			cut(rest, path)
			if len(parent) > 1 && parent[len(parent)-1].FieldName != nil && !holds(orEmpty(fs.Set), parent) {
				if left, ok := lookup(rest, parent); ok && emptyContainer(left) {
					path = parent
					continue
				}
			}
			places = append(places, place{parts, path})
			break
		}
	}
	// The last item of a list first, so that the places of the others stay; a part of what goes anyway is left out.
	slices.SortFunc(places, func(a, b place) int { return comparePointers(b.parts, a.parts) })
	var out []Operation
	for i, p := range places {
		covered := false
		for j, q := range places {
			same := slices.Equal(p.parts, q.parts)
			covered = covered || i != j && len(q.parts) <= len(p.parts) && slices.Equal(q.parts, p.parts[:len(q.parts)]) && (!same || j < i)
		}
		if !covered {
			out = append(out, Operation{Op: "remove", Path: "/" + strings.Join(p.parts, "/")})
		}
	}
	if len(out) == 0 {
		return nil
	}
	meta, _ := body["metadata"].(map[string]any)
	return append([]Operation{{Op: "replace", Path: "/metadata/resourceVersion", Value: meta["resourceVersion"]}}, out...)
}

func orEmpty(s *fieldpath.Set) *fieldpath.Set {
	if s == nil {
		return &fieldpath.Set{}
	}
	return s
}

// indexes turns a path into the parts of a JSON pointer, list items by their place.
func indexes(v any, path fieldpath.Path) ([]string, bool) {
	var out []string
	for _, pe := range path {
		x, ok := get(v, pe)
		if !ok {
			return nil, false
		}
		if pe.FieldName != nil {
			out = append(out, strings.NewReplacer("~", "~0", "/", "~1").Replace(*pe.FieldName))
		} else {
			i := itemIndex(v, pe)
			out = append(out, strconv.Itoa(i))
		}
		v = x
	}
	return out, true
}

func itemIndex(v any, pe fieldpath.PathElement) int {
	list, _ := v.([]any)
	for i := range list {
		if _, ok := get(list[i:i+1], pe); ok && pe.Index == nil {
			return i
		}
	}
	if pe.Index != nil {
		return *pe.Index
	}
	return -1
}

func lookup(v any, path fieldpath.Path) (any, bool) {
	for _, pe := range path {
		x, ok := get(v, pe)
		if !ok {
			return nil, false
		}
		v = x
	}
	return v, true
}

// hole stands where an item of a list was cut out.
type hole struct{}

// cut takes one path out of a body in place. An item of a list leaves a hole there, so that the others keep their
// places.
func cut(body map[string]any, path fieldpath.Path) {
	parent, ok := lookup(body, path[:len(path)-1])
	if !ok {
		return
	}
	last := path[len(path)-1]
	switch parent := parent.(type) {
	case map[string]any:
		if last.FieldName != nil {
			delete(parent, *last.FieldName)
		}
	case []any:
		if i := itemIndex(parent, last); i >= 0 && i < len(parent) {
			parent[i] = hole{}
		}
	}
}

func comparePointers(a, b []string) int {
	for i := range min(len(a), len(b)) {
		x, errX := strconv.Atoi(a[i])
		y, errY := strconv.Atoi(b[i])
		if errX == nil && errY == nil {
			if x != y {
				return x - y
			}
			continue
		}
		if c := strings.Compare(a[i], b[i]); c != 0 {
			return c
		}
	}
	return len(a) - len(b)
}

// clientSide is the field manager of client-side applies, and lastApplied the annotation they leave.
// Source: https://kubernetes.io/docs/reference/using-api/server-side-apply/#migration-between-client-side-and-server-side-apply
const (
	clientSide  = "kubectl-client-side-apply"
	lastApplied = "kubectl.kubernetes.io/last-applied-configuration"
)

// Predecessors lists the clients whose fields Vigila takes over when it adopts a live object: those named, and
// client-side applies. Without that, a field they once applied would stay for ever after it left the repository.
func Predecessors(live map[string]any, named []string) []string {
	var out []string
	for _, o := range Owners(live) {
		mine := o.Manager == clientSide && o.Operation == "Update" || slices.Contains(named, o.Manager)
		if o.Manager != Manager && o.Subresource == "" && mine && !slices.Contains(out, o.Manager) {
			out = append(out, o.Manager)
		}
	}
	return out
}

// TakeOver is the JSON Patch that hands the fields of some clients in a live object to Vigila's apply, but those that are
// left to others; the next apply then removes those that are not declared. The annotation of client-side applies goes
// with them. It goes through only while the object is as it was read; empty when there is nothing to take.
func TakeOver(live map[string]any, from []string, leave []Pointer) ([]Operation, error) {
	meta, _ := live["metadata"].(map[string]any)
	entries, _ := meta["managedFields"].([]any)
	taken := &fieldpath.Set{}
	for _, o := range Owners(live) {
		switch {
		case o.Subresource != "":
		case o.Manager == Manager && o.Operation == "Apply":
			taken = taken.Union(o.Set)
		case slices.Contains(from, o.Manager):
			taken = taken.Union(FieldSet{Set: o.Set}.Without(leave, In(live)).Set)
		}
	}
	var kept []any
	found := false
	for _, e := range entries {
		m, _ := e.(map[string]any)
		name, _ := m["manager"].(string)
		sub, _ := m["subresource"].(string)
		if sub == "" && slices.Contains(from, name) {
			if theirs := leftOf(m, leave, live); theirs != nil { // stays theirs
				kept = append(kept, theirs)
			}
			found = true
			continue
		}
		if sub == "" && name == Manager && m["operation"] == "Apply" {
			continue
		}
		kept = append(kept, e)
	}
	if !found {
		return nil, nil
	}
	raw, err := taken.ToJSON()
	if err != nil {
		return nil, fmt.Errorf("write the fields that are taken over: %w", err)
	}
	kept = append(kept, map[string]any{"manager": Manager, "operation": "Apply", "apiVersion": live["apiVersion"], "fieldsType": "FieldsV1", "fieldsV1": json.RawMessage(raw)})
	out := []Operation{{Op: "replace", Path: "/metadata/resourceVersion", Value: meta["resourceVersion"]}, {Op: "replace", Path: "/metadata/managedFields", Value: kept}}
	return out, nil
}

// leftOf is an entry of managedFields with those of its fields that are left to others; nil when there are none.
func leftOf(entry map[string]any, leave []Pointer, live map[string]any) map[string]any {
	raw, err := json.Marshal(entry["fieldsV1"])
	set := &fieldpath.Set{}
	if len(leave) == 0 || err != nil || set.FromJSON(bytes.NewReader(raw)) != nil {
		return nil
	}
	stays := &fieldpath.Set{}
	set.Iterate(func(p fieldpath.Path) {
		if covered(leave, p, In(live)) {
			stays.Insert(p.Copy())
		}
	})
	if raw, err = stays.ToJSON(); stays.Empty() || err != nil {
		return nil
	}
	out := maps.Clone(entry)
	out["fieldsV1"] = json.RawMessage(raw)
	return out
}

// Dropped lists the fields that an adoption takes away from its predecessors: those that neither the applied object nor
// anybody else owns. owned is what Vigila owns in the answer to a dry-run apply. Many of them are defaults, which the API
// server fills in again.
func Dropped(live map[string]any, from []string, owned FieldSet, leave []Pointer) []fieldpath.Path {
	theirs, others := &fieldpath.Set{}, orEmpty(owned.Set)
	for _, o := range Owners(live) {
		switch {
		case o.Subresource == "" && slices.Contains(from, o.Manager):
			theirs = theirs.Union(FieldSet{Set: o.Set}.Without(leave, In(live)).Set)
		case o.Manager != Manager:
			others = others.Union(o.Set)
		}
	}
	var out []fieldpath.Path
	added(live, theirs, others, nil, func(p fieldpath.Path, _ any) { out = append(out, p.Copy()) })
	slices.SortFunc(out, func(a, b fieldpath.Path) int { return strings.Compare(PathString(a), PathString(b)) })
	return out
}

// CutOperations is the JSON Patch that takes paths out of a live object, as a whole item of a list where it is one.
func CutOperations(live map[string]any, paths []fieldpath.Path) []Operation {
	additions := make([]Addition, len(paths))
	for i, p := range paths {
		additions[i] = Addition{Path: p}
	}
	return FieldSet{Set: &fieldpath.Set{}}.Removal(live, additions)
}

// Refill is a copy of a body whose values at some paths are those of another; what the other lacks is cut out.
func Refill(body, from map[string]any, paths []fieldpath.Path) map[string]any {
	out := Clone(body)
	for _, p := range paths {
		if v, there := lookup(from, p); there {
			set(out, p, Clone(v), nil)
		} else {
			cut(out, p)
		}
	}
	return withoutHoles(out).(map[string]any)
}

// Cut is a copy of a body without some paths.
func Cut(body map[string]any, paths []fieldpath.Path) map[string]any {
	return Refill(body, nil, paths)
}

// withoutHoles closes the gaps that cut leaves in lists.
func withoutHoles(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			v[k] = withoutHoles(x)
		}
	case []any:
		kept := v[:0]
		for _, x := range v {
			if x != (hole{}) {
				kept = append(kept, withoutHoles(x))
			}
		}
		return kept
	}
	return v
}
