package cli

import (
	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) restore() *cobra.Command {
	var in client.StartRun
	var noWait, preview bool
	c := &cobra.Command{
		Use: "restore WARD", Short: "Put back what others changed, and nothing else",
		Long: `Put back what others changed: every drifted field is as it was applied last, what was deleted is made again, and with
keep.additions: remove what others added is taken away. Nothing new is carried in, no task runs, and no revision is
rejected, whatever becomes of it. A field that somebody insists on is put back as well: you have decided.`,
		Example:           "  vigila restore berth-planner@quay\n  vigila restore berth-planner@quay --preview",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			in.Kind = "restore"
			p := a.printer(c.OutOrStdout())
			if preview {
				return a.preview(c, conn, p, args[0], in, "vigila restore "+args[0])
			}
			return a.start(c.Context(), conn, p, args[0], in, !noWait)
		},
	}
	c.Flags().StringVar(&in.Why, "why", "", "the reason, for the logbook")
	c.Flags().BoolVar(&preview, "preview", false, "show what would be done, and do nothing")
	c.Flags().BoolVar(&noWait, "no-wait", false, "start it and return")
	return a.reading(c)
}
