package keeper

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

// need is something that a wish does to something.
type need struct {
	verb  grant.Verb
	thing grant.Thing
	fresh bool // it is not there yet, so that nothing is told by saying that they may not
}

// seen is what somebody has to see to be told that they may not do something to it: of what a kit would make, the kit.
func (n need) seen() grant.Thing {
	if n.thing.Kit != "" {
		return grant.Thing{Kit: n.thing.Kit}
	}
	return n.thing
}

// whole are the verbs that are for all of something, by what a wish is about.
var whole = map[string]grant.Verb{"repo": grant.Sources, "roster": grant.Sources, "registry": grant.Sources, "metrics source": grant.Sources, "follow": grant.Sources,
	"cluster": grant.Clusters, "token": grant.People, "team": grant.People, "provider": grant.People}

// needy are wishes that teams may be given; what is none of them is for operators and admins.
type needy interface {
	needs(k *Keeper) []need
}

// owned are wishes about something that whoever asks may have made themselves.
type owned interface {
	ownedBy(k *Keeper, name string) bool
}

// free are wishes that anybody who has signed in may have: they are about themselves.
type free interface{ free() }

func (openSession) free()  {}
func (EndSession) free()   {} // it ends what one may see
func (AnswerDevice) free() {}

// mayDo decides at the one door whether whoever asks may. Rosters, and what has no rights of its own to begin with, are not asked.
func mayDo(k *Keeper, by Actor, w any) error {
	if by.Rights == nil || by.Rights.Role.May(grant.Operator) {
		return nil // what only an admin may is decided by the call
	}
	if _, is := w.(free); is {
		return nil
	}
	if o, is := w.(owned); is && o.ownedBy(k, by.Name) {
		return nil
	}
	if f, is := w.(interface{ malformed() error }); is {
		if err := f.malformed(); err != nil {
			return fault(Invalid, "%v", err)
		}
	}
	n, is := w.(needy)
	if about, of := w.(interface{ Subject() Subject }); of && !is {
		if v := whole[about.Subject().Of]; v != "" && by.Rights.May(v, grant.Thing{All: v}).May {
			return nil
		}
	}
	if !is {
		return fault(Denied, "this is for operators; %s is none", by.Name)
	}
	all := n.needs(k)
	if len(all) == 0 || slices.ContainsFunc(all, func(x need) bool { return !x.fresh && !by.Rights.Sees(x.seen()) }) { // what they don't see is not there
		return fault(Denied, "there is nothing such that %s may do something to", by.Name)
	}
	for _, x := range all {
		if a := by.Rights.May(x.verb, x.thing); !a.May {
			return fault(Denied, "%s may not %s %s: %s", by.Name, x.verb, x.thing, a.Why)
		}
	}
	return nil
}

// ThingOf is a ward, as rights are about it.
func ThingOf(v *standing.View) grant.Thing {
	return grant.Thing{Ward: v.Ward.Name, Owner: v.Ward.Owner, Cluster: v.Cluster, Roster: v.Roster}
}

// Things are what a ward's name means: one placement, or several where it is without a cluster.
func (k *Keeper) Things(name string) (out []grant.Thing) {
	for _, p := range k.named(name) {
		out = append(out, ThingOf(p.View()))
	}
	return out
}

func (k *Keeper) toWard(name string, verbs ...grant.Verb) (out []need) {
	for _, x := range k.Things(name) {
		for _, v := range verbs {
			out = append(out, need{verb: v, thing: x})
		}
	}
	return out
}

// guards are the needs of guards that are to pass.
func (k *Keeper) guards(name string, all []string) (out []need) {
	for _, x := range k.Things(name) {
		for _, g := range all {
			x.Guard = g
			out = append(out, need{verb: grant.Allow, thing: x})
		}
	}
	return out
}

func (w StartRun) needs(k *Keeper) []need {
	verb := grant.Sync
	if w.Ask.Kind == run.Rollback {
		verb = grant.RollBack
	}
	out := append(k.toWard(w.Ward, verb), k.guards(w.Ward, w.Ask.Allow)...)
	if w.Ask.Retry { // or who may not lift a rejection would pass it by
		out = append(out, k.toWard(w.Ward, grant.Reject)...)
	}
	return out
}

