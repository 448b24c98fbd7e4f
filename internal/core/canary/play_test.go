package canary

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// world is a cluster that does what a canary asks, at its own pace.
type world struct {
	t       require.TestingT
	was     Declared
	target  *Target
	check   ward.Check
	m       *Machine
	kept    []byte // what is remembered: the state as it was when the version moved last
	version int
	now     time.Time
	there   map[object.Ref]object.Object
	health  map[object.Ref]health.Result
	calls   []Effect // on their way
	side    Side
	through bool
	single  bool // it had one Pod once
	left    bool
	ended   *Ended
	log     []string
}

var errorsCheck = ward.Check{Name: "errors", Query: "x", From: "m", Good: "value < 0.05", Every: 10 * time.Second, Misses: 1, NoData: ward.WaitForData}

func newWorld(t require.TestingT, c ward.Canary, check ward.Check) *world {
	form := func(d Declared) Declared { return d }
	if c.InPlace() {
		form = stateful
	}
	w := &world{t: t, was: form(fareGate(t, "a:1", "1")), check: check, now: time.Date(2026, 11, 26, 3, 0, 0, 0, time.UTC), there: map[object.Ref]object.Object{}, health: map[object.Ref]health.Result{}}
	for ref, o := range w.was {
		w.there[ref] = o
	}
	w.target = find(t, c, w.was, form(fareGate(t, "a:2", "2")))
	w.side = Side{Size: 4, Newest: "abc", New: []string{"new-1"}}
	for i := range 4 {
		w.side.Old = append(w.side.Old, Pod{fmt.Sprint("old-", i), "abc", true})
	}
	w.machine(State{})
	w.feed(Started{w.now})
	return w
}

func (w *world) machine(s State) {
	w.target.checks = nil
	m, err := New([]*Target{w.target}, func(string) (ward.Check, bool) { return w.check, true }, time.Minute, s)
	require.NoError(w.t, err)
	w.m, w.version = m, 0
}

// feed gives the machine an event; what it wants remembered is, before anything it asks for is called.
func (w *world) feed(ev Event) {
	w.log = append(w.log, fmt.Sprintf("%s %T %+v", w.now.Format("15:04:05"), ev, ev))
	out := w.m.Step(ev)
	if w.m.Version() != w.version {
		w.version = w.m.Version()
		b, err := json.Marshal(w.m.State)
		require.NoError(w.t, err)
		w.kept = b
	}
	for _, e := range out {
		w.log = append(w.log, fmt.Sprintf("         -> %T %.80v", e, brief(e)))
		switch e := e.(type) {
		case Carried:
			w.through = true
		case Ended:
			w.ended = &e
		default:
			w.calls = append(w.calls, e)
		}
	}
	w.promise()
}

func brief(e Effect) any {
	switch e := e.(type) {
	case Apply:
		return e.Object.Ref
	case Remove:
		return e.Ref
	}
	return ""
}

// promise is what holds after every event: until the canary is through, what ran before is as it was but for the weights of its route,
// and something is always on its way.
func (w *world) promise() {
	made := map[object.Ref]bool{}
	for _, ref := range w.target.Made() {
		made[ref] = true
	}
	for _, e := range w.calls {
		if a, ok := e.(Apply); ok {
			require.True(w.t, made[a.Object.Ref] || a.Object.Ref == routeRef || a.Object.Ref == w.target.Twin, "%v is applied, and is not the canary's\n%s", a.Object.Ref, w)
		}
	}
	for ref, o := range w.was {
		if ref == w.target.Twin && w.parted(o) {
			continue
		}
		if ref == routeRef && w.m.Phase != Over {
			continue
		}
		if ref == routeRef && w.ended != nil && w.ended.Back != nil && w.ended.Back.Trouble != "" {
			continue
		}
		if w.through && ref == routeRef {
			continue
		}
		require.Equal(w.t, object.Hash(o.Body), object.Hash(w.there[ref].Body), "%v has changed\n%s", ref, w)
	}
	if w.ended != nil {
		require.Equal(w.t, Over, w.m.Phase, "%s", w)
		return
	}
	at := w.m.Wake()
	require.False(w.t, !at.IsZero() && !at.After(w.now), "it wants to be woken at %s, which is now or past, in %s, again and again\n%s", at, w.m.Phase, w)
	require.True(w.t, len(w.calls) > 0 || !w.m.Wake().IsZero() || w.m.Phase == Through, "nothing is on its way in %s\n%s", w.m.Phase, w)
}

