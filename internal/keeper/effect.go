package keeper

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"index/suffixarray"
	"maps"
	pathOf "path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// Revision is one commit, as package repo has it.
type Revision = repo.Revision

// Effect is what a branch would do once it is part of its base: to files, to rosters, and above all to the clusters.
type Effect struct {
	Repo, Base, Branch string
	BaseAt, HeadAt     Revision
	Conflicts          []string // files that keep the two from going together; nothing else is known then
	Files              []FileEffect
	Wards              []WardEffect
	Same               int              // wards that read what it changes, and would declare what they do now
	Problems           []roster.Problem // that rosters would have with their files, and have not now
}

// FileEffect is a file that would be another.
type FileEffect struct {
	Path   string
	Change compare.Change
	Patch  string // lines, in git's format
	Hidden string // why there is no patch
}

// WardEffect is a ward that would declare something else.
type WardEffect struct {
	ID, Cluster string
	Change      compare.Change // Added: there is no such ward now; Removed: its file is gone
	Filed       bool           // its own file would be another
	Problem     string         // why what it would declare can't be read
	Objects     []compare.Moved
	Refused     map[object.Ref]string // what the API server says to objects
	Guards      []plan.Guard
	Breaks      []rule.Finding // rules that it does not break now
	Canaries    []ward.Canary
	Untried     string // why nothing was tried out on the API server; "" when it was
	Waits       string // it would declare nothing
	Dismantles  bool   // it is Removed, and its objects with it; else they stay, and are listed as left behind
}

// The bounds of an effect.
const (
	maxPatch      = 64 << 10 // bytes
	maxPatches    = 200
	maxEffects    = 500 // wards
	effectsAtOnce = 4
	effectTimeout = 5 * time.Minute
)

// Effect tells what a branch of a repository would do to a base.
func (k *Keeper) Effect(ctx context.Context, repository, base, branch string) (*Effect, error) {
	mirror, err := k.gitOf(repository)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, effectTimeout)
	defer cancel()
	if base == branch {
		return nil, fault(Invalid, "%s is the branch that it is held against; name another", base)
	}
	at := map[string]string{}
	for _, name := range []string{base, branch} {
		id, err := mirror.Branch(name)
		if err == nil && id == "" {
			_, err = mirror.Resolve(ctx, name)
			if err == nil {
				err = fmt.Errorf("%s is no branch of %s", name, repository)
			}
		}
		if err != nil {
			return nil, fault(Invalid, "%v", err)
		}
		at[name] = id
	}
	return k.effect(ctx, mirror, base, branch, at[base], at[branch])
}

// EffectOf tells what a proposal would do now.
func (k *Keeper) EffectOf(ctx context.Context, number int) (*Effect, error) {
	p, err := k.Proposal(ctx, number)
	if err != nil {
		return nil, err
	}
	if p.Over() || p.Standing == proposal.Opening {
		says, _ := p.Says()
		return nil, fault(Conflict, "proposal %d does nothing to come: %s", number, says)
	}
	return k.Effect(ctx, p.Repo, p.Base, p.Branch)
}

func (k *Keeper) effect(ctx context.Context, mirror *repo.Mirror, base, branch, baseAt, headAt string) (*Effect, error) {
	out := &Effect{Repo: mirror.Name(), Base: base, Branch: branch}
	var err error
	if out.BaseAt, err = mirror.Says(baseAt); err != nil {
		return nil, err
	}
	if out.HeadAt, err = mirror.Says(headAt); err != nil {
		return nil, err
	}
	t, err := mirror.Together(ctx, baseAt, headAt)
	if err != nil {
		return nil, fault(Conflict, "%s and %s can't be held against each other: %v", base, branch, err)
	}
	if out.Conflicts = t.Conflicts; len(t.Conflicts) > 0 || t.Same {
		return out, nil
	}
	would, err := mirror.Would(ctx, t.Tree, baseAt)
	if err != nil {
		return nil, err
	}
	changes, err := mirror.Differs(baseAt, would)
	if err != nil {
		return nil, err
	}
	moved, err := mirror.Moved(baseAt, would)
	if err != nil {
		return nil, err
	}
	e := &effects{k: k, mirror: mirror, base: base, baseAt: baseAt, would: would, moved: moved, out: out, filed: map[string]filed{}, rules: map[string][]declared.File{}, secret: map[string]bool{}, read: map[string]looked{}}
	if err := e.rosters(ctx); err != nil {
		return nil, err
	}
	if err := e.wards(ctx); err != nil {
		return nil, err
	}
	return out, e.files(ctx, changes)
}

