// Package sources looks at repositories, of git and of charts: each by a loop of its own, once for everybody who subscribes. It knows
// nothing of wards. Start with Open.
package sources

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"vigila.dev/vigila/internal/charts"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// Subscriber is somebody who is told of looks: a ward.
type Subscriber interface {
	// Interests lists what it reads of a repository.
	Interests(repo string) []Interest
	// Every is how often it wants the repository to be looked at.
	Every() time.Duration
	// WasRead tells that a look went well and something that it reads may be another, or that the look failed.
	WasRead(repo string, a standing.AsOf)
	// IsSame tells that a look went well, and that nothing that it reads has changed.
	IsSame(repo string, a standing.AsOf)
}

// Interest is what somebody reads of a repository at one ref; "" among the paths is all of it.
type Interest struct {
	Ref   string
	Paths []string
}

// House is what loops need of whoever keeps them.
type House struct {
	Ctx     context.Context // until the service ends
	Dir     string          // of mirrors
	Log     *slog.Logger
	Spawn   func(func())
	Turn    func(ctx context.Context, repo string) (done func(), err error) // of fetching
	Keep    func(ctx context.Context, r record.Repo) error                  // writes down when credentials end
	Changed func(repo string)                                               // whether it can be read is another than it was
	Looked  func(repo string, a standing.AsOf)                              // at every look, before the subscribers are told
	Fetched func(repo string, took time.Duration, err error)
	At      func(address string) *repo.Mirror // the mirror of a known repository, for submodules; nil when there is none
}

// Loop looks at one repository.
type Loop struct {
	house  *House
	name   string
	from   source
	ctx    context.Context // until it is not kept any more
	cancel context.CancelFunc
	asked  chan chan error
	nudged chan struct{}
	moved  chan struct{} // the next look is earlier than it was

	mu          sync.Mutex
	conf        record.Repo
	subscribers map[Subscriber][]told // to what each was told of last
	shared      *logbook.Revision
	found
}

// told is the commit at a ref that somebody was told of last.
type told struct{ ref, id string }

// at is the commit at a ref; "" when nothing was told of it.
func at(all []told, ref string) string {
	for _, t := range all {
		if t.ref == ref {
			return t.id
		}
	}
	return ""
}

// found is what was found at the last looks, and what was told of pushes.
type found struct {
	asOf        standing.AsOf
	names       []string
	failures    int
	expiryAsked time.Time
	pushed      time.Time // when the last push was taken
}

// Open makes the loop of a repository. It looks once it is started, when it can be found by others: they are told of its first look.
func Open(h *House, r record.Repo) (*Loop, error) {
	ctx, cancel := context.WithCancel(h.Ctx)
	from, err := open(ctx, h, r)
	if err != nil {
		cancel()
		return nil, err
	}
	l := &Loop{house: h, name: r.Name, from: from, cancel: cancel, asked: make(chan chan error), nudged: make(chan struct{}, 1), moved: make(chan struct{}, 1), conf: r, subscribers: map[Subscriber][]told{}}
	l.ctx = ctx
	return l, nil
}

// Start begins to look.
func (l *Loop) Start() { l.house.Spawn(func() { l.run(l.ctx) }) }

// Name is the repository's name.
func (l *Loop) Name() string { return l.name }

// Git is the mirror of a git repository; false for one of charts.
func (l *Loop) Git() (*repo.Mirror, bool) {
	g, ok := l.from.(gitSource)
	return g.Mirror, ok
}

// Charts is the shelf of a chart repository; false for one of git.
func (l *Loop) Charts() (*charts.Shelf, bool) {
	c, ok := l.from.(chartSource)
	return c.Shelf, ok
}

const fetchTimeout = 2 * time.Minute

// Record is the repository as it is kept.
func (l *Loop) Record() record.Repo {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conf
}

// URL is its address.
func (l *Loop) URL() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conf.URL
}

