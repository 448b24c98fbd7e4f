package loop

import (
	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

// Event is something that happens to a ward, as a plain value: a state that was watched, an answer, a reading, a wish, the clock.
// Runs are named by the number of their entry.
type Event any

// What the cluster tells.
type (
	// Saw is a state of an object, from a watch. Of several that wait only the newest is kept; the body is filled in when its turn comes.
	Saw struct {
		Ref  object.Ref
		Body map[string]any
	}
	// SawListed tells that a whole list had an object in a state; that itself comes as Saw.
	SawListed struct {
		Ref  object.Ref
		Body map[string]any
	}
	// SawGone is the last state of an object that was deleted.
	SawGone struct {
		Ref  object.Ref
		Body map[string]any
	}
	// Listed tells that a kind was listed, in a namespace or in all, and what of it there is.
	Listed struct {
		Group, Kind, Namespace string
		All                    map[object.Ref]bool
	}
	// Undefined tells that the definition of a kind of the group is gone.
	Undefined struct{ Group string }
	// WatchMoved tells that a watch came up or broke.
	WatchMoved struct{}
	// LookedUp answers LookUp, LookedFor answers LookFor.
	LookedUp struct {
		Ref object.Ref
		index.Answer
	}
	LookedFor struct {
		Ref object.Ref
		index.Answer
	}
	// ClaimLooked tells that a claim is bound once somebody uses it; ClaimDue that it is time to ask again.
	ClaimLooked struct{ Claim index.LookAtClaim }
	ClaimDue    struct{ Claim index.LookAtClaim }
	// LookedBelow are the Pods below a workload; Well is false when they could not be read.
	LookedBelow struct {
		Of   index.LookBelow
		Pods []map[string]any
		Well bool
	}
)

// What its repositories and rosters tell.
type (
	// WasRead tells of a look that found something new, went wrong, or can't tell; WasSame of one that found nothing new.
	WasRead struct {
		Name string
		AsOf standing.AsOf
	}
	WasSame struct {
		Name string
		AsOf standing.AsOf
	}
	// Rendered is what was read, or why it could not be; Told how many looks are taken in with it.
	Rendered struct {
		AsOf     standing.AsOf
		Declared *declared.Declaration
		Told     int64
		Failed   *Unreadable
	}
	// ReadAgain tells that it is time to try once more what could not be checked.
	ReadAgain struct{ AsOf standing.AsOf }
	// Forgotten tells that what it declares holds no more, although its tree is the same: the health rules of its roster are others.
	Forgotten struct{ AsOf standing.AsOf }
	// Filed tells what is wrong with its file, and what its roster's limits say against it.
	Filed struct{ Misfiled, Limited string }
)

// Unreadable is why something could not be read, or is not let in.
type Unreadable struct {
	Text      string
	HeldBack  bool // it was read well, and is more than the limits of the roster let it do
	Unchecked bool // the cluster could not be asked about it
	Unasked   bool // whoever reads it could not be asked: what was known to be wrong is what is known still
}

// What becomes of a run.
type (
	// LookedBeside answers LookBeside; Problem is why it could not be looked. Checked answers AskCheck.
	LookedBeside struct {
		Run     int
		Sides   []canary.Side
		Problem string
	}
	Checked struct {
		Run    int
		Target int
		Check  string
		New    judge.Answer
		Old    *judge.Answer
	}
	// begun tells that a run is written down; theirs are objects that the record knows to be another ward's.
	begun struct {
		run    int
		theirs map[object.Ref]string
	}
	// Applied answers ApplyObject; Trying and Lost are told in its course.
	Applied struct {
		Run int
		drive.Applied
	}
	Trying struct {
		Run  int
		Ref  object.Ref
		Text string
	}
	Lost struct {
		Run int
		Ref object.Ref
	}
	// Removed answers RemoveObject; RemoveDue tells that it is time to ask again whether somebody wants the object.
	Removed struct {
		Removal
		Spared drive.Spared
		Unread bool // somebody has to read first what has come since
		Failed *drive.Failure
	}
	RemoveDue struct{ Removal }
	// TaskMade answers MakeTask, TaskEnded answers FetchLog.
	TaskMade struct {
		Run    int
		Task   record.TaskObject
		Body   map[string]any
		Failed *drive.Failure
	}
	TaskEnded struct {
		Run         int
		Ref         object.Ref
		Health      health.Result
		Text, Cause string
	}
	// TaskLogged and TaskRemoved answer EndTask.
	TaskLogged struct {
		Run  int
		Ref  object.Ref
		Text string
	}
	TaskRemoved struct{ Task record.TaskObject }
)

// The rest.
type (
	// Begins is the first event.
	Begins struct{}
	// Woken makes the ward look at itself: something elsewhere is another, or it is late.
	Woken struct{}
	// Freed tells that another ward let go of an object, Told that a store has told something of what the ward uses: values are others, or
	// it can't be read any more, or again.
	Freed struct{}
	Told  struct{ Others bool }
	// Ticked tells a run the time.
	Ticked struct{}
	// Written answers Commit; Problem is why it was not written.
	Written struct{ Problem error }
	rewrite struct{}
	// Unfinished tells that the end of its removal did not go through.
	Unfinished struct{}
	// Wished is what a person or a roster wants; it is answered once it is written down.
	Wished struct {
		Ticket Ticket
		Wish   Wish
	}
	// Question is what somebody wants to know: a function that reads. It is the one event that is no plain value.
	Question struct {
		Ticket Ticket
		Ask    func() error
	}
	// AwaitRead is answered once nothing is being read.
	AwaitRead struct{ Ticket Ticket }
)

// Ticket names somebody who waits for an answer.
type Ticket uint64

// Removal is an object that a run removes.
type Removal struct {
	Run      int
	Ref      object.Ref
	Intent   Intent
	Asked    Marks // what others had been told when its turn came first
	Leaving  bool  // the ward is being removed
	Baseline compare.Baseline
	Kept     bool   // Baseline is what the ward keeps of it
	Other    string // the uid of what is there instead of what was applied
	Theirs   string // the service that has taken it over
	task     bool
}

// Intent is what a run means to do, as far as removals depend on it.
type Intent struct {
	Kind    run.Kind
	Follows bool // the newest revision, rather than one that was asked for
}
