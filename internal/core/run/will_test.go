package run

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/core/logbook"
)

var six = time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)

func TestWhatFollowsAnEnd(t *testing.T) {
	revision := &logbook.Revision{ID: "badbadbad0", Subject: "A door"}
	sync := logbook.Entry{Number: 7, Kind: Sync, Revision: revision, Snapshot: "new", Reason: "it crashes"}
	rejects := &logbook.Rejection{Revision: "badbadbad0", Subject: "A door", Why: "it crashes", By: logbook.Vigila, At: six, Declared: "d"}
	failed, stopped := End{Outcome: Failed, GoBack: true}, End{Outcome: Stopped}
	for name, c := range map[string]struct {
		ended    Ended
		will     func(*Will)
		want     Follows
		failures int
		up       bool // it is still being brought up
	}{
		"done":                     {ended: Ended{End: End{Outcome: Done}}, want: Follows{Well: true}, up: true},
		"failed":                   {ended: Ended{End: failed, Declared: "d"}, want: Follows{Reject: rejects, GoBack: true}, failures: 3},
		"failed, and stays":        {ended: Ended{End: End{Outcome: Failed}, Declared: "d"}, want: Follows{Reject: rejects}, failures: 3},
		"no answer":                {ended: Ended{End: failed, Unreachable: true}, failures: 3, up: true},
		"nobody's fault":           {ended: Ended{End: End{Outcome: Failed, Blameless: true}}, failures: 3, up: true},
		"a part of it":             {ended: Ended{End: failed, Partial: true}, failures: 3},
		"what is there already":    {ended: Ended{End: failed}, will: func(w *Will) { w.Snapshot = "new" }, failures: 3},
		"stopped by a person":      {ended: Ended{End: stopped, ByItself: true, Entry: &logbook.Entry{Number: 7, Kind: Sync, Reason: "stopped by operator"}}, want: Follows{Hold: &logbook.Hold{By: "operator", At: six, Reason: "stopped #7"}}, failures: 2},
		"stopped, and asks anyway": {ended: Ended{End: stopped}, failures: 2},
		"stopped, held already":    {ended: Ended{End: stopped, ByItself: true}, will: func(w *Will) { w.Hold = &logbook.Hold{By: "operator"} }, failures: 2},
		"stopped, and leaving":     {ended: Ended{End: stopped, ByItself: true}, will: func(w *Will) { w.Leaving = &logbook.Leaving{} }, failures: 2},
		"gave way":                 {ended: Ended{End: stopped, ByItself: true, GaveWay: true}, failures: 2},
	} {
		t.Run(name, func(t *testing.T) {
			w := &Will{Failures: 2, BroughtUpBy: "operator", Snapshot: "old"}
			if c.will != nil {
				c.will(w)
			}
			if c.ended.Entry == nil {
				e := sync
				c.ended.Entry = &e
			}
			assert.Equal(t, c.want, w.End(six, c.ended))
			assert.Equal(t, c.failures, w.Failures)
			assert.Equal(t, c.up, w.BroughtUpBy != "")
			assert.Equal(t, c.ended.Entry.Number, w.Last.Number)
			assert.Nil(t, w.Last.Objects)
		})
	}
	w := &Will{}
	entry := sync
	entry.Kind = Restore
	assert.Equal(t, Follows{}, w.End(six, Ended{Entry: &entry, End: failed}), "a restore that fails rejects nothing")
	assert.Equal(t, six.Add(5*time.Second), w.Retry())
}

// TestWhatARunLifts: a run that ended well lifts what had rejected it, and nothing that somebody has said while it went on.
func TestWhatARunLifts(t *testing.T) {
	began := time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		revision string
		r        logbook.Rejection
		lifted   bool
	}{
		"a person, before":              {"new", logbook.Rejection{At: began.Add(-time.Hour)}, true},
		"a person, while it went on":    {"new", logbook.Rejection{At: began.Add(time.Second)}, false},
		"a failure of the same":         {"old", logbook.Rejection{Declared: "same", At: began.Add(-time.Hour)}, true},
		"a failure of something else":   {"old", logbook.Rejection{Declared: "other", At: began.Add(-time.Hour)}, false},
		"what it declared then":         {"new", logbook.Rejection{Declared: "other", At: began.Add(-time.Hour)}, false},
		"another revision, by a person": {"old", logbook.Rejection{At: began.Add(-time.Hour)}, false},
	} {
		w := &Will{Rejections: map[string]logbook.Rejection{c.revision: c.r}}
		assert.Equal(t, c.lifted, len(w.Lifted("new", "same", began)) == 1, name)
	}
}

