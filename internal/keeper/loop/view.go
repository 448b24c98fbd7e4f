package loop

import (
	"cmp"
	"slices"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/record"
)

// Publish makes the ward's new view and tells whoever listens when it is another; a change of standing or health
// is recorded with its time.
func (p *Placement) Publish() {
	began := p.Clock()
	old := p.view.Load()
	v := p.build()
	if begins := p.line.Add(p.at, v); begins != nil {
		p.write(record.AddStanding{Stretch: *begins})
	}
	p.view.Store(v)
	if old == nil || !standing.Same(old, v) {
		p.out(Note{})
		if old == nil || old.Standing != v.Standing || old.Health.Word != v.Health.Word || old.Head != v.Head || (old.Run == nil) != (v.Run == nil) {
			p.out(TellDependents{})
		}
	}
	p.viewed, p.viewCost = p.at, p.Clock().Sub(began)
}

// nextView is how long the next view of a run has to wait: ten a second are enough for eyes, and drawing all runs that go on is to take a
// twentieth of the time at most; a view is a second old at most for that.
func (p *Placement) nextView() time.Duration {
	every := 20 * p.viewCost
	if p.Runs != nil {
		every = min(every*time.Duration(max(1, p.Runs())), max(every, time.Second))
	}
	return p.viewed.Add(max(every, 100*time.Millisecond)).Sub(p.at)
}

// made counts the views of this process.
var made atomic.Uint64

// build makes the view of what the placement knows.
func (p *Placement) build() *standing.View {
	v := &standing.View{Made: made.Add(1), ID: p.ID, Cluster: p.Cluster, Ward: p.Ward, File: p.File, Roster: p.Roster, Source: p.Source, Misfiled: p.misfiled, Repository: p.repository, Applied: p.will.Applied, Hold: p.will.Hold}
	p.line.Show(v)
	if p.rendering && p.at.Sub(p.renderFrom) >= p.long() {
		v.Repository.Problem = p.problem()
	}
	state := p.clusterKnown()
	v.Live = standing.AsOf{Known: state.Known, At: state.At, Problem: state.Problem}
	if p.index.Len() == 0 && p.Reach.Down() == nil {
		v.Live.At = p.at
	}
	behind := p.pending()
	v.Rotated = behind.Rotated
	v.Tasks, v.Pending, v.Guards, v.Count, v.Kept = len(behind.Tasks), behind.Total(), behind.guards, behind.Count, p.index.Len()
	v.Findings = findings(p.declared, p.at)
	astray := p.astray()
	v.Drifted, v.DriftedFields, v.Contested, v.Additions = len(astray.Refs), astray.Fields, astray.Contested, astray.Additions
	if len(astray.Restorable) == 0 {
		v.RestoreAt = astray.At
	}
	v.Rejections = p.will.Rejected()
	v.Snapshots = []string{p.will.Snapshot}
	v.Snapshots = append(v.Snapshots, p.needed()...)
	if p.stored != nil {
		v.Snapshots = append(v.Snapshots, p.stored.Snapshot)
	}
	waits := ""
	if p.declared != nil {
		waits = p.declared.Waits
		v.Snapshots = append(v.Snapshots, p.declared.Snapshot)
		v.Head, v.Tag, v.Form, v.Chart, v.Notes = p.declared.Head, p.declared.Tag, p.declared.Form, p.declared.Chart, slices.Concat(p.declared.Notes, p.idle, p.strangers(), p.unreadStores())
		if waits == "" {
			rev := p.declared.Revision
			v.Revision = &rev
		}
		v.Rejected = p.rejected()
	}
	v.Shares = behind.Shares
	v.Leaving, v.HeldBack = p.will.Leaving, cmp.Or(p.limited, p.heldBack)
	if v.Pending > 0 {
		v.WaitsFor, v.WaitsLoud = p.waits()
	}
	v.Half = p.half()
	if p.run == nil && v.Hold == nil {
		v.Retry = p.will.Retry()
	}
	facts := p.facts(v, waits, p.at)
	v.Standing = compare.Stand(compare.Input{RepoKnown: !facts.Overdue() && (p.repository.Known || v.HeldBack != "" && p.repository.Problem == "") && waits == "" && p.misfiled == "" && p.Broken == "", ClusterKnown: v.Live.Known,
		Pending: v.Pending, Unfinished: v.Half > 0 || p.unfinished() || v.HeldBack != "" || p.will.Leaving != nil, Drifted: v.Drifted, Contested: v.Contested})
	v.Astray = p.astrayViews(behind, astray)
	v.Health = p.index.Health()
	if !v.Live.Known && v.Kept > 0 {
		v.Health = health.Result{Word: health.Unknown, Reason: "last known: " + string(v.Health.Word)}
	}
	if p.run != nil && (!p.run.ask.quiet || p.run.changed > 0) {
		e := p.run.entry
		e.Objects = p.run.outcomes()
		v.Run, v.RunDeadline, v.RunFailing = &e, p.run.machine.Deadline(), p.run.machine.Failing()
		if !p.run.started { // it is being written down
			v.RunDeadline = e.Started.Add(p.Ward.Settle.Within)
		}
		if c := p.run.machine.Canary(); c != nil {
			v.Canary = c.Brief()
			if p.run.machine.Carrying() && c.Before() {
				v.RunDeadline = c.Deadline()
			}
		}
	}
	standing.Say(v, facts)
	return v
}