// effects finds out what a branch would do.
type effects struct {
	k             *Keeper
	mirror        *repo.Mirror
	base          string // the branch,
	baseAt, would string // the commit that it is at, and the one that it would be at
	moved         *repo.Moved
	out           *Effect
	filed         map[string]filed           // wards whose files would be others, by name
	rules         map[string][]declared.File // of rosters whose rules would be others: those that they would have

	mu     sync.Mutex
	secret map[string]bool // values of Secrets, before and after
	read   map[string]looked
}

// looked is what is known of a path that wards or rosters read.
type looked struct {
	known bool // all that is secret of it
	whole bool // all files below it are read, not manifests alone
}

// filed is a ward's declaration that would be another.
type filed struct {
	change compare.Change
	ward   roster.Ward
	of     roster.Roster
}

// rosters finds the wards whose files would be others.
func (e *effects) rosters(ctx context.Context) error {
	k := e.k
	all := k.rosterLoops()
	have, err := k.store.Wards(ctx)
	if err != nil {
		return err
	}
	for _, l := range all {
		conf := l.record()
		if conf.Repo != e.mirror.Name() || conf.Ref != e.base || !e.moved.Touches(conf.Path) {
			continue
		}
		own := slices.DeleteFunc(keptOf(have), func(w roster.Kept) bool { return w.Roster != conf.Name })
		known := k.known(have)
		side := func(commit string) (map[string]roster.Ward, []declared.File, []roster.Problem, error) {
			files, err := e.mirror.At(commit).Files(conf.Path, render.Wanted)
			if errors.Is(err, repo.ErrNoPath) {
				err = nil
			}
			if err != nil {
				return nil, nil, nil, err
			}
			common, err := commonRules(e.mirror.At(commit))
			book := render.InRulebook(files)
			for _, f := range files {
				if isDeclaration(f.Data) || render.IsShared(f.Data) || book(f.Path) { // the others are none of its business
					e.reads(f.Path, true, true)
				}
			}
			in, problems := readRoster(conf, files, common, own)
			problems = append(problems, in.Fit(known.Clusters)...)
			take, more := in.Plan(conf, known, nil)
			out := map[string]roster.Ward{}
			for _, w := range take {
				out[w.Name] = w
			}
			return out, in.Rules, append(problems, more...), err
		}
		was, before, old, err := side(e.baseAt)
		if err != nil {
			return err
		}
		now, rules, fresh, err := side(e.would)
		if err != nil {
			return err
		}
		if !slices.Equal(before, rules) {
			e.rules[conf.Name] = rules
		}
		for _, p := range fresh {
			e.reads(p.File, false, true)
			if !slices.ContainsFunc(old, func(o roster.Problem) bool { return o.File == p.File && o.Text == p.Text }) {
				e.out.Problems = append(e.out.Problems, p)
			}
		}
		for name, w := range now {
			switch o, had := was[name]; {
			case !had:
				e.filed[name] = filed{compare.Added, w, conf}
			case o.Text != w.Text:
				e.filed[name] = filed{compare.Changed, w, conf}
			}
		}
		for name, w := range was {
			if _, still := now[name]; !still && !slices.ContainsFunc(fresh, func(p roster.Problem) bool { return p.Ward == name || p.File == w.File }) {
				e.filed[name] = filed{compare.Removed, w, conf}
			}
		}
	}
	return nil
}

