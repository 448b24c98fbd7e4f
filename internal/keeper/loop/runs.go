package loop

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/record"
)

// NoEntry says that a logbook has no such entry.
func NoEntry(id string, number int) *Fault {
	return fault(NotFound, "%s has no entry #%d; see vigila logbook %s", id, number, id)
}

// Ask says which run is wanted.
type Ask struct {
	Kind     run.Kind
	By       string
	Why      string
	ToEntry  int      // rollback: the entry to go back to
	Allow    []string // guards that are allowed, by name
	Only     []string // sync: these objects and nothing else, as Kind/name
	Revision string   // sync: another revision than the one the ward follows
	Retry    bool     // sync: although the revision is rejected
	Reapply  bool     // sync: everything, changed or not, and the tasks
	Tasks    bool     // rollback: run the tasks of that entry as well
	Now      bool     // sync: without the canaries that the ward file asks for

	Diff     bool                  // what is pending alone: no drift, no tasks
	Declared *declared.Declaration // of Revision, once it is read
	own
}

// own is what only the ward itself asks for.
type own struct {
	failed *logbook.Entry // of a rollback that Vigila starts by itself: the sync it mends
	carry  *canary.State  // the canary that an earlier run left, which goes on
	quiet  bool           // worth an entry only if it changes something
}

// Check refuses mixes that mean nothing.
func (r Ask) Check() error {
	switch {
	case !slices.Contains([]run.Kind{run.Sync, run.Rollback, run.Restore}, r.Kind):
		return fault(Invalid, "there is no run of kind %q; write sync, restore or rollback", r.Kind)
	case r.Kind == run.Rollback && r.ToEntry <= 0:
		return fault(Invalid, "a rollback needs to_entry, the number of the entry to go back to")
	case r.Kind != run.Rollback && r.ToEntry != 0:
		return fault(Invalid, "to_entry belongs to a rollback")
	case r.Kind == run.Restore && len(r.Only) > 0:
		return fault(Invalid, "only belongs to a sync or a rollback; a restore puts back what has drifted, and nothing else")
	case r.Kind != run.Sync && (r.Revision != "" || r.Retry || r.Reapply || r.Now):
		return fault(Invalid, "revision, retry, reapply and now belong to a sync")
	case r.Kind != run.Rollback && r.Tasks:
		return fault(Invalid, "tasks belongs to a rollback; a sync runs its tasks anyway")
	case r.Tasks && len(r.Only) > 0:
		return fault(Invalid, "tasks run with the whole and only takes a part; choose one of them")
	case r.Reapply && len(r.Only) > 0:
		return fault(Invalid, "reapply takes everything and only takes a part; choose one of them")
	}
	return KnownGuards(r.Allow, plan.GuardEmpty, plan.GuardMass, orderGuard, canaryGuard)
}

// Reasoned refuses to let a rule be broken without a reason.
func (r Ask) Reasoned() error {
	if strings.TrimSpace(r.Why) == "" && slices.ContainsFunc(r.Allow, ofRule) {
		return fault(Invalid, "to let a rule be broken needs a reason, which goes into the logbook: --why TEXT")
	}
	return nil
}

// KnownGuards refuses names that no guard has. An object that holds data is a guard of its own, by its Kind/name.
func KnownGuards(allow []string, known ...string) error {
	for _, name := range allow {
		if !slices.Contains(known, name) && !strings.Contains(name, "/") && !ofRule(name) {
			return fault(Invalid, "there is no guard %q; %s (what holds data is allowed by its Kind/name)", name, nearest.Words(name, known))
		}
	}
	return nil
}

// ofRule tells whether a guard is a rule's.
func ofRule(name string) bool { return strings.HasPrefix(name, RuleGuard) }

// activeRun is a run that goes on.
type activeRun struct {
	ask      Ask
	entry    logbook.Entry
	machine  *run.Machine
	pieces   map[object.Ref]*piece // all that it carries; none is added once it is made
	answered []drive.Applied       // applies that have been answered, and not taken in yet
	defined  map[[2]string]bool    // kinds whose definitions come with the same objects
	restored []logbook.Restored    // what a restore puts back
	spared   []plan.Guard          // what a guard protects was left where it is
	beside   *beside               // the canary that it carries; nil when it carries none
	state
}

