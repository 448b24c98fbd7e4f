// Package codehost is a small stand-in for code hosts, on real git repositories: it speaks the part of two widespread REST APIs that Vigila
// uses (GitHub's version 3 and GitLab's version 4), and has a page for each request, with its files, comments, and buttons to approve, merge
// and close. Start with Start.
package codehost

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Server is a code host that is up.
type Server struct {
	URL   string
	dir   string // of bare repositories, NAME.git
	file  string // where it keeps what it knows
	token string // that its API asks for
	http  *http.Server
	mu    sync.Mutex
	state state
}

// state is what it knows beside the repositories.
type state struct {
	Requests []*request `json:"requests"`
	Comments []*comment `json:"comments"`
	Statuses []status   `json:"statuses"`
}

type request struct {
	Number   int       `json:"number"`
	Project  string    `json:"project"` // OWNER/NAME
	Title    string    `json:"title"`
	Text     string    `json:"text"`
	Branch   string    `json:"branch"`
	Base     string    `json:"base"`
	Author   string    `json:"author"`
	State    string    `json:"state"` // open, merged, closed
	By       string    `json:"by,omitempty"`
	Fork     string    `json:"fork"` // the commit that the base was at when it was closed or merged
	Head     string    `json:"head"` // and its branch
	Approved []approve `json:"approved"`
	Labels   []string  `json:"labels,omitempty"`
	Made     time.Time `json:"made"`
}

type approve struct {
	By     string    `json:"by"`
	Commit string    `json:"commit"`
	At     time.Time `json:"at"`
}

type comment struct {
	ID      int       `json:"id"`
	Project string    `json:"project"`
	Request int       `json:"request"`
	By      string    `json:"by"`
	Text    string    `json:"text"`
	At      time.Time `json:"at"`
}

type status struct {
	Project, Commit, Name, State, Text, URL string
}

// Start serves the repositories below a directory at a loopback port. What it knows is kept in a file beside them. The token is what its
// API asks for.
func Start(dir string, port int, token string) (*Server, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return nil, err
	}
	s := &Server{URL: "http://" + l.Addr().String(), dir: dir, file: filepath.Join(dir, "codehost.json"), token: token}
	if b, err := os.ReadFile(s.file); err == nil {
		if err := json.Unmarshal(b, &s.state); err != nil {
			return nil, errors.Join(fmt.Errorf("%s: %w", s.file, err), l.Close())
		}
	}
	mux := http.NewServeMux()
	s.github(mux)
	s.gitlab(mux)
	s.pages(mux)
	s.http = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.http.Serve(l) }()
	return s, nil
}

// Close ends it.
func (s *Server) Close() { _ = s.http.Close() }

// keep writes down what it knows; whoever calls it holds mu.
func (s *Server) keep() {
	b, err := json.MarshalIndent(s.state, "", " ")
	if err == nil {
		err = os.WriteFile(s.file+".new", b, 0o600)
	}
	if err == nil {
		err = os.Rename(s.file+".new", s.file)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "codehost:", err)
	}
}

// bare is the repository of a project; "" when there is none.
func (s *Server) bare(project string) string {
	owner, name, ok := strings.Cut(project, "/")
	if !ok || owner == "" || name == "" || strings.ContainsAny(name, "/\\") || strings.HasPrefix(name, ".") {
		return ""
	}
	dir := filepath.Join(s.dir, name+".git")
	if _, err := os.Stat(filepath.Join(dir, "HEAD")); err != nil {
		return ""
	}
	return dir
}

func (s *Server) git(project string, in string, args ...string) (string, error) {
	c := exec.Command("git", args...)
	c.Dir = s.bare(project)
	c.Stdin = strings.NewReader(in)
	c.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_AUTHOR_NAME=code host", "GIT_AUTHOR_EMAIL=host@localhost", "GIT_COMMITTER_NAME=code host", "GIT_COMMITTER_EMAIL=host@localhost")
	out, err := c.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		err = fmt.Errorf("git %s: %s", args[0], strings.TrimSpace(string(exit.Stderr)+string(out)))
	}
	return strings.TrimSpace(string(out)), err
}

// at is the commit of a branch; "" when there is none.
func (s *Server) at(project, branch string) string {
	id, _ := s.git(project, "", "rev-parse", "--verify", "--quiet", "refs/heads/"+branch)
	return id
}

// find is a request by its number; whoever calls it holds mu.
func (s *Server) find(project string, number int) *request {
	i := slices.IndexFunc(s.state.Requests, func(r *request) bool { return r.Project == project && r.Number == number })
	if i < 0 {
		return nil
	}
	s.seen(s.state.Requests[i])
	return s.state.Requests[i]
}

// seen brings an open request up to what the repository says.
func (s *Server) seen(r *request) {
	if r.State != "open" {
		return
	}
	head := s.at(r.Project, r.Branch)
	if head == "" {
		r.State = "closed"
		return
	}
	r.Head, r.Fork = head, s.at(r.Project, r.Base)
	if _, err := s.git(r.Project, "", "merge-base", "--is-ancestor", head, "refs/heads/"+r.Base); err == nil {
		r.State = "merged"
	}
}

