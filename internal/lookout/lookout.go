// Package lookout is Vigila beside one cluster that its service can't reach: it calls the service, keeps the cluster's wards as that tells
// it to, and goes on by itself while there is nobody to call. What it does with wards is package keeper's. Start with Run.
package lookout

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
)

// Settings are whose lookout it is, and of what.
type Settings struct {
	Service string // its address, such as https://vigila.example.org
	Key     string // the name of the service's key; nobody else is obeyed
	Token   string // to join with; looked at the first time alone
	CA      []byte // PEM of an authority of one's own, for the address of the service; nothing for the system's
	Version string
	Cluster record.Cluster // how it is reached; its name and labels are what the service says
	Keeper  keeper.Options
	Limits  roster.Limits // what it does in its cluster at most, whatever the service says
	Stores  *Stores       // servers of secret values that it asks; nil for none
}

// home is what a lookout remembers of its service, so that it can go on without it.
type home struct {
	Service string            `json:"service"` // its id
	Key     string            `json:"key"`
	Cluster string            `json:"cluster"`
	Labels  map[string]string `json:"labels"`
	Digest  []byte            `json:"digest"`
}

// The pause before the service is called anew: it grows up to the longest, and each lookout takes another part of it, so that a service that
// comes back is not called by all at once.
const (
	shortest = 500 * time.Millisecond
	longest  = 10 * time.Second
	joining  = 2 * time.Minute // for all that comes before the first word of the service
)

// Run keeps the cluster until ctx ends. Errors are of what can't go on: no record, no key, a service that says no before it has ever said yes.
func Run(ctx context.Context, store *record.Store, s Settings, log *slog.Logger) error {
	l := &lookout{store: store, s: s, log: log}
	var err error
	if l.key, err = ownKey(ctx, store); err != nil {
		return err
	}
	known, err := l.remembered(ctx)
	if err != nil {
		return err
	}
	if known {
		if l.home.Key != s.Key && s.Token == "" {
			return fmt.Errorf("this directory is of a lookout whose service has the key %s, and --service-key says %s. Where that service is lost, and another one was started in its place (vigila serve --in-place-of %s), give it the token of vigila cluster add %s --by-lookout; else give it a directory of its own", l.home.Key, s.Key, l.home.Service, l.home.Cluster)
		}
		if err := l.open(ctx); err != nil {
			return err
		}
	}
	defer func() {
		if l.keeper != nil {
			l.keeper.Close()
		}
	}()
	for pause := shortest; ctx.Err() == nil; {
		began := time.Now()
		err := l.once(ctx)
		var no *keeper.Fault
		switch {
		case ctx.Err() != nil:
			return nil
		case errors.As(err, &no) && l.keeper == nil && no.Kind != keeper.Unreachable:
			return no
		case errors.Is(err, link.ErrKey):
			log.Error("whoever answers at the address of the service is not the service; nothing it says is taken in", "service", s.Service)
		case errors.Is(err, errOther):
			log.Error("nothing that is said at the address of the service is taken in; the cluster is kept all the same", "service", s.Service, "error", err)
		case err != nil:
			log.Warn("the service can't be reached; the cluster is kept all the same", "service", s.Service, "error", err)
		default:
			log.Warn("the connection to the service has ended; the cluster is kept all the same", "service", s.Service)
		}
		if time.Since(began) > longest {
			pause = shortest
		}
		wait := time.Duration(float64(pause) * (0.2 + 0.8*rand.Float64()))
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		pause = min(2*pause, longest)
	}
	return nil
}

// errOther tells that a lookout was let in by a service that is not its own.
var errOther = errors.New("it is another service")

type lookout struct {
	store *record.Store
	s     Settings
	log   *slog.Logger
	key   *link.Key

	mu     sync.Mutex // over what is remembered
	home   home
	keeper *keeper.Keeper // nil before the service has said whose it is
}

// ownKey is the lookout's key, made at its first start.
func ownKey(ctx context.Context, store *record.Store) (*link.Key, error) {
	seed, err := store.Setting(ctx, "lookout_own_key")
	if err != nil {
		return nil, fmt.Errorf("read the lookout's key: %w", err)
	}
	if seed != nil {
		return link.ParseKey(seed)
	}
	key, err := link.NewKey()
	if err != nil {
		return nil, err
	}
	return key, store.PutSetting(ctx, "lookout_own_key", key.Seed())
}

