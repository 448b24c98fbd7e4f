package run

import "time"

// Situation is what Next looks at to decide about an automatic run.
type Situation struct {
	Now           time.Time
	AutoSync      bool // keep.sync: auto
	RestoreDrift  bool // keep.drift: restore
	Held          bool
	Blind         bool      // the cluster can't be read
	RepoBlind     bool      // the repository can't be read, or has not been yet
	Leaving       bool      // it is being removed, and does nothing else
	Pending       int       // objects the repository moved
	Restorable    int       // drifted objects, and additions to remove, that nobody contests
	RestoreAt     time.Time // not before; after a restore of the same field was undone
	AgainAt       time.Time // keep.reapply: when everything is to be applied again; zero when never
	Rejected      string    // why the ward's revision is rejected; empty when it is not
	WaitsFor      string    // a ward in `after` that is not in step and ready
	Guarded       bool      // a guard asks first
	LastFailed    time.Time
	FailuresInRow int
}

// Backoff is how long an automatic run waits after n failures in a row: 5 s, doubling, 5 min at most.
func Backoff(n int) time.Duration {
	if n <= 0 {
		return 0
	}
	d := 5 * time.Second << min(n-1, 10)
	return min(d, 5*time.Minute)
}

// Again is what Next calls a run that applies everything once more, since the ward asks for that.
const Again Kind = "again"

// Next tells which run should start by itself now. When none should, why says what it waits for (empty when
// there is nothing to do), and again is when to ask again (zero: at the next change).
func Next(s Situation) (kind Kind, why string, again time.Time) {
	if s.Leaving {
		return "", "it is being removed", time.Time{}
	}
	if s.Pending == 0 && s.Restorable == 0 {
		if s.AgainAt.IsZero() || s.Blind || s.RepoBlind || s.Held {
			return "", "", time.Time{}
		}
		if s.Now.Before(s.AgainAt) {
			return "", "", s.AgainAt
		}
		return Again, "", time.Time{}
	}
	sync := s.Pending > 0 && s.AutoSync
	restore := s.Restorable > 0 && s.RestoreDrift
	switch {
	case s.Blind:
		return "", "the cluster can't be read", time.Time{}
	case s.RepoBlind:
		return "", "the repository can't be read", time.Time{}
	case s.Held:
		return "", "held", time.Time{}
	case !sync && !restore:
		return "", "this ward asks first", time.Time{}
	}
	if at := s.LastFailed.Add(Backoff(s.FailuresInRow)); s.FailuresInRow > 0 && s.Now.Before(at) {
		return "", "waits after a failure", at
	}
	if sync {
		switch {
		case s.Rejected != "":
			why = "its revision is rejected"
		case s.WaitsFor != "":
			why = "waits for " + s.WaitsFor
		case s.Guarded:
			why = "a guard asks first"
		default:
			return Sync, "", time.Time{}
		}
	}
	if restore {
		if s.Now.Before(s.RestoreAt) {
			return "", "the same field was restored a moment ago", s.RestoreAt
		}
		return Restore, "", time.Time{}
	}
	return "", why, time.Time{}
}
