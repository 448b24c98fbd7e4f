package cluster

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-logr/logr"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/util/wait"
	apiwatch "k8s.io/apimachinery/pkg/watch"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/tools/cache"

	"vigila.dev/vigila/internal/core/object"
)

// watch follows every marked object of one kind, in all namespaces or in one. It keeps nothing of them.
type watch struct {
	c    *Cluster
	gvk  schema.GroupVersionKind
	only string // the namespace; "" for all
	rest bool   // another one follows the kind where it does not live in namespaces
	stop context.CancelFunc
	// wanted asks at once whether the kind is there by now.
	wanted chan struct{}

	mu        sync.Mutex
	synced    bool
	fruitless int  // streams in a row that brought nothing
	up        bool // a stream lives
	problem   string
	away      bool      // the API server was out of reach since the last list: it may come back with other data
	lacking   bool      // the API server says that it has no such kind, so there is no object of it
	at        time.Time // of the last word from the API server
	newest    int64     // resourceVersion of that; they only grow (KEP-5504) while the cluster's data are not put back
}

// Handle sets who is told what the watches see. It must be called before the first Watch.
func (c *Cluster) Handle(h Handler) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.handler = h
}

// Watch makes sure that a kind is watched, and that it is asked for now if it was not there. It returns at once; Known
// tells when it has been read.
func (c *Cluster) Watch(k object.Kind) {
	gvk := gvkOf(k.Version, k.Kind)
	c.mu.Lock()
	defer c.mu.Unlock()
	if all := c.watches[gvk]; all != nil { // whoever asks for a kind that was not there may have just made it
		for _, w := range all {
			w.want()
		}
		return
	}
	if c.ctx.Err() != nil {
		return
	}
	if c.scalers == nil {
		c.scalers = &scalers{c: c, targets: map[string]target{}, read: map[string]bool{}}
		c.done.Add(1)
		go func() {
			defer c.done.Done()
			c.scalers.run(c.ctx)
		}()
	}
	for i, only := range c.spaces() {
		ctx, stop := context.WithCancel(c.ctx)
		w := &watch{c: c, gvk: gvk, only: only, rest: i > 0, stop: stop, wanted: make(chan struct{}, 1)}
		c.watches[gvk] = append(c.watches[gvk], w)
		c.done.Add(1)
		go func() {
			defer c.done.Done()
			w.run(ctx)
		}()
	}
}

// spaces are the namespaces that are looked into, each by itself; "" where all are, or where they can't be listed by name.
func (c *Cluster) spaces() []string {
	if len(c.Config.Namespaces) == 0 {
		return []string{""}
	}
	return c.Config.Namespaces
}

// want has the kind asked for now if it was not there.
func (w *watch) want() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.lacking {
		w.lacking = false
		select {
		case w.wanted <- struct{}{}:
		default:
		}
	}
}

// Unwatch ends the watch of a kind that nothing needs any more.
func (c *Cluster) Unwatch(k object.Kind) {
	gvk := gvkOf(k.Version, k.Kind)
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, w := range c.watches[gvk] {
		w.stop()
	}
	delete(c.watches, gvk)
}

// State is what is known of some kinds' watches.
type State struct {
	Known   bool      // every one of them has been read and is live, or the cluster has no such kind
	Reading bool      // some are being read for the first time, and nothing is wrong with any
	At      time.Time // the oldest "last word" among them when not known; else now's best
	Problem string
}

// Known tells whether the watches of these kinds (version, kind) are all live.
func (c *Cluster) Known(kinds []object.Kind) State {
	c.mu.Lock()
	defer c.mu.Unlock()
	s, wrong := State{Known: true}, false
	for _, k := range kinds {
		all := c.watches[gvkOf(k.Version, k.Kind)]
		if len(all) == 0 {
			s.Known, wrong = false, true
		}
		for _, w := range all {
			w.mu.Lock()
			if !w.synced && !w.lacking || w.problem != "" {
				s.Known = false
			}
			wrong = wrong || w.problem != ""
			if w.problem != "" {
				s.Problem = w.problem
			}
			if s.At.IsZero() || w.at.Before(s.At) {
				s.At = w.at
			}
			w.mu.Unlock()
		}
	}
	s.Reading = !s.Known && !wrong
	return s
}

