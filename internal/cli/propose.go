package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

func (a *app) proposals() *cobra.Command {
	c := &cobra.Command{Use: "propose", Short: "Review changes to repositories by what they would do to the clusters, and merge them",
		Long: `A proposal is a change that Vigila makes to a repository, on a branch of its own: going back in git, files of a new ward, a newer
version. It is reviewed by its effect: every ward that it touches is rendered before and after, compared field by field, and tried
out on the API server. The same can be asked of any branch: vigila propose effect --repo NAME --branch NAME.`,
		Example: "  vigila propose list\n  vigila propose show 12\n  vigila propose merge 12"}
	c.AddCommand(a.proposeList(), a.proposeShow(), a.proposeEffect(), a.proposeApprove(), a.proposeMerge(), a.proposeWithdraw())
	return c
}

func (a *app) proposeList() *cobra.Command {
	var repository string
	var all bool
	l := listing[client.Proposal]{
		command: &cobra.Command{Use: "list", Short: "List the proposals that wait for somebody, or all of them", Example: "  vigila propose list\n  vigila propose list --all --search gate"},
		none:    "No proposal matches.",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Proposal, int, error) {
			r, err := conn.ListProposalsWithResponse(ctx, &client.ListProposalsParams{Search: f.search, Repo: repository, Live: !all, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Proposal) {
			rows := [][]cell{{{"PROPOSAL", "soft"}, {"TITLE", "soft"}, {"INTO", "soft"}, {"ASKED FOR", "soft"}, {"WHAT IS GOING ON", "soft"}}}
			for _, x := range items {
				rows = append(rows, []cell{{fmt.Sprintf("#%d", x.Number), "bold"}, plain(visible.Line(x.Title)), plain(x.Repo + " " + x.Base), plain(ago(x.Opened) + " by " + x.By),
					{visible.Line(x.Says), pick(x.Standing == "stale", "failing", pick(x.NeedsYou, "drifted", "soft"))}})
			}
			p.table(rows)
		},
	}
	l.first = "No proposal waits for anybody. All there were: vigila propose list --all"
	c := list(a, l)
	c.Flags().StringVar(&repository, "repo", "", "only those of a repository")
	c.Flags().BoolVar(&all, "all", false, "those that were merged or withdrawn as well")
	return c
}

func proposalNumber(s string) (int, error) {
	n, err := strconv.Atoi(strings.TrimPrefix(s, "#"))
	if err != nil || n <= 0 {
		return 0, usage("%q is not the number of a proposal; see vigila propose list", s)
	}
	return n, nil
}

func liveProposals(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListProposalsWithResponse(ctx, &client.ListProposalsParams{Live: true, Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, p := range r.JSON200.Items {
		out = append(out, fmt.Sprintf("%d\t%s", p.Number, visible.Line(p.Title)))
	}
	return out
}

func (a *app) proposeShow() *cobra.Command {
	c := &cobra.Command{
		Use: "show NUMBER", Short: "Show one proposal: what is wanted and why, what it would do, and its files", Example: "  vigila propose show 12",
		Args: exactly(1, "the number of a proposal"), ValidArgsFunction: a.first(liveProposals),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			r, err := conn.GetProposalWithResponse(c.Context(), n)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p, x := a.printer(c.OutOrStdout()), r.JSON200
			p.proposal(x)
			if over(x) || x.Standing == "opening" {
				return nil
			}
			e, err := conn.GetProposalEffectWithResponse(c.Context(), n)
			if err := conn.Check(e, err); err != nil {
				return err
			}
			p.line("")
			p.effect(e.JSON200)
			p.line("\n%s", p.paint("soft", pick(x.Standing == "stale", fmt.Sprintf("On top of what is there now: ask for it again     Not this: vigila propose withdraw %d", n),
				pick(x.Lacks != "", "", fmt.Sprintf("Merge it: vigila propose merge %d     ", n))+fmt.Sprintf("Say that it is good: vigila propose approve %d     Not this: vigila propose withdraw %d", n, n))))
			return nil
		}),
	}
	return a.reading(c)
}

func over(x *client.Proposal) bool { return x.Standing == "merged" || x.Standing == "withdrawn" }

// proposal prints what is wanted, by whom and why.
func (p *printer) proposal(x *client.Proposal) {
	p.line("%s  %s", p.paint("bold", fmt.Sprintf("#%d  %s", x.Number, visible.Line(x.Title))), p.paint("soft", fmt.Sprintf("%s: %s into %s, asked for %s by %s", x.Repo, x.Branch, x.Base, ago(x.Opened), x.By)))
	p.line("%s", p.paint(pick(x.Standing == "stale", "failing", pick(x.NeedsYou, "drifted", "")), upper(visible.Line(x.Says))))
	if r := x.Request; r.Number > 0 {
		p.line("%s", p.paint("soft", strings.TrimSuffix(fmt.Sprintf("Reviewed at %s, %s", visible.Line(r.Url), pick(r.HostSays == "", "", "its checks: "+r.HostSays)), ", ")))
	}
	if x.Result != "" {
		p.line("%s", p.paint("soft", fmt.Sprintf("%s holds it since %.7s, %s", x.Base, x.Result, ago(x.Ended))))
	}
	if !x.Own && !over(x) && x.Standing != "opening" {
		p.line("%s", p.paint("soft", fmt.Sprintf("Others have written to its branch; it is at %.7s", x.Commit)))
	}
	if x.Why != "" {
		p.line("")
		for _, row := range strings.Split(x.Why, "\n") {
			p.line("%s", strings.TrimRight("  "+visible.Line(row), " "))
		}
	}
}

// effect prints what a branch would do: to wards first, then its files.
func (p *printer) effect(e *client.Effect) {
	if len(e.Conflicts) > 0 {
		p.line("%s", p.paint("failing", fmt.Sprintf("It does not go together with %s, which has changed these as well, each in its own way:", e.Base)))
		for _, f := range e.Conflicts {
			p.line("  %s", visible.Line(f))
		}
		return
	}
	if len(e.Files) == 0 {
		p.line("It would change nothing: %s says the same.", e.Base)
		return
	}
	rest := ""
	if e.Same > 0 {
		rest = fmt.Sprintf("; %s the files that it changes and %s as %s", counted(e.Same, "other ward reads", "other wards read"), pick(e.Same == 1, "stays", "stay"), pick(e.Same == 1, "it is", "they are"))
	}
	if len(e.Effects) == 0 {
		p.line("It changes no ward%s.", rest)
	} else {
		p.line("It changes %s%s.", counted(len(e.Effects), "ward", "wards"), rest)
	}
	for _, x := range e.Problems {
		p.line("%s", p.paint("failing", fmt.Sprintf("  %s:%d: %s", visible.Line(x.File), x.Line, visible.Line(x.Text))))
	}
	for _, w := range e.Effects {
		p.wardEffect(w)
	}
	p.line("\n%s", p.paint("soft", counted(len(e.Files), "file", "files")+":"))
	for _, f := range e.Files {
		word := map[client.FileEffectChange]string{"added": "new", "removed": "gone", "changed": "changed"}[f.Change]
		p.line("  %s  %s", visible.Line(f.Path), p.paint("soft", strings.TrimSpace(word+"  "+f.Hidden)))
		p.patch(f.Patch)
	}
}

func counted(n int, one, many string) string {
	return fmt.Sprintf("%d %s", n, pick(n == 1, one, many))
}

func (p *printer) wardEffect(w client.WardEffect) {
	word := map[client.WardEffectChange]string{"added": "new", "removed": "its file is gone, or it goes elsewhere: its objects " + pick(w.Dismantles, "are removed with it (keep.on_removal: dismantle)", "stay, and are listed as left behind")}[w.Change]
	if word == "" && w.Filed {
		word = "its own file changes"
	}
	if word != "" {
		word = "  " + p.paint("soft", word)
	}
	p.line("\n%s%s", p.paint("bold", w.Ward), word)
	switch {
	case w.Problem != "":
		p.line("  %s", p.paint("failing", "It could not be read any more: "+visible.Line(w.Problem)))
		return
	case w.Waits != "":
		p.line("  %s", p.paint("failing", "It would declare nothing: it "+visible.Line(w.Waits)))
	case w.Change != "removed" && len(w.Objects) == 0:
		p.line("  No object changes.")
	}
	for _, g := range w.Guards {
		p.line("  %s", p.paint("failing", fmt.Sprintf("Guard %s stops it: %s", g.Name, visible.Line(g.Text+mends(g)))))
	}
	for _, f := range w.Breaks {
		if !slices.ContainsFunc(w.Guards, func(g client.Guard) bool { return g.Name == "rule:"+f.Rule }) {
			p.line("  It would break rule %s, which %s: %s/%s: %s", f.Rule, pick(f.Says == "refuse", "refuses its next change", "warns"), f.Kind, f.Name, visible.Line(f.Text))
		}
	}
	for _, x := range w.Refusals {
		p.line("  %s", p.paint("failing", fmt.Sprintf("%s %s would be refused: %s", x.Kind, x.Name, visible.Line(x.Says))))
	}
	for _, of := range w.Canaries {
		p.line("  %s", p.paint("soft", of+" is released in shares"))
	}
	if w.Untried != "" {
		p.line("  %s", p.paint("behind", "It was not tried out on the API server: "+visible.Line(w.Untried)))
	}
	if w.Untried == "" && w.Problem == "" && w.Change != "removed" && len(w.Refusals) == 0 && len(w.Objects) > 0 {
		p.line("  %s", p.paint("soft", "Tried out: the API server of "+w.Cluster+" takes it"))
	}
	p.moves(w.Objects)
}

// patch prints the lines that a file has differently, without git's heading.
func (p *printer) patch(text string) {
	in := false
	for _, row := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		if strings.HasPrefix(row, "@@") {
			in = true
			continue
		}
		if !in {
			continue
		}
		colour := "soft"
		switch {
		case strings.HasPrefix(row, "+"):
			colour = "ready"
		case strings.HasPrefix(row, "-"):
			colour = "failing"
		}
		p.line("    %s", p.paint(colour, visible.Line(row)))
	}
}

