package keeper

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/notify"
	"vigila.dev/vigila/internal/record"
)

// chat takes messages, when it takes them.
type chat struct {
	mu     sync.Mutex
	answer int
	texts  []string
}

func (c *chat) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	body, _ := io.ReadAll(r.Body)
	var in struct{ Text string }
	_ = json.Unmarshal(body, &in)
	if c.answer == http.StatusOK {
		c.texts = append(c.texts, in.Text)
	}
	w.WriteHeader(c.answer)
}

func (c *chat) told() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]string{}, c.texts...)
}

func (c *chat) answers(code int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.answer = code
}

func newChat(t *testing.T) (*chat, string) {
	c := &chat{answer: http.StatusOK}
	s := httptest.NewServer(c)
	t.Cleanup(s.Close)
	return c, s.URL
}

// alertsOf is what a roster's file declares.
func alertsOf(t *testing.T, text string) *roster.Files {
	t.Helper()
	rules, err := alert.Parse("alerts.yaml", []byte(text))
	require.NoError(t, err)
	return &roster.Files{Alerts: rules}
}

func TestWhichAlertsRostersMayDeclare(t *testing.T) {
	k, _ := opened(t)
	_, err := AddWay{record.Way{Name: "ops-chat", URL: "http://127.0.0.1:1/x", WayMore: record.WayMore{Kind: notify.Chat}}}.do(t.Context(), k, Actor{})
	require.NoError(t, err)
	_, err = AddWay{record.Way{Name: "team-chat", URL: "http://127.0.0.1:1/y", WayMore: record.WayMore{Kind: notify.Chat, Rosters: []string{"team"}}}}.do(t.Context(), k, Actor{})
	require.NoError(t, err)
	free := &rosterLoop{k: k, conf: roster.Roster{Name: "moorings"}}
	bound := &rosterLoop{k: k, conf: roster.Roster{Name: "team", Limits: roster.Limits{Namespaces: []string{"ticketing"}}}}
	for _, c := range []struct {
		by    *rosterLoop
		text  string
		want  string // the problem
		names string // that there are afterwards, and whom each is for
	}{
		{free, "vigila: alert/v1\nname: a\nto: [ops-chat]\n", "", "a everything"},
		{free, "vigila: alert/v1\nname: a\nto: [pager]\n", "there is no such way", "a everything"},
		{free, "vigila: alert/v1\nname: a\nto: [ops-chat]\n---\nvigila: alert/v1\nname: a\nto: [ops-chat]\n", "declared twice; first at alerts.yaml:1", "a everything"},
		{bound, "vigila: alert/v1\nname: a\nto: [ops-chat]\n", "declared by roster moorings already", "a everything"},
		{bound, "vigila: alert/v1\nname: b\nto: [ops-chat]\nwards: {roster: moorings}\n", "more than its roster may", "a everything"},
		{bound, "vigila: alert/v1\nname: b\nto: [ops-chat]\n", "which is not for roster team; nobody is told by it", "a everything, b of roster team"},
		{bound, "vigila: alert/v1\nname: b\nto: [team-chat]\n", "", "a everything, b of roster team"},
		{free, "vigila: alert/v1\nname: a\nto: [team-chat]\n", "which is not for roster moorings", "a everything, b of roster team"},
		{free, "vigila: alert/v1\nname: a\nto: [{ops-chat: [somebody]}]\n", "it leads to one place, not to somebody", "a everything, b of roster team"},
		{free, "", "", "b of roster team"},
	} {
		in := &roster.Files{}
		if c.text != "" {
			in = alertsOf(t, c.text)
		}
		problems := c.by.setAlerts(in)
		if c.want == "" {
			assert.Empty(t, problems, c.text)
		} else if assert.Len(t, problems, 1, c.text) {
			assert.Contains(t, problems[0].Text, c.want)
			assert.Equal(t, "alerts.yaml", problems[0].File)
		}
		for _, a := range k.Alerts() {
			if a.Name == "b" {
				for _, to := range a.To {
					assert.Equal(t, "team-chat", to.Way, "nobody else's way")
				}
			}
		}
		names := ""
		for i, a := range k.Alerts() {
			if i > 0 {
				names += ", "
			}
			names += a.Name + " " + a.Wards.String()
		}
		assert.Equal(t, c.names, names, c.text)
	}
	free.setAlerts(alertsOf(t, "vigila: alert/v1\nname: a\nto: [ops-chat]\n"))
	free.setAlerts(&roster.Files{Broken: map[string]string{"alerts.yaml": "line 3"}})
	assert.Len(t, k.Alerts(), 2, "what can't be read stays as it was")
	k.forgetAlertsOf("moorings")
	assert.Len(t, k.Alerts(), 1, "what a roster declared goes with it")
}

