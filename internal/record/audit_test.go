package record

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/audit"
	"vigila.dev/vigila/internal/core/logbook"
)

// TestTheAccountHolds: what began and what came of it is one thing in a list, two lines by themselves; runs are in it; what is old is forgotten from the beginning on,
// and the rest holds; and what is changed in the database shows.
func TestTheAccountHolds(t *testing.T) {
	ctx := t.Context()
	s := open(t, t.TempDir())
	day := func(n int) time.Time { return time.Date(2026, 11, n, 3, 0, 0, 0, time.UTC) }
	add := func(e audit.Entry) int {
		n, err := s.AddAudit(ctx, e)
		require.NoError(t, err)
		return n
	}
	v, err := s.VerifyAudit(ctx, audit.Line{})
	require.NoError(t, err)
	assert.Equal(t, Verified{}, v)

	one := add(audit.Entry{At: day(1), By: "operator", Verb: "hold", Of: "ward", Name: "fare-gate@skerry", Outcome: audit.Begun})
	add(audit.Entry{At: day(1), By: "operator", Verb: "hold", Of: "ward", Name: "fare-gate@skerry", Outcome: audit.Done, Asked: one, Is: map[string]string{"held": "by operator: gale"}})
	add(audit.Entry{At: day(2), By: "admin", Verb: "end", Of: "token", Name: "pipeline", Outcome: audit.Begun})
	require.NoError(t, s.Commit(ctx, "pier@quay", EndEntry{logbook.Entry{Number: 7, Kind: "sync", Outcome: "rolled back", By: logbook.Vigila, Reason: "crash-loops", Ended: day(3), Revision: &logbook.Revision{ID: "abc"}}}))
	list := func(f FindAudit) (out []string) {
		f.Limit = 10
		all, total, err := s.Audit(ctx, f)
		require.NoError(t, err)
		assert.Len(t, all, total)
		for _, a := range all {
			ended := ""
			if a.Ended != nil {
				ended = string(a.Ended.Outcome)
			}
			out = append(out, fmt.Sprint(a.Number, " ", a.By, " ", a.Verb, " ", a.Outcome, " ", ended))
		}
		return out
	}
	assert.Equal(t, []string{"4 vigila sync failed ", "3 admin end begun ", "1 operator hold begun done"}, list(FindAudit{}))
	assert.Equal(t, []string{"2 operator hold done ", "3 admin end begun ", "4 vigila sync failed "}, list(FindAudit{Lines: true, After: 1}))
	assert.Equal(t, []string{"3 admin end begun "}, list(FindAudit{Who: "admin"}))
	assert.Equal(t, []string{"4 vigila sync failed "}, list(FindAudit{Since: day(3)}))
	assert.Equal(t, []string{"1 operator hold begun done"}, list(FindAudit{Search: "HOLD gale"}), "words of what came of it too")
	all, _, err := s.Audit(ctx, FindAudit{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"entry": "#7", "outcome": "rolled back", "revision": "abc"}, all[0].With)

	v, err = s.VerifyAudit(ctx, audit.Line{})
	require.NoError(t, err)
	assert.Equal(t, []any{1, 4, true}, []any{v.First, v.Last, v.Broken == nil})
	digest := v.Hash
	for _, c := range []struct {
		kept audit.Line
		want string
	}{{audit.Line{Number: 4, Hash: digest}, ""}, {audit.Line{Number: 3, Hash: digest}, "entry 3 is not the one that was kept elsewhere"}, {audit.Line{Number: 5, Hash: digest}, "entry 5 was kept elsewhere, and is not here; here are 1 to 4"}} {
		v, err := s.VerifyAudit(ctx, c.kept)
		require.NoError(t, err)
		if c.want == "" {
			assert.Nil(t, v.Broken)
		} else if assert.NotNil(t, v.Broken, c.want) {
			assert.Contains(t, v.Broken.Error(), c.want)
		}
	}
	require.NoError(t, s.ForgetAudit(ctx, day(2)))
	v, err = s.VerifyAudit(ctx, audit.Line{})
	require.NoError(t, err)
	assert.Equal(t, Verified{First: 3, Last: 4, Hash: digest}, v)
	require.NoError(t, s.ForgetAudit(ctx, day(30)))
	add(audit.Entry{At: day(4), By: "operator", Verb: "look", Of: "repo", Name: "tides", Outcome: audit.Done})
	v, err = s.VerifyAudit(ctx, audit.Line{})
	require.NoError(t, err)
	assert.Equal(t, []any{4, 5, true}, []any{v.First, v.Last, v.Broken == nil}, "the last one is kept whatever its age, so that the next is bound to it")

	_, err = s.db.Exec(`UPDATE audit SET text=replace(text,'tides','moorings') WHERE number=5`)
	require.NoError(t, err)
	v, err = s.VerifyAudit(ctx, audit.Line{})
	require.NoError(t, err)
	require.NotNil(t, v.Broken)
	assert.Equal(t, 5, v.Broken.Number)
	assert.Equal(t, 4, v.Last)
}
