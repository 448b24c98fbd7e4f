// Package faults is a proxy in front of an API server that makes faults on demand: it drops watches, answers 410 Gone,
// is slow, is silent, breaks off in the middle of an answer, is busy, or is not there at all. Start with Proxy.
package faults

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"
	"k8s.io/client-go/util/cert"
)

// Kinds lists the faults that a proxy can make.
//
//	none    everything passes
//	down    connections are cut and refused
//	silent  requests are taken and never answered
//	slow    every answer waits for Delay
//	half    answers, watches too, break off in the middle
//	busy    429, 500 or 503 instead of an answer
//	gone    every watch is told that its resourceVersion is too old (410)
var Kinds = []string{"none", "down", "silent", "slow", "half", "busy", "gone"}

// Fault is what the proxy does to a share of the requests.
type Fault struct {
	Kind  string        `json:"kind"`
	Share float64       `json:"share"` // of the requests, 0 to 1; 1 when 0
	Delay time.Duration `json:"delay"` // of slow, in nanoseconds
}

// Proxy stands between a client and an API server.
type Proxy struct {
	URL string

	target  *url.URL
	forward *httputil.ReverseProxy
	server  *http.Server
	inner   net.Listener

	mu    sync.Mutex
	fault Fault
	free  chan struct{} // closed when the fault changes: what is silent or slow goes on
	conns map[net.Conn]struct{}
	dice  *rand.Rand
	count map[string]int
}

// Start makes a proxy to the API server of a kubeconfig. The same seed makes the same choices.
func Start(cfg *rest.Config, seed uint64) (*Proxy, error) {
	target, err := url.Parse(cfg.Host)
	if err != nil {
		return nil, err
	}
	transport, err := rest.TransportFor(cfg)
	if err != nil {
		return nil, err
	}
	p := &Proxy{target: target, free: make(chan struct{}), conns: map[net.Conn]struct{}{}, dice: rand.New(rand.NewPCG(seed, 1)), count: map[string]int{}}
	p.forward = httputil.NewSingleHostReverseProxy(target)
	p.forward.Transport, p.forward.FlushInterval = transport, -1
	p.forward.ErrorLog = log.New(discard{}, "", 0)
	p.forward.ErrorHandler = func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) }
	certificate, key, err := cert.GenerateSelfSignedCertKey("127.0.0.1", []net.IP{net.IPv4(127, 0, 0, 1)}, nil)
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err != nil {
		return nil, err
	}
	if p.inner, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	p.URL = "https://" + p.inner.Addr().String()
	// HTTP/1.1: a connection for each watch, so that one can be cut without the others.
	p.server = &http.Server{Handler: p, ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(discard{}, "", 0), ConnState: p.connState,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{pair}, NextProtos: []string{"http/1.1"}, MinVersion: tls.VersionTLS12}}
	go func() { _ = p.server.ServeTLS(p.inner, "", "") }()
	return p, nil
}

type discard struct{}

func (discard) Write(b []byte) (int, error) { return len(b), nil }

// Close ends the proxy and every connection.
func (p *Proxy) Close() {
	p.Set(Fault{Kind: "none"})
	_ = p.server.Close()
}

// Kubeconfig writes a kubeconfig that leads through the proxy.
func (p *Proxy) Kubeconfig(file, name string) error {
	k := clientcmdapi.NewConfig()
	k.Clusters[name] = &clientcmdapi.Cluster{Server: p.URL, InsecureSkipTLSVerify: true}
	k.AuthInfos["admin"] = &clientcmdapi.AuthInfo{}
	k.Contexts[name] = &clientcmdapi.Context{Cluster: name, AuthInfo: "admin"}
	k.CurrentContext = name
	if err := clientcmd.WriteToFile(*k, file); err != nil {
		return err
	}
	return os.Chmod(file, 0o600)
}

func (p *Proxy) connState(c net.Conn, s http.ConnState) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch s {
	case http.StateNew:
		if p.fault.Kind == "down" {
			_ = c.Close()
			return
		}
		p.conns[c] = struct{}{}
	case http.StateClosed, http.StateHijacked:
		delete(p.conns, c)
	}
}

// Set changes the fault. What was held back by the one before is let go.
func (p *Proxy) Set(f Fault) {
	p.mu.Lock()
	p.fault = f
	close(p.free)
	p.free = make(chan struct{})
	p.mu.Unlock()
	if f.Kind == "down" || f.Kind == "silent" || f.Kind == "gone" || f.Kind == "half" { // what flows already would not notice
		p.Cut()
	}
}

