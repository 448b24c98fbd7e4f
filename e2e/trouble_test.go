package e2e

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"k8s.io/client-go/tools/clientcmd"

	"vigila.dev/vigila/internal/client"
)

// TestBadInput: each mistake gets an error that names the place and the mend, loses nothing, and the service
// stays up.
func TestBadInput(t *testing.T) {
	t.Parallel()
	s := newService(t)

	// An empty repository is no error: it says what it waits for.
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 20s"))
	w := s.until("it says what it waits for", func(w client.Ward) bool { return strings.Contains(w.Says, "Waits for the first commit") })
	assert.False(t, w.NeedsYou)
	assert.EqualValues(t, "blind", w.Standing, "what was not looked at is never in step")

	good := config("horn", "interval", "30s")
	s.push("Good", map[string]string{"app/config.yaml": good, "other/x.yaml": good})
	s.until("it is in step", inStepAndReady)
	s.ok("diff", s.name)

	for _, c := range []struct{ name, file, text, want string }{
		{"broken YAML", "app/config.yaml", "apiVersion: v1\nkind: ConfigMap\nmetadata:\n  name: [horn\n", "app/config.yaml:"},
		{"an unknown kind", "app/more.yaml", "apiVersion: v1\nkind: ConfigMapp\nmetadata: {name: a}\n", "app/more.yaml:1: cluster quay knows no kind ConfigMapp in v1"},
		{"no kind", "app/more.yaml", "a: 1\n", "app/more.yaml:1: it has no apiVersion or no kind"},
		{"declared twice", "app/more.yaml", good, "app/more.yaml:1: ConfigMap/horn is declared twice; first at app/config.yaml:1"},
		{"an overlay", "app/kustomization.yaml", "resources: [https://bases.brindle.example/x.yaml]\n", "app/kustomization.yaml:1: resources: https://bases.brindle.example/x.yaml is remote"},
		{"an empty overlay", "app/kustomization.yaml", "resources: []\n", "app/kustomization.yaml:1: this overlay is made of nothing"},
	} {
		s.push(c.name, map[string]string{c.file: c.text})
		w := s.until(c.name, func(w client.Ward) bool { return strings.Contains(w.Says, c.want) })
		assert.EqualValues(t, "blind", w.Standing)
		assert.True(t, w.NeedsYou)
		assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "horn"), "nothing is lost")
		s.fails(1, c.want, "sync", s.name)
		mend := map[string]string{"app/config.yaml": good}
		if c.file != "app/config.yaml" {
			mend = map[string]string{c.file: ""}
		}
		s.push("Mend it", mend)
		s.until("it is in step again", inStepAndReady)
	}

	// What the API server refuses is passed on, before and after.
	s.push("Refused", map[string]string{"app/more.yaml": "apiVersion: v1\nkind: Service\nmetadata: {name: web}\nspec: {ports: [{port: 99999}]}\n"})
	w = s.until("it is refused", func(w client.Ward) bool { return w.Rejected != "" })
	assert.Contains(t, w.Rejected, "must be between 1 and 65535")
	s.fails(3, "must be between 1 and 65535", "diff", s.name)
	s.push("Mend it", map[string]string{"app/more.yaml": ""})
	s.until("it is in step again", inStepAndReady)

	// Ward files.
	add := func(from, to, want string) {
		text := s.wardFile("sync: auto, drift: restore", "within: 20s")
		require.Contains(t, text, from)
		file := filepath.Join(s.dir, "bad.yaml")
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, from, to, 1)), 0o600))
		s.fails(1, want, "ward", "add", file)
	}
	add("drift:", "drfit:", "bad.yaml:6: unknown key keep.drfit; did you mean drift?")
	add("repo: "+s.name, "repo: flet", `bad.yaml:1: ward `+s.name+` comes from repository "flet", which is not known; there is `+s.name)
	add("cluster: quay", "cluster: key", `goes into cluster "key", which is not known; there is quay`)
	add("name: "+s.name, "name: [", "bad.yaml:")

	// A wrong branch and a wrong path say what there is.
	s.add(strings.Replace(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 20s"), "path: app", "path: app, ref: mian", 1))
	s.until("the branch is missed", func(w client.Ward) bool {
		return strings.Contains(w.Says, `no branch, tag or commit "mian"`) && strings.Contains(w.Says, "its branches are: main")
	})
	s.add(strings.Replace(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 20s"), "path: app", "path: ap", 1))
	s.until("the path is missed", func(w client.Ward) bool {
		return strings.Contains(w.Says, `has no "ap"`) && strings.Contains(w.Says, "there is: app, other")
	})

	// Repositories and clusters.
	s.fails(1, "there is no repository at", "repo", "add", "missing", gitBase+"/missing.git")
	s.fails(1, "can't be reached", "repo", "add", "nowhere", "http://127.0.0.1:1/x.git")
	s.fails(1, "starts with none of https://, http:// and ssh://", "repo", "add", "odd", "ext::sh -c true")
	s.fails(1, "holds a user name or password", "repo", "add", "odd", "http://a:b@127.0.0.1/x.git")
	s.fails(1, "only for trials", "repo", "add", "odd", "file:///etc")
	s.fails(2, `no context "wrong"; it has: quay`, "cluster", "add", "c", "--kubeconfig", kubeconfig(), "--kube-context", "wrong")
	s.fails(1, "no such file", "cluster", "add", "c", "--kubeconfig", "/nonexistent")
	s.fails(1, "is used by a ward", "repo", "remove", s.name)
	s.fails(1, "keeps 1 wards", "cluster", "remove", "quay")

	// The command line.
	s.fails(1, `there is no ward "nobody"`, "diff", "nobody")
	s.fails(2, "needs the name of a ward", "diff")
	s.fails(2, "unknown flag: --allways", "sync", "--allways")
	s.fails(2, "unknown command", "snyc")
	s.fails(2, "-o xml is not known", "ward", "list", "-o", "xml")
	s.fails(2, "is not the number of an entry", "rollback", s.name, "first")
	s.fails(1, "has no entry #999", "rollback", s.name, "999")
	s.fails(2, "is no address of a service", "sign-in", "127.0.0.1")
	s.fails(1, "This sign-in is not taken: it is not known, has ended, or was taken back", "sign-in", s.url+"/#sign-in=wrong")
	assert.Contains(t, s.ok("sign-in", s.url+"/#sign-in="+s.token), "Signed in")
	assert.NotContains(t, s.log.String(), "panic")
}

func TestWrongGitCredentials(t *testing.T) {
	t.Parallel()
	s := newService(t)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	serve := exec.CommandContext(ctx, filepath.Join(bin, "vigila-lab"), "git", "--dir", t.TempDir(), "--empty-repos", "closed", "--git-user", "vigila", "--git-password", "open-sesame")
	out, err := serve.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, serve.Start())
	defer func() { cancel(); _ = serve.Wait() }()
	buf := make([]byte, 200)
	n, err := out.Read(buf)
	require.NoError(t, err)
	url := strings.TrimSpace(string(buf[:n])) + "/closed.git"

	s.fails(1, "asks for a sign-in and none is known; add it with vigila repo add closed", "repo", "add", "closed", url)
	file := filepath.Join(s.dir, "password")
	require.NoError(t, os.WriteFile(file, []byte("wrong-horse\n"), 0o600))
	s.fails(1, `refused user "vigila" with this password`, "repo", "add", "closed", url, "--user", "vigila", "--password-file", file)
	require.NoError(t, os.WriteFile(file, []byte("open-sesame\n"), 0o600))
	s.ok("repo", "add", "closed", url, "--user", "vigila", "--password-file", file)
	for _, secret := range []string{"wrong-horse", "open-sesame"} {
		assert.NotContains(t, s.ok("repo", "list", "-o", "json"), secret)
		assertNowhere(t, s, secret)
	}
}

// assertNowhere looks for a secret in the log and in every file the service keeps.
func assertNowhere(t *testing.T, s *service, secret string) {
	t.Helper()
	assert.NotContains(t, s.log.String(), secret)
	files := 0
	require.NoError(t, filepath.WalkDir(filepath.Join(s.dir, "data"), func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(path, "mirrors") {
			return nil
		}
		b, err := os.ReadFile(path)
		if err == nil {
			files++
			assert.False(t, bytes.Contains(b, []byte(secret)), "%s holds a secret in the clear", path)
		}
		return nil
	}))
	assert.Greater(t, files, 1)
}

func TestSecretsAreNeverShown(t *testing.T) {
	t.Parallel()
	s := newService(t)
	secret := func(password string) string {
		return "apiVersion: v1\nkind: Secret\nmetadata: {name: door}\nstringData: {password: " + password + "}\n"
	}
	s.push("A secret", map[string]string{"app/secret.yaml": secret("low-water-mark")})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 20s"))
	s.until("it is in step", inStepAndReady)
	s.push("Another", map[string]string{"app/secret.yaml": secret("high-water-mark")})
	s.until("it is in step with the other", func(w client.Ward) bool { return inStepAndReady(w) && len(s.entries()) == 2 })
	s.edit("hurry", "secret/door", "data.password=c3ByaW5nLXRpZGU=")
	w := s.until("it is drifted", func(w client.Ward) bool { return w.Standing == "drifted" })
	assert.Equal(t, "hurry changed data.password of Secret/door", w.Says)

	var all strings.Builder
	out, _, code := s.cli("diff", s.name)
	assert.Equal(t, 3, code)
	all.WriteString(out)
	all.WriteString(s.ok("ward", "show", s.name, "-o", "json"))
	r, err := s.api.GetObjectWithResponse(context.Background(), s.name, &client.GetObjectParams{Key: "|Secret|" + s.name + "|door"})
	require.NoError(t, s.api.Check(r, err))
	assert.Contains(t, r.JSON200.LiveYaml, "password: secret ")
	all.Write(r.Body)
	assert.Contains(t, all.String(), "applied secret ", "changed or unchanged is told, by a digest")
	for _, v := range []string{"low-water-mark", "high-water-mark", "spring-tide", "c3ByaW5nLXRpZGU=", "bG93LXdhdGVyLW1hcms=", "aGlnaC13YXRlci1tYXJr"} {
		assert.NotContains(t, all.String(), v)
		assertNowhere(t, s, v)
	}
	// From the snapshot, encrypted, it can be brought back.
	s.ok("rollback", s.name, "1")
	assert.Equal(t, "bG93LXdhdGVyLW1hcms=", live(t, "", "v1", "secrets", s.name, "door").Object["data"].(map[string]any)["password"])
}

// TestKilledInTheMiddleOfARun: after kill -9 the run is interrupted, the standing is true, and the next sync
// finishes the work.
func TestKilledInTheMiddleOfARun(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Config first, then what never gets ready", map[string]string{
		"app/config.yaml":     config("horn", "interval", "30s"),
		"app/deployment.yaml": deployment("berth-hung:1", 1),
		"app/later.yaml":      "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: later, annotations: {vigila.dev/step: \"1\"}}\n"})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 1h"))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	s.ok("sync", s.name, "--no-wait")
	s.until("it waits for the deployment", func(w client.Ward) bool {
		for _, o := range w.Run.Objects {
			if o.Kind == "Deployment" && o.State == "settling" {
				return true
			}
		}
		return false
	})
	s.kill()
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "horn"))
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "later"))
	s.start()
	w := s.until("its standing is known", func(w client.Ward) bool { return w.Standing != "blind" })
	assert.EqualValues(t, "behind", w.Standing, "an interrupted run is not done")
	assert.Zero(t, w.Drifted, "what the run applied itself is nobody's drift")
	e := s.entry(1)
	assert.EqualValues(t, "interrupted", e.Outcome)
	assert.False(t, e.Ended.IsZero())
	// The mend comes with a commit; the sync finishes the work.
	s.push("An image that gets ready", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1)})
	s.ok("sync", s.name)
	s.until("it is in step and ready", inStepAndReady)
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "later"))
	assert.EqualValues(t, "done", s.entry(2).Outcome)
}

