package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/core/nearest"
)

// start begins a run and follows it to its end. One that goes on to the same is joined, for another is waited, and a rollback takes the
// place of one that goes forward.
func (a *app) start(ctx context.Context, conn *client.Conn, p *printer, ward string, in client.StartRun, wait bool) (*client.Entry, error) {
	for {
		r, err := conn.StartRunWithResponse(ctx, ward, in)
		err = conn.Check(r, err)
		var said *client.Error
		if errors.As(err, &said) && said.Problem.Entry > 0 {
			joined, err := a.inTheWay(ctx, conn, p, ward, in, said, wait)
			if joined != nil || err != nil {
				return joined, err
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		number := r.JSON202.Entry
		switch {
		case number == 0:
			p.line("Nothing to do: %s is as declared.", ward)
			return &client.Entry{Ward: ward, Outcome: "done"}, nil
		case !wait:
			p.line("Started #%d. Follow it: vigila run %s %d", number, ward, number)
			return &client.Entry{Ward: ward, Number: number, Outcome: "running"}, nil
		}
		return a.follow(ctx, conn, p, ward, number)
	}
}

// inTheWay does what is to be done about the run that goes on: it is joined, and its end returned; or it is over now, and the answer is nil.
func (a *app) inTheWay(ctx context.Context, conn *client.Conn, p *printer, ward string, in client.StartRun, said *client.Error, wait bool) (*client.Entry, error) {
	r, err := conn.GetEntryWithResponse(ctx, ward, said.Problem.Entry)
	if err := conn.Check(r, err); err != nil {
		return nil, err
	}
	e := r.JSON200
	what := fmt.Sprintf("%s #%d", e.Kind, e.Number)
	switch {
	case e.Outcome != "running":
		return nil, nil // it has ended meanwhile
	case e.Kind == "dismantle":
		return nil, said
	case a.same(ctx, conn, ward, in, e):
		p.line("%s goes on to the same already, since %s, started by %s; this joins it.", what, ago(e.Started), e.By)
		if !wait {
			return e, nil
		}
		return a.follow(ctx, conn, p, ward, e.Number)
	case !wait:
		return nil, said
	case in.Kind == "rollback":
		p.line("%s goes on, started by %s; it is stopped first.", what, e.By)
		stopped, err := conn.StopRunWithResponse(ctx, ward)
		err = conn.Check(stopped, err)
		var no *client.Error
		if err != nil && !(errors.As(err, &no) && no.Problem.Status == http.StatusConflict) { // it may have ended by itself
			return nil, err
		}
	default:
		p.line("%s goes on, started by %s; this waits for its end.", what, e.By)
	}
	_, err = await(ctx, conn, ward, e.Number, func(*client.Entry) {})
	if ctx.Err() != nil {
		return nil, goesOn(ward, e.Number)
	}
	return nil, err
}

// same tells whether a run that goes on is to the same as one that is wanted.
func (a *app) same(ctx context.Context, conn *client.Conn, ward string, in client.StartRun, e *client.Entry) bool {
	switch {
	case string(in.Kind) != string(e.Kind) || len(in.Only) > 0 || in.Reapply || in.Tasks:
		return false
	case in.Kind == "rollback":
		return in.ToEntry == e.ToEntry
	case in.Kind != "sync":
		return true
	case in.Revision != "":
		return len(in.Revision) >= 7 && strings.HasPrefix(e.Revision.Id, in.Revision)
	}
	r, err := conn.GetWardWithResponse(ctx, ward)
	return conn.Check(r, err) == nil && r.JSON200.Ward.Revision.Id == e.Revision.Id
}

// goesOn tells whoever leaves that the run does not.
func goesOn(ward string, number int) error {
	return &Exit{ExitFailed, fmt.Sprintf("left; #%d goes on. Follow it: vigila run %s %d. Stop it: vigila sync %s --stop", number, ward, number, ward)}
}

// await looks at an entry again and again until it has ended; each is called with how it stands.
func await(ctx context.Context, conn *client.Conn, ward string, number int, each func(*client.Entry)) (*client.Entry, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	wake := make(chan struct{}, 1)
	signal := func() {
		select {
		case wake <- struct{}{}:
		default:
		}
	}
	go conn.Follow(ctx, func(e client.Event) {
		if e.Name == "" || e.Name == ward || strings.HasPrefix(e.Name, ward+"@") {
			signal()
		}
	}, func(error) { signal() })
	failures := 0
	for first := true; ; first = false {
		if !first {
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-wake:
			case <-time.After(2 * time.Second):
			}
		}
		began := time.Now()
		r, err := conn.GetEntryWithResponse(ctx, ward, number)
		rest := time.NewTimer(9 * time.Since(began)) // watching a big run must not slow it down
		if err := conn.Check(r, err); err != nil {
			var said *client.Error
			if failures++; errors.As(err, &said) || failures > 30 {
				return nil, err
			}
			continue
		}
		failures = 0
		each(r.JSON200)
		if r.JSON200.Outcome != "running" {
			return r.JSON200, nil
		}
		select {
		case <-ctx.Done():
		case <-rest.C:
		}
	}
}

// follow prints the progress of a run until it ends, and of the rollback that follows a failed one.
func (a *app) follow(ctx context.Context, conn *client.Conn, p *printer, ward string, number int) (*client.Entry, error) {
	seen := map[string]string{}
	first := true
	e, err := await(ctx, conn, ward, number, func(e *client.Entry) {
		if first {
			p.line("%s #%d", p.paint("bold", ward), number)
			first = false
		}
		if e.Canary {
			p.canaryLines(ctx, conn, ward, number, seen)
		}
		for _, o := range e.Objects {
			now := string(o.State) + o.Reason
			if seen[o.Key] == now || o.State == "waiting" {
				continue
			}
			seen[o.Key] = now
			p.line("  %s %s %s  %s", stateGlyph(p, o.State), p.paint("soft", o.Kind), o.Name, stateWords(o))
		}
	})
	if ctx.Err() != nil {
		return nil, goesOn(ward, number)
	}
	if err != nil {
		return nil, err
	}
	return e, a.ended(ctx, conn, p, ward, e)
}

// ended says how a run ended; after a failure the rollback is followed too.
func (a *app) ended(ctx context.Context, conn *client.Conn, p *printer, ward string, e *client.Entry) error {
	took := span(e.Ended.Sub(e.Started))
	if e.Outcome == "done" {
		p.line("%s", strings.TrimSpace(fmt.Sprintf("Done in %s. %s", took, title(e.Revision))))
		return nil
	}
	p.line("%s after %s: %s", p.paint("failing", strings.ToUpper(string(e.Outcome[:1]))+string(e.Outcome[1:])), took, e.Reason)
	if e.Kind == "sync" && (e.Outcome == "failed" || e.Outcome == "rolled back") {
		r, err := conn.GetEntryWithResponse(ctx, ward, e.Number+1)
		if conn.Check(r, err) == nil && r.JSON200.Kind == "rollback" {
			p.line("Going back to #%d; %s is rejected.", r.JSON200.ToEntry, short(e.Revision))
			if _, err := a.follow(ctx, conn, p, ward, e.Number+1); err != nil {
				return err
			}
		}
	}
	return &Exit{Code: ExitFailed}
}

// run follows a run that somebody else began.
func (a *app) run() *cobra.Command {
	c := &cobra.Command{
		Use: "run WARD [ENTRY]", Short: "Follow the run that goes on, or say how one ended",
		Long:              "Follow a run to its end, whoever began it: the one that goes on, or that of an entry. Exit code 0 when it ended done, 1 when it did not, or none goes on.",
		Example:           "  vigila run berth-planner@quay\n  vigila run berth-planner@quay 41 -o json",
		ValidArgsFunction: a.complete(entries(false)),
		Args: func(c *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usage("vigila run needs a ward, and takes the number of an entry")
			}
			return nil
		},
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			number := 0
			if len(args) == 2 {
				var err error
				if number, err = entryNumber(args[1]); err != nil {
					return err
				}
			} else {
				r, err := conn.GetWardWithResponse(c.Context(), args[0])
				if err := conn.Check(r, err); err != nil {
					return err
				}
				if number = r.JSON200.Ward.Run.Number; number == 0 {
					return &Exit{ExitFailed, fmt.Sprintf("no run goes on in %s; what was: vigila logbook %s", args[0], args[0])}
				}
			}
			e, err := a.follow(c.Context(), conn, a.progress(c), args[0], number)
			return a.told(c, e, err)
		}),
	}
	return a.reading(c)
}

