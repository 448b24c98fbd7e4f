package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"vigila.dev/vigila/internal/core/grant"
)

// Provider says who somebody is (OpenID Connect).
type Provider struct {
	Name   string
	Secret string // of the client; "" for a public one
	ProviderMore
}

// ProviderMore is what there is to know of one that is not secret.
type ProviderMore struct {
	Issuer string   `json:"issuer"`
	Client string   `json:"client"`
	At     string   `json:"at"` // address of the console, to which the provider sends people back
	About  string   `json:"about,omitempty"`
	CA     string   `json:"ca,omitempty"`
	Scopes []string `json:"scopes,omitempty"` // beside openid, profile and email
	Names  string   `json:"names,omitempty"`  // the claim that people are called by; email when it is verified, or else sub
	Groups string   `json:"groups,omitempty"` // the claim that lists their groups
	grant.Given
	Made time.Time `json:"made,omitzero"`
}

// PutProvider adds a provider or changes it. Of another issuer the same names are other people: whoever signed in by the one before is signed out.
func (s *Store) PutProvider(ctx context.Context, x Provider) error {
	sealed, err := s.vault.Seal([]byte(x.Secret))
	if err != nil {
		return err
	}
	return s.tx(ctx, func(t *transaction) error {
		if err := t.exec(ctx, `DELETE FROM sessions WHERE provider=? AND EXISTS (SELECT 1 FROM providers WHERE name=? AND json_extract(more, '$.issuer')<>?)`, x.Name, x.Name, x.Issuer); err != nil {
			return err
		}
		return t.exec(ctx, `INSERT INTO providers VALUES (?,?,?) ON CONFLICT (name) DO UPDATE SET more=excluded.more, secrets=excluded.secrets`, x.Name, toJSON(x.ProviderMore), sealed)
	})
}

// Providers lists the providers by name.
func (s *Store) Providers(ctx context.Context) (out []Provider, err error) {
	err = each(ctx, s, func(row *sql.Rows) error {
		var x Provider
		var more string
		var sealed []byte
		if err := row.Scan(&x.Name, &more, &sealed); err != nil {
			return err
		}
		plain, err := s.vault.Open(sealed)
		if err := errors.Join(err, json.Unmarshal([]byte(more), &x.ProviderMore)); err != nil {
			return fmt.Errorf("provider %s: %w", x.Name, err)
		}
		x.Secret = string(plain)
		out = append(out, x)
		return nil
	}, `SELECT name, more, secrets FROM providers ORDER BY name`)
	return out, err
}

// RemoveProvider forgets a provider, and ends the sessions of those who signed in by it.
func (s *Store) RemoveProvider(ctx context.Context, name string) error {
	return s.tx(ctx, func(t *transaction) error {
		if err := t.exec(ctx, `DELETE FROM sessions WHERE provider=?`, name); err != nil {
			return err
		}
		return t.exec(ctx, `DELETE FROM providers WHERE name=?`, name)
	})
}

// Session is somebody who has signed in. What they keep of it is not kept here.
type Session struct {
	Hash             string
	Made, Used, Ends time.Time // Used within a minute
	SessionMore
}

// ID is what a session is called by: enough of its hash.
func (x Session) ID() string { return x.Hash[:min(12, len(x.Hash))] }

// SessionMore is who it is, and from where.
type SessionMore struct {
	Who     grant.Identity `json:"who,omitzero"`
	Token   string         `json:"token,omitempty"` // the hash of the token that it was opened with
	Through string         `json:"through"`         // console or command line
	From    string         `json:"from,omitempty"`  // network address
}

// AddSession keeps a session.
func (s *Store) AddSession(ctx context.Context, x Session) error {
	return s.exec(ctx, `INSERT INTO sessions VALUES (?,?,?,?,?,?)`, x.Hash, ms(x.Made), ms(x.Used), ms(x.Ends), x.Who.Provider, toJSON(x.SessionMore))
}

const sessionColumns = `SELECT hash, made, used, ends, more FROM sessions`

func (s *Store) sessions(ctx context.Context, query string, args ...any) (out []Session, err error) {
	err = each(ctx, s, func(row *sql.Rows) error {
		var x Session
		var made, used, ends int64
		var more string
		if err := row.Scan(&x.Hash, &made, &used, &ends, &more); err != nil {
			return err
		}
		x.Made, x.Used, x.Ends = at(made), at(used), at(ends)
		if err := json.Unmarshal([]byte(more), &x.SessionMore); err != nil {
			return fmt.Errorf("session %s: %w", x.ID(), err)
		}
		out = append(out, x)
		return nil
	}, sessionColumns+query, args...)
	return out, err
}

// SessionByHash finds a session, also one that has ended; ErrNone when it is not known.
func (s *Store) SessionByHash(ctx context.Context, hash string) (Session, error) {
	all, err := s.sessions(ctx, ` WHERE hash=?`, hash)
	if err == nil && len(all) == 0 {
		err = ErrNone
	}
	if err != nil {
		return Session{}, err
	}
	return all[0], nil
}

// Sessions lists the sessions, the one that was used last first.
func (s *Store) Sessions(ctx context.Context) ([]Session, error) {
	return s.sessions(ctx, ` ORDER BY used DESC, made DESC, hash`)
}

// UseSession notes that a session is used, once in a minute.
func (s *Store) UseSession(ctx context.Context, x Session, now time.Time) error {
	if now.Sub(x.Used) < time.Minute {
		return nil
	}
	return s.exec(ctx, `UPDATE sessions SET used=? WHERE hash=?`, ms(now), x.Hash)
}

// EndSession forgets a session.
func (s *Store) EndSession(ctx context.Context, hash string) error {
	return s.exec(ctx, `DELETE FROM sessions WHERE hash=?`, hash)
}

// EndSessions forgets those that have ended by themselves: at their time, or because nobody used them since idle.
func (s *Store) EndSessions(ctx context.Context, now, idle time.Time) error {
	return s.exec(ctx, `DELETE FROM sessions WHERE ends<=? OR used<?`, ms(now), ms(idle))
}

// PutTeams adds teams or changes them: all of them, or none.
func (s *Store) PutTeams(ctx context.Context, all ...grant.Team) error {
	return s.tx(ctx, func(tx *transaction) error {
		for _, t := range all {
			if err := tx.exec(ctx, `INSERT INTO teams VALUES (?,?) ON CONFLICT (name) DO UPDATE SET team=excluded.team`, t.Name, toJSON(t)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Teams lists the teams by name.
func (s *Store) Teams(ctx context.Context) (out []grant.Team, err error) {
	err = each(ctx, s, func(row *sql.Rows) error {
		var t grant.Team
		var text string
		if err := row.Scan(&text); err != nil {
			return err
		}
		err := json.Unmarshal([]byte(text), &t)
		out = append(out, t)
		return err
	}, `SELECT team FROM teams ORDER BY name`)
	return out, err
}

// RemoveTeam forgets a team.
func (s *Store) RemoveTeam(ctx context.Context, name string) error {
	return s.exec(ctx, `DELETE FROM teams WHERE name=?`, name)
}