func (a *app) proposeEffect() *cobra.Command {
	var repository, branch, base string
	c := &cobra.Command{
		Use: "effect [NUMBER]", Short: "Show what a proposal, or any branch, would do to wards and clusters; exit code 3 when it would do something",
		Long: `Show what a proposal, or any branch of a known repository, would do once it is merged: every ward that reads what it changes is
rendered before and after, compared field by field and tried out on the API server. Nothing is changed anywhere. Exit code 3 when it
would change a ward, 1 when a ward could not be read any more, a guard would stop it or the API server refuses an object.`,
		Example: "  vigila propose effect 12\n  vigila propose effect --repo moorings --branch my-change",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 || (len(args) == 0) == (repository == "" || branch == "") {
				return usage("vigila propose effect needs the number of a proposal, or --repo and --branch")
			}
			return nil
		},
		ValidArgsFunction: a.first(liveProposals),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			e, err := askEffect(c.Context(), conn, args, repository, base, branch)
			if err != nil {
				return err
			}
			done, err := a.document(c.OutOrStdout(), e)
			if err != nil {
				return err
			}
			if !done {
				p := a.printer(c.OutOrStdout())
				p.line("%s  %s\n", p.paint("bold", e.Branch), p.paint("soft", fmt.Sprintf("%s: %.7s into %s at %.7s", e.Repo, e.Revision.Id, e.Base, e.BaseRevision.Id)))
				p.effect(e)
			}
			return exitOf(e)
		}),
	}
	f := c.Flags()
	f.StringVar(&repository, "repo", "", "a known repository")
	f.StringVar(&branch, "branch", "", "a branch of it, whoever made it")
	f.StringVar(&base, "base", "", "the branch that it is meant for (default: main)")
	return a.reading(c)
}