// state is how far a run is.
type state struct {
	started     bool // it is written down, and works
	giveUp      time.Time
	changed     int  // objects whose apply made a difference
	fed         int  // events that its machine was given
	gaveWay     bool // to a newer revision
	unreachable bool // some call was not answered
}

// piece is one object of a run.
type piece struct {
	object  declared.Whole
	turn    object.Turn
	before  compare.Baseline // what was applied of it before; had tells whether anything was
	had     bool
	works   bool             // the run applies or removes it
	left    []object.Pointer // fields that are left to others
	scaled  bool             // its replicas are an autoscaler's
	added   bool             // others added to it, and that is to be removed
	found   *fieldpath.Set   // what others owned of it at its first apply, where that is anything
	refused string           // the ward that keeps it
	doubted bool             // what is there of it was in doubt when the run began
	outcome
}

// outcome is what became of a piece.
type outcome struct {
	appliedAt int64          // resourceVersion of the answer to its apply; 0 before
	early     map[string]any // a state that came before that
	silent    bool           // its apply was never answered: it may have gone through
	lost      bool           // it was deleted to be made again
	task      *activeTask    // nil when it is no task of this run
	logged    bool           // the log of the task is kept
}

// of is a piece of the run; one that says nothing for an object that it does not carry.
func (a *activeRun) of(ref object.Ref) *piece {
	if x := a.pieces[ref]; x != nil {
		return x
	}
	return &piece{}
}

// defines tells whether the run brings the definition of an object's kind.
func (a *activeRun) defines(ref object.Ref) bool { return a.defined[[2]string{ref.Group, ref.Kind}] }

// ErrQuiet tells that everything is being applied again, as keep.reapply asks; that is over in a moment.
var ErrQuiet = errors.New("everything is being applied again; try it in a moment")

// start begins a run and returns its entry's number; 0 when there is nothing to do.
func (p *Placement) start(r Ask) (int, error) {
	if err := p.mayStart(r); err != nil {
		return 0, err
	}
	ready, err := p.Prepare(r)
	if err != nil {
		return 0, err
	}
	e, made := ready.Entry, ready.Plan
	if err := ready.inTheWay(p.ID); err != nil {
		return 0, err
	}
	if len(made.Removals) > 0 && (r.Kind == run.Sync || r.Kind == run.Dismantle) && p.unread() != "" {
		return 0, ErrUnread
	}
	if made.Empty() && r.Kind != run.Rollback && r.Kind != run.Dismantle {
		if r.Kind == run.Sync && r.Retry && len(r.Only) == 0 {
			p.unrejectWhole(r.Declared, p.at) // the cluster holds it already
		}
		if r.Kind == run.Sync && len(r.Only) == 0 && (p.will.Applied == nil || p.will.Applied.ID != e.Revision.ID || p.will.Snapshot != e.Snapshot) { // nothing differs: the revision is applied already
			p.setApplied(*e.Revision, e.Snapshot, p.will.Done)
		}
		return 0, nil
	}
	found, err := p.found()
	if err != nil {
		return 0, fmt.Errorf("read what was there before: %w", err)
	}
	e = p.addEntry(e)
	hold := func(h logbook.Hold) {
		h.By, h.At = r.By, p.at
		p.setHold(&h)
	}
	switch {
	case r.Kind == run.Rollback && r.failed == nil:
		what := fmt.Sprintf("rolled back to #%d", r.ToEntry)
		if len(r.Only) > 0 {
			what = fmt.Sprintf("%s rolled back to #%d", strings.Join(r.Only, ", "), r.ToEntry)
		}
		hold(logbook.Hold{Reason: cmp.Or(r.Why, what), Entry: r.ToEntry})
	case r.Kind == run.Dismantle && p.will.Leaving == nil:
		hold(logbook.Hold{Reason: cmp.Or(r.Why, "dismantled")}) // it would be built up again the next moment
	case r.carry != nil:
	case r.Declared != nil && p.will.Hold == nil && p.declared != nil && p.declared.Revision.ID != r.Declared.Revision.ID && p.Ward.Keep.Sync == ward.Auto:
		// It would run forward to its own revision the next moment.
		hold(logbook.Hold{Reason: cmp.Or(r.Why, "synced to "+r.Declared.Revision.Short()), Entry: e.Number})
	}
	a := newRun(p, r, e, ready, found)
	theirs := map[object.Ref]string{}
	planned := made.Refs()
	if ready.Canary != nil {
		planned = append(planned, p.embark(a, ready.Canary, planned)...)
	}
	intents := p.intend(a, planned)
	for _, ref := range made.Removed() {
		x := a.of(ref)
		b, _ := p.index.Baseline(ref)
		x.works, x.doubted = true, b.Intent != 0
	}
	p.write(record.Claim{Cluster: p.Cluster, Number: e.Number, All: intents, Refused: theirs})
	p.after(happen{begun{e.Number, theirs}})
	for _, b := range intents {
		p.index.Keep(b)
		p.watchKind(object.Kind{Version: b.Version, Kind: b.Ref.Kind})
	}
	tasks := made.Tasks()
	for _, s := range made.OnFail {
		for _, g := range s.Groups {
			tasks = append(tasks, g.Refs...)
		}
	}
	for _, ref := range tasks {
		x := a.of(ref)
		x.task = &activeTask{}
		p.watchKind(object.Kind{Version: x.object.Object.Version, Kind: ref.Kind})
	}
	p.run, p.canary = a, nil
	p.Log.Info("run starts", "kind", e.Kind, "entry", e.Number, "by", e.By, "apply", len(made.Refs()), "tasks", len(tasks), "remove", len(made.Removed()))
	return e.Number, nil
}

