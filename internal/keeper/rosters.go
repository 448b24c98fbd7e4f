package keeper

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// Roster is a roster as it stands: its own standing, and that of the wards it keeps, apart.
type Roster struct {
	roster.Roster
	roster.State
	roster.Said
	Wards  int // placements
	InStep int
	Ready  int
	Loud   int // placements that need somebody
	Left   []record.LeftBehind
}

// rosterLoop keeps the wards of one roster as its files declare them.
type rosterLoop struct {
	k      *Keeper
	ctx    context.Context
	cancel context.CancelFunc
	wake   chan struct{}
	asked  chan chan struct{}
	// hears counts the looks at its repository: of those that it has not taken in wards may still come.
	hears loop.Hearing

	mu      sync.Mutex
	conf    roster.Roster
	follows map[string]*followLoop
	rosterState
}

// rosterState is what is known of a roster's files, and how far they have been followed.
type rosterState struct {
	roster.State
	allow    map[string]bool
	hash     string // of what was taken in whole
	arranged bool   // the wards of its files are all registered
	kitted   kitted
	retired  bool // it is declared no more: its wards are let go, and nothing is taken from its files
}

func (k *Keeper) openRoster(r roster.Roster) *rosterLoop {
	l := &rosterLoop{k: k, conf: r, wake: make(chan struct{}, 1), asked: make(chan chan struct{}), follows: map[string]*followLoop{}, rosterState: rosterState{allow: map[string]bool{}}}
	l.ctx, l.cancel = context.WithCancel(k.ctx)
	k.mu.Lock()
	k.rosters[r.Name] = l
	k.mu.Unlock()
	return l
}

func (l *rosterLoop) start() { l.k.spawn(l.run) }

func (l *rosterLoop) record() roster.Roster {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conf
}

func (l *rosterLoop) limits() roster.Limits { return l.record().Limits }

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
		n := l.hears.Told.Load()
		settled := l.look()
		l.mu.Lock()
		if settled || l.arranged {
			l.hears.Taken.Store(n)
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
	rouse(l.wake)
}

// lets tells whether a ward has left the files already, and only waits for somebody to say how.
func (l *rosterLoop) lets(name string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Contains(l.Leaving, name)
}

