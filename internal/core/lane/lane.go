// Package lane is the way that a change takes from environment to environment: what moves, in lots, from stop to stop; when a lot has
// arrived, to which stops it is offered then, and what would come along with it. It is pure: what repositories and wards say comes in,
// what there is to do goes out. Start with Parse and Lane.
package lane

import (
	_ "embed" // the published schema
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/glob"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
)

// Format is the value of the key "vigila" in a lane file.
const Format = "lane/v1"

// Schema is the published JSON Schema (draft 2020-12) of a lane file.
//
//go:embed lane.schema.json
var Schema []byte

// Placeholder stands for a stop's name in the paths of what is carried.
const Placeholder = "{stop}"

// Lane is the way from environment to environment.
type Lane struct {
	Name, About string
	Repo, Ref   string // the repository that it lives in and its branch, where all that is carried is
	Carries     []Carry
	Keeps       []string // patterns of files that are a stop's own: never moved, never compared
	Stops       []Stop
	File        string // that declares it, and
	Line        int    // where
}

// Carry is something that moves: what a versions file says, or files.
type Carry struct {
	Versions string // the path of a versions file; "" for files
	Files    string // a file, or a directory with /** after it
	Line     int
}

// Path is where it is, with the placeholder in it.
func (c Carry) Path() string { return c.Versions + strings.TrimSuffix(c.Files, "/**") }

// LetsIn is how a stop takes a lot.
type LetsIn string

// The ways.
const (
	ByItself LetsIn = "by itself"
	Ask      LetsIn = "ask"
)

// By is how what is carried is written.
type By string

// The ways.
const (
	ByCommit   By = "commit"
	ByProposal By = "proposal"
)

// Stop is one environment on the way.
type Stop struct {
	Name      string
	After     []string // stops that a lot has arrived at before it is offered here; none where lots begin
	Wards     []string // name@cluster, or the name of a ward with one placement
	LetsIn    LetsIn
	Approvals Approvals // that a lot needs before it is merged
	Who       []string  // may let a lot in; whoever may operate when there are none
	Settled   time.Duration
	By        By
	Hours     *Hours // when lots are let in; always when nil
	Together  string // another stop, with which it takes a lot in one
	Line      int
}

// Stop is a stop by its name.
func (l *Lane) Stop(name string) (Stop, bool) {
	i := slices.IndexFunc(l.Stops, func(s Stop) bool { return s.Name == name })
	if i < 0 {
		return Stop{}, false
	}
	return l.Stops[i], true
}

// At is a path of what is carried as it is at a stop.
func At(p, stop string) string { return strings.ReplaceAll(p, Placeholder, stop) }

// Is tells whether a file holds lanes, by its first key.
func Is(data []byte) bool { return object.FirstKey(data, "vigila", "lane/") }

// Approvals is how many approvals of whom a lot needs before it is merged.
type Approvals struct {
	Count int
	Of    []string // teams, or roles; anybody who may when empty
}

// Parse reads every lane of a file that lives in a repository at a branch. All mistakes are reported at once, each an
// *object.SyntaxError, joined.
func Parse(home, ref, file string, data []byte) ([]Lane, error) {
	var out []Lane
	err := document.Each(file, data, func(d *document.Reader, root *yaml.Node) {
		l := (&reader{d}).lane(root)
		if l.Repo, l.Ref, l.File = home, ref, file; d.Good() {
			out = append(out, l)
		}
	})
	return out, err
}

type reader struct{ *document.Reader }

