package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

func (a *app) roster() *cobra.Command {
	c := &cobra.Command{Use: "roster", Short: "Let a repository path declare wards, clusters and repositories", Example: "  vigila roster add moorings --repo moorings --path wards\n  vigila roster sync moorings"}
	c.AddCommand(a.rosterAdd(), a.rosterList(), a.rosterShow(), a.rosterLook(), a.rosterSync(), a.rosterRemove(), a.rosterForget())
	return c
}

func (a *app) rosterAdd() *cobra.Command {
	var in client.AddRoster
	c := &cobra.Command{
		Use: "add NAME", Short: "Add a roster or change one: a path whose ward files are followed",
		Long: `Add a roster or change one: a repository path that holds ward files. Vigila registers what they declare, and follows every
change: a ward file that comes is kept, one that goes is retired. Beside wards it may hold files of clusters (labels,
links), repositories (without secrets), health rules, and further rosters.

Limits hold for all of its wards, whatever their files say: the namespaces and clusters they may go into, and the
service account that their runs act as.

With --teams its files may hold teams as well (vigila team --help): whoever writes there says who may what to which wards.`,
		Example: "  vigila roster add moorings --repo moorings --path wards\n  vigila roster add ticketing --repo ticketing --namespace fare-gate --as deployer", Args: exactly(1, "a name"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if in.Name = args[0]; in.Repo == "" {
				return usage("vigila roster add needs --repo REPO")
			}
			r, err := conn.AddRosterWithResponse(c.Context(), in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).oneRoster(r.JSON200)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&in.Repo, "repo", "", "a known git repository")
	f.StringVar(&in.Ref, "ref", "", "branch, tag, commit or version range (default: main)")
	f.StringVar(&in.Path, "path", "", "directory or file in it (default: its root)")
	f.StringSliceVar(&in.Limits.Namespaces, "namespace", nil, "limit: the namespaces that its wards may keep")
	f.StringSliceVar(&in.Limits.Clusters, "cluster", nil, "limit: the clusters that its wards may go into")
	f.StringSliceVar(&in.Limits.Repos, "read", nil, "limit: the repositories that its wards may read beside the roster's own; where there is any limit, no others")
	f.BoolVar(&in.DeclaresTeams, "teams", false, "its files may say which teams there are, and so who may what")
	f.StringVar(&in.Limits.As, "as", "", "limit: the service account, in the ward's namespace, that their runs act as")
	return c
}

// oneRoster prints one roster with all there is to say of it.
func (p *printer) oneRoster(r *client.Roster) {
	rev := ""
	if r.Revision.Id != "" {
		rev = "   " + short(r.Revision) + " " + r.Revision.Subject
	}
	p.line("%s  %s%s", p.paint("bold", r.Name), p.paint(string(r.Standing), standingGlyph[client.Standing(r.Standing)]+" "+string(r.Standing)), rev)
	if !strings.HasSuffix(rev, r.Says) {
		p.line("%s", r.Says)
	}
	if r.Todo != "" {
		p.line("%s", r.Todo)
	}
	p.line("")
	p.line("%s %s at %s of %s%s", p.paint("soft", "files"), orThis(r.Path, "the root"), r.Ref, r.Repo, pick(r.Parent != "", ", declared by roster "+r.Parent, ""))
	p.line("%s %s", p.paint("soft", "wards"), countWards(r))
	if l := r.Limits; len(l.Namespaces)+len(l.Clusters)+len(l.Repos) > 0 || l.As != "" {
		var texts []string
		for _, x := range []struct {
			what string
			of   []string
		}{{"namespaces", l.Namespaces}, {"clusters", l.Clusters}, {"reads", append([]string{r.Repo}, l.Repos...)}} {
			if len(x.of) > 0 {
				texts = append(texts, x.what+" "+strings.Join(x.of, ", "))
			}
		}
		if l.As != "" {
			texts = append(texts, "acts as "+l.As)
		}
		p.line("%s %s", p.paint("soft", "limits"), strings.Join(texts, "; "))
	}
	if len(r.Problems) > 1 {
		p.line("")
		for _, x := range r.Problems {
			p.line("  %s:%d: %s", x.File, x.Line, x.Text)
		}
	}
	for _, l := range r.Left {
		p.line("")
		p.line("Left behind of %s %s: %s", l.Ward, ago(l.At), l.Why)
		for _, k := range l.Objects {
			p.line("  %s", k)
		}
		p.line("Seen to it? vigila roster forget %s", l.Ward)
	}
}

func countWards(r *client.Roster) string {
	if r.Wards == 0 {
		return "none"
	}
	s := fmt.Sprintf("%d: %d in step, %d ready", r.Wards, r.InStep, r.Ready)
	if r.NeedYou > 0 {
		s += fmt.Sprintf(", %d need you", r.NeedYou)
	}
	return s
}

func orThis(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

func (a *app) rosterList() *cobra.Command {
	return list(a, listing[client.Roster]{
		command: &cobra.Command{Use: "list", Short: "List rosters, each with its own standing and that of its wards", Example: "  vigila roster list"},
		none:    "No roster matches.", first: "No rosters yet. Add one: vigila roster add NAME --repo REPO --path PATH",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Roster, int, error) {
			r, err := conn.ListRostersWithResponse(ctx, &client.ListRostersParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: (*printer).rosters,
	})
}

// rosters prints rosters, one a line.
func (p *printer) rosters(items []client.Roster) {
	rows := [][]cell{{{"ROSTER", "soft"}, {"ITSELF", "soft"}, {"ITS WARDS", "soft"}, {"WHAT IS GOING ON", "soft"}}}
	for _, x := range items {
		name := plain(x.Name)
		if x.NeedsYou {
			name.color = "bold"
		}
		rows = append(rows, []cell{name, {standingGlyph[client.Standing(x.Standing)] + " " + string(x.Standing), string(x.Standing)}, plain(countWards(&x)), plain(x.Says)})
	}
	p.table(rows)
}

// onRoster makes a command that reads one roster.
func (a *app) onRoster(use, about, example string, do func(context.Context, *client.Conn, string) (*client.Roster, error)) *cobra.Command {
	return a.reading(&cobra.Command{
		Use: use, Short: about, Example: example, Args: exactly(1, "the name of a roster"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := do(c.Context(), conn, args[0])
			if err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			p.oneRoster(r)
			return p.wardsOf(c.Context(), conn, r.Name)
		}),
	})
}

// wardsOf lists the wards of a roster, what needs somebody first.
func (p *printer) wardsOf(ctx context.Context, conn *client.Conn, roster string) error {
	rows := [][]cell{}
	for offset := 0; ; offset += 1000 {
		r, err := conn.ListWardsWithResponse(ctx, &client.ListWardsParams{Roster: roster, Limit: 1000, Offset: offset})
		if err := conn.Check(r, err); err != nil {
			return err
		}
		for _, w := range r.JSON200.Items {
			rows = append(rows, wardRow(w))
		}
		if offset+1000 >= r.JSON200.Total {
			break
		}
	}
	if len(rows) > 0 {
		p.line("")
		p.table(rows)
	}
	return nil
}

func (a *app) rosterShow() *cobra.Command {
	return a.onRoster("show NAME", "Show a roster: what its files get wrong, its wards, and what was left behind", "  vigila roster show moorings", func(ctx context.Context, conn *client.Conn, name string) (*client.Roster, error) {
		r, err := conn.GetRosterWithResponse(ctx, name)
		return r.JSON200, conn.Check(r, err)
	})
}

func (a *app) rosterLook() *cobra.Command {
	return a.onRoster("look NAME", "Read a roster's files now and do what they say", "  vigila roster look moorings", func(ctx context.Context, conn *client.Conn, name string) (*client.Roster, error) {
		r, err := conn.LookAtRosterWithResponse(ctx, name)
		return r.JSON200, conn.Check(r, err)
	})
}

func (a *app) rosterSync() *cobra.Command {
	var allow []string
	var noWait, preview bool
	c := &cobra.Command{
		Use: "sync NAME", Short: "Bring all wards of a roster up, each after those it waits for, and watch to the end",
		Long: `Read a roster's files now, and bring all of its wards up, and those of the rosters in it: each syncs as soon as those it waits
for (after, spread) are in step and ready. A ward that was never up is synced even if it asks; one that is up already stays as
people have decided: it is asked for, held, or stays where it was taken back to. It watches until every other ward is in
step and ready, and fails when one of them can't get there.`,
		Example: "  vigila roster sync moorings\n  vigila roster sync moorings --allow mass-removal", Args: exactly(1, "the name of a roster"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if preview {
				return a.rosterPreview(c, conn, args[0])
			}
			r, err := conn.SyncRosterWithResponse(c.Context(), args[0], client.SyncRoster{Allow: allow})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if noWait || r.JSON200.Wards == 0 && len(r.JSON200.Leaving) == 0 {
				p.oneRoster(r.JSON200)
				return nil
			}
			plan, err := conn.PreviewRosterWithResponse(c.Context(), args[0])
			if err := conn.Check(plan, err); err != nil {
				return err
			}
			stays := map[string]string{} // what somebody has decided about; it is told, and not waited for
			for _, x := range plan.JSON200.Items {
				if !x.Sync && x.Pending > 0 {
					stays[x.Ward] = x.Why
				}
			}
			return p.bringUp(c.Context(), conn, args[0], stays)
		}),
	}
	c.Flags().StringSliceVar(&allow, "allow", nil, "guards of the roster to allow, by name")
	c.Flags().BoolVar(&noWait, "no-wait", false, "start it and return")
	c.Flags().BoolVar(&preview, "preview", false, "show what would be done to each ward, and do nothing")
	return a.reading(c)
}

// rosterPreview prints what bringing a roster up would do to each of its wards.
func (a *app) rosterPreview(c *cobra.Command, conn *client.Conn, name string) error {
	r, err := conn.PreviewRosterWithResponse(c.Context(), name)
	if err := conn.Check(r, err); err != nil {
		return err
	}
	if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
		return err
	}
	p := a.printer(c.OutOrStdout())
	rows := [][]cell{{{"WARD", "soft"}, {"WOULD", "soft"}, {"OBJECTS", "soft"}, {"WHY", "soft"}}}
	n := 0
	for _, x := range r.JSON200.Items {
		do := cell{"stay as it is", "soft"}
		if x.Sync {
			n++
			do = cell{"sync", "behind"}
		}
		rows = append(rows, []cell{plain(x.Ward), do, plain(fmt.Sprint(x.Pending)), plain(x.Why)})
	}
	p.table(rows)
	if n == 0 {
		p.line("\nA preview; nothing is done, and nothing would be: none of %s would sync.", count(len(r.JSON200.Items), "ward"))
		return nil
	}
	p.line("\nA preview; nothing is done. %s of %d would sync: vigila roster sync %s", count(n, "ward"), len(r.JSON200.Items), name)
	return nil
}

