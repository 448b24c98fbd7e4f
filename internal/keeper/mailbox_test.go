package keeper

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/keeper/loop"
)

func TestTheNewestStateOfAnObjectIsTakenIn(t *testing.T) {
	m := mailbox{wake: make(chan struct{}, 1)}
	state := func(version string) map[string]any {
		return map[string]any{"metadata": map[string]any{"resourceVersion": version}}
	}
	var got []map[string]any
	take := func() {
		for _, ev := range m.take() {
			got = append(got, m.open(ev).(loop.Saw).Body)
		}
	}
	m.postState(horn, state("5"))
	m.postState(horn, state("9"))
	m.postState(horn, state("7")) // late
	m.postState(bell, state("1"))
	assert.Equal(t, 2, m.depth(), "the queue is never longer than there are objects")
	<-m.wake
	take()
	assert.Equal(t, []map[string]any{state("9"), state("1")}, got)
	m.postState(horn, state("8"))
	take()
	assert.Len(t, got, 3, "what comes after is another")
	assert.Zero(t, m.depth())
}
