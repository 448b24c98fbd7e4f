package canary

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// Event is something that happened; At is when.
type Event interface{ at() time.Time }

// The events.
type (
	// Started begins a canary, Resumed goes on with one that was interrupted. Moved tells how what was found differs from what was left.
	Started struct{ At time.Time }
	Resumed struct {
		At    time.Time
		Moved string
	}
	// Looked answers Look: a side for each target. Problem is why it could not be looked.
	Looked struct {
		At      time.Time
		Sides   []Side
		Problem string
	}
	// Applied answers Apply, Removed answers Remove.
	Applied struct {
		At      time.Time
		Ref     object.Ref
		Err     string
		Outside bool // Err says nothing about the object
		Health  health.Result
	}
	Removed struct {
		At  time.Time
		Ref object.Ref
		Err string
	}
	// Seen is a newer health of what was made beside, or of a route.
	Seen struct {
		At     time.Time
		Ref    object.Ref
		Health health.Result
	}
	// Changed tells that somebody else changed what was made beside, or a route; Words say who and what.
	Changed struct {
		At    time.Time
		Ref   object.Ref
		Words string
	}
	// Answered answers Ask.
	Answered struct {
		At     time.Time
		Target int
		Check  string
		New    judge.Answer
		Old    *judge.Answer
	}
	// Tick is the passing of time.
	Tick struct{ At time.Time }
	// Said is what a person wants of it.
	Said struct {
		At      time.Time
		Word    Word
		By, Why string
	}
	// Stopped is the wish to stop: a person's, or that of a newer revision. It goes back.
	Stopped struct {
		At     time.Time
		Reason string
	}
	// Rest tells that all of the revision but the canary's own is ready, after Carried.
	Rest struct{ At time.Time }
)

// Word is what a person may say.
type Word string

// The words.
const (
	Next   Word = "next"   // to the next share, now
	Hold   Word = "hold"   // stay at this one
	Finish Word = "finish" // all of the traffic, now
	GoBack Word = "back"
)

// Words lists them.
var Words = []Word{Next, Hold, Finish, GoBack}

func (e Started) at() time.Time  { return e.At }
func (e Resumed) at() time.Time  { return e.At }
func (e Looked) at() time.Time   { return e.At }
func (e Applied) at() time.Time  { return e.At }
func (e Removed) at() time.Time  { return e.At }
func (e Seen) at() time.Time     { return e.At }
func (e Changed) at() time.Time  { return e.At }
func (e Answered) at() time.Time { return e.At }
func (e Tick) at() time.Time     { return e.At }
func (e Said) at() time.Time     { return e.At }
func (e Stopped) at() time.Time  { return e.At }
func (e Rest) at() time.Time     { return e.At }

// Effect is something that is to be done.
type Effect interface{ effect() }

// The effects.
type (
	// Look asks for the sides of all targets.
	Look struct{}
	// Apply asks for an object as it is given. Declared tells that it is as the revision, or the one before, declares it.
	Apply struct {
		Object   object.Object
		Declared bool
	}
	Remove struct{ Ref object.Ref }
	// Ask asks a check of a target. Pods are the names of the old and the new ones.
	Ask struct {
		Target int
		Check  ward.Check
		Pods   map[string][]string
		Old    bool // the old version is asked as well
	}
	// Carried tells that it is through: the rest of the revision follows, and then Rest.
	Carried struct{}
	// Ended is the end: all went well, or it has gone back.
	Ended struct{ Back *Going }
)

func (Look) effect()    {}
func (Apply) effect()   {}
func (Remove) effect()  {}
func (Ask) effect()     {}
func (Carried) effect() {}
func (Ended) effect()   {}

// move is some work of a phase: objects that are applied or removed at the same time, and waited for.
type move struct {
	apply    []Apply
	remove   []object.Ref
	patient  bool // it is waited for until all are ready
	thorough bool // what goes wrong with it is told, and the next follows all the same: on the way back
	lingers  bool // traffic was led to what goes with it until now
	began    time.Time
}

// linger is how long what traffic was led to stands on once no route leads there any more: a gateway says that it follows before all
// of it does, and requests are on their way.
const linger = 3 * time.Second

// piece is how it is with one object.
type piece struct {
	calling bool
	health  health.Result
	removal bool // it is, or was, removed
	gone    bool
	refused bool
	began   time.Time
	ended   time.Time
}

// Piece is how it is with one object that the canary makes, moves or takes away.
type Piece struct {
	Ref                             object.Ref
	Calling, Removed, Gone, Refused bool
	Health                          health.Result
	Began, Ended                    time.Time
}

