package server

import (
	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// GetCodeHost is GET /repos/{name}/host.
func (s *server) GetCodeHost(c *gin.Context, name ItemName) {
	answer(s, c, codeHostOf)(s.Keeper.CodeHost(name))
}

// SetCodeHost is PUT /repos/{name}/host.
func (s *server) SetCodeHost(c *gin.Context, name ItemName) {
	in, ok := body[SetCodeHost](c)
	if !ok {
		return
	}
	answer(s, c, codeHostOf)(do(s, c, keeper.SetHost{Host: record.Host{Repo: name, Token: in.Token,
		HostMore: record.HostMore{API: in.Api, URL: in.Url, Project: in.Project, CA: in.Ca, Comments: in.Comments, Statuses: in.Statuses, Link: in.Console}}}))
}

// RemoveCodeHost is DELETE /repos/{name}/host.
func (s *server) RemoveCodeHost(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveHost{Repo: name})
}

func codeHostOf(h keeper.CodeHost) CodeHost {
	return CodeHost{Repo: h.Repo, Api: h.API, Url: h.URL, Project: h.Project, Comments: h.Comments, Statuses: h.Statuses, Console: h.Link, Looked: h.Looked, Next: h.Next, Problem: h.Problem, Open: h.Open}
}
