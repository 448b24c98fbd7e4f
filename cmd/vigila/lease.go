package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	coordinationv1 "k8s.io/api/coordination/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/util/validation"
	coordination "k8s.io/client-go/kubernetes/typed/coordination/v1"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	"k8s.io/client-go/tools/leaderelection"
	"k8s.io/client-go/tools/leaderelection/resourcelock"

	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/standby"
)

// Times of the Lease. Whoever can't renew it any more has ended before another one takes it.
// Source: https://pkg.go.dev/k8s.io/client-go/tools/leaderelection
const (
	leaseFor   = 15 * time.Second
	leaseRenew = 8 * time.Second
	leaseRetry = 2 * time.Second
	leaseEnds  = 5 * time.Second  // from when it is lost until the process is gone at the latest
	leaseGrace = 25 * time.Second // from when a copy is kept up no more: by then the Lease was taken, if nobody renews it
)

// errLeaseLost ends a service that works no more.
var errLeaseLost = errors.New("the Lease was lost: another one may work now")

// pairing refuses what can't go together.
func (s *settings) pairing() error {
	ns, name, is := strings.Cut(s.Lease, "/")
	switch {
	case s.Lease != "" && (!is || len(validation.IsDNS1123Label(ns)) > 0 || len(validation.IsDNS1123Subdomain(name)) > 0):
		return fmt.Errorf("lease is %q; write NAMESPACE/NAME, such as vigila/vigila", s.Lease)
	case s.LeaseKubeconfig != "" && s.Lease == "":
		return errors.New("lease_kubeconfig needs lease: the Lease that is held there")
	case s.StandByOf != "" && s.Lease == "":
		return errors.New("stand_by_of needs lease: without it nobody decides which of the two works, and both might")
	case s.StandByOf != "" && len(listed(s.StandByOf)) == 0:
		return fmt.Errorf("stand_by_of is %q; write addresses such as https://b.vigila.example.org, separated by commas", s.StandByOf)
	case s.StandByCA != "" && s.StandByOf == "":
		return errors.New("stand_by_ca_file needs stand_by_of")
	}
	for _, at := range listed(s.StandByOf) {
		if _, err := link.Address(at); err != nil {
			return fmt.Errorf("stand_by_of: %w", err)
		}
	}
	return nil
}

// copyOf lets those who stand by keep a copy of the record.
func copyOf(store *record.Store, log *slog.Logger) func(context.Context, net.Conn, string) {
	return func(ctx context.Context, conn net.Conn, from string) {
		if err := standby.Serve(ctx, conn, store, from, log); err != nil {
			log.Warn("somebody who wanted to stand by is refused", "from", from, "error", err)
		}
	}
}

// office is the Lease, and who wants it.
type office struct {
	s      settings
	leases coordination.LeasesGetter
	id     string
	log    *slog.Logger
	said   map[string]string // what is in the way, by whom: it is said once, as long as it is the same
}

// says says what is in the way, unless it was said last.
func (o *office) says(whom, text string, err error) {
	if now := text + err.Error(); o.said[whom] != now {
		o.said[whom] = now
		o.log.Warn(text, "of", whom, "error", err)
	}
}

// elect waits until this service is the one that works; meanwhile it says that it stands by, and keeps a copy where it is told of whom. lost is
// called when it is the one no more. It returns at once where no Lease is named, and when ctx ends.
func (s settings) elect(ctx context.Context, listener net.Listener, lost context.CancelCauseFunc, log *slog.Logger) (letGo func(), err error) {
	letGo = func() {}
	if s.Lease == "" {
		return letGo, nil
	}
	rc, err := rest.InClusterConfig()
	if s.LeaseKubeconfig != "" {
		rc, err = clientcmd.BuildConfigFromFlags("", s.LeaseKubeconfig)
	}
	if err != nil {
		return letGo, fmt.Errorf("the cluster of the Lease: %w", err)
	}
	rc.Timeout = leaseRenew / 2
	leases, err := coordination.NewForConfig(rc)
	if err != nil {
		return letGo, fmt.Errorf("the cluster of the Lease: %w", err)
	}
	host, _ := os.Hostname()
	o := &office{s: s, leases: leases, id: host + "_" + rand.Text()[:8], log: log.With("lease", s.Lease), said: map[string]string{}}
	waits, end := context.WithCancel(ctx)
	defer end()
	said := make(chan struct{})
	go func() {
		defer close(said)
		serveStandBy(waits, listener)
	}()
	defer func() { end(); <-said }()
	if err := o.may(ctx); err != nil {
		return letGo, err
	}
	for ctx.Err() == nil {
		right, err := o.copied(ctx)
		if err != nil {
			return letGo, err
		}
		if right == nil {
			continue
		}
		won, release := o.stand(ctx, right.over, lost)
		right.end()
		if won {
			if err := o.putTerm(ctx); err != nil {
				release()
				return letGo, err
			}
			return release, nil
		}
	}
	return letGo, nil
}