func (e *effects) reads(path string, known, whole bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	was, had := e.read[path]
	e.read[path] = looked{known: known && (was.known || !had), whole: whole || was.whole}
}

// wards finds out what wards would declare.
func (e *effects) wards(ctx context.Context) error {
	k := e.k
	k.mu.RLock()
	var kept []*placement
	there := map[string]bool{}
	for _, p := range k.kept.all {
		kept = append(kept, p)
		there[p.ID] = true
	}
	k.mu.RUnlock()
	slices.SortFunc(kept, func(a, b *placement) int { return strings.Compare(a.ID, b.ID) })
	var work []func() *WardEffect
	for _, p := range kept {
		f, isFiled := e.filed[p.Ward.Name]
		_, ruled := e.rules[p.Roster]
		touched := isFiled || ruled
		if p.Broken == "" {
			for _, i := range p.Interests(e.mirror.Name()) {
				if i.Ref == e.base && slices.ContainsFunc(i.Paths, e.moved.Touches) {
					touched = true
				}
			}
		}
		if touched {
			work = append(work, func() *WardEffect { return e.kept(ctx, p, f) })
		}
	}
	for name, f := range e.filed {
		for _, c := range k.matching(f.ward.Ward) {
			if f.change != compare.Removed && !there[ward.ID(name, c)] {
				work = append(work, func() *WardEffect { return e.added(ctx, f, c) })
			}
		}
	}
	if len(work) > maxEffects {
		return fault(Invalid, "it touches %d wards; what a branch does is worked out for %d at most", len(work), maxEffects)
	}
	found := make([]*WardEffect, len(work))
	var all sync.WaitGroup
	slots := make(chan struct{}, effectsAtOnce)
	for i, do := range work {
		all.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			found[i] = do()
		})
	}
	all.Wait()
	for _, w := range found {
		if w == nil {
			e.out.Same++
			continue
		}
		e.out.Wards = append(e.out.Wards, *w)
	}
	slices.SortFunc(e.out.Wards, func(a, b WardEffect) int { return strings.Compare(a.ID, b.ID) })
	return ctx.Err()
}

// at is the repository as the base is, or would be.
func (e *effects) at(commit string) reading.Instead {
	return reading.Instead{{e.mirror.Name(), e.base}: commit}
}

// declares reads what a ward would declare, and its objects.
func (e *effects) declares(ctx context.Context, r *reading.Ward, commit string) (*declared.Declaration, []object.Object, error) {
	done, err := e.k.renders.Take(ctx, "effect")
	if err != nil {
		return nil, nil, err
	}
	defer done()
	if commit == e.would {
		r.House = ruled{r.House, e.rules}
	}
	d, err := r.Would(ctx, e.at(commit))
	if err != nil || d.Waits != "" {
		return d, nil, err
	}
	kept, err := e.k.store.Snapshot(ctx, d.Snapshot)
	out := make([]object.Object, len(kept))
	for i, o := range kept {
		out[i] = o.Object
		e.secrets(o.Object)
	}
	return d, out, err
}

// ruled is the house with the rules that rosters would have.
type ruled struct {
	reading.House
	rules map[string][]declared.File
}

func (r ruled) RosterRules(name string) []repo.File {
	rules, others := r.rules[name]
	if !others {
		return r.House.RosterRules(name)
	}
	out := make([]repo.File, len(rules))
	for i, f := range rules {
		out[i] = repo.File{Path: f.Path, Data: []byte(f.Text)}
	}
	return out
}

// breaks are the findings that there are then, and not now.
func breaks(was, then *declared.Declaration, at time.Time) (out []rule.Finding) {
	same := func(a, b rule.Finding) bool {
		return a.Rule == b.Rule && a.Ref == b.Ref && a.Text == b.Text && a.Refuse == b.Refuse
	}
	for _, f := range then.Findings {
		if f.Except.Holds(at) || was != nil && slices.ContainsFunc(was.Findings, func(o rule.Finding) bool { return same(o, f) && !o.Except.Holds(at) }) {
			continue
		}
		out = append(out, f)
	}
	return out
}

