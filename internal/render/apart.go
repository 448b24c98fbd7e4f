package render

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os/exec"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/express"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// Bounds of a rendering in a process of its own.
const (
	maxMemory = 512 << 20        // bytes that it may write to
	maxCPU    = 30 * time.Second // of processor time
	maxClock  = 2 * time.Minute  // a busy machine is no reason to end one
	// lightly is how many bytes of plain files are read in this process: parsing takes many times that.
	lightly = 4 << 20
	// what was ended waits for this long for others of its repository that were, and nobody else waits for it
	cautious = time.Hour
	// idleFor is how long a process waits for more of its repository.
	idleFor = 3 * time.Second
)

// Apart renders in processes of their own: overlays, charts and templates can't be interrupted, and what a repository holds
// says how much memory and time they take. A process that takes too much is killed, and costs nobody else anything: it has
// bounds of memory and processor time, steps behind this process, and one repository never has all the places.
type Apart struct {
	command []string
	places  int
	bounds  bounds
	idleFor time.Duration

	mu      sync.Mutex
	busy    int
	of      map[string]int       // processes by repository
	slow    map[string]int       // those among them that render what was ended the last time
	late    map[string]time.Time // what was ended, and until when that counts
	waiting []*waiter
	idle    map[string][]*process // that wait for more, by repository
}

// bounds are those of one process.
type bounds struct {
	Memory int           // bytes that it may write to
	CPU    time.Duration // of processor time, in whole seconds
}

// spent is the part of its time after which a process renders no more: what follows has all of the time then.
const spent = 5

type waiter struct {
	repo string
	what string // is rendered, of all repositories
	late bool   // it was ended the last time; known when its turn comes
	turn chan struct{}
}

// NewApart makes an Apart whose processes are started with a command: one that calls Serve.
func NewApart(command ...string) *Apart {
	return &Apart{command: command, places: max(4, 2*runtime.NumCPU()), bounds: bounds{maxMemory, maxCPU}, idleFor: idleFor, of: map[string]int{}, slow: map[string]int{}, late: map[string]time.Time{}, idle: map[string][]*process{}}
}

// Overrun tells that a rendering was ended because it took too much.
type Overrun struct{ Where, What string }

func (e *Overrun) Error() string {
	return e.Where + ": " + e.What + "; look for what contains itself, a loop over very much, or a regular expression over long texts"
}

func (r Request) where() string {
	if f := r.Ward.From; f.Chart.Name != "" {
		return fmt.Sprintf("chart %s of %s", f.Chart.Name, f.Chart.Repo)
	}
	return pathOr(r.Ward.From.Path) + " in " + r.Tree.Name()
}

// Render is as the function Render.
func (a *Apart) Render(ctx context.Context, r Request) (*Result, error) {
	if r.Tree != nil && IsPlain(r.Tree, r.Ward.From) {
		files, err := r.Tree.Files(r.Ward.From.Path, Wanted)
		if err != nil {
			return nil, err
		}
		size := 0
		for _, f := range files {
			size += len(f.Data)
		}
		if size <= lightly {
			r.Tree = &readAlready{r.Tree, r.Ward.From.Path, files}
			return Render(ctx, r)
		}
	}
	what := r.Ward.From.Repo + " " + r.where()
	back, err := a.take(ctx, r.Ward.From.Repo, what)
	if err != nil {
		return nil, err
	}
	defer back()
	res, err := a.render(ctx, r)
	var over *Overrun
	if errors.As(err, &over) {
		over.Where = r.where()
		a.mu.Lock()
		a.late[what] = time.Now().Add(cautious)
		maps.DeleteFunc(a.late, func(_ string, until time.Time) bool { return time.Now().After(until) })
		a.mu.Unlock()
	}
	return res, err
}

// readAlready is a tree of which the files below one path were read.
type readAlready struct {
	Tree
	path  string
	files []repo.File
}

func (t *readAlready) Files(p string, want func(string) bool) ([]repo.File, error) {
	if p == t.path {
		return t.files, nil
	}
	return t.Tree.Files(p, want)
}