// may tells why the Lease can never be taken: what client-go tries again and again in silence is said beforehand. It waits until the cluster answers.
func (o *office) may(ctx context.Context) error {
	ns, name, _ := strings.Cut(o.s.Lease, "/")
	in := o.leases.Leases(ns)
	for ctx.Err() == nil {
		l, err := in.Get(ctx, name, metav1.GetOptions{})
		if err == nil {
			_, err = in.Update(ctx, l, metav1.UpdateOptions{DryRun: []string{metav1.DryRunAll}})
		} else if apierrors.IsNotFound(err) {
			_, err = in.Create(ctx, &coordinationv1.Lease{ObjectMeta: metav1.ObjectMeta{Namespace: ns, Name: name}}, metav1.CreateOptions{DryRun: []string{metav1.DryRunAll}})
		}
		switch {
		case ctx.Err() != nil:
			return nil
		case err == nil || apierrors.IsConflict(err) || apierrors.IsAlreadyExists(err):
			return nil
		case apierrors.IsForbidden(err) || apierrors.IsUnauthorized(err):
			return fmt.Errorf("the Lease %s can't be held: %w; it takes get, create and update of leases in namespace %s", o.s.Lease, err, ns)
		case apierrors.IsNotFound(err):
			return fmt.Errorf("the Lease %s can't be held: %w; make the namespace first", o.s.Lease, err)
		}
		o.says("the Lease", "the cluster of the Lease does not answer; it is tried again", err)
		o.pause(ctx)
	}
	return nil
}

// right is what lets a service stand for the Lease. over is closed when that is so no more.
type right struct {
	over <-chan struct{}
	end  func()
}

// stand stands for the Lease until it is held; false when its right to is over, or ctx ended. release gives it back.
func (o *office) stand(ctx context.Context, over <-chan struct{}, lost context.CancelCauseFunc) (won bool, release func()) {
	ns, name, _ := strings.Cut(o.s.Lease, "/")
	ctx, end := context.WithCancel(ctx)
	began, ended := make(chan struct{}), make(chan struct{})
	var once sync.Once
	e, err := leaderelection.NewLeaderElector(leaderelection.LeaderElectionConfig{
		Lock:          &resourcelock.LeaseLock{LeaseMeta: metav1.ObjectMeta{Namespace: ns, Name: name}, Client: o.leases, LockConfig: resourcelock.ResourceLockConfig{Identity: o.id}},
		LeaseDuration: leaseFor, RenewDeadline: leaseRenew, RetryPeriod: leaseRetry, ReleaseOnCancel: true,
		Callbacks: leaderelection.LeaderCallbacks{
			OnStartedLeading: func(context.Context) { once.Do(func() { close(began) }) },
			OnStoppedLeading: func() {
				select {
				case <-began:
				default:
					return // it never had it
				}
				if ctx.Err() != nil {
					return // it gave it back
				}
				o.log.Error("the Lease was lost; this one ends")
				lost(errLeaseLost)
				time.AfterFunc(leaseEnds, func() { os.Exit(1) }) // before anybody else begins
			},
			OnNewLeader: func(id string) {
				if id != o.id {
					o.log.Info("another one works", "holder", id)
				}
			},
		}})
	if err != nil { // only a mistake in the times above
		panic(err)
	}
	go func() {
		defer close(ended)
		e.Run(ctx)
	}()
	release = sync.OnceFunc(func() { end(); <-ended })
	select {
	case <-began:
	case <-ended:
	case <-over:
	case <-ctx.Done():
	}
	select {
	case <-began: // it may just have come about
		if ctx.Err() == nil {
			o.log.Info("this one works", "holder", o.id)
			return true, release
		}
	default:
	}
	release()
	return false, func() {}
}