// kept is the effect on a ward that is kept; nil when there is none.
func (e *effects) kept(ctx context.Context, p *placement, f filed) *WardEffect {
	out := &WardEffect{ID: p.ID, Cluster: p.cluster.record().Name, Change: compare.Changed, Filed: f.change != ""}
	if f.change == compare.Removed || f.change == compare.Changed && !slices.Contains(e.k.matching(f.ward.Ward), out.Cluster) {
		out.Change, out.Dismantles = compare.Removed, p.Ward.Keep.OnRemoval == ward.Dismantle
		return out
	}
	if p.Broken != "" {
		out.Problem = p.Broken
		return out
	}
	r := p.reads(p.repo, p.reading.Limits) // another than the ward's own: what is tried here must not keep that from anything
	was, old, err := e.declares(ctx, r, e.baseAt)
	unread := err != nil // what is broken now may be mended by it
	if f.change == compare.Changed {
		r = p.reads(p.repo, f.of.Limits)
		w := f.ward.For(out.Cluster, p.cluster.labels())
		if r.Ward, r.Roster = &w, f.of.Name; r.Ward.From.Repo != p.repo.Name() {
			if r.Main, err = e.k.source(r.Ward.From.Repo); err != nil {
				out.Problem = err.Error()
				return out
			}
		}
	}
	d, now, err := e.declares(ctx, r, e.would)
	if f.change != "" {
		e.reads(f.ward.File, err == nil, true) // which may hold values
	}
	for _, i := range p.Interests(e.mirror.Name()) {
		for _, path := range i.Paths {
			e.reads(path, err == nil && !unread, path != p.Ward.From.Path || d == nil || d.Form != render.PlainForm)
		}
	}
	if err != nil {
		out.Problem = err.Error()
		return out
	}
	out.Waits, out.Breaks = d.Waits, breaks(was, d, time.Now())
	if !unread && len(out.Breaks) == 0 && was.Snapshot == d.Snapshot && was.Waits == d.Waits && f.change == "" {
		return nil
	}
	out.Objects = e.differ(old, now)
	e.tryKept(ctx, p, d, out)
	return out
}

// differ lists the objects that two declarations have differently.
func (e *effects) differ(old, now []object.Object) []compare.Moved {
	all := compare.Declared(old, now, e.k.mask)
	for i := range all {
		if all[i].Change != compare.Changed {
			all[i].Fields = slices.DeleteFunc(all[i].Fields, onlyNames)
		}
	}
	return all
}

// tryKept tries out on the API server what a ward would do, and tells what would stop it.
func (e *effects) tryKept(ctx context.Context, p *placement, d *declared.Declaration, out *WardEffect) {
	if d.Waits != "" {
		return
	}
	var tried *Preview
	var err error
	if p.cluster.away != nil {
		tried, err = tryingOf.ask(ctx, p, packed(d))
	} else {
		tried, err = p.trying(ctx, d)
	}
	if err != nil {
		out.Untried = err.Error()
		return
	}
	out.Guards, out.Canaries, out.Refused = tried.Guards, tried.Canaries, map[object.Ref]string{}
	for _, o := range tried.Objects {
		if o.Refused != "" && slices.ContainsFunc(out.Objects, func(m compare.Moved) bool { return m.Ref == o.Ref }) {
			out.Refused[o.Ref] = o.Refused
		}
	}
}

// trying is the preview of a sync to what would be declared.
func (p *placement) trying(ctx context.Context, d *declared.Declaration) (*Preview, error) {
	var made *loop.Prepared
	if err := p.ask(ctx, func() (err error) {
		made, err = p.Prepare(Ask{Kind: run.Sync, By: logbook.Vigila, Retry: true, Diff: true, Declared: d})
		return err
	}); err != nil {
		return nil, err
	}
	return p.preview(ctx, made, nil)
}

