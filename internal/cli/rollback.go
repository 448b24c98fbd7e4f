package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) rollback() *cobra.Command {
	var in starting
	var propose bool
	var branch string
	c := &cobra.Command{
		Use: "rollback WARD [ENTRY]", Short: "Go back to what an entry of the logbook left, and hold the ward there",
		Long: `Go back to what an entry of the logbook left, from the objects that Vigila keeps: neither the repository nor a
renderer is needed. The ward is held there; vigila release lets it run forward again. A run that goes on is stopped first.

--propose touches no cluster: it writes a commit to a branch of its own in the repository, which takes the ward's path
back to that entry (without ENTRY: to what the cluster holds now), so that git can say the same after a review.`,
		Example: `  vigila logbook fare-gate@skerry
  vigila rollback fare-gate@skerry 38 --why 'gates reject season tickets'
  vigila rollback fare-gate@skerry 38 --preview
  vigila rollback fare-gate@skerry 38 --only ConfigMap/fares
  vigila rollback fare-gate@skerry --propose`,
		ValidArgsFunction: a.complete(entries(true)),
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 && len(args) < 3 && propose {
				if in.preview {
					return a.proposal(c, args)
				}
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
			if err := a.begin(c, conn, p, args[0], &in, "vigila rollback "+args[0]+" "+args[1]+again(c, "only", "tasks", "allow")); err != nil || in.preview || a.output != "text" {
				return err
			}
			if len(in.Only) > 0 {
				p.line("Held, with %s as in #%d. Let it run forward again: vigila release %s", strings.Join(in.Only, ", "), n, args[0])
				return nil
			}
			p.line("Held at #%d. Let it run forward again: vigila release %s", n, args[0])
			p.line("Let git say the same: vigila rollback %s --propose", args[0])
			return nil
		},
	}
	f := c.Flags()
	in.flags(f)
	f.StringSliceVar(&in.Allow, "allow", nil, "guards to allow, by name")
	f.StringSliceVar(&in.Only, "only", nil, "these objects and nothing else, as Kind/name")
	f.BoolVar(&in.Tasks, "tasks", false, "run the tasks of that entry as well; they don't run without it")
	f.BoolVar(&propose, "propose", false, "write the matching commit to a branch in the repository, and leave the cluster alone")
	f.StringVar(&branch, "branch", "", "with --propose: the name of the branch (default: made from the ward and the revision)")
	return a.reading(c)
}

// proposal shows what a proposed commit would change, and pushes nothing.
func (a *app) proposal(c *cobra.Command, args []string) error {
	conn, err := a.dial()
	if err != nil {
		return err
	}
	number := 0
	if len(args) == 2 {
		if number, err = entryNumber(args[1]); err != nil {
			return err
		}
	} else if number, err = applied(c.Context(), conn, args[0]); err != nil {
		return err
	}
	r, err := conn.CompareEntriesWithResponse(c.Context(), args[0], &client.CompareEntriesParams{From: number})
	if err := conn.Check(r, err); err != nil {
		return err
	}
	d := back(r.JSON200)
	done, err := a.document(c.OutOrStdout(), d)
	if err != nil {
		return err
	}
	if !done {
		p := a.printer(c.OutOrStdout())
		p.line("%s  the repository now %s  →  #%d %s", p.paint("bold", args[0]), title(r.JSON200.Revision), number, title(r.JSON200.From.Revision))
		p.line("%s", p.paint("soft", "A preview; nothing is pushed."))
		p.moves(d.Objects)
		if len(d.Objects) == 0 {
			p.line("\nNothing to propose: both declare the same.")
		} else {
			p.line("\nDo it: vigila rollback %s --propose%s", strings.Join(args, " "), again(c, "branch"))
		}
	}
	if len(d.Objects) > 0 {
		return &Exit{Code: ExitDifferences}
	}
	return nil
}

