// Package repo reads git repositories through mirrors kept by the system's git: one mirror a repository, fetched
// once for all its wards, objects read through one long-lived "git cat-file --batch", never a checkout. Start
// with Mirror.
package repo

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Source is where a repository is and how to sign in to it.
type Source struct {
	Name       string
	URL        string // https, http, ssh or, where allowed, file
	User       string
	Password   string
	Bearer     bool   // Password is a token that is sent as a bearer token
	CA         string // certificates in PEM that its server may be signed with, beside the system's; over HTTPS
	Key        string // private key in PEM; over SSH
	Passphrase string // of Key
	SignKey    string // private SSH key in PEM that signs the commits that are made here; "" for none
	KnownHosts string // lines of a known_hosts file; over SSH
	Signers    string // who may sign commits: SSH public keys, one a line, and armored OpenPGP keys; anybody when empty
	Submodules bool   // submodules are followed into the known repositories that they name
	LargeFiles bool   // pointers to large files are followed
}

// Revision is one commit.
type Revision struct {
	ID      string `json:"id"`
	Subject string `json:"subject,omitempty"`
	Author  string `json:"author,omitempty"`
	At      time.Time
	Tag     string // that a range of versions took
}

// File is one file of a tree: its path from the repository's root, and its contents.
type File struct {
	Path string
	Data []byte
}

// Errors that callers tell apart.
var (
	ErrEmpty  = errors.New("the repository has no commits yet")
	ErrNoRef  = errors.New("no such branch, tag or commit")
	ErrNoPath = errors.New("no such path")
)

// Limits of one tree that is read, so that a wrong path can't eat the memory.
const (
	maxFiles = 20_000
	maxFile  = 8 << 20
	maxTotal = 64 << 20
	// of what is read of the repository itself: a directory's names, and a commit or tag with its signature
	maxNames   = 64 << 20
	maxMessage = 16 << 20
	// of a commit, in every list
	maxSubject = 200 // characters
	maxAuthor  = 100
)

// CheckURL refuses addresses that git would treat as commands or local files.
func CheckURL(raw string, allowLocal bool) error {
	if raw == "" {
		return errors.New("the address is empty")
	}
	u, err := url.Parse(raw)
	if err != nil { // what it says would quote it, and it may hold a password
		return errors.New("that is not an address; it starts with https://, http:// or ssh://")
	}
	if _, secret := u.User.Password(); secret || u.User != nil && u.Scheme != "ssh" {
		return errors.New("the address of the repository holds a user name or password; give them apart, so that they are stored encrypted")
	}
	if u.RawQuery != "" || u.Fragment != "" { // a token, often
		return errors.New("the address of the repository holds a ? or a #, which git can't ask below; a token is given apart, so that it is stored encrypted")
	}
	switch u.Scheme {
	case "https", "http", "ssh":
		if u.Host == "" || strings.HasPrefix(u.Host, "-") || strings.HasPrefix(u.User.Username(), "-") {
			return fmt.Errorf("%q names no host", raw)
		}
		return nil
	case "file":
		if allowLocal {
			return nil
		}
		return fmt.Errorf("%q is a local path; local repositories are only for trials (serve --allow-local-repos)", raw)
	}
	return errors.New("the address starts with none of https://, http:// and ssh://") // unquoted, since anything may be in it
}

// scpLike is the short form of an SSH address: user@host:path.
var scpLike = regexp.MustCompile(`^([A-Za-z0-9._-]+@)([A-Za-z0-9.-]+):([^/].*)$`)

// CleanURL writes the short form of an SSH address out; every other address stays as it is.
func CleanURL(raw string) string {
	if m := scpLike.FindStringSubmatch(raw); m != nil {
		return "ssh://" + m[1] + m[2] + "/" + m[3]
	}
	return raw
}

// Mirror is the local copy of one repository. Its methods may be called by many goroutines.
type Mirror struct {
	dir string

	edits  sync.Mutex // held while a commit is made on a branch
	mu     sync.Mutex // guards the source and the fetch
	source Source

	batch sync.Mutex // guards cat
	cat   *catFile

	links   func(url string) *Mirror // the mirror of the repository at an address; nil when it is not known
	whole   sync.Map                 // ids of trees whose files are all here
	vouched sync.Map                 // ids of commits that are signed as the source asks
	dirs    directories
	damaged atomic.Bool // something is missing that should be here: the next fetch starts anew
}

