// Command image builds Vigila as OCI images for several architectures, without a container engine: the static binary, and below it the programs that
// repositories are fetched with (git, ssh, certificates), from Debian's packages. The same commit and the same packages give the same digests. It
// writes an OCI layout with a bill of materials for each architecture (SPDX 2.3), and pushes it where it is told to.
//
//	go run ./image -out bin/image
//	go run ./image -out bin/image -push registry.brindle.example/vigila:1
package main

import (
	"archive/tar"
	"bytes"
	"context"
	"debug/buildinfo"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// programs are what the service needs beside itself; a lookout needs none of them.
var programs = []string{"git", "openssh-client", "ca-certificates"}

// user is who it runs as: nobody that a machine knows.
const user = 65532

type settings struct {
	version, out, push string
	archs              []string
	bare               bool
	at                 time.Time // of the commit: every file is as old
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	var s settings
	archs := flag.String("arch", "amd64,arm64", "architectures, separated by commas")
	flag.StringVar(&s.out, "out", "bin/image", "directory of the OCI layout")
	flag.StringVar(&s.push, "push", "", "where it is pushed to as well, such as registry.brindle.example/vigila:1")
	flag.StringVar(&s.version, "version", "", "version; what git describes when empty")
	flag.BoolVar(&s.bare, "bare", false, "the binary alone: enough for a lookout, and for the command line")
	flag.Parse()
	s.archs = strings.Split(*archs, ",")
	if err := build(ctx, s); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func build(ctx context.Context, s settings) error {
	if s.version == "" {
		s.version = strings.TrimSpace(said("git", "describe", "--tags", "--always", "--dirty"))
	}
	at, err := time.Parse(time.RFC3339, strings.TrimSpace(said("git", "log", "-1", "--format=%cI")))
	if err != nil {
		return fmt.Errorf("the time of the commit: %w", err)
	}
	s.at = at.UTC()
	work, err := os.MkdirTemp("", "vigila-image-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	var index v1.ImageIndex = mutate.IndexMediaType(empty.Index, types.OCIImageIndex)
	boms := map[string][]byte{}
	for _, arch := range s.archs {
		img, bom, err := s.image(ctx, work, arch)
		if err != nil {
			return fmt.Errorf("%s: %w", arch, err)
		}
		boms[arch] = bom
		index = mutate.AppendManifests(index, mutate.IndexAddendum{Add: img, Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: "linux", Architecture: arch}}})
	}
	if err := os.RemoveAll(s.out); err != nil {
		return err
	}
	if _, err := layout.Write(s.out, index); err != nil {
		return err
	}
	for arch, bom := range boms {
		if err := os.WriteFile(filepath.Join(s.out, "vigila-"+arch+".spdx.json"), bom, 0o644); err != nil {
			return err
		}
	}
	digest, err := index.Digest()
	if err != nil {
		return err
	}
	fmt.Printf("%s is in %s for %s: %s\n", s.version, s.out, strings.Join(s.archs, ", "), digest)
	if s.push == "" {
		return nil
	}
	ref, err := name.ParseReference(s.push)
	if err != nil {
		return err
	}
	if err := remote.WriteIndex(ref, index, remote.WithAuthFromKeychain(authn.DefaultKeychain), remote.WithContext(ctx)); err != nil {
		return err
	}
	fmt.Printf("pushed: %s@%s\n", ref.Context(), digest)
	return nil
}

func said(command string, args ...string) string {
	out, _ := exec.Command(command, args...).Output()
	return string(out)
}

// image is the image of one architecture, and its bill of materials.
func (s settings) image(ctx context.Context, work, arch string) (v1.Image, []byte, error) {
	binary := filepath.Join(work, "vigila-"+arch)
	c := exec.CommandContext(ctx, "go", "build", "-trimpath", "-buildvcs=false", "-tags", "nomsgpack", "-ldflags", "-s -w -buildid= -X main.version="+s.version, "-o", binary, "./cmd/vigila")
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS=linux", "GOARCH="+arch)
	c.Stderr = os.Stderr
	if err := c.Run(); err != nil {
		return nil, nil, fmt.Errorf("build: %w", err)
	}
	var layers []*files
	var debs []deb
	if !s.bare {
		base := newFiles(s.at)
		var err error
		if debs, err = packages(ctx, filepath.Join(work, arch), arch); err != nil {
			return nil, nil, err
		}
		for _, d := range debs {
			if err := base.unpack(ctx, d); err != nil {
				return nil, nil, fmt.Errorf("%s: %w", d.name, err)
			}
		}
		base.authorities()
		layers = append(layers, base)
	}
	bom, err := s.materials(binary, arch, debs)
	if err != nil {
		return nil, nil, err
	}
	own := newFiles(s.at)
	program, err := os.ReadFile(binary)
	if err != nil {
		return nil, nil, err
	}
	own.file("vigila", 0o755, program)
	own.file("vigila.spdx.json", 0o644, bom)
	own.file("etc/passwd", 0o644, []byte(fmt.Sprintf("root:x:0:0:root:/root:/usr/sbin/nologin\nvigila:x:%d:%d::/data:/usr/sbin/nologin\n", user, user)))
	own.file("etc/group", 0o644, []byte(fmt.Sprintf("root:x:0:\nvigila:x:%d:\n", user)))
	own.dir("tmp", 0o1777, 0)
	own.dir("data", 0o700, user)
	layers = append(layers, own)

	img := mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), types.OCIConfigJSON)
	for _, l := range layers {
		text, err := l.tar()
		if err != nil {
			return nil, nil, err
		}
		layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }, tarball.WithMediaType(types.OCILayer))
		if err != nil {
			return nil, nil, err
		}
		if img, err = mutate.Append(img, mutate.Addendum{Layer: layer, History: v1.History{Created: v1.Time{Time: s.at}, CreatedBy: "image"}}); err != nil {
			return nil, nil, err
		}
	}
	file, err := img.ConfigFile()
	if err != nil {
		return nil, nil, err
	}
	file = file.DeepCopy()
	file.OS, file.Architecture, file.Created = "linux", arch, v1.Time{Time: s.at}
	file.Config = v1.Config{User: fmt.Sprint(user), Entrypoint: []string{"/vigila"}, WorkingDir: "/data", Env: []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/data"},
		Labels: map[string]string{"org.opencontainers.image.title": "Vigila", "org.opencontainers.image.version": s.version}}
	img, err = mutate.ConfigFile(img, file)
	return img, bom, err
}

