package keeper

import (
	"sync"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/keeper/loop"
)

// mailbox holds the events that wait for one goroutine. Whoever posts never waits.
type mailbox struct {
	wake   chan struct{} // something waits
	summon func()        // begins a goroutine where none stands by while nothing waits; nil where one does

	mu     sync.Mutex
	queue  []loop.Event
	going  bool                          // the one that was begun goes on
	newest map[object.Ref]map[string]any // states that wait, of each object the newest
	many   bool                          // they were many
}

// post hands an event to the goroutine; it never blocks.
func (m *mailbox) post(ev loop.Event) {
	m.mu.Lock()
	m.queue = append(m.queue, ev)
	first := !m.going
	m.going = true
	m.mu.Unlock()
	if m.summon == nil {
		rouse(m.wake)
	} else if first {
		m.summon()
	}
}

// postState hands a state of an object over. Of several that wait only the newest is kept, so the queue is never longer than there
// are objects.
func (m *mailbox) postState(ref object.Ref, body map[string]any) {
	m.mu.Lock()
	old, waits := m.newest[ref]
	if !waits || compare.ResourceVersion(old) <= compare.ResourceVersion(body) {
		if m.newest == nil {
			m.newest = map[object.Ref]map[string]any{}
		}
		m.newest[ref] = body
		m.many = m.many || len(m.newest) > 64
	}
	m.mu.Unlock()
	if !waits {
		m.post(loop.Saw{Ref: ref})
	}
}

// open is an event as it is taken in: with the newest state of its object.
func (m *mailbox) open(ev loop.Event) loop.Event {
	if s, is := ev.(loop.Saw); is {
		s.Body = m.takeState(s.Ref)
		return s
	}
	return ev
}

func (m *mailbox) takeState(ref object.Ref) map[string]any {
	m.mu.Lock()
	defer m.mu.Unlock()
	newest := m.newest[ref]
	if delete(m.newest, ref); len(m.newest) == 0 && m.many {
		m.newest, m.many = nil, false // a map never shrinks, and after a list it was as large as the ward
	}
	return newest
}

// take is everything that waits. Once nothing does, a goroutine that was begun for it ends.
func (m *mailbox) take() []loop.Event {
	m.mu.Lock()
	defer m.mu.Unlock()
	work := m.queue
	m.queue, m.going = nil, len(work) > 0
	return work
}

// states is how many states of objects wait.
func (m *mailbox) states() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.newest)
}

// depth is how much waits.
func (m *mailbox) depth() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.queue)
}
