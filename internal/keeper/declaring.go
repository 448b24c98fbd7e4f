package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// repoRead is told after a look at one of the ward's repositories that found something new, or went wrong, or can't
// tell whether anything is new.
func (p *placement) repoRead(name string, a AsOf) {
	p.reading.Add(1)
	p.post(func() {
		p.taking++
		p.lookedElsewhere(name, a)
		if !a.Known {
			if !p.rendering {
				p.taken()
			}
			p.repository.Known, p.repository.Problem = false, a.Problem
			if name == p.ward.From.Repo {
				p.repository.Next = a.Next
			}
			p.looked()
			return
		}
		if name == p.ward.From.Repo {
			p.repository.Next = a.Next
		}
		p.render(a)
	})
}

// taken notes that everything that was read so far has been taken in.
func (p *placement) taken() {
	p.reading.Add(-p.taking)
	p.taking = 0
}

// repoSame is told after a look at a repository that found nothing new for this ward.
func (p *placement) repoSame(name string, a AsOf) {
	p.post(func() {
		p.lookedElsewhere(name, a)
		// What could not be rendered then may be now, and a chart may see more of the cluster than it did.
		if p.declared == nil || !p.repository.Known || p.declared.form == render.ChartForm {
			p.repository.Next = a.Next
			p.render(a)
			return
		}
		if name == p.ward.From.Repo {
			p.repository.At, p.repository.Next = a.At, a.Next
		}
	})
}

// lookedElsewhere notes how one of the ward's other repositories is.
func (p *placement) lookedElsewhere(name string, a AsOf) {
	if name != p.ward.From.Repo {
		p.others[name] = a
	}
}

