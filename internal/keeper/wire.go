package keeper

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"time"

	"k8s.io/apimachinery/pkg/api/meta"
	"k8s.io/apimachinery/pkg/runtime/schema"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
)

// What a service and a lookout say to each other. Events, wishes and effects are those of package loop, as plain values; what either does
// not know of a newer other is passed over, so fields are added and never given another meaning.

// The versions of the protocol that are spoken here. A side that speaks one of them is understood.
const (
	protocol      = 1
	protocolLeast = 1
)

// Hello begins: who the lookout is, and what it has. Its answer is a Welcome.
type Hello struct {
	Protocol, Least int
	Version         string
	Token           string // the first time
	Last            int64  // the number of its last write
}

// Welcome tells the lookout whose it is.
type Welcome struct {
	Protocol int
	Version  string
	Service  string // the id of the service: what objects are marked with
	Cluster  string
	Labels   map[string]string
	Digest   []byte // the key of digests: what was declared, and what stores have, is told by them
	Seen     int64  // the last of its writes that the service has
}

// keepWard is a ward that the lookout is to keep.
type keepWard struct {
	Name, File, Roster, Source string
	Home                       record.Home
	Limits                     roster.Limits     // of its roster, by now
	Labels                     map[string]string // of the cluster: what the ward is like there may follow from them
	// What the service knows of it, for a lookout that begins anew: the number of its newest entry, its hold and what is rejected.
	Number     int
	Hold       *logbook.Hold
	Rejections []logbook.Rejection
	Leaving    *logbook.Leaving // it is being removed: what the lookout has let go of already does not come back
}

// letGo ends that a ward is kept; its objects stay.
type letGo struct {
	Ward string
	logbook.Leaving
}

// wasRead tells of a look at a repository of a ward; its answer comes once that is taken in.
type wasRead struct {
	Ward, Name string
	AsOf       standing.AsOf
}

// ready tells that the lookout takes in what it is told, and which wards it keeps.
type ready struct{ Wards []string }

// wardEvent is an event of a ward, by its kind.
type wardEvent struct {
	Ward, Kind string
	Event      link.Raw
}

// wardWish is what somebody wants of a ward. Declared goes with a run to a revision of its own.
type wardWish struct {
	Ward, Kind string
	Wish       link.Raw
	Declared   *reading.Packed
}

// wardAsks is a question about a ward.
type wardAsks struct {
	Ward string
	Args link.Raw
}

// readWard asks what a ward declares now. Have is a snapshot whose objects the lookout has, Had the digest of what was declared last.
type readWard struct {
	Ward, Have, Had string
	AsOf            standing.AsOf
}

// readTold is the answer: what is declared, or why it can't be read. The objects that the lookout lacks came before.
type readTold struct {
	Same      bool // as it had it, at these
	Head, Tag string
	Declared  *reading.Packed
	Failed    *loop.Unreadable
}

// getObjects asks for the objects of a snapshot that are not in another, as parts.
type getObjects struct{ Snapshot, Have string }

// toldView is how a ward stands.
type toldView struct {
	Ward string
	View *standing.View
}

// toldFacts is what the service renders for.
type toldFacts struct {
	record.LookoutsFacts
	Problem string // why they can't be told
}

// askKind asks whether a kind lives in namespaces.
type askKind struct{ Version, Kind string }

// toldUse says which places of stores a ward declares references to.
type toldUse struct {
	Ward   string
	Places []secret.Place
}

// toldKnown is what stores have, as far as a ward may use them.
type toldKnown struct {
	Ward   string
	Others bool
	Known  []knownPlace
}

type knownPlace struct {
	secret.Place
	secret.Known
}

// askValue asks for the values of a place; they go to the lookout's key alone.
type askValue struct {
	Ward string
	secret.Place
}

// askSecret asks a lookout of a Secret of its own cluster, or where Namespace is empty of a place of a server that it asks: for digests of its values, its Version alone, or, where Key is not
// empty, that a value is set; whether it may be asked at all where Name is empty.
type askSecret struct {
	Store, Namespace, Name string
	Version                bool
	Key, Value             string
}

type toldSecret struct {
	Version string
	Digests map[string]string
	None    bool
	Failed  string
	Away    bool
}

