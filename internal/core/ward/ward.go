// Package ward reads ward files: what a set of declared objects is called, where it comes from, where it goes
// and how it is kept. Start with Parse.
package ward

import (
	_ "embed" // the published schema
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/glob"
	"vigila.dev/vigila/internal/core/nearest"
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
	Set    []Set
	Spread Spread
	Canary []Canary
	Checks []Check
	File   string         // that declares it, and
	Line   int            // the 1-based line of its document there
	Keys   map[string]int // the lines of its keys
}

// LineOf is the line of one of its keys, such as after; that of its document when it has none.
func (w Ward) LineOf(key string) int {
	if line := w.Keys[key]; line > 0 {
		return line
	}
	return w.Line
}

// From is where the declared objects come from.
type From struct {
	Repo     string
	Ref      string // branch, tag, commit, or a version range over tags such as ">=1.4 <2"
	Path     string // file or directory in the repository, "" for its root
	Include  []string
	Exclude  []string // globs below Path, of plain files; as of doublestar: ** crosses directories
	Chart    Chart
	Release  string         // what a chart's release is called; the ward's name when empty
	Values   map[string]any // of a chart or template, over those of ValuesIn
	ValuesIn []ValuesFile   // in order, each over the one before
	Versions []ValuesFile   // versions files, in order, each over the one before
	Places   map[string]int // the lines of the ward file that Values are written at, by their dotted paths
}

// Chart is a packaged chart from a chart repository; none when Name is empty.
type Chart struct {
	Repo    string // a known chart repository
	Name    string
	Version string // a version or a range
}

// ValuesFile is a YAML file of values, or of versions.
type ValuesFile struct {
	Repo string // From.Repo when empty
	Ref  string // From.Ref when empty and the repository is the same, else main
	Path string
}

// Into is where they go: one cluster by name, or every cluster whose labels match.
type Into struct {
	Cluster         string
	Clusters        map[string]string
	Namespace       string // for objects that name none
	CreateNamespace bool
	As              string // the service account in Namespace that runs act as, so that they can do no more than it may
}

// ID names a ward in one cluster, as people and the record do: NAME@CLUSTER. Neither part can hold an @.
func ID(name, cluster string) string { return name + "@" + cluster }

// OfID takes an ID apart.
func OfID(id string) (name, cluster string) {
	name, cluster, _ = strings.Cut(id, "@")
	return name, cluster
}

// The words of keep and settle, as a ward file writes them.
type (
	Sync      string // who begins a sync
	Drift     string // what becomes of what others change
	Additions string // what becomes of what others add
	Newer     string // what a newer revision does while a run goes on
	Restart   string // when workloads are made anew although nothing that is declared is another
	OnRemoval string // what becomes of the objects when the ward leaves its roster
	Otherwise string // what happens when a run fails
)

// What they may be.
const (
	Auto Sync = "auto"
	Ask  Sync = "ask"

	Restore Drift = "restore"
	Report  Drift = "report"

	ReportAdded Additions = "report"
	RemoveAdded Additions = "remove"
	IgnoreAdded Additions = "ignore"

	Never     Restart = "never"
	OnSecrets Restart = "on_secrets" // a secret value is another that its containers read by environment

	Wait    Newer = "wait"
	Replace Newer = "replace"

	LeaveThere OnRemoval = "leave"
	Dismantle  OnRemoval = "dismantle"

	GoBack Otherwise = "rollback"
	Stay   Otherwise = "stop"
)

// Set is what is different where a ward is placed in some of its clusters.
type Set struct {
	Cluster   string            // by name,
	Labels    map[string]string // or by labels
	From      From              // Path, Ref, Chart.Version, Values and ValuesIn, where they are given
	HasPath   bool
	Namespace string
	Sync      Sync
	Line      int
}

// Spread is the order in which a new revision reaches the clusters of a ward; all at once when InTurn is false.
type Spread struct {
	InTurn bool     // one cluster at a time
	Order  []string // these first, the others by name
}

