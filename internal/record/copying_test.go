package record

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/audit"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/ward"
)

// all is everything that a record holds, row by row.
func all(t *testing.T, dir string) (out []string) {
	t.Helper()
	db, err := openCopy(filepath.Join(dir, "vigila.db"), 1)
	require.NoError(t, err)
	defer db.Close()
	tx, err := db.BeginTx(ctx, nil)
	require.NoError(t, err)
	defer func() { _ = tx.Rollback() }()
	require.NoError(t, dump(ctx, tx, func(s Statement) error {
		out = append(out, fmt.Sprint(s.Query, s.Args))
		return nil
	}))
	return out
}

// writesSomething writes one of many sorts of things.
func writesSomething(s *Store, r *rand.Rand, n int) error {
	switch r.IntN(8) {
	case 0:
		return s.PutRepo(ctx, Repo{Name: fmt.Sprintf("moorings-%d", r.IntN(5)), URL: "https://git.brindle.example/moorings", User: "vigila", Password: fmt.Sprint(n)})
	case 1:
		_, err := s.AddAudit(ctx, audit.Entry{At: time.Now(), By: "admin", Verb: "add", Of: "repo", Name: fmt.Sprint(n), Outcome: audit.Done})
		return err
	case 2:
		return s.PutWard(ctx, Ward{Name: fmt.Sprintf("buoy-%d", r.IntN(5)), File: fmt.Sprint("file ", n)}, []string{"quay"})
	case 3:
		return s.PutSetting(ctx, "tide", []byte(fmt.Sprint(n)))
	case 4:
		_, err := s.Tidy(ctx, Retention{Entries: 3}, nil, time.Now())
		return err
	case 5:
		err := s.RemovePlacement(ctx, fmt.Sprintf("buoy-%d@quay", r.IntN(5)))
		if errors.Is(err, ErrNone) {
			return nil
		}
		return err
	case 6: // what fails changes nothing, and nobody is told of it
		_ = s.tx(ctx, func(tx *transaction) error {
			return errors.Join(tx.exec(ctx, `INSERT INTO settings VALUES ('never', ?)`, "x"), errors.New("no"))
		})
		return nil
	}
	return s.Commit(ctx, id, AddEntry{logbook.Entry{Number: n, Placement: id, Kind: "sync", Outcome: "done", By: "vigila", Started: time.Now()}}, AddStanding{logbook.Stretch{From: time.Now().Add(time.Duration(n) * time.Second), Standing: "in step", Health: "ready"}})
}

// TestACopyIsKeptUp: whatever is written while a copy is made and afterwards, by many at a time, is in the copy once it was answered.
func TestACopyIsKeptUp(t *testing.T) {
	s := placed(t)
	dir := filepath.Dir(s.file)
	other := t.TempDir()
	key, err := os.ReadFile(filepath.Join(dir, "vigila.key"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(other, "vigila.key"), key, 0o600))
	r := rand.New(rand.NewPCG(11, 11))
	for n := range 50 {
		require.NoError(t, writesSomething(s, r, n+1))
	}
	in, _, err := BeginCopy(other)
	require.NoError(t, err)
	require.NoError(t, in.Anew())
	var writers sync.WaitGroup
	for w := range 4 {
		writers.Go(func() {
			r := rand.New(rand.NewPCG(12, uint64(w)))
			for n := range 100 {
				assert.NoError(t, writesSomething(s, r, 1000*(w+1)+n))
			}
		})
	}
	c, err := s.CopyOut(ctx, func(one Statement) error { return in.Put(ctx, []Statement{one}) })
	require.NoError(t, err)
	require.NoError(t, in.Whole(ctx))
	life, end := context.WithCancel(ctx)
	var taken sync.WaitGroup
	taken.Go(func() {
		for last := c.Base; ; {
			changes, err := c.Next(life)
			if err != nil {
				return
			}
			for _, ch := range changes {
				assert.Equal(t, last+1, ch.N, "none is missing")
				assert.NoError(t, in.Put(ctx, ch.All))
				last = ch.N
				c.Has(ch.N)
			}
		}
	})
	writers.Wait()
	require.Eventually(t, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		return !c.behind || c.has == s.copies.n
	}, 10*time.Second, time.Millisecond)
	for n := range 20 { // in step, what was answered is there at once
		require.NoError(t, writesSomething(s, r, 9000+n))
		c.mu.Lock()
		has, behind := c.has, c.behind
		c.mu.Unlock()
		if !behind {
			assert.Equal(t, s.copies.n, has)
		}
	}
	require.Eventually(t, func() bool { c.mu.Lock(); defer c.mu.Unlock(); return c.has == s.copies.n }, 10*time.Second, time.Millisecond)
	end()
	taken.Wait()
	c.Leave()
	assert.False(t, s.copies.some)
	require.NoError(t, in.Close())
	assert.Equal(t, all(t, dir), all(t, other))
	again := open(t, other)
	assert.Equal(t, s.ServiceID(), again.ServiceID(), "it is the same service")
	repos, err := again.Repos(ctx)
	require.NoError(t, err)
	assert.NotEmpty(t, repos)
}

