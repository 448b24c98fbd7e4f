package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) diff() *cobra.Command {
	var look bool
	c := &cobra.Command{
		Use: "diff WARD", Short: "Show what a sync would do, field by field, and what has drifted, with who and when",
		Long: `Show what a sync would do, field by field, and what has drifted, with who and when. What the repository moved is
tried out on the API server (a dry run of what is pending only), so it is exactly what a sync does.
Exit code 3 when there are differences.`,
		Example:           "  vigila diff berth-planner@quay\n  vigila diff berth-planner@quay --look -o json",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			if look {
				r, err := conn.LookNowWithResponse(c.Context(), args[0])
				if err := conn.Check(r, err); err != nil {
					return err
				}
			}
			r, err := conn.DiffWardWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			d := r.JSON200
			done, err := a.document(c.OutOrStdout(), d)
			if err != nil {
				return err
			}
			if !done {
				a.printer(c.OutOrStdout()).diff(d)
			}
			if d.Ward.Standing == "blind" {
				return &Exit{ExitFailed, "what is shown may not be all: " + d.Ward.Says}
			}
			if len(d.Pending)+len(d.Drifted) > 0 {
				return &Exit{Code: ExitDifferences}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&look, "look", false, "look at the repository first")
	return a.reading(c)
}

func (p *printer) diff(d *client.WardDiff) {
	w := d.Ward
	p.line("%s  %s  %s  %s", p.paint("bold", w.Id), p.standingLine(w), p.health(w.Health), title(pick(w.Applied.Id != "", w.Applied, w.Revision)))
	if len(d.Pending)+len(d.Drifted) == 0 {
		if w.Standing == "in step" {
			p.line("\nNo differences: the cluster holds what %s declares.", title(w.Revision))
		} else {
			p.line("\n%s", w.Says)
		}
		return
	}
	if len(d.Pending) > 0 {
		p.line("\n%s", p.paint("behind", "The repository moved: "+title(w.Revision)))
		for _, o := range d.Pending {
			p.pending(o, "  ")
		}
	}
	leave := p.moved(d)
	p.line("")
	for _, g := range d.Guards {
		p.line("%s %s", p.paint("failing", "Guard "+g.Name+":"), g.Text)
	}
	verb := "Sync it"
	switch {
	case len(d.Pending) > 0:
	case w.Drifted > 0:
		verb = "Restore it"
	case w.KeepAdditions == "remove":
		verb = "Take it away"
	default:
		verb = ""
	}
	retry := pick(len(d.Pending) > 0 && w.Rejected != "", " --retry", "")
	if retry != "" {
		p.line("%s %s", p.paint("failing", short(w.Revision)+" is rejected:"), w.Rejected)
	}
	if verb != "" {
		p.line("%s: vigila sync %s%s%s", verb, w.Id, retry, allow(d.Guards))
	}
	if leave != "" {
		p.line("Leave it to others: %s", leave)
	}
}

// moved prints what the cluster moved and what others added, and returns how the first of it is left to others.
func (p *printer) moved(d *client.WardDiff) (leave string) {
	drifted, added := false, false
	for _, o := range d.Drifted {
		drifted = drifted || o.Gone || len(o.Fields) > 0
		added = added || len(o.Additions) > 0
	}
	hint := func(o client.Object, f client.Difference) {
		if leave == "" && f.Path != "" {
			leave = fmt.Sprintf("leave: [{of: %s/%s, fields: [%s]}]", o.Kind, o.Name, f.Pointer)
		}
	}
	if drifted {
		p.line("\n%s", p.paint("drifted", "The cluster moved"))
	}
	for _, o := range d.Drifted {
		if !o.Gone && len(o.Fields) == 0 {
			continue
		}
		p.line("  %s %s", p.paint("soft", o.Kind), p.paint("bold", o.Name))
		if o.Gone {
			p.line("    deleted by somebody")
		}
		rows := [][]cell{}
		for _, f := range o.Fields {
			hint(o, f)
			if f.Change == "made again" {
				p.line("    %s  %s", p.paint("drifted", "deleted, and made again"), who(f))
				continue
			}
			rows = append(rows, []cell{plain("    " + f.Path), plain("applied " + value(f.From)), {"live " + pick(f.Change == "removed", "nothing", value(f.To)), "drifted"},
				plain(who(f) + pick(f.Contested, ", contested", ""))})
		}
		p.fields(rows)
	}
	if added {
		p.line("\n%s", p.paint("soft", "Others added"))
	}
	for _, o := range d.Drifted {
		if len(o.Additions) == 0 {
			continue
		}
		p.line("  %s %s", p.paint("soft", o.Kind), p.paint("bold", o.Name))
		rows := [][]cell{}
		for _, f := range o.Additions {
			hint(o, f)
			rows = append(rows, []cell{plain("    " + f.Path), plain(value(f.To)), plain(who(f))})
		}
		p.fields(rows)
	}
	return leave
}

func allow(guards []client.Guard) string {
	s := ""
	for i, g := range guards {
		s += pick(i == 0, " --allow ", ",") + g.Name
	}
	return s
}

// pending prints what a run would do to one object.
func (p *printer) pending(o client.PendingObject, indent string) {
	word := string(o.Change)
	switch {
	case o.Task != "":
		word = "task " + string(o.Task) + pick(o.Task == "failed", ", if the run fails", "")
	case o.AlreadyThere:
		word = "already there, to be adopted"
	case o.Replaced:
		word = "to be deleted and made again: it can't be changed in place"
	case o.Change == "keep":
		word = "not declared any more, kept"
	}
	p.line("%s%s %s  %s", indent, p.paint("soft", o.Kind), p.paint("bold", o.Name), p.paint(pick(o.Replaced, "failing", "soft"), word))
	if o.Refused != "" {
		p.line("%s  %s %s", indent, p.paint("failing", "▲ would be refused:"), o.Refused)
	}
	switch {
	case o.Change == "create":
		p.line("%s  %s", indent, p.paint("soft", count(len(o.Fields), "field")))
		return
	case o.Change == "update" && len(o.Fields) == 0 && o.Refused == "":
		p.line("%s  %s", indent, p.paint("soft", "no field changes"))
	}
	rows := [][]cell{}
	for _, f := range o.Fields {
		rows = append(rows, []cell{plain(indent + "  " + f.Path), plain(pick(f.Change == "added", "nothing", value(f.From))), {"→", "soft"}, {pick(f.Change == "removed", "nothing", value(f.To)), "behind"}})
	}
	p.fields(rows)
}

func (a *app) sync() *cobra.Command {
	var in client.StartRun
	var noWait, stop, preview bool
	c := &cobra.Command{
		Use: "sync WARD", Short: "Make the cluster as the repository declares, and wait until it is ready",
		Long: `Make the cluster as the repository declares, and wait until it is ready: the repository is looked at first, tasks run
in their turn, what is pending is applied step by step, what has drifted is put back, what is not declared any more is
removed. When it is not ready in time, the ward goes back to what it was, unless it says otherwise.

--preview does all of it as a dry run: the plan in its order, what the API server would answer, and the guards that
would stop it. Exit code 3 when there is something to do, 1 when something stands in the way.`,
		Example: `  vigila sync berth-planner@quay
  vigila sync berth-planner@quay --preview
  vigila sync berth-planner@quay --only Deployment/berth-planner,ConfigMap/tides
  vigila sync berth-planner@quay --revision 1d77f3a --why 'the last that docked in fog'
  vigila sync berth-planner@quay --retry
  vigila sync berth-planner@quay --allow mass-removal
  vigila sync berth-planner@quay --stop`,
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if stop {
				r, err := conn.StopRunWithResponse(c.Context(), args[0])
				if err := conn.Check(r, err); err != nil {
					return err
				}
				p.line("The run stops; what was applied stays as it is.")
				return nil
			}
			r, err := conn.LookNowWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			in.Kind = "sync"
			if preview {
				return a.preview(c, conn, p, args[0], in)
			}
			return a.start(c.Context(), conn, p, args[0], in, !noWait)
		},
	}
	f := c.Flags()
	f.StringSliceVar(&in.Allow, "allow", nil, "guards to allow, by name, as the refusal names them")
	f.StringVar(&in.Why, "why", "", "the reason, for the logbook")
	f.StringSliceVar(&in.Only, "only", nil, "these objects and nothing else, as Kind/name; no tasks run")
	f.StringVar(&in.Revision, "revision", "", "another branch, tag or commit than the ward follows; an automatic ward is held there")
	f.BoolVar(&in.Retry, "retry", false, "although the revision is rejected")
	f.BoolVar(&in.Reapply, "reapply", false, "apply everything, changed or not, and run the tasks")
	f.BoolVar(&preview, "preview", false, "show what would be done, and do nothing")
	f.BoolVar(&noWait, "no-wait", false, "start it and return")
	f.BoolVar(&stop, "stop", false, "stop the run that is going on")
	return a.reading(c)
}

