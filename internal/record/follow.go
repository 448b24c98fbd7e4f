package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"vigila.dev/vigila/internal/core/follow"
)

// Registry is a registry that is asked for versions of images.
type Registry struct {
	Name, Host      string
	Password, Token string // one of them, or neither
	RegistryMore
}

// RegistryMore is what there is to know of one that is not secret.
type RegistryMore struct {
	At    string    `json:"at,omitempty"` // where it is asked, when that is another address than images name
	User  string    `json:"user,omitempty"`
	CA    string    `json:"ca,omitempty"`
	About string    `json:"about,omitempty"`
	Made  time.Time `json:"made,omitzero"`
}

// PutRegistry adds a registry or changes it.
func (s *Store) PutRegistry(ctx context.Context, r Registry) error {
	sealed, err := s.vault.Seal([]byte(toJSON(secrets{r.Password, r.Token})))
	if err != nil {
		return err
	}
	_, err = s.change(ctx, `INSERT INTO registries (name, host, more, secrets) VALUES (?,?,?,?) ON CONFLICT (name) DO UPDATE SET host=excluded.host, more=excluded.more, secrets=excluded.secrets`,
		r.Name, r.Host, toJSON(r.RegistryMore), sealed)
	return err
}

// Registries lists the registries by name.
func (s *Store) Registries(ctx context.Context) ([]Registry, error) {
	var out []Registry
	err := each(ctx, s, func(row *sql.Rows) error {
		var r Registry
		var more string
		var sealed []byte
		if err := row.Scan(&r.Name, &r.Host, &more, &sealed); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(more), &r.RegistryMore); err != nil {
			return fmt.Errorf("registry %s: %w", r.Name, err)
		}
		in, err := s.credentials(sealed)
		if err != nil {
			return fmt.Errorf("credentials of registry %s: %w", r.Name, err)
		}
		r.Password, r.Token = in.Password, in.Token
		out = append(out, r)
		return nil
	}, `SELECT name, host, more, secrets FROM registries ORDER BY name`)
	return out, err
}

// credentials opens a password and a token.
func (s *Store) credentials(sealed []byte) (in secrets, err error) {
	plain, err := s.vault.Open(sealed)
	if err == nil {
		err = json.Unmarshal(plain, &in)
	}
	return in, err
}

// RemoveRegistry forgets a registry.
func (s *Store) RemoveRegistry(ctx context.Context, name string) error {
	_, err := s.change(ctx, `DELETE FROM registries WHERE name=?`, name)
	return err
}

// Follow is what is remembered of a follow; nothing of one that was never looked at.
func (s *Store) Follow(ctx context.Context, name string) (out follow.State, err error) {
	err = each(ctx, s, func(row *sql.Rows) error {
		var text string
		if err := row.Scan(&text); err != nil {
			return err
		}
		return json.Unmarshal([]byte(text), &out)
	}, `SELECT state FROM follows WHERE name=?`, name)
	return out, err
}

// PutFollow remembers a follow.
func (s *Store) PutFollow(ctx context.Context, name string, st follow.State) error {
	_, err := s.change(ctx, `INSERT INTO follows VALUES (?,?) ON CONFLICT (name) DO UPDATE SET state=excluded.state`, name, toJSON(st))
	return err
}
