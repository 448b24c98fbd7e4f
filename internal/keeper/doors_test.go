package keeper

import (
	"bytes"
	"context"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
)

// logged is what a log says; the keeper's goroutines write it while it is read.
type logged struct {
	mu  sync.Mutex
	all bytes.Buffer
}

func (l *logged) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.all.Write(b)
}

// take is what was written since the last time.
func (l *logged) take() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	defer l.all.Reset()
	return l.all.String()
}

// opened is a keeper with an empty record of its own, and its log.
func opened(t *testing.T) (*Keeper, *logged) {
	t.Helper()
	store, err := record.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	log := &logged{}
	k, err := New(t.Context(), store, Options{MirrorDir: t.TempDir()}, slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: slog.LevelDebug})))
	require.NoError(t, err)
	t.Cleanup(func() {
		k.Close()
		assert.NoError(t, store.Close())
	})
	return k, log
}

func TestARunIsAskedForInWaysThatMeanSomething(t *testing.T) {
	for _, c := range []struct {
		ask  Ask
		want string
	}{
		{Ask{Kind: run.Sync}, ""},
		{Ask{Kind: run.Sync, Only: []string{"ConfigMap/a"}, Revision: "main", Retry: true}, ""},
		{Ask{Kind: run.Sync, Reapply: true}, ""},
		{Ask{Kind: run.Restore}, ""},
		{Ask{Kind: run.Rollback, ToEntry: 3, Tasks: true}, ""},
		{Ask{}, `there is no run of kind ""`},
		{Ask{Kind: run.Dismantle}, "there is no run of kind"},
		{Ask{Kind: run.Rollback}, "a rollback needs to_entry"},
		{Ask{Kind: run.Rollback, ToEntry: -1}, "a rollback needs to_entry"},
		{Ask{Kind: run.Sync, ToEntry: 3}, "to_entry belongs to a rollback"},
		{Ask{Kind: run.Rollback, ToEntry: 3, Only: []string{"ConfigMap/a"}}, ""},
		{Ask{Kind: run.Sync, Allow: []string{"mass-removal", "order", "Namespace/a"}}, ""},
		{Ask{Kind: run.Sync, Allow: []string{"mass-remval"}}, `there is no guard "mass-remval"; did you mean mass-removal?`},
		{Ask{Kind: run.Rollback, ToEntry: 3, Tasks: true, Only: []string{"ConfigMap/a"}}, "choose one of them"},
		{Ask{Kind: run.Restore, Only: []string{"a"}}, "only belongs to a sync or a rollback"},
		{Ask{Kind: run.Restore, Revision: "main"}, "belong to a sync"},
		{Ask{Kind: run.Restore, Reapply: true}, "belong to a sync"},
		{Ask{Kind: run.Sync, Tasks: true}, "tasks belongs to a rollback"},
		{Ask{Kind: run.Sync, Reapply: true, Only: []string{"a"}}, "choose one of them"},
	} {
		err := c.ask.Check()
		if c.want == "" {
			assert.NoError(t, err, "%+v", c.ask)
		} else {
			assert.ErrorContains(t, err, c.want, "%+v", c.ask)
		}
	}
}

// TestWhoDidWhatIsTold: of what a person asks for, done or not; of what a roster declares, only what it changes.
func TestWhoDidWhatIsTold(t *testing.T) {
	k, log := opened(t)
	made, err := Do(t.Context(), k, Actor{Name: "operator"}, MakeToken{Name: "night-watch", Role: "reader", For: time.Hour})
	require.NoError(t, err)
	said := log.take()
	assert.Contains(t, said, `msg="asked for, and done" what=make token=night-watch by=operator`)
	assert.NotContains(t, said, made.Text)
	_, err = Do(t.Context(), k, Actor{Name: "operator"}, HoldWard{Ward: "nobody", Why: "gale"})
	require.Error(t, err)
	assert.Contains(t, log.take(), `msg="asked for, and not done" what=hold ward=nobody by=operator why="there is no ward`)
	by := Actor{Roster: "top"}
	charts := declareRepo{ward.Repo{Name: "charts", URL: "https://charts.brindle.example", Charts: true}}
	_, err = Do(t.Context(), k, by, charts)
	require.NoError(t, err)
	assert.Contains(t, log.take(), `what=declare repo=charts by="roster top"`)
	_, err = Do(t.Context(), k, by, charts)
	require.NoError(t, err)
	assert.NotContains(t, log.take(), "asked for", "it was so already")
}

