// Package express is ${{ }}: CEL expressions (https://cel.dev) within texts and YAML files, as templates and kits have them. It takes the
// expressions out of a file, so that what is left can be read as YAML, and evaluates them within bounds. Start with Lift and Env.
package express

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/common/types/ref"
	"github.com/google/cel-go/ext"
	"google.golang.org/protobuf/types/known/structpb"

	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
)

// The bounds of one Env, and of the values that it makes.
const (
	maxCount  = 5_000    // expressions
	MaxText   = 16 << 20 // bytes of one value
	maxNested = 1000
)

// The cost of one expression, and of all of an Env, in the steps that CEL counts: five million are some seconds.
var maxCost, maxTotal uint64 = 10_000_000, 50_000_000

// ErrTooMuch ends what would never end by itself, or eats the memory.
var ErrTooMuch = errors.New("it does too much: more work, or a larger value, than a rendering may have")

// Env evaluates expressions over some variables. It is not for two at once.
type Env struct {
	// Stop is asked before each evaluation; its error ends it. It may be nil.
	Stop func() error
	// Closed are the variables that have no other keys than these: asking one for another is a mistake that Compile finds. It may be nil.
	Closed map[string][]string
	env    *cel.Env
	vars   map[string]any
	known  map[string]cel.Program
	count  int
	size   int
	spent  uint64
}

// New makes an Env whose variables are mappings, by name; beside them there is nothing, which is null.
func New(vars map[string]map[string]any, functions ...cel.EnvOption) (*Env, error) {
	options := append([]cel.EnvOption{cel.Variable("nothing", cel.DynType), ext.Strings(), ext.Math(), ext.Lists(), ext.Encoders(), cel.OptionalTypes()}, functions...)
	values := map[string]any{"nothing": nil}
	for name, v := range vars {
		options = append(options, cel.Variable(name, cel.MapType(cel.StringType, cel.DynType)))
		values[name] = v
	}
	env, err := cel.NewEnv(options...)
	return &Env{env: env, vars: values, known: map[string]cel.Program{}}, err
}

// Compile reads an expression. An error says at which character of it something is wrong.
func (e *Env) Compile(expr string) error {
	_, err := e.program(expr)
	return err
}

func (e *Env) program(expr string) (cel.Program, error) {
	if prog, known := e.known[expr]; known {
		return prog, nil
	}
	if e.count++; e.count > maxCount {
		return nil, fmt.Errorf("there are more than %d expressions", maxCount)
	}
	tree, issues := e.env.Compile(expr)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		return nil, fmt.Errorf("%s (at character %d)", first.Message, first.Location.Column()+1)
	}
	if err := e.misspelt(tree); err != nil {
		return nil, err
	}
	prog, err := e.env.Program(tree, cel.CostLimit(maxCost))
	if err != nil {
		return nil, err
	}
	e.known[expr] = prog
	return prog, nil
}

// misspelt tells of a key that one of the closed variables doesn't have.
func (e *Env) misspelt(tree *cel.Ast) (err error) {
	if len(e.Closed) == 0 {
		return nil
	}
	ast.PostOrderVisit(tree.NativeRep().Expr(), ast.NewExprVisitor(func(x ast.Expr) {
		if x.Kind() != ast.SelectKind || x.AsSelect().Operand().Kind() != ast.IdentKind {
			return
		}
		of, key := x.AsSelect().Operand().AsIdent(), x.AsSelect().FieldName()
		if keys, closed := e.Closed[of]; closed && !slices.Contains(keys, key) && err == nil {
			err = fmt.Errorf("there is no %s.%s; %s", of, key, nearest.Words(key, keys))
		}
	}))
	return err
}

// NoKeyError tells that an expression asks for something that is not there.
type NoKeyError struct{ Key, Known string }

func (e *NoKeyError) Error() string {
	return fmt.Sprintf("there is no %s; params has: %s", e.Key, e.Known)
}

// Eval gives what an expression comes to, as JSON values are held: whole numbers as int64. Errors are a *NoKeyError where a key is not
// there, and wrap ErrTooMuch where it would go beyond its bounds.
func (e *Env) Eval(expr string) (any, error) {
	prog, err := e.program(expr)
	if err != nil {
		return nil, err
	}
	if e.Stop != nil {
		if err := e.Stop(); err != nil {
			return nil, err
		}
	}
	if e.spent >= maxTotal {
		return nil, ErrTooMuch
	}
	v, details, err := prog.Eval(e.vars)
	if cost := details.ActualCost(); cost != nil {
		e.spent += *cost
	}
	if err != nil {
		text := err.Error()
		if key, ok := strings.CutPrefix(text, "no such key: "); ok {
			return nil, &NoKeyError{key, e.names()}
		}
		if strings.Contains(text, "cost limit") {
			e.spent = maxTotal // whoever tries the others all the same is told the same at once
			return nil, ErrTooMuch
		}
		return nil, err
	}
	out, err := native(v)
	if err != nil {
		return nil, err
	}
	return out, Size(out, &e.size)
}

func (e *Env) names() string {
	params, _ := e.vars["params"].(map[string]any)
	if len(params) == 0 {
		return "nothing"
	}
	return strings.Join(slices.Sorted(maps.Keys(params)), ", ")
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
		return nil, fmt.Errorf("a %s can't be written into a file; make it a text, a number, a list or a mapping", v.Type().TypeName())
	}
	return Whole(raw.(*structpb.Value).AsInterface()), nil
}