// Lacking tells whether the API server has said that it has no such kind.
func (c *Cluster) Lacking(k object.Kind) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	all := c.watches[gvkOf(k.Version, k.Kind)]
	for _, w := range all {
		w.mu.Lock()
		lacking := w.lacking
		w.mu.Unlock()
		if !lacking {
			return false
		}
	}
	return len(all) > 0
}

// AllWatches is Known over everything that is watched, and how many watches there are.
func (c *Cluster) AllWatches() (State, int) {
	c.mu.Lock()
	var kinds []object.Kind
	for gvk := range c.watches {
		kinds = append(kinds, object.Kind{Version: gvk.GroupVersion().String(), Kind: gvk.Kind})
	}
	c.mu.Unlock()
	return c.Known(kinds), len(kinds)
}

// retry is how fast a broken watch is tried again: half a second, up to ten.
var retry = wait.Backoff{Duration: 500 * time.Millisecond, Factor: 1.7, Jitter: 0.3, Steps: 8, Cap: 10 * time.Second}

func (w *watch) run(ctx context.Context) {
	for pause := retry; ctx.Err() == nil; {
		m, err := w.c.mappingOf(w.gvk)
		if err == nil {
			w.served()
			w.reflect(ctx, m) // until the kind is served no more
			pause = retry
			w.c.forgetKinds()
			continue
		}
		if UnknownKind(err) {
			w.lacks()
		} else {
			w.trouble(err)
		}
		select {
		case <-ctx.Done():
		case <-w.wanted:
			pause = retry
		case <-time.After(pause.Step()):
		}
	}
}

// forgetKinds lets the next look for a kind ask the API server.
func (c *Cluster) forgetKinds() {
	c.mapping.Lock()
	defer c.mapping.Unlock()
	c.mapper.Reset()
}

// lacks notes that the API server has no such kind: there is nothing to see, and that is known.
func (w *watch) lacks() {
	w.mu.Lock()
	was := w.lacking && w.problem == ""
	w.lacking, w.synced, w.problem, w.at = true, false, "", time.Now()
	w.mu.Unlock()
	if !was {
		w.c.log.Warn("the cluster has no such kind; it is asked for again and again", "kind", w.gvk.Kind, "version", w.gvk.GroupVersion().String())
		w.c.handler.WatchChanged()
	}
}

// served notes that the API server has the kind.
func (w *watch) served() {
	w.mu.Lock()
	was := w.lacking
	w.lacking = false
	w.mu.Unlock()
	if was {
		w.c.handler.WatchChanged()
	}
}

// reflect follows the objects of the kind until the context ends, or the API server says that it has no such kind any
// more.
func (w *watch) reflect(parent context.Context, m *meta.RESTMapping) {
	ctx, gone := context.WithCancel(parent)
	defer gone()
	notServed := func(err error) {
		if !apierrors.IsNotFound(err) || ctx.Err() != nil {
			return
		}
		if found, err := w.c.asked(w.gvk); found == nil && err == nil {
			gone()
		}
	}
	var resource dynamic.ResourceInterface = w.c.dyn.Resource(m.Resource)
	switch {
	case w.only == "":
	case m.Scope.Name() == meta.RESTScopeNameNamespace:
		resource = w.c.dyn.Resource(m.Resource).Namespace(w.only)
	case w.rest:
		w.read()
		<-ctx.Done()
		return
	}
	lw := &cache.ListWatch{
		ListWithContextFunc: func(ctx context.Context, o metav1.ListOptions) (runtime.Object, error) {
			o.LabelSelector = object.WardLabel
			list, err := resource.List(ctx, o)
			if err != nil {
				notServed(err)
				w.heard(ctx, err) // that all is well again is said once the list has been taken in
			}
			return list, err
		},
		WatchFuncWithContext: func(ctx context.Context, o metav1.ListOptions) (apiwatch.Interface, error) {
			o.LabelSelector = object.WardLabel
			// Whoever puts a cluster's data back restarts its API server, and then versions count from an earlier one: a
			// stream from the last one seen would say nothing of what is different now. So the whole is read again.
			stale := func() error {
				w.mu.Lock()
				defer w.mu.Unlock()
				if w.away && o.SendInitialEvents == nil {
					return apierrors.NewResourceExpired("the API server was out of reach")
				}
				return nil
			}
			if err := stale(); err != nil {
				return nil, err
			}
			w.mu.Lock()
			fruitless := w.fruitless
			w.mu.Unlock()
			pace(ctx, fruitless)
			stream, err := resource.Watch(ctx, o)
			if err != nil {
				notServed(err)
				w.heard(ctx, err)
				return nil, err
			}
			if err := stale(); err != nil { // it was long in coming
				stream.Stop()
				return nil, err
			}
			return w.follow(ctx, stream), nil
		},
	}
	expected := &unstructured.Unstructured{}
	expected.SetGroupVersionKind(w.gvk)
	quiet := logr.Discard() // what breaks is told by heard
	again := retry
	r := cache.NewReflectorWithOptions(lw, expected, w, cache.ReflectorOptions{Name: "vigila", Logger: &quiet, Backoff: &again})
	r.RunWithContext(ctx)
}