func TestTries(t *testing.T) {
	now := time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	made := record.Delivery{ID: "a", Made: now, Next: now}
	away := errors.New("away")
	for name, c := range map[string]struct {
		tries int
		err   error
		at    time.Duration
		next  time.Duration // 0: none
		done  bool
	}{
		"it got there":           {0, nil, 0, 0, true},
		"the first failed":       {0, away, 0, 10 * time.Second, false},
		"the third failed":       {2, away, time.Minute, time.Minute + 40*time.Second, false},
		"it failed for long":     {50, away, 5 * time.Hour, 5*time.Hour + 30*time.Minute, false},
		"it failed for a day":    {60, away, 24 * time.Hour, 0, false},
		"it will never be taken": {0, &notify.RefusedError{Text: "no such box"}, 0, 0, false},
	} {
		d := made
		d.Tries = c.tries
		got := tried(d, c.err, now.Add(c.at))
		assert.Equal(t, c.tries+1, got.Tries, name)
		assert.Equal(t, c.done, !got.Done.IsZero(), name)
		assert.Equal(t, c.next != 0, !got.Next.IsZero(), name)
		if c.next != 0 {
			assert.Equal(t, c.next, got.Next.Sub(now), name)
		}
		assert.Equal(t, c.err == nil, got.Problem == "", name)
	}
}

// TestWhatIsTold: a proposal waits for a review, which somebody is told of once, and over many looks; what was sent while nothing could be written is
// not sent again; and what is over is told after that it began.
func TestWhatIsTold(t *testing.T) {
	k, log := opened(t)
	c, at := newChat(t)
	_, err := AddWay{record.Way{Name: "ops-chat", URL: at, WayMore: record.WayMore{Kind: notify.Chat}}}.do(t.Context(), k, Actor{})
	require.NoError(t, err)
	r := alertsOf(t, "vigila: alert/v1\nname: a\nto: [ops-chat]\n").Alerts[0]
	now := time.Now()
	message := func(n string, kind alert.Kind) alert.Message {
		return alert.Message{ID: "a-" + n, Alert: "a", Kind: kind, Topic: alert.Blind, At: now, Items: []alert.Item{{Subject: "fare-gate@skerry", Text: "The cluster can't be read " + n}}}
	}
	put := func(d ...record.Delivery) { require.NoError(t, k.store.PutAlert(t.Context(), "a", alert.State{}, d)) }
	all := k.deliveries(r, []alert.Message{message("1", alert.Opened), message("2", alert.Over)})
	require.Len(t, all, 2)
	assert.Equal(t, []string{"a-1.ops-chat", "a-2.ops-chat"}, []string{all[0].ID, all[1].ID})

	c.answers(http.StatusServiceUnavailable)
	put(all...)
	rouse(k.alerts.send)
	state := func() []record.Delivery {
		out, _, err := k.Deliveries(t.Context(), "", false, 10, 0)
		require.NoError(t, err)
		return out
	}
	require.Eventually(t, func() bool { return state()[1].Tries == 1 }, 10*time.Second, 10*time.Millisecond)
	assert.Zero(t, state()[0].Tries, "what is over waits until it is told that it began")
	assert.Contains(t, state()[1].Problem, "503")
	assert.NotContains(t, state()[1].Problem+log.take(), at, "its address is secret")
	c.answers(http.StatusOK)
	d := state()[1]
	d.Next = time.Now()
	require.NoError(t, k.store.Tried(t.Context(), d))
	rouse(k.alerts.send)
	require.Eventually(t, func() bool { return !state()[0].Done.IsZero() }, 10*time.Second, 10*time.Millisecond)
	told := c.told()
	require.Len(t, told, 2)
	assert.Contains(t, told[0], "read 1")
	assert.Contains(t, told[1], "read 2")

	// It was sent, and that could not be written: it is written later, and not sent again.
	lost := k.deliveries(r, []alert.Message{message("3", alert.Opened)})[0]
	after := tried(lost, nil, time.Now())
	k.alerts.mu.Lock()
	k.alerts.owed[lost.ID] = after
	k.alerts.mu.Unlock()
	put(lost)
	rouse(k.alerts.send)
	require.Eventually(t, func() bool { return !state()[0].Done.IsZero() }, 10*time.Second, 10*time.Millisecond)
	assert.Len(t, c.told(), 2)

	// A way that is gone: the delivery says so, and how to mend it.
	_, err = RemoveWay{"ops-chat"}.do(t.Context(), k, Actor{})
	require.NoError(t, err)
	put(k.deliveries(r, []alert.Message{message("4", alert.Opened)})...)
	rouse(k.alerts.send)
	require.Eventually(t, func() bool { return state()[0].Tries == 1 }, 10*time.Second, 10*time.Millisecond)
	assert.Contains(t, state()[0].Problem, "vigila alert way add ops-chat")
}

