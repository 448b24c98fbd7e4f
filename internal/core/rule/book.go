package rule

import (
	_ "embed" // the published schema
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
)

// Format is the value of the key "vigila" in a rulebook file.
const Format = "rulebook/v1"

// Schema is the published JSON Schema (draft 2020-12) of a rulebook file.
//
//go:embed rulebook.schema.json
var Schema []byte

// Book is a rulebook: a directory with a rulebook file, whose other files are its rules.
type Book struct {
	Name, About string
	Ours        []string             // of Vigila's own rules, by name
	Otherwise   map[string]Otherwise // another word than the rules' own
	Except      []Except
	File        string
	Line        int
	lines       map[string]int // of what Ours and Otherwise name
}

// Except lets something break a rule of its book until a day.
type Except struct {
	Rule  string    `json:"rule"`
	Of    string    `json:"of"`              // Kind/name, patterns as of path.Match
	Wards []string  `json:"wards,omitempty"` // patterns; everywhere when there are none
	Why   string    `json:"why"`
	Owner string    `json:"owner"`
	Until time.Time `json:"until"` // the first moment that it does not hold any more
	File  string    `json:"file"`
	Line  int       `json:"line"`
}

// Holds tells whether it still does.
func (e *Except) Holds(now time.Time) bool { return e != nil && now.Before(e.Until) }

// Day is its last day, as it was written.
func (e *Except) Day() string { return e.Until.AddDate(0, 0, -1).Format(time.DateOnly) }

// IsBook tells whether a file is a rulebook file, by its first key.
func IsBook(data []byte) bool { return object.FirstKey(data, "vigila", "rulebook/") }

// File is a file by its path.
type File struct {
	Path string
	Data []byte
}

// Dirs are the directories that are rulebooks among some files.
func Dirs(files []File) (out []string) {
	for _, f := range files {
		if IsBook(f.Data) {
			out = append(out, path.Dir(f.Path))
		}
	}
	return out
}

// Within tells whether a file belongs to one of some rulebooks, by their directories.
func Within(dirs []string, file string) bool {
	return slices.ContainsFunc(dirs, func(d string) bool { return d == "." || strings.HasPrefix(file, d+"/") })
}

// ParseBook reads a rulebook file. All mistakes are reported at once, each an *object.SyntaxError, joined.
func ParseBook(file string, data []byte) (*Book, error) {
	var out []*Book
	err := document.Each(file, data, func(d *document.Reader, root *yaml.Node) {
		b := (&reader{d}).book(root)
		b.File = file
		for i := range b.Except {
			b.Except[i].File = file
		}
		if len(out) > 0 {
			d.Fail(b.Line, "a rulebook file holds one document; put the other into a directory of its own")
		}
		out = append(out, b)
	})
	if err != nil {
		return nil, err
	}
	return out[0], nil
}

type reader struct{ *document.Reader }

func (d *reader) book(n *yaml.Node) *Book {
	b := &Book{Line: d.Line(n), Otherwise: map[string]Otherwise{}, lines: map[string]int{}}
	format := ""
	d.Keys(n, "a rulebook", map[string]func(*yaml.Node){
		"vigila": d.Text(&format, "vigila"), "name": d.Text(&b.Name, "name"), "about": d.Text(&b.About, "about"),
		"ours": d.List("ours", func(x *yaml.Node) {
			name := ""
			d.Text(&name, "ours")(x)
			if slices.Contains(b.Ours, name) {
				d.Fail(d.Line(x), "%s is named twice", name)
			}
			b.Ours = append(b.Ours, name)
			b.lines[name] = d.Line(x)
			d.known(x, name)
		}),
		"otherwise": func(x *yaml.Node) { d.otherwise(x, b) },
		"except":    d.List("except", func(x *yaml.Node) { b.Except = append(b.Except, d.except(x)) }),
	})
	if n.Kind != yaml.MappingNode {
		return b
	}
	d.Head(b.Line, Format, format, b.Name)
	return b
}

// known refuses a name that none of Vigila's own rules has.
func (d *reader) known(n *yaml.Node, name string) {
	if !slices.Contains(Names(), name) && name != "" {
		d.Fail(d.Line(n), "Vigila has no rule %s of its own; %s", name, nearest.Words(name, Names()))
	}
}

