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
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	_ "modernc.org/sqlite" // the driver
	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
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
}

// Open makes or opens the database in a directory, and brings it up to date. A second service on the same
// directory is refused.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the data directory: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "vigila.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the data directory: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = lock.Close()
		return nil, fmt.Errorf("another Vigila already uses %s; stop it, or choose another --data", dir)
	}
	s := &Store{lock: lock}
	if s.vault, err = OpenVault(filepath.Join(dir, "vigila.key")); err != nil {
		_ = lock.Close()
		return nil, err
	}
	file := filepath.Join(dir, "vigila.db")
	s.db, err = sql.Open("sqlite", "file:"+file+"?_pragma=journal_mode(WAL)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)&_pragma=synchronous(NORMAL)&_pragma=wal_autocheckpoint(4000)&_txlock=immediate")
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

// Close closes the database and lets another service have the directory.
func (s *Store) Close() error {
	return errors.Join(s.db.Close(), s.lock.Close())
}

// Vault is the store's key for what is secret.
func (s *Store) Vault() *Vault { return s.vault }

// Ping tells whether the database can be written.
func (s *Store) Ping(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO settings VALUES ('ping', ?) ON CONFLICT DO UPDATE SET value=excluded.value`, time.Now().Format(time.RFC3339))
	return err
}

func (s *Store) migrate(ctx context.Context) error {
	if _, err := s.db.ExecContext(ctx, `CREATE TABLE IF NOT EXISTS migrations (name TEXT PRIMARY KEY)`); err != nil {
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
		err = s.tx(ctx, func(tx *sql.Tx) error {
			if _, err := tx.ExecContext(ctx, string(text)); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			_, err := tx.ExecContext(ctx, `INSERT INTO migrations VALUES (?)`, name)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// prepared is a statement that is parsed once and used again and again.
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
	if err == nil {
		_, err = st.ExecContext(ctx, args...)
	}
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

func (s *Store) tx(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
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

// Token is a bearer token's owner; the token itself is never kept.
type Token struct {
	Name string
	Role string
}

// AddToken keeps the hash of a token.
func (s *Store) AddToken(ctx context.Context, hash string, t Token) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO tokens (hash, name, role, made) VALUES (?,?,?,?)`, hash, t.Name, t.Role, ms(time.Now()))
	return err
}

// TokenByHash finds a token; ErrNone when it is not known.
func (s *Store) TokenByHash(ctx context.Context, hash string) (Token, error) {
	var t Token
	err := s.row(ctx, []any{&t.Name, &t.Role}, `SELECT name, role FROM tokens WHERE hash=?`, hash)
	return t, err
}

// Tokens counts the tokens.
func (s *Store) Tokens(ctx context.Context) (n int, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT count(*) FROM tokens`).Scan(&n)
	return n, err
}

// SetNoticeKey keeps the key that signs push notices of a repository, encrypted; the one before it is forgotten.
func (s *Store) SetNoticeKey(ctx context.Context, name string, key []byte) error {
	sealed, err := s.vault.Seal(key)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `UPDATE repos SET notice_key=? WHERE name=?`, sealed, name)
	return err
}

// NoticeKey reads the key that signs push notices of a repository; ErrNone when it has none.
func (s *Store) NoticeKey(ctx context.Context, name string) ([]byte, error) {
	var sealed []byte
	err := s.db.QueryRowContext(ctx, `SELECT notice_key FROM repos WHERE name=?`, name).Scan(&sealed)
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
	_, err := s.db.ExecContext(ctx, `DELETE FROM repos WHERE name=?`, name)
	return err
}

// RemoveCluster forgets a cluster.
func (s *Store) RemoveCluster(ctx context.Context, name string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM clusters WHERE name=?`, name)
	return err
}

// Ward is a registered ward file.
type Ward struct {
	Name, File string
	Roster     string // that declares it; "" when a person registered it
	Source     string // the file in the roster's repository
	Home       Home
}

