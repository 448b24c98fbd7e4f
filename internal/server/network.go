package server

import (
	"bytes"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/keeper"
)

// Bounds of what somebody who has not signed in can make the service do or keep.
const (
	maxBody      = 4 << 20 // of a request's body, in bytes
	maxPush      = 1 << 20 // of a push's
	maxConns     = 2048
	maxConnsFrom = 128             // one address; this machine's own are not counted
	readyFor     = 5 * time.Second // as long a probe's answer is taken for the next
	pushesLogged = time.Minute     // between two lines about notices that are not signed
)

// How long a body may take to come.
var (
	bodyTime = 30 * time.Second
	pushTime = 10 * time.Second
)

// methods are those that are answered.
var methods = []string{http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete}

func methodOf(r *http.Request) string {
	if slices.Contains(methods, r.Method) {
		return r.Method
	}
	return "other"
}

// answered refuses methods that nothing answers.
func answered(c *gin.Context) {
	if methodOf(c.Request) == "other" {
		c.Header("Allow", strings.Join(methods, ", "))
		problem(c, http.StatusMethodNotAllowed, "There is no such method", "api/openapi.yaml lists the calls")
	}
}

// linger is how long what is left of a body that nobody reads is waited for, once the answer is sent.
const linger = time.Second

// unread makes the connection end with the answer to a request whose body is not read: net/http would wait for it, before the
// answer and after, for as long as it does not come.
func unread(c *gin.Context) {
	if c.Request.Body == nil || c.Request.Body == http.NoBody {
		return
	}
	c.Header("Connection", "close")
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(linger))
}

// whole reads the body of a request before it is handled: within its size, and within a time.
func whole(c *gin.Context, size int64, within time.Duration) bool {
	if c.Request.Body == nil || c.Request.Body == http.NoBody {
		return true
	}
	var b []byte
	err := bodyTo(c, size, within, func(body io.Reader) (err error) {
		b, err = io.ReadAll(body)
		return err
	})
	c.Request.Body = io.NopCloser(bytes.NewReader(b))
	return err == nil
}

// bodyTo has the body of a request read, within its size and within a time; what goes wrong with the body itself is answered.
func bodyTo(c *gin.Context, size int64, within time.Duration, read func(io.Reader) error) error {
	deadline := http.NewResponseController(c.Writer)
	_ = deadline.SetReadDeadline(time.Now().Add(within))
	body := &faulty{Reader: http.MaxBytesReader(c.Writer, c.Request.Body, size)}
	own := read(body)
	err := body.err
	if body.ended {
		_ = deadline.SetReadDeadline(time.Time{})
		c.Writer.Header().Del("Connection")
	} else {
		_ = deadline.SetReadDeadline(time.Now().Add(linger))
	}
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		problem(c, http.StatusRequestEntityTooLarge, "The body is too large", err.Error())
	case errors.Is(err, os.ErrDeadlineExceeded):
		problem(c, http.StatusRequestTimeout, "The body was too long in coming", "it has to be here within "+within.String())
	case err != nil:
		problem(c, http.StatusBadRequest, "The body can't be read", err.Error())
	}
	return own
}

// faulty keeps how reading ended: at the end, or with an error.
type faulty struct {
	io.Reader
	ended bool
	err   error
}

func (f *faulty) Read(p []byte) (int, error) {
	n, err := f.Reader.Read(p)
	if f.ended = f.ended || errors.Is(err, io.EOF); err != nil && !f.ended {
		f.err = err
	}
	return n, err
}

// signature is how a push is signed.
func signature(c *gin.Context) keeper.Signature {
	sign := keeper.Signature{HMAC: c.GetHeader("Vigila-Signature"), Token: c.GetHeader("X-Gitlab-Token"),
		ID: c.GetHeader("webhook-id"), Time: c.GetHeader("webhook-timestamp"), Standard: c.GetHeader("webhook-signature")}
	if key, is := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); is && sign.Token == "" { // as registries do, which send headers that are set once
		sign.Token = key
	}
	for _, name := range []string{"X-Hub-Signature-256", "X-Hub-Signature", "X-Gitea-Signature"} {
		if sign.HMAC == "" {
			sign.HMAC = c.GetHeader(name)
		}
	}
	return sign
}

// unsigned counts notices that were not signed, and says so in the log now and then: whoever sends them must not fill it.
type unsigned struct {
	sync.Mutex
	n    int
	last time.Time
}

func (u *unsigned) note(now time.Time) (n int, say bool) {
	u.Lock()
	defer u.Unlock()
	u.n++
	if now.Sub(u.last) < pushesLogged {
		return 0, false
	}
	n, u.n, u.last = u.n, 0, now
	return n, true
}

// readiness keeps the answer of the last probe: everybody may ask, and asking writes the database.
type readiness struct {
	sync.Mutex
	at  time.Time
	err error
}

func (s *server) ready(c *gin.Context) {
	s.probe.Lock()
	if time.Since(s.probe.at) > readyFor {
		s.probe.err = s.Keeper.Writable(c)
		s.probe.at = time.Now()
	}
	err := s.probe.err
	s.probe.Unlock()
	if err != nil {
		problem(c, http.StatusServiceUnavailable, "The database can't be written", "the service's log has the details")
		s.Log.Error("the database can't be written", "error", err)
		return
	}
	c.String(http.StatusOK, "ok\n")
}

// Bounded is a listener with a bound on the connections that it holds at a time, and on those from one address.
func Bounded(l net.Listener) net.Listener {
	return &bounded{Listener: l, free: make(chan struct{}, maxConns), from: map[netip.Addr]int{}}
}

type bounded struct {
	net.Listener
	free chan struct{}
	mu   sync.Mutex
	from map[netip.Addr]int
}

func (b *bounded) Accept() (net.Conn, error) {
	for {
		b.free <- struct{}{}
		conn, err := b.Listener.Accept()
		if err != nil {
			<-b.free
			return nil, err
		}
		var addr netip.Addr
		if a, err := netip.ParseAddrPort(conn.RemoteAddr().String()); err == nil {
			addr = a.Addr().Unmap()
		}
		if b.take(addr) {
			return &counted{Conn: conn, end: sync.OnceFunc(func() { b.give(addr) })}, nil
		}
		_ = conn.Close()
		<-b.free
	}
}

func (b *bounded) take(addr netip.Addr) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !addr.IsLoopback() && b.from[addr] >= maxConnsFrom {
		return false
	}
	b.from[addr]++
	return true
}

func (b *bounded) give(addr netip.Addr) {
	b.mu.Lock()
	if b.from[addr]--; b.from[addr] <= 0 {
		delete(b.from, addr)
	}
	b.mu.Unlock()
	<-b.free
}

type counted struct {
	net.Conn
	end func()
}

func (c *counted) Close() error {
	defer c.end()
	return c.Conn.Close()
}
