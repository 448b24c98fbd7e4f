package keeper

import (
	"sync"
	"sync/atomic"
)

// Note tells that something changed: a ward, repo or cluster, by name.
type Note struct{ Kind, Name string }

// broker hands notes to whoever listens. A listener that is slow loses no change: its notes are kept once each
// until it takes them.
type broker struct {
	mu        sync.Mutex
	listeners map[*Listener]struct{}
	sent      atomic.Uint64 // notes so far
}

// Listener receives notes.
type Listener struct {
	broker  *broker
	mu      sync.Mutex
	pending []Note
	have    map[Note]bool
	wake    chan struct{}
}

func newBroker() *broker { return &broker{listeners: map[*Listener]struct{}{}} }

// Listen starts to receive notes. Close it when done.
func (k *Keeper) Listen() *Listener {
	l := &Listener{broker: k.broker, have: map[Note]bool{}, wake: make(chan struct{}, 1)}
	k.broker.mu.Lock()
	defer k.broker.mu.Unlock()
	k.broker.listeners[l] = struct{}{}
	return l
}

// Wake is signalled when Take has something.
func (l *Listener) Wake() <-chan struct{} { return l.wake }

// Take returns the notes since the last call, each once.
func (l *Listener) Take() []Note {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := l.pending
	l.pending = nil
	clear(l.have)
	return out
}

// Close ends the listener.
func (l *Listener) Close() {
	l.broker.mu.Lock()
	defer l.broker.mu.Unlock()
	delete(l.broker.listeners, l)
}

func (b *broker) send(n Note) {
	b.sent.Add(1)
	b.mu.Lock()
	defer b.mu.Unlock()
	for l := range b.listeners {
		l.mu.Lock()
		if !l.have[n] {
			l.have[n] = true
			l.pending = append(l.pending, n)
		}
		l.mu.Unlock()
		rouse(l.wake)
	}
}

func (b *broker) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	clear(b.listeners)
}