// PutWard registers a ward, or changes its file, and makes its placements; those on other clusters are removed.
func (s *Store) PutWard(ctx context.Context, w Ward, clusters []string) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO wards (name, file, made, roster, source, home) VALUES (?,?,?,?,?,?)
			ON CONFLICT (name) DO UPDATE SET file=excluded.file, roster=excluded.roster, source=excluded.source, home=excluded.home`, w.Name, w.File, ms(time.Now()), w.Roster, w.Source, toJSON(w.Home)); err != nil {
			return err
		}
		marks := make([]string, len(clusters))
		args := []any{w.Name}
		for i, c := range clusters {
			if _, err := tx.ExecContext(ctx, `INSERT INTO placements (id, ward, cluster) VALUES (?,?,?) ON CONFLICT DO NOTHING`, w.Name+"@"+c, w.Name, c); err != nil {
				return err
			}
			marks[i] = "?"
			args = append(args, c)
		}
		not := `ward=? AND cluster NOT IN (` + strings.Join(marks, ",") + `)`
		if err := retire(ctx, tx, `placement IN (SELECT id FROM placements WHERE `+not+`)`, args...); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM placements WHERE `+not, args...)
		return err
	})
}

// Wards lists the registered wards by name.
func (s *Store) Wards(ctx context.Context) ([]Ward, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT name, file, roster, source, home FROM wards ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Ward
	for rows.Next() {
		var w Ward
		var home string
		if err := rows.Scan(&w.Name, &w.File, &w.Roster, &w.Source, &home); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(home), &w.Home); err != nil {
			return nil, fmt.Errorf("ward %s: %w", w.Name, err)
		}
		out = append(out, w)
	}
	return out, rows.Err()
}

// RemovePlacement forgets a placement; the ward goes with its last one. Its logbook is kept as long as the retention says.
func (s *Store) RemovePlacement(ctx context.Context, id string) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		name, _, _ := strings.Cut(id, "@")
		if err := retire(ctx, tx, `placement=?`, id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM placements WHERE id=?`, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM wards WHERE name=? AND name NOT IN (SELECT ward FROM placements)`, name)
		return err
	})
}

// RemoveWard forgets a ward with its placements.
func (s *Store) RemoveWard(ctx context.Context, name string) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		if err := retire(ctx, tx, `placement IN (SELECT id FROM placements WHERE ward=?)`, name); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM wards WHERE name=?`, name)
		return err
	})
}

// retire moves the logbooks of placements that are about to be removed to those of the past.
func retire(ctx context.Context, tx *sql.Tx, which string, args ...any) error {
	for _, q := range []string{
		`INSERT OR REPLACE INTO past_entries SELECT placement, number, kind, CASE outcome WHEN 'running' THEN 'interrupted' ELSE outcome END, by, why, reason, revision, to_entry, started, ended, '', objects FROM entries WHERE ` + which,
		`INSERT OR REPLACE INTO past_logs SELECT placement, number, ref, body FROM logs WHERE ` + which,
	} {
		if _, err := tx.ExecContext(ctx, q, args...); err != nil {
			return err
		}
	}
	return nil
}

// Past lists the placements that were removed and whose logbooks are still there, of a ward or a placement by its name.
func (s *Store) Past(ctx context.Context, name string) ([]string, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT DISTINCT placement FROM past_entries WHERE placement=?1 OR placement LIKE replace(replace(?1, '%', ''), '_', '') || '@%' ORDER BY placement`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		out = append(out, id)
	}
	return out, rows.Err()
}

// Revision is a commit as entries keep it.
type Revision struct {
	ID      string    `json:"id"`
	Subject string    `json:"subject,omitempty"`
	Author  string    `json:"author,omitempty"`
	At      time.Time `json:"at,omitzero"`
}

// Hold stops automatic runs.
type Hold struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Until  time.Time `json:"until,omitzero"`
	Reason string    `json:"reason,omitempty"`
	Entry  int       `json:"entry,omitempty"`
}

// Placement is a ward in a cluster, as it was left.
type Placement struct {
	ID, Ward, Cluster string
	Applied           *Revision
	Snapshot          string
	Tasks             map[string]string // the tasks of Snapshot by key, to their hashes
	Rules             []File            // health files
	Hold              *Hold
	Leaving           *Leaving
	Err               error // why the rest of it can't be read; nil when it can
}

