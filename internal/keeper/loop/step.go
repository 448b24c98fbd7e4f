package loop

import (
	"time"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/run"
)

// Step takes an event in. It calls nothing: what is to be done because of it is in Ready once Settle was called.
func (p *Placement) Step(now time.Time, ev Event) {
	p.at = now
	p.step(ev)
}

// Settle looks at where the ward stands once the events that waited have been taken in. more tells that more have come meanwhile. The
// answer is how long it may sleep if nothing happens.
func (p *Placement) Settle(now time.Time, more bool) (sleep time.Duration) {
	p.at, p.more = now, more
	p.takeAnswers()
	return p.evaluate()
}

func (p *Placement) step(ev Event) {
	switch ev := ev.(type) {
	case Saw:
		p.sawLive(ev.Ref, ev.Body, index.Watched)
	case SawListed:
		if p.index.ListedAs(p.at, ev.Ref, ev.Body) {
			p.sawLive(ev.Ref, ev.Body, index.Watched)
		}
	case SawGone:
		p.index.LastSeen(p.at, ev.Ref, ev.Body)
	case Listed:
		p.index.Listed(p.at, ev.Group, ev.Kind, ev.Namespace, ev.All)
	case Undefined:
		p.index.Undefined(p.at, ev.Group)
	case WatchMoved:
		p.watchChanged()
	case LookedUp:
		p.carry(p.index.Looked(p.at, ev.Ref, ev.Answer))
	case LookedFor:
		switch {
		case ev.Body != nil:
			p.sawLive(ev.Ref, ev.Body, index.Named)
		case ev.Gone:
			p.forgetStray(ev.Ref)
		}
	case ClaimLooked:
		p.carry(p.index.Later(ev.Claim))
	case ClaimDue:
		if p.index.StillClaim(ev.Claim) {
			p.lookAtClaim(ev.Claim)
		}
	case LookedBelow:
		p.carry(p.index.Below(ev.Of.Ref, ev.Of.UID, ev.Pods, ev.Well))
	case WasRead:
		p.tookIn(ev)
	case WasSame:
		p.foundSame(ev)
	case Rendered:
		p.tookRendering(ev)
	case ReadAgain:
		if !p.repository.Known {
			p.render(ev.AsOf)
		}
	case Filed:
		p.misfiled, p.limited = ev.Misfiled, ev.Limited
	case Forgotten:
		p.declared, p.stored = nil, nil
		p.render(ev.AsOf)
	default:
		p.stepRun(ev)
	}
}

// stepRun is step for what becomes of a run.
func (p *Placement) stepRun(ev Event) {
	switch ev := ev.(type) {
	case begun:
		p.begin(ev)
	case Applied:
		if a := p.runs(ev.Run); a != nil {
			a.answered = append(a.answered, ev.Applied) // taken in with the others that came meanwhile
		}
	case Trying:
		if p.runs(ev.Run) != nil {
			p.feed(run.Trying{At: p.at, Ref: ev.Ref, Reason: "tried again: " + ev.Text})
		}
	case Lost:
		if a := p.runs(ev.Run); a != nil {
			a.of(ev.Ref).lost = true
		}
	case Removed:
		if p.runs(ev.Run) != nil {
			p.tookRemoval(ev)
		}
	case RemoveDue:
		if p.runs(ev.Run) != nil {
			p.after(RemoveObject(ev))
		}
	case TaskMade:
		if a := p.runs(ev.Run); a != nil {
			p.tookTask(a, ev)
		}
	case TaskEnded:
		p.tookTaskEnd(ev)
	case TaskLogged:
		p.keepLog(ev.Run, ev.Ref, ev.Text)
	case TaskRemoved:
		p.tookTaskGone(ev.Task)
	case LookedBeside:
		if p.runs(ev.Run) != nil {
			p.feed(run.Told{At: p.at, Event: canary.Looked{At: p.at, Sides: ev.Sides, Problem: ev.Problem}})
		}
	case Checked:
		if p.runs(ev.Run) != nil {
			p.feed(run.Told{At: p.at, Event: canary.Answered{At: p.at, Target: ev.Target, Check: ev.Check, New: ev.New, Old: ev.Old}})
		}
	case Ticked:
		if p.run != nil {
			p.feed(run.Tick{At: p.at})
		}
	default:
		p.stepRest(ev)
	}
}

// stepRest is step for what is left.
func (p *Placement) stepRest(ev Event) {
	switch ev := ev.(type) {
	case Written:
		p.written(ev.Problem)
	case rewrite:
		p.out(Commit{p.flying.writes})
	case Unfinished:
		p.finishing = false
	case Begins:
		p.resume()
	case Freed:
		p.around++
	case Told:
		if p.around++; ev.Others {
			p.will.Failures = 0 // another value is a reason to try at once
		}
	case Wished:
		before := p.now.size()
		number, err := ev.Wish.grant(p)
		p.answer(before, Answer{ev.Ticket, number, err})
	case Question:
		before := p.now.size()
		p.answer(before, Answer{Ticket: ev.Ticket, Err: ev.Ask()})
	case AwaitRead:
		if p.rendering {
			p.looking = append(p.looking, ev.Ticket)
		} else {
			p.out(Answer{Ticket: ev.Ticket})
		}
	case Woken:
	}
}

// answer answers somebody once what has changed since is written down; at once when nothing has, or it was refused.
func (p *Placement) answer(before int, a Answer) {
	if a.Err != nil || p.now.size() == before {
		p.out(a)
		return
	}
	p.now.replies = append(p.now.replies, a)
}

// runs is the run that goes on, if its entry has that number; nil otherwise.
func (p *Placement) runs(number int) *activeRun {
	if p.run == nil || p.run.entry.Number != number {
		return nil
	}
	return p.run
}
