package keeper

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

// TestNothingIsDoneBeforeItIsWrittenDown: while the record refuses, whoever asks is told, nothing is called, and the truth is told
// all the same; once it takes writes again everything goes on, in its order.
func TestNothingIsDoneBeforeItIsWrittenDown(t *testing.T) {
	dir := t.TempDir()
	p := placedIn(t, dir, ward.Keep{})
	p.cluster.err = errors.New("it is silent")
	ctx, cancel := context.WithCancel(t.Context())
	p.ctx = ctx
	p.view.Store(p.build())
	p.k.spawn(p.loop)
	defer func() { cancel(); <-p.ended; p.k.done.Wait() }()
	refuses(t, dir, true)

	_, err := p.want(t.Context(), holdWard{"operator", "gale", time.Time{}})
	var f *Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, Unwritten, f.Kind)
	assert.Contains(t, err.Error(), "w@quay: what was asked for can't be written down")
	assert.Contains(t, err.Error(), "no room")
	var called atomic.Int32
	answered := make(chan error, 1)
	go func() {
		answered <- p.ask(t.Context(), func() error {
			p.write(record.Unreject{Revision: "x"})
			p.after(happen{wished{func() error { called.Add(1); return nil }, make(chan error, 1)}})
			return nil
		})
	}()
	require.Eventually(t, func() bool {
		return strings.HasPrefix(p.View().Says, "What is done can't be written down, so nothing more is done: ")
	}, 10*time.Second, 10*time.Millisecond)
	v, err := p.fresh(t.Context())
	require.NoError(t, err, "whoever only looks does not wait")
	assert.Equal(t, "gale", v.Hold.Reason)
	assert.True(t, v.NeedsYou)
	assert.Zero(t, called.Load())

	refuses(t, dir, false)
	require.NoError(t, <-answered)
	require.Eventually(t, func() bool { return called.Load() == 1 }, 10*time.Second, time.Millisecond)
	all, err := p.k.store.Placements(t.Context(), "")
	require.NoError(t, err)
	assert.Equal(t, "gale", all[0].Hold.Reason)
	entries, _, err := p.k.store.Entries(t.Context(), record.Find{Placement: p.id})
	require.NoError(t, err)
	assert.Len(t, entries, 1, "once, however often it was tried")
	require.Eventually(t, func() bool { return !strings.Contains(p.View().Says, "can't be written") }, 10*time.Second, 10*time.Millisecond)
}

// TestWhatIsLeftIsWrittenAtTheEnd: a ward that is closed leaves nothing unwritten.
func TestWhatIsLeftIsWrittenAtTheEnd(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.cluster.err = errors.New("it is silent")
	p.ctx, p.cancel = context.WithCancel(t.Context())
	p.view.Store(p.build())
	p.post(wished{func() error {
		p.writeAbout("hold", "operator", "gale", nil)
		p.cancel()
		return nil
	}, make(chan error, 1)})
	p.k.spawn(p.loop)
	<-p.ended
	p.k.done.Wait()
	entries, _, err := p.k.store.Entries(t.Context(), record.Find{Placement: p.id})
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
