// Package reading reads what a ward declares: trees and charts, rendered, placed and held against the limits of its roster. What was rendered
// once is not rendered again while what it was made of is the same. Start with Ward.
package reading

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync/atomic"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// Ward is whose declaration is read, and from what.
type Ward struct {
	ID     string
	Ward   *ward.Ward // nobody changes it
	File   string     // its text
	Source string     // where that is, in the roster's repository; "" when a person registered it
	Roster string     // that declares it; "" when a person registered it
	Limits roster.Limits

	Main *sources.Loop // its own repository
	Deps

	inputs  atomic.Pointer[[]declared.Input] // what its declaration is made of
	overrun atomic.Pointer[overrun]          // the last rendering, when it took too much
}

// Deps are what a reading goes through.
type Deps struct {
	*Common
	Cluster Cluster
	Keeps   func() int // how many objects the ward keeps
	Log     *slog.Logger
}

// Common is what the readings of all wards go through.
type Common struct {
	House   House
	Cache   Cache
	Service string
	Mask    compare.Mask
	Render  func(context.Context, render.Request) (*render.Result, error)
	Counts  func() // a rendering, not from the cache
}

// House is what is known beside the ward.
type House interface {
	Source(name string) (*sources.Loop, error)
	ChartsAt(address string) *sources.Loop // the known chart repository at an address; nil when there is none
	RosterNow(name string) (roster.Roster, bool)
	RosterRules(name string) []repo.File // the health rules of a roster
	PutSnapshot(ctx context.Context, all []declared.Whole) (string, error)
}

// Cluster is what a reading may know of the ward's cluster.
type Cluster interface {
	Name() string
	Labels() map[string]string
	// Namespaces are those that objects may be kept in: that Vigila can look into, and that are declared for the cluster; all when empty.
	Namespaces() (only, may []string)
	Down() error                                                             // why there is no connection to it; nil when there is one
	Facts(ctx context.Context) (facts render.Cluster, whole bool, err error) // whole: all of its APIs are among them
	Namespaced(object.Object) (bool, error)
}

// Cache is what the record keeps of readings.
type Cache interface {
	Rendered(ctx context.Context, key string, into any) error
	PutRendered(ctx context.Context, key string, what any) error
	Declaration(ctx context.Context, id, key string, into any) error
	PutDeclaration(ctx context.Context, id, key string, what any) error
}

// TryNow lets be tried at once what took too much before: a person wants it.
func (w *Ward) TryNow() { w.overrun.Store(&overrun{}) }

// Read reads what the repository declares at a ref. While its inputs are the same, nothing is rendered. elsewhere is called
// before another process renders it.
func (w *Ward) Read(ctx context.Context, ref string, old *declared.Declaration, elsewhere func()) (*declared.Declaration, error) {
	d, err := w.read(ctx, ref, old, elsewhere)
	if err == nil && ref == w.Ward.From.Ref {
		w.inputs.Store(&d.Inputs)
	}
	return d, err
}

func (w *Ward) read(ctx context.Context, ref string, old *declared.Declaration, elsewhere func()) (*declared.Declaration, error) {
	r := w.reads(ctx, ref)
	r.elsewhere = elsewhere
	return r.declared(old)
}

// Instead is what is read in place of branches: commits, by repository and ref.
type Instead map[[2]string]string

// Would reads what the ward would declare if branches were at other commits. Nothing of it is taken for what is declared.
func (w *Ward) Would(ctx context.Context, instead Instead) (*declared.Declaration, error) {
	r := w.reads(ctx, w.Ward.From.Ref)
	r.elsewhere, r.instead = func() {}, instead
	return r.declared(nil)
}

