// Package record keeps what Vigila knows in SQLite: repositories, clusters, wards, their logbooks, snapshots,
// baselines and standings. Start with Store. What is secret is encrypted before it gets here (Vault).
package record

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver
	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/ward"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNone tells that there is no such row.
var ErrNone = errors.New("not found")

// Store is the database. Its methods may be called by many goroutines.
type Store struct {
	db    *sql.DB
	id    string
	ready sync.Map // prepared statements, by their text: parsing one takes longer than most of them run
	vault *Vault
	lock  *os.File
	// writer is whoever writes, of all in this process. SQLite takes one writer at a time too, but lets the others ask again after
	// growing pauses, each on a connection of its own that nobody reads with meanwhile.
	writer  chan struct{}
	mirrors bool // writes wait for the service that this is the lookout of
	file    string
	copies  copies
}

// busyFor is how long somebody waits who can't write since others do.
const busyFor = 10 * time.Second

// turn waits until nobody else in this process writes.
func (s *Store) turn(ctx context.Context) (done func(), err error) {
	done = func() { <-s.writer }
	select {
	case s.writer <- struct{}{}:
		return done, nil
	default:
	}
	late := time.NewTimer(busyFor)
	defer late.Stop()
	select {
	case s.writer <- struct{}{}:
		return done, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-late.C:
		return nil, fmt.Errorf("the database is busy: others have been writing for %s", busyFor)
	}
}

// change changes something by a statement that is seldom asked for.
func (s *Store) change(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return s.write(ctx, query, args, func() (sql.Result, error) { return s.db.ExecContext(ctx, query, args...) })
}

// write has a statement executed while nobody else writes, and tells the copies of it.
func (s *Store) write(ctx context.Context, query string, args []any, do func() (sql.Result, error)) (sql.Result, error) {
	done, err := s.turn(ctx)
	if err != nil {
		return nil, err
	}
	out, err := do()
	wait := func() {}
	if err == nil && s.copies.some {
		one, wrong := capture(query, args)
		wait = s.wrote([]Statement{one}, wrong)
	}
	done()
	wait()
	return out, err
}

// tighten takes what is kept from everybody but the service's own user: it holds private code, and what an older version or
// a hand has left open.
func tighten(dir string) error {
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return fmt.Errorf("look at the modes of the data directory: %w", err)
		}
		st, err := d.Info()
		if err != nil || st.Mode()&fs.ModeSymlink != 0 || st.Mode().Perm()&0o077 == 0 {
			return nil // gone, or as it should be
		}
		if err := os.Chmod(path, st.Mode().Perm()&0o700); err != nil {
			return fmt.Errorf("%s can be read by other users of this machine, and that can't be mended; make it chmod go= yourself: %w", path, err)
		}
		return nil
	})
}

// Open makes or opens the database in a directory, and brings it up to date. A second service on the same
// directory is refused.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the data directory: %w", err)
	}
	if err := tighten(dir); err != nil {
		return nil, err
	}
	lock, err := lockDir(dir)
	if err != nil {
		return nil, err
	}
	s := &Store{lock: lock, writer: make(chan struct{}, 1), file: filepath.Join(dir, "vigila.db")}
	if s.vault, err = OpenVault(filepath.Join(dir, "vigila.key")); err != nil {
		_ = lock.Close()
		return nil, err
	}
	file := s.file
	s.db, err = sql.Open("sqlite", "file:"+file+"?_pragma=journal_mode(WAL)&_pragma=busy_timeout("+strconv.Itoa(int(busyFor.Milliseconds()))+")&_pragma=foreign_keys(1)&_pragma=synchronous(NORMAL)&_pragma=wal_autocheckpoint(4000)&_txlock=immediate")
	if err != nil {
		_ = lock.Close()
		return nil, fmt.Errorf("open %s: %w", file, err)
	}
	s.db.SetMaxOpenConns(4)
	if err := s.migrate(ctx); err != nil {
		_ = s.Close()
		return nil, fmt.Errorf("bring %s up to date: %w", file, err)
	}
	if s.id, err = s.serviceID(ctx); err != nil {
		_ = s.Close()
		return nil, fmt.Errorf("the id of the service in %s: %w", file, err)
	}
	return s, nil
}