// preview prints what a run would do.
func (a *app) preview(c *cobra.Command, conn *client.Conn, p *printer, ward string, in client.StartRun) error {
	r, err := conn.PreviewRunWithResponse(c.Context(), ward, in)
	if err := conn.Check(r, err); err != nil {
		return err
	}
	d := r.JSON200
	done, err := a.document(c.OutOrStdout(), d)
	if err != nil {
		return err
	}
	if !done {
		p.plan(d)
	}
	refused := len(d.Guards)
	for _, o := range d.Objects {
		if o.Refused != "" {
			refused++
		}
	}
	switch {
	case refused > 0:
		return &Exit{Code: ExitFailed}
	case len(d.Objects) > 0:
		return &Exit{Code: ExitDifferences}
	}
	return nil
}

func (p *printer) plan(d *client.RunPreview) {
	w := d.Ward
	p.line("%s  %s  %s  %s", p.paint("bold", w.Id), p.standingLine(w), p.health(w.Health), title(d.Revision))
	if len(d.Objects) == 0 {
		p.line("\nNothing to do: it is as declared.")
		return
	}
	p.line("%s", p.paint("soft", "A preview; nothing is done."))
	part := ""
	refused := 0
	for _, o := range d.Objects {
		now := fmt.Sprintf("step %d", o.Step)
		switch o.Change {
		case "remove":
			now = "then remove"
		case "keep":
			now = "and leave"
		}
		if now != part {
			part = now
			p.line("\n%s", p.paint("soft", part))
		}
		p.pending(o, "  ")
		if o.Refused != "" {
			refused++
		}
	}
	p.line("")
	for _, g := range d.Allowed {
		p.line("Allowed, guard %s: %s", g.Name, g.Text)
	}
	for _, g := range d.Guards {
		p.line("%s %s", p.paint("failing", "▲ Guard "+g.Name+" would stop it:"), g.Text)
	}
	switch {
	case refused > 0:
		p.line("%s", p.paint("failing", fmt.Sprintf("It would fail: %s refused.", count(refused, "object"))))
	case len(d.Guards) > 0:
		p.line("To go on: vigila sync %s%s", w.Id, allow(d.Guards))
	default:
		p.line("Do it: vigila sync %s", w.Id)
	}
}

