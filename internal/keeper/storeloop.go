package keeper

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/secrets"
)

// stores are the stores of secret values that are known, and which wards use what of them.
type stores struct {
	mu    *sync.Mutex
	loops map[string]*storeLoop            // by name
	uses  map[string]map[secret.Place]bool // by ward
}

func newStores() stores {
	return stores{&sync.Mutex{}, map[string]*storeLoop{}, map[string]map[secret.Place]bool{}}
}

// usedBy tells whether a ward refers to values of a store.
func (s stores) usedBy(ward, store string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for p := range s.uses[ward] {
		if p.Store == store {
			return true
		}
	}
	return false
}

// storeLoop looks at what wards use of one store, every so often and when somebody asks. It keeps digests of values, and no value.
type storeLoop struct {
	k      *Keeper
	conf   record.ValueStore
	store  secrets.Store
	ctx    context.Context
	cancel context.CancelFunc
	wake   chan struct{}

	mu      sync.Mutex
	places  map[string]*placeState // by path
	looked  time.Time
	next    time.Time
	problem string // of the last look
	pushed  time.Time
	ends    time.Time // what it is signed in to with does; zero when that is not known to
	asked   time.Time // when that was asked last
	all     bool      // the next look is at everything, not only at what nobody has looked at yet
}

// placeState is what is known of a path.
type placeState struct {
	known secret.Known
	asked time.Time // when somebody wanted to know that does not use it
	dirty bool      // it has to be looked at
}

// The times and the bounds of looks at a store.
const (
	storeEvery   = time.Minute
	storeLeast   = 5 * time.Second
	storeTimeout = 15 * time.Second
	storeAtATime = 4
	pushPause    = 2 * time.Second  // at least, between looks because of pushes
	storeAsked   = 10 * time.Minute // what nobody uses is looked at so long after somebody asked
)

// Known is what is known of a place, for one ward: what it may not use it knows nothing of.
func (u uses) Known(p secret.Place) secret.Known {
	if up := u.p.k.up; up != nil {
		return up.knows(u.p.ID, p)
	}
	s := u.p.k.stores
	s.mu.Lock()
	l := s.loops[p.Store]
	var names []string
	if l == nil {
		names = slices.Sorted(maps.Keys(s.loops))
	}
	s.mu.Unlock()
	if l == nil {
		return secret.Known{Refused: "there is no store " + p.Store + "; " + orFirst(nearest.Words(p.Store, names), len(names) == 0, "add it: vigila store add "+p.Store+" …")}
	}
	if no := l.refuses(u.p); no != "" {
		return secret.Known{Refused: no}
	}
	return l.known(p.Path)
}

// uses are the stores as one ward may use them.
type uses struct{ p *placement }

func orFirst(words string, none bool, first string) string {
	if none {
		return first
	}
	return words
}

// refuses says why a ward may not use the store; "" when it may. What a ward file says of itself lets no ward of a limited roster in.
func (l *storeLoop) refuses(p *placement) string {
	c, w := l.conf, p.Ward
	for _, of := range []struct {
		only []string
		is   string
		what string
	}{{c.Wards, w.Name, "wards"}, {c.Owners, w.Owner, "wards of"}, {c.Clusters, p.cluster.conf.Name, "wards in"}, {c.Rosters, p.Roster, "wards of roster"}} {
		if len(of.only) > 0 && !slices.Contains(of.only, of.is) {
			return fmt.Sprintf("store %s is for %s %s only", c.Name, of.what, strings.Join(of.only, ", "))
		}
	}
	if a := l.k.keptBy(c); a != nil && p.cluster.away != a {
		return fmt.Sprintf("store %s is read in cluster %s, whose lookout lets no value out of it: wards in %s alone may use it", c.Name, c.Cluster, c.Cluster)
	}
	if p.reading.Limits.Any() && len(c.Rosters) == 0 {
		return fmt.Sprintf("roster %s has limits, and store %s does not name it (vigila store add %s … --for-roster %s)", p.Roster, c.Name, c.Name, p.Roster)
	}
	return ""
}

