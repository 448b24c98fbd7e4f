// Package alert says who is told about what, and when: one message for one trouble, nothing about success, and a word when it is over. It is pure: what is
// wrong comes in, what is to be sent goes out. Start with Rule and Step.
package alert

import (
	_ "embed" // the published schema
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
)

// Format is the value of the key "vigila" in an alert file.
const Format = "alert/v1"

// Schema is the published JSON Schema (draft 2020-12) of an alert file.
//
//go:embed alert.schema.json
var Schema []byte

// Topic is what somebody is told about.
type Topic string

// The topics, as an alert file writes them.
const (
	NeedsYou       Topic = "needs you"       // a ward needs somebody, and none of the others says why
	WentBack       Topic = "went back"       // a deploy failed, and the revision before it is there
	CantGoBack     Topic = "can't go back"   // and going back failed too
	Blind          Topic = "blind"           // a repository or a cluster can't be read
	CanaryWaits    Topic = "canary waits"    // for a person
	ProposalWaits  Topic = "proposal waits"  // for a review
	SecretMissing  Topic = "secret missing"  // so that nothing is applied
	CredentialsEnd Topic = "credentials end" // soon, or have
)

// Topics are all of them, the loudest first.
var Topics = []Topic{CantGoBack, WentBack, Blind, SecretMissing, CanaryWaits, NeedsYou, ProposalWaits, CredentialsEnd}

// Rule is who is told about what.
type Rule struct {
	Name   string
	Text   string // what it is for, in a sentence
	Wards  Wards
	About  []Topic // all when empty
	After  time.Duration
	Again  time.Duration // while it lasts; 0: once
	Quiet  *Quiet
	To     []To
	Roster string // that declares it
	File   string
	Line   int
}

// Wards are those that an alert is about, and everything when nothing is given.
type Wards = document.Wards

// To is whom a message goes to: a way by its name, and whom by it where a way leads to several.
type To struct {
	Way       string
	Addresses []string
}

// Quiet is when nobody is told, but about what is named. It may go over midnight.
type Quiet struct {
	From, To int // minutes of the day
	Zone     *time.Location
	But      []Topic
}

// holds tells whether it is quiet.
func (q *Quiet) holds(now time.Time, t Topic) bool {
	if q == nil || slices.Contains(q.But, t) {
		return false
	}
	local := now.In(q.Zone)
	at := local.Hour()*60 + local.Minute()
	if q.From <= q.To {
		return at >= q.From && at < q.To
	}
	return at >= q.From || at < q.To
}

// Is tells whether a file holds alerts, by its first key.
func Is(data []byte) bool { return object.FirstKey(data, "vigila", "alert/") }

// LeastAfter and LeastAgain are the shortest times that a file may ask for.
const (
	DefaultAfter = time.Minute
	LeastAgain   = 10 * time.Minute
)

// Parse reads every alert of a file. All mistakes are reported at once, each an *object.SyntaxError, joined.
func Parse(file string, data []byte) ([]Rule, error) {
	var out []Rule
	err := document.Each(file, data, func(d *document.Reader, root *yaml.Node) {
		r := (&reader{d}).rule(root)
		if r.File = file; d.Good() {
			out = append(out, r)
		}
	})
	return out, err
}

type reader struct{ *document.Reader }

func (d *reader) rule(n *yaml.Node) Rule {
	r := Rule{Line: d.Line(n), After: DefaultAfter}
	format := ""
	d.Keys(n, "an alert", map[string]func(*yaml.Node){
		"vigila": d.Text(&format, "vigila"), "name": d.Text(&r.Name, "name"), "for": d.Text(&r.Text, "for"),
		"wards": d.Wards(&r.Wards, "wards"),
		"about": d.topics(&r.About, "about"),
		"after": d.duration(&r.After, "after", 0), "again": d.duration(&r.Again, "again", LeastAgain),
		"quiet": func(x *yaml.Node) { r.Quiet = d.quiet(x) },
		"to": d.List("to", func(x *yaml.Node) {
			for _, to := range d.to(x) {
				if slices.ContainsFunc(r.To, func(t To) bool { return t.Way == to.Way }) {
					d.Fail(d.Line(x), "to names %s twice; write whom it leads to in one list", to.Way)
				}
				r.To = append(r.To, to)
			}
		}),
	})
	if n.Kind != yaml.MappingNode {
		return r
	}
	d.Head(r.Line, Format, format, r.Name)
	if len(r.To) == 0 {
		d.Fail(r.Line, "to is missing: whom it goes to, such as [ops-chat, {mail: [ops@brindle.example]}]; the ways that there are: vigila alert way list")
	}
	return r
}

