package record

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
)

var ctx = context.Background()

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(ctx, dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// placed opens a store with one ward in one cluster.
func placed(t *testing.T) *Store {
	t.Helper()
	s := open(t, t.TempDir())
	require.NoError(t, s.PutCluster(ctx, Cluster{Name: "quay", Labels: map[string]string{"tier": "rehearsal"}}))
	require.NoError(t, s.PutWard(ctx, Ward{Name: "berth-planner", File: "file"}, []string{"quay"}))
	return s
}

const id = "berth-planner@quay"

func TestASecondServiceIsRefused(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	_, err := Open(ctx, dir)
	require.ErrorContains(t, err, "another Vigila already uses "+dir)
	require.NoError(t, s.Close())
	again, err := Open(ctx, dir)
	require.NoError(t, err)
	require.NoError(t, again.Close())
}

func TestPasswordsAreEncrypted(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	require.NoError(t, s.PutRepo(ctx, Repo{Name: "moorings", URL: "https://x", User: "vigila", Password: "open-sesame"}))
	repos, err := s.Repos(ctx)
	require.NoError(t, err)
	assert.Equal(t, "open-sesame", repos[0].Password)
	require.NoError(t, s.Close())
	for _, f := range []string{"vigila.db", "vigila.db-wal"} {
		b, err := os.ReadFile(filepath.Join(dir, f))
		if err == nil {
			assert.False(t, bytes.Contains(b, []byte("open-sesame")), f)
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "vigila.key"), []byte("nonsense"), 0o600))
	_, err = Open(ctx, dir)
	require.ErrorContains(t, err, "does not hold an age key")
}

func TestSnapshotsShareObjectsAndHideSecrets(t *testing.T) {
	s := placed(t)
	obj := func(kind, name, value string) declared.Whole {
		body := map[string]any{"apiVersion": "v1", "kind": kind, "metadata": map[string]any{"name": name}, "data": map[string]any{"k": value, "n": int64(3)}}
		return declared.Whole{Object: object.Object{Ref: object.Ref{Kind: kind, Name: name}, Version: "v1", Body: body, File: "a.yaml", Line: 3}, Hash: object.Hash(body), Step: 1}
	}
	put := func(objects []declared.Whole) (string, error) {
		id := SnapshotID(objects)
		return id, s.PutSnapshot(ctx, id, objects)
	}
	one, err := put([]declared.Whole{obj("ConfigMap", "a", "1"), obj("Secret", "s", "spring-tide")})
	require.NoError(t, err)
	two, err := put([]declared.Whole{obj("Secret", "s", "spring-tide"), obj("ConfigMap", "a", "1")})
	require.NoError(t, err)
	assert.Equal(t, one, two, "the same objects are the same snapshot, in whatever order")
	three, err := put([]declared.Whole{obj("ConfigMap", "a", "2"), obj("Secret", "s", "spring-tide")})
	require.NoError(t, err)
	assert.NotEqual(t, one, three)
	var blobs int
	require.NoError(t, s.db.QueryRow(`SELECT count(*) FROM blobs`).Scan(&blobs))
	assert.Equal(t, 3, blobs, "each object is stored once")

	back, err := s.Snapshot(ctx, one)
	require.NoError(t, err)
	require.Len(t, back, 2)
	assert.Equal(t, obj("ConfigMap", "a", "1"), back[0])
	assert.Equal(t, "spring-tide", back[1].Object.Body["data"].(map[string]any)["k"])
	rows, err := s.db.Query(`SELECT body FROM blobs`)
	require.NoError(t, err)
	defer rows.Close()
	sealed := 0
	for rows.Next() {
		var b []byte
		require.NoError(t, rows.Scan(&b))
		if bytes.HasPrefix(b, []byte("age-encryption.org")) {
			sealed++
		}
	}
	require.NoError(t, rows.Err())
	assert.Equal(t, 1, sealed)
}

