package repo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
)

// ErrSame tells that a proposal would change nothing.
var ErrSame = errors.New("there is nothing to change")

// Change is a commit to make: the files below Path as they were at the commit At, on top of Base.
type Change struct {
	Base    string // branch, tag or commit
	Branch  string // the new branch
	Path    string // "" for the whole tree
	At      string // commit
	Subject string
	Body    string
}

// Propose makes the commit of a change and pushes it to its branch; the branch it is meant for is not touched.
// Errors wrap ErrSame when the files are so already. A branch that holds something else is never overwritten; one
// that holds the same change is taken as it is.
func (m *Mirror) Propose(ctx context.Context, c Change) (Revision, error) {
	if _, err := m.git(ctx, "check-ref-format", "refs/heads/"+c.Branch); err != nil || strings.HasPrefix(c.Branch, "-") {
		return Revision{}, fmt.Errorf("%q can't be the name of a branch", c.Branch)
	}
	if c.Branch == c.Base {
		return Revision{}, fmt.Errorf("a proposal needs a branch of its own; %s is the one it is meant for", c.Branch)
	}
	base, err := m.Resolve(ctx, c.Base)
	if err != nil {
		return Revision{}, err
	}
	if _, kind, _, err := m.read(c.At + "^{commit}"); err != nil || kind != "commit" {
		return Revision{}, errors.Join(err, fmt.Errorf("%s has no commit %.7s any more; its files can't be taken from there", m.Name(), c.At))
	}
	tree, err := m.treeWith(ctx, base.ID, c.At, c.Path)
	if err != nil {
		return Revision{}, err
	}
	if now, err := m.Tree(base.ID, ""); err != nil || now == tree {
		return Revision{}, errors.Join(err, fmt.Errorf("%s: %w", c.Base, ErrSame))
	}
	return m.push(ctx, tree, base.ID, c.Branch, c.Subject, c.Body)
}

// commitTree makes a commit of a tree, by Vigila; parent is "" for a first one.
func (m *Mirror) commitTree(ctx context.Context, tree, parent, subject, body string) (string, error) {
	args := []string{"commit-tree", tree}
	if parent != "" {
		args = append(args, "-p", parent)
	}
	out, err := m.run(ctx, []string{"GIT_AUTHOR_NAME=Vigila", "GIT_AUTHOR_EMAIL=vigila@localhost", "GIT_COMMITTER_NAME=Vigila", "GIT_COMMITTER_EMAIL=vigila@localhost"},
		[]byte(subject+"\n\n"+body), args...)
	return strings.TrimSpace(string(out)), err
}

// push makes the commit of a tree and pushes it to a branch that is not there yet; parent is "" for a first commit.
func (m *Mirror) push(ctx context.Context, tree, parent, branch, subject, body string) (Revision, error) {
	id, err := m.commitTree(ctx, tree, parent, subject, body)
	if err != nil {
		return Revision{}, err
	}
	m.mu.Lock()
	_, err = m.git(ctx, "push", "--quiet", "--force-with-lease=refs/heads/"+branch+":", "--", m.source.URL, id+":refs/heads/"+branch) // only if it is not there yet
	m.mu.Unlock()
	if err != nil {
		if there, same := m.proposed(ctx, branch, tree, parent); same {
			return there, nil
		}
		if low := strings.ToLower(err.Error()); strings.Contains(low, "rejected") || strings.Contains(low, "failed to push") || strings.Contains(low, "stale info") {
			return Revision{}, fmt.Errorf("%s has a branch %s already that holds something else; choose another with --branch", m.Name(), branch)
		}
		return Revision{}, err
	}
	_, _, data, err := m.read(id)
	return parseCommit(id, data), err
}

// proposed finds a branch that holds a change already.
func (m *Mirror) proposed(ctx context.Context, branch, tree, parent string) (Revision, bool) {
	if err := m.Fetch(ctx); err != nil {
		return Revision{}, false
	}
	id, kind, data, err := m.read("refs/heads/" + branch)
	if err != nil || kind != "commit" {
		return Revision{}, false
	}
	text := string(data)
	return parseCommit(id, data), strings.HasPrefix(text, "tree "+tree+"\n") && strings.Contains(text, "\nparent "+parent+"\n")
}

