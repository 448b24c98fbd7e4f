// Package glob matches paths against patterns that people write, and none for long. Start with Check.
package glob

import (
	"fmt"

	"github.com/bmatcuk/doublestar/v4"
)

// maxWays is how many patterns without alternatives a pattern may stand for: each is tried for each file.
const maxWays = 100

// Check tells what is wrong with a pattern of paths, as of doublestar: * and ? within a name, ** for any number of directories, {a,b} for either.
func Check(pattern string) error {
	if pattern == "" || !doublestar.ValidatePattern(pattern) {
		return fmt.Errorf("%q is not a valid pattern; write such as *.yaml or **/tests/**", pattern)
	}
	ways, in := 1, []int{}
	for i := 0; i < len(pattern) && ways <= maxWays; i++ {
		switch pattern[i] {
		case '\\':
			i++
		case '{':
			in = append(in, 1)
		case ',':
			if n := len(in); n > 0 {
				in[n-1]++
			}
		case '}':
			if n := len(in); n > 0 {
				ways, in = ways*max(in[n-1], 2), in[:n-1] // one that stands alone is tried twice: with what follows, and without
			}
		}
	}
	if ways > maxWays {
		return fmt.Errorf("%.40q… stands for more than %d patterns; write some of its alternatives as patterns of their own", pattern, maxWays)
	}
	return nil
}

// Match tells whether a path matches a pattern that was checked.
func Match(pattern, path string) bool {
	ok, err := doublestar.Match(pattern, path)
	return err == nil && ok
}
