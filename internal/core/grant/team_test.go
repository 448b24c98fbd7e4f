package grant

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/document"
)

const ticketing = `vigila: team/v1
name: ticketing
about: those who sell tickets
members: [{group: "brindle:ticketing"}, {user: "brindle:reader@brindle.example"}]
may:
  - {do: [see, look, sync, roll back, hold], wards: {owner: ticketing}}
  - {do: [hold], wards: {names: [tide-gauge, "buoy-watch@skerry"], cluster: skerry}}
  - {do: [promote], lanes: [fare-gate], stops: [quay]}
  - {do: [allow], wards: {owner: ticketing}, guards: [mass-removal]}
  - {do: [see], lanes: passage}
`

func TestATeam(t *testing.T) {
	all, err := Parse("teams/ticketing.yaml", []byte(ticketing+"---\n"+strings.ReplaceAll(ticketing, "ticketing", "signals")))
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "team/v1", Format)
	assert.Equal(t, 6, all[0].May[0].Line)
	assert.Equal(t, 17, all[1].May[0].Line)
	assert.Equal(t, "group brindle:ticketing, user brindle:reader@brindle.example may see, look, sync, roll back, hold for wards of ticketing; hold for wards tide-gauge, buoy-watch@skerry, in skerry; "+
		"promote for lanes fare-gate, stops quay; allow for wards of ticketing, guards mass-removal; see for lanes passage", all[0].String())
	for _, c := range []struct {
		name string
		who  Identity
		want bool
	}{
		{"a group", Identity{Provider: "brindle", Name: "x", Groups: []string{"ticketing"}}, true},
		{"a user", Identity{Provider: "brindle", Name: "reader@brindle.example"}, true},
		{"a group of that name at another provider", Identity{Provider: "crew", Name: "x", Groups: []string{"ticketing"}}, false},
		{"a user of that name at another provider", Identity{Provider: "crew", Name: "reader@brindle.example"}, false},
		{"a group that is called as the provider's", Identity{Provider: "crew", Name: "x", Groups: []string{"brindle:ticketing"}}, false},
		{"nobody", Identity{}, false},
	} {
		assert.Equal(t, c.want, all[0].Has(c.who), c.name)
	}
}

