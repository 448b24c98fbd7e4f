package cli

import (
	"context"
	"errors"
	"fmt"
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
			word := string(o.Change)
			switch {
			case o.AlreadyThere:
				word = "already there, to be adopted"
			case o.Change == "keep":
				word = "not declared any more, kept"
			}
			p.line("  %s %s  %s", p.paint("soft", o.Kind), p.paint("bold", o.Name), p.paint("soft", word))
			if o.Refused != "" {
				p.line("    %s %s", p.paint("failing", "▲ would be refused:"), o.Refused)
			}
			if o.Change == "create" {
				p.line("    %s", p.paint("soft", count(len(o.Fields), "field")))
				continue
			}
			if o.Change == "update" && len(o.Fields) == 0 && o.Refused == "" {
				p.line("    %s", p.paint("soft", "no field changes"))
			}
			rows := [][]cell{}
			for _, f := range o.Fields {
				rows = append(rows, []cell{plain("    " + f.Path), plain(pick(f.Change == "added", "nothing", value(f.From))), {"→", "soft"}, {pick(f.Change == "removed", "nothing", value(f.To)), "behind"}})
			}
			p.fields(rows)
		}
	}
	leave := ""
	if len(d.Drifted) > 0 {
		p.line("\n%s", p.paint("drifted", "The cluster moved"))
		for _, o := range d.Drifted {
			p.line("  %s %s", p.paint("soft", o.Kind), p.paint("bold", o.Name))
			if o.Gone {
				p.line("    deleted by somebody")
			}
			rows := [][]cell{}
			for _, f := range o.Fields {
				rows = append(rows, []cell{plain("    " + f.Path), plain("applied " + value(f.From)), {"live " + pick(f.Change == "removed", "nothing", value(f.To)), "drifted"},
					plain(who(f) + pick(f.Contested, ", contested", ""))})
				if leave == "" {
					leave = fmt.Sprintf("leave: [{of: %s/%s, fields: [%s]}]", o.Kind, o.Name, f.Pointer)
				}
			}
			p.fields(rows)
		}
	}
	p.line("")
	for _, g := range d.Guards {
		p.line("%s %s", p.paint("failing", "Guard "+g.Name+":"), g.Text)
	}
	verb := "Sync"
	if len(d.Pending) == 0 {
		verb = "Restore"
	}
	allow := ""
	for i, g := range d.Guards {
		allow += pick(i == 0, " --allow ", ",") + g.Name
	}
	p.line("%s it: vigila sync %s%s", verb, w.Id, allow)
	if leave != "" {
		p.line("Leave it to others: %s", leave)
	}
}

func (a *app) sync() *cobra.Command {
	var allow []string
	var why string
	var noWait, stop bool
	c := &cobra.Command{
		Use: "sync WARD", Short: "Make the cluster as the repository declares, and wait until it is ready",
		Long: `Make the cluster as the repository declares, and wait until it is ready: the repository is looked at first, what is
pending is applied, what has drifted is put back, what is not declared any more is removed. When it is not ready in
time, the ward goes back to what it was, unless it says otherwise.`,
		Example:           "  vigila sync berth-planner@quay\n  vigila sync berth-planner@quay --allow mass-removal\n  vigila sync berth-planner@quay --stop",
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
			return a.start(c.Context(), conn, p, args[0], client.StartRun{Kind: "sync", Allow: allow, Why: why}, !noWait)
		},
	}
	c.Flags().StringSliceVar(&allow, "allow", nil, "guards to allow, by name, as the refusal names them")
	c.Flags().StringVar(&why, "why", "", "the reason, for the logbook")
	c.Flags().BoolVar(&noWait, "no-wait", false, "start it and return")
	c.Flags().BoolVar(&stop, "stop", false, "stop the run that is going on")
	return c
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
			key := o.Kind + "/" + o.Name + "/" + o.Namespace
			now := string(o.State) + o.Reason
			if seen[key] == now || o.State == "waiting" {
				continue
			}
			seen[key] = now
			p.line("  %s %s %s  %s", stateGlyph(p, o.State), p.paint("soft", o.Kind), o.Name, strings.TrimSuffix(string(o.State)+": "+o.Reason, ": "))
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
	case "not tried":
		return "○"
	}
	return "◐"
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
	var why string
	var allow []string
	var noWait bool
	c := &cobra.Command{
		Use: "rollback WARD ENTRY", Short: "Go back to what an entry of the logbook left, and hold the ward there",
		Long: `Go back to what an entry of the logbook left, from the objects that Vigila keeps: neither the repository nor a
renderer is needed. The ward is held there; vigila release lets it run forward again.`,
		Example: "  vigila logbook fare-gate@skerry\n  vigila rollback fare-gate@skerry 38 --why 'gates reject season tickets'",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usage("vigila rollback needs a ward and the number of an entry; see vigila logbook WARD")
			}
			return nil
		},
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			n, err := entryNumber(args[1])
			if err != nil {
				return err
			}
			conn, err := a.dial()
			if err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if err := a.start(c.Context(), conn, p, args[0], client.StartRun{Kind: "rollback", ToEntry: n, Why: why, Allow: allow}, !noWait); err != nil {
				return err
			}
			p.line("Held at #%d. Let it run forward again: vigila release %s", n, args[0])
			return nil
		},
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for the logbook")
	c.Flags().StringSliceVar(&allow, "allow", nil, "guards to allow, by name")
	c.Flags().BoolVar(&noWait, "no-wait", false, "start it and return")
	return c
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
	var search string
	c := &cobra.Command{
		Use: "logbook [WARD [ENTRY]]", Short: "Read the logbook: of all wards, of one, or one entry with every object",
		Example: "  vigila logbook\n  vigila logbook fare-gate@skerry\n  vigila logbook fare-gate@skerry 39\n  vigila logbook --search 'rollback operator'",
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
	c.Flags().IntVar(&limit, "limit", 30, "how many on a page, 1 to 1000")
	c.Flags().IntVar(&pageNo, "page", 1, "which page; 1 is the newest")
	return a.reading(c)
}

func entryWords(e client.Entry) (text, color string) {
	switch e.Kind {
	case "hold", "release", "reject":
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
	for _, o := range e.Objects {
		p.line("  %s %s %s  %s", stateGlyph(p, o.State), p.paint("soft", o.Kind), o.Name, strings.TrimSuffix(string(o.State)+": "+o.Reason, ": "))
	}
	if e.HasSnapshot && e.Outcome == "done" {
		p.line("\nGo back to it: vigila rollback %s %d", e.Ward, e.Number)
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
