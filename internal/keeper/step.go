package keeper

import (
	"time"

	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/run"
)

// step takes an event in. It calls nothing: what is to be done because of it is noted with out, after and write, and done once the
// events that wait have been taken in. What it reads of others (who keeps an object, what the record holds) it reads then and there.
func (p *placement) step(ev event) {
	switch ev := ev.(type) {
	case saw:
		p.sawLive(ev.ref, ev.body, index.Watched)
	case sawListed:
		if p.index.ListedAs(p.at, ev.ref, ev.body) {
			p.sawLive(ev.ref, ev.body, index.Watched)
		}
	case sawGone:
		p.index.LastSeen(p.at, ev.ref, ev.body)
	case listed:
		p.index.Listed(p.at, ev.group, ev.kind, ev.all)
	case undefined:
		p.index.Undefined(p.at, ev.group)
	case watchMoved:
		p.watchChanged()
	case lookedUp:
		p.carry(p.index.Looked(p.at, ev.ref, lookAnswer(ev.body, ev.err)))
	case lookedFor:
		switch a := lookAnswer(ev.body, ev.err); {
		case a.Body != nil:
			p.sawLive(ev.ref, a.Body, index.Named)
		case a.Gone:
			p.forgetStray(ev.ref)
		}
	case claimLooked:
		p.carry(p.index.Later(ev.claim))
	case claimDue:
		if p.index.StillClaim(ev.claim) {
			p.lookAtClaim(ev.claim)
		}
	case lookedBelow:
		p.carry(p.index.Below(ev.of.Ref, ev.of.UID, ev.pods, ev.well))
	case wasRead:
		p.tookIn(ev)
	case wasSame:
		p.foundSame(ev)
	case rendered:
		p.tookRendering(ev)
	case readAgain:
		if !p.repository.Known && p.ctx.Err() == nil {
			p.render(ev.asOf)
		}
	case filed:
		p.misfiled, p.limited = ev.misfiled, ev.limited
	case forgotten:
		p.declared, p.stored = nil, nil
		p.render(ev.asOf)
	default:
		p.stepRun(ev)
	}
}

// stepRun is step for what becomes of a run, and of what is written down.
func (p *placement) stepRun(ev event) {
	switch ev := ev.(type) {
	case begun:
		p.begin(ev)
	case applied:
		if a := p.runs(ev.run); a != nil {
			a.answered = append(a.answered, ev.Applied) // taken in with the others that came meanwhile
		}
	case trying:
		if p.runs(ev.run) != nil {
			p.feed(run.Trying{At: p.at, Ref: ev.ref, Reason: "tried again: " + ev.err.Error()})
		}
	case lost:
		if a := p.runs(ev.run); a != nil {
			a.of(ev.ref).lost = true
		}
	case removed:
		if p.runs(ev.run) != nil {
			p.tookRemoval(ev)
		}
	case removeDue:
		if p.runs(ev.run) != nil {
			p.after(removeObject{ev.removal})
		}
	case taskMade:
		if a := p.runs(ev.run); a != nil {
			p.tookTask(a, ev)
		}
	case taskEnded:
		p.tookTaskEnd(ev)
	case taskLogged:
		p.keepLog(ev.run, ev.ref, ev.text)
	case taskRemoved:
		p.tookTaskGone(ev.task)
	case written:
		p.written(ev.batch)
	case rewrite:
		p.out(commit{ev.batch})
	case unfinished:
		p.finishing = false
	case begins:
		p.resume()
	case freed:
		p.moved++
	case ticked:
		if p.run != nil {
			p.feed(run.Tick{At: p.at})
		}
	case wished:
		before := p.now.size()
		if err := ev.do(); err != nil || p.now.size() == before {
			ev.reply <- err
			return
		}
		p.now.replies = append(p.now.replies, func(err error) { ev.reply <- err })
	case woken:
	}
}

// take takes in everything that waits, and looks at where the ward stands then.
func (p *placement) takeIn(events []event) {
	for _, ev := range events {
		if p.ctx.Err() != nil {
			return
		}
		p.at = time.Now()
		p.step(p.open(ev))
	}
	p.at = time.Now()
	p.takeAnswers()
	p.evaluate()
	p.settleUp()
}

// runs is the run that goes on, if its entry has that number; nil otherwise.
func (p *placement) runs(number int) *activeRun {
	if p.run == nil || p.run.entry.Number != number {
		return nil
	}
	return p.run
}
