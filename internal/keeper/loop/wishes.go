package loop

import (
	"time"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
)

// Wish is what a person or a roster wants of a ward, as a plain value.
type Wish interface {
	// grant does it. The number is that of a run's entry, where one began. Errors are a *Fault where whoever asked can mend it.
	grant(p *Placement) (number int, err error)
}

// The wishes.
type (
	StartRun struct{ Ask Ask }
	StopRun  struct{ By string }
	Hold     struct {
		By, Reason string
		Until      time.Time
	}
	Release struct{ By, Reason string }
	Reject  struct {
		logbook.Rejection
		Of   logbook.Revision
		Said string // why, where whoever rejects it said so
	}
	// Lift lifts the rejection of a revision, given by its hash or the beginning of it.
	Lift struct{ Revision, By, Why string }
	// Leave begins the removal of the ward; Stay takes it back.
	Leave struct{ logbook.Leaving }
	Stay  struct{}
	// BringUp lets the ward sync once, although it asks before.
	BringUp struct{ By string }
	// NoteSecret notes in the logbook that somebody set a value that the ward refers to.
	NoteSecret struct {
		By  string
		Ref secret.Ref
	}
	// BeWritten is answered once everything that came before is written down.
	BeWritten struct{}
)

func (w StartRun) grant(p *Placement) (int, error) {
	n, err := p.start(w.Ask)
	p.Publish()
	return n, err
}

func (w StopRun) grant(p *Placement) (int, error) {
	if p.run == nil {
		return 0, fault(Conflict, "no run is going on in %s", p.ID)
	}
	p.stop("stopped by " + w.By)
	return 0, nil
}

func (w Hold) grant(p *Placement) (int, error) { return 0, p.holdBy(w.By, w.Reason, w.Until) }

func (w Release) grant(p *Placement) (int, error) { return 0, p.release(w.By, w.Reason) }

func (w Reject) grant(p *Placement) (int, error) {
	p.reject(w.Rejection)
	p.writeAbout(logbook.Rejects, w.By, w.Said, &w.Of)
	return 0, nil
}

func (w Lift) grant(p *Placement) (int, error) { return 0, p.accept(w.Revision, w.By, w.Why) }

func (w Leave) grant(p *Placement) (int, error) { return 0, p.leave(w.Leaving) }

func (Stay) grant(p *Placement) (int, error) { return 0, p.stay() }

func (w BringUp) grant(p *Placement) (int, error) {
	if sync, _ := p.Bringable().Bring(); sync {
		p.will.BroughtUpBy = w.By
	}
	return 0, nil
}

func (w NoteSecret) grant(p *Placement) (int, error) {
	p.writeAbout(logbook.Sets, w.By, "set "+w.Ref.Short(), p.will.Applied)
	return 0, nil
}

func (BeWritten) grant(p *Placement) (int, error) {
	p.after(nothing{})
	return 0, nil
}

// Bringable is the ward as one that bringing its roster up may let sync.
func (p *Placement) Bringable() roster.Candidate {
	c := roster.Candidate{ID: p.ID, Broken: p.Broken, Leaving: p.will.Leaving != nil, Hold: p.will.Hold, Rejected: p.rejected(), Readable: p.declared != nil && p.repository.Known,
		Up: p.will.Applied != nil, Auto: p.Ward.Keep.Sync == ward.Auto, Pending: p.pending().Total(), WaitsFor: p.View().WaitsFor}
	if p.declared != nil {
		c.Waits = p.declared.Waits
	}
	if g := p.pending().guards; len(g) > 0 {
		c.Guard = g[0].Text
	}
	return c
}