func TestAPersonCanStopARun(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Never ready", map[string]string{"app/deployment.yaml": deployment("berth-hung:1", 1)})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 1h"))
	s.until("it runs", func(w client.Ward) bool { return w.Run.Number == 1 })
	s.ok("sync", s.name, "--stop")
	w := s.until("it is stopped", func(w client.Ward) bool { return w.Run.Number == 0 })
	assert.EqualValues(t, "stopped", s.entry(1).Outcome)
	assert.Equal(t, "admin", w.Hold.By, "it does not start again the next moment")
	assert.Contains(t, s.ok("sync", s.name, "--no-wait"), "Started #2", "what never got ready is not called as declared")
	w = s.until("it waits again", func(w client.Ward) bool { return w.Run.Number == 2 })
	assert.Empty(t, w.Applied.Id, "nor is it what the ward goes back to")
	s.ok("sync", s.name, "--stop")
	s.until("it is stopped", func(w client.Ward) bool { return w.Run.Number == 0 })
}

// TestARemovalThatWaitsForAFinalizerCanBeStopped: nothing hangs, and what is left is still the ward's.
func TestARemovalThatWaitsForAFinalizerCanBeStopped(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Two", map[string]string{"app/a.yaml": config("a", "k", "v"), "app/b.yaml": config("b", "k", "v")})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 1h"))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	s.ok("sync", s.name)
	s.edit("stubborn", "configmap/b", `metadata.finalizers=["brindle.example/never"]`)
	s.push("One", map[string]string{"app/b.yaml": ""})
	s.ok("look", s.name)
	s.ok("sync", s.name, "--no-wait")
	s.until("it waits for the removal", func(w client.Ward) bool {
		o := live(t, "", "v1", "configmaps", s.name, "b")
		return w.Run.Number == 2 && o != nil && o.GetDeletionTimestamp() != nil
	})
	s.ok("sync", s.name, "--stop")
	w := s.until("it is stopped", func(w client.Ward) bool { return w.Run.Number == 0 })
	assert.Equal(t, 1, w.Pending)
	e := s.entry(2)
	assert.EqualValues(t, "stopped", e.Outcome)
	assert.Contains(t, e.Objects[0].Reason, "it waits for brindle.example/never")
	s.edit("stubborn", "configmap/b", "metadata.finalizers=null")
	s.until("it is gone", func(w client.Ward) bool { return live(t, "", "v1", "configmaps", s.name, "b") == nil })
	s.ok("sync", s.name)
	s.until("it is in step", inStepAndReady)
}

