package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
)

// TestABoardIsWhatTheWardsAre: whatever comes, goes, or stands otherwise, the lines are the views of all wards, in the order that people read
// them in, and what did not change is not made anew.
func TestABoardIsWhatTheWardsAre(t *testing.T) {
	k := &Keeper{ctx: t.Context(), holdings: newHoldings(), metrics: newCounters(), broker: newBroker(), log: slog.New(slog.DiscardHandler)}
	k.share()
	a := newAway(k, record.Lookout{Cluster: "skerry", Told: record.LookoutTold{Heard: time.Now()}})
	near, far := &clusterLoop{k: k, conf: record.Cluster{Name: "quay"}}, &clusterLoop{k: k, conf: record.Cluster{Name: "skerry"}, away: a}
	r := rand.New(rand.NewPCG(7, 7))
	peers := []*link.Peer{{}, {}}
	var all []*placement
	add := func(i int) {
		of := near
		if i%2 == 0 {
			of = far
		}
		w := ward.Ward{Name: fmt.Sprintf("buoy-%02d", i), Owner: "harbour-ops"}
		one := k.newPlacement(record.Placement{ID: ward.ID(w.Name, of.conf.Name)}, w, record.Ward{}, of, "")
		one.Show(&standing.View{ID: one.ID, Cluster: of.conf.Name, Ward: &w}, nil)
		k.kept.enter(one)
		all = append(all, one)
	}
	for i := range 20 {
		add(i)
	}
	for n := range 500 {
		one := all[r.IntN(len(all))]
		switch r.IntN(8) {
		case 0:
			if len(all) < 40 {
				add(20 + n)
			}
		case 1:
			k.kept.leave(one)
			all = all[:0]
			for _, x := range k.kept.all {
				all = append(all, x)
			}
		case 2:
			a.mu.Lock()
			a.peer = []*link.Peer{nil, peers[0], peers[1]}[r.IntN(3)]
			a.mu.Unlock()
			k.broker.send(Note{"cluster", a.name})
		default:
			v := *one.Placement.View()
			v.NeedsYou, v.Standing, v.Health.Word = r.IntN(4) == 0, compare.Standing(compare.Standings()[r.IntN(3)]), health.Word(health.Words()[r.IntN(3)])
			v.Tone = standing.ToneDrifted
			one.Show(&v, nil)
			one.toldBy.Store(peers[r.IntN(2)])
			k.broker.send(Note{"ward", one.ID})
		}
		want := k.Views()
		standing.Order(want)
		got := k.Lines()
		require.Len(t, got, len(want))
		for i, l := range got {
			require.Equal(t, want[i].ID, l.ID, "at %d after %d", i, n)
			require.Equal(t, []any{want[i].Standing, want[i].NeedsYou, want[i].Says}, []any{l.View.Standing, l.NeedsYou, l.View.Says})
			require.Contains(t, l.Text, want[i].ID)
		}
		again := k.Lines()
		assert.Same(t, got[0], again[0], "what has not changed is not made anew")
	}
}

// TestWhatIsPutIsNotTidiedAway: a snapshot that is put while unused ones are dropped is there afterwards, whichever comes first.
func TestWhatIsPutIsNotTidiedAway(t *testing.T) {
	k := placed(t, ward.Keep{}).k
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for range 300 {
			_, err := k.Tidy(context.Background())
			assert.NoError(t, err)
		}
	}()
	var ids []string
	for over := false; !over; {
		select {
		case <-ended:
			over = true
		default:
		}
		o := declared.Whole{Object: object.Object{Ref: object.Ref{Kind: "ConfigMap", Namespace: "a", Name: fmt.Sprint(len(ids))}, Version: "v1", Body: map[string]any{"apiVersion": "v1", "kind": "ConfigMap"}}, Hash: fmt.Sprint(len(ids))}
		id, err := k.putSnapshot(t.Context(), []declared.Whole{o})
		require.NoError(t, err)
		ids = append(ids, id)
	}
	for n, id := range ids {
		there, err := k.store.SnapshotHashes(t.Context(), id)
		require.NoError(t, err)
		require.Len(t, there, 1, "snapshot %d of %d", n, len(ids))
	}
}