// Link lets the mirror follow submodules into other known repositories.
func (m *Mirror) Link(find func(url string) *Mirror) { m.links = find }

// Open makes or opens the mirror of a source below dir. It asks nothing of the network.
func Open(ctx context.Context, dir string, s Source) (*Mirror, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	m := &Mirror{dir: filepath.Join(dir, s.Name+".git"), source: s}
	if _, err := os.Stat(filepath.Join(m.dir, "HEAD")); err != nil {
		if _, err := m.git(ctx, "init", "--quiet", "--bare", m.dir); err != nil {
			return nil, fmt.Errorf("make the mirror of %s: %w", s.Name, err)
		}
	}
	return m, nil
}

// Name is the repository's name.
func (m *Mirror) Name() string { return m.source.Name }

// Close ends the mirror's git process.
func (m *Mirror) Close() {
	m.batch.Lock()
	defer m.batch.Unlock()
	if m.cat != nil {
		m.cat.close()
		m.cat = nil
	}
}

// Remove closes the mirror and deletes it from disk.
func (m *Mirror) Remove() error {
	m.Close()
	return os.RemoveAll(m.dir)
}

// git runs one command of the system's git. Credentials go through the environment, so that neither the
// process list nor an error shows them.
func (m *Mirror) git(ctx context.Context, args ...string) ([]byte, error) {
	return m.run(ctx, nil, nil, args...)
}

// run is git with more environment and with standard input.
func (m *Mirror) run(ctx context.Context, env []string, in []byte, args ...string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, "git", args...)
	sign, end, err := signIn(m.source, args[0])
	if err != nil {
		return nil, err
	}
	defer end()
	cmd.Env = append(append(gitEnv(m.source), sign...), env...)
	cmd.Stdin = bytes.NewReader(in)
	cmd.WaitDelay = 5 * time.Second
	if _, err := os.Stat(m.dir); err == nil {
		cmd.Dir = m.dir
	}
	if args[0] != "init" && args[0] != "ls-remote" {
		cmd.Env = append(cmd.Env, "GIT_DIR="+m.dir) // never another repository that happens to be around
	}
	out, stderr := limited{most: maxSaid}, limited{most: maxSaid}
	cmd.Stdout, cmd.Stderr = &out, &stderr
	if err := cmd.Run(); err != nil {
		if out.over || stderr.over {
			return nil, fmt.Errorf("git %s says more than %d MiB about %s; has it very many branches or tags?", args[0], maxSaid>>20, m.Name())
		}
		if ctx.Err() != nil {
			return nil, fmt.Errorf("git %s took too long: %w", args[0], ctx.Err())
		}
		if said := stderr.String(); strings.Contains(said, ".lock': File exists") && strings.Contains(said, filepath.Base(m.dir)+"/") {
			return nil, fmt.Errorf("repository %s: %w", m.source.Name, errLocked)
		}
		return nil, plain(ctx, m.source, stderr.String(), err)
	}
	return out.Bytes(), nil
}

// maxSaid bounds what git may say to one call, in bytes.
const maxSaid = 32 << 20

// limited is a buffer that takes so much and no more.
type limited struct {
	bytes.Buffer
	most int
	over bool
}

func (l *limited) Write(p []byte) (int, error) {
	if l.Len()+len(p) > l.most {
		l.over = true
		return 0, errors.New("too much was said")
	}
	return l.Buffer.Write(p)
}

func gitEnv(s Source) []string {
	env := []string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "LC_ALL=C", "GIT_TERMINAL_PROMPT=0",
		"GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_ALLOW_PROTOCOL=http:https:file:ssh"}
	for _, name := range []string{"SSL_CERT_FILE", "SSL_CERT_DIR", "HTTPS_PROXY", "https_proxy", "HTTP_PROXY", "http_proxy", "NO_PROXY", "no_proxy"} {
		if v, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+v)
		}
	}
	config := [][2]string{{"http.lowSpeedLimit", "1"}, {"http.lowSpeedTime", "30"}, {"gc.auto", "256"}, {"gc.autoDetach", "false"}, {"maintenance.autoDetach", "false"},
		{"core.bigFileThreshold", strconv.Itoa(maxFile)}} // what is larger is never in memory as a whole
	if s.User != "" || s.Password != "" { // git would send them along to wherever the server points
		config = append(config, [2]string{"http.followRedirects", "false"})
	}
	switch {
	case s.Bearer && s.Password != "":
		config = append(config, [2]string{"http.extraHeader", "Authorization: Bearer " + s.Password})
	case s.User != "" || s.Password != "":
		sign := base64.StdEncoding.EncodeToString([]byte(s.User + ":" + s.Password))
		config = append(config, [2]string{"http.extraHeader", "Authorization: Basic " + sign})
	}
	env = append(env, "GIT_CONFIG_COUNT="+strconv.Itoa(len(config)))
	for i, kv := range config {
		env = append(env, fmt.Sprintf("GIT_CONFIG_KEY_%d=%s", i, kv[0]), fmt.Sprintf("GIT_CONFIG_VALUE_%d=%s", i, kv[1]))
	}
	return env
}

