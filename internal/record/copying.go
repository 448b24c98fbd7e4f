package record

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Statement is one statement that changed the record, with its values as SQLite has them.
type Statement struct {
	Query string `cbor:"1,keyasint"`
	Args  []any  `cbor:"2,keyasint"`
}

// Size is about how many bytes it has.
func (s Statement) Size() int {
	n := len(s.Query)
	for _, a := range s.Args {
		switch a := a.(type) {
		case string:
			n += len(a)
		case []byte:
			n += len(a)
		default:
			n += 9
		}
	}
	return n
}

// Change is what one write changed, all of it or none. Numbers have no gaps.
type Change struct {
	N   uint64      `cbor:"1,keyasint"`
	All []Statement `cbor:"2,keyasint"`
}

// copies are those who keep a copy of the record while a service works with it.
type copies struct {
	mu   sync.Mutex
	n    uint64 // of the last change, counted while somebody keeps a copy
	all  map[*Copying]bool
	some bool // there is one; read and written by whoever has the turn to write
}

// Copying is somebody who keeps a copy. What is written waits for it, a moment at most: whatever was answered is in the copy as well, as long
// as that is in step.
type Copying struct {
	store *Store
	Base  uint64 // the last change that is in what was copied as a whole

	mu     sync.Mutex
	queue  []Change
	size   int
	wake   chan struct{}
	has    uint64
	moved  chan struct{} // closed when has grows, or it ends
	behind bool          // it was waited for in vain: until it has everything nobody waits for it
	ended  error
}

// Bounds of a copy that is kept up.
const (
	copyWait  = time.Second // how long a write waits until the copy has it
	copyQueue = 128 << 20   // bytes that may be on their way
)

// ErrCopyBehind tells that a copy has to be begun anew: too much is on its way to it.
var ErrCopyBehind = errors.New("the copy is too far behind")

// capture is a statement as copies are told of it.
func capture(query string, args []any) (Statement, error) {
	s := Statement{Query: query, Args: make([]any, len(args))}
	for i, a := range args {
		v, err := driver.DefaultParameterConverter.ConvertValue(a)
		if err != nil {
			return s, err
		}
		if t, is := v.(time.Time); is {
			return s, fmt.Errorf("a time is written as it is: %s", t)
		}
		s.Args[i] = v
	}
	return s, nil
}

// wrote tells the copies what was written. The caller has the turn; wait is for when it has not any more.
func (s *Store) wrote(all []Statement, err error) (wait func()) {
	if !s.copies.some || len(all) == 0 && err == nil {
		return func() {}
	}
	c := &s.copies
	c.mu.Lock()
	defer c.mu.Unlock()
	c.n++
	n := c.n
	var waited []*Copying
	for one := range c.all {
		if err != nil {
			one.End(err)
			continue
		}
		if one.put(Change{n, all}) {
			waited = append(waited, one)
		}
	}
	return func() {
		for _, one := range waited {
			one.await(n)
		}
	}
}

// put puts a change on its way; waits tells whether it is to be waited for.
func (c *Copying) put(ch Change) (waits bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ended != nil {
		return false
	}
	for _, s := range ch.All {
		c.size += s.Size()
	}
	c.queue = append(c.queue, ch)
	if c.size > copyQueue {
		c.end(ErrCopyBehind)
		return false
	}
	select {
	case c.wake <- struct{}{}:
	default:
	}
	return !c.behind
}

func (c *Copying) await(n uint64) {
	late := time.NewTimer(copyWait)
	defer late.Stop()
	for {
		c.mu.Lock()
		has, moved, over := c.has >= n, c.moved, c.ended != nil || c.behind
		c.mu.Unlock()
		if has || over {
			return
		}
		select {
		case <-moved:
		case <-late.C:
			c.mu.Lock()
			c.behind = true
			c.mu.Unlock()
			return
		}
	}
}

// Has notes that the copy has all changes up to one.
func (c *Copying) Has(n uint64) {
	c.store.copies.mu.Lock()
	last := c.store.copies.n
	c.store.copies.mu.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	if n > c.has && c.ended == nil {
		c.has = n
		c.behind = c.behind && n < last
		close(c.moved)
		c.moved = make(chan struct{})
	}
}

// Next waits for changes that are on their way. Its error is why it has ended.
func (c *Copying) Next(ctx context.Context) ([]Change, error) {
	for {
		c.mu.Lock()
		all, err := c.queue, c.ended
		c.queue, c.size = nil, 0
		c.mu.Unlock()
		if err != nil || len(all) > 0 {
			return all, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-c.wake:
		}
	}
}

