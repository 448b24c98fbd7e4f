package keeper

import (
	"context"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// turns lets a bounded number of pieces of work go on at a time, and is fair: who waits is served in turn by key
// (a ward, a repository), however much one key asks for. A piece that takes longer than patience is waiting for
// somebody else, so it gives its slot back while it goes on: what is slow or broken holds nobody up.
type turns struct {
	slots    int
	patience time.Duration
	waited   prometheus.Observer

	mu      sync.Mutex
	busy    int
	keys    []string // with somebody waiting, in the order of their turns
	waiting map[string][]*waits
}

// waits is somebody who waits for a turn, or what is to be begun with it.
type waits struct {
	came chan struct{}
	then func()
}

func newTurns(slots int, patience time.Duration, waited prometheus.Observer) *turns {
	return &turns{slots: slots, patience: patience, waited: waited, waiting: map[string][]*waits{}}
}

// Take waits for a turn; done gives it back and must be called once, unless there is an error.
func (t *turns) Take(ctx context.Context, key string) (done func(), err error) {
	began := time.Now()
	c := make(chan struct{})
	if w := &(waits{came: c}); !t.free(key, w) {
		select {
		case <-c:
		case <-ctx.Done():
			t.mu.Lock()
			defer t.mu.Unlock()
			select {
			case <-c: // its turn came at the same moment
				t.next()
			default:
				t.leave(key, w)
			}
			return nil, ctx.Err()
		}
	}
	return t.taken(began), nil
}

// Then has f begun with a turn, by spawn: nothing stands waiting for it until then.
func (t *turns) Then(key string, spawn func(func()), f func()) {
	began := time.Now()
	begin := func() {
		spawn(func() {
			defer t.taken(began)()
			f()
		})
	}
	if t.free(key, &waits{then: begin}) {
		begin()
	}
}

// free takes a slot that is free, or has w wait for one.
func (t *turns) free(key string, w *waits) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.busy < t.slots && len(t.keys) == 0 {
		t.busy++
		return true
	}
	if len(t.waiting[key]) == 0 {
		t.keys = append(t.keys, key)
	}
	t.waiting[key] = append(t.waiting[key], w)
	return false
}

// taken is a slot that was taken after a wait; done gives it back.
func (t *turns) taken(began time.Time) (done func()) {
	t.waited.Observe(time.Since(began).Seconds())
	var once sync.Once
	back := func() {
		once.Do(func() {
			t.mu.Lock()
			defer t.mu.Unlock()
			t.next()
		})
	}
	late := time.AfterFunc(t.patience, back)
	return func() {
		late.Stop()
		back()
	}
}

// next hands a free slot to whoever's turn it is.
func (t *turns) next() {
	if len(t.keys) == 0 {
		t.busy--
		return
	}
	key := t.keys[0]
	t.keys = t.keys[1:]
	w := t.waiting[key][0]
	t.waiting[key] = t.waiting[key][1:]
	if len(t.waiting[key]) > 0 {
		t.keys = append(t.keys, key) // behind the others
	} else {
		delete(t.waiting, key)
	}
	if w.then != nil {
		w.then()
	} else {
		close(w.came)
	}
}

func (t *turns) leave(key string, w *waits) {
	for i, x := range t.waiting[key] {
		if x == w {
			t.waiting[key] = append(t.waiting[key][:i:i], t.waiting[key][i+1:]...)
			break
		}
	}
	if len(t.waiting[key]) > 0 {
		return
	}
	delete(t.waiting, key)
	for i, k := range t.keys {
		if k == key {
			t.keys = append(t.keys[:i:i], t.keys[i+1:]...)
			return
		}
	}
}

// depth is how many wait.
func (t *turns) depth() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := 0
	for _, w := range t.waiting {
		n += len(w)
	}
	return n
}
