package repo

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
)

// find tells the id and the kind of what lies at a path: tree, blob, commit (a submodule) or missing. It reads only
// directories, so it needs no file to be here.
func (m *Mirror) find(rev, p string) (id, kind string, err error) {
	if p == "" {
		id, kind, _, err = m.read(rev + "^{tree}")
		return id, kind, err
	}
	dir := path.Dir(p)
	if dir == "." {
		dir = ""
	}
	data, err := m.directory(rev, dir)
	if err != nil || data == nil {
		return "", "missing", err
	}
	mode, id, err := lookUp(data, path.Base(p))
	switch {
	case err != nil:
		return "", "", err
	case mode == "":
		return "", "missing", nil
	case mode == modeDir:
		return id, "tree", nil
	case mode == modeSubmodule:
		return id, "commit", nil
	case mode == modeLink:
		return "", "", fmt.Errorf("%s: %s is a symbolic link; name the file itself", m.Name(), p)
	}
	return id, "blob", nil
}

// directory is a directory of a commit, as git keeps it; nil when there is none. Thousands of wards may lie side by side in one, and
// each is found by it, so what was read of a commit is kept for a while: what a commit holds never changes.
func (m *Mirror) directory(commit, dir string) ([]byte, error) {
	name := commit + ":" + dir
	if data, ok := m.dirs.get(name); ok {
		return data, nil
	}
	_, kind, data, err := m.read(name)
	if err != nil || kind != "tree" {
		return nil, err
	}
	if data == nil {
		data = []byte{}
	}
	if isCommit(commit) {
		m.dirs.put(name, data)
	}
	return data, nil
}

func isCommit(rev string) bool {
	_, err := hex.DecodeString(rev)
	return err == nil && len(rev) == 40
}

// directories are directories that were read, up to some bytes.
type directories struct {
	mu   sync.Mutex
	of   map[string][]byte
	size int
}

// maxDirectories is how many bytes of directories are kept of one repository.
const maxDirectories = 1 << 20

func (d *directories) get(name string) ([]byte, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	data, ok := d.of[name]
	return data, ok
}

func (d *directories) put(name string, data []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	size := len(name) + len(data)
	if size > maxDirectories {
		return
	}
	if d.size += size; d.size > maxDirectories || d.of == nil { // those of older commits mostly
		d.of, d.size = map[string][]byte{}, size
	}
	d.of[name] = data
}

// lookUp finds one entry of a tree without making all the others; mode is "" when there is none.
func lookUp(data []byte, name string) (mode, id string, err error) {
	for len(data) > 0 {
		sp := bytes.IndexByte(data, ' ')
		nul := bytes.IndexByte(data, 0)
		if sp < 0 || nul < sp || len(data) < nul+21 {
			return "", "", errors.New("a git tree is damaged")
		}
		if string(data[sp+1:nul]) == name {
			return string(data[:sp]), hex.EncodeToString(data[nul+1 : nul+21]), nil
		}
		data = data[nul+21:]
	}
	return "", "", nil
}

// walk collects the files below a path.
type walk struct {
	m     *Mirror
	rev   string
	want  func(string) bool
	may   func(repo string) error
	found []wanted
	seen  int // entries of trees: one tree may stand in many places, a thousand times in each
}

// Bounds of a walk: what a person keeps below one path is far below them.
const (
	maxEntries = 500_000
	maxPath    = 4096 // bytes
)

type wanted struct {
	m    *Mirror
	path string
	id   string
}

