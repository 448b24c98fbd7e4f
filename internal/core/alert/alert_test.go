package alert

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	all, err := Parse("a.yaml", []byte(`vigila: alert/v1
name: harbour-ops
for: Whoever is on watch.
wards: {owner: harbour-ops, cluster: [quay, skerry]}
about: [went back, can't go back]
after: 2m
again: 4h
quiet: {from: "22:00", to: "06:00", zone: Europe/Oslo, but: [can't go back]}
to: [ops-chat, {mail: [ops@brindle.example]}]
---
vigila: alert/v1
name: all
to: [ops-chat]
`))
	require.NoError(t, err)
	require.Len(t, all, 2)
	r := all[0]
	assert.Equal(t, Wards{Owners: []string{"harbour-ops"}, Clusters: []string{"quay", "skerry"}}, r.Wards)
	assert.Equal(t, []Topic{WentBack, CantGoBack}, r.About)
	assert.Equal(t, []time.Duration{2 * time.Minute, 4 * time.Hour}, []time.Duration{r.After, r.Again})
	assert.Equal(t, []To{{Way: "ops-chat"}, {Way: "mail", Addresses: []string{"ops@brindle.example"}}}, r.To)
	assert.Equal(t, []any{22 * 60, 6 * 60, "Europe/Oslo"}, []any{r.Quiet.From, r.Quiet.To, r.Quiet.Zone.String()})
	assert.Equal(t, "wards of harbour-ops, in quay, skerry", r.Wards.String())
	assert.Equal(t, DefaultAfter, all[1].After)
	assert.Equal(t, 11, all[1].Line)

	for text, want := range map[string]string{
		"name: a\n":                                                                    "a.yaml:1: to is missing",
		"name: A b\nto: [c]\n":                                                         `name is "A b"`,
		"name: a\nto: [c]\nabout: [went bac]\n":                                        `a.yaml:4: about names "went bac"; did you mean went back?`,
		"name: a\nto: [c]\nafter: soon\n":                                              `a.yaml:4: after is "soon"; write a duration`,
		"name: a\nto: [c]\nagain: 1m\n":                                                "again is 1m; the shortest is 10m0s",
		"name: a\nto: [c]\nquiet: {from: 22, to: 6}":                                   `write a time of day in quotes`,
		"name: a\nto: [c]\nquiet: {from: \"22:00\", to: \"22:00\"}":                    "which is never, or always",
		"name: a\nto: [c]\nquiet: {from: \"22:00\", to: \"6:00\", zone: Oslo}":         `quiet.zone is "Oslo"`,
		"name: a\nto: [c, {mail: [x@brindle.example]}, {mail: [y@brindle.example]}]\n": "to names mail twice; write whom it leads to in one list",
		"name: a\nto: [{mail: []}]\n":                                                  "without whom it leads to",
		"name: a\nto: [c]\nwards: {owners: [b]}\n":                                     "unknown key owners; did you mean owner?",
	} {
		_, err := Parse("a.yaml", []byte("vigila: alert/v1\n"+text))
		assert.ErrorContains(t, err, want, text)
	}
}

var start = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

func trouble(subject string, topic Topic) Trouble {
	return Trouble{Subject: subject, Topic: topic, Text: "it is so", Since: start, Of: Of{Ward: strings.Split(subject, "@")[0], Owner: "harbour-ops", Cluster: "quay"}}
}

// world plays one rule, minute by minute; what it remembers goes through JSON each time, as the record has it.
type world struct {
	t     *testing.T
	rule  Rule
	state State
	now   time.Time
	steps int
	blind map[string]bool // nobody knows
	mute  map[string]bool
}

func newWorld(t *testing.T, rule Rule) *world {
	rule.Name = "ops"
	return &world{t: t, rule: rule, now: start, blind: map[string]bool{}, mute: map[string]bool{}}
}

func (w *world) step(all ...Trouble) []Message {
	w.t.Helper()
	if w.steps++; w.steps%50 == 1 { // as the record has it
		text, err := json.Marshal(w.state)
		require.NoError(w.t, err)
		w.state = State{}
		require.NoError(w.t, json.Unmarshal(text, &w.state))
	}
	out := w.rule.Step(&w.state, w.around(), all)
	next := w.rule.Next(&w.state, w.around())
	assert.True(w.t, next.IsZero() || next.After(w.now))
	return out
}

