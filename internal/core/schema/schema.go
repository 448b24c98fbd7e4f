// Package schema holds values against a JSON Schema (https://json-schema.org), and says what is wrong as people say it. Start with Read.
package schema

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"vigila.dev/vigila/internal/core/nearest"
)

// printer says what a JSON Schema finds wrong.
var printer = message.NewPrinter(language.English)

// Schema is a JSON Schema that was read.
type Schema struct {
	doc  any
	comp *jsonschema.Schema
}

// alone refuses schemas that would have to be fetched.
type alone struct{}

func (alone) Load(url string) (any, error) {
	return nil, fmt.Errorf("it refers to %s; a schema can't refer to anything outside its file", url)
}

// Read reads a JSON Schema, written as JSON.
func Read(text []byte) (*Schema, error) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return nil, fmt.Errorf("this is not a JSON Schema: %w", err)
	}
	comp := jsonschema.NewCompiler()
	comp.UseLoader(alone{})
	if err := comp.AddResource("values.json", doc); err != nil {
		return nil, err
	}
	s, err := comp.Compile("values.json")
	if err != nil {
		return nil, fmt.Errorf("this is not a JSON Schema: %w", err)
	}
	return &Schema{doc, s}, nil
}

// Mistake is a value that does not fit.
type Mistake struct {
	At   []string // its place: keys, and indices of lists
	Text string   // goes on after the place: ": got string, want integer"
}

// Mistakes lists what of some values does not fit, by what they say, each once; what names whose schema it is. An error tells that the
// values could not be held against it at all.
func (s *Schema) Mistakes(values any, what string) ([]Mistake, error) {
	err := s.comp.Validate(Numbers(values))
	var bad *jsonschema.ValidationError
	if !errors.As(err, &bad) {
		return nil, err
	}
	found := map[string]Mistake{}
	add := func(at []string, format string, args ...any) {
		m := Mistake{slices.Clone(at), fmt.Sprintf(format, args...)}
		found[strings.Join(at, ".")+m.Text] = m
	}
	var walk func(e *jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		at := e.InstanceLocation[:len(e.InstanceLocation):len(e.InstanceLocation)]
		switch k := e.ErrorKind.(type) {
		case *kind.AdditionalProperties:
			for _, name := range k.Properties {
				add(append(at, name), ": %s takes none of that name; %s", what, nearest.Words(name, s.takes(at)))
			}
		case *kind.Required:
			for _, name := range k.Missing {
				add(append(at, name), " is missing, and %s needs it", what)
			}
		default:
			if len(e.Causes) == 0 {
				add(at, ": %s, says %s", e.ErrorKind.LocalizedString(printer), what)
			}
		}
		for _, c := range e.Causes {
			walk(c)
		}
	}
	walk(bad)
	var out []Mistake
	for _, text := range slices.Sorted(maps.Keys(found)) {
		out = append(out, found[text])
	}
	return out, nil
}

// takes lists the names that a schema knows at a place, as far as it says so plainly.
func (s *Schema) takes(at []string) []string {
	doc := s.doc
	for _, name := range at {
		m, _ := doc.(map[string]any)
		props, _ := m["properties"].(map[string]any)
		doc = props[name]
	}
	m, _ := doc.(map[string]any)
	props, _ := m["properties"].(map[string]any)
	return slices.Sorted(maps.Keys(props))
}

// Numbers makes numbers what the schema library takes: a long whole one stays what it is.
func Numbers(v any) any {
	switch x := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, y := range x {
			out[k] = Numbers(y)
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i, y := range x {
			out[i] = Numbers(y)
		}
		return out
	case int64:
		return json.Number(fmt.Sprint(x))
	case int:
		return json.Number(fmt.Sprint(x))
	}
	return v
}

// Parameters is a JSON Schema of parameters as a file of ours has it, closed where it does not say: a mistyped name is told.
func Parameters(p map[string]any) map[string]any {
	if p == nil {
		return nil
	}
	if _, ok := p["type"]; !ok {
		p["type"] = "object"
	}
	if _, ok := p["additionalProperties"]; !ok {
		p["additionalProperties"] = false
	}
	return p
}
