package drive

import (
	"errors"
	"fmt"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
)

// unstickEvery is how often it is looked for Pods that keep a StatefulSet from going back.
const unstickEvery = time.Second

// Unstick deletes the Pods that keep a StatefulSet from going back, until it is back or the run has no more time: Kubernetes waits for
// a Pod of the failed revision to be ready before it replaces it. Their volumes stay.
func (d *Drive) Unstick(version string, ref object.Ref) {
	tick := time.NewTicker(unstickEvery)
	defer tick.Stop()
	for !d.Over() {
		if d.unstick(version, ref) {
			return
		}
		select {
		case <-d.stopping.Done():
			return
		case <-tick.C:
		}
	}
}

func (d *Drive) unstick(version string, ref object.Ref) (done bool) {
	ctx, cancel := d.until(d.stopping)
	defer cancel()
	set, err := d.Live.Get(ctx, version, ref)
	if errors.Is(err, cluster.ErrGone) {
		return true
	}
	if err != nil {
		return false // it is asked again
	}
	children, err := d.Live.Children(ctx, ref.Namespace)
	if err != nil {
		return false
	}
	var pods []map[string]any
	for _, o := range children.Below(object.UID(set)) {
		if o.Ref.Kind == "Pod" {
			pods = append(pods, o.Body)
		}
	}
	stuck, settled := health.Stuck(set, pods)
	for _, p := range stuck {
		o, err := object.FromBody(p)
		if err != nil {
			continue
		}
		if err := d.Hands.Remove(ctx, "v1", o.Ref, object.UID(p)); err != nil && !errors.Is(err, cluster.ErrGone) {
			d.hears.Trying(ref, fmt.Errorf("%s, of the revision that it goes back from, is not ready and keeps it from going back; it can't be deleted: %w", o.Ref.Short(), err))
		}
	}
	return settled
}
