package cluster

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/util/validation/field"
	apiwatch "k8s.io/apimachinery/pkg/watch"
	"k8s.io/client-go/tools/cache"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
)

func child(kind, name, uid string) map[string]any {
	version := "v1"
	if kind == "ReplicaSet" {
		version = "apps/v1"
	}
	return map[string]any{"apiVersion": version, "kind": kind, "metadata": map[string]any{"name": name, "uid": uid}, "status": map[string]any{"phase": "Running"}}
}

func TestBelowIsAnOutline(t *testing.T) {
	c := Children{
		"d":  {child("ReplicaSet", "new", "r1"), child("ReplicaSet", "old", "r0")},
		"r1": {child("Pod", "p1", "u1"), child("Pod", "p2", "u2")},
	}
	var got []string
	for _, o := range c.Below("d") {
		got = append(got, o.Ref.Short())
		if o.Ref.Kind == "Pod" {
			assert.Equal(t, 2, o.Depth)
			assert.Equal(t, health.Settling, o.Health.Word)
		}
	}
	assert.Equal(t, []string{"ReplicaSet/new", "Pod/p1", "Pod/p2"}, got, "old ReplicaSets without Pods are left out")
	assert.Empty(t, c.Below("nobody"))
	assert.True(t, health.HasBelow(object.Ref{Group: "apps", Kind: "Deployment"}))
	assert.False(t, health.HasBelow(object.Ref{Kind: "Service"}))
}

func TestSilenceIsToldFromANo(t *testing.T) {
	c := &Cluster{Config: Config{Name: "quay"}}
	gr := schema.GroupResource{Resource: "deployments"}
	var gone *UnreachableError
	silent := c.explain("apply x", errors.New("connection refused"))
	assert.ErrorAs(t, silent, &gone)
	assert.ErrorContains(t, silent, "cluster quay does not answer (apply x)")
	no := c.explain("apply x", apierrors.NewForbidden(gr, "d", errors.New("not yours")))
	assert.False(t, errors.As(no, &gone))
	assert.NoError(t, c.explain("x", nil))

	for err, want := range map[error]bool{
		silent: true, no: false,
		c.explain("", apierrors.NewTooManyRequests("slow", 1)):                     true,
		c.explain("", apierrors.NewServiceUnavailable("later")):                    true,
		c.explain("", apierrors.NewConflict(gr, "d", errors.New("newer"))):         true,
		c.explain("", apierrors.NewInvalid(schema.GroupKind{Kind: "D"}, "d", nil)): false,
	} {
		assert.Equal(t, want, Transient(err), err.Error())
	}
	assert.True(t, Missing(c.explain("", apierrors.NewNotFound(gr, "d"))))
	assert.False(t, Missing(nil))
}

func TestConnectNamesTheMistake(t *testing.T) {
	log := slog.New(slog.DiscardHandler)
	_, err := Connect(Config{Name: "quay", Kubeconfig: "/nonexistent"}, log)
	require.ErrorContains(t, err, "cluster quay: kubeconfigs on the service's machine are not read")
	dir := t.TempDir()
	file := filepath.Join(dir, "k")
	files := Kubeconfigs{Dir: dir}
	require.NoError(t, os.WriteFile(file, []byte("apiVersion: v1\nkind: Config\nclusters: [{name: a, cluster: {server: 'https://127.0.0.1:1'}}]\ncontexts: [{name: a, context: {cluster: a, user: u}}]\nusers: [{name: u, user: {token: t}}]\n"), 0o600))
	_, err = Connect(Config{Name: "quay", Kubeconfig: file, Files: files, Context: "b"}, log)
	require.ErrorContains(t, err, `has no context "b"; it has: a`)
	c, err := Connect(Config{Name: "quay", Kubeconfig: file, Files: files, Context: "a", Namespaces: []string{"piers", "fares", "piers"}}, log)
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Version(context.Background())
	var gone *UnreachableError
	require.ErrorAs(t, err, &gone)
	assert.Equal(t, "https://127.0.0.1:1", c.Server())
	assert.Equal(t, []string{"fares", "piers"}, c.spaces(), "one that is named twice is waited for once, or its autoscalers were never known")
}

// seen counts what a handler is told.
type seen struct {
	changed, deleted, watch, back, breaths atomic.Int32
	mu                                     sync.Mutex
	last                                   map[object.Ref]bool
	bodies                                 []map[string]any
}

