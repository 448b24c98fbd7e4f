// Package follow finds the newest version of an image that a follow takes, and says why others are not taken. It is pure: tags and what
// a registry tells of them come in, a choice goes out. Start with Rule and Choose.
package follow

import (
	_ "embed" // the published schema
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"
	"github.com/google/go-containerregistry/pkg/name"
	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/object"
)

// Format is the value of the key "vigila" in a follow file.
const Format = "follow/v1"

// Schema is the published JSON Schema (draft 2020-12) of a follow file.
//
//go:embed follow.schema.json
var Schema []byte

// Order is how versions that match an expression are ordered.
type Order string

// The orders. Versions of a range are ordered as versions.
const (
	ByNumber Order = "number" // of the expression's first group
	ByTime   Order = "time"   // since when they are there
	ByText   Order = "text"
)

// By is how a version is written.
type By string

// The ways.
const (
	ByCommit   By = "commit"   // to the branch itself
	ByProposal By = "proposal" // to a branch of its own, for somebody to review
)

// Chart is a packaged chart in a known chart repository.
type Chart struct{ Repo, Name string }

// Rule is a follow: an image or a chart, which of its versions are taken, and where the newest is written.
type Rule struct {
	Name, About string
	Image       string         // its repository, without tag and digest; "" for a chart
	Chart       Chart          // nothing for an image
	Range       string         // of versions; "" when Match says which
	Match       *regexp.Regexp // nil when Range does
	Order       Order          // of what matches
	Platforms   []string       // os/arch that it must have
	AtLeastOld  time.Duration
	Repo, Ref   string // the repository and its branch that
	Into        string // the versions file is in
	By          By
	Every       time.Duration
	File        string // that declares it, and
	Line        int    // where
}

// What is what is followed, in a few words.
func (r Rule) What() string {
	if r.Chart.Name != "" {
		return fmt.Sprintf("chart %s of %s", r.Chart.Name, r.Chart.Repo)
	}
	return r.Image
}

// Host is the registry that is asked; "" for a chart.
func (r Rule) Host() string {
	at, err := name.NewRepository(r.Image, name.WeakValidation)
	if err != nil {
		return ""
	}
	return at.RegistryStr()
}

// Path is the image's name within its registry.
func (r Rule) Path() string {
	at, err := name.NewRepository(r.Image, name.WeakValidation)
	if err != nil {
		return ""
	}
	return at.RepositoryStr()
}

// Wants is which versions are taken, in a few words.
func (r Rule) Wants() string {
	if r.Match != nil {
		return r.Match.String() + " by " + string(r.Order)
	}
	return r.Range
}

// Is tells whether a file holds follows, by its first key.
func Is(data []byte) bool { return object.FirstKey(data, "vigila", "follow/") }

// The bounds of a follow.
const (
	leastEvery = 10 * time.Second
	every      = 5 * time.Minute
)

// Parse reads every follow of a file; home is the repository that the file lives in, and ref the branch of it. All mistakes are
// reported at once, each an *object.SyntaxError, joined.
func Parse(home, ref, file string, data []byte) ([]Rule, error) {
	var out []Rule
	err := document.Each(file, data, func(d *document.Reader, root *yaml.Node) {
		r := (&reader{d}).rule(root, home, ref)
		if r.File = file; d.Good() {
			out = append(out, r)
		}
	})
	return out, err
}

type reader struct{ *document.Reader }

func (d *reader) span(into *time.Duration, where string, least time.Duration) func(*yaml.Node) {
	return func(n *yaml.Node) {
		v, err := time.ParseDuration(n.Value)
		if err != nil || v < least {
			d.Fail(d.Line(n), "%s is %q; write a time such as 5m or 2h, at least %s", where, n.Value, least)
			return
		}
		*into = v
	}
}

var platformForm = regexp.MustCompile(`^[a-z0-9]+/[a-z0-9]+(/[a-z0-9.]+)?$`)

