package object

import (
	"bytes"
	"encoding/json"
	"fmt"
	"sort"
	"strings"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
	"sigs.k8s.io/structured-merge-diff/v6/value"
)

// Field is one leaf of an object: where it is and what it holds. Value is a decoded JSON value; for an atomic
// list or map it is the whole of it.
type Field struct {
	Path  string `json:"path"`
	Value any    `json:"value"`
}

// FieldSet is the set of fields that one client owns, and which of those were empty containers when they were
// applied (Shells). What others put into an empty container is theirs, so only its existence counts.
type FieldSet struct {
	Set    *fieldpath.Set
	Shells map[string]bool
}

// Owner is one entry of metadata.managedFields.
// Source: https://kubernetes.io/docs/reference/using-api/server-side-apply/
type Owner struct {
	Manager     string
	Operation   string // Apply or Update
	Subresource string // status, scale, or empty
	Time        time.Time
	Set         *fieldpath.Set
}

// Owners reads metadata.managedFields of a live object. Entries that can't be read are left out.
func Owners(body map[string]any) []Owner {
	meta, _ := body["metadata"].(map[string]any)
	entries, _ := meta["managedFields"].([]any)
	out := make([]Owner, 0, len(entries))
	for _, e := range entries {
		m, ok := e.(map[string]any)
		if !ok {
			continue
		}
		raw, err := json.Marshal(m["fieldsV1"])
		if err != nil {
			continue
		}
		set := &fieldpath.Set{}
		if err := set.FromJSON(bytes.NewReader(raw)); err != nil {
			continue
		}
		o := Owner{Set: set}
		o.Manager, _ = m["manager"].(string)
		o.Operation, _ = m["operation"].(string)
		o.Subresource, _ = m["subresource"].(string)
		if t, ok := m["time"].(string); ok {
			o.Time, _ = time.Parse(time.RFC3339, t)
		}
		out = append(out, o)
	}
	return out
}

// Owned is the set of fields that Vigila owns in an answer of the API server. The result has no members when
// it owns nothing. sent is what was applied: a container that was sent empty is a shell, though the API server may have
// filled in defaults. nil when that is not known.
func Owned(body, sent map[string]any) FieldSet {
	set := &fieldpath.Set{}
	for _, o := range Owners(body) {
		if o.Manager == Manager && o.Operation == "Apply" && o.Subresource == "" {
			set = set.Union(o.Set)
		}
	}
	fs := FieldSet{Set: set, Shells: map[string]bool{}}
	walk(body, set, nil, func(path fieldpath.Path, v any) {
		if !emptyContainer(v) {
			if was, ok := lookup(sent, path); !ok || !emptyContainer(was) {
				return
			}
		}
		fs.Shells[PathString(path)] = true
	})
	return fs
}

// Marked tells whether an object bears the mark of a ward that Vigila itself has put on, and when it was applied last: a copy
// that somebody made of it bears the same label, and that is not owned by Vigila.
func Marked(body map[string]any, ward string) (at time.Time, yes bool) {
	if Label(body, WardLabel) != ward {
		return time.Time{}, false
	}
	for _, o := range Owners(body) {
		if o.Manager == Manager && o.Operation == "Apply" && o.Subresource == "" && o.Set.Has(fieldpath.MakePathOrDie("metadata", "labels", WardLabel)) {
			return o.Time, true
		}
	}
	return time.Time{}, false
}

// Without returns the set less the given paths and everything below them. read reads what the set is of.
func (fs FieldSet) Without(leave []Pointer, read Reader) FieldSet {
	if len(leave) == 0 {
		return fs
	}
	out := &fieldpath.Set{}
	fs.Set.Iterate(func(p fieldpath.Path) {
		if !covered(leave, p, read) {
			out.Insert(p.Copy())
		}
	})
	return FieldSet{Set: out, Shells: fs.Shells}
}

