package cli

import (
	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) restore() *cobra.Command {
	var in starting
	c := &cobra.Command{
		Use: "restore WARD", Short: "Put back what others changed, and nothing else",
		Long: `Put back what others changed: every drifted field is as it was applied last, what was deleted is made again, and with
keep.additions: remove what others added is taken away. Nothing new is carried in, no task runs, and no revision is
rejected, whatever becomes of it. A field that somebody insists on is put back as well: you have decided.`,
		Example:           "  vigila restore berth-planner@quay\n  vigila restore berth-planner@quay --preview",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in.Kind = "restore"
			return a.begin(c, conn, a.printer(c.OutOrStdout()), args[0], &in, "vigila restore "+args[0])
		}),
	}
	in.flags(c.Flags())
	return a.reading(c)
}
