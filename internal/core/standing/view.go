// Package standing puts a ward into words: how it stands, what is going on, what a person can do about it, and how loud that is.
// Start with View and Say.
package standing

import (
	"cmp"
	"reflect"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/ward"
)

// AsOf is what was last known of a source, and since when.
type AsOf struct {
	Known   bool
	At      time.Time // of the last look that went well
	Next    time.Time // zero for a watch
	Problem string
}

// Tone is how loud a ward is on the board.
type Tone string

// The tones.
const (
	Quiet         Tone = "quiet"
	ToneBehind    Tone = "behind"
	ToneDrifted   Tone = "drifted"
	ToneFailing   Tone = "failing"
	ToneContested Tone = "contested"
	ToneBlind     Tone = "blind"
)

// Notch is a run on the watch line.
type Notch struct {
	At      time.Time
	Number  int
	Kind    logbook.Kind
	Outcome logbook.Outcome
	Canary  bool // it carried a canary
}

// View is a ward as it stands, for readers. It never changes once it is made.
type View struct {
	ID, Cluster   string
	Made          uint64     // grows with each view that a process makes, so that of two of a ward the newer one is known
	Ward          *ward.Ward `cbor:"-"` // whoever is told of a ward by its lookout has its file
	File          string     `cbor:"-"`
	Roster        string     // that declares it
	Source        string     // the file in the roster's repository
	Head          string     // the commit that its repository was at when it was read
	Tag           string     // that a range of versions in its ref took
	Form          string     // plain, overlay, chart or template
	Chart         string
	Notes         []string // what of a chart was left out, and what of the file means nothing
	Misfiled      string   // what is wrong with the ward's file; the last good one is in force
	Standing      compare.Standing
	Health        health.Result
	Since         time.Time
	Says, Todo    string
	Rule          string // the name of the rule that says it
	Tone          Tone
	Pending       int
	Rotated       []object.Ref // of the pending ones: nothing but the values of their secrets is another
	Drifted       int
	DriftedFields int
	Contested     int
	Additions     int // fields and items that others added
	Tasks         int // tasks that are new or changed
	Repository    AsOf
	Live          AsOf
	Revision      *logbook.Revision
	Applied       *logbook.Revision
	Rejected      string
	Rejections    []logbook.Rejection // newest first
	Hold          *logbook.Hold
	WaitsFor      string
	HeldBack      string // what its roster's limits say against it
	Leaving       *logbook.Leaving
	Half          int       // objects that are not as what was applied as a whole has them, after a run that did not end well
	Retry         time.Time // when a run that failed is tried again; zero when it is not
	Guards        []plan.Guard
	Findings      int // of what it declares so much breaks rules, exceptions left out
	Run           *logbook.Entry
	RunDeadline   time.Time
	Canary        *canary.State // that the run carries, without its points; nil when it carries none
	RestoreAt     time.Time     // drift is not restored before
	Standings     []logbook.Stretch
	Notches       []Notch
	Count         int      // objects, declared or kept
	Kept          int      // objects that the ward keeps
	Astray        []Object // the objects that others changed or added to; Keeper.Objects lists them all
	Snapshots     []string // of the record that are in use

	// Beside each other they take no room, and of views there are very many.
	NeedsYou   bool
	Loudest    bool // going back failed: nothing else comes before it
	WaitsLoud  bool // what it waits for needs a person
	RunFailing bool // the run has failed, and its tasks for that go on
	Shares     bool // it wants a namespace that another ward keeps
}

// Object is one object of a ward.
type Object struct {
	Ref          object.Ref
	Version      string
	Step         int
	File         string
	Line         int
	Standing     compare.Standing
	Change       string // create, update, remove, or empty
	Health       health.Result
	Drift        []compare.Difference
	Contested    []bool // beside Drift
	Additions    []compare.Difference
	Task         object.Task
	Scaler       string // the autoscaler that has its replicas
	Left         []string
	Gone         bool
	Foreign      string // another service that says it keeps the object
	Restart      *object.Restart
	Since        time.Time
	AlreadyThere bool
	OwnedFields  int
	UID          string
}

// Same tells whether two views say the same, times of looking aside.
func Same(a, b *View) bool {
	x, y := *a, *b
	for _, v := range []*View{&x, &y} {
		v.Repository.At, v.Repository.Next, v.Live.At, v.Made = time.Time{}, time.Time{}, time.Time{}, 0
		if v.Canary != nil {
			c := *v.Canary
			c.Seen, c.Spent = time.Time{}, 0
			v.Canary = &c
		}
	}
	return reflect.DeepEqual(x, y)
}

// Order sorts views for people: what needs them first, then by cluster and name.
func Order(vs []*View) { slices.SortStableFunc(vs, Compare) }

// Compare tells which of two wards people read first: negative for a.
func Compare(a, b *View) int {
	first := func(a, b bool) int {
		switch {
		case a == b:
			return 0
		case a:
			return -1
		}
		return 1
	}
	if c := cmp.Or(first(a.Loudest, b.Loudest), first(a.NeedsYou, b.NeedsYou)); c != 0 {
		return c
	}
	if a.NeedsYou { // what was stopped before harm, before what only waits
		if c := cmp.Or(cmp.Compare(loudness[a.Tone], loudness[b.Tone]), first(len(a.Guards) > 0, len(b.Guards) > 0)); c != 0 {
			return c
		}
	}
	return cmp.Or(strings.Compare(a.Cluster, b.Cluster), strings.Compare(a.ID, b.ID))
}

var loudness = map[Tone]int{ToneFailing: 0, ToneContested: 1, ToneDrifted: 2, ToneBlind: 3, ToneBehind: 4, Quiet: 5}

// lookoutAway is the rule that Away goes by: it is no sentence among the others, since only who hears of no lookout can say it.
const lookoutAway = "its lookout is away"

// Away is how a ward stands whose lookout nobody hears of: what was known last, and that this is so. at is when it was heard of last. It needs
// somebody where it is so for long: a service that was started, or a wire that was cut, is called again within moments.
func Away(v *View, at time.Time, why string, long bool) *View {
	out := *v
	out.Live = AsOf{At: at, Problem: why}
	out.Standing, out.Health = compare.Blind, health.Result{Word: health.Unknown}
	out.Says, out.Todo, out.Rule = Capital(why), "It goes on by itself. What is shown is the last known.", lookoutAway
	if v.Says != "" && v.Rule != "the cluster can't be read" {
		out.Says += "; until then: " + v.Says
	}
	out.NeedsYou, out.Tone, out.Loudest = long, ToneBlind, false
	out.Run, out.RunDeadline, out.RunFailing, out.Canary = nil, time.Time{}, false, nil // whether it goes on nobody knows
	if at.After(out.Since) {
		out.Since = at
	}
	return &out
}