// Keep is how they are kept.
type Keep struct {
	Sync      Sync
	Drift     Drift
	Prune     bool
	Additions Additions
	Every     time.Duration // how often the repository is looked at
	Reapply   bool          // everything is applied again at each interval
	OnRemoval OnRemoval
	Newer     Newer
	Restart   Restart
	TakeOver  []string // field managers, and other services (vigila/ID), whose fields become this service's when it adopts an object
}

// Settle is when a run has failed, and what happens then.
type Settle struct {
	Within    time.Duration
	Otherwise Otherwise
}

// Leave names fields that belong to someone else.
type Leave struct {
	Kind   string // this and
	Name   string // this are patterns as of path.Match
	Fields []object.Pointer
	Line   int
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

// Idle lists the entries of leave that mean none of the ward's objects, as Kind/name.
func (w Ward) Idle(objects []object.Ref) (out []Leave) {
	for _, l := range w.Leave {
		if !slices.ContainsFunc(objects, l.Matches) {
			out = append(out, l)
		}
	}
	return out
}

// Of is what is meant, as a ward file writes it.
func (l Leave) Of() string { return l.Kind + "/" + l.Name }

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
	return ParseIn(From{}, file, data)
}

// ParseIn is Parse for a file that lives in a repository: a ward that names no repository comes from there.
func ParseIn(home From, file string, data []byte) ([]Ward, error) {
	all, err := parse(home, file, data)
	if err != nil {
		return nil, err
	}
	return all, nil
}

// parse is ParseIn that gives back what it could read of wards with mistakes as well.
func parse(home From, file string, data []byte) ([]Ward, error) {
	docs, err := object.Own(file, data, object.MostEntries)
	if err != nil {
		return nil, err
	}
	if len(docs) == 0 {
		return nil, &Error{file, 1, "the file is empty; a ward file starts with vigila: " + Version}
	}
	var out []Ward
	var errs []error
	names := map[string]int{}
	for _, doc := range docs {
		root, err := object.Tree(file, doc)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		d := &decoder{file: file, offset: doc.Line - 1, home: home}
		w := d.ward(root)
		if first, twice := names[w.Name]; twice && w.Name != "" {
			d.fail(root, "ward %s is declared twice; its first declaration is at line %d", w.Name, first)
		}
		names[w.Name] = w.Line
		errs = append(errs, d.errs...)
		out = append(out, w)
	}
	return out, object.Mistakes(errs...)
}

type decoder struct {
	file   string
	offset int
	home   From // the repository that the file lives in
	errs   []error
}

func (d *decoder) fail(n *yaml.Node, format string, args ...any) {
	if object.Enough(d.errs) {
		return
	}
	d.errs = append(d.errs, &Error{d.file, n.Line + d.offset, fmt.Sprintf(format, args...)})
}

type keys map[string]func(*yaml.Node)

func (d *decoder) mapping(n *yaml.Node, where string, known keys) {
	if n.Kind != yaml.MappingNode {
		d.fail(n, "%s must be a mapping of keys", orThis(where))
		return
	}
	seen := map[string]int{}
	for i := 0; i+1 < len(n.Content) && !object.Enough(d.errs); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		full := strings.TrimPrefix(where+"."+k.Value, ".")
		if line, twice := seen[k.Value]; twice {
			d.fail(k, "%s is given twice; it is already at line %d", full, line)
			continue
		}
		seen[k.Value] = k.Line + d.offset
		read, ok := known[k.Value]
		if !ok && known[renamed[k.Value]] != nil {
			d.fail(k, "%s is called %s now", full, renamed[k.Value])
			continue
		}
		if !ok {
			d.fail(k, "unknown key %s%s", full, suggest(k.Value, known))
			continue
		}
		read(v)
	}
}

// renamed are keys of before, to what they are called.
var renamed = map[string]string{"values_from": "values_in"}

