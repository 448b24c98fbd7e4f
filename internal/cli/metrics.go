package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) metrics() *cobra.Command {
	c := &cobra.Command{Use: "metrics", Short: "Add, list, remove and try the metrics sources that checks of canaries ask",
		Long: `Metrics sources are servers that speak the Prometheus HTTP API. The checks of a ward file name them (from:); whoever
may add one here decides what may be asked, since credentials never stand in a repository.`,
		Example: "  vigila metrics list"}
	c.AddCommand(a.metricsAdd(), a.metricsList(), a.metricsRemove(), a.metricsTry())
	return c
}

func (a *app) metricsAdd() *cobra.Command {
	var in client.AddMetricsSource
	var password, token, ca string
	c := &cobra.Command{
		Use: "add NAME URL", Short: "Add a metrics source or change one; it is asked before it is kept",
		Long: `Add a metrics source or change one; it is asked before it is kept. A user with a password, or a token, are stored
encrypted and never shown again, and stay with the address that they were given for.`,
		Example: `  vigila metrics add harbour-metrics https://metrics.brindle.example
  vigila metrics add harbour-metrics https://metrics.brindle.example --token-file token.txt`,
		Args: exactly(2, "a name and an address"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in.Name, in.Url = args[0], args[1]
			if err := readFiles(c, map[string]*string{password: &in.Password, token: &in.Token, ca: &in.Ca}); err != nil {
				return err
			}
			r, err := conn.AddMetricsSourceWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is known now, and answers. A check asks it with from: %s", args[0], args[0])
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&in.User, "user", "", "user name for basic sign-in")
	f.StringVar(&password, "password-file", "", "file with the password; - reads standard input")
	f.StringVar(&token, "token-file", "", "file with a token that is sent as a bearer token; - reads standard input")
	f.StringVar(&ca, "ca-file", "", "certificates (PEM) that the server may be signed with, in place of the system's")
	f.StringVar(&in.About, "about", "", "what is measured there")
	return c
}

// readFiles reads what was given as the name of a file.
func readFiles(c *cobra.Command, of map[string]*string) error {
	for file, into := range of {
		if file == "" {
			continue
		}
		b, err := readFile(file, c.InOrStdin())
		if err != nil {
			return err
		}
		*into = strings.TrimSpace(string(b))
	}
	return nil
}

func (a *app) metricsList() *cobra.Command {
	return list(a, listing[client.MetricsSource]{
		command: &cobra.Command{Use: "list", Short: "List the metrics sources, with who asks them", Example: "  vigila metrics list\n  vigila metrics list --search harbour"},
		none:    "No metrics source matches.",
		first:   "No metrics source is known. The first: vigila metrics add NAME URL",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.MetricsSource, int, error) {
			r, err := conn.ListMetricsSourcesWithResponse(ctx, &client.ListMetricsSourcesParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.MetricsSource) {
			rows := [][]cell{{{"METRICS SOURCE", "soft"}, {"ADDRESS", "soft"}, {"SIGNS IN", "soft"}, {"ASKED BY", "soft"}}}
			for _, m := range items {
				by := few(m.UsedBy)
				if len(m.UsedBy) == 0 {
					by = "nobody"
				}
				rows = append(rows, []cell{{m.Name, "bold"}, plain(m.Url), plain(pick(m.SignsIn, pick(m.User == "", "with a token", "as "+m.User), "no")), plain(by)})
			}
			p.table(rows)
		},
	})
}

func (a *app) metricsRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a metrics source that no ward asks", Example: "  vigila metrics remove harbour-metrics",
		Args: exactly(1, "the name of a metrics source"), ValidArgsFunction: a.first(metricsNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RemoveMetricsSourceWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is forgotten.", args[0])
			return nil
		}),
	}
}

func (a *app) metricsTry() *cobra.Command {
	c := &cobra.Command{
		Use: "try NAME [QUERY]", Short: "Ask a metrics source whether it answers, or what a query gives now",
		Long: `Ask a metrics source whether it answers, or what a query gives now: as a check would be answered. A query of a check
names Pods with ${{ new.pods }} and ${{ old.pods }}; write a name or .* in their place here. Exit code 1 when a check
would know nothing of the answer.`,
		Example: `  vigila metrics try harbour-metrics
  vigila metrics try harbour-metrics 'sum(rate(http_requests_total{pod=~"fare-gate.*"}[1m]))'`,
		Args:              cobra.RangeArgs(1, 2),
		ValidArgsFunction: a.first(metricsNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in := client.TryMetricsSource{}
			if len(args) == 2 {
				in.Query = args[1]
			}
			r, err := conn.TryMetricsSourceWithResponse(c.Context(), args[0], in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			switch x := r.JSON200; {
			case x.Problem != "":
				return &Exit{ExitFailed, "a check would know nothing: " + x.Problem}
			case in.Query == "":
				p.line("%s answers.", args[0])
			default:
				for _, v := range x.Values {
					p.line("%s", fmt.Sprintf("%.6g", v))
				}
			}
			return nil
		}),
	}
	return a.reading(c)
}

func metricsNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListMetricsSourcesWithResponse(ctx, &client.ListMetricsSourcesParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, m := range r.JSON200.Items {
		out = append(out, m.Name)
	}
	return out
}
