// Package ward reads ward files: what a set of declared objects is called, where it comes from, where it goes
// and how it is kept. Start with Parse.
package ward

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

	"vigila.dev/vigila/internal/core/object"
)

// Version is the value of the key "vigila" in a ward file.
const Version = "ward/v1"

// Schema is the published JSON Schema (draft 2020-12) of a ward file.
//
//go:embed ward.schema.json
var Schema []byte

// Ward is one ward file, with defaults filled in.
type Ward struct {
	Name   string
	About  string
	Owner  string
	From   From
	Into   Into
	Keep   Keep
	Settle Settle
	After  []string
	Leave  []Leave
	Links  map[string]string
	Line   int // 1-based line of its document
}

// From is where the declared objects come from.
type From struct {
	Repo string
	Ref  string // branch, tag or commit
	Path string // file or directory in the repository, "" for its root
}

// Into is where they go: one cluster by name, or every cluster whose labels match.
type Into struct {
	Cluster         string
	Clusters        map[string]string
	Namespace       string // for objects that name none
	CreateNamespace bool
}

// Keep is how they are kept.
type Keep struct {
	Sync      string // auto | ask
	Drift     string // restore | report
	Prune     bool
	Additions string        // what others add to our objects: report | remove | ignore
	Every     time.Duration // how often the repository is looked at
	Reapply   bool          // everything is applied again at each interval
	Newer     string        // a newer revision while a run goes on: wait | replace
	TakeOver  []string      // field managers, and other services (vigila/ID), whose fields become this service's when it adopts an object
}

// Settle is when a run has failed, and what happens then.
type Settle struct {
	Within    time.Duration
	Otherwise string // rollback | stop
}

// Leave names fields that belong to someone else.
type Leave struct {
	Kind   string // this and
	Name   string // this are patterns as of path.Match
	Fields []object.Pointer
}

// Matches tells whether an object is meant.
func (l Leave) Matches(r object.Ref) bool {
	kind, _ := path.Match(l.Kind, r.Kind)
	name, _ := path.Match(l.Name, r.Name)
	return kind && name
}

// Left lists the fields of an object that are left to others.
func (w Ward) Left(r object.Ref) []object.Pointer {
	var out []object.Pointer
	for _, l := range w.Leave {
		if l.Matches(r) {
			out = append(out, l.Fields...)
		}
	}
	return out
}

// Error is one mistake in a ward file, with its place and what to write instead.
type Error struct {
	File string
	Line int
	Text string
}

func (e *Error) Error() string { return fmt.Sprintf("%s:%d: %s", e.File, e.Line, e.Text) }

// IsFile tells whether a file is a ward file, by its first key.
func IsFile(data []byte) bool { return object.FirstKey(data, "vigila", "ward/") }

// Parse reads every ward of a file. All mistakes are reported at once, each as an *Error, joined.
func Parse(file string, data []byte) ([]Ward, error) {
	docs := object.Split(data)
	if len(docs) == 0 {
		return nil, &Error{file, 1, "the file is empty; a ward file starts with vigila: " + Version}
	}
	var out []Ward
	var errs []error
	names := map[string]int{}
	for _, doc := range docs {
		if err := object.Bounded(file, doc); err != nil {
			errs = append(errs, err)
			continue
		}
		var root yaml.Node
		if err := yaml.Unmarshal(doc.Text, &root); err != nil {
			_, err := object.DecodeYAML(file, doc)
			if err == nil {
				err = &Error{file, doc.Line, "this is not valid YAML"}
			}
			errs = append(errs, err)
			continue
		}
		d := &decoder{file: file, offset: doc.Line - 1}
		w := d.ward(root.Content[0])
		if first, twice := names[w.Name]; twice && w.Name != "" {
			d.fail(root.Content[0], "ward %s is declared twice; its first declaration is at line %d", w.Name, first)
		}
		names[w.Name] = w.Line
		errs = append(errs, d.errs...)
		out = append(out, w)
	}
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	return out, nil
}

type decoder struct {
	file   string
	offset int
	errs   []error
}

func (d *decoder) fail(n *yaml.Node, format string, args ...any) {
	d.errs = append(d.errs, &Error{d.file, n.Line + d.offset, fmt.Sprintf(format, args...)})
}

type keys map[string]func(*yaml.Node)

func (d *decoder) mapping(n *yaml.Node, where string, known keys) {
	if n.Kind != yaml.MappingNode {
		d.fail(n, "%s must be a mapping of keys", orThis(where))
		return
	}
	seen := map[string]int{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		full := strings.TrimPrefix(where+"."+k.Value, ".")
		if line, twice := seen[k.Value]; twice {
			d.fail(k, "%s is given twice; it is already at line %d", full, line)
			continue
		}
		seen[k.Value] = k.Line + d.offset
		read, ok := known[k.Value]
		if !ok {
			d.fail(k, "unknown key %s%s", full, suggest(k.Value, known))
			continue
		}
		read(v)
	}
}