// Ready tells whether it is there and ready.
func (p Piece) Ready() bool { return !p.Calling && !p.Gone && p.Health.Word == health.Ready }

// Pieces lists what it has made, moved or taken away so far.
func (m *Machine) Pieces() (out []Piece) {
	for ref, p := range m.pieces {
		out = append(out, Piece{ref, p.calling, p.removal, p.gone, p.refused, p.health, p.began, p.ended})
	}
	slices.SortFunc(out, func(a, b Piece) int { return a.Ref.Compare(b.Ref) })
	return out
}

// GiveUp is until when the work that is on its way is tried.
func (m *Machine) GiveUp() time.Time {
	if len(m.queue) > 0 && !m.queue[0].began.IsZero() {
		return m.queue[0].began.Add(m.within)
	}
	return m.Seen.Add(m.within)
}

// Machine is one canary, of one workload or of several that move together. Make it with New, and give it events one at a time.
type Machine struct {
	State
	targets []*Target
	within  time.Duration // settle.within: for what is applied to be ready
	rules   map[string]*judge.Rule

	queue    []move
	pieces   map[object.Ref]*piece
	sides    []Side
	looking  bool
	again    bool // something has changed since the look that is on its way
	asked    map[string]time.Time
	busy     map[string]int // checks that are being asked, to the share that they are asked in, from 1
	unready  time.Time      // since when the new version is not ready, once it was
	made     time.Time      // when the newest work on what stands beside was done
	asks     time.Time      // when the look that is on its way was asked for,
	seen     time.Time      // and the one that was answered last
	versions int
	written  time.Time
}

// New makes a machine that goes on from a state: a first one has no phase. within is how long what it applies may take to be ready.
func New(targets []*Target, checks func(string) (ward.Check, bool), within time.Duration, s State) (*Machine, error) {
	m := &Machine{State: s, targets: targets, within: within, rules: map[string]*judge.Rule{}, pieces: map[object.Ref]*piece{}, asked: map[string]time.Time{}, busy: map[string]int{}}
	if m.Tallies == nil {
		m.Tallies = map[string]Tally{}
	}
	for i, t := range targets {
		for _, name := range t.Canary.Checks {
			c, ok := checks(name)
			if !ok {
				return nil, fmt.Errorf("there is no check %s", name)
			}
			r, err := judge.Compile(c.Good)
			if err != nil {
				return nil, fmt.Errorf("check %s: good: %w", name, err)
			}
			m.rules[name] = r
			t.checks = append(t.checks, c)
		}
		if len(m.Targets) <= i {
			m.Targets = append(m.Targets, TargetState{Ref: t.Ref, Images: t.images(), InPlace: t.InPlace(), Traffic: t.Canary.Traffic != nil})
		}
		m.Targets[i].Checks = t.checks
	}
	m.Steps, m.Whole = m.Shares(), m.Within()
	if m.Phase == "" {
		m.Phase, m.Weight = Looking, -1
	}
	if n := len(m.Shares()); m.Share >= n { // the ward file has fewer than it had
		m.Share = max(n-1, 0)
	}
	return m, nil
}

// Within is how long the whole may take: the shortest of all targets.
func (m *Machine) Within() (d time.Duration) {
	for _, t := range m.targets {
		if d == 0 || t.Canary.Within < d {
			d = t.Canary.Within
		}
	}
	return d
}

// Deadline is when it goes back, should it not be through by then.
func (m *Machine) Deadline() time.Time { return m.Began.Add(m.Within()) }

// Shares lists the shares of all targets together: at each one lasts as long as the longest, and one that has no more stays at its
// last.
func (m *Machine) Shares() (out []ward.Share) {
	for _, t := range m.targets {
		for i, s := range t.Canary.Shares {
			if i == len(out) {
				out = append(out, s)
				continue
			}
			out[i].For, out[i].Person = max(out[i].For, s.For), out[i].Person || s.Person
		}
	}
	return out
}

// share is the share of a target, in percent, at a step.
func share(t *Target, step int) int {
	return t.Canary.Shares[min(step, len(t.Canary.Shares)-1)].At
}

// Version grows with everything that has to be remembered before anything more is done.
func (m *Machine) Version() int { return m.versions }

// Carries tells whether an object is made or moved by the canary.
func (m *Machine) Carries(ref object.Ref) bool {
	return slices.ContainsFunc(m.targets, func(t *Target) bool {
		// Once it is through, the rest of the run carries the workload itself.
		return t.Is(ref) || slices.Contains(t.Routes(), ref) || t.InPlace() && t.Ref == ref && (m.Before() || m.Phase == Back)
	})
}

