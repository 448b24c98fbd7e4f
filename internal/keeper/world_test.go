package keeper

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/record"
)

// book is a ledger in memory.
type book struct {
	mu        sync.Mutex
	refuses   bool // to be written
	baselines map[string]map[object.Ref]compare.Baseline
	intents   map[string]map[object.Ref]bool
	number    map[string]int // of the intents
	removed   map[string]map[string]bool
	handed    map[string]map[object.Ref]string
	entries   map[string][]logbook.Entry
	rejected  map[string]map[string]logbook.Rejection
	restores  map[string][]logbook.Restored
	stretches map[string][]logbook.Stretch
	tasks     map[string]map[object.Ref]record.TaskObject
	snapshots map[string][]declared.Whole
	canaries  map[string]*canary.State // those that are active
	placed    map[string]record.Placement
}

func newBook() *book {
	return &book{baselines: map[string]map[object.Ref]compare.Baseline{}, intents: map[string]map[object.Ref]bool{}, number: map[string]int{}, removed: map[string]map[string]bool{}, handed: map[string]map[object.Ref]string{}, entries: map[string][]logbook.Entry{},
		rejected: map[string]map[string]logbook.Rejection{}, restores: map[string][]logbook.Restored{}, stretches: map[string][]logbook.Stretch{}, tasks: map[string]map[object.Ref]record.TaskObject{}, snapshots: map[string][]declared.Whole{}, canaries: map[string]*canary.State{}, placed: map[string]record.Placement{}}
}

// page is the ledger as one life of the service sees it: a service that was killed writes nothing more.
type page struct {
	*book
	dead func() bool
}

var errNoRoom = errors.New("no room")

func (b page) Commit(_ context.Context, id string, writes ...record.Write) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.refuses || b.dead() {
		return errNoRoom
	}
	for _, w := range writes {
		b.take(id, w)
	}
	return nil
}

func of[K comparable, V any](m map[string]map[K]V, id string) map[K]V {
	if m[id] == nil {
		m[id] = map[K]V{}
	}
	return m[id]
}

func (b page) take(id string, w record.Write) {
	p := b.placed[id]
	switch w := w.(type) {
	case record.AddEntry:
		b.entries[id] = append(b.entries[id], w.Entry)
	case record.EndEntry:
		for i, e := range b.entries[id] {
			if e.Number == w.Entry.Number {
				e.Outcome, e.Reason, e.Ended, e.Objects = w.Entry.Outcome, w.Entry.Reason, w.Entry.Ended, w.Entry.Objects
				b.entries[id][i] = e
			}
		}
	case record.SetOutcome:
		for i, e := range b.entries[id] {
			if e.Number == w.Number {
				b.entries[id][i].Outcome = w.Outcome
			}
		}
	case record.RemoveEntry:
		b.entries[id] = slices.DeleteFunc(b.entries[id], func(e logbook.Entry) bool { return e.Number == w.Number })
	case record.SetHold:
		p.Hold = w.Hold
	case record.SetLeaving:
		p.Leaving = w.Leaving
	case record.SetApplied:
		p.Applied, p.Snapshot, p.Tasks = &w.Revision, w.Snapshot, w.Tasks
		for ref, x := range of(b.baselines, id) {
			x.Snapshot = ""
			b.baselines[id][ref] = x
		}
	case record.Reject:
		of(b.rejected, id)[w.Rejection.Revision] = w.Rejection
	case record.Unreject:
		delete(of(b.rejected, id), w.Revision)
	case record.AddStanding:
		b.stretches[id] = append(b.stretches[id], w.Stretch)
	case record.PutBaselines:
		for _, x := range w.All {
			x.Intent = 0
			of(b.baselines, id)[x.Ref] = x
		}
	case record.Claim:
		clear(w.Refused)
		for _, x := range w.All {
			of(b.intents, id)[x.Ref] = true
			for other, kept := range b.baselines {
				if _, theirs := kept[x.Ref]; theirs && other != id {
					w.Refused[x.Ref] = strings.Split(other, "@")[0]
				}
			}
			if _, kept := of(b.baselines, id)[x.Ref]; !kept && w.Refused[x.Ref] == "" {
				x.Detail, x.Intent = nil, 0
				b.baselines[id][x.Ref] = x
			}
		}
		b.number[id] = w.Number
	case record.Doubt:
		for _, ref := range w.Refs {
			if x, kept := of(b.baselines, id)[ref]; kept {
				x.Declared, x.Imprint, x.Size, x.Guards, x.Detail = "", object.Imprint{}, 0, "", compare.NoDetail()
				b.baselines[id][ref] = x
			}
		}
	case record.SettleIntents:
		b.intents[id], b.number[id] = map[object.Ref]bool{}, w.Number
		for _, ref := range w.Doubtful {
			b.intents[id][ref] = true
		}
	case record.RemoveBaseline:
		for _, uid := range append(w.UIDs, of(b.baselines, id)[w.Ref].UID) {
			of(b.removed, id)[uid] = uid != ""
		}
		delete(of(b.baselines, id), w.Ref)
	case record.HandOver:
		of(b.handed, id)[w.Ref] = w.Version
	case record.Fetched:
		delete(of(b.handed, id), w.Ref)
	case record.AddRestores:
		b.restores[id] = append(b.restores[id], w.All...)
	case record.ForgetRestores:
		b.restores[id] = slices.DeleteFunc(b.restores[id], func(r logbook.Restored) bool { return slices.Contains(w.Refs, r.Ref) })
	case record.PutTask:
		of(b.tasks, id)[w.Task.Ref] = w.Task
	case record.RemoveTask:
		delete(of(b.tasks, id), w.Ref)
	case record.PutCanary:
		delete(b.canaries, id)
		if w.Active {
			b.canaries[id] = &w.State
		}
	case record.SetRules, record.PutLog:
	default:
		panic(fmt.Sprintf("the book knows no %T", w))
	}
	b.placed[id] = p
}

