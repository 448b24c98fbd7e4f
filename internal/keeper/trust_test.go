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
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
)

func stateOf(ref object.Ref, version, uid string) map[string]any {
	return map[string]any{"apiVersion": "v1", "kind": ref.Kind, "metadata": map[string]any{"name": ref.Name, "namespace": ref.Namespace, "uid": uid, "resourceVersion": version,
		"labels": map[string]any{object.WardLabel: "w"}}}
}

// TestWhatARunDidNotTouchStaysInDoubt: a restore after a kill clears nothing that it has not applied, so what the killed
// run was about to make is neither forgotten nor looked for in vain.
func TestWhatARunDidNotTouchStaysInDoubt(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring(declare(horn, "1"), declare(bell, "1"))
	p.applies(horn)
	made := compare.Baseline{Ref: bell, Version: "v1", Intent: 3} // about to be made when the service was killed
	p.index.Keep(made)
	a := &activeRun{pieces: map[object.Ref]*piece{horn: {works: true, outcome: outcome{appliedAt: 5}}}, entry: logbook.Entry{Number: 4},
		machine: run.New(plan.Plan{}, time.Minute, run.Stay)}
	b, _ := p.index.Baseline(horn)
	b.Intent = 4
	p.index.Keep(b)
	p.settleBaselines(a)
	now, _ := p.index.Baseline(horn)
	assert.Zero(t, now.Intent)
	now, _ = p.index.Baseline(bell)
	assert.Equal(t, 3, now.Intent)
	assert.True(t, p.index.Doubtful(bell))
	assert.Zero(t, p.index.Unseen(), "so the ward is not blind for something that nobody looks for")
	assert.Equal(t, []object.Ref{bell}, p.pending().Apply, "it is pending")
	p.commits(t)
	kept, _, err := p.k.store.Doing(p.ctx, p.id)
	require.NoError(t, err)
	assert.Contains(t, kept, bell, "and after the next kill too")
}

// TestWhatIsGoneAndNobodyDeclaresIsForgotten: whoever deleted it did what was left to do.
func TestWhatIsGoneAndNobodyDeclaresIsForgotten(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring(declare(bell, "1"))
	p.applies(horn, bell)
	for _, ref := range []object.Ref{horn, bell} {
		p.index.Put(ref, index.Live{Verified: true})
	}
	p.forgetGone()
	assert.False(t, p.index.Keeps(horn))
	assert.True(t, p.index.Keeps(bell))
	p.commits(t)
	kept, err := p.k.store.Baselines(p.ctx, p.id)
	require.NoError(t, err)
	assert.NotContains(t, kept, horn)
}

// TestADigestIsOfWhatIsDeclaredAndHow: a mend in the ward file counts, a commit that changes nothing does not.
func TestADigestIsOfWhatIsDeclaredAndHow(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.declaring(declare(horn, "1"))
	p.ward.From.Values = map[string]any{"a": "1"}
	was := p.digest(p.declared)
	p.declared.Revision.ID = "newer00"
	assert.Equal(t, was, p.digest(p.declared))
	p.ward.From.Values = map[string]any{"a": "2"}
	assert.NotEqual(t, was, p.digest(p.declared))
	p.ward.From.Values = map[string]any{"a": "1"}
	p.ward.Settle.Within = time.Hour
	assert.NotEqual(t, was, p.digest(p.declared), "more time is a mend too")
}

func TestARestoreGoesBackToWhatWasApplied(t *testing.T) {
	p := placed(t, ward.Keep{})
	old := []declared.Whole{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"v": "old"}}, Hash: "1"}, {Object: object.Object{Ref: bell, Version: "v1", Body: map[string]any{"v": "old"}}, Hash: "b"}}
	newer := []declared.Whole{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{"v": "new"}}, Hash: "2"}}
	require.NoError(t, p.k.store.PutSnapshot(p.ctx, "old", old))
	require.NoError(t, p.k.store.PutSnapshot(p.ctx, "newer", newer))
	p.will.Snapshot = "old"
	p.applies(horn, bell)
	b, _ := p.index.Baseline(horn)
	b.Declared, b.Snapshot = "2", "newer" // of a sync of a part
	p.index.Keep(b)
	out := &prepared{objects: map[object.Ref]declared.Whole{}, order: map[object.Ref]object.Turn{}}
	require.NoError(t, p.asApplied(out, []object.Ref{horn, bell}))
	assert.Equal(t, "new", out.objects[horn].Object.Body["v"])
	assert.Equal(t, "old", out.objects[bell].Object.Body["v"])
}

