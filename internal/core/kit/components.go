package kit

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
)

// ComponentsFormat is the value of the key "vigila" in a file that switches components.
const ComponentsFormat = "components/v1"

// Components is which kits are on in a cluster, or in every cluster with some labels.
type Components struct {
	Name     string            // of the cluster, or what the environment is called
	Clusters map[string]string // labels; nil for the one cluster of that name
	All      []Component       // in the order of the file
	File     string
	Line     int
}

// Component is a kit that is on or off, with its options.
type Component struct {
	Kit  string
	On   bool
	With map[string]any
	Line int
}

// IsComponents tells whether a file switches components, by its first key.
func IsComponents(data []byte) bool { return object.FirstKey(data, "vigila", "components/") }

// ParseComponents reads every list of a file. All mistakes are reported at once, each an *object.SyntaxError, joined.
func ParseComponents(file string, data []byte) ([]Components, error) {
	var out []Components
	err := document.Each(file, data, func(d *document.Reader, root *yaml.Node) {
		c := Components{File: file, Line: d.Line(root)}
		format := ""
		d.Keys(root, "a list of components", map[string]func(*yaml.Node){
			"vigila": d.Text(&format, "vigila"), "name": d.Text(&c.Name, "name"), "clusters": d.Pairs(&c.Clusters, "clusters"),
			"components": func(n *yaml.Node) { c.All = components(d, n) },
		})
		if root.Kind != yaml.MappingNode {
			return
		}
		d.Head(c.Line, ComponentsFormat, format, c.Name)
		if c.Clusters != nil && len(c.Clusters) == 0 {
			d.Fail(c.Line, "clusters is empty: which labels the clusters have, such as {tier: rehearsal}; without it, the cluster called %s is meant", c.Name)
		}
		if d.Good() {
			out = append(out, c)
		}
	})
	return out, err
}

func components(d *document.Reader, n *yaml.Node) (out []Component) {
	if n.Kind != yaml.MappingNode {
		d.Fail(d.Line(n), "components must be a mapping, such as {metrics: {use: true}}")
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		c := Component{Kit: n.Content[i].Value, Line: d.Line(n.Content[i]), With: map[string]any{}}
		said := false
		d.Keys(n.Content[i+1], "components."+c.Kit, map[string]func(*yaml.Node){
			"use":  func(x *yaml.Node) { said = true; d.Truth(&c.On, "components."+c.Kit+".use")(x) },
			"with": d.Mapping(&c.With, "components."+c.Kit+".with"),
		})
		if n.Content[i+1].Kind == yaml.MappingNode && !said {
			d.Fail(c.Line, "components.%s: say whether it is on: {use: true}", c.Kit)
		}
		if slices.ContainsFunc(out, func(o Component) bool { return o.Kit == c.Kit }) {
			d.Fail(c.Line, "%s is given twice", c.Kit)
		}
		out = append(out, c)
	}
	return out
}

// Ward is a component's ward: its file, as text, and where it comes from.
type Ward struct {
	Name string
	Text []byte
	Line int // of its component
}

// WardName is what the ward of a component is called in a place.
func WardName(kit, place string) string { return kit + "-" + place }

// Wards are the wards of the components that are on. Errors are each an *object.SyntaxError, joined; those that are well are given beside them.
func (c Components) Wards(kits []*Kit) ([]Ward, error) {
	var out []Ward
	var errs []error
	fail := func(line int, format string, args ...any) {
		errs = append(errs, &object.SyntaxError{File: c.File, Line: line, Text: fmt.Sprintf(format, args...)})
	}
	on := map[string]bool{}
	for _, x := range c.All {
		on[x.Kit] = x.On
	}
	for _, x := range c.All {
		k := find(kits, x.Kit)
		if k == nil {
			fail(x.Line, "there is no kit %s that can be switched; %s", x.Kit, nearest.Words(x.Kit, switched(kits)))
			continue
		}
		if !x.On {
			continue
		}
		values, mistakes, err := k.Complete(x.With)
		if err != nil {
			fail(x.Line, "components.%s: %v", x.Kit, err)
			continue
		}
		for _, m := range mistakes {
			fail(x.Line, "components.%s.with%s", x.Kit, placed(m.At)+m.Text)
		}
		lacks := false
		for _, need := range k.Switch.Needs {
			if !on[need] {
				lacks = true
				fail(x.Line, "%s needs %s, which is off here: switch it on as well, or %s off", x.Kit, need, x.Kit)
			}
		}
		name := WardName(x.Kit, c.Name)
		if !document.Name(name) {
			fail(x.Line, "its ward would be called %s, which is too long for a name", name)
			continue
		}
		if len(mistakes) > 0 || lacks {
			continue
		}
		text, err := c.ward(k, name, values)
		if err != nil {
			fail(x.Line, "components.%s: %v", x.Kit, err)
			continue
		}
		out = append(out, Ward{Name: name, Text: text, Line: x.Line})
	}
	return out, object.Mistakes(errs...)
}

func placed(at []string) string {
	if len(at) == 0 {
		return ""
	}
	return "." + strings.Join(at, ".")
}

func find(kits []*Kit, name string) *Kit {
	for _, k := range kits {
		if k.Name == name && k.Switch != nil {
			return k
		}
	}
	return nil
}

