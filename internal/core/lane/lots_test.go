package lane

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	gate    = Key{"s/{stop}/v.yaml", "a.example/gate"}
	migrate = Key{"s/{stop}/v.yaml", "a.example/migrate"}
	tariff  = Key{"s/{stop}/config/tariff.yaml", ""}
	noon    = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
)

// lots are three: the first, a newer gate with another migration, and another tariff.
func lots() Lots {
	return Lots{
		{Number: 1, Stop: "quay", Content: Content{gate: "2.7", migrate: "40", tariff: "x"}},
		{Number: 2, Stop: "quay", Content: Content{gate: "2.8", migrate: "41", tariff: "x"}},
		{Number: 3, Stop: "quay", Content: Content{gate: "2.8", migrate: "41", tariff: "y"}},
	}
}

func TestLots(t *testing.T) {
	all := lots()
	assert.Equal(t, Content{gate: "2.8", tariff: "x"}.ID(), Content{tariff: "x", gate: "2.8"}.ID())
	assert.NotEqual(t, Content{Key{"a", "b"}: "c"}.ID(), Content{Key{"ab", ""}: "c"}.ID())
	assert.Equal(t, 2, all.Of(Content{gate: "2.8", migrate: "41", tariff: "x"}))
	assert.Zero(t, all.Of(Content{gate: "9"}))
	assert.Equal(t, map[Key]bool{gate: true, migrate: true}, all.Own(2))
	assert.Equal(t, map[Key]bool{tariff: true}, all.Own(3))
	assert.Len(t, all.Own(1), 3, "of the first all is its own")
	assert.Empty(t, all.Own(9))
	assert.Equal(t, []string{"a.example/gate", "s/skerry/config/tariff.yaml"}, []string{gate.At("skerry"), tariff.At("skerry")})
}

// TestNothingComesAlongUnseen: what a lot would change at a stop is told apart: its own, what was never promoted, what somebody did by hand.
func TestNothingComesAlongUnseen(t *testing.T) {
	all := lots()
	for _, c := range []struct {
		what   string
		lot    int
		now    Content
		took   Content
		want   []Change
		unseen bool
	}{
		{"its own alone", 2, all[0].Content, all[0].Content, []Change{{Key: gate, From: "2.7", To: "2.8", Own: true}, {Key: migrate, From: "40", To: "41", Own: true}}, false},
		{"a lot that was skipped", 3, all[0].Content, all[0].Content, []Change{{Key: tariff, From: "x", To: "y", Own: true}, {Key: gate, From: "2.7", To: "2.8", Lots: []int{2}}, {Key: migrate, From: "40", To: "41", Lots: []int{2}}}, true},
		{"an edit by hand would be undone", 3, Content{gate: "2.8.1", migrate: "41", tariff: "x"}, all[1].Content, []Change{{Key: tariff, From: "x", To: "y", Own: true}, {Key: gate, From: "2.8.1", To: "2.8", ByHand: true}}, true},
		{"an edit by hand of the same", 2, Content{gate: "2.7.5", migrate: "40", tariff: "x"}, all[0].Content, []Change{{Key: gate, From: "2.7.5", To: "2.8", Own: true, ByHand: true}, {Key: migrate, From: "40", To: "41", Own: true}}, true},
		{"somebody wrote the same by hand", 2, Content{gate: "2.8", migrate: "41", tariff: "x"}, all[0].Content, nil, false},
		{"a file of the stop's own making goes", 2, Content{gate: "2.7", migrate: "40", tariff: "x", Key{"s/{stop}/config/own.yaml", ""}: "z"}, all[0].Content,
			[]Change{{Key: Key{"s/{stop}/config/own.yaml", ""}, From: "z", ByHand: true}, {Key: gate, From: "2.7", To: "2.8", Own: true}, {Key: migrate, From: "40", To: "41", Own: true}}, true},
		{"back", 1, all[2].Content, all[2].Content, []Change{{Key: tariff, From: "y", To: "x", Lots: []int{3}}, {Key: gate, From: "2.8", To: "2.7", Lots: []int{2}}, {Key: migrate, From: "41", To: "40", Lots: []int{2}}}, true},
		{"its own alone was taken before, and the others come with the next", 3, Content{gate: "2.7", migrate: "40", tariff: "y"}, Content{gate: "2.7", migrate: "40", tariff: "y"},
			[]Change{{Key: gate, From: "2.7", To: "2.8", Lots: []int{2}}, {Key: migrate, From: "40", To: "41", Lots: []int{2}}}, true},
		{"never took one, and has what the first was", 3, all[0].Content, nil, []Change{{Key: tariff, From: "x", To: "y", Own: true}, {Key: gate, From: "2.7", To: "2.8", Lots: []int{2}}, {Key: migrate, From: "40", To: "41", Lots: []int{2}}}, true},
		{"never took one, and has what none was", 2, Content{gate: "1", migrate: "40", tariff: "x"}, nil, []Change{{Key: gate, From: "1", To: "2.8"}, {Key: migrate, From: "40", To: "41", Own: true}}, true},
		{"the first time at all", 1, nil, nil, []Change{{Key: tariff, To: "x", Own: true}, {Key: gate, To: "2.7", Own: true}, {Key: migrate, To: "40", Own: true}}, false},
	} {
		got := all.Along(c.lot, c.now, c.took)
		assert.Equal(t, c.want, got, c.what)
		unseen := false
		for _, x := range got {
			unseen = unseen || x.Unseen()
		}
		assert.Equal(t, c.unseen, unseen, c.what)
	}
	assert.Nil(t, all.Along(9, nil, nil))
}

