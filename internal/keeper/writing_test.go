package keeper

import (
	"context"
	"database/sql"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
)

// TestWhatCantBeWrittenIsSaid: while the record refuses, whoever asks is told, and the truth is told all the same; once it takes
// writes again it is written down, once. What may come before that is loop's to say.
func TestWhatCantBeWrittenIsSaid(t *testing.T) {
	dir := t.TempDir()
	p := placedIn(t, dir, ward.Keep{})
	p.ctx, p.cancel = context.WithCancel(t.Context())
	p.k.spawn(p.run)
	defer func() { p.cancel(); <-p.ended; p.k.done.Wait() }()
	refuses(t, dir, true)

	_, err := p.want(t.Context(), loop.Hold{By: "operator", Reason: "gale"})
	var f *Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, Unwritten, f.Kind)
	assert.Contains(t, err.Error(), "w@quay: what was asked for can't be written down")
	assert.Contains(t, err.Error(), "no room")
	require.Eventually(t, func() bool {
		return strings.HasPrefix(p.View().Says, "What is done can't be written down, so nothing more is done: ")
	}, 10*time.Second, 10*time.Millisecond)
	v, err := p.fresh(t.Context())
	require.NoError(t, err, "whoever only looks does not wait")
	assert.Equal(t, "gale", v.Hold.Reason)
	assert.True(t, v.NeedsYou)

	refuses(t, dir, false)
	_, err = p.want(t.Context(), loop.BeWritten{})
	require.NoError(t, err)
	all, err := p.k.store.Placements(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, "gale", all[0].Hold.Reason)
	entries, _, err := p.k.store.Entries(t.Context(), record.Find{Placement: p.ID})
	require.NoError(t, err)
	assert.Len(t, entries, 1, "once, however often it was tried")
	require.Eventually(t, func() bool { return !strings.Contains(p.View().Says, "can't be written") }, 10*time.Second, 10*time.Millisecond)
}

// TestWhatIsLeftIsWrittenAtTheEnd: a ward that is closed leaves nothing unwritten.
func TestWhatIsLeftIsWrittenAtTheEnd(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.ctx, p.cancel = context.WithCancel(t.Context())
	p.post(loop.Wished{Wish: loop.Hold{By: "operator", Reason: "gale"}})
	p.post(loop.Question{Ask: func() error { p.cancel(); return nil }})
	p.k.spawn(p.run)
	<-p.ended
	p.k.done.Wait()
	entries, _, err := p.k.store.Entries(t.Context(), record.Find{Placement: p.ID})
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, 1, entries[0].Number)
}

// refuses makes a record refuse to be written, or take writes again.
func refuses(t *testing.T, dir string, yes bool) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "vigila.db")+"?_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	defer db.Close()
	for _, table := range []string{"placements", "entries", "rejections", "standings"} {
		query := "DROP TRIGGER IF EXISTS full_" + table + "_i; DROP TRIGGER IF EXISTS full_" + table + "_u; DROP TRIGGER IF EXISTS full_" + table + "_d"
		if yes {
			query = ""
			for _, what := range []string{"INSERT", "UPDATE", "DELETE"} {
				query += "CREATE TRIGGER full_" + table + "_" + strings.ToLower(what[:1]) + " BEFORE " + what + " ON " + table + " BEGIN SELECT RAISE(ABORT, 'no room'); END;"
			}
		}
		_, err := db.Exec(query)
		require.NoError(t, err)
	}
}
