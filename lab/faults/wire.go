package faults

import (
	"io"
	"net"
	"sync"
	"time"
)

// Wire is a connection of bytes that can be made to fail: what one side calls at its address reaches the other.
type Wire struct {
	listener net.Listener
	to       string

	mu    sync.Mutex
	mode  string
	open  map[net.Conn]bool
	moved *sync.Cond
}

// The modes of a Wire.
const (
	WireWell   = "well"
	WireCut    = "cut"    // what is open is closed, and nobody is let in
	WireSilent = "silent" // half open: it stays open, and nothing gets through
	WireSlow   = "slow"   // everything takes long
)

// StartWire leads to an address.
func StartWire(to string) (*Wire, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	w := &Wire{listener: l, to: to, mode: WireWell, open: map[net.Conn]bool{}}
	w.moved = sync.NewCond(&w.mu)
	go w.accept()
	return w, nil
}

// Addr is where it is called.
func (w *Wire) Addr() string { return w.listener.Addr().String() }

// Set makes it fail in a way, or not.
func (w *Wire) Set(mode string) {
	w.mu.Lock()
	w.mode = mode
	if mode == WireCut {
		for c := range w.open {
			_ = c.Close()
		}
	}
	w.moved.Broadcast()
	w.mu.Unlock()
}

// Cut closes what is open, and lets everybody call anew.
func (w *Wire) Cut() {
	w.Set(WireCut)
	w.Set(WireWell)
}

// Close ends it.
func (w *Wire) Close() {
	_ = w.listener.Close()
	w.Set(WireCut)
}

func (w *Wire) accept() {
	for {
		a, err := w.listener.Accept()
		if err != nil {
			return
		}
		w.mu.Lock()
		cut := w.mode == WireCut
		w.mu.Unlock()
		if cut {
			_ = a.Close()
			continue
		}
		b, err := net.Dial("tcp", w.to)
		if err != nil {
			_ = a.Close()
			continue
		}
		w.mu.Lock()
		w.open[a], w.open[b] = true, true
		w.mu.Unlock()
		go w.carry(a, b)
		go w.carry(b, a)
	}
}

// carry takes bytes from one side to the other. What came while nothing gets through goes on when it does again.
func (w *Wire) carry(from, to net.Conn) {
	defer func() {
		_ = from.Close()
		_ = to.Close()
		w.mu.Lock()
		delete(w.open, from)
		w.mu.Unlock()
	}()
	b := make([]byte, 16<<10)
	for {
		n, err := from.Read(b)
		if n > 0 {
			w.mu.Lock()
			for w.mode == WireSilent {
				w.moved.Wait()
			}
			slow := w.mode == WireSlow
			w.mu.Unlock()
			if slow {
				time.Sleep(300 * time.Millisecond)
			}
			if _, err := to.Write(b[:n]); err != nil {
				return
			}
		}
		if err != nil && err != io.EOF || n == 0 {
			return
		}
	}
}
