package repo

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// overHTTPS serves the repositories of a directory by the system's git over HTTPS, to whoever sends these headers.
func overHTTPS(t *testing.T, dir string, allowed map[string]string, more http.Handler) (server *httptest.Server, ca string, asked *[]string) {
	t.Helper()
	out, err := exec.Command("git", "--exec-path").Output()
	require.NoError(t, err)
	backend := &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(out)), "git-http-backend"), Env: []string{"GIT_PROJECT_ROOT=" + dir, "GIT_HTTP_EXPORT_ALL=1", "GIT_CONFIG_COUNT=2",
		"GIT_CONFIG_KEY_0=safe.directory", "GIT_CONFIG_VALUE_0=*", "GIT_CONFIG_KEY_1=uploadpack.allowFilter", "GIT_CONFIG_VALUE_1=true"}, InheritEnv: []string{"PATH"}}
	asked = &[]string{}
	server = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		*asked = append(*asked, r.URL.Path)
		for name, want := range allowed {
			if r.Header.Get(name) != want {
				w.Header().Set("WWW-Authenticate", `Basic realm="git"`)
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
		}
		w.Header().Set("Demo-Token-Expiration", "2026-12-01 10:00:00 UTC")
		if more != nil && strings.Contains(r.URL.Path, "/info/lfs") {
			more.ServeHTTP(w, r)
			return
		}
		if r.Header.Get("Git-Protocol") != "" {
			r.Header.Set("HTTP_GIT_PROTOCOL", r.Header.Get("Git-Protocol"))
		}
		h := *backend
		h.Env = append(append([]string{}, backend.Env...), "GIT_PROTOCOL="+r.Header.Get("Git-Protocol"))
		h.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	return server, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})), asked
}

// bare makes a work tree and a bare repository beside it that serves what it pushes.
func bare(t *testing.T, name string) (work, root string) {
	t.Helper()
	root, work = t.TempDir(), t.TempDir()
	git(t, work, "init", "--quiet", "--initial-branch=main")
	git(t, root, "init", "--quiet", "--bare", "--initial-branch=main", name+".git")
	git(t, work, "remote", "add", "origin", filepath.Join(root, name+".git"))
	return work, root
}

func push(t *testing.T, work string) {
	git(t, work, "push", "--quiet", "--tags", "origin", "HEAD:main")
}

func mirrored(t *testing.T, s Source) *Mirror {
	t.Helper()
	m, err := Open(t.Context(), t.TempDir(), s)
	require.NoError(t, err)
	t.Cleanup(m.Close)
	return m
}

func TestHTTPSWithACertificateOfItsOwnAndATokenThatEnds(t *testing.T) {
	ctx := t.Context()
	work, root := bare(t, "moorings")
	commit(t, work, "First", map[string]string{"a/one.yaml": "1", "b/two.yaml": "2"})
	push(t, work)
	server, ca, _ := overHTTPS(t, root, map[string]string{"Authorization": "Bearer open-sesame"}, nil)
	s := Source{Name: "moorings", URL: server.URL + "/moorings.git", Password: "open-sesame", Bearer: true}
	_, err := Check(ctx, s)
	require.ErrorContains(t, err, "shows a certificate that is not trusted")
	assert.ErrorContains(t, err, "--ca-file FILE")
	s.CA = ca
	found, err := Check(ctx, s)
	require.NoError(t, err)
	assert.Equal(t, []string{"main"}, found.Branches)
	assert.Equal(t, "main", found.Default)
	assert.Equal(t, time.Date(2026, 12, 1, 10, 0, 0, 0, time.UTC), found.Expires, "the server says when the token ends")

	wrong := s
	wrong.Password = "guess"
	_, err = Check(ctx, wrong)
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "guess")

	m := mirrored(t, s)
	require.NoError(t, m.Fetch(ctx))
	rev, err := m.Resolve(ctx, "main")
	require.NoError(t, err)
	files, err := m.Files(rev.ID, "", yamls)
	require.NoError(t, err)
	assert.Len(t, files, 2)
	_, err = m.Resolve(ctx, "mian")
	assert.ErrorContains(t, err, `moorings has no branch, tag or commit "mian"; its branches are: main`)
}