// TestWhatIsDecided: the table of who may what.
func TestWhatIsDecided(t *testing.T) {
	teams, err := Parse("t.yaml", []byte(ticketing))
	require.NoError(t, err)
	who := Identity{Provider: "brindle", Name: "x", Groups: []string{"ticketing"}}
	gate := Thing{Ward: "fare-gate", Owner: "ticketing", Cluster: "quay", Roster: "moorings"}
	with := func(x Thing, change func(*Thing)) Thing { change(&x); return x }
	for _, c := range []struct {
		role Role
		do   Verb
		to   Thing
		may  bool
		why  string
	}{
		{"", See, gate, true, "team ticketing, line 6"},
		{"", Sync, gate, true, "team ticketing, line 6"},
		{"", RollBack, gate, true, "team ticketing, line 6"},
		{"", Reject, gate, false, "nothing gives it: neither a team nor a role (operator)"},
		{Operator, Reject, gate, true, "role operator"},
		{Reader, Reject, gate, false, "nothing gives it"},
		{Reader, Sync, gate, true, "team ticketing, line 6"},
		{Reader, See, with(gate, func(x *Thing) { x.Owner = "signals" }), true, "role reader"},
		{"", Sync, with(gate, func(x *Thing) { x.Owner = "signals" }), false, "team ticketing gives it for wards of ticketing"},
		{"", Sync, with(gate, func(x *Thing) { x.Owner = "" }), false, "team ticketing gives it for wards of ticketing"},
		{"", See, with(gate, func(x *Thing) { x.Owner = "Ticketing" }), false, ""},
		{"", Hold, Thing{Ward: "tide-gauge", Owner: "signals", Cluster: "skerry"}, true, "team ticketing, line 7"},
		{"", See, Thing{Ward: "tide-gauge", Owner: "signals", Cluster: "skerry"}, true, "team ticketing, line 7"},
		{"", Sync, Thing{Ward: "tide-gauge", Owner: "signals", Cluster: "skerry"}, false, ""},
		{"", Hold, Thing{Ward: "tide-gauge", Owner: "signals", Cluster: "quay"}, false, ""},
		{"", Hold, Thing{Ward: "buoy-watch", Cluster: "skerry"}, true, "line 7"},
		{"", Allow, with(gate, func(x *Thing) { x.Guard = "mass-removal" }), true, "line 9"},
		{"", Allow, with(gate, func(x *Thing) { x.Guard = "empty" }), false, "guards mass-removal"},
		{"", Allow, gate, false, ""},
		{"", Promote, Thing{Lane: "fare-gate", Stop: "quay"}, true, "line 8"},
		{"", Promote, Thing{Lane: "fare-gate", Stop: "skerry"}, false, "lanes fare-gate, stops quay"},
		{"", Promote, Thing{Lane: "passage", Stop: "quay"}, false, ""},
		{"", See, Thing{Lane: "fare-gate"}, true, "line 8"},
		{"", See, Thing{Lane: "fare-gate", Stop: "skerry"}, true, "line 8"},
		{"", See, Thing{Lane: "passage"}, true, "line 10"},
		{"", See, Thing{Lane: "tides"}, false, ""},
		{"", Set, gate, false, "nothing gives it"},
		{Operator, Set, gate, true, "role operator"},
		{"", Look, Thing{Ward: "tide-gauge", Owner: "signals", Cluster: "skerry"}, false, ""},
		{"", Sync, Thing{Lane: "fare-gate"}, false, ""},
		{"", See, Thing{}, false, ""},
		{"", "", gate, false, ""},
		{"owner", See, with(gate, func(x *Thing) { x.Owner = "signals" }), false, ""},
	} {
		got := Of(c.role, who, teams).May(c.do, c.to)
		assert.Equal(t, c.may, got.May, "%s, %s %s: %s", c.role, c.do, c.to, got.Why)
		assert.Contains(t, got.Why, c.why)
	}
	assert.True(t, Of("", Identity{Provider: "crew", Groups: []string{"ticketing"}}, teams).None())
}

// TestASyncLooksFirst, and so may who may sync.
func TestASyncLooksFirst(t *testing.T) {
	g := Grant{Do: []Verb{Sync}, Wards: document.Wards{Owners: []string{"ticketing"}}}
	assert.True(t, g.Covers(Look, Thing{Ward: "fare-gate", Owner: "ticketing"}))
	assert.False(t, g.Covers(Look, Thing{Ward: "fare-gate", Owner: "signals"}))
	assert.False(t, g.Covers(Hold, Thing{Ward: "fare-gate", Owner: "ticketing"}))
}

