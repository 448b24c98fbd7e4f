package sources

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/repo"
)

// reader is a subscriber that reads one path, and remembers what it was told.
type reader struct {
	path  string
	every time.Duration

	mu   sync.Mutex
	told []string
	last standing.AsOf
}

func (r *reader) Interests(string) []Interest {
	return []Interest{{Ref: "main", Paths: []string{r.path}}}
}
func (r *reader) Every() time.Duration { return r.every }
func (r *reader) WasRead(_ string, a standing.AsOf) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.told, r.last = append(r.told, "read"), a
}
func (r *reader) IsSame(_ string, a standing.AsOf) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.told, r.last = append(r.told, "same"), a
}

func (r *reader) take() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	defer func() { r.told = nil }()
	return r.told
}

type yard struct {
	t       *testing.T
	dir     string // of the origin
	house   *House
	fetched atomic.Int32
	hold    chan struct{} // a turn waits for it, when it is there
	mu      sync.Mutex
	changed []string
}

func newYard(t *testing.T) *yard {
	y := &yard{t: t, dir: t.TempDir()}
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	y.house = &House{Ctx: ctx, Dir: t.TempDir(), Log: slog.New(slog.DiscardHandler), Spawn: func(f func()) { done.Go(f) },
		Turn: func(ctx context.Context, _ string) (func(), error) {
			if y.hold != nil {
				select {
				case <-y.hold:
				case <-ctx.Done():
					return nil, ctx.Err()
				}
			}
			return func() {}, nil
		},
		Keep:    func(context.Context, record.Repo) error { return nil },
		Looked:  func(string, standing.AsOf) {},
		Fetched: func(string, time.Duration, error) { y.fetched.Add(1) },
		At:      func(string) *repo.Mirror { return nil },
		Changed: func(name string) {
			y.mu.Lock()
			defer y.mu.Unlock()
			y.changed = append(y.changed, name)
		}}
	t.Cleanup(func() { cancel(); done.Wait() })
	y.git("init", "-q", "-b", "main")
	return y
}

func (y *yard) git(args ...string) {
	y.t.Helper()
	out, err := exec.Command("git", append([]string{"-C", y.dir, "-c", "user.name=operator", "-c", "user.email=o@brindle.example"}, args...)...).CombinedOutput()
	require.NoError(y.t, err, "%s", out)
}