func TestOnlyWhatIsReadIsFetched(t *testing.T) {
	ctx := t.Context()
	work, root := bare(t, "big")
	files := map[string]string{}
	for i := range 200 {
		files[fmt.Sprintf("heap/%03d.txt", i)] = strings.Repeat(fmt.Sprint("tide ", i), 200)
	}
	files["app/a.yaml"] = "kind: A"
	commit(t, work, "All", files)
	push(t, work)
	server, ca, _ := overHTTPS(t, root, nil, nil)
	m := mirrored(t, Source{Name: "big", URL: server.URL + "/big.git", CA: ca})
	require.NoError(t, m.Fetch(ctx))
	have := func() string {
		return git(t, m.dir, "cat-file", "--batch-all-objects", "--batch-check=%(objecttype)")
	}
	assert.NotContains(t, have(), "blob", "a first fetch brings no files")
	rev, err := m.Resolve(ctx, "main")
	require.NoError(t, err)
	got, err := m.Files(rev.ID, "app", yamls)
	require.NoError(t, err)
	assert.Equal(t, []File{{"app/a.yaml", []byte("kind: A")}}, got)
	assert.Equal(t, 1, strings.Count(have(), "blob"), "and then just those that are read")
	hash, err := m.At(rev.ID).Hash("heap/007.txt")
	require.NoError(t, err)
	assert.Equal(t, git(t, work, "rev-parse", "HEAD:heap/007.txt"), hash, "a hash needs no file")
	last, err := m.LastChange(ctx, rev, "heap")
	require.NoError(t, err)
	assert.Equal(t, rev.ID, last.ID)
	assert.Equal(t, 1, strings.Count(have(), "blob"))

	second := commit(t, work, "More", map[string]string{"app/b.yaml": "kind: B"})
	push(t, work)
	require.NoError(t, m.Fetch(ctx))
	got, err = m.Files(second, "app", yamls)
	require.NoError(t, err)
	assert.Len(t, got, 2)
	proposed, err := m.ProposeFiles(ctx, Files{Base: "main", Branch: "x", Subject: "New", Files: []File{{"app/c.yaml", []byte("kind: C")}}})
	if err == nil { // the server may take no pushes over HTTP
		assert.Equal(t, "New", proposed.Subject)
	}
}

// TestWhatNobodyHasIsMissing, however often it is asked for: git would ask the server for each, and may die of being refused.
func TestWhatNobodyHasIsMissing(t *testing.T) {
	ctx := t.Context()
	work, root := bare(t, "small")
	commit(t, work, "First", map[string]string{"a.yaml": "1"})
	push(t, work)
	server, ca, _ := overHTTPS(t, root, nil, nil)
	m := mirrored(t, Source{Name: "small", URL: server.URL + "/small.git", CA: ca})
	require.NoError(t, m.Fetch(ctx))
	rev, err := m.Resolve(ctx, "main")
	require.NoError(t, err)
	for range 200 {
		has, err := m.Holds(ctx, rev.ID, strings.Repeat("ab", 20))
		require.NoError(t, err)
		assert.False(t, has)
	}
}

