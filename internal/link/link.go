// Package link is the one connection between the service and a lookout: calls, streams and words both ways. It goes through a WebSocket,
// so that proxies let it pass, and within that through TLS 1.3 whose keys both sides have pinned, so that whatever stands between them
// reads nothing and changes nothing. It knows nothing of what is said. Start with Peer.
package link

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"reflect"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"github.com/fxamacker/cbor/v2"
)

// The bounds of a connection. What is larger than a frame goes as a stream.
const (
	maxFrame  = 32 << 20 // bytes
	maxCalls  = 1024     // of the other side that are answered at a time
	maxNested = 64
	writeTime = 30 * time.Second // until a frame that nobody takes ends the connection
)

// Times of the heartbeat.
const (
	Beat   = 10 * time.Second // a side that has said nothing for so long says that it is there
	Silent = 25 * time.Second // a side that was not heard of for so long is gone
)

// Kinds of frames.
const (
	beat   = iota // nothing but a sign of life
	call          // M with B; its answer bears the same N
	chunk         // a part of an answer that is a stream
	answer        // the end of an answer: B, or E
	cancel        // nobody waits for the answer any more
	tell          // M with B; nothing answers it, and what is told is taken in in its order
)

// frame is what goes over the wire: its length in four bytes, big endian, and this as CBOR (RFC 8949).
type frame struct {
	K uint8           `cbor:"1,keyasint"`
	N uint64          `cbor:"2,keyasint,omitempty"`
	M string          `cbor:"3,keyasint,omitempty"`
	B cbor.RawMessage `cbor:"4,keyasint,omitempty"`
	E *Refusal        `cbor:"5,keyasint,omitempty"`
}

// busy is the Kind of a Refusal that says that more calls are answered already than are at a time: whoever asked asks again.
const busy = -1

// The pause before a call that was refused so is made again: it grows up to the longest.
const (
	againSoon   = 10 * time.Millisecond
	againLately = 500 * time.Millisecond
)

// Refusal is why a call is not met, as the other side says it. Kind and More mean what the two sides agree on.
type Refusal struct {
	Kind int             `cbor:"1,keyasint,omitempty"`
	Text string          `cbor:"2,keyasint"`
	More cbor.RawMessage `cbor:"3,keyasint,omitempty"`
}

func (r *Refusal) Error() string { return r.Text }

// ErrAway tells that there is no connection, or that it ended before the answer came: whether the call was met is not known.
var ErrAway = errors.New("the connection is gone")

// ErrFrame wraps what is wrong with a frame of the other side; it ends the connection.
var ErrFrame = errors.New("the other side says something that can't be read")

var (
	encode = must(cbor.EncOptions{Time: cbor.TimeRFC3339NanoUTC, Sort: cbor.SortNone}.EncMode())
	decode = must(cbor.DecOptions{IntDec: cbor.IntDecConvertSignedOrFail, DefaultMapType: reflect.TypeFor[map[string]any](), MaxNestedLevels: maxNested, MaxArrayElements: 1 << 20, MaxMapPairs: 1 << 20, IndefLength: cbor.IndefLengthForbidden, TagsMd: cbor.TagsForbidden,
		UTF8: cbor.UTF8DecodeInvalid}.DecMode())
)

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// Encode is a value as frames hold it: CBOR with times as texts (RFC 3339). Decode is its reverse; whole numbers of any kind come as
// int64, and what is not known to the type is passed over, so that either side may be newer. A text that is no UTF-8 (somebody's commit, a Pod's log)
// comes as it went.
func Encode(v any) (cbor.RawMessage, error) { return encode.Marshal(v) }

// Decode reads what Encode made.
func Decode(b []byte, into any) error {
	if err := decode.Unmarshal(b, into); err != nil {
		return fmt.Errorf("%w: %w", ErrFrame, err)
	}
	return nil
}

// Raw is a value that is not decoded yet.
type Raw = cbor.RawMessage

// Handler meets what the other side asks and tells.
type Handler interface {
	// Asked meets a call. What it gives to part comes before the answer, in its order; parts are at most a frame. Errors go as a *Refusal
	// when they are one, and else as their text alone.
	Asked(ctx context.Context, method string, args Raw, part func(any) error) (any, error)
	// Told takes in what is told, in its order. An error ends the connection.
	Told(method string, args Raw) error
}

