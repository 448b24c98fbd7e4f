package render

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/Masterminds/semver/v3"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/schema"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// chart is a loaded chart, of apiVersion v1 or v2 of the format.
type chart struct {
	meta   ChartMeta
	where  string // of its root, for messages: a path in the repository, or NAME-VERSION
	as     string // its name, or the alias that its parent gives it
	id     string // where its templates are known: parent/charts/name
	values map[string]any
	schema []byte
	files  []repo.File // below its root; templates, crds and all else
	subs   []*chart
}

// ChartMeta is Chart.yaml.
type ChartMeta struct {
	APIVersion   string            `json:"apiVersion"`
	Name         string            `json:"name"`
	Version      string            `json:"version"`
	KubeVersion  string            `json:"kubeVersion"`
	Description  string            `json:"description"`
	Type         string            `json:"type"`
	Keywords     []string          `json:"keywords"`
	Home         string            `json:"home"`
	Sources      []string          `json:"sources"`
	Dependencies []*ChartDepend    `json:"dependencies"`
	Maintainers  []map[string]any  `json:"maintainers"`
	Icon         string            `json:"icon"`
	AppVersion   string            `json:"appVersion"`
	Deprecated   bool              `json:"deprecated"`
	Annotations  map[string]string `json:"annotations"`
	IsRoot       bool              `json:"-"`
}

// ChartDepend is one dependency of a chart.
type ChartDepend struct {
	Name         string   `json:"name"`
	Version      string   `json:"version"`
	Repository   string   `json:"repository"`
	Condition    string   `json:"condition"`
	Tags         []string `json:"tags"`
	Alias        string   `json:"alias"`
	ImportValues []any    `json:"import-values"`
}

// Limits of a chart.
const (
	maxSubcharts = 200
	maxChartSize = 64 << 20
)

func renderChart(ctx context.Context, tree *reader, r Request, out *Result) error {
	in, err := values(tree, r, out)
	if err != nil {
		return err
	}
	own := in.all
	l := &chartLoader{tree: tree, request: r, out: out, given: in}
	var c *chart
	if f := r.Ward.From; f.Chart.Name != "" {
		if r.Chart == nil {
			return fmt.Errorf("chart %s comes from chart repository %s, which can't be read here", f.Chart.Name, f.Chart.Repo)
		}
		pack, err := r.Chart(f.Chart.Repo, f.Chart.Name, f.Chart.Version)
		if err != nil {
			return err
		}
		out.Inputs = append(out.Inputs, declared.Input{Repo: f.Chart.Repo, Path: f.Chart.Name + " " + f.Chart.Version, Hash: pack.Version + " " + pack.Digest})
		if c, err = l.packed(pack.Data, f.Chart.Name+"-"+pack.Version); err != nil {
			return err
		}
	} else {
		files, err := tree.Files(f.Path, func(string) bool { return true })
		if err != nil {
			return err
		}
		if c, err = l.load(below(files, f.Path), f.Path, 0); err != nil {
			return err
		}
	}
	out.Chart = strings.TrimSpace(c.meta.Name + " " + c.meta.Version)
	if c.meta.Type == "library" {
		return l.wrong(c, chartFile, "type", "this is a library chart: it only helps other charts and makes no objects of its own")
	}
	c.meta.IsRoot = true
	c.name("")
	all, err := l.settle(c, own)
	if err != nil {
		return err
	}
	if err := l.fits(c); err != nil {
		return err
	}
	out.Inputs = append(out.Inputs, r.Cluster.input())
	return l.render(ctx, c, all)
}

func (c Cluster) input() declared.Input {
	return declared.Input{Path: "cluster", Hash: chartFacts + object.Hash([]any{c.Version, strings.Join(c.APIs, " ")})}
}

// Versioned is the cluster's version as an input.
func (c Cluster) Versioned() declared.Input {
	return declared.Input{Path: "cluster", Hash: versionFacts + object.Hash([]any{c.Version})}
}

// What of a cluster went into a rendering: a chart sees its version and its APIs, a template its name and labels.
const (
	chartFacts    = "serves "
	templateFacts = "named "
	versionFacts  = "version "
)

