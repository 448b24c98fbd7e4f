package keeper

import (
	"context"
	"errors"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/loopback"
	"vigila.dev/vigila/internal/metrics"
	"vigila.dev/vigila/internal/record"
)

// asker asks the checks of canaries.
type asker interface {
	Ask(ctx context.Context, c ward.Check, pods map[string][]string, old bool) (now judge.Answer, before *judge.Answer)
}

// besidePause is how long a look at the two versions of a canary gathers others of its namespace, and how long it waits after one
// that did not go well.
const (
	besidePause  = 100 * time.Millisecond
	besideRepeat = time.Second
)

// lookBeside looks at the old and the new versions of a canary.
func (p *placement) lookBeside(e loop.LookBeside) {
	p.k.spawn(func() {
		ev := loop.LookedBeside{Run: e.Run}
		for _, of := range e.Of {
			s, err := p.side(of)
			if err != nil {
				ev.Problem = err.Error()
				time.AfterFunc(besideRepeat, func() { p.post(ev) })
				return
			}
			ev.Sides = append(ev.Sides, s)
		}
		p.post(ev)
	})
}

func (p *placement) side(of loop.BesideOf) (s canary.Side, err error) {
	workload, err := p.cluster.conn.Get(p.ctx, of.Version, of.Workload)
	if err != nil {
		return s, err
	}
	if of.Twin == of.Workload {
		return p.parts(of, workload)
	}
	twin, err := p.cluster.conn.Get(p.ctx, of.Version, of.Twin)
	if err != nil && !errors.Is(err, cluster.ErrGone) {
		return s, err
	}
	children, err := p.children(of.Workload.Namespace)
	if err != nil {
		return s, err
	}
	s = canary.SideOf(workload, bodies(children, workload), bodies(children, twin))
	return s, p.alone(&s, of, canary.SideOf(twin, bodies(children, twin), nil))
}

// parts looks at a workload of whose Pods some are new.
func (p *placement) parts(of loop.BesideOf, workload map[string]any) (canary.Side, error) {
	children, err := p.children(of.Workload.Namespace)
	if err != nil {
		return canary.Side{}, err
	}
	return canary.PartsOf(workload, bodies(children, workload)), nil
}

// children reads what objects of a namespace own, together with whoever wants to know it now.
func (p *placement) children(namespace string) (cluster.Children, error) {
	type read struct {
		children cluster.Children
		err      error
	}
	got := make(chan read, 1)
	p.cluster.below.want(p.k.ctx, namespace, besidePause, func(c cluster.Children, err error) { got <- read{c, err} })
	select {
	case r := <-got:
		return r.children, r.err
	case <-p.ctx.Done():
		return nil, p.ctx.Err()
	}
}

// alone finds the Services beside that do not lead yet where they are to. twin is the new version as a side of its own.
func (p *placement) alone(s *canary.Side, of loop.BesideOf, twin canary.Side) error {
	for _, x := range []struct {
		services []string
		pods     int
	}{{of.Old, s.ReadyPods()}, {of.New, twin.ReadyPods()}} {
		for _, name := range x.services {
			slices, err := p.cluster.conn.Leads(p.ctx, of.Workload.Namespace, name)
			if err != nil {
				return err
			}
			if !canary.Lead(slices, x.pods) {
				s.Alone = append(s.Alone, name)
			}
		}
	}
	return nil
}

// bodies are the objects below one.
func bodies(c cluster.Children, of map[string]any) (out []map[string]any) {
	meta, _ := of["metadata"].(map[string]any)
	uid, _ := meta["uid"].(string)
	if uid == "" {
		return nil
	}
	for _, o := range c.Below(uid) {
		out = append(out, o.Body)
	}
	return out
}

// askCheck asks a check of a canary.
func (p *placement) askCheck(e loop.AskCheck) {
	p.k.spawn(func() {
		ev := loop.Checked{Run: e.Run, Target: e.Target, Check: e.Check.Name}
		if r := e.Check.Ask; r != nil && r.Service != "" {
			ev.New = p.askService(e, e.Pods[judge.New])
			if e.Old {
				old := p.askService(e, e.Pods[judge.Old])
				ev.Old = &old
			}
		} else {
			ev.New, ev.Old = p.asks(p.ctx, e.Check, e.Pods, e.Old)
		}
		p.post(ev)
	})
}

