package standing

import (
	"fmt"
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
)

// Facts are what is known of a ward beside what its view shows.
type Facts struct {
	Now        time.Time
	Unwritten  string         // why what is done can't be written down; so long nothing more is done
	Broken     string         // why what the record holds of it can't be used
	Undeclared bool           // what it declares has not been read yet
	Waits      string         // why there is nothing declared yet, and that this is no error
	Rendering  time.Duration  // for how long its files have been rendered; 0 when they are not
	BroughtUp  bool           // it syncs by itself until it is in step once
	Failures   int            // of automatic runs, in a row
	Stuck      string         // why its dismantling does not start
	Last       *logbook.Entry // the newest run that ended; nil when there was none
	LastGood   int            // the newest entry that left it as it was applied last; 0 when there is none, or nothing is half done
}

// RenderLong is how long a first rendering may take before it is spoken of.
const RenderLong = 2 * time.Second

// ReadLong is how long a ward stands by what it has read before, once its repository may have moved: whatever it is that takes so
// long (a cluster that is asked for its kinds and is silent, a rendering without end), what is declared is not known by then.
const ReadLong = 5 * time.Second

// Overdue tells that what the repository declares has been read for too long to stand by what it declared before.
func (f Facts) Overdue() bool { return !f.Undeclared && f.Waits == "" && f.Rendering >= ReadLong }

// Say puts into words what is going on in a ward, what can be done about it, and how loud it is: as the first rule says that
// holds.
func Say(v *View, f Facts) {
	s := &saying{View: v, f: f}
	r := s.rule()
	v.Rule = r.name
	r.say(s)
}

// rule is the first that holds; the last one always does.
func (s *saying) rule() rule {
	return rules[slices.IndexFunc(rules, func(r rule) bool { return r.holds(s) })]
}

// saying is a view that is being put into words.
type saying struct {
	*View
	f Facts
}

// rule is one sentence, and when it is said.
type rule struct {
	name  string
	holds func(*saying) bool
	say   func(*saying)
}