func (d *reader) topics(into *[]Topic, where string) func(*yaml.Node) {
	return d.List(where, func(x *yaml.Node) {
		t := Topic(x.Value)
		if !slices.Contains(Topics, t) {
			var known []string
			for _, k := range Topics {
				known = append(known, string(k))
			}
			d.Fail(d.Line(x), "%s names %q; %s", where, x.Value, nearest.Words(x.Value, known))
			return
		}
		*into = append(*into, t)
	})
}

func (d *reader) duration(into *time.Duration, where string, least time.Duration) func(*yaml.Node) {
	return func(n *yaml.Node) {
		v, err := time.ParseDuration(n.Value)
		switch {
		case err != nil:
			d.Fail(d.Line(n), "%s is %q; write a duration, such as 1m or 4h", where, n.Value)
		case v < least || v < 0:
			d.Fail(d.Line(n), "%s is %s; the shortest is %s", where, n.Value, least)
		}
		*into = v
	}
}

// quiet reads hours of the day.
func (d *reader) quiet(n *yaml.Node) *Quiet {
	q := &Quiet{Zone: time.UTC}
	from, to, zone := "", "", ""
	d.Keys(n, "quiet", map[string]func(*yaml.Node){"from": d.Text(&from, "quiet.from"), "to": d.Text(&to, "quiet.to"), "zone": d.Text(&zone, "quiet.zone"), "but": d.topics(&q.But, "quiet.but")})
	if n.Kind != yaml.MappingNode {
		return q
	}
	for where, text := range map[string]string{"quiet.from": from, "quiet.to": to} {
		at, err := time.Parse("15:04", text)
		if err != nil {
			d.Fail(d.Line(n), `%s is %q; write a time of day in quotes, such as "22:00"`, where, text)
			continue
		}
		if minutes := at.Hour()*60 + at.Minute(); where == "quiet.from" {
			q.From = minutes
		} else {
			q.To = minutes
		}
	}
	if from == to && from != "" {
		d.Fail(d.Line(n), "quiet goes from %s to %s, which is never, or always; to tell nobody take the alert away", from, to)
	}
	if zone != "" {
		in, err := time.LoadLocation(zone)
		if err != nil || zone == "Local" {
			d.Fail(d.Line(n), "quiet.zone is %q; write a time zone of the IANA database, such as Europe/Oslo", zone)
			in = time.UTC
		}
		q.Zone = in
	}
	return q
}

// to reads a way's name, or a way with whom it leads to.
func (d *reader) to(n *yaml.Node) (out []To) {
	if n.Kind == yaml.ScalarNode && document.Name(n.Value) {
		return []To{{Way: n.Value}}
	}
	if n.Kind != yaml.MappingNode {
		d.Fail(d.Line(n), "to is the name of a way, or {WAY: [whom]}, not %q", n.Value)
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		t := To{Way: n.Content[i].Value}
		d.Texts(&t.Addresses, "to."+t.Way)(n.Content[i+1])
		if !document.Name(t.Way) || len(t.Addresses) == 0 {
			d.Fail(d.Line(n), "to names way %q without whom it leads to; write {mail: [ops@brindle.example]}", t.Way)
		}
		out = append(out, t)
	}
	return out
}

// Concerns tells whether a trouble is what the rule is about, and as which of what it belongs to.
func (r *Rule) Concerns(t Trouble) (as Of, is bool) {
	if len(r.About) > 0 && !slices.Contains(r.About, t.Topic) {
		return Of{}, false
	}
	for _, of := range append([]Of{t.Of}, t.Others...) {
		if r.Wards.Hold(of.Ward, of.Owner, of.Cluster, of.Roster) {
			return of, true
		}
	}
	return Of{}, false
}

// String says when it is quiet; "" when never.
func (q *Quiet) String() string {
	if q == nil {
		return ""
	}
	out := fmt.Sprintf("%02d:%02d to %02d:%02d %s", q.From/60, q.From%60, q.To/60, q.To%60, q.Zone)
	var but []string
	for _, t := range q.But {
		but = append(but, string(t))
	}
	if len(but) > 0 {
		out += ", but " + strings.Join(but, ", ")
	}
	return out
}
