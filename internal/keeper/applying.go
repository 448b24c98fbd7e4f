package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/record"
)

// errStopped tells that a run was stopped before the turn of a piece of it came.
var errStopped = errors.New("the run was stopped before")

// turn does a piece of a run when its turn has come: as many at a time as the settings say, fair among the wards of
// the cluster. Once the run is stopped nothing new begins.
func (p *placement) turn(a *activeRun, do func() error) error {
	select {
	case a.slots <- struct{}{}:
	case <-a.stopping.Done():
		return errStopped
	}
	defer func() { <-a.slots }()
	done, err := p.cluster.calls.take(a.stopping, p.id)
	if err != nil {
		return errStopped
	}
	defer done()
	return do()
}

// made is the answer to an apply.
type made struct {
	sent     map[string]any
	body     map[string]any
	replaced bool
}

// answer is an apply that was answered, with what is to be kept of it.
type answer struct {
	made
	ref      object.Ref
	baseline compare.Baseline
	err      error
}

func (p *placement) apply(a *activeRun, ref object.Ref) {
	o := a.of(ref).object
	before := a.of(ref).before
	p.call(func() {
		got := answer{ref: ref}
		got.err = p.turn(a, func() (err error) {
			got.made, err = p.applyOne(a, o, before)
			return err
		})
		if got.err == nil {
			p.conclude(a, o, before, &got)
		}
		p.post(func() {
			if p.run == a {
				a.answered = append(a.answered, got) // taken in with the others that came meanwhile
			}
		})
	})
}

// conclude makes the baseline of an answer; beside the ward's goroutine, since it takes a while.
func (p *placement) conclude(a *activeRun, o declared.Whole, before compare.Baseline, got *answer) {
	ref, hash := got.ref, o.Hash
	if a.of(ref).scaled {
		hash = declared.ScaledMark + hash
	}
	var found *fieldpath.Set // nil: what is there now was there at the first apply
	if before.UID != "" && !got.replaced {
		if found = a.of(ref).found; found == nil {
			found = &fieldpath.Set{}
		}
	}
	got.baseline = compare.NewBaseline(ref, hash, got.sent, got.body, a.of(ref).left, p.mask, found, time.Now())
	if got.baseline.Snapshot = a.entry.Snapshot; run.Kind(a.entry.Kind) == run.Restore {
		got.baseline.Snapshot = before.Snapshot
	}
	got.baseline.Intent = a.entry.Number // until the run has ended: after a crash it is applied again and waited for
}

// takeAnswers writes the baselines of all applies that were answered since the last time, and tells the run.
func (p *placement) takeAnswers() {
	a := p.run
	if a == nil || len(a.answered) == 0 {
		return
	}
	answers := a.answered
	a.answered = nil
	var baselines []compare.Baseline
	for _, got := range answers {
		if got.err == nil {
			baselines = append(baselines, got.baseline)
		}
	}
	if len(baselines) > 0 {
		p.write(record.PutBaselines{All: baselines})
	}
	for i := range answers {
		if p.run != a {
			return
		}
		p.takeAnswer(a, &answers[i])
	}
}

func (p *placement) takeAnswer(a *activeRun, got *answer) {
	ref := got.ref
	ev := run.Applied{At: time.Now(), Ref: ref, Replaced: got.replaced}
	if got.err != nil {
		var gone *cluster.UnreachableError
		a.of(ref).silent = errors.As(got.err, &gone)
		a.unreachable = a.unreachable || a.of(ref).silent
		ev.Err, ev.Untried, ev.Outside = got.err.Error(), errors.Is(got.err, errStopped), outside(got.err)
		p.feed(ev)
		return
	}
	b, before := got.baseline, a.of(ref).before
	if b.Revision != before.Revision || b.UID != before.UID {
		a.changed++
	}
	l, effects := p.index.Answered(b, got.body)
	p.cluster.conn.Watch(object.Kind{Version: b.Version, Kind: ref.Kind}) // it may have been asked for before it was there
	a.of(ref).appliedAt = b.Revision
	if _, was := p.tasks[ref]; was { // it was a task before it came to be kept
		p.write(record.RemoveTask{Ref: ref})
		delete(p.tasks, ref)
	}
	p.carry(effects)
	if early := a.of(ref).early; early != nil { // a newer state was there before this answer
		a.of(ref).early = nil
		p.carry(p.index.Weigh(time.Now(), ref, early))
	}
	ev.Health = l.State()
	if health.HasBelow(ref) && !l.CauseKnown {
		ev.Health.Final = false // why is told by what is below, and that is being looked at
	}
	p.feed(ev)
}

