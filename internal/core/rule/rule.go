// Package rule holds what manifests must keep, in Kubernetes' own format, against what was rendered, without a cluster. Start with
// Rule, Book and Set.
package rule

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
	admission "k8s.io/api/admissionregistration/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	strict "sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
)

// The annotations of a policy that say what its own format does not.
const (
	OtherwiseAnnotation = "vigila.dev/otherwise" // what becomes of what breaks the rule: refuse or warn
	WhyAnnotation       = "vigila.dev/why"       // the reason, for people
	MendAnnotation      = "vigila.dev/mend"      // what to write instead
	ForAnnotation       = "vigila.dev/for"       // whom it is for, as YAML: {owners: [], wards: [], clusters: {}}
)

// Otherwise is what becomes of what breaks a rule.
type Otherwise string

// What it may be; Off where a rulebook wants none of a rule.
const (
	Refuse Otherwise = "refuse"
	Warn   Otherwise = "warn"
	Off    Otherwise = "off"
)

// For is whom a rule is for: everybody when it names nobody. Owners and wards are patterns as of path.Match.
type For struct {
	Owners   []string
	Wards    []string
	Clusters map[string]string // labels
}

// String says whom it is for, in words; "" for everybody.
func (f For) String() string {
	var out []string
	if len(f.Owners) > 0 {
		out = append(out, "wards of "+strings.Join(f.Owners, ", "))
	}
	if len(f.Wards) > 0 {
		out = append(out, "wards "+strings.Join(f.Wards, ", "))
	}
	for _, k := range slices.Sorted(maps.Keys(f.Clusters)) {
		out = append(out, "clusters with "+k+"="+f.Clusters[k])
	}
	return strings.Join(out, "; ")
}

// Rule is one thing that manifests must keep.
type Rule struct {
	Name      string
	Why, Mend string
	Otherwise Otherwise
	For       For
	File      string
	Line      int
	Text      string // its document, as written

	policy *admission.ValidatingAdmissionPolicy
	lines  []int // of its validations
	match  *matcher
	program
}

// policyVersion and policyKind are what a rule's document is.
// Source: https://kubernetes.io/docs/reference/access-authn-authz/validating-admission-policy/
const (
	policyVersion = "admissionregistration.k8s.io/v1"
	policyKind    = "ValidatingAdmissionPolicy"
	bindingKind   = policyKind + "Binding"
)

// Most is how many rules one rulebook may have, and validations one rule.
const Most = 200

// Parse reads every rule of a file: ValidatingAdmissionPolicies. What binds them in a cluster is passed over. All mistakes are reported at once,
// each an *object.SyntaxError, joined; so are expressions that do not compile.
func Parse(file string, data []byte) ([]*Rule, error) {
	docs, err := object.Own(file, data, 2*Most) // what binds them is passed over
	if err != nil {
		return nil, err
	}
	var out []*Rule
	var errs []error
	for _, doc := range docs {
		r, err := parseOne(file, doc)
		if errs = append(errs, err); err == nil && r != nil {
			out = append(out, r)
		}
	}
	return out, object.Mistakes(errs...)
}

// parser is the reading of one document.
type parser struct {
	file string
	doc  object.Document
	root *yaml.Node
	errs []error
}

func (p *parser) fail(line int, format string, args ...any) {
	if object.Enough(p.errs) {
		return
	}
	p.errs = append(p.errs, &object.SyntaxError{File: p.file, Line: line, Text: fmt.Sprintf(format, args...)})
}

// line is that of a part of the document, or of what is nearest around it.
func (p *parser) line(keys ...any) int {
	n, line := p.root, p.root.Line
	for _, k := range keys {
		found := false
		switch k := k.(type) {
		case string:
			for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content) && !found; i += 2 {
				if n.Content[i].Value == k {
					line, n, found = n.Content[i].Line, n.Content[i+1], true
				}
			}
		case int:
			if n.Kind == yaml.SequenceNode && k < len(n.Content) {
				n, found = n.Content[k], true
				line = n.Line
			}
		}
		if !found {
			break
		}
	}
	return p.doc.Line - 1 + line
}

func parseOne(file string, doc object.Document) (*Rule, error) {
	body, err := object.DecodeYAML(file, doc)
	if err != nil {
		return nil, err
	}
	root, err := object.Tree(file, doc)
	if err != nil {
		return nil, err
	}
	p := &parser{file: file, doc: doc, root: root}
	r := &Rule{File: file, Line: p.line(), Text: strings.TrimLeft(string(doc.Text), "\n"), policy: &admission.ValidatingAdmissionPolicy{}}
	what, _ := body.(map[string]any)
	version, _ := what["apiVersion"].(string)
	switch kind, _ := what["kind"].(string); {
	case kind == bindingKind:
		return nil, nil // it says where an API server holds it, and means nothing here
	case kind != policyKind || version != policyVersion:
		return nil, &object.SyntaxError{File: file, Line: r.Line, Text: fmt.Sprintf("a rulebook holds rules alone, each apiVersion: %s, kind: %s; this is %s of %s", policyVersion, policyKind, cmp.Or(kind, "no kind"), cmp.Or(version, "no apiVersion"))}
	}
	if err := strict.UnmarshalStrict(doc.Text, r.policy); err != nil {
		return nil, &object.SyntaxError{File: file, Line: r.Line, Text: "the policy can't be read: " + strings.TrimPrefix(strings.TrimPrefix(err.Error(), "error unmarshaling JSON: while decoding JSON: "), "json: ")}
	}
	r.Name = r.policy.Name
	p.head(r)
	p.spec(r)
	if len(p.errs) == 0 {
		p.compile(r)
	}
	if len(p.errs) > 0 {
		return nil, object.Mistakes(p.errs...)
	}
	return r, nil
}

var nameForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,61}[a-z0-9])?$`)

// head reads the name and what the annotations say.
func (p *parser) head(r *Rule) {
	if !nameForm.MatchString(r.Name) {
		p.fail(p.line("metadata", "name"), "metadata.name is %q; write small letters, digits, dots and dashes, at most 63", r.Name)
	}
	notes := r.policy.Annotations
	r.Why, r.Mend = notes[WhyAnnotation], notes[MendAnnotation]
	r.Otherwise = Otherwise(cmp.Or(notes[OtherwiseAnnotation], string(Refuse)))
	if r.Otherwise != Refuse && r.Otherwise != Warn {
		p.fail(p.line("metadata", "annotations", OtherwiseAnnotation), "%s is %q; it is refuse or warn", OtherwiseAnnotation, string(r.Otherwise))
	}
	known := []string{OtherwiseAnnotation, WhyAnnotation, MendAnnotation, ForAnnotation}
	for name := range notes {
		if strings.HasPrefix(name, "vigila.dev/") && !slices.Contains(known, name) {
			p.fail(p.line("metadata", "annotations", name), "unknown annotation %s; %s", name, nearest.Words(name, known))
		}
	}
	if text := notes[ForAnnotation]; text != "" {
		line := p.line("metadata", "annotations", ForAnnotation)
		var in struct {
			Owners   []string          `json:"owners"`
			Wards    []string          `json:"wards"`
			Clusters map[string]string `json:"clusters"`
		}
		if err := strict.UnmarshalStrict([]byte(text), &in); err != nil {
			p.fail(line, "%s is to be {owners: [ticketing], wards: [fare-*], clusters: {tier: production}}: %v", ForAnnotation, err)
		}
		r.For = For{in.Owners, in.Wards, in.Clusters}
		for _, pattern := range slices.Concat(in.Owners, in.Wards) {
			if _, err := path.Match(pattern, "x"); err != nil {
				p.fail(line, "%s: %q is no pattern", ForAnnotation, pattern)
			}
		}
	}
}

// spec reads what the policy wants.
func (p *parser) spec(r *Rule) {
	spec := r.policy.Spec
	switch {
	case spec.ParamKind != nil:
		p.fail(p.line("spec", "paramKind"), "params holds the ward and the cluster here (params.ward, params.cluster); a rule can read no %s", spec.ParamKind.Kind)
	case len(spec.Validations) == 0:
		p.fail(p.line("spec"), "spec.validations is missing: what must be true, such as [{expression: object.spec.replicas > 1}]")
	case len(spec.Validations) > Most || len(spec.Variables) > Most || len(spec.MatchConditions) > Most:
		p.fail(p.line("spec"), "a rule has at most %d validations, variables and conditions each", Most)
	}
	if f := spec.FailurePolicy; f != nil && *f != admission.Fail && *f != admission.Ignore {
		p.fail(p.line("spec", "failurePolicy"), "failurePolicy is %q; it is Fail or Ignore", *f)
	}
	for i := range spec.Validations {
		r.lines = append(r.lines, p.line("spec", "validations", i))
	}
	r.match = p.matcher(spec.MatchConstraints)
}

// Ignores tells whether a rule that can't be evaluated lets pass, as its failurePolicy says; else it refuses.
func (r *Rule) Ignores() bool {
	return r.policy.Spec.FailurePolicy != nil && *r.policy.Spec.FailurePolicy == admission.Ignore
}

// Means says which objects a rule looks at, in words: resources with their groups.
func (r *Rule) Means() string {
	var out []string
	for _, x := range r.policy.Spec.MatchConstraints.ResourceRules {
		for _, res := range x.Resources {
			if len(x.APIGroups) == 1 && x.APIGroups[0] != "" && x.APIGroups[0] != "*" && (strings.Contains(x.APIGroups[0], ".") || res == "*") {
				res += " of " + x.APIGroups[0]
			}
			out = append(out, res)
		}
	}
	return strings.ReplaceAll(strings.Join(slices.Compact(out), ", "), "*", "all")
}

// concerns tells whether a rule is for a ward in a cluster.
func (f For) concerns(name, owner string, labels map[string]string) bool {
	like := func(patterns []string, s string) bool {
		return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool { ok, _ := path.Match(p, s); return ok })
	}
	for k, v := range f.Clusters {
		if labels[k] != v {
			return false
		}
	}
	return like(f.Owners, owner) && like(f.Wards, name)
}

// selector compiles a label selector; one that is absent means everything.
func (p *parser) selector(s *metav1.LabelSelector, where string) func(map[string]string) bool {
	if s == nil {
		return nil
	}
	sel, err := metav1.LabelSelectorAsSelector(s)
	if err != nil {
		p.fail(p.line("spec", "matchConstraints", where), "%s can't be read: %v", where, err)
		return nil
	}
	if sel.Empty() {
		return nil
	}
	return func(labels map[string]string) bool { return sel.Matches(labelSet(labels)) }
}
