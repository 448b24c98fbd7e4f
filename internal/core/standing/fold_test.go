package standing

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
)

// TestOneLineForMany: at each time as the one stood that stood worst.
func TestOneLineForMany(t *testing.T) {
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	// Each ward is a text such as "0 behind ready, 5 in step ready": minutes, standing and health.
	view := func(text string) *View {
		v := &View{}
		for part := range strings.SplitSeq(text, ", ") {
			if part == "" {
				continue
			}
			var minute int
			rest := ""
			_, err := fmt.Sscanf(part, "%d", &minute)
			assert.NoError(t, err)
			_, rest, _ = strings.Cut(part, " ")
			i := strings.LastIndex(rest, " ")
			v.Standings = append(v.Standings, logbook.Stretch{From: noon.Add(time.Duration(minute) * time.Minute), Standing: rest[:i], Health: rest[i+1:]})
		}
		return v
	}
	for name, c := range map[string]struct {
		wards []string
		want  string
	}{
		"none":                          {nil, ""},
		"one that has said nothing":     {[]string{""}, ""},
		"one is itself":                 {[]string{"0 behind absent, 5 in step ready"}, "0 behind absent, 5 in step ready"},
		"the worse counts":              {[]string{"0 in step ready", "3 drifted ready, 4 in step ready"}, "0 in step ready, 3 drifted ready, 4 in step ready"},
		"one after the other":           {[]string{"0 in step ready, 5 drifted ready, 9 in step ready", "0 in step ready, 7 drifted ready, 12 in step ready"}, "0 in step ready, 5 drifted ready, 12 in step ready"},
		"worst of both, each by itself": {[]string{"0 behind ready, 9 in step ready", "0 in step failing, 4 in step ready"}, "0 behind failing, 4 behind ready, 9 in step ready"},
		"blind is worse than behind":    {[]string{"0 behind ready", "1 blind unknown"}, "0 behind ready, 1 blind unknown"},
	} {
		t.Run(name, func(t *testing.T) {
			var all []*View
			for _, w := range c.wards {
				all = append(all, view(w))
			}
			var got []string
			for _, s := range Common(all) {
				got = append(got, fmt.Sprintf("%d %s %s", int(s.From.Sub(noon).Minutes()), s.Standing, s.Health))
			}
			assert.Equal(t, c.want, strings.Join(got, ", "))
		})
	}
}

// TestWhatNeedsAPersonNeverFolds, nor does anything while all of it fits on a screen.
func TestWhatNeedsAPersonNeverFolds(t *testing.T) {
	var all []*View
	for i := range 60 {
		all = append(all, &View{ID: fmt.Sprint("w", i), Cluster: []string{"quay", "skerry"}[i%2], Standing: compare.InStep, Health: health.Result{Word: health.Ready}})
	}
	all[0].NeedsYou = true
	all[1].Standing = compare.Behind
	all[2].Health.Word = health.Settling
	all[3].Run = &logbook.Entry{}
	all[4].Hold = &logbook.Hold{}
	folded, rest := Fold(all, Quietly, func(v *View) string { return v.Cluster })
	assert.Equal(t, all[:5], rest)
	assert.Len(t, folded["quay"], 27)
	assert.Len(t, folded["skerry"], 28)
	folded, rest = Fold(all[:40], Quietly, func(v *View) string { return v.Cluster })
	assert.Empty(t, folded)
	assert.Len(t, rest, 40)
}
