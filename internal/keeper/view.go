package keeper

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

// watchSpan is how far back the watch line goes.
const watchSpan = 24 * time.Hour

// Tone is how loud a ward is on the board.
type Tone string

// The tones.
const (
	Quiet         Tone = "quiet"
	ToneBehind    Tone = "behind"
	ToneDrifted   Tone = "drifted"
	ToneFailing   Tone = "failing"
	ToneContested Tone = "contested"
	ToneBlind     Tone = "blind"
)

// Notch is a run on the watch line.
type Notch struct {
	At      time.Time
	Number  int
	Kind    string
	Outcome string
}

// View is a ward as it stands, for readers. It never changes once it is made.
type View struct {
	ID, Cluster   string
	Ward          ward.Ward
	File          string
	Roster        string // that declares it
	Source        string // the file in the roster's repository
	Head          string // the commit that its repository was at when it was read
	Form          string // plain, overlay, chart or template
	Chart         string
	Notes         []string // what of a chart was left out
	Misfiled      string   // what is wrong with the ward's file; the last good one is in force
	Standing      compare.Standing
	Health        health.Result
	Since         time.Time
	Says, Todo    string
	NeedsYou      bool
	Loudest       bool // going back failed: nothing else comes before it
	Tone          Tone
	Pending       int
	Drifted       int
	DriftedFields int
	Contested     int
	Additions     int // fields and items that others added
	Tasks         int // tasks that are new or changed
	Repository    AsOf
	Live          AsOf
	Revision      *record.Revision
	Applied       *record.Revision
	Rejected      string
	Rejections    []record.Rejection // newest first
	Hold          *record.Hold
	WaitsFor      string
	WaitsLoud     bool   // what it waits for needs a person
	HeldBack      string // what its roster's limits say against it
	Leaving       *record.Leaving
	Half          int       // objects that are not as what was applied as a whole has them, after a run that did not end well
	Retry         time.Time // when a run that failed is tried again; zero when it is not
	Guards        []plan.Guard
	Run           *record.Entry
	RunDeadline   time.Time
	RunFailing    bool      // the run has failed, and its tasks for that go on
	RestoreAt     time.Time // drift is not restored before
	Standings     []record.Stretch
	Notches       []Notch
	Count         int          // objects, declared or kept
	Kept          int          // objects that the ward keeps
	Astray        []ObjectView // the objects that others changed or added to; Keeper.Objects lists them all
	snapshots     []string     // in use
	leaving       *record.Leaving
	shares        bool // it wants a namespace that another ward keeps
}

// ObjectView is one object of a ward.
type ObjectView struct {
	Ref          object.Ref
	Version      string
	Step         int
	File         string
	Line         int
	Standing     compare.Standing
	Change       string // create, update, remove, or empty
	Health       health.Result
	Drift        []compare.Difference
	Contested    []bool // beside Drift
	Additions    []compare.Difference
	Task         object.Task
	Scaler       string // the autoscaler that has its replicas
	Left         []string
	Gone         bool
	Foreign      string // another service that says it keeps the object
	Restart      *object.Restart
	Since        time.Time
	AlreadyThere bool
	OwnedFields  int
	UID          string
}

// View is the ward as it stands now.
func (p *placement) View() *View { return p.view.Load() }

func (p *placement) notch(e record.Entry) {
	n := Notch{At: e.Started, Number: e.Number, Kind: e.Kind, Outcome: e.Outcome}
	if i := slices.IndexFunc(p.notches, func(x Notch) bool { return x.Number == e.Number }); i >= 0 {
		p.notches[i] = n
	} else {
		p.notches = append(p.notches, n)
	}
}

