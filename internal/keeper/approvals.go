package keeper

import (
	"context"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/lane"
	"vigila.dev/vigila/internal/core/proposal"
)

// SetApprovals says how many approvals of whom the proposals of a repository need before they are merged; none when Count is 0.
type SetApprovals struct {
	Repo string
	proposal.Wanted
}

// Subject says what is asked for.
func (w SetApprovals) Subject() Subject { return Subject{"want approvals for", "repo", w.Repo} }

func (w SetApprovals) do(ctx context.Context, k *Keeper, _ Actor) (Repo, error) {
	l, err := k.source(w.Repo)
	if err != nil {
		return Repo{}, err
	}
	if err := w.Check(); err != nil {
		return Repo{}, fault(Invalid, "%v", err)
	}
	if err := k.approvers(w.Of); err != nil {
		return Repo{}, err
	}
	w.By = "repository " + w.Repo
	if err := k.store.PutApprovals(ctx, w.Repo, w.Wanted); err != nil {
		return Repo{}, err
	}
	k.proposals.forget() // each is judged anew by what is wanted now
	k.repoLooked(w.Repo, l.State().AsOf)
	return k.withApprovals(ctx, repoOf(l)), nil
}

// approvers tells of a name that nobody has who could approve.
func (k *Keeper) approvers(names []string) error {
	known := []string{string(grant.Operator), string(grant.Admin)}
	for _, t := range k.Teams() {
		known = append(known, t.Name)
	}
	for _, name := range names {
		if !slices.Contains(known, name) {
			return fault(Invalid, "there is no team %s whose approvals could be wanted; there are: %s", name, strings.Join(known, ", "))
		}
	}
	return nil
}

func (k *Keeper) withApprovals(ctx context.Context, r Repo) Repo {
	all, err := k.store.Approvals(ctx)
	if w, is := all[r.Name]; err == nil && is {
		r.Approvals = w
	}
	return r
}

// wanted is what a proposal needs before it is merged, as it is said now: by its repository, and by the stops that it lets a lot into. Errors
// tell that it is not known, which is not nothing.
func (k *Keeper) wanted(ctx context.Context, p *proposal.Proposal) (out []proposal.Wanted, err error) {
	all, err := k.store.Approvals(ctx)
	if err != nil {
		return nil, err
	}
	if w, is := all[p.Repo]; is {
		out = append(out, w)
	}
	if p.Origin.Kind != proposal.Lane {
		return out, nil
	}
	name, stop, _ := strings.Cut(p.Origin.Of, " ")
	l := k.lanes.of(name)
	if l == nil { // not read yet, or gone with its file: what its stops wanted when it was known is wanted
		return append(out, ofStops(p.Wants)...), nil
	}
	declared := l.declared()
	at, known := declared.Stop(stop)
	if !known {
		return append(out, ofStops(p.Wants)...), nil
	}
	group := declared.Group(at)
	for _, x := range l.now().Places { // labels of its request may have taken others along
		along := x.Has.Letting != nil && x.Has.Letting.Proposal == p.Number && p.Number > 0
		if along && !slices.ContainsFunc(group, func(g lane.Stop) bool { return g.Name == x.Name }) {
			group = append(group, x.Stop)
		}
	}
	for _, g := range group {
		if g.Approvals.Count > 0 {
			out = append(out, proposal.Wanted{Count: g.Approvals.Count, Of: g.Approvals.Of, By: stopWants + g.Name})
		}
	}
	return out, nil
}

// stopWants begins what wants an approval, where that is a stop.
const stopWants = "stop "

// ofStops are those of what is wanted that stops want.
func ofStops(all []proposal.Wanted) (out []proposal.Wanted) {
	for _, w := range all {
		if strings.HasPrefix(w.By, stopWants) {
			out = append(out, w)
		}
	}
	return out
}

// as are the names that an approval counts by: the role of who gives it, and their teams.
func (a Actor) as() (out []string) {
	if a.Rights == nil {
		return nil
	}
	if r := string(a.Rights.Role); r != "" {
		out = append(out, r)
	}
	for _, g := range a.Rights.Grants {
		if name, is := strings.CutPrefix(g.By, "team "); is && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// approver is whose approval it is: of a token that somebody has made, theirs; or they would approve for two.
func (a Actor) approver() string {
	if a.Person.Provider != "" {
		return a.Person.Title()
	}
	return a.String()
}
