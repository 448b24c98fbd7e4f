package keeper

import (
	"context"
	"time"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/run"
)

// wish is what a person or a roster wants of a ward, as a plain value.
type wish interface {
	// grant does it, on the ward's goroutine. The number is that of a run's entry, where one began.
	grant(p *placement) (number int, err error)
}

type (
	startRun struct{ ask Ask }
	stopRun  struct{ by string }
	holdWard struct {
		by, reason string
		until      time.Time
	}
	releaseWard    struct{ by, reason string }
	rejectRevision struct {
		logbook.Rejection
		revision logbook.Revision
		said     string // why, where whoever rejects it said so
	}
	liftRejection struct{ revision, by string }
	leaveWard     struct{ logbook.Leaving }
	stayWard      struct{}
	bringUp       struct{ by string }
	beWritten     struct{} // everything that came before
)

func (w startRun) grant(p *placement) (int, error) {
	n, err := p.start(w.ask)
	p.publish()
	return n, err
}

func (w stopRun) grant(p *placement) (int, error) {
	if p.run == nil {
		return 0, fault(Conflict, "no run is going on in %s", p.id)
	}
	p.stop("stopped by " + w.by)
	return 0, nil
}

func (w holdWard) grant(p *placement) (int, error) { return 0, p.holdBy(w.by, w.reason, w.until) }

func (w releaseWard) grant(p *placement) (int, error) { return 0, p.release(w.by, w.reason) }

func (w rejectRevision) grant(p *placement) (int, error) {
	p.reject(w.Rejection)
	p.writeAbout("reject", w.By, w.said, &w.revision)
	return 0, nil
}

func (w liftRejection) grant(p *placement) (int, error) { return 0, p.accept(w.revision, w.by) }

func (w leaveWard) grant(p *placement) (int, error) { return 0, p.leave(w.Leaving) }

func (stayWard) grant(p *placement) (int, error) { return 0, p.stay() }

func (w bringUp) grant(p *placement) (int, error) {
	if p.bringable().Sync {
		p.will.BroughtUpBy = w.by
	}
	return 0, nil
}

func (beWritten) grant(p *placement) (int, error) {
	p.after(nothing{})
	return 0, nil
}

// want grants a wish on the ward's goroutine and waits until what it changes is written down.
func (p *placement) want(ctx context.Context, w wish) (number int, err error) {
	err = p.ask(ctx, func() (err error) {
		number, err = w.grant(p)
		return err
	})
	return number, err
}

// isRun tells a run from what else a logbook tells of.
func isRun(e logbook.Entry) bool {
	switch run.Kind(e.Kind) {
	case run.Sync, run.Restore, run.Rollback, run.Dismantle:
		return true
	}
	return false
}