// Leaving tells that a placement is being removed.
type Leaving struct {
	By        string    `json:"by"`
	Why       string    `json:"why,omitempty"`
	At        time.Time `json:"at"`
	Dismantle bool      `json:"dismantle,omitempty"` // its objects are removed first
	Allow     []string  `json:"allow,omitempty"`     // guards that may be passed
}

// File is a small text file by name.
type File struct {
	Path string `json:"path"`
	Text string `json:"text"`
}

// Placements lists the placements by id; of one ward, or of all when its name is empty. One that can't be read keeps the
// others from nothing: it says so in its Err.
func (s *Store) Placements(ctx context.Context, ward string) ([]Placement, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, ward, cluster, applied, snapshot, tasks, rules, hold, leaving FROM placements WHERE ?1='' OR ward=?1 ORDER BY id`, ward)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Placement
	for rows.Next() {
		var p Placement
		var applied, tasks, rules, hold, leaving string
		if err := rows.Scan(&p.ID, &p.Ward, &p.Cluster, &applied, &p.Snapshot, &tasks, &rules, &hold, &leaving); err != nil {
			return nil, err
		}
		var files *[]File
		if err := errors.Join(fromJSON(applied, &p.Applied), json.Unmarshal([]byte(tasks), &p.Tasks), fromJSON(rules, &files), fromJSON(hold, &p.Hold), fromJSON(leaving, &p.Leaving)); err != nil {
			p.Err = fmt.Errorf("what the record holds of %s can't be read: %w", p.ID, err)
		}
		if files != nil {
			p.Rules = *files
		}
		out = append(out, p)
	}
	return out, rows.Err()
}

func fromJSON[T any](s string, into **T) error {
	if s == "" {
		return nil
	}
	*into = new(T)
	return json.Unmarshal([]byte(s), *into)
}

// SetHold holds a placement, or releases it when h is nil.
func (s *Store) SetHold(ctx context.Context, id string, h *Hold) error {
	text := ""
	if h != nil {
		text = toJSON(h)
	}
	_, err := s.db.ExecContext(ctx, `UPDATE placements SET hold=? WHERE id=?`, text, id)
	return err
}

// SetLeaving notes that a placement is being removed, or with nil that it is not.
func (s *Store) SetLeaving(ctx context.Context, id string, l *Leaving) error {
	text := ""
	if l != nil {
		text = toJSON(l)
	}
	_, err := s.db.ExecContext(ctx, `UPDATE placements SET leaving=? WHERE id=?`, text, id)
	return err
}

// SetApplied notes what a placement holds now, and which tasks belong to it.
func (s *Store) SetApplied(ctx context.Context, id string, r Revision, snapshot string, tasks map[string]string) error {
	if tasks == nil {
		tasks = map[string]string{}
	}
	return s.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE placements SET applied=?, snapshot=?, tasks=? WHERE id=?`, toJSON(r), snapshot, toJSON(tasks), id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE baselines SET snapshot='' WHERE placement=? AND snapshot<>''`, id) // it is the whole now
		return err
	})
}

// SetRules keeps the health files that a placement read last.
func (s *Store) SetRules(ctx context.Context, id string, files []File) error {
	_, err := s.db.ExecContext(ctx, `UPDATE placements SET rules=? WHERE id=?`, toJSON(files), id)
	return err
}

// PutDeclaration keeps what a placement's repository declared when it was read last; key names everything that went in.
func (s *Store) PutDeclaration(ctx context.Context, id, key string, v any) error {
	body, err := pack(v)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT OR REPLACE INTO declarations VALUES (?,?,?)`, id, key, body)
	return err
}

