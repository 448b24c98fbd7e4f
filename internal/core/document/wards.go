package document

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Wards are some wards, as files name them: those that all that is given holds for.
type Wards struct {
	Names    []string `json:"names,omitempty"` // with or without their cluster
	Owners   []string `json:"owners,omitempty"`
	Clusters []string `json:"clusters,omitempty"`
	Rosters  []string `json:"rosters,omitempty"`
}

// Any tells whether something is given.
func (w Wards) Any() bool { return len(w.Names)+len(w.Owners)+len(w.Clusters)+len(w.Rosters) > 0 }

// Hold tells whether a ward is among them, by its name without the cluster and where it belongs; where nothing is given, every one is.
func (w *Wards) Hold(name, owner, cluster, roster string) bool {
	return Among(w.Owners, owner) && Among(w.Clusters, cluster) && Among(w.Rosters, roster) && (Among(w.Names, name) || slices.Contains(w.Names, name+"@"+cluster))
}

// Among tells whether something is among those that are given; where none is, it does not matter. Nothing is among none.
func Among(all []string, one string) bool {
	return len(all) == 0 || one != "" && slices.Contains(all, one)
}

// String says which they are, in words.
func (w Wards) String() string {
	var out []string
	for _, x := range []struct {
		what string
		of   []string
	}{{"wards", w.Names}, {"wards of", w.Owners}, {"in", w.Clusters}, {"of roster", w.Rosters}} {
		if len(x.of) > 0 {
			out = append(out, x.what+" "+strings.Join(x.of, ", "))
		}
	}
	if len(out) == 0 {
		return "everything"
	}
	return strings.Join(out, ", ")
}

// Wards reads which wards something is about.
func (d *Reader) Wards(into *Wards, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		d.Keys(n, where, map[string]func(*yaml.Node){"owner": d.Some(&into.Owners, where+".owner"), "cluster": d.Some(&into.Clusters, where+".cluster"),
			"roster": d.Some(&into.Rosters, where+".roster"), "names": d.Some(&into.Names, where+".names")})
	}
}

// Some reads a text, or a list of them.
func (d *Reader) Some(into *[]string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind == yaml.ScalarNode && n.Value != "" {
			*into = append(*into, n.Value)
			return
		}
		d.Texts(into, where)(n)
	}
}
