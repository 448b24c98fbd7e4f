// Package gateway stands in for a gateway of the Gateway API: it follows the HTTPRoutes of a cluster and their weights, leads real
// requests on a loopback port to the Pods behind their Services, and says in the routes' status that it has taken them in. Every
// Gateway that a route names is its own. Start with Start.
package gateway

import (
	"cmp"
	"context"
	_ "embed"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	discoveryv1 "k8s.io/api/discovery/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/dynamic/dynamicinformer"
	"k8s.io/client-go/informers"
	"k8s.io/client-go/kubernetes"
	discoverylisters "k8s.io/client-go/listers/discovery/v1"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/cache"
	gateway "sigs.k8s.io/gateway-api/apis/v1"
	"sigs.k8s.io/yaml"
)

//go:embed httproutes.yaml
var definition []byte

var (
	routes      = gateway.SchemeGroupVersion.WithResource("httproutes")
	definitions = schema.GroupVersionResource{Group: "apiextensions.k8s.io", Version: "v1", Resource: "customresourcedefinitions"}
)

// controller is what the gateway calls itself in the status of routes.
const controller = "vigila.dev/lab"

// Gateway is a running gateway.
type Gateway struct {
	URL string

	client    dynamic.Interface
	routes    cache.SharedIndexInformer
	endpoints discoverylisters.EndpointSliceLister
	at        func(ip string) string // the address of a Pod; "" when there is none
	server    *http.Server
	proxy     *httputil.ReverseProxy
	done      sync.WaitGroup

	mu    sync.Mutex
	turns map[string]*deck // of the backends of a rule, and of the endpoints of a Service
}