// plain turns git's own words into what happened and what to do.
func plain(ctx context.Context, s Source, stderr string, err error) error {
	low := strings.ToLower(stderr)
	if strings.HasPrefix(s.URL, "ssh://") {
		if err := plainSSH(ctx, s, low); err != nil {
			return err
		}
	}
	switch {
	case strings.Contains(low, "certificate"), strings.Contains(low, "ssl"):
		return fmt.Errorf("repository %s at %s shows a certificate that is not trusted (%s); give the authority's with vigila repo add %s %s --ca-file FILE", s.Name, s.URL, lastLine(stderr), s.Name, s.URL)
	case strings.Contains(low, "could not read username"), strings.Contains(low, "authentication failed"), strings.Contains(low, "returned error: 401"), strings.Contains(low, "returned error: 403"):
		if s.User == "" && s.Password == "" {
			return fmt.Errorf("repository %s at %s asks for a sign-in and none is known; add it with vigila repo add %s %s --user USER --password-file FILE", s.Name, s.URL, s.Name, s.URL)
		}
		return fmt.Errorf("repository %s at %s refused user %q with this password; give the right one with vigila repo add %s %s --user USER --password-file FILE", s.Name, s.URL, s.User, s.Name, s.URL)
	case redirected.MatchString(low):
		return fmt.Errorf("repository %s at %s is elsewhere by now, the server says; its credentials are not sent there. Give the new address with vigila repo add %s URL", s.Name, s.URL, s.Name)
	case strings.Contains(low, "not found"), strings.Contains(low, "does not appear to be a git repository"), strings.Contains(low, "does not exist"), strings.Contains(low, "returned error: 404"):
		return fmt.Errorf("there is no repository at %s; check the address of %s (vigila repo list)", s.URL, s.Name)
	case strings.Contains(low, "could not resolve host"), strings.Contains(low, "failed to connect"), strings.Contains(low, "connection refused"), strings.Contains(low, "couldn't connect"):
		return fmt.Errorf("repository %s at %s can't be reached: %s", s.Name, s.URL, lastLine(stderr))
	}
	if l := lastLine(stderr); l != "" {
		return fmt.Errorf("repository %s: git says: %s", s.Name, l)
	}
	return fmt.Errorf("repository %s: %w", s.Name, err)
}

// redirected matches what git says of a redirect that it does not follow.
var redirected = regexp.MustCompile(`returned error: 30[1-8]|unable to update url base from redirection`)

func lastLine(s string) string {
	rows := strings.Split(strings.TrimSpace(s), "\n")
	return strings.TrimPrefix(strings.TrimSpace(rows[len(rows)-1]), "fatal: ")
}

// Found is what a server says of a repository.
type Found struct {
	Branches []string
	Default  string    // "" when it has no commits yet, or does not say
	Expires  time.Time // of the credentials, where the server says so
}

// Check asks the server for its refs without keeping anything: is it there, and do the credentials hold?
func Check(ctx context.Context, s Source) (Found, error) {
	dir, err := os.MkdirTemp("", "vigila-check-")
	if err != nil {
		return Found{}, err
	}
	defer os.RemoveAll(dir)
	m := &Mirror{dir: dir, source: s}
	f, err := m.ask(ctx)
	if err == nil {
		f.Expires = Expires(ctx, s)
	}
	return f, err
}