// deb is a package of Debian's.
type deb struct{ name, version, file string }

// packages fetches the programs with all that they need, for an architecture, as apt has them: it checks their signatures.
func packages(ctx context.Context, dir, arch string) ([]deb, error) {
	for _, d := range []string{"lists/partial", "cache/archives/partial"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			return nil, err
		}
	}
	status := filepath.Join(dir, "status")
	if err := os.WriteFile(status, nil, 0o644); err != nil {
		return nil, err
	}
	apt := func(args ...string) error {
		c := exec.CommandContext(ctx, "apt-get", append([]string{"-qq", "-o", "Dir::State=" + dir, "-o", "Dir::State::lists=" + dir + "/lists", "-o", "Dir::State::status=" + status, "-o", "Dir::Cache=" + dir + "/cache",
			"-o", "APT::Architecture=" + arch, "-o", "APT::Architectures=" + arch, "-o", "APT::Sandbox::User=root", "-o", "Debug::NoLocking=1"}, args...)...)
		c.Stderr = os.Stderr
		if err := c.Run(); err != nil {
			return fmt.Errorf("apt-get %s: %w; the base is made of Debian's packages: build on Debian, or with -bare", args[0], err)
		}
		return nil
	}
	if err := apt("update"); err != nil {
		return nil, err
	}
	if err := apt(append([]string{"install", "--yes", "--download-only", "--no-install-recommends"}, programs...)...); err != nil {
		return nil, err
	}
	all, err := filepath.Glob(filepath.Join(dir, "cache", "archives", "*.deb"))
	if err != nil {
		return nil, err
	}
	slices.Sort(all)
	var out []deb
	for _, f := range all {
		fields, err := exec.CommandContext(ctx, "dpkg-deb", "--show", "--showformat=${Package}\n${Version}", f).Output()
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", filepath.Base(f), err)
		}
		n, v, _ := strings.Cut(string(fields), "\n")
		out = append(out, deb{n, v, f})
	}
	return out, nil
}

// files are those of a layer, by their paths.
type files struct {
	at  time.Time
	all map[string]entry
}

type entry struct {
	head tar.Header
	body []byte
}

func newFiles(at time.Time) *files { return &files{at, map[string]entry{}} }

func (f *files) put(h tar.Header, body []byte) {
	h.Name = strings.TrimSuffix(strings.TrimPrefix(path.Clean("/"+h.Name), "/"), "/")
	if h.Name == "" {
		return
	}
	h.ModTime, h.AccessTime, h.ChangeTime, h.Uname, h.Gname, h.PAXRecords, h.Format = f.at, time.Time{}, time.Time{}, "", "", nil, tar.FormatPAX
	f.all[h.Name] = entry{h, body}
}

func (f *files) file(name string, mode int64, body []byte) {
	f.put(tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: mode, Size: int64(len(body))}, body)
}

