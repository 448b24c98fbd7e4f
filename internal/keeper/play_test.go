package keeper

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"hash/maphash"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
)

var (
	playSeed  = flag.Uint64("play.seed", 0, "play this one sequence, and tell what happens")
	playWards = flag.Int("play.wards", 1, "how many wards play: with 2 they hand objects over to each other")
	playTimes = flag.Int("play.times", 500, "how many sequences to play")
)

// TestAWardIsPlayed plays one ward, or two that hand objects over to each other, against a cluster, a record and people that do whatever they can do, in a time of its own: answers
// that are late or lost, watches that break, writes that fail, kills between any two things. Nothing is applied before it is written
// down; once everybody has come to rest, the cluster holds what is declared, or the ward says why not.
func TestAWardIsPlayed(t *testing.T) {
	if *playSeed != 0 {
		play(t, *playSeed)
		return
	}
	times := uint64(*playTimes)
	if raced {
		times = min(times, 200) // each takes ten times as long there
	}
	const workers = 4
	for w := range uint64(workers) {
		t.Run(fmt.Sprint("worker", w+1), func(t *testing.T) {
			t.Parallel()
			for seed := w + 1; seed <= times; seed += workers {
				if !t.Run(fmt.Sprint(seed), func(t *testing.T) { play(t, seed) }) {
					t.Fatalf("play it again: go test ./internal/keeper -run TestAWardIsPlayed -play.seed %d -v", seed)
				}
			}
		})
	}
}

func play(t *testing.T, seed uint64) {
	synctest.Test(t, func(t *testing.T) {
		s := newStage(t, seed)
		defer s.end()
		s.commit()
		s.open()
		for range 12 + s.r.IntN(20) {
			s.something()
			time.Sleep(time.Duration(s.r.IntN(4000)) * time.Millisecond)
			s.told()
			s.check()
		}
		s.rest()
	})
}

// stage is everything that one or two wards are played with.
type stage struct {
	t     *testing.T
	r     *rand.Rand
	book  *book
	sea   *sea
	wards []ward.Ward
	log   *slog.Logger

	k      *Keeper
	ps     []*placement // of the life that goes on, beside wards
	killed *atomic.Bool

	commits int
	newest  atomic.Pointer[[]*declared.Declaration] // of each ward, as the last commit has them
	was     *memory                                 // the cluster's data, some time ago
}

const service = "us"

func pick[T any](r *rand.Rand, of ...T) T { return of[r.IntN(len(of))] }

func newStage(t *testing.T, seed uint64) *stage {
	r := rand.New(rand.NewPCG(seed, 1))
	s := &stage{t: t, r: r, book: newBook(), sea: newSea(rand.New(rand.NewPCG(seed, 2))), log: slog.New(slog.DiscardHandler)}
	if *playSeed != 0 {
		s.log = slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelDebug}))
	}
	for _, name := range []string{"w", "v"}[:min(*playWards, 2)] {
		w := ward.Ward{Name: name, Keep: ward.Keep{Sync: pick(r, ward.Auto, ward.Auto, ward.Auto, ward.Ask), Drift: pick(r, ward.Restore, ward.Report), Prune: r.IntN(4) > 0, Additions: pick(r, ward.ReportAdded, ward.IgnoreAdded), Every: time.Minute, Newer: pick(r, ward.Wait, ward.Replace)},
			From: ward.From{Repo: "moorings"}, Settle: ward.Settle{Within: 30 * time.Second, Otherwise: pick(r, ward.GoBack, ward.GoBack, ward.Stay)}, Into: ward.Into{Namespace: "n"}}
		s.log.Info("a ward", "name", name, "keep", w.Keep, "settle", w.Settle)
		s.wards = append(s.wards, w)
	}
	s.sea.wrote = s.wrote
	s.sea.removes = s.removes
	return s
}

// wrote tells whether it is written down that an object may be applied with a ward's mark.
func (s *stage) wrote(ref object.Ref, ward string) error {
	s.book.mu.Lock()
	defer s.book.mu.Unlock()
	if _, kept := s.book.baselines[ward+"@sea"][ref]; !kept {
		return fmt.Errorf("%s was applied by %s before it was written down", ref, ward)
	}
	return nil
}

