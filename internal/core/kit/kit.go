// Package kit is a template with a form: from the values of its parameters it makes files, such as those of a new service, or it switches
// a component of a cluster on. It is pure: a kit's files and somebody's values come in, files and mistakes go out. Start with Kit.
package kit

import (
	_ "embed" // the published schemas
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/express"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/schema"
)

// Format is the value of the key "vigila" in a kit's file.
const Format = "kit/v1"

// The published JSON Schemas (draft 2020-12) of the formats.
var (
	//go:embed kit.schema.json
	Schema []byte
	//go:embed components.schema.json
	ComponentsSchema []byte
)

// FileName is what a kit's file is called; what it makes files of lies below Below, beside it.
const (
	FileName = "kit.yaml"
	Below    = "files"
)

// ClusterFormat is the format of a parameter that is chosen among the clusters.
const ClusterFormat = "cluster"

// File is a file of a tree, by its path from the root.
type File struct {
	Path string
	Data []byte
}

// Kit is a kit's file.
type Kit struct {
	Name, About, Owner string
	Makes              Makes   // nothing for one that is switched
	Switch             *Switch // nil for one that makes files
	Files              []Place
	Parameters         map[string]any // a JSON Schema of an object; nil when there are none
	Order              []string       // of the parameters, as they are written
	Groups             []Group        // of parameters, in the order in which they are asked for; those of no group come last
	Clusters           map[string]string
	Links              map[string]string // texts with expressions
	Dir                string            // of its file, from the root of its repository
	Line               int
	shape              *schema.Schema
}

// Makes is where a kit's files go. Texts with expressions.
type Makes struct {
	Repo, Ref string // "" for those that the kit's own file is in
	Path      string
}

// Place says of one of a kit's files where it goes, and when it is made at all.
type Place struct {
	File string // below files/
	To   string // from the root of the repository; "" for its name below the path
	When string // an expression: nothing is made where it is false
	line int
}

// Group is some parameters under one title.
type Group struct {
	Title string
	Of    []string
}

// Switch is a component: it makes no files, but a ward, where it is switched on.
type Switch struct {
	Needs []string // kits that have to be on in the same place
	// Ward is what the ward's file says beside its name, its cluster, its values and what it comes after.
	Ward map[string]any
}

// Is tells whether a file is a kit's, by its first key.
func Is(data []byte) bool { return object.FirstKey(data, "vigila", "kit/") }

// Parse reads a kit's file. All mistakes are reported at once, each an *object.SyntaxError, joined.
func Parse(file string, data []byte) (*Kit, error) {
	var out *Kit
	count := 0
	err := document.Each(file, data, func(d *document.Reader, root *yaml.Node) {
		if count++; count > 1 {
			d.Fail(d.Line(root), "a kit's file holds one document")
			return
		}
		out = (&reader{d}).kit(root)
	})
	switch {
	case err == nil && count == 0:
		err = &object.SyntaxError{File: file, Line: 1, Text: "the file is empty; a kit's file starts with vigila: " + Format}
	case path.Base(file) != FileName:
		err = errors.Join(err, &object.SyntaxError{File: file, Line: 1, Text: "a kit's file is called " + FileName + ", in a directory of its own: that is where its files lie"})
	case path.Dir(file) == ".":
		err = errors.Join(err, &object.SyntaxError{File: file, Line: 1, Text: "a kit needs a directory of its own: all below it is the kit's"})
	}
	if err != nil {
		return nil, err
	}
	out.Dir = path.Dir(file)
	return out, nil
}

type reader struct{ *document.Reader }

