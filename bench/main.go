// Command bench measures Vigila against raw limits that it takes in the same run, on real control planes of the lab,
// and writes what it found to docs/performance.md. A figure is a ratio, so it means the same on a slow machine.
package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"runtime"
	"strings"
	"syscall"
	"time"
)

// row is one line of the report.
type row struct {
	name     string // of the measure
	what     string
	against  string
	goal     string
	ours     string
	limit    string
	verdict  string // the ratio in words
	met      bool
	how      string
	why      string   // what is known of the reason, when the goal is missed
	profiles []string // pprof -top of what missed its goal
}

// options are the sizes of a run.
type options struct {
	only    string
	objects int           // watched
	quiet   time.Duration // how long requests are counted
	wards   int           // in one repository
	files   int           // in one large repository

	scale    bool
	lookouts int
	crowd    int // simulated wards
}

func main() {
	var o options
	var out string
	flag.StringVar(&out, "out", "", "where to write the report (docs/performance.md, or docs/scale.md); - prints it only")
	flag.BoolVar(&o.scale, "scale", false, "measure many lookouts, instead of all else")
	flag.IntVar(&o.lookouts, "lookouts", 100, "lookouts, each a process of its own with 1000 objects in 20 wards")
	flag.IntVar(&o.crowd, "simulated", 100_000, "wards that simulated lookouts keep")
	flag.StringVar(&o.only, "only", "", "comma-separated names of measures; all when empty")
	flag.IntVar(&o.objects, "objects", 5000, "watched objects")
	flag.DurationVar(&o.quiet, "quiet", 5*time.Minute, "how long requests to the cluster are counted")
	flag.IntVar(&o.wards, "wards", 1000, "wards in one repository")
	flag.IntVar(&o.files, "files", 100_000, "files in one large repository")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	measure, title := run, "Performance, against raw limits\n\nWritten by `make bench`"
	if o.scale {
		measure, title = runScale, "Scale: many lookouts and very many wards\n\nWritten by `make scale`"
	}
	out = cmp.Or(out, map[bool]string{true: "docs/scale.md", false: "docs/performance.md"}[o.scale])
	rows, err := measure(ctx, o)
	if len(rows) > 0 {
		text := report(title, rows, o)
		fmt.Println(text)
		if out != "-" {
			if werr := os.WriteFile(out, []byte(text), 0o600); werr != nil && err == nil {
				err = werr
			}
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func (o options) wants(name string) bool {
	return o.only == "" || strings.Contains(","+o.only+",", ","+name+",")
}

// measure is one row, by its name.
type measure struct {
	name string
	do   func(context.Context) (row, error)
}

// taken are the rows so far, and what ended the taking.
type taken struct {
	rows []row
	err  error
}

// add takes a row, and tells whether it goes on.
func (t *taken) add(name string, r row, err error) bool {
	r.name = name
	if err != nil {
		t.err = fmt.Errorf("%s: %w", name, err)
		return false
	}
	t.rows = append(t.rows, r)
	fmt.Fprintf(os.Stderr, "%s  %-8s %s (ours %s, limit %s)\n", time.Now().Format("15:04:05"), name, r.verdict, r.ours, r.limit)
	return true
}

// all takes those that are wanted, one after the other.
func (t *taken) all(ctx context.Context, o options, all []measure) ([]row, error) {
	for _, m := range all {
		if o.wants(m.name) {
			if r, err := m.do(ctx); !t.add(m.name, r, err) {
				break
			}
		}
	}
	return t.rows, t.err
}

func run(ctx context.Context, o options) ([]row, error) {
	var t taken
	bare := []measure{{"core", func(context.Context) (row, error) { return core(), nil }}, {"rules", func(context.Context) (row, error) { return rules(), nil }}, {"team", team}}
	if rows, err := t.all(ctx, o, bare); err != nil {
		return rows, err
	}
	w, err := newWorld(ctx)
	if err != nil {
		return t.rows, err
	}
	defer w.close()
	// The first ones have a service each, which ends with them; the last ones share one that watches o.objects, and would
	// be in the way of all others.
	forms := &forms{world: w, wards: o.wards}
	crowd := &crowd{world: w, prefix: "crowd", objects: o.objects, quiet: o.quiet}
	far := &distant{crowd: *crowd}
	far.objects, far.prefix = min(o.objects, 2000), "far"
	var all = []measure{{"sync", w.sync}, {"preview", w.preview}, {"push", func(ctx context.Context) (row, error) { return w.push(ctx, o.wards) }}, {"lanes", func(ctx context.Context) (row, error) { return w.lanes(ctx, 500) }}, {"effect", w.effect}, {"hostile", w.hostile}, {"back", w.back},
		{"wire", far.wire}, {"far", func(ctx context.Context) (row, error) { defer far.end(); return far.drift(ctx) }}, {"render", forms.render}, {"warm", forms.warm}, {"touch", forms.touch}, {"large", func(ctx context.Context) (row, error) { return w.large(ctx, o.files) }},
		{"drift", crowd.drift}, {"restart", crowd.restart}, {"requests", crowd.requests}, {"memory", crowd.memory}}
	return t.all(ctx, o, all)
}

func report(title string, rows []row, o options) string {
	var b strings.Builder
	command := "go run ./bench -only"
	if o.scale {
		command = "go run ./bench -scale -only"
	}
	fmt.Fprintf(&b, `# %s. Each figure stands beside a raw limit that was taken in the same run on the same machine: what a
bare client of the cluster, git or JSON needs for the same. So a ratio says the same on another machine, where a time does not.

This run: %s, %d cores, %s/%s, %s. API server, etcd, git server, bench and Vigila share the machine.

| what | measured against | goal | Vigila | the limit | ratio | |
|---|---|---|---|---|---|---|
`, title, time.Now().UTC().Format("2 January 2006"), runtime.NumCPU(), runtime.GOOS, runtime.GOARCH, runtime.Version())
	for _, r := range rows {
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s | %s | %s |\n", r.what, r.against, r.goal, r.ours, r.limit, r.verdict, map[bool]string{true: "met", false: "**missed**"}[r.met])
	}
	b.WriteString("\n## How each is measured\n\n")
	for _, r := range rows {
		fmt.Fprintf(&b, "- **%s** (`%s %s`): %s\n", r.what, command, r.name, r.how)
	}
	for _, r := range rows {
		if r.met {
			continue
		}
		fmt.Fprintf(&b, "\n## Missed: %s\n\n", r.what)
		if r.why != "" {
			fmt.Fprintf(&b, "%s\n\n", r.why)
		}
		b.WriteString("Where the service's time went meanwhile:\n")
		for _, p := range r.profiles {
			fmt.Fprintf(&b, "\n```\n%s\n```\n", strings.TrimRight(p, "\n"))
		}
	}
	return b.String()
}
