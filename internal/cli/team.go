package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/core/grant"
)

// verbs is the table of what can be given, for help.
var verbs = func() string {
	var lines []string
	for _, x := range grant.About {
		lines = append(lines, fmt.Sprintf("  %-12s %s", x.Verb, x.Text))
	}
	return strings.Join(lines, "\n")
}()

func (a *app) teams() *cobra.Command {
	c := &cobra.Command{Use: "team", Short: "Say which people may what to which wards and lanes; changes need an admin's",
		Long: `Say which people may what to which wards and lanes. Who is in a team, and has no role, sees what the team may see and
nothing else: to them, other wards do not exist. Who has a role as well may both.

A file says it, which belongs into git beside the wards; vigila schema team prints its schema:

  vigila: team/v1
  name: ticketing
  members: [{group: "brindle:ticketing"}, {user: "brindle:reader@brindle.example"}]
  may:
    - {do: [see, look, sync, roll back, hold], wards: {owner: ticketing}}
    - {do: [allow], wards: {owner: ticketing}, guards: [mass-removal]}
    - {do: [promote], lanes: [fare-gate], stops: [quay]}
    - {do: [propose], kits: [web-service], wards: {owner: ticketing}}

What can be done:
` + verbs + `

Repositories, clusters, stores, rosters, alerts and people are for operators and admins.`,
		Example: "  vigila team add teams/ticketing.yaml\n  vigila team list\n  vigila may brindle:reader@brindle.example sync fare-gate@quay"}
	c.AddCommand(a.teamAdd(), a.teamList(), &cobra.Command{
		Use: "remove NAME", Short: "Forget a team; its people may what else is given to them", Example: "  vigila team remove ticketing", Args: exactly(1, "the name of the team"), ValidArgsFunction: a.first(teamNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RemoveTeamWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("Team %s is forgotten. What it gave is gone at once.", args[0])
			return nil
		}),
	})
	return c
}

func (a *app) teamAdd() *cobra.Command {
	return &cobra.Command{
		Use: "add FILE", Short: "Add the teams of a file, or change them: all of them, or none", Example: "  vigila team add teams/ticketing.yaml\n  cat teams/*.yaml | vigila team add -", Args: exactly(1, "a file with teams, or - for standard input"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			text, err := readFile(args[0], c.InOrStdin())
			if err != nil {
				return err
			}
			r, err := conn.PutTeamWithResponse(c.Context(), client.PutTeam{Name: args[0], File: string(text)})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("Known now, and in force: %s. See what somebody may: vigila may WHO sync WARD", strings.Join(r.JSON200.Items, ", "))
			return nil
		}),
	}
}

func (a *app) teamList() *cobra.Command {
	return list(a, listing[client.Team]{
		command: &cobra.Command{Use: "list", Short: "List the teams, who is in them and what they may", Example: "  vigila team list\n  vigila team list --search promote"},
		none:    "There are no teams. The first: vigila team add FILE; vigila team --help shows one.",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Team, int, error) {
			r, err := conn.ListTeamsWithResponse(ctx, &client.ListTeamsParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Team) {
			for i, t := range items {
				if i > 0 {
					p.line("")
				}
				p.line("%s  %s", p.paint("bold", t.Name), p.paint("soft", t.About))
				p.line("  %s", strings.Join(t.Members, ", "))
				if t.Roster != "" {
					p.line("  %s", p.paint("soft", "declared by roster "+t.Roster+", in "+t.DeclaredAt))
				}
				for _, r := range t.Rights {
					p.line("  may %s", rightsLine(r))
				}
			}
		},
	})
}

// rightsLine says what may be done to what.
func rightsLine(r client.Rights) string {
	var do, to []string
	for _, v := range r.Verbs {
		do = append(do, string(v))
	}
	for _, x := range []struct {
		what string
		all  []string
	}{{"wards", r.OfWards}, {"wards of owner", r.OfOwners}, {"in cluster", r.OfClusters}, {"of roster", r.OfRosters}, {"lanes", r.OfLanes}, {"at", r.AtStops}, {"guards", r.OfGuards}, {"by kit", r.ByKits}, {"of repository", r.OfRepos}} {
		if len(x.all) > 0 {
			to = append(to, x.what+" "+strings.Join(x.all, " or "))
		}
	}
	return strings.Join(do, ", ") + ": " + strings.Join(to, ", ")
}

