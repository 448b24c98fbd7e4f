// Package versions reads versions files, which say which versions of images and charts a ward takes, and lays them over rendered
// objects, so that manifests stay untouched. Start with Parse and Over.
package versions

import (
	_ "embed" // the published schema
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/google/go-containerregistry/pkg/name"
	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
)

// Format is the value of the key "vigila" in a versions file.
const Format = "versions/v1"

// Schema is the published JSON Schema (draft 2020-12) of a versions file.
//
//go:embed versions.schema.json
var Schema []byte

// Image is the version of an image that is taken: a tag, a digest, or both.
type Image struct {
	Tag, Digest string
	File        string // that says so, and
	Line        int    // where
}

// Chart is the version of a packaged chart that is taken.
type Chart struct {
	Version string
	File    string
	Line    int
}

// Path is a place of images in a kind of one's own, beside those of Pods.
type Path struct {
	Group, Kind string
	At          []string // keys down from the object, a [] after one for all entries of a list
}

// File is what versions files say, one over the other.
type File struct {
	Images map[string]Image // by the repository's name, as it is written
	Charts map[string]Chart // by the chart's name
	Paths  []Path
}

// Is tells whether a file is a versions file, by its first key.
func Is(data []byte) bool { return object.FirstKey(data, "vigila", "versions/") }

// Source of what tags and digests may be: https://github.com/opencontainers/distribution-spec/blob/main/spec.md#pulling-manifests
// and https://github.com/opencontainers/image-spec/blob/main/descriptor.md#digests
var (
	tagForm    = regexp.MustCompile(`^[a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}$`)
	digestForm = regexp.MustCompile(`^sha256:[0-9a-f]{64}$|^sha512:[0-9a-f]{128}$`)
)

// Parse reads a versions file. All mistakes are reported at once, each an *object.SyntaxError, joined:
//
//	vigila: versions/v1
//	images:
//	  registry.brindle.example/fare-gate: {tag: 2.8.1, digest: "sha256:…"}   # or a tag alone: 2.8.1
//	charts: {gates: 1.4.2}
//	paths: [{of: Berth.harbour.brindle.example, at: ["spec.image", "spec.workers[].image"]}]
func Parse(file string, data []byte) (*File, error) {
	out := &File{Images: map[string]Image{}, Charts: map[string]Chart{}}
	docs := object.Split(data)
	if len(docs) == 0 {
		return nil, &object.SyntaxError{File: file, Line: 1, Text: "the file is empty; a versions file starts with vigila: " + Format}
	}
	if len(docs) > 1 {
		return nil, &object.SyntaxError{File: file, Line: docs[1].Line, Text: "a versions file has one document; write all of it into the first"}
	}
	doc := docs[0]
	root, err := object.Tree(file, doc)
	if err != nil {
		return nil, err
	}
	d := &decoder{file: file, offset: doc.Line - 1, out: out}
	d.root(root)
	if err := object.Mistakes(d.errs...); err != nil {
		return nil, err
	}
	return out, nil
}

type decoder struct {
	file   string
	offset int
	out    *File
	errs   []error
}

func (d *decoder) fail(n *yaml.Node, format string, args ...any) {
	if object.Enough(d.errs) {
		return
	}
	d.errs = append(d.errs, &object.SyntaxError{File: d.file, Line: n.Line + d.offset, Text: fmt.Sprintf(format, args...)})
}

// each goes through the keys of a mapping, each of which may come once.
func (d *decoder) each(n *yaml.Node, where string, do func(key, value *yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		d.fail(n, "%s must be a mapping of keys", where)
		return
	}
	seen := map[string]int{}
	for i := 0; i+1 < len(n.Content) && !object.Enough(d.errs); i += 2 {
		k := n.Content[i]
		if line := seen[k.Value]; line > 0 {
			d.fail(k, "%s.%s is given twice; it is already at line %d", where, k.Value, line)
			continue
		}
		seen[k.Value] = k.Line + d.offset
		do(k, n.Content[i+1])
	}
}

func (d *decoder) unknown(k *yaml.Node, where string, known ...string) {
	d.fail(k, "unknown key %s; %s", strings.TrimPrefix(where+"."+k.Value, "."), nearest.Words(k.Value, known))
}

func (d *decoder) text(n *yaml.Node, where string) string {
	if n.Kind != yaml.ScalarNode {
		d.fail(n, "%s must be a text", where)
		return ""
	}
	return n.Value
}

