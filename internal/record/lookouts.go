package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"time"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
)

// Lookout is what a service keeps of the lookout of a cluster.
type Lookout struct {
	Cluster string
	Token   string // SHA-256 of the token that it joins with, hex
	Until   time.Time
	Used    time.Time // zero when nobody has joined with it
	Key     string    // the name of its key; "" before it has joined
	Seen    int64     // the last of its writes that is in this record
	Told    LookoutTold
}

// LookoutTold is what a lookout told of itself and of its cluster.
type LookoutTold struct {
	Version  string        `json:"version,omitempty"`
	Protocol int           `json:"protocol,omitempty"`
	Joined   time.Time     `json:"joined,omitzero"`
	Heard    time.Time     `json:"heard,omitzero"` // last, when that was written down
	Refused  string        `json:"refused,omitempty"`
	At       time.Time     `json:"at,omitzero"`     // when that was
	Alone    []Alone       `json:"alone,omitempty"` // when it was on its own, newest last
	Facts    LookoutsFacts `json:"facts,omitzero"`
}

// Alone is a time in which a lookout was on its own.
type Alone struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
}

// LookoutsFacts are what there is to know of a cluster that is rendered for.
type LookoutsFacts struct {
	Server  string          `json:"server,omitempty"`
	Version string          `json:"version,omitempty"`
	APIs    []string        `json:"apis,omitempty"`
	Whole   bool            `json:"whole,omitempty"` // all of them are known
	Kinds   map[string]bool `json:"kinds,omitempty"` // APIVERSION/KIND, to whether it lives in namespaces
}

// KindKey names a kind in LookoutsFacts.
func KindKey(k object.Kind) string { return k.Version + "/" + k.Kind }

// PutLookout lets a lookout join with a token; one that joined before is known no more.
func (s *Store) PutLookout(ctx context.Context, l Lookout) error {
	_, err := s.change(ctx, `INSERT INTO lookouts (cluster, token, until, told) VALUES (?,?,?,?)
		ON CONFLICT (cluster) DO UPDATE SET token=excluded.token, until=excluded.until, used=0, key='', told=excluded.told`, l.Cluster, l.Token, ms(l.Until), toJSON(l.Told))
	return err
}

// TellLookout keeps what a lookout told. Where another token was given since, it is told by somebody who keeps the cluster no more, and means nothing.
func (s *Store) TellLookout(ctx context.Context, l Lookout) error {
	_, err := s.change(ctx, `UPDATE lookouts SET told=? WHERE cluster=? AND token=?`, toJSON(l.Told), l.Cluster, l.Token)
	return err
}

// RemoveLookout forgets the lookout of a cluster, which is reached otherwise from now on.
func (s *Store) RemoveLookout(ctx context.Context, cluster string) error {
	_, err := s.change(ctx, `DELETE FROM lookouts WHERE cluster=?`, cluster)
	return err
}

// JoinLookout notes that a lookout has joined with its token, which nobody has used before: ErrNone when somebody has.
func (s *Store) JoinLookout(ctx context.Context, cluster, token, key string, at time.Time) error {
	return s.tx(ctx, func(tx *transaction) error {
		var good bool
		if err := tx.row(ctx, []any{&good}, `SELECT EXISTS (SELECT 1 FROM lookouts WHERE cluster=? AND token=? AND used=0 AND until>?)`, cluster, token, ms(at)); err != nil || !good {
			return errors.Join(err, ErrNone)
		}
		if err := tx.exec(ctx, `UPDATE lookouts SET used=?, key=?, seen=0 WHERE cluster=?`, ms(at), key, cluster); err != nil {
			return err
		}
		// What is applied is known where the cluster is kept, from now on.
		return tx.exec(ctx, `DELETE FROM baselines WHERE placement IN (SELECT id FROM placements WHERE cluster=?)`, cluster)
	})
}

