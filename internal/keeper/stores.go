package keeper

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/loopback"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
	"vigila.dev/vigila/internal/secrets"
)

// ValueStore is a store as it stands, without what is secret of it.
type ValueStore struct {
	record.ValueStore
	Looked, Next time.Time
	Problem      string   // of the last look
	Used         []string // the wards that refer to it
	Missing      int      // references that have no value
}

// SecretUse is a reference as it stands.
type SecretUse struct {
	Ref     secret.Ref
	Wards   []string // that refer to it
	Objects []string // in them, as WARD Kind/name
	State   SecretState
	Why     string // it is not known, or refused
	SetBy   string // how it is set, where no command does
	Version string
}

// SecretState is how a reference stands.
type SecretState string

// The states.
const (
	SecretSet     SecretState = "set"
	SecretMissing SecretState = "missing"
	SecretRefused SecretState = "refused"
	SecretUnknown SecretState = "unknown"
)

// The wishes.
type (
	// AddStore adds a store, or changes one, after signing in to it. A secret that is empty stays as it was when the address is the same.
	AddStore struct{ record.ValueStore }
	// RemoveStore forgets a store that no ward refers to.
	RemoveStore struct{ Name string }
	// SetSecret sets a value. It is written down who did, and never the value.
	SetSecret struct {
		Ref     secret.Ref
		Value   string
		OnlyNew bool // not over another value
	}
)

func (w AddStore) Subject() Subject    { return Subject{"add", "store", w.Name} }
func (w RemoveStore) Subject() Subject { return Subject{"remove", "store", w.Name} }
func (w SetSecret) Subject() Subject   { return Subject{"set", "secret", w.Ref.Short()} }

func (k *Keeper) openStores(ctx context.Context) error {
	all, err := k.store.ValueStores(ctx)
	for _, s := range all {
		if err := k.openStore(s); err != nil {
			k.log.Error("a store can't be opened; what refers to it is not known", "store", s.Name, "error", err)
		}
	}
	return err
}

// storeOf opens a store; nothing is asked yet.
func (k *Keeper) storeOf(c record.ValueStore) (secrets.Store, error) {
	switch c.Kind {
	case record.KVStore:
		if c.Cluster != "" {
			return inACluster{k, c}, nil
		}
		return secrets.NewKV(c.Name, secrets.KV{URL: c.URL, Mount: c.Mount, CA: c.CA, Space: c.Space, SignIn: c.SignIn, At: c.At, Role: c.Role, Secret: c.Secret})
	case record.NamespaceStore:
		return inACluster{k, c}, nil
	case record.FilesStore:
		return secrets.NewFiles(c.Name, c.Secret, inRepo{k, c})
	}
	return nil, fmt.Errorf("store %s is of the kind %q, which there is not; %s", c.Name, c.Kind, nearest.Words(c.Kind, []string{record.KVStore, record.NamespaceStore, record.FilesStore}))
}

func (k *Keeper) openStore(c record.ValueStore) error {
	s, err := k.storeOf(c)
	if err != nil {
		return err
	}
	l := &storeLoop{k: k, conf: c, store: s, wake: make(chan struct{}, 1), places: map[string]*placeState{}}
	l.ctx, l.cancel = context.WithCancel(k.ctx)
	k.stores.mu.Lock()
	if old := k.stores.loops[c.Name]; old != nil {
		old.cancel()
	}
	k.stores.loops[c.Name] = l
	k.stores.mu.Unlock()
	for _, p := range k.users(c.Name, "") { // they may use other places now, or none
		for _, at := range k.usedBy(p.ID) {
			if at.Store == c.Name {
				l.known(at.Path)
			}
		}
	}
	k.spawn(l.run)
	l.tell("", false)
	return nil
}

func (k *Keeper) usedBy(id string) (out []secret.Place) {
	k.stores.mu.Lock()
	defer k.stores.mu.Unlock()
	for p := range k.stores.uses[id] {
		out = append(out, p)
	}
	return out
}

func (k *Keeper) storeLoopOf(name string) *storeLoop {
	k.stores.mu.Lock()
	defer k.stores.mu.Unlock()
	return k.stores.loops[name]
}

