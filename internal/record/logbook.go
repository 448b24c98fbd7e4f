package record

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
)

const (
	entryColumns = `placement, number, kind, outcome, by, why, reason, revision, to_entry, started, ended, snapshot, objects`
	entryCanary  = `, EXISTS (SELECT 1 FROM canaries c WHERE c.placement=all_entries.placement AND c.number=all_entries.number)`
)

// AddEntry writes a new entry and gives it the next number of its logbook.
func (s *Store) AddEntry(ctx context.Context, e logbook.Entry) (logbook.Entry, error) {
	err := s.tx(ctx, func(tx *transaction) (err error) {
		if e.Number, err = lastNumber(ctx, tx, e.Placement); err != nil {
			return err
		}
		e.Number++
		return AddEntry{e}.to(ctx, &writing{store: s, tx: tx, id: e.Placement})
	})
	return e, err
}

// LastNumber is the number of the newest entry of a logbook; 0 when it has none.
func (s *Store) LastNumber(ctx context.Context, placement string) (int, error) {
	return lastNumber(ctx, s, placement)
}

func lastNumber(ctx context.Context, in interface {
	row(ctx context.Context, into []any, query string, args ...any) error
}, placement string) (n int, err error) {
	err = in.row(ctx, []any{&n}, `SELECT max(coalesce((SELECT max(number) FROM all_entries WHERE placement=?1), 0), coalesce((SELECT before FROM placements WHERE id=?1), 0))`, placement)
	return n, err
}

func nonNil(o []logbook.EntryObject) []logbook.EntryObject {
	if o == nil {
		return []logbook.EntryObject{}
	}
	return o
}

// Log reads the log of a task; ErrNone when none was kept.
func (s *Store) Log(ctx context.Context, placement string, number int, ref object.Ref) (string, error) {
	var body []byte
	err := s.db.QueryRowContext(ctx, `SELECT body FROM logs WHERE placement=?1 AND number=?2 AND ref=?3 UNION ALL SELECT body FROM past_logs WHERE placement=?1 AND number=?2 AND ref=?3`, placement, number, ref.Key()).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return "", ErrNone
	}
	if err != nil {
		return "", err
	}
	if body, err = s.vault.Open(body); err != nil {
		return "", err
	}
	var text string
	return text, unpack(body, &text)
}

// Retention is how much of the logbooks is kept.
type Retention struct {
	Entries int           // newest entries of each ward; 0: all
	Age     time.Duration // 0: for ever
}

// Tidied counts what Tidy dropped.
type Tidied struct{ Entries, Snapshots, Blobs int64 }