// rules go from what matters more to what matters less: the first one that holds is said, and no other.
var rules = []rule{
	{"nothing can be written down", func(s *saying) bool { return s.f.Unwritten != "" }, func(s *saying) {
		s.loud(ToneFailing, "What is done can't be written down, so nothing more is done: "+s.f.Unwritten, "It goes on by itself once the service can write to its data directory again.")
	}},
	{"a canary goes on", func(s *saying) bool {
		return s.Run != nil && s.Canary != nil && !s.Canary.Began.IsZero() && s.Canary.Active()
	}, (*saying).canary},
	{"a run goes on", func(s *saying) bool { return s.Run != nil }, (*saying).running},
	{"the record can't be used", func(s *saying) bool { return s.f.Broken != "" }, func(s *saying) {
		s.loud(ToneBlind, Capital(s.f.Broken), "The others go on. Mend it in the record, or remove the ward and add it anew: vigila ward remove "+s.ID)
	}},
	{"it is being removed", func(s *saying) bool { return s.Leaving != nil }, (*saying).leaving},
	{"going back failed", func(s *saying) bool { return s.last(run.Rollback, run.Failed) }, func(s *saying) {
		s.loud(ToneFailing, fmt.Sprintf("Going back to #%d failed: %s", s.f.Last.ToEntry, s.f.Last.Reason),
			fmt.Sprintf("Nothing more is done by itself. Look at what is failing: vigila ward show %s, or go back by hand: vigila rollback %s %d.", s.ID, s.ID, s.f.Last.ToEntry))
		s.Loudest = true
	}},
	{"its file is wrong", func(s *saying) bool { return s.Misfiled != "" }, func(s *saying) { s.loud(ToneBlind, s.Misfiled, goodStays) }},
	{"it is rendered for long", func(s *saying) bool {
		return (s.f.Waits != "" || s.f.Undeclared) && s.Repository.Problem == "" && s.f.Rendering >= RenderLong
	}, func(s *saying) {
		s.quiet(ToneBlind, "Its files are being rendered; overlays, charts and large files of one repository take turns", "")
	}},
	{"there is nothing yet", func(s *saying) bool {
		return s.f.Waits != "" && s.Live.Known && (s.Repository.Known || s.Repository.Problem == "")
	}, func(s *saying) { s.quiet(ToneBlind, Capital(s.f.Waits), "") }},
	{"the repository can't be read", func(s *saying) bool { return !s.Repository.Known && s.Repository.Problem != "" }, func(s *saying) {
		s.loud(ToneBlind, s.Repository.Problem, "The cluster is left as it is.")
	}},
	{"the cluster can't be read", func(s *saying) bool { return !s.Live.Known && s.Live.Problem != "" }, func(s *saying) {
		s.loud(ToneBlind, s.Live.Problem, "What is shown is the last known.")
	}},
	{"it is read for long", func(s *saying) bool { return s.f.Overdue() && s.Standing == compare.Blind }, func(s *saying) {
		s.quiet(ToneBlind, "What the repository declares now is still being read; until then nobody knows whether it is in step", "")
	}},
	{"nobody has looked yet", func(s *saying) bool { return s.Standing == compare.Blind }, func(s *saying) {
		s.quiet(ToneBlind, "Looking for the first time since the service started, or its ward file changed", "")
	}},
	{"its limits hold it back", func(s *saying) bool { return s.HeldBack != "" }, func(s *saying) { s.loud(ToneBehind, s.HeldBack, goodStays) }},
	{"it is half done", func(s *saying) bool {
		return s.Half > 0 && (s.Hold != nil || s.Ward.Keep.Sync != "auto" || s.Health.Word == health.Failing || s.Rejected != "")
	}, (*saying).half},
	{"a person rejected the revision", func(s *saying) bool { return s.Rejected != "" && s.Hold == nil && s.rejectedBy() != logbook.Vigila }, func(s *saying) {
		todo := "It stays at " + s.Applied.Short() + "."
		if s.Pending == 0 {
			todo = "The cluster holds it. Go back: vigila logbook " + s.ID + "."
		}
		s.set(ToneBehind, s.Pending == 0, fmt.Sprintf("%s was rejected by %s: %s", s.Revision.Title(), s.rejectedBy(), s.Rejected), todo+" Lift it: vigila accept "+s.ID+" "+s.Revision.Short())
	}},
	{"it went back", func(s *saying) bool { return s.Rejected != "" && s.Hold == nil && s.wentBack() }, func(s *saying) {
		s.loud(ToneFailing, fmt.Sprintf("Went back to %s: %s", s.Applied.Short(), s.Rejected),
			s.Revision.Short()+" is rejected. Push a newer revision, or try it again: vigila sync "+s.ID+" --retry")
	}},
	{"the revision failed", func(s *saying) bool { return s.Rejected != "" && s.Hold == nil }, func(s *saying) { // a person who held it has decided about it
		s.loud(ToneFailing, fmt.Sprintf("%s failed: %s", s.Revision.Short(), s.Rejected), "Push a newer revision, or try this one again: vigila sync "+s.ID+" --retry")
	}},
	{"another service took something over", func(s *saying) bool { return slices.ContainsFunc(s.Astray, foreign) }, func(s *saying) {
		o := s.Astray[slices.IndexFunc(s.Astray, foreign)]
		s.loud(ToneContested, fmt.Sprintf("%s has taken %s over; it is left alone here", Capital(compare.AnotherService(o.Foreign)), o.Ref.Short()),
			"Keep it in one place: remove it from one of the two, or take it back with vigila sync "+s.ID)
	}},
	{"something is contested", func(s *saying) bool { return s.Contested > 0 }, func(s *saying) {
		o, d := firstDrift(s.View, contested)
		what := d.Path + " of " + o.Ref.Short()
		if d.Path == "" {
			what = o.Ref.Short()
		}
		s.loud(ToneContested, fmt.Sprintf("%s undid the restore of %s three times; it is not restored any more", orElse(d.Who, "Somebody"), what), leaveHint(s.View))
	}},
	{"it is failing", func(s *saying) bool { return s.Health.Word == health.Failing }, func(s *saying) {
		s.loud(ToneFailing, s.Health.Reason, "Events and logs: vigila ward show "+s.ID)
	}},
	{"it has drifted", func(s *saying) bool { return s.Drifted > 0 }, (*saying).drifted},
	{"something is in the way that can't be allowed", func(s *saying) bool { return len(s.Guards) > len(plan.Names(s.Guards)) }, func(s *saying) {
		g := s.Guards[slices.IndexFunc(s.Guards, func(g plan.Guard) bool { return g.Mend != "" })]
		s.loud(ToneBehind, "Nothing is applied: "+g.Text, g.Mend)
	}},
	{"a guard asks first", func(s *saying) bool { return len(s.Guards) > 0 }, func(s *saying) {
		s.loud(ToneBehind, "Stopped before harm: "+s.Guards[0].Text, s.allowing())
	}},
	{"it is held", func(s *saying) bool { return s.Hold != nil }, func(s *saying) {
		s.quiet(Quiet, s.held(), s.release())
		if s.Pending > 0 {
			s.Tone = ToneBehind
		}
	}},
	{"it waits for another", func(s *saying) bool { return s.Pending > 0 && s.WaitsFor != "" && (s.byItself() || s.WaitsLoud) }, func(s *saying) {
		s.set(ToneBehind, s.WaitsLoud, "Waits for "+s.WaitsFor, "")
	}},
	{"the last run did not go through", func(s *saying) bool {
		return s.Pending > 0 && s.f.Failures > 0 && s.f.Last != nil && s.f.Last.Outcome == run.Failed && s.byItself()
	}, func(s *saying) {
		s.set(ToneBehind, s.f.Failures > 1, fmt.Sprintf("%s #%d did not go through: %s", verbs[s.f.Last.Kind], s.f.Last.Number, s.f.Last.Reason), "It is tried again at "+clock(s.Retry)+", or now: vigila sync "+s.ID)
	}},
	{"it is behind", func(s *saying) bool { return s.Pending > 0 }, func(s *saying) {
		says := fmt.Sprintf("%s to sync: %s", objects(s.Pending), s.Revision.Title())
		if s.Applied == nil {
			says = fmt.Sprintf("Never synced; %s declared", objects(s.Pending))
		}
		if len(s.Rotated) == s.Pending {
			says = "Another secret value for " + rotated(s.Rotated)
		}
		s.set(ToneBehind, s.Ward.Keep.Sync == ward.Ask, says, "Sync it: vigila sync "+s.ID)
		if s.Ward.Keep.Sync == ward.Auto {
			s.Todo = "It will be synced."
		}
	}},
	{"somebody added to it", func(s *saying) bool { return s.Additions > 0 }, (*saying).added},
	{"all is well", func(*saying) bool { return true }, func(s *saying) {
		of := s.Applied
		if of == nil {
			of = s.Revision
		}
		s.quiet(Quiet, of.Title(), "")
		if s.Health.Word == health.Settling || s.Health.Word == health.Absent {
			s.Says = s.Health.Reason
		}
	}},
}

