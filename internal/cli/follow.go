package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

func (a *app) follows() *cobra.Command {
	c := &cobra.Command{Use: "follow", Short: "See which versions are followed, and why newer ones are not taken",
		Long: `A follow finds the newest version of an image that fits, and writes it to a versions file as a commit. It is declared in a
roster (vigila schema follow prints the format); the registry is added here (vigila registry add).`,
		Example: "  vigila follow list\n  vigila follow show fare-gate"}
	c.AddCommand(a.followList(), a.followShow(), a.followLook(), a.followTake())
	return c
}

func (a *app) followList() *cobra.Command {
	return list(a, listing[client.Follow]{
		command: &cobra.Command{Use: "list", Short: "List what is followed, with the version that it is at", Example: "  vigila follow list\n  vigila follow list --search gate"},
		none:    "No follow matches.",
		first:   "Nothing is followed. A follow is declared in a roster; its format: vigila schema follow",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Follow, int, error) {
			r, err := conn.ListFollowsWithResponse(ctx, &client.ListFollowsParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Follow) {
			rows := [][]cell{{{"FOLLOW", "soft"}, {"IMAGE", "soft"}, {"TAKES", "soft"}, {"AT", "soft"}, {"WHAT IS GOING ON", "soft"}}}
			for _, f := range items {
				rows = append(rows, []cell{{f.Name, "bold"}, plain(f.Image), plain(f.Wants), plain(orDash(f.Version)), {visible.Line(f.Says), pick(f.NeedsYou, "failing", "")}})
			}
			p.table(rows)
		},
	})
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func (a *app) followShow() *cobra.Command {
	c := &cobra.Command{
		Use: "show NAME", Short: "Show one follow: its version, what is not taken and why, what the file was at", Example: "  vigila follow show fare-gate",
		Args: exactly(1, "the name of a follow"), ValidArgsFunction: a.first(followNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.GetFollowWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			a.printer(c.OutOrStdout()).follow(r.JSON200)
			return nil
		}),
	}
	return a.reading(c)
}

// follow prints how it is with one.
func (p *printer) follow(f *client.Follow) {
	p.line("%s  %s", p.paint("bold", f.Name), p.paint("soft", fmt.Sprintf("follows %s %s, declared in %s of roster %s", f.Image, f.Wants, f.DeclaredAt, f.Roster)))
	p.line("%s", p.paint(pick(f.NeedsYou, "failing", ""), upper(visible.Line(f.Says))))
	looked := "not looked yet"
	if !f.Looked.IsZero() {
		looked = "looked " + ago(f.Looked)
		if d := time.Until(f.Next); d > 0 {
			looked += ", and again in " + span(d.Round(time.Second))
		}
	}
	p.line("%s", p.paint("soft", fmt.Sprintf("Written to %s in %s %s; %s", f.File, f.Repo, f.Ref, looked)))
	if f.Proposal > 0 {
		p.line("%s", p.paint("soft", fmt.Sprintf("What it would do: vigila propose show %d", f.Proposal)))
	}
	if f.Version != "" {
		p.line("\nat  %s", strings.TrimSpace(f.Version+"  "+f.Digest))
	}
	if len(f.Platforms) > 0 || f.AtLeastOldSeconds > 0 {
		var wants []string
		if len(f.Platforms) > 0 {
			wants = append(wants, "there for "+strings.Join(f.Platforms, ", "))
		}
		if f.AtLeastOldSeconds > 0 {
			wants = append(wants, span(time.Duration(f.AtLeastOldSeconds)*time.Second)+" old")
		}
		p.line("    taken when it is %s", strings.Join(wants, " and "))
	}
	if len(f.UsedBy) == 0 {
		p.line("    %s", p.paint("behind", "no ward lays "+f.File+" over what it renders: from.versions"))
	} else {
		p.line("    laid over %s", strings.Join(f.UsedBy, ", "))
	}
	if len(f.Passed) > 0 || f.Beyond != "" {
		rows := [][]cell{{{"NOT TAKEN", "soft"}, {"WHY", "soft"}}}
		if f.Beyond != "" {
			rows = append(rows, []cell{plain(f.Beyond), plain("it is out of " + f.Wants)})
		}
		for _, x := range f.Passed {
			rows = append(rows, []cell{plain(x.Version), plain(visible.Line(x.Why))})
		}
		p.line("")
		p.table(rows)
	}
	if len(f.History) > 0 {
		rows := [][]cell{{{"WAS AT", "soft"}, {"SINCE", "soft"}, {"COMMIT", "soft"}}}
		for _, w := range f.History {
			rows = append(rows, []cell{plain(w.Version), plain(ago(w.At)), plain(orDash(w.Commit[:min(7, len(w.Commit))]))})
		}
		p.line("")
		p.table(rows)
	}
}

func (a *app) followLook() *cobra.Command {
	return a.followAct("look NAME", "Look for newer versions now", "  vigila follow look fare-gate", 1)
}

func (a *app) followTake() *cobra.Command {
	return a.followAct("take NAME VERSION", "Take a version, whatever it is: one that was moved, taken back, rejected, or is out of the range", "  vigila follow take fare-gate 2.9.0", 2)
}