func (k *Keeper) storeNamed(name string) (*storeLoop, error) {
	if l := k.storeLoopOf(name); l != nil {
		return l, nil
	}
	var known []string
	for _, l := range k.storeLoops() {
		known = append(known, l.conf.Name)
	}
	return nil, unknown("store", name, known, "vigila store add NAME --kind kv --at https://… --mount secret")
}

// storeLoops are all, by name.
func (k *Keeper) storeLoops() (out []*storeLoop) {
	k.stores.mu.Lock()
	defer k.stores.mu.Unlock()
	for _, l := range k.stores.loops {
		out = append(out, l)
	}
	slices.SortFunc(out, func(a, b *storeLoop) int { return strings.Compare(a.conf.Name, b.conf.Name) })
	return out
}

func (w AddStore) do(ctx context.Context, k *Keeper, _ Actor) (ValueStore, error) {
	c := w.ValueStore
	if err := ward.Name(c.Name); err != nil {
		return ValueStore{}, fault(Invalid, "name: %v", err)
	}
	k.changing.Lock()
	defer k.changing.Unlock()
	if old := k.storeLoopOf(c.Name); old != nil && c.Secret == "" && old.conf.Kind == c.Kind && old.conf.URL == c.URL && old.conf.SignIn == c.SignIn && old.conf.Role == c.Role && old.conf.Repo == c.Repo {
		c.Secret = old.conf.Secret
	}
	if old := k.storeLoopOf(c.Name); old != nil {
		c.Roster = old.conf.Roster
	}
	if err := k.checkStore(&c); err != nil {
		return ValueStore{}, err
	}
	s, err := k.storeOf(c)
	if err != nil {
		return ValueStore{}, fault(Invalid, "%v", err)
	}
	ctx, cancel := context.WithTimeout(ctx, storeTimeout)
	defer cancel()
	if err := s.Try(ctx); err != nil {
		return ValueStore{}, fault(Unreachable, "%v", err)
	}
	if c.Made.IsZero() {
		c.Made = time.Now()
	}
	if err := k.store.PutValueStore(ctx, c); err != nil {
		return ValueStore{}, err
	}
	if err := k.openStore(c); err != nil {
		return ValueStore{}, err
	}
	k.broker.send(Note{"store", c.Name})
	k.nudgeRosters() // one may declare it, and has the say then
	return k.ValueStore(c.Name)
}

// declareStore takes a store from a roster: all of it that is not secret. What it is signed in to with stays with the address that it was given for.
func (k *Keeper) declareStore(ctx context.Context, roster string, d ward.Store) (changed bool, err error) {
	c := record.ValueStore{Name: d.Name, ValueStoreMore: record.ValueStoreMore{Kind: record.KVStore, About: d.About, Every: d.Every, Roster: roster,
		URL: d.URL, Mount: cmp.Or(d.Mount, "secret"), CA: d.CA, Space: d.Space, SignIn: d.SignIn, At: d.At, Role: d.Role, Cluster: d.Cluster, Namespace: d.Namespace, Repo: d.Repo, Ref: d.Ref, Dir: d.Dir,
		Wards: d.Wards, Owners: d.Owners, Clusters: d.Clusters, Rosters: d.Rosters}}
	switch {
	case d.Lookout != "":
		c.Cluster = d.Lookout
	case d.Cluster != "":
		c.Kind = record.NamespaceStore
	case d.Repo != "":
		c.Kind = record.FilesStore
	}
	if err := k.checkStore(&c); err != nil {
		return false, err
	}
	needs, old := c.Kind == record.FilesStore || c.Kind == record.KVStore && c.Cluster == "" && c.SignIn != secrets.ByKubernetes, k.storeLoopOf(d.Name)
	if old != nil {
		o := old.conf
		switch same := o.Kind == c.Kind && o.URL == c.URL && o.Repo == c.Repo; {
		case k.declaredBy(o.Roster, roster):
			return false, fmt.Errorf("store %s is declared by roster %s already", d.Name, o.Roster)
		case !same && needs:
			return false, fmt.Errorf("store %s is at %s, where what it is signed in to with was given for; another place needs a person: vigila store add %s", d.Name, cmp.Or(o.URL, o.Repo, strings.TrimSuffix(o.Cluster+"/"+o.Namespace, "/")), d.Name)
		}
		if c.Made = o.Made; c.Cluster == "" {
			c.Secret = o.Secret
		}
		if reflect.DeepEqual(o, c) {
			return false, nil
		}
	} else if needs {
		return false, fmt.Errorf("store %s is declared, but nothing to sign in to it with was given yet; that is never in git: vigila store add %s %s --token-file FILE", d.Name, d.Name, cmp.Or(d.URL, "--files "+d.Repo+"/"+d.Dir))
	}
	if c.Made.IsZero() {
		c.Made = time.Now()
	}
	if err := k.store.PutValueStore(ctx, c); err != nil {
		return false, err
	}
	if err := k.openStore(c); err != nil {
		return false, err
	}
	k.broker.send(Note{"store", c.Name})
	return true, nil
}

