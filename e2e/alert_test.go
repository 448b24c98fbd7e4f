package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// chatRoom is a chat that takes messages at a secret address.
type chatRoom struct {
	mu    sync.Mutex
	away  bool
	texts []string
}

func (c *chatRoom) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	text, _ := io.ReadAll(r.Body)
	var in struct{ Text string }
	if json.Unmarshal(text, &in) != nil || r.URL.Path != "/sesame-of-the-chat" || c.away {
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	c.texts = append(c.texts, in.Text)
}

func (c *chatRoom) is(away bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.away = away
}

// about is what was told of something.
func (c *chatRoom) about(what string) (out []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, x := range c.texts {
		if strings.Contains(x, what) {
			out = append(out, x)
		}
	}
	return out
}

// TestWhoIsTold: somebody is told once of what needs them and once that it is over, although the service is killed in between and the chat is away; not
// of what went well, and not of what is muted.
func TestWhoIsTold(t *testing.T) {
	t.Parallel()
	s := newService(t)
	room := &chatRoom{}
	server := httptest.NewServer(room)
	defer server.Close()
	told := func(what string, n int) []string {
		t.Helper()
		require.Eventually(t, func() bool { return len(room.about(what)) >= n }, 3*patience, 50*time.Millisecond, "of %s nothing more was told", what) // what is over is told when it stays so for a minute
		require.Len(t, room.about(what), n)
		return room.about(what)
	}
	assert.Contains(t, s.ok("alert", "way", "list"), "No way is known.")
	assert.Contains(t, s.ok("alert", "list"), "Nobody is told of anything")
	s.ok("alert", "way", "add", "ops-chat", "--kind", "chat", "--url-file", s.file("address", server.URL+"/sesame-of-the-chat\n"), "--console", s.url)
	s.ok("alert", "way", "try", "ops-chat")
	assert.Contains(t, told("Nothing is wrong.", 1)[0], "admin tries")
	s.fails(1, "did you mean ops-chat?", "alert", "way", "try", "ops-chut")

	one := wardText("one", "told-one", auto)
	two := strings.Replace(wardText("two", "told-two", auto), "harbour-ops", "ticketing", 1)
	s.push("All", map[string]string{"apps/one/c.yaml": config("mark", "v", "one"), "apps/two/c.yaml": config("mark", "v", "two"), "wards/one.yaml": one, "wards/two.yaml": two,
		"wards/told.yaml": "vigila: alert/v1\nname: watch\nfor: the watch of the harbour\nwards: {owner: harbour-ops}\nafter: 1s\nto: [ops-chat, pager]\n---\nvigila: alert/v1\nname: tickets\nwards: {owner: ticketing}\nafter: 1s\nto: [ops-chat]\n"})
	s.ok("roster", "add", "sound", "--repo", s.name, "--path", "wards")
	r := s.rosterUntil("sound", "says that a way is missing", func(r client.Roster) bool { return len(r.Problems) == 1 })
	assert.Contains(t, r.Problems[0].Text, "alert watch goes to pager, and there is no such way")
	s.ok("alert", "way", "add", "pager", "--kind", "http", "--url-file", s.file("address", server.URL+"/pager"), "--for-roster", "another")
	s.rosterUntil("sound", "says that a way is another's", func(r client.Roster) bool {
		return len(r.Problems) == 1 && strings.Contains(r.Problems[0].Text, "not for roster sound")
	})
	s.ok("alert", "way", "remove", "pager")
	s.rosterUntil("sound", "says that the way is gone", func(r client.Roster) bool {
		return len(r.Problems) == 1 && strings.Contains(r.Problems[0].Text, "there is no such way")
	})
	s.untilOf("one@quay", "is in step", inStepAndReady)
	s.untilOf("two@quay", "is in step", inStepAndReady)
	assert.Regexp(t, `watch +wards of harbour-ops +whatever needs somebody +ops-chat, pager`, s.ok("alert", "list"))

	// It breaks, and the service dies again and again; the chat is away for a while.
	room.is(true)
	s.push("Break one", map[string]string{"wards/one.yaml": one + "kep: {}\n"})
	s.untilOf("one@quay", "needs somebody", func(w client.Ward) bool { return w.NeedsYou })
	waiting := func() bool { return strings.Contains(s.ok("alert", "log"), "not delivered yet") }
	require.Eventually(t, waiting, patience, 100*time.Millisecond)
	for range 3 {
		s.kill()
		s.start()
	}
	room.is(false)
	text := told("one@quay", 1)[0]
	assert.Contains(t, text, "unknown key kep; did you mean keep?")
	assert.Contains(t, text, s.url+"/wards/one@quay")
	// A service that dies before it has written down that the chat took it tells it again: that is not what is looked for here.
	require.Eventually(t, func() bool { return !strings.Contains(s.ok("alert", "log", "--undelivered"), "by ops-chat") }, patience, 100*time.Millisecond)
	s.kill()
	s.start()
	s.push("Mend one", map[string]string{"wards/one.yaml": one})
	s.untilOf("one@quay", "is in step again", inStepAndReady)
	assert.Regexp(t, `(?i)over`, told("one@quay", 2)[1])
	assert.Empty(t, room.about("two@quay"), "nothing was wrong with it")

	// What is muted is told when that ends.
	s.fails(2, "say for how long and why", "alert", "mute", "two@quay")
	s.ok("alert", "mute", "two@quay", "--for", "2h", "--why", "gale watch")
	assert.Regexp(t, `two@quay until .*: gale watch +admin`, s.ok("alert", "muted"))
	s.push("Break two", map[string]string{"wards/two.yaml": two + "kep: {}\n"})
	s.untilOf("two@quay", "needs somebody", func(w client.Ward) bool { return w.NeedsYou })
	require.Eventually(t, func() bool { return regexp.MustCompile(`tickets .* 1 not told yet`).MatchString(s.ok("alert", "list")) }, patience, 100*time.Millisecond)
	assert.Empty(t, room.about("two@quay"), "it is muted")
	s.kill()
	s.start()
	s.ok("alert", "unmute", "two@quay")
	told("two@quay", 1)
	told("one@quay", 2)

	// The address is secret: it is nowhere.
	out := s.ok("alert", "way", "list", "-o", "json") + s.ok("alert", "log", "-o", "json") + s.ok("logbook")
	s.kill()
	require.NoError(t, filepath.WalkDir(filepath.Join(s.dir, "data"), func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(name, "mirror") {
			return err
		}
		b, err := os.ReadFile(name)
		out += string(b)
		return err
	}))
	assert.NotContains(t, out+s.log.String(), "sesame")
	s.start()
}