func (w *world) around() Around {
	return Around{Now: w.now, Unknown: func(x string) bool { return w.blind[x] }, Muted: func(x string) bool { return w.mute[x] }}
}

// after steps so much later.
func (w *world) after(d time.Duration, all ...Trouble) (out []string) {
	w.t.Helper()
	for end := w.now.Add(d); w.now.Before(end); {
		w.now = w.now.Add(min(10*time.Second, end.Sub(w.now)))
		for _, m := range w.step(all...) {
			out = append(out, m.Title())
		}
	}
	return out
}

func TestOneMessageForOneTrouble(t *testing.T) {
	gate, gauge := trouble("fare-gate@quay", WentBack), trouble("tide-gauge@quay", NeedsYou)
	rule := Rule{After: time.Minute}
	for name, play := range map[string]func(w *world){
		"told once, and when it is over": func(w *world) {
			assert.Empty(t, w.after(50*time.Second, gate))
			assert.Equal(t, []string{"fare-gate@quay: went back"}, w.after(time.Hour, gate))
			assert.Equal(t, []string{"fare-gate@quay: over: went back"}, w.after(time.Hour))
			assert.Empty(t, w.after(time.Hour))
		},
		"it was over before anybody was told": func(w *world) {
			assert.Empty(t, w.after(50*time.Second, gate))
			assert.Empty(t, w.after(time.Hour))
		},
		"it only looked as if it were over": func(w *world) {
			assert.Len(t, w.after(2*time.Minute, gate), 1)
			assert.Empty(t, w.after(30*time.Second))
			assert.Empty(t, w.after(time.Hour, gate))
		},
		"two topics are two messages": func(w *world) {
			assert.Equal(t, []string{"fare-gate@quay: went back", "tide-gauge@quay: needs you"}, w.after(time.Hour, gate, gauge))
		},
		"again while it lasts": func(w *world) {
			w.rule.Again = 4 * time.Hour
			assert.Equal(t, []string{"fare-gate@quay: went back", "fare-gate@quay: still: went back", "fare-gate@quay: still: went back"}, w.after(9*time.Hour, gate))
		},
		"nobody knows how it stands: nothing is over": func(w *world) {
			assert.Len(t, w.after(2*time.Minute, gate), 1)
			w.blind[gate.Subject] = true
			assert.Empty(t, w.after(time.Hour))
			w.blind[gate.Subject] = false
			assert.Equal(t, []string{"fare-gate@quay: over: went back"}, w.after(time.Hour))
		},
		"what is muted is told when that ends, if it is there still": func(w *world) {
			w.mute[gate.Subject] = true
			assert.Empty(t, w.after(time.Hour, gate))
			assert.Zero(t, w.rule.Next(&w.state, w.around()), "nobody has to look for it each second")
			w.mute[gate.Subject] = false
			assert.Len(t, w.after(time.Minute, gate), 1)
		},
		"not what it is about": func(w *world) {
			w.rule.About = []Topic{Blind}
			assert.Empty(t, w.after(time.Hour, gate))
		},
		"not whose it is": func(w *world) {
			w.rule.Wards = Wards{Owners: []string{"ticketing"}}
			assert.Empty(t, w.after(time.Hour, gate))
		},
		"by name": func(w *world) {
			w.rule.Wards = Wards{Names: []string{"fare-gate"}}
			assert.Equal(t, []string{"fare-gate@quay: went back"}, w.after(time.Hour, gate, gauge))
		},
		"it belongs to others too": func(w *world) {
			w.rule.Wards = Wards{Owners: []string{"ticketing"}, Clusters: []string{"skerry"}}
			lights := trouble("proposal 7", ProposalWaits)
			lights.Of, lights.Others = Of{Ward: "a", Owner: "ticketing", Cluster: "quay"}, []Of{{Ward: "b", Owner: "signals", Cluster: "skerry"}}
			assert.Empty(t, w.after(time.Hour, lights), "to one it belongs by its owner, to the other by its cluster")
			lights.Others = append(lights.Others, Of{Ward: "c", Owner: "ticketing", Cluster: "skerry"})
			assert.Equal(t, []string{"proposal 7: proposal waits"}, w.after(time.Hour, lights))
			assert.Equal(t, "ticketing in skerry", w.state.Held[lights.key()].Owner+" in "+w.state.Held[lights.key()].Cluster, "as which of them it is told of")
			assert.Equal(t, []string{"proposal 7: over: proposal waits"}, w.after(time.Hour))
		},
		"a clock that was put back and on": func(w *world) {
			assert.Len(t, w.after(2*time.Minute, gate), 1)
			w.now = w.now.Add(-24 * time.Hour)
			assert.Empty(t, w.after(time.Hour, gate))
			w.now = w.now.Add(48 * time.Hour)
			assert.Empty(t, w.after(time.Hour, gate))
			assert.Len(t, w.after(time.Hour), 1)
		},
	} {
		t.Run(name, func(t *testing.T) { play(newWorld(t, rule)) })
	}
}