func (m *Mirror) ask(ctx context.Context) (Found, error) {
	out, err := m.git(ctx, "ls-remote", "--symref", "--", m.source.URL, "HEAD", "refs/heads/*")
	if err != nil {
		return Found{}, err
	}
	var f Found
	for _, row := range strings.Split(string(out), "\n") {
		if ref, ok := strings.CutPrefix(row, "ref: refs/heads/"); ok {
			f.Default, _, _ = strings.Cut(ref, "\t")
		} else if _, ref, ok := strings.Cut(row, "\trefs/heads/"); ok {
			f.Branches = append(f.Branches, ref)
		}
	}
	return f, nil
}

// bounds of what a first fetch brings: files come when they are read, and history ends somewhere.
const depth = "1000"

// Fetch brings the mirror up to date. Branches and tags that are gone there are gone here. A mirror that is damaged on
// disk is made anew.
func (m *Mirror) Fetch(ctx context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.damaged.Load() {
		if err := m.anew(ctx); err != nil {
			return err
		}
	}
	err := m.fetch(ctx)
	if errors.Is(err, errLocked) {
		if stale := m.unlock(time.Now().Add(-lockPause)); stale != nil {
			return errors.Join(err, stale)
		}
		err = m.fetch(ctx)
	}
	if err != nil && ctx.Err() == nil && isDamage(err) {
		if again := m.anew(ctx); again != nil {
			return errors.Join(err, again)
		}
		err = m.fetch(ctx)
	}
	return err
}

// errLocked tells that a file in the mirror is locked by another git.
var errLocked = errors.New("its mirror on this machine is locked by another git; it is tried again")

// lockPause is how old a lock is that nobody holds any more: git holds one while it writes a few lines.
const lockPause = 5 * time.Second

// unlock takes away the locks from before a time. A git that was killed leaves its locks behind, and only the one that fetches
// writes to a mirror.
func (m *Mirror) unlock(before time.Time) error {
	return filepath.WalkDir(m.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".lock") {
			return err
		}
		if info, err := d.Info(); err != nil || info.ModTime().After(before) {
			return nil // gone meanwhile, or held
		}
		return os.Remove(path)
	})
}

func (m *Mirror) fetch(ctx context.Context) error {
	args := []string{"fetch", "--quiet", "--prune", "--prune-tags", "--force", "--no-write-fetch-head", "--no-recurse-submodules"}
	refs := []string{"--", m.source.URL, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"}
	if !strings.HasPrefix(m.source.URL, "file:") {
		args = append(args, "--filter=blob:none")
		if m.isNew() {
			_, err := m.git(ctx, append(append(slices.Clone(args), "--depth="+depth), refs...)...)
			if err == nil || !strings.HasSuffix(err.Error(), "exit status 1") { // git's way to say that there is no commit yet
				return err
			}
		}
	}
	_, err := m.git(ctx, append(args, refs...)...)
	return err
}

// isNew tells whether nothing was ever fetched.
func (m *Mirror) isNew() bool {
	packs, _ := filepath.Glob(filepath.Join(m.dir, "objects", "*", "*"))
	return len(packs) == 0
}

// anew starts the mirror from nothing.
func (m *Mirror) anew(ctx context.Context) error {
	m.Close()
	if err := os.RemoveAll(m.dir); err != nil {
		return err
	}
	m.whole.Clear()
	m.damaged.Store(false)
	_, err := m.git(ctx, "init", "--quiet", "--bare", m.dir)
	return err
}

// isDamage tells whether git complains about the mirror itself, not about the server.
func isDamage(err error) bool {
	low := strings.ToLower(err.Error())
	for _, sign := range []string{"is corrupt", "corrupt loose object", "object file", "not a git repository", "bad object", "unable to read", "packfile", "did not send all necessary objects", "inflate:", "bad tree", "invalid sha1 pointer", "index file", "pack has", "reference broken", "shallow file", "unable to resolve reference", "bad config"} {
		if strings.Contains(low, sign) {
			return true
		}
	}
	return false
}

// SetSource changes the address or the credentials from the next fetch on.
func (m *Mirror) SetSource(s Source) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.source = s
}

// Branches lists the branches of the mirror, sorted.
func (m *Mirror) Branches(ctx context.Context) ([]string, error) {
	out, err := m.git(ctx, "for-each-ref", "--format=%(refname:strip=2)", "refs/heads")
	if err != nil {
		return nil, err
	}
	names := strings.Fields(string(out))
	slices.Sort(names)
	return names, nil
}

