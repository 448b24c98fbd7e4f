package grant

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
)

// Verb is what may be done.
type Verb string

// The verbs that a team, or a token, can be given. What is not among them (stores, rules, alerts and their ways, the audit) is an operator's or an admin's.
const (
	See      Verb = "see"         // wards, their objects, entries and logs; lanes
	Look     Verb = "look"        // let repositories and clusters be looked at now
	Sync     Verb = "sync"        // sync and restore, stop a run, say what a canary is to do
	RollBack Verb = "roll back"   // to an earlier entry, and propose that git says so
	Hold     Verb = "hold"        // stop automatic runs, and let them go on
	Reject   Verb = "reject"      // mark a revision as bad, and lift that
	Allow    Verb = "allow"       // let a guard pass, by its name
	Set      Verb = "set secrets" // values that nobody's but these wards refer to
	Propose  Verb = "propose"     // make and change things by kits, as proposals
	Approve  Verb = "approve"     // proposals of a repository, or lots of a lane
	Declare  Verb = "declare"     // register wards by command, and stop keeping them
	Sources  Verb = "sources"     // repositories, rosters, registries, metrics sources and follows
	Clusters Verb = "clusters"    // add, change and forget clusters
	People   Verb = "people"      // tokens, teams and providers: as much as an admin
	Promote  Verb = "promote"     // let a lot into a stop of a lane, hold the stop, and release it
)

// About says what each verb is, in one place; in the order in which they are told.
var About = []struct {
	Verb Verb
	Text string
}{
	{See, "see wards, their objects, logbooks and logs, or a lane; every other verb sees what it is for as well"},
	{Look, "let the repository and the cluster of a ward be looked at now"},
	{Sync, "look, sync (to another revision of its repository as well) and restore, stop a run, and say what a canary is to do"},
	{RollBack, "roll back to an earlier entry, and propose that git says so"},
	{Hold, "stop automatic runs, and let them go on"},
	{Reject, "mark a revision as bad, lift that, and with sync, sync it all the same"},
	{Allow, "let a guard pass in a run that one may start, by the guard's name"},
	{Set, "set the value of a secret that no other wards refer to"},
	{Propose, "make things by kits, and change what they made, as proposals; wards of these alone"},
	{Approve, "see the proposals of a repository with all their files, and approve them; or the lots that a lane offers"},
	{Promote, "let a lot into a stop of a lane, hold the stop, and release it"},
	{Declare, "register wards by command, and stop keeping them"},
	{Sources, "see, add, change and forget repositories, rosters, registries, metrics sources and follows, all of them: through a roster, all that wards may"},
	{Clusters, "see, add, change and forget clusters, all of them"},
	{People, "make and end tokens, teams and providers: whoever has it can give themselves everything"},
}

// ParseVerb reads a verb. An error says which there are.
func ParseVerb(text string) (Verb, error) {
	var known []string
	for _, x := range About {
		if string(x.Verb) == strings.ReplaceAll(text, "-", " ") {
			return x.Verb, nil
		}
		known = append(known, string(x.Verb))
	}
	return "", fmt.Errorf("nobody can %q; %s", text, nearest.Words(text, known))
}

// Whole tells of a verb whether it is for all of something, and for no wards or lanes in particular.
func (v Verb) Whole() bool { return v == Sources || v == Clusters || v == People }

// Grant is what may be done to what.
type Grant struct {
	Do     []Verb         `json:"do"`
	Wards  document.Wards `json:"wards,omitzero"`
	Lanes  []string       `json:"lanes,omitempty"`
	Stops  []string       `json:"stops,omitempty"`  // of the lanes; all when empty
	Guards []string       `json:"guards,omitempty"` // that may be let pass
	Kits   []string       `json:"kits,omitempty"`   // that may be used; all when empty
	Repos  []string       `json:"repos,omitempty"`  // whose proposals may be approved
	Line   int            `json:"line,omitempty"`   // of the file that says so
}

