package keeper

import (
	"bytes"
	"math/rand/v2"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What replaceIDs and replaceNamed are faster than.
var (
	wardID    = regexp.MustCompile(`[a-z0-9][a-z0-9-]*@[a-z0-9][a-z0-9-]*`)
	wardNamed = regexp.MustCompile(`\bward [a-z0-9][a-z0-9-]*`)
)

// TestVeilAtRandom: of texts of the letters that matter, what is put in place is what the plain rules say.
func TestVeilAtRandom(t *testing.T) {
	const letters = "ab-@ ward_A9\n"
	r := rand.New(rand.NewPCG(1, 2))
	for range 50_000 {
		var text []byte
		for range r.IntN(24) {
			if r.IntN(6) == 0 {
				text = append(text, wardWord...)
				continue
			}
			text = append(text, letters[r.IntN(len(letters))])
		}
		veiledAs(t, text)
	}
}

func FuzzVeil(f *testing.F) {
	for _, s := range []string{"waits for a@b, and -a@b", "a@b@c", "a@-b a@", "ward a-b ward -c", "forward a, ward ward x", "ward ward ward", "@@a@a", "_ward a Award a -ward a éward a", "a--@b--c@d"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, text []byte) { veiledAs(t, text) })
}

func veiledAs(t *testing.T, text []byte) {
	t.Helper()
	odd := func(b []byte) bool { return len(b)%2 == 1 } // some may stand there, some may not
	want := wardID.ReplaceAllFunc(text, func(id []byte) []byte {
		if odd(id) {
			return id
		}
		return []byte(another)
	})
	got := replaceIDs(bytes.Clone(text), odd)
	assert.Equal(t, string(want), string(got))
	want = wardNamed.ReplaceAllFunc(text, func(said []byte) []byte {
		if odd(said[len(wardWord):]) {
			return said
		}
		return []byte(another)
	})
	assert.Equal(t, string(want), string(replaceNamed(bytes.Clone(text), odd)), "%q", text)
}
