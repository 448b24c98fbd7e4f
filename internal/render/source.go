package render

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/glob"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// Tree is where files are read from: a repository at one commit (repo.Tree), or a folder (repo.Folder).
type Tree interface {
	Name() string
	Hash(path string) (string, error) // "" when nothing is there
	Read(path string) ([]byte, error)
	List(path string) ([]repo.Entry, error)
	Files(path string, want func(name string) bool) ([]repo.File, error)
}

// Package is a chart as a chart repository holds it.
type Package struct {
	Data    []byte // gzip of tar
	Version string
	Digest  string
}

// Cluster is what a rendering may know of the cluster that the objects are for.
type Cluster struct {
	Name    string
	Labels  map[string]string
	Version string   // such as v1.35.0; "" when it is not known
	APIs    []string // group/version, and group/version/Kind; the core group has no "group/"
}

// Request is what to render, and where to read it from.
type Request struct {
	Ward    ward.Ward // as it is in the cluster: see ward.For
	Cluster Cluster
	Tree    Tree                                              // of from.repo at from.ref; nil for a chart from a chart repository
	Other   func(repo, ref string) (Tree, error)              // of other repositories, for values
	Chart   func(repo, name, version string) (Package, error) // from a known chart repository
	Depend  func(url, name, version string) (Package, error)  // what a chart depends on, by the address it names
}

// The forms that files come in.
const (
	PlainForm    = declared.Plain
	OverlayForm  = declared.Overlay
	ChartForm    = declared.Chart
	TemplateForm = declared.Template
)

// Result is what a request declares.
type Result struct {
	Form    string
	Chart   string // name and version of a chart
	Objects []object.Object
	Inputs  []declared.Input
	Notes   []string // what was left out, and why
	Unused  []Unused // versions that versions files say of nothing here
}

// Limits of one rendering.
const (
	maxTime    = 30 * time.Second
	maxOutput  = 32 << 20 // bytes of text
	maxObjects = 50_000
)

// Render reads what a ward comes from and makes its objects. The same inputs give the same objects, byte for byte:
// nothing else is read, no environment, no network and no clock. Every mistake is an *object.SyntaxError, joined; with them come the
// objects that have none, so that these can be looked at too.
func Render(ctx context.Context, r Request) (*Result, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, maxTime, fmt.Errorf("rendering took longer than %s", maxTime))
	defer cancel()
	return renderOne(ctx, r)
}

func renderOne(ctx context.Context, r Request) (*Result, error) {
	if r.Tree == nil && r.Ward.From.Chart.Name == "" {
		return nil, errors.New("there is nothing to render: neither a tree nor a chart")
	}
	tree := &reader{Tree: r.Tree, seen: map[string]string{}}
	out := &Result{}
	laid, err := lay(tree, &r, out)
	if err != nil {
		return nil, err
	}
	form, err := formAt(tree, r)
	if err != nil {
		return nil, err
	}
	out.Form = form
	switch form {
	case OverlayForm:
		err = overlay(ctx, tree, r, out)
	case ChartForm:
		err = renderChart(ctx, tree, r, out)
	case TemplateForm:
		err = renderTemplate(ctx, tree, r, out)
	default:
		err = plainAt(tree, r, out)
	}
	if err != nil {
		return out, err
	}
	if len(out.Objects) > maxObjects {
		return nil, fmt.Errorf("%s declares %d objects; the most is %d", r.Ward.From.Path, len(out.Objects), maxObjects)
	}
	laid.over(out)
	if r.Tree != nil {
		out.Inputs = append(out.Inputs, tree.inputs()...)
	}
	return out, nil
}

// Overlays, charts and templates are known by these files.
var overlayFiles = []string{"kustomization.yaml", "kustomization.yml", "Kustomization"}

const (
	chartFile    = "Chart.yaml"
	templateFile = "template.yaml"
)

