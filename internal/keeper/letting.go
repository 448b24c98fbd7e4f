package keeper

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/lane"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/versions"
	"vigila.dev/vigila/internal/host"
	"vigila.dev/vigila/internal/repo"
)

// letting is a lot that is to be let in at the stops of a group.
type letting struct {
	lot     lane.Lot
	group   []lane.Stop
	only    bool // its own change alone
	by, why string
	author  string // the person behind it
	against []string
}

// to is what a stop would have.
func (w *letting) to(lots lane.Lots, stop string, now lane.Content) (lane.Content, error) {
	if !w.only {
		return w.lot.Content, nil
	}
	to, err := lots.Only(w.lot.Number, now)
	if err != nil {
		return nil, fault(Conflict, "%s", lane.At(err.Error(), stop))
	}
	return to, nil
}

func (w *letting) names() string {
	var out []string
	for _, s := range w.group {
		out = append(out, s.Name)
	}
	return strings.Join(out, " and ")
}

// letGo lets in by itself what may be, and proposes what is asked for.
func (l *laneLoop) letGo(ctx context.Context, s *sight) {
	if s.Problem != "" {
		return
	}
	along := map[string]bool{} // stops that another has taken along in this look
	for i := range s.Places {
		at := &s.Places[i]
		if at.Together != "" || at.Offer.Lot == 0 || along[at.Name] {
			continue
		}
		group := s.Group(at.Stop)
		if slices.ContainsFunc(s.Places, func(p LaneStop) bool { // what a stop has is not known
			return p.Problem != "" && slices.ContainsFunc(group, func(g lane.Stop) bool { return g.Name == p.Name })
		}) {
			continue
		}
		byItself := at.Offer.Waits == ""
		if !byItself && !at.Offer.Propose {
			continue
		}
		lot, _ := s.Memory.Lots.Lot(at.Offer.Lot)
		w := letting{lot: lot, group: group, by: logbook.Vigila}
		if let := at.Has.Letting; let != nil && let.Proposal > 0 {
			p, err := l.k.Proposal(ctx, let.Proposal)
			if err != nil || p.Over() {
				s.soon(s.Looked.Add(laneSoon))
				continue
			}
			if w.group = l.labelled(s, at, group, lot.Number, p); len(w.group) > len(group) && let.Lot == lot.Number {
				l.takeAlong(ctx, s, at, w)
				for _, g := range w.group {
					along[g.Name] = true
				}
				continue
			}
			asked := let.By != logbook.Vigila                                   // which comes first
			if asked || let.Lot == lot.Number && p.Standing != proposal.Stale { // a stale one is made again, on top of what is there now
				if byItself && !asked && p.Standing == proposal.Open {
					l.merge(ctx, s, at, p)
				}
				continue
			}
		}
		p, err := l.letIn(ctx, s, w)
		switch {
		case errors.Is(err, errChanged):
			s.soon(s.Looked.Add(laneSoon))
		case errors.Is(err, repo.ErrSame): // somebody was first; it is seen with the next look
			s.soon(s.Looked.Add(laneRetry))
		case err != nil:
			at.Problem = fmt.Sprintf("lot %d can't be let in: %v", lot.Number, err)
			s.soon(s.Looked.Add(laneRetry))
		default:
			if s.soon(s.Looked.Add(laneSoon)); byItself && p != nil {
				l.merge(ctx, s, at, p)
			}
		}
	}
}

// takeAlong proposes a lot for more stops in one, in place of the proposals that they had.
func (l *laneLoop) takeAlong(ctx context.Context, s *sight, at *LaneStop, w letting) {
	s.soon(s.Looked.Add(laneSoon))
	p, err := l.letIn(ctx, s, w)
	if errors.Is(err, errChanged) {
		return
	}
	for _, g := range w.group {
		had := s.states[g.Name].Letting
		if err != nil || p == nil || had == nil || had.Proposal == 0 || had.Proposal == p.Number {
			continue
		}
		if old, unread := l.k.Proposal(ctx, had.Proposal); unread == nil && !old.Over() {
			_, err = WithdrawProposal{Number: had.Proposal, Why: "it goes together with others: " + p.Title}.do(ctx, l.k, Actor{Name: logbook.Vigila})
		}
	}
	if err != nil {
		at.Problem = fmt.Sprintf("lot %d can't be let in together at %s: %v", w.lot.Number, w.names(), err)
	}
}

