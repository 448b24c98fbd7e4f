package server

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// browser asks as one does: with what cookies it has, and headers that the page sets.
func (s *testServer) browser(method, path, body string, cookies []*http.Cookie, headers map[string]string) (*http.Response, string) {
	s.t.Helper()
	r, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
	require.NoError(s.t, err)
	for _, c := range cookies {
		r.AddCookie(c)
	}
	for k, v := range headers {
		r.Header.Set(k, v)
	}
	answer, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Do(r)
	require.NoError(s.t, err)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(s.t, err)
	return answer, string(b)
}

func (s *testServer) session(headers map[string]string) []*http.Cookie {
	s.t.Helper()
	all := map[string]string{"Authorization": "Bearer " + s.token}
	for k, v := range headers {
		all[k] = v
	}
	answer, _ := s.browser("POST", "/api/v1/session", "", nil, all)
	require.Equal(s.t, 204, answer.StatusCode)
	return answer.Cookies()
}

// TestASessionInPlaceOfAToken: the console has a cookie that no script can read, and changes nothing without what only its own pages know.
func TestASessionInPlaceOfAToken(t *testing.T) {
	s := serve(t)
	got := s.session(nil)
	require.Len(t, got, 1)
	port := s.url[strings.LastIndex(s.url, ":")+1:]
	assert.Equal(t, sessionCookie+"_"+port, got[0].Name, "browsers keep cookies of all ports together")
	assert.True(t, got[0].HttpOnly)
	assert.False(t, got[0].Secure, "over plain HTTP on this machine a browser would drop it")
	assert.Equal(t, http.SameSiteLaxMode, got[0].SameSite)
	assert.Equal(t, "/", got[0].Path)
	assert.NotContains(t, got[0].Value, s.token)
	over := s.session(map[string]string{"X-Forwarded-Proto": "https"})
	assert.Equal(t, "__Host-"+sessionCookie+"_"+port, over[0].Name)
	assert.True(t, over[0].Secure)

	answer, text := s.browser("GET", "/api/v1/me", "", got, nil)
	require.Equal(t, 200, answer.StatusCode)
	var me Me
	require.NoError(t, json.Unmarshal([]byte(text), &me))
	assert.Equal(t, []string{"operator", "admin", csrfOf(got[0].Value)}, []string{me.Name, string(me.Role), me.Csrf})
	change := `{"name": "ci", "role": "reader", "for": 3600}`
	for name, headers := range map[string]map[string]string{"none": nil, "another": {csrfHeader: "x"}, "of another session": {csrfHeader: csrfOf(over[0].Value)}, "the cookie itself": {csrfHeader: got[0].Value}} {
		answer, text = s.browser("POST", "/api/v1/tokens", change, got, headers)
		assert.Equal(t, 403, answer.StatusCode, name)
		assert.Contains(t, text, "Reload the page", name)
	}
	own := map[string]string{csrfHeader: me.Csrf}
	answer, _ = s.browser("POST", "/api/v1/tokens", change, got, own)
	assert.Equal(t, 200, answer.StatusCode)
	answer, _ = s.browser("POST", "/api/v1/session", "", got, own)
	assert.Equal(t, 422, answer.StatusCode, "a session opens none")

	var list SessionList
	s.call("GET", "/api/v1/sessions", "", &list)
	require.Equal(t, 2, list.Total)
	assert.NotContains(t, list.Items[0].Id+list.Items[1].Id, got[0].Value)
	answer, _ = s.browser("DELETE", "/api/v1/session", "", got, own)
	assert.Equal(t, 204, answer.StatusCode)
	assert.Less(t, answer.Cookies()[0].MaxAge, 0, "the browser forgets it")
	answer, text = s.browser("GET", "/api/v1/me", "", got, nil)
	assert.Equal(t, 401, answer.StatusCode)
	assert.Contains(t, text, "has ended, or was taken back")

	// What the token may, its session may, and no more once the token has ended; another of its name is another.
	ci := s.as("walks", RoleReader, time.Time{})
	theirs := ci.session(nil)
	answer, text = s.browser("GET", "/api/v1/sessions", "", theirs, nil)
	assert.Equal(t, 200, answer.StatusCode)
	assert.NotContains(t, text, "operator", "of others they see nothing")
	require.NoError(t, json.Unmarshal([]byte(text), &list))
	assert.Equal(t, 1, list.Total)
	mine := s.session(nil)
	s.call("GET", "/api/v1/sessions", "", &list)
	require.Equal(t, 3, list.Total)
	for _, x := range list.Items {
		if x.Name == "operator" {
			answer, _ = s.browser("DELETE", "/api/v1/sessions/"+x.Id, "", theirs, map[string]string{csrfHeader: csrfOf(theirs[0].Value)})
			assert.Equal(t, 404, answer.StatusCode, "a reader ends nobody else's")
		}
	}
	answer, _ = s.browser("GET", "/api/v1/me", "", mine, nil)
	assert.Equal(t, 200, answer.StatusCode)
	theirs = ci.session(nil)
	require.Equal(t, 204, s.call("DELETE", "/api/v1/tokens/walks", "", nil).StatusCode)
	s.as("walks", RoleAdmin, time.Time{})
	answer, _ = s.browser("GET", "/api/v1/me", "", theirs, nil)
	assert.Equal(t, 401, answer.StatusCode)

	// Signing in anew ends the session that the browser had: nobody goes on in one that somebody else has put there.
	answer, _ = s.browser("POST", "/api/v1/session", "", mine, map[string]string{"Authorization": "Bearer " + s.token})
	require.Equal(t, 204, answer.StatusCode)
	answer, _ = s.browser("GET", "/api/v1/me", "", mine, nil)
	assert.Equal(t, 401, answer.StatusCode)
}

