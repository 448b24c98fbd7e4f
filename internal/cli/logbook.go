package cli

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/core/nearest"
)

func (a *app) logbook() *cobra.Command {
	var limit, pageNo int
	var search, log, since string
	var follow bool
	c := &cobra.Command{
		Use: "logbook [WARD [ENTRY]]", Short: "Read the logbook: of all wards, of one, or one entry with every object",
		Example: "  vigila logbook\n  vigila logbook fare-gate@skerry\n  vigila logbook fare-gate@skerry 39\n  vigila logbook fare-gate@skerry 39 --log migrate\n  vigila logbook berth-planner@quay --log berth-migrate --follow\n  vigila logbook --search 'rollback operator' --since 8h",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 2 {
				return usage("vigila logbook takes a ward and an entry at most")
			}
			return nil
		},
		ValidArgsFunction: a.complete(entries(false)),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if err := pageAsked(pageNo, limit); err != nil {
				return err
			}
			from, err := sinceWhen(since, time.Now())
			if err != nil {
				return err
			}
			switch {
			case follow && log == "":
				return usage("--follow goes with --log TASK, the log that is followed; a run is followed by vigila run WARD")
			case follow && a.output != "text":
				return usage("--follow writes the log as it comes; leave out -o %s", a.output)
			case log != "" && len(args) == 0:
				return usage("--log goes with a ward: vigila logbook WARD [ENTRY] --log %s", log)
			case log != "" && len(args) == 1:
				n, err := a.goingOn(c, conn, args[0], log)
				if err != nil {
					return err
				}
				args = append(args, strconv.Itoa(n))
			}
			p := a.printer(c.OutOrStdout())
			offset := (pageNo - 1) * limit
			var list *client.EntryList
			switch len(args) {
			case 2:
				n, err := entryNumber(args[1])
				if err != nil {
					return err
				}
				r, err := conn.GetEntryWithResponse(c.Context(), args[0], n)
				if err := conn.Check(r, err); err != nil {
					return err
				}
				if log != "" {
					return a.taskLog(c, conn, r.JSON200, log, follow)
				}
				if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
					return err
				}
				moved, err := a.moved(c, conn, r.JSON200)
				if err != nil {
					return err
				}
				p.entry(r.JSON200, moved)
				return nil
			case 1:
				r, err := conn.ListWardEntriesWithResponse(c.Context(), args[0], &client.ListWardEntriesParams{Limit: limit, Offset: offset, Search: search, Since: from})
				if err := conn.Check(r, err); err != nil {
					return err
				}
				list = r.JSON200
			default:
				r, err := conn.ListEntriesWithResponse(c.Context(), &client.ListEntriesParams{Limit: limit, Offset: offset, Search: search, Since: from})
				if err := conn.Check(r, err); err != nil {
					return err
				}
				list = r.JSON200
			}
			if err := onPage(pageNo, limit, list.Total); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), list); done {
				return err
			}
			if list.Removed {
				p.line("%s", p.paint("soft", args[0]+" is not kept any more; this is its logbook, kept as long as the service is set to."))
			}
			if list.Total == 0 {
				p.line("%s", pick(search != "" || since != "", "No entry matches.", "No entries."))
				return nil
			}
			rows := [][]cell{{{"ENTRY", "soft"}, {"WHAT", "soft"}, {"WHEN", "soft"}, {"TOOK", "soft"}, {"BY", "soft"}, {"REVISION", "soft"}, {"WHY", "soft"}}}
			for _, e := range list.Items {
				name := fmt.Sprintf("#%d", e.Number)
				if len(args) == 0 {
					name = e.Ward + " " + name
				}
				what, color := entryWords(e)
				why := e.Why
				if e.Reason != "" {
					why = e.Reason
				}
				took := ""
				if !e.Ended.IsZero() && e.Ended.Sub(e.Started) > 0 {
					took = span(e.Ended.Sub(e.Started))
				}
				rows = append(rows, []cell{plain(name), {what, color}, plain(ago(e.Started)), plain(took), plain(e.By), plain(clip(title(e.Revision), 44)), plain(why)})
			}
			p.table(rows)
			if foot := pageOf(pageNo, limit, list.Total); foot != "" {
				p.line("\n%d of %d entries%s", len(list.Items), list.Total, foot)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&search, "search", "", "words that must all be in the ward, kind, outcome, revision, who or why")
	c.Flags().StringVar(&since, "since", "", "only what began since then: a time span such as 2h or 3d, a day such as 2026-11-20, or a day and time such as '2026-11-20 03:00'")
	c.Flags().StringVar(&log, "log", "", "the log of this task, of an entry or of the run that goes on")
	c.Flags().BoolVar(&follow, "follow", false, "with --log: what the task writes as it comes, until it has ended")
	c.Flags().IntVar(&limit, "limit", 30, "how many on a page, 1 to 1000")
	c.Flags().IntVar(&pageNo, "page", 1, "which page; 1 is the newest")
	return a.reading(c)
}