// mountPath is where something is mounted at a server.
var mountPath = regexp.MustCompile(`^[-_a-zA-Z0-9]+(/[-_a-zA-Z0-9]+)*$`)

// checkStore refuses what can't be a store, and fills in what is not said.
func (k *Keeper) checkStore(c *record.ValueStore) error {
	if c.Every == 0 {
		c.Every = storeEvery
	}
	if c.Every < storeLeast {
		return fault(Invalid, "store %s: every is %s at least", c.Name, storeLeast)
	}
	switch c.Kind {
	case record.KVStore:
		if c.Cluster != "" {
			return k.checkByLookout(c)
		}
		if err := ward.Link(c.URL); err != nil {
			return fault(Invalid, "the address of store %s: %v", c.Name, err)
		}
		if strings.ContainsAny(c.URL, "?#@") {
			return fault(Invalid, "the address of store %s holds a ?, a # or an @; write it without, and give credentials apart", c.Name)
		}
		if loopback.InTheClear(c.URL) {
			return fault(Invalid, "store %s: over plain HTTP secret values could be read on the way; write https://", c.Name)
		}
		for what, at := range map[string]string{"mount": c.Mount, "place to sign in": c.At} {
			if at != "" && !mountPath.MatchString(at) {
				return fault(Invalid, "store %s: its %s %q is none: parts of letters, digits, '-' and '_', with a / between them", c.Name, what, at)
			}
		}
		c.Namespace = ""
		if c.SignIn == "" {
			c.SignIn = secrets.ByToken
		}
		if ways := []string{secrets.ByToken, secrets.ByRole, secrets.ByKubernetes}; !slices.Contains(ways, c.SignIn) {
			return fault(Invalid, "store %s: there is no way to sign in that is called %q; %s", c.Name, c.SignIn, nearest.Words(c.SignIn, ways))
		}
	case record.NamespaceStore:
		if c.Namespace == "" {
			return fault(Invalid, "store %s names no namespace", c.Name)
		}
		if k.clusterNamed(c.Cluster) == nil {
			return k.unknownCluster(c.Cluster)
		}
		c.URL, c.Mount, c.CA, c.Space, c.SignIn, c.At, c.Role, c.Secret = "", "", "", "", "", "", "", ""
	case record.FilesStore:
		if _, err := k.gitOf(c.Repo); err != nil {
			return err
		}
		if c.Dir = strings.Trim(c.Dir, "/"); c.Dir != "" && (path.Clean(c.Dir) != c.Dir || strings.HasPrefix(c.Dir, "..")) {
			return fault(Invalid, "store %s: %q is no directory of a repository; write it from the repository's root, without ..", c.Name, c.Dir)
		}
		c.Ref = cmp.Or(c.Ref, "main")
		c.URL, c.Mount, c.CA, c.Space, c.SignIn, c.At, c.Role, c.Cluster, c.Namespace = "", "", "", "", "", "", "", "", ""
	}
	return nil
}

// checkByLookout refuses a server that no lookout asks. Where it is, and what it is signed in to with, its lookout has, and nobody else.
func (k *Keeper) checkByLookout(c *record.ValueStore) error {
	l := k.clusterNamed(c.Cluster)
	switch {
	case l == nil:
		return k.unknownCluster(c.Cluster)
	case c.URL != "":
		return fault(Invalid, "store %s: where a server is that a lookout asks, the lookout is told with --stores; leave its address out here", c.Name)
	case l.away == nil:
		return fault(Invalid, "store %s: no lookout keeps cluster %s; give the address of the server, which is asked from here then", c.Name, c.Cluster)
	}
	c.Namespace, c.Mount, c.CA, c.Space, c.SignIn, c.At, c.Role, c.Secret = "", "", "", "", "", "", "", ""
	return nil
}

