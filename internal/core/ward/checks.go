package ward

import (
	"encoding/json"
	"fmt"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/object"
)

// ChecksVersion is the value of the key "vigila" in a checks file: checks that several wards share.
const ChecksVersion = "checks/v1"

// ChecksSchema is the published JSON Schema (draft 2020-12) of a checks file: its checks are those of a ward file.
var ChecksSchema = checksSchema()

func checksSchema() []byte {
	var of struct {
		Schema     string                     `json:"$schema"`
		Defs       json.RawMessage            `json:"$defs"`
		Properties map[string]json.RawMessage `json:"properties"`
	}
	if err := json.Unmarshal(Schema, &of); err != nil {
		panic(err) // it is embedded
	}
	type property struct {
		Type        string `json:"type,omitempty"`
		Const       string `json:"const,omitempty"`
		Description string `json:"description"`
	}
	out, err := json.MarshalIndent(struct {
		Schema      string          `json:"$schema"`
		ID          string          `json:"$id"`
		Title       string          `json:"title"`
		Description string          `json:"description"`
		Type        string          `json:"type"`
		Additional  bool            `json:"additionalProperties"`
		Required    []string        `json:"required"`
		Defs        json.RawMessage `json:"$defs"`
		Properties  map[string]any  `json:"properties"`
	}{of.Schema, "https://vigila.dev/schema/checks-v1.json", "Vigila checks", "Checks that the canaries of several wards share.", "object", false, []string{"vigila", "checks"}, of.Defs,
		map[string]any{
			"vigila": property{Const: ChecksVersion, Description: "The format of this file; always its first key."},
			"about":  property{Type: "string", Description: "What they are, in a sentence."},
			"checks": of.Properties["checks"],
		}}, "", "  ")
	if err != nil {
		panic(err)
	}
	return append(out, '\n')
}

// IsChecks tells whether a file holds checks that wards share, by its first key.
func IsChecks(data []byte) bool { return object.FirstKey(data, "vigila", "checks/") }

// ParseChecks reads every check of a checks file. All mistakes are reported at once, each as an *Error, joined:
//
//	vigila: checks/v1
//	checks:
//	  errors: {query: …, from: harbour-metrics, good: value < 0.05}    # as in a ward file
func ParseChecks(file string, data []byte) ([]Check, error) {
	docs, err := object.Own(file, data, object.MostEntries)
	if err != nil {
		return nil, err
	}
	var out []Check
	var errs []error
	for _, doc := range docs {
		n, err := object.Tree(file, doc)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		d := &decoder{file: file, offset: doc.Line - 1}
		version, has := "", false
		d.mapping(n, "", keys{
			"vigila": d.text(&version, "vigila"),
			"about":  d.text(new(string), "about"),
			"checks": func(n *yaml.Node) { has = true; d.checks(n, &out) },
		})
		switch {
		case n.Kind != yaml.MappingNode:
		case version != ChecksVersion:
			d.fail(n, "the first key must be vigila: %s, not %q", ChecksVersion, version)
		case !has:
			d.fail(n, "there are no checks; write them below checks:, by their names")
		}
		errs = append(errs, d.errs...)
	}
	return out, object.Mistakes(errs...)
}

// Twice refuses names that come twice among the checks of files.
func Twice(all []Check) error {
	first := map[string]Check{}
	var errs []error
	for _, c := range all {
		if was, is := first[c.Name]; is {
			errs = append(errs, &Error{c.File, c.Line, fmt.Sprintf("there is a check %s already, at %s:%d", c.Name, was.File, was.Line)})
			continue
		}
		first[c.Name] = c
	}
	return object.Mistakes(errs...)
}
