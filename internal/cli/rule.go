package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) rules() *cobra.Command {
	c := &cobra.Command{Use: "rule", Short: "See which rules hold for what wards declare, what breaks them, and try out another",
		Long: `Rules say what manifests must keep, in Kubernetes' own format (ValidatingAdmissionPolicy, CEL). A rulebook is a directory of them with a
rulebook file (vigila schema rulebook), in a roster, in .vigila of a repository, or beside plain manifests. What breaks a rule that
refuses is told by vigila check before the merge, and is not synced; what it had better be stands with each.`,
		Example: "  vigila rule list\n  vigila rule broken --ward fare-gate@quay\n  vigila rule try new-rule.yaml"}
	c.AddCommand(a.ruleList(), a.ruleShow(), a.ruleBroken(), a.ruleTry())
	return c
}

func (a *app) ruleList() *cobra.Command {
	var holding bool
	c := list(a, listing[client.Rule]{
		command: &cobra.Command{Use: "list", Short: "List the rules that hold, what is broken first, and those that Vigila brings along",
			Long: `List the rules that hold for wards, what is broken first, and then the rules that Vigila brings along and no rulebook has named yet:
name them under ours: in a rulebook file.`,
			Example: "  vigila rule list\n  vigila rule list --holding\n  vigila rule list --search image"},
		none:     "No rule matches.",
		narrowed: func() bool { return holding },
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Rule, int, error) {
			r, err := conn.ListRulesWithResponse(ctx, &client.ListRulesParams{Search: f.search, Holding: holding, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Rule) {
			rows := [][]cell{{{"RULE", "soft"}, {"OF", "soft"}, {"OTHERWISE", "soft"}, {"HOLDS FOR", "soft"}, {"BROKEN BY", "soft"}, {"LOOKS AT", "soft"}}}
			for _, r := range items {
				of, holds := plain(r.Book), plain(count(len(r.UsedBy), "ward"))
				if r.Off {
					of, holds = cell{"Vigila", "soft"}, cell{"off", "soft"}
				}
				rows = append(rows, []cell{{r.Name, "bold"}, of, plain(r.Says), holds, brokenBy(r), {firstOf(r.LooksAt), "soft"}})
			}
			p.table(rows)
			p.line("\nWhat a rule wants: vigila rule show NAME     What breaks rules: vigila rule broken")
		},
	})
	c.Flags().BoolVar(&holding, "holding", false, "only those that hold for a ward")
	return c
}

// firstOf is the first of what a rule looks at, and how much more there is.
func firstOf(what string) string {
	first, rest, more := strings.Cut(what, ", ")
	if !more {
		return what
	}
	return fmt.Sprintf("%s and %d more", first, strings.Count(rest, ", ")+1)
}

// brokenBy says how much breaks a rule.
func brokenBy(r client.Rule) cell {
	var parts []string
	color := ""
	if r.Breaking > 0 {
		parts, color = append(parts, "▲ "+count(r.Breaking, "object")), "failing"
	}
	if r.WarnedOf > 0 {
		parts = append(parts, count(r.WarnedOf, "object"))
	}
	if r.LetBe > 0 {
		parts = append(parts, fmt.Sprintf("%d let be", r.LetBe))
	}
	if len(parts) == 0 {
		return cell{pick(r.Off, "", "nothing"), "soft"}
	}
	return cell{strings.Join(parts, ", "), color}
}

func (a *app) ruleShow() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "show NAME", Short: "Show what a rule wants, why, and its text", Example: "  vigila rule show images-pinned",
		Args: exactly(1, "the name of a rule"), ValidArgsFunction: a.first(ruleNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.GetRuleWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			for i, x := range r.JSON200.Items {
				if i > 0 {
					p.line("")
				}
				where := pick(x.Off, "brought along by Vigila, off", "of rulebook "+x.Book)
				if x.DeclaredAt != "" {
					where += ", " + x.DeclaredAt
				}
				p.line("%s  %s, %s", p.paint("bold", x.Name), pick(x.Says == "refuse", "refuses", "warns"), where)
				for _, row := range [][2]string{{"Why", x.Why}, {"Instead", x.Instead}, {"Looks at", x.LooksAt}, {"For", x.ForWhom}, {"Holds for", pick(len(x.UsedBy) == 0, "", few(x.UsedBy))}, {"Broken by", pick(x.Off, "", brokenBy(x).text)}} {
					if row[1] != "" {
						p.line("  %-10s %s", row[0], row[1])
					}
				}
				p.line("\n%s", strings.TrimRight(x.Text, "\n"))
			}
			return nil
		}),
	})
}

