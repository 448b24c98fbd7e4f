package roster

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/follow"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/kit"
	"vigila.dev/vigila/internal/core/lane"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/ward"
)

// File is one file below a roster's path.
type File struct {
	Path string
	Data []byte
}

// Ward is a ward as one of the roster's files has it.
type Ward struct {
	ward.Ward
	Text string // as written
	File string
}

// Problem is one thing that a roster can't take from its files.
type Problem struct {
	File string
	Line int
	Text string
	Ward string // that it is about; its last good declaration stays in force
	// Limit: it was read well, and is more than the roster may.
	Limit bool
}

// At is the problem with its place.
func (p Problem) At() string { return fmt.Sprintf("%s:%d: %s", p.File, p.Line, p.Text) }

// Files is what the files of a roster declare.
type Files struct {
	Wards    []Ward
	Clusters []ward.Cluster
	Repos    []ward.Repo
	Rosters  []ward.Roster
	Stores   []ward.Store
	Rules    []declared.File
	Follows  []follow.Rule
	Lanes    []lane.Lane
	Alerts   []alert.Rule
	Teams    []grant.Team
	Kits     []*kit.Kit
	Places   []kit.Components  // where kits that are switched are on or off
	Count    int               // of files that declare anything
	Broken   map[string]string // files that can't be read, and why
	where    map[string]string // what is declared beside wards, to its file
}

// Where is the file that declares a cluster, a repository or a roster.
func (f *Files) Where(kind, name string) string { return f.where[kind+" "+name] }

// Read reads what the files of a roster declare; rulesDir is where health, checks and rulebook files hold for every ward of the repository anyway. kept
// are the roster's wards: where the file of one is no declaration any more, that is a slip and no removal.
func Read(r Roster, files []File, rulesDir string, kept []Kept) (*Files, []Problem) {
	out := &Files{where: map[string]string{}, Broken: map[string]string{}}
	var problems []Problem
	not := map[string]bool{} // files that declare nothing
	books := rulebooks(files)
	kits := kitDirs(files)
	var switched []File
	for _, f := range files {
		if kit.Within(kits, f.Path) {
			not[f.Path] = true
			continue
		}
		not[f.Path] = !ward.IsRoster(f.Data)
		if !strings.HasPrefix(f.Path, rulesDir+"/") && (health.IsRules(f.Data) || ward.IsChecks(f.Data) || rule.Within(books, f.Path) && !ward.IsRoster(f.Data)) {
			out.Rules = append(out.Rules, declared.File{Path: f.Path, Text: string(f.Data)})
			continue
		}
		if follow.Is(f.Data) {
			out.Count++
			rules, err := follow.Parse(r.Repo, r.Ref, f.Path, f.Data)
			if err != nil {
				out.Broken[f.Path] = err.Error()
				problems = append(problems, Places(f.Path, err)...)
			}
			out.Follows = append(out.Follows, rules...)
			continue
		}
		if alert.Is(f.Data) {
			out.Count++
			alerts, err := alert.Parse(f.Path, f.Data)
			if err != nil {
				out.Broken[f.Path] = err.Error()
				problems = append(problems, Places(f.Path, err)...)
			}
			out.Alerts = append(out.Alerts, alerts...)
			continue
		}
		if grant.Is(f.Data) {
			out.Count++
			teams, err := grant.Parse(f.Path, f.Data)
			if err == nil && !r.Teams {
				err = &object.SyntaxError{File: f.Path, Line: 1, Text: "teams are declared here, and nobody has let roster " + r.Name + " do that: vigila roster add " + r.Name + " … --teams"}
			}
			if err != nil {
				out.Broken[f.Path] = err.Error()
				problems = append(problems, Places(f.Path, err)...)
				continue
			}
			out.Teams = append(out.Teams, teams...)
			continue
		}
		if kit.Is(f.Data) {
			out.Count++
			k, err := kit.Parse(f.Path, f.Data)
			if err != nil {
				out.Broken[f.Path] = err.Error()
				problems = append(problems, Places(f.Path, err)...)
				continue
			}
			out.Kits = append(out.Kits, k)
			continue
		}
		if not[f.Path] = not[f.Path] && !kit.IsComponents(f.Data); kit.IsComponents(f.Data) {
			out.Count++
			switched = append(switched, f)
			continue
		}
		if lane.Is(f.Data) {
			out.Count++
			lanes, err := lane.Parse(r.Repo, r.Ref, f.Path, f.Data)
			if err != nil {
				out.Broken[f.Path] = err.Error()
				problems = append(problems, Places(f.Path, err)...)
			}
			out.Lanes = append(out.Lanes, lanes...)
			continue
		}
		if not[f.Path] {
			continue
		}
		out.Count++
		d, err := ward.ParseDeclared(r.Home(), f.Path, f.Data)
		if err != nil {
			out.Broken[f.Path] = err.Error()
			problems = append(problems, Places(f.Path, err)...)
			continue
		}
		out.take(f.Path, d)
	}
	for _, f := range switched { // once every kit is known
		problems = append(problems, out.components(r, f)...)
	}
	for _, k := range kept {
		if not[k.Source] && out.Broken[k.Source] == "" {
			text := "its first key is not vigila: " + ward.Version + " any more; to stop keeping ward " + k.Name + ", take the file away"
			out.Broken[k.Source] = k.Source + ":1: " + text
			problems = append(problems, Problem{File: k.Source, Line: 1, Text: text})
		}
	}
	return out, append(problems, out.limit(r)...)
}