func (l *storeLoop) known(path string) secret.Known {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.places[path]
	if s == nil {
		s = &placeState{asked: time.Now(), dirty: true}
		l.places[path] = s
		l.rouse()
	}
	k := s.known
	if by, ok := l.store.(interface{ SetBy(path string) string }); ok {
		k.SetBy = by.SetBy(path)
	}
	return k
}

func (l *storeLoop) rouse() {
	rouse(l.wake)
}

// use notes which places a ward declares references to. What nobody has looked at yet is looked at. news tells that
// they are other ones than before.
func (k *Keeper) use(id string, places []secret.Place) (news bool) {
	set := map[secret.Place]bool{}
	for _, p := range places {
		set[p] = true
	}
	k.stores.mu.Lock()
	news = !maps.Equal(set, k.stores.uses[id])
	if len(set) == 0 {
		delete(k.stores.uses, id)
	} else {
		k.stores.uses[id] = set
	}
	loops := maps.Clone(k.stores.loops)
	k.stores.mu.Unlock()
	for _, p := range places {
		if l := loops[p.Store]; l != nil {
			l.known(p.Path)
		}
	}
	return news
}

// users lists the wards that use a place; all that use the store where path is "".
func (k *Keeper) users(store, path string) (out []*placement) {
	k.stores.mu.Lock()
	var ids []string
	for id, places := range k.stores.uses {
		for p := range places {
			if p.Store == store && (path == "" || p.Path == path) {
				ids = append(ids, id)
				break
			}
		}
	}
	k.stores.mu.Unlock()
	slices.Sort(ids)
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, id := range ids {
		if p := k.kept.all[id]; p != nil {
			out = append(out, p)
		}
	}
	return out
}

// pathsOf are the paths of a store that wards use.
func (k *Keeper) pathsOf(store string) map[string]bool {
	k.stores.mu.Lock()
	defer k.stores.mu.Unlock()
	out := map[string]bool{}
	for _, places := range k.stores.uses {
		for p := range places {
			if p.Store == store {
				out[p.Path] = true
			}
		}
	}
	return out
}

func (l *storeLoop) run() {
	every := max(l.conf.Every, storeLeast)
	timer := time.NewTimer(0)
	defer timer.Stop()
	for {
		all := true
		select {
		case <-l.ctx.Done():
			return
		case <-timer.C:
		case <-l.wake:
			l.mu.Lock()
			all, l.all = l.all, false
			l.mu.Unlock()
		}
		l.look(all)
		if all {
			timer.Reset(every)
			l.mu.Lock()
			l.next = time.Now().Add(every)
			l.mu.Unlock()
		}
	}
}

// lookNow looks at everything.
func (l *storeLoop) lookNow() {
	l.mu.Lock()
	l.all = true
	l.mu.Unlock()
	l.rouse()
}

// push takes what the store tells of a change: it is looked at now, and many in a moment are one look.
func (l *storeLoop) push() {
	l.mu.Lock()
	l.pushed, l.all = time.Now(), true
	wait := l.looked.Add(pushPause).Sub(l.pushed)
	l.mu.Unlock()
	time.AfterFunc(max(wait, 0), l.rouse)
}

func (l *storeLoop) pushedAt() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.pushed
}

// look looks at the places that are used: all, or those that have to be.
func (l *storeLoop) look(all bool) {
	var paths []string
	used := l.k.pathsOf(l.conf.Name)
	l.mu.Lock()
	for path, s := range l.places {
		if all && time.Since(s.asked) > storeAsked && !used[path] {
			delete(l.places, path)
		} else if all || s.dirty {
			paths = append(paths, path)
		}
	}
	l.mu.Unlock()
	slices.Sort(paths)
	l.lookAll(paths)
	if l.ctx.Err() != nil {
		return
	}
	var tried error
	if len(paths) == 0 && all { // nobody uses anything of it
		ctx, cancel := context.WithTimeout(l.ctx, storeTimeout)
		tried = l.store.Try(ctx)
		cancel()
	}
	l.mu.Lock()
	was := l.problem
	l.problem = ""
	if tried != nil {
		l.problem = tried.Error()
	}
	for _, path := range slices.Sorted(maps.Keys(l.places)) {
		if p := l.places[path].known.Problem; p != "" && l.problem == "" {
			l.problem = p
		}
	}
	l.looked = time.Now()
	now := l.problem
	l.mu.Unlock()
	switch {
	case now != "" && was != now:
		l.k.log.Warn("store can't be read", "store", l.conf.Name, "error", now)
	case now == "" && was != "":
		l.k.log.Info("store can be read again", "store", l.conf.Name)
	}
	l.k.broker.send(Note{"store", l.conf.Name})
	if now == "" {
		l.askEnd()
	}
}

