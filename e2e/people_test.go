package e2e

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// providerSecret is that of the lab provider's client.
const providerSecret = "plant-provider-drift-5e8a"

// signsIn has somebody sign in by the lab's provider in a browser that stands at the console.
func (b *browser) signsIn(who string) {
	b.t.Helper()
	b.shows("Sign in with brindle")
	b.do(chromedp.Click(chromedp.Search("//a[starts-with(normalize-space(), 'Sign in with brindle')]")))
	b.shows("Who are you?")
	b.do(chromedp.Click(chromedp.CSS(fmt.Sprintf("button[value=%q]", who))))
}

func (b *browser) at() string {
	b.t.Helper()
	address, err := chromedp.Run(b.ctx, chromedp.Location())
	require.NoError(b.t, err)
	return address
}

func (b *browser) value(script string) string {
	b.t.Helper()
	v, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](script))
	require.NoError(b.t, err)
	return v
}

// TestPeopleSignIn: by a provider in a browser, and from there on the command line; what they do is theirs, and it ends when it is to.
func TestPeopleSignIn(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/c.yaml": config("berths", "count", "7")})
	s.add(s.wardFile("sync: ask, every: 1s", "within: 30s"))
	secret := s.file("client-secret", providerSecret+"\n")
	add := []string{"provider", "add", "brindle", providerURL, "--client", "vigila", "--secret-file", secret, "--about", "Brindle Sound Ferries"}
	s.fails(1, "nobody could sign in by it", add...)
	s.fails(1, `operators: "harbour-ops" is nobody: write group:NAME, user:NAME or everybody`, append(add, "--operator", "harbour-ops")...)
	s.fails(1, "can be changed on its way; providers speak HTTPS", "provider", "add", "x", "http://sign-in.brindle.example", "--client", "vigila", "--reader", "everybody")
	s.fails(1, "can't be asked at "+providerURL+"/x/.well-known/openid-configuration", "provider", "add", "x", providerURL+"/x", "--client", "vigila", "--reader", "everybody")
	assert.Contains(t, s.ok(append(add, "--operator", "group:harbour-ops", "--reader", "group:ticketing", "--admin", "user:admin@brindle.example")...), s.url+"/sign-in/back")
	list := s.ok("provider", "list")
	assert.Regexp(t, `operator +group:harbour-ops`, list)
	assert.NotContains(t, s.ok("provider", "list", "-o", "json"), providerSecret)

	// To the provider and back, to the page that was asked for.
	b := newBrowser(t)
	b.open(s.url + "/wards/" + s.name + "@quay?tab=x")
	b.signsIn("operator")
	b.shows("behind, 2 objects")
	assert.Equal(t, s.url+"/wards/"+s.name+"@quay?tab=x", b.at())
	assert.NotContains(t, b.value("document.cookie + JSON.stringify(localStorage)"), "vigila_session", "no script sees what signs in")
	b.click("?")
	b.shows("Signed in as brindle:operator@brindle.example (operator) until ")
	b.do(chromedp.KeyEvent("\x1b"))
	b.click("Sync 2 objects")
	s.until("it is in step", inStepAndReady)
	assert.Equal(t, "brindle:operator@brindle.example", s.entry(1).By)
	assert.Regexp(t, `sync ward `+s.name+`\S* .*\n?.*brindle:operator@brindle.example, console`, s.ok("audit", "--who", "brindle:operator@brindle.example"))
	s.kill()
	s.start()
	b.open(s.url + "/")
	b.shows("in step") // a start of the service signs nobody out

	// A command line is let in by whoever is signed in.
	ctx, cancel := context.WithTimeout(t.Context(), 2*patience)
	defer cancel()
	contexts := filepath.Join(t.TempDir(), "contexts.yaml")
	vigila := func(args ...string) *exec.Cmd {
		c := exec.CommandContext(ctx, filepath.Join(bin, "vigila"), args...)
		c.Env = append(os.Environ(), "VIGILA_CONTEXTS="+contexts, "VIGILA_URL=", "VIGILA_TOKEN=")
		return c
	}
	in := vigila("sign-in", s.url)
	errs, err := in.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, in.Start())
	link := ""
	for lines := bufio.NewScanner(errs); link == "" && lines.Scan(); {
		link = regexp.MustCompile(`http://\S+/device\?code=\S+`).FindString(lines.Text())
	}
	require.NotEmpty(t, link)
	u, err := url.Parse(link)
	require.NoError(t, err)
	b.open(link)
	b.shows(u.Query().Get("code"))
	b.shows("Let in, it does whatever you may do, as brindle:operator@brindle.example (operator).")
	b.click("Let it in")
	b.shows("The command line is signed in. You can close this page.")
	require.NoError(t, in.Wait())
	out, err := vigila("session", "list").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Regexp(t, `brindle:operator@brindle.example \(you\) +operator +command line +127.0.0.1`, string(out))
	assert.NotContains(t, string(out), "admin")
	out, err = vigila("token", "list").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "brindle:operator@brindle.example is an operator, and this wants an admin; an admin says who is one: vigila provider list")
	out, err = vigila("hold", s.name, "--why", "fog").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "brindle:operator@brindle.example", s.ward().Hold.By)

	// What the provider's roles say is so at once; in no group there is nothing to see.
	s.ok(append(add[:len(add):len(add)], "--reader", "group:harbour-ops")...)
	out, err = vigila("release", s.name, "--why", "clear").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "brindle:operator@brindle.example is a reader, and this wants an operator")
	v := newBrowser(t)
	v.open(s.url + "/")
	v.signsIn("visitor")
	v.shows("brindle:visitor@brindle.example may nothing here: neither this name nor a group of theirs (none) has a role, or is in a team.")
	v.shows("Sign in with brindle")
	v.open(s.url + "/sign-in/back?code=x&state=y")
	v.shows("this sign-in was not begun in this browser")

	// It ends where it was opened, where somebody else ends it, and with its provider.
	out, err = vigila("sign-out").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "The session has ended.")
	out, err = vigila("ward", "list").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "not signed in")
	r, err := s.api.ListSessionsWithResponse(t.Context(), &client.ListSessionsParams{Limit: 100})
	require.NoError(t, s.api.Check(r, err))
	require.Equal(t, 1, r.JSON200.Total)
	s.ok(append(add[:len(add):len(add)], "--reader", "everybody")...)
	s.ok("session", "end", r.JSON200.Items[0].Id)
	b.open(s.url + "/")
	b.signsIn("newcomer") // whose mail nobody has verified, so that it is no name
	b.shows("in step")
	b.click("?")
	b.shows("Signed in as brindle:newcomer (reader)")
	b.click("Sign out")
	b.signsIn("reader")
	b.shows("in step")
	s.ok("provider", "remove", "brindle")
	b.open(s.url + "/")
	b.shows("Open a sign-in link, or paste it here")
	assert.Contains(t, s.ok("session", "list"), "Nobody is signed in by a session")
	assert.NotContains(t, s.log.String(), providerSecret)
	assert.NotContains(t, s.log.String(), "panic")
}