func (s *seen) Changed(body map[string]any, _ bool) {
	s.changed.Add(1)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.bodies = append(s.bodies, body)
}

func (s *seen) Deleted(map[string]any) { s.deleted.Add(1) }
func (s *seen) Breathe()               { s.breaths.Add(1) }
func (s *seen) WatchChanged()          { s.watch.Add(1) }
func (s *seen) PutBack()               { s.back.Add(1) }
func (s *seen) Listed(_, _, _ string, all map[object.Ref]bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.last = all
}

func watched(t *testing.T) (*watch, *seen, context.Context) {
	t.Helper()
	s := &seen{}
	c := &Cluster{Config: Config{Name: "quay"}, log: slog.New(slog.DiscardHandler), handler: s, watches: map[schema.GroupVersionKind][]*watch{}}
	gvk := schema.GroupVersionKind{Version: "v1", Kind: "ConfigMap"}
	w := &watch{c: c, gvk: gvk}
	c.watches[gvk] = []*watch{w}
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	return w, s, ctx
}

// TestAListIsKeptSmallUntilAllOfItHasCome, and comes out as it went in; a long one is handed over in pieces.
func TestAListIsKeptSmallUntilAllOfItHasCome(t *testing.T) {
	w, seen, _ := watched(t)
	o := configMap("horn")
	o.Object["spec"] = map[string]any{"whole": int64(9007199254740993), "part": 1.5, "zero": int64(0), "no": nil, "yes": true, "all": []any{int64(1), "x", map[string]any{}}, "text": "a \u2028 <b>\n"}
	small, err := w.Transformer()(o.DeepCopy())
	require.NoError(t, err)
	name, err := cache.DeletionHandlingMetaNamespaceKeyFunc(small)
	require.NoError(t, err)
	plain, err := cache.DeletionHandlingMetaNamespaceKeyFunc(o)
	require.NoError(t, err)
	assert.Equal(t, plain, name, "by which a list keeps objects apart")
	var list []any
	for range 3 * atATime {
		list = append(list, small)
	}
	require.NoError(t, w.Replace(append(list, o), "10"))
	assert.Equal(t, o.Object, seen.bodies[0])
	assert.Equal(t, o.Object, seen.bodies[len(list)], "one that could not be packed")
	assert.EqualValues(t, 3, seen.breaths.Load())
	require.Error(t, w.Replace([]any{&packed{text: []byte("{")}}, "11"))
	assert.Contains(t, w.problem, "can't be read")
	odd, err := pack("odd")
	require.NoError(t, err)
	assert.Equal(t, "odd", odd)
}

// TestAListFromBeforeTellsThatDataWerePutBack: versions only grow while a cluster's data are its own.
func TestAListFromBeforeTellsThatDataWerePutBack(t *testing.T) {
	w, seen, _ := watched(t)
	o := configMap("horn")
	require.NoError(t, w.Replace([]any{o}, "10"))
	o.SetResourceVersion("15")
	require.NoError(t, w.Add(o))
	require.NoError(t, w.Replace([]any{o}, "15"))
	require.NoError(t, w.Bookmark("20"))
	assert.Zero(t, seen.back.Load())
	require.NoError(t, w.Replace([]any{o}, "19"))
	assert.EqualValues(t, 1, seen.back.Load())
	require.NoError(t, w.Replace([]any{o}, "30"))
	require.NoError(t, w.Replace([]any{o}, "not a number"))
	require.NoError(t, w.Replace([]any{o}, "5"))
	assert.EqualValues(t, 1, seen.back.Load(), "once for each time")
}

func configMap(name string) *unstructured.Unstructured {
	o := &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "ConfigMap"}}
	o.SetName(name)
	return o
}

var kinds = []object.Kind{{Version: "v1", Kind: "ConfigMap"}}

func TestAGapInTheWatchTellsWhatIsGone(t *testing.T) {
	w, s, _ := watched(t)
	assert.False(t, w.c.Known(kinds).Known, "not read yet")
	require.NoError(t, w.Replace([]any{configMap("a"), configMap("b")}, "1"))
	assert.True(t, w.c.Known(kinds).Known)
	assert.EqualValues(t, 2, s.changed.Load())
	require.NoError(t, w.Add(configMap("c")))
	require.NoError(t, w.Delete(configMap("a")))
	require.NoError(t, w.Replace([]any{configMap("c")}, "9"))
	assert.EqualValues(t, 1, s.deleted.Load(), "a, as it was told")
	assert.Equal(t, map[object.Ref]bool{{Kind: "ConfigMap", Name: "c"}: true}, s.last, "b is not among what is there after the gap")
	assert.False(t, w.c.Known([]object.Kind{{Version: "v1", Kind: "Secret"}}).Known, "what is not watched is not known")
}