func orThis(where string) string {
	if where == "" {
		return "a file of Vigila's own"
	}
	return where
}

func (d *decoder) ward(n *yaml.Node) Ward {
	w := Ward{
		Keep:   Keep{Sync: Ask, Drift: Report, Prune: true, Additions: ReportAdded, Every: time.Minute, Newer: Wait, Restart: Never, OnRemoval: LeaveThere},
		Settle: Settle{Within: 5 * time.Minute, Otherwise: GoBack},
		File:   d.file,
		Line:   n.Line + d.offset,
	}
	version := ""
	d.mapping(n, "", keys{
		"vigila": d.text(&version, "vigila"),
		"name":   d.name(&w.Name, "name"),
		"about":  d.text(&w.About, "about"),
		"owner":  d.text(&w.Owner, "owner"),
		"from":   func(n *yaml.Node) { d.mapping(n, "from", d.from(&w.From, "from")) },
		"into": func(n *yaml.Node) {
			d.mapping(n, "into", keys{
				"cluster":          d.name(&w.Into.Cluster, "into.cluster"),
				"clusters":         d.texts(&w.Into.Clusters, "into.clusters"),
				"namespace":        d.name(&w.Into.Namespace, "into.namespace"),
				"create_namespace": d.boolean(&w.Into.CreateNamespace, "into.create_namespace"),
				"as":               d.name(&w.Into.As, "into.as"),
			})
			switch {
			case w.Into.Cluster == "" && len(w.Into.Clusters) == 0:
				d.fail(n, "into names no cluster; write cluster: NAME, or clusters: {LABEL: VALUE}")
			case w.Into.Cluster != "" && len(w.Into.Clusters) > 0:
				d.fail(n, "into has both cluster and clusters; keep one of them")
			case w.Into.CreateNamespace && w.Into.Namespace == "":
				d.fail(n, "into.create_namespace needs into.namespace")
			case w.Into.As != "" && w.Into.Namespace == "":
				d.fail(n, "into.as names a service account of into.namespace, which is not given")
			}
		},
		"keep": func(n *yaml.Node) {
			d.mapping(n, "keep", keys{
				"sync":       choice(d, &w.Keep.Sync, "keep.sync", Auto, Ask),
				"drift":      choice(d, &w.Keep.Drift, "keep.drift", Restore, Report),
				"prune":      d.boolean(&w.Keep.Prune, "keep.prune"),
				"additions":  choice(d, &w.Keep.Additions, "keep.additions", ReportAdded, RemoveAdded, IgnoreAdded),
				"every":      d.duration(&w.Keep.Every, "keep.every", time.Second),
				"reapply":    d.boolean(&w.Keep.Reapply, "keep.reapply"),
				"on_removal": choice(d, &w.Keep.OnRemoval, "keep.on_removal", LeaveThere, Dismantle),
				"newer":      choice(d, &w.Keep.Newer, "keep.newer", Wait, Replace),
				"restart":    choice(d, &w.Keep.Restart, "keep.restart", Never, OnSecrets),
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
				"otherwise": choice(d, &w.Settle.Otherwise, "settle.otherwise", GoBack, Stay),
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
		"links":  d.links(&w.Links, "links"),
		"set":    func(n *yaml.Node) { d.list(n, "set", func(n *yaml.Node) { w.Set = append(w.Set, d.set(n)) }) },
		"spread": func(n *yaml.Node) { d.spread(n, &w.Spread) },
		"canary": func(n *yaml.Node) { d.canaries(n, &w) },
		"checks": func(n *yaml.Node) { d.checks(n, &w.Checks) },
	})
	w.Keys = map[string]int{}
	for i := 0; n.Kind == yaml.MappingNode && i < len(n.Content); i += 2 {
		w.Keys[n.Content[i].Value] = n.Content[i].Line + d.offset
	}
	has := func(key string) bool { return w.Keys[key] > 0 }
	if n.Kind == yaml.MappingNode {
		if version != Version {
			d.fail(n, "the first key must be vigila: %s, not %q", Version, version)
		}
		for _, k := range []string{"name", "from", "into"} {
			if !has(k) {
				d.fail(n, "the ward has no %s", k)
			}
		}
		if has("from") {
			d.settle(n, &w)
		}
		if w.Spread.InTurn && w.Into.Cluster != "" {
			d.fail(n, "spread needs into.clusters: ward %s goes into one cluster", w.Name)
		}
		if slices.Contains(w.After, w.Name) && w.Name != "" {
			d.fail(n, "ward %s waits for itself in after", w.Name)
		}
	}
	return w
}

func (d *decoder) leave(n *yaml.Node) Leave {
	l := Leave{Line: n.Line + d.offset}
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
		if n.Kind != yaml.ScalarNode || n.Decode(into) != nil || n.Tag != "!!bool" {
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

// choice takes one of some words.
func choice[T ~string](d *decoder, into *T, where string, of ...T) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if !slices.Contains(of, T(n.Value)) {
			d.fail(n, "%s is %q; write %s", where, n.Value, either(of))
			return
		}
		*into = T(n.Value)
	}
}

// either writes choices as people do: a, b or c.
func either[T ~string](of []T) string {
	words := make([]string, len(of))
	for i, w := range of {
		words[i] = string(w)
	}
	last := len(words) - 1
	return strings.Join(words[:last], ", ") + " or " + words[last]
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

func (d *decoder) links(into *map[string]string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		d.texts(into, where)(n)
		for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
			if err := Link(n.Content[i+1].Value); err != nil {
				d.fail(n.Content[i+1], "%s.%s: %v", where, n.Content[i].Value, err)
			}
		}
	}
}

// link is an address that a browser opens and that runs nothing there.
var link = regexp.MustCompile(`^https?://[^\s/@?#]+([/?#]\S*)?$`)

// Link checks a link that is shown with a ward or a cluster.
func Link(s string) error {
	if !link.MatchString(s) {
		return fmt.Errorf("%q is not a link: write https://…, without a name or a password in it", s)
	}
	return nil
}

// suggest names the known key that is most like a mistyped one.
func suggest(key string, known keys) string {
	all := slices.Sorted(maps.Keys(known))
	if best := nearest.Of(key, all); best != "" {
		return fmt.Sprintf("; did you mean %s?", best)
	}
	return "; known here: " + strings.Join(all, ", ")
}

// from reads what a ward comes from, or what of it a set block changes.
func (d *decoder) from(f *From, where string) keys {
	return keys{
		"repo":    d.name(&f.Repo, where+".repo"),
		"ref":     d.text(&f.Ref, where+".ref"),
		"path":    d.path(&f.Path, where+".path"),
		"include": d.globs(&f.Include, where+".include"),
		"exclude": d.globs(&f.Exclude, where+".exclude"),
		"release": d.name(&f.Release, where+".release"),
		"chart": func(n *yaml.Node) {
			d.mapping(n, where+".chart", keys{
				"repo":    d.name(&f.Chart.Repo, where+".chart.repo"),
				"name":    d.text(&f.Chart.Name, where+".chart.name"),
				"version": d.text(&f.Chart.Version, where+".chart.version"),
			})
		},
		"values": func(n *yaml.Node) {
			if n.Kind != yaml.MappingNode {
				d.fail(n, "%s.values must be a mapping", where)
				return
			}
			text, err := yaml.Marshal(n)
			if err != nil {
				d.fail(n, "%s.values: %v", where, err)
				return
			}
			v, err := object.DecodeYAML(d.file, object.Document{Line: n.Line + d.offset, Text: text})
			if err != nil {
				d.fail(n, "%s.values: %v", where, err)
				return
			}
			f.Values, _ = v.(map[string]any)
			f.Places = map[string]int{}
			d.places(n, "", f.Places)
		},
		"values_in": d.files(&f.ValuesIn, where+".values_in"),
		"versions":  d.files(&f.Versions, where+".versions"),
	}
}

// files reads a list of files of this or another repository.
func (d *decoder) files(into *[]ValuesFile, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		d.list(n, where, func(n *yaml.Node) {
			var v ValuesFile
			if n.Kind == yaml.ScalarNode {
				d.path(&v.Path, where)(n)
			} else {
				d.mapping(n, where, keys{"repo": d.name(&v.Repo, where+".repo"), "ref": d.text(&v.Ref, where+".ref"), "path": d.path(&v.Path, where+".path")})
			}
			if v.Path == "" {
				d.fail(n, "each entry of %s needs the path of a file", where)
			}
			*into = append(*into, v)
		})
	}
}

// places notes at which lines values are written.
func (d *decoder) places(n *yaml.Node, below string, into map[string]int) {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		at := below + n.Content[i].Value
		into[at] = n.Content[i].Line + d.offset
		d.places(n.Content[i+1], at+".", into)
	}
}