// Lookouts lists what is kept of lookouts, by their clusters.
func (s *Store) Lookouts(ctx context.Context) ([]Lookout, error) {
	var out []Lookout
	err := each(ctx, s, func(row *sql.Rows) error {
		var l Lookout
		var until, used int64
		var told string
		if err := row.Scan(&l.Cluster, &l.Token, &until, &used, &l.Key, &l.Seen, &told); err != nil {
			return err
		}
		l.Until, l.Used = at(until), at(used)
		if err := json.Unmarshal([]byte(told), &l.Told); err != nil {
			return fmt.Errorf("lookout of cluster %s: %w", l.Cluster, err)
		}
		out = append(out, l)
		return nil
	}, `SELECT cluster, token, until, used, key, seen, told FROM lookouts ORDER BY cluster`)
	return out, err
}

// mirrored are the writes of a lookout that its service takes in as well: what people read of a ward when the lookout is away. What was
// applied, and its bodies, stays where it is.
var mirrored = map[string]func() Write{
	"add_entry":    func() Write { return &AddEntry{} },
	"end_entry":    func() Write { return &EndEntry{} },
	"interrupted":  func() Write { return &InterruptEntry{} },
	"set_outcome":  func() Write { return &SetOutcome{} },
	"remove_entry": func() Write { return &RemoveEntry{} },
	"hold":         func() Write { return &SetHold{} },
	"leaving":      func() Write { return &SetLeaving{} },
	"applied":      func() Write { return &SetApplied{} },
	"reject":       func() Write { return &Reject{} },
	"unreject":     func() Write { return &Unreject{} },
	"standing":     func() Write { return &AddStanding{} },
}

// mirrorKinds are the names of mirrored, by the types of the writes.
var mirrorKinds = func() map[reflect.Type]string {
	out := map[reflect.Type]string{}
	for name, fresh := range mirrored {
		out[reflect.TypeOf(fresh()).Elem()] = name
	}
	return out
}()

// Outgoing is a write of a lookout that its service takes in, by its number.
type Outgoing struct {
	N         int64           `cbor:"1,keyasint"`
	Placement string          `cbor:"2,keyasint"`
	Kind      string          `cbor:"3,keyasint"`
	Body      json.RawMessage `cbor:"4,keyasint"`
}

// Ended is the entry of a run whose end it writes; false for every other write.
func (o Outgoing) Ended() (e logbook.Entry, is bool) {
	var w EndEntry
	if o.Kind != "end_entry" || json.Unmarshal(o.Body, &w) != nil {
		return e, false
	}
	return w.Entry, true
}

// Mirrors makes every write from now on that a service takes in wait for it, in the same transaction.
func (s *Store) Mirrors() { s.mirrors = true }

// mirror lets a write wait for the service.
func (t *writing) mirror(ctx context.Context, w Write) error {
	kind := mirrorKinds[reflect.TypeOf(w)]
	if !t.store.mirrors || kind == "" {
		return nil
	}
	return t.exec(ctx, `INSERT INTO outgoing (placement, kind, body) VALUES (?,?,?)`, t.id, kind, toJSON(w))
}

// Outgoing lists writes that the service has not taken in, after a number, in their order.
func (s *Store) Outgoing(ctx context.Context, after int64, limit int) ([]Outgoing, error) {
	var out []Outgoing
	err := each(ctx, s, func(row *sql.Rows) error {
		var o Outgoing
		var body string
		if err := row.Scan(&o.N, &o.Placement, &o.Kind, &body); err != nil {
			return err
		}
		o.Body = json.RawMessage(body)
		out = append(out, o)
		return nil
	}, `SELECT n, placement, kind, body FROM outgoing WHERE n>? ORDER BY n LIMIT ?`, after, limit)
	return out, err
}

// OutgoingSpan is how many writes wait for the service, and the number of the last that there ever was.
func (s *Store) OutgoingSpan(ctx context.Context) (waiting int, last int64, err error) {
	err = s.row(ctx, []any{&waiting, &last}, `SELECT (SELECT count(*) FROM outgoing), coalesce((SELECT seq FROM sqlite_sequence WHERE name='outgoing'), 0)`)
	return waiting, last, err
}

// SetBefore notes the number of the newest entry that the service has of a placement which begins here: the next one comes after it.
func (s *Store) SetBefore(ctx context.Context, id string, number int) error {
	_, err := s.change(ctx, `UPDATE placements SET before=? WHERE id=?`, number, id)
	return err
}

// WentOut forgets the writes that the service has taken in, up to a number.
func (s *Store) WentOut(ctx context.Context, upTo int64) error {
	_, err := s.change(ctx, `DELETE FROM outgoing WHERE n<=?`, upTo)
	return err
}

