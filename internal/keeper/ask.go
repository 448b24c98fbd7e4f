package keeper

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"sort"
	"sync"
	"time"

	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/record"
)

// Look reads the ward's repository now and returns the ward as it stands then.
func (k *Keeper) Look(ctx context.Context, name string) (*View, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	_ = p.repo.look(ctx) // what is wrong is in the view
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	done := make(chan struct{})
	if err := p.ask(ctx, func() error {
		if !p.rendering {
			close(done)
		} else {
			p.looking = append(p.looking, done)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	select {
	case <-done:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	return p.fresh(ctx)
}

// fresh is the view once everything that waits has been looked at.
func (p *placement) fresh(ctx context.Context) (*View, error) {
	err := p.ask(ctx, func() error {
		p.publish()
		return nil
	})
	return p.View(), err
}

// Start begins a run that a person asked for, and returns the number of its entry; 0 when nothing was to do.
func (k *Keeper) Start(ctx context.Context, name string, kind run.Kind, toEntry int, by, why string, allow []string) (int, error) {
	p, err := k.one(name)
	if err != nil {
		return 0, err
	}
	number := 0
	err = p.ask(ctx, func() error {
		n, err := p.start(startRun{kind: kind, by: by, why: why, toEntry: toEntry, allow: allow})
		number = n
		p.publish()
		return err
	})
	return number, err
}

// Stop ends the run that goes on, once the calls that are on their way have been answered.
func (k *Keeper) Stop(ctx context.Context, name, by string) error {
	p, err := k.one(name)
	if err != nil {
		return err
	}
	return p.ask(ctx, func() error {
		if p.run == nil {
			return fault(Conflict, "no run is going on in %s", p.id)
		}
		p.run.letGo()
		p.feed(run.Stop{At: time.Now(), By: by})
		return nil
	})
}

// Hold stops automatic runs on a ward.
func (k *Keeper) Hold(ctx context.Context, name, by, reason string, until time.Time) (*View, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	if !until.IsZero() && until.Before(time.Now()) {
		return nil, fault(Invalid, "the end of the hold, %s, is in the past", until.UTC().Format(time.RFC3339))
	}
	if err := p.ask(ctx, func() error { return p.holdBy(by, reason, until) }); err != nil {
		return nil, err
	}
	return p.fresh(ctx)
}

// Release lets automatic runs go on.
func (k *Keeper) Release(ctx context.Context, name, by, reason string) (*View, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	if err := p.ask(ctx, func() error { return p.release(by, reason) }); err != nil {
		return nil, err
	}
	return p.fresh(ctx)
}

// PendingObject is what a sync would do to one object.
type PendingObject struct {
	Ref          object.Ref
	Change       string // create, update, remove, keep
	AlreadyThere bool
	Fields       []compare.Difference
	Refused      string
}

// Diff is everything between the repository, Vigila and the cluster.
type Diff struct {
	View    *View
	Pending []PendingObject
	Guards  []plan.Guard
}

// Diff tells what a sync would do, exactly: a dry-run apply of what is pending, and of nothing else.
func (k *Keeper) Diff(ctx context.Context, name string) (*Diff, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	if p.cluster.conn == nil {
		return nil, fault(Unreachable, "%v", p.cluster.err)
	}
	d := &Diff{}
	var snapshot string
	var made plan.Plan
	baselines := map[object.Ref]compare.Baseline{}
	err = p.ask(ctx, func() error {
		p.publish()
		if p.declared != nil && p.declared.waits == "" {
			snapshot = p.declared.snapshot
			made = plan.Make(plan.Input{Declared: p.declared.plan(), Baselines: p.baselines, Prune: p.ward.Keep.Prune, NoPrune: p.noPrune()})
			for _, ref := range append(made.Refs(), made.Removed()...) {
				if b, ok := p.baselines[ref]; ok {
					baselines[ref] = b
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	d.View, d.Guards = p.View(), made.Guards
	if snapshot == "" {
		return d, nil
	}
	kept, err := k.store.Snapshot(ctx, snapshot)
	if err != nil {
		return nil, err
	}
	objects := map[object.Ref]object.Object{}
	for _, o := range kept {
		objects[o.Object.Ref] = o.Object
	}
	refs := made.Refs()
	d.Pending = make([]PendingObject, len(refs))
	errs := make([]error, len(refs))
	slots := make(chan struct{}, k.opts.Parallel)
	var wg sync.WaitGroup
	for i, ref := range refs {
		wg.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			_, mine := baselines[ref]
			d.Pending[i], errs[i] = p.preview(ctx, objects[ref], mine)
		})
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, fault(Unreachable, "%v", err)
	}
	for _, ref := range made.Removed() {
		d.Pending = append(d.Pending, PendingObject{Ref: ref, Change: "remove"})
	}
	for _, ref := range made.Kept {
		d.Pending = append(d.Pending, PendingObject{Ref: ref, Change: "keep"})
	}
	return d, nil
}

func (p *placement) preview(ctx context.Context, o object.Object, mine bool) (PendingObject, error) {
	out := PendingObject{Ref: o.Ref, Change: "update"}
	mask := p.k.store.Vault().Digest
	if w := p.other(ctx, o.Ref); w != "" {
		out.Refused = "ward " + w + " keeps it already; one object can belong to one ward"
		return out, nil
	}
	live, err := p.cluster.conn.Get(ctx, o.Version, o.Ref)
	var gone *cluster.UnreachableError
	switch {
	case errors.As(err, &gone):
		return out, err
	case errors.Is(err, cluster.ErrGone) || p.cluster.conn.UnknownKind(err):
		live = nil
		out.Change = "create"
	case err != nil:
		out.Refused = err.Error()
		return out, nil
	default:
		out.AlreadyThere = !mine
	}
	prepared, _, err := p.prepare(ctx, o)
	if err != nil {
		return out, err
	}
	answer, err := p.cluster.conn.Apply(ctx, prepared, true)
	switch {
	case errors.As(err, &gone):
		return out, err
	case err != nil && live == nil && cluster.Missing(err):
		answer = prepared.Body // its namespace or its definition comes with the same sync
	case err != nil:
		out.Refused = err.Error()
		return out, nil
	}
	out.Fields = compare.Preview(o.Ref, live, answer, mask)
	return out, nil
}

// ObjectDetail is one object, declared and live, with what happened to it.
type ObjectDetail struct {
	Object         ObjectView
	Declared, Live string // YAML, secrets masked
	Events         []cluster.Event
	Pods           []cluster.Owned
}

// Object looks closely at one object of a ward.
func (k *Keeper) Object(ctx context.Context, name, key string) (*ObjectDetail, error) {
	p, o, err := k.object(name, key)
	if err != nil {
		return nil, err
	}
	out := &ObjectDetail{Object: o}
	snapshot := ""
	if err := p.ask(ctx, func() error {
		snapshot = p.snapshot
		if p.declared != nil && p.declared.snapshot != "" {
			snapshot = p.declared.snapshot
		}
		return nil
	}); err != nil {
		return nil, err
	}
	if snapshot != "" {
		kept, err := k.store.Snapshot(ctx, snapshot)
		if err != nil {
			return nil, err
		}
		for _, x := range kept {
			if x.Object.Ref == o.Ref {
				out.Declared = k.yaml(o.Ref, x.Object.Body)
			}
		}
	}
	if p.cluster.conn == nil {
		return out, nil
	}
	live, err := p.cluster.conn.Get(ctx, o.Version, o.Ref)
	if errors.Is(err, cluster.ErrGone) || p.cluster.conn.UnknownKind(err) {
		return out, nil
	}
	if err != nil {
		return nil, fault(Unreachable, "%v", err)
	}
	out.Live = k.yaml(o.Ref, live)
	about := []object.Ref{o.Ref}
	if cluster.HasBelow(o.Ref) {
		children, err := p.cluster.conn.Children(ctx, o.Ref.Namespace)
		if err != nil {
			return nil, fault(Unreachable, "%v", err)
		}
		for _, c := range children.Below(o.UID) {
			about = append(about, c.Ref)
			if c.Ref.Kind == "Pod" {
				out.Pods = append(out.Pods, c)
			}
		}
	}
	namespace := o.Ref.Namespace
	if namespace == "" {
		namespace = "default"
	}
	if out.Events, err = p.cluster.conn.Events(ctx, namespace, about); err != nil {
		return nil, fault(Unreachable, "%v", err)
	}
	return out, nil
}

func (k *Keeper) object(name, key string) (*placement, ObjectView, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, ObjectView{}, err
	}
	ref, err := object.ParseKey(key)
	if err != nil {
		return nil, ObjectView{}, fault(Invalid, "%v; take the key from the ward's outline", err)
	}
	v := p.View()
	i := slices.IndexFunc(v.Objects, func(o ObjectView) bool { return o.Ref == ref })
	if i < 0 {
		return nil, ObjectView{}, fault(NotFound, "%s has no object %s", p.id, ref)
	}
	return p, v.Objects[i], nil
}

// yaml prints a body without what nobody reads; of a Secret the values are digests.
func (k *Keeper) yaml(ref object.Ref, body map[string]any) string {
	body = object.Clone(body)
	if meta, ok := body["metadata"].(map[string]any); ok {
		delete(meta, "managedFields")
		if notes, ok := meta["annotations"].(map[string]any); ok && ref.Secret() {
			delete(notes, "kubectl.kubernetes.io/last-applied-configuration") // it repeats the values
		}
	}
	if ref.Secret() {
		for _, part := range []string{"data", "stringData"} {
			if values, ok := body[part].(map[string]any); ok {
				for name, v := range values {
					values[name] = "secret " + k.store.Vault().Digest(jsonText(v))
				}
			}
		}
	}
	b, err := yaml.Marshal(body)
	if err != nil {
		return "# " + err.Error()
	}
	return string(b)
}

// Outline lists what the controllers made below each workload of a ward, by the workload.
func (k *Keeper) Outline(ctx context.Context, v *View) map[object.Ref][]cluster.Owned {
	out := map[object.Ref][]cluster.Owned{}
	p, err := k.one(v.ID)
	if err != nil || p.cluster.conn == nil || !v.Live.Known {
		return out
	}
	byNamespace := map[string][]ObjectView{}
	for _, o := range v.Objects {
		if cluster.HasBelow(o.Ref) && o.UID != "" {
			byNamespace[o.Ref.Namespace] = append(byNamespace[o.Ref.Namespace], o)
		}
	}
	for namespace, objects := range byNamespace {
		children, err := p.cluster.conn.Children(ctx, namespace)
		if err != nil {
			continue
		}
		for _, o := range objects {
			out[o.Ref] = children.Below(o.UID)
		}
	}
	return out
}

// Logs reads the log of a Pod below one of the ward's objects; other Pods are refused.
func (k *Keeper) Logs(ctx context.Context, name, key, pod, container string, previous bool, tail int) (string, error) {
	p, o, err := k.object(name, key)
	if err != nil {
		return "", err
	}
	if p.cluster.conn == nil {
		return "", fault(Unreachable, "%v", p.cluster.err)
	}
	children, err := p.cluster.conn.Children(ctx, o.Ref.Namespace)
	if err != nil {
		return "", fault(Unreachable, "%v", err)
	}
	mine := o.Ref.Kind == "Pod" && o.Ref.Name == pod
	for _, c := range children.Below(o.UID) {
		mine = mine || c.Ref.Kind == "Pod" && c.Ref.Name == pod
	}
	if !mine {
		return "", fault(NotFound, "%s has no Pod %s", o.Ref.Short(), pod)
	}
	text, err := p.cluster.conn.Logs(ctx, o.Ref.Namespace, pod, container, previous, int64(tail))
	if err != nil {
		return "", fault(Unreachable, "%v", err)
	}
	return text, nil
}

// Entries lists the logbook of a ward, newest first, with the run that goes on as it stands now.
func (k *Keeper) Entries(ctx context.Context, name string, limit, offset int) ([]record.Entry, int, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, 0, err
	}
	return k.store.Entries(ctx, record.Find{Placement: p.id, Limit: limit, Offset: offset})
}

// Entry is one entry of a ward's logbook; of the run that goes on, as it stands now.
func (k *Keeper) Entry(ctx context.Context, name string, number int) (record.Entry, error) {
	p, err := k.one(name)
	if err != nil {
		return record.Entry{}, err
	}
	if v := p.View(); v.Run != nil && v.Run.Number == number {
		return *v.Run, nil
	}
	e, err := k.store.Entry(ctx, p.id, number)
	if errors.Is(err, record.ErrNone) {
		return e, fault(NotFound, noEntry, p.id, number, p.id)
	}
	return e, err
}

// Order sorts views for people: what needs them first, then by cluster and name.
func Order(vs []*View) {
	sort.SliceStable(vs, func(i, j int) bool {
		a, b := vs[i], vs[j]
		if a.NeedsYou != b.NeedsYou {
			return a.NeedsYou
		}
		if a.NeedsYou && loudness[a.Tone] != loudness[b.Tone] {
			return loudness[a.Tone] < loudness[b.Tone]
		}
		if a.Cluster != b.Cluster {
			return a.Cluster < b.Cluster
		}
		return a.ID < b.ID
	})
}

var loudness = map[Tone]int{ToneFailing: 0, ToneContested: 1, ToneDrifted: 2, ToneBlind: 3, ToneBehind: 4, Quiet: 5}

func jsonText(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return string(b)
}