// alsoLabel begins a label of a request on a code host that takes another stop along: "together: holm".
const alsoLabel = "together:"

// labelled is the group of a proposal with the stops that labels of its request name, and that are not in it yet.
func (l *laneLoop) labelled(s *sight, at *LaneStop, group []lane.Stop, lot int, p *proposal.Proposal) []lane.Stop {
	out := slices.Clone(group)
	for _, label := range p.Request.Labels {
		name, is := strings.CutPrefix(label, alsoLabel)
		stop, known := s.Stop(strings.TrimSpace(name))
		has := s.states[stop.Name].Letting
		if !is || known && (slices.ContainsFunc(group, func(g lane.Stop) bool { return g.Name == stop.Name }) || has != nil && has.Proposal == p.Number) {
			continue
		}
		no, against := "", []string(nil)
		if known {
			no, against = s.MayLetIn(stop, lot, s.Looked, s.Memory.Lots, s.states, s.past)
		}
		switch {
		case !known:
			at.Problem = fmt.Sprintf("label %q of its request names no stop of lane %s", label, s.Name)
		case len(stop.After) == 0:
			at.Problem = fmt.Sprintf("label %q of its request: lots begin at that stop", label)
		case no != "":
		case len(against) > 0:
			at.Problem = fmt.Sprintf("label %q of its request: %s", label, strings.Join(against, "; "))
		default:
			out = append(out, stop)
		}
	}
	if len(out) > len(group) { // those that labels have taken along before stay
		for _, x := range s.Places {
			if x.Has.Letting != nil && x.Has.Letting.Proposal == p.Number && !slices.ContainsFunc(out, func(g lane.Stop) bool { return g.Name == x.Name }) {
				out = append(out, x.Stop)
			}
		}
	}
	return out
}

// merge merges a proposal of the lane's own that nobody has to be asked for.
func (l *laneLoop) merge(ctx context.Context, s *sight, at *LaneStop, p *proposal.Proposal) {
	if l.k.unasked(*p) || p.Request.Checks == string(host.Running) { // on its code host: there it is looked at soon
		s.soon(s.Looked.Add(hostLeast))
		return
	}
	if p.Lacks() != "" { // people are asked; the proposal says whom
		s.soon(s.Looked.Add(hostLeast))
		return
	}
	if _, err := mergeProposal(ctx, l.k, MergeProposal{Number: p.Number, Commit: p.Commit}, logbook.Vigila); err != nil {
		at.Problem = err.Error()
		s.soon(s.Looked.Add(laneRetry))
		return
	}
	l.k.byItself(ctx, Subject{"merge", "proposal", proposalNamed(p.Number)}, "", details{"lane": s.Name})
	s.soon(s.Looked.Add(laneSoon))
}

// letIn writes a lot to the places of its stops, or proposes it: written down first, so that it is known later who it was.
func (l *laneLoop) letIn(ctx context.Context, s *sight, w letting) (*proposal.Proposal, error) {
	let := map[string]lane.Letting{}
	before := l.memory
	m := before
	for _, g := range w.group {
		to, err := w.to(m.Lots, g.Name, s.states[g.Name].Content)
		if err != nil {
			return nil, err
		}
		let[g.Name] = lane.Letting{Lot: w.lot.Number, Only: w.only, To: to, By: w.by, Why: w.why, Against: w.against, At: s.Looked}
		m = m.LetIn(g.Name, let[g.Name])
	}
	if err := l.remember(ctx, m); err != nil {
		return nil, err
	}
	var p *proposal.Proposal
	var err error
	if s.By(w.group) == lane.ByCommit {
		_, err = s.mirror.Commit(ctx, s.Ref, func(at *repo.Tree) (repo.Draft, error) { return l.draft(s, at, w) })
	} else {
		p, err = l.propose(ctx, s, w)
	}
	if err != nil {
		return nil, errors.Join(err, l.remember(ctx, before))
	}
	if p != nil {
		for _, g := range w.group {
			x := let[g.Name]
			x.Proposal = p.Number
			m = m.LetIn(g.Name, x)
		}
		if err := l.remember(ctx, m); err != nil {
			return nil, err
		}
	}
	if w.by == logbook.Vigila {
		with := details{"stops": w.names(), "only": w.only}
		if p != nil {
			with["proposal"] = p.Number
		}
		l.k.byItself(ctx, Subject{fmt.Sprintf("let in lot %d of", w.lot.Number), "lane", s.Name}, w.why, with)
	}
	if source, err := l.k.source(s.Repo); err == nil {
		source.LookSoon()
	}
	return p, nil
}