// Peer is the other side of a connection. Its methods may be called by many goroutines.
type Peer struct {
	conn    net.Conn
	handler Handler
	ctx     context.Context
	end     context.CancelCauseFunc

	writing sync.Mutex
	wrote   atomic.Int64 // when, in Unix nanoseconds
	heard   atomic.Int64
	in, out atomic.Int64 // bytes
	limit   atomic.Int64 // of what is taken, bytes

	mu      sync.Mutex
	last    uint64
	waiting map[uint64]*waiting
	going   map[uint64]context.CancelFunc // calls of the other side
	slots   chan struct{}
	told    chan frame
}

// waiting is somebody who waits for an answer. Parts wait for them, so that who is slow to take them holds up nobody else.
type waiting struct {
	streams bool
	done    chan frame
	more    chan struct{} // there are parts

	mu    sync.Mutex
	parts []Raw
	size  int // of the parts, bytes
}

// maxWaiting is how much may wait for somebody who is slow, in bytes.
const maxWaiting = 128 << 20

// put keeps a part until it is taken; false when too much waits already.
func (w *waiting) put(part Raw) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.size += len(part); w.size > maxWaiting {
		return false
	}
	w.parts = append(w.parts, part)
	select {
	case w.more <- struct{}{}:
	default:
	}
	return true
}

// take is every part that waits.
func (w *waiting) take() []Raw {
	w.mu.Lock()
	defer w.mu.Unlock()
	all := w.parts
	w.parts, w.size = nil, 0
	return all
}

// New is a peer at the other end of a connection whose keys are known. Run has to be called.
func New(ctx context.Context, conn net.Conn, h Handler) *Peer {
	p := &Peer{conn: conn, handler: h, waiting: map[uint64]*waiting{}, going: map[uint64]context.CancelFunc{}, slots: make(chan struct{}, maxCalls), told: make(chan frame, 64)}
	p.ctx, p.end = context.WithCancelCause(ctx)
	p.limit.Store(maxFrame)
	now := time.Now().UnixNano()
	p.wrote.Store(now)
	p.heard.Store(now)
	return p
}

// Limit says how large a frame of the other side may be, in bytes; 0: as large as any. It is for those of whom it is not known yet who they are.
func (p *Peer) Limit(bytes int64) {
	if bytes <= 0 {
		bytes = maxFrame
	}
	p.limit.Store(bytes)
}

// Done is closed once the connection has ended.
func (p *Peer) Done() <-chan struct{} { return p.ctx.Done() }

// Heard is when the other side was heard of last.
func (p *Peer) Heard() time.Time { return time.Unix(0, p.heard.Load()) }

// Bytes are those of all frames that came, and that went.
func (p *Peer) Bytes() (in, out int64) { return p.in.Load(), p.out.Load() }

// Close ends the connection.
func (p *Peer) Close(why error) {
	p.end(why)
	_ = p.conn.Close()
}

// Run reads until the connection ends, and says why it did.
func (p *Peer) Run() error {
	defer context.AfterFunc(p.ctx, func() { _ = p.conn.Close() })()
	var all sync.WaitGroup
	all.Go(p.beats)
	all.Go(p.listens)
	err := p.read()
	p.Close(err)
	p.mu.Lock()
	for _, stop := range p.going {
		stop()
	}
	p.mu.Unlock()
	all.Wait()
	if cause := context.Cause(p.ctx); cause != nil {
		return cause
	}
	return err
}

// beats says that this side is there, and ends the connection to one that is not.
func (p *Peer) beats() {
	tick := time.NewTicker(Beat / 4)
	defer tick.Stop()
	for {
		select {
		case <-p.ctx.Done():
			return
		case now := <-tick.C:
			if now.UnixNano()-p.heard.Load() > int64(Silent) {
				p.Close(fmt.Errorf("it was not heard of for %s", Silent))
				return
			}
			if now.UnixNano()-p.wrote.Load() > int64(Beat-Beat/4) {
				_ = p.write(frame{K: beat})
			}
		}
	}
}

