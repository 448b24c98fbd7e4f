package cli

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) ward() *cobra.Command {
	c := &cobra.Command{Use: "ward", Short: "Register wards, list them and look at them", Example: "  vigila ward list\n  vigila ward add berth-planner.yaml"}
	c.AddCommand(a.wardAdd(), a.wardList(), a.wardShow(), a.wardRemove())
	return c
}

func (a *app) wardAdd() *cobra.Command {
	return &cobra.Command{
		Use:     "add FILE…",
		Short:   "Register the wards of ward files, or change those already registered",
		Long:    "Register the wards of ward files, or change those already registered. - reads standard input. vigila schema ward prints the format.",
		Example: "  vigila ward add berth-planner.yaml\n  cat wards/*.yaml | vigila ward add -",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("vigila ward add needs one ward file or more")
			}
			return nil
		},
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			p := a.printer(c.OutOrStdout())
			for _, name := range args {
				text, err := readFile(name, c.InOrStdin())
				if err != nil {
					return err
				}
				r, err := conn.AddWardsWithResponse(c.Context(), client.AddWardsJSONRequestBody{File: string(text), Name: filepath.ToSlash(name)})
				if err := conn.Check(r, err); err != nil {
					return err
				}
				for _, id := range r.JSON200.Items {
					p.line("%s is kept now. See it: vigila ward show %s", id, id)
				}
			}
			return nil
		}),
	}
}

// listFlags are the filters of ward list and watch.
type listFlags struct {
	search, standing, health, cluster, owner, roster string
	needsYou, held, all                              bool
	limit, page                                      int
}

func (f *listFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.search, "search", "", "words that must all be in the name, owner, repository, revision or sentence")
	c.Flags().StringVar(&f.standing, "standing", "", "in step, behind, drifted, contested or blind")
	c.Flags().StringVar(&f.health, "health", "", "ready, settling, failing, absent or unknown")
	c.Flags().StringVar(&f.cluster, "cluster", "", "only this cluster")
	c.Flags().StringVar(&f.owner, "owner", "", "only this owner")
	c.Flags().StringVar(&f.roster, "roster", "", "only those that this roster declares")
	c.Flags().BoolVar(&f.held, "held", false, "only those that a person holds")
	c.Flags().BoolVar(&f.needsYou, "needs-you", false, "only those that need a person")
	c.Flags().BoolVar(&f.all, "all", false, "a line for each, however many are quiet; on a terminal those fold beyond a screenful")
	c.Flags().IntVar(&f.limit, "limit", 100, "how many on a page, 1 to 1000")
	c.Flags().IntVar(&f.page, "page", 1, "which page")
}

// params are the filters as the API takes them; with fold, quiet wards fold.
func (f *listFlags) params(fold bool) *client.ListWardsParams {
	q := &client.ListWardsParams{Search: f.search, Standing: client.Standing(f.standing), Health: client.Health(f.health), Cluster: f.cluster, Owner: f.owner, Roster: f.roster,
		NeedsYou: f.needsYou, Held: f.held, Limit: f.limit, Offset: (f.page - 1) * f.limit}
	if fold && !f.all {
		q.Fold = "cluster"
	}
	return q
}

// filtered tells whether some are left out.
func (f *listFlags) filtered() bool {
	return f.search != "" || f.standing != "" || f.health != "" || f.cluster != "" || f.owner != "" || f.roster != "" || f.needsYou || f.held
}

func (a *app) wardList() *cobra.Command {
	f := &listFlags{}
	c := &cobra.Command{
		Use: "list", Short: "List wards, what needs you first", Example: "  vigila ward list\n  vigila ward list --needs-you\n  vigila ward list --cluster skerry --held\n  vigila ward list --search berth -o json", Args: noArgs,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, _ []string) error {
			if err := pageAsked(f.page, f.limit); err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			r, err := conn.ListWardsWithResponse(c.Context(), f.params(p.tty && a.output == "text"))
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if err := onPage(f.page, f.limit, r.JSON200.Total-r.JSON200.Folded); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p.board(r.JSON200, f)
			rosters, err := conn.ListRostersWithResponse(c.Context(), &client.ListRostersParams{Limit: 1000})
			if err == nil && rosters.StatusCode() == http.StatusForbidden { // a member sees wards alone
				return nil
			}
			if err := conn.Check(rosters, err); err != nil {
				return err
			}
			loud := slices.DeleteFunc(rosters.JSON200.Items, func(r client.Roster) bool { return !r.NeedsYou })
			if len(loud) > 0 { // their own standing, apart from that of their wards
				p.line("")
				p.rosters(loud)
			}
			return nil
		}),
	}
	f.add(c)
	return a.reading(c)
}

