package main

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/check"
	"vigila.dev/vigila/internal/cli"
	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/follow"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/kit"
	"vigila.dev/vigila/internal/core/lane"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/versions"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
	"vigila.dev/vigila/internal/visible"
)

// target says which cluster something is rendered for, on the command line.
type target struct {
	cluster     string
	labels      map[string]string
	kubeVersion string
	apis        []string
}

func (t *target) add(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&t.cluster, "cluster", "", "name of the cluster that it is for")
	f.StringToStringVar(&t.labels, "label", nil, "labels of that cluster, such as tier=rehearsal")
	f.StringVar(&t.kubeVersion, "kube-version", "", "Kubernetes version of that cluster, such as v1.35.0")
	f.StringSliceVar(&t.apis, "api", nil, "APIs of that cluster, such as gateway.networking.k8s.io/v1")
}

func (t *target) facts() render.Cluster {
	return render.Cluster{Name: t.cluster, Labels: t.labels, Version: t.kubeVersion, APIs: t.apis}
}

const rootHelp = "the repository's root, where paths start (default: that of the git work tree)"

// tree finds what a path is in: the git work tree around it, so that an overlay may reach its bases, else its own
// directory.
func tree(at, root string) (render.Tree, string, error) {
	full, err := filepath.Abs(at)
	if err != nil {
		return nil, "", err
	}
	st, err := os.Stat(full)
	if err != nil {
		return nil, "", err
	}
	dir := full
	if !st.IsDir() {
		dir = filepath.Dir(full)
	}
	if root != "" {
		if root, err = filepath.Abs(root); err != nil {
			return nil, "", err
		}
		if full != root && !strings.HasPrefix(full, root+string(filepath.Separator)) {
			return nil, "", fmt.Errorf("%s is not below the root %s", at, root)
		}
	} else if out, err := exec.Command("git", "-C", dir, "rev-parse", "--show-toplevel").Output(); err == nil {
		root = strings.TrimSpace(string(out))
	} else {
		root = dir
	}
	if real, err := filepath.EvalSymlinks(full); err == nil && !strings.HasPrefix(full, root) {
		full = real
	}
	rel, err := filepath.Rel(root, full)
	if err != nil {
		return nil, "", err
	}
	if rel == "." {
		rel = ""
	}
	return repo.Folder{Root: root, Without: ignored(root)}, filepath.ToSlash(rel), nil
}

// ignored lists what git leaves out of the work tree at root, as the service never sees it; none where there is no git.
func ignored(root string) map[string]bool {
	out := map[string]bool{}
	text, err := exec.Command("git", "-C", root, "ls-files", "--others", "--ignored", "--exclude-standard", "--directory", "-z").Output()
	if err != nil {
		return out
	}
	for name := range strings.SplitSeq(string(text), "\x00") {
		if name != "" {
			out[strings.TrimSuffix(name, "/")] = true
		}
	}
	return out
}