// removes tells whether a ward may remove an object: not when another has taken in that it is to be its own, nor, in a sync, when the
// ward itself has. The object's mark doesn't say who removes it: in data that were put back it is the mark from before a hand-over.
func (s *stage) removes(ref object.Ref, ward string) error {
	for _, p := range s.ps {
		if p.Says().Find(ref) != nil && p.View().Leaving == nil && (p.Ward.Name != ward || s.syncs(p)) {
			return fmt.Errorf("%s removes %s, which %s declares", ward, ref, p.ID)
		}
	}
	return nil
}

// syncs tells whether a ward is in the middle of a sync.
func (s *stage) syncs(p *placement) bool {
	s.book.mu.Lock()
	defer s.book.mu.Unlock()
	return slices.ContainsFunc(s.book.entries[p.ID], func(e logbook.Entry) bool {
		return e.Kind == run.Sync && e.Outcome == run.Running
	})
}

func (s *stage) tell(what string, args ...any) { s.log.Info("── "+what, args...) }

// open begins a life of the service.
func (s *stage) open() {
	dead := &atomic.Bool{}
	s.killed, s.ps = dead, nil
	k := &Keeper{ledger: page{s.book, dead.Load}, service: service, mask: func(v string) string { return "digest of " + v }, log: s.log, broker: newBroker(), metrics: newCounters(), opts: Options{Parallel: 4}, holdings: newHoldings()}
	k.share()
	k.ctx, k.cancel = context.WithCancel(s.t.Context())
	w := s.sea.watch(k.ctx)
	c := &clusterLoop{k: k, conf: record.Cluster{Name: "sea"}, conn: w, as: func(string, string) (drive.Hands, error) { return w, nil }, below: newBelow(w.Children), calls: newTurns(8, 10*time.Second, k.metrics.waits.WithLabelValues("sea")),
		claims: map[uint64]*placement{}, seed: maphash.MakeSeed(), needs: map[object.Kind]map[string]bool{}}
	w.Handle(c)
	k.clusters["sea"] = c
	s.k = k
	for _, of := range s.wards {
		s.openWard(of, c, w)
	}
	s.read()
}

func (s *stage) openWard(of ward.Ward, c *clusterLoop, w *watcher) {
	id := of.Name + "@sea"
	s.book.mu.Lock()
	rec := s.book.placed[id]
	for i, e := range s.book.entries[id] { // as the record does at the start
		if e.Outcome == run.Running {
			s.book.entries[id][i].Outcome = run.Interrupted
		}
	}
	s.book.mu.Unlock()
	rec.ID, rec.Ward, rec.Cluster = id, of.Name, "sea"
	p := s.k.newPlacement(rec, of, record.Ward{}, c, "")
	p.hands = &handsOf{w, of.Name}
	require.NoError(s.t, p.load(s.k.ctx, rec, nil))
	p.Open(standing.AsOf{}, nil)
	s.k.mu.Lock()
	s.k.kept.enter(p)
	s.k.mu.Unlock()
	s.k.spawn(p.run)
	p.post(loop.Begins{})
	p.post(loop.WatchMoved{})
	s.ps = append(s.ps, p)
}

// kill ends a life of the service: nothing more is written down, and calls that are on their way may still land.
func (s *stage) kill() {
	s.tell("kill")
	s.killed.Store(true)
	s.k.cancel()
	for _, p := range s.ps {
		<-p.ended
	}
}

// read lets the wards see what is declared, each a little later.
func (s *stage) read() {
	for i, p := range s.ps {
		p.Hears().Told.Add(1)
		time.AfterFunc(time.Duration(s.r.IntN(500))*time.Millisecond, func() {
			d := *(*s.newest.Load())[i]
			p.post(loop.Rendered{AsOf: standing.AsOf{Known: true, At: time.Now()}, Declared: &d})
			p.post(loop.Question{Ask: func() error { p.Hears().Taken.Add(1); return nil }})
		})
	}
}

