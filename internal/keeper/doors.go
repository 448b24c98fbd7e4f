package keeper

import (
	"context"
	"errors"
	"time"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// Actor is who asks for a change: whoever has a token, or the files of a roster.
type Actor struct {
	Name   string // of the token; "" for a roster
	Roster string // "" for a token
	// Through is what a person asks through: the command line, the console, or the API.
	Through string
	// Person is who has signed in, or who made the token that asks; nothing for nobody that a provider knows.
	Person grant.Identity
	// Rights are what whoever asks may; nil for who is not asked: rosters, and the service itself.
	Rights *grant.Rights
}

func (a Actor) String() string {
	if a.Roster != "" {
		return "roster " + a.Roster
	}
	return a.Name
}

// Subject is what a wish is about.
type Subject struct {
	Verb string // what is asked for
	Of   string // ward, repo, cluster, roster, token
	Name string
}

// Wish is a change that somebody asks for, as a plain value.
type Wish[T any] interface {
	Subject() Subject
	do(ctx context.Context, k *Keeper, by Actor) (T, error)
}

// took is the answer to what a roster declares: most of the time it is so already.
type took struct {
	changed bool
	busy    bool // a run has to end first; it goes on by itself
}

// Do makes a change that a person or a roster asks for. Every one goes through here, whoever asks: this is where who did what is
// told. Errors are a *Fault where whoever asked can mend it.
func Do[T any](ctx context.Context, k *Keeper, by Actor, w Wish[T]) (T, error) {
	out, err := accounted(ctx, k, by, w)
	if t, quiet := any(out).(took); quiet && err == nil && !t.changed {
		return out, nil
	}
	about := w.Subject()
	log := k.log.With("what", about.Verb, about.Of, about.Name, "by", by.String())
	var f *Fault
	switch {
	case err == nil:
		log.Info("asked for, and done")
	case errors.As(err, &f) && f.Kind == Conflict && by.Roster != "": // a run goes on; it is tried again
		log.Debug("asked for, and put off", "why", f.Text)
	default:
		log.Info("asked for, and not done", "why", err.Error())
	}
	return out, err
}

// ---- of wards

// AddWards registers every ward of a ward file, or none of them. The answer is where they are placed.
type AddWards struct{ File, Text string }

// RemoveWard stops keeping a ward. Its objects stay, or are removed first: then it goes on by itself until the ward is gone. A
// name without a cluster means every placement.
type RemoveWard struct {
	Ward, Why string
	Dismantle bool
	Allow     []string // guards, by name
}

// StartRun begins a run. The answer is the number of its entry; 0 when nothing was to do.
type StartRun struct {
	Ward string
	Ask  Ask
}

// StopRun ends the run that goes on, once the calls that are on their way have been answered.
type StopRun struct{ Ward string }

// HoldWard stops automatic runs on a ward, for ever where Until is zero.
type HoldWard struct {
	Ward, Why string
	Until     time.Time
}

// ReleaseWard lets automatic runs go on.
type ReleaseWard struct{ Ward, Why string }

// RejectRevision marks a revision as bad for a ward, by anything git resolves to a commit.
type RejectRevision struct{ Ward, Revision, Why string }

// LiftRejection lifts the rejection of a revision, given by its hash or the beginning of it.
type LiftRejection struct{ Ward, Revision, Why string }

// ProposeBack writes a commit that takes the ward's path back to the revision of an entry (0: to what is applied now), on top of
// the branch that the ward follows, to a branch of its own.
type ProposeBack struct {
	Ward, Branch string
	Entry        int
}

// declareWard is a ward as a roster's file has it; letWardGo one that has left the files.
type (
	declareWard struct {
		ward ward.Ward
		of   record.Ward
	}
	letWardGo struct{ p *placement }
)

// ---- of what there is to keep wards of, and in

// AddRepo adds a repository, or changes one, after reading its refs. What is empty stays as it was when the address is the same;
// to another address no credentials are carried over.
type AddRepo struct {
	record.Repo
	Trust string // SSH: the fingerprint of the host's key to trust, SHA256:…
}

// ProposeFiles writes files to a branch of their own in a repository.
type ProposeFiles struct {
	Repo  string
	Files repo.Files
}

// RemoveRepo forgets a repository that no ward uses.
type RemoveRepo struct{ Name string }

// MakePushKey makes the key that signs pushes of a repository, a registry or a store, instead of the one before.
type MakePushKey struct {
	Of   record.Pushed
	Name string
}

// AddCluster adds a cluster, or changes one, after asking for its version.
type AddCluster struct{ record.Cluster }

// RemoveCluster forgets a cluster that no ward is kept in.
type RemoveCluster struct{ Name string }

// AddRoster adds a roster, or changes one, once its path has been found.
type AddRoster struct{ roster.Roster }

// RemoveRoster forgets a roster. The wards it declared are kept on, by nobody's declaration.
type RemoveRoster struct{ Name string }

// SyncRoster brings all wards of a roster up, and those of the rosters in it: each syncs as soon as those it waits for
// are in step and ready, whether it syncs by itself or asks. Allow lets guards of the roster itself pass.
type SyncRoster struct {
	Name  string
	Allow []string
}

// ForgetLeft forgets what was left behind of a placement: somebody has seen to it.
type ForgetLeft struct{ Placement string }

// What a roster's file says of a repository, a cluster and a roster in it.
type (
	declareRepo    struct{ ward.Repo }
	declareCluster struct{ ward.Cluster }
	declareStore   struct{ ward.Store }
	declareRoster  struct {
		parent roster.Roster
		ward.Roster
	}
)

// ---- of tokens

// MakeToken makes a token; its text is in the answer and nowhere else. Without a role it may what May says, and no more.
type MakeToken struct {
	Name, Role string
	May        []grant.Grant
	For        time.Duration
}

// EndToken ends a token at once.
type EndToken struct{ Name string }

// Nothing is the answer to a wish that has none.
type Nothing struct{}

// Subject says what is asked for.
func (w AddWards) Subject() Subject       { return Subject{"add", "file", w.File} }
func (w RemoveWard) Subject() Subject     { return Subject{"remove", "ward", w.Ward} }
func (w StartRun) Subject() Subject       { return Subject{string(w.Ask.Kind), "ward", w.Ward} }
func (w StopRun) Subject() Subject        { return Subject{"stop", "ward", w.Ward} }
func (w HoldWard) Subject() Subject       { return Subject{"hold", "ward", w.Ward} }
func (w ReleaseWard) Subject() Subject    { return Subject{"release", "ward", w.Ward} }
func (w RejectRevision) Subject() Subject { return Subject{"reject a revision", "ward", w.Ward} }
func (w LiftRejection) Subject() Subject  { return Subject{"lift a rejection", "ward", w.Ward} }
func (w ProposeBack) Subject() Subject    { return Subject{"propose going back", "ward", w.Ward} }
func (w declareWard) Subject() Subject    { return Subject{"declare", "ward", w.of.Name} }
func (w letWardGo) Subject() Subject      { return Subject{"let go", "ward", w.p.ID} }
func (w AddRepo) Subject() Subject        { return Subject{"add", "repo", w.Name} }
func (w RemoveRepo) Subject() Subject     { return Subject{"remove", "repo", w.Name} }
func (w ProposeFiles) Subject() Subject   { return Subject{"propose files", "repo", w.Repo} }
func (w MakePushKey) Subject() Subject {
	return Subject{"make a push key", map[record.Pushed]string{record.PushedRepo: "repo", record.PushedRegistry: "registry", record.PushedStore: "store"}[w.Of], w.Name}
}
func (w declareRepo) Subject() Subject    { return Subject{"declare", "repo", w.Name} }
func (w AddCluster) Subject() Subject     { return Subject{"add", "cluster", w.Name} }
func (w RemoveCluster) Subject() Subject  { return Subject{"remove", "cluster", w.Name} }
func (w declareStore) Subject() Subject   { return Subject{"declare", "store", w.Name} }
func (w declareCluster) Subject() Subject { return Subject{"declare", "cluster", w.Name} }
func (w AddRoster) Subject() Subject      { return Subject{"add", "roster", w.Name} }
func (w RemoveRoster) Subject() Subject   { return Subject{"remove", "roster", w.Name} }
func (w SyncRoster) Subject() Subject     { return Subject{"bring up", "roster", w.Name} }
func (w declareRoster) Subject() Subject  { return Subject{"declare", "roster", w.Name} }
func (w ForgetLeft) Subject() Subject     { return Subject{"forget what was left", "ward", w.Placement} }
func (w MakeToken) Subject() Subject      { return Subject{"make", "token", w.Name} }
func (w EndToken) Subject() Subject       { return Subject{"end", "token", w.Name} }

func (w AddWards) do(ctx context.Context, k *Keeper, _ Actor) ([]string, error) {
	return k.addFile(ctx, w.File, w.Text)
}

func (w RemoveWard) do(ctx context.Context, k *Keeper, by Actor) (Nothing, error) {
	if err := loop.KnownGuards(w.Allow, plan.GuardEmpty, plan.GuardMass); err != nil {
		return Nothing{}, err
	}
	return Nothing{}, k.remove(ctx, w.Ward, logbook.Leaving{By: by.Name, Why: w.Why, Dismantle: w.Dismantle, Allow: w.Allow})
}

func (w StartRun) do(ctx context.Context, k *Keeper, by Actor) (int, error) {
	if err := w.Ask.Check(); err != nil {
		return 0, err
	}
	if err := w.Ask.Reasoned(); err != nil {
		return 0, err
	}
	w.Ask.By = by.Name
	return k.start(ctx, w.Ward, w.Ask)
}

func (w StopRun) do(ctx context.Context, k *Keeper, by Actor) (Nothing, error) {
	return Nothing{}, k.stop(ctx, w.Ward, by.Name)
}

func (w HoldWard) do(ctx context.Context, k *Keeper, by Actor) (*standing.View, error) {
	if !w.Until.IsZero() && w.Until.Before(time.Now()) {
		return nil, fault(Invalid, "the end of the hold, %s, is in the past", w.Until.UTC().Format(time.RFC3339))
	}
	return k.wantOne(ctx, w.Ward, loop.Hold{By: by.Name, Reason: w.Why, Until: w.Until})
}

func (w ReleaseWard) do(ctx context.Context, k *Keeper, by Actor) (*standing.View, error) {
	return k.wantOne(ctx, w.Ward, loop.Release{By: by.Name, Reason: w.Why})
}

// wantOne grants a wish about a ward, and returns it as it stands then.
func (k *Keeper) wantOne(ctx context.Context, name string, w loop.Wish) (*standing.View, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	if _, err := p.want(ctx, w); err != nil {
		return nil, err
	}
	return p.fresh(ctx)
}

func (w RejectRevision) do(ctx context.Context, k *Keeper, by Actor) (*standing.View, error) {
	return k.reject(ctx, w.Ward, w.Revision, by.Name, w.Why)
}

func (w LiftRejection) do(ctx context.Context, k *Keeper, by Actor) (*standing.View, error) {
	return k.wantOne(ctx, w.Ward, loop.Lift{Revision: w.Revision, By: by.Name, Why: w.Why})
}

func (w ProposeBack) do(ctx context.Context, k *Keeper, by Actor) (*proposal.Proposal, error) {
	return k.proposeBack(ctx, w, by)
}

func (w declareWard) do(ctx context.Context, k *Keeper, _ Actor) (took, error) {
	return took{changed: true}, k.put(ctx, w.ward, w.of, "the ward no longer goes there")
}

func (w letWardGo) do(ctx context.Context, k *Keeper, by Actor) (took, error) {
	return took{changed: true}, k.leave(ctx, w.p, "it left roster "+by.Roster)
}

func (w AddRepo) do(ctx context.Context, k *Keeper, _ Actor) (Repo, error) { return k.addRepo(ctx, w) }

func (w RemoveRepo) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	return Nothing{}, k.removeRepo(ctx, w.Name)
}

