package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/rest"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/client"
)

var (
	configMaps = schema.GroupVersionResource{Version: "v1", Resource: "configmaps"}
	kinds      = []schema.GroupVersionResource{configMaps, {Group: "apps", Version: "v1", Resource: "deployments"},
		{Group: "networking.k8s.io", Version: "v1", Resource: "networkpolicies"}, {Version: "v1", Resource: "namespaces"}}
)

// perWard is how many objects each ward of the crowd has.
const perWard = 500

// crowd is a service with wards that are in step, shared by several measures.
type crowd struct {
	world   *world
	prefix  string // of its wards
	objects int
	quiet   time.Duration

	*service
	repo  *repository
	count int // wards so far
}

func (f *crowd) name(i int) string { return fmt.Sprintf("%s-%02d", f.prefix, i) }

// ready brings the crowd up to so many objects, all in step.
func (f *crowd) ready(ctx context.Context, objects int) (err error) {
	if f.service == nil {
		if f.service, err = f.world.service(ctx, "crowd"); err != nil {
			return err
		}
		if f.repo, err = f.world.repository("crowd"); err != nil {
			return err
		}
		if err := f.repo.push("First", map[string]string{"README.md": "A crowd."}); err != nil {
			return err
		}
		if err := f.cli("repo", "add", "crowd", f.repo.url); err != nil {
			return err
		}
	}
	files, gates := map[string]string{}, ""
	for ; f.count*perWard < objects; f.count++ {
		name := f.name(f.count)
		for i := range perWard - 1 { // and its namespace
			file := fmt.Sprintf("%s/part-%d.yaml", name, i/50)
			files[file] += "---\n" + manifest(fmt.Sprintf("berth-%03d", i), i, 1)
		}
		gates += "---\n" + gate(name, "crowd", name, "sync: auto, drift: report")
	}
	if len(files) == 0 {
		return nil
	}
	if err := errors.Join(f.repo.push("More wards", files), f.add(gates)); err != nil {
		return err
	}
	return f.all(ctx, "every ward is in step", f.count, inStep)
}