// Hash is the hash of an input of the cluster, as it is now.
func (c Cluster) Hash(of string) string {
	switch {
	case strings.HasPrefix(of, templateFacts):
		return c.named().Hash
	case strings.HasPrefix(of, versionFacts):
		return c.Versioned().Hash
	}
	return c.input().Hash
}

func (c Cluster) named() declared.Input {
	return declared.Input{Path: "cluster", Hash: templateFacts + object.Hash([]any{c.Name, fmt.Sprint(c.Labels)})}
}

// below makes the paths of files relative to a directory.
func below(files []repo.File, dir string) []repo.File {
	out := make([]repo.File, len(files))
	for i, f := range files {
		out[i] = repo.File{Path: strings.TrimPrefix(strings.TrimPrefix(f.Path, dir), "/"), Data: f.Data}
	}
	return out
}

type chartLoader struct {
	tree    *reader
	request Request
	given   given
	out     *Result
	count   int
	size    int
}

func (l *chartLoader) wrong(c *chart, file, key, format string, args ...any) error {
	line := 1
	for _, f := range c.files {
		if f.Path == file && key != "" {
			for i, row := range strings.Split(string(f.Data), "\n") {
				if strings.HasPrefix(strings.TrimLeft(row, " -{"), strings.TrimLeft(key, " -{")) {
					line = i + 1
					break
				}
			}
		}
	}
	return &object.SyntaxError{File: path.Join(c.where, file), Line: line, Text: fmt.Sprintf(format, args...)}
}

// packed opens a packaged chart: gzip of tar, with one directory at its top.
func (l *chartLoader) packed(data []byte, where string) (*chart, error) {
	return l.unpack(data, where, 0)
}

func (l *chartLoader) unpack(data []byte, where string, depth int) (*chart, error) {
	bad := func(err error) error {
		return fmt.Errorf("chart %s is damaged: %w", where, err)
	}
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, bad(err)
	}
	var files []repo.File
	t := tar.NewReader(io.LimitReader(z, maxChartSize+1))
	total := 0
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, bad(err)
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if h.Size > int64(maxChartSize-total) || len(files) > 10_000 {
			return nil, fmt.Errorf("chart %s is larger than %d MiB or 10000 files", where, maxChartSize>>20)
		}
		b, err := io.ReadAll(t)
		if err != nil {
			return nil, bad(err)
		}
		total += len(b)
		name := strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(h.Name, "\\", "/")), "/")
		if _, rest, ok := strings.Cut(name, "/"); ok {
			files = append(files, repo.File{Path: rest, Data: b})
		}
	}
	slices.SortFunc(files, func(a, b repo.File) int { return strings.Compare(a.Path, b.Path) })
	return l.load(files, where, depth)
}

