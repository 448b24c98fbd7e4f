package reading

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// at is one tree that a declaration is read from.
type at struct {
	mirror *repo.Mirror
	head   repo.Revision
	tree   *repo.Tree
}

// reader is the reading of one declaration: which commit of which repository it sees.
type reader struct {
	of      *Ward
	ctx     context.Context
	ref     string
	trees   map[[2]string]*at // by repository and ref
	instead Instead
	// elsewhere is called before another process renders: its turn here is over.
	elsewhere func()
}

func (w *Ward) reads(ctx context.Context, ref string) *reader {
	return &reader{of: w, ctx: ctx, ref: ref, trees: map[[2]string]*at{}}
}

// tree is a repository at a ref; every part of one declaration sees the same commit of it.
func (r *reader) tree(name, ref string) (*at, error) {
	key := [2]string{name, ref}
	if t := r.trees[key]; t != nil {
		return t, nil
	}
	may := r.of.mayRead()
	if may != nil {
		if err := may(name); err != nil {
			return nil, err
		}
	}
	l := r.of.Main
	if name != r.of.Ward.From.Repo {
		var err error
		if l, err = r.of.House.Source(name); err != nil {
			return nil, err
		}
	}
	mirror, ok := l.Git()
	if !ok {
		return nil, fmt.Errorf("%s is a chart repository; files can't be read from it", name)
	}
	resolve := mirror.Resolve
	if id := r.instead[key]; id != "" { // which is no commit of the repository, so that nobody has signed it
		ref, resolve = id, func(_ context.Context, id string) (repo.Revision, error) { return mirror.Says(id) }
	}
	head, err := resolve(r.ctx, ref)
	if err != nil {
		return nil, err
	}
	tree := mirror.At(head.ID)
	if may != nil {
		tree = tree.Within(may)
	}
	t := &at{mirror, head, tree}
	r.trees[key] = t
	return t, nil
}

// mayRead tells why the ward may not read a repository, whichever way leads there: its file, value files, submodules, or what
// a chart depends on. nil when it may read all.
func (w *Ward) mayRead() func(repo string) error {
	if !w.Limits.Any() {
		return nil
	}
	return func(repo string) error {
		own := roster.Roster{Name: cmp.Or(w.Roster, "that declared it"), Repo: w.Ward.From.Repo, Limits: w.Limits}
		if now, known := w.House.RosterNow(w.Roster); known {
			own = now
		}
		if err := own.MayRead(repo); err != nil {
			return &BeyondLimits{err}
		}
		return nil
	}
}

// main is the tree that the ward comes from; nil for a chart from a chart repository.
func (r *reader) main() (*at, error) {
	if _, ok := r.of.Main.Git(); !ok {
		return nil, nil
	}
	return r.tree(r.of.Ward.From.Repo, r.ref)
}

func (r *reader) chart(name, chart, version string) (render.Package, error) {
	if may := r.of.mayRead(); may != nil {
		if err := may(name); err != nil {
			return render.Package{}, err
		}
	}
	l, err := r.of.House.Source(name)
	if err != nil {
		return render.Package{}, err
	}
	shelf, ok := l.Charts()
	if !ok {
		return render.Package{}, fmt.Errorf("%s is a git repository, not one of charts; point from.path at the chart in it, or add the chart repository: vigila repo add NAME URL --charts", name)
	}
	c, err := shelf.Load(r.ctx, chart, version)
	return render.Package{Data: c.Data, Version: c.Version, Digest: c.Digest}, err
}

// depend fetches what a chart depends on, from a known chart repository with the address that it names.
func (r *reader) depend(address, name, version string) (render.Package, error) {
	found := r.of.House.ChartsAt(address)
	if found == nil {
		return render.Package{}, fmt.Errorf("it is not in its charts directory, and %s is no known chart repository; put the chart there, or add the repository: vigila repo add NAME %s --charts", address, address)
	}
	return r.chart(found.Name(), name, version)
}