// TestAnUnreachableClusterIsBlind: never in step while it can't be read, and known again when it is back.
func TestAnUnreachableClusterIsBlind(t *testing.T) {
	t.Parallel()
	s := newService(t)
	cfg, err := clientcmd.LoadFromFile(kubeconfig())
	require.NoError(t, err)
	proxy := newBreakable(t, strings.TrimPrefix(cfg.Clusters["quay"].Server, "https://"))
	cfg.Clusters["quay"].Server = "https://" + proxy.l.Addr().String()
	file := filepath.Join(s.dir, "through-the-proxy.yaml")
	require.NoError(t, clientcmd.WriteToFile(*cfg, file))
	s.ok("cluster", "remove", "quay")
	s.ok("cluster", "add", "quay", "--kubeconfig", file)

	s.push("Config", map[string]string{"app/config.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 20s"))
	s.until("it is in step", inStepAndReady)
	proxy.cut(true)
	w := s.until("it is blind", func(w client.Ward) bool { return w.Standing == "blind" })
	assert.EqualValues(t, "unknown", w.Health)
	assert.Contains(t, w.Says, "cluster quay does not answer")
	assert.False(t, w.Live.At.IsZero(), "the last known has its age")
	s.fails(1, "what is shown may not be all", "diff", s.name)
	// Meanwhile someone changes it, unseen.
	s.edit("hurry", "configmap/horn", "data.interval=1s")
	s.fails(1, "does not answer", "cluster", "add", "another", "--kubeconfig", file)
	proxy.cut(false)
	s.until("what was missed is restored", func(w client.Ward) bool { return inStepAndReady(w) && len(s.entries()) == 2 })
	assert.EqualValues(t, "restore", s.entry(2).Kind)
	assert.Contains(t, s.entry(2).Why, "hurry changed data.interval")
}

