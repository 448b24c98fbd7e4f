package loop

import (
	"time"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

// Effect is something that is to be done because of an event, as a plain value. Its answer, where there is one, is an event.
type Effect any

// Calls of a run, named by the number of its entry. They come once everything that was to be written down by then is.
type (
	// StartDrive begins the calls of a run. Snapshot is where its objects come from; "" leaves each as it was.
	StartDrive struct {
		Run      int
		Snapshot string
		Within   time.Duration
	}
	// Deadline says when a run gives up; StopDrive lets nothing new begin, EndDrive ends every call.
	Deadline struct {
		Run int
		At  time.Time
	}
	StopDrive struct{ Run int }
	EndDrive  struct{ Run int }

	ApplyObject struct {
		Run   int
		Order drive.Order
	}
	RemoveObject struct{ Removal }
	MakeTask     struct {
		Run     int
		Task    record.TaskObject
		Object  object.Object
		Defined bool // its kind is defined by the same run
	}
	// SeeTask reads a task once its object is made: it may have ended before its watch was up. What is seen comes as Saw.
	SeeTask struct {
		Run     int
		Ref     object.Ref
		Version string
	}
	// FetchLog fetches the log of a task that has ended, and why it has.
	FetchLog struct {
		Run    int
		Ref    object.Ref
		UID    string
		Health health.Result
	}
	// EndTask keeps the log of a task that has not ended with its run, and removes its object.
	EndTask struct {
		Run         int
		Task        record.TaskObject
		Version     string
		UID         string
		Log, Remove bool
	}
)

// Looks, readings, watches and words.
type (
	LookUp  struct{ index.Lookup }
	LookFor struct {
		Ref     object.Ref
		Version string
	}
	LookAtClaim struct{ index.LookAtClaim }
	LookBelow   struct{ index.LookBelow }
	// LookBeside looks at the old and the new versions of a canary; its answer is LookedBeside. AskCheck asks a check; its answer is Checked.
	LookBeside struct {
		Run int
		Of  []BesideOf
	}
	AskCheck struct {
		Run       int
		Namespace string // of the workload
		canary.Ask
	}
	// Unstick frees a StatefulSet that goes back from Pods that keep it from that.
	Unstick struct {
		Run     int
		Ref     object.Ref
		Version string
	}
	// Read reads and renders what the ward declares. Old is what was declared before, which may be the same still.
	Read struct {
		AsOf standing.AsOf
		Old  *declared.Declaration
		Told int64
	}
	// Use says which places of stores the ward declares references to; what is known of them comes as Told.
	Use     struct{ Places []secret.Place }
	Watch   struct{ Kind object.Kind }
	Unwatch struct{ Kind object.Kind }
	// Later makes something happen to the ward after a while.
	Later struct {
		Wait  time.Duration
		Event Event
	}
	// Commit writes all of this down in one transaction. One is on its way at a time; its answer is Written.
	Commit struct{ Writes []record.Write }
	// Answer answers a Wished, a Question or an AwaitRead.
	Answer struct {
		Ticket Ticket
		Number int // of the entry of a run that began
		Err    error
	}
	// Note tells whoever listens that the ward is another, TellDependents the wards that wait for this one.
	Note           struct{}
	TellDependents struct{}
	// PassOn gives a state of an object to the ward that it is marked with.
	PassOn struct {
		Ref  object.Ref
		Body map[string]any
	}
	// PutBack tells everybody in the cluster that its data were put back; Undefine that a definition is gone.
	PutBack  struct{}
	Undefine struct{ Group string }
	CountRun struct {
		Kind    logbook.Kind
		Outcome logbook.Outcome
	}
	// Finish forgets the ward, whose removal is through.
	Finish struct{}
)

// BesideOf is a workload and what runs the new version beside it, in one apiVersion.
type BesideOf struct {
	Workload, Twin object.Ref
	Version        string
	Old, New       []string // names of the Services that lead to either alone
}

// What the ward does itself once all is written down.
type (
	happen struct{ event Event }
	// letGo lets others have an object, unless it is kept again by then.
	letGo struct{ ref object.Ref }
	// endTold is the end of a run, which the record has by now.
	endTold struct{ entry *logbook.Entry }
	nothing struct{}
)

// out notes something to be done, however the writes go; after what is to be done once everything that is to be written down by now is.
func (p *Placement) out(e Effect)   { p.outs = append(p.outs, e) }
func (p *Placement) after(e Effect) { p.now.then = append(p.now.then, e) }