func (b *book) Baselines(_ context.Context, id string) (map[object.Ref]compare.Baseline, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := map[object.Ref]compare.Baseline{}
	for ref, x := range of(b.baselines, id) {
		x.Detail = nil
		if of(b.intents, id)[ref] {
			x.Intent = b.number[id]
		}
		out[ref] = x
	}
	return out, nil
}

func (b *book) Detail(_ context.Context, id string, ref object.Ref) (*compare.Detail, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	x, kept := of(b.baselines, id)[ref]
	if !kept {
		return nil, record.ErrNone
	}
	if x.Detail == nil {
		return compare.NoDetail(), nil
	}
	return x.Detail, nil
}

func (b *book) Found(_ context.Context, id string) (map[object.Ref]*fieldpath.Set, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := map[object.Ref]*fieldpath.Set{}
	for ref, x := range of(b.baselines, id) {
		if x.Detail != nil && x.Detail.Found != nil && !x.Detail.Found.Empty() {
			out[ref] = x.Detail.Found
		}
	}
	return out, nil
}

func (b *book) Doing(_ context.Context, id string) (map[object.Ref]bool, int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(of(b.intents, id)), b.number[id], nil
}

func (b *book) Handed(_ context.Context, id string) (map[object.Ref]string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(of(b.handed, id)), nil
}

func (b *book) Removed(_ context.Context, id, uid string) (bool, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return of(b.removed, id)[uid], nil
}

func (b *book) Keeper(_ context.Context, _, not string, ref object.Ref) (string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for id, kept := range b.baselines {
		if _, yes := kept[ref]; yes && id != not {
			return strings.Split(id, "@")[0], nil
		}
	}
	return "", nil
}

func (b *book) Tasks(_ context.Context, id string) (map[object.Ref]record.TaskObject, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(of(b.tasks, id)), nil
}

func (b *book) Canary(_ context.Context, id string, _ int) (*canary.State, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.canaries[id], nil
}

func (b *book) LastNumber(_ context.Context, id string) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	n := 0
	for _, e := range b.entries[id] {
		n = max(n, e.Number)
	}
	return n, nil
}

func (b *book) Entry(_ context.Context, id string, number int) (logbook.Entry, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range b.entries[id] {
		if e.Number == number {
			return e, nil
		}
	}
	return logbook.Entry{}, record.ErrNone
}

func (b *book) Entries(_ context.Context, f record.Find) ([]logbook.Entry, int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := slices.Clone(b.entries[f.Placement])
	slices.SortFunc(out, func(x, y logbook.Entry) int { return y.Number - x.Number })
	return out, len(out), nil
}

func (b *book) Rejections(_ context.Context, id string) (map[string]logbook.Rejection, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(of(b.rejected, id)), nil
}