// TestADeclaredRepositoryIsCheckedAsOneAddedByHand by the same table.
func TestADeclaredRepositoryIsCheckedAsOneAddedByHand(t *testing.T) {
	k, _ := opened(t)
	for _, c := range []struct {
		repo record.Repo
		want string
	}{
		{record.Repo{Name: "a b", URL: "https://git.brindle.example/x"}, "name: "},
		{record.Repo{Name: "local", URL: "/etc"}, "starts with none of"},
		{record.Repo{Name: "helper", URL: "ext::sh -c id"}, "starts with none of"},
		{record.Repo{Name: "charts", URL: "ftp://charts.brindle.example", RepoMore: record.RepoMore{Charts: true}}, "is no chart repository's"},
		{record.Repo{Name: "signed", URL: "https://git.brindle.example/x", RepoMore: record.RepoMore{Signers: "no key"}}, "sign"},
	} {
		_, err := Do(t.Context(), k, Actor{Name: "operator"}, AddRepo{Repo: c.repo})
		require.ErrorContains(t, err, c.want, c.repo.Name)
		d := ward.Repo{Name: c.repo.Name, URL: c.repo.URL, Charts: c.repo.Charts}
		if c.repo.Signers != "" {
			d.Signers = []string{c.repo.Signers}
		}
		_, declared := Do(t.Context(), k, Actor{Roster: "top"}, declareRepo{d})
		require.Error(t, declared, c.repo.Name)
		assert.Equal(t, err.Error(), declared.Error())
	}
	assert.Empty(t, k.Repos())
}

// TestADeclaredStoreBearsNothingSecret: what it is signed in to with is a person's, and stays with the address that it was given for.
func TestADeclaredStoreBearsNothingSecret(t *testing.T) {
	k, _ := opened(t)
	ctx, by := t.Context(), Actor{Roster: "top"}
	d := ward.Store{Name: "harbour", URL: "https://secrets.brindle.example", Owners: []string{"signals"}}
	_, err := Do(ctx, k, by, declareStore{d})
	require.ErrorContains(t, err, "store harbour is declared, but nothing to sign in to it with was given yet; that is never in git: vigila store add harbour https://secrets.brindle.example --token-file FILE")
	_, err = k.ValueStore("harbour")
	require.Error(t, err)

	c := record.ValueStore{Name: "harbour", Secret: "a-token", ValueStoreMore: record.ValueStoreMore{Kind: record.KVStore, URL: d.URL, Mount: "secret", Every: time.Hour}}
	require.NoError(t, k.checkStore(&c))
	require.NoError(t, k.store.PutValueStore(ctx, c))
	require.NoError(t, k.openStore(c))
	for range 2 { // what is so already stays so
		_, err = Do(ctx, k, by, declareStore{d})
		require.NoError(t, err)
	}
	s, err := k.ValueStore("harbour")
	require.NoError(t, err)
	assert.Equal(t, []any{"top", []string{"signals"}, "a-token"}, []any{s.Roster, s.Owners, k.storeLoopOf("harbour").conf.Secret})

	elsewhere := d
	elsewhere.URL = "https://other.brindle.example"
	_, err = Do(ctx, k, by, declareStore{elsewhere})
	require.ErrorContains(t, err, "another place needs a person: vigila store add harbour")
	k.rosters["top"] = &rosterLoop{}
	_, err = Do(ctx, k, Actor{Roster: "another"}, declareStore{d})
	require.ErrorContains(t, err, "store harbour is declared by roster top already")
	delete(k.rosters, "top")
	_, err = Do(ctx, k, Actor{Roster: "another"}, declareStore{d})
	require.NoError(t, err, "a roster that is no more declares nothing")
	_, err = Do(ctx, k, by, declareStore{ward.Store{Name: "vault", Cluster: "nowhere", Namespace: "n"}})
	require.ErrorContains(t, err, "nowhere")
	_, err = Do(ctx, k, by, declareStore{ward.Store{Name: "plain", URL: "http://secrets.brindle.example"}})
	require.ErrorContains(t, err, "over plain HTTP")
	_, err = Do(ctx, k, by, declareStore{ward.Store{Name: "own", URL: "https://secrets.brindle.example", SignIn: "kubernetes", Role: "vigila"}})
	require.NoError(t, err, "as a service account it needs nothing secret")
	all, err := k.store.ValueStores(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "a-token", all[0].Secret)
}

