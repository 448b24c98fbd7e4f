package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) alerts() *cobra.Command {
	c := &cobra.Command{Use: "alert", Short: "See who is told of what, what was sent, and let nobody be told of something for a while",
		Long: `Alerts say who is told when a ward needs somebody, and how: one message for one trouble, a word when it is over, and nothing about
what went well. They are files of a roster (vigila schema alert). The ways that messages go by are added here, since their
addresses are secret.`,
		Example: "  vigila alert list\n  vigila alert log\n  vigila alert mute fare-gate@skerry --for 2h --why \"the tariff table is late\""}
	c.AddCommand(a.alertList(), a.alertLog(), a.alertTry(), a.alertMute(), a.alertMutes(), a.alertUnmute(), a.alertWay())
	return c
}

func (a *app) alertList() *cobra.Command {
	return list(a, listing[client.Alert]{
		command: &cobra.Command{Use: "list", Short: "List the alerts: what each is about, whom it tells, and what is wrong now", Example: "  vigila alert list\n  vigila alert list --search harbour-ops"},
		none:    "No alert matches.",
		first:   "Nobody is told of anything: no roster declares an alert. What one looks like: vigila schema alert",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Alert, int, error) {
			r, err := conn.ListAlertsWithResponse(ctx, &client.ListAlertsParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Alert) {
			rows := [][]cell{{{"ALERT", "soft"}, {"OF", "soft"}, {"ABOUT", "soft"}, {"TELLS", "soft"}, {"NOW", "soft"}}}
			for _, x := range items {
				about := "whatever needs somebody"
				if len(x.Topics) > 0 {
					about = strings.Join(x.Topics, ", ")
				}
				rows = append(rows, []cell{{x.Name, "bold"}, plain(x.OfWhat), plain(about), plain(few(x.GoesTo)), alertNow(x)})
			}
			p.table(rows)
			for _, x := range items {
				for _, w := range x.WaysMissing {
					p.line("%s tells nobody by %s: there is no such way; vigila alert way add %s", x.Name, w, w)
				}
			}
		},
	})
}

// alertNow says what an alert has told of that lasts, and what it will tell of.
func alertNow(x client.Alert) cell {
	var parts []string
	if x.Told > 0 {
		parts = append(parts, fmt.Sprintf("▲ told of %d", x.Told))
	}
	if x.Waiting > 0 {
		parts = append(parts, fmt.Sprintf("%d not told yet", x.Waiting))
	}
	if len(parts) == 0 {
		return cell{"nothing wrong", "soft"}
	}
	return cell{strings.Join(parts, ", "), pick(x.Told > 0, "behind", "")}
}

func (a *app) alertLog() *cobra.Command {
	undelivered := false
	c := list(a, listing[client.Delivery]{
		command: &cobra.Command{Use: "log", Short: "List what was sent and what is on its way, the newest first", Example: "  vigila alert log\n  vigila alert log --undelivered\n  vigila alert log --search fare-gate"},
		none:    "There is no such message.", narrowed: func() bool { return undelivered },
		first: "Nothing was sent yet.",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Delivery, int, error) {
			r, err := conn.ListDeliveriesWithResponse(ctx, &client.ListDeliveriesParams{Search: f.search, Undelivered: undelivered, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Delivery) {
			for _, d := range items {
				p.line("%s  %s", p.paint(pick(d.Kind == "over", "soft", "bold"), d.Title), p.paint("soft", fmt.Sprintf("%s, by %s%s, %s", d.Alert, d.ByWay, pick(len(d.GoesTo) == 0, "", " to "+few(d.GoesTo)), ago(d.MadeAt))))
				for _, l := range d.Lines {
					p.line("  %s", l)
				}
				p.line("  %s", deliveryState(p, d))
			}
		},
	})
	c.Flags().BoolVar(&undelivered, "undelivered", false, "only what did not get there, or not yet")
	return c
}

func (a *app) alertTry() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "try NAME", Short: "Send a message by all ways of an alert that says that nothing is wrong, to see whether it gets there", Example: "  vigila alert try harbour-ops", Args: exactly(1, "the name of an alert"), ValidArgsFunction: a.first(alertNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.TryAlertWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			failed := 0
			for _, x := range r.JSON200.Items {
				failed += pick(x.Problem == "", 0, 1)
			}
			done, err := a.document(c.OutOrStdout(), r.JSON200)
			if err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			for _, x := range r.JSON200.Items {
				if done {
					break
				}
				whom := pick(len(x.GoesTo) == 0, "", " to "+few(x.GoesTo))
				if x.Problem != "" {
					p.line("%s", p.paint("failing", "▲ "+x.ByWay+whom+": "+x.Problem))
				} else {
					p.line("%s%s took the message.", x.ByWay, whom)
				}
			}
			if failed > 0 {
				return fmt.Errorf("%d of %s did not take it", failed, count(len(r.JSON200.Items), "way"))
			}
			return nil
		}),
	})
}

func alertNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListAlertsWithResponse(ctx, &client.ListAlertsParams{Limit: 1000})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, x.Name)
	}
	return out
}

// deliveryState says whether a delivery got there.
func deliveryState(p *printer, d client.Delivery) string {
	switch {
	case !d.Delivered.IsZero():
		return p.paint("soft", "delivered"+pick(d.Tries > 1, fmt.Sprintf(" after %d tries", d.Tries), ""))
	case d.Next.IsZero():
		return p.paint("failing", "▲ given up: "+d.Problem)
	case d.Problem != "":
		return p.paint("behind", fmt.Sprintf("not delivered yet, tried %s: %s", count(d.Tries, "time"), d.Problem))
	}
	return "on its way"
}

func (a *app) alertMute() *cobra.Command {
	var in client.AddMute
	var length time.Duration
	c := &cobra.Command{
		Use: "mute WARD", Short: "Let nobody be told of a ward for a while; it stays on the board",
		Long: `Let nobody be told of a ward for a while, at most 30 days. It stays on the board, and whoever looks sees who muted it and why. What is
wrong when the time is over is told then. A proposal or a repository can be muted by the name that its message has.`,
		Example: "  vigila alert mute fare-gate@skerry --for 2h --why \"the tariff table is late\"\n  vigila alert mute \"repository tides\" --for 24h --why \"the host moves\"",
		Args:    exactly(1, "what to mute: NAME@CLUSTER"), ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if length <= 0 || in.Why == "" {
				return usage("say for how long and why: %s %s --for 2h --why TEXT", c.CommandPath(), args[0])
			}
			in.Subject, in.Until = args[0], time.Now().Add(length)
			r, err := conn.MuteWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("Nobody is told of %s until %s. To end it earlier: vigila alert unmute %s", r.JSON200.Subject, r.JSON200.Until.Local().Format("2006-01-02 15:04"), pick(strings.Contains(r.JSON200.Subject, " "), fmt.Sprintf("%q", r.JSON200.Subject), r.JSON200.Subject))
			return nil
		}),
	}
	c.Flags().DurationVar(&length, "for", 0, "for how long, such as 2h")
	c.Flags().StringVar(&in.Why, "why", "", "why; others read it")
	return c
}

func (a *app) alertMutes() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "muted", Short: "List what nobody is told of, until when, and who wants so", Example: "  vigila alert muted", Args: cobra.NoArgs,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, _ []string) error {
			r, err := conn.ListMutesWithResponse(c.Context())
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			for _, m := range r.JSON200.Items {
				p.line("%s until %s: %s  %s", p.paint("bold", m.Subject), m.Until.Local().Format("2006-01-02 15:04"), m.Why, p.paint("soft", fmt.Sprintf("%s, %s", m.By, ago(m.At))))
			}
			if len(r.JSON200.Items) == 0 {
				p.line("Nothing is muted.")
			}
			return nil
		}),
	})
}

func (a *app) alertUnmute() *cobra.Command {
	return &cobra.Command{
		Use: "unmute WARD", Short: "Let a ward be told of again", Example: "  vigila alert unmute fare-gate@skerry", Args: exactly(1, "what was muted"), ValidArgsFunction: a.first(mutedNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.UnmuteWithResponse(c.Context(), &client.UnmuteParams{Subject: args[0]})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is told of again.", args[0])
			return nil
		}),
	}
}

func mutedNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListMutesWithResponse(ctx)
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, m := range r.JSON200.Items {
		out = append(out, m.Subject)
	}
	return out
}

func (a *app) alertWay() *cobra.Command {
	c := &cobra.Command{Use: "way", Short: "Add, list, try and remove the ways that messages go by", Example: "  vigila alert way list",
		Long: `A way is how messages get to people: a chat, mail, an address that takes signed events, or an Alertmanager. Alert files name ways;
addresses and keys are kept here, encrypted, and never shown again.`}
	c.AddCommand(a.wayAdd(), a.wayList(), a.wayTry(), a.wayRemove())
	return c
}

