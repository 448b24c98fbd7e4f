package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

func (a *app) canary() *cobra.Command {
	c := &cobra.Command{Use: "canary", Short: "See a canary, send it on, hold it, finish it, or send it back",
		Long: `A canary runs the new version of a workload beside the old one and gives it a growing share of the traffic, as the ward
file says (canary:). Until it is through, nothing of what ran before is changed but the weights of its routes, so going
back takes seconds. docs/canary.md has more.`,
		Example: "  vigila canary show fare-gate@quay\n  vigila canary next fare-gate@quay"}
	c.AddCommand(a.canaryShow(),
		a.canarySay("next", "Send it to its next share now", "which share it waits at does not matter: time, a person or a check", "goes on to its next share"),
		a.canarySay("hold", "Hold it at its share until somebody sends it on", "its checks go on, and send it back when they are missed", "is held at its share"),
		a.canarySay("finish", "Give all of the traffic to the new version now", "the rest of the revision follows", "is finished: all of the traffic goes to the new version"),
		a.canarySay("back", "Send all of the traffic back to the old version, and take the new one away", "the revision is rejected; try it again with vigila sync WARD --retry", "goes back"))
	return c
}

func (a *app) canaryShow() *cobra.Command {
	var entry int
	c := &cobra.Command{
		Use: "show WARD", Short: "Show how the new version does beside the old one",
		Long: `Show how far the canary of a ward is: its shares, the old version and the new one side by side, what each check has
answered, and what happened. Without --entry it is the newest, whether it goes on or not.`,
		Example:           "  vigila canary show fare-gate@quay\n  vigila canary show fare-gate@quay --entry 7 -o json",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if entry < 0 || entry == 0 && c.Flags().Changed("entry") {
				return usage("--entry %d: the numbers of entries begin with 1; see vigila logbook %s", entry, args[0])
			}
			r, err := conn.GetCanaryWithResponse(c.Context(), args[0], &client.GetCanaryParams{Entry: entry})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			a.printer(c.OutOrStdout()).canary(r.JSON200)
			return nil
		}),
	}
	c.Flags().IntVar(&entry, "entry", 0, "the number of the run that carried it (default: the newest)")
	return a.reading(c)
}

// canarySay is a command that says a word to the canary that goes on.
func (a *app) canarySay(word, short, long, said string) *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: word + " WARD", Short: short, Long: short + ": " + long + ".",
		Example:           fmt.Sprintf("  vigila canary %s fare-gate@quay --why 'looked at the tills'", word),
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.SayCanaryWithResponse(c.Context(), args[0], client.SayCanary{Word: client.SayCanaryWord(word), Why: why})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			a.printer(c.OutOrStdout()).line("The canary of %s %s. Look at it: vigila canary show %s", args[0], said, args[0])
			return nil
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for whoever looks next")
	return a.reading(c)
}

