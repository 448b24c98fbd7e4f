package repo

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/proposal"
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
	Mark    string // a line of Body: a branch whose newest commit has it is this one's, pushed before
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
	return m.push(ctx, made{tree, base.ID, c.Subject, c.Body, c.Mark}, c.Branch)
}

// made is a commit to be: its tree, its parent ("" for a first one) and its message.
type made struct{ tree, parent, subject, body, mark string }

// byVigila is who makes the commits.
var byVigila = []string{"GIT_AUTHOR_NAME=Vigila", "GIT_AUTHOR_EMAIL=vigila@localhost", "GIT_COMMITTER_NAME=Vigila", "GIT_COMMITTER_EMAIL=vigila@localhost"}

// commitTree makes a commit of a tree, by Vigila.
func (m *Mirror) commitTree(ctx context.Context, tree, subject, body string, parents ...string) (string, error) {
	args := []string{"commit-tree", tree}
	for _, parent := range parents {
		args = append(args, "-p", parent)
	}
	out, err := m.run(ctx, byVigila, []byte(subject+"\n\n"+body), args...)
	if err != nil {
		return "", err
	}
	return m.signed(ctx, strings.TrimSpace(string(out)))
}

// push makes a commit and pushes it to a branch that is not there yet.
func (m *Mirror) push(ctx context.Context, c made, branch string) (Revision, error) {
	var parents []string
	if c.parent != "" {
		parents = append(parents, c.parent)
	}
	id, err := m.commitTree(ctx, c.tree, c.subject, c.body, parents...)
	if err != nil {
		return Revision{}, err
	}
	m.mu.Lock()
	_, err = m.git(ctx, "push", "--quiet", "--force-with-lease=refs/heads/"+branch+":", "--", m.source.URL, id+":refs/heads/"+branch) // only if it is not there yet
	if err == nil {                                                                                                                   // known here at once; a fetch that began before would not let it be in between
		_, _ = m.git(ctx, "update-ref", "refs/heads/"+branch, id)
	}
	m.mu.Unlock()
	if err != nil {
		if there, same := m.proposed(ctx, branch, c); same {
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
func (m *Mirror) proposed(ctx context.Context, branch string, c made) (Revision, bool) {
	if err := m.Fetch(ctx); err != nil {
		return Revision{}, false
	}
	id, kind, data, err := m.read("refs/heads/" + branch)
	if err != nil || kind != "commit" {
		return Revision{}, false
	}
	text := string(data)
	same := strings.HasPrefix(text, "tree "+c.tree+"\n") && strings.Contains(text, "\nparent "+c.parent+"\n")
	return parseCommit(id, data), same || c.mark != "" && strings.Contains(text, "\n"+c.mark+"\n")
}

// treeWith makes the tree of a commit with what lies at a path as it is in another.
func (m *Mirror) treeWith(ctx context.Context, base, at, dir string) (string, error) {
	if dir = strings.Trim(path.Clean("/"+dir), "/"); dir == "" {
		return m.Tree(at, "")
	}
	was, err := m.leafAt(at, dir)
	if err != nil {
		return "", err
	}
	if was.ID == "" {
		return "", fmt.Errorf("%s had no files below %q at %.7s", m.Name(), dir, at)
	}
	now, err := m.Tree(base, "")
	if err != nil {
		return "", err
	}
	return m.withChanges(ctx, now, map[string]proposal.Leaf{dir: was})
}

// Files is a commit to make: files with new contents on top of Base, and nothing else changed.
type Files struct {
	Base    string
	Branch  string
	Subject string
	Body    string
	Mark    string // as of Change
	Files   []File
	Leaves  map[string]proposal.Leaf // as of Draft
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
	tree, err := m.treeOf(ctx, from, c.Files, c.Leaves)
	if err != nil {
		return Revision{}, err
	}
	if !first {
		if now, err := m.Tree(base.ID, ""); err != nil || now == tree {
			return Revision{}, errors.Join(err, fmt.Errorf("%s: %w", c.Base, ErrSame))
		}
	}
	return m.push(ctx, made{tree, base.ID, c.Subject, c.Body, c.Mark}, c.Branch)
}

// With makes a commit on top of another that is pushed nowhere: to see what it would come to. The base itself when it would change nothing.
func (m *Mirror) With(ctx context.Context, base string, d Draft) (string, error) {
	tree, err := m.treeOf(ctx, base, d.Files, d.Leaves)
	if err != nil {
		return "", err
	}
	if now, err := m.Tree(base, ""); err != nil || now == tree {
		return base, err
	}
	return m.commitTree(ctx, tree, d.Subject, d.Body, base)
}

// treeOf makes the tree of a commit with some files over it; base is "" for files alone.
func (m *Mirror) treeOf(ctx context.Context, base string, files []File, leaves map[string]proposal.Leaf) (string, error) {
	now := ""
	if base != "" {
		var err error
		if now, err = m.Tree(base, ""); err != nil {
			return "", err
		}
	}
	write := map[string]proposal.Leaf{}
	for at, leaf := range leaves {
		if !isPath(at) {
			return "", notAPath(at)
		}
		write[at] = leaf
	}
	for _, f := range files {
		if !isPath(f.Path) {
			return "", notAPath(f.Path)
		}
		id, err := m.run(ctx, nil, f.Data, "hash-object", "-w", "--stdin")
		if err != nil {
			return "", err
		}
		mode := "100644"
		if was, err := m.modeAt(base, f.Path); err != nil {
			return "", err
		} else if was == "100755" { // a script stays one
			mode = was
		}
		write[f.Path] = proposal.Leaf{Mode: mode, ID: strings.TrimSpace(string(id))}
	}
	return m.withChanges(ctx, now, write)
}

func (m *Mirror) modeAt(base, p string) (string, error) {
	if base == "" {
		return "", nil
	}
	leaf, err := m.leafAt(base, p)
	return leaf.Mode, err
}

// isPath tells whether a text can be the path of a file in a tree.
func isPath(p string) bool {
	clean := strings.Trim(path.Clean("/"+p), "/")
	return clean == p && clean != "" && !isGits(clean) && !strings.ContainsAny(clean, "\x00\n")
}

func notAPath(p string) error { return fmt.Errorf("%q can't be the path of a file in a repository", p) }

// isGits tells whether a path leads into what git keeps for itself.
func isGits(p string) bool {
	return slices.ContainsFunc(strings.Split(p, "/"), func(part string) bool { return strings.EqualFold(part, ".git") })
}
