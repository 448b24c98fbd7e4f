package lane

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const whole = `vigila: lane/v1
name: fare-gate
about: New versions of the gates.
carries:
  - versions: services/fare-gate/{stop}/versions.yaml
  - files: services/fare-gate/{stop}/config/**
keeps: ["**/site.yaml"]
stops:
  - {name: quay, wards: [fare-gate@quay], lets_in: by itself}
  - {name: skerry, after: [quay], wards: [fare-gate@skerry], lets_in: ask, who: [harbour-ops], settled: 30m, by: proposal, hours: "Mon-Thu 09:00-16:00 Europe/Oslo"}
  - {name: holm, after: [quay], wards: [fare-gate@holm], lets_in: ask, together: skerry}
`

func parsed(t *testing.T, text string) Lane {
	t.Helper()
	all, err := Parse("moorings", "main", "lanes/gate.yaml", []byte(text))
	require.NoError(t, err)
	require.Len(t, all, 1)
	return all[0]
}

func TestALane(t *testing.T) {
	assert.True(t, Is([]byte(whole)))
	l := parsed(t, whole)
	hours, err := ParseHours("Mon-Thu 09:00-16:00 Europe/Oslo")
	require.NoError(t, err)
	assert.Equal(t, Lane{Name: "fare-gate", About: "New versions of the gates.", Repo: "moorings", Ref: "main", File: "lanes/gate.yaml", Line: 1, Keeps: []string{"**/site.yaml"},
		Carries: []Carry{{Versions: "services/fare-gate/{stop}/versions.yaml", Line: 5}, {Files: "services/fare-gate/{stop}/config/**", Line: 6}},
		Stops: []Stop{{Name: "quay", Wards: []string{"fare-gate@quay"}, LetsIn: ByItself, By: ByCommit, Line: 9},
			{Name: "skerry", After: []string{"quay"}, Wards: []string{"fare-gate@skerry"}, LetsIn: Ask, Who: []string{"harbour-ops"}, Settled: 30 * time.Minute, By: ByProposal, Hours: hours, Line: 10},
			{Name: "holm", After: []string{"quay"}, Wards: []string{"fare-gate@holm"}, LetsIn: Ask, By: ByCommit, Together: "skerry", Line: 11}}}, l)
	assert.Equal(t, "services/fare-gate/quay/config", At(l.Carries[1].Path(), "quay"))
	l.Keeps = append(l.Keeps, "services/fare-gate/skerry/config/own.yaml")
	for p, kept := range map[string]bool{"services/fare-gate/{stop}/config/own.yaml": true, "services/fare-gate/{stop}/config/site.yaml": true, "services/fare-gate/{stop}/config/tariff.yaml": false} {
		assert.Equal(t, kept, l.KeepsPath(p), "%s: what is one stop's own is carried to none", p)
	}
	for file, kept := range map[string]bool{"services/fare-gate/quay/config/site.yaml": true, "site.yaml": true, "services/site.yaml.bak": false, "services/fare-gate/quay/versions.yaml": false} {
		assert.Equal(t, kept, l.KeepsFile(file), file)
	}
}

