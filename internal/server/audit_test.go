package server

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// TestWhoMayNotIsAccountedFor: a change that somebody may not make is written down, once a minute however often it is tried; what is only looked at is not.
func TestWhoMayNotIsAccountedFor(t *testing.T) {
	s := serve(t)
	token, hash := keeper.NewToken()
	require.NoError(t, s.store.AddToken(t.Context(), hash, record.Token{Name: "screen", Role: "reader"}))
	ask := func(method, path string) int {
		q, err := http.NewRequest(method, s.url+"/api/v1"+path, nil)
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer "+token)
		q.Header.Set("Sec-Fetch-Site", "same-origin")
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		return r.StatusCode
	}
	for range 3 {
		assert.Equal(t, 403, ask(http.MethodDelete, "/wards/pier@quay/hold"))
		assert.Equal(t, 403, ask(http.MethodGet, "/audit"))
		assert.Equal(t, 200, ask(http.MethodGet, "/wards"))
	}
	all, total, err := s.store.Audit(t.Context(), record.FindAudit{Limit: 10})
	require.NoError(t, err)
	require.Equal(t, 1, total)
	e := all[0]
	assert.Equal(t, []string{"screen", "console", "call", "API", "DELETE /wards/:ward/hold", "refused"}, []string{e.By, e.Through, e.Verb, e.Of, e.Name, string(e.Outcome)})
	assert.Equal(t, "it wants an operator, and they are a reader", e.Why)
}