// InPlace lists the workloads that some of the Pods of are new, while it goes on.
func (m *Machine) InPlace() (out []object.Ref) {
	for _, t := range m.targets {
		if t.InPlace() {
			out = append(out, t.Ref)
		}
	}
	return out
}

// Refs lists what is made beside, and Routes what is moved.
func (m *Machine) Refs() (made, routes []object.Ref) {
	for _, t := range m.targets {
		made = append(made, t.Made()...)
		for _, r := range t.Routes() {
			if !slices.Contains(routes, r) {
				routes = append(routes, r)
			}
		}
	}
	return made, routes
}

// Step takes one event and answers with what is to be done now.
func (m *Machine) Step(ev Event) []Effect {
	if m.Phase == Over {
		return nil
	}
	now := ev.at()
	if _, again := ev.(Resumed); !again { // nobody has seen the time that it was away
		m.count(now)
	}
	var out []Effect
	switch e := ev.(type) {
	case Started:
		m.Began, m.Seen = now, now
		m.note(now, "begins")
		out = m.look()
	case Resumed:
		out = m.resume(e)
	case Looked:
		out = m.looked(e)
	case Applied:
		out = m.applied(e)
	case Removed:
		if p := m.pieces[e.Ref]; p != nil && p.calling {
			p.calling, p.gone, p.refused, p.ended = false, e.Err == "", e.Err != "", now
			if e.Err != "" {
				m.trouble(e.Ref.Short() + " can't be removed: " + e.Err)
				m.note(now, "%s can't be removed: %s; the next sync does it", e.Ref.Short(), e.Err)
			}
		}
	case Seen:
		p := m.pieces[e.Ref]
		if p != nil && !p.removal {
			p.health = e.Health
		}
		if p != nil || slices.ContainsFunc(m.targets, func(t *Target) bool { return t.Ref == e.Ref }) {
			out = m.look()
		}
	case Changed:
		if m.pieces[e.Ref] != nil {
			m.back(now, Going{Reason: e.Words, Blameless: true})
		}
	case Answered:
		m.answered(e)
	case Said:
		m.said(e)
	case Stopped:
		m.back(now, Going{Reason: e.Reason, Stopped: true})
	case Rest:
		if m.Phase == Through {
			m.enter(now, Closing)
		}
	}
	return append(out, m.advance(now)...)
}

// count lets time pass: what of a share was seen to pass.
func (m *Machine) count(now time.Time) {
	if m.Phase == Sharing && !m.Seen.IsZero() && now.After(m.Seen) && m.unready.IsZero() {
		m.Spent += now.Sub(m.Seen)
	}
	m.Seen = now
	if m.Phase == Sharing && now.Sub(m.written) >= writeEvery {
		m.changed(now)
	}
}

// writeEvery is how often the time that has passed is written down.
const writeEvery = 5 * time.Second

func (m *Machine) changed(now time.Time) {
	m.versions++
	m.written = now
}

func (m *Machine) note(now time.Time, format string, args ...any) {
	m.Log = append(m.Log, Line{now, fmt.Sprintf(format, args...)})
	if len(m.Log) > maxLines {
		m.Log = slices.Delete(m.Log, 1, len(m.Log)-maxLines+1)
	}
	m.changed(now)
}

func (m *Machine) trouble(what string) {
	if m.Going != nil && m.Going.Trouble == "" {
		m.Going.Trouble = what
	}
}

// look asks for the sides; one look is on its way at a time.
func (m *Machine) look() []Effect {
	if m.Phase == Through || m.Phase == Closing || m.Phase == Back {
		return nil
	}
	if m.looking {
		m.again = true
		return nil
	}
	m.looking, m.again, m.asks = true, false, m.Seen
	return []Effect{Look{}}
}

func (m *Machine) resume(e Resumed) []Effect {
	away := e.At.Sub(m.Seen)
	m.Seen = e.At
	m.note(e.At, "goes on, after Vigila was away")
	switch m.Phase {
	case Through:
		return []Effect{Carried{}}
	case Closing, Back:
		m.enter(e.At, m.Phase)
		return nil
	}
	if !e.At.Before(m.Deadline()) {
		m.back(e.At, Going{Reason: fmt.Sprintf("Vigila was away for %s, and it was to be through within %s", span(away.Round(time.Second)), span(m.Within())), Blameless: true})
		return nil
	}
	if e.Moved != "" {
		m.back(e.At, Going{Reason: "what was found is not what was left: " + e.Moved, Blameless: true})
		return nil
	}
	for i, t := range m.targets {
		if m.Phase != Sharing {
			m.Targets[i].Size = 0 // whether it was applied is not known
		}
		m.pieces[t.Twin] = &piece{health: health.Result{Word: health.Unknown, Reason: "not seen yet"}}
	}
	switch m.Phase {
	case Looking:
	case Sharing: // what was on its way is made sure of
		mv := move{}
		for i, t := range m.targets {
			mv.apply = append(mv.apply, makes(t.Services(m.Targets[i].Hash), false)...)
			mv.apply = append(mv.apply, Apply{t.TwinOf(m.Targets[i].Size, m.Targets[i].Size+m.Targets[i].Part), false})
		}
		m.queue = []move{mv}
	default:
		m.enter(e.At, m.Phase)
	}
	return m.look()
}