func TestOnlyALotsOwnChange(t *testing.T) {
	all := lots()
	now := Content{gate: "2.7", migrate: "40", tariff: "x"}
	got, err := all.Only(3, now)
	require.NoError(t, err)
	assert.Equal(t, Content{gate: "2.7", migrate: "40", tariff: "y"}, got, "the versions stay")
	assert.Equal(t, "x", now[tariff], "nothing is changed in place")
	_, err = all.Only(3, Content{tariff: "z"})
	require.ErrorContains(t, err, "s/{stop}/config/tariff.yaml is another here than lot 3 has changed it from")
	got, err = all.Only(2, Content{gate: "2.5", tariff: "q"})
	require.NoError(t, err)
	assert.Equal(t, Content{gate: "2.8", migrate: "41", tariff: "q"}, got, "a version is a version, whatever was there")
	_, err = all.Only(9, nil)
	assert.Error(t, err)
}

func TestALotArrives(t *testing.T) {
	s := Stop{Name: "skerry", Settled: 30 * time.Minute}
	ready := func(ago time.Duration) Ward { return Ward{ID: "gate@skerry", Holds: true, Ready: noon.Add(-ago)} }
	for what, c := range map[string]struct {
		st   State
		want Arrival
	}{
		"long ready":              {State{Passage: Passage{Since: noon.Add(-time.Hour)}, Wards: []Ward{ready(40 * time.Minute)}}, Arrival{Here: true}},
		"not long enough":         {State{Passage: Passage{Since: noon.Add(-time.Hour)}, Wards: []Ward{ready(40 * time.Minute), ready(10 * time.Minute)}}, Arrival{When: noon.Add(20 * time.Minute), Waits: "has to be ready for 30m"}},
		"ready since before it":   {State{Passage: Passage{Since: noon.Add(-5 * time.Minute)}, Wards: []Ward{ready(9 * time.Hour)}}, Arrival{When: noon.Add(25 * time.Minute), Waits: "has to be ready for 30m"}},
		"one does not hold it":    {State{Wards: []Ward{ready(time.Hour), {ID: "b@skerry", Ready: noon, Says: "behind, 2 objects"}}}, Arrival{Waits: "b@skerry: behind, 2 objects"}},
		"one is not ready":        {State{Wards: []Ward{{ID: "b@skerry", Holds: true}}}, Arrival{Waits: "b@skerry"}},
		"one went back":           {State{Wards: []Ward{{ID: "b@skerry"}, {ID: "c@skerry", Failed: "it crash-loops"}}}, Arrival{Failed: "c@skerry: it crash-loops"}},
		"what is not known waits": {State{}, Arrival{Waits: "its wards are not known"}},
	} {
		assert.Equal(t, c.want, s.Arrived(noon, c.st), what)
	}
}