func (d *reader) rule(n *yaml.Node, home, ref string) Rule {
	r := Rule{Repo: home, Every: every, Line: d.Line(n)}
	format, by := "", "commit"
	d.Keys(n, "a follow", map[string]func(*yaml.Node){
		"vigila": d.Text(&format, "vigila"), "name": d.Text(&r.Name, "name"), "about": d.Text(&r.About, "about"), "image": d.Text(&r.Image, "image"),
		"chart": func(n *yaml.Node) {
			d.Keys(n, "chart", map[string]func(*yaml.Node){"repo": d.Text(&r.Chart.Repo, "chart.repo"), "name": d.Text(&r.Chart.Name, "chart.name")})
		},
		"versions": func(n *yaml.Node) { d.versions(n, &r) },
		"platforms": func(n *yaml.Node) {
			for _, p := range n.Content {
				if r.Platforms = append(r.Platforms, p.Value); !platformForm.MatchString(p.Value) {
					d.Fail(d.Line(p), "platforms: %q is none; write os/architecture, such as linux/amd64", p.Value)
				}
			}
			if n.Kind != yaml.SequenceNode {
				d.Fail(d.Line(n), "platforms must be a list, such as [linux/amd64]")
			}
		},
		"at_least_old": d.span(&r.AtLeastOld, "at_least_old", time.Second),
		"every":        d.span(&r.Every, "every", leastEvery),
		"by":           d.Text(&by, "by"),
		"into": func(n *yaml.Node) {
			d.Keys(n, "into", map[string]func(*yaml.Node){"repo": d.Text(&r.Repo, "into.repo"), "ref": d.Text(&r.Ref, "into.ref"), "file": d.Text(&r.Into, "into.file")})
		},
	})
	if n.Kind != yaml.MappingNode {
		return r
	}
	if r.Ref == "" {
		if r.Ref = "main"; r.Repo == home && ref != "" {
			r.Ref = ref
		}
	}
	r.By = By(by)
	at, err := name.NewRepository(r.Image, name.WeakValidation)
	clean := strings.Trim(path.Clean("/"+r.Into), "/")
	for _, x := range []struct {
		is   bool
		key  string
		text string
	}{
		{format != Format, "vigila", fmt.Sprintf("the first key must be vigila: %s, not %q", Format, format)},
		{!document.Name(r.Name), "name", fmt.Sprintf("name is %q; write small letters, digits and dashes, at most 63", r.Name)},
		{r.Image != "" && r.Chart != Chart{}, "chart", "there is an image and a chart; a follow is of one of them"},
		{r.Image == "" && r.Chart != Chart{} && (r.Chart.Repo == "" || r.Chart.Name == ""), "chart", "chart needs a repo, a known chart repository, and the name of a chart in it"},
		{r.Chart != Chart{} && len(r.Platforms) > 0, "platforms", "a chart has no platforms"},
		{r.Chart == Chart{} && (r.Image == "" || err != nil || at.Name() == ""), "image", fmt.Sprintf("image is %q, which is no name of an image's repository; write it without tag and digest, such as registry.brindle.example/fare-gate", r.Image)},
		{r.Range == "" && r.Match == nil && d.Good(), "versions", "versions is missing: which are taken, such as \">=2.8 <3\", or {match: \"^main-(\\\\d+)$\", order: number}"},
		{r.Into == "", "into", "into.file is missing: the versions file that the newest is written to"},
		{r.Into != "" && (clean != r.Into || strings.HasPrefix(clean, ".git/")), "into", fmt.Sprintf("into.file is %q, which is no path below the root of a repository", r.Into)},
		{r.Repo == "", "into", "into.repo is missing: a known repository (vigila repo list)"},
		{r.By != ByCommit && r.By != ByProposal, "by", fmt.Sprintf("by is %q; write commit, or proposal", by)},
	} {
		if x.is {
			d.Fail(d.Line(valueOf(n, x.key)), "%s", x.text)
		}
	}
	return r
}

// valueOf is what a mapping has under a key; the mapping where it has nothing.
func valueOf(n *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return n
}

func (d *reader) versions(n *yaml.Node, r *Rule) {
	if n.Kind == yaml.ScalarNode {
		r.Range = n.Value
		if _, err := semver.NewConstraint(n.Value); err != nil || strings.TrimSpace(n.Value) == "" {
			d.Fail(d.Line(n), "versions: %q is no range of versions; write such as \">=2.8 <3\"", n.Value)
		}
		return
	}
	match, order := "", ""
	d.Keys(n, "versions", map[string]func(*yaml.Node){"match": d.Text(&match, "versions.match"), "order": d.Text(&order, "versions.order")})
	var err error
	switch r.Match, err = regexp.Compile(match); {
	case n.Kind != yaml.MappingNode:
	case match == "" || err != nil:
		d.Fail(d.Line(n), "versions.match is %q; write a regular expression, such as ^main-(\\d+)$", match)
	case !slices.Contains([]Order{ByNumber, ByTime, ByText}, Order(order)):
		d.Fail(d.Line(n), "versions.order is %q; write number (of the first group), time (since when they are there) or text", order)
	case Order(order) == ByNumber && r.Match.NumSubexp() == 0:
		d.Fail(d.Line(n), "versions.match has no group that is the number; write such as ^main-(\\d+)$")
	}
	r.Order = Order(order)
}
