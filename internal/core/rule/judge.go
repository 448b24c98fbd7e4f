package rule

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/common/types/ref"
	"github.com/google/cel-go/common/types/traits"
	celconfig "k8s.io/apiserver/pkg/apis/cel"

	"k8s.io/apimachinery/pkg/runtime/schema"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
)

// Facts is what a rule may know beside the object.
type Facts struct {
	Ward    map[string]any // params.ward: name, owner, namespace, roster
	Cluster map[string]any // params.cluster: name, labels, version
}

// Document is one of Vigila's own documents, as rules see it: its keys, and apiVersion, kind and metadata.name as objects have them.
type Document struct {
	Resource string // wards
	object.Object
}

// Finding is one thing that breaks a rule.
type Finding struct {
	Rule    string     `json:"rule"`
	Book    string     `json:"book"`
	Refuse  bool       `json:"refuse,omitempty"`
	Ref     object.Ref `json:"ref"` // of a document of Vigila's own: its group is Group
	File    string     `json:"file,omitempty"`
	Line    int        `json:"line,omitempty"`
	Text    string     `json:"text"`
	Mend    string     `json:"mend,omitempty"`
	Unclear bool       `json:"unclear,omitempty"` // it is not known whether the rule is broken: it can't be evaluated
	Except  *Except    `json:"except,omitempty"`  // lets it be, until its end
	Cut     bool       `json:"cut,omitempty"`     // the last one: what comes after it was held against nothing
}

// The bounds of all rules together, over all objects of a ward: each may take what an API server lets it for each object, which is seconds.
const maxFound = 5000 // findings that warn; of those that refuse twice as many

var maxSpent = 5 * int64(celconfig.RuntimeCELCostBudget) // CEL cost

// Own tells whether it is about one of Vigila's own documents.
func (f Finding) Own() bool { return f.Ref.Group == Group }

// Before is what the same rules found with the same facts, when some of the objects were as they are now. A rule that looks at one object alone finds the
// same of it again, and is not asked; nor is one that looks at others, where nothing in the namespace is another.
type Before struct {
	Findings []Finding
	Same     func(object.Object) bool // it was there, and is as it was
	Refs     []object.Ref             // all that there was
}

// moved are the namespaces in which something is another, has come or gone; "" when anything is.
func (b Before) moved(objects []object.Object) map[string]bool {
	out, there := map[string]bool{}, make(map[object.Ref]bool, len(objects))
	note := func(ref object.Ref) {
		out[""], out[ref.Namespace] = true, true
		if ref.Group == "" && ref.Kind == "Namespace" { // its labels are seen from within
			out[ref.Name] = true
		}
	}
	for _, o := range objects {
		if there[o.Ref] = true; !b.Same(o) {
			note(o.Ref)
		}
	}
	for _, ref := range b.Refs {
		if !there[ref] {
			note(ref)
		}
	}
	return out
}