var (
	errNone     = errors.New("there is no such thing")
	errThere    = errors.New("a request for this branch is open already")
	errMoved    = errors.New("the branch has moved")
	errNotNow   = errors.New("it can't be merged as it is")
	errNoBranch = errors.New("there is no such branch")
)

// ask opens a request.
func (s *Server) ask(project, branch, base, title, text, by string) (*request, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.bare(project) == "" {
		return nil, errNone
	}
	if s.at(project, branch) == "" || s.at(project, base) == "" {
		return nil, errNoBranch
	}
	number := 1
	for _, r := range s.state.Requests {
		if r.Project != project {
			continue
		}
		if s.seen(r); r.State == "open" && r.Branch == branch && r.Base == base {
			return nil, errThere
		}
		number = max(number, r.Number+1)
	}
	r := &request{Number: number, Project: project, Title: title, Text: text, Branch: branch, Base: base, Author: by, State: "open", Made: time.Now().UTC()}
	s.seen(r)
	s.state.Requests = append(s.state.Requests, r)
	s.keep()
	return r, nil
}

// merge merges a request with a commit of its own, as a person or the API asks.
func (s *Server) merge(project string, number int, commit, title, text, by string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.find(project, number)
	switch {
	case r == nil:
		return "", errNone
	case r.State != "open":
		return "", errNotNow
	case commit != "" && commit != r.Head:
		return "", errMoved
	}
	tree, err := s.git(project, "", "merge-tree", "--write-tree", r.Fork, r.Head)
	if err != nil {
		return "", errNotNow
	}
	if title == "" {
		title = fmt.Sprintf("Merge request %d: %s", number, r.Title)
	}
	id, err := s.git(project, title+"\n\n"+text, "commit-tree", tree, "-p", r.Fork, "-p", r.Head)
	if err != nil {
		return "", err
	}
	if _, err := s.git(project, "", "update-ref", "refs/heads/"+r.Base, id, r.Fork); err != nil {
		return "", errNotNow
	}
	r.State, r.By = "merged", by
	s.keep()
	return id, nil
}

// end closes a request.
func (s *Server) end(project string, number int, by string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.find(project, number)
	if r == nil {
		return errNone
	}
	if r.State == "open" {
		r.State, r.By = "closed", by
		s.keep()
	}
	return nil
}

func (s *Server) label(project string, number int, label string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.find(project, number)
	if r == nil {
		return errNone
	}
	r.Labels = append(r.Labels, label)
	s.keep()
	return nil
}

func (s *Server) approveIt(project string, number int, by string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.find(project, number)
	if r == nil {
		return errNone
	}
	r.Approved = append(slices.DeleteFunc(r.Approved, func(a approve) bool { return a.By == by }), approve{by, r.Head, time.Now().UTC()})
	s.keep()
	return nil
}

// say adds a comment, or changes one.
func (s *Server) say(project string, number, id int, text, by string) (*comment, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if id > 0 {
		for _, c := range s.state.Comments {
			if c.ID == id && c.Project == project {
				c.Text = text
				s.keep()
				return c, nil
			}
		}
		return nil, errNone
	}
	if s.find(project, number) == nil {
		return nil, errNone
	}
	c := &comment{ID: len(s.state.Comments) + 1, Project: project, Request: number, By: by, Text: text, At: time.Now().UTC()}
	s.state.Comments = append(s.state.Comments, c)
	s.keep()
	return c, nil
}

func (s *Server) comments(project string, number int) (out []comment) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.state.Comments {
		if c.Project == project && c.Request == number {
			out = append(out, *c)
		}
	}
	return out
}

func (s *Server) tell(st status) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, err := s.git(st.Project, "", "cat-file", "-e", st.Commit+"^{commit}"); err != nil || s.bare(st.Project) == "" {
		return errNone
	}
	s.state.Statuses = append(slices.DeleteFunc(s.state.Statuses, func(x status) bool {
		return x.Project == st.Project && x.Commit == st.Commit && x.Name == st.Name
	}), st)
	s.keep()
	return nil
}

func (s *Server) told(project, commit string) (out []status) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, x := range s.state.Statuses {
		if x.Project == project && x.Commit == commit {
			out = append(out, x)
		}
	}
	return out
}

// list are the requests of a project, the newest first; all states when state is "".
func (s *Server) list(project, state, branch, base string) (out []request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range slices.Backward(s.state.Requests) {
		if r.Project != project {
			continue
		}
		if s.seen(r); (state == "" || r.State == state) && (branch == "" || r.Branch == branch) && (base == "" || r.Base == base) {
			out = append(out, *r)
		}
	}
	return out
}

func (s *Server) one(project string, number int) (request, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r := s.find(project, number); r != nil {
		return *r, nil
	}
	return request{}, errNone
}

func (r request) page(s *Server) string {
	return fmt.Sprintf("%s/requests/%s/%d", s.URL, r.Project, r.Number)
}