func TestBaselinesSurvive(t *testing.T) {
	s := placed(t)
	ref := object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "d"}
	detail := &compare.Detail{Owned: object.FieldSet{Set: fieldpath.NewSet(fieldpath.MakePathOrDie("spec", "replicas"))}, Fields: []object.Field{{Path: "spec.replicas", Value: int64(2)}}, At: time.UnixMilli(1000).UTC()}
	b := compare.Baseline{Ref: ref, Version: "apps/v1", Declared: "h", Imprint: object.Imprint{Ours: [16]byte{1}}, UID: "u", Revision: 7, Intent: 4, Size: 1, Guards: "no-prune", Detail: detail}
	require.NoError(t, s.Commit(ctx, id, PutBaselines{[]compare.Baseline{b}}))
	all, err := s.Baselines(ctx, id)
	require.NoError(t, err)
	got := all[ref]
	want := b.Light()
	want.Intent = 0 // that is a matter of Claim
	assert.Equal(t, want, got)
	refused := map[object.Ref]string{}
	err = s.Commit(ctx, id, Claim{"quay", 4, []compare.Baseline{got}, refused})
	require.NoError(t, err)
	assert.Empty(t, refused)
	all, err = s.Baselines(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, 4, all[ref].Intent, "what is about to be applied is known after a crash")
	assert.Equal(t, b.Imprint, all[ref].Imprint, "with all that was known before")
	back, err := s.Detail(ctx, id, ref)
	require.NoError(t, err)
	assert.Equal(t, detail.Fields, back.Fields)
	assert.True(t, detail.Owned.Set.Equals(back.Owned.Set))
	assert.Equal(t, detail.At, back.At)
	require.NoError(t, s.Commit(ctx, id, SettleIntents{4, []object.Ref{ref}}))
	all, err = s.Baselines(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, 4, all[ref].Intent, "what another run has not touched stays in doubt")
	require.NoError(t, s.Commit(ctx, id, SettleIntents{5, nil}))
	all, err = s.Baselines(ctx, id)
	require.NoError(t, err)
	assert.Zero(t, all[ref].Intent)

	w, err := s.Keeper(ctx, "quay", "another@quay", ref)
	require.NoError(t, err)
	assert.Equal(t, "berth-planner", w)
	w, err = s.Keeper(ctx, "quay", id, ref)
	require.NoError(t, err)
	assert.Empty(t, w, "its own ward is no other")
	require.NoError(t, s.Commit(ctx, id, RemoveBaseline{Ref: ref, At: time.Now()}))
	all, err = s.Baselines(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, all)
}

func TestTwoWardsCantClaimOneObject(t *testing.T) {
	s := placed(t)
	require.NoError(t, s.PutWard(ctx, Ward{Name: "second", File: "file"}, []string{"quay"}))
	var all []compare.Baseline
	for _, n := range []string{"a", "b", "c"} {
		all = append(all, compare.Baseline{Ref: object.Ref{Kind: "ConfigMap", Namespace: "n", Name: n}, Intent: 1})
	}
	refused := make([]map[object.Ref]string, 2)
	var wg sync.WaitGroup
	for i, who := range []string{id, "second@quay"} {
		wg.Go(func() {
			refused[i] = map[object.Ref]string{}
			assert.NoError(t, s.Commit(ctx, who, Claim{"quay", 1, all, refused[i]}))
		})
	}
	wg.Wait()
	assert.Equal(t, 3, len(refused[0])+len(refused[1]), "each object has one keeper, however close the two came")
	again := map[object.Ref]string{}
	require.NoError(t, s.Commit(ctx, id, Claim{"quay", 2, all, again}))
	assert.Equal(t, refused[0], again, "its own it may claim again")
	for ref, keeper := range again {
		assert.Equal(t, "second", keeper, ref)
	}
}

func TestWhatIsHandedOverIsKnownUntilItIsFetched(t *testing.T) {
	s := placed(t)
	ref := object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "horn"}
	require.NoError(t, s.Commit(ctx, id, HandOver{ref, "v1"}, HandOver{object.Ref{Kind: "A", Name: "b"}, "v2"}))
	require.NoError(t, s.Commit(ctx, id, Fetched{object.Ref{Kind: "A", Name: "b"}}))
	handed, err := s.Handed(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, map[object.Ref]string{ref: "v1"}, handed)
}

// TestAllOrNothing: what belongs together is written down together.
func TestAllOrNothing(t *testing.T) {
	s := placed(t)
	err := s.Commit(ctx, id, SetHold{&logbook.Hold{By: "operator"}}, Reject{logbook.Rejection{Revision: "abc"}}, AddEntry{logbook.Entry{Number: 1}}, AddEntry{logbook.Entry{Number: 1}})
	var not *NotWrittenError
	require.ErrorAs(t, err, &not)
	assert.Equal(t, "record.AddEntry", not.What, "the same number twice")
	rejected, err := s.Rejections(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, rejected)
	p, err := s.Placements(ctx, "")
	require.NoError(t, err)
	assert.Nil(t, p[0].Hold)
	n, err := s.LastNumber(ctx, id)
	require.NoError(t, err)
	assert.Zero(t, n)
}

