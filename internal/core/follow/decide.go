package follow

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"
)

// Passed is a version that was not taken, and why.
type Passed struct {
	Version string `json:"version"`
	Why     string `json:"why"`
}

// Past is a version that the versions file was at.
type Past struct {
	Version string    `json:"version"`
	Digest  string    `json:"digest"`
	Commit  string    `json:"commit"`
	At      time.Time `json:"at"`
}

// Now is what is known at one look.
type Now struct {
	Rule
	At      time.Time
	Tags    []string
	Tag     string            // that the versions file says now; "" when it says nothing of the image
	Digest  string            // and its digest, "" when it says none
	Facts   map[string]Facts  // of tags, as far as they were asked for
	Seen    map[string]Seen   // of tags
	History []Past            // the newest last
	Bad     map[string]string // versions that wards have rejected, and why
	Refused map[string]string // versions whose proposals people have withdrawn, and what they said
	Asked   string            // a version that a person wants, whatever it is; "" when nobody does
}

// Decision is what follows from that.
type Decision struct {
	Ask    string // the tag that more has to be known of, before anything else
	Take   string // the tag to be written; "" when all is as it should be
	Digest string
	Passed []Passed // newer ones that are not taken
	Beyond string   // the newest that is out of the range
	Left   string   // why the file is left as it is, whatever there is
	Moved  string   // the digest that the tag of the file leads to now, when that is another
	Next   time.Time
}

// maxPassed is how many versions are told that are not taken.
const maxPassed = 20

// Decide says which version is to be written, and why newer ones are not.
func Decide(n Now) (d Decision) {
	fits, beyond := n.Sorted(n.Tags)
	d.Beyond = beyond
	if n.Order == ByTime && n.Asked == "" {
		if len(fits) > maxTimed {
			d.Left = fmt.Sprintf("%d tags match %s; %d are ordered by time at most, so write an expression that fewer do", len(fits), n.Match, maxTimed)
			return d
		}
		if fits, d.Ask = byTime(fits, n.Seen); d.Ask != "" {
			return d
		}
	}
	if n.Asked != "" {
		f, known := n.Facts[n.Asked]
		switch {
		case !slices.Contains(n.Tags, n.Asked):
			d.Left = n.Asked + " is not there"
		case !known:
			d.Ask = n.Asked
		case n.Tag != n.Asked || n.Digest != f.Digest:
			d.Take, d.Digest = n.Asked, f.Digest
		}
		return d
	}
	if d.Left = n.left(fits); d.Left != "" {
		return d
	}
	for _, tag := range fits {
		f, known := n.Facts[tag]
		if tag == n.Tag {
			switch {
			case n.Digest == "": // a person wrote the tag alone
			case !known:
				d.Ask = tag
			case f.Digest != n.Digest:
				d.Moved = f.Digest
			}
			return d
		}
		if why := n.never(tag); why != "" {
			d.pass(tag, why)
			continue
		}
		if !known {
			d.Ask = tag
			return d
		}
		why, wait := n.Refuses(f, n.Seen[tag], n.At)
		if why == "" {
			d.Take, d.Digest = tag, f.Digest
			return d
		}
		d.pass(tag, why)
		if !wait.IsZero() && (d.Next.IsZero() || wait.Before(d.Next)) {
			d.Next = wait
		}
	}
	return d
}

func (d *Decision) pass(tag, why string) {
	if len(d.Passed) < maxPassed {
		d.Passed = append(d.Passed, Passed{tag, why})
	}
}

// never tells why a version is not written, whatever it is.
func (n Now) never(tag string) string {
	if why := n.Bad[tag]; why != "" {
		return "it was rejected: " + why
	}
	if why := n.Refused[tag]; why != "" {
		return fmt.Sprintf("%s; take it all the same: vigila follow take %s %s", why, n.Name, tag)
	}
	if slices.ContainsFunc(n.History, func(w Past) bool { return w.Version == tag }) {
		return fmt.Sprintf("the file was at it before, and somebody took it back; take it all the same: vigila follow take %s %s", n.Name, tag)
	}
	return ""
}

// left tells why a file is left as it is: somebody took the version out of it, or wrote one that is not among those that are taken, and
// writing another would undo that.
func (n Now) left(fits []string) string {
	if slices.Contains(fits, n.Tag) {
		return ""
	}
	was := slices.ContainsFunc(n.History, func(p Past) bool { return p.Version != n.Tag })
	switch {
	case was && n.Tag == "":
		return fmt.Sprintf("its file says no version any more, and somebody wanted that; take one: vigila follow take %s VERSION", n.Name)
	case was:
		return fmt.Sprintf("its file says %s, which is none that %s takes, and somebody wrote that; take one: vigila follow take %s VERSION", n.Tag, n.Wants(), n.Name)
	case n.Match != nil || n.Tag == "":
		return ""
	}
	has, err := semver.NewVersion(strings.ReplaceAll(n.Tag, "_", "+"))
	if err != nil || len(fits) == 0 {
		return ""
	}
	if best, err := semver.NewVersion(strings.ReplaceAll(fits[0], "_", "+")); err == nil && has.GreaterThan(best) {
		return fmt.Sprintf("the file says %s, which is newer than what %s takes", n.Tag, n.Range)
	}
	return ""
}