func (r *reader) declared(old *declared.Declaration) (*declared.Declaration, error) {
	w, ctx, ref := r.of, r.ctx, r.ref
	main, err := r.main()
	if errors.Is(err, repo.ErrEmpty) {
		return &declared.Declaration{Waits: fmt.Sprintf("waits for the first commit on %s in %s", ref, w.Ward.From.Repo)}, nil
	}
	if err != nil {
		return nil, err
	}
	if old != nil && old.Waits == "" && len(old.Inputs) > 0 {
		if same, err := r.same(old); err == nil && same {
			out := *old
			if main != nil {
				out.Head, out.Tag = main.head.ID, main.head.Tag
			}
			return &out, nil
		}
	}
	res, err := r.rendered(main)
	if err != nil {
		return nil, err
	}
	rev, err := r.revision(main, res)
	if err != nil {
		return nil, err
	}
	d := &declared.Declaration{Revision: rev, Inputs: res.Inputs, Form: res.Form, Chart: res.Chart, Notes: res.Notes, Scaled: map[object.Ref]string{}}
	if err := r.rules(d, main); err != nil {
		return nil, err
	}
	if len(res.Objects) == 0 && w.Keeps() == 0 {
		d.Waits = fmt.Sprintf("waits for a first object below %q in %s; there are no manifests yet", w.Ward.From.Path, w.Ward.From.Repo)
	}
	objects, err := w.placed(res)
	if err != nil {
		return nil, err
	}
	if err := r.judge(d, objects, old); err != nil {
		return nil, err
	}
	if d.Waits != "" {
		return d, nil
	}
	if err := w.keepDeclared(ctx, d, objects); err != nil {
		return nil, err
	}
	if ref != w.Ward.From.Ref || r.instead != nil { // somebody asked for another revision, once
		return d, nil
	}
	return d, w.store(ctx, d)
}

// rules reads the health rules, the checks and the rulebooks that hold for the ward: its roster's, those of its repository, and with plain files its
// own.
func (r *reader) rules(d *declared.Declaration, main *at) (err error) {
	w, files := r.of, r.of.House.RosterRules(r.of.Roster)
	if main != nil {
		d.Head, d.Tag = main.head.ID, main.head.Tag
		hash, err := main.tree.Hash(render.RulesDir)
		if err != nil {
			return err
		}
		d.Inputs = append(d.Inputs, declared.Input{Repo: w.Ward.From.Repo, Path: render.RulesDir, Hash: hash})
		if hash != "" {
			common, err := main.tree.Files(render.RulesDir, render.Wanted)
			if err != nil {
				return err
			}
			files = append(files, common...)
		}
		if d.Form == render.PlainForm {
			own, err := main.tree.Files(w.Ward.From.Path, render.Wanted)
			if err != nil {
				return err
			}
			for _, f := range own {
				if !slices.ContainsFunc(files, func(x repo.File) bool { return x.Path == f.Path }) {
					files = append(files, f)
				}
			}
		}
	}
	book := render.InRulebook(files)
	for _, f := range files {
		if render.IsShared(f.Data) || book(f.Path) {
			d.Files = append(d.Files, declared.File{Path: f.Path, Text: string(f.Data)})
		}
	}
	d.Rules, d.Checks, err = render.Shared(files)
	return err
}

