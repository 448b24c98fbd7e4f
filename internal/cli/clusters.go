package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

// shortList is how many of something are shown when not all are asked for.
const shortList = 5

func (a *app) clusterShow() *cobra.Command {
	var warnings bool
	c := &cobra.Command{
		Use: "show NAME", Short: "Show one cluster: its machines, what is kept there by whom, components, who may what, and the warnings of the last hour",
		Example: "  vigila cluster show quay\n  vigila cluster show quay --warnings",
		Args:    exactly(1, "the name of a cluster"), ValidArgsFunction: a.first(clusterNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.GetClusterWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			a.printer(c.OutOrStdout()).cluster(r.JSON200, warnings)
			return nil
		}),
	}
	c.Flags().BoolVar(&warnings, "warnings", false, "every warning of the last hour, not the newest alone")
	return a.reading(c)
}

func (p *printer) cluster(x *client.ClusterPage, everything bool) {
	c := x.ClusterOf
	p.line("%s  %s", p.paint("bold", c.Name), visible.Line(c.About))
	about := []string{"Kubernetes " + orDash(c.Version)}
	if len(c.Labels) > 0 {
		about = append(about, labels(c.Labels))
	}
	if c.Server != "" {
		about = append(about, c.Server)
	}
	p.line("%s", p.paint("soft", visible.Line(strings.Join(about, ", "))))
	if len(c.OnlyNamespaces) > 0 {
		p.line("%s", p.paint("soft", "looked into are the namespaces "+visible.Line(strings.Join(c.OnlyNamespaces, ", "))+" alone"))
	}
	if len(c.DeclaredNamespaces) > 0 {
		p.line("%s", p.paint("soft", "roster "+c.Roster+" lets objects be kept in the namespaces "+visible.Line(strings.Join(c.DeclaredNamespaces, ", "))))
	}
	if !c.Live.Known {
		p.line("%s", p.paint("failing", "? It can't be read: "+visible.Line(c.Live.Problem)))
	}
	for _, name := range slices.Sorted(maps.Keys(c.Links)) {
		p.line("%s", p.paint("soft", name+": "+visible.Line(c.Links[name])))
	}
	if c.By == client.ClusterByLookout {
		p.lookout(c.Lookout)
	}
	p.line("\n%s", p.paint("bold", "Kept here"))
	if len(x.KeptBy) == 0 {
		p.line("  No ward goes here.")
	}
	for _, o := range x.KeptBy {
		need := ""
		if o.NeedYou > 0 {
			need = p.paint("drifted", fmt.Sprintf(", %d %s somebody", o.NeedYou, pick(o.NeedYou == 1, "needs", "need")))
		}
		p.line("  %-18s %s, %d in step%s", pick(o.Owner == "", "no owner", o.Owner), count(o.Wards, "ward"), o.InStep, need)
	}
	if len(x.Switchable) > 0 {
		p.line("\n%s", p.paint("bold", "Components"))
		for _, k := range x.Switchable {
			more := options(k.Given)
			for _, w := range k.Kept {
				more = strings.TrimPrefix(more+"; "+w.Ward+": "+visible.Line(w.Says), "; ")
			}
			p.line("  %-18s %s", k.Kit, strings.TrimSpace(pick(k.Use, "on", p.paint("soft", "off"))+"  "+p.paint("soft", more)))
		}
	}
	if x.Whole {
		p.machines(x)
		p.line("\n%s", p.paint("bold", "Who may what"))
		for _, t := range x.People {
			var do []string
			for _, v := range t.Verbs {
				do = append(do, string(v))
			}
			p.line("  %-18s %s: %d of %s", t.Team, strings.Join(do, ", "), t.Wards, count(c.Wards, "ward"))
		}
		p.line("  %s", p.paint("soft", "Operators and admins may everything; readers see it."))
	}
	p.warnings(x, everything)
}

func (p *printer) machines(x *client.ClusterPage) {
	p.line("\n%s", p.paint("bold", "Machines"))
	if x.MachinesUnknown != "" {
		p.line("  %s", p.paint("failing", visible.Line(x.MachinesUnknown)))
		return
	}
	var milli, memory, pods int64
	up := 0
	for _, m := range x.Machines {
		if m.Up && !m.Closed {
			up++
			milli, memory, pods = milli+m.Millicores, memory+m.Bytes, pods+m.PodRoom
		}
	}
	p.line("  %d of %d up: %.4g cores, %.4g GiB, room for %d Pods", up, len(x.Machines), float64(milli)/1000, float64(memory)/(1<<30), pods)
	for _, m := range x.Machines {
		if !m.Up || m.Closed || m.Says != "" {
			how := pick(!m.Up, "▲ not up", pick(m.Closed, "closed to new Pods", "up"))
			p.line("  %-18s %s%s", visible.Line(m.Name), how, p.paint("soft", strings.TrimSuffix(fmt.Sprintf(" since %s: %s", ago(m.Since), visible.Line(m.Says)), ": ")))
		}
	}
}

func (p *printer) warnings(x *client.ClusterPage, everything bool) {
	p.line("\n%s", p.paint("bold", "Warnings of the last hour"))
	shown := x.Warnings
	switch {
	case x.WarningsUnknown != "":
		p.line("  %s", p.paint("failing", visible.Line(x.WarningsUnknown)))
	case len(shown) == 0:
		p.line("  None.")
	case !everything && len(shown) > shortList:
		shown = shown[:shortList]
	}
	for _, e := range shown {
		of := strings.Join(e.OfWards, ", ")
		if of == "" {
			of = pick(e.Namespace == "", "no namespace", e.Namespace+", which no ward keeps")
		}
		p.line("  ▲ %s  %s/%s  %s", e.Reason, e.Kind, visible.Line(e.Name), p.paint("soft", fmt.Sprintf("%s%s, %s", ago(e.At), pick(e.Times > 1, fmt.Sprintf(", %d times", e.Times), ""), of)))
		p.line("    %s", visible.Line(e.Text))
	}
	if left := len(x.Warnings) - len(shown); left > 0 {
		p.line("  %s", p.paint("soft", fmt.Sprintf("and %d more: vigila cluster show %s --warnings", left, x.ClusterOf.Name)))
	}
	if x.MoreWarnings {
		p.line("  %s", p.paint("soft", "There are more than were read."))
	}
}

func (a *app) clusterOffered() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "offered", Short: "List the clusters that wards make, of Cluster API objects, and that are not known yet", Example: "  vigila cluster offered", Args: noArgs,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, _ []string) error {
			r, err := conn.ListNewClustersWithResponse(c.Context())
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if len(r.JSON200.Items) == 0 {
				p.line("No ward makes a cluster that is not known yet.")
				return nil
			}
			rows := [][]cell{{{"CLUSTER", "soft"}, {"MADE BY", "soft"}, {"LABELS", "soft"}, {"HOW IT IS", "soft"}}}
			for _, n := range r.JSON200.Items {
				rows = append(rows, []cell{{n.Name, "bold"}, plain(n.Ward), plain(orDash(labels(n.Labels))), {visible.Line(n.Says), pick(n.Answers, "drifted", "")}})
			}
			p.table(rows)
			p.line("\n%s", p.paint("soft", "Add one: vigila cluster add NAME --from WARD"))
			return nil
		}),
	})
}
