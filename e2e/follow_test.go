package e2e

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// dockRegistry runs Debian's docker-registry on loopback, with what it holds in a directory of the test; scripts/prepare installs it.
func dockRegistry(t *testing.T) (host string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	host = l.Addr().String()
	require.NoError(t, l.Close())
	runRegistry(t, host, t.TempDir(), "")
	return host
}

// runRegistry runs a registry at an address until it is stopped; more are lines of its configuration.
func runRegistry(t *testing.T, host, dir, more string) (stop func()) {
	t.Helper()
	conf := filepath.Join(t.TempDir(), "registry.yml")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, "version: 0.1\nlog: {level: error, accesslog: {disabled: true}}\nstorage: {filesystem: {rootdirectory: %s}}\nhttp: {addr: %q}\n%s", dir, host, more), 0o600))
	c := exec.Command("docker-registry", "serve", conf)
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(t, c.Start(), "scripts/prepare installs it")
	stop = sync.OnceFunc(func() { _, _ = c.Process.Kill(), c.Wait() })
	t.Cleanup(stop)
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		r, err := http.Get("http://" + host + "/v2/")
		if err == nil {
			_ = r.Body.Close()
			return stop
		}
		require.True(t, time.Now().Before(end), "the registry is not up: %v", err)
	}
}

// pushImage pushes another image under a tag, for a platform; the answer is its digest.
func pushImage(t *testing.T, image, arch string) string {
	t.Helper()
	im, err := random.Image(64, 1)
	require.NoError(t, err)
	c, err := im.ConfigFile()
	require.NoError(t, err)
	c = c.DeepCopy()
	c.OS, c.Architecture, c.Created = "linux", arch, v1.Time{Time: time.Now().Add(-time.Hour)}
	im, err = mutate.ConfigFile(im, c)
	require.NoError(t, err)
	ref, err := name.ParseReference(image)
	require.NoError(t, err)
	require.NoError(t, remote.Write(ref, im))
	d, err := im.Digest()
	require.NoError(t, err)
	return d.String()
}

// theFollow looks now, and tells how it is.
func (s *service) theFollow(name string) client.Follow {
	s.t.Helper()
	r, err := s.api.LookFollowWithResponse(s.t.Context(), name, client.LookFollow{})
	require.NoError(s.t, s.api.Check(r, err))
	return *r.JSON200
}