// bringUp watches the wards of a roster until all are in step and ready, or one can't get there.
func (p *printer) bringUp(ctx context.Context, conn *client.Conn, name string, stays map[string]string) error {
	for _, w := range slices.Sorted(maps.Keys(stays)) {
		p.line("%6s  %-32s stays as it is: %s", "", w, stays[w])
	}
	said := map[string]string{}
	began := time.Now()
	stuck := map[string]time.Time{}
	for {
		roster, err := conn.GetRosterWithResponse(ctx, name)
		if err := conn.Check(roster, err); err != nil {
			return err
		}
		rosters, err := conn.ListRostersWithResponse(ctx, &client.ListRostersParams{Limit: 1000})
		if err := conn.Check(rosters, err); err != nil {
			return err
		}
		in := map[string]bool{name: true}
		for range rosters.JSON200.Items {
			for _, x := range rosters.JSON200.Items {
				in[x.Name] = in[x.Name] || in[x.Parent]
			}
		}
		wards, done, waiting := 0, 0, 0
		var bad []client.Ward
		for of := range in {
			for offset := 0; ; offset += 1000 {
				list, err := conn.ListWardsWithResponse(ctx, &client.ListWardsParams{Roster: of, Limit: 1000, Offset: offset})
				if err := conn.Check(list, err); err != nil {
					return err
				}
				for _, w := range list.JSON200.Items {
					if stays[w.Id] != "" {
						continue
					}
					if len(w.Guards) > 0 && w.Run.Number == 0 { // it was not known yet when the plan was made: a lookout tells it
						stays[w.Id] = "a guard would stop it: " + w.Guards[0].Text
						p.line("%6s  %-32s stays as it is: %s", "", w.Id, visible.Line(stays[w.Id]))
						continue
					}
					wards++
					text := fmt.Sprintf("%s %s, %s: %s", standingGlyph[w.Standing], w.Standing, w.Health, w.Says)
					ok := w.Standing == "in step" && w.Health == "ready" && w.Run.Number == 0
					if ok {
						done++
						text = standingGlyph[w.Standing] + " in step and ready"
						delete(stuck, w.Id)
					} else if w.NeedsYou && w.Run.Number == 0 || w.Hold.By != "" {
						if stuck[w.Id].IsZero() {
							stuck[w.Id] = time.Now()
						}
						if time.Since(stuck[w.Id]) > 5*time.Second { // a moment passes between two runs
							bad = append(bad, w)
						}
					} else if w.WaitsFor != "" {
						waiting++
					}
					worth := ok || w.Run.Number > 0 && said[w.Id] == "" || w.NeedsYou || w.WaitsFor != ""
					if w.Run.Number > 0 {
						text = fmt.Sprintf("%s %s", standingGlyph[w.Standing], "its run goes on")
					}
					if said[w.Id] != text && worth {
						said[w.Id] = text
						p.line("%6s  %-32s %s", time.Since(began).Round(time.Second), w.Id, text)
					}
				}
				if offset+1000 >= list.JSON200.Total {
					break
				}
			}
		}
		if done == wards && len(roster.JSON200.Leaving) == 0 {
			p.line("")
			if roster.JSON200.Standing != "in step" {
				p.line("All %d are in step and ready, but the roster itself is %s: %s", wards, roster.JSON200.Standing, roster.JSON200.Says)
				return &Exit{Code: ExitFailed}
			}
			p.line("All %d are in step and ready after %s.", wards, time.Since(began).Round(time.Second))
			return nil
		}
		if len(bad) > 0 && len(bad)+done >= wards-waiting {
			p.line("")
			for _, w := range bad {
				p.line("%s: %s", w.Id, w.Says)
				if w.Todo != "" {
					p.line("  %s", w.Todo)
				}
			}
			return &Exit{Code: ExitFailed, Text: fmt.Sprintf("%d of %d wards are in step and ready; %d need you", done, wards, len(bad))}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func (a *app) rosterRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Forget a roster; the wards that it declared are kept on", Example: "  vigila roster remove moorings", Args: exactly(1, "the name of a roster"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RemoveRosterWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("%s is forgotten; its wards are kept as they are. Change them with vigila ward add, stop keeping them with vigila ward remove.", args[0])
			return nil
		}),
	}
}