// Declaration reads what PutDeclaration kept; ErrNone when there is none under this key.
func (s *Store) Declaration(ctx context.Context, id, key string, into any) error {
	var body []byte
	err := s.db.QueryRowContext(ctx, `SELECT body FROM declarations WHERE placement=? AND key=?`, id, key).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNone
	}
	if err != nil {
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

// PutTask keeps an object of a task, before it is made and again after.
func (s *Store) PutTask(ctx context.Context, id string, t TaskObject) error {
	_, err := s.db.ExecContext(ctx, `INSERT OR REPLACE INTO task_objects VALUES (?,?,?,?)`, id, t.Ref.Key(), t.Version, t.UID)
	return err
}

// RemoveTask forgets an object of a task that is gone.
func (s *Store) RemoveTask(ctx context.Context, id string, ref object.Ref) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM task_objects WHERE placement=? AND ref=?`, id, ref.Key())
	return err
}

// Tasks lists the objects of tasks that are, or may be, in the cluster.
func (s *Store) Tasks(ctx context.Context, id string) (map[object.Ref]TaskObject, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT ref, version, uid FROM task_objects WHERE placement=?`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[object.Ref]TaskObject{}
	for rows.Next() {
		var t TaskObject
		var ref string
		if err := rows.Scan(&ref, &t.Version, &t.UID); err != nil {
			return nil, err
		}
		if t.Ref, err = object.ParseKey(ref); err != nil {
			return nil, err
		}
		out[t.Ref] = t
	}
	return out, rows.Err()
}

// Rejection is a revision that automatic runs don't go to.
type Rejection struct {
	Revision string
	Subject  string
	Why      string
	By       string
	At       time.Time
	Declared string // a digest of what was declared; empty when the revision as such is rejected
}

// Reject marks a revision as bad for a placement; Unreject lifts it.
func (s *Store) Reject(ctx context.Context, id string, r Rejection) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO rejections (placement, revision, subject, why, by, at, declared) VALUES (?,?,?,?,?,?,?)
		ON CONFLICT DO UPDATE SET subject=excluded.subject, why=excluded.why, by=excluded.by, at=excluded.at, declared=excluded.declared`, id, r.Revision, r.Subject, r.Why, r.By, ms(r.At), r.Declared)
	return err
}

// Unreject lifts a rejection.
func (s *Store) Unreject(ctx context.Context, id, revision string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM rejections WHERE placement=? AND revision=?`, id, revision)
	return err
}

// Rejections lists the rejected revisions of a placement by their id.
func (s *Store) Rejections(ctx context.Context, id string) (map[string]Rejection, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT revision, subject, why, by, at, declared FROM rejections WHERE placement=?`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]Rejection{}
	for rows.Next() {
		var r Rejection
		var n int64
		if err := rows.Scan(&r.Revision, &r.Subject, &r.Why, &r.By, &n, &r.Declared); err != nil {
			return nil, err
		}
		r.At = at(n)
		out[r.Revision] = r
	}
	return out, rows.Err()
}

// Stretch is a standing since a time.
type Stretch struct {
	From     time.Time
	Standing string
	Health   string
}

// AddStanding notes a change of standing.
func (s *Store) AddStanding(ctx context.Context, id string, st Stretch) error {
	return s.exec(ctx, `INSERT INTO standings VALUES (?,?,?,?)`, id, ms(st.From), st.Standing, st.Health)
}

// Standings lists the standings of a placement since a time, oldest first, with the one that held at that time.
func (s *Store) Standings(ctx context.Context, id string, since time.Time) ([]Stretch, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT at, standing, health FROM standings WHERE placement=?1 AND at >=
		coalesce((SELECT max(at) FROM standings WHERE placement=?1 AND at<=?2), 0) ORDER BY at`, id, ms(since))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Stretch
	for rows.Next() {
		var st Stretch
		var n int64
		if err := rows.Scan(&n, &st.Standing, &st.Health); err != nil {
			return nil, err
		}
		st.From = at(n)
		out = append(out, st)
	}
	return out, rows.Err()
}

const baselineColumns = `ref, version, declared, hash, uid, revision, intent, size, guards, snapshot`

