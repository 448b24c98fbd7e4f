package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) diff() *cobra.Command {
	var look bool
	c := &cobra.Command{
		Use: "diff WARD", Short: "Show what a sync would do, field by field, and what has drifted, with who and when",
		Long: `Show what a sync would do, field by field, and what has drifted, with who and when. What the repository moved is
tried out on the API server (a dry run of what is pending only), so it is exactly what a sync does.
Exit code 3 when there are differences.`,
		Example:           "  vigila diff berth-planner@quay\n  vigila diff berth-planner@quay --look -o json",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if look {
				r, err := conn.LookNowWithResponse(c.Context(), args[0])
				if err := conn.Check(r, err); err != nil {
					return err
				}
			}
			r, err := conn.DiffWardWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			d := r.JSON200
			done, err := a.document(c.OutOrStdout(), d)
			if err != nil {
				return err
			}
			if !done {
				a.printer(c.OutOrStdout()).diff(d)
			}
			if d.Ward.Standing == "blind" {
				return &Exit{ExitFailed, "what is shown may not be all: " + d.Ward.Says}
			}
			if len(d.Changes)+len(d.Drift) > 0 || d.Ward.Standing != "in step" {
				return &Exit{Code: ExitDifferences}
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&look, "look", false, "look at the repository first")
	return a.reading(c)
}

func (p *printer) diff(d *client.WardDiff) {
	w := d.Ward
	p.line("%s  %s  %s  %s", p.paint("bold", w.Id), p.standingLine(w), p.health(w.Health), title(pick(w.Applied.Id != "", w.Applied, w.Revision)))
	if w.Run.Number > 0 {
		p.line("\n%s", w.Says)
	}
	if len(d.Changes)+len(d.Drift) == 0 {
		if w.Run.Number > 0 {
			return
		}
		if w.Standing == "in step" {
			p.line("\nNo differences: the cluster holds what %s declares.", title(w.Revision))
		} else {
			p.line("\n%s", w.Says)
		}
		return
	}
	if len(d.Changes) > 0 {
		p.line("\n%s", p.paint("behind", "The repository moved: "+title(w.Revision)))
		for _, o := range d.Changes {
			p.pending(o, "  ")
		}
	}
	leave := p.moved(d)
	p.line("")
	for _, g := range d.Guards {
		p.line("%s %s", p.paint("failing", "Guard "+g.Name+":"), g.Text+mends(g))
	}
	verb := "Sync it"
	switch {
	case len(d.Changes) > 0:
	case w.Drifted > 0:
		verb = "Restore it"
		p.line("%s: vigila restore %s", verb, w.Id)
		verb = ""
	case w.KeepAdditions == "remove":
		verb = "Take it away"
	default:
		verb = ""
	}
	retry := pick(len(d.Changes) > 0 && w.Rejected != "", " --retry", "")
	if retry != "" {
		p.line("%s %s", p.paint("failing", short(w.Revision)+" is rejected:"), w.Rejected)
	}
	if verb != "" && !slices.ContainsFunc(d.Guards, func(g client.Guard) bool { return g.Mend != "" }) {
		p.line("%s: vigila sync %s%s%s", verb, w.Id, retry, allow(d.Guards))
	}
	if leave != "" {
		p.line("Leave it to others: %s", leave)
	}
}

// moved prints what the cluster moved and what others added, and returns how the first of it is left to others.
func (p *printer) moved(d *client.WardDiff) (leave string) {
	drifted, added := false, false
	for _, o := range d.Drift {
		drifted = drifted || o.Gone || len(o.Fields) > 0
		added = added || len(o.Additions) > 0
	}
	var hints []string
	fields := 0
	hint := func(o client.Object, all []client.Difference) {
		var names []string
		for _, f := range all {
			if f.Pointer != "" && !slices.Contains(names, f.Pointer) {
				names = append(names, f.Pointer)
			}
		}
		if fields += len(names); len(names) > 0 {
			hints = append(hints, fmt.Sprintf("{of: %s/%s, fields: [%s]}", o.Kind, o.Name, strings.Join(names, ", ")))
		}
	}
	if drifted {
		p.line("\n%s", p.paint("drifted", "The cluster moved"))
	}
	for _, o := range d.Drift {
		if !o.Gone && len(o.Fields) == 0 {
			continue
		}
		p.line("  %s %s", p.paint("soft", o.Kind), p.paint("bold", o.Name))
		if o.Gone {
			p.line("    deleted by somebody")
		}
		hint(o, o.Fields)
		p.drift("    ", o.Fields)
	}
	fromDrift := len(hints)
	if added {
		p.line("\n%s", p.paint("soft", "Others added"))
	}
	for _, o := range d.Drift {
		if len(o.Additions) == 0 {
			continue
		}
		p.line("  %s %s", p.paint("soft", o.Kind), p.paint("bold", o.Name))
		var all []change
		if fromDrift == 0 {
			hint(o, o.Additions)
		}
		for _, f := range o.Additions {
			all = append(all, change{f.Path, []side{{value: f.To}}, who(f)})
		}
		p.changes("    ", all)
	}
	switch {
	case len(hints) == 0:
		return ""
	case fields > 12: // then the ward file is better written with the page beside it
		return "name the fields under leave: in the ward file"
	}
	return "leave: [" + strings.Join(hints, ", ") + "]"
}

// mends is what lets a run go on that a guard stops which can't be allowed, or what to declare instead of allowing it.
func mends(g client.Guard) string {
	if g.Mend+g.Instead == "" {
		return ""
	}
	return ". " + g.Mend + g.Instead
}

func allow(guards []client.Guard) string {
	s, why := "", ""
	for _, g := range guards {
		if g.Mend == "" {
			s += pick(s == "", " --allow ", ",") + g.Name
		}
		if strings.HasPrefix(g.Name, "rule:") {
			why = " --why REASON"
		}
	}
	return s + why
}

// pending prints what a run would do to one object.
func (p *printer) pending(o client.PendingObject, indent string) {
	word := string(o.Change)
	switch {
	case o.Task != "":
		word = taskWords(o.Task)
	case o.AlreadyThere:
		word = "already there, to be adopted"
	case o.Replaced:
		word = "to be deleted and made again: it can't be changed in place"
	case o.Change == "keep":
		word = "not declared any more, kept"
	}
	p.line("%s%s %s  %s", indent, p.paint("soft", o.Kind), p.paint("bold", o.Name), p.paint(pick(o.Replaced, "failing", "soft"), word))
	if o.Refused != "" {
		p.line("%s  %s %s", indent, p.paint("failing", "▲ would be refused:"), o.Refused)
	}
	switch {
	case o.Change == "create" && o.Task == "":
		p.created(indent+"  ", o.Fields, false)
		return
	case o.Change == "keep":
		return
	case o.Change == "remove":
		p.created(indent+"  ", o.Fields, true)
		return
	case o.Change == "update" && len(o.Fields) == 0 && o.Refused == "":
		p.line("%s  %s", indent, p.paint("soft", "no field changes"))
	}
	var all []change
	for _, f := range o.Fields {
		all = append(all, between(f.Path, f.From, f.Change == "added", f.To, f.Change == "removed"))
	}
	p.changes(indent+"  ", all)
}

// unfolded is how many fields of new objects are shown whole, over all of what is printed; then they are counted.
const unfolded = 300

// created prints what a new object is made of, or one that is gone was.
func (p *printer) created(indent string, fields []client.Difference, gone bool) {
	if len(fields) == 0 {
		return
	}
	if p.unfolded+len(fields) > unfolded {
		p.line("%s%s", indent, p.paint("soft", count(len(fields), "field")+"; -o yaml shows them"))
		return
	}
	p.unfolded += len(fields)
	var all []change
	for _, f := range fields {
		all = append(all, change{path: f.Path, values: []side{{value: pick(gone, f.From, f.To), color: pick(gone, "soft", "behind")}}})
	}
	p.changes(indent, all)
}

// drift prints what others changed of an object, with who and when.
func (p *printer) drift(indent string, fields []client.Difference) {
	var all []change
	for _, f := range fields {
		if f.Change == "made again" {
			p.line("%s%s  %s", indent, p.paint("drifted", "deleted, and made again"), who(f))
			continue
		}
		all = append(all, change{f.Path, []side{{label: "applied", value: f.From}, {label: "live", value: f.To, none: f.Change == "removed", color: "drifted"}}, who(f) + pick(f.Contested, ", contested", "")})
	}
	p.changes(indent, all)
}