func TestARejectionIsOfWhatWasDeclared(t *testing.T) {
	w := &Will{Rejections: map[string]logbook.Rejection{
		"failed": {Revision: "failed", Why: "crashes", Declared: "d", At: six},
		"person": {Revision: "person", Why: "squeaks", At: six.Add(time.Hour)},
	}}
	for name, c := range map[string]struct{ revision, digest, why string }{
		"the same, that failed":                           {"failed", "d", "crashes"},
		"the same, in another commit":                     {"newer", "d", "crashes"},
		"the same commit, with a mend in the ward's file": {"failed", "e", ""},
		"a person's word, whatever is declared in it":     {"person", "e", "squeaks"},
		"another": {"newer", "e", ""},
	} {
		t.Run(name, func(t *testing.T) {
			why := ""
			if r := w.Rejection(c.revision, c.digest); r != nil {
				why = r.Why
			}
			assert.Equal(t, c.why, why)
		})
	}
	assert.Equal(t, "person", w.Rejected()[0].Revision, "the newest first")
}

func TestWhatIsHalfDone(t *testing.T) {
	stopped := func(change func(*Will)) *Will {
		w := &Will{Snapshot: "old", Last: &logbook.Entry{Kind: Sync, Outcome: Stopped, Snapshot: "new"}}
		change(w)
		return w
	}
	for name, c := range map[string]struct {
		will     *Will
		declared string
		want     bool
	}{
		"nothing ran":     {&Will{}, "new", false},
		"stopped":         {stopped(func(*Will) {}), "new", true},
		"interrupted":     {stopped(func(w *Will) { w.Last.Outcome = Interrupted }), "new", true},
		"failed":          {stopped(func(w *Will) { w.Last.Outcome = Failed }), "new", true},
		"done":            {stopped(func(w *Will) { w.Last.Outcome = Done }), "new", false},
		"a way back":      {stopped(func(w *Will) { w.Last.Kind = Rollback }), "new", true},
		"a restore":       {stopped(func(w *Will) { w.Last.Kind = Restore }), "new", false},
		"being removed":   {stopped(func(w *Will) { w.Leaving = &logbook.Leaving{} }), "new", false},
		"held as a whole": {stopped(func(w *Will) { w.Snapshot = "new" }), "new", false},
		"held as a whole, and something newer is declared": {stopped(func(w *Will) { w.Snapshot = "new" }), "newer", true},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, c.will.HalfDone(c.declared)) })
	}
}

func TestAWayBackIsTakenUpAfterACrash(t *testing.T) {
	failed := func() *Will {
		return &Will{Snapshot: "old", Last: &logbook.Entry{Kind: Sync, Outcome: Failed, Snapshot: "new", Revision: &logbook.Revision{ID: "bad"}}, Rejections: map[string]logbook.Rejection{"bad": {Why: "it crashes"}}}
	}
	assert.True(t, failed().TakesUp(true))
	assert.False(t, failed().TakesUp(false), "a ward that stays")
	w := failed()
	w.Hold = &logbook.Hold{}
	assert.False(t, w.TakesUp(true), "a person has taken over")
	w = failed()
	w.Rejections = nil
	assert.False(t, w.TakesUp(true), "it failed for another reason")
	w = failed()
	w.Snapshot = "new"
	assert.False(t, w.TakesUp(true), "it went back already")
	assert.False(t, (&Will{}).TakesUp(true))
	w = &Will{Last: &logbook.Entry{Kind: Rollback, Outcome: Interrupted, By: logbook.Vigila}}
	assert.True(t, w.TakesUp(true), "a way back that was interrupted")
	w.Last.By = "operator"
	assert.False(t, w.TakesUp(true), "a person's is a person's to begin again")
}
