package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"vigila.dev/vigila/internal/client"
)

// pageFlags search and page a list.
type pageFlags struct {
	search      string
	limit, page int
}

func (f *pageFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.search, "search", "", "words that must all be somewhere in it")
	c.Flags().IntVar(&f.limit, "limit", 100, "how many on a page, 1 to 1000")
	c.Flags().IntVar(&f.page, "page", 1, "which page")
}

func (f *pageFlags) offset() int { return (f.page - 1) * f.limit }

// pageAsked refuses pages that there can't be.
func pageAsked(page, limit int) error {
	switch {
	case limit < 1 || limit > 1000:
		return usage("--limit %d: a page has 1 to 1000", limit)
	case page < 1:
		return usage("--page %d: the first is 1", page)
	}
	return nil
}

// pageOf tells which page it is and how to come to the next; "" where there is one alone.
func pageOf(page, limit, total int) string {
	pages := (total + limit - 1) / limit
	switch {
	case pages < 2:
		return ""
	case page < pages:
		return fmt.Sprintf(". Page %d of %d; the next: --page %d", page, pages, page+1)
	}
	return fmt.Sprintf(". Page %d of %d, the last", page, pages)
}

// onPage refuses a page behind the last.
func onPage(page, limit, total int) error {
	if pages := (total + limit - 1) / limit; page > 1 && page > pages {
		return usage("--page %d: there %s", page, pick(pages < 2, "is one page alone", fmt.Sprintf("are %d pages", pages)))
	}
	return nil
}

func (a *app) repo() *cobra.Command {
	c := &cobra.Command{Use: "repo", Short: "Add, list and remove repositories, of git and of charts", Example: "  vigila repo list"}
	c.AddCommand(a.repoAdd(), a.repoList(), a.repoLook(), a.repoRemove(), a.repoPushes(), a.repoHost(), a.repoNotices(), a.repoApprovals())
	return c
}

func (a *app) repoAdd() *cobra.Command {
	var in client.AddRepo
	var follow []string
	files := map[string]*string{"password-file": &in.Password, "key-file": &in.Key, "passphrase-file": &in.Passphrase, "sign-key-file": &in.SignKey, "ca-file": &in.Ca, "signers-file": &in.Signers, "known-hosts-file": &in.KnownHosts}
	help := map[string]string{"password-file": "file with the password or token; - reads standard input", "key-file": "file with the private SSH key", "passphrase-file": "file with the key's passphrase", "sign-key-file": "file with a private SSH key, without a passphrase, that signs the commits that are made here",
		"ca-file": "certificates (PEM) that the server may be signed with, beside the system's", "signers-file": "who may sign commits: SSH public keys and armored OpenPGP keys; unsigned commits are not applied then",
		"known-hosts-file": "lines of a known_hosts file"}
	names := map[string]*string{}
	c := &cobra.Command{
		Use: "add NAME URL", Short: "Add a repository or change one; it is read before it is kept",
		Long: `Add a repository or change one; it is read before it is kept. Over HTTPS it may need a user and a password or token,
over SSH a key; these are stored encrypted and never shown again, and stay with the address that they were given for.
With --charts, or an oci:// address, it is a repository of packaged charts.

The host of an SSH address has to be known: the first try shows the fingerprint of its key, and --trust takes it.`,
		Example: `  vigila repo add moorings https://git.brindle.example/moorings.git --user vigila --password-file token.txt
  vigila repo add moorings ssh://git@git.brindle.example/moorings.git --key-file id_ed25519 --trust SHA256:…
  vigila repo add charts https://charts.brindle.example --charts
  vigila repo add registry oci://registry.brindle.example/charts --user vigila --password-file token.txt`,
		Args: exactly(2, "a name and an address"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in.Name, in.Url = args[0], args[1]
			for flag, into := range files {
				if name := *names[flag]; name != "" {
					b, err := readFile(name, c.InOrStdin())
					if err != nil {
						return err
					}
					if *into = string(b); flag == "password-file" || flag == "passphrase-file" {
						*into = strings.TrimSpace(*into)
					}
				}
			}
			for _, f := range follow {
				in.Follow = append(in.Follow, client.AddRepoFollow(f))
			}
			r, err := conn.AddRepoWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			what := "it has no commits yet"
			switch x := r.JSON200; {
			case x.Charts && len(x.Branches) > 0:
				what = "charts: " + few(x.Branches)
			case x.Charts:
				what = "its charts are found by name"
			case len(x.Branches) > 0:
				what = "branches: " + few(x.Branches)
			}
			p := a.printer(c.OutOrStdout())
			p.line("%s is known now; %s", args[0], what)
			if r.JSON200.Warning != "" {
				p.line("Mind: %s", r.JSON200.Warning)
			}
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&in.User, "user", "", "user name for basic sign-in")
	f.BoolVar(&in.Bearer, "bearer", false, "the password is a token that is sent as a bearer token")
	f.BoolVar(&in.Charts, "charts", false, "a repository of packaged charts (index.yaml over HTTP, or oci://)")
	f.StringVar(&in.Trust, "trust", "", "fingerprint of the SSH host's key to trust, SHA256:…")
	f.StringSliceVar(&follow, "follow", nil, "what is followed beside files: submodules, large-files")
	for flag := range files {
		names[flag] = f.String(flag, "", help[flag])
	}
	return c
}

// few are some of many names.
func few(names []string) string {
	if len(names) > 8 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:8], ", "), len(names)-8)
	}
	return strings.Join(names, ", ")
}