// TestAnEmptyStreamIsNoWatch: a broken connection shows as a stream that ends without a word.
func TestAnEmptyStreamIsNoWatch(t *testing.T) {
	w, s, ctx := watched(t)
	require.NoError(t, w.Replace(nil, "1"))
	for range w.follow(ctx, apiwatch.NewEmptyWatch()).ResultChan() {
		t.Fatal("nothing comes")
	}
	require.Eventually(t, func() bool { return !w.c.Known(kinds).Known }, 30*time.Second, 10*time.Millisecond)
	assert.Contains(t, w.c.Known(kinds).Problem, "the connection was lost")
	told := s.watch.Load()

	real := apiwatch.NewFake()
	out := w.follow(ctx, real)
	go real.Add(configMap("a"))
	ev := <-out.ResultChan()
	assert.Equal(t, apiwatch.Added, ev.Type)
	require.Eventually(t, func() bool { return w.c.Known(kinds).Known }, 30*time.Second, 10*time.Millisecond, "a stream that has settled shows that it lives")
	assert.Greater(t, s.watch.Load(), told)
	out.Stop()
}

func TestOnlyWhatCantBeMadeInPlaceIsImmutable(t *testing.T) {
	c := &Cluster{Config: Config{Name: "quay"}}
	invalid := func(errs ...*field.Error) error {
		return c.explain("apply x", apierrors.NewInvalid(schema.GroupKind{Group: "apps", Kind: "Deployment"}, "d", errs))
	}
	selector := field.Invalid(field.NewPath("spec", "selector"), "x", "field is immutable")
	fields, ok := Immutable(invalid(selector, field.Invalid(field.NewPath("spec", "selector"), "y", "field is immutable")))
	assert.True(t, ok)
	assert.Equal(t, "spec.selector", fields)
	fields, ok = Immutable(invalid(field.Forbidden(field.NewPath("spec"), "updates to statefulset spec for fields other than 'replicas', 'template' are forbidden")))
	assert.True(t, ok)
	assert.Equal(t, "spec", fields)
	_, ok = Immutable(invalid(selector, field.Required(field.NewPath("spec", "template"), "")))
	assert.False(t, ok, "making it anew would not help")
	_, ok = Immutable(invalid(field.Required(field.NewPath("spec"), "")))
	assert.False(t, ok)
	for _, err := range []error{nil, errors.New("field is immutable"), apierrors.NewForbidden(schema.GroupResource{Resource: "x"}, "x", errors.New("no"))} {
		_, ok := Immutable(err)
		assert.False(t, ok, "%v", err)
	}
}

func TestWhatIsTriedAgain(t *testing.T) {
	gr := schema.GroupResource{Resource: "x"}
	for _, err := range []error{apierrors.NewTooManyRequests("busy", 1), apierrors.NewServiceUnavailable("x"), apierrors.NewInternalError(errors.New("webhook")),
		apierrors.NewTimeoutError("x", 1), apierrors.NewServerTimeout(gr, "get", 1), apierrors.NewConflict(gr, "x", errors.New("changed")), &UnreachableError{errors.New("reset")}} {
		assert.True(t, Transient(err), "%v", err)
	}
	for _, err := range []error{apierrors.NewForbidden(gr, "x", nil), apierrors.NewBadRequest("x"), apierrors.NewNotFound(gr, "x"), apierrors.NewUnauthorized("x")} {
		assert.False(t, Transient(err), "%v", err)
	}
}

func TestAKindThatIsNotServed(t *testing.T) {
	gr := schema.GroupResource{Group: "x.example", Resource: "ferries"}
	assert.True(t, NotServed(&NoKindError{"cluster quay knows no kind Ferry"}))
	assert.True(t, NotServed(apierrors.NewGenericServerResponse(404, "patch", gr, "north", "", 0, true)))
	assert.False(t, NotServed(apierrors.NewNotFound(gr, "north")), "an object that is not there is another thing")
	assert.False(t, NotServed(nil))
	assert.True(t, Missing(&NoKindError{"x"}))
}

