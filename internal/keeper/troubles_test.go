package keeper

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/record"
)

// TestWhatIsWrongBesideWards: a proposal belongs to the wards that it touches, or to the roster that its files are of; a store that can't be read and a roster
// that needs somebody are told of.
func TestWhatIsWrongBesideWards(t *testing.T) {
	k, _ := opened(t)
	propose := func(o proposal.Origin, title string) string {
		n, err := k.store.AddProposal(t.Context(), proposal.Proposal{Repo: "tides", Branch: title, Standing: proposal.Open, Origin: o, More: proposal.More{Title: title, By: "operator"}}, nil)
		require.NoError(t, err)
		return fmt.Sprint(ofProposal, n)
	}
	back, filed := propose(proposal.Origin{Kind: proposal.Back, Of: "gate@quay", Want: "x"}, "back"), propose(proposal.Origin{Kind: proposal.Files, Of: "wards/new.yaml", Want: "y"}, "new")
	l := &rosterLoop{k: k, conf: roster.Roster{Name: "sound", Repo: "tides", Path: "wards"}}
	l.State.AsOf.Problem = "the repository is away"
	k.mu.Lock()
	k.rosters["sound"] = l
	k.mu.Unlock()
	all, _, err := k.troubles(t.Context())
	require.NoError(t, err)
	got := map[string]alert.Trouble{}
	for _, x := range all {
		got[x.Subject] = x
	}
	assert.Equal(t, "Proposed by operator", got[back].By)
	assert.Equal(t, "new: waits for a review", got[filed].Text)
	assert.Equal(t, alert.Of{Roster: "sound"}, got[filed].Of)
	assert.Equal(t, alert.Blind, got["roster sound"].Topic)
	assert.Equal(t, "repository tides", got["roster sound"].Cause)

	views := []*standing.View{{ID: "gate@quay", Cluster: "quay", Ward: &ward.Ward{Name: "gate", Owner: "ticketing", From: ward.From{Repo: "tides", Path: "apps/gate"}}}, {ID: "gauge@quay", Cluster: "quay", Ward: &ward.Ward{Name: "gauge", From: ward.From{Repo: "tides", Path: "apps/gate-2"}}}}
	gate := []alert.Of{{Ward: "gate", Owner: "ticketing", Cluster: "quay"}}
	assert.Equal(t, gate, k.touched(views, proposal.Proposal{Repo: "tides", Origin: proposal.Origin{Kind: proposal.Back, Of: "gate@quay"}}))
	assert.Equal(t, gate, k.touched(views, proposal.Proposal{Repo: "tides", Origin: proposal.Origin{Kind: proposal.Files, Of: "apps/gate/d.yaml"}}), "not of what only begins alike")
	assert.Empty(t, k.touched(views, proposal.Proposal{Repo: "other", Origin: proposal.Origin{Kind: proposal.Files, Of: "apps/gate/d.yaml"}}))
	assert.Empty(t, k.touched(views, proposal.Proposal{Origin: proposal.Origin{Kind: proposal.Lane, Of: "gone first"}}))
	k.mu.Lock()
	delete(k.rosters, "sound")
	k.mu.Unlock()
}

func TestWhichTokensEnd(t *testing.T) {
	now := time.Now()
	day := 24 * time.Hour
	token := func(name string, made, expires, used time.Duration) record.Token {
		out := record.Token{Name: name, Made: now.Add(made), Used: now.Add(used)}
		if expires != 0 {
			out.Expires = now.Add(expires)
		}
		return out
	}
	var names []string
	for _, e := range tokenEnds([]record.Token{token("pipeline", -80*day, 10*day, -time.Hour), token("long", -80*day, 20*day, -time.Hour), token("trial", -1*day, 2*day, -time.Hour),
		token("unused", -80*day, 10*day, -60*day), token("endless", -80*day, 0, -time.Hour), token("over", -90*day, -time.Hour, -2*time.Hour)}) {
		if !endsSoon(e.at) {
			assert.Equal(t, "long", e.name)
			continue
		}
		names = append(names, e.subject)
		assert.Contains(t, e.todo, "vigila token make "+e.name+"-2")
		assert.Contains(t, e.text, map[bool]string{true: "ended on", false: "ends on"}[e.name == "over"])
	}
	assert.Equal(t, []string{"token pipeline", "token over"}, names)
}

