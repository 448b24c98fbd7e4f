// Package server answers the HTTP API of api/openapi.yaml, and serves the console. Start with New.
package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"path"
	"reflect"
	"regexp"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"golang.org/x/time/rate"

	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/standby"
)

// Options are the parts of a server.
type Options struct {
	Keeper  *keeper.Keeper
	Console fs.FS // the built console; its index.html answers every path that is no file
	Version string
	Log     *slog.Logger
	// Proxies are the addresses or networks whose word about who asks is believed (X-Forwarded-For); nobody's when empty.
	Proxies []string
	// Ending is closed when the service ends, so that event streams end too.
	Ending <-chan struct{}
	// Copy speaks with a service that stands by with a copy of the record, until it goes; nil where none is given.
	Copy func(ctx context.Context, conn net.Conn, from string)
}

type server struct {
	Options
	requests *prometheus.HistogramVec
	probe    readiness
	unsigned unsigned
	guesses  guesses
	refusals refusals
	lookouts *rate.Limiter
	commons  commons
}

// New makes the handler of the whole service.
func New(o Options) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	s := &server{Options: o, refusals: refusals{last: map[string]time.Time{}}, guesses: guesses{from: map[string]*rate.Limiter{}}, lookouts: rate.NewLimiter(lookoutsASecond, lookoutsAtOnce)}
	s.requests = prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "vigila_request_seconds", Help: "Time to answer a request of the API.",
		Buckets: prometheus.ExponentialBuckets(0.001, 4, 8)}, []string{"route", "status"})
	build := prometheus.NewGauge(prometheus.GaugeOpts{Name: "vigila_build_info", Help: "1, with the version of the service.", ConstLabels: prometheus.Labels{"version": o.Version}})
	build.Set(1)
	reg := o.Keeper.Registry()
	reg.MustRegister(s.requests, build, collectors.NewGoCollector(collectors.WithGoCollectorRuntimeMetrics(collectors.GoRuntimeMetricsRule{Matcher: regexp.MustCompile("^/gc/heap/live:bytes$")})), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))

	r := gin.New()
	r.UseRawPath, r.UnescapePathValues = true, true
	if err := r.SetTrustedProxies(o.Proxies); err != nil {
		o.Log.Error("no proxy is believed", "error", err)
		_ = r.SetTrustedProxies(nil) // never fails
	}
	r.Use(s.observe, gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, err any) {
		s.Log.Error("a request made the service panic", "path", c.Request.URL.Path, "panic", err)
		problem(c, http.StatusInternalServerError, "Vigila made a mistake", "the service's log has the details")
	}), secure, unread, answered)
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	r.GET("/readyz", s.ready)
	r.GET("/metrics", s.authenticate, func(c *gin.Context) { // they name everything
		if !who(c).Rights.All() {
			s.refuse(c, RoleReader)
		}
	}, gin.WrapH(Metrics(o.Keeper)))
	r.GET(standby.Path, s.takeStandBy)
	r.GET(link.Path, s.takeLookout) // its key says who it is, within the connection
	api := r.Group("/api/v1", s.authenticate, s.authorize, func(c *gin.Context) {
		if !isPush(c.Request.Method, c.FullPath()) {
			whole(c, maxBody, bodyTime)
		}
	})
	RegisterHandlersWithOptions(api, s, GinServerOptions{ErrorHandler: func(c *gin.Context, err error, status int) {
		problem(c, status, "The request can't be read", err.Error())
	}})
	api.POST("/repos/:name/notices", func(c *gin.Context) { s.TakePush(c, c.Param("name")) }) // as pushes were called before
	r.GET("/sign-in/start", s.startSignIn)
	r.GET(keeper.BackPath, s.endSignIn)
	r.POST("/sign-in/device", s.askDevice)
	r.POST("/sign-in/token", s.takeDevice)
	r.NoRoute(s.console)
	return r
}

