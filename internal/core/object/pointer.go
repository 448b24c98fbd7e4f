package object

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
)

// Pointer is a JSON pointer (RFC 6901) into an object, with two additions: a list item may be named by fields of it, as in
// /spec/template/spec/containers[name=app]/image, and an item of a list of plain values by itself, as in
// /metadata/finalizers[=example.com/hold].
type Pointer struct {
	text  string
	parts []pointerPart
}

type pointerPart struct {
	field string
	keys  map[string]string // not nil: an item of the list in the part before
	item  *string           // not nil: a plain item of the list in the part before
}

// ParsePointer reads a pointer; it must start with a slash and name a field below the root.
func ParsePointer(s string) (Pointer, error) {
	if !strings.HasPrefix(s, "/") || len(s) < 2 {
		return Pointer{}, fmt.Errorf("%q is not a JSON pointer; write it like /spec/replicas", s)
	}
	p := Pointer{text: s}
	rest := s
	for rest != "" {
		if rest[0] != '/' {
			return Pointer{}, fmt.Errorf("%q is not a JSON pointer: %q should start with a slash", s, rest)
		}
		rest = rest[1:]
		end := strings.IndexAny(rest, "/[")
		if end < 0 {
			end = len(rest)
		}
		name := strings.NewReplacer("~1", "/", "~0", "~").Replace(rest[:end])
		if name == "" {
			return Pointer{}, fmt.Errorf("%q has an empty part", s)
		}
		p.parts = append(p.parts, pointerPart{field: name})
		rest = rest[end:]
		if strings.HasPrefix(rest, "[") {
			close := strings.IndexByte(rest, ']')
			if close < 0 {
				return Pointer{}, fmt.Errorf("%q has a [ without its ]", s)
			}
			if text, plain := strings.CutPrefix(rest[1:close], "="); plain {
				p.parts = append(p.parts, pointerPart{item: &text})
				rest = rest[close+1:]
				continue
			}
			keys := map[string]string{}
			for _, kv := range strings.Split(rest[1:close], ",") {
				k, v, ok := strings.Cut(kv, "=")
				if !ok || k == "" {
					return Pointer{}, fmt.Errorf("%q: %q should be key=value, such as [name=app]", s, kv)
				}
				keys[k] = v
			}
			p.parts = append(p.parts, pointerPart{keys: keys})
			rest = rest[close+1:]
		}
	}
	return p, nil
}

func (p Pointer) String() string { return p.text }

// Path is the pointer as the paths of fields are written: spec.template.spec.containers[name=app].image. A part of digits is an item of a list.
func (p Pointer) Path() string {
	var b strings.Builder
	for _, part := range p.parts {
		switch {
		case part.item != nil:
			fmt.Fprintf(&b, "[%s]", *part.item)
		case part.keys != nil:
			var pairs []string
			for _, k := range slices.Sorted(maps.Keys(part.keys)) {
				pairs = append(pairs, k+"="+part.keys[k])
			}
			fmt.Fprintf(&b, "[%s]", strings.Join(pairs, ","))
		case strings.ContainsAny(part.field, "./[]") || strings.Trim(part.field, "0123456789") == "":
			fmt.Fprintf(&b, "[%s]", part.field)
		default:
			if b.Len() > 0 {
				b.WriteByte('.')
			}
			b.WriteString(part.field)
		}
	}
	return b.String()
}

// Reader reads a leaf of what paths are about, such as an object; Covers needs it for items of lists that a pointer names
// by other fields than the list is keyed by.
type Reader func(fieldpath.Path) (any, bool)

// In reads from a body.
func In(body map[string]any) Reader {
	return func(p fieldpath.Path) (any, bool) { return lookup(body, p) }
}

// InFields reads from fields, such as those of a baseline.
func InFields(fields []Field) Reader {
	return func(p fieldpath.Path) (any, bool) {
		name := PathString(p)
		for _, f := range fields {
			if f.Path == name {
				return f.Value, true
			}
		}
		return nil, false
	}
}

