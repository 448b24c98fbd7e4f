// Package metrics asks what the checks of canaries want to know: queries of servers that speak the Prometheus HTTP API, requests, and
// loads of requests. What is not answered, or not in time, or makes no sense, is a Problem in the answer, never an error: a check knows
// nothing then. Start with Asker.
package metrics

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/prometheus/client_golang/api"
	prometheus "github.com/prometheus/client_golang/api/prometheus/v1"
	"github.com/prometheus/common/model"

	"vigila.dev/vigila/internal/bounded"
	"vigila.dev/vigila/internal/core/judge"
	"vigila.dev/vigila/internal/core/ward"
)

// Source is a server that speaks the Prometheus HTTP API.
// Source: https://prometheus.io/docs/prometheus/latest/querying/api/
type Source struct {
	Name, URL             string
	User, Password, Token string
	CA                    string // PEM of who signs its certificate; "" for the machine's own
}

// The bounds of one answer.
const (
	longest   = 30 * time.Second // for a query or a request; a load lasts twice that at most
	shortest  = time.Second
	maxBody   = 1 << 20  // bytes of a request's answer
	maxResult = 16 << 20 // bytes of a query's
	atATime   = 64       // requests of a load that wait for their answers
)

// Asker asks. Local lets requests of checks reach this machine and its link, which what a repository says may otherwise not.
type Asker struct {
	Source func(name string) (s Source, known bool)
	Local  bool
}

// Ask asks one check. pods are the names of both versions' Pods, old tells that the old version is asked as well.
func (a *Asker) Ask(ctx context.Context, c ward.Check, pods map[string][]string, old bool) (now judge.Answer, before *judge.Answer) {
	switch {
	case c.Load != nil:
		return a.load(ctx, *c.Load, min(max(c.Every, shortest), 2*longest)), nil
	case c.Ask != nil:
		ctx, cancel := context.WithTimeout(ctx, min(max(c.Every, shortest), longest))
		defer cancel()
		return a.request(ctx, a.client(1), *c.Ask), nil
	}
	s, known := a.Source(c.From)
	if !known {
		return judge.Answer{Problem: fmt.Sprintf("there is no metrics source %s; add it: vigila metrics add %s --url …", c.From, c.From)}, nil
	}
	if len(pods[judge.New]) == 0 {
		return judge.Answer{Problem: "the new version has no Pods yet"}, nil
	}
	ctx, cancel := context.WithTimeout(ctx, min(max(c.Every, shortest), longest))
	defer cancel()
	now = Query(ctx, s, judge.Query(c.Query, pods, false))
	if old {
		b := judge.Answer{Problem: "the old version has no Pods"}
		if len(pods[judge.Old]) > 0 {
			b = Query(ctx, s, judge.Query(c.Query, pods, true))
		}
		before = &b
	}
	return now, before
}

// Query asks a source for what a query gives now.
func Query(ctx context.Context, s Source, query string) judge.Answer {
	transport, err := s.transport()
	if err != nil {
		return judge.Answer{Problem: err.Error()}
	}
	defer transport.CloseIdleConnections()
	client, err := api.NewClient(api.Config{Address: s.URL, Client: &http.Client{Transport: signedIn{bounded.Transport(transport, maxResult), s}, CheckRedirect: stay}})
	if err != nil {
		return judge.Answer{Problem: "metrics source " + s.Name + ": " + err.Error()}
	}
	v, _, _, err := prometheus.NewAPI(client).Query(ctx, query, time.Now())
	if err != nil {
		return judge.Answer{Problem: "metrics source " + s.Name + ": " + refused(ctx, err)}
	}
	switch v := v.(type) {
	case *model.Scalar:
		return judge.Of([]float64{float64(v.Value)})
	case model.Vector:
		samples := make([]float64, len(v))
		for i, x := range v {
			samples[i] = float64(x.Value)
		}
		return judge.Of(samples)
	}
	return judge.Answer{Problem: fmt.Sprintf("metrics source %s: the query gives a %s, which is no value", s.Name, v.Type())}
}

