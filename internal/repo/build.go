package repo

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/proposal"
)

// notDirError tells that a file lies where a directory would have to be.
type notDirError struct{ path string }

func (e *notDirError) Error() string {
	return fmt.Sprintf("%q is a file, so nothing can lie below it", e.path)
}

// withChanges is a tree with other things at some paths: files, or whole directories; a zero Leaf takes away what is there. tree is ""
// for these alone. Only the directories on the way are read and written, so it costs as much as the change, whatever lies beside it.
// Errors are a *notDirError where a file is in the way.
func (m *Mirror) withChanges(ctx context.Context, tree string, at map[string]proposal.Leaf) (string, error) {
	id, err := m.rebuilt(ctx, tree, "", at)
	if err == nil && id == "" {
		id, err = m.mktree(ctx, nil) // git's empty tree
	}
	return id, err
}

// rebuilt is withChanges below a directory; "" when nothing is left in it.
func (m *Mirror) rebuilt(ctx context.Context, tree, dir string, at map[string]proposal.Leaf) (string, error) {
	var entries []treeEntry
	if tree != "" {
		_, kind, data, err := m.read(tree)
		if err != nil {
			return "", err
		}
		if kind != "tree" {
			return "", fmt.Errorf("%s has no tree %s", m.Name(), short(tree))
		}
		if entries, err = parseTree(data); err != nil {
			return "", err
		}
	}
	here, below := map[string]proposal.Leaf{}, map[string]map[string]proposal.Leaf{}
	for p, l := range at {
		name, rest, deeper := strings.Cut(p, "/")
		if !deeper {
			here[name] = l
			continue
		}
		if below[name] == nil {
			below[name] = map[string]proposal.Leaf{}
		}
		below[name][rest] = l
	}
	for name, l := range here {
		entries = slices.DeleteFunc(entries, func(e treeEntry) bool { return e.name == name })
		if l.ID != "" {
			entries = append(entries, treeEntry{l.Mode, name, l.ID})
		}
	}
	for name, deeper := range below {
		i := slices.IndexFunc(entries, func(e treeEntry) bool { return e.name == name })
		old := ""
		switch {
		case i >= 0 && entries[i].mode != modeDir:
			return "", &notDirError{strings.TrimPrefix(dir+"/"+name, "/")}
		case i >= 0:
			old = entries[i].id
			entries = slices.Delete(entries, i, i+1)
		}
		id, err := m.rebuilt(ctx, old, dir+"/"+name, deeper)
		if err != nil {
			return "", err
		}
		if id != "" {
			entries = append(entries, treeEntry{modeDir, name, id})
		}
	}
	if len(entries) == 0 {
		return "", nil
	}
	return m.mktree(ctx, entries)
}

// mktree writes a directory.
func (m *Mirror) mktree(ctx context.Context, entries []treeEntry) (string, error) {
	var rows bytes.Buffer
	for _, e := range entries {
		kind := "blob"
		switch e.mode {
		case modeDir:
			kind = "tree"
		case modeSubmodule:
			kind = "commit"
		}
		fmt.Fprintf(&rows, "%06s %s %s\t%s\x00", e.mode, kind, e.id, e.name)
	}
	out, err := m.run(ctx, nil, rows.Bytes(), "mktree", "-z", "--missing")
	return strings.TrimSpace(string(out)), err
}

// The most that is looked through to tell what two commits have differently: a tree may hold itself a thousand times over, and be endless
// for all purposes.
const (
	maxDiffers = 20_000 // files
	maxDeep    = 100    // directories within each other
)

// Differs lists the files that two commits have differently, by path. It reads only the directories that differ.
func (m *Mirror) Differs(from, to string) (out []proposal.Change, err error) {
	a, err := m.treeAt(from + "^{tree}")
	if err != nil {
		return nil, err
	}
	b, err := m.treeAt(to + "^{tree}")
	if err != nil {
		return nil, err
	}
	d := &differences{m: m}
	if err := d.dirs("", a, b, 0); err != nil {
		return nil, fmt.Errorf("%s: %s and %s: %w", m.Name(), short(from), short(to), err)
	}
	slices.SortFunc(d.out, func(x, y proposal.Change) int { return strings.Compare(x.Path, y.Path) })
	return d.out, nil
}

type differences struct {
	m    *Mirror
	out  []proposal.Change
	read int // directories
}

func (d *differences) dirs(dir string, a, b []treeEntry, deep int) error {
	if d.read++; d.read > maxDiffers {
		return fmt.Errorf("they differ in more than %d directories", maxDiffers)
	}
	if deep > maxDeep {
		return fmt.Errorf("they differ in more than %d directories within each other", maxDeep)
	}
	old := make(map[string]treeEntry, len(a))
	for _, e := range a {
		old[e.name] = e
	}
	for _, e := range b {
		was := old[e.name]
		delete(old, e.name)
		if was.id == e.id && was.mode == e.mode {
			continue
		}
		if err := d.one(dir+e.name, was, e, deep); err != nil {
			return err
		}
	}
	for _, was := range old {
		if err := d.one(dir+was.name, was, treeEntry{}, deep); err != nil {
			return err
		}
	}
	return nil
}

// one is what lies at one path on both sides, where it is not the same.
func (d *differences) one(path string, was, now treeEntry, deep int) error {
	var a, b []treeEntry
	var err error
	if was.mode == modeDir {
		if a, err = d.m.treeAt(was.id); err != nil {
			return err
		}
	}
	if now.mode == modeDir {
		if b, err = d.m.treeAt(now.id); err != nil {
			return err
		}
	}
	if c := (proposal.Change{Path: path, Old: leafOf(was), New: leafOf(now)}); c.Old != c.New {
		if d.out = append(d.out, c); len(d.out) > maxDiffers {
			return fmt.Errorf("they have more than %d files differently", maxDiffers)
		}
	}
	if a == nil && b == nil {
		return nil
	}
	return d.dirs(path+"/", a, b, deep+1)
}

// leafOf is a file of a tree; nothing for a directory.
func leafOf(e treeEntry) proposal.Leaf {
	if e.mode == "" || e.mode == modeDir {
		return proposal.Leaf{}
	}
	return proposal.Leaf{Mode: e.mode, ID: e.id}
}