// TestATokenMayNoMoreThanItsMaker, as they are by now.
func TestATokenMayNoMoreThanItsMaker(t *testing.T) {
	ours, theirs := Thing{Ward: "fares", Owner: "ticketing"}, Thing{Ward: "lights", Owner: "signals"}
	held := func(owner string, do ...Verb) []Held {
		return []Held{{Grant{Do: do, Wards: document.Wards{Owners: []string{owner}}}, "x"}}
	}
	for _, c := range []struct {
		what         string
		token, maker Rights
		may          map[Verb][2]bool // ours, theirs
		role         Role
	}{
		{"an admin's", Rights{Role: Operator}, Rights{Role: Admin}, map[Verb][2]bool{Sync: {true, true}}, Operator},
		{"an admin's grants", Rights{Grants: held("ticketing", Sync)}, Rights{Role: Admin}, map[Verb][2]bool{Sync: {true, false}, Hold: {false, false}}, ""},
		{"who is an operator by now", Rights{Role: Admin}, Rights{Role: Operator}, map[Verb][2]bool{Sync: {true, true}}, Operator},
		{"who is a reader by now", Rights{Role: Operator}, Rights{Role: Reader}, map[Verb][2]bool{See: {true, true}, Sync: {false, false}}, Reader},
		{"grants of who is a reader by now", Rights{Grants: held("ticketing", Sync)}, Rights{Role: Reader}, map[Verb][2]bool{See: {true, false}, Sync: {false, false}}, ""},
		{"a role of who is in a team by now", Rights{Role: Operator}, Rights{Grants: held("ticketing", Sync)}, map[Verb][2]bool{Sync: {true, false}, Hold: {false, false}}, ""},
		{"a reader's role of who is in a team by now", Rights{Role: Reader}, Rights{Grants: held("ticketing", Sync)}, map[Verb][2]bool{See: {true, false}, Sync: {false, false}}, ""},
		{"grants of who is in another team by now", Rights{Grants: held("ticketing", Sync)}, Rights{Grants: held("signals", Sync)}, map[Verb][2]bool{See: {false, false}, Sync: {false, false}}, ""},
		{"grants of who is in the team", Rights{Grants: held("ticketing", Sync, Hold)}, Rights{Grants: held("ticketing", Sync)}, map[Verb][2]bool{Sync: {true, false}, Hold: {false, false}}, ""},
		{"who is gone", Rights{Role: Admin, Grants: held("ticketing", Sync)}, Rights{}, map[Verb][2]bool{See: {false, false}, Sync: {false, false}}, ""},
	} {
		got := c.token.Within(c.maker, "brindle:reader")
		assert.Equal(t, c.role, got.Role, c.what)
		for v, want := range c.may {
			for i, x := range []Thing{ours, theirs} {
				a := got.May(v, x)
				assert.Equal(t, want[i], a.May, "%s: %s %s: %s", c.what, v, x, a.Why)
				assert.Equal(t, got.May(See, x).May, got.Sees(x), "%s: %s", c.what, x)
				assert.False(t, a.May && !c.maker.May(v, x).May, "%s: %s %s", c.what, v, x)
			}
		}
	}
	why := Rights{Grants: held("ticketing", Sync)}.Within(Rights{}, "brindle:reader").May(Sync, ours).Why
	assert.Equal(t, "x gives it, and brindle:reader, who made it, may not any more", why)
}

// TestWhatIsForAllOfSomething: no wards are named with it, and a role has it or has not.
func TestWhatIsForAllOfSomething(t *testing.T) {
	sources := Rights{Grants: []Held{{Grant{Do: []Verb{Sources}}, "team ops"}}}
	for _, c := range []struct {
		r   Rights
		v   Verb
		may bool
	}{
		{sources, Sources, true}, {sources, Clusters, false}, {sources, People, false},
		{Rights{Role: Reader}, Sources, false}, {Rights{Role: Reader}, People, false},
		{Rights{Role: Operator}, Sources, true}, {Rights{Role: Operator}, Clusters, true}, {Rights{Role: Operator}, People, false},
		{Rights{Role: Admin}, People, true},
		{sources.Within(Rights{Role: Reader}, "x"), Sources, false}, {sources.Within(Rights{Role: Operator}, "x"), Sources, true},
	} {
		x := Thing{All: c.v}
		assert.Equal(t, c.may, c.r.May(c.v, x).May, "%s of %s", c.v, c.r.Role)
		assert.Equal(t, c.r.May(See, x).May, c.r.Sees(x))
	}
	assert.False(t, sources.May(Sync, Thing{Ward: "fares"}).May)
	assert.False(t, sources.Sees(Thing{Ward: "fares"}), "wards are others'")
	assert.NoError(t, Grant{Do: []Verb{Sources, People}}.Check())
	assert.ErrorContains(t, Grant{Do: []Verb{Sources, Sync}}.Check(), "wards is missing")
	declare := Grant{Do: []Verb{Declare}, Wards: document.Wards{Owners: []string{"ticketing"}}}
	assert.True(t, declare.Covers(Declare, Thing{Ward: "fares", Owner: "ticketing"}))
	assert.False(t, declare.Covers(Declare, Thing{Ward: "lights", Owner: "signals"}))
}

