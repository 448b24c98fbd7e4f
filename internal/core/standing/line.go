package standing

import (
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
)

// Span is how far back the watch line goes.
const Span = 24 * time.Hour

// Line is the watch line of a ward: how it stood, and what ran, over the last Span.
type Line struct {
	stretches []logbook.Stretch // oldest first
	notches   []Notch           // oldest first
	since     time.Time
}

// NewLine is the line of a ward as the record holds it: stretches and entries, both oldest first.
func NewLine(stretches []logbook.Stretch, entries []logbook.Entry) Line {
	l := Line{stretches: stretches}
	for _, e := range entries {
		l.Notch(e)
	}
	for i, st := range slices.Backward(stretches) {
		if st.Standing != stretches[len(stretches)-1].Standing {
			break
		}
		l.since = stretches[i].From
	}
	return l
}

// Notch puts a run on the line, or takes in what has become of it.
func (l *Line) Notch(e logbook.Entry) {
	n := Notch{At: e.Started, Number: e.Number, Kind: e.Kind, Outcome: e.Outcome, Canary: e.Canary}
	if i := slices.IndexFunc(l.notches, func(x Notch) bool { return x.Number == e.Number }); i >= 0 {
		l.notches[i] = n
	} else {
		l.notches = append(l.notches, n)
	}
}

// Add takes in how the ward stands now, and shows the line in its view. It gives back the stretch that begins when the ward
// stands otherwise than before. A service that has just started is blind for a moment; that is not worth a mark unless it lasts.
func (l *Line) Add(now time.Time, v *View) (begins *logbook.Stretch) {
	n := len(l.stretches)
	starting := v.Standing == compare.Blind && v.Repository.Problem == "" && v.Live.Problem == ""
	if !starting && (n == 0 || l.stretches[n-1].Standing != string(v.Standing) || l.stretches[n-1].Health != string(v.Health.Word)) {
		st := logbook.Stretch{From: now, Standing: string(v.Standing), Health: string(v.Health.Word)}
		if n == 0 || l.stretches[n-1].Standing != st.Standing {
			l.since = now
		}
		l.stretches = append(l.stretches, st)
		begins = &st
	}
	cut := now.Add(-Span)
	for len(l.stretches) > 1 && l.stretches[1].From.Before(cut) {
		l.stretches = l.stretches[1:]
	}
	for len(l.notches) > 0 && l.notches[0].At.Before(cut) {
		l.notches = l.notches[1:]
	}
	l.Show(v)
	return begins
}

// Show puts the line into a view, which never changes once it is made.
func (l *Line) Show(v *View) {
	v.Since, v.Standings, v.Notches = l.since, slices.Clone(l.stretches), slices.Clone(l.notches)
}

// Common is one watch line for several wards: at each time as the one of them stood that stood worst, in the words of compare and
// health. Stretches follow each other, oldest first; a ward that has none yet says nothing.
func Common(all []*View) (out []logbook.Stretch) {
	type turn struct {
		at   time.Time
		ward int
		to   logbook.Stretch
	}
	var turns []turn
	for i, v := range all {
		for _, s := range v.Standings {
			turns = append(turns, turn{s.From, i, s})
		}
	}
	slices.SortStableFunc(turns, func(a, b turn) int { return a.at.Compare(b.at) })
	standings, healths := map[string]int{}, map[string]int{} // how many wards stand so
	now := make([]*logbook.Stretch, len(all))
	for i, t := range turns {
		if old := now[t.ward]; old != nil {
			standings[old.Standing]--
			healths[old.Health]--
		}
		now[t.ward] = &turns[i].to
		standings[t.to.Standing]++
		healths[t.to.Health]++
		if i+1 < len(turns) && turns[i+1].at.Equal(t.at) {
			continue
		}
		s := logbook.Stretch{From: t.at, Standing: worst(standings, standingsDown, t.to.Standing), Health: worst(healths, healthsDown, t.to.Health)}
		if n := len(out); n == 0 || out[n-1].Standing != s.Standing || out[n-1].Health != s.Health {
			out = append(out, s)
		}
	}
	return out
}

// From what matters most to what matters least.
var (
	standingsDown = []string{string(compare.Contested), string(compare.Drifted), string(compare.Blind), string(compare.Behind), string(compare.InStep)}
	healthsDown   = []string{string(health.Failing), string(health.Absent), string(health.Settling), string(health.Unknown), string(health.Ready)}
)

func worst(of map[string]int, down []string, otherwise string) string {
	for _, w := range down {
		if of[w] > 0 {
			return w
		}
	}
	return otherwise
}

// Fold tells which wards are so quiet that a line for all of them is enough, by the name of their group: those that are in step and
// ready, and ask for nobody. Up to a screenful none is: then every ward has a line of its own.
func Fold[L any](all []L, quiet func(L) bool, group func(L) string) (folded map[string][]L, rest []L) {
	if len(all) <= screenful {
		return nil, all
	}
	folded = map[string][]L{}
	for _, l := range all {
		if !quiet(l) {
			rest = append(rest, l)
			continue
		}
		name := group(l)
		folded[name] = append(folded[name], l)
	}
	return folded, rest
}

// Quietly tells whether a ward is in step and ready, and asks for nobody.
func Quietly(v *View) bool {
	return !v.NeedsYou && v.Run == nil && v.Hold == nil && v.Standing == compare.InStep && v.Health.Word == health.Ready
}

// screenful is how many lines a person looks through without scrolling much.
const screenful = 40
