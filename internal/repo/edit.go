package repo

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
)

// Draft is what a commit is to change: files with new contents, and its message.
type Draft struct {
	Files   []File
	Subject string
	Body    string
}

// The bounds of trying again when somebody else has pushed meanwhile.
const (
	maxTries   = 40
	triesPause = 20 * time.Millisecond
)

// Commit makes a commit on a branch itself, and pushes it. make says what it changes, from the files as they are on the branch; when
// somebody else pushes first it is asked again, on top of that: nobody's commit is lost, and none is made twice. Errors wrap ErrSame
// when there is nothing to change.
func (m *Mirror) Commit(ctx context.Context, branch string, make func(at *Tree) (Draft, error)) (Revision, error) {
	if _, err := m.git(ctx, "check-ref-format", "refs/heads/"+branch); err != nil || strings.HasPrefix(branch, "-") {
		return Revision{}, fmt.Errorf("%q can't be the name of a branch", branch)
	}
	m.edits.Lock() // one at a time from here
	defer m.edits.Unlock()
	for try := 1; ; try++ {
		made, again, err := m.commitOnce(ctx, branch, make)
		if err == nil || !again {
			return made, err
		}
		if try == maxTries {
			return Revision{}, fmt.Errorf("%s: somebody else has pushed to %s %d times while this was tried: %w", m.Name(), branch, try, err)
		}
		select {
		case <-ctx.Done():
			return Revision{}, ctx.Err()
		case <-time.After(rand.N(triesPause * time.Duration(min(try, 10)))):
		}
	}
}

func (m *Mirror) commitOnce(ctx context.Context, branch string, make func(at *Tree) (Draft, error)) (made Revision, again bool, err error) {
	if err := m.Fetch(ctx); err != nil {
		return made, false, err
	}
	base, kind, _, err := m.read("refs/heads/" + branch + "^{commit}")
	if err != nil {
		return made, false, err
	}
	if kind != "commit" {
		return made, false, fmt.Errorf("%s has no branch %s", m.Name(), branch)
	}
	d, err := make(m.At(base))
	if err != nil {
		return made, false, err
	}
	tree, err := m.treeOf(ctx, base, d.Files)
	if err != nil {
		return made, false, err
	}
	if now, err := m.Tree(base, ""); err != nil || now == tree {
		return made, false, errors.Join(err, fmt.Errorf("%s: %w", branch, ErrSame))
	}
	id, err := m.commitTree(ctx, tree, base, d.Subject, d.Body)
	if err != nil {
		return made, false, err
	}
	if err := m.vouch(id, "refs/heads/"+branch); err != nil {
		return made, false, fmt.Errorf("%s takes commits that are signed alone, so that nothing is written to it: %w", m.Name(), err)
	}
	m.mu.Lock()
	_, err = m.git(ctx, "push", "--quiet", "--", m.source.URL, id+":refs/heads/"+branch) // refused when the branch has moved
	m.mu.Unlock()
	if err != nil {
		low := strings.ToLower(err.Error())
		moved := strings.Contains(low, "rejected") || strings.Contains(low, "fetch first") || strings.Contains(low, "fast-forward") || strings.Contains(low, "failed to push") || strings.Contains(low, "cannot lock ref") || strings.Contains(low, "failed to update ref")
		return made, moved && !strings.Contains(low, "hook declined") && !strings.Contains(low, "protected"), err
	}
	_, _ = m.git(ctx, "update-ref", "refs/heads/"+branch, id, base) // known here at once, unless a fetch has brought it by now
	_, _, data, err := m.read(id)
	return parseCommit(id, data), false, err
}