func (w *walk) tree(m *Mirror, rev, id, dir string) error {
	_, kind, data, err := m.read(id)
	if err != nil {
		return err
	}
	if kind != "tree" {
		return m.broken(dir)
	}
	entries, err := parseTree(data)
	if err != nil {
		return err
	}
	if w.seen += len(entries); w.seen > maxEntries {
		return fmt.Errorf("%s: %s holds more than %d names; choose a narrower path", w.m.Name(), pathOr(dir), maxEntries)
	}
	for _, e := range entries {
		full := path.Join(dir, e.name)
		if len(full) > maxPath {
			return fmt.Errorf("%s: a path below %.60s… is longer than %d bytes", w.m.Name(), full, maxPath)
		}
		switch e.mode {
		case modeDir:
			if err := w.tree(m, rev, e.id, full); err != nil {
				return err
			}
		case modeSubmodule:
			other, err := m.submodule(rev, strings.TrimPrefix(full, "/"), e.id, w.may)
			if err != nil {
				return err
			}
			root, kind, err := other.find(e.id, "")
			if err != nil {
				return err
			}
			if kind != "tree" {
				return fmt.Errorf("%s: the submodule %s is at commit %.7s, which repository %s does not have (yet)", m.Name(), full, e.id, other.Name())
			}
			if err := w.tree(other, e.id, root, full); err != nil {
				return err
			}
		default:
			if !w.want(e.name) {
				continue
			}
			if e.mode == modeLink {
				return fmt.Errorf("%s: %s is a symbolic link; put the file itself there", m.Name(), full)
			}
			if w.found = append(w.found, wanted{m, full, e.id}); len(w.found) > maxFiles {
				return fmt.Errorf("%s: %s holds more than %d files; choose a narrower path", w.m.Name(), pathOr(dir), maxFiles)
			}
		}
	}
	return nil
}

func pathOr(p string) string {
	if p == "" {
		return "its root"
	}
	return p
}

// broken notes that the mirror lacks something that it should have; the next fetch starts it anew.
func (m *Mirror) broken(what string) error {
	m.damaged.Store(true)
	return fmt.Errorf("%s: the mirror is damaged at %s; it is made anew with the next look at the repository", m.Name(), pathOr(what))
}

