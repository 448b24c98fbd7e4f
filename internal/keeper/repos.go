package keeper

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io"
	"maps"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"vigila.dev/vigila/internal/charts"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/loopback"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// Repo is a known repository as it was last read.
type Repo struct {
	Name, URL, User string
	Wards           int
	Rosters         int
	Branches        []string // charts, of a chart repository
	Repository      standing.AsOf
	More            record.RepoMore
	SignedIn        bool            // with credentials
	WithKey         bool            // over SSH
	Approvals       proposal.Wanted // that its proposals need before they are merged
	Warning         string          // about credentials that end soon, or its code host
}

func repoOf(l *sources.Loop) Repo {
	s := l.State()
	r := s.Repo
	return Repo{Name: r.Name, URL: r.URL, User: r.User, Wards: s.Subscribers, Branches: s.Names, Repository: s.AsOf, More: r.RepoMore, SignedIn: r.Password != "" || r.Key != "", WithKey: r.Key != ""}
}

// house is what the loops of repositories need.
func (k *Keeper) house() *sources.House {
	return &sources.House{Ctx: k.ctx, Dir: k.opts.MirrorDir, Log: k.log, Spawn: k.spawn, Turn: k.fetches.Take, Keep: k.store.PutRepo, Looked: k.repoLooked, At: k.mirrorAt,
		Changed: func(name string) { k.broker.send(Note{"repo", name}) },
		Fetched: func(name string, took time.Duration, err error) {
			k.metrics.fetches.WithLabelValues(name, result(err)).Observe(took.Seconds())
		}}
}

func result(err error) string {
	if err != nil {
		return "failed"
	}
	return "ok"
}

func (k *Keeper) openRepo(r record.Repo) error {
	l, err := sources.Open(k.house(), r)
	if err != nil {
		return err
	}
	k.mu.Lock()
	k.repos[r.Name] = l
	k.mu.Unlock()
	l.Start()
	return nil
}

// mirrorAt is the mirror of the known repository at an address; nil when there is none.
func (k *Keeper) mirrorAt(address string) *repo.Mirror {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, l := range k.repos {
		if m, ok := l.Git(); ok && repo.SameURL(l.URL(), address) {
			return m
		}
	}
	return nil
}

// checkRepo refuses what a repository can't be like, whoever says so.
func (k *Keeper) checkRepo(r record.Repo) error {
	if err := ward.Name(r.Name); err != nil {
		return fault(Invalid, "name: %v", err)
	}
	check := func() error { return repo.CheckURL(r.URL, k.opts.AllowLocalRepos) }
	if r.Charts {
		check = func() error { return charts.CheckURL(r.URL) }
	}
	if err := check(); err != nil {
		return fault(Invalid, "%v", err)
	}
	if r.Password != "" && loopback.InTheClear(r.URL) {
		return fault(Invalid, "%s is not https: the credentials would go over the network as they are", r.URL)
	}
	if r.Signers != "" {
		if err := repo.CheckSigners(r.Signers); err != nil {
			return fault(Invalid, "%v", err)
		}
	}
	if r.Key != "" {
		if _, err := repo.ParseKey(r.Key, r.Passphrase); err != nil {
			return fault(Invalid, "%v", err)
		}
	}
	if r.SignKey != "" {
		if _, err := repo.ParseKey(r.SignKey, ""); err != nil {
			return fault(Invalid, "the key that signs commits: %v; give one without a passphrase, it is stored encrypted", err)
		}
	}
	if err := repo.CheckKnownHosts(r.KnownHosts); err != nil {
		return fault(Invalid, "%v", err)
	}
	return nil
}