// same tells whether everything that a declaration was made of is as it was then. What can't be asked now is taken to
// be.
func (r *reader) same(d *declared.Declaration) (bool, error) {
	for _, in := range d.Inputs {
		now, err := r.hash(in)
		if err != nil {
			return false, err
		}
		if now != in.Hash {
			return false, nil
		}
	}
	return true, nil
}

func (r *reader) hash(in declared.Input) (string, error) {
	switch {
	case in.Repo == "" && in.Path == "cluster":
		facts, whole, err := r.of.Cluster.Facts(r.ctx)
		if err != nil || !whole { // what can't be asked now is taken to be as it was
			return in.Hash, nil
		}
		return facts.Hash(in.Hash), nil
	case strings.Contains(in.Repo, "://"), r.isChart(in.Repo):
		name, version, _ := strings.Cut(in.Path, " ")
		load := r.chart
		if strings.Contains(in.Repo, "://") {
			load = r.depend
		}
		c, err := load(in.Repo, name, version)
		if err != nil {
			return "", err
		}
		return c.Version + " " + c.Digest, nil
	}
	ref := in.Ref
	if ref == "" {
		ref = r.ref
	}
	t, err := r.tree(in.Repo, ref)
	if err != nil {
		return "", err
	}
	return t.tree.Hash(in.Path)
}

func (r *reader) isChart(name string) bool {
	l, err := r.of.House.Source(name)
	if err != nil {
		return false
	}
	_, ok := l.Charts()
	return ok
}

// renderedForm changes whenever the same inputs give other objects.
const renderedForm = "1"

// keptRendering is a rendering as the record keeps it.
type keptRendering struct {
	Form    string           `json:"form"`
	Chart   string           `json:"chart,omitempty"`
	Inputs  []declared.Input `json:"inputs"`
	Notes   []string         `json:"notes,omitempty"`
	Objects []keptObject     `json:"objects"`
}

type keptObject struct {
	File string         `json:"file"`
	Line int            `json:"line"`
	Body map[string]any `json:"body"`
}

// rendered gives what the ward declares, rendered now or long ago: what was asked for once is never rendered again while
// its inputs are the same, by whichever ward.
func (r *reader) rendered(main *at) (*render.Result, error) {
	w := r.of.Ward
	q := render.Request{Ward: *w, Chart: r.chart, Depend: r.depend, Other: func(name, ref string) (render.Tree, error) {
		t, err := r.tree(name, ref)
		if err != nil {
			return nil, err
		}
		return t.tree, nil
	}}
	var err error
	asked := []any{renderedForm, w.From.Repo, w.From.Path, fmt.Sprint(w.From.Include), fmt.Sprint(w.From.Exclude), fmt.Sprint(w.From.Versions)}
	if main != nil {
		q.Tree = main.tree
		hash, err := main.tree.Hash(w.From.Path)
		if err != nil {
			return nil, err
		}
		asked = append(asked, hash)
	}
	plain := main != nil && render.IsPlain(main.tree, w.From)
	if !plain { // these may look at more than the files
		if q.Cluster, _, err = r.of.Cluster.Facts(r.ctx); err != nil {
			return nil, err
		}
		asked = append(asked, fmt.Sprint(w.From.Chart), w.From.Release, w.From.Values, fmt.Sprint(w.From.ValuesIn), w.Name, w.Owner, w.Into.Namespace, q.Cluster.Name, fmt.Sprint(q.Cluster.Labels), q.Cluster.Version)
	}
	// What is read is only known once it was rendered: the first key leads to the inputs of the last time, and these,
	// as they are now, to what they gave.
	first := object.Hash(asked)
	var inputs []declared.Input
	err = r.of.Cache.Rendered(r.ctx, first, &inputs)
	if err == nil {
		if key, err := r.keyOf(first, inputs); err == nil {
			var kept keptRendering
			if r.of.Cache.Rendered(r.ctx, key, &kept) == nil {
				return kept.result()
			}
		}
	} else if !errors.Is(err, record.ErrNone) {
		r.of.Log.Warn("what was rendered before can't be read; it is rendered again", "error", err)
	}
	head := ""
	if main != nil {
		head = main.head.ID
	}
	before := r.lastOverrun(first)
	if before.waits(first, head, time.Now()) {
		return nil, before
	}
	r.of.Counts()
	if !plain {
		r.elsewhere()
	}
	out, err := r.of.Render(r.ctx, q)
	if err != nil && r.ctx.Err() != nil { // nobody waits for it any more, which says nothing of what is rendered
		return nil, err
	}
	now := before.after(first, head, time.Now(), err)
	r.of.overrun.Store(now)
	if now.N > 0 {
		if err := r.of.Cache.PutRendered(r.ctx, overrunOf+first, now); err != nil {
			r.of.Log.Warn("that a rendering took too much can't be written", "error", err)
		}
		return nil, now
	}
	if err != nil {
		return nil, err
	}
	r.keep(first, out)
	return out, nil
}