// load reads a chart of files below its root, with the charts in it.
func (l *chartLoader) load(files []repo.File, where string, depth int) (*chart, error) {
	if l.count++; l.count > maxSubcharts || depth > 20 {
		return nil, fmt.Errorf("%s: charts in charts in charts: more than %d, or deeper than 20", where, maxSubcharts)
	}
	c := &chart{where: where, values: map[string]any{}}
	c.files = ignored(files)
	subs := map[string][]repo.File{}
	var packs []repo.File
	rest := c.files[:0:0]
	for _, f := range c.files {
		if name, ok := strings.CutPrefix(f.Path, "charts/"); ok {
			dir, inner, nested := strings.Cut(name, "/")
			switch {
			case nested && !strings.HasPrefix(dir, "_") && !strings.HasPrefix(dir, "."):
				subs[dir] = append(subs[dir], repo.File{Path: inner, Data: f.Data})
			case !nested && strings.HasSuffix(dir, ".tgz"):
				packs = append(packs, f)
			}
			continue
		}
		if l.size += len(f.Data); l.size > maxChartSize {
			return nil, fmt.Errorf("chart %s is larger than %d MiB", where, maxChartSize>>20)
		}
		rest = append(rest, f)
	}
	c.files = rest
	var requirements, lockless []byte
	for _, f := range c.files {
		switch f.Path {
		case chartFile:
			lockless = f.Data
			if _, err := object.DecodeFile(path.Join(where, f.Path), f.Data); err != nil {
				return nil, err
			}
			if err := yaml.Unmarshal(f.Data, &c.meta); err != nil {
				return nil, l.wrong(c, chartFile, "", "this is not valid: %v", err)
			}
		case "values.yaml":
			v, err := object.DecodeFile(path.Join(where, f.Path), f.Data)
			if err != nil {
				return nil, err
			}
			m, ok := v.(map[string]any)
			if v != nil && !ok {
				return nil, l.wrong(c, f.Path, "", "a file of values must be a mapping")
			}
			c.values = asFloats(m).(map[string]any)
		case "values.schema.json":
			c.schema = f.Data
		case "requirements.yaml":
			requirements = f.Data
		}
	}
	if lockless == nil {
		return nil, fmt.Errorf("%s holds no %s, so it is no chart", where, chartFile)
	}
	if c.meta.Name == "" || c.meta.Version == "" {
		return nil, l.wrong(c, chartFile, "", "a chart needs name and version")
	}
	if requirements != nil && len(c.meta.Dependencies) == 0 { // apiVersion v1
		var old struct {
			Dependencies []*ChartDepend `json:"dependencies"`
		}
		if err := yaml.Unmarshal(requirements, &old); err != nil {
			return nil, l.wrong(c, "requirements.yaml", "", "this is not valid: %v", err)
		}
		c.meta.Dependencies = old.Dependencies
	}
	c.as = c.meta.Name
	for _, dir := range sortedKeys(subs) {
		if !slices.ContainsFunc(subs[dir], func(f repo.File) bool { return f.Path == chartFile }) {
			continue
		}
		sub, err := l.load(subs[dir], path.Join(where, "charts", dir), depth+1)
		if err != nil {
			return nil, err
		}
		c.subs = append(c.subs, sub)
	}
	for _, f := range packs {
		sub, err := l.unpack(f.Data, path.Join(where, f.Path), depth+1)
		if err != nil {
			return nil, err
		}
		c.subs = append(c.subs, sub)
	}
	return c, l.depend(c, depth)
}

// depend brings in what a chart depends on, and gives it the names that the chart asks for.
func (l *chartLoader) depend(c *chart, depth int) error {
	have := c.subs
	var named []*chart
	used := map[*chart]bool{}
	for _, d := range c.meta.Dependencies {
		if d == nil || d.Name == "" {
			return l.wrong(c, chartFile, "dependencies", "a dependency has no name")
		}
		var found *chart
		for _, s := range have {
			if s.meta.Name == d.Name && versionFits(d.Version, s.meta.Version) {
				found = s
				break
			}
		}
		if found == nil {
			if i := slices.IndexFunc(have, func(s *chart) bool { return s.meta.Name == d.Name }); i >= 0 {
				return l.wrong(c, chartFile, "- name: "+d.Name, "it depends on %s %s, but %s holds version %s", d.Name, d.Version, have[i].where, have[i].meta.Version)
			}
			var err error
			if found, err = l.fetch(c, d, depth); err != nil {
				return err
			}
		}
		used[found] = true
		one := *found
		if d.Alias != "" {
			one.as = d.Alias
		}
		named = append(named, &one)
	}
	for _, s := range have {
		if !used[s] {
			named = append(named, s)
		}
	}
	c.subs = named
	seen := map[string]bool{}
	for _, s := range named {
		if seen[s.as] {
			return l.wrong(c, chartFile, "dependencies", "two charts in it are called %s; give one of them an alias", s.as)
		}
		seen[s.as] = true
	}
	return nil
}

