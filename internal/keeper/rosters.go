package keeper

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/charts"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// Problem is one thing that a roster can't take from its files.
type Problem struct {
	File string
	Line int
	Text string
	Ward string // that it is about; its last good declaration stays in force

	limit bool // it was read well, and is more than the roster may
}

// Roster is a roster as it stands: its own standing, and that of the wards it keeps, apart.
type Roster struct {
	record.Roster
	Standing   compare.Standing
	Says, Todo string
	NeedsYou   bool
	Revision   *logbook.Revision
	Repository standing.AsOf
	Problems   []Problem
	Guard      string // that stops it, by name
	Leaving    []string
	Wards      int // placements
	InStep     int
	Ready      int
	Loud       int // placements that need somebody
	Left       []record.LeftBehind
}

// rosterLoop keeps the wards of one roster as its files declare them.
type rosterLoop struct {
	k      *Keeper
	ctx    context.Context
	cancel context.CancelFunc
	wake   chan struct{}
	asked  chan chan struct{}
	// hears counts the looks at its repository: of those that it has not taken in wards may still come.
	hears hearing

	mu   sync.Mutex
	conf record.Roster
	rosterState
}

// rosterState is what is known of a roster's files, and what came of them.
type rosterState struct {
	asOf     standing.AsOf
	revision *logbook.Revision
	problems []Problem
	guard    string
	guarded  string // what it would do
	waits    string
	leaving  []string
	allow    map[string]bool
	hash     string // of what was taken in whole
	arranged bool   // the wards of its files are all registered
	retired  bool   // it is declared no more: its wards are let go, and nothing is taken from its files
	known    bool
}

// beyond stands before what a roster's limits say.
const beyond = "it is more than its roster may: "

// massRemoval is the guard that stops a roster from letting many wards go at once.
const massRemoval = "mass-removal"

func (k *Keeper) openRoster(r record.Roster) *rosterLoop {
	l := &rosterLoop{k: k, conf: r, wake: make(chan struct{}, 1), asked: make(chan chan struct{}), rosterState: rosterState{allow: map[string]bool{}}}
	l.ctx, l.cancel = context.WithCancel(k.ctx)
	k.mu.Lock()
	k.rosters[r.Name] = l
	k.mu.Unlock()
	return l
}

func (l *rosterLoop) start() { l.k.spawn(l.run) }

func (l *rosterLoop) record() record.Roster {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conf
}

func (l *rosterLoop) limits() record.Limits { return l.record().Limits }

func (l *rosterLoop) run() {
	l.nudge()
	again := time.NewTimer(time.Hour)
	defer again.Stop()
	for {
		var waiting []chan struct{}
		select {
		case <-l.ctx.Done():
			return
		case <-l.wake:
		case <-again.C:
		case c := <-l.asked:
			waiting = append(waiting, c)
		}
		n := l.hears.told.Load()
		settled := l.look()
		l.mu.Lock()
		if settled || l.arranged {
			l.hears.taken.Store(n)
		}
		l.mu.Unlock()
		for _, c := range waiting {
			close(c)
		}
		l.k.broker.send(Note{"roster", l.record().Name})
		if settled {
			again.Reset(time.Hour)
		} else {
			again.Reset(2 * time.Second)
		}
	}
}

func (l *rosterLoop) nudge() {
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// lets tells whether a ward has left the files already, and only waits for somebody to say how.
func (l *rosterLoop) lets(name string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Contains(l.leaving, name)
}

// rosterRead tells the rosters of a repository that it was looked at.
func (k *Keeper) rosterRead(name string, a standing.AsOf) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, l := range k.rosters {
		l.mu.Lock()
		if l.conf.Repo == name {
			if a.Known {
				l.asOf.Next = a.Next
				l.hears.told.Add(1)
				l.nudge()
			} else {
				l.asOf.Known, l.asOf.Problem, l.asOf.Next = false, a.Problem, a.Next
			}
		}
		l.mu.Unlock()
	}
}

// nudgeRosters lets every roster look again: something that they may wait for has changed.
func (k *Keeper) nudgeRosters() {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, l := range k.rosters {
		l.mu.Lock()
		l.hash = ""
		l.mu.Unlock()
		l.nudge()
	}
}

// look reads the roster's files and does what they say; false when something is still to be done a little later.
func (l *rosterLoop) look() bool {
	conf := l.record()
	blind := func(err error) bool {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.asOf.Known, l.asOf.Problem = false, err.Error()
		return true
	}
	rl, err := l.k.repoLoop(conf.Repo)
	if err != nil {
		return blind(err)
	}
	if rl.mirror == nil {
		return blind(fmt.Errorf("%s is a chart repository; a roster is in a git repository", conf.Repo))
	}
	if info := rl.info(); !info.Repository.Known {
		if info.Repository.Problem == "" { // not looked at yet
			rl.lookSoon()
			return true
		}
		return blind(errors.New(info.Repository.Problem))
	}
	head, err := rl.mirror.Resolve(l.ctx, conf.Ref)
	if errors.Is(err, repo.ErrEmpty) {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.asOf, l.waits = standing.AsOf{Known: true, At: time.Now(), Next: l.asOf.Next}, fmt.Sprintf("waits for the first commit on %s in %s", conf.Ref, conf.Repo)
		return true
	}
	if err != nil {
		return blind(err)
	}
	tree := rl.mirror.At(head.ID)
	hash, err := tree.Hash(conf.Path)
	if err != nil {
		return blind(err)
	}
	l.mu.Lock()
	same := l.hash != "" && l.hash == hash
	if same {
		l.asOf = standing.AsOf{Known: true, At: time.Now(), Next: l.asOf.Next}
	}
	l.mu.Unlock()
	if same {
		return true
	}
	files, err := tree.Files(conf.Path, render.Wanted)
	if err != nil {
		return blind(err)
	}
	rev, err := rl.mirror.LastChange(l.ctx, head, conf.Path)
	if err != nil {
		return blind(err)
	}
	l.mu.Lock()
	l.asOf, l.waits = standing.AsOf{Known: true, At: time.Now(), Next: l.asOf.Next}, ""
	l.revision = &logbook.Revision{ID: rev.ID, Subject: rev.Subject, Author: rev.Author, At: rev.At}
	l.mu.Unlock()
	return l.follow(files, hash)
}

