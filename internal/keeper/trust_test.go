package keeper

import (
	"context"
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
	"vigila.dev/vigila/internal/record"
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
	entries, _, err := k.Entries(ctx, "bad", record.Find{Limit: 10, Offset: 0})
	require.NoError(t, err)
	assert.Equal(t, logbook.Removes, entries[0].Kind, "its logbook is there still")
	assert.True(t, k.Gone(ctx, "bad@quay"))
}

// TestLimitsReachEveryWard: one whose file can't be read any more keeps none of the others out of them.
func TestLimitsReachEveryWard(t *testing.T) {
	k := placed(t, ward.Keep{}).k
	ctx := t.Context()
	good := "vigila: ward/v1\nname: %s\nfrom: {repo: tides, path: app}\ninto: {cluster: quay, namespace: tides}\n"
	for name, file := range map[string]string{"a": "not a ward", "b": fmt.Sprintf(good, "b"), "c": fmt.Sprintf(good, "c")} {
		require.NoError(t, k.store.PutWard(ctx, record.Ward{Name: name, File: file, Roster: "moorings"}, []string{"quay"}))
	}
	k.clusters = map[string]*clusterLoop{"quay": {k: k, conf: record.Cluster{Name: "quay"}}}
	l := &rosterLoop{k: k, wake: make(chan struct{}, 1), conf: roster.Roster{Name: "moorings"}}
	err := k.changeRoster(ctx, l, roster.Roster{Name: "moorings", Limits: roster.Limits{Namespaces: []string{"fares"}}})
	for _, w := range []string{"b", "c"} {
		assert.ErrorContains(t, err, "ward "+w+" is not held to the limits of its roster yet: ", "here none can be opened, and each is told of")
	}
}

func TestAWardIsNotTakenForAnotherOfALikeName(t *testing.T) {
	k := &Keeper{holdings: newHoldings()}
	cycle := k.cycle([]ward.Ward{{Name: "fare-gate", After: []string{"tide"}}, {Name: "tide", After: []string{"fare-gate"}}, {Name: "gate"}})
	assert.Equal(t, []string{"fare-gate", "tide", "fare-gate"}, cycle)
	assert.NotContains(t, cycle, "gate")
}

// neighbour is another ward that reads the same repository.
func neighbour(p *placement) *placement {
	p.Ward.From.Repo = "moorings"
	other := p.k.newPlacement(record.Placement{ID: "other@quay"}, ward.Ward{Name: "other", From: ward.From{Repo: "moorings"}}, record.Ward{}, p.cluster, "")
	other.Open(standing.AsOf{}, nil)
	other.says("")
	p.k.kept = newKept()
	p.k.kept.enter(p)
	p.k.kept.enter(other)
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