func TestMistakesOfALane(t *testing.T) {
	const head = "vigila: lane/v1\nname: a\ncarries: [{versions: \"a/{stop}/v.yaml\"}]\nstops:\n"
	const quay = "  - {name: quay, wards: [a@quay], lets_in: by itself}\n"
	const skerry = "  - {name: skerry, after: [quay], wards: [a@skerry], lets_in: ask}\n"
	for what, c := range map[string]struct{ text, want string }{
		"unknown key":           {head + quay + skerry + "stop: []\n", "l.yaml:7: unknown key stop; did you mean stops?"},
		"unknown stop":          {head + quay + "  - {name: skerry, after: [kay], wards: [a@skerry], lets_in: ask}\n", "l.yaml:6: stop skerry is after kay, and there is no such stop; there are quay and skerry"},
		"a circle":              {head + quay + "  - {name: b, after: [c], wards: [x], lets_in: ask}\n  - {name: c, after: [b], wards: [x], lets_in: ask}\n", "l.yaml:1: stops come after each other in a circle: b, c, b"},
		"no beginning":          {head + "  - {name: b, after: [c], wards: [x], lets_in: ask}\n  - {name: c, after: [b], wards: [x], lets_in: ask}\n", "every stop comes after another, so that no lot ever begins"},
		"approvals of none":     {head + quay + "  - {name: skerry, after: [quay], wards: [y], lets_in: ask, by: proposal, approvals: {of: [ops]}}\n", "approvals.count is missing"},
		"approvals of a commit": {head + quay + "  - {name: skerry, after: [quay], wards: [y], lets_in: ask, approvals: {count: 1}}\n", "stop skerry wants approvals, which only a proposal can have; write by: proposal"},
		"twice":                 {head + quay + quay, "l.yaml:6: stop quay is there twice"},
		"one stop":              {head + quay, "a lane leads from a stop to another"},
		"no placeholder":        {"vigila: lane/v1\nname: a\ncarries: [{versions: a/v.yaml}]\nstops:\n" + quay + skerry, "l.yaml:3: a/v.yaml has no {stop} in it, so every stop would have the same"},
		"carried twice":         {"vigila: lane/v1\nname: a\ncarries:\n  - files: a/{stop}/**\n  - versions: a/{stop}/v.yaml\nstops:\n" + quay + skerry, "l.yaml:5: a/{stop}/v.yaml is carried already, by a/{stop}/**"},
		"a pattern":             {"vigila: lane/v1\nname: a\ncarries: [{files: \"a/{stop}/*.yaml\"}]\nstops:\n" + quay + skerry, "write a file, or a directory with /** after it"},
		"outside":               {"vigila: lane/v1\nname: a\ncarries: [{files: \"../{stop}/x\"}]\nstops:\n" + quay + skerry, `"../{stop}/x" is no path below the root of a repository`},
		"both":                  {"vigila: lane/v1\nname: a\ncarries: [{files: \"{stop}/x\", versions: \"{stop}/v\"}]\nstops:\n" + quay + skerry, "one of versions and files says what is carried"},
		"nothing carried":       {"vigila: lane/v1\nname: a\nstops:\n" + quay + skerry, "carries is missing"},
		"no wards":              {head + quay + "  - {name: skerry, after: [quay], lets_in: ask}\n", "l.yaml:6: stop skerry has no wards"},
		"lets in":               {head + quay + "  - {name: skerry, after: [quay], wards: [x], lets_in: auto}\n", `l.yaml:6: lets_in of stop skerry is "auto"; write by itself, or ask`},
		"by":                    {head + quay + "  - {name: skerry, after: [quay], wards: [x], lets_in: ask, by: magic}\n", `by of stop skerry is "magic"`},
		"who of nobody":         {head + "  - {name: quay, wards: [x], lets_in: by itself, who: [ops]}\n" + skerry, "stop quay lets lots in by itself, so nobody is asked"},
		"settled":               {head + quay + "  - {name: skerry, after: [quay], wards: [x], lets_in: ask, settled: soon}\n", `settled is "soon"`},
		"hours":                 {head + quay + "  - {name: skerry, after: [quay], wards: [x], lets_in: ask, hours: \"9 to 5\"}\n", `hours: "9 to 5"; write such as Mon-Thu 09:00-16:00 Europe/Oslo`},
		"a zone":                {head + quay + "  - {name: skerry, after: [quay], wards: [x], lets_in: ask, hours: \"Mon 09:00-17:00 Brindle/Sound\"}\n", `there is no time zone "Brindle/Sound"`},
		"hours at the first":    {head + "  - {name: quay, wards: [x], lets_in: by itself, hours: \"Mon 09:00-17:00 UTC\"}\n" + skerry, "l.yaml:5: lots begin at stop quay, since it is after no other"},
		"together in a chain":   {head + quay + skerry + "  - {name: b, after: [quay], wards: [x], lets_in: ask, together: skerry}\n  - {name: c, after: [quay], wards: [x], lets_in: ask, together: b}\n", "l.yaml:8: stop c takes lots together with b, which goes with skerry itself"},
		"two stops, one file":   {"vigila: lane/v1\nname: a\ncarries:\n  - files: a/{stop}/**\n  - versions: a/quay/{stop}.yaml\nstops:\n" + quay + skerry, "l.yaml:5: a/quay/{stop}.yaml of stop quay is carried already, by a/{stop}/** of stop quay"},
		"together with none":    {head + quay + "  - {name: skerry, after: [quay], wards: [x], lets_in: ask, together: holm}\n", "takes lots together with holm, and there is no such stop"},
		"together apart":        {head + quay + "  - {name: skerry, after: [quay], wards: [x], lets_in: ask, together: quay}\n", "so both come after the same stops"},
		"no mapping":            {"vigila: lane/v1\nname: a\ncarries: [a]\nstops: [b]\n", "what is carried must be a mapping of keys"},
		"a pattern of keeps":    {head + quay + skerry + "keeps: [\"[\"]\n", `l.yaml:1: keeps: "[" is not a valid pattern`},
		"a pattern of many":     {head + quay + skerry + "keeps: [\"" + strings.Repeat("{a,a*}", 20) + "\"]\n", "stands for more than 100 patterns"},
		"very many stops":       {head + strings.Repeat(quay, 101), "l.yaml:1: stops has 101 entries, and may have 100"},
		"not YAML":              {"vigila: lane/v1\n\tname: a\n", "l.yaml:2"},
	} {
		_, err := Parse("moorings", "main", "l.yaml", []byte(c.text))
		assert.ErrorContains(t, err, c.want, what)
	}
}

