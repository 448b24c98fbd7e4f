package main

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"time"

	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/server"
)

// open opens the record; where another service has it, and this one stands by, once that is gone. It is nil when ctx ended before.
func (s settings) open(ctx context.Context, listener net.Listener, log *slog.Logger) (*record.Store, error) {
	for {
		store, err := record.Open(ctx, s.Data)
		if err == nil || !s.StandBy && s.Lease == "" || !errors.Is(err, record.ErrLocked) {
			return store, err
		}
		log.Info("Vigila stands by: another one works here", "data", s.Data, "address", "http://"+listener.Addr().String())
		err = standBy(ctx, listener, s.Data)
		switch {
		case ctx.Err() != nil:
			return nil, nil
		case err != nil:
			return nil, err
		}
		log.Info("the other one is gone; taking over")
	}
}

// standBy says that this service stands by, until no other has the data directory.
func standBy(ctx context.Context, listener net.Listener, dir string) error {
	waits, end := context.WithCancel(ctx)
	said := make(chan struct{})
	go func() {
		defer close(said)
		serveStandBy(waits, listener)
	}()
	err := record.WaitFree(ctx, dir)
	end()
	<-said
	return err
}

// serveStandBy says that this service stands by, until ctx ends. The listener stays open.
func serveStandBy(ctx context.Context, listener net.Listener) {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.Header().Set("Retry-After", "5")
		w.WriteHeader(http.StatusServiceUnavailable)
		_, _ = w.Write([]byte(`{"type":"about:blank","title":"It stands by","status":503,"detail":"this service stands by while another one works; ask that one"}` + "\n"))
	})
	lent := &lentListener{Listener: listener, ended: make(chan struct{})}
	h := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Second}
	served := make(chan struct{})
	go func() {
		_ = h.Serve(server.Bounded(lent))
		close(served)
	}()
	<-ctx.Done()
	_ = h.Close()
	<-served
	if t, is := listener.(*net.TCPListener); is {
		_ = t.SetDeadline(time.Time{}) // it waits as long as it takes again
	}
}

// lentListener is a listener that somebody uses for a while: closing it ends that, and leaves the listener open.
type lentListener struct {
	net.Listener
	once  sync.Once
	ended chan struct{}
}

// Accept gives up once it was closed; who calls at that moment is let in all the same, by whoever has the listener next.
func (l *lentListener) Accept() (net.Conn, error) {
	for {
		select {
		case <-l.ended:
			return nil, net.ErrClosed
		default:
		}
		if t, is := l.Listener.(*net.TCPListener); is {
			_ = t.SetDeadline(time.Now().Add(200 * time.Millisecond))
		}
		c, err := l.Listener.Accept()
		var late net.Error
		if errors.As(err, &late) && late.Timeout() {
			continue
		}
		return c, err
	}
}

func (l *lentListener) Close() error {
	l.once.Do(func() { close(l.ended) })
	return nil
}
