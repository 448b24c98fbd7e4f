package object

import (
	"fmt"
	"strings"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
)

// Pointer is a JSON pointer (RFC 6901) into an object, with one addition: a list item may be named by a key,
// as in /spec/template/spec/containers[name=app]/image.
type Pointer struct {
	text  string
	parts []pointerPart
}

type pointerPart struct {
	field string
	keys  map[string]string // not nil: an item of the list in the part before
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

// Covers tells whether a field is the pointer's field or lies below it.
func (p Pointer) Covers(path fieldpath.Path) bool {
	if len(path) < len(p.parts) {
		return false
	}
	for i, part := range p.parts {
		pe := path[i]
		switch {
		case part.keys != nil:
			if pe.Key == nil {
				return false
			}
			for _, f := range *pe.Key {
				if want, ok := part.keys[f.Name]; ok && fmt.Sprint(f.Value.Unstructured()) != want {
					return false
				}
			}
		case pe.FieldName == nil || *pe.FieldName != part.field:
			return false
		}
	}
	return true
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

// Set writes a value at the pointer in place, or removes the field when there is no value. A parent that does
// not exist is left as it is.
func (p Pointer) Set(body map[string]any, v any, present bool) {
	parent := Pointer{parts: p.parts[:len(p.parts)-1]}
	x, ok := parent.Lookup(body)
	last := p.parts[len(p.parts)-1]
	m, isMap := x.(map[string]any)
	if !ok || !isMap || last.keys != nil {
		return
	}
	if present {
		m[last.field] = v
	} else {
		delete(m, last.field)
	}
}

// PointerText turns a path as people read it (PathString) into the text of a Pointer.
func PointerText(path string) string {
	var b strings.Builder
	for rest := path; rest != ""; {
		i := strings.IndexAny(rest, ".[")
		switch {
		case i < 0:
			return b.String() + "/" + rest
		case i > 0:
			b.WriteString("/" + rest[:i])
			rest = rest[i:]
		case rest[0] == '.':
			rest = rest[1:]
		default:
			end := strings.IndexByte(rest, ']')
			if end < 0 {
				return b.String() + rest
			}
			if inside := rest[1:end]; strings.Contains(inside, "=") {
				b.WriteString("[" + inside + "]")
			} else {
				b.WriteString("/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(inside))
			}
			rest = rest[end+1:]
		}
	}
	return b.String()
}
