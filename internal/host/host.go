// Package host speaks to code hosts, where requests to merge a branch are opened, reviewed and merged, over the public REST APIs of three
// that are widespread, each by its own Go client. Start with Source and Open.
package host

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"oras.land/oras-go/v2/registry/remote/retry"

	"vigila.dev/vigila/internal/bounded"
	"vigila.dev/vigila/internal/loopback"
)

// API is which of the interfaces a host speaks.
type API string

// The interfaces.
const (
	Gitea  API = "gitea"
	GitHub API = "github"
	GitLab API = "gitlab"
)

// APIs are their names.
func APIs() []string { return []string{string(Gitea), string(GitHub), string(GitLab)} }

// Source is a project on a code host, and how to sign in to it.
type Source struct {
	API     API
	URL     string // of the host; of github.com it is https://api.github.com
	Project string // OWNER/NAME, or the path of groups with its name
	Token   string
	CA      string // PEM of who signs its certificate; "" for the machine's own
}

// Standing is where a request is.
type Standing string

// The standings.
const (
	Open   Standing = "open"
	Merged Standing = "merged"
	Closed Standing = "closed"
)

// Checks is what a host's own checks say of a request's newest commit.
type Checks string

// The words; "" where there are none.
const (
	Passed  Checks = "passed"
	Running Checks = "running"
	Failed  Checks = "failed"
)

// Approval is that somebody approves a request.
type Approval struct {
	By     string
	At     time.Time
	Commit string // "" where the host does not tell
}

// Request is a request to merge a branch.
type Request struct {
	Number       int
	URL          string // of its page
	Title        string
	Branch, Base string
	Commit       string // the head of its branch
	Author       string
	Fork         bool // its branch is in another repository
	Standing     Standing
	By           string // who merged it
	Labels       []string
	Approvals    []Approval
	Checks       Checks
}

// State is what a commit status says.
type State string

// The states.
const (
	Pending State = "pending"
	Success State = "success"
	Failure State = "failure"
)

// Status is what is told of a commit.
type Status struct {
	Name  string
	State State
	Text  string // a line; what is longer than the host takes is cut
	URL   string // where there is more; "" for none
}

// Host is one project on a code host. Errors name the host and what was asked of it, and bear no credentials.
type Host interface {
	// Check asks whether the project is there and can be written to.
	Check(ctx context.Context) error
	// Ask opens a request to merge a branch, or finds the one that is open.
	Ask(ctx context.Context, branch, base, title, text string) (Request, error)
	// See reads one request whole.
	See(ctx context.Context, number int) (Request, error)
	// Live lists the open requests, without approvals and checks.
	Live(ctx context.Context) ([]Request, error)
	// Say keeps one comment up to date: the one that begins with a mark, made where there is none. It tells whether it wrote.
	Say(ctx context.Context, number int, mark, text string) (bool, error)
	// Tell sets a status of a commit.
	Tell(ctx context.Context, commit string, s Status) error
	// Merge merges a request whose branch is at a commit, by the host's own rules.
	Merge(ctx context.Context, number int, commit, title, text string) error
	// Close closes a request without merging it.
	Close(ctx context.Context, number int) error
}

// The bounds of what is asked and read.
const (
	timeout   = 30 * time.Second
	pageSize  = 50
	maxPages  = 20
	maxText   = 60_000   // bytes of a comment: the least that the three take is 65,536 characters
	maxStatus = 130      // bytes of a status' text: the least is 140 characters
	maxAnswer = 32 << 20 // bytes of one: a page of requests, each with its text
)

// ErrMany tells that a host has more than are read.
var ErrMany = fmt.Errorf("there are more than %d pages of them", maxPages)

// pages reads a list to its end: read answers the number of the next page, 0 after the last.
func pages(read func(page int) (next int, err error)) error {
	page := 1
	for range maxPages {
		next, err := read(page)
		if err != nil || next == 0 {
			return err
		}
		page = next
	}
	return ErrMany
}