func (a *app) ruleBroken() *cobra.Command {
	var q client.ListFindingsParams
	c := list(a, listing[client.Finding]{
		command:  &cobra.Command{Use: "broken", Short: "List what of what wards declare breaks a rule, what would be refused first", Example: "  vigila rule broken\n  vigila rule broken --rule probes-stated\n  vigila rule broken --ward fare-gate@quay --refused"},
		none:     "Nothing such breaks a rule.",
		first:    "Nothing that is declared breaks a rule that holds.",
		narrowed: func() bool { return q.Ward != "" || q.Rule != "" || q.Refused },
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Finding, int, error) {
			q.Search, q.Limit, q.Offset = f.search, f.limit, f.offset()
			r, err := conn.ListFindingsWithResponse(ctx, &q)
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Finding) { p.findings(items) },
	})
	f := c.Flags()
	f.StringVar(&q.Ward, "ward", "", "of one ward, as NAME@CLUSTER")
	f.StringVar(&q.Rule, "rule", "", "of one rule")
	f.BoolVar(&q.Refused, "refused", false, "only what would be refused")
	_ = c.RegisterFlagCompletionFunc("rule", a.complete(ruleNames)) // never fails: the flags are there
	_ = c.RegisterFlagCompletionFunc("ward", a.complete(wardIDs))
	return c
}

// findings prints what breaks rules, by rule.
func (p *printer) findings(items []client.Finding) {
	last := ""
	for _, f := range items {
		if head := f.Says + " " + f.Rule; head != last {
			if last != "" {
				p.line("")
			}
			last = head
			word := map[string]string{"refuse": p.paint("failing", "▲ refuses"), "warn": "warns", "excepted": p.paint("soft", "let be")}[f.Says]
			p.line("%s  %s", p.paint("bold", f.Rule), word)
			if f.Instead != "" {
				p.line("  %s", p.paint("soft", f.Instead))
			}
		}
		at := ""
		if f.File != "" {
			at = p.paint("soft", fmt.Sprintf("  %s:%d", f.File, f.Line))
		}
		p.line("  %s  %s/%s: %s%s", f.Ward, f.Kind, f.Name, f.Text, at)
		if e := f.Exception; e.Why != "" {
			p.line("    %s", p.paint("soft", fmt.Sprintf("%s %s: %s (%s)", pick(e.HasEnded, "an exception let it be until", "an exception lets it be until"), e.LastDay, e.Why, e.Owner)))
		}
	}
}

func (a *app) ruleTry() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "try FILE", Short: "Say what of everything that wards declare now would break a rule; nothing changes",
		Long: `Hold everything that wards declare now against the rules of a file, before they hold anywhere. A file is one rule or more, each a
ValidatingAdmissionPolicy; - reads standard input. It exits 3 when something would break them.`,
		Example: "  vigila rule try new-rule.yaml\n  vigila rule show images-pinned -o json | jq -r '.items[0].text' | vigila rule try -",
		Args:    exactly(1, "a file of rules"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			text, err := readRules(c.InOrStdin(), args[0])
			if err != nil {
				return err
			}
			r, err := conn.TryRulesWithResponse(c.Context(), client.TryRules{Text: string(text), File: args[0]})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			t := r.JSON200
			if done, err := a.document(c.OutOrStdout(), t); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			p.findings(t.Items)
			if len(t.Items) > 0 {
				p.line("")
			}
			p.line("%s over %s of %s: %s", few(t.Rules), count(t.ObjectsTried, "object"), count(t.WardsTried, "ward"), pick(len(t.Items) == 0, "nothing would break it", fmt.Sprintf("%d would break it", len(t.Items))))
			if len(t.Unread) > 0 {
				p.line("Not known is what is declared by %s", few(t.Unread))
			}
			if len(t.Items) > 0 {
				return &Exit{Code: ExitDifferences}
			}
			return nil
		}),
	})
}

// readRules reads a file, or standard input for -.
func readRules(in io.Reader, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(in, 2<<20))
	}
	return os.ReadFile(name)
}

func ruleNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListRulesWithResponse(ctx, &client.ListRulesParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, x.Name)
	}
	return out
}
