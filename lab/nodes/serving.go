package nodes

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	corev1 "k8s.io/api/core/v1"
)

// Answers is how the containers of an image answer HTTP: with status codes by their shares, after some time, with a body.
type Answers struct {
	Codes   map[string]int `json:"codes"` // status code to its share; 200 alone when empty
	Latency string         `json:"latency"`
	Body    string         `json:"body"`

	latency time.Duration
}

// drain is how long a Pod still answers after it was told to end, as one that finishes what it has begun.
const drain = 3 * time.Second

// served is a Pod that answers HTTP.
type served struct {
	namespace, name, ip, image string
	answers                    Answers
	registry                   *prometheus.Registry
	requests                   *prometheus.CounterVec
	seconds                    prometheus.Histogram

	mu   sync.Mutex
	hand map[string]int
}

// serving is where Pods answer, all on one loopback port: /pods/NAMESPACE/NAME/…, and /targets for a metrics server.
type serving struct {
	url    string
	server *http.Server

	mu   sync.RWMutex
	pods map[string]*served // by namespace/name
	byIP map[string]*served
}

func newServing() (*serving, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &serving{url: "http://" + l.Addr().String(), pods: map[string]*served{}, byIP: map[string]*served{}}
	s.server = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.server.Serve(l) }()
	return s, nil
}

// begin lets a Pod answer; the end that it returns lets it drain.
func (s *serving) begin(p *corev1.Pod, im Image) (end func()) {
	x := &served{namespace: p.Namespace, name: p.Name, ip: podIP(p.UID), image: p.Spec.Containers[0].Image, registry: prometheus.NewRegistry(), hand: map[string]int{}}
	if im.HTTP != nil {
		x.answers = *im.HTTP
	}
	x.requests = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "http_requests_total", Help: "Requests that were answered."}, []string{"code"})
	x.seconds = prometheus.NewHistogram(prometheus.HistogramOpts{Name: "http_request_duration_seconds", Help: "How long they took."})
	x.registry.MustRegister(x.requests, x.seconds)
	for code := range x.codes() {
		x.requests.WithLabelValues(code) // there from the start: a rate of nothing is 0, and known
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pods[x.namespace+"/"+x.name], s.byIP[x.ip] = x, x
	return func() {
		time.AfterFunc(drain, func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			if s.pods[x.namespace+"/"+x.name] == x {
				delete(s.pods, x.namespace+"/"+x.name)
			}
			if s.byIP[x.ip] == x {
				delete(s.byIP, x.ip)
			}
		})
	}
}

func (x *served) codes() map[string]int {
	if len(x.answers.Codes) == 0 {
		return map[string]int{"200": 1}
	}
	return x.answers.Codes
}

// next is the code of the next answer: each as often as its share says.
func (x *served) next() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	chosen, total := "", 0
	for code, share := range x.codes() {
		total += share
		if x.hand[code] += share; chosen == "" || x.hand[code] > x.hand[chosen] || x.hand[code] == x.hand[chosen] && code < chosen {
			chosen = code
		}
	}
	x.hand[chosen] -= total
	return chosen
}

// ServeHTTP answers as the Pod that the path names.
func (s *serving) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	parts := strings.SplitN(strings.TrimPrefix(r.URL.Path, "/"), "/", 4)
	if len(parts) == 1 && parts[0] == "targets" {
		s.targets(w)
		return
	}
	if len(parts) < 3 || parts[0] != "pods" {
		http.NotFound(w, r)
		return
	}
	s.mu.RLock()
	x := s.pods[parts[1]+"/"+parts[2]]
	s.mu.RUnlock()
	if x == nil {
		http.Error(w, "there is no such Pod", http.StatusBadGateway)
		return
	}
	if len(parts) == 4 && parts[3] == "metrics" {
		promhttp.HandlerFor(x.registry, promhttp.HandlerOpts{}).ServeHTTP(w, r)
		return
	}
	began := time.Now()
	time.Sleep(x.answers.latency)
	code := x.next()
	x.requests.WithLabelValues(code).Inc()
	x.seconds.Observe(time.Since(began).Seconds())
	w.Header().Set("X-Pod", x.name)
	w.Header().Set("X-Image", x.image)
	status, err := strconv.Atoi(code)
	if err != nil {
		status = http.StatusOK
	}
	w.WriteHeader(status)
	body := x.answers.Body
	if body == "" {
		body = x.image + "\n"
	}
	fmt.Fprint(w, body)
}

// targets lists the Pods for a metrics server.
// Source: https://prometheus.io/docs/prometheus/latest/http_sd/
func (s *serving) targets(w http.ResponseWriter) {
	type group struct {
		Targets []string          `json:"targets"`
		Labels  map[string]string `json:"labels"`
	}
	all := []group{}
	s.mu.RLock()
	for _, x := range s.pods {
		all = append(all, group{[]string{strings.TrimPrefix(s.url, "http://")}, map[string]string{"__metrics_path__": "/pods/" + x.namespace + "/" + x.name + "/metrics", "namespace": x.namespace, "pod": x.name}})
	}
	s.mu.RUnlock()
	sort.Slice(all, func(i, j int) bool { return all[i].Labels["__metrics_path__"] < all[j].Labels["__metrics_path__"] })
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(all)
}

// At is where the Pod with an IP answers; "" when there is none.
func (f *Yard) At(ip string) string {
	f.serving.mu.RLock()
	defer f.serving.mu.RUnlock()
	x := f.serving.byIP[ip]
	if x == nil {
		return ""
	}
	return f.serving.url + "/pods/" + x.namespace + "/" + x.name
}

// Targets is where a metrics server finds the Pods.
func (f *Yard) Targets() string { return f.serving.url + "/targets" }
