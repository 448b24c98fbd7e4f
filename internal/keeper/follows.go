package keeper

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/charts"
	"vigila.dev/vigila/internal/core/follow"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/versions"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/registry"
	"vigila.dev/vigila/internal/repo"
)

// Follow is a follow as it stands.
type Follow struct {
	follow.Rule
	follow.State
	Roster string
}

// followLoop looks for newer versions of one image, and writes them.
type followLoop struct {
	k      *Keeper
	roster *rosterLoop
	ctx    context.Context
	cancel context.CancelFunc
	wake   chan struct{}

	looking sync.Mutex // one look at a time
	known   bool       // what is remembered was read; guarded by looking
	mu      sync.Mutex
	rule    follow.Rule
	state   follow.State
	pushed  time.Time // when its registry last told of a push
	failed  int       // looks one after another that could not be made
}

// setFollows takes the follows that a roster's files declare. Those of a file that can't be read stay as they were.
func (l *rosterLoop) setFollows(in *roster.Files) (problems []roster.Problem) {
	conf := l.record()
	want := map[string]follow.Rule{}
	for _, r := range in.Follows {
		no := func(format string, args ...any) {
			problems = append(problems, roster.Problem{File: r.File, Line: r.Line, Text: fmt.Sprintf(format, args...)})
		}
		first, twice := want[r.Name]
		elsewhere := l.k.followOf(r.Name)
		same := slices.IndexFunc(in.Follows, func(x follow.Rule) bool {
			return x.Name != r.Name && x.Repo == r.Repo && x.Ref == r.Ref && x.Into == r.Into && x.Chart == r.Chart && x.Host()+x.Path() == r.Host()+r.Path()
		})
		switch {
		case twice:
			no("follow %s is declared twice; first at %s:%d", r.Name, first.File, first.Line)
		case elsewhere != nil && elsewhere.roster != l:
			no("follow %s is declared by roster %s already", r.Name, elsewhere.roster.record().Name)
		case conf.Limits.Any() && r.Repo != conf.Repo:
			no("it is more than its roster may: roster %s has limits, so what it follows is written to %s alone", conf.Name, conf.Repo)
		case r.Chart.Repo != "" && conf.MayRead(r.Chart.Repo) != nil:
			no("it is more than its roster may: %v", conf.MayRead(r.Chart.Repo))
		case conf.Limits.Any() && conf.Path != "" && !strings.HasPrefix(r.Into, conf.Path+"/"):
			no("it is more than its roster may: roster %s has limits, so what it follows is written below %s alone, not to %s", conf.Name, conf.Path, r.Into)
		case same >= 0 && in.Follows[same].Name < r.Name:
			no("follow %s writes versions of %s into %s as well; keep one of them", in.Follows[same].Name, r.What(), r.Into)
		default:
			want[r.Name] = r
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for name, f := range l.follows {
		f.mu.Lock()
		kept := in.Broken[f.rule.File] != ""
		f.mu.Unlock()
		if _, is := want[name]; !is && !kept {
			f.cancel()
			delete(l.follows, name)
		}
	}
	for name, r := range want {
		f := l.follows[name]
		if f == nil {
			f = &followLoop{k: l.k, roster: l, wake: make(chan struct{}, 1), rule: r}
			f.ctx, f.cancel = context.WithCancel(l.ctx)
			l.follows[name] = f
			l.k.spawn(f.run)
			continue
		}
		f.mu.Lock()
		moved := fmt.Sprint(f.rule) != fmt.Sprint(r)
		f.rule = r
		f.mu.Unlock()
		if moved {
			f.nudge()
		}
	}
	return problems
}

func (f *followLoop) nudge() {
	rouse(f.wake)
}

func (f *followLoop) run() {
	for {
		next := f.look(f.ctx, "", false)
		if f.ctx.Err() != nil {
			return
		}
		if !rest(f.ctx, f.wake, max(time.Until(next), time.Second)) {
			return
		}
	}
}

// rouse wakes a loop that rests, or will; one that is awake already looks once more.
func rouse(wake chan struct{}) {
	select {
	case wake <- struct{}{}:
	default:
	}
}

// rest waits until somebody wakes a loop, or its time has come; false tells that it has ended.
func rest(ctx context.Context, wake <-chan struct{}, wait time.Duration) bool {
	t := time.NewTimer(wait)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-wake:
	case <-t.C:
	}
	return true
}

// errChanged tells that somebody has changed the versions file since it was decided what to write.
var errChanged = errors.New("was changed meanwhile")

// look looks once, and writes what there is to be written; asked is a version that a person wants, fresh
// that the repository is read anew first.
func (f *followLoop) look(who context.Context, asked string, fresh bool) (next time.Time) {
	f.looking.Lock()
	defer f.looking.Unlock()
	if err := f.remember(); err != nil { // without it, what somebody took back would be written again
		if f.ctx.Err() == nil {
			f.k.log.Error("what is remembered of a follow can't be read; it is tried again", "follow", f.now().Name, "error", err)
		}
		return time.Now().Add(rememberAgain)
	}
	f.mu.Lock()
	r, st := f.rule, f.state.Clone()
	f.mu.Unlock()
	ctx, cancel := context.WithTimeout(f.ctx, 5*time.Minute)
	defer cancel()
	defer context.AfterFunc(who, cancel)()
	now := time.Now()
	if fresh {
		if l, err := f.k.source(r.Repo); err == nil {
			_ = l.Look(ctx) // what can't be read is told below
		}
	}
	if asked == "" && st.Offered.Asked { // a newer one does not take the place of what a person has asked for
		if p, err := f.k.Proposal(ctx, st.Offered.Proposal); err == nil && !p.Over() {
			asked = st.Offered.Version
		}
	}
	d, err := f.decide(ctx, r, &st, now, asked)
	write := f.write
	if r.By == follow.ByProposal {
		write = func(ctx context.Context, st *follow.State, t taking) error { return f.propose(ctx, st, t, asked != "") }
	}
	for try := 0; err == nil && d.Take != ""; try++ {
		if err = write(ctx, &st, takingOf(r, &st, d, asked != "")); !errors.Is(err, errChanged) || try == 3 {
			break
		}
		d, err = f.decide(ctx, r, &st, now, asked) // from what is there by now
	}
	if f.ctx.Err() != nil || who.Err() != nil {
		return time.Now().Add(r.Every) // it says nothing of the follow
	}
	if d.Take == "" || err != nil {
		st.Offered = follow.Offered{}
	}
	st.Looked, st.Next, st.Problem = now, now.Add(r.Every), ""
	if f.failed++; err != nil {
		st.Problem = err.Error()
		st.Next = now.Add(min(r.Every, lookAgain<<min(f.failed-1, 20)))
	} else {
		f.failed = 0
		st.Passed, st.Beyond, st.Left, st.Moved = d.Passed, d.Beyond, d.Left, d.Moved
		if !d.Next.IsZero() && d.Next.Before(st.Next) {
			st.Next = d.Next
		}
	}
	f.mu.Lock()
	if whole := f.pushed.Add(pushWhole); whole.After(now) && whole.Before(st.Next) {
		st.Next = whole
	}
	said, _ := f.state.Says(r)
	f.state = st
	says, _ := st.Says(r)
	f.mu.Unlock()
	if err := f.k.store.PutFollow(f.ctx, r.Name, st); err != nil && f.ctx.Err() == nil {
		f.k.log.Error("a follow can't be remembered", "follow", r.Name, "error", err)
	}
	if said != says {
		f.k.log.Info("a follow", "follow", r.Name, "says", says)
		f.k.broker.send(Note{"follow", r.Name})
	}
	return st.Next
}

// lookAgain is when a look is made again that could not be made; twice as long each time, until its usual time.
const lookAgain = 10 * time.Second

// pushWhole is when a push is surely there that a registry has told of: it tells of an image before its tag can be read.
const pushWhole = 5 * time.Second

// rememberAgain is when what is remembered is read again, where it could not be.
const rememberAgain = 10 * time.Second

// remember reads what is remembered of the follow, once.
func (f *followLoop) remember() error {
	if f.known {
		return nil
	}
	st, err := f.k.store.Follow(f.ctx, f.now().Name)
	if err != nil {
		f.mu.Lock()
		f.state.Problem = "what is remembered of it can't be read: " + err.Error()
		f.mu.Unlock()
		return err
	}
	f.mu.Lock()
	f.state, f.known = st, true
	f.mu.Unlock()
	return nil
}

// decide asks what has to be known, and decides.
func (f *followLoop) decide(ctx context.Context, r follow.Rule, st *follow.State, now time.Time, asked string) (follow.Decision, error) {
	from, err := f.source(r)
	if err != nil {
		return follow.Decision{}, err
	}
	done, err := f.k.asked.Take(ctx, r.Host()+r.Chart.Repo) // so many at a time, and no registry before the others
	if err != nil {
		return follow.Decision{}, err
	}
	defer done()
	tags, err := from.Tags(ctx)
	if err != nil {
		return follow.Decision{}, err
	}
	fits, _ := r.Sorted(tags)
	st.See(now, fits)
	if err := f.said(ctx, r, st, now); err != nil {
		return follow.Decision{}, err
	}
	refused := map[string]string{}
	if r.By == follow.ByProposal {
		said, err := f.k.withdrawn(ctx, r.Repo, proposal.Origin{Kind: proposal.Follow, Of: r.Name})
		if err != nil {
			return follow.Decision{}, err
		}
		for wanted, why := range said {
			version, _, _ := strings.Cut(wanted, " ")
			refused[version] = why
		}
	}
	n := follow.Now{Rule: r, At: now, Tags: tags, Tag: st.Tag, Digest: st.Digest, Facts: map[string]follow.Facts{}, Seen: st.Seen, History: st.History, Bad: f.bad(ctx, r, st.History), Refused: refused, Asked: asked}
	for {
		d := follow.Decide(n)
		if d.Ask == "" {
			return d, nil
		}
		if n.Facts[d.Ask], err = from.facts(ctx, st, d.Ask); err != nil {
			return d, err
		}
		st.Made(d.Ask, n.Facts[d.Ask])
	}
}

// versionsFrom is where versions are.
type versionsFrom interface {
	Tags(ctx context.Context) ([]string, error)
	facts(ctx context.Context, st *follow.State, tag string) (follow.Facts, error)
}

func (f *followLoop) source(r follow.Rule) (versionsFrom, error) {
	if r.Chart.Name != "" {
		l, err := f.k.source(r.Chart.Repo)
		if err != nil {
			return nil, err
		}
		shelf, ok := l.Charts()
		if !ok {
			return nil, fmt.Errorf("%s is a git repository, not one of charts; add the chart repository: vigila repo add NAME URL --charts", r.Chart.Repo)
		}
		return &chartVersions{shelf: shelf, name: r.Chart.Name}, nil
	}
	of, known := f.k.registryAt(r.Host())
	if !known {
		return nil, fmt.Errorf("no registry is known at %s; add it: vigila registry add NAME %s", r.Host(), r.Host())
	}
	image, err := registryOf(of).Image(r.Path())
	return imageVersions{image}, err
}

// imageVersions are the tags of an image. What an image is never changes, so it is asked for once.
type imageVersions struct{ *registry.Image }

func (v imageVersions) facts(ctx context.Context, st *follow.State, tag string) (follow.Facts, error) {
	digest, err := v.Digest(ctx, tag)
	if err != nil {
		return follow.Facts{}, err
	}
	facts, known := st.Fact(digest)
	if !known {
		if facts, err = v.Facts(ctx, digest); err == nil {
			st.Learn(facts)
		}
	}
	return facts, err
}

// chartVersions are the versions of a chart.
type chartVersions struct {
	shelf *charts.Shelf
	name  string
	made  map[string]time.Time
}

func (v *chartVersions) Tags(ctx context.Context) (out []string, err error) {
	all, err := v.shelf.Versions(ctx, v.name)
	v.made = map[string]time.Time{}
	for _, x := range all {
		out = append(out, x.Version)
		v.made[x.Version] = x.Created
	}
	return out, err
}

func (v *chartVersions) facts(_ context.Context, _ *follow.State, version string) (follow.Facts, error) {
	return follow.Facts{Created: v.made[version]}, nil
}

// said notes what the versions file says of the image now. A version that it was not at before, whoever wrote it, is part of its history.
func (f *followLoop) said(ctx context.Context, r follow.Rule, st *follow.State, now time.Time) error {
	mirror, err := f.mirror(r)
	if err != nil {
		return err
	}
	head, err := mirror.Resolve(ctx, r.Ref)
	if err != nil {
		return err
	}
	if st.Tag, st.Digest, err = saidAt(mirror.At(head.ID), r); err != nil || st.Tag == "" || slices.ContainsFunc(st.History, func(p follow.Past) bool { return p.Version == st.Tag }) {
		return err
	}
	at, err := mirror.LastChange(ctx, head, r.Into)
	if err == nil {
		st.Wrote(follow.Past{Version: st.Tag, Digest: st.Digest, Commit: at.ID, At: now})
	}
	return err
}

func saidAt(t *repo.Tree, r follow.Rule) (tag, digest string, err error) {
	data, err := t.Read(r.Into)
	if errors.Is(err, repo.ErrNoPath) {
		return "", "", nil
	}
	if err != nil {
		return "", "", err
	}
	file, err := versions.Parse(r.Into, data)
	if err != nil {
		return "", "", err
	}
	if r.Chart.Name != "" {
		return file.Charts[r.Chart.Name].Version, "", nil
	}
	im, _, _ := file.Find(r.Image)
	return im.Tag, im.Digest, nil
}

func (f *followLoop) mirror(r follow.Rule) (*repo.Mirror, error) {
	l, err := f.k.source(r.Repo)
	if err != nil {
		return nil, err
	}
	mirror, ok := l.Git()
	if !ok {
		return nil, fmt.Errorf("%s is a chart repository; a versions file is in a git repository", r.Repo)
	}
	return mirror, nil
}

// taking is a version that is to be written, and how its commit reads.
type taking struct {
	follow.Rule
	follow.Decision
	tag, digest  string // that the file said when it was decided
	subject, why string
	trailers     []string
}

func takingOf(r follow.Rule, st *follow.State, d follow.Decision, asked bool) taking {
	t := taking{Rule: r, Decision: d, tag: st.Tag, digest: st.Digest, subject: fmt.Sprintf("%s %s", r.Name, d.Take),
		why:      fmt.Sprintf("%s was at %s; %s is the newest that %s takes.", r.What(), cmp.Or(st.Tag, "nothing"), d.Take, r.Wants()),
		trailers: []string{"Follow: " + r.Name, fmt.Sprintf("Image: %s:%s@%s", r.Image, d.Take, d.Digest)}}
	if r.Chart.Name != "" {
		t.trailers[1] = fmt.Sprintf("Chart: %s %s", r.Chart.Name, d.Take)
	}
	if asked {
		t.why = fmt.Sprintf("%s was at %s; somebody asked for %s.", r.What(), cmp.Or(st.Tag, "nothing"), d.Take)
	}
	return t
}

// file is the versions file with the version in it. Errors wrap errChanged when somebody has changed it since it was decided, and
// repo.ErrSame when that was to the same.
func (t taking) file(at *repo.Tree) (repo.File, error) {
	tag, digest, err := saidAt(at, t.Rule)
	if err != nil {
		return repo.File{}, err
	}
	if tag != t.tag || digest != t.digest {
		if tag == t.Take && digest == t.Digest {
			return repo.File{}, repo.ErrSame
		}
		return repo.File{}, fmt.Errorf("%s %w to %s", t.Into, errChanged, cmp.Or(tag, "nothing"))
	}
	data, err := at.Read(t.Into)
	if err != nil && !errors.Is(err, repo.ErrNoPath) {
		return repo.File{}, err
	}
	if t.Chart.Name != "" {
		text, err := versions.SetChart(t.Into, data, t.Chart.Name, t.Take)
		return repo.File{Path: t.Into, Data: text}, err
	}
	text, err := versions.Set(t.Into, data, t.Image, versions.Image{Tag: t.Take, Digest: t.Digest})
	return repo.File{Path: t.Into, Data: text}, err
}

// write writes a version. Whoever else pushes meanwhile loses nothing, and who has written it by then has written it.
func (f *followLoop) write(ctx context.Context, st *follow.State, t taking) error {
	mirror, err := f.mirror(t.Rule)
	if err != nil {
		return err
	}
	made, err := mirror.Commit(ctx, t.Ref, func(at *repo.Tree) (repo.Draft, error) {
		file, err := t.file(at)
		return repo.Draft{Files: []repo.File{file}, Subject: t.subject, Body: t.why + "\n\n" + strings.Join(t.trailers, "\n") + "\n"}, err
	})
	if err != nil && !errors.Is(err, repo.ErrSame) {
		return fmt.Errorf("%s %s can't be written to %s in %s: %w", t.What(), t.Take, t.Into, t.Repo, err)
	}
	st.Wrote(follow.Past{Version: t.Take, Digest: t.Digest, Commit: made.ID, At: time.Now()})
	f.k.byItself(ctx, Subject{"write " + t.Take + " of", "follow", t.Name}, "", details{"repo": t.Repo, "ref": t.Ref, "file": t.Into, "commit": made.ID})
	if l, err := f.k.source(t.Repo); err == nil {
		l.LookSoon()
	}
	return nil
}

// propose offers a version for a review. As long as its proposal is open the same look comes to the same.
func (f *followLoop) propose(ctx context.Context, st *follow.State, t taking, asked bool) error {
	mirror, err := f.mirror(t.Rule)
	if err != nil {
		return err
	}
	head, err := mirror.Resolve(ctx, t.Ref)
	if err != nil {
		return err
	}
	file, err := t.file(mirror.At(head.ID))
	if errors.Is(err, repo.ErrSame) {
		return nil
	}
	if err != nil {
		return err
	}
	p, err := f.k.propose(ctx, want{repo: t.Repo, base: t.Ref, by: "follow " + t.Name, origin: proposal.Origin{Kind: proposal.Follow, Of: t.Name, Want: t.Take + " " + t.Digest},
		title: t.subject, why: t.why, draft: draft{Files: []repo.File{file}, Trailers: t.trailers}, still: func(ctx context.Context) error {
			said, err := f.k.withdrawn(ctx, t.Repo, proposal.Origin{Kind: proposal.Follow, Of: t.Name})
			if _, withdrawn := said[t.Take+" "+t.Digest]; withdrawn && !asked { // since it was decided
				err = errChanged
			}
			return err
		}})
	if err != nil {
		return fmt.Errorf("%s %s can't be proposed: %w", t.What(), t.Take, err)
	}
	if st.Offered.Proposal != p.Number {
		f.k.byItself(ctx, Subject{"propose " + t.Take + " of", "follow", t.Name}, "", details{"repo": t.Repo, "proposal": p.Number})
	}
	st.Offered = follow.Offered{Version: t.Take, Proposal: p.Number, Asked: asked || st.Offered.Asked && st.Offered.Proposal == p.Number}
	return nil
}

// bad lists the written versions that a ward has rejected.
func (f *followLoop) bad(ctx context.Context, r follow.Rule, written []follow.Past) map[string]string {
	out := map[string]string{}
	for _, p := range f.k.laying(r.Repo, r.Into) {
		rejected, err := f.k.ledger.Rejections(ctx, p.ID)
		if err != nil {
			continue
		}
		for _, w := range written {
			if x, is := rejected[w.Commit]; is && w.Commit != "" {
				out[w.Version] = p.ID + ": " + x.Why
			}
		}
	}
	return out
}

// laying lists the placements that lay a versions file over what they render.
func (k *Keeper) laying(repository, file string) (out []*placement) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, p := range k.kept.all {
		if slices.ContainsFunc(p.Ward.From.Versions, func(v ward.ValuesFile) bool {
			return v.Path == file && cmp.Or(v.Repo, p.Ward.From.Repo) == repository
		}) {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b *placement) int { return strings.Compare(a.ID, b.ID) })
	return out
}