func (l *laneLoop) propose(ctx context.Context, s *sight, w letting) (*proposal.Proposal, error) {
	d, err := l.draft(s, s.mirror.At(s.head.ID), w)
	if err != nil {
		return nil, err
	}
	wanted := fmt.Sprintf("lot %d", w.lot.Number)
	if w.only {
		wanted += " alone"
	}
	for _, g := range w.group[len(s.Group(w.group[0])):] {
		wanted += ", " + g.Name
	}
	return l.k.propose(ctx, want{repo: s.Repo, base: s.Ref, by: w.by, author: w.author, title: d.Subject, why: l.tells(s, w),
		origin: proposal.Origin{Kind: proposal.Lane, Of: s.Name + " " + w.group[0].Name, Want: wanted},
		draft:  draft{Files: d.Files, Leaves: d.Leaves, Trailers: l.trailers(s, w)}, still: func(ctx context.Context) error {
			if w.by != logbook.Vigila { // a person may ask for it again
				return nil
			}
			refused, err := l.refused(ctx, s, w.group[0])
			if why, withdrawn := refused[w.lot.Number]; withdrawn { // since it was decided
				err = fault(Conflict, "lot %d is not proposed again: %s", w.lot.Number, why)
			}
			return err
		}})
}

// title is what the commit says in its first line.
func (l *laneLoop) title(s *sight, w letting) string {
	back := true
	for _, g := range w.group {
		back = back && s.states[g.Name].Most > w.lot.Number
	}
	switch {
	case back:
		return cut(fmt.Sprintf("Take %s back to lot %d of %s", w.names(), w.lot.Number, s.Name))
	case w.only:
		return cut(fmt.Sprintf("Let the change of lot %d of %s alone into %s: %s", w.lot.Number, s.Name, w.names(), w.lot.Subject))
	}
	return cut(fmt.Sprintf("Let lot %d of %s into %s: %s", w.lot.Number, s.Name, w.names(), w.lot.Subject))
}

// cut is a line that is not too long for a title.
func cut(s string) string {
	if s = strings.TrimSuffix(s, ": "); len(s) > maxTitle {
		s = strings.ToValidUTF8(s[:maxTitle-3], "") + "…"
	}
	return s
}

// tells says what would be changed, and what comes along.
func (l *laneLoop) tells(s *sight, w letting) string {
	var parts []string
	for _, g := range w.group {
		st := s.states[g.Name]
		changes, err := l.changes(s, w, st)
		if err == nil {
			parts = append(parts, s.Memory.Lots.Describe(w.lot.Number, g.Name, changes))
		}
	}
	if w.why != "" {
		parts = append(parts, w.why)
	}
	for _, a := range w.against {
		parts = append(parts, "Let in although "+a+".")
	}
	return strings.Join(parts, "\n\n")
}

// changes are what a stop would have differently.
func (l *laneLoop) changes(s *sight, w letting, st lane.State) ([]lane.Change, error) {
	to, err := w.to(s.Memory.Lots, st.Stop, st.Content)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(s.Memory.Lots.Along(w.lot.Number, st.Content, st.Took), func(c lane.Change) bool { return to[c.Key] != c.To }), nil
}

func (l *laneLoop) trailers(s *sight, w letting) []string {
	out := []string{"Lane: " + s.Name, fmt.Sprintf("Lot: %d", w.lot.Number)}
	for _, g := range w.group {
		out = append(out, "Stop: "+g.Name)
	}
	return out
}