// looked takes in the sizes and the Pods of both sides.
func (m *Machine) looked(e Looked) (out []Effect) {
	asked := m.asks
	m.looking = false
	if m.again {
		out = m.look()
	}
	if e.Problem != m.Blind {
		m.Blind = e.Problem
		m.changed(e.At)
	}
	if e.Problem != "" || len(e.Sides) != len(m.targets) {
		return append(out, m.look()...) // it is asked until it is answered; the deadline bounds that
	}
	m.sides, m.seen = e.Sides, asked
	for i := range m.targets {
		s, side := &m.Targets[i], e.Sides[i]
		hash := side.hash(s.Hash)
		grown := hash != s.Hash && hash != ""
		if hash != "" {
			s.Hash = hash
		}
		if side.Size != s.Live {
			s.Live, s.Peak = side.Size, max(s.Peak, side.Size)
			m.changed(e.At)
		}
		if grown && m.beside() {
			m.note(e.At, "the old Pods of %s are those of %s now", s.Ref.Short(), hash)
			m.queue = append(m.queue, move{apply: makes(m.targets[i].Services(hash), false)})
		}
	}
	switch {
	case m.Phase == Looking && m.settled():
		m.enter(e.At, Making)
	case m.Phase == Sharing && len(m.queue) == 0:
		if size := m.size(m.Share); size != nil {
			m.queue = append(m.queue, *size)
			m.note(e.At, "the size of the new version follows: %s", m.sizes())
		}
	}
	return out
}

// beside tells whether Services stand beside already.
func (m *Machine) beside() bool { return m.Phase == Sizing || m.Phase == Leading || m.Phase == Sharing }

// settled tells whether enough is known to begin.
func (m *Machine) settled() bool {
	for i, t := range m.targets {
		if m.Targets[i].Live == 0 && m.sides == nil || len(t.services) > 0 && m.Targets[i].Hash == "" {
			return false
		}
	}
	return true
}

func makes(all []object.Object, declared bool) (out []Apply) {
	for _, o := range all {
		out = append(out, Apply{o, declared})
	}
	return out
}

// size brings the new versions to the size of a step; nil when they have it.
func (m *Machine) size(step int) *move {
	mv := move{patient: true}
	for i, t := range m.targets {
		if t.InPlace() {
			live := m.Targets[i].Live
			size := PartOf(live, share(t, step))
			if s := &m.Targets[i]; m.Phase != Handing && m.Phase != Through && (size != s.Size || live-size != s.Part) { // then the rest of the run gives it to all of them
				s.Size, s.Part = size, max(live-size, 0)
				mv.apply = append(mv.apply, Apply{t.TwinOf(size, live), false})
			}
			continue
		}
		full := max(m.Targets[i].Live, m.Targets[i].Peak) // an autoscaler takes Pods of the old version away as the new one takes its load
		want := Size(full, share(t, step), t.Canary.ByReplicas())
		if m.Phase == Handing || m.Phase == Through {
			want = max(full, 1)
		}
		if want != m.Targets[i].Size {
			m.Targets[i].Size = want
			mv.apply = append(mv.apply, Apply{t.TwinOf(want, full), false})
		}
	}
	if len(mv.apply) == 0 {
		return nil
	}
	return &mv
}

func (m *Machine) sizes() string {
	var all []string
	for _, t := range m.Targets {
		if t.InPlace {
			all = append(all, fmt.Sprintf("%s %d of %d", t.Ref.Short(), t.Size, t.Live))
			continue
		}
		all = append(all, fmt.Sprintf("%s %d beside %d", t.Ref.Short(), t.Size, t.Live))
	}
	return strings.Join(all, ", ")
}

// lead brings the routes to a share: of the step, or of all when whole is not negative.
func (m *Machine) lead(step, whole int) (mv move, err error) {
	mv.patient = true
	for _, t := range m.targets {
		at := whole
		if whole < 0 {
			at = share(t, step)
		}
		for _, r := range t.routes { // several targets may share one
			i := slices.IndexFunc(mv.apply, func(a Apply) bool { return a.Object.Ref == r.Ref })
			if i < 0 {
				i, mv.apply = len(mv.apply), append(mv.apply, Apply{r, false})
			}
			if mv.apply[i].Object, err = t.Weighted(mv.apply[i].Object, at); err != nil {
				return mv, err
			}
		}
	}
	return mv, nil
}

