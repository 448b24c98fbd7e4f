package alert

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Trouble is something that somebody may be told about, as it stands now.
type Trouble struct {
	Subject string // a ward as name@cluster, or what else it is of, such as proposal 12
	Topic   Topic
	Cause   string    // what many have it from, such as cluster skerry; "" when it is its own
	Text    string    // what has happened
	By      string    // who or what did it, as far as is known, in a phrase: Revision a246c22 Raise fares, by ticketing
	Todo    string    // the way out, as a command where there is one
	Since   time.Time // as far as is known
	Link    string    // the path of its page
	Of      Of
	Others  []Of // that it belongs to beside, such as the other wards that a proposal touches
}

// Of is what a trouble belongs to; empty for what belongs to no ward.
type Of struct {
	Ward    string `json:"ward,omitempty"`
	Owner   string `json:"owner,omitempty"`
	Cluster string `json:"cluster,omitempty"`
	Roster  string `json:"roster,omitempty"`
}

// Kind is what a message says.
type Kind string

// The kinds.
const (
	Opened Kind = "opened"
	Again  Kind = "again"
	Over   Kind = "over"
)

// Item is one trouble in a message.
type Item struct {
	Subject string    `json:"subject"`
	Text    string    `json:"text"`
	By      string    `json:"by,omitempty"`
	Todo    string    `json:"todo,omitempty"`
	Since   time.Time `json:"since"`
	Link    string    `json:"link,omitempty"`
	Owner   string    `json:"owner,omitempty"`
	Cluster string    `json:"cluster,omitempty"`
}

// Message is what goes out: one for all that has the same cause at the same time.
type Message struct {
	ID    string    `json:"id"` // the same for every try to deliver it
	Alert string    `json:"alert"`
	Kind  Kind      `json:"kind"`
	Topic Topic     `json:"topic"`
	Cause string    `json:"cause,omitempty"`
	At    time.Time `json:"at"`
	Items []Item    `json:"items"`          // the first of them
	More  int       `json:"more,omitempty"` // how many others there are
}

// mostItems is how many a message names.
const mostItems = 20

// State is what an alert remembers. It is kept with the messages that follow from it, in one transaction.
type State struct {
	Held  map[string]*Held `json:"held,omitempty"`
	Paces map[Topic]*pace  `json:"paces,omitempty"`
	Count int              `json:"count,omitempty"` // messages so far
}

// Held is a trouble that is there, or was a moment ago.
type Held struct {
	Item
	Topic Topic     `json:"topic"`
	Cause string    `json:"cause,omitempty"`
	Of    Of        `json:"of,omitzero"`    // what of that which it belongs to the rule is about
	Seen  time.Time `json:"seen"`           // when it was first seen, by this alert
	Told  time.Time `json:"told,omitzero"`  // when it was last told of; zero when it was not
	Gone  time.Time `json:"gone,omitzero"`  // since when it is not there any more
	Came  int       `json:"came,omitempty"` // how often it came back
}

// pace keeps what happens again and again from becoming as many messages.
type pace struct {
	Last time.Time `json:"last"` // message of the topic
	Rows int       `json:"rows"` // messages in a row, each soon after the one before
}

// The bounds of a storm: what comes after a message of its topic waits, each time twice as long, and starts anew after some peace.
const (
	firstGap = time.Minute
	mostGap  = 30 * time.Minute
	peace    = time.Hour
	// settled is how long a trouble must be gone before that is told; one that keeps coming back, each time twice as long.
	settled     = time.Minute
	mostSettled = time.Hour
)

func (p *pace) gap() time.Duration { return doubled(firstGap, p.Rows-1, mostGap) }

// doubled is a time that doubles so many times, up to a most.
func doubled(d time.Duration, times int, most time.Duration) time.Duration {
	for range max(times, 0) {
		if d *= 2; d >= most {
			return most
		}
	}
	return d
}

// open tells whether a message of the topic may go out.
func (s *State) open(t Topic, now time.Time) bool {
	p := s.Paces[t]
	return p == nil || p.Rows == 0 || now.Sub(p.Last) >= p.gap() || now.Before(p.Last)
}

