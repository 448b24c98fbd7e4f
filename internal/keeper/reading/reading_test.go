package reading

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// house is a house of some repositories.
type house struct{ repos map[string]*sources.Loop }

func (h *house) Source(name string) (*sources.Loop, error) {
	if l := h.repos[name]; l != nil {
		return l, nil
	}
	return nil, fmt.Errorf("there is no repository %q", name)
}

func (h *house) ChartsAt(address string) *sources.Loop {
	for _, l := range h.repos {
		if shelf, ok := l.Charts(); ok && repo.SameURL(shelf.URL(), address) {
			return l
		}
	}
	return nil
}

func (h *house) RosterNow(string) (roster.Roster, bool)                        { return roster.Roster{}, false }
func (h *house) RosterRules(string) []repo.File                                { return nil }
func (h *house) PutSnapshot(context.Context, []declared.Whole) (string, error) { return "", nil }

// read is a ward that is read, with a record of its own.
func read(t *testing.T, h *house) *Ward {
	t.Helper()
	store, err := record.Open(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, store.Close()) })
	return &Ward{ID: "w@quay", Ward: &ward.Ward{Name: "w"}, Deps: Deps{Common: &Common{House: h, Cache: store}, Log: slog.New(slog.DiscardHandler)}}
}

// TestALimitedWardReadsNoOther repository by any way that leads there: its file, value files, charts, what a chart depends on.
func TestALimitedWardReadsNoOther(t *testing.T) {
	house := &house{repos: map[string]*sources.Loop{}}
	w := read(t, house)
	w.Ward.From.Repo = "own"
	for _, name := range []string{"own", "theirs", "shared"} {
		l, err := sources.Open(&sources.House{Ctx: t.Context(), Dir: t.TempDir(), Spawn: func(func()) {}}, record.Repo{Name: name, URL: "https://charts.brindle.example/" + name, RepoMore: record.RepoMore{Charts: true}})
		require.NoError(t, err)
		house.repos[name] = l
	}
	w.Main = house.repos["own"]
	w.Limits = roster.Limits{Namespaces: []string{"n"}, Repos: []string{"shared"}}
	r := w.reads(t.Context(), "main")
	var beyond *BeyondLimits
	_, err := r.tree("theirs", "main")
	require.ErrorAs(t, err, &beyond)
	_, err = r.chart("theirs", "gate", "1.x")
	require.ErrorAs(t, err, &beyond)
	_, err = r.depend("https://charts.brindle.example/theirs", "gate", "1.x")
	require.ErrorAs(t, err, &beyond)
	assert.ErrorContains(t, err, "lets its wards read own, shared, not theirs (limits.repos)")
	for _, name := range []string{"own", "shared"} {
		_, err = r.tree(name, "main")
		assert.ErrorContains(t, err, "is a chart repository", "it is let in")
	}
	w.Limits = roster.Limits{}
	_, err = r.tree("theirs", "main")
	assert.ErrorContains(t, err, "is a chart repository", "without limits all may be read")
}

// TestWhatTakesTooMuchIsTriedSeldom: with growing pauses, also over a restart; at once when its files change or a person wants it; and
// soon when another commit may have mended it from beside its path.
func TestWhatTakesTooMuchIsTriedSeldom(t *testing.T) {
	at := time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	over := &render.Overrun{Where: "app in moorings", What: "rendering took more than 30s of processor time and was ended"}
	none := &overrun{}
	assert.False(t, none.waits("a", "1", at))
	o := none.after("a", "1", at, fmt.Errorf("values: %w", over))
	for i, pause := range []time.Duration{1, 2, 4, 8, 16, 30, 30} {
		assert.Equal(t, pause*time.Minute, o.Until.Sub(o.At), "try %d", i+1)
		assert.True(t, o.waits("a", "1", o.Until.Add(-time.Second)))
		assert.False(t, o.waits("a", "1", o.Until))
		o = o.after("a", "1", o.Until, over)
	}
	assert.False(t, o.waits("b", "1", o.At), "its files have changed")
	assert.True(t, o.waits("a", "2", o.At.Add(time.Minute)))
	assert.False(t, o.waits("a", "2", o.At.Add(otherPause+time.Second)), "another commit may have mended it")
	assert.Contains(t, o.Error(), "It is tried again when its files change, at the first look after "+o.Until.Format("15:04 UTC")+", or when somebody looks")
	assert.Zero(t, o.after("a", "1", at, errors.New("a mistake of another kind")).N)
	assert.Zero(t, o.after("a", "1", at, nil).N)

	w := read(t, &house{})
	r := w.reads(t.Context(), "main")
	assert.Zero(t, r.lastOverrun("a").N)
	require.NoError(t, w.Cache.PutRendered(t.Context(), overrunOf+"a", o))
	assert.True(t, r.lastOverrun("a").waits("a", "1", o.At), "a restart is no reason to try again")
	assert.Zero(t, r.lastOverrun("b").N)
	w.TryNow()
	assert.Zero(t, r.lastOverrun("a").N, "a person is")
}