// ErrGap tells that writes of a lookout are missing before those that were to be taken in.
var ErrGap = errors.New("writes are missing before these")

// TakeIn takes in writes of a lookout, in their order: all of them, or none. Those that are here already are passed over, and so are those of
// wards that are not kept any more. The number is that of the last that is here now.
func (s *Store) TakeIn(ctx context.Context, cluster string, all []Outgoing) (seen int64, err error) {
	err = s.tx(ctx, func(tx *transaction) error {
		if err := tx.row(ctx, []any{&seen}, `SELECT seen FROM lookouts WHERE cluster=?`, cluster); err != nil {
			return err
		}
		for _, o := range all {
			if o.N <= seen {
				continue
			}
			if o.N != seen+1 {
				return fmt.Errorf("%w: number %d comes after %d", ErrGap, o.N, seen)
			}
			seen = o.N
			var kept string
			err := tx.row(ctx, []any{&kept}, `SELECT id FROM placements WHERE id=? AND cluster=?`, o.Placement, cluster)
			if errors.Is(err, sql.ErrNoRows) {
				continue
			}
			if err != nil {
				return err
			}
			if err := o.to(ctx, &writing{s, tx, o.Placement}); err != nil {
				return err
			}
		}
		return tx.exec(ctx, `UPDATE lookouts SET seen=? WHERE cluster=?`, seen, cluster)
	})
	return seen, err
}

func (o Outgoing) to(ctx context.Context, t *writing) error {
	fresh := mirrored[o.Kind]
	if fresh == nil { // of a newer lookout, which knows what older services take in
		return nil
	}
	w := fresh()
	if err := json.Unmarshal(o.Body, w); err != nil {
		return fmt.Errorf("a write of kind %s: %w", o.Kind, err)
	}
	return w.to(ctx, t)
}

// Whole is all that a service has of a placement by the writes of its lookout: where some of those are lost, since the service was put back to an
// earlier state, it takes their place.
type Whole struct {
	Entries    []logbook.Entry
	Hold       *logbook.Hold
	Leaving    *logbook.Leaving
	Applied    *logbook.Revision
	Snapshot   string
	Tasks      map[string]string
	Rejections map[string]logbook.Rejection
	Stretches  []logbook.Stretch
	Before     int  // what the service had up to this number is not the lookout's, and stays
	More       bool // these are more entries of one that came before
}

// Parts are a Whole in several, each with entries of about so many bytes.
func (w Whole) Parts(bytes int) []Whole {
	entries := w.Entries
	w.Entries = nil
	out := []Whole{w}
	size := 0
	for _, e := range entries {
		n := len(toJSON(e))
		if size += n; size > bytes && len(out[len(out)-1].Entries) > 0 {
			out, size = append(out, Whole{More: true}), n
		}
		last := &out[len(out)-1]
		last.Entries = append(last.Entries, e)
	}
	return out
}

func (w Whole) to(ctx context.Context, t *writing) error {
	if w.More {
		for _, e := range w.Entries {
			if err := (AddEntry{e}).to(ctx, t); err != nil {
				return err
			}
		}
		return nil
	}
	if err := t.exec(ctx, `DELETE FROM entries WHERE placement=? AND number>?`, t.id, w.Before); err != nil {
		return err
	}
	if err := t.exec(ctx, `DELETE FROM rejections WHERE placement=?`, t.id); err != nil {
		return err
	}
	if len(w.Stretches) > 0 {
		if err := t.exec(ctx, `DELETE FROM standings WHERE placement=? AND at>=?`, t.id, ms(w.Stretches[0].From)); err != nil {
			return err
		}
	}
	writes := []Write{SetHold{w.Hold}, SetLeaving{w.Leaving}}
	if w.Applied != nil {
		writes = append(writes, SetApplied{*w.Applied, w.Snapshot, w.Tasks})
	}
	for _, e := range w.Entries {
		writes = append(writes, AddEntry{e})
	}
	for _, r := range w.Rejections {
		writes = append(writes, Reject{r})
	}
	for _, s := range w.Stretches {
		writes = append(writes, AddStanding{s})
	}
	for _, x := range writes {
		if err := x.to(ctx, t); err != nil {
			return err
		}
	}
	return nil
}

