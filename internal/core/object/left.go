package object

import (
	"slices"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
	"sigs.k8s.io/structured-merge-diff/v6/value"
)

// Complete makes the body to apply to a live object of a declared one, of which some fields are left to others. It is
// decided leaf by leaf: what another client owns, and what nobody does, such as a default, is taken out of the body, so
// that Vigila does not own it; what Vigila alone owns is applied as it is live, declared or not, since taking it out would
// delete it. The declared body is not changed.
func Complete(declared, live map[string]any, leave []Pointer) map[string]any {
	if len(leave) == 0 {
		return declared
	}
	ours, theirs := owners(live)
	out := Clone(declared)
	both := ours.Union(theirs)
	var cuts []fieldpath.Path
	for _, path := range leaves(declared, both) {
		if !covered(leave, path, In(declared)) && !covered(leave, path, In(live)) {
			continue
		}
		if v, there := lookup(live, path); there && holds(ours, path) && !touches(theirs, path) {
			set(out, path, Clone(v), nil)
			continue
		}
		cuts = append(cuts, path)
	}
	for _, path := range leaves(live, both) { // ours alone, and not declared any more
		if _, declares := lookup(declared, path); declares || !ours.Has(path) || touches(theirs, path) || !covered(leave, path, In(live)) {
			continue
		}
		v, _ := lookup(live, path)
		set(out, path, Clone(v), func(item fieldpath.Path) bool { return covered(leave, item, In(live)) })
	}
	return prune(out, cuts)
}

// Carry is a declared body with the live values of what is left to others, for an object that is deleted and made again:
// whoever set them would have to set them anew.
func Carry(declared, live map[string]any, leave []Pointer) map[string]any {
	if len(leave) == 0 {
		return declared
	}
	ours, theirs := owners(live)
	both := ours.Union(theirs)
	out := Clone(declared)
	for _, path := range leaves(live, both) {
		if touches(both, path) && covered(leave, path, In(live)) {
			v, _ := lookup(live, path)
			set(out, path, Clone(v), func(item fieldpath.Path) bool { return covered(leave, item, In(live)) })
		}
	}
	return out
}

// owners are the fields that Vigila applied, and those that other clients own, scale and all but the status among them.
func owners(live map[string]any) (ours, theirs *fieldpath.Set) {
	ours, theirs = &fieldpath.Set{}, &fieldpath.Set{}
	for _, o := range Owners(live) {
		switch {
		case o.Manager == Manager && o.Operation == "Apply" && o.Subresource == "":
			ours = ours.Union(o.Set)
		case o.Subresource != "status":
			theirs = theirs.Union(o.Set)
		}
	}
	return ours, theirs
}

// touches tells whether a set has a path, something below it, or the whole that it is a part of.
func touches(s *fieldpath.Set, path fieldpath.Path) bool {
	if holds(s, path) {
		return true
	}
	for i := len(path) - 1; i > 0; i-- {
		if s.Has(path[:i]) && !hasChildren(s, path[:i]) {
			return true
		}
	}
	return false
}

// leaves lists the paths of every leaf of a body; what a set owns as a whole is one.
func leaves(body map[string]any, sets *fieldpath.Set) []fieldpath.Path {
	var out []fieldpath.Path
	var walk func(v any, s *fieldpath.Set, path fieldpath.Path)
	walk = func(v any, s *fieldpath.Set, path fieldpath.Path) {
		next := func(pe fieldpath.PathElement, x any) {
			var below *fieldpath.Set
			if s != nil {
				var more bool
				if below, more = s.Children.Get(pe); !more && s.Members.Has(pe) {
					out = append(out, append(path[:len(path):len(path)], pe))
					return
				}
			}
			walk(x, below, append(path[:len(path):len(path)], pe))
		}
		switch v := v.(type) {
		case map[string]any:
			for name, x := range v {
				next(fieldpath.PathElement{FieldName: &name}, x)
			}
			if len(v) > 0 {
				return
			}
		case []any:
			for i, pe := range itemsOf(v, s) {
				next(pe, v[i])
			}
			if len(v) > 0 {
				return
			}
		}
		if len(path) > 0 {
			out = append(out, path)
		}
	}
	walk(body, sets, nil)
	slices.SortFunc(out, func(a, b fieldpath.Path) int { return a.Compare(b) })
	return out
}