func TestTheLastAdminStays(t *testing.T) {
	k, _ := opened(t)
	ctx, by := context.Background(), Actor{Name: "one"}
	for _, name := range []string{"one", "two"} {
		_, err := Do(ctx, k, by, MakeToken{Name: name, Role: "admin", For: time.Hour})
		require.NoError(t, err)
	}
	results := make(chan error, 2)
	for _, name := range []string{"one", "two"} {
		go func() {
			_, err := Do(ctx, k, by, EndToken{Name: name})
			results <- err
		}()
	}
	var refused int
	for range 2 {
		if err := <-results; err != nil {
			assert.ErrorContains(t, err, "is the last of an admin")
			refused++
		}
	}
	assert.Equal(t, 1, refused, "of two that are ended at once one stays")
}

// TestWhatIsLeftOutOfAClusterStays: whoever changes one thing of it takes away nothing else, and what a roster declares is changed there.
func TestWhatIsLeftOutOfAClusterStays(t *testing.T) {
	k := placed(t, ward.Keep{}).k
	was := record.Cluster{Name: "holm", Labels: map[string]string{"piers": "lit"}, ClusterMore: record.ClusterMore{Links: map[string]string{"Runbook": "https://docs.brindle.example"}, About: "An islet.", Roster: "moorings", Only: []string{"piers"}, May: []string{"piers"}}}
	old := &clusterLoop{k: k, conf: was}
	more := func(change func(*record.Cluster)) record.Cluster {
		c := record.Cluster{Name: "holm"}
		change(&c)
		return c
	}
	for name, c := range map[string]struct {
		said record.Cluster
		want func(*record.Cluster) // beside what was
	}{
		"nothing":               {more(func(*record.Cluster) {}), func(*record.Cluster) {}},
		"other labels":          {more(func(c *record.Cluster) { c.Labels = map[string]string{"a": "b"} }), func(c *record.Cluster) { c.Labels = map[string]string{"a": "b"} }},
		"no labels any more":    {more(func(c *record.Cluster) { c.Labels = map[string]string{} }), func(c *record.Cluster) { c.Labels = map[string]string{} }},
		"what it is":            {more(func(c *record.Cluster) { c.About = "A rock." }), func(c *record.Cluster) { c.About = "A rock." }},
		"other namespaces":      {more(func(c *record.Cluster) { c.Only = []string{"fares"} }), func(c *record.Cluster) { c.Only = []string{"fares"} }},
		"all namespaces":        {more(func(c *record.Cluster) { c.Only = []string{"*"} }), func(c *record.Cluster) { c.Only = nil }},
		"another roster's word": {more(func(c *record.Cluster) { c.Roster, c.May = "x", []string{"x"} }), func(*record.Cluster) {}},
	} {
		got, err := k.heldTo(c.said, old)
		require.NoError(t, err, name)
		want := was
		c.want(&want)
		assert.Equal(t, want, got, name)
	}
	fresh, err := k.heldTo(record.Cluster{Name: "wick"}, nil)
	require.NoError(t, err)
	assert.Equal(t, record.Cluster{Name: "wick", Labels: map[string]string{}}, fresh)
	_, err = k.heldTo(more(func(c *record.Cluster) { c.Only = []string{"*", "fares"} }), old)
	assert.ErrorContains(t, err, `namespaces: "*" is not a name`)
	k.rosters["moorings"] = &rosterLoop{}
	_, err = k.heldTo(more(func(c *record.Cluster) { c.Labels = map[string]string{"a": "b"} }), old)
	assert.ErrorContains(t, err, "the labels of cluster holm are declared by roster moorings; change them there")
}

