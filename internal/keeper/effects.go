package keeper

import (
	"context"
	"errors"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

// effect is something that is to be done because of an event, as a plain value. Its answer, where there is one, is an event.
type effect any

// Calls of a run. They are made once everything that was to be written down by then is.
type (
	applyObject struct {
		run   int
		order drive.Order
	}
	removeObject struct{ removal }
	makeTask     struct {
		run     int
		task    record.TaskObject
		object  object.Object
		defined bool
	}
	// seeTask reads a task once its object is made: it may have ended before its watch was up.
	seeTask struct {
		run     int
		ref     object.Ref
		version string
	}
	// fetchLog fetches the log of a task that has ended, and why it has.
	fetchLog struct {
		taskEnded taskEnded
		uid       string
	}
	// endTask keeps the log of a task that has not ended with its run, and removes its object.
	endTask struct {
		run         int
		task        record.TaskObject
		version     string
		uid         string
		log, remove bool
	}
)

// Looks, readings and words. None of them changes anything.
type (
	lookUp  struct{ index.Lookup }
	lookFor struct {
		ref     object.Ref
		version string
	}
	lookAtClaim struct{ index.LookAtClaim }
	lookBelow   struct{ index.LookBelow }
	read        struct {
		asOf standing.AsOf
		old  *declared.Declaration // what was declared before, which may be the same still
		told int64
	}
	watch   struct{ kind object.Kind }
	unwatch struct{ kind object.Kind }
	// later makes something happen to the ward after a while.
	later struct {
		wait  time.Duration
		event event
	}
	// commit writes a batch down.
	commit struct{ batch *batch }
	// happen makes something happen to the ward once all is written down.
	happen struct{ event event }
	note   struct{}
	// tellDependents wakes the wards that wait for this one.
	tellDependents struct{}
	// passOn gives a state of an object to the ward that it is marked with.
	passOn struct {
		to   *placement
		ref  object.Ref
		body map[string]any
	}
	// putBack tells everybody in the cluster that its data were put back; undefine that a definition is gone.
	putBack  struct{}
	undefine struct{ group string }
	// letGo lets others have an object, unless it is kept again by then.
	letGo struct{ ref object.Ref }
	// endTold is the end of a run, which the record has by now.
	endTold struct{ entry *logbook.Entry }
	// finish forgets the ward, whose removal is through.
	finish  struct{}
	nothing struct{}
)

// out notes something to be done, however the writes go; after what is to be done once everything that is to be written down by now is.
func (p *placement) out(e effect)   { p.outs = append(p.outs, e) }
func (p *placement) after(e effect) { p.now.then = append(p.now.then, e) }

// carryOut does what the ward wants done. It is called on its goroutine, and calls beside it.
func (p *placement) carryOut(e effect) {
	switch e := e.(type) {
	case applyObject:
		p.beside(e.run, func(d *drive.Drive) event { return applied{e.run, d.Apply(e.order)} })
	case removeObject:
		p.beside(e.run, func(d *drive.Drive) event {
			spared, err := d.Remove(e.b, e.other != "", func() (drive.Spared, error) { return p.spare(e.removal) })
			return removed{e.removal, spared, err}
		})
	case makeTask:
		p.beside(e.run, func(d *drive.Drive) event {
			body, err := d.Task(e.object, e.defined)
			return taskMade{e.run, e.task, body, err}
		})
	case seeTask:
		p.beside(e.run, func(d *drive.Drive) event {
			if body, err := d.See(e.version, e.ref); err == nil {
				p.saw(e.ref, body, false)
			}
			return nil
		})
	case fetchLog:
		p.beside(e.taskEnded.run, func(d *drive.Drive) event {
			ev := e.taskEnded
			ev.text, ev.cause = d.Log(ev.ref, e.uid)
			return ev
		})
	case endTask:
		p.k.spawn(func() { p.endTask(e) })
	case commit:
		p.commit(e.batch)
	case read:
		p.k.spawn(func() { p.post(p.read(e)) })
	case later:
		time.AfterFunc(e.wait, func() { p.post(e.event) })
	case happen:
		p.step(e.event)
	case finish:
		p.k.spawn(p.finish)
	case endTold:
		p.ending.CompareAndSwap(e.entry, nil)
	case note:
		p.k.broker.send(Note{"ward", p.id})
	case tellDependents:
		p.k.dependents(p)
	case nothing:
	default:
		p.reachOut(e)
	}
}

// reachOut does what concerns the cluster and who shares it.
func (p *placement) reachOut(e effect) {
	switch e := e.(type) {
	case lookUp:
		p.k.spawn(func() {
			body, err := p.cluster.conn.Get(p.ctx, e.Version, e.Ref)
			p.post(lookedUp{e.Ref, body, err})
		})
	case lookFor:
		p.k.spawn(func() {
			body, err := p.cluster.conn.Get(p.ctx, e.version, e.ref)
			p.post(lookedFor{e.ref, body, err})
		})
	case lookAtClaim:
		p.k.spawn(func() {
			bound, err := p.cluster.conn.BoundLater(p.ctx, e.Body)
			switch {
			case err != nil: // it is asked again: nothing else will tell
				time.AfterFunc(claimPause, func() { p.post(claimDue{e.LookAtClaim}) })
			case bound:
				p.post(claimLooked{e.LookAtClaim})
			}
		})
	case lookBelow:
		p.cluster.below.want(p.k.ctx, e.Ref.Namespace, e.After, func(children cluster.Children, err error) {
			ev := lookedBelow{of: e.LookBelow, well: err == nil}
			if err == nil {
				for _, o := range children.Below(e.UID) {
					if o.Ref.Kind == "Pod" {
						ev.pods = append(ev.pods, o.Body)
					}
				}
			}
			p.post(ev)
		})
	case watch:
		p.cluster.need(e.kind, p.id)
	case unwatch:
		p.cluster.release(e.kind, p.id)
	case passOn:
		e.to.saw(e.ref, e.body, false)
	case putBack:
		p.cluster.putBack()
	case undefine:
		p.cluster.each(func(other *placement) {
			if other != p {
				other.post(undefined{e.group})
			}
		})
	case letGo:
		if !p.index.Keeps(e.ref) { // it may have been made again meanwhile
			p.cluster.drop(e.ref, p)
		}
	}
}

// claimPause is how long it takes until a claim that could not be asked about is asked about again.
const claimPause = 2 * time.Second

// beside makes a call of a run beside the ward's goroutine; its answer is an event. A run that has ended makes none.
func (p *placement) beside(number int, call func(*drive.Drive) event) {
	a := p.runs(number)
	if a == nil {
		return
	}
	p.k.spawn(func() {
		if ev := call(a.drive); ev != nil {
			p.post(ev)
		}
	})
}

// calls are what its runs and previews go through.
func (p *placement) calls() *drive.Ward {
	return &drive.Ward{ID: p.id, Name: p.ward.Name, Cluster: p.cluster.conf.Name, Service: p.service, TakeOver: p.ward.Keep.TakeOver, Mask: p.mask,
		Live: p.cluster.conn, Hands: p.hands, Book: p.ledger, Turns: p.cluster.calls}
}

// hearsRun tells the ward what goes on in the calls of a run.
type hearsRun struct {
	p   *placement
	run int
}

func (h hearsRun) Trying(ref object.Ref, err error) { h.p.post(trying{h.run, ref, err}) }
func (h hearsRun) Lost(ref object.Ref)              { h.p.post(lost{h.run, ref}) }

// endTask keeps the log of a task that never ended, and removes its object.
func (p *placement) endTask(e endTask) {
	ctx, cancel := context.WithTimeout(p.ctx, time.Minute)
	defer cancel()
	calls := p.calls()
	if e.log {
		if text, _ := calls.TaskLog(ctx, e.task.Ref, e.uid); text != "" {
			p.post(taskLogged{e.run, e.task.Ref, text})
		}
	}
	if !e.remove {
		return
	}
	t, err := calls.EndTask(ctx, e.task, e.version)
	if err != nil {
		p.log.Warn("a task can't be removed; the next run does it", "task", t.Ref.String(), "error", err)
		return
	}
	p.post(taskRemoved{t})
}

// read reads what the ward declares, when its turn has come.
func (p *placement) read(e read) event {
	out := rendered{asOf: e.asOf, told: e.told}
	turn, err := p.k.renders.Take(p.ctx, p.id)
	if out.err = err; err == nil {
		out.declared, out.err = p.declare(p.ctx, p.ward.From.Ref, e.old, turn)
		turn()
	}
	return out
}

// finish forgets the ward.
func (p *placement) finish() {
	if err := p.k.finish(p); err != nil && p.ctx.Err() == nil {
		p.log.Error("the ward can't be removed", "error", err)
		time.AfterFunc(2*time.Second, func() { p.post(unfinished{}) })
	}
}

// lookAnswer is what a look by name has found.
func lookAnswer(body map[string]any, err error) index.Answer {
	a := index.Answer{Gone: errors.Is(err, cluster.ErrGone) || cluster.UnknownKind(err)}
	if err == nil {
		a.Body = body
	}
	return a
}