// parted tells that a StatefulSet differs from what it was by its new Pods alone, and that it may.
func (w *world) parted(was object.Object) bool {
	if w.ended != nil && (w.ended.Back == nil || w.ended.Back.Trouble == "") && !w.through {
		return false // back is back
	}
	now := object.Clone(w.there[was.Ref].Body)
	spec := asMap(now["spec"])
	if object.Hash(templateOf(now)) == object.Hash(templateOf(was.Body)) {
		return false
	}
	part := number(asMap(asMap(spec["updateStrategy"])["rollingUpdate"])["partition"])
	require.True(w.t, part > 0 || w.single, "none is left of the old version\n%s", w)
	spec["template"] = templateOf(was.Body)
	delete(spec, "updateStrategy")
	require.Equal(w.t, object.Hash(was.Body), object.Hash(now), "more than its new Pods has changed\n%s", w)
	return true
}

func (w *world) String() string { return strings.Join(w.log, "\n") }

// answer answers a call; refused tells that it does not go through.
func (w *world) answer(i int, refused string) {
	e := w.calls[i]
	w.calls = append(w.calls[:i:i], w.calls[i+1:]...)
	switch e := e.(type) {
	case Look:
		w.feed(Looked{At: w.now, Sides: []Side{w.side}, Problem: refused})
	case Apply:
		if refused == "" {
			w.there[e.Object.Ref] = e.Object
			if _, known := w.health[e.Object.Ref]; !known {
				w.health[e.Object.Ref] = health.Result{Word: health.Settling}
			}
		}
		w.feed(Applied{At: w.now, Ref: e.Object.Ref, Err: refused, Health: w.health[e.Object.Ref]})
	case Remove:
		if w.left = w.left || refused != ""; refused == "" {
			delete(w.there, e.Ref)
		}
		w.feed(Removed{At: w.now, Ref: e.Ref, Err: refused})
	case Ask:
		a := judge.Of([]float64{0.01})
		switch refused {
		case "":
		case "bad":
			a = judge.Of([]float64{0.2})
		default:
			a = judge.Answer{Problem: refused}
		}
		w.feed(Answered{At: w.now, Target: e.Target, Check: e.Check.Name, New: a})
	}
}

// settle answers everything, and makes everything ready.
func (w *world) settle() {
	for range 200 {
		if len(w.calls) > 0 {
			w.answer(0, "")
			continue
		}
		ready := true
		for ref, h := range w.health {
			if _, is := w.there[ref]; is && h.Word != health.Ready {
				ready = false
				w.health[ref] = health.Result{Word: health.Ready}
				w.feed(Seen{w.now, ref, w.health[ref]})
			}
		}
		if ready && w.m.Wake().Equal(w.m.made.Add(linger)) && w.now.Before(w.m.Wake()) && w.ended == nil {
			w.now = w.m.Wake()
			w.feed(Tick{w.now})
			continue
		}
		if ready {
			return
		}
	}
	require.Fail(w.t, "it does not come to rest\n"+w.String())
}

// pass lets time go by, and the machine wake when it wants to.
func (w *world) pass(d time.Duration) {
	end := w.now.Add(d)
	for w.ended == nil {
		w.settle()
		at := w.m.Wake()
		if at.IsZero() || at.After(end) {
			break
		}
		if at.After(w.now) {
			w.now = at
		}
		w.feed(Tick{w.now})
	}
	w.now = end
	w.feed(Tick{w.now})
	w.settle()
}

func (w *world) kill() {
	var s State
	require.NoError(w.t, json.Unmarshal(w.kept, &s))
	for len(w.calls) > 0 { // what was on its way may land
		if a, ok := w.calls[0].(Apply); ok && w.now.UnixNano()%2 == 0 {
			w.there[a.Object.Ref] = a.Object
		}
		w.calls = w.calls[1:]
	}
	w.log = append(w.log, "         kill in "+string(s.Phase))
	w.machine(s)
	w.feed(Resumed{At: w.now})
	for ref := range w.there {
		if h, known := w.health[ref]; known && w.ended == nil {
			w.feed(Seen{w.now, ref, h})
		}
	}
}

func (w *world) gone() {
	for _, ref := range w.target.Made() {
		_, is := w.there[ref]
		assert.False(w.t, is, "%v is left\n%s", ref, w)
	}
}

