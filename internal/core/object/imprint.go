package object

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strconv"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
	"sigs.k8s.io/structured-merge-diff/v6/value"
)

// Imprint is a digest of a live object: of the fields that Vigila owns in it with their values, and of what other
// clients own of it. Two equal imprints hold the same, so most watch events are answered by one comparison, without a
// field set and without the values in memory; only when they differ is there something to explain.
type Imprint struct {
	Ours   [16]byte
	Others [16]byte // zero when no other client owns anything that could be an addition
}

// Text is the imprint in 64 hex digits; ParseImprint reads it back.
func (i Imprint) Text() string { return hex.EncodeToString(append(i.Ours[:], i.Others[:]...)) }

// ParseImprint reads what Text wrote; anything else is the zero imprint, which no object has.
func ParseImprint(s string) (out Imprint) {
	var b [32]byte
	if n, err := hex.Decode(b[:], []byte(s)); len(s) == 2*len(b) && err == nil && n == len(b) {
		copy(out.Ours[:], b[:16])
		copy(out.Others[:], b[16:])
	}
	return out
}

// ImprintOf takes the imprint of a live object, less the fields that are left to others. It reads
// metadata.managedFields as it stands, and takes about as long as decoding half of the object's JSON.
func ImprintOf(body map[string]any, leave []Pointer) (out Imprint) {
	meta, _ := body["metadata"].(map[string]any)
	entries, _ := meta["managedFields"].([]any)
	var text [2048]byte // most objects need no more, so nothing is allocated
	var keys [96]string
	p := press{text: text[:0], keys: keys[:0], leave: leave}
	if len(leave) > 0 {
		p.read = In(body)
	}
	for _, e := range entries {
		if m, ok := e.(map[string]any); ok && m["manager"] == Manager && m["operation"] == "Apply" && m["subresource"] == nil {
			p.walk(m["fieldsV1"], body)
		}
	}
	sum := sha256.Sum256(p.text)
	copy(out.Ours[:], sum[:])
	p.text = p.text[:0]
	for _, e := range entries {
		m, ok := e.(map[string]any)
		if !ok || m["subresource"] != nil || m["manager"] == Manager {
			continue
		}
		if manager, _ := m["manager"].(string); atWork(manager) {
			continue
		}
		p.value(m["manager"])
		p.value(m["operation"])
		p.value(m["time"])
		p.walk(m["fieldsV1"], body)
	}
	if len(p.text) > 0 {
		sum = sha256.Sum256(p.text)
		copy(out.Others[:], sum[:])
	}
	return out
}

// press writes what an imprint is made of.
type press struct {
	text  []byte
	keys  []string // a stack: each level sorts its own part
	leave []Pointer
	read  Reader
	path  fieldpath.Path // of the walk, kept only when something is left to others
}

// walk writes every leaf of a fieldsV1 with its value, in the order of the keys.
// Source of the form: https://kubernetes.io/docs/reference/using-api/server-side-apply/ and package fieldpath.
func (p *press) walk(fields any, v any) {
	m, _ := fields.(map[string]any)
	start := len(p.keys)
	p.keys = appendSorted(p.keys, m)
	end := len(p.keys)
	for i := start; i < end; i++ {
		key := p.keys[i]
		if key == "." {
			continue
		}
		below, _ := m[key].(map[string]any)
		leaf := len(below) == 0 || len(below) == 1 && below["."] != nil
		if len(p.leave) > 0 {
			pe, err := fieldpath.DeserializePathElement(key)
			if err != nil {
				continue
			}
			p.path = append(p.path, pe)
			if leaf && covered(p.leave, p.path, p.read) {
				p.path = p.path[:len(p.path)-1]
				continue
			}
		}
		x, there := member(v, key)
		p.text = append(append(p.text, key...), 0)
		switch {
		case !there:
			p.text = append(p.text, 1)
		case leaf:
			p.value(x)
		default:
			p.text = append(p.text, 2)
			p.walk(below, x)
			p.text = append(p.text, 3)
		}
		if len(p.leave) > 0 {
			p.path = p.path[:len(p.path)-1]
		}
	}
	p.keys = p.keys[:start]
}

// value writes a decoded JSON value so that no two differ only in how they are spelled.
func (p *press) value(v any) {
	switch v := v.(type) {
	case string:
		p.text = append(strconv.AppendInt(append(p.text, 's'), int64(len(v)), 10), ':')
		p.text = append(p.text, v...)
	case bool:
		p.text = strconv.AppendBool(p.text, v)
	case int64:
		p.text = append(strconv.AppendInt(append(p.text, 'n'), v, 10), ';')
	case float64:
		if v == float64(int64(v)) {
			p.text = append(strconv.AppendInt(append(p.text, 'n'), int64(v), 10), ';')
			return
		}
		p.text = append(strconv.AppendFloat(append(p.text, 'n'), v, 'g', -1, 64), ';')
	case map[string]any:
		p.text = append(p.text, '{')
		start := len(p.keys)
		p.keys = appendSorted(p.keys, v)
		end := len(p.keys)
		for i := start; i < end; i++ {
			p.value(p.keys[i])
			p.value(v[p.keys[i]])
		}
		p.keys = p.keys[:start]
		p.text = append(p.text, '}')
	case []any:
		p.text = append(p.text, '[')
		for _, x := range v {
			p.value(x)
		}
		p.text = append(p.text, ']')
	default:
		p.text = append(p.text, '0')
	}
}

func appendSorted(keys []string, m map[string]any) []string {
	start := len(keys)
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys[start:])
	return keys
}

// member finds what a key of fieldsV1 names in a value.
func member(v any, key string) (any, bool) {
	if len(key) < 2 {
		return nil, false
	}
	switch key[:2] {
	case "f:":
		m, ok := v.(map[string]any)
		if !ok {
			return nil, false
		}
		x, ok := m[key[2:]]
		return x, ok
	case "k:":
		var want map[string]any
		list, _ := v.([]any)
		if len(list) == 0 || json.Unmarshal([]byte(key[2:]), &want) != nil {
			return nil, false
		}
		for _, item := range list {
			if m, ok := item.(map[string]any); ok && hasAll(m, want) {
				return m, true
			}
		}
		return nil, false
	}
	pe, err := fieldpath.DeserializePathElement(key)
	if err != nil {
		return nil, false
	}
	return get(v, pe)
}

func hasAll(m, want map[string]any) bool {
	for k, w := range want {
		x, ok := m[k]
		if !ok || !sameScalar(x, w) {
			return false
		}
	}
	return true
}

func sameScalar(a, b any) bool {
	switch a := a.(type) {
	case string:
		b, ok := b.(string)
		return ok && a == b
	case bool:
		b, ok := b.(bool)
		return ok && a == b
	case int64:
		if b, ok := b.(float64); ok {
			return float64(a) == b
		}
	}
	return value.Equals(value.NewValueInterface(a), value.NewValueInterface(b))
}