// sent notes that messages of some topics go out.
func (s *State) sent(topics map[Topic]bool, now time.Time) {
	for t := range topics {
		p := s.Paces[t]
		if p == nil {
			p = &pace{}
			s.Paces[t] = p
		}
		if now.Sub(p.Last) > peace || now.Before(p.Last) {
			p.Rows = 0
		}
		p.Rows, p.Last = p.Rows+1, now
	}
}

// Around is what is known beside the troubles.
type Around struct {
	Now     time.Time
	Unknown func(subject string) bool // nobody knows how it stands: nothing that was told of it is over
	Muted   func(subject string) bool // somebody wants to hear nothing of it
}

// Step takes in what is wrong now, of everything, and gives back what is to be sent. It may be called at any time, and as often as anybody likes: what has not
// changed gives nothing.
func (r *Rule) Step(s *State, around Around, all []Trouble) []Message {
	if s.Held == nil {
		s.Held = map[string]*Held{}
	}
	if s.Paces == nil {
		s.Paces = map[Topic]*pace{}
	}
	now := around.Now
	there := map[string]bool{}
	for _, t := range all {
		if of, is := r.Concerns(t); is {
			t.Of = of
			there[s.see(t, now)] = true
		} else {
			delete(s.Held, t.key()) // it has another owner now, say
		}
	}
	// What the rule is not about any more, since it was changed or its name is another roster's now, is not over: nothing more is said of it.
	maps.DeleteFunc(s.Held, func(_ string, h *Held) bool { _, is := r.Concerns(h.trouble()); return !is })
	var told, again, over []*Held
	for _, key := range slices.Sorted(maps.Keys(s.Held)) {
		h := s.Held[key]
		if !there[key] && h.Gone.IsZero() && !around.Unknown(h.Subject) {
			h.Gone = now
		}
		quiet, muted := r.Quiet.holds(now, h.Topic), around.Muted(h.Subject)
		switch {
		case !h.Gone.IsZero() && h.Told.IsZero(): // it came and went, and nobody was told
			if now.Sub(h.Gone) >= settled || now.Before(h.Gone) {
				delete(s.Held, key)
			}
		case !h.Gone.IsZero():
			if now.Sub(h.Gone) >= max(r.After, doubled(settled, h.Came, mostSettled)) && !quiet && s.open(h.Topic, now) {
				over = append(over, h)
			}
		case muted || quiet || !there[key]:
		case h.Told.IsZero():
			if now.Sub(h.Seen) >= r.After && s.open(h.Topic, now) {
				told = append(told, h)
			}
		case r.Again > 0 && now.Sub(h.Told) >= r.Again && s.open(h.Topic, now):
			again = append(again, h)
		}
	}
	var out []Message
	topics := map[Topic]bool{}
	for _, x := range []struct {
		kind Kind
		of   []*Held
	}{{Opened, told}, {Again, again}, {Over, over}} {
		for _, group := range grouped(x.of) {
			topics[group[0].Topic] = true
			out = append(out, r.message(s, x.kind, group, now))
		}
	}
	for _, h := range slices.Concat(told, again) {
		h.Told = now
	}
	for _, h := range over {
		delete(s.Held, h.key())
	}
	s.sent(topics, now)
	return out
}

func (t Trouble) key() string { return t.Subject + "\n" + string(t.Topic) }

func (h *Held) trouble() Trouble { return Trouble{Subject: h.Subject, Topic: h.Topic, Of: h.Of} }

func (h *Held) key() string { return h.trouble().key() }

// see takes in a trouble that is there, and gives back its key.
func (s *State) see(t Trouble, now time.Time) string {
	item := Item{Subject: t.Subject, Text: t.Text, By: t.By, Todo: t.Todo, Since: t.Since, Link: t.Link, Owner: t.Of.Owner, Cluster: t.Of.Cluster}
	fresh := &Held{Item: item, Topic: t.Topic, Cause: t.Cause, Of: t.Of, Seen: now}
	if !t.Since.IsZero() && t.Since.Before(now) {
		fresh.Seen = t.Since
	}
	key := fresh.key()
	h := s.Held[key]
	switch {
	case h == nil:
		s.Held[key] = fresh
		return key
	case !h.Gone.IsZero(): // it is the same trouble still, which only looked as if it were over
		h.Gone = time.Time{}
		h.Came++
		if h.Told.IsZero() {
			h.Seen = now
		}
	}
	since := h.Since
	if h.Item, h.Cause, h.Of = item, t.Cause, t.Of; !since.IsZero() && (item.Since.IsZero() || since.Before(item.Since)) {
		h.Since = since
	}
	return key
}