// State is what is remembered of a follow from look to look.
type State struct {
	Looked  time.Time       `json:"looked,omitzero"` // when it was looked last
	Next    time.Time       `json:"next,omitzero"`
	Problem string          `json:"problem,omitempty"` // why it could not be looked
	First   time.Time       `json:"first,omitzero"`    // the first look of all
	Seen    map[string]Seen `json:"seen,omitempty"`
	Tag     string          `json:"tag,omitempty"` // that the file says
	Digest  string          `json:"digest,omitempty"`
	Passed  []Passed        `json:"passed,omitempty"`
	Beyond  string          `json:"beyond,omitempty"`
	Left    string          `json:"left,omitempty"`
	Moved   string          `json:"moved,omitempty"`
	Offered Offered         `json:"offered,omitzero"`
	History []Past          `json:"history,omitempty"`
	Facts   []Facts         `json:"facts,omitempty"` // of images, by digest: what one is never changes
}

// Offered is a version that is proposed, and not written yet.
type Offered struct {
	Version  string `json:"version"`
	Proposal int    `json:"proposal"`        // its number
	Asked    bool   `json:"asked,omitempty"` // a person wanted this one
}

// The bounds of what is remembered.
const (
	maxHistory = 50
	maxFacts   = 50
	maxSeen    = 1000
)

// See notes which tags are there, the newest first: each is remembered from when it was first seen.
func (s *State) See(now time.Time, fits []string) {
	if s.First.IsZero() {
		s.First = now
	}
	fits = fits[:min(len(fits), maxSeen)]
	seen := make(map[string]Seen, len(fits))
	for _, t := range fits {
		was, known := s.Seen[t]
		if !known {
			was = Seen{At: now, Standing: s.First.Equal(now)}
		}
		seen[t] = was
	}
	s.Seen = seen
}

// Fact is what is known of an image of a digest.
func (s *State) Fact(digest string) (f Facts, ok bool) {
	i := slices.IndexFunc(s.Facts, func(f Facts) bool { return f.Digest == digest })
	if i < 0 {
		return f, false
	}
	return s.Facts[i], true
}

// Made remembers when what a tag leads to was made, of a tag that was there at the first look.
func (s *State) Made(tag string, f Facts) {
	seen, known := s.Seen[tag]
	if !known || !seen.Standing || !seen.Created.IsZero() {
		return
	}
	if seen.Created = f.Created; f.Created.IsZero() || f.Created.After(seen.At) {
		seen.Created = seen.At
	}
	s.Seen[tag] = seen
}

// Learn remembers what an image is.
func (s *State) Learn(f Facts) {
	s.Facts = append(s.Facts, f)
	if len(s.Facts) > maxFacts {
		s.Facts = slices.Delete(s.Facts, 0, len(s.Facts)-maxFacts)
	}
}

// Wrote notes that the file is at a version now.
func (s *State) Wrote(w Past) {
	s.History = append(slices.DeleteFunc(s.History, func(x Past) bool { return x.Version == w.Version }), w)
	if len(s.History) > maxHistory {
		s.History = slices.Delete(s.History, 0, len(s.History)-maxHistory)
	}
	s.Tag, s.Digest, s.Moved = w.Version, w.Digest, ""
}

// Clone is a copy that shares nothing that changes.
func (s *State) Clone() State {
	out := *s
	out.Passed, out.History, out.Facts = slices.Clone(s.Passed), slices.Clone(s.History), slices.Clone(s.Facts)
	return out
}

// Says is how it is, in a few words; loud tells that a person should look.
func (s *State) Says(r Rule) (says string, loud bool) {
	switch {
	case s.Problem != "":
		return s.Problem, true
	case s.Looked.IsZero():
		return "not looked yet", false
	case s.Moved != "":
		return fmt.Sprintf("%s was moved to another image, %.19s…; take it: vigila follow take %s %s", s.Tag, s.Moved, r.Name, s.Tag), true
	case s.Left != "":
		return s.Left, true
	case s.Offered.Version != "":
		at := "nothing is written yet"
		if s.Tag != "" {
			at = "at " + s.Tag
		}
		return fmt.Sprintf("%s; %s waits for a review (#%d)", at, s.Offered.Version, s.Offered.Proposal), true
	case s.Tag == "" && len(s.Passed) == 0:
		return "no version fits " + r.Wants(), true
	case s.Tag == "":
		return s.Passed[0].Version + " is not taken: " + s.Passed[0].Why, true
	case len(s.Passed) > 0:
		return fmt.Sprintf("at %s; %s is not taken: %s", s.Tag, s.Passed[0].Version, s.Passed[0].Why), false
	case s.Beyond != "":
		return fmt.Sprintf("at %s, the newest that fits; %s is there", s.Tag, s.Beyond), false
	}
	return fmt.Sprintf("at %s, the newest", s.Tag), false
}