// itemsOf names the items of a list as a set does: by themselves where it holds plain values so.
func itemsOf(list []any, s *fieldpath.Set) []fieldpath.PathElement {
	byValue := false
	if s != nil {
		s.Members.Iterate(func(pe fieldpath.PathElement) { byValue = byValue || pe.Value != nil })
	}
	if !byValue {
		return listKeys(list, s)
	}
	out := make([]fieldpath.PathElement, len(list))
	for i, x := range list {
		v := valueOf(x)
		out[i] = fieldpath.PathElement{Value: &v}
	}
	return out
}

// set writes a value at a path in place. Mappings on the way are made; an item of a list only where grow says so.
func set(body map[string]any, path fieldpath.Path, v any, grow func(item fieldpath.Path) bool) {
	var root any = body
	var write func(at any, i int) (any, bool)
	write = func(at any, i int) (any, bool) {
		if i == len(path) {
			return v, true
		}
		pe := path[i]
		if pe.FieldName != nil {
			m, ok := at.(map[string]any)
			if at != nil && !ok {
				return at, false
			}
			if m == nil {
				m = map[string]any{}
			}
			x, ok := write(m[*pe.FieldName], i+1)
			if ok {
				m[*pe.FieldName] = x
			}
			return m, ok
		}
		list, ok := at.([]any)
		if at != nil && !ok {
			return at, false
		}
		for j := range list {
			if _, is := get(list[j:j+1], pe); is && pe.Index == nil || pe.Index != nil && *pe.Index == j {
				x, ok := write(list[j], i+1)
				if ok {
					list[j] = x
				}
				return list, ok
			}
		}
		if grow == nil || pe.Index != nil || !grow(path[:i+1]) {
			return at, false
		}
		var item any
		if pe.Key != nil {
			m := map[string]any{}
			for _, f := range *pe.Key {
				m[f.Name] = f.Value.Unstructured()
			}
			item = m
		}
		x, ok := write(item, i+1)
		return append(list, x), ok
	}
	write(root, 0)
}

// prune takes paths out of a body in place, and what is empty then and was not before. The fields that an item of a list
// is known by go only with all of it.
func prune(body map[string]any, cuts []fieldpath.Path) map[string]any {
	var keys []fieldpath.Path
	var emptied []fieldpath.Path
	note := func(p fieldpath.Path) {
		for i := len(p) - 1; i > 0; i-- {
			emptied = append(emptied, p[:i])
		}
	}
	for _, p := range cuts {
		if n := len(p); n > 1 && p[n-2].Key != nil && p[n-1].FieldName != nil {
			if _, isKey := keyOf(p[n-2], *p[n-1].FieldName); isKey {
				keys = append(keys, p)
				continue
			}
		}
		cut(body, p)
		note(p)
	}
	for _, p := range keys {
		item, _ := lookup(body, p[:len(p)-1])
		m, _ := item.(map[string]any)
		only := true
		for name := range m {
			name := name
			path := append(p[:len(p)-1:len(p)-1], fieldpath.PathElement{FieldName: &name})
			only = only && slices.ContainsFunc(keys, path.Equals)
		}
		if only && m != nil {
			cut(body, p[:len(p)-1])
			note(p[:len(p)-1])
		}
	}
	// The deepest first; equal ones twice, which does no harm.
	slices.SortStableFunc(emptied, func(a, b fieldpath.Path) int { return len(b) - len(a) })
	for _, p := range emptied {
		if v, ok := lookup(body, p); ok && empty(v) {
			cut(body, p)
		}
	}
	return withoutHoles(body).(map[string]any)
}

// empty tells whether nothing is in a container but the holes that cut has left.
func empty(v any) bool {
	switch v := v.(type) {
	case map[string]any:
		return len(v) == 0
	case []any:
		return !slices.ContainsFunc(v, func(x any) bool { return x != hole{} })
	}
	return false
}

func valueOf(v any) value.Value { return value.NewValueInterface(v) }