func (a *app) may() *cobra.Command {
	var q client.DecideParams
	c := &cobra.Command{
		Use: "may WHO VERB [WARD]", Short: "Ask whether somebody may something, and why",
		Long: `Ask whether somebody may something to a ward, or to a lane, and why: which team, which line of its file, or which role;
or what they lack. WHO is a token, a person as vigila session list shows them, or me. Of a person those groups are
taken that the provider said at their newest sign-in. Exits with 1 when they may not.

` + verbs,
		Example: "  vigila may me sync fare-gate@quay\n  vigila may brindle:reader@brindle.example roll-back fare-gate\n  vigila may pipeline allow fare-gate --guard mass-removal\n  vigila may me promote --lane fare-gate --stop skerry\n  vigila may me propose --kit web-service",
		Args:    cobra.RangeArgs(2, 3),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if q.Who = args[0]; q.Who == "me" {
				q.Who = ""
			}
			q.Verb = args[1]
			if len(args) == 3 {
				q.Ward = args[2]
			}
			if (q.Ward == "") == (q.Lane == "") && q.Kit == "" {
				return usage("name either a ward, or a lane with --lane, or a kit with --kit")
			}
			r, err := conn.DecideWithResponse(c.Context(), &q)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			var no *Exit
			for _, d := range r.JSON200.Items {
				if !d.May {
					no = &Exit{Code: ExitFailed}
				}
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				if err == nil && no != nil {
					return no
				}
				return err
			}
			p := a.printer(c.OutOrStdout())
			for _, d := range r.JSON200.Items {
				word := p.paint("bold", "yes")
				if !d.May {
					word = p.paint("failing", "no")
				}
				p.line("%s  %s %s %s: %s", word, d.Name, pick(d.May, "may", "may not"), strings.ReplaceAll(args[1], "-", " ")+" "+d.OfWhat, d.Why)
			}
			if no != nil {
				return no
			}
			return nil
		}),
		ValidArgsFunction: func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			switch len(args) {
			case 0:
				return []string{"me"}, cobra.ShellCompDirectiveNoFileComp
			case 1:
				var all []string
				for _, x := range grant.About {
					all = append(all, strings.ReplaceAll(string(x.Verb), " ", "-")+"\t"+x.Text)
				}
				return all, cobra.ShellCompDirectiveNoFileComp
			case 2:
				return a.complete(wardIDs)(c, args, typed)
			}
			return nil, cobra.ShellCompDirectiveNoFileComp
		},
	}
	f := c.Flags()
	f.StringVar(&q.Lane, "lane", "", "a lane, in place of a ward")
	f.StringVar(&q.Stop, "stop", "", "at which of its stops")
	f.StringVar(&q.Guard, "guard", "", "which guard, where the verb is allow")
	f.StringVar(&q.Kit, "kit", "", "by which kit, where the verb is propose; a ward is one that it would make")
	return a.reading(c)
}

// rights reads the flags that say what a token may.
type rights struct{ may, wards, lanes, stops, guards, kits, repos []string }

func (r *rights) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringSliceVar(&r.may, "may", nil, "in place of a role: what it may, such as see,sync (vigila team --help lists what there is)")
	f.StringSliceVar(&r.wards, "wards", nil, "to which wards: owner=NAME, cluster=NAME, roster=NAME or the name of one; all that is given must hold")
	f.StringSliceVar(&r.lanes, "lanes", nil, "to which lanes")
	f.StringSliceVar(&r.stops, "stops", nil, "at which of their stops; all when left out")
	f.StringSliceVar(&r.guards, "guards", nil, "which guards it may let pass")
	f.StringSliceVar(&r.kits, "kits", nil, "by which kits it may propose; all when left out")
	f.StringSliceVar(&r.repos, "repos", nil, "of which repositories it may approve proposals")
}

// read is what the flags say; nothing where none is given.
func (r *rights) read() ([]client.Rights, error) {
	if len(r.may) == 0 {
		if len(r.wards)+len(r.lanes)+len(r.stops)+len(r.guards)+len(r.kits)+len(r.repos) > 0 {
			return nil, usage("say what it may to them: --may see,sync")
		}
		return nil, nil
	}
	out := client.Rights{OfLanes: r.lanes, AtStops: r.stops, OfGuards: r.guards, ByKits: r.kits, OfRepos: r.repos}
	for _, v := range r.may {
		out.Verbs = append(out.Verbs, client.Verb(strings.ReplaceAll(v, "-", " ")))
	}
	for _, w := range r.wards {
		key, value, is := strings.Cut(w, "=")
		into := map[string]*[]string{"owner": &out.OfOwners, "cluster": &out.OfClusters, "roster": &out.OfRosters}[key]
		switch {
		case !is:
			out.OfWards = append(out.OfWards, w)
		case into == nil || value == "":
			return nil, usage("--wards is %q; write owner=NAME, cluster=NAME, roster=NAME or the name of a ward", w)
		default:
			*into = append(*into, value)
		}
	}
	return []client.Rights{out}, nil
}

// rightsTitle says what a token may, in words.
func rightsTitle(t client.Token) string {
	if len(t.Rights) == 0 {
		return string(t.Role)
	}
	var all []string
	for _, r := range t.Rights {
		all = append(all, rightsLine(r))
	}
	return strings.Join(all, "; ")
}

func teamNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListTeamsWithResponse(ctx, &client.ListTeamsParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, fmt.Sprintf("%s\t%s", x.Name, x.About))
	}
	return out
}
