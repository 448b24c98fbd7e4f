package keeper

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// placement is one ward in one cluster: the shell around what the core knows of it. What is below the line is touched by its own
// goroutine alone; what others need to know is in what it shows them.
type placement struct {
	identity
	ties
	mailbox
	shown
	k *Keeper

	// ----
	reading
	writing
	work
	told
	index *index.Index // the objects that it keeps
	will  run.Will     // what it holds as a whole, and what was decided
	line  standing.Line
	kinds map[object.Kind]bool // what is watched for it
	timer *time.Timer
}

// identity is what makes a ward this one; another file makes another.
type identity struct {
	id      string
	ward    ward.Ward
	file    string
	roster  string // that declares it; "" when a person registered it
	source  string // the file in the roster's repository
	limits  roster.Limits
	service string       // the id of this service
	mask    compare.Mask // of secret values
	made    time.Time    // when the ward came into this cluster
	broken  string       // why what the record holds of it can't be used; nothing runs then
}

// ties are what it works with.
type ties struct {
	repo    *sources.Loop
	cluster *clusterLoop
	hands   drive.Hands // the cluster, acted in as the ward's service account where it has one
	ledger  ledger      // the record
	log     *slog.Logger
	ctx     context.Context
	cancel  context.CancelFunc
	ended   chan struct{}
}

// shown is what others may read at any time.
type shown struct {
	view    atomic.Pointer[standing.View]
	says    atomic.Pointer[declared.Declaration] // what it declares
	inputs  atomic.Pointer[[]declared.Input]     // what that is made of
	overrun atomic.Pointer[overrun]              // the last rendering, when it took too much
	ending  atomic.Pointer[logbook.Entry]        // the run that ended last, until the record has its end
	hears   hearing                              // looks at its repository that it was told of, and has taken in
}

// reading is what is known of its repositories.
type reading struct {
	repository standing.AsOf            // the repository, as this ward needs it: rendered too
	others     map[string]standing.AsOf // its other repositories, as far as they were looked at
	declared   *declared.Declaration
	stored     *declared.Declaration // what was declared before the service started; used if the tree is still the same
	misfiled   string                // what is wrong with the ward's file since it was last read well
	limited    string                // what its roster's limits say against its file
	heldBack   string                // what they say against what it declares
	rendering  bool
	renderNext bool
	renderFrom time.Time       // since when it is rendered
	taking     int64           // looks that it was told of, and that no rendering has taken in yet
	marks      marks           // what others have to have taken in before anything is removed
	looking    []chan struct{} // people who wait for the rendering that goes on
}

// writing is what is on its way to the record.
type writing struct {
	at        time.Time // when the event that is taken in was
	outs      []effect  // what the events of this turn want done, however the writes go
	now       batch     // what they have changed
	flying    *batch    // what is being written down
	unwritten string    // why it can't be
	number    int       // of the newest entry
}

// work is what is to be done, and what goes on.
type work struct {
	run       *activeRun
	tasks     map[object.Ref]record.TaskObject
	late      map[object.Ref]bool   // what a run was about to apply when the service was killed: a call on its way may still land
	strays    map[object.Ref]*stray // objects that bear the ward's mark and that nobody keeps
	finishing bool                  // the end of its removal is on its way
	behind    *behind               // what the repository moved, as it was found out last
	moved     uint64                // grows with everything but the index that behind follows from
	appliedIn string                // the snapshot that appliedOf is of
	appliedOf map[object.Ref]string // the objects of what was applied as a whole, to their hashes
}

// told is what people were told.
type told struct {
	noticed    map[object.Ref][]compare.Difference // drift that the logbook tells of
	toldBefore string                              // what it told of before the service was started anew
	notedAt    time.Time                           // when it was told something of drift last,
	notePause  time.Duration                       // and how long it is told nothing more then
	viewed     time.Time                           // when the view was made last
	viewCost   time.Duration                       // and how long that took
}

