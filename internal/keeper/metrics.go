package keeper

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/run"
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
	sent     *prometheus.CounterVec
	more     map[string]*prometheus.Desc // of what is read when it is asked for
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
		sent:  prometheus.NewCounterVec(prometheus.CounterOpts{Name: "vigila_delivery_tries_total", Help: "Tries to deliver a message, by way and by how it went: delivered, failed (it is tried again) or given up."}, []string{"way", "result"}),
		more: map[string]*prometheus.Desc{
			"troubles":   prometheus.NewDesc("vigila_troubles", "What needs somebody now, by the topics of alerts; owner and cluster are empty for what is of no ward.", []string{"topic", "owner", "cluster"}, nil),
			"readable":   prometheus.NewDesc("vigila_readable", "Whether what is looked at could be read at the last look, 1 or 0; none before the first look.", []string{"kind", "name"}, nil),
			"ends":       prometheus.NewDesc("vigila_credentials_end_timestamp_seconds", "When a credential ends, of those whose end is known.", []string{"kind", "name"}, nil),
			"waiting":    prometheus.NewDesc("vigila_deliveries_waiting", "Messages that are to be delivered.", nil, nil),
			"oldest":     prometheus.NewDesc("vigila_delivery_oldest_seconds", "How long the oldest message waits that is to be delivered; 0 when there is none.", nil, nil),
			"unwritable": prometheus.NewDesc("vigila_record_failed", "1 while something can't be read from the record, or written to it, that /metrics asks for.", nil, nil),
		},
		queue: prometheus.NewDesc("vigila_ward_queue_depth", "Events that wait to be looked at, over all wards.", nil, nil),
	}
	m.registry.MustRegister(m.fetches, m.renders, m.runs, m.waits, m.sent, m)
	return m
}

func (m *counters) watch(k *Keeper) { m.k = k }

// ran counts a run that has ended, here or at a lookout, which may say what it likes.
func (m *counters) ran(kind logbook.Kind, outcome logbook.Outcome) {
	if slices.Contains([]logbook.Kind{run.Sync, run.Restore, run.Rollback, run.Dismantle}, kind) &&
		slices.Contains([]logbook.Outcome{run.Done, run.Failed, run.RolledBack, run.Stopped, run.Interrupted}, outcome) {
		m.runs.WithLabelValues(string(kind), string(outcome)).Inc()
	}
}

// Registry is where /metrics reads from.
func (k *Keeper) Registry() *prometheus.Registry { return k.metrics.registry }

// Describe is part of prometheus.Collector.
func (m *counters) Describe(c chan<- *prometheus.Desc) {
	c <- m.wards
	c <- m.queue
	c <- m.turns
	for _, d := range m.more {
		c <- d
	}
}

// Collect is part of prometheus.Collector.
func (m *counters) Collect(c chan<- prometheus.Metric) {
	if m.k == nil {
		return
	}
	count := map[[2]string]float64{}
	depth := 0
	m.k.mu.RLock()
	for _, p := range m.k.kept.all {
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
	m.collectTroubles(c)
}

// collectTroubles tells what needs somebody, what can't be read, what ends, and what is not delivered yet.
func (m *counters) collectTroubles(c chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(m.k.ctx, 10*time.Second)
	defer cancel()
	gauge := func(what string, v float64, labels ...string) {
		c <- prometheus.MustNewConstMetric(m.more[what], prometheus.GaugeValue, v, labels...)
	}
	troubles, _, err := m.k.troubles(ctx)
	count := map[[3]string]float64{}
	for _, t := range troubles {
		count[[3]string{string(t.Topic), t.Of.Owner, t.Of.Cluster}]++
	}
	for k, n := range count {
		gauge("troubles", n, k[:]...)
	}
	for of, well := range m.k.readable() {
		gauge("readable", map[bool]float64{true: 1}[well], of[0], of[1])
	}
	ends, err2 := m.k.ends(ctx)
	for _, e := range ends {
		gauge("ends", float64(e.at.Unix()), e.kind, e.name)
	}
	waiting, oldest, err3 := m.k.store.Waiting(ctx)
	gauge("waiting", float64(waiting))
	age := 0.0
	if !oldest.IsZero() {
		age = max(0, time.Since(oldest).Seconds())
	}
	gauge("oldest", age)
	failed := 0.0
	if errors.Join(err, err2, err3) != nil {
		failed = 1
	}
	gauge("unwritable", failed)
}

// readable tells of each repository, cluster and store, by kind and name, whether it could be read at the last look.
func (k *Keeper) readable() map[[2]string]bool {
	out := map[[2]string]bool{}
	for _, r := range k.Repos() {
		if r.Repository.Known || r.Repository.Problem != "" {
			out[[2]string{"repository", r.Name}] = r.Repository.Problem == ""
		}
	}
	k.mu.RLock()
	for name, l := range k.clusters {
		if l.away != nil {
			_, out[[2]string{"cluster", name}] = l.away.heard()
			continue
		}
		if l.err != nil {
			out[[2]string{"cluster", name}] = false
			continue
		}
		if s, watches := l.conn.AllWatches(); watches > 0 && (s.Known || s.Problem != "") {
			out[[2]string{"cluster", name}] = s.Known
		}
	}
	k.mu.RUnlock()
	for _, l := range k.storeLoops() {
		l.mu.Lock()
		if !l.looked.IsZero() {
			out[[2]string{"store", l.conf.Name}] = l.problem == ""
		}
		l.mu.Unlock()
	}
	return out
}