// publish makes the ward's new view and tells whoever listens when it is another; a change of standing or health
// is recorded with its time.
func (p *placement) publish() {
	began := time.Now()
	old := p.view.Load()
	v := p.build()
	if n := len(p.standings); n == 0 || p.standings[n-1].Standing != string(v.Standing) || p.standings[n-1].Health != string(v.Health.Word) {
		// A service that has just started is blind for a moment; that is not worth a mark unless it lasts.
		starting := v.Standing == compare.Blind && v.Repository.Problem == "" && v.Live.Problem == ""
		if !starting {
			st := record.Stretch{From: time.Now(), Standing: string(v.Standing), Health: string(v.Health.Word)}
			p.k.spawn(func() { // beside: a database that is locked or full must not hold up the truth
				if err := p.k.store.AddStanding(context.WithoutCancel(p.ctx), p.id, st); err != nil {
					p.log.Error("standing can't be recorded", "error", err)
				}
			})
			if n == 0 || p.standings[n-1].Standing != st.Standing {
				p.since = st.From
			}
			p.standings = append(p.standings, st)
		}
	}
	cut := time.Now().Add(-watchSpan)
	for len(p.standings) > 1 && p.standings[1].From.Before(cut) {
		p.standings = p.standings[1:]
	}
	for len(p.notches) > 0 && p.notches[0].At.Before(cut) {
		p.notches = p.notches[1:]
	}
	v.Since, v.Standings, v.Notches = p.since, slices.Clone(p.standings), slices.Clone(p.notches)
	p.view.Store(v)
	if old == nil || !same(old, v) {
		p.k.broker.send(Note{"ward", p.id})
		if old == nil || old.Standing != v.Standing || old.Health.Word != v.Health.Word || old.Head != v.Head || (old.Run == nil) != (v.Run == nil) {
			p.k.dependents(p)
		}
	}
	p.viewed, p.viewCost = time.Now(), time.Since(began)
}

// nextView is how long the next view of a run has to wait: ten a second are enough for eyes, and drawing is to take a
// twentieth of the time at most.
func (p *placement) nextView() time.Duration {
	return time.Until(p.viewed.Add(max(20*p.viewCost, 100*time.Millisecond)))
}

// same tells whether two views say the same, times of looking aside.
func same(a, b *View) bool {
	x, y := *a, *b
	for _, v := range []*View{&x, &y} {
		v.Repository.At, v.Repository.Next, v.Live.At = time.Time{}, time.Time{}, time.Time{}
	}
	return reflect.DeepEqual(x, y)
}

// build makes the view of what the placement knows.
func (p *placement) build() *View {
	v := &View{ID: p.id, Cluster: p.cluster.conf.Name, Ward: p.ward, File: p.file, Roster: p.roster, Source: p.source, Misfiled: p.misfiled, Repository: p.repository, Applied: p.applied, Hold: p.hold,
		Since: p.since, Standings: p.standings, Notches: p.notches}
	state := p.clusterKnown()
	v.Live = AsOf{Known: state.Known, At: state.At, Problem: state.Problem}
	if len(p.baselines) == 0 && p.cluster.conn != nil {
		v.Live.At = time.Now()
	}
	behind := p.pending()
	v.Tasks, v.Pending, v.Guards, v.Count, v.Kept = len(behind.tasks), behind.total(), behind.guards, behind.count, len(p.baselines)
	astray := p.astray()
	v.Drifted, v.DriftedFields, v.Contested, v.Additions = len(astray.refs), astray.fields, astray.contested, astray.additions
	if len(astray.restorable) == 0 {
		v.RestoreAt = astray.at
	}
	for _, r := range p.rejections {
		v.Rejections = append(v.Rejections, r)
	}
	slices.SortFunc(v.Rejections, func(a, b record.Rejection) int {
		return cmp.Or(b.At.Compare(a.At), strings.Compare(a.Revision, b.Revision))
	})
	v.snapshots = []string{p.snapshot}
	if p.stored != nil {
		v.snapshots = append(v.snapshots, p.stored.snapshot)
	}
	waits := ""
	if p.declared != nil {
		waits = p.declared.waits
		v.snapshots = append(v.snapshots, p.declared.snapshot)
		v.Head, v.Form, v.Chart, v.Notes = p.declared.head, p.declared.form, p.declared.chart, p.declared.notes
		if waits == "" {
			rev := p.declared.revision
			v.Revision = &rev
		}
		v.Rejected = p.rejected()
	}
	v.shares = behind.shares
	v.Leaving, v.leaving, v.HeldBack = p.leaving, p.leaving, orElse(p.limited, p.heldBack)
	if v.Pending > 0 {
		v.WaitsFor, v.WaitsLoud = p.waits()
	}
	v.Half = p.half()
	if p.failures > 0 && p.run == nil && v.Hold == nil {
		v.Retry = p.lastFailed.Add(run.Backoff(p.failures))
	}
	v.Standing = compare.Stand(compare.Input{RepoKnown: p.repository.Known && waits == "" && p.misfiled == "" && p.broken == "", ClusterKnown: v.Live.Known,
		Pending: v.Pending, Unfinished: v.Half > 0 || p.unfinished() || v.HeldBack != "" || p.leaving != nil, Drifted: v.Drifted, Contested: v.Contested})
	v.Astray = p.astrayViews(behind, astray)
	v.Health = p.health()
	if !v.Live.Known && v.Kept > 0 {
		v.Health = health.Result{Word: health.Unknown, Reason: "last known: " + string(v.Health.Word)}
	}
	if p.run != nil && (!p.run.ask.quiet || p.run.changed > 0) {
		e := p.run.entry
		e.Objects = p.run.outcomes()
		v.Run, v.RunDeadline, v.RunFailing = &e, p.run.machine.Deadline(), p.run.machine.Failing()
	}
	p.say(v, waits)
	return v
}

