package kit

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/express"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/schema"
)

// unset is a default that follows from other parameters.
type unset struct {
	at   []string
	text string
}

// pending sets the defaults that are plain, and lists those that are expressions, of parameters that values has not.
func pending(parameters map[string]any, values map[string]any, at []string) (out []unset) {
	props, _ := parameters["properties"].(map[string]any)
	for _, name := range slices.Sorted(maps.Keys(props)) {
		p, _ := props[name].(map[string]any)
		here := append(slices.Clone(at), name)
		have, given := values[name]
		if inner, is := have.(map[string]any); is {
			out = append(out, pending(p, inner, here)...)
			continue
		}
		if given {
			continue
		}
		d, has := p["default"]
		if text, is := d.(string); is && strings.Contains(text, "${{") {
			out = append(out, unset{here, text})
			continue
		}
		if has {
			if values != nil {
				values[name] = d
			}
			continue
		}
		inner := map[string]any{}
		if more := pending(p, inner, here); len(inner) > 0 || len(more) > 0 {
			if values != nil && len(inner) > 0 {
				values[name] = inner
			}
			out = append(out, more...)
		}
	}
	return out
}

// copied is a mapping that can be changed.
func copied(m map[string]any) map[string]any {
	out := make(map[string]any, len(m))
	for k, v := range m {
		if inner, is := v.(map[string]any); is {
			v = copied(inner)
		}
		out[k] = v
	}
	return out
}

// Complete is what somebody gave with the defaults of the rest, those that follow from others too, and what is wrong with it.
func (k *Kit) Complete(given map[string]any) (map[string]any, []schema.Mistake, error) {
	values := copied(given)
	if k.Parameters == nil {
		if len(given) > 0 {
			return nil, nil, fmt.Errorf("kit %s has no parameters", k.Name)
		}
		return values, nil, nil
	}
	rest := pending(k.Parameters, values, nil)
	if len(rest) > maxFollowing {
		return nil, nil, fmt.Errorf("kit %s has %d parameters whose defaults follow from others; at most %d may", k.Name, len(rest), maxFollowing)
	}
	env, err := k.env(values)
	if err != nil {
		return nil, nil, err
	}
	var wrong []schema.Mistake
	for more := true; more; {
		more, wrong = false, nil
		var left []unset
		for _, x := range rest {
			l, err := express.Lift("default", []byte(x.text))
			if err != nil {
				return nil, nil, err
			}
			v, err := l.Fill(string(l.Data), env)
			var none *express.NoKeyError
			switch {
			case errors.As(err, &none): // it follows from something that is not given yet
				left = append(left, x)
			case err != nil:
				wrong = append(wrong, schema.Mistake{At: x.at, Text: fmt.Sprintf(": its default can't be told: %v", err)})
				left = append(left, x)
			case v != nil:
				put(values, x.at, v)
				more = true
			}
		}
		rest = left
	}
	mistakes, err := k.shape.Mistakes(values, "kit "+k.Name)
	return values, append(mistakes, wrong...), err
}

// maxFollowing is how many defaults may be expressions: one may follow from the next, and so on.
const maxFollowing = 200

// put sets a value at a place.
func put(values map[string]any, at []string, v any) {
	for ; len(at) > 1; at = at[1:] {
		inner, is := values[at[0]].(map[string]any)
		if !is {
			inner = map[string]any{}
			values[at[0]] = inner
		}
		values = inner
	}
	values[at[0]] = v
}

// Example are the values that the kit's own examples and choices give, the first of each, for those that have no default.
func (k *Kit) Example() map[string]any {
	out := map[string]any{}
	props, _ := k.Parameters["properties"].(map[string]any)
	for name, v := range props {
		p, _ := v.(map[string]any)
		examples, _ := p["examples"].([]any)
		choices, _ := p["enum"].([]any)
		if _, has := p["default"]; has || len(examples)+len(choices) == 0 {
			continue
		}
		out[name] = append(examples, choices...)[0]
	}
	return out
}

// Thing is what a kit makes from some values.
type Thing struct {
	Path  string // where its files begin
	Files []File // in the order of their paths, the record of it among them
	Links map[string]string
}