func (d *reader) lane(n *yaml.Node) Lane {
	l := Lane{Line: d.Line(n)}
	format := ""
	d.Keys(n, "a lane", map[string]func(*yaml.Node){
		"vigila": d.Text(&format, "vigila"), "name": d.Text(&l.Name, "name"), "about": d.Text(&l.About, "about"), "keeps": d.Texts(&l.Keeps, "keeps"),
		"carries": d.List("carries", func(n *yaml.Node) { l.Carries = append(l.Carries, d.carry(n)) }),
		"stops":   d.List("stops", func(n *yaml.Node) { l.Stops = append(l.Stops, d.stop(n)) }),
	})
	if n.Kind != yaml.MappingNode {
		return l
	}
	d.Head(l.Line, Format, format, l.Name)
	if len(l.Carries) == 0 {
		d.Fail(l.Line, "carries is missing: what moves, such as [{versions: services/fare-gate/{stop}/versions.yaml}]")
	}
	if len(l.Stops) < 2 {
		d.Fail(l.Line, "a lane leads from a stop to another; there are to be two or more")
	}
	for _, x := range []struct {
		what string
		n    int
	}{{"carries", len(l.Carries)}, {"keeps", len(l.Keeps)}, {"stops", len(l.Stops)}} {
		if x.n > most {
			d.Fail(l.Line, "%s has %d entries, and may have %d", x.what, x.n, most)
			return l
		}
	}
	for _, k := range l.Keeps {
		if err := glob.Check(k); err != nil {
			d.Fail(l.Line, "keeps: %v", err)
		}
	}
	d.carried(l)
	d.way(l)
	return l
}

func (d *reader) carry(n *yaml.Node) Carry {
	c := Carry{Line: d.Line(n)}
	d.Keys(n, "what is carried", map[string]func(*yaml.Node){"versions": d.Text(&c.Versions, "versions"), "files": d.Text(&c.Files, "files")})
	if n.Kind != yaml.MappingNode {
		return c
	}
	p := c.Path()
	clean := strings.Trim(path.Clean("/"+p), "/")
	switch {
	case (c.Versions == "") == (c.Files == ""):
		d.Fail(c.Line, "one of versions and files says what is carried")
	case clean != p || slices.Contains(strings.Split(clean, "/"), ".git"):
		d.Fail(c.Line, "%q is no path below the root of a repository", p)
	case !strings.Contains(p, Placeholder):
		d.Fail(c.Line, "%s has no %s in it, so every stop would have the same; write it where the stop's name stands", p, Placeholder)
	case strings.ContainsAny(p, "*?["):
		d.Fail(c.Line, "%s: write a file, or a directory with /** after it", c.Versions+c.Files)
	}
	return c
}

// most is how many entries each list of a lane may have.
const most = 100

// carried finds what would be carried twice: one thing at a stop would have two origins.
func (d *reader) carried(l Lane) {
	type at struct {
		carry Carry
		stop  string
	}
	patterns, written := places[Carry]{}, places[at]{}
	for _, a := range l.Carries {
		b, twice := patterns.beside(a.Path())
		if twice {
			d.Fail(a.Line, "%s is carried already, by %s; keep one of them", a.Versions+a.Files, b.Versions+b.Files)
		}
		patterns.put(a.Path(), a)
		for _, s := range l.Stops {
			p := At(a.Path(), s.Name)
			if other, is := written.beside(p); is && !twice && other.carry != a {
				d.Fail(a.Line, "%s of stop %s is carried already, by %s of stop %s; keep one of them", a.Versions+a.Files, s.Name, other.carry.Versions+other.carry.Files, other.stop)
			}
			written.put(p, at{a, s.Name})
		}
	}
}

// places are paths, each with what is there, and the directories that they are in.
type places[T any] map[string]place[T]

type place[T any] struct {
	of T
	is bool // a place itself; else one is below it, which it is of
}

// put notes a path. What was there before stays.
func (all places[T]) put(p string, of T) {
	if !all[p].is {
		all[p] = place[T]{of, true}
	}
	for dir := path.Dir(p); dir != "." && dir != "/"; dir = path.Dir(dir) {
		if _, known := all[dir]; !known {
			all[dir] = place[T]{of: of}
		}
	}
}

