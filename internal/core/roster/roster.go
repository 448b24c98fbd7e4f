// Package roster says what the files of a roster mean for what is kept already: what they declare, what of it the roster may not,
// which wards have left it, what a person has to say first, and what it says of itself.
package roster

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// Limits are what the wards of a roster may do at most.
type Limits struct {
	Namespaces []string `json:"namespaces,omitempty"` // all when empty
	Clusters   []string `json:"clusters,omitempty"`   // all when empty
	As         string   `json:"as,omitempty"`         // the service account that their runs act as
	Repos      []string `json:"repos,omitempty"`      // what they may read beside the roster's own repository
}

// Any tells whether there is any limit. Then only Repos, and the roster's own repository, may be read.
func (l Limits) Any() bool {
	return len(l.Namespaces)+len(l.Clusters)+len(l.Repos) > 0 || l.As != ""
}

// Roster is a repository path that holds ward files.
type Roster struct {
	Name, Repo, Ref, Path string
	Parent                string // the roster that declares it
	Limits                Limits
	Rules                 []declared.File // health and checks files
	Teams                 bool            // its files may say which teams there are
}

// Of is the roster that a declaration in a file of parent means.
func Of(parent Roster, d ward.Roster) Roster {
	return Roster{Name: d.Name, Repo: d.From.Repo, Ref: d.From.Ref, Path: d.From.Path, Parent: parent.Name,
		Limits: Limits{Namespaces: d.Namespaces, Clusters: d.Clusters, As: d.As, Repos: d.Repos}}
}

// Home is where ward files that name no repository come from.
func (r Roster) Home() ward.From { return ward.From{Repo: r.Repo, Ref: r.Ref} }

// MayRead tells why the wards of a roster may not read a repository; nil when they may.
func (r Roster) MayRead(repo string) error {
	if !r.Limits.Any() || repo == r.Repo || slices.Contains(r.Limits.Repos, repo) {
		return nil
	}
	return fmt.Errorf("roster %s lets its wards read %s, not %s (limits.repos)", r.Name, strings.Join(append([]string{r.Repo}, r.Limits.Repos...), ", "), repo)
}

// Kept is a registered ward.
type Kept struct {
	Name   string
	Roster string // that declares it; "" when a person registered it
	Source string // its file there
}

// Known is what there is to keep wards of, and in.
type Known struct {
	Repos    []string                     // names
	Clusters map[string]map[string]string // labels, by name
	Wards    map[string]Kept              // by name
}

