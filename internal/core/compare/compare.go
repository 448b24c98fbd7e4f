// Package compare answers "who moved?": it holds what is declared, what Vigila applied and what is live against
// each other. Start with Stand, which gives a ward its standing, and Drift, which explains one object.
package compare

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
)

// Standing is where a ward is.
type Standing string

// The standings.
const (
	InStep    Standing = "in step"
	Behind    Standing = "behind"
	Drifted   Standing = "drifted"
	Contested Standing = "contested"
	Blind     Standing = "blind"
)

// Standings are the words of all standings.
func Standings() []string {
	return []string{string(InStep), string(Behind), string(Drifted), string(Contested), string(Blind)}
}

// Baseline is what Vigila last applied of one object, as the API server answered it. What is needed at every watch
// event is in it; the fields themselves are in Detail, and only read to explain a difference.
type Baseline struct {
	Ref      object.Ref
	Version  string         // apiVersion it was applied in
	Declared string         // hash of the declared object
	Imprint  object.Imprint // of the answer; of a Secret a keyed one
	UID      string
	Revision int64 // resourceVersion of the answer; older watch events say nothing about it
	// Intent is the number of the entry that is about to apply the object, 0 when none is. After a crash it
	// tells what may have been applied without its answer being kept.
	Intent int
	Size   int    // fields that Vigila applied
	Guards string // the object's guard annotation, as it was applied
	// Snapshot is where the object was applied from, when that is not what the ward holds as a whole: a part of a sync, or
	// one that was stopped or failed.
	Snapshot string
	Seen     int64   // resourceVersion of the newest state that was seen, when there is nothing more to say of it: marked, same, ready; else 0
	Detail   *Detail // nil where the record alone holds it
}

// Detail is the larger part of a baseline.
type Detail struct {
	Owned  object.FieldSet // what Vigila owned after the apply
	Fields []object.Field  // the answer on those fields; secret values are digests
	At     time.Time
	// Found is what others owned of the object when Vigila first applied it: no addition, it was there already.
	Found *fieldpath.Set
	Added []Difference // what others had added at the apply; told once, not kept by the record
}

// NoDetail is the detail of an object that was applied without an answer: nothing is known to be ours.
func NoDetail() *Detail { return &Detail{Owned: object.FieldSet{Set: &fieldpath.Set{}}} }

// NewBaseline keeps an answer of the API server to an apply of what was sent. mask replaces the values of Secrets. found
// is what the baseline before it held as Found; nil for an object that was never applied.
func NewBaseline(ref object.Ref, declared string, sent, answer map[string]any, leave []object.Pointer, mask Mask, found *fieldpath.Set, at time.Time) Baseline {
	owned := object.Owned(answer, sent).Without(leave, object.In(answer))
	if found == nil {
		found = object.Others(answer)
	}
	version, _ := answer["apiVersion"].(string)
	b := Baseline{Ref: ref, Version: version, Declared: declared, Imprint: mask.Imprint(ref, answer, leave), UID: object.UID(answer), Revision: ResourceVersion(answer),
		Detail: &Detail{Owned: owned, Fields: mask.Fields(ref, owned.Project(answer)), At: at, Found: found}}
	b.Summarise()
	if b.Imprint.Others != [16]byte{} {
		if b.Detail.Added = Additions(b, answer, leave, mask); len(b.Detail.Added) > 0 {
			b.Imprint.Others = [16]byte{} // what is there already is looked at again
		}
	}
	return b
}

// Summarise fills what Baseline repeats of its Detail.
func (b *Baseline) Summarise() {
	b.Size = b.Detail.Owned.Set.Size()
	for _, f := range b.Detail.Fields {
		if f.Path == "metadata.annotations["+object.GuardAnnotation+"]" {
			b.Guards, _ = f.Value.(string)
		}
	}
}

// Light is the baseline without its detail.
func (b Baseline) Light() Baseline {
	b.Detail = nil
	return b
}

// GuardedBy tells whether the object bore a guard when it was applied.
func (b Baseline) GuardedBy(guard string) bool {
	for g := range strings.SplitSeq(b.Guards, ",") {
		if strings.TrimSpace(g) == guard {
			return true
		}
	}
	return false
}

// Same tells that an object of this imprint and uid is as it was left: no drift, and no additions. When it is false,
// Drift and Additions tell.
func (b Baseline) Same(now object.Imprint, uid string) bool {
	return b.Imprint == now && (b.UID == uid || b.UID == "" || uid == "")
}

