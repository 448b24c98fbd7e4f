package keeper

import (
	"context"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func quiet() prometheus.Observer {
	return prometheus.NewHistogram(prometheus.HistogramOpts{Name: "x"})
}

// queue lets one more wait, and returns once it does.
func queue(t *testing.T, ctx context.Context, q *turns, key string, served chan<- string) {
	t.Helper()
	before := q.depth()
	go func() {
		done, err := q.Take(ctx, key)
		if err != nil {
			served <- key + ": " + err.Error()
			return
		}
		served <- key
		done()
	}()
	require.Eventually(t, func() bool { return q.depth() == before+1 }, 5*time.Second, time.Millisecond)
}

func TestTurnsAreFair(t *testing.T) {
	q := newTurns(1, time.Hour, quiet())
	first, err := q.Take(t.Context(), "greedy")
	require.NoError(t, err)
	served := make(chan string, 8)
	for range 3 {
		queue(t, t.Context(), q, "greedy", served)
	}
	queue(t, t.Context(), q, "modest", served)
	queue(t, t.Context(), q, "humble", served)
	first()
	var order []string
	for range 5 {
		order = append(order, <-served)
	}
	assert.Equal(t, []string{"greedy", "modest", "humble", "greedy", "greedy"}, order, "one that asks for much waits for the others in between")
	assert.Zero(t, q.depth())
}

func TestWhatIsToBeginWithATurnStandsInTheSameLine(t *testing.T) {
	q := newTurns(1, time.Hour, quiet())
	first, err := q.Take(t.Context(), "a")
	require.NoError(t, err)
	served := make(chan string, 8)
	spawn := func(f func()) { go f() }
	q.Then("b", spawn, func() { served <- "b" })
	queue(t, t.Context(), q, "c", served)
	q.Then("b", spawn, func() { served <- "b again" })
	assert.Equal(t, 3, q.depth())
	assert.Empty(t, served, "nothing begins before its turn")
	first()
	assert.Equal(t, "b", <-served)
	assert.Equal(t, "c", <-served)
	assert.Equal(t, "b again", <-served)
	require.Eventually(t, func() bool { q.mu.Lock(); defer q.mu.Unlock(); return q.busy == 0 }, 5*time.Second, time.Millisecond)
	q.Then("d", spawn, func() { served <- "d" })
	assert.Equal(t, "d", <-served, "one that is free is taken at once")
}

func TestASlowOneGivesItsSlotBack(t *testing.T) {
	q := newTurns(1, 10*time.Millisecond, quiet())
	_, err := q.Take(t.Context(), "stuck") // and never done
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	done, err := q.Take(ctx, "other")
	require.NoError(t, err)
	done()
	done() // once is enough, twice does no harm
	again, err := q.Take(ctx, "other")
	require.NoError(t, err)
	again()
}

func TestWhoGivesUpIsForgotten(t *testing.T) {
	q := newTurns(1, time.Hour, quiet())
	first, err := q.Take(t.Context(), "a")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	served := make(chan string, 2)
	queue(t, ctx, q, "b", served)
	queue(t, t.Context(), q, "c", served)
	cancel()
	assert.Equal(t, "b: context canceled", <-served)
	first()
	assert.Equal(t, "c", <-served)
	require.Eventually(t, func() bool { q.mu.Lock(); defer q.mu.Unlock(); return q.busy == 0 }, 5*time.Second, time.Millisecond)
}