// rotated names objects, the first few.
func rotated(refs []object.Ref) string {
	text := refs[0].Short()
	if more := len(refs) - 1; more > 0 {
		text += fmt.Sprintf(" and %s more", objects(more))
	}
	return text
}

const goodStays = "The last good declaration stays in force."

func (s *saying) set(tone Tone, needs bool, says, todo string) {
	s.Tone, s.NeedsYou, s.Says, s.Todo = tone, needs, says, todo
}

// loud says what needs a person, quiet what does not.
func (s *saying) loud(tone Tone, says, todo string)  { s.set(tone, true, says, todo) }
func (s *saying) quiet(tone Tone, says, todo string) { s.set(tone, false, says, todo) }

// last tells whether the newest run that ended was of this kind, and ended so.
func (s *saying) last(kind run.Kind, outcome run.Outcome) bool {
	return s.f.Last != nil && s.f.Last.Kind == kind && s.f.Last.Outcome == outcome
}

// byItself tells whether a new revision is synced without anybody asking for it.
func (s *saying) byItself() bool { return s.Ward.Keep.Sync == ward.Auto || s.f.BroughtUp }

func (s *saying) held() string {
	if s.Hold.Reason == "" {
		return "Held by " + s.Hold.By
	}
	return "Held by " + s.Hold.By + ": " + s.Hold.Reason
}

func (s *saying) release() string { return "Let it go on: vigila release " + s.ID }

// wentBack tells whether the ward went back from the rejected revision.
func (s *saying) wentBack() bool {
	return s.Applied != nil && s.Revision != nil && s.Applied.ID != s.Revision.ID && s.Pending > 0 && s.Ward.Settle.Otherwise != ward.Stay
}

// rejectedBy is who rejected the newest revision.
func (s *saying) rejectedBy() string {
	for _, r := range s.Rejections {
		if s.Revision != nil && r.Revision == s.Revision.ID {
			return r.By
		}
	}
	return logbook.Vigila
}

func (s *saying) running() {
	done, waiting := 0, ""
	for _, o := range s.Run.Objects {
		switch run.State(o.State) {
		case run.Ready, run.Gone:
			done++
		case run.Settling, run.Applying, run.Removing:
			if waiting == "" {
				waiting = "; waits for " + o.Ref.Short()
				if o.Task != "" {
					waiting = "; runs the task " + o.Ref.Name
				}
				if o.Reason != "" {
					waiting += ": " + o.Reason
				}
			}
		}
	}
	what := fmt.Sprintf("%s #%d", verbs[s.Run.Kind], s.Run.Number)
	s.quiet(Quiet, fmt.Sprintf("%s: %d of %d done%s", what, done, len(s.Run.Objects), waiting), "Stop it: vigila sync "+s.ID+" --stop")
	if s.RunFailing {
		s.Says = what + " failed; its tasks for that run" + waiting
	}
	if s.Health.Word == health.Failing {
		s.Tone = ToneFailing
	}
}

