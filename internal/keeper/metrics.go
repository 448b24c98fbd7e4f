package keeper

import (
	"github.com/prometheus/client_golang/prometheus"
)

// counters are what /metrics tells of the keeper.
type counters struct {
	registry *prometheus.Registry
	fetches  *prometheus.HistogramVec
	renders  prometheus.Counter
	runs     *prometheus.CounterVec
	waits    *prometheus.HistogramVec
	wards    *prometheus.Desc
	queue    *prometheus.Desc
	turns    *prometheus.Desc
	k        *Keeper
}

func newCounters() *counters {
	m := &counters{
		registry: prometheus.NewRegistry(),
		fetches: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "vigila_fetch_seconds", Help: "Time to fetch a repository.",
			Buckets: prometheus.ExponentialBuckets(0.01, 3, 8)}, []string{"repo", "result"}),
		renders: prometheus.NewCounter(prometheus.CounterOpts{Name: "vigila_renders_total", Help: "Trees that were rendered; what has not changed is not rendered again."}),
		runs:    prometheus.NewCounterVec(prometheus.CounterOpts{Name: "vigila_runs_total", Help: "Runs that ended."}, []string{"kind", "outcome"}),
		waits: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "vigila_turn_wait_seconds", Help: "Time a piece of work waited for its turn, by queue.",
			Buckets: prometheus.ExponentialBuckets(0.001, 4, 9)}, []string{"queue"}),
		turns: prometheus.NewDesc("vigila_turn_queue_depth", "Pieces of work that wait for their turn, by queue.", []string{"queue"}, nil),
		wards: prometheus.NewDesc("vigila_wards", "Wards by standing and health.", []string{"standing", "health"}, nil),
		queue: prometheus.NewDesc("vigila_ward_queue_depth", "Events that wait to be looked at, over all wards.", nil, nil),
	}
	m.registry.MustRegister(m.fetches, m.renders, m.runs, m.waits, m)
	return m
}

func (m *counters) watch(k *Keeper) { m.k = k }

// Registry is where /metrics reads from.
func (k *Keeper) Registry() *prometheus.Registry { return k.metrics.registry }

// Describe is part of prometheus.Collector.
func (m *counters) Describe(c chan<- *prometheus.Desc) {
	c <- m.wards
	c <- m.queue
	c <- m.turns
}

// Collect is part of prometheus.Collector.
func (m *counters) Collect(c chan<- prometheus.Metric) {
	if m.k == nil {
		return
	}
	count := map[[2]string]float64{}
	depth := 0
	m.k.mu.RLock()
	for _, p := range m.k.wards {
		v := p.View()
		count[[2]string{string(v.Standing), string(v.Health.Word)}]++
		depth += p.depth()
	}
	queues := map[string]*turns{"fetch": m.k.fetches, "render": m.k.renders}
	for _, l := range m.k.clusters {
		queues["cluster "+l.conf.Name] = l.calls
	}
	m.k.mu.RUnlock()
	for name, t := range queues {
		c <- prometheus.MustNewConstMetric(m.turns, prometheus.GaugeValue, float64(t.depth()), name)
	}
	for k, n := range count {
		c <- prometheus.MustNewConstMetric(m.wards, prometheus.GaugeValue, n, k[0], k[1])
	}
	c <- prometheus.MustNewConstMetric(m.queue, prometheus.GaugeValue, float64(depth))
}
