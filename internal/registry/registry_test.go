package registry

import (
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	inmemory "github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/follow"
)

var made = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

func image(t *testing.T, os, arch string) v1.Image {
	t.Helper()
	im, err := random.Image(64, 1)
	require.NoError(t, err)
	c, err := im.ConfigFile()
	require.NoError(t, err)
	c = c.DeepCopy()
	c.OS, c.Architecture, c.Created = os, arch, v1.Time{Time: made}
	im, err = mutate.ConfigFile(im, c)
	require.NoError(t, err)
	return im
}

func push(t *testing.T, host, at string, im v1.Image) string {
	t.Helper()
	ref, err := name.ParseReference(host + "/" + at)
	require.NoError(t, err)
	require.NoError(t, remote.Write(ref, im))
	d, err := im.Digest()
	require.NoError(t, err)
	return d.String()
}

func TestWhatARegistryTells(t *testing.T) {
	server := httptest.NewServer(inmemory.New(inmemory.Logger(log.New(io.Discard, "", 0))))
	defer server.Close()
	host := strings.TrimPrefix(server.URL, "http://")
	amd := image(t, "linux", "amd64")
	one := push(t, host, "harbour/gate:2.8.1", amd)
	both := mutate.AppendManifests(empty.Index,
		mutate.IndexAddendum{Add: amd, Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: "linux", Architecture: "amd64"}}},
		mutate.IndexAddendum{Add: image(t, "linux", "arm64"), Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: "linux", Architecture: "arm64", Variant: "v8"}}},
		mutate.IndexAddendum{Add: image(t, "", ""), Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: "unknown", Architecture: "unknown"}}})
	ref, err := name.ParseReference(host + "/harbour/gate:2.9.0")
	require.NoError(t, err)
	require.NoError(t, remote.WriteIndex(ref, both))

	i, err := Source{Name: "harbour", Host: host}.Image("harbour/gate")
	require.NoError(t, err)
	tags, err := i.Tags(t.Context())
	require.NoError(t, err)
	slices.Sort(tags)
	assert.Equal(t, []string{"2.8.1", "2.9.0"}, tags)
	got, err := i.Digest(t.Context(), "2.8.1")
	require.NoError(t, err)
	assert.Equal(t, one, got)
	facts, err := i.Facts(t.Context(), one)
	require.NoError(t, err)
	assert.Equal(t, follow.Facts{Digest: one, Platforms: []string{"linux/amd64"}, Created: made}, facts)
	index, err := i.Digest(t.Context(), "2.9.0")
	require.NoError(t, err)
	facts, err = i.Facts(t.Context(), index)
	require.NoError(t, err)
	assert.Equal(t, []string{"linux/amd64", "linux/arm64/v8"}, facts.Platforms, "what is no image is passed over")
	assert.True(t, made.Equal(facts.Created))

	_, err = i.Digest(t.Context(), "9.9.9")
	assert.ErrorContains(t, err, "registry harbour has no tag 9.9.9 of "+host+"/harbour/gate")
	other, err := Source{Name: "harbour", Host: host}.Image("harbour/none")
	require.NoError(t, err)
	_, err = other.Tags(t.Context())
	assert.ErrorContains(t, err, "registry harbour has no tags of")
	require.NoError(t, Source{Host: host}.Ping(t.Context()))
}

func TestARegistryWithPagesSignInAndLimits(t *testing.T) {
	var asked atomic.Int32
	body := `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"sha256:` + strings.Repeat("0", 64) + `","size":2},"layers":[]}`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != "crew" || password != "spring-tide" {
			w.Header().Set("WWW-Authenticate", `Basic realm="harbour"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		switch {
		case strings.HasSuffix(r.URL.Path, "/tags/list") && r.URL.Query().Get("last") == "":
			if asked.Add(1) == 1 {
				w.Header().Set("Retry-After", "0")
				w.WriteHeader(http.StatusTooManyRequests)
				return
			}
			w.Header().Set("Link", `</v2/gate/tags/list?last=1>; rel="next"`)
			fmt.Fprint(w, `{"name":"gate","tags":["1"]}`)
		case strings.HasSuffix(r.URL.Path, "/tags/list"):
			fmt.Fprint(w, `{"name":"gate","tags":["2","../../x","a b"]}`)
		case strings.Contains(r.URL.Path, "/manifests/"):
			w.Header().Set("Content-Type", "application/vnd.oci.image.manifest.v1+json")
			w.Header().Set("Docker-Content-Digest", strings.TrimPrefix(r.URL.Path[strings.LastIndex(r.URL.Path, "/"):], "/"))
			fmt.Fprint(w, body)
		default:
			w.WriteHeader(http.StatusOK)
		}
	}))
	defer server.Close()
	s := Source{Name: "harbour", Host: strings.TrimPrefix(server.URL, "http://"), User: "crew", Password: "spring-tide"}
	i, err := s.Image("gate")
	require.NoError(t, err)
	tags, err := i.Tags(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"1", "2"}, tags, "every page, and again after too many")

	_, err = i.Facts(t.Context(), "sha256:"+strings.Repeat("ab", 32))
	assert.ErrorContains(t, err, "the registry lies: it is not what its digest says")
	_, err = i.Facts(t.Context(), "latest")
	assert.Error(t, err, "a tag is no digest")

	s.Password = "neap-tide"
	i, err = s.Image("gate")
	require.NoError(t, err)
	_, err = i.Tags(t.Context())
	require.Error(t, err)
	assert.Contains(t, err.Error(), "it wants a sign-in that may read it: vigila registry add harbour")
	assert.NotContains(t, err.Error(), "neap-tide")
	require.NoError(t, s.Ping(t.Context()), "one that wants a sign-in is one")
	for host, plain := range map[string]bool{"127.0.0.1:5000": true, "[::1]:5000": true, "localhost": true, "registry.brindle.example": false} {
		assert.Equal(t, plain, Source{Host: host}.PlainHTTP(), host)
	}
}

// TestAPasswordStaysWithinTLS: a server may lead elsewhere, as registries do, but not on its own host out of TLS, where a password would go along.
func TestAPasswordStaysWithinTLS(t *testing.T) {
	var got atomic.Int64
	open := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { got.Add(1) }))
	defer open.Close()
	to := open.URL
	shut := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/there" {
			got.Add(100)
			return
		}
		http.Redirect(w, r, to, http.StatusFound)
	}))
	defer shut.Close()
	ca := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: shut.Certificate().Raw}))
	c, err := Source{Name: "harbour", Host: "127.0.0.1", CA: ca}.HTTP()
	require.NoError(t, err)
	_, err = c.Get(shut.URL)
	require.ErrorContains(t, err, "out of TLS")
	assert.Zero(t, got.Load())
	to = shut.URL + "/there"
	r, err := c.Get(shut.URL)
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	assert.EqualValues(t, 100, got.Load())
	to = shut.URL
	_, err = c.Get(shut.URL)
	assert.ErrorContains(t, err, "on and on")
}