// Thing is what something is done to: a ward, or a stop of a lane.
type Thing struct {
	Ward, Owner, Cluster, Roster string // of a ward: its name without the cluster, and where it belongs
	Lane, Stop                   string // of a lane; any of its stops when empty
	Guard                        string // that is let pass
	Kit                          string // that is used, for the ward where one is named
	Repo                         string // whose proposal it is; beside a lane, of a lot that it offers
	All                          Verb   // of what such a verb is for, any
}

// String says what it is.
func (x Thing) String() string {
	switch {
	case x.All != "":
		return "all " + string(x.All)
	case x.Repo != "" && x.Lane == "":
		return "proposals of " + x.Repo
	case x.Lane != "" && x.Stop != "":
		return "lane " + x.Lane + " at " + x.Stop
	case x.Lane != "":
		return "lane " + x.Lane
	case x.Kit != "" && x.Ward == "":
		return "by kit " + x.Kit
	case x.Kit != "":
		return x.Ward + "@" + x.Cluster + " by kit " + x.Kit
	case x.Guard != "":
		return "guard " + x.Guard + " of " + x.Ward + "@" + x.Cluster
	}
	if x.Cluster == "" {
		return x.Ward + " wherever its labels are"
	}
	return x.Ward + "@" + x.Cluster
}

// Covers tells whether the grant lets somebody do something to a thing. Whoever may do anything to a thing sees it, and a sync looks first.
func (g *Grant) Covers(v Verb, x Thing) bool {
	if x.Ward != "" && len(g.Wards.Owners) > 0 && !slices.Contains(g.Wards.Owners, x.Owner) { // most of a large team's grants, most of the time
		return false
	}
	if x.All != "" || v.Whole() {
		return x.All != "" && (v == x.All || v == See) && slices.Contains(g.Do, x.All)
	}
	if !slices.Contains(g.Do, v) && v != See && (v != Look || !slices.Contains(g.Do, Sync)) && (v != Approve || !slices.Contains(g.Do, Promote)) {
		return false
	}
	if x.Repo != "" {
		if (v == Approve || v == See) && slices.Contains(g.Do, Approve) && slices.Contains(g.Repos, x.Repo) {
			return true
		}
		if x.Lane == "" {
			return false
		}
	}
	if x.Kit != "" {
		return (v == Propose || v == See) && slices.Contains(g.Do, Propose) && document.Among(g.Kits, x.Kit) && (x.Ward == "" || !g.Wards.Any() || g.Wards.Hold(x.Ward, x.Owner, x.Cluster, x.Roster))
	}
	if x.Lane != "" {
		return slices.Contains(g.Lanes, x.Lane) && (x.Stop == "" || v == See || document.Among(g.Stops, x.Stop))
	}
	return g.Wards.Any() && g.Wards.Hold(x.Ward, x.Owner, x.Cluster, x.Roster) && (v != Allow || slices.Contains(g.Guards, x.Guard))
}

// Rights are all that somebody may.
type Rights struct {
	Role   Role // "" for nothing but the grants
	Grants []Held
	// Bound are those of whoever made the token that these are of, and Whose their name: of the grants holds what is within. Nil for all.
	Bound *Rights
	Whose string
}

// Has is May without its why.
func (r Rights) Has(v Verb, x Thing) bool {
	if r.Role.May(roleFor(v, x)) {
		return true
	}
	for i := range r.Grants {
		if r.Grants[i].Covers(v, x) {
			return r.Bound == nil || r.Bound.Has(v, x)
		}
	}
	return false
}

// Verbs are all that somebody may do to a ward, in the order of About: only grants that let them see it are looked at more closely.
func (r Rights) Verbs(ward Thing) (out []Verb) {
	near := r
	near.Grants = nil
	for i := range r.Grants {
		if r.Grants[i].Covers(See, ward) {
			near.Grants = append(near.Grants, r.Grants[i])
		}
	}
	for _, x := range About {
		if near.Has(x.Verb, ward) {
			out = append(out, x.Verb)
		}
	}
	return out
}

