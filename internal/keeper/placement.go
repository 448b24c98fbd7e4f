package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"reflect"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// placement is one ward in one cluster: the shell around what it does because of what happens to it. That, the embedded Placement, is
// touched by the ward's own goroutine alone, but for what it shows.
type placement struct {
	*loop.Placement
	ties
	mailbox
	waiters waiters
	k       *Keeper
	reading *reading.Ward
	afar
	clearance clearance
	leaves    loop.Marks // what others had been told when its roster first wanted to let it go; the roster's own

	// ---- of its goroutine
	drives map[int]*drive.Drive // of the runs that go on, by entry
	filed  loop.Filed           // what was said of its file last
	lost   map[string]bool      // the repositories of which its lookout was told last that they can't be read
	flying *flight
	timer  *time.Timer
}

// afar is what belongs to a ward that a lookout keeps.
type afar struct {
	asked   sync.Mutex                // one reading at a time, however often its lookout has called anew meanwhile
	showing sync.Mutex                // of two views that come at once the newer one stays
	toldBy  atomic.Pointer[link.Peer] // the connection that its view came by
	checks  sync.Map                  // that its lookout may have asked, by checkKey
	readFor atomic.Int64              // the facts of the cluster that it was read with
}

// ties are what it works with.
type ties struct {
	repo    *sources.Loop // nil at a lookout
	cluster *clusterLoop
	hands   drive.Hands // the cluster, acted in as the ward's service account where it has one
	ctx     context.Context
	cancel  context.CancelFunc
	ended   chan struct{}
}

func (k *Keeper) openPlacement(ctx context.Context, rec record.Placement, w ward.Ward, of record.Ward) error {
	if k.up != nil {
		return k.openTold(ctx, rec, w, of)
	}
	k.mu.RLock()
	r, c := k.repos[w.From.Repo], k.clusters[rec.Cluster]
	limits := of.Limits
	if l := k.rosters[of.Roster]; l != nil {
		limits = l.limits()
	}
	declared := of.Roster == "" || k.rosters[of.Roster] != nil
	k.mu.RUnlock()
	if !declared {
		return fmt.Errorf("ward %s is declared by roster %s, which is not known any more, and neither are its limits", rec.ID, of.Roster)
	}
	if r == nil || c == nil {
		return fmt.Errorf("ward %s needs repository %s and cluster %s, and one of them is not known any more", rec.ID, w.From.Repo, rec.Cluster)
	}
	if rec.Err != nil {
		return rec.Err
	}
	w = wardIn(w, rec.Cluster, c.labels(), limits)
	p := k.newPlacement(rec, w, of, c, "")
	p.repo, p.reading = r, p.reads(r, limits)
	if err := p.takeHands(); err != nil {
		return err
	}
	stored, err := p.reading.Stored(ctx)
	if err != nil {
		return err
	}
	if err := p.load(ctx, rec, stored); err != nil {
		return err
	}
	elsewhere := map[string]standing.AsOf{}
	for _, name := range w.Reads() {
		if l, err := k.source(name); err == nil {
			elsewhere[name] = l.Subscribe(p)
			l.LookSoon()
		} else {
			elsewhere[name] = standing.AsOf{Problem: err.Error()}
		}
	}
	repository := r.Subscribe(p)
	p.Open(repository, elsewhere)
	if c.away != nil { // what is known of it here is what its lookout tells
		p.Rest()
		p.Show(nil, stored)
		p.letAsk(stored)
		k.mu.Lock()
		k.kept.enter(p)
		if k.closed {
			p.cancel()
		}
		k.mu.Unlock()
		p.post(attached{})
		p.relays()
		if repository.At.IsZero() {
			r.LookSoon()
		}
		return nil
	}
	p.begin()
	if repository.At.IsZero() {
		r.LookSoon()
	} else { // it was read a moment ago; a thousand wards that a roster declares need no thousand looks
		p.WasRead(r.Name(), r.State().AsOf)
	}
	return nil
}