// unfinished tells whether the run that goes on is on its way to something that the cluster does not hold as a whole yet.
func (p *placement) unfinished() bool {
	if p.run == nil || p.run.ask.quiet {
		return false
	}
	e := p.run.entry
	return e.Kind != string(run.Restore) && (e.Snapshot != p.snapshot || e.Kind != string(run.Sync)) || e.Kind == string(run.Dismantle)
}

// half counts what is not as what was applied as a whole has it, after a run that was stopped, interrupted or failed, while
// none goes on: then the cluster holds parts of two revisions, or one that was never ready.
func (p *placement) half() int {
	if p.run != nil || p.last == nil || p.declared == nil || p.declared.waits != "" || p.leaving != nil {
		return 0
	}
	switch run.Outcome(p.last.Outcome) {
	case run.Stopped, run.Interrupted, run.Failed:
	default:
		return 0
	}
	if kind := run.Kind(p.last.Kind); kind != run.Sync && kind != run.Rollback || p.last.Snapshot == "" {
		return 0
	}
	if p.last.Snapshot == p.snapshot && p.declared.snapshot == p.snapshot {
		return 0 // what is not there is pending
	}
	n := 0
	whole := p.appliedWhole()
	for ref, b := range p.baselines {
		hash, held := whole[ref]
		if !held && (p.declared.find(ref) != nil || b.Snapshot != "") || held && strings.TrimPrefix(b.Declared, scaledMark) != hash {
			n++
		}
	}
	for ref := range whole {
		if _, kept := p.baselines[ref]; !kept && p.done[ref.Key()] == "" {
			n++
		}
	}
	return n
}

// health is the worst of what the ward keeps; what is not odd is ready.
func (p *placement) health() health.Result {
	if len(p.baselines) == 0 {
		return health.Result{Word: health.Unknown}
	}
	p.settle()
	healths := []health.Result{{Word: health.Ready}}
	for _, ref := range slices.SortedFunc(maps.Keys(p.odd), object.Ref.Compare) {
		h := health.Result{Word: health.Unknown}
		if l := p.known(ref); l != nil {
			h = l.state()
		}
		if h.Reason != "" {
			h.Reason = ref.Short() + ": " + h.Reason
		}
		healths = append(healths, h)
	}
	return compare.Health(healths)
}

