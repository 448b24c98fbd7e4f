package keeper

import (
	"context"
	"errors"
	"sync"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/record"
)

// run is the ward's goroutine: what waits is taken in, and what follows is done.
func (p *placement) run() {
	defer close(p.ended)
	defer p.lastWrites()
	defer func() { p.k.driving.Add(-int64(len(p.drives))) }()
	p.timer = time.NewTimer(time.Hour)
	defer p.timer.Stop()
	for {
		var events []loop.Event
		select {
		case <-p.ctx.Done():
			return
		case <-p.wake:
		case <-p.timer.C:
			events = append(events, loop.Ticked{})
		}
		for _, ev := range append(events, p.take()...) {
			if p.ctx.Err() != nil {
				return
			}
			p.Step(time.Now(), p.open(ev))
		}
		p.timer.Reset(p.Settle(time.Now(), p.depth() > 0))
		p.doReady()
	}
}

// doReady does what is to be done now. Some of it changes the ward at once, so more may be ready then.
func (p *placement) doReady() {
	for all := p.Ready(); len(all) > 0; all = p.Ready() {
		for _, e := range all {
			p.carryOut(e)
		}
	}
}

// carryOut does something that the ward wants done. It is called on the ward's goroutine, and calls beside it.
func (p *placement) carryOut(e loop.Effect) {
	switch e := e.(type) {
	case loop.StartDrive:
		d := p.calls().New(p.ctx, p.k.opts.Parallel, e.Run, e.Snapshot, hearsRun{p, e.Run})
		d.Begin(e.Within)
		p.drives[e.Run] = d
		p.k.driving.Add(1)
	case loop.Deadline:
		p.drives[e.Run].Until(e.At)
	case loop.StopDrive:
		p.drives[e.Run].Stop()
	case loop.EndDrive:
		p.drives[e.Run].End()
		delete(p.drives, e.Run)
		p.k.driving.Add(-1)
	case loop.ApplyObject:
		p.beside(e.Run, func(d *drive.Drive) loop.Event { return loop.Applied{Run: e.Run, Applied: d.Apply(e.Order)} })
	case loop.RemoveObject:
		p.beside(e.Run, func(d *drive.Drive) loop.Event {
			spared, err := d.Remove(e.Baseline, e.Other != "", func() (drive.Spared, error) { return p.spare(e.Removal) })
			ev := loop.Removed{Removal: e.Removal, Spared: spared}
			if ev.Unread = errors.Is(err, loop.ErrUnread); !ev.Unread {
				ev.Failed = drive.Failed(err)
			}
			return ev
		})
	case loop.MakeTask:
		p.beside(e.Run, func(d *drive.Drive) loop.Event {
			body, err := d.Task(e.Object, e.Defined)
			return loop.TaskMade{Run: e.Run, Task: e.Task, Body: body, Failed: drive.Failed(err)}
		})
	case loop.SeeTask:
		p.beside(e.Run, func(d *drive.Drive) loop.Event {
			if body, err := d.See(e.Version, e.Ref); err == nil {
				p.saw(e.Ref, body, false)
			}
			return nil
		})
	case loop.FetchLog:
		p.beside(e.Run, func(d *drive.Drive) loop.Event {
			ev := loop.TaskEnded{Run: e.Run, Ref: e.Ref, Health: e.Health}
			ev.Text, ev.Cause = d.Log(e.Ref, e.UID)
			return ev
		})
	case loop.EndTask:
		p.k.spawn(func() { p.endTask(e) })
	case loop.Commit:
		p.commit(e.Writes)
	case loop.Answer:
		p.waiters.answer(e)
	case loop.Read:
		p.k.spawn(func() { p.post(p.read(e)) })
	case loop.Later:
		time.AfterFunc(e.Wait, func() { p.post(e.Event) })
	default:
		p.reachOut(e)
	}
}

