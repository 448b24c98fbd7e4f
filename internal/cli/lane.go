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

func (a *app) lanes() *cobra.Command {
	c := &cobra.Command{Use: "lane", Short: "See which lot is where on its way from environment to environment, and let lots in",
		Long: `A lane leads changes from environment to environment, its stops. What it carries moves in lots, each exactly the versions and files
that a stop had at once; a lot that has arrived at a stop is offered to the stops after it. A lane is declared in a roster (vigila
schema lane prints the format).`,
		Example: "  vigila lane list\n  vigila lane show fare-gate\n  vigila lane promote fare-gate --to skerry"}
	c.AddCommand(a.laneList(), a.laneShow(), a.lanePreview(), a.lanePromote(), a.laneCompare(), a.laneHold(), a.laneRelease())
	return c
}

func (a *app) laneList() *cobra.Command {
	return list(a, listing[client.Lane]{
		command: &cobra.Command{Use: "list", Short: "List the lanes, with the lot that each stop has", Example: "  vigila lane list\n  vigila lane list --search gate"},
		none:    "No lane matches.",
		first:   "There is no lane. One is declared in a roster; its format: vigila schema lane",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Lane, int, error) {
			r, err := conn.ListLanesWithResponse(ctx, &client.ListLanesParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Lane) {
			rows := [][]cell{{{"LANE", "soft"}, {"STOPS", "soft"}, {"WHAT IS GOING ON", "soft"}}}
			for _, l := range items {
				var stops []string
				for _, s := range l.Stops {
					stops = append(stops, s.Name+" "+lotAt(s))
				}
				rows = append(rows, []cell{{l.Name, "bold"}, plain(strings.Join(stops, ", ")), {visible.Line(l.Says), pick(l.NeedsYou, "drifted", "")}})
			}
			p.table(rows)
		},
	})
}

// lotAt is what a stop has, as short as it can be said.
func lotAt(s client.LaneStop) string {
	switch x := s.Passage; {
	case x.Lot > 0 && x.OnlyThis:
		return fmt.Sprintf("#%d alone", x.Lot)
	case x.Lot > 0:
		return fmt.Sprintf("#%d", x.Lot)
	case x.Over > 0:
		return fmt.Sprintf("#%d and by hand", x.Over)
	}
	return "-"
}

func laneNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListLanesWithResponse(ctx, &client.ListLanesParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, l := range r.JSON200.Items {
		out = append(out, l.Name)
	}
	return out
}

// stopNames complete the stops of the lane that is named first.
func stopNames(ctx context.Context, conn *client.Conn, args []string) (out []string) {
	if len(args) == 0 {
		return nil
	}
	r, err := conn.GetLaneWithResponse(ctx, args[0])
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, s := range r.JSON200.Stops {
		out = append(out, s.Name)
	}
	return out
}

func (a *app) laneShow() *cobra.Command {
	f := &pageFlags{}
	c := &cobra.Command{
		Use: "show NAME", Short: "Show one lane: what each stop has since when, what waits and for what, and the way of each lot",
		Example: "  vigila lane show fare-gate\n  vigila lane show fare-gate --search tariff", Args: exactly(1, "the name of a lane"), ValidArgsFunction: a.first(laneNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if err := pageAsked(f.page, f.limit); err != nil {
				return err
			}
			r, err := conn.GetLaneWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			lots, err := conn.ListLotsWithResponse(c.Context(), args[0], &client.ListLotsParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(lots, err); err != nil {
				return err
			}
			if err := onPage(f.page, f.limit, lots.JSON200.Total); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), struct {
				Lane *client.Lane    `json:"lane"`
				Lots *client.LotList `json:"lots"`
			}{r.JSON200, lots.JSON200}); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			p.lane(r.JSON200)
			p.lots(lots.JSON200.Items, f.search != "")
			if foot := pageOf(f.page, f.limit, lots.JSON200.Total); foot != "" {
				p.line("\n%d of %d%s", len(lots.JSON200.Items), lots.JSON200.Total, foot)
			}
			return nil
		}),
	}
	f.add(c)
	c.Flags().Lookup("limit").DefValue = "10"
	f.limit = 10
	return a.reading(c)
}