func TestWhatAnAutoscalerScales(t *testing.T) {
	body := func(target map[string]any) map[string]any {
		return map[string]any{"apiVersion": "autoscaling/v2", "kind": "HorizontalPodAutoscaler", "metadata": map[string]any{"name": "h", "namespace": "n"}, "spec": map[string]any{"scaleTargetRef": target}}
	}
	ref, ok := ScaleTarget(body(map[string]any{"apiVersion": "apps/v1", "kind": "Deployment", "name": "d"}))
	assert.True(t, ok)
	assert.Equal(t, object.Ref{Group: "apps", Kind: "Deployment", Namespace: "n", Name: "d"}, ref)
	_, ok = ScaleTarget(body(map[string]any{"kind": "Deployment"}))
	assert.False(t, ok)
	_, ok = ScaleTarget(map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": "c"}})
	assert.False(t, ok)
}

func TestContainersInTheOrderTheyRun(t *testing.T) {
	pod := map[string]any{"metadata": map[string]any{"name": "p"}, "spec": map[string]any{"initContainers": []any{map[string]any{"name": "wait"}}, "containers": []any{map[string]any{"name": "app"}}}}
	assert.Equal(t, []Container{{Pod: "p", Name: "wait", Several: true}, {Pod: "p", Name: "app", Several: true}}, Containers(pod))
	delete(pod["spec"].(map[string]any), "initContainers")
	assert.Equal(t, []Container{{Pod: "p", Name: "app"}}, Containers(pod))
	assert.Empty(t, Containers(map[string]any{}))
}

// TestEveryNoIsTakenForWhatItIs: each answer of an API server, to each who asks.
func TestEveryNoIsTakenForWhatItIs(t *testing.T) {
	c := &Cluster{Config: Config{Name: "quay"}}
	gr := schema.GroupResource{Group: "apps", Resource: "deployments"}
	rights := apierrors.NewForbidden(gr, "d", errors.New(`User "x" cannot patch resource "deployments" in API group "apps" in the namespace "n"`))
	quota := apierrors.NewForbidden(gr, "d", errors.New("exceeded quota: pods=1"))
	ending := apierrors.NewForbidden(gr, "d", errors.New("unable to create new content in namespace n because it is being terminated"))
	ending.ErrStatus.Details.Causes = append(ending.ErrStatus.Details.Causes, metav1.StatusCause{Type: corev1.NamespaceTerminatingCause})
	served := &apierrors.StatusError{ErrStatus: metav1.Status{Status: metav1.StatusFailure, Code: 404, Reason: metav1.StatusReasonNotFound, Message: "the server could not find the requested resource", Details: &metav1.StatusDetails{}}}
	for name, x := range map[string]struct {
		err                      error
		unknown, absent, outside bool
	}{
		"no such kind": {&NoKindError{"none"}, true, false, true},
		"not found":    {apierrors.NewNotFound(gr, "d"), false, true, false},
		"no namespace": {apierrors.NewNotFound(schema.GroupResource{Resource: "namespaces"}, "n"), false, true, true},
		"not served":   {served, false, false, true},
		"401":          {apierrors.NewUnauthorized("who?"), false, false, true},
		"403, rights":  {rights, false, false, true},
		"403, quota":   {quota, false, false, false},
		"403, ending":  {ending, false, false, true},
		"409":          {apierrors.NewConflict(gr, "d", errors.New("newer")), false, false, true},
		"422":          {apierrors.NewInvalid(schema.GroupKind{Kind: "D"}, "d", nil), false, false, false},
		"429":          {apierrors.NewTooManyRequests("slow", 1), false, false, true},
		"500":          {apierrors.NewInternalError(errors.New("webhook")), false, false, true},
		"503":          {apierrors.NewServiceUnavailable("later"), false, false, true},
		"no answer":    {errors.New("connection refused"), false, false, true},
	} {
		t.Run(name, func(t *testing.T) {
			err := x.err
			if _, none := err.(*NoKindError); !none {
				err = c.explain("ask", err)
			}
			assert.Equal(t, x.unknown, UnknownKind(err), "unknown kind")
			assert.Equal(t, x.absent, absent(err), "absent")
			assert.Equal(t, x.outside, Outside(err), "outside")
		})
	}
}
