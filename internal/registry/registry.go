// Package registry asks registries, by the protocol of the Open Container Initiative, which versions of an image there are and what
// each of them is. Start with Source.
// Source of the protocol: https://github.com/opencontainers/distribution-spec/blob/main/spec.md
package registry

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/opencontainers/go-digest"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"oras.land/oras-go/v2/errdef"
	"oras.land/oras-go/v2/registry/remote"
	"oras.land/oras-go/v2/registry/remote/auth"
	"oras.land/oras-go/v2/registry/remote/errcode"
	"oras.land/oras-go/v2/registry/remote/retry"

	"vigila.dev/vigila/internal/core/follow"
	"vigila.dev/vigila/internal/loopback"
)

// Source is a registry and how to sign in to it.
type Source struct {
	Name     string
	Host     string // host or host:port
	User     string
	Password string
	Bearer   bool   // Password is a token
	CA       string // PEM of who signs its certificate; "" for the machine's own
}

// The bounds of what is read.
const (
	maxTags     = 100_000
	maxManifest = 4 << 20 // bytes
	timeout     = 2 * time.Minute
)

// tagForm is what a tag may be.
// Source: https://github.com/opencontainers/distribution-spec/blob/main/spec.md#pulling-manifests
var tagForm = regexp.MustCompile(`^[a-zA-Z0-9_][a-zA-Z0-9._-]{0,127}$`)

// PlainHTTP tells that it is spoken to in the clear: one on this machine, without a certificate.
func (s Source) PlainHTTP() bool {
	host := s.Host
	if i := strings.LastIndex(host, ":"); i > strings.LastIndex(host, "]") {
		host = host[:i]
	}
	return s.CA == "" && loopback.Host(strings.Trim(host, "[]"))
}

// HTTP is a client that trusts who signs its certificate.
func (s Source) HTTP() (*http.Client, error) {
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if s.CA != "" && !pool.AppendCertsFromPEM([]byte(s.CA)) {
		return nil, fmt.Errorf("%s: the certificates are not in PEM", s.Name)
	}
	return &http.Client{Timeout: timeout, CheckRedirect: withinTLS, Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, IdleConnTimeout: 5 * time.Second,
		TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}}, nil
}

// withinTLS follows where a server leads, as registries do for what they keep elsewhere, but not out of TLS: on the same host a password would go along.
func withinTLS(r *http.Request, via []*http.Request) error {
	if via[len(via)-1].URL.Scheme == "https" && r.URL.Scheme != "https" {
		return fmt.Errorf("it leads to %s://%s, out of TLS, where nothing is asked", r.URL.Scheme, r.URL.Host)
	}
	if len(via) > 10 {
		return errors.New("it leads on and on")
	}
	return nil
}

// Repository is what is kept in a registry under one name.
type Repository = remote.Repository

// Repository is one of its repositories, by its path.
func (s Source) Repository(path string) (*Repository, error) {
	r, err := remote.NewRepository(s.Host + "/" + path)
	if err != nil {
		return nil, err
	}
	if r.Client, err = s.client(); err != nil {
		return nil, err
	}
	r.PlainHTTP = s.PlainHTTP()
	return r, nil
}

// Ping asks whether it is a registry. One that wants a sign-in for that is one.
func (s Source) Ping(ctx context.Context) error {
	r, err := remote.NewRegistry(s.Host)
	if err != nil {
		return err
	}
	if r.RepositoryOptions.Client, err = s.client(); err != nil {
		return err
	}
	r.PlainHTTP = s.PlainHTTP()
	var e *errcode.ErrorResponse
	if err := r.Ping(ctx); err != nil && !(errors.As(err, &e) && e.StatusCode == http.StatusUnauthorized) {
		return err
	}
	return nil
}

func (s Source) client() (*auth.Client, error) {
	c, err := s.HTTP()
	if err != nil {
		return nil, err
	}
	c.Transport = retry.NewTransport(c.Transport) // 429 and Retry-After
	client := &auth.Client{Client: c, Cache: auth.NewCache(), Header: http.Header{"User-Agent": {"vigila"}}}
	if s.User != "" || s.Password != "" {
		cred := auth.Credential{Username: s.User, Password: s.Password}
		if s.Bearer {
			cred = auth.Credential{AccessToken: s.Password}
		}
		client.Credential = auth.StaticCredential(s.Host, cred)
	}
	return client, nil
}

// Image asks about one image.
type Image struct {
	source Source
	path   string
	repo   *remote.Repository
}

// Image is one of its images, by its path.
func (s Source) Image(path string) (*Image, error) {
	r, err := s.Repository(path)
	if err != nil {
		return nil, fmt.Errorf("image %s/%s: %w", s.Host, path, err)
	}
	return &Image{s, path, r}, nil
}