func (d *reader) kit(n *yaml.Node) *Kit {
	k := &Kit{Line: d.Line(n)}
	format := ""
	var parameters, groups *yaml.Node
	d.Keys(n, "a kit", map[string]func(*yaml.Node){
		"vigila": d.Text(&format, "vigila"), "name": d.Text(&k.Name, "name"), "about": d.Text(&k.About, "about"), "owner": d.Text(&k.Owner, "owner"),
		"makes": func(x *yaml.Node) {
			d.Keys(x, "makes", map[string]func(*yaml.Node){"repo": d.Text(&k.Makes.Repo, "makes.repo"), "ref": d.Text(&k.Makes.Ref, "makes.ref"), "path": d.Text(&k.Makes.Path, "makes.path")})
		},
		"switch":     func(x *yaml.Node) { k.Switch = d.component(x) },
		"files":      d.List("files", func(x *yaml.Node) { k.Files = append(k.Files, d.place(x)) }),
		"parameters": func(x *yaml.Node) { parameters = x; d.Mapping(&k.Parameters, "parameters")(x) },
		"groups": func(x *yaml.Node) {
			groups = x
			d.List("groups", func(x *yaml.Node) {
				var g Group
				d.Keys(x, "a group", map[string]func(*yaml.Node){"title": d.Text(&g.Title, "title"), "of": d.Texts(&g.Of, "of")})
				k.Groups = append(k.Groups, g)
			})(x)
		},
		"may": func(x *yaml.Node) {
			d.Keys(x, "may", map[string]func(*yaml.Node){"clusters": d.Pairs(&k.Clusters, "may.clusters")})
		},
		"links": d.Pairs(&k.Links, "links"),
	})
	if n.Kind != yaml.MappingNode {
		return k
	}
	if d.Head(d.Line(n), Format, format, k.Name); k.Name == FromChart {
		d.Fail(d.Line(n), "a kit can't be called %s: Vigila brings one of that name along", FromChart)
	}
	switch {
	case k.Switch == nil && k.Makes.Path == "":
		d.Fail(d.Line(n), `makes is missing: where its files go, such as {path: "services/${{ params.name }}"}; or switch, for a component that is switched on`)
	case k.Switch != nil && (k.Makes != Makes{} || len(k.Files) > 0):
		d.Fail(d.Line(n), "a kit either makes files or is switched: write makes and files, or switch")
	}
	d.parameters(k, parameters, groups)
	d.expressions(k, n)
	return k
}

func (d *reader) component(n *yaml.Node) *Switch {
	s := &Switch{Ward: map[string]any{}}
	part := func(name string) func(*yaml.Node) {
		return func(x *yaml.Node) {
			var m map[string]any
			if d.Mapping(&m, "switch."+name)(x); m != nil {
				s.Ward[name] = m
			}
		}
	}
	d.Keys(n, "switch", map[string]func(*yaml.Node){"needs": d.Texts(&s.Needs, "switch.needs"), "from": part("from"), "into": part("into"), "keep": part("keep"), "settle": part("settle")})
	if _, has := s.Ward["from"]; !has && n.Kind == yaml.MappingNode {
		d.Fail(d.Line(n), "switch.from is missing: where what it declares comes from, as in a ward file, such as {path: components/metrics}")
	}
	into, _ := s.Ward["into"].(map[string]any)
	for _, k := range []string{"cluster", "clusters"} {
		if _, has := into[k]; has {
			d.Fail(d.Line(n), "switch.into.%s is not said here: it is where the component is switched on", k)
		}
	}
	return s
}

func (d *reader) place(n *yaml.Node) Place {
	p := Place{line: d.Line(n)}
	d.Keys(n, "a file", map[string]func(*yaml.Node){"file": d.Text(&p.File, "file"), "to": d.Text(&p.To, "to"), "when": d.Text(&p.When, "when")})
	if n.Kind == yaml.MappingNode && p.File == "" {
		d.Fail(p.line, "file is missing: which file below %s/ is meant", Below)
	}
	return p
}

// parameters checks the JSON Schema, and what its parameters are called.
func (d *reader) parameters(k *Kit, n, groups *yaml.Node) {
	if n == nil {
		if groups != nil {
			d.Fail(d.Line(groups), "there are no parameters that could be in groups")
		}
		return
	}
	k.Parameters = schema.Parameters(k.Parameters)
	var err error
	if k.shape, err = shapeOf(k.Parameters); err != nil {
		d.Fail(d.Line(n), "parameters: %v", err)
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value != "properties" {
			continue
		}
		props := n.Content[i+1]
		for j := 0; j+1 < len(props.Content); j += 2 {
			name := props.Content[j].Value
			if known, _ := k.Parameters["properties"].(map[string]any); known[name] == nil { // as YAML 1.1 has it, which Kubernetes reads
				d.Fail(d.Line(props.Content[j]), "a parameter can't be called %s: YAML reads that as a truth value or a number; give it another name", name)
			}
			k.Order = append(k.Order, name)
		}
	}
	seen := map[string]string{}
	for _, g := range k.Groups {
		for _, name := range g.Of {
			if !slices.Contains(k.Order, name) {
				d.Fail(d.Line(groups), "group %s has %s, which is no parameter; they are: %s", g.Title, name, strings.Join(k.Order, ", "))
			} else if other, twice := seen[name]; twice {
				d.Fail(d.Line(groups), "%s is in the groups %s and %s", name, other, g.Title)
			}
			seen[name] = g.Title
		}
	}
}