// commit declares something new: some of a few objects with new values, each in one of the wards; at times one that never gets ready.
func (s *stage) commit() {
	s.commits++
	all := make([][]declared.Whole, len(s.wards))
	said := map[string]any{}
	add := func(ref object.Ref, body map[string]any) {
		i := s.r.IntN(len(s.wards))
		all[i] = append(all[i], s.declare(ref, s.wards[i].Name, body))
		said[s.wards[i].Name+" "+ref.Name] = parts(body)
	}
	for _, name := range []string{"horn", "bell", "lamp"} {
		if s.r.IntN(5) > 0 {
			add(object.Ref{Kind: "ConfigMap", Namespace: "n", Name: name}, map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "data": map[string]any{"v": fmt.Sprint(s.r.IntN(3)), "w": "1"}})
		}
	}
	if s.r.IntN(3) > 0 {
		image := fmt.Sprint("image", s.r.IntN(3))
		if s.r.IntN(5) == 0 {
			image = "bad"
		}
		add(object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "planner"}, map[string]any{"apiVersion": "apps/v1", "kind": "Deployment", "spec": map[string]any{"image": image}})
	}
	var newest []*declared.Declaration
	for i, w := range s.wards {
		// An empty rendering is stopped by a guard, which is another's test.
		all[i] = append(all[i], s.declare(object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "mark-" + w.Name}, w.Name, map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "data": map[string]any{"v": "0"}}))
		id := record.SnapshotID(all[i])
		s.book.mu.Lock()
		s.book.snapshots[id] = all[i]
		s.book.mu.Unlock()
		d := &declared.Declaration{Revision: logbook.Revision{ID: fmt.Sprintf("%07d", s.commits), Subject: fmt.Sprint("Commit ", s.commits)}, Head: fmt.Sprint(s.commits), Snapshot: id, Scaled: map[object.Ref]string{}}
		d.Take(declared.Of(all[i]))
		newest = append(newest, d)
	}
	s.newest.Store(&newest)
	s.tell("commit", "n", s.commits, "objects", said)
}

func (s *stage) declare(ref object.Ref, name string, body map[string]any) declared.Whole {
	body["metadata"] = map[string]any{"name": ref.Name, "namespace": ref.Namespace, "labels": map[string]any{object.WardLabel: name}, "annotations": map[string]any{object.ServiceAnnotation: service}}
	return declared.Whole{Object: object.Object{Ref: ref, Version: body["apiVersion"].(string), Body: body, File: "a.yaml", Line: 1}, Hash: object.Hash(body)}
}

// something happens.
func (s *stage) something() {
	p := s.ps[s.r.IntN(len(s.ps))]
	ask := func(what string, f func(ctx context.Context) error) {
		go func() {
			ctx, cancel := context.WithTimeout(s.t.Context(), 20*time.Second)
			defer cancel()
			s.tell(what, "ward", p.ID, "error", f(ctx))
		}()
	}
	want := func(what string, w loop.Wish) {
		ask(what, func(ctx context.Context) error {
			_, err := p.want(ctx, w)
			return err
		})
	}
	pause := func(most int) { time.Sleep(time.Duration(s.r.IntN(most)) * time.Millisecond) }
	switch s.r.IntN(24) {
	case 0, 1, 2, 3, 4:
		s.commit()
		s.read()
	case 5, 6, 7:
		s.edit()
	case 8, 9:
		s.remove()
	case 10, 11, 12:
		s.kill()
		pause(2000)
		s.open()
	case 13:
		s.tell("no call is answered")
		s.silent(true)
		pause(20_000)
		s.silent(false)
		s.tell("calls are answered")
	case 14:
		s.tell("watches break")
		s.sea.hear(false)
		pause(5000)
		s.sea.hear(true)
		s.tell("watches are mended")
	case 15:
		s.tell("nothing can be written")
		s.refuse(true)
		pause(20_000)
		s.refuse(false)
		s.tell("writes go through")
	case 16:
		want("stop", loop.StopRun{By: "operator"})
	case 17:
		want("hold", loop.Hold{By: "operator", Reason: "gale"})
	case 18:
		want("release", loop.Release{By: "operator"})
	case 19:
		want("sync", loop.StartRun{Ask: Ask{Kind: run.Sync, By: "operator", Retry: true}})
	case 20:
		want("restore", loop.StartRun{Ask: Ask{Kind: run.Restore, By: "operator"}})
	case 21:
		ask("rollback", func(ctx context.Context) error { return s.rollback(ctx, p) })
	case 22:
		s.was = s.sea.remember()
	case 23:
		if s.was != nil {
			s.tell("the cluster's data are put back")
			s.sea.rewind(s.was)
			s.was = nil
		}
	}
}

