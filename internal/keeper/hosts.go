package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/host"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// CodeHost is the code host of a repository as it stands, without its token.
type CodeHost struct {
	record.Host
	Looked, Next time.Time
	Problem      string // of the last look
	Open         int    // requests that are open there
}

// hosts are the code hosts that are known.
type hosts struct {
	mu    *sync.Mutex
	loops map[string]*hostLoop // by repository
}

func newHosts() hosts { return hosts{mu: &sync.Mutex{}, loops: map[string]*hostLoop{}} }

// hostLoop keeps one repository and its code host in step: requests of proposals, what is said of them, comments and statuses.
type hostLoop struct {
	k      *Keeper
	conf   record.Host
	host   host.Host
	ctx    context.Context
	cancel context.CancelFunc
	wake   chan struct{}
	wards  chan struct{}     // one of them has changed, of which statuses are told
	said   map[int]commented // by request; of the loop alone, like the next
	told   map[string]string // wards, to the status that was told last
	says   *rate.Limiter     // comments and statuses
	heads  atomic.Value      // what its branches were at when it was looked at last

	mu    sync.Mutex
	state CodeHost
}

// commented is what was commented on, and when it is tried again where that went wrong.
type commented struct {
	mark  string
	again time.Time
}

// The times and the bounds of looks at a code host.
const (
	hostEvery    = 30 * time.Second
	hostLeast    = 2 * time.Second // between two looks
	hostTimeout  = 5 * time.Minute
	mergedWithin = time.Hour // it is asked for who has merged what
	effectWithin = time.Minute
	effectAgain  = 10 * time.Minute // one whose effect can't be told takes nobody else's time meanwhile
	hostSaysEach = time.Second      // between two things that are said there, on the average: hosts count them, and take some eighty a minute
	hostSays     = 30               // that may be said at once
)

func hostOf(h record.Host) (host.Host, error) {
	return host.New(host.Source{API: host.API(h.API), URL: h.URL, Project: h.Project, Token: h.Token, CA: h.CA})
}

// openHosts opens the code hosts that the record knows.
func (k *Keeper) openHosts(ctx context.Context) error {
	all, err := k.store.Hosts(ctx)
	for _, h := range all {
		if err := k.openHost(h); err != nil {
			k.log.Error("a code host can't be opened; nothing is told there", "repo", h.Repo, "error", err)
		}
	}
	return err
}

func (k *Keeper) openHost(conf record.Host) error {
	h, err := hostOf(conf)
	if err != nil {
		return err
	}
	l := &hostLoop{k: k, conf: conf, host: h, wake: make(chan struct{}, 1), wards: make(chan struct{}, 1), said: map[int]commented{}, told: map[string]string{}, says: rate.NewLimiter(rate.Every(hostSaysEach), hostSays), state: CodeHost{Host: conf}}
	l.state.Token = ""
	l.ctx, l.cancel = context.WithCancel(k.ctx)
	k.hosts.mu.Lock()
	if old := k.hosts.loops[conf.Repo]; old != nil {
		old.cancel()
	}
	k.hosts.loops[conf.Repo] = l
	k.hosts.mu.Unlock()
	k.spawn(l.run)
	return nil
}

func (k *Keeper) hostLoopOf(repository string) *hostLoop {
	k.hosts.mu.Lock()
	defer k.hosts.mu.Unlock()
	return k.hosts.loops[repository]
}

// CodeHost is the code host of a repository.
func (k *Keeper) CodeHost(repository string) (CodeHost, error) {
	if _, err := k.source(repository); err != nil {
		return CodeHost{}, err
	}
	l := k.hostLoopOf(repository)
	if l == nil {
		return CodeHost{}, fault(NotFound, "repository %s has no code host; set it: vigila repo host %s --api NAME --at URL --project OWNER/NAME --token-file FILE", repository, repository)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.state, nil
}

// warning says that it can't be read, in a line; "" when it can.
func (l *hostLoop) warning() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.state.Problem == "" {
		return ""
	}
	first, _, _ := strings.Cut(l.state.Problem, "\n")
	return "its code host: " + first
}

