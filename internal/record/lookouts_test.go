package record

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
)

// atSea is the record of a lookout, with the ward of placed.
func atSea(t *testing.T) *Store {
	t.Helper()
	s := placed(t)
	s.Mirrors()
	return s
}

// ashore is the record of a service that the lookout has joined.
func ashore(t *testing.T) *Store {
	t.Helper()
	s := placed(t)
	require.NoError(t, s.PutLookout(ctx, Lookout{Cluster: "quay", Token: "t", Until: time.Now().Add(time.Hour)}))
	require.NoError(t, s.JoinLookout(ctx, "quay", "t", "key", time.Now()))
	return s
}

// TestWhatALookoutWritesArrivesOnce: whatever is sent twice, or in pieces, the two records say the same in the end.
func TestWhatALookoutWritesArrivesOnce(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 7))
	sea, shore := atSea(t), ashore(t)
	now := time.Now().Truncate(time.Millisecond).UTC()
	said := logbook.Revision{ID: "1d77f3a", Subject: "Prefer leeward berths"}
	for n := range 40 {
		e := logbook.Entry{Placement: id, Number: n + 1, Kind: "sync", Outcome: "running", By: "vigila", Started: now.Add(time.Duration(n) * time.Second), Revision: &said}
		require.NoError(t, sea.Commit(ctx, id, AddEntry{e}, PutBaselines{[]compare.Baseline{}}, AddStanding{logbook.Stretch{From: e.Started, Standing: "behind", Health: "ready"}}))
		e.Outcome, e.Ended, e.Objects = "done", e.Started.Add(time.Millisecond), []logbook.EntryObject{{Ref: object.Ref{Kind: "ConfigMap", Namespace: "a/b", Name: "c"}, State: "ready"}}
		require.NoError(t, sea.Commit(ctx, id, EndEntry{e}, SetApplied{Revision: said, Snapshot: "s"}, SetHold{&logbook.Hold{By: "operator", At: now}}, Reject{logbook.Rejection{Revision: "bad", At: now}}))
		if n%3 == 0 {
			require.NoError(t, sea.Commit(ctx, id, SetHold{}, Unreject{"bad"}))
		}
		if r.IntN(3) == 0 {
			continue
		}
		all, err := sea.Outgoing(ctx, 0, 1+r.IntN(30))
		require.NoError(t, err)
		seen, err := shore.TakeIn(ctx, "quay", all)
		require.NoError(t, err)
		switch r.IntN(3) {
		case 0: // the answer is lost: all of it comes again
			again, err := shore.TakeIn(ctx, "quay", all)
			require.NoError(t, err)
			assert.Equal(t, seen, again)
		case 1:
			require.NoError(t, sea.WentOut(ctx, seen))
		}
	}
	for {
		all, err := sea.Outgoing(ctx, 0, 50)
		require.NoError(t, err)
		if len(all) == 0 {
			break
		}
		seen, err := shore.TakeIn(ctx, "quay", all)
		require.NoError(t, err)
		require.NoError(t, sea.WentOut(ctx, seen))
	}
	waiting, last, err := sea.OutgoingSpan(ctx)
	require.NoError(t, err)
	assert.Zero(t, waiting)
	assert.Positive(t, last, "numbers go on although nothing waits")
	for _, s := range []*Store{sea, shore} {
		page, total, err := s.Entries(ctx, Find{Placement: id})
		require.NoError(t, err)
		require.Equal(t, 40, total)
		for i, e := range page {
			assert.Equal(t, 40-i, e.Number)
		}
	}
	for _, read := range []func(s *Store) (any, error){
		func(s *Store) (any, error) { return s.Entry(ctx, id, 17) },
		func(s *Store) (any, error) { return s.Standings(ctx, id, now.Add(-time.Hour)) },
		func(s *Store) (any, error) { return s.Rejections(ctx, id) },
		func(s *Store) (any, error) {
			p, err := s.Placements(ctx, "berth-planner")
			for i := range p {
				p[i].Made = time.Time{}
			}
			return p, err
		},
	} {
		a, err := read(sea)
		require.NoError(t, err)
		b, err := read(shore)
		require.NoError(t, err)
		assert.Equal(t, a, b)
	}
}

