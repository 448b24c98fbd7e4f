package server

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// testServer is the whole service without a cluster, on loopback.
type testServer struct {
	t        testing.TB
	url      string
	token    string
	repo     string // a local repository with one commit
	stop     chan struct{}
	store    *record.Store
	data     string
	handler  http.Handler
	registry *prometheus.Registry
}

func serve(t testing.TB) *testServer {
	t.Helper()
	ctx := context.Background()
	dir := t.TempDir()
	store, err := record.Open(ctx, filepath.Join(dir, "data"))
	require.NoError(t, err)
	k, err := keeper.New(ctx, store, keeper.Options{MirrorDir: filepath.Join(dir, "mirrors"), AllowLocalRepos: true}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	token, hash := keeper.NewToken()
	require.NoError(t, store.AddToken(ctx, hash, record.Token{Name: "operator", Role: "admin"}))
	s := &testServer{t: t, token: token, stop: make(chan struct{}), store: store, registry: k.Registry(), data: filepath.Join(dir, "data"), repo: filepath.Join(dir, "origin")}
	pages := fstest.MapFS{"index.html": {Data: []byte("<title>Vigila</title>")}, "assets/app-1a2b.js": {Data: []byte("1")}}
	s.handler = New(Options{Keeper: k, Console: pages, Version: "test", Log: slog.New(slog.DiscardHandler), Ending: s.stop})
	h := httptest.NewServer(s.handler)
	s.url = h.URL
	t.Cleanup(func() {
		h.Close()
		k.Close()
		assert.NoError(t, store.Close())
	})
	require.NoError(t, os.MkdirAll(filepath.Join(s.repo, "app"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(s.repo, "app", "a.yaml"), []byte("apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\n"), 0o600))
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"}, {"-c", "user.name=operator", "-c", "user.email=o@brindle.example", "commit", "-q", "-m", "First"}} {
		out, err := exec.Command("git", append([]string{"-C", s.repo}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	return s
}

// call sends a request and reads the answer into v, when there is one.
func (s *testServer) call(method, path, body string, v any) *http.Response {
	s.t.Helper()
	r, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+s.token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(s.t, err)
	if v != nil {
		require.NoError(s.t, json.Unmarshal(b, v), "%s", b)
	}
	return answer
}

// refused wants a problem document with a status and some words.
func (s *testServer) refused(method, path, body string, status int, want string) {
	s.t.Helper()
	var p Problem
	answer := s.call(method, path, body, &p)
	assert.Equal(s.t, status, answer.StatusCode, p.Detail)
	assert.Equal(s.t, status, p.Status)
	assert.Equal(s.t, "application/problem+json", answer.Header.Get("Content-Type"))
	assert.NotEmpty(s.t, p.Title)
	assert.Contains(s.t, p.Detail, want)
}

func TestProblemsAreDocuments(t *testing.T) {
	s := serve(t)
	s.refused("GET", "/api/v1/wards/nobody", "", 404, `there is no ward "nobody", nor any other yet; the first: vigila ward add FILE`)
	s.refused("GET", "/api/v1/wards/nobody/entries/1", "", 404, "there is no ward")
	s.refused("GET", "/api/v1/wards/nobody/entries/x", "", 400, "number")
	s.refused("GET", "/api/v1/nothing", "", 404, "api/openapi.yaml lists the calls")
	s.refused("GET", "/api/v1/wards?limit=0", "", 400, "limit must be 1 to 1000")
	s.refused("GET", "/api/v1/wards?limit=x", "", 400, "limit")
	s.refused("GET", "/api/v1/entries?offset=-1", "", 400, "offset 0 or more")
	s.refused("POST", "/api/v1/wards", "{", 400, "it must be JSON")
	s.refused("POST", "/api/v1/wards", `{"file": "x: 1"}`, 422, "ward.yaml:1: unknown key x")
	s.refused("POST", "/api/v1/wards", `{"file": "`+strings.Repeat("x", maxBody)+`"}`, 413, "too large")
	s.refused("POST", "/api/v1/repos", `{"name": "Moorings", "url": "https://x/y"}`, 422, `name: "Moorings" is not a name`)
	s.refused("POST", "/api/v1/repos", `{"name": "moorings", "url": "file:///nonexistent"}`, 422, "there is no repository at file:///nonexistent")
	s.refused("DELETE", "/api/v1/repos/moorings", "", 404, `there is no repository "moorings", nor any other yet; the first: vigila repo add NAME URL`)
	s.refused("POST", "/api/v1/clusters", `{"name": "quay", "kubeconfig_file": "/nonexistent"}`, 422, "not read unless it is started with --kubeconfigs")
	s.refused("DELETE", "/api/v1/clusters/quay", "", 404, `there is no cluster "quay", nor any other yet; the first: vigila cluster add`)
	s.refused("POST", "/api/v1/wards/nobody/runs", `{"kind": "rollback"}`, 422, "a rollback needs to_entry")
	s.refused("PUT", "/api/v1/wards/nobody/hold", `{"until": "soon"}`, 400, "it must be JSON")
}

func TestRepositoriesAreReadBeforeTheyAreKept(t *testing.T) {
	s := serve(t)
	var r Repo
	answer := s.call("POST", "/api/v1/repos", `{"name": "moorings", "url": "file://`+s.repo+`", "user": "vigila", "password": "open-sesame"}`, &r)
	require.Equal(t, 200, answer.StatusCode)
	assert.Equal(t, []string{"main"}, r.Branches)
	assert.True(t, r.Repository.Known)
	assert.False(t, r.Repository.Next.IsZero(), "when the next look is")
	var all RepoList
	s.call("GET", "/api/v1/repos", "", &all)
	require.Len(t, all.Items, 1)
	text, err := json.Marshal(all)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "open-sesame", "write-only")
	assert.Equal(t, 204, s.call("DELETE", "/api/v1/repos/moorings", "", nil).StatusCode)
}

// unreachable is a kubeconfig for an address where nobody answers.
const unreachable = "apiVersion: v1\nkind: Config\ncurrent-context: quay\nclusters: [{name: quay, cluster: {server: 'https://127.0.0.1:1'}}]\ncontexts: [{name: quay, context: {cluster: quay, user: u}}]\nusers: [{name: u, user: {token: t}}]\n"

// TestAWardInAClusterThatNeverAnswered: it can be listed, searched and held, and is blind, never in step.
func TestAWardInAClusterThatNeverAnswered(t *testing.T) {
	s := serve(t)
	text, err := json.Marshal(unreachable)
	require.NoError(t, err)
	s.refused("POST", "/api/v1/clusters", `{"name": "quay", "kubeconfig": `+string(text)+`}`, 502, "cluster quay does not answer")
	s.refused("POST", "/api/v1/clusters", `{"name": "quay", "kubeconfig": `+string(text)+`, "context": "wrong"}`, 422, `no context "wrong"; it has: quay`)
	// It answered once, long ago: the record knows it.
	require.NoError(t, s.store.PutCluster(context.Background(), record.Cluster{Name: "quay", KubeconfigText: unreachable, Labels: map[string]string{"tier": "rehearsal"}}))
	require.NoError(t, s.store.PutRepo(context.Background(), record.Repo{Name: "moorings", URL: "file://" + s.repo}))
	again := reopen(t, s)

	ward := func(name, more string) string {
		text, err := json.Marshal(map[string]string{"name": "w.yaml", "file": "vigila: ward/v1\nname: " + name + "\nowner: harbour-ops\nfrom: {repo: moorings, path: app}\ninto: {clusters: {tier: rehearsal}, namespace: n}\n" + more})
		require.NoError(t, err)
		return string(text)
	}
	var added AddedWards
	require.Equal(t, 200, again.call("POST", "/api/v1/wards", ward("berth-planner", ""), &added).StatusCode)
	assert.Equal(t, []string{"berth-planner@quay"}, added.Items)
	require.Equal(t, 200, again.call("POST", "/api/v1/wards", ward("tide-gauge", "after: [berth-planner]\n"), &added).StatusCode)
	again.refused("POST", "/api/v1/wards", ward("berth-planner", "after: [tide-gauge]\n"), 422, "berth-planner → tide-gauge → berth-planner")

	var w Ward
	require.Equal(t, 200, again.call("POST", "/api/v1/wards/berth-planner/look", "", &w).StatusCode)
	assert.EqualValues(t, "blind", w.Standing)
	assert.EqualValues(t, "unknown", w.Health)
	assert.Contains(t, w.Says, "does not answer")
	assert.True(t, w.NeedsYou)
	require.Equal(t, 200, again.call("POST", "/api/v1/wards/tide-gauge/look", "", nil).StatusCode)
	again.refused("POST", "/api/v1/wards/berth-planner/runs", `{"kind": "sync"}`, 409, "can't be synced")
	again.refused("POST", "/api/v1/wards/berth-planner/runs", `{"kind": "restore"}`, 409, "has never been synced")
	again.refused("POST", "/api/v1/wards/berth-planner/runs", `{"kind": "rollback", "to_entry": 3}`, 404, "has no entry #3")
	again.refused("POST", "/api/v1/wards/berth-planner/runs", `{"kind": "demolish"}`, 422, `no run of kind "demolish"`)
	again.refused("DELETE", "/api/v1/wards/berth-planner/runs/current", "", 409, "no run is going on")

	// Lists search, filter and page.
	for query, want := range map[string]int{"": 2, "?search=tide": 1, "?search=TIDE+harbour": 1, "?search=nothing": 0, "?owner=harbour-ops": 2, "?owner=signals": 0,
		"?cluster=quay": 2, "?standing=blind": 2, "?standing=behind": 0, "?needs_you=true": 2} {
		var l WardList
		again.call("GET", "/api/v1/wards"+query, "", &l)
		assert.Equal(t, want, l.Total, query)
		assert.Len(t, l.Items, want, query)
	}
	var page WardList
	again.call("GET", "/api/v1/wards?limit=1&offset=1", "", &page)
	assert.Equal(t, 2, page.Total)
	require.Len(t, page.Items, 1)
	assert.Equal(t, "tide-gauge@quay", page.Items[0].Id)

	// Hold and release are entries of the logbook.
	require.Equal(t, 200, again.call("PUT", "/api/v1/wards/berth-planner/hold", `{"why": "gale watch"}`, &w).StatusCode)
	assert.Equal(t, "operator", w.Hold.By)
	again.refused("PUT", "/api/v1/wards/berth-planner/hold", `{}`, 409, "is held already, by operator: gale watch")
	again.refused("PUT", "/api/v1/wards/tide-gauge/hold", `{"reason": "gale"}`, 400, `there is no field "reason"; there are until and why`)
	again.refused("PUT", "/api/v1/wards/tide-gauge/hold", `{"unitl": "2040-01-01T00:00:00Z"}`, 400, `there is no field "unitl"; did you mean until?`)
	again.refused("PUT", "/api/v1/wards/tide-gauge/hold", `{} {}`, 400, "there is more than one value")
	again.refused("PUT", "/api/v1/wards/tide-gauge/hold", `{"until": "2020-01-01T00:00:00Z"}`, 422, "is in the past")
	require.Equal(t, 200, again.call("DELETE", "/api/v1/wards/berth-planner/hold?why=over", "", &w).StatusCode)
	again.refused("DELETE", "/api/v1/wards/berth-planner/hold", "", 409, "is not held")
	var log EntryList
	again.call("GET", "/api/v1/wards/berth-planner/entries", "", &log)
	require.Len(t, log.Items, 2)
	assert.Equal(t, []string{"over", "gale watch"}, []string{log.Items[0].Why, log.Items[1].Why})
	again.call("GET", "/api/v1/entries?search=gale", "", &log)
	assert.Equal(t, 1, log.Total)
	again.refused("POST", "/api/v1/wards/berth-planner/runs", `{"kind": "rollback", "to_entry": 1}`, 422, "is a hold and keeps no objects")

	again.refused("DELETE", "/api/v1/repos/moorings", "", 409, "is used by 2 wards")
	assert.Equal(t, 204, again.call("DELETE", "/api/v1/wards/tide-gauge", "", nil).StatusCode)
	again.refused("GET", "/api/v1/wards/tide-gauge", "", 404, "there is berth-planner@quay")
}

// reopen serves the same data anew, as after a restart.
func reopen(t *testing.T, s *testServer) *testServer {
	t.Helper()
	k, err := keeper.New(context.Background(), s.store, keeper.Options{MirrorDir: t.TempDir(), AllowLocalRepos: true}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	h := httptest.NewServer(New(Options{Keeper: k, Console: fstest.MapFS{}, Log: slog.New(slog.DiscardHandler), Ending: make(chan struct{})}))
	t.Cleanup(func() {
		h.Close()
		k.Close()
	})
	return &testServer{t: t, url: h.URL, token: s.token, store: s.store, repo: s.repo}
}

func TestEventsTellWhatChanged(t *testing.T) {
	s := serve(t)
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", s.url+"/api/v1/events", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+s.token)
	stream, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer stream.Body.Close()
	assert.Equal(t, "text/event-stream", stream.Header.Get("Content-Type"))
	rows := bufio.NewScanner(stream.Body)
	require.True(t, rows.Scan())
	assert.Equal(t, ": hello", rows.Text())
	s.call("POST", "/api/v1/repos", `{"name": "moorings", "url": "file://`+s.repo+`"}`, nil)
	var told []string
	for rows.Scan() {
		told = append(told, rows.Text())
		if rows.Text() == `data: {"name":"moorings"}` {
			break
		}
	}
	assert.Contains(t, told, "event: repo")
	close(s.stop) // the service ends: the stream ends too
	for rows.Scan() {
	}
	assert.NoError(t, rows.Err())
}

func TestTheConsoleAndItsHeaders(t *testing.T) {
	s := serve(t)
	get := func(path string) (*http.Response, string) {
		answer, err := http.Get(s.url + path)
		require.NoError(t, err)
		defer answer.Body.Close()
		b, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer, string(b)
	}
	for _, path := range []string{"/", "/wards/berth-planner@quay", "/index.html", "/../../etc/passwd"} {
		answer, text := get(path)
		assert.Equal(t, 200, answer.StatusCode, path)
		assert.Contains(t, text, "<title>Vigila</title>", path)
		assert.Equal(t, "no-cache", answer.Header.Get("Cache-Control"))
	}
	answer, text := get("/assets/app-1a2b.js")
	assert.Equal(t, "1", text)
	assert.Contains(t, answer.Header.Get("Cache-Control"), "immutable")
	assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "default-src 'self'")
	assert.Equal(t, "nosniff", answer.Header.Get("X-Content-Type-Options"))
	answer, _ = get("/metrics")
	assert.Equal(t, 401, answer.StatusCode, "it names what there is")
	signed, err := http.NewRequest(http.MethodGet, s.url+"/metrics", nil)
	require.NoError(t, err)
	signed.Header.Set("Authorization", "Bearer "+s.token)
	answer, err = http.DefaultClient.Do(signed)
	require.NoError(t, err)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	text = string(b)
	assert.Contains(t, text, "vigila_ward_queue_depth")
	assert.Contains(t, text, "vigila_request_seconds")
}

func TestTokens(t *testing.T) {
	one, hash := keeper.NewToken()
	two, _ := keeper.NewToken()
	assert.NotEqual(t, one, two)
	assert.Equal(t, hash, keeper.HashToken(one))
	assert.NotContains(t, hash, one)
	s := serve(t)
	var me Me
	assert.Equal(t, 200, s.call("GET", "/api/v1/me", "", &me).StatusCode)
	assert.Equal(t, Me{Name: "operator", Role: "admin", Version: "test"}, me)
	s.token = "vigila_wrong"
	s.refused("GET", "/api/v1/me", "", 401, "has ended, or was taken back")
}

// TestWordsThatAreNoneAreNotNoWards: a filter with a mistake would otherwise look like good news.
func TestWordsThatAreNoneAreNotNoWards(t *testing.T) {
	s := serve(t)
	s.refused("GET", "/api/v1/wards?standing=drifed", "", 422, `there is no standing "drifed"; did you mean drifted?`)
	s.refused("GET", "/api/v1/wards?cluster=nope", "", 404, `there is no cluster "nope", nor any other yet`)
	s.refused("GET", "/api/v1/wards?roster=nope", "", 404, `there is no roster "nope"`)
	s.refused("GET", "/api/v1/wards?owner=nobody", "", 404, `there is no owner "nobody"`)
	s.refused("POST", "/api/v1/repos", `{"name": "moorings", "url": "https://git.brindle.example/moorings.git", "follow": ["submodule"]}`, 422, `there is no "submodule" to follow; did you mean submodules?`)
}

func TestWhatARunMayAskFor(t *testing.T) {
	s := serve(t)
	for body, want := range map[string]string{
		`{"kind": "restore", "only": ["ConfigMap/a"]}`:               "only belongs to a sync or a rollback",
		`{"kind": "sync", "allow": ["mass-remval"]}`:                 "there is no guard \"mass-remval\"; did you mean mass-removal?",
		`{"kind": "restore", "revision": "main"}`:                    "belong to a sync",
		`{"kind": "sync", "tasks": true}`:                            "tasks belongs to a rollback",
		`{"kind": "sync", "reapply": true, "only": ["ConfigMap/a"]}`: "reapply takes everything and only takes a part",
		`{"kind": "rollback", "tasks": true}`:                        "a rollback needs to_entry",
	} {
		s.refused("POST", "/api/v1/wards/nobody/runs", body, 422, want)
		s.refused("POST", "/api/v1/wards/nobody/preview", body, 422, want)
	}
	s.refused("POST", "/api/v1/wards/nobody/preview", `{"kind": "sync"}`, 404, "there is no ward")
	s.refused("GET", "/api/v1/wards/nobody/compare", "", 400, "from")
	s.refused("GET", "/api/v1/wards/nobody/compare?from=0", "", 400, "numbers of entries, 1 or more")
	s.refused("GET", "/api/v1/wards/nobody/compare?from=1&to=x", "", 400, "to")
	s.refused("GET", "/api/v1/wards/nobody/compare?from=1", "", 404, "there is no ward")
	s.refused("GET", "/api/v1/wards/nobody/rejections", "", 404, "there is no ward")
	s.refused("POST", "/api/v1/wards/nobody/rejections", `{"revision": "main"}`, 404, "there is no ward")
	s.refused("DELETE", "/api/v1/wards/nobody/rejections/abc", "", 404, "there is no ward")
	s.refused("POST", "/api/v1/wards/nobody/proposals", `{}`, 404, "there is no ward")
	s.refused("GET", "/api/v1/wards/nobody/entries/1/log?key=x", "", 404, "there is no ward")
	s.refused("GET", "/api/v1/wards/nobody/entries/1/log", "", 400, "key")
}
