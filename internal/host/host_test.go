package host

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsNoCodeHost(t *testing.T) {
	for want, s := range map[string]Source{
		`"code.brindle.example" is no address of a code host`: {API: Gitea, URL: "code.brindle.example", Project: "a/b"},
		`"http://code.brindle.example" is no address`:         {API: Gitea, URL: "http://code.brindle.example", Project: "a/b"},
		`"https://me:pw@code.brindle.example" is no address`:  {API: Gitea, URL: "https://me:pw@code.brindle.example", Project: "a/b"},
		`"moorings" is no project; write OWNER/NAME`:          {API: GitHub, URL: "https://code.brindle.example", Project: "moorings"},
		`"a/../b" is no project`:                              {API: GitLab, URL: "https://code.brindle.example", Project: "a/../b"},
		`"a/b/c" is no project`:                               {API: GitHub, URL: "https://code.brindle.example", Project: "a/b/c"},
		`there is no interface "magic"`:                       {API: "magic", URL: "https://code.brindle.example", Project: "a/b"},
		"the certificates of the code host are not in PEM":    {API: Gitea, URL: "https://code.brindle.example", Project: "a/b", CA: "no"},
	} {
		_, err := New(s)
		assert.ErrorContains(t, err, want)
	}
	_, err := New(Source{API: GitLab, URL: "https://code.brindle.example", Project: "sound/harbour/moorings"})
	assert.NoError(t, err, "groups lie within each other there")
}

// all makes a client of each API for a server.
func all(t *testing.T, h http.Handler) map[API]Host {
	t.Helper()
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	out := map[API]Host{}
	for _, api := range APIs() {
		c, err := New(Source{API: API(api), URL: server.URL, Project: "sound/moorings", Token: "tidewater"})
		require.NoError(t, err)
		out[API(api)] = c
	}
	return out
}

// TestATokenGoesNowhereElse: a host that leads to another address is not followed, and errors say no token.
func TestATokenGoesNowhereElse(t *testing.T) {
	var got atomic.Int64
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { got.Add(1) }))
	defer other.Close()
	for api, c := range all(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other.URL+r.URL.Path, http.StatusTemporaryRedirect)
	})) {
		err := c.Check(context.Background())
		assert.ErrorContains(t, err, "where its token is not sent", api)
		assert.NotContains(t, fmt.Sprint(err), "tidewater", api)
	}
	assert.Zero(t, got.Load())
	for api, c := range all(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(http.StatusForbidden)
		_ = json.NewEncoder(w).Encode(map[string]string{"message": "you sent " + r.Header.Get("Authorization") + r.Header.Get("Private-Token")})
	})) {
		err := c.Check(context.Background())
		require.Error(t, err, api)
		assert.NotContains(t, err.Error(), "tidewater", "%s, and what it quotes", api)
		assert.ErrorContains(t, err, "of sound/moorings at http://127.0.0.1", api)
	}
}

// TestAHostIsAskedAgainWhenItSaysSo: 429 waits and asks again; another failure is one, since what was asked may have been done.
func TestAHostIsAskedAgainWhenItSaysSo(t *testing.T) {
	for code, want := range map[int]int64{http.StatusTooManyRequests: 2, http.StatusBadGateway: 1, http.StatusInternalServerError: 1} {
		for api := range all(t, http.NotFoundHandler()) {
			var n atomic.Int64
			c := all(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				if n.Add(1) == 1 {
					w.WriteHeader(code)
					return
				}
				w.WriteHeader(http.StatusCreated)
				_, _ = w.Write([]byte("{}"))
			}))[api]
			err := c.Tell(context.Background(), strings.Repeat("a", 40), Status{Name: "vigila/a@quay", State: Success})
			assert.Equal(t, code == http.StatusTooManyRequests, err == nil, "%s %d: %v", api, code, err)
			assert.Equal(t, want, n.Load(), "%s %d", api, code)
		}
	}
}

// TestAllPagesAreRead of the open requests, and one of each is made of what the three answer.
func TestAllPagesAreRead(t *testing.T) {
	for api, c := range all(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		page := r.FormValue("page")
		if page == "" {
			page = "1"
		}
		out := []map[string]any{}
		n := map[string]int{"1": pageSize, "2": 3}[page]
		for i := range n {
			user := map[string]any{"login": "operator", "username": "operator"}
			out = append(out, map[string]any{"number": i, "iid": i, "state": map[bool]string{true: "opened", false: "open"}[strings.Contains(r.URL.Path, "/v4/")], "user": user, "author": user,
				"source_branch": "work", "target_branch": "main", "head": map[string]any{"ref": "work", "sha": "c1"}, "base": map[string]any{"ref": "main"}, "sha": "c1", "labels": []string{}})
		}
		if page == "1" {
			w.Header().Set("X-Next-Page", "2")
			w.Header().Set("Link", fmt.Sprintf(`<http://%s%s?page=2>; rel="next"`, r.Host, r.URL.Path))
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(out)
	})) {
		got, err := c.Live(context.Background())
		require.NoError(t, err, api)
		require.Len(t, got, pageSize+3, api)
		r := got[pageSize]
		assert.Equal(t, []string{"work", "main", "c1", "operator", "open"}, []string{r.Branch, r.Base, r.Commit, r.Author, string(r.Standing)}, api)
	}
	for api, c := range all(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<html>")) })) {
		_, err := c.Live(context.Background())
		assert.Error(t, err, "%s: a page of something else is no list", api)
	}
}