// TestSessionsEnd by themselves: because nobody uses them, and at their end.
func TestSessionsEnd(t *testing.T) {
	s := serve(t)
	ctx := context.Background()
	token, err := s.store.Tokens(ctx)
	require.NoError(t, err)
	require.Len(t, token, 1)
	known := record.SessionMore{Token: keeper.HashToken(s.token), Through: "console"}
	now := time.Now()
	for text, x := range map[string]struct {
		session record.Session
		status  int
	}{
		"good": {record.Session{Made: now, Used: now, Ends: now.Add(time.Hour)}, 200}, "idle": {record.Session{Made: now.Add(-9 * time.Hour), Used: now.Add(-9 * time.Hour), Ends: now.Add(time.Hour)}, 401},
		"over": {record.Session{Made: now.Add(-25 * time.Hour), Used: now, Ends: now.Add(-time.Second)}, 401},
	} {
		x.session.Hash, x.session.SessionMore = keeper.HashToken("vigila_session_"+text), known
		require.NoError(t, s.store.AddSession(ctx, x.session))
		as := *s
		as.token = "vigila_session_" + text
		assert.Equal(t, x.status, as.call("GET", "/api/v1/me", "", nil).StatusCode, text)
	}
	gone := record.SessionMore{Who: grant.Identity{Provider: "brindle", Subject: "1", Name: "reader@brindle.example", Groups: []string{"signals"}}, Through: "console"}
	require.NoError(t, s.store.AddSession(ctx, record.Session{Hash: keeper.HashToken("vigila_session_gone"), Made: now, Used: now, Ends: now.Add(time.Hour), SessionMore: gone}))
	as := *s
	as.token = "vigila_session_gone"
	as.refused("GET", "/api/v1/me", "", 401, "has ended, or was taken back")
	var list SessionList
	s.call("GET", "/api/v1/sessions", "", &list)
	assert.Equal(t, 1, list.Total, "those that have ended are not listed")
	require.NoError(t, s.store.EndSessions(ctx, now, now.Add(-8*time.Hour)))
	left, err := s.store.Sessions(ctx)
	require.NoError(t, err)
	assert.Len(t, left, 2, "and are forgotten after a while")
}

// TestMetricsNameEverything, so that they are for who sees everything.
func TestMetricsNameEverything(t *testing.T) {
	s := serve(t)
	text, hash := keeper.NewToken()
	require.NoError(t, s.store.AddToken(context.Background(), hash, record.Token{Name: "mate", May: []grant.Grant{{Do: []grant.Verb{grant.See}, Wards: document.Wards{Owners: []string{"ticketing"}}}}}))
	mate := *s
	mate.token = text
	mate.refused("GET", "/metrics", "", 403, "token mate is a member's, and this wants a reader's")
	assert.Equal(t, 200, s.as("walks", RoleReader, time.Time{}).call("GET", "/metrics", "", nil).StatusCode)
	var me Me
	mate.call("GET", "/api/v1/me", "", &me)
	assert.Equal(t, RoleMember, me.Role)
	mate.refused("GET", "/api/v1/wards/x", "", 404, "there is no ward")
	mate.refused("GET", "/api/v1/lanes/x", "", 404, "there is no lane")
	var list WardList
	assert.Equal(t, 200, mate.call("GET", "/api/v1/wards?cluster=none-such", "", &list).StatusCode, "whether there is such a cluster is not told")
	var entries EntryList
	assert.Equal(t, 200, mate.call("GET", "/api/v1/entries", "", &entries).StatusCode)
}

