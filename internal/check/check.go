// Package check parses, renders and validates everything in a directory without service or cluster, as it would be
// done before a merge. Start with Dir.
package check

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/follow"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/kit"
	"vigila.dev/vigila/internal/core/lane"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/versions"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// Options say what is checked against what.
type Options struct {
	Schema  *Schema        // of a cluster; nil checks no fields
	Cluster render.Cluster // that charts and templates are rendered for
	// Elsewhere are wards that are declared elsewhere, so that others may wait for them.
	Elsewhere []string
	Now       time.Time // when exceptions are looked at
}

// Dir checks a directory: every file of Vigila's own, every ward declared in it with its values, and everything that no
// ward takes: overlays, charts, templates and plain manifests.
func Dir(ctx context.Context, tree render.Tree, root string, opts Options) (*Report, error) {
	files, err := tree.Files(root, func(string) bool { return true })
	if err != nil {
		return nil, err
	}
	r := &Report{Findings: []Finding{}, hashes: map[string]string{}, about: map[Finding]string{}}
	c := &checker{ctx: ctx, tree: tree, opts: opts, out: r, seen: map[finding]bool{}, excepted: map[string]bool{}, unwarded: map[string][]object.Object{}, taken: map[string]bool{}, unused: map[render.Unused]int{}, laid: map[string]int{}}
	var wards, faulty []ward.Ward
	from := map[string]string{}
	labels := map[string]map[string]string{} // of declared clusters
	roots := map[string]bool{}               // directories that are an overlay, a chart or a template
	for _, f := range files {
		switch base := path.Base(f.Path); {
		case base == "kustomization.yaml" || base == "kustomization.yml" || base == "Kustomization" || base == "Chart.yaml":
			roots[dirOf(f.Path)] = true
		case base == "template.yaml" && render.IsTemplate(f.Data):
			roots[dirOf(f.Path)] = true
		}
	}
	c.kits = render.InKit(files)
	files = slices.DeleteFunc(files, func(f repo.File) bool {
		if c.kits(f.Path) {
			c.ofKits = append(c.ofKits, f)
			return true
		}
		return false
	})
	for d := range roots {
		if c.kits(d + "/") {
			delete(roots, d)
		}
	}
	var switched []repo.File
	for _, f := range files {
		if !render.Wanted(f.Path) {
			continue
		}
		r.Files++
		switch {
		case ward.IsRoster(f.Data):
			d, err := ward.ParseDeclared(ward.From{Repo: home, Ref: "main"}, f.Path, f.Data)
			c.add("ward", f.Path, err)
			for _, x := range d.Rosters {
				if x.From.Repo == home {
					c.rosters = append(c.rosters, roster.Of(roster.Roster{}, x))
				}
			}
			for _, x := range d.Clusters {
				labels[x.Name] = x.Labels
			}
			faulty = append(faulty, d.Faulty...)
			for _, w := range d.Wards {
				wards = append(wards, w)
				if first, twice := from[w.Name]; twice {
					c.add("ward", f.Path, &ward.Error{File: f.Path, Line: w.Line, Text: fmt.Sprintf("ward %s is declared twice; first in %s", w.Name, first)})
				}
				from[w.Name] = f.Path
			}
		case health.IsRules(f.Data):
			_, mistakes := health.ParseRules(f.Path, f.Data)
			c.add("ward", f.Path, errors.Join(mistakes...))
		case follow.Is(f.Data):
			_, err := follow.Parse(home, "main", f.Path, f.Data)
			c.add("ward", f.Path, err)
		case lane.Is(f.Data):
			_, err := lane.Parse(home, "main", f.Path, f.Data)
			c.add("ward", f.Path, err)
		case alert.Is(f.Data):
			_, err := alert.Parse(f.Path, f.Data)
			c.add("ward", f.Path, err)
		case grant.Is(f.Data):
			_, err := grant.Parse(f.Path, f.Data)
			c.add("ward", f.Path, err)
		case kit.Is(f.Data):
			c.kit(f)
		case kit.IsComponents(f.Data):
			switched = append(switched, f)
		case versions.Is(f.Data):
			_, err := versions.Parse(f.Path, f.Data)
			c.add("ward", f.Path, err)
		case ward.IsChecks(f.Data):
			checks, err := ward.ParseChecks(f.Path, f.Data)
			c.add("ward", f.Path, err)
			if err == nil {
				c.checks = append(c.checks, checks...)
			}
		}
	}
	c.common(root)
	c.labels = labels
	for _, f := range switched { // once every kit is known
		for _, w := range c.components(f, labels) {
			wards = append(wards, w)
			from[w.Name] = f.Path
		}
	}
	c.readBooks(root, files)
	c.cases(files)
	known, all := roster.Known{Clusters: labels}, slices.Concat(wards, faulty, beside(tree, root))
	for _, w := range faulty { // what it waits for can be told all the same
		c.of = "ward " + w.Name
		c.order(w, all, known)
	}
	for _, w := range wards {
		r.Wards++
		c.of = "ward " + w.Name
		r.checked = append(r.checked, c.of)
		c.limits(w, from[w.Name], labels)
		c.ward(w, from[w.Name])
		c.order(w, all, known)
	}
	c.circles(all, slices.Concat(wards, faulty))
	c.rest(files, roots)
	c.schema()
	c.of = ""
	c.rules(files)
	c.documents(files)
	for u, times := range c.unused {
		if times == c.laid[u.File] { // nobody who lays it over has any
			c.add("ward", u.File, &ward.Error{File: u.File, Line: u.Line, Text: fmt.Sprintf("it says the version of %s, and no ward that it is laid over has one", u.What)})
		}
	}
	slices.SortFunc(r.Findings, func(a, b Finding) int {
		if n := strings.Compare(a.File, b.File); n != 0 {
			return n
		}
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return strings.Compare(a.Text, b.Text)
	})
	return r, ctx.Err()
}

