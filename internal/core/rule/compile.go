package rule

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
	"k8s.io/apimachinery/pkg/util/version"
	kube "k8s.io/apiserver/pkg/admission/plugin/cel"
	kubecel "k8s.io/apiserver/pkg/cel"
	"k8s.io/apiserver/pkg/cel/environment"

	"vigila.dev/vigila/internal/core/secret"
)

// program is a rule that was compiled. What it holds is never changed, and may be used by many at once.
type program struct {
	conditions  []compiled
	variables   []compiled
	validations []compiled
	names       map[string]int // of variables
	messages    []*compiled    // beside validations: its messageExpression; nil when it has none
	alone       bool           // it looks at one object alone, and at what is the same for all of them
}

// compiled is one expression.
type compiled struct {
	name string // of a condition or variable
	text string
	cel.Program
}

// looks gives what of an object, or of any value, looks like a secret, each as a text with its place.
var looks = environment.VersionedOptions{IntroducedVersion: version.MajorMinor(1, 0), EnvOptions: []cel.EnvOption{
	cel.Function("secretLooking", cel.Overload("secret_looking_dyn", []*cel.Type{cel.DynType}, cel.ListType(cel.StringType), cel.UnaryBinding(func(v ref.Val) ref.Val {
		var out []string
		for _, l := range secret.Looking(v.Value()) {
			out = append(out, l.String())
		}
		return types.DefaultTypeAdapter.NativeToValue(out)
	})))}}

// compiler compiles the expressions of one rule, whose variables are its own.
type compiler struct {
	env       *cel.Env
	variables map[string]*kubecel.DeclField // declared as they are compiled
}

// newCompiler is an API server's own, of the version of its libraries that we are built with, with params, and secretLooking, which no API server
// has. Source: https://kubernetes.io/docs/reference/using-api/cel/, and k8s.io/apiserver/pkg/admission/plugin/cel
func newCompiler() *compiler {
	c := &compiler{variables: map[string]*kubecel.DeclField{}}
	vars := kubecel.NewObjectType("kubernetes.variables", c.variables)
	namespace, request := kube.BuildNamespaceType(), kube.BuildRequestType()
	set, err := environment.MustBaseEnvSet(environment.DefaultCompatibilityVersion()).Extend(looks, environment.VersionedOptions{
		IntroducedVersion: version.MajorMinor(1, 0),
		EnvOptions: []cel.EnvOption{
			cel.Variable(kube.ObjectVarName, cel.DynType), cel.Variable(kube.OldObjectVarName, cel.DynType), cel.Variable(kube.ParamsVarName, cel.DynType),
			cel.Variable(kube.NamespaceVarName, namespace.CelType()), cel.Variable(kube.RequestVarName, request.CelType()), cel.Variable(kube.VariableVarName, vars.CelType()),
		},
		DeclTypes: []*kubecel.DeclType{namespace, request, vars},
	})
	if err == nil {
		c.env, err = set.Env(environment.NewExpressions)
	}
	if err != nil {
		panic(err) // it is the same every time
	}
	return c
}

// compile compiles an expression of one of some types. An error says all that is wrong, each with its place in the expression.
func (c *compiler) compile(text string, returns *cel.Type) (out compiled, of *cel.Type, err error) {
	ast, issues := c.env.Compile(text)
	if issues.Err() != nil {
		return out, nil, errors.New(plainly(issues.String()))
	}
	of = ast.OutputType()
	if returns != cel.AnyType && !of.IsExactType(returns) {
		return out, nil, fmt.Errorf("it gives %s, and is to give %s", of, returns)
	}
	out.text = text
	out.Program, err = c.env.Program(ast)
	return out, of, err
}

