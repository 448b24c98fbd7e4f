package ward

import (
	_ "embed" // the published schemas
	"errors"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/object"
)

// What a roster may hold beside wards: the values of the key "vigila".
const (
	ClusterVersion = "cluster/v1"
	RepoVersion    = "repo/v1"
	RosterVersion  = "roster/v1"
)

// The published JSON Schemas (draft 2020-12) of the files beside wards.
var (
	//go:embed cluster.schema.json
	ClusterSchema []byte
	//go:embed repo.schema.json
	RepoSchema []byte
	//go:embed roster.schema.json
	RosterSchema []byte
)

// Cluster is what is declared of a known cluster. How it is reached is never declared.
type Cluster struct {
	Name   string
	About  string
	Labels map[string]string
	Links  map[string]string
	Line   int
}

// Repo is a declared repository, without anything secret.
type Repo struct {
	Name, URL, About, User string
	Charts                 bool
	Follow                 []string // submodules, large-files
	Signers                []string // who may sign commits
	Line                   int
}

// Roster is a declared roster: a path that holds ward files.
type Roster struct {
	Name       string
	From       From // Repo, Ref and Path
	Namespaces []string
	Clusters   []string
	As         string
	Repos      []string // that its wards may read beside the roster's own
	Line       int
}

// Declared is what one file of a roster declares.
type Declared struct {
	Wards    []Ward
	Texts    []string // of Wards, as written
	Faulty   []Ward   // what could be read of wards with mistakes
	Clusters []Cluster
	Repos    []Repo
	Rosters  []Roster
}

// IsRoster tells whether a file belongs to a roster, by its first key.
func IsRoster(data []byte) bool {
	for _, kind := range []string{"ward/", "cluster/", "repo/", "roster/"} {
		if object.FirstKey(data, "vigila", kind) {
			return true
		}
	}
	return false
}

// ParseDeclared reads a file of a roster; home is the repository that it lives in. All mistakes are reported at once,
// each as an *Error, joined.
func ParseDeclared(home From, file string, data []byte) (Declared, error) {
	var out Declared
	var errs []error
	for _, doc := range object.Split(data) {
		if object.FirstKey(doc.Text, "vigila", "ward/") {
			wards, err := parse(home, file, append(blank(doc.Line-1), doc.Text...))
			if err != nil {
				errs, out.Faulty = append(errs, err), append(out.Faulty, wards...)
				continue
			}
			for _, w := range wards {
				out.Wards, out.Texts = append(out.Wards, w), append(out.Texts, string(doc.Text))
			}
			continue
		}
		if err := object.Bounded(file, doc); err != nil {
			errs = append(errs, err)
			continue
		}
		var root yaml.Node
		if err := yaml.Unmarshal(doc.Text, &root); err != nil {
			_, err := object.DecodeYAML(file, doc)
			errs = append(errs, err)
			continue
		}
		d := &decoder{file: file, offset: doc.Line - 1, home: home}
		d.declared(root.Content[0], &out)
		errs = append(errs, d.errs...)
	}
	return out, errors.Join(errs...)
}

// blank is so many empty lines.
func blank(n int) []byte {
	out := make([]byte, n)
	for i := range out {
		out[i] = '\n'
	}
	return out
}

func (d *decoder) declared(n *yaml.Node, out *Declared) {
	version := ""
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == "vigila" {
			version = n.Content[i+1].Value
		}
	}
	line := n.Line + d.offset
	kind := d.text(new(string), "vigila")
	switch version {
	case ClusterVersion:
		c := Cluster{Line: line}
		d.mapping(n, "", keys{"vigila": kind, "name": d.name(&c.Name, "name"), "about": d.text(&c.About, "about"),
			"labels": d.texts(&c.Labels, "labels"), "links": d.links(&c.Links, "links")})
		d.need(n, "cluster", "name", c.Name)
		out.Clusters = append(out.Clusters, c)
	case RepoVersion:
		r := Repo{Line: line}
		d.mapping(n, "", keys{"vigila": kind, "name": d.name(&r.Name, "name"), "about": d.text(&r.About, "about"), "url": d.text(&r.URL, "url"),
			"user": d.text(&r.User, "user"), "charts": d.boolean(&r.Charts, "charts"),
			"follow": func(n *yaml.Node) {
				d.list(n, "follow", func(n *yaml.Node) {
					var s string
					choice(d, &s, "follow", "submodules", "large-files")(n)
					r.Follow = append(r.Follow, s)
				})
			},
			"signers": func(n *yaml.Node) {
				d.list(n, "signers", func(n *yaml.Node) { r.Signers = append(r.Signers, n.Value) })
			},
		})
		d.need(n, "repository", "name", r.Name)
		d.need(n, "repository", "url", r.URL)
		out.Repos = append(out.Repos, r)
	case RosterVersion:
		r := Roster{Line: line}
		d.mapping(n, "", keys{"vigila": kind, "name": d.name(&r.Name, "name"), "about": d.text(new(string), "about"),
			"from": func(n *yaml.Node) {
				d.mapping(n, "from", keys{"repo": d.name(&r.From.Repo, "from.repo"), "ref": d.text(&r.From.Ref, "from.ref"), "path": d.path(&r.From.Path, "from.path")})
			},
			"limits": func(n *yaml.Node) {
				names := func(into *[]string, where string) func(*yaml.Node) {
					return func(n *yaml.Node) {
						d.list(n, where, func(n *yaml.Node) {
							var s string
							d.name(&s, where)(n)
							*into = append(*into, s)
						})
					}
				}
				d.mapping(n, "limits", keys{"namespaces": names(&r.Namespaces, "limits.namespaces"), "clusters": names(&r.Clusters, "limits.clusters"), "as": d.name(&r.As, "limits.as"), "repos": names(&r.Repos, "limits.repos")})
			},
		})
		d.need(n, "roster", "name", r.Name)
		if r.From.Repo == "" {
			r.From.Repo = d.home.Repo
		}
		if r.From.Ref == "" {
			if r.From.Ref = "main"; r.From.Repo == d.home.Repo && d.home.Ref != "" {
				r.From.Ref = d.home.Ref
			}
		}
		if r.From.Repo == "" {
			d.fail(n, "from.repo is missing: name a known repository (vigila repo list)")
		}
		out.Rosters = append(out.Rosters, r)
	default:
		d.fail(n, "the first key must be vigila: %s, %s, %s or %s, not %q", Version, ClusterVersion, RepoVersion, RosterVersion, version)
	}
}

func (d *decoder) need(n *yaml.Node, what, key, value string) {
	if value == "" {
		d.fail(n, "the %s has no %s", what, key)
	}
}
