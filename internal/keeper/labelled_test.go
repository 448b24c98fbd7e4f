package keeper

import (
	"bytes"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestALabelledLogSaysWhatWithSays(t *testing.T) {
	says := func(with func(*slog.Logger) *slog.Logger) string {
		var out bytes.Buffer
		log := with(slog.New(slog.NewJSONHandler(&out, &slog.HandlerOptions{ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
			if a.Key == slog.TimeKey {
				return slog.Attr{}
			}
			return a
		}})))
		log.Debug("unheard")
		log.Info("the drive was lost", "entry", 7)
		log.With("step", 2).Warn("it waits")
		log.WithGroup("run").Info("it goes on", "entry", 8)
		return out.String()
	}
	want := says(func(l *slog.Logger) *slog.Logger { return l.With("ward", "gate@quay") })
	assert.Contains(t, want, `"ward":"gate@quay","entry":7`)
	assert.Equal(t, want, says(func(l *slog.Logger) *slog.Logger { return labelled(l, slog.String("ward", "gate@quay")) }))
}
