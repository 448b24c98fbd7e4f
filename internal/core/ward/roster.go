package ward

import (
	_ "embed" // the published schemas
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/object"
)

// What a roster may hold beside wards: the values of the key "vigila".
const (
	ClusterVersion = "cluster/v1"
	RepoVersion    = "repo/v1"
	RosterVersion  = "roster/v1"
	StoreVersion   = "store/v1"
)

// The published JSON Schemas (draft 2020-12) of the files beside wards.
var (
	//go:embed cluster.schema.json
	ClusterSchema []byte
	//go:embed repo.schema.json
	RepoSchema []byte
	//go:embed roster.schema.json
	RosterSchema []byte
	//go:embed store.schema.json
	StoreSchema []byte
)

// Cluster is what is declared of a known cluster. How it is reached is never declared.
type Cluster struct {
	Name       string
	About      string
	Labels     map[string]string
	Links      map[string]string
	Namespaces []string // that objects may be kept in; all when empty
	Line       int
}

// Repo is a declared repository, without anything secret.
type Repo struct {
	Name, URL, About, User string
	Charts                 bool
	Follow                 []string // submodules, large-files
	Signers                []string // who may sign commits
	Line                   int
}

// Store is a declared store of secret values, without anything secret. It is in one place: a server at URL, a namespace, or files.
type Store struct {
	Name, About string
	Every       time.Duration // how often it is looked at; 0 when it is not said

	URL, Mount, CA, Space string // a server: where its values are mounted, whom it is signed by, its own namespace
	SignIn, At, Role      string // how it is signed in to (token, role, kubernetes), where that is mounted, and as which role

	Lookout            string // the cluster whose lookout asks a server that it has been told of
	Cluster, Namespace string // the Secrets of a namespace
	Repo, Dir, Ref     string // encrypted files of a repository

	Wards, Owners, Clusters, Rosters []string // that may use it; everybody when there are none
	Line                             int
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
	Stores   []Store
}

// IsRoster tells whether a file belongs to a roster, by its first key.
func IsRoster(data []byte) bool {
	for _, kind := range []string{"ward/", "cluster/", "repo/", "roster/", "store/"} {
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
	docs, err := object.Own(file, data, object.MostEntries)
	if err != nil {
		return out, err
	}
	var errs []error
	for _, doc := range docs {
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
		root, err := object.Tree(file, doc)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		d := &decoder{file: file, offset: doc.Line - 1, home: home}
		d.declared(root, &out)
		errs = append(errs, d.errs...)
	}
	return out, object.Mistakes(errs...)
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
			"labels": d.texts(&c.Labels, "labels"), "links": d.links(&c.Links, "links"),
			"namespaces": func(n *yaml.Node) {
				d.list(n, "namespaces", func(n *yaml.Node) {
					var s string
					d.name(&s, "namespaces")(n)
					c.Namespaces = append(c.Namespaces, s)
				})
				if len(c.Namespaces) == 0 {
					d.fail(n, "namespaces is empty: name those that objects may be kept in, or leave it out for all")
				}
			}})
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
	case StoreVersion:
		out.Stores = append(out.Stores, d.store(n, kind))
	default:
		d.fail(n, "the first key must be vigila: %s, %s, %s, %s or %s, not %q", Version, ClusterVersion, RepoVersion, RosterVersion, StoreVersion, version)
	}
}

// store reads a declared store.
func (d *decoder) store(n *yaml.Node, kind func(*yaml.Node)) Store {
	s := Store{Line: n.Line + d.offset}
	pair := func(a, b *string, where, form string) func(*yaml.Node) {
		return func(n *yaml.Node) {
			text := ""
			d.text(&text, where)(n)
			*a, *b, _ = strings.Cut(text, "/")
			if *a == "" || where == "namespace" && (*b == "" || strings.Contains(*b, "/")) {
				d.fail(n, "%s is %q; write %s", where, text, form)
			}
		}
	}
	names := func(into *[]string, where string) func(*yaml.Node) {
		return func(n *yaml.Node) {
			d.list(n, where, func(n *yaml.Node) {
				name := ""
				d.name(&name, where)(n)
				*into = append(*into, name)
			})
		}
	}
	d.mapping(n, "", keys{"vigila": kind, "name": d.name(&s.Name, "name"), "about": d.text(&s.About, "about"), "every": d.duration(&s.Every, "every", 10*time.Second),
		"url": d.text(&s.URL, "url"), "mount": d.text(&s.Mount, "mount"), "ca": d.text(&s.CA, "ca"), "server_namespace": d.text(&s.Space, "server_namespace"),
		"by_lookout": d.name(&s.Lookout, "by_lookout"),
		"sign_in":    choice(d, &s.SignIn, "sign_in", "token", "role", "kubernetes"), "sign_in_at": d.text(&s.At, "sign_in_at"), "role": d.text(&s.Role, "role"),
		"namespace": pair(&s.Cluster, &s.Namespace, "namespace", "CLUSTER/NAMESPACE"), "files": pair(&s.Repo, &s.Dir, "files", "REPO/DIRECTORY"), "ref": d.text(&s.Ref, "ref"),
		"for": func(n *yaml.Node) {
			d.mapping(n, "for", keys{"wards": names(&s.Wards, "for.wards"), "owners": names(&s.Owners, "for.owners"), "clusters": names(&s.Clusters, "for.clusters"), "rosters": names(&s.Rosters, "for.rosters")})
		},
	})
	d.need(n, "store", "name", s.Name)
	given := 0
	for _, at := range []string{s.URL, s.Lookout, s.Cluster, s.Repo} {
		if at != "" {
			given++
		}
	}
	switch {
	case n.Kind != yaml.MappingNode:
	case given != 1:
		d.fail(n, "say where the store is, once: url, by_lookout (CLUSTER), namespace (CLUSTER/NAMESPACE) or files (REPO/DIRECTORY)")
	case s.URL == "" && (s.Mount+s.CA+s.Space+s.SignIn+s.At+s.Role) != "":
		d.fail(n, "mount, ca, server_namespace, sign_in, sign_in_at and role belong to a server (url)")
	case s.Repo == "" && s.Ref != "":
		d.fail(n, "ref belongs to files")
	}
	return s
}

func (d *decoder) need(n *yaml.Node, what, key, value string) {
	if value == "" {
		d.fail(n, "the %s has no %s", what, key)
	}
}