// Without is the baseline less the fields that are left to others.
func (b Baseline) Without(leave []object.Pointer) Baseline {
	if len(leave) == 0 || b.Detail == nil || b.Detail.Owned.Set == nil {
		return b
	}
	d := *b.Detail
	d.Owned = d.Owned.Without(leave, object.InFields(d.Fields))
	keep := map[string]bool{}
	for _, path := range object.SetPaths(d.Owned.Set) {
		keep[path] = true
	}
	var fields []object.Field
	for _, f := range d.Fields {
		if keep[f.Path] {
			fields = append(fields, f)
		}
	}
	d.Fields = fields
	b.Detail = &d
	return b
}

// ResourceVersion reads a body's resourceVersion as a number; they are comparable within one kind since
// Kubernetes 1.35 (KEP-5504). 0 when it is none.
func ResourceVersion(body map[string]any) int64 {
	var n int64
	_, _ = fmt.Sscan(metaString(body, "resourceVersion"), &n)
	return n
}

func metaString(body map[string]any, name string) string {
	meta, _ := body["metadata"].(map[string]any)
	s, _ := meta[name].(string)
	return s
}

// Mask replaces secret values by a keyed digest, so that "changed" and "unchanged" can be told without the value.
type Mask func(value string) string

// Fields masks the values below data and stringData of a Secret, and those of annotations that repeat them. Of another object it masks what
// looks like a secret, and the fields that the object says are secret; also says so beside it.
func (m Mask) Fields(ref object.Ref, fields []object.Field, also ...[]object.Field) []object.Field {
	hidden := hiddenIn(append(also, fields)...)
	out := make([]object.Field, len(fields))
	for i, f := range fields {
		out[i] = object.Field{Path: f.Path, Value: m.value(ref, f.Path, f.Value, hidden)}
	}
	return out
}

// hiddenIn are the fields that some fields of an object say are secret.
func hiddenIn(all ...[]object.Field) (hidden []string) {
	for _, fields := range all {
		for _, f := range fields {
			if f.Path != "metadata.annotations["+object.SecretFieldsAnnotation+"]" {
				continue
			}
			text, _ := f.Value.(string)
			hidden = append(hidden, secret.FieldsOf(text)...)
		}
	}
	return hidden
}

// Body is an object's body as it may be shown. also is another body of the object, which may say as well which of its fields are secret; may be
// nil.
func (m Mask) Body(ref object.Ref, body, also map[string]any) map[string]any {
	var hidden []string
	for _, b := range []map[string]any{body, also} {
		if text, ok := (object.Object{Body: b}).Annotation(object.SecretFieldsAnnotation); ok {
			hidden = append(hidden, hiddenIn([]object.Field{{Path: "metadata.annotations[" + object.SecretFieldsAnnotation + "]", Value: text}})...)
		}
	}
	touched := false
	out := secret.Walk(body, func(path, _, text string) string {
		now, _ := m.value(ref, path, text, hidden).(string)
		touched = touched || now != text
		return now
	})
	if meta, ok := out["metadata"].(map[string]any); ok && touched {
		if notes, ok := meta["annotations"].(map[string]any); ok && notes[lastApplied] != nil { // it repeats the values
			meta, notes = maps.Clone(meta), maps.Clone(notes)
			delete(notes, lastApplied)
			meta["annotations"] = notes
			out = maps.Clone(out)
			out["metadata"] = meta
		}
	}
	return out
}

// lastApplied is what client-side applies note of an object: all of it.
const lastApplied = "kubectl.kubernetes.io/last-applied-configuration"

// Imprint takes the imprint of an object; of a Secret a keyed one, since even a plain digest tells something.
func (m Mask) Imprint(ref object.Ref, body map[string]any, leave []object.Pointer) object.Imprint {
	i := object.ImprintOf(body, leave)
	if ref.Secret() {
		copy(i.Ours[:], m("ours "+i.Text()))
		if i.Others != [16]byte{} {
			copy(i.Others[:], m("others "+i.Text()))
		}
	}
	return i
}