// TestGuessing is slowed, by address; right ones go on.
func TestGuessing(t *testing.T) {
	s := serve(t)
	wrong := *s
	for i := range maxGuesses + 10 {
		wrong.token = strings.Repeat("x", i+1)
		answer := wrong.call("GET", "/api/v1/me", "", nil)
		if i < maxGuesses {
			require.Equal(t, 401, answer.StatusCode, "%d", i)
		}
		if answer.StatusCode == 429 {
			assert.Equal(t, "1", answer.Header.Get("Retry-After"))
		}
	}
	wrong.refused("GET", "/api/v1/me", "", 429, "try again in a second")
	assert.Equal(t, 200, s.call("GET", "/api/v1/me", "", nil).StatusCode)
}

func TestWhereSomebodyIsSentBackTo(t *testing.T) {
	for to, want := range map[string]string{
		"/wards/fare-gate@quay?x=1#y": "/wards/fare-gate@quay?x=1#y", "": "/", "/": "/", "wards": "/", "//brindle.example": "/", "https://brindle.example": "/", "/\\brindle.example": "/", "\\\\brindle.example": "/", "/x\r\nSet-Cookie: a=b": "/",
		"javascript:alert(1)": "/", "/sign-in/start?provider=x": "/", "/\t/brindle.example": "/", "/%": "/", "///brindle.example": "/", "/%2f/brindle.example": "/", "http:/x": "/",
	} {
		assert.Equal(t, want, local(to), to)
	}
}

// TestWhyNobodyIsSignedIn: whatever comes back from nowhere signs nobody in, and the console says why.
func TestWhyNobodyIsSignedIn(t *testing.T) {
	s := serve(t)
	for path, want := range map[string]string{
		"/sign-in/start?provider=brindle":   `there is no provider "brindle", nor any other yet; the first: vigila provider add`,
		"/sign-in/back?code=x&state=y":      "was not begun in this browser",
		"/sign-in/back":                     "was not begun in this browser",
		"/sign-in/back?error=access_denied": "was not begun in this browser",
	} {
		answer, _ := s.browser("GET", path, "", []*http.Cookie{{Name: flowCookie + "_" + s.url[strings.LastIndex(s.url, ":")+1:], Value: map[bool]string{true: "", false: "forged"}[strings.Contains(path, "error")]}}, nil)
		assert.Equal(t, http.StatusSeeOther, answer.StatusCode, path)
		assert.Equal(t, "/", answer.Header.Get("Location"), path)
		said := ""
		for _, c := range answer.Cookies() {
			assert.NotContains(t, c.Name, sessionCookie)
			if strings.HasPrefix(c.Name, saidCookie) {
				b, err := base64.RawURLEncoding.DecodeString(c.Value)
				require.NoError(t, err)
				said = string(b)
			}
		}
		assert.Contains(t, said, want, path)
	}
	for range maxGuesses {
		s.browser("GET", "/sign-in/back?code=x&state=y", "", nil, nil)
	}
	answer, _ := s.browser("GET", "/sign-in/back?code=x&state=y", "", nil, nil)
	assert.Equal(t, http.StatusTooManyRequests, answer.StatusCode, "who tries is slowed")
	var list AuditList
	s.call("GET", "/api/v1/audit", "", &list)
	require.Len(t, list.Items, 1, "one line a minute and address")
	assert.Equal(t, []string{"somebody at 127.0.0.1", "sign in", "refused"}, []string{list.Items[0].By, list.Items[0].Verb, string(list.Items[0].CameTo)})
}