// start begins a run and follows it to its end.
func (a *app) start(ctx context.Context, conn *client.Conn, p *printer, ward string, in client.StartRun, wait bool) error {
	r, err := conn.StartRunWithResponse(ctx, ward, in)
	if err := conn.Check(r, err); err != nil {
		return err
	}
	number := r.JSON202.Entry
	if number == 0 {
		p.line("Nothing to do: %s is as declared.", ward)
		return nil
	}
	if !wait {
		p.line("Started #%d. Follow it: vigila watch, or vigila logbook %s %d", number, ward, number)
		return nil
	}
	return a.follow(ctx, conn, p, ward, number)
}

// follow prints the progress of a run until it ends, and of the rollback that follows a failed one.
func (a *app) follow(ctx context.Context, conn *client.Conn, p *printer, ward string, number int) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	wake := make(chan struct{}, 1)
	signal := func() {
		select {
		case wake <- struct{}{}:
		default:
		}
	}
	go conn.Follow(ctx, func(client.Event) { signal() }, func(error) { signal() })
	seen := map[string]string{}
	p.line("%s #%d", p.paint("bold", ward), number)
	failures := 0
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-wake:
		case <-time.After(2 * time.Second):
		}
		r, err := conn.GetEntryWithResponse(ctx, ward, number)
		if err := conn.Check(r, err); err != nil {
			var said *client.Error
			if failures++; errors.As(err, &said) || failures > 30 {
				return err
			}
			continue
		}
		failures = 0
		e := r.JSON200
		for _, o := range e.Objects {
			now := string(o.State) + o.Reason
			if seen[o.Key] == now || o.State == "waiting" {
				continue
			}
			seen[o.Key] = now
			p.line("  %s %s %s  %s", stateGlyph(p, o.State), p.paint("soft", o.Kind), o.Name, stateWords(o))
		}
		if e.Outcome == "running" {
			continue
		}
		return a.ended(ctx, conn, p, ward, e)
	}
}