// changes is what a sync would do to each pending object.
func (p *placement) changes(b *behind) map[object.Ref]string {
	out := make(map[object.Ref]string, b.total())
	for _, ref := range b.apply {
		out[ref] = "update"
		if b, kept := p.baselines[ref]; !kept || b.UID == "" {
			out[ref] = "create"
		}
	}
	for _, ref := range b.remove {
		out[ref] = "remove"
	}
	for _, ref := range b.tasks {
		out[ref] = "run"
	}
	return out
}

// astrayViews are the objects that others changed or added to, sorted.
func (p *placement) astrayViews(b *behind, astray astray) []ObjectView {
	if len(astray.refs)+len(astray.added) == 0 {
		return nil
	}
	changes := p.changes(b)
	var out []ObjectView
	for _, ref := range astray.refs {
		out = append(out, p.objectView(ObjectView{Ref: ref}, changes[ref], true))
	}
	for _, ref := range astray.added {
		if !slices.Contains(astray.refs, ref) {
			out = append(out, p.objectView(ObjectView{Ref: ref}, changes[ref], false))
		}
	}
	return out
}

// objectView completes what is known of one object.
func (p *placement) objectView(o ObjectView, change string, drifted bool) ObjectView {
	b, kept := p.baselines[o.Ref]
	if kept {
		o.Version, o.OwnedFields = b.Version, b.Size
	}
	if p.declared != nil {
		if d := p.declared.find(o.Ref); d != nil {
			o.Task, o.File, o.Line = d.Task, d.file, d.line
			o.Version = orElse(o.Version, d.version)
		}
	}
	l := p.known(o.Ref)
	o.Standing, o.Health = compare.InStep, health.Result{Word: health.Unknown}
	if o.Change = change; change != "" {
		o.Standing = compare.Behind
	}
	o.Scaler = p.scaler(o.Ref)
	for _, f := range p.ward.Left(o.Ref) {
		o.Left = append(o.Left, f.String())
	}
	if l != nil {
		o.UID = l.uid
		o.Health = l.state()
		if !kept && l.present && o.Task == object.NoTask {
			o.AlreadyThere = true
		}
		o.Additions, o.Restart = l.added, l.restart
		if drifted {
			o.Standing, o.Drift, o.Gone, o.Since, o.Foreign = compare.Drifted, p.drift(o.Ref), !l.present, l.since, l.foreign
			for _, d := range o.Drift {
				c := l.foreign != "" || p.contests.Contested(o.Ref, d.Path, d.Who)
				o.Contested = append(o.Contested, c)
				if c {
					o.Standing = compare.Contested
				}
			}
			if o.Gone && p.contests.Contested(o.Ref, "", "") {
				o.Standing = compare.Contested
			}
		}
		for _, d := range o.Additions {
			if p.contests.Contested(o.Ref, d.Path, d.Who) {
				o.Standing = compare.Contested
			}
		}
	} else if !kept {
		o.Health = health.Result{Word: health.Absent}
	}
	if o.Task != object.NoTask && (l == nil || !l.present) {
		o.Health = health.Result{Word: health.Unknown, Reason: "runs with the next sync"}
		if o.Change == "" {
			o.Health.Reason = "ran with the last sync"
		}
	}
	return o
}