// beside finds what is at a path, above it or below it.
func (all places[T]) beside(p string) (of T, found bool) {
	if at, known := all[p]; known {
		return at.of, true
	}
	for dir := path.Dir(p); dir != "." && dir != "/"; dir = path.Dir(dir) {
		if at := all[dir]; at.is {
			return at.of, true
		}
	}
	return of, false
}

// Writes are the paths that a lane carries things to, by the stop that they are of. Where lots begin it only reads.
func (l *Lane) Writes() map[string]string {
	out := map[string]string{}
	for _, s := range l.Stops {
		for _, c := range l.Carries {
			if len(s.After) > 0 {
				out[At(c.Path(), s.Name)] = s.Name
			}
		}
	}
	return out
}

// Clash is a path that both lanes write to; "" when there is none.
func (l *Lane) Clash(o *Lane) string {
	if l.Repo != o.Repo || l.Ref != o.Ref {
		return ""
	}
	theirs := places[string]{}
	for p, stop := range o.Writes() {
		theirs.put(p, stop)
	}
	for _, p := range slices.Sorted(maps.Keys(l.Writes())) {
		if _, both := theirs.beside(p); both {
			return p
		}
	}
	return ""
}

// Group are the stops that take a lot in one: the one that the others go with first.
func (l *Lane) Group(s Stop) []Stop {
	if s.Together != "" {
		s, _ = l.Stop(s.Together)
	}
	out := []Stop{s}
	for _, x := range l.Stops {
		if x.Together == s.Name {
			out = append(out, x)
		}
	}
	return out
}

// By is how a group writes: as a proposal, where any of its stops wants one.
func (l *Lane) By(group []Stop) By {
	if slices.ContainsFunc(group, func(s Stop) bool { return s.By == ByProposal }) {
		return ByProposal
	}
	return ByCommit
}

func (d *reader) stop(n *yaml.Node) Stop {
	s := Stop{Line: d.Line(n), By: ByCommit}
	letsIn, by, settled, hours := "", string(ByCommit), "", ""
	d.Keys(n, "a stop", map[string]func(*yaml.Node){
		"name": d.Text(&s.Name, "name"), "after": d.Texts(&s.After, "after"), "wards": d.Texts(&s.Wards, "wards"), "lets_in": d.Text(&letsIn, "lets_in"), "who": d.Texts(&s.Who, "who"),
		"settled": d.Text(&settled, "settled"), "by": d.Text(&by, "by"), "hours": d.Text(&hours, "hours"), "together": d.Text(&s.Together, "together"),
		"approvals": func(x *yaml.Node) { s.Approvals = d.approvals(x) },
	})
	if n.Kind != yaml.MappingNode {
		return s
	}
	s.LetsIn, s.By = LetsIn(letsIn), By(by)
	var err error
	if settled != "" {
		if s.Settled, err = time.ParseDuration(settled); err != nil || s.Settled < 0 {
			d.Fail(s.Line, "settled is %q; write a time such as 30m", settled)
		}
	}
	if hours != "" {
		if s.Hours, err = ParseHours(hours); err != nil {
			d.Fail(s.Line, "hours: %v", err)
		}
	}
	for _, x := range []struct {
		is   bool
		text string
	}{
		{!document.Name(s.Name), fmt.Sprintf("name is %q; write small letters, digits and dashes, at most 63", s.Name)},
		{len(s.Wards) == 0, fmt.Sprintf("stop %s has no wards; a lot has arrived once they hold it, so name them", s.Name)},
		{s.LetsIn != ByItself && s.LetsIn != Ask, fmt.Sprintf("lets_in of stop %s is %q; write by itself, or ask", s.Name, letsIn)},
		{len(s.After) == 0 && (len(s.Who) > 0 || s.LetsIn == Ask || s.By == ByProposal || s.Together != "" || hours != ""), fmt.Sprintf("lots begin at stop %s, since it is after no other: what is pushed there is there. Write lets_in: by itself, and neither who, by, hours nor together", s.Name)},
		{s.By != ByCommit && s.By != ByProposal, fmt.Sprintf("by of stop %s is %q; write commit, or proposal", s.Name, by)},
		{s.Approvals.Count > 0 && s.By != ByProposal, fmt.Sprintf("stop %s wants approvals, which only a proposal can have; write by: proposal", s.Name)},
		{len(s.Who) > 0 && s.LetsIn == ByItself, fmt.Sprintf("stop %s lets lots in by itself, so nobody is asked; take who away, or write lets_in: ask", s.Name)},
	} {
		if x.is {
			d.Fail(s.Line, "%s", x.text)
		}
	}
	return s
}