func (l *chartLoader) fetch(c *chart, d *ChartDepend, depth int) (*chart, error) {
	if rel, ok := strings.CutPrefix(d.Repository, "file://"); ok && l.request.Tree != nil {
		at := path.Join(c.where, rel)
		if strings.HasPrefix(at, "..") {
			return nil, l.wrong(c, chartFile, "- name: "+d.Name, "its dependency %s leaves the repository: %s", d.Name, d.Repository)
		}
		files, err := l.tree.Files(at, func(string) bool { return true })
		if err != nil {
			return nil, l.wrong(c, chartFile, "- name: "+d.Name, "its dependency %s is not at %s: %v", d.Name, at, err)
		}
		return l.load(below(files, at), at, depth+1)
	}
	if l.request.Depend == nil || d.Repository == "" {
		return nil, l.wrong(c, chartFile, "- name: "+d.Name, "it depends on %s %s, which is not in its charts directory; put it there", d.Name, d.Version)
	}
	pack, err := l.request.Depend(d.Repository, d.Name, d.Version)
	if err != nil {
		return nil, l.wrong(c, chartFile, "- name: "+d.Name, "it depends on %s %s: %v", d.Name, d.Version, err)
	}
	l.out.Inputs = append(l.out.Inputs, declared.Input{Repo: d.Repository, Path: d.Name + " " + d.Version, Hash: pack.Version + " " + pack.Digest})
	return l.unpack(pack.Data, d.Name+"-"+pack.Version, depth+1)
}

func versionFits(want, have string) bool {
	if want == "" {
		return true
	}
	c, err := semver.NewConstraint(want)
	if err != nil {
		return want == have
	}
	v, err := semver.NewVersion(have)
	return err == nil && c.Check(v)
}

// name gives a chart and those in it the names that their templates are known by.
func (c *chart) name(parent string) {
	if c.id = c.as; parent != "" {
		c.id = parent + "/charts/" + c.as
	}
	for _, s := range c.subs {
		s.name(c.id)
	}
}

// settle drops the charts that are switched off, and works out the values of every chart.
func (l *chartLoader) settle(c *chart, own map[string]any) (map[string]any, error) {
	own, _ = asFloats(own).(map[string]any)
	l.enable(c, coalesce(c, own))
	if err := l.imports(c); err != nil {
		return nil, err
	}
	all := coalesce(c, own)
	return all, l.validate(c, all)
}

// enable drops sub-charts whose condition or tags say so. A condition wins over tags; without either, a chart is on.
func (l *chartLoader) enable(c *chart, vals map[string]any) {
	tags, _ := vals["tags"].(map[string]any)
	l.enableBelow(c, vals, tags)
}

func (l *chartLoader) enableBelow(c *chart, vals, tags map[string]any) {
	off := map[string]bool{}
	for _, d := range c.meta.Dependencies {
		name := d.Name
		if d.Alias != "" {
			name = d.Alias
		}
		on, tagged := true, false
		for _, t := range d.Tags {
			if v, ok := tags[t].(bool); ok {
				if !tagged {
					on, tagged = false, true
				}
				on = on || v
			}
		}
		for _, cond := range strings.Split(d.Condition, ",") {
			if v, ok := at(vals, strings.Split(strings.TrimSpace(cond), ".")).(bool); ok {
				on = v
				break
			}
		}
		off[name] = !on
	}
	c.subs = slices.DeleteFunc(c.subs, func(s *chart) bool { return off[s.as] })
	for _, s := range c.subs {
		sub, _ := vals[s.as].(map[string]any)
		l.enableBelow(s, sub, tags)
	}
}

func at(v any, keys []string) any {
	for _, k := range keys {
		m, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = m[k]
	}
	return v
}

// imports lifts the values that a chart imports from those in it into its own; the innermost first.
func (l *chartLoader) imports(c *chart) error {
	for _, s := range c.subs {
		if err := l.imports(s); err != nil {
			return err
		}
	}
	for _, d := range c.meta.Dependencies {
		name := d.Name
		if d.Alias != "" {
			name = d.Alias
		}
		i := slices.IndexFunc(c.subs, func(s *chart) bool { return s.as == name })
		if i < 0 {
			continue
		}
		vals := coalesce(c, nil)
		sub, _ := vals[name].(map[string]any)
		for _, item := range d.ImportValues {
			from, to := "", ""
			switch x := item.(type) {
			case string:
				from, to = "exports."+x, "."
			case map[string]any:
				from, _ = x["child"].(string)
				to, _ = x["parent"].(string)
			}
			if from == "" || to == "" {
				return l.wrong(c, chartFile, "import-values", "import-values of %s: write a name, or child: and parent:", name)
			}
			got, ok := at(sub, strings.Split(from, ".")).(map[string]any)
			if !ok {
				continue
			}
			if to != "." {
				keys := strings.Split(to, ".")
				for _, k := range slices.Backward(keys) {
					got = map[string]any{k: got}
				}
			}
			c.values = ward.Merge(c.values, got)
		}
	}
	return nil
}