func (k *Keeper) clusterNamed(name string) *clusterLoop {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.clusters[name]
}

func (w RemoveStore) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	k.changing.Lock()
	defer k.changing.Unlock()
	l, err := k.storeNamed(w.Name)
	if err != nil {
		return Nothing{}, err
	}
	if used := k.users(w.Name, ""); len(used) > 0 {
		return Nothing{}, fault(Conflict, "%s refers to store %s; take its references out first", used[0].ID, w.Name)
	}
	if err := k.store.RemoveValueStore(ctx, w.Name); err != nil {
		return Nothing{}, err
	}
	k.stores.mu.Lock()
	delete(k.stores.loops, w.Name)
	k.stores.mu.Unlock()
	l.cancel()
	k.broker.send(Note{"store", w.Name})
	return Nothing{}, nil
}

// maxSecret is how long a value may be: a Secret holds so much in all.
const maxSecret = 1 << 20

// refersTo tells whether a ward refers to a value, or to all of the path that it is at.
func refersTo(p *placement, ref secret.Ref) bool {
	return slices.ContainsFunc(p.refersTo(ref.Place()), func(r secret.Ref) bool { return r.Key == "" || r.Key == ref.Key })
}

func (w SetSecret) do(ctx context.Context, k *Keeper, by Actor) (SecretUse, error) {
	l, err := k.storeNamed(w.Ref.Store)
	if err != nil {
		return SecretUse{}, err
	}
	switch {
	case w.Value == "":
		return SecretUse{}, fault(Invalid, "the value of %s is empty; nothing was set", w.Ref.Short())
	case len(w.Value) > maxSecret:
		return SecretUse{}, fault(Invalid, "the value of %s has more than a MiB, which no Secret holds; nothing was set", w.Ref.Short())
	case !utf8.ValidString(w.Value):
		return SecretUse{}, fault(Invalid, "the value of %s is no text in UTF-8; nothing was set", w.Ref.Short())
	}
	ctx, cancel := context.WithTimeout(ctx, storeTimeout)
	defer cancel()
	if w.OnlyNew {
		v, err := l.store.Read(ctx, w.Ref.Path)
		if err != nil && !errors.Is(err, secrets.ErrNone) {
			return SecretUse{}, fault(Unreachable, "%v", err)
		}
		switch old, there := v.Keys[w.Ref.Key]; {
		case there && (old == w.Value && !v.Digests || v.Digests && old == k.mask(w.Value)):
			return k.secretUse(w.Ref), nil
		case there && old != "":
			return SecretUse{}, fault(Conflict, "%s has another value already; nothing was set", w.Ref.Short())
		}
	}
	if err := l.store.Set(ctx, w.Ref.Path, w.Ref.Key, w.Value); err != nil {
		return SecretUse{}, fault(Unreachable, "%v", err)
	}
	for _, p := range k.users(w.Ref.Store, w.Ref.Path) {
		if refersTo(p, w.Ref) {
			if _, err := p.want(ctx, loop.NoteSecret{By: by.String(), Ref: w.Ref}); err != nil {
				k.log.Warn("that a secret was set can't be written into a logbook", "ward", p.ID, "error", err)
			}
		}
	}
	_ = l.lookAt(w.Ref.Path) // what is wrong stands with the reference
	return k.secretUse(w.Ref), nil
}

// refersTo lists the references of a ward to a place.
func (p *placement) refersTo(at secret.Place) (out []secret.Ref) {
	d := p.Says()
	if d == nil {
		return nil
	}
	for _, o := range d.Objects {
		for _, r := range o.Secrets {
			if r.Place() == at {
				out = append(out, r)
			}
		}
	}
	return out
}

// LookAtStore looks at everything that is used of a store, now.
func (k *Keeper) LookAtStore(name string) error {
	l, err := k.storeNamed(name)
	if err == nil {
		l.lookNow()
	}
	return err
}

// TryStore signs in to a store.
func (k *Keeper) TryStore(ctx context.Context, name string) error {
	l, err := k.storeNamed(name)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, storeTimeout)
	defer cancel()
	if err := l.store.Try(ctx); err != nil {
		return fault(Unreachable, "%v", err)
	}
	l.lookNow()
	return nil
}