// Whole makes numbers without a fraction int64, as JSON values are held here; it changes mappings and lists in place.
func Whole(v any) any {
	switch x := v.(type) {
	case map[string]any:
		for k, y := range x {
			x[k] = Whole(y)
		}
	case []any:
		for i, y := range x {
			x[i] = Whole(y)
		}
	case float64:
		if n := int64(x); float64(n) == x && n > -(1<<53) && n < 1<<53 {
			return n
		}
	}
	return v
}

// Size counts what writing a value out would make, and stops at MaxText with ErrTooMuch: a value can hold another many times, or itself.
func Size(v any, sum *int) error { return sizeAt(v, sum, 0) }

func sizeAt(v any, sum *int, depth int) error {
	if depth > maxNested {
		return ErrTooMuch
	}
	switch x := v.(type) {
	case string:
		*sum += len(x) + 2
	case map[string]any:
		for k, y := range x {
			*sum += len(k) + 4
			if err := sizeAt(y, sum, depth+1); err != nil {
				return err
			}
		}
	case []any:
		for _, y := range x {
			if err := sizeAt(y, sum, depth+1); err != nil {
				return err
			}
		}
	}
	if *sum += 4; *sum > MaxText {
		return ErrTooMuch
	}
	return nil
}

// Marks that stand for an expression while a file is read as YAML, so that what is in it needs no quotes.
const (
	markBegin = "\ue000"
	markEnd   = "\ue001"
)

// Lifted is a file without its expressions.
type Lifted struct {
	Data  []byte   // ${{ }} is a mark with its number; lines stay where they are
	Exprs []string // by number
}

// Lift takes the expressions out of a file. Errors are an *object.SyntaxError.
func Lift(file string, data []byte) (Lifted, error) {
	text := string(data)
	if strings.ContainsAny(text, markBegin+markEnd) {
		return Lifted{}, &object.SyntaxError{File: file, Line: 1, Text: "it holds the characters U+E000 or U+E001, which have no meaning"}
	}
	var l Lifted
	var out strings.Builder
	for lost := 0; ; {
		before, after, found := strings.Cut(text, "${{")
		if nl := strings.IndexByte(before, '\n'); lost > 0 && nl >= 0 {
			before = before[:nl] + strings.Repeat("\n", lost) + before[nl:]
			lost = 0
		}
		out.WriteString(before)
		if !found {
			l.Data = []byte(out.String())
			return l, nil
		}
		expr, rest, closed := cutExpression(after)
		if !closed {
			line := strings.Count(out.String(), "\n") + 1
			row, _, _ := strings.Cut(after, "\n")
			return l, &object.SyntaxError{File: file, Line: line, Text: fmt.Sprintf("${{ without }}: %q", "${{"+row)}
		}
		fmt.Fprintf(&out, "%s%d%s", markBegin, len(l.Exprs), markEnd)
		l.Exprs = append(l.Exprs, strings.TrimSpace(expr))
		lost += strings.Count(expr, "\n")
		text = rest
	}
}

// Line is the 1-based line that an expression stands at.
func (l Lifted) Line(i int) int {
	before, _, _ := strings.Cut(string(l.Data), fmt.Sprintf("%s%d%s", markBegin, i, markEnd))
	return strings.Count(before, "\n") + 1
}

// Probe compiles every expression. Errors are each an *object.SyntaxError, joined.
func (l Lifted) Probe(file string, e *Env) error {
	var errs []error
	for i, expr := range l.Exprs {
		if object.Enough(errs) {
			break
		}
		if err := e.Compile(expr); err != nil {
			errs = append(errs, &object.SyntaxError{File: file, Line: l.Line(i), Text: fmt.Sprintf("${{ %s }}: %v", expr, err)})
		}
	}
	return object.Mistakes(errs...)
}

// Holds tells whether a part of what was lifted has expressions.
func Holds(text string) bool { return strings.Contains(text, markBegin) }

// Fill gives what a part of what was lifted comes to: what an expression gives, with its type, where it is all there is; a text else.
func (l Lifted) Fill(text string, e *Env) (any, error) {
	var out strings.Builder
	rest := text
	for first := true; ; first = false {
		before, after, found := strings.Cut(rest, markBegin)
		if !found {
			out.WriteString(rest)
			return out.String(), nil
		}
		number, tail, _ := strings.Cut(after, markEnd)
		i, err := strconv.Atoi(number)
		if err != nil || i >= len(l.Exprs) {
			return nil, errors.New("an expression is damaged")
		}
		expr := l.Exprs[i]
		v, err := e.Eval(expr)
		if err != nil {
			return nil, fmt.Errorf("${{ %s }}: %w", expr, err)
		}
		if first && strings.TrimSpace(before) == "" && strings.TrimSpace(tail) == "" {
			return v, nil
		}
		out.WriteString(before)
		switch x := v.(type) {
		case string:
			out.WriteString(x)
		case int64, float64, bool, uint64:
			fmt.Fprint(&out, x)
		default:
			return nil, fmt.Errorf("${{ %s }} gives %s within a text; there it must be a text, a number or a truth value. Write it as a value of its own", expr, kindOf(v))
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
