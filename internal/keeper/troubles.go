package keeper

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/record"
)

// What begins the name of a trouble that is of no ward.
const (
	ofProposal = "proposal "
	ofRepo     = "repository "
	ofRoster   = "roster "
	ofLane     = "lane "
	ofFollow   = "follow "
	ofStore    = "store "
	ofCluster  = "cluster "
	ofToken    = "token "
)

// troubles is what is wrong now, of wards and beside them, and of what nobody knows.
func (k *Keeper) troubles(ctx context.Context) (all []alert.Trouble, unknown map[string]bool, err error) {
	unknown = map[string]bool{}
	views := k.Views()
	misfiled := map[string]bool{} // rosters of which somebody is told by a ward
	blind := map[string]bool{}    // what wards say already that it can't be read
	for _, v := range views {
		if t := v.Trouble(); t != nil {
			all = append(all, *t)
			if v.Misfiled != "" {
				misfiled[v.Roster] = true
			}
		} else if v.Unclear() {
			unknown[v.ID] = true
		}
	}
	proposals, _, err := k.store.Proposals(ctx, record.FindProposals{Live: true})
	if err != nil { // none of them is over
		return nil, nil, err
	}
	proposed := map[string]bool{} // follows and lanes that wait for a review, of which somebody is told so
	for _, p := range proposals {
		proposed[ofOrigin(p.Origin)] = true
		if says, needs := p.Says(); needs {
			t := alert.Trouble{Subject: fmt.Sprint(ofProposal, p.Number), Topic: alert.ProposalWaits, Text: p.Title + ": " + says, By: "Proposed by " + p.By, Since: p.Opened, Link: fmt.Sprintf("/proposals/%d", p.Number), Todo: fmt.Sprintf("vigila propose show %d", p.Number)}
			all = append(all, belongs(t, k.touched(views, p)))
		}
	}
	for _, t := range all {
		blind[t.Cause] = true
	}
	all = append(all, k.rosterTroubles(unknown, misfiled, blind)...)
	all = append(all, k.versionTroubles(views, unknown, proposed)...)
	for _, l := range k.storeLoops() {
		l.mu.Lock()
		name, problem, looked := l.conf.Name, l.problem, !l.looked.IsZero() && l.endKnown()
		l.mu.Unlock()
		if problem != "" {
			t := alert.Trouble{Subject: ofStore + name, Topic: alert.Blind, Cause: ofStore + name, Text: problem, Link: "/stores", Todo: "The values that were known last hold. Look again: vigila store try " + name}
			all = append(all, belongs(t, ofWards(views, func(v *standing.View) bool { return k.stores.usedBy(v.ID, name) })))
		}
		if !looked {
			unknown[ofStore+name] = true
		}
	}
	k.mu.RLock()
	for name, l := range k.clusters {
		unknown[ofCluster+name] = l.conn == nil && l.away == nil
		if l.away != nil {
			if t := l.away.trouble(time.Now()); t != nil {
				all = append(all, belongs(*t, ofWards(views, func(v *standing.View) bool { return v.Cluster == name })))
			}
		}
	}
	k.mu.RUnlock()
	ending, err := k.ending(ctx)
	for _, e := range ending {
		t := alert.Trouble{Subject: e.subject, Topic: alert.CredentialsEnd, Text: e.text, Link: e.link, Todo: e.todo}
		all = append(all, belongs(t, ofWards(views, func(v *standing.View) bool { return e.of != nil && e.of(v) })))
	}
	return all, unknown, err
}

// rosterTroubles is what is wrong with rosters, but what wards of theirs say already.
func (k *Keeper) rosterTroubles(unknown, misfiled, blind map[string]bool) (all []alert.Trouble) {
	for _, l := range k.rosterLoops() {
		l.mu.Lock()
		name, repo, said := l.conf.Name, l.conf.Repo, l.State.Say(l.conf.Name)
		l.mu.Unlock()
		t := alert.Trouble{Subject: ofRoster + name, Topic: alert.NeedsYou, Text: said.Says, Todo: said.Todo, Link: "/rosters", Of: alert.Of{Roster: name}}
		switch {
		case !said.NeedsYou:
			if said.Standing == compare.Blind {
				unknown[t.Subject] = true
			}
			continue
		case said.Standing == compare.Blind:
			if t.Topic, t.Cause = alert.Blind, ofRepo+repo; blind[t.Cause] {
				unknown[t.Subject] = true // it is no more over than they are
				continue
			}
		case misfiled[name]:
			unknown[t.Subject] = true
			continue
		}
		all = append(all, t)
	}
	return all
}