// TestACommandLineIsLetIn: RFC 8628, from the question to the session; nothing of it by who has not signed in.
func TestACommandLineIsLetIn(t *testing.T) {
	s := serve(t)
	ask := func(path string, form url.Values) (int, map[string]any) {
		answer, err := http.PostForm(s.url+path, form)
		require.NoError(t, err)
		defer answer.Body.Close()
		var out map[string]any
		require.NoError(t, json.NewDecoder(answer.Body).Decode(&out))
		assert.Equal(t, "no-store", answer.Header.Get("Cache-Control"))
		return answer.StatusCode, out
	}
	grantType := "urn:ietf:params:oauth:grant-type:device_code"
	begin := func() (device, code string) {
		status, d := ask("/sign-in/device", url.Values{"client_id": {"vigila"}})
		require.Equal(t, 200, status)
		assert.Equal(t, s.url+"/device", d["verification_uri"])
		assert.Equal(t, s.url+"/device?code="+d["user_code"].(string), d["verification_uri_complete"])
		assert.Regexp(t, `^[B-DF-HJ-NP-TV-XZ]{4}-[B-DF-HJ-NP-TV-XZ]{4}$`, d["user_code"])
		assert.Equal(t, 600.0, d["expires_in"])
		return d["device_code"].(string), d["user_code"].(string)
	}
	take := func(device string) (int, map[string]any) {
		return ask("/sign-in/token", url.Values{"grant_type": {grantType}, "device_code": {device}, "client_id": {"vigila"}})
	}
	refusal := func(device string) string {
		status, out := take(device)
		require.Equal(t, 400, status)
		return out["error"].(string)
	}

	device, code := begin()
	assert.Equal(t, "authorization_pending", refusal(device))
	assert.Equal(t, "slow_down", refusal(device))
	assert.Equal(t, "expired_token", refusal("none such"))
	status, out := ask("/sign-in/token", url.Values{"grant_type": {"password"}})
	assert.Equal(t, 400, status)
	assert.Equal(t, "unsupported_grant_type", out["error"])
	r := httptest.NewRequest("POST", "/sign-in/device", strings.NewReader("{}"))
	r.Header.Set("Content-Type", "application/json")
	w := httptest.NewRecorder()
	s.handler.ServeHTTP(w, r)
	assert.Contains(t, w.Body.String(), "invalid_request")

	reader := s.as("walks", RoleReader, time.Time{})
	nobody := *s
	nobody.token = "x"
	nobody.refused("POST", "/api/v1/devices/"+code, `{"let": true}`, 401, "has ended")
	var d Device
	require.Equal(t, 200, reader.call("GET", "/api/v1/devices/"+strings.ToLower(code), "", &d).StatusCode)
	assert.Equal(t, "127.0.0.1", d.Address)
	require.Equal(t, 204, reader.call("POST", "/api/v1/devices/"+strings.ReplaceAll(code, "-", ""), `{"let": true}`, nil).StatusCode)
	reader.refused("POST", "/api/v1/devices/"+code, `{"let": true}`, 404, "no command line waits with code")
	status, out = take(device)
	require.Equal(t, 200, status)
	assert.Equal(t, "Bearer", out["token_type"])
	assert.Equal(t, "expired_token", refusal(device), "it is given out once")
	cli := *s
	cli.token = out["access_token"].(string)
	var me Me
	cli.call("GET", "/api/v1/me", "", &me)
	assert.Equal(t, []string{"walks", "reader"}, []string{me.Name, string(me.Role)}, "it may what whoever let it in may")
	cli.refused("POST", "/api/v1/wards/x/runs", `{"kind": "sync"}`, 403, "walks is a reader's")

	device, code = begin()
	require.Equal(t, 204, reader.call("POST", "/api/v1/devices/"+code, `{"let": false}`, nil).StatusCode)
	assert.Equal(t, "access_denied", refusal(device))
	assert.Equal(t, "expired_token", refusal(device))

	for range 18 { // two wrong ones were tried above
		reader.call("GET", "/api/v1/devices/XXXX-XXXX", "", nil)
	}
	_, code = begin()
	for range 2 {
		reader.call("GET", "/api/v1/devices/XXXX-XXXX", "", nil)
	}
	reader.refused("GET", "/api/v1/devices/"+code, "", 409, "too many codes that are none")
	assert.Equal(t, 200, s.call("GET", "/api/v1/devices/"+code, "", nil).StatusCode, "others go on")
	for range 20 {
		status, out = ask("/sign-in/device", nil)
	}
	assert.Equal(t, 400, status)
	assert.Equal(t, "temporarily_unavailable", out["error"])
}

// TestWhoIsNotKnownIsNotNobody: where the record can't say who may sign in, nobody is told that their sign-in has ended, and it goes on once it can.
func TestWhoIsNotKnownIsNotNobody(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	store, err := record.Open(ctx, dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, store.Close()) })
	require.NoError(t, store.PutProvider(ctx, record.Provider{Name: "brindle", ProviderMore: record.ProviderMore{Issuer: "https://sign-in.brindle.example", Client: "vigila", Given: grant.Given{Readers: []string{"everybody"}}}}))
	now := time.Now()
	require.NoError(t, store.AddSession(ctx, record.Session{Hash: keeper.HashToken("vigila_session_x"), Made: now, Used: now, Ends: now.Add(time.Hour), SessionMore: record.SessionMore{Who: grant.Identity{Provider: "brindle", Subject: "1", Name: "reader@brindle.example"}, Through: "console"}}))
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "vigila.db")+"?_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	_, err = db.Exec(`UPDATE providers SET more='{' || more`)
	require.NoError(t, err)
	k, err := keeper.New(ctx, store, keeper.Options{MirrorDir: t.TempDir()}, slog.New(slog.DiscardHandler))
	require.NoError(t, err, "the service starts all the same")
	t.Cleanup(k.Close)
	handler := New(Options{Keeper: k, Console: fstest.MapFS{}, Version: "test", Log: slog.New(slog.DiscardHandler)})
	me := func() int {
		r := httptest.NewRequest("GET", "/api/v1/me", nil)
		r.Header.Set("Authorization", "Bearer vigila_session_x")
		w := httptest.NewRecorder()
		handler.ServeHTTP(w, r)
		return w.Code
	}
	assert.Equal(t, http.StatusInternalServerError, me())
	_, err = db.Exec(`UPDATE providers SET more=substr(more, 2)`)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, me())
}