// Judge holds everything against the rules that are for a ward, and gives back what breaks them: in the order of the objects, then of the
// rules. Values of Secrets are not shown to any rule: it sees "***" in place of one that is no reference. before may be nil.
func (s *Set) Judge(f Facts, objects []object.Object, own []Document, before ...Before) (out []Finding) {
	if slices.ContainsFunc(objects, func(o object.Object) bool { return o.Ref.Kind == "CustomResourceDefinition" }) {
		before = nil // what it defines may be called something else now
	}
	known, moved := map[foundAt][]Finding{}, map[string]bool{}
	for _, b := range before {
		moved = b.moved(objects)
		for _, x := range b.Findings {
			at := foundAt{x.Book, x.Rule, x.Ref}
			known[at] = append(known[at], x)
		}
	}
	name, _ := f.Ward["name"].(string)
	var rules []held
	for _, h := range s.held {
		if h.Concerns(f) {
			rules = append(rules, h)
		}
	}
	if len(rules) == 0 {
		return nil
	}
	j := newJudge(f, objects)
	byKind := map[[2]schema.GroupVersionResource][]*held{} // which of them may look at such a resource
	for _, o := range objects {
		sub := j.subject(o)
		var a *activation
		same := len(before) > 0 && before[0].Same(o)
		some, looked := byKind[[2]schema.GroupVersionResource{sub.gvr, sub.plain}]
		if !looked {
			for i := range rules {
				if rules[i].match.may(sub.gvr) || rules[i].match.may(sub.plain) {
					some = append(some, &rules[i])
				}
			}
			byKind[[2]schema.GroupVersionResource{sub.gvr, sub.plain}] = some
		}
		for _, h := range some {
			if same && (h.alone || !moved[o.Ref.Namespace]) {
				out = append(out, placedAt(known[foundAt{h.book, h.Name, o.Ref}], o)...)
				continue
			}
			if !h.match.matches(sub) {
				continue
			}
			if j.passes(h, len(out)) {
				continue
			}
			if a == nil {
				a = j.activation(o, sub)
			}
			out = append(out, h.judge(a, o, name)...)
			if end, cut := j.cut(h, o, len(out), rules); cut {
				return append(out, end)
			}
		}
	}
	for _, d := range own {
		sub := &subject{name: d.Ref.Name, of: d.Object, in: j}
		sub.gvr.Group, sub.gvr.Version, sub.gvr.Resource = Group, "v1", d.Resource
		sub.plain = sub.gvr
		for i := range rules {
			if h := &rules[i]; h.match.matches(sub) && !j.passes(h, len(out)) {
				out = append(out, h.judge(j.activation(d.Object, sub), d.Object, name)...)
				if end, cut := j.cut(h, d.Object, len(out), rules); cut {
					return append(out, end)
				}
			}
		}
	}
	if h := j.passed; h != nil {
		out = append(out, Finding{Rule: h.Name, Book: h.book, Ref: out[len(out)-1].Ref, Text: fmt.Sprintf("%d things are warned of or refused; what else would be warned of was not looked for", len(out)), Unclear: true, Cut: true})
	}
	return out
}

// passes tells whether a rule is not asked any more: it only warns, and very much is warned of already.
func (j *judge) passes(h *held, found int) bool {
	if found < maxFound || h.otherwise == Refuse {
		return false
	}
	j.passed = h
	return true
}

// cut tells that nothing more is held against the rules, once they have taken too much or found too much. What was not looked at is not well.
func (j *judge) cut(h *held, o object.Object, found int, rules []held) (Finding, bool) {
	text, refuse := "", slices.ContainsFunc(rules, func(h held) bool { return h.otherwise == Refuse })
	switch {
	case j.spent > maxSpent:
		text = fmt.Sprintf("the rules take more than they may for one ward (CEL cost %d), the last of them %s, so not everything was held against them; look for what goes through everything for each object", maxSpent, h.Name)
	case found >= 2*maxFound:
		text = fmt.Sprintf("%d things break the rules; what comes after them was not held against them", found)
	}
	return Finding{Rule: h.Name, Book: h.book, Refuse: refuse, Ref: o.Ref, File: o.File, Line: o.Line, Text: text, Unclear: true, Cut: true}, text != ""
}

// foundAt is where a finding is.
type foundAt struct {
	book, rule string
	ref        object.Ref
}

// placedAt are findings with the place that their object has now: lines above it may be others.
func placedAt(found []Finding, o object.Object) []Finding {
	out := slices.Clone(found)
	for i := range out {
		out[i].File, out[i].Line = o.File, o.Line
	}
	return out
}

// Concerns tells whether a rule is for a ward in a cluster.
func (r *Rule) Concerns(f Facts) bool {
	name, _ := f.Ward["name"].(string)
	owner, _ := f.Ward["owner"].(string)
	labels := map[string]string{}
	given, _ := f.Cluster["labels"].(map[string]any)
	for k, v := range given {
		labels[k], _ = v.(string)
	}
	return r.For.concerns(name, owner, labels)
}