// takeHands gives it what it acts in the cluster with.
func (p *placement) takeHands() (err error) {
	if p.cluster.conn != nil {
		p.hands, err = p.cluster.as(p.Ward.Into.Namespace, p.Ward.Into.As)
	}
	return err
}

// begin lets it be found, and starts it.
func (p *placement) begin() {
	p.k.mu.Lock()
	p.k.kept.enter(p)
	p.k.mu.Unlock()
	p.k.spawn(p.run)
	p.post(loop.Begins{})
	p.post(loop.WatchMoved{}) // watches that other wards began may have told everything already
}

// openTold opens a ward of a lookout.
func (k *Keeper) openTold(ctx context.Context, rec record.Placement, w ward.Ward, of record.Ward) error {
	c := k.up.own()
	if c == nil || c.conf.Name != rec.Cluster {
		return fmt.Errorf("ward %s is of cluster %s, which this is not the lookout of", rec.ID, rec.Cluster)
	}
	if rec.Err != nil {
		return rec.Err
	}
	w = wardIn(w, rec.Cluster, c.labels(), of.Limits)
	p := k.newPlacement(rec, w, of, c, "")
	if err := p.takeHands(); err != nil {
		return err
	}
	stored, err := toldBy{p}.Stored(ctx)
	if err != nil {
		return err
	}
	if err := p.load(ctx, rec, stored); err != nil {
		return err
	}
	p.Open(standing.AsOf{}, nil)
	p.begin()
	if stored != nil { // what was declared when the service was heard of last stands until it tells otherwise
		p.WasRead(w.From.Repo, standing.AsOf{Known: true, At: time.Now()})
	}
	return nil
}

// wardIn is a ward as it is kept in one cluster. Where it was read from, on whatever machine, is no part of that: what is kept of it has lines of its own.
func wardIn(w ward.Ward, cluster string, labels map[string]string, limits roster.Limits) ward.Ward {
	w = w.For(cluster, labels)
	if limits.As != "" {
		w.Into.As = limits.As
	}
	w.File, w.From.Places = "", nil
	return w
}

// newPlacement is a ward in a cluster of which nothing is known yet. broken tells why what the record holds of it can't be used.
func (k *Keeper) newPlacement(rec record.Placement, w ward.Ward, of record.Ward, c *clusterLoop, broken string) *placement {
	p := &placement{k: k, ties: ties{cluster: c, ended: make(chan struct{})}}
	within := k.ctx
	if broken == "" && c.away != nil {
		p.summon, p.going = p.relays, true    // it begins once it can be found
		within = context.WithoutCancel(k.ctx) // to be told of the keeper's end costs as much as the ward itself: Close tells each
	} else {
		p.wake, p.drives = make(chan struct{}, 1), map[int]*drive.Drive{}
	}
	p.ctx, p.cancel = context.WithCancel(within)
	p.Placement = loop.New(loop.Identity{ID: rec.ID, Cluster: c.conf.Name, Ward: k.shared(w), File: of.File, Roster: of.Roster, Source: of.Source, Broken: broken},
		loop.Deps{Reach: c.watched(), Others: others{p}, Stores: uses{p}, Book: past{p}, Log: labelled(k.log, slog.String("ward", rec.ID)), Common: k.common}, time.Now())
	return p
}

// shared is a ward's file as another placement of the ward has it already, where it is the same there: a ward may be in very many clusters.
func (k *Keeper) shared(w ward.Ward) *ward.Ward {
	k.mu.RLock()
	defer k.mu.RUnlock()
	tries := 4 // where each cluster's labels make another of it there is nothing to be found
	for _, p := range k.kept.named[w.Name] {
		if reflect.DeepEqual(*p.Ward, w) {
			return p.Ward
		}
		if tries--; tries == 0 {
			break
		}
	}
	own := w
	return &own
}

