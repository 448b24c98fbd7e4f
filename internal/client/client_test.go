package client

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSignInLinks(t *testing.T) {
	x, err := ParseLink("http://127.0.0.1:7740/#sign-in=vigila_abc")
	require.NoError(t, err)
	assert.Equal(t, Context{Name: "127.0.0.1:7740", URL: "http://127.0.0.1:7740", Token: "vigila_abc"}, x)
	for link, want := range map[string]string{
		"127.0.0.1:7740":                 "is not a sign-in link",
		"ftp://host/#sign-in=x":          "is not a sign-in link",
		"http://127.0.0.1:7740/":         "put it in quotes",
		"http://127.0.0.1:7740/#sign-in": "put it in quotes",
	} {
		_, err := ParseLink(link)
		assert.ErrorContains(t, err, want, link)
	}
	_, err = ParseLink("nothing#sign-in=vigila_secret")
	assert.NotContains(t, err.Error(), "vigila_secret", "an error never shows the token")
}

func TestContexts(t *testing.T) {
	file := filepath.Join(t.TempDir(), "deep", "contexts.yaml")
	t.Setenv("VIGILA_CONTEXTS", file)
	t.Setenv("VIGILA_URL", "")
	t.Setenv("VIGILA_TOKEN", "")
	_, err := Dial("")
	require.ErrorIs(t, err, ErrSignedOut)

	all, err := Load()
	require.NoError(t, err)
	all.Put(Context{Name: "a", URL: "http://a", Token: "1"})
	all.Put(Context{Name: "b", URL: "http://b", Token: "2"})
	all.Put(Context{Name: "a", URL: "http://a", Token: "3"})
	require.NoError(t, all.Save())
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	back, err := Load()
	require.NoError(t, err)
	assert.Len(t, back.Contexts, 2)
	c, err := Dial("")
	require.NoError(t, err)
	assert.Equal(t, "3", c.Context.Token, "the one signed in to last")
	c, err = Dial("b")
	require.NoError(t, err)
	assert.Equal(t, "http://b", c.Context.URL)
	_, err = Dial("c")
	assert.ErrorContains(t, err, `there is no context "c"`)

	t.Setenv("VIGILA_URL", "http://env")
	t.Setenv("VIGILA_TOKEN", "4")
	c, err = Dial("")
	require.NoError(t, err)
	assert.Equal(t, "4", c.Context.Token, "the environment wins")

	require.NoError(t, os.WriteFile(file, []byte("currnt: a"), 0o600))
	_, err = Load()
	assert.ErrorContains(t, err, "contexts.yaml can't be read")
}

func TestErrorsAreTheServicesOwnWords(t *testing.T) {
	answer := func(status int, text string) error {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, "Bearer 1", r.Header.Get("Authorization"))
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(status)
			_, _ = fmt.Fprint(w, text)
		}))
		defer s.Close()
		c, err := New(Context{URL: s.URL, Token: "1"})
		require.NoError(t, err)
		r, err := c.GetMeWithResponse(context.Background())
		return c.Check(r, err)
	}
	assert.EqualError(t, answer(404, `{"type":"about:blank","title":"Not found","status":404,"detail":"there is no ward"}`), "there is no ward")
	assert.EqualError(t, answer(409, `{"type":"about:blank","title":"Not now","status":409}`), "Not now")
	assert.EqualError(t, answer(401, `{"type":"about:blank","title":"Sign in first","status":401,"detail":"do so"}`), "Sign in first: do so")
	assert.ErrorContains(t, answer(502, `<html>`), "not as Vigila does; is the address right?")

	c, err := New(Context{URL: "http://127.0.0.1:1", Token: "1"})
	require.NoError(t, err)
	r, err := c.GetMeWithResponse(context.Background())
	assert.ErrorContains(t, c.Check(r, err), "the service at http://127.0.0.1:1 can't be reached")
}

func TestFollowTakesABrokenStreamUpAgain(t *testing.T) {
	var calls atomic.Int32
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		n := calls.Add(1)
		_, _ = fmt.Fprintf(w, ": hello\n\nevent: ward\ndata: {\"name\":\"w%d\"}\n\n", n)
	}))
	defer s.Close()
	c, err := New(Context{URL: s.URL, Token: "1"})
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	var got []Event
	lost := 0
	c.Follow(ctx, func(e Event) {
		got = append(got, e)
		if e.Name == "w2" {
			cancel()
		}
	}, func(error) { lost++ })
	assert.Equal(t, []Event{{}, {"ward", "w1"}, {}, {"ward", "w2"}}, got, "each connection starts with an event to read everything")
	assert.Equal(t, 1, lost)
}