func (a *app) repoList() *cobra.Command {
	return list(a, listing[client.Repo]{
		command: &cobra.Command{Use: "list", Short: "List the known repositories", Example: "  vigila repo list\n  vigila repo list --search charts"},
		none:    "No repository matches.", first: "No repositories yet. Add one: vigila repo add NAME URL",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Repo, int, error) {
			r, err := conn.ListReposWithResponse(ctx, &client.ListReposParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Repo) {
			rows := [][]cell{{{"REPOSITORY", "soft"}, {"HOLDS", "soft"}, {"ADDRESS", "soft"}, {"WARDS", "soft"}, {"ROSTERS", "soft"}, {"LAST LOOK", "soft"}}}
			for _, x := range items {
				look := known(x.Repository, "read ")
				if w := wanted(x.WantsApprovals); w != "" {
					look += "; wants " + w
				}
				if x.Warning != "" {
					look += "; " + x.Warning
				}
				rows = append(rows, []cell{{x.Name, "bold"}, plain(pick(x.Charts, "charts", "git")), plain(x.Url), plain(fmt.Sprint(x.Wards)), plain(fmt.Sprint(x.Rosters)), plain(look)})
			}
			p.table(rows)
		},
	})
}

func (a *app) repoLook() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "look NAME", Short: "Look at a repository now", Example: "  vigila repo look moorings", Args: exactly(1, "the name of a repository"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.LookAtRepoWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s: %s", args[0], known(r.JSON200.Repository, "read "))
			if !r.JSON200.Repository.Known {
				return &Exit{Code: ExitFailed}
			}
			return nil
		}),
	})
}

func (a *app) repoRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a repository that no ward uses", Example: "  vigila repo remove moorings", Args: exactly(1, "the name of a repository"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RemoveRepoWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is forgotten.", args[0])
			return nil
		}),
	}
}

func (a *app) repoPushes() *cobra.Command {
	var fresh bool
	c := &cobra.Command{
		Use: "pushes NAME", Short: "Show how a repository's server tells of pushes, so that each is seen at once",
		Long: `Show how a repository's server tells of pushes: the address, whether there is a key that signs them, and when the
last one was taken. With pushes a commit is seen at once; without them the repository is looked at as often as its wards
ask for. --new-key makes the key and shows it this once; the one before it is not taken any more. The webhooks of code
hosts that sign their body with HMAC-SHA256, or send a secret token, are taken as they are: give them the address and the key.`,
		Example: "  vigila repo pushes moorings\n  vigila repo pushes moorings --new-key", Args: exactly(1, "the name of a repository"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			p := a.printer(c.OutOrStdout())
			if fresh {
				return a.newPushKey(c, conn, p, args[0])
			}
			r, err := conn.GetPushesWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p.pushes(args[0], strings.TrimSuffix(conn.Context.URL, "/"), "repo", r.JSON200)
			return nil
		}),
	}
	c.Flags().BoolVar(&fresh, "new-key", false, "make the key that signs them, in place of the one before")
	return a.reading(c)
}

