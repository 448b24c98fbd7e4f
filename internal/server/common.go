package server

import (
	"slices"
	"sync"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper"
)

// commons remembers how the wards of a group stood together, as long as they are the same lines: a group may be very large, and changes rarely.
type commons struct {
	mu  sync.Mutex
	all map[string]common
}

type common struct {
	of   []*keeper.Line
	says []logbook.Stretch
}

// manyCommons bounds how many groups are remembered; what people see who do not see all is others than all see.
const manyCommons = 1000

func (c *commons) of(group string, lines []*keeper.Line) []logbook.Stretch {
	c.mu.Lock()
	defer c.mu.Unlock()
	if have, known := c.all[group]; known && slices.Equal(have.of, lines) {
		return have.says
	}
	views := make([]*standing.View, len(lines))
	for i, l := range lines {
		views[i] = l.View
	}
	if c.all == nil || len(c.all) >= manyCommons {
		c.all = map[string]common{}
	}
	says := standing.Common(views)
	c.all[group] = common{lines, says}
	return says
}