// keep keeps what was rendered, under what it was made of.
func (r *reader) keep(first string, out *render.Result) {
	kept := keptRendering{Form: out.Form, Chart: out.Chart, Inputs: out.Inputs, Notes: out.Notes, Objects: make([]keptObject, len(out.Objects))}
	for i, o := range out.Objects {
		kept.Objects[i] = keptObject{o.File, o.Line, o.Body}
	}
	key, err := r.keyOf(first, out.Inputs)
	if err == nil {
		err = r.of.Cache.PutRendered(r.ctx, key, kept)
	}
	if err == nil {
		err = r.of.Cache.PutRendered(r.ctx, first, out.Inputs)
	}
	if err != nil {
		r.of.Log.Warn("what was rendered can't be kept", "error", err)
	}
}

// overrun is a rendering that was ended because it took too much, the last of some in a row; none when N is 0.
type overrun struct {
	Text  string    `json:"text"`
	Of    string    `json:"of"`   // what was rendered
	Head  string    `json:"head"` // the commit that it was seen at
	At    time.Time `json:"at"`
	Until time.Time `json:"until"` // it is not tried again before
	N     int       `json:"n"`
}

// overrunOf stands before the key of what was rendered, where an overrun of it is kept: a restart is no reason to try again.
const overrunOf = "overrun "

// Pauses between two tries of what takes too much: the first is doubled up to the longest. Another commit, which may mend it
// from beside its path, makes them short.
const (
	firstPause   = time.Minute
	longestPause = 30 * time.Minute
	otherPause   = 2 * time.Minute
)

func (o *overrun) Error() string {
	return fmt.Sprintf("%s. It is tried again when its files change, at the first look after %s, or when somebody looks", o.Text, o.Until.UTC().Format("15:04 UTC"))
}

// lastOverrun is the last try, when it took too much.
func (r *reader) lastOverrun(first string) *overrun {
	if o := r.of.overrun.Load(); o != nil {
		return o
	}
	o := &overrun{}
	if err := r.of.Cache.Rendered(r.ctx, overrunOf+first, o); err != nil {
		return &overrun{} // mostly there was none
	}
	return o
}

// waits tells whether the same would be tried too soon.
func (o *overrun) waits(of, head string, now time.Time) bool {
	return o.N > 0 && o.Of == of && now.Before(o.Until) && (o.Head == head || now.Sub(o.At) <= otherPause)
}

// after is what is to be kept once it was tried.
func (o *overrun) after(of, head string, now time.Time, err error) *overrun {
	var over *render.Overrun
	if !errors.As(err, &over) {
		return &overrun{}
	}
	return &overrun{Text: err.Error(), Of: of, Head: head, At: now, Until: now.Add(min(firstPause<<min(o.N, 10), longestPause)), N: o.N + 1}
}