// facts are what is known of the ward beside its view.
func (p *Placement) facts(v *standing.View, waits string, now time.Time) standing.Facts {
	f := standing.Facts{Now: now, Broken: p.Broken, Unwritten: p.unwritten, Undeclared: p.declared == nil, Waits: waits, BroughtUp: p.will.BroughtUpBy != "", Failures: p.will.Failures, Stuck: p.will.Stuck, Last: p.will.Last}
	if p.rendering {
		f.Rendering = now.Sub(p.renderFrom)
	}
	if v.Half > 0 {
		f.LastGood = p.LastGood()
	}
	return f
}

// unfinished tells whether the run that goes on is on its way to something that the cluster does not hold as a whole yet.
func (p *Placement) unfinished() bool {
	if p.run == nil || p.run.ask.quiet {
		return false
	}
	e := p.run.entry
	return e.Kind != run.Restore && (e.Snapshot != p.will.Snapshot || e.Kind != run.Sync) || e.Kind == run.Dismantle
}

// half counts what is not as what was applied as a whole has it, after a run that was stopped, interrupted or failed, while
// none goes on: then the cluster holds parts of two revisions, or one that was never ready.
func (p *Placement) half() int {
	if p.run != nil || !p.declared.Known() || !p.will.HalfDone(p.declared.Snapshot) {
		return 0
	}
	return p.declared.Half(p.index, p.appliedWhole(), p.will.Done)
}

// astrayViews are the objects that others changed or added to, sorted.
func (p *Placement) astrayViews(b *behind, astray index.Astray) []standing.Object {
	if len(astray.Refs)+len(astray.Added) == 0 {
		return nil
	}
	changes := b.Changes(p.index)
	var out []standing.Object
	for _, ref := range astray.Refs {
		out = append(out, p.objectView(standing.Object{Ref: ref}, changes[ref], true))
	}
	for _, ref := range astray.Added {
		if !slices.Contains(astray.Refs, ref) {
			out = append(out, p.objectView(standing.Object{Ref: ref}, changes[ref], false))
		}
	}
	return out
}

// objectView completes what is known of one object.
func (p *Placement) objectView(o standing.Object, change string, drifted bool) standing.Object {
	b, kept := p.index.Baseline(o.Ref)
	if kept {
		o.Version, o.OwnedFields = b.Version, b.Size
	}
	if p.declared != nil {
		if d := p.declared.Find(o.Ref); d != nil {
			o.Task, o.File, o.Line = d.Task, d.File, d.Line
			o.Version = cmp.Or(o.Version, d.Version)
		}
	}
	l := p.index.Known(o.Ref)
	o.Standing, o.Health = compare.InStep, health.Result{Word: health.Unknown}
	if o.Change = change; change != "" {
		o.Standing = compare.Behind
	}
	o.Scaler = p.Scaler(o.Ref)
	for _, f := range p.Ward.Left(o.Ref) {
		o.Left = append(o.Left, f.String())
	}
	if l != nil {
		o.UID = l.UID
		o.Health = l.State()
		if !kept && l.Present && o.Task == object.NoTask {
			o.AlreadyThere = true
		}
		o.Additions, o.Restart = l.Added, l.Restart
		if drifted {
			o.Standing, o.Drift, o.Gone, o.Since, o.Foreign = compare.Drifted, p.index.Drift(o.Ref), !l.Present, l.Since, l.Foreign
			for _, d := range o.Drift {
				c := l.Foreign != "" || p.index.Contests.Contested(o.Ref, d.Path, d.Who)
				o.Contested = append(o.Contested, c)
				if c {
					o.Standing = compare.Contested
				}
			}
			if o.Gone && p.index.Contests.Contested(o.Ref, "", "") {
				o.Standing = compare.Contested
			}
		}
		for _, d := range o.Additions {
			if p.index.Contests.Contested(o.Ref, d.Path, d.Who) {
				o.Standing = compare.Contested
			}
		}
	} else if !kept {
		o.Health = health.Result{Word: health.Absent}
	}
	if o.Task != object.NoTask && (l == nil || !l.Present) {
		o.Health = health.Result{Word: health.Unknown, Reason: "runs with the next sync"}
		if o.Change == "" {
			o.Health.Reason = "ran with the last sync"
		}
	}
	return o
}

// Objects lists every object of the ward, in the order of a run.
func (p *Placement) Objects() []standing.Object {
	behind, astray := p.pending(), p.astray()
	out := make([]standing.Object, 0, behind.Count)
	seen, changes, drifted := map[object.Ref]bool{}, behind.Changes(p.index), map[object.Ref]bool{}
	for _, ref := range astray.Refs {
		drifted[ref] = true
	}
	add := func(o standing.Object) {
		if !seen[o.Ref] {
			seen[o.Ref] = true
			out = append(out, p.objectView(o, changes[o.Ref], drifted[o.Ref]))
		}
	}
	if p.declared != nil {
		for _, o := range p.declared.Objects {
			add(standing.Object{Ref: o.Ref, Step: o.Step})
		}
	}
	for ref := range p.index.All() {
		add(standing.Object{Ref: ref})
	}
	for _, ref := range behind.Remove { // objects of tasks that are declared no more
		add(standing.Object{Ref: ref, Version: p.tasks.all[ref].Version})
	}
	ranks, steps := map[object.Ref]int{}, map[object.Ref]int{}
	declared := make([]plan.Declared, len(out))
	for i, o := range out {
		declared[i] = plan.Declared{Ref: o.Ref, Turn: object.Turn{Step: o.Step, Task: o.Task}}
		if p.declared != nil {
			if d := p.declared.Find(o.Ref); d != nil {
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
	slices.SortFunc(out, func(a, b standing.Object) int { return ranks[a.Ref] - ranks[b.Ref] })
	return out
}