func TestWaysAndMutesSayWhatIsWrong(t *testing.T) {
	k, _ := opened(t)
	add := func(w record.Way) error { _, err := AddWay{w}.do(t.Context(), k, Actor{}); return err }
	assert.ErrorContains(t, add(record.Way{Name: "Ops Chat"}), "name:")
	assert.ErrorContains(t, add(record.Way{Name: "ops", WayMore: record.WayMore{Kind: "pigeon"}}), "no way of the kind")
	require.NoError(t, add(record.Way{Name: "ops", URL: "http://127.0.0.1:1/sesame", Secret: "open", WayMore: record.WayMore{Kind: notify.Alertmanager}}))
	require.NoError(t, add(record.Way{Name: "ops", WayMore: record.WayMore{Kind: notify.Alertmanager, About: "the watch"}}))
	assert.Equal(t, []string{"http://127.0.0.1:1/sesame", "open"}, []string{k.Ways()[0].URL, k.Ways()[0].Secret}, "what is secret and not given stays")
	require.NoError(t, add(record.Way{Name: "ops", URL: "http://127.0.0.1:2/sesame", WayMore: record.WayMore{Kind: notify.Alertmanager}}))
	assert.Empty(t, k.Ways()[0].Secret, "a secret goes nowhere else")

	_, err := TryWay{Name: "opz"}.do(t.Context(), k, Actor{})
	assert.ErrorContains(t, err, "did you mean ops?")
	_, err = TryWay{Name: "ops"}.do(t.Context(), k, Actor{})
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "sesame", "an address may be secret")
	require.NoError(t, add(record.Way{Name: "mail", WayMore: record.WayMore{Kind: notify.Mail, Host: "127.0.0.1:1", From: "vigila@brindle.example"}}))
	_, err = TryWay{Name: "mail"}.do(t.Context(), k, Actor{})
	assert.ErrorContains(t, err, "to try it: vigila alert way try mail --to ADDRESS")
	_, err = TryAlert{Name: "watch"}.do(t.Context(), k, Actor{})
	assert.ErrorContains(t, err, "vigila schema alert")
	c, at := newChat(t)
	require.NoError(t, add(record.Way{Name: "chat", URL: at, WayMore: record.WayMore{Kind: notify.Chat}}))
	require.Empty(t, (&rosterLoop{k: k, conf: roster.Roster{Name: "moorings"}}).setAlerts(alertsOf(t, "vigila: alert/v1\nname: watch\nto: [ops, chat]\n")))
	went, err := TryAlert{Name: "watch"}.do(t.Context(), k, Actor{Name: "operator"})
	require.NoError(t, err)
	require.Len(t, went, 2)
	assert.Contains(t, went[0].Problem, "ops does not answer", "one that fails keeps no other from it")
	assert.Equal(t, Tried{Way: "chat"}, went[1])
	require.Len(t, c.told(), 1)
	assert.Contains(t, c.told()[0], "operator tries whether messages get here by chat, as alert watch does. Nothing is wrong.")
	_, err = Mute{Of: "nobody@quay", Until: time.Now().Add(time.Hour)}.do(t.Context(), k, Actor{})
	require.Error(t, err)
	number, err := k.store.AddProposal(t.Context(), proposal.Proposal{Repo: "tides", Branch: "gale", Standing: proposal.Open}, nil)
	require.NoError(t, err)
	of := fmt.Sprint("proposal ", number)
	for _, until := range []time.Time{{}, time.Now().Add(31 * 24 * time.Hour)} {
		_, err = Mute{Of: of, Until: until}.do(t.Context(), k, Actor{})
		assert.ErrorContains(t, err, "within 30 days")
	}
	m, err := Mute{Of: of, Why: "it moves", Until: time.Now().Add(time.Hour)}.do(t.Context(), k, Actor{Name: "operator"})
	require.NoError(t, err)
	assert.Equal(t, "operator", m.By)
	for subject, want := range map[string]string{"proposal x": `there is no proposal "x"`, "repository tides": `there is no repository "tides"`, "proposal 9": `there is no proposal "9"`, "repozitory tides": `mute a ward as NAME@CLUSTER`} {
		_, err = Mute{Of: subject, Until: time.Now().Add(time.Hour)}.do(t.Context(), k, Actor{})
		assert.ErrorContains(t, err, want)
	}
	_, err = Unmute{"proposal 99"}.do(t.Context(), k, Actor{})
	assert.ErrorContains(t, err, of)
	_, err = Unmute{of}.do(t.Context(), k, Actor{})
	require.NoError(t, err)
	k.alerts.mu.Lock()
	for _, s := range []string{"fare-gate@quay", "fare-gate@skerry", "pier@quay"} {
		k.alerts.mutes[s] = record.Mute{Subject: s}
	}
	k.alerts.mu.Unlock()
	_, err = Unmute{"fare-gate"}.do(t.Context(), k, Actor{})
	assert.ErrorContains(t, err, "fare-gate is muted as fare-gate@quay and fare-gate@skerry; name one of them")
	_, err = Unmute{"pier"}.do(t.Context(), k, Actor{})
	assert.NoError(t, err)
	left, err := k.Mutes(t.Context())
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestOneWayKeepsNoOtherWaiting: by one that answers nothing much is to be sent, and by another one message; and a mail goes to each address by itself.
func TestOneWayKeepsNoOtherWaiting(t *testing.T) {
	k, _ := opened(t)
	c, at := newChat(t)
	asked, open := make(chan bool, 1000), make(chan bool)
	dead := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked <- true; <-open }))
	t.Cleanup(dead.Close)
	t.Cleanup(func() { close(open) })
	for name, url := range map[string]string{"ops-chat": at, "dead": dead.URL} {
		_, err := AddWay{record.Way{Name: name, URL: url, WayMore: record.WayMore{Kind: notify.Chat}}}.do(t.Context(), k, Actor{})
		require.NoError(t, err)
	}
	rule := alertsOf(t, "vigila: alert/v1\nname: a\nto: [dead]\n").Alerts[0]
	message := alert.Message{Kind: alert.Opened, Topic: alert.Blind, At: time.Now(), Items: []alert.Item{{Subject: "fare-gate@skerry"}}}
	for i := range 300 {
		rule.Name, message.ID = fmt.Sprint("a-", i), fmt.Sprint("a-", i)
		require.NoError(t, k.store.PutAlert(t.Context(), rule.Name, alert.State{}, k.deliveries(rule, []alert.Message{message})))
	}
	rouse(k.alerts.send)
	<-asked
	rule.To, rule.Name, message.ID = []alert.To{{Way: "ops-chat"}}, "b", "b"
	require.NoError(t, k.store.PutAlert(t.Context(), "b", alert.State{}, k.deliveries(rule, []alert.Message{message})))
	rouse(k.alerts.send)
	require.Eventually(t, func() bool { return len(c.told()) == 1 }, 10*time.Second, 10*time.Millisecond)
	assert.Empty(t, asked, "the dead way is asked one after the other")

	_, err := AddWay{record.Way{Name: "mail", WayMore: record.WayMore{Kind: notify.Mail, Host: "127.0.0.1:1", From: "vigila@brindle.example", To: []string{"ops@brindle.example"}}}}.do(t.Context(), k, Actor{})
	require.NoError(t, err)
	rule.To = []alert.To{{Way: "mail"}}
	assert.Equal(t, []string{"ops@brindle.example"}, k.deliveries(rule, []alert.Message{message})[0].To, "whom the way names")
	rule.To[0].Addresses = []string{"one@brindle.example", "two@brindle.example"}
	var ids []string
	for _, d := range k.deliveries(rule, []alert.Message{message}) {
		ids = append(ids, fmt.Sprint(d.ID, " ", d.To))
	}
	assert.Equal(t, []string{"b.mail.1 [one@brindle.example]", "b.mail.2 [two@brindle.example]"}, ids)
}
