// Command keys writes every key of the ward file into docs/ward-file.md, between its two marks, as the published JSON Schema has
// them: go run ./docs/keys.
package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/ward"
)

const (
	begin = "<!-- written by go run ./docs/keys -->\n"
	end   = "<!-- until here -->\n"
	page  = "docs/ward-file.md"
)

func main() {
	if err := write(page); err != nil {
		fmt.Fprintln(os.Stderr, "keys:", err)
		os.Exit(1)
	}
}

// schema is what of a JSON Schema is shown.
type schema struct {
	Ref         string             `json:"$ref"`
	Type        string             `json:"type"`
	Const       any                `json:"const"`
	Enum        []any              `json:"enum"`
	Default     any                `json:"default"`
	Description string             `json:"description"`
	Pattern     string             `json:"pattern"`
	Examples    []any              `json:"examples"`
	Required    []string           `json:"required"`
	Properties  map[string]*schema `json:"properties"`
	Items       *schema            `json:"items"`
	OneOf       []*schema          `json:"oneOf"`
	Defs        map[string]*schema `json:"$defs"`
}

func write(page string) error {
	var root schema
	if err := json.Unmarshal(ward.Schema, &root); err != nil {
		return err
	}
	text, err := os.ReadFile(page)
	if err != nil {
		return err
	}
	before, rest, ok := strings.Cut(string(text), begin)
	_, after, closed := strings.Cut(rest, end)
	if !ok || !closed {
		return fmt.Errorf("%s has no marks %q and %q", page, begin, end)
	}
	var b strings.Builder
	b.WriteString("| key | value | when absent | |\n|---|---|---|---|\n")
	root.rows(&b, &root, "", root.order())
	return os.WriteFile(page, []byte(before+begin+b.String()+end+after), 0o644)
}

// order is how keys are shown: as the schema's file has them, which a map forgets, so by what people write first.
func (s *schema) order() []string {
	first := []string{"vigila", "name", "about", "owner", "from", "into", "keep", "settle", "after", "leave", "set", "spread", "links", "where", "repo", "ref", "path", "cluster", "clusters", "labels", "namespace", "of", "fields"}
	rank := func(k string) int {
		if i := slices.Index(first, k); i >= 0 {
			return i
		}
		return len(first)
	}
	keys := slices.Sorted(maps.Keys(s.Properties))
	slices.SortStableFunc(keys, func(a, b string) int { return rank(a) - rank(b) })
	return keys
}

func (s *schema) rows(b *strings.Builder, root *schema, below string, keys []string) {
	for _, k := range keys {
		p := s.Properties[k].whole(root)
		name := below + k
		absent := ""
		switch {
		case p.Default != nil && p.Default != "":
			absent = "`" + plain(p.Default) + "`"
		case slices.Contains(s.Required, k):
			absent = "it must be there"
		}
		fmt.Fprintf(b, "| `%s` | %s | %s | %s |\n", name, p.kind(root), absent, strings.ReplaceAll(p.Description, "|", "\\|"))
		inner, at := p, name+"."
		if p.Items != nil {
			inner, at = p.Items.whole(root), name+"[]."
		}
		for _, one := range append([]*schema{inner}, inner.OneOf...) {
			one = one.whole(root)
			one.rows(b, root, at, one.order())
		}
	}
}

// whole is a schema with what it refers to; what it says itself counts.
func (s *schema) whole(root *schema) *schema {
	if s.Ref == "" {
		return s
	}
	out := *root.Defs[strings.TrimPrefix(s.Ref, "#/$defs/")]
	if s.Description != "" {
		out.Description = s.Description
	}
	if s.Default != nil {
		out.Default = s.Default
	}
	if len(s.Examples) > 0 {
		out.Examples = s.Examples
	}
	return &out
}

// kind says what a value is.
func (s *schema) kind(root *schema) string {
	switch {
	case len(s.OneOf) > 0 && s.Type == "":
		var kinds []string
		for _, one := range s.OneOf {
			kinds = append(kinds, one.whole(root).kind(root))
		}
		return strings.Join(kinds, " or ")
	case s.Const != nil:
		return "`" + plain(s.Const) + "`"
	case len(s.Enum) > 0:
		words := make([]string, len(s.Enum))
		for i, w := range s.Enum {
			words[i] = "`" + plain(w) + "`"
		}
		return strings.Join(words, ", ")
	case s.Type == "array":
		return "a list"
	case s.Type == "boolean":
		return "`true`, `false`"
	case s.Type == "object":
		return "a mapping"
	case strings.Contains(s.Pattern, "ms|s|m|h"):
		return "a time, such as `30s`, `5m`"
	case s.Pattern != "" && len(s.Examples) == 0:
		return "a name"
	case len(s.Examples) > 0:
		return "a text, such as `" + plain(s.Examples[len(s.Examples)-1]) + "`"
	}
	return "a text"
}

func plain(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}