// Make makes the files of a kit from complete values. files are those below its directory; given is what is kept beside them, with the
// commit that the kit is at. Errors are each an *object.SyntaxError, joined.
func (k *Kit) Make(values, given map[string]any, files []File, commit string) (*Thing, error) {
	env, err := k.env(values)
	if err != nil {
		return nil, err
	}
	at := path.Join(k.Dir, FileName)
	out := &Thing{Links: map[string]string{}}
	if out.Path, err = k.to(env, "makes.path", k.Makes.Path); err != nil {
		return nil, &object.SyntaxError{File: at, Line: k.Line, Text: err.Error()}
	}
	made := map[string]string{}
	var errs []error
	for _, f := range files {
		rel, is := k.below(f.Path)
		if !is {
			continue
		}
		place := Place{File: rel, line: k.Line}
		if i := slices.IndexFunc(k.Files, func(p Place) bool { return p.File == rel }); i >= 0 {
			place = k.Files[i]
		}
		to, wanted, err := k.placed(env, place, out.Path)
		if err != nil {
			errs = append(errs, &object.SyntaxError{File: at, Line: place.line, Text: fmt.Sprintf("%s: %v", rel, err)})
			continue
		}
		if !wanted {
			continue
		}
		if other, twice := made[to]; twice {
			errs = append(errs, &object.SyntaxError{File: at, Line: place.line, Text: fmt.Sprintf("%s and %s would both be %s", other, rel, to)})
			continue
		}
		made[to] = rel
		data, err := fill(f, env)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		out.Files = append(out.Files, File{to, data})
	}
	for name, text := range k.Links {
		v, err := filled(env, "links."+name, text)
		if err != nil {
			errs = append(errs, &object.SyntaxError{File: at, Line: k.Line, Text: err.Error()})
		}
		out.Links[name] = v
	}
	if err := object.Mistakes(errs...); err != nil {
		return nil, err
	}
	record := Made{Kit: k.Name, At: commit, With: given, Path: out.Path}
	text, err := record.Text()
	if err != nil {
		return nil, err
	}
	out.Files = append(out.Files, File{path.Join(out.Path, MadeName), text})
	slices.SortFunc(out.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// placed is where a file goes, and whether it is made at all.
func (k *Kit) placed(env *express.Env, p Place, below string) (to string, is bool, err error) {
	if p.When != "" {
		v, err := env.Eval(p.When)
		yes, truth := v.(bool)
		if err == nil && !truth {
			err = errors.New("it must be true or false")
		}
		if err != nil || !yes {
			return "", false, wrap(err, "when: "+p.When)
		}
	}
	if p.To == "" {
		return path.Join(below, p.File), true, nil
	}
	to, err = k.to(env, "to", p.To)
	return to, true, err
}

func wrap(err error, what string) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", what, err)
}

// to is the path that a text with expressions gives.
func (k *Kit) to(env *express.Env, what, text string) (string, error) {
	p, err := filled(env, what, text)
	if err != nil {
		return "", err
	}
	clean := strings.Trim(path.Clean("/"+p), "/")
	odd := strings.ContainsFunc(clean, func(r rune) bool { return r == '\\' || r == utf8.RuneError || !unicode.IsPrint(r) }) // it would read as another, or break a line
	if odd || clean != strings.TrimSuffix(p, "/") || clean == "" || slices.Contains(strings.Split(strings.ToLower(clean), "/"), ".git") {
		return "", fmt.Errorf("%s gives %q, which is no path of a file in a repository", what, p)
	}
	return clean, nil
}

// filled is a text with its expressions evaluated.
func filled(env *express.Env, what, text string) (string, error) {
	l, err := express.Lift(what, []byte(text))
	if err != nil {
		return "", err
	}
	v, err := l.Fill(string(l.Data), env)
	if err != nil {
		return "", fmt.Errorf("%s: %w", what, err)
	}
	return word(v)
}

// word is a value as a text.
func word(v any) (string, error) {
	switch x := v.(type) {
	case string:
		return x, nil
	case int64, float64, bool:
		return fmt.Sprint(x), nil
	}
	return "", errors.New("it must come to a text, a number or a truth value")
}

func binary(data []byte) bool { return bytes.IndexByte(data, 0) >= 0 }

// fill makes a file from one of the kit's: of YAML value by value, so that all is quoted as it must be and comments stay; of all else as text.
func fill(f File, env *express.Env) ([]byte, error) {
	if binary(f.Data) {
		return f.Data, nil
	}
	l, err := express.Lift(f.Path, f.Data)
	if err != nil || len(l.Exprs) == 0 {
		return f.Data, err
	}
	if ext := path.Ext(f.Path); ext != ".yaml" && ext != ".yml" {
		v, err := l.Fill(string(l.Data), env)
		if err == nil {
			var text string
			text, err = word(v)
			return []byte(text), err
		}
		return nil, &object.SyntaxError{File: f.Path, Line: 1, Text: err.Error()}
	}
	var out bytes.Buffer
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	var errs []error
	for _, doc := range object.Split(l.Data) {
		if err := object.Bounded(f.Path, doc); err != nil {
			return nil, err
		}
		var root yaml.Node
		if err := yaml.Unmarshal(doc.Text, &root); err != nil {
			_, err := object.DecodeYAML(f.Path, doc)
			return nil, err
		}
		w := filler{env: env, lifted: l, file: f.Path, offset: doc.Line - 1}
		if len(root.Content) == 0 || !w.node(&root) {
			continue
		}
		errs = append(errs, w.errs...)
		if len(w.errs) == 0 {
			errs = append(errs, enc.Encode(&root))
		}
	}
	if errs = append(errs, enc.Close()); object.Mistakes(errs...) != nil {
		return nil, object.Mistakes(errs...)
	}
	for _, doc := range object.Split(out.Bytes()) { // such as an alias whose anchor was taken away
		if _, err := object.DecodeYAML(f.Path, doc); err != nil {
			return nil, fmt.Errorf("what is made of it is no YAML: %w", err)
		}
	}
	return out.Bytes(), nil
}

// filler evaluates the expressions of one YAML document.
type filler struct {
	env    *express.Env
	lifted express.Lifted
	file   string
	offset int
	errs   []error
}

func (w *filler) fail(n *yaml.Node, err error) {
	if object.Enough(w.errs) {
		return
	}
	w.errs = append(w.errs, &object.SyntaxError{File: w.file, Line: n.Line + w.offset, Text: err.Error()})
}

// comment fills the expressions of a comment.
func (w *filler) comment(n *yaml.Node, text string) string {
	if !express.Holds(text) {
		return text
	}
	var out []string
	for _, row := range strings.Split(text, "\n") { // a value of several lines would end the comment
		v, err := w.lifted.Fill(row, w.env)
		if err == nil {
			row, err = word(v)
		}
		if err != nil {
			w.fail(n, err)
		}
		out = append(out, strings.Map(func(r rune) rune {
			if r == utf8.RuneError || !unicode.IsPrint(r) {
				return ' '
			}
			return r
		}, row))
	}
	return strings.Join(out, "\n")
}

// node fills a node; false when it is to be left out.
func (w *filler) node(n *yaml.Node) bool {
	n.HeadComment, n.LineComment, n.FootComment = w.comment(n, n.HeadComment), w.comment(n, n.LineComment), w.comment(n, n.FootComment)
	switch n.Kind {
	case yaml.MappingNode:
		var kept []*yaml.Node
		for i := 0; i+1 < len(n.Content); i += 2 {
			if w.node(n.Content[i]) && w.node(n.Content[i+1]) {
				kept = append(kept, n.Content[i], n.Content[i+1])
			}
		}
		n.Content = kept
	case yaml.SequenceNode, yaml.DocumentNode:
		kept := n.Content[:0]
		for _, x := range n.Content {
			if w.node(x) {
				kept = append(kept, x)
			}
		}
		n.Content = kept
		return n.Kind != yaml.DocumentNode || len(kept) > 0
	case yaml.ScalarNode:
		return w.scalar(n)
	}
	return true
}

func (w *filler) scalar(n *yaml.Node) bool {
	if !express.Holds(n.Value) {
		return true
	}
	v, err := w.lifted.Fill(n.Value, w.env)
	if err != nil {
		w.fail(n, err)
		return true
	}
	if v == nil {
		return false
	}
	style := n.Style
	var to yaml.Node
	if err := to.Encode(v); err != nil {
		w.fail(n, err)
		return true
	}
	to.HeadComment, to.LineComment, to.FootComment, to.Anchor = n.HeadComment, n.LineComment, n.FootComment, n.Anchor
	if _, text := v.(string); text && style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		to.Style = style
	}
	*n = to
	return true
}
