// Package secret reads references to secret values where a Secret would hold the values themselves, and puts those in their place. It
// knows no store: what a store has comes in as plain values. Start with Ref, Of and Fill.
package secret

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"vigila.dev/vigila/internal/core/object"
)

// Scheme is how a reference begins that stands for a whole value.
const Scheme = "secret://"

// RestartAnnotation of a Pod template holds the references of the Secrets that its containers read by environment, and in the cluster
// a digest of their values: so another value makes other Pods.
const RestartAnnotation = "vigila.dev/secrets-read"

// Ref is a reference: one key of a place, or all of them when Key is empty.
type Ref struct{ Store, Path, Key string }

// Place is where a store keeps some values together.
type Place struct{ Store, Path string }

// Place is where the reference's value is.
func (r Ref) Place() Place { return Place{r.Store, r.Path} }

func (p Place) String() string { return p.Store + "/" + p.Path }

// Compare orders places.
func (p Place) Compare(o Place) int {
	return cmp.Or(strings.Compare(p.Store, o.Store), strings.Compare(p.Path, o.Path))
}

// Of is one of the place's keys.
func (p Place) Of(key string) Ref { return Ref{p.Store, p.Path, key} }

// Short is the reference as commands take it: STORE/PATH#KEY.
func (r Ref) Short() string {
	if r.Key == "" {
		return r.Place().String()
	}
	return r.Place().String() + "#" + r.Key
}

func (r Ref) String() string { return Scheme + r.Short() }

// Compare orders references.
func (r Ref) Compare(o Ref) int {
	return cmp.Or(strings.Compare(r.Store, o.Store), strings.Compare(r.Path, o.Path), strings.Compare(r.Key, o.Key))
}

var (
	storeName = regexp.MustCompile(`^[a-z0-9]([-a-z0-9]{0,61}[a-z0-9])?$`)
	segment   = regexp.MustCompile(`^[-._a-zA-Z0-9]{1,253}$`)
)

// longest is how long a path may be, in bytes.
const longest = 1024

// Parse reads STORE/PATH#KEY, with or without secret:// before it. The path has one part or more, of letters, digits, '-', '_' and '.'; the
// key is one that a Secret may have. Source of the key's rule: https://kubernetes.io/docs/concepts/configuration/secret/#restriction-names-data
func Parse(text string) (Ref, error) {
	r, err := parse(text, "STORE/PATH#KEY")
	if err == nil && r.Key == "" {
		err = fmt.Errorf("%q names no key; write STORE/PATH#KEY", brief(text))
	}
	return r, err
}

// ParsePlace reads STORE/PATH.
func ParsePlace(text string) (Place, error) {
	r, err := parse(text, "STORE/PATH")
	if err == nil && (r.Key != "" || strings.Contains(text, "#")) {
		err = fmt.Errorf("%q names a key; write STORE/PATH", brief(text))
	}
	return r.Place(), err
}

// parse reads either; form is what is to be written.
func parse(text, form string) (Ref, error) {
	rest := strings.TrimPrefix(text, Scheme)
	rest, key, keyed := strings.Cut(rest, "#")
	store, path, _ := strings.Cut(rest, "/")
	switch {
	case !storeName.MatchString(store):
		return Ref{}, fmt.Errorf("%q names no store: at most 63 small letters, digits and '-'; write %s", brief(text), form)
	case path == "":
		return Ref{}, fmt.Errorf("%q names no path in the store; write %s", brief(text), form)
	case len(path) > longest:
		return Ref{}, fmt.Errorf("the path of a reference has more than %d bytes", longest)
	case keyed && !segment.MatchString(key):
		return Ref{}, fmt.Errorf("%q has a key that is none: at most 253 letters, digits, '-', '_' and '.'", brief(text))
	}
	for part := range strings.SplitSeq(path, "/") {
		if !segment.MatchString(part) || part == "." || part == ".." {
			return Ref{}, fmt.Errorf("%q has a path that is none: parts of letters, digits, '-', '_' and '.', with a / between them", brief(text))
		}
	}
	return Ref{store, path, key}, nil
}

// brief is a text that is short enough for an error. Only what looks like a reference is ever quoted.
func brief(text string) string {
	if len(text) <= 120 {
		return text
	}
	end := 120
	for end > 0 && !utf8.RuneStart(text[end]) {
		end--
	}
	return text[:end] + "…"
}