// roleFor is the least role that may something without any grant.
func roleFor(v Verb, x Thing) Role {
	switch {
	case v == People || x.All == People:
		return Admin
	case v == See || v == Look:
		return Reader
	}
	return Operator
}

// Within are rights as far as somebody else's go as well: those of a token that they have made. What they may not, it may not.
func (r Rights) Within(maker Rights, who string) Rights {
	if maker.Role.May(Operator) { // every grant is within
		if r.Role != "" && !maker.Role.May(r.Role) {
			r.Role = maker.Role
		}
		return r
	}
	out := Rights{Role: r.Role, Grants: slices.Clone(r.Grants), Bound: &maker, Whose: who}
	if r.Role == "" || maker.Role.May(r.Role) {
		return out
	}
	out.Role = maker.Role
	for _, g := range maker.Grants { // a role is for everything: of it they have what they have themselves
		if r.Role == Reader {
			g.Do = []Verb{See}
		}
		out.Grants = append(out.Grants, g)
	}
	return out
}

// Held is a grant that somebody has, and who gives it.
type Held struct {
	Grant
	By string // team ticketing, token pipeline
}

// Answer is whether somebody may something, and why.
type Answer struct {
	May bool
	Why string // what lets them, or what they lack
}

// May decides whether somebody may do something to a thing: this is the one place where that is decided.
func (r Rights) May(v Verb, x Thing) Answer {
	want := roleFor(v, x)
	if r.Role.May(want) {
		return Answer{true, "role " + string(r.Role)}
	}
	var instead []string
	for _, g := range r.Grants {
		if g.Covers(v, x) {
			if r.Bound != nil && !r.Bound.May(v, x).May {
				instead = append(instead, fmt.Sprintf("%s gives it, and %s, who made it, may not any more", g.By, r.Whose))
				continue
			}
			why := g.By
			if g.Line > 0 {
				why += fmt.Sprintf(", line %d", g.Line)
			}
			return Answer{true, why}
		}
		if slices.Contains(g.Do, v) {
			instead = append(instead, g.By+" gives it for "+g.what())
		}
	}
	if len(instead) == 0 {
		return Answer{false, fmt.Sprintf("nothing gives it: neither a team nor a role (%s)", want)}
	}
	return Answer{false, strings.Join(instead, "; ")}
}

func (g Grant) what() string {
	var parts []string
	if g.Wards.Any() {
		parts = append(parts, g.Wards.String())
	}
	if len(g.Lanes) > 0 {
		parts = append(parts, "lanes "+strings.Join(g.Lanes, ", "))
	}
	if len(g.Stops) > 0 {
		parts = append(parts, "stops "+strings.Join(g.Stops, ", "))
	}
	if len(g.Repos) > 0 {
		parts = append(parts, "repositories "+strings.Join(g.Repos, ", "))
	}
	if len(g.Kits) > 0 {
		parts = append(parts, "kits "+strings.Join(g.Kits, ", "))
	}
	if len(g.Guards) > 0 {
		parts = append(parts, "guards "+strings.Join(g.Guards, ", "))
	}
	return strings.Join(parts, ", ")
}

// All tells whether somebody sees everything.
func (r Rights) All() bool { return r.Role.May(Reader) }

// Sees tells whether somebody sees a thing, as May does, without saying why.
func (r Rights) Sees(x Thing) bool {
	if x.All != "" {
		return r.May(See, x).May
	}
	return r.All() || r.Has(See, x)
}

// Seer is Sees for many wards: of grants that name owners, only those of a ward's own are looked at.
func (r Rights) Seer() func(ward Thing) bool {
	if r.All() {
		return func(Thing) bool { return true }
	}
	of := map[string][]*Held{}
	var rest []*Held
	for i := range r.Grants {
		g := &r.Grants[i]
		if !g.Wards.Any() { // it is for no ward
			continue
		}
		if len(g.Wards.Owners) == 0 {
			rest = append(rest, g)
		}
		for _, owner := range g.Wards.Owners {
			of[owner] = append(of[owner], g)
		}
	}
	return func(x Thing) bool {
		sees := false
		for _, g := range of[x.Owner] {
			sees = sees || g.Covers(See, x)
		}
		for _, g := range rest {
			sees = sees || g.Covers(See, x)
		}
		return sees && (r.Bound == nil || r.Bound.Sees(x))
	}
}