type toldValue struct {
	Asks   bool   // the lookout asks the store itself
	Own    string // the namespace of the lookout's own cluster that has them, as the Secret that the path names
	Keys   map[string]string
	None   bool   // the store has nothing there
	Failed string // why it can't be read
	Away   bool   // and that this is of the store
}

// toldWrites are writes of a lookout, in their order; the answer is the number of the last that the service has.
type toldWrites struct{ All []record.Outgoing }

// toldWhole is all that the service is to have of some wards. With the last comes the number of the write that all of it is as of; -1 before.
type toldWhole struct {
	All  map[string]record.Whole
	UpTo int64
}

// toldTwins is how the same ward stands in other clusters: of each view what decides whose turn it is, and no more. Refs are what they follow there.
type toldTwins struct {
	Ward string
	By   map[string]*standing.View
	Refs map[string]string
}

// twinsOf tells of some views.
func twinsOf(id string, views map[string]*standing.View) toldTwins {
	out := toldTwins{id, map[string]*standing.View{}, map[string]string{}}
	for c, v := range views {
		t := &standing.View{ID: v.ID, Head: v.Head, Rejected: v.Rejected, Standing: v.Standing, Health: health.Result{Word: v.Health.Word}}
		if v.Run != nil {
			t.Run = &logbook.Entry{Number: v.Run.Number}
		}
		out.By[c], out.Refs[c] = t, v.Ward.From.Ref
	}
	return out
}

// views are those that were told of; never nil.
func (t toldTwins) views() map[string]*standing.View {
	if t.By == nil {
		return map[string]*standing.View{}
	}
	maps.DeleteFunc(t.By, func(_ string, v *standing.View) bool { return v == nil })
	for c, v := range t.By {
		v.Ward = &ward.Ward{From: ward.From{Ref: t.Refs[c]}}
	}
	return t.By
}

// leftThere is what a ward that is let go of leaves in the cluster.
type leftThere struct{ Keys []string }

// kinds are the kinds of some plain values, by name.
type kinds struct {
	fresh map[string]func() any
	names map[reflect.Type]string
}

func kindsOf(all map[string]any) kinds {
	k := kinds{map[string]func() any{}, map[reflect.Type]string{}}
	for name, v := range all {
		t := reflect.TypeOf(v)
		k.fresh[name], k.names[t] = func() any { return reflect.New(t).Interface() }, name
	}
	return k
}

func (k kinds) pack(v any) (name string, body link.Raw, err error) {
	if name = k.names[reflect.TypeOf(v)]; name == "" {
		return "", nil, fmt.Errorf("a %T does not go to a lookout", v)
	}
	body, err = link.Encode(v)
	return name, body, err
}

func (k kinds) open(name string, body link.Raw) (any, error) {
	fresh := k.fresh[name]
	if fresh == nil {
		return nil, fmt.Errorf("there is no %q here; this side is older than the other", name)
	}
	v := fresh()
	if err := link.Decode(body, v); err != nil {
		return nil, err
	}
	return reflect.ValueOf(v).Elem().Interface(), nil
}

// The events and the wishes that a lookout is told.
var (
	toldEvents = kindsOf(map[string]any{"was_same": loop.WasSame{}, "filed": loop.Filed{}, "forgotten": loop.Forgotten{}})
	toldWishes = kindsOf(map[string]any{"start": loop.StartRun{}, "stop": loop.StopRun{}, "hold": loop.Hold{}, "release": loop.Release{}, "reject": loop.Reject{}, "lift": loop.Lift{},
		"leave": loop.Leave{}, "stay": loop.Stay{}, "bring_up": loop.BringUp{}, "note_secret": loop.NoteSecret{}, "canary": loop.SayCanary{}, "be_written": loop.BeWritten{}})
)

// The kinds of a refusal beside those of a Fault.
const (
	refusedQuiet = 100 + iota
	refusedUnread
	refusedKind     // the cluster has no such kind
	refusedStranger // the lookout does not keep the ward, or not yet
)

// errNotKept tells that a lookout does not keep a ward, or not yet.
var errNotKept = errors.New("its lookout does not keep it yet")

