package express

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// long is an expression that takes about as much as one may.
const long = "[1,2,3,4,5,6,7,8,9,10].map(a, [1,2,3,4,5,6,7,8,9,10].map(b, [1,2,3,4,5,6,7,8,9,10].map(c, [1,2,3,4,5,6,7,8,9,10].map(d, a + %d)))).size()"

// TestAllTogetherHaveABound: each expression of very many may take what one may, and whoever reads a file tries them all.
func TestAllTogetherHaveABound(t *testing.T) {
	one, all := maxCost, maxTotal
	maxCost, maxTotal = 300_000, 3_000_000
	defer func() { maxCost, maxTotal = one, all }()
	e, err := New(nil)
	require.NoError(t, err)
	n := 0
	for ; err == nil && n < 10_000; n++ {
		_, err = e.Eval(fmt.Sprintf(long, n))
	}
	assert.ErrorIs(t, err, ErrTooMuch)
	assert.Greater(t, n, 5)
	assert.Less(t, n, 1000)
	_, err = e.Eval("1 + 1")
	assert.ErrorIs(t, err, ErrTooMuch, "nothing more is done")

	e, err = New(nil)
	require.NoError(t, err)
	_, err = e.Eval(strings.Replace(fmt.Sprintf(long, 0), "a + 0", "[1,2,3,4,5,6,7,8,9,10].map(f, [1,2,3,4,5,6,7,8,9,10].map(g, a))", 1))
	assert.ErrorIs(t, err, ErrTooMuch)
	_, err = e.Eval("1 + 1")
	assert.ErrorIs(t, err, ErrTooMuch, "after one that took too much no other is tried")
}

// TestAFileOfMistakes is told of in short: each of a million took as long as reading the whole file.
func TestAFileOfMistakes(t *testing.T) {
	l, err := Lift("a.yaml", []byte(strings.Repeat("${{ nope }}\n", 300_000)))
	require.NoError(t, err)
	e, err := New(nil)
	require.NoError(t, err)
	err = l.Probe("a.yaml", e)
	require.ErrorContains(t, err, "a.yaml:1: ${{ nope }}:")
	assert.ErrorContains(t, err, "there are more mistakes")
	assert.Less(t, len(err.Error()), 100_000)
}