// None tells whether somebody may nothing at all.
func (r Rights) None() bool { return r.Role == "" && len(r.Grants) == 0 }

// Format is that of a team's file.
const Format = "team/v1"

// Schema is the JSON Schema of the format.
//
//go:embed team.schema.json
var Schema []byte

// Team is some people, and what they may.
type Team struct {
	Name    string  `json:"name"`
	About   string  `json:"about,omitempty"`
	Members Members `json:"members"` // groups and users as PROVIDER:NAME
	May     []Grant `json:"may"`
	File    string  `json:"file,omitempty"`
	Line    int     `json:"line,omitempty"`
	Roster  string  `json:"roster,omitempty"` // whose files declare it; "" for one that was given by command
}

// String says who is in the team and what they may, in a line.
func (t Team) String() string {
	var who, may []string
	for _, g := range t.Members.Groups {
		who = append(who, "group "+g)
	}
	for _, u := range t.Members.Users {
		who = append(who, "user "+u)
	}
	for _, g := range t.May {
		var do []string
		for _, v := range g.Do {
			do = append(do, string(v))
		}
		may = append(may, strings.Join(do, ", ")+" for "+g.what())
	}
	return strings.Join(who, ", ") + " may " + strings.Join(may, "; ")
}

// Has tells whether somebody is in the team.
func (t Team) Has(i Identity) bool {
	own := func(all []string) (out []string) {
		for _, x := range all {
			if name, is := strings.CutPrefix(x, i.Provider+":"); is {
				out = append(out, name)
			}
		}
		return out
	}
	return i.Provider != "" && Members{Groups: own(t.Members.Groups), Users: own(t.Members.Users)}.Has(i)
}

// Of are the rights of somebody: their role, and what their teams give.
func Of(role Role, i Identity, teams []Team) Rights {
	r := Rights{Role: role}
	for _, t := range teams {
		if t.Has(i) {
			for _, g := range t.May {
				r.Grants = append(r.Grants, Held{g, "team " + t.Name})
			}
		}
	}
	return r
}

// Is tells whether a file holds teams, by its first key.
func Is(data []byte) bool { return object.FirstKey(data, "vigila", "team/") }

// Parse reads every team of a file. All mistakes are reported at once, each an *object.SyntaxError, joined.
func Parse(file string, data []byte) ([]Team, error) {
	var out []Team
	err := document.Each(file, data, func(d *document.Reader, root *yaml.Node) {
		t := (&reader{d}).team(root)
		if t.File = file; d.Good() {
			out = append(out, t)
		}
	})
	return out, err
}

type reader struct{ *document.Reader }

func (d *reader) team(n *yaml.Node) Team {
	t := Team{Line: d.Line(n)}
	format := ""
	d.Keys(n, "a team", map[string]func(*yaml.Node){
		"vigila": d.Text(&format, "vigila"), "name": d.Text(&t.Name, "name"), "about": d.Text(&t.About, "about"),
		"members": d.List("members", func(x *yaml.Node) { d.member(x, &t.Members) }),
		"may":     d.List("may", func(x *yaml.Node) { t.May = append(t.May, d.grant(x)) }),
	})
	if n.Kind != yaml.MappingNode {
		return t
	}
	d.Head(d.Line(n), Format, format, t.Name)
	if len(t.Members.Groups)+len(t.Members.Users) == 0 {
		d.Fail(d.Line(n), `members is missing: who is in the team, such as [{group: "brindle:ticketing"}]`)
	}
	if len(t.May) == 0 {
		d.Fail(d.Line(n), "may is missing: what the team may, such as [{do: [see, sync], wards: {owner: ticketing}}]")
	}
	return t
}

