package server

import (
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// wanted is the role that a call wants; known is false for one that the table lacks.
func wanted(c *gin.Context) (role Role, known bool) {
	if isPush(c.Request.Method, strings.TrimPrefix(c.FullPath(), "/api/v1")) { // also at the address of before
		return "none", true
	}
	role, known = roles[callOf(c)]
	return role, known
}

// callOf is a call as the tables have it.
func callOf(c *gin.Context) string {
	path := strings.TrimPrefix(c.FullPath(), "/api/v1")
	parts := strings.Split(path, "/")
	for i, p := range parts {
		if name, ok := strings.CutPrefix(p, ":"); ok {
			parts[i] = "{" + name + "}"
		}
	}
	return c.Request.Method + " " + strings.Join(parts, "/")
}

// authorize lets a call through whose role somebody has, or which a team or a token lets them make. A call that the table lacks wants an admin's.
func (s *server) authorize(c *gin.Context) {
	want, known := wanted(c)
	if !known {
		want = RoleAdmin
	}
	if want == "none" || who(c).Rights.Role.May(grant.Role(want)) {
		return
	}
	if verbs := members[callOf(c)]; known && len(verbs) > 0 && len(who(c).Rights.Grants) > 0 {
		if s.asMember(c, verbs); !c.IsAborted() {
			s.veil(c)
		}
		return
	}
	s.refuse(c, want)
}

// refuse answers whoever has too low a role.
func (s *server) refuse(c *gin.Context, want Role) {
	w := who(c)
	if c.Request.Method != http.MethodGet {
		s.refusals.note(c, s.Keeper, want)
	}
	has := roleOf(w)
	text := fmt.Sprintf("token %s is %s's, and this wants %s's; whoever has an admin's makes one: vigila token make NAME --role %s", w.Name, a(has), a(want), want)
	if w.Provider != "" {
		text = fmt.Sprintf("%s is %s, and this wants %s; an admin says who is one: vigila provider list", w.Name, a(has), a(want))
	}
	problem(c, http.StatusForbidden, "This sign-in may not", text)
}

// asMember lets a call through that a team, or the token's own rights, let somebody make. What they may not see does not exist.
func (s *server) asMember(c *gin.Context, verbs []string) {
	w := who(c)
	if v := grant.Verb(verbs[0]); v.Whole() {
		if !w.Rights.May(v, grant.Thing{All: v}).May {
			want, _ := wanted(c)
			s.refuse(c, want)
		}
		return
	}
	if slices.Contains([]string{"listed", "own", string(grant.Set), string(grant.Propose)}, verbs[0]) || verbs[0] == string(grant.Declare) && c.Param("ward") == "" { // the last two are about what the request names; there it is decided
		return
	}
	var things []grant.Thing
	switch name := c.Param("ward"); {
	case name == "" && !w.SeesLane(c.Param("name")):
		s.fail(c, &keeper.Fault{Kind: keeper.NotFound, Text: fmt.Sprintf("there is no lane %q that you see", c.Param("name"))})
		return
	case name == "": // at which stop is in the request; there it is decided
		return
	case w.Rights.All():
		things = s.Keeper.Things(name)
	default:
		v, err := s.Keeper.SeenWard(w, name)
		if err != nil {
			s.fail(c, err)
			return
		}
		for i := range c.Params {
			if c.Params[i].Key == "ward" {
				c.Params[i].Value = v.ID // of all that the name could mean, the one that they see
			}
		}
		things = []grant.Thing{keeper.ThingOf(v)}
	}
	var why string
	for _, x := range things { // of nothing, what comes says that there is no such ward
		may := false
		for _, v := range verbs {
			answer := w.Rights.May(grant.Verb(v), x)
			may, why = may || answer.May, answer.Why
		}
		if !may {
			if c.Request.Method != http.MethodGet && s.refusals.first(w.Name+" "+callOf(c)) {
				s.Keeper.Refused(c.Request.Context(), keeper.Actor{Name: w.Name, Through: through(c)}, keeper.Subject{Verb: verbs[0], Of: "ward", Name: x.String()}, why)
			}
			problem(c, http.StatusForbidden, "This sign-in may not", fmt.Sprintf("%s may not %s %s: %s", w.Name, verbs[0], x, why))
			return
		}
	}
}

// roleOf is somebody's role; a member has none but what teams or a token give.
func roleOf(w keeper.Who) Role {
	if w.Rights.Role == "" {
		return RoleMember
	}
	return Role(w.Rights.Role)
}

func a(r Role) string {
	if r == RoleReader || r == RoleMember {
		return "a " + string(r)
	}
	return "an " + string(r)
}

func tokenOf(t record.Token, you string) Token {
	role := Role(t.Role)
	if role == "" {
		role = RoleMember
	}
	maker := ""
	if t.Maker.Provider != "" {
		maker = t.Maker.Title()
	}
	return Token{Name: t.Name, MadeBy: maker, Role: role, Rights: rightsOf(t.May), Made: t.Made, Used: t.Used, Expires: t.Expires, You: t.Name == you}
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
	answer(s, c, func(t keeper.MadeToken) MadeToken { return MadeToken{Token: t.Text, Expires: t.Expires} })(do(s, c, keeper.MakeToken{Name: in.Name, Role: string(in.Role), May: grantsOf(in.Rights), For: span}))
}

// EndToken is DELETE /tokens/{name}.
func (s *server) EndToken(c *gin.Context, name ItemName) {
	done(s, c, keeper.EndToken{Name: name})
}