func TestTheLogbook(t *testing.T) {
	s := placed(t)
	begin := time.UnixMilli(1_000_000).UTC()
	for i := range 5 {
		e, err := s.AddEntry(ctx, logbook.Entry{Placement: id, Kind: "sync", Outcome: "running", By: "operator", Why: fmt.Sprintf("tide %d", i), Revision: &logbook.Revision{ID: "abc"}, Started: begin.Add(time.Duration(i) * time.Minute)})
		require.NoError(t, err)
		assert.Equal(t, i+1, e.Number)
	}
	e, err := s.Entry(ctx, id, 2)
	require.NoError(t, err)
	e.Outcome, e.Ended, e.Objects = "done", begin.Add(time.Hour), []logbook.EntryObject{{Ref: object.Ref{Kind: "A", Name: "a"}, State: "ready"}}
	require.NoError(t, s.Commit(ctx, id, EndEntry{e}))
	back, err := s.Entry(ctx, id, 2)
	require.NoError(t, err)
	assert.Equal(t, e, back)

	page, total, err := s.Entries(ctx, Find{Placement: id, Limit: 2, Offset: 1})
	require.NoError(t, err)
	assert.Equal(t, 5, total)
	assert.Equal(t, []int{4, 3}, []int{page[0].Number, page[1].Number})
	page, total, err = s.Entries(ctx, Find{Search: "OPERATOR tide #4"})
	require.NoError(t, err)
	assert.Equal(t, 1, total)
	assert.Equal(t, 4, page[0].Number)

	n, err := s.InterruptRunning(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 4, n)
	_, err = s.Entry(ctx, id, 99)
	require.ErrorIs(t, err, ErrNone)
}

func TestStandingsBeginWithTheOneThatHeld(t *testing.T) {
	s := placed(t)
	begin := time.UnixMilli(1_000_000).UTC()
	for i, st := range []string{"behind", "in step", "drifted"} {
		require.NoError(t, s.Commit(ctx, id, AddStanding{logbook.Stretch{From: begin.Add(time.Duration(i) * time.Hour), Standing: st, Health: "ready"}}))
	}
	got, err := s.Standings(ctx, id, begin.Add(90*time.Minute))
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.Equal(t, "in step", got[0].Standing)
}

func TestAWardGoesWithItsLastPlacement(t *testing.T) {
	s := placed(t)
	require.NoError(t, s.Commit(ctx, id, SetHold{&logbook.Hold{By: "operator", At: time.UnixMilli(5).UTC(), Reason: "gale"}}))
	require.NoError(t, s.Commit(ctx, id, Reject{logbook.Rejection{Revision: "abc", Subject: "Taller masts", Why: "crash-loops", By: "vigila", At: time.UnixMilli(1000).UTC()}}))
	all, err := s.Placements(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, "gale", all[0].Hold.Reason)
	r, err := s.Rejections(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, map[string]logbook.Rejection{"abc": {Revision: "abc", Subject: "Taller masts", Why: "crash-loops", By: "vigila", At: time.UnixMilli(1000).UTC()}}, r)
	require.NoError(t, s.RemovePlacement(ctx, id))
	wards, err := s.Wards(ctx)
	require.NoError(t, err)
	assert.Empty(t, wards)
	r, err = s.Rejections(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, r)
}