// asks asks a check of a metrics source, or over the network: at a lookout the service does, which knows the sources.
func (p *placement) asks(ctx context.Context, c ward.Check, pods map[string][]string, old bool) (judge.Answer, *judge.Answer) {
	if up := p.k.up; up != nil {
		return up.ask(ctx, p.ID, c, pods, old)
	}
	return p.k.asks.Ask(ctx, c, pods, old)
}

// askService asks a check of one of some Pods behind a Service.
func (p *placement) askService(e loop.AskCheck, pods []string) judge.Answer {
	r := *e.Check.Ask
	return metrics.Through(p.ctx, e.Check, func(ctx context.Context) (*http.Response, error) {
		leads, err := p.cluster.conn.Leads(ctx, e.Namespace, r.Service)
		if err != nil {
			return nil, err
		}
		pod, port, problem := canary.Endpoint(leads, r.Service, r.Port, pods, rand.IntN(1<<16))
		if problem != "" {
			return nil, errors.New(problem)
		}
		return p.cluster.conn.AskPod(ctx, e.Namespace, pod, port, r.Path, r.Headers)
	})
}

// CanaryNow is a canary as it goes on, or went.
type CanaryNow struct {
	canary.State
	Ward string
	Now  bool // it goes on
}

// Canary is the canary of a ward: of the run that an entry's number names, or, for 0, the newest.
func (k *Keeper) Canary(ctx context.Context, name string, number int) (*CanaryNow, error) {
	return canaryOf.of(ctx, k, name, number)
}

func (k *Keeper) canary(ctx context.Context, p *placement, number int) (*CanaryNow, error) {
	var out *CanaryNow
	err := p.ask(ctx, func() error {
		if c := p.CanaryNow(); c != nil && (number == 0 || number == c.Run) {
			out = &CanaryNow{Ward: p.ID, State: c.State.Clone(), Now: c.Active()}
		}
		return nil
	})
	if err != nil || out != nil {
		return out, err
	}
	var s *canary.State
	if number == 0 {
		s, err = k.store.LastCanary(ctx, p.ID)
	} else {
		s, err = k.store.Canary(ctx, p.ID, number)
	}
	switch {
	case err != nil:
		return nil, err
	case s == nil && number == 0:
		return nil, fault(NotFound, "no run of %s has carried a canary; a ward file asks for one with canary: (docs/canary.md)", p.ID)
	case s == nil:
		return nil, fault(NotFound, "#%d of %s carried no canary", number, p.ID)
	}
	return &CanaryNow{Ward: p.ID, State: *s}, nil
}

// ---- metrics sources

// MetricsSource is a metrics source, without what is secret of it.
type MetricsSource struct {
	record.Metrics
	Used    []string // the wards whose checks ask it
	SignsIn bool
}

// AddMetrics adds a metrics source, or changes one, after asking it something. What is empty of its credentials stays as it was
// when the address is the same.
type AddMetrics struct{ record.Metrics }

// RemoveMetrics forgets a metrics source that no ward asks.
type RemoveMetrics struct{ Name string }

// SayCanary is a word of a person to the canary that goes on in a ward.
type SayCanary struct {
	Ward, Why string
	Word      canary.Word
}

func (w AddMetrics) Subject() Subject    { return Subject{"add", "metrics source", w.Name} }
func (w RemoveMetrics) Subject() Subject { return Subject{"remove", "metrics source", w.Name} }
func (w SayCanary) Subject() Subject     { return Subject{"canary " + string(w.Word), "ward", w.Ward} }

func (w SayCanary) do(ctx context.Context, k *Keeper, by Actor) (*CanaryNow, error) {
	p, err := k.one(w.Ward)
	if err != nil {
		return nil, err
	}
	n, err := p.want(ctx, loop.SayCanary{Word: w.Word, By: by.Name, Why: w.Why})
	if err != nil {
		return nil, err
	}
	return k.Canary(ctx, p.ID, n)
}