// judge is what is known of everything that is looked at together.
type judge struct {
	facts     Facts
	all       []object.Object
	resources resources
	around    map[string]object.Object // declared namespaces
	kinds     map[string]*beside       // what there is in a namespace; nil until somebody asks
	params    map[string]any           // of objects in a namespace
	veiled    map[object.Ref]map[string]any
	spent     int64 // CEL cost of all that was evaluated
	passed    *held // the last that was not asked, since it only warns
}

// beside is what there is in a namespace, for rules that look at more than one object.
type beside struct {
	kinds map[string]any // of bodies, by kind
	pods  []any          // Pods that there are, and that are made of templates
}

func newJudge(f Facts, objects []object.Object) *judge {
	j := &judge{facts: f, all: objects, resources: resourcesOf(objects), around: map[string]object.Object{}, params: map[string]any{}, veiled: map[object.Ref]map[string]any{}}
	for _, o := range objects {
		if o.Ref.Group == "" && o.Ref.Kind == "Namespace" {
			j.around[o.Ref.Name] = o
		}
	}
	return j
}

// shown is a body as rules may see it.
func (j *judge) shown(o object.Object) map[string]any {
	if !o.Ref.Secret() {
		return o.Body
	}
	if j.veiled[o.Ref] == nil {
		j.veiled[o.Ref] = secret.Veiled(o.Body)
	}
	return j.veiled[o.Ref]
}

// beside is what there is in a namespace; in "" everything.
func (j *judge) beside(namespace string) *beside {
	if j.kinds == nil {
		j.kinds = map[string]*beside{}
		for _, o := range j.all {
			for _, ns := range slices.Compact([]string{"", o.Ref.Namespace}) {
				b := j.kinds[ns]
				if b == nil {
					b = &beside{kinds: map[string]any{}}
					j.kinds[ns] = b
				}
				of, _ := b.kinds[o.Ref.Kind].([]any)
				b.kinds[o.Ref.Kind] = append(of, j.shown(o))
				if p := pod(o); p != nil {
					b.pods = append(b.pods, p)
				}
			}
		}
	}
	if b := j.kinds[namespace]; b != nil {
		return b
	}
	return &beside{}
}

// pod is the Pod that an object is or makes, as rules see it; nil when it makes none.
func pod(o object.Object) map[string]any {
	at := o.Body
	switch o.Ref.Group + "/" + o.Ref.Kind {
	case "/Pod":
	case "batch/CronJob":
		at = inside(at, "spec", "jobTemplate", "spec", "template")
	case "apps/Deployment", "apps/StatefulSet", "apps/DaemonSet", "apps/ReplicaSet", "/ReplicationController", "batch/Job":
		at = inside(at, "spec", "template")
	default:
		return nil
	}
	labels, spec := inside(at, "metadata", "labels"), inside(at, "spec")
	return map[string]any{"of": o.Ref.Short(), "kind": o.Ref.Kind, "name": o.Ref.Name, "labels": labels, "spec": spec}
}

// inside is a mapping within another, empty when there is none.
func inside(m map[string]any, keys ...string) map[string]any {
	for _, k := range keys {
		m, _ = m[k].(map[string]any)
	}
	if m == nil {
		return map[string]any{}
	}
	return m
}

func (j *judge) subject(o object.Object) *subject {
	gvr, plain := j.resources.of(o)
	return &subject{gvr: gvr, plain: plain, name: o.Ref.Name, namespace: o.Ref.Namespace, namespaced: o.Ref.Namespace != "", of: o, in: j}
}

// namespace are the labels of a declared namespace; of one that is declared elsewhere its name is known alone.
func (j *judge) namespace(name string) map[string]string {
	out := map[string]string{"kubernetes.io/metadata.name": name}
	maps.Copy(out, texts(j.around[name].Body, "labels"))
	return out
}

// activation is what the expressions see of one object; what is not asked for is not made.
type activation struct {
	in        *judge
	of        object.Object
	sub       *subject
	object    any
	variables ref.Val
	spent     int64 // CEL cost of the rule that is evaluated
}