// draft is what has to be written, onto what the branch has. Errors wrap errChanged when that is not what was looked at.
func (l *laneLoop) draft(s *sight, at *repo.Tree, w letting) (repo.Draft, error) {
	body := l.tells(s, w)
	if w.by != logbook.Vigila {
		body += "\n\nLet in by " + w.by + "."
	}
	out := repo.Draft{Leaves: map[string]proposal.Leaf{}, Subject: l.title(s, w), Body: body + "\n\n" + strings.Join(l.trailers(s, w), "\n") + "\n"}
	for _, g := range w.group {
		now, err := l.contentOf(s, at.Commit, g.Name)
		if err != nil {
			return out, err
		}
		if now.ID() != s.states[g.Name].Content.ID() {
			return out, fmt.Errorf("what stop %s has %w", g.Name, errChanged)
		}
		to, err := w.to(s.Memory.Lots, g.Name, now)
		if err != nil {
			return out, err
		}
		if err := written(at, g.Name, now, to, &out); err != nil {
			return out, err
		}
	}
	if len(out.Files)+len(out.Leaves) == 0 {
		return out, repo.ErrSame
	}
	return out, nil
}

// written adds what makes a stop's place have something: files as the repository has them elsewhere, and versions in the files that say them.
func written(at *repo.Tree, stop string, now, to lane.Content, out *repo.Draft) error {
	texts := map[string][]byte{}
	for _, k := range now.Differing(to) {
		file := lane.At(k.Path, stop)
		if k.Of == "" {
			mode, id, _ := strings.Cut(to[k], " ")
			out.Leaves[file] = proposal.Leaf{Mode: mode, ID: id}
			continue
		}
		text, begun := texts[file]
		var err error
		if !begun {
			if text, err = at.Read(file); err != nil && !errors.Is(err, repo.ErrNoPath) {
				return err
			}
		}
		if texts[file], err = withVersion(file, text, k.Of, to[k]); err != nil {
			return err
		}
	}
	for _, file := range slices.Sorted(maps.Keys(texts)) {
		out.Files = append(out.Files, repo.File{Path: file, Data: texts[file]})
	}
	return nil
}

// withVersion is a versions file with another version of an image or a chart; without it where there is none.
func withVersion(file string, text []byte, of, version string) ([]byte, error) {
	chart, isChart := strings.CutPrefix(of, chartOf)
	tag, digest, _ := strings.Cut(version, " ")
	if strings.HasPrefix(tag, "sha") && strings.Contains(tag, ":") { // a digest alone
		tag, digest = "", tag
	}
	switch {
	case isChart && version == "":
		return versions.UnsetChart(file, text, chart)
	case isChart:
		return versions.SetChart(file, text, chart, version)
	case version == "":
		return versions.Unset(file, text, of)
	}
	return versions.Set(file, text, of, versions.Image{Tag: tag, Digest: digest})
}

// ---- what people ask for

// LanePreview is what letting a lot in would do.
type LanePreview struct {
	Lane    string
	Lot     lane.Lot
	Lots    lane.Lots
	Only    bool
	By      lane.By
	Stops   []StopPreview
	Against []string // what stands against it
	Same    bool     // nothing would be changed
	Seen    string   // names exactly this
	Effect  *Effect  // nil where nothing would be changed
}

// StopPreview is what it would change at a stop.
type StopPreview struct {
	Stop    string
	Changes []lane.Change
}

// Unseen tells whether more would be changed than by the lot itself.
func (p *LanePreview) Unseen() bool {
	return slices.ContainsFunc(p.Stops, func(s StopPreview) bool { return slices.ContainsFunc(s.Changes, lane.Change.Unseen) })
}

// PromoteLot lets a lot in at a stop, and at those that go with it; the one that is offered when Lot is 0. Why gets over what stands
// against it. Seen names what was looked at: more than the lot's own change is not let in unseen.
type PromoteLot struct {
	Lane, Stop string
	Lot        int
	Only       bool // its own change alone
	Why, Seen  string
}