// added is the effect of a ward that there is not yet in a cluster.
func (e *effects) added(ctx context.Context, f filed, name string) *WardEffect {
	k := e.k
	w := f.ward.Ward
	out := &WardEffect{ID: ward.ID(w.Name, name), Cluster: name, Change: compare.Added, Filed: true}
	k.mu.RLock()
	c := k.clusters[name]
	k.mu.RUnlock()
	main, err := k.source(w.From.Repo)
	if err == nil && c == nil {
		err = fmt.Errorf("there is no cluster %s", name)
	}
	if err != nil {
		out.Problem = err.Error()
		return out
	}
	w = w.For(name, c.labels())
	if f.of.Limits.As != "" {
		w.Into.As = f.of.Limits.As
	}
	r := k.readsOf(&w, f.of.Name, f.of.Limits, main, c)
	r.File = f.ward.Text
	d, now, err := e.declares(ctx, r, e.would)
	e.reads(f.ward.File, err == nil, true) // which may hold values
	if w.From.Repo == e.mirror.Name() {
		e.reads(w.From.Path, err == nil, d == nil || d.Form != render.PlainForm)
		for _, v := range slices.Concat(w.From.ValuesIn, w.From.Versions) {
			e.reads(v.Path, err == nil, true)
		}
	}
	if err != nil {
		out.Problem = err.Error()
		return out
	}
	out.Waits, out.Canaries, out.Breaks = d.Waits, w.Canary, breaks(nil, d, time.Now())
	out.Guards = loop.GuardsOf(d.Findings, time.Now(), func(rule.Finding) bool { return true })
	out.Objects = e.differ(nil, now)
	if c.away != nil || c.conn == nil {
		out.Untried = fmt.Sprintf("%v", c.err)
		return out
	}
	hands, err := c.as(w.Into.Namespace, w.Into.As)
	if err != nil {
		out.Untried = err.Error()
		return out
	}
	calls := &drive.Ward{ID: out.ID, Name: w.Name, Cluster: name, Service: k.service, TakeOver: w.Keep.TakeOver, Mask: k.mask, Live: c.conn, Hands: hands, Book: k.ledger, Turns: c.calls}
	out.Refused = map[object.Ref]string{}
	for _, o := range now {
		tried, err := calls.Try(ctx, drive.Order{Object: declared.Whole{Object: o}}, false)
		switch {
		case err != nil:
			out.Untried = err.Error()
			return out
		case tried.Refused != "" && o.File == "" && o.Ref.Kind == "Namespace": // create_namespace: another ward keeps it, which is as good
			out.Objects = slices.DeleteFunc(out.Objects, func(m compare.Moved) bool { return m.Ref == o.Ref })
		case tried.Refused != "":
			out.Refused[o.Ref] = tried.Refused
		}
	}
	return out
}

// secrets notes what must be in no patch: the values of a Secret, as they are written and as they are meant, and what of another object looks like one.
func (e *effects) secrets(o object.Object) {
	e.mu.Lock()
	defer e.mu.Unlock()
	note := func(text string) {
		for _, line := range strings.Split(text, "\n") {
			if line = strings.TrimSpace(line); len(line) >= leastSecret {
				e.secret[line] = true
			}
		}
	}
	if !o.Ref.Secret() {
		for _, text := range secret.Concealed(o.Body) {
			note(text)
		}
		return
	}
	for _, part := range []string{"data", "stringData"} {
		values, _ := o.Body[part].(map[string]any)
		for _, v := range values {
			text, _ := v.(string)
			if secret.Shown(text) != "" {
				continue
			}
			if plain, err := base64.StdEncoding.DecodeString(text); err == nil && part == "data" {
				note(secret.Apart(string(plain)))
			}
			note(secret.Apart(text))
		}
	}
}

// leastSecret is how long what is kept out of patches is at least: shorter ones are found in every other line.
const leastSecret = 3

// isSecret finds a Secret in a file's text, whole or in pieces that a template makes one of.
var isSecret = regexp.MustCompile(`(?m)^[\s"'{,-]*kind["']?\s*:\s*["']?Secret(List)?\b`)

