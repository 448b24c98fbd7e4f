package lane

import (
	"cmp"
	"maps"
	"slices"
	"time"
)

// Memory is what is remembered of a lane; the zero Memory is of one that was never looked at. What changes it gives back another.
type Memory struct {
	Lots     Lots
	Passages []Passage // the oldest first
	Stops    map[string]Kept
}

// Kept is what is remembered of a stop beside its passages.
type Kept struct {
	Now     Content  `json:"now,omitzero"`   // what it had at the last look
	Took    Content  `json:"took,omitzero"`  // what it had when it took a lot last; nil when it never did
	Most    int      `json:"most,omitempty"` // the newest lot that it ever had: one that is gone back from is not let in again by itself
	Held    *Hold    `json:"held,omitempty"`
	Letting *Letting `json:"letting,omitempty"`
}

// Hold is that a person holds a stop: no lot is let in by itself.
type Hold struct {
	By  string    `json:"by"`
	Why string    `json:"why"`
	At  time.Time `json:"at"`
}

// Letting is a lot that is being let in: it is written to the stop's place, or proposed.
type Letting struct {
	Lot      int       `json:"lot"`
	Only     bool      `json:"only,omitempty"` // its own change alone
	To       Content   `json:"to"`             // what the stop has then
	By       string    `json:"by"`
	Why      string    `json:"why,omitempty"`
	Against  []string  `json:"against,omitempty"` // what stood against it
	Proposal int       `json:"proposal,omitempty"`
	At       time.Time `json:"at"`
}

// Passage is the time that a stop has one content.
type Passage struct {
	Number  int      `json:"number"` // of the lane's; the first is 1
	Stop    string   `json:"stop"`
	ID      string   `json:"id"` // of the content
	Lot     int      `json:"lot,omitempty"`
	Only    bool     `json:"only,omitempty"`  // of the lot its own change alone
	Over    int      `json:"over,omitempty"`  // of what is no lot's: the lot that it was before somebody changed it
	Along   []int    `json:"along,omitempty"` // other lots whose changes came along, or were taken back
	Commit  string   `json:"commit,omitempty"`
	Subject string   `json:"subject,omitempty"`
	By      string   `json:"by,omitempty"` // who let it in, or the author of the commit
	Why     string   `json:"why,omitempty"`
	Against []string `json:"against,omitempty"`
	// Proposal is the one that let it in; 0 where it was written at once.
	Proposal int `json:"proposal,omitempty"`

	Since   time.Time `json:"since"`
	Arrived time.Time `json:"arrived,omitzero"`
	Left    time.Time `json:"left,omitzero"`
	Failed  string    `json:"failed,omitempty"` // why it never arrived, or what came of it afterwards
}

// Seen is what a look has found at a stop.
type Seen struct {
	At      time.Time
	Content Content
	Commit  string // that changed it last
	Subject string
	Author  string
	Brings  []Brought // commits that have brought it there
	More    int       // beside these
	// Merged and By tell that the proposal that lets a lot in was merged, and by whom.
	Merged bool
	By     string
}

func (m Memory) clone() Memory {
	m.Lots, m.Passages, m.Stops = slices.Clone(m.Lots), slices.Clone(m.Passages), maps.Clone(m.Stops)
	if m.Stops == nil {
		m.Stops = map[string]Kept{}
	}
	return m
}

// Current is the passage of a stop that goes on; false when there was none yet.
func (m *Memory) Current(stop string) (Passage, bool) {
	for _, p := range slices.Backward(m.Passages) {
		if p.Stop == stop {
			return p, p.Left.IsZero()
		}
	}
	return Passage{}, false
}

// put writes a passage down, in place of the one with its number.
func (m *Memory) put(p Passage) {
	if i := slices.IndexFunc(m.Passages, func(x Passage) bool { return x.Number == p.Number }); i >= 0 {
		m.Passages[i] = p
		return
	}
	m.Passages = append(m.Passages, p)
}

// keep holds what is said of a stop.
func (m Memory) keep(stop string, change func(*Kept)) Memory {
	m = m.clone()
	k := m.Stops[stop]
	change(&k)
	m.Stops[stop] = k
	return m
}

// LetIn notes that a lot is about to be let in. Written before anything is pushed, it tells later who it was.
func (m Memory) LetIn(stop string, let Letting) Memory {
	return m.keep(stop, func(k *Kept) { k.Letting = &let })
}

// NotLetIn notes that it was not.
func (m Memory) NotLetIn(stop string) Memory {
	return m.keep(stop, func(k *Kept) { k.Letting = nil })
}

// LetInBy notes who let in what a stop has, where that is known a moment later.
func (m Memory) LetInBy(stop, by string) Memory {
	cur, going := m.Current(stop)
	if !going || cur.By == by {
		return m
	}
	m = m.clone()
	cur.By = by
	m.put(cur)
	return m
}

// Hold holds a stop, or lets it go where there is none.
func (m Memory) Hold(stop string, h *Hold) Memory {
	return m.keep(stop, func(k *Kept) { k.Held = h })
}

