package server

import (
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"sigs.k8s.io/yaml"
)

// TestANameMeansOneThing: a field of the API is a number, a list, a truth value or none of these, wherever it stands.
func TestANameMeansOneThing(t *testing.T) {
	text, err := os.ReadFile("../../api/openapi.yaml")
	require.NoError(t, err)
	var doc struct {
		Components struct{ Schemas map[string]any }
	}
	require.NoError(t, yaml.Unmarshal(text, &doc))
	kinds := map[string]map[string][]string{}
	var kind func(s map[string]any) string
	kind = func(s map[string]any) string {
		if ref, ok := s["$ref"].(string); ok {
			of, _ := doc.Components.Schemas[ref[strings.LastIndexByte(ref, '/')+1:]].(map[string]any)
			return kind(of)
		}
		switch k, _ := s["type"].(string); k {
		case "integer", "number":
			return "number"
		case "array", "boolean":
			return k
		}
		return "text or object"
	}
	var walk func(where string, s map[string]any)
	walk = func(where string, s map[string]any) {
		props, _ := s["properties"].(map[string]any)
		for name, v := range props {
			of := v.(map[string]any)
			if kinds[name] == nil {
				kinds[name] = map[string][]string{}
			}
			kinds[name][kind(of)] = append(kinds[name][kind(of)], where)
			walk(where+"."+name, of)
		}
		if items, ok := s["items"].(map[string]any); ok {
			walk(where+"[]", items)
		}
	}
	for name, s := range doc.Components.Schemas {
		walk(name, s.(map[string]any))
	}
	require.Greater(t, len(kinds), 100)
	for name, of := range kinds {
		assert.Len(t, of, 1, "%s is %v", name, of)
		assert.False(t, slices.Contains([]string{"notches", "tone", "loud", "placement"}, name), "%s is a word of the inside", name)
	}
}
