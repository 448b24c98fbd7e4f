package record

import (
	"compress/gzip"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"filippo.io/age"
)

// copyName is the file within a data directory that a copy is made in: it is as private as the database.
const copyName = "vigila.copy"

// Copy writes the database of a directory to w as it is at one moment, while a service may go on writing to it: SQLite's own online way, packed
// with gzip and encrypted with the directory's age key, which is not in it.
// Source: https://www.sqlite.org/lang_vacuum.html#vacuuminto
func Copy(ctx context.Context, dir string, w io.Writer) error {
	file := filepath.Join(dir, "vigila.db")
	if _, err := os.Stat(file); err != nil {
		return fmt.Errorf("there is no database in %s (%w); name the directory with --data", dir, err)
	}
	vault, err := knownVault(dir)
	if err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)")
	if err != nil {
		return fmt.Errorf("open %s: %w", file, err)
	}
	defer db.Close()
	at := filepath.Join(dir, fmt.Sprintf("%s-%d", copyName, os.Getpid()))
	sweepCopies(dir)
	_ = os.Remove(at)
	defer os.Remove(at)
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, at); err != nil {
		return fmt.Errorf("copy %s: %w", file, err)
	}
	if err := os.Chmod(at, 0o600); err != nil {
		return err
	}
	plain, err := os.Open(at)
	if err != nil {
		return err
	}
	defer plain.Close()
	sealed, err := age.Encrypt(w, vault.identity.Recipient())
	if err != nil {
		return err
	}
	packed := gzip.NewWriter(sealed)
	if _, err := io.Copy(packed, plain); err != nil {
		return fmt.Errorf("copy %s: %w", file, err)
	}
	return errors.Join(packed.Close(), sealed.Close())
}

// sweepCopies removes copies that a process has left behind: each is as large as the database.
func sweepCopies(dir string) {
	all, _ := filepath.Glob(filepath.Join(dir, copyName+"-*")) // the pattern is a good one
	for _, at := range all {
		if st, err := os.Stat(at); err == nil && time.Since(st.ModTime()) > 24*time.Hour {
			_ = os.Remove(at)
		}
	}
}

// PutBack makes the database of a directory what Copy wrote. The directory must have no database, and its key must be that of the copy (or
// VIGILA_KEY holds it). A copy that is broken, or of a newer version, changes nothing.
func PutBack(ctx context.Context, dir string, r io.Reader) (err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("make the data directory: %w", err)
	}
	lock, err := lockDir(dir)
	if err != nil {
		return err
	}
	defer lock.Close()
	file := filepath.Join(dir, "vigila.db")
	if _, err := os.Stat(file); !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s is there already; nothing is written over: restore into another directory, or move that one away", file)
	}
	vault, err := knownVault(dir)
	if err != nil {
		return err
	}
	plain, err := age.Decrypt(r, vault.identity)
	if err != nil {
		return fmt.Errorf("the backup was encrypted with another key than that in %s: %w", dir, err)
	}
	unpacked, err := gzip.NewReader(plain)
	if err != nil {
		return fmt.Errorf("the backup is broken: %w", err)
	}
	at := filepath.Join(dir, fmt.Sprintf("%s-%d", copyName, os.Getpid()))
	f, err := os.OpenFile(at, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(at)
	_, err = io.Copy(f, unpacked)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("the backup is broken, and nothing was restored: %w", err)
	}
	if err := sound(ctx, at); err != nil {
		return err
	}
	return os.Rename(at, file)
}

// sound tells whether a file is a whole database of a version that is known here.
func sound(ctx context.Context, file string) error {
	db, err := sql.Open("sqlite", "file:"+file+"?mode=ro")
	if err != nil {
		return err
	}
	defer db.Close()
	var says string
	if err := db.QueryRowContext(ctx, `PRAGMA quick_check`).Scan(&says); err != nil || says != "ok" {
		return fmt.Errorf("the backup is no whole database, and nothing was restored: %s %w", says, errors.Join(err))
	}
	return newer(ctx, db)
}

// newer refuses a database that a newer Vigila has brought up to date: what that means is not known here.
func newer(ctx context.Context, db *sql.DB) error {
	rows, err := db.QueryContext(ctx, `SELECT name FROM migrations`)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return err
		}
		if !slices.Contains(names, name) {
			return &NewerError{strings.TrimSuffix(strings.TrimPrefix(name, "migrations/"), ".sql")}
		}
	}
	return rows.Err()
}

// NewerError tells that a database is of a newer version than this binary.
type NewerError struct{ Step string }

func (e *NewerError) Error() string {
	return fmt.Sprintf("the database is of a newer version of Vigila than this one (it knows of %s, and this binary does not); run that version, or restore a backup of before", e.Step)
}

// ErrLocked tells that another service has the data directory.
var ErrLocked = errors.New("another Vigila already uses it")

// WaitFree waits until no service has a data directory: for one that stands by. Between that and Open another may have taken it.
func WaitFree(ctx context.Context, dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("make the data directory: %w", err)
	}
	again := time.NewTicker(500 * time.Millisecond)
	defer again.Stop()
	for {
		lock, err := lockDir(dir)
		if err == nil {
			return lock.Close()
		}
		if !errors.Is(err, ErrLocked) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-again.C:
		}
	}
}

// lockDir takes the lock of a data directory.
func lockDir(dir string) (*os.File, error) {
	lock, err := os.OpenFile(filepath.Join(dir, "vigila.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the data directory: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = lock.Close()
		return nil, &lockedError{dir}
	}
	return lock, nil
}

type lockedError struct{ dir string }

func (e *lockedError) Error() string {
	return fmt.Sprintf("another Vigila already uses %s; stop it, or choose another --data", e.dir)
}
func (e *lockedError) Unwrap() error { return ErrLocked }

// knownVault is the key of a directory that has one, or that of VIGILA_KEY; none is made.
func knownVault(dir string) (*Vault, error) {
	file := filepath.Join(dir, "vigila.key")
	if _, err := os.Stat(file); err != nil && os.Getenv("VIGILA_KEY") == "" {
		return nil, fmt.Errorf("there is no key: put the vigila.key that belongs to the database into %s, or its line into VIGILA_KEY. It is in no backup, so that whoever has one can read nothing", dir)
	}
	return OpenVault(file)
}
