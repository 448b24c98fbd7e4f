package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"vigila.dev/vigila/internal/core/audit"
	"vigila.dev/vigila/internal/core/grant"
)

// Token is a bearer token's owner; the token itself is never kept.
type Token struct {
	Name    string
	Role    string
	Made    time.Time
	Expires time.Time // zero for one that does not end by itself
	Used    time.Time // to the minute; zero when it never was
	Hash    string    // of the token, where it was found by it
	May     []grant.Grant
	Maker   grant.Identity // the person who made it, as their provider knew them last; nothing where a token did that nobody made
}

// ErrTaken tells that the name of a token is another's.
var ErrTaken = errors.New("there is a token of that name")

const addToken = `INSERT INTO tokens (hash, name, role, made, expires, may, maker) VALUES (?,?,?,?,?,?,?) ON CONFLICT (name) DO NOTHING`

// AddToken keeps the hash of a token, made now. A name that has ended is free again. Errors are ErrTaken for one that has not.
func (s *Store) AddToken(ctx context.Context, hash string, t Token) error {
	now := time.Now()
	if _, err := s.change(ctx, `DELETE FROM tokens WHERE name=? AND expires<>0 AND expires<=?`, t.Name, ms(now)); err != nil {
		return err
	}
	return added(s.change(ctx, addToken, hash, t.Name, t.Role, ms(now), ms(t.Expires), mayText(t), makerText(t)))
}

func added(r sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return ErrTaken
}

const tokenColumns = `SELECT name, role, made, expires, used, may, maker FROM tokens`

// mayText is what a token may beside its role, as it is kept.
func mayText(t Token) string {
	if len(t.May) == 0 {
		return ""
	}
	return toJSON(t.May)
}

// makerText is who made a token, as it is kept.
func makerText(t Token) string {
	if t.Maker.Provider == "" {
		return ""
	}
	return toJSON(t.Maker)
}

// KnowMaker notes how a provider knows somebody by now, with the tokens that they have made.
func (s *Store) KnowMaker(ctx context.Context, i grant.Identity) error {
	return s.exec(ctx, `UPDATE tokens SET maker=? WHERE maker<>'' AND json_extract(maker, '$.provider')=? AND json_extract(maker, '$.subject')=?`, toJSON(i), i.Provider, i.Subject)
}

// scanToken reads a row of tokenColumns.
func scanToken(scan func(...any) error) (t Token, err error) {
	var made, expires, used int64
	var may, maker string
	if err := scan(&t.Name, &t.Role, &made, &expires, &used, &may, &maker); err != nil {
		return t, err
	}
	t.Made, t.Expires, t.Used = at(made), at(expires), at(used)
	if may != "" {
		err = json.Unmarshal([]byte(may), &t.May)
	}
	if maker != "" {
		err = errors.Join(err, json.Unmarshal([]byte(maker), &t.Maker))
	}
	return t, err
}

// TokenByHash finds a token, also one that has ended; ErrNone when it is not known.
func (s *Store) TokenByHash(ctx context.Context, hash string) (Token, error) {
	t, err := scanToken(func(into ...any) error { return s.row(ctx, into, tokenColumns+` WHERE hash=?`, hash) })
	t.Hash = hash
	return t, err
}

// UseToken notes that a token is used, once in a minute.
func (s *Store) UseToken(ctx context.Context, t Token, now time.Time) error {
	if now.Sub(t.Used) < time.Minute {
		return nil
	}
	return s.exec(ctx, `UPDATE tokens SET used=? WHERE name=?`, ms(now.Truncate(time.Minute)), t.Name)
}

// Tokens lists the tokens: those that end first at the top, those that don't end last.
func (s *Store) Tokens(ctx context.Context) ([]Token, error) {
	var out []Token
	err := each(ctx, s, func(row *sql.Rows) error {
		t, err := scanToken(row.Scan)
		out = append(out, t)
		return err
	}, tokenColumns+` ORDER BY expires=0, expires, name`)
	return out, err
}

// EndToken forgets a token; ErrNone when there is none of that name.
func (s *Store) EndToken(ctx context.Context, name string) error {
	r, err := s.change(ctx, `DELETE FROM tokens WHERE name=?`, name)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return ErrNone
}

// AddTokenIn keeps the hash of a token in the database of a directory, also while a service uses it: the way back in for
// whoever may write there.
func AddTokenIn(ctx context.Context, dir, hash string, t Token) error {
	file := filepath.Join(dir, "vigila.db")
	if _, err := os.Stat(file); err != nil {
		return fmt.Errorf("there is no database in %s (%w); name the directory with --data. The first start of vigila serve makes it, with a token", dir, err)
	}
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)&_txlock=immediate")
	if err != nil {
		return fmt.Errorf("open %s: %w", file, err)
	}
	defer db.Close()
	var n int
	if err := db.QueryRowContext(ctx, `SELECT count(*) FROM sqlite_master WHERE name='sessions'`).Scan(&n); err != nil {
		return fmt.Errorf("read %s: %w", file, err)
	}
	if n == 0 {
		return fmt.Errorf("%s is of an older version of Vigila; start vigila serve once, which brings it up to date", file)
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("write to %s: %w", file, err)
	}
	defer func() { _ = tx.Rollback() }() // does nothing once it is committed
	if err := added(tx.ExecContext(ctx, addToken, hash, t.Name, t.Role, ms(time.Now()), ms(t.Expires), mayText(t), makerText(t))); err != nil {
		return err
	}
	if err := addAudit(ctx, bare{tx}, &audit.Entry{At: time.Now(), By: OnTheMachine, Through: "command line", Verb: "make", Of: "token", Name: t.Name, With: map[string]string{"role": t.Role}, Outcome: audit.Done}); err != nil {
		return err
	}
	return tx.Commit()
}

// OnTheMachine is who did what is done in the service's data directory.
const OnTheMachine = "somebody on the service's machine"