// MarshalJSON writes the set in the form of managedFields, with its shells beside it.
func (fs FieldSet) MarshalJSON() ([]byte, error) {
	set := fs.Set
	if set == nil {
		set = &fieldpath.Set{}
	}
	raw, err := set.ToJSON()
	if err != nil {
		return nil, err
	}
	shells := make([]string, 0, len(fs.Shells))
	for s := range fs.Shells {
		shells = append(shells, s)
	}
	sort.Strings(shells)
	return json.Marshal(struct {
		Set    json.RawMessage `json:"set"`
		Shells []string        `json:"shells,omitempty"`
	}{raw, shells})
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (fs *FieldSet) UnmarshalJSON(b []byte) error {
	var in struct {
		Set    json.RawMessage `json:"set"`
		Shells []string        `json:"shells"`
	}
	if err := json.Unmarshal(b, &in); err != nil {
		return err
	}
	fs.Set = &fieldpath.Set{}
	if err := fs.Set.FromJSON(bytes.NewReader(in.Set)); err != nil {
		return err
	}
	fs.Shells = map[string]bool{}
	for _, s := range in.Shells {
		fs.Shells[s] = true
	}
	return nil
}

// Project reads from a body exactly the fields of the set, sorted by path. A field that is gone is left out.
// Two bodies with equal projections are the same as far as Vigila's own fields go.
func (fs FieldSet) Project(body map[string]any) []Field {
	var out []Field
	var foreign *fieldpath.Set
	walk(body, fs.Set, nil, func(path fieldpath.Path, v any) {
		name := PathString(path)
		if fs.Shells[name] && isContainer(v) && !emptyContainer(v) {
			// Others may fill a container that we left empty; but when one of them owns it as a whole it is
			// atomic, and they replaced it.
			if foreign == nil {
				foreign = othersSet(body)
			}
			if !foreign.Has(path) || hasChildren(foreign, path) {
				v = emptyLike(v)
			}
		}
		out = append(out, Field{Path: name, Value: v})
	})
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out
}

func othersSet(body map[string]any) *fieldpath.Set {
	out := &fieldpath.Set{}
	for _, o := range Owners(body) {
		if o.Manager != Manager && o.Subresource != "status" {
			out = out.Union(o.Set)
		}
	}
	return out
}

func hasChildren(s *fieldpath.Set, path fieldpath.Path) bool {
	for _, pe := range path {
		child, ok := s.Children.Get(pe)
		if !ok {
			return false
		}
		s = child
	}
	return !s.Empty()
}

// walk calls leaf for every member of the set that has nothing of the set below it and exists in v.
func walk(v any, set *fieldpath.Set, path fieldpath.Path, leaf func(fieldpath.Path, any)) {
	if set == nil {
		return
	}
	set.Members.Iterate(func(pe fieldpath.PathElement) {
		if _, below := set.Children.Get(pe); below {
			return
		}
		if x, ok := get(v, pe); ok {
			leaf(append(path[:len(path):len(path)], pe), x)
		}
	})
	set.Children.Iterate(func(pe fieldpath.PathElement) {
		child, _ := set.Children.Get(pe)
		if x, ok := get(v, pe); ok {
			walk(x, child, append(path[:len(path):len(path)], pe), leaf)
		}
	})
}

func get(v any, pe fieldpath.PathElement) (any, bool) {
	switch {
	case pe.FieldName != nil:
		m, ok := v.(map[string]any)
		if !ok {
			return nil, false
		}
		x, ok := m[*pe.FieldName]
		return x, ok
	case pe.Key != nil:
		list, _ := v.([]any)
		for _, item := range list {
			if m, ok := item.(map[string]any); ok && matchesKey(m, *pe.Key) {
				return m, true
			}
		}
	case pe.Value != nil:
		list, _ := v.([]any)
		for _, item := range list {
			if value.Equals(value.NewValueInterface(item), *pe.Value) {
				return item, true
			}
		}
	case pe.Index != nil:
		list, _ := v.([]any)
		if *pe.Index >= 0 && *pe.Index < len(list) {
			return list[*pe.Index], true
		}
	}
	return nil, false
}

func matchesKey(m map[string]any, key value.FieldList) bool {
	for _, f := range key {
		x, ok := m[f.Name]
		if !ok || !value.Equals(value.NewValueInterface(x), f.Value) {
			return false
		}
	}
	return true
}

func isContainer(v any) bool {
	switch v.(type) {
	case map[string]any, []any:
		return true
	}
	return false
}

func emptyContainer(v any) bool {
	switch v := v.(type) {
	case map[string]any:
		return len(v) == 0
	case []any:
		return len(v) == 0
	}
	return false
}

func emptyLike(v any) any {
	if _, ok := v.([]any); ok {
		return []any{}
	}
	return map[string]any{}
}

// PathString writes a path the way people read it: spec.template.spec.containers[name=app].image. Names that
// hold a dot or a slash stand in brackets: metadata.labels[example.com/tier].
func PathString(p fieldpath.Path) string {
	var b strings.Builder
	for _, pe := range p {
		switch {
		case pe.FieldName != nil:
			if strings.ContainsAny(*pe.FieldName, "./[]") {
				fmt.Fprintf(&b, "[%s]", *pe.FieldName)
				continue
			}
			if b.Len() > 0 {
				b.WriteByte('.')
			}
			b.WriteString(*pe.FieldName)
		case pe.Key != nil:
			parts := make([]string, len(*pe.Key))
			for i, f := range *pe.Key {
				parts[i] = fmt.Sprintf("%s=%v", f.Name, f.Value.Unstructured())
			}
			fmt.Fprintf(&b, "[%s]", strings.Join(parts, ","))
		case pe.Value != nil:
			fmt.Fprintf(&b, "[%v]", (*pe.Value).Unstructured())
		case pe.Index != nil:
			fmt.Fprintf(&b, "[%d]", *pe.Index)
		}
	}
	return b.String()
}

// Flatten lists every leaf of a body, sorted by path. Lists whose items the set names by key, and lists of
// maps that all have a name, are read by that key; other lists by index.
func Flatten(body map[string]any, keys *fieldpath.Set) []Field {
	var out []Field
	flatten(body, keys, nil, &out)
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out
}

func flatten(v any, keys *fieldpath.Set, path fieldpath.Path, out *[]Field) {
	below := func(pe fieldpath.PathElement) *fieldpath.Set {
		if keys == nil {
			return nil
		}
		child, _ := keys.Children.Get(pe)
		return child
	}
	switch v := v.(type) {
	case map[string]any:
		if len(v) == 0 {
			*out = append(*out, Field{PathString(path), v})
		}
		for name, x := range v {
			pe := fieldpath.PathElement{FieldName: &name}
			flatten(x, below(pe), append(path[:len(path):len(path)], pe), out)
		}
	case []any:
		if len(v) == 0 {
			*out = append(*out, Field{PathString(path), v})
		}
		elements := listKeys(v, keys)
		for i, x := range v {
			flatten(x, below(elements[i]), append(path[:len(path):len(path)], elements[i]), out)
		}
	default:
		*out = append(*out, Field{PathString(path), v})
	}
}

// listKeys names each item of a list: by the keys that the set uses there, else by name, else by index.
func listKeys(list []any, keys *fieldpath.Set) []fieldpath.PathElement {
	out := make([]fieldpath.PathElement, len(list))
	var names []string
	if keys != nil {
		keys.Children.Iterate(func(pe fieldpath.PathElement) {
			if pe.Key != nil && names == nil {
				for _, f := range *pe.Key {
					names = append(names, f.Name)
				}
			}
		})
	}
	if names == nil {
		names = []string{"name"}
	}
	seen := map[string]bool{}
	for i, item := range list {
		m, ok := item.(map[string]any)
		if !ok {
			return byIndex(list)
		}
		key := value.FieldList{}
		for _, n := range names {
			x, ok := m[n]
			if !ok {
				return byIndex(list)
			}
			key = append(key, value.Field{Name: n, Value: value.NewValueInterface(x)})
		}
		out[i] = fieldpath.PathElement{Key: &key}
		id := out[i].String()
		if seen[id] {
			return byIndex(list)
		}
		seen[id] = true
	}
	return out
}

func byIndex(list []any) []fieldpath.PathElement {
	out := make([]fieldpath.PathElement, len(list))
	for i := range list {
		out[i] = fieldpath.PathElement{Index: &i}
	}
	return out
}

// SetPaths lists the members of a field set as people read them.
func SetPaths(s *fieldpath.Set) []string {
	if s == nil {
		return nil
	}
	var out []string
	s.Iterate(func(p fieldpath.Path) { out = append(out, PathString(p)) })
	return out
}
