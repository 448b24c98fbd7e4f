package keeper

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/loopback"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/signin"
)

// How long a session is taken where the settings don't say.
const (
	sessionIdle = 8 * time.Hour
	sessionFor  = 24 * time.Hour
)

// flowFor is how long the way to a provider and back may take.
const flowFor = 10 * time.Minute

// BackPath is where in the console's address providers send people back to.
const BackPath = "/sign-in/back"

// sessionText is what begins the text of a session, in place of a token's.
const sessionText = "vigila_session_"

// people are who may sign in by what, and the command lines that wait for somebody to let them in.
type people struct {
	mu        sync.Mutex
	providers []record.Provider           // by name
	teams     []grant.Team                // by name
	asked     map[string]*signin.Provider // those that have said where they are asked what
	devices   devices
	known     bool // providers and teams were read
}

func newPeople() people {
	return people{asked: map[string]*signin.Provider{}, devices: newDevices()}
}

// Who is whoever asks: somebody who has signed in, or what a token was made for.
type Who struct {
	Name    string
	Rights  grant.Rights
	Ends    time.Time // zero for a token that does not end by itself
	Session string    // the id of the session; "" for a token
	// Provider is by what somebody has signed in; "" for a token, and for a session that one has opened.
	Provider string
	unmet    bool // they have not signed in yet, so that nobody knows their groups
	token    record.Token
	session  record.Session
}

// Person is who has signed in, or who made the token; nothing for nobody that a provider knows.
func (w Who) Person() grant.Identity {
	if w.Provider != "" {
		return w.session.SessionMore.Who
	}
	return w.token.Maker
}

// Who finds out whose a token or a session is, by its text. Errors are record.ErrNone for one that is not taken, whatever the reason.
func (k *Keeper) Who(ctx context.Context, text string) (Who, error) {
	text = strings.TrimSpace(text)
	if !strings.HasPrefix(text, sessionText) {
		return k.whoseToken(ctx, HashToken(text))
	}
	x, err := k.store.SessionByHash(ctx, HashToken(text))
	if err != nil {
		return Who{}, err
	}
	return k.whoseSession(ctx, x)
}

func (k *Keeper) whoseToken(ctx context.Context, hash string) (Who, error) {
	t, err := k.store.TokenByHash(ctx, hash)
	if err == nil && Ended(t) {
		err = record.ErrNone
	}
	if err == nil && t.Maker.Provider != "" {
		if err := k.readPeople(ctx); err != nil { // what its maker may is not known then, which is not nothing
			return Who{}, err
		}
	}
	return k.whoIs(t), err
}

// whoIs is whoever has a token: they may no more than who made it may by now.
func (k *Keeper) whoIs(t record.Token) Who {
	w := Who{Name: t.Name, Rights: grant.Rights{Role: grant.Role(t.Role)}, Ends: t.Expires, token: t}
	for _, g := range t.May {
		w.Rights.Grants = append(w.Rights.Grants, grant.Held{Grant: g, By: "token " + t.Name})
	}
	if t.Maker.Provider != "" {
		maker := k.person(t.Maker)
		w.Rights = w.Rights.Within(maker.Rights, maker.Name)
	}
	return w
}

// whoseSession tells whose a session is by now: their role is what the provider, or the token, gives today.
func (k *Keeper) whoseSession(ctx context.Context, x record.Session) (Who, error) {
	idle, _ := k.sessionSpans()
	if now := time.Now(); !now.Before(x.Ends) || now.Sub(x.Used) > idle+time.Minute { // it is noted to the minute
		return Who{}, record.ErrNone
	}
	if x.Token != "" {
		w, err := k.whoseToken(ctx, x.Token)
		if w.Session, w.session = x.ID(), x; w.Ends.IsZero() || x.Ends.Before(w.Ends) {
			w.Ends = x.Ends
		}
		return w, err
	}
	if err := k.readPeople(ctx); err != nil { // who it is is not known then, which is not nobody
		return Who{}, err
	}
	w := k.person(x.SessionMore.Who)
	if w.Provider == "" || w.Rights.None() {
		return Who{}, record.ErrNone
	}
	w.Ends, w.Session, w.session = x.Ends, x.ID(), x
	return w, nil
}