func TestOneCommentIsKeptUpToDate(t *testing.T) {
	const mark = "<!-- mark -->"
	for what, c := range map[string]struct {
		has    map[int64]string
		wrote  bool
		change int64
	}{
		"none yet":              {map[int64]string{4: "people's"}, true, 0},
		"the same":              {map[int64]string{4: mark + "\r\ntext\r\n"}, false, 0},
		"another":               {map[int64]string{4: mark + "\nold"}, true, 4},
		"two, the first counts": {map[int64]string{9: mark + "\ntext", 4: mark + "\nold"}, true, 4},
		"quoted by somebody":    {map[int64]string{4: "> " + mark + "\n> text"}, true, 0},
	} {
		var added string
		var changed int64
		wrote, err := say(c.has, mark, "text", func(s string) error { added = s; return nil }, func(id int64, _ string) error { changed = id; return nil })
		require.NoError(t, err)
		assert.Equal(t, c.wrote, wrote, what)
		assert.Equal(t, c.change, changed, what)
		assert.Equal(t, c.wrote && c.change == 0, added == mark+"\ntext", what)
	}
	long := ""
	_, err := say(nil, mark, strings.Repeat("é", maxText), func(s string) error { long = s; return nil }, nil)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(long), maxText)
	assert.True(t, strings.HasSuffix(long, "é…"), "cut between letters")
}

func TestAMergeWaitsForTheHost(t *testing.T) {
	n := 0
	require.NoError(t, patient(t.Context(), func() (int, error) {
		n++
		return map[bool]int{true: http.StatusMethodNotAllowed, false: 200}[n == 1], nil
	}))
	assert.Equal(t, 2, n, "it was finding out whether the two go together")
	moved := errors.New("moved")
	require.ErrorIs(t, patient(t.Context(), func() (int, error) { return http.StatusConflict, moved }), moved)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, patient(ended, func() (int, error) { return http.StatusMethodNotAllowed, nil }), context.Canceled)
	for want, all := range map[Checks]map[string]Checks{"": {}, Passed: {"a": Passed}, Running: {"a": Passed, "b": Running}, Failed: {"a": Failed, "b": Running, "c": Passed}} {
		assert.Equal(t, want, worst(all))
	}
}

// paged answers a list by pages of so many, as a host does that says what follows; other things as they are.
func paged(w http.ResponseWriter, r *http.Request, all []map[string]any, most int) []map[string]any {
	page, err := strconv.Atoi(r.FormValue("page"))
	if err != nil {
		page = 1
	}
	from, to := min((page-1)*most, len(all)), min(page*most, len(all))
	links := []string{fmt.Sprintf(`<http://%s%s?page=1>; rel="first"`, r.Host, r.URL.Path)}
	if to < len(all) {
		w.Header().Set("X-Next-Page", strconv.Itoa(page+1))
		links = append(links, fmt.Sprintf(`<http://%s%s?page=%d>; rel="next"`, r.Host, r.URL.Path, page+1))
	}
	w.Header().Set("Link", strings.Join(links, ", "))
	w.Header().Set("X-Total-Count", strconv.Itoa(len(all)))
	return all[from:to]
}

// TestTheLastPageCounts: what speaks against a request may be the last that a host lists, and a host's pages may be shorter than asked for.
func TestTheLastPageCounts(t *testing.T) {
	user := func(name string) map[string]any { return map[string]any{"login": name, "username": name} }
	var statuses, runs, reviews, open []map[string]any
	for i := range 130 {
		statuses = append(statuses, map[string]any{"id": i, "context": fmt.Sprint("check ", i), "state": "success", "status": "success"})
		runs = append(runs, map[string]any{"name": fmt.Sprint("run ", i), "status": "completed", "conclusion": "success"})
		reviews = append(reviews, map[string]any{"user": user(fmt.Sprint("reviewer-", i)), "state": "APPROVED", "commit_id": "c1"})
		open = append(open, map[string]any{"number": i, "state": "open", "head": map[string]any{"ref": "work", "sha": "c1"}, "base": map[string]any{"ref": "main"}})
	}
	reviews = append(reviews, map[string]any{"user": user("reviewer-3"), "state": "CHANGES_REQUESTED", "commit_id": "c1"}, map[string]any{"user": user("reviewer-4"), "state": "REQUEST_CHANGES", "commit_id": "c1"})
	for _, last := range []string{"status", "run"} {
		for api, c := range all(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			bad, worse := statuses, runs
			if last == "status" {
				bad = append(slices.Clone(statuses), map[string]any{"id": 999, "context": "the last", "state": "failure", "status": "failure"})
			} else {
				worse = append(slices.Clone(runs), map[string]any{"name": "the last", "status": "completed", "conclusion": "failure"})
			}
			var out any
			switch p := r.URL.Path; {
			case strings.HasSuffix(p, "/status"):
				out = map[string]any{"state": "success", "statuses": paged(w, r, bad, 30)}
			case strings.HasSuffix(p, "/statuses"):
				out = paged(w, r, bad, 30)
			case strings.HasSuffix(p, "/check-runs"):
				out = map[string]any{"check_runs": paged(w, r, worse, 30)}
			case strings.HasSuffix(p, "/reviews"):
				out = paged(w, r, reviews, 30)
			case strings.HasSuffix(p, "/pulls"):
				out = paged(w, r, open, 30)
			default:
				out = open[7]
			}
			_ = json.NewEncoder(w).Encode(out)
		})) {
			if api == GitLab { // which tells a request's checks and approvals whole
				continue
			}
			r, err := c.See(t.Context(), 7)
			require.NoError(t, err, api)
			want := Failed
			if last == "run" && api == Gitea { // which has none
				want = Passed
			}
			assert.Equal(t, want, r.Checks, "%s: the last %s", api, last)
			assert.Len(t, r.Approvals, 129, "%s: who asked for changes at last approves no more", api)
			live, err := c.Live(t.Context())
			require.NoError(t, err, api)
			assert.Len(t, live, 130, api)
		}
	}
}