func renderCommand() *cobra.Command {
	var t target
	var values, sets []string
	var name, namespace, root string
	c := &cobra.Command{
		Use: "render PATH", Short: "Print the objects that a path declares; needs neither service nor cluster",
		Long: `Print the objects that a path declares, as Vigila reads them: plain files, an overlay (kustomization.yaml), a chart
(Chart.yaml) or a template (template.yaml); or a ward file whose path is in the same work tree. Mistakes are reported
with file and line. It needs neither the service nor a cluster; --cluster and the flags beside it say what a chart or a
template is to see of one.`,
		Example: "  vigila render services/berth-planner/quay\n  vigila render charts/fare-gate --values values/quay.yaml --set replicas=3\n  vigila render wards/berth-planner.yaml --cluster skerry --label tier=production",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return &cli.Exit{Code: cli.ExitUsage, Text: "vigila render needs a path"}
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			render.Offline()
			in, rel, err := tree(args[0], root)
			if err != nil {
				return err
			}
			w := ward.Ward{Name: name, From: ward.From{Repo: "here", Ref: "main", Path: rel, Values: map[string]any{}}, Into: ward.Into{Namespace: namespace}}
			wards := []ward.Ward{w}
			if data, err := in.Read(rel); err == nil && ward.IsFile(data) {
				if wards, err = ward.ParseIn(ward.From{Repo: "here", Ref: "main"}, rel, data); err != nil {
					return err
				}
			}
			total := 0
			for _, w := range wards {
				w = w.For(t.cluster, t.labels)
				w.From.Repo = "here" // what it is called elsewhere does not matter
				if w.From.Ref == "" {
					w.From.Ref = "main"
				}
				for _, file := range values {
					data, err := os.ReadFile(file)
					if err != nil {
						return err
					}
					v, err := object.DecodeFile(file, data)
					if err != nil {
						return err
					}
					m, _ := v.(map[string]any)
					w.From.Values = ward.Merge(w.From.Values, m)
				}
				for _, s := range sets {
					key, text, ok := strings.Cut(s, "=")
					if !ok {
						return &cli.Exit{Code: cli.ExitUsage, Text: fmt.Sprintf("--set is %q; write KEY=VALUE, such as image.tag=1.4", s)}
					}
					v, err := object.DecodeYAML("--set", object.Document{Line: 1, Text: []byte(text)})
					if err != nil {
						return err
					}
					keys := strings.Split(key, ".")
					slices.Reverse(keys)
					for _, k := range keys {
						v = map[string]any{k: v}
					}
					w.From.Values = ward.Merge(w.From.Values, v.(map[string]any))
				}
				way := render.Pipeline{Scopes: render.KnownScopes}
				res, _, err := way.Run(c.Context(), render.Request{Ward: w, Cluster: t.facts(), Tree: in})
				if err != nil {
					return err
				}
				if res.Form == render.PlainForm {
					files, err := in.Files(w.From.Path, render.Wanted)
					if err != nil {
						return err
					}
					if _, err := render.Rules(files); err != nil {
						return err
					}
				}
				for _, o := range res.Objects {
					b, err := yaml.Marshal(o.Body)
					if err != nil {
						return err
					}
					fmt.Fprintf(c.OutOrStdout(), "---\n# %s\n%s", visible.Line(o.At()), b)
				}
				for _, n := range res.Notes {
					fmt.Fprintln(c.ErrOrStderr(), visible.Text(n))
				}
				total += len(res.Objects)
			}
			if total == 0 {
				fmt.Fprintf(c.ErrOrStderr(), "%s declares no objects\n", args[0])
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&name, "name", "check", "what the ward, and a chart's release, is called")
	f.StringVar(&root, "root", "", rootHelp)
	f.StringVar(&namespace, "namespace", "default", "the ward's namespace")
	f.StringArrayVar(&values, "values", nil, "file of values for a chart or template, over those before")
	f.StringArrayVar(&sets, "set", nil, "one value, such as image.tag=1.4, over those of files")
	t.add(c)
	return c
}

// readInput reads a file, or standard input for -.
func readInput(name string, stdin io.Reader) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(stdin)
	}
	return os.ReadFile(name)
}