// rosterRead tells the rosters of a repository that it was looked at.
func (k *Keeper) rosterRead(name string, a standing.AsOf) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, l := range k.rosters {
		l.mu.Lock()
		if l.conf.Repo == name {
			if a.Known {
				l.AsOf.Next = a.Next
				l.hears.Told.Add(1)
				l.nudge()
			} else {
				l.AsOf.Known, l.AsOf.Problem, l.AsOf.Next = false, a.Problem, a.Next
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
		l.AsOf.Known, l.AsOf.Problem = false, err.Error()
		return true
	}
	rl, err := l.k.source(conf.Repo)
	if err != nil {
		return blind(err)
	}
	mirror, ok := rl.Git()
	if !ok {
		return blind(fmt.Errorf("%s is a chart repository; a roster is in a git repository", conf.Repo))
	}
	if state := rl.State(); !state.AsOf.Known {
		if state.AsOf.Problem == "" { // not looked at yet
			rl.LookSoon()
			return true
		}
		return blind(errors.New(state.AsOf.Problem))
	}
	head, err := mirror.Resolve(l.ctx, conf.Ref)
	if errors.Is(err, repo.ErrEmpty) {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.AsOf, l.Waits = standing.AsOf{Known: true, At: time.Now(), Next: l.AsOf.Next}, fmt.Sprintf("waits for the first commit on %s in %s", conf.Ref, conf.Repo)
		return true
	}
	if err != nil {
		return blind(err)
	}
	tree := mirror.At(head.ID)
	hash, err := tree.Hash(conf.Path)
	if err != nil {
		return blind(err)
	}
	common, err := commonRules(tree)
	if err != nil {
		return blind(err)
	}
	hash = object.Hash([]string{hash, object.Hash(common)})
	l.mu.Lock()
	same := l.hash != "" && l.hash == hash
	if same {
		l.AsOf = standing.AsOf{Known: true, At: time.Now(), Next: l.AsOf.Next}
	}
	l.mu.Unlock()
	if same {
		return true
	}
	files, err := tree.Files(conf.Path, render.Wanted)
	if err != nil {
		return blind(err)
	}
	rev, err := mirror.LastChange(l.ctx, head, conf.Path)
	if err != nil {
		return blind(err)
	}
	l.mu.Lock()
	l.AsOf, l.Waits = standing.AsOf{Known: true, At: time.Now(), Next: l.AsOf.Next}, ""
	l.Revision = &logbook.Revision{ID: rev.ID, Subject: rev.Subject, Author: rev.Author, At: rev.At}
	l.mu.Unlock()
	return l.follow(files, common, hash)
}

// follow does what the files of a roster say; false when something is still to be done a little later.
func (l *rosterLoop) follow(files, common []repo.File, hash string) bool {
	k, conf := l.k, l.record()
	k.changing.Lock()
	defer k.changing.Unlock()
	l.mu.Lock()
	retired := l.retired
	l.mu.Unlock()
	if l.ctx.Err() != nil || retired {
		return true
	}
	have, err := k.store.Wards(l.ctx)
	if err != nil {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.AsOf.Known, l.AsOf.Problem = false, err.Error()
		return false
	}
	kept := keptOf(have)
	own := slices.DeleteFunc(slices.Clone(kept), func(w roster.Kept) bool { return w.Roster != conf.Name })
	in, problems := readRoster(conf, files, common, own)
	problems = append(problems, in.Fit(k.known(nil).Clusters)...)
	problems = append(problems, l.setRules(in.Rules)...)
	problems = append(problems, l.setFollows(in)...)
	problems = append(problems, l.setLanes(in)...)
	problems = append(problems, l.setAlerts(in)...)
	problems = append(problems, l.setTeams(in)...)
	problems = append(problems, l.setKits(in)...)
	settled, more := l.declare(in)
	problems = append(problems, more...)
	arranged, more := l.wards(in, have)
	problems = append(problems, more...)
	settled = arranged && settled
	l.mu.Lock()
	l.arranged = arranged
	l.mu.Unlock()
	gone := in.Left(conf, kept, k.parents())
	ended, more := l.letGo(gone, have)
	problems = append(problems, more...)
	settled = ended && settled
	waits := ""
	if in.Count == 0 && len(gone.Wards) == 0 {
		waits = fmt.Sprintf("waits for a first ward file below %q in %s", conf.Path, conf.Repo)
	}
	for _, p := range k.wardsOf(conf.Name) {
		misfiled, limited := in.Standing(roster.Kept{Name: p.Ward.Name, Source: p.Source}, problems)
		p.post(loop.Filed{Misfiled: misfiled, Limited: limited})
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.Problems, l.Waits, l.Known = problems, waits, true
	l.hash = ""
	if settled {
		l.hash = hash
	}
	return settled
}

// keptOf is what the core needs of registered wards.
func keptOf(all []record.Ward) []roster.Kept {
	out := make([]roster.Kept, len(all))
	for i, w := range all {
		out[i] = roster.Kept{Name: w.Name, Roster: w.Roster, Source: w.Source}
	}
	return out
}

// parents are all rosters, to the one that declares each.
func (k *Keeper) parents() map[string]string {
	k.mu.RLock()
	defer k.mu.RUnlock()
	out := map[string]string{}
	for name, l := range k.rosters {
		out[name] = l.record().Parent
	}
	return out
}

// declare takes what the files declare beside wards; false when something has to end first.
func (l *rosterLoop) declare(in *roster.Files) (settled bool, problems []roster.Problem) {
	k, conf := l.k, l.record()
	settled = true
	say := func(kind, name string, line int, err error) {
		if err != nil {
			problems = append(problems, roster.Problem{File: in.Where(kind, name), Line: line, Text: err.Error()})
		}
	}
	by := Actor{Roster: conf.Name}
	for _, r := range in.Repos {
		_, err := Do(l.ctx, k, by, declareRepo{r})
		say("repo", r.Name, r.Line, err)
	}
	for _, c := range in.Clusters {
		t, err := Do(l.ctx, k, by, declareCluster{c})
		say("cluster", c.Name, c.Line, err)
		settled = settled && !t.busy
	}
	for _, s := range in.Stores {
		_, err := Do(l.ctx, k, by, declareStore{s})
		say("store", s.Name, s.Line, err)
	}
	for _, r := range in.Rosters {
		_, err := Do(l.ctx, k, by, declareRoster{conf, r})
		say("roster", r.Name, r.Line, err)
	}
	return settled, problems
}

// setRules takes the health rules, checks and rulebooks that hold for every ward of the roster.
func (l *rosterLoop) setRules(rules []declared.File) []roster.Problem {
	if slices.Equal(rules, l.record().Rules) {
		return nil
	}
	var files []repo.File
	for _, f := range rules {
		files = append(files, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	_, _, err := render.Shared(files)
	if err == nil {
		_, err = render.Rulebooks(files)
	}
	if err != nil {
		return roster.Places(rules[0].Path, err)
	}
	l.mu.Lock()
	l.conf.Rules = rules
	conf := l.conf
	l.mu.Unlock()
	if err := l.k.store.PutRoster(l.ctx, conf); err != nil {
		l.k.log.Error("the rules of a roster can't be written", "roster", conf.Name, "error", err)
	}
	for _, p := range l.k.wardsOf(conf.Name) {
		p.post(loop.Forgotten{AsOf: standing.AsOf{Known: true, At: time.Now()}}) // the rules hold for what is declared
	}
	return nil
}

// wardsOf lists the placements of a roster's wards.
func (k *Keeper) wardsOf(roster string) []*placement {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var out []*placement
	for _, p := range k.kept.all {
		if p.Roster == roster {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b *placement) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// declareRepo takes a repository from a roster. Credentials stay with the address that they were given for.
func (k *Keeper) declareRepo(ctx context.Context, roster string, d ward.Repo) (changed bool, err error) {
	r := record.Repo{Name: d.Name, URL: repo.CleanURL(d.URL), User: d.User}
	r.RepoMore = record.RepoMore{Charts: d.Charts || strings.HasPrefix(d.URL, "oci://"), Roster: roster, About: d.About, Signers: strings.Join(d.Signers, "\n"),
		Submodules: slices.Contains(d.Follow, "submodules"), LargeFiles: slices.Contains(d.Follow, "large-files")}
	k.mu.RLock()
	loop := k.repos[d.Name]
	k.mu.RUnlock()
	if loop != nil {
		old := loop.Record()
		if k.declaredBy(old.Roster, roster) {
			return false, fmt.Errorf("repository %s is declared by roster %s already", d.Name, old.Roster)
		}
		// What a person has set survives every commit: the signers, and where it is, since credentials go there.
		r.Person = old.Person || old.Roster == ""
		same := repo.SameURL(old.URL, r.URL)
		if r.Person && !same {
			return false, fmt.Errorf("repository %s is at %s, as a person has given it; another address needs a person: vigila repo add %s %s", d.Name, old.URL, d.Name, r.URL)
		}
		if r.Person && old.Signers != "" {
			r.Signers = old.Signers
		}
		if same {
			r.URL = old.URL
			r.Password, r.Key, r.Passphrase, r.SignKey, r.Bearer, r.CA, r.KnownHosts, r.Expires = old.Password, old.Key, old.Passphrase, old.SignKey, old.Bearer, old.CA, old.KnownHosts, old.Expires
			r.User = cmp.Or(r.User, old.User)
		}
		if old == r {
			return false, nil
		}
		if old.Charts != r.Charts {
			return false, fmt.Errorf("repository %s can't change between git and charts", d.Name)
		}
	}
	if err := k.checkRepo(r); err != nil {
		return false, err
	}
	if err := k.store.PutRepo(ctx, r); err != nil {
		return false, err
	}
	if loop != nil {
		loop.Change(r)
		loop.LookSoon()
		return true, nil
	}
	return true, k.openRepo(r)
}

// declaredBy tells that another roster than one declares a thing. One that is known no more declares nothing.
func (k *Keeper) declaredBy(other, than string) bool {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return other != "" && other != than && k.rosters[other] != nil
}

// declareCluster takes labels, links and the namespaces that may be kept of a cluster from a roster.
func (k *Keeper) declareCluster(ctx context.Context, roster string, d ward.Cluster) (took, error) {
	k.mu.RLock()
	c := k.clusters[d.Name]
	k.mu.RUnlock()
	if c == nil {
		return took{}, fmt.Errorf("cluster %s is declared, but not connected yet; how it is reached is never in git: vigila cluster add %s --kubeconfig FILE, or --from WARD where a ward makes it", d.Name, d.Name)
	}
	rec := c.record()
	if k.declaredBy(rec.Roster, roster) {
		return took{}, fmt.Errorf("cluster %s is declared by roster %s already", d.Name, rec.Roster)
	}
	labels := d.Labels
	if labels == nil {
		labels = map[string]string{}
	}
	if rec.Roster == roster && maps.Equal(rec.Labels, labels) && maps.Equal(rec.Links, d.Links) && rec.About == d.About && slices.Equal(rec.May, d.Namespaces) {
		return took{}, nil
	}
	moved, bound := !maps.Equal(rec.Labels, labels), !slices.Equal(rec.May, d.Namespaces)
	rec.Labels, rec.Links, rec.About, rec.Roster, rec.May = labels, d.Links, d.About, roster, d.Namespaces
	if err := checkCluster(rec); err != nil {
		return took{}, err
	}
	if err := k.store.PutCluster(ctx, rec); err != nil {
		return took{}, err
	}
	k.mu.Lock()
	c.conf = rec
	k.mu.Unlock()
	k.broker.send(Note{"cluster", d.Name})
	var busy bool
	var err error
	if moved {
		if c.away != nil {
			c.away.tell("labels", labels)
		}
		busy, err = k.placeAnew(ctx, d.Name)
	}
	if bound {
		k.boundAnew(d.Name)
	}
	return took{changed: true, busy: busy}, err
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
func (k *Keeper) declareRoster(ctx context.Context, parent roster.Roster, d ward.Roster) (changed bool, err error) {
	r := roster.Of(parent, d)
	if _, err := k.source(d.From.Repo); err != nil {
		return false, err
	}
	k.mu.RLock()
	old := k.rosters[d.Name]
	k.mu.RUnlock()
	if old != nil {
		was := old.record()
		if was.Parent != parent.Name {
			return false, fmt.Errorf("there is a roster %s already, %s", d.Name, declaredBy(was.Parent))
		}
		r.Rules = was.Rules
		if fmt.Sprint(was) == fmt.Sprint(r) {
			return false, nil
		}
	}
	if err := k.store.PutRoster(ctx, r); err != nil {
		return false, err
	}
	if old == nil {
		k.openRoster(r).start()
		return true, nil
	}
	return true, k.changeRoster(ctx, old, r)
}

func declaredBy(roster string) string {
	if roster == "" {
		return "added by a person"
	}
	return "declared by roster " + roster
}

// changeRoster gives a roster other settings; its wards are opened anew when their limits are others.
func (k *Keeper) changeRoster(ctx context.Context, l *rosterLoop, r roster.Roster) error {
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
	var errs []error
	for _, w := range wards {
		if w.Roster != r.Name {
			continue
		}
		one, err := parseWard(w)
		if err != nil {
			continue // it is blind and does nothing, and says so; the others are held to the limits
		}
		if err := k.put(ctx, one, w, "the limits of its roster have changed"); err != nil {
			errs = append(errs, fmt.Errorf("ward %s is not held to the limits of its roster yet: %w", w.Name, err))
		}
	}
	return errors.Join(errs...)
}

// wards registers and changes what the files declare; false when a run has to end first.
func (l *rosterLoop) wards(in *roster.Files, have []record.Ward) (settled bool, problems []roster.Problem) {
	k, conf := l.k, l.record()
	kept := map[string]record.Ward{}
	for _, w := range have {
		kept[w.Name] = w
	}
	var all []ward.Ward
	for _, w := range in.Wards {
		all = append(all, w.Ward)
	}
	known := k.known(have)
	take, problems := in.Plan(conf, known, k.cycle(all))
	settled = true
	for _, w := range take {
		want := record.Ward{Name: w.Name, File: w.Text, Roster: conf.Name, Source: w.File, Home: record.Home{Repo: conf.Repo, Ref: conf.Ref}}
		var placed []string
		for _, p := range k.named(w.Name) {
			placed = append(placed, p.cluster.conf.Name)
		}
		if reflect.DeepEqual(kept[w.Name], want) && slices.Equal(placed, known.Matching(w.Ward)) {
			for _, p := range k.named(w.Name) { // it came back before it was gone
				if p.View().Leaving == nil {
					continue
				}
				if _, err := p.want(l.ctx, loop.Stay{}); err != nil {
					settled = false
				}
			}
			continue
		}
		if k.idle(k.named(w.Name)) != nil {
			settled = false // a run goes on; it has its turn afterwards
			continue
		}
		if _, err := Do(l.ctx, k, Actor{Roster: conf.Name}, declareWard{w.Ward, want}); err != nil {
			var f *Fault
			if errors.As(err, &f) && f.Kind == Conflict {
				settled = false
				continue
			}
			problems = append(problems, roster.Problem{File: w.File, Line: w.Line, Text: err.Error(), Ward: w.Name})
		}
	}
	return settled, problems
}

// letGo retires what a roster declares no more, unless that is so much that a person has to say so.
func (l *rosterLoop) letGo(gone roster.Leaving, have []record.Ward) (settled bool, problems []roster.Problem) {
	k, conf := l.k, l.record()
	sources := map[string]string{}
	for _, w := range have {
		sources[w.Name] = w.Source
	}
	l.mu.Lock()
	l.Leaving = nil
	if l.Guarded = gone.Guarded(); l.Guarded != "" && !l.allow[roster.MassRemoval] {
		l.mu.Unlock()
		return true, nil
	}
	l.Guarded = ""
	delete(l.allow, roster.MassRemoval)
	l.mu.Unlock()
	settled = true
	for _, name := range gone.Rosters {
		if r, err := k.roster(name); err == nil {
			r.mu.Lock()
			r.retired = true
			r.mu.Unlock()
		}
	}
	for _, name := range gone.Wards {
		done := true
		for _, p := range k.named(name) {
			if _, err := Do(l.ctx, k, Actor{Roster: conf.Name}, letWardGo{p}); err != nil {
				done = false
				var f *Fault
				if errors.As(err, &f) && f.Kind == Guarded {
					text := fmt.Sprintf("it left the roster and is to be dismantled, but %s: vigila ward remove %s --dismantle --allow %s", guardPlain(f.Guards), p.ID, strings.Join(plan.Names(f.Guards), ","))
					problems = append(problems, roster.Problem{File: sources[name], Line: 1, Text: text, Ward: name})
					continue
				}
				settled = false
			}
		}
		if done {
			if err := k.store.RemoveWard(l.ctx, name); err != nil {
				k.log.Error("a ward can't be retired", "ward", name, "error", err)
				settled = false
			}
		} else {
			l.mu.Lock()
			l.Leaving = append(l.Leaving, name)
			l.mu.Unlock()
		}
	}
	for _, name := range slices.Backward(gone.Rosters) {
		if len(k.wardsOf(name)) > 0 {
			settled = false
			continue
		}
		if r, err := k.roster(name); err == nil {
			if err := k.forgetRoster(l.ctx, r); err != nil {
				problems = append(problems, roster.Problem{File: conf.Path, Line: 1, Text: err.Error()})
			}
		}
	}
	return settled, problems
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
	if v := p.View(); v.Run != nil && v.Run.Kind != run.Dismantle {
		return fault(Conflict, "%s is in the middle of %s #%d", p.ID, v.Run.Kind, v.Run.Number)
	}
	l := logbook.Leaving{By: logbook.Vigila, Why: why, At: time.Now(), Dismantle: p.Ward.Keep.OnRemoval == ward.Dismantle && p.View().Kept > 0}
	if have := p.View().Leaving; have != nil && have.Dismantle { // a person may have allowed more
		return fault(Conflict, "%s is being dismantled first", p.ID)
	}
	if !l.Dismantle {
		return k.retire(ctx, p, l)
	}
	if p.leaves == nil {
		p.leaves = loop.Marks{}
	}
	if what := p.unread(p.leaves, true); what != "" {
		return fault(Conflict, "%s waits for %s", p.ID, what)
	}
	p.leaves = nil
	if _, err := p.want(ctx, loop.Leave{Leaving: l}); err != nil {
		return err
	}
	return fault(Conflict, "%s is being dismantled first", p.ID)
}

// leaving lists what the ward leaves in the cluster when it is let go of; its lookout lets go of it then.
func (p *placement) leaving(ctx context.Context, l logbook.Leaving) ([]object.Ref, error) {
	if p.cluster.away != nil {
		return p.leftThere(ctx, l)
	}
	kept, err := p.k.store.Baselines(ctx, p.ID)
	return slices.Collect(maps.Keys(kept)), err
}

// retire forgets a placement; what it keeps is left behind, and listed so when a roster or a dismantling left it.
func (k *Keeper) retire(ctx context.Context, p *placement, l logbook.Leaving) error {
	if _, err := p.want(ctx, loop.BeWritten{}); err != nil {
		return err
	}
	kept, err := p.leaving(ctx, l)
	if err != nil && p.Broken == "" {
		return err
	}
	p.close()
	k.use(p.ID, nil)
	if len(kept) > 0 && (l.By == logbook.Vigila || l.Dismantle) {
		left := record.LeftBehind{Placement: p.ID, Roster: p.Roster, At: time.Now(), Why: l.Why}
		for _, ref := range kept {
			left.Refs = append(left.Refs, ref.Key())
		}
		slices.Sort(left.Refs)
		if err := k.store.AddLeftBehind(ctx, left); err != nil {
			return err
		}
		k.log.Info("objects are left behind", "ward", p.ID, "objects", len(kept), "why", l.Why)
	}
	what := "its objects stay in the cluster"
	if l.Dismantle && len(kept) == 0 {
		what = "its objects are gone"
	} else if len(kept) == 0 {
		what = "it kept nothing"
	}
	if _, err := k.store.AddEntry(ctx, logbook.Entry{Placement: p.ID, Kind: logbook.Removes, Outcome: run.Done, By: l.By, Why: l.Why, Reason: what, Revision: p.View().Applied, Started: time.Now(), Ended: time.Now()}); err != nil {
		return err
	}
	if err := k.store.RemovePlacement(ctx, p.ID); err != nil {
		return err
	}
	k.forget(p)
	k.nudgeRosters() // one of them may have waited for it
	return nil
}

func (k *Keeper) addRoster(ctx context.Context, r roster.Roster) (Roster, error) {
	if err := ward.Name(r.Name); err != nil {
		return Roster{}, fault(Invalid, "name: %v", err)
	}
	if r.Ref == "" {
		r.Ref = "main"
	}
	r.Path = strings.Trim(r.Path, "/")
	rl, err := k.source(r.Repo)
	if err != nil {
		return Roster{}, err
	}
	mirror, ok := rl.Git()
	if !ok {
		return Roster{}, fault(Invalid, "%s is a chart repository; a roster is in a git repository", r.Repo)
	}
	_ = rl.Look(ctx)
	head, err := mirror.Resolve(ctx, r.Ref)
	if err == nil {
		_, err = mirror.Tree(head.ID, r.Path)
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

func (k *Keeper) removeRoster(ctx context.Context, name string) error {
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
	k.forgetAlertsOf(name)
	k.forgetTeamsOf(ctx, name)
	k.mu.Lock()
	delete(k.rosters, name)
	var children []*rosterLoop
	for _, r := range k.rosters {
		if r.record().Parent == name {
			children = append(children, r)
		}
	}
	k.mu.Unlock()
	var errs []error // one ward that can't be opened keeps no other with a roster that nobody knows
	for _, w := range own {
		w.Roster, w.Source, w.Limits = "", "", l.record().Limits // nobody has lifted them
		one, err := parseWard(w)
		if err == nil {
			err = k.put(ctx, one, w, "its roster was removed")
		} else {
			err = k.store.PutWard(ctx, w, k.placesOf(w.Name)) // it is blind, and stays so until somebody gives it another file
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("ward %s: %w", w.Name, err))
		}
	}
	for _, r := range children {
		errs = append(errs, k.forgetRoster(ctx, r))
	}
	k.broker.send(Note{"roster", name})
	return errors.Join(errs...)
}

// placesOf are the clusters that a ward is placed in.
func (k *Keeper) placesOf(name string) (clusters []string) {
	for _, p := range k.named(name) {
		clusters = append(clusters, p.cluster.conf.Name)
	}
	return clusters
}

func (k *Keeper) roster(name string) (*rosterLoop, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if l := k.rosters[name]; l != nil {
		return l, nil
	}
	return nil, unknown("roster", name, slices.Collect(maps.Keys(k.rosters)), "vigila roster add NAME --repo REPO --path PATH")
}

// LookRoster reads a roster's files now, and returns it as it stands then.
func (k *Keeper) LookRoster(ctx context.Context, name string) (Roster, error) {
	l, err := k.roster(name)
	if err != nil {
		return Roster{}, err
	}
	if rl, err := k.source(l.record().Repo); err == nil {
		_ = rl.Look(ctx) // what is wrong is in the answer
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

func (k *Keeper) syncRoster(ctx context.Context, name, by string, allow []string) (Roster, error) {
	l, err := k.roster(name)
	if err != nil {
		return Roster{}, err
	}
	for _, a := range allow {
		if a != roster.MassRemoval {
			return Roster{}, fault(Invalid, "a roster has no guard %q; it has %s", a, roster.MassRemoval)
		}
		l.mu.Lock()
		l.allow[a], l.hash = true, ""
		l.mu.Unlock()
	}
	_, err = k.LookRoster(ctx, name)
	l.mu.Lock()
	clear(l.allow) // what was allowed is allowed of what is there now, and of nothing that comes later
	l.mu.Unlock()
	if err != nil {
		return Roster{}, err
	}
	for _, n := range k.withNested(name) {
		for _, p := range k.wardsOf(n) {
			if _, err := p.want(ctx, loop.BringUp{By: by}); err != nil && ctx.Err() != nil {
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

// bringing tells what bringing its roster up does to a ward.
func (p *placement) bringing() Bringing {
	c := p.Bringable()
	sync, why := c.Bring()
	return Bringing{Ward: p.ID, Sync: sync, Why: why, Pending: c.Pending}
}

// PreviewRoster tells what bringing a roster up would do to each of its wards, by name.
func (k *Keeper) PreviewRoster(ctx context.Context, name string) ([]Bringing, error) {
	if _, err := k.LookRoster(ctx, name); err != nil {
		return nil, err
	}
	var out []Bringing
	for _, n := range k.withNested(name) {
		for _, p := range k.wardsOf(n) {
			one, err := bringingOf.ask(ctx, p, nothingAsked{})
			if err != nil && ctx.Err() != nil {
				return nil, err
			}
			if err != nil { // its lookout is away, or it is going; the others can be told of
				one = Bringing{Ward: p.ID, Why: err.Error()}
			}
			out = append(out, one)
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
	loops := k.rosterLoops()
	out := make([]Roster, len(loops))
	for i, l := range loops {
		out[i] = l.view(left)
	}
	slices.SortFunc(out, func(a, b Roster) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func (k *Keeper) rosterLoops() []*rosterLoop {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return slices.Collect(maps.Values(k.rosters))
}

func (l *rosterLoop) view(left []record.LeftBehind) Roster {
	l.mu.Lock()
	out := Roster{Roster: l.conf, State: l.State.Clone()}
	l.mu.Unlock()
	out.Said = out.State.Say(out.Name)
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
	return out
}