// lane prints how it is with one: its stops, and what is offered to them.
func (p *printer) lane(l *client.Lane) {
	p.line("%s  %s", p.paint("bold", l.Name), p.paint("soft", strings.TrimPrefix(fmt.Sprintf("%s; carries %s in %s %s", strings.TrimSuffix(visible.Line(l.About), "."), strings.Join(l.Carries, " and "), l.Repo, l.Ref), "; ")))
	p.line("%s", p.paint(pick(l.NeedsYou, "drifted", ""), upper(visible.Line(l.Says))))
	rows := [][]cell{{{"STOP", "soft"}, {"HAS", "soft"}, {"SINCE", "soft"}, {"BY", "soft"}, {"WHAT IS GOING ON", "soft"}}}
	for _, s := range l.Stops {
		since, by := "-", "-"
		if s.Passage.Stop != "" {
			since, by = ago(s.Passage.Since), orDash(visible.Line(s.Passage.By))
		}
		rows = append(rows, []cell{{s.Name, "bold"}, plain(lotAt(s)), plain(since), plain(by), {visible.Line(s.Says), pick(s.Problem != "" || s.Passage.Failed != "", "failing", pick(s.NeedsYou, "drifted", ""))}})
	}
	p.line("")
	p.table(rows)
	for _, s := range l.Stops {
		if !s.Arrived && !s.Arrives.IsZero() && s.Waits != "" {
			p.line("\n%s arrives in %s, if its wards stay ready", s.Name, span(time.Until(s.Arrives).Round(time.Second)))
		}
		if w := wanted(s.WantsApprovals); w != "" {
			p.line("\n%s wants %s before a lot is merged", s.Name, w)
		}
		for _, row := range s.Passage.Against {
			p.line("\n%s: let in although %s: %s", s.Name, visible.Line(row), visible.Line(s.Passage.Why))
		}
		if s.Offer.Lot > 0 && s.Together == "" {
			p.offer(l, s)
		}
	}
}

// offer prints what a stop is offered, and what would come along with it.
func (p *printer) offer(l *client.Lane, s client.LaneStop) {
	with := ""
	for _, x := range l.Stops {
		if x.Together == s.Name {
			with += " and " + x.Name
		}
	}
	p.line("\nOffered to %s%s: %s", s.Name, with, p.paint("bold", fmt.Sprintf("lot %d", s.Offer.Lot)))
	p.lotChanges(s.Offer.Changes)
	if !s.Offer.Next.IsZero() {
		p.line("  %s", p.paint("soft", fmt.Sprintf("%s lets lots in %s; the next time in %s", s.Name, s.Hours, span(time.Until(s.Offer.Next).Round(time.Minute)))))
	}
	switch {
	case s.Proposal > 0:
		p.line("%s", p.paint("soft", fmt.Sprintf("What it would do, and to let it in: vigila propose show %d", s.Proposal)))
	case s.Offer.Asks:
		p.line("%s", p.paint("soft", fmt.Sprintf("What it would do: vigila lane preview %s --to %s     Let it in: vigila lane promote %s --to %s", l.Name, s.Name, l.Name, s.Name)))
	}
}

// lotChanges prints what a lot changes, and apart what would come along with it.
func (p *printer) lotChanges(all []client.LotChange) {
	for _, along := range []bool{false, true} {
		begun := false
		for _, c := range all {
			if c.Unseen != along {
				continue
			}
			if along && !begun {
				p.line("  %s", p.paint("drifted", "What comes along with it:"))
			}
			begun = true
			name := c.Path
			if c.Of != "" {
				name = c.Of
			}
			row := "  " + pick(along, "  ", "") + visible.Line(name) + "  " + visible.Line(c.Says)
			if c.Whose != "" {
				row += "  " + p.paint("soft", "("+visible.Line(c.Whose)+")")
			}
			p.line("%s", row)
		}
	}
}

