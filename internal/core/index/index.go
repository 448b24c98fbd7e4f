// Package index holds what is known of the objects that one ward keeps: what was applied of each (its baseline), and how it is in
// the cluster. It does no IO: states and answers go in, and what is to be looked at next comes out. Start with Index.
package index

import (
	"iter"
	"maps"
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// Ward is what an index asks of the ward whose objects it holds.
type Ward interface {
	// Left lists the fields of an object that the ward file leaves to others.
	Left(object.Ref) []object.Pointer
	// Scaler names the autoscaler that has an object's replicas; empty when none has.
	Scaler(object.Ref) string
	// Declares tells whether somebody would put an object back: it is declared now, or part of what was applied as a whole.
	// While it is not known what is declared, everything is.
	Declares(object.Ref) bool
	// Detail reads the larger part of an object's baseline.
	Detail(object.Ref) (*compare.Detail, error)
	// Version is the apiVersion in which the ward deals with an object.
	Version(object.Ref) string
	// Moving is the apiVersion in which the run that goes on applies an object; empty when it does not.
	Moving(object.Ref) string
	// Working tells whether the run that goes on works on an object.
	Working(object.Ref) bool
	// Applied is the resourceVersion of the answer to the apply of that run; 0 when there is none.
	Applied(object.Ref) int64
}

// Settings are what of a ward and a service an index has to know. They may change.
type Settings struct {
	Service   string         // the id of this service
	Mask      compare.Mask   // of secret values
	Additions ward.Additions // keep.additions: ignore, report or remove
	Rules     health.Rules
}

// Index is what is known of a ward's objects. It is used by one goroutine.
type Index struct {
	Settings
	Contests compare.Contests

	ward      Ward
	baselines map[object.Ref]compare.Baseline // without details
	lives     map[object.Ref]*Live            // of what is not plain: thousands are, and their baseline says it all
	kept      map[object.Kind]int             // how many baselines there are of each kind
	moves     uint64                          // grows with every change of a baseline
	looks     looks

	odd    map[object.Ref]bool // kept objects that are not plainly as they should be: there is more to say of them
	unseen map[object.Ref]bool // kept objects that nobody has looked at yet
	doubts map[object.Ref]bool // kept objects that may have been applied without an answer
	dirty  map[object.Ref]bool // objects of which something has changed since those were made
}

// New is the index of a ward that keeps nothing yet.
func New(w Ward, s Settings) *Index {
	return &Index{Settings: s, ward: w, baselines: map[object.Ref]compare.Baseline{}, lives: map[object.Ref]*Live{}, kept: map[object.Kind]int{}}
}

// Keep takes a baseline in, without its detail.
func (x *Index) Keep(b compare.Baseline) {
	old, had := x.baselines[b.Ref]
	if had {
		x.uncount(old)
		if b.Seen == 0 && b.UID == old.UID {
			b.Seen = old.Seen
		}
		if l := x.lives[b.Ref]; l != nil && l.Unweighed && old.Intent != 0 && b.Intent == 0 { // it is in doubt no more, and what was seen then says nothing
			l.Watched, l.Verified, l.Unweighed = false, false, false
		}
	}
	x.kept[kindOf(b)]++
	x.baselines[b.Ref] = b.Light()
	x.moves++
	x.mark(b.Ref)
}

// Drop forgets a baseline. What is known of the object stays, as of one that is not kept.
func (x *Index) Drop(ref object.Ref) {
	if b, had := x.baselines[ref]; had {
		x.uncount(b)
	}
	delete(x.baselines, ref)
	x.moves++
	x.mark(ref)
}

// Whole notes that everything is part of what was applied as a whole.
func (x *Index) Whole() {
	for ref, b := range x.baselines {
		if b.Snapshot != "" {
			b.Snapshot = ""
			x.baselines[ref] = b
		}
	}
	x.moves++
}

func (x *Index) uncount(b compare.Baseline) {
	k := kindOf(b)
	if x.kept[k]--; x.kept[k] <= 0 {
		delete(x.kept, k)
	}
}

func kindOf(b compare.Baseline) object.Kind { return object.Kind{Version: b.Version, Kind: b.Ref.Kind} }

// Baseline is what was applied of an object; kept tells whether anything was.
func (x *Index) Baseline(ref object.Ref) (b compare.Baseline, kept bool) {
	b, kept = x.baselines[ref]
	return b, kept
}

// Keeps tells whether the ward keeps an object.
func (x *Index) Keeps(ref object.Ref) bool {
	_, kept := x.baselines[ref]
	return kept
}

// Len is how many objects the ward keeps.
func (x *Index) Len() int { return len(x.baselines) }

// All goes through the baselines, in no order. Keep and Drop may be called meanwhile.
func (x *Index) All() iter.Seq2[object.Ref, compare.Baseline] { return maps.All(x.baselines) }

// Baselines are all of them, not to be changed.
func (x *Index) Baselines() map[object.Ref]compare.Baseline { return x.baselines }

// Kinds lists the kinds that the ward keeps objects of.
func (x *Index) Kinds() []object.Kind { return slices.Collect(maps.Keys(x.kept)) }

// KeepsKind tells whether the ward keeps anything of a kind.
func (x *Index) KeepsKind(k object.Kind) bool { return x.kept[k] > 0 }

// Moves grows whenever a baseline changes, so what was worked out from them can tell whether it still holds.
func (x *Index) Moves() uint64 { return x.moves }

// Known is what is known of an object, to be read; nil when nothing is.
func (x *Index) Known(ref object.Ref) *Live {
	if l := x.lives[ref]; l != nil {
		return l
	}
	if b := x.baselines[ref]; b.Seen != 0 {
		return &Live{Present: true, Watched: true, Revision: b.Seen, UID: b.UID, Health: health.Result{Word: health.Ready}, Trouble: none}
	}
	return nil
}

// Live is what is known of an object, to be changed.
func (x *Index) Live(ref object.Ref) *Live {
	l := x.Known(ref)
	if l == nil {
		l = &Live{Health: health.Result{Word: health.Unknown}, Trouble: none}
	}
	if b, kept := x.baselines[ref]; kept {
		ref = b.Ref // the same texts, once in memory
		if b.Seen != 0 {
			b.Seen = 0
			x.baselines[ref] = b
		}
	}
	x.lives[ref] = l
	x.mark(ref)
	return l
}

// Put replaces what is known of an object.
func (x *Index) Put(ref object.Ref, l Live) *Live {
	if l.Trouble == nil {
		l.Trouble = none
	}
	x.lives[ref] = &l
	x.mark(ref)
	return &l
}

// Forget forgets what is known of an object. It counts as unseen when it is kept.
func (x *Index) Forget(ref object.Ref) {
	delete(x.lives, ref)
	x.mark(ref)
}

// mark notes that something of an object has changed; settle looks at it before anybody asks.
func (x *Index) mark(ref object.Ref) {
	if x.dirty == nil {
		x.dirty = map[object.Ref]bool{}
	}
	x.dirty[ref] = true
}

// settle makes odd, unseen and doubts what they should be: whether there is anything to say of each object, so that a look
// at the ward costs as much as there is to say, whatever its size.
func (x *Index) settle() {
	if len(x.dirty) == 0 {
		return
	}
	dirty := x.dirty
	if len(dirty) > 64 {
		x.dirty = nil // a map never shrinks
	}
	for ref := range dirty {
		delete(dirty, ref)
		x.touch(ref)
	}
}

func (x *Index) touch(ref object.Ref) {
	b, kept := x.baselines[ref]
	l := x.lives[ref]
	if l != nil && kept && b.Intent == 0 && l.plain() && l.UID == b.UID { // thousands are: the baseline says it all
		b.Seen = l.Revision
		x.baselines[ref] = b
		delete(x.lives, ref)
	}
	l = x.Known(ref)
	seen := l != nil && (l.Watched || l.Verified)
	note(&x.doubts, ref, kept && b.Intent != 0)
	note(&x.unseen, ref, kept && b.Intent == 0 && !seen)
	note(&x.odd, ref, kept && (!seen || !l.Present || l.Health.Word != health.Ready || l.Trouble != none || b.UID == ""))
}

func note(in *map[object.Ref]bool, ref object.Ref, yes bool) {
	switch {
	case yes:
		if *in == nil {
			*in = map[object.Ref]bool{}
		}
		(*in)[ref] = true
	case !(*in)[ref]:
	case len(*in) == 1:
		*in = nil // a map never shrinks, and at the start these are as large as the ward
	default:
		delete(*in, ref)
	}
}

// Odd lists the objects that there is more to say of than which version of them was seen, sorted.
func (x *Index) Odd() []object.Ref {
	x.settle()
	return slices.SortedFunc(maps.Keys(x.odd), object.Ref.Compare)
}

// Unseen is how many kept objects nobody has looked at yet.
func (x *Index) Unseen() int {
	x.settle()
	return len(x.unseen)
}

// Doubtful tells whether an object may have been applied without its answer being kept.
func (x *Index) Doubtful(ref object.Ref) bool {
	x.settle()
	return x.doubts[ref]
}

// Health is the worst of what the ward keeps; what is not odd is ready.
func (x *Index) Health() health.Result {
	if len(x.baselines) == 0 {
		return health.Result{Word: health.Unknown}
	}
	healths := []health.Result{{Word: health.Ready}}
	for _, ref := range x.Odd() {
		h := health.Result{Word: health.Unknown}
		if l := x.Known(ref); l != nil {
			h = l.State()
		}
		if h.Reason != "" {
			h.Reason = ref.Short() + ": " + h.Reason
		}
		healths = append(healths, h)
	}
	return compare.Health(healths)
}

// Ready tells whether everything the ward keeps was seen ready.
func (x *Index) Ready() bool {
	x.settle()
	for ref := range x.odd {
		if l := x.Known(ref); l == nil || l.State().Word != health.Ready {
			return false
		}
	}
	return true
}

// Gone lists the objects that are not there, that nobody would put back, and that were looked for: whoever deleted them did what
// was left to do.
func (x *Index) Gone() (out []object.Ref) {
	for _, ref := range x.Odd() {
		if l := x.Known(ref); l != nil && !l.Present && l.Verified && !x.ward.Declares(ref) {
			out = append(out, ref)
		}
	}
	return out
}

// Unbound lists what holds nothing that could be lost: claims that were never bound, and what is gone already.
func (x *Index) Unbound() map[object.Ref]bool {
	out := map[object.Ref]bool{}
	for ref, l := range x.lives {
		if l.Present && l.Unbound || !l.Present && l.Verified {
			out[ref] = true
		}
	}
	return out
}

// Guarded lists the objects that bear a guard, as they said when they were applied last.
func (x *Index) Guarded(guard string) map[object.Ref]bool {
	out := map[object.Ref]bool{}
	for ref, b := range x.baselines {
		if b.Guards != "" && b.GuardedBy(guard) {
			out[ref] = true
		}
	}
	return out
}

// Leave lists the fields of an object that are left to others: as the ward file says, and the replicas of what an autoscaler
// scales.
func (x *Index) Leave(ref object.Ref) []object.Pointer {
	out := x.ward.Left(ref)
	if x.ward.Scaler(ref) != "" {
		out = append(out[:len(out):len(out)], replicas)
	}
	return out
}

var replicas = object.MustPointer("/spec/replicas")

// Drift is what others changed of an object that is there, less what an autoscaler does.
func (x *Index) Drift(ref object.Ref) []compare.Difference {
	l := x.lives[ref]
	if l == nil {
		return nil
	}
	if len(l.Drift) == 0 || x.ward.Scaler(ref) == "" {
		return l.Drift
	}
	return slices.DeleteFunc(slices.Clone(l.Drift), func(d compare.Difference) bool { return d.Path == "spec.replicas" })
}

// Missing is the drift of an object that is not there.
var Missing = compare.Difference{Change: compare.Removed}

// Changes lists what others changed of an object, its deletion too.
func (x *Index) Changes(ref object.Ref) []compare.Difference {
	l := x.Known(ref)
	if l == nil {
		return nil
	}
	if l.Missing() {
		return []compare.Difference{Missing}
	}
	return x.Drift(ref)
}

// PutBack lists what a restore of an object puts back: what others changed, and what they added where that is to be removed.
func (x *Index) PutBack(ref object.Ref) []compare.Difference {
	out := x.Changes(ref)
	if added := x.Unwanted(ref); len(added) > 0 {
		out = append(slices.Clone(out), added...)
	}
	return out
}

// Unwanted lists what others added to an object, where that is to be removed.
func (x *Index) Unwanted(ref object.Ref) []compare.Difference {
	if l := x.Known(ref); l != nil && x.Additions == ward.RemoveAdded {
		return l.Added
	}
	return nil
}

// Astray is what the cluster moved.
type Astray struct {
	Refs       []object.Ref // objects that drifted, sorted
	Fields     int          // of them; an object that is gone counts as one
	Contested  int          // fields that another client takes back each time
	Added      []object.Ref // objects that others added to, sorted
	Additions  int
	Restorable []object.Ref // what may be put back now: drifted, and with additions to remove, and not contested; sorted
	Waiting    []object.Ref // what may be a little later, since the same was put back a moment ago
	At         time.Time    // when the first of those may
}

// Astray looks at every kept object that there is something to say of.
func (x *Index) Astray(now time.Time) Astray {
	var out Astray
	for _, ref := range x.Odd() {
		b, l := x.baselines[ref], x.Known(ref)
		if l == nil || b.Intent != 0 && !x.ward.Working(ref) || b.UID == "" { // what was never made can't have drifted
			continue
		}
		if !x.ward.Declares(ref) {
			continue // nobody would put it back
		}
		drift := x.Changes(ref)
		restore := len(drift) > 0
		if restore {
			out.Refs = append(out.Refs, ref)
			out.Fields += len(drift)
		}
		if l.Foreign != "" && l.Present { // two services that put it back in turns would never end
			out.Contested += len(drift)
			continue
		}
		if len(l.Added) > 0 {
			out.Added = append(out.Added, ref)
			out.Additions += len(l.Added)
			if x.Additions == ward.RemoveAdded {
				restore = true
				drift = append(slices.Clone(drift), l.Added...)
			}
		}
		fought, at := 0, time.Time{}
		for _, d := range drift {
			if x.Contests.Contested(ref, d.Path, d.Who) {
				fought++
			} else if t := x.Contests.Wait(ref, d.Path, d.Who, now); t.After(at) {
				at = t
			}
		}
		out.Contested += fought
		switch {
		case !restore || fought > 0:
		case at.After(now):
			out.Waiting = append(out.Waiting, ref)
			if out.At.IsZero() || at.Before(out.At) {
				out.At = at
			}
		default:
			out.Restorable = append(out.Restorable, ref)
		}
	}
	return out
}