// needs of a ward file: each ward that it registers, wherever it goes, and each that it would change.
func (w AddWards) needs(k *Keeper) (out []need) {
	all, err := ward.Parse(w.File, []byte(w.Text))
	if err != nil {
		return nil
	}
	for _, x := range all {
		out = append(out, k.toWard(x.Name, grant.Declare)...)
		for _, c := range k.reaches(x) {
			out = append(out, need{verb: grant.Declare, thing: grant.Thing{Ward: x.Name, Owner: x.Owner, Cluster: c}, fresh: true})
		}
	}
	return out
}

// reaches are the clusters that a ward can come into: the one that it names, known or not, or those that have its labels, and any other that gets
// them later, which is "": only who is not held to some clusters may that.
func (k *Keeper) reaches(w ward.Ward) []string {
	if w.Into.Cluster != "" {
		return []string{w.Into.Cluster}
	}
	return append(k.matching(w), "")
}

// malformed tells what is wrong with the file itself, before it is asked whether whoever gives it may.
func (w AddWards) malformed() error {
	_, err := ward.Parse(w.File, []byte(w.Text))
	return err
}

func (w RemoveWard) needs(k *Keeper) []need {
	return append(k.toWard(w.Ward, grant.Declare), k.guards(w.Ward, w.Allow)...)
}

func (w StopRun) needs(k *Keeper) []need        { return k.toWard(w.Ward, grant.Sync) }
func (w HoldWard) needs(k *Keeper) []need       { return k.toWard(w.Ward, grant.Hold) }
func (w ReleaseWard) needs(k *Keeper) []need    { return k.toWard(w.Ward, grant.Hold) }
func (w RejectRevision) needs(k *Keeper) []need { return k.toWard(w.Ward, grant.Reject) }
func (w LiftRejection) needs(k *Keeper) []need  { return k.toWard(w.Ward, grant.Reject) }
func (w ProposeBack) needs(k *Keeper) []need    { return k.toWard(w.Ward, grant.RollBack) }
func (w SayCanary) needs(k *Keeper) []need      { return k.toWard(w.Ward, grant.Sync) }

// reviewed are the needs of a review: of a lot that a lane offers, to let it in. Every other is an operator's.
func (k *Keeper) reviewed(number int) []need {
	p, err := k.Proposal(k.ctx, number)
	if err != nil || p.Origin.Kind != proposal.Lane {
		return nil
	}
	lane, stop, _ := strings.Cut(p.Origin.Of, " ")
	return k.atStops(lane, stop)
}

// atStops are the needs of a stop, and of those that get a lot with it.
func (k *Keeper) atStops(lane, stop string) []need {
	l, err := k.Lane(lane)
	if err != nil {
		return atStop(lane, stop)
	}
	s, known := l.Stop(stop)
	if !known {
		return atStop(lane, stop)
	}
	var out []need
	for _, x := range l.Group(s) {
		out = append(out, atStop(lane, x.Name)...)
	}
	return out
}

// needs of an approval: of the repository, or of a lot that a lane offers.
func (w ApproveProposal) needs(k *Keeper) (out []need) {
	p, err := k.Proposal(k.ctx, w.Number)
	if err != nil {
		return nil
	}
	for _, x := range k.reviewed(w.Number) {
		x.verb, x.thing.Repo = grant.Approve, p.Repo
		out = append(out, x)
	}
	if len(out) == 0 {
		out = append(out, need{verb: grant.Approve, thing: grant.Thing{Repo: p.Repo}})
	}
	return out
}
func (w MergeProposal) needs(k *Keeper) []need    { return k.reviewed(w.Number) }
func (w WithdrawProposal) needs(k *Keeper) []need { return k.reviewed(w.Number) }

func (w WithdrawProposal) ownedBy(k *Keeper, name string) bool {
	p, err := k.Proposal(k.ctx, w.Number)
	return err == nil && p.By == name
}

