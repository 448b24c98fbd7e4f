// Package gitserve serves bare git repositories over smart HTTP with the system's git, push included, and seeds
// them with a history. Start with Server.
package gitserve

import (
	"fmt"
	"net"
	"net/http"
	"net/http/cgi"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"time"
)

// Server serves every repository below a directory, as http://ADDRESS/NAME.git.
type Server struct {
	Dir      string
	User     string // with Password: basic sign-in is asked for
	Password string
	http     *http.Server
	address  string
}

// Start listens on a loopback port (0: a free one).
func Start(dir string, port int, user, password string) (*Server, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	git, err := exec.LookPath("git")
	if err != nil {
		return nil, fmt.Errorf("git is not installed: %w", err)
	}
	s := &Server{Dir: dir, User: user, Password: password}
	backend := &cgi.Handler{Path: git, Args: []string{"http-backend"}, Dir: dir,
		Env: []string{"GIT_PROJECT_ROOT=" + dir, "GIT_HTTP_EXPORT_ALL=1", "REMOTE_USER=lab", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null"}}
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return nil, err
	}
	s.address = l.Addr().String()
	s.http = &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		u, p, _ := r.BasicAuth()
		if s.User != "" && (u != s.User || p != s.Password) {
			w.Header().Set("WWW-Authenticate", `Basic realm="lab"`)
			http.Error(w, "sign in first", http.StatusUnauthorized)
			return
		}
		backend.ServeHTTP(w, r)
	})}
	go func() { _ = s.http.Serve(l) }()
	return s, nil
}

// Close stops serving.
func (s *Server) Close() { _ = s.http.Close() }

// URL is the address of a repository.
func (s *Server) URL(name string) string { return "http://" + s.address + "/" + name + ".git" }

// Create makes an empty bare repository; one that is there already is left as it is.
func (s *Server) Create(name string) error {
	dir := filepath.Join(s.Dir, name+".git")
	if _, err := os.Stat(filepath.Join(dir, "HEAD")); err == nil {
		return nil
	}
	if err := git(s.Dir, nil, "init", "--quiet", "--bare", "--initial-branch=main", dir); err != nil {
		return err
	}
	return git(dir, nil, "config", "http.receivepack", "true")
}

// Seed fills an empty repository from a directory of steps: each of its sub-directories, by name, is laid over
// the tree and becomes a commit; its file COMMIT holds the author's role in the first line and the message after
// it. The paths listed in a file REMOVE are removed first.
func (s *Server) Seed(name, from string, began time.Time) error {
	if err := s.Create(name); err != nil {
		return err
	}
	bare := filepath.Join(s.Dir, name+".git")
	if out, err := exec.Command("git", "--git-dir", bare, "rev-parse", "--verify", "--quiet", "main").Output(); err == nil && len(out) > 0 {
		return nil
	}
	work, err := os.MkdirTemp("", "vigila-seed-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	if err := git(work, nil, "init", "--quiet", "--initial-branch=main"); err != nil {
		return err
	}
	steps, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	sort.Slice(steps, func(i, j int) bool { return steps[i].Name() < steps[j].Name() })
	at := began
	for _, step := range steps {
		if !step.IsDir() {
			continue
		}
		at = at.Add(37 * time.Minute)
		if err := s.commit(work, filepath.Join(from, step.Name()), at); err != nil {
			return fmt.Errorf("seed %s: %w", step.Name(), err)
		}
	}
	return git(work, nil, "push", "--quiet", bare, "main")
}

func (s *Server) commit(work, step string, at time.Time) error {
	note, err := os.ReadFile(filepath.Join(step, "COMMIT"))
	if err != nil {
		return err
	}
	author, message, _ := strings.Cut(string(note), "\n")
	if gone, err := os.ReadFile(filepath.Join(step, "REMOVE")); err == nil {
		for _, path := range strings.Fields(string(gone)) {
			if err := os.RemoveAll(filepath.Join(work, path)); err != nil {
				return err
			}
		}
	}
	if err := os.CopyFS(filepath.Join(work, ".new"), os.DirFS(step)); err != nil {
		return err
	}
	for _, n := range []string{"COMMIT", "REMOVE"} {
		_ = os.Remove(filepath.Join(work, ".new", n))
	}
	if out, err := exec.Command("cp", "-rT", filepath.Join(work, ".new"), work).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	if err := os.RemoveAll(filepath.Join(work, ".new")); err != nil {
		return err
	}
	if err := git(work, nil, "add", "-A"); err != nil {
		return err
	}
	stamp := at.Format(time.RFC3339)
	return git(work, []string{"GIT_AUTHOR_DATE=" + stamp, "GIT_COMMITTER_DATE=" + stamp, "GIT_AUTHOR_NAME=" + author, "GIT_COMMITTER_NAME=" + author},
		"commit", "--quiet", "-m", strings.TrimSpace(message))
}

// git runs one command with an identity of its own, whatever the machine's configuration says.
func git(dir string, env []string, args ...string) error {
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_TERMINAL_PROMPT=0",
		"GIT_AUTHOR_NAME=operator", "GIT_AUTHOR_EMAIL=operator@brindle.example", "GIT_COMMITTER_NAME=operator", "GIT_COMMITTER_EMAIL=operator@brindle.example"}, env...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Commit clones a repository, lets change edit the tree, and pushes the result to a branch.
func Commit(url, branch, author, message string, change func(dir string) error) error {
	work, err := os.MkdirTemp("", "vigila-commit-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	if err := git("", nil, "clone", "--quiet", url, work); err != nil {
		return err
	}
	if err := git(work, nil, "checkout", "--quiet", "-B", branch); err != nil {
		return err
	}
	if err := change(work); err != nil {
		return err
	}
	if err := git(work, nil, "add", "-A"); err != nil {
		return err
	}
	if err := git(work, []string{"GIT_AUTHOR_NAME=" + author, "GIT_COMMITTER_NAME=" + author}, "commit", "--quiet", "-m", message); err != nil {
		return err
	}
	return git(work, nil, "push", "--quiet", "origin", branch)
}