// board prints wards, one a line.
func (p *printer) board(l *client.WardList, f *listFlags) {
	switch {
	case l.Total == 0 && f.filtered():
		p.line("No ward matches.")
		return
	case l.Total == 0:
		p.line("No wards yet. Register one: vigila ward add FILE (vigila schema ward prints the format)")
		return
	}
	rows := [][]cell{{{"WARD", "soft"}, {"STANDING", "soft"}, {"HEALTH", "soft"}, {"FOR", "soft"}, {"WHAT IS GOING ON", "soft"}}}
	for _, w := range l.Items {
		rows = append(rows, wardRow(w))
	}
	for _, g := range l.Groups {
		if g.Folded > 0 {
			rows = append(rows, foldedRow(g))
		}
	}
	p.table(rows)
	p.line("")
	foot := fmt.Sprintf("%s, %d in step", count(l.Total, "ward"), l.InStep)
	if l.NeedYou > 0 {
		foot += fmt.Sprintf(", %s", p.paint("bold", fmt.Sprintf("%d need you", l.NeedYou)))
	}
	p.line("%s%s", foot, pageOf(f.page, f.limit, l.Total-l.Folded))
}

// foldedRow is the line of the quiet wards of a cluster.
func foldedRow(g client.WardGroup) []cell {
	quiet := ""
	if n := len(g.Watch); n > 0 {
		quiet = since(g.Watch[n-1].From)
	}
	return []cell{{count(g.Folded, "ward") + " in " + g.Name, "soft"}, {"= in step", "in step"}, {"● ready", "ready"}, plain(quiet),
		{"quiet; each on a line: vigila ward list --all --cluster " + g.Name, "soft"}}
}

// wardRow is a ward as a line of a list; what it says stays on that line.
func wardRow(w client.Ward) []cell {
	name := plain(w.Id)
	if w.NeedsYou {
		name.color = "bold"
	}
	return []cell{name, {standingGlyph[w.Standing] + " " + standingWords(w), string(w.Standing)}, {healthGlyph[w.Health] + " " + string(w.Health), string(w.Health)},
		plain(since(w.Since)), plain(strings.Join(strings.Fields(w.Says), " "))}
}

// standingWords says where a ward is, with counts; it may be drifted and behind at once.
func standingWords(w client.Ward) string {
	s := string(w.Standing)
	switch w.Standing {
	case "drifted", "contested":
		s += ", " + count(w.DriftedFields, "field")
		if w.Pending > 0 {
			s += "; behind, " + count(w.Pending, "object")
		}
	case "behind":
		if w.Pending > 0 { // a run that goes on has applied all of them, and waits until they are ready
			s += ", " + count(w.Pending, "object")
		}
	}
	if w.AddedFields > 0 {
		s += fmt.Sprintf(", +%d by others", w.AddedFields)
	}
	if w.Hold.By != "" {
		s += ", held"
	}
	return s
}

// standingLine is standingWords with how long it has been so: drifted 36 min, 1 field.
func (p *printer) standingLine(w client.Ward) string {
	first, rest, more := strings.Cut(standingWords(w), ", ")
	s := p.paint(string(w.Standing), standingGlyph[w.Standing]+" "+first) + " " + since(w.Since)
	if more {
		s += ", " + rest
	}
	return s
}

func (a *app) wardShow() *cobra.Command {
	c := &cobra.Command{
		Use: "show WARD", Short: "Show a ward: where it stands, its objects, and why something is failing",
		Long:              "Show a ward: where it stands, its objects in step order, who changed what, and for what is failing its events and the end of its log.",
		Example:           "  vigila ward show berth-planner@quay\n  vigila ward show berth-planner@quay -o yaml",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.GetWardWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			p.ward(r.JSON200)
			return p.failing(c.Context(), conn, r.JSON200)
		}),
	}
	return a.reading(c)
}

func (p *printer) head(w client.Ward) {
	at := w.Applied
	if at.Id == "" {
		at = w.Revision
	}
	p.line("%s  %s  %s  %s", p.paint("bold", w.Id), p.standingLine(w), p.health(w.Health), title(at))
	p.line("%s", w.Says)
	if w.Todo != "" {
		p.line("%s", w.Todo)
	}
}

