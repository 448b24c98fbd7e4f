package record

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/follow"
	"vigila.dev/vigila/internal/core/logbook"
)

func TestOneCanaryOfAPlacementIsActive(t *testing.T) {
	ctx := t.Context()
	s, err := Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.PutCluster(ctx, Cluster{Name: "quay", Labels: map[string]string{}}))
	require.NoError(t, s.PutWard(ctx, Ward{Name: "w"}, []string{"quay"}))
	const id = "w@quay"
	of := func(run int, active bool, p canary.Phase) {
		if _, err := s.Entry(ctx, id, run); err != nil {
			require.NoError(t, s.Commit(ctx, id, AddEntry{logbook.Entry{Placement: id, Number: run, Kind: "sync", Outcome: "running", Started: time.Now()}}))
		}
		require.NoError(t, s.Commit(ctx, id, PutCanary{State: canary.State{Run: run, Phase: p, Spent: 90 * time.Second, Log: []canary.Line{{Text: "begins"}}}, Active: active}))
	}
	got, err := s.Canary(ctx, id, 0)
	require.NoError(t, err)
	assert.Nil(t, got)
	of(1, true, canary.Sharing)
	of(2, true, canary.Making)
	got, err = s.Canary(ctx, id, 0)
	require.NoError(t, err)
	assert.Equal(t, []any{2, canary.Making, 90 * time.Second, "begins"}, []any{got.Run, got.Phase, got.Spent, got.Log[0].Text}, "the one before goes on no more")
	e, err := s.Entry(ctx, id, 1)
	require.NoError(t, err)
	assert.True(t, e.Canary)

	// However old its entry is: it is needed as long as the canary goes on.
	require.NoError(t, s.Commit(ctx, id, AddEntry{logbook.Entry{Placement: id, Number: 3, Kind: "hold", Outcome: "done", Started: time.Now()}}))
	require.NoError(t, s.Commit(ctx, id, EndEntry{logbook.Entry{Number: 1, Outcome: "interrupted"}}, EndEntry{logbook.Entry{Number: 2, Outcome: "interrupted"}}))
	_, err = s.Tidy(ctx, Retention{Entries: 1}, nil, time.Now())
	require.NoError(t, err)
	_, err = s.Entry(ctx, id, 2)
	require.NoError(t, err)
	got, err = s.Canary(ctx, id, 1)
	require.NoError(t, err)
	assert.Nil(t, got, "it went with its entry")
	of(2, false, canary.Over)
	got, err = s.Canary(ctx, id, 0)
	require.NoError(t, err)
	assert.Nil(t, got)
	got, err = s.LastCanary(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, canary.Over, got.Phase)
}

func TestCredentialsOfMetricsSourcesAreEncrypted(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	s, err := Open(ctx, dir)
	require.NoError(t, err)
	want := Metrics{Name: "harbour", URL: "https://metrics.brindle.example", Token: "spring-tide", MetricsMore: MetricsMore{About: "all"}}
	require.NoError(t, s.PutMetrics(ctx, want))
	all, err := s.MetricsSources(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Metrics{want}, all)
	require.NoError(t, s.Close())
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.False(t, bytes.Contains(b, []byte("spring-tide")), f)
	}
}

func TestRegistriesAndFollows(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	s, err := Open(ctx, dir)
	require.NoError(t, err)
	want := Registry{Name: "harbour", Host: "registry.brindle.example", Password: "spring-tide", RegistryMore: RegistryMore{User: "crew"}}
	require.NoError(t, s.PutRegistry(ctx, want))
	all, err := s.Registries(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Registry{want}, all)
	st, err := s.Follow(ctx, "gate")
	require.NoError(t, err)
	assert.Equal(t, follow.State{}, st, "nothing is remembered of one that was never looked at")
	st.Wrote(follow.Past{Version: "2.8.1", Digest: "sha256:1", Commit: "abc"})
	require.NoError(t, s.PutFollow(ctx, "gate", st))
	require.NoError(t, s.Close())
	files, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		assert.False(t, bytes.Contains(b, []byte("spring-tide")), f)
	}
	s, err = Open(ctx, dir)
	require.NoError(t, err)
	defer s.Close()
	again, err := s.Follow(ctx, "gate")
	require.NoError(t, err)
	assert.Equal(t, st, again)
	require.NoError(t, s.RemoveRegistry(ctx, "harbour"))
	all, err = s.Registries(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
}