func stateGlyph(p *printer, s client.EntryObjectState) string {
	switch s {
	case "ready", "removed":
		return "●"
	case "refused", "not ready":
		return p.paint("failing", "▲")
	case "not tried", "waiting":
		return "○"
	}
	return "◐"
}

// stateWords say how far a run is with an object, or with a task.
func stateWords(o client.EntryObject) string {
	state := string(o.State)
	if o.Task != "" {
		state = map[client.EntryObjectState]string{"applying": "starting", "settling": "running", "ready": "done", "not ready": "not done"}[o.State]
		state = "task " + string(o.Task) + ", " + pick(state == "", string(o.State), state)
	}
	if o.Replaced {
		state += ", deleted and made again"
	}
	return strings.TrimSuffix(state+": "+o.Reason, ": ")
}

// ended says how a run ended; after a failure the rollback is followed too.
func (a *app) ended(ctx context.Context, conn *client.Conn, p *printer, ward string, e *client.Entry) error {
	took := span(e.Ended.Sub(e.Started))
	if e.Outcome == "done" {
		p.line("%s", strings.TrimSpace(fmt.Sprintf("Done in %s. %s", took, title(e.Revision))))
		return nil
	}
	p.line("%s after %s: %s", p.paint("failing", strings.ToUpper(string(e.Outcome[:1]))+string(e.Outcome[1:])), took, e.Reason)
	if e.Kind == "sync" && (e.Outcome == "failed" || e.Outcome == "rolled back") {
		r, err := conn.GetEntryWithResponse(ctx, ward, e.Number+1)
		if conn.Check(r, err) == nil && r.JSON200.Kind == "rollback" {
			p.line("Going back to #%d; %s is rejected.", r.JSON200.ToEntry, short(e.Revision))
			if err := a.follow(ctx, conn, p, ward, e.Number+1); err != nil {
				return err
			}
		}
	}
	return &Exit{Code: ExitFailed}
}

func (a *app) rollback() *cobra.Command {
	var in client.StartRun
	var noWait, propose bool
	var branch string
	c := &cobra.Command{
		Use: "rollback WARD [ENTRY]", Short: "Go back to what an entry of the logbook left, and hold the ward there",
		Long: `Go back to what an entry of the logbook left, from the objects that Vigila keeps: neither the repository nor a
renderer is needed. The ward is held there; vigila release lets it run forward again.

--propose touches no cluster: it writes a commit to a branch of its own in the repository, which takes the ward's path
back to that entry (without ENTRY: to what the cluster holds now), so that git can say the same after a review.`,
		Example: `  vigila logbook fare-gate@skerry
  vigila rollback fare-gate@skerry 38 --why 'gates reject season tickets'
  vigila rollback fare-gate@skerry 38 --preview
  vigila rollback fare-gate@skerry --propose`,
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 && len(args) < 3 && propose {
				return a.propose(c, args, branch)
			}
			if len(args) != 2 {
				return usage("vigila rollback needs a ward and the number of an entry; see vigila logbook WARD")
			}
			n, err := entryNumber(args[1])
			if err != nil {
				return err
			}
			conn, err := a.dial()
			if err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			in.Kind, in.ToEntry = "rollback", n
			if preview, _ := c.Flags().GetBool("preview"); preview {
				return a.preview(c, conn, p, args[0], in)
			}
			if err := a.start(c.Context(), conn, p, args[0], in, !noWait); err != nil {
				return err
			}
			p.line("Held at #%d. Let it run forward again: vigila release %s", n, args[0])
			p.line("Let git say the same: vigila rollback %s --propose", args[0])
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&in.Why, "why", "", "the reason, for the logbook")
	f.StringSliceVar(&in.Allow, "allow", nil, "guards to allow, by name")
	f.BoolVar(&in.Tasks, "tasks", false, "run the tasks of that entry as well; they don't run without it")
	f.Bool("preview", false, "show what would be done, and do nothing")
	f.BoolVar(&propose, "propose", false, "write the matching commit to a branch in the repository, and leave the cluster alone")
	f.StringVar(&branch, "branch", "", "with --propose: the name of the branch (default: made from the ward and the revision)")
	f.BoolVar(&noWait, "no-wait", false, "start it and return")
	return a.reading(c)
}

