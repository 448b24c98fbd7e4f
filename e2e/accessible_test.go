package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// audited are the pages, the dialogs on them and their tabs that were looked at, each once, whichever test shows it first.
var audited sync.Map

// axe is the script of the accessibility checker. Source: https://github.com/dequelabs/axe-core
var axe = sync.OnceValues(func() (string, error) {
	b, err := os.ReadFile(filepath.Join("..", "console", "node_modules", "axe-core", "axe.min.js"))
	return string(b), err
})

// whereIs tells the page that is open, without whose it is, its dialog and its tabs.
const whereIs = `(() => {
	if (!document.querySelector("main, #root")) return ""; // it is no page of the console
	const path = location.pathname.replace(/^\/(wards|lanes|proposals|clusters|kits)\/.+$/, "/$1/…");
	const open = [...document.querySelectorAll('[role="dialog"], [role="alertdialog"], [role="menu"], [role="listbox"]')].map(e =>
		e.getAttribute("role") + " " + (e.querySelector("h1, h2, h3")?.textContent ?? "").replace(/[a-z0-9-]*@[a-z0-9-]+|\d+/g, "…"));
	const tabs = [...document.querySelectorAll('[role="tab"][aria-selected="true"]')].map(e => e.textContent.replace(/\d+/g, "…"));
	return [path, ...open, ...tabs].join(" | ");
})()`

// violations lists what is wrong with the page by WCAG 2.2, A and AA, once nothing on it moves any more.
const violations = `(async () => {
	const still = document.getAnimations().filter(a => a.effect?.getComputedTiming().iterations !== Infinity).map(a => a.finished.catch(() => {}));
	await Promise.race([Promise.all(still), new Promise(done => setTimeout(done, 1000))]);
	const wanted = document.documentElement.dataset.light === "day" ? {type: "tag", values: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]} : {type: "rule", values: ["color-contrast"]}; // the light changes nothing else
	const found = await axe.run(document, {runOnly: wanted, resultTypes: ["violations"]});
	return JSON.stringify(found.violations.flatMap(v => v.nodes.map(n => v.id + ": " + n.target.join(" ") + ": " + n.failureSummary.replace(/\s+/g, " "))));
})()`

// accessible holds the page that is open, by day and by night, against what people need who don't see it well or have no mouse.
func (b *browser) accessible() {
	b.t.Helper()
	where, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](whereIs))
	if err != nil || where == "" { // the page is just leading elsewhere, or has
		return
	}
	if _, done := audited.LoadOrStore(where, true); done {
		return
	}
	script, err := axe()
	require.NoError(b.t, err, "make installs it: console/node_modules")
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	for _, light := range []string{"night", "day"} {
		text, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf("document.documentElement.dataset.light = %q;\n%s;\n%s", light, script, violations), chromedp.EvalAwaitPromise))
		require.NoError(b.t, err, where)
		var found []string
		require.NoError(b.t, json.Unmarshal([]byte(text), &found))
		assert.Empty(b.t, found, "%s, by %s", where, light)
	}
}

// TestEveryPageIsAccessible opens every page of the console as somebody does who has nothing yet; filled ones are looked at where tests fill them.
func TestEveryPageIsAccessible(t *testing.T) {
	t.Parallel()
	s := newService(t)
	b := newBrowser(t)
	b.open(s.url + "/")
	b.shows("Open a sign-in link")
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("No wards yet")
	source, err := os.ReadFile(filepath.Join("..", "console", "src", "main.tsx"))
	require.NoError(t, err)
	pages := 0
	for _, part := range strings.Split(string(source), `path="`)[1:] {
		path, _, _ := strings.Cut(part, `"`)
		if path == "*" {
			path = "/nowhere"
		}
		b.open(s.url + strings.NewReplacer(":id", "nobody@quay", ":name", "quay", ":number", "1").Replace(path))
		require.Eventually(t, func() bool {
			text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.querySelector('main')?.innerText ?? ''"))
			return err == nil && strings.TrimSpace(text) != "" && !strings.Contains(text, "Reading")
		}, patience, 50*time.Millisecond, path)
		b.accessible()
		pages++
	}
	assert.Greater(t, pages, 20, "as many as there are")
}