// versionTroubles is what follows and lanes need somebody for. One that waits for a review is told of by its proposal.
func (k *Keeper) versionTroubles(views []*standing.View, unknown, proposed map[string]bool) (all []alert.Trouble) {
	for _, f := range k.Follows() {
		subject := ofFollow + f.Name
		says, loud := f.Says(f.Rule)
		switch {
		case loud && !proposed[subject]:
			t := alert.Trouble{Subject: subject, Topic: alert.NeedsYou, Text: says, Link: "/versions", Todo: "Look again: vigila follow look " + f.Name}
			laid := map[string]bool{}
			for _, p := range k.laying(f.Repo, f.Into) {
				laid[p.ID] = true
			}
			all = append(all, belongs(t, append(ofWards(views, func(v *standing.View) bool { return laid[v.ID] }), alert.Of{Roster: f.Roster})))
		case f.Looked.IsZero():
			unknown[subject] = true
		}
	}
	for _, l := range k.Lanes() {
		subject := ofLane + l.Name
		switch {
		case l.Loud && !proposed[subject]:
			t := alert.Trouble{Subject: subject, Topic: alert.NeedsYou, Text: l.Said, Link: "/lanes/" + l.Name, Todo: "vigila lane show " + l.Name}
			all = append(all, belongs(t, append(ofWards(views, func(v *standing.View) bool { return l.holds(v) }), alert.Of{Roster: l.Roster})))
		case l.Looked.IsZero():
			unknown[subject] = true
		}
	}
	return all
}

// holds tells whether a ward is at one of its stops.
func (l *Lane) holds(v *standing.View) bool {
	for _, s := range l.Stops {
		if slices.Contains(s.Wards, v.ID) || slices.Contains(s.Wards, v.Ward.Name) {
			return true
		}
	}
	return false
}

// ofOrigin names what a proposal comes from as troubles do: a follow, or a lane; "" for others.
func ofOrigin(o proposal.Origin) string {
	switch o.Kind {
	case proposal.Follow:
		return ofFollow + o.Of
	case proposal.Lane:
		lane, _, _ := strings.Cut(o.Of, " ")
		return ofLane + lane
	}
	return ""
}

// touched are the wards that a proposal is about, as far as its wish says; the roster alone whose directory its files are in where there is no ward yet.
func (k *Keeper) touched(views []*standing.View, p proposal.Proposal) []alert.Of {
	name := p.Origin.Of
	switch p.Origin.Kind {
	case proposal.Back:
		return ofWards(views, func(v *standing.View) bool { return v.ID == name })
	case proposal.Follow:
		if _, wards, err := k.Follow(name); err == nil {
			return ofWards(views, func(v *standing.View) bool { return slices.Contains(wards, v.ID) })
		}
	case proposal.Lane:
		laneName, stop, _ := strings.Cut(name, " ")
		if l, err := k.Lane(laneName); err == nil {
			if s, is := l.Stop(stop); is {
				return ofWards(views, func(v *standing.View) bool {
					return slices.Contains(s.Wards, v.ID) || slices.Contains(s.Wards, v.Ward.Name)
				})
			}
		}
	case proposal.Files:
		found := ofWards(views, func(v *standing.View) bool {
			return v.Ward.From.Repo == p.Repo && v.Ward.From.Path != "" && strings.HasPrefix(name, strings.TrimSuffix(v.Ward.From.Path, "/")+"/")
		})
		for _, l := range k.rosterLoops() {
			if c := l.record(); c.Repo == p.Repo && strings.HasPrefix(name, strings.TrimSuffix(c.Path, "/")+"/") {
				found = append(found, alert.Of{Roster: c.Name})
			}
		}
		return found
	}
	return nil
}

