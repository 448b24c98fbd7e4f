package keeper

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/record"
)

// activeTask is a task of the run that goes on.
type activeTask struct {
	uid   string // of its object in this run; empty before it is made
	ended bool   // it has ended, and why and its log are being fetched or are known
}

// How much of a task's log an entry keeps, per Pod.
const (
	taskLogLines = 1000
	taskLogBytes = 256 << 10
)

// runTask makes the object of a task anew: what an earlier run left under its name is removed first, so that it
// runs every time, whatever it is named.
func (p *placement) runTask(a *activeRun, ref object.Ref) {
	o := a.of(ref).object.Object
	t := record.TaskObject{Ref: ref, Version: o.Version}
	p.write(record.PutTask{Task: t})
	p.tasks[ref] = t
	p.moved++
	p.watchKind(t.Watch())
	p.call(func() {
		var body map[string]any
		err := p.turn(a, func() (err error) {
			body, err = p.makeTask(a, o)
			return err
		})
		p.post(func() {
			if p.run != a {
				return
			}
			ev := run.Applied{At: time.Now(), Ref: ref}
			if err != nil {
				var gone *cluster.UnreachableError
				a.unreachable = a.unreachable || errors.As(err, &gone)
				ev.Err, ev.Untried, ev.Outside = err.Error(), errors.Is(err, errStopped), outside(err)
				p.feed(ev)
				return
			}
			t.UID = object.UID(body)
			a.of(ref).task.uid = t.UID
			a.of(ref).appliedAt = compare.ResourceVersion(body)
			p.tasks[ref] = t
			p.write(record.PutTask{Task: t})
			if p.index.Keeps(ref) { // it was kept before it became a task
				p.drop(ref)
			}
			l := p.index.Put(ref, index.Live{Present: true, Watched: true, UID: t.UID, Revision: a.of(ref).appliedAt, Health: health.Task(ref.Group, ref.Kind, body)})
			ev.Health = l.Health
			p.feed(ev)
			p.sawTask(ref, body, l)
			p.verifyTask(a, ref, o.Version)
		})
	})
}

// verifyTask reads a task once its object is made: it may have ended before its watch was up.
func (p *placement) verifyTask(a *activeRun, ref object.Ref, version string) {
	p.k.spawn(func() {
		if body, err := p.cluster.conn.Get(a.ctx, version, ref); err == nil {
			p.saw(ref, body, false)
		}
	})
}

func (p *placement) makeTask(a *activeRun, o object.Object) (map[string]any, error) {
	if w := p.other(a.ctx, o.Ref); w != "" {
		return nil, &takenError{fmt.Sprintf("ward %s keeps it already; one object can belong to one ward", w)}
	}
	var body map[string]any
	sent := false // what an earlier run left is gone, and the task was sent: what is there now is it, though no answer came
	err := p.again(a, o.Ref, func(ctx context.Context) error {
		live, err := p.cluster.conn.Get(ctx, o.Version, o.Ref)
		switch {
		case err == nil && sent && object.Label(live, object.WardLabel) == p.ward.Name:
			body = live
			return nil
		case err == nil:
			if mark := object.Label(live, object.WardLabel); mark != p.ward.Name {
				return fmt.Errorf("%s is in the cluster already and is not this ward's task (its label %s is %q); give the task another name", o.Ref, object.WardLabel, mark)
			}
			if err := p.hands.Remove(ctx, o.Version, o.Ref, object.UID(live)); err != nil {
				return err
			}
		case !errors.Is(err, cluster.ErrGone) && !cluster.UnknownKind(err):
			return err
		}
		sent = true
		body, err = p.hands.Apply(ctx, o, false)
		return err
	})
	return body, err
}

