package lane

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/glob"
)

// Key names one thing that is carried: what a versions file says of an image or a chart, or a whole file.
type Key struct {
	Path string // with the placeholder in it
	Of   string // the image or the chart; "" for a file
}

// Compare orders keys by path, and then by what they are of.
func (k Key) Compare(o Key) int {
	if n := strings.Compare(k.Path, o.Path); n != 0 {
		return n
	}
	return strings.Compare(k.Of, o.Of)
}

// At is the key as it reads at a stop.
func (k Key) At(stop string) string {
	if k.Of != "" {
		return k.Of
	}
	return At(k.Path, stop)
}

// Content is exactly what is carried, as it is at one stop: of a versions file the versions, of a file the hash of what is in it. What is
// not there has no value.
type Content map[Key]string

// ID names a content: the same content has the same id.
func (c Content) ID() string {
	h := sha256.New()
	for _, k := range slices.SortedFunc(maps.Keys(c), Key.Compare) {
		for _, part := range []string{k.Path, k.Of, c[k]} {
			_, _ = fmt.Fprintf(h, "%d:%s", len(part), part)
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// item is one thing of a content, as it is written down.
type item struct {
	Path  string `json:"path"`
	Of    string `json:"of,omitempty"`
	Value string `json:"value"`
}

// MarshalJSON writes a list of what is there.
func (c Content) MarshalJSON() ([]byte, error) {
	all := make([]item, 0, len(c))
	for _, k := range slices.SortedFunc(maps.Keys(c), Key.Compare) {
		all = append(all, item{k.Path, k.Of, c[k]})
	}
	return json.Marshal(all)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (c *Content) UnmarshalJSON(text []byte) error {
	var all []item
	if err := json.Unmarshal(text, &all); err != nil {
		return err
	}
	*c = make(Content, len(all))
	for _, x := range all {
		(*c)[Key{x.Path, x.Of}] = x.Value
	}
	return nil
}

// KeepsFile tells whether a file is a stop's own: it matches one of the lane's patterns, as glob.Check reads them.
func (l *Lane) KeepsFile(file string) bool {
	return slices.ContainsFunc(l.Keeps, func(pattern string) bool { return glob.Match(pattern, file) })
}

// KeepsPath tells the same of a path of what is carried, with the placeholder in it: what is one stop's own is carried from none and to none.
func (l *Lane) KeepsPath(p string) bool {
	return slices.ContainsFunc(l.Stops, func(s Stop) bool { return l.KeepsFile(At(p, s.Name)) })
}

// Lot is a content that has begun its way.
type Lot struct {
	Number  int       `json:"number"`
	Content Content   `json:"content"`
	Stop    string    `json:"stop"`   // where it first showed
	Commit  string    `json:"commit"` // that brought it there
	Subject string    `json:"subject,omitempty"`
	Author  string    `json:"author,omitempty"`
	At      time.Time `json:"at"`
	Brings  []Brought `json:"brings,omitempty"` // the commits since the lot before it that changed what is carried, the newest first
	More    int       `json:"more,omitempty"`   // commits that are not in the list
}

// Brought is a commit that a lot brings.
type Brought struct {
	Commit  string `json:"commit"`
	Subject string `json:"subject"`
	Author  string `json:"author,omitempty"`
}

// Lots are the lots of a lane, by number: the first is 1.
type Lots []Lot

// Of is the lot with a content, the newest where there are several; 0 when none has it.
func (l Lots) Of(c Content) int {
	id := c.ID()
	for _, x := range slices.Backward(l) {
		if x.Content.ID() == id {
			return x.Number
		}
	}
	return 0
}

// Lot is a lot by its number.
func (l Lots) Lot(number int) (Lot, bool) {
	i := slices.IndexFunc(l, func(x Lot) bool { return x.Number == number })
	if i < 0 {
		return Lot{}, false
	}
	return l[i], true
}

// before is the lot that was at the same stop before another; false for the first.
func (l Lots) before(of Lot) (Lot, bool) {
	for _, x := range slices.Backward(l) {
		if x.Number < of.Number && x.Stop == of.Stop {
			return x, true
		}
	}
	return Lot{}, false
}

// changes tells whether a lot itself has changed something.
func (l Lots) changes(of Lot, k Key) bool {
	was, _ := l.before(of)
	return was.Content[k] != of.Content[k]
}

// Own are the things that a lot itself has changed: what it has otherwise than the lot before it. Of the first lot that is all of it.
func (l Lots) Own(number int) map[Key]bool {
	out := map[Key]bool{}
	of, known := l.Lot(number)
	if !known {
		return out
	}
	was, _ := l.before(of)
	for _, k := range was.Content.Differing(of.Content) {
		out[k] = true
	}
	return out
}

// Differing are the things that two contents have differently, in their order.
func (c Content) Differing(o Content) (out []Key) {
	for k, v := range c {
		if o[k] != v {
			out = append(out, k)
		}
	}
	for k := range o {
		if _, had := c[k]; !had {
			out = append(out, k)
		}
	}
	slices.SortFunc(out, Key.Compare)
	return out
}

// Changes are the things that a lot has otherwise than the lot before it.
func (l Lots) Changes(number int) (out []Change) {
	of, known := l.Lot(number)
	if !known {
		return nil
	}
	was, _ := l.before(of)
	for _, k := range slices.SortedFunc(maps.Keys(l.Own(number)), Key.Compare) {
		out = append(out, Change{Key: k, From: was.Content[k], To: of.Content[k], Own: true})
	}
	return out
}

// Change is one thing that a lot would change at a stop, and how it comes that it does.
type Change struct {
	Key
	From, To string
	Own      bool  // the lot's own change
	Lots     []int // other lots whose change comes along: never promoted to the stop, or taken back with it
	ByHand   bool  // somebody has changed it at the stop itself, which would be undone
}

// Unseen tells whether it is more than the lot's own change.
func (c Change) Unseen() bool { return !c.Own || c.ByHand || len(c.Lots) > 0 }

// Along lists what a lot would change at a stop: now is what the stop has, took what it had when it took a lot last; nil when it never
// did. Whose a change is, is told by each thing for itself: by the lots that have changed it since it was as the stop has it.
func (l Lots) Along(number int, now, took Content) (out []Change) {
	to, known := l.Lot(number)
	if !known {
		return nil
	}
	own := l.Own(number)
	for _, k := range now.Differing(to.Content) {
		c := Change{Key: k, From: now[k], To: to.Content[k], Own: own[k], ByHand: took != nil && now[k] != took[k]}
		was := now[k]
		if c.ByHand {
			was = took[k]
		}
		switch has := l.last(number, k, was); {
		case has == number: // the lot does not change it: somebody else has
			c.Own = false
		case has > number: // on the way back: those that are taken back
			c.Own, c.Lots = false, l.changing(k, to.Stop, number, has)
		case has > 0:
			c.Lots = l.changing(k, to.Stop, has, number-1)
		case took == nil && now[k] != "": // from before the lane: whether it may go, nobody has said yet
			c.Own = false
		}
		out = append(out, c)
	}
	return out
}

// last is the lot that has something as it was: the nearest up to a lot, or the nearest after it; 0 when none has.
func (l Lots) last(number int, k Key, was string) int {
	for _, x := range slices.Backward(l) {
		if x.Number <= number && x.Content[k] == was {
			return x.Number
		}
	}
	for _, x := range l {
		if x.Number > number && x.Content[k] == was {
			return x.Number
		}
	}
	return 0
}

// changing are the lots of a beginning after one, up to another, that change something.
func (l Lots) changing(k Key, stop string, after, upTo int) (out []int) {
	for _, x := range l {
		if x.Number > after && x.Number <= upTo && x.Stop == stop && l.changes(x, k) {
			out = append(out, x.Number)
		}
	}
	return out
}

// Only is what a stop would have with the lot's own change and nothing that comes along. Errors name what can't be told apart: what the
// stop has in its place is not what the lot changed it from.
func (l Lots) Only(number int, now Content) (Content, error) {
	to, known := l.Lot(number)
	if !known {
		return nil, fmt.Errorf("there is no lot %d", number)
	}
	was, _ := l.before(to)
	out := maps.Clone(now)
	if out == nil {
		out = Content{}
	}
	for _, k := range slices.SortedFunc(maps.Keys(l.Own(number)), Key.Compare) {
		if now[k] != was.Content[k] && k.Of == "" {
			return nil, fmt.Errorf("%s is another here than lot %d has changed it from, so its own change can't be told apart", k.Path, number)
		}
		if out[k] = to.Content[k]; out[k] == "" {
			delete(out, k)
		}
	}
	return out, nil
}