// SeesProposal tells whether somebody sees a proposal: what they have asked for, and what their lanes offer.
func (w Who) SeesProposal(p *proposal.Proposal) bool {
	lane, _, _ := strings.Cut(p.Origin.Of, " ")
	return w.Rights.All() || p.By == w.Name || w.Rights.Sees(grant.Thing{Repo: p.Repo}) || p.Origin.Kind == proposal.Lane && w.SeesLane(lane)
}

// SeenProposals are the proposals that a member sees.
func (w Who) SeenProposals() *record.SeenProposals {
	out := &record.SeenProposals{By: w.Name, Repos: []string{}, Lanes: []string{}}
	for _, g := range w.Rights.Grants {
		for _, name := range g.Repos {
			if w.Rights.Sees(grant.Thing{Repo: name}) {
				out.Repos = append(out.Repos, name)
			}
		}
		for _, name := range g.Lanes {
			if w.SeesLane(name) {
				out.Lanes = append(out.Lanes, name)
			}
		}
	}
	return out
}

// needs of a value: each ward that refers to it is given.
func (w SetSecret) needs(k *Keeper) (out []need) {
	for _, p := range k.users(w.Ref.Store, w.Ref.Path) {
		if refersTo(p, w.Ref) {
			out = append(out, need{verb: grant.Set, thing: ThingOf(p.View())})
		}
	}
	return out
}

func atStop(lane, stop string) []need {
	return []need{{verb: grant.Promote, thing: grant.Thing{Lane: lane, Stop: stop}}}
}

func (w PromoteLot) needs(k *Keeper) []need { return k.atStops(w.Lane, w.Stop) }
func (w HoldStop) needs(*Keeper) []need     { return atStop(w.Lane, w.Stop) }
func (w ReleaseStop) needs(*Keeper) []need  { return atStop(w.Lane, w.Stop) }

// ---- what one may not see does not exist

// Sees tells whether somebody sees a ward.
func (w Who) Sees(v *standing.View) bool {
	return w.Rights.Sees(ThingOf(v))
}

// Seen lists the wards that somebody sees, in no order.
func (k *Keeper) Seen(w Who) []*standing.View {
	all := k.Views()
	if w.Rights.All() {
		return all
	}
	sees := w.Rights.Seer()
	return slices.DeleteFunc(all, func(v *standing.View) bool { return !sees(ThingOf(v)) })
}

// SeenLines is Lines for somebody.
func (k *Keeper) SeenLines(w Who) []*Line {
	all := k.Lines()
	if w.Rights.All() {
		return all
	}
	sees := w.Rights.Seer()
	var out []*Line
	for _, l := range all {
		if sees(ThingOf(l.View)) {
			out = append(out, l)
		}
	}
	return out
}

// SeenWard finds the one ward that a name means among those that somebody sees. Errors are a *Fault that names no other.
func (k *Keeper) SeenWard(w Who, name string) (*standing.View, error) {
	var same []*standing.View
	var known, ids []string
	sees := w.Rights.Seer()
	for _, p := range k.named(name) {
		if v := p.View(); v != nil && (w.Rights.All() || sees(ThingOf(v))) {
			same, ids = append(same, v), append(ids, v.ID)
		}
	}
	if len(same) == 0 {
		for _, v := range k.Seen(w) {
			known = append(known, v.ID)
		}
	}
	slices.Sort(known)
	switch len(same) {
	case 0:
		if len(known) == 0 {
			return nil, fault(NotFound, "there is no ward %q; you see none", name)
		}
		return nil, unknown("ward", name, known, "")
	case 1:
		return same[0], nil
	}
	return nil, fault(Invalid, "%s is placed %d times: %s; name one", name, len(same), strings.Join(ids, ", "))
}

// ---- teams

type (
	// PutTeam adds teams, or changes them: all of a file, or none.
	PutTeam struct{ File, Text string }
	// RemoveTeam forgets a team; its people may what else is given to them.
	RemoveTeam struct{ Name string }
)

// declareTeam is a team as a roster's file has it; letTeamGo one that has left the files.
type (
	declareTeam struct{ grant.Team }
	letTeamGo   struct{ name string }
)

