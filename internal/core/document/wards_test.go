package document

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWhichWardsHold: all that is given must, and what is nowhere is in nothing that is given.
func TestWhichWardsHold(t *testing.T) {
	for _, c := range []struct {
		wards Wards
		says  string
		holds bool // for fare-gate of ticketing in skerry, of roster moorings
		bare  bool // for one that belongs nowhere
	}{
		{Wards{}, "everything", true, true},
		{Wards{Owners: []string{"signals", "ticketing"}}, "wards of signals, ticketing", true, false},
		{Wards{Owners: []string{"signals"}}, "wards of signals", false, false},
		{Wards{Owners: []string{""}}, "wards of ", false, false},
		{Wards{Names: []string{"fare-gate"}}, "wards fare-gate", true, false},
		{Wards{Names: []string{"fare-gate@skerry"}}, "wards fare-gate@skerry", true, false},
		{Wards{Names: []string{"fare-gate@quay"}}, "wards fare-gate@quay", false, false},
		{Wards{Owners: []string{"ticketing"}, Clusters: []string{"quay"}}, "wards of ticketing, in quay", false, false},
		{Wards{Owners: []string{"ticketing"}, Clusters: []string{"skerry"}, Rosters: []string{"moorings"}}, "wards of ticketing, in skerry, of roster moorings", true, false},
	} {
		assert.Equal(t, c.says, c.wards.String())
		assert.Equal(t, c.holds, c.wards.Hold("fare-gate", "ticketing", "skerry", "moorings"), c.says)
		assert.Equal(t, c.bare, c.wards.Hold("", "", "", ""), c.says)
	}
}
