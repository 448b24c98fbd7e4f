package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"vigila.dev/vigila/internal/core/roster"
)

// Repo is a known repository, of git or of charts.
type Repo struct {
	Name, URL, User, Password string
	Key, Passphrase           string // over SSH
	SignKey                   string // signs the commits that are made here
	RepoMore
}

// RepoMore is what there is to know of a repository that is not secret.
type RepoMore struct {
	Charts     bool      `json:"charts,omitempty"` // a chart repository
	Bearer     bool      `json:"bearer,omitempty"`
	CA         string    `json:"ca,omitempty"`
	KnownHosts string    `json:"known_hosts,omitempty"`
	Signers    string    `json:"signers,omitempty"`
	Submodules bool      `json:"submodules,omitempty"`
	LargeFiles bool      `json:"large_files,omitempty"`
	Roster     string    `json:"roster,omitempty"` // that declares it
	Person     bool      `json:"person,omitempty"` // a person has added or changed it: a commit takes nothing of that away
	About      string    `json:"about,omitempty"`
	Expires    time.Time `json:"expires,omitzero"` // of the credentials, where the server says so
}

type repoSecrets struct {
	Key        string `json:"key,omitempty"`
	Passphrase string `json:"passphrase,omitempty"`
	SignKey    string `json:"sign_key,omitempty"`
}

// PutRepo adds a repository or changes it.
func (s *Store) PutRepo(ctx context.Context, r Repo) error {
	secret, err := s.vault.Seal([]byte(r.Password))
	if err != nil {
		return err
	}
	var more []byte
	if r.Key != "" || r.SignKey != "" {
		if more, err = s.vault.Seal([]byte(toJSON(repoSecrets{r.Key, r.Passphrase, r.SignKey}))); err != nil {
			return err
		}
	}
	_, err = s.change(ctx, `INSERT INTO repos (name, url, user, password, more, secrets) VALUES (?,?,?,?,?,?)
		ON CONFLICT (name) DO UPDATE SET url=excluded.url, user=excluded.user, password=excluded.password, more=excluded.more, secrets=excluded.secrets`,
		r.Name, r.URL, r.User, secret, toJSON(r.RepoMore), more)
	return err
}

// Repos lists the known repositories by name.
func (s *Store) Repos(ctx context.Context) ([]Repo, error) {
	var out []Repo
	err := each(ctx, s, func(row *sql.Rows) error {
		var r Repo
		var secret, sealed []byte
		var more string
		if err := row.Scan(&r.Name, &r.URL, &r.User, &secret, &more, &sealed); err != nil {
			return err
		}
		plain, err := s.vault.Open(secret)
		if err != nil {
			return fmt.Errorf("password of repository %s: %w", r.Name, err)
		}
		r.Password = string(plain)
		if err := json.Unmarshal([]byte(more), &r.RepoMore); err != nil {
			return fmt.Errorf("repository %s: %w", r.Name, err)
		}
		if plain, err = s.vault.Open(sealed); err != nil {
			return fmt.Errorf("key of repository %s: %w", r.Name, err)
		}
		if len(plain) > 0 {
			var in repoSecrets
			if err := json.Unmarshal(plain, &in); err != nil {
				return fmt.Errorf("key of repository %s: %w", r.Name, err)
			}
			r.Key, r.Passphrase, r.SignKey = in.Key, in.Passphrase, in.SignKey
		}
		out = append(out, r)
		return nil
	}, `SELECT name, url, user, password, more, secrets FROM repos ORDER BY name`)
	return out, err
}

// Cluster is a known cluster.
type Cluster struct {
	Name, Kubeconfig, Context string
	Token                     string // of a service account
	KubeconfigText            string // in place of the path of one
	Labels                    map[string]string
	ClusterMore
}

