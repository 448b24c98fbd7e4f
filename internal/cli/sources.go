package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) repo() *cobra.Command {
	c := &cobra.Command{Use: "repo", Short: "Add, list and remove repositories", Example: "  vigila repo list"}
	var user, passwordFile string
	add := &cobra.Command{
		Use: "add NAME URL", Short: "Add a repository or change one; it is read before it is kept",
		Long:    "Add a repository or change one; it is read before it is kept. The password or token is stored encrypted and never shown again.",
		Example: "  vigila repo add fleet https://git.brindle.example/fleet.git --user vigila --password-file token.txt",
		Args:    exactly(2, "a name and an address"),
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			in := client.AddRepo{Name: args[0], Url: args[1], User: user}
			if passwordFile != "" {
				b, err := readFile(passwordFile, c.InOrStdin())
				if err != nil {
					return err
				}
				in.Password = strings.TrimSpace(string(b))
			}
			r, err := conn.AddRepoWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			branches := "it has no commits yet"
			if len(r.JSON200.Branches) > 0 {
				branches = "branches: " + strings.Join(r.JSON200.Branches, ", ")
			}
			a.printer(c.OutOrStdout()).line("%s is known now; %s", args[0], branches)
			return nil
		},
	}
	add.Flags().StringVar(&user, "user", "", "user name for basic sign-in")
	add.Flags().StringVar(&passwordFile, "password-file", "", "file with the password or token; - reads standard input")
	list := a.reading(&cobra.Command{
		Use: "list", Short: "List the known repositories", Example: "  vigila repo list", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.ListReposWithResponse(c.Context())
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if len(r.JSON200.Items) == 0 {
				p.line("No repositories yet. Add one: vigila repo add NAME URL")
				return nil
			}
			rows := [][]cell{{{"REPOSITORY", "soft"}, {"ADDRESS", "soft"}, {"WARDS", "soft"}, {"LAST LOOK", "soft"}}}
			for _, x := range r.JSON200.Items {
				rows = append(rows, []cell{{x.Name, "bold"}, plain(x.Url), plain(fmt.Sprint(x.Wards)), plain(known(x.Repository, "read "))})
			}
			p.table(rows)
			return nil
		},
	})
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget a repository that no ward uses", Example: "  vigila repo remove fleet", Args: exactly(1, "the name of a repository"),
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.RemoveRepoWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is forgotten.", args[0])
			return nil
		},
	}
	notices := a.reading(&cobra.Command{
		Use: "notices NAME", Short: "Make the key that signs push notices, so that a push is seen at once",
		Long: `Make the key that signs push notices of a repository, and show how to send one. With notices a push is seen at
once; without them the repository is looked at as often as its wards ask for. The key is shown this once; the one
before it is not taken any more.`,
		Example: "  vigila repo notices fleet", Args: exactly(1, "the name of a repository"),
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.MakeNoticeKeyWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			address := strings.TrimSuffix(conn.Context.URL, "/") + r.JSON200.Path
			p.line("Send a notice after each push to %s; its signature is the HMAC-SHA256 of the body with this key:", args[0])
			p.line("")
			p.line("  %s", r.JSON200.Key)
			p.line("")
			p.line("As a post-receive hook, or in a pipeline:")
			p.line("")
			p.line("  body='{}'")
			p.line("  sign=$(printf %%s \"$body\" | openssl dgst -sha256 -hmac %s | sed 's/^.* //')", r.JSON200.Key)
			p.line("  curl -fsS -X POST --data \"$body\" -H \"Vigila-Signature: $sign\" %s", address)
			return nil
		},
	})
	c.AddCommand(add, list, remove, notices)
	return c
}

func (a *app) cluster() *cobra.Command {
	c := &cobra.Command{Use: "cluster", Short: "Add, list and remove clusters", Example: "  vigila cluster list"}
	var kubeconfig, kubeContext string
	var labels map[string]string
	add := &cobra.Command{
		Use: "add NAME", Short: "Add a cluster or change one, by a context of a kubeconfig",
		Long:    "Add a cluster or change one, by a context of a kubeconfig on the service's machine. The cluster is asked for its version before it is kept; its credentials stay in the kubeconfig.",
		Example: "  vigila cluster add quay --kubeconfig ~/.kube/config --kube-context quay --label tier=rehearsal",
		Args:    exactly(1, "a name"),
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			if kubeconfig == "" {
				if kubeconfig = os.Getenv("KUBECONFIG"); kubeconfig == "" {
					return usage("vigila cluster add needs --kubeconfig FILE")
				}
			}
			if kubeconfig, err = filepath.Abs(kubeconfig); err != nil {
				return err
			}
			r, err := conn.AddClusterWithResponse(c.Context(), client.AddCluster{Name: args[0], Kubeconfig: kubeconfig, Context: kubeContext, Labels: labels})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is known now: %s at %s", args[0], r.JSON200.Version, r.JSON200.Server)
			return nil
		},
	}
	add.Flags().StringVar(&kubeconfig, "kubeconfig", "", "path on the service's machine (default: KUBECONFIG)")
	add.Flags().StringVar(&kubeContext, "kube-context", "", "context in it (default: its current one)")
	add.Flags().StringToStringVar(&labels, "label", nil, "labels that wards choose by, such as tier=rehearsal")
	list := a.reading(&cobra.Command{
		Use: "list", Short: "List the known clusters", Example: "  vigila cluster list", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.ListClustersWithResponse(c.Context())
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if len(r.JSON200.Items) == 0 {
				p.line("No clusters yet. Add one: vigila cluster add NAME --kubeconfig FILE")
				return nil
			}
			rows := [][]cell{{{"CLUSTER", "soft"}, {"VERSION", "soft"}, {"SERVER", "soft"}, {"LABELS", "soft"}, {"WARDS", "soft"}, {"LIVE", "soft"}}}
			for _, x := range r.JSON200.Items {
				live := "watched"
				if !x.Live.Known {
					live = known(x.Live, "heard ")
				}
				rows = append(rows, []cell{{x.Name, "bold"}, plain(x.Version), plain(x.Server), plain(pairs(x.Labels)), plain(fmt.Sprint(x.Wards)), plain(live)})
			}
			p.table(rows)
			return nil
		},
	})
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget a cluster that no ward is kept in", Example: "  vigila cluster remove quay", Args: exactly(1, "the name of a cluster"),
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := a.dial()
			if err != nil {
				return err
			}
			r, err := conn.RemoveClusterWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is forgotten.", args[0])
			return nil
		},
	}
	c.AddCommand(add, list, remove)
	return c
}