func TestADamagedMirrorHealsItself(t *testing.T) {
	ctx := t.Context()
	dir, m := origin(t)
	commit(t, dir, "First", map[string]string{"a.yaml": "1", "b.yaml": "2"})
	require.NoError(t, m.Fetch(ctx))
	damage := func() {
		m.Close()
		require.NoError(t, filepath.WalkDir(filepath.Join(m.dir, "objects"), func(p string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			require.NoError(t, os.Chmod(p, 0o600))
			return os.WriteFile(p, []byte("rust"), 0o600)
		}))
	}
	damage()
	commit(t, dir, "Second", map[string]string{"a.yaml": "3"})
	require.NoError(t, m.Fetch(ctx), "a fetch notices, and starts anew")
	rev, err := m.Resolve(ctx, "main")
	require.NoError(t, err)
	files, err := m.Files(rev.ID, "", yamls)
	require.NoError(t, err)
	assert.Equal(t, "3", string(files[0].Data))

	require.NoError(t, os.RemoveAll(filepath.Join(m.dir, "objects", "pack")))
	loose, err := filepath.Glob(filepath.Join(m.dir, "objects", "??"))
	require.NoError(t, err)
	for _, d := range loose {
		require.NoError(t, os.RemoveAll(d))
	}
	m.Close()
	require.NoError(t, m.Fetch(ctx))
	rev, err = m.Resolve(ctx, "main")
	require.NoError(t, err)
	_, err = m.Files(rev.ID, "", yamls)
	assert.NoError(t, err, "objects that are gone come back")
	require.NoError(t, os.RemoveAll(m.dir))
	m.Close()
	assert.NoError(t, m.Fetch(ctx), "and so does the whole of it")
}

func TestVersionRanges(t *testing.T) {
	ctx := t.Context()
	dir, m := origin(t)
	for _, v := range []string{"1.3.9", "1.4.0", "1.5.2", "2.0.0-rc.1", "2.0.0"} {
		commit(t, dir, "Release "+v, map[string]string{"v": v})
		git(t, dir, "tag", "v"+v)
	}
	git(t, dir, "tag", "not-a-version")
	require.NoError(t, m.Fetch(ctx))
	for want, subject := range map[string]string{">=1.4 <2": "Release 1.5.2", "~1.4": "Release 1.4.0", "1.x": "Release 1.5.2", ">=1": "Release 2.0.0", "^1.3": "Release 1.5.2", "v1.4.0": "Release 1.4.0", ">=2.0.0-rc.1 <2.0.0": "Release 2.0.0-rc.1"} {
		if want == "1.x" {
			want = "=1.x"
		}
		rev, err := m.Resolve(ctx, want)
		require.NoError(t, err, want)
		assert.Equal(t, subject, rev.Subject, want)
		if IsRange(want) {
			assert.Equal(t, "v"+strings.TrimPrefix(subject, "Release "), rev.Tag, "it is told which tag it took")
		} else {
			assert.Empty(t, rev.Tag)
		}
	}
	_, err := m.Resolve(ctx, ">=3")
	require.ErrorIs(t, err, ErrNoRef)
	assert.ErrorContains(t, err, `moorings has no version in the range ">=3"; its versions are: v2.0.0, v2.0.0-rc.1, v1.5.2`)
	assert.False(t, IsRange("release/1.4"))
	assert.False(t, IsRange("main"))
}

// overSSH serves the repositories of a directory over SSH, to whoever has this key.
func overSSH(t *testing.T, dir string, allowed ssh.PublicKey) (address string, host ssh.Signer) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	host, err = ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	conf := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, k ssh.PublicKey) (*ssh.Permissions, error) {
		if string(k.Marshal()) != string(allowed.Marshal()) {
			return nil, fmt.Errorf("no")
		}
		return &ssh.Permissions{}, nil
	}}
	conf.AddHostKey(host)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serveSSH(c, conf, dir)
		}
	}()
	return "ssh://git@" + l.Addr().String(), host
}