// home stands for the repository that is being checked.
const home = "here"

func dirOf(p string) string {
	if d := path.Dir(p); d != "." {
		return d
	}
	return ""
}

type checker struct {
	ctx   context.Context
	tree  render.Tree
	opts  Options
	out   *Report
	seen  map[finding]bool
	taken map[string]bool // paths that a ward takes
	of    string          // what is being checked
	made  []made          // everything that was rendered
	// rosters are those that are declared here, of files that are here.
	rosters  []roster.Roster
	labels   map[string]map[string]string // of declared clusters
	books    rulebooks
	excepted map[string]bool
	unwarded map[string][]object.Object // by directory
	kits     func(file string) bool     // it is part of a kit
	ofKits   []repo.File
	known    []*kit.Kit
	checks   []ward.Check          // of checks files, of which some hold for a ward
	unused   map[render.Unused]int // versions that mean nothing to so many,
	laid     map[string]int        // of so many that their files are laid over
}

// common reads the checks files that hold for every ward of the tree, where a directory of it is checked.
func (c *checker) common(root string) {
	if root == "" {
		return
	}
	files, err := c.tree.Files(render.RulesDir, render.Wanted)
	if err != nil {
		return // mostly there are none
	}
	for _, f := range files {
		if ward.IsChecks(f.Data) && !strings.HasPrefix(f.Path, root+"/") {
			if checks, err := ward.ParseChecks(f.Path, f.Data); err == nil {
				c.checks = append(c.checks, checks...)
			}
		}
	}
}

// shared are the checks files' checks that hold for a ward: those of its repository, of its roster, and with plain files its own.
func (c *checker) shared(w ward.Ward, file string) (out []ward.Check) {
	r := c.rosterOf(file)
	for _, x := range c.checks {
		common := strings.HasPrefix(x.File, render.RulesDir+"/")
		rosters := r.Name == "" || r.Path == "" || strings.HasPrefix(x.File, r.Path+"/")
		own := x.File == w.From.Path || strings.HasPrefix(x.File, w.From.Path+"/")
		if common || rosters || own {
			out = append(out, x)
		}
	}
	return out
}

// made is an object that was rendered, and what for.
type made struct {
	object.Object
	of string
}

// rosterOf is the roster whose files a ward's is among: the innermost; one without limits when there is none.
func (c *checker) rosterOf(file string) (out roster.Roster) {
	for _, r := range c.rosters {
		inside := r.Path == "" || file == r.Path || strings.HasPrefix(file, r.Path+"/")
		if inside && (out.Name == "" || len(r.Path) > len(out.Path)) {
			out = r
		}
	}
	return out
}

