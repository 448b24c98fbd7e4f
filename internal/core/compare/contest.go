package compare

import (
	"time"

	"vigila.dev/vigila/internal/core/object"
)

// Contests remembers restores, so that two clients that each want their own value don't fight for ever. The zero
// value is ready to use.
type Contests struct {
	undone map[contestKey][]time.Time
}

type contestKey struct {
	ref  object.Ref
	path string
	who  string
}

// The rule of DESIGN: three restores of one field undone by one client within ten minutes.
const (
	contestTimes  = 3
	contestWithin = 10 * time.Minute
)

// Restored notes that a field was put back after who changed it.
func (c *Contests) Restored(ref object.Ref, path, who string, at time.Time) {
	if c.undone == nil {
		c.undone = map[contestKey][]time.Time{}
	}
	k := contestKey{ref, path, who}
	c.undone[k] = append(c.undone[k], at)
}

// Contested tells whether a restore of this field would be one too many: its last three, all within ten
// minutes, were undone by the same client. It stays so until Forget.
func (c *Contests) Contested(ref object.Ref, path, who string) bool {
	times := c.undone[contestKey{ref, path, who}]
	for i := contestTimes - 1; i < len(times); i++ {
		if d := times[i].Sub(times[i-contestTimes+1]); d >= 0 && d <= contestWithin { // a clock that was set back proves nothing
			return true
		}
	}
	return false
}

// Wait is how long the next restore of a field is put off after the last one, so that a quarrel is not made worse:
// the first is at once, then 2 s, doubling, until Contested ends it. now is the time of asking; the answer is the
// time from which it may be restored, zero when it may at once.
func (c *Contests) Wait(ref object.Ref, path, who string, now time.Time) time.Time {
	times := c.undone[contestKey{ref, path, who}]
	recent, last := 0, time.Time{}
	for _, t := range times {
		if d := now.Sub(t); d >= 0 && d <= contestWithin { // what lies ahead was noted by a clock that was set back since
			recent++
			last = t
		}
	}
	if recent == 0 {
		return time.Time{}
	}
	return last.Add(2 * time.Second << min(recent-1, 8))
}

// Forget starts anew for one object, after a person or a new revision decided.
func (c *Contests) Forget(ref object.Ref) {
	for k := range c.undone {
		if k.ref == ref {
			delete(c.undone, k)
		}
	}
}
