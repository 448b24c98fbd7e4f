// Package charts fetches packaged charts from chart repositories: an index over HTTP, or an OCI registry. Start with
// Shelf.
package charts

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/Masterminds/semver/v3"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/bounded"
	"vigila.dev/vigila/internal/registry"
)

// Source is where a chart repository is and how to sign in to it.
type Source struct {
	Name     string
	URL      string // https or http: a directory with an index.yaml; oci: a registry and a path
	User     string
	Password string
	Bearer   bool
	CA       string // PEM
}

// Chart is one packaged chart.
type Chart struct {
	Data    []byte // gzip of tar
	Version string
	Digest  string // sha256:…
}

// Limits of what is fetched, in bytes.
const (
	maxIndex = 64 << 20
	maxChart = 64 << 20
)

// media is the type of the layer that holds a chart in a registry.
const media = "application/vnd.cncf.helm.chart.content.v1.tar+gzip"

// CheckURL refuses addresses that are no chart repository's.
func CheckURL(raw string) error {
	u, err := url.Parse(raw)
	switch {
	case err != nil:
		return errors.New("that is not an address; it starts with https://, http:// or oci://") // it may hold a password
	case u.User != nil:
		return errors.New("the address of the chart repository holds a user name or password; give them apart, so that they are stored encrypted")
	case u.RawQuery != "" || u.Fragment != "":
		return errors.New("the address of the chart repository holds a ? or a #, and charts lie below it; a token is given apart, so that it is stored encrypted")
	case u.Scheme != "https" && u.Scheme != "http" && u.Scheme != "oci" || u.Host == "":
		return errors.New("the address is no chart repository's: it starts with https://, http:// or oci://") // unquoted, since anything may be in it
	}
	return nil
}

// Shelf is a chart repository, with what was fetched from it kept on disk. Its methods may be called by many
// goroutines.
type Shelf struct {
	dir string

	mu       sync.Mutex
	source   Source
	index    map[string][]entry // by name, the newest version first; of an HTTP repository
	versions map[string]known   // of a registry
}

type entry struct {
	Version string   `json:"version"`
	Digest  string   `json:"digest"`
	URLs    []string `json:"urls"`
	Created string   `json:"created"` // RFC 3339, mostly
}

type known struct {
	tags []string
	at   time.Time
}

// Open makes a shelf that keeps charts below a directory. It asks nothing of the network.
func Open(dir string, s Source) *Shelf {
	return &Shelf{dir: filepath.Join(dir, s.Name+".charts"), source: s, versions: map[string]known{}}
}

// Name is the chart repository's name.
func (s *Shelf) Name() string { return s.source.Name }

// URL is its address.
func (s *Shelf) URL() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.source.URL
}

// SetSource changes the address or the credentials from the next look on.
func (s *Shelf) SetSource(n Source) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.source, s.index, s.versions = n, nil, map[string]known{}
}

// Remove deletes what was kept.
func (s *Shelf) Remove() error { return os.RemoveAll(s.dir) }

// Refresh looks at the repository anew: which charts and versions there are. A registry has no list of its charts; each
// is looked up when a ward asks for it.
func (s *Shelf) Refresh(ctx context.Context) error {
	s.mu.Lock()
	src := s.source
	s.versions = map[string]known{}
	s.mu.Unlock()
	if isOCI(src) {
		if err := registryOf(src).Ping(ctx); err != nil {
			return fmt.Errorf("chart repository %s at %s can't be read: %w", src.Name, src.URL, err)
		}
		return nil
	}
	data, err := get(ctx, src, strings.TrimSuffix(src.URL, "/")+"/index.yaml", maxIndex)
	if err != nil {
		return fmt.Errorf("chart repository %s at %s can't be read: %w", src.Name, src.URL, err)
	}
	var in struct {
		Entries map[string][]entry `json:"entries"`
	}
	if err := yaml.Unmarshal(data, &in); err != nil {
		return fmt.Errorf("chart repository %s at %s: its index.yaml can't be read: %w", src.Name, src.URL, err)
	}
	if in.Entries == nil {
		return fmt.Errorf("chart repository %s at %s: its index.yaml has no entries, so it is none", src.Name, src.URL)
	}
	for name, all := range in.Entries {
		all = slices.DeleteFunc(all, func(e entry) bool { _, err := semver.NewVersion(e.Version); return err != nil || len(e.URLs) == 0 })
		slices.SortFunc(all, func(a, b entry) int {
			return semver.MustParse(b.Version).Compare(semver.MustParse(a.Version))
		})
		in.Entries[name] = all
	}
	s.mu.Lock()
	s.index = in.Entries
	s.mu.Unlock()
	return nil
}