// mayStart tells whether anything else is in the way of a run.
func (p *Placement) mayStart(r Ask) error {
	switch {
	case p.run != nil && p.run.ask.quiet:
		return ErrQuiet
	case p.run != nil:
		f := fault(Conflict, "%s is in the middle of %s #%d; wait for it, or stop it: vigila sync %s --stop", p.ID, p.run.entry.Kind, p.run.entry.Number, p.ID)
		f.Run = p.run.entry.Number
		return f
	case p.canary == nil || r.carry != nil:
	case r.Kind == run.Rollback || r.Kind == run.Dismantle:
		p.abandon(p.canary, string(r.Kind)+" by "+r.By)
	default:
		return fault(Conflict, "%s has a canary that Vigila left when it ended, and goes on with it once the cluster is known; try it in a moment", p.ID)
	}
	return nil
}

// newRun makes a run that has not started.
func newRun(p *Placement, r Ask, e logbook.Entry, ready *Prepared, found map[object.Ref]*fieldpath.Set) *activeRun {
	e.Canary = ready.Canary != nil
	a := &activeRun{ask: r, entry: e, pieces: map[object.Ref]*piece{}, spared: ready.Plan.Spared}
	carry := func(ref object.Ref) {
		if a.pieces[ref] == nil {
			a.pieces[ref] = &piece{object: ready.Objects[ref], turn: ready.Order[ref], found: found[ref]}
		}
	}
	var all []object.Object
	for ref, o := range ready.Objects {
		carry(ref)
		all = append(all, o.Object)
	}
	for ref, turn := range ready.Order {
		if turn.Task != object.NoTask {
			carry(ref)
		}
	}
	for _, ref := range append(ready.Plan.Refs(), ready.Plan.Removed()...) {
		carry(ref)
	}
	a.defined = declared.Definitions(all)
	snapshot := ready.Entry.Snapshot
	if r.Kind == run.Restore {
		snapshot = "" // each is applied as it was
	}
	within := p.Ward.Settle.Within
	if ready.Canary != nil { // and the time for its moves, and for going back
		within *= 4
		for _, t := range ready.Canary.Targets {
			within = max(within, 4*p.Ward.Settle.Within+t.Canary.Within)
		}
	}
	p.out(StartDrive{a.entry.Number, snapshot, within})
	otherwise := ward.Stay
	if r.Kind == run.Sync && p.Ward.Settle.Otherwise == ward.GoBack && len(r.Only) == 0 {
		otherwise = ward.GoBack
	}
	a.machine = run.New(ready.Plan, p.Ward.Settle.Within, otherwise)
	return a
}