func (d *decoder) root(n *yaml.Node) {
	format := ""
	d.each(n, "a versions file", func(k, v *yaml.Node) {
		switch k.Value {
		case "vigila":
			format = v.Value
		case "about":
			d.text(v, "about")
		case "images":
			d.each(v, "images", d.image)
		case "charts":
			d.each(v, "charts", d.chart)
		case "paths":
			if v.Kind != yaml.SequenceNode {
				d.fail(v, "paths must be a list of kinds and where their images are, such as {of: Berth.harbour.brindle.example, at: [spec.image]}")
				return
			}
			for _, x := range v.Content {
				d.path(x)
			}
		default:
			d.unknown(k, "", "vigila", "about", "images", "charts", "paths")
		}
	})
	if n.Kind == yaml.MappingNode && format != Format {
		d.fail(n, "the first key must be vigila: %s, not %q", Format, format)
	}
}

func (d *decoder) image(k, v *yaml.Node) {
	where := "images." + k.Value
	at, err := name.NewRepository(k.Value, name.WeakValidation)
	if err != nil || at.Name() == "" {
		d.fail(k, "images: %q is no name of an image's repository; write it without tag and digest, such as registry.brindle.example/fare-gate", k.Value)
		return
	}
	im := Image{File: d.file, Line: k.Line + d.offset}
	if v.Kind == yaml.ScalarNode {
		im.Tag = v.Value
	} else {
		d.each(v, where, func(k, v *yaml.Node) {
			switch k.Value {
			case "tag":
				im.Tag = d.text(v, where+".tag")
			case "digest":
				im.Digest = d.text(v, where+".digest")
			default:
				d.unknown(k, where, "tag", "digest")
			}
		})
	}
	switch {
	case im.Tag == "" && im.Digest == "":
		d.fail(v, "%s has neither a tag nor a digest; write such as 2.8.1, or {tag: 2.8.1, digest: \"sha256:…\"}", where)
	case im.Tag != "" && !tagForm.MatchString(im.Tag):
		d.fail(v, "%s.tag: %q is no tag: letters, digits, '_', '.' and '-', at most 128", where, im.Tag)
	case im.Digest != "" && !digestForm.MatchString(im.Digest):
		d.fail(v, "%s.digest: %q is no digest, which is sha256: and 64 hexadecimal digits", where, im.Digest)
	}
	for other, was := range d.out.Images {
		if sameRepository(other, k.Value) {
			d.fail(k, "%s is the same image as %s at line %d; keep one of them", where, other, was.Line)
		}
	}
	d.out.Images[k.Value] = im
}

func (d *decoder) chart(k, v *yaml.Node) {
	version := d.text(v, "charts."+k.Value)
	if version == "" && v.Kind == yaml.ScalarNode {
		d.fail(v, "charts.%s has no version; write such as 1.4.2, or a range: \">=1.4 <2\"", k.Value)
	}
	d.out.Charts[k.Value] = Chart{version, d.file, k.Line + d.offset}
}

func (d *decoder) path(n *yaml.Node) {
	var p Path
	var at []*yaml.Node
	d.each(n, "paths", func(k, v *yaml.Node) {
		switch k.Value {
		case "of":
			p.Kind, p.Group, _ = strings.Cut(d.text(v, "paths.of"), ".")
		case "at":
			if at = v.Content; v.Kind == yaml.ScalarNode {
				at = []*yaml.Node{v}
			}
		default:
			d.unknown(k, "paths", "of", "at")
		}
	})
	if n.Kind != yaml.MappingNode {
		return
	}
	if p.Kind == "" || len(at) == 0 {
		d.fail(n, "each entry of paths needs of: Kind.group, and at: where its images are, such as spec.image")
	}
	for _, a := range at {
		keys := strings.Split(a.Value, ".")
		if slices.ContainsFunc(keys, func(k string) bool { return strings.TrimSuffix(k, "[]") == "" }) {
			d.fail(a, "paths.at: %q is no place; write keys with dots between, and [] after one for all entries of a list, such as spec.workers[].image", a.Value)
			continue
		}
		d.out.Paths = append(d.out.Paths, Path{p.Group, p.Kind, keys})
	}
}

// Over lays files one over the other, the last on top.
func Over(files ...*File) *File {
	out := &File{Images: map[string]Image{}, Charts: map[string]Chart{}}
	for _, f := range files {
		for repository, im := range f.Images {
			for other := range out.Images {
				if sameRepository(other, repository) {
					delete(out.Images, other)
				}
			}
			out.Images[repository] = im
		}
		maps.Copy(out.Charts, f.Charts)
		out.Paths = append(out.Paths, f.Paths...)
	}
	return out
}

// sameRepository tells whether two names mean the same repository: fare-gate is docker.io/library/fare-gate.
func sameRepository(a, b string) bool {
	if a == b {
		return true
	}
	x, errX := name.NewRepository(a, name.WeakValidation)
	y, errY := name.NewRepository(b, name.WeakValidation)
	return errX == nil && errY == nil && x.Name() == y.Name()
}