// HoldStop keeps a stop from letting lots in by itself.
type HoldStop struct{ Lane, Stop, Why string }

// ReleaseStop lets it go on.
type ReleaseStop struct{ Lane, Stop, Why string }

func (w PromoteLot) Subject() Subject {
	return Subject{fmt.Sprintf("promote lot %d to stop %s of", w.Lot, w.Stop), "lane", w.Lane}
}
func (w HoldStop) Subject() Subject { return Subject{"hold stop " + w.Stop + " of", "lane", w.Lane} }
func (w ReleaseStop) Subject() Subject {
	return Subject{"release stop " + w.Stop + " of", "lane", w.Lane}
}

// asked looks at a lane on behalf of somebody, who is the only one at it until done.
func (k *Keeper) askedLane(ctx context.Context, name string, fresh bool) (l *laneLoop, s *sight, done func(), err error) {
	if l, err = k.laneNamed(name); err != nil {
		return nil, nil, nil, err
	}
	if source, err := k.source(l.declared().Repo); fresh && err == nil {
		if err := source.Look(ctx); err != nil {
			return nil, nil, nil, fault(Unreachable, "%v", err)
		}
	}
	l.looking.Lock()
	if s, err = l.see(ctx); err == nil && s.Problem != "" {
		err = fault(Conflict, "lane %s can't be read: %s", name, s.Problem)
	}
	if err != nil {
		l.looking.Unlock()
		return nil, nil, nil, err
	}
	return l, s, l.looking.Unlock, nil
}

// stopNamed is a stop of a lane that lots may be let in at.
func (s *sight) stopNamed(name string) (lane.Stop, error) {
	stop, known := s.Stop(name)
	var names []string
	for _, x := range s.Stops {
		names = append(names, x.Name)
	}
	if !known {
		return stop, unknown("stop", name, names, "lane "+s.Name+" has none of that name")
	}
	for _, p := range s.Places {
		if p.Name == name && p.Problem != "" {
			return stop, fault(Conflict, "stop %s: %s", name, p.Problem)
		}
	}
	return stop, nil
}

// wants works out what is asked for.
func (l *laneLoop) wants(s *sight, w PromoteLot) (letting, []string, error) {
	stop, err := s.stopNamed(w.Stop)
	if err != nil {
		return letting{}, nil, err
	}
	if w.Lot == 0 {
		i := slices.IndexFunc(s.Places, func(p LaneStop) bool { return p.Name == stop.Name })
		if w.Lot = s.Places[i].Offer.Lot; w.Lot == 0 {
			return letting{}, nil, fault(Conflict, "no lot is offered to stop %s; say which: --lot N (vigila lane show %s)", stop.Name, s.Name)
		}
	}
	no, against := s.MayLetIn(stop, w.Lot, s.Looked, s.Memory.Lots, s.states, s.past)
	lot, known := s.Memory.Lots.Lot(w.Lot)
	if no != "" {
		return letting{}, nil, fault(map[bool]FaultKind{true: Conflict, false: NotFound}[known], "%s", no)
	}
	return letting{lot: lot, group: s.Group(stop), only: w.Only, why: strings.TrimSpace(w.Why), against: against}, against, nil
}

// preview works out what a letting would change.
func (l *laneLoop) preview(s *sight, w letting) (*LanePreview, error) {
	out := &LanePreview{Lane: s.Name, Lot: w.lot, Lots: s.Memory.Lots, Only: w.only, By: s.By(w.group), Against: w.against, Same: true}
	mark := []any{s.Name, w.lot.Number, w.only}
	for _, g := range w.group {
		st := s.states[g.Name]
		changes, err := l.changes(s, w, st)
		if err != nil {
			return nil, err
		}
		out.Stops = append(out.Stops, StopPreview{g.Name, changes})
		out.Same = out.Same && len(changes) == 0
		mark = append(mark, g.Name, st.Content.ID())
	}
	out.Seen = object.Hash(mark)
	return out, nil
}