func (l *hostLoop) nudge() {
	rouse(l.wake)
}

// hostRead lets the code host of a repository look when one of its branches has moved.
func (k *Keeper) hostRead(repository string) {
	l := k.hostLoopOf(repository)
	if l == nil {
		return
	}
	mirror, err := k.gitOf(repository)
	if err != nil {
		return
	}
	if heads, err := mirror.Heads(l.ctx); err == nil && l.heads.Swap(heads) != heads {
		l.nudge()
	}
}

// nudgeHost lets the code host of a repository look now, where it has one.
func (k *Keeper) nudgeHost(repository string) {
	if l := k.hostLoopOf(repository); l != nil {
		l.nudge()
	}
}

func (l *hostLoop) run() {
	for whole := true; ; {
		again := l.look(whole)
		if l.ctx.Err() != nil {
			return
		}
		whole = true
		for _, wait := range []struct {
			wake, wards <-chan struct{}
			time        time.Duration
		}{{nil, nil, hostLeast}, {l.wake, l.wards, again - hostLeast}} {
			t := time.NewTimer(wait.time)
			select {
			case <-l.ctx.Done():
				t.Stop()
				return
			case <-wait.wake:
			case <-wait.wards:
				whole = false
			case <-t.C:
			}
			t.Stop()
		}
	}
}

// wardChanged lets the code host tell how a ward does by now.
func (k *Keeper) wardChanged(id string) {
	k.mu.RLock()
	p := k.kept.all[id]
	k.mu.RUnlock()
	if p == nil || p.Broken != "" {
		return
	}
	if l := k.hostLoopOf(p.Ward.From.Repo); l != nil && l.conf.Statuses {
		select {
		case l.wards <- struct{}{}:
		default:
		}
	}
}

// look does what there is to be done at the code host, or tells statuses alone; it answers when to look again.
func (l *hostLoop) look(whole bool) time.Duration {
	ctx, cancel := context.WithTimeout(l.ctx, hostTimeout)
	defer cancel()
	var err error
	if whole {
		err = l.reviews(ctx)
	}
	if err == nil && l.conf.Statuses {
		err = l.statuses(ctx)
	}
	again := hostEvery
	if l.ctx.Err() != nil {
		return again
	}
	l.mu.Lock()
	was := l.state.Problem
	l.state.Looked, l.state.Next, l.state.Problem = time.Now(), time.Now().Add(again), ""
	if err != nil {
		l.state.Problem = err.Error()
	}
	now := l.state.Problem
	l.mu.Unlock()
	if was != now {
		l.k.log.Info("a code host", "repo", l.conf.Repo, "problem", now)
		l.k.broker.send(Note{"repo", l.conf.Repo})
	}
	return again
}

// reviews looks at what is reviewed there.
func (l *hostLoop) reviews(ctx context.Context) error {
	own, unread := l.requests(ctx) // one that can't be read keeps nobody from the others
	unread = errors.Join(unread, l.merged(ctx))
	all, err := l.host.Live(ctx)
	if err != nil {
		return errors.Join(unread, err)
	}
	l.mu.Lock()
	l.state.Open = len(all)
	l.mu.Unlock()
	return errors.Join(unread, l.comment(ctx, all, own))
}