func (k *Keeper) openPlacement(ctx context.Context, rec record.Placement, w ward.Ward, of record.Ward) error {
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
	w = w.For(rec.Cluster, c.labels())
	if limits.As != "" {
		w.Into.As = limits.As
	}
	p := k.newPlacement(rec, w, of, c)
	p.repo, p.limits = r, limits
	if c.conn != nil {
		var err error
		if p.hands, err = c.as(w.Into.Namespace, w.Into.As); err != nil {
			return err
		}
	}
	if err := p.load(ctx, rec); err != nil {
		return err
	}
	var err error
	if p.stored, err = p.storedDeclaration(ctx); err != nil {
		return err
	}
	if p.stored != nil {
		p.inputs.Store(&p.stored.Inputs)
	}
	for _, name := range w.Reads() {
		if l, err := k.source(name); err == nil {
			p.others[name] = l.Subscribe(p)
			l.LookSoon()
		} else {
			p.others[name] = standing.AsOf{Problem: err.Error()}
		}
	}
	p.repository = r.Subscribe(p)
	p.repository.Known = false // read, perhaps, but not rendered by this ward yet
	p.view.Store(p.build())
	for ref := range p.index.All() {
		c.claim(ref, p)
	}
	k.mu.Lock()
	k.wards[p.id] = p
	k.mu.Unlock()
	if c.conn != nil {
		for _, k := range p.index.Kinds() {
			p.watchKind(k)
		}
		for _, t := range p.tasks {
			p.watchKind(t.Watch())
		}
	}
	k.spawn(p.loop)
	p.post(begins{})
	p.post(watchMoved{}) // watches that other wards began may have told everything already
	if p.repository.At.IsZero() {
		r.LookSoon()
	} else { // it was read a moment ago; a thousand wards that a roster declares need no thousand looks
		p.WasRead(r.Name(), r.State().AsOf)
	}
	return nil
}

// newPlacement is a ward in a cluster of which nothing is known yet.
func (k *Keeper) newPlacement(rec record.Placement, w ward.Ward, of record.Ward, c *clusterLoop) *placement {
	p := &placement{k: k, mailbox: newMailbox(), kinds: map[object.Kind]bool{},
		identity: identity{id: rec.ID, ward: w, file: of.File, roster: of.Roster, source: of.Source, service: k.service, mask: k.mask},
		ties:     ties{cluster: c, ledger: k.ledger, log: k.log.With("ward", rec.ID), ended: make(chan struct{})},
		reading:  reading{others: map[string]standing.AsOf{}},
		writing:  writing{at: time.Now()},
		told:     told{noticed: map[object.Ref][]compare.Difference{}}}
	p.index = index.New(p, index.Settings{Service: p.service, Mask: p.mask, Additions: w.Keep.Additions})
	p.ctx, p.cancel = context.WithCancel(k.ctx)
	return p
}