func (d *reader) otherwise(n *yaml.Node, b *Book) {
	if n.Kind != yaml.MappingNode {
		d.Fail(d.Line(n), "otherwise is to be a mapping of rules to refuse, warn or off")
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		name, word := n.Content[i].Value, Otherwise(n.Content[i+1].Value)
		if word != Refuse && word != Warn && word != Off {
			d.Fail(d.Line(n.Content[i+1]), "otherwise.%s is %q; it is refuse, warn or off", name, string(word))
		}
		b.Otherwise[name] = word
		b.lines[name] = d.Line(n.Content[i])
	}
}

func (d *reader) except(n *yaml.Node) (e Except) {
	e.Line = d.Line(n)
	until := ""
	d.Keys(n, "an exception", map[string]func(*yaml.Node){
		"rule": d.Text(&e.Rule, "rule"), "of": d.Text(&e.Of, "of"), "wards": d.Texts(&e.Wards, "wards"),
		"why": d.Text(&e.Why, "why"), "owner": d.Text(&e.Owner, "owner"), "until": d.Text(&until, "until"),
	})
	for _, x := range [][2]string{{"rule", e.Rule}, {"of", e.Of}, {"why", e.Why}, {"owner", e.Owner}, {"until", until}} {
		if x[1] == "" {
			d.Fail(e.Line, "an exception needs %s; such as {rule: probes-stated, of: Deployment/tide-gauge, why: it answers to no one, owner: harbour-ops, until: 2027-01-31}", x[0])
		}
	}
	if until != "" {
		day, err := time.Parse(time.DateOnly, until)
		if err != nil {
			d.Fail(e.Line, "until is %q; write its last day, such as 2027-01-31", until)
		}
		e.Until = day.AddDate(0, 0, 1)
	}
	if kind, name, ok := strings.Cut(e.Of, "/"); e.Of != "" && (!ok || kind == "" || name == "") {
		d.Fail(e.Line, "of is %q; write Kind/name, such as Deployment/tide-gauge", e.Of)
	}
	for _, p := range append([]string{e.Of}, e.Wards...) {
		if _, err := path.Match(p, "x"); err != nil {
			d.Fail(e.Line, "%q is no pattern", p)
		}
	}
	return e
}

// Set is the rules that hold for some wards.
type Set struct {
	Books []*Book
	held  []held
	own   Own
}

// held is a rule as a book has it.
type held struct {
	*Rule
	book      string // the book's name
	otherwise Otherwise
	excepts   []Except
}

// Held is a rule that holds, for lists.
type Held struct {
	*Rule
	Book      string
	BookFile  string // "" for what Vigila holds to by itself
	Otherwise Otherwise
	Ours      bool
}

// ByItself are the rules of Vigila's own that hold where no rulebook says otherwise.
var ByItself = []string{"secret-literal"}

// Compile makes a set of the rulebooks among some files: every directory with a rulebook file, whose other files are its rules. All mistakes are
// reported at once, each an *object.SyntaxError, joined; the set holds what has none. own are Vigila's own rules.
func Compile(files []File, own Own) (*Set, error) {
	s := &Set{own: own}
	var errs []error
	still := map[string]Otherwise{} // of what holds by itself
	for _, name := range ByItself {
		still[name] = own[name].Otherwise
	}
	for _, f := range files {
		if !IsBook(f.Data) {
			continue
		}
		b, err := ParseBook(f.Path, f.Data)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		if i := slices.IndexFunc(s.Books, func(x *Book) bool { return x.Name == b.Name }); i >= 0 {
			errs = append(errs, &object.SyntaxError{File: f.Path, Line: b.Line, Text: fmt.Sprintf("there is a rulebook %s already, at %s", b.Name, s.Books[i].File)})
			continue
		}
		s.Books = append(s.Books, b)
		errs = append(errs, s.take(b, files, still)...)
	}
	for _, name := range ByItself {
		if word, is := still[name]; is && word != Off {
			s.held = append(s.held, held{Rule: own[name], book: "vigila", otherwise: word})
		}
	}
	return s, object.Mistakes(errs...)
}