// take waits for a place. Who waits is served in turn, unless its repository has all that it may have: half of the places, and a single one for all that
// was ended the last time.
func (a *Apart) take(ctx context.Context, repo, what string) (back func(), err error) {
	w := &waiter{repo: repo, what: what, turn: make(chan struct{})}
	a.mu.Lock()
	a.waiting = append(a.waiting, w)
	a.next()
	a.mu.Unlock()
	back = sync.OnceFunc(func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.busy--
		less(a.of, repo)
		if w.late {
			less(a.slow, repo)
		}
		a.next()
	})
	select {
	case <-w.turn:
		return back, nil
	case <-ctx.Done():
	}
	a.mu.Lock()
	for i, x := range a.waiting {
		if x == w {
			a.waiting = append(a.waiting[:i:i], a.waiting[i+1:]...)
			a.mu.Unlock()
			return nil, context.Cause(ctx)
		}
	}
	a.mu.Unlock()
	back() // its turn came at the same moment
	return nil, context.Cause(ctx)
}

func (a *Apart) next() {
	for i := 0; i < len(a.waiting) && a.busy < a.places; {
		w := a.waiting[i]
		if !a.may(w) {
			i++
			continue
		}
		a.waiting = append(a.waiting[:i:i], a.waiting[i+1:]...)
		a.busy++
		a.of[w.repo]++
		if w.late {
			a.slow[w.repo]++
		}
		close(w.turn)
	}
}

// may tells whether it can be somebody's turn.
func (a *Apart) may(w *waiter) bool {
	until, was := a.late[w.what]
	if w.late = was && time.Now().Before(until); was && !w.late {
		delete(a.late, w.what)
	}
	return a.busy < a.places && a.of[w.repo] < a.places/2 && (!w.late || a.slow[w.repo] == 0)
}

// less counts one less of something.
func less(of map[string]int, key string) {
	if of[key]--; of[key] == 0 {
		delete(of, key)
	}
}

// render renders in a process that has rendered something of the same repository just now, or in a new one. Starting one takes
// longer than most renderings.
func (a *Apart) render(ctx context.Context, r Request) (*Result, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, maxClock, &Overrun{What: fmt.Sprintf("rendering took longer than %s and was ended", maxClock)})
	defer cancel()
	if p := a.waits(r.Ward.From.Repo); p != nil {
		res, err := a.renderIn(ctx, p, r)
		if dead := (*brokenError)(nil); !errors.As(err, &dead) || ctx.Err() != nil {
			return res, a.said(ctx, p, err)
		}
		// What it did before may be to blame.
	}
	p, err := a.start()
	if err != nil {
		return nil, err
	}
	res, err := a.renderIn(ctx, p, r)
	return res, a.said(ctx, p, err)
}

// process is one that renders.
type process struct {
	cmd  *exec.Cmd
	kill context.CancelFunc
	in   io.Closer
	to   *messages
	from *messages
	said *firstBytes
	idle *time.Timer
}

func (a *Apart) start() (*process, error) {
	ctx, kill := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, a.command[0], a.command[1:]...)
	cmd.Dir, cmd.Env = "/", []string{"GOMAXPROCS=1", "GOTRACEBACK=none"}
	cmd.WaitDelay = 5 * time.Second
	p := &process{cmd: cmd, kill: kill, said: &firstBytes{}}
	cmd.Stderr = p.said
	in, err := cmd.StdinPipe()
	if err != nil {
		kill()
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		kill()
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		kill()
		return nil, fmt.Errorf("start a process to render in: %w", err)
	}
	p.in, p.to, p.from = in, newWriter(in), newReader(out)
	return p, nil
}

// end ends a process, if it has not ended by itself.
func (p *process) end() {
	p.kill()
	_ = p.in.Close()
	_ = p.cmd.Wait()
}

// waits takes a process that has rendered something of a repository and waits for more; nil when there is none.
func (a *Apart) waits(repo string) *process {
	a.mu.Lock()
	defer a.mu.Unlock()
	all := a.idle[repo]
	if len(all) == 0 {
		return nil
	}
	p := all[len(all)-1]
	a.leave(repo, p)
	return p
}