func formAt(tree *reader, r Request) (string, error) {
	f := r.Ward.From
	if f.Chart.Name != "" {
		return ChartForm, nil
	}
	form := PlainForm
	entries, err := tree.List(f.Path)
	if err != nil && !errors.Is(err, repo.ErrNoPath) {
		return "", err
	}
	for _, e := range entries {
		switch {
		case e.Dir:
		case slices.Contains(overlayFiles, e.Name):
			form = OverlayForm
		case e.Name == chartFile:
			form = ChartForm
		case e.Name == templateFile && form == PlainForm:
			if data, err := tree.Read(path.Join(f.Path, e.Name)); err == nil && IsTemplate(data) {
				form = TemplateForm
			}
		}
	}
	switch {
	case form == PlainForm && (len(f.Values) > 0 || len(f.ValuesIn) > 0):
		return "", fmt.Errorf("ward %s has values, but %s in %s holds neither a chart (%s) nor a template (%s); plain files take none", r.Ward.Name, pathOr(f.Path), tree.Name(), chartFile, templateFile)
	case form == OverlayForm && (len(f.Values) > 0 || len(f.ValuesIn) > 0):
		return "", fmt.Errorf("ward %s has values, but %s in %s is an overlay, which takes none; write a patch there", r.Ward.Name, pathOr(f.Path), tree.Name())
	case form != PlainForm && len(f.Include)+len(f.Exclude) > 0:
		return "", fmt.Errorf("ward %s has from.include or from.exclude, which choose plain files; %s in %s is %s %s", r.Ward.Name, pathOr(f.Path), tree.Name(), map[string]string{OverlayForm: "an", ChartForm: "a", TemplateForm: "a"}[form], form)
	}
	return form, nil
}

// IsPlain tells whether a path holds plain files, so that what they declare depends on nothing else.
func IsPlain(tree Tree, f ward.From) bool {
	if f.Chart.Name != "" || len(f.Values)+len(f.ValuesIn) > 0 {
		return false
	}
	form, err := formAt(&reader{Tree: tree, seen: map[string]string{}}, Request{Ward: ward.Ward{From: ward.From{Path: f.Path}}})
	return err == nil && form == PlainForm
}

func pathOr(p string) string {
	if p == "" {
		return "the root"
	}
	return p
}

func plainAt(tree *reader, r Request, out *Result) error {
	f := r.Ward.From
	files, err := tree.Files(f.Path, Wanted)
	if err != nil {
		return err
	}
	if len(f.Include)+len(f.Exclude) > 0 {
		files = slices.DeleteFunc(files, func(x repo.File) bool {
			rel := strings.TrimPrefix(strings.TrimPrefix(x.Path, f.Path), "/")
			return len(f.Include) > 0 && !anyGlob(f.Include, rel) || anyGlob(f.Exclude, rel)
		})
	}
	out.Objects, err = Plain(files)
	return err
}

// anyGlob matches a path below the ward's: a pattern without a slash is held against the file's name alone.
func anyGlob(patterns []string, rel string) bool {
	for _, p := range patterns {
		name := rel
		if !strings.Contains(p, "/") {
			name = path.Base(rel)
		}
		if glob.Match(strings.TrimPrefix(p, "/"), name) {
			return true
		}
	}
	return false
}

// reader notes what is read of a tree.
type reader struct {
	Tree
	mu   sync.Mutex
	seen map[string]string
}

func (t *reader) note(p string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if _, known := t.seen[p]; known {
		return nil
	}
	for dir := p; dir != "." && dir != ""; dir = path.Dir(dir) {
		if h, known := t.seen[dir]; known && h != "" {
			return nil // the hash of a directory holds for everything below it
		}
	}
	h, err := t.Tree.Hash(p)
	if err == nil {
		t.seen[p] = h
	}
	return err
}

func (t *reader) Hash(p string) (string, error) {
	if err := t.note(p); err != nil {
		return "", err
	}
	return t.Tree.Hash(p)
}

func (t *reader) Read(p string) ([]byte, error) {
	if err := t.note(p); err != nil {
		return nil, err
	}
	return t.Tree.Read(p)
}

func (t *reader) List(p string) ([]repo.Entry, error) {
	if err := t.note(p); err != nil {
		return nil, err
	}
	return t.Tree.List(p)
}

func (t *reader) Files(p string, want func(string) bool) ([]repo.File, error) {
	if err := t.note(p); err != nil {
		return nil, err
	}
	return t.Tree.Files(p, want)
}