func (w AddMetrics) do(ctx context.Context, k *Keeper, _ Actor) (MetricsSource, error) {
	m := w.Metrics
	if err := ward.Name(m.Name); err != nil {
		return MetricsSource{}, fault(Invalid, "name: %v", err)
	}
	if err := ward.Link(m.URL); err != nil {
		return MetricsSource{}, fault(Invalid, "the address of metrics source %s: %v", m.Name, err)
	}
	if strings.ContainsAny(m.URL, "?#") { // a token, often, and it would be shown
		return MetricsSource{}, fault(Invalid, "the address of metrics source %s holds a ? or a #; write it without, and give credentials apart", m.Name)
	}
	k.changing.Lock()
	defer k.changing.Unlock()
	if old, known := k.metricsSource(m.Name); known && old.URL == m.URL && m.User == "" && m.Password == "" && m.Token == "" {
		m.User, m.Password, m.Token = old.User, old.Password, old.Token
	}
	switch {
	case m.Token != "" && m.User != "":
		return MetricsSource{}, fault(Invalid, "metrics source %s: give a token, or a user and a password", m.Name)
	case (m.Token != "" || m.Password != "") && loopback.InTheClear(m.URL):
		return MetricsSource{}, fault(Invalid, "metrics source %s: over plain HTTP its credentials could be read on the way; write https://", m.Name)
	}
	if err := metrics.Try(ctx, sourceOf(m)); err != nil {
		return MetricsSource{}, fault(Unreachable, "%v", err)
	}
	if m.Made.IsZero() {
		m.Made = time.Now()
	}
	if err := k.store.PutMetrics(ctx, m); err != nil {
		return MetricsSource{}, err
	}
	return k.withUse(m), k.readMetrics(ctx)
}

func (w RemoveMetrics) do(ctx context.Context, k *Keeper, _ Actor) (Nothing, error) {
	k.changing.Lock()
	defer k.changing.Unlock()
	m, known := k.metricsSource(w.Name)
	if !known {
		return Nothing{}, k.unknownMetrics(w.Name)
	}
	if used := k.withUse(m).Used; len(used) > 0 {
		return Nothing{}, fault(Conflict, "metrics source %s is asked by the checks of %s; take it out there first", w.Name, used[0])
	}
	if err := k.store.RemoveMetrics(ctx, w.Name); err != nil {
		return Nothing{}, err
	}
	return Nothing{}, k.readMetrics(ctx)
}

// readMetrics reads the metrics sources that the record knows.
func (k *Keeper) readMetrics(ctx context.Context) error {
	all, err := k.store.MetricsSources(ctx)
	if err == nil {
		k.mu.Lock()
		k.measured = all
		k.mu.Unlock()
	}
	return err
}

func (k *Keeper) metricsSource(name string) (m record.Metrics, known bool) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	i := slices.IndexFunc(k.measured, func(m record.Metrics) bool { return m.Name == name })
	if i < 0 {
		return m, false
	}
	return k.measured[i], true
}

func (k *Keeper) unknownMetrics(name string) *Fault {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var known []string
	for _, m := range k.measured {
		known = append(known, m.Name)
	}
	return unknown("metrics source", name, known, "vigila metrics add NAME --url http://…")
}

// MetricsSources lists the metrics sources by name.
func (k *Keeper) MetricsSources() []MetricsSource {
	k.mu.RLock()
	all := slices.Clone(k.measured)
	k.mu.RUnlock()
	out := make([]MetricsSource, len(all))
	for i, m := range all {
		out[i] = k.withUse(m)
	}
	return out
}

// TryMetrics asks a metrics source something, or what a query gives.
func (k *Keeper) TryMetrics(ctx context.Context, name, query string) (judge.Answer, error) {
	m, known := k.metricsSource(name)
	if !known {
		return judge.Answer{}, k.unknownMetrics(name)
	}
	if query == "" {
		if err := metrics.Try(ctx, sourceOf(m)); err != nil {
			return judge.Answer{}, fault(Unreachable, "%v", err)
		}
		return judge.Answer{Value: 1, Samples: []float64{1}}, nil
	}
	if err := judge.CheckQuery(query); err != nil {
		return judge.Answer{}, fault(Invalid, "the query: %v", err)
	}
	if judge.Query(query, nil, false) != query {
		return judge.Answer{}, fault(Invalid, "the query names Pods of a canary; write their names, or .*, in place of ${{ … }} here")
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	return metrics.Query(ctx, sourceOf(m), query), nil
}

// withUse adds which wards ask a metrics source.
func (k *Keeper) withUse(m record.Metrics) MetricsSource {
	out := MetricsSource{Metrics: m, SignsIn: m.Password != "" || m.Token != ""}
	out.Password, out.Token = "", ""
	k.mu.RLock()
	defer k.mu.RUnlock()
	for id, p := range k.kept.all {
		var shared []ward.Check
		if d := p.Says(); d != nil {
			shared = d.Checks
		}
		if slices.Contains(p.Ward.Metrics(shared), m.Name) {
			out.Used = append(out.Used, id)
		}
	}
	slices.Sort(out.Used)
	return out
}

func sourceOf(m record.Metrics) metrics.Source {
	return metrics.Source{Name: m.Name, URL: m.URL, User: m.User, Password: m.Password, Token: m.Token, CA: m.CA}
}