func TestQuietHours(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	w := newWorld(t, Rule{After: time.Minute, Quiet: &Quiet{From: 22 * 60, To: 6 * 60, Zone: oslo, But: []Topic{CantGoBack}}})
	w.now = time.Date(2026, 11, 27, 20, 59, 0, 0, time.UTC) // 21:59 there
	gate := trouble("fare-gate@quay", WentBack)
	gate.Since = w.now
	assert.Empty(t, w.after(7*time.Hour+50*time.Minute, gate), "it is told in the morning")
	loud := trouble("fog-signal@quay", CantGoBack)
	loud.Since = w.now
	assert.Equal(t, []string{"fog-signal@quay: can't go back"}, w.after(3*time.Minute, gate, loud), "but not this")
	assert.Equal(t, "2026-11-28 04:52", w.now.Format("2006-01-02 15:04"))
	assert.Equal(t, []string{"fare-gate@quay: went back"}, w.after(time.Hour, gate, loud))
}

// TestAClusterThatIsAwayIsOneMessage, not a thousand.
func TestAClusterThatIsAwayIsOneMessage(t *testing.T) {
	var all []Trouble
	for i := range 1000 {
		x := trouble(fmt.Sprintf("pier-%04d@skerry", i), Blind)
		x.Cause = "cluster skerry"
		all = append(all, x)
	}
	w := newWorld(t, Rule{After: time.Minute})
	w.now = start.Add(2 * time.Minute)
	got := w.step(all...)
	require.Len(t, got, 1)
	assert.Equal(t, "1000 wards (cluster skerry): blind", got[0].Title())
	assert.Len(t, got[0].Items, mostItems)
	assert.Equal(t, 980, got[0].More)
	assert.Equal(t, []string{"1000 wards (cluster skerry): over: blind"}, w.after(time.Hour))
}

// TestNoStorm: a thousand wards through an hour of faults: they fall and rise one by one and all at once, the service restarts and knows nothing for a while, the
// clock jumps. Few messages come of it, everything that is wrong at the end was told, and everything that was told and is not wrong any more is over.
func TestNoStorm(t *testing.T) {
	for seed := range uint64(6) {
		dice := rand.New(rand.NewPCG(seed, 3))
		w := newWorld(t, Rule{After: time.Minute})
		wrong := map[string]Topic{}
		current := func() (out []Trouble) {
			for i := range 1000 {
				id := fmt.Sprintf("pier-%04d@quay", i)
				if topic, is := wrong[id]; is && !w.blind[id] {
					x := trouble(id, topic)
					if topic == Blind {
						x.Cause = "cluster quay"
					}
					out = append(out, x)
				}
			}
			return out
		}
		topics := []Topic{NeedsYou, WentBack, Blind}
		told := map[string]bool{} // and not over, counting what is only named as more
		messages, named := 0, 0
		take := func(all []Message) {
			for _, m := range all {
				messages++
				for _, i := range m.Items {
					named++
					told[i.Subject+string(m.Topic)] = m.Kind != Over
				}
			}
		}
		for range 360 { // of ten seconds each
			w.now = w.now.Add(10 * time.Second)
			switch dice.IntN(30) {
			case 0: // all at once
				topic := topics[dice.IntN(3)]
				for i := range 1000 {
					wrong[fmt.Sprintf("pier-%04d@quay", i)] = topic
				}
			case 1:
				clear(wrong)
			case 2: // a restart
				for i := range 1000 {
					w.blind[fmt.Sprintf("pier-%04d@quay", i)] = true
				}
			case 3:
				clear(w.blind)
			case 4:
				w.now = w.now.Add(time.Duration(dice.IntN(7200)-3600) * time.Second)
			default: // a few flap
				for range dice.IntN(40) {
					id := fmt.Sprintf("pier-%04d@quay", dice.IntN(1000))
					if _, is := wrong[id]; is {
						delete(wrong, id)
					} else {
						wrong[id] = topics[dice.IntN(3)]
					}
				}
			}
			take(w.step(current()...))
		}
		assert.Less(t, messages, 120, "seed %d", seed)
		assert.Greater(t, messages, 3, "seed %d", seed)

		// All is known again, and stays as it is: what is wrong is told, what is not is over.
		clear(w.blind)
		for id := range wrong {
			if dice.IntN(100) > 0 {
				delete(wrong, id) // few enough to be named
			}
		}
		for range 60 * 5 {
			w.now = w.now.Add(time.Minute)
			take(w.step(current()...))
		}
		assert.Len(t, w.state.Held, len(wrong), "seed %d", seed)
		for _, h := range w.state.Held {
			assert.False(t, h.Told.IsZero(), "seed %d: %s was never told", seed, h.Subject)
			assert.Equal(t, wrong[h.Subject], h.Topic)
		}
	}
}