func checkCommand() *cobra.Command {
	var t target
	var schema, format, root, since string
	var elsewhere []string
	var strict bool
	c := &cobra.Command{
		Use: "check [PATH]", Short: "Check everything in a directory before it is merged; needs neither service nor cluster",
		Long: `Parse, render and check everything in a directory: ward files and what else is Vigila's own, what each ward declares,
overlays, charts, templates and plain manifests. What comes of them goes the same way as in the service: into its
namespaces, and within the limits of the roster that the ward file lies in, so that what the service would refuse is told
before the merge; so is what would wait for ever, or means nothing: a circle in after, a ward that is not there, an entry of
leave or a health rule for what nobody declares. Rulebooks hold as they do in the service: what breaks a rule that refuses
fails the check, and says what to write instead; what is only warned of does not, unless with --strict. With --since only what a
branch brings in is told: not what was broken before it, and it did not touch. What git ignores is not looked at. With --schema every object is held against
how a cluster describes its kinds, and the definitions beside it: vigila cluster schema NAME saves that. It exits 1 when
something is wrong.

As a git hook: printf '#!/bin/sh\nexec vigila check\n' > .git/hooks/pre-commit; chmod +x .git/hooks/pre-commit.
In a pipeline: -o junit or -o sarif.`,
		Example: "  vigila check\n  vigila check services/ --schema skerry.json\n  vigila cluster schema skerry | vigila check --schema -\n  vigila check -o sarif > vigila.sarif",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return &cli.Exit{Code: cli.ExitUsage, Text: "vigila check takes one path"}
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			render.Offline()
			if !slices.Contains([]string{"text", "json", "sarif", "junit"}, format) {
				return &cli.Exit{Code: cli.ExitUsage, Text: fmt.Sprintf("-o %s is not known; write text, json, sarif or junit", format)}
			}
			at := "."
			if len(args) == 1 {
				at = args[0]
			}
			in, rel, err := tree(at, root)
			if err != nil {
				return err
			}
			opts := check.Options{Cluster: t.facts(), Elsewhere: elsewhere, Now: time.Now()}
			if schema != "" {
				text, err := readInput(schema, c.InOrStdin())
				if err != nil {
					return err
				}
				if opts.Schema, err = check.ParseSchema(text); err != nil {
					return fmt.Errorf("%s: %w", schema, err)
				}
			}
			r, err := check.Dir(c.Context(), in, rel, opts)
			if errors.Is(err, repo.ErrNoPath) {
				return &cli.Exit{Code: cli.ExitUsage, Text: err.Error()}
			}
			if err != nil {
				return err
			}
			if since != "" {
				before, err := checkAt(c, in, rel, since, opts)
				if err != nil {
					return err
				}
				r.Since(before)
			}
			w := c.OutOrStdout()
			switch format {
			case "json":
				err = r.JSON(w)
			case "sarif":
				err = r.SARIF(w, version)
			case "junit":
				err = r.JUnit(w)
			default:
				r.Text(w)
			}
			if err == nil && r.Errors(strict) > 0 {
				err = &cli.Exit{Code: cli.ExitFailed}
			}
			return err
		},
	}
	c.Flags().StringVar(&root, "root", "", rootHelp)
	c.Flags().StringSliceVar(&elsewhere, "elsewhere", nil, "wards that are declared elsewhere, so that those here may wait for them")
	c.Flags().StringVar(&schema, "schema", "", "how a cluster describes its kinds, saved with vigila cluster schema NAME; - reads standard input")
	c.Flags().StringVarP(&format, "output", "o", "text", "text, json, sarif or junit")
	c.Flags().StringVar(&since, "since", "", "tell only of what is new since the work tree's branch left this one, such as main")
	c.Flags().BoolVar(&strict, "strict", false, "warnings fail the check as well")
	t.add(c)
	return c
}

// checkAt checks what was there where the work tree's branch left another.
func checkAt(c *cobra.Command, in render.Tree, rel, since string, opts check.Options) (*check.Report, error) {
	root := in.Name()
	git := func(args ...string) (string, error) {
		out, err := exec.CommandContext(c.Context(), "git", append([]string{"-C", root}, args...)...).Output()
		return strings.TrimSpace(string(out)), err
	}
	dir, err := git("rev-parse", "--absolute-git-dir")
	if err != nil {
		return nil, &cli.Exit{Code: cli.ExitUsage, Text: fmt.Sprintf("--since needs a git work tree, and %s is none", root)}
	}
	if _, err := git("rev-parse", "--verify", "--quiet", "--end-of-options", since+"^{commit}"); err != nil {
		return nil, &cli.Exit{Code: cli.ExitUsage, Text: fmt.Sprintf("--since is %q, and this repository has no such branch or commit; fetch it first", since)}
	}
	base, err := git("merge-base", "--", since, "HEAD")
	if err != nil {
		return nil, &cli.Exit{Code: cli.ExitUsage, Text: fmt.Sprintf("--since is %q, which has no commit in common with what is checked out (of a shallow clone: git fetch --unshallow)", since)}
	}
	local := repo.Local(dir, root)
	defer local.Close()
	r, err := check.Dir(c.Context(), local.At(base), rel, opts)
	if errors.Is(err, repo.ErrNoPath) { // all of it is new
		return &check.Report{}, nil
	}
	return r, err
}

// formats are the file formats of Vigila, by name.
var formats = map[string][]byte{"ward": ward.Schema, "health": health.Schema, "checks": ward.ChecksSchema, "versions": versions.Schema, "follow": follow.Schema, "lane": lane.Schema, "alert": alert.Schema, "team": grant.Schema, "rulebook": rule.Schema, "rule-cases": rule.CasesSchema, "cluster": ward.ClusterSchema, "repo": ward.RepoSchema, "roster": ward.RosterSchema, "store": ward.StoreSchema, "template": render.TemplateSchema, "kit": kit.Schema, "components": kit.ComponentsSchema}

