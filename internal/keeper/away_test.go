package keeper

import (
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
)

func TestSomebodyIsToldOfAUsedToken(t *testing.T) {
	now := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	a := newAway(nil, record.Lookout{Cluster: "skerry"})
	assert.Nil(t, a.trouble(now))
	a.kept.Told.Refused, a.kept.Told.At = "192.0.2.7", now
	got := a.trouble(now.Add(time.Hour))
	assert.Contains(t, got.Text, "192.0.2.7")
	assert.Equal(t, "cluster skerry", got.Subject)
	assert.Nil(t, a.trouble(now.Add(25*time.Hour)), "it is over by itself")
}

// TestWhatIsKnownOfACluster: kinds that were asked for once are known while the cluster's kinds are the same, and what can't be told changes nothing.
func TestWhatIsKnownOfACluster(t *testing.T) {
	a := newAway(nil, record.Lookout{Cluster: "skerry", Told: record.LookoutTold{Facts: record.LookoutsFacts{Version: "v1.37.2", Kinds: map[string]bool{"v1/ConfigMap": true, "v1/Namespace": false}}}})
	assert.NoError(t, a.down())
	for kind, want := range map[string]bool{"ConfigMap": true, "Namespace": false} {
		is, err := a.namespaced(object.Object{Version: "v1", Ref: object.Ref{Kind: kind}})
		assert.NoError(t, err)
		assert.Equal(t, want, is, kind)
	}
	a.tookFacts(toldFacts{Problem: "the cluster does not answer"})
	assert.Equal(t, "v1.37.2", a.facts().Version)
	assert.Error(t, newAway(nil, record.Lookout{Cluster: "skerry"}).down(), "nothing is rendered for what nobody knows")
}

func TestWritesGoTogetherUpToABound(t *testing.T) {
	body := make([]byte, sayAtOnce/3)
	var all []record.Outgoing
	for n := range 7 {
		all = append(all, record.Outgoing{N: int64(n + 1), Body: body})
	}
	assert.Len(t, some(all), 3)
	assert.Len(t, some(all[:2]), 2)
	assert.Empty(t, some(nil))
	assert.Len(t, some([]record.Outgoing{{N: 1, Body: make([]byte, 2*sayAtOnce)}}), 1, "one that is large goes alone")
	_, err := link.Encode(toldWrites{some(all)})
	assert.NoError(t, err)
}

// TestALookoutAsksWhatItsWardDeclares, and nothing else: where the check is written, in a file of the ward's own or of the roster, is no matter.
func TestALookoutAsksWhatItsWardDeclares(t *testing.T) {
	p := placed(t, ward.Keep{})
	declared := ward.Check{Name: "errors", Query: "rate(errors[1m])", From: "harbour", Good: "value < 0.05", Every: time.Second, InARow: 3, File: "wards/departures.yaml", Line: 17}
	p.Ward.Checks = []ward.Check{declared}
	p.letAsk(nil)
	asked := overTheWire(t, declared)
	asked.File, asked.Line = "", 4
	assert.True(t, p.mayAsk(asked))
	asked.Query = "secrets"
	assert.False(t, p.mayAsk(asked))
}

// TestAWardThatIsKnownOnlyNowIsToldOf: the lookout keeps it already, as it is; how it stands went by a service that did not know the ward.
func TestAWardThatIsKnownOnlyNowIsToldOf(t *testing.T) {
	k := ashoreOf(t, LookoutOf{})
	w := keepWard{Name: "w", File: "vigila: ward/v1\nname: w\nfrom: {repo: tides, path: app}\ninto: {cluster: quay, namespace: tides}\n"}
	require.NoError(t, k.up.keep(t.Context(), w))
	before, err := k.one("w@quay")
	require.NoError(t, err)
	_, err = before.want(t.Context(), loop.BeWritten{}) // by then it has said all that it has to say
	require.NoError(t, err)
	args, err := link.Encode(w)
	require.NoError(t, err)
	l := k.Listen()
	defer l.Close()
	_, err = k.up.asked(t.Context(), "keep", args, nil)
	require.NoError(t, err)
	assert.Contains(t, l.Take(), Note{"ward", "w@quay"})
	p, err := k.one("w@quay")
	require.NoError(t, err)
	assert.Same(t, before, p, "it is kept on as it was")
}