func (w declareTeam) Subject() Subject { return Subject{"declare", "team", w.Name} }
func (w letTeamGo) Subject() Subject   { return Subject{"let go", "team", w.name} }

func (w declareTeam) do(ctx context.Context, k *Keeper, _ Actor) (took, error) {
	for _, t := range k.Teams() {
		if reflect.DeepEqual(t, w.Team) {
			return took{}, nil
		}
	}
	return took{changed: true}, errors.Join(k.store.PutTeams(ctx, w.Team), k.readTeams(ctx))
}

func (w letTeamGo) do(ctx context.Context, k *Keeper, _ Actor) (took, error) {
	return took{changed: true}, errors.Join(k.store.RemoveTeam(ctx, w.name), k.readTeams(ctx))
}

// setTeams takes the teams that a roster's files declare. Those of a file that can't be read stay as they were; what leaves the files gives nothing any more.
func (l *rosterLoop) setTeams(in *roster.Files) (problems []roster.Problem) {
	k, conf := l.k, l.record()
	by := Actor{Roster: conf.Name}
	want := map[string]grant.Team{}
	known := map[string]grant.Team{}
	for _, t := range k.Teams() {
		known[t.Name] = t
	}
	for _, t := range in.Teams {
		no := func(format string, args ...any) {
			problems = append(problems, roster.Problem{File: t.File, Line: t.Line, Text: fmt.Sprintf(format, args...)})
		}
		first, twice := want[t.Name]
		other, there := known[t.Name]
		switch {
		case twice:
			no("team %s is declared twice; first at %s:%d", t.Name, first.File, first.Line)
		case there && other.Roster == "":
			no("team %s was given by command; remove it first: vigila team remove %s", t.Name, t.Name)
		case there && other.Roster != conf.Name:
			no("team %s is declared by roster %s already", t.Name, other.Roster)
		default:
			if err := k.knownMembers(t); err != nil {
				no("team %s: %v", t.Name, err)
			}
			t.Roster = conf.Name
			want[t.Name] = t
			if _, err := Do(l.ctx, k, by, declareTeam{t}); err != nil && l.ctx.Err() == nil {
				no("team %s can't be written down: %v", t.Name, err)
			}
		}
	}
	for name, t := range known {
		if _, is := want[name]; t.Roster == conf.Name && !is && (in.Broken[t.File] == "" || !conf.Teams) {
			if _, err := Do(l.ctx, k, by, letTeamGo{name}); err != nil && l.ctx.Err() == nil {
				k.log.Error("a team that has left its roster can't be forgotten; it is tried again", "team", name, "error", err)
			}
		}
	}
	return problems
}

// forgetTeamsOf lets go of the teams of a roster that is forgotten: nobody says any more who is in them.
func (k *Keeper) forgetTeamsOf(ctx context.Context, name string) {
	for _, t := range k.Teams() {
		if t.Roster == name {
			if _, err := Do(ctx, k, Actor{Roster: name}, letTeamGo{t.Name}); err != nil {
				k.log.Error("a team of a roster that is forgotten can't be forgotten", "team", t.Name, "error", err)
			}
		}
	}
}

// knownMembers tells of a member whose provider nobody knows.
func (k *Keeper) knownMembers(t grant.Team) error {
	for _, who := range append(slices.Clone(t.Members.Groups), t.Members.Users...) {
		provider, _, _ := strings.Cut(who, ":")
		if _, err := k.provider(provider); err != nil {
			return fmt.Errorf("%s: %w", who, err)
		}
	}
	return nil
}

// Subject says what is asked for.
func (w PutTeam) Subject() Subject    { return Subject{"add", "team", w.File} }
func (w RemoveTeam) Subject() Subject { return Subject{"remove", "team", w.Name} }

