// Package client is the generated client of Vigila's API, with sign-in contexts, errors in words and the event
// stream. Start with Dial.
package client

import (
	"bufio"
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"sigs.k8s.io/yaml"
)

// Context is one service a person is signed in to.
type Context struct {
	Name  string `json:"name"`
	URL   string `json:"url"`
	Token string `json:"token"`
}

// Contexts is the file of contexts.
type Contexts struct {
	Current  string    `json:"current"`
	Contexts []Context `json:"contexts"`
}

// File is where contexts are kept: VIGILA_CONTEXTS, or vigila/contexts.yaml in the user's configuration directory.
func File() (string, error) {
	if f := os.Getenv("VIGILA_CONTEXTS"); f != "" {
		return f, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "vigila", "contexts.yaml"), nil
}

// Load reads the contexts; none is no error.
func Load() (Contexts, error) {
	var c Contexts
	file, err := File()
	if err != nil {
		return c, err
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return c, err
	}
	if err := yaml.UnmarshalStrict(b, &c); err != nil {
		return c, fmt.Errorf("%s can't be read: %w", file, err)
	}
	return c, nil
}

// Save writes the contexts, readable by their owner alone.
func (c Contexts) Save() error {
	file, err := File()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	b, err := yaml.Marshal(c)
	if err != nil {
		return err
	}
	return os.WriteFile(file, b, 0o600)
}

// Put adds or changes a context and makes it the current one.
func (c *Contexts) Put(x Context) {
	c.Current = x.Name
	if i := slices.IndexFunc(c.Contexts, func(y Context) bool { return y.Name == x.Name }); i >= 0 {
		c.Contexts[i] = x
		return
	}
	c.Contexts = append(c.Contexts, x)
}

// Forget drops a context.
func (c *Contexts) Forget(name string) {
	c.Contexts = slices.DeleteFunc(c.Contexts, func(x Context) bool { return x.Name == name })
	if c.Current == name {
		c.Current = ""
	}
}

// ParseLink reads a sign-in link, http://HOST/#sign-in=TOKEN.
func ParseLink(link string) (Context, error) {
	u, err := url.Parse(link)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return Context{}, fmt.Errorf("%q is not a sign-in link; it looks like http://127.0.0.1:7740/#sign-in=TOKEN", strings.SplitN(link, "#", 2)[0])
	}
	token, ok := strings.CutPrefix(u.Fragment, "sign-in=")
	if !ok || token == "" {
		return Context{}, errors.New("the link has no #sign-in=TOKEN at its end; put it in quotes, so that the shell keeps the # part")
	}
	return Context{Name: u.Host, URL: u.Scheme + "://" + u.Host, Token: token}, nil
}

// Conn is a signed-in client.
type Conn struct {
	*ClientWithResponses
	Context Context
}

// ErrSignedOut tells that there is no context to use.
var ErrSignedOut = errors.New("not signed in; run vigila sign-in ADDRESS, or with a link that vigila serve printed at its first start or vigila token make, or set VIGILA_URL and VIGILA_TOKEN")

// Dial makes a client of VIGILA_URL and VIGILA_TOKEN, or of the named context, or of the current one. It sends
// nothing yet.
func Dial(name string) (*Conn, error) {
	x := Context{Name: "environment", URL: os.Getenv("VIGILA_URL"), Token: os.Getenv("VIGILA_TOKEN")}
	if name != "" || x.URL == "" || x.Token == "" {
		all, err := Load()
		if err != nil {
			return nil, err
		}
		if name == "" {
			name = all.Current
		}
		i := slices.IndexFunc(all.Contexts, func(y Context) bool { return y.Name == name })
		if i < 0 && name == "" {
			return nil, ErrSignedOut
		}
		if i < 0 {
			return nil, fmt.Errorf("there is no context %q; sign in to it first", name)
		}
		x = all.Contexts[i]
	}
	return New(x)
}

// New makes a client of a context.
func New(x Context) (*Conn, error) {
	sign := func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+x.Token)
		r.Header.Set("User-Agent", "vigila/command-line") // the account of what was done says so
		return nil
	}
	c, err := NewClientWithResponses(strings.TrimRight(x.URL, "/")+"/api/v1", WithRequestEditorFn(sign))
	if err != nil {
		return nil, err
	}
	return &Conn{c, x}, nil
}

// Error is a problem document as an error.
type Error struct{ Problem Problem }

func (e *Error) Error() string {
	if e.Problem.Detail == "" {
		return e.Problem.Title
	}
	if e.Problem.Status == http.StatusUnauthorized {
		return e.Problem.Title + ": " + e.Problem.Detail
	}
	return e.Problem.Detail
}

// Response is what every generated response offers.
type Response interface {
	StatusCode() int
	GetBody() []byte
}

// Check turns an answer that is no success into an error with the service's own words.
func (c *Conn) Check(r Response, err error) error {
	if err != nil {
		var u *url.Error
		var untrusted x509.UnknownAuthorityError
		if errors.As(err, &untrusted) {
			return fmt.Errorf("the service at %s shows a certificate that is not trusted here; if it is the right one, name its authority: SSL_CERT_FILE=ca.pem vigila …", c.Context.URL)
		}
		if errors.As(err, &u) {
			return fmt.Errorf("the service at %s can't be reached: %w", c.Context.URL, u.Err)
		}
		var odd *json.SyntaxError
		if errors.As(err, &odd) {
			return fmt.Errorf("the service at %s answered, but not as Vigila does; is the address right?", c.Context.URL)
		}
		return err
	}
	if r.StatusCode() < 300 {
		return nil
	}
	e := &Error{}
	if json.Unmarshal(r.GetBody(), &e.Problem) != nil || e.Problem.Title == "" {
		return fmt.Errorf("the service at %s answered %d, and not as Vigila does; is the address right?", c.Context.URL, r.StatusCode())
	}
	return e
}

// Event is a change that the service tells of.
type Event struct {
	Kind string // ward, repo or cluster
	Name string
}

// Stream calls f for each event until the context ends or the stream breaks.
func (c *Conn) Stream(ctx context.Context, f func(Event)) error {
	r, err := c.StreamEvents(ctx)
	if err != nil {
		return fmt.Errorf("the service at %s can't be reached: %w", c.Context.URL, err)
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return fmt.Errorf("the event stream was refused: %s", r.Status)
	}
	f(Event{}) // connected: what happened before is to be read now
	rows := bufio.NewScanner(r.Body)
	kind := ""
	for rows.Scan() {
		if k, ok := strings.CutPrefix(rows.Text(), "event: "); ok {
			kind = k
		}
		if d, ok := strings.CutPrefix(rows.Text(), "data: "); ok {
			var e struct{ Name string }
			if json.Unmarshal([]byte(d), &e) == nil {
				f(Event{kind, e.Name})
			}
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return errors.New("the event stream ended")
}

// Follow is Stream, taken up again whenever it breaks; lost is told of each break.
func (c *Conn) Follow(ctx context.Context, f func(Event), lost func(error)) {
	for ctx.Err() == nil {
		err := c.Stream(ctx, f)
		if ctx.Err() != nil {
			return
		}
		lost(err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}
