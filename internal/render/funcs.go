package render

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"text/template"
	"text/template/parse"
	"time"

	"github.com/Masterminds/sprig/v3"
	"github.com/pelletier/go-toml/v2"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/core/express"
)

// Limits of one template's work, all charts together.
const (
	maxSteps   = 2_000_000 // calls and rounds of loops
	maxText    = express.MaxText
	maxItems   = 1_000_000 // of one list
	maxInclude = 500       // includes within includes
)

// refused are functions that would read something outside the inputs of a rendering, or give another value each time.
// Each says what to do instead.
var refused = map[string]string{
	"env": "reads the environment", "expandenv": "reads the environment", "getHostByName": "asks the network",
	"now": "reads the clock", "ago": "reads the clock",
	"randAlphaNum": random, "randAlpha": random, "randAscii": random, "randNumeric": random, "randBytes": random, "randInt": random, "uuidv4": random, "shuffle": random,
	"genPrivateKey": random, "genCA": random, "genCAWithKey": random, "genSelfSignedCert": random, "genSelfSignedCertWithKey": random, "genSignedCert": random, "genSignedCertWithKey": random,
	"bcrypt": random, "htpasswd": random, "encryptAES": random,
}

const random = "gives another value at each rendering, so the object would never be in step"

// budget is what one rendering may still do.
type budget struct {
	ctx   context.Context
	steps int
	depth int
}

func (b *budget) step() error {
	if b.steps++; b.steps > maxSteps {
		return express.ErrTooMuch
	}
	if b.steps%256 == 0 && b.ctx.Err() != nil {
		return context.Cause(b.ctx)
	}
	return nil
}

// fits bounds a value that a function has made.
func (b *budget) fits(v reflect.Value) error {
	for v.IsValid() && (v.Kind() == reflect.Interface || v.Kind() == reflect.Pointer) && !v.IsNil() {
		v = v.Elem()
	}
	switch v.Kind() {
	case reflect.String:
		if v.Len() > maxText {
			return express.ErrTooMuch
		}
	case reflect.Slice, reflect.Array, reflect.Map:
		if v.Len() > maxItems {
			return express.ErrTooMuch
		}
	}
	return nil
}

var failType = reflect.TypeFor[error]()

// guarded wraps a function so that each call counts, and what it makes is bounded.
func (b *budget) guarded(name string, f any) any {
	v := reflect.ValueOf(f)
	t := v.Type()
	in := make([]reflect.Type, t.NumIn())
	for i := range in {
		in[i] = t.In(i)
	}
	fails := t.NumOut() == 2
	wrapped := reflect.FuncOf(in, []reflect.Type{t.Out(0), failType}, t.IsVariadic())
	return reflect.MakeFunc(wrapped, func(args []reflect.Value) (out []reflect.Value) {
		no := func(err error) []reflect.Value {
			return []reflect.Value{reflect.Zero(t.Out(0)), reflect.ValueOf(&err).Elem()}
		}
		defer func() { // some of the functions stop hard when given something they don't expect
			if p := recover(); p != nil {
				out = no(fmt.Errorf("%v", p))
			}
		}()
		if err := b.step(); err != nil {
			return no(err)
		}
		if err := tooMany(name, args); err != nil {
			return no(err)
		}
		var res []reflect.Value
		if t.IsVariadic() {
			res = v.CallSlice(args)
		} else {
			res = v.Call(args)
		}
		if fails && !res[1].IsNil() {
			return res
		}
		if err := b.fits(res[0]); err != nil {
			return no(err)
		}
		switch name { // a value could come to hold itself, or be nested so deep that printing it needs more stack than there is
		case "set", "merge", "mergeOverwrite", "mustMerge", "mustMergeOverwrite", "dict", "list", "tuple", "append", "mustAppend", "push", "mustPush", "prepend", "mustPrepend", "concat":
			sum := 0
			if err := express.Size(res[0].Interface(), &sum); err != nil {
				return no(err)
			}
		}
		return []reflect.Value{res[0], reflect.Zero(failType)}
	}).Interface()
}

