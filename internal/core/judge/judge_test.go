package judge

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatAnAnswerMeans(t *testing.T) {
	of := func(v float64) *Answer { a := Of([]float64{v}); return &a }
	load := Answer{Load: &Load{Sent: 200, Failed: 2, Codes: map[string]int{"200": 198, "503": 2}, P99: 40 * time.Millisecond}}
	for _, c := range []struct {
		name, good string
		now        Answer
		old        *Answer
		want       Word
		why        string
	}{
		{"below the limit", "value < 0.05", *of(0.01), nil, Good, "value 0.01"},
		{"above it", "value < 0.05", *of(0.125), nil, Bad, "value 0.125; good is value < 0.05"},
		{"a whole number beside one that is none", "value < 1", *of(0.5), nil, Good, "value 0.5"},
		{"no worse than the old one", "value < 1.5 * old.value", *of(0.2), of(0.2), Good, "value 0.2"},
		{"worse than the old one", "value < 1.5 * old.value", *of(0.4), of(0.2), Bad, "value 0.4, the old version value 0.2; good is value < 1.5 * old.value"},
		{"the old one tells nothing", "value < old.value", *of(0.4), &Answer{Problem: "no answer in time"}, Unknown, "of the old version: no answer in time"},
		{"the old one was not asked", "value < old.value", *of(0.4), nil, Unknown, "the old version was not asked"},
		{"nothing", "value < 0.05", Of(nil), nil, Unknown, "the query gives no data"},
		{"0/0", "value < 0.05", *of(math.NaN()), nil, Unknown, "which is no number to judge by"},
		{"a problem is never good", "true", Answer{Problem: "connection refused"}, nil, Unknown, "connection refused"},
		{"each series", "samples.all(x, x < 1.0)", Of([]float64{0.5, 2}), nil, Bad, "value 0.5"},
		{"a request", "status == 200 && has(body.delivery_date)", Answer{Status: 200, Body: map[string]any{"delivery_date": "today"}, Took: time.Second}, nil, Good, "answered 200 in 1s"},
		{"a request that lacks something", "status == 200 && has(body.delivery_date)", Answer{Status: 200, Body: map[string]any{}}, nil, Bad, "answered 200"},
		{"a body that is no JSON", "has(body.delivery_date)", Answer{Status: 502, Body: "bad gateway"}, nil, Bad, "answered 502"},
		{"a field that is not there", "body.delivery.date > 3", Answer{Status: 200, Body: map[string]any{}}, nil, Bad, "can't be worked out on this answer"},
		{"a load", "load.failed_share <= 0.01 && load.p99 < 0.05", load, nil, Good, "2 of 200 failed, p99 40ms"},
		{"a load's codes", "!('503' in load.codes)", load, nil, Bad, "2 of 200 failed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := Compile(c.good)
			require.NoError(t, err)
			v := r.Judge(c.now, c.old)
			assert.Equal(t, c.want, v.Word)
			assert.Contains(t, v.Why, c.why)
		})
	}
}

func TestAnExpressionIsRefusedBeforeItIsUsed(t *testing.T) {
	for text, want := range map[string]string{
		"valu < 0.05": "undeclared reference to 'valu'",
		"value":       "it is a double",
		"value <":     "Syntax error",
		"'x'":         "it is a string",
	} {
		_, err := Compile(text)
		assert.ErrorContains(t, err, want, text)
	}
	r, err := Compile("value < old.value")
	require.NoError(t, err)
	assert.True(t, r.ComparesOld())
	r, err = Compile("value < 1.0")
	require.NoError(t, err)
	assert.False(t, r.ComparesOld())
}

func TestAQueryNamesPods(t *testing.T) {
	pods := map[string][]string{New: {"gate-new-1", "gate-new-2"}, Old: {"gate-1"}}
	text := `sum(rate(x{pod=~"${{ new.pods }}"}[1m])) / sum(rate(x{pod=~"${{old.pods}}"}[1m]))`
	assert.Equal(t, `sum(rate(x{pod=~"gate-new-1|gate-new-2"}[1m])) / sum(rate(x{pod=~"gate-1"}[1m]))`, Query(text, pods, false))
	assert.Equal(t, `sum(rate(x{pod=~"gate-1"}[1m])) / sum(rate(x{pod=~"gate-1"}[1m]))`, Query(text, pods, true), "asked of the other side")
	assert.Equal(t, `x{pod=~"none"}`, Query(`x{pod=~"${{ new.pods }}"}`, nil, false), "an empty expression would match what has no such label")
	for text, want := range map[string]string{
		`rate(x[1m]`:                "unclosed left parenthesis",
		`x[1m]`:                     "it gives a range vector",
		`x{pod=~"${{ next.pods }}"`: "${{ next.pods }} is not known here",
		`"text"`:                    "it gives a string",
	} {
		assert.ErrorContains(t, CheckQuery(text), want, text)
	}
	assert.NoError(t, CheckQuery(text))
	assert.NoError(t, CheckQuery("vector(1)"))
}

func TestLimit(t *testing.T) {
	for good, want := range map[string]float64{"value < 0.05": 0.05, " seconds<=2 ": 2, "load.failed_share < 1e-2": 0.01} {
		limit, ok := Limit(good)
		assert.True(t, ok, good)
		assert.InDelta(t, want, limit, 1e-9, good)
	}
	for _, good := range []string{"value < 1.5 * old.value", "status == 200", "value < 0.05 && true"} {
		_, ok := Limit(good)
		assert.False(t, ok, good)
	}
}