// limits holds a ward against what its roster lets it do.
func (c *checker) limits(w ward.Ward, file string, labels map[string]map[string]string) {
	r := c.rosterOf(file)
	no := func(err error) {
		if err != nil {
			c.add("ward", file, &ward.Error{File: file, Line: w.Line, Text: "it is more than its roster may: " + err.Error()})
		}
	}
	for _, name := range append([]string{w.From.Repo}, w.Reads()...) {
		no(r.MayRead(name))
	}
	known := roster.Known{Clusters: labels}
	if _, is := labels[w.Into.Cluster]; w.Into.Cluster != "" && !is {
		known.Clusters = map[string]map[string]string{w.Into.Cluster: nil}
	}
	for _, cluster := range known.Matching(w) {
		no(r.MayGo(w.For(cluster, known.Clusters[cluster]), cluster))
	}
}

var placed = regexp.MustCompile(`^([^\s:][^:\n]*):(\d+): (?s)(.*)$`)

// add notes mistakes, each with its own place.
func (c *checker) add(of, file string, err error) {
	if err == nil {
		return
	}
	if many, ok := err.(interface{ Unwrap() []error }); ok {
		for _, e := range many.Unwrap() {
			c.add(of, file, e)
		}
		return
	}
	f := Finding{File: file, Line: 1, Rule: of, Level: Error, Text: err.Error()}
	if m := placed.FindStringSubmatch(f.Text); m != nil {
		f.File, f.Text = m[1], m[3]
		f.Line, _ = strconv.Atoi(m[2])
	}
	c.tell(f)
}

// tell notes a finding.
func (c *checker) tell(f Finding) {
	for _, x := range []finding{{f, c.of}, {f, "any"}} { // what several wards take is told once, and fails each of them
		if c.seen[x] {
			continue
		}
		if c.seen[x] = true; x.of == "any" {
			c.out.Findings = append(c.out.Findings, f)
		} else {
			c.out.found = append(c.out.found, x)
		}
	}
}

// wrong notes a mistake in a ward file.
func (c *checker) wrong(w ward.Ward, line int, format string, args ...any) {
	c.add("ward", w.File, &ward.Error{File: w.File, Line: line, Text: fmt.Sprintf(format, args...)})
}

// order holds what a ward waits for against what there is.
func (c *checker) order(w ward.Ward, wards []ward.Ward, known roster.Known) {
	var names []string
	for _, x := range wards {
		names = append(names, x.Name)
	}
	for _, name := range w.After {
		i := slices.IndexFunc(wards, func(x ward.Ward) bool { return x.Name == name })
		switch {
		case slices.Contains(c.opts.Elsewhere, name):
		case i < 0:
			like := ""
			if best := nearest.Of(name, names); best != "" {
				like = "; did you mean " + best + "?"
			}
			c.wrong(w, w.LineOf("after"), "ward %s waits for %s, which this repository does not declare%s If another does: --elsewhere %s", w.Name, name, cmp.Or(like, "."), name)
		default:
			here, there := clusters(w, known), clusters(wards[i], known)
			for _, cluster := range here {
				if len(there) > 0 && !slices.Contains(there, cluster) {
					c.wrong(w, w.LineOf("after"), "ward %s waits for %s, which goes into %s and not into %s, so there it would wait for ever", w.Name, name, strings.Join(there, ", "), cluster)
				}
			}
		}
	}
}

// clusters are those that a ward is known to go into; none when that is not known here.
func clusters(w ward.Ward, known roster.Known) []string {
	if w.Into.Cluster != "" {
		return []string{w.Into.Cluster}
	}
	return known.Matching(w)
}

// beside are the wards that the tree declares outside the directory that is checked: those in it may wait for them.
func beside(tree render.Tree, root string) (out []ward.Ward) {
	if root == "" {
		return nil
	}
	files, err := tree.Files("", render.Wanted)
	if err != nil {
		return nil // it is too large to be read as a whole; what is elsewhere has to be named
	}
	for _, f := range files {
		if f.Path == root || strings.HasPrefix(f.Path, root+"/") || !ward.IsRoster(f.Data) {
			continue
		}
		d, _ := ward.ParseDeclared(ward.From{Repo: home, Ref: "main"}, f.Path, f.Data)
		out = append(out, d.Wards...)
	}
	return out
}

