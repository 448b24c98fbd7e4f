package server

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

// Bounds of how long a token is taken.
const (
	minToken = time.Minute
	maxToken = 366 * 24 * time.Hour
	// AdminToken is how long one is taken that is made on the host.
	AdminToken = 365 * 24 * time.Hour
)

// ranks are the roles: each may do what those before it may.
var ranks = []Role{RoleReader, RoleOperator, RoleAdmin}

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

// authenticate lets nobody through without a known bearer token that has not ended.
func (s *server) authenticate(c *gin.Context) {
	if want, _ := wanted(c); want == "none" {
		return // it is signed instead
	}
	token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	if !ok {
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "Sign in first", "send Authorization: Bearer TOKEN; vigila sign-in LINK keeps the token for the command line")
		return
	}
	t, err := s.Store.TokenByHash(c, HashToken(strings.TrimSpace(token)))
	switch {
	case errors.Is(err, record.ErrNone):
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "This token is not known", "it was ended, or is of another service; whoever has an admin's makes one: vigila token make NAME. Where nobody has: vigila serve --make-admin-token, on the service's machine")
		return
	case err != nil:
		s.fail(c, err)
		return
	case ended(t):
		c.Header("WWW-Authenticate", "Bearer")
		problem(c, http.StatusUnauthorized, "This token has ended", fmt.Sprintf("token %s ended at %s; whoever has an admin's makes one: vigila token make %s --role %s. Where nobody has: vigila serve --make-admin-token, on the service's machine", t.Name, t.Expires.Format(time.RFC3339), t.Name, t.Role))
		return
	}
	if err := s.Store.UseToken(c, t, time.Now()); err != nil {
		s.Log.Warn("when a token was used can't be written", "token", t.Name, "error", err)
	}
	c.Set(whoKey, t)
}

func ended(t record.Token) bool { return !t.Expires.IsZero() && !time.Now().Before(t.Expires) }

// wanted is the role that a call wants; known is false for one that the table lacks.
func wanted(c *gin.Context) (role Role, known bool) {
	path := strings.TrimPrefix(c.FullPath(), "/api/v1")
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
	if has := Role(who(c).Role); slices.Index(ranks, has) < slices.Index(ranks, want) {
		problem(c, http.StatusForbidden, "This token may not", fmt.Sprintf("token %s is %s's, and this wants %s's; whoever has an admin's makes one: vigila token make NAME --role %s", who(c).Name, a(has), a(want), want))
	}
}

func a(r Role) string {
	if r == RoleReader {
		return "a reader"
	}
	return "an " + string(r)
}

func who(c *gin.Context) record.Token {
	t, _ := c.MustGet(whoKey).(record.Token)
	return t
}

// still tells whether a token is taken as it was when a stream began.
func (s *server) still(c *gin.Context) bool {
	t, err := s.Store.TokenByHash(c, HashToken(strings.TrimSpace(strings.TrimPrefix(c.GetHeader("Authorization"), "Bearer "))))
	return err != nil && !errors.Is(err, record.ErrNone) || err == nil && !ended(t)
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
	all, err := s.Store.Tokens(c)
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
	span := time.Duration(in.For) * time.Second
	wrong := ""
	bad := ward.Name(in.Name)
	switch {
	case bad != nil:
		wrong = "name: " + bad.Error()
	case in.Name == "vigila":
		wrong = "name: vigila is what the logbook calls the service itself; choose another"
	case !slices.Contains(ranks, in.Role):
		wrong = fmt.Sprintf("role: %q is none; write reader, operator or admin", in.Role)
	case in.For > int(maxToken/time.Second) || span < minToken || span > maxToken:
		wrong = fmt.Sprintf("for: a token is taken between a minute and %d days", int(maxToken.Hours()/24))
	}
	if wrong != "" {
		problem(c, http.StatusUnprocessableEntity, "This can't be taken", wrong)
		return
	}
	token, hash := NewToken()
	t := record.Token{Name: in.Name, Role: string(in.Role), Expires: time.Now().Add(span).UTC().Truncate(time.Second)}
	err := s.Store.AddToken(c, hash, t)
	if errors.Is(err, record.ErrTaken) {
		problem(c, http.StatusConflict, "Not now", fmt.Sprintf("there is a token %s already; choose another name, or end that first: vigila token end %s", in.Name, in.Name))
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.Log.Info("token made", "token", t.Name, "role", t.Role, "expires", t.Expires, "by", who(c).Name)
	c.JSON(http.StatusOK, MadeToken{Token: token, Expires: t.Expires})
}

// EndToken is DELETE /tokens/{name}.
func (s *server) EndToken(c *gin.Context, name ItemName) {
	all, err := s.Store.Tokens(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	var names []string
	admins := 0 // beside it
	for _, t := range all {
		names = append(names, t.Name)
		if t.Name != name && t.Role == string(RoleAdmin) && !ended(t) {
			admins++
		}
	}
	switch {
	case !slices.Contains(names, name):
		problem(c, http.StatusNotFound, "Not found", fmt.Sprintf("there is no token %q; known: %s", name, strings.Join(names, ", ")))
		return
	case admins == 0:
		problem(c, http.StatusConflict, "Not now", fmt.Sprintf("token %s is the last of an admin; make another first: vigila token make NAME --role admin", name))
		return
	}
	if err := s.Store.EndToken(c, name); err != nil && !errors.Is(err, record.ErrNone) {
		s.fail(c, err)
		return
	}
	s.Log.Info("token ended", "token", name, "by", who(c).Name)
	c.Status(http.StatusNoContent)
}