// read reads what was found; what is not here yet is fetched first, in one go.
func (w *walk) read(dir string) ([]File, error) {
	need := map[*Mirror][]string{}
	for _, f := range w.found {
		need[f.m] = append(need[f.m], f.id)
	}
	for m, ids := range need {
		if err := m.bring(ids); err != nil {
			return nil, err
		}
	}
	out := make([]File, 0, len(w.found))
	total := 0
	for _, f := range w.found {
		_, kind, blob, err := f.m.read(f.id)
		var large *largeError
		if errors.As(err, &large) {
			return nil, fmt.Errorf("%s: %s has %d bytes; the most is %d", w.m.Name(), f.path, large.size, maxFile)
		}
		if err != nil {
			return nil, err
		}
		if kind != "blob" {
			return nil, f.m.broken(f.path)
		}
		if isPointer(blob) {
			if blob, err = f.m.large(f.path, blob); err != nil {
				return nil, err
			}
		}
		if err := within(w.m.Name(), dir, f.path, len(blob), len(out)+1, &total); err != nil {
			return nil, err
		}
		out = append(out, File{f.path, blob})
	}
	slices.SortFunc(out, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// bring fetches files that the first fetch left out.
func (m *Mirror) bring(ids []string) error {
	if !m.partial() {
		return nil
	}
	var ask bytes.Buffer
	for _, id := range ids {
		if _, here := m.whole.Load(id); !here {
			fmt.Fprintln(&ask, id)
		}
	}
	if ask.Len() == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	m.mu.Lock()
	defer m.mu.Unlock()
	// with every protocol forbidden git tells what is missing instead of fetching it one by one
	out, err := m.run(ctx, []string{"GIT_ALLOW_PROTOCOL=none"}, ask.Bytes(), "cat-file", "--batch-check=%(objectname) %(objecttype)", "--buffer")
	if err != nil && len(out) == 0 {
		return m.bringAll(ctx, ask.Bytes(), ids)
	}
	var missing bytes.Buffer
	have := map[string]bool{}
	for _, row := range strings.Split(string(out), "\n") {
		if id, kind, _ := strings.Cut(row, " "); kind == "blob" {
			have[id] = true
		}
	}
	for _, id := range strings.Fields(ask.String()) {
		if !have[id] {
			fmt.Fprintln(&missing, id)
		}
	}
	return m.bringAll(ctx, missing.Bytes(), ids)
}

func (m *Mirror) bringAll(ctx context.Context, missing []byte, ids []string) error {
	if len(missing) > 0 {
		if _, err := m.run(ctx, nil, missing, "-c", "fetch.negotiationAlgorithm=noop", "fetch", "--quiet", "--no-tags", "--no-write-fetch-head", "--recurse-submodules=no", "--filter=blob:none", "--stdin", "--", m.source.URL); err != nil {
			return err
		}
		m.batch.Lock()
		if m.cat != nil { // it has looked for packs already
			m.cat.close()
			m.cat = nil
		}
		m.batch.Unlock()
	}
	for _, id := range ids {
		m.whole.Store(id, true)
	}
	return nil
}

// ---- submodules

// into finds the submodule that a path leads through.
func (m *Mirror) into(rev, p string, may func(repo string) error) (other *Mirror, commit, rest string, err error) {
	for dir := path.Dir(p); ; dir = path.Dir(dir) {
		at := dir
		if at == "." {
			return nil, "", "", nil
		}
		id, kind, err := m.find(rev, at)
		if err != nil {
			return nil, "", "", err
		}
		if kind == "commit" {
			other, err := m.submodule(rev, at, id, may)
			return other, id, strings.TrimPrefix(p, at+"/"), err
		}
		if kind == "tree" {
			return nil, "", "", nil
		}
	}
}

// submodule finds the known repository that a submodule is of.
func (m *Mirror) submodule(rev, at, commit string, may func(repo string) error) (*Mirror, error) {
	address, err := m.submoduleURL(rev, at)
	if err != nil {
		return nil, err
	}
	if !m.source.Submodules {
		return nil, fmt.Errorf("%s: %s is a submodule (of %s), and submodules of %s are not followed; put the files themselves there, or follow them: vigila repo add %s %s --follow submodules", m.Name(), at, address, m.Name(), m.Name(), m.source.URL)
	}
	var other *Mirror
	if m.links != nil {
		other = m.links(address)
	}
	if other == nil {
		return nil, fmt.Errorf("%s: %s is a submodule of %s, which is not a known repository; add it: vigila repo add NAME %s", m.Name(), at, address, address)
	}
	if _, kind, _, err := other.read(commit); err == nil && kind == "commit" { // what it asks for itself holds here too
		if err := other.vouch(commit, commit); err != nil {
			return nil, err
		}
	}
	if may != nil {
		if err := may(other.Name()); err != nil {
			return nil, fmt.Errorf("%s: %s is a submodule of %s: %w", m.Name(), at, other.Name(), err)
		}
	}
	return other, nil
}

func (m *Mirror) submoduleURL(rev, at string) (string, error) {
	if _, _, _, err := m.read(rev + ":.gitmodules"); err != nil { // too large, for one
		return "", fmt.Errorf("%s: .gitmodules: %w", m.Name(), err)
	}
	out, err := m.git(context.Background(), "config", "--blob", rev+":.gitmodules", "--get-regexp", `^submodule\..*\.(path|url)$`)
	if err != nil {
		return "", fmt.Errorf("%s: %s is a submodule, but .gitmodules does not say of what", m.Name(), at)
	}
	paths, urls := map[string]string{}, map[string]string{}
	for _, row := range strings.Split(string(out), "\n") {
		key, v, _ := strings.Cut(row, " ")
		if name, ok := strings.CutSuffix(key, ".path"); ok {
			paths[strings.Trim(v, "/")] = name
		} else if name, ok := strings.CutSuffix(key, ".url"); ok {
			urls[name] = v
		}
	}
	address := urls[paths[at]]
	if address == "" {
		return "", fmt.Errorf("%s: %s is a submodule, but .gitmodules does not say of what", m.Name(), at)
	}
	if strings.HasPrefix(address, "./") || strings.HasPrefix(address, "../") {
		base, err := url.Parse(m.source.URL)
		if err != nil {
			return "", err
		}
		base.Path = path.Join(base.Path, address)
		address = base.String()
	}
	return CleanURL(address), nil
}

// SameURL tells whether two addresses mean one repository.
func SameURL(a, b string) bool {
	clean := func(s string) string {
		return strings.TrimSuffix(strings.TrimSuffix(CleanURL(s), "/"), ".git")
	}
	return clean(a) == clean(b)
}