func askEffect(ctx context.Context, conn *client.Conn, args []string, repository, base, branch string) (*client.Effect, error) {
	if len(args) == 0 {
		r, err := conn.GetBranchEffectWithResponse(ctx, repository, &client.GetBranchEffectParams{Branch: branch, Base: base})
		if err := conn.Check(r, err); err != nil {
			return nil, err
		}
		return r.JSON200, nil
	}
	n, err := proposalNumber(args[0])
	if err != nil {
		return nil, err
	}
	r, err := conn.GetProposalEffectWithResponse(ctx, n)
	if err := conn.Check(r, err); err != nil {
		return nil, err
	}
	return r.JSON200, nil
}

// exitOf is how a command that shows an effect ends.
func exitOf(e *client.Effect) error {
	code := 0
	if len(e.Effects) > 0 {
		code = ExitDifferences
	}
	if len(e.Problems)+len(e.Conflicts) > 0 {
		code = ExitFailed
	}
	for _, w := range e.Effects {
		if w.Problem != "" || len(w.Guards)+len(w.Refusals) > 0 {
			code = ExitFailed
		}
	}
	if code == 0 {
		return nil
	}
	return &Exit{Code: code}
}

func (a *app) proposeApprove() *cobra.Command {
	var commit string
	c := &cobra.Command{
		Use: "approve NUMBER", Short: "Say that you have read a proposal and want it", Example: "  vigila propose approve 12\n  vigila propose approve 12 --commit 4be19f0",
		Args: exactly(1, "the number of a proposal"), ValidArgsFunction: a.first(liveProposals),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			r, err := conn.ApproveProposalWithResponse(c.Context(), n, client.ReviewedProposal{Commit: commit})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("#%d at %.7s: %s. %s", n, r.JSON200.Commit, visible.Line(r.JSON200.Says), pick(r.JSON200.Lacks != "", "", fmt.Sprintf("Merge it: vigila propose merge %d", n)))
			return nil
		}),
	}
	c.Flags().StringVar(&commit, "commit", "", "the commit that you have read; refused when its branch has moved since")
	return c
}

