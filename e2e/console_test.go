package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// browser drives one tab of a headless Chromium.
type browser struct {
	t   *testing.T
	ctx context.Context
}

func newBrowser(t *testing.T) *browser {
	t.Helper()
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun,
		chromedp.NoDefaultBrowserCheck, chromedp.WindowSize(1280, 800))
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	return &browser{t, ctx}
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	require.NoError(b.t, chromedp.Do(ctx, steps...), "the page says:\n%s", b.text())
}

func (b *browser) open(url string) { b.t.Helper(); b.do(chromedp.Navigate(url)) }

// text is everything the page shows.
func (b *browser) text() string {
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body ? document.body.innerText : ''"))
	if err != nil {
		return err.Error()
	}
	return text
}

// shows waits until the page shows a text.
func (b *browser) shows(want string) {
	b.t.Helper()
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		if strings.Contains(b.text(), want) {
			b.accessible()
			return
		}
		if time.Now().After(end) {
			b.t.Fatalf("waited in vain for %q; the page shows:\n%s", want, b.text())
		}
	}
}

// click clicks the button or tab with a text, once it can be: it is there, enabled and not covered. All of a click's events
// come in one go, so that a page which is just being drawn anew can't move the button away between looking and clicking.
func (b *browser) click(label string) {
	b.t.Helper()
	press := fmt.Sprintf(`(label => {
		for (const e of document.querySelectorAll("button:not([disabled])")) {
			if (e.textContent.trim().replace(/\s+/g, " ") !== label) continue;
			e.scrollIntoView({block: "center"});
			const r = e.getBoundingClientRect(), x = r.x + r.width / 2, y = r.y + r.height / 2;
			if (!e.contains(document.elementFromPoint(x, y))) continue;
			const is = {bubbles: true, cancelable: true, composed: true, button: 0, clientX: x, clientY: y, view: window};
			e.dispatchEvent(new PointerEvent("pointerdown", {...is, pointerType: "mouse", isPrimary: true}));
			e.dispatchEvent(new MouseEvent("mousedown", is));
			e.focus();
			e.dispatchEvent(new PointerEvent("pointerup", {...is, pointerType: "mouse", isPrimary: true}));
			e.dispatchEvent(new MouseEvent("mouseup", is));
			e.click();
			return true;
		}
		return false;
	})(%q)`, label)
	for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		ctx, cancel := context.WithTimeout(b.ctx, patience)
		done, err := chromedp.Run(ctx, chromedp.Evaluate[bool](press))
		cancel()
		if err == nil && done {
			return
		}
		if time.Now().After(end) {
			b.t.Fatalf("no button %q can be clicked (%v); the page shows:\n%s", label, err, b.text())
		}
	}
}

// opens clicks something until a text shows: a page that is just being drawn anew may swallow a click.
func (b *browser) opens(xpath, want string) {
	b.t.Helper()
	for end := time.Now().Add(patience); !strings.Contains(b.text(), want); {
		b.do(chromedp.Click(chromedp.Search(xpath)))
		for soon := time.Now().Add(3 * time.Second); time.Now().Before(soon) && !strings.Contains(b.text(), want); {
			time.Sleep(50 * time.Millisecond)
		}
		if time.Now().After(end) {
			b.t.Fatalf("%s never shows %q; the page shows:\n%s", xpath, want, b.text())
		}
	}
}