func TestTidyKeepsWhatARollbackNeeds(t *testing.T) {
	s := placed(t)
	now := time.Now()
	put := func(value string) string {
		objects := []declared.Whole{{Object: object.Object{Ref: object.Ref{Kind: "ConfigMap", Name: "a"}, Version: "v1", Body: map[string]any{"v": value}}, Hash: "h" + value}}
		snapshot := SnapshotID(objects)
		require.NoError(t, s.PutSnapshot(ctx, snapshot, objects))
		return snapshot
	}
	var numbers []int
	snapshots := map[int]string{}
	for i, value := range []string{"1", "2", "3", "4", "5", "6"} {
		e, err := s.AddEntry(ctx, logbook.Entry{Placement: id, Kind: "sync", Outcome: "done", Started: now.Add(time.Duration(i-100) * time.Hour), Ended: now, Snapshot: put(value)})
		require.NoError(t, err)
		numbers = append(numbers, e.Number)
		snapshots[e.Number] = e.Snapshot
	}
	require.NoError(t, s.Commit(ctx, id, PutLog{1, object.Ref{Kind: "Job", Name: "migrate"}, "password: tide"}))
	require.NoError(t, s.Commit(ctx, id, SetApplied{logbook.Revision{ID: "r"}, snapshots[2], nil})) // it went back to #2
	require.NoError(t, s.Commit(ctx, id, SetHold{&logbook.Hold{By: "operator", Entry: 3}}))
	fresh := put("7") // declared just now, in no entry yet
	put("8")

	left := func() (out []int) {
		all, _, err := s.Entries(ctx, Find{Placement: id})
		require.NoError(t, err)
		for _, e := range all {
			out = append([]int{e.Number}, out...)
		}
		return out
	}
	got, err := s.Tidy(ctx, Retention{}, []string{fresh}, now)
	require.NoError(t, err)
	assert.Equal(t, numbers, left(), "no setting, nothing dropped")
	assert.Equal(t, Tidied{Snapshots: 1, Blobs: 1}, got, "only what nothing holds")

	got, err = s.Tidy(ctx, Retention{Entries: 2}, []string{fresh}, now)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 3, 5, 6}, left(), "the newest two, what is applied, and what the hold names")
	assert.Equal(t, Tidied{Entries: 2, Snapshots: 2, Blobs: 2}, got)
	_, err = s.Log(ctx, id, 1, object.Ref{Kind: "Job", Name: "migrate"})
	assert.ErrorIs(t, err, ErrNone, "logs go with their entry")
	for _, n := range []int{2, 3} {
		objects, err := s.Snapshot(ctx, snapshots[n])
		require.NoError(t, err)
		assert.Len(t, objects, 1)
	}

	require.NoError(t, s.Commit(ctx, id, SetHold{nil}))
	_, err = s.Tidy(ctx, Retention{Age: 95*time.Hour + time.Minute}, nil, now)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 6}, left(), "by age too; the newest stays, so that numbers are never used twice")
}

func TestTaskLogsAreEncrypted(t *testing.T) {
	s := placed(t)
	e, err := s.AddEntry(ctx, logbook.Entry{Placement: id, Kind: "sync", Started: time.Now()})
	require.NoError(t, err)
	job := object.Ref{Group: "batch", Kind: "Job", Name: "migrate"}
	require.NoError(t, s.Commit(ctx, id, PutLog{e.Number, job, "password: spring-tide"}))
	text, err := s.Log(ctx, id, e.Number, job)
	require.NoError(t, err)
	assert.Equal(t, "password: spring-tide", text)
	var body []byte
	require.NoError(t, s.db.QueryRow(`SELECT body FROM logs`).Scan(&body))
	assert.True(t, bytes.HasPrefix(body, []byte("age-encryption.org")))
}

func TestTaskObjectsAndRulesSurvive(t *testing.T) {
	s := placed(t)
	job := object.Ref{Group: "batch", Kind: "Job", Namespace: "n", Name: "migrate"}
	require.NoError(t, s.Commit(ctx, id, PutTask{TaskObject{Ref: job, Version: "batch/v1"}}))
	require.NoError(t, s.Commit(ctx, id, PutTask{TaskObject{Ref: job, Version: "batch/v1", UID: "u"}}))
	all, err := s.Tasks(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, map[object.Ref]TaskObject{job: {Ref: job, Version: "batch/v1", UID: "u"}}, all)
	require.NoError(t, s.Commit(ctx, id, RemoveTask{job}))
	all, err = s.Tasks(ctx, id)
	require.NoError(t, err)
	assert.Empty(t, all)
	require.NoError(t, s.Commit(ctx, id, SetRules{[]declared.File{{Path: "h.yaml", Text: "vigila: health/v1"}}}))
	require.NoError(t, s.Commit(ctx, id, SetApplied{logbook.Revision{ID: "r"}, "", map[string]string{job.Key(): "h"}}))
	ps, err := s.Placements(ctx, "")
	require.NoError(t, err)
	assert.Equal(t, "h.yaml", ps[0].Rules[0].Path)
	assert.Equal(t, map[string]string{job.Key(): "h"}, ps[0].Tasks)
}