// progress is where the progress of a run is told: nowhere when a document is wanted.
func (a *app) progress(c *cobra.Command) *printer {
	if a.output != "text" {
		return newPrinter(discard{})
	}
	return a.printer(c.OutOrStdout())
}

type discard struct{}

func (discard) Write(b []byte) (int, error) { return len(b), nil }

// told prints the entry of a run as a document, where one is wanted; err is how it ended.
func (a *app) told(c *cobra.Command, e *client.Entry, err error) error {
	var ended *Exit
	if e == nil || err != nil && !errors.As(err, &ended) {
		return err
	}
	if _, wrong := a.document(c.OutOrStdout(), e); wrong != nil {
		return wrong
	}
	return err
}

// What may be waited for.
var goals = []string{"in-step", "ready"}

// stuckFor is how long a ward has to need a person until it is not waited for any more: a moment passes between two runs.
const stuckFor = 5 * time.Second

// wait waits until a ward is where it is to be.
func (a *app) wait() *cobra.Command {
	var revision, goal string
	var within time.Duration
	c := &cobra.Command{
		Use: "wait WARD", Short: "Wait until a ward is in step and ready; for pipelines",
		Long: `Wait until a ward is in step with its repository and ready, with --for in-step whether it is ready or not; with
--revision until the cluster holds what a commit declares, or a later one. The repository is looked at first. It begins no run: of a ward that asks first
somebody else has to.

Exit code 0 once it is so; 1 when it can't come by itself (the ward is held, has rejected the revision, or needs a person), or
--within has passed.`,
		Example:           "  vigila wait berth-planner@quay\n  vigila wait berth-planner@quay --revision \"$(git rev-parse HEAD)\" --within 10m",
		Args:              exactly(1, "the name of a ward"),
		ValidArgsFunction: a.wards,
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			if !slices.Contains(goals, goal) {
				return usage("--for %s: %s", goal, nearest.Words(goal, goals))
			}
			if revision != "" && (len(revision) < 7 || strings.Trim(revision, "0123456789abcdef") != "") {
				return usage("--revision %s is not the hash of a commit, or seven letters of it", revision)
			}
			if within < 0 {
				return usage("--within %s is in the past", within)
			}
			ctx := c.Context()
			if within > 0 {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, within)
				defer cancel()
			}
			w, err := a.waitFor(ctx, conn, a.progress(c), args[0], revision, goal == "ready")
			if w != nil {
				if _, wrong := a.document(c.OutOrStdout(), w); wrong != nil {
					return wrong
				}
			}
			if ctx.Err() != nil && c.Context().Err() == nil {
				return &Exit{ExitFailed, fmt.Sprintf("%s is not there after %s", args[0], span(within))}
			}
			return err
		}),
	}
	f := c.Flags()
	f.StringVar(&revision, "revision", "", "until the cluster holds what this commit declares, or a later one (its hash, or seven letters of it)")
	f.StringVar(&goal, "for", "ready", "ready: in step and ready; in-step: in step, ready or not")
	f.DurationVar(&within, "within", 0, "how long at most, such as 10m (default: until it is so, or can't be)")
	return a.reading(c)
}