// leave takes a process out of those that wait; false when it is not among them any more.
func (a *Apart) leave(repo string, p *process) bool {
	i := slices.Index(a.idle[repo], p)
	if i < 0 {
		return false
	}
	p.idle.Stop()
	if a.idle[repo] = slices.Delete(a.idle[repo], i, i+1); len(a.idle[repo]) == 0 {
		delete(a.idle, repo)
	}
	return true
}

func (a *Apart) renderIn(ctx context.Context, p *process, r Request) (*Result, error) {
	stop := context.AfterFunc(ctx, p.kill)
	h := &host{request: r, bounds: a.bounds, trees: []Tree{r.Tree}, to: p.to, from: p.from}
	res, err := h.serve()
	if !stop() || !h.more {
		p.end()
		return res, err
	}
	repo := r.Ward.From.Repo
	a.mu.Lock()
	waiting := 0
	for _, all := range a.idle {
		waiting += len(all)
	}
	if waiting >= a.places { // of very many repositories none is likely to come again soon
		a.mu.Unlock()
		p.end()
		return res, err
	}
	a.idle[repo] = append(a.idle[repo], p)
	p.idle = time.AfterFunc(a.idleFor, func() {
		a.mu.Lock()
		mine := a.leave(repo, p)
		a.mu.Unlock()
		if mine {
			p.end()
		}
	})
	a.mu.Unlock()
	return res, err
}

