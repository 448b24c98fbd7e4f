package repo

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/proposal"
)

// Draft is what a commit is to change: files with new contents, files as the repository has them elsewhere, and its message.
type Draft struct {
	Files   []File
	Leaves  map[string]proposal.Leaf // by path; the zero Leaf takes a file away
	Subject string
	Body    string
}

// The bounds of trying again when somebody else has pushed meanwhile.
const (
	landFor    = 2 * time.Minute // as long as others move the branch again and again
	maxSame    = 10              // tries that are refused though nobody has moved it
	triesPause = 20 * time.Millisecond
)

// Commit makes a commit on a branch itself, and pushes it. make says what it changes, from the files as they are on the branch; when
// somebody else pushes first it is asked again, on top of that: nobody's commit is lost, and none is made twice. Errors wrap ErrSame
// when there is nothing to change.
func (m *Mirror) Commit(ctx context.Context, branch string, make func(at *Tree) (Draft, error)) (Revision, error) {
	return m.land(ctx, branch, func(base string) (string, error) {
		d, err := make(m.At(base))
		if err != nil {
			return "", err
		}
		tree, err := m.treeOf(ctx, base, d.Files, d.Leaves)
		if err != nil {
			return "", err
		}
		if now, err := m.Tree(base, ""); err != nil || now == tree {
			return "", errors.Join(err, fmt.Errorf("%s: %w", branch, ErrSame))
		}
		return m.commitTree(ctx, tree, d.Subject, d.Body, base)
	})
}

// land puts a commit on a branch itself: on makes it, on top of what the branch is at. When somebody else pushes first it is asked again.
func (m *Mirror) land(ctx context.Context, branch string, on func(base string) (id string, err error)) (Revision, error) {
	if _, err := m.git(ctx, "check-ref-format", "refs/heads/"+branch); err != nil || strings.HasPrefix(branch, "-") {
		return Revision{}, fmt.Errorf("%q can't be the name of a branch", branch)
	}
	m.edits.Lock() // one at a time from here
	defer m.edits.Unlock()
	last, same := "", 0
	for try, began := 1, time.Now(); ; try++ {
		landed, base, err := m.landOnce(ctx, branch, on)
		if err == nil || base == "" {
			return landed, err
		}
		if base != last {
			last, same = base, 0
		}
		switch same++; {
		case same > maxSame:
			return Revision{}, fmt.Errorf("%s does not take a push to %s, and nobody else has pushed to it: %w", m.Name(), branch, err)
		case time.Since(began) > landFor:
			return Revision{}, fmt.Errorf("%s: somebody else has pushed to %s again and again, %d times while this was tried: %w", m.Name(), branch, try, err)
		}
		select {
		case <-ctx.Done():
			return Revision{}, ctx.Err()
		case <-time.After(rand.N(triesPause * time.Duration(min(try, 10)))):
		}
	}
}

// landOnce tries once; when it may be tried again, base is what the branch was at.
func (m *Mirror) landOnce(ctx context.Context, branch string, on func(base string) (string, error)) (landed Revision, base string, err error) {
	if err := m.Fetch(ctx); err != nil {
		return landed, "", err
	}
	at, kind, _, err := m.read("refs/heads/" + branch + "^{commit}")
	if err != nil {
		return landed, "", err
	}
	if kind != "commit" {
		return landed, "", fmt.Errorf("%s has no branch %s", m.Name(), branch)
	}
	id, err := on(at)
	if err != nil {
		return landed, "", err
	}
	if err := m.vouch(id, "refs/heads/"+branch); err != nil {
		return landed, "", fmt.Errorf("%s takes commits that are signed alone, so that nothing is written to it: %w", m.Name(), err)
	}
	m.mu.Lock()
	_, err = m.git(ctx, "push", "--quiet", "--", m.source.URL, id+":refs/heads/"+branch) // refused when the branch has moved
	if err == nil {                                                                      // known here at once
		_, _ = m.git(ctx, "update-ref", "refs/heads/"+branch, id, at)
	}
	m.mu.Unlock()
	if err != nil {
		low := strings.ToLower(err.Error())
		moved := strings.Contains(low, "rejected") || strings.Contains(low, "fetch first") || strings.Contains(low, "fast-forward") || strings.Contains(low, "failed to push") || strings.Contains(low, "cannot lock ref") || strings.Contains(low, "failed to update ref")
		if moved && !strings.Contains(low, "hook declined") && !strings.Contains(low, "protected") {
			base = at
		}
		return landed, base, err
	}
	_, _, data, err := m.read(id)
	return parseCommit(id, data), "", err
}