// TestACopyTakesThePlaceOfNoOther: a record that was never a copy of this one stays where it is, whoever began with nothing.
func TestACopyTakesThePlaceOfNoOther(t *testing.T) {
	s := open(t, t.TempDir()) // it works, and keeps nothing yet
	theirs := placed(t)
	dir := filepath.Dir(theirs.file)
	require.NoError(t, theirs.Close())
	key, err := os.ReadFile(filepath.Join(filepath.Dir(s.file), "vigila.key"))
	require.NoError(t, err)
	own, err := os.ReadFile(filepath.Join(dir, "vigila.key"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "vigila.key"), key, 0o600))
	copied := func() error {
		in, _, err := BeginCopy(dir)
		require.NoError(t, err)
		defer in.Close()
		require.NoError(t, in.Anew())
		c, err := s.CopyOut(ctx, func(one Statement) error { return in.Put(ctx, []Statement{one}) })
		require.NoError(t, err)
		defer c.Leave()
		return in.Whole(ctx)
	}
	err = copied()
	require.ErrorIs(t, err, ErrAnother)
	assert.ErrorContains(t, err, "vigila.db holds that of "+theirs.ServiceID()+" (wards: 1), and the service that works is "+s.ServiceID())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "vigila.key"), own, 0o600))
	again := open(t, dir)
	assert.Equal(t, theirs.ServiceID(), again.ServiceID())
	clusters, err := again.Clusters(ctx)
	require.NoError(t, err)
	assert.Len(t, clusters, 1)
	require.NoError(t, again.Close())

	require.NoError(t, os.Remove(filepath.Join(dir, "vigila.db")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "vigila.key"), key, 0o600))
	require.NoError(t, copied(), "into nothing")
	require.NoError(t, copied(), "in the place of what was a copy")
}

// TestACopyThatTakesNothingIsNotWaitedFor: a write is late once, and no more; too much on its way ends the copy.
func TestACopyThatTakesNothingIsNotWaitedFor(t *testing.T) {
	s := placed(t)
	c, err := s.CopyOut(ctx, func(Statement) error { return nil })
	require.NoError(t, err)
	defer c.Leave()
	c.behind = false
	require.NoError(t, s.PutSetting(ctx, "tide", []byte("high")))
	c.mu.Lock()
	assert.True(t, c.behind)
	c.mu.Unlock()
	for range 5 {
		_, err := s.change(ctx, `INSERT INTO settings VALUES ('chart', ?) ON CONFLICT (name) DO UPDATE SET value=excluded.value`, strings.Repeat("x", 30<<20))
		require.NoError(t, err)
	}
	_, err = c.Next(ctx)
	assert.ErrorIs(t, err, ErrCopyBehind)
}

// TestACopyNeedsTheKey: without it nothing is copied, and a record that a service works with is not written over.
func TestACopyNeedsTheKey(t *testing.T) {
	_, _, err := BeginCopy(t.TempDir())
	assert.ErrorContains(t, err, "there is no key")
	s := placed(t)
	_, _, err = BeginCopy(filepath.Dir(s.file))
	assert.ErrorIs(t, err, ErrLocked)
}

