package standing

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/ward"
)

func TestWhatSomebodyIsToldOf(t *testing.T) {
	for name, c := range map[string]struct {
		rule  string
		fine  bool
		guard string
		want  alert.Topic // "": nobody is told
		cause string
	}{
		"in step":              {rule: "in step", fine: true},
		"it went back":         {rule: "it went back", want: alert.WentBack},
		"and could not":        {rule: "going back failed", want: alert.CantGoBack},
		"no repository":        {rule: "the repository can't be read", want: alert.Blind, cause: "repository moorings"},
		"no cluster":           {rule: "the cluster can't be read", want: alert.Blind, cause: "cluster quay"},
		"a canary":             {rule: "a canary goes on", want: alert.CanaryWaits},
		"a missing secret":     {rule: "something is in the way that can't be allowed", guard: "missing-secret", want: alert.SecretMissing},
		"another thing":        {rule: "something is in the way that can't be allowed", guard: "no-namespace", want: alert.NeedsYou},
		"whatever else it may": {rule: "it drifted", want: alert.NeedsYou},
	} {
		v := view(func(v *View) {
			v.Rule, v.NeedsYou, v.Cluster, v.Ward.From = c.rule, !c.fine, "quay", ward.From{Repo: "moorings"}
			if c.guard != "" {
				v.Guards = []plan.Guard{{Name: c.guard}}
			}
		})
		got := v.Trouble()
		if c.want == "" {
			assert.Nil(t, got, name)
			continue
		}
		if assert.NotNil(t, got, name) {
			assert.Equal(t, c.want, got.Topic, name)
			assert.Equal(t, c.cause, got.Cause, name)
			assert.Equal(t, "berth-planner@quay", got.Subject)
		}
	}
}

// TestTheTopicsAreOfRules: a rule that is renamed would be told as something else.
func TestTheTopicsAreOfRules(t *testing.T) {
	known := map[string]bool{}
	for _, r := range rules {
		known[r.name] = true
	}
	for name := range topics {
		assert.True(t, known[name], "there is no rule %q", name)
	}
}

// TestWhoDidIt: the cluster's own words where somebody changed it, and whose revision it is where that is what went wrong.
func TestWhoDidIt(t *testing.T) {
	night := time.Date(2026, 11, 27, 3, 14, 0, 0, time.UTC)
	by := func(who string, likely bool, at time.Time) compare.Difference {
		return compare.Difference{Path: "spec.replicas", Change: compare.Changed, Who: who, Likely: likely, When: at}
	}
	for name, c := range map[string]struct {
		change func(*View)
		tone   Tone
		want   string
	}{
		"a person":               {drifted(by("kubectl-scale", false, night)), ToneDrifted, "Changed by kubectl-scale at 2026-11-27 03:14 UTC"},
		"twice, the last counts": {drifted(by("kubectl-scale", false, night), by("kubectl-scale", false, night.Add(time.Hour))), ToneDrifted, "Changed by kubectl-scale at 2026-11-27 04:14 UTC"},
		"two, one of them likely": {drifted(by("kubectl-scale", false, night), by("hurry", true, time.Time{})), ToneContested,
			"Changed by kubectl-scale at 2026-11-27 03:14 UTC, probably hurry"},
		"many":           {drifted(by("a", false, time.Time{}), by("b", false, time.Time{}), by("c", false, time.Time{}), by("d", false, time.Time{}), by("e", false, time.Time{})), ToneDrifted, "Changed by a, b, c, d, and 1 more"},
		"nobody knows":   {drifted(by("", false, night)), ToneDrifted, ""},
		"a revision":     {func(v *View) { v.Revision.Author = "ticketing" }, ToneFailing, "Revision 1d77f3a Prefer leeward berths, by ticketing"},
		"without author": {func(*View) {}, ToneFailing, ""},
		"nothing read":   {func(v *View) { v.Revision.Author = "ticketing" }, ToneBlind, ""},
	} {
		v := view(c.change)
		v.NeedsYou, v.Tone = true, c.tone
		assert.Equal(t, c.want, v.Trouble().By, name)
	}
}
