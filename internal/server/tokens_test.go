package server

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// as gives a call somebody else's token.
func (s *testServer) as(name string, role Role, ends time.Time) *testServer {
	token, hash := keeper.NewToken()
	require.NoError(s.t, s.store.AddToken(context.Background(), hash, record.Token{Name: name, Role: string(role), Expires: ends}))
	other := *s
	other.token = token
	return &other
}

// TestEveryCallHasARole: what the API answers and what the table of roles says are the same calls.
func TestEveryCallHasARole(t *testing.T) {
	s := serve(t)
	var routes []string
	for _, r := range s.handler.(*gin.Engine).Routes() {
		if path, ok := strings.CutPrefix(r.Path, "/api/v1"); ok && path != "/repos/:name/notices" { // where pushes went before
			routes = append(routes, r.Method+" "+regexp.MustCompile(`:(\w+)`).ReplaceAllString(path, "{$1}"))
		}
	}
	require.Len(t, routes, len(roles))
	for _, r := range routes {
		assert.Contains(t, []Role{"none", RoleReader, RoleOperator, RoleAdmin}, roles[r], "x-role of %s in api/openapi.yaml", r)
	}
	// Without a role in the table a call is an admin's alone.
	delete(roles, "GET /repos")
	t.Cleanup(func() { roles["GET /repos"] = RoleReader })
	s.as("two", RoleOperator, time.Time{}).refused("GET", "/api/v1/repos", "", http.StatusForbidden, "this wants an admin's")
	assert.Equal(t, http.StatusOK, s.call("GET", "/api/v1/repos", "", nil).StatusCode)
}

// TestWhatMembersMayCall: whoever has no role is let to nothing that the table does not say, and each ward's call says a verb.
func TestWhatMembersMayCall(t *testing.T) {
	for call, verbs := range members {
		assert.Contains(t, roles, call)
		if roles[call] == RoleAdmin {
			assert.Equal(t, []string{string(grant.People)}, verbs, "%s is an admin's", call)
		}
		if strings.Contains(call, "/wards/{ward}") {
			assert.NotContains(t, []string{"listed", "own"}, verbs[0], "%s says which verb it takes", call)
		}
		if method, _, _ := strings.Cut(call, " "); method == "GET" && strings.Contains(call, "/{ward}/") {
			assert.Equal(t, []string{"see"}, verbs, call)
		}
	}
}

// TestRoles: each role may what its calls say, and no more; whoever has no token, none of them.
func TestRoles(t *testing.T) {
	s := serve(t)
	nobody := *s
	nobody.token = ""
	member, hash := keeper.NewToken()
	require.NoError(t, s.store.AddToken(context.Background(), hash, record.Token{Name: "mate", May: []grant.Grant{{Do: []grant.Verb{grant.See, grant.Sync}, Wards: document.Wards{Owners: []string{"ticketing"}}, Lanes: []string{"none-such"}}}}))
	mate := *s
	mate.token = member
	ops, hash := keeper.NewToken()
	require.NoError(t, s.store.AddToken(context.Background(), hash, record.Token{Name: "ops", May: []grant.Grant{{Do: []grant.Verb{grant.Sources, grant.Clusters, grant.People}}}}))
	all := *s
	all.token = ops
	who := map[Role]*testServer{"": &nobody, RoleMember: &mate, RoleReader: s.as("one", RoleReader, time.Time{}), RoleOperator: s.as("two", RoleOperator, time.Time{}), RoleAdmin: s}
	for call, want := range roles {
		method, path, _ := strings.Cut(call, " ")
		if want == "none" || path == "/events" { // a stream; TestAStreamEndsWithItsToken has it
			continue
		}
		path = "/api/v1" + regexp.MustCompile(`\{\w+\}`).ReplaceAllString(path, "none-such")
		for has, s := range who {
			status := s.call(method, path, "", nil).StatusCode
			whole := len(members[call]) > 0 && grant.Verb(members[call][0]).Whole()
			switch {
			case has == RoleMember && whole:
				assert.Equal(t, http.StatusForbidden, status, "%s was not given", call)
				assert.NotContains(t, []int{http.StatusForbidden, http.StatusUnauthorized}, all.call(method, path, "", nil).StatusCode, "%s was given", call)
			case has == RoleMember && len(members[call]) == 0:
				assert.Equal(t, http.StatusForbidden, status, "%s is not for members", call)
			case has == RoleMember && strings.Contains(call, "{ward}"):
				assert.Equal(t, http.StatusNotFound, status, "%s of a ward that they don't see", call)
			case has == RoleMember:
				assert.NotContains(t, []int{http.StatusForbidden, http.StatusUnauthorized}, status, "%s as a member", call)
			case has == "":
				assert.Equal(t, http.StatusUnauthorized, status, "%s without a token", call)
			case !grant.Role(has).May(grant.Role(want)):
				assert.Equal(t, http.StatusForbidden, status, "%s as %s", call, has)
			default:
				assert.NotContains(t, []int{http.StatusForbidden, http.StatusUnauthorized}, status, "%s as %s", call, has)
			}
		}
	}
	who[RoleReader].refused("POST", "/api/v1/wards/x/runs", `{"kind": "sync"}`, http.StatusForbidden, "token one is a reader's, and this wants an operator's; whoever has an admin's makes one: vigila token make NAME --role operator")
	var me Me
	who[RoleReader].call("GET", "/api/v1/me", "", &me)
	assert.Equal(t, Me{Name: "one", Role: RoleReader, Version: "test"}, me)
}

