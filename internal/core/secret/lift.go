package secret

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/object"
)

// Lifted is a value that stands in a Secret's file as it is, and where it is to be.
type Lifted struct {
	Name  string // of the Secret
	Ref   Ref
	Value string
	Line  int // 1-based
}

// edit replaces a part of a text.
type edit struct {
	from, to int // bytes
	with     string
}

// Lift puts references in the place of the values that the Secrets of a file hold, each where to says, and gives the values. Comments and
// layout stay as they are. What can't be lifted is an error with its line, and then nothing is.
func Lift(file string, text []byte, to func(name, key string) (Ref, error)) (out []byte, lifted []Lifted, err error) {
	if bytes.HasPrefix(text, []byte("\xef\xbb\xbf")) {
		return nil, nil, &object.SyntaxError{File: file, Line: 1, Text: "it begins with a byte order mark; save it without"}
	}
	starts := []int{0}
	for i, b := range text {
		if b == '\n' {
			starts = append(starts, i+1)
		}
	}
	l := &lifting{file: file, text: text, starts: starts, to: to}
	for _, doc := range object.Split(text) {
		var root yaml.Node
		if err := yaml.Unmarshal(doc.Text, &root); err != nil {
			_, err := object.DecodeYAML(file, doc)
			return nil, nil, errors.Join(err, fmt.Errorf("%s can't be read", file))
		}
		l.offset = doc.Line - 1
		for _, n := range root.Content {
			l.find(n)
		}
	}
	if err := errors.Join(l.errs...); err != nil || len(l.edits) == 0 {
		return text, nil, err
	}
	slices.SortFunc(l.edits, func(a, b edit) int { return b.from - a.from })
	out = slices.Clone(text)
	for _, e := range l.edits {
		out = slices.Concat(out[:e.from], []byte(e.with), out[e.to:])
	}
	return out, l.lifted, l.check(out)
}

type lifting struct {
	file   string
	text   []byte
	starts []int // of lines
	offset int   // lines before the document
	to     func(name, key string) (Ref, error)
	edits  []edit
	lifted []Lifted
	errs   []error
}

func (l *lifting) fail(n *yaml.Node, format string, args ...any) {
	l.errs = append(l.errs, &object.SyntaxError{File: l.file, Line: l.offset + n.Line, Text: fmt.Sprintf(format, args...)})
}

