package lane

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatALotWouldChangeIsSaid(t *testing.T) {
	digest := func(c string) string { return "sha256:" + strings.Repeat(c, 64) }
	all := lots()
	all[1].Subject = "Season tickets"
	for want, c := range map[string]Change{
		"2.7 to 2.8": {Key: gate, From: "2.7 " + digest("a"), To: "2.8 " + digest("b")},
		"2.8 sha256:aaaaaaaaaaaa to 2.8 sha256:bbbbbbbbbbbb": {Key: gate, From: "2.8 " + digest("a"), To: "2.8 " + digest("b")},
		"to 2.8":            {Key: gate, To: "2.8"},
		"2.7 is taken away": {Key: gate, From: "2.7"},
		"added":             {Key: tariff, To: "100644 b"},
		"removed":           {Key: tariff, From: "100644 a"},
		"changed":           {Key: tariff, From: "100644 a", To: "100644 b"},
	} {
		assert.Equal(t, want, c.What())
	}
	for want, c := range map[string]Change{
		"changed here by hand, which is undone":      {ByHand: true, Lots: []int{2}},
		"of lot 2 Season tickets, never let in here": {Lots: []int{2}},
		"takes back lot 3":                           {Lots: []int{3}},
		"not as any lot had it":                      {},
	} {
		assert.Equal(t, want, c.Whose(all, 2), "of lot 2")
	}
	assert.Equal(t, "Changed by lot 3 at skerry:\n  s/skerry/config/tariff.yaml  changed\nWhat comes along with it at skerry:\n  a.example/gate  2.7 to 2.8  (of lot 2 Season tickets, never let in here)\n  a.example/migrate  40 to 41  (of lot 2 Season tickets, never let in here)",
		all.Describe(3, "skerry", all.Along(3, all[0].Content, all[0].Content)))
	assert.Equal(t, "skerry has all of it already.", all.Describe(3, "skerry", nil))
}