// sinceWhen reads a time: a span before now, or a day, with a time or not, of this machine's zone.
func sinceWhen(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	span := text
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil {
			span = fmt.Sprintf("%dh", 24*n)
		}
	}
	if d, err := time.ParseDuration(span); err == nil && d > 0 {
		return now.Add(-d).UTC(), nil
	}
	for _, form := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, usage("--since %q is no time; write a span such as 2h or 3d, a day such as %s, or a day and time such as '%s 03:00'", text, now.Format(time.DateOnly), now.Format(time.DateOnly))
}

// moved is what the run of an entry changed, by the keys of its objects: against what was there as a whole before it. Nothing is
// said where that is not kept.
func (a *app) moved(c *cobra.Command, conn *client.Conn, e *client.Entry) (map[string]client.MovedObject, error) {
	if !e.HasSnapshot || e.Kind != "sync" && e.Kind != "rollback" {
		return nil, nil
	}
	r, err := conn.CompareEntriesWithResponse(c.Context(), e.Ward, &client.CompareEntriesParams{To: e.Number})
	if err == nil && r.StatusCode() == http.StatusNotFound { // the ward is not kept any more
		return nil, nil
	}
	if err := conn.Check(r, err); err != nil {
		return nil, err
	}
	out := map[string]client.MovedObject{}
	for _, o := range r.JSON200.Objects {
		out[o.Key] = o
	}
	return out, nil
}

// goingOn is the number of the run that goes on in a ward, whose task is asked for.
func (a *app) goingOn(c *cobra.Command, conn *client.Conn, ward, task string) (int, error) {
	r, err := conn.GetWardWithResponse(c.Context(), ward)
	if err := conn.Check(r, err); err != nil {
		return 0, err
	}
	if r.JSON200.Ward.Run.Number == 0 {
		return 0, &Exit{ExitFailed, fmt.Sprintf("no run goes on in %s; name the entry: vigila logbook %s ENTRY --log %s", ward, ward, task)}
	}
	return r.JSON200.Ward.Run.Number, nil
}

// taskLog prints the log of a task of an entry, by the task's name.
func (a *app) taskLog(c *cobra.Command, conn *client.Conn, e *client.Entry, name string, follow bool) error {
	var kept, tasks []string
	for _, o := range e.Objects {
		if o.Task != "" {
			tasks = append(tasks, o.Name)
		}
		if o.Log {
			kept = append(kept, o.Name)
		}
		if o.Name != name && !strings.EqualFold(o.Kind+"/"+o.Name, name) || !o.Log && (!follow || o.Task == "") {
			continue
		}
		if follow {
			return a.followLog(c, conn, e, o.Key)
		}
		r, err := conn.GetTaskLogWithResponse(c.Context(), e.Ward, e.Number, &client.GetTaskLogParams{Key: o.Key})
		if err := conn.Check(r, err); err != nil {
			return err
		}
		if done, err := a.document(c.OutOrStdout(), map[string]any{"ward": e.Ward, "entry": e.Number, "task": o.Kind + "/" + o.Name, "log": string(r.Body)}); done {
			return err
		}
		_, err = a.printer(c.OutOrStdout()).Write(r.Body)
		return err
	}
	if slices.Contains(tasks, name) && e.Ended.IsZero() {
		return &Exit{ExitFailed, fmt.Sprintf("the task %s of #%d has not ended, so its log is not kept yet; follow it: vigila logbook %s %d --log %s --follow", name, e.Number, e.Ward, e.Number, name)}
	}
	if len(tasks) == 0 {
		return &Exit{ExitFailed, fmt.Sprintf("#%d of %s ran no tasks", e.Number, e.Ward)}
	}
	if !slices.Contains(tasks, name) {
		return &Exit{ExitFailed, fmt.Sprintf("#%d of %s has no task %s; %s", e.Number, e.Ward, name, nearest.Words(name, tasks))}
	}
	return &Exit{ExitFailed, fmt.Sprintf("#%d of %s keeps no log of %s; it keeps %s", e.Number, e.Ward, name, pick(len(kept) == 0, "none", strings.Join(kept, ", ")))}
}