// settle completes what a ward comes from, and checks that it fits together.
func (d *decoder) settle(n *yaml.Node, w *Ward) {
	f := &w.From
	if f.Repo == "" && f.Chart.Name != "" && f.Path == "" && f.Chart.Repo != "" { // a chart alone needs no other repository
		if f.Repo = d.home.Repo; f.Repo == "" {
			f.Repo = f.Chart.Repo
		}
	}
	if f.Repo == "" {
		f.Repo = d.home.Repo
	}
	if f.Ref == "" {
		if f.Ref = "main"; f.Repo == d.home.Repo && d.home.Ref != "" {
			f.Ref = d.home.Ref
		}
	}
	switch {
	case f.Repo == "":
		d.fail(n, "from.repo is missing: name a known repository (vigila repo list)")
	case f.Chart != (Chart{}) && (f.Chart.Repo == "" || f.Chart.Name == "" || f.Chart.Version == ""):
		d.fail(n, "from.chart needs repo: a known chart repository, name: and version:, such as \"1.4.2\" or \">=1.4 <2\"; a chart in a directory of the repository is found by from.path alone")
	case f.Chart.Name != "" && f.Path != "":
		d.fail(n, "from has both chart and path; keep one of them")
	case f.Chart.Name != "" && len(f.Include)+len(f.Exclude) > 0:
		d.fail(n, "from.include and from.exclude choose plain files; a chart has none")
	}
}

