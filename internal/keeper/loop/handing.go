package loop

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/record"
)

// ErrUnread tells that something can't be removed yet, since another ward may declare it in a commit that it has not
// taken in.
var ErrUnread = errors.New("somebody has not read the same commit yet, and may declare what is to be removed; try it in a moment")

// unreadPause is how long it takes until that is asked again.
const unreadPause = 100 * time.Millisecond

// waitsForKeeper names the ward that keeps one of some objects. Ownership is waited for: it says nothing about a
// revision. loud tells that the other declares the object as well, so that a person has to decide.
func (p *Placement) waitsForKeeper(refs []object.Ref) (what string, loud bool) {
	for _, ref := range refs {
		id, declares := p.Others.Keeper(ref)
		if id == "" {
			continue
		}
		text := fmt.Sprintf("%s, which keeps %s", id, ref.Short())
		if declares {
			return text + " and declares it as well; one object can belong to one ward, so take it out of one of them", true
		}
		return text + " and is about to let it go", false
	}
	return "", false
}

// leave begins the removal of the ward: from now on nothing else is done to it, whatever happens to the service.
func (p *Placement) leave(l logbook.Leaving) error {
	switch {
	case p.will.Leaving != nil && p.will.Leaving.Dismantle == l.Dismantle && slices.Equal(p.will.Leaving.Allow, l.Allow):
		return nil
	case p.run != nil && p.run.beside != nil && p.run.machine.Carrying(): // it may wait for a person for a day
		p.stop("the ward is to leave, asked for by " + l.By)
		return fault(Conflict, "the canary of %s goes back first; try it in a moment", p.ID)
	case p.run != nil && p.run.entry.Kind != run.Dismantle:
		return fault(Conflict, "%s is in the middle of %s #%d; wait for it, or stop it first: vigila sync %s --stop", p.ID, p.run.entry.Kind, p.run.entry.Number, p.ID)
	}
	if l.Dismantle && p.run == nil {
		made, err := p.Prepare(Ask{Kind: run.Dismantle, By: l.By, Why: l.Why, Allow: l.Allow})
		if err != nil {
			return err
		}
		if len(made.Plan.Guards) > 0 {
			return guarded(p.ID, made.Plan.Guards)
		}
	}
	p.write(record.SetLeaving{Leaving: &l})
	p.will.Leaving, p.will.Failures, p.will.BroughtUpBy = &l, 0, ""
	return nil
}

// stay takes a removal back.
func (p *Placement) stay() error {
	if p.will.Leaving == nil {
		return nil
	}
	if p.finishing || p.run != nil {
		return fault(Conflict, "%s is being removed; wait until that is done", p.ID)
	}
	p.write(record.SetLeaving{})
	p.will.Leaving = nil
	return nil
}

// decideLeaving carries a removal on: first the objects, as far as they are to go, then the ward.
func (p *Placement) decideLeaving() time.Time {
	if p.finishing {
		return time.Time{}
	}
	if p.will.Leaving.Dismantle && !p.dismantled() {
		if at := p.will.Retry(); p.at.Before(at) {
			return at
		}
		_, err := p.start(Ask{Kind: run.Dismantle, By: p.will.Leaving.By, Why: p.will.Leaving.Why, Allow: p.will.Leaving.Allow})
		switch {
		case errors.Is(err, ErrUnread):
			return p.at.Add(unreadPause)
		case err != nil:
			p.will.Stuck = err.Error()
			p.Log.Warn("dismantling did not start", "error", err)
			return p.at.Add(p.will.Failed(p.at))
		case p.run != nil:
			p.will.Stuck = ""
			return time.Time{}
		}
	}
	p.finishing = true
	p.after(Finish{})
	return time.Time{}
}

// dismantled tells whether nothing is left that a dismantling would remove.
func (p *Placement) dismantled() bool {
	made, err := p.Prepare(Ask{Kind: run.Dismantle, By: p.will.Leaving.By, Allow: p.will.Leaving.Allow})
	return err == nil && made.Plan.Empty() && len(made.Plan.Guards) == 0
}

// accept lifts the rejection of a revision, given by its hash or the beginning of it.
func (p *Placement) accept(revision, by, why string) error {
	var meant []logbook.Rejection
	for id, r := range p.will.Rejections {
		if len(revision) >= 4 && strings.HasPrefix(id, revision) {
			meant = append(meant, r)
		}
	}
	switch len(meant) {
	case 0:
		return fault(NotFound, "%s has not rejected a revision %s; rejected: vigila rejections %s", p.ID, revision, p.ID)
	case 1:
	default:
		return fault(Invalid, "%s begins the hashes of %d rejected revisions; give more of it", revision, len(meant))
	}
	r := meant[0]
	p.unreject(r.Revision)
	p.will.Failures = 0
	text := "the rejection is lifted: " + r.Why
	if why != "" {
		text = why + "; " + text
	}
	p.writeAbout(logbook.Accepts, by, text, &logbook.Revision{ID: r.Revision, Subject: r.Subject})
	return nil
}
