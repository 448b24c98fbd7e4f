// Package secrets asks stores for secret values, and sets them there: KV version 2 over HTTP, and Secrets of a Kubernetes namespace. No
// error and no name of it holds a value. Start with Store.
package secrets

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Values are those of one place, by key.
type Values struct {
	Version string // that the store calls them; "" when it tells none
	Keys    map[string]string
	Digests bool // Keys hold digests of the values: those stay where they are
}

// Store is where secret values live. Its methods may be called by many goroutines. What it does not have is ErrNone; an *Error else.
type Store interface {
	// Version is that of the values at a path, without the values where the store can tell it so.
	Version(ctx context.Context, path string) (string, error)
	Read(ctx context.Context, path string) (Values, error)
	// Set sets one key, and leaves the others as they are.
	Set(ctx context.Context, path, key, value string) error
	// Try tells whether it can be reached and signed in to.
	Try(ctx context.Context) error
}

// Ender is a store that may tell when what it is signed in to with ends by itself.
type Ender interface {
	// Ends is a zero time where it does not end, or where that renews itself.
	Ends(ctx context.Context) (time.Time, error)
}

// ErrNone tells that a store has nothing at a path.
var ErrNone = errors.New("there is nothing at this path")

// Error is why a store did not do what it was asked.
type Error struct {
	Text   string
	Away   bool // it may later: it did not answer, or is busy, or closed
	Silent bool // it did not answer at all, so that it answers nobody
}

func (e *Error) Error() string { return e.Text }

func away(format string, args ...any) error {
	return &Error{Text: fmt.Sprintf(format, args...), Away: true}
}

func refused(format string, args ...any) error { return &Error{Text: fmt.Sprintf(format, args...)} }

// The bounds of what a store may say.
const (
	maxAnswer = 4 << 20 // bytes; a Secret holds one MiB at most
	maxKeys   = 10_000
)
