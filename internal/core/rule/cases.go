package rule

import (
	_ "embed" // the published schema
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/object"
)

// CasesFormat is the value of the key "vigila" in a file of cases.
const CasesFormat = "rule-cases/v1"

// CasesSchema is the published JSON Schema (draft 2020-12) of a file of cases.
//
//go:embed cases.schema.json
var CasesSchema []byte

// casesSuffix is how the files of our own cases end.
const casesSuffix = ".cases.yaml"

// Case is an object, or several, and whether a rule lets them pass.
type Case struct {
	Rule    string // the rule that it is of
	Name    string
	Passes  bool
	Says    string // what the finding must say, where it does not pass
	Ward    map[string]any
	Cluster map[string]any
	Objects []object.Object
	Own     []Document
	File    string
	Line    int
}

// IsCases tells whether a file holds cases, by its first key.
func IsCases(data []byte) bool { return object.FirstKey(data, "vigila", "rule-cases/") }

// ParseCases reads the cases of a file. All mistakes are reported at once, each an *object.SyntaxError, joined:
//
//	vigila: rule-cases/v1
//	rule: images-pinned
//	cases:
//	  - name: a digest
//	    passes: true
//	    objects: [{apiVersion: v1, kind: Pod, …}]
func ParseCases(file string, data []byte) ([]Case, error) {
	var out []Case
	err := document.Each(file, data, func(d *document.Reader, root *yaml.Node) {
		r := &reader{d}
		format, rule := "", ""
		var cases []Case
		d.Keys(root, "a file of cases", map[string]func(*yaml.Node){
			"vigila": d.Text(&format, "vigila"), "rule": d.Text(&rule, "rule"),
			"cases": d.List("cases", func(n *yaml.Node) { cases = append(cases, r.oneCase(n, file)) }),
		})
		if root.Kind != yaml.MappingNode {
			return
		}
		if format != CasesFormat {
			d.Fail(d.Line(root), "the first key must be vigila: %s, not %q", CasesFormat, format)
		}
		if rule == "" || len(cases) == 0 {
			d.Fail(d.Line(root), "cases need the rule that they are of, and one case or more")
		}
		for _, c := range cases {
			c.Rule, c.File = rule, file
			out = append(out, c)
		}
	})
	return out, err
}

func (d *reader) oneCase(n *yaml.Node, file string) Case {
	c := Case{Line: d.Line(n), Ward: map[string]any{"name": "case", "owner": "", "namespace": "", "roster": ""}, Cluster: map[string]any{"name": "case", "labels": map[string]any{}, "version": "v1.37.0"}}
	said := false
	facts := func(into map[string]any, where string) func(*yaml.Node) {
		return func(x *yaml.Node) {
			given, err := decoded(x)
			m, ok := given.(map[string]any)
			if err != nil || !ok {
				d.Fail(d.Line(x), "%s must be a mapping", where)
			}
			for k, v := range m {
				into[k] = v
			}
		}
	}
	d.Keys(n, "a case", map[string]func(*yaml.Node){
		"name": d.Text(&c.Name, "name"), "says": d.Text(&c.Says, "says"), "ward": facts(c.Ward, "ward"), "cluster": facts(c.Cluster, "cluster"),
		"passes": func(x *yaml.Node) {
			if said = x.Value == "true" || x.Value == "false"; !said {
				d.Fail(d.Line(x), "passes is true or false")
			}
			c.Passes = x.Value == "true"
		},
		"objects": d.List("objects", func(x *yaml.Node) { d.caseObject(x, file, &c) }),
	})
	switch {
	case n.Kind != yaml.MappingNode:
	case c.Name == "" || !said || len(c.Objects)+len(c.Own) == 0:
		d.Fail(c.Line, "a case needs name, passes (true or false) and objects")
	case c.Passes && c.Says != "":
		d.Fail(c.Line, "a case that passes says nothing")
	}
	return c
}

// caseObject reads an object, or a document of Vigila's own, by its first key.
func (d *reader) caseObject(x *yaml.Node, file string, c *Case) {
	body, err := decoded(x)
	m, ok := body.(map[string]any)
	if err != nil || !ok {
		d.Fail(d.Line(x), "an object must be a mapping")
		return
	}
	if format, is := m["vigila"].(string); is {
		doc, err := Described(format, m, file, d.Line(x))
		if err != nil {
			d.Fail(d.Line(x), "%v", err)
			return
		}
		c.Own = append(c.Own, doc)
		return
	}
	o, err := object.FromBody(m)
	if err != nil {
		d.Fail(d.Line(x), "%v", err)
		return
	}
	o.File, o.Line = file, d.Line(x)
	c.Objects = append(c.Objects, o)
}

// decoded is a node as objects have it: integers are int64.
func decoded(n *yaml.Node) (any, error) {
	text, err := yaml.Marshal(n)
	if err != nil {
		return nil, err
	}
	return object.DecodeYAML("", object.Document{Text: text, Line: 1})
}

// Described is a document of Vigila's own as rules see it; format is the value of its first key, such as ward/v1.
func Described(format string, body map[string]any, file string, line int) (Document, error) {
	word, version, ok := strings.Cut(format, "/")
	if !ok || word == "" {
		return Document{}, fmt.Errorf("%q is no format of Vigila's own, such as ward/v1", format)
	}
	name, _ := body["name"].(string)
	out := map[string]any{"apiVersion": Group + "/" + version, "kind": strings.ToUpper(word[:1]) + word[1:], "metadata": map[string]any{"name": name}}
	for k, v := range body {
		if k != "vigila" && k != "apiVersion" && k != "kind" && k != "metadata" {
			out[k] = v
		}
	}
	o := object.Object{Ref: object.Ref{Group: Group, Kind: out["kind"].(string), Name: name}, Version: Group + "/" + version, Body: out, File: file, Line: line}
	plural := word + "s"
	if word == "health" || strings.HasSuffix(word, "s") {
		plural = word
	}
	return Document{Resource: plural, Object: o}, nil
}

// Try says what of a case is not as it says; "" when all is.
func (c Case) Try(r *Rule) string {
	found := Only(r).Judge(Facts{Ward: c.Ward, Cluster: c.Cluster}, c.Objects, c.Own)
	switch {
	case c.Passes && len(found) > 0:
		return "it is to pass, and does not: " + found[0].Text
	case !c.Passes && len(found) == 0:
		return "it is not to pass, and does"
	case c.Says != "" && !strings.Contains(found[0].Text, c.Says):
		return fmt.Sprintf("it is to say %q, and says: %s", c.Says, found[0].Text)
	}
	return ""
}

// Tried is how a case went.
type Tried struct {
	Case
	Wrong string // what is not as it says; "" when all is
}

// Test tries cases on the rules among some; a case whose rule is not there is a mistake.
func Test(rules []*Rule, cases []Case) (out []Tried, err error) {
	var errs []error
	for _, c := range cases {
		var of *Rule
		for _, r := range rules {
			if r.Name == c.Rule {
				of = r
			}
		}
		if of == nil {
			errs = append(errs, &object.SyntaxError{File: c.File, Line: c.Line, Text: "there is no rule " + c.Rule + " beside these cases"})
			continue
		}
		out = append(out, Tried{c, c.Try(of)})
	}
	return out, object.Mistakes(errs...)
}