// ServiceID names the service that this database belongs to: made once, it stays with the data.
func (s *Store) ServiceID() string { return s.id }

func (s *Store) serviceID(ctx context.Context) (id string, err error) {
	if _, err := s.db.ExecContext(ctx, `INSERT INTO settings VALUES ('service', ?) ON CONFLICT DO NOTHING`, strings.ToLower(rand.Text()[:10])); err != nil {
		return "", err
	}
	err = s.db.QueryRowContext(ctx, `SELECT value FROM settings WHERE name='service'`).Scan(&id)
	return id, err
}

// TakePlace makes the database of a service that has kept nothing yet that of another one, which is lost: the objects that are marked with its id are
// this service's own then. It may be called again and again.
func (s *Store) TakePlace(ctx context.Context, id string) error {
	if id == s.id {
		return nil
	}
	if !isServiceID.MatchString(id) {
		return fmt.Errorf("%q is no id of a service: it has ten letters and digits, and objects are marked with it (vigila.dev/service)", id)
	}
	err := s.tx(ctx, func(tx *transaction) error {
		var kept int
		if err := tx.row(ctx, []any{&kept}, `SELECT (SELECT count(*) FROM placements) + (SELECT count(*) FROM entries) + (SELECT count(*) FROM lookouts WHERE key!='')`); err != nil {
			return err
		}
		if kept > 0 {
			return fmt.Errorf("this service has the id %s, and keeps wards or lookouts already; it can take the place of %s only with a data directory of its own", s.id, id)
		}
		return tx.exec(ctx, `UPDATE settings SET value=? WHERE name='service'`, id)
	})
	if err == nil {
		s.id = id
	}
	return err
}

var isServiceID = regexp.MustCompile(`^[a-z0-9]{10}$`)

// Close closes the database and lets another service have the directory.
func (s *Store) Close() error {
	return errors.Join(s.db.Close(), s.lock.Close())
}

// Vault is the store's key for what is secret.
func (s *Store) Vault() *Vault { return s.vault }

// Ping tells whether the database can be written.
func (s *Store) Ping(ctx context.Context) error {
	_, err := s.change(ctx, `INSERT INTO settings VALUES ('ping', ?) ON CONFLICT DO UPDATE SET value=excluded.value`, time.Now().Format(time.RFC3339))
	return err
}