func (p *printer) ward(d *client.WardDetail) {
	w := d.Ward
	p.head(w)
	p.line("")
	from := w.Repo + " " + w.Ref
	if w.Tag != "" {
		from += " (" + w.Tag + ")"
	}
	if w.Path != "" {
		from += " " + w.Path
	}
	if w.Chart != "" && w.Path == "" {
		from = w.Repo
	}
	if w.Form != "" && w.Form != "plain" {
		from += ", " + strings.TrimSpace(string(w.Form)+" "+w.Chart)
	}
	rows := [][]cell{{{"from", "soft"}, plain(from)}}
	if w.Roster != "" {
		rows = append(rows, []cell{{"declared", "soft"}, plain("by roster " + w.Roster + ", in " + w.Source)})
	}
	for _, n := range w.Notes {
		rows = append(rows, []cell{{"note", "soft"}, plain(n)})
	}
	if w.Owner != "" {
		rows = append(rows, []cell{{"owner", "soft"}, plain(w.Owner)})
	}
	rows = append(rows, []cell{{"keep", "soft"}, plain(fmt.Sprintf("sync %s, drift %s, additions %s, prune %t", pick(w.AutoSync, "auto", "ask"), pick(w.RestoreDrift, "restore", "report"), w.KeepAdditions, w.Prune))},
		[]cell{{"settle", "soft"}, plain(fmt.Sprintf("within %s, otherwise %s", span(time.Duration(w.SettleSeconds)*time.Second), w.SettleOtherwise))})
	if len(w.After) > 0 {
		rows = append(rows, []cell{{"after", "soft"}, plain(strings.Join(w.After, ", "))})
	}
	rows = append(rows,
		[]cell{{"repository", "soft"}, plain(known(w.Repository, "read "))}, []cell{{"cluster", "soft"}, plain(pick(w.Live.Known, "watched live", known(w.Live, "heard ")))})
	if w.Revision.Id != "" && w.Revision.Id != w.Applied.Id {
		rows = append(rows, []cell{{"newest", "soft"}, plain(title(w.Revision))})
	}
	if w.Rejections > 0 && w.Rejected == "" {
		rows = append(rows, []cell{{"rejected", "soft"}, plain(count(w.Rejections, "revision") + ": vigila rejections " + w.Id)})
	}
	if w.Rejected != "" && !strings.Contains(w.Says, w.Rejected) {
		rows = append(rows, []cell{{"rejected", "soft"}, plain(short(w.Revision) + ": " + w.Rejected)})
	}
	if m := d.Muted; m.By != "" {
		rows = append(rows, []cell{{"muted", "soft"}, plain(fmt.Sprintf("by %s until %s%s; nobody is told of it", m.By, m.Until.Local().Format("2006-01-02 15:04"), pick(m.Why == "", "", ": "+m.Why)))})
	} else if len(d.ToldBy) > 0 {
		rows = append(rows, []cell{{"told", "soft"}, plain("by alert " + few(d.ToldBy))})
	}
	if w.BrokenRules > 0 {
		rows = append(rows, []cell{{"rules", "soft"}, plain(pick(w.BrokenRules == 1, "1 thing breaks one", fmt.Sprintf("%d things break some", w.BrokenRules)) + ": vigila rule broken --ward " + w.Id)})
	}
	if w.Hold.By != "" {
		h := "by " + w.Hold.By + ", " + ago(w.Hold.At)
		if w.Hold.Why != "" {
			h += ": " + w.Hold.Why
		}
		if !w.Hold.Until.IsZero() {
			h += ", until " + w.Hold.Until.Local().Format("2006-01-02 15:04 MST")
		}
		rows = append(rows, []cell{{"held", "soft"}, plain(h)})
	}
	p.table(rows)
	step := ""
	for i, o := range d.Outline {
		if s := fmt.Sprintf("step %d", o.Step); s != step || i == 0 {
			step = s
			p.line("\n%s", p.paint("soft", step))
		}
		note := ""
		switch {
		case o.Task != "":
			note = taskWords(o.Task) + pick(o.Change == "run", ", runs with the next sync", "")
		case o.Gone:
			note = "deleted from the cluster by somebody"
		case o.Change == "create" && o.AlreadyThere:
			note = "already there, to be adopted"
		case o.Change != "":
			note = "to " + string(o.Change)
		}
		if o.Reason != "" && (o.Health != "ready" || o.Task == "") && !o.Gone && !(o.Task != "" && o.Health == "unknown") {
			note = strings.TrimPrefix(note+"; "+o.Reason, "; ")
		}
		health := p.health(o.Health)
		if o.Task != "" && o.Health == "unknown" {
			health = ""
		}
		words := []string{"  " + p.paint(string(o.Standing), standingGlyph[o.Standing]) + " " + p.paint("soft", o.Kind) + " " + o.Name}
		for _, w := range []string{health, note} {
			if w != "" {
				words = append(words, w)
			}
		}
		p.line("%s", strings.Join(words, "  "))
		p.drift("      ", o.Fields)
		for _, f := range o.Additions {
			p.line("      %s  added %s  %s", f.Path, value(f.To), who(f))
		}
		if o.RestartedBy != "" {
			p.line("      %s", p.paint("soft", "restarted by "+o.RestartedBy+", "+ago(o.RestartedAt)))
		}
		if o.Scaler != "" {
			p.line("      %s", p.paint("soft", "replicas are left to "+o.Scaler))
		}
		if len(o.Left) > 0 {
			p.line("      %s", p.paint("soft", "left to others: "+strings.Join(o.Left, ", ")))
		}
		for _, b := range o.Below {
			p.line("%s", strings.TrimRight(fmt.Sprintf("    %s%s  %s  %s", strings.Repeat("  ", b.Depth), p.paint("soft", b.Kind)+" "+b.Name, p.health(b.Health), pick(b.Health != "ready", b.Reason, "")), " "))
		}
	}
}

