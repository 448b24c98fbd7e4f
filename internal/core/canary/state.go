package canary

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// Phase is how far a canary is.
type Phase string

// The phases, in their order; from each but the last two it may go back.
const (
	Looking Phase = "looking"      // at how large the old version is, and which Pods are its
	Making  Phase = "making"       // what stands beside is made
	Sizing  Phase = "sizing"       // the new version gets the size of its next share
	Leading Phase = "leading"      // the routes get its weights
	Sharing Phase = "sharing"      // a share lasts
	Handing Phase = "handing over" // the new version gets all of the traffic
	Through Phase = "through"      // the rest of the revision is run
	Closing Phase = "closing"      // the routes are as declared again, and what was made beside goes
	Back    Phase = "going back"   // the routes lead to the old version again, and what was made beside goes
	Over    Phase = "over"
)

// State is what is remembered of a canary: whoever starts anew goes on from it. It holds no body of any object.
type State struct {
	Run      int       `json:"run"` // the entry of the run that carries it
	Snapshot string    `json:"snapshot"`
	By       string    `json:"by"`              // who began that run,
	Why      string    `json:"why"`             // and why,
	Allow    []string  `json:"allow,omitempty"` // with what allowed
	Was      []Was     `json:"was"`             // where its objects are to be found as they were before
	Phase    Phase     `json:"phase"`
	Share    int       `json:"share"`  // which of the shares, from 0
	Weight   int       `json:"weight"` // what the routes were given last, in percent; -1 when they were not touched
	Began    time.Time `json:"began,omitzero"`
	Since    time.Time `json:"since,omitzero"` // when the share began
	Seen     time.Time `json:"seen,omitzero"`  // when it was looked at last
	Ended    time.Time `json:"ended,omitzero"`

	Steps []ward.Share  `json:"steps"` // its shares, of all targets together
	Whole time.Duration `json:"whole"` // how long it may take

	Spent   time.Duration    `json:"spent"` // how much of the share has passed, as it was seen
	Held    *Held            `json:"held,omitempty"`
	Going   *Going           `json:"going,omitempty"` // why it goes, or went, back
	Blind   string           `json:"blind,omitempty"` // why it can't be looked at
	Targets []TargetState    `json:"targets"`
	Tallies map[string]Tally `json:"tallies"`
	Log     []Line           `json:"log"` // what happened, oldest first
}

// Was tells in which snapshot an object is as it was applied before the canary began.
type Was struct {
	Ref      object.Ref `json:"ref"`
	Snapshot string     `json:"snapshot"`
	Moves    bool       `json:"moves,omitempty"` // the run changes it
}

// TargetState is how it is with one workload.
type TargetState struct {
	Ref  object.Ref `json:"ref"`
	Size int        `json:"size"` // of the new version, as it was asked for; 0 before
	Live int        `json:"live"` // of the old one; in place, of both
	// InPlace: some of the workload's own Pods are new, those from Part on.
	InPlace bool         `json:"in_place,omitempty"`
	Part    int          `json:"part,omitempty"`
	Peak    int          `json:"peak"`   // and the most that it had since this began
	Hash    string       `json:"hash"`   // of the old Pods' ReplicaSet
	Ready   bool         `json:"ready"`  // the new version is
	Reason  string       `json:"reason"` // why it is not
	Images  [2]string    `json:"images"` // of the old and the new version
	Checks  []ward.Check `json:"checks"`
	Traffic bool         `json:"traffic,omitempty"` // a metrics source is asked how much either gets
	// Share is how much of the traffic the new version was seen to get, in percent, in this share; nil when that is not known.
	Share *float64 `json:"seen,omitempty"`
}

// Old is how many Pods of the old version there are.
func (t TargetState) Old() int {
	if t.InPlace {
		return max(t.Live-t.Size, 0)
	}
	return t.Live
}

// Held tells that it stays at its share.
type Held struct {
	By  string    `json:"by"`
	Why string    `json:"why,omitempty"`
	At  time.Time `json:"at"`
}

// Going is why a canary goes back.
type Going struct {
	Reason    string    `json:"reason"`
	At        time.Time `json:"at"`
	Stopped   bool      `json:"stopped,omitempty"`   // somebody stopped the run, or a newer revision takes over
	Blameless bool      `json:"blameless,omitempty"` // the reason is not the revision's own
	Trouble   string    `json:"trouble,omitempty"`   // what went wrong on the way back
}

// Tally is what a check has answered.
type Tally struct {
	Asked   int        `json:"asked"`
	Misses  int        `json:"misses"` // in all
	Row     int        `json:"row"`    // since the last good one
	Unknown int        `json:"unknown"`
	Last    judge.Word `json:"last"`
	Why     string     `json:"why"`
	At      time.Time  `json:"at,omitzero"` // when the last was asked
	Points  []Point    `json:"points"`
}

