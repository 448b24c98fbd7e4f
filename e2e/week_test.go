package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"

	"vigila.dev/vigila/internal/client"
)

// gate is a Service that is ready once somebody opens it: what comes after it waits.
const gate = "apiVersion: v1\nkind: Service\nmetadata: {name: gate}\nspec: {type: LoadBalancer, selector: {app: gate}, ports: [{port: 80}]}\n"

// open makes the gate ready, or not.
func (s *service) open(yes bool) {
	s.t.Helper()
	patch := `{"status":{"loadBalancer":{"ingress":null}}}`
	if yes {
		patch = `{"status":{"loadBalancer":{"ingress":[{"ip":"192.0.2.9"}]}}}`
	}
	_, err := dynamicClient(s.t).Resource(schema.GroupVersionResource{Version: "v1", Resource: "services"}).Namespace(s.name).Patch(context.Background(), "gate", types.MergePatchType, []byte(patch), metav1.PatchOptions{}, "status")
	require.NoError(s.t, err)
}

// started runs a command that takes a while, and tells what it has printed once it is through.
func (s *service) started(args ...string) (told func() string, ended func() (string, int), interrupt func()) {
	s.t.Helper()
	file, err := os.CreateTemp(s.t.TempDir(), "out")
	require.NoError(s.t, err)
	cmd := exec.Command(filepath.Join(bin, "vigila"), args...)
	cmd.Env = append(os.Environ(), "VIGILA_URL="+s.url, "VIGILA_TOKEN="+s.token)
	cmd.Stdout, cmd.Stderr = file, file
	require.NoError(s.t, cmd.Start())
	told = func() string {
		b, err := os.ReadFile(file.Name())
		require.NoError(s.t, err)
		return string(b)
	}
	ended = func() (string, int) {
		_ = cmd.Wait()
		return told(), cmd.ProcessState.ExitCode()
	}
	return told, ended, func() { require.NoError(s.t, cmd.Process.Signal(os.Interrupt)) }
}

// TestRunsAreJoinedAndWaitedFor: nobody fails because somebody else was a moment earlier.
func TestRunsAreJoinedAndWaitedFor(t *testing.T) {
	t.Parallel()
	s := newService(t)
	says := func(told func() string, what string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(told(), what) }, patience, patience/600, "%s is said", what)
	}
	s.push("A gate", map[string]string{"app/gate.yaml": gate, "app/horn.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: ask, every: 1s", "within: 180s"))
	s.fails(1, "no run goes on in "+s.name, "run", s.name)
	first, firstEnds, _ := s.started("sync", s.name)
	says(first, "waits for a load balancer address")

	// Another sync to the same joins it; somebody who leaves is told that it goes on; one who only starts is told as much.
	second, secondEnds, _ := s.started("sync", s.name)
	says(second, "sync #1 goes on to the same already, since")
	third, thirdEnds, leave := s.started("run", s.name)
	says(third, "waits for a load balancer address")
	leave()
	out, code := thirdEnds()
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "left; #1 goes on. Follow it: vigila run "+s.name+" 1. Stop it: vigila sync "+s.name+" --stop")
	assert.Contains(t, s.ok("sync", s.name, "--no-wait"), "sync #1 goes on to the same already")
	waiting, waitingEnds, _ := s.started("wait", s.name, "--within", "2m")
	// A restore is another run: it waits for its turn.
	restore, restoreEnds, _ := s.started("restore", s.name)
	says(restore, "sync #1 goes on, started by admin; this waits for its end")
	says(waiting, "") // it tells nothing while a run goes on
	s.open(true)
	for name, ends := range map[string]func() (string, int){"first": firstEnds, "second": secondEnds} {
		out, code := ends()
		assert.Zero(t, code, "%s: %s", name, out)
		assert.Contains(t, out, "Done in ", name)
	}
	out, code = restoreEnds()
	assert.Zero(t, code, out)
	assert.Contains(t, out, "Nothing to do")
	out, code = waitingEnds()
	assert.Zero(t, code, out)
	assert.Contains(t, out, "in step")
	assert.Len(t, s.entries(), 1, "one run was enough for all of them")

	// A document tells the same to a pipeline.
	var e client.Entry
	require.NoError(t, json.Unmarshal([]byte(s.ok("run", s.name, "1", "-o", "json")), &e))
	assert.EqualValues(t, "done", e.Outcome)
	require.NoError(t, json.Unmarshal([]byte(s.ok("sync", s.name, "-o", "json")), &e))
	assert.EqualValues(t, "done", e.Outcome)

	// A commit that changes nothing of the ward is held as soon as it is read; one that nobody has pushed is not.
	other := s.push("Elsewhere", map[string]string{"elsewhere/x.yaml": config("x", "y", "z")})
	assert.Contains(t, s.ok("wait", s.name, "--revision", other, "--within", "1m"), "in step")
	s.fails(1, "is not there after 2 s", "wait", s.name, "--revision", strings.Repeat("ab", 20), "--within", "2s")

	// A rollback takes the place of a run that goes forward.
	s.open(false)
	s.push("A horn that is too loud", map[string]string{"app/horn.yaml": config("horn", "interval", "1s"), "app/bell.yaml": config("bell", "interval", "9s"), "app/gate.yaml": strings.Replace(gate, "port: 80", "port: 81", 1)})
	forward, forwardEnds, _ := s.started("sync", s.name)
	says(forward, "waits for a load balancer address")
	back, backEnds, _ := s.started("rollback", s.name, "1")
	says(back, "goes on, started by admin; it is stopped first")
	s.open(true)
	out, code = forwardEnds()
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "Stopped after ")
	out, code = backEnds()
	assert.Zero(t, code, out)
	assert.Contains(t, out, "Held at #1")
	value := func(name string) string {
		o := live(t, "", "v1", "configmaps", s.name, name)
		if o == nil {
			return ""
		}
		data, _ := o.Object["data"].(map[string]any)
		v, _ := data["interval"].(string)
		return v
	}
	assert.Equal(t, "30s", value("horn"))
	s.fails(1, "does not get there by itself", "wait", s.name, "--within", "1m")

	// A part of it can go back alone.
	s.ok("release", s.name)
	s.ok("sync", s.name)
	s.ok("wait", s.name, "--for", "in-step", "--within", "1m")
	s.ok("rollback", s.name, "1", "--only", "ConfigMap/horn")
	assert.Equal(t, "30s", value("horn"))
	assert.Equal(t, "9s", value("bell"), "the rest stays as it is")
	w := s.until("it is held", func(w client.Ward) bool { return w.Hold.By != "" })
	assert.EqualValues(t, "behind", w.Standing)
	assert.Equal(t, 1, w.Pending)
}