// sawTask takes the newest state of a task's object in. Its end is told to the run once the reason and the log are
// there.
func (p *placement) sawTask(ref object.Ref, body map[string]any, l *index.Live) {
	if p.run == nil {
		return
	}
	a := p.run
	t := a.of(ref).task
	if t == nil || t.uid == "" || t.uid != l.UID || t.ended {
		return // an object of an earlier run
	}
	l.Health = health.Task(ref.Group, ref.Kind, body)
	if p.index.Rules[[2]string{ref.Group, ref.Kind}] != nil {
		l.Health = p.index.Rules.Of(ref.Group, ref.Kind, body)
	}
	if l.Health.Word != health.Ready && !l.Health.Final {
		p.carry(p.index.LookBelow(ref, time.Second))
		if l.Revision >= a.of(ref).appliedAt {
			p.feed(run.Seen{At: time.Now(), Ref: ref, Health: l.State()})
		}
		return
	}
	t.ended = true
	ended := l.Health
	p.k.spawn(func() {
		text, cause := p.taskLog(a.ctx, ref, t.uid)
		p.post(func() {
			p.keepLog(a, ref, text)
			if p.run != a {
				return
			}
			if ended.Word != health.Ready && cause != "" {
				ended.Reason = cause
			}
			p.feed(run.Seen{At: time.Now(), Ref: ref, Health: ended})
		})
	})
}

func (p *placement) keepLog(a *activeRun, ref object.Ref, text string) {
	if text == "" {
		return
	}
	p.write(record.PutLog{Number: a.entry.Number, Ref: ref, Text: text})
	a.of(ref).logged = true
}

// taskLog reads the logs of a task's Pods, and what the failing one says.
func (p *placement) taskLog(ctx context.Context, ref object.Ref, uid string) (text, cause string) {
	var pods []map[string]any
	if ref.Kind == "Pod" && ref.Group == "" {
		if body, err := p.cluster.conn.Get(ctx, "v1", ref); err == nil {
			pods = append(pods, body)
		}
	} else if health.HasBelow(ref) {
		children, err := p.cluster.conn.Children(ctx, ref.Namespace)
		if err != nil {
			return "", ""
		}
		for _, o := range children.Below(uid) {
			if o.Ref.Kind == "Pod" {
				pods = append(pods, o.Body)
			}
		}
	}
	var b strings.Builder
	for _, pod := range pods {
		for _, c := range cluster.Containers(pod) {
			log, err := p.cluster.conn.Logs(ctx, ref.Namespace, c.Pod, c.Name, false, taskLogLines)
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
	return b.String(), cause
}

// endTasks removes the objects of tasks as they ask, and keeps the logs of those that never ended.
func (p *placement) endTasks(a *activeRun, outcome run.Outcome) {
	for _, o := range a.machine.Progress() {
		t := a.of(o.Ref).task
		if o.Task == object.NoTask || t == nil || t.uid == "" {
			continue
		}
		ref, uid := o.Ref, t.uid
		clean := a.of(ref).turn.Clean
		remove := clean == object.CleanAlways || clean != object.CleanNever && outcome == run.Done
		kept, version := p.tasks[ref], a.of(ref).object.Object.Version
		p.call(func() {
			ctx, cancel := context.WithTimeout(p.ctx, time.Minute)
			defer cancel()
			if !t.ended {
				if text, _ := p.taskLog(ctx, ref, uid); text != "" {
					p.post(func() { p.write(record.PutLog{Number: a.entry.Number, Ref: ref, Text: text}) })
				}
			}
			if remove {
				p.removeTask(ctx, kept, version)
			}
		})
	}
}

// removeTask removes the object of a task, and forgets it once it is gone.
func (p *placement) removeTask(ctx context.Context, t record.TaskObject, version string) {
	if t.UID == "" {
		live, err := p.cluster.conn.Get(ctx, version, t.Ref)
		if err == nil && object.Label(live, object.WardLabel) == p.ward.Name {
			t.UID = object.UID(live)
		}
	}
	if t.UID != "" {
		if err := p.hands.Remove(ctx, version, t.Ref, t.UID); err != nil {
			p.log.Warn("a task can't be removed; the next run does it", "task", t.Ref.String(), "error", err)
			return
		}
	}
	p.post(func() {
		if now, ok := p.tasks[t.Ref]; !ok || now.UID != t.UID && now.UID != "" || p.run != nil && p.run.of(t.Ref).task != nil {
			return // it has been made anew meanwhile
		}
		p.write(record.RemoveTask{Ref: t.Ref})
		delete(p.tasks, t.Ref)
		p.moved++
		p.index.Forget(t.Ref)
		p.dropKinds()
	})
}