// TestWhatAWardUsesIsKnownByWhatItDeclares: its lookout says so only where that is new to it.
func TestWhatAWardUsesIsKnownByWhatItDeclares(t *testing.T) {
	k := placed(t, ward.Keep{}).k
	at := secret.Place{Store: "chest", Path: "tides"}
	assert.True(t, k.use("w@quay", []secret.Place{at}))
	assert.False(t, k.use("w@quay", []secret.Place{at}))
	assert.Equal(t, []secret.Place{at}, k.usedBy("w@quay"))
	assert.True(t, k.use("w@quay", nil))
	assert.False(t, k.use("w@quay", nil))
}

// says is a lookout that answers everything with the same.
type says struct{ answer any }

func (s says) Asked(context.Context, string, link.Raw, func(any) error) (any, error) {
	return s.answer, nil
}
func (s says) Told(string, link.Raw) error { return nil }

// lookedAfter has the ward be kept by a lookout.
func (p *placement) lookedAfter(t *testing.T, by link.Handler) {
	t.Helper()
	here, there := net.Pipe()
	a := newAway(p.k, record.Lookout{Cluster: "quay"})
	a.peer = link.New(t.Context(), here, says{})
	far := link.New(t.Context(), there, by)
	go func() { _ = a.peer.Run() }()
	go func() { _ = far.Run() }()
	p.cluster.away = a
	p.k.kept.enter(p)
}

// TestALookoutTellsOfTheWardThatItWasAskedOf: what it says of another one in its answer is nothing, and no answer is no answer.
func TestALookoutTellsOfTheWardThatItWasAskedOf(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.k.kept = newKept()
	p.lookedAfter(t, says{Preview{View: &standing.View{ID: "other@skerry", Says: "All is well"}}})
	other := p.k.newPlacement(record.Placement{ID: "other@skerry"}, ward.Ward{Name: "other"}, record.Ward{}, p.cluster, "")
	other.Open(standing.AsOf{}, nil)
	p.k.kept.enter(other)
	got, err := p.k.Diff(t.Context(), "w@quay")
	require.NoError(t, err)
	assert.Equal(t, "w@quay", got.View.ID)
	assert.Equal(t, "All is well", got.View.Says)
	assert.NotEqual(t, "All is well", other.Placement.View().Says, "that is another lookout's")

	p.lookedAfter(t, says{})
	for _, ask := range []func() error{
		func() error { _, err := p.k.Diff(t.Context(), "w@quay"); return err },
		func() error { _, err := objectOf.ask(t.Context(), p, "ConfigMap/n/horn"); return err },
		func() error { _, err := p.fresh(t.Context()); return err },
	} {
		var f *Fault
		require.ErrorAs(t, ask(), &f)
		assert.Contains(t, f.Text, "has no answer")
	}
}

// TestALookoutRemovesNothingThatAnotherMayHaveByTheSameCommit: the service says when all have read; a run that was begun goes on without it.
func TestALookoutRemovesNothingThatAnotherMayHaveByTheSameCommit(t *testing.T) {
	at := placed(t, ward.Keep{})
	at.Ward.From.Repo = "moorings"
	other := neighbour(at)
	a := newAway(at.k, record.Lookout{Cluster: "quay"})
	at.cluster.away = a
	other.Hears().Told.Store(1) // of the commit that the ward has read already
	here, there := net.Pipe()
	service := link.New(t.Context(), here, &visitor{k: at.k, away: a})
	p := placed(t, ward.Keep{})
	p.k.kept = newKept()
	up := newUplink(p.k, &LookoutOf{})
	p.k.up = up
	assert.Equal(t, clearly, others{p}.Unread(loop.Marks{}, false), "it can't be asked")
	removal := loop.Removal{Ref: horn, Kept: true, Intent: loop.Intent{Kind: run.Sync}, Asked: loop.Marks{}}
	_, err := p.spare(removal)
	require.NoError(t, err, "what was begun goes on")

	peer := link.New(t.Context(), there, says{})
	up.mu.Lock()
	up.peer = peer
	up.mu.Unlock()
	go func() { _ = service.Run() }()
	go func() { _ = peer.Run() }()
	clear := func() bool { return others{p}.Unread(loop.Marks{}, false) == "" }
	spared := make(chan error, 1)
	go func() {
		_, err := p.spare(removal)
		spared <- err
	}()
	assert.Never(t, clear, 10*unreadEvery, unreadEvery, "the other one has not read it")
	assert.Empty(t, spared)
	other.Hears().Taken.Store(1)
	require.NoError(t, <-spared)
	require.Eventually(t, clear, 10*time.Second, time.Millisecond)
	assert.True(t, clear(), "and need not be asked again")
	p.Hears().Taken.Add(1)
	assert.False(t, clear(), "before it has read something else")
	require.Eventually(t, clear, 10*time.Second, time.Millisecond)
}