// ValueStore is one store as it stands.
func (k *Keeper) ValueStore(name string) (ValueStore, error) {
	l, err := k.storeNamed(name)
	if err != nil {
		return ValueStore{}, err
	}
	return l.state(k.SecretUses()), nil
}

// ValueStores lists the stores by name.
func (k *Keeper) ValueStores() []ValueStore {
	all := k.SecretUses()
	loops := k.storeLoops()
	out := make([]ValueStore, len(loops))
	for i, l := range loops {
		out[i] = l.state(all)
	}
	return out
}

func (l *storeLoop) state(all []SecretUse) ValueStore {
	l.mu.Lock()
	out := ValueStore{ValueStore: l.conf, Looked: l.looked, Next: l.next, Problem: l.problem}
	l.mu.Unlock()
	out.Secret = ""
	if l.k.keptBy(l.conf) != nil { // whatever it says, its values go nowhere else
		out.Clusters = []string{l.conf.Cluster}
	}
	for _, p := range l.k.users(l.conf.Name, "") {
		out.Used = append(out.Used, p.ID)
	}
	for _, u := range all {
		if u.Ref.Store == l.conf.Name && u.State == SecretMissing {
			out.Missing++
		}
	}
	return out
}

// SecretUses lists every reference that a ward declares, as it stands: what is missing first, then by name.
func (k *Keeper) SecretUses() []SecretUse {
	k.stores.mu.Lock()
	var ids []string
	for id := range k.stores.uses {
		ids = append(ids, id)
	}
	k.stores.mu.Unlock()
	slices.Sort(ids)
	byRef := map[secret.Ref]*SecretUse{}
	for _, id := range ids {
		k.mu.RLock()
		p := k.kept.all[id]
		k.mu.RUnlock()
		if p == nil {
			continue
		}
		d := p.Says()
		if d == nil {
			continue
		}
		for _, o := range d.Objects {
			for _, r := range ownSecrets(o) {
				u := byRef[r]
				if u == nil {
					u = &SecretUse{Ref: r}
					byRef[r] = u
				}
				if s := k.secretState(p, r); u.State == "" || s.worse(u.State) {
					u.State, u.Why, u.SetBy, u.Version = s.State, s.Why, s.SetBy, s.Version
				}
				if !slices.Contains(u.Wards, id) {
					u.Wards = append(u.Wards, id)
				}
				u.Objects = append(u.Objects, id+" "+o.Ref.Short())
			}
		}
	}
	out := make([]SecretUse, 0, len(byRef))
	for _, u := range byRef {
		out = append(out, *u)
	}
	slices.SortFunc(out, func(a, b SecretUse) int {
		if a.State != b.State {
			return secretOrder[a.State] - secretOrder[b.State]
		}
		return a.Ref.Compare(b.Ref)
	})
	return out
}

// ownSecrets are the references of a Secret; those of a workload that reads it are the same.
func ownSecrets(o declared.Object) []secret.Ref {
	if !o.Ref.Secret() {
		return nil
	}
	return o.Secrets
}

var secretOrder = map[SecretState]int{SecretMissing: 0, SecretRefused: 1, SecretUnknown: 2, SecretSet: 3}

func (u SecretUse) worse(than SecretState) bool { return secretOrder[u.State] < secretOrder[than] }

// secretState is how a reference stands for one ward.
func (k *Keeper) secretState(p *placement, r secret.Ref) SecretUse {
	known := uses{p}.Known(r.Place())
	s := secret.Stand([]secret.Ref{r}, func(secret.Place) secret.Known { return known }, k.mask)
	u := SecretUse{Ref: r, State: SecretSet, SetBy: known.SetBy, Version: known.Version}
	switch {
	case s.Refused != "":
		u.State, u.Why = SecretRefused, s.Refused
	case len(s.Missing) > 0:
		u.State = SecretMissing
	case s.Unknown != "":
		u.State, u.Why = SecretUnknown, s.Unknown
	case known.Problem != "":
		u.Why = known.Problem
	}
	return u
}

// secretUse is one reference as it stands.
func (k *Keeper) secretUse(r secret.Ref) SecretUse {
	all := k.SecretUses()
	if i := slices.IndexFunc(all, func(u SecretUse) bool { return u.Ref == r }); i >= 0 {
		return all[i]
	}
	return SecretUse{Ref: r, State: SecretSet}
}

