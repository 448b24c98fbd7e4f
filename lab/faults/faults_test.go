package faults

import (
	"crypto/tls"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"k8s.io/client-go/rest"
)

func TestEachFault(t *testing.T) {
	const text = "a whole answer of some length"
	behind := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, text) }))
	defer behind.Close()
	p, err := Start(&rest.Config{Host: behind.URL}, 1)
	require.NoError(t, err)
	defer p.Close()
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}} //nolint:gosec // its own certificate, on loopback
	get := func(query string) (int, string, error) {
		r, err := client.Get(p.URL + "/x" + query)
		if err != nil {
			return 0, "", err
		}
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		return r.StatusCode, string(b), err
	}
	control := httptest.NewServer(p.Control())
	defer control.Close()
	set := func(kind string) int {
		r, err := http.Post(control.URL+"/"+kind, "", nil)
		require.NoError(t, err)
		_ = r.Body.Close()
		return r.StatusCode
	}
	code, body, err := get("")
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, code)
	assert.Equal(t, text, body)

	require.Equal(t, http.StatusOK, set("half"))
	_, body, err = get("")
	require.Error(t, err, "it breaks off")
	assert.Equal(t, text[:len(text)/2], body)
	require.Equal(t, http.StatusOK, set("busy"))
	code, body, err = get("")
	require.NoError(t, err)
	assert.Contains(t, []int{429, 500, 503}, code)
	assert.Contains(t, body, "a bad moment")
	require.Equal(t, http.StatusOK, set("gone"))
	_, body, err = get("?watch=true")
	require.NoError(t, err)
	assert.Contains(t, body, `"code":410`)
	_, body, err = get("")
	require.NoError(t, err)
	assert.Equal(t, text, body, "only watches are told that something is gone")
	require.Equal(t, http.StatusOK, set("slow?delay=1ms"))
	_, body, err = get("")
	require.NoError(t, err)
	assert.Equal(t, text, body)
	require.Equal(t, http.StatusOK, set("down"))
	_, _, err = get("")
	require.Error(t, err)
	require.Equal(t, http.StatusOK, set("silent"))
	held := make(chan error, 1)
	go func() { _, _, err := get(""); held <- err }()
	require.Eventually(t, func() bool { return strings.Contains(p.Counts(), "silent 1") }, 10*time.Second, time.Millisecond)
	require.Equal(t, http.StatusOK, set("none"))
	require.Error(t, <-held, "what was held back is let go")
	assert.Equal(t, http.StatusNotFound, set("earthquake"))
	assert.Equal(t, http.StatusBadRequest, set("busy?share=many"))
}
