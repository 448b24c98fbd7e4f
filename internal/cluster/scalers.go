package cluster

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-logr/logr"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	apiwatch "k8s.io/apimachinery/pkg/watch"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/tools/cache"

	"vigila.dev/vigila/internal/core/object"
)

// scalers follows every autoscaler of a cluster, whoever made it, and keeps what each one targets.
type scalers struct {
	c *Cluster

	mu      sync.Mutex
	targets map[string]target     // by namespace/name of the autoscaler
	of      map[object.Ref]string // the same, by what is scaled
	read    map[string]bool       // the namespaces that have been read; "" for all
}

// scalersIn follows those of one namespace, or of all.
type scalersIn struct {
	*scalers
	only string
}

type target struct {
	ref  object.Ref
	name string // Kind/name of the autoscaler
}

var autoscalers = schema.GroupVersionResource{Group: "autoscaling", Version: "v2", Resource: "horizontalpodautoscalers"}

// ScaleTarget reads what an autoscaler scales.
func ScaleTarget(body map[string]any) (object.Ref, bool) {
	o, err := object.FromBody(body)
	if err != nil || o.Ref.Group != "autoscaling" || o.Ref.Kind != "HorizontalPodAutoscaler" {
		return object.Ref{}, false
	}
	spec, _ := body["spec"].(map[string]any)
	to, _ := spec["scaleTargetRef"].(map[string]any)
	version, _ := to["apiVersion"].(string)
	kind, _ := to["kind"].(string)
	name, _ := to["name"].(string)
	return object.Ref{Group: gvkOf(version, kind).Group, Kind: kind, Namespace: o.Ref.Namespace, Name: name}, kind != "" && name != ""
}

func (s *scalers) run(ctx context.Context) {
	var all sync.WaitGroup
	for _, only := range s.c.spaces() {
		all.Go(func() { scalersIn{s, only}.run(ctx) })
	}
	all.Wait()
}

func (s scalersIn) run(ctx context.Context) {
	var resource dynamic.ResourceInterface = s.c.dyn.Resource(autoscalers)
	if s.only != "" {
		resource = s.c.dyn.Resource(autoscalers).Namespace(s.only)
	}
	var opened time.Time // called by one goroutine, the reflector's
	fruitless := 0
	lw := &cache.ListWatch{
		ListWithContextFunc: func(ctx context.Context, o metav1.ListOptions) (runtime.Object, error) {
			list, err := resource.List(ctx, o)
			if apierrors.IsForbidden(err) || apierrors.IsNotFound(err) || meta.IsNoMatchError(err) {
				s.set(func() {}) // autoscalers can't be read here, so none is known
			}
			return list, err
		},
		WatchFuncWithContext: func(ctx context.Context, o metav1.ListOptions) (apiwatch.Interface, error) {
			if time.Since(opened) < settled {
				fruitless++
			} else {
				fruitless = 0
			}
			pace(ctx, fruitless)
			opened = time.Now()
			return resource.Watch(ctx, o)
		},
	}
	quiet := logr.Discard()
	expected := &unstructured.Unstructured{}
	expected.SetGroupVersionKind(schema.GroupVersionKind{Group: "autoscaling", Version: "v2", Kind: "HorizontalPodAutoscaler"})
	again := retry
	r := cache.NewReflectorWithOptions(lw, expected, s, cache.ReflectorOptions{Name: "vigila", Logger: &quiet, Backoff: &again})
	r.RunWithContext(ctx)
}

// set changes what is known, and tells the handler when that makes a difference.
func (s scalersIn) set(change func()) {
	s.mu.Lock()
	before := s.names()
	was := s.read[s.only]
	change()
	s.read[s.only] = true
	s.of = make(map[object.Ref]string, len(s.targets))
	for _, t := range s.targets {
		s.of[t.ref] = t.name
	}
	after := s.names()
	s.mu.Unlock()
	if !was || !slices.Equal(before, after) {
		s.c.handler.WatchChanged()
	}
}

func (s *scalers) names() []string {
	out := make([]string, 0, len(s.targets))
	for name, t := range s.targets {
		out = append(out, name+" "+t.ref.Key())
	}
	slices.Sort(out)
	return out
}

// Add is part of cache.ReflectorStore.
func (s scalersIn) Add(obj any) error {
	o := obj.(*unstructured.Unstructured)
	s.set(func() { s.note(o) })
	return nil
}

func (s *scalers) note(o *unstructured.Unstructured) {
	delete(s.targets, key(o))
	if ref, ok := ScaleTarget(o.Object); ok && o.GetDeletionTimestamp() == nil {
		s.targets[key(o)] = target{ref, o.GetKind() + "/" + o.GetName()}
	}
}

// Update is part of cache.ReflectorStore.
func (s scalersIn) Update(obj any) error { return s.Add(obj) }

// Delete is part of cache.ReflectorStore.
func (s scalersIn) Delete(obj any) error {
	s.set(func() { delete(s.targets, key(obj.(*unstructured.Unstructured))) })
	return nil
}

// Replace is part of cache.ReflectorStore.
func (s scalersIn) Replace(list []any, _ string) error {
	s.set(func() {
		maps.DeleteFunc(s.targets, func(at string, _ target) bool { return s.only == "" || strings.HasPrefix(at, s.only+"/") })
		for _, obj := range list {
			s.note(obj.(*unstructured.Unstructured))
		}
	})
	return nil
}

// Resync is part of cache.ReflectorStore; there is nothing to do.
func (s scalersIn) Resync() error { return nil }

// Scaler names the autoscaler that scales a workload, as Kind/name; empty when none does.
func (c *Cluster) Scaler(ref object.Ref) string {
	c.mu.Lock()
	s := c.scalers
	c.mu.Unlock()
	if s == nil {
		return ""
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.of[ref]
}

// ScalersKnown tells whether the autoscalers of the cluster have been read.
func (c *Cluster) ScalersKnown() bool {
	c.mu.Lock()
	s := c.scalers
	c.mu.Unlock()
	if s == nil {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.read) == len(s.c.spaces())
}

var _ cache.ReflectorStore = scalersIn{}
