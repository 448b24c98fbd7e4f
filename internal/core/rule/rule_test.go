package rule

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// own is compiled once for all tests.
var own = sync.OnceValue(Load)

// TestOurs: every rule of ours has its reason and its mend, a case that passes and one that does not, and all of them do as they say.
func TestOurs(t *testing.T) {
	files := OurFiles()
	for _, name := range Names() {
		r := own()[name]
		require.NotNil(t, r, "%s.yaml holds no rule of that name", name)
		assert.NotEmpty(t, r.Why, name)
		assert.NotEmpty(t, r.Mend, name)
		data, has := files[name+casesSuffix]
		require.True(t, has, "%s has no cases", name)
		cases, err := ParseCases(name+casesSuffix, data)
		require.NoError(t, err)
		tried, err := Test(own().List(), cases)
		require.NoError(t, err)
		pass := map[bool]int{}
		for _, x := range tried {
			pass[x.Passes]++
			assert.Empty(t, x.Wrong, "%s: %s", name, x.Name)
			for _, f := range Only(own()[name]).Judge(Facts{Ward: x.Ward, Cluster: x.Cluster}, x.Objects, x.Own) {
				assert.False(t, f.Unclear, "%s: %s: %s", name, x.Name, f.Text)
			}
		}
		assert.NotZero(t, pass[true], name)
		assert.NotZero(t, pass[false], name)
	}
}