func (a *app) propose(c *cobra.Command, args []string, branch string) error {
	in := client.ProposeRollback{Branch: branch}
	if len(args) == 2 {
		n, err := entryNumber(args[1])
		if err != nil {
			return err
		}
		in.ToEntry = n
	}
	conn, err := a.dial()
	if err != nil {
		return err
	}
	r, err := conn.ProposeRollbackWithResponse(c.Context(), args[0], in)
	if err := conn.Check(r, err); err != nil {
		return err
	}
	if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
		return err
	}
	p := a.printer(c.OutOrStdout())
	p.line("%s is on branch %s, for %s.", title(r.JSON200.Revision), p.paint("bold", r.JSON200.Branch), r.JSON200.Base)
	p.line("Review and merge it, then let the ward run forward: vigila release %s", args[0])
	return nil
}

func (a *app) compare() *cobra.Command {
	c := &cobra.Command{
		Use: "compare WARD FROM [TO]", Short: "Compare what two entries of the logbook declare, field by field",
		Long: `Compare what two entries of a ward's logbook declare, field by field; without TO, an entry and what the repository
declares now. Secret values are shown as digests. Exit code 3 when there are differences.`,
		Example: "  vigila compare fare-gate@skerry 38 39\n  vigila compare fare-gate@skerry 38",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) < 2 || len(args) > 3 {
				return usage("vigila compare needs a ward and one entry or two; see vigila logbook WARD")
			}
			return nil
		},
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			var q client.CompareEntriesParams
			var err error
			if q.From, err = entryNumber(args[1]); err != nil {
				return err
			}
			if len(args) == 3 {
				if q.To, err = entryNumber(args[2]); err != nil {
					return err
				}
			}
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.CompareEntriesWithResponse(c.Context(), args[0], &q)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			d := r.JSON200
			done, err := a.document(c.OutOrStdout(), d)
			if err != nil {
				return err
			}
			if !done {
				a.printer(c.OutOrStdout()).comparison(args[0], d)
			}
			if len(d.Objects) > 0 {
				return &Exit{Code: ExitDifferences}
			}
			return nil
		},
	}
	return a.reading(c)
}

func (p *printer) comparison(ward string, d *client.Comparison) {
	to, rev := "the repository now", title(d.Revision)
	if d.To.Number > 0 {
		to, rev = fmt.Sprintf("#%d", d.To.Number), title(d.To.Revision)
	}
	p.line("%s  #%d %s  →  %s %s", p.paint("bold", ward), d.From.Number, title(d.From.Revision), to, rev)
	if len(d.Objects) == 0 {
		p.line("\nNo differences: both declare the same.")
		return
	}
	for _, o := range d.Objects {
		word := map[client.MovedObjectChange]string{"added": "  " + p.paint("soft", "new"), "removed": "  " + p.paint("soft", "gone")}[o.Change]
		p.line("\n  %s %s%s", p.paint("soft", o.Kind), p.paint("bold", o.Name), word)
		if o.Change != "changed" {
			p.line("    %s", p.paint("soft", count(len(o.Fields), "field")))
			continue
		}
		rows := [][]cell{}
		for _, f := range o.Fields {
			rows = append(rows, []cell{plain("    " + f.Path), plain(pick(f.Change == "added", "nothing", value(f.From))), {"→", "soft"}, {pick(f.Change == "removed", "nothing", value(f.To)), "behind"}})
		}
		p.fields(rows)
	}
}

func (a *app) rejections() *cobra.Command {
	c := &cobra.Command{
		Use: "rejections WARD", Short: "List the revisions that a ward does not go to by itself, and why",
		Example:           "  vigila rejections fare-gate@skerry\n  vigila reject fare-gate@skerry 4be19f0 --why 'season tickets'\n  vigila accept fare-gate@skerry 4be19f0",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.ListRejectionsWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if len(r.JSON200.Items) == 0 {
				p.line("%s has rejected no revision.", args[0])
				return nil
			}
			rows := [][]cell{{{"REVISION", "soft"}, {"WHEN", "soft"}, {"BY", "soft"}, {"WHY", "soft"}}}
			for _, x := range r.JSON200.Items {
				rows = append(rows, []cell{plain(title(x.Revision)), plain(ago(x.At)), plain(x.By), plain(x.Why)})
			}
			p.table(rows)
			p.line("\nTry one again: vigila sync %s --retry     Lift a rejection: vigila accept %s REVISION", args[0], args[0])
			return nil
		},
	}
	return a.reading(c)
}