// ResolveName is as of cel.Activation.
func (a *activation) ResolveName(name string) (any, bool) {
	switch name {
	case "object":
		return a.object, true
	case "oldObject":
		return types.NullValue, true
	case "params":
		return a.in.paramsIn(a.of.Ref.Namespace), true
	case "request":
		return a.request(), true
	case "namespaceObject":
		return a.namespace(), true
	case "variables":
		return a.variables, true
	}
	return nil, false
}

// Parent is as of cel.Activation.
func (a *activation) Parent() cel.Activation { return nil }

func (j *judge) activation(o object.Object, s *subject) *activation {
	return &activation{in: j, of: o, sub: s, object: types.DefaultTypeAdapter.NativeToValue(j.shown(o))}
}

// request is the one that would create the object.
func (a *activation) request() any {
	group, v, _ := strings.Cut(a.of.Version, "/")
	if v == "" {
		group, v = "", group
	}
	gvr := a.sub.gvr
	kind := map[string]any{"group": group, "version": v, "kind": a.of.Ref.Kind}
	resource := map[string]any{"group": gvr.Group, "version": gvr.Version, "resource": gvr.Resource}
	return map[string]any{"kind": kind, "resource": resource, "requestKind": kind, "requestResource": resource, "name": a.sub.name, "namespace": a.sub.namespace,
		"operation": "CREATE", "dryRun": true, "userInfo": map[string]any{"username": object.Manager, "groups": []string{}}}
}

// namespace is the object's: as it is declared, or as far as it is known.
func (a *activation) namespace() any {
	ns := a.sub.namespace
	if ns == "" {
		return types.NullValue
	}
	if body := a.in.around[ns].Body; body != nil {
		return body
	}
	return map[string]any{"metadata": map[string]any{"name": ns, "labels": map[string]any{"kubernetes.io/metadata.name": ns}}}
}

// paramsIn is what params holds for objects in a namespace: of the ward's objects those that are in it too.
func (j *judge) paramsIn(namespace string) any {
	if p, known := j.params[namespace]; known {
		return p
	}
	b := j.beside(namespace)
	ward := map[string]any{}
	maps.Copy(ward, j.facts.Ward)
	ward["objects"], ward["pods"] = byKind{types.NewStringInterfaceMap(types.DefaultTypeAdapter, b.kinds)}, b.pods
	p := types.DefaultTypeAdapter.NativeToValue(map[string]any{"ward": types.DefaultTypeAdapter.NativeToValue(ward), "cluster": j.facts.Cluster})
	j.params[namespace] = p
	return p
}

// byKind is a mapping of kinds to objects in which a kind that there is none of has an empty list.
type byKind struct{ traits.Mapper }

func (m byKind) Find(key ref.Val) (ref.Val, bool) {
	if v, ok := m.Mapper.Find(key); ok {
		return v, true
	}
	return types.NewDynamicList(types.DefaultTypeAdapter, []any{}), true
}

func (m byKind) Get(key ref.Val) ref.Val { v, _ := m.Find(key); return v }

// variables are those of one rule for one object: each is evaluated when it is first asked for.
type variables struct {
	of   *program
	a    *activation
	done []ref.Val
}

// Get is the variable of a name; an error when it can't be evaluated.
func (v *variables) Get(name ref.Val) ref.Val {
	text, _ := name.(types.String)
	i, known := v.of.names[string(text)]
	if !known {
		return types.NewErr("there is no variable %s", text)
	}
	if v.done[i] == nil {
		val, err := v.a.eval(&v.of.variables[i])
		if err != nil {
			val = types.NewErr("variable %s: %v", text, err)
		}
		v.done[i] = val
	}
	return v.done[i]
}

// IsSet tells whether there is such a variable.
func (v *variables) IsSet(name ref.Val) ref.Val {
	text, _ := name.(types.String)
	_, known := v.of.names[string(text)]
	return types.Bool(known)
}

// variablesType is what the compiler calls a rule's variables.
var variablesType = types.NewObjectType("kubernetes.variables", traits.IndexerType|traits.FieldTesterType)

