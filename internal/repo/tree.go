package repo

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/proposal"
)

// Entry is one name in a directory of a tree.
type Entry struct {
	Name string
	Dir  bool
}

// Tree is what a repository holds at one commit. Paths are below its root; "" is the root.
type Tree struct {
	m      *Mirror
	Commit string
	may    func(repo string) error
}

// At is the tree of a commit. Nothing is read yet.
func (m *Mirror) At(commit string) *Tree { return &Tree{m: m, Commit: commit} }

// Local reads the objects of a repository on this machine as a mirror, to look at commits of it; it is never fetched into or written to. dir is its
// git directory.
func Local(dir, name string) *Mirror { return &Mirror{dir: dir, source: Source{Name: name}} }

// Within is the tree without the submodules that are of repositories which may not be read: may tells why.
func (t *Tree) Within(may func(repo string) error) *Tree {
	return &Tree{m: t.m, Commit: t.Commit, may: may}
}

// Name is the repository's name.
func (t *Tree) Name() string { return t.m.Name() }

// Hash is git's hash of what lies at a path: the same hash means the same contents. "" when nothing is there.
func (t *Tree) Hash(p string) (string, error) {
	id, kind, err := t.m.find(t.Commit, p)
	if err != nil || kind == "missing" {
		return "", err
	}
	return id, nil
}

// Read reads one file. Errors wrap ErrNoPath when there is none.
func (t *Tree) Read(p string) ([]byte, error) {
	files, err := t.Files(p, func(string) bool { return false })
	if err != nil {
		return nil, err
	}
	if len(files) != 1 || files[0].Path != p {
		return nil, fmt.Errorf("%s: %s is a directory, not a file: %w", t.Name(), p, ErrNoPath)
	}
	return files[0].Data, nil
}

// List lists a directory by name. Errors wrap ErrNoPath when there is none.
func (t *Tree) List(p string) ([]Entry, error) {
	_, kind, data, err := t.m.read(t.Commit + ":" + p)
	if err != nil {
		return nil, err
	}
	if kind != "tree" {
		return nil, t.m.noPath(t.Commit, p)
	}
	entries, err := parseTree(data)
	out := make([]Entry, len(entries))
	for i, e := range entries {
		out[i] = Entry{e.name, e.mode == modeDir || e.mode == modeSubmodule}
	}
	return out, err
}

// Files reads the files at or below a path whose name is wanted, sorted by path.
func (t *Tree) Files(p string, want func(name string) bool) ([]File, error) {
	return t.m.files(t.Commit, p, want, t.may)
}

// Folder is a directory on this machine, read as a tree: for commands that need no repository. It has no history, so
// hashes are those of sizes and times.
type Folder struct {
	Root    string
	Without map[string]bool // files and directories below it that are not part of it, since git ignores them
}

// Name is the folder.
func (f Folder) Name() string { return f.Root }

func (f Folder) at(p string) string { return filepath.Join(f.Root, filepath.FromSlash(p)) }

// missing tells whether a path is left out; nil when it is not.
func (f Folder) missing(p string) error {
	for at := path.Clean(p); at != "." && at != "/"; at = path.Dir(at) {
		if f.Without[at] {
			return fmt.Errorf("git ignores %s, so it is in no commit: %w", f.at(p), ErrNoPath)
		}
	}
	return nil
}

// Hash is as of Tree.
func (f Folder) Hash(p string) (string, error) {
	st, err := os.Stat(f.at(p))
	if errors.Is(err, fs.ErrNotExist) || f.missing(p) != nil {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%d %d", st.Size(), st.ModTime().UnixNano()), nil
}

// Read is as of Tree.
func (f Folder) Read(p string) ([]byte, error) {
	if err := f.missing(p); err != nil {
		return nil, err
	}
	b, err := os.ReadFile(f.at(p))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no %s: %w", f.at(p), ErrNoPath)
	}
	return b, err
}

// List is as of Tree.
func (f Folder) List(p string) ([]Entry, error) {
	if err := f.missing(p); err != nil {
		return nil, err
	}
	all, err := os.ReadDir(f.at(p))
	if err != nil {
		return nil, fmt.Errorf("there is no directory %s: %w", f.at(p), ErrNoPath)
	}
	var out []Entry
	for _, e := range all {
		if e.Name() != ".git" && !f.Without[path.Join(p, e.Name())] {
			out = append(out, Entry{e.Name(), e.IsDir()})
		}
	}
	return out, nil
}

// Files is as of Tree.
func (f Folder) Files(p string, want func(name string) bool) ([]File, error) {
	if err := f.missing(p); err != nil {
		return nil, err
	}
	var out []File
	total := 0
	err := filepath.WalkDir(f.at(p), func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && d.Name() == ".git" {
			return filepath.SkipDir
		}
		rel, err := filepath.Rel(f.Root, at)
		if err != nil {
			return err
		}
		if f.Without[filepath.ToSlash(rel)] {
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() || at != f.at(p) && !want(d.Name()) {
			return nil
		}
		data, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		out = append(out, File{filepath.ToSlash(rel), data})
		return within(f.Root, p, rel, len(data), len(out), &total)
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no %s: %w", f.at(p), ErrNoPath)
	}
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return out, err
}

// within holds what is read of a tree to its limits.
func within(name, dir, file string, size, files int, total *int) error {
	*total += size
	switch {
	case files > maxFiles:
		return fmt.Errorf("%s: %s holds more than %d files; choose a narrower path", name, path.Join(".", dir), maxFiles)
	case size > maxFile:
		return fmt.Errorf("%s: %s has %d bytes; the most is %d", name, file, size, maxFile)
	case *total > maxTotal:
		return fmt.Errorf("%s: the files below %s have more than %d bytes; choose a narrower path", name, path.Join(".", dir), maxTotal)
	}
	return nil
}

// Leaves lists the files at or below a path as git keeps them, by path, whatever they are: links and submodules are not followed. None
// where nothing is there. It reads no file.
func (t *Tree) Leaves(p string) (map[string]proposal.Leaf, error) {
	out := map[string]proposal.Leaf{}
	at, err := t.m.leafAt(t.Commit, p)
	if err != nil || at.ID == "" {
		return out, err
	}
	if at.Mode != modeDir {
		out[p] = at
		return out, nil
	}
	return out, t.m.leaves(at.ID, p, 0, out)
}

// maxLeaves is how many files are listed at most.
const maxLeaves = 5000

func (m *Mirror) leaves(tree, dir string, deep int, out map[string]proposal.Leaf) error {
	entries, err := m.treeAt(tree)
	if err != nil {
		return err
	}
	if deep > maxDeep {
		return fmt.Errorf("%s: %s has more than %d directories within each other; choose a narrower path", m.Name(), dir, maxDeep)
	}
	for _, e := range entries {
		full := path.Join(dir, e.name)
		if e.mode == modeDir {
			if err := m.leaves(e.id, full, deep+1, out); err != nil {
				return err
			}
			continue
		}
		if out[full] = leafOf(e); len(out) > maxLeaves {
			return fmt.Errorf("%s: %s holds more than %d files; choose a narrower path", m.Name(), dir, maxLeaves)
		}
	}
	return nil
}