// Tags lists all of its tags, in the registry's order.
func (i *Image) Tags(ctx context.Context) (out []string, err error) {
	err = i.repo.Tags(ctx, "", func(tags []string) error {
		for _, t := range tags {
			if tagForm.MatchString(t) { // what is none can't be asked for, and goes nowhere
				out = append(out, t)
			}
		}
		if len(out) > maxTags {
			return fmt.Errorf("it has more than %d tags", maxTags)
		}
		return nil
	})
	if err != nil {
		return nil, i.wrong("the tags", err)
	}
	return out, nil
}

// Digest is what a tag leads to now.
func (i *Image) Digest(ctx context.Context, tag string) (string, error) {
	d, err := i.repo.Resolve(ctx, tag)
	if err != nil {
		return "", i.wrong("tag "+tag, err)
	}
	return d.Digest.String(), nil
}

// Facts reads what an image of a digest is: for which platforms, and when it was made.
func (i *Image) Facts(ctx context.Context, of string) (follow.Facts, error) {
	out := follow.Facts{Digest: of}
	var index ocispec.Index
	var manifest ocispec.Manifest
	body, err := i.read(ctx, of)
	if err == nil {
		err = errors.Join(json.Unmarshal(body, &index), json.Unmarshal(body, &manifest))
	}
	if err != nil {
		return out, i.wrong(of, err)
	}
	if len(index.Manifests) == 0 {
		return i.single(ctx, manifest, out)
	}
	for _, m := range index.Manifests {
		if m.Platform == nil || m.Platform.OS == "unknown" { // attestations are listed beside
			continue
		}
		out.Platforms = append(out.Platforms, platform(*m.Platform))
		if out.Created.IsZero() { // all of them were made together
			var one ocispec.Manifest
			if body, err := i.read(ctx, m.Digest.String()); err == nil && json.Unmarshal(body, &one) == nil {
				if f, err := i.single(ctx, one, follow.Facts{}); err == nil {
					out.Created = f.Created
				}
			}
		}
	}
	return out, nil
}

// single reads the configuration of an image for one platform.
func (i *Image) single(ctx context.Context, m ocispec.Manifest, out follow.Facts) (follow.Facts, error) {
	if m.Config.Digest == "" {
		return out, i.wrong(out.Digest, errors.New("it is no image: it has no configuration"))
	}
	if m.Config.Size > maxManifest {
		return out, i.wrong(out.Digest, fmt.Errorf("its configuration has more than %d bytes", maxManifest))
	}
	blob, err := i.repo.Blobs().Fetch(ctx, m.Config)
	if err != nil {
		return out, i.wrong(out.Digest, err)
	}
	defer blob.Close()
	body, err := whole(blob, m.Config.Digest.String())
	var c ocispec.Image
	if err == nil {
		err = json.Unmarshal(body, &c)
	}
	if err != nil {
		return out, i.wrong("the configuration of "+out.Digest, err)
	}
	if c.OS != "" {
		out.Platforms = []string{platform(c.Platform)}
	}
	if c.Created != nil {
		out.Created = *c.Created
	}
	return out, nil
}

func platform(p ocispec.Platform) string {
	out := p.OS + "/" + p.Architecture
	if p.Variant != "" {
		out += "/" + p.Variant
	}
	return out
}

// read reads a manifest, which must be what its digest says.
func (i *Image) read(ctx context.Context, of string) ([]byte, error) {
	if _, err := digest.Parse(of); err != nil {
		return nil, err
	}
	_, body, err := i.repo.FetchReference(ctx, of)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	return whole(body, of)
}

// whole reads all of something whose digest is known.
func whole(r io.Reader, of string) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, maxManifest+1))
	if err != nil {
		return nil, err
	}
	if len(b) > maxManifest {
		return nil, fmt.Errorf("it has more than %d bytes", maxManifest)
	}
	d, err := digest.Parse(of)
	if err != nil {
		return nil, err
	}
	if now := d.Algorithm().FromBytes(b); now != d {
		return nil, fmt.Errorf("the registry lies: it is not what its digest says, but %s", now)
	}
	return b, nil
}

// wrong says what could not be read, and what to do where that is known.
func (i *Image) wrong(what string, err error) error {
	var e *errcode.ErrorResponse
	mend := ""
	switch {
	case errors.As(err, &e) && (e.StatusCode == http.StatusUnauthorized || e.StatusCode == http.StatusForbidden):
		mend = fmt.Sprintf("; it wants a sign-in that may read it: vigila registry add %s %s --user USER --password-file FILE", i.source.Name, i.source.Host)
	case errors.As(err, &e) && e.StatusCode == http.StatusTooManyRequests:
		mend = "; it was asked too often, and is asked again later"
	case errors.Is(err, errdef.ErrNotFound), errors.As(err, &e) && e.StatusCode == http.StatusNotFound:
		return fmt.Errorf("registry %s has no %s of %s/%s", i.source.Name, strings.TrimPrefix(what, "the "), i.source.Host, i.path)
	}
	return fmt.Errorf("registry %s: %s of %s/%s can't be read: %w%s", i.source.Name, what, i.source.Host, i.path, err, mend)
}