// lots prints lots with their ways.
func (p *printer) lots(items []client.Lot, searched bool) {
	p.line("")
	if len(items) == 0 {
		p.line("%s", p.paint("soft", pick(searched, "No lot matches.", "No lot has begun yet: nothing that is carried is at a first stop.")))
		return
	}
	rows := [][]cell{{{"LOT", "soft"}, {"BEGAN", "soft"}, {"WHAT IT BRINGS", "soft"}, {"ITS WAY", "soft"}}}
	for _, x := range items {
		rows = append(rows, []cell{{fmt.Sprintf("#%d", x.Number), "bold"}, plain(ago(x.At)), plain(brings(x)), plain(way(x))})
	}
	p.table(rows)
}

// brings are the subjects of a lot's commits.
func brings(x client.Lot) string {
	if len(x.Brings) <= 1 {
		return visible.Line(x.Subject)
	}
	return fmt.Sprintf("%s, and %s", visible.Line(x.Subject), counted(len(x.Brings)-1+x.More, "commit more", "commits more"))
}

// way is where a lot was, in a line.
func way(x client.Lot) string {
	var out []string
	for _, w := range x.Way {
		said := pick(w.OnlyThis, w.Stop+" (its own change alone)", w.Stop)
		switch {
		case w.Failed != "":
			said += " failed"
		case !w.ArrivedAt.IsZero():
			said += " " + ago(w.ArrivedAt)
		case w.Ended.IsZero():
			said += " on its way"
		default:
			said += " never arrived"
		}
		out = append(out, said)
	}
	if len(out) == 0 {
		return "-"
	}
	return strings.Join(out, ", ")
}

// letIn are the flags that say which lot is to be let in where.
type letIn struct {
	to       string
	lot      int
	onlyThis bool
}

func (f *letIn) add(a *app, c *cobra.Command) {
	c.Flags().StringVar(&f.to, "to", "", "the stop")
	c.Flags().IntVar(&f.lot, "lot", 0, "its number (default: the one that is offered there)")
	c.Flags().BoolVar(&f.onlyThis, "only-this", false, "the lot's own change alone, and nothing that would come along")
	_ = c.RegisterFlagCompletionFunc("to", a.complete(stopNames))
}

func (f *letIn) check(c *cobra.Command, lane string) error {
	if f.to == "" {
		return usage("%s needs --to STOP; the stops of %s: vigila lane show %s", c.CommandPath(), lane, lane)
	}
	return nil
}

func (f *letIn) preview(ctx context.Context, conn *client.Conn, lane string) (*client.LotPreview, error) {
	r, err := conn.PreviewLotWithResponse(ctx, lane, &client.PreviewLotParams{Stop: f.to, Lot: f.lot, OnlyThis: f.onlyThis})
	if err := conn.Check(r, err); err != nil {
		return nil, err
	}
	return r.JSON200, nil
}

// letting prints what letting a lot in would change.
func (p *printer) letting(x *client.LotPreview, word string) {
	var stops []string
	for _, s := range x.StopsChanged {
		stops = append(stops, s.Stop)
	}
	p.line("%s  %s", p.paint("bold", fmt.Sprintf("lot %d of %s", x.Lot, x.Lane)), visible.Line(x.Subject))
	p.line("%s", p.paint("soft", fmt.Sprintf("%s %s, by %s%s", word, strings.Join(stops, " and "), pick(x.ByProposal, "a proposal", "a commit"), pick(x.OnlyThis, ", its own change alone", ""))))
	for _, row := range x.Against {
		p.line("%s", p.paint("failing", "Against it: "+visible.Line(row)))
	}
	for _, s := range x.StopsChanged {
		p.line("\nAt %s:", s.Stop)
		if len(s.Changes) == 0 {
			p.line("  nothing: it has all of it already")
		}
		p.lotChanges(s.Changes)
	}
}