// TestTheNewerViewStays: an answer that was long in coming says nothing any more, nor does what came by a connection that is gone.
func TestTheNewerViewStays(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.k.kept = newKept()
	p.lookedAfter(t, says{})
	by := p.cluster.away.now()
	view := func(made uint64, says string) *standing.View { return &standing.View{Made: made, Says: says} }
	for _, c := range []struct {
		by   *link.Peer
		made uint64
		say  string
		want string
	}{
		{by, 5, "drifted", "drifted"},
		{by, 4, "in step", "drifted"},
		{&link.Peer{}, 6, "of before", "drifted"},
		{by, 6, "restored", "restored"},
	} {
		p.shown(c.by, view(c.made, c.say))
		assert.Equal(t, c.want, p.Placement.View().Says, c.say)
	}
	p.lookedAt(standing.AsOf{At: time.Unix(7, 0)})
	assert.Equal(t, time.Unix(7, 0), p.View().Repository.At)
	assert.Equal(t, "restored", p.View().Says)
	p.lookedAfter(t, says{})
	p.shown(p.cluster.away.now(), view(1, "begun anew"))
	assert.Equal(t, "begun anew", p.View().Says, "by a lookout that counts from the beginning")
}

// TestALookoutIsToldThatARepositoryIsBack, though it has not said yet what became of it when that was out of reach: it would go by that until the
// look after the next.
func TestALookoutIsToldThatARepositoryIsBack(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.k.kept = newKept()
	told := make(chan string, 9)
	p.lookedAfter(t, eventKinds{told: told})
	p.Show(&standing.View{Repository: standing.AsOf{Known: true}}, nil)
	same := loop.WasSame{Name: p.Ward.From.Repo, AsOf: standing.AsOf{Known: true}}
	p.passOn(same, loop.Filed{})
	p.passOn(loop.WasRead{Name: same.Name, AsOf: standing.AsOf{Problem: "out of reach"}}, loop.Filed{})
	p.passOn(same, loop.Filed{})
	assert.Equal(t, "was_same", <-told)
	p.passOn(same, loop.Filed{})
	p.tellEvent(loop.Forgotten{})
	assert.Equal(t, "forgotten", <-told, "where nothing is another nothing is told")
}

// TestWhoeverIsToldANumberFindsTheEntry: a lookout's entry comes by another way than its answer, and vigila sync and restore, which follow it, said that there is
// none.
func TestWhoeverIsToldANumberFindsTheEntry(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.k.kept = newKept()
	p.lookedAfter(t, says{answer: 1})
	time.AfterFunc(100*time.Millisecond, func() {
		assert.NoError(t, p.k.store.Commit(t.Context(), p.ID, record.AddEntry{Entry: logbook.Entry{Number: 1, Placement: p.ID, Kind: run.Sync, Started: time.Now()}}))
	})
	got := p.wishThere(loop.Wished{Ticket: 1, Wish: loop.Hold{By: "operator"}})
	require.NoError(t, got.Err)
	assert.Equal(t, 1, got.Number)
	last, err := p.k.ledger.LastNumber(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, last)
}

// eventKinds notes which events it is told.
type eventKinds struct {
	says
	told chan string
}

func (k eventKinds) Told(_ string, args link.Raw) error {
	return told(args, func(ev wardEvent) { k.told <- ev.Kind })
}

// hears keeps the views that it is told of.
type hears struct {
	says
	views chan toldView
}

func (h hears) Told(_ string, args link.Raw) error {
	return told(args, func(t toldView) { h.views <- t })
}

// TestAWardWithTooMuchAstrayIsToldOf, without that, and so are those after it.
func TestAWardWithTooMuchAstrayIsToldOf(t *testing.T) {
	p := placed(t, ward.Keep{})
	other := neighbour(p)
	v := &standing.View{ID: "w@quay", Ward: p.Ward, Says: "Drifted", Drifted: 40}
	for range v.Drifted {
		v.Astray = append(v.Astray, standing.Object{Drift: []compare.Difference{{Path: "data.tides", To: strings.Repeat("x", 1<<20)}}})
	}
	p.Show(v, nil)
	here, there := net.Pipe()
	h := hears{views: make(chan toldView, 2)}
	lookout, service := link.New(t.Context(), here, says{}), link.New(t.Context(), there, h)
	go func() { _ = lookout.Run() }()
	go func() { _ = service.Run() }()
	up := newUplink(p.k, &LookoutOf{})
	l := p.k.Listen()
	defer l.Close()
	ctx, end := context.WithCancel(t.Context())
	defer end()
	go up.tellViews(ctx, lookout, l, []string{p.ID, other.ID})
	got := <-h.views
	assert.Equal(t, "w@quay", got.Ward)
	assert.Equal(t, 40, got.View.Drifted)
	assert.Empty(t, got.View.Astray)
	assert.Equal(t, "other@quay", (<-h.views).Ward)
}

