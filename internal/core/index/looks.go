package index

import (
	"maps"
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
)

// A look by name settles what no watch tells: whether an object that has left a watch is gone, what is true when two states
// contradict each other, how an object without its mark does. One look is on its way at a time for each object, and one that is
// not answered is made again until it is.
const (
	unansweredPause = 2 * time.Second  // until a look that was not answered is made again
	unmarkedPause   = 15 * time.Second // until an object that no watch brings is looked at again
	soughtPause     = 200 * time.Millisecond
	mostIdle        = 5 * time.Second // until it is looked again whether there is something to ask, where there was nothing, again and again
)

// why tells what an object is looked at for.
type why int

const (
	news why = iota // what is there now
	anew            // the same, and it is judged anew though it may be the state that is known
)

// look is a look at one object by name.
type look struct {
	onWay bool
	due   time.Time // when it is made, while it is not on its way
	asked int64     // the newest revision that was known then
	again bool      // it was asked for once more meanwhile
	why   why
}

// looks are the looks at a ward's objects.
type looks struct {
	all     map[object.Ref]*look
	waiting map[object.Ref]bool // of those, the ones that are not on their way
	recheck map[object.Ref]time.Time
	next    time.Time     // when the first of what waits is due; zero when nothing waits
	sought  time.Time     // when everything unseen was looked for last
	idle    time.Duration // how long it waits for the next time, where there was nothing to ask
}

func (l *looks) wait(at time.Time) {
	if l.next.IsZero() || at.Before(l.next) {
		l.next = at
	}
}

// later makes a look at some time; until then it counts as on its way.
func (l *looks) later(ref object.Ref, at time.Time, w why) {
	if l.all == nil {
		l.all, l.waiting = map[object.Ref]*look{}, map[object.Ref]bool{}
	}
	l.all[ref] = &look{due: at, why: w}
	l.waiting[ref] = true
	l.wait(at)
}

// again looks at an object every now and then, as long as no watch brings it.
func (l *looks) again(ref object.Ref, at time.Time) {
	if l.recheck == nil {
		l.recheck = map[object.Ref]time.Time{}
	}
	if _, waits := l.recheck[ref]; !waits {
		l.recheck[ref] = at
		l.wait(at)
	}
}

func (l *looks) done(ref object.Ref) {
	delete(l.waiting, ref)
	if delete(l.all, ref); len(l.all) == 0 {
		l.all, l.waiting = nil, nil // a map never shrinks, and at the start these may be as large as the ward
	}
}

// Ask looks at a kept object by name, now or as soon as the look that is on its way is answered.
func (x *Index) Ask(now time.Time, ref object.Ref, w why) {
	if !x.Keeps(ref) {
		x.Forget(ref)
		return
	}
	if l := x.looks.all[ref]; l != nil {
		l.again, l.why = true, max(l.why, w)
		return
	}
	x.looks.later(ref, now, w)
}

// Look looks at a kept object by name.
func (x *Index) Look(now time.Time, ref object.Ref) { x.Ask(now, ref, news) }

// Judge looks at a kept object by name and judges its state anew, though it may be known.
func (x *Index) Judge(now time.Time, ref object.Ref) { x.Ask(now, ref, anew) }

// Lookup is a look that is to be made now; the answer is for Looked.
type Lookup struct {
	Ref     object.Ref
	Version string
}

// Due are the looks whose time has come, sorted: they are on their way from now on. next is when to ask again; zero when nothing
// waits.
func (x *Index) Due(now time.Time) (out []Lookup, next time.Time) {
	l := &x.looks
	if l.next.IsZero() || now.Before(l.next) {
		return nil, l.next
	}
	l.next = time.Time{}
	for ref, at := range l.recheck {
		if now.Before(at) {
			l.wait(at)
			continue
		}
		delete(l.recheck, ref)
		if live := x.lives[ref]; live != nil && live.Unmarked {
			x.Ask(now, ref, news)
		}
	}
	for ref := range l.waiting {
		this := l.all[ref]
		if now.Before(this.due) {
			l.wait(this.due)
			continue
		}
		b, kept := x.baselines[ref]
		if !kept {
			l.done(ref)
			x.Forget(ref)
			continue
		}
		this.onWay, this.again, this.asked = true, false, 0
		if live := x.Known(ref); live != nil {
			this.asked = live.Revision
		}
		delete(l.waiting, ref)
		out = append(out, Lookup{ref, b.Version})
	}
	slices.SortFunc(out, func(a, b Lookup) int { return a.Ref.Compare(b.Ref) })
	return out, l.next
}