// Covers tells whether a path is the pointer's or lies below it.
func (p Pointer) Covers(path fieldpath.Path, read Reader) bool {
	if len(path) < len(p.parts) {
		return false
	}
	for i, part := range p.parts {
		pe := path[i]
		switch {
		case part.keys != nil:
			if pe.Key == nil && pe.Index == nil {
				return false
			}
			for k, want := range part.keys {
				v, ok := keyOf(pe, k)
				if !ok {
					v, ok = read(append(path[:i+1:i+1], fieldpath.PathElement{FieldName: &k}))
				}
				if !ok || fmt.Sprint(v) != want {
					return false
				}
			}
		case part.item != nil:
			var v any
			switch {
			case pe.Value != nil:
				v = (*pe.Value).Unstructured()
			case pe.Index != nil:
				v, _ = read(path[: i+1 : i+1])
			default:
				return false
			}
			if fmt.Sprint(v) != *part.item {
				return false
			}
		case pe.FieldName == nil || *pe.FieldName != part.field:
			return false
		}
	}
	return true
}

func keyOf(pe fieldpath.PathElement, name string) (any, bool) {
	if pe.Key != nil {
		for _, f := range *pe.Key {
			if f.Name == name {
				return f.Value.Unstructured(), true
			}
		}
	}
	return nil, false
}

// covered tells whether one of some pointers covers a path.
func covered(leave []Pointer, path fieldpath.Path, read Reader) bool {
	return slices.ContainsFunc(leave, func(l Pointer) bool { return l.Covers(path, read) })
}

// Lookup reads the pointer's value.
func (p Pointer) Lookup(body map[string]any) (any, bool) {
	var v any = body
	for _, part := range p.parts {
		next, ok := part.step(v)
		if !ok {
			return nil, false
		}
		v = next
	}
	return v, true
}

func (part pointerPart) step(v any) (any, bool) {
	if part.item != nil {
		list, _ := v.([]any)
		for _, x := range list {
			if fmt.Sprint(x) == *part.item {
				return x, true
			}
		}
		return nil, false
	}
	if part.keys == nil {
		m, ok := v.(map[string]any)
		if !ok {
			return nil, false
		}
		x, ok := m[part.field]
		return x, ok
	}
	list, _ := v.([]any)
	for _, item := range list {
		m, ok := item.(map[string]any)
		if ok && part.matches(m) {
			return m, true
		}
	}
	return nil, false
}

func (part pointerPart) matches(m map[string]any) bool {
	for k, want := range part.keys {
		if fmt.Sprint(m[k]) != want {
			return false
		}
	}
	return true
}

// PointerTo is the text of the Pointer that names a path; "" when none can.
func PointerTo(p fieldpath.Path) string {
	var b strings.Builder
	for _, pe := range p {
		switch {
		case pe.FieldName != nil:
			if strings.Contains(*pe.FieldName, "[") || *pe.FieldName == "" {
				return ""
			}
			b.WriteString("/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(*pe.FieldName))
		case pe.Key != nil:
			parts := make([]string, len(*pe.Key))
			for i, f := range *pe.Key {
				parts[i] = fmt.Sprintf("%s=%v", f.Name, f.Value.Unstructured())
				if strings.ContainsAny(parts[i][len(f.Name)+1:], ",]") {
					return ""
				}
			}
			b.WriteString("[" + strings.Join(parts, ",") + "]")
		case pe.Value != nil:
			text := fmt.Sprint((*pe.Value).Unstructured())
			if strings.Contains(text, "]") {
				return ""
			}
			b.WriteString("[=" + text + "]")
		default:
			return "" // a place in a list is nobody's
		}
	}
	return b.String()
}

// MustPointer is ParsePointer for a pointer that stands in the code.
func MustPointer(text string) Pointer {
	p, err := ParsePointer(text)
	if err != nil {
		panic(err)
	}
	return p
}