// End ends it: nobody waits for it any more.
func (c *Copying) End(why error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.end(why)
}

func (c *Copying) end(why error) {
	if c.ended == nil {
		c.ended = why
		c.queue = nil
		close(c.moved)
		select {
		case c.wake <- struct{}{}:
		default:
		}
	}
}

// Leave forgets somebody who kept a copy.
func (c *Copying) Leave() {
	c.End(errors.New("it keeps no copy any more"))
	s := c.store
	done, err := s.turn(context.Background())
	if err == nil {
		defer done()
	}
	s.copies.mu.Lock()
	defer s.copies.mu.Unlock()
	delete(s.copies.all, c)
	if err == nil {
		s.copies.some = len(s.copies.all) > 0
	}
}

// CopyOut gives all that the record holds as statements that make it anew, as of one moment, and keeps whoever asks up from there. Others write
// meanwhile. The caller calls Leave.
func (s *Store) CopyOut(ctx context.Context, each func(Statement) error) (*Copying, error) {
	db, err := sql.Open("sqlite", "file:"+s.file+"?mode=ro&_pragma=busy_timeout(10000)")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	c := &Copying{store: s, wake: make(chan struct{}, 1), moved: make(chan struct{}), behind: true}
	tx, err := s.moment(ctx, db, c)
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	if err := dump(ctx, tx, each); err != nil {
		c.Leave()
		return nil, fmt.Errorf("copy the record: %w", err)
	}
	return c, nil
}

// moment begins to read the record as it is while nobody writes, and to keep what is written from then on.
func (s *Store) moment(ctx context.Context, db *sql.DB, c *Copying) (*sql.Tx, error) {
	done, err := s.turn(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return nil, err
	}
	var n int
	if err := tx.QueryRowContext(ctx, `SELECT count(*) FROM sqlite_master`).Scan(&n); err != nil { // what is read is as of now, from here on
		return nil, errors.Join(err, tx.Rollback())
	}
	s.copies.mu.Lock()
	defer s.copies.mu.Unlock()
	if s.copies.all == nil {
		s.copies.all = map[*Copying]bool{}
	}
	s.copies.all[c], s.copies.some = true, true
	c.Base, c.has = s.copies.n, s.copies.n
	return tx, nil
}

// dump gives the tables, their rows, and what is made of them.
func dump(ctx context.Context, tx *sql.Tx, each func(Statement) error) error {
	made, err := column(ctx, tx, `SELECT sql FROM sqlite_master WHERE type='table' AND name NOT LIKE 'sqlite_%' ORDER BY rowid`)
	if err != nil {
		return err
	}
	later, err := column(ctx, tx, `SELECT sql FROM sqlite_master WHERE type!='table' AND sql IS NOT NULL ORDER BY rowid`)
	if err != nil {
		return err
	}
	tables, err := column(ctx, tx, `SELECT name FROM sqlite_master WHERE type='table' AND (name NOT LIKE 'sqlite_%' OR name='sqlite_sequence') ORDER BY name='sqlite_sequence', rowid`)
	if err != nil {
		return err
	}
	for _, text := range made {
		if err := each(Statement{Query: text}); err != nil {
			return err
		}
	}
	for _, table := range tables {
		if err := rowsOf(ctx, tx, table, each); err != nil {
			return fmt.Errorf("table %s: %w", table, err)
		}
	}
	for _, text := range later {
		if err := each(Statement{Query: text}); err != nil {
			return err
		}
	}
	return nil
}

func column(ctx context.Context, tx *sql.Tx, query string) (out []string, err error) {
	rows, err := tx.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		out = append(out, text)
	}
	return out, rows.Err()
}

