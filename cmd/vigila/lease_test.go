package main

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	coordination "k8s.io/client-go/kubernetes/typed/coordination/v1"
	"k8s.io/client-go/rest"
)

// TestWhatKeepsALeaseAwayIsSaid: what can never be held is refused with what it takes; a cluster that does not answer is waited for, and said once.
func TestWhatKeepsALeaseAwayIsSaid(t *testing.T) {
	status := func(w http.ResponseWriter, code int, reason string) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(code)
		_, _ = fmt.Fprintf(w, `{"kind":"Status","apiVersion":"v1","status":"Failure","reason":%q,"code":%d,"message":"leases are %s"}`, reason, code, reason)
	}
	lease := `{"kind":"Lease","apiVersion":"coordination.k8s.io/v1","metadata":{"name":"vigila","namespace":"ops"}}`
	for name, c := range map[string]struct {
		get, write int // status codes
		want       string
	}{
		"not to be read":    {403, 0, "get, create and update of leases in namespace ops"},
		"not to be made":    {404, 403, "get, create and update of leases in namespace ops"},
		"no such namespace": {404, 404, "make the namespace first"},
		"to be made":        {404, 201, ""},
		"not to be changed": {200, 403, "get, create and update of leases in namespace ops"},
		"just changed":      {200, 409, ""},
		"it may":            {200, 200, ""},
	} {
		reasons := map[int]string{403: "Forbidden", 404: "NotFound", 409: "Conflict"}
		api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			code := c.write
			if q.Method == http.MethodGet {
				code = c.get
			} else {
				assert.Equal(t, "All", q.URL.Query().Get("dryRun"), "nothing is changed by asking")
			}
			if code >= 400 {
				status(w, code, reasons[code])
				return
			}
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(code)
			_, _ = w.Write([]byte(lease))
		}))
		leases, err := coordination.NewForConfig(&rest.Config{Host: api.URL})
		require.NoError(t, err)
		err = (&office{s: settings{Lease: "ops/vigila"}, leases: leases, said: map[string]string{}, log: slog.New(slog.DiscardHandler)}).may(t.Context())
		if c.want == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, c.want, name)
		}
		api.Close()
	}

	ctx, end := context.WithCancel(t.Context())
	asked := 0
	away := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if asked++; asked == 2 {
			end()
		}
		status(w, http.StatusInternalServerError, "InternalError")
	}))
	defer away.Close()
	leases, err := coordination.NewForConfig(&rest.Config{Host: away.URL})
	require.NoError(t, err)
	var log strings.Builder
	o := &office{s: settings{Lease: "ops/vigila"}, leases: leases, said: map[string]string{}, log: slog.New(slog.NewTextHandler(&log, nil))}
	assert.NoError(t, o.may(ctx), "it is tried again")
	assert.Equal(t, 1, strings.Count(log.String(), "does not answer"), "and said once")
}
