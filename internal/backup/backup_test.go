package backup

import (
	"context"
	"errors"
	"io"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/record"
)

func TestNamesHoldTheirTimes(t *testing.T) {
	at := time.Date(2026, 11, 27, 3, 4, 5, 999, time.FixedZone("", 3600))
	assert.Equal(t, "vigila-20261127T020405Z.db.gz.age", Name(at))
	got, is := Time(Name(at))
	assert.True(t, is)
	assert.Equal(t, at.UTC().Truncate(time.Second), got)
	for _, name := range []string{"", "vigila-.db.gz.age", "vigila-20261127T020405Z.db.gz", "other", "../vigila-20261127T020405Z.db.gz.age"} {
		_, is := Time(name)
		assert.False(t, is, name)
	}
}

func TestAddresses(t *testing.T) {
	for address, want := range map[string]string{
		"": "say where", "ftp://a": "is no place for backups", "s3://": "is no place for backups", "s3://b": "says no endpoint", "s3://b?endpoint=a": "says no endpoint",
		"s3://b?endpoint=https://h&key=x": "unknown key; known: endpoint, region", "s3://id:secret@b?endpoint=https://h": "AWS_ACCESS_KEY_ID",
	} {
		_, err := Open(address)
		assert.ErrorContains(t, err, want, address)
	}
}

// places are one of each kind: the bucket is that of a server that speaks S3.
func places(t *testing.T) map[string]Place {
	t.Helper()
	back := s3mem.New()
	require.NoError(t, back.CreateBucket("harbour"))
	s := httptest.NewServer(gofakes3.New(back).Server())
	t.Cleanup(s.Close)
	t.Setenv("AWS_ACCESS_KEY_ID", "id")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "tidewater")
	out := map[string]Place{}
	for kind, address := range map[string]string{"directory": filepath.Join(t.TempDir(), "a", "b"), "bucket": "s3://harbour/vigila/one?region=us-east-1&endpoint=" + s.URL} {
		p, err := Open(address)
		require.NoError(t, err)
		assert.NotContains(t, p.String(), "tidewater")
		out[kind] = p
	}
	return out
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, errors.New("the pier is gone") }

// TestTakenKeptAndRestored: in either kind of place a record comes back as it was, the oldest go, and what is broken off is not there.
func TestTakenKeptAndRestored(t *testing.T) {
	ctx := context.Background()
	for kind, place := range places(t) {
		t.Run(kind, func(t *testing.T) {
			dir := t.TempDir()
			s, err := record.Open(ctx, dir)
			require.NoError(t, err)
			defer s.Close()
			require.NoError(t, s.PutCluster(ctx, record.Cluster{Name: "quay", Labels: map[string]string{"tier": "rehearsal"}}))
			all, err := place.List(ctx)
			require.NoError(t, err)
			assert.Empty(t, all)
			_, err = Restore(ctx, t.TempDir(), place, "")
			assert.ErrorContains(t, err, "there is no backup in")

			at := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
			for i := range 4 {
				name, err := Take(ctx, dir, place, at.Add(time.Duration(i)*time.Hour))
				require.NoError(t, err)
				assert.Equal(t, Name(at.Add(time.Duration(i)*time.Hour)), name)
			}
			require.Error(t, place.Put(ctx, Name(at.Add(9*time.Hour)), io.MultiReader(strings.NewReader("half"), broken{})))
			require.NoError(t, Thin(ctx, place, 3))
			all, err = place.List(ctx)
			require.NoError(t, err)
			require.Len(t, all, 3)
			assert.Equal(t, at.Add(3*time.Hour), all[0].At, "the newest first")
			assert.Equal(t, at.Add(time.Hour), all[2].At, "the oldest went")
			assert.Positive(t, all[0].Size)

			other := t.TempDir()
			key, err := os.ReadFile(filepath.Join(dir, "vigila.key"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(other, "vigila.key"), key, 0o600))
			for name, want := range map[string]string{"../etc/passwd": "is no name of a backup", Name(at): ""} {
				_, err := Restore(ctx, other, place, name)
				require.Error(t, err)
				assert.ErrorContains(t, err, want)
			}
			name, err := Restore(ctx, other, place, "")
			require.NoError(t, err)
			assert.Equal(t, all[0].Name, name)
			again, err := record.Open(ctx, other)
			require.NoError(t, err)
			defer again.Close()
			clusters, err := again.Clusters(ctx)
			require.NoError(t, err)
			assert.Equal(t, "rehearsal", clusters[0].Labels["tier"])
			_, err = Take(ctx, t.TempDir(), place, at.Add(5*time.Hour))
			assert.ErrorContains(t, err, "there is no database")
			all, err = place.List(ctx)
			require.NoError(t, err)
			assert.Len(t, all, 3, "what could not be made is not there")
		})
	}
}