// Cut drops every connection, once.
func (p *Proxy) Cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for c := range p.conns {
		_ = c.Close()
	}
	clear(p.conns)
}

// Counts is how many requests met each kind of fault.
func (p *Proxy) Counts() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	var out []string
	for kind, n := range p.count {
		out = append(out, fmt.Sprintf("%s %d", kind, n))
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

func (p *Proxy) choose(watch bool) (Fault, chan struct{}, int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	f := p.fault
	share := f.Share
	if share == 0 {
		share = 1
	}
	hit, n := p.dice.Float64() < share, p.dice.IntN(1<<16)
	if f.Kind == "" || !hit || f.Kind == "gone" && !watch {
		f = Fault{Kind: "none"}
	}
	p.count[f.Kind]++
	return f, p.free, n
}

// ServeHTTP is part of http.Handler.
func (p *Proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	watch := r.URL.Query().Get("watch") != ""
	f, free, n := p.choose(watch)
	r.Host = p.target.Host
	switch f.Kind {
	case "down":
		panic(http.ErrAbortHandler)
	case "silent":
		select {
		case <-free:
		case <-r.Context().Done():
		}
		panic(http.ErrAbortHandler)
	case "slow":
		select {
		case <-time.After(f.Delay):
		case <-free:
		case <-r.Context().Done():
			return
		}
	case "busy":
		status(w, []int{http.StatusTooManyRequests, http.StatusInternalServerError, http.StatusServiceUnavailable}[n%3])
		return
	case "gone":
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"type": "ERROR", "object": failure(http.StatusGone)})
		return
	case "half":
		if watch {
			w = &cutter{ResponseWriter: w, left: 200 + n%4000}
		} else {
			rec := &recorder{header: http.Header{}}
			p.forward.ServeHTTP(rec, r)
			for k, v := range rec.header {
				w.Header()[k] = v
			}
			w.Header().Set("Content-Length", fmt.Sprint(rec.body.Len()))
			w.WriteHeader(max(rec.status, http.StatusOK))
			_, _ = w.Write(rec.body.Bytes()[:rec.body.Len()/2])
			if f, ok := w.(http.Flusher); ok {
				f.Flush()
			}
			panic(http.ErrAbortHandler)
		}
	}
	p.forward.ServeHTTP(w, r)
}

func failure(code int) map[string]any {
	reason := map[int]string{410: "Expired", 429: "TooManyRequests", 500: "InternalError", 503: "ServiceUnavailable"}[code]
	return map[string]any{"kind": "Status", "apiVersion": "v1", "status": "Failure", "reason": reason, "message": "a bad moment", "code": code}
}

func status(w http.ResponseWriter, code int) {
	w.Header().Set("Content-Type", "application/json")
	if code == http.StatusTooManyRequests {
		w.Header().Set("Retry-After", "0")
	}
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(failure(code))
}

// cutter breaks off after some bytes.
type cutter struct {
	http.ResponseWriter
	left int
}

func (c *cutter) Write(b []byte) (int, error) {
	if len(b) < c.left {
		c.left -= len(b)
		return c.ResponseWriter.Write(b)
	}
	_, _ = c.ResponseWriter.Write(b[:c.left])
	c.Flush()
	panic(http.ErrAbortHandler)
}

// Flush is part of http.Flusher.
func (c *cutter) Flush() {
	if f, ok := c.ResponseWriter.(http.Flusher); ok {
		f.Flush()
	}
}

type recorder struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (r *recorder) Header() http.Header         { return r.header }
func (r *recorder) WriteHeader(code int)        { r.status = code }
func (r *recorder) Write(b []byte) (int, error) { return r.body.Write(b) }

// Control answers POST /KIND?share=0.5&delay=2s by making that fault, and POST /cut by cutting every connection once.
func (p *Proxy) Control() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind := strings.TrimPrefix(r.URL.Path, "/")
		f := Fault{Kind: kind}
		q := r.URL.Query()
		if s := q.Get("share"); s != "" {
			if _, err := fmt.Sscan(s, &f.Share); err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
				return
			}
		}
		if d := q.Get("delay"); d != "" {
			var err error
			if f.Delay, err = time.ParseDuration(d); err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
				return
			}
		}
		switch {
		case r.Method != http.MethodPost:
			http.Error(w, "POST a kind of fault", http.StatusMethodNotAllowed)
		case kind == "cut":
			p.Cut()
		case !slices.Contains(Kinds, kind):
			http.Error(w, "there is no fault "+kind+"; there are: cut, "+strings.Join(Kinds, ", "), http.StatusNotFound)
		default:
			p.Set(f)
		}
	})
}
