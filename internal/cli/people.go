package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) signIn() *cobra.Command {
	var name string
	c := &cobra.Command{
		Use:   "sign-in ADDRESS|LINK",
		Short: "Sign in to a service, in a browser or with a link that has a token",
		Long: `Sign in to a service. With its address alone a code is shown: whoever is signed in to the console opens the page
beside it, anywhere, and lets this command line in as themselves. With a link that vigila serve or vigila token make
printed, its token signs in.

What is kept is in a file that only you can read (VIGILA_CONTEXTS, or vigila/contexts.yaml in your configuration
directory). Without a file: set VIGILA_URL and VIGILA_TOKEN.`,
		Example: "  vigila sign-in https://vigila.brindle.example\n  vigila sign-in 'http://127.0.0.1:7740/#sign-in=vigila_…'",
		Args:    exactly(1, "the address of the service, or a sign-in link in quotes"),
		RunE: func(c *cobra.Command, args []string) error {
			x, err := client.Context{}, error(nil)
			if strings.Contains(args[0], "#") {
				if x, err = client.ParseLink(args[0]); err != nil {
					return &Exit{ExitUsage, err.Error()}
				}
			} else if x, err = client.LetIn(c.Context(), args[0], func(link, code string, until time.Time) {
				fmt.Fprintf(c.ErrOrStderr(), "To let this command line in, open\n\n  %s\n\nand see that it shows %s. It waits until %s.\n", link, code, until.Local().Format("15:04"))
			}); errors.Is(err, client.ErrNoAddress) {
				return &Exit{ExitUsage, err.Error()}
			} else if err != nil {
				return err
			}
			if name != "" {
				x.Name = name
			}
			conn, err := client.New(x)
			if err != nil {
				return err
			}
			a.warn(conn)
			r, err := conn.GetMeWithResponse(c.Context())
			if err := conn.Check(r, err); err != nil {
				return err
			}
			all, err := client.Load()
			if err != nil {
				return err
			}
			all.Put(x)
			if err := all.Save(); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Signed in to %s as %s (%s). Next: vigila ward list\n", x.URL, r.JSON200.Name, r.JSON200.Role)
			if text := until(r.JSON200); text != "" {
				fmt.Fprintln(c.ErrOrStderr(), text)
			}
			return nil
		},
	}
	c.Flags().StringVar(&name, "name", "", "what to call this service (default: its host)")
	return c
}

func (a *app) signOut() *cobra.Command {
	return &cobra.Command{
		Use: "sign-out", Short: "Sign out of the service, here and there",
		Long: `Sign out of the service: the session ends there, and what was kept of it here is forgotten. A token that signs in
is only forgotten here; vigila token end ends it for everybody who has it.`,
		Example: "  vigila sign-out\n  vigila sign-out --context vigila.brindle.example",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			conn, err := client.Dial(a.context)
			if err != nil {
				return err
			}
			if conn.Context.Name == "environment" {
				return usage("VIGILA_URL and VIGILA_TOKEN sign in; unset them")
			}
			me, err := conn.GetMeWithResponse(c.Context())
			ended := "The session had ended already"
			if err == nil && me.JSON200 != nil {
				ended = "Its token is taken further on by whoever else has it: vigila token end " + me.JSON200.Name
				if me.JSON200.Session != "" {
					r, err := conn.CloseSessionWithResponse(c.Context())
					if err := conn.Check(r, err); err != nil {
						return err
					}
					ended = "The session has ended"
				}
			} else if err != nil { // what is not answered is still forgotten here
				ended = "The service does not answer, so the session goes on there until it ends by itself: " + err.Error()
			}
			all, err := client.Load()
			if err != nil {
				return err
			}
			all.Forget(conn.Context.Name)
			if err := all.Save(); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Signed out of %s. %s.\n", conn.Context.URL, ended)
			return nil
		},
	}
}

func (a *app) sessions() *cobra.Command {
	c := &cobra.Command{Use: "session", Short: "See who is signed in, and sign somebody out",
		Long: `See who is signed in, and sign somebody out. An admin sees everybody, others see their own sessions.

A session ends by itself when nobody uses it (vigila serve --session-idle), and at its time (--session-for). Whoever
lost a role or a group at the provider keeps what they had until then, unless the session is ended here; what changes
in the roles themselves (vigila provider add) is so at once.`,
		Example: "  vigila session list\n  vigila session end 3f9c02ab41d7"}
	c.AddCommand(a.sessionList(), &cobra.Command{
		Use: "end SESSION", Short: "Sign somebody out at once", Example: "  vigila session end 3f9c02ab41d7", Args: exactly(1, "the session, as vigila session list calls it"),
		ValidArgsFunction: a.first(sessionIDs),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.EndSessionWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Session %s has ended.\n", args[0])
			return nil
		}),
	})
	return c
}

func (a *app) sessionList() *cobra.Command {
	return list(a, listing[client.Session]{
		command: &cobra.Command{Use: "list", Short: "List who is signed in, whoever was here last first", Example: "  vigila session list\n  vigila session list --search operator"},
		none:    "Nobody is signed in by a session; tokens are in vigila token list.",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Session, int, error) {
			r, err := conn.ListSessionsWithResponse(ctx, &client.ListSessionsParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Session) {
			rows := [][]cell{{{"SESSION", "soft"}, {"WHO", "soft"}, {"ROLE", "soft"}, {"THROUGH", "soft"}, {"FROM", "soft"}, {"SINCE", "soft"}, {"LAST HERE", "soft"}, {"ENDS", "soft"}}}
			for _, x := range items {
				who := cell{x.Name, "bold"}
				if x.You {
					who.text += " (you)"
				}
				rows = append(rows, []cell{plain(x.Id), who, plain(string(x.Role)), plain(x.Through), plain(x.Address), plain(ago(x.Made)), plain(ago(x.Used)), plain("in " + span(time.Until(x.Expires).Round(time.Minute)))})
			}
			p.table(rows)
		},
	})
}