// Tidy drops entries beyond the retention, standings and restores that nothing looks at any more, and snapshots that
// no entry holds. What a rollback to the last good needs is never dropped: the newest entry that left a ward as it
// was applied last, the entry a hold names, and the snapshots in use (those of live too, which may be in no entry
// yet).
func (s *Store) Tidy(ctx context.Context, r Retention, live []string, now time.Time) (Tidied, error) {
	var out Tidied
	if err := s.tidyRendered(ctx, now); err != nil {
		return out, err
	}
	err := s.tx(ctx, func(tx *transaction) error {
		drop := func(count *int64, query string, args ...any) error {
			res, err := tx.changed(ctx, query, args...)
			if err != nil {
				return err
			}
			n, err := res.RowsAffected()
			if count != nil {
				*count += n
			}
			return err
		}
		if err := drop(nil, `DELETE FROM removed WHERE at<?`, now.Add(-removedFor).Unix()); err != nil {
			return err
		}
		needed := `outcome='running'
			OR snapshot<>'' AND number=(SELECT max(g.number) FROM entries g JOIN placements p ON p.id=g.placement WHERE g.placement=entries.placement AND g.snapshot=p.snapshot AND g.outcome='done')
			OR number=(SELECT coalesce(json_extract(nullif(p.hold,''),'$.entry'),-1) FROM placements p WHERE p.id=entries.placement)
			OR number=(SELECT max(g.number) FROM entries g WHERE g.placement=entries.placement)
			OR number IN (SELECT c.number FROM canaries c WHERE c.placement=entries.placement AND c.active=1)`
		if r.Entries > 0 {
			if err := drop(&out.Entries, `DELETE FROM entries WHERE (SELECT count(*) FROM entries n WHERE n.placement=entries.placement AND n.number>entries.number)>=? AND NOT (`+needed+`)`, r.Entries); err != nil {
				return err
			}
		}
		if r.Entries > 0 {
			if err := drop(&out.Entries, `DELETE FROM past_entries WHERE (SELECT count(*) FROM past_entries n WHERE n.placement=past_entries.placement AND n.number>past_entries.number)>=?`, r.Entries); err != nil {
				return err
			}
		}
		if r.Age > 0 {
			if err := drop(&out.Entries, `DELETE FROM past_entries WHERE started<?`, ms(now.Add(-r.Age))); err != nil {
				return err
			}
			if err := drop(&out.Entries, `DELETE FROM entries WHERE started<? AND NOT (`+needed+`)`, ms(now.Add(-r.Age))); err != nil {
				return err
			}
		}
		used := append([]string{}, live...)
		in := strings.TrimSuffix(strings.Repeat("?,", len(used)), ",")
		args := make([]any, len(used))
		for i, id := range used {
			args[i] = id
		}
		if err := drop(nil, `CREATE TEMP TABLE IF NOT EXISTS unused (id TEXT PRIMARY KEY)`); err != nil {
			return err
		}
		if err := drop(nil, `DELETE FROM unused`); err != nil {
			return err
		}
		if err := drop(&out.Snapshots, `INSERT INTO unused SELECT DISTINCT id FROM snapshots WHERE id NOT IN (SELECT snapshot FROM entries) AND id NOT IN (SELECT snapshot FROM placements) AND id NOT IN (SELECT snapshot FROM baselines) AND id NOT IN (`+in+`)`, args...); err != nil {
			return err
		}
		if err := drop(nil, `DELETE FROM snapshots WHERE id IN (SELECT id FROM unused)`); err != nil {
			return err
		}
		if err := drop(&out.Blobs, `DELETE FROM blobs WHERE hash NOT IN (SELECT blob FROM snapshots)`); err != nil {
			return err
		}
		week := ms(now.Add(-7 * 24 * time.Hour))
		if err := drop(nil, `DELETE FROM restores WHERE at<?`, week); err != nil {
			return err
		}
		return drop(nil, `DELETE FROM standings WHERE at<? AND at<(SELECT max(n.at) FROM standings n WHERE n.placement=standings.placement AND n.at<=?)`, week, week)
	})
	return out, err
}

// InterruptRunning ends the entries that a crash left running, and returns how many there were. What a lookout runs goes on without the
// service.
func (s *Store) InterruptRunning(ctx context.Context) (n int, err error) {
	err = s.tx(ctx, func(tx *transaction) error {
		n = 0
		type row struct {
			id     string
			number int
		}
		var all []row
		if err := each(ctx, tx, func(r *sql.Rows) error {
			var x row
			all = append(all, x)
			return r.Scan(&all[len(all)-1].id, &all[len(all)-1].number)
		}, `SELECT placement, number FROM entries WHERE outcome='running' AND placement NOT IN (SELECT p.id FROM placements p JOIN lookouts l ON l.cluster=p.cluster)`); err != nil {
			return err
		}
		for _, x := range all {
			t, w := &writing{s, tx, x.id}, InterruptEntry{x.number, time.Now()}
			if err := w.to(ctx, t); err != nil {
				return err
			}
			if err := t.mirror(ctx, w); err != nil {
				return err
			}
			n++
		}
		return nil
	})
	return n, err
}

// InterruptEntry ends an entry that a crash left running.
type InterruptEntry struct {
	Number int
	At     time.Time
}