// intend says what is about to be applied, so that after a crash it is known what may be there. An object that another ward keeps
// gets no baseline: it is refused when its turn comes.
func (p *Placement) intend(a *activeRun, refs []object.Ref) (intents []compare.Baseline) {
	for _, ref := range refs {
		x := a.of(ref)
		b, had := p.index.Baseline(ref)
		x.before, x.had, x.doubted = b, had, b.Intent != 0
		if !had {
			b = compare.Baseline{Ref: ref, Version: x.object.Object.Version}
		}
		b.Intent = a.entry.Number
		if other := p.Others.ClaimFor(ref); other != "" {
			x.refused = other
		} else {
			intents = append(intents, b)
		}
		x.works, x.left, x.scaled = true, p.index.Leave(ref), p.Scaler(ref) != ""
		if !had {
			continue
		}
		x.added = len(p.index.Unwanted(ref)) > 0
		if a.ask.Kind == run.Restore {
			for _, d := range p.index.PutBack(ref) {
				a.restored = append(a.restored, logbook.Restored{Ref: ref, Path: d.Path, Who: d.Who})
			}
		}
	}
	return intents
}

// begin starts a run that is written down.
func (p *Placement) begin(ev begun) {
	a := p.run
	for ref, ward := range ev.theirs { // of one that can't be opened
		if a != nil && a.entry.Number == ev.run {
			a.of(ref).refused = ward
		}
		p.index.Drop(ref)
		p.Others.Drop(ref)
	}
	if p.runs(ev.run) == nil {
		return // it was stopped meanwhile
	}
	a.started = true
	p.feed(run.Started{At: p.at})
}

// guarded is the no of guards.
// inTheWay is what keeps a run from being started; nil when nothing does.
func (ready *Prepared) inTheWay(id string) error {
	switch {
	case len(ready.Plan.Guards) > 0:
		return guarded(id, ready.Plan.Guards)
	case ready.Unknown != "":
		return fault(Unreachable, "%s can't be run now: it waits for %s", id, ready.Unknown)
	}
	return nil
}

func guarded(id string, gs []plan.Guard) *Fault {
	f := fault(Guarded, "%s stops before harm: %s", id, guardText(gs))
	f.Guards = gs
	return f
}

func guardText(gs []plan.Guard) string {
	var all, mends []string
	for _, g := range gs {
		if all = append(all, g.Text); g.Mend != "" && !slices.Contains(mends, g.Mend) {
			mends = append(mends, g.Mend)
		}
	}
	text := strings.Join(append([]string{strings.Join(all, "; ") + "."}, mends...), " ")
	if names := plan.Names(gs); len(names) > 0 {
		text += " To go on: --allow " + strings.Join(names, ",")
	}
	return text
}

// stop ends the run that goes on: calls that are on their way have a little time to be answered.
func (p *Placement) stop(reason string) {
	a := p.run
	if !a.machine.Carrying() { // a canary goes back first, and calls for that
		p.out(StopDrive{a.entry.Number})
	}
	p.feed(run.Stop{At: p.at, Reason: reason})
}

// feed gives the run an event and does what it wants done.
func (p *Placement) feed(ev run.Event) {
	a := p.run
	if a == nil {
		return
	}
	if _, stop := ev.(run.Stop); !a.started && !stop {
		return // it is being written down first
	}
	a.fed++
	actions := a.machine.Step(ev)
	p.keepCanary(a)
	if at := a.machine.Deadline(); !at.Equal(a.giveUp) {
		a.giveUp = at
		p.out(Deadline{a.entry.Number, at})
	}
	for _, act := range actions {
		switch act := act.(type) {
		case run.Apply:
			if act.Task != object.NoTask {
				p.runTask(a, act.Ref)
			} else {
				p.apply(a, act.Ref)
			}
		case run.Remove:
			p.remove(a, act.Ref)
		case run.Carry:
			p.carryCanary(a, act.Effect)
		case run.End:
			p.end(a, act)
		}
	}
}

// remove has an object removed, or left to who wants it.
func (p *Placement) remove(a *activeRun, ref object.Ref) {
	b, kept := p.index.Baseline(ref)
	task, isTask := p.tasks.all[ref]
	if isTask && !kept {
		b = compare.Baseline{Ref: ref, Version: task.Version, UID: task.UID}
	}
	r := Removal{Run: a.entry.Number, Ref: ref, Baseline: b, Kept: kept, task: isTask, Intent: Intent{a.ask.Kind, a.ask.Declared == nil}, Asked: Marks{}, Leaving: p.will.Leaving != nil}
	if l := p.index.Known(ref); l != nil {
		if l.Present && l.UID != b.UID { // deleted and made again, or from before the cluster's data were put back
			r.Other = l.UID
		}
		r.Theirs = l.Foreign // another service keeps it now: it is let go of, not removed
	}
	p.after(RemoveObject{r})
}