func serveSSH(c net.Conn, conf *ssh.ServerConfig, dir string) {
	conn, channels, requests, err := ssh.NewServerConn(c, conf)
	if err != nil {
		return
	}
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for n := range channels {
		ch, in, err := n.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range in {
				if r.Type != "exec" {
					_ = r.Reply(r.Type == "env", nil)
					continue
				}
				_ = r.Reply(true, nil)
				verb, at, _ := strings.Cut(string(r.Payload[4:]), " ")
				cmd := exec.Command("git", strings.TrimPrefix(verb, "git-"), filepath.Join(dir, strings.Trim(at, "'/")))
				cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=safe.directory", "GIT_CONFIG_VALUE_0=*"}
				cmd.Stdout, cmd.Stderr = ch, ch.Stderr()
				stdin, err := cmd.StdinPipe()
				if err != nil {
					return
				}
				go func() { _, _ = io.Copy(stdin, ch); _ = stdin.Close() }()
				status := []byte{0, 0, 0, 0}
				if cmd.Run() != nil {
					status[3] = 1
				}
				_, _ = ch.SendRequest("exit-status", false, status)
				_ = ch.Close()
			}
		}()
	}
}

func sshKey(t *testing.T, passphrase string) (pemText string, public ssh.PublicKey) {
	t.Helper()
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(key, "")
	if passphrase != "" {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte(passphrase))
	}
	require.NoError(t, err)
	public, err = ssh.NewPublicKey(pub)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block)), public
}

func TestSSHTrustsNoHostByItself(t *testing.T) {
	ctx := t.Context()
	work, root := bare(t, "moorings")
	commit(t, work, "First", map[string]string{"a.yaml": "1"})
	push(t, work)
	key, public := sshKey(t, "tide and time")
	address, host := overSSH(t, root, public)
	s := Source{Name: "moorings", URL: address + "/moorings.git", Key: key, Passphrase: "tide and time"}
	_, err := Check(ctx, s)
	print := ssh.FingerprintSHA256(host.PublicKey())
	require.ErrorContains(t, err, "is not known: its ssh-ed25519 key is "+print)
	assert.ErrorContains(t, err, "--trust "+print)
	_, err = Trust(ctx, s.URL, "SHA256:somethingelse")
	require.ErrorContains(t, err, "shows the key "+print+", not SHA256:somethingelse")
	s.KnownHosts, err = Trust(ctx, s.URL, print)
	require.NoError(t, err)
	require.NoError(t, CheckKnownHosts(s.KnownHosts))
	assert.Error(t, CheckKnownHosts("what is this"))

	found, err := Check(ctx, s)
	require.NoError(t, err)
	assert.Equal(t, "main", found.Default)
	m := mirrored(t, s)
	require.NoError(t, m.Fetch(ctx))
	rev, err := m.Resolve(ctx, "main")
	require.NoError(t, err)
	files, err := m.Files(rev.ID, "", yamls)
	require.NoError(t, err)
	assert.Len(t, files, 1)
	back, err := m.ProposeFiles(ctx, Files{Base: "main", Branch: "vigila/new", Subject: "New", Files: []File{{"wards/x.yaml", []byte("x")}}})
	require.NoError(t, err, "branches are pushed over SSH as well")
	assert.Equal(t, "x", git(t, filepath.Join(root, "moorings.git"), "show", back.ID+":wards/x.yaml"))

	for name, c := range map[string]struct {
		change func(*Source)
		want   string
	}{
		"no passphrase":    {func(s *Source) { s.Passphrase = "" }, "the key has a passphrase; give it with --passphrase-file"},
		"wrong passphrase": {func(s *Source) { s.Passphrase = "no" }, "can't be opened with this passphrase"},
		"no key at all":    {func(s *Source) { s.Key = "" }, "asks for a key and none is known"},
		"another key":      {func(s *Source) { s.Key, _ = sshKey(t, ""); s.Passphrase = "" }, "refused this key (SHA256:"},
		"not a key":        {func(s *Source) { s.Key = "x" }, "this is not a private SSH key"},
		"another host": {func(s *Source) {
			_, other := sshKey(t, "")
			port := strings.TrimPrefix(strings.Split(address, "@")[1], "127.0.0.1:")
			s.KnownHosts = "[127.0.0.1]:" + port + " " + string(ssh.MarshalAuthorizedKey(other))
		}, "shows another key than the one that is trusted"},
	} {
		bad := s
		c.change(&bad)
		_, err := Check(ctx, bad)
		assert.ErrorContains(t, err, c.want, name)
		if err != nil {
			assert.NotContains(t, err.Error(), "tide and time")
		}
	}
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "vigila-[0-9]*"))
	require.NoError(t, err)
	for _, dir := range left {
		files, _ := filepath.Glob(filepath.Join(dir, "*"))
		for _, f := range files {
			text, _ := os.ReadFile(f)
			assert.NotContains(t, string(text), "PRIVATE KEY", "a key is never on disk")
		}
	}
}