// Names lists the charts of an HTTP repository.
func (s *Shelf) Names() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []string
	for name := range s.index {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// Version is one version of a chart.
type Version struct {
	Version string
	Created time.Time // as its repository says; zero when it does not
}

// Versions lists the versions of a chart, as its repository has them now.
func (s *Shelf) Versions(ctx context.Context, name string) ([]Version, error) {
	if err := s.Refresh(ctx); err != nil {
		return nil, err
	}
	s.mu.Lock()
	src := s.source
	all, there := s.index[name]
	s.mu.Unlock()
	var out []Version
	if isOCI(src) {
		_, tags, err := s.tags(ctx, src, name)
		for _, t := range tags {
			out = append(out, Version{Version: strings.ReplaceAll(t, "_", "+")}) // a tag can't hold a plus
		}
		return out, err
	}
	if !there {
		return nil, fmt.Errorf("chart repository %s has no chart %q; its charts are: %s", src.Name, name, few(s.Names()))
	}
	for _, e := range all {
		created, _ := time.Parse(time.RFC3339, e.Created) // not known where it says something else
		out = append(out, Version{Version: e.Version, Created: created})
	}
	return out, nil
}

// Load finds the newest version of a chart in a range, and fetches it unless it is here already.
func (s *Shelf) Load(ctx context.Context, name, want string) (Chart, error) {
	c, err := semver.NewConstraint(want)
	if err != nil {
		return Chart{}, fmt.Errorf("chart %s: %q is neither a version nor a range of versions", name, want)
	}
	s.mu.Lock()
	src := s.source
	s.mu.Unlock()
	if isOCI(src) {
		return s.loadOCI(ctx, src, name, want, c)
	}
	s.mu.Lock()
	empty := s.index == nil
	s.mu.Unlock()
	if empty {
		if err := s.Refresh(ctx); err != nil {
			return Chart{}, err
		}
	}
	s.mu.Lock()
	all, there := s.index[name]
	s.mu.Unlock()
	if !there {
		return Chart{}, fmt.Errorf("chart repository %s has no chart %q; its charts are: %s", src.Name, name, few(s.Names()))
	}
	for _, e := range all {
		if v, err := semver.NewVersion(e.Version); err != nil || !c.Check(v) {
			continue
		}
		if e.Digest != "" {
			if data, err := os.ReadFile(s.file(e.Digest)); err == nil && sum(data) == clean(e.Digest) {
				return Chart{data, e.Version, "sha256:" + clean(e.Digest)}, nil
			}
		}
		at, err := url.Parse(src.URL + "/")
		if err != nil {
			return Chart{}, err
		}
		ref, err := at.Parse(e.URLs[0])
		if err != nil {
			return Chart{}, fmt.Errorf("chart repository %s: the address of %s %s can't be read: %w", src.Name, name, e.Version, err)
		}
		from := src
		if ref.Host != at.Host || ref.Scheme != at.Scheme {
			from.User, from.Password = "", "" // credentials go to their own host alone, and not in the clear where it is https
		}
		data, err := get(ctx, from, ref.String(), maxChart)
		if err != nil {
			return Chart{}, fmt.Errorf("chart %s %s can't be fetched: %w", name, e.Version, err)
		}
		if e.Digest != "" && sum(data) != clean(e.Digest) {
			return Chart{}, fmt.Errorf("chart %s %s of %s is not what its index says: its digest is sha256:%s, not %s", name, e.Version, src.Name, sum(data), e.Digest)
		}
		return Chart{data, e.Version, "sha256:" + sum(data)}, s.keep(data)
	}
	var versions []string
	for _, e := range all {
		versions = append(versions, e.Version)
	}
	return Chart{}, fmt.Errorf("chart repository %s has no version of %s in %q; its versions are: %s", src.Name, name, want, few(versions))
}

// tags lists the tags of a chart in a registry, once between two refreshes.
func (s *Shelf) tags(ctx context.Context, src Source, name string) (*registry.Repository, []string, error) {
	u, err := url.Parse(src.URL)
	if err != nil {
		return nil, nil, err
	}
	r, err := registryOf(src).Repository(strings.TrimPrefix(strings.TrimSuffix(u.Path, "/")+"/"+name, "/"))
	if err != nil {
		return nil, nil, fmt.Errorf("chart %s: %w", name, err)
	}
	s.mu.Lock()
	seen := s.versions[name]
	s.mu.Unlock()
	if seen.at.IsZero() {
		seen.at = time.Now()
		if err := r.Tags(ctx, "", func(tags []string) error { seen.tags = append(seen.tags, tags...); return nil }); err != nil {
			return nil, nil, fmt.Errorf("chart %s of %s: its versions can't be read: %w", name, src.URL, err)
		}
		s.mu.Lock()
		s.versions[name] = seen
		s.mu.Unlock()
	}
	return r, seen.tags, nil
}

func (s *Shelf) loadOCI(ctx context.Context, src Source, name, want string, c *semver.Constraints) (Chart, error) {
	r, tags, err := s.tags(ctx, src, name)
	if err != nil {
		return Chart{}, err
	}
	best, tag := (*semver.Version)(nil), ""
	for _, t := range tags {
		v, err := semver.NewVersion(strings.ReplaceAll(t, "_", "+")) // a tag can't hold a plus
		if err == nil && c.Check(v) && (best == nil || v.GreaterThan(best)) {
			best, tag = v, t
		}
	}
	if tag == "" {
		return Chart{}, fmt.Errorf("%s/%s has no version in %q; its versions are: %s", src.URL, name, want, few(tags))
	}
	desc, body, err := r.FetchReference(ctx, tag)
	if err != nil {
		return Chart{}, fmt.Errorf("chart %s %s can't be fetched: %w", name, tag, err)
	}
	defer body.Close()
	raw, err := io.ReadAll(io.LimitReader(body, 4<<20))
	if err != nil {
		return Chart{}, err
	}
	if "sha256:"+sum(raw) != desc.Digest.String() {
		return Chart{}, fmt.Errorf("chart %s %s: the manifest is not what its digest says", name, tag)
	}
	var m ocispec.Manifest
	if err := json.Unmarshal(raw, &m); err != nil {
		return Chart{}, fmt.Errorf("chart %s %s: its manifest can't be read: %w", name, tag, err)
	}
	i := slices.IndexFunc(m.Layers, func(l ocispec.Descriptor) bool { return l.MediaType == media })
	if i < 0 {
		return Chart{}, fmt.Errorf("%s/%s:%s is no chart: none of its layers is one", src.URL, name, tag)
	}
	layer := m.Layers[i]
	out := Chart{Version: best.Original(), Digest: layer.Digest.String()}
	if data, err := os.ReadFile(s.file(out.Digest)); err == nil && sum(data) == clean(out.Digest) {
		out.Data = data
		return out, nil
	}
	if layer.Size > maxChart {
		return Chart{}, fmt.Errorf("chart %s %s has %d bytes; the most is %d", name, tag, layer.Size, maxChart)
	}
	blob, err := r.Fetch(ctx, layer)
	if err != nil {
		return Chart{}, fmt.Errorf("chart %s %s can't be fetched: %w", name, tag, err)
	}
	defer blob.Close()
	if out.Data, err = io.ReadAll(io.LimitReader(blob, maxChart)); err != nil {
		return Chart{}, err
	}
	if sum(out.Data) != clean(out.Digest) {
		return Chart{}, fmt.Errorf("chart %s %s is not what its digest says", name, tag)
	}
	return out, s.keep(out.Data)
}

func (s *Shelf) file(digest string) string { return filepath.Join(s.dir, clean(digest)+".tgz") }

func (s *Shelf) keep(data []byte) error {
	if err := packed(data); err != nil {
		return fmt.Errorf("chart repository %s: what came is no chart, and is not kept: %w", s.Name(), err)
	}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(s.dir, ".part-") // many wards may want the same chart at once
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	_, err = tmp.Write(data)
	if err = errors.Join(err, tmp.Close()); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), s.file(sum(data)))
}