func (a *app) lanePreview() *cobra.Command {
	f := &letIn{}
	c := &cobra.Command{
		Use: "preview NAME --to STOP", Short: "Show what letting a lot in would do, to files and to clusters; exit code 3 when it would do something",
		Long: `Show what letting a lot in at a stop would do: what the lot itself changes, what would come along with it, and what that does to the
clusters, as vigila propose effect tells it. Nothing is written. Exit codes are those of vigila propose effect.`,
		Example: "  vigila lane preview fare-gate --to skerry\n  vigila lane preview fare-gate --to skerry --lot 12 --only-this", Args: exactly(1, "the name of a lane"), ValidArgsFunction: a.first(laneNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if err := f.check(c, args[0]); err != nil {
				return err
			}
			x, err := f.preview(c.Context(), conn, args[0])
			if err != nil {
				return err
			}
			done, err := a.document(c.OutOrStdout(), x)
			if err != nil {
				return err
			}
			if !done {
				p := a.printer(c.OutOrStdout())
				p.letting(x, "To")
				if !x.Nothing {
					p.line("")
					p.effect(&x.Effect)
					p.line("\n%s", p.paint("soft", fmt.Sprintf("Let it in: vigila lane promote %s --to %s --lot %d%s%s", x.Lane, f.to, x.Lot, pick(x.OnlyThis, " --only-this", pick(x.Unseen && !x.ByProposal, " --along", "")), pick(len(x.Against) > 0, " --why …", ""))))
				}
			}
			if x.Nothing {
				return nil
			}
			return exitOf(&x.Effect)
		}),
	}
	f.add(a, c)
	return a.reading(c)
}

func (a *app) lanePromote() *cobra.Command {
	f := &letIn{}
	var along bool
	var why string
	c := &cobra.Command{
		Use: "promote NAME --to STOP", Short: "Let a lot in at a stop: the one that is offered there, a newer or an earlier one",
		Long: `Let a lot in at a stop, and at those that take lots together with it: as a commit, or as a proposal, as the lane says. Going back is
promoting an earlier lot; a stop that went back lets newer lots in than it ever had, and no other, by itself. More than the lot's own
change is not let in unseen: say --along once you have read the preview, or --only-this. What has not arrived, has failed, or is at
a stop that is held or closed at this hour needs a reason, which everybody sees.`,
		Example: "  vigila lane promote fare-gate --to skerry\n  vigila lane promote fare-gate --to skerry --lot 11\n  vigila lane promote fare-gate --to holm --lot 12 --why 'the ferry waits'",
		Args:    exactly(1, "the name of a lane"), ValidArgsFunction: a.first(laneNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if err := f.check(c, args[0]); err != nil {
				return err
			}
			in := client.PromoteLot{Stop: f.to, Lot: f.lot, OnlyThis: f.onlyThis, Why: why}
			if along {
				x, err := f.preview(c.Context(), conn, args[0])
				if err != nil {
					return err
				}
				in.Lot, in.Seen = x.Lot, x.Seen
			}
			r, err := conn.PromoteLotWithResponse(c.Context(), args[0], in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p, x := a.printer(c.OutOrStdout()), r.JSON200
			for _, s := range x.StopsChanged {
				p.line("%s:", s.Stop)
				p.lotChanges(s.Changes)
			}
			if x.Proposal > 0 {
				p.line("Lot %d is proposed: vigila propose show %d     Let it in: vigila propose merge %d", x.Lot, x.Proposal, x.Proposal)
				return nil
			}
			p.line("Lot %d is written; how far it is: vigila lane show %s", x.Lot, args[0])
			return nil
		}),
	}
	f.add(a, c)
	c.Flags().BoolVar(&along, "along", false, "let in what comes along with it as well")
	c.Flags().StringVar(&why, "why", "", "the reason, where something stands against it")
	return a.reading(c)
}