// pushes prints how a server tells of pushes.
// showPushKey shows how somebody tells of each change of something, with a key that is shown this once.
func (a *app) showPushKey(c *cobra.Command, conn *client.Conn, name, change string, x *client.PushKey) error {
	if done, err := a.document(c.OutOrStdout(), x); done {
		return err
	}
	p := a.printer(c.OutOrStdout())
	p.line("Let %s tell of each %s to %s, with this header:", p.paint("bold", name), change, strings.TrimSuffix(conn.Context.URL, "/")+x.Path)
	p.line("\n  Authorization: Bearer %s", x.Key)
	return nil
}

// showPushes shows how somebody tells of changes.
func (a *app) showPushes(c *cobra.Command, conn *client.Conn, name, kind string, x *client.Pushes) error {
	if done, err := a.document(c.OutOrStdout(), x); done {
		return err
	}
	a.printer(c.OutOrStdout()).pushes(name, strings.TrimSuffix(conn.Context.URL, "/"), kind, x)
	return nil
}

func (p *printer) pushes(name, service, kind string, x *client.Pushes) {
	p.line("Pushes to %s are told to %s", p.paint("bold", name), service+x.Path)
	switch {
	case !x.HasKey:
		p.line("None is taken: there is no key that signs them. Make one: vigila %s pushes %s --new-key", kind, name)
	case x.Last.IsZero():
		p.line("There is a key; none has come since the service started.")
	default:
		p.line("The last one came %s.", ago(x.Last))
	}
}

func (a *app) newPushKey(c *cobra.Command, conn *client.Conn, p *printer, repo string) error {
	r, err := conn.MakePushKeyWithResponse(c.Context(), repo)
	if err := conn.Check(r, err); err != nil {
		return err
	}
	if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
		return err
	}
	address := strings.TrimSuffix(conn.Context.URL, "/") + r.JSON200.Path
	p.line("Tell of each push to %s; the signature is the HMAC-SHA256 of the body with this key:", repo)
	p.line("")
	p.line("  %s", r.JSON200.Key)
	p.line("")
	p.line("In a code host's webhook: the address is %s, the secret is the key.", address)
	p.line("As a post-receive hook, or in a pipeline:")
	p.line("")
	p.line("  body='{}'")
	p.line("  sign=$(printf %%s \"$body\" | openssl dgst -sha256 -hmac %s | sed 's/^.* //')", r.JSON200.Key)
	p.line("  curl -fsS -X POST --data \"$body\" -H \"Vigila-Signature: $sign\" %s", address)
	return nil
}

// repoNotices is what repo pushes was called before, when it made a key at each call.
func (a *app) repoNotices() *cobra.Command {
	return &cobra.Command{Use: "notices NAME", Hidden: true, RunE: func(*cobra.Command, []string) error {
		return usage("it is called vigila repo pushes NAME now; --new-key makes a key, as this did at each call")
	}}
}

func (a *app) cluster() *cobra.Command {
	c := &cobra.Command{Use: "cluster", Short: "Add, list, look into and remove clusters", Example: "  vigila cluster list\n  vigila cluster show quay"}
	c.AddCommand(a.clusterAdd(), a.clusterList(), a.clusterShow(), a.clusterOffered(), a.clusterSignIn(), a.clusterKubeconfig(), a.clusterContexts(), a.clusterRemove(), a.clusterRBAC(), a.clusterSchema())
	return c
}