// TestApproving: of a repository, or of a lane.
func TestApproving(t *testing.T) {
	repo, lanes, promotes := Grant{Do: []Verb{Approve}, Repos: []string{"moorings"}}, Grant{Do: []Verb{Approve}, Lanes: []string{"gate"}, Stops: []string{"skerry"}}, Grant{Do: []Verb{Promote}, Lanes: []string{"gate"}}
	lot := Thing{Repo: "moorings", Lane: "gate", Stop: "skerry"}
	for _, c := range []struct {
		g   Grant
		v   Verb
		x   Thing
		may bool
	}{
		{repo, Approve, Thing{Repo: "moorings"}, true}, {repo, See, Thing{Repo: "moorings"}, true}, {repo, Approve, Thing{Repo: "other"}, false}, {repo, Approve, lot, true}, {repo, Promote, lot, false},
		{lanes, Approve, lot, true}, {lanes, Approve, Thing{Repo: "moorings"}, false}, {lanes, Approve, Thing{Repo: "moorings", Lane: "gate", Stop: "quay"}, false}, {lanes, Promote, Thing{Lane: "gate", Stop: "skerry"}, false}, {lanes, See, Thing{Lane: "gate"}, true},
		{promotes, Approve, lot, true}, {promotes, Approve, Thing{Repo: "moorings"}, false},
	} {
		assert.Equal(t, c.may, c.g.Covers(c.v, c.x), "%v %s %s", c.g, c.v, c.x)
	}
	for _, g := range []Grant{repo, lanes, promotes} {
		assert.NoError(t, g.Check())
	}
	assert.ErrorContains(t, Grant{Do: []Verb{Approve}, Wards: document.Wards{Owners: []string{"x"}}}.Check(), "repos is missing, and lanes")
	assert.ErrorContains(t, Grant{Do: []Verb{See}, Lanes: []string{"gate"}, Repos: []string{"x"}}.Check(), "write approve in do")
}

// TestProposingByKits: by which kits, and for which wards; what was not given is not.
func TestProposingByKits(t *testing.T) {
	by := Grant{Do: []Verb{Propose}, Kits: []string{"web"}}
	both := Grant{Do: []Verb{Propose}, Kits: []string{"web"}, Wards: document.Wards{Owners: []string{"ticketing"}, Clusters: []string{"quay"}}}
	any := Grant{Do: []Verb{Propose}, Wards: document.Wards{Owners: []string{"ticketing"}}}
	other := Grant{Do: []Verb{See, Sync}, Wards: document.Wards{Owners: []string{"ticketing"}}}
	ours, theirs := Thing{Kit: "web", Ward: "fares", Owner: "ticketing", Cluster: "quay"}, Thing{Kit: "web", Ward: "lights", Owner: "signals", Cluster: "quay"}
	for _, c := range []struct {
		g   Grant
		v   Verb
		x   Thing
		may bool
	}{
		{by, Propose, ours, true}, {by, Propose, theirs, true}, {by, Propose, Thing{Kit: "db"}, false}, {by, See, Thing{Kit: "web"}, true}, {by, Sync, ours, false},
		{both, Propose, ours, true}, {both, Propose, theirs, false}, {both, Propose, Thing{Kit: "web"}, true}, {both, See, Thing{Ward: "fares", Owner: "ticketing", Cluster: "quay"}, true},
		{any, Propose, Thing{Kit: "db"}, true}, {any, Propose, theirs, false},
		{other, Propose, ours, false}, {other, See, Thing{Kit: "web"}, false},
	} {
		assert.Equal(t, c.may, c.g.Covers(c.v, c.x), "%v %s %s", c.g, c.v, c.x)
	}
	assert.NoError(t, by.Check())
	assert.NoError(t, any.Check())
	assert.ErrorContains(t, Grant{Do: []Verb{Propose}}.Check(), "kits is missing, and wards")
	assert.ErrorContains(t, Grant{Do: []Verb{Sync}, Wards: any.Wards, Kits: []string{"web"}}.Check(), "write propose in do")
}