// trying tells the run that a call did not go through and is made again.
func (p *placement) trying(a *activeRun, ref object.Ref, err error) {
	p.post(func() {
		if p.run == a {
			p.feed(run.Trying{At: time.Now(), Ref: ref, Reason: "tried again: " + err.Error()})
		}
	})
}

// applyOne applies an object, again and again while the cluster does not answer or is busy, until the run's time is
// over or it is stopped.
func (p *placement) applyOne(a *activeRun, o declared.Whole, before compare.Baseline) (made, error) {
	ref := o.Object.Ref
	if w := a.of(ref).refused; w != "" {
		return made{}, &takenError{fmt.Sprintf("ward %s keeps it already; one object can belong to one ward", w)}
	}
	var out made
	err := p.again(a, ref, func(ctx context.Context) (err error) {
		body, err := p.complete(ctx, o.Object, a.of(ref).left)
		if err != nil {
			return err
		}
		out.sent = body.Body
		if before.UID == "" {
			if err := p.unclaimed(ctx, o.Object); err != nil {
				return err
			}
		}
		if a.of(ref).added {
			if err := p.removeAdditions(ctx, body.Version, before, a.of(ref).left); err != nil {
				return err
			}
		}
		if out.body, err = p.hands.Apply(ctx, body, false); err == nil && before.UID == "" {
			out.body, err = p.takeOver(ctx, body, out.body, a.of(ref).left)
		}
		return err
	})
	fields, immutable := cluster.Immutable(err)
	if !immutable {
		return out, err
	}
	if no := mayReplace(ref, a.of(ref).turn, before, a.ask.Allow); no != "" {
		return out, fmt.Errorf("%s can't be changed in place; %s", orElse(fields, "what changed"), no)
	}
	// What would be refused as a new object is refused before anything is deleted.
	if err := p.again(a, ref, func(ctx context.Context) error { return p.tryAnew(ctx, o.Object) }); err != nil {
		return out, fmt.Errorf("it would have to be deleted and made again, and the new one would be refused, so it is left as it is: %w", err)
	}
	anew := o.Object
	deleted := false
	err = p.again(a, ref, func(ctx context.Context) error {
		live, err := p.cluster.conn.Get(ctx, o.Object.Version, ref)
		if err == nil && !deleted {
			anew.Body = object.Carry(o.Object.Body, live, a.of(ref).left)
			if !a.deleted(p, ref) {
				return fmt.Errorf("that %s is about to be deleted can't be written down", ref)
			}
			err = p.hands.Remove(ctx, o.Object.Version, ref, object.UID(live))
		}
		if err != nil && !errors.Is(err, cluster.ErrGone) {
			return err
		}
		deleted = true
		out.sent = anew.Body
		out.body, err = p.hands.Apply(ctx, anew, false)
		return err
	})
	out.replaced = err == nil
	return out, err
}

// deleted writes down that an object is about to be deleted and made again: from then on what was applied of it says
// nothing about what is there, so a way back makes it anew.
func (a *activeRun) deleted(p *placement, ref object.Ref) bool {
	if err := p.ledger.Commit(p.ctx, p.id, record.Doubt{Refs: []object.Ref{ref}}); err != nil {
		p.log.Error("baselines can't be written", "error", err)
		return false
	}
	p.post(func() {
		if p.run == a {
			a.of(ref).lost = true
		}
	})
	return true
}

// tryAnew tries out whether an object could be made if it were not there: under another name, as a dry run.
func (p *placement) tryAnew(ctx context.Context, o object.Object) error {
	o.Body = object.Clone(o.Body)
	meta, _ := o.Body["metadata"].(map[string]any)
	name := o.Ref.Name + "-vigila-try"
	if len(name) > 63 {
		name = name[len(name)-63:]
		name = "x" + name[1:]
	}
	if meta == nil || o.Ref.Kind == "CustomResourceDefinition" || o.Ref.Kind == "APIService" { // their names follow from what they say
		return nil
	}
	meta["name"], o.Ref.Name = name, name
	_, err := p.hands.Apply(ctx, o, true)
	if _, immutable := cluster.Immutable(err); immutable || err != nil && strings.Contains(err.Error(), "already allocated") {
		return nil // what the old one holds is free once it is gone
	}
	return err
}

// takenError tells that another ward, or another service, keeps an object.
type takenError struct{ text string }

func (e *takenError) Error() string { return e.text }

// outside tells whether a call failed for a reason that says nothing about the object.
func outside(err error) bool {
	var gone *cluster.UnreachableError
	var taken *takenError
	return err != nil && (errors.As(err, &gone) || errors.As(err, &taken) || cluster.Outside(err))
}