// TestAnOlderDatabaseIsBroughtUpToDate: one of the version before keeps all it knew.
func TestAnOlderDatabaseIsBroughtUpToDate(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "vigila.db"))
	require.NoError(t, err)
	exec := func(query string, args ...any) {
		t.Helper()
		_, err := db.Exec(query, args...)
		require.NoError(t, err, query)
	}
	exec(`CREATE TABLE migrations (name TEXT PRIMARY KEY)`)
	for _, name := range []string{"migrations/0001_first.sql", "migrations/0002_heart.sql"} {
		text, err := migrations.ReadFile(name)
		require.NoError(t, err)
		exec(string(text))
		exec(`INSERT INTO migrations VALUES (?)`, name)
	}
	gzipped := func(text string) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	ref := object.Ref{Kind: "ConfigMap", Namespace: "n", Name: "horn"}
	exec(`INSERT INTO clusters (name, kubeconfig, context, labels) VALUES ('quay', 'k', 'c', '{}')`)
	exec(`INSERT INTO wards (name, file, made) VALUES ('berth-planner', 'f', 1)`)
	exec(`INSERT INTO placements (id, ward, cluster) VALUES (?, 'berth-planner', 'quay')`, id)
	exec(`INSERT INTO baselines (placement, ref, version, declared, owned, fields, hash, uid, revision, applied, found) VALUES (?,?,'v1','h',?,?,'old','u',7,1000,'')`, id, ref.Key(),
		gzipped(`{"set":{"f:data":{"f:a":{},"f:b":{}}}}`), gzipped(`[{"path":"data.a","value":"1"},{"path":"metadata.annotations[vigila.dev/guard]","value":"no-prune"}]`))
	require.NoError(t, db.Close())

	s, err := Open(ctx, dir)
	require.NoError(t, err)
	defer s.Close()
	all, err := s.Baselines(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, map[object.Ref]compare.Baseline{ref: {Ref: ref, Version: "v1", Declared: "h", UID: "u", Revision: 7, Size: 2, Guards: "no-prune"}}, all, "no imprint yet, so the next look explains")
	detail, err := s.Detail(ctx, id, ref)
	require.NoError(t, err)
	assert.Len(t, detail.Fields, 2)
	first := s.ServiceID()
	assert.NotEmpty(t, first)
	require.NoError(t, s.Close())
	again, err := Open(ctx, dir)
	require.NoError(t, err)
	defer again.Close()
	assert.Equal(t, first, again.ServiceID(), "the id stays with the data")
}

// TestAWardIsWhereItWasPutLast: placements elsewhere go, also when it goes nowhere.
func TestAWardIsWhereItWasPutLast(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	for _, name := range []string{"quay", "skerry"} {
		require.NoError(t, s.PutCluster(ctx, Cluster{Name: name, Labels: map[string]string{}}))
	}
	where := func(clusters ...string) {
		t.Helper()
		require.NoError(t, s.PutWard(ctx, Ward{Name: "gate", File: "file"}, clusters))
		all, err := s.Placements(ctx, "gate")
		require.NoError(t, err)
		var got []string
		for _, p := range all {
			got = append(got, p.Cluster)
		}
		assert.Equal(t, clusters, got)
	}
	where("quay", "skerry")
	where("skerry")
	where("quay")
	where()
}

// TestStatementsAreFew: what somebody searches for makes no statement that is kept.
func TestStatementsAreFew(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	kept := func() (n int) {
		s.ready.Range(func(any, any) bool { n++; return true })
		return n
	}
	var few int
	for i := range 40 {
		_, _, err := s.Entries(ctx, Find{Search: strings.Repeat("word ", i), Limit: 10})
		require.NoError(t, err)
		_, err = s.Wards(ctx)
		require.NoError(t, err)
		if i == 0 {
			few = kept()
		}
	}
	assert.Positive(t, few)
	assert.Equal(t, few, kept())
}

// TestWritersTakeTurns: however many write at once, none is told that the database is busy, and who gives up holds up nobody.
func TestWritersTakeTurns(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	require.NoError(t, s.PutCluster(ctx, Cluster{Name: "quay", Labels: map[string]string{}}))
	require.NoError(t, s.PutWard(ctx, Ward{Name: "gate", File: "file"}, []string{"quay"}))
	held, err := s.turn(ctx)
	require.NoError(t, err)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = s.turn(gone)
	require.ErrorIs(t, err, context.Canceled)
	errs := make(chan error, 50)
	for i := range 50 {
		go func() {
			errs <- s.Commit(ctx, "gate@quay", Unreject{Revision: fmt.Sprint(i)})
		}()
	}
	_, err = s.Wards(ctx) // whoever reads waits for nobody
	require.NoError(t, err)
	held()
	for range 50 {
		require.NoError(t, <-errs)
	}
}