func (a *app) reject() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "reject WARD REVISION", Short: "Mark a revision as bad for a ward: automatic runs don't go there",
		Example:           "  vigila reject fare-gate@skerry 4be19f0 --why 'gates reject season tickets'",
		Args:              exactly(2, "a ward and a revision"),
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.RejectRevisionWithResponse(c.Context(), args[0], client.RejectRevision{Revision: args[1], Why: why})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s won't go to %s by itself. Lift it: vigila accept %s %s", args[0], args[1], args[0], args[1])
			return nil
		},
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for whoever looks next")
	return c
}

func (a *app) accept() *cobra.Command {
	return &cobra.Command{
		Use: "accept WARD REVISION", Short: "Lift the rejection of a revision: automatic runs may go there again",
		Example:           "  vigila accept fare-gate@skerry 4be19f0",
		Args:              exactly(2, "a ward and a revision"),
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.LiftRejectionWithResponse(c.Context(), args[0], args[1])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is not rejected any more. %s", args[1], r.JSON200.Says)
			return nil
		},
	}
}

func entryNumber(s string) (int, error) {
	var n int
	if _, err := fmt.Sscanf(strings.TrimPrefix(s, "#"), "%d", &n); err != nil || n <= 0 {
		return 0, usage("%q is not the number of an entry; see vigila logbook WARD", s)
	}
	return n, nil
}

func (a *app) hold() *cobra.Command {
	var reason string
	var lasts time.Duration
	c := &cobra.Command{
		Use: "hold WARD", Short: "Stop automatic runs on a ward, with a reason and an optional end",
		Example:           "  vigila hold fog-signal@quay --reason 'gale watch' --for 2h",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			in := client.HoldWard{Reason: reason}
			if lasts > 0 {
				in.Until = time.Now().Add(lasts).UTC()
			}
			r, err := conn.HoldWardWithResponse(c.Context(), args[0], in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			until := "until it is released: vigila release " + args[0]
			if lasts > 0 {
				until = "for " + span(lasts)
			}
			a.printer(c.OutOrStdout()).line("%s is held %s", args[0], until)
			return nil
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "why, for whoever looks next")
	c.Flags().DurationVar(&lasts, "for", 0, "how long, such as 2h (default: until released)")
	return c
}

func (a *app) release() *cobra.Command {
	var reason string
	c := &cobra.Command{
		Use: "release WARD", Short: "Let automatic runs go on after a hold or a rollback",
		Example:           "  vigila release fog-signal@quay --reason 'gale is over'",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.ReleaseWardWithResponse(c.Context(), args[0], &client.ReleaseWardParams{Reason: reason})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			w := r.JSON200
			next := "It is " + string(w.Standing) + "."
			if w.Pending > 0 && w.AutoSync {
				next = "It runs forward to " + title(w.Revision) + " now."
			}
			a.printer(c.OutOrStdout()).line("%s is released. %s", w.Id, next)
			return nil
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "why, for the logbook")
	return c
}

func (a *app) look() *cobra.Command {
	c := &cobra.Command{
		Use: "look WARD", Short: "Look at a ward's repository now instead of at the next interval",
		Example:           "  vigila look berth-planner@quay",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.LookNowWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			a.printer(c.OutOrStdout()).head(*r.JSON200)
			return nil
		},
	}
	return a.reading(c)
}