func TestACanaryGoesThrough(t *testing.T) {
	w := newWorld(t, byRoute, errorsCheck)
	w.settle()
	assert.Equal(t, Sharing, w.m.Phase)
	assert.Equal(t, 5, w.m.Weight)
	w.pass(59 * time.Second)
	assert.Equal(t, 0, w.m.Share)
	w.pass(2 * time.Second)
	assert.Equal(t, 1, w.m.Share)
	w.pass(61 * time.Second)
	assert.Equal(t, 2, w.m.Share)
	w.pass(20 * time.Minute)
	assert.Equal(t, 80, w.m.Weight, "a person is asked")
	w.feed(Said{At: w.now, Word: Next, By: "operator"})
	w.settle()
	assert.Equal(t, Through, w.m.Phase)
	assert.True(t, w.through)
	assert.Equal(t, int64(4), asMap(w.there[w.target.Twin].Body["spec"])["replicas"], "all of it stands beside while the rest is run")
	w.feed(Rest{w.now})
	w.settle()
	require.NotNil(t, w.ended)
	assert.Nil(t, w.ended.Back)
	w.gone()
	assert.Equal(t, object.Hash(w.target.after[0].Body), object.Hash(w.there[routeRef].Body), "the route is as declared")
}

// TestNoTrafficIsLedToNobody: the routes wait until the Services beside lead to Pods, and a canary whose Services never do goes back.
func TestNoTrafficIsLedToNobody(t *testing.T) {
	alone := func() *world {
		w := newWorld(t, byRoute, errorsCheck)
		w.side.Alone = []string{"fare-gate-old"}
		for range 40 { // as settle does, but for looks that never end
			if len(w.calls) > 0 {
				w.answer(0, "")
			}
			for ref := range w.health {
				w.health[ref] = health.Result{Word: health.Ready}
				w.feed(Seen{w.now, ref, w.health[ref]})
			}
		}
		assert.Equal(t, Making, w.m.Phase)
		assert.Equal(t, -1, w.m.Weight, "no route was touched\n%s", w)
		return w
	}
	w := alone()
	w.side.Alone = nil
	w.settle()
	assert.Equal(t, Sharing, w.m.Phase)

	w = alone()
	w.now = w.now.Add(time.Minute)
	w.feed(Tick{w.now})
	w.settle()
	require.NotNil(t, w.ended)
	assert.Equal(t, "Service/fare-gate-old led to nobody within 1 min", w.ended.Back.Reason)
	assert.True(t, w.ended.Back.Blameless)
	w.gone()
}

// TestWhatCanNotBeLookedAt says so, and goes back after a while: nobody is to wait hours for a right that is missing.
func TestWhatCanNotBeLookedAt(t *testing.T) {
	w := newWorld(t, byRoute, errorsCheck)
	no := `endpointslices is forbidden`
	w.answer(0, no)
	assert.Equal(t, Looking, w.m.Phase)
	assert.Contains(t, w.m.Says(), "; it can't be looked at: "+no)
	w.now = w.m.Wake()
	w.feed(Tick{w.now})
	w.settle()
	require.NotNil(t, w.ended)
	assert.Equal(t, "it could not be looked at within 1 min: "+no, w.ended.Back.Reason)
	assert.True(t, w.ended.Back.Blameless)
	w.gone()

	w = newWorld(t, byRoute, errorsCheck)
	w.answer(0, no)
	w.settle()
	assert.Equal(t, Sharing, w.m.Phase, "it was answered the next time")
	assert.Empty(t, w.m.Blind)
}

func TestWhatAServiceLeadsTo(t *testing.T) {
	slice := func(ready ...any) map[string]any {
		var all []any
		for i, r := range ready {
			all = append(all, map[string]any{"conditions": map[string]any{"ready": r}, "targetRef": map[string]any{"name": fmt.Sprint("p", i)}})
		}
		return map[string]any{"endpoints": all}
	}
	for _, c := range []struct {
		slices []map[string]any
		pods   int
		want   bool
	}{
		{nil, 0, false}, {[]map[string]any{slice()}, 0, false}, {[]map[string]any{slice(true)}, 1, true}, {[]map[string]any{slice(true)}, 2, false}, {[]map[string]any{slice(true, false)}, 2, false},
		{[]map[string]any{slice(true, nil)}, 2, true},          // what is not said is ready
		{[]map[string]any{slice(true), slice(true)}, 2, false}, // the same Pod, by each of its addresses
	} {
		assert.Equal(t, c.want, Lead(c.slices, c.pods), "%v", c)
	}
}