func TestConsole(t *testing.T) {
	t.Parallel()
	s := newService(t)
	b := newBrowser(t)
	b.open(s.url + "/")
	b.shows("Open a sign-in link")
	b.do(chromedp.SendKeys(chromedp.CSS("input"), "wrong"))
	b.click("Sign in")
	b.shows("has ended, or was taken back")

	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("No wards yet")
	address, err := chromedp.Run(b.ctx, chromedp.Location())
	require.NoError(t, err)
	assert.NotContains(t, address, s.token, "the token does not stay in the address")

	// What happens shows by itself, without a reload.
	s.push("Set up the planner", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 2), "app/config.yaml": config("berths", "count", "7")})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 30s"))
	b.shows("One ward needs you")
	b.shows("Never synced; 3 objects declared")
	b.do(chromedp.Click(chromedp.CSS(fmt.Sprintf(`[data-ward="%s@quay"]`, s.name))))
	b.shows("behind, 3 objects")
	b.click("Sync 3 objects")
	b.shows("In step for")
	b.shows("#1 sync · done")
	assert.True(t, inStepAndReady(s.until("it is in step", inStepAndReady)))
	b.shows("ReplicaSet")

	// Drift: the sentence, the field, both values, who; and put back with the button.
	s.edit("kubectl-scale", "deployment/berth-planner", "spec.replicas=5")
	b.shows("kubectl-scale changed spec.replicas of Deployment/berth-planner from 2 to 5")
	b.shows("leave: [{of: Deployment/berth-planner, fields: [/spec/replicas]}]")
	b.shows("Reported, not restored: this ward asks first")
	b.click("Restore 1 field")
	b.shows("#2 drift")
	b.shows("#3 restore · done")
	s.until("it is restored", inStepAndReady)
	assert.EqualValues(t, 2, replicas(t, s))

	// Behind: the field that a sync would change.
	s.push("Three planners", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.9.0", 3)})
	b.shows("1 object to sync")
	b.shows("The repository moved: a sync would update it")
	b.shows("registry.brindle.example/berth-planner:1.9.0")
	b.click("Sync 1 object")
	b.shows("#4 sync · done")

	// The chosen object closely.
	b.click("Live")
	b.shows("kind: Deployment")
	b.click("Declared")
	b.shows("app/deployment.yaml, line 1")
	b.click("Events")
	b.shows("Started container app")
	b.click("Logs")
	b.shows("berth-planner listening on :8080")

	// Roll back, held there; release.
	b.click("Roll back")
	b.shows("To the objects that an entry left")
	b.do(chromedp.Click(chromedp.Search("//label[contains(., '#1 sync')]//input")), chromedp.SendKeys(chromedp.CSS(`[role=dialog] input:not([type])`), "gale watch"))
	b.click("Roll back to #1")
	b.shows("Held by admin: gale watch")
	s.until("it went back", func(w client.Ward) bool { return w.Hold.Entry == 1 && w.Run.Number == 0 })
	assert.EqualValues(t, 2, replicas(t, s))
	b.click("Release")
	b.shows("released")
	b.click("Hold")
	b.shows("No automatic sync or restore runs")
	b.do(chromedp.SendKeys(chromedp.CSS(`[role=dialog] input`), "night shift"), chromedp.Click(chromedp.Search(`//div[@role="dialog"]//button[normalize-space()="Hold"]`)))
	b.shows("Held by admin: night shift")

	// The other pages, by keyboard and by link.
	b.do(chromedp.KeyEvent("g"), chromedp.KeyEvent("l"))
	b.shows("the newest first")
	b.shows("rollback · done to #1")
	b.do(chromedp.KeyEvent("?"))
	b.shows("Signed in as admin")
	b.do(chromedp.KeyEvent("\u001b"))
	b.do(chromedp.KeyEvent("g"), chromedp.KeyEvent("s"))
	b.shows("No rosters yet")
	b.do(chromedp.KeyEvent("g"), chromedp.KeyEvent("l"))
	b.shows("the newest first")
	b.do(chromedp.Click(chromedp.Search("//a[normalize-space()='Set up']")))
	b.do(chromedp.Click(chromedp.Search("//a[normalize-space()='Repositories']")))
	b.shows(s.origin())
	b.do(chromedp.Click(chromedp.Search("//a[normalize-space()='Clusters']")))
	b.shows("v1.37.2")
	b.do(chromedp.Click(chromedp.Search("//a[normalize-space()='Watch']")))
	focused, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`dispatchEvent(new KeyboardEvent("keydown", {key: "/"})); document.activeElement.type`))
	require.NoError(t, err)
	assert.Equal(t, "search", focused)
	b.do(chromedp.SendKeys(chromedp.CSS("input[type=search]"), "nothing-like-it"))
	b.shows("No ward matches “nothing-like-it”")

	// A lost connection says so, and mends itself.
	s.kill()
	b.shows("The connection to the service is lost.")
	s.start()
	for end := time.Now().Add(patience); strings.Contains(b.text(), "is lost"); time.Sleep(50 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "the connection did not mend")
	}
}

