package e2e

import (
	"bufio"
	"database/sql"
	"encoding/json"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// TestWhatWasDone: whoever changes something is written down, through what, and what came of it; what Vigila does by itself too; over kills; events can be followed;
// and what is changed in the database shows.
func TestWhatWasDone(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/c.yaml": config("mark", "v", "1")})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	s.until("is in step", inStepAndReady)
	s.ok("hold", s.name, "--why", "gale watch")
	s.fails(1, "there is no ward", "hold", "nobody@quay", "--why", "x")
	q, err := http.NewRequest(http.MethodDelete, s.url+"/api/v1/wards/"+s.name+"@quay/hold", nil)
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+s.token)
	r, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	s.kill()
	s.start()
	s.edit("hurry", "configmap/mark", `data.v="by hand"`)
	s.until("is put back", func(w client.Ward) bool { return inStepAndReady(w) && len(w.Runs) > 1 })

	out := s.ok("audit")
	assert.Regexp(t, `restore ward `+s.name+`@quay  done  vigila  #\d+, .*\n  hurry changed data.v of ConfigMap/mark from 1 to by hand`, out)
	assert.Regexp(t, `release ward `+s.name+`@quay  done  admin, API  #\d+, .*\n  held: by admin: gale watch → nothing`, out)
	assert.Regexp(t, `hold ward nobody@quay  refused  admin, command line  #\d+, .*\n  there is no ward`, out)
	assert.Regexp(t, `hold ward `+s.name+`  done  admin, command line  #\d+, .*\n  why gale watch\n  held in quay: nothing → by admin: gale watch`, out)
	assert.Regexp(t, `add file .*ward.yaml  done  admin, command line  #\d+, .*\n  wards: nothing → `+s.name+`@quay`, out)
	assert.Regexp(t, `sync ward `+s.name+`@quay  done  vigila  `, out)
	assert.NotContains(t, s.ok("audit", "--who", "vigila"), "hold ward")
	assert.Contains(t, s.ok("audit", "--search", "hold refused"), "nobody@quay")
	assert.Contains(t, s.ok("audit", "--who", "nobody"), "Nothing such was done.")
	verified := s.ok("audit", "verify")
	require.Regexp(t, `^Entries #1 to #\d+ are what was written. Keep the last elsewhere: \d+:[0-9a-f]{64}\n$`, verified)
	kept := strings.TrimSpace(verified[strings.LastIndex(verified, " "):])
	s.fails(2, `--kept "12" is no line; write NUMBER:DIGEST`, "audit", "verify", "--kept", "12")

	// Whoever keeps it elsewhere gets every line, what began and what came of it, and goes on with what comes.
	follow := exec.Command(filepath.Join(bin, "vigila"), "audit", "follow")
	follow.Env = append(follow.Environ(), "VIGILA_URL="+s.url, "VIGILA_TOKEN="+s.token)
	pipe, err := follow.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, follow.Start())
	defer func() { _, _ = follow.Process.Kill(), follow.Wait() }()
	end := time.AfterFunc(patience, func() { _ = follow.Process.Kill() }) // what never comes is not waited for
	defer end.Stop()
	lines := bufio.NewScanner(pipe)
	next := func() (e struct {
		SpecVersion, ID, Type, Subject string
		Data                           client.AuditEntry
	}) {
		require.True(t, lines.Scan())
		require.NoError(t, json.Unmarshal(lines.Bytes(), &e))
		return e
	}
	first := next()
	assert.Equal(t, []string{"1.0", "1"}, []string{first.SpecVersion, first.ID})
	s.ok("audit", "verify", "--kept", "1:"+first.Data.Digest)
	number, began := 1, 0
	for e := first; !strings.Contains(e.Type, "refused"); e = next() {
		assert.GreaterOrEqual(t, e.Data.Number, number)
		if number = e.Data.Number; e.Type == "dev.vigila.audit.begun" {
			began++
		}
	}
	assert.Positive(t, began)
	s.ok("token", "make", "kelp", "--role", "reader", "--for", "1h")
	for e := first; e.Subject != "token kelp" || e.Type != "dev.vigila.audit.done"; e = next() {
	}

	// In the console.
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows(s.name)
	b.open(s.url + "/wards/" + s.name + "@quay")
	b.click("Look now")
	b.click("Hold")
	b.shows("No automatic sync or restore runs until it is released.")
	b.do(chromedp.Click(chromedp.Search(`//div[@role="dialog"]//button[normalize-space()="Hold"]`)))
	b.shows("Release")
	b.open(s.url + "/audit")
	b.shows("make token kelp")
	b.shows("console")
	b.shows("held: by admin: gale watch → nothing")
	b.click("Verify it")
	b.shows("are what was written.")

	s.kill()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(s.dir, "data", "vigila.db"))
	require.NoError(t, err)
	_, err = db.Exec(`DELETE FROM audit WHERE number>=?`, strings.Split(kept, ":")[0])
	require.NoError(t, err)
	s.start()
	s.ok("audit", "verify")
	s.fails(1, "was kept elsewhere, and is not here", "audit", "verify", "--kept", kept)
	s.kill()
	_, err = db.Exec(`UPDATE audit SET text=replace(text, 'gale watch', 'nothing special') WHERE text LIKE '%gale watch%'`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s.start()
	s.fails(1, "is not what was written", "audit", "verify")
}
