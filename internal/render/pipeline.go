package render

import (
	"context"
	"errors"
	"slices"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// Pipeline is the way from a ward's tree to what is applied: it is read and rendered, placed, and held against rules. The service,
// vigila render and vigila check take the same way, so that what one refuses the others refuse.
type Pipeline struct {
	// Render renders; the function Render when nil.
	Render func(context.Context, Request) (*Result, error)
	// Service is the id of the service that keeps the objects; they bear it.
	Service string
	// Scopes tells whether an object lives in a namespace; what is defined beside it is known anyway.
	Scopes func(o object.Object) (namespaced bool, err error)
	// Rules may refuse what was placed, one after the other.
	Rules []Rule
}

// Rule says what of a ward's objects, as they would be applied, is not let in: an error with the places of them, or nil.
type Rule func(w ward.Ward, objects []object.Object) error

// Run takes the whole way. The result is what was rendered, also where it can't be applied. One mistake hides no other: what has
// none is placed and held against the rules as well.
func (p Pipeline) Run(ctx context.Context, r Request) (*Result, []object.Object, error) {
	render := p.Render
	if render == nil {
		render = Render
	}
	res, err := render(ctx, r)
	if res == nil {
		return nil, nil, err
	}
	placed, wrong := p.Place(r.Ward, res.Objects)
	return res, placed, errors.Join(err, wrong)
}

// Place takes the way from what was rendered on: the objects as they are applied.
func (p Pipeline) Place(w ward.Ward, objects []object.Object) ([]object.Object, error) {
	defined := declared.Definitions(objects)
	placed, err := Place(w, p.Service, objects, func(o object.Object) (bool, error) {
		if namespaced, ok := defined[[2]string{o.Ref.Group, o.Ref.Kind}]; ok {
			return namespaced, nil
		}
		return p.Scopes(o)
	})
	errs := []error{err}
	for _, rule := range p.Rules {
		errs = append(errs, rule(w, placed))
	}
	return placed, errors.Join(errs...)
}

// clusterWide are Kubernetes' own kinds that live in no namespace, by group; every other kind of these groups lives in one.
// Source: https://kubernetes.io/docs/reference/kubernetes-api/, v1.37
var clusterWide = map[string][]string{
	"":                             {"Namespace", "Node", "PersistentVolume", "ComponentStatus"},
	"apps":                         nil,
	"batch":                        nil,
	"autoscaling":                  nil,
	"policy":                       nil,
	"networking.k8s.io":            {"IngressClass", "IPAddress", "ServiceCIDR"},
	"rbac.authorization.k8s.io":    {"ClusterRole", "ClusterRoleBinding"},
	"coordination.k8s.io":          nil,
	"discovery.k8s.io":             nil,
	"events.k8s.io":                nil,
	"storage.k8s.io":               {"StorageClass", "CSIDriver", "CSINode", "VolumeAttachment", "VolumeAttributesClass"},
	"scheduling.k8s.io":            {"PriorityClass"},
	"node.k8s.io":                  {"RuntimeClass"},
	"apiextensions.k8s.io":         {"CustomResourceDefinition"},
	"apiregistration.k8s.io":       {"APIService"},
	"certificates.k8s.io":          {"CertificateSigningRequest", "ClusterTrustBundle"},
	"flowcontrol.apiserver.k8s.io": {"FlowSchema", "PriorityLevelConfiguration"},
	"admissionregistration.k8s.io": {"MutatingWebhookConfiguration", "ValidatingWebhookConfiguration", "ValidatingAdmissionPolicy", "ValidatingAdmissionPolicyBinding", "MutatingAdmissionPolicy", "MutatingAdmissionPolicyBinding"},
	"resource.k8s.io":              {"DeviceClass", "DeviceTaintRule", "ResourceSlice"},
	"gateway.networking.k8s.io":    {"GatewayClass"}, // the Gateway API's
}

// KnownScopes tells without a cluster whether an object lives in a namespace. Of a kind that Kubernetes does not have itself it is
// as its manifest has it.
func KnownScopes(o object.Object) (namespaced bool, err error) {
	wide, known := clusterWide[o.Ref.Group]
	if !known {
		return o.Ref.Namespace != "", nil
	}
	return !slices.Contains(wide, o.Ref.Kind), nil
}