func (f *files) dir(name string, mode int64, owner int) {
	f.put(tar.Header{Typeflag: tar.TypeDir, Name: name, Mode: mode, Uid: owner, Gid: owner}, nil)
}

// unwanted is what nobody reads in an image; licences stay.
func unwanted(name string) bool {
	for _, dir := range []string{"usr/share/man/", "usr/share/info/", "usr/share/locale/", "usr/share/lintian/", "usr/share/bash-completion/", "var/cache/"} {
		if strings.HasPrefix(name, dir) {
			return true
		}
	}
	return strings.HasPrefix(name, "usr/share/doc/") && path.Base(name) != "copyright" && !strings.HasSuffix(name, "/")
}

// unpack takes in the files of a package.
func (f *files) unpack(ctx context.Context, d deb) error {
	c := exec.CommandContext(ctx, "dpkg-deb", "--fsys-tarfile", d.file)
	out, err := c.Output()
	if err != nil {
		return err
	}
	r := tar.NewReader(bytes.NewReader(out))
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if unwanted(strings.TrimPrefix(h.Name, "./")) {
			continue
		}
		body, err := io.ReadAll(r)
		if err != nil {
			return err
		}
		if h.Typeflag == tar.TypeLink {
			h.Linkname = strings.TrimPrefix(path.Clean("/"+h.Linkname), "/")
		}
		h.Mode &^= 0o6000 // nobody becomes somebody else in there
		f.put(*h, body)
	}
}

// authorities makes the one file of certificates that installing their package would make.
func (f *files) authorities() {
	var all []byte
	for _, name := range f.names() {
		if strings.HasPrefix(name, "usr/share/ca-certificates/") && strings.HasSuffix(name, ".crt") {
			all = append(append(all, bytes.TrimRight(f.all[name].body, "\n")...), '\n')
		}
	}
	f.file("etc/ssl/certs/ca-certificates.crt", 0o644, all)
}

func (f *files) names() []string {
	out := make([]string, 0, len(f.all))
	for name := range f.all {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// tar is the layer: its files in the order of their paths, each directory before what is in it.
func (f *files) tar() ([]byte, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, name := range f.names() {
		e := f.all[name]
		if e.head.Typeflag == tar.TypeDir {
			e.head.Name += "/"
		}
		if err := w.WriteHeader(&e.head); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if _, err := w.Write(e.body); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	err := w.Close()
	return b.Bytes(), err
}

// materials is what the image is made of: the modules of the binary and the packages below it.
// Source: https://spdx.github.io/spdx-spec/v2.3/
func (s settings) materials(binary, arch string, debs []deb) ([]byte, error) {
	info, err := buildinfo.ReadFile(binary)
	if err != nil {
		return nil, err
	}
	type external struct {
		Category string `json:"referenceCategory"`
		Type     string `json:"referenceType"`
		Locator  string `json:"referenceLocator"`
	}
	type item struct {
		ID       string     `json:"SPDXID"`
		Name     string     `json:"name"`
		Version  string     `json:"versionInfo"`
		Location string     `json:"downloadLocation"`
		Refs     []external `json:"externalRefs,omitempty"`
	}
	type relation struct {
		From string `json:"spdxElementId"`
		Is   string `json:"relationshipType"`
		To   string `json:"relatedSpdxElement"`
	}
	all := []item{{ID: "SPDXRef-vigila", Name: "vigila", Version: s.version, Location: "NOASSERTION"}}
	relations := []relation{{"SPDXRef-DOCUMENT", "DESCRIBES", "SPDXRef-vigila"}}
	add := func(what, version, locator string) {
		id := fmt.Sprintf("SPDXRef-%d", len(all))
		all = append(all, item{id, what, version, "NOASSERTION", []external{{"PACKAGE-MANAGER", "purl", locator}}})
		relations = append(relations, relation{"SPDXRef-vigila", "CONTAINS", id})
	}
	add("go", info.GoVersion, "pkg:generic/go@"+strings.TrimPrefix(info.GoVersion, "go"))
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		add(m.Path, m.Version, "pkg:golang/"+m.Path+"@"+m.Version)
	}
	for _, d := range debs {
		add(d.name, d.version, "pkg:deb/debian/"+d.name+"@"+d.version+"?arch="+arch)
	}
	return json.MarshalIndent(map[string]any{"spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT", "name": "vigila-" + s.version + "-" + arch,
		"documentNamespace": "https://vigila.dev/spdx/" + s.version + "/" + arch, "creationInfo": map[string]any{"created": s.at.Format(time.RFC3339), "creators": []string{"Tool: vigila-image"}},
		"packages": all, "relationships": relations}, "", " ")
}
