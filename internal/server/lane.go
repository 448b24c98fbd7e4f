package server

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/lane"
	"vigila.dev/vigila/internal/keeper"
)

// ListLanes is GET /lanes.
func (s *server) ListLanes(c *gin.Context, q ListLanesParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []Lane{}
	for _, l := range s.Keeper.Lanes() {
		if !who(c).SeesLane(l.Name) {
			continue
		}
		if holds(q.Search, l.Name, l.About, l.Said, l.Roster) {
			items = append(items, laneOf(l))
		}
	}
	c.JSON(http.StatusOK, LaneList{Total: len(items), Items: slice(items, limit, offset)})
}

// GetLane is GET /lanes/{name}.
func (s *server) GetLane(c *gin.Context, name ItemName) {
	answer(s, c, func(l keeper.Lane) Lane {
		out := laneOf(l)
		for _, stop := range out.Stops {
			if who(c).Rights.May(grant.Promote, grant.Thing{Lane: name, Stop: stop.Name}).May {
				out.YouPromoteTo = append(out.YouPromoteTo, stop.Name)
			}
		}
		return out
	})(s.Keeper.Lane(name))
}

// ListLots is GET /lanes/{name}/lots.
func (s *server) ListLots(c *gin.Context, name ItemName, q ListLotsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	l, err := s.Keeper.Lane(name)
	if err != nil {
		s.fail(c, err)
		return
	}
	var found []lane.Lot
	for _, x := range slices.Backward(l.Memory.Lots) {
		words := []string{"lot " + strconv.Itoa(x.Number), x.Subject, x.Author, x.Commit}
		for k, v := range x.Content {
			words = append(words, k.At(x.Stop), v)
		}
		if holds(q.Search, words...) {
			found = append(found, x)
		}
	}
	out := LotList{Total: len(found), Items: []Lot{}}
	for _, x := range slice(found, limit, offset) {
		out.Items = append(out.Items, lotOf(&l.Memory, x))
	}
	c.JSON(http.StatusOK, out)
}

// PreviewLot is GET /lanes/{name}/preview.
func (s *server) PreviewLot(c *gin.Context, name ItemName, q PreviewLotParams) {
	answer(s, c, lotPreviewOf)(s.Keeper.PreviewLot(c, keeper.PromoteLot{Lane: name, Stop: q.Stop, Lot: q.Lot, Only: q.OnlyThis}))
}

// CompareStops is GET /lanes/{name}/compare.
func (s *server) CompareStops(c *gin.Context, name ItemName, q CompareStopsParams) {
	answer(s, c, func(x *keeper.LaneComparison) StopComparison {
		out := StopComparison{Lane: x.Lane, One: x.One, Other: x.Other, Changes: changesOf(x.Changes, x.Other, nil, 0)}
		if x.Effect != nil {
			out.Effect = effectOf(x.Effect)
		}
		return out
	})(s.Keeper.CompareStops(c, name, q.One, q.Other))
}

// PromoteLot is POST /lanes/{name}/promote.
func (s *server) PromoteLot(c *gin.Context, name ItemName) {
	in, ok := body[PromoteLot](c)
	if !ok {
		return
	}
	answer(s, c, func(p *keeper.Promoted) PromotedLot {
		x := lotPreviewOf(p.Preview)
		return PromotedLot{Lane: x.Lane, Lot: x.Lot, Proposal: p.Proposal, StopsChanged: x.StopsChanged}
	})(do(s, c, keeper.PromoteLot{Lane: name, Stop: in.Stop, Lot: in.Lot, Only: in.OnlyThis, Why: in.Why, Seen: in.Seen}))
}

// HoldStop is POST /lanes/{name}/hold.
func (s *server) HoldStop(c *gin.Context, name ItemName) {
	if in, ok := body[HoldStop](c); ok {
		answer(s, c, laneOf)(do(s, c, keeper.HoldStop{Lane: name, Stop: in.Stop, Why: in.Why}))
	}
}

// ReleaseStop is POST /lanes/{name}/release.
func (s *server) ReleaseStop(c *gin.Context, name ItemName) {
	if in, ok := body[HoldStop](c); ok {
		answer(s, c, laneOf)(do(s, c, keeper.ReleaseStop{Lane: name, Stop: in.Stop, Why: in.Why}))
	}
}

func laneOf(l keeper.Lane) Lane {
	out := Lane{Name: l.Name, About: l.About, Roster: l.Roster, DeclaredAt: fmt.Sprintf("%s:%d", l.File, l.Line), Repo: l.Repo, Ref: l.Ref, Keeps: l.Keeps, Carries: []string{}, Says: l.Said, NeedsYou: l.Loud, Looked: l.Looked, Stops: []LaneStop{}}
	for _, c := range l.Carries {
		out.Carries = append(out.Carries, c.Versions+c.Files)
	}
	if n := len(l.Memory.Lots); n > 0 {
		out.Newest = lotOf(&l.Memory, l.Memory.Lots[n-1])
	}
	for _, p := range l.Places {
		out.Stops = append(out.Stops, laneStopOf(&l, p))
	}
	return out
}