// TestTheConsoleAsksBeforeHarm: a guard is shown with what it would allow.
func TestTheConsoleAsksBeforeHarm(t *testing.T) {
	t.Parallel()
	s := newService(t)
	files := map[string]string{}
	for _, n := range []string{"a", "b", "c", "d", "e", "f"} {
		files["app/"+n+".yaml"] = config(n, "k", "v")
	}
	s.push("Six", files)
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 30s"))
	s.until("it is in step", inStepAndReady)
	s.push("Most go", map[string]string{"app/b.yaml": "", "app/c.yaml": "", "app/d.yaml": "", "app/e.yaml": ""})
	b := newBrowser(t)
	b.open(s.url + "/wards/" + s.name + "@quay#sign-in=" + s.token)
	b.shows("Stopped before harm: 4 of 7 objects would be removed")
	b.click("Sync 4 objects…")
	b.shows("A guard asks first")
	b.shows("Allow mass-removal: 4 of 7 objects would be removed")
	b.shows("then remove")
	b.shows("Sync, once it is allowed")
	assert.NotNil(t, live(t, "", "v1", "configmaps", s.name, "b"))
	b.do(chromedp.Click(chromedp.CSS(`[role=dialog] input[type=checkbox]`)))
	b.click("Sync, and allow it")
	s.until("they are gone", inStepAndReady)
	assert.Nil(t, live(t, "", "v1", "configmaps", s.name, "b"))
}

// choose picks an item of the menu with less common actions.
func (b *browser) choose(item string) {
	b.t.Helper()
	b.do(chromedp.SendKeys(chromedp.Search("//button[normalize-space()='More']"), "\r"))
	b.do(chromedp.Click(chromedp.Search(fmt.Sprintf("//*[@role='menuitem' and starts-with(normalize-space(), %q)]", item))))
}

