package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vigila.dev/vigila/internal/client"
)

func (a *app) stores() *cobra.Command {
	c := &cobra.Command{Use: "store", Short: "Add, list, try and remove the stores that secret values live in",
		Long: `Secret values live in stores, outside git. A Secret in a repository refers to them, as secret://STORE/PATH#KEY in place of a
value, and they are put in place when it is applied. Whoever may add a store here decides which wards may use it.`,
		Example: "  vigila store list"}
	c.AddCommand(a.storeAdd(), a.storeList(), a.storeTry(), a.storePushes(), a.storeRemove())
	return c
}

func (a *app) storeAdd() *cobra.Command {
	var in client.AddStore
	var token, ca, kubernetes, namespace, files, lookout string
	var every time.Duration
	c := &cobra.Command{
		Use: "add NAME [URL]", Short: "Add a store or change one; it is signed in to before it is kept",
		Long: `Add a store or change one; it is signed in to before it is kept. With a URL it is a server that speaks the HTTP API of KV
version 2, signed in to with a token, a role (AppRole) or the service account that Vigila runs as. With --namespace it is the
Secrets of a namespace of a known cluster. With --by-lookout it is a server that the lookout of a cluster asks, which has been
told where it is and what signs in to it (vigila lookout --stores); its values stay there. With --files it is encrypted files
in git, which are read here and changed by whoever has them. Tokens and keys are stored encrypted and never shown again.

A store is for every ward, unless it is limited; all limits that are given have to hold. Wards of a roster that has limits of its
own may use it only where --for-roster names that roster.`,
		Example: `  vigila store add harbour https://secrets.brindle.example --mount secret --token-file token.txt
  vigila store add harbour https://secrets.brindle.example --mount secret --role 8f2c0d1e --token-file role-secret.txt
  vigila store add harbour https://secrets.brindle.example --mount secret --kubernetes-role vigila
  vigila store add vault --namespace quay/harbour-secrets --for-owner harbour-ops --for-cluster quay
  vigila store add skerry-kv --by-lookout skerry
  vigila store add sealed --files moorings/secrets --token-file age-key.txt`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) == 0 || len(args) > 2 {
				return usage("%s needs the name of a store, and where it is: a URL, --namespace, --by-lookout or --files; see %s --help", c.CommandPath(), c.CommandPath())
			}
			return nil
		},
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in.Name, in.EverySeconds = args[0], int(every.Seconds())
			given := len(args) - 1
			for _, x := range []string{namespace, files, lookout} {
				if x != "" {
					given++
				}
			}
			switch {
			case given != 1:
				return &Exit{ExitUsage, "say where the store is, once: a URL, --namespace CLUSTER/NAMESPACE, --by-lookout CLUSTER or --files REPO/DIRECTORY"}
			case lookout != "":
				in.Form, in.Cluster, in.Mount = "kv", lookout, ""
			case len(args) == 2:
				in.Form, in.Url = "kv", args[1]
			case files != "":
				in.Form, in.Mount = "files", ""
				in.Repo, in.Directory, _ = strings.Cut(files, "/")
			default:
				cluster, space, ok := strings.Cut(namespace, "/")
				if !ok || cluster == "" || space == "" || strings.Contains(space, "/") {
					return &Exit{ExitUsage, fmt.Sprintf("--namespace is CLUSTER/NAMESPACE, not %q", namespace)}
				}
				in.Form, in.Cluster, in.Namespace = "namespace", cluster, space
			}
			switch {
			case kubernetes != "" && in.RoleId != "":
				return &Exit{ExitUsage, "--role and --kubernetes-role are two ways to sign in; give one"}
			case kubernetes != "":
				in.SignIn, in.RoleId = "kubernetes", kubernetes
			case in.RoleId != "":
				in.SignIn = "role"
			}
			if err := readFiles(c, map[string]*string{token: &in.Token, ca: &in.Ca}); err != nil {
				return err
			}
			r, err := conn.AddStoreWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is known now, and answers. A Secret refers to it: secret://%s/PATH#KEY", args[0], args[0])
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&namespace, "namespace", "", "the Secrets of a namespace of a cluster are the store: CLUSTER/NAMESPACE; a path is the name of a Secret")
	f.StringVar(&lookout, "by-lookout", "", "the lookout of this cluster asks the server, and alone knows where it is and what signs in to it (vigila lookout --stores)")
	f.StringVar(&files, "files", "", "encrypted files of a known repository are the store (SOPS format, age): REPO/DIRECTORY; a path is that of a file without its ending")
	f.StringVar(&in.Ref, "ref", "", "branch or tag of --files; main when absent")
	f.StringVar(&in.Mount, "mount", "secret", "where the server has its values mounted")
	f.StringVar(&token, "token-file", "", "file with the token, the secret of --role, or the age key of --files; - reads standard input")
	f.StringVar(&in.RoleId, "role", "", "id of the role (AppRole) to sign in with")
	f.StringVar(&kubernetes, "kubernetes-role", "", "name of the role to sign in with as the service account that Vigila runs as")
	f.StringVar(&in.SignInAt, "sign-in-at", "", "where the way to sign in is mounted, when not at its usual name")
	f.StringVar(&in.Space, "server-namespace", "", "namespace of the server")
	f.StringVar(&ca, "ca-file", "", "certificates (PEM) that the server may be signed with, in place of the system's")
	f.DurationVar(&every, "every", time.Minute, "how often it is looked at")
	f.StringSliceVar(&in.ForWards, "for-ward", nil, "only wards of this name may use it; may be given several times")
	f.StringSliceVar(&in.ForOwners, "for-owner", nil, "only wards of this owner; an owner is what a ward file says")
	f.StringSliceVar(&in.ForClusters, "for-cluster", nil, "only wards placed in this cluster")
	f.StringSliceVar(&in.ForRosters, "for-roster", nil, "only wards that this roster declares")
	f.StringVar(&in.About, "about", "", "what it is for")
	return c
}