// TestWhatIsMistypedIsSaid, with what was meant.
func TestWhatIsMistypedIsSaid(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A horn", map[string]string{"app/horn.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	for _, c := range []struct {
		want string
		args []string
		code int
	}{
		{`unknown command "lst" for vigila ward; did you mean vigila ward list?`, []string{"ward", "lst"}, 2},
		{`there is no standing "drifed"; did you mean drifted?`, []string{"ward", "list", "--standing", "drifed"}, 1},
		{`there is no cluster "quey"; did you mean quay?`, []string{"ward", "list", "--cluster", "quey"}, 1},
		{`there is no roster "nope"`, []string{"ward", "list", "--roster", "nope"}, 1},
		{`there is no guard "mass-remval"; did you mean mass-removal?`, []string{"sync", s.name, "--allow", "mass-remval"}, 1},
		{`--for -2h0m0s holds it for no time at all`, []string{"hold", s.name, "--for", "-2h"}, 2},
		{`there is no "submodule" to follow; did you mean submodules?`, []string{"repo", "add", "x", s.origin(), "--follow", "submodule"}, 1},
		{`--page 9: there is one page alone`, []string{"ward", "list", "--page", "9"}, 2},
		{`--page 0: the first is 1`, []string{"logbook", "--page", "0"}, 2},
		{`--limit 0: a page has 1 to 1000`, []string{"repo", "list", "--limit", "0"}, 2},
		{`--for redy: did you mean ready?`, []string{"wait", s.name, "--for", "redy"}, 2},
		{`there is no ward "` + s.name[:len(s.name)-1] + `"; did you mean ` + s.name + `@quay?`, []string{"diff", s.name[:len(s.name)-1]}, 1},
	} {
		s.fails(c.code, c.want, c.args...)
	}
	assert.Empty(t, s.ward().Hold.By)
}