// endEvery is how often is asked when a token ends.
const endEvery = time.Hour

// askEnd asks when what the store is signed in to with ends, where it may tell.
func (l *storeLoop) askEnd() {
	ender, is := l.store.(secrets.Ender)
	l.mu.Lock()
	due := time.Since(l.asked) > endEvery
	l.mu.Unlock()
	if !is || !due {
		return
	}
	ctx, cancel := context.WithTimeout(l.ctx, storeTimeout)
	defer cancel()
	end, err := ender.Ends(ctx)
	l.mu.Lock()
	defer l.mu.Unlock()
	var no *secrets.Error
	if errors.As(err, &no) && no.Away { // it is asked again at the next look
		return
	}
	if l.asked = time.Now(); err == nil { // whether it may be read at all is told by what is read
		l.ends = end
	}
}

// endKnown tells whether is known when what the store is signed in to with ends, or that this is never told. The lock is held.
func (l *storeLoop) endKnown() bool {
	_, is := l.store.(secrets.Ender)
	return !is || !l.asked.IsZero()
}

// lookAll looks at places, so many at a time. Once one is not answered none is asked any more: a silent server would take an hour for a
// thousand of them, and so long nobody would be told of the last.
func (l *storeLoop) lookAll(paths []string) {
	slots := make(chan struct{}, storeAtATime)
	var wg sync.WaitGroup
	var silent atomic.Pointer[secrets.Error]
	for _, path := range paths {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if no := silent.Load(); no != nil {
				l.took(path, secrets.Values{}, no)
				return
			}
			var no *secrets.Error
			if err := l.lookAt(path); errors.As(err, &no) && no.Silent {
				silent.Store(no)
			}
		})
	}
	wg.Wait()
}

// lookAt looks at one place: at its version, and at its values where that is another.
func (l *storeLoop) lookAt(path string) error {
	ctx, cancel := context.WithTimeout(l.ctx, storeTimeout)
	defer cancel()
	l.mu.Lock()
	var was secret.Known
	if s := l.places[path]; s != nil {
		was, s.dirty = s.known, false
	}
	l.mu.Unlock()
	if was.Looked && was.Problem == "" && was.Version != "" {
		version, err := l.store.Version(ctx, path)
		if err == nil && version == was.Version {
			return nil
		}
		if err != nil && !errors.Is(err, secrets.ErrNone) {
			l.took(path, secrets.Values{}, err)
			return err
		}
	}
	values, err := l.store.Read(ctx, path)
	l.took(path, values, err)
	return err
}

// took takes in what the store has at a place, and tells the wards that use it when that is another.
func (l *storeLoop) took(path string, v secrets.Values, err error) {
	if l.ctx.Err() != nil {
		return
	}
	l.mu.Lock()
	s := l.places[path]
	if s == nil {
		s = &placeState{asked: time.Now()}
		l.places[path] = s
	}
	old := s.known
	switch {
	case err == nil:
		now := secret.Known{Looked: true, Version: v.Version, Keys: make(map[string]string, len(v.Keys))}
		for key, value := range v.Keys {
			if now.Keys[key] = value; !v.Digests {
				now.Keys[key] = l.k.mask(value)
			}
		}
		s.known = now
	case errors.Is(err, secrets.ErrNone):
		s.known = secret.Known{Looked: true}
	default: // what was known stays
		s.known.Problem = err.Error()
	}
	others := old.Looked && !maps.Equal(old.Keys, s.known.Keys)
	same := old.Looked == s.known.Looked && old.Problem == s.known.Problem && !others
	l.mu.Unlock()
	if same {
		return
	}
	l.tell(path, others)
}