// Heads names what all branches are at, so that another answer tells that one has moved.
func (m *Mirror) Heads(ctx context.Context) (string, error) {
	out, err := m.git(ctx, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads")
	sum := sha256.Sum256(out)
	return hex.EncodeToString(sum[:]), err
}

// Resolve finds the commit that a branch, tag or commit hash names. Errors wrap ErrEmpty or ErrNoRef, and say
// which branches there are.
func (m *Mirror) Resolve(ctx context.Context, ref string) (Revision, error) {
	names, took := []string{"refs/heads/" + ref, "refs/tags/" + ref}, ""
	if isHash(ref) {
		names = append(names, ref)
	}
	if IsRange(ref) {
		tag, err := m.newest(ctx, ref)
		if err != nil {
			return Revision{}, err
		}
		ref, names, took = tag, []string{"refs/tags/" + tag}, tag // a branch of that name is no version
	}
	for _, name := range names {
		id, kind, data, err := m.read(name + "^{commit}")
		if err != nil {
			return Revision{}, err
		}
		if kind == "commit" {
			r := parseCommit(id, data)
			r.Tag = took
			return r, m.vouch(id, name)
		}
	}
	branches, err := m.Branches(ctx)
	if err != nil {
		return Revision{}, err
	}
	if len(branches) == 0 {
		return Revision{}, fmt.Errorf("%s: %w; push a first commit to %s", m.Name(), ErrEmpty, ref)
	}
	return Revision{}, &noRefError{fmt.Sprintf("%s has no branch, tag or commit %q; its branches are: %s%s", m.Name(), ref, few(branches), m.mainBranch(ctx, branches))}
}

// noRefError says it in its own words; it is ErrNoRef.
type noRefError struct{ text string }

func (e *noRefError) Error() string        { return e.text }
func (e *noRefError) Is(target error) bool { return target == ErrNoRef }

func few(names []string) string {
	if len(names) > 12 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:12], ", "), len(names)-12)
	}
	return strings.Join(names, ", ")
}

func isHash(s string) bool {
	_, err := hex.DecodeString(s + strings.Repeat("0", len(s)%2))
	return err == nil && len(s) >= 7 && len(s) <= 64
}

func parseCommit(id string, data []byte) Revision {
	r := Revision{ID: id}
	head, body, _ := strings.Cut(string(data), "\n\n")
	for _, row := range strings.Split(head, "\n") {
		if who, ok := strings.CutPrefix(row, "author "); ok {
			r.Author, _, _ = strings.Cut(who, " <")
		}
		if who, ok := strings.CutPrefix(row, "committer "); ok {
			if f := strings.Fields(who); len(f) >= 2 {
				sec, _ := strconv.ParseInt(f[len(f)-2], 10, 64)
				r.At = time.Unix(sec, 0).UTC()
			}
		}
	}
	r.Subject, _, _ = strings.Cut(strings.TrimLeft(body, "\n"), "\n")
	r.Subject, r.Author = cut(r.Subject, maxSubject), cut(r.Author, maxAuthor)
	return r
}

// cut is a text that is not longer than so many characters.
func cut(s string, most int) string {
	n := 0
	for i := range s {
		if n++; n > most {
			return strings.Clone(s[:i]) + "…" // nothing holds the rest
		}
	}
	return strings.Clone(s)
}

// Holds tells whether a commit is another, or came after it: whether its history holds it. rev is a hash, or the beginning of one; of one
// that the mirror does not know it does not.
func (m *Mirror) Holds(ctx context.Context, commit, rev string) (bool, error) {
	if !isHash(rev) {
		return false, fmt.Errorf("%q is not the hash of a commit, or seven letters of it", rev)
	}
	_, kind, _, err := m.read(rev + "^{commit}")
	if err != nil || kind != "commit" {
		return false, err
	}
	out, err := m.git(ctx, "rev-list", "--count", rev, "^"+commit)
	return strings.TrimSpace(string(out)) == "0", err
}

