package record

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/lane"
)

// TestLanesAreRemembered: what goes in comes out, each thing is written when it is another, and what is forgotten is gone.
func TestLanesAreRemembered(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	at := time.Date(2026, 11, 26, 3, 0, 0, 0, time.UTC)
	k := lane.Key{Path: "s/{stop}/v.yaml", Of: "registry.brindle.example/fare-gate"}
	quay := lane.Stop{Name: "quay"}
	m, err := s.Lane(ctx, "fare-gate")
	require.NoError(t, err)
	assert.Equal(t, lane.Memory{}, m)
	put := func(now lane.Memory) {
		t.Helper()
		require.NoError(t, s.PutLane(ctx, "fare-gate", m, now))
		got, err := s.Lane(ctx, "fare-gate")
		require.NoError(t, err)
		require.Equal(t, now, got)
		m = now
	}
	put(m.Saw(quay, lane.Seen{At: at, Content: lane.Content{k: "2.7"}, Commit: "c1", Author: "somebody"}))
	put(m.Hold("skerry", &lane.Hold{By: "operator", Why: "gale", At: at}))
	put(m.Saw(quay, lane.Seen{At: at.Add(time.Hour), Content: lane.Content{k: "2.8"}, Commit: "c2"}))
	arrived, _ := m.Arrive(quay, at.Add(2*time.Hour), []lane.Ward{{ID: "fare-gate@quay", Holds: true, Ready: at}})
	put(arrived)
	put(m.LetIn("skerry", lane.Letting{Lot: 2, To: lane.Content{}, By: "operator", At: at}))
	shorter := m
	shorter.Lots, shorter.Passages = m.Lots[1:], m.Passages[1:]
	put(shorter)
	other, err := s.Lane(ctx, "berth-planner")
	require.NoError(t, err)
	assert.Equal(t, lane.Memory{}, other)
}
