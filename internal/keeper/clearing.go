package keeper

import (
	"context"
	"errors"
	"sync"
	"time"

	"vigila.dev/vigila/internal/keeper/loop"
)

// What leaves a ward may come to be another's by the same commit. The wards beside it, and the rosters that bring new ones, are known to the service,
// so a lookout removes nothing before the service has said that all of them have read what there was to read.

// askUnread asks whether somebody may still come to declare what a ward is about to remove. It is answered once nobody may.
type askUnread struct {
	Ward    string
	Leaving bool // the ward itself leaves its roster
}

// clearance is what the service has said of the removals of a ward.
type clearance struct {
	mu    sync.Mutex
	of    clearing
	going bool
	clear bool
}

// clearing is what an answer is of.
type clearing struct {
	taken   int64 // looks that the ward had taken in when it was asked, and one: the answer is good until there are more
	leaving bool  // of a ward that leaves its roster, which is not waited for then
}

// clearly is who is waited for.
const clearly = "the service, which tells whether another ward has what is to be removed by the same commit"

// cleared tells whether nobody else may come to declare what the ward is about to remove; where that is not known it is being asked.
func (u *uplink) cleared(p *placement, leaving bool) bool {
	now := clearing{p.Hears().Taken.Load() + 1, leaving} // the zero value is never asked
	c := &p.clearance
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of == now && (c.clear || c.going) {
		return c.clear
	}
	c.of, c.going, c.clear = now, true, false
	u.k.spawn(func() {
		err := u.clear(p.ctx, p, leaving)
		c.mu.Lock()
		if c.of == now {
			c.going, c.clear = false, err == nil
		}
		c.mu.Unlock()
		if err == nil {
			p.post(loop.Woken{})
		}
	})
	return false
}

// clearWithin is how long is waited for the service at a time.
const clearWithin = 5 * time.Second

// clear asks the service, and waits. Its error is errAlone where that can't be reached.
func (u *uplink) clear(ctx context.Context, p *placement, leaving bool) error {
	peer, err := u.there()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, clearWithin)
	defer cancel()
	err = unrefused(peer.Call(ctx, "unread", askUnread{p.ID, leaving}, nil), "the service")
	var f *Fault
	switch {
	case errors.As(err, &f) && f.Kind == Unreachable:
		return errAlone
	case errors.As(err, &f) && f.Kind == NotFound: // an older service does not know it
		return nil
	}
	return err
}

// unread answers askUnread.
func (a *away) unread(ctx context.Context, q askUnread) error {
	p := a.ward(q.Ward)
	if p == nil {
		return fault(Conflict, "ward %s is not kept any more", q.Ward)
	}
	asked := loop.Marks{}
	for p.unread(asked, q.Leaving) != "" {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-p.ctx.Done():
			return fault(Conflict, "ward %s is not kept any more", q.Ward)
		case <-time.After(unreadEvery):
		}
	}
	return nil
}

// unreadEvery is how often it is looked whether all have read.
const unreadEvery = 20 * time.Millisecond