// keyOf names what some inputs, as they are now, were rendered to.
func (r *reader) keyOf(first string, inputs []declared.Input) (string, error) {
	all := []any{first}
	for _, in := range inputs {
		now, err := r.hash(in)
		if err != nil {
			return "", err
		}
		all = append(all, in.Repo, in.Ref, in.Path, now)
	}
	return object.Hash(all), nil
}

func (k keptRendering) result() (*render.Result, error) {
	out := &render.Result{Form: k.Form, Chart: k.Chart, Inputs: k.Inputs, Notes: k.Notes, Objects: make([]object.Object, len(k.Objects))}
	for i, x := range k.Objects {
		o, err := object.FromBody(x.Body)
		if err != nil {
			return nil, err
		}
		o.File, o.Line = x.File, x.Line
		out.Objects[i] = o
	}
	return out, nil
}

// revision names what a declaration is of: the newest commit that touched any of its inputs; with a chart from elsewhere
// a name for both.
func (r *reader) revision(main *at, res *render.Result) (logbook.Revision, error) {
	w := r.of.Ward
	paths := map[*at][]string{}
	var packs []string
	for _, in := range res.Inputs {
		switch {
		case in.Repo == "" || in.Hash == "":
		case strings.Contains(in.Repo, "://") || r.isChart(in.Repo):
			packs = append(packs, in.Path+" "+in.Hash)
		default:
			ref := in.Ref
			if ref == "" {
				ref = r.ref
			}
			t, err := r.tree(in.Repo, ref)
			if err != nil {
				return logbook.Revision{}, err
			}
			paths[t] = append(paths[t], in.Path)
		}
	}
	if main != nil {
		if h, err := main.tree.Hash(w.From.Path); err == nil && h != "" && !slices.Contains(paths[main], w.From.Path) {
			paths[main] = append(paths[main], w.From.Path)
		}
	}
	var newest repo.Revision
	for t, ps := range paths {
		rev, err := t.mirror.LastChange(r.ctx, t.head, ps...)
		if err != nil {
			return logbook.Revision{}, err
		}
		if newest.ID == "" || rev.At.After(newest.At) || rev.At.Equal(newest.At) && t == main {
			newest = rev
		}
	}
	out := logbook.Revision{ID: newest.ID, Subject: newest.Subject, Author: newest.Author, At: newest.At}
	if len(packs) > 0 {
		slices.Sort(packs)
		out.ID = object.Hash([]any{newest.ID, strings.Join(packs, "\n")})[:40]
		if out.Subject = "chart " + res.Chart; newest.Subject != "" {
			out.Subject += ", " + newest.Subject
		}
	}
	return out, nil
}

// Interests lists what a placement reads of a repository. Beside its own path that is what it was made of last.
func (w *Ward) Interests(name string) []sources.Interest {
	var out []sources.Interest
	add := func(ref, path string) {
		for i := range out {
			if out[i].Ref == ref {
				out[i].Paths = append(out[i].Paths, path)
				return
			}
		}
		out = append(out, sources.Interest{Ref: ref, Paths: []string{path}})
	}
	f := w.Ward.From
	if name == f.Repo {
		add(f.Ref, f.Path)
		add(f.Ref, render.RulesDir)
	}
	for _, v := range slices.Concat(f.ValuesIn, f.Versions) {
		if cmp.Or(v.Repo, f.Repo) == name {
			add(cmp.Or(v.Ref, valuesRef(f, v)), v.Path)
		}
	}
	if inputs := w.inputs.Load(); inputs != nil {
		for _, in := range *inputs {
			if in.Repo == name {
				add(cmp.Or(in.Ref, f.Ref), in.Path)
			}
		}
	}
	return out
}

func valuesRef(f ward.From, v ward.ValuesFile) string {
	if v.Repo == "" || v.Repo == f.Repo {
		return f.Ref
	}
	return "main"
}
