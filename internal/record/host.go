package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"
)

// Host is the code host of a repository.
type Host struct {
	Repo  string
	Token string
	HostMore
}

// HostMore is what there is to know of one that is not secret.
type HostMore struct {
	API      string    `json:"api"`
	URL      string    `json:"url"`
	Project  string    `json:"project"`
	CA       string    `json:"ca,omitempty"`
	Comments bool      `json:"comments,omitempty"` // on people's own requests as well
	Statuses bool      `json:"statuses,omitempty"` // of commits, how the wards do with them
	Link     string    `json:"link,omitempty"`     // where people reach the console
	Made     time.Time `json:"made,omitzero"`
}

// PutHost keeps the code host of a repository, in place of the one before.
func (s *Store) PutHost(ctx context.Context, h Host) error {
	sealed, err := s.vault.Seal([]byte(toJSON(secrets{"", h.Token})))
	if err != nil {
		return err
	}
	_, err = s.change(ctx, `INSERT INTO hosts VALUES (?,?,?) ON CONFLICT (repo) DO UPDATE SET more=excluded.more, secrets=excluded.secrets`, h.Repo, toJSON(h.HostMore), sealed)
	return err
}

// Hosts lists the code hosts by repository.
func (s *Store) Hosts(ctx context.Context) ([]Host, error) {
	var out []Host
	err := each(ctx, s, func(row *sql.Rows) error {
		var h Host
		var more string
		var sealed []byte
		if err := row.Scan(&h.Repo, &more, &sealed); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(more), &h.HostMore); err != nil {
			return fmt.Errorf("code host of %s: %w", h.Repo, err)
		}
		in, err := s.credentials(sealed)
		if err != nil {
			return fmt.Errorf("the token of the code host of %s: %w", h.Repo, err)
		}
		h.Token = in.Token
		out = append(out, h)
		return nil
	}, `SELECT repo, more, secrets FROM hosts ORDER BY repo`)
	return out, err
}

// RemoveHost forgets the code host of a repository.
func (s *Store) RemoveHost(ctx context.Context, repository string) error {
	_, err := s.change(ctx, `DELETE FROM hosts WHERE repo=?`, repository)
	return err
}
