package loop

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
)

// stores are what is known of places.
type stores map[secret.Place]secret.Known

func (s stores) Known(p secret.Place) secret.Known { return s[p] }

var (
	gatePlace = secret.Place{Store: "harbour", Path: "gate"}
	password  = gatePlace.Of("password")
	vault     = object.Ref{Kind: "Secret", Namespace: "n", Name: "vault"}
	reader    = object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "reader"}
)

// has is a place with one value.
func has(value, problem string) func(compare.Mask) secret.Known {
	return func(mask compare.Mask) secret.Known {
		return secret.Known{Looked: true, Keys: map[string]string{"password": mask(value)}, Problem: problem}
	}
}

// is is what is known without a value.
func is(k secret.Known) func(compare.Mask) secret.Known {
	return func(compare.Mask) secret.Known { return k }
}

// wantsSecrets is a ward that declares a Secret with a reference, a workload that is restarted for it, and something else; with was it was
// applied once, with that value.
func wantsSecrets(t *testing.T, known func(compare.Mask) secret.Known, was string) *Placement {
	t.Helper()
	p := placed(t, ward.Keep{Sync: ward.Auto, Drift: ward.Restore, Prune: true})
	p.Stores = stores{gatePlace: known(p.Mask)}
	all := []declared.Whole{
		{Object: object.Object{Ref: vault, Version: "v1", Body: map[string]any{"apiVersion": "v1", "kind": "Secret", "metadata": map[string]any{"name": "vault", "namespace": "n"}, "data": map[string]any{"p": "secret://harbour/gate#password"}}}, Hash: "1"},
		{Object: object.Object{Ref: reader, Version: "apps/v1", Body: map[string]any{"apiVersion": "apps/v1", "kind": "Deployment", "metadata": map[string]any{"name": "reader", "namespace": "n"},
			"spec": map[string]any{"template": map[string]any{"metadata": map[string]any{"annotations": map[string]any{secret.RestartAnnotation: password.String()}}}}}}, Hash: "2"},
		{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": "horn", "namespace": "n"}}}, Hash: "3"},
	}
	require.NoError(t, storeOf(p).PutSnapshot(t.Context(), "s", all))
	p.declaring(declared.Of(all)...)
	if was != "" {
		digest := secret.Digest([]secret.Ref{password}, secret.Values{gatePlace: {"password": was}}, p.Mask)
		p.applies(vault, reader, horn)
		for ref, mark := range map[object.Ref]string{vault: secret.Mark("1", digest), reader: secret.Mark("2", digest), horn: "3"} {
			b, _ := p.index.Baseline(ref)
			b.Declared = mark
			p.index.Keep(b)
		}
		p.will.Applied, p.will.Snapshot = &logbook.Revision{ID: "newrev0"}, "s"
	}
	return p
}

func TestAnotherSecretValueIsPending(t *testing.T) {
	both := []object.Ref{reader, vault}
	for name, c := range map[string]struct {
		known  func(compare.Mask) secret.Known
		apply  []object.Ref
		guards []string
		waits  string
	}{
		"the same":                         {known: has("tide", "")},
		"another":                          {known: has("gale", ""), apply: both},
		"nobody has looked yet":            {known: is(secret.Known{})},
		"it can't be read, and was":        {known: has("tide", "silent")},
		"it is another, and can't be read": {known: has("gale", "silent"), apply: both, waits: "a secret value of Secret/vault: silent"},
		"it can't be read, and never was":  {known: is(secret.Known{Problem: "silent"})},
		"it is gone":                       {known: is(secret.Known{Looked: true}), apply: both, guards: []string{MissingGuard}},
		"it may not be used any more":      {known: is(secret.Known{Refused: "no"}), apply: both, guards: []string{RefusedGuard}},
	} {
		p := wantsSecrets(t, c.known, "tide")
		b := p.pending()
		assert.Equal(t, c.apply, b.Apply, name)
		assert.Equal(t, c.apply, b.Rotated, name)
		var guards []string
		for _, g := range b.guards {
			guards = append(guards, g.Name)
			assert.NotEmpty(t, g.Mend, name)
		}
		assert.Equal(t, c.guards, guards, name)
		what, _ := p.waits()
		assert.Equal(t, c.waits, what, name)
	}
}

func TestARunNeedsItsSecrets(t *testing.T) {
	missing, silent := is(secret.Known{Looked: true}), is(secret.Known{Problem: "silent"})
	for name, c := range map[string]struct {
		known   func(compare.Mask) secret.Known
		ask     Ask
		guards  []string
		unknown bool
		refs    []object.Ref // that the plan applies, where nothing is in the way
		spared  int
	}{
		"a sync of what is missing":     {known: missing, ask: Ask{Kind: run.Sync, By: "operator"}, guards: []string{MissingGuard}},
		"a sync of what is not known":   {known: silent, ask: Ask{Kind: run.Sync, By: "operator"}, unknown: true},
		"a part that needs none":        {known: missing, ask: Ask{Kind: run.Sync, By: "operator", Only: []string{"ConfigMap/horn"}}, refs: []object.Ref{horn}},
		"allowing it":                   {known: missing, ask: Ask{Kind: run.Sync, By: "operator", Allow: []string{MissingGuard}}, guards: []string{MissingGuard}},
		"going back by itself":          {known: missing, ask: Ask{Kind: run.Rollback, By: logbook.Vigila, own: own{failed: &logbook.Entry{Kind: run.Sync}}}, refs: []object.Ref{horn, reader}, spared: 1},
		"going back, and it is silent":  {known: silent, ask: Ask{Kind: run.Rollback, By: logbook.Vigila, own: own{failed: &logbook.Entry{Kind: run.Sync}}}, refs: []object.Ref{horn, reader}, spared: 1},
		"a sync of a refused reference": {known: is(secret.Known{Refused: "no"}), ask: Ask{Kind: run.Sync, By: "operator"}, guards: []string{RefusedGuard}},
	} {
		p := wantsSecrets(t, c.known, "")
		if c.ask.Kind == run.Rollback {
			p.will.Snapshot = "s"
			p.index.Keep(compare.Baseline{Ref: bell, Version: "v1", Declared: "1", UID: "u"})
		}
		out, err := p.Prepare(c.ask)
		require.NoError(t, err, name)
		var guards []string
		for _, g := range out.Plan.Guards {
			guards = append(guards, g.Name)
		}
		assert.Equal(t, c.guards, guards, name)
		assert.Equal(t, c.unknown, out.Unknown != "", name)
		if c.refs != nil {
			assert.ElementsMatch(t, c.refs, out.Plan.Refs(), name)
		}
		assert.Len(t, out.Plan.Spared, c.spared, name)
		if len(c.guards) > 0 || c.unknown {
			_, err := p.start(c.ask)
			require.Error(t, err, name)
			assert.Nil(t, p.run, "nothing of the run begins")
		}
	}
}

func TestAGuardIsToldOnce(t *testing.T) {
	p := wantsSecrets(t, is(secret.Known{Looked: true}), "")
	gs := p.pending().guards
	require.Len(t, gs, 1, "of the Secret, and not of the workload that reads it")
	assert.Equal(t, plan.Guard{Name: MissingGuard, Text: "Secret/vault needs harbour/gate#password, and store harbour has no such value", Mend: "Set it: vigila secret set harbour/gate#password"}, gs[0])
	p.Stores = stores{gatePlace: {Looked: true, SetBy: "set it in secrets/gate.yaml, and push"}}
	p.Step(p.at, Told{})
	assert.Equal(t, "Set it in secrets/gate.yaml, and push", p.pending().guards[0].Mend)
	p.will.Failures = 3
	p.Step(p.at, Told{})
	assert.Equal(t, 3, p.will.Failures)
	p.Step(p.at, Told{Others: true})
	assert.Zero(t, p.will.Failures, "another value is a reason to try at once")
}