func TestHalfIsSaidAsHalf(t *testing.T) {
	p := placed(t, ward.Keep{})
	require.NoError(t, p.k.store.PutSnapshot(p.ctx, "old", []declared.Whole{{Object: object.Object{Ref: horn, Version: "v1", Body: map[string]any{}}, Hash: "1"}, {Object: object.Object{Ref: bell, Version: "v1", Body: map[string]any{}}, Hash: "1"}}))
	p.will.Snapshot, p.will.Applied = "old", &logbook.Revision{ID: "oldrev0000"}
	p.declaring(declare(horn, "2"), declare(bell, "2"))
	p.applies(horn, bell)
	assert.Zero(t, p.half(), "nothing was begun")
	b, _ := p.index.Baseline(horn)
	b.Declared = "2"
	p.index.Keep(b)
	p.will.Last = &logbook.Entry{Number: 7, Kind: string(run.Sync), Outcome: string(run.Stopped), Snapshot: "s", Revision: &p.declared.Revision}
	assert.Equal(t, 1, p.half())
	p.repository.Known = true
	assert.Equal(t, standing.Facts{Last: p.will.Last, Now: p.made}, p.facts(&standing.View{}, "", p.made))
	b.Declared = "1"
	p.index.Keep(b)
	p.will.Snapshot = ""
	assert.Positive(t, p.half(), "parts of what never was a whole")
	assert.Equal(t, compare.Behind, compare.Stand(compare.Input{RepoKnown: true, ClusterKnown: true, Unfinished: true}), "nothing is in step that is not wholly there")
}

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

func TestEvidenceIsWrittenDown(t *testing.T) {
	p := placed(t, ward.Keep{Drift: "report"})
	p.noticed = map[object.Ref][]compare.Difference{}
	p.cluster.conn = nil
	p.declaring(declare(horn, "1"))
	p.applies(horn)
	drift := []compare.Difference{{Path: "data.x", Change: compare.Changed, From: "1", To: "2", Who: "hurry"}}
	p.index.Put(horn, index.Live{Present: true, Verified: true, Health: health.Result{Word: health.Ready}, Trouble: &index.Trouble{Drift: drift}})
	assert.Equal(t, "hurry changed data.x of ConfigMap/horn from 1 to 2", p.driftWhy([]object.Ref{horn}), "a reason of its own, never the board's sentence")
	assert.Equal(t, "data.x of ConfigMap/horn is 1 again", standing.EndWords(horn, drift[0]))
	assert.Contains(t, standing.Listed(make([]string, 50)), "and 10 more")
	assert.Equal(t, health.Ready, p.index.Known(horn).Health.Word)
}

// TestWhatWasRemovedAndIsThereAgain: a cluster whose data were put back holds an object that nobody declares any more; it is
// kept again, so that it is removed. A copy of it that somebody made is theirs.
func TestWhatWasRemovedAndIsThereAgain(t *testing.T) {
	p := placed(t, ward.Keep{})
	require.NoError(t, p.k.store.Commit(p.ctx, p.id, record.PutBaselines{All: []compare.Baseline{{Ref: horn, Version: "v1", Declared: "1", UID: "u", Revision: 5, Detail: &compare.Detail{Owned: object.Owned(nil, nil)}}}}))
	require.NoError(t, p.k.store.Commit(p.ctx, p.id, record.RemoveBaseline{Ref: horn, At: time.Now()}))
	p.index.Drop(horn)
	p.index.Forget(horn)
	again := func(uid string) map[string]any {
		o := stateOf(horn, "3", uid)
		meta := o["metadata"].(map[string]any)
		meta["labels"] = map[string]any{object.WardLabel: p.ward.Name}
		meta["annotations"] = map[string]any{object.ServiceAnnotation: p.k.store.ServiceID()}
		return o
	}
	p.sawLive(horn, again("another"), index.Named)
	assert.Zero(t, p.index.Len())
	p.sawLive(horn, again("u"), index.Named)
	require.True(t, p.index.Keeps(horn))
	assert.Nil(t, p.declared.Find(horn), "so it is to be removed")
	assert.Contains(t, p.outs, putBack{}, "and by that the cluster is known to have been put back")

	// What this ward has applied itself is its own again whatever its uid; what one of its name has left behind is not.
	applied := func(at time.Time) map[string]any {
		o := again("a third")
		o["metadata"].(map[string]any)["managedFields"] = []any{map[string]any{"manager": object.Manager, "operation": "Apply", "apiVersion": "v1", "time": at.UTC().Format(time.RFC3339), "fieldsType": "FieldsV1",
			"fieldsV1": map[string]any{"f:metadata": map[string]any{"f:labels": map[string]any{"f:" + object.WardLabel: map[string]any{}}}}}}
		return o
	}
	p.index.Drop(horn)
	p.index.Forget(horn)
	p.made, p.declared = time.Now(), &declared.Declaration{}
	p.sawLive(horn, applied(p.made.Add(-time.Hour)), index.Named)
	assert.Zero(t, p.index.Len())
	p.sawLive(horn, applied(p.made.Add(time.Minute)), index.Named)
	assert.Zero(t, p.index.Len(), "as long as nothing tells that the cluster was put back")
	assert.Contains(t, p.strays, horn)
	p.strays[horn].asked = true
	p.sawLive(horn, applied(p.made.Add(time.Minute)), index.Named)
	assert.True(t, p.index.Keeps(horn), "but not for ever: it is there, it is this ward's, and nobody keeps it")
	p.index.Drop(horn)
	p.index.Forget(horn)
	p.cluster.drop(horn, p)
	p.cluster.rewound.Store(true)
	p.declared = nil
	p.sawLive(horn, applied(p.made.Add(time.Minute)), index.Named)
	assert.Zero(t, p.index.Len(), "nor as long as nobody knows what is declared")
	p.declared = &declared.Declaration{}
	heir := &placement{identity: identity{id: "heir@quay"}}
	p.cluster.claim(horn, heir)
	p.sawLive(horn, applied(p.made.Add(time.Minute)), index.Named)
	assert.Zero(t, p.index.Len(), "it was handed to another ward since, whose it is though it bears the mark from before")
	p.cluster.drop(horn, p)
	assert.Equal(t, heir, p.cluster.keeper(horn), "and stays")
	p.cluster.drop(horn, heir)
	p.sawLive(horn, applied(p.made.Add(time.Minute)), index.Named)
	assert.True(t, p.index.Keeps(horn))
}