func TestTokensEnd(t *testing.T) {
	s := serve(t)
	for body, want := range map[string]string{
		`{"name": "Ci", "role": "reader", "for": 60}`:                  `name: "Ci" is not a name`,
		`{"name": "vigila", "role": "operator", "for": 60}`:            "what the logbook calls the service itself",
		`{"name": "ci", "role": "owner", "for": 60}`:                   `role: "owner" is none; write reader, operator or admin`,
		`{"name": "ci", "role": "none", "for": 60}`:                    `role: "none" is none`,
		`{"name": "ci", "role": "reader", "for": 59}`:                  "between a minute and 366 days",
		`{"name": "ci", "role": "reader"}`:                             "between a minute and 366 days",
		`{"name": "ci", "role": "reader", "for": 31622401}`:            "between a minute and 366 days",
		`{"name": "ci", "role": "reader", "for": 9000000000000000000}`: "between a minute and 366 days",
	} {
		s.refused("POST", "/api/v1/tokens", body, http.StatusUnprocessableEntity, want)
	}
	var made MadeToken
	require.Equal(t, http.StatusOK, s.call("POST", "/api/v1/tokens", `{"name": "ci", "role": "reader", "for": 3600}`, &made).StatusCode)
	assert.WithinDuration(t, time.Now().Add(time.Hour), made.Expires, time.Minute)
	s.refused("POST", "/api/v1/tokens", `{"name": "ci", "role": "admin", "for": 60}`, http.StatusConflict, "there is a token ci already")
	ci := *s
	ci.token = made.Token
	require.Equal(t, http.StatusOK, ci.call("GET", "/api/v1/wards", "", nil).StatusCode)

	past := s.as("past", RoleAdmin, time.Now().Add(-time.Hour))
	past.refused("GET", "/api/v1/me", "", http.StatusUnauthorized, "has ended, or was taken back")
	var list TokenList
	s.call("GET", "/api/v1/tokens", "", &list)
	require.Equal(t, 3, list.Total)
	assert.Equal(t, []string{"past", "ci", "operator"}, []string{list.Items[0].Name, list.Items[1].Name, list.Items[2].Name}, "what ends first is first")
	assert.True(t, list.Items[2].You)
	assert.True(t, list.Items[0].Used.IsZero(), "it was refused")
	assert.WithinDuration(t, time.Now(), list.Items[1].Used, 2*time.Minute)
	s.call("GET", "/api/v1/tokens?search=reader&limit=1", "", &list)
	assert.Equal(t, 1, list.Total)
	require.Equal(t, http.StatusOK, s.call("POST", "/api/v1/tokens", `{"name": "past", "role": "reader", "for": 60}`, nil).StatusCode, "a name that has ended is free again")
	past.refused("GET", "/api/v1/me", "", http.StatusUnauthorized, "has ended, or was taken back")

	s.refused("DELETE", "/api/v1/tokens/none-such", "", http.StatusNotFound, `there is no token "none-such"; there are ci, operator and past`)
	s.refused("DELETE", "/api/v1/tokens/operator", "", http.StatusConflict, "is the last of an admin")
	assert.Equal(t, http.StatusNoContent, s.call("DELETE", "/api/v1/tokens/ci", "", nil).StatusCode)
	ci.refused("GET", "/api/v1/me", "", http.StatusUnauthorized, "has ended, or was taken back")
	require.NoError(t, record.AddTokenIn(context.Background(), s.data, "hash", record.Token{Name: "more", Role: "admin"}))
	assert.Equal(t, http.StatusNoContent, s.call("DELETE", "/api/v1/tokens/operator", "", nil).StatusCode, "now there is another")
	s.refused("GET", "/api/v1/me", "", http.StatusUnauthorized, "vigila serve --make-admin-token")
	assert.ErrorContains(t, record.AddTokenIn(context.Background(), t.TempDir(), "hash", record.Token{Name: "x"}), "there is no database in")
}

// TestAStreamEndsWithItsToken: what was opened with a token does not outlive it.
func TestAStreamEndsWithItsToken(t *testing.T) {
	heartbeat = 20 * time.Millisecond
	t.Cleanup(func() { heartbeat = 10 * time.Second })
	s := serve(t)
	ci := s.as("ci", RoleReader, time.Time{})
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", s.url+"/api/v1/events", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+ci.token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	var buf [64]byte
	_, err = answer.Body.Read(buf[:])
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, s.call("DELETE", "/api/v1/tokens/ci", "", nil).StatusCode)
	for err == nil {
		_, err = answer.Body.Read(buf[:])
	}
	assert.NoError(t, ctx.Err(), fmt.Sprint(err))
}