func orThis(where string) string {
	if where == "" {
		return "a ward file"
	}
	return where
}

func (d *decoder) ward(n *yaml.Node) Ward {
	w := Ward{
		From:   From{Ref: "main"},
		Keep:   Keep{Sync: "ask", Drift: "report", Prune: true, Additions: "report", Every: time.Minute, Newer: "wait"},
		Settle: Settle{Within: 5 * time.Minute, Otherwise: "rollback"},
		Line:   n.Line + d.offset,
	}
	version := ""
	d.mapping(n, "", keys{
		"vigila": d.text(&version, "vigila"),
		"name":   d.name(&w.Name, "name"),
		"about":  d.text(&w.About, "about"),
		"owner":  d.text(&w.Owner, "owner"),
		"from": func(n *yaml.Node) {
			d.mapping(n, "from", keys{
				"repo": d.name(&w.From.Repo, "from.repo"),
				"ref":  d.text(&w.From.Ref, "from.ref"),
				"path": func(n *yaml.Node) {
					d.text(&w.From.Path, "from.path")(n)
					clean := strings.Trim(path.Clean("/"+w.From.Path), "/")
					if slices.Contains(strings.Split(w.From.Path, "/"), "..") {
						d.fail(n, "from.path %q leaves the repository; write a path below its root", w.From.Path)
					}
					w.From.Path = clean
				},
			})
		},
		"into": func(n *yaml.Node) {
			d.mapping(n, "into", keys{
				"cluster":          d.name(&w.Into.Cluster, "into.cluster"),
				"clusters":         d.texts(&w.Into.Clusters, "into.clusters"),
				"namespace":        d.name(&w.Into.Namespace, "into.namespace"),
				"create_namespace": d.boolean(&w.Into.CreateNamespace, "into.create_namespace"),
			})
			switch {
			case w.Into.Cluster == "" && len(w.Into.Clusters) == 0:
				d.fail(n, "into names no cluster; write cluster: NAME, or clusters: {LABEL: VALUE}")
			case w.Into.Cluster != "" && len(w.Into.Clusters) > 0:
				d.fail(n, "into has both cluster and clusters; keep one of them")
			case w.Into.CreateNamespace && w.Into.Namespace == "":
				d.fail(n, "into.create_namespace needs into.namespace")
			}
		},
		"keep": func(n *yaml.Node) {
			d.mapping(n, "keep", keys{
				"sync":      d.choice(&w.Keep.Sync, "keep.sync", "auto", "ask"),
				"drift":     d.choice(&w.Keep.Drift, "keep.drift", "restore", "report"),
				"prune":     d.boolean(&w.Keep.Prune, "keep.prune"),
				"additions": d.choice(&w.Keep.Additions, "keep.additions", "report", "remove", "ignore"),
				"every":     d.duration(&w.Keep.Every, "keep.every", time.Second),
				"reapply":   d.boolean(&w.Keep.Reapply, "keep.reapply"),
				"newer":     d.choice(&w.Keep.Newer, "keep.newer", "wait", "replace"),
				"take_over": func(n *yaml.Node) {
					d.list(n, "keep.take_over", func(n *yaml.Node) {
						var s string
						d.text(&s, "keep.take_over")(n)
						if s == object.Manager {
							d.fail(n, "keep.take_over names %s, which is Vigila itself", s)
						}
						w.Keep.TakeOver = append(w.Keep.TakeOver, s)
					})
				},
			})
		},
		"settle": func(n *yaml.Node) {
			d.mapping(n, "settle", keys{
				"within":    d.duration(&w.Settle.Within, "settle.within", time.Second),
				"otherwise": d.choice(&w.Settle.Otherwise, "settle.otherwise", "rollback", "stop"),
			})
		},
		"after": func(n *yaml.Node) {
			d.list(n, "after", func(n *yaml.Node) {
				var s string
				d.name(&s, "after")(n)
				w.After = append(w.After, s)
			})
		},
		"leave": func(n *yaml.Node) {
			d.list(n, "leave", func(n *yaml.Node) { w.Leave = append(w.Leave, d.leave(n)) })
		},
		"links": d.texts(&w.Links, "links"),
	})
	has := func(key string) bool {
		for i := 0; i < len(n.Content); i += 2 {
			if n.Content[i].Value == key {
				return true
			}
		}
		return false
	}
	if n.Kind == yaml.MappingNode {
		if version != Version {
			d.fail(n, "the first key must be vigila: %s, not %q", Version, version)
		}
		for _, k := range []string{"name", "from", "into"} {
			if !has(k) {
				d.fail(n, "the ward has no %s", k)
			}
		}
		if has("from") && w.From.Repo == "" {
			d.fail(n, "from.repo is missing: name a known repository (vigila repo list)")
		}
		if slices.Contains(w.After, w.Name) && w.Name != "" {
			d.fail(n, "ward %s waits for itself in after", w.Name)
		}
	}
	return w
}

