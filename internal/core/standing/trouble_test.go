package standing

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/core/alert"
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