// TestNewVersionsAreFollowed pushes images to a real registry: the newest that fits is found, written and synced; what does not fit, was
// moved, taken back or rejected is told, and changes nothing until a person takes it; a kill makes nothing twice.
func TestNewVersionsAreFollowed(t *testing.T) {
	t.Parallel()
	s := newService(t)
	host := dockRegistry(t)
	image := host + "/harbour/gate"
	first := pushImage(t, image+":1.0.0", "amd64")
	pushImage(t, image+":latest", "amd64")
	app := strings.ReplaceAll(deployment("gate:0", 1), "registry.brindle.example/gate:0", image+":0")
	s.push("All", map[string]string{"app/d.yaml": app,
		"wards/gate.yaml":   fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nfrom: {path: app, versions: [versions/gate.yaml]}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\nsettle: {within: 30s}\n", s.name),
		"wards/follow.yaml": "vigila: follow/v1\nname: " + s.name + "\nimage: " + image + "\nversions: \">=1 <3\"\nplatforms: [linux/amd64]\ninto: {file: versions/gate.yaml}\nevery: 10s\n"})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	for end := time.Now().Add(patience); !strings.Contains(s.ok("follow", "list"), s.name); time.Sleep(100 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "the follow is not known")
	}
	f := s.theFollow(s.name)
	assert.True(t, f.NeedsYou)
	assert.Equal(t, "no registry is known at "+host+"; add it: vigila registry add NAME "+host, f.Says)
	s.fails(1, "can't be read", "registry", "add", "harbour", "127.0.0.1:1")
	s.ok("registry", "add", "harbour", host)
	s.fails(1, "is asked by follow "+s.name, "registry", "remove", "harbour")

	at := func(version, digest string) {
		t.Helper()
		want := image + ":" + version + "@" + digest
		s.until("runs "+version, func(w client.Ward) bool {
			for _, got := range s.images() {
				if got == want {
					return inStepAndReady(w)
				}
			}
			return false
		})
	}
	f = s.theFollow(s.name)
	assert.Equal(t, []string{"1.0.0", first, "at 1.0.0, the newest"}, []string{f.Version, f.Digest, f.Says})
	assert.Equal(t, []string{s.name + "@quay"}, f.UsedBy)
	at("1.0.0", first)
	assert.Equal(t, s.name+" 1.0.0", s.ward().Applied.Subject, "its commit is a revision of the ward")

	second := pushImage(t, image+":1.1.0", "amd64")
	pushImage(t, image+":1.2.0", "arm64")
	pushImage(t, image+":3.0.0", "amd64")
	f = s.theFollow(s.name)
	assert.Equal(t, "1.1.0", f.Version)
	assert.Equal(t, "at 1.1.0; 1.2.0 is not taken: it is not there for linux/amd64; it has linux/arm64", f.Says)
	out := s.ok("follow", "show", s.name)
	assert.Contains(t, out, "3.0.0      it is out of >=1 <3")
	assert.Contains(t, out, "laid over "+s.name+"@quay")
	at("1.1.0", second)

	moved := pushImage(t, image+":1.1.0", "amd64")
	f = s.theFollow(s.name)
	assert.Contains(t, f.Says, "1.1.0 was moved to another image")
	assert.Equal(t, second, f.Digest, "nothing changes")
	s.ok("follow", "take", s.name, "1.1.0")
	at("1.1.0", moved)
	s.fails(1, "9.9.9 is not taken: 9.9.9 is not there", "follow", "take", s.name, "9.9.9")

	commits := func() string {
		work := t.TempDir()
		git(t, "", "clone", "--quiet", s.origin(), work)
		return strings.TrimSpace(git(t, work, "log", "--author=Vigila", "--format=%s %(trailers:key=Follow,valueonly)"))
	}
	want := strings.Join([]string{s.name + " 1.1.0 " + s.name, "", s.name + " 1.1.0 " + s.name, "", s.name + " 1.0.0 " + s.name}, "\n")
	assert.Equal(t, want, commits())
	s.kill()
	s.start()
	for end := time.Now().Add(patience); !strings.Contains(s.ok("follow", "list"), s.name); time.Sleep(100 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "the follow is not known")
	}
	f = s.theFollow(s.name)
	assert.Len(t, f.History, 2, "it remembers what it has written")
	assert.Equal(t, want, commits(), "and nothing is written twice")

	s.push("Back to 1.0.0", map[string]string{"versions/gate.yaml": "vigila: versions/v1\nimages:\n  " + image + ": {tag: 1.0.0, digest: \"" + first + "\"}\n"})
	at("1.0.0", first)
	f = s.theFollow(s.name)
	assert.Equal(t, "1.0.0", f.Version)
	assert.Contains(t, fmt.Sprint(f.Passed), "the file was at it before, and somebody took it back; take it all the same: vigila follow take "+s.name+" 1.1.0", "and stays taken back")

	third := pushImage(t, image+":1.3.0", "amd64")
	f = s.theFollow(s.name)
	assert.Equal(t, "1.3.0", f.Version)
	at("1.3.0", third)
	s.ok("reject", s.name+"@quay", f.History[0].Commit, "--why", "too loud")
	s.push("Quiet again", map[string]string{"versions/gate.yaml": "vigila: versions/v1\nimages:\n  " + image + ": {tag: 1.0.0, digest: \"" + first + "\"}\n"})
	f = s.theFollow(s.name)
	assert.Contains(t, fmt.Sprint(f.Passed), "it was rejected: "+s.name+"@quay: too loud")

	s.push("Wrong", map[string]string{"versions/gate.yaml": "vigila: versions/v1\nimages: {a: {}}\n"})
	f = s.theFollow(s.name)
	assert.Contains(t, f.Says, "versions/gate.yaml:2: images.a has neither a tag nor a digest", "a file with mistakes is left alone")
}

