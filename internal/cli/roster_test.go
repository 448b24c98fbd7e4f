package cli

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// TestWhatAGuardStopsIsNotWaitedFor, also where it is told of only after the plan was made; whoever needs somebody for another reason is.
func TestWhatAGuardStopsIsNotWaitedFor(t *testing.T) {
	inStep := client.Ward{Id: "horn@quay", Standing: "in step", Health: "ready"}
	stopped := client.Ward{Id: "gale-post@skerry", Standing: "behind", Health: "unknown", NeedsYou: true, Says: "Nothing is applied", Guards: []client.Guard{{Name: "missing-secret", Text: "Secret/gale-post needs a value"}}}
	needs := client.Ward{Id: "fare-gate@quay", Standing: "behind", Health: "failing", NeedsYou: true, Says: "Went back"}
	for _, c := range []struct {
		wards []client.Ward
		code  int
		want  string
	}{
		{[]client.Ward{inStep, stopped}, 0, "All 1 are in step and ready"},
		{[]client.Ward{inStep, stopped, needs}, ExitFailed, "1 of 2 wards are in step and ready; 1 need you"},
	} {
		service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			answers := map[string]any{"/api/v1/rosters/moorings": client.Roster{Name: "moorings", Standing: "in step"}, "/api/v1/rosters": client.RosterList{}, "/api/v1/wards": client.WardList{Items: c.wards, Total: len(c.wards)}}
			assert.NoError(t, json.NewEncoder(w).Encode(answers[r.URL.Path]))
		}))
		conn, err := client.New(client.Context{Name: "test", URL: service.URL, Token: "vigila_x"})
		require.NoError(t, err)
		var out bytes.Buffer
		err = (&app{width: 120}).printer(&out).bringUp(t.Context(), conn, "moorings", map[string]string{})
		text := out.String()
		if c.code == 0 {
			require.NoError(t, err)
		} else {
			var exit *Exit
			require.ErrorAs(t, err, &exit)
			assert.Equal(t, c.code, exit.Code)
			text += exit.Text
		}
		assert.Contains(t, text, c.want)
		assert.Equal(t, 1, bytes.Count(out.Bytes(), []byte("gale-post@skerry                 stays as it is: a guard would stop it: Secret/gale-post needs a value")), "it is told once")
		service.Close()
	}
}
