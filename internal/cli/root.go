// Package cli is the command line: it parses, calls the service's client, and prints. Start with Root.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/loopback"
	"vigila.dev/vigila/internal/visible"
)

// Exit codes.
const (
	ExitDone        = 0
	ExitFailed      = 1
	ExitUsage       = 2
	ExitDifferences = 3
)

// Exit is an error that carries an exit code; an empty Text prints nothing.
type Exit struct {
	Code int
	Text string
}

func (e *Exit) Error() string { return e.Text }

func usage(format string, args ...any) error {
	return &Exit{ExitUsage, fmt.Sprintf(format, args...)}
}

// app is what every command shares.
type app struct {
	context string
	output  string
	plain   bool
	warned  bool
	stderr  io.Writer
	width   int // of a terminal that is none; 0: what is written to is asked
}

// Below is an annotation of a local command: the name of the one that it belongs to.
const Below = "below"

// Root makes the command line. local are commands that the caller brings: what they do needs more than the service's client.
func Root(version string, local ...*cobra.Command) *cobra.Command {
	return (&app{stderr: os.Stderr}).root(version, local...)
}

func (a *app) root(version string, local ...*cobra.Command) *cobra.Command {
	root := &cobra.Command{
		Use:   "vigila",
		Short: "Keep clusters as their repositories declare them",
		Long: `Vigila keeps watch: it compares what a git repository declares with what a cluster holds, all the time,
syncs changes, tells drift and who caused it, and goes back to an earlier revision when a deploy fails.`,
		Example:       "  vigila serve\n  vigila sign-in 'http://127.0.0.1:7740/#sign-in=TOKEN'\n  vigila ward list",
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       version,
	}
	root.SetVersionTemplate("vigila {{.Version}}\n")
	root.PersistentFlags().StringVar(&a.context, "context", "", "which service, when signed in to several")
	root.PersistentFlags().BoolVar(&a.plain, "no-color", false, "no colours (also: NO_COLOR)")
	root.PersistentPreRun = func(c *cobra.Command, _ []string) { a.stderr = c.ErrOrStderr() }
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%v; see %s --help", err, c.CommandPath())
	})
	root.AddCommand(a.signIn(), a.signOut(), a.credential(), a.sessions(), a.providers(), a.teams(), a.may(), a.ward(), a.diff(), a.sync(), a.restore(), a.run(), a.wait(), a.look(), a.watch(), a.logbook(), a.rollback(), a.compare(), a.rejections(), a.reject(), a.accept(), a.hold(), a.release(), a.repo(), a.cluster(), a.roster(), a.adopt(), a.token(), a.canary(), a.metrics(), a.follows(), a.registry(), a.proposals(), a.lanes(), a.stores(), a.secrets(), a.rules(), a.kits(), a.alerts(), a.audit(), a.metricsRules(), a.dashboard(), a.install(), &cobra.Command{
		Use: "version", Short: "Print the version", Example: "  vigila version", Args: noArgs,
		Run: func(c *cobra.Command, _ []string) { fmt.Fprintln(c.OutOrStdout(), "vigila "+version) },
	})
	for _, c := range local {
		parent := root
		if name := c.Annotations[Below]; name != "" {
			parent, _, _ = root.Find([]string{name}) // root itself where there is none
		}
		parent.AddCommand(c)
	}
	root.AddCommand(&cobra.Command{Use: "words", Short: "What the words mean: standings, health, who needs you, exit codes", Long: wordsHelp})
	a.completions(root)
	choose(root)
	return root
}

