package server

import (
	"fmt"
	"math"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// wanted is the role that a call wants; known is false for one that the table lacks.
func wanted(c *gin.Context) (role Role, known bool) {
	path := strings.TrimPrefix(c.FullPath(), "/api/v1")
	if isPush(c.Request.Method, path) { // also at the address of before
		return "none", true
	}
	parts := strings.Split(path, "/")
	for i, p := range parts {
		if name, ok := strings.CutPrefix(p, ":"); ok {
			parts[i] = "{" + name + "}"
		}
	}
	role, known = roles[c.Request.Method+" "+strings.Join(parts, "/")]
	return role, known
}

// authorize lets a call through whose role the token has. A call that the table lacks wants an admin's.
func (s *server) authorize(c *gin.Context) {
	want, known := wanted(c)
	if !known {
		want = RoleAdmin
	}
	if want == "none" {
		return
	}
	if has := who(c).Role; !has.May(grant.Role(want)) {
		if c.Request.Method != http.MethodGet {
			s.refusals.note(c, s.Keeper, want)
		}
		text := fmt.Sprintf("token %s is %s's, and this wants %s's; whoever has an admin's makes one: vigila token make NAME --role %s", who(c).Name, a(Role(has)), a(want), want)
		if p := who(c).Provider; p != "" {
			text = fmt.Sprintf("%s is %s, and this wants %s; an admin says who is one: vigila provider list", who(c).Name, a(Role(has)), a(want))
		}
		problem(c, http.StatusForbidden, "This sign-in may not", text)
	}
}

func a(r Role) string {
	if r == RoleReader {
		return "a reader"
	}
	return "an " + string(r)
}

func tokenOf(t record.Token, you string) Token {
	return Token{Name: t.Name, Role: Role(t.Role), Made: t.Made, Used: t.Used, Expires: t.Expires, You: t.Name == you}
}

// ListTokens is GET /tokens.
func (s *server) ListTokens(c *gin.Context, q ListTokensParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	all, err := s.Keeper.Tokens(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	items := []Token{}
	for _, t := range all {
		if holds(q.Search, t.Name, t.Role) {
			items = append(items, tokenOf(t, who(c).Name))
		}
	}
	c.JSON(http.StatusOK, TokenList{Total: len(items), Items: slice(items, limit, offset)})
}

// MakeToken is POST /tokens.
func (s *server) MakeToken(c *gin.Context) {
	in, ok := body[MakeToken](c)
	if !ok {
		return
	}
	span := time.Duration(-1) // no time that there is
	if in.For <= int(math.MaxInt64/time.Second) {
		span = time.Duration(in.For) * time.Second
	}
	answer(s, c, func(t keeper.MadeToken) MadeToken { return MadeToken{Token: t.Text, Expires: t.Expires} })(do(s, c, keeper.MakeToken{Name: in.Name, Role: string(in.Role), For: span}))
}

// EndToken is DELETE /tokens/{name}.
func (s *server) EndToken(c *gin.Context, name ItemName) {
	done(s, c, keeper.EndToken{Name: name})
}