// Try asks a source for something that every one of them knows.
func Try(ctx context.Context, s Source) error {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	if a := Query(ctx, s, "vector(1)"); a.Problem != "" {
		return errors.New(a.Problem)
	} else if a.Value != 1 {
		return fmt.Errorf("metrics source %s: vector(1) gives %s; is it a server that speaks the Prometheus HTTP API?", s.Name, judge.Number(a.Value))
	}
	return nil
}

func (s Source) transport() (*http.Transport, error) {
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, TLSHandshakeTimeout: 10 * time.Second, MaxIdleConns: 4}
	if s.CA != "" {
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM([]byte(s.CA)) {
			return nil, fmt.Errorf("metrics source %s: its CA holds no certificate in PEM", s.Name)
		}
		t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	return t, nil
}

// signedIn sends a source's credentials along.
type signedIn struct {
	http.RoundTripper
	s Source
}

func (t signedIn) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	switch {
	case t.s.Token != "":
		r.Header.Set("Authorization", "Bearer "+t.s.Token)
	case t.s.User != "":
		r.SetBasicAuth(t.s.User, t.s.Password)
	}
	return t.RoundTripper.RoundTrip(r)
}

// refused is why a query gave nothing, in the server's words where it speaks the API.
func refused(ctx context.Context, err error) string {
	var e *prometheus.Error
	if !errors.As(err, &e) {
		return inShort(ctx, err)
	}
	switch e.Type {
	case prometheus.ErrClient, prometheus.ErrServer: // a status, and no answer of the API
		_, status, _ := strings.Cut(e.Msg, ": ")
		return "it answers " + status + " to a query; is its address that of a server that speaks the Prometheus HTTP API, and does it want credentials?"
	case prometheus.ErrBadResponse:
		return "its answer is none of the Prometheus HTTP API: " + inShort(ctx, errors.New(e.Msg))
	}
	return inShort(ctx, errors.New(e.Msg))
}

// stay follows no redirect: credentials go where they are to go, and an answer is an answer.
func stay(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

// inShort is why something was not answered.
func inShort(ctx context.Context, err error) string {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return "no answer in time"
	}
	text := err.Error()
	if i := strings.LastIndex(text, `": `); i >= 0 && strings.Contains(text[:i], "http") { // Post "http://…": why
		text = text[i+3:]
	}
	return bounded.Text(text)
}

// client makes requests of checks.
func (a *Asker) client(conns int) *http.Client {
	dial := &net.Dialer{Timeout: 10 * time.Second, Control: a.may}
	return &http.Client{CheckRedirect: stay, Transport: &http.Transport{DialContext: dial.DialContext, MaxIdleConnsPerHost: conns, MaxConnsPerHost: conns, TLSHandshakeTimeout: 10 * time.Second}}
}

// machines are where some clouds answer a machine with what is its own, outside of its link.
var machines = []netip.Addr{netip.MustParseAddr("fd00:ec2::254"), netip.MustParseAddr("100.100.100.200"), netip.MustParseAddr("168.63.129.16"), netip.MustParseAddr("192.0.0.192")}

// may refuses addresses that a file of a repository must not reach from here: this machine's own, and its link's, where clouds answer
// with what is secret.
func (a *Asker) may(_, address string, _ syscall.RawConn) error {
	if a.Local {
		return nil
	}
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap()
	if slices.Contains(machines, ip) || ip.IsLoopback() || ip.IsLinkLocalUnicast() || ip.IsLinkLocalMulticast() || ip.IsMulticast() || ip.IsUnspecified() {
		return fmt.Errorf("%s is this machine's own or its link's, which checks may not reach; the service allows it with --checks-may-reach-local", ip)
	}
	return nil
}

func (a *Asker) request(ctx context.Context, client *http.Client, r ward.Request) judge.Answer {
	defer client.CloseIdleConnections()
	return answered(ctx, func(ctx context.Context) (*http.Response, error) { return send(ctx, client, r) })
}

