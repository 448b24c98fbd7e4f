package index

import (
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
)

// Live is what is known of an object in the cluster, without the object.
type Live struct {
	Revision   int64
	UID        string
	Health     health.Result
	Present    bool
	Verified   bool // it was looked for by name
	CauseKnown bool // what is wrong below it was looked for
	Below      bool // a look below is on its way
	Watched    bool // seen by a watch
	Unweighed  bool // it was seen while it was in doubt, so nobody has held that against what was applied
	Unmarked   bool // it has lost the ward's label, so no watch brings it
	Unbound    bool // a claim that was never bound
	Later      bool // a claim that is bound when a Pod uses it first, and none does
	Brief      bool // a Job that is removed by its own rule once it is finished
	Finished   bool // a Job that is
	Ended      bool // it is not there, by its own rule
	*Trouble        // never nil; read it, and change it through upset
}

// Trouble is what there is to say of an object that is not simply as it should be.
type Trouble struct {
	Imprint object.Imprint // that Drift and Added were found for
	Foreign string         // the id of another service that says it keeps the object
	Cause   *health.Result // what is wrong below it, while it is not ready
	Drift   []compare.Difference
	Added   []compare.Difference // what others added
	Since   time.Time            // of the drift, as noticed
	Restart *object.Restart      // somebody let its Pods be made anew
}

// none is the trouble of the many objects that have none.
var none = &Trouble{}

// upset gives an object a trouble of its own.
func (l *Live) upset() *Trouble {
	if l.Trouble == none {
		l.Trouble = &Trouble{}
	}
	return l.Trouble
}

// State is how the object does, with what is known from below it.
func (l *Live) State() health.Result {
	if l.Later {
		return health.Result{Word: health.Ready, Reason: "is bound when a Pod uses it first"}
	}
	if l.Cause != nil && l.Cause.Word == health.Settling && l.Health.Word == health.Settling && l.Health.Reason != "" {
		return health.Result{Word: health.Settling, Reason: l.Health.Reason + "; " + l.Cause.Reason, Final: l.Health.Final}
	}
	if l.Cause != nil && l.Health.Word != health.Ready {
		return health.Worst(health.Result{Word: l.Cause.Word, Reason: l.Cause.Reason, Final: l.Health.Final}, health.Result{Word: l.Health.Word, Reason: l.Cause.Reason, Final: l.Health.Final})
	}
	return l.Health
}

// Missing tells that the object is not there, and that this is not as it should be.
func (l *Live) Missing() bool { return !l.Present && l.Verified && !l.Ended }

// plain tells that there is nothing more to say of an object than which version of it was seen.
func (l *Live) plain() bool {
	return l.Present && l.Watched && !l.Unmarked && !l.Below && !l.Brief && l.Trouble == none && l.Health == health.Result{Word: health.Ready}
}

// read notes what of a state counts when the object is gone, or is to be removed.
func (l *Live) read(ref object.Ref, body map[string]any) {
	l.Unbound, l.Later, l.Ended = false, false, false
	spec, _ := body["spec"].(map[string]any)
	switch ref.Group + "/" + ref.Kind {
	case "batch/Job":
		l.Brief, l.Finished = spec["ttlSecondsAfterFinished"] != nil, health.Finished(body)
	case "/PersistentVolumeClaim":
		status, _ := body["status"].(map[string]any)
		volume, _ := spec["volumeName"].(string)
		l.Unbound = volume == "" && (status["phase"] == nil || status["phase"] == "Pending")
	}
}
