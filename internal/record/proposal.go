package record

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"vigila.dev/vigila/internal/core/proposal"
)

// live are the standings that are no end.
const live = `standing IN ('opening', 'open', 'stale')`

// AddProposal writes a proposal down with what is to be pushed for it, which may hold anything that a repository does; the answer is its
// number.
func (s *Store) AddProposal(ctx context.Context, p proposal.Proposal, draft []byte) (int, error) {
	sealed, err := s.vault.Seal(draft)
	if err != nil {
		return 0, err
	}
	r, err := s.change(ctx, `INSERT INTO proposals (repo, base, branch, origin, wish, standing, more, draft) VALUES (?,?,?,?,?,?,?,?)`,
		p.Repo, p.Base, p.Branch, toJSON(p.Origin), p.Origin.Key(), p.Standing, toJSON(p.More), sealed)
	if err != nil {
		return 0, err
	}
	n, err := r.LastInsertId()
	return int(n), err
}

// PutProposal writes down how a proposal is by now. What was to be pushed for it is forgotten once it is.
func (s *Store) PutProposal(ctx context.Context, p proposal.Proposal) error {
	_, err := s.change(ctx, `UPDATE proposals SET standing=?1, more=?2, branch=?3, draft=CASE WHEN ?1='opening' THEN draft END WHERE number=?4`, p.Standing, toJSON(p.More), p.Branch, p.Number)
	return err
}

// DropProposal forgets a proposal that never came to be.
func (s *Store) DropProposal(ctx context.Context, number int) error {
	_, err := s.change(ctx, `DELETE FROM proposals WHERE number=?`, number)
	return err
}

// Draft is what is to be pushed for a proposal; nil once it was.
func (s *Store) Draft(ctx context.Context, number int) ([]byte, error) {
	var sealed []byte
	err := s.row(ctx, []any{&sealed}, `SELECT draft FROM proposals WHERE number=?`, number)
	if err != nil || sealed == nil {
		return nil, err
	}
	return s.vault.Open(sealed)
}

// FindProposals is what to list.
type FindProposals struct {
	Number int    // 0: all
	Repo   string // all when empty
	Live   bool   // that have not ended
	// Seen are those that somebody sees: that they asked for, of repositories and of lanes; all when nil.
	Seen   *SeenProposals
	Search string // words that must all occur
	Limit  int    // 0: all
	Offset int
}

// SeenProposals are the proposals that somebody sees who does not see all.
type SeenProposals struct {
	By           string // who asked for them,
	Repos, Lanes []string
}

// Proposals lists proposals, those that have not ended first, and then the newest; and how many there are on all pages.
func (s *Store) Proposals(ctx context.Context, f FindProposals) ([]proposal.Proposal, int, error) {
	where, args := []string{"1"}, []any{}
	if f.Number > 0 {
		where, args = append(where, "number=?"), append(args, f.Number)
	}
	if f.Repo != "" {
		where, args = append(where, "repo=?"), append(args, f.Repo)
	}
	if f.Seen != nil {
		where = append(where, "(json_extract(more, '$.by')=? OR repo IN (SELECT value FROM json_each(?)) OR json_extract(origin, '$.kind')='lane' AND substr(json_extract(origin, '$.of'), 1, instr(json_extract(origin, '$.of'), ' ')-1) IN (SELECT value FROM json_each(?)))")
		args = append(args, f.Seen.By, toJSON(f.Seen.Repos), toJSON(f.Seen.Lanes))
	}
	if f.Live {
		where = append(where, live)
	}
	for _, word := range strings.Fields(f.Search) {
		where = append(where, `instr(lower(repo||' '||base||' '||branch||' '||wish||' '||standing||' '||json_extract(more, '$.title')||' '||json_extract(more, '$.by')||' #'||number), lower(?)) > 0`)
		args = append(args, word)
	}
	cond := strings.Join(where, " AND ")
	var total int
	if err := s.db.QueryRowContext(ctx, `SELECT count(*) FROM proposals WHERE `+cond, args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	if f.Limit == 0 {
		f.Limit = -1
	}
	var out []proposal.Proposal
	err := each(ctx, once{s.db}, func(row *sql.Rows) error {
		var p proposal.Proposal
		var origin, more string
		if err := row.Scan(&p.Number, &p.Repo, &p.Base, &p.Branch, &origin, &p.Standing, &more); err != nil {
			return err
		}
		out = append(out, p)
		return errors.Join(json.Unmarshal([]byte(origin), &out[len(out)-1].Origin), json.Unmarshal([]byte(more), &out[len(out)-1].More))
	}, `SELECT number, repo, base, branch, origin, standing, more FROM proposals WHERE `+cond+` ORDER BY `+live+` DESC, number DESC LIMIT ? OFFSET ?`, append(args, f.Limit, f.Offset)...)
	return out, total, err
}

// Proposal is a proposal by its number; ErrNone when there is no such one.
func (s *Store) Proposal(ctx context.Context, number int) (proposal.Proposal, error) {
	all, _, err := s.Proposals(ctx, FindProposals{Number: number})
	if err == nil && (len(all) == 0 || number <= 0) {
		err = fmt.Errorf("there is no proposal %d: %w", number, ErrNone)
	}
	if err != nil {
		return proposal.Proposal{}, err
	}
	return all[0], nil
}