// Baselines reads what a placement last applied, without details.
func (s *Store) Baselines(ctx context.Context, id string) (map[object.Ref]compare.Baseline, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT `+baselineColumns+` FROM baselines WHERE placement=?`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[object.Ref]compare.Baseline{}
	same := map[string]string{} // thousands of objects have few versions
	var older []object.Ref
	for rows.Next() {
		var b compare.Baseline
		var ref, imprint string
		if err := rows.Scan(&ref, &b.Version, &b.Declared, &imprint, &b.UID, &b.Revision, &b.Intent, &b.Size, &b.Guards, &b.Snapshot); err != nil {
			return nil, err
		}
		if b.Ref, err = object.ParseKey(ref); err != nil {
			return nil, err
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
	}
	if err := rows.Err(); err != nil {
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
	d := compare.Detail{Owned: object.FieldSet{Set: &fieldpath.Set{}}}
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
	return &d, nil
}

// Found is what others owned of the objects of a placement when they were first applied; of those that are not in it,
// nothing.
func (s *Store) Found(ctx context.Context, id string) (map[object.Ref]*fieldpath.Set, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT ref, found FROM baselines WHERE placement=? AND found NOT IN ('', '{}')`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[object.Ref]*fieldpath.Set{}
	for rows.Next() {
		var key, found string
		if err := rows.Scan(&key, &found); err != nil {
			return nil, err
		}
		ref, err := object.ParseKey(key)
		if err != nil {
			return nil, err
		}
		out[ref] = &fieldpath.Set{}
		if err := out[ref].FromJSON(strings.NewReader(found)); err != nil {
			return nil, fmt.Errorf("what was found of %s: %w", ref, err)
		}
	}
	return out, rows.Err()
}

// PutBaselines keeps what was applied, with its details.
func (s *Store) PutBaselines(ctx context.Context, id string, all []compare.Baseline) error {
	rows := make([][]any, len(all))
	for i, b := range all {
		row, err := baselineRow(id, b)
		if err != nil {
			return err
		}
		rows[i] = row
	}
	put, err := s.prepared(ctx, putBaseline)
	if err != nil {
		return err
	}
	if len(rows) == 1 { // a transaction of its own anyway
		_, err := put.ExecContext(ctx, rows[0]...)
		return err
	}
	return s.tx(ctx, func(tx *sql.Tx) error {
		here := tx.StmtContext(ctx, put)
		for _, row := range rows {
			if _, err := here.ExecContext(ctx, row...); err != nil {
				return err
			}
		}
		return nil
	})
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

// Claim notes what the run of an entry is about to apply, beside what is in doubt since an earlier one: of what is kept already that it is (all with a UID), else a
// baseline without detail. Objects that another ward of the cluster keeps are left out and returned with that ward.
// Two wards that claim one object at the same moment can't both have it.
func (s *Store) Claim(ctx context.Context, cluster, id string, number int, all []compare.Baseline) (refused map[object.Ref]string, err error) {
	refused = map[object.Ref]string{}
	keys := make([]string, len(all))
	for i, b := range all {
		keys[i] = b.Ref.Key()
	}
	list := toJSON(keys)
	err = s.tx(ctx, func(tx *sql.Tx) error {
		other := map[string]string{}
		if err := pairs(ctx, tx, other, `SELECT b.ref, p.ward FROM baselines b JOIN placements p ON p.id=b.placement
			WHERE b.ref IN (SELECT value FROM json_each(?)) AND p.cluster=? AND p.id<>?`, list, cluster, id); err != nil {
			return err
		}
		had := map[string]string{}
		if err := pairs(ctx, tx, had, `SELECT ref, '' FROM baselines WHERE placement=? AND ref IN (SELECT value FROM json_each(?))`, id, list); err != nil {
			return err
		}
		doing, err := doubts(ctx, tx, id)
		if err != nil {
			return err
		}
		doing = append(doing, keys...)
		slices.Sort(doing)
		doing = slices.Compact(doing)
		if _, err := tx.ExecContext(ctx, `UPDATE placements SET intents=? WHERE id=?`, toJSON(intents{number, doing}), id); err != nil {
			return err
		}
		put, err := tx.PrepareContext(ctx, putBaseline)
		if err != nil {
			return err
		}
		defer put.Close()
		for i, b := range all {
			if ward, kept := other[keys[i]]; kept {
				refused[b.Ref] = ward
				continue
			}
			if _, kept := had[keys[i]]; kept {
				continue
			}
			b.Intent, b.Detail = number, nil
			row, err := baselineRow(id, b)
			if err != nil {
				return err
			}
			if _, err := put.ExecContext(ctx, row...); err != nil {
				return err
			}
		}
		return nil
	})
	return refused, err
}

// doubts are the keys of the objects that may have been applied without an answer.
func doubts(ctx context.Context, tx *sql.Tx, id string) ([]string, error) {
	var text string
	if err := tx.QueryRowContext(ctx, `SELECT intents FROM placements WHERE id=?`, id).Scan(&text); err != nil || text == "" {
		return nil, err
	}
	var doing intents
	err := json.Unmarshal([]byte(text), &doing)
	return doing.Refs, err
}

// pairs reads rows of two texts.
func pairs(ctx context.Context, tx *sql.Tx, into map[string]string, query string, args ...any) error {
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var k, v string
		if err := rows.Scan(&k, &v); err != nil {
			return err
		}
		into[k] = v
	}
	return rows.Err()
}