// failing prints events and the end of the log of the first failing object.
func (p *printer) failing(ctx context.Context, conn *client.Conn, d *client.WardDetail) error {
	for _, o := range d.Outline {
		if o.Health != "failing" {
			continue
		}
		r, err := conn.GetObjectWithResponse(ctx, d.Ward.Id, &client.GetObjectParams{Key: o.Key})
		if err := conn.Check(r, err); err != nil {
			return err
		}
		p.line("\n%s", p.paint("bold", "Why "+o.Kind+" "+o.Name+" is failing"))
		n := 0
		for _, e := range r.JSON200.Events {
			if e.IsWarning && n < 5 {
				n++
				p.line("  %s  %s  %s: %s", p.paint("soft", ago(e.At)), e.About, e.Reason, strings.TrimSpace(e.Text))
			}
		}
		for _, pod := range r.JSON200.Pods {
			if pod.Health != "failing" || len(pod.Containers) == 0 {
				continue
			}
			l, err := conn.GetLogsWithResponse(ctx, d.Ward.Id, &client.GetLogsParams{Key: o.Key, Pod: pod.Name, Container: pod.Containers[0], Previous: pod.Restarts > 0, Tail: 8})
			if conn.Check(l, err) == nil && len(l.Body) > 0 {
				p.line("  %s", p.paint("soft", "end of the log of "+pod.Name))
				for _, row := range strings.Split(strings.TrimRight(string(l.Body), "\n"), "\n") {
					p.line("    %s", row)
				}
			}
			break
		}
		return nil
	}
	return nil
}

func known(a client.AsOf, verb string) string {
	s := verb + ago(a.At)
	if !a.Next.IsZero() {
		s += ", next look in " + span(time.Until(a.Next))
	}
	if !a.Known {
		s = "can't be read"
		if !a.At.IsZero() {
			s += ", last " + verb + ago(a.At)
		}
		if a.Problem != "" {
			s += ": " + a.Problem
		}
	}
	return s
}

func pick[T any](yes bool, a, b T) T {
	if yes {
		return a
	}
	return b
}

// followRemoval follows a dismantling, and waits until the ward is gone.
func (a *app) followRemoval(ctx context.Context, conn *client.Conn, p *printer, ward string, number int) error {
	if number > 0 {
		if _, err := a.follow(ctx, conn, p, ward, number); err != nil {
			p.line("It is tried again by itself, until it is done. Follow it: vigila logbook %s", ward)
			return err
		}
	}
	for {
		r, err := conn.GetWardWithResponse(ctx, ward)
		if err == nil && r.StatusCode() == 404 {
			p.line("%s is not kept any more. Its logbook: vigila logbook %s", ward, ward)
			return nil
		}
		if err := conn.Check(r, err); err != nil {
			return err
		}
		if w := r.JSON200.Ward; w.NeedsYou {
			return &Exit{ExitFailed, w.Says}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (a *app) wardRemove() *cobra.Command {
	var dismantle bool
	var allow []string
	var why string
	c := &cobra.Command{
		Use: "remove WARD", Short: "Stop keeping a ward; its objects stay unless --dismantle",
		Long: `Stop keeping a ward. Its objects stay in the cluster, or with --dismantle they are removed first; from then on nothing
else is done to the ward, and the removal goes on by itself, whatever happens to this command or to the service. What may
never be removed (vigila.dev/guard: no-prune) is left behind. The logbook stays readable as long as the retention says.`,
		Example:           "  vigila ward remove fog-signal@quay\n  vigila ward remove fog-signal@quay --dismantle",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			p := a.printer(c.OutOrStdout())
			r, err := conn.RemoveWardWithResponse(c.Context(), args[0], &client.RemoveWardParams{Dismantle: dismantle, Allow: allow, Why: why})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if r.JSON202 == nil {
				p.line("%s is not kept any more%s. Its logbook: vigila logbook %s", args[0], pick(dismantle, "", "; its objects are left in the cluster"), args[0])
				return nil
			}
			return a.followRemoval(c.Context(), conn, p, args[0], r.JSON202.Entry)
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for the logbook")
	c.Flags().BoolVar(&dismantle, "dismantle", false, "remove its objects from the cluster first")
	c.Flags().StringSliceVar(&allow, "allow", nil, "guards to allow, by name")
	return c
}