func (a *app) providers() *cobra.Command {
	c := &cobra.Command{Use: "provider", Short: "Say by which providers people sign in, and which role each has; needs an admin's",
		Long: `Say by which providers people sign in (OpenID Connect), and which role each has by it. Who is in none of the groups,
and is not named, may nothing and is told so.`,
		Example: "  vigila provider add brindle https://sign-in.brindle.example --client vigila --secret-file secret.txt --operator group:harbour-ops --reader everybody\n  vigila provider list"}
	c.AddCommand(a.providerAdd(), a.providerList(), &cobra.Command{
		Use: "remove NAME", Short: "Forget a provider; who signed in by it is signed out", Example: "  vigila provider remove brindle", Args: exactly(1, "the name of the provider"),
		ValidArgsFunction: a.first(providerNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RemoveProviderWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "Nobody signs in by %s any more, and who had is signed out.\n", args[0])
			return nil
		}),
	})
	return c
}

func (a *app) providerAdd() *cobra.Command {
	var in client.AddProvider
	var secret, ca string
	c := &cobra.Command{
		Use: "add NAME ISSUER", Short: "Add a provider, or change one",
		Long: `Add a provider, or change one, once it has said where it is asked (OpenID Connect Discovery). At the provider, Vigila
is a client whose redirect URI is the address of the console and /sign-in/back; this command prints it.

Roles are given to group:NAME (a group that the provider lists), user:NAME (somebody, by the name that the provider
gives them) or everybody. Who has several has the highest:
  reader     sees everything and changes nothing
  operator   does all that wards, rosters, repositories and clusters need
  admin      makes and ends tokens, and says who signs in, beside that
They are given anew at each call; what is left out is taken away, but for the secret.`,
		Example: `  vigila provider add brindle https://sign-in.brindle.example --client vigila --secret-file secret.txt --admin user:admin@brindle.example --operator group:harbour-ops --reader group:ticketing
  vigila provider add brindle https://sign-in.brindle.example --client vigila --without-secret --groups-claim roles --reader everybody`,
		Args: exactly(2, "a name for the provider, and its address as it calls itself"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in.Name, in.Issuer = args[0], args[1]
			if in.Console == "" {
				in.Console = conn.Context.URL
			}
			if err := readFiles(c, map[string]*string{secret: &in.Secret, ca: &in.Ca}); err != nil {
				return err
			}
			in.Secret = strings.TrimSpace(in.Secret)
			r, err := conn.AddProviderWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			p.line("People sign in by %s now, at %s. The provider must know this redirect URI:", args[0], r.JSON200.Console)
			p.line("")
			p.line("  %s", r.JSON200.SendsBackTo)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&in.ClientId, "client", "", "what the provider knows Vigila by (client id)")
	f.StringVar(&secret, "secret-file", "", "file with the client's secret; - reads standard input; left out, it stays as it was")
	f.BoolVar(&in.WithoutSecret, "without-secret", false, "Vigila is a public client there")
	f.StringVar(&ca, "ca-file", "", "certificates (PEM) that the provider may be signed with, in place of the system's")
	f.StringVar(&in.Console, "console", "", "where browsers find this service (default: where this command line does)")
	f.StringSliceVar(&in.Scopes, "scope", nil, "scope to ask for beside openid, profile and email; may be given several times")
	f.StringVar(&in.NameClaim, "name-claim", "", "claim that people are called by (default: email where it is verified, or else sub)")
	f.StringVar(&in.GroupsClaim, "groups-claim", "groups", "claim that lists their groups")
	f.StringSliceVar(&in.Admins, "admin", nil, "who is an admin; may be given several times")
	f.StringSliceVar(&in.Operators, "operator", nil, "who is an operator; may be given several times")
	f.StringSliceVar(&in.Readers, "reader", nil, "who is a reader; may be given several times")
	f.StringVar(&in.About, "about", "", "what it is called beside its name where people sign in")
	return c
}

func (a *app) providerList() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "list", Short: "List the providers, and who has which role by them", Example: "  vigila provider list", Args: cobra.NoArgs,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, _ []string) error {
			r, err := conn.ListProvidersWithResponse(c.Context())
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if len(r.JSON200.Items) == 0 {
				p.line("Nobody signs in by a provider; tokens alone sign in. The first: vigila provider add NAME ISSUER --client ID")
				return nil
			}
			for i, x := range r.JSON200.Items {
				if i > 0 {
					p.line("")
				}
				p.line("%s  %s", p.paint("bold", x.Name), x.Issuer)
				if x.About != "" {
					p.line("  %s", x.About)
				}
				p.line("  client %s, sends people back to %s", x.ClientId, x.SendsBackTo)
				for _, of := range []struct {
					role string
					who  []string
				}{{"admin", x.Admins}, {"operator", x.Operators}, {"reader", x.Readers}} {
					if len(of.who) > 0 {
						p.line("  %-9s %s", of.role, strings.Join(of.who, ", "))
					}
				}
			}
			return nil
		}),
	})
}
