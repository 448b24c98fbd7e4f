package roster

import (
	"fmt"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/standing"
)

// State is what is known of a roster's files, and what came of them.
type State struct {
	AsOf     standing.AsOf
	Revision *logbook.Revision
	Problems []Problem
	Guarded  string // what it would do, and a person has to allow
	Waits    string
	Leaving  []string // wards that have to end something first
	Known    bool     // its files have been followed since the start
}

// Clone is a copy that shares nothing that changes.
func (s State) Clone() State {
	s.Problems, s.Leaving = slices.Clone(s.Problems), slices.Clone(s.Leaving)
	return s
}

// Said is what a roster says of itself; its wards speak for themselves.
type Said struct {
	Standing compare.Standing
	NeedsYou bool
	Says     string
	Todo     string // what a person can do; "" when there is nothing
}

// Say is what a roster says: what matters more comes first.
func (s State) Say(name string) Said {
	switch {
	case !s.AsOf.Known && s.AsOf.Problem != "":
		return Said{compare.Blind, true, s.AsOf.Problem, "Its wards are kept as they were declared last."}
	case s.Waits != "":
		return Said{compare.Blind, false, standing.Capital(s.Waits), ""}
	case !s.Known && s.Revision == nil:
		return Said{compare.Blind, false, "Looking for the first time since the service started", ""}
	case len(s.Problems) > 0:
		says := s.Problems[0].At()
		if more := len(s.Problems) - 1; more > 0 {
			says += fmt.Sprintf(", and %d more", more)
		}
		return Said{compare.Behind, true, says, "Nobody else is stopped by it. All of it: vigila roster show " + name}
	case s.Guarded != "":
		return Said{compare.Behind, true, "Stopped before harm: " + s.Guarded, "To let them go: vigila roster sync " + name + " --allow " + MassRemoval}
	case len(s.Leaving) > 0:
		return Said{compare.Behind, false, strings.Join(s.Leaving, ", ") + " left the roster, and has to end first", ""}
	}
	return Said{compare.InStep, false, s.Revision.Title(), ""}
}

// Candidate is a ward that its roster may bring up.
type Candidate struct {
	Broken   string // why it can't be opened
	Leaving  bool
	Hold     *logbook.Hold
	Rejected string // why its revision is; "" when it is not
	Readable bool   // its repository
	Waits    string // for something in its repository
	Up       bool   // it was synced before
	Auto     bool   // it syncs by itself
	Pending  int
	Guard    string // that would stop it
	WaitsFor string // other wards
	ID       string
}

// Bring tells whether bringing its roster up lets a ward sync, and why: one that was never up, and one that syncs by itself
// anyway. What a person has decided about a ward that is up (to be asked, held, gone back, rejected) stays so.
func (c Candidate) Bring() (sync bool, why string) {
	defer func() {
		if sync && c.WaitsFor != "" {
			why += "; waits for " + c.WaitsFor
		}
	}()
	switch {
	case c.Broken != "":
		return false, c.Broken
	case c.Leaving:
		return false, "it is being removed"
	case c.Hold != nil:
		reason := c.Hold.Reason
		if reason == "" {
			reason = "no reason given"
		}
		return false, "held by " + c.Hold.By + ": " + reason
	case c.Rejected != "":
		return false, "its revision is rejected: " + c.Rejected
	case !c.Readable && c.Up && !c.Auto:
		return false, "its repository can't be read, and it asks first"
	case !c.Readable:
		return true, "once its repository can be read"
	case c.Waits != "":
		return false, c.Waits
	case c.Pending == 0:
		return false, "as declared"
	case c.Guard != "":
		return false, "a guard would stop it: " + c.Guard
	case !c.Up:
		return true, "never synced"
	case c.Auto:
		return true, "it syncs by itself"
	}
	return false, "it is up, and asks first: vigila sync " + c.ID
}
