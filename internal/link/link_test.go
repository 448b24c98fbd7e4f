package link

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// talker answers what it is asked by a table, and keeps what it is told.
type talker struct {
	answers map[string]func(ctx context.Context, args Raw, part func(any) error) (any, error)
	mu      sync.Mutex
	told    []string
	heard   chan struct{}
}

func (h *talker) Asked(ctx context.Context, method string, args Raw, part func(any) error) (any, error) {
	if f := h.answers[method]; f != nil {
		return f(ctx, args, part)
	}
	return nil, &Refusal{Kind: 7, Text: "nobody knows " + method}
}

func (h *talker) Told(method string, args Raw) error {
	var text string
	if err := Decode(args, &text); err != nil {
		return err
	}
	h.mu.Lock()
	h.told = append(h.told, method+" "+text)
	h.mu.Unlock()
	if h.heard != nil {
		h.heard <- struct{}{}
	}
	return nil
}

// pair is two peers over a pipe.
func pair(t *testing.T, a, b Handler) (*Peer, *Peer) {
	t.Helper()
	x, y := net.Pipe()
	p, q := New(t.Context(), x, a), New(t.Context(), y, b)
	var all sync.WaitGroup
	all.Go(func() { _ = p.Run() })
	all.Go(func() { _ = q.Run() })
	t.Cleanup(func() {
		p.Close(nil)
		q.Close(nil)
		all.Wait()
	})
	return p, q
}

func TestCallsStreamsAndWords(t *testing.T) {
	type sum struct{ A, B int }
	stopped := make(chan struct{})
	h := &talker{heard: make(chan struct{}, 8), answers: map[string]func(context.Context, Raw, func(any) error) (any, error){
		"add": func(_ context.Context, args Raw, _ func(any) error) (any, error) {
			var s sum
			err := Decode(args, &s)
			return s.A + s.B, err
		},
		"count": func(_ context.Context, _ Raw, part func(any) error) (any, error) {
			for i := range 5 {
				if err := part(i); err != nil {
					return nil, err
				}
			}
			return "all", nil
		},
		"wait": func(ctx context.Context, _ Raw, _ func(any) error) (any, error) {
			<-ctx.Done()
			close(stopped)
			return nil, ctx.Err()
		},
		"fail":  func(context.Context, Raw, func(any) error) (any, error) { return nil, errors.New("no berth is free") },
		"large": func(context.Context, Raw, func(any) error) (any, error) { return make([]byte, maxFrame+1), nil },
	}}
	p, q := pair(t, &talker{}, h)

	var n int
	require.NoError(t, p.Call(t.Context(), "add", sum{2, 3}, &n))
	assert.Equal(t, 5, n)
	var all []int
	var end string
	require.NoError(t, p.Stream(t.Context(), "count", nil, &end, func(part Raw) error {
		var i int
		err := Decode(part, &i)
		all = append(all, i)
		return err
	}))
	assert.Equal(t, []int{0, 1, 2, 3, 4}, all)
	assert.Equal(t, "all", end)

	err := p.Call(t.Context(), "fail", nil, nil)
	var no *Refusal
	require.ErrorAs(t, err, &no)
	assert.Equal(t, "no berth is free", no.Text)
	require.ErrorAs(t, p.Call(t.Context(), "sail", nil, nil), &no)
	assert.Equal(t, 7, no.Kind)
	assert.ErrorContains(t, p.Call(t.Context(), "large", nil, &n), "larger than a frame")
	assert.ErrorContains(t, p.Stream(t.Context(), "count", nil, nil, func(Raw) error { return errors.New("enough") }), "enough")

	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(time.Millisecond, cancel)
	require.ErrorIs(t, p.Call(ctx, "wait", nil, nil), context.Canceled)
	<-stopped // the other side is told

	for _, text := range []string{"one", "two", "three"} {
		require.NoError(t, p.Tell("say", text))
		<-h.heard
	}
	assert.Equal(t, []string{"say one", "say two", "say three"}, h.told)

	q.Close(errors.New("gone"))
	<-p.Done()
	require.ErrorIs(t, p.Call(t.Context(), "add", sum{1, 1}, &n), ErrAway)
	require.ErrorIs(t, p.Tell("say", "four"), ErrAway)
}