// objectViews lists every object of the ward, in the order of a run.
func (p *placement) objectViews() []ObjectView {
	behind, astray := p.pending(), p.astray()
	out := make([]ObjectView, 0, behind.count)
	seen, changes, drifted := map[object.Ref]bool{}, p.changes(behind), map[object.Ref]bool{}
	for _, ref := range astray.refs {
		drifted[ref] = true
	}
	add := func(o ObjectView) {
		if !seen[o.Ref] {
			seen[o.Ref] = true
			out = append(out, p.objectView(o, changes[o.Ref], drifted[o.Ref]))
		}
	}
	if p.declared != nil {
		for _, o := range p.declared.objects {
			add(ObjectView{Ref: o.Ref, Step: o.Step})
		}
	}
	for ref := range p.baselines {
		add(ObjectView{Ref: ref})
	}
	for _, ref := range behind.remove { // objects of tasks that are declared no more
		add(ObjectView{Ref: ref, Version: p.tasks[ref].Version})
	}
	ranks, steps := map[object.Ref]int{}, map[object.Ref]int{}
	declared := make([]plan.Declared, len(out))
	for i, o := range out {
		declared[i] = plan.Declared{Ref: o.Ref, Turn: object.Turn{Step: o.Step, Task: o.Task}}
		if p.declared != nil {
			if d := p.declared.find(o.Ref); d != nil {
				declared[i].Turn = d.Turn
			}
		}
	}
	whole := plan.Make(plan.Input{Declared: declared, Tasks: plan.Always})
	for _, s := range append(whole.Steps, whole.OnFail...) {
		for _, g := range s.Groups {
			for _, ref := range g.Refs {
				ranks[ref], steps[ref] = len(ranks), s.Number
			}
		}
	}
	for i := range out {
		out[i].Step = steps[out[i].Ref] // where a run has it: namespaces come first
	}
	slices.SortFunc(out, func(a, b ObjectView) int { return ranks[a.Ref] - ranks[b.Ref] })
	return out
}