// PreviewLot tells what letting a lot in would do, to files and to clusters. Nothing is written.
func (k *Keeper) PreviewLot(ctx context.Context, w PromoteLot) (*LanePreview, error) {
	l, s, done, err := k.askedLane(ctx, w.Lane, false)
	if err != nil {
		return nil, err
	}
	var d repo.Draft
	let, _, err := l.wants(s, w)
	var out *LanePreview
	if err == nil {
		if out, err = l.preview(s, let); err == nil && !out.Same {
			let.by = logbook.Vigila
			d, err = l.draft(s, s.mirror.At(s.head.ID), let)
		}
	}
	done()
	if err != nil || out.Same {
		return out, err
	}
	out.Effect, err = k.effectOfDraft(ctx, s, d, fmt.Sprintf("lot %d", let.lot.Number))
	return out, err
}

// effectOfDraft tells what a change that is written nowhere would do to the clusters.
func (k *Keeper) effectOfDraft(ctx context.Context, s *sight, d repo.Draft, called string) (*Effect, error) {
	ctx, cancel := context.WithTimeout(ctx, effectTimeout)
	defer cancel()
	would, err := s.mirror.With(ctx, s.head.ID, d)
	if err != nil {
		return nil, err
	}
	return k.effect(ctx, s.mirror, s.Ref, called, s.head.ID, would)
}

// LaneComparison is what two stops have differently, of what is carried: nothing that is a stop's own.
type LaneComparison struct {
	Lane, One, Other string
	Changes          []lane.Change // from the one to the other
	Effect           *Effect       // what the other's clusters would have differently, had it all that the one has; nil when that is nothing
}

// CompareStops tells what a stop has differently from another. Had it the same, its wards would differ only in what is their own.
func (k *Keeper) CompareStops(ctx context.Context, name, one, other string) (*LaneComparison, error) {
	_, s, done, err := k.askedLane(ctx, name, false)
	if err != nil {
		return nil, err
	}
	done()
	for _, stop := range []string{one, other} {
		if _, err := s.stopNamed(stop); err != nil {
			return nil, err
		}
	}
	if one == other {
		return nil, fault(Invalid, "%s is compared with itself; name another stop", one)
	}
	out := &LaneComparison{Lane: name, One: one, Other: other}
	from, to := s.states[other].Content, s.states[one].Content
	for _, k := range from.Differing(to) {
		out.Changes = append(out.Changes, lane.Change{Key: k, From: to[k], To: from[k]})
	}
	if len(out.Changes) == 0 {
		return out, nil
	}
	d := repo.Draft{Leaves: map[string]proposal.Leaf{}, Subject: "As " + one + " has it", Body: "\n"}
	if err := written(s.mirror.At(s.head.ID), other, from, to, &d); err != nil {
		return nil, err
	}
	out.Effect, err = k.effectOfDraft(ctx, s, d, "as "+one+" has it")
	return out, err
}

// Promoted is what came of letting a lot in.
type Promoted struct {
	Lane     Lane
	Preview  *LanePreview
	Proposal int // 0 where it was written at once
}

func (w PromoteLot) do(ctx context.Context, k *Keeper, by Actor) (*Promoted, error) {
	l, s, done, err := k.askedLane(ctx, w.Lane, true)
	if err != nil {
		return nil, err
	}
	defer done()
	let, against, err := l.wants(s, w)
	if err != nil {
		return nil, err
	}
	let.by, let.author = by.String(), by.approver()
	p, err := l.preview(s, let)
	switch {
	case err != nil:
		return nil, err
	case p.Same:
		return nil, fault(Conflict, "stop %s would have nothing else than it has now", let.names())
	case len(against) > 0 && let.why == "":
		return nil, fault(Conflict, "lot %d is not let in at %s: %s. To let it in all the same, say why: --why", let.lot.Number, let.names(), strings.Join(against, "; "))
	case w.Seen != "" && w.Seen != p.Seen:
		return nil, fault(Conflict, "%s has changed since you looked; look again: vigila lane preview %s --to %s --lot %d", let.names(), w.Lane, w.Stop, let.lot.Number)
	case w.Seen == "" && p.Unseen() && p.By == lane.ByCommit:
		return nil, fault(Conflict, "more than the change of lot %d itself would be let in at %s; look at it: vigila lane preview %s --to %s --lot %d, and then say --along, or --only-this", let.lot.Number, let.names(), w.Lane, w.Stop, let.lot.Number)
	}
	made, err := l.letIn(ctx, s, let)
	if err != nil {
		var f *Fault
		if errors.As(err, &f) || ctx.Err() != nil {
			return nil, err
		}
		return nil, fault(Conflict, "lot %d can't be let in at %s: %v", let.lot.Number, let.names(), err)
	}
	out := &Promoted{Preview: p}
	if made != nil {
		out.Proposal = made.Number
	}
	if s, err = l.see(ctx); err == nil {
		l.show(s)
	}
	out.Lane = l.now()
	l.nudge()
	return out, nil
}