// load reads what the record holds of the ward. stored is what it declared before the service started.
func (p *placement) load(ctx context.Context, rec record.Placement, stored *declared.Declaration) (err error) {
	held := loop.Past{Placement: rec, Stored: stored}
	if held.Baselines, err = p.k.ledger.Baselines(ctx, p.ID); err != nil {
		return err
	}
	if held.Doing, _, err = p.k.ledger.Doing(ctx, p.ID); err != nil {
		return err
	}
	if held.Handed, err = p.k.ledger.Handed(ctx, p.ID); err != nil {
		return err
	}
	if held.Number, err = p.k.ledger.LastNumber(ctx, p.ID); err != nil {
		return err
	}
	if held.Rejections, err = p.k.ledger.Rejections(ctx, p.ID); err != nil {
		return err
	}
	if held.Tasks, err = p.k.ledger.Tasks(ctx, p.ID); err != nil {
		return err
	}
	if held.Canary, err = p.k.ledger.Canary(ctx, p.ID, 0); err != nil {
		return err
	}
	var rules []repo.File
	for _, f := range rec.Rules {
		rules = append(rules, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	if held.Rules, err = render.Rules(rules); err != nil {
		p.Log.Warn("health rules can't be read any more", "error", err)
	}
	if held.Restores, err = p.k.ledger.Restores(ctx, p.ID, time.Now().Add(-7*standing.Span)); err != nil { // a contest outlives the service
		return err
	}
	since := time.Now().Add(-standing.Span)
	if held.Stretches, err = p.k.ledger.Standings(ctx, p.ID, since); err != nil {
		return err
	}
	if held.Entries, _, err = p.k.ledger.Entries(ctx, record.Find{Placement: p.ID, Since: since}); err != nil {
		return err
	}
	slices.Reverse(held.Entries) // the record has the newest first
	if held.Newest, _, err = p.k.ledger.Entries(ctx, record.Find{Placement: p.ID, Limit: 50}); err != nil {
		return err
	}
	p.Load(held)
	return nil
}

// openBroken stands in for a placement that can't be opened: it is blind and says why, and keeps nobody else from anything.
func (k *Keeper) openBroken(rec record.Placement, w ward.Ward, of record.Ward, why error) {
	k.log.Error("a ward can't be opened; the others go on", "ward", rec.ID, "error", why)
	k.mu.RLock()
	r, c := k.repos[w.From.Repo], k.clusters[rec.Cluster]
	k.mu.RUnlock()
	if c == nil {
		c = &clusterLoop{k: k, conf: record.Cluster{Name: rec.Cluster}, err: fmt.Errorf("cluster %s is not known", rec.Cluster), claims: map[uint64]*placement{}, needs: map[object.Kind]map[string]bool{}}
	}
	if w.Name == "" {
		w.Name = rec.Ward
	}
	p := k.newPlacement(rec, wardIn(w, rec.Cluster, c.labels(), of.Limits), of, c, why.Error())
	if p.repo = r; k.up == nil {
		p.reading = p.reads(r, of.Limits)
	}
	p.Load(loop.Past{Placement: record.Placement{Applied: rec.Applied, Hold: rec.Hold}})
	p.Open(standing.AsOf{}, nil)
	k.mu.Lock()
	k.kept.enter(p)
	k.mu.Unlock()
	k.spawn(p.run)
}

// close ends the placement's goroutine. A run that began just before is called interrupted.
func (p *placement) close() {
	p.cancel()
	if p.summon != nil {
		p.post(attached{}) // none may be there to see that it is to end
	}
	<-p.ended
	e, ok := p.Interrupted(time.Now())
	if !ok {
		return
	}
	if err := p.k.ledger.Commit(context.Background(), p.ID, record.EndEntry{Entry: e}); err != nil {
		p.Log.Error("the end of a run can't be written", "entry", e.Number, "error", err)
	}
}

// saw takes the newest state of an object in, later; of several that wait only the newest is kept, so the queue is
// never longer than the ward. Of a state from a whole list that is older than what is known it is asked by name which holds:
// a list may be stale, and a cluster may have been restored to an earlier state.
func (p *placement) saw(ref object.Ref, body map[string]any, listed bool) {
	if listed {
		p.post(loop.SawListed{Ref: ref, Body: body})
	}
	p.postState(ref, body)
}