func (s *Store) migrate(ctx context.Context) error {
	if _, err := s.db.ExecContext(ctx, `CREATE TABLE IF NOT EXISTS migrations (name TEXT PRIMARY KEY)`); err != nil {
		return err
	}
	if err := newer(ctx, s.db); err != nil {
		return err
	}
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	for _, name := range names {
		var n int
		if err := s.db.QueryRowContext(ctx, `SELECT count(*) FROM migrations WHERE name=?`, name).Scan(&n); err != nil {
			return err
		}
		if n > 0 {
			continue
		}
		text, err := migrations.ReadFile(name)
		if err != nil {
			return err
		}
		err = s.tx(ctx, func(tx *transaction) error {
			if _, err := tx.tx.ExecContext(ctx, string(text)); err != nil { // many statements in one text
				return fmt.Errorf("%s: %w", name, err)
			}
			return tx.exec(ctx, `INSERT INTO migrations VALUES (?)`, name)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// prepared is a statement that is parsed once and used again and again: its text is one of a few.
func (s *Store) prepared(ctx context.Context, query string) (*sql.Stmt, error) {
	if st, ok := s.ready.Load(query); ok {
		return st.(*sql.Stmt), nil
	}
	st, err := s.db.PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	if other, had := s.ready.LoadOrStore(query, st); had {
		return other.(*sql.Stmt), st.Close()
	}
	return st, nil
}

func (s *Store) exec(ctx context.Context, query string, args ...any) error {
	st, err := s.prepared(ctx, query)
	if err != nil {
		return err
	}
	_, err = s.write(ctx, query, args, func() (sql.Result, error) { return st.ExecContext(ctx, args...) })
	return err
}

// row reads one row; ErrNone when there is none.
func (s *Store) row(ctx context.Context, into []any, query string, args ...any) error {
	st, err := s.prepared(ctx, query)
	if err != nil {
		return err
	}
	err = st.QueryRowContext(ctx, args...).Scan(into...)
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNone
	}
	return err
}

// query asks for rows.
func (s *Store) query(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	st, err := s.prepared(ctx, query)
	if err != nil {
		return nil, err
	}
	return st.QueryContext(ctx, args...)
}

// once asks without keeping the statement: where its text follows from what somebody asks for, there is no end of texts.
type once struct{ db *sql.DB }

func (o once) query(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	return o.db.QueryContext(ctx, query, args...)
}

// each reads every row of a query.
func each(ctx context.Context, db interface {
	query(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}, read func(row *sql.Rows) error, query string, args ...any) error {
	rows, err := db.query(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := read(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// transaction is a transaction whose statements are prepared, once each was asked for: parsing one takes longer than most of
// them run. Preparing would wait for another connection, which may wait for this one, so it is done afterwards.
type transaction struct {
	tx    *sql.Tx
	store *Store
	asked []string // texts that were not prepared yet
	all   []Statement
	wrong error // why copies can't be told of it
}

func (t *transaction) prepared(ctx context.Context, query string) *sql.Stmt {
	if st, ok := t.store.ready.Load(query); ok {
		return t.tx.StmtContext(ctx, st.(*sql.Stmt))
	}
	t.asked = append(t.asked, query)
	return nil
}

func (t *transaction) exec(ctx context.Context, query string, args ...any) error {
	var err error
	if st := t.prepared(ctx, query); st != nil {
		_, err = st.ExecContext(ctx, args...)
	} else {
		_, err = t.tx.ExecContext(ctx, query, args...)
	}
	if err == nil {
		t.captures(query, args)
	}
	return err
}

// changed is exec for a statement that is seldom asked for, and tells what it did.
func (t *transaction) changed(ctx context.Context, query string, args ...any) (sql.Result, error) {
	out, err := t.tx.ExecContext(ctx, query, args...)
	if err == nil {
		t.captures(query, args)
	}
	return out, err
}

// captures keeps a statement for the copies.
func (t *transaction) captures(query string, args []any) {
	if t.store.copies.some {
		one, wrong := capture(query, args)
		t.all, t.wrong = append(t.all, one), errors.Join(t.wrong, wrong)
	}
}

func (t *transaction) query(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if st := t.prepared(ctx, query); st != nil {
		return st.QueryContext(ctx, args...)
	}
	return t.tx.QueryContext(ctx, query, args...)
}

// row reads one row; sql.ErrNoRows when there is none.
func (t *transaction) row(ctx context.Context, into []any, query string, args ...any) error {
	if st := t.prepared(ctx, query); st != nil {
		return st.QueryRowContext(ctx, args...).Scan(into...)
	}
	return t.tx.QueryRowContext(ctx, query, args...).Scan(into...)
}

func (s *Store) tx(ctx context.Context, do func(*transaction) error) error {
	done, err := s.turn(ctx)
	if err != nil {
		return err
	}
	asked, wait, err := s.through(ctx, do)
	done()
	wait()
	for _, query := range asked {
		if _, err := s.prepared(ctx, query); err != nil {
			break // it went well without, and is tried again
		}
	}
	return err
}

// through makes a transaction, and tells which of its statements were not prepared.
func (s *Store) through(ctx context.Context, do func(*transaction) error) (asked []string, wait func(), err error) {
	wait = func() {}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, wait, err
	}
	t := &transaction{tx: tx, store: s}
	if err := do(t); err != nil {
		return nil, wait, errors.Join(err, tx.Rollback())
	}
	if err := tx.Commit(); err != nil {
		return t.asked, wait, err
	}
	return t.asked, s.wrote(t.all, t.wrong), nil
}

func ms(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func at(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.UnixMilli(n).UTC()
}

func toJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil { // only plain values come here
		panic(err)
	}
	return string(b)
}

// Pushed is what pushes are told of.
type Pushed string

// What pushes are told of.
const (
	PushedRepo     Pushed = "repos"
	PushedRegistry Pushed = "registries"
	PushedStore    Pushed = "stores"
)

// SetPushKey keeps the key that signs pushes of a repository, a registry or a store, encrypted; the one before it is forgotten.
func (s *Store) SetPushKey(ctx context.Context, of Pushed, name string, key []byte) error {
	sealed, err := s.vault.Seal(key)
	if err != nil {
		return err
	}
	_, err = s.change(ctx, `UPDATE `+string(of)+` SET push_key=? WHERE name=?`, sealed, name)
	return err
}

// PushKey reads the key that signs pushes of a repository, a registry or a store; ErrNone when it has none.
func (s *Store) PushKey(ctx context.Context, of Pushed, name string) ([]byte, error) {
	var sealed []byte
	err := s.db.QueryRowContext(ctx, `SELECT push_key FROM `+string(of)+` WHERE name=?`, name).Scan(&sealed)
	if errors.Is(err, sql.ErrNoRows) || err == nil && len(sealed) == 0 {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	return s.vault.Open(sealed)
}

// RemoveRepo forgets a repository.
func (s *Store) RemoveRepo(ctx context.Context, name string) error {
	_, err := s.change(ctx, `DELETE FROM repos WHERE name=?`, name)
	if err == nil {
		_, err = s.change(ctx, `DELETE FROM approvals WHERE repo=?`, name)
	}
	return err
}

// RemoveCluster forgets a cluster.
func (s *Store) RemoveCluster(ctx context.Context, name string) error {
	_, err := s.change(ctx, `DELETE FROM clusters WHERE name=?`, name)
	return err
}

// Ward is a registered ward file.
type Ward struct {
	Name, File string
	Roster     string // that declares it; "" when a person registered it
	Source     string // the file in the roster's repository
	Home       Home
	Limits     roster.Limits // of a roster that declared it once and is gone
}

// PutWard registers a ward, or changes its file, and makes its placements; those on other clusters are removed.
func (s *Store) PutWard(ctx context.Context, w Ward, clusters []string) error {
	return s.tx(ctx, func(tx *transaction) error {
		if err := tx.exec(ctx, `INSERT INTO wards (name, file, made, roster, source, home, limits) VALUES (?,?,?,?,?,?,?)
			ON CONFLICT (name) DO UPDATE SET file=excluded.file, roster=excluded.roster, source=excluded.source, home=excluded.home, limits=excluded.limits`, w.Name, w.File, ms(time.Now()), w.Roster, w.Source, toJSON(w.Home), toJSON(w.Limits)); err != nil {
			return err
		}
		for _, c := range clusters {
			if err := tx.exec(ctx, `INSERT INTO placements (id, ward, cluster, made) VALUES (?,?,?,?) ON CONFLICT DO NOTHING`, ward.ID(w.Name, c), w.Name, c, ms(time.Now())); err != nil {
				return err
			}
		}
		const not = `ward=?1 AND cluster NOT IN (SELECT value FROM json_each(?2))`
		args := []any{w.Name, toJSON(append([]string{}, clusters...))}
		if err := retire(ctx, tx, `placement IN (SELECT id FROM placements WHERE `+not+`)`, args...); err != nil {
			return err
		}
		return tx.exec(ctx, `DELETE FROM placements WHERE `+not, args...)
	})
}

// Wards lists the registered wards by name.
func (s *Store) Wards(ctx context.Context) ([]Ward, error) { return s.wards(ctx, "") }

// Ward is one registered ward; ErrNone when there is none of that name.
func (s *Store) Ward(ctx context.Context, name string) (Ward, error) {
	all, err := s.wards(ctx, name)
	if err == nil && len(all) == 0 {
		err = ErrNone
	}
	if err != nil {
		return Ward{}, err
	}
	return all[0], nil
}

func (s *Store) wards(ctx context.Context, name string) ([]Ward, error) {
	var out []Ward
	err := each(ctx, s, func(row *sql.Rows) error {
		var w Ward
		var home, limits string
		if err := row.Scan(&w.Name, &w.File, &w.Roster, &w.Source, &home, &limits); err != nil {
			return err
		}
		if err := errors.Join(json.Unmarshal([]byte(home), &w.Home), json.Unmarshal([]byte(limits), &w.Limits)); err != nil {
			return fmt.Errorf("ward %s: %w", w.Name, err)
		}
		out = append(out, w)
		return nil
	}, `SELECT name, file, roster, source, home, limits FROM wards WHERE ?1='' OR name=?1 ORDER BY name`, name)
	return out, err
}

// RemovePlacement forgets a placement; the ward goes with its last one. Its logbook is kept as long as the retention says.
func (s *Store) RemovePlacement(ctx context.Context, id string) error {
	return s.tx(ctx, func(tx *transaction) error {
		name, _ := ward.OfID(id)
		if err := retire(ctx, tx, `placement=?`, id); err != nil {
			return err
		}
		if err := tx.exec(ctx, `DELETE FROM placements WHERE id=?`, id); err != nil {
			return err
		}
		return tx.exec(ctx, `DELETE FROM wards WHERE name=? AND name NOT IN (SELECT ward FROM placements)`, name)
	})
}

// RemoveWard forgets a ward with its placements.
func (s *Store) RemoveWard(ctx context.Context, name string) error {
	return s.tx(ctx, func(tx *transaction) error {
		if err := retire(ctx, tx, `placement IN (SELECT id FROM placements WHERE ward=?)`, name); err != nil {
			return err
		}
		return tx.exec(ctx, `DELETE FROM wards WHERE name=?`, name)
	})
}

// retire moves the logbooks of placements that are about to be removed to those of the past.
func retire(ctx context.Context, tx *transaction, which string, args ...any) error {
	for _, q := range []string{
		`INSERT OR REPLACE INTO past_entries SELECT placement, number, kind, CASE outcome WHEN 'running' THEN 'interrupted' ELSE outcome END, by, why, reason, revision, to_entry, started, ended, '', objects FROM entries WHERE ` + which,
		`INSERT OR REPLACE INTO past_logs SELECT placement, number, ref, body FROM logs WHERE ` + which,
	} {
		if err := tx.exec(ctx, q, args...); err != nil {
			return err
		}
	}
	return nil
}

// Past lists the placements that were removed and whose logbooks are still there, of a ward or a placement by its name.
func (s *Store) Past(ctx context.Context, name string) ([]string, error) {
	var out []string
	err := each(ctx, s, func(row *sql.Rows) error {
		var id string
		if err := row.Scan(&id); err != nil {
			return err
		}
		out = append(out, id)
		return nil
	}, `SELECT DISTINCT placement FROM past_entries WHERE placement=?1 OR placement LIKE replace(replace(?1, '%', ''), '_', '') || '@%' ORDER BY placement`, name)
	return out, err
}

// Placement is a ward in a cluster, as it was left.
type Placement struct {
	ID, Ward, Cluster string
	Applied           *logbook.Revision
	Snapshot          string
	Tasks             map[string]string // the tasks of Snapshot by key, to their hashes
	Rules             []declared.File   // health and checks files
	Hold              *logbook.Hold
	Leaving           *logbook.Leaving
	Made              time.Time // when the ward came into this cluster
	Err               error     // why the rest of it can't be read; nil when it can
}

// Placements lists the placements by id; of one ward, or of all when its name is empty. One that can't be read keeps the
// others from nothing: it says so in its Err.
func (s *Store) Placements(ctx context.Context, ward string) ([]Placement, error) {
	var out []Placement
	err := each(ctx, s, func(row *sql.Rows) error {
		var p Placement
		var applied, tasks, rules, hold, leaving string
		var made int64
		if err := row.Scan(&p.ID, &p.Ward, &p.Cluster, &applied, &p.Snapshot, &tasks, &rules, &hold, &leaving, &made); err != nil {
			return err
		}
		p.Made = at(made)
		var files *[]declared.File
		if err := errors.Join(fromJSON(applied, &p.Applied), json.Unmarshal([]byte(tasks), &p.Tasks), fromJSON(rules, &files), fromJSON(hold, &p.Hold), fromJSON(leaving, &p.Leaving)); err != nil {
			p.Err = fmt.Errorf("what the record holds of %s can't be read: %w", p.ID, err)
		}
		if files != nil {
			p.Rules = *files
		}
		out = append(out, p)
		return nil
	}, `SELECT id, ward, cluster, applied, snapshot, tasks, rules, hold, leaving, max(made, (SELECT made FROM wards WHERE name=ward)) FROM placements WHERE ?1='' OR ward=?1 ORDER BY id`, ward)
	return out, err
}

func fromJSON[T any](s string, into **T) error {
	if s == "" {
		return nil
	}
	*into = new(T)
	return json.Unmarshal([]byte(s), *into)
}

// PutDeclaration keeps what a placement's repository declared when it was read last; key names everything that went in.
func (s *Store) PutDeclaration(ctx context.Context, id, key string, v any) error {
	body, err := pack(v)
	if err != nil {
		return err
	}
	return s.exec(ctx, `INSERT OR REPLACE INTO declarations VALUES (?,?,?)`, id, key, body)
}

// Declaration reads what PutDeclaration kept; ErrNone when there is none under this key.
func (s *Store) Declaration(ctx context.Context, id, key string, into any) error {
	var body []byte
	if err := s.row(ctx, []any{&body}, `SELECT body FROM declarations WHERE placement=? AND key=?`, id, key); err != nil {
		return err
	}
	return unpack(body, into)
}

// TaskObject is an object of a task that is, or may be, in the cluster.
type TaskObject struct {
	Ref     object.Ref
	Version string
	UID     string // empty while it is not known whether it was made
}

// Watch is the kind whose watch tells of the object.
func (t TaskObject) Watch() object.Kind { return object.Kind{Version: t.Version, Kind: t.Ref.Kind} }

// Tasks lists the objects of tasks that are, or may be, in the cluster.
func (s *Store) Tasks(ctx context.Context, id string) (map[object.Ref]TaskObject, error) {
	out := map[object.Ref]TaskObject{}
	err := each(ctx, s, func(row *sql.Rows) error {
		var t TaskObject
		var ref string
		err := row.Scan(&ref, &t.Version, &t.UID)
		if err != nil {
			return err
		}
		if t.Ref, err = object.ParseKey(ref); err != nil {
			return err
		}
		out[t.Ref] = t
		return nil
	}, `SELECT ref, version, uid FROM task_objects WHERE placement=?`, id)
	return out, err
}

// Rejections lists the rejected revisions of a placement by their id.
func (s *Store) Rejections(ctx context.Context, id string) (map[string]logbook.Rejection, error) {
	out := map[string]logbook.Rejection{}
	err := each(ctx, s, func(row *sql.Rows) error {
		var r logbook.Rejection
		var n int64
		if err := row.Scan(&r.Revision, &r.Subject, &r.Why, &r.By, &n, &r.Declared); err != nil {
			return err
		}
		r.At = at(n)
		out[r.Revision] = r
		return nil
	}, `SELECT revision, subject, why, by, at, declared FROM rejections WHERE placement=?`, id)
	return out, err
}

// Standings lists the standings of a placement since a time, oldest first, with the one that held at that time.
func (s *Store) Standings(ctx context.Context, id string, since time.Time) ([]logbook.Stretch, error) {
	var out []logbook.Stretch
	err := each(ctx, s, func(row *sql.Rows) error {
		var st logbook.Stretch
		var n int64
		if err := row.Scan(&n, &st.Standing, &st.Health); err != nil {
			return err
		}
		st.From = at(n)
		out = append(out, st)
		return nil
	}, `SELECT at, standing, health FROM standings WHERE placement=?1 AND at >=
		coalesce((SELECT max(at) FROM standings WHERE placement=?1 AND at<=?2), 0) ORDER BY at`, id, ms(since))
	return out, err
}

const baselineColumns = `ref, version, declared, hash, uid, revision, intent, size, guards, snapshot`

// Baselines reads what a placement last applied, without details.
func (s *Store) Baselines(ctx context.Context, id string) (map[object.Ref]compare.Baseline, error) {
	out := map[object.Ref]compare.Baseline{}
	same := map[string]string{} // thousands of objects have few versions
	var older []object.Ref
	err := each(ctx, s, func(row *sql.Rows) error {
		var b compare.Baseline
		var ref, imprint string
		err := row.Scan(&ref, &b.Version, &b.Declared, &imprint, &b.UID, &b.Revision, &b.Intent, &b.Size, &b.Guards, &b.Snapshot)
		if err != nil {
			return err
		}
		if b.Ref, err = object.ParseKey(ref); err != nil {
			return err
		}
		for _, s := range []*string{&b.Version, &b.Snapshot} {
			if v, ok := same[*s]; ok {
				*s = v
			} else {
				same[*s] = *s
			}
		}
		b.Imprint = object.ParseImprint(imprint)
		if b.Size < 0 {
			older = append(older, b.Ref)
			b.Imprint = object.Imprint{}
		}
		out[b.Ref] = b
		return nil
	}, `SELECT `+baselineColumns+` FROM baselines WHERE placement=?`, id)
	if err != nil {
		return nil, err
	}
	doing, number, err := s.Doing(ctx, id)
	if err != nil {
		return nil, err
	}
	for ref := range doing {
		if b, kept := out[ref]; kept {
			b.Intent = number
			out[ref] = b
		}
	}
	for _, ref := range older {
		b := out[ref]
		if b.Detail, err = s.Detail(ctx, id, ref); err != nil {
			return nil, err
		}
		b.Summarise()
		out[ref] = b.Light()
	}
	return out, nil
}

// intents are the objects that the run of an entry is about to apply.
type intents struct {
	Number int      `json:"number"`
	Refs   []string `json:"refs"`
}

// Doing lists what the run that goes on, or that a crash has interrupted, was about to apply, and the number of its entry.
func (s *Store) Doing(ctx context.Context, id string) (refs map[object.Ref]bool, number int, err error) {
	var text string
	err = s.row(ctx, []any{&text}, `SELECT intents FROM placements WHERE id=?`, id)
	if errors.Is(err, ErrNone) || err == nil && text == "" {
		return nil, 0, nil
	}
	var doing intents
	if err == nil {
		err = json.Unmarshal([]byte(text), &doing)
	}
	refs = make(map[object.Ref]bool, len(doing.Refs))
	for _, key := range doing.Refs {
		ref, bad := object.ParseKey(key)
		err = errors.Join(err, bad)
		refs[ref] = true
	}
	if err != nil {
		return nil, 0, fmt.Errorf("what was about to be applied in %s: %w", id, err)
	}
	return refs, doing.Number, nil
}

// Detail reads the larger part of a baseline; ErrNone when there is no such baseline.
func (s *Store) Detail(ctx context.Context, id string, ref object.Ref) (*compare.Detail, error) {
	d := compare.NoDetail()
	var owned, fields []byte
	var applied int64
	var found string
	err := s.row(ctx, []any{&owned, &fields, &applied, &found}, `SELECT owned, fields, applied, found FROM baselines WHERE placement=? AND ref=?`, id, ref.Key())
	if err != nil {
		return nil, err
	}
	d.At = at(applied)
	if found != "" {
		d.Found = &fieldpath.Set{}
		err = d.Found.FromJSON(strings.NewReader(found))
	}
	if len(owned) > 0 {
		err = errors.Join(err, unpack(owned, &d.Owned), unpack(fields, &d.Fields))
	}
	if err != nil {
		return nil, fmt.Errorf("baseline of %s in %s: %w", ref, id, err)
	}
	return d, nil
}

// Found is what others owned of the objects of a placement when they were first applied; of those that are not in it,
// nothing.
func (s *Store) Found(ctx context.Context, id string) (map[object.Ref]*fieldpath.Set, error) {
	out := map[object.Ref]*fieldpath.Set{}
	err := each(ctx, s, func(row *sql.Rows) error {
		var key, found string
		if err := row.Scan(&key, &found); err != nil {
			return err
		}
		ref, err := object.ParseKey(key)
		if err != nil {
			return err
		}
		out[ref] = &fieldpath.Set{}
		if err := out[ref].FromJSON(strings.NewReader(found)); err != nil {
			return fmt.Errorf("what was found of %s: %w", ref, err)
		}
		return nil
	}, `SELECT ref, found FROM baselines WHERE placement=? AND found NOT IN ('', '{}')`, id)
	return out, err
}

const putBaseline = `INSERT INTO baselines (placement, ` + baselineColumns + `, owned, fields, applied, found) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)
	ON CONFLICT (placement, ref) DO UPDATE SET version=excluded.version, declared=excluded.declared, hash=excluded.hash, uid=excluded.uid, revision=excluded.revision,
	intent=excluded.intent, size=excluded.size, guards=excluded.guards, snapshot=excluded.snapshot, owned=excluded.owned, fields=excluded.fields, applied=excluded.applied, found=excluded.found`

func baselineRow(id string, b compare.Baseline) ([]any, error) {
	d := b.Detail
	if d == nil { // about to be made
		return []any{id, b.Ref.Key(), b.Version, b.Declared, "", b.UID, b.Revision, b.Intent, 0, "", b.Snapshot, []byte{}, []byte{}, ms(time.Now()), ""}, nil
	}
	owned, err := pack(d.Owned)
	if err != nil {
		return nil, err
	}
	fields, err := pack(d.Fields)
	if err != nil {
		return nil, err
	}
	var found []byte
	if d.Found != nil {
		if found, err = d.Found.ToJSON(); err != nil {
			return nil, err
		}
	}
	// That it was about to be applied is in the placement's intents.
	return []any{id, b.Ref.Key(), b.Version, b.Declared, b.Imprint.Text(), b.UID, b.Revision, 0, b.Size, b.Guards, b.Snapshot, owned, fields, ms(d.At), string(found)}, nil
}

// keeperQuery finds the other ward that keeps an object: its ref, the cluster, and the placement that asks.
const keeperQuery = `SELECT p.ward FROM baselines b JOIN placements p ON p.id=b.placement WHERE b.ref=? AND p.cluster=? AND p.id<>? LIMIT 1`

// Handed lists what a ward has handed over and nobody has come for, to the version that it was kept in.
func (s *Store) Handed(ctx context.Context, id string) (map[object.Ref]string, error) {
	out := map[object.Ref]string{}
	err := each(ctx, s, func(row *sql.Rows) error {
		var key, version string
		if err := row.Scan(&key, &version); err != nil {
			return err
		}
		ref, err := object.ParseKey(key)
		if err != nil {
			return err
		}
		out[ref] = version
		return nil
	}, `SELECT ref, version FROM handed WHERE placement=?`, id)
	return out, err
}

// Removed tells whether a ward has kept the object of a uid, and removed it, within the last half year.
func (s *Store) Removed(ctx context.Context, id, uid string) (yes bool, err error) {
	err = s.row(ctx, []any{&yes}, `SELECT EXISTS (SELECT 1 FROM removed WHERE placement=? AND uid=?)`, id, uid)
	return yes, err
}

// removedFor is how long the uid of an object that was removed is kept.
const removedFor = 180 * 24 * time.Hour

// Restores lists what was put back since a time, oldest first.
func (s *Store) Restores(ctx context.Context, id string, since time.Time) ([]logbook.Restored, error) {
	var out []logbook.Restored
	err := each(ctx, s, func(row *sql.Rows) error {
		var r logbook.Restored
		var ref string
		var n int64
		err := row.Scan(&ref, &r.Path, &r.Who, &n)
		if err != nil {
			return err
		}
		if r.Ref, err = object.ParseKey(ref); err != nil {
			return err
		}
		r.At = at(n)
		out = append(out, r)
		return nil
	}, `SELECT ref, path, who, at FROM restores WHERE placement=? AND at>=? ORDER BY at`, id, ms(since))
	return out, err
}

// Keeper finds the other ward that keeps an object in a cluster; empty when there is none.
func (s *Store) Keeper(ctx context.Context, cluster, notPlacement string, ref object.Ref) (string, error) {
	var ward string
	err := s.row(ctx, []any{&ward}, keeperQuery, ref.Key(), cluster, notPlacement)
	if errors.Is(err, ErrNone) {
		return "", nil
	}
	return ward, err
}
