package check

import (
	"fmt"
	"path"
	"reflect"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// rulebooks are those of the tree, each with its directory.
type rulebooks struct {
	dirs  []string
	files []repo.File // that belong to any of them
}

// readBooks finds the rulebooks of the tree, also those that hold for what is checked and lie outside of it; the mistakes of those that are checked are
// told.
func (c *checker) readBooks(root string, files []repo.File) {
	all := files
	if root != "" {
		if around, err := c.tree.Files("", render.Wanted); err == nil {
			all = around
		}
	}
	in := make([]rule.File, len(all))
	for i, f := range all {
		in[i] = rule.File(f)
	}
	c.books.dirs = rule.Dirs(in)
	for _, f := range all {
		if rule.Within(c.books.dirs, f.Path) {
			c.books.files = append(c.books.files, f)
		}
	}
	// Books of one name may hold for different wards; each is compiled with what is in it.
	for _, dir := range c.books.dirs {
		if root != "" && dir != root && !strings.HasPrefix(dir, root+"/") {
			continue
		}
		set, err := render.Rulebooks(c.books.within([]string{dir}))
		c.add("ward", path.Join(dir, "rulebook.yaml"), err)
		if err != nil {
			continue
		}
		for _, e := range set.Ended(c.opts.Now) {
			c.tell(Finding{File: e.File, Line: e.Line, Rule: "ward", Level: Warning, Text: fmt.Sprintf("the exception of rule %s for %s ended on %s (%s: %s); take it out, or say until when it holds", e.Rule, e.Of, e.Day(), e.Owner, e.Why)})
		}
	}
}

// within are the files of some rulebooks.
func (b rulebooks) within(dirs []string) (out []repo.File) {
	for _, f := range b.files {
		if rule.Within(dirs, f.Path) {
			out = append(out, f)
		}
	}
	return out
}

// rulesFor is what holds for files of a path that a file declares: the rulebooks of the repository, those of its roster, and those among the
// files themselves. Those that can't be read are told of already.
func (c *checker) rulesFor(file, from string) *rule.Set {
	r := c.rosterOf(file)
	var dirs []string
	for _, d := range c.books.dirs {
		common := strings.HasPrefix(d+"/", render.RulesDir+"/")
		rosters := r.Name == "" || r.Path == "" || strings.HasPrefix(d+"/", r.Path+"/")
		own := d == from || strings.HasPrefix(d+"/", from+"/")
		if common || rosters || own {
			dirs = append(dirs, d)
		}
	}
	set, err := render.Rulebooks(c.books.within(dirs))
	if err != nil { // each by itself is told; together they may hold the same name twice
		if len(dirs) > 1 && !c.out.broken() {
			c.add("ward", file, err)
		}
		return nil
	}
	for _, h := range set.Rules() {
		if !slices.ContainsFunc(c.out.rules, func(x rule.Held) bool { return x.Name == h.Name && x.Book == h.Book }) {
			c.out.rules = append(c.out.rules, h)
		}
	}
	return set
}

// broken tells whether a rulebook was found to be wrong.
func (r *Report) broken() bool {
	return slices.ContainsFunc(r.Findings, func(f Finding) bool { return strings.HasSuffix(f.File, "/rulebook.yaml") })
}

// places are the clusters that a form of a ward is for, as far as they are known here: by name, with their labels. None when every cluster that
// the ward goes into has another form.
func (c *checker) places(w, form ward.Ward) (out []render.Cluster) {
	if c.opts.Cluster.Name != "" {
		return []render.Cluster{c.opts.Cluster}
	}
	known := clusters(w, roster.Known{Clusters: c.labels})
	for _, name := range known {
		if labels := c.labels[name]; reflect.DeepEqual(w.For(name, labels), form) {
			cl := c.opts.Cluster
			cl.Name, cl.Labels = name, labels
			out = append(out, cl)
		}
	}
	if len(known) == 0 { // where it goes is not known here
		cl := c.opts.Cluster
		cl.Name = form.Into.Cluster
		out = append(out, cl)
	}
	return out
}

// hold holds what a ward declares against the rules that are for it.
func (c *checker) hold(set *rule.Set, facts []rule.Facts, objects []object.Object, own []rule.Document) {
	if set == nil {
		return
	}
	for _, f := range facts {
		for _, x := range set.Judge(f, objects, own) {
			c.finding(x, objects)
		}
	}
}

// finding tells of something that breaks a rule. A refusal fails the check.
func (c *checker) finding(x rule.Finding, objects []object.Object) {
	if x.Except.Holds(c.opts.Now) {
		if key := fmt.Sprint(c.of, x.Ref, x.Rule, x.Text); !c.excepted[key] {
			c.excepted[key] = true
			c.out.Excepted++
		}
		return
	}
	f := Finding{File: x.File, Line: max(x.Line, 1), Rule: ruleID(x.Rule), Level: Warning, Text: x.Ref.Short() + ": " + x.Text, Mend: x.Mend}
	if x.Refuse {
		f.Level = Error
	}
	if !x.Unclear {
		f.Text += " (rule " + x.Rule + ")"
	}
	if x.Except != nil {
		f.Text += fmt.Sprintf("; its exception ended on %s (%s, %s: %s)", x.Except.Day(), x.Except.File, x.Except.Owner, x.Except.Why)
	}
	for _, o := range objects {
		if o.Ref == x.Ref {
			key := c.of + " " + o.Ref.Key()
			c.out.hashes[key], c.out.about[f] = object.Hash(o.Body), key
		}
	}
	c.tell(f)
}

// documents holds the files of Vigila's own that are no wards against the rules of where they lie.
func (c *checker) documents(files []repo.File) {
	c.of = ""
	for _, f := range files {
		if !render.Wanted(f.Path) || !object.FirstKey(f.Data, "vigila", "") || ward.IsFile(f.Data) || rule.IsCases(f.Data) {
			continue
		}
		own, err := render.Documents(f.Path, f.Data)
		if err != nil {
			continue // what reads it says so
		}
		own = slices.DeleteFunc(own, func(d rule.Document) bool { return d.Resource == "wards" }) // they are held with what they declare
		if set := c.rulesFor(f.Path, f.Path); set != nil && len(own) > 0 {
			for _, x := range set.Judge(render.RuleFacts(ward.Ward{}, c.rosterOf(f.Path).Name, c.opts.Cluster), nil, own) {
				c.finding(x, nil)
			}
		}
	}
}

// cases tries the cases that lie beside rules.
func (c *checker) cases(files []repo.File) {
	c.of = ""
	for _, dir := range c.books.dirs {
		var rules []*rule.Rule
		var cases []rule.Case
		for _, f := range files {
			if !rule.Within([]string{dir}, f.Path) {
				continue
			}
			if rule.IsCases(f.Data) {
				more, err := rule.ParseCases(f.Path, f.Data)
				c.add("ward", f.Path, err)
				cases = append(cases, more...)
			} else if !object.FirstKey(f.Data, "vigila", "") {
				more, err := rule.Parse(f.Path, f.Data)
				if err == nil { // else it is told already
					rules = append(rules, more...)
				}
			}
		}
		tried, err := rule.Test(rules, cases)
		c.add("ward", dir, err)
		for _, t := range tried {
			if t.Wrong != "" {
				c.add("ward", t.File, &object.SyntaxError{File: t.File, Line: t.Line, Text: fmt.Sprintf("case %q of rule %s: %s", t.Name, t.Rule, t.Wrong)})
			}
		}
	}
}
