// Package nearest finds the word that somebody meant. Start with Words.
package nearest

import (
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
)

// What a word is held against: the time that takes grows with all three.
const (
	longest = 200 // bytes of a word
	most    = 2000
)

// Of is the known word that is nearest to one that is not known; "" when none is near: more than half of its letters, or than three,
// would have to be others.
func Of(word string, known []string) string {
	if len(word) > longest || len(known) > most { // nobody has mistyped that
		return ""
	}
	best, far := "", min(3, max(1, len([]rune(word))/2))+1
	for _, k := range slices.Sorted(slices.Values(known)) {
		if len(k) > longest {
			continue
		}
		d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(k))
		if word != "" && (strings.HasPrefix(k, word) || strings.HasPrefix(word, k)) {
			d = min(d, 1)
		}
		if d < far {
			best, far = k, d
		}
	}
	return best
}

// Words say what to write instead of a word that is not known: the nearest, or which there are.
func Words(word string, known []string) string {
	if k := Of(word, known); k != "" {
		return "did you mean " + k + "?"
	}
	all := slices.Sorted(slices.Values(known))
	switch {
	case len(all) == 0:
		return "there are none"
	case len(all) > 12:
		return "there are " + strings.Join(all[:12], ", ") + " and others"
	case len(all) == 1:
		return "there is " + all[0]
	}
	return "there are " + strings.Join(all[:len(all)-1], ", ") + " and " + all[len(all)-1]
}