// requests opens a request for each proposal, and takes in how each stands there. The answer are those of proposals, by their numbers there.
func (l *hostLoop) requests(ctx context.Context) (map[int]bool, error) {
	live, _, err := l.k.store.Proposals(ctx, record.FindProposals{Repo: l.conf.Repo, Live: true})
	if err != nil {
		return nil, err
	}
	out := map[int]bool{}
	var errs []error
	for _, p := range live {
		if p.Standing == proposal.Opening {
			continue
		}
		var r host.Request
		if p.Request.Number == 0 {
			r, err = l.host.Ask(ctx, p.Branch, p.Base, p.Title, l.text(p))
		} else {
			r, err = l.host.See(ctx, p.Request.Number)
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		out[r.Number] = true
		errs = append(errs, l.take(ctx, p.Number, r))
	}
	return out, errors.Join(errs...)
}

// merged finds out who has merged what was seen in the repository first.
func (l *hostLoop) merged(ctx context.Context) error {
	const last = 20
	all, _, err := l.k.store.Proposals(ctx, record.FindProposals{Repo: l.conf.Repo, Limit: last})
	if err != nil {
		return err
	}
	var errs []error
	for _, p := range all {
		if p.Standing != proposal.Merged || p.EndedBy != "" || p.Request.Number == 0 || time.Since(p.Ended) > mergedWithin {
			continue
		}
		r, err := l.host.See(ctx, p.Request.Number)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		if r.Standing != host.Merged || r.By == "" {
			continue
		}
		now := p.End(proposal.Merged, p.Ended, r.By, "on the code host", p.Result)
		now.Request.By = r.By
		errs = append(errs, l.k.putProposal(ctx, p, now))
	}
	return errors.Join(errs...)
}

// text is what a request says of its proposal.
func (l *hostLoop) text(p proposal.Proposal) string {
	rows := strings.Split(p.Why, "\n")
	for i, row := range rows {
		if listed, is := strings.CutPrefix(row, "  "); is { // as Markdown has lists
			rows[i] = "- " + code(strings.TrimSpace(listed))
		}
	}
	text := strings.Join(rows, "\n")
	if p.By != "" && p.By != logbook.Vigila {
		text += "\n\nAsked for by " + code(p.By) + "."
	}
	return strings.TrimSpace(text + "\n\n" + fmt.Sprintf("Proposal: %d of %s", p.Number, l.k.service))
}

// take takes in how the request of a proposal stands.
func (l *hostLoop) take(ctx context.Context, number int, r host.Request) error {
	if ward.Link(r.URL) != nil { // it is a link for people, and a host says what it likes
		r.URL = ""
	}
	now := proposal.Request{Number: r.Number, URL: r.URL, Checks: string(r.Checks), Labels: r.Labels, By: r.By}
	for _, a := range r.Approvals {
		now.Approvals = append(now.Approvals, proposal.Approval{By: a.By, At: a.At, Commit: a.Commit})
	}
	if r.Standing == host.Merged { // then the repository has it
		if source, err := l.k.source(l.conf.Repo); err == nil {
			_ = source.Look(ctx) // what can't be read is looked at again later
		}
	}
	defer l.k.proposals.alone(l.conf.Repo)()
	p, err := l.k.store.Proposal(ctx, number)
	if err != nil {
		return err
	}
	if p.Over() { // it ended while its request was opened
		if r.Standing == host.Open && p.Request.Number == 0 {
			return l.host.Close(ctx, r.Number)
		}
		return nil
	}
	was := p
	p.Request = now
	if r.Standing == host.Closed {
		mirror, err := l.k.gitOf(l.conf.Repo)
		if err != nil {
			return err
		}
		return l.k.withdraw(ctx, mirror, p, "", "its request was closed on the code host")
	}
	if err := l.k.putProposal(ctx, was, p); err != nil || r.Standing != host.Merged {
		return err
	}
	mirror, err := l.k.gitOf(l.conf.Repo)
	if err != nil {
		return err
	}
	_, err = l.k.judge(ctx, mirror, p)
	return err
}

// comment keeps the effect of each request up to date as one comment; what is too much at once comes with the next look.
func (l *hostLoop) comment(ctx context.Context, all []host.Request, own map[int]bool) error {
	mirror, err := l.k.gitOf(l.conf.Repo)
	if err != nil {
		return err
	}
	still := map[int]bool{}
	var errs []error
	for _, r := range all {
		still[r.Number] = true
		if r.Fork || !own[r.Number] && !l.conf.Comments { // a fork's branch is in no mirror
			continue
		}
		base, err := mirror.Branch(r.Base)
		if err != nil || base == "" {
			continue
		}
		head, err := mirror.Branch(r.Branch)
		if err != nil || head != r.Commit { // it was pushed a moment ago
			if source, err := l.k.source(l.conf.Repo); err == nil {
				source.LookSoon()
			}
			continue
		}
		mark := base + " " + head
		if was := l.said[r.Number]; was.mark == mark && (was.again.IsZero() || time.Now().Before(was.again)) {
			continue
		}
		if !l.says.Allow() {
			continue
		}
		now := commented{mark: mark}
		if err := l.say(ctx, r, own[r.Number]); err != nil {
			errs = append(errs, err)
			now.again = time.Now().Add(effectAgain)
		}
		l.said[r.Number] = now
	}
	for n := range l.said {
		if !still[n] {
			delete(l.said, n)
		}
	}
	return errors.Join(errs...)
}

// say works out the effect of a request, and comments on it.
func (l *hostLoop) say(ctx context.Context, r host.Request, own bool) error {
	within, cancel := context.WithTimeout(ctx, effectWithin)
	defer cancel()
	e, err := l.k.Effect(within, l.conf.Repo, r.Base, r.Branch)
	var f *Fault
	switch {
	case errors.As(err, &f):
		if !own {
			return nil
		}
		_, err = l.host.Say(ctx, r.Number, l.mark(r.Number), "What it would do can't be told: "+code(f.Text))
		return err
	case err != nil:
		return err
	case !own && len(e.Wards)+len(e.Problems) == 0 && e.Same == 0: // it is none of any ward's business
		return nil
	}
	_, err = l.host.Say(ctx, r.Number, l.mark(r.Number), effectText(e, l.conf.Link))
	return err
}

// mark is how the comment of this service on a request begins, so that it is found again. Nobody else can tell it before it is there: whoever wrote it first
// would have what they wrote taken for the effect, and could write another later.
func (l *hostLoop) mark(request int) string {
	return "<!-- vigila effect " + l.k.mask(fmt.Sprintf("effect %s %d", l.conf.Repo, request)) + " -->"
}

// statuses tells of the commits that wards are at how the wards do with them.
func (l *hostLoop) statuses(ctx context.Context) error {
	var errs []error
	for _, p := range l.k.placed(l.conf.Repo) {
		v := p.View()
		if v.Revision == nil || !v.Repository.Known {
			continue
		}
		s := statusOf(v, l.conf.Link)
		mark := strings.Join([]string{v.Revision.ID, string(s.State), s.Text}, " ")
		if l.told[p.ID] == mark {
			continue
		}
		if !l.says.Allow() {
			break
		}
		if err := l.host.Tell(ctx, v.Revision.ID, s); err != nil {
			errs = append(errs, err)
			continue
		}
		l.told[p.ID] = mark
	}
	return errors.Join(errs...)
}

// placed lists the placements whose main repository is one.
func (k *Keeper) placed(repository string) (out []*placement) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, p := range k.kept.all {
		if p.Broken == "" && p.Ward.From.Repo == repository {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b *placement) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// statusOf is how a ward does with the commit that it is at. What changes from second to second is not told.
func statusOf(v *standing.View, link string) host.Status {
	s := host.Status{Name: "vigila/" + v.ID, State: host.Pending, Text: "being synced"}
	switch {
	case v.Rejected != "":
		s.State, s.Text = host.Failure, "rejected: "+v.Rejected
	case v.Run != nil:
	case v.Health.Word == health.Failing:
		s.State, s.Text = host.Failure, "failing: "+v.Health.Reason
	case v.Standing == compare.Behind:
		s.Text = "behind"
		if v.Hold != nil {
			s.Text = "held by " + v.Hold.By
		}
	case v.Standing == compare.Blind:
		s.Text = "its cluster can't be read"
	case v.Health.Word == health.Ready:
		s.State, s.Text = host.Success, "in step and ready"
		if v.Standing != compare.InStep {
			s.Text = string(v.Standing)
		}
	default:
		s.Text = string(v.Health.Word)
	}
	if link != "" {
		s.URL = strings.TrimSuffix(link, "/") + "/wards/" + v.ID
	}
	return s
}

// mergeThere merges the request of a proposal on its code host, by the host's own rules.
func (k *Keeper) mergeThere(ctx context.Context, mirror *repo.Mirror, p proposal.Proposal, by, why string) error {
	l := k.hostLoopOf(p.Repo)
	text := fmt.Sprintf("Merged by %s.", by)
	if why != "" {
		text += "\n\n" + why
	}
	if err := l.host.Merge(ctx, p.Request.Number, p.Commit, fmt.Sprintf("Merge proposal %d: %s", p.Number, p.Title), text); err != nil {
		l.nudge()
		return fault(Conflict, "proposal %d is not merged: %v", p.Number, err)
	}
	if err := mirror.Fetch(ctx); err != nil {
		l.nudge()
		return nil // it is merged there, and is seen here with the next look
	}
	result, err := mirror.Branch(p.Base)
	if err != nil {
		return err
	}
	if source, err := k.source(p.Repo); err == nil {
		source.LookSoon()
	}
	if p.Own {
		mirror.Drop(ctx, p.Branch, p.Commit)
	}
	return k.putProposal(ctx, p, p.End(proposal.Merged, time.Now(), by, "", result))
}

// unasked tells whether a proposal has no request yet on the code host that its repository is on: it is opened with the next look.
func (k *Keeper) unasked(p proposal.Proposal) bool {
	return p.Request.Number == 0 && k.hostLoopOf(p.Repo) != nil
}

// hosted tells whether a proposal has a request on a code host.
func (k *Keeper) hosted(p proposal.Proposal) bool {
	return p.Request.Number > 0 && k.hostLoopOf(p.Repo) != nil
}

// ---- what people ask for

// SetHost says on which code host a repository is, after asking it. An empty token stays as it was for the same address.
type SetHost struct{ record.Host }

// RemoveHost forgets the code host of a repository; its requests stay open there.
type RemoveHost struct{ Repo string }

func (w SetHost) Subject() Subject    { return Subject{"set the code host of", "repo", w.Repo} }
func (w RemoveHost) Subject() Subject { return Subject{"forget the code host of", "repo", w.Repo} }

func (w SetHost) do(ctx context.Context, k *Keeper, _ Actor) (CodeHost, error) {
	h := w.Host
	if _, err := k.gitOf(h.Repo); err != nil {
		return CodeHost{}, err
	}
	h.URL, h.Link = strings.TrimSuffix(h.URL, "/"), strings.TrimSuffix(h.Link, "/")
	if l := k.hostLoopOf(h.Repo); l != nil && h.Token == "" && l.conf.URL == h.URL && l.conf.API == h.API && l.conf.Project == h.Project {
		h.Token = l.conf.Token
	}
	if h.Token == "" {
		return CodeHost{}, fault(Invalid, "the code host of %s needs a token that may write to %s, open requests and comment on them", h.Repo, h.Project)
	}
	c, err := hostOf(h)
	if err != nil {
		return CodeHost{}, fault(Invalid, "%v", err)
	}
	if err := c.Check(ctx); err != nil {
		return CodeHost{}, fault(Unreachable, "%v", err)
	}
	h.Made = time.Now()
	k.changing.Lock()
	defer k.changing.Unlock()
	if err := k.store.PutHost(ctx, h); err != nil {
		return CodeHost{}, err
	}
	if err := k.openHost(h); err != nil {
		return CodeHost{}, err
	}
	k.broker.send(Note{"repo", h.Repo})
	return k.CodeHost(h.Repo)
}

func (w RemoveHost) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	if _, err := k.source(w.Repo); err != nil {
		return Nothing{}, err
	}
	k.changing.Lock()
	defer k.changing.Unlock()
	l := k.hostLoopOf(w.Repo)
	if l == nil {
		return Nothing{}, fault(NotFound, "repository %s has no code host", w.Repo)
	}
	if err := k.store.RemoveHost(ctx, w.Repo); err != nil {
		return Nothing{}, err
	}
	k.forgetHost(w.Repo)
	return Nothing{}, nil
}

func (k *Keeper) forgetHost(repository string) {
	k.hosts.mu.Lock()
	if l := k.hosts.loops[repository]; l != nil {
		l.cancel()
		delete(k.hosts.loops, repository)
	}
	k.hosts.mu.Unlock()
	k.broker.send(Note{"repo", repository})
}