// pace waits before a watch is opened again after some that brought nothing: client-go itself asks again at once when
// it is told that a resourceVersion is too old.
func pace(ctx context.Context, fruitless int) {
	if fruitless == 0 {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(min(100*time.Millisecond<<min(fruitless, 10), 10*time.Second)):
	}
}

// A stream that client-go hands out says little: when a connection breaks at once it is empty and ends without an
// error. So a watch counts as live once it has brought something or has lasted for settled, and as broken when
// none has come up for patience after the last one ended.
const (
	settled  = time.Second
	patience = 2 * time.Second
)

// follow passes a stream on and notes whether it lives.
func (w *watch) follow(ctx context.Context, inner apiwatch.Interface) apiwatch.Interface {
	out := make(chan apiwatch.Event)
	p := apiwatch.NewProxyWatcher(out)
	go func() {
		defer close(out)
		defer inner.Stop()
		fruitful := false
		defer func() {
			w.mu.Lock()
			defer w.mu.Unlock()
			if w.fruitless++; fruitful {
				w.fruitless = 0
			}
		}()
		sure := time.NewTimer(settled)
		defer sure.Stop()
		for {
			select {
			case <-sure.C:
				fruitful = true
				w.streamUp(ctx)
			case <-p.StopChan():
				w.streamDown(ctx)
				return
			case ev, ok := <-inner.ResultChan():
				if !ok {
					w.streamDown(ctx)
					return
				}
				if ev.Type != apiwatch.Error {
					fruitful = true
					w.streamBrings(ctx)
				}
				select {
				case out <- ev:
				case <-p.StopChan():
					w.streamDown(ctx)
					return
				}
			}
		}
	}()
	return p
}

// streamBrings notes that something came. After a break there may be more to come of what was missed, so only a list, or a
// stream that has settled, ends the trouble.
func (w *watch) streamBrings(ctx context.Context) {
	w.mu.Lock()
	was := w.up || w.problem != ""
	w.up = true
	w.mu.Unlock()
	if !was {
		w.heard(ctx, nil)
	}
}

func (w *watch) streamUp(ctx context.Context) {
	w.mu.Lock()
	w.up = true
	w.mu.Unlock()
	w.heard(ctx, nil)
}

func (w *watch) streamDown(ctx context.Context) {
	w.mu.Lock()
	w.up = false
	w.mu.Unlock()
	time.AfterFunc(patience, func() {
		w.mu.Lock()
		up := w.up
		w.mu.Unlock()
		if !up && ctx.Err() == nil {
			w.lost()
			w.trouble(fmt.Errorf("cluster %s does not answer (watch %s): the connection was lost", w.c.Config.Name, w.gvk.Kind))
		}
	})
}