func child(n *yaml.Node, key string) *yaml.Node {
	for i := 0; n != nil && n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

func scalar(n *yaml.Node) string {
	if n == nil || n.Kind != yaml.ScalarNode {
		return ""
	}
	return n.Value
}

// find lifts the values of the Secrets in a document: itself, or what a list holds.
func (l *lifting) find(n *yaml.Node) {
	if items := child(n, "items"); items != nil && strings.HasSuffix(scalar(child(n, "kind")), "List") {
		for _, item := range items.Content {
			l.find(item)
		}
		return
	}
	if scalar(child(n, "kind")) != "Secret" || scalar(child(n, "apiVersion")) != "v1" {
		return
	}
	name := scalar(child(child(n, "metadata"), "name"))
	for _, field := range []string{"data", "stringData"} {
		values := child(n, field)
		if values == nil || values.Kind != yaml.MappingNode {
			continue
		}
		for i := 0; i+1 < len(values.Content); i += 2 {
			l.lift(name, field, values.Content[i], values.Content[i+1])
		}
	}
}

func (l *lifting) lift(name, field string, key, v *yaml.Node) {
	value := v.Value
	switch {
	case v.Kind != yaml.ScalarNode || v.ShortTag() == "!!null":
		if v.Kind != yaml.ScalarNode {
			l.fail(v, "%s.%s is no plain value; write it as one, without an anchor or an alias", field, key.Value)
		}
		return
	case v.Anchor != "" || v.Style&yaml.TaggedStyle != 0:
		l.fail(v, "%s.%s bears an anchor or a tag; write it without", field, key.Value)
		return
	case field == "data" && !Folded(value):
		plain, err := base64.StdEncoding.DecodeString(value)
		if err != nil {
			l.fail(v, "data.%s is not in base64", key.Value)
			return
		}
		value = string(plain)
	}
	refs, _, err := Text(value)
	switch {
	case err != nil:
		l.fail(v, "%s.%s: %v", field, key.Value, err)
	case len(refs) > 0 || value == "":
	case !utf8.ValidString(value):
		l.fail(v, "%s.%s is no text in UTF-8; stores hold texts, so leave it out or encode it", field, key.Value)
	default:
		ref, err := l.to(name, key.Value)
		if err != nil {
			l.fail(v, "%v", err)
			return
		}
		from, to, err := l.span(key, v)
		if err != nil {
			l.fail(v, "%s.%s: %v", field, key.Value, err)
			return
		}
		with := ref.String()
		switch v.Style {
		case yaml.DoubleQuotedStyle:
			with = `"` + with + `"`
		case yaml.SingleQuotedStyle:
			with = "'" + with + "'"
		}
		l.edits = append(l.edits, edit{from, to, with})
		l.lifted = append(l.lifted, Lifted{name, ref, value, l.offset + v.Line})
	}
}

// at is where a node begins. Columns count characters.
func (l *lifting) at(n *yaml.Node) int {
	i := l.starts[l.offset+n.Line-1]
	for range n.Column - 1 {
		_, size := utf8.DecodeRune(l.text[i:])
		i += size
	}
	return i
}

// span is the part of the text that a value takes.
func (l *lifting) span(key, v *yaml.Node) (from, to int, err error) {
	from = l.at(v)
	rest := l.text[from:]
	switch v.Style {
	case yaml.DoubleQuotedStyle, yaml.SingleQuotedStyle:
		quote := rest[0]
		for i := 1; i < len(rest); i++ {
			switch {
			case rest[i] == '\\' && quote == '"':
				i++
			case rest[i] == quote && quote == '\'' && i+1 < len(rest) && rest[i+1] == quote:
				i++
			case rest[i] == quote:
				return from, from + i + 1, nil
			}
		}
		return 0, 0, errors.New("its quotes do not end")
	case yaml.LiteralStyle, yaml.FoldedStyle:
		return from, l.blockEnd(from, key.Column-1), nil
	}
	if !bytes.HasPrefix(rest, []byte(v.Value)) {
		return 0, 0, errors.New("it goes over several lines without quotes; put it in quotes")
	}
	return from, from + len(v.Value), nil
}

// blockEnd is where a block ends that begins at a byte: before the first line that is not deeper than its key, empty lines aside.
func (l *lifting) blockEnd(from, indent int) int {
	end, ok := slices.BinarySearch(l.starts, from)
	if ok {
		end++
	}
	to := len(l.text)
	if end < len(l.starts) {
		to = l.starts[end] - 1 // the line break of its first line
	}
	for i := end; i < len(l.starts); i++ {
		stop := len(l.text)
		if i+1 < len(l.starts) {
			stop = l.starts[i+1] - 1
		}
		row := strings.TrimRight(string(l.text[l.starts[i]:max(stop, l.starts[i])]), "\r")
		if strings.TrimSpace(row) == "" {
			continue
		}
		if len(row)-len(strings.TrimLeft(row, " ")) <= indent {
			break
		}
		to = stop
	}
	return to
}

// check makes sure that what is written is what is meant: nothing but these values is another.
func (l *lifting) check(out []byte) error {
	was, err := object.Parse(l.file, l.text)
	if err != nil {
		return err
	}
	now, err := object.Parse(l.file, out)
	if err != nil || len(now) != len(was) {
		return fmt.Errorf("%s can't be written so that it says the same; lift its values by hand", l.file)
	}
	values := Values{}
	for _, x := range l.lifted {
		at := x.Ref.Place()
		if values[at] == nil {
			values[at] = map[string]string{}
		}
		values[at][x.Ref.Key] = x.Value
	}
	for i, o := range now {
		same := true
		each(o.Body, func(field, key, text string) {
			refs, whole, _ := Text(text)
			of, _ := was[i].Body[field].(map[string]any)
			before, _ := of[key].(string)
			if whole && values.Has(refs[0]) && before != "" && !Folded(before) {
				text = values[refs[0].Place()][refs[0].Key]
				if field == "data" {
					text = base64.StdEncoding.EncodeToString([]byte(text))
				}
				o.Body[field].(map[string]any)[key] = before
				plain, err := base64.StdEncoding.DecodeString(before)
				same = same && (text == before || field == "data" && err == nil && base64.StdEncoding.EncodeToString(plain) == text)
			}
		})
		if !same || object.Hash(o.Body) != object.Hash(was[i].Body) {
			return fmt.Errorf("%s can't be written so that it says the same; lift its values by hand", l.file)
		}
	}
	return nil
}