// enter begins a phase, and says what there is to do in it.
func (m *Machine) enter(now time.Time, p Phase) {
	m.Phase, m.queue = p, nil
	for i := range m.Targets {
		m.Targets[i].Share = nil
	}
	m.changed(now)
	if p == Making || p == Sizing {
		m.made = now
	}
	add := func(mv move) {
		if len(mv.apply)+len(mv.remove) > 0 {
			m.queue = append(m.queue, mv)
		}
	}
	lead := func(step, whole int) {
		mv, err := m.lead(step, whole)
		if err != nil {
			m.back(now, Going{Reason: err.Error()})
			return
		}
		mv.thorough = p == Back
		add(mv)
	}
	switch p {
	case Making:
		var first, twins move
		for i, t := range m.targets {
			first.apply = append(first.apply, makes(t.Copies(), false)...)
			first.apply = append(first.apply, makes(t.Services(m.Targets[i].Hash), false)...)
			m.Targets[i].Size = 0
		}
		add(first)
		if mv := m.size(0); mv != nil {
			twins = *mv
		}
		add(twins)
	case Sizing:
		if mv := m.size(m.Share); mv != nil {
			add(*mv)
		}
	case Leading:
		m.Weight = share(m.targets[0], m.Share)
		lead(m.Share, -1)
	case Sharing:
		m.Since, m.Spent, m.asked = now, 0, map[string]time.Time{}
		for name, t := range m.Tallies {
			t.Last = ""
			m.Tallies[name] = t
		}
		m.note(now, "%d %%: %s", share(m.targets[0], m.Share), m.sizes())
	case Handing:
		m.Weight = 100
		m.note(now, "all of the traffic goes to the new version")
		if mv := m.size(m.Share); mv != nil {
			add(*mv)
		}
		lead(0, 100)
	case Through:
		m.note(now, "is through; the rest of the revision follows")
	case Closing:
		m.close(add, false)
	case Back:
		if m.Weight >= 0 {
			lead(0, 0)
		}
		m.close(add, true)
	}
}

// close takes away what was made beside. On the way back the new version goes before the declared Service takes over again, for that
// reaches both.
func (m *Machine) close(add func(move), back bool) {
	routes, twins, rest := move{patient: true, thorough: back}, move{thorough: true}, move{thorough: true}
	for _, t := range m.targets {
		all := makes(t.after, true)
		if back {
			all = makes(t.routes, true)
		}
		for _, a := range all {
			if !slices.ContainsFunc(routes.apply, func(x Apply) bool { return x.Object.Ref == a.Object.Ref }) {
				routes.apply = append(routes.apply, a)
			}
		}
		switch {
		case !t.InPlace():
			twins.remove = append(twins.remove, t.Twin)
		case back:
			routes.apply = append(routes.apply, Apply{t.before, true})
		}
		for _, ref := range t.Made() {
			if ref != t.Twin {
				rest.remove = append(rest.remove, ref)
			}
		}
	}
	if back && m.Weight < 0 {
		routes.apply = slices.DeleteFunc(routes.apply, func(a Apply) bool { return !slices.Contains(m.InPlace(), a.Object.Ref) })
	}
	led := m.Weight >= 0 && slices.ContainsFunc(m.targets, func(t *Target) bool { return len(t.routes) > 0 })
	twins.lingers = led
	if back {
		add(twins)
		add(routes)
		rest.lingers = led
	} else {
		add(routes)
		add(twins)
	}
	add(rest)
}

// back turns round, once.
func (m *Machine) back(now time.Time, why Going) {
	switch m.Phase {
	case Back, Over, Through, Closing:
		return // it is through: from here a run goes back as any does
	}
	why.At = now
	m.Going, m.Held = &why, nil
	m.note(now, "goes back: %s", why.Reason)
	m.enter(now, Back)
}

func (m *Machine) applied(e Applied) []Effect {
	p := m.pieces[e.Ref]
	if p == nil || !p.calling {
		return nil
	}
	p.calling, p.health, p.ended = false, e.Health, e.At
	if e.Err == "" {
		return nil
	}
	p.refused = true
	p.health = health.Result{Word: health.Failing, Reason: e.Err, Final: true}
	if m.Phase == Back {
		m.trouble(e.Ref.Short() + " refused: " + e.Err)
		return nil
	}
	m.fail(e.At, Going{Reason: e.Ref.Short() + " refused: " + e.Err, Blameless: e.Outside})
	return nil
}

