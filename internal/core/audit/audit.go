// Package audit is the account of what was done: one entry after the other, each bound to the one before by its hash, so that none can be changed, taken out or put in
// between without showing. It is pure. Start with Entry and Verify.
package audit

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"time"
)

// Outcome is what came of it.
type Outcome string

// The outcomes. What begins has an entry of its own, and another when it has ended: where that one is missing, nobody knows what came of it.
const (
	Begun   Outcome = "begun"
	Done    Outcome = "done"
	Refused Outcome = "refused" // for a reason that whoever asked can mend
	Failed  Outcome = "failed"
)

// Entry is something that was done, or asked for. Nothing in it is secret.
type Entry struct {
	Number  int               `json:"number"`            // from 1, without gaps
	At      time.Time         `json:"at"`                // UTC, whole milliseconds
	By      string            `json:"by"`                // the name of a token, "roster NAME", or "vigila" for what it does by itself
	Through string            `json:"through,omitempty"` // command line, console, API or git
	Verb    string            `json:"verb"`
	Of      string            `json:"of"` // what kind of thing: ward, repo, cluster
	Name    string            `json:"name"`
	With    map[string]string `json:"with,omitempty"` // what was wished
	Was     map[string]string `json:"was,omitempty"`  // how the thing was, as far as it is another now
	Is      map[string]string `json:"is,omitempty"`   // and how it is now
	Outcome Outcome           `json:"outcome"`
	Why     string            `json:"why,omitempty"`   // it was refused or failed; or why Vigila did it
	Asked   int               `json:"asked,omitempty"` // the number of the entry with which this began
}

// Line is an entry as it is kept: its text, byte for byte, and the hash over it and the hash before.
type Line struct {
	Number int
	Text   string
	Hash   string // SHA-256, in hex
}

// maxText is how much of a text is kept, in bytes: whoever asks writes the reason, and an API server may answer at length.
const maxText = 8 << 10

func cut(text string) string {
	if len(text) <= maxText {
		return text
	}
	return strings.ToValidUTF8(text[:maxText], "") + fmt.Sprintf("… (%d bytes more)", len(text)-maxText)
}

func cutAll(all map[string]string) map[string]string {
	out := maps.Clone(all)
	for key, v := range out {
		out[key] = cut(v)
	}
	return out
}

// Bind makes an entry the next line after a hash; "" before the first. What is longer than is kept says so.
func Bind(e Entry, before string) (Line, error) {
	e.At = e.At.UTC().Truncate(time.Millisecond)
	e.Why, e.Name, e.With, e.Was, e.Is = cut(e.Why), cut(e.Name), cutAll(e.With), cutAll(e.Was), cutAll(e.Is)
	text, err := json.Marshal(e) // keys of maps are sorted
	return Line{Number: e.Number, Text: string(text), Hash: sum(before, string(text))}, err
}

func sum(before, text string) string {
	h := sha256.Sum256([]byte(before + "\n" + text))
	return hex.EncodeToString(h[:])
}

// BrokenError tells where the account is not what was written.
type BrokenError struct {
	Number int
	Text   string
}

func (e *BrokenError) Error() string { return fmt.Sprintf("entry %d %s", e.Number, e.Text) }

// Chain verifies line after line.
type Chain struct {
	Before string // the hash before the first line
	Next   int    // the number of the next line
}

// Verify takes the next line; a *BrokenError when it does not follow from those before.
func (c *Chain) Verify(l Line) error {
	var e Entry
	switch {
	case l.Number > c.Next:
		return &BrokenError{c.Next, fmt.Sprintf("is missing; the next is %d", l.Number)}
	case l.Number < c.Next:
		return &BrokenError{l.Number, "is there twice, or in the wrong place"}
	case l.Hash != sum(c.Before, l.Text):
		return &BrokenError{l.Number, "is not what was written, or what stood before it is not there any more"}
	case json.Unmarshal([]byte(l.Text), &e) != nil || e.Number != l.Number:
		return &BrokenError{l.Number, "can't be read"}
	}
	c.Before, c.Next = l.Hash, l.Number+1
	return nil
}

// Change keeps of how a thing was and is what is another.
func Change(was, is map[string]string) (before, after map[string]string) {
	before, after = map[string]string{}, map[string]string{}
	for k, v := range was {
		if is[k] != v {
			before[k] = v
		}
	}
	for k, v := range is {
		if was[k] != v {
			after[k] = v
		}
	}
	return before, after
}
