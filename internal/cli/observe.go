package cli

import (
	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/observe"
)

func (a *app) metricsRules() *cobra.Command {
	return &cobra.Command{
		Use: "metrics-rules", Short: "Print alerting rules for Prometheus over the service's metrics",
		Long: `Print alerting rules for a Prometheus that reads the service's /metrics (with a reader's token, or at --metrics-listen). They are for
those who are told by a Prometheus already; alerts of rosters (vigila alert) say more, and link to what they are about.`,
		Example: "  vigila metrics-rules > vigila-rules.yaml\n  promtool check rules vigila-rules.yaml", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := c.OutOrStdout().Write(observe.Rules)
			return err
		},
	}
}

func (a *app) dashboard() *cobra.Command {
	return &cobra.Command{
		Use: "dashboard", Short: "Print a dashboard in Grafana's format over the service's metrics",
		Long: `Print a dashboard in Grafana's JSON, to be imported there. It asks which Prometheus it reads from: one that reads the service's
/metrics.`,
		Example: "  vigila dashboard > vigila-dashboard.json", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := c.OutOrStdout().Write(observe.Dashboard())
			return err
		},
	}
}
