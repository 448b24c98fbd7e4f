package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// Every is how often the ward wants its repositories to be looked at.
func (p *placement) Every() time.Duration { return p.Ward.Keep.Every }

// WasRead is told after a look at one of the ward's repositories that found something new, or went wrong, or can't
// tell whether anything is new.
func (p *placement) WasRead(name string, a standing.AsOf) {
	p.Hears().Told.Add(1)
	p.post(loop.WasRead{Name: name, AsOf: a})
}

// IsSame is told after a look at a repository that found nothing new for this ward.
func (p *placement) IsSame(name string, a standing.AsOf) { p.post(loop.WasSame{Name: name, AsOf: a}) }

// declare reads what the repository declares at a ref. While its inputs are the same, nothing is rendered. elsewhere is called
// before another process renders it.
func (p *placement) declare(ctx context.Context, ref string, old *declared.Declaration, elsewhere func()) (*declared.Declaration, error) {
	r := p.reads(ctx, ref)
	r.elsewhere = elsewhere
	main, err := r.main()
	if errors.Is(err, repo.ErrEmpty) {
		return &declared.Declaration{Waits: fmt.Sprintf("waits for the first commit on %s in %s", ref, p.Ward.From.Repo)}, nil
	}
	if err != nil {
		return nil, err
	}
	if old != nil && old.Waits == "" && len(old.Inputs) > 0 {
		if same, err := r.same(old); err == nil && same {
			out := *old
			if main != nil {
				out.Head = main.head.ID
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
	if len(res.Objects) == 0 && p.View().Kept == 0 {
		d.Waits = fmt.Sprintf("waits for a first object below %q in %s; there are no manifests yet", p.Ward.From.Path, p.Ward.From.Repo)
	}
	objects, err := p.placed(res)
	if err != nil {
		return nil, err
	}
	if d.Waits != "" {
		return d, nil
	}
	if err := p.keepDeclared(ctx, d, objects); err != nil {
		return nil, err
	}
	if ref != p.Ward.From.Ref { // somebody asked for another revision, once
		return d, nil
	}
	return d, p.storeDeclaration(ctx, d)
}

// rules reads the health rules that hold for the ward: its roster's, those of its repository, and with plain files its own.
func (r *reader) rules(d *declared.Declaration, main *at) (err error) {
	p, files := r.p, r.p.rosterRules()
	if main != nil {
		d.Head = main.head.ID
		hash, err := main.tree.Hash(render.RulesDir)
		if err != nil {
			return err
		}
		d.Inputs = append(d.Inputs, declared.Input{Repo: p.Ward.From.Repo, Path: render.RulesDir, Hash: hash})
		if hash != "" {
			common, err := main.tree.Files(render.RulesDir, render.Wanted)
			if err != nil {
				return err
			}
			files = append(files, common...)
		}
		if d.Form == render.PlainForm {
			own, err := main.tree.Files(p.Ward.From.Path, render.Wanted)
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
	for _, f := range files {
		if health.IsRules(f.Data) {
			d.Files = append(d.Files, declared.File{Path: f.Path, Text: string(f.Data)})
		}
	}
	d.Rules, err = render.Rules(files)
	return err
}

// placed are the objects of a rendering as they are applied: in their namespaces, with the ward's mark, and within its limits.
func (p *placement) placed(res *render.Result) ([]object.Object, error) {
	if p.cluster.conn == nil {
		return nil, p.cluster.err
	}
	way := render.Pipeline{Service: p.Service, Scopes: p.cluster.conn.Namespaced, Rules: []render.Rule{p.within}}
	objects, err := way.Place(p.Ward, res.Objects)
	var beyond *beyondLimits
	if err != nil && res.Chart != "" && !errors.As(err, &beyond) {
		err = fmt.Errorf("chart %s can't be applied to cluster %s: %w", res.Chart, p.cluster.conf.Name, err)
	}
	return objects, err
}

// keepDeclared keeps declared objects as a snapshot, and what follows from them in the declaration.
func (p *placement) keepDeclared(ctx context.Context, d *declared.Declaration, objects []object.Object) (err error) {
	kept := make([]declared.Whole, len(objects))
	for i, o := range objects {
		turn, err := o.Turn()
		if err != nil {
			return err
		}
		kept[i] = declared.Whole{Object: o, Hash: p.hash(o), Step: turn.Step}
		if scaled, ok := cluster.ScaleTarget(o.Body); ok {
			d.Scaled[scaled] = o.Ref.Short()
		}
	}
	if d.Snapshot, err = p.k.putSnapshot(ctx, kept); err != nil {
		return err
	}
	d.Take(declared.Of(kept))
	return nil
}

// within holds what is declared to what the ward's roster lets it do.
func (p *placement) within(_ ward.Ward, objects []object.Object) error {
	if err := (roster.Roster{Name: p.Roster, Limits: p.limits}).Within(objects); err != nil {
		return &beyondLimits{err}
	}
	return nil
}

// beyondLimits tells that what is declared was read, and is more than the ward's roster lets it do.
type beyondLimits struct{ error }

// hash is the declared object's, with what is left to others; of a Secret a keyed one, since even a plain hash
// tells something.
func (p *placement) hash(o object.Object) string {
	h := object.Hash(o.Body)
	if left := p.Ward.Left(o.Ref); len(left) > 0 {
		texts := make([]string, len(left))
		for i, l := range left {
			texts[i] = l.String()
		}
		h = object.Hash([]any{h, strings.Join(texts, " ")})
	}
	if o.Ref.Secret() {
		return "keyed " + p.Mask(h)
	}
	return h
}
