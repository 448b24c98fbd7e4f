package object

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	node "go.yaml.in/yaml/v3"
	utiljson "k8s.io/apimachinery/pkg/util/json"
	"sigs.k8s.io/yaml"
)

// SyntaxError is bad input with its place.
type SyntaxError struct {
	File string
	Line int // 1-based
	Text string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("%s:%d: %s", e.File, e.Line, e.Text) }

// Document is one YAML or JSON document of a file.
type Document struct {
	Line int // 1-based line its text starts at
	Text []byte
}

// Split cuts a YAML stream at its "---" lines; the line numbers are kept, empty documents are left out.
func Split(data []byte) []Document {
	var docs []Document
	start, line := 1, 0
	var cur []byte
	flush := func() {
		text := bytes.TrimSpace(cur)
		if len(text) > 0 && !onlyComments(text) {
			docs = append(docs, Document{Line: start, Text: cur})
		}
		cur = nil
	}
	for len(data) > 0 {
		line++
		end := bytes.IndexByte(data, '\n')
		row := data
		if end >= 0 {
			row, data = data[:end+1], data[end+1:]
		} else {
			data = nil
		}
		trimmed := bytes.TrimRight(row, " \t\r\n")
		if bytes.Equal(trimmed, []byte("---")) || bytes.HasPrefix(trimmed, []byte("--- #")) {
			flush()
			start = line + 1
			continue
		}
		cur = append(cur, row...)
	}
	flush()
	return docs
}

func onlyComments(text []byte) bool {
	for _, row := range bytes.Split(text, []byte("\n")) {
		row = bytes.TrimSpace(row)
		if len(row) > 0 && row[0] != '#' {
			return false
		}
	}
	return true
}

var yamlLine = regexp.MustCompile(`line (\d+)`)

// syntax turns a YAML library's error into one that names file and line of the whole file.
func syntax(file string, doc Document, err error) error {
	line, text := doc.Line, err.Error()
	if m := yamlLine.FindStringSubmatch(text); m != nil {
		n, _ := strconv.Atoi(m[1])
		line += min(n, bytes.Count(bytes.TrimRight(doc.Text, "\n"), []byte("\n"))+1) - 1 // some mistakes are only noticed after the last row
		text = strings.Replace(text, m[0]+": ", "", 1)
	}
	text = strings.TrimPrefix(text, "error converting YAML to JSON: ")
	text = strings.TrimPrefix(text, "yaml: ")
	text = strings.ReplaceAll(strings.TrimPrefix(text, "unmarshal errors:\n  "), "\n", "; ")
	return &SyntaxError{File: file, Line: line, Text: "this is not valid YAML: " + text}
}

// Limits of one document. No Kubernetes object comes near them; a small file can ask for much more.
const (
	maxDepth    = 250      // levels of nesting
	maxExpanded = 32 << 20 // bytes, with every alias written out
)

// DecodeYAML decodes one YAML or JSON document into a JSON value; duplicate keys are errors, and so are documents that
// are nested too deep or grow too large through aliases.
func DecodeYAML(file string, doc Document) (any, error) {
	if err := Bounded(file, doc); err != nil {
		return nil, err
	}
	asJSON, err := yaml.YAMLToJSONStrict(doc.Text)
	if err != nil {
		return nil, syntax(file, doc, err)
	}
	var v any
	if err := utiljson.Unmarshal(asJSON, &v); err != nil {
		return nil, syntax(file, doc, err)
	}
	return v, nil
}

