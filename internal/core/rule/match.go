package rule

import (
	"slices"
	"strings"

	admission "k8s.io/api/admissionregistration/v1"
	"k8s.io/apimachinery/pkg/api/meta"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime/schema"

	"vigila.dev/vigila/internal/core/object"
)

// Group is the API group that Vigila's own documents have for rules: ward files and the like.
const Group = "vigila.dev"

func labelSet(of map[string]string) labels.Set { return labels.Set(of) }

// matcher tells which objects a rule looks at.
type matcher struct {
	in, out             []admission.NamedRuleWithOperations
	objects, namespaces func(map[string]string) bool // by labels; nil for all
}

// matcher reads what a policy matches.
// Source: https://kubernetes.io/docs/reference/kubernetes-api/policy-resources/validating-admission-policy-v1/ (MatchResources)
func (p *parser) matcher(c *admission.MatchResources) *matcher {
	if c == nil || len(c.ResourceRules) == 0 {
		p.fail(p.line("spec", "matchConstraints"), "spec.matchConstraints.resourceRules is missing: what is looked at, such as [{apiGroups: [apps], apiVersions: [v1], operations: [CREATE, UPDATE], resources: [deployments]}]")
		return nil
	}
	m := &matcher{out: c.ExcludeResourceRules, objects: p.selector(c.ObjectSelector, "objectSelector"), namespaces: p.selector(c.NamespaceSelector, "namespaceSelector")}
	for i, r := range c.ResourceRules {
		line := p.line("spec", "matchConstraints", "resourceRules", i)
		switch {
		case len(r.APIGroups) == 0 || len(r.APIVersions) == 0 || len(r.Operations) == 0 || len(r.Resources) == 0:
			p.fail(line, "apiGroups, apiVersions, operations and resources are all needed; [\"*\"] means every one")
		case !slices.ContainsFunc(r.Resources, func(s string) bool { return !strings.Contains(s, "/") || s == "*/*" }):
			// Nothing that is declared is a subresource; an API server may hold the rule all the same.
		case slices.Contains(r.Operations, admission.Create) || slices.Contains(r.Operations, admission.OperationAll):
			m.in = append(m.in, r)
		}
	}
	if len(m.in) == 0 && len(p.errs) == 0 {
		p.fail(p.line("spec", "matchConstraints", "resourceRules"), "it looks at nothing that is declared: a manifest is looked at as if it were created (operations: [CREATE, UPDATE]), and is no subresource")
	}
	return m
}

// subject is one thing that is looked at.
type subject struct {
	gvr        schema.GroupVersionResource
	plain      schema.GroupVersionResource // as its kind would be called where no declared definition says otherwise
	name       string
	namespace  string
	namespaced bool
	of         object.Object
	in         *judge
}

// may tells whether it looks at any object of a resource.
func (m *matcher) may(gvr schema.GroupVersionResource) bool {
	return slices.ContainsFunc(m.in, func(r admission.NamedRuleWithOperations) bool { return ofResource(r, gvr) })
}

// matches tells whether it looks at something. What a declaration calls a kind, in a definition that it bears itself, keeps no rule from it: it is looked
// at by either name, and left out by both.
func (m *matcher) matches(s *subject) bool {
	as := func(gvr schema.GroupVersionResource) func(admission.NamedRuleWithOperations) bool {
		return func(r admission.NamedRuleWithOperations) bool { return matchesRule(r, gvr, s) }
	}
	if !slices.ContainsFunc(m.in, as(s.gvr)) && !slices.ContainsFunc(m.in, as(s.plain)) || slices.ContainsFunc(m.out, as(s.gvr)) && slices.ContainsFunc(m.out, as(s.plain)) {
		return false
	}
	if m.objects != nil && !m.objects(texts(s.of.Body, "labels")) {
		return false
	}
	// As in an API server: of what lives in no namespace only a Namespace itself is selected by one.
	if m.namespaces == nil {
		return true
	}
	if s.gvr.Group == "" && s.gvr.Resource == "namespaces" {
		return m.namespaces(s.in.namespace(s.name))
	}
	return !s.namespaced || m.namespaces(s.in.namespace(s.namespace))
}

func ofResource(r admission.NamedRuleWithOperations, gvr schema.GroupVersionResource) bool {
	one := func(list []string, want string) bool {
		return slices.Contains(list, "*") || slices.Contains(list, want)
	}
	if !one(r.APIGroups, gvr.Group) || !one(r.APIVersions, gvr.Version) || !one(r.Resources, gvr.Resource) && !slices.Contains(r.Resources, "*/*") {
		return false
	}
	// Every group is every one of a cluster's API: ward files are of none of them.
	return gvr.Group != Group || slices.Contains(r.APIGroups, Group)
}

func matchesRule(r admission.NamedRuleWithOperations, gvr schema.GroupVersionResource, s *subject) bool {
	if !ofResource(r, gvr) {
		return false
	}
	if r.Scope != nil && (*r.Scope == admission.NamespacedScope && !s.namespaced || *r.Scope == admission.ClusterScope && s.namespaced) {
		return false
	}
	return len(r.ResourceNames) == 0 || slices.Contains(r.ResourceNames, s.name)
}

// resources tells the resource of a kind: as the objects themselves define it, else as Kubernetes names its own.
type resources map[schema.GroupKind]string

func resourcesOf(objects []object.Object) resources {
	out := resources{}
	for _, o := range objects {
		if o.Ref.Kind != "CustomResourceDefinition" {
			continue
		}
		spec, _ := o.Body["spec"].(map[string]any)
		names, _ := spec["names"].(map[string]any)
		group, _ := spec["group"].(string)
		kind, _ := names["kind"].(string)
		if plural, _ := names["plural"].(string); plural != "" {
			out[schema.GroupKind{Group: group, Kind: kind}] = plural
		}
	}
	return out
}

// of is what an object's kind is called, and what it would be called by its name alone.
func (r resources) of(o object.Object) (gvr, plain schema.GroupVersionResource) {
	gvk := schema.FromAPIVersionAndKind(o.Version, o.Ref.Kind)
	plain, _ = meta.UnsafeGuessKindToResource(gvk)
	if plural, known := r[gvk.GroupKind()]; known {
		return gvk.GroupVersion().WithResource(plural), plain
	}
	return plain, plain
}

// texts are the labels of a body.
func texts(body map[string]any, key string) map[string]string {
	m, _ := body["metadata"].(map[string]any)
	all, _ := m[key].(map[string]any)
	if len(all) == 0 {
		return nil
	}
	out := make(map[string]string, len(all))
	for k, v := range all {
		if s, ok := v.(string); ok {
			out[k] = s
		}
	}
	return out
}
