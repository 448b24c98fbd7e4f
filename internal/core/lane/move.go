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
	Holds  bool      // its cluster holds what the stop has
	Ready  time.Time // since when it is ready, without anything on its way; zero when it is not
	Failed string    // why it went back from what the stop has, or has rejected it
	Says   string
}

// State is what is known of a stop.
type State struct {
	Passage                // that goes on; the zero Passage when there was none
	Content Content        // that it has
	Took    Content        // that it had when it took a lot last; nil when it never did
	Most    int            // the newest lot that it ever had
	Held    string         // who holds it and why; "" when nobody does
	Letting *Letting       // that is on its way in
	Refused map[int]string // lots whose proposals were withdrawn, and why
	Wards   []Ward
}

// Arrival is how far a lot is at a stop.
type Arrival struct {
	Here   bool      // it has arrived
	When   time.Time // when it has, or will have, where that is a matter of time alone
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
		return Arrival{When: at, Waits: "has to be ready for " + span(s.Settled)}
	}
	a.Here = true
	return a
}

// span is a time as people write it: 30m, not 30m0s.
func span(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// Past is where lots have arrived, and where they failed.
type Past struct {
	Arrived map[string][]int          // by stop, in the order of their arrivals
	Failed  map[string]map[int]string // by stop and lot, why
}

// Offer is a lot that a stop may take.
type Offer struct {
	Lot     int    // 0 when there is none
	Unseen  bool   // more would come with it than its own change
	Waits   string // why it is not let in by itself; "" when it is
	Asks    bool   // a person is asked
	Propose bool   // it is to be proposed now, whoever lets it in
	Next    time.Time
}

// hasArrived tells whether a lot has arrived at all the stops before one, and failed at none of them.
func (s Stop) hasArrived(lot int, past Past) bool {
	return !slices.ContainsFunc(s.After, func(a string) bool {
		return !slices.Contains(past.Arrived[a], lot) || past.Failed[a][lot] != ""
	})
}

// Offers tells what is offered to a stop, and to those that take a lot together with it: the newest lot that has arrived at all the stops
// before it, and failed nowhere on its way.
func (l *Lane) Offers(s Stop, now time.Time, lots Lots, states map[string]State, past Past) (o Offer) {
	if len(s.After) == 0 {
		return o
	}
	group := l.Group(s)
	for _, lot := range slices.Backward(lots) {
		failed := slices.ContainsFunc(group, func(g Stop) bool { return past.Failed[g.Name][lot.Number] != "" })
		wanted := slices.ContainsFunc(group, func(g Stop) bool {
			return lot.Number > states[g.Name].Most && states[g.Name].Content.ID() != lot.Content.ID()
		})
		if wanted && !failed && s.hasArrived(lot.Number, past) {
			o.Lot = lot.Number
			break
		}
	}
	if o.Lot == 0 {
		return o
	}
	waits := func(why string) {
		if o.Waits == "" {
			o.Waits = why
		}
	}
	held, refused, closed := "", "", ""
	for _, g := range group {
		st := states[g.Name]
		of := ""
		if len(group) > 1 {
			of = g.Name + " "
		}
		along := lots.Along(o.Lot, st.Content, st.Took)
		o.Unseen = o.Unseen || slices.ContainsFunc(along, Change.Unseen)
		if held == "" && st.Held != "" {
			held = of + "is held by " + st.Held
		}
		if refused == "" {
			refused = st.Refused[o.Lot]
		}
		if g.Hours != nil {
			if open, next := g.Hours.Open(now); !open {
				if closed = fmt.Sprintf("%slets lots in %s", of, g.Hours); next.After(o.Next) {
					o.Next = next
				}
			}
		}
		if slices.ContainsFunc(along, func(c Change) bool { return c.ByHand }) && g.LetsIn == ByItself {
			waits(of + "was changed by hand, which would be undone")
			o.Asks = true
		}
		if len(st.Content) > 0 && st.Took == nil && g.LetsIn == ByItself {
			waits(of + "has from before the lane what no lot had, which would be undone")
			o.Asks = true
		}
		if g.LetsIn == Ask {
			o.Asks = true
		}
	}
	o.Propose = l.By(group) == ByProposal && held == "" && refused == ""
	switch {
	case held != "":
		o.Waits = held
	case refused != "":
		o.Waits, o.Asks = refused, true
	case o.Asks:
		waits(l.asks(group))
	case closed != "":
		waits(closed)
	}
	return o
}

// asks says who is asked.
func (l *Lane) asks(group []Stop) string {
	var who []string
	for _, g := range group {
		for _, w := range g.Who {
			if !slices.Contains(who, w) {
				who = append(who, w)
			}
		}
	}
	if len(who) == 0 {
		return "waits to be let in"
	}
	return "waits to be let in by " + strings.Join(who, ", ")
}

// MayLetIn tells why a person may not let a lot into a stop now, and those that go with it; "" when one may. skips tells what stands
// against it that a reason gets over: it has not arrived at the stops before it, it failed, a stop is held, or closed at this hour.
func (l *Lane) MayLetIn(s Stop, number int, now time.Time, lots Lots, states map[string]State, past Past) (no string, skips []string) {
	lot, known := lots.Lot(number)
	if !known {
		return fmt.Sprintf("lane %s has no lot %d", l.Name, number), nil
	}
	group := l.Group(s)
	if !slices.ContainsFunc(group, func(g Stop) bool { return states[g.Name].Content.ID() != lot.Content.ID() }) {
		return fmt.Sprintf("stop %s has what lot %d carries already", s.Name, number), nil
	}
	for _, g := range group {
		if st := states[g.Name]; st.Held != "" {
			skips = append(skips, g.Name+" is held by "+st.Held)
		}
		if why := past.Failed[g.Name][number]; why != "" {
			skips = append(skips, fmt.Sprintf("it failed at %s before: %s", g.Name, why))
		}
		if g.Hours != nil {
			if open, next := g.Hours.Open(now); !open {
				skips = append(skips, fmt.Sprintf("%s lets lots in %s, the next time on %s", g.Name, g.Hours, next.In(g.Hours.Zone).Format("Mon 15:04")))
			}
		}
	}
	for _, a := range s.After {
		switch {
		case past.Failed[a][number] != "":
			skips = append(skips, fmt.Sprintf("it failed at %s: %s", a, past.Failed[a][number]))
		case !slices.Contains(past.Arrived[a], number):
			skips = append(skips, "it has not arrived at "+a)
		}
	}
	return "", skips
}

// Says is how a stop is, in one line; loud tells that it waits for a person.
func (l *Lane) Says(s Stop, st State, a Arrival, o Offer) (says string, loud bool) {
	has := st.Passage.Title()
	switch {
	case st.Failed != "":
		says, loud = fmt.Sprintf("%s failed: %s", has, st.Failed), true
	case st.Number == 0:
		says = "nothing is there yet"
	case !a.Here:
		says = fmt.Sprintf("%s is on its way: %s", has, a.Waits)
	default:
		says = has + " has arrived"
	}
	switch {
	case o.Lot == 0 && st.Held != "":
		says += "; held by " + st.Held
	case o.Lot > 0 && o.Waits != "":
		says += fmt.Sprintf("; lot %d %s", o.Lot, o.Waits)
		loud = loud || o.Asks && st.Held == ""
	case o.Lot > 0:
		says += fmt.Sprintf("; lot %d is next", o.Lot)
	}
	return says, loud
}

// Tells is Says for somebody who looks at the whole lane: what failed, what waits, or what is on its way there; "" when none of that is.
func (l *Lane) Tells(s Stop, st State, a Arrival, o Offer) (says string, loud bool) {
	has := st.Passage.Title()
	switch {
	case st.Failed != "":
		return fmt.Sprintf("%s failed at %s: %s", has, s.Name, st.Failed), true
	case o.Lot > 0 && s.Together == "":
		var at []string
		for _, g := range l.Group(s) {
			at = append(at, g.Name)
		}
		where := strings.Join(at, " and ")
		if o.Waits == "" {
			return fmt.Sprintf("lot %d is being let in at %s", o.Lot, where), false
		}
		return fmt.Sprintf("at %s lot %d %s", where, o.Lot, o.Waits), o.Asks && st.Held == ""
	case !a.Here && st.Number > 0:
		return fmt.Sprintf("%s is on its way at %s: %s", has, s.Name, a.Waits), false
	case !a.Here:
		return "nothing is at " + s.Name + " yet", false
	}
	return "", false
}

// Title names what a stop has.
func (p Passage) Title() string {
	switch {
	case p.ID == (Content{}).ID():
		return "nothing"
	case p.Lot > 0 && p.Only:
		return fmt.Sprintf("lot %d, its own change alone,", p.Lot)
	case p.Lot > 0:
		return fmt.Sprintf("lot %d", p.Lot)
	case p.Over > 0:
		return fmt.Sprintf("what was lot %d, changed by hand,", p.Over)
	case p.Number > 0:
		return "what was there before the first lot"
	}
	return "nothing"
}
