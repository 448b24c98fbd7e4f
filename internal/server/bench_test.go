package server

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// BenchmarkListOfATeam asks for a list of the 1,000 wards that a team of 20 grants sees among 10,000, and for the same by an operator: what
// somebody may not see is to cost them no more. It prints how many times as long the team waits.
func BenchmarkListOfATeam(b *testing.B) {
	const all, every = 10_000, 10
	ctx := context.Background()
	dir := b.TempDir()
	store, err := record.Open(ctx, filepath.Join(dir, "data"))
	require.NoError(b, err)
	defer store.Close()
	require.NoError(b, store.PutRepo(ctx, record.Repo{Name: "moorings", URL: "file://" + filepath.Join(dir, "origin")}))
	require.NoError(b, store.PutCluster(ctx, record.Cluster{Name: "quay", KubeconfigText: unreachable}))
	for i := range all {
		owner := "signals"
		if i%every == 0 {
			owner = "ticketing"
		}
		text := fmt.Sprintf("vigila: ward/v1\nname: ward-%d\nabout: One of many.\nowner: %s\nfrom: {repo: moorings, path: app-%[1]d}\ninto: {cluster: quay, namespace: ward-%[1]d}\n", i, owner)
		require.NoError(b, store.PutWard(ctx, record.Ward{Name: fmt.Sprintf("ward-%d", i), File: text}, []string{"quay"}))
	}
	k, err := keeper.New(ctx, store, keeper.Options{MirrorDir: filepath.Join(dir, "mirrors"), AllowLocalRepos: true}, slog.New(slog.DiscardHandler))
	require.NoError(b, err)
	defer k.Close()
	h := httptest.NewServer(New(Options{Keeper: k, Version: "test", Log: slog.New(slog.DiscardHandler), Ending: make(chan struct{})}))
	defer h.Close()
	grants := []grant.Grant{}
	for i := range 19 {
		grants = append(grants, grant.Grant{Do: []grant.Verb{grant.Sync}, Wards: document.Wards{Owners: []string{fmt.Sprintf("crew-%d", i)}, Clusters: []string{"quay"}}})
	}
	grants = append(grants, grant.Grant{Do: []grant.Verb{grant.See}, Wards: document.Wards{Owners: []string{"ticketing"}}})
	operator, hash := keeper.NewToken()
	require.NoError(b, store.AddToken(ctx, hash, record.Token{Name: "operator", Role: "operator"}))
	team, hash := keeper.NewToken()
	require.NoError(b, store.AddToken(ctx, hash, record.Token{Name: "team", May: grants}))
	ask := func(token string) (time.Duration, int) {
		began := time.Now()
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, h.URL+"/api/v1/wards?owner=ticketing&limit=1000", nil)
		require.NoError(b, err)
		r.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(b, err)
		defer answer.Body.Close()
		require.Equal(b, http.StatusOK, answer.StatusCode)
		n, err := io.Copy(io.Discard, answer.Body)
		require.NoError(b, err)
		return time.Since(began), int(n)
	}
	for range 20 { // warm, and once all loops have looked at what can't be reached
		ask(operator)
		ask(team)
	}
	var ours, theirs time.Duration
	for b.Loop() {
		a, sizeA := ask(team)
		o, sizeO := ask(operator)
		ours, theirs = ours+a, theirs+o
		require.InDelta(b, sizeO, sizeA, float64(sizeO)/10)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "times-operator")
}
