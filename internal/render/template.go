package render

import (
	"context"
	_ "embed" // the published schema
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/express"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/schema"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// TemplateVersion is the value of the key "vigila" in a template file.
const TemplateVersion = "template/v1"

// TemplateSchema is the published JSON Schema of a template file.
//
//go:embed template.schema.json
var TemplateSchema []byte

// IsTemplate tells whether a file is a template file, by its first key.
func IsTemplate(data []byte) bool { return object.FirstKey(data, "vigila", "template/") }

// templateHead is a template file: what a directory of files with expressions asks for.
type templateHead struct {
	Vigila     string         `yaml:"vigila"`
	Name       string         `yaml:"name"`
	About      string         `yaml:"about"`
	Parameters map[string]any `yaml:"parameters"`
	Files      []string       `yaml:"files"`
}

// renderTemplate renders our own small template: YAML files in which ${{ }} holds a CEL expression. A value that is one
// expression becomes what the expression gives, with its type: a mapping, a list, a number. Within a longer text an
// expression must give a text, a number or a truth value. Null, also called nothing, takes the key or the entry away; a
// document that is one expression may give a list of objects.
func renderTemplate(ctx context.Context, tree *reader, r Request, out *Result) error {
	f := r.Ward.From
	at := path.Join(f.Path, templateFile)
	data, err := tree.Read(at)
	if err != nil {
		return err
	}
	head, err := readHead(at, data)
	if err != nil {
		return err
	}
	in, err := values(tree, r, out)
	if err != nil {
		return err
	}
	params := over(in.all, nil)
	params = ward.Merge(defaults(head.Parameters), params)
	if head.Parameters != nil {
		text, err := json.Marshal(head.Parameters)
		if err != nil {
			return &object.SyntaxError{File: at, Line: 1, Text: "parameters: " + err.Error()}
		}
		if err := in.fit(at, text, params, "template "+f.Path, nil); err != nil {
			return err
		}
	} else if len(params) > 0 {
		return &object.SyntaxError{File: at, Line: 1, Text: fmt.Sprintf("ward %s gives values, but this template has no parameters", r.Ward.Name)}
	}
	files, err := tree.Files(f.Path, Wanted)
	if err != nil {
		return err
	}
	files = slices.DeleteFunc(files, func(x repo.File) bool {
		return x.Path == at || len(head.Files) > 0 && !anyGlob(head.Files, strings.TrimPrefix(strings.TrimPrefix(x.Path, f.Path), "/"))
	})
	ev, err := newEvaluator(ctx, r, params)
	if err != nil {
		return err
	}
	var objects []object.Object
	var errs []error
	for _, file := range files {
		made, err := ev.file(file)
		objects = append(objects, made...)
		errs = append(errs, err)
	}
	out.Objects, err = collect(objects)
	out.Inputs = append(out.Inputs, r.Cluster.named())
	return errors.Join(append(errs, err)...)
}

// ProbeTemplate lists what is wrong with a template whatever its values are: its head, and expressions that are none.
func ProbeTemplate(ctx context.Context, tree Tree, dir string) error {
	at := path.Join(dir, templateFile)
	data, err := tree.Read(at)
	if err != nil {
		return err
	}
	head, err := readHead(at, data)
	if err != nil {
		return err
	}
	if head.Parameters != nil {
		text, err := json.Marshal(head.Parameters)
		if err == nil {
			_, err = schema.Read(text)
		}
		if err != nil {
			return &object.SyntaxError{File: at, Line: lineOf(data, "parameters:"), Text: "parameters: " + err.Error()}
		}
	}
	files, err := tree.Files(dir, Wanted)
	if err != nil {
		return err
	}
	ev, err := newEvaluator(ctx, Request{}, nil)
	if err != nil {
		return err
	}
	var errs []error
	for _, f := range files {
		if f.Path == at || len(head.Files) > 0 && !anyGlob(head.Files, strings.TrimPrefix(strings.TrimPrefix(f.Path, dir), "/")) {
			continue
		}
		errs = append(errs, ev.probe(f))
	}
	return errors.Join(errs...)
}

// probe compiles the expressions of a file.
func (e *evaluator) probe(f repo.File) error {
	lifted, err := express.Lift(f.Path, f.Data)
	if err != nil {
		return err
	}
	errs := []error{lifted.Probe(f.Path, e.Env)}
	for _, doc := range object.Split(lifted.Data) {
		if _, err := object.DecodeYAML(f.Path, doc); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

func readHead(at string, data []byte) (templateHead, error) {
	var head templateHead
	docs := object.Split(data)
	if len(docs) != 1 {
		return head, &object.SyntaxError{File: at, Line: 1, Text: "a template file holds one document; its files stand beside it"}
	}
	v, err := object.DecodeYAML(at, docs[0])
	if err != nil {
		return head, err
	}
	body, _ := v.(map[string]any)
	for k := range body {
		if !slices.Contains([]string{"vigila", "name", "about", "parameters", "files"}, k) {
			return head, &object.SyntaxError{File: at, Line: lineOf(data, k+":"), Text: fmt.Sprintf("unknown key %s; known here: vigila, name, about, parameters, files", k)}
		}
	}
	dec := yaml.NewDecoder(strings.NewReader(string(docs[0].Text)))
	if err := dec.Decode(&head); err != nil {
		return head, &object.SyntaxError{File: at, Line: docs[0].Line, Text: strings.ReplaceAll(strings.TrimPrefix(err.Error(), "yaml: unmarshal errors:\n"), "\n", ";")}
	}
	if head.Vigila != TemplateVersion {
		return head, &object.SyntaxError{File: at, Line: 1, Text: fmt.Sprintf("the first key must be vigila: %s, not %q", TemplateVersion, head.Vigila)}
	}
	if p, ok := body["parameters"].(map[string]any); ok {
		head.Parameters = schema.Parameters(p)
	}
	return head, nil
}

// defaults are those of a JSON Schema's properties.
func defaults(schema map[string]any) map[string]any {
	out := map[string]any{}
	props, _ := schema["properties"].(map[string]any)
	for k, v := range props {
		p, _ := v.(map[string]any)
		if d, ok := p["default"]; ok {
			out[k] = d
		} else if inner := defaults(p); len(inner) > 0 {
			out[k] = inner
		}
	}
	return out
}

// secretFunction lets a reference within a text stand in a template as it stands elsewhere: ${{ secret('STORE/PATH#KEY') }} is itself.
var secretFunction = cel.Function("secret", cel.Overload("secret_string", []*cel.Type{cel.StringType}, cel.StringType, cel.UnaryBinding(func(v ref.Val) ref.Val {
	text, _ := v.Value().(string)
	r, err := secret.Parse(text)
	if err != nil {
		return types.NewErr("%v", err)
	}
	return types.String(secret.Within(r))
})))

func newEvaluator(ctx context.Context, r Request, params map[string]any) (*evaluator, error) {
	labels := map[string]any{}
	for k, v := range r.Cluster.Labels {
		labels[k] = v
	}
	w := r.Ward
	env, err := express.New(map[string]map[string]any{"params": params,
		"ward":    {"name": w.Name, "namespace": w.Into.Namespace, "owner": w.Owner},
		"cluster": {"name": r.Cluster.Name, "labels": labels}}, secretFunction)
	if err != nil {
		return nil, err
	}
	env.Stop = func() error { return context.Cause(ctx) }
	return &evaluator{env}, nil
}

// evaluator renders the files of a template.
type evaluator struct{ *express.Env }

func (e *evaluator) file(f repo.File) ([]object.Object, error) {
	var out []object.Object
	var errs []error
	lifted, err := express.Lift(f.Path, f.Data)
	if err != nil {
		return nil, err
	}
	for _, doc := range object.Split(lifted.Data) {
		if err := object.Bounded(f.Path, doc); err != nil {
			return nil, err
		}
		var root yaml.Node
		if err := yaml.Unmarshal(doc.Text, &root); err != nil {
			_, err := object.DecodeYAML(f.Path, doc)
			return nil, err
		}
		if len(root.Content) == 0 {
			continue
		}
		raw, err := object.DecodeYAML(f.Path, doc)
		if err != nil {
			return nil, err
		}
		x := &walker{e: e.Env, file: f.Path, offset: doc.Line - 1, lifted: lifted}
		v, _ := x.value(raw, root.Content[0])
		if len(x.errs) > 0 {
			errs = append(errs, x.errs...)
			continue
		}
		bodies, ok := v.([]any)
		if !ok && v != nil {
			bodies = []any{v}
		}
		for _, b := range bodies {
			if b == nil {
				continue
			}
			body, ok := b.(map[string]any)
			if !ok {
				errs = append(errs, &object.SyntaxError{File: f.Path, Line: doc.Line, Text: "this gives something that is not an object; a Kubernetes object is a mapping that starts with apiVersion and kind"})
				continue
			}
			o, err := object.FromBody(body)
			if err == nil {
				_, err = o.Turn()
			}
			if err != nil {
				errs = append(errs, &object.SyntaxError{File: f.Path, Line: doc.Line, Text: err.Error()})
				continue
			}
			o.File, o.Line = f.Path, root.Content[0].Line+doc.Line-1
			out = append(out, o)
		}
	}
	return out, errors.Join(errs...)
}

// walker replaces the expressions of one document.
type walker struct {
	e      *express.Env
	file   string
	offset int
	lifted express.Lifted
	errs   []error
}

// value gives what a decoded value becomes; false when it is to be left out.
func (w *walker) value(v any, n *yaml.Node) (any, bool) {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	switch x := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(x))
		for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
			k := n.Content[i].Value
			y, here := x[k]
			if !here {
				continue
			}
			key := k
			if express.Holds(k) {
				t, ok := w.text(k, n.Content[i])
				if !ok {
					continue
				}
				if key, ok = t.(string); !ok {
					w.fail(n.Content[i], "a key must be a text")
					continue
				}
			}
			if y, keep := w.value(y, n.Content[i+1]); keep {
				out[key] = y
			}
		}
		for k, y := range x { // merged keys have no node of their own
			if _, done := out[k]; !done && !hasKey(n, k) {
				out[k] = y
			}
		}
		return out, true
	case []any:
		out := []any{}
		for i, y := range x {
			c := n
			if i < len(n.Content) {
				c = n.Content[i]
			}
			if y, keep := w.value(y, c); keep {
				out = append(out, y)
			}
		}
		return out, true
	case string:
		if !express.Holds(x) {
			return x, true
		}
		y, _ := w.text(x, n)
		return y, y != nil
	}
	return v, true
}

func hasKey(n *yaml.Node, k string) bool {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == k {
			return true
		}
	}
	return false
}

func (w *walker) fail(n *yaml.Node, format string, args ...any) {
	w.errs = append(w.errs, &object.SyntaxError{File: w.file, Line: n.Line + w.offset, Text: fmt.Sprintf(format, args...)})
}

// text evaluates the expressions of a text.
func (w *walker) text(text string, n *yaml.Node) (any, bool) {
	v, err := w.lifted.Fill(text, w.e)
	if err != nil {
		w.fail(n, "%v", err)
	}
	return v, err == nil
}