// TestNewVersionsAreProposed: with by: proposal a newer version waits for a review, a still newer one takes its place, and what somebody
// has withdrawn is not proposed again by itself.
func TestNewVersionsAreProposed(t *testing.T) {
	t.Parallel()
	s := newService(t)
	host := dockRegistry(t)
	image := host + "/harbour/gate"
	pushImage(t, image+":1.0.0", "amd64")
	s.push("All", map[string]string{"app/d.yaml": strings.ReplaceAll(deployment("gate:0", 1), "registry.brindle.example/gate:0", image+":0"),
		"wards/gate.yaml":    fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nfrom: {path: app, versions: [versions/gate.yaml]}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\nsettle: {within: 30s}\n", s.name),
		"versions/gate.yaml": "vigila: versions/v1\nimages:\n  " + image + ": {tag: \"0\"}\n",
		"wards/follow.yaml":  "vigila: follow/v1\nname: " + s.name + "\nimage: " + image + "\nversions: \">=1 <3\"\nby: proposal\ninto: {file: versions/gate.yaml}\nevery: 10s\n"})
	s.ok("registry", "add", "harbour", host)
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	for end := time.Now().Add(patience); !strings.Contains(s.ok("follow", "list"), s.name); time.Sleep(100 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "the follow is not known")
	}
	f := s.theFollow(s.name)
	assert.Equal(t, "at 0; 1.0.0 waits for a review (#1)", f.Says)
	assert.True(t, f.NeedsYou)
	s.theFollow(s.name)
	require.Len(t, s.proposed(), 1, "the same look is the same proposal")
	out := s.ok("propose", "show", "1")
	assert.Contains(t, out, s.name+" 1.0.0")
	assert.Contains(t, out, "from "+image+":0\n      to\n        "+image+":1.0.0@sha256:")

	pushImage(t, image+":1.1.0", "amd64")
	f = s.theFollow(s.name)
	assert.Equal(t, "at 0; 1.1.0 waits for a review (#2)", f.Says)
	assert.Equal(t, "withdrawn by vigila: another took its place: "+s.name+" 1.1.0", s.proposal(1).Says)
	s.ok("propose", "withdraw", "2", "--why", "it beeps")
	f = s.theFollow(s.name)
	assert.Equal(t, "at 0; 1.0.0 waits for a review (#3)", f.Says, "the next that nobody has withdrawn")
	assert.Contains(t, fmt.Sprint(f.Passed), "proposal 2, withdrawn by admin: it beeps; take it all the same: vigila follow take "+s.name+" 1.1.0")
	s.kill()
	s.start()
	for end := time.Now().Add(patience); !strings.Contains(s.ok("follow", "list"), s.name); time.Sleep(100 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "the follow is not known")
	}
	assert.Equal(t, "at 0; 1.0.0 waits for a review (#3)", s.theFollow(s.name).Says)
	s.ok("follow", "take", s.name, "1.1.0")
	live := s.proposed()
	require.Len(t, live, 1)
	assert.Equal(t, s.name+" 1.1.0", live[0].Title)
	pushImage(t, image+":1.2.0", "amd64")
	assert.Contains(t, s.theFollow(s.name).Says, "1.1.0 waits for a review", "a newer one does not take the place of what a person has asked for")
	s.ok("propose", "merge", fmt.Sprint(live[0].Number))
	s.until("runs what was merged", func(w client.Ward) bool {
		return inStepAndReady(w) && w.Applied.Subject == s.name+" 1.1.0" && strings.Contains(fmt.Sprint(s.images()), image+":1.1.0@sha256:")
	})
	assert.Contains(t, s.theFollow(s.name).Says, "at 1.1.0; 1.2.0 waits for a review")
}

// TestARegistryTellsOfPushes: the registry's own notification makes a follow look at once, that looks by itself once an hour.
func TestARegistryTellsOfPushes(t *testing.T) {
	t.Parallel()
	s := newService(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	host, dir := l.Addr().String(), t.TempDir()
	require.NoError(t, l.Close())
	stop := runRegistry(t, host, dir, "")
	image := host + "/harbour/gate"
	pushImage(t, image+":1.0.0", "amd64")
	s.push("All", map[string]string{"wards/follow.yaml": "vigila: follow/v1\nname: " + s.name + "\nimage: " + image + "\nversions: \">=1\"\ninto: {file: versions/gate.yaml}\nevery: 1h\n"})
	s.ok("registry", "add", "harbour", host)
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	at := func(version string) {
		t.Helper()
		for end := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
			r, err := s.api.GetFollowWithResponse(t.Context(), s.name)
			if err == nil && r.JSON200 != nil && r.JSON200.Version == version {
				return
			}
			require.True(t, time.Now().Before(end), "it is not at %s", version)
		}
	}
	at("1.0.0")
	assert.Contains(t, s.ok("registry", "pushes", "harbour"), "None is taken: there is no key")
	out := s.ok("registry", "pushes", "harbour", "--new-key")
	_, key, _ := strings.Cut(out, "Authorization: Bearer ")
	key = strings.TrimSpace(key)
	require.NotEmpty(t, key)
	address := s.url + "/api/v1/registries/harbour/pushes"
	told := func(header string) int {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, address, strings.NewReader("{}"))
		require.NoError(t, err)
		if header != "" {
			r.Header.Set("Authorization", header)
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	assert.Equal(t, http.StatusUnauthorized, told(""))
	assert.Equal(t, http.StatusUnauthorized, told("Bearer "+s.token), "a token is no key")
	assert.Contains(t, s.ok("registry", "pushes", "harbour"), "none has come since the service started")
	assert.Equal(t, http.StatusAccepted, told("Bearer "+key))
	pushImage(t, image+":1.0.1", "amd64") // a registry tells of an image before its tag can be read
	at("1.0.1")

	stop()
	runRegistry(t, host, dir, fmt.Sprintf("notifications:\n  endpoints:\n    - {name: vigila, url: %q, headers: {Authorization: [\"Bearer %s\"]}, timeout: 5s, threshold: 3, backoff: 1s}\n", address, key))
	pushImage(t, image+":1.1.0", "amd64")
	at("1.1.0")
	assert.Contains(t, s.ok("registry", "pushes", "harbour"), "The last one came")
	s.fails(1, "there is no registry", "registry", "pushes", "harbor")
}

// TestARegistryIsAskedAtAnotherAddress than images name.
func TestARegistryIsAskedAtAnotherAddress(t *testing.T) {
	t.Parallel()
	s := newService(t)
	host := dockRegistry(t)
	digest := pushImage(t, host+"/harbour/gate:1.0.0", "amd64")
	s.push("All", map[string]string{"wards/follow.yaml": "vigila: follow/v1\nname: gate\nimage: registry.brindle.example/harbour/gate\nversions: \"1.x\"\ninto: {file: versions/gate.yaml}\nevery: 10s\n"})
	s.fails(1, "the address of registry harbour: write a host", "registry", "add", "harbour", "registry.brindle.example", "--at", "http://"+host)
	s.fails(1, "can't be read", "registry", "add", "harbour", "registry.brindle.example", "--at", "127.0.0.1:1")
	s.ok("registry", "add", "harbour", "registry.brindle.example", "--at", host)
	assert.Contains(t, s.ok("registry", "list"), "registry.brindle.example at "+host)
	r := s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	assert.NotContains(t, r, "ward file", "a follow alone is no empty roster")
	for end := time.Now().Add(patience); !strings.Contains(s.ok("follow", "list"), "gate"); time.Sleep(100 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "the follow is not known")
	}
	f := s.theFollow("gate")
	assert.Equal(t, []string{"1.0.0", digest}, []string{f.Version, f.Digest})
}