func TestTitles(t *testing.T) {
	for _, c := range []struct {
		kind    Kind
		topic   Topic
		subject string
		n       int
		want    string
	}{
		{Opened, WentBack, "fare-gate@quay", 1, "fare-gate@quay: went back"},
		{Over, NeedsYou, "fare-gate@quay", 1, "fare-gate@quay: over: needs you"},
		{Again, NeedsYou, "fare-gate@quay", 3, "3 wards: still: need you"},
		{Opened, ProposalWaits, "proposal 3", 1, "proposal 3: proposal waits"},
		{Opened, ProposalWaits, "proposal 3", 2, "2 proposals: wait for a review"},
		{Opened, CredentialsEnd, "repository tides", 2, "2 repositories: credentials end"},
		{Opened, NeedsYou, "lane pier-lights", 1, "lane pier-lights: needs you"},
	} {
		assert.Equal(t, c.want, Message{Kind: c.kind, Topic: c.topic, Items: []Item{{Subject: c.subject}}, More: c.n - 1}.Title())
	}
	assert.Equal(t, "2 things: need you", Message{Kind: Opened, Topic: NeedsYou, Items: []Item{{Subject: "a@quay"}, {Subject: "lane pier-lights"}}}.Title())
	for kind := range plurals {
		assert.NotEqual(t, "2 wards: blind", Message{Kind: Opened, Topic: Blind, Items: []Item{{Subject: kind + " x"}}, More: 1}.Title())
	}
	assert.Equal(t, "2 wards (cluster quay): blind", Message{Kind: Opened, Topic: Blind, Cause: "cluster quay", Items: []Item{{Subject: "a@quay"}}, More: 1}.Title())
}

// TestWhatAnAlertIsNotAboutAnyMoreIsNotOver: a ward that gets another owner, or an alert that is written anew, tells nobody that a trouble is over which is
// there still; and an alert by the name of another roster's says nothing of that one's wards.
func TestWhatAnAlertIsNotAboutAnyMoreIsNotOver(t *testing.T) {
	gate := trouble("fare-gate@quay", WentBack)
	other := gate
	other.Of.Owner = "ticketing"
	for name, c := range map[string]struct {
		change func(*Rule)
		after  []Trouble
		want   []string
	}{
		"it is over":                 {func(*Rule) {}, nil, []string{"fare-gate@quay: over: went back"}},
		"it has another owner":       {func(*Rule) {}, []Trouble{other}, nil},
		"of other wards":             {func(r *Rule) { r.Wards.Clusters = []string{"skerry"} }, []Trouble{gate}, nil},
		"about something else":       {func(r *Rule) { r.About = []Topic{Blind} }, []Trouble{gate}, nil},
		"of another roster, ended":   {func(r *Rule) { r.Wards = Wards{Rosters: []string{"team"}} }, nil, nil},
		"of another roster, lasting": {func(r *Rule) { r.Wards = Wards{Rosters: []string{"team"}} }, []Trouble{gate}, nil},
	} {
		w := newWorld(t, Rule{After: time.Minute, Wards: Wards{Owners: []string{"harbour-ops"}}})
		require.Equal(t, []string{"fare-gate@quay: went back"}, w.after(2*time.Minute, gate), name)
		c.change(&w.rule)
		assert.Equal(t, c.want, w.after(time.Hour, c.after...), name)
	}
}
