package server

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/link"
)

// Lookouts that call in a second, and at once: after the service comes back all of them do, and it has other things to do as well.
const (
	lookoutsASecond = 25
	lookoutsAtOnce  = 50
)

// takeLookout is where lookouts call.
func (s *server) takeLookout(c *gin.Context) {
	if !s.lookouts.Allow() {
		c.Header("Retry-After", "2")
		problem(c, http.StatusServiceUnavailable, "Not now", "more lookouts call than are taken at a time; call again in a moment")
		return
	}
	conn, err := link.Accept(c.Writer, c.Request)
	if err != nil {
		s.Log.Debug("a lookout's call is no WebSocket", "from", c.ClientIP(), "error", err)
		c.Abort()
		return
	}
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Time{})
	if err := s.Keeper.TakeLookout(c.Request.Context(), conn, c.ClientIP(), s.Version); err != nil {
		s.Log.Warn("a lookout is not let in", "from", c.ClientIP(), "error", err)
	}
}

// takeStandBy is where a service calls that stands by.
func (s *server) takeStandBy(c *gin.Context) {
	if s.Copy == nil || !s.lookouts.Allow() {
		c.Header("Retry-After", "2")
		problem(c, http.StatusServiceUnavailable, "Not now", "call again in a moment")
		return
	}
	conn, err := link.Accept(c.Writer, c.Request)
	if err != nil {
		c.Abort()
		return
	}
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Time{})
	s.Copy(c.Request.Context(), conn, c.ClientIP())
}

// LetLookoutJoin is POST /clusters/{name}/lookout.
func (s *server) LetLookoutJoin(c *gin.Context, name ItemName) {
	if in, ok := body[LetLookoutJoin](c); ok {
		answer(s, c, func(j keeper.Join) LookoutJoin {
			return LookoutJoin{Cluster: j.Cluster, JoinToken: j.Token, ServiceKey: j.Key, Until: j.Until, OnlyNamespaces: j.Only}
		})(do(s, c, keeper.AddLookout{Name: name, About: in.About, Labels: in.Labels, Links: in.Links, Only: in.OnlyNamespaces}))
	}
}