func switched(kits []*Kit) (out []string) {
	for _, k := range kits {
		if k.Switch != nil {
			out = append(out, k.Name)
		}
	}
	return out
}

// Misfits are the components that are on in the one cluster of that name, where its labels are known and their kits are not for it. In an
// environment a kit that is for some clusters goes into those of them alone. Errors are each an *object.SyntaxError, by the names of their kits.
func (c Components) Misfits(kits []*Kit, labels map[string]map[string]string) map[string]error {
	out := map[string]error{}
	known, is := labels[c.Name]
	if c.Clusters != nil || !is {
		return out
	}
	for _, x := range c.All {
		if k := find(kits, x.Kit); x.On && k != nil && !k.May(known) {
			out[x.Kit] = &object.SyntaxError{File: c.File, Line: x.Line, Text: fmt.Sprintf("kit %s is for clusters with %s, and %s has not those labels", x.Kit, k.For(), c.Name)}
		}
	}
	return out
}

// ward is the ward file of a component that is on.
func (c Components) ward(k *Kit, name string, values map[string]any) ([]byte, error) {
	w := map[string]any{"vigila": "ward/v1", "name": name, "about": strings.TrimSpace(k.About)}
	maps.Copy(w, copied(k.Switch.Ward))
	if k.Owner != "" {
		w["owner"] = k.Owner
	}
	from, _ := w["from"].(map[string]any)
	if len(values) > 0 {
		from["values"] = values
	}
	into, _ := w["into"].(map[string]any)
	if into == nil {
		into = map[string]any{}
		w["into"] = into
	}
	if c.Clusters == nil {
		into["cluster"] = c.Name
	} else {
		labels := maps.Clone(c.Clusters)
		for key, v := range k.Clusters {
			if other, has := labels[key]; has && other != v {
				return nil, fmt.Errorf("the kit is for clusters with %s, and these have %s: %s", k.For(), key, other)
			}
			labels[key] = v
		}
		into["clusters"] = labels
	}
	var after []string
	for _, need := range k.Switch.Needs {
		after = append(after, WardName(need, c.Name))
	}
	if len(after) > 0 {
		w["after"] = after
	}
	if len(k.Links) > 0 {
		env, err := k.env(values)
		if err != nil {
			return nil, err
		}
		links := map[string]string{}
		for to, text := range k.Links {
			if links[to], err = filled(env, "links."+to, text); err != nil {
				return nil, err
			}
		}
		w["links"] = links
	}
	var out bytes.Buffer
	out.WriteString("vigila: ward/v1\n")
	delete(w, "vigila")
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	err := enc.Encode(w)
	return out.Bytes(), errors.Join(err, enc.Close())
}

// Turn is a file of components with a kit on or off in a place: all else in it stays as it is written. data is nil for a new file.
func Turn(file string, data []byte, place, kit string, on bool, with map[string]any) ([]byte, error) {
	if data == nil {
		data = fmt.Appendf(nil, "# Which components are on in %s. The form writes this file, and so may you.\nvigila: %s\nname: %s\ncomponents: {}\n", place, ComponentsFormat, place)
	}
	all, err := ParseComponents(file, data)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(all, func(c Components) bool { return c.Name == place }) {
		return nil, &object.SyntaxError{File: file, Line: 1, Text: "it switches nothing in " + place}
	}
	var out bytes.Buffer
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	for _, doc := range object.Split(data) {
		var root yaml.Node
		if err := yaml.Unmarshal(doc.Text, &root); err != nil {
			return nil, err
		}
		if len(root.Content) > 0 && value(root.Content[0], "name") != nil && value(root.Content[0], "name").Value == place {
			turn(root.Content[0], kit, on, with)
		}
		if err := enc.Encode(&root); err != nil {
			return nil, err
		}
	}
	err = enc.Close()
	return out.Bytes(), err
}

func turn(root *yaml.Node, kit string, on bool, with map[string]any) {
	all := value(root, "components")
	if all == nil {
		all = &yaml.Node{Kind: yaml.MappingNode}
		root.Content = append(root.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: "components"}, all)
	}
	all.Style = 0 // one line a component
	one := value(all, kit)
	if one == nil {
		one = &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
		all.Content = append(all.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: kit}, one)
	}
	set(one, "use", on)
	if len(with) > 0 {
		set(one, "with", with)
	} else {
		takeAway(one, "with")
	}
}

func takeAway(m *yaml.Node, key string) {
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			m.Content = slices.Delete(m.Content, i, i+2)
			return
		}
	}
}

func set(m *yaml.Node, key string, v any) {
	var n yaml.Node
	if n.Encode(v) != nil {
		return // only what can be written is given
	}
	if m.Style == yaml.FlowStyle {
		n.Style = yaml.FlowStyle
	}
	if old := value(m, key); old != nil {
		n.LineComment = old.LineComment
		*old = n
		return
	}
	m.Content = append(m.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, &n)
}

func value(m *yaml.Node, key string) *yaml.Node {
	for i := 0; m.Kind == yaml.MappingNode && i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			return m.Content[i+1]
		}
	}
	return nil
}

// PathOf is where the components of a place are written when no file does it yet.
func PathOf(roster, place string) string { return path.Join(roster, "components", place+".yaml") }
