package signin

import (
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/grant"
)

type claims = map[string]any

// forger is a provider that says whatever a test wants.
type forger struct {
	*httptest.Server
	t        *testing.T
	key      *rsa.PrivateKey
	more     claims // of discovery
	token    func(f url.Values) (status int, answer claims)
	userinfo claims
}

func forge(t *testing.T) *forger {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	f := &forger{t: t, key: key}
	mux := http.NewServeMux()
	say := func(w http.ResponseWriter, status int, v any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		assert.NoError(t, json.NewEncoder(w).Encode(v))
	}
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		all := claims{"issuer": f.URL, "authorization_endpoint": f.URL + "/authorize", "token_endpoint": f.URL + "/token", "jwks_uri": f.URL + "/keys", "userinfo_endpoint": f.URL + "/userinfo", "id_token_signing_alg_values_supported": []string{"RS256"}}
		maps.Copy(all, f.more)
		say(w, 200, all)
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		say(w, 200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "k", Algorithm: "RS256", Use: "sig"}}})
	})
	mux.HandleFunc("/userinfo", func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer access", r.Header.Get("Authorization"))
		say(w, 200, f.userinfo)
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		assert.NoError(t, r.ParseForm())
		status, answer := f.token(r.Form)
		say(w, status, answer)
	})
	f.Server = httptest.NewServer(mux)
	t.Cleanup(f.Close)
	return f
}

func (f *forger) sign(key any, alg jose.SignatureAlgorithm, c claims) string {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: alg, Key: key}, (&jose.SignerOptions{}).WithHeader("kid", "k"))
	require.NoError(f.t, err)
	text, err := jwt.Signed(signer).Claims(c).Serialize()
	require.NoError(f.t, err)
	return text
}

func (f *forger) provider(c Config) *Provider {
	c.Name, c.Issuer, c.Client, c.Secret, c.Back = "brindle", f.URL, "vigila", "kept-secret-q7", "http://127.0.0.1:7740/sign-in/back"
	p, err := Discover(f.t.Context(), c)
	require.NoError(f.t, err)
	return p
}