// circles finds wards that wait for each other, among all; those that are checked are told of.
func (c *checker) circles(all, wards []ward.Ward) {
	after := map[string][]string{}
	var names []string
	for _, w := range all {
		after[w.Name] = w.After
		names = append(names, w.Name)
	}
	for circle := roster.Cycle(after, names); len(circle) > 0; circle = roster.Cycle(after, names) {
		for _, w := range wards {
			if slices.Contains(circle, w.Name) && slices.ContainsFunc(after[w.Name], func(x string) bool { return slices.Contains(circle, x) }) {
				c.of = "ward " + w.Name
				c.wrong(w, w.LineOf("after"), "%s", roster.Cycled(circle))
			}
		}
		for _, name := range circle { // and what else there may be
			after[name] = slices.DeleteFunc(slices.Clone(after[name]), func(x string) bool { return slices.Contains(circle, x) })
		}
	}
}

// rules tells of health rules that judge nothing that is declared here. A kind that comes from elsewhere is not known.
func (c *checker) rules(files []repo.File) {
	for _, f := range files {
		if !health.IsRules(f.Data) {
			continue
		}
		rules, mistakes := health.ParseRules(f.Path, f.Data)
		for _, r := range rules {
			if len(mistakes) == 0 && !slices.ContainsFunc(c.made, func(o made) bool { return o.Ref.Group == r.Group && o.Ref.Kind == r.Kind }) {
				c.add("ward", f.Path, fmt.Errorf("%s: this health rule is for %s, and nothing here is one", path.Join(dirOf(f.Path), r.At), r.Kind))
			}
		}
	}
}

// schema holds everything that was rendered against what the cluster and the objects themselves define.
func (c *checker) schema() {
	if c.opts.Schema == nil {
		return
	}
	var all []object.Object
	for _, o := range c.made {
		all = append(all, o.Object)
	}
	c.add("schema", "", c.opts.Schema.Define(all))
	for _, o := range c.made {
		c.of = o.of
		for _, text := range c.opts.Schema.Validate(o.Object) {
			c.add("schema", o.File, &object.SyntaxError{File: o.File, Line: o.Line, Text: o.Ref.Short() + ": " + text})
		}
	}
}

// ward renders what a ward of this repository declares, as each of its set blocks has it.
func (c *checker) ward(w ward.Ward, file string) {
	if w.From.Chart.Name != "" {
		return // it is elsewhere
	}
	p, err := c.tree.Hash(w.From.Path)
	if w.From.Repo != home && (err != nil || p == "") {
		return // of another repository
	}
	forms := []ward.Ward{w}
	for _, s := range w.Set {
		forms = append(forms, w.For(s.Cluster, s.Labels))
	}
	for _, one := range forms {
		c.taken[one.From.Path] = true
		if slices.ContainsFunc(slices.Concat(one.From.ValuesIn, one.From.Versions), func(v ward.ValuesFile) bool { return v.Repo != "" && v.Repo != home && v.Repo != one.From.Repo }) {
			continue
		}
		// Where only some clusters' blocks say which namespace, what none of them is meant for may be nowhere.
		somewhere := one.Into.Namespace != "" || !slices.ContainsFunc(w.Set, func(s ward.Set) bool { return s.Namespace != "" })
		c.render(w, one, file, somewhere, c.rosterOf(file))
	}
	var refs []object.Ref
	declared := canary.Declared{}
	for _, o := range c.made {
		if o.of == c.of {
			refs = append(refs, o.Ref)
			declared[o.Ref] = o.Object
		}
	}
	shared := c.shared(w, file)
	c.add("ward", w.File, ward.Twice(shared))
	for _, x := range w.Canary {
		if text := w.NoCheck(x, shared); text != "" {
			c.wrong(w, x.Line, "%s", text)
		}
	}
	for _, m := range canary.Mistakes(w, declared) {
		if len(refs) > 0 {
			c.wrong(w, m.Canary.Line, "%s", m.Text)
		}
	}
	for _, l := range w.Idle(refs) {
		if len(refs) > 0 {
			c.wrong(w, l.Line, "leave means %s, and ward %s declares nothing of that name", l.Of(), w.Name)
		}
	}
}

