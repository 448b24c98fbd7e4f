package drive

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/record"
)

// How much of a task's log an entry keeps, per Pod.
const (
	taskLogLines = 1000
	taskLogBytes = 256 << 10
)

// Task makes the object of a task anew when its turn has come: what an earlier run left under its name is removed first, so that it
// runs every time, whatever it is named.
func (d *Drive) Task(o object.Object, defined bool) (body map[string]any, err error) {
	err = d.turn(func() error {
		other, err := d.other(d.ctx, o.Ref)
		if err != nil {
			return err
		}
		if other != "" {
			return kept(other)
		}
		hide := func(err error) error { return err }
		if err := d.again(o.Ref, false, func(ctx context.Context) (err error) {
			o, _, hide, err = d.fill(ctx, o, compare.Baseline{})
			return err
		}); err != nil {
			return err
		}
		sent := false // what an earlier run left is gone, and the task was sent: what is there now is it, though no answer came
		return d.again(o.Ref, defined, func(ctx context.Context) error {
			live, err := d.Live.Get(ctx, o.Version, o.Ref)
			switch {
			case err == nil && sent && object.Label(live, object.WardLabel) == d.Name:
				body = live
				return nil
			case err == nil:
				if mark := object.Label(live, object.WardLabel); mark != d.Name {
					return fmt.Errorf("%s is in the cluster already and is not this ward's task (its label %s is %q); give the task another name", o.Ref, object.WardLabel, mark)
				}
				if err := d.Hands.Remove(ctx, o.Version, o.Ref, object.UID(live)); err != nil {
					return err
				}
			case !errors.Is(err, cluster.ErrGone) && !cluster.UnknownKind(err):
				return err
			}
			sent = true
			body, err = d.Hands.Apply(ctx, o, false)
			return hide(err)
		})
	})
	return body, err
}

// See reads an object of the run by name.
func (d *Drive) See(version string, ref object.Ref) (map[string]any, error) {
	return d.Live.Get(d.ctx, version, ref)
}

// Log reads the logs of a task of the run, as TaskLog does.
func (d *Drive) Log(ref object.Ref, uid string) (text, cause string) {
	return d.TaskLog(d.ctx, ref, uid)
}

// TaskPods are the Pods of a task's object, as they are now.
func (w *Ward) TaskPods(ctx context.Context, ref object.Ref, uid string) (pods []map[string]any, err error) {
	if ref.Kind == "Pod" && ref.Group == "" {
		body, err := w.Live.Get(ctx, "v1", ref)
		if err != nil {
			return nil, err
		}
		return []map[string]any{body}, nil
	}
	if !health.HasBelow(ref) {
		return nil, nil
	}
	children, err := w.Live.Children(ctx, ref.Namespace)
	if err != nil {
		return nil, err
	}
	for _, o := range children.Below(uid) {
		if o.Ref.Kind == "Pod" {
			pods = append(pods, o.Body)
		}
	}
	return pods, nil
}

// TaskLog reads the logs of a task's Pods, and what the failing one says.
func (w *Ward) TaskLog(ctx context.Context, ref object.Ref, uid string) (text, cause string) {
	pods, err := w.TaskPods(ctx, ref, uid)
	if err != nil {
		return "", ""
	}
	var b strings.Builder
	for _, pod := range pods {
		for _, c := range cluster.Containers(pod) {
			log, err := w.Live.Logs(ctx, ref.Namespace, c.Pod, c.Name, false, taskLogLines)
			if err != nil {
				log = "(its log can't be read: " + err.Error() + ")\n"
			}
			if len(log) > taskLogBytes {
				log = fmt.Sprintf("(%d bytes before this are left out)\n", len(log)-taskLogBytes) + log[len(log)-taskLogBytes:]
			}
			if len(pods) > 1 || c.Several {
				fmt.Fprintf(&b, "── %s, container %s\n", c.Pod, c.Name)
			}
			b.WriteString(log)
		}
	}
	if r, bad := health.Cause(pods); bad {
		cause = r.Reason
	}
	return secret.Conceal("", b.String(), w.Mask), secret.Conceal("", cause, w.Mask)
}

// EndTask removes the object of a task; one whose UID was never told is looked for first, and is only removed when it is the ward's.
func (w *Ward) EndTask(ctx context.Context, t record.TaskObject, version string) (record.TaskObject, error) {
	if t.UID == "" {
		live, err := w.Live.Get(ctx, version, t.Ref)
		if err == nil && object.Label(live, object.WardLabel) == w.Name {
			t.UID = object.UID(live)
		}
	}
	if t.UID == "" {
		return t, nil
	}
	return t, w.Hands.Remove(ctx, version, t.Ref, t.UID)
}
