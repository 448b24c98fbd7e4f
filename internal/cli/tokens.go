package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

// soon is how long before its end a token is spoken of.
const soon = 14 * 24 * time.Hour

func (a *app) token() *cobra.Command {
	c := &cobra.Command{Use: "token", Short: "Make, list and end the tokens that sign in; needs an admin's",
		Long: `Make, list and end the tokens that sign in. What one may follows from its role:
  reader     sees everything and changes nothing
  operator   does all that wards, rosters, repositories and clusters need
  admin      makes and ends tokens beside that
Where no admin's token is left: vigila serve --make-admin-token, on the service's machine.`,
		Example: "  vigila token make pipeline --role operator --for 90d\n  vigila token list"}
	c.AddCommand(a.tokenMake(), a.tokenList(), a.tokenEnd())
	return c
}

func (a *app) tokenMake() *cobra.Command {
	var role, lasts string
	var may rights
	c := &cobra.Command{
		Use: "make NAME", Short: "Make a token and show it once",
		Long: `Make a token and show it once: it is not kept, only its hash is. The logbook calls who uses it by its name, so give
each person and each pipeline one of its own. It ends by itself; make the next before that.

With --may it has no role: it may what is said, to what is said, and everything else does not exist to it.`,
		Example: `  vigila token make pipeline --role operator --for 90d
  vigila token make ticketing-ci --may see,sync --wards owner=ticketing --for 90d
  vigila token make office-screen --role reader --for 366d
  VIGILA_URL=https://vigila.brindle.example VIGILA_TOKEN=$(vigila token make pipeline -o json | jq -r .token) vigila ward list`,
		Args: exactly(1, "a name for whoever or whatever it is for"),
		RunE: func(c *cobra.Command, args []string) error {
			span, err := lasting(lasts)
			if err != nil {
				return err
			}
			given, err := may.read()
			if err != nil {
				return err
			}
			if len(given) > 0 {
				if c.Flags().Changed("role") {
					return usage("a token has a role, or what --may says; not both")
				}
				role = ""
			}
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.MakeTokenWithResponse(c.Context(), client.MakeToken{Name: args[0], Role: client.Role(role), For: int(span / time.Second), Rights: given})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			what := role
			if len(given) > 0 {
				what = "which may " + rightsLine(given[0])
			}
			p.line("Token %s, %s, is taken until %s. It is shown this once:", args[0], what, r.JSON200.Expires.Format("2006-01-02 15:04 UTC"))
			p.line("")
			p.line("  %s", r.JSON200.Token)
			p.line("")
			p.line("For a person, as a link:  %s/#sign-in=%s", strings.TrimRight(conn.Context.URL, "/"), r.JSON200.Token)
			p.line("For a pipeline:           VIGILA_URL=%s, and the token as VIGILA_TOKEN from where it keeps secrets", conn.Context.URL)
			return nil
		},
	}
	may.flags(c)
	c.Flags().StringVar(&role, "role", "reader", "reader, operator or admin")
	c.Flags().StringVar(&lasts, "for", "90d", "how long it is taken, such as 90d or 8h; at most 366d")
	_ = c.RegisterFlagCompletionFunc("role", cobra.FixedCompletions([]string{"reader", "operator", "admin"}, cobra.ShellCompDirectiveNoFileComp)) // never fails: the flag is there
	return a.reading(c)
}

// lasting reads how long something lasts: 90d, or what Go reads as a duration.
func lasting(text string) (time.Duration, error) {
	if n, ok := strings.CutSuffix(text, "d"); ok {
		if d, err := strconv.Atoi(n); err == nil && d > 0 && d < 10_000 {
			return time.Duration(d) * 24 * time.Hour, nil
		}
	} else if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return d, nil
	}
	return 0, usage("--for is %q; write how long, such as 90d or 8h", text)
}

func (a *app) tokenList() *cobra.Command {
	return list(a, listing[client.Token]{
		command: &cobra.Command{Use: "list", Short: "List the tokens, with when each was used last and when it ends", Example: "  vigila token list\n  vigila token list --search operator"},
		none:    "No token matches.",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Token, int, error) {
			r, err := conn.ListTokensWithResponse(ctx, &client.ListTokensParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Token) {
			rows := [][]cell{{{"TOKEN", "soft"}, {"MAY", "soft"}, {"MADE", "soft"}, {"LAST USED", "soft"}, {"ENDS", "soft"}}}
			for _, t := range items {
				name := cell{t.Name, "bold"}
				if t.You {
					name.text += " (you)"
				}
				rows = append(rows, []cell{name, plain(rightsTitle(t)), plain(t.Made.Local().Format(time.DateOnly) + pick(t.MadeBy == "", "", ", made by "+visible.Line(t.MadeBy))), plain(ago(t.Used)), ends(t.Expires)})
			}
			p.table(rows)
		},
	})
}

// ends tells when a token ends.
func ends(at time.Time) cell {
	left := time.Until(at)
	switch {
	case at.IsZero():
		return cell{"never by itself; make one that does, and end this", "behind"}
	case left <= 0:
		return cell{"ended " + ago(at), "blind"}
	case left < soon:
		return cell{"in " + span(left.Round(time.Minute)), "behind"}
	}
	return cell{text: "in " + span(left.Round(time.Minute))}
}

func (a *app) tokenEnd() *cobra.Command {
	return &cobra.Command{
		Use: "end NAME", Short: "End a token now", Long: "End a token now. What is open with it ends within seconds. What it did stays in the logbook.",
		Example: "  vigila token end pipeline", Args: exactly(1, "the name of a token"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.EndTokenWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("Token %s has ended.", args[0])
			return nil
		}),
	}
}

// until tells of a token that ends soon; "" when it does not.
func until(me *client.Me) string {
	if me.Session != "" {
		return fmt.Sprintf("You stay signed in for %s at most.", span(time.Until(me.Expires).Round(time.Minute)))
	}
	if left := time.Until(me.Expires); !me.Expires.IsZero() && left < soon {
		return fmt.Sprintf("This token ends in %s; before that, whoever has an admin's makes the next: vigila token make NAME --role %s", span(left.Round(time.Minute)), me.Role)
	}
	return ""
}
