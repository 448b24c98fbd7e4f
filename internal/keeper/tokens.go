package keeper

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"slices"
	"time"

	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

// Bounds of how long a token is taken.
const (
	minToken = time.Minute
	maxToken = 366 * 24 * time.Hour
	// AdminToken is how long one is taken that is made on the host.
	AdminToken = 365 * 24 * time.Hour
)

// NewToken makes a bearer token and its hash. 32 random bytes need no slow hash.
func NewToken() (token, hash string) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	token = "vigila_" + base64.RawURLEncoding.EncodeToString(b)
	return token, HashToken(token)
}

// HashToken is the form in which a token is kept.
func HashToken(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// Ended tells whether a token is taken no more.
func Ended(t record.Token) bool { return !t.Expires.IsZero() && !time.Now().Before(t.Expires) }

// Tokens lists the tokens: those that end first at the top, those that don't end last.
func (k *Keeper) Tokens(ctx context.Context) ([]record.Token, error) { return k.store.Tokens(ctx) }

// MadeToken is a token that was just made.
type MadeToken struct {
	Text    string // the token itself
	Expires time.Time
}

func (w MakeToken) do(ctx context.Context, k *Keeper, by Actor) (MadeToken, error) {
	if err := ward.Name(w.Name); err != nil {
		return MadeToken{}, fault(Invalid, "name: %v", err)
	}
	switch {
	case w.Name == "vigila":
		return MadeToken{}, fault(Invalid, "name: vigila is what the logbook calls the service itself; choose another")
	case w.Role == "" && len(w.May) == 0 || w.Role != "" && !grant.Role(w.Role).May(grant.Reader):
		return MadeToken{}, fault(Invalid, "role: %q is none; write reader, operator or admin", w.Role)
	case w.For < minToken || w.For > maxToken:
		return MadeToken{}, fault(Invalid, "for: a token is taken between a minute and %d days", int(maxToken.Hours()/24))
	}
	token, hash := NewToken()
	for _, g := range w.May {
		if err := g.Check(); err != nil {
			return MadeToken{}, fault(Invalid, "may: %v", err)
		}
	}
	t := record.Token{Name: w.Name, Role: w.Role, May: w.May, Expires: time.Now().Add(w.For).UTC().Truncate(time.Second), Maker: by.Person}
	err := k.store.AddToken(ctx, hash, t)
	if errors.Is(err, record.ErrTaken) {
		return MadeToken{}, fault(Conflict, "there is a token %s already; choose another name, or end that first: vigila token end %s", w.Name, w.Name)
	}
	return MadeToken{token, t.Expires}, err
}

func (w EndToken) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	k.endings.Lock() // of two that are ended at once one may be the last
	defer k.endings.Unlock()
	all, err := k.store.Tokens(ctx)
	if err != nil {
		return Nothing{}, err
	}
	var names []string
	admins := 0 // beside it
	for _, t := range all {
		names = append(names, t.Name)
		if t.Name != w.Name && grant.Role(t.Role).May(grant.Admin) && !Ended(t) {
			admins++
		}
	}
	switch {
	case !slices.Contains(names, w.Name):
		return Nothing{}, unknown("token", w.Name, names, "vigila token make NAME")
	case admins == 0:
		return Nothing{}, fault(Conflict, "token %s is the last of an admin; make another first: vigila token make NAME --role admin", w.Name)
	}
	if err := k.store.EndToken(ctx, w.Name); err != nil && !errors.Is(err, record.ErrNone) {
		return Nothing{}, err
	}
	return Nothing{}, nil
}