func laneStopOf(l *keeper.Lane, p keeper.LaneStop) LaneStop {
	out := LaneStop{Name: p.Name, ComesAfter: p.After, LetsIn: LaneStopLetsIn(p.LetsIn), AsksWhom: p.Who, SettledSeconds: int(p.Settled.Seconds()), ByProposal: p.By == lane.ByProposal, Together: p.Together, WantsApprovals: WantedApprovals{HowMany: p.Approvals.Count, OfTeams: p.Approvals.Of},
		Says: p.Said, NeedsYou: p.Loud, Problem: p.Problem, Arrived: p.Arrival.Here, Arrives: p.Arrival.When, Waits: p.Arrival.Waits, Listens: []LaneWard{}}
	if out.ComesAfter == nil {
		out.ComesAfter = []string{}
	}
	if p.Hours != nil {
		out.Hours = p.Hours.String()
	}
	if p.Has.Number > 0 {
		out.Passage = passageOf(p.Has.Passage)
		if x, known := l.Memory.Lots.Lot(p.Has.Lot); known { // what it is about, and not that it was let in
			out.Passage.Subject = x.Subject
		}
	}
	if o := p.Offer; o.Lot > 0 {
		out.Offer = LotOffer{Lot: o.Lot, Unseen: o.Unseen, Asks: o.Asks, Waits: o.Waits, Next: o.Next, Changes: changesOf(p.Along, p.Name, l.Memory.Lots, o.Lot)}
	}
	if h := l.Memory.Stops[p.Name].Held; h != nil {
		out.HeldBy = StopHold{By: h.By, Why: h.Why, At: h.At}
	}
	if p.Has.Letting != nil {
		out.Proposal = p.Has.Letting.Proposal
	}
	for _, w := range p.Has.Wards {
		out.Listens = append(out.Listens, LaneWard{Ward: w.ID, Holds: w.Holds, ReadySince: w.Ready, Failed: w.Failed, Says: w.Says})
	}
	if len(p.Has.Wards) == 0 {
		for _, w := range p.Wards {
			out.Listens = append(out.Listens, LaneWard{Ward: w})
		}
	}
	return out
}

func passageOf(p lane.Passage) Passage {
	return Passage{Stop: p.Stop, Title: p.Title(), Lot: p.Lot, OnlyThis: p.Only, Over: p.Over, Along: p.Along, Commit: p.Commit, Subject: p.Subject, By: p.By, Why: p.Why, Against: p.Against, Proposal: p.Proposal,
		Since: p.Since, ArrivedAt: p.Arrived, Ended: p.Left, Failed: p.Failed}
}

func lotOf(m *lane.Memory, x lane.Lot) Lot {
	out := Lot{Number: x.Number, Stop: x.Stop, Commit: x.Commit, Subject: x.Subject, Author: x.Author, At: x.At, More: x.More, Way: []Passage{}, Brings: []BroughtCommit{}}
	for _, b := range x.Brings {
		out.Brings = append(out.Brings, BroughtCommit{Commit: b.Commit, Subject: b.Subject, Author: b.Author})
	}
	out.Changes = changesOf(m.Lots.Changes(x.Number), x.Stop, m.Lots, x.Number)
	for _, p := range m.Passages {
		if p.Lot == x.Number {
			out.Way = append(out.Way, passageOf(p))
		}
	}
	return out
}

func changesOf(all []lane.Change, stop string, lots lane.Lots, lot int) []LotChange {
	out := []LotChange{}
	for _, c := range all {
		x := LotChange{Path: lane.At(c.Path, stop), Of: c.Of, From: c.From, To: c.To, Says: c.What()}
		if lots != nil && c.Unseen() {
			x.Unseen, x.Whose = true, c.Whose(lots, lot)
		}
		out = append(out, x)
	}
	return out
}

func lotPreviewOf(p *keeper.LanePreview) LotPreview {
	out := LotPreview{Lane: p.Lane, Lot: p.Lot.Number, Subject: p.Lot.Subject, OnlyThis: p.Only, ByProposal: p.By == lane.ByProposal, Nothing: p.Same, Unseen: p.Unseen(), Seen: p.Seen, Against: p.Against, StopsChanged: []StopChanges{}}
	if out.Against == nil {
		out.Against = []string{}
	}
	for _, s := range p.Stops {
		out.StopsChanged = append(out.StopsChanged, StopChanges{Stop: s.Stop, Changes: changesOf(s.Changes, s.Stop, p.Lots, p.Lot.Number)})
	}
	if p.Effect != nil {
		out.Effect = effectOf(p.Effect)
	}
	return out
}