// ConvertToNative, ConvertToType, Equal, Type and Value make it a value; nobody can do anything with it but ask for one of them.
func (v *variables) ConvertToNative(reflect.Type) (any, error) { return v, nil }

// ConvertToType is as of ref.Val.
func (v *variables) ConvertToType(ref.Type) ref.Val { return types.NoSuchOverloadErr() }

// Equal is as of ref.Val.
func (v *variables) Equal(o ref.Val) ref.Val { return types.Bool(ref.Val(v) == o) }

// Type is as of ref.Val.
func (v *variables) Type() ref.Type { return variablesType }

// Value is as of ref.Val.
func (v *variables) Value() any { return v }

// judge evaluates the rule over one object that it looks at. ward is the ward's name.
func (h *held) judge(a *activation, o object.Object, ward string) (out []Finding) {
	find := func(unclear bool, text string) {
		f := Finding{Rule: h.Name, Book: h.book, Refuse: h.otherwise == Refuse, Ref: o.Ref, File: o.File, Line: o.Line, Text: text, Mend: h.Mend, Except: h.except(o.Ref, ward), Unclear: unclear}
		if unclear && h.Ignores() {
			f.Refuse = false
		}
		out = append(out, f)
	}
	a.spent = 0
	if len(h.Rule.variables) > 0 {
		a.variables = &variables{&h.Rule.program, a, make([]ref.Val, len(h.Rule.variables))}
	}
	for i := range h.conditions {
		c := &h.conditions[i]
		val, err := a.eval(c)
		if err != nil {
			find(true, fmt.Sprintf("rule %s can't be evaluated: its condition %s: %v", h.Name, c.name, err))
			return out
		}
		if val != types.True {
			return nil
		}
	}
	var says []string // of all that does not hold: an object breaks a rule once
	for i := range h.validations {
		val, err := a.eval(&h.validations[i])
		if err != nil {
			find(true, fmt.Sprintf("rule %s can't be evaluated%s: %v", h.Name, h.at(i), err))
			continue
		}
		if val != types.True {
			says = append(says, h.message(a, i))
		}
	}
	if len(says) > 0 {
		find(false, strings.Join(says, "; "))
	}
	return out
}

// at is where one of the validations is written; "" for a rule of Vigila's own.
func (h *held) at(i int) string {
	if h.File == "" {
		return ""
	}
	return fmt.Sprintf(" (%s:%d)", h.File, h.lines[i])
}

// eval evaluates one expression, within the limits that an API server has.
func (a *activation) eval(c *compiled) (ref.Val, error) {
	if a.spent > celconfig.RuntimeCELCostBudget {
		return nil, fmt.Errorf("it takes more than a rule may take for one object (CEL cost %d)", celconfig.RuntimeCELCostBudget)
	}
	val, details, err := c.Eval(a)
	if details != nil && details.ActualCost() != nil {
		a.spent += int64(*details.ActualCost())
		a.in.spent += int64(*details.ActualCost())
	}
	if err != nil {
		return nil, err
	}
	return val, nil
}

// message is what a validation that failed says. Source: the API server's, of the fields message and messageExpression.
func (h *held) message(a *activation, i int) string {
	v := h.policy.Spec.Validations[i]
	if m := h.messages[i]; m != nil {
		if val, err := a.eval(m); err == nil {
			if text, ok := val.Value().(string); ok {
				text = strings.TrimSpace(text)
				if text != "" && len(text) <= celconfig.MaxEvaluatedMessageExpressionSizeBytes && !strings.Contains(text, "\n") {
					return text
				}
			}
		}
	}
	if v.Message != "" {
		return strings.TrimSpace(v.Message)
	}
	return "it does not hold that " + strings.Join(strings.Fields(v.Expression), " ")
}

// Tell sorts findings: those that refuse first, then by place and rule.
func Tell(all []Finding) {
	slices.SortStableFunc(all, func(a, b Finding) int {
		if a.Refuse != b.Refuse {
			return map[bool]int{true: -1, false: 1}[a.Refuse]
		}
		return strings.Compare(a.Rule, b.Rule)
	})
}