func (a *app) clusterAdd() *cobra.Command {
	var in client.AddCluster
	var file, tokenFile, caFile string
	var by joining
	c := &cobra.Command{
		Use: "add NAME", Short: "Add a cluster or change one",
		Long: `Add a cluster or change one. It is asked for its version before it is kept. It is reached by one of
  a kubeconfig (--kubeconfig, --kube-context): what one context of the file here needs is sent, and stored encrypted; it may
  name no commands, since the service would have to run them;
  a kubeconfig on the service's machine (--service-kubeconfig): its credentials stay there; whoever runs the service says
  which directory it may be in (vigila serve --kubeconfigs);
  the token of a service account (--server, --token-file, --ca-file): it is stored encrypted and never shown again;
  from inside (--in-cluster): the cluster that the service runs in;
  a ward that makes it, of Cluster API objects (--from): the kubeconfig that is written beside them. vigila cluster offered lists them;
  a lookout (--by-lookout): Vigila in the cluster or beside it, which calls this service. It joins with a token that is good once, for
  an hour; a lookout of before is obeyed no more. Nothing outside has to reach the cluster.
With none of them, only labels and links of a known cluster change. vigila cluster rbac prints what Vigila has to be
allowed to do.`,
		Example: `  vigila cluster add quay --kubeconfig ~/.kube/config --kube-context quay --label tier=rehearsal
  vigila cluster add skerry --server https://skerry.brindle.example:6443 --token-file token --ca-file ca.pem
  vigila cluster add skerry --label tier=production
  vigila cluster add islet --from islet@quay
  vigila cluster add skerry --by-lookout --label tier=production
  vigila cluster add skerry --by-lookout --image registry.brindle.example/vigila:1 | kubectl apply -f -`,
		Args: exactly(1, "a name"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in.Name = args[0]
			if by.on {
				return a.join(c, conn, in, by)
			}
			if c.Flags().Changed("only-namespace") {
				in.OnlyNamespaces = by.namespaces
			}
			for name, into := range map[string]*string{tokenFile: &in.Token, caFile: &in.Ca} {
				if name != "" {
					b, err := readFile(name, c.InOrStdin())
					if err != nil {
						return err
					}
					*into = strings.TrimSpace(string(b))
				}
			}
			if file == "" && in.KubeconfigFile == "" && in.Server == "" && !in.InCluster && in.MadeByWard == "" && !c.Flags().Changed("label") && !c.Flags().Changed("link") && !c.Flags().Changed("only-namespace") {
				if os.Getenv("KUBECONFIG") == "" {
					return usage("vigila cluster add needs --kubeconfig FILE, --server URL with --token-file, --in-cluster, or --by-lookout")
				}
				file = os.Getenv("KUBECONFIG")
			}
			if file != "" {
				text, err := oneContext(file, in.Context)
				if err != nil {
					return err
				}
				in.Kubeconfig, in.Context = text, ""
			}
			r, err := conn.AddClusterWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is known now: %s at %s", args[0], r.JSON200.Version, r.JSON200.Server)
			return nil
		}),
	}
	by.flags(c)
	f := c.Flags()
	f.StringVar(&file, "kubeconfig", "", "a file here (default: KUBECONFIG)")
	f.StringVar(&in.KubeconfigFile, "service-kubeconfig", "", "a file on the service's machine, in the directory of vigila serve --kubeconfigs")
	f.StringVar(&in.Context, "kube-context", "", "context in it (default: its current one); vigila cluster contexts lists them")
	f.StringVar(&in.Server, "server", "", "address of the API server")
	f.StringVar(&tokenFile, "token-file", "", "file with the token of a service account; - reads standard input")
	f.StringVar(&caFile, "ca-file", "", "certificates (PEM) of the API server")
	f.BoolVar(&in.InCluster, "in-cluster", false, "the cluster that the service runs in")
	f.StringVar(&in.MadeByWard, "from", "", "the ward that makes it; nothing else is given then")
	f.StringVar(&in.About, "about", "", "what it is, in a sentence")
	f.StringToStringVar(&in.Labels, "label", nil, "labels that wards choose by, such as tier=rehearsal")
	f.StringToStringVar(&in.Links, "link", nil, "links shown with it, such as Console=https://…")
	return c
}

func (a *app) clusterList() *cobra.Command {
	return list(a, listing[client.Cluster]{
		command: &cobra.Command{Use: "list", Short: "List the known clusters", Example: "  vigila cluster list\n  vigila cluster list --search production"},
		none:    "No cluster matches.", first: "No clusters yet. Add one: vigila cluster add NAME --kubeconfig FILE",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Cluster, int, error) {
			r, err := conn.ListClustersWithResponse(ctx, &client.ListClustersParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Cluster) {
			rows := [][]cell{{{"CLUSTER", "soft"}, {"VERSION", "soft"}, {"SERVER", "soft"}, {"LABELS", "soft"}, {"WARDS", "soft"}, {"LIVE", "soft"}}}
			for _, x := range items {
				live := "watched"
				switch {
				case x.By == client.ClusterByLookout && x.Lookout.Here:
					live = "by its lookout" + pick(x.Lookout.Older, ", which is older than the service", "") + pick(x.Lookout.Refused != "", "; somebody was refused", "")
				case x.By == client.ClusterByLookout && x.Lookout.WaitsToJoin:
					live = "? waits for its lookout"
				case x.By == client.ClusterByLookout:
					live = "? its lookout is away, heard of " + ago(x.Lookout.Heard) + "; it goes on by itself"
				case !x.Live.Known:
					live = known(x.Live, "heard ")
				}
				rows = append(rows, []cell{{x.Name, "bold"}, plain(x.Version), plain(x.Server), plain(pairs(x.Labels)), plain(fmt.Sprint(x.Wards)), plain(live)})
			}
			p.table(rows)
		},
	})
}