// Install defines HTTPRoute in a cluster, unless it is defined.
func Install(ctx context.Context, cfg *rest.Config) error {
	client, err := dynamic.NewForConfig(cfg)
	if err != nil {
		return err
	}
	body := map[string]any{}
	if err := yaml.Unmarshal(definition, &body); err != nil {
		return err
	}
	o := &unstructured.Unstructured{Object: body}
	if _, err := client.Resource(definitions).Create(ctx, o, metav1.CreateOptions{FieldManager: controller}); err != nil && !apierrors.IsAlreadyExists(err) {
		return fmt.Errorf("define HTTPRoute: %w", err)
	}
	for { // until it is served
		if _, err := client.Resource(routes).List(ctx, metav1.ListOptions{Limit: 1}); err == nil || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Start follows the routes of a cluster until the context ends. at tells where a Pod answers, by its IP.
func Start(ctx context.Context, cfg *rest.Config, at func(ip string) string) (*Gateway, error) {
	if err := Install(ctx, cfg); err != nil {
		return nil, err
	}
	client, err := dynamic.NewForConfig(cfg)
	if err != nil {
		return nil, err
	}
	typed, err := kubernetes.NewForConfig(cfg)
	if err != nil {
		return nil, err
	}
	g := &Gateway{client: client, at: at, turns: map[string]*deck{}}
	follow := dynamicinformer.NewDynamicSharedInformerFactory(client, 0)
	g.routes = follow.ForResource(routes).Informer()
	if _, err := g.routes.AddEventHandler(cache.ResourceEventHandlerFuncs{
		AddFunc:    func(o any) { g.accept(ctx, o) },
		UpdateFunc: func(_, o any) { g.accept(ctx, o) },
	}); err != nil {
		return nil, err
	}
	factory := informers.NewSharedInformerFactory(typed, 0)
	g.endpoints = factory.Discovery().V1().EndpointSlices().Lister()
	factory.Start(ctx.Done())
	follow.Start(ctx.Done())
	factory.WaitForCacheSync(ctx.Done())
	follow.WaitForCacheSync(ctx.Done())
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	g.URL = "http://" + l.Addr().String()
	g.proxy = &httputil.ReverseProxy{Rewrite: func(*httputil.ProxyRequest) {}, Transport: &http.Transport{MaxIdleConnsPerHost: 256}}
	g.server = &http.Server{Handler: g, ReadHeaderTimeout: 10 * time.Second}
	g.done.Go(func() { _ = g.server.Serve(l) })
	g.done.Go(func() {
		<-ctx.Done()
		_ = g.server.Close()
		factory.Shutdown()
		follow.Shutdown()
	})
	return g, nil
}

// Close waits until everything has ended after the context did.
func (g *Gateway) Close() { g.done.Wait() }

func routeOf(o any) (*gateway.HTTPRoute, bool) {
	u, ok := o.(*unstructured.Unstructured)
	if !ok {
		return nil, false
	}
	r := &gateway.HTTPRoute{}
	return r, runtime.DefaultUnstructuredConverter.FromUnstructured(u.Object, r) == nil
}

// accept says in a route's status that it is taken in.
func (g *Gateway) accept(ctx context.Context, o any) {
	r, ok := routeOf(o)
	if !ok {
		return
	}
	var parents []gateway.RouteParentStatus
	for _, ref := range r.Spec.ParentRefs {
		p := gateway.RouteParentStatus{ParentRef: ref, ControllerName: controller}
		i := slices.IndexFunc(r.Status.Parents, func(x gateway.RouteParentStatus) bool {
			return x.ControllerName == controller && x.ParentRef.Name == ref.Name
		})
		if i >= 0 {
			p.Conditions = r.Status.Parents[i].Conditions
		}
		for _, c := range []gateway.RouteConditionType{gateway.RouteConditionAccepted, gateway.RouteConditionResolvedRefs} {
			meta.SetStatusCondition(&p.Conditions, metav1.Condition{Type: string(c), Status: metav1.ConditionTrue, Reason: string(c), ObservedGeneration: r.Generation})
		}
		parents = append(parents, p)
	}
	if len(parents) == len(r.Status.Parents) && !slices.ContainsFunc(r.Status.Parents, func(p gateway.RouteParentStatus) bool {
		return slices.ContainsFunc(p.Conditions, func(c metav1.Condition) bool { return c.ObservedGeneration != r.Generation })
	}) {
		return
	}
	r.Status.Parents = parents
	body, err := runtime.DefaultUnstructuredConverter.ToUnstructured(r)
	if err != nil {
		return
	}
	body["apiVersion"], body["kind"] = gateway.SchemeGroupVersion.String(), "HTTPRoute"
	_, _ = g.client.Resource(routes).Namespace(r.Namespace).UpdateStatus(ctx, &unstructured.Unstructured{Object: body}, metav1.UpdateOptions{FieldManager: controller}) // a conflict comes back as a newer state
}

// found is a rule that a request matches, and how well.
type found struct {
	route *gateway.HTTPRoute
	rule  int
	rank  []int
}

// ServeHTTP leads a request to a Pod, as the routes say.
// Source: https://gateway-api.sigs.k8s.io/reference/spec/#httprouterule
func (g *Gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host, _, _ := strings.Cut(r.Host, ":")
	var best *found
	for _, o := range g.routes.GetStore().List() {
		route, ok := routeOf(o)
		if !ok || !forHost(route, host) {
			continue
		}
		for i, rule := range route.Spec.Rules {
			matches := rule.Matches
			if len(matches) == 0 {
				matches = []gateway.HTTPRouteMatch{{}}
			}
			for _, m := range matches {
				if rank, ok := fits(m, r); ok && (best == nil || slices.Compare(rank, best.rank) > 0 || slices.Compare(rank, best.rank) == 0 && best.route != route && name(route) < name(best.route)) {
					best = &found{route, i, rank}
				}
			}
		}
	}
	if best == nil {
		http.Error(w, "no route leads there", http.StatusNotFound)
		return
	}
	service := g.backend(best)
	if service == "" {
		http.Error(w, "the rule leads nowhere", http.StatusInternalServerError)
		return
	}
	to := g.endpoint(best.route.Namespace, service)
	if to == "" {
		http.Error(w, "nobody answers behind "+service, http.StatusServiceUnavailable)
		return
	}
	at, err := url.Parse(to)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	r = r.Clone(r.Context())
	r.URL.Scheme, r.URL.Host, r.URL.Path = at.Scheme, at.Host, at.Path+r.URL.Path
	g.proxy.ServeHTTP(w, r)
}

func name(r *gateway.HTTPRoute) string { return r.Namespace + "/" + r.Name }

func forHost(r *gateway.HTTPRoute, host string) bool {
	return len(r.Spec.Hostnames) == 0 || slices.ContainsFunc(r.Spec.Hostnames, func(h gateway.Hostname) bool { return strings.EqualFold(string(h), host) })
}

// fits tells whether a request matches, and how special the match is: by path, method, headers.
func fits(m gateway.HTTPRouteMatch, r *http.Request) (rank []int, ok bool) {
	rank = []int{0, 1, 0, len(m.Headers)}
	if m.Path != nil && m.Path.Value != nil {
		value := *m.Path.Value
		rank[1] = len(value)
		if m.Path.Type != nil && *m.Path.Type == gateway.PathMatchExact {
			if rank[0] = 1; r.URL.Path != value {
				return nil, false
			}
		} else if trimmed := strings.TrimSuffix(value, "/"); r.URL.Path != trimmed && !strings.HasPrefix(r.URL.Path, trimmed+"/") {
			return nil, false
		}
	}
	if m.Method != nil {
		if rank[2] = 1; r.Method != string(*m.Method) {
			return nil, false
		}
	}
	for _, h := range m.Headers {
		if r.Header.Get(string(h.Name)) != h.Value {
			return nil, false
		}
	}
	return rank, true
}

// backend chooses the Service of a rule by its weights.
func (g *Gateway) backend(f *found) string {
	weights := map[string]int64{}
	for _, b := range f.route.Spec.Rules[f.rule].BackendRefs {
		weights[string(b.Name)] += int64(*cmp.Or(b.Weight, new(int32(1))))
	}
	return g.turn(fmt.Sprintf("%s/%d", name(f.route), f.rule), weights)
}

// endpoint chooses a ready Pod of a Service, each in its turn.
func (g *Gateway) endpoint(namespace, service string) string {
	parts, err := g.endpoints.EndpointSlices(namespace).List(labels.SelectorFromSet(labels.Set{discoveryv1.LabelServiceName: service}))
	if err != nil {
		return ""
	}
	weights := map[string]int64{}
	for _, s := range parts {
		for _, e := range s.Endpoints {
			if e.Conditions.Ready == nil || *e.Conditions.Ready {
				for _, ip := range e.Addresses {
					if to := g.at(ip); to != "" {
						weights[to] = 1
					}
				}
			}
		}
	}
	return g.turn(namespace+"/"+service, weights)
}

// turn chooses by weights: each comes as often as its share says, in an order that nobody can follow by asking in step with it.
func (g *Gateway) turn(of string, weights map[string]int64) string {
	key, common := "", int64(0)
	for _, to := range slices.Sorted(maps.Keys(weights)) {
		key += fmt.Sprintf("%s=%d ", to, weights[to])
		for a, b := common, weights[to]; ; a, b = b, a%b {
			if b == 0 {
				common = a
				break
			}
		}
	}
	if common == 0 {
		return "" // all of them are 0, or there is none
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	d := g.turns[of]
	if d == nil || d.of != key || len(d.left) == 0 {
		d = &deck{of: key}
		total := int64(0)
		for _, w := range weights {
			total += w / common
		}
		for to, w := range weights {
			share := w / common
			if total > largest { // nearly as it should be
				share = (share*largest + total - 1) / total
			}
			for range share {
				d.left = append(d.left, to)
			}
		}
		rand.Shuffle(len(d.left), func(i, j int) { d.left[i], d.left[j] = d.left[j], d.left[i] })
		g.turns[of] = d
	}
	to := d.left[0]
	d.left = d.left[1:]
	return to
}

// deck is who comes next, as often as its weight says.
type deck struct {
	of   string // the weights
	left []string
}

const largest = 1000
