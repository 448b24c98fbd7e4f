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
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// Every is how often the ward wants its repositories to be looked at.
func (p *placement) Every() time.Duration { return p.ward.Keep.Every }

// WasRead is told after a look at one of the ward's repositories that found something new, or went wrong, or can't
// tell whether anything is new.
func (p *placement) WasRead(name string, a standing.AsOf) {
	p.hears.told.Add(1)
	p.post(wasRead{name, a})
}

// IsSame is told after a look at a repository that found nothing new for this ward.
func (p *placement) IsSame(name string, a standing.AsOf) { p.post(wasSame{name, a}) }

func (p *placement) tookIn(ev wasRead) {
	p.taking++
	p.lookedElsewhere(ev.name, ev.asOf)
	if ev.name == p.ward.From.Repo {
		p.repository.Next = ev.asOf.Next
	}
	if ev.asOf.Known {
		p.render(ev.asOf)
		return
	}
	if !p.rendering {
		p.taken(p.taking)
	}
	p.repository.Known, p.repository.Problem = false, ev.asOf.Problem
	p.looked()
}

// taken notes that so many looks have been taken in.
func (p *placement) taken(n int64) {
	p.hears.taken.Add(n)
	p.taking -= n
}

func (p *placement) foundSame(ev wasSame) {
	p.lookedElsewhere(ev.name, ev.asOf)
	// What could not be rendered then may be now, and a chart may see more of the cluster than it did.
	if p.declared == nil || !p.repository.Known || p.declared.Form == render.ChartForm {
		p.repository.Next = ev.asOf.Next
		p.render(ev.asOf)
		return
	}
	if ev.name == p.ward.From.Repo {
		p.repository.At, p.repository.Next = ev.asOf.At, ev.asOf.Next
	}
}

// lookedElsewhere notes how one of the ward's other repositories is.
func (p *placement) lookedElsewhere(name string, a standing.AsOf) {
	if name != p.ward.From.Repo {
		p.others[name] = a
	}
}

// elsewhere is the first of the ward's other repositories that can't be read; "" when all can.
func (p *placement) elsewhere() string {
	for _, name := range p.ward.Reads() {
		if a, told := p.others[name]; told && !a.Known {
			return a.Problem
		}
	}
	return ""
}

func (p *placement) looked() {
	if p.rendering {
		return
	}
	for _, c := range p.looking {
		close(c)
	}
	p.looking = nil
}

// render has the ward's revision resolved and, when its tree is another, read and rendered; one at a time.
func (p *placement) render(a standing.AsOf) {
	if p.rendering {
		p.renderNext = true
		return
	}
	if p.rendering = true; p.renderFrom.IsZero() {
		p.renderFrom = p.at
		long := standing.ReadLong
		if !p.declared.Known() {
			long = standing.RenderLong
		}
		p.out(later{long, woken{}}) // by then it is said
	}
	old := p.declared
	if old == nil {
		old = p.stored
	}
	p.out(read{a, old, p.taking}) // what comes while it is rendered is taken in by the next rendering
}

// tookRendering takes in what was read.
func (p *placement) tookRendering(ev rendered) {
	p.rendering = false
	p.rendered(ev.asOf, ev.declared, ev.err)
	if ev.err == nil {
		p.renderFrom = time.Time{} // what is read next is another thing
	}
	if p.renderNext {
		p.taken(ev.told)
		p.renderNext = false
		p.render(ev.asOf)
	} else {
		p.renderFrom = time.Time{}
		p.taken(p.taking)
	}
	p.looked()
}

func (p *placement) rendered(a standing.AsOf, d *declared.Declaration, err error) {
	if p.ctx.Err() != nil {
		return
	}
	if err != nil {
		var gone *cluster.UnreachableError
		var beyond *beyondLimits
		if errors.As(err, &beyond) { // it was read well, and is not let in
			p.heldBack = err.Error()
			p.repository = standing.AsOf{Known: p.declared != nil, At: a.At, Next: p.repository.Next}
			return
		}
		p.heldBack = ""
		if errors.As(err, &gone) {
			p.repository.Known, p.repository.Problem = false, "its kinds can't be checked: "+err.Error()
			if p.cluster.conn != nil {
				p.out(later{rereadPause, readAgain{a}})
			}
		} else {
			p.repository.Known, p.repository.Problem = false, err.Error()
		}
		return
	}
	if p.declared == nil || p.declared.Revision.ID != d.Revision.ID {
		p.will.Failures = 0
	}
	d.Share(p.index.Baselines())
	p.declared, p.stored, p.heldBack = d, nil, ""
	p.moved++
	p.says.Store(d)
	if d.Files != nil || len(p.index.Rules) > 0 {
		p.setRules(d)
	}
	p.repository = standing.AsOf{Known: true, At: a.At, Next: p.repository.Next}
	if text := p.elsewhere(); text != "" {
		p.repository.Known, p.repository.Problem = false, text
	}
	p.inputs.Store(&d.Inputs)
	if p.cluster.conn != nil {
		for _, k := range d.Kinds {
			p.watchKind(k)
		}
		p.dropKinds()
	}
}

// setRules takes newly read health rules; what they say of objects is known with their next event, so those of their
// kinds are looked at again.
func (p *placement) setRules(d *declared.Declaration) {
	old := p.index.Rules
	p.index.Rules = d.Rules
	p.write(record.SetRules{Files: d.Files})
	for ref := range p.index.All() {
		k := [2]string{ref.Group, ref.Kind}
		if p.index.Known(ref) != nil && (old[k] != nil || d.Rules[k] != nil) {
			p.index.Judge(p.at, ref)
		}
	}
}

// rereadPause is how long it takes until what could not be checked against the cluster is read again.
const rereadPause = 2 * time.Second

// declare reads what the repository declares at a ref. While its inputs are the same, nothing is rendered. elsewhere is called
// before another process renders it.
func (p *placement) declare(ctx context.Context, ref string, old *declared.Declaration, elsewhere func()) (*declared.Declaration, error) {
	r := p.reads(ctx, ref)
	r.elsewhere = elsewhere
	main, err := r.main()
	if errors.Is(err, repo.ErrEmpty) {
		return &declared.Declaration{Waits: fmt.Sprintf("waits for the first commit on %s in %s", ref, p.ward.From.Repo)}, nil
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
		d.Waits = fmt.Sprintf("waits for a first object below %q in %s; there are no manifests yet", p.ward.From.Path, p.ward.From.Repo)
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
	if ref != p.ward.From.Ref { // somebody asked for another revision, once
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
		d.Inputs = append(d.Inputs, declared.Input{Repo: p.ward.From.Repo, Path: render.RulesDir, Hash: hash})
		if hash != "" {
			common, err := main.tree.Files(render.RulesDir, render.Wanted)
			if err != nil {
				return err
			}
			files = append(files, common...)
		}
		if d.Form == render.PlainForm {
			own, err := main.tree.Files(p.ward.From.Path, render.Wanted)
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
	way := render.Pipeline{Service: p.service, Scopes: p.cluster.conn.Namespaced, Rules: []render.Rule{p.within}}
	objects, err := way.Place(p.ward, res.Objects)
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
	if err := (roster.Roster{Name: p.roster, Limits: p.limits}).Within(objects); err != nil {
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
	if left := p.ward.Left(o.Ref); len(left) > 0 {
		texts := make([]string, len(left))
		for i, l := range left {
			texts[i] = l.String()
		}
		h = object.Hash([]any{h, strings.Join(texts, " ")})
	}
	if o.Ref.Secret() {
		return "keyed " + p.mask(h)
	}
	return h
}