// Point is one answer for a chart. A side that is not known is nil.
type Point struct {
	At   time.Time `json:"at"`
	New  *float64  `json:"new,omitempty"`
	Old  *float64  `json:"old,omitempty"`
	Miss bool      `json:"miss,omitempty"`
}

// Line is something that happened.
type Line struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// The bounds of what is remembered.
const (
	maxPoints = 360
	maxLines  = 200
)

// note adds a point; of many every other one is let go, but for misses.
func (t *Tally) note(p Point) {
	t.Points = append(t.Points, p)
	if len(t.Points) <= maxPoints {
		return
	}
	kept := t.Points[:0]
	for i, p := range t.Points {
		if i%2 == 0 || p.Miss && i%4 == 1 {
			kept = append(kept, p)
		}
	}
	t.Points = kept
}

// Brief is a copy without the points of its checks.
func (s *State) Brief() *State {
	out := *s
	out.Tallies = make(map[string]Tally, len(s.Tallies))
	for key, t := range s.Tallies {
		t.Points = nil
		out.Tallies[key] = t
	}
	out = out.Clone()
	return &out
}

// Clone is a copy that shares nothing that changes.
func (s *State) Clone() State {
	out := *s
	out.Targets, out.Log = slices.Clone(s.Targets), slices.Clone(s.Log)
	out.Tallies = make(map[string]Tally, len(s.Tallies))
	for key, t := range s.Tallies {
		t.Points = slices.Clone(t.Points)
		out.Tallies[key] = t
	}
	if s.Held != nil {
		held := *s.Held
		out.Held = &held
	}
	if s.Going != nil {
		going := *s.Going
		out.Going = &going
	}
	return out
}

// Until is when it goes back, should it not be through by then.
func (s *State) Until() time.Time { return s.Began.Add(s.Whole) }

// At is the share that it is at, or on its way to, in percent.
func (s *State) At() int {
	if s.Share < len(s.Steps) {
		return s.Steps[s.Share].At
	}
	return 0
}

// Asks tells that it waits for a person to send it on.
func (s *State) Asks() bool {
	return s.Phase == Sharing && s.Held == nil && s.Share < len(s.Steps) && s.Steps[s.Share].Person
}

// Unknown lists the checks that know nothing of this share yet, or no more.
func (s *State) Unknown() (out []string) {
	for i, t := range s.Targets {
		for _, c := range t.Checks {
			if w := s.TallyOf(i, c.Name).Last; w != judge.Good && w != judge.Bad {
				out = append(out, c.Name)
			}
		}
	}
	return out
}

// Next is when the next share begins, as far as that is known; zero where it waits for something else than time.
func (s *State) Next() time.Time {
	if s.Phase != Sharing || s.Held != nil || s.Asks() || s.Share >= len(s.Steps) {
		return time.Time{}
	}
	if left := s.Steps[s.Share].For - s.Spent; left > 0 {
		return s.Seen.Add(left)
	}
	return time.Time{}
}

// Says is how far it is, in a few words.
func (s *State) Says() string {
	name := "the new version"
	if len(s.Targets) == 1 {
		name = "the new version of " + s.Targets[0].Ref.Short()
	}
	switch s.Phase {
	case Looking, Making, Sizing, Leading:
		return fmt.Sprintf("%s is made ready for %d %% of the traffic", name, s.At()) + s.blind()
	case Handing:
		return "all of the traffic goes to " + name
	case Through:
		return name + " has proved good, and the rest of the revision follows"
	case Closing:
		return name + " is in its place, and what stood beside goes"
	case Back:
		return fmt.Sprintf("goes back from %s: %s", name, s.Going.Reason)
	case Over:
		if s.Going != nil {
			return fmt.Sprintf("went back from %s: %s", name, s.Going.Reason)
		}
		return name + " went through"
	}
	out := fmt.Sprintf("%s has %d %% of the traffic", name, s.At())
	after := "all of it"
	if s.Share+1 < len(s.Steps) {
		after = fmt.Sprintf("%d %%", s.Steps[s.Share+1].At)
	}
	next, unknown := s.Next(), s.Unknown()
	switch {
	case s.Held != nil:
		out += ", and is held there by " + s.Held.By
		if s.Held.Why != "" {
			out += ": " + s.Held.Why
		}
	case s.Asks():
		out += ", and " + after + " waits for a person"
	case !next.IsZero():
		out += fmt.Sprintf("; %s at %s", after, clock(next))
	case len(unknown) > 0:
		out += fmt.Sprintf("; %s once it is known how it does: %s", after, strings.Join(unknown, ", "))
	case len(s.Targets) > 0 && !s.Targets[0].Ready:
		out += "; it is not ready: " + s.Targets[0].Reason
	}
	return out + s.blind()
}

func (s *State) blind() string {
	if s.Blind == "" {
		return ""
	}
	return "; it can't be looked at: " + s.Blind
}

func clock(t time.Time) string { return t.UTC().Format("15:04:05") + " UTC" }

// Active tells whether it goes on, so that what was made beside may be there.
func (s *State) Active() bool { return s != nil && s.Phase != Over }