// kitDirs are the directories of kits.
func kitDirs(files []File) []string {
	all := make([]kit.File, len(files))
	for i, f := range files {
		all[i] = kit.File(f)
	}
	return kit.Dirs(all)
}

// components takes the wards of the components that a file switches on. Those that have a mistake stay as they were.
func (f *Files) components(r Roster, file File) (problems []Problem) {
	no := func(err error) {
		if err != nil {
			f.Broken[file.Path] = err.Error()
			problems = append(problems, Places(file.Path, err)...)
		}
	}
	all, err := kit.ParseComponents(file.Path, file.Data)
	no(err)
	for _, c := range all {
		f.Places = append(f.Places, c)
		made, err := c.Wards(f.Kits)
		no(err)
		for _, w := range made {
			d, err := ward.ParseDeclared(r.Home(), file.Path, w.Text)
			if err != nil || len(d.Wards) != 1 {
				no(&object.SyntaxError{File: file.Path, Line: w.Line, Text: fmt.Sprintf("what kit %s says of its ward: %v", strings.TrimSuffix(w.Name, "-"+c.Name), err)})
				continue
			}
			d.Wards[0].Line, d.Wards[0].Keys = w.Line, nil
			f.take(file.Path, d)
		}
	}
	return problems
}

// Fit holds the components that are on against the labels of the clusters that are known: what a kit is not for is not taken from the files, and what was
// there before stays as it was.
func (f *Files) Fit(labels map[string]map[string]string) (problems []Problem) {
	for _, c := range f.Places {
		wrong := c.Misfits(f.Kits, labels)
		for _, name := range slices.Sorted(maps.Keys(wrong)) {
			err := wrong[name]
			f.Broken[c.File] = err.Error()
			problems = append(problems, Places(c.File, err)...)
			f.Wards = slices.DeleteFunc(f.Wards, func(w Ward) bool { return w.File == c.File && w.Name == kit.WardName(name, c.Name) })
		}
	}
	return problems
}

// rulebooks are the directories that are one.
func rulebooks(files []File) []string {
	all := make([]rule.File, len(files))
	for i, f := range files {
		all[i] = rule.File(f)
	}
	return rule.Dirs(all)
}