func (l *lookout) remembered(ctx context.Context) (bool, error) {
	text, err := l.store.Setting(ctx, "lookout_home")
	if err != nil || text == nil {
		return false, err
	}
	return true, json.Unmarshal(text, &l.home)
}

// remember writes down what holds while the service can't be asked; was is what held before.
func (l *lookout) remember(ctx context.Context, change func(*home)) (was home, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	was = l.home
	now := was
	change(&now)
	text, err := json.Marshal(now)
	if err == nil {
		err = l.store.PutSetting(ctx, "lookout_home", text)
	}
	if err == nil {
		l.home = now
	}
	return was, err
}

// known is what is remembered.
func (l *lookout) known() home {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.home
}

// relabelled remembers other labels of the cluster: what its wards are like follows from them, after a start without the service as well.
func (l *lookout) relabelled(labels map[string]string) {
	if _, err := l.remember(context.Background(), func(h *home) { h.Labels = labels }); err != nil {
		l.log.Error("the labels of the cluster can't be remembered", "error", err)
	}
}

// open begins to keep the cluster.
func (l *lookout) open(ctx context.Context) error {
	c, home := l.s.Cluster, l.known()
	c.Name, c.Labels = home.Cluster, home.Labels
	if err := l.store.PutCluster(ctx, c); err != nil {
		return err
	}
	opts := l.s.Keeper
	opts.Lookout = &keeper.LookoutOf{Service: home.Service, Digest: home.Digest, Limits: l.s.Limits, Relabelled: l.relabelled}
	if l.s.Stores != nil {
		opts.Lookout.Stores = l.s.Stores.Open
	}
	k, err := keeper.New(ctx, l.store, opts, l.log)
	if err != nil {
		return err
	}
	l.keeper = k
	return nil
}

// once calls the service, and speaks with it until the connection ends.
func (l *lookout) once(ctx context.Context) error {
	start, cancel := context.WithTimeout(ctx, joining)
	defer cancel()
	conn, err := link.Dial(start, l.s.Service, l.s.CA)
	if err != nil {
		return err
	}
	safe, err := link.Call(start, conn, l.key, l.s.Key)
	if err != nil {
		_ = conn.Close()
		return err
	}
	life, end := context.WithCancel(ctx)
	defer end()
	handler := keeper.NewFromService(life)
	peer := link.New(life, safe, handler)
	ended := make(chan error, 1)
	go func() { ended <- peer.Run() }()
	defer func() {
		end()
		<-ended
	}()
	_, last, err := l.store.OutgoingSpan(start)
	if err != nil {
		return err
	}
	w, err := keeper.SayHello(start, peer, keeper.Hello{Token: l.s.Token, Version: l.s.Version, Last: last})
	if err != nil {
		return err
	}
	now := home{Service: w.Service, Key: l.s.Key, Cluster: w.Cluster, Labels: w.Labels, Digest: w.Digest}
	if was := l.known(); l.keeper != nil && (now.Service != was.Service || now.Cluster != was.Cluster) {
		return fmt.Errorf("%w: this is the lookout of %s for service %s, and is told that it is that of %s for service %s; give that one a directory of its own, or, where the service is lost, start the other in its place: vigila serve --in-place-of %s", errOther, was.Cluster, was.Service, now.Cluster, now.Service, was.Service)
	}
	was, err := l.remember(start, func(h *home) { *h = now })
	if err != nil {
		return err
	}
	if l.keeper != nil && !bytes.Equal(now.Digest, was.Digest) { // another service in the place of one that is lost: what is told by digests is told by others
		l.keeper.Close()
		l.keeper = nil
	}
	if l.keeper == nil {
		if err := l.open(ctx); err != nil {
			return err
		}
	}
	handler.Is(l.keeper)
	l.log.Info("the service is here", "service", l.s.Service, "cluster", w.Cluster, "version", w.Version)
	return l.keeper.Serve(ctx, peer, w)
}