func (m Mask) value(ref object.Ref, path string, v any, hidden []string) any {
	if !ref.Secret() {
		return m.concealed(path, v, hidden)
	}
	open := path == "type" || path == "immutable" || path == "apiVersion" || path == "kind" ||
		strings.HasPrefix(path, "metadata") && !strings.HasPrefix(path, "metadata.annotations") || strings.HasPrefix(path, "metadata.annotations[vigila.dev/")
	if open {
		return v
	}
	if text, ok := v.(string); ok {
		if refers := secret.Shown(text); refers != "" {
			return refers
		}
	}
	b, _ := json.Marshal(v)
	return "secret " + m(string(b))
}

// concealed is a value of an object that is no Secret.
func (m Mask) concealed(path string, v any, hidden []string) any {
	text, is := v.(string)
	switch {
	case secret.Covers(hidden, path):
		if is && strings.HasPrefix(text, "secret ") || v == nil {
			return v
		}
		b, _ := json.Marshal(v)
		return "secret " + m(string(b))
	case path == "metadata.annotations["+lastApplied+"]" && is:
		var all map[string]any
		if len(hidden) > 0 || json.Unmarshal([]byte(text), &all) == nil && len(secret.Concealed(all)) > 0 {
			return "secret " + m(text)
		}
		return v
	case is:
		return secret.Conceal(secret.NameOf(path), text, m)
	}
	return v
}

// Change is what happened to a field or an object.
type Change string

// The changes.
const (
	Changed Change = "changed"
	Removed Change = "removed"
	Added   Change = "added"
	Remade  Change = "made again" // the object was deleted and made again by someone else; its path is empty
)

// Difference is one field that is not as it was. From is the applied value (or, in a preview, the live one), To
// the live value (or, in a preview, the one a sync would set).
type Difference struct {
	Path    string
	Pointer string // that leaves the field to others; empty when none can, or it is Vigila's own mark
	Change  Change
	From    any
	To      any
	Who     string    // field manager; empty when ownership does not tell
	Likely  bool      // Who is the last client that wrote to the object, not a recorded owner of the field
	When    time.Time // zero when unknown; whole seconds
}

// Drift explains how a live object differs from its baseline, which must have its Detail, field by field, sorted by
// path. It is empty when the object is as Vigila left it.
func Drift(b Baseline, live map[string]any, mask Mask) []Difference {
	was := b.Detail.Fields
	if !b.Ref.Secret() { // kept by a version that knew less of what looks like a secret
		was = mask.Fields(b.Ref, was)
	}
	now := mask.Fields(b.Ref, b.Detail.Owned.Project(live), was)
	diffs := Fields(was, now)
	remade := b.UID != "" && object.UID(live) != "" && object.UID(live) != b.UID
	if len(diffs) == 0 && !remade {
		return nil
	}
	owners := object.Owners(live)
	pointers := pointersOf(b, owners)
	for i := range diffs {
		diffs[i].Pointer = pointers[diffs[i].Path]
		diffs[i].Who, diffs[i].When, diffs[i].Likely = who(owners, diffs[i], b.Detail.At)
	}
	if remade {
		diffs = append([]Difference{{Change: Remade, Who: maker(owners), When: created(live)}}, diffs...)
	}
	return diffs
}

// pointersOf names each owned field as a pointer, by its path.
func pointersOf(b Baseline, owners []object.Owner) map[string]string {
	out := map[string]string{}
	note := func(p fieldpath.Path) {
		if name := object.PathString(p); !ownMark(name) {
			out[name] = object.PointerTo(p)
		}
	}
	for _, o := range owners {
		o.Set.Iterate(note)
	}
	b.Detail.Owned.Set.Iterate(note)
	return out
}

// ownMark tells whether a field is one by which Vigila knows what it keeps.
func ownMark(path string) bool {
	return strings.HasPrefix(path, "metadata.labels[vigila.dev/") || strings.HasPrefix(path, "metadata.annotations[vigila.dev/")
}

// maker is the client that wrote to an object first.
func maker(owners []object.Owner) string {
	var first object.Owner
	for _, o := range owners {
		if o.Subresource == "" && (first.Manager == "" || o.Time.Before(first.Time)) {
			first = o
		}
	}
	return first.Manager
}

func created(live map[string]any) time.Time {
	t, _ := time.Parse(time.RFC3339, metaString(live, "creationTimestamp"))
	return t
}