func TestWhyItGoesBack(t *testing.T) {
	bad := func(w *world) {
		for range 20 {
			if w.ended != nil {
				return
			}
			w.now = w.now.Add(10 * time.Second)
			w.feed(Tick{w.now})
			for len(w.calls) > 0 {
				refused := ""
				if _, ask := w.calls[0].(Ask); ask {
					refused = "bad"
				}
				w.answer(0, refused)
			}
			w.settle()
		}
	}
	for name, c := range map[string]struct {
		do        func(*world)
		check     func(*ward.Check)
		want      string
		blameless bool
		stopped   bool
	}{
		"a check is bad": {do: bad, want: "check errors: value 0.2; good is value < 0.05 (2 times)"},
		"in a row":       {do: bad, check: func(c *ward.Check) { c.Misses, c.InARow = 0, 3 }, want: "(3 times in a row)"},
		"none is borne":  {do: bad, check: func(c *ward.Check) { c.Misses = 0 }, want: "check errors: value 0.2; good is value < 0.05"},
		"it crashes": {do: func(w *world) {
			w.feed(Seen{w.now, w.target.Twin, health.Result{Word: health.Failing, Reason: "crashed 5 times", Final: true}})
		}, want: "Deployment/fare-gate-new crashed 5 times"},
		"a person":          {do: func(w *world) { w.feed(Said{w.now, GoBack, "operator", "it smells"}) }, want: "sent back by operator: it smells"},
		"it is stopped":     {do: func(w *world) { w.feed(Stopped{w.now, "stopped by operator"}) }, want: "stopped by operator", stopped: true},
		"the deadline":      {do: func(w *world) { w.m.Spent = time.Hour; w.pass(2 * time.Hour) }, want: "not through within 1 h, and nobody sent it on"},
		"found otherwise":   {do: func(w *world) { w.machine(w.m.State); w.feed(Resumed{w.now, "Deployment/fare-gate-new is gone"}) }, want: "what was found is not what was left: Deployment/fare-gate-new is gone", blameless: true},
		"away for too long": {do: func(w *world) { w.now = w.now.Add(time.Hour); w.kill() }, want: "Vigila was away for 1 h, and it was to be through within 1 h", blameless: true},
		"it is not ready for long": {do: func(w *world) {
			w.health[w.target.Twin] = health.Result{Word: health.Settling, Reason: "1 of 2 ready"}
			w.feed(Seen{w.now, w.target.Twin, w.health[w.target.Twin]})
			w.now = w.now.Add(time.Minute)
			w.feed(Tick{w.now})
		}, want: "the new version was not ready for 1 min: 1 of 2 ready"},
	} {
		t.Run(name, func(t *testing.T) {
			check := errorsCheck
			if c.check != nil {
				c.check(&check)
			}
			w := newWorld(t, byRoute, check)
			w.settle()
			require.Equal(t, Sharing, w.m.Phase)
			c.do(w)
			w.settle()
			require.NotNil(t, w.ended, "%s", w)
			require.NotNil(t, w.ended.Back)
			assert.Contains(t, w.ended.Back.Reason, c.want)
			assert.Equal(t, c.blameless, w.ended.Back.Blameless)
			assert.Equal(t, c.stopped, w.ended.Back.Stopped)
			w.gone()
		})
	}
}

func TestWeightsComeFirstOnTheWayBack(t *testing.T) {
	w := newWorld(t, byRoute, errorsCheck)
	w.settle()
	w.feed(Said{w.now, GoBack, "operator", ""})
	require.Len(t, w.calls, 1, "nothing else before they are answered")
	a, ok := w.calls[0].(Apply)
	require.True(t, ok)
	assert.Equal(t, routeRef, a.Object.Ref)
	assert.Equal(t, "fare-gate-old", backends(a.Object.Body)[1]["name"])
	assert.Equal(t, int64(0), backends(a.Object.Body)[2]["weight"], "to the new version")
}

func TestWhatIsNotKnownIsNeverGood(t *testing.T) {
	unknown := func(w *world) {
		for range 30 {
			w.now = w.now.Add(10 * time.Second)
			w.feed(Tick{w.now})
			for len(w.calls) > 0 {
				w.answer(0, map[bool]string{true: "the source does not answer"}[isAsk(w.calls[0])])
			}
		}
	}
	w := newWorld(t, byRoute, errorsCheck)
	w.settle()
	unknown(w)
	assert.Equal(t, 0, w.m.Share, "the share does not end")
	assert.Nil(t, w.m.Going)
	assert.Positive(t, w.m.TallyOf(0, "errors").Unknown)
	w.pass(11 * time.Second)
	assert.Equal(t, 1, w.m.Share, "once it knows something, it goes on")

	miss := errorsCheck
	miss.NoData = ward.Miss
	w = newWorld(t, byRoute, miss)
	w.settle()
	unknown(w)
	require.NotNil(t, w.m.Going)
	assert.Contains(t, w.m.Going.Reason, "the source does not answer")
}