func (d *decoder) leave(n *yaml.Node) Leave {
	var l Leave
	var of string
	d.mapping(n, "leave", keys{
		"of": func(n *yaml.Node) {
			d.text(&of, "leave.of")(n)
			kind, name, ok := strings.Cut(of, "/")
			if !ok || kind == "" || name == "" {
				d.fail(n, "leave.of is %q; write Kind/name, such as Deployment/berth-planner or Deployment/*", of)
			}
			for _, pattern := range []string{kind, name} {
				if _, err := path.Match(pattern, ""); err != nil {
					d.fail(n, "leave.of: %q is not a valid pattern", pattern)
				}
			}
			l.Kind, l.Name = kind, name
		},
		"fields": func(n *yaml.Node) {
			d.list(n, "leave.fields", func(n *yaml.Node) {
				p, err := object.ParsePointer(n.Value)
				if err != nil {
					d.fail(n, "leave.fields: %v", err)
					return
				}
				l.Fields = append(l.Fields, p)
			})
		},
	})
	if of == "" || len(l.Fields) == 0 {
		d.fail(n, "each entry of leave needs of: and fields:")
	}
	return l
}

func (d *decoder) list(n *yaml.Node, where string, each func(*yaml.Node)) {
	if n.Kind != yaml.SequenceNode {
		d.fail(n, "%s must be a list", where)
		return
	}
	for _, x := range n.Content {
		each(x)
	}
}

func (d *decoder) text(into *string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
			d.fail(n, "%s must be a text", where)
			return
		}
		*into = n.Value
	}
}

// dnsLabel is RFC 1123's: the form of namespace names, and of a label's value.
var dnsLabel = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// Name checks the name of a ward, repository or cluster.
func Name(s string) error {
	if !dnsLabel.MatchString(s) {
		return fmt.Errorf("%q is not a name: use at most 63 lower-case letters, digits and dashes, starting and ending with a letter or digit", s)
	}
	return nil
}

func (d *decoder) name(into *string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		d.text(into, where)(n)
		if err := Name(n.Value); err != nil {
			d.fail(n, "%s: %v", where, err)
		}
	}
}

func (d *decoder) boolean(into *bool, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if err := n.Decode(into); err != nil || n.Tag != "!!bool" {
			d.fail(n, "%s is %q; write true or false", where, n.Value)
		}
	}
}

func (d *decoder) duration(into *time.Duration, where string, least time.Duration) func(*yaml.Node) {
	return func(n *yaml.Node) {
		v, err := time.ParseDuration(n.Value)
		if err != nil {
			d.fail(n, "%s is %q; write a time such as 30s, 5m or 1h", where, n.Value)
			return
		}
		if v < least {
			d.fail(n, "%s is %s; the least is %s", where, v, least)
			return
		}
		*into = v
	}
}

func (d *decoder) choice(into *string, where string, of ...string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if !slices.Contains(of, n.Value) {
			d.fail(n, "%s is %q; write %s", where, n.Value, either(of))
			return
		}
		*into = n.Value
	}
}

// either writes choices as people do: a, b or c.
func either(of []string) string {
	last := len(of) - 1
	return strings.Join(of[:last], ", ") + " or " + of[last]
}

func (d *decoder) texts(into *map[string]string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		*into = map[string]string{}
		if n.Kind != yaml.MappingNode {
			d.fail(n, "%s must be a mapping of texts", where)
			return
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			var v string
			d.text(&v, where+"."+n.Content[i].Value)(n.Content[i+1])
			(*into)[n.Content[i].Value] = v
		}
	}
}

// suggest names the known key that is most like a mistyped one.
func suggest(key string, known keys) string {
	best, least := "", 4
	all := make([]string, 0, len(known))
	for k := range known {
		all = append(all, k)
	}
	slices.Sort(all)
	for _, k := range all {
		if d := distance(strings.ToLower(key), k); d < least {
			best, least = k, d
		}
	}
	if best != "" {
		return fmt.Sprintf("; did you mean %s?", best)
	}
	return "; known here: " + strings.Join(all, ", ")
}

// distance is Levenshtein's.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		prev := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := prev
			if a[i-1] != b[j-1] {
				cost++
			}
			prev = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}