// files tells which files would be others, and shows the lines of those that wards and rosters read.
func (e *effects) files(ctx context.Context, changes []proposal.Change) error {
	hide := newVeil(slices.Sorted(maps.Keys(e.secret)), e.k.mask)
	for i, c := range changes {
		f := FileEffect{Path: c.Path, Change: compare.Changed}
		switch {
		case c.Old.ID == "":
			f.Change = compare.Added
		case c.New.ID == "":
			f.Change = compare.Removed
		}
		if f.Hidden = e.hides(c.Path); f.Hidden == "" && i >= maxPatches {
			f.Hidden = fmt.Sprintf("the lines of %d files are shown at most", maxPatches)
		}
		if f.Hidden == "" {
			patch, err := e.mirror.Patch(ctx, e.baseAt, e.would, c.Path)
			switch {
			case err != nil:
				return err
			case len(patch) > maxPatch:
				f.Hidden = fmt.Sprintf("its change has %d KiB", len(patch)>>10)
			default:
				if f.Hidden, err = e.holdsSecret(c.Path); err != nil {
					return err
				}
				if f.Hidden == "" {
					f.Patch = hide.over(patch)
				}
			}
		}
		e.out.Files = append(e.out.Files, f)
	}
	return nil
}

// hides tells why the lines of a file are not shown: whether something in it is secret is only known of what is read.
func (e *effects) hides(path string) string {
	hidden := "no ward and no roster reads it"
	for at, as := range e.read {
		if at == "" || at == path || strings.HasPrefix(path, at+"/") {
			if !as.whole && at != path && !render.Wanted(pathOf.Base(path)) {
				continue
			}
			if !as.known {
				return "what reads it can't be rendered, so whether anything in it is secret is not known"
			}
			hidden = ""
		}
	}
	return hidden
}

func (e *effects) holdsSecret(path string) (string, error) {
	for _, commit := range []string{e.baseAt, e.would} {
		text, err := e.mirror.At(commit).Read(path)
		if err != nil && !errors.Is(err, repo.ErrNoPath) {
			return "", err
		}
		if isSecret.Match(text) {
			return "it holds a Secret; what is another in it is told by its fields", nil
		}
	}
	return "", nil
}

// veil takes what is secret out of lines.
type veil struct {
	whole  []string // secret values, the longest first
	within *suffixarray.Index
	mask   compare.Mask
}

func newVeil(secrets []string, mask compare.Mask) *veil {
	v := &veil{whole: secrets, within: suffixarray.New([]byte(strings.Join(secrets, "\n"))), mask: mask}
	slices.SortStableFunc(v.whole, func(a, b string) int { return len(b) - len(a) })
	return v
}

// piece is what may be a part of a secret: a template makes an address or a file of a password and much else. The shorter ones are in
// every other word.
var piece = regexp.MustCompile(`[^\s"'` + "`" + `,;(){}\[\]<>=:|@&?]{4,}`)

// over is a patch without what is secret, and without what is a part of something secret.
func (v *veil) over(patch string) string {
	if len(v.whole) == 0 {
		return patch
	}
	const veiled = "\x00"
	var taken []string
	for _, s := range v.whole {
		if strings.Contains(patch, s) {
			patch = strings.ReplaceAll(patch, s, veiled+strconv.Itoa(len(taken))+veiled)
			taken = append(taken, s)
		}
	}
	rows := strings.Split(patch, "\n")
	begun := false // above the first mark are git's own words
	for i, row := range rows {
		if begun = begun || strings.HasPrefix(row, "@@"); row == "" || !begun {
			continue
		}
		rows[i] = row[:1] + piece.ReplaceAllStringFunc(row[1:], func(word string) string {
			if strings.Contains(word, veiled) || len(v.within.Lookup([]byte(word), 1)) == 0 {
				return word
			}
			return "secret " + v.mask(word)
		})
	}
	patch = strings.Join(rows, "\n")
	for i, s := range taken {
		patch = strings.ReplaceAll(patch, veiled+strconv.Itoa(i)+veiled, "secret "+v.mask(s))
	}
	return patch
}