func (k *Keeper) sessionSpans() (idle, whole time.Duration) {
	idle, whole = k.opts.SessionIdle, k.opts.SessionFor
	if idle <= 0 {
		idle = sessionIdle
	}
	if whole <= 0 {
		whole = sessionFor
	}
	return idle, whole
}

// SessionLasts is how long a session is taken at most.
func (k *Keeper) SessionLasts() time.Duration {
	_, whole := k.sessionSpans()
	return whole
}

// Used notes that somebody asks for something.
func (k *Keeper) Used(ctx context.Context, w Who) {
	var err error
	if w.Session != "" {
		err = k.store.UseSession(ctx, w.session, time.Now())
	} else {
		err = k.store.UseToken(ctx, w.token, time.Now())
	}
	if err != nil {
		k.log.Warn("when somebody was here last can't be written", "who", w.Name, "error", err)
	}
}

// openSession opens a session for somebody; its text is in the answer and nowhere else.
type openSession struct{ record.SessionMore }

func (w openSession) Subject() Subject { return Subject{"sign in", "session", w.Through} }

func (openSession) came(text string) details { return details{"session": HashToken(text)[:12]} }

func (w openSession) do(ctx context.Context, k *Keeper, _ Actor) (string, error) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	text := sessionText + base64.RawURLEncoding.EncodeToString(b)
	now := time.Now()
	_, whole := k.sessionSpans()
	if i := w.SessionMore.Who; i.Provider != "" {
		if err := k.store.KnowMaker(ctx, i); err != nil {
			return "", err
		}
	}
	return text, k.store.AddSession(ctx, record.Session{Hash: HashToken(text), Made: now, Used: now, Ends: now.Add(whole), SessionMore: w.SessionMore})
}

// OpenSession opens a session for whoever has a token, for a browser that is not to keep the token itself.
func (k *Keeper) OpenSession(ctx context.Context, w Who, from string) (string, error) {
	if w.Session != "" {
		return "", fault(Invalid, "this is a session already; a token opens one")
	}
	return Do(ctx, k, Actor{Name: w.Name, Through: "console"}, openSession{record.SessionMore{Token: w.hash(), Through: "console", From: from}})
}

func (w Who) hash() string { return w.token.Hash }

// BeginSignIn is where a browser is sent to sign in by a provider, and the flow that it keeps meanwhile, sealed.
func (k *Keeper) BeginSignIn(ctx context.Context, name, to string) (address, flow string, err error) {
	p, err := k.askable(ctx, name)
	if err != nil {
		return "", "", err
	}
	f, address := p.Begin(to, time.Now())
	text, err := json.Marshal(f)
	if err != nil {
		return "", "", err
	}
	sealed, err := k.store.Vault().Seal(text)
	return address, base64.RawURLEncoding.EncodeToString(sealed), err
}

// SignedIn is somebody who has come back from a provider.
type SignedIn struct {
	Text string // of their session
	To   string // path in the console that they asked for
}

// CameBack is what a provider gives somebody who comes back.
type CameBack struct{ State, Code, Problem string }

