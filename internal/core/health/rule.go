package health

import (
	_ "embed" // the published schema
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/ext"
	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/object"
)

// RuleVersion is the value of the key "vigila" in a health file.
const RuleVersion = "health/v1"

// Schema is the published JSON Schema (draft 2020-12) of a health file.
//
//go:embed health.schema.json
var Schema []byte

// Rule is your own word on the health of a kind, as CEL expressions over `object`, the live object.
// Source of the language: https://github.com/google/cel-spec
type Rule struct {
	Group, Kind string
	At          string // file:line
	ready       cel.Program
	failing     cel.Program // nil when the rule has none
	reason      cel.Program // nil when the rule has none
}

// Rules are the rules of a ward, by group and kind.
type Rules map[[2]string]*Rule

// Of is the health of an object: by its rule where there is one, else as Of says.
func (r Rules) Of(group, kind string, body map[string]any) Result {
	rule := r[[2]string{group, kind}]
	if rule == nil {
		return Of(group, kind, body)
	}
	if t, ok := at(body, "metadata", "deletionTimestamp").(string); ok && t != "" {
		return Of(group, kind, body)
	}
	return rule.of(body)
}

// most is how many rules one file may have: each is compiled.
const most = 1000

// costLimit bounds the work of one expression, in CEL's own units; a rule looks at one object only.
const costLimit = 1_000_000

func (r *Rule) of(body map[string]any) Result {
	in := map[string]any{"object": body}
	reason := func() string {
		if r.reason == nil {
			return ""
		}
		v, _, err := r.reason.Eval(in)
		if err != nil {
			return ""
		}
		s, _ := v.Value().(string)
		return s
	}
	if r.failing != nil {
		if yes, _ := truth(r.failing, in); yes {
			return Result{Word: Failing, Reason: orElse(reason(), "its health rule says so ("+r.At+")")}
		}
	}
	yes, err := truth(r.ready, in)
	switch {
	case yes:
		return Result{Word: Ready}
	case err != nil:
		return Result{Word: Settling, Reason: orElse(reason(), "its health rule can't tell yet: "+err.Error())}
	}
	return Result{Word: Settling, Reason: orElse(reason(), "its health rule says not yet ("+r.At+")")}
}

func truth(p cel.Program, in map[string]any) (bool, error) {
	v, _, err := p.Eval(in)
	if err != nil {
		return false, err
	}
	return v == types.True, nil
}

// IsRules tells whether a file holds health rules, by its first key.
func IsRules(data []byte) bool { return object.FirstKey(data, "vigila", "health/") }

// ParseRules reads every rule of a health file; all mistakes are reported at once, with file and line:
//
//	vigila: health/v1
//	of: Berth.harbour.brindle.example    # Kind.group, or a core Kind alone
//	ready: object.status.phase == "moored"
//	failing: object.status.phase == "aground"        # optional
//	reason: object.status.message                    # optional, a text
func ParseRules(file string, data []byte) ([]*Rule, []error) {
	env, err := cel.NewEnv(cel.Variable("object", cel.DynType), cel.OptionalTypes(), ext.Strings(), ext.Lists())
	if err != nil {
		return nil, []error{err}
	}
	docs, err := object.Own(file, data, most)
	if err != nil {
		return nil, []error{err}
	}
	var out []*Rule
	var errs []error
	for _, doc := range docs {
		n, err := object.Tree(file, doc)
		if err == nil && n.Kind != yaml.MappingNode {
			err = &object.SyntaxError{File: file, Line: doc.Line, Text: "a health rule must be a mapping of keys, as YAML"}
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		fail := func(n *yaml.Node, format string, args ...any) {
			if object.Enough(errs) {
				return
			}
			errs = append(errs, &object.SyntaxError{File: file, Line: doc.Line - 1 + n.Line, Text: fmt.Sprintf(format, args...)})
		}
		rule := &Rule{At: fmt.Sprintf("%s:%d", path.Base(file), doc.Line-1+n.Line)}
		expression := func(v *yaml.Node, key string, want *cel.Type) cel.Program {
			ast, issues := env.Compile(v.Value)
			if issues.Err() != nil {
				fail(v, "%s is no valid CEL: %s", key, strings.Join(strings.Fields(issues.Errors()[0].Message), " "))
				return nil
			}
			if got := ast.OutputType(); !slices.Contains([]string{want.String(), cel.DynType.String()}, got.String()) {
				fail(v, "%s gives a %s; it must give a %s", key, got, want)
				return nil
			}
			p, err := env.Program(ast, cel.CostLimit(costLimit))
			if err != nil {
				fail(v, "%s: %v", key, err)
			}
			return p
		}
		version := ""
		for i := 0; i+1 < len(n.Content); i += 2 {
			k, v := n.Content[i], n.Content[i+1]
			switch k.Value {
			case "vigila":
				version = v.Value
			case "of":
				rule.Kind, rule.Group, _ = strings.Cut(v.Value, ".")
			case "ready":
				rule.ready = expression(v, "ready", cel.BoolType)
			case "failing":
				rule.failing = expression(v, "failing", cel.BoolType)
			case "reason":
				rule.reason = expression(v, "reason", cel.StringType)
			default:
				fail(k, "unknown key %s; known here: vigila, of, ready, failing, reason", k.Value)
			}
		}
		has := func(key string) bool {
			for i := 0; i < len(n.Content); i += 2 {
				if n.Content[i].Value == key {
					return true
				}
			}
			return false
		}
		switch {
		case version != RuleVersion:
			fail(n, "the first key must be vigila: %s, not %q", RuleVersion, version)
		case rule.Kind == "":
			fail(n, "the rule has no of: name a kind, such as Berth.harbour.brindle.example")
		case !has("ready"):
			fail(n, "the rule has no ready: an expression that is true once the object is, such as object.status.phase == \"moored\"")
		}
		out = append(out, rule)
	}
	return out, errs
}