// listens gives what was told to whoever takes it in, one after the other.
func (p *Peer) listens() {
	for {
		select {
		case <-p.ctx.Done():
			return
		case f := <-p.told:
			if err := kept(func() error { return p.handler.Told(f.M, f.B) }); err != nil {
				p.Close(fmt.Errorf("%s: %w", f.M, err))
				return
			}
		}
	}
}

func (p *Peer) read() error {
	var head [4]byte
	for {
		if _, err := io.ReadFull(p.conn, head[:]); err != nil {
			return err
		}
		n := binary.BigEndian.Uint32(head[:])
		if limit := p.limit.Load(); int64(n) > limit {
			return fmt.Errorf("%w: a frame of %d bytes; at most %d are taken", ErrFrame, n, limit)
		}
		body, err := readAll(p.conn, int(n))
		if err != nil {
			return err
		}
		p.in.Add(int64(n) + 4)
		p.heard.Store(time.Now().UnixNano())
		f, err := parse(body)
		if err != nil {
			return err
		}
		if err := p.take(f); err != nil {
			return err
		}
	}
}

// readAll reads so many bytes; memory is taken as they come, not as they are announced.
func readAll(r io.Reader, n int) ([]byte, error) {
	const step = 64 << 10
	out := make([]byte, 0, min(n, step))
	for len(out) < n {
		at := len(out)
		out = append(out, make([]byte, min(n-at, max(step, at)))...)
		if _, err := io.ReadFull(r, out[at:]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// parse reads one frame.
func parse(b []byte) (f frame, err error) {
	if err := Decode(b, &f); err != nil {
		return f, err
	}
	if f.K > tell {
		return f, fmt.Errorf("%w: a frame of kind %d", ErrFrame, f.K)
	}
	return f, nil
}

func (p *Peer) take(f frame) error {
	switch f.K {
	case call:
		return p.asked(f)
	case cancel:
		p.mu.Lock()
		stop := p.going[f.N]
		p.mu.Unlock()
		if stop != nil {
			stop()
		}
	case chunk, answer:
		p.mu.Lock()
		w := p.waiting[f.N]
		if f.K == answer {
			delete(p.waiting, f.N)
		}
		p.mu.Unlock()
		switch {
		case w == nil: // nobody waits for it any more
		case f.K == answer:
			w.done <- f
		case !w.streams:
			return fmt.Errorf("%w: a stream where none was asked for", ErrFrame)
		case !w.put(f.B):
			p.leave(f.N)
			w.done <- frame{K: answer, E: &Refusal{Text: fmt.Sprintf("more than %d bytes wait for whoever asked", maxWaiting)}}
			go func() { _ = p.write(frame{K: cancel, N: f.N}) }()
		}
	case tell:
		select {
		case p.told <- f:
		case <-p.ctx.Done():
		}
	}
	return nil
}

// asked meets a call beside the reading, so that none waits for another.
func (p *Peer) asked(f frame) error {
	ctx, stop := context.WithCancel(p.ctx)
	p.mu.Lock()
	_, twice := p.going[f.N]
	p.going[f.N] = stop
	p.mu.Unlock()
	if twice {
		stop()
		return fmt.Errorf("%w: two calls of number %d", ErrFrame, f.N)
	}
	select {
	case p.slots <- struct{}{}:
	default:
		stop()
		p.forget(f.N)
		return p.write(frame{K: answer, N: f.N, E: &Refusal{Kind: busy, Text: fmt.Sprintf("more than %d calls at a time", maxCalls)}})
	}
	go func() {
		defer func() { <-p.slots; stop(); p.forget(f.N) }()
		out := frame{K: answer, N: f.N}
		var v any
		err := kept(func() (err error) {
			v, err = p.handler.Asked(ctx, f.M, f.B, func(part any) error {
				b, err := Encode(part)
				if err != nil {
					return err
				}
				return p.write(frame{K: chunk, N: f.N, B: b})
			})
			return err
		})
		if broke := (*fault)(nil); errors.As(err, &broke) {
			p.Close(fmt.Errorf("%s: %w", f.M, err))
			return
		}
		if err == nil && v != nil {
			out.B, err = Encode(v)
		}
		if err != nil {
			if out.B = nil; !errors.As(err, &out.E) {
				out.E = &Refusal{Text: err.Error()}
			}
		}
		if err := p.write(out); err != nil && p.ctx.Err() == nil { // it is too large, and whoever asked is to know
			_ = p.write(frame{K: answer, N: f.N, E: &Refusal{Text: err.Error()}})
		}
	}()
	return nil
}

// fault is a mistake of ours that what the other side said has come upon.
type fault struct {
	what  any
	where []byte
}

func (f *fault) Error() string {
	return fmt.Sprintf("a mistake in the program: %v\n%s", f.what, f.where)
}

// kept keeps a mistake of ours with the connection that came upon it: others go on, and what it was is logged with the end of that one.
func kept(f func() error) (err error) {
	defer func() {
		if what := recover(); what != nil {
			err = &fault{what, debug.Stack()}
		}
	}()
	return f()
}

func (p *Peer) forget(n uint64) {
	p.mu.Lock()
	delete(p.going, n)
	p.mu.Unlock()
}

func (p *Peer) write(f frame) error {
	b, err := Encode(f)
	if err != nil {
		return err
	}
	if len(b) > maxFrame {
		return fmt.Errorf("%s of %d bytes is larger than a frame, which has %d", f.M, len(b), maxFrame)
	}
	all := make([]byte, 4, 4+len(b))
	binary.BigEndian.PutUint32(all, uint32(len(b)))
	all = append(all, b...)
	p.writing.Lock()
	defer p.writing.Unlock()
	if p.ctx.Err() != nil {
		return ErrAway
	}
	_ = p.conn.SetWriteDeadline(time.Now().Add(writeTime))
	if _, err := p.conn.Write(all); err != nil {
		p.Close(err)
		return ErrAway
	}
	p.out.Add(int64(len(all)))
	p.wrote.Store(time.Now().UnixNano())
	return nil
}

// Tell tells the other side something. That it was sent is all that is known when there is no error.
func (p *Peer) Tell(method string, args any) error {
	b, err := Encode(args)
	if err != nil {
		return err
	}
	return p.write(frame{K: tell, M: method, B: b})
}

// Call asks the other side, and waits for the answer; into may be nil. Errors are a *Refusal where the other side says no, and wrap ErrAway
// where it can't be asked.
func (p *Peer) Call(ctx context.Context, method string, args, into any) error {
	return p.Stream(ctx, method, args, into, nil)
}

// Stream is a Call whose answer comes in parts, which are given one after the other; an error of part ends it. While the other side answers as many
// calls as it does at a time, it is made again and again.
func (p *Peer) Stream(ctx context.Context, method string, args, into any, part func(Raw) error) error {
	b, err := Encode(args)
	if err != nil {
		return err
	}
	for pause := againSoon; ; pause = min(2*pause, againLately) {
		err := p.stream(ctx, method, b, into, part)
		var no *Refusal
		if !errors.As(err, &no) || no.Kind != busy {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-p.ctx.Done():
			return ErrAway
		case <-time.After(pause):
		}
	}
}

func (p *Peer) stream(ctx context.Context, method string, b Raw, into any, part func(Raw) error) error {
	w := &waiting{streams: part != nil, done: make(chan frame, 1), more: make(chan struct{}, 1)}
	p.mu.Lock()
	p.last++
	n := p.last
	p.waiting[n] = w
	p.mu.Unlock()
	defer p.leave(n)
	if err := p.write(frame{K: call, N: n, M: method, B: b}); err != nil {
		return err
	}
	for {
		select {
		case <-w.more:
			if err := each(w.take(), part); err != nil {
				_ = p.write(frame{K: cancel, N: n})
				return err
			}
		case f := <-w.done:
			if f.E != nil {
				return f.E
			}
			if err := each(w.take(), part); err != nil { // they came before the answer
				return err
			}
			if into == nil || len(f.B) == 0 {
				return nil
			}
			return Decode(f.B, into)
		case <-ctx.Done():
			_ = p.write(frame{K: cancel, N: n})
			return ctx.Err()
		case <-p.ctx.Done():
			return ErrAway
		}
	}
}

func each(all []Raw, part func(Raw) error) error {
	for _, x := range all {
		if err := part(x); err != nil {
			return err
		}
	}
	return nil
}

// leave lets nobody wait for the answer to a call any more.
func (p *Peer) leave(n uint64) {
	p.mu.Lock()
	delete(p.waiting, n)
	p.mu.Unlock()
}