// TestTheConsoleShowsARunAndItsTasks: a plan beforehand, steps and tasks while it goes, logs, two entries compared,
// what others added, rejections, and a branch for git.
func TestTheConsoleShowsARunAndItsTasks(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("A planner with its migration", map[string]string{"app/deployment.yaml": deployment("berth-planner:1.8.2", 1), "app/config.yaml": config("berths", "count", "7"),
		"app/migrate.yaml": job("migrate", "migrate:1", `vigila.dev/task: before, vigila.dev/step: "0"`), "app/check.yaml": job("check", "check:1", `vigila.dev/task: after`)})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 30s, otherwise: stop"))
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	b := newBrowser(t)
	b.open(s.url + "/wards/" + s.name + "@quay#sign-in=" + s.token)
	b.shows("task before, to run")
	b.choose("Preview the sync")
	b.shows("What a sync of " + s.name + "@quay would do")
	b.shows("migrate Job task before")
	b.do(chromedp.Click(chromedp.Search(`//div[@role="dialog"]//button[normalize-space()="Sync"]`)))
	b.shows("goes on for")
	b.shows("migrate task before")
	b.shows("#1 sync · done")
	b.opens(`//button[contains(., "#1 sync")]`, "\nstarted\n")
	b.do(chromedp.Click(chromedp.Search(`//div[@role="dialog"]//button[normalize-space()="Log of migrate"]`))) // not that of the run, which goes
	b.shows("listening")
	b.do(chromedp.KeyEvent("\u001b"))

	s.push("Eight berths", map[string]string{"app/config.yaml": config("berths", "count", "8")})
	b.shows("1 object to sync")
	b.click("Sync 1 object")
	b.shows("#2 sync · done")
	b.opens(`//button[contains(., "#1 sync")]`, "Compare what #1 declares with")
	b.do(chromedp.WaitReady(chromedp.CSS(`[role=dialog] select option[value="2"]`)))
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(() => {
		const s = document.querySelector("[role=dialog] select");
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "2");
		return s.dispatchEvent(new Event("change", {bubbles: true}));
	})()`))
	require.NoError(t, err)
	b.shows("data.count")
	b.do(chromedp.KeyEvent("\u001b"))

	// What others add is no drift, and is shown with who.
	s.edit("kubectl-label", "configmap/berths", "metadata.labels.tier=dock")
	b.shows("kubectl-label added metadata.labels.tier to ConfigMap/berths")
	b.shows("+1 by others")

	// A task that fails stops the run; its revision is rejected, and may be tried again or lifted.
	s.push("A migration that breaks", map[string]string{"app/migrate.yaml": job("migrate", "migrate-crashing:2", `vigila.dev/task: before, vigila.dev/step: "0"`)})
	b.shows("1 object to sync")
	b.click("Sync 1 object")
	b.shows("failed: Job/migrate: container task ended, exit 2")
	b.choose("Rejected revisions (1)")
	b.shows("A migration that breaks")
	b.click("Lift it")
	b.shows("None is rejected.")
	b.do(chromedp.KeyEvent("\u001b"))
	b.shows("rejection lifted")
	b.choose("Let git say")
	b.click("Write the branch")
	b.shows("is on branch vigila/" + s.name)
}

// fill types a text into the field of a form.
func (b *browser) fill(id, text string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(chromedp.CSS("#" + id)))
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf("document.getElementById(%q).select(); true", id))) // what is there is typed over
	require.NoError(b.t, err)
	b.do(chromedp.SendKeys(chromedp.CSS("#"+id), text))
}

// TestConsoleSources: repositories, clusters and rosters are added and changed in the console, and a ward is written to
// a branch.
func TestConsoleSources(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"wards/one.yaml": wardText("console-one", "console-one", auto), "apps/console-one/c.yaml": config("mark", "v", "1")})
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("No wards yet")

	b.open(s.url + "/rosters")
	b.shows("No rosters yet")
	b.click("Add a roster")
	b.shows("A directory of ward files; the root when empty.")
	b.fill("name", "sound")
	b.fill("path", "wads")
	b.click("Add it")
	b.shows(`has no "wads"`)
	b.fill("path", "wards")
	b.click("Add it")
	b.shows("Roster sound")
	b.shows("1 in step, 1 ready")
	b.click("Look now")
	s.push("Break it", map[string]string{"wards/two.yaml": "vigila: ward/v1\nname: two\n"})
	b.shows("wards/two.yaml:1")
	b.shows("the ward has no from")
	b.open(s.url + "/")
	b.shows("roster sound")
	b.shows("wards/two.yaml:1: the ward has no from")

	b.click("Add a ward")
	b.shows("Nothing is kept before it is merged.")
	b.fill("name", "console-two")
	b.fill("path", "apps/console-two")
	b.fill("namespace", "console-two")
	b.shows("vigila: ward/v1\nname: console-two")
	b.click("Write it to the branch")
	b.shows("Once it is merged, roster sound finds it")
	file := git(t, labDir+"/git/"+s.name+".git", "show", "add-console-two:wards/console-two.yaml")
	assert.Contains(t, file, "from: {repo: "+s.name+", path: apps/console-two}\ninto:\n  cluster: quay\n  namespace: console-two\n  create_namespace: true\nkeep: {sync: ask, drift: report}\n")
	assert.NotContains(t, git(t, labDir+"/git/"+s.name+".git", "ls-tree", "-r", "--name-only", "main"), "console-two")
	b.click("Close")

	b.open(s.url + "/repositories")
	b.shows("1 repository that wards come from.")
	b.click("Add a repository")
	b.fill("name", "copy")
	b.fill("url", "ssh://git@127.0.0.1:1/moorings.git")
	b.shows("Fingerprint of the host")
	b.fill("url", gitBase+"/nothing.git")
	b.click("Check and add it")
	b.shows("there is no repository at " + gitBase + "/nothing.git")
	b.fill("url", s.origin())
	b.click("Check and add it")
	b.shows("2 repositories that wards come from.")
	b.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Search the repositories"]`), "zzz"))
	b.shows("Nothing matches “zzz”.")

	b.open(s.url + "/clusters")
	b.shows("1 cluster that wards go into.")
	b.click("Change or forget")
	b.do(chromedp.Click(chromedp.Search(`//*[@role="menuitem" and normalize-space()="Change it"]`)))
	b.fill("labels", "tier=rehearsal")
	b.click("Check and change it")
	b.shows("tier=rehearsal")
	assert.Contains(t, s.ok("cluster", "list"), "tier=rehearsal")
}

