package secret

import (
	"fmt"
	"regexp"
	"strings"

	"vigila.dev/vigila/internal/core/object"
)

// Conceal takes what looks like a secret out of a text that has a name: all of it where its name says so, else the part that does. Mask makes the
// word that stands in its place, so that another value is told as one. What looks like none stays as it is, and so does what is concealed already.
func Conceal(name, text string, mask func(string) string) string {
	out := text
	each := func(form *regexp.Regexp, group int) {
		out = replaced(form, out, group, func(s string) string { return "secret " + mask(s) })
	}
	if len(text) < 6 {
		return text
	}
	if secretive(name, text) {
		return "secret " + mask(text)
	}
	for _, f := range forms {
		if len(out) >= f.least && bears(out, f.signs) {
			if f.what == "a private key" {
				each(privateKey, 0)
				continue
			}
			each(f.form, f.form.NumSubexp())
		}
	}
	if m := flag.FindStringSubmatch(out); m != nil && secretive(m[1], m[2]) {
		return strings.TrimSuffix(out, m[2]) + "secret " + mask(m[2])
	}
	if len(out) <= 1<<20 && hinting(out) {
		out = replacedIf(assigns, out, func(m []string) (string, bool) { return m[2], secretive(m[1], m[2]) }, func(s string) string { return "secret " + mask(s) })
	}
	return out
}

// privateKey is a whole key: up to its end, or as far as there is text.
var privateKey = regexp.MustCompile(`-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----(?s:.*?)(?:-----END (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----|\z)|\bAGE-SECRET-KEY-(?:PQ-)?1[0-9A-Z]{40,}`)

// replaced replaces every match of a form, or one group of it.
func replaced(form *regexp.Regexp, text string, group int, with func(string) string) string {
	return replacedAt(text, form.FindAllStringSubmatchIndex(text, -1), func(m []int) (int, int, bool) { return m[2*group], m[2*group+1], true }, with)
}

// replacedIf replaces the part of each match that is wanted.
func replacedIf(form *regexp.Regexp, text string, wanted func(m []string) (string, bool), with func(string) string) string {
	return replacedAt(text, form.FindAllStringSubmatchIndex(text, -1), func(m []int) (int, int, bool) {
		var groups []string
		for i := 0; i+1 < len(m); i += 2 {
			groups = append(groups, text[max(m[i], 0):max(m[i+1], 0)])
		}
		_, ok := wanted(groups)
		return m[4], m[5], ok
	}, with)
}

func replacedAt(text string, matches [][]int, part func([]int) (from, to int, ok bool), with func(string) string) string {
	var out strings.Builder
	last := 0
	for _, m := range matches {
		from, to, ok := part(m)
		if !ok || from < last {
			continue
		}
		out.WriteString(text[last:from])
		out.WriteString(with(text[from:to]))
		last = to
	}
	out.WriteString(text[last:])
	return out.String()
}

// Concealed lists the parts of an object that Conceal would take out, and the fields that it says are secret: the values themselves, to be taken out
// elsewhere.
func Concealed(body map[string]any) (out []string) {
	text, _ := object.Object{Body: body}.Annotation(object.SecretFieldsAnnotation)
	fields := FieldsOf(text)
	Walk(body, func(path, name, text string) string {
		if Covers(fields, path) {
			out = append(out, text)
			return text
		}
		Conceal(name, text, func(s string) string { out = append(out, s); return "" })
		return text
	})
	return out
}

// Walk gives every text of a body to a function, with its path as fields have it and its name, and returns the body with what the function makes of
// them. What is not another is shared.
func Walk(body map[string]any, to func(path, name, text string) string) map[string]any {
	out, _ := walk("", "", body, to)
	return out.(map[string]any)
}

func walk(path, name string, value any, to func(path, name, text string) string) (any, bool) {
	switch v := value.(type) {
	case map[string]any:
		given, _ := v["name"].(string)
		var out map[string]any
		for key, x := range v {
			called := key
			if key == "value" && given != "" {
				called = given
			}
			if y, moved := walk(below(path, key), called, x, to); moved {
				if out == nil {
					out = make(map[string]any, len(v))
					for k, z := range v {
						out[k] = z
					}
				}
				out[key] = y
			}
		}
		if out != nil {
			return out, true
		}
	case []any:
		var out []any
		for i, x := range v {
			item := fmt.Sprintf("%s[%d]", path, i)
			if m, is := x.(map[string]any); is {
				if n, named := m["name"].(string); named {
					item = fmt.Sprintf("%s[name=%s]", path, n)
				}
			}
			if y, moved := walk(item, name, x, to); moved {
				if out == nil {
					out = append([]any{}, v...)
				}
				out[i] = y
			}
		}
		if out != nil {
			return out, true
		}
	case string:
		if now := to(path, name, v); now != v {
			return now, true
		}
	}
	return value, false
}

// below is a field's path, as object.PathString writes it.
func below(path, key string) string {
	switch {
	case strings.ContainsAny(key, "./[]"):
		return path + "[" + key + "]"
	case path == "":
		return key
	}
	return path + "." + key
}

// NameOf is the name that a field's path gives its value: of spec.containers[name=app].env[name=PASSWORD].value it is PASSWORD.
func NameOf(path string) string {
	if rest, ok := strings.CutSuffix(path, "].value"); ok {
		if i := strings.LastIndex(rest, "[name="); i >= 0 && !strings.ContainsAny(rest[i+1:], "[]") {
			return rest[i+len("[name="):]
		}
	}
	if rest, ok := strings.CutSuffix(path, "]"); ok {
		if i := strings.LastIndex(rest, "["); i >= 0 {
			if strings.Contains(rest[i:], "=") || isDigits(rest[i+1:]) {
				return NameOf(rest[:i])
			}
			return rest[i+1:]
		}
	}
	if i := strings.LastIndexAny(path, ".]"); i >= 0 {
		return path[i+1:]
	}
	return path
}

func isDigits(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }

// Fields reads which fields are secret, as the annotation says: paths as fields have them.
func Fields(text string) (out []string, err error) {
	for one := range strings.SplitSeq(text, ",") {
		if one = strings.TrimSpace(one); one == "" {
			continue
		}
		p, err := object.ParsePointer(one)
		if err != nil {
			return nil, fmt.Errorf("the annotation %s: %w", object.SecretFieldsAnnotation, err)
		}
		out = append(out, p.Path())
	}
	return out, nil
}

// FieldsOf is Fields where nobody can be told of a mistake: then nearly all of the object is secret.
func FieldsOf(text string) []string {
	out, err := Fields(text)
	if err != nil {
		return []string{"spec", "data", "stringData"}
	}
	return out
}

// Covers tells whether a path is one of some fields, or lies below one.
func Covers(fields []string, path string) bool {
	for _, f := range fields {
		if rest, ok := strings.CutPrefix(path, f); ok && (rest == "" || rest[0] == '.' || rest[0] == '[') {
			return true
		}
	}
	return false
}
