package metrics

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/ward"
)

// vector is an answer of the Prometheus HTTP API.
func vector(values ...string) string {
	var all []string
	for i, v := range values {
		all = append(all, fmt.Sprintf(`{"metric":{"n":"%d"},"value":[1700000000,%q]}`, i, v))
	}
	return `{"status":"success","data":{"resultType":"vector","result":[` + strings.Join(all, ",") + `]}}`
}

func TestAQueryIsAnsweredOrNotKnown(t *testing.T) {
	hang := make(chan struct{})
	t.Cleanup(func() { close(hang) })
	for name, c := range map[string]struct {
		answer  http.HandlerFunc
		value   float64
		problem string
	}{
		"a vector":   {says(200, vector("0.5", "2")), 0.5, ""},
		"a scalar":   {says(200, `{"status":"success","data":{"resultType":"scalar","result":[1700000000,"7"]}}`), 7, ""},
		"nothing":    {says(200, vector()), 0, "the query gives no data"},
		"no number":  {says(200, vector("NaN")), 0, "NaN, which is no number"},
		"a matrix":   {says(200, `{"status":"success","data":{"resultType":"matrix","result":[]}}`), 0, "gives a matrix, which is no value"},
		"nonsense":   {says(200, "<html>"), 0, "metrics source m: its answer is none of the Prometheus HTTP API: "},
		"a refusal":  {says(422, `{"status":"error","errorType":"execution","error":"too many samples"}`), 0, "too many samples"},
		"no sign-in": {says(401, "no"), 0, "metrics source m: it answers 401 to a query; is its address that of a server"},
		"a way elsewhere": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://elsewhere.example/", http.StatusFound)
		}, 0, "metrics source m: its answer is none of the Prometheus HTTP API: bad response code 302"},
		"silence": {func(http.ResponseWriter, *http.Request) { <-hang }, 0, "no answer in time"},
		"without end": {func(w http.ResponseWriter, r *http.Request) {
			for r.Context().Err() == nil {
				if _, err := w.Write(make([]byte, 1<<20)); err != nil {
					return
				}
			}
		}, 0, "metrics source m: "},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := httptest.NewServer(c.answer)
			t.Cleanup(s.CloseClientConnections)
			a := &Asker{Source: func(string) (Source, bool) { return Source{Name: "m", URL: s.URL, Token: "spring-tide"}, true }}
			now, old := a.Ask(context.Background(), ward.Check{Query: "x", From: "m", Every: 2 * time.Second}, map[string][]string{"new": {"a-1"}, "old": {"a-0"}}, true)
			assert.Equal(t, c.value, now.Value)
			assert.Contains(t, now.Problem, c.problem)
			assert.Equal(t, c.problem == "", now.Problem == "", now.Problem)
			assert.NotContains(t, now.Problem, "spring-tide")
			require.NotNil(t, old)
			assert.Equal(t, now.Problem == "", old.Problem == "")
		})
	}
	a := &Asker{Source: func(string) (Source, bool) { return Source{}, false }}
	now, _ := a.Ask(context.Background(), ward.Check{Query: "x", From: "harbour"}, map[string][]string{"new": {"a-1"}}, false)
	assert.Contains(t, now.Problem, "there is no metrics source harbour")
}

func says(status int, text string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer spring-tide" {
			status, text = http.StatusUnauthorized, "who are you?"
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		fmt.Fprint(w, text)
	}
}

