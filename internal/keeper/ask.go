package keeper

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// Look reads the ward's repository now and returns the ward as it stands then.
func (k *Keeper) Look(ctx context.Context, name string) (*standing.View, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	if p.Broken != "" {
		return p.View(), nil
	}
	p.reading.TryNow()
	_ = p.repo.Look(ctx) // what is wrong is in the view
	for _, name := range p.Ward.Reads() {
		if l, err := k.source(name); err == nil {
			_ = l.Look(ctx)
		}
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if _, err := p.await(ctx, func(t loop.Ticket) loop.Event { return loop.AwaitRead{Ticket: t} }); err != nil {
		return nil, err
	}
	return p.fresh(ctx)
}

// fresh is the view once everything that waits has been looked at.
func (p *placement) fresh(ctx context.Context) (*standing.View, error) {
	by := p.askedBy()
	v, err := freshOf.ask(ctx, p, nothingAsked{})
	if err != nil {
		return p.View(), err
	}
	if p.cluster.away != nil {
		p.shown(by, v)
		v = p.View()
	}
	return v, nil
}

func (k *Keeper) start(ctx context.Context, name string, r Ask) (int, error) {
	p, err := k.one(name)
	if err != nil {
		return 0, err
	}
	if err := p.resolve(ctx, &r); err != nil {
		return 0, err
	}
	for began := time.Now(); ; {
		number, err := p.want(ctx, loop.StartRun{Ask: r})
		var f *Fault
		soon := errors.As(err, &f) && f.Soon // it is being read, since a rule or the cluster has just been told otherwise
		if unread := errors.Is(err, loop.ErrUnread); !errors.Is(err, loop.ErrQuiet) && !unread && !soon || (unread || soon) && time.Since(began) > 10*time.Second {
			if unread {
				err = fault(Conflict, "%s: %v", p.ID, err)
			}
			return number, err
		}
		select { // what nobody sees is in nobody's way
		case <-ctx.Done():
			return 0, err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// resolve reads the revision that a sync asks for.
func (p *placement) resolve(ctx context.Context, r *Ask) error {
	if r.Revision == "" || r.Kind != run.Sync {
		return nil
	}
	if p.Broken != "" {
		return fault(Conflict, "%s can't run: %s", p.ID, p.Broken)
	}
	if _, ok := p.repo.Git(); !ok {
		return fault(Invalid, "%s comes from chart repository %s, which has no revisions of its own; set from.chart.version", p.ID, p.repo.Name())
	}
	d, err := p.reading.Read(ctx, r.Revision, nil, func() {})
	if err != nil {
		return fault(Invalid, "revision %s of %s can't be synced: %v", r.Revision, p.repo.Name(), err)
	}
	if d.Waits != "" {
		return fault(Conflict, "revision %s has nothing to sync: %s %s", r.Revision, p.ID, d.Waits)
	}
	r.Declared = d
	return nil
}

// Held is how far a ward is with a commit.
type Held struct {
	Holds bool   // it is read, and the ward is in step
	Read  bool   // the commit that was read last is this one, or a later one
	Head  string // that was read last
}

// Holds tells whether the cluster holds what a commit declares for the ward, or what a later one does. Most commits of a repository change
// nothing of a ward, so it is not the revision that is compared.
func (k *Keeper) Holds(ctx context.Context, name, revision string) (Held, error) {
	p, err := k.one(name)
	if err != nil {
		return Held{}, err
	}
	if p.Broken != "" {
		return Held{}, nil
	}
	mirror, ok := p.repo.Git()
	if !ok {
		return Held{}, fault(Invalid, "%s comes from chart repository %s, which has no commits", p.ID, p.repo.Name())
	}
	out := Held{Head: p.repo.Told(p, p.Ward.From.Ref)}
	if out.Head == "" {
		return out, nil
	}
	if out.Read, err = mirror.Holds(ctx, out.Head, revision); err != nil {
		return out, fault(Invalid, "%v", err)
	}
	if out.Read = out.Read && (loop.Marks{}).Heard(p.Hears()); !out.Read { // it was told, and is being rendered
		return out, nil
	}
	v, err := p.fresh(ctx)
	if err != nil {
		return out, err
	}
	out.Holds = v.Standing == compare.InStep && v.Run == nil
	return out, nil
}

func (k *Keeper) stop(ctx context.Context, name, by string) error {
	p, err := k.one(name)
	if err != nil {
		return err
	}
	_, err = p.want(ctx, loop.StopRun{By: by})
	return err
}

// PendingObject is what a run would do to one object.
type PendingObject struct {
	Ref          object.Ref
	Step         int
	Task         object.Task
	Change       string // create, update, remove, keep, run
	AlreadyThere bool
	Fields       []compare.Difference
	Refused      string
	Replaced     bool // it would be deleted and made again
}

// Preview is what a run would do, in its order, and what stands in its way.
type Preview struct {
	View     *standing.View
	Revision *logbook.Revision
	Objects  []PendingObject
	Guards   []plan.Guard
	Allowed  []plan.Guard  // guards that were allowed
	Canaries []ward.Canary // that it carries
	// BeforeCanary comes before them and goes back with them, TasksBefore runs before them and has run then.
	BeforeCanary, TasksBefore []object.Ref
}

// Diff tells what a sync would do, exactly: a dry-run apply of what is pending, and of nothing else.
func (k *Keeper) Diff(ctx context.Context, name string) (*Preview, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	by := p.askedBy()
	out, err := diffOf.ask(ctx, p, nothingAsked{})
	return p.dressed(by, out, err)
}

// askedBy is the connection that the ward is asked by; nil where no lookout keeps it, or that is away.
func (p *placement) askedBy() *link.Peer {
	if p.cluster.away == nil {
		return nil
	}
	return p.cluster.away.now()
}

// dressed is a preview of the ward with its view as it is shown here, whichever ward a lookout says that it is of.
func (p *placement) dressed(by *link.Peer, out *Preview, err error) (*Preview, error) {
	if err != nil || p.cluster.away == nil {
		return out, err
	}
	if out.View != nil {
		p.shown(by, out.View)
	}
	out.View = p.View()
	return out, nil
}

func (k *Keeper) diff(ctx context.Context, p *placement, _ nothingAsked) (*Preview, error) {
	var made *loop.Prepared
	err := p.ask(ctx, func() (err error) {
		p.Publish()
		if p.Says().Known() {
			made, err = p.Prepare(Ask{Kind: run.Sync, By: logbook.Vigila, Retry: true, Diff: true})
			var f *Fault
			if errors.As(err, &f) && f.Kind == Conflict {
				made, err = nil, nil // what stands in the way is in the view
			}
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return p.preview(ctx, made, nil)
}

// Preview tells what a run would do if it were started now: its whole plan, with dry-run applies and guards.
func (k *Keeper) Preview(ctx context.Context, name string, r Ask) (*Preview, error) {
	if err := r.Check(); err != nil {
		return nil, err
	}
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	if err := p.resolve(ctx, &r); err != nil {
		return nil, err
	}
	a := askRun{Ask: r, Declared: packed(r.Declared)}
	by := p.askedBy()
	out, err := previewOf.ask(ctx, p, a)
	return p.dressed(by, out, err)
}

// packed is a declaration as it goes elsewhere; nil for none.
func packed(d *declared.Declaration) *reading.Packed {
	if d == nil {
		return nil
	}
	out := reading.Pack(d)
	return &out
}

func (k *Keeper) previewRun(ctx context.Context, p *placement, a askRun) (_ *Preview, err error) {
	r := a.Ask
	if r.Declared == nil {
		if r.Declared, err = p.brought(ctx, a.Declared); err != nil {
			return nil, err
		}
	}
	var made *loop.Prepared
	var allowed []plan.Guard
	err = p.ask(ctx, func() (err error) {
		p.Publish()
		if made, err = p.Prepare(r); err != nil || len(r.Allow) == 0 {
			return err
		}
		strict := r
		strict.Allow = nil
		all, err := p.Prepare(strict)
		if err != nil {
			return err
		}
		for _, g := range all.Plan.Guards {
			if slices.Contains(r.Allow, g.Name) {
				allowed = append(allowed, g)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return p.preview(ctx, made, allowed)
}

// preview tries a prepared run out on the API server.
func (p *placement) preview(ctx context.Context, made *loop.Prepared, allowed []plan.Guard) (*Preview, error) {
	out := &Preview{View: p.View(), Allowed: allowed}
	if made == nil {
		return out, nil
	}
	out.Guards, out.Revision = made.Plan.Guards, made.Entry.Revision
	if made.Canary != nil {
		for _, t := range made.Canary.Targets {
			out.Canaries = append(out.Canaries, t.Canary)
		}
		out.BeforeCanary, out.TasksBefore = made.Canary.Applied, made.Canary.Tasks
	}
	var known map[object.Ref]loop.Trial
	var leaves map[string][]object.Ref // by the snapshot that they are in
	if err := p.ask(ctx, func() error {
		known = p.Trials(made)
		gone := slices.Concat(made.Plan.Removed(), made.Plan.Kept)
		leaves = p.AppliedIn(gone[:min(len(gone), shownWhole)])
		return nil
	}); err != nil {
		return nil, err
	}
	for _, s := range made.Plan.Steps {
		for _, g := range s.Groups {
			for _, ref := range g.Refs {
				out.Objects = append(out.Objects, PendingObject{Ref: ref, Step: s.Number, Task: g.Task, Change: "run"})
			}
		}
	}
	calls, errs := p.calls(), make([]error, len(out.Objects))
	var wg sync.WaitGroup
	for i := range out.Objects {
		o := &out.Objects[i]
		if o.Task != object.NoTask {
			continue
		}
		m := known[o.Ref]
		wg.Go(func() {
			var did drive.Tried
			did, errs[i] = calls.Try(ctx, m.Order, m.Kept)
			o.Change, o.AlreadyThere, o.Fields, o.Refused, o.Replaced = did.Change, did.AlreadyThere, did.Fields, did.Refused, did.Replaced
			if o.Change == "create" {
				o.Fields = slices.DeleteFunc(o.Fields, onlyNames)
			}
			for _, a := range m.Added {
				o.Fields = append(o.Fields, compare.Difference{Path: a.Path, Change: compare.Removed, From: a.To, Who: a.Who, When: a.When})
			}
		})
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, fault(Unreachable, "%v", err)
	}
	fields, err := p.fieldsOf(ctx, leaves)
	if err != nil {
		return nil, err
	}
	for _, ref := range made.Plan.Removed() {
		out.Objects = append(out.Objects, PendingObject{Ref: ref, Change: "remove", Fields: fields[ref]})
	}
	for _, ref := range made.Plan.Kept {
		out.Objects = append(out.Objects, PendingObject{Ref: ref, Change: "keep", Fields: fields[ref]})
	}
	return out, nil
}

// shownWhole is how many objects that a run removes are shown with what they hold; of more an answer would be long.
const shownWhole = 200

// fieldsOf are the fields of objects as they were applied last, given by the snapshots that they are in.
func (p *placement) fieldsOf(ctx context.Context, in map[string][]object.Ref) (map[object.Ref][]compare.Difference, error) {
	var all []object.Object
	for snapshot, refs := range in {
		whole, err := p.k.ledger.Snapshot(ctx, snapshot, refs...)
		if err != nil {
			return nil, fmt.Errorf("read what would be removed: %w", err)
		}
		for _, o := range whole {
			all = append(all, o.Object)
		}
	}
	out := map[object.Ref][]compare.Difference{}
	for _, m := range compare.Declared(all, nil, p.Mask) {
		out[m.Ref] = slices.DeleteFunc(m.Fields, onlyNames)
	}
	return out, nil
}

// onlyNames tells whether a field of an object that is made or removed only says what it is called and whose it is.
func onlyNames(d compare.Difference) bool {
	switch d.Path {
	case "apiVersion", "metadata.name", "metadata.namespace", "metadata.labels[" + object.WardLabel + "]", "metadata.annotations[" + object.ServiceAnnotation + "]":
		return true
	}
	return false
}

// ObjectDetail is one object, declared and live, with what happened to it.
type ObjectDetail struct {
	Object         standing.Object
	Declared, Live string // YAML, secrets masked
	Events         []cluster.Event
	Pods           []cluster.Owned
}

// Object looks closely at one object of a ward.
func (k *Keeper) Object(ctx context.Context, name, key string) (*ObjectDetail, error) {
	return objectOf.of(ctx, k, name, key)
}

func (k *Keeper) objectDetail(ctx context.Context, p *placement, key string) (*ObjectDetail, error) {
	o, err := p.object(ctx, key)
	if err != nil {
		return nil, err
	}
	out := &ObjectDetail{Object: o}
	snapshot := ""
	if err := p.ask(ctx, func() error {
		snapshot = p.ShownFrom()
		return nil
	}); err != nil {
		return nil, err
	}
	var says map[string]any
	if snapshot != "" {
		kept, err := k.store.Snapshot(ctx, snapshot)
		if err != nil {
			return nil, err
		}
		for _, x := range kept {
			if x.Object.Ref == o.Ref {
				says = x.Object.Body
				out.Declared = k.yaml(o.Ref, says, nil)
			}
		}
	}
	if p.cluster.conn == nil {
		return out, nil
	}
	live, err := p.cluster.conn.Get(ctx, o.Version, o.Ref)
	if errors.Is(err, cluster.ErrGone) || cluster.UnknownKind(err) {
		return out, nil
	}
	if err != nil {
		return nil, fault(Unreachable, "%v", err)
	}
	out.Live = k.yaml(o.Ref, live, says)
	about := []object.Ref{o.Ref}
	if health.HasBelow(o.Ref) {
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
	for i := range out.Events {
		out.Events[i].Text = secret.Conceal("", out.Events[i].Text, k.mask)
	}
	return out, nil
}

func (p *placement) object(ctx context.Context, key string) (standing.Object, error) {
	ref, err := object.ParseKey(key)
	if err != nil {
		return standing.Object{}, fault(Invalid, "%v; take the key from the ward's outline", err)
	}
	all, err := objectsOf.ask(ctx, p, nothingAsked{})
	if err != nil {
		return standing.Object{}, err
	}
	i := slices.IndexFunc(all, func(o standing.Object) bool { return o.Ref == ref })
	if i < 0 {
		return standing.Object{}, fault(NotFound, "%s has no object %s", p.ID, ref)
	}
	return all[i], nil
}

// Objects lists every object of a ward as it stands now, in the order of a run.
func (k *Keeper) Objects(ctx context.Context, name string) ([]standing.Object, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	if a := p.cluster.away; a != nil {
		if _, here := a.heard(); !here { // what is known of them is what was told with its standing
			return p.View().Astray, nil
		}
	}
	return objectsOf.ask(ctx, p, nothingAsked{})
}

// Names lists the objects of a ward as Kind/name, for searching.
func (k *Keeper) Names(ctx context.Context, name string) ([]string, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	if p.cluster.away != nil { // a search asks for those of every ward: no lookout is asked, and what is declared is known here
		return p.namesHere(), nil
	}
	return namesOf.ask(ctx, p, nothingAsked{})
}

// namesHere lists the objects of a ward that a lookout keeps, as far as the service knows them.
func (p *placement) namesHere() (out []string) {
	if d := p.Says(); d != nil {
		for _, o := range d.Objects {
			out = append(out, o.Ref.Short())
		}
	}
	for _, o := range p.Placement.View().Astray {
		if p.Says().Find(o.Ref) == nil {
			out = append(out, o.Ref.Short())
		}
	}
	return out
}

// yaml prints a body without what nobody reads; of a Secret the values are digests, and so is what else is one. also is another body that may say so.
func (k *Keeper) yaml(ref object.Ref, body, also map[string]any) string {
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
					if s, ok := v.(string); ok && secret.Shown(s) != "" {
						values[name] = secret.Shown(s)
						continue
					}
					text, _ := json.Marshal(v) // what came as JSON goes as JSON
					values[name] = "secret " + k.store.Vault().Digest(string(text))
				}
			}
		}
	}
	if !ref.Secret() {
		body = k.mask.Body(ref, body, also)
	}
	b, err := yaml.Marshal(body)
	if err != nil {
		return "# " + err.Error()
	}
	return string(b)
}

// Outline lists what the controllers made below each workload among a ward's objects, by the workload.
func (k *Keeper) Outline(ctx context.Context, v *standing.View, objects []standing.Object) map[object.Ref][]cluster.Owned {
	out := map[object.Ref][]cluster.Owned{}
	p, err := k.one(v.ID)
	if err != nil || !v.Live.Known {
		return out
	}
	if p.cluster.away != nil {
		all, err := outlineOf.ask(ctx, p, nothingAsked{})
		if err != nil {
			return out
		}
		for _, x := range all {
			out[x.Of] = x.All
		}
		return out
	}
	return p.outlined(ctx, objects)
}

// outline is Outline for somebody who has not got the objects.
func (k *Keeper) outline(ctx context.Context, p *placement, _ nothingAsked) (out []ownedBelow, err error) {
	all, err := objectsOf.ask(ctx, p, nothingAsked{})
	if err != nil {
		return nil, err
	}
	for ref, owned := range p.outlined(ctx, all) {
		out = append(out, ownedBelow{ref, owned})
	}
	return out, nil
}

func (p *placement) outlined(ctx context.Context, objects []standing.Object) map[object.Ref][]cluster.Owned {
	out := map[object.Ref][]cluster.Owned{}
	if p.cluster.conn == nil {
		return out
	}
	byNamespace := map[string][]standing.Object{}
	for _, o := range objects {
		if health.HasBelow(o.Ref) && o.UID != "" {
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
	return logsOf.of(ctx, k, name, askLog{key, pod, container, previous, tail})
}

func (k *Keeper) logs(ctx context.Context, p *placement, a askLog) (string, error) {
	pod, container, previous, tail := a.Pod, a.Container, a.Previous, a.Tail
	o, err := p.object(ctx, a.Key)
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
	return secret.Conceal("", text, k.mask), nil
}

// Entries lists the logbook of a ward, newest first, with the run that goes on as it stands now.
func (k *Keeper) Entries(ctx context.Context, name string, find record.Find) ([]logbook.Entry, int, error) {
	id, _, err := k.logbook(ctx, name)
	if err != nil {
		return nil, 0, err
	}
	find.Placement = id
	return k.AllEntries(ctx, find)
}

// logbook finds the logbook of a ward by its name; gone tells that the ward was removed.
func (k *Keeper) logbook(ctx context.Context, name string) (id string, gone bool, err error) {
	p, err := k.one(name)
	var f *Fault
	if !errors.As(err, &f) || f.Kind != NotFound {
		if err != nil {
			return "", false, err
		}
		return p.ID, false, nil
	}
	past, perr := k.store.Past(ctx, name)
	switch {
	case perr != nil:
		return "", false, perr
	case len(past) == 1:
		return past[0], true, nil
	case len(past) > 1:
		return "", false, fault(Invalid, "%s was kept in several clusters before it was removed; say which: %s", name, strings.Join(past, ", "))
	}
	return "", false, err
}

// Gone tells whether a ward was removed, and only its logbook is there.
func (k *Keeper) Gone(ctx context.Context, name string) bool {
	_, gone, err := k.logbook(ctx, name)
	return err == nil && gone
}

// Entry is one entry of a ward's logbook; of the run that goes on, as it stands now.
func (k *Keeper) Entry(ctx context.Context, name string, number int) (logbook.Entry, error) {
	id, gone, err := k.logbook(ctx, name)
	if err != nil {
		return logbook.Entry{}, err
	}
	if !gone {
		if p, err := k.one(name); err == nil {
			if e := p.Newest(logbook.Entry{Number: number}); e.Outcome != "" {
				return e, nil
			}
		}
	}
	e, err := k.store.Entry(ctx, id, number)
	if errors.Is(err, record.ErrNone) {
		return e, loop.NoEntry(id, number)
	}
	return e, err
}

// Rejections lists the revisions that automatic runs of a ward don't go to, newest first.
func (k *Keeper) Rejections(name string) ([]logbook.Rejection, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	return p.View().Rejections, nil
}

// revisionOf finds the revision that a person means: that of the declaration, of something applied, or a commit.
func (p *placement) revisionOf(ctx context.Context, name string) (repo.Revision, error) {
	v := p.View()
	for _, r := range []*logbook.Revision{v.Revision, v.Applied} {
		if r != nil && len(name) >= 7 && strings.HasPrefix(r.ID, name) {
			return repo.Revision{ID: r.ID, Subject: r.Subject, Author: r.Author, At: r.At}, nil
		}
	}
	if p.Broken != "" {
		return repo.Revision{}, errors.New(p.Broken)
	}
	mirror, ok := p.repo.Git()
	if !ok {
		return repo.Revision{}, fmt.Errorf("%s is no revision of %s, whose chart comes from %s; see vigila logbook %s", name, p.ID, p.repo.Name(), p.ID)
	}
	c, err := mirror.Resolve(ctx, name)
	if err != nil {
		return c, err
	}
	if last, err := mirror.LastChange(ctx, c, p.Ward.From.Path); err == nil {
		c = last // what counts for a ward is the commit that changed its path
	}
	return c, nil
}

func (k *Keeper) reject(ctx context.Context, name, revision, by, why string) (*standing.View, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	c, err := p.revisionOf(ctx, revision)
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	return k.wantOne(ctx, p.ID, loop.Reject{Rejection: logbook.Rejection{Revision: c.ID, Subject: c.Subject, Why: cmp.Or(why, "rejected by "+by), By: by, At: time.Now()},
		Of: logbook.Revision{ID: c.ID, Subject: c.Subject, Author: c.Author, At: c.At}, Said: why})
}

// Comparison is what two entries of a ward declare differently.
type Comparison struct {
	From, To *logbook.Entry // To is nil for what the repository declares now
	Revision *logbook.Revision
	Objects  []compare.Moved
}

// Compare holds the objects of one entry against those of another, or with to 0 against what the repository declares
// now, field by field. It needs neither the repository nor the cluster.
func (k *Keeper) Compare(ctx context.Context, name string, from, to int) (*Comparison, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	read := func(number int) (*logbook.Entry, []object.Object, error) {
		snapshot := ""
		var entry *logbook.Entry
		if number > 0 {
			e, err := k.Entry(ctx, name, number)
			if err != nil {
				return nil, nil, err
			}
			if e.Snapshot == "" {
				return nil, nil, fault(Invalid, "entry #%d of %s is a %s and keeps no objects; choose a run (vigila logbook %s)", e.Number, p.ID, e.Kind, p.ID)
			}
			snapshot, entry = e.Snapshot, &e
		} else if snapshot, err = p.declaredNow(ctx); err != nil {
			return nil, nil, err
		}
		kept, err := k.store.Snapshot(ctx, snapshot)
		if err != nil {
			return nil, nil, err
		}
		out := make([]object.Object, len(kept))
		for i, o := range kept {
			out[i] = o.Object
		}
		return entry, out, nil
	}
	c := &Comparison{Revision: p.View().Revision}
	var a, b []object.Object
	if from == 0 {
		if from, err = k.doneBefore(ctx, p.ID, to); err != nil || from == 0 {
			return c, err
		}
	}
	if c.From, a, err = read(from); err != nil {
		return nil, err
	}
	if c.To, b, err = read(to); err != nil {
		return nil, err
	}
	c.Objects = compare.Declared(a, b, k.store.Vault().Digest)
	return c, nil
}

// declaredNow is the snapshot of what is declared now.
func (p *placement) declaredNow(ctx context.Context) (snapshot string, err error) {
	if p.cluster.away != nil { // it was read here
		d := p.Says()
		if d == nil || d.Snapshot == "" {
			return "", fault(Conflict, "what %s declares now is not known; nobody has read it since the service started", p.ID)
		}
		return d.Snapshot, nil
	}
	err = p.ask(ctx, func() (err error) {
		snapshot, err = p.DeclaredNow()
		return err
	})
	return snapshot, err
}

// doneBefore is the newest run before an entry that left the ward as a whole; 0 when there is none.
func (k *Keeper) doneBefore(ctx context.Context, id string, number int) (int, error) {
	for offset := 0; ; offset += 200 {
		page, total, err := k.store.Entries(ctx, record.Find{Placement: id, Limit: 200, Offset: offset})
		if err != nil {
			return 0, err
		}
		for _, e := range page {
			if e.Number < number && e.Outcome == run.Done && e.Snapshot != "" {
				return e.Number, nil
			}
		}
		if offset+200 >= total {
			return 0, nil
		}
	}
}

// TaskLog is the log of a task, as an entry keeps it.
func (k *Keeper) TaskLog(ctx context.Context, name string, number int, key string) (string, error) {
	id, gone, err := k.logbook(ctx, name)
	if err != nil {
		return "", err
	}
	if !gone {
		return taskLogOf.of(ctx, k, name, askTask{number, key})
	}
	return k.keptLog(ctx, id, number, key)
}

func (k *Keeper) taskLog(ctx context.Context, p *placement, a askTask) (string, error) {
	return k.keptLog(ctx, p.ID, a.Number, a.Key)
}

func (k *Keeper) keptLog(ctx context.Context, id string, number int, key string) (string, error) {
	ref, err := object.ParseKey(key)
	if err != nil {
		return "", fault(Invalid, "%v; take the key from the entry", err)
	}
	text, err := k.store.Log(ctx, id, number, ref)
	if errors.Is(err, record.ErrNone) {
		return "", fault(NotFound, "entry #%d of %s keeps no log of %s", number, id, ref.Short())
	}
	return text, err
}

// followPause is how long it takes until a task that is followed is looked at again.
const followPause = 500 * time.Millisecond

// FollowTaskLog writes the log of a task as it grows, of one Pod after the other, until the task has ended; of one that has, what its
// entry keeps.
func (k *Keeper) FollowTaskLog(ctx context.Context, name string, number int, key string, w io.Writer) error {
	ref, err := object.ParseKey(key)
	if err != nil {
		return fault(Invalid, "%v; take the key from the entry", err)
	}
	p, err := k.one(name)
	if err != nil {
		return err
	}
	if p.cluster.away != nil {
		return followOf(ctx, p, askTask{number, key}, w)
	}
	read := map[cluster.Container]bool{}
	for {
		var uid string
		var ended, is bool
		if err := p.ask(ctx, func() error { uid, ended, is = p.TaskNow(number, ref); return nil }); err != nil {
			return err
		}
		if !is && len(read) == 0 {
			text, err := k.TaskLog(ctx, name, number, key)
			if err == nil {
				_, err = io.WriteString(w, text)
			}
			return err
		}
		more := false
		if uid != "" && p.cluster.conn != nil {
			if more, err = p.followPods(ctx, ref, uid, read, w); err != nil {
				return err
			}
		}
		if !is || ended && !more {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(followPause):
		}
	}
}

// followPods follows the containers of a task that were not read yet; more tells that there was one.
func (p *placement) followPods(ctx context.Context, ref object.Ref, uid string, read map[cluster.Container]bool, w io.Writer) (more bool, err error) {
	pods, err := p.calls().TaskPods(ctx, ref, uid)
	if err != nil {
		return false, fault(Unreachable, "%v", err)
	}
	for _, pod := range pods {
		for _, c := range cluster.Containers(pod) {
			if read[c] {
				continue
			}
			var head io.Writer = w
			if len(pods) > 1 || c.Several {
				head = &headed{w: w, head: fmt.Sprintf("── %s, container %s\n", c.Pod, c.Name)}
			}
			switch err := p.cluster.conn.Follow(ctx, ref.Namespace, c.Pod, c.Name, head); {
			case errors.Is(err, cluster.ErrNotStarted):
				return more, nil
			case err != nil:
				return more, fault(Unreachable, "%v", err)
			}
			read[c], more = true, true
		}
	}
	return more, nil
}

// headed writes a line before the first that comes.
type headed struct {
	w    io.Writer
	head string
}

func (h *headed) Write(b []byte) (int, error) {
	if h.head != "" {
		if _, err := io.WriteString(h.w, h.head); err != nil {
			return 0, err
		}
		h.head = ""
	}
	return h.w.Write(b)
}
