package record

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/roster"
)

// TestSourcesComeBackAndNoneOfTheirSecretsIsInTheClear: repositories, clusters, rosters and renderings are as they were
// put, also after a restart, and what is secret of them is in no file.
func TestSourcesComeBackAndNoneOfTheirSecretsIsInTheClear(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	repo := Repo{Name: "moorings", URL: "ssh://git@host/moorings", User: "git", Key: "PRIVATE-spring-tide", Passphrase: "neap-tide",
		RepoMore: RepoMore{KnownHosts: "host ssh-ed25519 AAAA", Signers: "ssh-ed25519 AAAA", Submodules: true, Roster: "top", Expires: time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)}}
	cluster := Cluster{Name: "quay", Token: "token-of-the-quay", KubeconfigText: "key-of-the-quay", Labels: map[string]string{"tier": "rehearsal"},
		ClusterMore: ClusterMore{Server: "https://quay", CA: "PEM", Links: map[string]string{"Runbook": "https://docs"}, Roster: "top"}}
	one := roster.Roster{Name: "top", Repo: "moorings", Ref: "main", Path: "wards", Limits: roster.Limits{Namespaces: []string{"a"}, As: "deployer"}, Rules: []declared.File{{Path: "h.yaml", Text: "x"}}}
	require.NoError(t, s.PutRepo(ctx, repo))
	require.NoError(t, s.PutCluster(ctx, cluster))
	require.NoError(t, s.PutRoster(ctx, one))
	w := Ward{Name: "gate", File: "text", Roster: "top", Source: "wards/gate.yaml", Home: Home{Repo: "moorings", Ref: "main"}}
	require.NoError(t, s.PutWard(ctx, w, []string{"quay"}))
	body := map[string]any{"kind": "Secret", "data": map[string]any{"n": int64(9007199254740993), "k": "secret-of-a-rendering"}}
	require.NoError(t, s.PutRendered(ctx, "k", body))
	require.NoError(t, s.AddLeftBehind(ctx, LeftBehind{Placement: "old@quay", Roster: "top", At: time.Now(), Why: "it left", Refs: []string{"a", "b"}}))
	require.NoError(t, s.Close())

	s = open(t, dir)
	repos, err := s.Repos(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Repo{repo}, repos)
	clusters, err := s.Clusters(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Cluster{cluster}, clusters)
	rosters, err := s.Rosters(ctx)
	require.NoError(t, err)
	assert.Equal(t, []roster.Roster{one}, rosters)
	wards, err := s.Wards(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Ward{w}, wards)
	var back map[string]any
	require.NoError(t, s.Rendered(ctx, "k", &back))
	assert.Equal(t, body, back, "whole numbers stay whole")
	assert.ErrorIs(t, s.Rendered(ctx, "other", &back), ErrNone)
	left, err := s.LeftBehind(ctx)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, []string{"a", "b"}, left[0].Refs)

	require.NoError(t, s.Ping(ctx))
	files, err := filepath.Glob(filepath.Join(dir, "vigila.db*"))
	require.NoError(t, err)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		for _, secret := range []string{"spring-tide", "neap-tide", "token-of-the-quay", "key-of-the-quay", "secret-of-a-rendering"} {
			assert.False(t, bytes.Contains(b, []byte(secret)), "%s in %s", secret, f)
		}
	}

	// What nobody asks for is dropped; a roster that goes leaves its wards to nobody.
	require.NoError(t, s.tidyRendered(ctx, time.Now().Add(31*24*time.Hour)))
	assert.ErrorIs(t, s.Rendered(ctx, "k", &back), ErrNone)
	require.NoError(t, s.RemoveRoster(ctx, "top"))
	wards, err = s.Wards(ctx)
	require.NoError(t, err)
	assert.Empty(t, wards[0].Roster)
	known, err := s.RemoveLeftBehind(ctx, "old@quay")
	require.NoError(t, err)
	assert.True(t, known)
	known, err = s.RemoveLeftBehind(ctx, "old@quay")
	require.NoError(t, err)
	assert.False(t, known)

	// A ward without a placement stays when another's placement goes.
	require.NoError(t, s.PutWard(ctx, Ward{Name: "nowhere", File: "text", Home: Home{}}, nil))
	require.NoError(t, s.RemovePlacement(ctx, "gate@quay"))
	wards, err = s.Wards(ctx)
	require.NoError(t, err)
	require.Len(t, wards, 1)
	assert.Equal(t, "nowhere", wards[0].Name)
}