// TestConsoleAlerts: a way is added and tried, an alert says whom it told and whether it got there, and a ward is muted and heard of again.
func TestConsoleAlerts(t *testing.T) {
	t.Parallel()
	s := newService(t)
	one := wardText("heard-one", "heard-one", auto)
	s.push("First", map[string]string{"wards/one.yaml": one, "apps/heard-one/c.yaml": config("mark", "v", "1"),
		"wards/alerts.yaml": "vigila: alert/v1\nname: watch\nfor: the watch of the harbour\nwards: {owner: harbour-ops}\nafter: 1s\nto: [heard-chat]\n"})
	s.ok("roster", "add", "sound", "--repo", s.name, "--path", "wards")
	s.untilOf("heard-one@quay", "is in step", inStepAndReady)
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("heard-one")
	b.open(s.url + "/alerts")
	b.shows("there is no way heard-chat: add it")
	b.shows("nothing wrong")
	b.shows("Nothing was sent yet.")
	b.open(s.url + "/alerts?show=ways")
	b.shows("No way yet: nobody can be told of anything.")
	b.click("Add a way")
	b.fill("name", "heard-chat")
	b.fill("url", "http://chat.brindle.example/x")
	b.click("Add it")
	b.shows("over plain HTTP whoever is on the way could read it")
	b.fill("url", inboxURL+"/hook/"+inboxToken)
	b.click("Add it")
	b.shows("1 way that messages go by.")
	assert.NotContains(t, b.text(), inboxToken)
	item := func(menu, entry string) {
		b.click(menu)
		b.do(chromedp.Click(chromedp.Search(`//*[@role="menuitem" and normalize-space()="` + entry + `"]`)))
	}
	item("Try, change or forget", "Try it")
	b.click("Send it")
	b.shows("heard-chat took the message.")
	require.NotEmpty(t, inbox(t, "chat", "admin tries whether messages get here by heard-chat. Nothing is wrong."))
	b.open(s.url + "/alerts")
	b.shows("once it lasts 1 s")
	item("Try", "Send a message by all its ways")
	b.click("Send it")
	b.shows("heard-chat took it")
	b.click("Close")

	s.push("Break it", map[string]string{"wards/one.yaml": one + "kep: {}\n"})
	b.shows("told of 1 that is not over")
	b.shows("heard-one@quay: needs you")
	b.shows("delivered")
	b.open(s.url + "/wards/heard-one@quay")
	b.shows("unknown key kep")
	item("More", "Mute its alerts for a while")
	b.shows("It stays on the board")
	b.do(chromedp.SendKeys(chromedp.Search(`//label[contains(., "Why, for whoever looks next")]//input`), "the gale"))
	b.click("Mute")
	b.shows("Muted by admin until")
	b.open(s.url + "/alerts")
	b.shows("Muted: nobody is told of these")
	b.shows(": the gale · admin")
	b.click("Tell of it again")
	require.Eventually(t, func() bool { return !strings.Contains(b.text(), "the gale") }, patience, 50*time.Millisecond)
	assert.Contains(t, s.ok("alert", "muted"), "Nothing is muted.")
	b.open(s.url + "/alerts?show=messages")
	b.shows("1 message of the last 30 days, the newest first.")
	b.do(chromedp.Click(chromedp.Search(`//label[contains(., "not delivered")]/input`)))
	b.shows("Every message got there.")
}