func (a *app) wayAdd() *cobra.Command {
	var in client.AddWay
	var kind, address, token, ca string
	c := &cobra.Command{
		Use: "add NAME", Short: "Add a way, or change one",
		Long: `Add a way, or change one. Addresses that chats give out are secret: they are read from a file.

  chat          {"text": …} is sent to the address, as chats take it
  http          a CloudEvent is sent to the address, signed as Standard Webhooks says when there is a key
  alertmanager  alerts are sent to an Alertmanager: the address is where it is, without a path
  mail          a mail is sent through a server that takes mail`,
		Example: `  vigila alert way add ops-chat --kind chat --url-file url.txt
  vigila alert way add mail --kind mail --server mail.brindle.example:587 --from vigila@brindle.example --to ops@brindle.example
  vigila alert way add events --kind http --url-file url.txt --token-file key.txt`,
		Args: exactly(1, "the name of the way"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			in.Name, in.Form = args[0], client.AddWayForm(kind)
			if kind == "" {
				return usage("say what kind of way it is: --kind chat, mail, http or alertmanager")
			}
			if err := readFiles(c, map[string]*string{address: &in.Url, token: &in.Token, ca: &in.Ca}); err != nil {
				return err
			}
			r, err := conn.AddWayWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is known now. See whether messages get there: vigila alert way try %s", args[0], args[0])
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&kind, "kind", "", "chat, mail, http or alertmanager")
	f.StringVar(&address, "url-file", "", "file with the address; - reads standard input")
	f.StringVar(&token, "token-file", "", "file with the key that signs events, the bearer token of an Alertmanager, or the password for mail")
	f.StringVar(&ca, "ca-file", "", "certificates (PEM) that the server may be signed with, in place of the system's")
	f.StringVar(&in.Server, "server", "", "server that takes mail, as HOST:PORT")
	f.StringVar(&in.User, "user", "", "who signs in to it")
	f.StringVar(&in.Sender, "from", "", "who mail is from")
	f.StringSliceVar(&in.GoesTo, "to", nil, "whom mail goes to where an alert names nobody; may be given several times")
	f.BoolVar(&in.Unencrypted, "unencrypted", false, "send mail without TLS, to a server on this machine")
	f.StringVar(&in.Console, "console", "", "address of the console that links begin with, such as https://vigila.brindle.example")
	f.StringSliceVar(&in.ForRosters, "for-roster", nil, "only alerts that this roster declares; those of a roster with limits may go by it only so")
	f.StringVar(&in.About, "about", "", "what it is for")
	_ = c.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions([]string{"chat", "mail", "http", "alertmanager"}, cobra.ShellCompDirectiveNoFileComp)) // never fails: the flag is there
	return c
}

func (a *app) wayList() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "list", Short: "List the ways", Example: "  vigila alert way list", Args: cobra.NoArgs,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, _ []string) error {
			r, err := conn.ListWaysWithResponse(c.Context())
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if len(r.JSON200.Items) == 0 {
				p.line("No way is known. The first: vigila alert way add NAME --kind chat --url-file FILE")
				return nil
			}
			rows := [][]cell{{{"WAY", "soft"}, {"KIND", "soft"}, {"SERVER", "soft"}, {"TO", "soft"}, {"FOR", "soft"}}}
			for _, w := range r.JSON200.Items {
				rows = append(rows, []cell{{w.Name, "bold"}, plain(w.Form), plain(w.Server), plain(few(w.GoesTo)), {w.About, "soft"}})
			}
			p.table(rows)
			return nil
		}),
	})
}

func (a *app) wayTry() *cobra.Command {
	var in client.TryWay
	c := &cobra.Command{
		Use: "try NAME", Short: "Send a message that says that nothing is wrong, to see whether it gets there", Example: "  vigila alert way try ops-chat\n  vigila alert way try mail --to ops@brindle.example", Args: exactly(1, "the name of a way"), ValidArgsFunction: a.first(wayNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.TryWayWithResponse(c.Context(), args[0], in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s took the message.", args[0])
			return nil
		}),
	}
	c.Flags().StringSliceVar(&in.GoesTo, "to", nil, "whom, where the way leads to several")
	return c
}

func (a *app) wayRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove a way; what is on it is not sent", Example: "  vigila alert way remove ops-chat", Args: exactly(1, "the name of a way"), ValidArgsFunction: a.first(wayNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RemoveWayWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is forgotten.", args[0])
			return nil
		}),
	}
}

func wayNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListWaysWithResponse(ctx)
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, w := range r.JSON200.Items {
		out = append(out, w.Name)
	}
	return out
}