func TestWhatCantBeTakenIn(t *testing.T) {
	shore := ashore(t)
	stretch := []byte(toJSON(AddStanding{logbook.Stretch{From: time.Now(), Standing: "behind"}}))
	for _, c := range []struct {
		all  []Outgoing
		want string
		seen int64
	}{
		{[]Outgoing{{2, id, "standing", stretch}}, "number 2 comes after 0", 0},
		{[]Outgoing{{1, id, "standing", stretch}, {3, id, "standing", stretch}}, "number 3 comes after 1", 0},
		{[]Outgoing{{1, id, "standing", []byte("{")}}, "a write of kind standing", 0},
		{[]Outgoing{{1, id, "tides", []byte("{}")}}, "", 1},                   // of a newer lookout
		{[]Outgoing{{2, "gone@quay", "standing", stretch}}, "", 2},            // of a ward that is not kept any more
		{[]Outgoing{{3, "berth-planner@skerry", "standing", stretch}}, "", 3}, // of a ward of another cluster
	} {
		seen, err := shore.TakeIn(ctx, "quay", c.all)
		if c.want != "" {
			require.ErrorContains(t, err, c.want)
		} else {
			require.NoError(t, err)
			assert.Equal(t, c.seen, seen)
		}
		kept, err := shore.Lookouts(ctx)
		require.NoError(t, err)
		assert.Equal(t, c.seen, kept[0].Seen, "all of it or nothing")
	}
	stretches, err := shore.Standings(ctx, id, time.Time{})
	require.NoError(t, err)
	assert.Empty(t, stretches)
}

