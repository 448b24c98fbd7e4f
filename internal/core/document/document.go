// Package document reads the YAML documents of Vigila's own formats, in which every key is known: each mistake is told with its file and
// line, and all of them at once. Start with Each.
package document

import (
	"fmt"
	"regexp"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
)

// Reader reads one document, and notes what is wrong in it.
type Reader struct {
	file   string
	offset int // of its first line in the file
	errs   []error
}

// Each reads the documents of a file one by one. Errors are each an *object.SyntaxError, joined.
func Each(file string, data []byte, one func(d *Reader, root *yaml.Node)) error {
	docs, err := object.Own(file, data, object.MostEntries)
	if err != nil {
		return err
	}
	var errs []error
	for _, doc := range docs {
		root, err := object.Tree(file, doc)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		d := &Reader{file: file, offset: doc.Line - 1}
		one(d, root)
		errs = append(errs, d.errs...)
	}
	return object.Mistakes(errs...)
}

// label is RFC 1123's.
var label = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// Name tells whether a text can be the name of something that is declared in a format of ours: a label of RFC 1123.
func Name(s string) bool { return label.MatchString(s) }

// Head checks what a document begins with: the format that it must have, the one that it names, and its own name.
func (d *Reader) Head(line int, format, named, name string) {
	if named != format {
		d.Fail(line, "the first key must be vigila: %s, not %q", format, named)
	}
	if !Name(name) {
		d.Fail(line, "name is %q; write small letters, digits and dashes, at most 63", name)
	}
}

// Line is where a part of the document begins, in the file.
func (d *Reader) Line(n *yaml.Node) int { return n.Line + d.offset }

// Fail notes a mistake at a line of the file.
func (d *Reader) Fail(line int, format string, args ...any) {
	if object.Enough(d.errs) {
		return
	}
	d.errs = append(d.errs, &object.SyntaxError{File: d.file, Line: line, Text: fmt.Sprintf(format, args...)})
}

// Good tells whether no mistake was found yet.
func (d *Reader) Good() bool { return len(d.errs) == 0 }

// Keys reads a mapping: each key by its own function; others are mistakes. where names the mapping.
func (d *Reader) Keys(n *yaml.Node, where string, known map[string]func(*yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		d.Fail(d.Line(n), "%s must be a mapping of keys", where)
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content) && !object.Enough(d.errs); i += 2 {
		k := n.Content[i]
		read, ok := known[k.Value]
		switch {
		case seen[k.Value]:
			d.Fail(d.Line(k), "%s is given twice", k.Value)
		case !ok:
			var names []string
			for name := range known {
				names = append(names, name)
			}
			d.Fail(d.Line(k), "unknown key %s; %s", k.Value, nearest.Words(k.Value, names))
		default:
			read(n.Content[i+1])
		}
		seen[k.Value] = true
	}
}

// Text reads a text.
func (d *Reader) Text(into *string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.ScalarNode {
			d.Fail(d.Line(n), "%s must be a text", where)
			return
		}
		*into = n.Value
	}
}

// List reads a list, entry by entry.
func (d *Reader) List(where string, one func(*yaml.Node)) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.SequenceNode {
			d.Fail(d.Line(n), "%s must be a list", where)
			return
		}
		for _, x := range n.Content {
			one(x)
		}
	}
}

// Texts reads a list of texts.
func (d *Reader) Texts(into *[]string, where string) func(*yaml.Node) {
	return d.List(where, func(x *yaml.Node) {
		if x.Kind != yaml.ScalarNode || x.Value == "" {
			d.Fail(d.Line(x), "%s must be a list of texts", where)
			return
		}
		*into = append(*into, x.Value)
	})
}

// Mapping reads a mapping whose keys are not ours: values as JSON has them, whole numbers as int64.
func (d *Reader) Mapping(into *map[string]any, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.MappingNode {
			d.Fail(d.Line(n), "%s must be a mapping", where)
			return
		}
		text, err := yaml.Marshal(n)
		if err != nil {
			d.Fail(d.Line(n), "%s: %v", where, err)
			return
		}
		v, err := object.DecodeYAML(d.file, object.Document{Line: d.Line(n), Text: text})
		if err != nil {
			d.errs = append(d.errs, err)
			return
		}
		*into, _ = v.(map[string]any)
	}
}

// Pairs reads a mapping of texts.
func (d *Reader) Pairs(into *map[string]string, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.MappingNode {
			d.Fail(d.Line(n), "%s must be a mapping", where)
			return
		}
		*into = map[string]string{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i+1].Kind != yaml.ScalarNode {
				d.Fail(d.Line(n.Content[i]), "%s.%s must be a text", where, n.Content[i].Value)
				continue
			}
			(*into)[n.Content[i].Value] = n.Content[i+1].Value
		}
	}
}

// Truth reads true or false.
func (d *Reader) Truth(into *bool, where string) func(*yaml.Node) {
	return func(n *yaml.Node) {
		if n.Kind != yaml.ScalarNode || n.Decode(into) != nil {
			d.Fail(d.Line(n), "%s is true or false", where)
		}
	}
}
