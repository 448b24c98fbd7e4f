package render

import (
	"cmp"
	"strings"
	"sync"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// OwnRules are Vigila's own rules, compiled when they are first asked for.
var OwnRules = sync.OnceValue(rule.Load)

// books are the rulebooks that were compiled last, by what they are made of: many wards have the same.
var books = struct {
	sync.Mutex
	sets map[string]*rule.Set
}{sets: map[string]*rule.Set{}}

// mostBooks is how many are kept; an installation has a few.
const mostBooks = 100

// Rulebooks compiles the rulebooks among some files; all else is passed over. Errors are those of rule.Compile.
func Rulebooks(files []repo.File) (*rule.Set, error) {
	all := make([]rule.File, len(files))
	for i, f := range files {
		all[i] = rule.File(f)
	}
	dirs := rule.Dirs(all)
	var of []any
	kept := all[:0]
	for _, f := range all {
		if rule.Within(dirs, f.Path) {
			of, kept = append(of, f.Path, string(f.Data)), append(kept, f)
		}
	}
	key := object.Hash(of)
	books.Lock()
	set := books.sets[key]
	books.Unlock()
	if set != nil {
		return set, nil
	}
	set, err := rule.Compile(kept, OwnRules())
	if err != nil {
		return nil, err
	}
	books.Lock()
	defer books.Unlock()
	if len(books.sets) >= mostBooks {
		clear(books.sets)
	}
	books.sets[key] = set
	return set, nil
}

// InRulebook tells which of some files belong to rulebooks, and so are no manifests.
func InRulebook(files []repo.File) func(path string) bool {
	var all []rule.File
	for _, f := range files {
		if rule.IsBook(f.Data) {
			all = append(all, rule.File(f))
		}
	}
	dirs := rule.Dirs(all)
	return func(path string) bool { return rule.Within(dirs, path) }
}

// RuleFacts is what rules may know beside an object: params.ward and params.cluster. roster is the one that declares the ward.
func RuleFacts(w ward.Ward, roster string, c Cluster) rule.Facts {
	labels := map[string]any{}
	for k, v := range c.Labels {
		labels[k] = v
	}
	return rule.Facts{
		Ward: map[string]any{"name": w.Name, "owner": w.Owner, "namespace": w.Into.Namespace, "roster": roster,
			"keep":   map[string]any{"sync": string(w.Keep.Sync), "drift": string(w.Keep.Drift), "prune": w.Keep.Prune, "additions": string(w.Keep.Additions)},
			"settle": map[string]any{"within": int64(w.Settle.Within.Seconds()), "otherwise": string(w.Settle.Otherwise)}},
		Cluster: map[string]any{"name": c.Name, "labels": labels, "version": cmp.Or(c.Version, "")},
	}
}

// Documents are the documents of a file of Vigila's own, as rules see them.
func Documents(file string, data []byte) (out []rule.Document, err error) {
	for _, doc := range object.Split(data) {
		body, err := object.DecodeYAML(file, doc)
		if err != nil {
			return nil, err
		}
		m, _ := body.(map[string]any)
		format, _ := m["vigila"].(string)
		line := doc.Line
		for _, row := range strings.SplitAfter(string(doc.Text), "\n") { // of its first row that is no comment
			if text := strings.TrimSpace(row); text != "" && !strings.HasPrefix(text, "#") && text != "---" {
				break
			}
			line++
		}
		d, err := rule.Described(format, m, file, line)
		if err != nil {
			return nil, &object.SyntaxError{File: file, Line: line, Text: err.Error()}
		}
		out = append(out, d)
	}
	return out, nil
}

// WardDocument is the document that declares a ward, as rules see it; text is that of its file, or of the part of it that is the ward's.
func WardDocument(w ward.Ward, file, text string) ([]rule.Document, error) {
	all, err := Documents(file, []byte(text))
	if err != nil {
		return nil, err
	}
	for _, d := range all {
		if d.Resource == "wards" && d.Ref.Name == w.Name {
			d.Line = max(w.Line, 1) // the text may begin at it
			return []rule.Document{d}, nil
		}
	}
	return nil, nil
}