func (b *book) Restores(_ context.Context, id string, _ time.Time) ([]logbook.Restored, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.restores[id]), nil
}

func (b *book) Standings(_ context.Context, id string, _ time.Time) ([]logbook.Stretch, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.stretches[id]), nil
}

func (b *book) Snapshot(_ context.Context, id string, only ...object.Ref) (out []declared.Whole, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, w := range b.snapshots[id] {
		if len(only) == 0 || slices.Contains(only, w.Object.Ref) {
			w.Object.Body = object.Clone(w.Object.Body)
			out = append(out, w)
		}
	}
	return out, nil
}

func (b *book) SnapshotHashes(_ context.Context, id string) (map[object.Ref]string, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := map[object.Ref]string{}
	for _, w := range b.snapshots[id] {
		out[w.Object.Ref] = w.Hash
	}
	return out, nil
}

// sea is a cluster in memory: objects of two levels, owned field by field, watched with delay. Whatever is applied to it is asked
// of wrote first.
type sea struct {
	r       *rand.Rand
	wrote   func(ref object.Ref, ward string) error // tells whether it is written down that an object may be applied
	removes func(ref object.Ref, ward string) error // tells whether it may be removed
	wrong   []error                                 // what must never happen

	mu       sync.Mutex
	revision int64
	uids     int
	objects  map[object.Ref]map[string]any
	silent   bool // no call is answered
	deaf     bool // watches are broken
	watchers map[*watcher]bool
}

// watcher is what one life of the service sees of the sea.
type watcher struct {
	*sea
	handler cluster.Handler
	kinds   map[object.Kind]bool // to whether it was read
	newest  int64
	events  chan func()
	ctx     context.Context
}

func newSea(r *rand.Rand) *sea {
	return &sea{r: r, objects: map[object.Ref]map[string]any{}, watchers: map[*watcher]bool{}, revision: 10}
}

func (s *sea) n(n int) int { // the mutex is held
	return s.r.IntN(n)
}

func (s *sea) watch(ctx context.Context) *watcher {
	w := &watcher{sea: s, kinds: map[object.Kind]bool{}, events: make(chan func(), 10_000), ctx: ctx}
	s.mu.Lock()
	s.watchers[w] = true
	s.mu.Unlock()
	go func() {
		for {
			select {
			case <-ctx.Done():
				s.mu.Lock()
				delete(s.watchers, w)
				s.mu.Unlock()
				return
			case f := <-w.events:
				s.mu.Lock()
				late := time.Duration(s.n(200)) * time.Millisecond
				s.mu.Unlock()
				time.Sleep(late)
				if ctx.Err() == nil {
					f()
				}
			}
		}
	}()
	return w
}

func kindOf(body map[string]any) object.Kind {
	return object.Kind{Version: body["apiVersion"].(string), Kind: body["kind"].(string)}
}

// tell brings a state to whoever watches; the mutex is held.
func (s *sea) tell(body map[string]any, deleted bool) {
	if s.deaf {
		return
	}
	body = object.Clone(body)
	for w := range s.watchers {
		if _, wanted := w.kinds[kindOf(body)]; !wanted || object.Label(body, object.WardLabel) == "" {
			continue
		}
		w.newest = s.revision
		w.events <- func() {
			if deleted {
				w.handler.Deleted(body)
			} else {
				w.handler.Changed(body, false)
			}
		}
	}
}

// list brings a whole list of a kind; the mutex is held.
func (w *watcher) list(k object.Kind) {
	all := map[object.Ref]bool{}
	var bodies []map[string]any
	group := ""
	if g, _, found := strings.Cut(k.Version, "/"); found {
		group = g
	}
	for ref, body := range w.objects {
		if kindOf(body) == k && object.Label(body, object.WardLabel) != "" {
			all[ref] = true
			bodies = append(bodies, object.Clone(body))
		}
	}
	back := w.revision < w.newest
	w.newest = w.revision
	w.events <- func() {
		if back {
			w.handler.PutBack()
		}
		w.mu.Lock()
		deaf := w.deaf
		if !deaf {
			w.kinds[k] = true
		}
		w.mu.Unlock()
		if deaf {
			return
		}
		for _, b := range bodies {
			w.handler.Changed(b, true)
		}
		w.handler.Listed(group, k.Kind, "", all)
		w.handler.WatchChanged()
	}
}