// inCluster are the Secrets of a cluster, as a store has them.
type inCluster struct {
	k       *Keeper
	cluster string
}

func (c inCluster) conn() (reach, drive.Hands, error) {
	l := c.k.clusterNamed(c.cluster)
	switch {
	case l == nil:
		return nil, nil, &secrets.Error{Text: "there is no cluster " + c.cluster}
	case l.conn == nil:
		return nil, nil, &secrets.Error{Text: l.err.Error(), Away: true}
	}
	hands, err := l.as("", "")
	return l.conn, hands, err
}

func secretRef(namespace, name string) object.Ref {
	return object.Ref{Kind: "Secret", Namespace: namespace, Name: name}
}

func (c inCluster) Secret(ctx context.Context, namespace, name string) (map[string]any, error) {
	conn, _, err := c.conn()
	if err != nil {
		return nil, err
	}
	body, err := conn.Get(ctx, "v1", secretRef(namespace, name))
	if errors.Is(err, cluster.ErrGone) {
		return nil, secrets.ErrNone
	}
	return body, asked(err)
}

// asked is an error of a cluster, as a store's.
func asked(err error) error {
	if err == nil {
		return nil
	}
	return &secrets.Error{Text: err.Error(), Away: cluster.Transient(err)}
}

func (c inCluster) SetSecret(ctx context.Context, namespace, name, key, value string, was map[string]any) error {
	_, hands, err := c.conn()
	if err != nil {
		return err
	}
	ref, encoded := secretRef(namespace, name), base64.StdEncoding.EncodeToString([]byte(value))
	if was == nil {
		_, err := hands.Apply(ctx, object.Object{Ref: ref, Version: "v1", Body: map[string]any{"apiVersion": "v1", "kind": "Secret",
			"metadata": map[string]any{"name": name, "namespace": namespace}, "data": map[string]any{key: encoded}}}, false)
		return asked(err)
	}
	ops := []object.Operation{{Op: "test", Path: "/metadata/uid", Value: object.UID(was)}}
	if data, _ := was["data"].(map[string]any); data == nil {
		ops = append(ops, object.Operation{Op: "add", Path: "/data", Value: map[string]any{key: encoded}})
	} else {
		ops = append(ops, object.Operation{Op: "add", Path: "/data/" + key, Value: encoded}) // a key of a Secret holds no / and no ~
	}
	_, err = hands.Patch(ctx, "v1", ref, ops, false)
	return asked(err)
}

// inRepo are the files of a repository, as a store has them.
type inRepo struct {
	k    *Keeper
	conf record.ValueStore
}

func (r inRepo) tree(ctx context.Context) (*repo.Tree, error) {
	mirror, err := r.k.gitOf(r.conf.Repo)
	if err != nil {
		return nil, &secrets.Error{Text: err.Error(), Away: true}
	}
	head, err := mirror.Resolve(ctx, r.conf.Ref)
	if errors.Is(err, repo.ErrEmpty) {
		return nil, secrets.ErrNone
	}
	if err != nil {
		return nil, &secrets.Error{Text: err.Error(), Away: true}
	}
	return mirror.At(head.ID), nil
}

func (r inRepo) Read(ctx context.Context, name string) ([]byte, string, error) {
	t, err := r.tree(ctx)
	if err != nil {
		return nil, "", err
	}
	at := path.Join(r.conf.Dir, name)
	version, err := t.Hash(at)
	if err != nil {
		return nil, "", &secrets.Error{Text: err.Error(), Away: true}
	}
	if version == "" {
		return nil, "", secrets.ErrNone
	}
	text, err := t.Read(at)
	if err != nil {
		return nil, "", &secrets.Error{Text: err.Error()}
	}
	return text, version, nil
}

func (r inRepo) Try(ctx context.Context) error {
	_, err := r.tree(ctx)
	if errors.Is(err, secrets.ErrNone) { // it is empty yet
		return nil
	}
	return err
}

func (r inRepo) Where(name string) string {
	return path.Join(r.conf.Dir, name) + " of " + r.conf.Repo + ", branch " + r.conf.Ref
}

func (c inCluster) Try(ctx context.Context, namespace string) error {
	_, err := c.Secret(ctx, namespace, "vigila-looks-whether-it-may")
	if errors.Is(err, secrets.ErrNone) {
		return nil
	}
	return err
}
