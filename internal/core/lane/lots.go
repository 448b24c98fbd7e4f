package lane

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"
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

// KeepsFile tells whether a file is a stop's own: it matches one of the lane's patterns, in which ** stands for any number of directories.
func (l *Lane) KeepsFile(file string) bool {
	return slices.ContainsFunc(l.Keeps, func(pattern string) bool { return matches(strings.Split(pattern, "/"), strings.Split(file, "/")) })
}

func matches(pattern, file []string) bool {
	switch {
	case len(pattern) == 0:
		return len(file) == 0
	case pattern[0] == "**":
		return matches(pattern[1:], file) || len(file) > 0 && matches(pattern, file[1:])
	case len(file) == 0:
		return false
	}
	ok, err := path.Match(pattern[0], file[0])
	return err == nil && ok && matches(pattern[1:], file[1:])
}

// Lot is a content that has begun its way.
type Lot struct {
	Number          int
	Content         Content
	Stop, Commit    string // where it first showed
	Subject, Author string // of that commit
	At              time.Time
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

// Own are the things that a lot itself has changed: what it has otherwise than the lot before it. Of the first lot that is all of it.
func (l Lots) Own(number int) map[Key]bool {
	out := map[Key]bool{}
	of, known := l.Lot(number)
	if !known {
		return out
	}
	was, _ := l.before(of)
	for k := range both(was.Content, of.Content) {
		if was.Content[k] != of.Content[k] {
			out[k] = true
		}
	}
	return out
}

func both(a, b Content) map[Key]bool {
	out := map[Key]bool{}
	for k := range a {
		out[k] = true
	}
	for k := range b {
		out[k] = true
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

// Along lists what a lot would change at a stop: now is what the stop has, last the lot that it took last, 0 for none.
func (l Lots) Along(number int, now Content, last int) (out []Change) {
	to, known := l.Lot(number)
	if !known {
		return nil
	}
	took, has := l.Lot(last)
	own := l.Own(number)
	for _, k := range slices.SortedFunc(maps.Keys(both(now, to.Content)), Key.Compare) {
		if now[k] == to.Content[k] {
			continue
		}
		c := Change{Key: k, From: now[k], To: to.Content[k], Own: own[k], ByHand: has && now[k] != took.Content[k]}
		from, upTo := last, number-1 // the others on the way forward
		if last > number {
			from, upTo, c.Own = number, last, false // on the way back: those that are taken back
		}
		for n := from + 1; n <= upTo && has; n++ {
			if l.Own(n)[k] {
				c.Lots = append(c.Lots, n)
			}
		}
		out = append(out, c)
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