// TestAProposalIsShownFirst: with --preview nothing is pushed, and what the commit would change is told.
func TestAProposalIsShownFirst(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A horn", map[string]string{"app/horn.yaml": config("horn", "interval", "30s")})
	s.add(s.wardFile("sync: ask, every: 1s", "within: 30s"))
	s.ok("sync", s.name)
	s.push("Louder, with a bell", map[string]string{"app/horn.yaml": config("horn", "interval", "10s"), "app/bell.yaml": config("bell", "text", "one\ntwo")})
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	branches := func() string {
		out, err := exec.Command("git", "ls-remote", "--heads", s.origin()).Output()
		require.NoError(t, err)
		return string(out)
	}
	before := branches()
	for _, args := range [][]string{{"rollback", s.name, "--propose", "--preview"}, {"rollback", s.name, "1", "--propose", "--preview"}} {
		out, errs, code := s.cli(args...)
		assert.Equal(t, 3, code, out+errs)
		assert.Contains(t, out, "A preview; nothing is pushed.")
		assert.Contains(t, out, "ConfigMap horn\n    data.interval  10s  →  30s")
		assert.Contains(t, out, "ConfigMap bell  gone")
	}
	assert.Equal(t, before, branches())
	s.ok("rollback", s.name, "--propose")
	assert.NotEqual(t, before, branches())

	// What is new is shown whole.
	out, _, _ := s.cli("diff", s.name)
	assert.Contains(t, out, "ConfigMap bell  create\n")
	assert.Contains(t, out, "    data.text\n      one\n      two\n")
}

// TestATaskIsRunAgainAndFollowed: by its name, and what it writes is seen while it writes.
func TestATaskIsRunAgainAndFollowed(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A migration", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "app/task.yaml": job("buoys", "buoys-slow:1", "vigila.dev/task: before"),
		"app/tidy.yaml": job("tidy", "boards-alight:1", "vigila.dev/task: failed")})
	s.add(s.wardFile("sync: ask, every: 1s", "within: 120s"))
	told, ends, _ := s.started("sync", s.name)
	require.Eventually(t, func() bool { return strings.Contains(told(), "buoys") }, patience, patience/600)
	s.fails(1, "the task buoys of #1 has not ended, so its log is not kept yet; follow it: vigila logbook "+s.name+"@quay 1 --log buoys --follow", "logbook", s.name, "--log", "buoys")
	s.fails(1, "#1 of "+s.name+"@quay has no task bouys; did you mean buoys?", "logbook", s.name, "1", "--log", "bouys")
	s.fails(2, "--follow goes with --log TASK", "logbook", s.name, "1", "--follow")
	log, logEnds, _ := s.started("logbook", s.name, "--log", "buoys", "--follow")
	require.Eventually(t, func() bool { return strings.Contains(log(), "buoy 1: lit") }, patience, patience/600)
	assert.NotContains(t, log(), "buoy 4: lit", "it is still at work")
	out, code := logEnds()
	assert.Zero(t, code, out)
	assert.Contains(t, out, "buoy 4: lit")
	out, code = ends()
	assert.Zero(t, code, out)
	kept := s.ok("logbook", s.name, "1", "--log", "buoys")
	assert.Equal(t, kept, s.ok("logbook", s.name, "1", "--log", "Job/buoys", "--follow"), "of one that has ended it is what is kept")
	assert.Contains(t, kept, "buoy 4: lit")
	s.fails(1, "no run goes on in "+s.name+"; name the entry", "logbook", s.name, "--log", "buoys")

	// Who follows is let go when their token ends, however long the task goes on.
	s.push("A hung task", map[string]string{"app/task.yaml": job("buoys", "buoys-hung:1", "vigila.dev/task: before")})
	s.ok("sync", s.name, "--no-wait")
	var made struct{ Token string }
	require.True(t, jsonInto([]byte(s.ok("token", "make", "watcher", "--role", "reader", "--for", "1h", "-o", "json")), &made))
	watcher := *s
	watcher.token = made.Token
	require.Eventually(t, func() bool {
		return strings.Contains(s.ok("ward", "show", s.name), "buoys") && s.ward().Run.Number == 2
	}, patience, patience/600)
	_, left, _ := watcher.started("logbook", s.name, "--log", "buoys", "--follow")
	used := func() bool {
		for row := range strings.SplitSeq(s.ok("token", "list"), "\n") {
			if strings.HasPrefix(row, "watcher") {
				return !strings.Contains(row, "never")
			}
		}
		return false
	}
	require.Eventually(t, used, patience, patience/300, "it is followed")
	s.ok("token", "end", "watcher")
	out, code = left()
	assert.NotContains(t, out, "panic")
	assert.Equal(t, 2, s.ward().Run.Number, "and the task goes on")
	s.ok("sync", s.name, "--stop")
	s.until("it is stopped", func(w client.Ward) bool { return w.Run.Number == 0 })
	s.push("The buoys again", map[string]string{"app/task.yaml": job("buoys", "buoys-slow:1", "vigila.dev/task: before")})
	s.ok("sync", s.name)

	// Again, and nothing else: a horn that was changed by hand stays so.
	s.edit("hurry", "configmap/horn", `data.interval="9s"`)
	s.until("the drift is seen", func(w client.Ward) bool { return w.Drifted == 1 })
	assert.Contains(t, s.ok("sync", s.name, "--only", "Job/buoys"), "buoys")
	again := s.entry(s.entries()[0].Number)
	require.Len(t, again.Objects, 1, "%d", code)
	assert.EqualValues(t, "done", again.Outcome)
	assert.True(t, again.Objects[0].Log)
	assert.Equal(t, 1, s.ward().Drifted)
	s.ok("sync", s.name, "--only", "Job/tidy")
	assert.EqualValues(t, "done", s.entries()[0].Outcome, "also one that is for failures")
	s.fails(1, "which a rollback of a part does not run", "rollback", s.name, "1", "--only", "Job/buoys")
	assert.Equal(t, 1, s.ward().Drifted)
}