func (f *Files) take(file string, d ward.Declared) {
	for i, w := range d.Wards {
		f.Wards = append(f.Wards, Ward{w, strings.TrimLeft(d.Texts[i], "\n"), file})
	}
	for _, c := range d.Clusters {
		f.where["cluster "+c.Name] = file
	}
	for _, r := range d.Repos {
		f.where["repo "+r.Name] = file
	}
	for _, r := range d.Rosters {
		f.where["roster "+r.Name] = file
	}
	for _, s := range d.Stores {
		f.where["store "+s.Name] = file
	}
	f.Clusters, f.Repos, f.Rosters, f.Stores = append(f.Clusters, d.Clusters...), append(f.Repos, d.Repos...), append(f.Rosters, d.Rosters...), append(f.Stores, d.Stores...)
}

// limit leaves a roster with limits its wards alone.
func (f *Files) limit(r Roster) (problems []Problem) {
	if !r.Limits.Any() {
		return nil
	}
	no := func(kind, word, name string, line int) {
		problems = append(problems, Problem{File: f.Where(kind, name), Line: line,
			Text: fmt.Sprintf("roster %s has limits, so it may declare wards alone, not %s %s", r.Name, word, name)})
	}
	for _, c := range f.Clusters {
		no("cluster", "cluster", c.Name, c.Line)
	}
	for _, x := range f.Repos {
		no("repo", "repository", x.Name, x.Line)
	}
	for _, x := range f.Rosters {
		no("roster", "roster", x.Name, x.Line)
	}
	for _, x := range f.Stores {
		no("store", "store", x.Name, x.Line)
	}
	f.Clusters, f.Repos, f.Rosters, f.Stores = nil, nil, nil, nil
	return problems
}

// Places splits joined mistakes into their places.
func Places(file string, err error) []Problem {
	var out []Problem
	var walk func(err error)
	walk = func(err error) {
		if many, ok := err.(interface{ Unwrap() []error }); ok {
			for _, e := range many.Unwrap() {
				walk(e)
			}
			return
		}
		p := Problem{File: file, Line: 1, Text: err.Error()}
		var bad *ward.Error
		var elsewhere *object.SyntaxError
		if errors.As(err, &bad) {
			p.Line, p.Text = bad.Line, bad.Text
		} else if errors.As(err, &elsewhere) { // it may be of another file, such as a rulebook
			p.File, p.Line, p.Text = elsewhere.File, elsewhere.Line, elsewhere.Text
		} else if rest, ok := strings.CutPrefix(p.Text, file+":"); ok {
			if _, scanErr := fmt.Sscanf(rest, "%d:", &p.Line); scanErr == nil {
				_, p.Text, _ = strings.Cut(rest, ": ")
			}
		}
		out = append(out, p)
	}
	walk(err)
	return out
}

// Plan is what there is to do with the wards of a roster's files, in their order, one of a name.
func (f *Files) Plan(r Roster, n Known, cycle []string) (take []Ward, problems []Problem) {
	first := map[string]string{}
	for _, w := range f.Wards {
		no := func(x Refusal) {
			problems = append(problems, Problem{File: w.File, Line: w.Line, Text: x.Text, Ward: w.Name, Limit: x.Limit})
		}
		if at, twice := first[w.Name]; twice {
			no(Refusal{Text: fmt.Sprintf("ward %s is declared twice; first in %s", w.Name, at)})
			continue
		}
		first[w.Name] = w.File
		if x := n.Refuses(r, w.Ward, cycle); x != nil {
			no(*x)
			continue
		}
		take = append(take, w)
	}
	return take, problems
}

// Standing is what of a roster's problems a ward has to say: that its file can't be read, or that it is more than its roster may.
// Both "" when neither.
func (f *Files) Standing(of Kept, problems []Problem) (misfiled, limited string) {
	misfiled = f.Broken[of.Source]
	for _, p := range problems {
		switch {
		case p.Ward != of.Name:
		case p.Limit && limited == "":
			limited = p.At()
		case !p.Limit && misfiled == "":
			misfiled = p.At()
		}
	}
	return misfiled, limited
}