// rollback goes back to what is offered.
func (s *stage) rollback(ctx context.Context, p *placement) error {
	n := 0
	if err := p.ask(ctx, func() error { n = p.LastGood(); return nil }); err != nil || n == 0 {
		return err
	}
	_, err := p.want(ctx, loop.StartRun{Ask: Ask{Kind: run.Rollback, By: "operator", ToEntry: n}})
	var f *Fault
	if errors.As(err, &f) && f.Kind == Invalid {
		s.t.Errorf("what is offered to go back to is nothing: %v", err)
	}
	return err
}

func (s *stage) silent(yes bool) {
	s.sea.mu.Lock()
	defer s.sea.mu.Unlock()
	s.sea.silent = yes
}

func (s *stage) refuse(yes bool) {
	s.book.mu.Lock()
	defer s.book.mu.Unlock()
	s.book.refuses = yes
}

// some is one of the objects that are there; the sea's mutex is held.
func (s *stage) some() (object.Ref, map[string]any) {
	refs := slices.SortedFunc(maps.Keys(s.sea.objects), object.Ref.Compare)
	if len(refs) == 0 {
		return object.Ref{}, nil
	}
	ref := refs[s.r.IntN(len(refs))]
	return ref, s.sea.objects[ref]
}

// remove deletes an object by hand.
func (s *stage) remove() {
	s.sea.mu.Lock()
	defer s.sea.mu.Unlock()
	if ref, body := s.some(); body != nil {
		s.tell("somebody deletes", "object", ref.Short(), "uid", object.UID(body))
		s.sea.revision++
		s.sea.delete(ref)
	}
}

// edit changes a field of an object by hand, or adds one.
func (s *stage) edit() {
	s.sea.mu.Lock()
	defer s.sea.mu.Unlock()
	ref, body := s.some()
	if ref.Kind != "ConfigMap" {
		return
	}
	key := []string{"v", "v", "w", "x"}[s.r.IntN(4)]
	s.tell("somebody edits", "object", ref.Short(), "field", key)
	s.sea.apply(ref, map[string]any{"apiVersion": body["apiVersion"], "kind": body["kind"], "data": map[string]any{key: fmt.Sprint("hurry", s.r.IntN(3))}}, "hurry", "Update")
}

// check holds what must be true at any moment.
func (s *stage) check() {
	s.sea.mu.Lock()
	defer s.sea.mu.Unlock()
	require.Empty(s.t, s.sea.wrong)
}

// told holds what is told of runs against what goes on: once a ward says that none does, no entry says that one does.
func (s *stage) told() {
	for _, p := range s.ps {
		p.post(loop.Question{Ask: func() error {
			if p.Going() || p.View().Run != nil {
				return nil
			}
			s.book.mu.Lock()
			defer s.book.mu.Unlock()
			for _, e := range s.book.entries[p.ID] {
				if p.Newest(e).Outcome == run.Running {
					s.sea.mu.Lock()
					s.sea.wrong = append(s.sea.wrong, fmt.Errorf("entry #%d of %s is told as going on, and nothing does", e.Number, p.ID))
					s.sea.mu.Unlock()
				}
			}
			return nil
		}})
	}
}

// rest lets everything come to its end, and looks whether it is a good one.
func (s *stage) rest() {
	s.tell("rest")
	time.Sleep(11 * time.Minute) // twice the longest pause between two tries
	views := make([]*standing.View, len(s.ps))
	for i, p := range s.ps {
		views[i] = s.restOf(p)
	}
	s.check()
	for i, w := range s.wards {
		s.holds(w, views[i], (*s.newest.Load())[i])
	}
	s.sea.mu.Lock()
	defer s.sea.mu.Unlock()
	for ref, body := range s.sea.objects {
		mark := object.Label(body, object.WardLabel)
		kept := s.keeps(ref)
		for i := range s.wards { // what is declared is known to be there already
			kept = kept || (*s.newest.Load())[i].Find(ref) != nil
		}
		require.True(s.t, kept || mark == "", "%s is left behind by %s", ref, mark)
	}
}