func (a *app) logbook() *cobra.Command {
	var limit, pageNo int
	var search, log string
	c := &cobra.Command{
		Use: "logbook [WARD [ENTRY]]", Short: "Read the logbook: of all wards, of one, or one entry with every object",
		Example: "  vigila logbook\n  vigila logbook fare-gate@skerry\n  vigila logbook fare-gate@skerry 39\n  vigila logbook fare-gate@skerry 39 --log migrate\n  vigila logbook --search 'rollback operator'",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 2 {
				return usage("vigila logbook takes a ward and an entry at most")
			}
			return nil
		},
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			offset := (max(pageNo, 1) - 1) * limit
			var list *client.EntryList
			switch len(args) {
			case 2:
				n, err := entryNumber(args[1])
				if err != nil {
					return err
				}
				r, err := conn.GetEntryWithResponse(c.Context(), args[0], n)
				if err := conn.Check(r, err); err != nil {
					return err
				}
				if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
					return err
				}
				if log != "" {
					return p.taskLog(c.Context(), conn, r.JSON200, log)
				}
				p.entry(r.JSON200)
				return nil
			case 1:
				if search != "" {
					return usage("--search goes with the logbook of all wards: vigila logbook --search %q", args[0]+" "+search)
				}
				r, err := conn.ListWardEntriesWithResponse(c.Context(), args[0], &client.ListWardEntriesParams{Limit: limit, Offset: offset})
				if err := conn.Check(r, err); err != nil {
					return err
				}
				list = r.JSON200
			default:
				r, err := conn.ListEntriesWithResponse(c.Context(), &client.ListEntriesParams{Limit: limit, Offset: offset, Search: search})
				if err := conn.Check(r, err); err != nil {
					return err
				}
				list = r.JSON200
			}
			if done, err := a.document(c.OutOrStdout(), list); done {
				return err
			}
			if list.Total == 0 {
				p.line("No entries.")
				return nil
			}
			rows := [][]cell{{{"ENTRY", "soft"}, {"WHAT", "soft"}, {"WHEN", "soft"}, {"TOOK", "soft"}, {"BY", "soft"}, {"REVISION", "soft"}, {"WHY", "soft"}}}
			for _, e := range list.Items {
				name := fmt.Sprintf("#%d", e.Number)
				if len(args) == 0 {
					name = e.Ward + " " + name
				}
				what, color := entryWords(e)
				why := e.Why
				if e.Reason != "" {
					why = e.Reason
				}
				took := ""
				if !e.Ended.IsZero() && e.Ended.Sub(e.Started) > 0 {
					took = span(e.Ended.Sub(e.Started))
				}
				rows = append(rows, []cell{plain(name), {what, color}, plain(ago(e.Started)), plain(took), plain(e.By), plain(clip(title(e.Revision), 44)), plain(why)})
			}
			p.table(rows)
			if shown := offset + len(list.Items); shown < list.Total {
				p.line("\n%d of %d entries. Older ones: --page %d", len(list.Items), list.Total, max(pageNo, 1)+1)
			}
			return nil
		},
	}
	c.Flags().StringVar(&search, "search", "", "words that must all be in the ward, kind, outcome, revision, who or why")
	c.Flags().StringVar(&log, "log", "", "with an entry: the log of this task")
	c.Flags().IntVar(&limit, "limit", 30, "how many on a page, 1 to 1000")
	c.Flags().IntVar(&pageNo, "page", 1, "which page; 1 is the newest")
	return a.reading(c)
}

// taskLog prints the log of a task of an entry, by the task's name.
func (p *printer) taskLog(ctx context.Context, conn *client.Conn, e *client.Entry, name string) error {
	var kept []string
	for _, o := range e.Objects {
		if !o.Log {
			continue
		}
		kept = append(kept, o.Name)
		if o.Name != name && !strings.EqualFold(o.Kind+"/"+o.Name, name) {
			continue
		}
		r, err := conn.GetTaskLogWithResponse(ctx, e.Ward, e.Number, &client.GetTaskLogParams{Key: o.Key})
		if err := conn.Check(r, err); err != nil {
			return err
		}
		_, err = p.Write(r.Body)
		return err
	}
	return &Exit{ExitFailed, fmt.Sprintf("#%d of %s keeps no log of %s; it keeps %s", e.Number, e.Ward, name, pick(len(kept) == 0, "none", strings.Join(kept, ", ")))}
}

// entryPart names the part of a run that an object belongs to.
func entryPart(o client.EntryObject) string {
	switch {
	case o.Task == "failed":
		return "when it had failed"
	case o.State == "removed" || o.State == "removing":
		return "then removed"
	}
	return fmt.Sprintf("step %d", o.Step)
}

func entryWords(e client.Entry) (text, color string) {
	switch e.Kind {
	case "hold", "release", "reject", "accept":
		return string(e.Kind), ""
	}
	text = string(e.Kind) + ", " + string(e.Outcome)
	if e.ToEntry > 0 {
		text = fmt.Sprintf("%s to #%d, %s", e.Kind, e.ToEntry, e.Outcome)
	}
	if e.Outcome != "done" && e.Outcome != "running" {
		color = "failing"
	}
	return text, color
}