// refusal is an error as the other side is told it; unrefused is its reverse.
func refusal(err error) error {
	if err == nil {
		return nil
	}
	var f *Fault
	r := &link.Refusal{Text: err.Error()}
	switch {
	case errors.As(err, &f):
		r.Kind = int(f.Kind)
		r.More, _ = link.Encode(faultMore{f.Guards, f.Run, f.Soon})
	case errors.Is(err, loop.ErrQuiet):
		r.Kind = refusedQuiet
	case errors.Is(err, loop.ErrUnread):
		r.Kind = refusedUnread
	case errors.Is(err, errNotKept):
		r.Kind = refusedStranger
	case meta.IsNoMatchError(err):
		r.Kind = refusedKind
	}
	return r
}

type faultMore struct {
	Guards []plan.Guard
	Run    int
	Soon   bool
}

func unrefused(err error, who string) error {
	var r *link.Refusal
	switch {
	case err == nil:
		return nil
	case errors.Is(err, link.ErrAway):
		return fault(Unreachable, "%s went away before it answered; whether it was done is seen once it is back", who)
	case !errors.As(err, &r):
		return err
	}
	switch {
	case r.Kind == refusedQuiet:
		return loop.ErrQuiet
	case r.Kind == refusedUnread:
		return loop.ErrUnread
	case r.Kind == refusedStranger:
		return errNotKept
	case r.Kind >= int(NotFound) && r.Kind <= int(Denied):
		f := &Fault{Kind: FaultKind(r.Kind), Text: r.Text}
		var more faultMore
		if len(r.More) > 0 && link.Decode(r.More, &more) == nil {
			f.Guards, f.Run, f.Soon = more.Guards, more.Run, more.Soon
		}
		return f
	}
	return errors.New(r.Text)
}

// noKind is the error for a kind that the lookout's cluster has not.
func noKind(o object.Object) error {
	gv, _ := schema.ParseGroupVersion(o.Version)
	return &meta.NoKindMatchError{GroupKind: schema.GroupKind{Group: gv.Group, Kind: o.Ref.Kind}, SearchedVersions: []string{gv.Version}}
}

// lacking are the objects of a snapshot that are not, as they are, in another that somebody has.
func lacking(ctx context.Context, in ledger, snapshot, have string) ([]declared.Whole, error) {
	want, err := in.SnapshotHashes(ctx, snapshot)
	if err != nil {
		return nil, err
	}
	there := map[object.Ref]string{}
	if have != "" {
		if there, err = in.SnapshotHashes(ctx, have); err != nil && !errors.Is(err, record.ErrNone) {
			return nil, err
		}
	}
	var refs []object.Ref
	for ref, hash := range want {
		if there[ref] != hash {
			refs = append(refs, ref)
		}
	}
	if len(refs) == 0 {
		return nil, nil
	}
	return in.Snapshot(ctx, snapshot, refs...)
}

// together is a snapshot of what was declared: the objects that came, and of the others those that are here. A wrong one is found by its id.
func together(ctx context.Context, in ledger, d *declared.Declaration, came []declared.Whole, have string) ([]declared.Whole, error) {
	by := map[object.Ref]declared.Whole{}
	for _, o := range came {
		by[o.Object.Ref] = o
	}
	var rest []object.Ref
	for _, o := range d.Objects {
		if x, is := by[o.Ref]; !is || x.Hash != o.Hash {
			rest = append(rest, o.Ref)
		}
	}
	if len(rest) > 0 && have != "" {
		all, err := in.Snapshot(ctx, have, rest...)
		if err != nil {
			return nil, err
		}
		for _, o := range all {
			by[o.Object.Ref] = o
		}
	}
	out := make([]declared.Whole, 0, len(d.Objects))
	for _, o := range d.Objects {
		x, is := by[o.Ref]
		if !is || x.Hash != o.Hash {
			return nil, fmt.Errorf("%s of the snapshot did not come", o.Ref.Short())
		}
		out = append(out, x)
	}
	if id := record.SnapshotID(out); id != d.Snapshot {
		return nil, fmt.Errorf("what came is snapshot %.12s, and %.12s was declared", id, d.Snapshot)
	}
	return out, nil
}

// awayText says that a lookout is not there.
func awayText(cluster string, since time.Time) string {
	if since.IsZero() {
		return fmt.Sprintf("the lookout of %s has not been here yet", cluster)
	}
	return fmt.Sprintf("the lookout of %s was heard of last at %s", cluster, since.UTC().Format("2006-01-02 15:04:05 MST"))
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