func (d *decoder) path(into *string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		d.text(into, where)(n)
		if slices.Contains(strings.Split(*into, "/"), "..") {
			d.fail(n, "%s %q leaves the repository; write a path below its root", where, *into)
		}
		*into = strings.Trim(path.Clean("/"+*into), "/")
	}
}

func (d *decoder) globs(into *[]string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		d.list(n, where, func(n *yaml.Node) {
			var s string
			d.text(&s, where)(n)
			if err := glob.Check(s); err != nil {
				d.fail(n, "%s: %v", where, err)
			}
			*into = append(*into, s)
		})
	}
}

func (d *decoder) set(n *yaml.Node) Set {
	s := Set{Line: n.Line + d.offset}
	d.mapping(n, "set", keys{
		"where": func(n *yaml.Node) {
			d.mapping(n, "set.where", keys{"cluster": d.name(&s.Cluster, "set.where.cluster"), "labels": d.texts(&s.Labels, "set.where.labels")})
		},
		"from": func(n *yaml.Node) {
			all := d.from(&s.From, "set.from")
			for _, k := range []string{"repo", "include", "exclude", "release"} {
				delete(all, k)
			}
			path := all["path"]
			all["path"] = func(n *yaml.Node) { s.HasPath = true; path(n) }
			d.mapping(n, "set.from", all)
		},
		"into": func(n *yaml.Node) {
			d.mapping(n, "set.into", keys{"namespace": d.name(&s.Namespace, "set.into.namespace")})
		},
		"keep": func(n *yaml.Node) {
			d.mapping(n, "set.keep", keys{"sync": choice(d, &s.Sync, "set.keep.sync", Auto, Ask)})
		},
	})
	if (s.Cluster == "") == (len(s.Labels) == 0) {
		d.fail(n, "each entry of set needs where: {cluster: NAME} or where: {labels: {LABEL: VALUE}}")
	}
	if s.From.Chart.Repo != "" || s.From.Chart.Name != "" {
		d.fail(n, "set.from.chart changes the version alone")
	}
	return s
}

