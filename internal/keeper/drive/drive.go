// Package drive makes the calls that a run asks for: applies, removals, tasks, and the dry runs of a preview. It knows no ward's loop:
// orders and answers are plain values, and what is decided is decided elsewhere. Start with Drive.
package drive

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/record"
)

// errStopped tells that a run was stopped before the turn of a piece of it came.
var errStopped = errors.New("the run was stopped before")

// Live reads a cluster.
type Live interface {
	Get(ctx context.Context, version string, ref object.Ref) (map[string]any, error)
	Children(ctx context.Context, namespace string) (cluster.Children, error)
	Logs(ctx context.Context, namespace, pod, container string, previous bool, tail int64) (string, error)
}

// Hands change objects in a cluster, as the account that a ward acts as.
type Hands interface {
	Apply(ctx context.Context, o object.Object, dryRun bool) (map[string]any, error)
	Patch(ctx context.Context, version string, ref object.Ref, ops []object.Operation, dryRun bool) (map[string]any, error)
	Remove(ctx context.Context, version string, ref object.Ref, uid string) error
}

// Book is what the calls need of the record.
type Book interface {
	Commit(ctx context.Context, id string, writes ...record.Write) error
	Detail(ctx context.Context, id string, ref object.Ref) (*compare.Detail, error)
	Keeper(ctx context.Context, cluster, notPlacement string, ref object.Ref) (string, error)
}

// Turns are what several wards share of a cluster: Take waits for a turn, and done gives it back.
type Turns interface {
	Take(ctx context.Context, who string) (done func(), err error)
}

// Ward is for whom calls are made, and through what.
type Ward struct {
	ID, Name string
	Cluster  string
	Service  string   // the id of this service
	TakeOver []string // keep.take_over
	Mask     compare.Mask

	Live    Live
	Hands   Hands
	Book    Book
	Turns   Turns
	Secrets Secrets
}

// Secrets puts secret values in the place of references; none has any when it is nil.
type Secrets interface {
	// Fill gives the object with its values, and the digest of those; "" when it refers to none. hide takes them out of a text. A
	// *StoreError tells that a store did not give them.
	Fill(ctx context.Context, o object.Object) (filled object.Object, digest string, hide func(string) string, err error)
}

// StoreError tells that a store did not give the values that an object refers to.
type StoreError struct {
	Err  error
	Away bool // it may give them later: it did not answer, or is busy
}

func (e *StoreError) Error() string { return e.Err.Error() }
func (e *StoreError) Unwrap() error { return e.Err }

// fill puts secret values in place. What is made of the object may fail in words that quote them, so errors go through hide. A workload that only
// notes which values its Pods read notes those of before where they are not known: it is kept from nothing.
func (w *Ward) fill(ctx context.Context, o object.Object, before compare.Baseline) (_ object.Object, digest string, hide func(error) error, err error) {
	same := func(err error) error { return err }
	if w.Secrets == nil {
		return o, "", same, nil
	}
	o, digest, over, err := w.Secrets.Fill(ctx, o)
	var store *StoreError
	if !o.Ref.Secret() && errors.As(err, &store) {
		digest = secret.DigestIn(before.Declared)
		return secret.Noted(o, digest), digest, same, nil
	}
	if err != nil || over == nil {
		return o, digest, same, err
	}
	return o, digest, func(err error) error {
		if err == nil {
			return nil
		}
		return &hidden{err, over(err.Error())}
	}, nil
}

// hidden is an error without the secret values that its words would quote.
type hidden struct {
	error
	text string
}

func (e *hidden) Error() string { return e.text }
func (e *hidden) Unwrap() error { return e.error }

