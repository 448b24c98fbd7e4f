package keeper

import (
	"context"
	"sync"
	"time"

	"vigila.dev/vigila/internal/cluster"
)

// below reads what controllers made in the namespaces of a cluster, for everybody who wants to know why a workload is
// not ready. However many workloads of a namespace wait, it is read once for all of them, and looks take a fifth of
// the time of one core at most: a big rollout must not be slowed down by being watched.
type below struct {
	read  func(ctx context.Context, namespace string) (cluster.Children, error)
	slots chan struct{} // looks at a time; a slot rests nine times as long as its look took

	mu    sync.Mutex
	looks map[string]*look // by namespace
}

type look struct {
	waiting   []func(cluster.Children, error)
	scheduled bool
}

func newBelow(read func(context.Context, string) (cluster.Children, error)) *below {
	return &below{read: read, slots: make(chan struct{}, 2), looks: map[string]*look{}}
}

// want calls f with what controllers made in a namespace, read some time after now.
func (b *below) want(ctx context.Context, namespace string, after time.Duration, f func(cluster.Children, error)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	l := b.looks[namespace]
	if l == nil {
		l = &look{}
		b.looks[namespace] = l
	}
	l.waiting = append(l.waiting, f)
	if l.scheduled {
		return
	}
	l.scheduled = true
	time.AfterFunc(after, func() { b.look(ctx, namespace, l) })
}

func (b *below) look(ctx context.Context, namespace string, l *look) {
	b.slots <- struct{}{}
	b.mu.Lock()
	waiting := l.waiting
	l.waiting, l.scheduled = nil, false
	b.mu.Unlock()
	began := time.Now()
	children, err := b.read(ctx, namespace)
	time.AfterFunc(9*time.Since(began), func() { <-b.slots })
	for _, f := range waiting {
		f(children, err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(l.waiting) == 0 && !l.scheduled && len(b.looks) > 1000 { // forget namespaces, not too eagerly
		delete(b.looks, namespace)
	}
}
