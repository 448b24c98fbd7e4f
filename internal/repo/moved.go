package repo

import (
	"fmt"
	"path"
	"strings"
)

// Moved is which paths hold something else in one commit than in another.
type Moved struct {
	paths map[string]bool // directories and files that differ
	whole map[string]bool // those that are there in one of the two alone, with everything below them
	read  int             // directories
}

// Touches tells whether what lies at a path differs; "" is the root.
func (m *Moved) Touches(dir string) bool {
	if m.paths[dir] {
		return true
	}
	for at := dir; at != "." && at != ""; at = path.Dir(at) {
		if m.whole[at] {
			return true
		}
	}
	return false
}

// Moved compares the trees of two commits. It reads only the directories that differ, so it costs as much as the
// change, whatever the size of the repository. Of trees that differ endlessly it is an error.
func (m *Mirror) Moved(from, to string) (*Moved, error) {
	out := &Moved{paths: map[string]bool{}, whole: map[string]bool{}}
	a, err := m.treeAt(from + "^{tree}")
	if err != nil {
		return nil, err
	}
	b, err := m.treeAt(to + "^{tree}")
	if err != nil {
		return nil, err
	}
	return out, m.differ(a, b, "", out)
}

func (m *Mirror) treeAt(name string) ([]treeEntry, error) {
	_, kind, data, err := m.read(name)
	if err != nil {
		return nil, err
	}
	if kind != "tree" {
		return nil, fmt.Errorf("%s has no tree %s", m.Name(), name)
	}
	return parseTree(data)
}

func (m *Mirror) differ(a, b []treeEntry, dir string, out *Moved) error {
	if out.read++; out.read > maxDiffers {
		return fmt.Errorf("%s: the two differ in more than %d directories", m.Name(), maxDiffers)
	}
	old := make(map[string]treeEntry, len(a))
	for _, e := range a {
		old[e.name] = e
	}
	note := func(name string, whole bool) {
		p := path.Join(dir, name)
		if out.paths[p] = true; whole {
			out.whole[p] = true
		}
		out.paths[dir] = true
	}
	for _, e := range b {
		was, had := old[e.name]
		delete(old, e.name)
		switch {
		case had && was.id == e.id && was.mode == e.mode:
		case had && was.mode == modeDir && e.mode == modeDir:
			note(e.name, false)
			x, err := m.treeAt(was.id)
			if err != nil {
				return err
			}
			y, err := m.treeAt(e.id)
			if err != nil {
				return err
			}
			if err := m.differ(x, y, path.Join(dir, e.name), out); err != nil {
				return err
			}
		default:
			note(e.name, true)
		}
	}
	for name := range old {
		note(name, true)
	}
	return nil
}

// changedBy tells whether a commit itself changed a path: it has one parent, and another tree there.
func (m *Mirror) changedBy(commit, dir string) (bool, error) {
	_, kind, data, err := m.read(commit)
	if err != nil || kind != "commit" {
		return false, err
	}
	head, _, _ := strings.Cut(string(data), "\n\n")
	var parents []string
	for _, row := range strings.Split(head, "\n") {
		if id, ok := strings.CutPrefix(row, "parent "); ok {
			parents = append(parents, id)
		}
	}
	if len(parents) > 1 {
		return false, nil
	}
	if len(parents) == 0 { // the first commit made everything that it holds
		_, kind, err := m.find(commit, dir)
		return kind != "missing", err
	}
	now, _, err := m.find(commit, dir)
	if err != nil {
		return false, err
	}
	before, _, err := m.find(parents[0], dir)
	return now != before, err
}