// TestWhoItIs: what a provider says is held against everything that it could be wrong in.
func TestWhoItIs(t *testing.T) {
	f := forge(t)
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	flow, address := f.provider(Config{Scopes: []string{"groups"}}).Begin("/wards/x", time.Now())
	u, err := url.Parse(address)
	require.NoError(t, err)
	q := u.Query()
	assert.Equal(t, []string{"vigila", "code", "http://127.0.0.1:7740/sign-in/back", "openid profile email groups", flow.State, flow.Nonce, "S256"},
		[]string{q.Get("client_id"), q.Get("response_type"), q.Get("redirect_uri"), q.Get("scope"), q.Get("state"), q.Get("nonce"), q.Get("code_challenge_method")})
	assert.NotContains(t, address, "kept-secret-q7")
	assert.NotContains(t, address, flow.Verifier, "its digest alone is on the way")
	assert.True(t, flow.Same(flow.State))
	assert.False(t, flow.Same(flow.State+"x") || flow.Same("") || Flow{}.Same(""))
	again, _ := f.provider(Config{}).Begin("/", time.Now())
	assert.NotEqual(t, flow.State, again.State)

	good := func() claims {
		return claims{"iss": f.URL, "aud": "vigila", "sub": "s-1", "exp": time.Now().Add(time.Minute).Unix(), "iat": time.Now().Unix(), "nonce": flow.Nonce, "email": "reader@brindle.example", "email_verified": true, "groups": []string{"ticketing"}}
	}
	with := func(more claims) claims { c := good(); maps.Copy(c, more); return c }
	without := func(name string) claims { c := good(); delete(c, name); return c }
	who := grant.Identity{Provider: "brindle", Subject: "s-1", Name: "reader@brindle.example", Groups: []string{"ticketing"}}
	named := func(name string) grant.Identity { x := who; x.Name = name; return x }
	for _, c := range []struct {
		name   string
		conf   Config
		claims claims
		token  string
		want   grant.Identity
		wrong  string
	}{
		{name: "all is right", claims: good(), want: who},
		{name: "an email that nobody has verified is no name", claims: with(claims{"email_verified": false}), want: named("s-1")},
		{name: "nor one of which nobody says so", claims: without("email_verified"), want: named("s-1")},
		{name: "called by another claim", conf: Config{Names: "preferred_username"}, claims: with(claims{"preferred_username": "reader"}), want: named("reader")},
		{name: "which is not there", conf: Config{Names: "preferred_username"}, claims: good(), wrong: "there is no preferred_username"},
		{name: "groups by another claim", conf: Config{Groups: "roles"}, claims: with(claims{"roles": "ticketing"}), want: who},
		{name: "one made for us, among others", claims: with(claims{"aud": []string{"x", "vigila"}, "azp": "vigila"}), want: who},
		{name: "another audience", claims: with(claims{"aud": "x"}), wrong: `expected audience "vigila"`},
		{name: "another client among several", claims: with(claims{"aud": []string{"x", "vigila"}, "azp": "x"}), wrong: "made for another client"},
		{name: "several without the client", claims: with(claims{"aud": []string{"x", "vigila"}}), wrong: "made for another client"},
		{name: "another issuer", claims: with(claims{"iss": "https://sign-in.brindle.example"}), wrong: "different provider"},
		{name: "ended", claims: with(claims{"exp": time.Now().Add(-time.Hour).Unix()}), wrong: "expired"},
		{name: "not yet", claims: with(claims{"nbf": time.Now().Add(time.Hour).Unix()}), wrong: "before the nbf"},
		{name: "of another sign-in", claims: with(claims{"nonce": again.Nonce}), wrong: "another sign-in (nonce)"},
		{name: "of none", claims: without("nonce"), wrong: "another sign-in (nonce)"},
		{name: "signed with another key", token: f.sign(other, jose.RS256, good()), wrong: "failed to verify"},
		{name: "signed with what everybody knows", token: f.sign([]byte(strings.Repeat("kept-secret-q7", 4)), jose.HS256, good()), wrong: "can't be trusted"},
		{name: "not signed", token: "eyJhbGciOiJub25lIn0.e30.", wrong: "can't be trusted"},
		{name: "no token", token: "x", wrong: "can't be trusted"},
		{name: "a name over several lines", claims: with(claims{"email": "x\nadmin"}), wrong: "no name that can be written down"},
		{name: "a name that turns the line round", claims: with(claims{"email": "x\u202eadmin"}), wrong: "no name that can be written down"},
		{name: "groups that are no list", claims: with(claims{"groups": claims{"a": 1}}), wrong: "groups is no list"},
		{name: "groups without a name", claims: with(claims{"groups": []any{1}}), wrong: "that has no name"},
		{name: "very many groups", claims: with(claims{"groups": make([]string, 2001)}), wrong: "2001 groups; at most 2000"},
	} {
		text := c.token
		if c.claims != nil {
			text = f.sign(f.key, jose.RS256, c.claims)
		}
		f.token = func(in url.Values) (int, claims) {
			assert.Equal(t, []string{"the-code", "authorization_code", flow.Verifier}, []string{in.Get("code"), in.Get("grant_type"), in.Get("code_verifier")})
			return 200, claims{"access_token": "access", "token_type": "Bearer", "id_token": text}
		}
		got, err := f.provider(c.conf).Finish(t.Context(), flow, "the-code")
		if c.wrong == "" {
			require.NoError(t, err, c.name)
			assert.Equal(t, c.want, got, c.name)
			continue
		}
		require.ErrorContains(t, err, c.wrong, c.name)
		assert.NotContains(t, err.Error(), text, c.name)
	}

	// Groups that are not in the token are asked for, and believed of the same person alone.
	f.token = func(url.Values) (int, claims) {
		return 200, claims{"access_token": "access", "token_type": "Bearer", "id_token": f.sign(f.key, jose.RS256, without("groups"))}
	}
	f.userinfo = claims{"sub": "s-1", "groups": []string{"ticketing"}, "email": "admin@brindle.example"}
	got, err := f.provider(Config{}).Finish(t.Context(), flow, "the-code")
	require.NoError(t, err)
	assert.Equal(t, who, got, "what was signed is not what userinfo says beside it")
	f.userinfo = claims{"sub": "s-2", "groups": []string{"harbour-ops"}}
	_, err = f.provider(Config{}).Finish(t.Context(), flow, "the-code")
	assert.ErrorContains(t, err, "tells of somebody else")

	for want, answer := range map[string]claims{"does not take the code: invalid_grant: it was used": {"error": "invalid_grant", "error_description": "it was used"}, "it answers 400": {}} {
		f.token = func(url.Values) (int, claims) { return 400, answer }
		_, err = f.provider(Config{}).Finish(t.Context(), flow, "the-code")
		assert.ErrorContains(t, err, want)
	}
	f.token = func(url.Values) (int, claims) { return 200, claims{"access_token": "access", "token_type": "Bearer"} }
	_, err = f.provider(Config{}).Finish(t.Context(), flow, "the-code")
	assert.ErrorContains(t, err, "says nothing of who it is")
}

func TestDiscovery(t *testing.T) {
	f := forge(t)
	for want, c := range map[string]Config{
		`issuer: "" is no address`: {}, `issuer: "file:///etc/passwd" is no address`: {Issuer: "file:///etc/passwd"}, "issuer: http://sign-in.brindle.example can be changed on its way": {Issuer: "http://sign-in.brindle.example"},
		"client: write the id": {Issuer: f.URL}, "ca: there is no certificate": {Issuer: f.URL, Client: "x", CA: "x"}, "is no address of a provider": {Issuer: "https://a:b@sign-in.brindle.example"},
		"can't be asked at " + f.URL + "/x/.well-known": {Issuer: f.URL + "/x", Client: "x"}, "/.well-known/openid-configuration: Get": {Issuer: "http://127.0.0.1:1", Client: "x"},
	} {
		_, err := Discover(t.Context(), c)
		assert.ErrorContains(t, err, want, fmt.Sprint(c))
	}
	for want, more := range map[string]claims{
		"did not match": {"issuer": "https://sign-in.brindle.example"}, "its token_endpoint is \"http://192.0.2.1/t\"": {"token_endpoint": "http://192.0.2.1/t"},
		"its authorization_endpoint is \"javascript:x\"": {"authorization_endpoint": "javascript:x"}, "the answer has more than": {"x": strings.Repeat("x", maxAnswer)},
	} {
		f.more = more
		_, err := Discover(t.Context(), Config{Name: "brindle", Issuer: f.URL, Client: "x"})
		assert.ErrorContains(t, err, want)
		assert.Less(t, len(err.Error()), 600)
	}
}
