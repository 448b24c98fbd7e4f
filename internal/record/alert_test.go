package record

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/alert"
)

func TestTheOutbox(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	s, err := Open(ctx, dir)
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Close()) }()
	now := time.Now().UTC().Truncate(time.Millisecond)
	state := alert.State{Held: map[string]*alert.Held{"a": {Topic: alert.Blind, Told: now}}, Count: 3}
	one := Delivery{ID: "ops-1.chat", Alert: "ops", Way: "chat", Made: now, Next: now, DeliveryMore: DeliveryMore{Message: alert.Message{ID: "ops-1", Topic: alert.Blind, Items: []alert.Item{{Subject: "pier@quay", Text: "it is so"}}}, To: []string{"a@brindle.example"}}}
	two := one
	two.ID, two.Way, two.Next = "ops-1.mail", "mail", now.Add(time.Minute)
	require.NoError(t, s.PutAlert(ctx, "ops", state, []Delivery{one, two}))
	require.NoError(t, s.PutAlert(ctx, "ops", state, []Delivery{one}), "what is on its way already is the same")
	back, err := s.Alert(ctx, "ops")
	require.NoError(t, err)
	assert.Equal(t, state, back)
	none, err := s.Alert(ctx, "another")
	require.NoError(t, err)
	assert.Empty(t, none.Held)

	due, err := s.Due(ctx, now, nil, 10)
	require.NoError(t, err)
	assert.Equal(t, []Delivery{one}, due)
	one.Next, one.Tries, one.Problem = now.Add(time.Hour), 1, "chat can't take it now"
	require.NoError(t, s.Tried(ctx, one))
	two.Next, two.Tries, two.Done = time.Time{}, 1, now
	require.NoError(t, s.Tried(ctx, two))
	next, err := s.NextDue(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, one.Next, next)
	all, total, err := s.Deliveries(ctx, "pier@", false, 1, 0)
	require.NoError(t, err)
	assert.Equal(t, 2, total)
	assert.Equal(t, []Delivery{two}, all, "the newest first")
	_, total, err = s.Deliveries(ctx, "tide", false, 1, 0)
	require.NoError(t, err)
	assert.Zero(t, total)
	all, total, err = s.Deliveries(ctx, "pier@", true, 10, 0)
	require.NoError(t, err)
	assert.Equal(t, 1, total)
	assert.Equal(t, []Delivery{one}, all, "what did not get there yet")
	waiting, oldest, err := s.Waiting(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, waiting)
	assert.True(t, oldest.Equal(one.Made))
	require.NoError(t, s.ForgetDeliveries(ctx, now.Add(time.Hour)))
	all, _, err = s.Deliveries(ctx, "", false, 10, 0)
	require.NoError(t, err)
	assert.Equal(t, []Delivery{one}, all, "what is on its way stays")
}

func TestWaysAreKeptEncrypted(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	s, err := Open(ctx, dir)
	require.NoError(t, err)
	w := Way{Name: "ops-chat", URL: "https://chat.brindle.example/hook/spring-tide-word", Secret: "gale-word", WayMore: WayMore{Kind: "chat", About: "ops", To: []string{"a"}}}
	require.NoError(t, s.PutWay(ctx, w))
	all, err := s.Ways(ctx)
	require.NoError(t, err)
	assert.Equal(t, []Way{w}, all)
	require.NoError(t, s.RemoveWay(ctx, "nobody"))
	require.NoError(t, s.Close())
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		assert.NotContains(t, string(b), "spring-tide-word", path)
		assert.NotContains(t, string(b), "gale-word", path)
		return err
	}))
}

func TestMutesEnd(t *testing.T) {
	s, err := Open(context.Background(), t.TempDir())
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Close()) }()
	now := time.Now().UTC().Truncate(time.Millisecond)
	m := Mute{Subject: "pier@quay", Until: now.Add(time.Hour), MuteMore: MuteMore{By: "operator", Why: "a gale", At: now}}
	require.NoError(t, s.PutMute(t.Context(), m))
	require.NoError(t, s.PutMute(t.Context(), Mute{Subject: "b", Until: now.Add(-time.Second)}))
	all, err := s.Mutes(t.Context(), now)
	require.NoError(t, err)
	assert.Equal(t, []Mute{m}, all)
	require.NoError(t, s.RemoveMute(t.Context(), m.Subject))
	all, err = s.Mutes(t.Context(), now)
	require.NoError(t, err)
	assert.Empty(t, all)
}

// TestWhatIsDue: an alert's messages to one person by one way follow each other, and what waits there keeps nothing else.
func TestWhatIsDue(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Close()) }()
	now := time.Now().UTC().Truncate(time.Millisecond)
	later := now.Add(time.Hour)
	for _, d := range []Delivery{
		{ID: "began", Alert: "a", Way: "chat", Next: later},
		{ID: "over", Alert: "a", Way: "chat", Next: now},
		{ID: "another alert's", Alert: "b", Way: "chat", Next: now},
		{ID: "one began", Alert: "a", Way: "mail", Next: later, DeliveryMore: DeliveryMore{To: []string{"one@brindle.example"}}},
		{ID: "two began", Alert: "a", Way: "mail", Next: now, DeliveryMore: DeliveryMore{To: []string{"two@brindle.example"}}},
		{ID: "two over", Alert: "a", Way: "mail", Next: now, DeliveryMore: DeliveryMore{To: []string{"two@brindle.example"}}},
	} {
		d.Made = now
		require.NoError(t, s.PutAlert(ctx, d.Alert, alert.State{}, []Delivery{d}))
	}
	due := func(busy ...string) (out []string) {
		all, err := s.Due(ctx, now, busy, 10)
		require.NoError(t, err)
		for _, d := range all {
			out = append(out, d.ID)
		}
		return out
	}
	assert.Equal(t, []string{"another alert's", "two began"}, due())
	assert.Equal(t, []string{"two began"}, due("chat"))
	assert.Empty(t, due("chat", "mail"))
	next, err := s.NextDue(ctx, []string{"mail", "x"})
	require.NoError(t, err)
	assert.Equal(t, now, next)
	require.NoError(t, s.Tried(ctx, Delivery{ID: "began", Tries: 1, Done: now}))
	require.NoError(t, s.Tried(ctx, Delivery{ID: "another alert's", Tries: 1, Done: now}))
	assert.Equal(t, []string{"over"}, due("mail"))
}
