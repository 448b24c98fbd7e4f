package keeper

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// proposals are what the keeper knows of proposals beside the record.
type proposals struct {
	one  *sync.Map // by repository, the lock that is held while one is opened or ended
	wake chan struct{}

	mu    *sync.Mutex
	dirty map[string]bool // repositories that were looked at
	seen  map[int]string  // what each was judged by last
}

func newProposals() proposals {
	return proposals{one: &sync.Map{}, mu: &sync.Mutex{}, wake: make(chan struct{}, 1), dirty: map[string]bool{}, seen: map[int]string{}}
}

// forget lets every proposal be judged anew.
func (p *proposals) forget() {
	p.mu.Lock()
	defer p.mu.Unlock()
	clear(p.seen)
}

// alone waits until nobody else opens or ends a proposal of a repository.
func (p *proposals) alone(repository string) (done func()) {
	lock, _ := p.one.LoadOrStore(repository, &sync.Mutex{})
	lock.(*sync.Mutex).Lock()
	return lock.(*sync.Mutex).Unlock
}

// repoLooked tells whoever lives off a repository that it was looked at.
func (k *Keeper) repoLooked(name string, a standing.AsOf) {
	k.rosterRead(name, a)
	if !a.Known {
		return
	}
	k.lanesRead(name)
	k.hostRead(name)
	k.proposals.mu.Lock()
	k.proposals.dirty[name] = true
	k.proposals.mu.Unlock()
	rouse(k.proposals.wake)
}

// keepProposals looks at the proposals of each repository once that was looked at.
func (k *Keeper) keepProposals() {
	for {
		select {
		case <-k.ctx.Done():
			return
		case <-k.proposals.wake:
		}
		k.proposals.mu.Lock()
		dirty := k.proposals.dirty
		k.proposals.dirty = map[string]bool{}
		k.proposals.mu.Unlock()
		for name := range dirty {
			k.spawn(func() {
				ctx, cancel := context.WithTimeout(k.ctx, proposalsTimeout)
				defer cancel()
				if err := k.lookAtProposals(ctx, name); err != nil && k.ctx.Err() == nil {
					k.log.Warn("proposals can't be looked at; it is tried again at the next look at their repository", "repo", name, "error", err)
				}
			})
		}
	}
}

// proposalsTimeout bounds one look at the proposals of a repository.
const proposalsTimeout = 5 * time.Minute