// TestVersionsInTheConsole: a registry is added, what is followed is read, and a version taken, in the browser.
func TestVersionsInTheConsole(t *testing.T) {
	t.Parallel()
	s := newService(t)
	host := dockRegistry(t)
	image := host + "/harbour/gate"
	pushImage(t, image+":1.0.0", "amd64")
	pushImage(t, image+":2.0.0", "amd64")
	s.push("All", map[string]string{"wards/follow.yaml": "vigila: follow/v1\nname: gate\nimage: " + image + "\nversions: \"1.x\"\ninto: {file: versions/gate.yaml}\nevery: 10s\n"})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.opens(`//nav//a[text()="Set up"]`, "Registries")
	b.opens(`//nav//a[text()="Versions"]`, "No registry is known at "+host)
	b.opens(`//nav//a[text()="Registries"]`, "No registries yet.")
	b.click("Add a registry")
	b.fill("name", "harbour")
	b.fill("host", host)
	b.click("Check and add it")
	b.shows("1 registry that follows ask")
	b.opens(`//nav//a[text()="Versions"]`, "2.0.0 is there")
	b.click("See all of it")
	b.shows("it is out of 1.x")
	b.do(chromedp.SendKeys(`//div[@role="dialog"]//form//input`, "2.0.0"))
	b.click("Take it")
	b.shows("says 2.0.0")
	assert.Contains(t, git(t, filepath.Join(labDir, "git", s.name+".git"), "show", "main:versions/gate.yaml"), "2.0.0")
}

// TestARosterWithLimitsFollowsWithinThem: what it follows is written below its own path, to its own repository.
func TestARosterWithLimitsFollowsWithinThem(t *testing.T) {
	t.Parallel()
	s := newService(t)
	follow := func(name, into string) string {
		return "vigila: follow/v1\nname: " + name + "\nimage: registry.brindle.example/" + name + "\nversions: \">=1\"\ninto: {" + into + "}\n"
	}
	s.push("All", map[string]string{"team/inside.yaml": follow("inside", "file: team/v.yaml"), "team/outside.yaml": follow("outside", "file: others/v.yaml"), "team/elsewhere.yaml": follow("elsewhere", "repo: others, file: team/v.yaml")})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "team", "--namespace", s.name)
	r := s.rosterUntil(s.name, "it tells of both", func(r client.Roster) bool { return len(r.Problems) == 2 })
	texts := fmt.Sprint(r.Problems)
	assert.Contains(t, texts, "so what it follows is written below team alone, not to others/v.yaml")
	assert.Contains(t, texts, "so what it follows is written to "+s.name+" alone")
	out := s.ok("follow", "list")
	assert.Contains(t, out, "inside")
	assert.NotContains(t, out, "outside")
}