func (k *Keeper) addRepo(ctx context.Context, n AddRepo) (Repo, error) {
	r := n.Repo
	r.URL, r.Person = repo.CleanURL(r.URL), true
	r.Charts = r.Charts || strings.HasPrefix(r.URL, "oci://")
	k.mu.RLock()
	loop := k.repos[r.Name]
	k.mu.RUnlock()
	var was record.Repo
	if loop != nil {
		old := loop.Record()
		was = old
		if old.Charts != r.Charts && loop.State().Subscribers > 0 {
			return Repo{}, fault(Conflict, "%s is used by %d wards; it can't change between git and charts", r.Name, loop.State().Subscribers)
		}
		if old.URL == r.URL {
			keep := func(into *string, was string) {
				if *into == "" {
					*into = was
				}
			}
			if r.Password == "" && r.Key == "" {
				r.Password, r.Key, r.Passphrase = old.Password, old.Key, old.Passphrase
				keep(&r.User, old.User)
				r.Bearer = r.Bearer || old.Bearer
			}
			keep(&r.SignKey, old.SignKey)
			keep(&r.CA, old.CA)
			keep(&r.KnownHosts, old.KnownHosts)
			keep(&r.Signers, old.Signers)
		}
		r.Roster, r.About = old.Roster, old.About
	}
	if err := k.checkRepo(r); err != nil {
		return Repo{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if n.Trust != "" {
		line, err := repo.Trust(ctx, r.URL, n.Trust)
		if err != nil {
			return Repo{}, fault(Invalid, "%v", err)
		}
		r.KnownHosts = line
	}
	if r.Charts {
		if err := charts.Open(k.opts.MirrorDir, sources.OfCharts(r)).Refresh(ctx); err != nil {
			return Repo{}, fault(Invalid, "%v", err)
		}
	} else {
		found, err := repo.Check(ctx, sources.OfGit(r))
		if err != nil {
			return Repo{}, fault(Invalid, "%v", err)
		}
		r.Expires = found.Expires
	}
	return k.putRepo(ctx, r, loop, was)
}

// putRepo keeps a repository that was looked at.
func (k *Keeper) putRepo(ctx context.Context, r record.Repo, loop *sources.Loop, was record.Repo) (Repo, error) {
	loop, err := k.placeRepo(ctx, r, loop, was)
	if err != nil {
		return Repo{}, err
	}
	_ = loop.Look(ctx) // what is wrong is part of the answer
	k.nudgeRosters()   // one of them may have waited for it
	k.broker.send(Note{"repo", r.Name})
	return repoOf(loop), nil
}

// sameTrust tells whether two say the same of where a repository is, who declares it, and whom it trusts.
func sameTrust(a, b record.Repo) bool {
	return a.URL == b.URL && a.Roster == b.Roster && a.Signers == b.Signers && a.SignKey == b.SignKey && a.KnownHosts == b.KnownHosts && a.Password == b.Password && a.Key == b.Key
}

// placeRepo gives a repository its loop; nothing is fetched while changes wait.
func (k *Keeper) placeRepo(ctx context.Context, r record.Repo, loop *sources.Loop, was record.Repo) (*sources.Loop, error) {
	k.changing.Lock()
	defer k.changing.Unlock()
	k.mu.RLock()
	now := k.repos[r.Name]
	k.mu.RUnlock()
	if now != loop || loop != nil && !sameTrust(loop.Record(), was) { // whom it trusts may be said by somebody else while its server is asked
		return nil, fault(Conflict, "repository %s was changed meanwhile; say it again", r.Name)
	}
	if err := k.store.PutRepo(ctx, r); err != nil {
		return nil, err
	}
	if loop != nil && loop.Record().Charts != r.Charts {
		loop.End()
		loop.Close()
		loop = nil
	}
	if loop != nil {
		loop.Change(r)
	} else if err := k.openRepo(r); err != nil {
		return nil, err
	} else {
		k.mu.RLock()
		loop = k.repos[r.Name]
		k.mu.RUnlock()
	}
	return loop, nil
}

func (k *Keeper) makePushKey(ctx context.Context, of record.Pushed, name string) (string, error) {
	if _, err := k.Pushes(ctx, of, name); err != nil { // there is none
		return "", err
	}
	key := rand.Text()
	return key, k.store.SetPushKey(ctx, of, name, []byte(key))
}

// Signature is how a push is signed: as its headers say.
type Signature struct {
	HMAC  string // HMAC-SHA256 of the body, in hex, perhaps after "sha256="
	Token string // the key itself
	// Of the Standard Webhooks specification (https://www.standardwebhooks.com): the signature is over id, time and body.
	ID, Time, Standard string
}

// pushAge is how old a push that names its time may be.
const pushAge = 5 * time.Minute

// Pushes is how a server tells of pushes.
type Pushes struct {
	Key  bool      // there is a key that signs them
	Last time.Time // when the last one was taken since the service started; zero when none was
}

// Pushes tells how the server of a repository, a registry or a store tells of pushes.
func (k *Keeper) Pushes(ctx context.Context, of record.Pushed, name string) (Pushes, error) {
	out := Pushes{Key: k.TakesPushes(ctx, of, name)}
	switch of {
	case record.PushedRegistry:
		r, err := k.registry(name)
		if at, ok := k.pushed.Load(r.Name); ok {
			out.Last = at.(time.Time)
		}
		return out, err
	case record.PushedStore:
		l, err := k.storeNamed(name)
		if err == nil {
			out.Last = l.pushedAt()
		}
		return out, err
	}
	l, err := k.source(name)
	if err == nil {
		out.Last = l.Pushed()
	}
	return out, err
}

// TakesPushes tells whether there is a key for pushes of a repository, a registry or a store.
func (k *Keeper) TakesPushes(ctx context.Context, of record.Pushed, name string) bool {
	if ward.Name(name) != nil {
		return false
	}
	_, err := k.store.PushKey(ctx, of, name)
	return err == nil
}

// Push takes a push: when it is signed with the key of the repository, the registry or the store, that is looked at now. false tells
// that it is not signed so; it says nothing about whether there is such a one. The body is read through and never kept.
func (k *Keeper) Push(ctx context.Context, of record.Pushed, name string, body io.Reader, s Signature) (bool, error) {
	key, err := k.store.PushKey(ctx, of, name)
	if errors.Is(err, record.ErrNone) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if ok, err := s.signed(key, body); err != nil || !ok {
		return false, err
	}
	switch of {
	case record.PushedRegistry:
		return true, k.pushedImage(name)
	case record.PushedStore:
		l, err := k.storeNamed(name)
		if err != nil {
			return false, err
		}
		l.push()
		return true, nil
	}
	l, err := k.source(name)
	if err != nil {
		return false, err
	}
	l.Push()
	k.nudgeHost(name) // a code host tells of its requests in the same way
	return true, nil
}

// signed reads the body to its end; errors are those of reading.
func (s Signature) signed(key []byte, body io.Reader) (bool, error) {
	h := hmac.New(sha256.New, key)
	if s.HMAC == "" && s.Standard != "" {
		h.Write([]byte(s.ID + "." + s.Time + "."))
	}
	if _, err := io.Copy(h, body); err != nil {
		return false, err
	}
	return s.is(key, h.Sum(nil)), nil
}

// is tells whether the headers say what a key makes of a body.
func (s Signature) is(key, want []byte) bool {
	switch {
	case s.HMAC != "":
		got, err := hex.DecodeString(strings.TrimPrefix(strings.TrimSpace(s.HMAC), "sha256="))
		return err == nil && hmac.Equal(got, want)
	case s.Standard != "":
		sent, err := strconv.ParseInt(s.Time, 10, 64)
		if err != nil || time.Since(time.Unix(sent, 0)).Abs() > pushAge {
			return false
		}
		for _, one := range strings.Fields(s.Standard) {
			version, text, _ := strings.Cut(one, ",")
			if got, err := base64.StdEncoding.DecodeString(text); err == nil && version == "v1" && hmac.Equal(got, want) {
				return true
			}
		}
		return false
	}
	return s.Token != "" && hmac.Equal([]byte(s.Token), key)
}

// LookAtRepo looks at a repository now.
func (k *Keeper) LookAtRepo(ctx context.Context, name string) (Repo, error) {
	l, err := k.source(name)
	if err != nil {
		return Repo{}, err
	}
	_ = l.Look(ctx) // what is wrong is in the answer
	for _, r := range k.Repos() {
		if r.Name == name {
			return r, nil
		}
	}
	return repoOf(l), nil
}

func (k *Keeper) source(name string) (*sources.Loop, error) {
	k.mu.RLock()
	l := k.repos[name]
	k.mu.RUnlock()
	if l == nil {
		return nil, k.unknownRepo(name)
	}
	return l, nil
}

// endsSoon tells whether a credential that ends at a time wants a person.
func endsSoon(at time.Time) bool { return !at.IsZero() && time.Until(at) < soon }

// soon is how long before its end a credential is spoken of.
const soon = 14 * 24 * time.Hour

// Repos lists the known repositories by name.
func (k *Keeper) Repos() []Repo {
	k.mu.RLock()
	defer k.mu.RUnlock()
	out := make([]Repo, 0, len(k.repos))
	for _, r := range k.repos {
		one := repoOf(r)
		for _, l := range k.rosters {
			if l.record().Repo == one.Name {
				one.Rosters++
			}
		}
		if e := one.More.Expires; endsSoon(e) {
			one.Warning = "its token ends on " + e.UTC().Format("2 January 2006") + "; give a new one: vigila repo add " + one.Name + " " + one.URL + " --user USER --password-file FILE"
		}
		if l := k.hostLoopOf(one.Name); l != nil && one.Warning == "" {
			one.Warning = l.warning()
		}
		out = append(out, one)
	}
	wanted, err := k.store.Approvals(k.ctx)
	if err != nil {
		k.log.Error("which approvals are wanted can't be read; nothing is merged until it can", "error", err)
	}
	for i := range out {
		out[i].Approvals = wanted[out[i].Name]
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

func (k *Keeper) removeRepo(ctx context.Context, name string) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	r, err := k.source(name)
	if err != nil {
		return err
	}
	if n := r.State().Subscribers; n > 0 {
		wards := "a ward"
		if n > 1 {
			wards = strconv.Itoa(n) + " wards"
		}
		return fault(Conflict, "repository %s is used by %s; remove or change what uses it first", name, wards)
	}
	k.mu.RLock()
	for _, l := range k.rosters {
		if conf := l.record(); conf.Repo == name {
			defer k.mu.RUnlock()
			return fault(Conflict, "repository %s holds roster %s; remove that first: vigila roster remove %s", name, conf.Name, conf.Name)
		}
	}
	k.mu.RUnlock()
	for _, l := range k.storeLoops() {
		if l.conf.Kind == record.FilesStore && l.conf.Repo == name {
			return fault(Conflict, "repository %s holds the values of store %s; remove that first: vigila store remove %s", name, l.conf.Name, l.conf.Name)
		}
	}
	for _, f := range k.Follows() {
		if f.Repo == name || f.Chart.Repo == name {
			return fault(Conflict, "repository %s is used by follow %s; take it out there first", name, f.Name)
		}
	}
	if err := k.store.RemoveRepo(ctx, name); err != nil {
		return err
	}
	if err := k.endProposals(ctx, name); err != nil {
		return err
	}
	if err := k.store.RemoveHost(ctx, name); err != nil {
		return err
	}
	k.forgetHost(name)
	k.mu.Lock()
	delete(k.repos, name)
	k.mu.Unlock()
	r.End()
	k.broker.send(Note{"repo", name})
	return r.Remove()
}

func (k *Keeper) unknownRepo(name string) *Fault {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return unknown("repository", name, slices.Collect(maps.Keys(k.repos)), "vigila repo add NAME URL")
}
