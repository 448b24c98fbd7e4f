// Package standby keeps a copy of a service's record on another machine, while the service works with it: Serve is the working side, Follow the
// other. Both have the key that secrets are encrypted with, and know each other by keys that follow from it; nobody else is answered. What goes
// between them is what package record writes, statement by statement.
package standby

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"sync/atomic"

	"vigila.dev/vigila/internal/link"
	"vigila.dev/vigila/internal/record"
)

// Path is where a service takes those who stand by, below its address.
const Path = "/stand-by"

// keys are those of the working side and of the one that stands by.
func keys(v *record.Vault) (works, stands *link.Key, err error) {
	works, err = link.ParseKey(v.Derived("stand-by, the one that works"))
	if err != nil {
		return nil, nil, err
	}
	stands, err = link.ParseKey(v.Derived("stand-by, the one that stands by"))
	return works, stands, err
}

// part is some of the whole. The last bears the number of the last change that is in it. One is asked for after the other, so that whoever takes
// them in slowly is not sent more than it can hold.
type part struct {
	All  []record.Statement
	Done bool
	Base uint64
}

// atOnce is about how much of the whole goes in one part, in bytes.
const atOnce = 1 << 20

// server is the working side of one connection.
type server struct {
	ctx   context.Context
	store *record.Store
	peer  *link.Peer
	log   *slog.Logger

	mu    sync.Mutex
	parts chan []record.Statement // nil before a copy was asked for
	copy  *record.Copying         // once all of it has been given
	err   error                   // why not all of it was
}

