package run

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/logbook"
)

// Will is what a ward holds as a whole, what people and earlier runs have decided about it, and so what it does next by itself.
type Will struct {
	Applied  *logbook.Revision // what was applied as a whole; nil when nothing is
	Snapshot string            // its objects
	Done     map[string]string // its tasks by key, to their hashes

	Hold       *logbook.Hold
	Leaving    *logbook.Leaving             // it is being removed, and does nothing else
	Rejections map[string]logbook.Rejection // by revision
	Last       *logbook.Entry               // the newest run that ended

	BroughtUpBy string    // it syncs by itself until it is in step once
	Stuck       string    // why its dismantling does not start
	Failures    int       // of automatic runs, in a row
	LastFailed  time.Time // when
	AgainAt     time.Time // when everything is applied again
}

// Failed notes that an automatic run failed, or did not start. The answer is how long to wait.
func (w *Will) Failed(now time.Time) time.Duration {
	w.Failures++
	w.LastFailed = now
	return Backoff(w.Failures)
}

// Retry is when an automatic run is tried again after a failure; zero when none waits for that.
func (w *Will) Retry() time.Time {
	if w.Failures == 0 {
		return time.Time{}
	}
	return w.LastFailed.Add(Backoff(w.Failures))
}

// Rejection is what rejects a revision and what it declares: a person's word about it, or that the same was declared before and
// failed. nil when nothing does.
func (w *Will) Rejection(revision, digest string) *logbook.Rejection {
	if r, ok := w.Rejections[revision]; ok && (r.Declared == "" || r.Declared == digest) {
		return &r
	}
	for _, r := range w.Rejections {
		if r.Declared != "" && r.Declared == digest {
			return &r
		}
	}
	return nil
}

// Lifted lists the rejections that a run lifts which ended well: of what it carried, and said before it began. What was said since holds.
func (w *Will) Lifted(revision, digest string, began time.Time) (out []string) {
	for of, r := range w.Rejections {
		if (of == revision && r.Declared == "" || r.Declared != "" && r.Declared == digest) && !r.At.After(began) {
			out = append(out, of)
		}
	}
	return out
}

// Rejected lists the rejections, newest first.
func (w *Will) Rejected() (out []logbook.Rejection) {
	for _, r := range w.Rejections {
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b logbook.Rejection) int {
		return cmp.Or(b.At.Compare(a.At), strings.Compare(a.Revision, b.Revision))
	})
	return out
}

// HalfDone tells whether the newest run may have left the cluster with parts of two revisions, or with one that was never ready:
// it was stopped, interrupted or failed. declared is the snapshot that is declared now: when it is what was applied as a whole, what
// is not there is pending.
func (w *Will) HalfDone(declared string) bool {
	if w.Last == nil || w.Leaving != nil || w.Last.Snapshot == "" {
		return false
	}
	switch Outcome(w.Last.Outcome) {
	case Stopped, Interrupted, Failed:
	default:
		return false
	}
	if kind := Kind(w.Last.Kind); kind != Sync && kind != Rollback {
		return false
	}
	return w.Last.Snapshot != w.Snapshot || declared != w.Snapshot
}

// TakesUp tells whether a crash has left a way back undone: a failed sync that was about to go back, or a way back that was
// interrupted. goesBack is what the ward does when a sync fails.
func (w *Will) TakesUp(goesBack bool) bool {
	if w.Last == nil || w.Hold != nil || !goesBack {
		return false
	}
	l := w.Last
	failedSync := Kind(l.Kind) == Sync && Outcome(l.Outcome) == Failed && l.Snapshot != w.Snapshot
	brokenBack := Kind(l.Kind) == Rollback && Outcome(l.Outcome) == Interrupted && l.By == logbook.Vigila
	return failedSync && l.Revision != nil && w.Rejections[l.Revision.ID].Why != "" || brokenBack
}

// Ended is a run that has ended.
type Ended struct {
	Entry   *logbook.Entry
	End     End
	Partial bool // it was of some objects only
	// Unreachable tells that the cluster did not answer, so that the end says nothing about what was carried.
	Unreachable bool
	GaveWay     bool   // to a newer revision
	Declared    string // a digest of what it carried; "" when that is not known any more
	ByItself    bool   // the ward begins runs of this kind by itself
}

// Follows is what follows the end of a run.
type Follows struct {
	Well   bool               // it ended well: what it carried counts
	Reject *logbook.Rejection // what it carried is not tried again by itself
	GoBack bool
	Hold   *logbook.Hold
}

// End takes in that a run has ended, and tells what follows. What is not a revision's own fault rejects nothing, nor does a part of
// it, or what the cluster holds already. A person who stops an automatic run does not want it to start again the next moment.
func (w *Will) End(now time.Time, e Ended) (out Follows) {
	last := *e.Entry
	last.Objects = nil // the logbook has them
	w.Last = &last
	switch e.End.Outcome {
	case Done:
		w.Failures = 0
		return Follows{Well: true}
	case Failed:
		w.Failed(now)
		if !e.End.Blameless && !e.Unreachable {
			w.BroughtUpBy = "" // a person has to see to it
		}
		if Kind(e.Entry.Kind) != Sync || e.Unreachable || e.End.Blameless || e.Partial || e.Entry.Snapshot == w.Snapshot {
			return out
		}
		out.Reject = &logbook.Rejection{Revision: e.Entry.Revision.ID, Subject: e.Entry.Revision.Subject, Why: e.Entry.Reason, By: logbook.Vigila, At: now, Declared: e.Declared}
		out.GoBack = e.End.GoBack
	case Stopped:
		w.BroughtUpBy = ""
		if e.ByItself && w.Hold == nil && w.Leaving == nil && !e.GaveWay {
			out.Hold = &logbook.Hold{By: strings.TrimPrefix(e.Entry.Reason, "stopped by "), At: now, Reason: fmt.Sprintf("stopped #%d", e.Entry.Number)}
		}
	}
	return out
}