func shapeOf(parameters map[string]any) (*schema.Schema, error) {
	text, err := json.Marshal(parameters)
	if err != nil {
		return nil, err
	}
	return schema.Read(text)
}

// expressions checks every text that has some.
func (d *reader) expressions(k *Kit, n *yaml.Node) {
	env, err := k.closed()
	if err != nil {
		d.Fail(d.Line(n), "%v", err)
		return
	}
	try := func(line int, what, text string) {
		l, err := express.Lift(what, []byte(text))
		if err == nil {
			err = l.Probe(what, env)
		}
		var at *object.SyntaxError
		if errors.As(err, &at) {
			d.Fail(line, "%s: %s", what, at.Text)
		}
	}
	try(k.Line, "makes.path", k.Makes.Path)
	for _, p := range k.Files {
		try(p.line, "to", p.To)
		if p.When != "" {
			if err := env.Compile(p.When); err != nil {
				d.Fail(p.line, "when: %v", err)
			}
		}
	}
	for name, text := range k.Links {
		try(k.Line, "links."+name, text)
	}
	for _, x := range pending(k.Parameters, nil, nil) {
		try(k.Line, "the default of "+strings.Join(x.at, "."), x.text)
	}
}

// env is what expressions of a kit are evaluated in.
func (k *Kit) env(values map[string]any) (*express.Env, error) {
	if values == nil {
		values = map[string]any{}
	}
	return express.New(map[string]map[string]any{"params": values, "kit": {"name": k.Name}})
}

// closed is what expressions of a kit are read in: asking for a parameter that there isn't is found before there are any values.
func (k *Kit) closed() (*express.Env, error) {
	env, err := k.env(nil)
	if err == nil {
		env.Closed = map[string][]string{"kit": {"name"}}
		extra, is := k.Parameters["additionalProperties"].(bool)
		if _, more := k.Parameters["patternProperties"]; k.Parameters == nil || k.shape != nil && is && !extra && !more {
			env.Closed["params"] = k.Order
		}
	}
	return env, err
}

// Probe lists what is wrong with a kit's files whatever its values are: expressions that are none, and places of files that are not there.
// files are those below its directory.
func (k *Kit) Probe(files []File) error {
	env, err := k.closed()
	if err != nil {
		return err
	}
	var errs []error
	at := path.Join(k.Dir, FileName)
	have := map[string]bool{}
	for _, f := range files {
		rel, is := k.below(f.Path)
		if !is {
			continue
		}
		have[rel] = true
		if binary(f.Data) {
			continue
		}
		l, err := express.Lift(f.Path, f.Data)
		if err == nil {
			err = l.Probe(f.Path, env)
		}
		errs = append(errs, err)
	}
	for _, p := range k.Files {
		if !have[p.File] {
			errs = append(errs, &object.SyntaxError{File: at, Line: p.line, Text: fmt.Sprintf("there is no file %s below %s", p.File, path.Join(k.Dir, Below))})
		}
	}
	if k.Switch == nil && len(have) == 0 {
		errs = append(errs, &object.SyntaxError{File: at, Line: k.Line, Text: fmt.Sprintf("there are no files below %s, so it would make nothing", path.Join(k.Dir, Below))})
	}
	return object.Mistakes(errs...)
}

// below is the name of a file of the kit, below files/.
func (k *Kit) below(p string) (string, bool) {
	return strings.CutPrefix(p, path.Join(k.Dir, Below)+"/")
}

// May tells whether a cluster, by its labels, is one that the kit is for.
func (k *Kit) May(labels map[string]string) bool {
	for key, v := range k.Clusters {
		if labels[key] != v {
			return false
		}
	}
	return true
}

// For says which clusters the kit is for, as a ward file would; "" for all.
func (k *Kit) For() string {
	var out []string
	for key, v := range k.Clusters {
		out = append(out, key+": "+v)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// Dirs are the directories of kits among some files.
func Dirs(files []File) (out []string) {
	for _, f := range files {
		if path.Base(f.Path) == FileName && Is(f.Data) {
			out = append(out, path.Dir(f.Path))
		}
	}
	return out
}

// Within tells whether a file is part of one of some kits, by their directories: it declares nothing by itself. Kits' own files are not meant.
func Within(dirs []string, file string) bool {
	return slices.ContainsFunc(dirs, func(d string) bool { return strings.HasPrefix(file, d+"/") && file != path.Join(d, FileName) })
}