func (d *reader) approvals(n *yaml.Node) Approvals {
	a := Approvals{}
	d.Keys(n, "approvals", map[string]func(*yaml.Node){"count": func(x *yaml.Node) {
		if x.Kind != yaml.ScalarNode || x.Decode(&a.Count) != nil || a.Count < 1 || a.Count > 20 {
			d.Fail(d.Line(x), "approvals.count is %q; write how many, from 1 to 20", x.Value)
		}
	}, "of": d.Texts(&a.Of, "approvals.of")})
	if n.Kind == yaml.MappingNode && a.Count == 0 && d.Good() {
		d.Fail(d.Line(n), "approvals.count is missing: how many are wanted")
	}
	return a
}

// way holds what leads from stop to stop against each other.
func (d *reader) way(l Lane) {
	first := map[string]bool{}
	begins := false
	var names []string
	for _, s := range l.Stops {
		if names = append(names, s.Name); first[s.Name] {
			d.Fail(s.Line, "stop %s is there twice", s.Name)
		}
		first[s.Name] = true
		begins = begins || len(s.After) == 0
	}
	for _, s := range l.Stops {
		for _, a := range s.After {
			if !first[a] {
				d.Fail(s.Line, "stop %s is after %s, and there is no such stop; %s", s.Name, a, nearest.Words(a, names))
			}
		}
		if s.Together == "" {
			continue
		}
		with, known := l.Stop(s.Together)
		switch {
		case !known:
			d.Fail(s.Line, "stop %s takes lots together with %s, and there is no such stop; %s", s.Name, s.Together, nearest.Words(s.Together, names))
		case with.Together != "":
			d.Fail(s.Line, "stop %s takes lots together with %s, which goes with %s itself; write together: %s", s.Name, s.Together, with.Together, with.Together)
		case !slices.Equal(slices.Sorted(slices.Values(s.After)), slices.Sorted(slices.Values(with.After))):
			d.Fail(s.Line, "stop %s takes lots together with %s, so both come after the same stops", s.Name, s.Together)
		}
	}
	if len(l.Stops) > 0 && !begins {
		d.Fail(l.Line, "every stop comes after another, so that no lot ever begins; take after away from the first")
		return
	}
	if circle := l.circle(); len(circle) > 0 {
		d.Fail(l.Line, "stops come after each other in a circle: %s", strings.Join(circle, ", "))
	}
}

// circle finds stops that come after each other; the first is named again at the end.
func (l *Lane) circle() []string {
	const going, done = 1, 2
	mark := map[string]int{}
	var way []string
	var walk func(name string) []string
	walk = func(name string) []string {
		switch mark[name] {
		case done:
			return nil
		case going:
			return append(slices.Clone(way[slices.Index(way, name):]), name)
		}
		mark[name] = going
		way = append(way, name)
		s, _ := l.Stop(name)
		for _, a := range s.After {
			if c := walk(a); c != nil {
				return c
			}
		}
		way = way[:len(way)-1]
		mark[name] = done
		return nil
	}
	for _, s := range l.Stops {
		if c := walk(s.Name); c != nil {
			return c
		}
	}
	return nil
}