// grouped puts together what has the same topic and cause, in the order of topics.
func grouped(all []*Held) [][]*Held {
	by := map[string][]*Held{}
	for _, h := range all {
		key := fmt.Sprintf("%02d %s", slices.Index(Topics, h.Topic), h.Cause)
		by[key] = append(by[key], h)
	}
	var out [][]*Held
	for _, key := range slices.Sorted(maps.Keys(by)) {
		slices.SortFunc(by[key], func(a, b *Held) int { return cmp.Or(strings.Compare(a.Subject, b.Subject)) })
		out = append(out, by[key])
	}
	return out
}

func (r *Rule) message(s *State, kind Kind, of []*Held, now time.Time) Message {
	s.Count++
	m := Message{ID: fmt.Sprintf("%s-%d-%d", r.Name, now.UnixMilli(), s.Count), Alert: r.Name, Kind: kind, Topic: of[0].Topic, Cause: of[0].Cause, At: now}
	for _, h := range of {
		if len(m.Items) == mostItems {
			m.More = len(of) - mostItems
			break
		}
		m.Items = append(m.Items, h.Item)
	}
	return m
}

// Next is when Step has something to look at although nothing has happened; zero when never. That a mute or quiet hours end, or that something gets known, is not
// foreseen: whoever asks looks now and then anyway.
func (r *Rule) Next(s *State, around Around) (next time.Time) {
	now := around.Now
	for _, h := range s.Held {
		at := time.Time{}
		switch {
		case r.Quiet.holds(now, h.Topic) || h.Gone.IsZero() && (around.Muted(h.Subject) || around.Unknown(h.Subject)):
		case !h.Gone.IsZero():
			at = h.Gone.Add(max(r.After, doubled(settled, h.Came, mostSettled)))
		case h.Told.IsZero():
			at = h.Seen.Add(r.After)
		case r.Again > 0:
			at = h.Told.Add(r.Again)
		}
		if at.IsZero() {
			continue
		}
		if p := s.Paces[h.Topic]; p != nil && !s.open(h.Topic, now) {
			at = later(at, p.Last.Add(p.gap()))
		}
		if at = later(at, now.Add(time.Second)); next.IsZero() || at.Before(next) {
			next = at
		}
	}
	return next
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Title is a message in a line.
func (m Message) Title() string {
	n := len(m.Items) + m.More
	what, topic := m.Items[0].Subject, string(m.Topic)
	if n > 1 {
		what = fmt.Sprintf("%d %s", n, m.things())
		switch m.Topic {
		case NeedsYou:
			topic = "need you"
		case ProposalWaits:
			topic = "wait for a review"
		}
		if m.Cause != "" {
			what += " (" + m.Cause + ")"
		}
	}
	switch m.Kind {
	case Over:
		return what + ": over: " + topic
	case Again:
		return what + ": still: " + topic
	}
	return what + ": " + topic
}

// plurals are of what is no ward, by how the names of such subjects begin.
var plurals = map[string]string{"proposal": "proposals", "repository": "repositories", "roster": "rosters", "lane": "lanes", "follow": "follows", "store": "stores", "cluster": "clusters", "token": "tokens"}

// things are what the items are, in the plural.
func (m Message) things() (out string) {
	for _, i := range m.Items {
		word, _, is := strings.Cut(i.Subject, " ")
		kind := "wards"
		if is {
			kind = plurals[word]
		}
		switch {
		case out == "":
			out = kind
		case out != kind:
			return "things"
		}
	}
	return out
}

// Clone is a copy that shares nothing.
func (s State) Clone() State {
	out := State{Count: s.Count}
	if s.Held != nil {
		out.Held = make(map[string]*Held, len(s.Held))
		for k, h := range s.Held {
			c := *h
			out.Held[k] = &c
		}
	}
	if s.Paces != nil {
		out.Paces = make(map[Topic]*pace, len(s.Paces))
		for k, p := range s.Paces {
			c := *p
			out.Paces[k] = &c
		}
	}
	return out
}
