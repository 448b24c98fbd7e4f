package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"
)

// The kinds of stores of secret values.
const (
	KVStore        = "kv"        // a server that speaks KV version 2
	NamespaceStore = "namespace" // Secrets of a namespace of a cluster
	FilesStore     = "files"     // encrypted files of a repository
)

// ValueStore is where secret values live.
type ValueStore struct {
	Name   string
	Secret string // the token, or the secret of the role, that it is signed in to with; the key of its files
	ValueStoreMore
}

// ValueStoreMore is what there is to know of one that is not secret.
type ValueStoreMore struct {
	Kind   string        `json:"kind"`
	About  string        `json:"about,omitempty"`
	Every  time.Duration `json:"every"` // how often it is looked at
	Made   time.Time     `json:"made,omitzero"`
	Roster string        `json:"roster,omitempty"` // that declares it; "" when a person added it

	URL    string `json:"url,omitempty"`
	Mount  string `json:"mount,omitempty"`
	CA     string `json:"ca,omitempty"`
	Space  string `json:"space,omitempty"` // namespace of the server
	SignIn string `json:"sign_in,omitempty"`
	At     string `json:"at,omitempty"` // where the way to sign in is mounted
	Role   string `json:"role,omitempty"`

	Cluster   string `json:"cluster,omitempty"`
	Namespace string `json:"namespace,omitempty"`

	Repo string `json:"repo,omitempty"`
	Ref  string `json:"ref,omitempty"`
	Dir  string `json:"dir,omitempty"`

	// Who may use it: wards that are named, or whose owner, cluster or roster is; all of those that are given have to hold. Everybody where none is.
	Wards    []string `json:"wards,omitempty"`
	Owners   []string `json:"owners,omitempty"`
	Clusters []string `json:"clusters,omitempty"`
	Rosters  []string `json:"rosters,omitempty"`
}

// PutValueStore adds a store or changes it.
func (s *Store) PutValueStore(ctx context.Context, x ValueStore) error {
	sealed, err := s.vault.Seal([]byte(toJSON(secrets{"", x.Secret})))
	if err != nil {
		return err
	}
	_, err = s.change(ctx, `INSERT INTO stores (name, more, secrets) VALUES (?,?,?) ON CONFLICT (name) DO UPDATE SET more=excluded.more, secrets=excluded.secrets`, x.Name, toJSON(x.ValueStoreMore), sealed)
	return err
}

// ValueStores lists the stores by name.
func (s *Store) ValueStores(ctx context.Context) ([]ValueStore, error) {
	var out []ValueStore
	err := each(ctx, s, func(row *sql.Rows) error {
		var x ValueStore
		var more string
		var sealed []byte
		if err := row.Scan(&x.Name, &more, &sealed); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(more), &x.ValueStoreMore); err != nil {
			return fmt.Errorf("store %s: %w", x.Name, err)
		}
		in, err := s.credentials(sealed)
		if err != nil {
			return fmt.Errorf("credentials of store %s: %w", x.Name, err)
		}
		x.Secret = in.Token
		out = append(out, x)
		return nil
	}, `SELECT name, more, secrets FROM stores ORDER BY name`)
	return out, err
}

// RemoveValueStore forgets a store.
func (s *Store) RemoveValueStore(ctx context.Context, name string) error {
	_, err := s.change(ctx, `DELETE FROM stores WHERE name=?`, name)
	return err
}
