package proposal

import (
	"fmt"
	"slices"
	"strings"
)

// Wanted is how many approvals of whom a proposal needs before it is merged. Those of whoever asked for it don't count.
type Wanted struct {
	Count int      `json:"count"`
	Of    []string `json:"of,omitempty"` // teams, or roles (operator, admin); anybody who may approve when empty
	By    string   `json:"by"`           // what wants them: repository moorings, stop skerry
}

// Check tells what is wrong with it.
func (w Wanted) Check() error {
	switch {
	case w.Count < 0 || w.Count > 20:
		return fmt.Errorf("%d approvals can't be wanted; write how many, from 1 to 20", w.Count)
	case w.Count == 0 && len(w.Of) > 0:
		return fmt.Errorf("how many approvals of %s are wanted? Write count: 1 or more", strings.Join(w.Of, ", "))
	}
	return nil
}

// String says what is wanted.
func (w Wanted) String() string {
	what := "1 approval"
	if w.Count != 1 {
		what = fmt.Sprintf("%d approvals", w.Count)
	}
	if len(w.Of) > 0 {
		what += " of " + strings.Join(w.Of, " or ")
	}
	return what
}

// Counts lists the people whose approvals count for what is wanted: each once, of the proposal as it is now, and not the author's. Those of
// its code host count where it does not matter whose they are: their names there say nothing of teams here.
func (p *Proposal) Counts(w Wanted) (names []string) {
	add := func(a Approval, fits bool) {
		current := a.Commit == p.Commit || a.Commit == ""
		if fits && current && a.By != p.By && a.By != p.Author && !slices.Contains(names, a.By) {
			names = append(names, a.By)
		}
	}
	for _, a := range p.Approvals {
		add(a, len(w.Of) == 0 || slices.ContainsFunc(a.As, func(as string) bool { return slices.Contains(w.Of, as) }))
	}
	for _, a := range p.Request.Approvals {
		add(a, len(w.Of) == 0)
	}
	return names
}

// Lacks says which approvals a proposal still needs before it can be merged; "" when none.
func (p *Proposal) Lacks() string {
	var out []string
	for _, w := range p.Wants {
		have := p.Counts(w)
		if len(have) >= w.Count {
			continue
		}
		text := fmt.Sprintf("%s wants %s", w.By, w)
		if len(have) > 0 {
			text += ", and has " + strings.Join(have, ", ")
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}