// inputs lists what was read, without what lies below something else that was.
func (t *reader) inputs() []declared.Input {
	var out []declared.Input
	for p, h := range t.seen {
		below := false
		for dir := path.Dir(p); p != "" && !below; dir = path.Dir(dir) {
			if dir == "." {
				dir = ""
			}
			above, known := t.seen[dir]
			if below = known && above != ""; dir == "" {
				break
			}
		}
		if !below {
			out = append(out, declared.Input{Repo: t.Name(), Path: p, Hash: h})
		}
	}
	slices.SortFunc(out, func(a, b declared.Input) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// given are the values of a chart or a template, and where each is written.
type given struct {
	all   map[string]any
	ward  ward.Ward
	files []valuesText // each over the one before
}

type valuesText struct {
	at   string
	data []byte
}

// values reads the values of a chart or a template: each file over the one before, then those of the ward itself.
func values(tree *reader, r Request, out *Result) (given, error) {
	f := r.Ward.From
	g := given{all: map[string]any{}, ward: r.Ward}
	for _, v := range f.ValuesIn {
		data, at, err := otherFile(tree, r, v, "values", out)
		if err != nil {
			return g, err
		}
		one, err := object.DecodeFile(at, data)
		if err != nil {
			return g, err
		}
		m, ok := one.(map[string]any)
		if one != nil && !ok {
			return g, &object.SyntaxError{File: at, Line: 1, Text: "a file of values must be a mapping"}
		}
		g.all = ward.Merge(g.all, m)
		g.files = append(g.files, valuesText{at, data})
	}
	g.all = ward.Merge(g.all, f.Values)
	return g, nil
}

// place is where a value is written: in the ward file, else in the last file of values that has it; ok is false when nobody gives
// it, as with a chart's own values.
func (g given) place(of []string) (file string, line int, ok bool) {
	if line := g.ward.From.Places[strings.Join(of, ".")]; line > 0 && g.ward.File != "" {
		return g.ward.File, line, true
	}
	for _, f := range slices.Backward(g.files) {
		var root yaml.Node
		if yaml.Unmarshal(f.data, &root) != nil || len(root.Content) == 0 {
			continue
		}
		if line := lineBelow(root.Content[0], of); line > 0 {
			return f.at, line, true
		}
	}
	return "", 0, false
}

// lineBelow is the line of a key below a node, 0 when it is not there.
func lineBelow(n *yaml.Node, path []string) int {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		switch {
		case n.Content[i].Value != path[0]:
		case len(path) == 1:
			return n.Content[i].Line
		default:
			return lineBelow(n.Content[i+1], path[1:])
		}
	}
	return 0
}

// otherFile reads a file that a ward names beside its path; what says of what.
func otherFile(tree *reader, r Request, v ward.ValuesFile, what string, out *Result) (data []byte, at string, err error) {
	f := r.Ward.From
	if r.Tree != nil && (v.Repo == "" || v.Repo == f.Repo) && (v.Ref == "" || v.Ref == f.Ref) {
		data, err = tree.Read(v.Path)
	} else {
		if v.Repo == "" {
			v.Repo = f.Repo
		}
		if v.Ref == "" {
			v.Ref = "main"
		}
		var other Tree
		if r.Other == nil {
			return nil, "", fmt.Errorf("%s %s come from repository %s, which can't be read here", what, v.Path, v.Repo)
		}
		if other, err = r.Other(v.Repo, v.Ref); err != nil {
			return nil, "", fmt.Errorf("%s %s of ward %s: %w", what, v.Path, r.Ward.Name, err)
		}
		var hash string
		if hash, err = other.Hash(v.Path); err == nil {
			out.Inputs = append(out.Inputs, declared.Input{Repo: v.Repo, Ref: v.Ref, Path: v.Path, Hash: hash})
			data, err = other.Read(v.Path)
		}
	}
	if err != nil {
		return nil, "", fmt.Errorf("%s of ward %s: %w", what, r.Ward.Name, err)
	}
	return data, v.Path, nil
}

// collect adds objects; the second of one identity is a mistake.
func collect(objects []object.Object) ([]object.Object, error) {
	var errs []error
	at := map[object.Ref]object.Object{}
	out := make([]object.Object, 0, len(objects))
	for _, o := range objects {
		if first, twice := at[o.Ref]; twice {
			errs = append(errs, &object.SyntaxError{File: o.File, Line: o.Line, Text: fmt.Sprintf("%s is declared twice; first at %s", o.Ref, first.At())})
			continue
		}
		at[o.Ref] = o
		out = append(out, o)
	}
	return out, errors.Join(errs...)
}