// hear breaks the watches, or mends them: then everything is listed anew.
func (s *sea) hear(yes bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.deaf = !yes
	for w := range s.watchers {
		for k := range w.kinds {
			w.kinds[k] = false
			if yes {
				w.list(k)
			}
		}
		if !yes {
			w.events <- w.handler.WatchChanged
		}
	}
}

func (w *watcher) Handle(h cluster.Handler)            { w.handler = h }
func (w *watcher) Close()                              {}
func (w *watcher) Server() string                      { return "sea" }
func (w *watcher) CredentialsEnd() (string, time.Time) { return "", time.Time{} }
func (w *watcher) Version(context.Context) (string, error) {
	return "1.36", nil
}
func (w *watcher) LastVersion(context.Context) (string, error) { return "1.36", nil }
func (w *watcher) APIs() ([]string, bool, error)               { return nil, true, nil }
func (w *watcher) OpenAPI(context.Context) ([]byte, error)     { return nil, nil }
func (w *watcher) AllWatches() (cluster.State, int)            { return cluster.State{Known: true}, 1 }
func (w *watcher) Lacking(object.Kind) bool                    { return false }
func (w *watcher) Namespaced(object.Object) (bool, error)      { return true, nil }
func (w *watcher) Scaler(object.Ref) string                    { return "" }
func (w *watcher) ScalersKnown() bool                          { return true }
func (w *watcher) Everything(context.Context, string) ([]cluster.Found, error) {
	return nil, nil
}
func (w *watcher) Marked(ctx context.Context, each func(cluster.Found)) error {
	return w.call(ctx, func() error {
		for _, body := range w.objects {
			if object.Label(body, object.WardLabel) != "" {
				each(cluster.Found{Version: body["apiVersion"].(string), Body: object.Clone(body)})
			}
		}
		return nil
	})
}
func (w *watcher) AskPod(context.Context, string, string, int, string, map[string]string) (*http.Response, error) {
	return nil, errors.New("Pods are not reached here")
}
func (w *watcher) Leads(context.Context, string, string) ([]map[string]any, error) { return nil, nil }
func (w *watcher) Children(context.Context, string) (cluster.Children, error) {
	return cluster.Children{}, nil
}
func (w *watcher) Events(context.Context, string, []object.Ref) ([]cluster.Event, error) {
	return nil, nil
}
func (w *watcher) Public() (string, []byte, error)               { return "", nil, nil }
func (w *watcher) Nodes(context.Context) ([]cluster.Node, error) { return nil, nil }
func (w *watcher) Warnings(context.Context, time.Time) ([]cluster.Event, bool, error) {
	return nil, true, nil
}
func (w *watcher) Logs(context.Context, string, string, string, bool, int64) (string, error) {
	return "", nil
}
func (w *watcher) Follow(context.Context, string, string, string, io.Writer) error { return nil }
func (w *watcher) BoundLater(context.Context, map[string]any) (bool, error)        { return false, nil }

func (w *watcher) Known(kinds []object.Kind) cluster.State {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, k := range kinds {
		if !w.kinds[k] {
			return cluster.State{}
		}
	}
	return cluster.State{Known: true, At: time.Now()}
}

func (w *watcher) Watch(k object.Kind) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if _, has := w.kinds[k]; !has {
		w.kinds[k] = false
		w.list(k)
	}
}

func (w *watcher) Unwatch(k object.Kind) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.kinds, k)
}

// call plays what becomes of a call: done makes it, unless it never arrives; its answer may be lost.
func (s *sea) call(ctx context.Context, done func() error) error {
	s.mu.Lock()
	late := time.Duration(s.n(400)) * time.Millisecond
	fate := s.n(20)
	s.mu.Unlock()
	lost := cluster.Unreachable(errors.New("no answer"))
	select {
	case <-time.After(late):
	case <-ctx.Done(): // it may have been on its way
		if fate%2 == 0 {
			return cluster.Unreachable(ctx.Err())
		}
		time.Sleep(late)
		s.mu.Lock()
		defer s.mu.Unlock()
		_ = done()
		return cluster.Unreachable(ctx.Err())
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.silent || fate == 0:
		return lost
	case fate == 1:
		_ = done()
		return lost
	}
	return done()
}