// coalesce lays values over those of a chart and, below their names, over those of the charts in it. A null takes a
// value of the chart away; what is below "global" is seen by all of them.
func coalesce(c *chart, vals map[string]any) map[string]any {
	out := over(c.values, vals)
	global, _ := out["global"].(map[string]any)
	for _, s := range c.subs {
		sub, ok := out[s.as].(map[string]any)
		if !ok {
			sub = map[string]any{}
		}
		if len(global) > 0 {
			below, _ := sub["global"].(map[string]any)
			with := map[string]any{}
			for k, v := range sub {
				with[k] = v
			}
			with["global"] = over(below, global)
			sub = with
		}
		out[s.as] = coalesce(s, sub)
		if m := out[s.as].(map[string]any); m["global"] == nil {
			m["global"] = map[string]any{}
		}
	}
	return out
}

func over(under, top map[string]any) map[string]any {
	out := make(map[string]any, len(under)+len(top))
	for k, v := range under {
		if v != nil {
			out[k] = v
		}
	}
	for k, v := range top {
		a, here := out[k].(map[string]any)
		b, there := v.(map[string]any)
		switch {
		case v == nil:
			delete(out, k)
		case here && there:
			out[k] = over(a, b)
		case there:
			out[k] = over(nil, b)
		default:
			out[k] = v
		}
	}
	return out
}

// asFloats makes every number a float64, as charts expect them to be.
func asFloats(v any) any {
	switch x := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(x))
		for k, y := range x {
			out[k] = asFloats(y)
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i, y := range x {
			out[i] = asFloats(y)
		}
		return out
	case int64:
		return float64(x)
	case int:
		return float64(x)
	case nil:
		return nil
	}
	return v
}

// validate holds the values of every chart against its values.schema.json.
func (l *chartLoader) validate(c *chart, vals map[string]any) error {
	return l.validateBelow(c, vals, nil)
}

func (l *chartLoader) validateBelow(c *chart, vals map[string]any, below []string) error {
	var errs []error
	if c.schema != nil {
		errs = append(errs, l.given.fit(path.Join(c.where, "values.schema.json"), c.schema, vals, "chart "+c.as, below))
	}
	for _, s := range c.subs {
		sub, _ := vals[s.as].(map[string]any)
		errs = append(errs, l.validateBelow(s, sub, append(below[:len(below):len(below)], s.as)))
	}
	return errors.Join(errs...)
}

// fit holds values against a JSON Schema, each mistake at the place where the value is written. below is where a sub-chart's values
// stand among all.
func (g given) fit(file string, text []byte, vals any, what string, below []string) error {
	shape, err := schema.Read(text)
	if err != nil {
		return &object.SyntaxError{File: file, Line: 1, Text: err.Error()}
	}
	mistakes, err := shape.Mistakes(vals, what)
	errs := []error{err}
	for _, m := range mistakes {
		full := append(below[:len(below):len(below)], m.At...)
		e := &object.SyntaxError{File: file, Line: 1, Text: "value " + strings.Join(full, ".") + m.Text}
		for ; len(full) > 0; full = full[:len(full)-1] { // what is missing is so in what stands above it
			if f, line, ok := g.place(full); ok {
				e.File, e.Line = f, line
				break
			}
		}
		switch {
		case len(full) > 0:
		case g.ward.File == "":
			e.Text += ", for ward " + g.ward.Name
		case len(g.ward.From.Values) > 0 || len(g.files) == 0:
			e.File, e.Line = g.ward.File, g.ward.LineOf("from")
		}
		errs = append(errs, e)
	}
	return errors.Join(errs...)
}

