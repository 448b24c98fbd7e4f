package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"vigila.dev/vigila/internal/core/alert"
)

// Way is how messages get to people.
type Way struct {
	Name   string
	URL    string // where to; it may be secret itself
	Secret string // that signs them, or signs in
	WayMore
}

// WayMore is what there is to know of one that is not secret.
type WayMore struct {
	Kind    string    `json:"kind"`
	About   string    `json:"about,omitempty"`
	Made    time.Time `json:"made,omitzero"`
	CA      string    `json:"ca,omitempty"`
	Host    string    `json:"host,omitempty"` // of mail
	User    string    `json:"user,omitempty"`
	From    string    `json:"from,omitempty"`
	To      []string  `json:"to,omitempty"`
	Clear   bool      `json:"clear,omitempty"`
	Console string    `json:"console,omitempty"` // address that links begin with
	Rosters []string  `json:"rosters,omitempty"` // whose alerts may go by it; all of those without limits when empty
}

// waySecrets is what of a way is kept encrypted.
type waySecrets struct {
	URL    string `json:"url,omitempty"`
	Secret string `json:"secret,omitempty"`
}

// PutWay adds a way or changes it.
func (s *Store) PutWay(ctx context.Context, x Way) error {
	sealed, err := s.vault.Seal([]byte(toJSON(waySecrets{x.URL, x.Secret})))
	if err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO ways VALUES (?,?,?) ON CONFLICT (name) DO UPDATE SET more=excluded.more, secrets=excluded.secrets`, x.Name, toJSON(x.WayMore), sealed)
}

// Ways lists the ways by name.
func (s *Store) Ways(ctx context.Context) (out []Way, err error) {
	err = each(ctx, s, func(row *sql.Rows) error {
		var x Way
		var more string
		var sealed []byte
		if err := row.Scan(&x.Name, &more, &sealed); err != nil {
			return err
		}
		plain, err := s.vault.Open(sealed)
		var in waySecrets
		if err := errors.Join(err, json.Unmarshal([]byte(more), &x.WayMore), json.Unmarshal(plain, &in)); err != nil {
			return fmt.Errorf("way %s: %w", x.Name, err)
		}
		x.URL, x.Secret = in.URL, in.Secret
		out = append(out, x)
		return nil
	}, `SELECT name, more, secrets FROM ways ORDER BY name`)
	return out, err
}

// RemoveWay forgets a way.
func (s *Store) RemoveWay(ctx context.Context, name string) error {
	return s.exec(ctx, `DELETE FROM ways WHERE name=?`, name)
}

// Delivery is a message on its way to somebody.
type Delivery struct {
	ID, Alert, Way string
	Made           time.Time
	Next           time.Time // zero once it is delivered or given up
	Tries          int
	Done           time.Time // zero when it was not delivered
	Problem        string    // of the last try
	DeliveryMore
}

// DeliveryMore is what is delivered, and to whom.
type DeliveryMore struct {
	Message alert.Message `json:"message"`
	To      []string      `json:"to,omitempty"`
	Until   time.Time     `json:"until,omitzero"`
}

// Alert is what an alert remembers; nothing of one that was never looked at.
func (s *Store) Alert(ctx context.Context, name string) (out alert.State, err error) {
	var text string
	err = s.row(ctx, []any{&text}, `SELECT state FROM alerts WHERE name=?`, name)
	if errors.Is(err, ErrNone) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal([]byte(text), &out)
}

// PutAlert remembers what an alert has found, with the deliveries that follow from it: all of it, or nothing. A delivery whose id is known already is the same.
func (s *Store) PutAlert(ctx context.Context, name string, state alert.State, out []Delivery) error {
	return s.tx(ctx, func(t *transaction) error {
		if err := t.exec(ctx, `INSERT INTO alerts VALUES (?,?) ON CONFLICT (name) DO UPDATE SET state=excluded.state`, name, toJSON(state)); err != nil {
			return err
		}
		for _, d := range out {
			if err := t.exec(ctx, `INSERT INTO outbox (id, alert, way, made, next, message) VALUES (?,?,?,?,?,?) ON CONFLICT (id) DO NOTHING`, d.ID, d.Alert, d.Way, ms(d.Made), ms(d.Next), toJSON(d.DeliveryMore)); err != nil {
				return err
			}
		}
		return nil
	})
}

const deliveryColumns = `SELECT id, alert, way, made, next, tries, done, problem, message FROM outbox`

func deliveries(ctx context.Context, s *Store, query string, args ...any) (out []Delivery, err error) {
	err = each(ctx, s, func(row *sql.Rows) error {
		var d Delivery
		var made, next, done int64
		var text string
		if err := row.Scan(&d.ID, &d.Alert, &d.Way, &made, &next, &d.Tries, &done, &d.Problem, &text); err != nil {
			return err
		}
		d.Made, d.Next, d.Done = at(made), at(next), at(done)
		out = append(out, d)
		return json.Unmarshal([]byte(text), &out[len(out)-1].DeliveryMore)
	}, deliveryColumns+` `+query, args...)
	return out, err
}

// first holds for a delivery before which its alert has nothing on the same way to the same person, and whose way is free: what is over is not told before that it
// began.
const first = `next>0 AND way NOT IN (SELECT value FROM json_each(?)) AND NOT EXISTS (SELECT 1 FROM outbox b WHERE b.next>0 AND b.alert=outbox.alert AND b.way=outbox.way
	AND json_extract(b.message,'$.to') IS json_extract(outbox.message,'$.to') AND b.number<outbox.number)`

// Due lists the first deliveries that are to be tried by now, the oldest first, but none by ways that are busy. An alert's deliveries to one person by one way follow each
// other.
func (s *Store) Due(ctx context.Context, now time.Time, busy []string, most int) ([]Delivery, error) {
	return deliveries(ctx, s, `WHERE next<=? AND `+first+` ORDER BY number LIMIT ?`, ms(now), toJSON(append([]string{}, busy...)), most)
}

// NextDue is when the next delivery by a way that is not busy is to be tried; zero when there is none.
func (s *Store) NextDue(ctx context.Context, busy []string) (time.Time, error) {
	var next int64
	err := s.row(ctx, []any{&next}, `SELECT coalesce(min(next),0) FROM outbox WHERE `+first, toJSON(append([]string{}, busy...)))
	return at(next), err
}

// Waiting is how many deliveries are to be tried still, and since when the oldest of them is; zero when there is none.
func (s *Store) Waiting(ctx context.Context) (n int, oldest time.Time, err error) {
	var made int64
	err = s.row(ctx, []any{&n, &made}, `SELECT count(*), coalesce(min(made),0) FROM outbox WHERE next>0`)
	return n, at(made), err
}

// Tried writes down how the last try of a delivery went.
func (s *Store) Tried(ctx context.Context, d Delivery) error {
	return s.exec(ctx, `UPDATE outbox SET next=?, tries=?, done=?, problem=? WHERE id=?`, ms(d.Next), d.Tries, ms(d.Done), d.Problem, d.ID)
}

// Deliveries is one page of what was sent and is to be, the newest first, and how many there are in all; only what did not get there, where that is wanted.
func (s *Store) Deliveries(ctx context.Context, search string, undelivered bool, limit, offset int) (out []Delivery, total int, err error) {
	const found = ` WHERE (message LIKE ?1 OR way LIKE ?1 OR alert LIKE ?1) AND (done=0 OR NOT ?2)`
	like := "%" + search + "%"
	if err := s.row(ctx, []any{&total}, `SELECT count(*) FROM outbox`+found, like, undelivered); err != nil {
		return nil, 0, err
	}
	out, err = deliveries(ctx, s, found+` ORDER BY number DESC LIMIT ?3 OFFSET ?4`, like, undelivered, limit, offset)
	return out, total, err
}

// ForgetDeliveries forgets what was sent, or given up, before some time.
func (s *Store) ForgetDeliveries(ctx context.Context, before time.Time) error {
	return s.exec(ctx, `DELETE FROM outbox WHERE next=0 AND made<?`, ms(before))
}

// Mute is that nobody wants to hear of something for a while.
type Mute struct {
	Subject string
	Until   time.Time
	MuteMore
}

// MuteMore is who wants so, and why.
type MuteMore struct {
	By  string    `json:"by"`
	Why string    `json:"why,omitempty"`
	At  time.Time `json:"at"`
}

// PutMute adds a mute, or changes it.
func (s *Store) PutMute(ctx context.Context, m Mute) error {
	return s.exec(ctx, `INSERT INTO mutes VALUES (?,?,?) ON CONFLICT (subject) DO UPDATE SET until=excluded.until, more=excluded.more`, m.Subject, ms(m.Until), toJSON(m.MuteMore))
}

// Mutes lists those that hold at a time, by subject; the others are forgotten.
func (s *Store) Mutes(ctx context.Context, now time.Time) (out []Mute, err error) {
	if err := s.exec(ctx, `DELETE FROM mutes WHERE until<=?`, ms(now)); err != nil {
		return nil, err
	}
	err = each(ctx, s, func(row *sql.Rows) error {
		var m Mute
		var until int64
		var more string
		if err := row.Scan(&m.Subject, &until, &more); err != nil {
			return err
		}
		m.Until = at(until)
		out = append(out, m)
		return json.Unmarshal([]byte(more), &out[len(out)-1].MuteMore)
	}, `SELECT subject, until, more FROM mutes ORDER BY subject`)
	return out, err
}

// RemoveMute lets something be heard of again.
func (s *Store) RemoveMute(ctx context.Context, subject string) error {
	return s.exec(ctx, `DELETE FROM mutes WHERE subject=?`, subject)
}
