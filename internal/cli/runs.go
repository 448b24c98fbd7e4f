package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vigila.dev/vigila/internal/client"
)

func (a *app) sync() *cobra.Command {
	var in starting
	var stop bool
	c := &cobra.Command{
		Use: "sync WARD", Short: "Make the cluster as the repository declares, and wait until it is ready",
		Long: `Make the cluster as the repository declares, and wait until it is ready: the repository is looked at first, tasks run
in their turn, what is pending is applied step by step, what has drifted is put back, what is not declared any more is
removed. When it is not ready in time, the ward goes back to what it was, unless it says otherwise. A run that goes on to
the same is joined; another is waited for. Ctrl-C leaves it: the run goes on.

--preview does all of it as a dry run: the plan in its order, what the API server would answer, and the guards that
would stop it. Exit code 3 when there is something to do, 1 when something stands in the way.`,
		Example: `  vigila sync berth-planner@quay
  vigila sync berth-planner@quay --preview
  vigila sync berth-planner@quay --only Deployment/berth-planner,ConfigMap/tides
  vigila sync berth-planner@quay --only Job/berth-migrate
  vigila sync berth-planner@quay --revision 1d77f3a --why 'the last that docked in fog'
  vigila sync berth-planner@quay --retry
  vigila sync fare-gate@quay --now --why 'the till is down'
  vigila sync berth-planner@quay --allow mass-removal
  vigila sync berth-planner@quay --stop`,
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
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
			return a.begin(c, conn, p, args[0], &in, "vigila sync "+args[0]+again(c, "only", "revision", "retry", "reapply", "now", "allow"))
		}),
	}
	f := c.Flags()
	f.StringSliceVar(&in.Allow, "allow", nil, "guards to allow, by name, as the refusal names them")
	in.flags(f)
	f.StringSliceVar(&in.Only, "only", nil, "these objects and nothing else, as Kind/name; a task runs when it is named")
	f.StringVar(&in.Revision, "revision", "", "another branch, tag or commit than the ward follows; an automatic ward is held there")
	f.BoolVar(&in.Retry, "retry", false, "although the revision is rejected")
	f.BoolVar(&in.Reapply, "reapply", false, "apply everything, changed or not, and run the tasks")
	f.BoolVar(&in.Now, "now", false, "without the canary that the ward file asks for: all at once")
	f.BoolVar(&stop, "stop", false, "stop the run that is going on; a canary goes back first")
	return a.reading(c)
}

// starting is what every command that starts a run of a ward takes.
type starting struct {
	client.StartRun
	noWait, preview bool
}

func (s *starting) flags(f *pflag.FlagSet) {
	f.StringVar(&s.Why, "why", "", "the reason, for the logbook")
	f.BoolVar(&s.preview, "preview", false, "show what would be done, and do nothing")
	f.BoolVar(&s.noWait, "no-wait", false, "start it and return")
}

// begin starts a run and follows it, or shows what it would do; do is the command that does what was shown.
func (a *app) begin(c *cobra.Command, conn *client.Conn, p *printer, ward string, s *starting, do string) error {
	if s.preview {
		return a.preview(c, conn, p, ward, s.StartRun, do)
	}
	e, err := a.start(c.Context(), conn, a.progress(c), ward, s.StartRun, !s.noWait)
	return a.told(c, e, err)
}

// again repeats the flags that a person has set, for the command that does what was previewed.
func again(c *cobra.Command, names ...string) string {
	out := ""
	for _, name := range names {
		f := c.Flags().Lookup(name)
		switch v, list := f.Value.(pflag.SliceValue); {
		case !f.Changed:
		case list:
			out += " --" + name + " " + strings.Join(v.GetSlice(), ",")
		case f.Value.Type() == "bool":
			out += " --" + name
		default:
			out += " --" + name + " " + f.Value.String()
		}
	}
	return out
}