// tooMany refuses a call that would make something huge in one go.
func tooMany(name string, args []reflect.Value) error {
	switch name {
	case "repeat", "indent", "nindent", "until", "untilStep", "seq", "wrap", "wrapWith", "trunc", "substr":
	case "print", "printf", "println", "html", "js", "urlquery", "cat", "join", "toString", "quote", "squote", "toStrings", "sha256sum", "toPrettyJson", "toRawJson", "toJson", "mustToJson", "mustToPrettyJson", "mustToRawJson", "deepCopy", "mustDeepCopy":
		sum := 0
		for _, a := range args {
			if a.IsValid() && a.CanInterface() {
				if err := express.Size(a.Interface(), &sum); err != nil {
					return err
				}
			}
		}
		return nil
	case "replace":
		if len(args) == 3 && args[0].Kind() == reflect.String && args[0].Len() == 0 || len(args) == 3 && args[1].Len() > 1<<16 {
			return express.ErrTooMuch
		}
		return nil
	default:
		return nil
	}
	text, number := 1, 0
	var look func(v reflect.Value)
	look = func(v reflect.Value) {
		for v.IsValid() && v.Kind() == reflect.Interface && !v.IsNil() {
			v = v.Elem()
		}
		switch v.Kind() {
		case reflect.String:
			text += v.Len()
		case reflect.Int, reflect.Int64, reflect.Int32:
			if n := v.Int(); n > int64(number) {
				number = int(min(n, 1<<40))
			} else if -n > int64(number) {
				number = int(min(-n, 1<<40))
			}
		case reflect.Float64:
			number = max(number, int(min(max(v.Float(), -v.Float()), 1<<40)))
		case reflect.Slice:
			for i := range v.Len() {
				look(v.Index(i))
			}
		}
	}
	for _, a := range args {
		look(a)
	}
	switch name {
	case "until", "untilStep", "seq":
		if number > maxItems {
			return express.ErrTooMuch
		}
	case "repeat", "indent", "nindent":
		if number > maxText || text*number > 64*maxText {
			return express.ErrTooMuch
		}
	}
	return nil
}

