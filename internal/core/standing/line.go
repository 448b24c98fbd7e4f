package standing

import (
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/compare"
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
	n := Notch{At: e.Started, Number: e.Number, Kind: e.Kind, Outcome: e.Outcome}
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
