package loop

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/run"
)

func names(gs []plan.Guard) (out []string) {
	for _, g := range gs {
		out = append(out, g.Name)
	}
	return out
}

// TestWhatBreaksARuleIsNotSynced: what refuses stands before what the run applies, and before nothing else.
func TestWhatBreaksARuleIsNotSynced(t *testing.T) {
	own := object.Ref{Group: rule.Group, Kind: "Ward", Name: "w"}
	for name, c := range map[string]struct {
		finding rule.Finding
		was     string // the value that the ward was synced with; the Secret and its reader are pending when it is another
		guards  []string
	}{
		"it refuses":                  {rule.Finding{Refuse: true, Ref: vault}, "gale", []string{"rule:r"}},
		"it warns":                    {rule.Finding{Ref: vault}, "gale", nil},
		"an exception lets it be":     {rule.Finding{Refuse: true, Ref: vault, Except: &rule.Except{Until: time.Now().Add(time.Hour)}}, "gale", nil},
		"an exception has ended":      {rule.Finding{Refuse: true, Ref: vault, Except: &rule.Except{Until: time.Now().Add(-time.Hour)}}, "gale", []string{"rule:r"}},
		"what is in step stays so":    {rule.Finding{Refuse: true, Ref: horn}, "gale", nil},
		"its own file, all the same":  {rule.Finding{Refuse: true, Ref: own}, "gale", []string{"rule:r"}},
		"nothing is to be applied":    {rule.Finding{Refuse: true, Ref: own}, "tide", nil},
		"it can't be evaluated":       {rule.Finding{Refuse: true, Ref: vault, Unclear: true}, "gale", []string{"rule:r"}},
		"nor is it, and it lets pass": {rule.Finding{Ref: vault, Unclear: true}, "gale", nil},
	} {
		t.Run(name, func(t *testing.T) {
			p := wantsSecrets(t, has("tide", ""), c.was)
			c.finding.Rule, c.finding.Text = "r", "it is not so"
			p.declared.Findings = []rule.Finding{c.finding}
			p.behind = nil
			assert.Equal(t, c.guards, names(p.pending().guards))
			made, err := p.Prepare(Ask{Kind: run.Sync, By: logbook.Vigila})
			require.NoError(t, err)
			assert.Equal(t, c.guards, names(made.Plan.Guards), "what is told is what stops it")
		})
	}
}

// TestARuleIsLetBeBrokenByAPerson who says why; a way back asks no rule, and neither does putting back what drifted.
func TestARuleIsLetBeBrokenByAPerson(t *testing.T) {
	p := wantsSecrets(t, has("tide", ""), "gale")
	p.declared.Findings = []rule.Finding{{Rule: "r", Refuse: true, Ref: vault, Text: "one", Mend: "Write it so."}, {Rule: "r", Refuse: true, Ref: reader, Text: "two"}, {Rule: "q", Refuse: true, Ref: reader, Text: "three"}}
	_, err := p.start(Ask{Kind: run.Sync, By: "operator"})
	assert.ErrorContains(t, err, "Secret/vault breaks rule r: one, and 1 more; Deployment/reader breaks rule q: three. To go on: --allow rule:r,rule:q")
	assert.ErrorContains(t, Ask{Kind: run.Sync, Allow: []string{"rule:r"}}.Reasoned(), "needs a reason")
	assert.NoError(t, Ask{Kind: run.Sync, Allow: []string{"rule:r"}, Why: "a gale"}.Reasoned())
	assert.NoError(t, Ask{Kind: run.Sync, Allow: []string{"mass-removal"}}.Reasoned())
	assert.NoError(t, Ask{Kind: run.Sync, Allow: []string{"rule:r"}}.Check(), "it may be tried out")
	made, err := p.Prepare(Ask{Kind: run.Sync, By: "operator", Why: "a gale", Allow: []string{"rule:r", "rule:q"}})
	require.NoError(t, err)
	assert.Empty(t, made.Plan.Guards)
	assert.Equal(t, "a gale (allows rule:r, rule:q)", made.Entry.Why)
	made, err = p.Prepare(Ask{Kind: run.Restore, By: "operator"})
	require.NoError(t, err)
	assert.Empty(t, made.Plan.Guards)
}

// TestAnExceptionEndsByItself: nobody tells, and the guard stands again.
func TestAnExceptionEndsByItself(t *testing.T) {
	p := wantsSecrets(t, has("tide", ""), "gale")
	p.declared.Findings = []rule.Finding{{Rule: "r", Refuse: true, Ref: vault, Text: "one", Except: &rule.Except{Until: p.at.Add(time.Minute)}}}
	assert.Empty(t, p.pending().guards)
	p.at = p.at.Add(time.Minute)
	assert.Equal(t, []string{"rule:r"}, names(p.pending().guards))
	assert.Contains(t, p.pending().guards[0].Text, "its exception ended on")
}
