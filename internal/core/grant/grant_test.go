package grant

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRoles(t *testing.T) {
	for _, c := range []struct {
		has, want Role
		may       bool
	}{
		{Reader, Reader, true}, {Reader, Operator, false}, {Operator, Reader, true}, {Operator, Admin, false}, {Admin, Admin, true},
		{"", Reader, false}, {"owner", Reader, false}, {Admin, "", false}, {Admin, "owner", false}, {"", "", false},
	} {
		assert.Equal(t, c.may, c.has.May(c.want), "%s may what %s may", c.has, c.want)
	}
}

func TestGiven(t *testing.T) {
	g := Given{Admins: []string{"user:admin@brindle.example"}, Operators: []string{"group:harbour-ops"}, Readers: []string{"group:ticketing", "group:signals"}}
	assert.NoError(t, g.Check())
	for _, c := range []struct {
		name string
		who  Identity
		want Role
	}{
		{"a user by name", Identity{Name: "admin@brindle.example"}, Admin},
		{"the highest of several", Identity{Name: "x", Groups: []string{"ticketing", "harbour-ops"}}, Operator},
		{"a name with a group beside it", Identity{Name: "admin@brindle.example", Groups: []string{"ticketing"}}, Admin},
		{"a group", Identity{Name: "x", Groups: []string{"signals"}}, Reader},
		{"nobody", Identity{Name: "x", Groups: []string{"cooks"}}, ""},
		{"no groups at all", Identity{Name: "x"}, ""},
		{"a group is no user", Identity{Name: "harbour-ops"}, ""},
		{"a user is no group", Identity{Name: "x", Groups: []string{"admin@brindle.example"}}, ""},
		{"letters count", Identity{Name: "x", Groups: []string{"Harbour-Ops"}}, ""},
		{"no part of a name", Identity{Name: "x", Groups: []string{"harbour-ops-2", "harbour"}}, ""},
	} {
		assert.Equal(t, c.want, g.Role(c.who), c.name)
	}
	assert.Equal(t, Reader, Given{Readers: []string{"everybody"}}.Role(Identity{Name: "x"}))
	assert.Equal(t, "brindle:reader@brindle.example", Identity{Provider: "brindle", Name: "reader@brindle.example"}.Title())
}

func TestWhatIsWrongWithWhatIsGiven(t *testing.T) {
	for _, c := range []struct {
		given Given
		want  string
	}{
		{Given{}, "nobody could sign in by it"},
		{Given{Admins: []string{"everybody"}}, "admins: everybody is too many"},
		{Given{Readers: []string{"ticketing"}}, `readers: "ticketing" is nobody: write group:NAME, user:NAME or everybody`},
		{Given{Operators: []string{"group:"}}, `operators: "group:" is nobody`},
		{Given{Operators: []string{"team:x"}}, `operators: "team:x" is nobody`},
		{Given{Operators: []string{""}}, `operators: "" is nobody`},
	} {
		assert.ErrorContains(t, c.given.Check(), c.want)
		assert.Empty(t, Given{Admins: c.given.Admins[:0]}.Role(Identity{Name: "x"}), "what can't be read gives nothing")
	}
	assert.Empty(t, Given{Readers: []string{"group:"}}.Role(Identity{Groups: []string{""}}), "an empty name is nobody's")
}