// preview prints what a run would do; do is the command that does it.
func (a *app) preview(c *cobra.Command, conn *client.Conn, p *printer, ward string, in client.StartRun, do string) error {
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
		p.plan(d, do)
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

func (p *printer) plan(d *client.RunPreview, do string) {
	w := d.Ward
	p.line("%s  %s  %s  %s", p.paint("bold", w.Id), p.standingLine(w), p.health(w.Health), title(d.Revision))
	if len(d.Objects) == 0 {
		p.line("\nNothing to do: it is as declared.")
		return
	}
	p.line("%s", p.paint("soft", "A preview; nothing is done."))
	for _, c := range d.Canaries {
		var shares []string
		for _, s := range c.Shares {
			shares = append(shares, fmt.Sprintf("%d %% %s", s.Percent, pick(s.Person, "until a person says", "for "+span(time.Duration(s.Seconds)*time.Second))))
		}
		p.line("%s", p.paint("behind", fmt.Sprintf("◐ %s goes on as a canary: %s, then all; back by itself after %s", c.Of, strings.Join(shares, ", "), span(time.Duration(c.WithinSeconds)*time.Second))))
	}
	if len(d.BeforeCanary) > 0 {
		p.line("  before it, and put back should it go back: %s", strings.Join(d.BeforeCanary, ", "))
	}
	if len(d.TasksBeforeCanary) > 0 {
		p.line("  before it, and not undone should it go back: %s", strings.Join(d.TasksBeforeCanary, ", "))
	}
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
		p.line("%s %s", p.paint("failing", "▲ Guard "+g.Name+" would stop it:"), g.Text+mends(g))
	}
	switch {
	case refused > 0:
		p.line("%s", p.paint("failing", fmt.Sprintf("It would fail: %s refused.", count(refused, "object"))))
	case slices.ContainsFunc(d.Guards, func(g client.Guard) bool { return g.Mend != "" }):
	case len(d.Guards) > 0:
		p.line("To go on: %s%s", do, allow(d.Guards))
	default:
		p.line("Do it: %s", do)
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

// taskWords say when a task has its turn.
func taskWords(t client.Task) string {
	if t == "failed" {
		return "task on failure"
	}
	return "task " + string(t)
}

// stateWords say how far a run is with an object, or with a task.
func stateWords(o client.EntryObject) string {
	state := string(o.State)
	if o.Task != "" {
		state = map[client.EntryObjectState]string{"applying": "starting", "settling": "running", "ready": "done", "not ready": "not done"}[o.State]
		state = taskWords(o.Task) + ", " + pick(state == "", string(o.State), state)
	}
	if o.Replaced {
		state += ", deleted and made again"
	}
	return strings.TrimSuffix(state+": "+o.Reason, ": ")
}

func (a *app) hold() *cobra.Command {
	var why string
	var lasts time.Duration
	c := &cobra.Command{
		Use: "hold WARD", Short: "Stop automatic runs on a ward, with a reason and an optional end",
		Example:           "  vigila hold fog-signal@quay --why 'gale watch' --for 2h",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in := client.HoldWard{Why: why}
			if lasts < 0 || lasts == 0 && c.Flags().Changed("for") {
				return usage("--for %s holds it for no time at all; write how long from now, such as 2h, or leave it out", lasts)
			}
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
		}),
	}
	whyFlag(c, &why, "for whoever looks next")
	c.Flags().DurationVar(&lasts, "for", 0, "how long, such as 2h (default: until released)")
	return c
}

// whyFlag takes the reason for something. --reason is its name of before, and goes on for one version.
func whyFlag(c *cobra.Command, into *string, who string) {
	c.Flags().StringVar(into, "why", "", "the reason, "+who)
	c.Flags().StringVar(into, "reason", "", "")
	_ = c.Flags().MarkDeprecated("reason", "write --why; --reason goes with the next version")
}

func (a *app) release() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "release WARD", Short: "Let automatic runs go on after a hold or a rollback",
		Example:           "  vigila release fog-signal@quay --why 'gale is over'",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.ReleaseWardWithResponse(c.Context(), args[0], &client.ReleaseWardParams{Why: why})
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
		}),
	}
	whyFlag(c, &why, "for the logbook")
	return c
}

func (a *app) look() *cobra.Command {
	c := &cobra.Command{
		Use: "look WARD", Short: "Look at a ward's repository now instead of at the next interval",
		Example:           "  vigila look berth-planner@quay",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.LookNowWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			a.printer(c.OutOrStdout()).head(*r.JSON200)
			return nil
		}),
	}
	return a.reading(c)
}

func (a *app) watch() *cobra.Command {
	f := &listFlags{}
	c := &cobra.Command{
		Use: "watch", Short: "Watch the board live, until Ctrl-C",
		Long:    "Watch the board live, until Ctrl-C. On a terminal the board is drawn anew at each change; otherwise each change is a line.",
		Example: "  vigila watch\n  vigila watch --cluster quay\n  vigila watch --needs-you | tee night.log",
		Args:    noArgs,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, _ []string) error {
			if err := pageAsked(f.page, f.limit); err != nil {
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
				r, err := conn.ListWardsWithResponse(ctx, f.params(p.tty))
				if err := conn.Check(r, err); err != nil {
					var said *client.Error
					if errors.As(err, &said) {
						return err
					}
					p.line("%s lost the service: %v; trying again", time.Now().Format("15:04:05"), err)
					continue
				}
				if p.tty {
					fmt.Fprint(p, p.control("H")+p.control("2J"))
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
		}),
	}
	f.add(c)
	return c
}