func TestOnlySignedCommitsCount(t *testing.T) {
	ctx := t.Context()
	dir := t.TempDir()
	git(t, dir, "init", "--quiet", "--initial-branch=main")
	key, public := sshKey(t, "")
	file := filepath.Join(t.TempDir(), "id")
	require.NoError(t, os.WriteFile(file, []byte(key), 0o600))
	signed := func(args ...string) {
		git(t, dir, append([]string{"-c", "gpg.format=ssh", "-c", "user.signingKey=" + file}, args...)...)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.yaml"), []byte("1"), 0o600))
	git(t, dir, "add", "-A")
	signed("commit", "--quiet", "-S", "-m", "Signed")
	open := mirrored(t, Source{Name: "moorings", URL: "file://" + dir})
	require.NoError(t, open.Fetch(ctx))
	good := Source{Name: "moorings", URL: "file://" + dir, Signers: "# who may\noperator@brindle.example " + string(ssh.MarshalAuthorizedKey(public))}
	require.NoError(t, CheckSigners(good.Signers))
	m := mirrored(t, good)
	require.NoError(t, m.Fetch(ctx))
	first, err := m.Resolve(ctx, "main")
	require.NoError(t, err)
	assert.Equal(t, "Signed", first.Subject)

	git(t, dir, "commit", "--quiet", "--allow-empty", "-m", "Slipped in")
	require.NoError(t, m.Fetch(ctx))
	_, err = m.Resolve(ctx, "main")
	require.ErrorIs(t, err, ErrUnsigned)
	assert.ErrorContains(t, err, `("Slipped in", by operator) is not signed; repository moorings takes only signed commits, so it is not applied`)
	_, err = m.Resolve(ctx, first.ID)
	assert.NoError(t, err, "what is signed can still be named")

	signed("tag", "-s", "v1.0.0", "-m", "one")
	require.NoError(t, m.Fetch(ctx))
	_, err = m.Resolve(ctx, ">=1")
	assert.NoError(t, err, "a signed tag vouches for its commit")

	_, err = m.Resolve(ctx, "main")
	require.ErrorIs(t, err, ErrUnsigned, "by this tag alone")
	git(t, dir, "commit", "--quiet", "--allow-empty", "-m", "Hidden behind a name")
	git(t, dir, "branch", "v1.0.0")
	git(t, dir, "branch", "v9.0.0")
	signed("tag", "-s", "around", "v1.0.0", "-m", "a branch's name is not the tag's")
	git(t, dir, "tag", "v0.9.0", "main")
	require.NoError(t, m.Fetch(ctx))
	for _, ref := range []string{"v1.0.0", "v9.0.0", "v0.9.0", "<1"} {
		_, err = m.Resolve(ctx, ref)
		assert.ErrorIs(t, err, ErrUnsigned, ref)
	}
	tagged, err := m.Resolve(ctx, ">=1")
	require.NoError(t, err)
	assert.Equal(t, "Slipped in", tagged.Subject, "a range is over tags, whatever branches are named")
	nested, err := m.Resolve(ctx, "around")
	require.NoError(t, err)
	assert.NotEqual(t, first.ID, nested.ID)

	_, other := sshKey(t, "")
	m.SetSource(Source{Name: "moorings", URL: "file://" + dir, Signers: string(ssh.MarshalAuthorizedKey(other))})
	_, err = m.Resolve(ctx, first.ID)
	assert.ErrorContains(t, err, "is signed by a key that is not listed ("+ssh.FingerprintSHA256(public)+")")

	id, kind, data, err := m.read(first.ID)
	require.NoError(t, err)
	require.Equal(t, "commit", kind, id)
	body, sig := cutSignature(data)
	who, err := parseSigners(good.Signers)
	require.NoError(t, err)
	assert.NoError(t, who.check(body, sig))
	assert.ErrorContains(t, who.check(append(body, "more"...), sig), "does not match its signature")
	for text, want := range map[string]string{"": "names no key", "nonsense": "line 1 of the signers", "-----BEGIN PGP PUBLIC KEY BLOCK-----\nx": "has no end"} {
		assert.ErrorContains(t, CheckSigners(text), want)
	}
}

func TestOpenPGPSignatures(t *testing.T) {
	e, err := openpgp.NewEntity("operator", "", "operator@brindle.example", nil)
	require.NoError(t, err)
	var public strings.Builder
	w, err := armor.Encode(&public, openpgp.PublicKeyType, nil)
	require.NoError(t, err)
	require.NoError(t, e.Serialize(w))
	require.NoError(t, w.Close())
	who, err := parseSigners(public.String())
	require.NoError(t, err)
	dir, m := origin(t)
	id := commit(t, dir, "First", map[string]string{"a.yaml": "1"})
	require.NoError(t, m.Fetch(t.Context()))
	_, _, data, err := m.read(id)
	require.NoError(t, err)
	var sig strings.Builder
	require.NoError(t, openpgp.ArmoredDetachSign(&sig, e, strings.NewReader(string(data)), nil))
	head, rest, _ := strings.Cut(string(data), "\n\n")
	whole := head + "\ngpgsig " + strings.ReplaceAll(strings.TrimSpace(sig.String()), "\n", "\n ") + "\n\n" + rest
	body, cut := cutSignature([]byte(whole))
	assert.Equal(t, string(data), string(body), "what is signed is the commit without its signature")
	assert.NoError(t, who.check(body, cut))
	assert.ErrorContains(t, who.check(append(body, 'x'), cut), "does not count")
	stranger, err := openpgp.NewEntity("stranger", "", "", nil)
	require.NoError(t, err)
	other := &signers{ring: openpgp.EntityList{stranger}}
	assert.ErrorContains(t, other.check(body, cut), "does not count")
}

func TestSubmodulesAreFollowedIntoKnownRepositories(t *testing.T) {
	ctx := t.Context()
	lib := t.TempDir()
	git(t, lib, "init", "--quiet", "--initial-branch=main")
	commit(t, lib, "Lib", map[string]string{"parts/x.yaml": "x", "readme": "r"})
	dir, m := origin(t)
	commit(t, dir, "First", map[string]string{"app/a.yaml": "a"})
	git(t, dir, "-c", "protocol.file.allow=always", "submodule", "--quiet", "add", "file://"+lib, "app/lib")
	git(t, dir, "commit", "--quiet", "-m", "Submodule")
	require.NoError(t, m.Fetch(ctx))
	rev, err := m.Resolve(ctx, "main")
	require.NoError(t, err)
	_, err = m.Files(rev.ID, "app", yamls)
	require.ErrorContains(t, err, "app/lib is a submodule (of file://"+lib+"), and submodules of moorings are not followed")
	m.source.Submodules = true
	_, err = m.Files(rev.ID, "app", yamls)
	require.ErrorContains(t, err, "which is not a known repository; add it: vigila repo add NAME file://"+lib)
	other := mirrored(t, Source{Name: "lib", URL: "file://" + lib})
	m.Link(func(url string) *Mirror {
		if SameURL(url, "file://"+lib+"/") {
			return other
		}
		return nil
	})
	_, err = m.Files(rev.ID, "app", yamls)
	require.ErrorContains(t, err, "which repository lib does not have (yet)")
	require.NoError(t, other.Fetch(ctx))
	files, err := m.Files(rev.ID, "app", yamls)
	require.NoError(t, err)
	assert.Equal(t, []File{{"app/a.yaml", []byte("a")}, {"app/lib/parts/x.yaml", []byte("x")}}, files)
	files, err = m.Files(rev.ID, "app/lib/parts", yamls)
	require.NoError(t, err)
	assert.Equal(t, []File{{"app/lib/parts/x.yaml", []byte("x")}}, files, "a path may lead into one")
}

func TestPointersToLargeFiles(t *testing.T) {
	ctx := t.Context()
	work, root := bare(t, "moorings")
	large := strings.Repeat("kind: Large\n", 100)
	sum := sha256.Sum256([]byte(large))
	oid := hex.EncodeToString(sum[:])
	commit(t, work, "Large", map[string]string{"a.yaml": fmt.Sprintf("version https://git-lfs.github.com/spec/v1\noid sha256:%s\nsize %d\n", oid, len(large))})
	push(t, work)
	sent := large
	var server *httptest.Server
	server, ca, asked := overHTTPS(t, root, nil, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet {
			_, _ = io.WriteString(w, sent)
			return
		}
		var in struct{ Objects []struct{ Oid string } }
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&in))
		_ = json.NewEncoder(w).Encode(map[string]any{"objects": []any{map[string]any{"oid": in.Objects[0].Oid, "actions": map[string]any{"download": map[string]any{"href": server.URL + "/moorings.git/info/lfs/" + oid}}}}})
	}))
	s := Source{Name: "moorings", URL: server.URL + "/moorings.git", CA: ca}
	m := mirrored(t, s)
	require.NoError(t, m.Fetch(ctx))
	rev, err := m.Resolve(ctx, "main")
	require.NoError(t, err)
	_, err = m.Files(rev.ID, "", yamls)
	require.ErrorContains(t, err, "a.yaml is only a pointer to a large file, and those of moorings are not followed")
	s.LargeFiles = true
	m.SetSource(s)
	sent = "something else"
	_, err = m.Files(rev.ID, "", yamls)
	require.ErrorContains(t, err, "what the server sent is not what the pointer asks for")
	sent = large
	files, err := m.Files(rev.ID, "", yamls)
	require.NoError(t, err)
	assert.Equal(t, large, string(files[0].Data))
	n := len(*asked)
	_, err = m.Files(rev.ID, "", yamls)
	require.NoError(t, err)
	assert.Len(t, *asked, n, "it is fetched once")
}

func TestProposeFilesInAnEmptyRepository(t *testing.T) {
	ctx := context.Background()
	_, root := bare(t, "new")
	m := mirrored(t, Source{Name: "new", URL: "file://" + filepath.Join(root, "new.git")})
	require.NoError(t, m.Fetch(ctx))
	c, err := m.ProposeFiles(ctx, Files{Base: "main", Branch: "main", Subject: "First", Files: []File{{"wards/a.yaml", []byte("a")}, {"b", []byte("b")}}})
	require.NoError(t, err)
	assert.Equal(t, "a", git(t, filepath.Join(root, "new.git"), "show", c.ID+":wards/a.yaml"))
	require.NoError(t, m.Fetch(ctx))
	_, err = m.ProposeFiles(ctx, Files{Base: "main", Branch: "x", Subject: "Same", Files: []File{{"b", []byte("b")}}})
	assert.ErrorIs(t, err, ErrSame)
	for _, bad := range []string{"../x", "/x", ".git/hooks/x", "", "a\nb"} {
		_, err = m.ProposeFiles(ctx, Files{Base: "main", Branch: "x", Subject: "Bad", Files: []File{{bad, []byte("b")}}})
		assert.ErrorContains(t, err, "can't be the path of a file", bad)
	}
}