// elsewhere is the first of the ward's other repositories that can't be read; "" when all can.
func (p *placement) elsewhere() string {
	for _, name := range sources(p.ward) {
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

// render resolves the ward's revision and, when its tree is another, reads and renders it; beside the ward's
// goroutine, one at a time.
func (p *placement) render(a AsOf) {
	if p.rendering {
		p.renderNext = true
		return
	}
	p.rendering = true
	old := p.declared
	if old == nil {
		old = p.stored
	}
	p.k.spawn(func() {
		turn, err := p.k.renders.take(p.ctx, p.id)
		var d *declaration
		if err == nil {
			d, err = p.declare(p.ctx, p.ward.From.Ref, old)
			turn()
		}
		p.post(func() {
			p.rendering = false
			p.rendered(a, d, err)
			if p.renderNext {
				p.renderNext = false
				p.render(a)
			} else {
				p.taken()
			}
			p.looked()
		})
	})
}

func (p *placement) rendered(a AsOf, d *declaration, err error) {
	if p.ctx.Err() != nil {
		return
	}
	if err != nil {
		var gone *cluster.UnreachableError
		var beyond *beyondLimits
		if errors.As(err, &beyond) { // it was read well, and is not let in
			p.heldBack = err.Error()
			p.repository = AsOf{Known: p.declared != nil, At: a.At, Next: p.repository.Next}
			return
		}
		p.heldBack = ""
		if errors.As(err, &gone) {
			p.repository.Known, p.repository.Problem = false, "its kinds can't be checked: "+err.Error()
			if p.cluster.conn != nil {
				p.retryRender(a)
			}
		} else {
			p.repository.Known, p.repository.Problem = false, err.Error()
		}
		return
	}
	if p.declared == nil || p.declared.revision.ID != d.revision.ID {
		p.failures = 0
	}
	d.share(p.baselines)
	p.declared, p.scaled, p.behind, p.stored, p.heldBack = d, d.scaled, nil, nil, ""
	p.says.Store(d)
	if d.files != nil || len(p.rules) > 0 {
		p.setRules(d)
	}
	p.repository = AsOf{Known: true, At: a.At, Next: p.repository.Next}
	if text := p.elsewhere(); text != "" {
		p.repository.Known, p.repository.Problem = false, text
	}
	p.inputs.Store(&d.inputs)
	if p.cluster.conn != nil {
		for _, k := range d.kinds {
			p.watchKind(k[0], k[1])
		}
		p.dropKinds()
	}
}

// setRules takes newly read health rules; what they say of objects is known with their next event, so those of their
// kinds are looked at again.
func (p *placement) setRules(d *declaration) {
	old := p.rules
	p.rules = d.rules
	if err := p.k.store.SetRules(p.ctx, p.id, d.files); err != nil {
		p.log.Error("health rules can't be written", "error", err)
	}
	for ref := range p.baselines {
		k := [2]string{ref.Group, ref.Kind}
		if p.cluster.conn != nil && p.known(ref) != nil && (old[k] != nil || p.rules[k] != nil) {
			p.look(ref)
		}
	}
}

func (p *placement) retryRender(a AsOf) {
	time.AfterFunc(2*time.Second, func() {
		p.post(func() {
			if !p.repository.Known && p.ctx.Err() == nil {
				p.render(a)
			}
		})
	})
}

// declare reads what the repository declares at a ref. While its inputs are the same, nothing is rendered.
func (p *placement) declare(ctx context.Context, ref string, old *declaration) (*declaration, error) {
	r := p.reads(ctx, ref)
	main, err := r.main()
	if errors.Is(err, repo.ErrEmpty) {
		return &declaration{waits: fmt.Sprintf("waits for the first commit on %s in %s", ref, p.ward.From.Repo)}, nil
	}
	if err != nil {
		return nil, err
	}
	if old != nil && old.waits == "" && len(old.inputs) > 0 {
		if same, err := r.same(old); err == nil && same {
			out := *old
			if main != nil {
				out.head = main.head.ID
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
	objects := res.Objects
	d := &declaration{revision: rev, inputs: res.Inputs, form: res.Form, chart: res.Chart, notes: res.Notes, scaled: map[object.Ref]string{}}
	files := p.rosterRules()
	if main != nil {
		d.head = main.head.ID
		hash, err := main.tree.Hash(render.RulesDir)
		if err != nil {
			return nil, err
		}
		d.inputs = append(d.inputs, render.Input{Repo: p.ward.From.Repo, Path: render.RulesDir, Hash: hash})
		if hash != "" {
			common, err := main.tree.Files(render.RulesDir, render.Wanted)
			if err != nil {
				return nil, err
			}
			files = append(files, common...)
		}
		if res.Form == render.PlainForm {
			own, err := main.tree.Files(p.ward.From.Path, render.Wanted)
			if err != nil {
				return nil, err
			}
			for _, f := range own {
				if !slices.ContainsFunc(files, func(x repo.File) bool { return x.Path == f.Path }) {
					files = append(files, f)
				}
			}
		}
	}
	if d.rules, err = render.Rules(files); err != nil {
		return nil, err
	}
	for _, f := range files {
		if health.IsRules(f.Data) {
			d.files = append(d.files, record.File{Path: f.Path, Text: string(f.Data)})
		}
	}
	if len(objects) == 0 && p.View().Kept == 0 {
		d.waits = fmt.Sprintf("waits for a first object below %q in %s; there are no manifests yet", p.ward.From.Path, p.ward.From.Repo)
	}
	if p.cluster.conn == nil {
		return nil, p.cluster.err
	}
	if objects, err = render.Place(p.ward, p.k.store.ServiceID(), objects, p.scopes(objects)); err != nil {
		if res.Chart != "" {
			err = fmt.Errorf("chart %s can't be applied to cluster %s: %w", res.Chart, p.cluster.conf.Name, err)
		}
		return nil, err
	}
	if err := p.within(objects); err != nil {
		return nil, err
	}
	if d.waits != "" {
		return d, nil
	}
	kept := make([]record.SnapshotObject, len(objects))
	for i, o := range objects {
		turn, err := o.Turn()
		if err != nil {
			return nil, err
		}
		kept[i] = record.SnapshotObject{Object: o, Hash: p.hash(o), Step: turn.Step}
		if scaled, ok := cluster.ScaleTarget(o.Body); ok {
			d.scaled[scaled] = o.Ref.Short()
		}
	}
	if d.snapshot, err = p.k.putSnapshot(ctx, kept); err != nil {
		return nil, err
	}
	d.take(declaredOf(kept))
	if ref != p.ward.From.Ref { // somebody asked for another revision, once
		return d, nil
	}
	return d, p.storeDeclaration(ctx, d)
}

// within holds what is declared to what the ward's roster lets it do.
func (p *placement) within(objects []object.Object) error {
	limits := p.limits
	if len(limits.Namespaces) == 0 {
		return nil
	}
	var errs []error
	for _, o := range objects {
		if o.Ref.Namespace == "" && !(o.Ref.Kind == "Namespace" && slices.Contains(limits.Namespaces, o.Ref.Name)) || o.Ref.Namespace != "" && !slices.Contains(limits.Namespaces, o.Ref.Namespace) {
			errs = append(errs, &object.SyntaxError{File: o.File, Line: o.Line, Text: fmt.Sprintf("%s is outside the namespaces that roster %s lets its wards keep: %s", o.Ref, p.roster, strings.Join(limits.Namespaces, ", "))})
		}
	}
	if len(errs) > 0 {
		return &beyondLimits{errors.Join(errs...)}
	}
	return nil
}

// beyondLimits tells that what is declared was read, and is more than the ward's roster lets it do.
type beyondLimits struct{ error }

// take fills in what follows from the declared objects.
func (d *declaration) take(objects []declaredObject) {
	slices.SortFunc(objects, func(a, b declaredObject) int { return a.Ref.Compare(b.Ref) })
	d.objects, d.tasks = objects, tasksOf(objects)
	kinds := map[[2]string]bool{}
	for i, o := range objects {
		objects[i].made = o.Ref.Group == "" && o.Ref.Kind == "Namespace" && o.file == "" // no file declares it
		kinds[[2]string{o.version, o.Ref.Kind}] = true
	}
	for k := range kinds {
		d.kinds = append(d.kinds, k)
	}
}

// find is a declared object; nil when there is none of this ref, or no declaration.
func (d *declaration) find(ref object.Ref) *declaredObject {
	if d == nil {
		return nil
	}
	i, found := slices.BinarySearchFunc(d.objects, ref, func(o declaredObject, ref object.Ref) int { return o.Ref.Compare(ref) })
	if !found {
		return nil
	}
	return &d.objects[i]
}

func declaredOf(kept []record.SnapshotObject) []declaredObject {
	out := make([]declaredObject, len(kept))
	for i, o := range kept {
		turn, err := o.Object.Turn()
		if err != nil {
			turn.Step = o.Step // kept by an older version, which knew fewer annotations
		}
		out[i] = declaredObject{Declared: plan.Declared{Ref: o.Object.Ref, Hash: o.Hash, Turn: turn}, version: o.Object.Version,
			file: o.Object.File, line: o.Object.Line}
	}
	return out
}

func tasksOf(objects []declaredObject) map[string]string {
	out := map[string]string{}
	for _, o := range objects {
		if o.Task != object.NoTask {
			out[o.Ref.Key()] = o.Hash
		}
	}
	return out
}

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
		return "keyed " + p.k.store.Vault().Digest(h)
	}
	return h
}

// definitions lists the kinds that some objects define, by group and kind, and whether they live in namespaces.
func definitions(objects []object.Object) map[[2]string]bool {
	out := map[[2]string]bool{}
	for _, o := range objects {
		if o.Ref.Kind == "CustomResourceDefinition" {
			spec, _ := o.Body["spec"].(map[string]any)
			names, _ := spec["names"].(map[string]any)
			group, _ := spec["group"].(string)
			kind, _ := names["kind"].(string)
			out[[2]string{group, kind}] = spec["scope"] == "Namespaced"
		}
	}
	return out
}

// scopes tells which kinds live in namespaces: the cluster's, and those whose definitions are among the objects.
func (p *placement) scopes(objects []object.Object) func(object.Object) (bool, error) {
	defined := definitions(objects)
	return func(o object.Object) (bool, error) {
		if namespaced, ok := defined[[2]string{o.Ref.Group, o.Ref.Kind}]; ok {
			return namespaced, nil
		}
		return p.cluster.conn.Namespaced(o)
	}
}
