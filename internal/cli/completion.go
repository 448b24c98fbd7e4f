package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

// complete offers what the service knows in place of what is being typed; nothing where it can't be asked.
func (a *app) complete(ask func(context.Context, *client.Conn, []string) []string) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		conn, err := client.Dial(a.context)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return ask(c.Context(), conn, args), cobra.ShellCompDirectiveNoFileComp
	}
}

// first is complete for the first word of a command alone.
func (a *app) first(ask func(context.Context, *client.Conn, []string) []string) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.complete(ask)(c, args, typed)
	}
}

// most is how many of anything are offered.
const most = 1000

func wardIDs(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListWardsWithResponse(ctx, &client.ListWardsParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, w := range r.JSON200.Items {
		out = append(out, w.Id+"\t"+string(w.Standing))
	}
	return out
}

func repoNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListReposWithResponse(ctx, &client.ListReposParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, x.Name)
	}
	return out
}

func clusterNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListClustersWithResponse(ctx, &client.ListClustersParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, x.Name)
	}
	return out
}

func rosterNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListRostersWithResponse(ctx, &client.ListRostersParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, x.Name)
	}
	return out
}

func sessionIDs(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListSessionsWithResponse(ctx, &client.ListSessionsParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, x.Id+"\t"+x.Name)
	}
	return out
}

func providerNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListSignInsWithResponse(ctx)
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, x.Name)
	}
	return out
}

func ownerNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListWardsWithResponse(ctx, &client.ListWardsParams{Limit: 1})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, g := range r.JSON200.Groups {
		if g.By == "owner" && g.Name != "" {
			out = append(out, g.Name)
		}
	}
	return out
}

// entries offers the entries of the ward that stands first, which snapshot keeps objects where that is wanted.
func entries(snapshot bool) func(context.Context, *client.Conn, []string) []string {
	return func(ctx context.Context, conn *client.Conn, args []string) (out []string) {
		if len(args) == 0 {
			return wardIDs(ctx, conn, args)
		}
		r, err := conn.ListWardEntriesWithResponse(ctx, args[0], &client.ListWardEntriesParams{Limit: most})
		if conn.Check(r, err) != nil {
			return nil
		}
		for _, e := range r.JSON200.Items {
			if !snapshot || e.HasSnapshot {
				what, _ := entryWords(e)
				out = append(out, strings.TrimSpace(fmt.Sprintf("%d\t%s %s", e.Number, what, title(e.Revision))))
			}
		}
		return out
	}
}

// objects offers what a ward keeps or declares, as Kind/name.
func objects(ctx context.Context, conn *client.Conn, args []string) (out []string) {
	if len(args) == 0 {
		return nil
	}
	r, err := conn.GetWardWithResponse(ctx, args[0])
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, o := range r.JSON200.Outline {
		out = append(out, o.Kind+"/"+o.Name)
	}
	return out
}

// guards offers the guards that stand before a sync of a ward now.
func guards(ctx context.Context, conn *client.Conn, args []string) (out []string) {
	if len(args) == 0 {
		return nil
	}
	r, err := conn.GetWardWithResponse(ctx, args[0])
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, g := range r.JSON200.Ward.Guards {
		out = append(out, g.Name+"\t"+g.Text)
	}
	return out
}

// rejected offers the revisions that a ward has rejected.
func rejected(ctx context.Context, conn *client.Conn, args []string) (out []string) {
	if len(args) == 0 {
		return wardIDs(ctx, conn, args)
	}
	r, err := conn.ListRejectionsWithResponse(ctx, args[0])
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, x := range r.JSON200.Items {
		out = append(out, x.Revision.Id[:min(7, len(x.Revision.Id))]+"\t"+x.Why)
	}
	return out
}

// completions offers values for the flags of every command below one, by the flag's name.
func (a *app) completions(root *cobra.Command) {
	words := func(of ...string) cobra.CompletionFunc {
		return cobra.FixedCompletions(slices.Clone(of), cobra.ShellCompDirectiveNoFileComp)
	}
	of := map[string]cobra.CompletionFunc{
		"cluster": a.complete(clusterNames), "repo": a.complete(repoNames), "roster": a.complete(rosterNames), "owner": a.complete(ownerNames),
		"only": a.complete(objects), "allow": a.complete(guards),
		"standing": words("in step", "behind", "drifted", "contested", "blind"), "health": words("ready", "settling", "failing", "absent", "unknown"),
	}
	named := map[string]cobra.CompletionFunc{"repo": a.first(repoNames), "cluster": a.first(clusterNames), "roster": a.first(rosterNames)}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for name, f := range of {
			if c.Flags().Lookup(name) != nil {
				_ = c.RegisterFlagCompletionFunc(name, f) // one that has its own keeps it
			}
		}
		if f := named[c.Parent().Name()]; f != nil && c.ValidArgsFunction == nil && strings.HasPrefix(c.Use, c.Name()+" NAME") {
			c.ValidArgsFunction = f
		}
		if c.Flags().Lookup("output") != nil && c.Flags().Lookup("output").DefValue == "text" && c.Name() != "check" {
			_ = c.RegisterFlagCompletionFunc("output", words("text", "json", "yaml"))
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	for _, c := range root.Commands() {
		walk(c)
	}
}