func TestATokenToJoinWithIsGoodOnce(t *testing.T) {
	s := placed(t)
	until := time.Now().Add(time.Hour)
	require.NoError(t, s.PutLookout(ctx, Lookout{Cluster: "quay", Token: "t", Until: until}))
	require.ErrorIs(t, s.JoinLookout(ctx, "quay", "other", "k", time.Now()), ErrNone)
	require.ErrorIs(t, s.JoinLookout(ctx, "quay", "t", "k", until.Add(time.Second)), ErrNone, "it has ended")
	require.NoError(t, s.JoinLookout(ctx, "quay", "t", "k", time.Now()))
	require.ErrorIs(t, s.JoinLookout(ctx, "quay", "t", "another", time.Now()), ErrNone)
	all, err := s.Lookouts(ctx)
	require.NoError(t, err)
	assert.Equal(t, "k", all[0].Key)
	require.NoError(t, s.RemoveLookout(ctx, "quay"))
	all, err = s.Lookouts(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
}

// TestWhatRunsAtALookoutGoesOn: the start of a service interrupts nothing that a lookout runs; the lookout's own does, and says so.
func TestWhatRunsAtALookoutGoesOn(t *testing.T) {
	sea, shore := atSea(t), ashore(t)
	running := AddEntry{logbook.Entry{Placement: id, Number: 1, Kind: "sync", Outcome: "running", Started: time.Now()}}
	require.NoError(t, sea.Commit(ctx, id, running))
	require.NoError(t, shore.Commit(ctx, id, running))
	n, err := shore.InterruptRunning(ctx)
	require.NoError(t, err)
	assert.Zero(t, n)
	n, err = sea.InterruptRunning(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	all, err := sea.Outgoing(ctx, 0, 10)
	require.NoError(t, err)
	require.Len(t, all, 2)
	_, err = shore.TakeIn(ctx, "quay", []Outgoing{{1, id, all[1].Kind, all[1].Body}})
	require.NoError(t, err)
	e, err := shore.Entry(ctx, id, 1)
	require.NoError(t, err)
	assert.EqualValues(t, "interrupted", e.Outcome)
}

// TestNumbersGoOnWhereALookoutBeginsAnew: one that has lost its record takes no number a second time.
func TestNumbersGoOnWhereALookoutBeginsAnew(t *testing.T) {
	s := atSea(t)
	require.NoError(t, s.SetBefore(ctx, id, 7))
	n, err := s.LastNumber(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, 7, n)
	require.NoError(t, s.Commit(ctx, id, AddEntry{logbook.Entry{Placement: id, Number: 8, Kind: "sync", Outcome: "done", Started: time.Now()}}))
	n, err = s.LastNumber(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, 8, n)
}

func TestSettingsAreSealed(t *testing.T) {
	s := placed(t)
	v, err := s.Setting(ctx, "lookout_key")
	require.NoError(t, err)
	assert.Nil(t, v)
	require.NoError(t, s.PutSetting(ctx, "lookout_key", []byte("tidewater")))
	v, err = s.Setting(ctx, "lookout_key")
	require.NoError(t, err)
	assert.Equal(t, "tidewater", string(v))
	var kept string
	require.NoError(t, s.db.QueryRow(`SELECT value FROM settings WHERE name='lookout_key'`).Scan(&kept))
	assert.NotContains(t, kept, "tidewater")
}

// TestWhatIsLostIsToldWhole: a service that was put back to an earlier state has the same as the lookout afterwards, and goes on from there.
func TestWhatIsLostIsToldWhole(t *testing.T) {
	sea, shore := atSea(t), ashore(t)
	add := func(number int) {
		e := logbook.Entry{Placement: id, Number: number, Kind: "sync", Outcome: "done", Started: time.Now(), Objects: []logbook.EntryObject{{Ref: object.Ref{Kind: "ConfigMap", Name: "c"}, State: "ready"}}}
		require.NoError(t, sea.Commit(ctx, id, AddEntry{e}, Reject{logbook.Rejection{Revision: "bad", At: time.Now()}}, SetHold{&logbook.Hold{By: "operator"}}))
	}
	add(1)
	add(2)
	_, last, err := sea.OutgoingSpan(ctx)
	require.NoError(t, err)
	require.NoError(t, sea.WentOut(ctx, last-1), "somebody had it")
	add(3)
	_, err = shore.TakeIn(ctx, "quay", must(sea.Outgoing(ctx, 0, 10)))
	require.ErrorIs(t, err, ErrGap)
	require.NoError(t, shore.Commit(ctx, id, AddEntry{logbook.Entry{Placement: id, Number: 1, Kind: "hold", Started: time.Now()}}), "of before")

	all, asOf, err := sea.Wholes(ctx)
	require.NoError(t, err)
	parts := all[id].Parts(300)
	require.Greater(t, len(parts), 1, "a long logbook goes in several")
	for _, part := range parts {
		require.NoError(t, shore.TakeWhole(ctx, "quay", map[string]Whole{id: part}, -1))
	}
	require.NoError(t, shore.TakeWhole(ctx, "quay", nil, asOf))
	require.NoError(t, sea.WentOut(ctx, asOf))
	add(4)
	_, err = shore.TakeIn(ctx, "quay", must(sea.Outgoing(ctx, 0, 10)))
	require.NoError(t, err)
	for n := 1; n <= 4; n++ {
		a, err := sea.Entry(ctx, id, n)
		require.NoError(t, err)
		b, err := shore.Entry(ctx, id, n)
		require.NoError(t, err)
		assert.Equal(t, a, b)
	}
}

// TestWhatCameBeforeTheLookoutStays: what a service has done itself is not taken away by a lookout that tells it all it knows.
func TestWhatCameBeforeTheLookoutStays(t *testing.T) {
	sea, shore := atSea(t), placed(t)
	for n := 1; n <= 2; n++ {
		require.NoError(t, shore.Commit(ctx, id, AddEntry{logbook.Entry{Placement: id, Number: n, Kind: "sync", Outcome: "done", Started: time.Now()}}, PutBaselines{[]compare.Baseline{{Ref: object.Ref{Kind: "ConfigMap", Name: "c"}, UID: "u"}}}))
	}
	require.NoError(t, shore.PutLookout(ctx, Lookout{Cluster: "quay", Token: "t", Until: time.Now().Add(time.Hour)}))
	kept, err := shore.Baselines(ctx, id)
	require.NoError(t, err)
	assert.Len(t, kept, 1, "before it has joined, nobody else knows them")
	require.NoError(t, shore.JoinLookout(ctx, "quay", "t", "k", time.Now()))
	kept, err = shore.Baselines(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, kept)

	require.NoError(t, sea.SetBefore(ctx, id, 2))
	require.NoError(t, sea.Commit(ctx, id, AddEntry{logbook.Entry{Placement: id, Number: 3, Kind: "sync", Outcome: "done", Started: time.Now()}}))
	all, asOf, err := sea.Wholes(ctx)
	require.NoError(t, err)
	require.NoError(t, shore.TakeWhole(ctx, "quay", all, asOf))
	_, total, err := shore.Entries(ctx, Find{Placement: id})
	require.NoError(t, err)
	assert.Equal(t, 3, total)

	require.NoError(t, shore.PutLookout(ctx, Lookout{Cluster: "quay", Token: "another", Until: time.Now().Add(time.Hour)}))
	require.NoError(t, shore.TellLookout(ctx, Lookout{Cluster: "quay", Token: "t", Key: "k", Told: LookoutTold{Version: "old"}}))
	now, err := shore.Lookouts(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"another", "", ""}, []string{now[0].Token, now[0].Key, now[0].Told.Version}, "one of before says nothing any more")
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// TestACopyIsWholeAndSealed: it is made while others write, and holds what was there at one moment; without the key it is nothing.
func TestACopyIsWholeAndSealed(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	require.NoError(t, s.PutCluster(ctx, Cluster{Name: "quay", Labels: map[string]string{}}))
	require.NoError(t, s.PutWard(ctx, Ward{Name: "berth-planner", File: "file"}, []string{"quay"}))
	stop := make(chan struct{})
	wrote := make(chan int)
	go func() {
		n := 0
		for ; ; n++ {
			select {
			case <-stop:
				wrote <- n
				return
			default:
			}
			if err := s.Commit(ctx, id, AddEntry{logbook.Entry{Placement: id, Number: n + 1, Kind: "sync", Outcome: "done", Started: time.Now()}}); err != nil {
				panic(err)
			}
		}
	}()
	var b bytes.Buffer
	require.NoError(t, Copy(ctx, dir, &b))
	close(stop)
	n := <-wrote
	assert.NotContains(t, b.String(), "berth-planner")

	other := t.TempDir()
	assert.ErrorContains(t, PutBack(ctx, other, bytes.NewReader(b.Bytes())), "there is no key")
	key := must(os.ReadFile(filepath.Join(dir, "vigila.key")))
	require.NoError(t, os.WriteFile(filepath.Join(other, "vigila.key"), key, 0o600))
	assert.ErrorContains(t, PutBack(ctx, other, bytes.NewReader(b.Bytes()[:b.Len()/2])), "broken")
	_, err := os.Stat(filepath.Join(other, "vigila.db"))
	require.ErrorIs(t, err, os.ErrNotExist, "a broken one leaves nothing")
	require.NoError(t, PutBack(ctx, other, bytes.NewReader(b.Bytes())))
	assert.ErrorContains(t, PutBack(ctx, other, bytes.NewReader(b.Bytes())), "is there already")
	assert.ErrorContains(t, PutBack(ctx, dir, bytes.NewReader(b.Bytes())), "another Vigila already uses")

	again := open(t, other)
	assert.Equal(t, s.ServiceID(), again.ServiceID())
	last, err := again.LastNumber(ctx, id)
	require.NoError(t, err)
	assert.LessOrEqual(t, last, n)
	_, total, err := again.Entries(ctx, Find{Placement: id})
	require.NoError(t, err)
	assert.Equal(t, last, total, "of one moment")

	assert.ErrorContains(t, Copy(ctx, t.TempDir(), &b), "there is no database")
}

// TestANewerDatabaseIsRefused: what a newer version has made of it is not guessed at.
func TestANewerDatabaseIsRefused(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	_, err := s.db.Exec(`INSERT INTO migrations VALUES ('migrations/0999_tides.sql')`)
	require.NoError(t, err)
	var copied bytes.Buffer
	require.NoError(t, Copy(ctx, dir, &copied))
	require.NoError(t, s.Close())
	_, err = Open(ctx, dir)
	var newer *NewerError
	require.ErrorAs(t, err, &newer)
	assert.Contains(t, err.Error(), "of a newer version of Vigila than this one (it knows of 0999_tides")
	require.NoError(t, os.Remove(filepath.Join(dir, "vigila.db")))
	require.ErrorAs(t, PutBack(ctx, dir, &copied), &newer)
}