// keeps tells whether some ward keeps an object.
func (s *stage) keeps(ref object.Ref) bool {
	for _, kept := range s.book.baselines {
		if _, yes := kept[ref]; yes {
			return true
		}
	}
	return false
}

// restOf is one ward at the end: nothing goes on, and it can see.
func (s *stage) restOf(p *placement) *standing.View {
	ctx, cancel := context.WithTimeout(s.t.Context(), time.Minute)
	defer cancel()
	var going bool
	require.NoError(s.t, p.ask(ctx, func() error { going = p.Going(); return nil }), "the ward answers")
	v, err := p.fresh(ctx)
	require.NoError(s.t, err)
	s.tell("in the end", "ward", p.ID, "says", about(v))
	require.False(s.t, going, "every run ends: %s", about(v))
	require.NotEqual(s.t, compare.Blind, v.Standing, "what can be seen is seen: %s", about(v))
	s.book.mu.Lock()
	defer s.book.mu.Unlock()
	for _, e := range s.book.entries[p.ID] {
		require.NotEqual(s.t, run.Running, e.Outcome, "entry #%d goes on for ever", e.Number)
	}
	if v.Standing == compare.InStep && p.Ward.Keep.Prune { // what is left there on purpose may stay in doubt
		require.Empty(s.t, s.book.intents[p.ID], "nothing is in doubt: %s", about(v))
	}
	return v
}

func about(v *standing.View) string {
	return fmt.Sprintf("%s is %s and %s: %s (%s)", v.ID, v.Standing, v.Health.Word, v.Says, v.Todo)
}

// holds holds the cluster as it is against what a ward declares, and what it says of that.
func (s *stage) holds(w ward.Ward, v *standing.View, newest *declared.Declaration) {
	s.sea.mu.Lock()
	defer s.sea.mu.Unlock()
	var differs []string
	for _, o := range s.book.snapshots[newest.Snapshot] {
		body := s.sea.objects[o.Object.Ref]
		for part, want := range parts(o.Object.Body) {
			for key, value := range want {
				if body == nil || parts(body)[part][key] != value {
					differs = append(differs, fmt.Sprintf("%s of %s is not %v", key, o.Object.Ref.Short(), value))
				}
			}
		}
	}
	bad := false
	for ref, body := range s.sea.objects {
		bad = bad || parts(body)["spec"]["image"] == "bad"
		declared := slices.ContainsFunc(*s.newest.Load(), func(d *declared.Declaration) bool { return d.Find(ref) != nil }) // then it is handed over
		other := s.keeps(ref) && s.book.baselines[v.ID][ref].Ref != ref                                                     // data that were put back may bear the mark from before it was handed over
		if object.Label(body, object.WardLabel) == w.Name && !declared && !other && w.Keep.Prune {
			differs = append(differs, ref.Short()+" is declared no more")
		}
	}
	slices.Sort(differs)
	inStep := v.Standing == compare.InStep
	require.False(s.t, inStep && len(differs) > 0, "%s: and %v", about(v), differs)
	reason := v.Hold != nil || v.NeedsYou || v.Rejected != "" || w.Keep.Sync == "ask" || v.WaitsFor != ""
	if len(differs) > 0 {
		require.True(s.t, reason || w.Keep.Drift == "report" || v.Contested > 0, "nobody does anything about it: %s; %v", about(v), differs)
	} else if !inStep {
		require.True(s.t, reason || v.Drifted > 0, "it is as declared, and not in step: %s", about(v))
	}
	require.False(s.t, inStep && v.Health.Word != health.Ready && !bad, about(v))
}

func (s *stage) end() {
	s.killed.Store(true)
	s.k.cancel()
	for _, p := range s.ps {
		<-p.ended
	}
	s.k.done.Wait()
}