// TestAThousandQuietWards are not a thousand lines: beyond a screenful they fold, and what is asked for is found by filters.
func TestAThousandQuietWards(t *testing.T) {
	t.Parallel()
	s := newService(t)
	files := map[string]string{}
	var wards []string
	for i := range 42 {
		files[fmt.Sprintf("q/%d/a.yaml", i)] = config(fmt.Sprintf("buoy-%d", i), "lit", "yes")
		owner := []string{"signals", "harbour-ops"}[i%2]
		wards = append(wards, fmt.Sprintf("vigila: ward/v1\nname: fold-%d\nowner: %s\nfrom: {repo: %s, path: q/%d}\ninto: {cluster: quay, namespace: default}\nkeep: {sync: auto, every: 5m}\n", i, owner, s.name, i))
	}
	s.push("Buoys", files)
	s.add(strings.Join(wards, "---\n"))
	list := func(q client.ListWardsParams) *client.WardList {
		q.Limit = 200
		r, err := s.api.ListWardsWithResponse(context.Background(), &q)
		require.NoError(t, s.api.Check(r, err))
		return r.JSON200
	}
	require.Eventually(t, func() bool { return list(client.ListWardsParams{Quiet: true}).Total == 42 }, patience, patience/300, "all are in step and ready")
	l := list(client.ListWardsParams{Fold: "owner"})
	assert.Empty(t, l.Items)
	assert.Equal(t, 42, l.Folded)
	for _, g := range l.Groups {
		if g.By == "owner" {
			assert.Equal(t, 21, g.Folded, g.Name)
			require.NotEmpty(t, g.Watch)
			assert.EqualValues(t, "in step", g.Watch[len(g.Watch)-1].Standing)
		} else {
			assert.Zero(t, g.Folded)
		}
	}
	s.ok("hold", "fold-7", "--why", "gale watch")
	l = list(client.ListWardsParams{Fold: "cluster"})
	require.Len(t, l.Items, 1, "one that is held is seen")
	assert.Equal(t, "fold-7@quay", l.Items[0].Id)
	assert.Equal(t, 42, l.Total)
	assert.Equal(t, 1, list(client.ListWardsParams{Held: true}).Total)
	assert.Zero(t, list(client.ListWardsParams{Health: "failing"}).Total)
	out := s.ok("ward", "list", "--held", "--owner", "harbour-ops")
	assert.Contains(t, out, "fold-7@quay")
	assert.Contains(t, out, "1 ward")
	assert.Equal(t, 42, strings.Count(s.ok("ward", "list"), "fold-"), "a program reads a line for each")
	s.fails(1, `there is no health "raedy"; did you mean ready?`, "ward", "list", "--health", "raedy")
	assert.Contains(t, s.ok("logbook", "fold-7", "--search", "gale", "--since", "1h"), "hold")
	assert.Contains(t, s.ok("logbook", "fold-7", "--search", "galley"), "No entry matches.")
	s.fails(2, "is no time; write a span", "logbook", "--since", "yesterday")

	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("41 wards")
	b.shows("in step and ready; show each")
	assert.NotContains(t, b.text(), "fold-12")
	b.do(chromedp.Click(chromedp.CSS(`[data-folded="quay"]`)))
	b.shows("fold-12")
	b.open(s.url + "/?held=yes")
	b.shows("held only")
	b.shows("fold-7")
	assert.NotContains(t, b.text(), "fold-12")
	b.click("All wards")
	b.shows("41 wards")
	b.open(s.url + "/?owner=signals&standing=drifted")
	b.shows("No ward matches these filters")
	b.open(s.url + "/logbook?kind=hold&hours=1")
	b.shows("gale watch")
	assert.NotContains(t, b.text(), "fold-12")
}