// TestWhoIsSlowHoldsUpNobody: one that takes the parts of an answer slowly keeps no other from theirs.
func TestWhoIsSlowHoldsUpNobody(t *testing.T) {
	h := &talker{answers: map[string]func(context.Context, Raw, func(any) error) (any, error){
		"log": func(_ context.Context, _ Raw, part func(any) error) (any, error) {
			for i := range 2000 {
				if err := part(i); err != nil {
					return nil, err
				}
			}
			return nil, nil
		},
		"hail": func(context.Context, Raw, func(any) error) (any, error) { return "ahoy", nil },
	}}
	p, _ := pair(t, &talker{}, h)
	begun, goOn, ended := make(chan struct{}), make(chan struct{}), make(chan error, 1)
	count := 0
	go func() {
		ended <- p.Stream(context.Background(), "log", nil, nil, func(Raw) error {
			if count++; count == 1 {
				close(begun)
				<-goOn
			}
			return nil
		})
	}()
	<-begun
	for range 10 {
		require.NoError(t, p.Call(t.Context(), "hail", nil, nil))
	}
	close(goOn)
	require.NoError(t, <-ended)
	assert.Equal(t, 2000, count, "and gets all of them")
}

// TestWhoWaitsIsToldOfTheEnd: nobody waits for an answer of somebody who is gone.
func TestWhoWaitsIsToldOfTheEnd(t *testing.T) {
	begun := make(chan struct{})
	h := &talker{answers: map[string]func(context.Context, Raw, func(any) error) (any, error){"wait": func(ctx context.Context, _ Raw, _ func(any) error) (any, error) {
		close(begun)
		<-ctx.Done()
		return nil, ctx.Err()
	}}}
	p, q := pair(t, &talker{}, h)
	go func() {
		<-begun
		q.Close(errors.New("pulled"))
	}()
	require.ErrorIs(t, p.Call(t.Context(), "wait", nil, nil), ErrAway)
}

// TestMoreCallsThanAreAnsweredAtATime: those that come too late are made again, and none is lost.
func TestMoreCallsThanAreAnsweredAtATime(t *testing.T) {
	const calls = maxCalls + 200
	var going, most atomic.Int64
	let := make(chan struct{})
	h := &talker{answers: map[string]func(context.Context, Raw, func(any) error) (any, error){"wait": func(ctx context.Context, args Raw, _ func(any) error) (any, error) {
		defer going.Add(-1)
		if now := going.Add(1); now > most.Load() {
			most.Store(now)
		}
		<-let
		var n int
		return n, Decode(args, &n)
	}}}
	p, _ := pair(t, &talker{}, h)
	var all sync.WaitGroup
	for n := range calls {
		all.Go(func() {
			var got int
			assert.NoError(t, p.Call(t.Context(), "wait", n, &got))
		})
	}
	require.Eventually(t, func() bool { return going.Load() == maxCalls }, 10*time.Second, time.Millisecond)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, p.Call(ctx, "wait", 0, nil), context.Canceled)
	close(let)
	all.Wait()
	assert.LessOrEqual(t, most.Load(), int64(maxCalls))
}

// TestAMistakeOfOursEndsOneConnection: what somebody says that we did not think of ends theirs and nobody else's, and is told where it ends.
func TestAMistakeOfOursEndsOneConnection(t *testing.T) {
	h := &talker{answers: map[string]func(context.Context, Raw, func(any) error) (any, error){"odd": func(context.Context, Raw, func(any) error) (any, error) {
		var none *talker
		return none.heard, nil
	}}}
	p, q := pair(t, &talker{}, h)
	require.ErrorIs(t, p.Call(t.Context(), "odd", nil, nil), ErrAway)
	<-q.Done()
	assert.ErrorContains(t, context.Cause(q.ctx), "odd: a mistake in the program: runtime error")
	assert.ErrorContains(t, context.Cause(q.ctx), "link_test.go", "and where it is")

	p, q = pair(t, &talker{}, nil) // which nothing can be told
	require.NoError(t, p.Tell("word", "x"))
	<-q.Done()
	assert.ErrorContains(t, context.Cause(q.ctx), "word: a mistake in the program")
}