// Order is one object to be applied.
type Order struct {
	Object  declared.Whole
	Before  compare.Baseline // what was applied of it before; one without a UID when nothing was
	Turn    object.Turn
	Left    []object.Pointer // fields that are left to others
	Added   bool             // others added to it, and that is to be removed
	Scaled  bool             // its replicas are an autoscaler's
	Refused string           // the ward that keeps it; nothing is called then
	Defined bool             // its kind is defined by the same run
	Allow   []string         // what a person has allowed, by name
	Found   *fieldpath.Set   // what others owned of it at its first apply, where that is anything
	Passing bool             // it is applied for a time by a canary: it stays part of the snapshot that it was of, and in no doubt once it is answered

	hide func(error) error // takes the secret values that it was filled with out of an error
}

// Applied is the answer to an order. Of one that went through Baseline is what is to be kept of it.
type Applied struct {
	Ref      object.Ref
	Body     map[string]any
	Replaced bool // it was deleted and made again
	Baseline compare.Baseline
	Failed   *Failure // why it did not go through

	sent   map[string]any
	digest string // of the secret values in it
}

// Hears is told in the course of a call.
type Hears interface {
	Trying(ref object.Ref, err error) // it did not go through, and is made again
	Lost(ref object.Ref)              // it is about to be deleted and made again, which is written down
}

// Drive makes the calls of one run, so many at a time.
type Drive struct {
	*Ward
	hears    Hears
	entry    int
	snapshot string // of what is applied; "" leaves it as it was
	ctx      context.Context
	cancel   context.CancelFunc
	stopping context.Context // ends when the run is stopped: nothing new begins, and waiting for a finalizer may take for ever
	letGo    context.CancelFunc
	giveUp   atomic.Int64 // the run's deadline, in Unix nanoseconds
	limit    *time.Timer  // ends everything that is on its way
	slots    chan struct{}
}

// Grace is how long calls that are on their way at the deadline may still take.
const Grace = 5 * time.Second

// New makes the drive of a run. snapshot is where its objects come from.
func (w *Ward) New(ctx context.Context, parallel, entry int, snapshot string, hears Hears) *Drive {
	d := &Drive{Ward: w, hears: hears, entry: entry, snapshot: snapshot, slots: make(chan struct{}, parallel)}
	d.ctx, d.cancel = context.WithCancel(ctx)
	d.stopping, d.letGo = context.WithCancel(d.ctx)
	return d
}

// Begin bounds the whole of the run's calls.
func (d *Drive) Begin(within time.Duration) {
	d.limit = time.AfterFunc(2*within+Grace, d.cancel) // the tasks for a failure have the same time again
}

// Until says when the run gives up.
func (d *Drive) Until(deadline time.Time) { d.giveUp.Store(deadline.UnixNano()) }

// Over tells whether the run has no more time.
func (d *Drive) Over() bool { return time.Now().UnixNano() >= d.giveUp.Load() }

// Stop lets nothing new begin; calls that are on their way have a little time to be answered.
func (d *Drive) Stop() {
	d.letGo()
	time.AfterFunc(Grace, d.cancel)
}

// End ends every call.
func (d *Drive) End() {
	d.letGo()
	d.cancel()
	if d.limit != nil {
		d.limit.Stop()
	}
}

// until bounds a call by the time that the run has; calls that are on their way at the deadline may take Grace.
func (d *Drive) until(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithDeadline(ctx, time.Unix(0, d.giveUp.Load()).Add(Grace))
}

// turn does a piece of the run when its turn has come: as many at a time as the settings say, fair among the wards of
// the cluster. Once the run is stopped nothing new begins.
func (d *Drive) turn(do func() error) error {
	select {
	case d.slots <- struct{}{}:
	case <-d.stopping.Done():
		return errStopped
	}
	defer func() { <-d.slots }()
	done, err := d.Turns.Take(d.stopping, d.ID)
	if err != nil {
		return errStopped
	}
	defer done()
	return do()
}