// load reads what the record holds of the ward.
func (p *placement) load(ctx context.Context, rec record.Placement) error {
	p.made, p.will.Applied, p.will.Snapshot, p.will.Done, p.will.Hold, p.will.Leaving = rec.Made, rec.Applied, rec.Snapshot, rec.Tasks, rec.Hold, rec.Leaving
	baselines, err := p.ledger.Baselines(ctx, p.id)
	if err != nil {
		return err
	}
	for _, b := range baselines {
		p.index.Keep(b)
	}
	if p.late, _, err = p.ledger.Doing(ctx, p.id); err != nil {
		return err
	}
	handed, err := p.ledger.Handed(ctx, p.id)
	if err != nil {
		return err
	}
	for ref, version := range handed {
		p.noteStray(ref, version).handed = true
	}
	if p.number, err = p.ledger.LastNumber(ctx, p.id); err != nil {
		return err
	}
	if p.will.Rejections, err = p.ledger.Rejections(ctx, p.id); err != nil {
		return err
	}
	if p.tasks, err = p.ledger.Tasks(ctx, p.id); err != nil {
		return err
	}
	var health []repo.File
	for _, f := range rec.Rules {
		health = append(health, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	if p.index.Rules, err = render.Rules(health); err != nil {
		p.log.Warn("health rules can't be read any more", "error", err)
	}
	restores, err := p.ledger.Restores(ctx, p.id, time.Now().Add(-7*standing.Span)) // a contest outlives the service
	if err != nil {
		return err
	}
	for _, r := range restores {
		p.index.Contests.Restored(r.Ref, r.Path, r.Who, r.At)
	}
	return p.loadPast(ctx)
}

// loadPast reads what the logbook tells that the ward goes by.
func (p *placement) loadPast(ctx context.Context) error {
	since := time.Now().Add(-standing.Span)
	stretches, err := p.ledger.Standings(ctx, p.id, since)
	if err != nil {
		return err
	}
	entries, _, err := p.ledger.Entries(ctx, record.Find{Placement: p.id, Since: since})
	if err != nil {
		return err
	}
	slices.Reverse(entries) // the record has the newest first
	p.line = standing.NewLine(stretches, entries)
	newest, _, err := p.ledger.Entries(ctx, record.Find{Placement: p.id, Limit: 50})
	if err != nil {
		return err
	}
	for i, e := range newest {
		if isRun(e) {
			p.will.Last = &newest[i]
			break
		}
		if e.Kind == driftKind {
			p.toldBefore += e.Why + "\n"
		}
	}
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
	p := k.newPlacement(rec, w, of, c)
	p.repo, p.will.Applied, p.will.Hold, p.broken, p.will.Rejections = r, rec.Applied, rec.Hold, why.Error(), map[string]logbook.Rejection{}
	p.view.Store(p.build())
	k.mu.Lock()
	k.wards[p.id] = p
	k.mu.Unlock()
	k.spawn(p.loop)
}

// close ends the placement's goroutine. A run that began just before is called interrupted.
func (p *placement) close() {
	p.cancel()
	<-p.ended
	if p.run == nil {
		return
	}
	e := p.run.entry
	e.Outcome, e.Reason, e.Ended = string(run.Interrupted), "the ward was changed or removed while it ran", time.Now()
	if err := p.ledger.Commit(context.Background(), p.id, record.EndEntry{Entry: e}); err != nil {
		p.log.Error("the end of a run can't be written", "entry", e.Number, "error", err)
	}
}

// saw takes the newest state of an object in, later; of several that wait only the newest is kept, so the queue is
// never longer than the ward. Of a state from a whole list that is older than what is known it is asked by name which holds:
// a list may be stale, and a cluster may have been restored to an earlier state.
func (p *placement) saw(ref object.Ref, body map[string]any, listed bool) {
	if listed {
		p.post(sawListed{ref, body})
	}
	p.postState(ref, body)
}

// ask runs a function on the placement's goroutine and waits for it; what it changes is written down before the answer.
func (p *placement) ask(ctx context.Context, f func() error) error {
	c := make(chan error, 1)
	p.post(wished{f, c})
	select {
	case err := <-c:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-p.ended:
		return fault(NotFound, "ward %s is not kept any more", p.id)
	}
}

func (p *placement) loop() {
	defer close(p.ended)
	defer p.lastWrites()
	p.timer = time.NewTimer(time.Hour)
	defer p.timer.Stop()
	for {
		var events []event
		select {
		case <-p.ctx.Done():
			return
		case <-p.wake:
		case <-p.timer.C:
			events = append(events, ticked{})
		}
		p.takeIn(append(events, p.take()...))
	}
}

// resume takes up what a crash left: a failed run that was about to go back, goes back.
func (p *placement) resume() {
	if p.will.TakesUp(p.ward.Settle.Otherwise == "rollback") {
		p.goBack(nil, "the service ended before it had gone back")
	}
}