// unclaimed refuses to adopt an object that another Vigila keeps.
func (p *placement) unclaimed(ctx context.Context, o object.Object) error {
	live, err := p.cluster.conn.Get(ctx, o.Version, o.Ref)
	if errors.Is(err, cluster.ErrGone) || cluster.UnknownKind(err) {
		return nil
	}
	if err != nil {
		return err
	}
	return p.foreign(live)
}

func (p *placement) foreign(live map[string]any) error {
	id := object.Service(live)
	if id == "" || id == p.service || slices.Contains(p.ward.Keep.TakeOver, "vigila/"+id) {
		return nil
	}
	return &takenError{fmt.Sprintf("%s keeps it already, in its ward %s; remove it there, or write keep.take_over: [vigila/%s] to take it over", compare.AnotherService(id), object.Label(live, object.WardLabel), id)}
}

// mayReplace tells why an object may not be deleted and made again, and the way out; empty when it may.
func mayReplace(ref object.Ref, turn object.Turn, before compare.Baseline, allow []string) string {
	switch {
	case turn.NoReplace || before.GuardedBy(object.NoReplace):
		return fmt.Sprintf("it is guarded (%s: no-replace), so make it under a new name, or take the guard away first", object.GuardAnnotation)
	case !turn.Replace:
		return fmt.Sprintf("let it be deleted and made again (%s: when-immutable), make it under a new name, or undo the change", object.ReplaceAnnotation)
	case plan.Precious(ref) && !slices.Contains(allow, ref.Short()):
		return fmt.Sprintf("to delete it with what it holds, and make it again: --allow %s", ref.Short())
	}
	return ""
}

// again makes a call until it goes through or is refused, with growing pauses, as long as the run has time.
func (p *placement) again(a *activeRun, ref object.Ref, call func(context.Context) error) error {
	for wait := 200 * time.Millisecond; ; wait = min(wait*2, 5*time.Second) {
		ctx, cancel := a.until(a.ctx)
		err := call(ctx)
		cancel()
		_, defined := a.defined[[2]string{ref.Group, ref.Kind}]
		coming := defined && cluster.NotServed(err) // its definition is there, and the cluster takes it up a little later
		if err == nil || !cluster.Transient(err) && !coming || a.stopping.Err() != nil || time.Now().UnixNano() >= a.giveUp.Load() {
			return err
		}
		p.trying(a, ref, err)
		select {
		case <-a.stopping.Done():
			return err
		case <-time.After(wait):
		}
	}
}

// takeOver makes Vigila the owner of what earlier clients had applied of an object it has just adopted, and
// applies it once more, so that what they set and nobody declares is gone. answer is that of the first apply.
func (p *placement) takeOver(ctx context.Context, o object.Object, answer map[string]any, left []object.Pointer) (map[string]any, error) {
	ops, err := object.TakeOver(answer, object.Predecessors(answer, p.ward.Keep.TakeOver), left)
	if err != nil || len(ops) == 0 {
		return answer, err
	}
	if _, err := p.hands.Patch(ctx, o.Version, o.Ref, ops, false); err != nil {
		return answer, err
	}
	return p.hands.Apply(ctx, o, false)
}

// removeAdditions takes away what others added to an object, and nothing else.
func (p *placement) removeAdditions(ctx context.Context, version string, b compare.Baseline, left []object.Pointer) error {
	live, err := p.cluster.conn.Get(ctx, version, b.Ref)
	if errors.Is(err, cluster.ErrGone) {
		return nil
	}
	if err != nil {
		return err
	}
	detail, err := p.ledger.Detail(ctx, p.id, b.Ref)
	if err != nil {
		return fmt.Errorf("what is ours can't be read: %w", err)
	}
	var unwanted []object.Addition
	for _, x := range detail.Owned.Additions(live, detail.Found) {
		keep := false
		for _, l := range left {
			keep = keep || l.Covers(x.Path, object.In(live))
		}
		if !keep {
			unwanted = append(unwanted, x)
		}
	}
	ops := detail.Owned.Removal(live, unwanted)
	if len(ops) == 0 {
		return nil
	}
	if _, err = p.hands.Patch(ctx, version, b.Ref, ops, false); err != nil {
		return fmt.Errorf("what others added can't be removed: %w", err)
	}
	return nil
}

// complete makes the body to apply: what of it is left to others is decided leaf by leaf by object.Complete.
func (p *placement) complete(ctx context.Context, o object.Object, left []object.Pointer) (object.Object, error) {
	if len(left) == 0 {
		return o, nil
	}
	live, err := p.cluster.conn.Get(ctx, o.Version, o.Ref)
	if errors.Is(err, cluster.ErrGone) || cluster.UnknownKind(err) {
		return o, nil // a new object starts with the declared values
	}
	if err != nil {
		return o, err
	}
	o.Body = object.Complete(o.Body, live, left)
	return o, nil
}