// TestALargeLaneIsReadAtOnce: the largest that there may be took minutes, for which its roster's repository could not be read.
func TestALargeLaneIsReadAtOnce(t *testing.T) {
	var text strings.Builder
	text.WriteString("vigila: lane/v1\nname: a\nkeeps: [\"" + strings.Repeat("**/", 40) + "x\"]\ncarries:\n")
	for i := range most {
		fmt.Fprintf(&text, "- files: d%d/{stop}/x\n", i)
	}
	text.WriteString("stops:\n- {name: s0, wards: [a], lets_in: by itself}\n")
	for i := 1; i < most; i++ {
		fmt.Fprintf(&text, "- {name: s%d, wards: [a], lets_in: ask, after: [s%d]}\n", i, i-1)
	}
	l := parsed(t, text.String())
	assert.Equal(t, "d0/s1/x", l.Clash(&l))
	assert.False(t, l.KeepsFile(strings.Repeat("n/", 500)+"y"))
}

func TestHours(t *testing.T) {
	for text, cases := range map[string]map[string]string{ // a time to when it is open, or open
		"Mon-Thu 09:00-16:00 Europe/Oslo": {"2026-11-26T08:00:00Z": "open", "2026-11-26T07:59:00Z": "2026-11-26T08:00:00Z", "2026-11-26T15:00:00Z": "2026-11-30T08:00:00Z", "2026-07-01T07:00:00Z": "open"},
		"Fri-Mon 22:00-04:00 UTC":         {"2026-11-28T03:59:00Z": "open", "2026-11-28T04:00:00Z": "2026-11-28T22:00:00Z", "2026-12-01T03:00:00Z": "open", "2026-12-01T05:00:00Z": "2026-12-04T22:00:00Z"},
		"Sun,Wed 02:30-02:30 UTC":         {"2026-11-30T01:00:00Z": "open", "2026-11-30T02:30:00Z": "2026-12-02T02:30:00Z"},
		"Sun 02:30-03:30 Europe/Oslo":     {"2026-03-29T01:15:00Z": "2026-04-05T00:30:00Z"}, // that night has no 02:30
	} {
		h, err := ParseHours(text)
		require.NoError(t, err, text)
		assert.Equal(t, text, h.String())
		for at, want := range cases {
			when, err := time.Parse(time.RFC3339, at)
			require.NoError(t, err)
			open, next := h.Open(when)
			got := "open"
			if !open {
				got = next.UTC().Format(time.RFC3339)
			}
			assert.Equal(t, want, got, "%s at %s", text, at)
		}
	}
	for _, text := range []string{"", "Mon", "Mon 9-17 UTC", "Mon-Someday 09:00-17:00 UTC", "Mon 09:00-17:00 Local", "Mon 09:00 UTC"} {
		_, err := ParseHours(text)
		assert.Error(t, err, text)
	}
}

func TestTwoLanesAndOneFile(t *testing.T) {
	a, b := parsed(t, whole), parsed(t, whole)
	assert.Equal(t, "services/fare-gate/holm/config", a.Clash(&b))
	b.Ref = "other"
	assert.Empty(t, a.Clash(&b), "another branch is another place")
	b = parsed(t, whole)
	b.Carries = []Carry{{Files: "services/berth-planner/{stop}/**"}}
	assert.Empty(t, a.Clash(&b))
	b.Carries = []Carry{{Files: "services/fare-gate/{stop}/config/tariff.yaml"}}
	assert.Equal(t, "services/fare-gate/holm/config", a.Clash(&b), "below it")
	b.Stops = b.Stops[:1]
	assert.Empty(t, a.Clash(&b), "where lots begin it only reads")
}
