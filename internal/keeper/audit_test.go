package keeper

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/audit"
	"vigila.dev/vigila/internal/notify"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

func accountOf(t *testing.T, k *Keeper) []record.Accounted {
	t.Helper()
	all, _, err := k.Audit(t.Context(), record.FindAudit{Limit: 100})
	require.NoError(t, err)
	return all
}

// TestWhatIsDoneIsAccountedFor: who, through what, what was wished, how the thing was and is; refusals; and that nothing secret is in it.
func TestWhatIsDoneIsAccountedFor(t *testing.T) {
	k, _ := opened(t)
	by := Actor{Name: "operator", Through: "command line"}
	way := record.Way{Name: "ops", URL: "http://127.0.0.1:1/sesame", Secret: "open-sesame", WayMore: record.WayMore{Kind: notify.Alertmanager, About: "the watch"}}
	_, err := Do(t.Context(), k, by, AddWay{way})
	require.NoError(t, err)
	way.About, way.URL, way.Secret = "the other watch", "", ""
	_, err = Do(t.Context(), k, by, AddWay{way})
	require.NoError(t, err)
	_, err = Do(t.Context(), k, by, RemoveWay{"opz"})
	require.Error(t, err)
	_, err = Do(t.Context(), k, by, MakeToken{Name: "pipeline", Role: "reader", For: time.Hour})
	require.NoError(t, err)
	_, err = Do(t.Context(), k, by, MakeToken{Name: "other", Role: "admin", For: time.Hour})
	require.NoError(t, err)
	_, err = Do(t.Context(), k, by, EndToken{"pipeline"})
	require.NoError(t, err)
	all := accountOf(t, k)
	require.Len(t, all, 6)
	assert.Equal(t, "reader", all[0].Ended.Was["role"], "what it could do that is no more")
	assert.Empty(t, all[0].Ended.Is)
	all = all[2:]
	assert.Equal(t, []string{"operator", "command line", "make", "token", "pipeline"}, []string{all[0].By, all[0].Through, all[0].Verb, all[0].Of, all[0].Name})
	assert.Equal(t, map[string]string{"role": "reader", "for": "1h0m0s"}, all[0].With)
	assert.Equal(t, audit.Done, all[0].Ended.Outcome)
	assert.Equal(t, audit.Refused, all[1].Ended.Outcome)
	assert.Contains(t, all[1].Ended.Why, "did you mean ops?")
	assert.Equal(t, map[string]string{"about": "the watch"}, all[2].Ended.Was, "only what is another")
	assert.Equal(t, map[string]string{"about": "the other watch"}, all[2].Ended.Is)
	assert.Equal(t, map[string]string{"address": "given", "credentials": "given"}, all[3].With)
	assert.Equal(t, map[string]string{"kind": "alertmanager", "about": "the watch"}, all[3].Ended.Is)
	assert.NotContains(t, fmt.Sprint(all), "sesame")
	v, err := k.VerifyAudit(t.Context(), audit.Line{})
	require.NoError(t, err)
	assert.Equal(t, []any{1, 12, true}, []any{v.First, v.Last, v.Broken == nil})
}

// TestWhatCantBeWrittenDownIsNotDone: and what was asked for before the service ended is in the account, although nobody knows what came of it.
func TestWhatCantBeWrittenDownIsNotDone(t *testing.T) {
	k, _ := opened(t)
	_, err := k.store.AddAudit(t.Context(), audit.Entry{At: time.Now(), By: "operator", Verb: "hold", Of: "ward", Name: "pier@quay", Outcome: audit.Begun})
	require.NoError(t, err)
	all := accountOf(t, k)
	require.Len(t, all, 1)
	assert.Nil(t, all[0].Ended)

	away, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Do(away, k, Actor{Name: "operator"}, MakeToken{Name: "pipeline", Role: "reader", For: time.Hour})
	assert.ErrorContains(t, err, "that it was asked for can't be written down, so it is not done")
	tokens, err := k.Tokens(t.Context())
	require.NoError(t, err)
	assert.Empty(t, tokens)
}

// declares is what a roster's file says of something that is another, or not.
type declares struct{ took }

func (declares) Subject() Subject                                   { return Subject{"declare", "cluster", "quay"} }
func (d declares) do(context.Context, *Keeper, Actor) (took, error) { return d.took, nil }

// TestARosterIsAccountedForOnce: what its files declare is so already most of the time.
func TestARosterIsAccountedForOnce(t *testing.T) {
	k, _ := opened(t)
	for _, changed := range []bool{true, false, false} {
		_, err := Do(t.Context(), k, Actor{Roster: "sound"}, declares{took{changed: changed}})
		require.NoError(t, err)
	}
	all := accountOf(t, k)
	require.Len(t, all, 1)
	assert.Equal(t, []any{"roster sound", "git", audit.Done, 0}, []any{all[0].By, all[0].Through, all[0].Outcome, all[0].Asked})
}

// TestWhatIsWishedIsNeverSecret: every wish that can hold something secret, full of it.
func TestWhatIsWishedIsNeverSecret(t *testing.T) {
	const s = "sesame"
	for _, w := range []any{
		AddRepo{Repo: record.Repo{Password: s, Key: s, Passphrase: s, SignKey: s}}, AddCluster{record.Cluster{Token: s, KubeconfigText: s}}, AddStore{record.ValueStore{Secret: s}},
		AddMetrics{record.Metrics{Password: s, Token: s}}, AddRegistry{record.Registry{Password: s, Token: s}}, SetHost{record.Host{Token: s}}, AddWay{record.Way{URL: s, Secret: s}},
		SetSecret{Value: s}, AddWards{Text: s}, ProposeFiles{Files: repo.Files{Files: []repo.File{{Path: "a.yaml", Data: []byte(s)}}}},
	} {
		assert.NotContains(t, fmt.Sprint(wished(w)), s, "%T", w)
	}
	assert.Equal(t, map[string]string{"why": "gale", "allow": `["mass-removal"]`, "retry": "true"}, wished(StartRun{"pier@quay", Ask{Why: "gale", Allow: []string{"mass-removal"}, Retry: true, Only: []string{}}}))
	assert.Equal(t, map[string]string{"why": "late"}, wished(WithdrawProposal{1, "late"}))
	assert.Equal(t, "given", given("", "x"))
	assert.Empty(t, given("", ""))
}

// TestWhomIsTrustedIsInTheAccount: an authority is long, and another one is told by its digest.
func TestWhomIsTrustedIsInTheAccount(t *testing.T) {
	one, other := plain(record.ProviderMore{CA: "one"}), plain(record.ProviderMore{CA: "other"})
	assert.Regexp(t, "^sha256:[0-9a-f]{24}$", one["ca"])
	assert.NotEqual(t, one["ca"], other["ca"])
	assert.NotContains(t, plain(record.ProviderMore{}), "ca")
}