func (l *Loop) run(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		var waiting []chan error
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		case <-l.nudged:
		case <-l.moved:
			timer.Reset(time.Until(l.next()))
			continue
		case c := <-l.asked:
			waiting = append(waiting, c)
		}
		for more := true; more; { // whoever asked meanwhile is served by the same fetch
			select {
			case <-l.nudged:
			case c := <-l.asked:
				waiting = append(waiting, c)
			default:
				more = false
			}
		}
		err := l.fetch(ctx)
		for _, c := range waiting {
			c <- err
		}
		timer.Reset(time.Until(l.next()))
	}
}

// fetch reads the repository and tells every ward.
func (l *Loop) fetch(ctx context.Context) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	turn, err := l.house.Turn(ctx, l.name)
	if err != nil {
		return err
	}
	defer turn()
	start := time.Now()
	fctx, cancel := context.WithTimeout(ctx, fetchTimeout)
	defer cancel()
	err = l.from.refresh(fctx)
	l.house.Fetched(l.name, time.Since(start), err)
	l.mu.Lock()
	was := l.asOf.Known
	if err == nil {
		l.failures = 0
		l.asOf = standing.AsOf{Known: true, At: time.Now()}
	} else {
		l.failures++
		l.asOf = standing.AsOf{At: l.asOf.At, Problem: err.Error()}
	}
	l.asOf.Next = time.Now().Add(l.pause())
	asOf := l.asOf
	subscribers := slices.Collect(maps.Keys(l.subscribers))
	l.mu.Unlock()
	if err != nil && ctx.Err() == nil {
		l.house.Log.Warn("repository can't be read", "repo", l.name, "error", err)
	}
	if was != (err == nil) {
		l.house.Changed(l.name)
	}
	mirror, isGit := l.Git()
	if err != nil || !isGit {
		for _, p := range subscribers {
			p.WasRead(l.name, asOf)
		}
	}
	l.house.Looked(l.name, asOf)
	if err != nil {
		return err
	}
	if isGit {
		l.tell(fctx, mirror, asOf)
		l.askExpiry(fctx)
	}
	names, err := l.from.names(fctx)
	l.mu.Lock()
	l.names = names
	l.mu.Unlock()
	return err
}

// askExpiry asks the server once a day when the credentials end.
func (l *Loop) askExpiry(ctx context.Context) {
	conf := l.Record()
	l.mu.Lock()
	due := conf.Password != "" && time.Since(l.expiryAsked) > 24*time.Hour
	if due {
		l.expiryAsked = time.Now()
	}
	l.mu.Unlock()
	if !due {
		return
	}
	at := repo.Expires(ctx, OfGit(conf))
	if at.Equal(conf.Expires) {
		return
	}
	l.mu.Lock()
	if l.conf.Password != conf.Password || l.conf.URL != conf.URL { // it was changed meanwhile
		l.mu.Unlock()
		return
	}
	l.conf.Expires = at
	conf = l.conf
	l.mu.Unlock()
	if err := l.house.Keep(ctx, conf); err != nil {
		l.house.Log.Warn("when credentials end can't be written", "repo", l.name, "error", err)
	}
}

// LookSoon asks for a look at the repository without waiting for it; many such wishes become one look.
func (l *Loop) LookSoon() {
	select {
	case l.nudged <- struct{}{}:
	default: // it is about to look anyway
	}
}

// Push takes in that something was pushed.
func (l *Loop) Push() {
	l.mu.Lock()
	l.pushed = time.Now()
	l.mu.Unlock()
	l.LookSoon()
}

// Pushed is when the last push was taken in; zero when none was.
func (l *Loop) Pushed() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.pushed
}