// tell tells the wards that use a place of the store; all of them where path is "".
func (l *storeLoop) tell(path string, others bool) {
	for _, p := range l.k.users(l.conf.Name, path) {
		p.post(loop.Told{Others: others})
	}
}

// filler puts secret values into objects of one ward.
type filler struct{ p *placement }

// Fill reads the values that an object refers to, now, and puts them in place. See drive.Secrets.
func (f filler) Fill(ctx context.Context, o object.Object) (object.Object, string, func(string) string, error) {
	refs := secret.Of(o)
	if len(refs) == 0 {
		return o, "", nil, nil
	}
	k := f.p.k
	if !o.Ref.Secret() { // a digest is all it wants
		s := secret.Stand(refs, uses(f).Known, k.mask)
		if !s.Good() {
			return o, "", nil, &drive.StoreError{Err: errors.New(cmp.Or(s.Refused, s.Unknown, "a secret value that its Pods read is missing"))}
		}
		return secret.Noted(o, s.Digest), s.Digest, nil, nil
	}
	values := secret.Values{}
	for _, r := range refs {
		at := r.Place()
		if values[at] != nil {
			continue
		}
		keys, err := f.values(ctx, at)
		if err != nil && !errors.Is(err, secrets.ErrNone) {
			var why *secrets.Error
			return o, "", nil, &drive.StoreError{Err: err, Away: errors.As(err, &why) && why.Away}
		}
		values[at] = map[string]string{}
		if err == nil {
			values[at] = keys
		}
	}
	digest := secret.Digest(refs, values, k.mask)
	filled, err := secret.Fill(o, values, digest)
	if err != nil {
		return o, "", nil, &drive.StoreError{Err: err}
	}
	return filled, digest, hider(values, filled, k.mask), nil
}

// values reads what a store has at a place that the ward may use.
func (f filler) values(ctx context.Context, at secret.Place) (map[string]string, error) {
	if up := f.p.k.up; up != nil {
		return up.value(ctx, f.p.ID, at)
	}
	l := f.p.k.storeLoopOf(at.Store)
	if l == nil {
		return nil, fmt.Errorf("there is no store %s", at.Store)
	}
	if no := l.refuses(f.p); no != "" {
		return nil, errors.New(no)
	}
	within, cancel := context.WithTimeout(ctx, storeTimeout)
	v, err := l.store.Read(within, at.Path)
	cancel()
	if err != nil && ctx.Err() != nil { // whoever wanted it wants it no more, which says nothing of the store
		return nil, &secrets.Error{Text: ctx.Err().Error(), Away: true}
	}
	l.took(at.Path, v, err)
	return v.Keys, err
}

// hider takes secret values out of a text, as they are, in base64, and as texts of many lines are written into one; and what was made of them.
func hider(values secret.Values, filled object.Object, mask func(string) string) func(string) string {
	type form struct{ text, hidden string }
	var all []form
	note := func(v string) {
		if len(v) < leastSecret {
			return
		}
		hidden := "secret " + mask(v)
		quoted := strconv.Quote(v)
		written, _ := json.Marshal(v) // a text can always be
		for _, text := range []string{v, base64.StdEncoding.EncodeToString([]byte(v)), quoted[1 : len(quoted)-1], string(written[1 : len(written)-1])} {
			if f := (form{text, hidden}); !slices.Contains(all, f) {
				all = append(all, f)
			}
		}
	}
	for _, keys := range values {
		for _, v := range keys {
			note(v)
		}
	}
	if data, ok := filled.Body["data"].(map[string]any); ok && filled.Ref.Secret() {
		for _, v := range data {
			text, _ := v.(string)
			note(text)
			if plain, err := base64.StdEncoding.DecodeString(text); err == nil {
				note(string(plain))
			}
		}
	}
	slices.SortFunc(all, func(a, b form) int { return len(b.text) - len(a.text) }) // the longest first: a shorter one may be a part of it
	return func(text string) string {
		for _, f := range all {
			text = strings.ReplaceAll(text, f.text, f.hidden)
		}
		return text
	}
}