// Doubt notes that it is not known what is there of an object: it was about to be applied, and no answer came.
func (s *Store) Doubt(ctx context.Context, id string, refs []object.Ref) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		for _, ref := range refs {
			if _, err := tx.ExecContext(ctx, `UPDATE baselines SET declared='', hash='', size=0, guards='', owned=x'', fields=x'' WHERE placement=? AND ref=?`, id, ref.Key()); err != nil {
				return err
			}
		}
		return nil
	})
}

// keeperQuery finds the other ward that keeps an object: its ref, the cluster, and the placement that asks.
const keeperQuery = `SELECT p.ward FROM baselines b JOIN placements p ON p.id=b.placement WHERE b.ref=? AND p.cluster=? AND p.id<>? LIMIT 1`

// SettleIntents notes that the run of an entry has ended, and which objects are still in doubt: they were about to be
// applied when the service was killed, and nobody has applied or removed them since.
func (s *Store) SettleIntents(ctx context.Context, id string, number int, doubtful []object.Ref) error {
	text := ""
	if len(doubtful) > 0 {
		keys := make([]string, len(doubtful))
		for i, ref := range doubtful {
			keys[i] = ref.Key()
		}
		text = toJSON(intents{number, keys})
	}
	return s.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE placements SET intents=? WHERE id=?`, text, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE baselines SET intent=0 WHERE placement=? AND intent<>0`, id)
		return err
	})
}

// RemoveBaseline forgets an object that is gone.
func (s *Store) RemoveBaseline(ctx context.Context, id string, ref object.Ref) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM baselines WHERE placement=? AND ref=?`, id, ref.Key())
	return err
}

// Restore is one field that was put back after somebody changed it.
type Restore struct {
	Ref  object.Ref
	Path string
	Who  string
	At   time.Time
}

// AddRestores notes what a run put back.
func (s *Store) AddRestores(ctx context.Context, id string, all []Restore) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		for _, r := range all {
			if _, err := tx.ExecContext(ctx, `INSERT INTO restores VALUES (?,?,?,?,?)`, id, r.Ref.Key(), r.Path, r.Who, ms(r.At)); err != nil {
				return err
			}
		}
		return nil
	})
}

// ForgetRestores drops what was noted about an object.
func (s *Store) ForgetRestores(ctx context.Context, id string, ref object.Ref) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM restores WHERE placement=? AND ref=?`, id, ref.Key())
	return err
}

// Restores lists what was put back since a time, oldest first.
func (s *Store) Restores(ctx context.Context, id string, since time.Time) ([]Restore, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT ref, path, who, at FROM restores WHERE placement=? AND at>=? ORDER BY at`, id, ms(since))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Restore
	for rows.Next() {
		var r Restore
		var ref string
		var n int64
		if err := rows.Scan(&ref, &r.Path, &r.Who, &n); err != nil {
			return nil, err
		}
		if r.Ref, err = object.ParseKey(ref); err != nil {
			return nil, err
		}
		r.At = at(n)
		out = append(out, r)
	}
	return out, rows.Err()
}

// Keeper finds the other ward that keeps an object in a cluster; empty when there is none.
func (s *Store) Keeper(ctx context.Context, cluster, notPlacement string, ref object.Ref) (string, error) {
	var ward string
	err := s.db.QueryRowContext(ctx, keeperQuery, ref.Key(), cluster, notPlacement).Scan(&ward)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return ward, err
}
