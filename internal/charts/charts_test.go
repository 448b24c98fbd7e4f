package charts

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packedAs is a gzip of tar with one file.
func packedAs(name, text string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	t := tar.NewWriter(z)
	_ = t.WriteHeader(&tar.Header{Name: name, Size: int64(len(text)), Mode: 0o600, Typeflag: tar.TypeReg})
	_, _ = t.Write([]byte(text))
	_, _ = t.Close(), z.Close()
	return b.String()
}

// TestWhatIsNoChartIsNotKept: a server can't place a file of its own on the service's disk.
func TestWhatIsNoChartIsNotKept(t *testing.T) {
	for what, data := range map[string]string{"a kubeconfig": "apiVersion: v1\nkind: Config\n", "another archive": packedAs("gate/values.yaml", "a: 1"), "outside": packedAs("../Chart.yaml", ""), "nothing": ""} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/index.yaml" {
				fmt.Fprint(w, "entries: {gate: [{version: 1.0.0, urls: [gate.tgz]}]}\n")
				return
			}
			fmt.Fprint(w, data)
		}))
		dir := t.TempDir()
		_, err := Open(dir, Source{Name: "charts", URL: server.URL}).Load(t.Context(), "gate", "1.x")
		require.ErrorContains(t, err, "is no chart, and is not kept", what)
		require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			assert.True(t, err != nil || d.IsDir(), path)
			return err
		}))
		server.Close()
	}
}

func TestAChartIsWhatTheIndexSays(t *testing.T) {
	asked, signed := map[string]int{}, map[string]bool{}
	note := func(where string, r *http.Request) {
		asked[where]++
		_, _, signed[where] = r.BasicAuth()
	}
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		note("elsewhere", r)
		fmt.Fprint(w, packedAs("gate/Chart.yaml", "far"))
	}))
	defer elsewhere.Close()
	first := packedAs("gate/Chart.yaml", "near")
	sum := sha256.Sum256([]byte(first))
	index := fmt.Sprintf("entries:\n  gate:\n    - {version: 1.2.0, digest: %s, urls: [gate-1.2.0.tgz]}\n    - {version: 1.10.0, digest: %s, urls: [gate-1.10.0.tgz]}\n    - {version: odd, urls: [x]}\n    - {version: 3.0.0, urls: [%s/gate.tgz]}\n",
		hex.EncodeToString(sum[:]), hex.EncodeToString(sum[:]), elsewhere.URL)
	near := first
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
	assert.Equal(t, Chart{[]byte(first), "1.10.0", "sha256:" + hex.EncodeToString(sum[:])}, c, "the newest by version, not by text")
	_, err = s.Load(t.Context(), "gate", "^1.2")
	require.NoError(t, err)
	assert.Equal(t, 1, asked["/charts/gate-1.10.0.tgz"], "it is fetched once")
	assert.True(t, signed["/charts/gate-1.10.0.tgz"])
	c, err = s.Load(t.Context(), "gate", ">=3")
	require.NoError(t, err)
	assert.Equal(t, packedAs("gate/Chart.yaml", "far"), string(c.Data))
	assert.False(t, signed["elsewhere"], "credentials go to their own host alone")

	kept, err := filepath.Glob(filepath.Join(dir, "charts.charts", "*.tgz"))
	require.NoError(t, err)
	require.Len(t, kept, 2)
	for _, f := range kept { // damaged on disk: fetched anew
		require.NoError(t, os.WriteFile(f, []byte("rust"), 0o600))
	}
	c, err = s.Load(t.Context(), "gate", "1.x")
	require.NoError(t, err)
	assert.Equal(t, first, string(c.Data))
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
	for url, want := range map[string]string{"https://a:b@host": "holds a user name or password", "file:///x": "is no chart repository's", "oci://host/charts": "", "https://host/x": "", "https://host/x?token=b": "holds a ? or a #", "a:b@host:x": "is no chart repository's"} {
		if err := CheckURL(url); want == "" {
			assert.NoError(t, err, url)
		} else {
			assert.ErrorContains(t, err, want, url)
		}
	}
}

// TestManyWardsFetchOneChartAtOnce: each gets it, and what lies on disk is whole.
func TestManyWardsFetchOneChartAtOnce(t *testing.T) {
	data := packedAs("gate/Chart.yaml", strings.Repeat("near ", 1000))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/index.yaml" {
			fmt.Fprint(w, "entries: {gate: [{version: 1.0.0, urls: [gate.tgz]}]}\n")
			return
		}
		fmt.Fprint(w, data)
	}))
	defer server.Close()
	dir := t.TempDir()
	s := Open(dir, Source{Name: "charts", URL: server.URL})
	require.NoError(t, s.Refresh(t.Context()))
	errs := make([]error, 64)
	var all sync.WaitGroup
	for i := range errs {
		all.Go(func() { _, errs[i] = s.Load(t.Context(), "gate", "1.x") })
	}
	all.Wait()
	require.NoError(t, errors.Join(errs...))
	kept, err := filepath.Glob(filepath.Join(dir, "charts.charts", "*"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	got, err := os.ReadFile(kept[0])
	require.NoError(t, err)
	assert.Equal(t, data, string(got))
}
