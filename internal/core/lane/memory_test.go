package lane

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// walked is a lane on its way, told step by step.
type walked struct {
	l  Lane
	m  Memory
	at time.Time
}

func (w *walked) has(stop string, c Content) *walked {
	s, _ := w.l.Stop(stop)
	w.at = w.at.Add(time.Hour)
	w.m = w.m.Saw(s, Seen{At: w.at, Content: c, Commit: "c" + c[gate], Subject: "gate " + c[gate], Author: "somebody"})
	return w
}

func (w *walked) wards(stop string, all ...Ward) Arrival {
	s, _ := w.l.Stop(stop)
	var a Arrival
	w.at = w.at.Add(time.Hour)
	w.m, a = w.m.Arrive(s, w.at, all)
	return a
}

func TestALaneRemembers(t *testing.T) {
	w := &walked{l: parsed(t, whole), at: noon}
	all := lots()
	one, two, three := all[0].Content, all[1].Content, all[2].Content
	good := Ward{ID: "fare-gate@quay", Holds: true, Ready: noon}

	w.has("quay", nil)
	assert.Empty(t, w.m.Lots, "nothing is no lot")
	assert.Equal(t, "nothing that is carried is there yet", w.wards("quay", good).Waits)
	w.has("skerry", Content{gate: "2.6"}).has("quay", one)
	require.Len(t, w.m.Lots, 1)
	assert.Equal(t, Lot{Number: 1, Content: one, Stop: "quay", Commit: "c2.7", Subject: "gate 2.7", Author: "somebody", At: w.at}, w.m.Lots[0])
	p, going := w.m.Current("skerry")
	assert.True(t, going)
	assert.Equal(t, "what was there before the first lot", p.Title())
	assert.True(t, w.wards("quay", good).Here)
	assert.Equal(t, map[string][]int{"quay": {1}}, w.m.Past().Arrived)

	before := w.m
	w.has("quay", one)
	assert.Equal(t, before, w.m, "the same again is nothing")
	w.has("quay", two).has("quay", three)
	assert.Equal(t, []int{1}, w.m.Past().Arrived["quay"], "lot 2 had no time to arrive")
	assert.Equal(t, "fare-gate@quay: behind", w.wards("quay", Ward{ID: "fare-gate@quay", Says: "behind"}).Waits)
	assert.True(t, w.wards("quay", good).Here)

	// a person lets lot 3 in at skerry; that its change came with another's is told
	w.m = w.m.LetIn("skerry", Letting{Lot: 1, To: one, By: "operator"})
	w.has("skerry", one)
	w.m = w.m.LetIn("skerry", Letting{Lot: 3, To: three, By: "operator", Why: "the ferry waits", Against: []string{"it is late"}, At: w.at})
	w.has("skerry", three)
	p, _ = w.m.Current("skerry")
	assert.Equal(t, []any{3, []int{2}, "operator", "the ferry waits", []string{"it is late"}}, []any{p.Lot, p.Along, p.By, p.Why, p.Against})
	assert.Nil(t, w.m.Stops["skerry"].Letting)

	// somebody changes it by hand: it is no lot's any more, and that is told of what comes next
	hand := Content{gate: "2.8", migrate: "41", tariff: "by hand"}
	w.has("skerry", hand)
	st := w.m.State("skerry")
	assert.Equal(t, "what was lot 3, changed by hand,", st.Title())
	assert.Equal(t, []Change{{Key: tariff, From: "by hand", To: "y", ByHand: true}}, w.m.Lots.Along(3, st.Content, st.Took))

	// back to lot 1: it is not let in again by itself what was gone back from
	w.m = w.m.LetIn("skerry", Letting{Lot: 1, To: one, By: "operator"})
	w.has("skerry", one)
	p, _ = w.m.Current("skerry")
	assert.Equal(t, []int{2, 3}, p.Along, "taken back with it")
	assert.Equal(t, 3, w.m.State("skerry").Most)

	// a lot that fails, and a false alarm
	w.has("quay", Content{gate: "2.9"})
	assert.Equal(t, "fare-gate@quay: it crash-loops", w.wards("quay", Ward{ID: "fare-gate@quay", Failed: "it crash-loops"}).Failed)
	assert.Equal(t, "fare-gate@quay: it crash-loops", w.m.Past().Failed["quay"][4])
	assert.True(t, w.wards("quay", good).Here, "the same revision again")
	assert.Empty(t, w.m.Past().Failed["quay"])
	w.wards("quay", Ward{ID: "fare-gate@quay", Failed: "rejected by a person"})
	assert.NotContains(t, w.m.Past().Arrived["quay"], 4, "what was rejected after its arrival goes no further")

	// its own change alone
	only := Content{gate: "2.9", migrate: "40", tariff: "x"}
	w.m = w.m.LetIn("skerry", Letting{Lot: 4, Only: true, To: only, By: "operator"})
	w.has("skerry", only)
	p, _ = w.m.Current("skerry")
	assert.Equal(t, []any{4, true, "lot 4, its own change alone,"}, []any{p.Lot, p.Only, p.Title()})
	assert.NotContains(t, w.m.Past().Arrived["skerry"], 4, "which is not the lot")

	// what is let in by a proposal is laid over what somebody has changed meanwhile
	w.m = w.m.LetIn("skerry", Letting{Lot: 3, To: three, By: "vigila", Proposal: 9})
	skerry, _ := w.l.Stop("skerry")
	w.m = w.m.Saw(skerry, Seen{At: w.at, Content: hand, Merged: true, By: "reviewer"})
	st = w.m.State("skerry")
	assert.Equal(t, []any{0, 4, "reviewer", 9, (*Letting)(nil)}, []any{st.Lot, st.Over, st.By, st.Proposal, st.Letting})
	again := w.m.LetInBy("skerry", "harbour-ops")
	assert.Equal(t, []any{"harbour-ops", "reviewer"}, []any{again.State("skerry").By, w.m.State("skerry").By})
	assert.Equal(t, again, again.LetInBy("skerry", "harbour-ops").LetInBy("none", "x"))
	assert.Equal(t, []Change{{Key: tariff, From: "by hand", To: "y", ByHand: true}}, w.m.Lots.Along(3, st.Content, st.Took))

	w.m = w.m.Hold("skerry", &Hold{By: "operator", Why: "gale"})
	assert.Equal(t, "operator: gale", w.m.State("skerry").Held)
	w.m = w.m.Hold("skerry", nil).NotLetIn("skerry")
	assert.Empty(t, w.m.State("skerry").Held)
	w.has("quay", Content{})
	p, _ = w.m.Current("quay")
	assert.Equal(t, "nothing", p.Title())
}

