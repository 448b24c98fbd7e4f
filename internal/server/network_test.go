package server

import (
	"bufio"
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/keeper"
)

// withPushes is a service with a repository that takes pushes, and its key.
func withPushes(t testing.TB) (*testServer, string) {
	s := serve(t)
	require.Equal(t, http.StatusOK, s.call("POST", "/api/v1/repos", `{"name": "moorings", "url": "file://`+s.repo+`"}`, nil).StatusCode)
	var key PushKey
	require.Equal(t, http.StatusOK, s.call("POST", "/api/v1/repos/moorings/push-key", "", &key).StatusCode)
	return s, key.Key
}

func signed(key, body string) string {
	h := hmac.New(sha256.New, []byte(key))
	h.Write([]byte(body))
	return hex.EncodeToString(h.Sum(nil))
}

// TestABodyThatNeverComes holds nothing: not with a token, nor for a repository that takes pushes. One without either is not
// even waited for.
func TestABodyThatNeverComes(t *testing.T) {
	body, push := bodyTime, pushTime
	bodyTime, pushTime = 100*time.Millisecond, 100*time.Millisecond
	t.Cleanup(func() { bodyTime, pushTime = body, push })
	s, _ := withPushes(t)
	for name, c := range map[string]struct {
		path, header, with string
		status             int
	}{
		"with a token":         {"/api/v1/wards", "Authorization", "Bearer " + s.token, http.StatusRequestTimeout},
		"a push":               {"/api/v1/repos/moorings/pushes", "Vigila-Signature", "00", http.StatusRequestTimeout},
		"a push, as before":    {"/api/v1/repos/moorings/notices", "Vigila-Signature", "00", http.StatusRequestTimeout},
		"a push for nobody":    {"/api/v1/repos/none/pushes", "Vigila-Signature", "00", http.StatusUnauthorized},
		"an unsigned push":     {"/api/v1/repos/moorings/pushes", "X", "y", http.StatusUnauthorized},
		"without a token":      {"/api/v1/wards", "X", "y", http.StatusUnauthorized},
		"with a token of none": {"/api/v1/wards", "Authorization", "Bearer vigila_x", http.StatusUnauthorized},
	} {
		t.Run(name, func(t *testing.T) {
			conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
			require.NoError(t, err)
			defer conn.Close()
			require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
			_, err = fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: x\r\n%s: %s\r\nContent-Length: 1000\r\n\r\n{", c.path, c.header, c.with)
			require.NoError(t, err)
			r, err := http.ReadResponse(bufio.NewReader(conn), nil)
			require.NoError(t, err)
			assert.Equal(t, c.status, r.StatusCode)
			assert.True(t, r.Close, "the connection ends with it")
		})
	}
}

// TestOnlyAProxyThatIsNamedSaysWhoAsks: anybody may write X-Forwarded-For.
func TestOnlyAProxyThatIsNamedSaysWhoAsks(t *testing.T) {
	for _, c := range []struct {
		proxies []string
		want    string
	}{{nil, "127.0.0.1"}, {[]string{"10.0.0.0/8"}, "127.0.0.1"}, {[]string{"127.0.0.1"}, "192.0.2.7"}} {
		var log bytes.Buffer
		var mu sync.Mutex
		s := serve(t)
		k, err := keeper.New(t.Context(), s.store, keeper.Options{MirrorDir: t.TempDir()}, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		h := httptest.NewServer(New(Options{Keeper: k, Console: fstest.MapFS{}, Log: slog.New(slog.NewTextHandler(locked{&mu, &log}, nil)), Ending: make(chan struct{}), Proxies: c.proxies}))
		r, err := http.NewRequest("POST", h.URL+"/api/v1/repos/moorings/pushes", nil)
		require.NoError(t, err)
		r.Header.Set("X-Forwarded-For", "192.0.2.7")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		_ = answer.Body.Close()
		assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
		h.Close()
		k.Close()
		mu.Lock()
		assert.Contains(t, log.String(), "from="+c.want, "proxies %v", c.proxies)
		mu.Unlock()
	}
}

type locked struct {
	mu *sync.Mutex
	w  io.Writer
}

func (l locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.w.Write(p)
}

// FuzzPush: whatever somebody sends as a push, only the right signature is taken, and nothing is the service's mistake.
func FuzzPush(f *testing.F) {
	for _, seed := range [][4]string{{"Vigila-Signature", "00", "moorings", "{}"}, {"X-Hub-Signature-256", "sha256=00", "moorings", ""}, {"X-Hub-Signature", "sha256=", "none", "\x00"}, {"X-Gitea-Signature", strings.Repeat("f", 1000), "moorings", "x"},
		{"X-Gitlab-Token", "k", "moorings", "x"}, {"webhook-signature", "v1,AAAA v1a,", "moorings", "x"}, {"webhook-timestamp", "-9223372036854775808", "moorings", "x"}, {"Content-Length", "-1", "%2e%2e", "x"}} {
		f.Add(seed[0], seed[1], seed[2], seed[3])
	}
	s, key := withPushes(f)
	f.Fuzz(func(t *testing.T, header, value, name, body string) {
		r := httptest.NewRequest("POST", "/api/v1/repos/moorings/pushes", strings.NewReader(body))
		r.URL.Path = "/api/v1/repos/" + name + "/pushes"
		r.Header[header] = []string{value}
		w := httptest.NewRecorder()
		s.handler.ServeHTTP(w, r)
		if r.Header.Get(header) == key || strings.Contains(value, signed(key, body)) {
			return
		}
		assert.NotEqual(t, http.StatusAccepted, w.Code)
		assert.Less(t, w.Code, 500, w.Body.String())
		r = httptest.NewRequest("POST", "/api/v1/repos/moorings/pushes", strings.NewReader(body))
		r.Header.Set("Vigila-Signature", signed(key, body))
		w = httptest.NewRecorder()
		s.handler.ServeHTTP(w, r)
		if len(body) <= maxPush {
			assert.Equal(t, http.StatusAccepted, w.Code, w.Body.String())
		}
	})
}