// applied is the newest entry that left a ward as the cluster holds it.
func applied(ctx context.Context, conn *client.Conn, ward string) (int, error) {
	w, err := conn.GetWardWithResponse(ctx, ward)
	if err := conn.Check(w, err); err != nil {
		return 0, err
	}
	at := w.JSON200.Ward.Applied.Id
	for offset := 0; at != ""; offset += 1000 {
		r, err := conn.ListWardEntriesWithResponse(ctx, ward, &client.ListWardEntriesParams{Limit: 1000, Offset: offset})
		if err := conn.Check(r, err); err != nil {
			return 0, err
		}
		for _, e := range r.JSON200.Items {
			if (e.Kind == "sync" || e.Kind == "rollback") && e.Outcome == "done" && e.Revision.Id == at {
				return e.Number, nil
			}
		}
		if offset+1000 >= r.JSON200.Total {
			break
		}
	}
	return 0, &Exit{ExitFailed, fmt.Sprintf("no run has left %s as the cluster holds it, so there is nothing to go back to; name an entry: vigila logbook %s", ward, ward)}
}

// back is a comparison the other way round.
func back(d *client.Comparison) *client.Comparison {
	out := *d
	out.Objects = slices.Clone(d.Objects)
	other := map[string]string{"added": "removed", "removed": "added"}
	for i, o := range out.Objects {
		if w := other[string(o.Change)]; w != "" {
			out.Objects[i].Change = client.MovedObjectChange(w)
		}
		out.Objects[i].Fields = slices.Clone(o.Fields)
		for j, f := range out.Objects[i].Fields {
			f.From, f.To = f.To, f.From
			if w := other[string(f.Change)]; w != "" {
				f.Change = client.DifferenceChange(w)
			}
			out.Objects[i].Fields[j] = f
		}
	}
	return &out
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
	x := r.JSON200
	p.line("Proposal %s: %s, on branch %s for %s.", p.paint("bold", fmt.Sprintf("#%d", x.Number)), x.Title, x.Branch, x.Base)
	p.line("What it would do: vigila propose show %d     Merge it: vigila propose merge %d     Then let the ward run forward: vigila release %s", x.Number, x.Number, args[0])
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
		ValidArgsFunction: a.complete(entries(true)),
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
	p.moves(d.Objects)
}

// moves prints what two declarations have differently.
func (p *printer) moves(objects []client.MovedObject) {
	for _, o := range objects {
		word := map[client.MovedObjectChange]string{"added": "  " + p.paint("soft", "new"), "removed": "  " + p.paint("soft", "gone")}[o.Change]
		p.line("\n  %s %s%s", p.paint("soft", o.Kind), p.paint("bold", o.Name), word)
		if o.Change != "changed" {
			p.created("    ", o.Fields, o.Change == "removed")
			continue
		}
		var all []change
		for _, f := range o.Fields {
			all = append(all, between(f.Path, f.From, f.Change == "added", f.To, f.Change == "removed"))
		}
		p.changes("    ", all)
	}
}

func (a *app) rejections() *cobra.Command {
	c := &cobra.Command{
		Use: "rejections WARD", Short: "List the revisions that a ward does not go to by itself, and why",
		Example:           "  vigila rejections fare-gate@skerry\n  vigila reject fare-gate@skerry 4be19f0 --why 'season tickets'\n  vigila accept fare-gate@skerry 4be19f0",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
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
		}),
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
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RejectRevisionWithResponse(c.Context(), args[0], client.RejectRevision{Revision: args[1], Why: why})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s won't go to %s by itself. Lift it: vigila accept %s %s", args[0], args[1], args[0], args[1])
			return nil
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for whoever looks next")
	return c
}

func (a *app) accept() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "accept WARD REVISION", Short: "Lift the rejection of a revision: automatic runs may go there again",
		Example:           "  vigila accept fare-gate@skerry 4be19f0",
		Args:              exactly(2, "a ward and a revision"),
		ValidArgsFunction: a.complete(rejected),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.LiftRejectionWithResponse(c.Context(), args[0], args[1], &client.LiftRejectionParams{Why: why})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is not rejected any more. %s", args[1], r.JSON200.Says)
			return nil
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for the logbook")
	return c
}

func entryNumber(s string) (int, error) {
	var n int
	if _, err := fmt.Sscanf(strings.TrimPrefix(s, "#"), "%d", &n); err != nil || n <= 0 {
		return 0, usage("%q is not the number of an entry; see vigila logbook WARD", s)
	}
	return n, nil
}
