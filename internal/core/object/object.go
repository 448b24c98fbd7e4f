// Package object knows what a Kubernetes object is: its identity, how it is read from a file, its canonical
// form, and which of its fields belong to whom. Start with Object and FieldSet.
package object

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
)

// Annotations and labels of Vigila, all under one domain.
const (
	// Manager is the field manager that every apply of Vigila uses.
	Manager = "vigila"
	// WardLabel marks what a ward keeps; its value is the ward's name.
	WardLabel = "vigila.dev/ward"
	// ServiceAnnotation names the service that keeps an object, so that two on one cluster are told apart. It is set by
	// the service; in a manifest it means nothing.
	ServiceAnnotation = "vigila.dev/service"
	// StepAnnotation gives an object's step, an integer; 0 when absent.
	StepAnnotation = "vigila.dev/step"
	// TaskAnnotation makes an object a task.
	TaskAnnotation = "vigila.dev/task"
	// CleanAnnotation says when a task's object is removed.
	CleanAnnotation = "vigila.dev/task-clean"
	// GuardAnnotation says what a run may never do to an object.
	GuardAnnotation = "vigila.dev/guard"
	// NoPrune and NoReplace are what it may say, both with a comma between.
	NoPrune   = "no-prune"
	NoReplace = "no-replace"
	// ReplaceAnnotation allows an object to be deleted and made again.
	ReplaceAnnotation    = "vigila.dev/replace"
	SecretFromAnnotation = "vigila.dev/secret-from" // on a Secret: it takes all keys of a place in a store, STORE/PATH
	// SecretFieldsAnnotation of any object but a Secret names fields of it that are secret, as pointers with commas between; so is what lies below them.
	SecretFieldsAnnotation = "vigila.dev/secret-fields"
)

// Ref is the identity of an object in one cluster, without its version: the same object served in two
// versions is one Ref.
type Ref struct {
	Group     string `json:"group,omitempty"`
	Kind      string `json:"kind"`
	Namespace string `json:"namespace,omitempty"`
	Name      string `json:"name"`
}

// String is the form people write: Kind/name, with the namespace in front when there is one.
func (r Ref) String() string {
	if r.Namespace == "" {
		return r.Kind + "/" + r.Name
	}
	return r.Namespace + "/" + r.Kind + "/" + r.Name
}

// Short is Kind/name.
func (r Ref) Short() string { return r.Kind + "/" + r.Name }

// Compare orders refs by namespace, kind, name and group.
func (r Ref) Compare(o Ref) int {
	return cmp.Or(strings.Compare(r.Namespace, o.Namespace), strings.Compare(r.Kind, o.Kind),
		strings.Compare(r.Name, o.Name), strings.Compare(r.Group, o.Group))
}

// Key is a stable text form that ParseKey reads back; for storage. Names may hold nearly every character (RBAC's do), so
// the name comes last and as it is; in the other parts, which can't hold them legally, "|" and "%" are escaped.
// Source: https://kubernetes.io/docs/concepts/overview/working-with-objects/names/#path-segment-names
func (r Ref) Key() string {
	return strings.Join([]string{escape.Replace(r.Group), escape.Replace(r.Kind), escape.Replace(r.Namespace), r.Name}, "|")
}

var escape, unescape = strings.NewReplacer("%", "%25", "|", "%7C"), strings.NewReplacer("%25", "%", "%7C", "|")

// ParseKey reads what Key wrote.
func ParseKey(s string) (Ref, error) {
	p := strings.SplitN(s, "|", 4)
	if len(p) != 4 {
		return Ref{}, fmt.Errorf("%q is not an object key of four parts", s)
	}
	return Ref{Group: unescape.Replace(p[0]), Kind: unescape.Replace(p[1]), Namespace: unescape.Replace(p[2]), Name: p[3]}, nil
}

// Secret tells whether the object's values must never be shown.
func (r Ref) Secret() bool { return r.Group == "" && r.Kind == "Secret" }

// Object is one declared or live object: its identity, its API version and its JSON body as decoded by
// encoding/json with integers kept as int64.
type Object struct {
	Ref     Ref
	Version string // apiVersion, such as apps/v1
	Body    map[string]any
	File    string // where it was declared; empty for a live object
	Line    int    // 1-based line of its document in File
}

// FromBody makes an Object of a decoded body. It fails when apiVersion, kind or metadata.name is missing.
func FromBody(body map[string]any) (Object, error) {
	version, _ := body["apiVersion"].(string)
	kind, _ := body["kind"].(string)
	if version == "" || kind == "" {
		return Object{}, fmt.Errorf("it has no apiVersion or no kind; every Kubernetes object needs both")
	}
	meta, _ := body["metadata"].(map[string]any)
	for _, key := range []string{"name", "namespace"} {
		if v, ok := meta[key]; ok && v != nil {
			if _, text := v.(string); !text {
				return Object{}, fmt.Errorf("%s has a metadata.%s that YAML reads as %v, not as a text; put it in quotes", kind, key, v)
			}
		}
	}
	name, _ := meta["name"].(string)
	if name == "" {
		if g, _ := meta["generateName"].(string); g != "" {
			return Object{}, fmt.Errorf("%s uses generateName %q: a declared object needs metadata.name, or each look at the repository would make a new one", kind, g)
		}
		return Object{}, fmt.Errorf("%s has no metadata.name", kind)
	}
	namespace, _ := meta["namespace"].(string)
	group, _, found := strings.Cut(version, "/")
	if !found {
		group = ""
	}
	return Object{Ref: Ref{Group: group, Kind: kind, Namespace: namespace, Name: name}, Version: version, Body: body}, nil
}

// At names the place an object was declared, as file:line.
func (o Object) At() string {
	if o.File == "" {
		return o.Ref.String()
	}
	return fmt.Sprintf("%s:%d", o.File, o.Line)
}

// Annotation reads one annotation of the object.
func (o Object) Annotation(name string) (string, bool) {
	meta, _ := o.Body["metadata"].(map[string]any)
	all, _ := meta["annotations"].(map[string]any)
	v, ok := all[name].(string)
	return v, ok
}

// Label reads one label of a body; empty when absent.
func Label(body map[string]any, name string) string {
	meta, _ := body["metadata"].(map[string]any)
	all, _ := meta["labels"].(map[string]any)
	v, _ := all[name].(string)
	return v
}

// Service is the id of the service that keeps a live object; empty when none says so.
func Service(body map[string]any) string {
	meta, _ := body["metadata"].(map[string]any)
	all, _ := meta["annotations"].(map[string]any)
	v, _ := all[ServiceAnnotation].(string)
	return v
}

// UID is the identity that the API server gave a live object; another object of the same name has another.
func UID(body map[string]any) string {
	meta, _ := body["metadata"].(map[string]any)
	s, _ := meta["uid"].(string)
	return s
}

// Hash is the SHA-256 of a value's canonical JSON (object keys sorted, no spaces), in hex.
func Hash(v any) string {
	b, err := json.Marshal(v)
	if err != nil { // only decoded JSON comes here, which always encodes
		panic(err)
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Clone copies a decoded JSON value deeply.
func Clone[T any](v T) T {
	return clone(any(v)).(T)
}

func clone(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, x := range v {
			out[k] = clone(x)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = clone(x)
		}
		return out
	default:
		return v
	}
}

// Kind names what is watched: a kind in one apiVersion, such as apps/v1 and Deployment.
type Kind struct{ Version, Kind string }
