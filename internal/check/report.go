package check

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/visible"
)

// Finding is one mistake with its place.
type Finding struct {
	File  string `json:"file"`
	Line  int    `json:"line"`
	Rule  string `json:"rule"`  // render, schema, ward; of a rulebook's: rule:NAME
	Level Level  `json:"level"` // error or warning
	Text  string `json:"text"`
	Mend  string `json:"mend,omitempty"` // what to write instead
}

// Level is how bad a finding is.
type Level string

// The levels: an error fails the check.
const (
	Error   Level = "error"
	Warning Level = "warning"
)

// finding is one with what was being checked: a ward, or a path that no ward takes; "" for a file of Vigila's own.
type finding struct {
	Finding
	of string
}

// Report is what a check found.
type Report struct {
	Files    int                `json:"files"`
	Objects  int                `json:"objects"`
	Wards    int                `json:"wards"`
	Excepted int                `json:"excepted"` // findings that an exception of a rulebook lets be
	Findings []Finding          `json:"findings"`
	checked  []string           // what was checked: paths and wards
	found    []finding          // what Findings are, each as often as it was found
	rules    []rule.Held        // that were held against
	hashes   map[string]string  // of the objects that findings of rules are about, by what they are of
	about    map[Finding]string // the key of that object
}

// Errors counts the findings that fail the check; with strict, warnings do as well.
func (r *Report) Errors(strict bool) (n int) {
	for _, f := range r.Findings {
		if strict || f.Level == Error {
			n++
		}
	}
	return n
}

// Since takes away what was found before as well: the same finding, about what has not changed. What is known, and not touched, is
// nothing to stop a change for.
func (r *Report) Since(before *Report) {
	known := map[Finding]bool{}
	for _, f := range before.Findings {
		f.Line = 0
		known[f] = true
	}
	old := func(f Finding) bool {
		key := r.about[f]
		f.Line = 0
		return known[f] && (key == "" || before.hashes[key] == r.hashes[key])
	}
	r.found = slices.DeleteFunc(r.found, func(f finding) bool { return old(f.Finding) })
	r.Findings = slices.DeleteFunc(r.Findings, old)
}

// Text writes a report for people.
func (r *Report) Text(w io.Writer) {
	warned := 0
	mends := map[string]string{}
	for _, f := range r.Findings {
		level := ""
		if f.Level == Warning {
			warned++
			level = "warning: "
		}
		if f.Mend != "" {
			mends[strings.TrimPrefix(f.Rule, rulePrefix)] = f.Mend
		}
		fmt.Fprintf(w, "%s:%d: %s%s\n", visible.Line(f.File), f.Line, level, visible.Text(f.Text))
	}
	if len(r.Findings) > 0 {
		fmt.Fprintln(w)
	}
	if len(mends) > 0 { // once a rule, however often it is broken
		fmt.Fprintln(w, "What to write instead:")
		for _, name := range slices.Sorted(maps.Keys(mends)) {
			fmt.Fprintf(w, "  %s: %s\n", name, visible.Text(mends[name]))
		}
		fmt.Fprintln(w)
	}
	var says []string
	if n := len(r.Findings) - warned; n > 0 {
		says = append(says, count(n, "mistake"))
	}
	if warned > 0 {
		says = append(says, count(warned, "warning"))
	}
	if len(says) == 0 {
		says = append(says, "nothing wrong")
	}
	if r.Excepted > 0 {
		says = append(says, fmt.Sprintf("%d let be by exceptions", r.Excepted))
	}
	fmt.Fprintf(w, "%s in %s, %s: %s\n", count(r.Objects, "object"), count(r.Files, "file"), count(r.Wards, "ward"), strings.Join(says, ", "))
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// JSON writes a report as it is.
func (r *Report) JSON(w io.Writer) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(r)
}

// rules are what findings are called, for tools that want to know.
var rules = map[string]string{"ward": "A file of Vigila's own is wrong", "render": "It can't be rendered", "schema": "An object does not fit the cluster's schema"}

// SARIF writes a report for code hosts: https://docs.oasis-open.org/sarif/sarif/v2.1.0/sarif-v2.1.0.html
func (r *Report) SARIF(w io.Writer, version string) error {
	type m = map[string]any
	var defs []m
	for _, id := range []string{"render", "schema", "ward"} {
		defs = append(defs, m{"id": id, "shortDescription": m{"text": rules[id]}})
	}
	for _, h := range r.rules {
		def := m{"id": ruleID(h.Name), "shortDescription": m{"text": "Rule " + h.Name + " of rulebook " + h.Book}}
		if h.Why != "" {
			def["fullDescription"] = m{"text": h.Why}
		}
		if h.Mend != "" {
			def["help"] = m{"text": h.Mend}
		}
		defs = append(defs, def)
	}
	results := []m{}
	for _, f := range r.Findings {
		text := f.Text
		if f.Mend != "" {
			text += ". " + f.Mend
		}
		results = append(results, m{"ruleId": f.Rule, "level": f.Level, "message": m{"text": text},
			"locations": []m{{"physicalLocation": m{"artifactLocation": m{"uri": f.File}, "region": m{"startLine": max(f.Line, 1)}}}}})
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(m{"$schema": "https://json.schemastore.org/sarif-2.1.0.json", "version": "2.1.0",
		"runs": []m{{"tool": m{"driver": m{"name": "vigila", "version": version, "rules": defs}}, "results": results}}})
}

// ruleID is what findings of a rulebook's rule are called.
func ruleID(name string) string { return rulePrefix + name }

const rulePrefix = "rule:"

type junitCase struct {
	Name    string `xml:"name,attr"`
	Class   string `xml:"classname,attr"`
	Failure *struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	} `xml:"failure,omitempty"`
	Output string `xml:"system-out,omitempty"`
}

// JUnit writes a report as test results: a case for everything that was checked, failed when anything is wrong with it, and one for
// each mistake in a file that belongs to none of them. Warnings are in the case's output.
func (r *Report) JUnit(w io.Writer) error {
	texts, warnings := map[string][]string{}, map[string][]string{}
	checked := slices.Clone(r.checked)
	for _, f := range r.found {
		of := f.of
		if of == "" {
			of = f.File
		}
		if !slices.Contains(checked, of) {
			checked = append(checked, of)
		}
		text := fmt.Sprintf("%s:%d: %s", f.File, f.Line, f.Text)
		if f.Mend != "" {
			text += ". " + f.Mend
		}
		if f.Level == Warning {
			warnings[of] = append(warnings[of], text)
		} else {
			texts[of] = append(texts[of], text)
		}
	}
	var cases []junitCase
	for _, name := range checked {
		c := junitCase{Name: name, Class: "vigila.check", Output: strings.Join(warnings[name], "\n")}
		if all := texts[name]; len(all) > 0 {
			c.Failure = &struct {
				Message string `xml:"message,attr"`
				Text    string `xml:",chardata"`
			}{all[0], strings.Join(all, "\n")}
		}
		cases = append(cases, c)
	}
	out := struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Cases    []junitCase `xml:"testcase"`
	}{Name: "vigila check", Tests: len(cases), Failures: len(texts), Cases: cases}
	b, err := xml.MarshalIndent(out, "", "  ")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "%s%s\n", xml.Header, b)
	return err
}
