package index

import (
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
)

// Effect is something that is to be done after a state was taken in. Looks by name are none of them: ask Due.
type Effect interface{ effect() }

// LookBelow asks for the Pods below a workload that is not ready, some time from now; the answer is for Below.
type LookBelow struct {
	Ref   object.Ref
	UID   string
	After time.Duration
}

// LookAtClaim asks whether a claim that is not bound waits for its first Pod, and not for a volume; the answer is for Later.
type LookAtClaim struct {
	Ref      object.Ref
	Body     map[string]any
	Revision int64
}

// News tells that an object may do otherwise than before.
type News struct{ Ref object.Ref }

// Early is a state that came before the answer to the apply that made it; it is for Weigh once that is there.
type Early struct {
	Ref  object.Ref
	Body map[string]any
}

// Rewound tells that the cluster holds an earlier state than was applied: its data were put back.
type Rewound struct{}

// Undefined tells that the definition of kinds of a group is gone, and with it all that they were.
type Undefined struct{ Group string }

// Unread tells that what was applied of an object can't be read.
type Unread struct {
	Ref object.Ref
	Err error
}

func (LookBelow) effect()   {}
func (LookAtClaim) effect() {}
func (News) effect()        {}
func (Early) effect()       {}
func (Rewound) effect()     {}
func (Undefined) effect()   {}
func (Unread) effect()      {}

// How tells how a state came.
type How int

const (
	// Watched is a state that a watch brought.
	Watched How = iota
	// Named is one that was asked for by name, and so is the cluster's newest: older than what was known it is when the
	// cluster was restored to an earlier state.
	Named
)

// Saw takes a state of a kept object in. Of a version that it was not applied in it says nothing, unless it was asked for by
// name.
func (x *Index) Saw(now time.Time, ref object.Ref, body map[string]any, how How) (out []Effect) {
	b, kept := x.baselines[ref]
	if v, _ := body["apiVersion"].(string); v != x.ward.Version(ref) {
		if how == Watched && v == x.ward.Moving(ref) { // it moves to this version, and the watch is faster than the answer
			return []Effect{Early{ref, body}}
		}
		if how == Named { // the version that it was applied in is served no more
			return x.sawOtherwise(ref, body)
		}
		return nil // the watch of its own version brings it as it is to be looked at
	}
	rv := compare.ResourceVersion(body)
	if x.Stale(ref, rv, how) {
		return nil
	}
	l := x.Seen(ref, body, how)
	l.read(ref, body)
	l.Health = x.Rules.Of(ref.Group, ref.Kind, body)
	if l.Health.Word == health.Ready {
		if l.CauseKnown = false; l.Cause != nil {
			l.Cause = nil
		}
	} else {
		out = x.lookDeeper(out, ref, body, l, 300*time.Millisecond)
	}
	if how == Named && kept && b.Intent == 0 && rv < b.Revision {
		out = append(out, Rewound{})
	}
	applied := b.Intent == 0 || x.ward.Applied(ref) > 0
	switch {
	case kept && applied && (rv >= b.Revision || how == Named):
		out = x.weigh(out, now, b, l, body)
	case kept && x.ward.Working(ref):
		out = append(out, Early{ref, body})
	case kept && !applied:
		l.Unweighed = true
	case kept: // older than what was applied: it is late, or the cluster was restored; only a look by name tells
		l.Watched, l.Verified = false, false // it may have been looked for when it was not there
	}
	if kept && l.Unmarked {
		x.looks.again(ref, now.Add(unmarkedPause))
	}
	return append(out, News{ref})
}

// Stale tells whether a state is an older one, or the one that is known: an apply brings it twice, as its answer and by the watch.
func (x *Index) Stale(ref object.Ref, revision int64, how How) bool {
	l := x.Known(ref)
	return how != Named && l != nil && l.Present && (revision < l.Revision || revision == l.Revision && l.Watched)
}

// Seen notes that an object is there, and which state of it.
func (x *Index) Seen(ref object.Ref, body map[string]any, how How) *Live {
	l, uid := x.Live(ref), object.UID(body)
	if l.UID != uid {
		l.Below, l.CauseKnown = false, false // what is below it is another's
	}
	if l.UID = uid; uid == x.baselines[ref].UID {
		l.UID = x.baselines[ref].UID // the same text, once in memory
	}
	l.Present, l.Watched, l.Verified, l.Revision = true, true, l.Verified || how == Named, compare.ResourceVersion(body)
	l.Unmarked = object.Label(body, object.WardLabel) == ""
	return l
}

// sawOtherwise takes in that an object is there in another version than the one it was applied in, which is served no more:
// its fields can't be compared before it is applied in the new one.
func (x *Index) sawOtherwise(ref object.Ref, body map[string]any) []Effect {
	l := x.Live(ref)
	l.UID = object.UID(body)
	l.Present, l.Verified, l.Revision, l.Trouble = true, true, compare.ResourceVersion(body), none
	l.Health = x.Rules.Of(ref.Group, ref.Kind, body)
	return []Effect{News{ref}}
}

