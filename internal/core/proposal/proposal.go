// Package proposal is the life of a change that Vigila makes to a repository: from the wish to the branch, through its review, until it
// is merged or withdrawn. It is pure: what a look at the repository has found comes in, what follows from it goes out. Start with
// Proposal and its After.
package proposal

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"
)

// Standing is where a proposal is.
type Standing string

// The standings. The last two are ends.
const (
	Opening   Standing = "opening" // it is written down, and its branch is on its way
	Open      Standing = "open"
	Stale     Standing = "stale" // it can't be laid over what its base says by now
	Merged    Standing = "merged"
	Withdrawn Standing = "withdrawn"
)

// Kind is what a proposal comes from.
type Kind string

// The kinds.
const (
	Back   Kind = "back"   // git is to say again what it said at a ward's entry
	Files  Kind = "files"  // somebody's files: of a new ward, or of what was adopted
	Follow Kind = "follow" // a newer version
	Lane   Kind = "lane"   // a lot that is to be let in at stops
	Kit    Kind = "kit"    // what a kit makes, or a component that is switched
)

// Origin is the wish that a proposal comes from. The same wish twice is one proposal.
type Origin struct {
	Kind Kind   `json:"kind"`
	Of   string `json:"of"`   // the ward, the follow, or the lane and its stop
	Want string `json:"want"` // what is wanted of it
}

// Key names the wish.
func (o Origin) Key() string { return strings.Join([]string{string(o.Kind), o.Of, o.Want}, " ") }

// Replaces tells whether it takes the place of another wish whose proposal is still open: of a follow, of the stop of a lane, and of what a
// kit makes, there is one at a time.
func (o Origin) Replaces(old Origin) bool {
	return (o.Kind == Follow || o.Kind == Lane || o.Kind == Kit) && old.Kind == o.Kind && old.Of == o.Of && old.Want != o.Want
}

// Approval is that somebody has read a proposal as it was at a commit, and wants it.
type Approval struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Commit string    `json:"commit"`
	As     []string  `json:"as,omitempty"` // the role and the teams that they had then
}

// Proposal is a change to a repository, with its review.
type Proposal struct {
	Number       int
	Repo         string
	Base, Branch string // the branch that it is meant for, and its own
	Origin       Origin
	Standing     Standing
	More
}

// More is what else is known of a proposal.
type More struct {
	Title     string     `json:"title"`
	Why       string     `json:"why,omitempty"` // more than the title says; some lines
	By        string     `json:"by"`
	Author    string     `json:"author,omitempty"` // the person behind By, where that is a token that they made
	Opened    time.Time  `json:"opened"`
	Commit    string     `json:"commit,omitempty"` // the head of its branch: what is reviewed
	Own       bool       `json:"own,omitempty"`    // nobody but Vigila has written to its branch
	Conflicts []string   `json:"conflicts,omitempty"`
	Approvals []Approval `json:"approvals,omitempty"`
	Wants     []Wanted   `json:"wants,omitempty"` // before it is merged
	Said      string     `json:"said,omitempty"`  // why it ended, or is stale
	Ended     time.Time  `json:"ended,omitzero"`
	EndedBy   string     `json:"ended_by,omitempty"` // "" when it happened in the repository
	Result    string     `json:"result,omitempty"`   // the commit of the base that holds it
	Request   Request    `json:"request,omitzero"`   // on the repository's code host, where it has one
}

// Request is the request to merge a proposal's branch, on a code host, as it was last seen there.
type Request struct {
	Number    int        `json:"number"`
	URL       string     `json:"url,omitempty"`
	Approvals []Approval `json:"approvals,omitempty"` // of people there; a Commit is "" where the host does not tell
	Checks    string     `json:"checks,omitempty"`    // passed, running or failed; "" where there are none
	Labels    []string   `json:"labels,omitempty"`
	By        string     `json:"by,omitempty"` // who merged it there
}

// Seen is what a look at the repository found.
type Seen struct {
	At        time.Time
	Base      string   // the commit that the base is at; "" when there is no such branch
	Head      string   // the commit that its branch is at; "" when there is none
	Within    bool     // the base's history holds the head, or the last one that was known
	Same      bool     // laid over the base it would change nothing
	Conflicts []string // files that both sides have changed, each in its own way
	Problem   string   // why it can't be told whether the two go together
}