func TestLogsAndEventsWithoutTheClustersOwnClient(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Crashes", map[string]string{"app/deployment.yaml": deployment("berth-crashing:1", 1)})
	s.add(s.wardFile("sync: auto, drift: report, every: 1s", "within: 1h"))
	s.until("it fails, and says why", func(w client.Ward) bool {
		return w.Health == "failing" && strings.Contains(w.HealthReason, "crash-loops, exit 2, “no fare table”")
	})
	require.Eventually(t, func() bool {
		out, _, _ := s.cli("ward", "show", s.name)
		return strings.Contains(out, "BackOff: Back-off restarting failed container") && strings.Contains(out, "    no fare table")
	}, patience, 200*time.Millisecond)
	r, err := s.api.GetLogsWithResponse(context.Background(), s.name, &client.GetLogsParams{Key: "apps|Deployment|" + s.name + "|berth-planner", Pod: "somebody-elses"})
	require.ErrorContains(t, s.api.Check(r, err), "has no Pod somebody-elses")
}

// TestTheLabLeavesNothingBehind: a crash of the lab's parent ends every child.
func TestTheLabLeavesNothingBehind(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	up := func() (*exec.Cmd, map[string]int) {
		cmd := exec.Command(filepath.Join(bin, "vigila-lab"), "up", "--dir", dir, "--clusters", "pier")
		require.NoError(t, cmd.Start())
		var state struct{ Children map[string]int }
		require.Eventually(t, func() bool {
			b, err := os.ReadFile(filepath.Join(dir, "lab.json"))
			return err == nil && jsonInto(b, &state) && state.Children["etcd"] != 0 && alive(state.Children["etcd"])
		}, 2*patience, 50*time.Millisecond)
		return cmd, state.Children
	}
	ended := func(children map[string]int) {
		for name, pid := range children {
			require.Eventually(t, func() bool { return !alive(pid) }, patience, 20*time.Millisecond, name)
		}
	}
	cmd, children := up()
	assert.Len(t, children, 3)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	ended(children)
	cmd, again := up() // with its state
	assert.NotEqual(t, children["etcd"], again["etcd"])
	lab(t, "down", "--dir", dir)
	_ = cmd.Wait()
	ended(again)
}