// lookDeeper asks why an object is not ready.
func (x *Index) lookDeeper(out []Effect, ref object.Ref, body map[string]any, l *Live, after time.Duration) []Effect {
	out = x.lookBelow(out, ref, l, after)
	if l.Unbound {
		out = append(out, LookAtClaim{ref, body, l.Revision})
	}
	return out
}

func (x *Index) lookBelow(out []Effect, ref object.Ref, l *Live, after time.Duration) []Effect {
	if l.Below || !health.HasBelow(ref) {
		return out
	}
	l.Below = true
	x.mark(ref)
	return append(out, LookBelow{ref, l.UID, after})
}

// LookBelow begins to look for the Pods below an object.
func (x *Index) LookBelow(ref object.Ref, after time.Duration) []Effect {
	l := x.lives[ref]
	if l == nil {
		return nil
	}
	return x.lookBelow(nil, ref, l, after)
}

// Below takes in what is below a workload, which is looked for again and again until the workload is ready: the Pods of its uid;
// answered tells whether the question was.
func (x *Index) Below(ref object.Ref, uid string, pods []map[string]any, answered bool) []Effect {
	l := x.lives[ref]
	if l == nil || l.UID != uid {
		return nil
	}
	l.Below = false
	x.mark(ref)
	if l.Health.Word == health.Ready || !l.Present {
		return nil
	}
	l.CauseKnown = true
	if answered {
		if r, bad := health.Cause(pods); bad {
			l.upset().Cause = &r
		} else if l.Cause != nil {
			l.upset().Cause = nil
		}
	}
	return x.lookBelow([]Effect{News{ref}}, ref, l, 2*time.Second)
}

// StillClaim tells whether a claim is as it was when it was asked about.
func (x *Index) StillClaim(c LookAtClaim) bool {
	l := x.Known(c.Ref)
	return l != nil && l.Present && l.Revision == c.Revision && l.Unbound && x.Keeps(c.Ref)
}

// Later takes in that a claim is bound when a Pod uses it first.
func (x *Index) Later(c LookAtClaim) []Effect {
	if !x.StillClaim(c) {
		return nil
	}
	x.Live(c.Ref).Later = true
	return []Effect{News{c.Ref}}
}

// weigh holds a live object against its baseline. Nearly always their imprints are the same, and that is all.
func (x *Index) weigh(out []Effect, now time.Time, b compare.Baseline, l *Live, body map[string]any) []Effect {
	left := x.Leave(b.Ref)
	l.Unweighed = false
	if l.Trouble != none {
		l.Foreign = ""
	}
	if id := object.Service(body); id != "" && id != x.Service {
		l.upset().Foreign = id
	}
	print := x.Mask.Imprint(b.Ref, body, left)
	if b.Same(print, l.UID) {
		if l.Trouble != none && l.Cause == nil {
			l.Trouble = none
		} else if l.Trouble != none {
			l.Imprint, l.Drift, l.Added = print, nil, nil
		}
		return out
	}
	if l.Trouble != none && l.Imprint == print && b.UID == l.UID {
		return out // as it was when it was looked at before
	}
	detail, err := x.ward.Detail(b.Ref)
	if err != nil {
		l.Watched, l.Verified = false, false // what can't be compared is not known
		x.looks.later(b.Ref, now.Add(unansweredPause), anew)
		return append(out, Unread{b.Ref, err})
	}
	b.Detail = detail
	b = b.Without(x.ward.Left(b.Ref)) // the ward file may leave more to others than it did then
	drift := compare.Drift(b, body, x.Mask)
	if l.UID == b.UID && compare.ResourceVersion(body) < b.Revision {
		for i := range drift { // nobody changed it since: it is as it was before
			drift[i].Who, drift[i].Likely, drift[i].When = compare.RestoredCluster, false, time.Time{}
		}
	}
	t := l.upset()
	if len(drift) > 0 && len(t.Drift) == 0 {
		t.Since = now
	}
	for i := range drift {
		if t.Foreign != "" {
			drift[i].Who = compare.AnotherService(t.Foreign)
		}
	}
	t.Imprint, t.Drift, t.Added, t.Restart = print, drift, nil, object.RestartOf(body)
	if x.Additions != "ignore" {
		t.Added = compare.Additions(b, body, left, x.Mask)
	}
	return out
}

// Weigh holds a state that was seen before its baseline was known against it, unless a newer one was seen since.
func (x *Index) Weigh(now time.Time, ref object.Ref, body map[string]any) []Effect {
	b, kept := x.baselines[ref]
	if !kept {
		return nil
	}
	l := x.Live(ref)
	rv := compare.ResourceVersion(body)
	if v, _ := body["apiVersion"].(string); v != b.Version { // as it was read before it moved to another version
		if rv > b.Revision {
			x.Ask(now, ref, news)
		}
		return nil
	}
	switch {
	case !l.Present || rv < l.Revision:
		return nil
	case rv < b.Revision: // it is what was seen last, and nothing newer was applied since: only a look by name tells
		l.Watched, l.Verified = false, false
		return nil
	case rv > l.Revision: // it was not taken in at all
		return x.Saw(now, ref, body, Watched)
	}
	return x.weigh(nil, now, b, l, body)
}

