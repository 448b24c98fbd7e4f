package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

// wanted says which approvals are wanted; "" for none.
func wanted(w client.WantedApprovals) string {
	if w.HowMany == 0 {
		return ""
	}
	return count(w.HowMany, "approval") + pick(len(w.OfTeams) == 0, "", " of "+strings.Join(w.OfTeams, " or "))
}

func (a *app) repoApprovals() *cobra.Command {
	var in client.WantedApprovals
	c := &cobra.Command{
		Use: "approvals NAME", Short: "Say how many approvals of whom the proposals of a repository need before they are merged",
		Long: `Say how many approvals of whom the proposals of a repository need before they are merged. Approvals of whoever asked for the proposal don't
count, nor do those of what it was before its branch was changed. It is said here and not in git, so that nobody who may push can lower
it; a stop of a lane can want more (approvals: in its file). Who pushes to the branch itself, or merges on the code host, is held by the
rules there alone.`,
		Example: "  vigila repo approvals moorings --count 2\n  vigila repo approvals moorings --count 1 --of harbour-ops,admin\n  vigila repo approvals moorings --count 0",
		Args:    exactly(1, "the name of a repository"), ValidArgsFunction: a.first(repoNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if !c.Flags().Changed("count") {
				return usage("say how many are wanted: --count 1, or --count 0 for none")
			}
			r, err := conn.SetApprovalsWithResponse(c.Context(), args[0], in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if in.HowMany == 0 {
				p.line("Proposals of %s need no approval.", args[0])
				return nil
			}
			p.line("Proposals of %s need %s before they are merged; their author's does not count.", args[0], wanted(in))
			return nil
		}),
	}
	c.Flags().IntVar(&in.HowMany, "count", 0, "how many; 0 for none")
	c.Flags().StringSliceVar(&in.OfTeams, "of", nil, "teams, or the roles operator and admin; anybody who may approve when left out")
	return c
}