// TestOnlyTheKeyThatIsExpected: whoever has another key than the service's is told nothing, over a real WebSocket.
func TestOnlyTheKeyThatIsExpected(t *testing.T) {
	service, err := NewKey()
	require.NoError(t, err)
	own, err := NewKey()
	require.NoError(t, err)
	again, err := ParseKey(own.Seed())
	require.NoError(t, err)
	assert.Equal(t, own.Name(), again.Name())
	callers := make(chan string, 2)
	mux := http.NewServeMux()
	mux.HandleFunc(Path, func(w http.ResponseWriter, r *http.Request) {
		conn, err := Accept(w, r)
		if err != nil {
			return
		}
		c, caller, err := Answer(r.Context(), conn, service)
		if err != nil {
			callers <- "nobody"
			return
		}
		callers <- caller
		_ = New(r.Context(), c, &talker{answers: map[string]func(context.Context, Raw, func(any) error) (any, error){
			"hail": func(context.Context, Raw, func(any) error) (any, error) { return "ahoy", nil }}}).Run()
	})
	s := httptest.NewServer(mux)
	defer s.Close()

	conn, err := Dial(t.Context(), s.URL, nil)
	require.NoError(t, err)
	c, err := Call(t.Context(), conn, own, service.Name())
	require.NoError(t, err)
	assert.Equal(t, own.Name(), <-callers)
	p := New(t.Context(), c, &talker{})
	go func() { _ = p.Run() }()
	var said string
	require.NoError(t, p.Call(t.Context(), "hail", nil, &said))
	assert.Equal(t, "ahoy", said)
	in, out := p.Bytes()
	assert.Positive(t, in)
	assert.Positive(t, out)
	p.Close(nil)

	conn, err = Dial(t.Context(), s.URL, nil)
	require.NoError(t, err)
	_, err = Call(t.Context(), conn, own, own.Name())
	require.ErrorIs(t, err, ErrKey)

	for address, want := range map[string]string{"ftp://a": "no address of a service", "https://u:p@a": "holds more than", "http://127.0.0.1:1": "refused", s.URL + "/elsewhere": "where a WebSocket is expected"} {
		_, err := Dial(t.Context(), address, nil)
		assert.ErrorContains(t, err, want, address)
	}
	_, err = Dial(t.Context(), s.URL, []byte("no certificate"))
	assert.ErrorContains(t, err, "no certificate in PEM")
}

// frames are bytes as they go over the wire.
func frames(t testing.TB, all ...frame) []byte {
	var b bytes.Buffer
	for _, f := range all {
		text, err := Encode(f)
		require.NoError(t, err)
		require.NoError(t, binary.Write(&b, binary.BigEndian, uint32(len(text))))
		b.Write(text)
	}
	return b.Bytes()
}

// TestWhatCantBeRead: a side that says nonsense loses the connection, and nothing else.
func TestWhatCantBeRead(t *testing.T) {
	nested := strings.Repeat("\x81", 100) + "\x00" // lists in lists
	for what, b := range map[string][]byte{
		"a frame that is too large": {0xff, 0xff, 0xff, 0xff},
		"no CBOR":                   {0, 0, 0, 2, 0xff, 0xff},
		"a kind that there is not":  frames(t, frame{K: 9}),
		"a word of another kind":    frames(t, frame{K: tell, M: "x", B: Raw("\x01")}),
		"too deep":                  append([]byte{0, 0, 0, byte(len(nested))}, nested...),
		"two calls of one number":   frames(t, frame{K: call, N: 1, M: "wait"}, frame{K: call, N: 1, M: "wait"}),
		"the middle of a frame":     {0, 0, 0, 9, 0xa1},
	} {
		x, y := net.Pipe()
		p := New(t.Context(), x, &talker{answers: map[string]func(context.Context, Raw, func(any) error) (any, error){"wait": func(ctx context.Context, _ Raw, _ func(any) error) (any, error) {
			<-ctx.Done()
			return nil, nil
		}}})
		go func() {
			_, _ = y.Write(b)
			if what == "the middle of a frame" {
				_ = y.Close()
			}
			_, _ = io.Copy(io.Discard, y)
		}()
		assert.Error(t, p.Run(), what)
		_ = y.Close()
	}
}

// FuzzFrames: whatever comes over the wire, it is read or refused; nothing panics, hangs, or takes memory that it does not announce.
func FuzzFrames(f *testing.F) {
	f.Add(frames(f, frame{K: call, N: 1, M: "hail", B: Raw("\xa1\x61a\x01")}, frame{K: cancel, N: 1}))
	f.Add(frames(f, frame{K: answer, N: 1, E: &Refusal{Kind: 1, Text: "no"}}, frame{K: chunk, N: 1}, frame{K: beat}, frame{K: tell, M: "say", B: Raw("\x63one")}))
	f.Fuzz(func(t *testing.T, b []byte) {
		x, y := net.Pipe()
		p := New(t.Context(), x, &talker{answers: map[string]func(context.Context, Raw, func(any) error) (any, error){"hail": func(_ context.Context, args Raw, part func(any) error) (any, error) {
			var v any
			if err := Decode(args, &v); err != nil {
				return nil, err
			}
			return v, part(v)
		}}})
		go func() { _, _ = io.Copy(io.Discard, y) }()
		go func() {
			_, _ = y.Write(b)
			_ = y.Close()
		}()
		_ = p.Run()
	})
}

// TestATextThatIsNoUTF8Travels: commits and logs hold what they hold.
func TestATextThatIsNoUTF8Travels(t *testing.T) {
	b, err := Encode(map[string]any{"says": "K\xfcste \xff"})
	require.NoError(t, err)
	var out map[string]any
	require.NoError(t, Decode(b, &out))
	assert.Equal(t, "K\xfcste \xff", out["says"])
}