// lookAtProposals brings the proposals of a repository up to what the repository says.
func (k *Keeper) lookAtProposals(ctx context.Context, name string) error {
	defer k.proposals.alone(name)()
	live, _, err := k.store.Proposals(ctx, record.FindProposals{Repo: name, Live: true})
	if err != nil || len(live) == 0 {
		return err
	}
	mirror, err := k.gitOf(name)
	if err != nil {
		return err
	}
	var errs []error
	for _, p := range live {
		if p.Standing == proposal.Opening {
			_, err := k.pushProposal(ctx, mirror, p)
			errs = append(errs, err)
			continue
		}
		_, err := k.judge(ctx, mirror, p)
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// judge is a proposal after a look at what the mirror knows; nobody else is at it.
func (k *Keeper) judge(ctx context.Context, mirror *repo.Mirror, p proposal.Proposal) (proposal.Proposal, error) {
	s := proposal.Seen{At: time.Now()}
	var err error
	if s.Base, err = mirror.Branch(p.Base); err != nil {
		return p, err
	}
	if s.Head, err = mirror.Branch(p.Branch); err != nil {
		return p, err
	}
	mark := s.Base + " " + s.Head
	k.proposals.mu.Lock()
	same := k.proposals.seen[p.Number] == mark
	k.proposals.mu.Unlock()
	if same {
		return p, nil
	}
	if head := cmp.Or(s.Head, p.Commit); s.Base != "" {
		if s.Within, err = mirror.Holds(ctx, s.Base, head); err != nil {
			return p, err
		}
		if !s.Within {
			t, err := mirror.Together(ctx, s.Base, head)
			if err != nil && !errors.Is(err, repo.ErrNoFork) && s.Head != "" { // a branch that is gone may have taken its commits along
				return p, err
			}
			if err != nil {
				s.Problem = err.Error()
			}
			s.Same, s.Conflicts = t.Same, t.Conflicts
		}
	}
	after := p.After(s)
	if after.Wants, err = k.wanted(ctx, &after); err != nil {
		return p, err
	}
	if err := k.putProposal(ctx, p, after); err != nil {
		return p, err
	}
	k.proposals.mu.Lock()
	if k.proposals.seen[p.Number] = mark; after.Over() {
		delete(k.proposals.seen, p.Number)
	}
	k.proposals.mu.Unlock()
	if after.Standing == proposal.Merged && after.Own && s.Head != "" {
		mirror.Drop(ctx, after.Branch, after.Commit)
	}
	return after, nil
}

// putProposal writes down how a proposal is by now, when it is another than it was.
func (k *Keeper) putProposal(ctx context.Context, was, now proposal.Proposal) error {
	if was.Same(now) {
		return nil
	}
	if err := k.store.PutProposal(ctx, now); err != nil {
		return err
	}
	if says, _ := now.Says(); was.Standing != now.Standing {
		k.log.Info("a proposal", "proposal", now.Number, "repo", now.Repo, "branch", now.Branch, "says", says)
	}
	k.broker.send(Note{"proposal", fmt.Sprint(now.Number)})
	return nil
}

func (k *Keeper) gitOf(name string) (*repo.Mirror, error) {
	l, err := k.source(name)
	if err != nil {
		return nil, err
	}
	mirror, ok := l.Git()
	if !ok {
		return nil, fault(Invalid, "%s is a chart repository, which takes no commits", name)
	}
	return mirror, nil
}

// draft is what a proposal is to change: files, or a path as it was at a commit.
type draft struct {
	Files []repo.File `json:"files,omitempty"`
	// Leaves are files as the repository has them elsewhere, by path; the zero Leaf takes a file away.
	Leaves map[string]proposal.Leaf `json:"leaves,omitempty"`
	Path   string                   `json:"path,omitempty"`
	At     string                   `json:"at,omitempty"`
	// Trailers are the last lines of the commit's message: KEY: VALUE.
	Trailers []string `json:"trailers,omitempty"`
}

// want is a wish for a proposal.
type want struct {
	repo, base string
	branch     string // that a person chose; a name is made when empty
	origin     proposal.Origin
	title, why string
	by         string
	author     string // the person behind it, where a token asks that they made
	draft      draft
	still      func(ctx context.Context) error // asked once nobody else changes proposals of the repository; may be nil
}

// propose opens a proposal. The same wish is the same proposal.
func (k *Keeper) propose(ctx context.Context, w want) (*proposal.Proposal, error) {
	l, err := k.source(w.repo)
	if err != nil {
		return nil, err
	}
	mirror, err := k.gitOf(w.repo)
	if err != nil {
		return nil, err
	}
	if w.title = strings.TrimSpace(w.title); w.title == "" || strings.ContainsAny(w.title, "\n\r") || len(w.title) > maxTitle {
		return nil, fault(Invalid, "the title of a proposal is one line of at most %d letters; more is said below it", maxTitle)
	}
	_ = l.Look(ctx) // on top of the newest commit; what is wrong is told below
	defer k.proposals.alone(w.repo)()
	if w.still != nil {
		if err := w.still(ctx); err != nil {
			return nil, err
		}
	}
	there, err := k.makeRoom(ctx, mirror, w)
	if there != nil || err != nil {
		return there, err
	}
	p := proposal.Proposal{Repo: w.repo, Base: w.base, Branch: w.branch, Origin: w.origin, Standing: proposal.Opening, More: proposal.More{Title: w.title, Why: strings.TrimSpace(w.why), By: w.by, Author: w.author, Opened: time.Now()}}
	if _, err := mirror.Resolve(ctx, w.base); errors.Is(err, repo.ErrEmpty) { // there is nothing that it could be held against
		p.Branch = cmp.Or(w.branch, w.base)
		r, err := mirror.ProposeFiles(ctx, repo.Files{Base: w.base, Branch: p.Branch, Subject: w.title, Body: message(p), Files: w.draft.Files})
		if err != nil {
			return nil, fault(Invalid, "%v", err)
		}
		p.Standing, p.Commit = proposal.Merged, r.ID
		return &p, nil
	}
	if at, err := mirror.Branch(w.base); err == nil && at == "" {
		return nil, fault(Invalid, "%s is no branch of %s, so that nothing can be merged into it; a proposal is meant for a branch", w.base, w.repo)
	}
	if p.Branch == "" {
		if p.Branch, err = freeBranch(mirror, w); err != nil {
			return nil, err
		}
	}
	text, err := json.Marshal(w.draft)
	if err != nil {
		return nil, err
	}
	if p.Number, err = k.store.AddProposal(ctx, p, text); err != nil {
		return nil, err
	}
	return k.pushProposal(ctx, mirror, p)
}

// maxTitle is how long a title is at most, in bytes.
const maxTitle = 300

// makeRoom finds the proposal that a wish has already, and withdraws the one whose place it takes.
func (k *Keeper) makeRoom(ctx context.Context, mirror *repo.Mirror, w want) (*proposal.Proposal, error) {
	live, _, err := k.store.Proposals(ctx, record.FindProposals{Repo: w.repo, Live: true})
	if err != nil {
		return nil, err
	}
	for _, p := range live {
		same := p.Base == w.base && p.Origin.Key() == w.origin.Key()
		if same && p.Standing == proposal.Opening {
			return k.pushProposal(ctx, mirror, p)
		}
		if !same && (p.Base != w.base || !w.origin.Replaces(p.Origin)) {
			continue
		}
		if p, err = k.judge(ctx, mirror, p); err != nil {
			return nil, err
		}
		switch {
		case p.Over():
		case same && p.Standing == proposal.Open:
			return &p, nil
		default:
			says := "it was asked for again, on top of what " + p.Base + " says by now"
			if !same {
				says = "another took its place: " + w.title
			}
			if err := k.withdraw(ctx, mirror, p, logbook.Vigila, says); err != nil {
				return nil, err
			}
		}
	}
	return nil, nil
}

// message is what the commit of a proposal says below its title, and at its end.
func message(p proposal.Proposal, trailers ...string) string {
	var parts []string
	if p.Why != "" {
		parts = append(parts, p.Why)
	}
	if p.By != "" {
		parts = append(parts, "Asked for by "+p.By+".")
	}
	if len(trailers) > 0 {
		parts = append(parts, strings.Join(trailers, "\n"))
	}
	return strings.Join(parts, "\n\n") + "\n"
}

var notInBranch = regexp.MustCompile(`[^a-z0-9.]+`)

// freeBranch makes the name of a branch that there is not yet.
func freeBranch(mirror *repo.Mirror, w want) (string, error) {
	slug := strings.Trim(notInBranch.ReplaceAllString(strings.ToLower(w.title), "-"), "-.")
	name := "vigila/" + strings.Trim(strings.ReplaceAll(slug[:min(len(slug), 60)], "..", "."), "-.")
	for n := 1; ; n++ {
		try := name
		if n > 1 {
			try = fmt.Sprintf("%s-%d", name, n)
		}
		if id, err := mirror.Branch(try); err != nil || id == "" {
			return try, err
		}
	}
}

// pushProposal pushes the branch of a proposal that was written down; again it is the same branch.
func (k *Keeper) pushProposal(ctx context.Context, mirror *repo.Mirror, p proposal.Proposal) (*proposal.Proposal, error) {
	text, err := k.store.Draft(ctx, p.Number)
	if err != nil {
		return nil, err
	}
	var d draft
	if err := json.Unmarshal(text, &d); err != nil {
		return nil, fmt.Errorf("what proposal %d is to change can't be read: %w", p.Number, err)
	}
	mark := fmt.Sprintf("Proposal: %d of %s", p.Number, k.service)
	body := message(p, append(d.Trailers, mark)...)
	var r repo.Revision
	if d.At != "" {
		r, err = mirror.Propose(ctx, repo.Change{Base: p.Base, Branch: p.Branch, Path: d.Path, At: d.At, Subject: p.Title, Body: body, Mark: mark})
	} else {
		r, err = mirror.ProposeFiles(ctx, repo.Files{Base: p.Base, Branch: p.Branch, Subject: p.Title, Body: body, Mark: mark, Files: d.Files, Leaves: d.Leaves})
	}
	if err != nil {
		if mirror.Fetch(ctx) != nil { // whether it was pushed is not known
			return nil, fault(Unreachable, "proposal %d is written down, and its branch can't be pushed yet: %v. It is tried again", p.Number, err)
		}
		if dropped := k.store.DropProposal(ctx, p.Number); dropped != nil {
			return nil, errors.Join(err, dropped)
		}
		if errors.Is(err, repo.ErrSame) {
			return nil, fault(Conflict, "%s says so already; there is nothing to propose", p.Base)
		}
		return nil, fault(Invalid, "%v", err)
	}
	now := p.Opens(r.ID)
	if now.Wants, err = k.wanted(ctx, &now); err != nil {
		return nil, err
	}
	if err := k.putProposal(ctx, p, now); err != nil {
		return nil, err
	}
	if l, err := k.source(p.Repo); err == nil {
		l.LookSoon() // it has a branch that was not there
	}
	k.nudgeHost(p.Repo)
	return &now, nil
}

// ---- what people and the keeper ask for

func (k *Keeper) proposeBack(ctx context.Context, w ProposeBack, by Actor) (*proposal.Proposal, error) {
	p, err := k.one(w.Ward)
	if err != nil {
		return nil, err
	}
	if p.Broken != "" {
		return nil, fault(Conflict, "%s can't be read: %s", p.ID, p.Broken)
	}
	if _, ok := p.repo.Git(); !ok {
		return nil, fault(Invalid, "%s comes from chart repository %s, which takes no commits; change from.chart.version in the ward file", p.ID, p.repo.Name())
	}
	v := p.View()
	rev := v.Applied
	about := "what " + v.Cluster + " holds"
	if w.Entry > 0 {
		e, err := k.Entry(ctx, w.Ward, w.Entry)
		if err != nil {
			return nil, err
		}
		if e.Snapshot == "" || e.Revision == nil {
			return nil, fault(Invalid, "entry #%d of %s has no revision to go back to; choose a run (vigila logbook %s)", w.Entry, p.ID, p.ID)
		}
		rev, about = e.Revision, fmt.Sprintf("entry #%d", w.Entry)
	}
	if rev == nil {
		return nil, fault(Conflict, "%s has never been synced, so there is nothing to go back to", p.ID)
	}
	why := fmt.Sprintf("The files below %q are again as they were at %s, %s of ward %s.", cmp.Or(v.Ward.From.Path, "/"), rev.Title(), about, v.ID)
	if v.Rejected != "" && v.Revision != nil {
		why = fmt.Sprintf("%s was rejected: %s\n\n", v.Revision.Title(), v.Rejected) + why
	}
	out, err := k.propose(ctx, want{repo: p.repo.Name(), base: v.Ward.From.Ref, branch: cmp.Or(w.Branch, fmt.Sprintf("vigila/%s-back-to-%s", v.Ward.Name, rev.Short())), by: by.Name, author: by.approver(),
		origin: proposal.Origin{Kind: proposal.Back, Of: v.ID, Want: strings.TrimSpace(rev.ID + " " + w.Branch)}, title: fmt.Sprintf("Take %s back to %s", v.Ward.Name, rev.Title()), why: why,
		draft: draft{Path: v.Ward.From.Path, At: rev.ID}})
	return out, err
}

func (k *Keeper) proposeFiles(ctx context.Context, w ProposeFiles, by Actor) (*proposal.Proposal, error) {
	f := w.Files
	f.Base = cmp.Or(f.Base, "main")
	if len(f.Files) == 0 {
		return nil, fault(Invalid, "there are no files to write")
	}
	for _, x := range f.Files {
		if ward.IsRoster(x.Data) { // what can't be read is not proposed
			if _, err := ward.ParseDeclared(ward.From{Repo: w.Repo, Ref: f.Base}, x.Path, x.Data); err != nil {
				return nil, fault(Invalid, "%v", err)
			}
		}
	}
	return k.propose(ctx, want{repo: w.Repo, base: f.Base, branch: f.Branch, by: by.Name, author: by.approver(), title: f.Subject, why: f.Body,
		origin: proposal.Origin{Kind: proposal.Files, Of: f.Files[0].Path, Want: object.Hash([]any{f.Branch, fmt.Sprint(f.Files)})}, draft: draft{Files: f.Files}})
}

// Proposals lists proposals, and how many there are on all pages.
func (k *Keeper) Proposals(ctx context.Context, f record.FindProposals) ([]proposal.Proposal, int, error) {
	if f.Repo != "" {
		if _, err := k.source(f.Repo); err != nil {
			return nil, 0, err
		}
	}
	return k.store.Proposals(ctx, f)
}

// Proposal is a proposal by its number.
func (k *Keeper) Proposal(ctx context.Context, number int) (*proposal.Proposal, error) {
	p, err := k.store.Proposal(ctx, number)
	if errors.Is(err, record.ErrNone) {
		return nil, fault(NotFound, "there is no proposal %d; see vigila propose list", number)
	}
	return &p, err
}

// ApproveProposal notes that somebody has read a proposal as it is at a commit, and wants it.
type ApproveProposal struct {
	Number int
	Commit string // that was read; whatever it is at when empty
}

// MergeProposal makes a proposal part of its base.
type MergeProposal struct {
	Number int
	Commit string // as of ApproveProposal
	Why    string // gets over what stands against letting a lot in
}

// WithdrawProposal ends a proposal without its change: its branch is deleted when nobody else has written to it.
type WithdrawProposal struct {
	Number int
	Why    string
}

func proposalNamed(number int) string { return fmt.Sprint(number) }

func (w ApproveProposal) Subject() Subject {
	return Subject{"approve", "proposal", proposalNamed(w.Number)}
}
func (w MergeProposal) Subject() Subject {
	return Subject{"merge", "proposal", proposalNamed(w.Number)}
}
func (w WithdrawProposal) Subject() Subject {
	return Subject{"withdraw", "proposal", proposalNamed(w.Number)}
}

// current is a proposal that has not ended, as its repository is now; nobody else ends it meanwhile.
func (k *Keeper) current(ctx context.Context, number int, commit string, then func(*repo.Mirror, proposal.Proposal) error) (*proposal.Proposal, error) {
	p, err := k.Proposal(ctx, number)
	if err != nil {
		return nil, err
	}
	l, err := k.source(p.Repo)
	if err != nil {
		return nil, err
	}
	mirror, err := k.gitOf(p.Repo)
	if err != nil {
		return nil, err
	}
	if err := l.Look(ctx); err != nil {
		return nil, fault(Unreachable, "%v", err)
	}
	defer k.proposals.alone(p.Repo)()
	if p, err = k.Proposal(ctx, number); err != nil {
		return nil, err
	}
	now, err := k.judge(ctx, mirror, *p)
	if err == nil {
		now.Wants, err = k.wanted(ctx, &now) // as it is said now, whether the repository has moved or not
	}
	if err != nil {
		return nil, err
	}
	says, _ := now.Says()
	switch {
	case now.Over():
		return nil, fault(Conflict, "proposal %d has ended: %s", number, says)
	case now.Standing == proposal.Opening:
		return nil, fault(Conflict, "proposal %d is not there yet: %s", number, says)
	case commit != "" && !strings.HasPrefix(now.Commit, commit):
		return nil, fault(Conflict, "branch %s of proposal %d was changed since %.7s, it is at %.7s; look at it again: vigila propose show %d", now.Branch, number, commit, now.Commit, number)
	}
	if err := then(mirror, now); err != nil {
		return nil, err
	}
	return k.Proposal(ctx, number)
}

func (w ApproveProposal) do(ctx context.Context, k *Keeper, by Actor) (*proposal.Proposal, error) {
	return k.current(ctx, w.Number, w.Commit, func(_ *repo.Mirror, p proposal.Proposal) error {
		return k.putProposal(ctx, p, p.Approve(by.approver(), by.as(), time.Now()))
	})
}

func (w WithdrawProposal) do(ctx context.Context, k *Keeper, by Actor) (*proposal.Proposal, error) {
	return k.current(ctx, w.Number, "", func(mirror *repo.Mirror, p proposal.Proposal) error {
		return k.withdraw(ctx, mirror, p, by.String(), w.Why)
	})
}

func (k *Keeper) withdraw(ctx context.Context, mirror *repo.Mirror, p proposal.Proposal, by, why string) error {
	if err := k.putProposal(ctx, p, p.End(proposal.Withdrawn, time.Now(), by, why, "")); err != nil {
		return err
	}
	if k.hosted(p) && by != "" {
		if err := k.hostLoopOf(p.Repo).host.Close(ctx, p.Request.Number); err != nil {
			k.log.Warn("a proposal is withdrawn, and its request can't be closed", "proposal", p.Number, "request", p.Request.URL, "error", err)
		}
	}
	if p.Own {
		mirror.Drop(ctx, p.Branch, p.Commit)
	}
	return nil
}

func (w MergeProposal) do(ctx context.Context, k *Keeper, by Actor) (*proposal.Proposal, error) {
	p, err := k.Proposal(ctx, w.Number)
	if err != nil {
		return nil, err
	}
	against, note := k.laneSays(*p)
	w.Why = strings.TrimSpace(w.Why)
	switch {
	case p.Over():
	case len(against) > 0 && w.Why == "":
		return nil, fault(Conflict, "proposal %d is not merged: %s. To merge it all the same, say why: --why", w.Number, strings.Join(against, "; "))
	case w.Why != "" || len(against) > 0:
		note(ctx, w.Why)
	}
	return mergeProposal(ctx, k, w, by.String())
}

func mergeProposal(ctx context.Context, k *Keeper, w MergeProposal, by string) (*proposal.Proposal, error) {
	return k.current(ctx, w.Number, w.Commit, func(mirror *repo.Mirror, p proposal.Proposal) error {
		if p.Standing == proposal.Stale {
			return fault(Conflict, "proposal %d can't be merged: %s. Withdraw it, and ask for it again: vigila propose withdraw %d", p.Number, p.Said, p.Number)
		}
		if lacks := p.Lacks(); lacks != "" {
			return fault(Conflict, "proposal %d is not merged: %s. To approve it: vigila propose approve %d", p.Number, lacks, p.Number)
		}
		if k.unasked(p) {
			k.nudgeHost(p.Repo)
			return fault(Conflict, "proposal %d has no request on its code host yet, where it is merged by the host's rules; it is being opened, try again in a moment", p.Number)
		}
		if k.hosted(p) {
			return k.mergeThere(ctx, mirror, p, by, w.Why)
		}
		approved, _ := p.Approved()
		body := fmt.Sprintf("Merged by %s.\n", by)
		if w.Why != "" {
			body += "\n" + w.Why + "\n"
		}
		for _, who := range approved {
			body += fmt.Sprintf("\nApproved-by: %s", who)
		}
		r, err := mirror.Merge(ctx, repo.Merging{Base: p.Base, Branch: p.Branch, Head: p.Commit, Own: p.Own, Subject: fmt.Sprintf("Merge proposal %d: %s", p.Number, p.Title), Body: body + "\n"})
		var conflict *repo.ConflictError
		switch {
		case errors.As(err, &conflict):
			if _, err := k.judge(ctx, mirror, p); err != nil {
				return err
			}
			return fault(Conflict, "proposal %d can't be merged: %v", p.Number, err)
		case errors.Is(err, repo.ErrSame):
			r.ID = ""
		case err != nil:
			return fault(Conflict, "proposal %d can't be merged: %v", p.Number, err)
		}
		if l, err := k.source(p.Repo); err == nil {
			l.LookSoon()
		}
		return k.putProposal(ctx, p, p.End(proposal.Merged, time.Now(), by, "", r.ID))
	})
}

// endProposals ends what waits for a review in a repository that is not known any more; its branches are left.
func (k *Keeper) endProposals(ctx context.Context, repository string) error {
	defer k.proposals.alone(repository)()
	live, _, err := k.store.Proposals(ctx, record.FindProposals{Repo: repository, Live: true})
	for _, p := range live {
		err = errors.Join(err, k.putProposal(ctx, p, p.End(proposal.Withdrawn, time.Now(), "", "its repository is not known here any more", "")))
	}
	return err
}

// withdrawn lists the wishes of an origin whose proposals people have withdrawn, and what they said; the newest last.
func (k *Keeper) withdrawn(ctx context.Context, repository string, of proposal.Origin) (map[string]string, error) {
	all, _, err := k.store.Proposals(ctx, record.FindProposals{Repo: repository, Search: string(of.Kind) + " " + of.Of})
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, p := range slices.Backward(all) { // the oldest first
		if p.Origin.Kind != of.Kind || p.Origin.Of != of.Of {
			continue
		}
		delete(out, p.Origin.Want)
		if p.Standing == proposal.Withdrawn && p.EndedBy != logbook.Vigila {
			says, _ := p.Says()
			out[p.Origin.Want] = fmt.Sprintf("proposal %d, %s", p.Number, says)
		}
	}
	return out, nil
}