// reachOut does what concerns the cluster, and who listens.
func (p *placement) reachOut(e loop.Effect) {
	switch e := e.(type) {
	case loop.LookUp:
		p.k.spawn(func() {
			body, err := p.cluster.conn.Get(p.ctx, e.Version, e.Ref)
			p.post(loop.LookedUp{Ref: e.Ref, Answer: lookAnswer(body, err)})
		})
	case loop.LookFor:
		p.k.spawn(func() {
			body, err := p.cluster.conn.Get(p.ctx, e.Version, e.Ref)
			p.post(loop.LookedFor{Ref: e.Ref, Answer: lookAnswer(body, err)})
		})
	case loop.LookAtClaim:
		p.k.spawn(func() {
			bound, err := p.cluster.conn.BoundLater(p.ctx, e.Body)
			switch {
			case err != nil: // it is asked again: nothing else will tell
				time.AfterFunc(claimPause, func() { p.post(loop.ClaimDue{Claim: e.LookAtClaim}) })
			case bound:
				p.post(loop.ClaimLooked{Claim: e.LookAtClaim})
			}
		})
	case loop.LookBelow:
		p.cluster.below.want(p.k.ctx, e.Ref.Namespace, e.After, func(children cluster.Children, err error) {
			ev := loop.LookedBelow{Of: e.LookBelow, Well: err == nil}
			if err == nil {
				for _, o := range children.Below(e.UID) {
					if o.Ref.Kind == "Pod" {
						ev.Pods = append(ev.Pods, o.Body)
					}
				}
			}
			p.post(ev)
		})
	case loop.LookBeside:
		p.lookBeside(e)
	case loop.AskCheck:
		p.askCheck(e)
	case loop.Unstick:
		p.beside(e.Run, func(d *drive.Drive) loop.Event { d.Unstick(e.Version, e.Ref); return nil })
	case loop.Use:
		if p.k.up != nil {
			p.k.up.use(p.ID, e.Places)
		} else {
			p.k.use(p.ID, e.Places)
		}
	case loop.Watch:
		p.cluster.need(e.Kind, p.ID)
	case loop.Unwatch:
		p.cluster.release(e.Kind, p.ID)
	case loop.PassOn:
		if other := p.cluster.marked(e.Body); other != nil && other != p {
			other.saw(e.Ref, e.Body, false)
		}
	case loop.PutBack:
		p.cluster.putBack()
	case loop.Undefine:
		p.cluster.each(func(other *placement) {
			if other != p {
				other.post(loop.Undefined(e))
			}
		})
	case loop.Note:
		p.k.broker.send(Note{"ward", p.ID})
	case loop.TellDependents:
		p.k.dependents(p)
	case loop.CountRun:
		p.k.metrics.ran(e.Kind, e.Outcome)
	case loop.Finish:
		p.k.spawn(p.finish)
	}
}

// claimPause is how long it takes until a claim that could not be asked about is asked about again.
const claimPause = 2 * time.Second

// beside makes a call of a run beside the ward's goroutine; its answer is an event. A run that has ended makes none.
func (p *placement) beside(number int, call func(*drive.Drive) loop.Event) {
	d := p.drives[number]
	if d == nil {
		return
	}
	p.k.spawn(func() {
		if ev := call(d); ev != nil {
			p.post(ev)
		}
	})
}

// calls are what its runs and previews go through.
func (p *placement) calls() *drive.Ward {
	return &drive.Ward{ID: p.ID, Name: p.Ward.Name, Cluster: p.cluster.conf.Name, Service: p.Service, TakeOver: p.Ward.Keep.TakeOver, Mask: p.Mask,
		Live: p.cluster.conn, Hands: p.hands, Book: p.k.ledger, Turns: p.cluster.calls, Secrets: filler{p}}
}

// hearsRun tells the ward what goes on in the calls of a run.
type hearsRun struct {
	p   *placement
	run int
}

func (h hearsRun) Trying(ref object.Ref, err error) {
	h.p.post(loop.Trying{Run: h.run, Ref: ref, Text: err.Error()})
}
func (h hearsRun) Lost(ref object.Ref) { h.p.post(loop.Lost{Run: h.run, Ref: ref}) }

// endTask keeps the log of a task that never ended, and removes its object.
func (p *placement) endTask(e loop.EndTask) {
	ctx, cancel := context.WithTimeout(p.ctx, time.Minute)
	defer cancel()
	calls := p.calls()
	if e.Log {
		if text, _ := calls.TaskLog(ctx, e.Task.Ref, e.UID); text != "" {
			p.post(loop.TaskLogged{Run: e.Run, Ref: e.Task.Ref, Text: text})
		}
	}
	if !e.Remove {
		return
	}
	t, err := calls.EndTask(ctx, e.Task, e.Version)
	if err != nil {
		p.Log.Warn("a task can't be removed; the next run does it", "task", t.Ref.String(), "error", err)
		return
	}
	p.post(loop.TaskRemoved{Task: t})
}