// fail is what becomes of it when something can't go on: back, or when it is through already, the end.
func (m *Machine) fail(now time.Time, why Going) {
	if m.Phase == Closing {
		why.At = now
		m.Going = &why
		m.queue = nil
		return
	}
	m.back(now, why)
}

func (m *Machine) answered(e Answered) {
	key := tallyOf(e.Target, e.Check)
	late := m.Phase != Sharing || m.busy[key] != m.Share+1 // it was asked in a share that is over
	delete(m.busy, key)
	if e.Check == "" && e.Target < len(m.targets) && !late {
		m.Targets[e.Target].Share = seenShare(e.New, e.Old)
		m.changed(e.At)
		return
	}
	if !m.Before() || e.Target >= len(m.targets) || m.rules[e.Check] == nil {
		return
	}
	var c ward.Check
	for _, x := range m.targets[e.Target].checks {
		if x.Name == e.Check {
			c = x
		}
	}
	v := m.rules[e.Check].Judge(e.New, e.Old)
	if late && v.Word != judge.Bad {
		return // it says nothing of the share that goes on; what is bad is bad at any
	}
	t := m.Tallies[key]
	t.Asked++
	if !late {
		t.Last, t.Why, t.At = v.Word, v.Why, e.At
	}
	p := Point{At: e.At}
	if y, ok := e.New.Plot(); ok {
		p.New = &y
	}
	if e.Old != nil {
		if y, ok := e.Old.Plot(); ok {
			p.Old = &y
		}
	}
	miss := v.Word == judge.Bad || v.Word == judge.Unknown && c.NoData == ward.Miss
	switch {
	case miss:
		t.Misses++
		t.Row++
		p.Miss = true
	case v.Word == judge.Good:
		t.Row = 0
	default:
		t.Unknown++
	}
	t.note(p)
	m.Tallies[key] = t
	if !miss {
		return
	}
	m.note(e.At, "%s: %s", e.Check, v.Why)
	switch {
	case c.InARow > 0 && t.Row >= c.InARow:
		m.back(e.At, Going{Reason: fmt.Sprintf("check %s: %s%s", e.Check, v.Why, counted(t.Row, " in a row"))})
	case c.InARow == 0 && t.Misses > c.Misses:
		m.back(e.At, Going{Reason: fmt.Sprintf("check %s: %s%s", e.Check, v.Why, counted(t.Misses, ""))})
	}
}

// seenShare is the new version's share of the traffic of both, in percent; nil when that is not known, or there is no traffic.
func seenShare(now judge.Answer, before *judge.Answer) *float64 {
	if before == nil {
		return nil
	}
	next, knows := now.Plot()
	old, known := before.Plot()
	if !knows || !known || next < 0 || old < 0 || next+old <= 0 {
		return nil
	}
	share := 100 * next / (next + old)
	return &share
}

func counted(n int, how string) string {
	if n <= 1 {
		return ""
	}
	return fmt.Sprintf(" (%d times%s)", n, how)
}

// tallyOf names a check of a target: several may ask the same.
func tallyOf(target int, check string) string { return fmt.Sprintf("%d/%s", target, check) }

// TallyOf is the tally of a check of a target.
func (s *State) TallyOf(target int, check string) Tally { return s.Tallies[tallyOf(target, check)] }

func (m *Machine) said(e Said) {
	why := e.By
	if e.Why != "" {
		why += ": " + e.Why
	}
	switch {
	case e.Word == GoBack:
		m.back(e.At, Going{Reason: "sent back by " + why})
	case e.Word == Hold && m.Before():
		m.Held = &Held{e.By, e.Why, e.At}
		m.note(e.At, "held at this share by %s", why)
	case e.Word == Next && m.Phase == Sharing:
		m.Held = nil
		m.note(e.At, "sent on by %s", why)
		m.goOn(e.At)
	case e.Word == Finish && m.Phase == Sharing:
		m.Held = nil
		m.note(e.At, "finished by %s", why)
		m.enter(e.At, Handing)
	}
}

// May tells why a word can't be said now; "" when it can.
func (m *State) May(w Word) string {
	switch {
	case m.Phase == Back:
		return "it goes back already"
	case !m.Before():
		return "it is through"
	case (w == Next || w == Finish) && m.Phase != Sharing:
		return fmt.Sprintf("the share of %d %% has not begun, since its new version is being made ready; try it in a moment", m.At())
	}
	return ""
}

// Wants is what a word asks for.
func (w Word) Wants() string {
	return map[Word]string{Next: "go on to its next share", Hold: "be held", Finish: "be finished", GoBack: "go back"}[w]
}

