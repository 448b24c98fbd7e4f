package logbook

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestARevisionIsWrittenAsPeopleDo(t *testing.T) {
	for _, c := range []struct {
		r            *Revision
		short, title string
	}{
		{nil, "nothing", ""},
		{&Revision{}, "nothing", "nothing"},
		{&Revision{ID: "1d77f3a0002", Subject: "Prefer leeward berths"}, "1d77f3a", "1d77f3a Prefer leeward berths"},
		{&Revision{ID: "1.4"}, "1.4", "1.4"},
	} {
		assert.Equal(t, c.short, c.r.Short())
		assert.Equal(t, c.title, c.r.Title())
	}
}