func (a *app) proposeMerge() *cobra.Command {
	var commit, why string
	c := &cobra.Command{
		Use: "merge NUMBER", Short: "Make a proposal part of the branch that it is meant for",
		Long: `Make a proposal part of the branch that it is meant for. A branch that has not moved is moved forward to it; else its commit is made
again on top, or merged where others have written to it. Nobody's commit is lost, and nothing is pushed by force. What it would do:
vigila propose show NUMBER.`,
		Example: "  vigila propose merge 12\n  vigila propose merge 12 --commit 4be19f0",
		Args:    exactly(1, "the number of a proposal"), ValidArgsFunction: a.first(liveProposals),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			r, err := conn.MergeProposalWithResponse(c.Context(), n, client.MergeProposal{Commit: commit, Why: why})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			x := r.JSON200
			a.printer(c.OutOrStdout()).line("#%d is merged: %s of %s holds it%s.", n, x.Base, x.Repo, pick(x.Result == "", " already", fmt.Sprintf(" at %.7s", x.Result)))
			return nil
		}),
	}
	c.Flags().StringVar(&commit, "commit", "", "the commit that you have read; refused when its branch has moved since")
	c.Flags().StringVar(&why, "why", "", "the reason, where something stands against letting a lot in")
	return c
}

func (a *app) proposeWithdraw() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "withdraw NUMBER", Short: "End a proposal without its change", Example: "  vigila propose withdraw 12 --why 'after the season'",
		Long: "End a proposal without its change. Its branch is deleted, unless somebody else has written to it. What a follow proposed is not proposed again\nby itself.",
		Args: exactly(1, "the number of a proposal"), ValidArgsFunction: a.first(liveProposals),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			n, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			r, err := conn.WithdrawProposalWithResponse(c.Context(), n, client.WithdrawProposal{Why: why})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			x := r.JSON200
			a.printer(c.OutOrStdout()).line("#%d is withdrawn.%s", n, pick(x.Own, "", fmt.Sprintf(" Others have written to branch %s, so it is still there.", x.Branch)))
			return nil
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for whoever looks next")
	return c
}