// say puts into words what is going on, what can be done about it, and how loud it is.
func (p *placement) say(v *View, waits string) {
	set := func(tone Tone, needs bool, says, todo string) {
		v.Tone, v.NeedsYou, v.Says, v.Todo = tone, needs, says, todo
	}
	hold := ""
	if v.Hold != nil {
		hold = "Held by " + v.Hold.By
		if v.Hold.Reason != "" {
			hold += ": " + v.Hold.Reason
		}
	}
	release := "Let it go on: vigila release " + v.ID
	switch {
	case v.Run != nil:
		done := 0
		waiting := ""
		for _, o := range v.Run.Objects {
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
		set(Quiet, false, fmt.Sprintf("%s #%d: %d of %d done%s", verbs[v.Run.Kind], v.Run.Number, done, len(v.Run.Objects), waiting), "Stop it: vigila sync "+v.ID+" --stop")
		if v.RunFailing {
			v.Says = fmt.Sprintf("%s #%d failed; its tasks for that run%s", verbs[v.Run.Kind], v.Run.Number, waiting)
		}
		if v.Health.Word == health.Failing {
			v.Tone = ToneFailing
		}
	case p.broken != "":
		set(ToneBlind, true, capital(p.broken), "The others go on. Mend it in the record, or remove the ward and add it anew: vigila ward remove "+v.ID)
	case v.Leaving != nil:
		says := "It is being removed"
		if v.Leaving.Dismantle {
			says += ", its objects first"
		}
		set(ToneBehind, p.failures > 0, says+", asked for by "+v.Leaving.By, "")
		if p.failures > 0 && p.last != nil && p.last.Reason != "" {
			v.Says, v.Tone = "Dismantling it has failed: "+p.last.Reason, ToneFailing
			v.Todo = "It is tried again at " + v.Retry.UTC().Format("15:04:05") + " UTC. Let it go as it is: vigila ward remove " + v.ID
		}
	case p.last != nil && p.last.Kind == string(run.Rollback) && p.last.Outcome == string(run.Failed):
		set(ToneFailing, true, fmt.Sprintf("Going back to #%d failed: %s", p.last.ToEntry, p.last.Reason), fmt.Sprintf("Nothing more is done by itself. Look at what is failing: vigila ward show %s, or go back by hand: vigila rollback %s %d.", v.ID, v.ID, p.last.ToEntry))
		v.Loudest = true
	case v.Misfiled != "":
		set(ToneBlind, true, v.Misfiled, "The last good declaration stays in force.")
	case waits != "" && v.Live.Known:
		set(ToneBlind, false, capital(waits), "")
	case !v.Repository.Known && v.Repository.Problem != "":
		set(ToneBlind, true, v.Repository.Problem, "The cluster is left as it is.")
	case !v.Live.Known && v.Live.Problem != "":
		set(ToneBlind, true, v.Live.Problem, "What is shown is the last known.")
	case v.Standing == compare.Blind:
		set(ToneBlind, false, "Looking for the first time since the service started", "")
	case v.HeldBack != "":
		set(ToneBehind, true, v.HeldBack, "The last good declaration stays in force.")
	case v.Half > 0 && (v.Hold != nil || v.Ward.Keep.Sync != "auto" || v.Health.Word == health.Failing || v.Rejected != ""):
		p.sayHalf(v)
	case v.Rejected != "" && v.Hold == nil && v.rejectedBy() != byVigila:
		todo := "It stays at " + short(v.Applied) + "."
		if v.Pending == 0 {
			todo = "The cluster holds it. Go back: vigila logbook " + v.ID + "."
		}
		set(ToneBehind, v.Pending == 0, fmt.Sprintf("%s was rejected by %s: %s", title(v.Revision), v.rejectedBy(), v.Rejected), todo+" Lift it: vigila accept "+v.ID+" "+short(v.Revision))
	case v.Rejected != "" && p.failedTo(v):
		set(ToneFailing, true, fmt.Sprintf("Went back to %s: %s", short(v.Applied), v.Rejected),
			short(v.Revision)+" is rejected. Push a newer revision, or try it again: vigila sync "+v.ID+" --retry")
	case v.Rejected != "" && v.Hold == nil: // a person who held it has decided about it
		set(ToneFailing, true, fmt.Sprintf("%s failed: %s", short(v.Revision), v.Rejected), "Push a newer revision, or try this one again: vigila sync "+v.ID+" --retry")
	case slices.ContainsFunc(v.Astray, func(o ObjectView) bool { return o.Foreign != "" }):
		o := v.Astray[slices.IndexFunc(v.Astray, func(o ObjectView) bool { return o.Foreign != "" })]
		set(ToneContested, true, fmt.Sprintf("%s has taken %s over; it is left alone here", capital(anotherService(o.Foreign)), o.Ref.Short()),
			"Keep it in one place: remove it from one of the two, or take it back with vigila sync "+v.ID)
	case v.Contested > 0:
		o, d := firstDrift(v, true)
		what := d.Path + " of " + o.Ref.Short()
		if d.Path == "" {
			what = o.Ref.Short()
		}
		set(ToneContested, true, fmt.Sprintf("%s undid the restore of %s three times; it is not restored any more", orElse(d.Who, "Somebody"), what), leaveHint(v))
	case v.Health.Word == health.Failing:
		set(ToneFailing, true, v.Health.Reason, "Events and logs: vigila ward show "+v.ID)
	case v.Drifted > 0:
		o, d := firstDrift(v, false)
		switch {
		case o.Gone:
			set(ToneDrifted, true, fmt.Sprintf("Somebody deleted %s", o.Ref.Short()), "")
		default:
			set(ToneDrifted, true, driftWords(o.Ref, d), leaveHint(v))
			if d.Who == "" || d.Likely { // the name of a client stays as it is
				v.Says = capital(v.Says)
			}
		}
		if more := v.DriftedFields - 1; more > 0 {
			v.Says += fmt.Sprintf(", and %d more", more)
		}
		switch {
		case v.Hold != nil:
			v.Todo = hold + ". Not restored while held. " + release
		case v.Ward.Keep.Drift == "restore":
			v.NeedsYou = p.failures > 0
			v.Todo = "It will be restored."
			if v.RestoreAt.After(time.Now()) {
				v.Todo = "It was restored a moment ago already; it will be again at " + v.RestoreAt.UTC().Format("15:04:05") + " UTC."
			}
		default:
			v.Todo = "Reported, not restored: this ward asks first. Restore it: vigila restore " + v.ID
		}
	case len(v.Guards) > 0:
		set(ToneBehind, true, "Stopped before harm: "+v.Guards[0].Text, "To go on: vigila sync "+v.ID+" --allow "+guardNames(v.Guards))
	case v.Hold != nil:
		set(Quiet, false, hold, release)
		if v.Pending > 0 {
			v.Tone = ToneBehind
		}
	case v.Pending > 0 && v.WaitsFor != "" && (v.Ward.Keep.Sync == "auto" || p.bring != "" || v.WaitsLoud):
		set(ToneBehind, v.WaitsLoud, "Waits for "+v.WaitsFor, "")
	case v.Pending > 0 && p.failures > 0 && p.last != nil && p.last.Outcome == string(run.Failed) && (v.Ward.Keep.Sync == "auto" || p.bring != ""):
		set(ToneBehind, p.failures > 1, fmt.Sprintf("%s #%d did not go through: %s", verbs[p.last.Kind], p.last.Number, p.last.Reason), "It is tried again at "+v.Retry.UTC().Format("15:04:05")+" UTC, or now: vigila sync "+v.ID)
	case v.Pending > 0:
		says := fmt.Sprintf("%s to sync: %s", objects(v.Pending), title(v.Revision))
		if v.Applied == nil {
			says = fmt.Sprintf("Never synced; %s declared", objects(v.Pending))
		}
		set(ToneBehind, v.Ward.Keep.Sync == "ask", says, "Sync it: vigila sync "+v.ID)
		if v.Ward.Keep.Sync == "auto" {
			v.Todo = "It will be synced."
		}
	case v.Additions > 0:
		o, d := firstAddition(v)
		set(Quiet, false, fmt.Sprintf("%s added %s to %s", orElse(d.Who, "Somebody"), d.Path, o.Ref.Short()), leaveHint(v))
		if more := v.Additions - 1; more > 0 {
			v.Says += fmt.Sprintf(", and %d more", more)
		}
		if v.Ward.Keep.Additions == "remove" {
			v.Todo = "Take it away: vigila sync " + v.ID
			if v.Ward.Keep.Drift == "restore" && v.Hold == nil {
				v.Todo = "It will be taken away."
			}
		}
	default:
		set(Quiet, false, title(orRevision(v.Applied, v.Revision)), "")
		if v.Health.Word == health.Settling || v.Health.Word == health.Absent {
			v.Says = v.Health.Reason
		}
	}
}

// verbs say what a run is doing.
var verbs = map[string]string{"sync": "Sync", "restore": "Restore", "rollback": "Rollback", "dismantle": "Dismantle"}

// failedTo tells whether the ward went back from the rejected revision.
func (p *placement) failedTo(v *View) bool {
	return v.Applied != nil && v.Revision != nil && v.Applied.ID != v.Revision.ID && v.Pending > 0 && v.Ward.Settle.Otherwise != string(run.Stay)
}

// rejectedBy is who rejected the newest revision.
func (v *View) rejectedBy() string {
	for _, r := range v.Rejections {
		if v.Revision != nil && r.Revision == v.Revision.ID {
			return r.By
		}
	}
	return byVigila
}

func firstAddition(v *View) (ObjectView, compare.Difference) {
	for _, o := range v.Astray {
		if len(o.Additions) > 0 {
			return o, o.Additions[0]
		}
	}
	return ObjectView{}, compare.Difference{}
}

func firstDrift(v *View, contested bool) (ObjectView, compare.Difference) {
	for _, o := range v.Astray {
		if o.Gone && (!contested || o.Standing == compare.Contested) {
			return o, compare.Difference{}
		}
		for i, d := range o.Drift {
			if !contested || o.Contested[i] {
				return o, d
			}
		}
		if contested && o.Standing == compare.Contested && len(o.Additions) > 0 {
			return o, o.Additions[0]
		}
	}
	return ObjectView{}, compare.Difference{}
}

// driftWords say what happened to a field, or to an object: "kubectl-scale changed spec.replicas of …".
func driftWords(ref object.Ref, d compare.Difference) string {
	who := orElse(d.Who, "somebody")
	if d.Likely {
		who = "probably " + who
	}
	from, to := brief(d.From), brief(d.To)
	switch {
	case d.Change == compare.Remade:
		return fmt.Sprintf("%s deleted %s and made it again", who, ref.Short())
	case d.Path == "" && d.Change == compare.Removed:
		return fmt.Sprintf("%s deleted %s", who, ref.Short())
	case d.Change == compare.Removed:
		return fmt.Sprintf("%s removed %s of %s", who, d.Path, ref.Short())
	case d.Change == compare.Added && d.From == nil && !ref.Secret() && len(to) <= 80:
		return fmt.Sprintf("%s set %s of %s to %s", who, d.Path, ref.Short(), to)
	case ref.Secret() || len(from)+len(to) > 80:
		return fmt.Sprintf("%s changed %s of %s", who, d.Path, ref.Short())
	}
	return fmt.Sprintf("%s changed %s of %s from %s to %s", who, d.Path, ref.Short(), from, to)
}

// sayHalf says where a ward stands that holds parts of two revisions, or one that was never ready, and nothing is done
// about it by itself.
func (p *placement) sayHalf(v *View) {
	l := p.last
	how := map[run.Outcome]string{run.Stopped: "was stopped", run.Interrupted: "was interrupted", run.Failed: "failed"}[run.Outcome(l.Outcome)]
	says := fmt.Sprintf("%s #%d %s half way: %s of %d are not as in %s", verbs[l.Kind], l.Number, how, objects(v.Half), v.Count, title(v.Applied))
	if v.Applied == nil {
		says = fmt.Sprintf("%s #%d %s before %s was there as a whole", verbs[l.Kind], l.Number, how, short(l.Revision))
	} else if v.Pending == 0 && v.Revision != nil {
		says = fmt.Sprintf("%s #%d %s: all of %s is applied, and it was never ready", verbs[l.Kind], l.Number, how, short(v.Revision))
	}
	if v.Health.Reason != "" && v.Health.Word != health.Ready {
		says += "; " + v.Health.Reason
	}
	retry := ""
	if v.Rejected != "" {
		retry = " --retry"
	}
	todo := "Go on: vigila sync " + v.ID + retry
	if n := p.lastGood(); n > 0 {
		todo += fmt.Sprintf(". Go back: vigila rollback %s %d", v.ID, n)
	}
	v.Tone, v.NeedsYou, v.Says, v.Todo = ToneFailing, true, says, todo
}

func brief(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	return strings.TrimSpace(jsonText(v))
}

// hinted is how many fields a hint names at most; more are better found on the ward's page.
const hinted = 6

// leaveHint is what to write into the ward file to leave everything that others changed, or else added, to them.
func leaveHint(v *View) string {
	var all []string
	fields := 0
	for _, drift := range []bool{true, false} {
		for _, o := range v.Astray {
			var names []string
			for _, d := range pick(drift, o.Drift, o.Additions) {
				if d.Pointer != "" && !slices.Contains(names, d.Pointer) {
					names = append(names, d.Pointer)
				}
			}
			if fields += len(names); len(names) > 0 {
				all = append(all, fmt.Sprintf("{of: %s, fields: [%s]}", o.Ref.Short(), strings.Join(names, ", ")))
			}
		}
		if len(all) > 0 {
			break
		}
	}
	switch {
	case len(all) == 0:
		return ""
	case fields > hinted:
		return "Leave fields to others with leave: in the ward file"
	}
	return "Leave it to others: leave: [" + strings.Join(all, ", ") + "]"
}

func pick[T any](yes bool, a, b T) T {
	if yes {
		return a
	}
	return b
}

func guardNames(gs []plan.Guard) string {
	var names []string
	for _, g := range gs {
		names = append(names, g.Name)
	}
	return strings.Join(names, ",")
}

func objects(n int) string {
	if n == 1 {
		return "1 object"
	}
	return fmt.Sprintf("%d objects", n)
}

func short(r *record.Revision) string {
	if r == nil || r.ID == "" {
		return "nothing"
	}
	return r.ID[:min(7, len(r.ID))]
}

func title(r *record.Revision) string {
	if r == nil {
		return ""
	}
	return strings.TrimSpace(short(r) + " " + r.Subject)
}

func orRevision(a, b *record.Revision) *record.Revision {
	if a != nil {
		return a
	}
	return b
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