func (a *app) storeList() *cobra.Command {
	return list(a, listing[client.Store]{
		command: &cobra.Command{Use: "list", Short: "List the stores, with who may use them, who does, and what is missing", Example: "  vigila store list\n  vigila store list --search harbour"},
		none:    "No store matches.",
		first:   "No store is known. The first: vigila store add NAME URL --mount secret --token-file FILE",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Store, int, error) {
			r, err := conn.ListStoresWithResponse(ctx, &client.ListStoresParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Store) {
			rows := [][]cell{{{"STORE", "soft"}, {"WHERE", "soft"}, {"FOR", "soft"}, {"USED BY", "soft"}, {"VALUES", "soft"}, {"LOOKED AT", "soft"}}}
			for _, s := range items {
				where := map[string]string{"kv": pick(s.Cluster != "", "the lookout of "+s.Cluster, s.Url), "namespace": s.Cluster + "/" + s.Namespace, "files": strings.TrimSuffix(s.Repo+"/"+s.Directory, "/")}[s.Form]
				by := pick(len(s.UsedBy) == 0, "nobody", few(s.UsedBy))
				looked := cell{ago(s.Looked), ""}
				if s.Problem != "" {
					looked = cell{"can't be read", "failing"}
				}
				missing := plain(pick(len(s.UsedBy) == 0, "none used", "all there"))
				if s.Missing > 0 {
					missing = cell{fmt.Sprintf("▲ %d missing", s.Missing), "behind"}
				}
				rows = append(rows, []cell{{s.Name, "bold"}, plain(where), plain(storeFor(s)), plain(by), missing, looked})
			}
			p.table(rows)
			for _, s := range items {
				if s.Problem != "" {
					p.line("%s", s.Problem)
				}
			}
		},
	})
}

// storeFor says who may use a store.
func storeFor(s client.Store) string {
	var parts []string
	for _, x := range []struct {
		what string
		of   []string
	}{{"", s.ForWards}, {"owner ", s.ForOwners}, {"in ", s.ForClusters}, {"roster ", s.ForRosters}} {
		if len(x.of) > 0 {
			parts = append(parts, x.what+few(x.of))
		}
	}
	if len(parts) == 0 {
		return "every ward"
	}
	return strings.Join(parts, ", ")
}

func (a *app) storeTry() *cobra.Command {
	return &cobra.Command{
		Use: "try NAME", Short: "Sign in to a store, and look at everything that wards use of it, now", Example: "  vigila store try harbour",
		Args: exactly(1, "the name of a store"), ValidArgsFunction: a.first(storeNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.TryStoreWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s answers; what wards use of it is being looked at.", args[0])
			return nil
		}),
	}
}

func (a *app) storePushes() *cobra.Command {
	var fresh bool
	c := &cobra.Command{
		Use: "pushes NAME", Short: "Show how a store tells of changes, so that another value arrives at once",
		Long: `Show how a store tells of changes: the address, whether there is a key, and when the last one was taken. With pushes another value is seen
at once; without them the store is looked at as often as it was added with (--every). --new-key makes the key and shows it this once; the
one before it is not taken any more. Whatever tells of changes sends the key as a header, whatever else it sends.`,
		Example: "  vigila store pushes harbour\n  vigila store pushes harbour --new-key", Args: exactly(1, "the name of a store"), ValidArgsFunction: a.first(storeNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if fresh {
				r, err := conn.MakeStorePushKeyWithResponse(c.Context(), args[0])
				if err := conn.Check(r, err); err != nil {
					return err
				}
				return a.showPushKey(c, conn, args[0], "change", r.JSON200)
			}
			r, err := conn.GetStorePushesWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			return a.showPushes(c, conn, args[0], "store", r.JSON200)
		}),
	}
	c.Flags().BoolVar(&fresh, "new-key", false, "make the key that is sent with them, in place of the one before")
	return a.reading(c)
}

func (a *app) storeRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a store that no ward refers to; its values stay in it", Example: "  vigila store remove harbour",
		Args: exactly(1, "the name of a store"), ValidArgsFunction: a.first(storeNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RemoveStoreWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is forgotten.", args[0])
			return nil
		}),
	}
}

func storeNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListStoresWithResponse(ctx, &client.ListStoresParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, s := range r.JSON200.Items {
		out = append(out, s.Name)
	}
	return out
}

