package audit

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// account is some entries, bound.
func account(t *testing.T, n int) (lines []Line) {
	before := ""
	for i := range n {
		l, err := Bind(Entry{Number: i + 1, At: time.Date(2026, 11, 27, 3, 0, i, 1234567, time.FixedZone("x", 3600)), By: "operator", Verb: "hold", Of: "ward", Name: fmt.Sprintf("pier-%d@quay", i),
			With: map[string]string{"why": "gale", "until": "dawn", "a": "b"}, Outcome: Done}, before)
		require.NoError(t, err)
		before = l.Hash
		lines = append(lines, l)
	}
	return lines
}

// verify is what is wrong with lines; "" when nothing is.
func verify(lines []Line) string {
	c := Chain{Next: 1}
	for _, l := range lines {
		if err := c.Verify(l); err != nil {
			return err.Error()
		}
	}
	return ""
}

func TestNothingCanBeChangedUnseen(t *testing.T) {
	rebound := func(l Line, before string) Line { l.Hash = sum(before, l.Text); return l }
	for name, c := range map[string]struct {
		tamper func([]Line) []Line
		want   string
	}{
		"as it was written": {func(l []Line) []Line { return l }, ""},
		"another name":      {func(l []Line) []Line { l[2].Text = strings.Replace(l[2].Text, "operator", "somebody", 1); return l }, "entry 3 is not what was written"},
		"bound anew, but not those after": {func(l []Line) []Line {
			l[2].Text = strings.Replace(l[2].Text, "operator", "somebody", 1)
			l[2] = rebound(l[2], l[1].Hash)
			return l
		}, "entry 4 is not what was written"},
		"one is taken out":       {func(l []Line) []Line { return slices.Delete(l, 2, 3) }, "entry 3 is missing; the next is 4"},
		"the first is taken out": {func(l []Line) []Line { return l[1:] }, "entry 1 is missing"},
		"two change places":      {func(l []Line) []Line { l[1], l[2] = l[2], l[1]; return l }, "entry 2 is missing"},
		"one stands twice":       {func(l []Line) []Line { return slices.Insert(l, 3, l[2]) }, "entry 3 is there twice"},
		"another number": {func(l []Line) []Line {
			l[2].Text = strings.Replace(l[2].Text, `"number":3`, `"number":9`, 1)
			l[2] = rebound(l[2], l[1].Hash)
			return l
		}, "entry 3 can't be read"},
		"no text": {func(l []Line) []Line { l[2].Text = ""; l[2] = rebound(l[2], l[1].Hash); return l }, "entry 3 can't be read"},
	} {
		got := verify(c.tamper(account(t, 6)))
		if c.want == "" {
			assert.Empty(t, got, name)
		} else {
			assert.Contains(t, got, c.want, name)
		}
	}
	c := Chain{Before: account(t, 6)[2].Hash, Next: 4} // what is older was forgotten
	for _, l := range account(t, 6)[3:] {
		assert.NoError(t, c.Verify(l))
	}
}

func TestAnEntryIsWrittenTheSameAlways(t *testing.T) {
	l := account(t, 1)[0]
	assert.Equal(t, `{"number":1,"at":"2026-11-27T02:00:00.001Z","by":"operator","verb":"hold","of":"ward","name":"pier-0@quay","with":{"a":"b","until":"dawn","why":"gale"},"outcome":"done"}`, l.Text)
	var e Entry
	require.NoError(t, json.Unmarshal([]byte(l.Text), &e))
	again, err := Bind(e, "")
	require.NoError(t, err)
	assert.Equal(t, l, again)
}

func TestLongTextsAreCutAndSaySo(t *testing.T) {
	long := strings.Repeat("é", 10_000)
	with := map[string]string{"why": long}
	l, err := Bind(Entry{Why: long, With: with}, "")
	require.NoError(t, err)
	assert.Less(t, len(l.Text), 20_000)
	assert.Equal(t, 2, strings.Count(l.Text, "… (11808 bytes more)"))
	assert.Equal(t, long, with["why"], "whose it is keeps it")
	assert.NotContains(t, l.Text, "\ufffd")
}

func TestWhatIsAnother(t *testing.T) {
	was, is := Change(map[string]string{"url": "a", "user": "x", "about": "same"}, map[string]string{"url": "b", "about": "same", "key": "yes"})
	assert.Equal(t, map[string]string{"url": "a", "user": "x"}, was)
	assert.Equal(t, map[string]string{"url": "b", "key": "yes"}, is)
}
