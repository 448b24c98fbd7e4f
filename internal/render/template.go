package render

import (
	"context"
	_ "embed" // the published schema
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
	"github.com/google/cel-go/ext"
	"go.yaml.in/yaml/v3"
	"golang.org/x/text/language"
	"golang.org/x/text/message"
	"google.golang.org/protobuf/types/known/structpb"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// printer says what a JSON Schema finds wrong.
var printer = message.NewPrinter(language.English)

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

// Limits of the expressions of one template.
const (
	maxCost     = 10_000_000 // of one expression, in the steps that CEL counts
	maxTemplate = 5_000      // expressions
)

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
		if err := in.fit(at, text, jsonValue(params), "template "+f.Path, nil); err != nil {
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
			err = validSchema(text)
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
	data, exprs, err := lifted(f)
	if err != nil {
		return err
	}
	var errs []error
	for i, expr := range exprs {
		before, _, _ := strings.Cut(string(data), fmt.Sprintf("%s%d%s", markBegin, i, markEnd))
		if _, err := e.compile(expr); err != nil {
			errs = append(errs, &object.SyntaxError{File: f.Path, Line: strings.Count(before, "\n") + 1, Text: fmt.Sprintf("${{ %s }}: %v", expr, err)})
		}
	}
	for _, doc := range object.Split(data) {
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
		head.Parameters = p
		if _, ok := p["type"]; !ok {
			p["type"] = "object"
		}
		if _, ok := p["additionalProperties"]; !ok {
			p["additionalProperties"] = false // a mistyped value is told
		}
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

// jsonValue makes numbers what the schema library takes.
func jsonValue(v any) any {
	switch x := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, y := range x {
			out[k] = jsonValue(y)
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i, y := range x {
			out[i] = jsonValue(y)
		}
		return out
	case int64:
		return json.Number(fmt.Sprint(x))
	}
	return v
}

type evaluator struct {
	ctx   context.Context
	env   *cel.Env
	vars  map[string]any
	known map[string]cel.Program
	count int
	size  int
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
	anyMap := cel.MapType(cel.StringType, cel.DynType)
	env, err := cel.NewEnv(cel.Variable("params", anyMap), cel.Variable("ward", anyMap), cel.Variable("cluster", anyMap), cel.Variable("nothing", cel.DynType), ext.Strings(), ext.Math(), ext.Lists(), ext.Encoders(), cel.OptionalTypes(), secretFunction)
	if err != nil {
		return nil, err
	}
	labels := map[string]any{}
	for k, v := range r.Cluster.Labels {
		labels[k] = v
	}
	w := r.Ward
	return &evaluator{ctx: ctx, env: env, known: map[string]cel.Program{}, vars: map[string]any{"params": params,
		"ward":    map[string]any{"name": w.Name, "namespace": w.Into.Namespace, "owner": w.Owner},
		"cluster": map[string]any{"name": r.Cluster.Name, "labels": labels}, "nothing": nil}}, nil
}

func (e *evaluator) file(f repo.File) ([]object.Object, error) {
	var out []object.Object
	var errs []error
	data, exprs, err := lifted(f)
	if err != nil {
		return nil, err
	}
	for _, doc := range object.Split(data) {
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
		x := &walker{e: e, file: f.Path, offset: doc.Line - 1, exprs: exprs}
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
	e      *evaluator
	file   string
	offset int
	exprs  []string
	errs   []error
}

// Marks that stand for an expression while a file is read as YAML, so that what is in it needs no quotes.
const (
	markBegin = "\ue000"
	markEnd   = "\ue001"
)

// lifted takes the expressions out of a file: ${{ }} becomes a mark with its number. Lines stay where they are.
func lifted(f repo.File) (data []byte, exprs []string, err error) {
	text := string(f.Data)
	if strings.ContainsAny(text, markBegin+markEnd) {
		return nil, nil, &object.SyntaxError{File: f.Path, Line: 1, Text: "it holds the characters U+E000 or U+E001, which have no meaning"}
	}
	var out strings.Builder
	for lost := 0; ; {
		before, after, found := strings.Cut(text, "${{")
		if nl := strings.IndexByte(before, '\n'); lost > 0 && nl >= 0 {
			before = before[:nl] + strings.Repeat("\n", lost) + before[nl:]
			lost = 0
		}
		out.WriteString(before)
		if !found {
			return []byte(out.String()), exprs, nil
		}
		expr, rest, closed := cutExpression(after)
		if !closed {
			line := strings.Count(out.String(), "\n") + 1
			row, _, _ := strings.Cut(after, "\n")
			return nil, nil, &object.SyntaxError{File: f.Path, Line: line, Text: fmt.Sprintf("${{ without }}: %q", "${{"+row)}
		}
		fmt.Fprintf(&out, "%s%d%s", markBegin, len(exprs), markEnd)
		exprs = append(exprs, strings.TrimSpace(expr))
		lost += strings.Count(expr, "\n")
		text = rest
	}
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
			if strings.Contains(k, markBegin) {
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
		if !strings.Contains(x, markBegin) {
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
	var out strings.Builder
	rest := text
	for first := true; ; first = false {
		before, after, found := strings.Cut(rest, markBegin)
		if !found {
			out.WriteString(rest)
			return out.String(), true
		}
		number, tail, _ := strings.Cut(after, markEnd)
		i, err := strconv.Atoi(number)
		if err != nil || i >= len(w.exprs) {
			w.fail(n, "an expression is damaged")
			return nil, false
		}
		expr := w.exprs[i]
		v, err := w.e.eval(expr)
		if err != nil {
			w.fail(n, "${{ %s }}: %v", expr, err)
			return nil, false
		}
		if first && strings.TrimSpace(before) == "" && strings.TrimSpace(tail) == "" {
			return v, true
		}
		out.WriteString(before)
		switch x := v.(type) {
		case string:
			out.WriteString(x)
		case int64, float64, bool, uint64:
			fmt.Fprint(&out, x)
		default:
			w.fail(n, "${{ %s }} gives %s within a text; there it must be a text, a number or a truth value. Write it as a value of its own", expr, kindOf(v))
			return nil, false
		}
		rest = tail
	}
}

// cutExpression finds the end of an expression; "}}" within quotes, and of mappings within it, is not it.
func cutExpression(s string) (expr, rest string, ok bool) {
	depth, quote := 0, byte(0)
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case quote != 0:
			if c == '\\' {
				i++
			} else if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '{':
			depth++
		case c == '}' && depth > 0:
			depth--
		case c == '}' && i+1 < len(s) && s[i+1] == '}':
			return s[:i], s[i+2:], true
		}
	}
	return "", "", false
}

func kindOf(v any) string {
	switch v.(type) {
	case nil:
		return "null"
	case map[string]any:
		return "a mapping"
	case []any:
		return "a list"
	}
	return fmt.Sprintf("a %T", v)
}

func (e *evaluator) compile(expr string) (cel.Program, error) {
	if prog, known := e.known[expr]; known {
		return prog, nil
	}
	if e.count++; e.count > maxTemplate {
		return nil, fmt.Errorf("there are more than %d expressions", maxTemplate)
	}
	ast, issues := e.env.Compile(expr)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		return nil, fmt.Errorf("%s (at character %d)", first.Message, first.Location.Column()+1)
	}
	prog, err := e.env.Program(ast, cel.CostLimit(maxCost), cel.InterruptCheckFrequency(1000))
	if err != nil {
		return nil, err
	}
	e.known[expr] = prog
	return prog, nil
}

func (e *evaluator) eval(expr string) (any, error) {
	prog, err := e.compile(expr)
	if err != nil {
		return nil, err
	}
	v, _, err := prog.ContextEval(e.ctx, e.vars)
	if err != nil {
		text := err.Error()
		if key, ok := strings.CutPrefix(text, "no such key: "); ok {
			return nil, fmt.Errorf("there is no %s; params has: %s", key, e.names())
		}
		if strings.Contains(text, "cost limit") {
			return nil, errTooMuch
		}
		return nil, err
	}
	out, err := native(v)
	if err != nil {
		return nil, err
	}
	if err := size(out, &e.size); err != nil {
		return nil, err
	}
	return out, nil
}

func (e *evaluator) names() string {
	params, _ := e.vars["params"].(map[string]any)
	if len(params) == 0 {
		return "nothing"
	}
	return strings.Join(sortedKeys(params), ", ")
}

// native is a CEL value as JSON values are held: whole numbers as int64.
func native(v ref.Val) (any, error) {
	switch x := v.Value().(type) {
	case int64, float64, string, bool:
		return x, nil
	case uint64:
		return int64(x), nil
	case structpb.NullValue:
		return nil, nil
	}
	raw, err := v.ConvertToNative(reflect.TypeFor[*structpb.Value]())
	if err != nil {
		return nil, fmt.Errorf("a %s can't be written into an object; make it a text, a number, a list or a mapping", v.Type().TypeName())
	}
	return whole(raw.(*structpb.Value).AsInterface()), nil
}

// whole makes numbers without a fraction int64 again.
func whole(v any) any {
	switch x := v.(type) {
	case map[string]any:
		for k, y := range x {
			x[k] = whole(y)
		}
	case []any:
		for i, y := range x {
			x[i] = whole(y)
		}
	case float64:
		if n := int64(x); float64(n) == x && n > -(1<<53) && n < 1<<53 {
			return n
		}
	}
	return v
}