// said is what is to be told of an error of a rendering: for a process that was ended, why.
func (a *Apart) said(ctx context.Context, p *process, err error) error {
	var broken *brokenError
	if !errors.As(err, &broken) {
		return err
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	used := p.cmd.ProcessState.UserTime() + p.cmd.ProcessState.SystemTime()
	text := p.said.String()
	switch {
	case used > a.bounds.CPU-time.Second/2:
		return &Overrun{What: fmt.Sprintf("rendering took more than %s of processor time and was ended", a.bounds.CPU)}
	case strings.Contains(text, "out of memory") || strings.Contains(text, "cannot allocate memory"):
		return &Overrun{What: fmt.Sprintf("rendering took more than %d MiB of memory and was ended", a.bounds.Memory>>20)}
	case strings.Contains(text, "stack exceeds") || strings.Contains(text, "stack overflow"):
		return &Overrun{What: "rendering went too deep and was ended"}
	}
	return &Overrun{What: fmt.Sprintf("the process that rendered it ended (%s): %v", p.cmd.ProcessState, broken.error)}
}

// firstBytes keeps the beginning of what a process says.
type firstBytes struct{ bytes.Buffer }

func (w *firstBytes) Write(p []byte) (int, error) {
	if room := 4096 - w.Len(); room > 0 {
		w.Buffer.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// ---- what the two processes say to each other
//
// Both write messages: a head in JSON and a body of bytes. This process begins with the request; the other asks for what it
// has to read, one thing at a time, and ends with the result or what is wrong.

// asked is the request as the other process gets it: what can be called stays here.
type asked struct {
	Bounds  bounds
	Ward    ward.Ward
	Cluster Cluster
	Tree    string // its name
	HasTree bool
	Other   bool
	Chart   bool
	Depend  bool
}

// call is what the other process says: it wants something, or has ended.
type call struct {
	Do     string `json:"do"`               // hash, read, list, files, other, chart, depend, done or failed
	Tree   int    `json:"tree,omitempty"`   // which, as numbered by other
	Path   string `json:"path,omitempty"`   // of hash, read, list, files
	All    bool   `json:"all,omitempty"`    // of files: also those that are no manifests
	None   bool   `json:"none,omitempty"`   // of files: the file at the path alone
	Repo   string `json:"repo,omitempty"`   // of other, chart, depend (an address)
	Ref    string `json:"ref,omitempty"`    // of other
	Name   string `json:"name,omitempty"`   // of chart and depend
	Wanted string `json:"wanted,omitempty"` // of chart and depend: the version

	More    bool             `json:"more,omitempty"` // it would render another
	Form    string           `json:"form,omitempty"`
	Chart   string           `json:"chart,omitempty"`
	Inputs  []declared.Input `json:"inputs,omitempty"`
	Notes   []string         `json:"notes,omitempty"`
	Objects []part           `json:"objects,omitempty"` // their bodies in JSON, one after the other, are the message's body
	Wrong   *farMistake      `json:"wrong,omitempty"`
}

// part is one piece of a message's body.
type part struct {
	Path string `json:"path"`
	Line int    `json:"line,omitempty"`
	Size int    `json:"size"`
}

// answer is what this process says to a call; the body of files is their contents, of read and chart the bytes.
type answer struct {
	Wrong   *farMistake  `json:"wrong,omitempty"`
	Hash    string       `json:"hash,omitempty"`
	Entries []repo.Entry `json:"entries,omitempty"`
	Files   []part       `json:"files,omitempty"`
	Tree    int          `json:"tree,omitempty"`
	Name    string       `json:"name,omitempty"`
	Version string       `json:"version,omitempty"`
	Digest  string       `json:"digest,omitempty"`
}

// farMistake is an error that goes from one process to the other.
type farMistake struct {
	Text   string       `json:"text,omitempty"`
	File   string       `json:"file,omitempty"`
	Line   int          `json:"line,omitempty"`
	All    []farMistake `json:"all,omitempty"`    // of several
	NoPath bool         `json:"nopath,omitempty"` // it is repo.ErrNoPath
	From   []int        `json:"from,omitempty"`   // answers that it came from, 1 the first that was wrong
}

// brokenError tells that the other process does not speak as it should: mostly since it was ended.
type brokenError struct{ error }

func broken(format string, args ...any) error { return &brokenError{fmt.Errorf(format, args...)} }

// host is this process's side of one rendering.
type host struct {
	request Request
	bounds  bounds
	trees   []Tree
	wrong   []error // answers that were errors, as they were
	more    bool    // the other process would render more
	to      *messages
	from    *messages
}

func (h *host) serve() (*Result, error) {
	r := h.request
	first := asked{Bounds: h.bounds, Ward: r.Ward, Cluster: r.Cluster, HasTree: r.Tree != nil, Other: r.Other != nil, Chart: r.Chart != nil, Depend: r.Depend != nil}
	if r.Tree != nil {
		first.Tree = r.Tree.Name()
	}
	if err := h.to.write(first); err != nil {
		return nil, &brokenError{err}
	}
	for {
		var c call
		body, err := h.from.read(&c)
		if err != nil {
			return nil, &brokenError{err}
		}
		switch c.Do {
		case "done":
			res, err := h.result(c, body)
			h.more = c.More && err == nil && body.left() == 0
			return res, err
		case "failed":
			if c.Wrong == nil {
				return nil, broken("it failed without a reason")
			}
			h.more = c.More && body.left() == 0
			return nil, h.mistake(*c.Wrong)
		}
		if len := body.left(); len > 0 {
			return nil, broken("a call with %d bytes more", len)
		}
		a, out, err := h.answer(c)
		if err != nil {
			var odd *brokenError
			if errors.As(err, &odd) {
				return nil, err
			}
			h.wrong = append(h.wrong, err)
			a, out = answer{Wrong: &farMistake{Text: err.Error(), NoPath: errors.Is(err, repo.ErrNoPath), From: []int{len(h.wrong)}}}, nil
		}
		if err := h.to.write(a, out...); err != nil {
			return nil, &brokenError{err}
		}
	}
}

func (h *host) answer(c call) (a answer, body [][]byte, err error) {
	switch c.Do {
	case "other":
		if h.request.Other == nil || len(h.trees) > 10_000 {
			return a, nil, broken("it asks for another repository")
		}
		t, err := h.request.Other(c.Repo, c.Ref)
		if err != nil {
			return a, nil, err
		}
		h.trees = append(h.trees, t)
		return answer{Tree: len(h.trees) - 1, Name: t.Name()}, nil, nil
	case "chart", "depend":
		load := h.request.Chart
		if c.Do == "depend" {
			load = h.request.Depend
		}
		if load == nil {
			return a, nil, broken("it asks for a chart")
		}
		p, err := load(c.Repo, c.Name, c.Wanted)
		return answer{Version: p.Version, Digest: p.Digest}, [][]byte{p.Data}, err
	}
	if c.Tree < 0 || c.Tree >= len(h.trees) || h.trees[c.Tree] == nil {
		return a, nil, broken("it asks for tree %d", c.Tree)
	}
	t := h.trees[c.Tree]
	switch c.Do {
	case "hash":
		a.Hash, err = t.Hash(c.Path)
	case "list":
		a.Entries, err = t.List(c.Path)
	case "read":
		var data []byte
		data, err = t.Read(c.Path)
		body = [][]byte{data}
	case "files":
		want := Wanted
		switch {
		case c.All:
			want = func(string) bool { return true }
		case c.None:
			want = func(string) bool { return false }
		}
		var files []repo.File
		files, err = t.Files(c.Path, want)
		for _, f := range files {
			a.Files = append(a.Files, part{Path: f.Path, Size: len(f.Data)})
			body = append(body, f.Data)
		}
	default:
		err = broken("it asks for %.20q", c.Do)
	}
	return a, body, err
}

// result reads the objects that were rendered.
func (h *host) result(c call, body *limitedReader) (*Result, error) {
	out := &Result{Form: c.Form, Chart: c.Chart, Inputs: c.Inputs, Notes: c.Notes}
	if len(c.Objects) > maxObjects {
		return nil, broken("%d objects", len(c.Objects))
	}
	for _, p := range c.Objects {
		if p.Size < 0 || p.Size > body.left() {
			return nil, broken("an object of %d bytes", p.Size)
		}
		text := make([]byte, p.Size)
		if _, err := io.ReadFull(body, text); err != nil {
			return nil, &brokenError{err}
		}
		var m map[string]any
		if err := decode(text, &m); err != nil {
			return nil, &brokenError{err}
		}
		o, err := object.FromBody(m)
		if err != nil {
			return nil, &brokenError{err}
		}
		o.File, o.Line = p.Path, p.Line
		out.Objects = append(out.Objects, o)
	}
	return out, nil
}

// mistake is an error of the other process as it would be here.
func (h *host) mistake(m farMistake) error {
	if len(m.All) > 0 {
		errs := make([]error, len(m.All))
		for i, x := range m.All {
			errs[i] = h.mistake(x)
		}
		return errors.Join(errs...)
	}
	var err error = &object.SyntaxError{File: m.File, Line: m.Line, Text: m.Text}
	if m.File == "" {
		err = errors.New(m.Text)
	}
	from := []error{err}
	for _, n := range m.From {
		if n >= 1 && n <= len(h.wrong) {
			from = append(from, h.wrong[n-1])
		}
	}
	if len(from) == 1 {
		return err
	}
	return &cameFrom{err, from}
}

// cameFrom is an error in the words of the other process, and the errors here that it came from.
type cameFrom struct {
	error
	all []error
}

func (e *cameFrom) Unwrap() []error { return e.all }

// ---- the other process

// Serve renders what the process at the other end of two pipes asks for, one after the other, within the bounds that it says,
// until there is no more or it has taken a good part of them. It is the whole of a process.
func Serve(ctx context.Context, from io.Reader, to io.Writer) error {
	Offline()
	r, w := newReader(from), newWriter(to)
	for first := true; ; first = false {
		if _, err := r.r.Peek(1); errors.Is(err, io.EOF) {
			return nil
		}
		bound := confine
		if !first { // for good
			bound = func(bounds) error { return nil }
		}
		if more, err := serveOne(ctx, r, w, bound, fresh); err != nil || !more {
			return err
		}
	}
}

// serveOne renders one thing; more tells whether it was said that another may follow: fresh tells that nothing much was taken yet.
func serveOne(ctx context.Context, from, to *messages, confine func(bounds) error, fresh func(bounds) bool) (more bool, err error) {
	var q asked
	if _, err := from.read(&q); err != nil {
		return false, fmt.Errorf("the request can't be read: %w", err)
	}
	if err := confine(q.Bounds); err != nil {
		return false, fmt.Errorf("bound this process: %w", err)
	}
	g := &guest{to: to, from: from}
	r := Request{Ward: q.Ward, Cluster: q.Cluster}
	if q.HasTree {
		r.Tree = &farTree{g, 0, q.Tree}
	}
	if q.Other {
		r.Other = func(repo, ref string) (Tree, error) {
			a, _, err := g.call(call{Do: "other", Repo: repo, Ref: ref})
			return &farTree{g, a.Tree, a.Name}, err
		}
	}
	load := func(do string) func(string, string, string) (Package, error) {
		return func(repo, name, version string) (Package, error) {
			a, data, err := g.call(call{Do: do, Repo: repo, Name: name, Wanted: version})
			return Package{Data: data, Version: a.Version, Digest: a.Digest}, err
		}
	}
	if q.Chart {
		r.Chart = load("chart")
	}
	if q.Depend {
		r.Depend = load("depend")
	}
	res, err := renderOne(ctx, r) // its time is bounded by the other process
	more = fresh(q.Bounds)
	if err != nil {
		far := farOf(err)
		return more, to.write(call{Do: "failed", Wrong: &far, More: more})
	}
	end := call{Do: "done", More: more, Form: res.Form, Chart: res.Chart, Inputs: res.Inputs, Notes: res.Notes}
	var body [][]byte
	total := 0
	for _, o := range res.Objects {
		text, err := encode(o.Body)
		if err != nil {
			return false, err
		}
		if total += len(text); total > maxOutput {
			far := farMistake{Text: express.ErrTooMuch.Error()}
			return false, to.write(call{Do: "failed", Wrong: &far})
		}
		end.Objects = append(end.Objects, part{Path: o.File, Line: o.Line, Size: len(text)})
		body = append(body, text)
	}
	return more, to.write(end, body...)
}

// farOf takes an error apart, so that it can be put together again elsewhere.
func farOf(err error) farMistake {
	if many, ok := err.(interface{ Unwrap() []error }); ok {
		if all := many.Unwrap(); len(all) > 0 && err.Error() == errors.Join(all...).Error() { // nothing was said around them
			var out farMistake
			for _, e := range all {
				out.All = append(out.All, farOf(e))
			}
			return out
		}
	}
	out := farMistake{Text: err.Error()}
	if at, ok := err.(*object.SyntaxError); ok {
		out = farMistake{Text: at.Text, File: at.File, Line: at.Line}
	}
	var far *farError
	if errors.As(err, &far) {
		out.From = far.m.From
	}
	return out
}

// farError is an error of the first process, in the second.
type farError struct{ m farMistake }

func (e *farError) Error() string        { return e.m.Text }
func (e *farError) Is(target error) bool { return target == repo.ErrNoPath && e.m.NoPath }

// guest is the other process's side.
type guest struct {
	mu   sync.Mutex
	to   *messages
	from *messages
}

func (g *guest) call(c call) (answer, []byte, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	var a answer
	if err := g.to.write(c); err != nil {
		return a, nil, err
	}
	body, err := g.from.read(&a)
	if err != nil {
		return a, nil, err
	}
	data := make([]byte, body.left())
	if _, err := io.ReadFull(body, data); err != nil {
		return a, nil, err
	}
	if a.Wrong != nil {
		return a, nil, &farError{*a.Wrong}
	}
	return a, data, nil
}

// farTree is a tree of the first process.
type farTree struct {
	g    *guest
	n    int
	name string
}

func (t *farTree) Name() string { return t.name }

func (t *farTree) Hash(p string) (string, error) {
	a, _, err := t.g.call(call{Do: "hash", Tree: t.n, Path: p})
	return a.Hash, err
}

func (t *farTree) Read(p string) ([]byte, error) {
	_, data, err := t.g.call(call{Do: "read", Tree: t.n, Path: p})
	return data, err
}

func (t *farTree) List(p string) ([]repo.Entry, error) {
	a, _, err := t.g.call(call{Do: "list", Tree: t.n, Path: p})
	return a.Entries, err
}

func (t *farTree) Files(p string, want func(string) bool) ([]repo.File, error) {
	a, data, err := t.g.call(call{Do: "files", Tree: t.n, Path: p, All: want("a"), None: !want("a.yaml")})
	if err != nil {
		return nil, err
	}
	var out []repo.File
	for _, f := range a.Files {
		if f.Size < 0 || f.Size > len(data) {
			return nil, fmt.Errorf("%s: the files below %s can't be read: they are shorter than they should be", t.name, pathOr(p))
		}
		if f.Path == p || want(path.Base(f.Path)) {
			out = append(out, repo.File{Path: f.Path, Data: data[:f.Size:f.Size]})
		}
		data = data[f.Size:]
	}
	return out, nil
}
