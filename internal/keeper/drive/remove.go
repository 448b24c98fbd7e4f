package drive

import (
	"context"
	"errors"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
)

// Spared is who wants an object that a run was about to remove.
type Spared struct {
	Heir   string // the ward that it is handed over to
	Again  string // the newer revision of its ward that declares it again
	Theirs string // the service that has taken it over
	// Marked is how it was found where it bears another ward's mark, as in data of the cluster that were put back: that one's it is.
	Marked map[string]any
}

// Any tells whether somebody wants it.
func (s Spared) Any() bool { return s.Heir != "" || s.Again != "" || s.Theirs != "" }

// Remove removes an object when its turn has come, unless somebody wants it by then: wanted is asked as late as can be. other tells
// that what is there is another than was applied.
func (d *Drive) Remove(b compare.Baseline, other bool, wanted func() (Spared, error)) (spared Spared, err error) {
	err = d.turn(func() (err error) {
		if spared, err = wanted(); err != nil || spared.Any() {
			return err
		}
		ctx, cancel := d.until(d.stopping)
		defer cancel()
		if b.UID == "" || other {
			marked, gone, err := d.look(ctx, &b, other)
			if err != nil || gone || marked != nil {
				spared.Marked = marked
				return err
			}
			if spared, err = wanted(); err != nil || spared.Any() { // the look has taken its time
				return err
			}
		}
		return d.Hands.Remove(ctx, b.Version, b.Ref, b.UID)
	})
	return spared, err
}

// look looks at what is to be removed where it is in doubt what is there, or another than was applied: only the ward's own is. gone tells that
// there is nothing of it; marked is what bears the mark of another.
func (w *Ward) look(ctx context.Context, b *compare.Baseline, other bool) (marked map[string]any, gone bool, err error) {
	live, err := w.Live.Get(ctx, b.Version, b.Ref)
	switch {
	case errors.Is(err, cluster.ErrGone):
		return nil, true, nil
	case err != nil:
		return nil, false, err
	case object.Label(live, object.WardLabel) == "":
		return nil, true, nil
	case object.Label(live, object.WardLabel) != w.Name:
		return live, false, nil
	}
	if _, marked := object.Marked(live, w.Name); other && marked && object.Service(live) == w.Service {
		b.UID = object.UID(live)
	}
	return nil, false, nil
}
