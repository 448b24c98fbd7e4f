package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
)

func (a *app) audit() *cobra.Command {
	var who, since string
	c := list(a, listing[client.AuditEntry]{
		command: &cobra.Command{Use: "audit", Short: "List what was done, by whom, and what came of it",
			Long: `List every change that somebody asked for, the newest first: who, through what, on what, and what came of it, refused ones too; and
the runs of wards, whoever began them. Each entry is bound to the one before, so that a change of one shows (vigila audit verify).`,
			Example: "  vigila audit\n  vigila audit --who operator --since 2d\n  vigila audit --search 'hold fare-gate'"},
		none: "Nothing such was done.", first: "Nothing was done yet.",
		narrowed: func() bool { return who != "" || since != "" },
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.AuditEntry, int, error) {
			from, err := sinceWhen(since, time.Now())
			if err != nil {
				return nil, nil, 0, err
			}
			r, err := conn.ListAuditWithResponse(ctx, &client.ListAuditParams{Who: who, Since: from, Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.AuditEntry) {
			for _, e := range items {
				p.auditEntry(e)
			}
		},
	})
	c.Flags().StringVar(&who, "who", "", "only what somebody did: the name of a token, 'roster NAME', or vigila")
	c.Flags().StringVar(&since, "since", "", "only what was done since then: a time span such as 2h or 3d, a day such as 2026-11-20, or a day and time such as '2026-11-20 03:00'")
	c.AddCommand(a.auditVerify(), a.auditFollow())
	return c
}

// auditEntry prints what was done: a line, and below it what was wished and what is another.
func (p *printer) auditEntry(e client.AuditEntry) {
	by := e.By
	if e.Through != "" {
		by += ", " + e.Through
	}
	came := p.paint(pick(e.CameTo == "done", "soft", pick(e.CameTo == "begun", "", "failing")), pick(e.CameTo == "begun", "not known what came of it", string(e.CameTo)))
	p.line("%s  %s  %s  %s", p.paint("bold", e.Verb+" "+e.OfWhat+" "+e.Name), came, by, p.paint("soft", fmt.Sprintf("#%d, %s", e.Number, ago(e.At))))
	if e.Why != "" {
		p.line("  %s", e.Why)
	}
	if text := facts(e.Wished); text != "" {
		p.line("  %s", p.paint("soft", text))
	}
	for _, key := range slices.Sorted(maps.Keys(both(e.Was, e.Is))) {
		p.line("  %s: %s → %s", key, orNothing(e.Was[key]), orNothing(e.Is[key]))
	}
}

func both(a, b map[string]string) map[string]string {
	out := maps.Clone(a)
	if out == nil {
		out = map[string]string{}
	}
	maps.Copy(out, b)
	return out
}

func orNothing(text string) string { return pick(text == "", "nothing", text) }

// facts are names and values in a line.
func facts(all map[string]string) string {
	var out []string
	for _, key := range slices.Sorted(maps.Keys(all)) {
		out = append(out, strings.ReplaceAll(key, "_", " ")+" "+brief(all[key]))
	}
	return strings.Join(out, ", ")
}

// brief is a value as people write it: of a commit its first letters.
func brief(v string) string {
	if commit.MatchString(v) {
		return v[:7]
	}
	return v
}

var commit = regexp.MustCompile(`^[0-9a-f]{40}$`)

func (a *app) auditVerify() *cobra.Command {
	kept := ""
	c := &cobra.Command{
		Use: "verify", Short: "Verify that what was done is what was written: nothing changed, taken out or put in between", Args: noArgs,
		Long: `Verify that the account of what was done is what was written: each entry is bound to the one before by a hash, so that none can be
changed, taken out or put in between without showing. Whoever can write to the database could take the newest away, or bind all of it
anew. That shows against a line that was kept elsewhere: its number and its digest, as verify and vigila audit follow print them.`,
		Example: "  vigila audit verify\n  vigila audit verify --kept 1204:2f0c4f0c3b6e…",
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, _ []string) error {
			line, err := keptLine(kept)
			if err != nil {
				return err
			}
			r, err := conn.VerifyAuditWithResponse(c.Context(), &line)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			v := r.JSON200
			done, err := a.document(c.OutOrStdout(), v)
			if err != nil {
				return err
			}
			switch {
			case v.Problem != "":
				return fmt.Errorf("what was done is not what was written: %s", v.Problem)
			case done:
			case v.LastNumber == 0:
				a.printer(c.OutOrStdout()).line("Nothing was done yet.")
			default:
				a.printer(c.OutOrStdout()).line("Entries #%d to #%d are what was written. Keep the last elsewhere: %d:%s", v.FirstNumber, v.LastNumber, v.LastNumber, v.Digest)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&kept, "kept", "", "a line that was kept elsewhere, as NUMBER:DIGEST: it must be there still")
	return a.reading(c)
}

// keptLine reads NUMBER:DIGEST.
func keptLine(text string) (out client.VerifyAuditParams, err error) {
	if text == "" {
		return out, nil
	}
	number, digest, _ := strings.Cut(text, ":")
	out.Number, err = strconv.Atoi(number)
	if out.Digest = digest; err != nil || out.Number < 1 || !digestForm.MatchString(digest) {
		return out, usage("--kept %q is no line; write NUMBER:DIGEST, as vigila audit verify prints it", text)
	}
	return out, nil
}

var digestForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

func (a *app) auditFollow() *cobra.Command {
	after := 0
	c := &cobra.Command{
		Use: "follow", Short: "Print what was done and is done from now on, an event a line, for whoever keeps it elsewhere", Args: noArgs,
		Long: `Print every line of the account as a CloudEvent in JSON, the oldest first, and go on with what is done, until Ctrl-C: what begins and
what came of it are two. The id of an event is the number of its line: --after goes on behind one that was kept.`,
		Example: "  vigila audit follow >> vigila-audit.jsonl\n  vigila audit follow --after 1204 | logger --tag vigila",
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, _ []string) error {
			if after < 0 {
				return usage("--after %d is no number of a line; write the last one that was kept, or 0 for all", after)
			}
			for {
				n, err := auditLines(c.Context(), conn, c.OutOrStdout(), after)
				if err != nil {
					return err
				}
				if after += n; n > 0 {
					continue
				}
				select {
				case <-c.Context().Done():
					return nil
				case <-time.After(time.Second):
				}
			}
		}),
	}
	c.Flags().IntVar(&after, "after", 0, "only lines behind this number")
	return c
}

// auditLines prints the next lines behind a number, and gives back how far the last is from it.
func auditLines(ctx context.Context, conn *client.Conn, w io.Writer, after int) (int, error) {
	r, err := conn.ListAuditWithResponse(ctx, &client.ListAuditParams{After: after, Apart: true, Limit: 1000})
	if ctx.Err() != nil {
		return 0, nil
	}
	if err := conn.Check(r, err); err != nil {
		return 0, err
	}
	last := after
	for _, e := range r.JSON200.Items {
		text, err := json.Marshal(map[string]any{"specversion": "1.0", "id": fmt.Sprint(e.Number), "source": "/vigila/audit", "type": "dev.vigila.audit." + string(e.CameTo), "subject": e.OfWhat + " " + e.Name,
			"time": e.At.UTC().Format(time.RFC3339Nano), "datacontenttype": "application/json", "data": e})
		if err != nil {
			return 0, err
		}
		if _, err := fmt.Fprintf(w, "%s\n", text); err != nil {
			return 0, err
		}
		last = e.Number
	}
	return last - after, nil
}