func (k *Keeper) followLoops() (out []*followLoop) {
	k.mu.RLock()
	rosters := make([]*rosterLoop, 0, len(k.rosters))
	for _, l := range k.rosters {
		rosters = append(rosters, l)
	}
	k.mu.RUnlock()
	for _, l := range rosters {
		l.mu.Lock()
		for _, f := range l.follows {
			if f.ctx.Err() == nil {
				out = append(out, f)
			}
		}
		l.mu.Unlock()
	}
	return out
}

func (k *Keeper) followOf(name string) *followLoop {
	for _, f := range k.followLoops() {
		f.mu.Lock()
		is := f.rule.Name == name
		f.mu.Unlock()
		if is {
			return f
		}
	}
	return nil
}

func (f *followLoop) now() Follow {
	of := f.roster.record().Name // before its own lock: the roster takes both in the other order
	f.mu.Lock()
	defer f.mu.Unlock()
	return Follow{Rule: f.rule, State: f.state.Clone(), Roster: of}
}

// Follows lists the follows by name.
func (k *Keeper) Follows() []Follow {
	var out []Follow
	for _, f := range k.followLoops() {
		out = append(out, f.now())
	}
	slices.SortFunc(out, func(a, b Follow) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Follow is a follow by its name, with the wards that its file is laid over.
func (k *Keeper) Follow(name string) (Follow, []string, error) {
	f := k.followOf(name)
	if f == nil {
		var known []string
		for _, x := range k.Follows() {
			known = append(known, x.Name)
		}
		return Follow{}, nil, unknown("follow", name, known, "declare it in a roster: vigila schema follow")
	}
	now := f.now()
	var wards []string
	for _, p := range k.laying(now.Repo, now.Into) {
		wards = append(wards, p.ID)
	}
	return now, wards, nil
}

// LookFollow makes a follow look now, and take a version whatever it is, when one is named.
type LookFollow struct{ Name, Take string }

func (w LookFollow) Subject() Subject {
	return Subject{map[bool]string{true: "look", false: "take " + w.Take}[w.Take == ""], "follow", w.Name}
}

func (w LookFollow) do(ctx context.Context, k *Keeper, _ Actor) (Follow, error) {
	f := k.followOf(w.Name)
	if f == nil {
		_, _, err := k.Follow(w.Name)
		return Follow{}, err
	}
	f.look(ctx, w.Take, true)
	now := f.now()
	if w.Take != "" && now.Problem == "" && now.Tag != w.Take && now.Offered.Version != w.Take {
		return now, fault(Conflict, "%s is not taken: %s", w.Take, cmp.Or(now.Left, "it is not there"))
	}
	return now, nil
}

// ---- registries

// Registry is a registry, without what is secret of it.
type Registry struct {
	record.Registry
	Used    []string // the follows that ask it
	SignsIn bool
}

// AddRegistry adds a registry, or changes one, after asking whether it is one. What is empty of its credentials, or of who signs its
// certificate, stays as it was when host and address are the same.
type AddRegistry struct{ record.Registry }

// RemoveRegistry forgets a registry that no follow asks.
type RemoveRegistry struct{ Name string }

func (w AddRegistry) Subject() Subject    { return Subject{"add", "registry", w.Name} }
func (w RemoveRegistry) Subject() Subject { return Subject{"remove", "registry", w.Name} }

func (w AddRegistry) do(ctx context.Context, k *Keeper, _ Actor) (Registry, error) {
	r := w.Registry
	if err := ward.Name(r.Name); err != nil {
		return Registry{}, fault(Invalid, "name: %v", err)
	}
	if r.Host = strings.TrimSuffix(r.Host, "/"); r.Host == "" || strings.ContainsAny(r.Host, "/?#@ ") || strings.Contains(r.Host, "://") {
		return Registry{}, fault(Invalid, "the host of registry %s: write it as images name it, such as registry.brindle.example or registry.brindle.example:5000", r.Name)
	}
	if r.At = strings.TrimSuffix(r.At, "/"); strings.ContainsAny(r.At, "/?#@ ") {
		return Registry{}, fault(Invalid, "the address of registry %s: write a host, and a port where there is one, such as 10.4.0.7:5000", r.Name)
	}
	k.changing.Lock()
	defer k.changing.Unlock()
	all, err := k.store.Registries(ctx)
	if err != nil {
		return Registry{}, err
	}
	for _, old := range all {
		if old.Name == r.Name && old.Host == r.Host && old.At == r.At {
			r.CA = cmp.Or(r.CA, old.CA)
		}
		switch {
		case old.Name == r.Name && old.Host == r.Host && old.At == r.At && r.User == "" && r.Password == "" && r.Token == "":
			r.User, r.Password, r.Token = old.User, old.Password, old.Token
		case old.Name != r.Name && old.Host == r.Host:
			return Registry{}, fault(Conflict, "%s is known as registry %s already", r.Host, old.Name)
		}
	}
	if r.Token != "" && r.User != "" {
		return Registry{}, fault(Invalid, "registry %s: give a token, or a user and a password", r.Name)
	}
	if err := registryOf(r).Ping(ctx); err != nil {
		return Registry{}, fault(Unreachable, "registry %s at %s can't be read: %v", r.Name, r.Host, err)
	}
	if r.Made.IsZero() {
		r.Made = time.Now()
	}
	if err := k.store.PutRegistry(ctx, r); err != nil {
		return Registry{}, err
	}
	if err := k.readRegistries(ctx); err != nil {
		return Registry{}, err
	}
	for _, f := range k.followLoops() {
		f.nudge()
	}
	return k.registryWithUse(r), nil
}

func (w RemoveRegistry) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	k.changing.Lock()
	defer k.changing.Unlock()
	r, err := k.registry(w.Name)
	if err != nil {
		return Nothing{}, err
	}
	if used := r.Used; len(used) > 0 {
		return Nothing{}, fault(Conflict, "registry %s is asked by follow %s; take it out there first", w.Name, used[0])
	}
	if err := k.store.RemoveRegistry(ctx, w.Name); err != nil {
		return Nothing{}, err
	}
	return Nothing{}, k.readRegistries(ctx)
}

// registry is a registry by its name.
func (k *Keeper) registry(name string) (Registry, error) {
	var known []string
	for _, r := range k.Registries() {
		if known = append(known, r.Name); r.Name == name {
			return r, nil
		}
	}
	return Registry{}, unknown("registry", name, known, "vigila registry add NAME HOST")
}

// pushedImage lets the follows that ask a registry look now.
func (k *Keeper) pushedImage(name string) error {
	if _, err := k.registry(name); err != nil {
		return err
	}
	k.pushed.Store(name, time.Now())
	for _, f := range k.followLoops() {
		if at, known := k.registryAt(f.now().Host()); known && at.Name == name {
			f.mu.Lock()
			f.pushed = time.Now()
			f.mu.Unlock()
			f.nudge()
		}
	}
	return nil
}

// readRegistries reads the registries that the record knows.
func (k *Keeper) readRegistries(ctx context.Context) error {
	all, err := k.store.Registries(ctx)
	if err == nil {
		k.mu.Lock()
		k.registries = all
		k.mu.Unlock()
	}
	return err
}

func (k *Keeper) registryAt(host string) (r record.Registry, known bool) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	i := slices.IndexFunc(k.registries, func(r record.Registry) bool {
		return r.Host == host || host == "index.docker.io" && r.Host == "docker.io"
	})
	if i < 0 {
		return r, false
	}
	return k.registries[i], true
}

// Registries lists the registries by name.
func (k *Keeper) Registries() []Registry {
	k.mu.RLock()
	all := slices.Clone(k.registries)
	k.mu.RUnlock()
	out := make([]Registry, len(all))
	for i, r := range all {
		out[i] = k.registryWithUse(r)
	}
	return out
}

func (k *Keeper) registryWithUse(r record.Registry) Registry {
	out := Registry{Registry: r, SignsIn: r.Password != "" || r.Token != ""}
	out.Password, out.Token = "", ""
	for _, f := range k.Follows() {
		if at, known := k.registryAt(f.Host()); known && at.Name == r.Name {
			out.Used = append(out.Used, f.Name)
		}
	}
	return out
}

func registryOf(r record.Registry) registry.Source {
	host := r.Host
	if host == "docker.io" { // where its registry is
		host = "registry-1.docker.io"
	}
	return registry.Source{Name: r.Name, Host: cmp.Or(r.At, host), User: r.User, Password: cmp.Or(r.Token, r.Password), Bearer: r.Token != "", CA: r.CA}
}