// TestARequestThatIsJustBeingMergedIsOpen: a host says so for a moment, and what is closed is withdrawn.
func TestARequestThatIsJustBeingMergedIsOpen(t *testing.T) {
	for state, want := range map[string]Standing{"opened": Open, "locked": Open, "closed": Closed, "merged": Merged} {
		c := all(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			_ = json.NewEncoder(w).Encode(map[string]any{"iid": 7, "state": state, "source_branch": "work", "target_branch": "main"})
		}))[GitLab]
		r, err := c.See(t.Context(), 7)
		require.NoError(t, err, state)
		assert.Equal(t, want, r.Standing, state)
	}
}

// TestAnAnswerWithoutEndIsCutOff: a host that sends for ever takes no more than so much memory, and is told from one that answers.
func TestAnAnswerWithoutEndIsCutOff(t *testing.T) {
	for api, c := range all(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"full_name": "`))
		page := []byte(strings.Repeat("x", 1<<20))
		for sent := 0; sent <= maxAnswer; sent += len(page) {
			if _, err := w.Write(page); err != nil {
				return
			}
		}
		_, _ = w.Write([]byte(`"}`))
	})) {
		assert.ErrorContains(t, c.Check(t.Context()), "the answer has more than", api)
	}
}

// TestWhatIsTooMuchToReadIsNotKnown: a host that lists for ever says nothing good by that, and keeps nobody from a request; the one comment is still the one.
func TestWhatIsTooMuchToReadIsNotKnown(t *testing.T) {
	var wrote atomic.Int64
	for api, c := range all(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if r.Method != http.MethodGet {
			wrote.Add(1)
		}
		one := map[string]any{"id": 7, "context": "check", "state": "success", "status": "success", "name": "check", "conclusion": "success", "body": "<!-- mark -->\ntext", "user": map[string]any{"login": "a", "username": "a"}}
		some := paged(w, r, slices.Repeat([]map[string]any{one}, 5000), 30)
		var out any = map[string]any{"number": 7, "iid": 7, "state": map[bool]string{true: "opened", false: "open"}[strings.Contains(r.URL.Path, "/v4/")], "head": map[string]any{"ref": "work", "sha": "c1"}, "base": map[string]any{"ref": "main"}}
		switch p := r.URL.Path; {
		case strings.HasSuffix(p, "/status"):
			out = map[string]any{"state": "success", "statuses": some}
		case strings.HasSuffix(p, "/check-runs"):
			out = map[string]any{"check_runs": some}
		case strings.HasSuffix(p, "/statuses"), strings.HasSuffix(p, "/reviews"), strings.HasSuffix(p, "/comments"), strings.HasSuffix(p, "/notes"):
			for i := range some { // each comment is one of its own
				some[i] = maps.Clone(some[i])
				some[i]["id"] = time.Now().UnixNano()
				if i > 0 || r.FormValue("page") != "" && r.FormValue("page") != "1" {
					some[i]["body"] = "people's"
				}
			}
			out = some
		}
		_ = json.NewEncoder(w).Encode(out)
	})) {
		if api != GitLab { // which tells a request's checks whole
			r, err := c.See(t.Context(), 7)
			require.NoError(t, err, api)
			assert.Equal(t, Running, r.Checks, api)
		}
		did, err := c.Say(t.Context(), 7, "<!-- mark -->", "text")
		require.NoError(t, err, api)
		assert.False(t, did, api)
		_, err = c.Say(t.Context(), 7, "<!-- another -->", "text")
		assert.ErrorContains(t, err, "more than", "%s: whether there is one is not known", api)
	}
	assert.Zero(t, wrote.Load())
}