// judge holds what is declared, and the ward's own file, against the rulebooks that hold for it.
func (r *reader) judge(d *declared.Declaration, objects []object.Object, old *declared.Declaration) error {
	w := r.of
	var files []repo.File
	for _, f := range d.Files {
		files = append(files, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	set, err := render.Rulebooks(files)
	if err != nil {
		return err
	}
	facts, _, err := w.Cluster.Facts(r.ctx)
	if err != nil {
		return err
	}
	own, err := render.WardDocument(*w.Ward, w.Source, w.File)
	if err != nil {
		return err
	}
	known := render.RuleFacts(*w.Ward, w.Roster, facts)
	d.Judged = object.Hash([]any{rule.OwnHash(), fmt.Sprint(d.Files), known.Ward, known.Cluster})
	var before []rule.Before
	if old != nil && old.Judged != "" && old.Judged == d.Judged { // cost follows the change
		refs := make([]object.Ref, len(old.Objects))
		for i, o := range old.Objects {
			refs[i] = o.Ref
		}
		before = append(before, rule.Before{Findings: old.Findings, Refs: refs, Same: func(o object.Object) bool {
			was := old.Find(o.Ref)
			return was != nil && was.Hash == w.hash(o)
		}})
	}
	d.Findings = set.Judge(known, objects, own, before...)
	if slices.ContainsFunc(d.Findings, func(f rule.Finding) bool { return f.Cut }) { // of what comes after it nothing is known, so nothing is known to be as it was
		d.Judged = ""
	}
	for i := range d.Findings { // a rule's message may quote what it looks at
		d.Findings[i].Text = secret.Conceal("", d.Findings[i].Text, w.Mask)
	}
	rule.Tell(d.Findings)
	if len(set.Books) > 0 { // what is removed from the next version is known by the version
		d.Inputs = append(d.Inputs, facts.Versioned())
	}
	return nil
}

// placed are the objects of a rendering as they are applied: in their namespaces, with the ward's mark, and within its limits.
func (w *Ward) placed(res *render.Result) ([]object.Object, error) {
	if err := w.Cluster.Down(); err != nil {
		return nil, err
	}
	way := render.Pipeline{Service: w.Service, Scopes: w.Cluster.Namespaced, Rules: []render.Rule{w.within}}
	objects, err := way.Place(*w.Ward, res.Objects)
	var beyond *BeyondLimits
	if err != nil && res.Chart != "" && !errors.As(err, &beyond) {
		err = fmt.Errorf("chart %s can't be applied to cluster %s: %w", res.Chart, w.Cluster.Name(), err)
	}
	return objects, err
}

// keepDeclared keeps declared objects as a snapshot, and what follows from them in the declaration.
func (w *Ward) keepDeclared(ctx context.Context, d *declared.Declaration, objects []object.Object) (err error) {
	kept := make([]declared.Whole, len(objects))
	for i, o := range objects {
		turn, err := o.Turn()
		if err != nil {
			return err
		}
		kept[i] = declared.Whole{Object: o, Hash: w.hash(o), Step: turn.Step}
		if scaled, ok := cluster.ScaleTarget(o.Body); ok {
			d.Scaled[scaled] = o.Ref.Short()
		}
	}
	if d.Snapshot, err = w.House.PutSnapshot(ctx, kept); err != nil {
		return err
	}
	d.Take(declared.Of(kept))
	return nil
}

// within holds what is declared to what the ward's roster, and its cluster, let it do.
func (w *Ward) within(_ ward.Ward, objects []object.Object) error {
	if err := (roster.Roster{Name: w.Roster, Limits: w.Limits}).Within(objects); err != nil {
		return &BeyondLimits{err}
	}
	only, may := w.Cluster.Namespaces()
	for _, x := range []struct {
		in  []string
		why string
	}{{may, "the namespaces that are declared for cluster %s (namespaces of its cluster/v1)"}, {only, "the namespaces that Vigila may look into in cluster %s (--only-namespace)"}} {
		if err := roster.Outside(x.in, fmt.Sprintf(x.why, w.Cluster.Name()), objects); err != nil {
			return &BeyondLimits{err}
		}
	}
	return nil
}

// BeyondLimits tells that what is declared was read, and is more than the ward's roster, or its cluster, lets it do.
type BeyondLimits struct{ error }

// hash is the declared object's, with what is left to others; of a Secret a keyed one, since even a plain hash
// tells something.
func (w *Ward) hash(o object.Object) string {
	h := object.Hash(o.Body)
	if left := w.Ward.Left(o.Ref); len(left) > 0 {
		texts := make([]string, len(left))
		for i, l := range left {
			texts[i] = l.String()
		}
		h = object.Hash([]any{h, strings.Join(texts, " ")})
	}
	if o.Ref.Secret() {
		return "keyed " + w.Mask(h)
	}
	return h
}
