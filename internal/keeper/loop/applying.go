package loop

import (
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

// apply has an object applied.
func (p *Placement) apply(a *activeRun, ref object.Ref) {
	x := a.of(ref)
	p.after(ApplyObject{a.entry.Number, drive.Order{Object: x.object, Before: x.before, Turn: x.turn, Left: x.left, Added: x.added, Scaled: x.scaled, Refused: x.refused,
		Defined: a.defines(ref), Allow: a.ask.Allow, Found: x.found}})
}

// takeAnswers writes the baselines of all applies that were answered since the last time, and tells the run.
func (p *Placement) takeAnswers() {
	a := p.run
	if a == nil || len(a.answered) == 0 {
		return
	}
	answers := a.answered
	a.answered = nil
	var baselines []compare.Baseline
	for _, got := range answers {
		if got.Failed == nil {
			baselines = append(baselines, got.Baseline)
		}
	}
	if len(baselines) > 0 {
		p.write(record.PutBaselines{All: baselines})
	}
	beside := false
	for i := range answers {
		if p.run != a {
			return
		}
		beside = beside || a.carries(answers[i].Ref) && answers[i].Failed == nil
		p.takeAnswer(a, &answers[i])
	}
	if beside && p.run == a {
		p.settleBeside(a)
	}
}

// goesBack tells whether what is applied now is what was before.
func (a *activeRun) goesBack() bool {
	c := a.machine.Canary()
	return a.entry.Kind == run.Rollback || c != nil && c.Going != nil
}

func (p *Placement) takeAnswer(a *activeRun, got *drive.Applied) {
	x := a.of(got.Ref)
	ev := run.Applied{At: p.at, Ref: got.Ref, Replaced: got.Replaced}
	if f := got.Failed; f != nil {
		x.silent = f.Silent
		a.unreachable = a.unreachable || x.silent
		ev.Err, ev.Untried, ev.Outside = f.Text, f.Stopped, f.Outside
		p.feed(ev)
		return
	}
	b := got.Baseline
	if b.Revision != x.before.Revision || b.UID != x.before.UID {
		a.changed++
	}
	l, effects := p.index.Answered(b, got.Body)
	p.out(Watch{object.Kind{Version: b.Version, Kind: got.Ref.Kind}}) // it may have been asked for before it was there
	x.appliedAt = b.Revision
	if _, was := p.tasks.all[got.Ref]; was { // it was a task before it came to be kept
		p.write(record.RemoveTask{Ref: got.Ref})
		p.tasks.drop(got.Ref)
	}
	if got.Ref.Group == "apps" && got.Ref.Kind == "StatefulSet" && a.goesBack() {
		p.out(Unstick{a.entry.Number, got.Ref, b.Version})
	}
	p.carry(effects)
	if early := x.early; early != nil { // a newer state was there before this answer
		x.early = nil
		p.carry(p.index.Weigh(p.at, got.Ref, early))
	}
	ev.Health = l.State()
	if health.HasBelow(got.Ref) && !l.CauseKnown {
		ev.Health.Final = false // why is told by what is below, and that is being looked at
	}
	p.feed(ev)
}