// isPush tells whether a request is a push: it has a signature in place of a token, and its body is read on its own terms.
func isPush(method, path string) bool {
	return method == http.MethodPost && (strings.HasSuffix(path, "/repos/:name/pushes") || strings.HasSuffix(path, "/registries/:name/pushes") || strings.HasSuffix(path, "/repos/:name/notices"))
}

// Metrics tells Prometheus what there is to tell: wards, repositories and clusters by name, so to nobody who has not signed in.
func Metrics(k *keeper.Keeper) http.Handler {
	return promhttp.HandlerFor(k.Registry(), promhttp.HandlerOpts{})
}

func (s *server) observe(c *gin.Context) {
	start := time.Now()
	c.Next()
	route := c.FullPath()
	if route == "" {
		route = "console"
	}
	if strings.HasSuffix(route, "/events") || route == link.Path {
		return // a stream's length says nothing about speed
	}
	s.requests.WithLabelValues(methodOf(c.Request)+" "+route, http.StatusText(c.Writer.Status())).Observe(time.Since(start).Seconds())
}

// secure sets the headers that keep the console to itself.
func secure(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	c.Next()
}

// problem answers with a problem document (RFC 9457).
func problem(c *gin.Context, status int, title, detail string) {
	answerProblem(c, Problem{Title: title, Status: status, Detail: detail})
}

func answerProblem(c *gin.Context, p Problem) {
	p.Type = "about:blank"
	c.Abort()
	c.Header("Content-Type", "application/problem+json")
	c.JSON(p.Status, p)
}

// fail answers with what went wrong: a fault says so itself, everything else is the service's own mistake.
func (s *server) fail(c *gin.Context, err error) {
	var f *keeper.Fault
	if errors.As(err, &f) {
		guards := guardsOf(f.Guards)
		switch f.Kind {
		case keeper.Denied:
			problem(c, http.StatusForbidden, "This sign-in may not", f.Text)
		case keeper.NotFound:
			problem(c, http.StatusNotFound, "Not found", f.Text)
		case keeper.Invalid:
			problem(c, http.StatusUnprocessableEntity, "This can't be taken", f.Text)
		case keeper.Guarded:
			answerProblem(c, Problem{Title: "A guard asks first", Status: http.StatusConflict, Detail: f.Text, Guards: guards})
		case keeper.Unreachable:
			problem(c, http.StatusBadGateway, "The cluster does not answer", f.Text)
		case keeper.Unwritten:
			problem(c, http.StatusServiceUnavailable, "Nothing can be written down", f.Text)
		default:
			answerProblem(c, Problem{Title: "Not now", Status: http.StatusConflict, Detail: f.Text, Entry: f.Run})
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

// body reads a JSON body; a mistake in it is answered here, and so is a field that means nothing: what somebody wanted to say with it
// would be lost.
func body[T any](c *gin.Context) (T, bool) {
	var v T
	dec := json.NewDecoder(c.Request.Body)
	dec.DisallowUnknownFields()
	err := dec.Decode(&v)
	if err == nil && dec.More() {
		err = errors.New("there is more than one value")
	}
	if err == nil {
		return v, true
	}
	text := "it must be JSON as api/openapi.yaml says: " + err.Error()
	if quoted, unknown := strings.CutPrefix(err.Error(), "json: unknown field "); unknown {
		name := strings.Trim(quoted, `"`)
		text = fmt.Sprintf("there is no field %q; %s", name, nearest.Words(name, fields(reflect.TypeFor[T]())))
	}
	problem(c, http.StatusBadRequest, "The body can't be read", text)
	return v, false
}

// fields lists the names of a body's fields.
func fields(t reflect.Type) (out []string) {
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		out = append(out, name)
	}
	return out
}

// console serves the built console; paths that are no file get its index, so that links into it work.
func (s *server) console(c *gin.Context) {
	if strings.HasPrefix(c.Request.URL.Path, "/api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		problem(c, http.StatusNotFound, "Not found", "there is no such call; api/openapi.yaml lists the calls")
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