func alive(pid int) bool { return syscall.Kill(pid, 0) == nil }

// TestHowImagesBehave: Jobs that end well and badly, and an image that can't be pulled, each with its reason.
func TestHowImagesBehave(t *testing.T) {
	t.Parallel()
	s := newService(t)
	job := func(name, image string) string {
		return "apiVersion: batch/v1\nkind: Job\nmetadata: {name: " + name + "}\nspec: {backoffLimit: 0, template: {spec: {restartPolicy: Never, containers: [{name: task, image: registry.brindle.example/" + image + "}]}}}\n"
	}
	s.push("A job", map[string]string{"app/job.yaml": job("count-berths", "berth-schema:1")})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 1h, otherwise: stop"))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	assert.Contains(t, s.ok("sync", s.name), "● Job count-berths  ready")

	s.push("A job that fails", map[string]string{"app/bad.yaml": job("move-berths", "berth-crashing:1")})
	out, _, code := s.cli("sync", s.name)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "Failed after")
	assert.Contains(t, out, "Job/move-berths", "a failed Job ends the run at once, not at its deadline")

	s.push("An image that can't be pulled", map[string]string{"app/bad.yaml": "", "app/deployment.yaml": deployment("berth-broken:1", 1)})
	s.ok("look", s.name)
	s.ok("sync", s.name, "--no-wait")
	require.Eventually(t, func() bool {
		for _, o := range s.detail().Outline {
			if o.Kind == "Deployment" && strings.Contains(o.Reason, "image registry.brindle.example/berth-broken:1 can't be pulled") {
				return true
			}
		}
		return false
	}, patience, 50*time.Millisecond)
	s.fails(1, "is in the middle of sync #3", "ward", "remove", s.name)
	file := filepath.Join(s.dir, "ward.yaml")
	s.fails(1, "is in the middle of sync #3", "ward", "add", file)
	s.ok("sync", s.name, "--stop")
}