// tell tells the wards of a repository what a look has found: first those for which something has changed, then the
// others. One commit among a thousand wards concerns one of them.
func (l *Loop) tell(ctx context.Context, mirror *repo.Mirror, a standing.AsOf) {
	l.mu.Lock()
	last := maps.Clone(l.subscribers)
	l.mu.Unlock()
	heads, moves := map[string]string{}, map[[2]string]*repo.Moved{}
	head := func(ref string) string {
		id, known := heads[ref]
		if !known {
			if r, err := mirror.Resolve(ctx, ref); err == nil {
				id = r.ID
			}
			heads[ref] = id
		}
		return id
	}
	// touched tells whether what a placement reads at a ref is another than it was.
	touched := func(i Interest, old, id string) bool {
		if id != "" && old == id {
			return false
		}
		if id == "" || old == "" {
			return true
		}
		pair := [2]string{old, id}
		moved, known := moves[pair]
		if !known {
			var err error
			if moved, err = mirror.Moved(old, id); err != nil { // the old commit may be gone
				moved = nil
			}
			moves[pair] = moved
		}
		return moved == nil || slices.ContainsFunc(i.Paths, moved.Touches)
	}
	var rest []Subscriber
	now := map[Subscriber][]told{}
	for p, old := range last {
		same := true
		interests := p.Interests(l.name)
		ids := make([]told, 0, len(interests))
		for _, i := range interests {
			id := head(i.Ref)
			ids = append(ids, told{i.Ref, id})
			same = same && !touched(i, at(old, i.Ref), id)
		}
		now[p] = ids
		if same {
			rest = append(rest, p)
		} else {
			p.WasRead(l.name, a)
		}
	}
	l.mu.Lock()
	for p, ids := range now {
		if _, still := l.subscribers[p]; still {
			l.subscribers[p] = ids
		}
	}
	l.mu.Unlock()
	for _, p := range rest {
		p.IsSame(l.name, a)
	}
}

// pause is the time until the next look: the shortest interval any ward asks for, spread a little; longer after
// failures.
func (l *Loop) pause() time.Duration {
	every := 5 * time.Minute
	for p := range l.subscribers {
		every = min(every, p.Every())
	}
	d := min(every<<min(l.failures, 5), max(every, 5*time.Minute))
	return d + time.Duration((rand.Float64()-0.5)*0.2*float64(d))
}

func (l *Loop) next() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.asOf.Next
}

var errEnded = errors.New("the repository is not kept any more, or the service is ending")

// Look fetches now and returns when every ward was told; wards render on their own.
func (l *Loop) Look(ctx context.Context) error {
	c := make(chan error, 1)
	select {
	case l.asked <- c:
	case <-ctx.Done():
		return ctx.Err()
	case <-l.ctx.Done():
		return errEnded
	}
	select {
	case err := <-c:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-l.ctx.Done():
		return errEnded
	}
}

// Change gives the repository other settings.
func (l *Loop) Change(r record.Repo) {
	l.mu.Lock()
	l.conf = r
	l.mu.Unlock()
	l.from.change(r)
}

// End stops looking. Close waits for nothing more either.
func (l *Loop) End() { l.cancel() }

// Close ends the loop's processes.
func (l *Loop) Close() { l.from.close() }

// Remove deletes what is kept of the repository on disk.
func (l *Loop) Remove() error { return l.from.remove() }

// Told is the commit at a ref that a subscriber was told of last; "" when it was told of none.
func (l *Loop) Told(p Subscriber, ref string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return at(l.subscribers[p], ref)
}

// Shared is a revision of the repository as it was asked for last, where it is the same one: very many wards stand at one commit.
func (l *Loop) Shared(r *logbook.Revision) *logbook.Revision {
	if r == nil {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.shared == nil || *l.shared != *r {
		l.shared = r
	}
	return l.shared
}

// Subscribe tells somebody of every look from now on, and how it is now.
func (l *Loop) Subscribe(p Subscriber) standing.AsOf {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.subscribers[p] = nil
	if next := time.Now().Add(p.Every()); l.failures == 0 && !l.asOf.Next.IsZero() && next.Before(l.asOf.Next) { // it wants to be looked at more often
		l.asOf.Next = next
		select {
		case l.moved <- struct{}{}:
		default:
		}
	}
	return l.asOf
}

// Unsubscribe tells somebody no more.
func (l *Loop) Unsubscribe(p Subscriber) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.subscribers, p)
}

// State is a repository as it was last read.
type State struct {
	Repo        record.Repo
	AsOf        standing.AsOf
	Subscribers int
	Names       []string // branches, or charts
}

// State is how the repository is.
func (l *Loop) State() State {
	l.mu.Lock()
	defer l.mu.Unlock()
	return State{Repo: l.conf, AsOf: l.asOf, Subscribers: len(l.subscribers), Names: l.names}
}