// packed tells why something is no packaged chart: gzip of tar, with a Chart.yaml in the directory at its top. What a server
// sends for one is looked at before it lies on disk.
func packed(data []byte) error {
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return err
	}
	t := tar.NewReader(io.LimitReader(z, 4*maxChart))
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return errors.New("it has no Chart.yaml")
		}
		if err != nil {
			return err
		}
		if top, file, ok := strings.Cut(path.Clean(h.Name), "/"); ok && top != ".." && file == "Chart.yaml" && h.Typeflag == tar.TypeReg {
			return nil
		}
	}
}

func sum(data []byte) string {
	h := sha256.Sum256(data)
	return hex.EncodeToString(h[:])
}

func clean(digest string) string { return filepath.Base(strings.TrimPrefix(digest, "sha256:")) }

func few(names []string) string {
	switch {
	case len(names) == 0:
		return "none"
	case len(names) > 12:
		return fmt.Sprintf("%s and %d more", strings.Join(names[:12], ", "), len(names)-12)
	}
	return strings.Join(names, ", ")
}

func isOCI(s Source) bool { return strings.HasPrefix(s.URL, "oci://") }

func hostOf(s Source) string {
	u, err := url.Parse(s.URL)
	if err != nil {
		return ""
	}
	return u.Host
}

// registryOf is a chart repository's server as a registry, and its HTTP client.
func registryOf(s Source) registry.Source {
	return registry.Source{Name: "chart repository " + s.Name, Host: hostOf(s), User: s.User, Password: s.Password, Bearer: s.Bearer, CA: s.CA}
}

func get(ctx context.Context, s Source, address string, most int64) ([]byte, error) {
	c, err := registryOf(s).HTTP()
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	switch {
	case s.Bearer && s.Password != "":
		r.Header.Set("Authorization", "Bearer "+s.Password)
	case s.User != "" || s.Password != "":
		r.SetBasicAuth(s.User, s.Password)
	}
	res, err := c.Do(r)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	switch res.StatusCode {
	case http.StatusOK:
	case http.StatusUnauthorized, http.StatusForbidden:
		return nil, fmt.Errorf("the server refuses the sign-in (%s); give user and password with vigila repo add %s %s --charts --user USER --password-file FILE", bounded.Status(res.StatusCode), s.Name, s.URL)
	default:
		return nil, fmt.Errorf("%s answers %s", address, bounded.Status(res.StatusCode))
	}
	b, err := io.ReadAll(io.LimitReader(res.Body, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("%s has more than %d bytes", address, most)
	}
	return b, err
}
