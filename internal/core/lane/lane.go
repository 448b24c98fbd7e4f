// Package lane is the way that a change takes from environment to environment: what moves, in lots, from stop to stop; when a lot has
// arrived, to which stops it is offered then, and what would come along with it. It is pure: what repositories and wards say comes in,
// what there is to do goes out. Start with Parse and Lane.
package lane

import (
	_ "embed" // the published schema
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

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
	Name     string
	After    []string // stops that a lot has arrived at before it is offered here; none where lots begin
	Wards    []string // name@cluster, or the name of a ward with one placement
	LetsIn   LetsIn
	Who      []string // may let a lot in; whoever may operate when there are none
	Settled  time.Duration
	By       By
	Hours    *Hours // when lots are let in; always when nil
	Together string // another stop, with which it takes a lot in one
	Line     int
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

// Parse reads every lane of a file that lives in a repository at a branch. All mistakes are reported at once, each an
// *object.SyntaxError, joined.
func Parse(home, ref, file string, data []byte) ([]Lane, error) {
	var out []Lane
	var errs []error
	for _, doc := range object.Split(data) {
		if err := object.Bounded(file, doc); err != nil {
			errs = append(errs, err)
			continue
		}
		var root yaml.Node
		if err := yaml.Unmarshal(doc.Text, &root); err != nil || len(root.Content) == 0 {
			_, err := object.DecodeYAML(file, doc)
			if err == nil {
				err = &object.SyntaxError{File: file, Line: doc.Line, Text: "this is not valid YAML"}
			}
			errs = append(errs, err)
			continue
		}
		d := &decoder{file: file, offset: doc.Line - 1}
		l := d.lane(root.Content[0])
		l.Repo, l.Ref = home, ref
		errs = append(errs, d.errs...)
		if len(d.errs) == 0 {
			out = append(out, l)
		}
	}
	return out, errors.Join(errs...)
}

type decoder struct {
	file   string
	offset int
	errs   []error
}

func (d *decoder) line(n *yaml.Node) int { return n.Line + d.offset }

func (d *decoder) fail(line int, format string, args ...any) {
	d.errs = append(d.errs, &object.SyntaxError{File: d.file, Line: line, Text: fmt.Sprintf(format, args...)})
}

func (d *decoder) keys(n *yaml.Node, where string, known map[string]func(*yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		d.fail(d.line(n), "%s must be a mapping of keys", where)
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k := n.Content[i]
		read, ok := known[k.Value]
		switch {
		case seen[k.Value]:
			d.fail(d.line(k), "%s is given twice", k.Value)
		case !ok:
			var names []string
			for name := range known {
				names = append(names, name)
			}
			d.fail(d.line(k), "unknown key %s; %s", k.Value, nearest.Words(k.Value, names))
		default:
			read(n.Content[i+1])
		}
		seen[k.Value] = true
	}
}

func (d *decoder) text(into *string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.ScalarNode {
			d.fail(d.line(n), "%s must be a text", where)
			return
		}
		*into = n.Value
	}
}

func (d *decoder) texts(into *[]string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.SequenceNode {
			d.fail(d.line(n), "%s must be a list", where)
			return
		}
		for _, x := range n.Content {
			if x.Kind != yaml.ScalarNode || x.Value == "" {
				d.fail(d.line(x), "%s must be a list of texts", where)
				continue
			}
			*into = append(*into, x.Value)
		}
	}
}

func (d *decoder) each(where string, one func(*yaml.Node)) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.SequenceNode {
			d.fail(d.line(n), "%s must be a list", where)
			return
		}
		for _, x := range n.Content {
			one(x)
		}
	}
}

var nameForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

func (d *decoder) lane(n *yaml.Node) Lane {
	l := Lane{File: d.file, Line: d.line(n)}
	format := ""
	d.keys(n, "a lane", map[string]func(*yaml.Node){
		"vigila": d.text(&format, "vigila"), "name": d.text(&l.Name, "name"), "about": d.text(&l.About, "about"), "keeps": d.texts(&l.Keeps, "keeps"),
		"carries": d.each("carries", func(n *yaml.Node) { l.Carries = append(l.Carries, d.carry(n)) }),
		"stops":   d.each("stops", func(n *yaml.Node) { l.Stops = append(l.Stops, d.stop(n)) }),
	})
	if n.Kind != yaml.MappingNode {
		return l
	}
	if format != Format {
		d.fail(l.Line, "the first key must be vigila: %s, not %q", Format, format)
	}
	if !nameForm.MatchString(l.Name) {
		d.fail(l.Line, "name is %q; write small letters, digits and dashes, at most 63", l.Name)
	}
	if len(l.Carries) == 0 {
		d.fail(l.Line, "carries is missing: what moves, such as [{versions: services/fare-gate/{stop}/versions.yaml}]")
	}
	if len(l.Stops) < 2 {
		d.fail(l.Line, "a lane leads from a stop to another; there are to be two or more")
	}
	for _, k := range l.Keeps {
		if _, err := path.Match(strings.ReplaceAll(k, "**", "*"), ""); err != nil {
			d.fail(l.Line, "keeps: %q is no pattern; write such as **/site.yaml", k)
		}
	}
	d.carried(l)
	d.way(l)
	return l
}