// TestCompletionKnowsWhatThereIs: wards, entries, objects, clusters, repositories, rosters, standings and guards.
func TestCompletionKnowsWhatThereIs(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A horn", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "wards/none.yaml": "# later\n"})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s"))
	s.until("it is in step", inStepAndReady)
	s.ok("roster", "add", "sound", "--repo", s.name, "--path", "wards")
	id := s.name + "@quay"
	for _, c := range []struct {
		typed []string
		want  string
	}{
		{[]string{"ward", "show", ""}, id + "\tin step"}, {[]string{"rollback", id, ""}, "1\tsync, done"}, {[]string{"compare", id, ""}, "1\tsync, done"}, {[]string{"logbook", id, ""}, "1\tsync"},
		{[]string{"run", id, ""}, "1\tsync"}, {[]string{"sync", id, "--only", ""}, "ConfigMap/horn"}, {[]string{"rollback", id, "1", "--only", ""}, "ConfigMap/horn"}, {[]string{"ward", "list", "--cluster", ""}, "quay"},
		{[]string{"ward", "list", "--owner", ""}, "harbour-ops"}, {[]string{"ward", "list", "--standing", ""}, "in step"}, {[]string{"ward", "list", "--health", ""}, "failing"}, {[]string{"ward", "list", "--roster", ""}, "sound"},
		{[]string{"repo", "look", ""}, s.name}, {[]string{"repo", "pushes", ""}, s.name}, {[]string{"cluster", "schema", ""}, "quay"}, {[]string{"roster", "show", ""}, "sound"}, {[]string{"roster", "add", "x", "--repo", ""}, s.name},
		{[]string{"diff", id, "-o", ""}, "json"},
	} {
		assert.Contains(t, s.ok(append([]string{"__complete"}, c.typed...)...), c.want, c.typed)
	}
	s.push("No horn", map[string]string{"app/horn.yaml": "", "app/none.yaml": "# nothing\n"})
	s.until("it stops before harm", func(w client.Ward) bool { return len(w.Guards) > 0 })
	assert.Contains(t, s.ok("__complete", "sync", id, "--allow", ""), "empty-render\t")
	s.ok("reject", id, s.ward().Applied.Id, "--why", "it squeaks")
	assert.Contains(t, s.ok("__complete", "accept", id, ""), "it squeaks")
}

// TestANarrowWindow: every page has room at 700 pixels, with nothing beside its edge, and its controls are reached with the keyboard.
func TestANarrowWindow(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A horn", map[string]string{"app/horn.yaml": config("horn", "interval", "30s"), "wards/none.yaml": "# later\n"})
	s.add(s.wardFile("sync: auto, every: 1s", "within: 60s"))
	s.until("it is in step", inStepAndReady)
	s.ok("roster", "add", "sound", "--repo", s.name, "--path", "wards")
	s.edit("hurry", "configmap/horn", `data.interval="9s"`)
	s.until("the drift is seen", func(w client.Ward) bool { return w.Drifted == 1 })
	b := newBrowser(t)
	b.do(chromedp.EmulateViewport(700, 800))
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("One ward needs you")
	for path, shows := range map[string]string{"/": "needs you", "/wards/" + s.name + "@quay": "data.interval", "/logbook": "drift", "/rosters": "sound", "/repositories": s.name, "/clusters": "quay",
		"/alerts": "Nobody is told of anything yet", "/alerts?show=messages": "Nothing was sent yet.", "/alerts?show=ways": "No way yet", "/audit": "add cluster quay", "/people": "There are no teams", "/device": "A command line wants in", "/rules": "images-pinned", "/secrets": "secret", "/stores": "No stores yet"} {
		b.open(s.url + path)
		b.shows(shows)
		beside, err := chromedp.Run(b.ctx, chromedp.Evaluate[int]("document.documentElement.scrollWidth - document.documentElement.clientWidth"))
		require.NoError(t, err)
		assert.Zero(t, beside, "%s is wider than the window", path)
		unreached, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`[...document.querySelectorAll("button, a[href], input, select")].filter((e) => e.tabIndex < 0 && !e.disabled && !e.closest("[role=tablist],[role=radiogroup]")).map((e) => e.outerHTML.slice(0, 80)).join("\n")`))
		require.NoError(t, err)
		assert.Empty(t, unreached, "%s: what a keyboard does not reach", path)
	}
}
