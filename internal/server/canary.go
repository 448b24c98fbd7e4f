package server

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// GetCanary is GET /wards/{ward}/canary.
func (s *server) GetCanary(c *gin.Context, name WardID, q GetCanaryParams) {
	answer(s, c, canaryOf)(s.Keeper.Canary(c, name, q.Entry))
}

// SayCanary is POST /wards/{ward}/canary.
func (s *server) SayCanary(c *gin.Context, name WardID) {
	in, ok := body[SayCanary](c)
	if !ok {
		return
	}
	answer(s, c, canaryOf)(do(s, c, keeper.SayCanary{Ward: name, Word: canary.Word(in.Word), Why: in.Why}))
}

func canaryOf(c *keeper.CanaryNow) Canary {
	out := Canary{Ward: c.Ward, Entry: c.Run, GoingOn: c.Now, Phase: CanaryPhase(c.Phase), Says: c.Says(), Shares: sharesOf(c.Steps), Share: c.Share, WaitsForPerson: c.Asks(), Began: c.Began, Since: c.Since, SpentSeconds: c.Spent.Seconds(),
		Next: c.Next(), Until: c.Until(), Ended: c.Ended, By: c.By, Why: c.Why, Workloads: []CanaryWorkload{}, Happened: []CanaryLine{}}
	if c.Weight > 0 {
		out.Weight = c.Weight
	}
	if h := c.Held; h != nil {
		out.Held = CanaryHeld{By: h.By, Why: h.Why, At: h.At}
	}
	if g := c.Going; g != nil {
		out.Back = CanaryBack{Reason: g.Reason, At: g.At, Blameless: g.Blameless, Trouble: g.Trouble}
	}
	for i, t := range c.Targets {
		w := CanaryWorkload{Key: t.Ref.Key(), Kind: t.Ref.Kind, Namespace: t.Ref.Namespace, Name: t.Ref.Name, OldImage: t.Images[0], NewImage: t.Images[1], OldSize: t.Old(), InPlace: t.InPlace, SeenShare: t.Share, AsksTraffic: t.Traffic, NewSize: t.Size, NewReady: t.Ready, Reason: t.Reason, Checks: []CanaryCheck{}}
		for _, check := range t.Checks {
			w.Checks = append(w.Checks, checkOf(check, c.TallyOf(i, check.Name)))
		}
		out.Workloads = append(out.Workloads, w)
	}
	for _, l := range c.Log {
		out.Happened = append(out.Happened, CanaryLine{At: l.At, Text: l.Text})
	}
	return out
}

func sharesOf(all []ward.Share) []CanaryShare {
	out := []CanaryShare{}
	for _, s := range all {
		out = append(out, CanaryShare{Percent: s.At, Seconds: int(s.For.Seconds()), Person: s.Person})
	}
	return out
}

func checkOf(c ward.Check, t canary.Tally) CanaryCheck {
	out := CanaryCheck{Name: c.Name, Of: CanaryCheckOfQuery, Text: c.Query, From: c.From, Good: c.Good, Unit: CanaryCheckUnitValue, EverySeconds: int(c.Every.Seconds()), Last: CanaryCheckLast(t.Last), Why: t.Why, At: t.At,
		Asked: t.Asked, Misses: t.Misses, InARow: t.Row, Unknown: t.Unknown, Bears: c.Bears(), Points: []CanaryPoint{}}
	switch {
	case c.Ask != nil:
		out.Of, out.Text, out.Unit = CanaryCheckOfRequest, c.Ask.Where(), CanaryCheckUnitSeconds
	case c.Load != nil:
		out.Of, out.Text, out.Unit = CanaryCheckOfLoad, c.Load.URL, CanaryCheckUnitShare
	}
	if t.Last == "" {
		out.Last = CanaryCheckLast(judge.Unknown)
	}
	if limit, ok := judge.Limit(c.Good); ok {
		out.Limit = &limit
	}
	for _, p := range t.Points {
		out.Points = append(out.Points, CanaryPoint{At: p.At, New: p.New, Old: p.Old, Miss: p.Miss})
	}
	return out
}

// ListMetricsSources is GET /metrics-sources.
func (s *server) ListMetricsSources(c *gin.Context, q ListMetricsSourcesParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []MetricsSource{}
	for _, m := range s.Keeper.MetricsSources() {
		if holds(q.Search, m.Name, m.URL, m.About) {
			items = append(items, metricsOf(m))
		}
	}
	c.JSON(http.StatusOK, MetricsSourceList{Total: len(items), Items: slice(items, limit, offset)})
}

func metricsOf(m keeper.MetricsSource) MetricsSource {
	out := MetricsSource{Name: m.Name, Url: m.URL, User: m.User, SignsIn: m.SignsIn, About: m.About, UsedBy: m.Used}
	if out.UsedBy == nil {
		out.UsedBy = []string{}
	}
	return out
}

// AddMetricsSource is POST /metrics-sources.
func (s *server) AddMetricsSource(c *gin.Context) {
	in, ok := body[AddMetricsSource](c)
	if !ok {
		return
	}
	answer(s, c, metricsOf)(do(s, c, keeper.AddMetrics{Metrics: record.Metrics{Name: in.Name, URL: in.Url, Password: in.Password, Token: in.Token, MetricsMore: record.MetricsMore{User: in.User, CA: in.Ca, About: in.About}}}))
}

// RemoveMetricsSource is DELETE /metrics-sources/{name}.
func (s *server) RemoveMetricsSource(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveMetrics{Name: name})
}

// TryMetricsSource is POST /metrics-sources/{name}/try.
func (s *server) TryMetricsSource(c *gin.Context, name ItemName) {
	in, ok := body[TryMetricsSource](c)
	if !ok {
		return
	}
	answer(s, c, func(a judge.Answer) MetricsAnswer {
		out := MetricsAnswer{Problem: a.Problem, Values: []float64{}}
		out.Values = append(out.Values, a.Samples...)
		return out
	})(s.Keeper.TryMetrics(c, name, in.Query))
}
