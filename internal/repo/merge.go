package repo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/proposal"
)

// Branch is a branch as the mirror knows it: its commit, "" when there is none.
func (m *Mirror) Branch(name string) (string, error) {
	if name == "" || strings.ContainsAny(name, "\n\x00^~: ") {
		return "", fmt.Errorf("%q can't be the name of a branch", name)
	}
	id, kind, _, err := m.read("refs/heads/" + name + "^{commit}")
	if err != nil || kind != "commit" {
		return "", err
	}
	return id, nil
}

// Says is what a commit says of itself, whoever has signed it or not.
func (m *Mirror) Says(id string) (Revision, error) {
	id, kind, data, err := m.read(id + "^{commit}")
	if err != nil || kind != "commit" {
		return Revision{}, errors.Join(err, fmt.Errorf("%s has no commit %s", m.Name(), short(id)))
	}
	return parseCommit(id, data), nil
}

// leafAt is the file that a commit has at a path; of a directory its own, so that it is no file's.
func (m *Mirror) leafAt(commit, p string) (proposal.Leaf, error) {
	dir := path.Dir(p)
	if dir == "." {
		dir = ""
	}
	data, err := m.directory(commit, dir)
	if err != nil || data == nil {
		return proposal.Leaf{}, err
	}
	mode, id, err := lookUp(data, path.Base(p))
	if err != nil || mode == "" {
		return proposal.Leaf{}, err
	}
	return proposal.Leaf{Mode: mode, ID: id}, nil
}

// Together is what a base would hold with the changes of a branch.
type Together struct {
	Tree      string   // "" where they don't go together
	Same      bool     // as the base is now
	Fork      string   // the newest commit that both have
	Conflicts []string // files that both have changed, each in its own way
}

// here keeps git from asking the server for what is not here: it was fetched, or it is not there.
var here = []string{"GIT_NO_LAZY_FETCH=1"}

// ErrNoFork tells that two branches have no commit in common, as far as the mirror goes back.
var ErrNoFork = errors.New("have no commit in common")

// Together lays what a commit has changed since it left a base over what the base is now. Nothing is pushed.
func (m *Mirror) Together(ctx context.Context, base, head string) (out Together, err error) {
	forked, err := m.run(ctx, here, nil, "merge-base", base, head)
	if err != nil {
		if strings.HasSuffix(err.Error(), "exit status 1") { // git's way to say that there is none
			return out, fmt.Errorf("%s and %s %w", short(base), short(head), ErrNoFork)
		}
		return out, err
	}
	out.Fork = strings.TrimSpace(string(forked))
	if out.Fork == base { // the base has not moved
		if out.Tree, err = m.Tree(head, ""); err != nil {
			return out, err
		}
		now, err := m.Tree(base, "")
		out.Same = now == out.Tree
		return out, err
	}
	changes, err := m.Differs(out.Fork, head)
	if err != nil {
		return out, err
	}
	laid, err := proposal.Lay(changes, func(p string) (proposal.Leaf, error) { return m.leafAt(base, p) })
	if err != nil {
		return out, err
	}
	write := map[string]proposal.Leaf{}
	for _, c := range laid.Write {
		write[c.Path] = c.New
	}
	for _, c := range laid.Both {
		now, err := m.leafAt(base, c.Path)
		if err != nil {
			return out, err
		}
		id := ""
		if c.Text(now) {
			if id, err = m.lines(ctx, now.ID, c.Old.ID, c.New.ID); err != nil {
				return out, err
			}
		}
		if id == "" {
			out.Conflicts = append(out.Conflicts, c.Path)
			continue
		}
		write[c.Path] = proposal.Leaf{Mode: now.Mode, ID: id}
	}
	if len(out.Conflicts) > 0 {
		return out, nil
	}
	now, err := m.Tree(base, "")
	if err != nil {
		return out, err
	}
	var inTheWay *notDirError
	if out.Tree, err = m.withChanges(ctx, now, write); errors.As(err, &inTheWay) {
		out.Conflicts = []string{inTheWay.path}
		return out, nil
	}
	out.Same = now == out.Tree
	return out, err
}

// lines lays the lines of two sides of a file together: the hash of what comes of it; "" when they contradict each other.
func (m *Mirror) lines(ctx context.Context, ours, before, theirs string) (string, error) {
	if err := m.bring([]string{ours, before, theirs}); err != nil {
		return "", err
	}
	tmp, err := os.MkdirTemp("", "vigila-lines-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(tmp)
	args := []string{"merge-file", "--stdout", "--quiet"}
	for i, id := range []string{ours, before, theirs} {
		_, kind, data, err := m.read(id)
		if err != nil || kind != "blob" {
			return "", errors.Join(err, fmt.Errorf("%s has no file %s", m.Name(), short(id)))
		}
		name := filepath.Join(tmp, fmt.Sprint(i))
		if err := os.WriteFile(name, data, 0o600); err != nil {
			return "", err
		}
		args = append(args, name)
	}
	c := exec.CommandContext(ctx, "git", args...)
	c.Dir, c.Env = tmp, gitEnv(Source{})
	text, err := c.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) { // so many contradictions, or no lines at all
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("git merge-file: %w", err)
	}
	id, err := m.run(ctx, nil, text, "hash-object", "-w", "--stdin")
	return strings.TrimSpace(string(id)), err
}