// compile compiles every expression of a rule, in its order; what does not compile is a mistake with its place.
func (p *parser) compile(r *Rule) {
	c := newCompiler()
	one := func(name, text string, returns *cel.Type, keys ...any) (compiled, *cel.Type) {
		out, of, err := c.compile(text, returns)
		if err != nil {
			p.fail(p.line(keys...), "%s does not compile: %v", where(keys), err)
		}
		out.name = name
		return out, of
	}
	spec := r.policy.Spec
	// Conditions come first: variables are not there for them yet.
	for i, x := range spec.MatchConditions {
		e, _ := one(x.Name, x.Expression, cel.BoolType, "spec", "matchConditions", i, "expression")
		r.conditions = append(r.conditions, e)
	}
	r.names = map[string]int{}
	for i, x := range spec.Variables {
		if _, twice := r.names[x.Name]; twice || !identifier.MatchString(x.Name) {
			p.fail(p.line("spec", "variables", i), "variable %q is there twice, or no name: letters, digits and '_'", x.Name)
			continue
		}
		e, of := one(x.Name, x.Expression, cel.AnyType, "spec", "variables", i, "expression")
		r.names[x.Name] = len(r.variables)
		r.variables = append(r.variables, e)
		c.variables[x.Name] = kubecel.NewDeclField(x.Name, declared(of), true, nil, nil)
	}
	for i, x := range spec.Validations {
		e, _ := one("", x.Expression, cel.BoolType, "spec", "validations", i, "expression")
		r.validations, r.messages = append(r.validations, e), append(r.messages, nil)
		if x.MessageExpression != "" {
			m, _ := one("", x.MessageExpression, cel.StringType, "spec", "validations", i, "messageExpression")
			r.messages[i] = &m
		}
	}
	r.alone = r.isAlone()
}

// declared is a type as fields are declared with it; any for what is not simple.
func declared(of *cel.Type) *kubecel.DeclType {
	simple := map[*cel.Type]*kubecel.DeclType{cel.BoolType: kubecel.BoolType, cel.BytesType: kubecel.BytesType, cel.DoubleType: kubecel.DoubleType, cel.DurationType: kubecel.DurationType,
		cel.IntType: kubecel.IntType, cel.StringType: kubecel.StringType, cel.TimestampType: kubecel.TimestampType, cel.UintType: kubecel.UintType}
	if of == nil {
		return kubecel.DynType
	}
	if t, is := simple[of]; is {
		return t
	}
	switch p := of.Parameters(); {
	case of.Kind() == types.ListKind && len(p) == 1:
		return kubecel.NewListType(declared(p[0]), -1)
	case of.Kind() == types.MapKind && len(p) == 2:
		return kubecel.NewMapType(declared(p[0]), declared(p[1]), -1)
	}
	return kubecel.DynType
}

// same is what of params is the same for every object of a ward.
var same = regexp.MustCompile(`params\.(?:cluster\b|ward\.(?:name|owner|namespace|roster|keep|settle)\b)`)

// isAlone tells whether the expressions of a rule look at nothing beside the object.
func (r *Rule) isAlone() bool {
	spec := r.policy.Spec
	var all []string
	for _, x := range spec.MatchConditions {
		all = append(all, x.Expression)
	}
	for _, x := range spec.Variables {
		all = append(all, x.Expression)
	}
	for _, x := range spec.Validations {
		all = append(all, x.Expression, x.MessageExpression)
	}
	text := same.ReplaceAllString(strings.Join(all, "\n"), "")
	return !strings.Contains(text, "params") && !strings.Contains(text, "namespaceObject") && r.match.namespaces == nil
}

var identifier = regexp.MustCompile(`^[a-zA-Z_][a-zA-Z0-9_]*$`)

func where(keys []any) string {
	var out strings.Builder
	for _, k := range keys {
		switch k := k.(type) {
		case int:
			fmt.Fprintf(&out, "[%d]", k)
		case string:
			if out.Len() > 0 {
				out.WriteString(".")
			}
			out.WriteString(k)
		}
	}
	return out.String()
}

// position is where in an expression a mistake is, as the compiler says it.
var position = regexp.MustCompile(`ERROR: <input>:(\d+):(\d+): ([^\n]*)`)

// plainly is what the compiler says, one line a mistake, without the picture of the expression.
func plainly(text string) string {
	all := position.FindAllStringSubmatch(text, -1)
	if len(all) == 0 {
		return strings.ReplaceAll(text, "\n", " ")
	}
	var out []string
	for _, m := range all {
		text := fmt.Sprintf("line %s, column %s of it: %s", m[1], m[2], m[3])
		if strings.Contains(m[3], "'authorizer'") {
			text += " (nobody's rights are known where no API server is asked)"
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}