// Through asks what a check asks of a Pod: ask sends it through the cluster's API server, whose own refusals say nothing of the Pod.
func Through(ctx context.Context, c ward.Check, ask func(context.Context) (*http.Response, error)) judge.Answer {
	ctx, cancel := context.WithTimeout(ctx, min(max(c.Every, shortest), longest))
	defer cancel()
	out := answered(ctx, ask)
	if m, is := out.Body.(map[string]any); is && out.Status >= 400 && m["kind"] == "Status" && m["apiVersion"] == "v1" {
		text, _ := m["message"].(string)
		return judge.Answer{Problem: "the API server: " + inShort(ctx, errors.New(text))}
	}
	return out
}

// answered makes a request, and reads its answer.
func answered(ctx context.Context, ask func(context.Context) (*http.Response, error)) judge.Answer {
	began := time.Now()
	answer, err := ask(ctx)
	if err != nil {
		return judge.Answer{Problem: inShort(ctx, err)}
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, maxBody+1))
	switch {
	case err != nil:
		return judge.Answer{Problem: "the answer breaks off: " + inShort(ctx, err)}
	case len(body) > maxBody:
		return judge.Answer{Problem: fmt.Sprintf("the answer is longer than %d bytes", maxBody)}
	}
	out := judge.Answer{Status: answer.StatusCode, Took: time.Since(began), Body: string(body)}
	var v any
	if json.Unmarshal(body, &v) == nil {
		out.Body = v
	}
	return out
}

func send(ctx context.Context, client *http.Client, r ward.Request) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.URL, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "vigila")
	for k, v := range r.Headers {
		if strings.EqualFold(k, "Host") {
			req.Host = v
		} else {
			req.Header.Set(k, v)
		}
	}
	return client.Do(req)
}

// load sends requests at a steady rate for a while, however long each takes.
func (a *Asker) load(ctx context.Context, r ward.Request, span time.Duration) judge.Answer {
	client := a.client(atATime)
	defer client.CloseIdleConnections()
	ctx, cancel := context.WithTimeout(ctx, span+longest/3)
	defer cancel()
	var (
		mu    sync.Mutex
		out   = judge.Load{Codes: map[string]int{}}
		took  []time.Duration
		wait  sync.WaitGroup
		why   string
		slots = make(chan struct{}, atATime)
	)
	one := func() {
		defer wait.Done()
		defer func() { <-slots }()
		began := time.Now()
		answer, err := send(ctx, client, r)
		code, failed := "none", true
		if err == nil {
			_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, maxBody))
			_ = answer.Body.Close()
			code, failed = fmt.Sprint(answer.StatusCode), answer.StatusCode >= 500
		}
		mu.Lock()
		defer mu.Unlock()
		out.Sent++
		out.Codes[code]++
		took = append(took, time.Since(began))
		if failed {
			out.Failed++
		}
		if err != nil {
			why = inShort(ctx, err)
		}
	}
	tick := time.NewTicker(time.Second / time.Duration(max(r.Rate, 1)))
	defer tick.Stop()
	for end := time.After(span); ; {
		select {
		case <-ctx.Done():
		case <-end:
		case <-tick.C:
			select {
			case slots <- struct{}{}:
				wait.Add(1)
				go one()
			default: // so many wait already: what is not sent says as much as what is not answered
				mu.Lock()
				out.Sent, out.Failed, out.Codes["none"] = out.Sent+1, out.Failed+1, out.Codes["none"]+1
				mu.Unlock()
			}
			continue
		}
		break
	}
	wait.Wait()
	if out.Codes["none"] == out.Sent { // nobody has answered at all: that says more of the way there than of the new version
		if why == "" {
			why = "nothing was sent"
		}
		return judge.Answer{Problem: "none of the load was answered: " + why}
	}
	slices.Sort(took)
	out.P50, out.P95, out.P99 = at(took, 50), at(took, 95), at(took, 99)
	return judge.Answer{Load: &out}
}

// at is a percentile of sorted times: the smallest that so many per cent do not exceed.
func at(sorted []time.Duration, percent int) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[(len(sorted)*percent+99)/100-1]
}