// within finds a reference within a longer text: ${{ secret('STORE/PATH#KEY') }}.
var within = regexp.MustCompile(`\$\{\{\s*secret\(\s*(?:'([^']*)'|"([^"]*)")\s*\)\s*\}\}`)

// begins finds what was meant as one.
var begins = regexp.MustCompile(`\$\{\{\s*secret\b`)

// Within is a reference as it stands within a longer text.
func Within(r Ref) string { return "${{ secret('" + r.Short() + "') }}" }

// Text is what a text refers to, in order, and whether all of it is one reference.
func Text(text string) (refs []Ref, whole bool, err error) {
	if trimmed := strings.TrimSpace(text); strings.HasPrefix(trimmed, Scheme) {
		r, err := Parse(trimmed)
		if err != nil {
			return nil, false, err
		}
		return []Ref{r}, true, nil
	}
	found := within.FindAllStringSubmatch(text, -1)
	if len(found) != len(begins.FindAllString(text, -1)) {
		return nil, false, fmt.Errorf("a reference within a text is not written as one; write ${{ secret('STORE/PATH#KEY') }}")
	}
	for _, m := range found {
		r, err := Parse(m[1] + m[2])
		if err != nil {
			return nil, false, err
		}
		refs = append(refs, r)
	}
	return refs, false, nil
}

// Apart is a text with line breaks in place of the references within it.
func Apart(text string) string { return within.ReplaceAllString(text, "\n") }

// Folded is what data of a Secret may say in place of base64: a reference, as it is.
func Folded(value string) bool { return strings.HasPrefix(strings.TrimSpace(value), Scheme) }

// Shown is the reference that a value of a Secret's data is, in base64 or as it is; "" when it is none, and so not to be shown.
func Shown(value string) string {
	if len(value) > 2*longest {
		return ""
	}
	if !Folded(value) {
		plain, err := base64.StdEncoding.DecodeString(value)
		if err != nil {
			return ""
		}
		value = string(plain)
	}
	refs, whole, err := Text(value)
	if err != nil || !whole {
		return ""
	}
	return refs[0].String()
}

// each goes through the values of a Secret's data and stringData, decoded.
func each(body map[string]any, do func(field, key, text string)) {
	for _, field := range []string{"data", "stringData"} {
		values, _ := body[field].(map[string]any)
		for _, key := range slices.Sorted(maps.Keys(values)) {
			text, ok := values[key].(string)
			if ok && field == "data" && !Folded(text) {
				plain, err := base64.StdEncoding.DecodeString(text)
				ok, text = err == nil, string(plain)
			}
			if ok {
				do(field, key, text)
			}
		}
	}
}

// Wrong lists what of a Secret was meant as a reference and is none, each with its place.
func Wrong(o object.Object) (out []string) {
	if !o.Ref.Secret() {
		return nil
	}
	each(o.Body, func(field, key, text string) {
		if _, _, err := Text(text); err != nil {
			out = append(out, fmt.Sprintf("%s.%s: %v", field, key, err))
		}
	})
	if from, ok := o.Annotation(object.SecretFromAnnotation); ok {
		if _, err := ParsePlace(from); err != nil {
			out = append(out, fmt.Sprintf("the annotation %s: %v", object.SecretFromAnnotation, err))
		}
	}
	return out
}

// Of lists what a declared object refers to, sorted, each once: values of a Secret, and what the Pods of a workload are made anew for.
func Of(o object.Object) (out []Ref) {
	if !o.Ref.Secret() {
		return read(restarts(o.Body))
	}
	each(o.Body, func(_, _, text string) {
		refs, _, _ := Text(text) // what is wrong is told when it is placed
		out = append(out, refs...)
	})
	if from, ok := o.Annotation(object.SecretFromAnnotation); ok {
		if p, err := ParsePlace(from); err == nil {
			out = append(out, p.Of(""))
		}
	}
	return sorted(out)
}

func sorted(refs []Ref) []Ref {
	slices.SortFunc(refs, Ref.Compare)
	return slices.Compact(refs)
}

// Literal lists the keys of a Secret whose values stand in it as they are, sorted.
func Literal(o object.Object) (out []string) {
	each(o.Body, func(_, key, text string) {
		if refs, _, err := Text(text); err == nil && len(refs) == 0 && text != "" {
			out = append(out, key)
		}
	})
	slices.Sort(out)
	return slices.Compact(out)
}
