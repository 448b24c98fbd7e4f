package keeper

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/standing"
)

func TestListenersLoseNoChange(t *testing.T) {
	k := &Keeper{broker: newBroker()}
	l := k.Listen()
	for range 3 {
		k.broker.send(Note{"ward", "a"})
	}
	k.broker.send(Note{"ward", "b"})
	<-l.Wake()
	assert.Equal(t, []Note{{"ward", "a"}, {"ward", "b"}}, l.Take(), "each once, however slow the listener")
	assert.Empty(t, l.Take())
	k.broker.send(Note{"ward", "a"})
	<-l.Wake()
	assert.Len(t, l.Take(), 1)
	l.Close()
	k.broker.send(Note{"ward", "a"})
	assert.Empty(t, l.Take())
}

// TestNobodyStandsByWhatWasReadBefore for long once the repository may have moved: a cluster that is silent while it is asked for its
// kinds held a ward in step with a commit of before.
func TestNobodyStandsByWhatWasReadBefore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newStage(t, 2)
		defer s.end()
		s.wards[0].Keep.Sync, s.wards[0].Keep.Drift = "auto", "restore"
		s.commit()
		s.open()
		time.Sleep(10 * time.Minute)
		p := s.ps[0]
		stands := func(long time.Duration, reading bool) compare.Standing {
			var at compare.Standing
			require.NoError(t, p.ask(t.Context(), func() error {
				p.rendering, p.renderFrom = reading, time.Now().Add(-long)
				p.publish()
				at = p.View().Standing
				return nil
			}))
			return at
		}
		require.Equal(t, compare.InStep, p.View().Standing, p.View().Says)
		assert.Equal(t, compare.InStep, stands(standing.ReadLong-time.Second, true), "it may be the same")
		assert.Equal(t, compare.Blind, stands(standing.ReadLong, true))
		assert.Contains(t, p.View().Says, "is still being read")
		assert.Equal(t, compare.InStep, stands(standing.ReadLong, false))
	})
}