// drift: a write by another client until the API shows it, beside a bare watch of the same writes.
func (f *crowd) drift(ctx context.Context) (row, error) {
	const writes = 300
	r := row{what: fmt.Sprintf("write by another client until the API shows the drift, %d watched objects, p50 and p99", f.objects), against: "the same writes seen by a bare watch", goal: "p99 within 3 times",
		how: fmt.Sprintf("%d merge patches of one field each, one after the other, timed from before the patch. The bare watch is a client-go watch of the marked ConfigMaps. The API counts as showing it when, after a server-sent event, the list of wards has one drifted field more.", writes)}
	if err := f.ready(ctx, f.objects); err != nil {
		return r, err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	list, err := f.world.dyn.Resource(configMaps).List(ctx, metav1.ListOptions{LabelSelector: "vigila.dev/ward", Limit: 1})
	if err != nil {
		return r, err
	}
	watch, err := f.world.dyn.Resource(configMaps).Watch(ctx, metav1.ListOptions{LabelSelector: "vigila.dev/ward", ResourceVersion: list.GetResourceVersion()})
	if err != nil {
		return r, err
	}
	defer watch.Stop()
	type seen struct {
		name string
		at   time.Time
	}
	bare := make(chan seen, 10_000)
	go func() {
		for ev := range watch.ResultChan() {
			if o, ok := ev.Object.(*unstructured.Unstructured); ok {
				bare <- seen{o.GetNamespace() + "/" + o.GetName(), time.Now()}
			}
		}
	}()
	changed := make(chan struct{}, 1)
	go func() {
		_ = f.api.Stream(ctx, func(client.Event) {
			select {
			case changed <- struct{}{}:
			default:
			}
		})
	}()
	var ours, limit []time.Duration
	profile, err := f.profiled(func() error {
		for n := range writes {
			ns, name := f.name(n%f.count), fmt.Sprintf("berth-%03d", 2*(n/f.count))
			start := time.Now()
			failed := make(chan error, 1)
			go func() {
				_, err := f.world.dyn.Resource(configMaps).Namespace(ns).Patch(ctx, name, types.MergePatchType, []byte(`{"data":{"interval":"1s"}}`), metav1.PatchOptions{FieldManager: "engineer-in-a-hurry"})
				failed <- err
			}()
			want := n/f.count + 1
			for shown := false; !shown; {
				select {
				case <-changed:
				case <-time.After(10 * time.Second):
					return fmt.Errorf("the API does not show the drift of %s/%s", ns, name)
				}
				all, err := f.wards(ctx)
				if err != nil {
					return err
				}
				shown = all[ns].DriftedFields == want
			}
			ours = append(ours, time.Since(start))
			if err := <-failed; err != nil {
				return err
			}
			for s := range bare {
				if s.name == ns+"/"+name {
					limit = append(limit, s.at.Sub(start))
					break
				}
			}
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	for i := range f.count { // put it back for the measures that follow
		if err := f.cli("sync", f.name(i)); err != nil {
			return r, err
		}
	}
	if err := f.all(ctx, "every ward is in step again", f.count, inStep); err != nil {
		return r, err
	}
	ratio := float64(quantile(ours, .99)) / float64(quantile(limit, .99))
	r.ours, r.limit = ms(quantile(ours, .5))+", "+ms(quantile(ours, .99)), ms(quantile(limit, .5))+", "+ms(quantile(limit, .99))
	r.verdict, r.met, r.profiles = fmt.Sprintf("p99 %.2f times", ratio), ratio <= 3, []string{profile}
	return r, nil
}

// restart: from the start of the process until every standing is known, beside a bare list.
func (f *crowd) restart(ctx context.Context) (row, error) {
	r := row{what: fmt.Sprintf("restart with %d objects until every standing is known", f.objects), against: "a bare list of them", goal: "within 2 times plus 1 s",
		how: "From starting the process until the list of wards calls none of them blind, median of 5. The bare list reads the same four kinds at the same time with client-go, median of 5, taken in turns with the restarts."}
	if err := f.ready(ctx, f.objects); err != nil {
		return r, err
	}
	var ours, limit []time.Duration
	for range 5 {
		start := time.Now()
		var wg sync.WaitGroup
		errs := make([]error, len(kinds))
		for i, k := range kinds {
			wg.Go(func() {
				_, errs[i] = f.world.dyn.Resource(k).List(ctx, metav1.ListOptions{LabelSelector: "vigila.dev/ward"})
			})
		}
		wg.Wait()
		if err := errors.Join(errs...); err != nil {
			return r, err
		}
		limit = append(limit, time.Since(start))
		f.stop()
		start = time.Now()
		if err := f.start(ctx); err != nil {
			return r, err
		}
		if err := f.all(ctx, "every standing is known", f.count, func(x client.Ward) bool { return x.Standing != "blind" }); err != nil {
			return r, err
		}
		ours = append(ours, time.Since(start))
		if err := f.all(ctx, "every ward is in step", f.count, inStep); err != nil {
			return r, err
		}
	}
	o, l := quantile(ours, .5), quantile(limit, .5)
	r.ours, r.limit = ms(o), ms(l)
	r.verdict, r.met = fmt.Sprintf("%.2f times, %+.0f ms over twice", float64(o)/float64(l), float64((o-2*l).Milliseconds())), o <= 2*l+time.Second
	if !r.met {
		f.stop()
		if err := f.start(ctx); err != nil {
			return r, err
		}
	}
	return r, f.why(&r)
}

// counter is a proxy to the API server that counts requests, watches aside.
type counter struct {
	*httptest.Server
	n     atomic.Int64
	lines sync.Map
}

func (w *world) counter() (*counter, error) {
	target, err := url.Parse(w.rest.Host)
	if err != nil {
		return nil, err
	}
	transport, err := rest.TransportFor(w.rest)
	if err != nil {
		return nil, err
	}
	c := &counter{}
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.Transport, proxy.FlushInterval = transport, -1
	c.Server = httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Query().Get("watch") == "" {
			c.n.Add(1)
			c.lines.Store(r.Method+" "+r.URL.Path, true)
		}
		r.Host = target.Host
		proxy.ServeHTTP(w, r)
	}))
	c.TLS = &tls.Config{NextProtos: []string{"h2", "http/1.1"}}
	c.EnableHTTP2 = true
	c.StartTLS()
	return c, nil
}

// requests: what a service that has nothing to do asks of the cluster.
func (f *crowd) requests(ctx context.Context) (row, error) {
	r := row{what: fmt.Sprintf("requests to the cluster with %d objects in step, over %s, watches aside", f.objects, f.quiet), against: "0", goal: "0",
		how: "The service reaches the API server through a proxy that counts every request without watch=true, from ten seconds after all wards are in step."}
	if err := f.ready(ctx, f.objects); err != nil {
		return r, err
	}
	c, err := f.world.counter()
	if err != nil {
		return r, err
	}
	defer c.CloseClientConnections()
	original, err := os.ReadFile(f.world.kubeconfig())
	if err != nil {
		return r, err
	}
	through, err := yaml.Marshal(map[string]any{"apiVersion": "v1", "kind": "Config", "current-context": "quay",
		"clusters": []any{map[string]any{"name": "quay", "cluster": map[string]any{"server": c.URL, "insecure-skip-tls-verify": true}}},
		"users":    []any{map[string]any{"name": "u", "user": map[string]any{}}},
		"contexts": []any{map[string]any{"name": "quay", "context": map[string]any{"cluster": "quay", "user": "u"}}}})
	if err != nil {
		return r, err
	}
	use := func(kubeconfig []byte) error {
		f.stop()
		if err := os.WriteFile(f.world.kubeconfig(), kubeconfig, 0o600); err != nil {
			return err
		}
		if err := f.start(ctx); err != nil {
			return err
		}
		return f.all(ctx, "every ward is in step", f.count, inStep)
	}
	if err := use(through); err != nil {
		return r, err
	}
	if err := sleep(ctx, 10*time.Second); err != nil {
		return r, err
	}
	before := c.n.Load()
	c.lines.Clear()
	if err := sleep(ctx, f.quiet); err != nil {
		return r, err
	}
	n := c.n.Load() - before
	r.ours, r.limit, r.verdict, r.met = fmt.Sprint(n), "0", fmt.Sprint(n), n == 0
	if n > 0 {
		var lines []string
		c.lines.Range(func(k, _ any) bool { lines = append(lines, k.(string)); return true })
		r.profiles = []string{strings.Join(lines, "\n")}
	}
	return r, use(original)
}

// memory: what each further watched object costs.
func (f *crowd) memory(ctx context.Context) (row, error) {
	more := 4 * f.objects
	r := row{what: fmt.Sprintf("memory an object watched, from %d to %d", f.objects, more), against: "the bytes of the object's JSON", goal: "under 1 KiB an object; resident 4 KiB, and at most 1.5 times that during the start",
		how: "The live heap after a forced collection (go_gc_heap_live_bytes), with a fresh service at both sizes and every ward in step; the difference by the number of objects. The resident set (VmRSS) is read once it has not become smaller for five seconds, and beside it the most that it was since the start (VmHWM). JSON is what the API server answers."}
	r.why = "What stays is small; what a start takes is twice that. A list comes as a stream, and its objects are kept as their JSON until the last has come (decoded they took 551 MB at 20000), and are handed over no faster than the wards take them in; the rest is what the collector lets come together meanwhile. It is given back to the system within seconds after everything is known."
	type size struct{ live, resident, most float64 }
	measure := func(objects int) (size, error) {
		if err := f.ready(ctx, objects); err != nil {
			return size{}, err
		}
		f.stop()
		if err := f.start(ctx); err != nil {
			return size{}, err
		}
		if err := f.all(ctx, "every ward is in step", f.count, inStep); err != nil {
			return size{}, err
		}
		live, err := f.live()
		if err != nil {
			return size{}, err
		}
		most, err := f.resident("VmHWM")
		if err != nil {
			return size{}, err
		}
		resident := most
		for still := 0; still < 5; still++ { // what was collected is given back a little later
			time.Sleep(time.Second)
			now, err := f.resident("VmRSS")
			if err != nil {
				return size{}, err
			}
			if now < resident*.99 {
				resident, still = now, 0
			}
		}
		return size{live, resident, most}, nil
	}
	few, err := measure(f.objects)
	if err != nil {
		return r, err
	}
	many, err := measure(more)
	if err != nil {
		return r, err
	}
	var bytes, n float64
	for _, k := range kinds {
		list, err := f.world.dyn.Resource(k).List(ctx, metav1.ListOptions{LabelSelector: "vigila.dev/ward"})
		if err != nil {
			return r, err
		}
		for _, o := range list.Items {
			text, err := o.MarshalJSON()
			if err != nil {
				return r, err
			}
			bytes += float64(len(text))
			n++
		}
	}
	d := float64(more - f.objects)
	ours := (many.live - few.live) / d
	resident := (many.resident - few.resident) / d
	r.ours = fmt.Sprintf("%.0f bytes; resident %.0f, in all %.0f MB at %d, %.0f MB at most", ours, resident, many.resident/1e6, more, many.most/1e6)
	r.limit = fmt.Sprintf("%.0f bytes", bytes/n)
	r.verdict, r.met = fmt.Sprintf("%.2f of the JSON", ours/(bytes/n)), ours < 1024 && resident < 4096 && many.most <= 1.5*many.resident
	if !r.met {
		x, err := http.Get(f.profiles + "heap?gc=1")
		if err != nil {
			return r, err
		}
		defer x.Body.Close()
		profile, err := top(f.service, x.Body, "heap.pprof")
		if err != nil {
			return r, err
		}
		r.profiles = []string{profile}
	}
	return r, nil
}

// top is the heaviest functions of a profile.
func top(s *service, profile io.Reader, name string) (string, error) {
	file := filepath.Join(s.dir, name)
	out, err := os.Create(file)
	if err != nil {
		return "", err
	}
	if _, err := io.Copy(out, profile); err != nil {
		return "", err
	}
	if err := out.Close(); err != nil {
		return "", err
	}
	return pprofTop(s, file)
}