// Bounded refuses what would take far more memory than its text. Aliases that add up are found before anything is
// decoded; text that is not YAML at all is left to the decoder to explain.
func Bounded(file string, doc Document) error {
	if bytes.IndexByte(doc.Text, '*') < 0 && !deepText(doc.Text) {
		return nil
	}
	var root node.Node
	if node.Unmarshal(doc.Text, &root) != nil {
		return nil
	}
	sizes := map[*node.Node]int{}
	var tooDeep, tooLarge, circular *node.Node
	var measure func(n *node.Node, depth int) int
	measure = func(n *node.Node, depth int) int {
		if depth > maxDepth {
			tooDeep = n
		}
		if tooDeep != nil || tooLarge != nil || circular != nil {
			return 0
		}
		if n.Kind == node.AliasNode {
			n = n.Alias
		}
		size, known := sizes[n]
		switch {
		case known && size < 0:
			circular = n
			return 0
		case known:
			return size
		}
		sizes[n] = -1 // being measured
		size = len(n.Value) + 16
		for _, c := range n.Content {
			if size += measure(c, depth+1); size > maxExpanded {
				tooLarge = c
				return 0
			}
		}
		sizes[n] = size
		return size
	}
	measure(&root, 0)
	at := func(n *node.Node) int { return doc.Line + max(n.Line, 1) - 1 }
	switch {
	case circular != nil:
		return &SyntaxError{file, at(circular), "an alias holds itself"}
	case tooLarge != nil:
		return &SyntaxError{file, at(tooLarge), fmt.Sprintf("with its aliases written out this document is larger than %d MiB", maxExpanded>>20)}
	case tooDeep != nil:
		return &SyntaxError{file, at(tooDeep), fmt.Sprintf("this document is nested deeper than %d levels", maxDepth)}
	}
	return nil
}

// deepText tells whether a text may be nested deeper than maxDepth; it need not be.
func deepText(text []byte) bool {
	open := bytes.Count(text, []byte{'['}) + bytes.Count(text, []byte{'{'})
	indent := 0
	for _, row := range bytes.Split(text, []byte{'\n'}) {
		indent = max(indent, len(row)-len(bytes.TrimLeft(row, " -?")))
	}
	return open+indent > maxDepth
}

// Parse reads every object of a YAML or JSON file; documents of kind List are opened. Every error is a
// *SyntaxError that names file and line.
func Parse(file string, data []byte) ([]Object, error) {
	var out []Object
	for _, doc := range Split(data) {
		v, err := DecodeYAML(file, doc)
		if err != nil {
			return nil, err
		}
		if v == nil {
			continue
		}
		body, ok := v.(map[string]any)
		if !ok {
			return nil, &SyntaxError{file, doc.Line, "this document is not a mapping; a Kubernetes object starts with apiVersion and kind"}
		}
		bodies := []map[string]any{body}
		if kind, _ := body["kind"].(string); strings.HasSuffix(kind, "List") {
			if items, ok := body["items"].([]any); ok {
				bodies = bodies[:0]
				for i, item := range items {
					m, ok := item.(map[string]any)
					if !ok {
						return nil, &SyntaxError{file, doc.Line, fmt.Sprintf("items[%d] of this %s is not an object", i, kind)}
					}
					bodies = append(bodies, m)
				}
			}
		}
		for _, b := range bodies {
			o, err := FromBody(b)
			if err != nil {
				return nil, &SyntaxError{file, doc.Line, err.Error()}
			}
			o.File, o.Line = file, firstLine(doc)
			if _, err := o.Turn(); err != nil {
				return nil, &SyntaxError{o.File, o.Line, err.Error()}
			}
			out = append(out, o)
		}
	}
	return out, nil
}

// firstLine is the line of a document's first row that is not blank or a comment.
func firstLine(doc Document) int {
	for i, row := range strings.Split(string(doc.Text), "\n") {
		row = strings.TrimSpace(row)
		if row != "" && row[0] != '#' {
			return doc.Line + i
		}
	}
	return doc.Line
}

// FirstKey tells whether the first key of a YAML file is this one, and its value starts so.
func FirstKey(data []byte, key, value string) bool {
	for _, row := range strings.Split(string(data), "\n") {
		row = strings.TrimSpace(row)
		if row == "" || row[0] == '#' || strings.HasPrefix(row, "---") {
			continue
		}
		k, v, ok := strings.Cut(row, ":")
		return ok && k == key && strings.HasPrefix(strings.Trim(strings.TrimSpace(v), `"'`), value)
	}
	return false
}