func (w PutTeam) do(ctx context.Context, k *Keeper, _ Actor) ([]string, error) {
	teams, err := grant.Parse(w.File, []byte(w.Text))
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	if len(teams) == 0 {
		return nil, fault(Invalid, "%s: there is no team in it", w.File)
	}
	var names []string
	for _, t := range teams {
		if slices.Contains(names, t.Name) {
			return nil, fault(Invalid, "%s: team %s is there twice", w.File, t.Name)
		}
		if err := k.knownMembers(t); err != nil {
			return nil, fault(Invalid, "%s: team %s: %v", w.File, t.Name, err)
		}
		for _, x := range k.Teams() {
			if x.Name == t.Name && x.Roster != "" {
				return nil, fault(Conflict, "team %s is declared by roster %s; change it there: %s", t.Name, x.Roster, x.File)
			}
		}
		names = append(names, t.Name)
	}
	if err := k.store.PutTeams(ctx, teams...); err != nil {
		return nil, err
	}
	return names, k.readTeams(ctx)
}

func (w RemoveTeam) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	var known []string
	for _, t := range k.Teams() {
		if known = append(known, t.Name); t.Name == w.Name && t.Roster != "" {
			return Nothing{}, fault(Conflict, "team %s is declared by roster %s; take it out there: %s", t.Name, t.Roster, t.File)
		}
	}
	if !slices.Contains(known, w.Name) {
		return Nothing{}, unknown("team", w.Name, known, "vigila team add FILE")
	}
	if err := k.store.RemoveTeam(ctx, w.Name); err != nil {
		return Nothing{}, err
	}
	return Nothing{}, k.readTeams(ctx)
}

func (k *Keeper) readTeams(ctx context.Context) error {
	all, err := k.store.Teams(ctx)
	if err != nil {
		return err
	}
	k.people.mu.Lock()
	defer k.people.mu.Unlock()
	k.people.teams = all
	return nil
}

// Teams lists the teams, by name.
func (k *Keeper) Teams() []grant.Team {
	k.people.mu.Lock()
	defer k.people.mu.Unlock()
	return slices.Clone(k.people.teams)
}

// TeamsOf names the teams that somebody is in.
func (k *Keeper) TeamsOf(i grant.Identity) (names []string) {
	for _, t := range k.Teams() {
		if t.Has(i) {
			names = append(names, t.Name)
		}
	}
	return names
}

// Asked is a question about what somebody may.
type Asked struct {
	Who   string // a token, or somebody as vigila session list shows them; whoever asks when empty
	Verb  string
	Ward  string
	Lane  string
	Stop  string
	Guard string
	Kit   string
}

// Decided is the answer, for each thing that was meant.
type Decided struct {
	Who string
	To  string
	grant.Answer
}

// Decide tells whether somebody may something, and why.
func (k *Keeper) Decide(ctx context.Context, by Who, q Asked) ([]Decided, error) {
	verb, err := grant.ParseVerb(q.Verb)
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	who := by
	if q.Who != "" && q.Who != by.Name {
		if !by.Rights.Role.May(grant.Operator) {
			return nil, fault(Denied, "what others may is told to operators and admins")
		}
		if who, err = k.called(ctx, q.Who); err != nil {
			return nil, err
		}
	}
	if (verb == grant.Propose) != (q.Kit != "") {
		return nil, fault(Invalid, "propose and a kit belong together: vigila may WHO propose WARD --kit NAME, or without a ward")
	}
	var things []grant.Thing
	switch {
	case q.Kit != "" && q.Ward == "":
		things = []grant.Thing{{}}
	case q.Lane != "":
		things = []grant.Thing{{Lane: q.Lane, Stop: q.Stop}}
		if _, err := k.Lane(q.Lane); err != nil {
			if by.Rights.All() {
				return nil, err
			}
		}
	case by.Rights.All():
		if things = k.Things(q.Ward); len(things) == 0 {
			_, err := k.one(q.Ward)
			return nil, err
		}
	default:
		v, err := k.SeenWard(by, q.Ward)
		if err != nil {
			return nil, err
		}
		things = []grant.Thing{ThingOf(v)}
	}
	var out []Decided
	for _, x := range things {
		x.Guard, x.Kit = q.Guard, q.Kit
		a := who.Rights.May(verb, x)
		if who.unmet && !a.May {
			a.Why += "; what their groups give is known once they have signed in"
		}
		out = append(out, Decided{who.Name, x.String(), a})
	}
	return out, nil
}