// Additions lists what others added to a live object since Vigila first applied it, sorted by path, each with who
// and when. leave holds what the ward leaves to others.
func Additions(b Baseline, live map[string]any, leave []object.Pointer, mask Mask) []Difference {
	if b.Detail == nil || b.Detail.Owned.Set == nil || b.UID != object.UID(live) {
		return nil
	}
	var out []Difference
	for _, a := range b.Detail.Owned.Additions(live, b.Detail.Found) {
		if slices.ContainsFunc(leave, func(l object.Pointer) bool { return l.Covers(a.Path, object.In(live)) }) {
			continue
		}
		path := object.PathString(a.Path)
		out = append(out, Difference{Path: path, Pointer: object.PointerTo(a.Path), Change: Added, To: mask.value(b.Ref, path, a.Value, hiddenIn(b.Detail.Fields)), Who: a.Owner.Manager, When: a.Owner.Time})
	}
	return out
}

// who finds the client that owns a field now. A field that is gone belongs to nobody: then it is the last
// client that wrote to the object itself since the apply, and only likely.
func who(owners []object.Owner, d Difference, since time.Time) (string, time.Time, bool) {
	var best object.Owner
	if d.Change != Removed {
		for _, o := range owners {
			if o.Manager == object.Manager && o.Operation == "Apply" {
				continue
			}
			if owns(o, d.Path) && !o.Time.Before(best.Time) {
				best = o
			}
		}
		if best.Manager != "" {
			return best.Manager, best.Time, false
		}
	}
	for _, o := range owners {
		own := o.Manager == object.Manager && o.Operation == "Apply"
		if own || o.Subresource == "status" || o.Time.Before(since.Truncate(time.Second)) {
			continue
		}
		if !o.Time.Before(best.Time) {
			best = o
		}
	}
	return best.Manager, best.Time, best.Manager != ""
}

func owns(o object.Owner, path string) bool {
	found := false
	for _, p := range object.SetPaths(o.Set) {
		if p == path || strings.HasPrefix(p, path+".") || strings.HasPrefix(p, path+"[") {
			found = true
			break
		}
	}
	return found
}

// Fields compares two sorted lists of fields.
func Fields(from, to []object.Field) []Difference {
	var out []Difference
	i, j := 0, 0
	for i < len(from) || j < len(to) {
		switch {
		case j == len(to) || i < len(from) && from[i].Path < to[j].Path:
			out = append(out, Difference{Path: from[i].Path, Change: Removed, From: from[i].Value})
			i++
		case i == len(from) || to[j].Path < from[i].Path:
			out = append(out, Difference{Path: to[j].Path, Change: Added, To: to[j].Value})
			j++
		default:
			if !Equal(from[i].Value, to[j].Value) {
				out = append(out, Difference{Path: from[i].Path, Change: Changed, From: from[i].Value, To: to[j].Value})
			}
			i++
			j++
		}
	}
	return out
}

// Equal compares decoded JSON values; 1 and 1.0 are the same number.
func Equal(a, b any) bool {
	if x, ok := number(a); ok {
		y, ok := number(b)
		return ok && x == y
	}
	switch a := a.(type) {
	case map[string]any:
		m, ok := b.(map[string]any)
		if !ok || len(m) != len(a) {
			return false
		}
		for k, v := range a {
			w, ok := m[k]
			if !ok || !Equal(v, w) {
				return false
			}
		}
		return true
	case []any:
		l, ok := b.([]any)
		return ok && slices.EqualFunc(a, l, Equal)
	}
	return reflect.DeepEqual(a, b)
}

func number(v any) (float64, bool) {
	switch v := v.(type) {
	case int64:
		return float64(v), true
	case float64:
		return v, true
	case int:
		return float64(v), true
	}
	return 0, false
}

// noise is what the API server keeps about an object and nobody declares.
var noise = []string{"managedFields", "resourceVersion", "generation", "uid", "creationTimestamp", "selfLink"}

// Preview compares a live object with the answer to a dry-run apply of it: what a sync would really do. live is
// nil when the object does not exist yet. The result has every leaf, sorted by path.
func Preview(ref object.Ref, live, answer map[string]any, mask Mask) []Difference {
	keys := object.Owned(answer, nil).Set
	return mask.Differ(ref, leaves(live, keys), leaves(answer, keys))
}

// Differ compares two states of an object, as they may be shown.
func (m Mask) Differ(ref object.Ref, from, to []object.Field) []Difference {
	return Fields(m.Fields(ref, from, to), m.Fields(ref, to, from))
}