// New makes the client of a project. Nothing is asked yet. Errors say what of the source is wrong.
func New(s Source) (Host, error) {
	u, err := url.Parse(s.URL)
	if err != nil || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Scheme != "https" && (u.Scheme != "http" || !loopback.Host(u.Hostname())) {
		return nil, fmt.Errorf("%q is no address of a code host; write such as https://code.brindle.example, without a user", s.URL)
	}
	parts := strings.Split(s.Project, "/")
	for _, p := range parts {
		if p == "" || p == "." || p == ".." || strings.ContainsAny(p, "?#%\\ ") {
			return nil, fmt.Errorf("%q is no project; write OWNER/NAME", s.Project)
		}
	}
	if len(parts) < 2 || len(parts) > 2 && s.API != GitLab {
		return nil, fmt.Errorf("%q is no project; write OWNER/NAME", s.Project)
	}
	c, err := s.client(u)
	if err != nil {
		return nil, err
	}
	owner, name := strings.Join(parts[:len(parts)-1], "/"), parts[len(parts)-1]
	switch s.API {
	case Gitea:
		return newGitea(s, c, owner, name)
	case GitHub:
		return newGitHub(s, c, owner, name)
	case GitLab:
		return newGitLab(s, c)
	}
	return nil, fmt.Errorf("there is no interface %q of a code host; there are %s", s.API, strings.Join(APIs(), ", "))
}

// client trusts who signs the host's certificate, and takes its token nowhere else.
func (s Source) client(at *url.URL) (*http.Client, error) {
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if s.CA != "" && !pool.AppendCertsFromPEM([]byte(s.CA)) {
		return nil, errors.New("the certificates of the code host are not in PEM")
	}
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, IdleConnTimeout: 5 * time.Second, TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}
	return &http.Client{Timeout: timeout, Transport: bounded.Transport(&retry.Transport{Base: t, Policy: whenAsked}, maxAnswer),
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if r.URL.Host != at.Host || r.URL.Scheme != at.Scheme || len(via) > 5 {
				return fmt.Errorf("it leads to %s, where its token is not sent", r.URL.Host)
			}
			return nil
		}}, nil
}

// whenAsked sends a request again when the host says so (429, with Retry-After), and never otherwise: what failed in another way may have been
// done.
func whenAsked() retry.Policy {
	return &retry.GenericPolicy{Retryable: func(r *http.Response, err error) (bool, error) {
		return err == nil && r.StatusCode == http.StatusTooManyRequests, nil
	},
		Backoff: retry.DefaultBackoff, MinWait: 200 * time.Millisecond, MaxWait: 10 * time.Second, MaxRetry: 3}
}

// fail says what was asked of which host, and what became of it.
func (s Source) fail(what string, err error) error {
	if err == nil {
		return nil
	}
	text := err.Error()
	if s.Token != "" { // no client says it; should one, it goes no further
		text = strings.ReplaceAll(text, s.Token, "…")
	}
	return fmt.Errorf("%s of %s at %s: %s", what, s.Project, s.URL, text)
}

// fit is a text that a host takes.
func fit(text string, most int) string {
	if len(text) <= most {
		return text
	}
	const cut = "…"
	return strings.ToValidUTF8(text[:most-len(cut)], "") + cut
}

// The times of asking again for a merge that a host does not make yet: after a push it first finds out whether the two go together.
const (
	mergeTries = 12
	mergePause = time.Second
)

// patient asks for a merge until it is made: try answers the status of HTTP, with which all three hosts say "not now" and "never" alike.
func patient(ctx context.Context, try func() (status int, err error)) error {
	for n := 1; ; n++ {
		status, err := try()
		notYet := status == http.StatusMethodNotAllowed || status == http.StatusNotAcceptable
		if err == nil && !notYet {
			return nil
		}
		if !notYet || n == mergeTries {
			return errors.Join(err, map[bool]error{true: errNotMerged}[notYet])
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(mergePause):
		}
	}
}

// unread stands for checks beyond those that are read: nobody knows that they have passed.
const unread = "those that are not read"

// marked tells whether the comment with a mark is among some.
func marked(has map[int64]string, mark string) bool {
	for _, text := range has {
		if strings.HasPrefix(text, mark) {
			return true
		}
	}
	return false
}

// say keeps a comment up to date; it is the same for all hosts. has are the comments there are, by their ids.
func say(has map[int64]string, mark, text string, add func(string) error, change func(int64, string) error) (bool, error) {
	text = fit(mark+"\n"+text, maxText)
	var at int64
	for id, was := range has {
		if strings.HasPrefix(was, mark) && (at == 0 || id < at) {
			at = id
		}
	}
	switch {
	case at == 0:
		return true, add(text)
	case strings.TrimSpace(strings.ReplaceAll(has[at], "\r\n", "\n")) == strings.TrimSpace(text):
		return false, nil
	}
	return true, change(at, text)
}