// Saw takes in what a stop has. Where lots begin, what was never seen before is a new one.
func (m Memory) Saw(s Stop, seen Seen) Memory {
	cur, going := m.Current(s.Name)
	id := seen.Content.ID()
	if going && cur.ID == id || !going && len(seen.Content) == 0 {
		return m
	}
	m = m.clone()
	p := Passage{Number: 1, Stop: s.Name, ID: id, Commit: seen.Commit, Subject: seen.Subject, By: seen.Author, Since: seen.At}
	if n := len(m.Passages); n > 0 {
		p.Number = m.Passages[n-1].Number + 1
	}
	if going {
		cur.Left = seen.At
		m.put(cur)
	}
	k := m.Stops[s.Name]
	if p.Lot = m.Lots.Of(seen.Content); p.Lot == 0 && len(s.After) == 0 && len(seen.Content) > 0 {
		lot := Lot{Number: 1, Content: seen.Content, Stop: s.Name, Commit: seen.Commit, Subject: seen.Subject, Author: seen.Author, At: seen.At, Brings: seen.Brings, More: seen.More}
		if n := len(m.Lots); n > 0 {
			lot.Number = m.Lots[n-1].Number + 1
		}
		m.Lots, p.Lot = append(m.Lots, lot), lot.Number
	}
	took := p.Lot != 0
	if let := k.Letting; let != nil && (let.To.ID() == id || seen.Merged && let.Proposal > 0) {
		if p.By = let.By; seen.Merged && seen.By != "" {
			p.By = seen.By
		}
		p.Proposal = let.Proposal
		if p.Why, p.Against, k.Letting = let.Why, let.Against, nil; let.To.ID() == id {
			p.Lot, p.Only, took = let.Lot, let.Only, true
		} else { // merged on top of what somebody has changed meanwhile
			k.Took, k.Most = let.To, max(k.Most, let.Lot)
		}
	}
	if p.Lot == 0 {
		p.Over = cmp.Or(cur.Lot, cur.Over)
	} else if len(s.After) > 0 {
		p.Along = m.Lots.along(p.Lot, k.Now, k.Took, p.Only)
	}
	if took {
		k.Took, k.Most = seen.Content, max(k.Most, p.Lot)
	}
	k.Now = seen.Content
	m.Stops[s.Name] = k
	m.put(p)
	return m.pruned()
}

// along are the other lots whose changes come along with one.
func (l Lots) along(number int, now, took Content, only bool) (out []int) {
	if only {
		return nil
	}
	for _, c := range l.Along(number, now, took) {
		for _, n := range c.Lots {
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	slices.Sort(out)
	return out
}

// The most that is remembered of a lane, beside what its stops have now.
const (
	maxLots     = 200
	maxPassages = 1000
)

func (m Memory) pruned() Memory {
	if n := len(m.Lots) - maxLots; n > 0 {
		inUse := map[int]bool{}
		for _, p := range m.Passages {
			if p.Left.IsZero() {
				inUse[p.Lot] = true
			}
		}
		at := -1
		m.Lots = slices.DeleteFunc(m.Lots, func(x Lot) bool { at++; return at < n && !inUse[x.Number] })
	}
	if n := len(m.Passages) - maxPassages; n > 0 {
		at := -1
		m.Passages = slices.DeleteFunc(m.Passages, func(p Passage) bool { at++; return at < n && !p.Left.IsZero() })
	}
	return m
}

// Arrive takes in how the wards of a stop are: whether what it has, has arrived.
func (m Memory) Arrive(s Stop, now time.Time, wards []Ward) (Memory, Arrival) {
	cur, going := m.Current(s.Name)
	if !going || cur.ID == (Content{}).ID() {
		return m, Arrival{Waits: "nothing that is carried is there yet"}
	}
	a := s.Arrived(now, State{Passage: cur, Wards: wards})
	was := cur
	switch {
	case a.Failed != "":
		cur.Failed = a.Failed
	case a.Here:
		if cur.Failed = ""; cur.Arrived.IsZero() {
			cur.Arrived = now
		}
	}
	if was.Failed != cur.Failed || was.Arrived != cur.Arrived {
		m = m.clone()
		m.put(cur)
	}
	if !cur.Arrived.IsZero() && a.Failed == "" {
		a.Here, a.When = true, cur.Arrived
	}
	return m, a
}

// Past is where lots have arrived, and where they failed.
func (m *Memory) Past() Past {
	out := Past{Arrived: map[string][]int{}, Failed: map[string]map[int]string{}}
	for _, p := range m.Passages {
		if p.Lot == 0 || p.Only {
			continue
		}
		delete(out.Failed[p.Stop], p.Lot)
		if p.Failed != "" {
			if out.Failed[p.Stop] == nil {
				out.Failed[p.Stop] = map[int]string{}
			}
			out.Failed[p.Stop][p.Lot] = p.Failed
		} else if !p.Arrived.IsZero() && !slices.Contains(out.Arrived[p.Stop], p.Lot) {
			out.Arrived[p.Stop] = append(out.Arrived[p.Stop], p.Lot)
		}
	}
	return out
}

// State is how a stop is, without its wards.
func (m *Memory) State(stop string) State {
	k := m.Stops[stop]
	st := State{Content: k.Now, Took: k.Took, Most: k.Most}
	if cur, going := m.Current(stop); going {
		st.Passage = cur
	}
	if k.Held != nil {
		st.Held = k.Held.By + ": " + k.Held.Why
	}
	if k.Letting != nil {
		st.Letting = k.Letting
	}
	return st
}