// TestAStoresTokenEnds: whoever is told of everything hears it before it does.
func TestAStoresTokenEnds(t *testing.T) {
	k, _ := opened(t)
	var away atomic.Bool
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		fmt.Fprintf(w, `{"data": {"expire_time": %q}}`, time.Now().Add(3*24*time.Hour).UTC().Format(time.RFC3339))
	}))
	t.Cleanup(server.Close)
	_, err := AddStore{record.ValueStore{Name: "harbour", Secret: "sesame", ValueStoreMore: record.ValueStoreMore{Kind: record.KVStore, URL: server.URL, Mount: "secret", SignIn: "token", Every: time.Minute}}}.do(t.Context(), k, Actor{})
	require.NoError(t, err)
	var found alert.Trouble
	require.Eventually(t, func() bool {
		all, _, err := k.troubles(t.Context())
		require.NoError(t, err)
		for _, x := range all {
			if x.Subject == "store harbour" {
				found = x
			}
		}
		return found.Subject != ""
	}, 10*time.Second, 10*time.Millisecond)
	assert.Equal(t, alert.CredentialsEnd, found.Topic)
	assert.Contains(t, found.Text, "its token ends on ")
	assert.Contains(t, found.Todo, "vigila store add harbour "+server.URL+" --token-file FILE")

	// It is away when the service starts again: that its token ends is not over.
	away.Store(true)
	old := k.storeLoopOf("harbour")

	require.NoError(t, k.openStore(old.conf))
	require.Eventually(t, func() bool {
		all, unknown, err := k.troubles(t.Context())
		require.NoError(t, err)
		return unknown["store harbour"] && slices.ContainsFunc(all, func(x alert.Trouble) bool { return x.Subject == "store harbour" && x.Topic == alert.Blind })
	}, 10*time.Second, 10*time.Millisecond)
}

// TestWhoStopsReadingSaysNothingOfAStore: a run that is stopped while a value is read leaves the store as it was, and what everybody else knows of it.
func TestWhoStopsReadingSaysNothingOfAStore(t *testing.T) {
	k, _ := opened(t)
	p := k.newPlacement(record.Placement{ID: "w@quay"}, ward.Ward{Name: "w"}, record.Ward{}, &clusterLoop{k: k, conf: record.Cluster{Name: "quay"}}, "")
	p.reading = &reading.Ward{Ward: p.Ward}
	asked, hang := make(chan struct{}), make(chan struct{})
	var slow atomic.Bool
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if slow.Load() {
			close(asked)
			<-hang
		}
		_, _ = w.Write([]byte(`{"data": {"data": {"key": "kelp-forest-71"}, "metadata": {"version": 3}, "current_version": 3, "versions": {"3": {}}}}`))
	}))
	t.Cleanup(server.Close)
	t.Cleanup(func() { close(hang) })
	_, err := AddStore{record.ValueStore{Name: "harbour", Secret: "sesame", ValueStoreMore: record.ValueStoreMore{Kind: record.KVStore, URL: server.URL, Mount: "secret", SignIn: "token", Every: time.Hour}}}.do(t.Context(), k, Actor{})
	require.NoError(t, err)
	at := secret.Place{Store: "harbour", Path: "gate"}
	l := k.storeLoopOf("harbour")
	require.Eventually(t, func() bool { return l.known(at.Path).Looked }, 10*time.Second, 10*time.Millisecond)
	slow.Store(true)
	ctx, stop := context.WithCancel(t.Context())
	read := make(chan error, 1)
	go func() { _, err := (filler{p}).values(ctx, at); read <- err }()
	<-asked
	stop()
	require.Error(t, <-read)
	known := l.known(at.Path)
	assert.Empty(t, known.Problem, "nobody knows less of the store for it")
	assert.Len(t, known.Keys, 1)
}

// TestNoFormOfAValueIsTold: errors of a cluster quote what they refuse, as Go and JSON write a text of many lines into one.
func TestNoFormOfAValueIsTold(t *testing.T) {
	value := "first line \"quoted\"\nsecond <line>\tend"
	hide := hider(secret.Values{secret.Place{Store: "harbour", Path: "gate"}: {"key": value}}, object.Object{}, func(string) string { return "digest" })
	written, err := json.Marshal(value)
	require.NoError(t, err)
	for _, text := range []string{value, fmt.Sprintf("%q", value), string(written), base64.StdEncoding.EncodeToString([]byte(value))} {
		got := hide("Invalid value: " + text + ": is none")
		assert.Contains(t, got, "secret digest", text)
		assert.NotContains(t, got, "second", text)
		assert.NotContains(t, got, base64.StdEncoding.EncodeToString([]byte(value)))
	}
}