// tookRemoval takes in that an object is gone, or why not.
func (p *Placement) tookRemoval(ev Removed) {
	if ev.Unread && p.at.Before(p.run.machine.Deadline()) {
		p.feed(run.Trying{At: p.at, Ref: ev.Ref, Reason: "waits until the newest commit is read"})
		p.out(Later{unreadPause, RemoveDue{ev.Removal}})
		return
	}
	out := run.Removed{At: p.at, Ref: ev.Ref}
	switch f := ev.Failed; {
	case ev.Unread:
		out.Err, out.Outside = ErrUnread.Error(), true
	case f != nil:
		out.Err, out.Untried, out.Outside = f.Text, f.Stopped, f.Outside
	case ev.Spared.Again != "":
		out.Wanted, out.Note = true, "declared again by "+ev.Spared.Again
	default:
		switch {
		case ev.Spared.Theirs != "":
			out.Note = "left to " + compare.AnotherService(ev.Spared.Theirs)
		case ev.Spared.Heir != "":
			out.Note = "handed over to " + ev.Spared.Heir
		case ev.Spared.Marked != nil:
			out.Note = "left to " + object.Label(ev.Spared.Marked, object.WardLabel) + ", whose mark it bears"
		}
		p.isRemoved(ev.Removal, ev.Spared.Heir)
		if ev.Spared.Marked != nil { // nobody else tells that one
			p.after(PassOn{ev.Ref, ev.Spared.Marked})
		}
	}
	p.feed(out)
}

// isRemoved takes in that an object is gone, or another ward's now.
func (p *Placement) isRemoved(r Removal, heir string) {
	if r.task {
		p.write(record.RemoveTask{Ref: r.Ref})
		p.tasks.drop(r.Ref)
	}
	if r.Other != "" { // it was another than the one that was applied
		p.drop(r.Ref, r.Other)
	} else {
		p.drop(r.Ref)
	}
	p.index.Forget(r.Ref)
	p.lookForLate(r.Baseline)
	if heir != "" {
		p.remember(r.Ref, p.noteStray(r.Ref, r.Baseline.Version)) // should nobody come to keep it
	}
}

// end closes a run: the entry, what is applied now, what is rejected, and whether to go back.
func (p *Placement) end(a *activeRun, end run.End) {
	p.out(EndDrive{a.entry.Number})
	p.run = nil
	e := &a.entry
	e.Outcome, e.Reason, e.Ended = end.Outcome, end.Reason, p.at
	e.Objects = a.outcomes()
	if len(a.spared) > 0 && end.Outcome == run.Done {
		e.Reason = "left where it is: " + strings.Join(plan.Names(a.spared), ", ") + ", which a guard protects"
	}
	p.settleBaselines(a)
	p.endCanary(a)
	p.putBack(a)
	p.endTasks(a, end.Outcome)
	p.dropKinds()
	if a.ask.quiet && end.Outcome == run.Done && a.changed == 0 {
		p.will.Failures = 0
		p.write(record.RemoveEntry{Number: e.Number})
		return
	}
	p.write(record.EndEntry{Entry: *e})
	ended := *e
	p.ending.Store(&ended)
	p.after(endTold{&ended})
	p.out(CountRun{e.Kind, e.Outcome})
	p.Log.Info("run ended", "kind", e.Kind, "entry", e.Number, "outcome", e.Outcome, "reason", e.Reason)
	p.line.Notch(*e)
	carried := p.declared
	if a.ask.Declared != nil {
		carried = a.ask.Declared
	}
	kind, digest := e.Kind, ""
	if carried != nil && carried.Snapshot == e.Snapshot {
		digest = p.digest(carried)
	}
	follows := p.will.End(p.at, run.Ended{Entry: e, End: end, Partial: len(a.ask.Only) > 0, Unreachable: a.unreachable, GaveWay: a.gaveWay, Declared: digest,
		ByItself: kind == run.Sync && e.Revision != nil && p.Ward.Keep.Sync == ward.Auto || kind == run.Restore && p.Ward.Keep.Drift == ward.Restore})
	if follows.Well {
		p.wentWell(a)
	}
	if follows.Reject != nil {
		p.reject(*follows.Reject)
	}
	if follows.GoBack {
		p.goBack(e, e.Reason)
	}
	if follows.Hold != nil {
		p.setHold(follows.Hold)
	}
}