// heard notes an answer of the API server, or that there was none.
func (w *watch) heard(ctx context.Context, err error) {
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		if apierrors.ReasonForError(err) == metav1.StatusReasonUnknown { // not even a no
			w.lost()
		}
		err := w.c.explain("watch "+w.gvk.Kind, err)
		if apierrors.IsForbidden(err) && w.only == "" {
			err = fmt.Errorf("%w; where only some namespaces may be looked into, name them: vigila cluster add %s --only-namespace NAMESPACE", err, w.c.Config.Name)
		}
		w.trouble(err)
		return
	}
	w.mu.Lock()
	was := w.problem
	w.problem, w.at = "", time.Now()
	w.mu.Unlock()
	if was != "" {
		w.c.log.Info("watch is back", "kind", w.gvk.Kind)
		w.c.handler.WatchChanged()
	}
}

// lost notes that the API server is out of reach.
func (w *watch) lost() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.away = true
}

func (w *watch) trouble(err error) {
	text := strings.TrimSpace(err.Error())
	w.mu.Lock()
	was := w.problem
	w.problem = text
	w.mu.Unlock()
	if was == "" {
		w.c.log.Warn("watch is broken", "kind", w.gvk.Kind, "error", text)
		w.c.handler.WatchChanged()
	}
}

func key(o *unstructured.Unstructured) string { return o.GetNamespace() + "/" + o.GetName() }

func (w *watch) note(version string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.at, w.newest = time.Now(), max(w.newest, number(version))
}

// number is a resourceVersion as a number; 0 when it is none.
func number(version string) int64 {
	n, err := strconv.ParseInt(version, 10, 64)
	if err != nil {
		return 0
	}
	return n
}

// Add is part of cache.ReflectorStore.
func (w *watch) Add(obj any) error {
	o := obj.(*unstructured.Unstructured)
	w.note(o.GetResourceVersion())
	w.c.handler.Changed(o.Object, false)
	return nil
}

// Update is part of cache.ReflectorStore.
func (w *watch) Update(obj any) error { return w.Add(obj) }

// Delete is part of cache.ReflectorStore.
func (w *watch) Delete(obj any) error {
	o := obj.(*unstructured.Unstructured)
	w.note(o.GetResourceVersion())
	w.c.handler.Deleted(o.Object)
	return nil
}

// atATime is how many objects of a list are handed over until it is asked whether they have been taken in; after longest it is
// asked no more.
const (
	atATime = 128
	longest = 10 * time.Second
)

// Transformer is part of cache.TransformingStore: the objects of a list are kept so until all of it has come.
func (w *watch) Transformer() cache.TransformFunc { return pack }

// Replace is part of cache.ReflectorStore: the whole of what is there, after a first list or a gap in the watch.
func (w *watch) Replace(list []any, version string) error {
	w.mu.Lock()
	n := number(version)
	back := n > 0 && n < w.newest // it is not read from a cache that lags behind: client-go asks for what it has seen at least, or the newest
	w.newest = n
	w.mu.Unlock()
	if back {
		w.c.handler.PutBack()
	}
	began := time.Now()
	all := make(map[object.Ref]bool, len(list))
	for i, obj := range list {
		o, err := unpack(obj)
		if err != nil { // it was packed here, so it never comes to this
			err = fmt.Errorf("an object of a list of %s can't be read: %w", w.gvk.Kind, err)
			w.trouble(err)
			return err
		}
		if i%atATime == atATime-1 && time.Since(began) < longest {
			w.c.handler.Breathe()
		}
		all[object.Ref{Group: w.gvk.Group, Kind: w.gvk.Kind, Namespace: o.GetNamespace(), Name: o.GetName()}] = true
		w.c.handler.Changed(o.Object, true)
	}
	w.c.handler.Listed(w.gvk.Group, w.gvk.Kind, w.only, all)
	w.read()
	return nil
}

// read notes that all is known that is there.
func (w *watch) read() {
	w.mu.Lock()
	w.at = time.Now()
	changed := !w.synced || w.problem != ""
	w.synced, w.problem, w.away = true, "", false
	w.mu.Unlock()
	if changed {
		w.c.handler.WatchChanged()
	}
}

// Resync is part of cache.ReflectorStore; there is nothing to do.
func (w *watch) Resync() error { return nil }

// Bookmark is part of cache.ReflectorBookmarkStore: the API server says that it has told everything.
func (w *watch) Bookmark(version string) error {
	w.note(version)
	return nil
}