func isAsk(e Effect) bool { _, is := e.(Ask); return is }

func TestAKillKeepsShareTimeAndMisses(t *testing.T) {
	w := newWorld(t, byRoute, errorsCheck)
	w.settle()
	w.pass(9 * time.Second)
	w.now = w.now.Add(2 * time.Second)
	w.feed(Tick{w.now})
	w.answer(0, "bad")
	assert.Equal(t, 1, w.m.TallyOf(0, "errors").Misses)
	w.pass(29 * time.Second)
	spent := w.m.Spent
	w.now = w.now.Add(10 * time.Minute) // away
	w.kill()
	w.settle()
	assert.Equal(t, Sharing, w.m.Phase)
	assert.Equal(t, 0, w.m.Share)
	assert.Equal(t, 1, w.m.TallyOf(0, "errors").Misses)
	assert.InDelta(t, spent.Seconds(), w.m.Spent.Seconds(), writeEvery.Seconds(), "the time away does not count")
}

func TestTheSizeFollows(t *testing.T) {
	w := newWorld(t, byRoute, errorsCheck)
	w.settle()
	w.side.Size = 40
	w.feed(Seen{w.now, w.target.Ref, health.Result{Word: health.Ready}})
	w.settle()
	assert.Equal(t, int64(2), asMap(w.there[w.target.Twin].Body["spec"])["replicas"])
	w.side.Size = 4 // an autoscaler takes away what the new version relieves
	w.feed(Seen{w.now, w.target.Ref, health.Result{Word: health.Ready}})
	w.settle()
	assert.Equal(t, 4, w.m.Targets[0].Live)
	assert.Equal(t, int64(2), asMap(w.there[w.target.Twin].Body["spec"])["replicas"], "the new one keeps what its share of the most needs")
	w.side.Newest = "def"
	for i := range w.side.Old {
		w.side.Old[i].Hash = "def"
	}
	w.feed(Seen{w.now, w.target.Ref, health.Result{Word: health.Ready}})
	w.settle()
	old := w.there[object.Ref{Kind: "Service", Namespace: "ticketing", Name: "fare-gate-old"}]
	assert.Equal(t, "def", asMap(asMap(old.Body["spec"])["selector"])[HashLabel], "a restart by hand is followed")
}

// TestChecksAreAskedWhileTheSizeFollows: traffic is led to the new version all the while, and an autoscaler may move for as long as it likes.
func TestChecksAreAskedWhileTheSizeFollows(t *testing.T) {
	w := newWorld(t, byRoute, errorsCheck)
	w.settle()
	w.side.Size = 40
	w.feed(Seen{w.now, w.target.Ref, health.Result{Word: health.Ready}})
	w.answer(0, "") // the look
	require.IsType(t, Apply{}, w.calls[0])
	w.answer(0, "")
	w.health[w.target.Twin] = health.Result{Word: health.Settling, Reason: "1 of 2 Pods is ready"} // and there is no room for the other
	w.feed(Seen{w.now, w.target.Twin, w.health[w.target.Twin]})
	for range 2 {
		at := w.m.Wake()
		for !isAsk(w.last()) {
			require.False(t, at.IsZero())
			w.now = at
			w.feed(Tick{w.now})
			at = w.m.Wake()
		}
		require.Nil(t, w.m.Going)
		w.answer(len(w.calls)-1, "bad")
	}
	require.NotNil(t, w.m.Going, "it is not waited for the size")
	assert.Contains(t, w.m.Going.Reason, "check errors")
}

// last is what was asked for last.
func (w *world) last() Effect {
	if len(w.calls) == 0 {
		return nil
	}
	return w.calls[len(w.calls)-1]
}