// outcomes is how far the run is, or was, with each object.
func (a *activeRun) outcomes() []logbook.EntryObject {
	var out []logbook.EntryObject
	for _, o := range a.machine.Progress() {
		out = append(out, logbook.EntryObject{Ref: o.Ref, Step: o.Step, Task: o.Task, Replaced: o.Replaced, State: o.State, Reason: o.Reason,
			Began: o.Began, Ended: o.Ended, Log: a.of(o.Ref).logged})
	}
	return out
}

// settleBaselines writes what is known of the objects once a run has ended.
func (p *Placement) settleBaselines(a *activeRun) {
	var doubtful []object.Ref
	for _, o := range a.machine.Progress() {
		if b, ok := p.index.Baseline(o.Ref); ok && (a.of(o.Ref).silent || a.of(o.Ref).lost) && a.of(o.Ref).appliedAt == 0 {
			b.Declared, b.Imprint, b.Size, b.Guards = "", object.Imprint{}, 0, "" // what is there is not known: it is pending
			doubtful = append(doubtful, o.Ref)
			p.index.Keep(b)
		}
	}
	if len(doubtful) > 0 {
		p.write(record.Doubt{Refs: doubtful})
	}
	// Objects that were never made leave nothing behind to keep.
	for _, o := range a.machine.Progress() {
		if b, ok := p.index.Baseline(o.Ref); ok && !o.Remove && b.UID == "" && (o.State == run.Untried || o.State == run.Refused) && !a.unreachable {
			p.drop(o.Ref)
		}
	}
	// What an earlier run left in doubt, and this one has neither applied nor removed, stays so.
	for ref, b := range p.index.All() {
		if b.Intent != 0 && a.of(ref).works && (a.of(ref).appliedAt > 0 || !a.of(ref).doubted) {
			b.Intent = 0
			p.index.Keep(b)
		}
	}
	p.write(record.SettleIntents{Number: a.entry.Number, Doubtful: p.doubtful()})
	for ref, x := range a.pieces {
		switch { // of a state that came while nobody could tell what to hold it against
		case x.early == nil:
		case p.index.Keeps(ref):
			p.carry(p.index.Weigh(p.at, ref, x.early))
		default: // it was there, and this run has not come to it
			p.stray(ref, x.early)
		}
	}
}

// wentWell notes what a run that ended well has left.
func (p *Placement) wentWell(a *activeRun) {
	e, now := &a.entry, p.at
	for i, r := range a.restored {
		a.restored[i].At = now
		p.index.Contests.Restored(r.Ref, r.Path, r.Who, now)
	}
	p.write(record.AddRestores{All: a.restored})
	switch e.Kind {
	case run.Sync, run.Rollback:
		whole := len(a.ask.Only) == 0
		if !whole && p.declared != nil && p.declared.Snapshot == e.Snapshot {
			whole = p.pending().Total() == 0 // the parts make a whole
		}
		if whole {
			tasks := map[string]string{}
			for ref, x := range a.pieces {
				if x.turn.Task != object.NoTask {
					tasks[ref.Key()] = x.object.Hash
				}
			}
			p.setApplied(*revisionOr(e.Revision), e.Snapshot, tasks)
		}
		if e.Kind == run.Sync {
			if whole {
				p.unrejectWhole(a.ask.Declared, e.Started)
			}
			var worked []object.Ref
			for ref, x := range a.pieces {
				if x.works {
					p.index.Contests.Forget(ref)
					worked = append(worked, ref)
				}
			}
			p.write(record.ForgetRestores{Refs: worked})
		}
	case run.Dismantle:
		p.setApplied(logbook.Revision{}, "", nil)
		p.will.Applied = nil
	}
	if failed := a.ask.failed; failed != nil && failed.Number > 0 {
		failed.Outcome = run.RolledBack
		p.write(record.SetOutcome{Number: failed.Number, Outcome: failed.Outcome})
		p.line.Notch(*failed)
	}
}