func (d *reader) member(n *yaml.Node, into *Members) {
	group, user := "", ""
	d.Keys(n, "a member", map[string]func(*yaml.Node){"group": d.Text(&group, "group"), "user": d.Text(&user, "user")})
	if n.Kind != yaml.MappingNode {
		return
	}
	name := group + user
	provider, of, _ := strings.Cut(name, ":")
	switch {
	case (group == "") == (user == ""):
		d.Fail(d.Line(n), "a member is either a group or a user")
	case !document.Name(provider) || of == "":
		d.Fail(d.Line(n), "%q is nobody: write PROVIDER:NAME, such as brindle:ticketing, as vigila session list shows people", name)
	case group != "":
		into.Groups = append(into.Groups, group)
	default:
		into.Users = append(into.Users, user)
	}
}

func (d *reader) grant(n *yaml.Node) Grant {
	g := Grant{Line: d.Line(n)}
	d.Keys(n, "what a team may", map[string]func(*yaml.Node){
		"do": d.List("do", func(x *yaml.Node) {
			v, err := ParseVerb(x.Value)
			if err != nil {
				d.Fail(d.Line(x), "do: %v", err)
				v = See // so that only this is told
			}
			g.Do = append(g.Do, v)
		}),
		"wards": d.Wards(&g.Wards, "wards"),
		"lanes": d.Some(&g.Lanes, "lanes"), "stops": d.Some(&g.Stops, "stops"), "guards": d.Some(&g.Guards, "guards"), "kits": d.Some(&g.Kits, "kits"), "repos": d.Some(&g.Repos, "repos"),
	})
	if n.Kind != yaml.MappingNode {
		return g
	}
	if err := g.Check(); err != nil {
		d.Fail(g.Line, "%v", err)
	}
	return g
}

// Check tells what a grant lacks: verbs without what they are for give nothing, and would look as if they did.
func (g Grant) Check() error {
	has := func(v Verb) bool { return slices.Contains(g.Do, v) }
	ofWards := slices.ContainsFunc(g.Do, func(v Verb) bool { return v != Promote && v != See && v != Propose && v != Approve && !v.Whole() })
	onlyWhole := !slices.ContainsFunc(g.Do, func(v Verb) bool { return !v.Whole() })
	for _, v := range g.Do {
		if _, err := ParseVerb(string(v)); err != nil {
			return err
		}
	}
	switch {
	case len(g.Do) == 0:
		return fmt.Errorf("do is missing: what may be done, such as [see, sync]")
	case ofWards && !g.Wards.Any():
		return fmt.Errorf("wards is missing: to which wards that may be done, such as {owner: ticketing}")
	case has(Promote) && len(g.Lanes) == 0:
		return fmt.Errorf("lanes is missing: which lanes may be promoted, such as [fare-gate]")
	case has(Propose) && !g.Wards.Any() && len(g.Kits) == 0:
		return fmt.Errorf("kits is missing, and wards: by which kits something may be proposed, or for which wards, such as kits: [web-service]")
	case len(g.Kits) > 0 && !has(Propose):
		return fmt.Errorf("kits are those that things are proposed by; write propose in do")
	case has(Approve) && len(g.Lanes)+len(g.Repos) == 0:
		return fmt.Errorf("repos is missing, and lanes: whose proposals may be approved, such as repos: [moorings]")
	case len(g.Repos) > 0 && !has(Approve):
		return fmt.Errorf("repos are those whose proposals are approved; write approve in do")
	case !onlyWhole && !g.Wards.Any() && len(g.Lanes)+len(g.Kits)+len(g.Repos) == 0:
		return fmt.Errorf("wards is missing, and lanes: what may be seen")
	case has(Allow) != (len(g.Guards) > 0):
		return fmt.Errorf("allow and guards belong together: which guards may be let pass, such as [mass-removal]")
	case len(g.Lanes) > 0 && !has(Promote) && !has(See) && !has(Approve):
		return fmt.Errorf("lanes are seen, promoted, or their lots approved; write see, promote or approve in do")
	case len(g.Stops) > 0 && !has(Promote) && !has(Approve):
		return fmt.Errorf("stops are those that are promoted to; write promote in do")
	}
	return nil
}
