package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"reflect"
	"slices"

	"vigila.dev/vigila/internal/core/lane"
)

// Lane is what is remembered of a lane; nothing of one that was never looked at.
func (s *Store) Lane(ctx context.Context, name string) (out lane.Memory, err error) {
	err = each(ctx, s, func(row *sql.Rows) error {
		var text string
		if err := row.Scan(&text); err != nil {
			return err
		}
		return json.Unmarshal([]byte(text), &out.Stops)
	}, `SELECT stops FROM lanes WHERE name=?`, name)
	if err != nil {
		return lane.Memory{}, err
	}
	if err = read(ctx, s, &out.Lots, `SELECT more FROM lane_lots WHERE lane=? ORDER BY number`, name); err != nil {
		return lane.Memory{}, err
	}
	err = read(ctx, s, &out.Passages, `SELECT more FROM lane_passages WHERE lane=? ORDER BY number`, name)
	return out, err
}

// read appends what each row holds as JSON.
func read[T any, S ~[]T](ctx context.Context, s *Store, into *S, query string, args ...any) error {
	return each(ctx, s, func(row *sql.Rows) error {
		var text string
		if err := row.Scan(&text); err != nil {
			return err
		}
		var one T
		if err := json.Unmarshal([]byte(text), &one); err != nil {
			return err
		}
		*into = append(*into, one)
		return nil
	}, query, args...)
}

// PutLane remembers a lane; was is what the record has of it. It writes what is another, all of it or nothing.
func (s *Store) PutLane(ctx context.Context, name string, was, now lane.Memory) error {
	return s.tx(ctx, func(t *transaction) error {
		if !reflect.DeepEqual(was.Stops, now.Stops) {
			if err := t.exec(ctx, `INSERT INTO lanes VALUES (?,?) ON CONFLICT (name) DO UPDATE SET stops=excluded.stops`, name, toJSON(now.Stops)); err != nil {
				return err
			}
		}
		if err := differing(ctx, t, was.Lots, now.Lots, func(l lane.Lot) int { return l.Number }, name, `INSERT OR REPLACE INTO lane_lots VALUES (?,?,?)`, `DELETE FROM lane_lots WHERE lane=? AND number=?`); err != nil {
			return err
		}
		return differing(ctx, t, was.Passages, now.Passages, func(p lane.Passage) int { return p.Number }, name, `INSERT OR REPLACE INTO lane_passages VALUES (?,?,?)`, `DELETE FROM lane_passages WHERE lane=? AND number=?`)
	})
}

// differing writes the numbered things that are others than they were, and forgets those that are gone.
func differing[T any](ctx context.Context, t *transaction, was, now []T, number func(T) int, name, put, drop string) error {
	old := map[int]T{}
	for _, x := range was {
		old[number(x)] = x
	}
	for _, x := range now {
		before, had := old[number(x)]
		delete(old, number(x))
		if had && reflect.DeepEqual(before, x) {
			continue
		}
		if err := t.exec(ctx, put, name, number(x), toJSON(x)); err != nil {
			return err
		}
	}
	gone := make([]int, 0, len(old))
	for n := range old {
		gone = append(gone, n)
	}
	slices.Sort(gone)
	for _, n := range gone {
		if err := t.exec(ctx, drop, name, n); err != nil {
			return err
		}
	}
	return nil
}