// render takes a ward of a roster the way to a cluster; with placed it has to be possible to apply what comes of it.
func (c *checker) render(whole, w ward.Ward, file string, placed bool, of roster.Roster) {
	cl := c.opts.Cluster
	if w.Into.Cluster != "" && cl.Name == "" {
		cl.Name = w.Into.Cluster
	}
	way := render.Pipeline{Scopes: render.KnownScopes, Rules: []render.Rule{func(_ ward.Ward, objects []object.Object) error { return of.Within(objects) }}}
	res, err := render.Render(c.ctx, render.Request{Ward: w, Cluster: cl, Tree: c.tree})
	c.add("render", file, err)
	for _, v := range w.From.Versions {
		c.laid[v.Path]++ // also where nothing came of it: what it would have is not known
	}
	if res == nil {
		return
	}
	c.out.Objects += len(res.Objects)
	for _, u := range res.Unused {
		c.unused[u]++
	}
	for _, o := range res.Objects {
		c.made = append(c.made, made{o, c.of})
	}
	objects, err := way.Place(w, res.Objects)
	if placed {
		c.add("render", file, err)
	}
	if !placed {
		objects = res.Objects
	}
	var own []rule.Document
	if w.File != "" {
		if data, err := c.tree.Read(w.File); err == nil {
			own, _ = render.WardDocument(w, w.File, string(data)) // it was read well
		}
	}
	var facts []rule.Facts
	for _, cl := range c.places(whole, w) {
		facts = append(facts, render.RuleFacts(w, of.Name, cl))
	}
	switch {
	case w.File != "":
		c.hold(c.rulesFor(file, w.From.Path), facts, objects, own)
	case c.out.Wards == 0: // what no ward takes is what others are made of, unless wards are declared elsewhere
		dir := path.Dir(file) // manifests of a directory belong together, mostly
		c.unwarded[dir] = append(c.unwarded[dir], objects...)
	}
}

// rest renders what no ward takes.
func (c *checker) rest(files []repo.File, roots map[string]bool) {
	below := func(p string, of map[string]bool) bool {
		for d := dirOf(p); ; d = dirOf(d) {
			if of[d] {
				return true
			}
			if d == "" {
				return false
			}
		}
	}
	var dirs []string
	for d := range roots {
		dirs = append(dirs, d)
	}
	slices.Sort(dirs)
	for _, d := range dirs {
		inside := d != "" && below(d, roots)
		if c.taken[d] || inside {
			continue
		}
		if data, err := c.tree.Read(path.Join(d, "Chart.yaml")); err == nil && strings.Contains(string(data), "type: library") {
			continue
		}
		if data, err := firstOf(c.tree, d); err == nil && strings.Contains(string(data), "kind: Component") {
			continue // it is part of overlays
		}
		c.of = d
		c.out.checked = append(c.out.checked, d)
		if data, err := c.tree.Read(path.Join(d, "template.yaml")); err == nil && render.IsTemplate(data) {
			c.add("render", d, render.ProbeTemplate(c.ctx, c.tree, d)) // without values nothing else can be said of it
			continue
		}
		c.loose(d)
	}
	for _, f := range files {
		if !render.Wanted(f.Path) || rule.Within(c.books.dirs, f.Path) || strings.HasPrefix(f.Path, render.RulesDir+"/") || below(f.Path, roots) || object.FirstKey(f.Data, "vigila", "") {
			continue
		}
		taken := c.taken[f.Path] || below(f.Path, c.taken)
		if taken || !looksLikeManifest(f.Data) {
			continue
		}
		c.of = f.Path
		c.out.checked = append(c.out.checked, f.Path)
		c.loose(f.Path)
	}
	for _, dir := range slices.Sorted(maps.Keys(c.unwarded)) {
		c.of = dir
		c.hold(c.rulesFor(dir+"/", dir), []rule.Facts{render.RuleFacts(ward.Ward{Settle: ward.Settle{Within: 5 * time.Minute, Otherwise: ward.GoBack}}, "", c.opts.Cluster)}, c.unwarded[dir], nil)
	}
}

// loose renders what no ward takes, as if one did.
func (c *checker) loose(path string) {
	w := ward.Ward{Name: "check", From: ward.From{Repo: home, Path: path}, Into: ward.Into{Namespace: "default"}}
	c.render(w, w, path, true, roster.Roster{})
}

func firstOf(tree render.Tree, d string) ([]byte, error) {
	for _, n := range []string{"kustomization.yaml", "kustomization.yml", "Kustomization"} {
		if b, err := tree.Read(path.Join(d, n)); err == nil {
			return b, nil
		}
	}
	return nil, repo.ErrNoPath
}

// looksLikeManifest: a YAML file that says neither apiVersion nor kind is somebody else's.
func looksLikeManifest(data []byte) bool {
	text := string(data)
	return strings.Contains(text, "apiVersion") || strings.Contains(text, "\nkind:") || strings.HasPrefix(text, "kind:")
}