func (w InterruptEntry) to(ctx context.Context, t *writing) error {
	return t.exec(ctx, `UPDATE entries SET outcome='interrupted', reason='Vigila ended while it ran', ended=? WHERE placement=? AND number=? AND outcome='running'`, ms(w.At), t.id, w.Number)
}

// Find says which entries are wanted; the newest come first.
type Find struct {
	Placement string // all when empty
	Only      bool   // of those among Among alone, which may be none
	Among     []string
	Search    string // words that must all occur
	Since     time.Time
	Limit     int // 0: all
	Offset    int
}

// Entries lists entries, newest first and without their objects, and how many there are on all pages. Those of one
// placement come by their numbers, whatever the clock did meanwhile.
func (s *Store) Entries(ctx context.Context, f Find) ([]logbook.Entry, int, error) {
	where, args := []string{"1"}, []any{}
	if f.Placement != "" {
		where, args = append(where, "placement=?"), append(args, f.Placement)
	}
	if f.Only {
		where, args = append(where, "placement IN (SELECT value FROM json_each(?))"), append(args, toJSON(append([]string{}, f.Among...)))
	}
	if !f.Since.IsZero() {
		where, args = append(where, "started>=?"), append(args, ms(f.Since))
	}
	for _, word := range strings.Fields(f.Search) {
		where = append(where, `instr(lower(placement||' '||kind||' '||outcome||' '||by||' '||why||' '||reason||' '||revision||' #'||number), lower(?))`)
		args = append(args, word)
	}
	cond := strings.Join(where, " AND ")
	var total int
	if err := s.db.QueryRowContext(ctx, `SELECT count(*) FROM all_entries WHERE `+cond, args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	limit := f.Limit
	if limit == 0 {
		limit = -1
	}
	order := "started DESC, number DESC"
	if f.Placement != "" {
		order = "number DESC"
	}
	var out []logbook.Entry
	err := each(ctx, once{s.db}, func(row *sql.Rows) error {
		e, err := scanEntry(row)
		out = append(out, e)
		return err
	}, `SELECT `+strings.Replace(entryColumns, "objects", "'[]'", 1)+entryCanary+` FROM all_entries WHERE `+cond+` ORDER BY `+order+` LIMIT ? OFFSET ?`, append(args, limit, f.Offset)...)
	return out, total, err
}

// Entry reads one entry; ErrNone when there is no such number.
func (s *Store) Entry(ctx context.Context, placement string, number int) (logbook.Entry, error) {
	e, err := scanEntry(s.db.QueryRowContext(ctx, `SELECT `+entryColumns+entryCanary+` FROM all_entries WHERE placement=? AND number=?`, placement, number))
	if errors.Is(err, sql.ErrNoRows) {
		return e, fmt.Errorf("%s has no entry #%d: %w", placement, number, ErrNone)
	}
	if err != nil {
		return e, err
	}
	// Whether a log is there is told by the logs: that of a task that never ended comes after the end of its run.
	return e, each(ctx, s, func(row *sql.Rows) error {
		var key string
		if err := row.Scan(&key); err != nil {
			return err
		}
		for i := range e.Objects {
			e.Objects[i].Log = e.Objects[i].Log || e.Objects[i].Ref.Key() == key
		}
		return nil
	}, `SELECT ref FROM logs WHERE placement=?1 AND number=?2 UNION ALL SELECT ref FROM past_logs WHERE placement=?1 AND number=?2`, placement, number)
}

func scanEntry(row interface{ Scan(...any) error }) (logbook.Entry, error) {
	var e logbook.Entry
	var revision, objects string
	var started, ended int64
	if err := row.Scan(&e.Placement, &e.Number, &e.Kind, &e.Outcome, &e.By, &e.Why, &e.Reason, &revision, &e.ToEntry, &started, &ended, &e.Snapshot, &objects, &e.Canary); err != nil {
		return e, err
	}
	e.Started, e.Ended = at(started), at(ended)
	return e, errors.Join(fromJSON(revision, &e.Revision), json.Unmarshal([]byte(objects), &e.Objects))
}

// SnapshotID is what a snapshot of some declared objects is called: the same objects have the same id.
func SnapshotID(objects []declared.Whole) string {
	sort.Slice(objects, func(i, j int) bool { return objects[i].Object.Ref.Compare(objects[j].Object.Ref) < 0 })
	sum := sha256.New()
	for _, o := range objects {
		fmt.Fprintf(sum, "%s %s %d\n", o.Object.Ref.Key(), o.Hash, o.Step)
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// SnapshotHashes are the hashes of the objects of a snapshot; tasks are among them.
func (s *Store) SnapshotHashes(ctx context.Context, id string) (map[object.Ref]string, error) {
	out := map[object.Ref]string{}
	err := each(ctx, s, func(row *sql.Rows) error {
		var key, hash string
		if err := row.Scan(&key, &hash); err != nil {
			return err
		}
		ref, err := object.ParseKey(key)
		if err != nil {
			return err
		}
		out[ref] = hash
		return nil
	}, `SELECT ref, declared FROM snapshots WHERE id=?`, id)
	return out, err
}

// PutSnapshot keeps declared objects under their SnapshotID, each stored once however many snapshots hold it.
func (s *Store) PutSnapshot(ctx context.Context, id string, objects []declared.Whole) error {
	return s.tx(ctx, func(tx *transaction) error {
		var n int
		if err := tx.row(ctx, []any{&n}, `SELECT count(*) FROM snapshots WHERE id=?`, id); err != nil || n > 0 {
			return err
		}
		for _, o := range objects {
			blob := o.Hash
			if err := tx.row(ctx, []any{&n}, `SELECT count(*) FROM blobs WHERE hash=?`, blob); err != nil {
				return err
			}
			if n == 0 {
				body, err := pack(o.Object.Body)
				if err == nil && o.Object.Ref.Secret() {
					body, err = s.vault.Seal(body)
				}
				if err != nil {
					return err
				}
				if err := tx.exec(ctx, `INSERT INTO blobs VALUES (?,?)`, blob, body); err != nil {
					return err
				}
			}
			if err := tx.exec(ctx, `INSERT INTO snapshots VALUES (?,?,?,?,?,?,?,?)`, id, o.Object.Ref.Key(), blob, o.Object.Version, o.Hash, o.Step, o.Object.File, o.Object.Line); err != nil {
				return err
			}
		}
		return nil
	})
}

// Snapshot reads the objects of a snapshot back: those named, or all when none is named.
func (s *Store) Snapshot(ctx context.Context, id string, only ...object.Ref) ([]declared.Whole, error) {
	keys := make([]string, len(only))
	for i, ref := range only {
		keys[i] = ref.Key()
	}
	where, args := `s.id=?`, []any{id}
	if len(only) > 0 {
		where, args = `s.id=? AND s.ref IN (SELECT value FROM json_each(?))`, []any{id, toJSON(keys)}
	}
	var out []declared.Whole
	err := each(ctx, s, func(row *sql.Rows) error {
		var o declared.Whole
		var ref string
		var body []byte
		err := row.Scan(&ref, &o.Object.Version, &o.Hash, &o.Step, &o.Object.File, &o.Object.Line, &body)
		if err != nil {
			return err
		}
		if o.Object.Ref, err = object.ParseKey(ref); err != nil {
			return err
		}
		if o.Object.Ref.Secret() {
			if body, err = s.vault.Open(body); err != nil {
				return fmt.Errorf("%s in a snapshot: %w", o.Object.Ref, err)
			}
		}
		if err := unpack(body, &o.Object.Body); err != nil {
			return fmt.Errorf("%s in a snapshot: %w", o.Object.Ref, err)
		}
		out = append(out, o)
		return nil
	}, `SELECT s.ref, s.version, s.declared, s.step, s.file, s.line, b.body FROM snapshots s JOIN blobs b ON b.hash=s.blob WHERE `+where+` ORDER BY s.ref`, args...)
	return out, err
}