// TestRunsOfALookoutAreCountedOnce: those that have ended, of its own wards, by words that there are.
func TestRunsOfALookoutAreCountedOnce(t *testing.T) {
	p := placed(t, ward.Keep{})
	p.k.kept = newKept()
	p.lookedAfter(t, says{})
	require.NoError(t, p.k.store.PutLookout(t.Context(), record.Lookout{Cluster: "quay", Token: "t", Until: time.Now().Add(time.Hour)}))
	n := int64(0)
	write := func(id, kind string, w any) record.Outgoing {
		n++
		body, err := json.Marshal(w)
		require.NoError(t, err)
		return record.Outgoing{N: n, Placement: id, Kind: kind, Body: body}
	}
	entry := logbook.Entry{Number: 1, Placement: "w@quay", Kind: run.Sync, Outcome: run.Done}
	odd := entry
	odd.Outcome = "splendid"
	all := []record.Outgoing{write("w@quay", "add_entry", record.AddEntry{Entry: entry}), write("w@quay", "end_entry", record.EndEntry{Entry: entry}), write("w@quay", "end_entry", record.EndEntry{Entry: odd}), write("other@quay", "end_entry", record.EndEntry{Entry: entry})}
	for range 2 { // an answer that was lost: they come again
		_, err := p.cluster.away.took(t.Context(), toldWrites{all})
		require.NoError(t, err)
	}
	families, err := p.k.metrics.registry.Gather()
	require.NoError(t, err)
	counted := map[string]float64{}
	for _, f := range families {
		for _, m := range f.GetMetric() {
			if f.GetName() == "vigila_runs_total" {
				counted[m.String()] = m.GetCounter().GetValue()
			}
		}
	}
	assert.Equal(t, []float64{1}, slices.Collect(maps.Values(counted)))
}

// TestNobodyIsReadForWhoIsGone: a lookout that has called anew asks again; of what it asked for before nothing more is begun.
func TestNobodyIsReadForWhoIsGone(t *testing.T) {
	p := placed(t, ward.Keep{}) // which has nothing to read from
	p.asked.Lock()
	ctx, gone := context.WithCancel(t.Context())
	got := make(chan error, 1)
	go func() {
		_, err := p.readOnce(ctx, standing.AsOf{})
		got <- err
	}()
	gone()
	p.asked.Unlock()
	assert.ErrorIs(t, <-got, context.Canceled)
}

// TestTheEndOfARemovalIsToldUntilItIsTakenIn: a service that is told while it takes the lookout in may not come through with it.
func TestTheEndOfARemovalIsToldUntilItIsTakenIn(t *testing.T) {
	p := placed(t, ward.Keep{})
	here, there := net.Pipe()
	up := newUplink(p.k, &LookoutOf{})
	p.k.up = up
	told := make(chan string, 1)
	up.peer = link.New(t.Context(), here, says{})
	service := link.New(t.Context(), there, words{told: told})
	go func() { _ = up.peer.Run() }()
	go func() { _ = service.Run() }()
	p.finish()
	assert.Equal(t, "finished", <-told)
	require.Eventually(t, func() bool {
		return slices.ContainsFunc(p.take(), func(ev loop.Event) bool { _, is := ev.(loop.Unfinished); return is })
	}, 10*time.Second, 10*time.Millisecond)
}

// words keeps what it is told of.
type words struct {
	says
	told chan string
}

func (w words) Told(method string, _ link.Raw) error {
	w.told <- method
	return nil
}

// ashoreOf is the keeper of a lookout of quay, whose cluster does not answer.
func ashoreOf(t *testing.T, of LookoutOf) *Keeper {
	t.Helper()
	store, err := record.Open(t.Context(), filepath.Join(t.TempDir(), "data"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, store.Close()) })
	require.NoError(t, store.PutCluster(t.Context(), record.Cluster{Name: "quay", ClusterMore: record.ClusterMore{Server: "https://127.0.0.1:1"}, Token: "t", Labels: map[string]string{}}))
	of.Service, of.Digest = "abcdefgh23", make([]byte, 32)
	k, err := New(t.Context(), store, Options{MirrorDir: t.TempDir(), Lookout: &of}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(k.Close)
	return k
}