func (a *app) rosterForget() *cobra.Command {
	return &cobra.Command{
		Use: "forget WARD@CLUSTER", Short: "Forget what was left behind of a ward; nothing in the cluster changes", Example: "  vigila roster forget fog-signal@quay", Args: exactly(1, "name@cluster"),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.ForgetLeftWithResponse(c.Context(), args[0])
			if err := conn.Check(r, err); err != nil {
				return err
			}
			a.printer(c.OutOrStdout()).line("What was left behind of %s is forgotten.", args[0])
			return nil
		}),
	}
}

func (a *app) adopt() *cobra.Command {
	var in client.DraftAdoption
	var into, base, branch, dir string
	c := &cobra.Command{
		Use: "adopt NAMESPACE@CLUSTER", Short: "Declare what is in a namespace already: write its manifests and a ward file",
		Long: `Look at a namespace of a live cluster and write plain, cleaned manifests and a ward file for what is in it: to a branch of a
repository (--repo), or to a directory on this machine (--dir). The cluster is not changed. Once they are merged and
the ward is added, its first difference is the mark of the ward alone.

Left out is what controllers make, what another ward keeps, and Secrets: those never enter git.`,
		Example: "  vigila adopt lighthouse@quay --repo moorings --branch adopt/lighthouse\n  vigila adopt lighthouse@quay --dir ./lighthouse", Args: exactly(1, "NAMESPACE@CLUSTER"),
		RunE: func(c *cobra.Command, args []string) error {
			namespace, clusterName, ok := strings.Cut(args[0], "@")
			if !ok || namespace == "" || clusterName == "" {
				return usage("%q is not NAMESPACE@CLUSTER", args[0])
			}
			if (into == "") == (dir == "") {
				return usage("vigila adopt needs one of --repo and --dir")
			}
			conn, err := a.dial()
			if err != nil {
				return err
			}
			in.Namespace, in.Repo = namespace, into
			r, err := conn.DraftAdoptionWithResponse(c.Context(), clusterName, in)
			if err := conn.Check(r, err); err != nil {
				return err
			}
			p := a.printer(c.OutOrStdout())
			where, proposed := dir, 0
			if dir != "" {
				for _, f := range r.JSON200.Files {
					name := filepath.Join(dir, filepath.FromSlash(f.Path))
					if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
						return err
					}
					if err := writeNew(name, f.Text); err != nil {
						return err
					}
				}
			} else {
				if branch == "" {
					branch = "vigila/adopt-" + namespace
				}
				pr, err := conn.ProposeFilesWithResponse(c.Context(), into, client.ProposeFiles{Base: base, Branch: branch, Subject: fmt.Sprintf("Declare what is in namespace %s of %s", namespace, clusterName),
					Body: "Manifests of what is there already, and a ward file. The cluster is not changed.", Files: r.JSON200.Files})
				if err := conn.Check(pr, err); err != nil {
					return err
				}
				where = fmt.Sprintf("branch %s of %s", branch, into)
				proposed = pr.JSON200.Number
			}
			p.line("%d objects of namespace %s are written to %s:", r.JSON200.ObjectCount, namespace, where)
			for _, f := range r.JSON200.Files {
				p.line("  %s", f.Path)
			}
			if len(r.JSON200.Skipped) > 0 {
				p.line("Left out:")
				for _, s := range r.JSON200.Skipped {
					p.line("  %s: %s", s.Name, s.Why)
				}
			}
			if dir != "" {
				p.line("The cluster is as it was. Next: put the files into a repository. A roster that reads it finds the ward; else say in the ward file which one it is (from.repo), and: vigila ward add FILE")
			} else {
				if proposed > 0 {
					p.line("The cluster is as it was. What it would do: vigila propose show %d     Merge it: vigila propose merge %d", proposed, proposed)
				}
				p.line("A roster that reads %s finds the ward then; else: vigila ward add FILE", into)
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&into, "repo", "", "the known repository to write to")
	f.StringVar(&base, "base", "", "with --repo: the branch that it is meant for (default: main)")
	f.StringVar(&branch, "branch", "", "with --repo: the new branch (default: vigila/adopt-NAMESPACE)")
	f.StringVar(&dir, "dir", "", "the directory on this machine to write to")
	f.StringVar(&in.Ward, "ward", "", "what the ward is called (default: as the namespace)")
	f.StringVar(&in.Path, "path", "", "where the manifests go (default: as the ward)")
	return c
}

// writeNew writes a file that is not there yet.
func writeNew(name, text string) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("%w; choose an empty directory", err)
	}
	if _, err := f.WriteString(text); err != nil {
		return err
	}
	return f.Close()
}
