package loop

import (
	"time"

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

// tasks are the objects of tasks that are, or may be, in the cluster.
type tasks struct {
	all   map[object.Ref]record.TaskObject
	moves uint64 // grows with every change
}

func (t *tasks) put(o record.TaskObject) {
	if t.all == nil {
		t.all = map[object.Ref]record.TaskObject{}
	}
	t.all[o.Ref] = o
	t.moves++
}

func (t *tasks) drop(ref object.Ref) {
	delete(t.all, ref)
	t.moves++
}

// runTask has the object of a task made anew.
func (p *Placement) runTask(a *activeRun, ref object.Ref) {
	o := a.of(ref).object.Object
	t := record.TaskObject{Ref: ref, Version: o.Version}
	p.write(record.PutTask{Task: t})
	p.tasks.put(t)
	p.watchKind(t.Watch())
	p.after(MakeTask{a.entry.Number, t, o, a.defines(ref)})
}

// tookTask takes in that a task's object is made, or why not.
func (p *Placement) tookTask(a *activeRun, made TaskMade) {
	t, x := made.Task, a.of(made.Task.Ref)
	ev := run.Applied{At: p.at, Ref: t.Ref}
	if f := made.Failed; f != nil {
		a.unreachable = a.unreachable || f.Silent
		ev.Err, ev.Untried, ev.Outside = f.Text, f.Stopped, f.Outside
		p.feed(ev)
		return
	}
	t.UID = object.UID(made.Body)
	x.task.uid = t.UID
	x.appliedAt = compare.ResourceVersion(made.Body)
	p.tasks.put(t)
	p.write(record.PutTask{Task: t})
	if p.index.Keeps(t.Ref) { // it was kept before it became a task
		p.drop(t.Ref)
	}
	l := p.index.Put(t.Ref, index.Live{Present: true, Watched: true, UID: t.UID, Revision: x.appliedAt, Health: health.Task(t.Ref.Group, t.Ref.Kind, made.Body)})
	ev.Health = l.Health
	p.feed(ev)
	p.sawTask(t.Ref, made.Body, l)
	p.out(SeeTask{made.Run, t.Ref, t.Version})
}

// sawTask takes the newest state of a task's object in. Its end is told to the run once the reason and the log are
// there.
func (p *Placement) sawTask(ref object.Ref, body map[string]any, l *index.Live) {
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
			p.feed(run.Seen{At: p.at, Ref: ref, Health: l.State()})
		}
		return
	}
	t.ended = true
	p.out(FetchLog{a.entry.Number, ref, t.uid, l.Health})
}

// tookTaskEnd takes in why a task has ended, and its log.
func (p *Placement) tookTaskEnd(ev TaskEnded) {
	p.keepLog(ev.Run, ev.Ref, ev.Text)
	if p.runs(ev.Run) == nil {
		return
	}
	if ev.Health.Word != health.Ready && ev.Cause != "" {
		ev.Health.Reason = ev.Cause
	}
	p.feed(run.Seen{At: p.at, Ref: ev.Ref, Health: ev.Health})
}

// keepLog keeps the log of a task with the entry of its run.
func (p *Placement) keepLog(number int, ref object.Ref, text string) {
	if text == "" {
		return
	}
	p.write(record.PutLog{Number: number, Ref: ref, Text: text})
	if a := p.runs(number); a != nil {
		a.of(ref).logged = true
	}
}

// endTasks removes the objects of tasks as they ask, and keeps the logs of those that never ended.
func (p *Placement) endTasks(a *activeRun, outcome run.Outcome) {
	for _, o := range a.machine.Progress() {
		x := a.of(o.Ref)
		if o.Task == object.NoTask || x.task == nil || x.task.uid == "" {
			continue
		}
		clean := x.turn.Clean
		p.after(EndTask{Run: a.entry.Number, Task: p.tasks.all[o.Ref], Version: x.object.Object.Version, UID: x.task.uid, Log: !x.task.ended,
			Remove: clean == object.CleanAlways || clean != object.CleanNever && outcome == run.Done})
	}
}

// tookTaskGone takes in that the object of a task is gone.
func (p *Placement) tookTaskGone(t record.TaskObject) {
	if now, ok := p.tasks.all[t.Ref]; !ok || now.UID != t.UID && now.UID != "" || p.run != nil && p.run.of(t.Ref).task != nil {
		return // it has been made anew meanwhile
	}
	p.write(record.RemoveTask{Ref: t.Ref})
	p.tasks.drop(t.Ref)
	p.index.Forget(t.Ref)
	p.dropKinds()
}
