package keeper

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
)

// TestOneBadRecordStopsNobody: a ward that can't be opened is blind, with the reason; the others go on.
func TestOneBadRecordStopsNobody(t *testing.T) {
	ctx := context.Background()
	store, err := record.Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer store.Close()
	require.NoError(t, store.PutCluster(ctx, record.Cluster{Name: "quay", Labels: map[string]string{}}))
	require.NoError(t, store.PutWard(ctx, record.Ward{Name: "bad", File: "vigila: ward/v0\n"}, []string{"quay"}))
	k, err := New(ctx, store, Options{MirrorDir: t.TempDir()}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer k.Close()
	v, err := k.Ward("bad")
	require.NoError(t, err)
	assert.Equal(t, compare.Blind, v.Standing)
	assert.Contains(t, v.Says, "The stored file of ward bad can't be read any more")
	assert.True(t, v.NeedsYou)
	_, err = Do(ctx, k, Actor{Name: "operator"}, StartRun{Ward: "bad", Ask: Ask{Kind: run.Sync}})
	assert.ErrorContains(t, err, "can't run")
	_, err = Do(ctx, k, Actor{Name: "operator"}, RemoveWard{Ward: "bad"})
	require.NoError(t, err)
	entries, _, err := k.Entries(ctx, "bad", 10, 0)
	require.NoError(t, err)
	assert.Equal(t, "remove", entries[0].Kind, "its logbook is there still")
	assert.True(t, k.Gone(ctx, "bad@quay"))
}

func TestAWardIsNotTakenForAnotherOfALikeName(t *testing.T) {
	k := &Keeper{registry: newRegistry()}
	cycle := k.cycle([]ward.Ward{{Name: "fare-gate", After: []string{"tide"}}, {Name: "tide", After: []string{"fare-gate"}}, {Name: "gate"}})
	assert.Equal(t, []string{"fare-gate", "tide", "fare-gate"}, cycle)
	assert.NotContains(t, cycle, "gate")
}

// TestALimitedWardReadsNoOther repository by any way that leads there: its file, value files, charts, what a chart depends on.
func TestALimitedWardReadsNoOther(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.Ward.From.Repo = "own"
	p.k.repos = map[string]*sources.Loop{}
	for _, name := range []string{"own", "theirs", "shared"} {
		l, err := sources.Open(&sources.House{Ctx: t.Context(), Dir: t.TempDir(), Spawn: func(func()) {}}, record.Repo{Name: name, URL: "https://charts.brindle.example/" + name, RepoMore: record.RepoMore{Charts: true}})
		require.NoError(t, err)
		p.k.repos[name] = l
	}
	p.repo = p.k.repos["own"]
	p.limits = roster.Limits{Namespaces: []string{"n"}, Repos: []string{"shared"}}
	r := p.reads(t.Context(), "main")
	var beyond *beyondLimits
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
	p.limits = roster.Limits{}
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

	p := placed(t, ward.Keep{})
	r := p.reads(t.Context(), "main")
	assert.Zero(t, r.lastOverrun("a").N)
	require.NoError(t, p.k.store.PutRendered(t.Context(), overrunOf+"a", o))
	assert.True(t, r.lastOverrun("a").waits("a", "1", o.At), "a restart is no reason to try again")
	assert.Zero(t, r.lastOverrun("b").N)
	p.overrun.Store(&overrun{})
	assert.Zero(t, r.lastOverrun("a").N, "a person is")
}

// neighbour is another ward that reads the same repository.
func neighbour(p *placement) *placement {
	p.Ward.From.Repo = "moorings"
	other := p.k.newPlacement(record.Placement{ID: "other@quay"}, ward.Ward{Name: "other", From: ward.From{Repo: "moorings"}}, record.Ward{}, p.cluster, "")
	other.Open(standing.AsOf{}, nil)
	other.says("")
	p.k.wards = map[string]*placement{"w@quay": p, "other@quay": other}
	return other
}

// says makes a ward declare some objects.
func (p *placement) says(id string, refs ...object.Ref) {
	d := &declared.Declaration{Revision: logbook.Revision{ID: id}}
	var all []declared.Whole
	for _, ref := range refs {
		all = append(all, declared.Whole{Object: object.Object{Ref: ref}})
	}
	d.Take(declared.Of(all))
	p.Step(time.Now(), loop.Rendered{AsOf: standing.AsOf{Known: true}, Declared: d})
}

// TestARemovalWaitsForWhatWasReadByThen: on a busy machine there is always a look that somebody has not taken in yet; a removal waits
// for those of before, and not for ever.
func TestARemovalWaitsForWhatWasReadByThen(t *testing.T) {
	p := placed(t, ward.Keep{})
	other := neighbour(p)
	assert.Empty(t, p.unread(loop.Marks{}, true))
	other.Hears().Told.Store(3)
	other.Hears().Taken.Store(2)
	asked := loop.Marks{}
	assert.Contains(t, p.unread(asked, true), "other@quay")
	other.Hears().Told.Store(4) // the next comes before the last was taken in
	other.Hears().Taken.Store(3)
	assert.Empty(t, p.unread(asked, true))
	assert.Contains(t, p.unread(loop.Marks{}, true), "other@quay", "another removal waits for what was read since")
	other.Hears().Taken.Store(4)
	assert.Empty(t, p.unread(loop.Marks{}, true))
}

// TestARunSparesWhatIsWantedByThen: between the start of a run and the turn of a removal another commit may come.
func TestARunSparesWhatIsWantedByThen(t *testing.T) {
	p := placed(t, ward.Keep{})
	other := neighbour(p)
	older := &declared.Declaration{}
	for name, c := range map[string]struct {
		ask     Ask
		mine    []object.Ref // what the ward declares by then
		theirs  []object.Ref // what the other does
		behind  *placement   // who has not taken in yet what was read
		service string       // that has taken it over
		spared  drive.Spared
		err     error
	}{
		"nobody wants it":                  {ask: Ask{Kind: run.Sync}},
		"it came back":                     {ask: Ask{Kind: run.Sync}, mine: []object.Ref{horn}, spared: drive.Spared{Again: "9d55792"}},
		"it moved":                         {ask: Ask{Kind: run.Sync}, theirs: []object.Ref{horn}, spared: drive.Spared{Heir: "other@quay"}},
		"an older revision was asked for":  {ask: Ask{Kind: run.Sync, Declared: older}, mine: []object.Ref{horn}},
		"an older entry was asked for":     {ask: Ask{Kind: run.Rollback}, mine: []object.Ref{horn}},
		"a rollback hands over too":        {ask: Ask{Kind: run.Rollback}, theirs: []object.Ref{horn}, spared: drive.Spared{Heir: "other@quay"}},
		"a rollback waits for nobody":      {ask: Ask{Kind: run.Rollback}, behind: other},
		"all of it goes":                   {ask: Ask{Kind: run.Dismantle}, mine: []object.Ref{horn}},
		"another service has it":           {ask: Ask{Kind: run.Sync}, service: "them", mine: []object.Ref{horn}, behind: other, spared: drive.Spared{Theirs: "them"}},
		"it has not read the newest":       {ask: Ask{Kind: run.Sync}, behind: p, err: loop.ErrUnread},
		"the other has not":                {ask: Ask{Kind: run.Sync}, behind: other, err: loop.ErrUnread},
		"the other may take what goes":     {ask: Ask{Kind: run.Dismantle}, behind: other, err: loop.ErrUnread},
		"what it reads is not asked about": {ask: Ask{Kind: run.Dismantle}, behind: p},
	} {
		t.Run(name, func(t *testing.T) {
			p.says("9d557920ead2ad4687beacbb5eed4353b03d04f4", c.mine...)
			other.says("9d557920ead2ad4687beacbb5eed4353b03d04f4", c.theirs...)
			if c.behind != nil {
				c.behind.Hears().Told.Add(1)
				defer c.behind.Hears().Taken.Add(1)
			}
			got, err := p.spare(loop.Removal{Ref: horn, Kept: true, Theirs: c.service, Intent: loop.Intent{Kind: c.ask.Kind, Follows: c.ask.Declared == nil}, Asked: loop.Marks{}})
			assert.ErrorIs(t, err, c.err)
			assert.Equal(t, c.spared, got)
		})
	}
}