// functions are those that charts rely on: the standard library's, sprig's, and those of the chart format, all of them
// listed in docs/rendering.md.
func functions(b *budget) template.FuncMap {
	all := sprig.TxtFuncMap()
	for name, why := range refused {
		all[name] = func(...any) (string, error) {
			return "", fmt.Errorf("%s %s; give the value with the ward's values, or keep it in a Secret of its own", name, why)
		}
	}
	all["keys"] = func(maps ...map[string]any) []string { // sprig's are in random order
		var out []string
		for _, m := range maps {
			out = append(out, sortedKeys(m)...)
		}
		return out
	}
	all["values"] = func(m map[string]any) []any {
		var out []any
		for _, k := range sortedKeys(m) {
			out = append(out, m[k])
		}
		return out
	}
	dated := func(zone, layout string, v any) (string, error) {
		at, err := moment(v)
		if err != nil {
			return "", err
		}
		loc, err := time.LoadLocation(zone)
		if err != nil {
			loc = time.UTC
		}
		return at.In(loc).Format(layout), nil
	}
	all["date"] = func(layout string, v any) (string, error) { return dated("UTC", layout, v) }
	all["dateInZone"] = func(layout string, v any, zone string) (string, error) { return dated(zone, layout, v) }
	all["date_in_zone"] = all["dateInZone"]
	all["htmlDate"] = func(v any) (string, error) { return dated("UTC", "2006-01-02", v) }
	all["htmlDateInZone"] = func(v any, zone string) (string, error) { return dated(zone, "2006-01-02", v) }
	all["toDate"] = func(layout, text string) time.Time { t, _ := time.Parse(layout, text); return t }
	all["mustToDate"] = time.Parse
	all["durationRound"] = func(v any) (string, error) {
		if _, clock := v.(time.Time); clock {
			return "", errors.New("durationRound of a time reads the clock; give it a duration")
		}
		f, _ := sprig.TxtFuncMap()["durationRound"].(func(any) string)
		return f(v), nil
	}

	text := func(make func(any) ([]byte, error)) func(any) (string, error) {
		return func(v any) (string, error) {
			sum := 0
			if err := express.Size(v, &sum); err != nil {
				return "", err
			}
			out, err := make(v)
			return strings.TrimSuffix(string(out), "\n"), err
		}
	}
	toYAML := text(func(v any) ([]byte, error) { return yaml.Marshal(v) })
	all["toYaml"], all["mustToYaml"], all["toYamlPretty"] = toYAML, toYAML, toYAML
	all["toToml"] = text(toml.Marshal)
	all["fromYaml"] = func(s string) map[string]any {
		out := map[string]any{}
		if err := yaml.Unmarshal([]byte(s), &out); err != nil {
			return map[string]any{"Error": err.Error()} // as the format has it
		}
		return out
	}
	all["fromYamlArray"] = func(s string) []any {
		out := []any{}
		if err := yaml.Unmarshal([]byte(s), &out); err != nil {
			return []any{err.Error()}
		}
		return out
	}
	all["fromToml"] = func(s string) map[string]any {
		out := map[string]any{}
		if err := toml.Unmarshal([]byte(s), &out); err != nil {
			return map[string]any{"Error": err.Error()}
		}
		return out
	}
	all["fromJson"], all["fromJsonArray"] = all["fromYaml"], all["fromYamlArray"]
	all["required"] = func(message string, v any) (any, error) {
		if s, ok := v.(string); v == nil || ok && s == "" {
			return nil, errors.New(message)
		}
		return v, nil
	}
	all["fail"] = func(message string) (string, error) { return "", errors.New(message) }
	all["lookup"] = func(string, string, string, string) map[string]any { return map[string]any{} } // a rendering reads no cluster
	all["print"], all["printf"], all["println"] = fmt.Sprint, fmt.Sprintf, fmt.Sprintln
	all["html"], all["js"], all["urlquery"] = template.HTMLEscaper, template.JSEscaper, template.URLQueryEscaper
	for name, f := range all {
		all[name] = b.guarded(name, f)
	}
	all[tick] = func() (string, error) { return "", b.step() }
	return all
}

func moment(v any) (time.Time, error) {
	switch x := v.(type) {
	case time.Time:
		return x, nil
	case *time.Time:
		return *x, nil
	case int64:
		return time.Unix(x, 0), nil
	case int:
		return time.Unix(int64(x), 0), nil
	case int32:
		return time.Unix(int64(x), 0), nil
	case float64:
		return time.Unix(int64(x), 0), nil
	}
	return time.Time{}, errors.New("a date of something that is no time reads the clock; give it a time")
}

// tick is called in every round of every loop, so that one without any other call can be ended too.
const tick = "vigilaTick"

var tickNode = func() parse.Node {
	trees, err := parse.Parse("tick", "{{"+tick+"}}", "", "", map[string]any{tick: true})
	if err != nil {
		panic(err)
	}
	return trees["tick"].Root.Nodes[0]
}()

// bounded puts a tick into every loop and every template of a set.
func bounded(t *template.Template) {
	for _, x := range t.Templates() {
		if x.Tree != nil && x.Tree.Root != nil {
			ticks(x.Tree.Root)
		}
	}
}

func ticks(n parse.Node) {
	branch := func(b *parse.BranchNode) {
		ticks(b.List)
		if b.ElseList != nil {
			ticks(b.ElseList)
		}
	}
	switch x := n.(type) {
	case *parse.ListNode:
		for _, c := range x.Nodes {
			ticks(c)
		}
	case *parse.IfNode:
		branch(&x.BranchNode)
	case *parse.WithNode:
		branch(&x.BranchNode)
	case *parse.RangeNode:
		branch(&x.BranchNode)
		if len(x.List.Nodes) == 0 || !slices.Contains(x.List.Nodes[:1], tickNode) {
			x.List.Nodes = append([]parse.Node{tickNode}, x.List.Nodes...)
		}
	}
}
