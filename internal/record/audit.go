package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/audit"
)

// addAudit appends an entry, within a transaction. Writers take turns, so the last line is the last.
func addAudit(ctx context.Context, t writer, e *audit.Entry) error {
	var last int
	var before string
	err := t.row(ctx, []any{&last, &before}, `SELECT number, hash FROM audit ORDER BY number DESC LIMIT 1`)
	if errors.Is(err, sql.ErrNoRows) {
		err = t.row(ctx, []any{&last, &before}, `SELECT number, hash FROM audit_base`)
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	e.Number = last + 1
	l, err := audit.Bind(*e, before)
	if err != nil {
		return err
	}
	return t.exec(ctx, `INSERT INTO audit (number, at, asked, text, hash) VALUES (?,?,?,?,?)`, l.Number, ms(e.At), e.Asked, l.Text, l.Hash)
}

// writer reads a row and makes a change within one transaction.
type writer interface {
	row(ctx context.Context, into []any, query string, args ...any) error
	exec(ctx context.Context, query string, args ...any) error
}

// bare is a transaction of a database that no Store has opened.
type bare struct{ *sql.Tx }

func (b bare) row(ctx context.Context, into []any, query string, args ...any) error {
	return b.QueryRowContext(ctx, query, args...).Scan(into...)
}

func (b bare) exec(ctx context.Context, query string, args ...any) error {
	_, err := b.ExecContext(ctx, query, args...)
	return err
}

// AddAudit appends an entry, and gives back its number.
func (s *Store) AddAudit(ctx context.Context, e audit.Entry) (int, error) {
	err := s.tx(ctx, func(t *transaction) error { return addAudit(ctx, t, &e) })
	return e.Number, err
}

// Accounted is something that was done: the entry with which it began, and the one that says what came of it; nil where there is none, since it goes on or nobody
// knows.
type Accounted struct {
	audit.Entry
	Hash  string // of its line
	Ended *audit.Entry
}

// FindAudit is what to list.
type FindAudit struct {
	Who    string // exactly
	Search string // words that must all occur
	Since  time.Time
	After  int // only what has a greater number
	Limit  int
	Offset int
	Lines  bool // every line by itself, the oldest first: what began, and what came of it
}

// Audit lists what was done, the newest first, and how much there is on all pages.
func (s *Store) Audit(ctx context.Context, f FindAudit) (out []Accounted, total int, err error) {
	where, args := []string{"a.asked=0"}, []any{}
	join, order := " LEFT JOIN audit b ON b.asked=a.number", " ORDER BY a.number DESC LIMIT ? OFFSET ?"
	if f.Lines {
		where[0], join, order = "1", " LEFT JOIN audit b ON 0", " ORDER BY a.number LIMIT ? OFFSET ?"
	}
	if f.Who != "" {
		where, args = append(where, `json_extract(a.text, '$.by')=?`), append(args, f.Who)
	}
	if !f.Since.IsZero() {
		where, args = append(where, `a.at>=?`), append(args, ms(f.Since))
	}
	if f.After > 0 {
		where, args = append(where, `a.number>?`), append(args, f.After)
	}
	for _, word := range strings.Fields(f.Search) {
		where, args = append(where, `(instr(lower(a.text), lower(?)) > 0 OR instr(lower(coalesce(b.text,'')), lower(?)) > 0)`), append(args, word, word)
	}
	from := ` FROM audit a` + join + ` WHERE ` + strings.Join(where, " AND ")
	if err := s.db.QueryRowContext(ctx, `SELECT count(*)`+from, args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	err = each(ctx, once{s.db}, func(row *sql.Rows) error {
		var begun, ended string
		var x Accounted
		if err := row.Scan(&begun, &x.Hash, &ended); err != nil {
			return err
		}
		err := json.Unmarshal([]byte(begun), &x.Entry)
		if ended != "" {
			x.Ended = &audit.Entry{}
			err = errors.Join(err, json.Unmarshal([]byte(ended), x.Ended))
		}
		out = append(out, x)
		return err
	}, `SELECT a.text, a.hash, coalesce(b.text,'')`+from+order, append(args, f.Limit, f.Offset)...)
	return out, total, err
}

// Verified is what a look through the whole account found.
type Verified struct {
	First, Last int    // numbers of the lines; 0 when there are none
	Hash        string // of the last
	Broken      *audit.BrokenError
}

// VerifyAudit looks through the whole account. The line that somebody has kept elsewhere, if any (a number and a hash), must be in it.
func (s *Store) VerifyAudit(ctx context.Context, kept audit.Line) (out Verified, err error) {
	found := kept.Number == 0
	c := audit.Chain{Next: 1}
	err = s.row(ctx, []any{&c.Next, &c.Before}, `SELECT number+1, hash FROM audit_base`)
	if err != nil && !errors.Is(err, ErrNone) {
		return out, err
	}
	err = each(ctx, s, func(row *sql.Rows) error {
		var l audit.Line
		if err := row.Scan(&l.Number, &l.Text, &l.Hash); err != nil || out.Broken != nil {
			return err
		}
		if err := c.Verify(l); errors.As(err, &out.Broken) {
			return nil
		}
		if out.First == 0 {
			out.First = l.Number
		}
		if out.Last, out.Hash = l.Number, l.Hash; l.Number == kept.Number {
			if found = true; l.Hash != kept.Hash {
				out.Broken = &audit.BrokenError{Number: l.Number, Text: "is not the one that was kept elsewhere: it, or something before it, was written anew"}
			}
		}
		return nil
	}, `SELECT number, text, hash FROM audit ORDER BY number`)
	if err == nil && !found && out.Broken == nil {
		out.Broken = &audit.BrokenError{Number: kept.Number, Text: fmt.Sprintf("was kept elsewhere, and is not here; here are %d to %d", out.First, out.Last)}
	}
	return out, err
}

// ForgetAudit forgets what is older than a time, from the beginning on; what the rest follows is kept, so that it can be verified still.
func (s *Store) ForgetAudit(ctx context.Context, before time.Time) error {
	return s.tx(ctx, func(t *transaction) error {
		var last int
		var hash string
		err := t.row(ctx, []any{&last, &hash}, `SELECT number, hash FROM audit WHERE number < coalesce((SELECT min(number) FROM audit WHERE at>=?), (SELECT max(number) FROM audit)) ORDER BY number DESC LIMIT 1`, ms(before))
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := t.exec(ctx, `INSERT INTO audit_base VALUES (1,?,?) ON CONFLICT (one) DO UPDATE SET number=excluded.number, hash=excluded.hash`, last, hash); err != nil {
			return err
		}
		return t.exec(ctx, `DELETE FROM audit WHERE number<=?`, last)
	})
}
