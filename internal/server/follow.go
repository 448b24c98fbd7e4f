package server

import (
	"fmt"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// ListFollows is GET /follows.
func (s *server) ListFollows(c *gin.Context, q ListFollowsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []Follow{}
	for _, f := range s.Keeper.Follows() {
		if holds(q.Search, f.Name, f.What(), f.About, f.Into) {
			items = append(items, s.followOf(f))
		}
	}
	c.JSON(http.StatusOK, FollowList{Total: len(items), Items: slice(items, limit, offset)})
}

// GetFollow is GET /follows/{name}.
func (s *server) GetFollow(c *gin.Context, name ItemName) {
	f, _, err := s.Keeper.Follow(name)
	answer(s, c, s.followOf)(f, err)
}

// LookFollow is POST /follows/{name}/look.
func (s *server) LookFollow(c *gin.Context, name ItemName) {
	in, ok := body[LookFollow](c)
	if !ok {
		return
	}
	answer(s, c, s.followOf)(do(s, c, keeper.LookFollow{Name: name, Take: in.Take}))
}

func (s *server) followOf(f keeper.Follow) Follow {
	out := Follow{Name: f.Name, About: f.About, Roster: f.Roster, DeclaredAt: fmt.Sprintf("%s:%d", f.File, f.Line), Image: f.What(), Wants: f.Wants(), Platforms: f.Platforms, AtLeastOldSeconds: int(f.AtLeastOld.Seconds()),
		EverySeconds: int(f.Every.Seconds()), Repo: f.Repo, Ref: f.Ref, File: f.Into, Version: f.Tag, Digest: f.Digest, Looked: f.Looked, Next: f.Next, Beyond: f.Beyond, Moved: f.Moved, Proposal: f.Offered.Proposal, Passed: []FollowPassed{}, History: []FollowPast{}, UsedBy: []string{}}
	out.Says, out.NeedsYou = f.Says(f.Rule)
	for _, p := range f.Passed {
		out.Passed = append(out.Passed, FollowPassed{Version: p.Version, Why: p.Why})
	}
	for _, w := range slices.Backward(f.History) {
		out.History = append(out.History, FollowPast{Version: w.Version, Digest: w.Digest, Commit: w.Commit, At: w.At})
	}
	if _, wards, err := s.Keeper.Follow(f.Name); err == nil {
		out.UsedBy = append(out.UsedBy, wards...)
	}
	return out
}

// ListRegistries is GET /registries.
func (s *server) ListRegistries(c *gin.Context, q ListRegistriesParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []Registry{}
	for _, r := range s.Keeper.Registries() {
		if holds(q.Search, r.Name, r.Host, r.About) {
			items = append(items, registryOf(r))
		}
	}
	c.JSON(http.StatusOK, RegistryList{Total: len(items), Items: slice(items, limit, offset)})
}

func registryOf(r keeper.Registry) Registry {
	out := Registry{Name: r.Name, Host: r.Host, AskedAt: r.At, User: r.User, SignsIn: r.SignsIn, About: r.About, UsedBy: r.Used}
	if out.UsedBy == nil {
		out.UsedBy = []string{}
	}
	return out
}

// AddRegistry is POST /registries.
func (s *server) AddRegistry(c *gin.Context) {
	in, ok := body[AddRegistry](c)
	if !ok {
		return
	}
	answer(s, c, registryOf)(do(s, c, keeper.AddRegistry{Registry: record.Registry{Name: in.Name, Host: in.Host, Password: in.Password, Token: in.Token, RegistryMore: record.RegistryMore{At: in.AskedAt, User: in.User, CA: in.Ca, About: in.About}}}))
}

// RemoveRegistry is DELETE /registries/{name}.
func (s *server) RemoveRegistry(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveRegistry{Name: name})
}