// canary says how far a canary is. It is loud where it waits for a person.
func (s *saying) canary() {
	c, show := s.Canary, "vigila canary show "+s.ID
	says := Capital(c.Says())
	switch {
	case c.Phase == canary.Back:
		s.quiet(ToneFailing, says, "")
	case c.Asks():
		s.loud(ToneBehind, says, fmt.Sprintf("Compare the two: %s. Then send it on, or back: vigila canary next %s, vigila canary back %s", show, s.ID, s.ID))
	case c.Held != nil:
		s.quiet(ToneBehind, says, fmt.Sprintf("Send it on, or back: vigila canary next %s, vigila canary back %s", s.ID, s.ID))
	default:
		s.quiet(ToneBehind, says, "Compare the two: "+show)
	}
}

func (s *saying) leaving() {
	says := "It is being removed"
	if s.Leaving.Dismantle {
		says += ", its objects first"
	}
	s.set(ToneBehind, s.f.Failures > 0, says+", asked for by "+s.Leaving.By, "")
	switch {
	case s.f.Failures == 0:
	case s.f.Stuck != "":
		s.Says, s.Tone = "Dismantling it does not start: "+s.f.Stuck, ToneFailing
		s.Todo = "Allow it with the rest: vigila ward remove " + s.ID + " --dismantle --allow …. Let it go as it is: vigila ward remove " + s.ID
	case s.f.Last != nil && s.f.Last.Reason != "":
		s.Says, s.Tone = "Dismantling it has failed: "+s.f.Last.Reason, ToneFailing
		s.Todo = "It is tried again at " + clock(s.Retry) + ". Let it go as it is: vigila ward remove " + s.ID
	}
}

// half says where a ward stands that holds parts of two revisions, or one that was never ready, and nothing is done
// about it by itself.
func (s *saying) half() {
	l := s.f.Last
	how := map[run.Outcome]string{run.Stopped: "was stopped", run.Interrupted: "was interrupted", run.Failed: "failed"}[l.Outcome]
	says := fmt.Sprintf("%s #%d %s half way: %s of %d are not as in %s", verbs[l.Kind], l.Number, how, objects(s.Half), s.Count, s.Applied.Title())
	if s.Applied == nil {
		says = fmt.Sprintf("%s #%d %s before %s was there as a whole", verbs[l.Kind], l.Number, how, l.Revision.Short())
	} else if s.Pending == 0 && s.Revision != nil {
		says = fmt.Sprintf("%s #%d %s: all of %s is applied, and it was never ready", verbs[l.Kind], l.Number, how, s.Revision.Short())
	}
	if s.Health.Reason != "" && s.Health.Word != health.Ready {
		says += "; " + s.Health.Reason
	}
	retry := ""
	if s.Rejected != "" {
		retry = " --retry"
	}
	todo := "Go on: vigila sync " + s.ID + retry
	if s.f.LastGood > 0 {
		todo += fmt.Sprintf(". Go back: vigila rollback %s %d", s.ID, s.f.LastGood)
	}
	s.loud(ToneFailing, says, todo)
}

func (s *saying) drifted() {
	o, d := firstDrift(s.View, all)
	if o.Gone {
		s.loud(ToneDrifted, "Somebody deleted "+o.Ref.Short(), "")
	} else {
		s.loud(ToneDrifted, DriftWords(o.Ref, d), leaveHint(s.View))
		if d.Who == "" || d.Likely { // the name of a client stays as it is
			s.Says = Capital(s.Says)
		}
	}
	if more := s.DriftedFields - 1; more > 0 {
		s.Says += fmt.Sprintf(", and %d more", more)
	}
	switch {
	case s.Hold != nil:
		s.Todo = s.held() + ". Not restored while held. " + s.release()
	case s.Ward.Keep.Drift == ward.Restore:
		s.NeedsYou = s.f.Failures > 0
		s.Todo = "It will be restored."
		if s.RestoreAt.After(s.f.Now) {
			s.Todo = "It was restored a moment ago already; it will be again at " + clock(s.RestoreAt) + "."
		}
	case s.Ward.Keep.Sync == ward.Auto:
		s.Todo = "Reported, not restored: so its file says (keep.drift). Restore it: vigila restore " + s.ID
	default:
		s.Todo = "Reported, not restored: this ward asks first. Restore it: vigila restore " + s.ID
	}
}

func (s *saying) added() {
	o, d := firstAddition(s.View)
	s.quiet(Quiet, fmt.Sprintf("%s added %s to %s", orElse(d.Who, "Somebody"), d.Path, o.Ref.Short()), leaveHint(s.View))
	if more := s.Additions - 1; more > 0 {
		s.Says += fmt.Sprintf(", and %d more", more)
	}
	if s.Ward.Keep.Additions == ward.RemoveAdded {
		s.Todo = "Take it away: vigila sync " + s.ID
		if s.Ward.Keep.Drift == ward.Restore && s.Hold == nil {
			s.Todo = "It will be taken away."
		}
	}
}

func foreign(o Object) bool { return o.Foreign != "" }

func clock(t time.Time) string { return t.UTC().Format("15:04:05") + " UTC" }