// FinishSignIn opens a session for whoever comes back from a provider with what it gave them. Errors are a *Fault with what went wrong.
func (k *Keeper) FinishSignIn(ctx context.Context, flow string, back CameBack, from string) (SignedIn, error) {
	var f signin.Flow
	sealed, err := base64.RawURLEncoding.DecodeString(flow)
	if err == nil {
		sealed, err = k.store.Vault().Open(sealed)
	}
	if err == nil {
		err = json.Unmarshal(sealed, &f)
	}
	switch {
	case err != nil || !f.Same(back.State):
		return SignedIn{}, fault(Invalid, "this sign-in was not begun in this browser; begin again here")
	case time.Since(f.Made) > flowFor:
		return SignedIn{}, fault(Invalid, "the sign-in took longer than %d minutes; begin again", int(flowFor.Minutes()))
	case back.Problem != "": // it says so itself: the state is known to nobody else
		return SignedIn{}, fault(Invalid, "provider %s signs nobody in: %.300s", f.Provider, back.Problem)
	case back.Code == "":
		return SignedIn{}, fault(Invalid, "provider %s sends nobody back; begin again", f.Provider)
	}
	p, err := k.askable(ctx, f.Provider)
	if err != nil {
		return SignedIn{}, err
	}
	who, err := p.Finish(ctx, f, back.Code)
	if err != nil {
		return SignedIn{}, fault(Invalid, "%v", err)
	}
	if k.person(who).Rights.None() {
		groups := "none"
		if len(who.Groups) > 0 {
			groups = strings.Join(who.Groups, ", ")
		}
		return SignedIn{}, fault(Invalid, "%s may nothing here: neither this name nor a group of theirs (%s) has a role, or is in a team. An admin gives one (vigila provider add, vigila team add)", who.Title(), groups)
	}
	text, err := Do(ctx, k, Actor{Name: who.Title(), Through: "console"}, openSession{record.SessionMore{Who: who, Through: "console", From: from}})
	return SignedIn{text, f.To}, err
}

// ---- providers

type (
	// AddProvider adds a provider, or changes one, once it has said where it is asked. A secret that is empty stays as it was.
	AddProvider struct {
		record.Provider
		NoSecret bool // Vigila is a public client there
	}
	// RemoveProvider forgets a provider; who signed in by it is signed out.
	RemoveProvider struct{ Name string }
	// EndSession signs somebody out.
	EndSession struct {
		ID string
		By Who
	}
)

// Subject says what is asked for.
func (w AddProvider) Subject() Subject    { return Subject{"add", "provider", w.Name} }
func (w RemoveProvider) Subject() Subject { return Subject{"remove", "provider", w.Name} }
func (w EndSession) Subject() Subject     { return Subject{"end", "session", w.ID} }

func configOf(x record.Provider) signin.Config {
	return signin.Config{Name: x.Name, Issuer: x.Issuer, Client: x.Client, Secret: x.Secret, Back: strings.TrimSuffix(x.At, "/") + BackPath, CA: x.CA, Scopes: x.Scopes, Names: x.Names, Groups: x.Groups}
}

func (w AddProvider) do(ctx context.Context, k *Keeper, _ Actor) (record.Provider, error) {
	x := w.Provider
	if err := ward.Name(x.Name); err != nil {
		return x, fault(Invalid, "name: %v", err)
	}
	old, known := k.providerNamed(x.Name)
	if known && x.Secret == "" && !w.NoSecret && old.Issuer == x.Issuer && old.Client == x.Client {
		x.Secret = old.Secret
	}
	if x.Made = old.Made; x.Made.IsZero() {
		x.Made = time.Now()
	}
	at, err := url.Parse(x.At)
	if err != nil || at.Host == "" || at.Scheme != "https" && at.Scheme != "http" || strings.Trim(at.Path, "/") != "" || at.RawQuery != "" || at.Fragment != "" || at.User != nil {
		return x, fault(Invalid, "console: %q is not where browsers find this service; write it as https://vigila.brindle.example", x.At)
	}
	if loopback.InTheClear(x.At) {
		return x, fault(Invalid, "console: who signs in at %s can be read on the way; give the service a certificate (vigila serve --tls-cert), or something in front of it that has one", x.At)
	}
	if err := x.Check(); err != nil {
		return x, fault(Invalid, "%v", err)
	}
	if err := configOf(x).Check(); err != nil {
		return x, fault(Invalid, "%v", err)
	}
	asked, err := signin.Discover(ctx, configOf(x))
	if err != nil {
		return x, fault(Unreachable, "%v", err)
	}
	if err := k.store.PutProvider(ctx, x); err != nil {
		return x, err
	}
	if err := k.readProviders(ctx); err != nil {
		return x, err
	}
	k.people.mu.Lock()
	k.people.asked[x.Name] = asked
	k.people.mu.Unlock()
	k.nudgeRosters() // a team may have waited for it
	return x, nil
}

