package keeper

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheNewestStateOfAnObjectIsTakenIn(t *testing.T) {
	m := newMailbox()
	state := func(version string) map[string]any {
		return map[string]any{"metadata": map[string]any{"resourceVersion": version}}
	}
	var got []map[string]any
	take := func(body map[string]any) { got = append(got, body) }
	m.postState(horn, state("5"), take)
	m.postState(horn, state("9"), take)
	m.postState(horn, state("7"), take) // late
	m.postState(bell, state("1"), take)
	assert.Equal(t, 2, m.depth(), "the queue is never longer than there are objects")
	<-m.wake
	for _, f := range m.take() {
		f()
	}
	assert.Equal(t, []map[string]any{state("9"), state("1")}, got)
	m.postState(horn, state("8"), take)
	for _, f := range m.take() {
		f()
	}
	assert.Len(t, got, 3, "what comes after is another")
	assert.Zero(t, m.depth())
}