func leaves(body map[string]any, keys *fieldpath.Set) []object.Field {
	if body == nil {
		return nil
	}
	out := make(map[string]any, len(body))
	for k, v := range body {
		if k != "status" && k != "apiVersion" && k != "kind" {
			out[k] = v
		}
	}
	if meta, ok := out["metadata"].(map[string]any); ok {
		m := make(map[string]any, len(meta))
		for k, v := range meta {
			if empty, isMap := v.(map[string]any); !slices.Contains(noise, k) && (!isMap || len(empty) > 0) {
				m[k] = v
			}
		}
		out["metadata"] = m
	}
	return object.Flatten(out, keys)
}

// Moved is one object that two sets of declared objects do not hold alike.
type Moved struct {
	Ref    object.Ref
	Change Change // Added, Removed or Changed
	Fields []Difference
}

// Declared compares two sets of declared objects, field by field, sorted by object and path: what one entry held
// and what another held.
func Declared(from, to []object.Object, mask Mask) []Moved {
	index := func(all []object.Object) map[object.Ref]object.Object {
		out := make(map[object.Ref]object.Object, len(all))
		for _, o := range all {
			out[o.Ref] = o
		}
		return out
	}
	a, b := index(from), index(to)
	flat := func(o object.Object) []object.Field {
		if o.Body == nil {
			return nil
		}
		fields := leaves(o.Body, nil)
		if o.Version != "" {
			fields = append(fields, object.Field{Path: "apiVersion", Value: o.Version})
			slices.SortFunc(fields, func(a, b object.Field) int { return strings.Compare(a.Path, b.Path) })
		}
		return fields
	}
	var out []Moved
	for ref, old := range a {
		now, still := b[ref]
		m := Moved{Ref: ref, Change: Changed, Fields: mask.Differ(ref, flat(old), flat(now))}
		if !still {
			m.Change = Removed
		}
		if len(m.Fields) > 0 {
			out = append(out, m)
		}
	}
	for ref, now := range b {
		if _, had := a[ref]; !had {
			out = append(out, Moved{Ref: ref, Change: Added, Fields: mask.Differ(ref, nil, flat(now))})
		}
	}
	slices.SortFunc(out, func(x, y Moved) int { return x.Ref.Compare(y.Ref) })
	return out
}

// Item is one object and the hash of what is known of it.
type Item struct {
	Ref  object.Ref
	Hash string
}

// Pending tells what the repository moved: objects to make or change, and objects to remove, each sorted.
func Pending(declared []Item, baselines map[object.Ref]Baseline) (apply, remove []object.Ref) {
	seen := make(map[object.Ref]bool, len(declared))
	for _, d := range declared {
		seen[d.Ref] = true
		if b, ok := baselines[d.Ref]; !ok || b.Declared != d.Hash || b.Intent != 0 {
			apply = append(apply, d.Ref)
		}
	}
	for ref := range baselines {
		if !seen[ref] {
			remove = append(remove, ref)
		}
	}
	slices.SortFunc(apply, object.Ref.Compare)
	slices.SortFunc(remove, object.Ref.Compare)
	return apply, remove
}

// Input is what Stand looks at.
type Input struct {
	RepoKnown    bool // the repository was read, and its revision rendered
	ClusterKnown bool // every watch is live
	Pending      int  // objects to make, change or remove
	Unfinished   bool // what was begun is not there as a whole
	Drifted      int  // objects whose fields others changed, or that are gone
	Contested    int  // fields that another client takes back each time
}

// Stand gives the one word for a ward. Blind comes first: what was not looked at is never called in step.
func Stand(in Input) Standing {
	switch {
	case !in.RepoKnown || !in.ClusterKnown:
		return Blind
	case in.Contested > 0:
		return Contested
	case in.Drifted > 0:
		return Drifted
	case in.Pending > 0 || in.Unfinished:
		return Behind
	}
	return InStep
}

// Health is the worst health of a ward's objects; Unknown when it has none.
func Health(of []health.Result) health.Result {
	if len(of) == 0 {
		return health.Result{Word: health.Unknown}
	}
	worst := of[0]
	for _, r := range of[1:] {
		worst = health.Worst(worst, r)
	}
	return worst
}

// RestoredCluster is who is said to have changed what was different before the cluster's data were put back.
const RestoredCluster = "a restore of the cluster's data"

// AnotherService is how a second Vigila on the same cluster is told of.
func AnotherService(id string) string { return "another Vigila (" + id + ")" }