// LastChange finds the newest commit up to rev that touched any of some paths: what a ward calls its revision, so that
// commits beside it say nothing about it.
func (m *Mirror) LastChange(ctx context.Context, rev Revision, dirs ...string) (Revision, error) {
	if len(dirs) == 0 || slices.Contains(dirs, "") {
		return rev, nil
	}
	for _, dir := range dirs {
		if here, err := m.changedBy(rev.ID, dir); err != nil || here {
			return m.commitOr(rev), err
		}
	}
	args := []string{"--literal-pathspecs", "rev-list", "-1", rev.ID, "--"}
	out, err := m.git(ctx, append(args, dirs...)...)
	if err != nil {
		return Revision{}, err
	}
	rev.ID = orElse(strings.TrimSpace(string(out)), rev.ID)
	return m.commitOr(rev), nil
}

// commitOr fills in what the commit says of itself.
func (m *Mirror) commitOr(rev Revision) Revision {
	id, kind, data, err := m.read(rev.ID)
	if err != nil || kind != "commit" {
		return rev
	}
	return parseCommit(id, data)
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// Tree is the hash of what lies at a path of a revision: the same hash means the same files.
func (m *Mirror) Tree(rev, dir string) (string, error) {
	id, kind, err := m.find(rev, dir)
	if err != nil {
		return "", err
	}
	if kind == "missing" {
		return "", m.noPath(rev, dir)
	}
	return id, nil
}

// noPath says what lies beside a path that is not there.
func (m *Mirror) noPath(rev, dir string) error {
	parent := path.Dir(dir)
	if parent == "." {
		parent = ""
	}
	_, kind, data, err := m.read(rev + ":" + parent)
	for err == nil && kind == "missing" && parent != "" {
		if parent = path.Dir(parent); parent == "." {
			parent = ""
		}
		_, kind, data, err = m.read(rev + ":" + parent)
	}
	if err != nil {
		return err
	}
	var names []string
	if kind == "tree" {
		entries, err := parseTree(data)
		if err != nil {
			return err
		}
		for _, e := range entries {
			names = append(names, e.name)
		}
	}
	at := parent
	if at == "" {
		at = "its root"
	}
	return fmt.Errorf("%s has no %q at %s (%w); in %s there is: %s", m.Name(), dir, short(rev), ErrNoPath, at, few(names))
}

func short(rev string) string {
	if len(rev) > 7 && isHash(rev) {
		return rev[:7]
	}
	return rev
}

// Files reads every file at or below a path whose name the filter wants, sorted by path. Links and submodules
// are not followed: they are errors where they stand in the way.
func (m *Mirror) Files(rev, dir string, want func(name string) bool) ([]File, error) {
	return m.files(rev, dir, want, nil)
}

// files is Files; may tells why another repository may not be read by way of a submodule, nil when all may.
func (m *Mirror) files(rev, dir string, want func(name string) bool, may func(repo string) error) ([]File, error) {
	id, kind, err := m.find(rev, dir)
	if err != nil {
		return nil, err
	}
	w := &walk{m: m, rev: rev, want: want, may: may}
	switch kind {
	case "blob":
		w.found = []wanted{{m, dir, id}}
	case "tree":
		if err := w.tree(m, rev, id, dir); err != nil {
			return nil, err
		}
	default:
		if other, commit, rest, err := m.into(rev, dir, may); err != nil || other != nil {
			if err != nil {
				return nil, err
			}
			files, err := other.files(commit, rest, want, may)
			for i := range files {
				files[i].Path = path.Join(strings.TrimSuffix(strings.TrimSuffix(dir, rest), "/"), files[i].Path)
			}
			return files, err
		}
		return nil, m.noPath(rev, dir)
	}
	return w.read(dir)
}

type treeEntry struct{ mode, name, id string }

// Modes of tree entries.
const (
	modeDir       = "40000"
	modeLink      = "120000"
	modeSubmodule = "160000"
)

// parseTree reads git's tree format: "MODE NAME\0" and 20 raw bytes, again and again.
func parseTree(data []byte) ([]treeEntry, error) {
	var out []treeEntry
	for len(data) > 0 {
		sp := bytes.IndexByte(data, ' ')
		nul := bytes.IndexByte(data, 0)
		if sp < 0 || nul < sp || len(data) < nul+21 {
			return nil, errors.New("a git tree is damaged")
		}
		out = append(out, treeEntry{string(data[:sp]), string(data[sp+1 : nul]), hex.EncodeToString(data[nul+1 : nul+21])})
		data = data[nul+21:]
	}
	return out, nil
}

// largeError tells that something is larger than what is read.
type largeError struct {
	kind string
	size int
}

func (e *largeError) Error() string {
	return fmt.Sprintf("a %s of %d bytes; the most is %d", e.kind, e.size, mostOf(e.kind))
}

func mostOf(kind string) int {
	switch kind {
	case "blob":
		return maxFile
	case "tree":
		return maxNames
	}
	return maxMessage
}

// catFile is a running "git cat-file --batch-command".
type catFile struct {
	cmd *exec.Cmd
	in  io.WriteCloser
	out *bufio.Reader
}

func (c *catFile) close() {
	_ = c.in.Close()
	_ = c.cmd.Wait()
}

// read asks the long-lived process for one object; kind is "missing" when there is none.
func (m *Mirror) read(name string) (id, kind string, data []byte, err error) {
	if strings.ContainsAny(name, "\n\x00") {
		return "", "", nil, fmt.Errorf("%q can't be a path or a ref", name)
	}
	m.batch.Lock()
	defer m.batch.Unlock()
	for try := 0; ; try++ {
		if m.cat == nil {
			if m.cat, err = m.startCat(); err != nil {
				return "", "", nil, err
			}
		}
		id, kind, data, err = m.cat.ask(name)
		if err == nil {
			return id, kind, data, nil
		}
		var large *largeError
		if errors.As(err, &large) {
			return id, kind, nil, fmt.Errorf("%s: %s is %w", m.Name(), name, err)
		}
		m.cat.close()
		m.cat = nil
		if try == 1 {
			return "", "", nil, fmt.Errorf("read %s of %s: %w", name, m.Name(), err)
		}
	}
}

func (m *Mirror) startCat() (*catFile, error) {
	cmd := exec.Command("git", "cat-file", "--batch-command")
	// What is not here is fetched in one go, never one by one: a git that tries it, and whose helper is refused at once, may die of that.
	cmd.Dir, cmd.Env = m.dir, append(gitEnv(Source{}), "GIT_NO_LAZY_FETCH=1", "GIT_ALLOW_PROTOCOL=none")
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start git: %w", err)
	}
	return &catFile{cmd, in, bufio.NewReaderSize(out, 64<<10)}, nil
}