// TestALimitedWardReadsNoOther repository by any way that leads there: its file, value files, charts, what a chart depends on.
func TestALimitedWardReadsNoOther(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.ward.From.Repo = "own"
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

// TestARemovalWaitsForWhatWasReadByThen: on a busy machine there is always a look that somebody has not taken in yet; a removal waits
// for those of before, and not for ever.
func TestARemovalWaitsForWhatWasReadByThen(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.ward.From.Repo = "moorings"
	other := &placement{k: p.k, identity: identity{id: "other@quay", ward: ward.Ward{Name: "other", From: ward.From{Repo: "moorings"}}}, ties: ties{cluster: p.cluster}}
	other.says.Store(&declared.Declaration{})
	p.k.wards = map[string]*placement{"w@quay": p, "other@quay": other}
	assert.Empty(t, p.unread(true))
	other.hears.told.Store(3)
	other.hears.taken.Store(2)
	assert.Contains(t, p.unread(true), "other@quay")
	other.hears.told.Store(4) // the next comes before the last was taken in
	other.hears.taken.Store(3)
	assert.Empty(t, p.unread(true))
	assert.Contains(t, p.unread(true), "other@quay", "another removal waits for what was read since")
	other.hears.taken.Store(4)
	assert.Empty(t, p.unread(true))
}

// TestARunSparesWhatIsWantedByThen: between the start of a run and the turn of a removal another commit may come.
func TestARunSparesWhatIsWantedByThen(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.ward.From.Repo = "moorings"
	other := &placement{k: p.k, identity: identity{id: "other@quay", ward: ward.Ward{Name: "other", From: ward.From{Repo: "moorings"}}}, ties: ties{cluster: p.cluster}}
	other.view.Store(&standing.View{})
	other.says.Store(&declared.Declaration{})
	p.k.wards = map[string]*placement{"w@quay": p, "other@quay": other}
	says := func(p *placement, id string, refs ...object.Ref) {
		d := &declared.Declaration{Revision: logbook.Revision{ID: id}}
		var all []declared.Whole
		for _, ref := range refs {
			all = append(all, declared.Whole{Object: object.Object{Ref: ref}})
		}
		d.Take(declared.Of(all))
		p.says.Store(d)
	}
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
		"an older revision was asked for":  {ask: Ask{Kind: run.Sync, declared: older}, mine: []object.Ref{horn}},
		"an older entry was asked for":     {ask: Ask{Kind: run.Rollback}, mine: []object.Ref{horn}},
		"a rollback hands over too":        {ask: Ask{Kind: run.Rollback}, theirs: []object.Ref{horn}, spared: drive.Spared{Heir: "other@quay"}},
		"a rollback waits for nobody":      {ask: Ask{Kind: run.Rollback}, behind: other},
		"all of it goes":                   {ask: Ask{Kind: run.Dismantle}, mine: []object.Ref{horn}},
		"another service has it":           {ask: Ask{Kind: run.Sync}, service: "them", mine: []object.Ref{horn}, behind: other, spared: drive.Spared{Theirs: "them"}},
		"it has not read the newest":       {ask: Ask{Kind: run.Sync}, behind: p, err: errUnread},
		"the other has not":                {ask: Ask{Kind: run.Sync}, behind: other, err: errUnread},
		"the other may take what goes":     {ask: Ask{Kind: run.Dismantle}, behind: other, err: errUnread},
		"what it reads is not asked about": {ask: Ask{Kind: run.Dismantle}, behind: p},
	} {
		t.Run(name, func(t *testing.T) {
			says(p, "9d557920ead2ad4687beacbb5eed4353b03d04f4", c.mine...)
			says(other, "9d557920ead2ad4687beacbb5eed4353b03d04f4", c.theirs...)
			if c.behind != nil {
				c.behind.hears.told.Add(1)
				defer c.behind.hears.taken.Add(1)
			}
			got, err := p.spare(removal{ref: horn, kept: true, theirs: c.service, intent: intent{c.ask.Kind, c.ask.declared == nil}, asked: marks{}})
			assert.ErrorIs(t, err, c.err)
			assert.Equal(t, c.spared, got)
		})
	}
}