// followLog prints the log of a task as it grows.
func (a *app) followLog(c *cobra.Command, conn *client.Conn, e *client.Entry, key string) error {
	r, err := conn.GetTaskLog(c.Context(), e.Ward, e.Number, &client.GetTaskLogParams{Key: key, Follow: true})
	if err == nil && r.StatusCode < 300 {
		defer r.Body.Close()
		if _, err := io.Copy(a.printer(c.OutOrStdout()), r.Body); err != nil && c.Context().Err() == nil {
			return fmt.Errorf("the log breaks off: %w", err)
		}
		return nil
	}
	var said *client.GetTaskLogResponse
	if err == nil {
		said, err = client.ParseGetTaskLogResponse(r)
	}
	return conn.Check(said, err)
}

// entryPart names the part of a run that an object belongs to.
func entryPart(o client.EntryObject) string {
	switch {
	case o.Task == "failed":
		return "when it had failed"
	case o.State == "removed" || o.State == "removing":
		return "then removed"
	}
	return fmt.Sprintf("step %d", o.Step)
}

func entryWords(e client.Entry) (text, color string) {
	switch e.Kind {
	case "hold", "release", "reject", "accept", "remove", "secret":
		return string(e.Kind), ""
	case "drift":
		return string(e.Kind), "drifted"
	}
	text = string(e.Kind) + ", " + string(e.Outcome)
	if e.ToEntry > 0 {
		text = fmt.Sprintf("%s to #%d, %s", e.Kind, e.ToEntry, e.Outcome)
	}
	if e.Outcome != "done" && e.Outcome != "running" {
		color = "failing"
	}
	return text, color
}

// shownMoves is how many fields of an object stand inside an entry.
const shownMoves = 12

// movesIn prints what of an object an entry's run changed.
func (p *printer) movesIn(o client.MovedObject) {
	var all []change
	for _, f := range o.Fields {
		all = append(all, between(f.Path, f.From, f.Change == "added", f.To, f.Change == "removed"))
	}
	more := len(all) - shownMoves
	if more > 0 {
		all = all[:shownMoves]
	}
	p.changes("      ", all)
	if more > 0 {
		p.line("%s", p.paint("soft", fmt.Sprintf("      and %d more", more)))
	}
}

func (p *printer) entry(e *client.Entry, moved map[string]client.MovedObject) {
	what, color := entryWords(*e)
	p.line("%s %s  %s", p.paint("bold", e.Ward), p.paint("bold", fmt.Sprintf("#%d", e.Number)), p.paint(color, what))
	if e.Reason != "" {
		p.line("%s", e.Reason)
	}
	rows := [][]cell{{{"by", "soft"}, plain(e.By)}, {{"started", "soft"}, plain(e.Started.Local().Format("2006-01-02 15:04:05 MST") + ", " + ago(e.Started))}}
	if !e.Ended.IsZero() {
		rows = append(rows, []cell{{"took", "soft"}, plain(span(e.Ended.Sub(e.Started)))})
	}
	if e.Why != "" {
		rows = append(rows, []cell{{"why", "soft"}, plain(e.Why)})
	}
	if e.Revision.Id != "" {
		rows = append(rows, []cell{{"revision", "soft"}, plain(title(e.Revision))})
	}
	p.table(rows)
	p.line("")
	var logs, failed []string
	several := slices.ContainsFunc(e.Objects, func(o client.EntryObject) bool { return o.Step != e.Objects[0].Step || o.Task == "failed" })
	part := ""
	for _, o := range e.Objects {
		if now := entryPart(o); several && now != part {
			part = now
			p.line("  %s", p.paint("soft", part))
		}
		took := ""
		if !o.Began.IsZero() && o.Ended.After(o.Began) && o.Task != "" {
			took = p.paint("soft", "  "+span(o.Ended.Sub(o.Began)))
		}
		m, differs := moved[o.Key]
		fresh := pick(differs && m.Change == "added", p.paint("soft", "  new"), "")
		p.line("  %s %s %s  %s%s%s", stateGlyph(p, o.State), p.paint("soft", o.Kind), o.Name, stateWords(o), took, fresh)
		if differs && m.Change == "changed" {
			p.movesIn(m)
		}
		if o.Log {
			logs = append(logs, o.Name)
		}
		if o.Task != "" && o.State == "not ready" {
			failed = append(failed, o.Kind+"/"+o.Name)
		}
	}
	for i, name := range logs {
		p.line(pick(i == 0, "\n", "")+"The log of its task: vigila logbook %s %d --log %s", e.Ward, e.Number, name)
	}
	for _, name := range failed {
		p.line("Run it once more, as it is declared now: vigila sync %s --only %s", e.Ward, name)
	}
	if e.HasSnapshot && e.Outcome != "running" {
		p.line("\nWhat has changed since: vigila compare %s %d", e.Ward, e.Number)
		if e.Outcome == "done" {
			p.line("Go back to it: vigila rollback %s %d", e.Ward, e.Number)
		}
	}
}