// canary prints how far a canary is.
func (p *printer) canary(c *client.Canary) {
	p.line("%s  %s", p.paint("bold", c.Ward), p.paint("soft", fmt.Sprintf("canary of sync #%d, by %s: %s", c.Entry, visible.Line(c.By), visible.Line(c.Why))))
	p.line("%s", p.paint(canaryColor(c), upper(visible.Line(c.Says))))
	switch {
	case c.GoingOn && c.Phase != "going back" && !c.Until.IsZero():
		p.line("%s", p.paint("soft", fmt.Sprintf("Began %s. Should it not be through in %s, it goes back by itself", ago(c.Began), span(time.Until(c.Until).Round(time.Second)))))
	case !c.Ended.IsZero() && !c.Began.IsZero():
		p.line("%s", p.paint("soft", fmt.Sprintf("Began %s, and took %s", ago(c.Began), span(c.Ended.Sub(c.Began)))))
	}
	if c.Back.Trouble != "" {
		p.line("%s", p.paint("failing", "▲ On the way back: "+visible.Line(c.Back.Trouble)))
	}
	p.line("\n%s", p.shares(c))
	for _, w := range c.Workloads {
		p.line("")
		next := count(w.NewSize, "Pod")
		if c.GoingOn {
			next += pick(w.NewReady, ", ready", ", not ready: "+w.Reason)
		}
		rows := [][]cell{{{w.Kind + "/" + w.Name, "bold"}, {"IMAGE", "soft"}, {"SIZE", "soft"}},
			{plain("old"), plain(w.OldImage), plain(count(w.OldSize, "Pod"))}, {plain("new"), plain(w.NewImage), plain(strings.TrimSuffix(next, ": "))}}
		if w.SeenShare != nil || w.AsksTraffic && c.Phase == "sharing" {
			old, now := "not known", "not known"
			if w.SeenShare != nil {
				old, now = fmt.Sprintf("%.0f %%", 100-*w.SeenShare), fmt.Sprintf("%.0f %%", *w.SeenShare)
			}
			rows = [][]cell{append(rows[0], cell{"TRAFFIC SEEN", "soft"}), append(rows[1], plain(old)), append(rows[2], plain(now))}
		}
		p.table(rows)
		if len(w.Checks) > 0 {
			p.line("")
			p.checks(w.Checks)
		}
	}
	p.line("")
	for _, l := range c.Happened {
		p.line("%s  %s", p.paint("soft", l.At.Local().Format("15:04:05")), visible.Line(l.Text))
	}
	switch {
	case !c.GoingOn || c.Phase != "sharing":
	case c.WaitsForPerson || !c.Held.At.IsZero():
		p.line("\nSend it on: vigila canary next %s. Send it back: vigila canary back %s", c.Ward, c.Ward)
	default:
		p.line("\nSend it on now: vigila canary next %s. Hold it here: vigila canary hold %s. Send it back: vigila canary back %s", c.Ward, c.Ward, c.Ward)
	}
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func canaryColor(c *client.Canary) string {
	switch {
	case !c.Back.At.IsZero():
		return "failing"
	case c.GoingOn:
		return "behind"
	}
	return ""
}

// shares is the line of shares: what is past, now, and to come.
func (p *printer) shares(c *client.Canary) string {
	var parts []string
	through := c.Phase == "handing over" || c.Phase == "through" || c.Phase == "closing" || c.Phase == "over" && c.Back.At.IsZero()
	for i, s := range c.Shares {
		text := fmt.Sprintf("%d %%", s.Percent)
		switch {
		case s.Person:
			text += " until a person says"
		default:
			text += " for " + span(time.Duration(s.Seconds)*time.Second)
		}
		switch {
		case through || i < c.Share:
			text = "● " + text
		case i == c.Share && !c.Back.At.IsZero():
			text = p.paint("failing", "▲ "+text)
		case i == c.Share:
			text = p.paint("bold", "◐ "+text)
		default:
			text = p.paint("soft", "○ "+text)
		}
		parts = append(parts, text)
	}
	end := "all"
	if through {
		end = pick(c.Phase == "over" || c.Phase == "closing" || c.Phase == "through", "● ", "◐ ") + end
	} else {
		end = p.paint("soft", "○ "+end)
	}
	return strings.Join(append(parts, end), p.paint("soft", "  ─  "))
}

func (p *printer) checks(all []client.CanaryCheck) {
	rows := [][]cell{{{"CHECK", "soft"}, {"NOW", "soft"}, {"NEW", "soft"}, {"OLD", "soft"}, {"MISSES", "soft"}, {"GOOD IS", "soft"}}}
	for _, c := range all {
		word := map[client.CanaryCheckLast]cell{"good": {"● good", ""}, "bad": {"▲ bad", "failing"}, "not known": {"· not known", "blind"}}[c.Last]
		now, old := "", ""
		if n := len(c.Points); n > 0 { // what the newest answer told, if anything
			if pt := c.Points[n-1]; pt.New != nil {
				now = measure(*pt.New, c.Unit)
				if pt.Old != nil {
					old = measure(*pt.Old, c.Unit)
				}
			}
		}
		good := c.Good
		if c.Last == "not known" && c.Why != "" {
			good += "; " + c.Why
		}
		rows = append(rows, []cell{plain(c.Name), word, plain(now), plain(old), plain(fmt.Sprintf("%d of %d, %s borne", c.Misses, c.Asked, c.Bears)), plain(good)})
	}
	p.table(rows)
}

// measure writes a point of a check.
func measure(v float64, unit client.CanaryCheckUnit) string {
	switch unit {
	case "seconds":
		return fmt.Sprintf("%.0f ms", v*1000)
	case "share":
		return fmt.Sprintf("%.4g %%", v*100)
	}
	return fmt.Sprintf("%.4g", v)
}

// canaryLines prints what has happened with the canary of a run since it was asked last.
func (p *printer) canaryLines(ctx context.Context, conn *client.Conn, ward string, number int, seen map[string]string) {
	r, err := conn.GetCanaryWithResponse(ctx, ward, &client.GetCanaryParams{Entry: number})
	if conn.Check(r, err) != nil {
		return // it is asked again
	}
	for _, l := range r.JSON200.Happened {
		at := "canary " + l.At.UTC().Format(time.RFC3339Nano) + l.Text
		if seen[at] != "" {
			continue
		}
		seen[at] = "told"
		p.line("  ◐ %s %s", p.paint("soft", "canary"), visible.Line(l.Text))
	}
	if says := r.JSON200.Says; r.JSON200.WaitsForPerson && seen["asks"] != says {
		seen["asks"] = says
		p.line("  %s", p.paint("behind", fmt.Sprintf("◐ %s: vigila canary next %s, or back: vigila canary back %s", visible.Line(says), ward, ward)))
	}
}
