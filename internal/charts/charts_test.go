package charts

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAChartIsWhatTheIndexSays(t *testing.T) {
	asked, signed := map[string]int{}, map[string]bool{}
	note := func(where string, r *http.Request) {
		asked[where]++
		_, _, signed[where] = r.BasicAuth()
	}
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		note("elsewhere", r)
		fmt.Fprint(w, "far")
	}))
	defer elsewhere.Close()
	sum := sha256.Sum256([]byte("near"))
	index := fmt.Sprintf("entries:\n  gate:\n    - {version: 1.2.0, digest: %s, urls: [gate-1.2.0.tgz]}\n    - {version: 1.10.0, digest: %s, urls: [gate-1.10.0.tgz]}\n    - {version: odd, urls: [x]}\n    - {version: 3.0.0, urls: [%s/gate.tgz]}\n",
		hex.EncodeToString(sum[:]), hex.EncodeToString(sum[:]), elsewhere.URL)
	near := "near"
	home := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		note(r.URL.Path, r)
		if r.URL.Path == "/charts/index.yaml" {
			fmt.Fprint(w, index)
			return
		}
		fmt.Fprint(w, near)
	}))
	defer home.Close()
	dir := t.TempDir()
	s := Open(dir, Source{Name: "charts", URL: home.URL + "/charts", User: "vigila", Password: "open-sesame"})
	c, err := s.Load(t.Context(), "gate", "1.x")
	require.NoError(t, err)
	assert.Equal(t, Chart{[]byte("near"), "1.10.0", "sha256:" + hex.EncodeToString(sum[:])}, c, "the newest by version, not by text")
	_, err = s.Load(t.Context(), "gate", "^1.2")
	require.NoError(t, err)
	assert.Equal(t, 1, asked["/charts/gate-1.10.0.tgz"], "it is fetched once")
	assert.True(t, signed["/charts/gate-1.10.0.tgz"])
	c, err = s.Load(t.Context(), "gate", ">=3")
	require.NoError(t, err)
	assert.Equal(t, "far", string(c.Data))
	assert.False(t, signed["elsewhere"], "credentials go to their own host alone")

	kept, err := filepath.Glob(filepath.Join(dir, "charts.charts", "*.tgz"))
	require.NoError(t, err)
	require.Len(t, kept, 2)
	for _, f := range kept { // damaged on disk: fetched anew
		require.NoError(t, os.WriteFile(f, []byte("rust"), 0o600))
	}
	c, err = s.Load(t.Context(), "gate", "1.x")
	require.NoError(t, err)
	assert.Equal(t, "near", string(c.Data))
	near = "something else"
	require.NoError(t, s.Remove())
	_, err = s.Load(t.Context(), "gate", "1.x")
	assert.ErrorContains(t, err, "chart gate 1.10.0 of charts is not what its index says")

	for want, version := range map[string]string{
		`has no version of gate in "~9"; its versions are: 3.0.0, 1.10.0, 1.2.0`: "~9",
		`"latest" is neither a version nor a range of versions`:                  "latest",
	} {
		_, err = s.Load(t.Context(), "gate", version)
		assert.ErrorContains(t, err, want)
	}
	_, err = s.Load(t.Context(), "tide", "1.x")
	assert.ErrorContains(t, err, `chart repository charts has no chart "tide"; its charts are: gate`)
	for text, want := range map[string]string{"entries: [": "its index.yaml can't be read", "a: b": "its index.yaml has no entries, so it is none"} {
		index = text
		assert.ErrorContains(t, s.Refresh(t.Context()), want)
	}
	for url, want := range map[string]string{"https://a:b@host": "holds a user name or password", "file:///x": "is no chart repository's", "oci://host/charts": "", "https://host/x": ""} {
		if err := CheckURL(url); want == "" {
			assert.NoError(t, err, url)
		} else {
			assert.ErrorContains(t, err, want, url)
		}
	}
}