func (a *app) clusterContexts() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "contexts FILE", Short: "List the contexts of a kubeconfig", Example: "  vigila cluster contexts ~/.kube/config", Args: exactly(1, "the path of a kubeconfig"),
		RunE: func(c *cobra.Command, args []string) error {
			cfg, err := kubeconfigOf(args[0])
			if err != nil {
				return err
			}
			list := client.ContextList{Items: slices.Sorted(maps.Keys(cfg.Contexts))}
			if done, err := a.document(c.OutOrStdout(), &list); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			for _, x := range list.Items {
				p.line("%s", x)
			}
			return nil
		},
	})
}

// kubeconfigOf reads a kubeconfig, or several as KUBECONFIG lists them.
func kubeconfigOf(files string) (*clientcmdapi.Config, error) {
	rules := &clientcmd.ClientConfigLoadingRules{Precedence: filepath.SplitList(files)}
	for _, f := range rules.Precedence {
		if _, err := os.Stat(f); err != nil {
			return nil, fmt.Errorf("kubeconfig %s can't be read: %w", f, errors.Unwrap(err))
		}
	}
	cfg, err := rules.Load()
	if err != nil {
		return nil, fmt.Errorf("kubeconfig %s: %w", files, err)
	}
	return cfg, nil
}

// oneContext is a kubeconfig with one context and what that needs, files that it names included.
func oneContext(files, context string) (string, error) {
	cfg, err := kubeconfigOf(files)
	if err != nil {
		return "", err
	}
	names := strings.Join(slices.Sorted(maps.Keys(cfg.Contexts)), ", ")
	switch {
	case context != "" && cfg.Contexts[context] == nil:
		return "", usage("kubeconfig %s has no context %q; it has: %s", files, context, names)
	case context != "":
		cfg.CurrentContext = context
	case cfg.CurrentContext == "":
		return "", usage("kubeconfig %s says no current context; its contexts are: %s. Choose one with --kube-context", files, names)
	}
	if err := clientcmdapi.MinifyConfig(cfg); err != nil {
		return "", fmt.Errorf("kubeconfig %s: %w", files, err)
	}
	if err := clientcmdapi.FlattenConfig(cfg); err != nil {
		return "", fmt.Errorf("kubeconfig %s: %w", files, err)
	}
	for _, u := range cfg.AuthInfos {
		if u.TokenFile == "" {
			continue
		}
		b, err := os.ReadFile(u.TokenFile)
		if err != nil {
			return "", fmt.Errorf("kubeconfig %s: %w", files, err)
		}
		u.Token, u.TokenFile = strings.TrimSpace(string(b)), ""
	}
	text, err := clientcmd.Write(*cfg)
	return string(text), err
}

func (a *app) clusterRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a cluster that no ward is kept in", Example: "  vigila cluster remove quay", Args: exactly(1, "the name of a cluster"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RemoveClusterWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is forgotten.", args[0])
			return nil
		}),
	}
}

func (a *app) clusterSchema() *cobra.Command {
	return &cobra.Command{
		Use: "schema NAME", Short: "Print how a cluster describes its kinds, for vigila check without it", Example: "  vigila cluster schema skerry > skerry.json\n  vigila check --schema skerry.json services/",
		Args: exactly(1, "the name of a cluster"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.GetClusterSchemaWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			_, err = c.OutOrStdout().Write(r.Body)
			return err
		}),
	}
}