// Answered takes in the answer to an apply: the baseline that it makes, and what was answered.
func (x *Index) Answered(b compare.Baseline, body map[string]any) (l *Live, out []Effect) {
	x.Keep(b)
	l = x.Live(b.Ref)
	l.Trouble, l.CauseKnown, l.Unweighed = none, false, false
	if b.Revision >= l.Revision || l.UID != b.UID {
		if l.UID != b.UID {
			l.Below = false
		}
		l.Present, l.Watched, l.Revision, l.UID, l.Unmarked = true, true, b.Revision, b.UID, false
		if b.Detail != nil && len(b.Detail.Added) > 0 && x.Additions != "ignore" {
			l.upset().Added = b.Detail.Added
		}
		l.read(b.Ref, body)
		l.Health = x.Rules.Of(b.Ref.Group, b.Ref.Kind, body)
		if l.Health.Word != health.Ready {
			out = x.lookDeeper(out, b.Ref, body, l, 500*time.Millisecond)
		}
	}
	return l, out
}

// LastSeen takes in the last state of an object that has left the watch. Whether it is gone only a look by name tells.
func (x *Index) LastSeen(now time.Time, ref object.Ref, body map[string]any) {
	if l := x.Known(ref); l != nil && l.Present && l.UID == object.UID(body) && ref.Kind == "Job" {
		x.Live(ref).read(ref, body)
	}
	x.Ask(now, ref, news)
}

// Listed takes in a fresh list of a kind, of one namespace or of all: what was there and is not in it is looked for. A kind that lives in no
// namespace is listed whole.
func (x *Index) Listed(now time.Time, group, kind, namespace string, all map[object.Ref]bool) {
	for ref := range x.baselines {
		if ref.Group != group || ref.Kind != kind || all[ref] || namespace != "" && ref.Namespace != "" && ref.Namespace != namespace {
			continue
		}
		if l := x.Known(ref); l != nil && l.Present && !l.Unmarked {
			x.Ask(now, ref, news)
		}
	}
}

// ListedAs takes in a state from a whole list: older than what is known, it is asked by name which holds, since a list may be
// stale, and a cluster may have been restored to an earlier state. The same version of another history is another state: it is
// weighed anew, which asks nothing.
func (x *Index) ListedAs(now time.Time, ref object.Ref, body map[string]any) (weigh bool) {
	l, rv := x.Known(ref), compare.ResourceVersion(body)
	switch {
	case l == nil || !l.Present:
	case rv < l.Revision:
		x.Ask(now, ref, news)
	case rv == l.Revision:
		x.Live(ref).Watched = false
		return true
	}
	return false
}

// Undefined takes in that the definition of a kind is gone, and all that it defined with it: nothing is known of that before it
// was looked for by name, since the watch that would tell has gone as well.
func (x *Index) Undefined(now time.Time, group string) {
	for ref := range x.baselines {
		if ref.Group != group {
			continue
		}
		if l := x.Known(ref); l != nil && l.Present {
			l = x.Live(ref)
			l.Watched, l.Verified = false, false
			x.Ask(now, ref, news)
		}
	}
}

// Lacking takes in that the cluster has a kind no more.
func (x *Index) Lacking(now time.Time, k object.Kind) {
	for ref, b := range x.baselines {
		if l := x.Known(ref); kindOf(b) == k && l != nil && l.Present {
			x.Ask(now, ref, news)
		}
	}
}

// gone takes in that an object is not there.
func (x *Index) gone(now time.Time, ref object.Ref) []Effect {
	b, kept := x.baselines[ref]
	if !kept {
		x.Forget(ref)
		return nil
	}
	l := x.Live(ref)
	since := l.Since
	if l.Present || since.IsZero() {
		since = now
	}
	first := l.Present || !l.Verified
	known := l.Present // what it was like when it was seen last
	l.Trouble = &Trouble{Since: since}
	l.Present, l.Verified, l.Unmarked, l.Later, l.Unbound = false, true, false, false, false
	l.Health = health.Result{Word: health.Absent, Reason: "it is not in the cluster"}
	if first {
		l.Ended = b.UID != "" && x.endsByItself(b, l, known)
	}
	if l.Ended {
		l.Health = health.Result{Word: health.Ready, Reason: "finished, and removed by its own rule"}
	}
	out := []Effect{News{ref}}
	if _, group, ok := strings.Cut(ref.Name, "."); ok && first && ref.Kind == "CustomResourceDefinition" {
		x.Undefined(now, group)
		out = append(out, Undefined{group})
	}
	return out
}

// endsByItself tells whether an object that is not there has ended as it says itself: a Job that is removed some time after
// it has finished. What it was like is not known when nobody was looking; then that is what is most likely.
func (x *Index) endsByItself(b compare.Baseline, l *Live, known bool) bool {
	if b.Ref.Group != "batch" || b.Ref.Kind != "Job" {
		return false
	}
	if known {
		return l.Brief && l.Finished
	}
	d, err := x.ward.Detail(b.Ref)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(d.Fields, func(f object.Field) bool { return f.Path == "spec.ttlSecondsAfterFinished" })
}
