// Package server answers the HTTP API of api/openapi.yaml, and serves the console. Start with New.
package server

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"path"
	"regexp"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// Options are the parts of a server.
type Options struct {
	Keeper  *keeper.Keeper
	Store   *record.Store
	Console fs.FS // the built console; its index.html answers every path that is no file
	Version string
	Log     *slog.Logger
	// Ending is closed when the service ends, so that event streams end too.
	Ending <-chan struct{}
}

type server struct {
	Options
	requests *prometheus.HistogramVec
}

// maxBody bounds the body of a request, in bytes.
const maxBody = 4 << 20

// New makes the handler of the whole service.
func New(o Options) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	s := &server{Options: o}
	s.requests = prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "vigila_request_seconds", Help: "Time to answer a request of the API.",
		Buckets: prometheus.ExponentialBuckets(0.001, 4, 8)}, []string{"route", "status"})
	reg := o.Keeper.Registry()
	reg.MustRegister(s.requests, collectors.NewGoCollector(collectors.WithGoCollectorRuntimeMetrics(collectors.GoRuntimeMetricsRule{Matcher: regexp.MustCompile("^/gc/heap/live:bytes$")})), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))

	r := gin.New()
	r.UseRawPath, r.UnescapePathValues = true, true
	r.Use(s.observe, gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, err any) {
		s.Log.Error("a request made the service panic", "path", c.Request.URL.Path, "panic", err)
		problem(c, http.StatusInternalServerError, "Vigila made a mistake", "the service's log has the details")
	}), secure)
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	r.GET("/readyz", s.ready)
	r.GET("/metrics", gin.WrapH(promhttp.HandlerFor(reg, promhttp.HandlerOpts{})))
	api := r.Group("/api/v1", s.authenticate, func(c *gin.Context) {
		c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, maxBody)
	})
	RegisterHandlersWithOptions(api, s, GinServerOptions{ErrorHandler: func(c *gin.Context, err error, status int) {
		problem(c, status, "The request can't be read", err.Error())
	}})
	r.NoRoute(s.console)
	return r
}

func (s *server) observe(c *gin.Context) {
	start := time.Now()
	c.Next()
	route := c.FullPath()
	if route == "" {
		route = "console"
	}
	if strings.HasSuffix(route, "/events") {
		return // a stream's length says nothing about speed
	}
	s.requests.WithLabelValues(c.Request.Method+" "+route, http.StatusText(c.Writer.Status())).Observe(time.Since(start).Seconds())
}

// secure sets the headers that keep the console to itself.
func secure(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	c.Next()
}

func (s *server) ready(c *gin.Context) {
	if err := s.Store.Ping(c); err != nil {
		problem(c, http.StatusServiceUnavailable, "The database can't be written", err.Error())
		return
	}
	c.String(http.StatusOK, "ok\n")
}

// NewToken makes a bearer token and its hash. 32 random bytes need no slow hash.
func NewToken() (token, hash string) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	token = "vigila_" + base64.RawURLEncoding.EncodeToString(b)
	return token, HashToken(token)
}

// HashToken is the form in which a token is kept.
func HashToken(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

const whoKey = "vigila.who"

// authenticate lets nobody through without a known bearer token.
func (s *server) authenticate(c *gin.Context) {
	if strings.HasSuffix(c.FullPath(), "/notices") {
		return // it is signed instead
	}
	token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	if !ok {
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "Sign in first", "send Authorization: Bearer TOKEN; vigila sign-in LINK keeps the token for the command line")
		return
	}
	t, err := s.Store.TokenByHash(c, HashToken(strings.TrimSpace(token)))
	if errors.Is(err, record.ErrNone) {
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "This token is not known", "sign in again with the link that the service printed at its first start")
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Set(whoKey, t)
	c.Next()
}

func who(c *gin.Context) record.Token {
	t, _ := c.MustGet(whoKey).(record.Token)
	return t
}

// problem answers with a problem document (RFC 9457).
func problem(c *gin.Context, status int, title, detail string, guards ...Guard) {
	c.Abort()
	c.Header("Content-Type", "application/problem+json")
	c.JSON(status, Problem{Type: "about:blank", Title: title, Status: status, Detail: detail, Guards: guards})
}

// fail answers with what went wrong: a fault says so itself, everything else is the service's own mistake.
func (s *server) fail(c *gin.Context, err error) {
	var f *keeper.Fault
	if errors.As(err, &f) {
		var guards []Guard
		for _, g := range f.Guards {
			guards = append(guards, Guard{Name: g.Name, Text: g.Text})
		}
		switch f.Kind {
		case keeper.NotFound:
			problem(c, http.StatusNotFound, "Not found", f.Text)
		case keeper.Invalid:
			problem(c, http.StatusUnprocessableEntity, "This can't be taken", f.Text)
		case keeper.Guarded:
			problem(c, http.StatusConflict, "A guard asks first", f.Text, guards...)
		case keeper.Unreachable:
			problem(c, http.StatusBadGateway, "The cluster does not answer", f.Text)
		default:
			problem(c, http.StatusConflict, "Not now", f.Text)
		}
		return
	}
	if errors.Is(err, context.Canceled) {
		c.Abort()
		return
	}
	s.Log.Error("a request failed", "path", c.Request.URL.Path, "error", err)
	problem(c, http.StatusInternalServerError, "Vigila could not do this", err.Error())
}

// body reads a JSON body; a mistake in it is answered here.
func body[T any](c *gin.Context) (T, bool) {
	var v T
	if err := c.ShouldBindJSON(&v); err != nil {
		problem(c, http.StatusBadRequest, "The body can't be read", "it must be JSON as api/openapi.yaml says: "+err.Error())
		return v, false
	}
	return v, true
}

// console serves the built console; paths that are no file get its index, so that links into it work.
func (s *server) console(c *gin.Context) {
	if strings.HasPrefix(c.Request.URL.Path, "/api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		problem(c, http.StatusNotFound, "Not found", "there is no "+c.Request.Method+" "+c.Request.URL.Path+"; api/openapi.yaml lists the calls")
		return
	}
	name := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if name != "" && name != "index.html" {
		if f, err := fs.Stat(s.Console, name); err == nil && !f.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				c.Header("Cache-Control", "public, max-age=31536000, immutable") // their names hold a hash
			}
			http.ServeFileFS(c.Writer, c.Request, s.Console, name)
			return
		}
	}
	page, err := fs.ReadFile(s.Console, "index.html")
	if err != nil {
		problem(c, http.StatusNotFound, "The console is not built in", "build it with make build")
		return
	}
	c.Header("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", page)
}