// TestLabelsDecideAtALookoutToo: what a ward is like in a cluster may follow from the labels of that, which change while it is kept.
func TestLabelsDecideAtALookoutToo(t *testing.T) {
	var told []map[string]string
	k := ashoreOf(t, LookoutOf{Relabelled: func(l map[string]string) { told = append(told, l) }})
	w := keepWard{Name: "w", File: "vigila: ward/v1\nname: w\nfrom: {repo: tides, path: app}\ninto: {cluster: quay, namespace: tides}\nkeep: {sync: auto}\nset:\n  - where: {labels: {tier: production}}\n    keep: {sync: ask}\n"}
	for _, c := range []struct {
		labels map[string]string
		want   ward.Sync
		anew   bool
	}{
		{map[string]string{}, ward.Auto, true},
		{map[string]string{"tier": "rehearsal"}, ward.Auto, false},
		{map[string]string{"tier": "production"}, ward.Ask, true},
		{map[string]string{"tier": "production"}, ward.Ask, false},
		{map[string]string{}, ward.Auto, true},
	} {
		before, _ := k.one("w@quay")
		w.Labels = c.labels
		require.NoError(t, k.up.keep(t.Context(), overTheWire(t, w)))
		p, err := k.one("w@quay")
		require.NoError(t, err)
		assert.Equal(t, c.want, p.Ward.Keep.Sync, "%v", c.labels)
		assert.Equal(t, c.anew, p != before, "%v", c.labels)
	}
	assert.Equal(t, []map[string]string{{"tier": "rehearsal"}, {"tier": "production"}, {}}, told, "so that it is remembered")
}

// TestWhatIsBeingRemovedDoesNotComeBack: the lookout has let go of the ward, and the connection ended before the service heard of it. It is introduced
// again, as what it is.
func TestWhatIsBeingRemovedDoesNotComeBack(t *testing.T) {
	k := ashoreOf(t, LookoutOf{})
	leaving := logbook.Leaving{By: "operator", Why: "the pier is closed", At: time.Now().UTC().Truncate(time.Millisecond), Dismantle: true}
	w := overTheWire(t, keepWard{Name: "w", File: "vigila: ward/v1\nname: w\nfrom: {repo: tides, path: app}\ninto: {cluster: quay, namespace: tides}\n"})
	require.NoError(t, k.up.keep(t.Context(), w))
	p, err := k.one("w@quay")
	require.NoError(t, err)
	k.changing.Lock()
	err = k.retire(t.Context(), p, leaving)
	k.changing.Unlock()
	require.NoError(t, err)
	w.Leaving = &leaving
	require.NoError(t, k.up.keep(t.Context(), w))
	p, err = k.one("w@quay")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return p.View().Leaving != nil }, 10*time.Second, time.Millisecond)
	assert.Equal(t, leaving.Why, p.View().Leaving.Why)
	assert.True(t, p.View().Leaving.Dismantle)

	k = ashoreOf(t, LookoutOf{}) // one that lost its record: what of the ward is still there it does not know
	require.NoError(t, k.up.keep(t.Context(), w))
	p, err = k.one("w@quay")
	require.NoError(t, err)
	_, err = p.want(t.Context(), loop.BeWritten{})
	require.NoError(t, err)
	assert.Nil(t, p.View().Leaving)
}

// TestALookoutWorksForItsService: what it applies is the service's, and not its own; another lookout of the service may have the cluster next.
func TestALookoutWorksForItsService(t *testing.T) {
	store, err := record.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	k, err := New(t.Context(), store, Options{MirrorDir: t.TempDir(), Lookout: &LookoutOf{Service: "abcdefgh23", Digest: []byte("0123456789abcdef")}}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() {
		k.Close()
		assert.NoError(t, store.Close())
	})
	require.NotEqual(t, "abcdefgh23", store.ServiceID())
	p := k.newPlacement(record.Placement{ID: "w@quay"}, ward.Ward{Name: "w"}, record.Ward{}, &clusterLoop{k: k, conf: record.Cluster{Name: "quay"}}, "")
	assert.Equal(t, "abcdefgh23", p.Service)
	assert.Equal(t, "abcdefgh23", k.readsOf(p.Ward, "", roster.Limits{}, nil, p.cluster).Service)
}