// ClusterMore is what there is to know of a cluster beside its kubeconfig.
type ClusterMore struct {
	Server    string            `json:"server,omitempty"` // with Token, instead of a kubeconfig
	CA        string            `json:"ca,omitempty"`
	InCluster bool              `json:"in_cluster,omitempty"` // the cluster that the service runs in
	Links     map[string]string `json:"links,omitempty"`
	About     string            `json:"about,omitempty"`
	Roster    string            `json:"roster,omitempty"` // that declares labels, links and May
	Only      []string          `json:"only,omitempty"`   // the namespaces that can be looked into: what is not in them can't be kept; all when empty
	May       []string          `json:"may,omitempty"`    // the namespaces that objects may be kept in, as is declared; all when empty
	People    TakesPeople       `json:"people,omitzero"`
}

// TakesPeople is whose people the API server of a cluster takes by their own sign-in.
type TakesPeople struct {
	Provider string `json:"provider,omitempty"`
	Client   string `json:"client,omitempty"` // what the API server is to the provider: the audience of what it takes
}

// PutCluster adds a cluster or changes it.
func (s *Store) PutCluster(ctx context.Context, c Cluster) error {
	token, err := s.vault.Seal([]byte(c.Token))
	if err != nil {
		return err
	}
	text, err := s.vault.Seal([]byte(c.KubeconfigText))
	if err != nil {
		return err
	}
	_, err = s.change(ctx, `INSERT INTO clusters (name, kubeconfig, context, labels, more, token, kubeconfig_text) VALUES (?,?,?,?,?,?,?)
		ON CONFLICT (name) DO UPDATE SET kubeconfig=excluded.kubeconfig, context=excluded.context, labels=excluded.labels, more=excluded.more, token=excluded.token,
		kubeconfig_text=excluded.kubeconfig_text`,
		c.Name, c.Kubeconfig, c.Context, toJSON(c.Labels), toJSON(c.ClusterMore), token, text)
	return err
}

// Clusters lists the known clusters by name.
func (s *Store) Clusters(ctx context.Context) ([]Cluster, error) {
	var out []Cluster
	err := each(ctx, s, func(row *sql.Rows) error {
		var c Cluster
		var labels, more string
		var token, text []byte
		if err := row.Scan(&c.Name, &c.Kubeconfig, &c.Context, &labels, &more, &token, &text); err != nil {
			return err
		}
		plain, err := s.vault.Open(token)
		if err != nil {
			return fmt.Errorf("token of cluster %s: %w", c.Name, err)
		}
		c.Token = string(plain)
		if plain, err = s.vault.Open(text); err != nil {
			return fmt.Errorf("kubeconfig of cluster %s: %w", c.Name, err)
		}
		c.KubeconfigText = string(plain)
		if err := errors.Join(json.Unmarshal([]byte(labels), &c.Labels), json.Unmarshal([]byte(more), &c.ClusterMore)); err != nil {
			return fmt.Errorf("cluster %s: %w", c.Name, err)
		}
		out = append(out, c)
		return nil
	}, `SELECT name, kubeconfig, context, labels, more, token, kubeconfig_text FROM clusters ORDER BY name`)
	return out, err
}

// Home is the repository and ref that a ward file lives in.
type Home struct {
	Repo string `json:"repo,omitempty"`
	Ref  string `json:"ref,omitempty"`
}

// PutRoster adds a roster or changes it.
func (s *Store) PutRoster(ctx context.Context, r roster.Roster) error {
	_, err := s.change(ctx, `INSERT INTO rosters (name, repo, ref, path, parent, limits, rules, made, teams) VALUES (?,?,?,?,?,?,?,?,?)
		ON CONFLICT (name) DO UPDATE SET repo=excluded.repo, ref=excluded.ref, path=excluded.path, parent=excluded.parent, limits=excluded.limits, rules=excluded.rules, teams=excluded.teams`,
		r.Name, r.Repo, r.Ref, r.Path, r.Parent, toJSON(r.Limits), toJSON(r.Rules), ms(time.Now()), r.Teams)
	return err
}

// Rosters lists the rosters by name.
func (s *Store) Rosters(ctx context.Context) ([]roster.Roster, error) {
	var out []roster.Roster
	err := each(ctx, s, func(row *sql.Rows) error {
		var r roster.Roster
		var limits, rules string
		if err := row.Scan(&r.Name, &r.Repo, &r.Ref, &r.Path, &r.Parent, &limits, &rules, &r.Teams); err != nil {
			return err
		}
		if err := errors.Join(json.Unmarshal([]byte(limits), &r.Limits), json.Unmarshal([]byte(rules), &r.Rules)); err != nil {
			return fmt.Errorf("roster %s: %w", r.Name, err)
		}
		out = append(out, r)
		return nil
	}, `SELECT name, repo, ref, path, parent, limits, rules, teams FROM rosters ORDER BY name`)
	return out, err
}