func TestOffers(t *testing.T) {
	l := parsed(t, whole)
	all := lots()
	skerry, _ := l.Stop("skerry")
	quay, _ := l.Stop("quay")
	itself := skerry
	itself.LetsIn, itself.Hours, itself.By, itself.Who = ByItself, nil, ByCommit, nil
	both := itself
	both.After = []string{"quay", "holm"}
	at1 := State{Passage: Passage{Number: 1, Lot: 1}, Took: all[0].Content, Most: 1, Content: all[0].Content}
	past := func(quay ...int) Past {
		return Past{Arrived: map[string][]int{"quay": quay}, Failed: map[string]map[int]string{}}
	}
	failed := past(1, 2, 3)
	failed.Failed = map[string]map[int]string{"quay": {3: "it crash-loops"}}
	here := past(1, 2)
	here.Failed = map[string]map[int]string{"skerry": {2: "no"}}
	hand := at1
	hand.Content = Content{gate: "2.7", migrate: "40", tariff: "by hand"}
	held := at1
	held.Held = "operator: gale"
	back := at1
	back.Most = 3
	refused := at1
	refused.Refused = map[int]string{2: "proposal 7 was withdrawn"}
	goes := Stop{Name: "holm", After: []string{"quay"}, Together: "skerry", LetsIn: ByItself, By: ByCommit}
	asks := goes
	asks.LetsIn, asks.By = Ask, ByProposal
	for what, c := range map[string]struct {
		stop Stop
		st   State
		past Past
		want Offer
		with []Stop // that go with it
	}{
		"where lots begin nothing is offered":             {quay, State{}, past(1), Offer{}, nil},
		"nothing new has arrived":                         {itself, at1, past(1), Offer{}, nil},
		"the next":                                        {itself, at1, past(1, 2), Offer{Lot: 2}, nil},
		"the newest, with what was skipped":               {itself, at1, past(1, 2, 3), Offer{Lot: 3, Unseen: true}, nil},
		"one that failed there is offered to nobody":      {itself, at1, failed, Offer{Lot: 2}, nil},
		"one that failed here is not offered again":       {itself, at1, here, Offer{}, nil},
		"after two, it has to arrive at both":             {both, at1, past(1, 2), Offer{}, nil},
		"it asks, and proposes meanwhile":                 {skerry, at1, past(1, 2), Offer{Lot: 2, Waits: "waits to be let in by harbour-ops", Asks: true, Propose: true}, nil},
		"held":                                            {itself, held, past(1, 2), Offer{Lot: 2, Waits: "is held by operator: gale"}, nil},
		"held, and nothing is proposed":                   {skerry, held, past(1, 2), Offer{Lot: 2, Waits: "is held by operator: gale", Asks: true}, nil},
		"refused":                                         {skerry, refused, past(1, 2), Offer{Lot: 2, Waits: "proposal 7 was withdrawn", Asks: true}, nil},
		"the first, where nothing is yet":                 {itself, State{}, past(1), Offer{Lot: 1}, nil},
		"the first, where something was before":           {itself, State{Content: Content{gate: "2.6"}}, past(1), Offer{Lot: 1, Unseen: true, Asks: true, Waits: "has from before the lane what no lot had, which would be undone"}, nil},
		"by hand":                                         {itself, hand, past(1, 2, 3), Offer{Lot: 3, Unseen: true, Asks: true, Waits: "was changed by hand, which would be undone"}, nil},
		"what was gone back from does not come by itself": {itself, back, past(1, 2, 3), Offer{}, nil},
		"but another that goes with it has not had it":    {itself, back, past(1, 2, 3), Offer{Lot: 3, Unseen: true}, []Stop{goes}},
		"one of the two asks, and proposes":               {itself, at1, past(1, 2), Offer{Lot: 2, Waits: "waits to be let in", Asks: true, Propose: true}, []Stop{asks}},
		"one of the two is held":                          {itself, held, past(1, 2), Offer{Lot: 2, Waits: "skerry is held by operator: gale"}, []Stop{goes}},
	} {
		l := l
		l.Stops = append([]Stop{quay, c.stop}, c.with...)
		assert.Equal(t, c.want, l.Offers(c.stop, noon, all, map[string]State{c.stop.Name: c.st, "holm": at1}, c.past), what)
		if len(c.with) > 0 {
			assert.Equal(t, c.want, l.Offers(c.with[0], noon, all, map[string]State{c.stop.Name: c.st, "holm": at1}, c.past), "%s: asked of the other", what)
		}
	}
	night := time.Date(2026, 11, 26, 23, 0, 0, 0, time.UTC) // a Thursday
	itself.Hours = skerry.Hours
	l.Stops = []Stop{quay, itself}
	o := l.Offers(itself, night, all, map[string]State{"skerry": at1}, past(1, 2))
	assert.Equal(t, "lets lots in Mon-Thu 09:00-16:00 Europe/Oslo", o.Waits)
	assert.Equal(t, time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC), o.Next.UTC())
}

func TestMayLetIn(t *testing.T) {
	l := parsed(t, whole)
	all := lots()
	skerry, _ := l.Stop("skerry")
	st := State{Passage: Passage{Lot: 1}, Took: all[0].Content, Most: 1, Content: all[0].Content}
	is := func(skerry, holm State) map[string]State { return map[string]State{"skerry": skerry, "holm": holm} }
	past := Past{Arrived: map[string][]int{"quay": {1, 2}}, Failed: map[string]map[int]string{"quay": {3: "it crash-loops"}, "skerry": {2: "no"}}}
	no, skips := l.MayLetIn(skerry, 9, noon, all, is(st, st), past)
	assert.Equal(t, "lane fare-gate has no lot 9", no)
	assert.Empty(t, skips)
	no, _ = l.MayLetIn(skerry, 1, noon, all, is(st, st), past)
	assert.Equal(t, "stop skerry has what lot 1 carries already", no)
	no, _ = l.MayLetIn(skerry, 1, noon, all, is(st, State{}), past)
	assert.Empty(t, no, "the one that goes with it has not")
	no, skips = l.MayLetIn(skerry, 2, noon, all, is(st, st), past)
	assert.Empty(t, no)
	assert.Equal(t, []string{"it failed at skerry before: no"}, skips)
	held := st
	held.Held = "operator: gale"
	_, skips = l.MayLetIn(skerry, 3, time.Date(2026, 11, 26, 23, 0, 0, 0, time.UTC), all, is(st, held), past)
	assert.Equal(t, []string{"skerry lets lots in Mon-Thu 09:00-16:00 Europe/Oslo, the next time on Mon 09:00", "holm is held by operator: gale", "it failed at quay: it crash-loops"}, skips)
	past.Failed = nil
	_, skips = l.MayLetIn(skerry, 3, noon, all, is(State{}, State{}), past)
	assert.Equal(t, []string{"it has not arrived at quay"}, skips)
}