// Before tells whether it is not through yet, and does not go back.
func (m *State) Before() bool {
	switch m.Phase {
	case Through, Closing, Back, Over:
		return false
	}
	return true
}

// goOn begins the next share, or hands over after the last.
func (m *Machine) goOn(now time.Time) {
	if m.Share+1 >= len(m.Shares()) {
		m.enter(now, Handing)
		return
	}
	m.Share++
	m.enter(now, Sizing)
}

// advance goes on as far as it can.
func (m *Machine) advance(now time.Time) (out []Effect) {
	for {
		if m.Before() && !m.Began.IsZero() && !now.Before(m.Deadline()) {
			m.back(now, m.late())
		}
		m.weigh(now)
		if len(m.queue) > 0 {
			more, done := m.work(now)
			out = append(out, more...)
			if !done {
				if m.Phase == Sharing { // its size follows an autoscaler, say; traffic is led to it all the while
					out = append(out, m.ask(now)...)
				}
				return out
			}
			continue
		}
		was := m.Phase
		switch m.Phase {
		case Looking:
			if m.Blind != "" && now.Sub(m.Began) >= m.within {
				m.back(now, Going{Reason: fmt.Sprintf("it could not be looked at within %s: %s", span(m.within), m.Blind), Blameless: true})
			}
		case Making, Sizing: // their work is done
			if alone := m.alone(); alone != "" { // traffic that is led there now would be lost
				if now.Sub(m.made) >= m.within {
					why := fmt.Sprintf("Service/%s led to nobody within %s", alone, span(m.within))
					if m.Blind != "" {
						why = fmt.Sprintf("it could not be looked at within %s: %s", span(m.within), m.Blind)
					}
					m.fail(now, Going{Reason: why, Blameless: true})
					continue
				}
				return append(out, m.look()...)
			}
			m.enter(now, Leading)
		case Leading:
			m.enter(now, Sharing)
		case Handing:
			m.enter(now, Through)
			return append(out, Carried{})
		case Closing, Back:
			m.Phase, m.Ended = Over, now
			if m.Going != nil {
				m.note(now, "is back")
			} else {
				m.note(now, "is through, and what was made beside is gone")
			}
			return append(out, Ended{m.Going})
		case Sharing:
			if m.mayGoOn() {
				m.goOn(now)
			} else {
				return append(out, m.ask(now)...)
			}
		}
		if m.Phase == was {
			return out
		}
	}
}

// alone is a Service beside that leads to nobody yet; "" once the newest look says that all do.
func (m *Machine) alone() string {
	for i, t := range m.targets {
		if len(t.services) == 0 {
			continue
		}
		switch {
		case i >= len(m.sides) || m.seen.Before(m.made):
			return t.services[0].was.Ref.Name + former
		case len(m.sides[i].Alone) > 0:
			return m.sides[i].Alone[0]
		}
	}
	return ""
}

// late is why it is not through in time. That checks know nothing says nothing about the revision.
func (m *Machine) late() Going {
	g := Going{Reason: "not through within " + span(m.Within())}
	if names := m.Unknown(); len(names) > 0 && m.Phase == Sharing {
		g.Reason += "; not known: " + strings.Join(names, ", ")
		g.Blameless = true
	} else if m.Shares()[m.Share].Person {
		g.Reason += ", and nobody sent it on"
	}
	return g
}

// weigh looks at the health of the new version: one that will never be ready goes back at once.
func (m *Machine) weigh(now time.Time) {
	if !m.Before() {
		return
	}
	ready := true
	for i, t := range m.targets {
		p := m.pieces[t.Twin]
		if p == nil || p.calling {
			continue
		}
		s := &m.Targets[i]
		s.Ready, s.Reason = p.health.Word == health.Ready, p.health.Reason
		if p.health.Final || p.health.Word == health.Failing { // a crash loop is not waited out
			m.back(now, Going{Reason: fmt.Sprintf("%s %s", t.Twin.Short(), cmp.Or(p.health.Reason, "is failing"))})
			return
		}
		ready = ready && s.Ready
	}
	switch {
	case ready || m.Phase != Sharing:
		m.unready = time.Time{}
	case m.unready.IsZero():
		m.unready = now
	case now.Sub(m.unready) >= m.within:
		m.back(now, Going{Reason: fmt.Sprintf("the new version was not ready for %s: %s", span(m.within), m.reason())})
	}
}

func (m *Machine) reason() string {
	for _, t := range m.Targets {
		if !t.Ready && t.Reason != "" {
			return t.Reason
		}
	}
	return "no reason is told"
}