// TestACookieAloneChangesNothing: a page of another origin may send what a browser has, and gets nowhere.
func TestACookieAloneChangesNothing(t *testing.T) {
	t.Parallel()
	s := newService(t)
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("No wards yet")
	page := fmt.Sprintf(`<form method="post" action="%s/api/v1/session"><button>Win a ferry ticket</button></form>
<script>window.said = []; for (const method of ["POST", "DELETE"]) fetch("%s/api/v1/session", {method, credentials: "include", mode: "no-cors"}).then(r => said.push(r.type), e => said.push("refused")); window.frame = document.createElement("iframe"); frame.src = "%s/"; document.documentElement.append(frame)</script>`, s.url, s.url, s.url)
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { // another port is another origin, of the same site
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(page))
	}))
	t.Cleanup(other.Close)
	b.open(other.URL)
	require.Eventually(t, func() bool { return b.value("String(said.length)") == "2" }, patience, 50*time.Millisecond)
	b.click("Win a ferry ticket")
	b.shows("This is no page of the console")
	b.open(s.url + "/")
	b.shows("No wards yet")
	r, err := s.api.ListSessionsWithResponse(t.Context(), &client.ListSessionsParams{Limit: 100})
	require.NoError(t, s.api.Check(r, err))
	assert.Equal(t, 1, r.JSON200.Total, "nobody was signed out, or in")
	for path, want := range map[string]string{"/": "frame-ancestors 'none'", "/device": "frame-ancestors 'none'"} {
		a, err := http.Get(s.url + path)
		require.NoError(t, err)
		require.NoError(t, a.Body.Close())
		assert.Contains(t, a.Header.Get("Content-Security-Policy"), want)
	}
	assert.False(t, strings.Contains(s.log.String(), "panic"))
}