// take adds a book's rules.
func (s *Set) take(b *Book, files []File, still map[string]Otherwise) (errs []error) {
	dir := path.Dir(b.File)
	nested := Dirs(slices.DeleteFunc(slices.Clone(files), func(f File) bool {
		return path.Dir(f.Path) == dir || !Within([]string{dir}, f.Path)
	}))
	first := map[string]string{}
	add := func(r *Rule, at string) {
		if where, twice := first[r.Name]; twice {
			errs = append(errs, &object.SyntaxError{File: r.File, Line: r.Line, Text: fmt.Sprintf("there is a rule %s already, at %s", r.Name, where)})
			return
		}
		first[r.Name] = at
		word, said := b.Otherwise[r.Name]
		if !said {
			word = r.Otherwise
		}
		if word != Off {
			s.held = append(s.held, held{r, b.Name, word, b.exceptions(r.Name)})
		}
	}
	for _, name := range b.Ours {
		delete(still, name) // the book says how
		add(s.own[name], fmt.Sprintf("%s:%d", b.File, b.lines[name]))
	}
	for _, f := range files {
		if f.Path == b.File || !Within([]string{dir}, f.Path) || Within(nested, f.Path) || object.FirstKey(f.Data, "vigila", "") || strings.TrimSpace(string(f.Data)) == "" {
			continue
		}
		rules, err := Parse(f.Path, f.Data)
		if err != nil {
			errs = append(errs, err)
		}
		for _, r := range rules {
			add(r, fmt.Sprintf("%s:%d", r.File, r.Line))
		}
	}
	if len(first) > Most {
		errs = append(errs, &object.SyntaxError{File: b.File, Line: b.Line, Text: fmt.Sprintf("a rulebook has at most %d rules, and this has %d", Most, len(first))})
	}
	return append(errs, b.strays(first, still)...)
}

// strays are names of a book that mean no rule of it. What Vigila holds to by itself can be switched off, or made strict.
func (b *Book) strays(first map[string]string, still map[string]Otherwise) (errs []error) {
	var names []string
	for name := range first {
		names = append(names, name)
	}
	no := func(line int, where, name string) {
		if object.Enough(errs) {
			return
		}
		errs = append(errs, &object.SyntaxError{File: b.File, Line: line, Text: fmt.Sprintf("%s names %s, and this rulebook has no such rule; %s", where, name, nearest.Words(name, names))})
	}
	for name, word := range b.Otherwise {
		_, has := first[name]
		if _, is := still[name]; is && !has {
			still[name] = word
			has = true
		}
		if !has {
			no(b.lines[name], "otherwise", name)
		}
	}
	for _, e := range b.Except {
		if _, has := first[e.Rule]; !has {
			no(e.Line, "except", e.Rule)
		}
	}
	return errs
}

func (b *Book) exceptions(rule string) (out []Except) {
	for _, e := range b.Except {
		if e.Rule == rule {
			out = append(out, e)
		}
	}
	return out
}

// except is what lets an object break the rule: of several the one that ends last; nil when there is none.
func (h *held) except(ref object.Ref, ward string) (out *Except) {
	for i, e := range h.excepts {
		ok, _ := path.Match(e.Of, ref.Short())
		if !ok || len(e.Wards) > 0 && !slices.ContainsFunc(e.Wards, func(p string) bool { ok, _ := path.Match(p, ward); return ok }) {
			continue
		}
		if out == nil || e.Until.After(out.Until) {
			out = &h.excepts[i]
		}
	}
	return out
}

// Rules lists what holds, in the order of the books.
func (s *Set) Rules() (out []Held) {
	for _, h := range s.held {
		x := Held{Rule: h.Rule, Book: h.book, Otherwise: h.otherwise, Ours: s.own[h.Name] == h.Rule}
		for _, b := range s.Books {
			if b.Name == h.book {
				x.BookFile = b.File
			}
		}
		out = append(out, x)
	}
	return out
}

// Ended lists exceptions that have ended, over all books.
func (s *Set) Ended(now time.Time) (out []Except) {
	for _, b := range s.Books {
		for _, e := range b.Except {
			if !e.Holds(now) {
				out = append(out, e)
			}
		}
	}
	return out
}

// Only is a set of one rule, held to strictly or not as it says itself, for trying it out.
func Only(rules ...*Rule) *Set {
	s := &Set{}
	for _, r := range rules {
		s.held = append(s.held, held{Rule: r, book: "tried", otherwise: r.Otherwise})
	}
	return s
}