// declaredWard is a ward as one of the roster's files has it.
type declaredWard struct {
	ward ward.Ward
	text string
	file string
}

// follow does what the files of a roster say; false when something is still to be done a little later.
func (l *rosterLoop) follow(files []repo.File, hash string) bool {
	k, conf := l.k, l.record()
	k.changing.Lock()
	defer k.changing.Unlock()
	l.mu.Lock()
	retired := l.retired
	l.mu.Unlock()
	if l.ctx.Err() != nil || retired {
		return true
	}
	var problems []Problem
	say := func(file string, line int, wardName, format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		problems = append(problems, Problem{File: file, Line: line, Text: text, Ward: wardName, limit: strings.HasPrefix(text, beyond)})
	}
	in, unread := k.readRoster(conf, files)
	problems = append(problems, unread...)
	in.limit(conf, say)
	settled := true
	l.setRules(in.rules, say)
	for _, r := range in.decl.Repos {
		if err := k.declareRepo(l.ctx, conf.Name, r); err != nil {
			say(in.where["repo "+r.Name], r.Line, "", "%v", err)
		}
	}
	for _, c := range in.decl.Clusters {
		busy, err := k.declareCluster(l.ctx, conf.Name, c)
		if err != nil {
			say(in.where["cluster "+c.Name], c.Line, "", "%v", err)
		}
		settled = settled && !busy
	}
	nested := map[string]bool{}
	for _, r := range in.decl.Rosters {
		nested[r.Name] = true
		if err := k.declareRoster(l.ctx, conf, r); err != nil {
			say(in.where["roster "+r.Name], r.Line, "", "%v", err)
		}
	}
	arranged := l.wards(in.wards, conf, in.broken, say)
	settled = arranged && settled
	l.mu.Lock()
	l.arranged = arranged
	l.mu.Unlock()
	gone, err := l.gone(in.wards, nested, in.broken)
	if err != nil {
		say(conf.Path, 1, "", "%v", err)
	}
	waits := ""
	if in.count == 0 && len(gone.wards) == 0 {
		waits = fmt.Sprintf("waits for a first ward file below %q in %s", conf.Path, conf.Repo)
	}
	settled = l.letGo(gone, in.broken, say) && settled
	for _, p := range k.wardsOf(conf.Name) {
		text, limit := in.broken[p.source], ""
		for _, x := range problems {
			if x.Ward == p.ward.Name && x.limit && limit == "" {
				limit = fmt.Sprintf("%s:%d: %s", x.File, x.Line, x.Text)
			} else if x.Ward == p.ward.Name && !x.limit && text == "" {
				text = fmt.Sprintf("%s:%d: %s", x.File, x.Line, x.Text)
			}
		}
		p.post(func() { p.misfiled, p.limited = text, limit })
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.problems, l.waits, l.known = problems, waits, true
	l.hash = ""
	if settled {
		l.hash = hash
	}
	return settled
}

// rosterFiles is what the files of a roster declare.
type rosterFiles struct {
	wards  []declaredWard
	decl   ward.Declared
	where  map[string]string // what is declared beside wards, to its file
	rules  []declared.File
	count  int               // of files that declare anything
	broken map[string]string // files that can't be read, and why
}

// readRoster reads what the files of a roster declare. A slip in the first line is no removal.
func (k *Keeper) readRoster(conf record.Roster, files []repo.File) (out rosterFiles, problems []Problem) {
	out.where, out.broken = map[string]string{}, map[string]string{}
	home := ward.From{Repo: conf.Repo, Ref: conf.Ref}
	for _, f := range files {
		if !strings.HasPrefix(f.Path, render.RulesDir+"/") && isHealth(f) { // those there hold for every ward of the repository anyway
			out.rules = append(out.rules, declared.File{Path: f.Path, Text: string(f.Data)})
			continue
		}
		if !ward.IsRoster(f.Data) {
			continue
		}
		out.count++
		d, err := ward.ParseDeclared(home, f.Path, f.Data)
		if err != nil {
			out.broken[f.Path] = err.Error()
			problems = append(problems, placesOf(f.Path, err)...)
			continue
		}
		for i, w := range d.Wards {
			out.wards = append(out.wards, declaredWard{w, d.Texts[i], f.Path})
		}
		for _, c := range d.Clusters {
			out.where["cluster "+c.Name] = f.Path
		}
		for _, r := range d.Repos {
			out.where["repo "+r.Name] = f.Path
		}
		for _, r := range d.Rosters {
			out.where["roster "+r.Name] = f.Path
		}
		all := &out.decl
		all.Clusters, all.Repos, all.Rosters = append(all.Clusters, d.Clusters...), append(all.Repos, d.Repos...), append(all.Rosters, d.Rosters...)
	}
	for _, p := range k.wardsOf(conf.Name) {
		if i := slices.IndexFunc(files, func(f repo.File) bool { return f.Path == p.source }); i >= 0 && !ward.IsRoster(files[i].Data) && out.broken[p.source] == "" {
			text := "its first key is not vigila: " + ward.Version + " any more; to stop keeping ward " + p.ward.Name + ", take the file away"
			out.broken[p.source] = p.source + ":1: " + text
			problems = append(problems, Problem{File: p.source, Line: 1, Text: text})
		}
	}
	return out, problems
}

// limit leaves a roster with limits its wards alone.
func (f *rosterFiles) limit(conf record.Roster, say func(file string, line int, wardName, format string, args ...any)) {
	if !conf.Limits.Any() {
		return
	}
	const no = "roster %s has limits, so it may declare wards alone, not %s %s"
	for _, c := range f.decl.Clusters {
		say(f.where["cluster "+c.Name], c.Line, "", no, conf.Name, "cluster", c.Name)
	}
	for _, r := range f.decl.Repos {
		say(f.where["repo "+r.Name], r.Line, "", no, conf.Name, "repository", r.Name)
	}
	for _, r := range f.decl.Rosters {
		say(f.where["roster "+r.Name], r.Line, "", no, conf.Name, "roster", r.Name)
	}
	f.decl.Clusters, f.decl.Repos, f.decl.Rosters = nil, nil, nil
}

func isHealth(f repo.File) bool {
	rules, err := render.Rules([]repo.File{f})
	return err != nil || len(rules) > 0
}

// placesOf splits joined mistakes into their places.
func placesOf(file string, err error) []Problem {
	var out []Problem
	var walk func(err error)
	walk = func(err error) {
		if many, ok := err.(interface{ Unwrap() []error }); ok {
			for _, e := range many.Unwrap() {
				walk(e)
			}
			return
		}
		p := Problem{File: file, Line: 1, Text: err.Error()}
		var bad *ward.Error
		if errors.As(err, &bad) {
			p.Line, p.Text = bad.Line, bad.Text
		} else if rest, ok := strings.CutPrefix(p.Text, file+":"); ok {
			if _, scanErr := fmt.Sscanf(rest, "%d:", &p.Line); scanErr == nil {
				_, p.Text, _ = strings.Cut(rest, ": ")
			}
		}
		out = append(out, p)
	}
	walk(err)
	return out
}

// setRules takes the health rules that hold for every ward of the roster.
func (l *rosterLoop) setRules(rules []declared.File, say func(string, int, string, string, ...any)) {
	if slices.Equal(rules, l.record().Rules) {
		return
	}
	var files []repo.File
	for _, f := range rules {
		files = append(files, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	if _, err := render.Rules(files); err != nil {
		say(rules[0].Path, 1, "", "%v", err)
		return
	}
	l.mu.Lock()
	l.conf.Rules = rules
	conf := l.conf
	l.mu.Unlock()
	if err := l.k.store.PutRoster(l.ctx, conf); err != nil {
		l.k.log.Error("the rules of a roster can't be written", "roster", conf.Name, "error", err)
	}
	for _, p := range l.k.wardsOf(conf.Name) {
		p.post(func() {
			p.declared, p.stored = nil, nil // they hold for what is declared
			p.render(standing.AsOf{Known: true, At: time.Now()})
		})
	}
}

// rosterRules are the health files of the roster that a ward is of.
func (p *placement) rosterRules() []repo.File {
	p.k.mu.RLock()
	l := p.k.rosters[p.roster]
	p.k.mu.RUnlock()
	if l == nil {
		return nil
	}
	var out []repo.File
	for _, f := range l.record().Rules {
		out = append(out, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	return out
}

// wardsOf lists the placements of a roster's wards.
func (k *Keeper) wardsOf(roster string) []*placement {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var out []*placement
	for _, p := range k.wards {
		if p.roster == roster {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b *placement) int { return strings.Compare(a.id, b.id) })
	return out
}

// declareRepo takes a repository from a roster. Credentials stay with the address that they were given for.
func (k *Keeper) declareRepo(ctx context.Context, roster string, d ward.Repo) error {
	r := record.Repo{Name: d.Name, URL: repo.CleanURL(d.URL), User: d.User}
	r.RepoMore = record.RepoMore{Charts: d.Charts || strings.HasPrefix(d.URL, "oci://"), Roster: roster, About: d.About, Signers: strings.Join(d.Signers, "\n"),
		Submodules: slices.Contains(d.Follow, "submodules"), LargeFiles: slices.Contains(d.Follow, "large-files")}
	k.mu.RLock()
	loop := k.repos[d.Name]
	k.mu.RUnlock()
	check := repo.CheckURL(r.URL, k.opts.AllowLocalRepos)
	if r.Charts {
		check = charts.CheckURL(r.URL)
	}
	if check != nil {
		return check
	}
	if r.Signers != "" {
		if err := repo.CheckSigners(r.Signers); err != nil {
			return err
		}
	}
	if loop != nil {
		old := loop.record()
		if old.Roster != "" && old.Roster != roster {
			return fmt.Errorf("repository %s is declared by roster %s already", d.Name, old.Roster)
		}
		// What a person has set survives every commit: the signers, and where it is, since credentials go there.
		r.Person = old.Person || old.Roster == ""
		same := repo.SameURL(old.URL, r.URL)
		if r.Person && !same {
			return fmt.Errorf("repository %s is at %s, as a person has given it; another address needs a person: vigila repo add %s %s", d.Name, old.URL, d.Name, r.URL)
		}
		if r.Person && old.Signers != "" {
			r.Signers = old.Signers
		}
		if same {
			r.URL = old.URL
			r.Password, r.Key, r.Passphrase, r.Bearer, r.CA, r.KnownHosts, r.Expires = old.Password, old.Key, old.Passphrase, old.Bearer, old.CA, old.KnownHosts, old.Expires
			r.User = orElse(r.User, old.User)
		}
		if old == r {
			return nil
		}
		if old.Charts != r.Charts {
			return fmt.Errorf("repository %s can't change between git and charts", d.Name)
		}
	}
	if err := k.store.PutRepo(ctx, r); err != nil {
		return err
	}
	if loop != nil {
		loop.change(r)
		loop.lookSoon()
		return nil
	}
	return k.openRepo(r)
}

// declareCluster takes labels and links of a cluster from a roster; busy tells that a ward has to end its run first.
func (k *Keeper) declareCluster(ctx context.Context, roster string, d ward.Cluster) (busy bool, err error) {
	k.mu.RLock()
	c := k.clusters[d.Name]
	k.mu.RUnlock()
	if c == nil {
		return false, fmt.Errorf("cluster %s is declared, but not connected yet; how it is reached is never in git: vigila cluster add %s --kubeconfig FILE", d.Name, d.Name)
	}
	rec := c.record()
	if rec.Roster != "" && rec.Roster != roster {
		return false, fmt.Errorf("cluster %s is declared by roster %s already", d.Name, rec.Roster)
	}
	labels := d.Labels
	if labels == nil {
		labels = map[string]string{}
	}
	if rec.Roster == roster && maps.Equal(rec.Labels, labels) && maps.Equal(rec.Links, d.Links) && rec.About == d.About {
		return false, nil
	}
	moved := !maps.Equal(rec.Labels, labels)
	rec.Labels, rec.Links, rec.About, rec.Roster = labels, d.Links, d.About, roster
	if err := k.store.PutCluster(ctx, rec); err != nil {
		return false, err
	}
	k.mu.Lock()
	c.conf = rec
	k.mu.Unlock()
	k.broker.send(Note{"cluster", d.Name})
	if !moved {
		return false, nil
	}
	err = k.replace(ctx, d.Name)
	var f *Fault
	if errors.As(err, &f) && f.Kind == Conflict { // a run has to end first; the labels are taken already
		k.later(func() error { return k.replace(k.ctx, d.Name) })
		return true, nil
	}
	return false, err
}

// later tries something again and again until it is not in the way of a run any more.
func (k *Keeper) later(try func() error) {
	k.spawn(func() {
		for {
			select {
			case <-k.ctx.Done():
				return
			case <-time.After(2 * time.Second):
			}
			k.changing.Lock()
			err := try()
			k.changing.Unlock()
			var f *Fault
			if errors.As(err, &f) && f.Kind == Conflict {
				continue
			}
			if err != nil && k.ctx.Err() == nil {
				k.log.Error("wards can't be placed anew", "error", err)
			}
			k.nudgeRosters()
			return
		}
	})
}

// declareRoster takes a roster from a roster.
func (k *Keeper) declareRoster(ctx context.Context, parent record.Roster, d ward.Roster) error {
	r := record.Roster{Name: d.Name, Repo: d.From.Repo, Ref: d.From.Ref, Path: d.From.Path, Parent: parent.Name,
		Limits: record.Limits{Namespaces: d.Namespaces, Clusters: d.Clusters, As: d.As, Repos: d.Repos}}
	if _, err := k.repoLoop(d.From.Repo); err != nil {
		return err
	}
	k.mu.RLock()
	old := k.rosters[d.Name]
	k.mu.RUnlock()
	if old != nil {
		was := old.record()
		if was.Parent != parent.Name {
			return fmt.Errorf("there is a roster %s already, %s", d.Name, declaredBy(was.Parent))
		}
		r.Rules = was.Rules
		if fmt.Sprint(was) == fmt.Sprint(r) {
			return nil
		}
	}
	if err := k.store.PutRoster(ctx, r); err != nil {
		return err
	}
	if old == nil {
		k.openRoster(r).start()
		return nil
	}
	return k.changeRoster(ctx, old, r)
}

func declaredBy(roster string) string {
	if roster == "" {
		return "added by a person"
	}
	return "declared by roster " + roster
}

// changeRoster gives a roster other settings; its wards are opened anew when their limits are others.
func (k *Keeper) changeRoster(ctx context.Context, l *rosterLoop, r record.Roster) error {
	l.mu.Lock()
	limits := fmt.Sprint(l.conf.Limits) != fmt.Sprint(r.Limits)
	l.conf, l.hash = r, ""
	l.mu.Unlock()
	l.nudge()
	if !limits {
		return nil
	}
	wards, err := k.store.Wards(ctx)
	if err != nil {
		return err
	}
	for _, w := range wards {
		if w.Roster != r.Name {
			continue
		}
		one, err := parseWard(w)
		if err == nil {
			err = k.put(ctx, one, w, "the limits of its roster have changed")
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// wards registers and changes what the files declare.
func (l *rosterLoop) wards(all []declaredWard, conf record.Roster, broken map[string]string, say func(string, int, string, string, ...any)) (settled bool) {
	k, settled := l.k, true
	first := map[string]declaredWard{}
	have, err := k.store.Wards(l.ctx)
	if err != nil {
		say(conf.Path, 1, "", "%v", err)
		return false
	}
	kept := map[string]record.Ward{}
	for _, w := range have {
		kept[w.Name] = w
	}
	var wards []ward.Ward
	for _, d := range all {
		wards = append(wards, d.ward)
	}
	cycle := k.cycle(wards)
	for _, d := range all {
		w := d.ward
		if f, twice := first[w.Name]; twice {
			say(d.file, w.Line, w.Name, "ward %s is declared twice; first in %s", w.Name, f.file)
			continue
		}
		first[w.Name] = d
		if text := l.refuses(w, conf, kept[w.Name], cycle); text != "" {
			say(d.file, w.Line, w.Name, "%s", text)
			continue
		}
		want := record.Ward{Name: w.Name, File: strings.TrimLeft(d.text, "\n"), Roster: conf.Name, Source: d.file, Home: record.Home{Repo: conf.Repo, Ref: conf.Ref}}
		var placed []string
		for _, p := range k.named(w.Name) {
			placed = append(placed, p.cluster.conf.Name)
		}
		if reflect.DeepEqual(kept[w.Name], want) && slices.Equal(placed, k.matching(w)) {
			for _, p := range k.named(w.Name) { // it came back before it was gone
				if p.View().Leaving != nil && p.ask(l.ctx, p.stay) != nil {
					settled = false
				}
			}
			continue
		}
		if k.idle(k.named(w.Name)) != nil {
			settled = false // a run goes on; it has its turn afterwards
			continue
		}
		if err := k.put(l.ctx, w, want, "the ward no longer goes there"); err != nil {
			var f *Fault
			if errors.As(err, &f) && f.Kind == Conflict {
				settled = false
				continue
			}
			say(d.file, w.Line, w.Name, "%v", err)
		}
	}
	return settled
}

// mayRead tells why the wards of a roster may not read a repository; nil when they may.
func mayRead(conf record.Roster, repo string) error {
	if !conf.Limits.Any() || repo == conf.Repo || slices.Contains(conf.Limits.Repos, repo) {
		return nil
	}
	return fmt.Errorf("roster %s lets its wards read %s, not %s (limits.repos)", conf.Name, strings.Join(append([]string{conf.Repo}, conf.Limits.Repos...), ", "), repo)
}

// refuses says why a roster can't take a ward; "" when it can.
func (l *rosterLoop) refuses(w ward.Ward, conf record.Roster, kept record.Ward, cycle []string) string {
	k := l.k
	limits := conf.Limits
	switch {
	case kept.Roster != "" && kept.Roster != conf.Name:
		return fmt.Sprintf("there is a ward %s already, declared by roster %s in %s", w.Name, kept.Roster, kept.Source)
	case kept.Name != "" && kept.Roster == "" && limits.Any():
		return fmt.Sprintf("there is a ward %s already, registered by a person, and roster %s has limits", w.Name, conf.Name)
	case slices.Contains(cycle, w.Name):
		return "these wards wait for each other in after, so none could start: " + strings.Join(cycle, " → ")
	}
	for _, name := range append([]string{w.From.Repo}, sources(w)...) {
		if err := mayRead(conf, name); err != nil {
			return beyond + err.Error()
		}
		if _, err := k.repoLoop(name); err != nil {
			return err.Error()
		}
	}
	if w.Into.Cluster != "" && len(k.matching(w)) == 0 {
		return fmt.Sprintf("ward %s goes into cluster %s, which is not known; known: %s", w.Name, w.Into.Cluster, k.clusterNames())
	}
	for _, c := range k.matching(w) {
		k.mu.RLock()
		labels := k.clusters[c].conf.Labels
		k.mu.RUnlock()
		one := w.For(c, labels)
		if len(limits.Namespaces) > 0 && !slices.Contains(limits.Namespaces, one.Into.Namespace) {
			return fmt.Sprintf(beyond+"roster %s lets its wards keep the namespaces %s, not %q", conf.Name, strings.Join(limits.Namespaces, ", "), one.Into.Namespace)
		}
		if len(limits.Clusters) > 0 && !slices.Contains(limits.Clusters, c) {
			return fmt.Sprintf(beyond+"roster %s lets its wards go into the clusters %s, not %s", conf.Name, strings.Join(limits.Clusters, ", "), c)
		}
	}
	return ""
}

// leavers is what a roster declares no more.
type leavers struct {
	wards   []record.Ward
	rosters []*rosterLoop
	of      int // wards that it had
}

func (l *rosterLoop) gone(all []declaredWard, nested map[string]bool, broken map[string]string) (leavers, error) {
	var out leavers
	conf := l.record()
	declared := map[string]bool{}
	for _, d := range all {
		declared[d.ward.Name] = true
	}
	have, err := l.k.store.Wards(l.ctx)
	if err != nil {
		return out, err
	}
	for _, w := range have {
		if w.Roster != conf.Name {
			continue
		}
		out.of++
		if !declared[w.Name] && broken[w.Source] == "" {
			out.wards = append(out.wards, w)
		}
	}
	l.k.mu.RLock()
	defer l.k.mu.RUnlock()
	for _, r := range l.k.rosters {
		if c := r.record(); c.Parent == conf.Name && !nested[c.Name] && len(broken) == 0 {
			out.rosters = append(out.rosters, r)
		}
	}
	for i := 0; i < len(out.rosters); i++ { // and those in them
		for _, r := range l.k.rosters {
			if r.record().Parent == out.rosters[i].record().Name && !slices.Contains(out.rosters, r) {
				out.rosters = append(out.rosters, r)
			}
		}
	}
	return out, nil
}

// letGo retires what a roster declares no more, unless that is so much that a person has to say so.
func (l *rosterLoop) letGo(gone leavers, broken map[string]string, say func(string, int, string, string, ...any)) (settled bool) {
	k, conf := l.k, l.record()
	wards := slices.Clone(gone.wards)
	total := gone.of
	for _, r := range gone.rosters {
		have, err := k.store.Wards(l.ctx)
		if err != nil {
			say(conf.Path, 1, "", "%v", err)
			return false
		}
		for _, w := range have {
			if w.Roster == r.record().Name {
				wards = append(wards, w)
				total++
			}
		}
	}
	l.mu.Lock()
	l.guard, l.guarded, l.leaving = "", "", nil
	if len(wards) > 5 && len(wards)*2 > total && !l.allow[massRemoval] || len(wards) == total && total > 1 && !l.allow[massRemoval] {
		var names []string
		for _, w := range wards {
			names = append(names, w.Name)
		}
		if len(names) > 6 {
			names = append(names[:6], fmt.Sprintf("%d more", len(names)-6))
		}
		l.guard, l.guarded = massRemoval, fmt.Sprintf("%d of its %d wards are not in its files any more: %s", len(wards), total, strings.Join(names, ", "))
		l.mu.Unlock()
		return true
	}
	delete(l.allow, massRemoval)
	l.mu.Unlock()
	settled = true
	for _, r := range gone.rosters {
		r.mu.Lock()
		r.retired = true
		r.mu.Unlock()
	}
	for _, w := range wards {
		done := true
		for _, p := range k.named(w.Name) {
			if err := k.leave(l.ctx, p, "it left roster "+conf.Name); err != nil {
				done = false
				var f *Fault
				if errors.As(err, &f) && f.Kind == Guarded {
					say(w.Source, 1, w.Name, "it left the roster and is to be dismantled, but %s: vigila ward remove %s --dismantle --allow %s", guardPlain(f.Guards), p.id, strings.Join(guardNamesOf(f.Guards), ","))
					continue
				}
				settled = false
			}
		}
		if done {
			if err := k.store.RemoveWard(l.ctx, w.Name); err != nil {
				k.log.Error("a ward can't be retired", "ward", w.Name, "error", err)
				settled = false
			}
		} else {
			l.mu.Lock()
			l.leaving = append(l.leaving, w.Name)
			l.mu.Unlock()
		}
	}
	for _, r := range slices.Backward(gone.rosters) {
		if len(k.wardsOf(r.record().Name)) > 0 {
			settled = false
			continue
		}
		if err := k.forgetRoster(l.ctx, r); err != nil {
			say(conf.Path, 1, "", "%v", err)
		}
	}
	return settled
}

func guardPlain(gs []plan.Guard) string {
	var all []string
	for _, g := range gs {
		all = append(all, g.Text)
	}
	return strings.Join(all, "; ")
}

// leave lets one placement go: its objects stay and are listed as left behind, or are dismantled first. A Fault of kind
// Conflict tells that something has to end before.
func (k *Keeper) leave(ctx context.Context, p *placement, why string) error {
	if v := p.View(); v.Run != nil && v.Run.Kind != string(run.Dismantle) {
		return fault(Conflict, "%s is in the middle of %s #%d", p.id, v.Run.Kind, v.Run.Number)
	}
	l := logbook.Leaving{By: logbook.Vigila, Why: why, At: time.Now(), Dismantle: p.ward.Keep.OnRemoval == "dismantle" && p.View().Kept > 0}
	if have := p.View().Leaving; have != nil && have.Dismantle { // a person may have allowed more
		return fault(Conflict, "%s is being dismantled first", p.id)
	}
	if !l.Dismantle {
		return k.retire(ctx, p, l)
	}
	if what := p.unread(true); what != "" {
		return fault(Conflict, "%s waits for %s", p.id, what)
	}
	if err := p.ask(ctx, func() error { return p.leave(l) }); err != nil {
		return err
	}
	return fault(Conflict, "%s is being dismantled first", p.id)
}

// retire forgets a placement; what it keeps is left behind, and listed so when a roster or a dismantling left it.
func (k *Keeper) retire(ctx context.Context, p *placement, l logbook.Leaving) error {
	if err := p.ask(ctx, func() error { p.after(func() {}); return nil }); err != nil { // everything is written down
		return err
	}
	kept, err := k.store.Baselines(ctx, p.id)
	if err != nil && p.broken == "" {
		return err
	}
	p.close()
	if len(kept) > 0 && (l.By == logbook.Vigila || l.Dismantle) {
		left := record.LeftBehind{Placement: p.id, Roster: p.roster, At: time.Now(), Why: l.Why}
		for ref := range kept {
			left.Refs = append(left.Refs, ref.Key())
		}
		slices.Sort(left.Refs)
		if err := k.store.AddLeftBehind(ctx, left); err != nil {
			return err
		}
		k.log.Info("objects are left behind", "ward", p.id, "objects", len(kept), "why", l.Why)
	}
	what := "its objects stay in the cluster"
	if l.Dismantle && len(kept) == 0 {
		what = "its objects are gone"
	} else if len(kept) == 0 {
		what = "it kept nothing"
	}
	if _, err := k.store.AddEntry(ctx, logbook.Entry{Placement: p.id, Kind: "remove", Outcome: string(run.Done), By: l.By, Why: l.Why, Reason: what, Revision: p.will.Applied, Started: time.Now(), Ended: time.Now()}); err != nil {
		return err
	}
	if err := k.store.RemovePlacement(ctx, p.id); err != nil {
		return err
	}
	k.forget(p)
	k.nudgeRosters() // one of them may have waited for it
	return nil
}

// AddRoster adds a roster, or changes one, once its path has been found.
func (k *Keeper) AddRoster(ctx context.Context, r record.Roster) (Roster, error) {
	if err := ward.Name(r.Name); err != nil {
		return Roster{}, fault(Invalid, "name: %v", err)
	}
	if r.Ref == "" {
		r.Ref = "main"
	}
	r.Path = strings.Trim(r.Path, "/")
	rl, err := k.repoLoop(r.Repo)
	if err != nil {
		return Roster{}, err
	}
	if rl.mirror == nil {
		return Roster{}, fault(Invalid, "%s is a chart repository; a roster is in a git repository", r.Repo)
	}
	_ = rl.look(ctx)
	head, err := rl.mirror.Resolve(ctx, r.Ref)
	if err == nil {
		_, err = rl.mirror.Tree(head.ID, r.Path)
	}
	if err != nil && !errors.Is(err, repo.ErrEmpty) {
		return Roster{}, fault(Invalid, "%v", err)
	}
	k.changing.Lock()
	k.mu.RLock()
	old := k.rosters[r.Name]
	k.mu.RUnlock()
	if old != nil && old.record().Parent != "" {
		k.changing.Unlock()
		return Roster{}, fault(Conflict, "roster %s is declared by roster %s; change it there", r.Name, old.record().Parent)
	}
	if err := k.store.PutRoster(ctx, r); err != nil {
		k.changing.Unlock()
		return Roster{}, err
	}
	if old == nil {
		old = k.openRoster(r)
		old.start()
	} else if err := k.changeRoster(ctx, old, r); err != nil {
		k.changing.Unlock()
		return Roster{}, err
	}
	k.changing.Unlock()
	return k.LookRoster(ctx, r.Name)
}

// RemoveRoster forgets a roster. The wards it declared are kept on, by nobody's declaration.
func (k *Keeper) RemoveRoster(ctx context.Context, name string) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	l, err := k.roster(name)
	if err != nil {
		return err
	}
	if parent := l.record().Parent; parent != "" {
		return fault(Conflict, "roster %s is declared by roster %s; remove it there", name, parent)
	}
	return k.forgetRoster(ctx, l)
}

func (k *Keeper) forgetRoster(ctx context.Context, l *rosterLoop) error {
	name := l.record().Name
	wards, err := k.store.Wards(ctx)
	if err != nil {
		return err
	}
	var own []record.Ward
	for _, w := range wards {
		if w.Roster == name {
			own = append(own, w)
			if err := k.idle(k.named(w.Name)); err != nil {
				return err
			}
		}
	}
	l.cancel()
	if err := k.store.RemoveRoster(ctx, name); err != nil {
		return err
	}
	k.mu.Lock()
	delete(k.rosters, name)
	var children []*rosterLoop
	for _, r := range k.rosters {
		if r.record().Parent == name {
			children = append(children, r)
		}
	}
	k.mu.Unlock()
	for _, w := range own {
		w.Roster, w.Source, w.Limits = "", "", l.record().Limits // nobody has lifted them
		one, err := parseWard(w)
		if err == nil {
			err = k.put(ctx, one, w, "its roster was removed")
		}
		if err != nil {
			return err
		}
	}
	for _, r := range children {
		if err := k.forgetRoster(ctx, r); err != nil {
			return err
		}
	}
	k.broker.send(Note{"roster", name})
	return nil
}

func (k *Keeper) roster(name string) (*rosterLoop, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if l := k.rosters[name]; l != nil {
		return l, nil
	}
	return nil, fault(NotFound, "there is no roster %q; known: %s", name, orNone(slices.Sorted(maps.Keys(k.rosters)), "none yet; add one with vigila roster add NAME --repo REPO --path PATH"))
}

// LookRoster reads a roster's files now, and returns it as it stands then.
func (k *Keeper) LookRoster(ctx context.Context, name string) (Roster, error) {
	l, err := k.roster(name)
	if err != nil {
		return Roster{}, err
	}
	if rl, err := k.repoLoop(l.record().Repo); err == nil {
		_ = rl.look(ctx) // what is wrong is in the answer
	}
	done := make(chan struct{})
	select {
	case l.asked <- done:
	case <-ctx.Done():
		return Roster{}, ctx.Err()
	case <-l.ctx.Done():
		return Roster{}, fault(NotFound, "roster %s is not kept any more", name)
	}
	select {
	case <-done:
	case <-ctx.Done():
		return Roster{}, ctx.Err()
	}
	return k.Roster(ctx, name)
}

// SyncRoster brings all wards of a roster up, and those of the rosters in it: each syncs as soon as those it waits for
// are in step and ready, whether it syncs by itself or asks. allow lets guards of the roster itself pass.
func (k *Keeper) SyncRoster(ctx context.Context, name, by string, allow []string) (Roster, error) {
	l, err := k.roster(name)
	if err != nil {
		return Roster{}, err
	}
	for _, a := range allow {
		if a != massRemoval {
			return Roster{}, fault(Invalid, "a roster has no guard %q; it has %s", a, massRemoval)
		}
		l.mu.Lock()
		l.allow[a], l.hash = true, ""
		l.mu.Unlock()
	}
	if _, err := k.LookRoster(ctx, name); err != nil {
		return Roster{}, err
	}
	for _, n := range k.withNested(name) {
		for _, p := range k.wardsOf(n) {
			if err := p.ask(ctx, func() error {
				if p.bringable().Sync {
					p.will.BroughtUpBy = by
				}
				return nil
			}); err != nil && ctx.Err() != nil {
				return Roster{}, err
			}
		}
	}
	return k.Roster(ctx, name)
}

// Bringing is what bringing a roster up does to one ward.
type Bringing struct {
	Ward    string
	Sync    bool
	Why     string
	Pending int
}

// bringable tells whether bringing its roster up lets a ward sync: one that was never up, and one that syncs by itself
// anyway. What a person has decided about a ward that is up (to be asked, held, gone back, rejected) stays so.
func (p *placement) bringable() Bringing {
	b := Bringing{Ward: p.id, Pending: p.pending().Total()}
	v := p.View()
	switch {
	case p.broken != "":
		b.Why = p.broken
	case p.will.Leaving != nil:
		b.Why = "it is being removed"
	case p.will.Hold != nil:
		b.Why = "held by " + p.will.Hold.By + ": " + orElse(p.will.Hold.Reason, "no reason given")
	case p.rejected() != "":
		b.Why = "its revision is rejected: " + p.rejected()
	case p.declared == nil || !p.repository.Known:
		b.Sync, b.Why = p.will.Applied == nil || p.ward.Keep.Sync == "auto", "once its repository can be read"
		if !b.Sync {
			b.Why = "its repository can't be read, and it asks first"
		}
	case p.declared.Waits != "":
		b.Why = p.declared.Waits
	case b.Pending == 0:
		b.Why = "as declared"
	case len(p.pending().guards) > 0:
		b.Why = "a guard would stop it: " + p.pending().guards[0].Text
	case p.will.Applied == nil:
		b.Sync, b.Why = true, "never synced"
	case p.ward.Keep.Sync == "auto":
		b.Sync, b.Why = true, "it syncs by itself"
	default:
		b.Why = "it is up, and asks first: vigila sync " + p.id
	}
	if b.Sync && v.WaitsFor != "" {
		b.Why += "; waits for " + v.WaitsFor
	}
	return b
}

// PreviewRoster tells what bringing a roster up would do to each of its wards, by name.
func (k *Keeper) PreviewRoster(ctx context.Context, name string) ([]Bringing, error) {
	if _, err := k.LookRoster(ctx, name); err != nil {
		return nil, err
	}
	var out []Bringing
	for _, n := range k.withNested(name) {
		for _, p := range k.wardsOf(n) {
			if err := p.ask(ctx, func() error {
				out = append(out, p.bringable())
				return nil
			}); err != nil {
				return nil, err
			}
		}
	}
	slices.SortFunc(out, func(a, b Bringing) int { return strings.Compare(a.Ward, b.Ward) })
	return out, nil
}

// withNested lists a roster and those in it.
func (k *Keeper) withNested(name string) []string {
	out := []string{name}
	k.mu.RLock()
	defer k.mu.RUnlock()
	for i := 0; i < len(out); i++ {
		for n, l := range k.rosters {
			if l.record().Parent == out[i] && !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	return out
}

// Roster is one roster as it stands.
func (k *Keeper) Roster(ctx context.Context, name string) (Roster, error) {
	l, err := k.roster(name)
	if err != nil {
		return Roster{}, err
	}
	left, err := k.store.LeftBehind(ctx)
	if err != nil {
		return Roster{}, err
	}
	return l.view(left), nil
}

// Rosters lists the rosters by name.
func (k *Keeper) Rosters(ctx context.Context) ([]Roster, error) {
	left, err := k.store.LeftBehind(ctx)
	if err != nil {
		return nil, err
	}
	k.mu.RLock()
	loops := slices.Collect(maps.Values(k.rosters))
	k.mu.RUnlock()
	out := make([]Roster, len(loops))
	for i, l := range loops {
		out[i] = l.view(left)
	}
	slices.SortFunc(out, func(a, b Roster) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// ForgetLeft forgets what was left behind of a placement: somebody has seen to it.
func (k *Keeper) ForgetLeft(ctx context.Context, placement string) error {
	known, err := k.store.RemoveLeftBehind(ctx, placement)
	if err == nil && !known {
		return fault(NotFound, "nothing was left behind of %s", placement)
	}
	return err
}

func (l *rosterLoop) view(left []record.LeftBehind) Roster {
	l.mu.Lock()
	out := Roster{Roster: l.conf, Revision: l.revision, Repository: l.asOf, Problems: slices.Clone(l.problems), Guard: l.guard, Leaving: slices.Clone(l.leaving)}
	waits, guarded, known := l.waits, l.guarded, l.known
	l.mu.Unlock()
	for _, x := range left {
		if x.Roster == out.Name {
			out.Left = append(out.Left, x)
		}
	}
	for _, p := range l.k.wardsOf(out.Name) {
		v := p.View()
		out.Wards++
		if v.Standing == compare.InStep {
			out.InStep++
		}
		if v.Health.Word == health.Ready {
			out.Ready++
		}
		if v.NeedsYou {
			out.Loud++
		}
	}
	set := func(s compare.Standing, needs bool, says, todo string) {
		out.Standing, out.NeedsYou, out.Says, out.Todo = s, needs, says, todo
	}
	switch {
	case !out.Repository.Known && out.Repository.Problem != "":
		set(compare.Blind, true, out.Repository.Problem, "Its wards are kept as they were declared last.")
	case waits != "":
		set(compare.Blind, false, standing.Capital(waits), "")
	case !known && out.Revision == nil:
		set(compare.Blind, false, "Looking for the first time since the service started", "")
	case len(out.Problems) > 0:
		p := out.Problems[0]
		says := fmt.Sprintf("%s:%d: %s", p.File, p.Line, p.Text)
		if more := len(out.Problems) - 1; more > 0 {
			says += fmt.Sprintf(", and %d more", more)
		}
		set(compare.Behind, true, says, "Nobody else is stopped by it. All of it: vigila roster show "+out.Name)
	case out.Guard != "":
		set(compare.Behind, true, "Stopped before harm: "+guarded, "To let them go: vigila roster sync "+out.Name+" --allow "+out.Guard)
	case len(out.Leaving) > 0:
		set(compare.Behind, false, strings.Join(out.Leaving, ", ")+" left the roster, and has to end first", "")
	default:
		set(compare.InStep, false, out.Revision.Title(), "")
	}
	return out
}
