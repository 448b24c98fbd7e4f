// Package logbook holds what is remembered of a ward: what ran and how it ended, what was rejected, held or put back, and how it
// stood. Start with Entry.
package logbook

import (
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/object"
)

// Revision is a commit, or the version of a chart, as entries keep it.
type Revision struct {
	ID      string    `json:"id"`
	Subject string    `json:"subject,omitempty"`
	Author  string    `json:"author,omitempty"`
	At      time.Time `json:"at,omitzero"`
}

// Short is how people write a revision: the first seven characters of its id; "nothing" when there is none.
func (r *Revision) Short() string {
	if r == nil || r.ID == "" {
		return "nothing"
	}
	return r.ID[:min(7, len(r.ID))]
}

// Title is a revision with its subject; empty when there is none.
func (r *Revision) Title() string {
	if r == nil {
		return ""
	}
	return strings.TrimSpace(r.Short() + " " + r.Subject)
}

// Kind is what an entry tells of: one of those below, or a kind of run, which package run names.
type Kind string

// What a logbook tells of beside runs.
const (
	Drifts  Kind = "drift" // drift that was noticed, or that ended by itself
	Holds   Kind = "hold"
	Frees   Kind = "release"
	Rejects Kind = "reject"
	Accepts Kind = "accept"
	Removes Kind = "remove" // the ward
	Sets    Kind = "secret" // a secret value that it uses was set
)

// Outcome is how it ended, and State how far a run is, or was, with one object; package run names both.
type (
	Outcome string
	State   string
)

// Entry is one line of a logbook.
type Entry struct {
	Placement string
	Number    int
	Kind      Kind
	Outcome   Outcome
	By        string
	Why       string
	Reason    string
	Revision  *Revision
	ToEntry   int
	Started   time.Time
	Ended     time.Time
	Snapshot  string
	Objects   []EntryObject
	Canary    bool // it carried a canary
}

// EntryObject is the outcome of a run for one object.
type EntryObject struct {
	Ref      object.Ref  `json:"ref"`
	Step     int         `json:"step,omitempty"`
	Task     object.Task `json:"task,omitempty"` // before, after or failed; empty for an object that is kept
	Replaced bool        `json:"replaced,omitempty"`
	State    State       `json:"state"`
	Reason   string      `json:"reason,omitempty"`
	Began    time.Time   `json:"began,omitzero"`
	Ended    time.Time   `json:"ended,omitzero"`
	Log      bool        `json:"log,omitempty"` // the log of the task is kept
}

// Hold stops automatic runs.
type Hold struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Until  time.Time `json:"until,omitzero"`
	Reason string    `json:"reason,omitempty"`
	Entry  int       `json:"entry,omitempty"`
}

// Leaving tells that a ward is being removed.
type Leaving struct {
	By        string    `json:"by"`
	Why       string    `json:"why,omitempty"`
	At        time.Time `json:"at"`
	Dismantle bool      `json:"dismantle,omitempty"` // its objects are removed first
	Allow     []string  `json:"allow,omitempty"`     // guards that may be passed
}

// Rejection is a revision that automatic runs don't go to.
type Rejection struct {
	Revision string
	Subject  string
	Why      string
	By       string
	At       time.Time
	Declared string // a digest of what was declared; empty when the revision as such is rejected
}

// Stretch is a standing since a time.
type Stretch struct {
	From     time.Time
	Standing string
	Health   string
}

// Vigila is who did what nobody asked for.
const Vigila = "vigila"

// Restored is one field that was put back after somebody changed it.
type Restored struct {
	Ref  object.Ref
	Path string
	Who  string
	At   time.Time
}
