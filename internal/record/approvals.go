package record

import (
	"context"
	"database/sql"
	"encoding/json"

	"vigila.dev/vigila/internal/core/proposal"
)

// PutApprovals says how many approvals of whom the proposals of a repository need; none when Count is 0.
func (s *Store) PutApprovals(ctx context.Context, repo string, w proposal.Wanted) error {
	if w.Count == 0 {
		return s.exec(ctx, `DELETE FROM approvals WHERE repo=?`, repo)
	}
	return s.exec(ctx, `INSERT INTO approvals (repo, wanted) VALUES (?,?) ON CONFLICT (repo) DO UPDATE SET wanted=excluded.wanted`, repo, toJSON(w))
}

// Approvals is what the proposals of each repository need, by its name.
func (s *Store) Approvals(ctx context.Context) (map[string]proposal.Wanted, error) {
	out := map[string]proposal.Wanted{}
	err := each(ctx, s, func(row *sql.Rows) error {
		var name, text string
		if err := row.Scan(&name, &text); err != nil {
			return err
		}
		var w proposal.Wanted
		err := json.Unmarshal([]byte(text), &w)
		out[name] = w
		return err
	}, `SELECT repo, wanted FROM approvals`)
	return out, err
}
