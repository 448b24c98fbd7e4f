package secrets

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhenATokenEnds(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		signIn string
		want   time.Time
		fails  bool
	}{
		"it ends":          {200, `{"data": {"expire_time": "2026-12-05T06:00:00.5Z", "ttl": 700000}}`, ByToken, time.Date(2026, 12, 5, 6, 0, 0, 5e8, time.UTC), false},
		"it does not":      {200, `{"data": {"expire_time": null, "ttl": 0}}`, ByToken, time.Time{}, false},
		"nothing is told":  {200, `{"data": {}}`, ByToken, time.Time{}, false},
		"no time":          {200, `{"data": {"expire_time": "soon"}}`, ByToken, time.Time{}, true},
		"it may not ask":   {403, `{"errors": ["permission denied"]}`, ByToken, time.Time{}, true},
		"a role renews it": {500, ``, ByRole, time.Time{}, false},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, "/v1/auth/token/lookup-self", r.URL.Path)
			w.WriteHeader(c.status)
			_, _ = w.Write([]byte(c.body))
		}))
		s, err := NewKV("harbour", KV{URL: server.URL, Mount: "secret", SignIn: c.signIn, Role: "gate", Secret: "the-token"})
		require.NoError(t, err)
		end, err := s.(Ender).Ends(t.Context())
		server.Close()
		assert.Equal(t, c.fails, err != nil, name)
		assert.True(t, c.want.Equal(end), "%s: %s", name, end)
	}
}

// TestWhatAStoreAnswers: what every answer means, so that nothing is called missing that is not, and nothing bad of one path is said of all.
func TestWhatAStoreAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		none   bool
		away   bool
		silent bool
		says   string
	}{
		"nothing there":           {status: 404, body: `{"errors": []}`, none: true},
		"a deleted version":       {status: 404, body: `{"data": {"data": null, "metadata": {"version": 2, "created_time": "2026-11-20T06:00:00Z", "deletion_time": "2026-11-20T07:00:00Z", "destroyed": false}}}`, none: true},
		"no such mount":           {status: 404, body: `{"errors": ["no handler for route"]}`, says: "refuses reading gate (404): no handler for route"},
		"forbidden":               {status: 403, body: `{"errors": ["permission denied: the-token"]}`, says: "forbids reading gate: permission denied: …"},
		"too often":               {status: 429, body: `{"errors": ["slower"]}`, away: true, says: "can't answer now (429): slower"},
		"broken":                  {status: 500, body: `{"errors": ["oh"]}`, away: true, says: "can't answer now (500): oh"},
		"sealed":                  {status: 503, body: `{"errors": ["sealed"]}`, away: true, says: "can't answer now (503): sealed"},
		"a page":                  {status: 200, body: `<html>Welcome</html>`, away: true, says: "gives an answer that can't be read"},
		"elsewhere":               {status: 302, says: "sends elsewhere (302), which is not followed"},
		"an empty answer":         {status: 200, body: ``, away: true},
		"a value that is no text": {status: 200, body: `{"data": {"data": {"a": 7, "b": {"c": true}, "d": null}, "metadata": {"version": 3, "created_time": "2026-11-20T06:00:00Z", "deletion_time": "", "destroyed": false}}}`},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, "the-token", r.Header.Get("X-Vault-Token"))
			w.Header().Set("Location", "http://127.0.0.1:1/")
			w.WriteHeader(c.status)
			_, _ = w.Write([]byte(c.body))
		}))
		s, err := NewKV("harbour", KV{URL: server.URL, Mount: "secret", SignIn: ByToken, Secret: "the-token"})
		require.NoError(t, err)
		v, err := s.Read(t.Context(), "gate")
		if name == "a deleted version" { // a value is set on top of it
			gone, err := s.(*kv).read(t.Context(), "gate")
			require.ErrorIs(t, err, ErrNone)
			assert.Equal(t, 2, gone.Meta.Version)
		}
		server.Close()
		if name == "a value that is no text" {
			require.NoError(t, err)
			assert.Equal(t, Values{Version: "3", Keys: map[string]string{"a": "7", "b": `{"c":true}`, "d": ""}}, v)
			continue
		}
		require.Error(t, err, name)
		assert.Equal(t, c.none, errors.Is(err, ErrNone), name)
		assert.NotContains(t, err.Error(), "the-token", name)
		if c.none {
			continue
		}
		var own *Error
		require.ErrorAs(t, err, &own, name)
		assert.Equal(t, c.away, own.Away, "%s: %v", name, err)
		assert.Equal(t, c.silent, own.Silent, name)
		assert.Contains(t, err.Error(), c.says, name)
		assert.Contains(t, err.Error(), "store harbour", name)
	}
	s, err := NewKV("harbour", KV{URL: "http://127.0.0.1:1", Mount: "secret", SignIn: ByToken, Secret: "the-token"})
	require.NoError(t, err)
	_, err = s.Read(t.Context(), "gate")
	var own *Error
	require.ErrorAs(t, err, &own)
	assert.True(t, own.Away && own.Silent, "nobody is there")
	for _, c := range []KV{{URL: "http://192.0.2.1", Mount: "secret", SignIn: ByToken, Secret: "x"}, {URL: "https://192.0.2.1", SignIn: ByToken, Secret: "x"}, {URL: "https://192.0.2.1", Mount: "secret", SignIn: ByToken}, {URL: "https://192.0.2.1", Mount: "secret", SignIn: ByRole, Role: "x"}, {URL: "https://192.0.2.1", Mount: "secret", SignIn: ByKubernetes}} {
		_, err := NewKV("harbour", c)
		require.Error(t, err)
	}
}
