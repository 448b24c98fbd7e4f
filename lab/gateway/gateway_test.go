package gateway

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	gateway "sigs.k8s.io/gateway-api/apis/v1"
	"sigs.k8s.io/yaml"
)

func TestTurnsFollowWeights(t *testing.T) {
	g := &Gateway{turns: map[string]*deck{}}
	count := map[string]int{}
	for range 200 {
		count[g.turn("r", map[string]int64{"old": 95, "new": 5, "none": 0})]++
	}
	assert.Equal(t, map[string]int{"old": 190, "new": 10}, count)
	assert.Empty(t, g.turn("r", map[string]int64{"old": 0}))
	assert.Empty(t, g.turn("r", nil))
	clear(count)
	for range 1000 {
		count[g.turn("large", map[string]int64{"old": 700_001, "new": 299_999})]++
	}
	assert.InDelta(t, 300, count["new"], 2)
	assert.Equal(t, "new", g.turn("r", map[string]int64{"new": 1}), "weights that change count at once")
}

func TestTheMostSpecialMatchCounts(t *testing.T) {
	match := func(text string) (m gateway.HTTPRouteMatch) {
		require.NoError(t, yaml.Unmarshal([]byte(text), &m))
		return m
	}
	r, err := http.NewRequest(http.MethodGet, "http://x/fares/7", nil)
	require.NoError(t, err)
	r.Header.Set("X-Track", "new")
	var last []int
	for _, text := range []string{"{}", "{headers: [{name: x-track, value: new}]}", "{method: GET}", "{path: {type: PathPrefix, value: /fares}}", "{path: {type: PathPrefix, value: /fares/7/}}", "{path: {type: Exact, value: /fares/7}}"} {
		rank, ok := fits(match(text), r)
		require.True(t, ok, text)
		if last != nil {
			assert.Positive(t, compare(rank, last), "%s counts more than the one before", text)
		}
		last = rank
	}
	for _, text := range []string{"{headers: [{name: X-Track, value: old}]}", "{method: POST}", "{path: {type: PathPrefix, value: /far}}", "{path: {type: Exact, value: /fares}}"} {
		_, ok := fits(match(text), r)
		assert.False(t, ok, text)
	}
}

func compare(a, b []int) int {
	for i := range a {
		if a[i] != b[i] {
			return a[i] - b[i]
		}
	}
	return 0
}