// suits tells whether a cluster's version is one that a chart takes.
func suits(want, runs string) (bool, error) {
	con, err := semver.NewConstraint(want)
	if err != nil {
		return false, err
	}
	v, err := semver.NewVersion(runs)
	if err != nil {
		return false, err
	}
	plain, _ := v.SetPrerelease("") // providers write theirs as v1.35.0-gke.1, which no plain range takes
	plain, _ = plain.SetMetadata("")
	return con.Check(v) || con.Check(&plain), nil
}

// OpenedChart is what a packaged chart says of itself.
type OpenedChart struct {
	Wants  string         // the versions of Kubernetes that it takes; all when empty
	Values map[string]any // its own
	Schema map[string]any // of its values; nil when it has none
}

// OpenChart reads a packaged chart without what it depends on. what names it.
func OpenChart(data []byte, what string) (*OpenedChart, error) {
	c, err := (&chartLoader{out: &Result{}}).packed(data, what)
	if err != nil {
		return nil, err
	}
	out := &OpenedChart{Wants: c.meta.KubeVersion, Values: c.values}
	if c.schema != nil {
		if err := json.Unmarshal(c.schema, &out.Schema); err != nil {
			return nil, fmt.Errorf("the schema of chart %s can't be read: %w", what, err)
		}
	}
	return out, nil
}

// Suits tells whether the chart takes a version of Kubernetes; what can't be read is told when it is rendered.
func (c *OpenedChart) Suits(runs string) bool {
	if c.Wants == "" {
		return true
	}
	ok, err := suits(c.Wants, runs)
	return ok || err != nil
}

// fits holds what the charts ask of the cluster against what it has.
func (l *chartLoader) fits(c *chart) error {
	var errs []error
	if want := c.meta.KubeVersion; want != "" && l.request.Cluster.Version != "" {
		if _, err := semver.NewConstraint(want); err != nil {
			return l.wrong(c, chartFile, "kubeVersion", "kubeVersion %q can't be read: %v", want, err)
		}
		ok, err := suits(want, l.request.Cluster.Version)
		if err != nil {
			return fmt.Errorf("the version of cluster %s, %q, can't be read: %w", l.request.Cluster.Name, l.request.Cluster.Version, err)
		}
		if !ok {
			errs = append(errs, l.wrong(c, chartFile, "kubeVersion", "chart %s %s wants Kubernetes %s; cluster %s has %s", c.meta.Name, c.meta.Version, want, l.request.Cluster.Name, l.request.Cluster.Version))
		}
	}
	for _, s := range c.subs {
		errs = append(errs, l.fits(s))
	}
	return errors.Join(errs...)
}

// ignored leaves out what the chart's own ignore file names. Format: one pattern a line as of path.Match, "!" keeps,
// a trailing slash means directories, a leading one the root.
func ignored(files []repo.File) []repo.File {
	i := slices.IndexFunc(files, func(f repo.File) bool { return f.Path == ".helmignore" })
	if i < 0 {
		return files
	}
	type rule struct {
		pattern        string
		not, dir, root bool
	}
	var rules []rule
	for _, row := range strings.Split(string(files[i].Data), "\n") {
		row = strings.TrimSpace(row)
		if row == "" || row[0] == '#' {
			continue
		}
		r := rule{}
		row, r.not = strings.CutPrefix(row, "!")
		row, r.dir = strings.CutSuffix(row, "/")
		row, r.root = strings.CutPrefix(row, "/")
		r.root = r.root || strings.Contains(row, "/")
		r.pattern = row
		rules = append(rules, r)
	}
	drop := func(p string, dir bool) bool {
		out := false
		for _, r := range rules {
			name := p
			if !r.root {
				name = path.Base(p)
			}
			if ok, _ := path.Match(r.pattern, name); ok && (dir || !r.dir) {
				out = !r.not
			}
		}
		return out
	}
	var out []repo.File
	for _, f := range files {
		gone := drop(f.Path, false)
		for d := path.Dir(f.Path); d != "." && !gone; d = path.Dir(d) {
			gone = drop(d, true)
		}
		if !gone || f.Path == chartFile || f.Path == "values.yaml" {
			out = append(out, f)
		}
	}
	return out
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}
