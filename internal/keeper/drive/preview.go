package drive

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
)

// Tried is what an apply would do to one object.
type Tried struct {
	Change       string // create or update
	AlreadyThere bool   // it is in the cluster, and nobody's
	Fields       []compare.Difference
	Refused      string
	Replaced     bool // it would be deleted and made again
}

// Try is the dry run of an order. mine tells that the ward keeps the object already.
func (w *Ward) Try(ctx context.Context, order Order, mine bool) (out Tried, err error) {
	done, err := w.Turns.Take(ctx, "preview "+w.ID)
	if err != nil {
		return out, err
	}
	defer done()
	o := order.Object.Object
	out.Change = "update"
	other, err := w.other(ctx, o.Ref)
	if err != nil {
		return out, err
	}
	if other != "" {
		out.Refused = kept(other).Error()
		return out, nil
	}
	live, err := w.Live.Get(ctx, o.Version, o.Ref)
	switch {
	case silent(err):
		return out, err
	case errors.Is(err, cluster.ErrGone) || cluster.UnknownKind(err):
		live = nil
		out.Change = "create"
	case err != nil:
		out.Refused = err.Error()
		return out, nil
	default:
		out.AlreadyThere = !mine
		if err := w.foreign(live); err != nil && !mine {
			out.Refused = err.Error()
			return out, nil
		}
	}
	o, _, hide, err := w.fill(ctx, o, order.Before)
	if err != nil {
		out.Refused = err.Error()
		return out, nil
	}
	if live != nil {
		o.Body = object.Complete(o.Body, live, order.Left)
	}
	answer, err := w.Hands.Apply(ctx, o, true)
	fields, immutable := cluster.Immutable(err)
	noReplace := mayReplace(o.Ref, order.Turn, order.Before, order.Allow)
	switch {
	case silent(err):
		return out, err
	case err != nil && live == nil && cluster.Missing(err):
		answer = o.Body // its namespace or its definition comes with the same sync
	case immutable && noReplace == "":
		out.Replaced, answer = true, o.Body
	case immutable:
		out.Refused = fmt.Sprintf("%s can't be changed in place; %s", cmp.Or(fields, "what changed"), noReplace)
		return out, nil
	case err != nil:
		out.Refused = hide(err).Error()
		return out, nil
	}
	if out.AlreadyThere && !out.Replaced {
		if answer, err = w.tryTakeOver(ctx, o, live, answer, order.Left); err != nil {
			return out, err
		}
	}
	if out.Replaced { // only what is declared is known of the new object
		keys := object.Owned(live, nil)
		out.Fields = w.Mask.Differ(o.Ref, keys.Project(live), keys.Project(answer))
		return out, nil
	}
	out.Fields = compare.Preview(o.Ref, live, answer, w.Mask)
	for i := range out.Fields {
		if f := &out.Fields[i]; f.Path == lastApplied && f.From != nil {
			f.From = "what client-side applies noted; it is not needed any more"
		}
	}
	return out, nil
}

const lastApplied = "metadata.annotations[kubectl.kubernetes.io/last-applied-configuration]"

// tryTakeOver is what becomes of the answer to a dry run once the fields of the predecessors are Vigila's and those that
// are not declared are gone: the API server itself says which of them it would fill in again.
func (w *Ward) tryTakeOver(ctx context.Context, o object.Object, live, answer map[string]any, left []object.Pointer) (map[string]any, error) {
	from := object.Predecessors(live, w.TakeOver)
	if len(from) == 0 {
		return answer, nil
	}
	dropped := object.Dropped(live, from, object.Owned(answer, nil), left)
	ops := object.CutOperations(live, dropped)
	if len(ops) == 0 {
		return answer, nil
	}
	without, err := w.Hands.Patch(ctx, o.Version, o.Ref, ops, true)
	if silent(err) {
		return nil, err
	}
	if err != nil { // it would not be let through so; then all that is told is what would be taken away
		return object.Cut(answer, dropped), nil
	}
	return object.Refill(answer, without, dropped), nil
}
