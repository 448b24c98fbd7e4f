package canary

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// PartOf is how many of live Pods are of the new version at a share, in percent, of a StatefulSet: one at least, and one stays old, but
// for one that stands alone.
func PartOf(live, share int) int {
	return max(min((live*share+99)/100, live-1), 1)
}

// Size is how many Pods of the new version stand beside live ones at a share, in percent: by a route the share of the live size, and
// all of it at 0, where only checks reach it; by replicas so many that the Service gives them about the share. One at least.
func Size(live, share int, byReplicas bool) int {
	n := 0
	switch {
	case live <= 0:
		live = 1
		fallthrough
	case share >= 100:
		n = live
	default:
		n = int(math.Ceil(float64(live*share) / 100))
	}
	switch {
	case byReplicas && share < 100:
		n = int(math.Round(float64(live*share) / float64(100-share)))
	case share == 0:
		n = live
	}
	return min(max(n, 1), live)
}

// Copies are the ConfigMaps and Secrets that the new version reads, under names of their own.
func (t *Target) Copies() (out []object.Object) {
	for _, c := range t.copies {
		out = append(out, c.body)
	}
	return out
}

// TwinOf is the workload that runs so many Pods of the new version beside the old one: the same template with a label and a selector
// of its own. In place it is the workload itself, of whose live Pods so many, the highest, get the new template, and all else is as it
// was.
// Source: https://kubernetes.io/docs/concepts/workloads/controllers/statefulset/#partitions
func (t *Target) TwinOf(size, live int) object.Object {
	if t.InPlace() {
		o := t.before
		o.Body = object.Clone(o.Body)
		spec := asMap(o.Body["spec"])
		spec["template"] = object.Clone(templateOf(t.template.Body))
		t.rereads(asMap(spec["template"]))
		strategy := asMap(spec["updateStrategy"])
		if strategy == nil {
			strategy = map[string]any{}
		}
		rolling := asMap(strategy["rollingUpdate"])
		if rolling == nil {
			rolling = map[string]any{}
		}
		rolling["partition"] = int64(max(live-size, 0))
		strategy["type"], strategy["rollingUpdate"], spec["updateStrategy"] = "RollingUpdate", rolling, strategy
		return o
	}
	o := t.template
	o.Body = object.Clone(o.Body)
	o.Ref = t.Twin
	rename(o.Body, t.Twin.Name)
	unmark(o.Body)
	spec := asMap(o.Body["spec"])
	spec["replicas"] = int64(size)
	label(asMap(spec["template"]))
	selector := asMap(spec["selector"])
	if selector == nil {
		selector = map[string]any{}
	}
	match := asMap(selector["matchLabels"])
	if match == nil {
		match = map[string]any{}
	}
	match[TrackLabel] = ward.TrackNew
	selector["matchLabels"], spec["selector"] = match, selector
	t.rereads(asMap(spec["template"]))
	return o
}

// rereads lets a Pod template read the copies that are made for the new version.
func (t *Target) rereads(template map[string]any) {
	eachName(template, func(kind string, in map[string]any, key string) {
		for _, c := range t.copies {
			if c.of.Kind == kind && c.of.Name == text(in[key]) {
				in[key] = c.body.Ref.Name
			}
		}
	})
}

// unmark takes away what the annotations of an object ask of Vigila: when its turn comes, what guards it. It is not for what is made beside.
func unmark(body map[string]any) {
	meta := asMap(body["metadata"])
	annotations := asMap(meta["annotations"])
	for key := range maps.Clone(annotations) {
		if strings.HasPrefix(key, "vigila.dev/") {
			delete(annotations, key)
		}
	}
	if len(annotations) == 0 { // an empty one would be owned as a whole
		delete(meta, "annotations")
	}
}

// label marks a Pod template as that of the new version.
func label(template map[string]any) {
	meta := asMap(template["metadata"])
	if meta == nil {
		meta = map[string]any{}
		template["metadata"] = meta
	}
	labels := asMap(meta["labels"])
	if labels == nil {
		labels = map[string]any{}
		meta["labels"] = labels
	}
	labels[TrackLabel] = ward.TrackNew
}

// Services are two for each that leads to the workload: one that reaches the old Pods alone, by the hash of their ReplicaSet, and one
// that reaches the new ones alone.
func (t *Target) Services(hash string) (out []object.Object) {
	for _, s := range t.services {
		out = append(out, only(s.was, former, HashLabel, hash), only(s.will, beside, TrackLabel, ward.TrackNew))
	}
	return out
}