// Serve speaks with somebody who stands by, until they go. conn is ended then.
func Serve(ctx context.Context, conn net.Conn, store *record.Store, from string, log *slog.Logger) error {
	defer conn.Close()
	works, stands, err := keys(store.Vault())
	if err != nil {
		return err
	}
	safe, caller, err := link.Answer(ctx, conn, works)
	if err != nil {
		return err
	}
	if caller != stands.Name() {
		return errors.Join(fmt.Errorf("somebody from %s has not the key of this service's secrets, and gets no copy of its record", from), safe.Close())
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	s := &server{ctx: ctx, store: store, log: log.With("from", from)}
	s.peer = link.New(ctx, safe, s)
	s.log.Info("another one stands by, and keeps a copy of the record")
	err = s.peer.Run()
	end()
	s.mu.Lock()
	parts := s.parts
	s.mu.Unlock()
	if parts != nil {
		for range parts { // until nothing more is given
		}
	}
	if c := s.kept(); c != nil {
		c.Leave()
	}
	s.log.Warn("the one that stood by is gone", "why", err)
	return nil
}

// Asked is part of link.Handler.
func (s *server) Asked(ctx context.Context, method string, _ link.Raw, _ func(any) error) (any, error) {
	if method != "next" {
		return nil, &link.Refusal{Text: "there is no " + method}
	}
	s.mu.Lock()
	if s.parts == nil {
		s.parts = make(chan []record.Statement)
		go s.copyOut(s.parts)
	}
	parts := s.parts
	s.mu.Unlock()
	select {
	case some, more := <-parts:
		if more {
			return part{All: some}, nil
		}
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err != nil {
		return nil, s.err
	}
	return part{Done: true, Base: s.copy.Base}, nil
}

// copyOut gives all that the record holds, in parts.
func (s *server) copyOut(parts chan<- []record.Statement) {
	defer close(parts)
	var some []record.Statement
	size := 0
	give := func() error {
		select {
		case parts <- some:
			some, size = nil, 0
			return nil
		case <-s.ctx.Done():
			return s.ctx.Err()
		}
	}
	c, err := s.store.CopyOut(s.ctx, func(one record.Statement) error {
		some = append(some, one)
		if size += one.Size(); size > atOnce {
			return give()
		}
		return nil
	})
	if err == nil {
		if err = give(); err != nil {
			c.Leave()
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err = err; err == nil {
		s.copy = c
	}
}

// kept is the copy, once it is whole.
func (s *server) kept() *record.Copying {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.copy
}

// Told is part of link.Handler.
func (s *server) Told(method string, args link.Raw) error {
	c := s.kept()
	switch {
	case c == nil:
		return errors.New("it tells something before it has a copy")
	case method == "taken": // the whole is there; what was written since goes now
		go s.pump(c)
	case method == "has":
		var n uint64
		if err := link.Decode(args, &n); err != nil {
			return err
		}
		c.Has(n)
	}
	return nil
}

func (s *server) pump(c *record.Copying) {
	for {
		all, err := c.Next(s.ctx)
		for _, ch := range all {
			for _, piece := range pieces(ch) {
				if err == nil {
					err = s.peer.Tell("change", piece)
				}
			}
		}
		if err != nil {
			s.peer.Close(err)
			return
		}
	}
}

// change is a record.Change, or a piece of one: a write may be larger than a frame.
type change struct {
	N    uint64
	All  []record.Statement
	More bool // the rest of it follows
}

func pieces(ch record.Change) (out []change) {
	one, size := change{N: ch.N}, 0
	for _, s := range ch.All {
		if size > atOnce {
			one.More = true
			out, one, size = append(out, one), change{N: ch.N}, 0
		}
		one.All = append(one.All, s)
		size += s.Size()
	}
	return append(out, one)
}

// follower is the side that stands by.
type follower struct {
	ctx    context.Context
	in     *record.CopyIn
	peer   *link.Peer
	whole  atomic.Bool
	n      uint64             // written before whole is set, and by who is told of changes afterwards
	some   []record.Statement // of a change whose rest is still to come
	inStep func()
}

// Follow keeps a copy of the record of the service at an address, until ctx ends or the connection does. inStep is called once the copy has
// become the directory's record. The error is why it ended; nil when ctx did.
func Follow(ctx context.Context, service string, ca []byte, in *record.CopyIn, vault *record.Vault, inStep func()) error {
	works, stands, err := keys(vault)
	if err != nil {
		return err
	}
	conn, err := link.DialAt(ctx, service, Path, ca)
	if err != nil {
		return err
	}
	safe, err := link.Call(ctx, conn, stands, works.Name())
	if err != nil {
		_ = conn.Close()
		if errors.Is(err, link.ErrKey) {
			return fmt.Errorf("whoever answers at %s encrypts with another key; give both the same vigila.key", service)
		}
		return err
	}
	life, end := context.WithCancel(ctx)
	defer end()
	f := &follower{ctx: life, in: in, inStep: inStep}
	f.peer = link.New(life, safe, f)
	ended := make(chan error, 1)
	go func() { ended <- f.peer.Run() }()
	err = f.begin()
	if err == nil {
		err = <-ended
	} else {
		f.peer.Close(err)
		<-ended
	}
	if ctx.Err() != nil {
		return nil
	}
	return err
}

func (f *follower) begin() error {
	if err := f.in.Anew(); err != nil {
		return err
	}
	var last part
	for !last.Done {
		last = part{}
		if err := f.peer.Call(f.ctx, "next", struct{}{}, &last); err != nil {
			return err
		}
		if err := f.in.Put(f.ctx, last.All); err != nil {
			return err
		}
	}
	if err := f.in.Whole(f.ctx); err != nil {
		return err
	}
	f.n = last.Base
	f.whole.Store(true)
	if err := f.peer.Tell("taken", struct{}{}); err != nil {
		return err
	}
	f.inStep()
	return f.peer.Tell("has", last.Base)
}

// Asked is part of link.Handler.
func (f *follower) Asked(context.Context, string, link.Raw, func(any) error) (any, error) {
	return nil, &link.Refusal{Text: "nothing is asked of who stands by"}
}

// Told is part of link.Handler.
func (f *follower) Told(method string, args link.Raw) error {
	if method != "change" {
		return nil
	}
	var ch change
	if err := link.Decode(args, &ch); err != nil {
		return err
	}
	if !f.whole.Load() || ch.N != f.n+1 {
		return fmt.Errorf("change %d comes after %d; the copy is begun anew", ch.N, f.n)
	}
	f.some = append(f.some, ch.All...)
	if ch.More {
		return nil
	}
	if err := f.in.Put(f.ctx, f.some); err != nil {
		return err
	}
	f.n, f.some = ch.N, nil
	return f.peer.Tell("has", f.n)
}