// TestWhatIsRememberedIsWrittenDown: what goes in comes out, and what is forgotten is what no stop has any more.
func TestWhatIsRememberedIsWrittenDown(t *testing.T) {
	w := &walked{l: parsed(t, whole), at: noon}
	w.has("quay", Content{gate: "first"}).has("skerry", Content{gate: "first"}).has("skerry", Content{})
	w.m = w.m.Hold("holm", &Hold{By: "operator", Why: "gale", At: noon}).LetIn("holm", Letting{Lot: 1, To: Content{}, At: noon})
	text, err := json.Marshal(w.m)
	require.NoError(t, err)
	var again Memory
	require.NoError(t, json.Unmarshal(text, &again))
	assert.Equal(t, w.m, again)

	w.has("skerry", Content{gate: "first"})
	for i := range 1200 {
		w.has("quay", Content{gate: fmt.Sprint(i)})
	}
	assert.Len(t, w.m.Lots, maxLots+1)
	assert.Equal(t, 1, w.m.Lots[0].Number, "a stop has it")
	assert.Equal(t, 1201, w.m.Lots[maxLots].Number)
	assert.Len(t, w.m.Passages, maxPassages+1)
	p, going := w.m.Current("skerry")
	assert.Equal(t, []any{true, 1}, []any{going, p.Lot})
}

func TestWhatAStopSays(t *testing.T) {
	l := parsed(t, whole)
	s, _ := l.Stop("skerry")
	with := func(p Passage) Passage {
		p.Number, p.ID = 1, Content{gate: "1"}.ID()
		return p
	}
	two, bad := with(Passage{Lot: 2}), with(Passage{Lot: 2, Failed: "it crash-loops"})
	for _, c := range []struct {
		says, tells string // of the stop, and of the whole lane
		p           Passage
		held        string
		a           Arrival
		o           Offer
		loud        bool
	}{
		{"nothing is there yet", "nothing is at skerry yet", Passage{}, "", Arrival{}, Offer{}, false},
		{"lot 2 has arrived", "", two, "", Arrival{Here: true}, Offer{}, false},
		{"lot 2 is on its way: fare-gate@skerry: behind", "lot 2 is on its way at skerry: fare-gate@skerry: behind", two, "", Arrival{Waits: "fare-gate@skerry: behind"}, Offer{}, false},
		{"lot 2 failed: it crash-loops", "lot 2 failed at skerry: it crash-loops", bad, "", Arrival{}, Offer{}, true},
		{"lot 2 has arrived; held by operator: gale", "", two, "operator: gale", Arrival{Here: true}, Offer{}, false},
		{"lot 2 has arrived; lot 3 is next", "lot 3 is being let in at skerry and holm", two, "", Arrival{Here: true}, Offer{Lot: 3}, false},
		{"lot 2 has arrived; lot 3 waits to be let in", "at skerry and holm lot 3 waits to be let in", two, "", Arrival{Here: true}, Offer{Lot: 3, Asks: true, Waits: "waits to be let in"}, true},
		{"lot 2 has arrived; lot 3 is held by operator: gale", "at skerry and holm lot 3 is held by operator: gale", two, "operator: gale", Arrival{Here: true}, Offer{Lot: 3, Asks: true, Waits: "is held by operator: gale"}, false},
		{"lot 2 failed: it crash-loops; lot 3 lets lots in Mon 09:00 UTC", "lot 2 failed at skerry: it crash-loops", bad, "", Arrival{}, Offer{Lot: 3, Waits: "lets lots in Mon 09:00 UTC"}, true},
	} {
		st := State{Passage: c.p, Held: c.held}
		says, loud := l.Says(s, st, c.a, c.o)
		assert.Equal(t, c.says, says)
		assert.Equal(t, c.loud, loud, c.says)
		tells, loud := l.Tells(s, st, c.a, c.o)
		assert.Equal(t, c.tells, tells)
		assert.Equal(t, c.loud, loud, c.tells)
	}
}