// called finds somebody by name: a token, or a person, with the groups that the provider said at their newest sign-in.
func (k *Keeper) called(ctx context.Context, name string) (Who, error) {
	tokens, err := k.store.Tokens(ctx)
	if err != nil {
		return Who{}, err
	}
	var known []string
	for _, t := range tokens {
		if known = append(known, t.Name); t.Name == name && !Ended(t) {
			return k.whoIs(t), nil
		}
	}
	sessions, err := k.store.Sessions(ctx)
	if err != nil {
		return Who{}, err
	}
	var newest Who
	for i, x := range sessions {
		i0 := x.SessionMore.Who
		if i0.Provider == "" {
			continue
		}
		known = append(known, i0.Title())
		if i0.Title() == name && (newest.Name == "" || sessions[i].Made.After(newest.session.Made)) {
			newest = k.person(i0)
			newest.session = x
		}
	}
	if newest.Name != "" {
		return newest, nil
	}
	if provider, of, is := strings.Cut(name, ":"); is {
		if _, there := k.providerNamed(provider); there { // by their name alone: nobody knows their groups yet
			w := k.person(grant.Identity{Provider: provider, Name: of})
			w.unmet = true
			return w, nil
		}
	}
	slices.Sort(known)
	return Who{}, unknown("token or person", name, slices.Compact(known), "vigila sign-in ADDRESS")
}

// person is somebody whom a provider knows, with what they may by now.
func (k *Keeper) person(i grant.Identity) Who {
	p, known := k.providerNamed(i.Provider)
	if !known {
		return Who{Name: i.Title()}
	}
	return Who{Name: i.Title(), Provider: p.Name, Rights: grant.Of(p.Role(i), i, k.Teams())}
}

// Verbs lists what somebody may do to a ward.
func (w Who) Verbs(v *standing.View) []grant.Verb {
	return slices.DeleteFunc(w.Rights.Verbs(ThingOf(v)), func(x grant.Verb) bool { return x == grant.Allow || x == grant.Promote })
}

// SeenSecrets lists what the wards refer to that somebody sees.
func (k *Keeper) SeenSecrets(w Who) (out []SecretUse) {
	for _, u := range k.SecretUses() {
		if !w.Rights.All() {
			sees := func(id string) bool {
				k.mu.RLock()
				p := k.kept.all[id]
				k.mu.RUnlock()
				return p != nil && w.Sees(p.View())
			}
			u.Wards = slices.DeleteFunc(u.Wards, func(id string) bool { return !sees(id) })
			u.Objects = slices.DeleteFunc(u.Objects, func(at string) bool { id, _, _ := strings.Cut(at, " "); return !sees(id) })
			if len(u.Wards) == 0 {
				continue
			}
		}
		out = append(out, u)
	}
	return out
}

// SeenEffect is what a change would do, as far as somebody sees it.
func (w Who) SeenEffect(k *Keeper, e *Effect) *Effect {
	if w.Rights.All() {
		return e
	}
	out := *e
	out.Same, out.Problems = 0, nil // they count and name others'
	out.Wards = slices.DeleteFunc(slices.Clone(e.Wards), func(x WardEffect) bool {
		k.mu.RLock()
		p := k.kept.all[x.ID]
		k.mu.RUnlock()
		return p == nil || !w.Sees(p.View())
	})
	return &out
}

// SeesLane tells whether somebody sees a lane.
func (w Who) SeesLane(name string) bool {
	return w.Rights.Sees(grant.Thing{Lane: name})
}

// Hears tells whether a note is for somebody.
func (k *Keeper) Hears(w Who, n Note) bool {
	if w.Rights.All() {
		return true
	}
	switch n.Kind {
	case "ward":
		k.mu.RLock()
		p := k.kept.all[n.Name]
		k.mu.RUnlock()
		return p != nil && w.Sees(p.View())
	case "lane":
		return w.SeesLane(n.Name)
	}
	return false
}

// Teams names the teams that give somebody something.
func (w Who) Teams() (names []string) {
	for _, g := range w.Rights.Grants {
		if name, is := strings.CutPrefix(g.By, "team "); is && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}