func schemaCommand() *cobra.Command {
	var names []string
	for n := range formats {
		names = append(names, n)
	}
	slices.Sort(names)
	var save string
	c := &cobra.Command{
		Use: "schema [FORMAT]", Short: "Print the JSON Schema of a file format, or put them all where editors find them",
		Long: `Print the JSON Schema of a file format, so that editors complete and check it. The formats are ward (what is kept where),
roster (a path of ward files), cluster, repo and store (what a roster says of them), template (a directory with expressions),
health (your own health rule for a kind), checks (what the canaries of several wards ask), versions (which versions of images a
ward takes), follow (what finds newer ones), lane (the way of a change from environment to environment), rulebook (what
manifests must keep), rule-cases (what rules are tried on), alert (who is told of what), team (who may what), kit (a template with a form), and
components (which kits are on in a cluster).

--save DIR writes those of all formats to .vigila/schemas/ of the repository around DIR, and puts a line at the top of each of
Vigila's own files in DIR that says where it is, as editors read it: # yaml-language-server: $schema=…`,
		Example: "  vigila schema ward > ward.schema.json\n  vigila schema --save .",
		Args: func(_ *cobra.Command, args []string) error {
			switch {
			case save != "" && len(args) == 0:
				return nil
			case save != "":
				return &cli.Exit{Code: cli.ExitUsage, Text: "vigila schema takes a format or --save, not both"}
			case len(args) != 1 || formats[args[0]] == nil:
				return &cli.Exit{Code: cli.ExitUsage, Text: "vigila schema knows these formats: " + strings.Join(names, ", ")}
			}
			return nil
		},
		ValidArgs: names,
		RunE: func(c *cobra.Command, args []string) error {
			if save != "" {
				return saveSchemas(c.OutOrStdout(), save, names)
			}
			_, err := c.OutOrStdout().Write(formats[args[0]])
			return err
		},
	}
	c.Flags().StringVar(&save, "save", "", "write the schemas of all formats into the repository around this directory, and say in its files where they are")
	return c
}

// schemasDir is where the schemas are kept in a repository.
const schemasDir = render.RulesDir + "/schemas"

// modeline begins the line that tells an editor which schema a file keeps to.
// Source: https://github.com/redhat-developer/yaml-language-server#using-inlined-schema
const modeline = "# yaml-language-server: $schema="

// saveSchemas writes the schemas into a repository, and into its files of Vigila's own below a directory where they are.
func saveSchemas(out io.Writer, dir string, names []string) error {
	in, rel, err := tree(dir, "")
	if err != nil {
		return err
	}
	root := in.Name()
	if err := os.MkdirAll(filepath.Join(root, schemasDir), 0o755); err != nil {
		return err
	}
	for _, n := range names {
		if err := os.WriteFile(filepath.Join(root, schemasDir, n+".schema.json"), formats[n], 0o644); err != nil { //nolint:gosec // it is published
			return err
		}
	}
	files, err := in.Files(rel, render.Wanted)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "%s holds the schemas of %s\n", schemasDir, strings.Join(names, ", "))
	for _, f := range files {
		format := formatOf(f.Data)
		if format == "" || strings.Contains(string(f.Data), modeline) {
			continue
		}
		way, err := filepath.Rel(filepath.Dir(filepath.FromSlash(f.Path)), filepath.FromSlash(schemasDir+"/"+format+".schema.json"))
		if err != nil {
			return err
		}
		text := modeline + filepath.ToSlash(way) + "\n" + string(f.Data)
		if err := os.WriteFile(filepath.Join(root, filepath.FromSlash(f.Path)), []byte(text), 0o644); err != nil { //nolint:gosec // as git has it
			return err
		}
		fmt.Fprintf(out, "%s says where its schema is\n", visible.Line(f.Path))
	}
	return nil
}

// formatOf is the format of a file of Vigila's own, by its first key; "" of any other.
func formatOf(data []byte) string {
	for _, n := range slices.Sorted(maps.Keys(formats)) {
		if object.FirstKey(data, "vigila", n+"/") {
			return n
		}
	}
	return ""
}
