package object

import (
	"bytes"
	"encoding/json"
	"errors"
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

// MostMistakes is how many mistakes of one file are told: nobody reads more at once, and a file may have a million.
const MostMistakes = 100

// Mistakes are those of a file, joined: nil when there are none, and the first ones when there are very many.
func Mistakes(all ...error) error {
	var some []error
	for _, err := range all {
		switch {
		case err == nil:
		case len(some) < MostMistakes:
			some = append(some, err)
		default:
			return errors.Join(append(some, errors.New("there are more mistakes, which are told when these are mended"))...)
		}
	}
	return errors.Join(some...)
}

// MostEntries is how many entries a list or a mapping of a file of Vigila's own may have, and how many documents such a file: some of them are held
// against all others.
const MostEntries = 10_000

// Tree reads a document of Vigila's own: what it holds, as nodes with their lines. Errors are each a *SyntaxError.
func Tree(file string, doc Document) (*node.Node, error) {
	if err := Bounded(file, doc); err != nil {
		return nil, err
	}
	var root node.Node
	if err := node.Unmarshal(doc.Text, &root); err != nil || len(root.Content) == 0 {
		_, err := DecodeYAML(file, doc) // which says why
		if err == nil {
			err = &SyntaxError{file, doc.Line, "this is not valid YAML"}
		}
		return nil, err
	}
	return root.Content[0], moderate(file, doc, root.Content[0])
}

// moderate refuses a list or a mapping with more entries than MostEntries.
func moderate(file string, doc Document, n *node.Node) error {
	entries := len(n.Content)
	if n.Kind == node.MappingNode {
		entries /= 2
	}
	if entries > MostEntries {
		return &SyntaxError{file, doc.Line - 1 + max(n.Line, 1), fmt.Sprintf("this has %d entries; a list or a mapping of such a file may have %d, so write the others into another file", entries, MostEntries)}
	}
	for _, x := range n.Content {
		if err := moderate(file, doc, x); err != nil {
			return err
		}
	}
	return nil
}

// Own are the documents of a file of Vigila's own; more than most of them are refused.
func Own(file string, data []byte, most int) ([]Document, error) {
	docs := Split(data)
	if len(docs) > most {
		return nil, &SyntaxError{file, docs[most].Line, fmt.Sprintf("this file has %d documents; one of its kind may have %d, so write the others, from here on, into another file", len(docs), most)}
	}
	return docs, nil
}

// Enough tells whether so many mistakes were found that no more have to be looked for.
func Enough(found []error) bool { return len(found) > MostMistakes }

// Document is one YAML or JSON document of a file.
type Document struct {
	Line int // 1-based line its text starts at
	Text []byte
}

// Split cuts a stream of YAML documents, or of JSON texts, into its documents; the line numbers are kept, documents
// without content are left out. Every line that starts with "---" or "..." and a blank is a marker, wherever it stands:
// no scalar may hold one. What follows "---" on its line belongs to the document. What is left over in a document after
// its first value is refused by Bounded and DecodeYAML.
// Source: https://yaml.org/spec/1.2.2/#912-document-markers
func Split(data []byte) []Document {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if bytes.IndexByte(data, '\r') >= 0 {
		data = bytes.ReplaceAll(bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n")), []byte("\r"), []byte("\n"))
	}
	var docs []Document
	start, line := 1, 0
	var cur []byte
	flush := func() {
		if !onlyComments(bytes.TrimSpace(cur)) {
			docs = append(docs, texts(Document{Line: start, Text: cur})...)
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
		switch {
		case marker(row, "---"):
			tags := directives(cur)
			flush()
			start = line + 1
			if rest := bytes.TrimSpace(row[3:]); len(tags) > 0 || len(rest) > 0 && rest[0] != '#' {
				start = line - bytes.Count(tags, []byte("\n"))
				cur = append(tags, row...)
			}
		case marker(row, "..."):
			flush()
			start = line + 1
		default:
			cur = append(cur, row...)
		}
	}
	flush()
	return docs
}

// marker tells whether a row is a document marker.
func marker(row []byte, mark string) bool {
	return bytes.HasPrefix(row, []byte(mark)) && (len(row) == len(mark) || bytes.IndexByte([]byte(" \t\n"), row[len(mark)]) >= 0)
}

// directives are the %TAG rows at the end of a text that holds nothing else but comments; a %YAML row says nothing that
// counts here.
func directives(text []byte) (tags []byte) {
	for _, row := range bytes.SplitAfter(text, []byte("\n")) {
		switch trimmed := bytes.TrimSpace(row); {
		case bytes.HasPrefix(row, []byte("%TAG")):
			tags = append(tags, row...)
		case len(trimmed) > 0 && trimmed[0] != '#' && !bytes.HasPrefix(row, []byte("%")):
			return nil
		}
	}
	return tags
}

// texts are the JSON texts of a document that is nothing but several of them, one after the other; else the document.
func texts(doc Document) []Document {
	if trimmed := bytes.TrimSpace(doc.Text); len(trimmed) == 0 || trimmed[0] != '{' && trimmed[0] != '[' {
		return []Document{doc}
	}
	var out []Document
	d := json.NewDecoder(bytes.NewReader(doc.Text))
	for d.More() {
		var one json.RawMessage
		if err := d.Decode(&one); err != nil { // YAML's own form of a mapping, or a mistake that is explained later
			return []Document{doc}
		}
		end := int(d.InputOffset())
		from := end - len(one)
		out = append(out, Document{Line: doc.Line + bytes.Count(doc.Text[:from], []byte("\n")), Text: doc.Text[from:end]})
	}
	if len(out) < 2 {
		return []Document{doc}
	}
	return out
}

func onlyComments(text []byte) bool {
	for _, row := range bytes.Split(text, []byte("\n")) {
		row = bytes.TrimSpace(row)
		if len(row) > 0 && row[0] != '#' && row[0] != '%' {
			return false
		}
	}
	return true
}

// whole refuses a document with something left over after its first value, which a decoder would not read and not
// mention. A document whose first row starts with a plain key can have nothing left over: whatever follows belongs to
// the mapping, or is a mistake that the decoder finds.
func whole(file string, doc Document) error {
	if odd := bytes.ContainsAny(doc.Text, "\u0085\u2028\u2029"); !odd && plainKey(doc.Text) {
		return nil
	}
	if bytes.HasPrefix(doc.Text, []byte("\xff\xfe")) || bytes.HasPrefix(doc.Text, []byte("\xfe\xff")) {
		return &SyntaxError{file, doc.Line, "this file is UTF-16; save it as UTF-8"}
	}
	d := node.NewDecoder(bytes.NewReader(doc.Text))
	var first, more node.Node
	if err := d.Decode(&first); err != nil {
		return nil // what is wrong with it is told by whoever decodes it
	}
	err := d.Decode(&more)
	if err != nil && err.Error() == "EOF" {
		return nil
	}
	line := doc.Line
	if more.Line > 0 {
		line += more.Line - 1
	} else if err != nil {
		if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
			n, _ := strconv.Atoi(m[1])
			line += min(n, bytes.Count(bytes.TrimRight(doc.Text, "\n"), []byte("\n"))+1) - 1
		}
	}
	return &SyntaxError{file, line, "something is left over after the end of the document; put a line --- between two documents, and indent the rows of one alike"}
}

// plainKey tells whether the first row of content starts with a letter or digit in the first column.
func plainKey(text []byte) bool {
	for len(text) > 0 {
		row := text
		if end := bytes.IndexByte(text, '\n'); end >= 0 {
			row, text = text[:end], text[end+1:]
		} else {
			text = nil
		}
		if trimmed := bytes.TrimSpace(row); len(trimmed) == 0 || trimmed[0] == '#' {
			continue
		}
		c := row[0]
		return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_'
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
	if len(text) > longest {
		text = strings.ToValidUTF8(text[:longest], "") + "…"
	}
	return &SyntaxError{File: file, Line: line, Text: "this is not valid YAML: " + text}
}

// longest is how many bytes of a library's error are told: it may name each of a million keys.
const longest = 2000

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

// DecodeFile decodes a file that holds one document, or none; a second one is an error, since nobody would read it.
func DecodeFile(file string, data []byte) (any, error) {
	docs := Split(data)
	switch len(docs) {
	case 0:
		return nil, nil
	case 1:
		return DecodeYAML(file, docs[0])
	}
	return nil, &SyntaxError{file, docs[1].Line, fmt.Sprintf("this file is to hold one document, and holds %d; put what it says into one", len(docs))}
}

// Bounded refuses what would take far more memory than its text, and what a decoder would leave unread. Aliases that add up are found before anything is
// decoded; text that is not YAML at all is left to the decoder to explain.
func Bounded(file string, doc Document) error {
	if err := whole(file, doc); err != nil {
		return err
	}
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

// Parse reads every object of a YAML or JSON file; documents of kind List are opened. Every mistake is a *SyntaxError that names
// file and line, joined where there are several; beside them come the objects that have none.
func Parse(file string, data []byte) ([]Object, error) {
	var out []Object
	var errs []error
	for _, doc := range Split(data) {
		objects, err := parseDocument(file, doc)
		out = append(out, objects...)
		errs = append(errs, err)
	}
	return out, errors.Join(errs...)
}

func parseDocument(file string, doc Document) (out []Object, err error) {
	v, err := DecodeYAML(file, doc)
	if v == nil || err != nil {
		return nil, err
	}
	body, ok := v.(map[string]any)
	if !ok {
		return nil, &SyntaxError{file, doc.Line, "this document is not a mapping; a Kubernetes object starts with apiVersion and kind"}
	}
	bodies, err := opened(body)
	if err != nil {
		return nil, &SyntaxError{file, doc.Line, err.Error()}
	}
	var errs []error
	for _, b := range bodies {
		o, err := FromBody(b)
		if err != nil {
			errs = append(errs, &SyntaxError{file, doc.Line, err.Error()})
			continue
		}
		o.File, o.Line = file, firstLine(doc)
		if _, err := o.Turn(); err != nil {
			errs = append(errs, &SyntaxError{o.File, o.Line, err.Error()})
		}
		out = append(out, o)
	}
	return out, errors.Join(errs...)
}

// opened lists the objects of a List, and of the Lists in it; an object that is none is itself.
func opened(body map[string]any) ([]map[string]any, error) {
	kind, _ := body["kind"].(string)
	items, ok := body["items"].([]any)
	if !strings.HasSuffix(kind, "List") || !ok {
		return []map[string]any{body}, nil
	}
	var out []map[string]any
	for i, item := range items {
		m, ok := item.(map[string]any)
		if !ok {
			return nil, fmt.Errorf("items[%d] of this %s is not an object", i, kind)
		}
		more, err := opened(m)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
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
	text := strings.ReplaceAll(strings.TrimPrefix(string(data), "\ufeff"), "\r", "\n")
	for row := range strings.SplitSeq(text, "\n") {
		row = strings.TrimSpace(row)
		if row == "" || row[0] == '#' || row[0] == '%' || strings.HasPrefix(row, "---") || row == "..." {
			continue
		}
		k, v, ok := strings.Cut(row, ":")
		return ok && k == key && strings.HasPrefix(strings.Trim(strings.TrimSpace(v), `"'`), value)
	}
	return false
}