// Same tells whether nothing of it is another.
func (p Proposal) Same(o Proposal) bool { return reflect.DeepEqual(p, o) }

// Over tells whether it has come to an end.
func (p *Proposal) Over() bool { return p.Standing == Merged || p.Standing == Withdrawn }

// Opens notes that its branch is there.
func (p Proposal) Opens(commit string) Proposal {
	p.Standing, p.Commit, p.Own = Open, commit, true
	return p
}

// After is the proposal once the repository was looked at.
func (p Proposal) After(s Seen) Proposal {
	if p.Over() || p.Standing == Opening {
		return p
	}
	if s.Head != "" && s.Head != p.Commit {
		p.Commit, p.Own = s.Head, false
	}
	p.Conflicts = nil
	switch {
	case s.Base == "":
		p.Standing, p.Said = Stale, fmt.Sprintf("there is no branch %s in %s any more", p.Base, p.Repo)
	case s.Within && p.Request.By != "":
		return p.End(Merged, s.At, p.Request.By, "on the code host", s.Base)
	case s.Within:
		return p.End(Merged, s.At, "", "was merged in the repository", s.Base)
	case s.Same:
		return p.End(Merged, s.At, "", "the same is on "+p.Base+" by now", s.Base)
	case s.Head == "":
		return p.End(Withdrawn, s.At, "", "its branch was deleted in the repository", "")
	case s.Problem != "":
		p.Standing, p.Said = Stale, s.Problem
	case len(s.Conflicts) > 0:
		p.Standing, p.Said, p.Conflicts = Stale, fmt.Sprintf("changed on %s as well, in another way: %s", p.Base, few(s.Conflicts)), s.Conflicts
	default:
		p.Standing, p.Said = Open, ""
	}
	return p
}

// End brings it to its end.
func (p Proposal) End(how Standing, at time.Time, by, said, result string) Proposal {
	p.Standing, p.Ended, p.EndedBy, p.Said, p.Result, p.Conflicts = how, at, by, said, result, nil
	return p
}

// Approve notes that somebody approves it as it is now; again by the same person it is the newer one that counts.
func (p Proposal) Approve(by string, as []string, at time.Time) Proposal {
	kept := slices.DeleteFunc(slices.Clone(p.Approvals), func(a Approval) bool { return a.By == by })
	p.Approvals = append(kept, Approval{By: by, At: at, Commit: p.Commit, As: as})
	return p
}

// Approved lists who has approved it as it is now, here or on its code host; earlier those who approved another commit.
func (p *Proposal) Approved() (now, earlier []string) {
	for _, a := range slices.Concat(p.Approvals, p.Request.Approvals) {
		if a.Commit == p.Commit || a.Commit == "" {
			now = append(now, a.By)
		} else {
			earlier = append(earlier, a.By)
		}
	}
	return now, earlier
}

// Says is how it is, in one line; loud tells that it waits for a person.
func (p *Proposal) Says() (says string, loud bool) {
	now, earlier := p.Approved()
	switch {
	case p.Standing == Opening:
		return "its branch is being pushed", false
	case p.Standing == Stale:
		return p.Said, true
	case p.Over() && p.EndedBy != "" && p.Said != "":
		return fmt.Sprintf("%s by %s: %s", p.Standing, p.EndedBy, p.Said), false
	case p.Over() && p.EndedBy != "":
		return fmt.Sprintf("%s by %s", p.Standing, p.EndedBy), false
	case p.Over():
		return p.Said, false
	case p.Request.Checks == "failed":
		return "the checks of its code host have failed", true
	case p.Request.Checks == "running":
		return "the checks of its code host are running", false
	case p.Lacks() != "":
		return "waits for approvals: " + p.Lacks(), true
	case len(now) > 0:
		return "approved by " + strings.Join(now, ", ") + "; waits for its merge", true
	case len(earlier) > 0:
		return "approved by " + strings.Join(earlier, ", ") + " before its branch was changed; waits for a review", true
	}
	return "waits for a review", true
}

func few(all []string) string {
	if len(all) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(all[:3], ", "), len(all)-3)
	}
	return strings.Join(all, ", ")
}