// treeWith makes the tree of a commit with the files below a path as they are in another.
func (m *Mirror) treeWith(ctx context.Context, base, at, dir string) (string, error) {
	if dir == "" {
		return m.Tree(at, "")
	}
	tmp, err := os.MkdirTemp("", "vigila-index-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(tmp)
	env := []string{"GIT_INDEX_FILE=" + filepath.Join(tmp, "index")}
	if _, err := m.run(ctx, env, nil, "read-tree", base); err != nil {
		return "", err
	}
	old, err := m.git(ctx, "ls-tree", "-r", "-z", "--full-tree", base, "--", dir)
	if err != nil {
		return "", err
	}
	var rows bytes.Buffer
	for _, row := range strings.Split(string(old), "\x00") {
		if _, name, ok := strings.Cut(row, "\t"); ok {
			fmt.Fprintf(&rows, "0 %040d\t%s\x00", 0, name)
		}
	}
	now, err := m.git(ctx, "ls-tree", "-r", "-z", "--full-tree", at, "--", dir)
	if err != nil {
		return "", err
	}
	if len(now) == 0 {
		return "", fmt.Errorf("%s had no files below %q at %.7s", m.Name(), dir, at)
	}
	rows.Write(now)
	if _, err := m.run(ctx, env, rows.Bytes(), "update-index", "-z", "--index-info"); err != nil {
		return "", err
	}
	out, err := m.run(ctx, env, nil, "write-tree", "--missing-ok")
	return strings.TrimSpace(string(out)), err
}

// Files is a commit to make: files with new contents on top of Base, and nothing else changed.
type Files struct {
	Base    string
	Branch  string
	Subject string
	Body    string
	Author  string
	Files   []File
}

// ProposeFiles makes a commit with some files and pushes it to a branch of its own, as Propose does. In a repository
// without commits it is the first one.
func (m *Mirror) ProposeFiles(ctx context.Context, c Files) (Revision, error) {
	if _, err := m.git(ctx, "check-ref-format", "refs/heads/"+c.Branch); err != nil || strings.HasPrefix(c.Branch, "-") {
		return Revision{}, fmt.Errorf("%q can't be the name of a branch", c.Branch)
	}
	base, err := m.Resolve(ctx, c.Base)
	first := errors.Is(err, ErrEmpty)
	if err != nil && !first {
		return Revision{}, err
	}
	if c.Branch == c.Base && !first {
		return Revision{}, fmt.Errorf("a proposal needs a branch of its own; %s is the one it is meant for", c.Branch)
	}
	from := base.ID
	if first {
		from = ""
	}
	tree, err := m.treeOf(ctx, from, c.Files)
	if err != nil {
		return Revision{}, err
	}
	if !first {
		if now, err := m.Tree(base.ID, ""); err != nil || now == tree {
			return Revision{}, errors.Join(err, fmt.Errorf("%s: %w", c.Base, ErrSame))
		}
	}
	return m.push(ctx, tree, base.ID, c.Branch, c.Subject, c.Body)
}

// treeOf makes the tree of a commit with some files over it; base is "" for files alone.
func (m *Mirror) treeOf(ctx context.Context, base string, files []File) (string, error) {
	tmp, err := os.MkdirTemp("", "vigila-index-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(tmp)
	env := []string{"GIT_INDEX_FILE=" + filepath.Join(tmp, "index")}
	if base != "" {
		if _, err := m.run(ctx, env, nil, "read-tree", base); err != nil {
			return "", err
		}
	}
	var rows bytes.Buffer
	for _, f := range files {
		if clean := strings.Trim(path.Clean("/"+f.Path), "/"); clean != f.Path || clean == "" || strings.HasPrefix(clean, ".git/") || strings.ContainsAny(clean, "\x00\n") {
			return "", fmt.Errorf("%q can't be the path of a file in a repository", f.Path)
		}
		id, err := m.run(ctx, nil, f.Data, "hash-object", "-w", "--stdin")
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&rows, "100644 %s\t%s\x00", strings.TrimSpace(string(id)), f.Path)
	}
	if _, err := m.run(ctx, env, rows.Bytes(), "update-index", "--add", "-z", "--index-info"); err != nil {
		return "", err
	}
	out, err := m.run(ctx, env, nil, "write-tree", "--missing-ok")
	return strings.TrimSpace(string(out)), err
}
