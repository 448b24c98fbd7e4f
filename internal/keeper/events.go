package keeper

import (
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

// event is something that happens to a ward, as a plain value: a state that was watched, an answer, a reading, a wish, the clock.
// Runs are named by the number of their entry.
type event any

// What the cluster tells.
type (
	// saw is a state of an object, from a watch. Of several that wait only the newest is kept; body is filled in when its turn comes.
	saw struct {
		ref  object.Ref
		body map[string]any
	}
	// sawListed tells that a whole list had an object in a state; that itself comes as saw.
	sawListed struct {
		ref  object.Ref
		body map[string]any
	}
	// sawGone is the last state of an object that was deleted.
	sawGone struct {
		ref  object.Ref
		body map[string]any
	}
	// listed tells that a kind was listed, and what of it there is.
	listed struct {
		group, kind string
		all         map[object.Ref]bool
	}
	// undefined tells that the definition of a kind of the group is gone.
	undefined struct{ group string }
	// watchMoved tells that a watch came up or broke.
	watchMoved struct{}
	// lookedUp answers a look by name at something the ward deals with, lookedFor one at something that it has nothing to do with.
	lookedUp struct {
		ref  object.Ref
		body map[string]any
		err  error
	}
	lookedFor struct {
		ref  object.Ref
		body map[string]any
		err  error
	}
	// claimLooked tells whether a claim is bound once somebody uses it; claimDue that it is time to ask again.
	claimLooked struct{ claim index.LookAtClaim }
	claimDue    struct{ claim index.LookAtClaim }
	// lookedBelow are the Pods below a workload; well is false when they could not be read.
	lookedBelow struct {
		of   index.LookBelow
		pods []map[string]any
		well bool
	}
)

// What its repositories and rosters tell.
type (
	// wasRead tells of a look that found something new, went wrong, or can't tell; wasSame of one that found nothing new.
	wasRead struct {
		name string
		asOf standing.AsOf
	}
	wasSame struct {
		name string
		asOf standing.AsOf
	}
	// rendered is what was read; told how many looks were taken in with it.
	rendered struct {
		asOf     standing.AsOf
		declared *declared.Declaration
		told     int64
		err      error
	}
	// readAgain tells that it is time to try once more what could not be checked.
	readAgain struct{ asOf standing.AsOf }
	// forgotten tells that what it declares holds no more, although its tree is the same: the health rules of its roster are others.
	forgotten struct{ asOf standing.AsOf }
	// filed tells what is wrong with its file, and what its roster's limits say against it.
	filed struct{ misfiled, limited string }
)

// What becomes of a run.
type (
	// begun tells that a run is written down; theirs are objects that the record knows to be another ward's.
	begun struct {
		run    int
		theirs map[object.Ref]string
	}
	// applied answers an apply; trying and lost are told in its course.
	applied struct {
		run int
		drive.Applied
	}
	trying struct {
		run int
		ref object.Ref
		err error
	}
	lost struct {
		run int
		ref object.Ref
	}
	// removed answers a removal; removeDue tells that it is time to ask again whether somebody wants the object.
	removed struct {
		removal
		spared drive.Spared
		err    error
	}
	removeDue struct{ removal }
	// taskMade answers the making of a task's object, taskEnded brings its log once it has ended.
	taskMade struct {
		run  int
		task record.TaskObject
		body map[string]any
		err  error
	}
	taskEnded struct {
		run         int
		ref         object.Ref
		health      health.Result
		text, cause string
	}
	// taskLogged is the log of a task that had not ended with its run; taskRemoved tells that a task's object is gone.
	taskLogged struct {
		run  int
		ref  object.Ref
		text string
	}
	taskRemoved struct{ task record.TaskObject }
)

// The rest.
type (
	// woken makes the ward look at itself: something elsewhere is another, or it is late.
	woken struct{}
	// freed tells that another ward let go of an object.
	freed struct{}
	// begins is the first.
	begins struct{}
	// ticked tells a run the time.
	ticked struct{}
	// written answers a batch of writes; rewrite tells that it is time to try that again.
	written struct{ batch *batch }
	rewrite struct{ batch *batch }
	// unfinished tells that the end of its removal did not go through.
	unfinished struct{}
	// wished is what a person, a roster or the API wants to know or done; reply gets the answer once it is written down.
	wished struct {
		do    func() error
		reply chan<- error
	}
)

// removal is an object that a run removes.
type removal struct {
	run     int
	ref     object.Ref
	intent  intent
	asked   marks // what others had been told when its turn came first
	leaving bool
	b       compare.Baseline
	kept    bool   // b is what the ward keeps of it
	other   string // the uid of what is there instead of what was applied
	theirs  string // the service that has taken it over
	task    bool
}

// intent is what a run means to do, as far as removals depend on it.
type intent struct {
	kind    run.Kind
	follows bool // the newest revision, rather than one that was asked for
}