func TestARequestIsAnAnswer(t *testing.T) {
	var asked atomic.Int32
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		switch r.URL.Path {
		case "/order":
			fmt.Fprintf(w, `{"host": %q, "track": %q}`, r.Host, r.Header.Get("X-Track"))
		case "/away":
			http.Redirect(w, r, "/order", http.StatusFound)
		case "/long":
			_, _ = w.Write(make([]byte, 2<<20))
		case "/wrong":
			http.Error(w, "no", http.StatusBadGateway)
		}
	}))
	defer s.Close()
	a := &Asker{Local: true}
	ask := func(path string) (status int, body any, problem string) {
		now, old := a.Ask(context.Background(), ward.Check{Ask: &ward.Request{URL: s.URL + path, Headers: map[string]string{"X-Track": "new", "Host": "gate.brindle.example"}}, Every: 2 * time.Second}, nil, false)
		assert.Nil(t, old)
		return now.Status, now.Body, now.Problem
	}
	status, body, _ := ask("/order")
	assert.Equal(t, 200, status)
	assert.Equal(t, map[string]any{"host": "gate.brindle.example", "track": "new"}, body)
	status, _, _ = ask("/away")
	assert.Equal(t, 302, status, "a redirect is an answer, and not followed")
	status, body, _ = ask("/wrong")
	assert.Equal(t, []any{502, "no\n"}, []any{status, body})
	_, _, problem := ask("/long")
	assert.Contains(t, problem, "longer than 1048576 bytes")

	before := asked.Load()
	a.Local = false
	_, _, problem = ask("/order")
	assert.Contains(t, problem, "127.0.0.1 is this machine's own or its link's, which checks may not reach")
	assert.Equal(t, before, asked.Load(), "nothing was sent")
	for _, address := range []string{"169.254.169.254:80", "[fe80::1]:80", "[::1]:80", "0.0.0.0:80", "[::ffff:127.0.0.1]:80", "224.0.0.1:80", "[fd00:ec2::254]:80", "100.100.100.200:80"} {
		assert.Error(t, a.may("tcp", address, nil), address)
	}
	assert.NoError(t, a.may("tcp", "10.1.2.3:443", nil))
}

func TestALoadIsSteadyAndCounted(t *testing.T) {
	var n atomic.Int32
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if n.Add(1)%4 == 0 {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	a := &Asker{Local: true}
	check := ward.Check{Load: &ward.Request{URL: s.URL, Rate: 50}, Every: time.Second}
	now, _ := a.Ask(context.Background(), check, nil, false)
	require.Empty(t, now.Problem)
	assert.Equal(t, int(n.Load()), now.Load.Sent)
	assert.LessOrEqual(t, now.Load.Sent, 51)
	assert.Equal(t, now.Load.Sent/4, now.Load.Failed)
	assert.Equal(t, now.Load.Failed, now.Load.Codes["503"])
	assert.GreaterOrEqual(t, now.Load.P99, now.Load.P50)
	s.Close()
	now, _ = a.Ask(context.Background(), check, nil, false)
	assert.Contains(t, now.Problem, "none of the load was answered: ")
}

// TestAPodIsAskedThroughTheAPIServer: what a Pod answers is an answer, and what the API server says in its place is not.
func TestAPodIsAskedThroughTheAPIServer(t *testing.T) {
	check := ward.Check{Every: time.Second, Ask: &ward.Request{Service: "gate"}}
	answer := func(code int, body string) func(context.Context) (*http.Response, error) {
		return func(context.Context) (*http.Response, error) {
			return &http.Response{StatusCode: code, Body: io.NopCloser(strings.NewReader(body))}, nil
		}
	}
	got := Through(t.Context(), check, answer(200, `{"tills": 4}`))
	assert.Equal(t, []any{200, map[string]any{"tills": 4.0}, ""}, []any{got.Status, got.Body, got.Problem})
	got = Through(t.Context(), check, answer(503, `no tills`))
	assert.Equal(t, []any{503, "no tills", ""}, []any{got.Status, got.Body, got.Problem}, "an error of the Pod is an answer")
	got = Through(t.Context(), check, answer(403, `{"kind":"Status","apiVersion":"v1","message":"pods \"gate-1\" is forbidden"}`))
	assert.Equal(t, judge.Answer{Problem: `the API server: pods "gate-1" is forbidden`}, got)
	got = Through(t.Context(), check, func(context.Context) (*http.Response, error) { return nil, errors.New("Service gate leads to no Pod") })
	assert.Equal(t, "Service gate leads to no Pod", got.Problem)
}