func (p *printer) entry(e *client.Entry) {
	what, color := entryWords(*e)
	p.line("%s %s  %s", p.paint("bold", e.Ward), p.paint("bold", fmt.Sprintf("#%d", e.Number)), p.paint(color, what))
	if e.Reason != "" {
		p.line("%s", e.Reason)
	}
	rows := [][]cell{{{"by", "soft"}, plain(e.By)}, {{"started", "soft"}, plain(e.Started.Local().Format("2006-01-02 15:04:05") + ", " + ago(e.Started))}}
	if !e.Ended.IsZero() {
		rows = append(rows, []cell{{"took", "soft"}, plain(span(e.Ended.Sub(e.Started)))})
	}
	if e.Why != "" {
		rows = append(rows, []cell{{"why", "soft"}, plain(e.Why)})
	}
	if e.Revision.Id != "" {
		rows = append(rows, []cell{{"revision", "soft"}, plain(title(e.Revision))})
	}
	p.table(rows)
	p.line("")
	var logs []string
	several := slices.ContainsFunc(e.Objects, func(o client.EntryObject) bool { return o.Step != e.Objects[0].Step || o.Task == "failed" })
	part := ""
	for _, o := range e.Objects {
		if now := entryPart(o); several && now != part {
			part = now
			p.line("  %s", p.paint("soft", part))
		}
		took := ""
		if !o.Began.IsZero() && o.Ended.After(o.Began) && o.Task != "" {
			took = p.paint("soft", "  "+span(o.Ended.Sub(o.Began)))
		}
		p.line("  %s %s %s  %s%s", stateGlyph(p, o.State), p.paint("soft", o.Kind), o.Name, stateWords(o), took)
		if o.Log {
			logs = append(logs, o.Name)
		}
	}
	for _, name := range logs {
		p.line("\nThe log of its task: vigila logbook %s %d --log %s", e.Ward, e.Number, name)
	}
	if e.HasSnapshot && e.Outcome != "running" {
		p.line("\nWhat has changed since: vigila compare %s %d", e.Ward, e.Number)
		if e.Outcome == "done" {
			p.line("Go back to it: vigila rollback %s %d", e.Ward, e.Number)
		}
	}
}

func (a *app) watch() *cobra.Command {
	f := &listFlags{}
	c := &cobra.Command{
		Use: "watch", Short: "Watch the board live, until Ctrl-C",
		Long:    "Watch the board live, until Ctrl-C. On a terminal the board is drawn anew at each change; otherwise each change is a line.",
		Example: "  vigila watch\n  vigila watch --cluster quay\n  vigila watch --needs-you | tee night.log",
		Args:    noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			wake := make(chan string, 1)
			tell := func(s string) {
				select {
				case wake <- s:
				default:
				}
			}
			ctx := c.Context()
			go conn.Follow(ctx, func(client.Event) { tell("") }, func(err error) { tell(err.Error()) })
			last := map[string]string{}
			for {
				lost := ""
				select {
				case <-ctx.Done():
					return nil
				case lost = <-wake:
				case <-time.After(10 * time.Second):
				}
				r, err := conn.ListWardsWithResponse(ctx, f.params())
				if err := conn.Check(r, err); err != nil {
					var said *client.Error
					if errors.As(err, &said) {
						return err
					}
					p.line("%s lost the service: %v; trying again", time.Now().Format("15:04:05"), err)
					continue
				}
				if p.tty {
					fmt.Fprint(p, "\x1b[H\x1b[2J")
					p.line("%s  %s %s\n", p.paint("bold", "Vigila"), time.Now().Format("15:04:05"), p.paint("failing", lost))
					p.board(r.JSON200, f)
					continue
				}
				for _, w := range r.JSON200.Items {
					now := fmt.Sprintf("%s  %s %s  %s %s  %s", w.Id, standingGlyph[w.Standing], standingWords(w), healthGlyph[w.Health], w.Health, w.Says)
					if last[w.Id] != now {
						last[w.Id] = now
						p.line("%s  %s", time.Now().Format("15:04:05"), now)
					}
				}
			}
		},
	}
	f.add(c)
	return c
}