func (y *yard) commit(files ...string) {
	y.t.Helper()
	for _, name := range files {
		at := filepath.Join(y.dir, name)
		require.NoError(y.t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(y.t, os.WriteFile(at, fmt.Appendf(nil, "%d", time.Now().UnixNano()), 0o600))
	}
	y.git("add", "-A")
	y.git("commit", "-q", "-m", "A change")
}

func (y *yard) open() *Loop {
	y.t.Helper()
	l, err := Open(y.house, record.Repo{Name: "moorings", URL: "file://" + y.dir})
	require.NoError(y.t, err)
	l.Start()
	y.t.Cleanup(l.Close)
	return l
}

// TestOneCommitIsForThoseWhoReadIt: of many who read a repository, the others are told that nothing is new for them.
func TestOneCommitIsForThoseWhoReadIt(t *testing.T) {
	y := newYard(t)
	y.commit("a/x", "b/x")
	l := y.open()
	a, b, all := &reader{path: "a", every: time.Hour}, &reader{path: "b", every: time.Hour}, &reader{path: "", every: time.Hour}
	for _, r := range []*reader{a, b, all} {
		l.Subscribe(r)
	}
	require.NoError(t, l.Look(t.Context()))
	for _, r := range []*reader{a, b, all} {
		assert.Contains(t, r.take(), "read", "it has not seen any commit yet")
	}
	y.commit("b/x")
	require.NoError(t, l.Look(t.Context()))
	assert.Equal(t, []string{"same"}, a.take())
	assert.Equal(t, []string{"read"}, b.take())
	assert.Equal(t, []string{"read"}, all.take())
	require.NoError(t, l.Look(t.Context()))
	assert.Equal(t, []string{"same"}, b.take(), "nothing is new")
	assert.True(t, a.last.Known)
	l.Unsubscribe(b)
	a.take()
	y.commit("b/x", "a/x")
	require.NoError(t, l.Look(t.Context()))
	assert.Empty(t, b.take())
	assert.Equal(t, []string{"read"}, a.take())
	assert.Equal(t, []string{"main"}, l.State().Names)
	assert.Equal(t, 2, l.State().Subscribers)
}

// TestWhatCantBeReadIsToldToAll, once as a change, and the next looks are farther and farther away.
func TestWhatCantBeReadIsToldToAll(t *testing.T) {
	y := newYard(t)
	y.commit("a/x")
	l := y.open()
	a := &reader{path: "a", every: time.Minute}
	l.Subscribe(a)
	require.NoError(t, l.Look(t.Context()))
	a.take()
	require.NoError(t, os.Rename(y.dir, y.dir+"-away"))
	for _, pause := range []time.Duration{2 * time.Minute, 4 * time.Minute, 5 * time.Minute, 5 * time.Minute} {
		require.Error(t, l.Look(t.Context()))
		s := l.State()
		assert.False(t, s.AsOf.Known)
		assert.NotEmpty(t, s.AsOf.Problem)
		assert.False(t, s.AsOf.At.IsZero(), "when it was read last")
		assert.InEpsilon(t, pause, time.Until(s.AsOf.Next), .12, "spread by a tenth")
	}
	assert.Equal(t, []string{"read", "read", "read", "read"}, a.take())
	require.NoError(t, os.Rename(y.dir+"-away", y.dir))
	require.NoError(t, l.Look(t.Context()))
	assert.True(t, l.State().AsOf.Known)
	assert.Less(t, time.Until(l.State().AsOf.Next), 70*time.Second)
	y.mu.Lock()
	defer y.mu.Unlock()
	assert.Equal(t, []string{"moorings", "moorings", "moorings"}, y.changed, "it could be read, then not, and then again")
}

// TestManyWishesAreOneLook: a storm of pushes while it is looked is one look more.
func TestManyWishesAreOneLook(t *testing.T) {
	y := newYard(t)
	y.commit("a/x")
	y.hold = make(chan struct{})
	l := y.open() // its first look waits for its turn
	for range 50 {
		l.LookSoon()
	}
	close(y.hold)
	require.NoError(t, l.Look(t.Context()))
	assert.LessOrEqual(t, y.fetched.Load(), int32(3), "the first, that of the pushes, and this one")
}

// TestItIsLookedAtAsOftenAsSomebodyWants, once somebody who wants it more often comes.
func TestItIsLookedAtAsOftenAsSomebodyWants(t *testing.T) {
	y := newYard(t)
	y.commit("a/x")
	l := y.open()
	require.NoError(t, l.Look(t.Context()))
	assert.Greater(t, time.Until(l.State().AsOf.Next), 4*time.Minute, "nobody reads it")
	a := l.Subscribe(&reader{path: "a", every: time.Minute})
	assert.LessOrEqual(t, time.Until(a.Next), time.Minute)
	assert.Equal(t, a.Next, l.State().AsOf.Next)
	a = l.Subscribe(&reader{path: "a", every: time.Hour})
	assert.LessOrEqual(t, time.Until(a.Next), time.Minute)
}

// TestALoopEnds: whoever waits for a look is told.
func TestALoopEnds(t *testing.T) {
	y := newYard(t)
	y.commit("a/x")
	y.hold = make(chan struct{})
	l := y.open()
	ctx, cancel := context.WithCancelCause(t.Context())
	done := make(chan error)
	go func() { done <- l.Look(ctx) }()
	cancel(errors.New("enough"))
	assert.Error(t, <-done)
	l.End()
	assert.ErrorIs(t, l.Look(t.Context()), errEnded)
	_, isGit := l.Git()
	_, isCharts := l.Charts()
	assert.True(t, isGit)
	assert.False(t, isCharts)
}