// wordsHelp explains, in one place, what every command says without explaining it. docs/standing.md has more.
const wordsHelp = `Where a ward stands:
  =  in step     the cluster holds what the repository declares
  <  behind      the repository moved; a sync carries it on
  ≠  drifted     the cluster moved: another client changed or deleted what Vigila applied
  ⇄  contested   another client takes each restore back; it is not restored any more
  ?  blind       the repository or the cluster can't be read: what is shown is the last known

How its objects do:
  ●  ready       everything does what it is for
  ◐  settling    it is getting there
  ▲  failing     it is not, and why is said
  ○  absent      it is not in the cluster
  ·  unknown     nobody has looked

Need you: a ward needs you when nothing more happens by itself. It asks first and is behind; it reports drift instead of
restoring it; a run failed and went back; a guard stands before a sync; a canary waits for a person; something is
failing, contested or can't be read; it is done half. What goes on by itself (a run, a wait, a restore a moment from
now), and what a person holds, does not.

Who changed a field is the name by which that client applied it, as the cluster notes it (managedFields): kubectl-edit,
a controller, a pipeline. Which person that was only the cluster's audit log knows.

Exit codes, of every command:
  0   done: what was asked for is so
  1   failed, refused, or not known
  2   wrong usage: nothing was asked of the service
  3   there are differences (diff, compare), or there is something to do (--preview)`

// choose makes every command that only holds others say which there are, and refuse one that there is not.
func choose(c *cobra.Command) {
	for _, sub := range c.Commands() {
		choose(sub)
	}
	if !c.HasSubCommands() || c.Runnable() {
		return
	}
	c.Args, c.SuggestionsMinimumDistance, c.DisableFlagsInUseLine = cobra.ArbitraryArgs, 2, true
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return c.Help()
		}
		near := ""
		if like := c.SuggestionsFor(args[0]); len(like) > 0 {
			near = "; did you mean " + c.CommandPath() + " " + strings.Join(like, " or ") + "?"
		}
		return usage("unknown command %q for %s%s See %s --help", args[0], c.CommandPath(), pick(near == "", ".", near), c.CommandPath())
	}
}

// with signs in before a command does what it is for.
func (a *app) with(do func(c *cobra.Command, conn *client.Conn, args []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		conn, err := a.dial()
		if err != nil {
			return err
		}
		return do(c, conn, args)
	}
}

// Main runs the command line and returns its exit code.
func Main(ctx context.Context, root *cobra.Command, stderr io.Writer) int {
	err := root.ExecuteContext(ctx)
	if err == nil {
		return ExitDone
	}
	var e *Exit
	code := ExitFailed
	if errors.As(err, &e) {
		code = e.Code
	}
	if errors.Is(err, context.Canceled) {
		fmt.Fprintln(stderr, "interrupted")
		return ExitFailed
	}
	if text := err.Error(); text != "" {
		fmt.Fprintln(stderr, "vigila: "+visible.Text(text))
	}
	return code
}

func noArgs(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no arguments, but got %q", c.CommandPath(), args[0])
	}
	return nil
}

func exactly(n int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != n {
			return usage("%s needs %s; see %s --help", c.CommandPath(), what, c.CommandPath())
		}
		return nil
	}
}

func (a *app) dial() (*client.Conn, error) {
	conn, err := client.Dial(a.context)
	if err == nil {
		a.warn(conn)
	}
	return conn, err
}

// warn says once that a token can be read on its way.
func (a *app) warn(conn *client.Conn) {
	if loopback.InTheClear(conn.Context.URL) && !a.warned {
		a.warned = true
		fmt.Fprintf(a.stderr, "vigila: the token goes to %s unencrypted, where others can read it; give the service a certificate (vigila serve --tls-cert) or something in front of it that has one\n", conn.Context.URL)
	}
}

// reading adds -o to a command that reads.
func (a *app) reading(c *cobra.Command) *cobra.Command {
	return Reading(c, &a.output)
}

// Reading adds -o to a command that reads.
func Reading(c *cobra.Command, output *string) *cobra.Command {
	c.Flags().StringVarP(output, "output", "o", "text", "text, json or yaml")
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		switch *output {
		case "text", "json", "yaml":
			return run(c, args)
		}
		return usage("-o %s is not known; write text, json or yaml", *output)
	}
	return c
}

// wards completes ward names.
// wards offers wards where the first word is one.
func (a *app) wards(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	return a.first(wardIDs)(c, args, typed)
}

func readFile(name string, stdin io.Reader) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(stdin)
	}
	return os.ReadFile(name)
}
