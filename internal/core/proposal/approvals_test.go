package proposal

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatApprovalsCount(t *testing.T) {
	two := Wanted{Count: 2, By: "repository moorings"}
	team := Wanted{Count: 1, Of: []string{"ticketing", "admin"}, By: "stop skerry"}
	now, then := "c1", "c0"
	for _, c := range []struct {
		what  string
		wants []Wanted
		have  []Approval
		host  []Approval
		lacks string
	}{
		{"nothing is wanted", nil, nil, nil, ""},
		{"none", []Wanted{two}, nil, nil, "repository moorings wants 2 approvals"},
		{"one of two", []Wanted{two}, []Approval{{By: "reader", Commit: now}}, nil, "repository moorings wants 2 approvals, and has reader"},
		{"twice the same", []Wanted{two}, []Approval{{By: "reader", Commit: now}, {By: "reader", Commit: now}}, nil, "repository moorings wants 2 approvals, and has reader"},
		{"the author's own", []Wanted{two}, []Approval{{By: "operator", Commit: now}, {By: "reader", Commit: now}}, nil, "repository moorings wants 2 approvals, and has reader"},
		{"of another commit", []Wanted{two}, []Approval{{By: "visitor", Commit: then}, {By: "reader", Commit: now}}, nil, "repository moorings wants 2 approvals, and has reader"},
		{"two", []Wanted{two}, []Approval{{By: "visitor", Commit: now}, {By: "reader", Commit: now}}, nil, ""},
		{"one here, one there", []Wanted{two}, []Approval{{By: "visitor", Commit: now}}, []Approval{{By: "host-reader"}}, ""},
		{"of nobody that is meant", []Wanted{team}, []Approval{{By: "reader", Commit: now, As: []string{"signals"}}}, nil, "stop skerry wants 1 approval of ticketing or admin"},
		{"of the team", []Wanted{team}, []Approval{{By: "reader", Commit: now, As: []string{"signals", "ticketing"}}}, nil, ""},
		{"there, where nobody knows of teams", []Wanted{team}, nil, []Approval{{By: "ticketing", Commit: now}}, "stop skerry wants 1 approval of ticketing or admin"},
		{"both want some", []Wanted{two, team}, []Approval{{By: "reader", Commit: now, As: []string{"admin"}}}, nil, "repository moorings wants 2 approvals, and has reader"},
	} {
		p := open()
		p.Wants, p.Approvals, p.Request.Approvals = c.wants, c.have, c.host
		assert.Equal(t, c.lacks, p.Lacks(), c.what)
		says, loud := p.Says()
		assert.True(t, loud, c.what)
		if c.lacks != "" {
			assert.Contains(t, says, "waits for approvals: "+c.lacks, c.what)
		}
	}
	assert.Error(t, Wanted{Count: -1}.Check())
	assert.Error(t, Wanted{Of: []string{"x"}}.Check())
	assert.NoError(t, Wanted{}.Check())
}