// ofWards is what the wards are that something holds for.
func ofWards(views []*standing.View, holds func(*standing.View) bool) (out []alert.Of) {
	for _, v := range views {
		if holds(v) {
			out = append(out, v.Of())
		}
	}
	return out
}

// belongs is a trouble that belongs to some wards: the first, and others.
func belongs(t alert.Trouble, wards []alert.Of) alert.Trouble {
	if len(wards) > 0 {
		t.Of, t.Others = wards[0], wards[1:]
	}
	return t
}

// ending is a credential that ends soon, or has.
type ending struct {
	kind, name          string
	at                  time.Time
	subject, text, todo string
	link                string
	of                  func(*standing.View) bool // the wards that need it; nil for none
}

// ending lists the credentials that end soon, of those whose end is known.
func (k *Keeper) ending(ctx context.Context) (out []ending, err error) {
	all, err := k.ends(ctx)
	for _, e := range all {
		if endsSoon(e.at) {
			out = append(out, e)
		}
	}
	return out, err
}

// ends lists all credentials that somebody uses and that end at a known time.
func (k *Keeper) ends(ctx context.Context) ([]ending, error) {
	tokens, err := k.store.Tokens(ctx)
	return slices.Concat(k.repoEnds(), k.clusterEnds(), k.storeEnds(), tokenEnds(tokens)), err
}

func tokenEnds(tokens []record.Token) (out []ending) {
	for _, t := range tokens {
		// One that was made for days is meant to end, and one that was not used for as long nobody misses.
		if !t.Expires.IsZero() && t.Expires.Sub(t.Made) > 2*soon && time.Since(t.Used) < 2*soon {
			out = append(out, ending{kind: "token", name: t.Name, at: t.Expires, subject: ofToken + t.Name, text: fmt.Sprintf("the token %s of Vigila itself %s", t.Name, endWords(t.Expires)), link: "/",
				todo: fmt.Sprintf("Make another one and give it to whoever uses it: vigila token make %s-2 --role %s --for 90d", t.Name, t.Role)})
		}
	}
	return out
}

func (k *Keeper) repoEnds() (out []ending) {
	for _, r := range k.Repos() {
		if r.More.Expires.IsZero() {
			continue
		}
		out = append(out, ending{kind: "repository", name: r.Name, at: r.More.Expires, subject: ofRepo + r.Name, text: "its token " + endWords(r.More.Expires), link: "/repositories",
			todo: "Give a new one: vigila repo add " + r.Name + " " + r.URL + " --user USER --password-file FILE", of: func(v *standing.View) bool { return v.Ward.From.Repo == r.Name }})
	}
	return out
}

func (k *Keeper) storeEnds() (out []ending) {
	for _, l := range k.storeLoops() {
		l.mu.Lock()
		name, end := l.conf.Name, l.ends
		l.mu.Unlock()
		if !end.IsZero() {
			out = append(out, ending{kind: "store", name: name, at: end, subject: ofStore + name, text: "its token " + endWords(end), link: "/stores",
				todo: "Give a new one: vigila store add " + name + " " + l.conf.URL + " --token-file FILE", of: func(v *standing.View) bool { return k.stores.usedBy(v.ID, name) }})
		}
	}
	return out
}

func (k *Keeper) clusterEnds() (out []ending) {
	k.mu.RLock()
	loops := slices.Collect(maps.Values(k.clusters))
	k.mu.RUnlock()
	for _, l := range loops {
		if l.conn == nil {
			continue
		}
		name := l.record().Name
		what, at := l.conn.CredentialsEnd()
		if at.IsZero() {
			continue
		}
		out = append(out, ending{kind: "cluster", name: name, at: at, subject: ofCluster + name, text: "its " + what + " " + endWords(at), link: "/clusters",
			todo: "Give a new one: vigila cluster add " + name + " --kubeconfig FILE", of: func(v *standing.View) bool { return v.Cluster == name }})
	}
	return out
}

// endWords says when something ends, or ended.
func endWords(at time.Time) string {
	day := at.UTC().Format("2 January 2006 15:04 UTC")
	if time.Now().After(at) {
		return "ended on " + day
	}
	return "ends on " + day
}