func (w ProposeFiles) do(ctx context.Context, k *Keeper, by Actor) (*proposal.Proposal, error) {
	return k.proposeFiles(ctx, w, by)
}

func (w MakePushKey) do(ctx context.Context, k *Keeper, _ Actor) (string, error) {
	return k.makePushKey(ctx, w.Of, w.Name)
}

func (w declareRepo) do(ctx context.Context, k *Keeper, by Actor) (took, error) {
	changed, err := k.declareRepo(ctx, by.Roster, w.Repo)
	return took{changed: changed}, err
}

func (w AddCluster) do(ctx context.Context, k *Keeper, _ Actor) (Cluster, error) {
	return k.addCluster(ctx, w.Cluster)
}

func (w RemoveCluster) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	return Nothing{}, k.removeCluster(ctx, w.Name)
}

func (w declareStore) do(ctx context.Context, k *Keeper, by Actor) (took, error) {
	changed, err := k.declareStore(ctx, by.Roster, w.Store)
	return took{changed: changed}, err
}

func (w declareCluster) do(ctx context.Context, k *Keeper, by Actor) (took, error) {
	return k.declareCluster(ctx, by.Roster, w.Cluster)
}

func (w AddRoster) do(ctx context.Context, k *Keeper, _ Actor) (Roster, error) {
	return k.addRoster(ctx, w.Roster)
}

func (w RemoveRoster) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	return Nothing{}, k.removeRoster(ctx, w.Name)
}

func (w SyncRoster) do(ctx context.Context, k *Keeper, by Actor) (Roster, error) {
	if err := loop.KnownGuards(w.Allow, roster.MassRemoval); err != nil {
		return Roster{}, err
	}
	return k.syncRoster(ctx, w.Name, by.Name, w.Allow)
}

func (w declareRoster) do(ctx context.Context, k *Keeper, _ Actor) (took, error) {
	changed, err := k.declareRoster(ctx, w.parent, w.Roster)
	return took{changed: changed}, err
}

func (w ForgetLeft) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	known, err := k.store.RemoveLeftBehind(ctx, w.Placement)
	if err == nil && !known {
		return Nothing{}, fault(NotFound, "nothing was left behind of %s", w.Placement)
	}
	return Nothing{}, err
}