// again makes a call until it goes through or is refused, with growing pauses, as long as the run has time. defined tells that the
// object's kind is defined by the same run.
func (d *Drive) again(ref object.Ref, defined bool, call func(context.Context) error) error {
	for wait := 200 * time.Millisecond; ; wait = min(wait*2, 5*time.Second) {
		ctx, cancel := d.until(d.ctx)
		err := call(ctx)
		cancel()
		coming := defined && cluster.NotServed(err) // its definition is there, and the cluster takes it up a little later
		var store *StoreError
		later := errors.As(err, &store) && store.Away
		if err == nil || !cluster.Transient(err) && !coming && !later || d.stopping.Err() != nil || d.Over() {
			return err
		}
		d.hears.Trying(ref, err)
		select {
		case <-d.stopping.Done():
			return err
		case <-time.After(wait):
		}
	}
}

// TakenError tells that another ward, or another service, keeps an object.
type TakenError struct{ text string }

func (e *TakenError) Error() string { return e.text }

func kept(ward string) error {
	return &TakenError{fmt.Sprintf("ward %s keeps it already; one object can belong to one ward", ward)}
}

// Failure is why a call did not go through, as a plain value.
type Failure struct {
	Text    string
	Silent  bool // it was not answered, and may have gone through
	Outside bool // the reason says nothing about the object
	Stopped bool // the run was stopped before its turn came
}

// Failed tells of an error; nil when there is none.
func Failed(err error) *Failure {
	if err == nil {
		return nil
	}
	return &Failure{Text: err.Error(), Silent: silent(err), Outside: outside(err), Stopped: errors.Is(err, errStopped)}
}

// silent tells that a call was not answered: it may have gone through.
func silent(err error) bool {
	var gone *cluster.UnreachableError
	return errors.As(err, &gone)
}

// outside tells whether a call failed for a reason that says nothing about the object.
func outside(err error) bool {
	var taken *TakenError
	var store *StoreError
	return errors.As(err, &taken) || errors.As(err, &store) || silent(err) || cluster.Outside(err)
}

// unclaimed refuses to adopt an object that another service keeps. What is made for a time alone adopts nothing: it will be removed.
func (w *Ward) unclaimed(ctx context.Context, o object.Object, passing bool) error {
	live, err := w.Live.Get(ctx, o.Version, o.Ref)
	if errors.Is(err, cluster.ErrGone) || cluster.UnknownKind(err) {
		return nil
	}
	if err != nil {
		return err
	}
	if passing && (object.Label(live, object.WardLabel) != w.Name || object.Service(live) != w.Service) {
		return &TakenError{fmt.Sprintf("%s is there already, and is not this ward's; give one of the two another name", o.Ref.Short())}
	}
	return w.foreign(live)
}

func (w *Ward) foreign(live map[string]any) error {
	id := object.Service(live)
	if id == "" || id == w.Service || slices.Contains(w.TakeOver, "vigila/"+id) {
		return nil
	}
	return &TakenError{fmt.Sprintf("%s keeps it already, in its ward %s; remove it there, or write keep.take_over: [vigila/%s] to take it over", compare.AnotherService(id), object.Label(live, object.WardLabel), id)}
}

// other names the other ward that keeps an object in this cluster; empty when none does.
func (w *Ward) other(ctx context.Context, ref object.Ref) (string, error) {
	name, err := w.Book.Keeper(ctx, w.Cluster, w.ID, ref)
	if err != nil {
		return "", fmt.Errorf("who keeps %s can't be read: %w", ref.Short(), err)
	}
	return name, nil
}

// mayReplace tells why an object may not be deleted and made again, and the way out; empty when it may.
func mayReplace(ref object.Ref, turn object.Turn, before compare.Baseline, allow []string) string {
	switch {
	case turn.NoReplace || before.GuardedBy(object.NoReplace):
		return fmt.Sprintf("it is guarded (%s: no-replace), so make it under a new name, or take the guard away first", object.GuardAnnotation)
	case !turn.Replace:
		return fmt.Sprintf("let it be deleted and made again (%s: when-immutable), make it under a new name, or undo the change", object.ReplaceAnnotation)
	case plan.Precious(ref) && !slices.Contains(allow, ref.Short()):
		return fmt.Sprintf("to delete it with what it holds, and make it again: --allow %s", ref.Short())
	}
	return ""
}
