package soak

import (
	"slices"
	"strings"
	"testing"

	"vigila.dev/lab/inbox"
)

func TestWhatIsToldIsHeldAgainstWhatCameIn(t *testing.T) {
	opened := delivery{ID: "1", Kind: "opened", Topic: "blind", Title: "a@quay: blind", Subjects: []string{"a@quay"}}
	over := opened
	over.ID, over.Kind, over.Title = "2", "over", "a@quay: over: blind"
	in := func(all ...delivery) (out []inbox.Message) {
		for _, d := range all {
			out = append(out, inbox.Message{Text: d.Title + "\n\nmore"})
		}
		return out
	}
	for name, c := range map[string]struct {
		sent  []delivery // the oldest first
		came  []inbox.Message
		kills int
		want  string // "": nothing is wrong
	}{
		"told, and over":          {[]delivery{opened, over, opened}, in(opened, over, opened), 0, ""},
		"it did not come in":      {[]delivery{opened, over}, in(opened), 0, "did not come in"},
		"it came twice":           {[]delivery{opened}, in(opened, opened), 0, "came in 1 times more"},
		"twice around a kill":     {[]delivery{opened}, in(opened, opened), 1, ""},
		"told again":              {[]delivery{opened, opened}, in(opened, opened), 0, "was not over between"},
		"over, and nobody knew":   {[]delivery{over}, in(over), 0, "nobody was told that it began"},
		"of something unheard of": {[]delivery{{ID: "3", Kind: "again", Topic: "blind", Title: "x", Subjects: []string{"a@quay"}}}, in(delivery{Title: "x"}), 0, "nobody asked for"},
	} {
		slices.Reverse(c.sent)
		err := held(c.sent, c.came, c.kills)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
