package lane

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Ward is what a stop's ward says, as far as a lane listens.
type Ward struct {
	ID     string
	Holds  bool      // its cluster holds a commit that has the stop's content
	Ready  time.Time // since when it is ready, without anything on its way; zero when it is not
	Failed string    // why it went back from what the stop has, or has rejected it
	Says   string
}

// State is what is known of a stop.
type State struct {
	Lot     int       // whose content it has; 0 when it is none's
	Content Content   // that it has
	Since   time.Time // when it was first seen with that content
	Commit  string    // that brought it
	By      string    // who let it in; the commit's author where it came by itself
	Last    int       // the lot that it took last
	Most    int       // the newest that it ever had: one that is gone back from is not let in again by itself
	Held    string    // why a person holds it; "" when nobody does
	Wards   []Ward
}

// Arrival is how far a lot is at a stop.
type Arrival struct {
	Here   bool      // it has arrived
	When   time.Time // when it will have, where that is a matter of time alone
	Failed string    // why it never will
	Waits  string    // for what it waits otherwise
}

// Arrived tells whether what a stop has, has arrived: its wards hold it, and have been ready for as long as the stop says.
func (s Stop) Arrived(now time.Time, st State) (a Arrival) {
	if len(st.Wards) == 0 {
		return Arrival{Waits: "its wards are not known"}
	}
	latest := st.Since
	for _, w := range st.Wards {
		switch {
		case w.Failed != "":
			return Arrival{Failed: w.ID + ": " + w.Failed}
		case !w.Holds, w.Ready.IsZero():
			if a.Waits == "" {
				a.Waits = strings.TrimSuffix(w.ID+": "+w.Says, ": ")
			}
		case w.Ready.After(latest):
			latest = w.Ready
		}
	}
	if a.Waits != "" {
		return a
	}
	if at := latest.Add(s.Settled); now.Before(at) {
		return Arrival{When: at, Waits: "has to be ready for " + s.Settled.String()}
	}
	a.Here = true
	return a
}

// Past is where lots have arrived, and where they failed.
type Past struct {
	Arrived map[string][]int          // by stop, in the order of their arrivals
	Failed  map[string]map[int]string // by stop and lot, why
}

// Offer is a lot that a stop may take.
type Offer struct {
	Lot    int    // 0 when there is none
	Unseen bool   // more would come with it than its own change
	Waits  string // why it does not take it by itself; "" when it does
	Next   time.Time
}

// Offers tells what is offered to a stop: the newest lot that has arrived at all the stops before it, and failed at none of them.
func (l *Lane) Offers(s Stop, now time.Time, lots Lots, st State, past Past) (o Offer) {
	if len(s.After) == 0 {
		return o
	}
	for _, lot := range slices.Backward(lots) {
		if lot.Number <= st.Most || lot.Number == st.Lot || past.Failed[s.Name][lot.Number] != "" {
			continue
		}
		if !slices.ContainsFunc(s.After, func(a string) bool {
			return !slices.Contains(past.Arrived[a], lot.Number) || past.Failed[a][lot.Number] != ""
		}) {
			o.Lot = lot.Number
			break
		}
	}
	if o.Lot == 0 {
		return o
	}
	o.Unseen = slices.ContainsFunc(lots.Along(o.Lot, st.Content, st.Last), Change.Unseen)
	byHand := slices.ContainsFunc(lots.Along(o.Lot, st.Content, st.Last), func(c Change) bool { return c.ByHand })
	switch {
	case st.Held != "":
		o.Waits = "it is held: " + st.Held
	case s.LetsIn == Ask:
		o.Waits = "it asks first"
		if len(s.Who) > 0 {
			o.Waits = "it asks " + strings.Join(s.Who, ", ")
		}
	case byHand:
		o.Waits = "somebody has changed it here by hand, which would be undone"
	}
	if s.Hours != nil {
		if open, next := s.Hours.Open(now); !open {
			if o.Next = next; o.Waits == "" {
				o.Waits = fmt.Sprintf("it lets lots in %s", s.Hours)
			}
		}
	}
	return o
}

// MayLetIn tells why a person may not let a lot into a stop now; "" when one may. skips tells what stands against it that a reason gets
// over: it has not arrived at the stops before it, or it failed.
func (l *Lane) MayLetIn(s Stop, number int, now time.Time, lots Lots, st State, past Past) (no string, skips []string) {
	lot, known := lots.Lot(number)
	switch {
	case !known:
		return fmt.Sprintf("lane %s has no lot %d", l.Name, number), nil
	case st.Lot == number:
		return fmt.Sprintf("stop %s has lot %d already", s.Name, number), nil
	case len(s.After) == 0 && lot.Stop != s.Name && lot.Content.ID() == st.Content.ID():
		return fmt.Sprintf("stop %s has what lot %d carries already", s.Name, number), nil
	}
	if st.Held != "" {
		skips = append(skips, "it is held: "+st.Held)
	}
	for _, a := range s.After {
		switch {
		case past.Failed[a][number] != "":
			skips = append(skips, fmt.Sprintf("it failed at %s: %s", a, past.Failed[a][number]))
		case !slices.Contains(past.Arrived[a], number):
			skips = append(skips, "it has not arrived at "+a)
		}
	}
	if why := past.Failed[s.Name][number]; why != "" {
		skips = append(skips, "it failed here before: "+why)
	}
	if s.Hours != nil {
		if open, next := s.Hours.Open(now); !open {
			skips = append(skips, fmt.Sprintf("lots are let in %s, the next time at %s", s.Hours, next.In(s.Hours.Zone).Format("Mon 15:04")))
		}
	}
	return "", skips
}