// only is a Service like another one, that reaches fewer Pods. What the cluster gave that one alone (addresses, ports of nodes) is
// left out.
func only(s object.Object, suffix, key, value string) object.Object {
	s.Body = object.Clone(s.Body)
	s.Ref = named(s.Ref, suffix)
	rename(s.Body, s.Ref.Name)
	unmark(s.Body)
	spec := asMap(s.Body["spec"])
	for field := range maps.Clone(spec) {
		switch field {
		case "ports", "selector", "sessionAffinity", "sessionAffinityConfig", "ipFamilies", "ipFamilyPolicy", "publishNotReadyAddresses", "internalTrafficPolicy":
		default:
			delete(spec, field)
		}
	}
	for _, p := range asList(spec["ports"]) {
		delete(asMap(p), "nodePort")
	}
	asMap(spec["selector"])[key] = value
	return s
}

// maxRules is how many rules a route may have.
// Source: https://gateway-api.sigs.k8s.io/reference/spec/#httproutespec
const maxRules = 16

// Weighted is one of the routes with a share of its traffic, in percent, led to the new version. Every rule that leads to the
// workload's Service leads to the old and the new one by the share; what else it leads to keeps its proportion. Before them stand
// rules for those who ask for the new one by a header, as long as a route may have so many.
func (t *Target) Weighted(r object.Object, share int) (object.Object, error) {
	r.Body = object.Clone(r.Body)
	spec := asMap(r.Body["spec"])
	rules := asList(spec["rules"])
	var asked []any
	for _, rule := range rules {
		m := asMap(rule)
		refs, leads, err := t.split(asList(m["backendRefs"]), r.Ref.Namespace, share)
		if err != nil {
			return r, fmt.Errorf("%s: %w", r.Ref.Short(), err)
		}
		if leads {
			asked = append(asked, t.asking(m, r.Ref.Namespace))
			m["backendRefs"] = refs
		}
	}
	if len(rules)+len(asked) <= maxRules {
		spec["rules"] = append(asked, rules...)
	}
	return r, nil
}

// split gives the weights of a rule's backends.
func (t *Target) split(refs []any, namespace string, share int) (out []any, leads bool, err error) {
	for _, b := range refs {
		m := asMap(b)
		s := serviceOf(m, namespace)
		w := int64(1)
		switch v := m["weight"].(type) {
		case int64:
			w = v
		case float64:
			w = int64(v)
		}
		if !t.leadsTo(s) {
			other := object.Clone(m)
			other["weight"] = w * 100
			out = append(out, other)
			continue
		}
		leads = true
		old, next := object.Clone(m), object.Clone(m)
		old["name"], old["weight"] = s.Name+former, w*int64(100-share)
		next["name"], next["weight"] = s.Name+beside, w*int64(share)
		out = append(out, old, next)
	}
	if !leads {
		return refs, false, nil
	}
	return out, true, lighten(out)
}

// heaviest is the largest weight of a backend.
// Source: https://gateway-api.sigs.k8s.io/reference/spec/#httpbackendref
const heaviest = 1_000_000

// lighten divides weights by what they have in common.
func lighten(refs []any) error {
	common := int64(0)
	for _, b := range refs {
		for a, c := common, asMap(b)["weight"].(int64); ; a, c = c, a%c {
			if c == 0 {
				common = a
				break
			}
		}
	}
	for _, b := range refs {
		m := asMap(b)
		if common > 1 {
			m["weight"] = m["weight"].(int64) / common
		}
		if m["weight"].(int64) > heaviest {
			return fmt.Errorf("the weights of its backends are too large to be divided into shares; write smaller ones of the same proportion")
		}
	}
	return nil
}

func (t *Target) leadsTo(s object.Ref) bool {
	return slices.ContainsFunc(t.services, func(x service) bool { return x.was.Ref == s })
}

// asking is a rule like another one for requests with the header that asks for the new version.
func (t *Target) asking(rule map[string]any, namespace string) map[string]any {
	out := object.Clone(rule)
	if name := text(out["name"]); name != "" {
		out["name"] = name + beside
	}
	matches := asList(out["matches"])
	if len(matches) == 0 {
		matches = []any{map[string]any{}}
	}
	for _, m := range matches {
		asMap(m)["headers"] = append(without(asList(asMap(m)["headers"])), map[string]any{"name": ward.TrackHeader, "value": ward.TrackNew})
	}
	out["matches"] = matches
	var refs []any
	for _, b := range asList(out["backendRefs"]) {
		if s := serviceOf(asMap(b), namespace); t.leadsTo(s) {
			asMap(b)["name"], asMap(b)["weight"] = s.Name+beside, int64(1)
			refs = append(refs, b)
		}
	}
	out["backendRefs"] = refs
	return out
}

// without drops a match by the header itself: a name may come once.
func without(headers []any) []any {
	return slices.DeleteFunc(headers, func(h any) bool { return strings.EqualFold(text(asMap(h)["name"]), ward.TrackHeader) })
}