func (w *watcher) Get(ctx context.Context, version string, ref object.Ref) (out map[string]any, err error) {
	err = w.call(ctx, func() error {
		body := w.objects[ref]
		if body == nil {
			return cluster.ErrGone
		}
		out = object.Clone(body)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

func (w *watcher) Patch(context.Context, string, object.Ref, []object.Operation, bool) (map[string]any, error) {
	return nil, errors.New("nobody patches here")
}

// handsOf are the hands of one ward: who removes is known by them.
type handsOf struct {
	*watcher
	ward string
}

func (h *handsOf) Remove(ctx context.Context, version string, ref object.Ref, uid string) error {
	h.mu.Lock()
	if body := h.objects[ref]; body != nil && (uid == "" || object.UID(body) == uid) {
		if err := h.removes(ref, h.ward); err != nil {
			h.wrong = append(h.wrong, err)
		}
	}
	h.mu.Unlock()
	return h.watcher.Remove(ctx, version, ref, uid)
}

func (w *watcher) Remove(ctx context.Context, _ string, ref object.Ref, uid string) error {
	return w.call(ctx, func() error {
		if body := w.objects[ref]; body != nil && (uid == "" || object.UID(body) == uid) {
			w.revision++
			w.delete(ref)
		}
		return nil
	})
}

func (w *watcher) Apply(ctx context.Context, o object.Object, dryRun bool) (out map[string]any, err error) {
	if !dryRun { // when it is sent: it may land in a later life, which has written something else down by then
		w.mu.Lock()
		if err := w.wrote(o.Ref, object.Label(o.Body, object.WardLabel)); err != nil {
			w.wrong = append(w.wrong, err)
		}
		w.mu.Unlock()
	}
	err = w.call(ctx, func() error {
		if dryRun {
			out = object.Clone(o.Body)
			return nil
		}
		out = object.Clone(w.apply(o.Ref, o.Body, object.Manager, "Apply"))
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// parts are the maps of an object whose entries are owned one by one.
func parts(body map[string]any) map[string]map[string]any {
	meta, _ := body["metadata"].(map[string]any)
	out := map[string]map[string]any{}
	for name, in := range map[string]any{"labels": meta["labels"], "annotations": meta["annotations"], "data": body["data"], "spec": body["spec"]} {
		if m, ok := in.(map[string]any); ok {
			out[name] = m
		}
	}
	return out
}

// apply makes or changes an object as a client does; the mutex is held. Fields that it applied before and does not any more go.
func (s *sea) apply(ref object.Ref, want map[string]any, manager, operation string) map[string]any {
	body := object.Clone(s.objects[ref])
	if s.objects[ref] == nil {
		s.uids++
		body = map[string]any{"apiVersion": want["apiVersion"], "kind": want["kind"], "metadata": map[string]any{"name": ref.Name, "namespace": ref.Namespace, "uid": fmt.Sprint("u", s.uids), "managedFields": []any{}}}
	}
	meta := body["metadata"].(map[string]any)
	owners := map[string]map[string]string{} // part, key, manager
	times := map[string]any{}
	for _, e := range meta["managedFields"].([]any) {
		m := e.(map[string]any)
		times[m["manager"].(string)] = m["time"]
		for _, p := range []string{"labels", "annotations", "data", "spec"} {
			fields := m["fieldsV1"].(map[string]any)
			if p == "labels" || p == "annotations" {
				fields, _ = fields["f:metadata"].(map[string]any)
			}
			in, _ := fields["f:"+p].(map[string]any)
			for key := range in {
				if owners[p] == nil {
					owners[p] = map[string]string{}
				}
				owners[p][strings.TrimPrefix(key, "f:")] = m["manager"].(string)
			}
		}
	}
	wanted, changed := parts(want), s.objects[ref] == nil
	for _, p := range []string{"labels", "annotations", "data", "spec"} {
		in := meta
		if p == "data" || p == "spec" {
			in = body
		}
		have, _ := in[p].(map[string]any)
		if have == nil {
			have = map[string]any{}
		}
		if owners[p] == nil {
			owners[p] = map[string]string{}
		}
		for key, v := range wanted[p] {
			if have[key] != v || owners[p][key] != manager {
				changed = true
			}
			if operation == "Apply" || have[key] != v {
				owners[p][key] = manager
			}
			have[key] = v
		}
		if operation == "Apply" {
			for key, by := range owners[p] {
				if _, still := wanted[p][key]; by == manager && !still {
					delete(have, key)
					delete(owners[p], key)
					changed = true
				}
			}
		}
		if len(have) > 0 {
			in[p] = have
		} else {
			delete(in, p)
		}
	}
	if !changed {
		return s.objects[ref]
	}
	times[manager] = time.Now().UTC().Format(time.RFC3339)
	byManager := map[string]map[string]any{}
	for p, keys := range owners {
		for key, by := range keys {
			if byManager[by] == nil {
				byManager[by] = map[string]any{}
			}
			in := byManager[by]
			if p == "labels" || p == "annotations" {
				if in["f:metadata"] == nil {
					in["f:metadata"] = map[string]any{}
				}
				in = in["f:metadata"].(map[string]any)
			}
			if in["f:"+p] == nil {
				in["f:"+p] = map[string]any{}
			}
			in["f:"+p].(map[string]any)["f:"+key] = map[string]any{}
		}
	}
	managed := []any{}
	for _, by := range slices.Sorted(maps.Keys(byManager)) {
		op := "Update"
		if by == object.Manager {
			op = "Apply"
		}
		managed = append(managed, map[string]any{"manager": by, "operation": op, "apiVersion": body["apiVersion"], "time": times[by], "fieldsType": "FieldsV1", "fieldsV1": byManager[by]})
	}
	meta["managedFields"] = managed
	s.store(ref, body)
	return body
}

// store puts an object in, and lets a controller begin with it where there is one; the mutex is held.
func (s *sea) store(ref object.Ref, body map[string]any) {
	s.revision++
	body["metadata"].(map[string]any)["resourceVersion"] = fmt.Sprint(s.revision)
	s.objects[ref] = body
	s.tell(body, false)
	s.roll(ref, body)
}

// roll lets a controller begin with a Deployment; the mutex is held.
func (s *sea) roll(ref object.Ref, body map[string]any) {
	if ref.Kind != "Deployment" {
		return
	}
	spec, _ := body["spec"].(map[string]any)
	rolled := spec["image"]
	status, _ := body["status"].(map[string]any)
	if body["rolled"] == rolled && status["updatedReplicas"] == int64(1) {
		return
	}
	uid := object.UID(body)
	time.AfterFunc(time.Duration(500+s.n(3000))*time.Millisecond, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		now := object.Clone(s.objects[ref])
		if s.objects[ref] == nil || object.UID(now) != uid || now["spec"].(map[string]any)["image"] != rolled {
			return
		}
		now["rolled"] = rolled
		ready := int64(1)
		if rolled == "bad" {
			ready = 0
		}
		now["status"] = map[string]any{"observedGeneration": int64(1), "replicas": int64(1), "updatedReplicas": int64(1), "availableReplicas": ready, "readyReplicas": ready}
		s.store(ref, now)
	})
	if body["status"] != nil { // what was rolled out before is not what is wanted now
		body["status"] = map[string]any{"observedGeneration": int64(1), "replicas": int64(2), "updatedReplicas": int64(0), "availableReplicas": int64(1)}
	}
}

// memory is the cluster's data as they once were.
type memory struct {
	objects  map[object.Ref]map[string]any
	revision int64
}

// remember keeps the cluster's data.
func (s *sea) remember() *memory {
	s.mu.Lock()
	defer s.mu.Unlock()
	m := &memory{map[object.Ref]map[string]any{}, s.revision}
	for ref, body := range s.objects {
		m.objects[ref] = object.Clone(body)
	}
	return m
}

// rewind puts the cluster's data back to what they once were. Watches break over that, and numbers are given a second time.
func (s *sea) rewind(m *memory) {
	s.hear(false)
	s.mu.Lock()
	s.objects, s.revision = map[object.Ref]map[string]any{}, m.revision
	for ref, body := range m.objects {
		s.objects[ref] = object.Clone(body)
		s.roll(ref, s.objects[ref])
	}
	s.mu.Unlock()
	s.hear(true)
}

// delete takes an object out; the mutex is held.
func (s *sea) delete(ref object.Ref) {
	body := object.Clone(s.objects[ref])
	delete(s.objects, ref)
	body["metadata"].(map[string]any)["resourceVersion"] = fmt.Sprint(s.revision)
	s.tell(body, true)
}