func (a *app) followAct(use, short, example string, n int) *cobra.Command {
	c := &cobra.Command{
		Use: use, Short: short, Example: example, Args: exactly(n, pick(n == 1, "the name of a follow", "the name of a follow and a version")), ValidArgsFunction: a.first(followNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in := client.LookFollow{}
			if n == 2 {
				in.Take = args[1]
			}
			r, err := conn.LookFollowWithResponse(c.Context(), args[0], in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			a.printer(c.OutOrStdout()).follow(r.JSON200)
			return nil
		}),
	}
	return a.reading(c)
}

func followNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListFollowsWithResponse(ctx, &client.ListFollowsParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, f := range r.JSON200.Items {
		out = append(out, f.Name)
	}
	return out
}

func (a *app) registry() *cobra.Command {
	c := &cobra.Command{Use: "registry", Short: "Add, list and remove the registries that follows ask",
		Long: `Registries are asked for versions of images, by the protocol of the Open Container Initiative. A follow names an image; whoever
may add a registry here decides what may be asked, since credentials never stand in a repository.`,
		Example: "  vigila registry list"}
	c.AddCommand(a.registryAdd(), a.registryList(), a.registryPushes(), a.registryRemove())
	return c
}

func (a *app) registryAdd() *cobra.Command {
	var in client.AddRegistry
	var password, token, ca string
	c := &cobra.Command{
		Use: "add NAME HOST", Short: "Add a registry or change one; it is asked before it is kept",
		Long: `Add a registry or change one; it is asked before it is kept. The host is written as images name it. A user with a password,
or a token, are stored encrypted and never shown again, and stay with the host that they were given for.`,
		Example: `  vigila registry add harbour registry.brindle.example
  vigila registry add harbour registry.brindle.example --at 10.4.0.7:5000
  vigila registry add harbour registry.brindle.example --user crew --password-file password.txt`,
		Args: exactly(2, "a name and a host"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in.Name, in.Host = args[0], args[1]
			if err := readFiles(c, map[string]*string{password: &in.Password, token: &in.Token, ca: &in.Ca}); err != nil {
				return err
			}
			r, err := conn.AddRegistryWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is known now, and answers.", args[0])
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&in.AskedAt, "at", "", "host and port that it is asked at, when that is another than images name")
	f.StringVar(&in.User, "user", "", "user name")
	f.StringVar(&password, "password-file", "", "file with the password; - reads standard input")
	f.StringVar(&token, "token-file", "", "file with a token that is sent as a bearer token; - reads standard input")
	f.StringVar(&ca, "ca-file", "", "certificates (PEM) that the registry may be signed with, in place of the system's")
	f.StringVar(&in.About, "about", "", "what is there")
	return c
}

func (a *app) registryList() *cobra.Command {
	return list(a, listing[client.Registry]{
		command: &cobra.Command{Use: "list", Short: "List the registries, with what asks them", Example: "  vigila registry list\n  vigila registry list --search harbour"},
		none:    "No registry matches.",
		first:   "No registry is known. The first: vigila registry add NAME HOST",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Registry, int, error) {
			r, err := conn.ListRegistriesWithResponse(ctx, &client.ListRegistriesParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Registry) {
			rows := [][]cell{{{"REGISTRY", "soft"}, {"HOST", "soft"}, {"SIGNS IN", "soft"}, {"ASKED BY", "soft"}}}
			for _, r := range items {
				by := few(r.UsedBy)
				if len(r.UsedBy) == 0 {
					by = "nobody"
				}
				rows = append(rows, []cell{{r.Name, "bold"}, plain(pick(r.AskedAt == "", r.Host, r.Host+" at "+r.AskedAt)), plain(pick(r.SignsIn, pick(r.User == "", "with a token", "as "+r.User), "no")), plain(by)})
			}
			p.table(rows)
		},
	})
}

func registryNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListRegistriesWithResponse(ctx, &client.ListRegistriesParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, x.Name)
	}
	return out
}

func (a *app) registryPushes() *cobra.Command {
	var fresh bool
	c := &cobra.Command{
		Use: "pushes NAME", Short: "Show how a registry tells of pushes, so that each is seen at once",
		Long: `Show how a registry tells of pushes: the address, whether there is a key, and when the last one was taken. With pushes a new version
is found at once; without them each follow looks as often as it says (every). --new-key makes the key and shows it this once; the one
before it is not taken any more. The registry sends the key as a header that is set once, whatever else it sends.`,
		Example: "  vigila registry pushes harbour\n  vigila registry pushes harbour --new-key", Args: exactly(1, "the name of a registry"), ValidArgsFunction: a.first(registryNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if fresh {
				r, err := conn.MakeRegistryPushKeyWithResponse(c.Context(), args[0])
				if err := conn.Check(r, err); err != nil {
					return err
				}
				return a.showPushKey(c, conn, args[0], "push", r.JSON200)
			}
			r, err := conn.GetRegistryPushesWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			return a.showPushes(c, conn, args[0], "registry", r.JSON200)
		}),
	}
	c.Flags().BoolVar(&fresh, "new-key", false, "make the key that is sent with them, in place of the one before")
	return a.reading(c)
}

func (a *app) registryRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a registry that no follow asks", Example: "  vigila registry remove harbour",
		Args: exactly(1, "the name of a registry"), ValidArgsFunction: a.first(registryNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RemoveRegistryWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is forgotten.", args[0])
			return nil
		}),
	}
}