// TestAnAnswerIsOfItsOwnShare: one that was asked in an earlier share ends no later one, and sends back all the same when it is bad.
func TestAnAnswerIsOfItsOwnShare(t *testing.T) {
	asked := func() *world {
		w := newWorld(t, byRoute, errorsCheck)
		w.settle()
		w.now = w.now.Add(10 * time.Second)
		w.feed(Tick{w.now})
		require.Len(t, w.calls, 1)
		require.IsType(t, Ask{}, w.calls[0])
		ask := w.calls[0]
		w.calls = nil
		w.feed(Said{At: w.now, Word: Next, By: "operator"})
		w.settle()
		require.Equal(t, 1, w.m.Share)
		w.calls = append(w.calls, ask)
		return w
	}
	w := asked()
	w.answer(0, "")
	assert.Equal(t, []string{"errors"}, w.m.Unknown(), "of this share nothing is known")
	w = asked()
	w.answer(0, "bad")
	assert.Equal(t, []string{"errors"}, w.m.Unknown())
	assert.Equal(t, 1, w.m.TallyOf(0, "errors").Misses)
}

var plays = flag.Int("play.times", 200, "how many canaries are played")

// TestCanariesArePlayed plays canaries at random: answers late, refused or bad, Pods that crash, sizes that move, people, kills, and a
// newer revision; what holds after every event is promise.
func TestCanariesArePlayed(t *testing.T) {
	ends := map[string]int{}
	for seed := range *plays {
		r := rand.New(rand.NewPCG(uint64(seed), 14))
		c := byRoute
		if r.IntN(4) == 0 {
			c.Routes, c.Shares = nil, []ward.Share{{At: 10, For: time.Minute}, {At: 50, For: time.Minute}}
		}
		if r.IntN(2) == 0 {
			c.Shares = []ward.Share{{At: 0, For: 30 * time.Second}, {At: 50, For: time.Minute}}
		}
		if r.IntN(4) == 0 {
			c = inPlace
		}
		w := newWorld(t, c, errorsCheck)
		mood := r.IntN(3) // quiet, bad, wild
		for step := 0; step < 400 && w.ended == nil; step++ {
			w.random(r, mood)
		}
		for range 50 {
			if w.ended != nil {
				break
			}
			if w.m.Phase == Through {
				w.feed(Rest{w.now})
			}
			w.pass(10 * time.Minute)
		}
		if c.InPlace() {
			ends["in place"]++
		}
		require.NotNil(t, w.ended, "seed %d never ends\n%s", seed, w)
		switch back := w.ended.Back; {
		case back != nil && w.through: // the run goes back as any does, and takes away what is left
		case w.left: // a removal was refused, which is told
		case back == nil || back.Trouble == "":
			w.gone()
		}
		switch {
		case w.ended.Back == nil:
			ends["through"]++
		case w.ended.Back.Stopped:
			ends["stopped"]++
		default:
			ends["back"]++
		}
	}
	t.Log(ends)
	for _, end := range []string{"through", "stopped", "back"} {
		assert.Positive(t, ends[end], "the play has never seen: %s", end)
	}
}

func (w *world) random(r *rand.Rand, mood int) {
	switch n := r.IntN(100); {
	case len(w.calls) > 0 && n < 60:
		refused := ""
		switch e := w.calls[0].(type) {
		case Ask:
			if mood > 0 && r.IntN(4) == 0 {
				refused = []string{"bad", "not answered"}[r.IntN(2)]
			}
		case Apply, Look:
			if mood > 1 && r.IntN(12) == 0 {
				refused = "refused"
			}
		default:
			_ = e
		}
		w.answer(r.IntN(len(w.calls)), refused)
	case n < 75:
		for ref := range w.health {
			if _, is := w.there[ref]; is && r.IntN(2) == 0 {
				h := health.Result{Word: health.Ready}
				if mood > 1 && r.IntN(10) == 0 {
					h = health.Result{Word: health.Settling}
				}
				if mood > 1 && r.IntN(60) == 0 && w.target.Is(ref) {
					h = health.Result{Word: health.Failing, Final: true, Reason: "crashed"}
				}
				w.health[ref] = h
				w.feed(Seen{w.now, ref, h})
				break
			}
		}
	case n < 90:
		w.now = w.now.Add(time.Duration(r.IntN(20000)) * time.Millisecond)
		w.feed(Tick{w.now})
	case n < 92:
		w.kill()
	case n < 94:
		w.side.Size = 1 + r.IntN(12)
		w.single = w.single || w.side.Size == 1
		w.feed(Seen{w.now, w.target.Ref, health.Result{Word: health.Ready}})
	case n < 97:
		w.feed(Said{At: w.now, Word: Words[r.IntN(3)], By: "operator"})
	case n == 97 && mood > 0:
		w.feed(Stopped{w.now, "taken over"})
	case w.m.Phase == Through:
		w.feed(Rest{w.now})
	}
}
