package keeper

import (
	"context"
	"errors"
	"hash/maphash"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

var (
	horn = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "horn"}
	bell = object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "bell"}
)

// placed is a ward in a cluster that is not reached, with a record of its own.
func placed(t *testing.T, keep ward.Keep) *placement { return placedIn(t, t.TempDir(), keep) }

func placedIn(t *testing.T, dir string, keep ward.Keep) *placement {
	t.Helper()
	store, err := record.Open(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, store.Close()) })
	require.NoError(t, store.PutCluster(context.Background(), record.Cluster{Name: "quay", Labels: map[string]string{}}))
	require.NoError(t, store.PutWard(context.Background(), record.Ward{Name: "w"}, []string{"quay"}))
	k := &Keeper{store: store, ledger: store, service: store.ServiceID(), mask: store.Vault().Digest, ctx: context.Background(), log: slog.New(slog.DiscardHandler), broker: newBroker(), metrics: newCounters(), holdings: newHoldings(), opts: Options{Parallel: 2}}
	k.share()
	p := k.newPlacement(record.Placement{ID: "w@quay"}, ward.Ward{Name: "w", Keep: keep}, record.Ward{}, &clusterLoop{k: k, conf: record.Cluster{Name: "quay"}, err: errors.New("it is silent"), claims: map[uint64]*placement{}, seed: maphash.MakeSeed()}, "")
	p.Open(standing.AsOf{}, nil)
	return p
}

func TestTidyAsksWhatIsInUse(t *testing.T) {
	store, err := record.Open(context.Background(), filepath.Join(t.TempDir(), "data"))
	require.NoError(t, err)
	defer store.Close()
	k, err := New(context.Background(), store, Options{MirrorDir: t.TempDir()}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer k.Close()
	objects := []declared.Whole{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"x": "1"}}, Hash: "1"}}
	id, err := k.putSnapshot(context.Background(), objects)
	require.NoError(t, err)
	got, err := k.Tidy(context.Background())
	require.NoError(t, err)
	assert.Zero(t, got, "what was just put is about to be named by something")
	k.recent.Store(id, time.Now().Add(-time.Hour))
	got, err = k.Tidy(context.Background())
	require.NoError(t, err)
	assert.Equal(t, record.Tidied{Snapshots: 1, Blobs: 1}, got)
}