func (w HoldStop) do(ctx context.Context, k *Keeper, by Actor) (Lane, error) {
	if strings.TrimSpace(w.Why) == "" {
		return Lane{}, fault(Invalid, "say why stop %s is held; whoever wonders reads it: --why", w.Stop)
	}
	return k.holdStop(ctx, w.Lane, w.Stop, &lane.Hold{By: by.String(), Why: w.Why, At: time.Now().UTC().Round(0)})
}

func (w ReleaseStop) do(ctx context.Context, k *Keeper, _ Actor) (Lane, error) {
	return k.holdStop(ctx, w.Lane, w.Stop, nil)
}

func (k *Keeper) holdStop(ctx context.Context, name, stop string, h *lane.Hold) (Lane, error) {
	l, s, done, err := k.askedLane(ctx, name, false)
	if err != nil {
		return Lane{}, err
	}
	defer done()
	at, known := s.Stop(stop)
	switch held := s.Memory.Stops[stop].Held; {
	case !known:
		_, err := s.stopNamed(stop)
		return Lane{}, err
	case h != nil && len(at.After) == 0:
		return Lane{}, fault(Invalid, "lots begin at stop %s: what is pushed there is there; hold its wards (vigila hold), or the stops after it", stop)
	case h == nil && held == nil:
		return Lane{}, fault(Conflict, "stop %s of lane %s is not held", stop, name)
	case h != nil && held != nil:
		return Lane{}, fault(Conflict, "stop %s of lane %s is held already, by %s: %s", stop, name, held.By, held.Why)
	}
	if err := l.remember(ctx, l.memory.Hold(stop, h)); err != nil {
		return Lane{}, err
	}
	if s, err = l.see(ctx); err != nil {
		return Lane{}, err
	}
	l.show(s)
	l.nudge()
	return l.now(), nil
}

// laneSays tells what stands against merging the proposal of a lane now; it gives back how to note that it was merged all the same.
func (k *Keeper) laneSays(p proposal.Proposal) (against []string, note func(ctx context.Context, why string)) {
	note = func(context.Context, string) {}
	name, stop, _ := strings.Cut(p.Origin.Of, " ")
	l := k.lanes.of(name)
	if p.Origin.Kind != proposal.Lane || l == nil {
		return nil, note
	}
	s := l.now()
	at, known := s.Stop(stop)
	if !known {
		return nil, note
	}
	states := map[string]lane.State{}
	lot := 0
	for _, x := range s.Places {
		if states[x.Name] = x.Has; x.Has.Letting != nil && x.Has.Letting.Proposal == p.Number {
			lot = x.Has.Letting.Lot
		}
	}
	if lot == 0 {
		return nil, note
	}
	_, against = s.MayLetIn(at, lot, time.Now(), s.Memory.Lots, states, s.Memory.Past())
	return against, func(ctx context.Context, why string) {
		l.looking.Lock()
		defer l.looking.Unlock()
		m := l.memory
		for _, g := range s.Group(at) {
			if let := m.Stops[g.Name].Letting; let != nil && let.Proposal == p.Number {
				x := *let
				x.Against, x.Why = against, cmp.Or(why, x.Why)
				m = m.LetIn(g.Name, x)
			}
		}
		if err := l.remember(ctx, m); err != nil {
			k.log.Error("why a lot was let in can't be remembered", "lane", name, "why", why, "error", err)
		}
	}
}