// ask reads one object; its size is known before any of it is read.
func (c *catFile) ask(name string) (id, kind string, data []byte, err error) {
	id, kind, size, err := c.head("info " + name)
	if err != nil || kind == "missing" {
		return "", kind, nil, err
	}
	if size > mostOf(kind) {
		return id, kind, nil, &largeError{kind, size}
	}
	if id, kind, size, err = c.head("contents " + id); err != nil || kind == "missing" {
		return "", kind, nil, err
	}
	data = make([]byte, size+1)
	if _, err := io.ReadFull(c.out, data); err != nil {
		return "", "", nil, err
	}
	return id, kind, data[:size], nil
}

// head sends a command and reads the line that answers it: what an object is.
func (c *catFile) head(command string) (id, kind string, size int, err error) {
	if _, err := io.WriteString(c.in, command+"\n"); err != nil {
		return "", "", 0, err
	}
	head, err := c.out.ReadString('\n')
	if err != nil {
		return "", "", 0, err
	}
	f := strings.Fields(head)
	if len(f) < 3 || strings.HasSuffix(strings.TrimSpace(head), " missing") || f[len(f)-1] == "ambiguous" {
		return "", "missing", 0, nil
	}
	if size, err = strconv.Atoi(f[2]); err != nil {
		return "", "", 0, fmt.Errorf("git answered %q", strings.TrimSpace(head))
	}
	return f[0], f[1], size, nil
}

// Between lists the commits that one has and another has not, the newest first, as far as they changed any of some paths; more is how
// many there are beyond the most that are listed. From nothing ("") it is the newest alone.
func (m *Mirror) Between(ctx context.Context, from, to string, most int, paths ...string) (all []Revision, more int, err error) {
	args := []string{"--literal-pathspecs", "rev-list", to}
	if from == "" {
		args = append(args, "--max-count=1")
	} else {
		args = append(args, "^"+from)
	}
	out, err := m.git(ctx, append(append(args, "--"), paths...)...)
	if err != nil {
		return nil, 0, err
	}
	ids := strings.Fields(string(out))
	for _, id := range ids[:min(len(ids), most)] {
		all = append(all, m.commitOr(Revision{ID: id}))
	}
	return all, len(ids) - len(all), nil
}