func (d *decoder) spread(n *yaml.Node, s *Spread) {
	d.mapping(n, "spread", keys{"one_at_a_time": func(n *yaml.Node) {
		if n.Kind == yaml.SequenceNode {
			s.InTurn = true
			d.list(n, "spread.one_at_a_time", func(n *yaml.Node) {
				var c string
				d.name(&c, "spread.one_at_a_time")(n)
				s.Order = append(s.Order, c)
			})
			return
		}
		d.boolean(&s.InTurn, "spread.one_at_a_time")(n)
	}})
}

// Before lists, of some clusters, those that a new revision reaches before this one.
func (s Spread) Before(cluster string, all []string) []string {
	if !s.InTurn {
		return nil
	}
	place := func(c string) int {
		if i := slices.Index(s.Order, c); i >= 0 {
			return i
		}
		return len(s.Order)
	}
	var out []string
	for _, c := range all {
		if a, b := place(c), place(cluster); a < b || a == b && c < cluster {
			out = append(out, c)
		}
	}
	return out
}

// For is the ward as it is in one cluster: with its set blocks, in order, each over the one before.
func (w Ward) For(cluster string, labels map[string]string) Ward {
	for _, s := range w.Set {
		if s.Cluster != "" && s.Cluster != cluster || !Matches(s.Labels, labels) {
			continue
		}
		if s.HasPath {
			w.From.Path = s.From.Path
		}
		if s.From.Ref != "" {
			w.From.Ref = s.From.Ref
		}
		if s.From.Chart.Version != "" {
			w.From.Chart.Version = s.From.Chart.Version
		}
		if s.Namespace != "" {
			w.Into.Namespace = s.Namespace
		}
		if s.Sync != "" {
			w.Keep.Sync = s.Sync
		}
		w.From.Values = Merge(w.From.Values, s.From.Values)
		if len(s.From.Places) > 0 {
			w.From.Places = maps.Clone(w.From.Places)
			if w.From.Places == nil {
				w.From.Places = map[string]int{}
			}
			maps.Copy(w.From.Places, s.From.Places)
		}
		w.From.ValuesIn = append(slices.Clone(w.From.ValuesIn), s.From.ValuesIn...)
		w.From.Versions = append(slices.Clone(w.From.Versions), s.From.Versions...)
	}
	return w
}

// Matches tells whether labels have everything that is wanted.
func Matches(want, have map[string]string) bool {
	for k, v := range want {
		if have[k] != v {
			return false
		}
	}
	return true
}

// Reads lists the repositories that a ward reads beside the one that it comes from.
func (w Ward) Reads() []string {
	var out []string
	add := func(name string) {
		if name != "" && name != w.From.Repo && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	add(w.From.Chart.Repo)
	for _, v := range slices.Concat(w.From.ValuesIn, w.From.Versions) {
		add(v.Repo)
	}
	return out
}

// Merge lays values over others: mappings are merged key by key, anything else is replaced. A null stays: it takes away what
// lies under it in the end. Neither is changed.
func Merge(under, over map[string]any) map[string]any {
	if len(over) == 0 {
		return under
	}
	out := make(map[string]any, len(under)+len(over))
	for k, v := range under {
		out[k] = v
	}
	for k, v := range over {
		a, here := out[k].(map[string]any)
		b, there := v.(map[string]any)
		switch {
		case here && there:
			out[k] = Merge(a, b)
		default:
			out[k] = v
		}
	}
	return out
}