func (a *app) waitFor(ctx context.Context, conn *client.Conn, p *printer, ward, revision string, ready bool) (*client.Ward, error) {
	look, err := conn.LookNowWithResponse(ctx, ward)
	if err := conn.Check(look, err); err != nil {
		return nil, err
	}
	w, said := look.JSON200, ""
	wake := make(chan struct{}, 1)
	signal := func() {
		select {
		case wake <- struct{}{}:
		default:
		}
	}
	go conn.Follow(ctx, func(client.Event) { signal() }, func(error) { signal() })
	var stuck time.Time
	for {
		there := w.Standing == "in step" && w.Run.Number == 0 && (!ready || w.Health == "ready")
		text := fmt.Sprintf("%s, %s: %s", w.Standing, w.Health, w.Says)
		if there && revision != "" {
			r, err := conn.HasRevisionWithResponse(ctx, ward, revision)
			if err := conn.Check(r, err); err != nil {
				return w, err
			}
			there = r.JSON200.Has
			text = fmt.Sprintf("%s is not read yet; the newest is %.7s", revision, r.JSON200.Head)
		}
		if there {
			p.head(*w)
			return w, nil
		}
		if text != said && w.Run.Number == 0 {
			p.line("%s  %s", time.Now().Format("15:04:05"), text)
			said = text
		}
		byItself := w.Run.Number > 0 || !w.NeedsYou && w.Hold.By == "" && w.Rejected == ""
		switch {
		case byItself:
			stuck = time.Time{}
		case stuck.IsZero():
			stuck = time.Now()
		case time.Since(stuck) > stuckFor:
			p.head(*w)
			return w, &Exit{ExitFailed, fmt.Sprintf("%s does not get there by itself", w.Id)}
		}
		select {
		case <-ctx.Done():
			return w, ctx.Err()
		case <-wake:
		case <-time.After(2 * time.Second):
		}
		r, err := conn.GetWardWithResponse(ctx, ward)
		if err := conn.Check(r, err); err != nil {
			var told *client.Error
			if errors.As(err, &told) || ctx.Err() != nil {
				return w, err
			}
			continue // the service is away; it comes back
		}
		detail := r.JSON200.Ward
		w = &detail
	}
}