func TestWhatIsWrongWithATeam(t *testing.T) {
	for _, c := range []struct{ from, to, want string }{
		{"team/v1", "team/v2", "t.yaml:1: the first key must be vigila: team/v1"},
		{"name: ticketing", "name: Ticketing", "t.yaml:1: name is"},
		{"may:", "mays:", "unknown key mays"},
		{"{group: \"brindle:ticketing\"}", "{group: ticketing}", `t.yaml:4: "ticketing" is nobody: write PROVIDER:NAME`},
		{"{group: \"brindle:ticketing\"}", "{group: \"brindle:\"}", `is nobody`},
		{"{group: \"brindle:ticketing\"}", "{group: \"brindle:a\", user: \"brindle:b\"}", "either a group or a user"},
		{"{group: \"brindle:ticketing\"}", "ticketing", "a member must be a mapping"},
		{"[{group: \"brindle:ticketing\"}, {user: \"brindle:reader@brindle.example\"}]", "[]", "t.yaml:1: members is missing"},
		{"do: [hold]", "do: [halt]", `t.yaml:7: do: nobody can "halt"`},
		{"do: [hold]", "do: []", "t.yaml:7: do is missing"},
		{"do: [hold], wards: {names: [tide-gauge, \"buoy-watch@skerry\"], cluster: skerry}", "do: [hold]", "t.yaml:7: wards is missing"},
		{"do: [hold], wards: {names: [tide-gauge, \"buoy-watch@skerry\"], cluster: skerry}", "do: [hold], wards: {}", "t.yaml:7: wards is missing"},
		{"wards: {names", "wards: {name", "unknown key name"},
		{"do: [promote], lanes: [fare-gate], stops: [quay]", "do: [promote]", "t.yaml:8: lanes is missing"},
		{"do: [promote], lanes", "do: [see], lanes", "t.yaml:8: stops are those that are promoted to"},
		{", guards: [mass-removal]", "", "t.yaml:9: allow and guards belong together"},
		{"do: [see], lanes: passage", "do: [see]", "t.yaml:10: wards is missing, and lanes"},
		{"do: [see], lanes: passage", "do: [see], wards: {owner: []}", "t.yaml:10: wards is missing, and lanes"},
	} {
		require.Contains(t, ticketing, c.from)
		_, err := Parse("t.yaml", []byte(strings.Replace(ticketing, c.from, c.to, 1)))
		assert.ErrorContains(t, err, c.want, c.to)
	}
	assert.True(t, Is([]byte(ticketing)))
}

// FuzzTheDecision: more grants never take anything away, whoever may anything to a thing sees it, and no role is held by nobody.
func FuzzTheDecision(f *testing.F) {
	f.Add("sync", "ticketing", "quay", "fare-gate", "ticketing", "quay", "fare-gate", "", "reader")
	f.Add("promote", "", "", "", "", "", "", "fare-gate", "")
	f.Fuzz(func(t *testing.T, verb, owner, cluster, name, of, in, ward, lane, role string) {
		v, err := ParseVerb(verb)
		if err != nil {
			return
		}
		some := func(s string) []string {
			if s == "" {
				return nil
			}
			return []string{s}
		}
		g := Grant{Do: []Verb{v}, Wards: document.Wards{Owners: some(owner), Clusters: some(cluster), Names: some(name)}, Lanes: some(lane), Guards: some(name)}
		x := Thing{Ward: ward, Owner: of, Cluster: in, Guard: name}
		if lane != "" {
			x = Thing{Lane: lane, Stop: in}
		}
		one := Rights{Role: Role(role), Grants: []Held{{g, "team a"}}}
		for _, w := range About {
			bare := Rights{Role: Role(role)}.May(w.Verb, x)
			if bare.May && !one.May(w.Verb, x).May {
				t.Fatalf("a grant takes %s away", w.Verb)
			}
			if one.May(w.Verb, x).May && !one.May(See, x).May {
				t.Fatalf("%s of %s is not seen", w.Verb, x)
			}
			if x.Lane == "" && slices.Contains(one.Verbs(x), w.Verb) != one.Has(w.Verb, x) {
				t.Fatalf("%s of %s among all and alone", w.Verb, x)
			}
			if one.Has(w.Verb, x) != one.May(w.Verb, x).May {
				t.Fatalf("%s of %s with a why and without", w.Verb, x)
			}
			if x.Lane == "" && one.Seer()(x) != one.Sees(x) {
				t.Fatalf("%s is seen one by one, and not among many", x)
			}
			if one.Sees(x) != one.May(See, x).May {
				t.Fatalf("%s is seen and not seen", x)
			}
			if !slices.Contains(Roles, Role(role)) && one.May(w.Verb, x).May && !g.Covers(w.Verb, x) {
				t.Fatalf("%s of %s comes from nowhere", w.Verb, x)
			}
		}
		if lane == "" && owner != "" && of != owner && !one.All() && one.May(v, x).May {
			t.Fatal(fmt.Sprint("of another owner: ", g, x))
		}
	})
}