// copied waits until this service may stand for the Lease: where it works with a volume that the others have too, where it is the one that worked
// last, or once its copy is in step with the one that works. It is nil when it is to be asked again.
func (o *office) copied(ctx context.Context) (*right, error) {
	if o.s.StandByOf == "" {
		return &right{end: func() {}}, nil
	}
	term, _, err := o.lease(ctx)
	if err != nil {
		o.says("the Lease", "the cluster of the Lease does not answer; it is tried again", err)
		o.pause(ctx)
		return nil, nil
	}
	if own, known := o.term(); term < 0 || known && own == term {
		return o.first(ctx, term), nil
	}
	in, vault, err := record.BeginCopy(o.s.Data)
	if err != nil {
		return nil, err
	}
	if err := os.Remove(o.termFile()); err != nil && !errors.Is(err, os.ErrNotExist) { // what is here is another one's from now on
		return nil, errors.Join(err, in.Close())
	}
	var ca []byte
	if o.s.StandByCA != "" {
		if ca, err = os.ReadFile(o.s.StandByCA); err != nil {
			return nil, errors.Join(fmt.Errorf("read the authorities: %w", err), in.Close())
		}
	}
	ctx, end := context.WithCancel(ctx)
	inStep, over := make(chan struct{}), make(chan struct{})
	var never error // why no copy can ever be made; to be read after over
	go func() {
		defer close(over)
		for _, at := range listed(o.s.StandByOf) { // which of them works, and whether this is one of them, nobody knows beforehand
			err := standby.Follow(ctx, at, ca, in, vault, func() {
				o.log.Info("the copy is in step", "of", at)
				close(inStep)
			})
			if err == nil {
				return
			}
			if errors.Is(err, record.ErrAnother) { // nor the next time, and all of it was sent to find that out
				never = err
				return
			}
			select {
			case <-inStep:
				o.log.Warn("the copy is kept up no more", "of", at, "error", err)
				select { // if the other one is gone, the Lease is free by then; if it is not, it goes on writing, and a copy has to be made anew
				case <-ctx.Done():
				case <-time.After(leaseGrace):
				}
				return
			default:
				o.says(at, "no copy can be made; it is tried again, and this one does not take over before", err)
			}
		}
		o.pause(ctx)
	}()
	r := &right{over: over, end: sync.OnceFunc(func() {
		end()
		<-over
		if err := in.Close(); err != nil {
			o.log.Error("the copy can't be closed", "error", err)
		}
	})}
	select {
	case <-inStep:
		return r, nil
	case <-over:
	}
	r.end()
	return nil, never
}

// first is the right of who worked last, or of whoever begins: as long as nobody else works.
func (o *office) first(ctx context.Context, term int) *right {
	ctx, end := context.WithCancel(ctx)
	over := make(chan struct{})
	go func() {
		defer close(over)
		for ctx.Err() == nil {
			if now, holder, err := o.lease(ctx); err == nil && now > term && holder != o.id {
				return
			}
			o.pause(ctx)
		}
	}()
	return &right{over: over, end: func() { end(); <-over }}
}

func (o *office) pause(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-time.After(leaseRetry):
	}
}

// lease tells how often the Lease has changed hands, -1 when there is none, and who had it last.
func (o *office) lease(ctx context.Context) (term int, holder string, err error) {
	ns, name, _ := strings.Cut(o.s.Lease, "/")
	l, err := o.leases.Leases(ns).Get(ctx, name, metav1.GetOptions{})
	switch {
	case apierrors.IsNotFound(err):
		return -1, "", nil
	case err != nil:
		return 0, "", err
	case l.Spec.LeaseTransitions != nil:
		term = int(*l.Spec.LeaseTransitions)
	}
	if l.Spec.HolderIdentity != nil {
		holder = *l.Spec.HolderIdentity
	}
	return term, holder, nil
}

func (o *office) termFile() string { return filepath.Join(o.s.Data, "vigila.term") }

// term is which change of hands this service worked after last; it is not known of a copy.
func (o *office) term() (n int, known bool) {
	b, err := os.ReadFile(o.termFile())
	if err != nil {
		return 0, false
	}
	n, err = strconv.Atoi(strings.TrimSpace(string(b)))
	return n, err == nil
}

// putTerm notes that this service works now.
func (o *office) putTerm(ctx context.Context) error {
	if o.s.StandByOf == "" {
		return nil
	}
	term, _, err := o.lease(ctx)
	if err != nil {
		return fmt.Errorf("read the Lease: %w", err)
	}
	if err := os.MkdirAll(o.s.Data, 0o700); err != nil {
		return err
	}
	return os.WriteFile(o.termFile(), []byte(strconv.Itoa(term)+"\n"), 0o600)
}