func (p *Placement) reject(r logbook.Rejection) {
	p.will.Rejections[r.Revision] = r
	p.write(record.Reject{Rejection: r})
}

func (p *Placement) unreject(revision string) {
	delete(p.will.Rejections, revision)
	p.write(record.Unreject{Revision: revision})
}

// unrejectWhole lifts what had rejected a declaration by then: given, or that of now.
func (p *Placement) unrejectWhole(d *declared.Declaration, by time.Time) {
	if d == nil {
		d = p.declared
	}
	if d == nil {
		return
	}
	for _, revision := range p.will.Lifted(d.Revision.ID, p.digest(d), by) {
		p.unreject(revision)
	}
}

func revisionOr(r *logbook.Revision) *logbook.Revision {
	if r == nil {
		return &logbook.Revision{}
	}
	return r
}

// goBack starts the rollback to what was applied last.
func (p *Placement) goBack(failed *logbook.Entry, why string) {
	if p.will.Snapshot == "" {
		p.Log.Warn("nothing to go back to", "reason", why)
		return
	}
	if failed == nil {
		failed = p.will.Last
	}
	if failed.Kind != run.Sync {
		failed = &logbook.Entry{}
	}
	r := Ask{Kind: run.Rollback, By: logbook.Vigila, Why: why, ToEntry: p.LastGood(), own: own{failed: failed}}
	if _, err := p.start(r); err != nil {
		p.Log.Error("going back did not start", "error", err)
		p.will.Failed(p.at)
		reason := err.Error()
		var f *Fault
		if errors.As(err, &f) && len(f.Guards) > 0 {
			reason = "stopped before harm, " + guardText(f.Guards)
		}
		// It is the loudest thing there is, so it has an entry of its own.
		e := p.addEntry(logbook.Entry{Kind: run.Rollback, Outcome: run.Failed, By: logbook.Vigila, Why: why, Reason: reason,
			ToEntry: r.ToEntry, Revision: p.will.Applied, Started: p.at, Ended: p.at})
		p.line.Notch(e)
		p.will.Last = &e
	}
}

// LastGood is the number of the newest entry that left the ward as it was applied last; 0 when nothing ever was.
func (p *Placement) LastGood() int {
	if p.will.Snapshot == "" {
		return 0 // an entry that keeps no objects is nothing to go back to
	}
	entries, err := p.Book.Entries()
	if err != nil {
		return 0
	}
	for _, e := range entries {
		if e.Outcome == run.Done && e.Snapshot == p.will.Snapshot {
			return e.Number
		}
	}
	return 0
}

func (p *Placement) setApplied(r logbook.Revision, snapshot string, tasks map[string]string) {
	p.will.Applied, p.will.Snapshot, p.will.Done = &r, snapshot, tasks
	p.index.Whole()
	p.write(record.SetApplied{Revision: r, Snapshot: snapshot, Tasks: tasks})
}

func (p *Placement) setHold(h *logbook.Hold) {
	p.write(record.SetHold{Hold: h})
	p.will.Hold = h
}

// holdBy stops automatic runs and writes it into the logbook.
func (p *Placement) holdBy(by, reason string, until time.Time) error {
	if p.will.Hold != nil {
		return fault(Conflict, "%s is held already, by %s: %s", p.ID, p.will.Hold.By, cmp.Or(p.will.Hold.Reason, "no reason given"))
	}
	p.setHold(&logbook.Hold{By: by, At: p.at, Until: until, Reason: reason})
	p.writeAbout(logbook.Holds, by, reason, p.will.Applied)
	return nil
}

func (p *Placement) release(by, reason string) error {
	if p.will.Hold == nil {
		return fault(Conflict, "%s is not held", p.ID)
	}
	p.setHold(nil)
	p.will.Failures = 0
	p.writeAbout(logbook.Frees, by, reason, p.will.Applied)
	return nil
}

func (p *Placement) writeAbout(kind logbook.Kind, by, why string, revision *logbook.Revision) {
	p.line.Notch(p.addEntry(logbook.Entry{Kind: kind, Outcome: run.Done, By: by, Why: why, Revision: revision, Started: p.at, Ended: p.at}))
}