func (a *app) secrets() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "See which secret values wards refer to, what is missing, and set one",
		Long: `A Secret in a repository holds references in place of values: secret://STORE/PATH#KEY. Here is what wards refer to and whether it is
there; values are never shown.`,
		Example: "  vigila secret list --missing\n  vigila secret set harbour/fare-gate#password"}
	c.AddCommand(a.secretList(), a.secretSet())
	return c
}

func (a *app) secretList() *cobra.Command {
	var missing bool
	var store string
	c := list(a, listing[client.Secret]{
		command:  &cobra.Command{Use: "list", Short: "List the secret references that wards declare, what is missing first", Example: "  vigila secret list\n  vigila secret list --missing\n  vigila secret list --store harbour --search fare-gate"},
		none:     "No such reference.",
		narrowed: func() bool { return missing || store != "" },
		first:    "No ward refers to a secret value. A Secret does with secret://STORE/PATH#KEY in place of a value.",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Secret, int, error) {
			r, err := conn.ListSecretsWithResponse(ctx, &client.ListSecretsParams{Search: f.search, Missing: missing, Store: store, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Secret) {
			rows := [][]cell{{{"REFERENCE", "soft"}, {"VALUE", "soft"}, {"REFERRED TO BY", "soft"}}}
			for _, s := range items {
				value := cell{s.Says, ""}
				switch {
				case s.NeedsYou:
					value = cell{"▲ " + s.Says, "behind"}
				case s.Says == "unknown":
					value = cell{"? not known", "soft"}
				case s.Reason != "":
					value = cell{"? set when last read", "soft"}
				}
				rows = append(rows, []cell{{s.Reference, "bold"}, value, plain(few(s.ObjectsUsing))})
			}
			p.table(rows)
			told := map[string]bool{}
			for _, s := range items {
				if s.Reason != "" && !told[s.Reason] {
					told[s.Reason] = true
					p.line("%s", s.Reason)
				}
			}
			for _, s := range items {
				if s.Says == "missing" && s.SetBy != "" {
					p.line("The first: %s", s.SetBy)
					break
				}
				if s.Says == "missing" {
					key := pick(s.Key == "", s.Reference+"#KEY", s.Reference)
					p.line("Set the first: vigila secret set %s", key)
					break
				}
			}
		},
	})
	c.Flags().BoolVar(&missing, "missing", false, "only those that have no value")
	c.Flags().StringVar(&store, "store", "", "only those of one store")
	_ = c.RegisterFlagCompletionFunc("store", a.complete(storeNames)) // never fails: the flag is there
	return c
}

func (a *app) secretSet() *cobra.Command {
	return &cobra.Command{
		Use: "set STORE/PATH#KEY", Short: "Set a secret value in its store: asked for without echo, or read from standard input",
		Long: `Set a secret value in its store. On a terminal it is asked for, twice and without echo; else it is all of standard input, as it is, but for
one line break at its end. Other keys at the path stay as they are. Who set it is written into the logbooks of the wards that refer to
it, and never the value; those wards are behind then, and sync as they do.`,
		Example: `  vigila secret set harbour/fare-gate#password
  openssl rand -base64 24 | vigila secret set harbour/fare-gate#password`,
		Args: exactly(1, "a reference, STORE/PATH#KEY"), ValidArgsFunction: a.first(missingSecrets),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			value, err := readSecret(c.InOrStdin(), c.ErrOrStderr(), args[0])
			if err != nil {
				return err
			}
			r, err := conn.SetSecretWithResponse(c.Context(), client.SetSecret{Reference: args[0], Value: value})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if by := r.JSON200.UsedBy; len(by) > 0 {
				p.line("%s is set. %s %s to it.", args[0], few(by), pick(len(by) == 1, "refers", "refer"))
			} else {
				p.line("%s is set. No ward refers to it yet: secret://%s", args[0], args[0])
			}
			return nil
		}),
	}
}

// readSecret asks for a value where there is somebody to ask, and reads all of standard input else.
func readSecret(in io.Reader, told io.Writer, of string) (string, error) {
	file, ok := in.(*os.File)
	if !ok || !term.IsTerminal(int(file.Fd())) {
		b, err := io.ReadAll(io.LimitReader(in, 2<<20))
		if err != nil {
			return "", err
		}
		return string(bytes.TrimSuffix(bytes.TrimSuffix(b, []byte("\n")), []byte("\r"))), nil
	}
	var typed [2]string
	for i, ask := range []string{"Value of " + of + ": ", "The same again: "} {
		fmt.Fprint(told, ask)
		b, err := term.ReadPassword(int(file.Fd()))
		fmt.Fprintln(told)
		if err != nil {
			return "", err
		}
		typed[i] = string(b)
	}
	if typed[0] != typed[1] {
		return "", &Exit{ExitFailed, "the two are not the same; nothing was set"}
	}
	return typed[0], nil
}

func missingSecrets(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListSecretsWithResponse(ctx, &client.ListSecretsParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, s := range r.JSON200.Items {
		if s.Key != "" {
			out = append(out, s.Reference)
		}
	}
	return out
}
