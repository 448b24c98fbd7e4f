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
}

// Any tells whether somebody wants it.
func (s Spared) Any() bool { return s != Spared{} }

// Remove removes an object when its turn has come, unless somebody wants it by then: wanted is asked as late as can be. other tells
// that what is there is another than was applied.
func (d *Drive) Remove(b compare.Baseline, other bool, wanted func() (Spared, error)) (spared Spared, err error) {
	err = d.turn(func() (err error) {
		if spared, err = wanted(); err != nil || spared.Any() {
			return err
		}
		ctx, cancel := d.until(d.stopping)
		defer cancel()
		return d.remove(ctx, b, other)
	})
	return spared, err
}

// remove removes what the ward keeps. Of an object that a crash left in doubt, and of one that is another than was applied,
// only the ward's own is removed.
func (w *Ward) remove(ctx context.Context, b compare.Baseline, other bool) error {
	if b.UID == "" || other {
		live, err := w.Live.Get(ctx, b.Version, b.Ref)
		if errors.Is(err, cluster.ErrGone) || err == nil && object.Label(live, object.WardLabel) != w.Name {
			return nil
		}
		if err != nil {
			return err
		}
		if _, marked := object.Marked(live, w.Name); other && marked && object.Service(live) == w.Service {
			b.UID = object.UID(live)
		}
	}
	return w.Hands.Remove(ctx, b.Version, b.Ref, b.UID)
}
