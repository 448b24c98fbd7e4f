package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// TestAWardFromAChart: the form of a chart is made from its own schema; one that asks for a newer cluster is told before anything is proposed,
// with the newest that fits.
func TestAWardFromAChart(t *testing.T) {
	t.Parallel()
	s := newService(t)
	schema := `{"$schema": "http://json-schema.org/draft-07/schema#", "definitions": {"count": {"type": "integer", "minimum": 1}}, "properties": {"count": {"$ref": "#/definitions/count"}, "from": {"type": "string"}, "more": {"type": "array"}}, "additionalProperties": false}`
	charts := map[string][]byte{}
	for version, more := range map[string]string{"1.2.0": "", "1.10.0": "", "2.0.0": "kubeVersion: '>=1.99'\n"} {
		files := map[string]string{"templates/m.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: mark}\ndata: {from: \"{{ .Values.from }}\", count: \"{{ .Values.count }}\"}\n", "values.yaml": "from: chart\ncount: 2\nmore: [a]\n", "values.schema.json": schema}
		if more != "" {
			files["Chart.yaml"] = more
		}
		charts[version] = pack(t, "mark", version, files)
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/index.yaml" {
			_, _ = w.Write(charts[strings.TrimPrefix(r.URL.Path, "/")])
			return
		}
		fmt.Fprintln(w, "apiVersion: v1\nentries:\n  mark:")
		for version, b := range charts {
			sum := sha256.Sum256(b)
			fmt.Fprintf(w, "    - {name: mark, version: %s, digest: %s, urls: [%s]}\n", version, hex.EncodeToString(sum[:]), version)
		}
	}))
	defer server.Close()
	s.push("First", map[string]string{"wards/README.md": "wards\n"})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	assert.NotContains(t, s.ok("kit", "list"), "from-chart")
	s.ok("repo", "add", "charts", server.URL, "--charts")
	assert.Contains(t, s.ok("kit", "list"), "from-chart")
	given := func(version string, more ...string) []string {
		return append([]string{"kit", "new", "from-chart", "--set", "chart_repo=charts", "--set", "chart=mark", "--set", "version=" + version, "--set", "name=" + s.name, "--set", "cluster=quay"}, more...)
	}
	s.fails(1, "version: mark 2.0.0 wants Kubernetes >=1.99, and cluster quay has v1.37.2; the newest that fits is 1.10.0", given("2.0.0")...)
	s.fails(1, "version: chart repository charts has no version of mark", given("3.0.0")...)
	s.fails(1, `chart: chart repository charts has no chart "mrak"`, "kit", "new", "from-chart", "--set", "chart_repo=charts", "--set", "chart=mrak")
	s.fails(1, "values.count: minimum: got 0, want 1", given("1.10.0", "--set", "values.count=0")...)
	s.fails(1, "values.cuont: kit from-chart takes none of that name; did you mean count?", given("1.10.0", "--set", "values.cuont=3")...)

	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("New from a kit")
	b.open(s.url + "/kits/from-chart")
	b.shows("That it comes from.")
	type_ := func(name, text string) {
		t.Helper()
		b.do(chromedp.WaitVisible(chromedp.CSS(fmt.Sprintf("[id=%q]", "root."+name))), chromedp.SendKeys(chromedp.CSS(fmt.Sprintf("[id=%q]", "root."+name)), text))
	}
	type_("chart_repo", "charts")
	b.shows("choose…")
	type_("chart", "mark")
	version := func(text string) {
		t.Helper()
		for has := ""; has != text; { // a form that is just drawn anew lets go of what was selected, and of what is typed
			_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`document.getElementById("root.version").select(); true`))
			require.NoError(t, err)
			type_("version", text)
			has, err = chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.getElementById("root.version").value`))
			require.NoError(t, err)
		}
	}
	version("2.0.0")
	type_("cluster", "quay")
	for end := time.Now().Add(patience); !strings.Contains(b.text(), "the newest that fits is 1.10.0") && time.Now().Before(end); time.Sleep(time.Second) {
		version("2.0.0")
	}
	b.shows("the newest that fits is 1.10.0")
	version("1.10.0")
	type_("name", s.name)
	type_("values.count", "5")
	type_("values.more", `["b", "c"]`)
	b.shows("Tried out: the API server of quay takes it.")
	b.shows(`- b`)
	b.click("Propose it")
	b.shows("Waits for a review")
	s.ok("propose", "merge", "1")
	s.untilOf(s.name+"@quay", "is there", func(w client.Ward) bool { return w.Pending > 0 })
	s.ok("sync", s.name)
	assert.Contains(t, s.says("wards/charts/"+s.name+"/ward.yaml"), "version: 1.10.0")
	assert.Contains(t, s.ok("kit", "change", "wards/charts/"+s.name, "--set", "values.from=here", "--set", "values.count=", "--set", "sync=auto"), "#2  Change wards/charts/"+s.name)
	s.ok("propose", "merge", "2")
	s.untilOf(s.name+"@quay", "has it", func(w client.Ward) bool { return inStepAndReady(w) && strings.Contains(w.Applied.Subject, "Change") })
	assert.NotContains(t, s.says("wards/charts/"+s.name+"/ward.yaml"), "count")
}
