package cli

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) clusterSignIn() *cobra.Command {
	var in client.ClusterSignIn
	c := &cobra.Command{
		Use: "sign-in NAME", Short: "Say which provider's people the API server of a cluster takes, so that they can have a kubeconfig of their own",
		Long: `Say which provider's people the API server of a cluster takes by itself: its own flags or its own configuration say so, and say what they
may there (RBAC). Whoever has signed in here by that provider can then have a kubeconfig, which signs them in there by the same
provider, with their own rights and never Vigila's. Without --provider it is taken back.`,
		Example: "  vigila cluster sign-in quay --provider brindle --client kubernetes\n  vigila cluster kubeconfig quay > quay.yaml",
		Args:    exactly(1, "the name of a cluster"), ValidArgsFunction: a.first(clusterNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.SetClusterSignInWithResponse(c.Context(), args[0], in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if in.Provider == "" {
				p.line("Nobody is given a kubeconfig of %s any more.", args[0])
				return nil
			}
			p.line("Whoever signs in by %s can have a kubeconfig of %s: vigila cluster kubeconfig %s", in.Provider, args[0], args[0])
			return nil
		}),
	}
	c.Flags().StringVar(&in.Provider, "provider", "", "whose people")
	c.Flags().StringVar(&in.ClientId, "client", "", "what the API server is to the provider: the audience that it takes")
	return c
}

func (a *app) clusterKubeconfig() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "kubeconfig NAME", Short: "Print a kubeconfig of a cluster for you, with your own rights", Example: "  vigila cluster kubeconfig quay > quay.yaml",
		Args: exactly(1, "the name of a cluster"), ValidArgsFunction: a.first(clusterNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.GetKubeconfigWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			_, err = fmt.Fprint(c.OutOrStdout(), r.JSON200.OwnKubeconfig)
			return err
		}),
	})
}

// signInFor is how long somebody has to sign in by a browser.
const signInFor = 5 * time.Minute

// credential is what a kubeconfig of vigila cluster kubeconfig runs: the exec credential of client.authentication.k8s.io/v1
// (https://kubernetes.io/docs/reference/config-api/client-authentication.v1/).
func (a *app) credential() *cobra.Command {
	var i client.Issuer
	var ca string
	c := &cobra.Command{
		Use: "credential", Short: "Sign in by a provider, for a kubeconfig of vigila cluster kubeconfig, which runs this", Args: noArgs,
		Long: `Sign in by a provider in a browser on this machine, and print what it says for the client of a cluster: a kubeconfig of vigila cluster
kubeconfig runs this. What the provider said is kept for its time, where you alone can read it, and renewed where it lets that be.`,
		Example: "  vigila credential --issuer https://sign-in.brindle.example --client kubernetes",
		RunE: func(c *cobra.Command, _ []string) error {
			if i.URL == "" || i.Client == "" {
				return usage("name the provider and the client: --issuer URL --client ID")
			}
			pem, err := base64.StdEncoding.DecodeString(ca)
			if err != nil {
				return usage("--ca-data is not base64: %v", err)
			}
			i.CA = string(pem)
			dir, err := os.UserCacheDir()
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(c.Context(), signInFor)
			defer cancel()
			got, err := i.Credential(ctx, filepath.Join(dir, "vigila"), func(link string) {
				fmt.Fprintf(c.ErrOrStderr(), "To sign in by %s, open in a browser on this machine\n\n  %s\n\n", strings.TrimPrefix(i.URL, "https://"), link)
			})
			if err != nil {
				return &Exit{Code: ExitFailed, Text: err.Error()}
			}
			return json.NewEncoder(c.OutOrStdout()).Encode(map[string]any{"apiVersion": "client.authentication.k8s.io/v1", "kind": "ExecCredential",
				"status": map[string]any{"token": got.IDToken, "expirationTimestamp": got.Expires.UTC().Format(time.RFC3339)}})
		},
	}
	c.Flags().StringVar(&i.URL, "issuer", "", "address of the provider")
	c.Flags().StringVar(&i.Client, "client", "", "what this command line is to it: a public client that may be sent back to http://127.0.0.1")
	c.Flags().StringVar(&ca, "ca-data", "", "certificates (PEM, in base64) that the provider is signed with, beside those that this machine trusts")
	return c
}