func (w RemoveProvider) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	if _, err := k.provider(w.Name); err != nil {
		return Nothing{}, err
	}
	if err := k.store.RemoveProvider(ctx, w.Name); err != nil {
		return Nothing{}, err
	}
	return Nothing{}, k.readProviders(ctx)
}

// readPeople reads who may sign in and which teams there are, once; where that went wrong, again.
func (k *Keeper) readPeople(ctx context.Context) error {
	k.people.mu.Lock()
	known := k.people.known
	k.people.mu.Unlock()
	if known {
		return nil
	}
	err := errors.Join(k.readProviders(ctx), k.readTeams(ctx))
	k.people.mu.Lock()
	k.people.known = err == nil
	k.people.mu.Unlock()
	return err
}

// readProviders reads the providers that the record knows. Each is asked anew where it is asked what.
func (k *Keeper) readProviders(ctx context.Context) error {
	all, err := k.store.Providers(ctx)
	if err != nil {
		return err
	}
	k.people.mu.Lock()
	defer k.people.mu.Unlock()
	k.people.providers = all
	clear(k.people.asked)
	return nil
}

// Providers lists those by whom people sign in, by name.
func (k *Keeper) Providers() []record.Provider {
	k.people.mu.Lock()
	defer k.people.mu.Unlock()
	return slices.Clone(k.people.providers)
}

func (k *Keeper) providerNamed(name string) (record.Provider, bool) {
	all := k.Providers()
	if i := slices.IndexFunc(all, func(p record.Provider) bool { return p.Name == name }); i >= 0 {
		return all[i], true
	}
	return record.Provider{}, false
}

func (k *Keeper) provider(name string) (record.Provider, error) {
	if p, known := k.providerNamed(name); known {
		return p, nil
	}
	var known []string
	for _, p := range k.Providers() {
		known = append(known, p.Name)
	}
	return record.Provider{}, unknown("provider", name, known, "vigila provider add NAME ISSUER --client ID")
}

// askable is a provider that has said where it is asked what; one that was away at the start is asked now.
func (k *Keeper) askable(ctx context.Context, name string) (*signin.Provider, error) {
	conf, err := k.provider(name)
	if err != nil {
		return nil, err
	}
	k.people.mu.Lock()
	p := k.people.asked[name]
	k.people.mu.Unlock()
	if p != nil {
		return p, nil
	}
	if p, err = signin.Discover(ctx, configOf(conf)); err != nil {
		return nil, fault(Unreachable, "%v", err)
	}
	k.people.mu.Lock()
	defer k.people.mu.Unlock()
	if i := slices.IndexFunc(k.people.providers, func(x record.Provider) bool { return x.Name == name }); i >= 0 && fmt.Sprint(k.people.providers[i]) == fmt.Sprint(conf) {
		k.people.asked[name] = p
	}
	return p, nil
}

// ---- sessions

// Session is somebody who is signed in.
type Session struct {
	record.Session
	Who
}

// Sessions lists who is signed in, whoever was here last first: everybody for an admin, and for others their own.
func (k *Keeper) Sessions(ctx context.Context, by Who) (out []Session, err error) {
	all, err := k.store.Sessions(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		w, err := k.whoseSession(ctx, x)
		if errors.Is(err, record.ErrNone) {
			continue // it has ended
		}
		if err != nil {
			return nil, err
		}
		if by.Rights.Role.May(grant.Admin) || w.same(by) {
			out = append(out, Session{x, w})
		}
	}
	return out, nil
}

// same tells whether two are the same: of a provider's people the subject says so, since a name may be given to somebody else.
func (w Who) same(x Who) bool {
	a, b := w.session.SessionMore.Who, x.session.SessionMore.Who
	return w.Name == x.Name && a.Provider == b.Provider && a.Subject == b.Subject
}

func (w EndSession) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	all, err := k.Sessions(ctx, w.By)
	if err != nil {
		return Nothing{}, err
	}
	var known []string
	for _, x := range all {
		if x.ID() == w.ID {
			return Nothing{}, k.store.EndSession(ctx, x.Hash)
		}
		known = append(known, x.ID())
	}
	return Nothing{}, unknown("session", w.ID, known, "vigila sign-in ADDRESS")
}
