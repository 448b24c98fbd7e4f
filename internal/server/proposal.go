package server

import (
	"cmp"
	"fmt"
	"maps"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// ListProposals is GET /proposals.
func (s *server) ListProposals(c *gin.Context, q ListProposalsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	find := record.FindProposals{Repo: q.Repo, Live: q.Live, Search: q.Search, Limit: limit, Offset: offset}
	if w := who(c); !w.Rights.All() { // members see what they have asked for, what they may approve, and what their lanes offer
		find.Seen = w.SeenProposals()
		if find.Repo != "" && !slices.Contains(find.Seen.Repos, find.Repo) { // what they don't see is not there
			find.Repo = ""
		}
	}
	all, total, err := s.Keeper.Proposals(c, find)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := ProposalList{Total: total, Items: []Proposal{}}
	for i := range all {
		out.Items = append(out.Items, proposalOf(&all[i]))
	}
	c.JSON(http.StatusOK, out)
}

// GetProposal is GET /proposals/{number}.
func (s *server) GetProposal(c *gin.Context, number ProposalNumber) {
	answer(s, c, proposalOf)(s.seenProposal(c, number))
}

// seenProposal is a proposal that whoever asks sees: a member, what they have asked for, and what their lanes offer.
func (s *server) seenProposal(c *gin.Context, number int) (*proposal.Proposal, error) {
	p, err := s.Keeper.Proposal(c, number)
	if w := who(c); err == nil && !w.SeesProposal(p) {
		return nil, &keeper.Fault{Kind: keeper.NotFound, Text: fmt.Sprintf("there is no proposal %d; see vigila propose list", number)}
	}
	return p, err
}

// GetProposalEffect is GET /proposals/{number}/effect.
func (s *server) GetProposalEffect(c *gin.Context, number ProposalNumber) {
	if _, err := s.seenProposal(c, number); err != nil {
		s.fail(c, err)
		return
	}
	answer(s, c, func(e *keeper.Effect) Effect { return effectOf(who(c).SeenEffect(s.Keeper, e)) })(s.Keeper.EffectOf(c, number))
}

// GetBranchEffect is GET /repos/{name}/effect.
func (s *server) GetBranchEffect(c *gin.Context, name ItemName, q GetBranchEffectParams) {
	answer(s, c, effectOf)(s.Keeper.Effect(c, name, cmp.Or(q.Base, "main"), q.Branch))
}

// ApproveProposal is POST /proposals/{number}/approvals.
func (s *server) ApproveProposal(c *gin.Context, number ProposalNumber) {
	if in, ok := body[ReviewedProposal](c); ok {
		answer(s, c, proposalOf)(do(s, c, keeper.ApproveProposal{Number: number, Commit: in.Commit}))
	}
}

// MergeProposal is POST /proposals/{number}/merge.
func (s *server) MergeProposal(c *gin.Context, number ProposalNumber) {
	if in, ok := body[MergeProposal](c); ok {
		answer(s, c, proposalOf)(do(s, c, keeper.MergeProposal{Number: number, Commit: in.Commit, Why: in.Why}))
	}
}

// WithdrawProposal is POST /proposals/{number}/withdraw.
func (s *server) WithdrawProposal(c *gin.Context, number ProposalNumber) {
	if in, ok := body[WithdrawProposal](c); ok {
		answer(s, c, proposalOf)(do(s, c, keeper.WithdrawProposal{Number: number, Why: in.Why}))
	}
}

func proposalOf(p *proposal.Proposal) Proposal {
	out := Proposal{Number: p.Number, Repo: p.Repo, Branch: p.Branch, Base: p.Base, Standing: ProposalStanding(p.Standing), Title: p.Title, Why: p.Why, By: p.By, Of: p.Origin.Of, Kind: ProposalKind(p.Origin.Kind), Opened: p.Opened,
		Commit: p.Commit, Own: p.Own, Conflicts: p.Conflicts, Approvals: []Approval{}, Ended: p.Ended, EndedBy: p.EndedBy, Result: p.Result}
	if out.Conflicts == nil {
		out.Conflicts = []string{}
	}
	out.Says, out.NeedsYou = p.Says()
	if out.Lacks = p.Lacks(); p.Over() {
		out.Lacks = ""
	}
	for _, a := range p.Approvals {
		out.Approvals = append(out.Approvals, Approval{By: a.By, At: a.At, Commit: a.Commit, Current: a.Commit == p.Commit})
	}
	if r := p.Request; r.Number > 0 {
		out.Request = HostRequest{Number: r.Number, Url: r.URL, HostSays: r.Checks, Tags: r.Labels}
		for _, a := range r.Approvals {
			out.Request.ApprovedBy = append(out.Request.ApprovedBy, a.By)
		}
	}
	return out
}

func commitOf(r keeper.Revision) Revision {
	return Revision{Id: r.ID, Subject: r.Subject, Author: r.Author, At: r.At}
}

func effectOf(e *keeper.Effect) Effect {
	out := Effect{Repo: e.Repo, Base: e.Base, Branch: e.Branch, BaseRevision: commitOf(e.BaseAt), Revision: commitOf(e.HeadAt), Conflicts: e.Conflicts, Files: []FileEffect{}, Effects: []WardEffect{}, Same: e.Same, Problems: []RosterProblem{}}
	if out.Conflicts == nil {
		out.Conflicts = []string{}
	}
	for _, f := range e.Files {
		out.Files = append(out.Files, FileEffect{Path: f.Path, Change: FileEffectChange(f.Change), Patch: f.Patch, Hidden: f.Hidden})
	}
	for _, p := range e.Problems {
		out.Problems = append(out.Problems, RosterProblem{File: p.File, Line: p.Line, Text: p.Text, Ward: p.Ward})
	}
	for _, w := range e.Wards {
		out.Effects = append(out.Effects, wardEffectOf(w))
	}
	return out
}

func wardEffectOf(w keeper.WardEffect) WardEffect {
	out := WardEffect{Ward: w.ID, Cluster: w.Cluster, Change: WardEffectChange(w.Change), Filed: w.Filed, Problem: w.Problem, Waits: w.Waits, Dismantles: w.Dismantles, Untried: w.Untried, Objects: []MovedObject{}, Refusals: []RefusedObject{}, Guards: guardsOf(w.Guards), Canaries: []string{}}
	for _, f := range w.Breaks {
		out.Breaks = append(out.Breaks, findingOf(keeper.FindingNow{Ward: w.ID, Finding: f}))
	}
	if out.Guards == nil {
		out.Guards = []Guard{}
	}
	for _, o := range w.Objects {
		out.Objects = append(out.Objects, movedOf(o))
	}
	for _, ref := range slices.SortedFunc(maps.Keys(w.Refused), object.Ref.Compare) {
		out.Refusals = append(out.Refusals, RefusedObject{Kind: ref.Kind, Name: ref.Name, Says: w.Refused[ref]})
	}
	for _, x := range w.Canaries {
		out.Canaries = append(out.Canaries, x.Of)
	}
	return out
}

// SetApprovals is PUT /repos/{name}/approvals.
func (s *server) SetApprovals(c *gin.Context, name ItemName) {
	if in, ok := body[WantedApprovals](c); ok {
		answer(s, c, repoOf)(do(s, c, keeper.SetApprovals{Repo: name, Wanted: proposal.Wanted{Count: in.HowMany, Of: in.OfTeams}}))
	}
}
