package keeper

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestListenersLoseNoChange(t *testing.T) {
	k := &Keeper{broker: newBroker()}
	l := k.Listen()
	for range 3 {
		k.broker.send(Note{"ward", "a"})
	}
	k.broker.send(Note{"ward", "b"})
	<-l.Wake()
	assert.Equal(t, []Note{{"ward", "a"}, {"ward", "b"}}, l.Take(), "each once, however slow the listener")
	assert.Empty(t, l.Take())
	k.broker.send(Note{"ward", "a"})
	<-l.Wake()
	assert.Len(t, l.Take(), 1)
	l.Close()
	k.broker.send(Note{"ward", "a"})
	assert.Empty(t, l.Take())
}