// Answer is the answer to a look by name. Without one, nothing is set.
type Answer struct {
	Body map[string]any
	Gone bool // it is not there
}

// Looked takes in the answer to a look.
func (x *Index) Looked(now time.Time, ref object.Ref, a Answer) []Effect {
	l := x.looks.all[ref]
	if l == nil || !l.onWay {
		return nil
	}
	live := x.Known(ref)
	if a.Body == nil && !a.Gone {
		if live != nil && live.Revision <= l.asked { // it was in doubt, and nobody has said anything since
			live = x.Live(ref)
			live.Watched, live.Verified = false, false
		}
		x.looks.later(ref, now.Add(unansweredPause), l.why)
		return nil
	}
	x.looks.done(ref)
	newer := live != nil && live.Revision > l.asked
	switch {
	case newer && !l.again && l.why == news: // something newer was seen meanwhile
	case newer || l.again:
		x.Ask(now, ref, l.why)
	case a.Gone:
		return x.gone(now, ref)
	case live != nil && live.Present && live.Watched && l.why == news && live.Revision == compare.ResourceVersion(a.Body) && live.UID == object.UID(a.Body):
		if x.Live(ref).Verified = true; live.Unmarked {
			x.looks.again(ref, now.Add(unmarkedPause))
		}
	default:
		return x.Saw(now, ref, a.Body, Named)
	}
	return nil
}

// Looking tells whether a look at an object is on its way, or waits for its time.
func (x *Index) Looking(ref object.Ref) bool { return x.looks.all[ref] != nil }

// Seeking says what Seek may ask for.
type Seeking struct {
	Read    func(object.Kind) bool                  // the kind was read, so that what no watch has brought is not in it
	Waits   bool                                    // something waits to be taken in, and may be just what is missing
	Pending func(object.Ref, compare.Baseline) bool // an object in doubt is declared, and so applied again
}

// Seek sees to it that something is on its way for everything that is not known: for each object that no watch has brought a look
// by name, once its kind was read. It follows from what is known, so nobody has to remember to ask. It tells when it wants
// to be asked again; zero when there is nothing to seek.
func (x *Index) Seek(now time.Time, s Seeking) time.Time {
	x.settle()
	if len(x.unseen)+len(x.doubts) == 0 {
		x.looks.idle = 0
		return time.Time{}
	}
	if wait := x.looks.sought.Add(soughtPause).Sub(now); wait > 0 && wait <= soughtPause {
		return now.Add(wait)
	}
	x.looks.sought = now
	if s.Waits {
		return now.Add(soughtPause)
	}
	read, asked := map[object.Kind]bool{}, false
	for _, these := range []map[object.Ref]bool{x.unseen, x.doubts} {
		for _, ref := range slices.SortedFunc(maps.Keys(these), object.Ref.Compare) {
			b, l := x.baselines[ref], x.Known(ref)
			if x.Looking(ref) || x.ward.Working(ref) || b.Intent != 0 && (l != nil && l.Verified || s.Pending(ref, b)) {
				continue
			}
			kind := kindOf(b)
			if _, known := read[kind]; !known {
				read[kind] = s.Read(kind)
			}
			if read[kind] {
				x.Ask(now, ref, news)
				asked = true
			}
		}
	}
	// Whatever keeps it from asking ends with something that happens, so that it is looked here by itself ever less often: a ward whose run could apply
	// nothing may wait for its next try with thousands of objects that nobody has seen.
	if x.looks.idle = min(2*x.looks.idle, mostIdle); asked || x.looks.idle < soughtPause {
		x.looks.idle = soughtPause
	}
	return now.Add(x.looks.idle)
}

// SeekAtOnce lets Seek look without waiting: a watch came up, or broke.
func (x *Index) SeekAtOnce() { x.looks.sought, x.looks.idle = time.Time{}, 0 }
