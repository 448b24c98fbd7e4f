package e2e

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// TestPushes: a signed push makes a push seen at once, and only the ward that it touches is rendered; anything
// else is refused and logged.
func TestPushes(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "other/bell.yaml": config("bell", "tone", "low")})
	s.add(s.wardFile("sync: auto, drift: report, every: 1h", "within: 30s"))
	s.add(fmt.Sprintf("vigila: ward/v1\nname: beside\nfrom: {repo: %[1]s, path: other}\ninto: {cluster: quay, namespace: %[1]s-beside, create_namespace: true}\nkeep: {sync: auto, every: 1h}\n", s.name))
	s.until("it is in step", inStepAndReady)

	assert.Contains(t, s.ok("repo", "pushes", s.name), "None is taken: there is no key that signs them. Make one: vigila repo pushes "+s.name+" --new-key")
	out := s.ok("repo", "pushes", s.name, "--new-key")
	assert.Contains(t, out, "curl -fsS -X POST")
	var made struct{ Key, Path string }
	require.True(t, jsonInto([]byte(s.ok("repo", "pushes", s.name, "--new-key", "-o", "json")), &made))
	send := func(path, key, body string) int {
		t.Helper()
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write([]byte(body))
		q, err := http.NewRequest(http.MethodPost, s.url+path, strings.NewReader(body))
		require.NoError(t, err)
		q.Header.Set("Vigila-Signature", hex.EncodeToString(mac.Sum(nil)))
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		return r.StatusCode
	}
	s.push("Second", map[string]string{"app/horn.yaml": config("horn", "interval", "40s")})
	for _, wrong := range []struct{ path, key string }{{made.Path, "another"}, {made.Path, ""}, {strings.Replace(made.Path, s.name, "nobody", 1), made.Key}} {
		assert.Equal(t, http.StatusUnauthorized, send(wrong.path, wrong.key, "{}"))
	}
	assert.NotContains(t, out, made.Key, "a new key replaces the old one")
	assert.Equal(t, "First", s.ward().Applied.Subject, "nothing was looked at")
	assert.Contains(t, s.log.String(), "were not signed with the right key")
	assert.NotContains(t, s.log.String(), made.Key)

	renders := s.metric("vigila_renders_total")
	for range 20 { // a storm of them is one look, or few
		assert.Equal(t, http.StatusAccepted, send(made.Path, made.Key, `{"ref": "refs/heads/main"}`))
	}
	s.until("the push is seen, long before the hour is over", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Second" })
	assert.Equal(t, renders+1, s.metric("vigila_renders_total"), "exactly the touched ward is rendered")

	assert.Contains(t, s.ok("repo", "pushes", s.name), "The last one came ")

	// After a restart nothing that has not changed is rendered.
	s.kill()
	s.start()
	s.until("it is in step again", inStepAndReady)
	assert.Zero(t, s.metric("vigila_renders_total"))
	s.fails(1, "there is no repository", "repo", "pushes", "nobody")
}