func (d *decoder) carry(n *yaml.Node) Carry {
	c := Carry{Line: d.line(n)}
	d.keys(n, "what is carried", map[string]func(*yaml.Node){"versions": d.text(&c.Versions, "versions"), "files": d.text(&c.Files, "files")})
	if n.Kind != yaml.MappingNode {
		return c
	}
	p := c.Path()
	clean := strings.Trim(path.Clean("/"+p), "/")
	switch {
	case (c.Versions == "") == (c.Files == ""):
		d.fail(c.Line, "one of versions and files says what is carried")
	case clean != p || slices.Contains(strings.Split(clean, "/"), ".git"):
		d.fail(c.Line, "%q is no path below the root of a repository", p)
	case !strings.Contains(p, Placeholder):
		d.fail(c.Line, "%s has no %s in it, so every stop would have the same; write it where the stop's name stands", p, Placeholder)
	case strings.ContainsAny(p, "*?["):
		d.fail(c.Line, "%s: write a file, or a directory with /** after it", c.Versions+c.Files)
	}
	return c
}

// carried finds what would be carried twice: one thing at a stop would have two origins.
func (d *decoder) carried(l Lane) {
	for i, a := range l.Carries {
		for _, b := range l.Carries[:i] {
			p, q := a.Path(), b.Path()
			if p != "" && q != "" && (p == q || strings.HasPrefix(p, q+"/") || strings.HasPrefix(q, p+"/")) {
				d.fail(a.Line, "%s is carried already, by %s; keep one of them", a.Versions+a.Files, b.Versions+b.Files)
			}
		}
	}
}

func (d *decoder) stop(n *yaml.Node) Stop {
	s := Stop{Line: d.line(n), By: ByCommit}
	letsIn, by, settled, hours := "", string(ByCommit), "", ""
	d.keys(n, "a stop", map[string]func(*yaml.Node){
		"name": d.text(&s.Name, "name"), "after": d.texts(&s.After, "after"), "wards": d.texts(&s.Wards, "wards"), "lets_in": d.text(&letsIn, "lets_in"), "who": d.texts(&s.Who, "who"),
		"settled": d.text(&settled, "settled"), "by": d.text(&by, "by"), "hours": d.text(&hours, "hours"), "together": d.text(&s.Together, "together"),
	})
	if n.Kind != yaml.MappingNode {
		return s
	}
	s.LetsIn, s.By = LetsIn(letsIn), By(by)
	var err error
	if settled != "" {
		if s.Settled, err = time.ParseDuration(settled); err != nil || s.Settled < 0 {
			d.fail(s.Line, "settled is %q; write a time such as 30m", settled)
		}
	}
	if hours != "" {
		if s.Hours, err = ParseHours(hours); err != nil {
			d.fail(s.Line, "hours: %v", err)
		}
	}
	for _, x := range []struct {
		is   bool
		text string
	}{
		{!nameForm.MatchString(s.Name), fmt.Sprintf("name is %q; write small letters, digits and dashes, at most 63", s.Name)},
		{len(s.Wards) == 0, fmt.Sprintf("stop %s has no wards; a lot has arrived once they hold it, so name them", s.Name)},
		{s.LetsIn != ByItself && s.LetsIn != Ask, fmt.Sprintf("lets_in of stop %s is %q; write by itself, or ask", s.Name, letsIn)},
		{s.By != ByCommit && s.By != ByProposal, fmt.Sprintf("by of stop %s is %q; write commit, or proposal", s.Name, by)},
		{len(s.Who) > 0 && s.LetsIn == ByItself, fmt.Sprintf("stop %s lets lots in by itself, so nobody is asked; take who away, or write lets_in: ask", s.Name)},
	} {
		if x.is {
			d.fail(s.Line, "%s", x.text)
		}
	}
	return s
}

// way holds what leads from stop to stop against each other.
func (d *decoder) way(l Lane) {
	first := map[string]bool{}
	begins := false
	var names []string
	for _, s := range l.Stops {
		if names = append(names, s.Name); first[s.Name] {
			d.fail(s.Line, "stop %s is there twice", s.Name)
		}
		first[s.Name] = true
		begins = begins || len(s.After) == 0
	}
	for _, s := range l.Stops {
		for _, a := range s.After {
			if !first[a] {
				d.fail(s.Line, "stop %s is after %s, and there is no such stop; %s", s.Name, a, nearest.Words(a, names))
			}
		}
		if s.Together == "" {
			continue
		}
		with, known := l.Stop(s.Together)
		switch {
		case !known:
			d.fail(s.Line, "stop %s takes lots together with %s, and there is no such stop; %s", s.Name, s.Together, nearest.Words(s.Together, names))
		case !slices.Equal(slices.Sorted(slices.Values(s.After)), slices.Sorted(slices.Values(with.After))):
			d.fail(s.Line, "stop %s takes lots together with %s, so both come after the same stops", s.Name, s.Together)
		}
	}
	if len(l.Stops) > 0 && !begins {
		d.fail(l.Line, "every stop comes after another, so that no lot ever begins; take after away from the first")
		return
	}
	if circle := l.circle(); len(circle) > 0 {
		d.fail(l.Line, "stops come after each other in a circle: %s", strings.Join(circle, ", "))
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
