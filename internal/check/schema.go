package check

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"vigila.dev/vigila/internal/core/object"
)

// Schema is how a cluster describes its kinds: OpenAPI v2, as /openapi/v2 gives it.
type Schema struct {
	names map[string]string // apiVersion/kind to the address of its definition
	comp  *jsonschema.Compiler
	mu    sync.Mutex
	done  map[string]*jsonschema.Schema
}

const schemaURL = "cluster.json"

// ParseSchema reads a saved description of a cluster's kinds.
func ParseSchema(text []byte) (*Schema, error) {
	var doc struct {
		Definitions map[string]any `json:"definitions"`
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		return nil, fmt.Errorf("this is no description of a cluster's kinds (vigila cluster schema NAME): %w", err)
	}
	if len(doc.Definitions) == 0 {
		return nil, errors.New("this is no description of a cluster's kinds: it has no definitions; save one with vigila cluster schema NAME")
	}
	s := &Schema{names: map[string]string{}, done: map[string]*jsonschema.Schema{}}
	defs := map[string]any{}
	for name, def := range doc.Definitions {
		m, ok := def.(map[string]any)
		if !ok {
			continue
		}
		kinds, _ := m["x-kubernetes-group-version-kind"].([]any)
		for _, k := range kinds {
			gvk, _ := k.(map[string]any)
			group, _ := gvk["group"].(string)
			version, _ := gvk["version"].(string)
			kind, _ := gvk["kind"].(string)
			if len(kinds) == 1 { // DeleteOptions and the like are of every group
				s.names[strings.TrimPrefix(group+"/"+version, "/")+"/"+kind] = schemaURL + "#/definitions/" + strings.ReplaceAll(name, "/", "~1")
			}
		}
		defs[name] = strict(def, true)
	}
	s.comp = jsonschema.NewCompiler()
	s.comp.DefaultDraft(jsonschema.Draft7)
	s.comp.UseLoader(none{})
	return s, s.comp.AddResource(schemaURL, map[string]any{"definitions": defs})
}

// Define adds the kinds that some objects define: they are known once these are applied. What of a definition can't be read is told
// when it is held against the cluster's own description of definitions.
func (s *Schema) Define(objects []object.Object) error {
	for _, o := range objects {
		if o.Ref.Group != "apiextensions.k8s.io" || o.Ref.Kind != "CustomResourceDefinition" {
			continue
		}
		spec, _ := o.Body["spec"].(map[string]any)
		names, _ := spec["names"].(map[string]any)
		versions, _ := spec["versions"].([]any)
		for _, v := range versions {
			version, _ := v.(map[string]any)
			holder, _ := version["schema"].(map[string]any)
			def, _ := strict(holder["openAPIV3Schema"], true).(map[string]any)
			if def == nil {
				def = map[string]any{}
			}
			if props, ok := def["properties"].(map[string]any); ok { // every object has these
				for _, k := range []string{"apiVersion", "kind"} {
					props[k] = map[string]any{"type": "string"}
				}
				props["metadata"] = map[string]any{"type": "object"}
			}
			name := fmt.Sprint(spec["group"], "/", version["name"], "/", names["kind"])
			url := "defined/" + name + ".json"
			if s.names[name] == url {
				continue // as another ward has it too
			}
			if err := s.comp.AddResource(url, def); err != nil {
				return fmt.Errorf("%s: %w", o.At(), err)
			}
			s.names[name] = url
		}
	}
	return nil
}

type none struct{}

func (none) Load(url string) (any, error) { return nil, fmt.Errorf("it refers to %s", url) }

// strict makes a schema refuse fields that it does not know, as the API server does, and take what it takes.
// Source: https://kubernetes.io/docs/reference/using-api/api-concepts/#field-validation
func strict(v any, object bool) any {
	m, ok := v.(map[string]any)
	if !ok {
		return v
	}
	if m["x-kubernetes-int-or-string"] == true || m["format"] == "int-or-string" {
		return map[string]any{"type": []any{"integer", "string"}}
	}
	out := map[string]any{}
	for k, x := range m {
		switch k {
		case "properties":
			props, _ := x.(map[string]any)
			made := map[string]any{}
			for name, p := range props {
				made[name] = orNull(strict(p, true))
			}
			out[k] = made
		case "items", "additionalProperties":
			out[k] = strict(x, true)
		case "allOf", "anyOf", "oneOf":
			all, _ := x.([]any)
			made := make([]any, len(all))
			for i, y := range all {
				made[i] = strict(y, false) // a part knows only some of the fields
			}
			out[k] = made
		case "type", "$ref", "required", "enum", "minimum", "maximum", "minLength", "maxLength", "minItems", "maxItems", "pattern":
			out[k] = x
		case "not":
		}
	}
	open := m["x-kubernetes-preserve-unknown-fields"] == true || m["x-kubernetes-embedded-resource"] == true
	if _, has := m["properties"]; has && object && !open {
		if _, given := m["additionalProperties"]; !given {
			out["additionalProperties"] = false
		}
	}
	if ref, ok := out["$ref"].(string); ok {
		return map[string]any{"$ref": schemaURL + strings.Replace(ref, "#/definitions/", "#/definitions/", 1)}
	}
	return out
}

// orNull lets a field be null, which is as if it were not there.
func orNull(v any) any {
	m, ok := v.(map[string]any)
	if !ok {
		return v
	}
	return map[string]any{"anyOf": []any{map[string]any{"type": "null"}, m}}
}

var printer = message.NewPrinter(language.English)

// Validate lists what of an object does not fit its kind.
func (s *Schema) Validate(o object.Object) []string {
	url, known := s.names[o.Version+"/"+o.Ref.Kind]
	if !known {
		var others []string
		for k := range s.names {
			if strings.HasSuffix(k, "/"+o.Ref.Kind) {
				others = append(others, strings.TrimSuffix(k, "/"+o.Ref.Kind))
			}
		}
		if slices.Sort(others); len(others) > 0 {
			return []string{fmt.Sprintf("the cluster knows no %s in %s; it has it in %s", o.Ref.Kind, o.Version, strings.Join(others, ", "))}
		}
		return []string{fmt.Sprintf("the cluster knows no kind %s in %s; is its definition missing?", o.Ref.Kind, o.Version)}
	}
	s.mu.Lock()
	schema := s.done[url]
	var err error
	if schema == nil {
		if schema, err = s.comp.Compile(url); err == nil {
			s.done[url] = schema
		}
	}
	s.mu.Unlock()
	if err != nil {
		return []string{"the cluster's description of it can't be read: " + err.Error()}
	}
	err = schema.Validate(numbers(o.Body))
	var bad *jsonschema.ValidationError
	if !errors.As(err, &bad) {
		return nil
	}
	var out []string
	var walk func(e *jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		if len(e.Causes) == 0 {
			text := e.ErrorKind.LocalizedString(printer)
			if !strings.HasSuffix(text, "want null") { // only one way that it might have been
				place := strings.Join(e.InstanceLocation, ".")
				if place == "" {
					place = "it"
				}
				out = append(out, place+": "+strings.Replace(text, "additional properties", "unknown fields", 1))
			}
		}
		for _, c := range e.Causes {
			walk(c)
		}
	}
	walk(bad)
	slices.Sort(out)
	return slices.Compact(out)
}

// numbers makes whole numbers what the schema library takes them for.
func numbers(v any) any {
	switch x := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, y := range x {
			out[k] = numbers(y)
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i, y := range x {
			out[i] = numbers(y)
		}
		return out
	case int64:
		return json.Number(fmt.Sprint(x))
	}
	return v
}
