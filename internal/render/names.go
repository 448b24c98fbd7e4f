package render

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"k8s.io/apimachinery/pkg/api/validate/content"
	"k8s.io/apimachinery/pkg/util/validation"

	"vigila.dev/vigila/internal/core/object"
)

// freeNames are Kubernetes' own kinds whose names may be more than those of domains, by group; "" is every kind of it. Services
// are held to it by some versions of the API server only, so nothing is said of them beyond that.
// Source: ValidateObjectMeta's name functions in https://github.com/kubernetes/kubernetes/tree/master/pkg/apis, v1.37
var freeNames = map[string][]string{
	"rbac.authorization.k8s.io":    {"Role", "RoleBinding", "ClusterRole", "ClusterRoleBinding"},
	"networking.k8s.io":            {"IPAddress", "ServiceCIDR"},
	"flowcontrol.apiserver.k8s.io": {"FlowSchema", "PriorityLevelConfiguration"},
	"certificates.k8s.io":          {"ClusterTrustBundle"},
}

// misnamed lists what of an object's name, namespace, labels and annotations the API server refuses whatever else it holds.
func misnamed(o object.Object) (out []string) {
	_, own := clusterWide[o.Ref.Group]
	var wrong []string
	switch {
	case !own || slices.Contains(freeNames[o.Ref.Group], o.Ref.Kind): // who serves the kind says what its names may be
		wrong = content.IsPathSegmentName(o.Ref.Name)
	case o.Ref.Group == "" && o.Ref.Kind == "Namespace":
		wrong = validation.IsDNS1123Label(o.Ref.Name)
	default:
		wrong = validation.IsDNS1123Subdomain(o.Ref.Name)
	}
	if len(wrong) > 0 {
		out = append(out, fmt.Sprintf("%q is no name that Kubernetes takes: %s", o.Ref.Name, short(wrong[0])))
	}
	if ns := o.Ref.Namespace; ns != "" {
		if wrong := validation.IsDNS1123Label(ns); len(wrong) > 0 {
			out = append(out, fmt.Sprintf("%q is no name of a namespace: %s", ns, short(wrong[0])))
		}
	}
	meta, _ := o.Body["metadata"].(map[string]any)
	for _, field := range []string{"labels", "annotations"} {
		all, _ := meta[field].(map[string]any)
		for _, key := range slices.Sorted(maps.Keys(all)) {
			if wrong := validation.IsQualifiedName(strings.ToLower(key)); len(wrong) > 0 {
				out = append(out, fmt.Sprintf("metadata.%s has the key %q, which Kubernetes refuses: %s", field, key, short(wrong[0])))
			}
			text, is := all[key].(string)
			switch {
			case all[key] == nil:
			case !is:
				out = append(out, fmt.Sprintf("metadata.%s.%s is no text; put its value in quotes", field, key))
			case field == "labels":
				if wrong := validation.IsValidLabelValue(text); len(wrong) > 0 {
					out = append(out, fmt.Sprintf("metadata.labels.%s is %q, which no label can be: %s", key, text, short(wrong[0])))
				}
			}
		}
	}
	return out
}

// short leaves out the examples and the expression behind a rule.
func short(text string) string {
	text, _, _ = strings.Cut(text, " (e.g.")
	return strings.TrimSuffix(text, ",")
}
