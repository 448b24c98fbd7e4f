package glob

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPatterns(t *testing.T) {
	for pattern, want := range map[string]string{
		"**/site.yaml": "", "*.{yaml,yml}": "", `a\{,\}`: "", "{a,b,c}/{d,{e,f}}/*": "",
		"":                             "is not a valid pattern",
		"[":                            "is not a valid pattern",
		"{a":                           "is not a valid pattern",
		strings.Repeat("{a,a*,b}", 20): "stands for more than 100 patterns",
		strings.Repeat("{a}", 20):      "stands for more than 100 patterns",
		"{" + strings.Repeat("{a,b},", 20) + "c}": "stands for more than 100 patterns",
	} {
		if err := Check(pattern); want == "" {
			assert.NoError(t, err, pattern)
		} else {
			assert.ErrorContains(t, err, want, pattern)
		}
	}
	assert.True(t, Match("**/site.yaml", "a/b/site.yaml"))
	assert.True(t, Match("**/site.yaml", "site.yaml"))
	assert.False(t, Match("*/site.yaml", "a/b/site.yaml"))
}

// TestNoneTakesLong, however long the path: one of a lane's with some directories in it took years.
func TestNoneTakesLong(t *testing.T) {
	for _, pattern := range []string{strings.Repeat("**/", 100) + "x", strings.Repeat("**/n/", 100) + "x", strings.Repeat("*n", 100) + "x", strings.Repeat("{n,n*}", 6) + "/**/x"} {
		assert.NoError(t, Check(pattern))
		assert.False(t, Match(pattern, strings.Repeat("n/", 1000)+"y"))
		assert.False(t, Match(pattern, strings.Repeat("n", 2000)+"/y"))
	}
}
