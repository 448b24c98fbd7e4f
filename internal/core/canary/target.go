// Package canary carries a change of a workload's Pod template in shares: a new version beside the old one, checked between the
// shares, and back by itself. It is pure: events go in, effects come out, and time is a value in the events. Until a canary is through
// nothing that ran before is another, except the weights of its routes. Start with Machine; Find says what a revision's canaries are.
package canary

import (
	"fmt"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// Labels and marks of what is made beside.
const (
	// TrackLabel tells the Pods of the new version from those of the old one.
	TrackLabel = "vigila.dev/track"
	// HashLabel tells the Pods of one ReplicaSet from those of another.
	// Source: https://kubernetes.io/docs/concepts/workloads/controllers/deployment/#pod-template-hash-label
	HashLabel = "pod-template-hash"
	// Mark stands before the hash of what a canary applied, in place of what is declared: as a whole it is pending.
	Mark = "canary "

	beside, former = "-new", "-old"
)

// Declared are objects by identity, as a revision declares them.
type Declared map[object.Ref]object.Object

// Target is one workload whose Pod template changes, with what leads to it.
type Target struct {
	Canary ward.Canary
	Ref    object.Ref // the workload
	Twin   object.Ref // what runs the new version beside it

	routes   []object.Object // as they were applied last; none by replicas
	after    []object.Object // the same as the revision declares them
	services []service
	copies   []copied
	template object.Object // the workload as the revision declares it,
	before   object.Object // and as it was applied last
	image    string        // of the version before
	checks   []ward.Check
}

// service is a Service that leads to the workload, as it was and as it will be.
type service struct{ was, will object.Object }

// copied is a ConfigMap or Secret that the new version reads under a name of its own.
type copied struct {
	of   object.Ref
	body object.Object
}

// Is tells whether an object is made by a canary for its own time, by what Made lists.
func (t *Target) Is(ref object.Ref) bool { return slices.Contains(t.Made(), ref) }

// Made lists what is made beside for the time of the canary, in the order in which it is made.
func (t *Target) Made() (out []object.Ref) {
	for _, c := range t.copies {
		out = append(out, c.body.Ref)
	}
	for _, s := range t.services {
		out = append(out, named(s.was.Ref, former), named(s.was.Ref, beside))
	}
	if t.InPlace() {
		return out
	}
	return append(out, t.Twin)
}

// InPlace tells that the new version takes the place of some of the workload's own Pods.
func (t *Target) InPlace() bool { return t.Canary.InPlace() }

// Alone names the Services that lead to the old Pods alone, and to the new ones.
func (t *Target) Alone() (old, next []string) {
	for _, s := range t.services {
		old, next = append(old, s.was.Ref.Name+former), append(next, s.was.Ref.Name+beside)
	}
	return old, next
}

// Routes lists the routes whose weights it moves.
func (t *Target) Routes() (out []object.Ref) {
	for _, r := range t.routes {
		out = append(out, r.Ref)
	}
	return out
}

// Needs lists the objects of before that it was found by.
func (t *Target) Needs() (out []object.Ref) {
	out = append([]object.Ref{t.Ref}, t.Routes()...)
	for _, s := range t.services {
		out = append(out, s.was.Ref)
	}
	for _, c := range t.copies {
		out = append(out, c.of)
	}
	return out
}

// Beside lists what is made beside, as objects, in the order of Made.
func (t *Target) Beside() []object.Object {
	out := append(t.Copies(), t.Services("")...)
	if t.InPlace() {
		return out
	}
	return append(out, t.TwinOf(1, 1))
}

func named(r object.Ref, suffix string) object.Ref {
	r.Name += suffix
	return r
}

// Find says what the canaries of a revision are: of the workloads that a ward's file names, those whose Pod template is another than
// what was applied last. was and will are declared objects; pending tells what of will the revision changes. What can't work is an
// error that says what to do.
func Find(w ward.Ward, was, will Declared, pending func(object.Ref) bool) (out []*Target, err error) {
	for _, c := range w.Canary {
		ref, ok := will.find(c.Of)
		if !ok {
			continue // what means nothing is told on the ward
		}
		old, had := was[ref]
		if !had || !pending(ref) || object.Hash(templateOf(old.Body)) == object.Hash(templateOf(will[ref].Body)) {
			continue // a first sync, or a change of something else
		}
		t, err := target(c, ref, was, will, pending)
		if err != nil {
			return nil, fmt.Errorf("the canary of %s can't be made: %w", c.Of, err)
		}
		out = append(out, t)
	}
	return out, nil
}

// Mistake is a canary that a ward file asks for, and that what the ward declares can't have.
type Mistake struct {
	Canary ward.Canary
	Text   string
}

// Mistakes holds the canaries of a ward file against what the ward declares: a workload that there is none of, a route that leads
// elsewhere.
func Mistakes(w ward.Ward, declared Declared) (out []Mistake) {
	for _, c := range w.Canary {
		ref, ok := declared.find(c.Of)
		if !ok {
			out = append(out, Mistake{c, fmt.Sprintf("canary means %s, and the ward declares nothing of that name", c.Of)})
			continue
		}
		if _, err := target(c, ref, declared, declared, func(object.Ref) bool { return false }); err != nil {
			out = append(out, Mistake{c, fmt.Sprintf("the canary of %s can't be made: %v", c.Of, err)})
		}
	}
	return out
}

// find is the first object, by namespace, that is meant by Kind/name.
func (d Declared) find(of string) (found object.Ref, ok bool) {
	for ref := range d {
		if Means(of, ref) && (!ok || ref.Compare(found) < 0) {
			found, ok = ref, true
		}
	}
	return found, ok
}

// Means tells whether a workload or a route is meant by Kind/name.
func Means(of string, ref object.Ref) bool {
	kind, name, _ := strings.Cut(of, "/")
	return ref.Kind == kind && ref.Name == name && (ref.Group == "apps" || ref.Group == "gateway.networking.k8s.io")
}

// Concerns tells whether canaries look at objects of a kind.
func Concerns(ref object.Ref) bool {
	switch ref.Group + "/" + ref.Kind {
	case "apps/Deployment", "apps/StatefulSet", "gateway.networking.k8s.io/HTTPRoute", "/Service", "/ConfigMap", "/Secret":
		return true
	}
	return false
}

func target(c ward.Canary, ref object.Ref, was, will Declared, pending func(object.Ref) bool) (*Target, error) {
	t := &Target{Canary: c, Ref: ref, Twin: named(ref, beside), image: imageOf(was[ref].Body), before: was[ref]}
	if t.InPlace() {
		t.Twin = ref
		for _, o := range []object.Object{was[ref], will[ref]} {
			if err := parts(o.Body); err != nil {
				return nil, err
			}
		}
	}
	t.template = will[ref]
	t.template.Body = object.Clone(t.template.Body)
	for _, other := range t.named(templateOf(t.template.Body)) {
		o, declared := will[other]
		if _, had := was[other]; declared && had && pending(other) {
			o.Body = object.Clone(o.Body)
			o.Ref = named(o.Ref, beside)
			rename(o.Body, o.Ref.Name)
			unmark(o.Body)
			t.copies = append(t.copies, copied{other, o})
		}
	}
	if c.ByReplicas() {
		return t, t.free(was, will)
	}
	if err := t.lead(was, will); err != nil {
		return nil, err
	}
	return t, t.free(was, will)
}

// parts tells why a StatefulSet can't be parted in two versions.
// Source: https://kubernetes.io/docs/concepts/workloads/controllers/statefulset/#update-strategies
func parts(body map[string]any) error {
	strategy := asMap(asMap(body["spec"])["updateStrategy"])
	if kind := text(strategy["type"]); kind != "" && kind != "RollingUpdate" {
		return fmt.Errorf("its updateStrategy is %s, so that its Pods are replaced by hand; write RollingUpdate", kind)
	}
	if n := number(asMap(strategy["rollingUpdate"])["partition"]); n != 0 {
		return fmt.Errorf("it declares a partition of its own, %d; leave it to the canary", n)
	}
	return nil
}

func number(v any) int {
	switch n := v.(type) {
	case int64:
		return int(n)
	case float64:
		return int(n)
	}
	return 0
}

// lead finds the routes and the Services that lead to the workload.
func (t *Target) lead(was, will Declared) error {
	for _, of := range t.Canary.Routes {
		ref, ok := was.find(of)
		if !ok || ref.Namespace != t.Ref.Namespace {
			return fmt.Errorf("this ward keeps no %s in namespace %s; let the ward declare it, or write by: replicas", of, t.Ref.Namespace)
		}
		after, ok := will[ref]
		if !ok {
			return fmt.Errorf("the revision takes %s away; take it away with another commit", of)
		}
		t.routes, t.after = append(t.routes, was[ref]), append(t.after, after)
		leads := false
		for _, b := range backends(was[ref].Body) {
			s, ok := was[serviceOf(b, t.Ref.Namespace)]
			if !ok || !selects(s.Body, templateOf(was[t.Ref].Body)) {
				continue
			}
			leads = true
			if !slices.ContainsFunc(t.services, func(x service) bool { return x.was.Ref == s.Ref }) {
				next, ok := will[s.Ref]
				if !ok {
					next = s
				}
				t.services = append(t.services, service{s, next})
			}
		}
		if !leads {
			return fmt.Errorf("no rule of %s leads to a Service of this ward that selects the Pods of %s", of, t.Ref.Short())
		}
	}
	return nil
}

// free tells whether what would be made beside has a name that nothing else has.
func (t *Target) free(was, will Declared) error {
	for _, ref := range t.Made() {
		for _, d := range []Declared{was, will} {
			if _, taken := d[ref]; taken {
				return fmt.Errorf("%s is declared, and would be made beside for its time; give it another name", ref.Short())
			}
		}
		if len(ref.Name) > 63 && ref.Kind == "Service" {
			return fmt.Errorf("the name of %s is too long: a Service's has at most 63 characters", ref.Short())
		}
	}
	return nil
}

func asMap(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}

func asList(v any) []any {
	l, _ := v.([]any)
	return l
}

func text(v any) string {
	s, _ := v.(string)
	return s
}

func templateOf(body map[string]any) map[string]any {
	return asMap(asMap(body["spec"])["template"])
}

// imageOf is the image of a workload's first container.
func imageOf(body map[string]any) string {
	for _, c := range asList(asMap(templateOf(body)["spec"])["containers"]) {
		return text(asMap(c)["image"])
	}
	return ""
}

func (t *Target) images() [2]string { return [2]string{t.image, imageOf(t.template.Body)} }

func rename(body map[string]any, name string) {
	meta := asMap(body["metadata"])
	meta["name"] = name
}

// backends lists the backends that the rules of a route lead to.
func backends(route map[string]any) (out []map[string]any) {
	for _, rule := range asList(asMap(route["spec"])["rules"]) {
		for _, b := range asList(asMap(rule)["backendRefs"]) {
			if m := asMap(b); m != nil {
				out = append(out, m)
			}
		}
	}
	return out
}

// serviceOf is the Service that a backend of a route in a namespace names; one without a name when it names something else.
func serviceOf(backend map[string]any, namespace string) object.Ref {
	if g := text(backend["group"]); g != "" && g != "core" {
		return object.Ref{}
	}
	if k := text(backend["kind"]); k != "" && k != "Service" {
		return object.Ref{}
	}
	if ns := text(backend["namespace"]); ns != "" {
		namespace = ns
	}
	return object.Ref{Kind: "Service", Namespace: namespace, Name: text(backend["name"])}
}

// selects tells whether a Service reaches the Pods of a template.
func selects(service, template map[string]any) bool {
	selector, labels := asMap(asMap(service["spec"])["selector"]), asMap(asMap(template["metadata"])["labels"])
	for k, v := range selector {
		if labels[k] != v {
			return false
		}
	}
	return len(selector) > 0
}

// named lists the ConfigMaps and Secrets that a Pod template names, each once.
func (t *Target) named(template map[string]any) (out []object.Ref) {
	eachName(template, func(kind string, m map[string]any, key string) {
		if name := text(m[key]); name != "" {
			ref := object.Ref{Kind: kind, Namespace: t.Ref.Namespace, Name: name}
			if !slices.Contains(out, ref) {
				out = append(out, ref)
			}
		}
	})
	return out
}

// eachName goes through every place where a Pod template names a ConfigMap or a Secret.
// Source: https://kubernetes.io/docs/reference/kubernetes-api/workload-resources/pod-v1/
func eachName(template map[string]any, do func(kind string, in map[string]any, key string)) {
	spec := asMap(template["spec"])
	at := func(in any, field, kind, key string) {
		if m := asMap(asMap(in)[field]); m != nil {
			do(kind, m, key)
		}
	}
	for _, v := range asList(spec["volumes"]) {
		at(v, "configMap", "ConfigMap", "name")
		at(v, "secret", "Secret", "secretName")
		for _, s := range asList(asMap(asMap(v)["projected"])["sources"]) {
			at(s, "configMap", "ConfigMap", "name")
			at(s, "secret", "Secret", "name")
		}
	}
	for _, field := range []string{"containers", "initContainers", "ephemeralContainers"} {
		for _, c := range asList(spec[field]) {
			for _, e := range asList(asMap(c)["envFrom"]) {
				at(e, "configMapRef", "ConfigMap", "name")
				at(e, "secretRef", "Secret", "name")
			}
			for _, e := range asList(asMap(c)["env"]) {
				at(asMap(e)["valueFrom"], "configMapKeyRef", "ConfigMap", "name")
				at(asMap(e)["valueFrom"], "secretKeyRef", "Secret", "name")
			}
		}
	}
	for _, s := range asList(spec["imagePullSecrets"]) {
		if m := asMap(s); m != nil {
			do("Secret", m, "name")
		}
	}
}
