package main

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/backup"
	"vigila.dev/vigila/internal/record"
)

// shed is a place for backups that takes them as it is told to.
type shed struct {
	put    func(ctx context.Context, r io.Reader) error
	kept   []backup.Backup
	remove error
}

func (s *shed) Put(ctx context.Context, _ string, r io.Reader) error { return s.put(ctx, r) }
func (s *shed) Get(context.Context, string) (io.ReadCloser, error)   { return nil, errors.New("none") }
func (s *shed) List(context.Context) ([]backup.Backup, error)        { return s.kept, nil }
func (s *shed) Remove(context.Context, string) error                 { return s.remove }
func (s *shed) String() string                                       { return "the shed" }

// TestAPlaceThatNeitherTakesNorRefuses a backup is given up: nobody heard of it, and none was ever taken again.
func TestAPlaceThatNeitherTakesNorRefuses(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	store, err := record.Open(t.Context(), dir)
	require.NoError(t, err)
	require.NoError(t, store.Close())
	synctest.Test(t, func(t *testing.T) {
		var said strings.Builder
		tries := 0
		place := &shed{kept: []backup.Backup{{Name: "old", At: time.Now().Add(-48 * time.Hour)}}}
		ctx, end := context.WithCancel(t.Context())
		place.put = func(ctx context.Context, r io.Reader) error {
			if tries++; tries == 1 {
				<-ctx.Done()
				return ctx.Err()
			}
			_, err := io.Copy(io.Discard, r)
			return err
		}
		b := backups{dir: dir, to: place, every: 6 * time.Hour, keep: 3, log: slog.New(slog.NewTextHandler(&said, nil))}
		registry := prometheus.NewRegistry()
		b.tells(registry)
		newest := func() int64 {
			families, err := registry.Gather()
			require.NoError(t, err)
			require.Len(t, families, 1)
			return int64(families[0].GetMetric()[0].GetGauge().GetValue())
		}
		ended := make(chan struct{})
		began := time.Now()
		go func() {
			defer close(ended)
			b.run(ctx)
		}()
		time.Sleep(5 * time.Hour) // of the test's own clock
		assert.Equal(t, []any{1, began.Add(-48 * time.Hour).Unix()}, []any{tries, newest()}, "it may take as long as until the next")
		time.Sleep(2 * time.Hour)
		assert.Contains(t, said.String(), "the shed did not take it within 6h0m0s")
		assert.Contains(t, said.String(), "a backup was taken")
		assert.Equal(t, 2, tries, "it was tried again soon after")
		assert.Equal(t, began.Add(6*time.Hour+5*time.Minute).Unix(), newest())
		end()
		<-ended
	})
}

// TestBackupsThatCannotBeRemoved stay, and no more are taken for it: each try to remove them took another one, every five minutes.
func TestBackupsThatCannotBeRemoved(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	store, err := record.Open(t.Context(), dir)
	require.NoError(t, err)
	require.NoError(t, store.Close())
	var said strings.Builder
	taken := 0
	place := &shed{kept: []backup.Backup{{Name: "b"}, {Name: "a"}}, remove: errors.New("nobody may"), put: func(_ context.Context, r io.Reader) error {
		taken++
		_, err := io.Copy(io.Discard, r)
		return err
	}}
	b := backups{dir: dir, to: place, every: time.Hour, keep: 1, log: slog.New(slog.NewTextHandler(&said, nil))}
	name, err := b.take(t.Context())
	require.NoError(t, err, "it was taken, and the next is due in an hour")
	assert.NotEmpty(t, name)
	assert.Equal(t, 1, taken)
	assert.Contains(t, said.String(), "older backups can't be removed")
	assert.Contains(t, said.String(), "nobody may")
}