// work does what the first move wants; done tells that it is over.
func (m *Machine) work(now time.Time) (out []Effect, done bool) {
	mv := &m.queue[0]
	if mv.began.IsZero() {
		if mv.lingers && now.Before(m.made.Add(linger)) {
			return nil, false
		}
		for _, p := range m.pieces {
			if p.calling {
				return nil, false // of a move that was given up: what is on its way must not land after what undoes it
			}
		}
		mv.began = now
		for _, a := range mv.apply {
			m.pieces[a.Object.Ref] = &piece{calling: true, began: now}
			out = append(out, a)
		}
		for _, ref := range mv.remove {
			m.pieces[ref] = &piece{calling: true, removal: true, began: now}
			out = append(out, Remove{ref})
		}
		return out, false
	}
	waits := ""
	for _, a := range mv.apply {
		p := m.pieces[a.Object.Ref]
		if p.calling {
			return nil, false
		}
		if mv.patient && p.health.Word != health.Ready && !(mv.thorough && p.health.Final) {
			waits = a.Object.Ref.Short() + " " + cmp.Or(p.health.Reason, "is not ready")
			if p.health.Final && !mv.thorough {
				m.fail(now, Going{Reason: waits})
				return nil, true
			}
		}
	}
	for _, ref := range mv.remove {
		if m.pieces[ref].calling {
			return nil, false
		}
	}
	switch {
	case waits == "":
	case now.Sub(mv.began) < m.within:
		return nil, false
	case mv.thorough:
		m.trouble(waits)
	default:
		m.fail(now, Going{Reason: fmt.Sprintf("%s; not ready within %s", waits, span(m.within))})
		return nil, true
	}
	m.queue = m.queue[1:]
	m.made = now
	return nil, true
}

func (m *Machine) mayGoOn() bool {
	s := m.Shares()[m.Share]
	return m.Held == nil && !s.Person && m.Spent >= s.For && len(m.Unknown()) == 0 && m.unready.IsZero()
}

// ask asks the checks whose time has come.
func (m *Machine) ask(now time.Time) (out []Effect) {
	if len(m.sides) == 0 {
		return nil // which Pods to ask about is not known yet
	}
	for i, t := range m.targets {
		for _, c := range t.asks() {
			key := tallyOf(i, c.Name)
			last, was := m.asked[key]
			if !was {
				last = m.Since
			}
			if m.busy[key] > 0 || now.Sub(last) < c.Every {
				continue
			}
			m.asked[key], m.busy[key] = now, m.Share+1
			out = append(out, Ask{i, c, m.sides[i].pods(m.Targets[i].Hash), c.Query != "" || m.rules[c.Name].ComparesOld()})
		}
	}
	return out
}

// asks are its checks, and what tells its traffic, which has no name.
func (t *Target) asks() []ward.Check {
	if t.Canary.Traffic == nil {
		return t.checks
	}
	return append(slices.Clone(t.checks), *t.Canary.Traffic)
}

// Wake is when it has to be told the time next; zero when nothing waits for that.
func (m *Machine) Wake() (at time.Time) {
	sooner := func(t time.Time) { // what was due by now is done, or waits for an answer
		if t.After(m.Seen) && (at.IsZero() || t.Before(at)) {
			at = t
		}
	}
	if m.Phase == Over || m.Phase == Through {
		return at
	}
	if m.Before() {
		sooner(m.Deadline())
	}
	if len(m.queue) > 0 && m.queue[0].began.IsZero() {
		sooner(m.made.Add(linger))
	} else if len(m.queue) > 0 {
		sooner(m.queue[0].began.Add(m.within))
	} else if m.Phase == Looking && m.Blind != "" {
		sooner(m.Began.Add(m.within))
	} else if m.Phase == Making || m.Phase == Sizing {
		sooner(m.made.Add(m.within))
	}
	if m.Phase != Sharing {
		return at
	}
	sooner(m.written.Add(writeEvery))
	if !m.unready.IsZero() {
		sooner(m.unready.Add(m.within))
	}
	if left := m.Shares()[m.Share].For - m.Spent; left > 0 {
		sooner(m.Seen.Add(left))
	}
	for i, t := range m.targets {
		for _, c := range t.asks() {
			key := tallyOf(i, c.Name)
			last, was := m.asked[key]
			if !was {
				last = m.Since
			}
			if m.busy[key] == 0 {
				sooner(last.Add(c.Every))
			}
		}
	}
	return at
}

// span writes a time as people do: 20 s, 5 min, 1 h.
func span(d time.Duration) string {
	switch {
	case d%time.Hour == 0:
		return fmt.Sprintf("%d h", d/time.Hour)
	case d%time.Minute == 0:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}