// RemoveRoster forgets a roster; the wards it declared are kept, by nobody's declaration.
func (s *Store) RemoveRoster(ctx context.Context, name string) error {
	return s.tx(ctx, func(tx *transaction) error {
		for _, q := range []string{`DELETE FROM rosters WHERE name=?`, `UPDATE wards SET roster='', source='' WHERE roster=?`} {
			if err := tx.exec(ctx, q, name); err != nil {
				return err
			}
		}
		return nil
	})
}

// LeftBehind is what stayed in a cluster when its ward left.
type LeftBehind struct {
	Placement string
	Roster    string
	At        time.Time
	Why       string
	Refs      []string // keys of objects
}

// AddLeftBehind notes what stayed; what stayed of the same placement before is among it.
func (s *Store) AddLeftBehind(ctx context.Context, l LeftBehind) error {
	_, err := s.change(ctx, `INSERT INTO left_behind (placement, roster, at, why, refs) VALUES (?,?,?,?,?)
		ON CONFLICT (placement) DO UPDATE SET roster=excluded.roster, at=excluded.at, why=excluded.why, refs=excluded.refs`, l.Placement, l.Roster, ms(l.At), l.Why, toJSON(l.Refs))
	return err
}

// LeftBehind lists what stayed, the newest first.
func (s *Store) LeftBehind(ctx context.Context) ([]LeftBehind, error) {
	var out []LeftBehind
	err := each(ctx, s, func(row *sql.Rows) error {
		var l LeftBehind
		var n int64
		var refs string
		if err := row.Scan(&l.Placement, &l.Roster, &n, &l.Why, &refs); err != nil {
			return err
		}
		l.At = at(n)
		if err := json.Unmarshal([]byte(refs), &l.Refs); err != nil {
			return err
		}
		out = append(out, l)
		return nil
	}, `SELECT placement, roster, at, why, refs FROM left_behind ORDER BY at DESC, placement`)
	return out, err
}

// RemoveLeftBehind forgets what stayed of a placement: it is kept again, or somebody has seen to it.
func (s *Store) RemoveLeftBehind(ctx context.Context, placement string) (known bool, err error) {
	r, err := s.change(ctx, `DELETE FROM left_behind WHERE placement=?`, placement)
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// PutRendered keeps what a rendering gave, encrypted.
func (s *Store) PutRendered(ctx context.Context, key string, v any) error {
	b, err := pack(v)
	if err != nil {
		return err
	}
	sealed, err := s.vault.Seal(b)
	if err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO rendered (key, body, used) VALUES (?,?,?) ON CONFLICT (key) DO UPDATE SET body=excluded.body, used=excluded.used`, key, sealed, ms(time.Now()))
}

// Rendered reads what a rendering gave; ErrNone when it is not kept.
func (s *Store) Rendered(ctx context.Context, key string, into any) error {
	var sealed []byte
	if err := s.row(ctx, []any{&sealed}, `SELECT body FROM rendered WHERE key=?`, key); err != nil {
		return err
	}
	plain, err := s.vault.Open(sealed)
	if err != nil {
		return err
	}
	if err := unpack(plain, into); err != nil {
		return err
	}
	return s.exec(ctx, `UPDATE rendered SET used=? WHERE key=? AND used<?`, ms(time.Now()), key, ms(time.Now().Add(-time.Hour)))
}

// tidyRendered drops what nobody has asked for in a while, and all but the newest.
func (s *Store) tidyRendered(ctx context.Context, now time.Time) error {
	_, err := s.change(ctx, `DELETE FROM rendered WHERE used<? OR key NOT IN (SELECT key FROM rendered ORDER BY used DESC LIMIT 5000)`, ms(now.Add(-30*24*time.Hour)))
	return err
}
