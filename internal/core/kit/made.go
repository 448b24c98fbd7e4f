package kit

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"regexp"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/object"
)

// MadeFormat is the value of the key "vigila" in the record of what a kit made; MadeName is what that file is called.
const (
	MadeFormat = "made/v1"
	MadeName   = ".made.yaml"
)

// Made is the record of what a kit made: a small file beside it, so that the form can be opened again.
type Made struct {
	Kit  string
	At   string         // the commit that the kit was at
	With map[string]any // what was given; the rest are defaults
	Path string         // of its directory
}

// Text is the record as it is written.
func (m Made) Text() ([]byte, error) {
	var out bytes.Buffer
	fmt.Fprintf(&out, "# A kit made what is here. To change it by its form: vigila kit change %s\n", m.Path)
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	err := enc.Encode(struct {
		Vigila string         `yaml:"vigila"`
		Kit    string         `yaml:"kit"`
		At     string         `yaml:"at"`
		With   map[string]any `yaml:"with"`
	}{MadeFormat, m.Kit, m.At, m.With})
	return out.Bytes(), errors.Join(err, enc.Close())
}

var commit = regexp.MustCompile(`^([0-9a-f]{40}|[0-9a-f]{64})$`)

// ParseMade reads a record. Errors are each an *object.SyntaxError, joined.
func ParseMade(file string, data []byte) (Made, error) {
	out := Made{Path: path.Dir(file), With: map[string]any{}}
	count := 0
	err := document.Each(file, data, func(d *document.Reader, root *yaml.Node) {
		count++
		format := ""
		d.Keys(root, "the record of what a kit made", map[string]func(*yaml.Node){"vigila": d.Text(&format, "vigila"), "kit": d.Text(&out.Kit, "kit"), "at": d.Text(&out.At, "at"), "with": d.Mapping(&out.With, "with")})
		if root.Kind != yaml.MappingNode {
			return
		}
		d.Head(d.Line(root), MadeFormat, format, out.Kit)
		if !commit.MatchString(out.At) {
			d.Fail(d.Line(root), "at is %q; it is the commit that the kit was at", out.At)
		}
	})
	if err == nil && count != 1 {
		err = &object.SyntaxError{File: file, Line: 1, Text: "it holds one document, which starts with vigila: " + MadeFormat}
	}
	return out, err
}