// Matching lists the clusters that a ward goes into, by name.
func (n Known) Matching(w ward.Ward) []string {
	var out []string
	for name, labels := range n.Clusters {
		if w.Into.Cluster == name || w.Into.Cluster == "" && ward.Matches(w.Into.Clusters, labels) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// Missing says what a ward that a person adds needs and nobody knows: repositories and clusters.
func (n Known) Missing(w ward.Ward) []string {
	out := n.lacks(w)
	if w.Into.Cluster == "" && len(n.Matching(w)) == 0 {
		out = append(out, fmt.Sprintf("no cluster has the labels that ward %s asks for; %s", w.Name, n.clusters("")))
	}
	return out
}

// lacks is what a ward needs by name. Where a roster declares it, a cluster that has the labels may still come.
func (n Known) lacks(w ward.Ward) []string {
	var out []string
	if !slices.Contains(n.Repos, w.From.Repo) {
		out = append(out, fmt.Sprintf("ward %s comes from repository %q, which is not known; %s", w.Name, w.From.Repo, n.repos(w.From.Repo)))
	}
	for _, other := range w.Reads() {
		if !slices.Contains(n.Repos, other) {
			out = append(out, fmt.Sprintf("ward %s needs repository %q, which is not known; %s", w.Name, other, n.repos(other)))
		}
	}
	if w.Into.Cluster != "" && len(n.Matching(w)) == 0 {
		out = append(out, fmt.Sprintf("ward %s goes into cluster %q, which is not known; %s", w.Name, w.Into.Cluster, n.clusters(w.Into.Cluster)))
	}
	return out
}

func (n Known) repos(meant string) string {
	if len(n.Repos) == 0 {
		return "there are none yet; add one with vigila repo add NAME URL"
	}
	return nearest.Words(meant, n.Repos)
}

func (n Known) clusters(meant string) string {
	if len(n.Clusters) == 0 {
		return "there are none yet; add one with vigila cluster add NAME --kubeconfig FILE"
	}
	return nearest.Words(meant, slices.Collect(maps.Keys(n.Clusters)))
}

// Refusal is why a roster can't take a ward.
type Refusal struct {
	Text string
	// Limit: the ward was read well, and is more than the roster lets it do.
	Limit bool
}

// beyond stands before what a roster's limits say.
const beyond = "it is more than its roster may: "

// Refuses says why a roster can't take a ward; nil when it can. cycle are wards that wait for each other.
func (n Known) Refuses(r Roster, w ward.Ward, cycle []string) *Refusal {
	no := func(format string, args ...any) *Refusal { return &Refusal{Text: fmt.Sprintf(format, args...)} }
	over := func(format string, args ...any) *Refusal {
		return &Refusal{Text: beyond + fmt.Sprintf(format, args...), Limit: true}
	}
	have, is := n.Wards[w.Name]
	switch {
	case is && have.Roster != "" && have.Roster != r.Name:
		return no("there is a ward %s already, declared by roster %s in %s", w.Name, have.Roster, have.Source)
	case is && have.Roster == "" && r.Limits.Any():
		return no("there is a ward %s already, registered by a person, and roster %s has limits", w.Name, r.Name)
	case slices.Contains(cycle, w.Name):
		return no("%s", Cycled(cycle))
	}
	for _, name := range append([]string{w.From.Repo}, w.Reads()...) {
		if err := r.MayRead(name); err != nil {
			return over("%v", err)
		}
	}
	if lacks := n.lacks(w); len(lacks) > 0 {
		return no("%s", lacks[0])
	}
	for _, c := range n.Matching(w) {
		if err := r.MayGo(w.For(c, n.Clusters[c]), c); err != nil {
			return over("%v", err)
		}
	}
	return nil
}

// MayGo tells why a ward of a roster may not go into a cluster, as it is there; nil when it may.
func (r Roster) MayGo(w ward.Ward, cluster string) error {
	if ns := r.Limits.Namespaces; len(ns) > 0 && !slices.Contains(ns, w.Into.Namespace) {
		return fmt.Errorf("roster %s lets its wards keep the namespaces %s, not %q", r.Name, strings.Join(ns, ", "), w.Into.Namespace)
	}
	if cs := r.Limits.Clusters; len(cs) > 0 && !slices.Contains(cs, cluster) {
		return fmt.Errorf("roster %s lets its wards go into the clusters %s, not %s", r.Name, strings.Join(cs, ", "), cluster)
	}
	return nil
}

// Within tells which of a ward's objects, as they would be applied, lie outside what its roster lets it keep.
func (r Roster) Within(objects []object.Object) error {
	return Outside(r.Limits.Namespaces, fmt.Sprintf("the namespaces that roster %s lets its wards keep", r.Name), objects)
}

// Outside tells which objects, as they would be applied, lie outside some namespaces; none where none is named. what says whose these are.
func Outside(ns []string, what string, objects []object.Object) error {
	if len(ns) == 0 {
		return nil
	}
	var errs []error
	for _, o := range objects {
		own := o.Ref.Namespace == "" && o.Ref.Group == "" && o.Ref.Kind == "Namespace" && slices.Contains(ns, o.Ref.Name)
		if !own && (o.Ref.Namespace == "" || !slices.Contains(ns, o.Ref.Namespace)) {
			errs = append(errs, &object.SyntaxError{File: o.File, Line: o.Line, Text: fmt.Sprintf("%s is outside %s: %s", o.Ref, what, strings.Join(ns, ", "))})
		}
	}
	return errors.Join(errs...)
}

// Cycled says that wards wait for each other.
func Cycled(cycle []string) string {
	return "these wards wait for each other in after, so none could start: " + strings.Join(cycle, " → ")
}

// Cycle finds wards that wait for each other: the first is named again at the end. after is what each ward waits for; only
// cycles that one of these is on, or leads to, are found.
func Cycle(after map[string][]string, from []string) []string {
	done := map[string]bool{}
	var visit func(name string, path []string) []string
	visit = func(name string, path []string) []string {
		if i := slices.Index(path, name); i >= 0 {
			return append(slices.Clone(path[i:]), name)
		}
		if done[name] {
			return nil
		}
		for _, next := range after[name] {
			if c := visit(next, append(path, name)); len(c) > 0 {
				return c
			}
		}
		done[name] = true
		return nil
	}
	for _, name := range from {
		if c := visit(name, nil); len(c) > 0 {
			return c
		}
	}
	return nil
}
