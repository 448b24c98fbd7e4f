package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"vigila.dev/vigila/internal/core/canary"
)

// PutCanary keeps how far the canary of a run is. While it is active it is gone on with after a crash; of a placement one is at most.
type PutCanary struct {
	State  canary.State
	Active bool
}

func (w PutCanary) to(ctx context.Context, t *writing) error {
	body, err := pack(w.State)
	if err != nil {
		return err
	}
	if w.Active {
		if err := t.exec(ctx, `UPDATE canaries SET active=0 WHERE placement=? AND number<>? AND active=1`, t.id, w.State.Run); err != nil {
			return err
		}
	}
	return t.exec(ctx, `INSERT INTO canaries VALUES (?,?,?,?) ON CONFLICT (placement, number) DO UPDATE SET active=excluded.active, state=excluded.state`, t.id, w.State.Run, w.Active, body)
}

// Canary is the canary of the run with an entry's number, or, for 0, the one that is active; nil when there is none.
func (s *Store) Canary(ctx context.Context, id string, number int) (*canary.State, error) {
	var out *canary.State
	err := each(ctx, s, func(row *sql.Rows) error {
		var body []byte
		if err := row.Scan(&body); err != nil {
			return err
		}
		out = &canary.State{}
		return unpack(body, out)
	}, `SELECT state FROM canaries WHERE placement=?1 AND (number=?2 OR ?2=0 AND active=1)`, id, number)
	if err != nil {
		return nil, fmt.Errorf("the canary of %s #%d: %w", id, number, err)
	}
	return out, nil
}

// LastCanary is the newest canary of a placement; nil when there was none.
func (s *Store) LastCanary(ctx context.Context, id string) (*canary.State, error) {
	var number int
	if err := s.row(ctx, []any{&number}, `SELECT coalesce(max(number), 0) FROM canaries WHERE placement=?`, id); err != nil || number == 0 {
		return nil, err
	}
	return s.Canary(ctx, id, number)
}

// Metrics is a server that speaks the Prometheus HTTP API.
type Metrics struct {
	Name, URL       string
	Password, Token string // one of them, or neither
	MetricsMore
}

// MetricsMore is what there is to know of one that is not secret.
type MetricsMore struct {
	User  string    `json:"user,omitempty"`
	CA    string    `json:"ca,omitempty"`
	About string    `json:"about,omitempty"`
	Made  time.Time `json:"made,omitzero"`
}

// secrets are a password and a token, as they are encrypted.
type secrets struct {
	Password string `json:"password,omitempty"`
	Token    string `json:"token,omitempty"`
}

// PutMetrics adds a metrics source or changes it.
func (s *Store) PutMetrics(ctx context.Context, m Metrics) error {
	sealed, err := s.vault.Seal([]byte(toJSON(secrets{m.Password, m.Token})))
	if err != nil {
		return err
	}
	_, err = s.change(ctx, `INSERT INTO metrics_sources VALUES (?,?,?,?) ON CONFLICT (name) DO UPDATE SET url=excluded.url, more=excluded.more, secrets=excluded.secrets`,
		m.Name, m.URL, toJSON(m.MetricsMore), sealed)
	return err
}

// MetricsSources lists the metrics sources by name.
func (s *Store) MetricsSources(ctx context.Context) ([]Metrics, error) {
	var out []Metrics
	err := each(ctx, s, func(row *sql.Rows) error {
		var m Metrics
		var more string
		var sealed []byte
		if err := row.Scan(&m.Name, &m.URL, &more, &sealed); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(more), &m.MetricsMore); err != nil {
			return fmt.Errorf("metrics source %s: %w", m.Name, err)
		}
		in, err := s.credentials(sealed)
		if err != nil {
			return fmt.Errorf("credentials of metrics source %s: %w", m.Name, err)
		}
		m.Password, m.Token = in.Password, in.Token
		out = append(out, m)
		return nil
	}, `SELECT name, url, more, secrets FROM metrics_sources ORDER BY name`)
	return out, err
}

// RemoveMetrics forgets a metrics source.
func (s *Store) RemoveMetrics(ctx context.Context, name string) error {
	_, err := s.change(ctx, `DELETE FROM metrics_sources WHERE name=?`, name)
	return err
}