func rowsOf(ctx context.Context, tx *sql.Tx, table string, each func(Statement) error) error {
	quoted := `"` + strings.ReplaceAll(table, `"`, `""`) + `"`
	rows, err := tx.QueryContext(ctx, `SELECT * FROM `+quoted)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	query := `INSERT INTO ` + quoted + ` VALUES (` + strings.TrimSuffix(strings.Repeat("?,", len(names)), ",") + `)`
	for rows.Next() {
		args, into := make([]any, len(names)), make([]any, len(names))
		for i := range args {
			into[i] = &args[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if err := each(Statement{query, args}); err != nil {
			return err
		}
	}
	return rows.Err()
}

// CopyIn is a copy of another service's record, in a directory that no service works with meanwhile.
type CopyIn struct {
	dir  string
	lock *os.File
	db   *sql.DB
}

// incoming is the file that a copy is made in, until it is whole.
const incoming = "vigila.incoming"

// BeginCopy begins a copy in a directory. The vault's key must be the other service's: copy vigila.key, or set VIGILA_KEY.
func BeginCopy(dir string) (*CopyIn, *Vault, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, nil, fmt.Errorf("make the data directory: %w", err)
	}
	vault, err := knownVault(dir)
	if err != nil {
		return nil, nil, err
	}
	lock, err := lockDir(dir)
	if err != nil {
		return nil, nil, err
	}
	c := &CopyIn{dir: dir, lock: lock}
	return c, vault, nil
}

// Anew begins with nothing.
func (c *CopyIn) Anew() (err error) {
	if c.db != nil {
		_ = c.db.Close()
	}
	at := filepath.Join(c.dir, incoming)
	for _, more := range []string{"", "-wal", "-shm", "-journal"} {
		_ = os.Remove(at + more)
	}
	c.db, err = openCopy(at, 0)
	return err
}

func openCopy(file string, foreignKeys int) (*sql.DB, error) {
	db, err := sql.Open("sqlite", fmt.Sprintf("file:%s?_pragma=journal_mode(WAL)&_pragma=foreign_keys(%d)&_pragma=synchronous(NORMAL)&_txlock=immediate", file, foreignKeys))
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

// Put takes in some of what CopyOut gave, or a change.
func (c *CopyIn) Put(ctx context.Context, all []Statement) error {
	tx, err := c.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	for _, s := range all {
		if _, err := tx.ExecContext(ctx, s.Query, s.Args...); err != nil {
			return errors.Join(fmt.Errorf("the copy can't take in what the other one has written: %w", err), tx.Rollback())
		}
	}
	return tx.Commit()
}

// ErrAnother tells that a directory holds the record of another service than the one that a copy was made of: it would be lost.
var ErrAnother = errors.New("this directory holds the record of another service, which a copy would take the place of")

// Whole makes the copy the directory's record. The one of before, if there is one, is kept beside it; where that is no earlier state of the same
// record, ErrAnother is wrapped, and it stays.
func (c *CopyIn) Whole(ctx context.Context) error {
	at, file := filepath.Join(c.dir, incoming), filepath.Join(c.dir, "vigila.db")
	if err := newer(ctx, c.db); err != nil {
		return err
	}
	if err := c.another(ctx, file); err != nil {
		return err
	}
	if _, err := c.db.ExecContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`); err != nil {
		return err
	}
	if err := c.db.Close(); err != nil {
		return err
	}
	if _, err := os.Stat(file); err == nil {
		before := file + ".before"
		for _, more := range []string{"", "-wal", "-shm"} {
			_ = os.Remove(before + more)
			if err := os.Rename(file+more, before+more); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
		}
	}
	if err := errors.Join(os.Chmod(at, 0o600), os.Rename(at, file)); err != nil {
		return err
	}
	for _, more := range []string{"-wal", "-shm"} {
		_ = os.Remove(at + more)
	}
	var err error
	c.db, err = openCopy(file, 1)
	return err
}

// another tells that the directory's record is that of another service.
func (c *CopyIn) another(ctx context.Context, file string) error {
	if _, err := os.Stat(file); err != nil {
		return nil
	}
	db, err := openCopy(file, 0)
	if err != nil {
		return err
	}
	defer db.Close()
	const query = `SELECT (SELECT value FROM settings WHERE name='service'), (SELECT count(*) FROM placements)`
	var own, other string
	var kept, x int
	if err := db.QueryRowContext(ctx, query).Scan(&own, &kept); err != nil {
		return nil // it can't be read any more, whoever's it is; it is kept as it is
	}
	if err := c.db.QueryRowContext(ctx, query).Scan(&other, &x); err != nil {
		return fmt.Errorf("the copy says of no service that it is its record: %w", err)
	}
	if own != other {
		return fmt.Errorf("%w: %s holds that of %s (wards: %d), and the service that works is %s. If that one is to be the pair's, move this directory away; else stop it, "+
			"delete the Lease, and start this one first", ErrAnother, file, own, kept, other)
	}
	return nil
}

// Close ends it, and lets a service have the directory.
func (c *CopyIn) Close() error {
	var err error
	if c.db != nil {
		err = c.db.Close()
	}
	return errors.Join(err, c.lock.Close())
}

// Derived is a key for one purpose, which follows from the vault's own: whoever has the one can make the other.
func (v *Vault) Derived(purpose string) []byte {
	m := hmac.New(sha256.New, []byte(v.identity.String()))
	m.Write([]byte("vigila derived key\n" + purpose))
	return m.Sum(nil)
}
