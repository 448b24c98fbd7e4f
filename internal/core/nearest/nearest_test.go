package nearest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatSomebodyMeant(t *testing.T) {
	guards := []string{"mass-removal", "empty-render", "order"}
	for word, want := range map[string]string{
		"mass-remval": "did you mean mass-removal?",
		"Order":       "did you mean order?",
		"mass":        "did you mean mass-removal?",
		"everything":  "there are empty-render, mass-removal and order",
		"":            "there are empty-render, mass-removal and order",
	} {
		assert.Equal(t, want, Words(word, guards), word)
	}
	assert.Equal(t, "there are none", Words("quay", nil))
	assert.Equal(t, "there is quay", Words("skerry", []string{"quay"}))
	assert.Equal(t, "did you mean quay?", Words("quy", []string{"quay", "skerry"}))
	many := []string{"a1", "b2", "c3", "d4", "e5", "f6", "g7", "h8", "i9", "j1", "k2", "l3", "m4"}
	assert.Equal(t, "there are a1, b2, c3, d4, e5, f6, g7, h8, i9, j1, k2, l3 and others", Words("zzzzzz", many))
}

// TestNothingLongIsHeldAgainstMuch: the time that takes grows with the length of both, and with how many there are.
func TestNothingLongIsHeldAgainstMuch(t *testing.T) {
	long := strings.Repeat("k", 4<<20)
	assert.Empty(t, Of(long, []string{"kelp"}))
	assert.Empty(t, Of("kelp", []string{long}))
	assert.Empty(t, Of("kelp", make([]string, most+1)))
}