// Wholes are what a service is to have of all placements, as of the write whose number is given with them. Nothing is written meanwhile.
func (s *Store) Wholes(ctx context.Context) (out map[string]Whole, asOf int64, err error) {
	done, err := s.turn(ctx)
	if err != nil {
		return nil, 0, err
	}
	defer done()
	all, err := s.Placements(ctx, "")
	if err != nil {
		return nil, 0, err
	}
	out = map[string]Whole{}
	for _, p := range all {
		if out[p.ID], err = s.whole(ctx, p); err != nil {
			return nil, 0, err
		}
	}
	_, asOf, err = s.OutgoingSpan(ctx)
	return out, asOf, err
}

// WholeOf is what a service is to have of one placement, while nothing waits for it that was written before: waiting tells how much does, and then
// there is none.
func (s *Store) WholeOf(ctx context.Context, id string) (w Whole, waiting int, err error) {
	done, err := s.turn(ctx)
	if err != nil {
		return w, 0, err
	}
	defer done()
	if waiting, _, err = s.OutgoingSpan(ctx); err != nil || waiting > 0 {
		return w, waiting, err
	}
	name, _ := ward.OfID(id)
	all, err := s.Placements(ctx, name)
	if err != nil {
		return w, 0, err
	}
	for _, p := range all {
		if p.ID == id {
			w, err = s.whole(ctx, p)
			return w, 0, err
		}
	}
	return w, 0, ErrNone
}

func (s *Store) whole(ctx context.Context, p Placement) (w Whole, err error) {
	id := p.ID
	w.Hold, w.Leaving, w.Applied, w.Snapshot, w.Tasks = p.Hold, p.Leaving, p.Applied, p.Snapshot, p.Tasks
	if err := s.row(ctx, []any{&w.Before}, `SELECT before FROM placements WHERE id=?`, id); err != nil {
		return w, err
	}
	page, _, err := s.Entries(ctx, Find{Placement: id})
	if err != nil {
		return w, err
	}
	for i := len(page) - 1; i >= 0; i-- { // with their objects, which a list has not
		e, err := s.Entry(ctx, id, page[i].Number)
		if err != nil {
			return w, err
		}
		w.Entries = append(w.Entries, e)
	}
	if w.Rejections, err = s.Rejections(ctx, id); err != nil {
		return w, err
	}
	w.Stretches, err = s.Standings(ctx, id, time.Now().Add(-7*24*time.Hour))
	return w, err
}

// TakeWhole takes in all that a lookout has of some of its placements: what was here of them before goes. With the last of them comes the number of
// the write that all of it is as of; -1 before.
func (s *Store) TakeWhole(ctx context.Context, cluster string, all map[string]Whole, upTo int64) error {
	return s.tx(ctx, func(tx *transaction) error {
		for id, w := range all {
			var kept string
			err := tx.row(ctx, []any{&kept}, `SELECT id FROM placements WHERE id=? AND cluster=?`, id, cluster)
			if errors.Is(err, sql.ErrNoRows) {
				continue
			}
			if err == nil {
				err = w.to(ctx, &writing{s, tx, id})
			}
			if err != nil {
				return err
			}
		}
		if upTo < 0 {
			return nil
		}
		return tx.exec(ctx, `UPDATE lookouts SET seen=? WHERE cluster=?`, upTo, cluster)
	})
}

// Setting is a small thing that the record keeps by name, sealed; nothing when there is none.
func (s *Store) Setting(ctx context.Context, name string) ([]byte, error) {
	var sealed string
	err := s.row(ctx, []any{&sealed}, `SELECT value FROM settings WHERE name=?`, name)
	if errors.Is(err, ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return s.vault.Open([]byte(sealed))
}

// PutSetting keeps a small thing by name, sealed.
func (s *Store) PutSetting(ctx context.Context, name string, value []byte) error {
	sealed, err := s.vault.Seal(value)
	if err != nil {
		return err
	}
	_, err = s.change(ctx, `INSERT INTO settings VALUES (?,?) ON CONFLICT (name) DO UPDATE SET value=excluded.value`, name, string(sealed))
	return err
}