// TestAServiceTakesTheId of one that is lost, while it has kept nothing itself.
func TestAServiceTakesTheId(t *testing.T) {
	s := open(t, t.TempDir())
	assert.ErrorContains(t, s.TakePlace(ctx, "not an id"), "is no id of a service")
	require.NoError(t, s.TakePlace(ctx, "abcdefgh23"))
	require.NoError(t, s.TakePlace(ctx, "abcdefgh23"))
	assert.Equal(t, "abcdefgh23", s.ServiceID())
	require.NoError(t, s.PutCluster(ctx, Cluster{Name: "quay"}))
	require.NoError(t, s.PutWard(ctx, Ward{Name: "berth-planner", File: "file"}, []string{"quay"}))
	assert.ErrorContains(t, s.TakePlace(ctx, "abcdefgh24"), "keeps wards or lookouts already")
	require.NoError(t, s.TakePlace(ctx, "abcdefgh23"), "said again, it changes nothing")
}

// TestDatabasesOfBefore: databases that earlier versions made, with a ward, two syncs and a hold, are brought up to date, and nothing of them is lost.
func TestDatabasesOfBefore(t *testing.T) {
	files, err := filepath.Glob("testdata/schema-*.db.gz")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 12)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			dir := t.TempDir()
			f, err := os.Open(file)
			require.NoError(t, err)
			defer f.Close()
			z, err := gzip.NewReader(f)
			require.NoError(t, err)
			b, err := io.ReadAll(z)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "vigila.db"), b, 0o600))
			key, err := os.ReadFile(strings.TrimSuffix(file, ".db.gz") + ".key")
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "vigila.key"), key, 0o600))
			s := open(t, dir)
			wards, err := s.Wards(ctx)
			require.NoError(t, err)
			require.Len(t, wards, 1)
			parsed, err := ward.Parse("w.yaml", []byte(wards[0].File))
			require.NoError(t, err)
			assert.Equal(t, wards[0].Name, parsed[0].Name)
			placements, err := s.Placements(ctx, "")
			require.NoError(t, err)
			require.Len(t, placements, 1)
			p := placements[0]
			require.NoError(t, p.Err)
			require.NotNil(t, p.Hold)
			assert.Equal(t, "admin", p.Hold.By)
			assert.Contains(t, p.Applied.Subject, "Three berths")
			entries, total, err := s.Entries(ctx, Find{Placement: p.ID})
			require.NoError(t, err)
			require.GreaterOrEqual(t, total, 2)
			for i, e := range entries {
				assert.Equal(t, total-i, e.Number)
				assert.EqualValues(t, "done", e.Outcome)
			}
			whole, err := s.Snapshot(ctx, p.Snapshot)
			require.NoError(t, err)
			kinds := map[string]bool{}
			for _, o := range whole {
				kinds[o.Object.Ref.Kind] = true
				if o.Object.Ref.Kind == "Secret" {
					assert.Contains(t, fmt.Sprint(o.Object.Body), "aGlnaC13YXRlcg==", "it is read with the key")
				}
			}
			assert.Equal(t, map[string]bool{"ConfigMap": true, "Secret": true}, without(kinds, "Namespace"))
			clusters, err := s.Clusters(ctx)
			require.NoError(t, err)
			require.Len(t, clusters, 1)
			tokens, err := s.Tokens(ctx)
			require.NoError(t, err)
			assert.NotEmpty(t, tokens)
			require.NoError(t, s.Commit(ctx, p.ID, AddEntry{logbook.Entry{Number: total + 1, Placement: p.ID, Kind: "sync", Outcome: "done", By: "vigila", Started: time.Now()}}))
			_, err = s.Tidy(ctx, Retention{Entries: 100}, nil, time.Now())
			require.NoError(t, err)
		})
	}
}

func without(m map[string]bool, key string) map[string]bool {
	delete(m, key)
	return m
}
