package drive

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/record"
)

// Apply applies an object when its turn has come, and makes of the answer what is to be kept of it.
func (d *Drive) Apply(o Order) Applied {
	out := Applied{Ref: o.Object.Object.Ref}
	if out.Failed = Failed(d.turn(func() error { return d.apply(o, &out) })); out.Failed == nil {
		d.conclude(o, &out)
	}
	return out
}

// conclude makes the baseline of an answer.
func (d *Drive) conclude(o Order, out *Applied) {
	hash := secret.Mark(o.Object.Hash, out.digest)
	if o.Scaled {
		hash = declared.ScaledMark + hash
	}
	var found *fieldpath.Set // nil: what is there now was there at the first apply
	if o.Before.UID != "" && !out.Replaced {
		if found = o.Found; found == nil {
			found = &fieldpath.Set{}
		}
	}
	out.Baseline = compare.NewBaseline(out.Ref, hash, out.sent, out.Body, o.Left, d.Mask, found, time.Now())
	out.Baseline.Snapshot = cmp.Or(d.snapshot, o.Before.Snapshot)
	if o.Passing {
		out.Baseline.Snapshot = o.Before.Snapshot
		return
	}
	out.Baseline.Intent = d.entry // until the run has ended: after a crash it is applied again and waited for
}

// apply applies an object, again and again while the cluster does not answer or is busy, until the run's time is
// over or it is stopped.
func (d *Drive) apply(o Order, out *Applied) error {
	ref := out.Ref
	if o.Refused != "" {
		return kept(o.Refused)
	}
	if err := d.again(ref, false, func(ctx context.Context) (err error) {
		o.Object.Object, out.digest, o.hide, err = d.fill(ctx, o.Object.Object, o.Before)
		return err
	}); err != nil {
		return err
	}
	return d.applyFilled(o, out)
}

// applyFilled applies an object that has its secret values.
func (d *Drive) applyFilled(o Order, out *Applied) error {
	ref := out.Ref
	err := d.again(ref, o.Defined, func(ctx context.Context) error { return o.hide(d.inPlace(ctx, o, out)) })
	fields, immutable := cluster.Immutable(err)
	if !immutable {
		return err
	}
	if no := mayReplace(ref, o.Turn, o.Before, o.Allow); no != "" {
		return fmt.Errorf("%s can't be changed in place; %s", cmp.Or(fields, "what changed"), no)
	}
	// What would be refused as a new object is refused before anything is deleted.
	if err := d.again(ref, o.Defined, func(ctx context.Context) error { return o.hide(d.tryAnew(ctx, o.Object.Object)) }); err != nil {
		return fmt.Errorf("it would have to be deleted and made again, and the new one would be refused, so it is left as it is: %w", err)
	}
	return d.anew(o, out)
}

// inPlace applies an object to what is there of it.
func (d *Drive) inPlace(ctx context.Context, o Order, out *Applied) error {
	body, err := d.complete(ctx, o.Object.Object, o.Left)
	if err != nil {
		return err
	}
	out.sent = body.Body
	if o.Before.UID == "" {
		if err := d.unclaimed(ctx, o.Object.Object, o.Passing); err != nil {
			return err
		}
	}
	if o.Added {
		if err := d.removeAdditions(ctx, body.Version, o.Before, o.Left); err != nil {
			return err
		}
	}
	if out.Body, err = d.Hands.Apply(ctx, body, false); err == nil && o.Before.UID == "" {
		out.Body, err = d.takeOver(ctx, body, out.Body, o.Left)
	}
	return err
}

// anew deletes an object and makes it again. That it is about to be deleted is written down: from then on what was applied of it
// says nothing about what is there, so a way back makes it anew.
func (d *Drive) anew(o Order, out *Applied) error {
	anew, deleted := o.Object.Object, false
	err := d.again(out.Ref, o.Defined, func(ctx context.Context) error {
		live, err := d.Live.Get(ctx, anew.Version, out.Ref)
		if err == nil && !deleted {
			anew.Body = object.Carry(o.Object.Object.Body, live, o.Left)
			if err := d.Book.Commit(d.ctx, d.ID, record.Doubt{Refs: []object.Ref{out.Ref}}); err != nil {
				return fmt.Errorf("that %s is about to be deleted can't be written down: %w", out.Ref, err)
			}
			d.hears.Lost(out.Ref)
			err = d.Hands.Remove(ctx, anew.Version, out.Ref, object.UID(live))
		}
		if err != nil && !errors.Is(err, cluster.ErrGone) {
			return err
		}
		deleted = true
		out.sent = anew.Body
		out.Body, err = d.Hands.Apply(ctx, anew, false)
		return o.hide(err)
	})
	out.Replaced = err == nil
	return err
}

// tryAnew tries out whether an object could be made if it were not there: under another name, as a dry run.
func (w *Ward) tryAnew(ctx context.Context, o object.Object) error {
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
	_, err := w.Hands.Apply(ctx, o, true)
	if _, immutable := cluster.Immutable(err); immutable || err != nil && strings.Contains(err.Error(), "already allocated") {
		return nil // what the old one holds is free once it is gone
	}
	return err
}

// takeOver makes Vigila the owner of what earlier clients had applied of an object it has just adopted, and
// applies it once more, so that what they set and nobody declares is gone. answer is that of the first apply.
func (w *Ward) takeOver(ctx context.Context, o object.Object, answer map[string]any, left []object.Pointer) (map[string]any, error) {
	ops, err := object.TakeOver(answer, object.Predecessors(answer, w.TakeOver), left)
	if err != nil || len(ops) == 0 {
		return answer, err
	}
	if _, err := w.Hands.Patch(ctx, o.Version, o.Ref, ops, false); err != nil {
		return answer, err
	}
	return w.Hands.Apply(ctx, o, false)
}

// removeAdditions takes away what others added to an object, and nothing else.
func (w *Ward) removeAdditions(ctx context.Context, version string, b compare.Baseline, left []object.Pointer) error {
	live, err := w.Live.Get(ctx, version, b.Ref)
	if errors.Is(err, cluster.ErrGone) {
		return nil
	}
	if err != nil {
		return err
	}
	detail, err := w.Book.Detail(ctx, w.ID, b.Ref)
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
	if _, err = w.Hands.Patch(ctx, version, b.Ref, ops, false); err != nil {
		return fmt.Errorf("what others added can't be removed: %w", err)
	}
	return nil
}

// complete makes the body to apply: what of it is left to others is decided leaf by leaf by object.Complete.
func (w *Ward) complete(ctx context.Context, o object.Object, left []object.Pointer) (object.Object, error) {
	if len(left) == 0 {
		return o, nil
	}
	live, err := w.Live.Get(ctx, o.Version, o.Ref)
	if errors.Is(err, cluster.ErrGone) || cluster.UnknownKind(err) {
		return o, nil // a new object starts with the declared values
	}
	if err != nil {
		return o, err
	}
	o.Body = object.Complete(o.Body, live, left)
	return o, nil
}