// TestNamespacesAndLabelsAtOnce: what is declared in a cluster is held against the namespaces that it has by now, whatever else of it is another.
func TestNamespacesAndLabelsAtOnce(t *testing.T) {
	for name, c := range map[string]struct {
		declared ward.Cluster
		want     bool
	}{
		"namespaces":            {ward.Cluster{Name: "quay", Namespaces: []string{"fares"}}, true},
		"labels":                {ward.Cluster{Name: "quay", Labels: map[string]string{"tier": "rehearsal"}}, false},
		"namespaces and labels": {ward.Cluster{Name: "quay", Labels: map[string]string{"tier": "rehearsal"}, Namespaces: []string{"fares"}}, true},
	} {
		p := placed(t, ward.Keep{})
		p.k.kept = newKept()
		p.k.kept.enter(p)
		p.k.clusters = map[string]*clusterLoop{"quay": p.cluster}
		p.take()
		_, err := p.k.declareCluster(t.Context(), "moorings", c.declared)
		require.NoError(t, err, name)
		got := slices.ContainsFunc(p.take(), func(ev loop.Event) bool { _, is := ev.(loop.Forgotten); return is })
		assert.Equal(t, c.want, got, name)
	}
}

// TestWhatIsSaidWhileAServerIsAskedHolds: a repository's server may take half a minute to answer, and whom the repository trusts may be said meanwhile.
func TestWhatIsSaidWhileAServerIsAskedHolds(t *testing.T) {
	k, _ := opened(t)
	r := record.Repo{Name: "moorings", URL: "https://127.0.0.1:1/moorings.git"}
	require.NoError(t, k.openRepo(r))
	l, err := k.source("moorings")
	require.NoError(t, err)
	was := l.Record()
	bounded := was
	bounded.Signers = "harbour-ops ssh-ed25519 AAAA"
	l.Change(bounded)
	_, err = k.placeRepo(t.Context(), r, l, was)
	require.ErrorContains(t, err, "was changed meanwhile")
	assert.Equal(t, bounded.Signers, l.Record().Signers)
	_, err = k.placeRepo(t.Context(), r, nil, record.Repo{})
	require.ErrorContains(t, err, "was changed meanwhile", "somebody has added it")

	require.NoError(t, k.openStore(record.ValueStore{Name: "sealed", Secret: ageKey(t), ValueStoreMore: record.ValueStoreMore{Kind: record.FilesStore, Repo: "moorings", Ref: "main", Every: time.Hour}}))
	require.ErrorContains(t, k.removeRepo(t.Context(), "moorings"), "holds the values of store sealed")
}

func ageKey(t *testing.T) string {
	t.Helper()
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	return id.String()
}

// TestARosterBoundsAClusterWhileItIsAsked: what was known before it was asked is not what holds by now.
func TestARosterBoundsAClusterWhileItIsAsked(t *testing.T) {
	k, _ := opened(t)
	k.openCluster(record.Cluster{Name: "quay", Labels: map[string]string{}})
	old := k.clusterNamed("quay")
	asked := record.Cluster{Name: "quay", ClusterMore: record.ClusterMore{Server: "https://127.0.0.1:1"}}
	c, err := k.heldTo(asked, old)
	require.NoError(t, err)
	k.mu.Lock()
	old.conf.May = []string{"ticketing"}
	k.mu.Unlock()
	c, err = k.heldNow(asked, c, old)
	require.NoError(t, err)
	assert.Equal(t, []string{"ticketing"}, c.May)
	assert.Equal(t, asked.Server, c.Server)
	_, err = k.heldNow(asked, c, nil)
	assert.ErrorContains(t, err, "was changed meanwhile")
}

// TestNobodyElseWritesTheEffectFirst: what begins the comment is another for each request, and nothing that was told before says it.
func TestNobodyElseWritesTheEffectFirst(t *testing.T) {
	k, _ := opened(t)
	l := &hostLoop{k: k, conf: record.Host{Repo: "moorings"}}
	assert.Equal(t, l.mark(1), l.mark(1))
	assert.NotEqual(t, l.mark(1), l.mark(2))
	assert.NotContains(t, l.mark(1), k.service)
}