// read reads what the ward declares, when its turn has come.
func (p *placement) read(e loop.Read) loop.Event {
	out := loop.Rendered{AsOf: e.AsOf, Told: e.Told}
	if p.k.up != nil {
		out.Declared, out.Failed = toldBy{p}.Read(p.ctx, e.AsOf, e.Old)
		return out
	}
	turn, err := p.k.renders.Take(p.ctx, p.ID)
	if err == nil {
		out.Declared, err = p.reading.Read(p.ctx, p.Ward.From.Ref, e.Old, turn)
		turn()
	}
	if err == nil {
		return out
	}
	var gone *cluster.UnreachableError
	var beyond *reading.BeyondLimits
	out.Failed = &loop.Unreadable{Text: err.Error(), HeldBack: errors.As(err, &beyond), Unchecked: errors.As(err, &gone)}
	return out
}

// finish forgets the ward.
func (p *placement) finish() {
	end := func() error { return p.k.finish(p) }
	if p.k.up != nil {
		end = func() error { return p.k.up.finished(p.ID) }
	}
	err := end()
	if err != nil && p.ctx.Err() == nil && !errors.Is(err, errAlone) { // that is told already, and goes on for as long as it takes
		p.Log.Error("the ward can't be removed", "error", err)
	}
	if err != nil || p.k.up != nil { // a service that was told may not come through with it: it is told until it lets go of the ward
		time.AfterFunc(finishAgain, func() { p.post(loop.Unfinished{}) })
	}
}

// finishAgain is how long it takes until the end of a removal is tried, or told, again.
const finishAgain = 2 * time.Second

// lookAnswer is what a look by name has found.
func lookAnswer(body map[string]any, err error) index.Answer {
	a := index.Answer{Gone: errors.Is(err, cluster.ErrGone) || cluster.UnknownKind(err)}
	if err == nil {
		a.Body = body
	}
	return a
}

// flight is a transaction that is on its way.
type flight struct {
	done chan struct{}
	err  error // to be read after done
}

func (p *placement) commit(writes []record.Write) {
	f := &flight{done: make(chan struct{})}
	p.flying = f
	p.k.spawn(func() {
		f.err = p.k.ledger.Commit(context.WithoutCancel(p.ctx), p.ID, writes...)
		if p.k.up != nil {
			rouse(p.k.up.wrote)
		}
		close(f.done)
		p.post(loop.Written{Problem: f.err})
	})
}

// lastWrites writes down what is left when the ward's goroutine ends.
func (p *placement) lastWrites() {
	failed := false
	if p.flying != nil {
		<-p.flying.done
		failed = p.flying.err != nil
	}
	writes := p.Unwrote(failed)
	if len(writes) == 0 {
		return
	}
	if err := p.k.ledger.Commit(context.WithoutCancel(p.ctx), p.ID, writes...); err != nil {
		p.Log.Error("what was done last can't be written down", "error", err)
	}
}

// waiters are those who wait for an answer.
type waiters struct {
	mu   sync.Mutex
	last loop.Ticket
	all  map[loop.Ticket]chan loop.Answer
}

func (w *waiters) ticket() (loop.Ticket, <-chan loop.Answer) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all == nil {
		w.all = map[loop.Ticket]chan loop.Answer{}
	}
	w.last++
	c := make(chan loop.Answer, 1)
	w.all[w.last] = c
	return w.last, c
}

func (w *waiters) answer(a loop.Answer) {
	w.mu.Lock()
	c := w.all[a.Ticket]
	delete(w.all, a.Ticket)
	w.mu.Unlock()
	if c != nil {
		c <- a
	}
}

// await hands an event over that is answered, and waits for that.
func (p *placement) await(ctx context.Context, event func(loop.Ticket) loop.Event) (loop.Answer, error) {
	t, c := p.waiters.ticket()
	p.post(event(t))
	select {
	case a := <-c:
		return a, a.Err
	case <-ctx.Done():
		p.waiters.answer(loop.Answer{Ticket: t}) // nobody waits for it any more
		return loop.Answer{}, ctx.Err()
	case <-p.ended:
		return loop.Answer{}, fault(NotFound, "ward %s is not kept any more", p.ID)
	}
}

// ask asks the ward something, on its goroutine; what that changes is written down before the answer.
func (p *placement) ask(ctx context.Context, f func() error) error {
	_, err := p.await(ctx, func(t loop.Ticket) loop.Event { return loop.Question{Ticket: t, Ask: f} })
	return err
}

// want has a wish granted, and waits until what it changes is written down. The number is that of a run's entry, where one began.
func (p *placement) want(ctx context.Context, w loop.Wish) (number int, err error) {
	a, err := p.await(ctx, func(t loop.Ticket) loop.Event { return loop.Wished{Ticket: t, Wish: w} })
	return a.Number, err
}