// Would makes the commit that a tree would be on top of a base, and keeps it to itself: what it holds can be read, and it is never pushed.
// The same is the same commit.
func (m *Mirror) Would(ctx context.Context, tree, base string) (string, error) {
	on, err := m.Says(base)
	if err != nil {
		return "", err
	}
	date := "@" + fmt.Sprint(on.At.Unix()) + " +0000"
	out, err := m.run(ctx, append([]string{"GIT_AUTHOR_DATE=" + date, "GIT_COMMITTER_DATE=" + date}, byVigila...), []byte("Tried, not pushed\n"), "commit-tree", tree, "-p", base)
	return strings.TrimSpace(string(out)), err
}

// Merging is a branch that is to become part of its base.
type Merging struct {
	Base, Branch string
	Head         string // the commit of the branch that was reviewed
	Own          bool   // it is one commit, of Vigila: it is put on top of a base that has moved, where there would be a merge otherwise
	Subject      string // of a merge
	Body         string // of it: lines about who wanted it
}

// ConflictError tells that a branch and its base don't go together.
type ConflictError struct {
	Base, Branch string
	Files        []string
}

func (e *ConflictError) Error() string {
	return fmt.Sprintf("%s and %s have both changed %s, each in its own way", e.Base, e.Branch, few(e.Files))
}

// Merge makes a branch part of its base and pushes that; the branch is deleted. A base that has not moved is moved forward to it; else its
// commit is made again on top, or merged. When somebody else pushes to the base first it is tried again on top of that. Errors are a
// *ConflictError where they don't go together, and wrap ErrSame where the base says the same by now.
func (m *Mirror) Merge(ctx context.Context, g Merging) (Revision, error) {
	out, err := m.land(ctx, g.Base, func(base string) (string, error) {
		if head, err := m.Branch(g.Branch); err != nil || head != g.Head {
			return "", errors.Join(err, fmt.Errorf("branch %s was changed since %s; look at it again", g.Branch, short(g.Head)))
		}
		t, err := m.Together(ctx, base, g.Head)
		switch {
		case err != nil:
			return "", err
		case len(t.Conflicts) > 0:
			return "", &ConflictError{g.Base, g.Branch, t.Conflicts}
		case t.Same:
			return "", fmt.Errorf("%s: %w", g.Base, ErrSame)
		case t.Fork == base:
			return g.Head, nil
		case g.Own:
			_, _, data, err := m.read(g.Head)
			if err != nil {
				return "", err
			}
			_, message, _ := strings.Cut(string(data), "\n\n")
			subject, body, _ := strings.Cut(message, "\n")
			return m.commitTree(ctx, t.Tree, subject, strings.TrimLeft(body, "\n"), base)
		}
		return m.commitTree(ctx, t.Tree, g.Subject, g.Body, base, g.Head)
	})
	if err == nil {
		m.Drop(ctx, g.Branch, g.Head)
	}
	return out, err
}

// dropTimeout is how long the server may take to delete a branch.
const dropTimeout = 30 * time.Second

// Drop deletes a branch while it is still at a commit. That it is left behind does no harm, so it is only tried.
func (m *Mirror) Drop(ctx context.Context, branch, at string) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), dropTimeout)
	defer cancel()
	m.mu.Lock()
	_, err := m.git(ctx, "push", "--quiet", "--force-with-lease=refs/heads/"+branch+":"+at, "--", m.source.URL, ":refs/heads/"+branch)
	if err == nil {
		_, _ = m.git(ctx, "update-ref", "-d", "refs/heads/"+branch, at)
	}
	m.mu.Unlock()
}

// Patch is what two commits have differently in a file, as lines in git's own format.
func (m *Mirror) Patch(ctx context.Context, from, to, file string) (string, error) {
	for _, commit := range []string{from, to} {
		l, err := m.leafAt(commit, file)
		if err != nil {
			return "", err
		}
		if l.ID == "" || l.Mode == modeDir || l.Mode == modeSubmodule {
			continue
		}
		if err := m.bring([]string{l.ID}); err != nil {
			return "", err
		}
	}
	out, err := m.run(ctx, here, nil, "--literal-pathspecs", "diff", "--no-color", "--no-ext-diff", "--no-textconv", "--no-renames", from, to, "--", file)
	return string(out), err
}

// Renewed is what a base would hold with some files as they come to now, where people may have changed what they came to before: what was
// changed by hand stays, and what both have changed in the same place is a conflict. Files that are not there any more are taken away.
func (m *Mirror) Renewed(ctx context.Context, base string, before, after []File) (Together, error) {
	fork, err := m.With(ctx, base, Draft{Files: before, Subject: "As it was made"})
	if err != nil {
		return Together{}, err
	}
	gone := map[string]proposal.Leaf{}
	for _, f := range before {
		gone[f.Path] = proposal.Leaf{}
	}
	for _, f := range after {
		delete(gone, f.Path)
	}
	head, err := m.With(ctx, fork, Draft{Files: after, Leaves: gone, Subject: "As it is made now"})
	if err != nil {
		return Together{}, err
	}
	if fork == base {
		return m.Together(ctx, base, head)
	}
	tree, err := m.Tree(base, "")
	if err != nil {
		return Together{}, err
	}
	ours, err := m.commitTree(ctx, tree, "As it is", "", fork)
	if err != nil {
		return Together{}, err
	}
	if head == fork { // it is made as it was
		return Together{Tree: tree, Same: true, Fork: fork}, nil
	}
	return m.Together(ctx, ours, head)
}