func (a *app) laneCompare() *cobra.Command {
	c := &cobra.Command{
		Use: "compare NAME STOP STOP", Short: "Show what a stop has differently from another, without what is its own; exit code 3 when there is something",
		Long: `Show what a stop has differently from another: the versions and files that the lane carries, and what that comes to in the second one's
clusters: its wards are rendered as they are, and as they would be with all that the first one has. What is a stop's own does not count.`,
		Example: "  vigila lane compare fare-gate quay skerry", Args: exactly(3, "the name of a lane and two stops"),
		ValidArgsFunction: func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			switch len(args) {
			case 0:
				return a.complete(laneNames)(c, args, typed)
			case 1, 2:
				return a.complete(stopNames)(c, args, typed)
			}
			return nil, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.CompareStopsWithResponse(c.Context(), args[0], &client.CompareStopsParams{One: args[1], Other: args[2]})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			x := r.JSON200
			done, err := a.document(c.OutOrStdout(), x)
			if err != nil {
				return err
			}
			if !done {
				p := a.printer(c.OutOrStdout())
				if len(x.Changes) == 0 {
					p.line("%s and %s have the same of all that %s carries.", x.One, x.Other, x.Lane)
					return nil
				}
				p.line("From %s to %s, of what %s carries:", p.paint("bold", x.One), p.paint("bold", x.Other), x.Lane)
				p.lotChanges(x.Changes)
				p.line("\nWith all that %s has, at %s:", x.One, x.Other)
				p.effect(&x.Effect)
			}
			if len(x.Changes) == 0 {
				return nil
			}
			return &Exit{Code: ExitDifferences}
		}),
	}
	return a.reading(c)
}

func (a *app) laneHold() *cobra.Command {
	return a.laneStop("hold NAME STOP", "Keep a stop from letting lots in by itself, with a reason; a person still may", "  vigila lane hold fare-gate skerry --why gale", true,
		func(ctx context.Context, conn *client.Conn, lane string, in client.HoldStop) (*client.Lane, error) {
			r, err := conn.HoldStopWithResponse(ctx, lane, in)
			if err := conn.Check(r, err); err != nil {
				return nil, err
			}
			return r.JSON200, nil
		})
}

func (a *app) laneRelease() *cobra.Command {
	return a.laneStop("release NAME STOP", "Let a stop that is held go on", "  vigila lane release fare-gate skerry", false,
		func(ctx context.Context, conn *client.Conn, lane string, in client.HoldStop) (*client.Lane, error) {
			r, err := conn.ReleaseStopWithResponse(ctx, lane, in)
			if err := conn.Check(r, err); err != nil {
				return nil, err
			}
			return r.JSON200, nil
		})
}

func (a *app) laneStop(use, short, example string, reason bool, do func(context.Context, *client.Conn, string, client.HoldStop) (*client.Lane, error)) *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: use, Short: short, Example: example, Args: exactly(2, "the name of a lane and a stop"),
		ValidArgsFunction: func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			switch len(args) {
			case 0:
				return a.complete(laneNames)(c, args, typed)
			case 1:
				return a.complete(stopNames)(c, args, typed)
			}
			return nil, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if reason && strings.TrimSpace(why) == "" {
				return usage("%s needs --why: whoever wonders reads it", c.CommandPath())
			}
			l, err := do(c.Context(), conn, args[0], client.HoldStop{Stop: args[1], Why: why})
			if err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), l); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			for _, s := range l.Stops {
				if s.Name == args[1] {
					p.line("%s: %s", s.Name, visible.Line(s.Says))
				}
			}
			return nil
		}),
	}
	c.Flags().StringVar(&why, "why", "", pick(reason, "the reason, for whoever wonders", "the reason, for the service's log"))
	return a.reading(c)
}