func (a *app) clusterRBAC() *cobra.Command {
	var namespaces, impersonate []string
	var readOnly bool
	c := &cobra.Command{
		Use: "rbac", Short: "Print the Kubernetes manifests that let Vigila do what it needs, and no more",
		Long: `Print the Kubernetes manifests (ServiceAccount, roles and bindings) that let Vigila do what it needs. Without flags it may
keep anything anywhere. --namespace limits it to some namespaces; --read-only lets it look and compare, and change
nothing; --as lets it act as service accounts, for wards with into.as, and takes its own right to change things away
there: such a ward can do no more than its account may.`,
		Example: "  vigila cluster rbac | kubectl apply -f -\n  vigila cluster rbac --namespace berth-planner --namespace fare-gate\n  vigila cluster rbac --as berth-planner/deployer", Args: noArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			for _, x := range impersonate {
				if ns, name, ok := strings.Cut(x, "/"); !ok || ns == "" || name == "" {
					return usage("--as is %q; write NAMESPACE/ACCOUNT", x)
				}
			}
			fmt.Fprint(c.OutOrStdout(), rbac("vigila", namespaces, impersonate, readOnly))
			return nil
		},
	}
	c.Flags().StringSliceVar(&namespaces, "namespace", nil, "only these namespaces")
	c.Flags().StringSliceVar(&impersonate, "as", nil, "service accounts that wards act as, as NAMESPACE/ACCOUNT")
	c.Flags().BoolVar(&readOnly, "read-only", false, "look and compare only")
	return c
}

// rbac writes the manifests of cluster rbac; in is the namespace of the service account.
// Source: https://kubernetes.io/docs/reference/access-authn-authz/rbac/
func rbac(in string, namespaces, impersonate []string, readOnly bool) string {
	var b strings.Builder
	doc := func(format string, args ...any) { fmt.Fprintf(&b, "---\n"+format, args...) }
	doc("apiVersion: v1\nkind: Namespace\nmetadata: {name: %s}\n", in)
	doc("apiVersion: v1\nkind: ServiceAccount\nmetadata: {name: vigila, namespace: %s}\n", in)
	const look = "  # what is kept, and what it makes, is watched\n  - {apiGroups: [\"*\"], resources: [\"*\"], verbs: [get, list, watch]}\n"
	const change = "  # it is applied and removed\n  - {apiGroups: [\"*\"], resources: [\"*\"], verbs: [create, patch, delete]}\n"
	rules := look
	if !readOnly && len(impersonate) == 0 {
		rules += change
	}
	bind := func(kind, namespace, name string) {
		at := ""
		if namespace != "" {
			at = ", namespace: " + namespace
		}
		doc("apiVersion: rbac.authorization.k8s.io/v1\nkind: %s\nmetadata: {name: %s%s}\nrules:\n%s", kind, name, at, rules)
		doc("apiVersion: rbac.authorization.k8s.io/v1\nkind: %sBinding\nmetadata: {name: %s%s}\nroleRef: {apiGroup: rbac.authorization.k8s.io, kind: %s, name: %s}\nsubjects: [{kind: ServiceAccount, name: vigila, namespace: %s}]\n", kind, name, at, kind, name, in)
	}
	if len(namespaces) == 0 {
		bind("ClusterRole", "", "vigila")
	} else {
		for _, n := range namespaces {
			bind("Role", n, "vigila")
		}
		rules = "  # namespaces are looked up by name; how volumes are bound follows from their classes\n  - {apiGroups: [\"\"], resources: [namespaces], verbs: [get, list, watch]}\n  - {apiGroups: [storage.k8s.io], resources: [storageclasses], verbs: [get, list]}\n"
		bind("ClusterRole", "", "vigila-namespaces")
	}
	byNamespace := map[string][]string{}
	for _, x := range impersonate {
		ns, name, _ := strings.Cut(x, "/")
		byNamespace[ns] = append(byNamespace[ns], name)
	}
	spaces := make([]string, 0, len(byNamespace))
	for ns := range byNamespace {
		spaces = append(spaces, ns)
	}
	slices.Sort(spaces)
	for _, ns := range spaces {
		rules = fmt.Sprintf("  # wards with into.as act as these, and can do no more than they may\n  - {apiGroups: [\"\"], resources: [serviceaccounts], resourceNames: [%s], verbs: [impersonate]}\n", strings.Join(byNamespace[ns], ", "))
		bind("Role", ns, "vigila-acts")
	}
	if len(impersonate) > 0 {
		rules = "  # the groups that every service account is in\n  - {apiGroups: [\"\"], resources: [groups], resourceNames: [\"system:serviceaccounts\", \"system:authenticated\""
		for _, ns := range spaces {
			rules += fmt.Sprintf(", \"system:serviceaccounts:%s\"", ns)
		}
		rules += "], verbs: [impersonate]}\n"
		bind("ClusterRole", "", "vigila-acts")
	}
	return b.String()
}
