// Package cluster speaks with one Kubernetes cluster: it applies, removes, watches and looks. Start with Cluster.
package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	storagev1 "k8s.io/api/storage/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/runtime/serializer"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/discovery"
	"k8s.io/client-go/discovery/cached/memory"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/restmapper"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
)

// Config says how to reach a cluster: by a kubeconfig, by a service account's token, or from inside it.
type Config struct {
	Name       string
	Kubeconfig string // path below Files.Dir
	Text       string // of a kubeconfig, in place of a path
	Files      Kubeconfigs
	Context    string   // the kubeconfig's current one when empty
	Server     string   // with Token: the address of the API server
	Token      string   // of a service account
	CA         string   // PEM, of the API server
	InCluster  bool     // the cluster that this service runs in
	Namespaces []string // those alone are looked into, each by itself; all when empty
}

// ErrGone tells that an object does not exist.
var ErrGone = errors.New("it does not exist")

// callTimeout bounds every single call, so that a silent cluster can't hold a ward for ever.
const callTimeout = 30 * time.Second

// Handler is told what the watches of a cluster see. Calls come from many goroutines and must not block.
type Handler interface {
	// Changed brings the newest state of an object that bears a ward's mark. listed tells that it is from a whole list: what
	// is older than what was seen before may then be so because the cluster was restored to an earlier state.
	Changed(body map[string]any, listed bool)
	// Breathe waits a little until most of what was handed over has been taken in. A list may be long.
	Breathe()
	// Deleted tells that an object with this last state left the watch: deleted, or its mark was removed.
	Deleted(body map[string]any)
	// Listed brings all marked objects of a kind, after a first list or a gap in the watch; what is not among them has
	// left the watch meanwhile. Changed was called for each before. Of a kind that lives in namespaces only those in one are told where
	// that is named.
	Listed(group, kind, namespace string, all map[object.Ref]bool)
	// PutBack tells that the cluster's data were put back to an earlier state: a whole list is of an earlier version than what was
	// seen before.
	PutBack()
	// WatchChanged tells that a kind's watch came up or broke, or that autoscalers came or went; Known and Scaler
	// answer anew.
	WatchChanged()
}

// Cluster is a connection to one cluster.
type Cluster struct {
	Config Config
	log    *slog.Logger
	rest   *rest.Config
	dyn    dynamic.Interface
	raw    rest.Interface
	disco  discovery.CachedDiscoveryInterface
	plain  discovery.DiscoveryInterface // asks each time
	mapper *restmapper.DeferredDiscoveryRESTMapper

	mapping sync.Mutex // the mapper's reset is not safe beside its look-ups

	mu       sync.Mutex
	handler  Handler
	ctx      context.Context
	cancel   context.CancelFunc
	watches  map[schema.GroupVersionKind][]*watch
	scalers  *scalers // nil until the first watch
	apis     []string // what it serves, as of apisAt
	apisAt   time.Time
	version  string // as of verAt
	verAt    time.Time
	ends     time.Time           // of its credentials; zero when they are not known to
	endsWhat string              // ends then
	actors   map[string]*Cluster // connections that act as somebody else
	base     *Cluster            // of an actor
	done     sync.WaitGroup
}

// restConfig reads how to reach a cluster.
func restConfig(cfg Config) (*rest.Config, error) {
	switch {
	case cfg.InCluster:
		rc, err := rest.InClusterConfig()
		if err != nil {
			return nil, fmt.Errorf("cluster %s is to be the one that Vigila runs in, but it runs in none: %w", cfg.Name, err)
		}
		return rc, nil
	case cfg.Server != "":
		if cfg.Token == "" {
			return nil, fmt.Errorf("cluster %s: a server address needs the token of a service account", cfg.Name)
		}
		return &rest.Config{Host: cfg.Server, BearerToken: cfg.Token, TLSClientConfig: rest.TLSClientConfig{CAData: []byte(cfg.CA)}}, nil
	}
	text, commands := cfg.Text, false
	if text == "" {
		b, err := cfg.Files.read(cfg.Kubeconfig)
		if err != nil {
			return nil, fmt.Errorf("cluster %s: %w", cfg.Name, err)
		}
		text, commands = string(b), cfg.Files.Commands
	}
	dir := filepath.Dir(cfg.Kubeconfig)
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(cfg.Files.Dir, dir)
	}
	rc, err := restOf([]byte(text), cfg.Context, dir, commands)
	if err != nil {
		return nil, fmt.Errorf("kubeconfig of cluster %s: %w", cfg.Name, err)
	}
	return rc, nil
}

// Connect prepares a connection; it reads the kubeconfig and asks nothing of the network.
func Connect(cfg Config, log *slog.Logger) (*Cluster, error) {
	rc, err := restConfig(cfg)
	if err != nil {
		return nil, err
	}
	if err := secured(rc.Host); err != nil {
		return nil, fmt.Errorf("cluster %s: %w", cfg.Name, err)
	}
	if none, err := rest.TLSConfigFor(rc); err == nil && none == nil && rc.Proxy == nil {
		rc.Proxy = http.ProxyFromEnvironment // else it would share net/http's default, which is cut off where overlays are rendered
	}
	rc.Wrap(func(next http.RoundTripper) http.RoundTripper { return straight{next} })
	rc.QPS = -1 // the API server's own fairness is the limit, not the client's guess
	rc.UserAgent = "vigila"
	rc.WarningHandler = rest.NoWarnings{}
	cfg.Namespaces = slices.Compact(slices.Sorted(slices.Values(cfg.Namespaces))) // one that is named twice is read once
	c := &Cluster{Config: cfg, log: log.With("cluster", cfg.Name), rest: rc, watches: map[schema.GroupVersionKind][]*watch{}, actors: map[string]*Cluster{}}
	c.endsWhat, c.ends = endOf(rc)
	if c.dyn, err = dynamic.NewForConfig(rc); err != nil {
		return nil, fmt.Errorf("cluster %s: %w", cfg.Name, err)
	}
	if c.raw, err = bare(rc); err != nil {
		return nil, fmt.Errorf("cluster %s: %w", cfg.Name, err)
	}
	short := rest.CopyConfig(rc)
	short.Timeout = callTimeout
	dc, err := discovery.NewDiscoveryClientForConfig(short)
	if err != nil {
		return nil, fmt.Errorf("cluster %s: %w", cfg.Name, err)
	}
	c.plain = dc
	c.disco = memory.NewMemCacheClient(dc)
	c.mapper = restmapper.NewDeferredDiscoveryRESTMapper(c.disco)
	c.ctx, c.cancel = context.WithCancel(context.Background())
	return c, nil
}

// bare is a client that asks for paths and gets what is answered: the few calls that need types of their own are not worth a client
// for each of Kubernetes' kinds.
func bare(rc *rest.Config) (rest.Interface, error) {
	v1 := schema.GroupVersion{Version: "v1"}
	scheme := runtime.NewScheme()
	metav1.AddToGroupVersion(scheme, v1)
	scheme.AddUnversionedTypes(v1, &metav1.Status{}) // refusals
	cfg := rest.CopyConfig(rc)
	cfg.NegotiatedSerializer = serializer.NewCodecFactory(scheme).WithoutConversion()
	return rest.UnversionedRESTClientFor(cfg)
}

// read reads what is at a path, as JSON.
func (c *Cluster) read(ctx context.Context, into any, path string, query map[string]string) error {
	q := c.raw.Get().AbsPath(path).SetHeader("Accept", "application/json")
	for k, v := range query {
		q = q.Param(k, v)
	}
	b, err := q.DoRaw(ctx)
	if err != nil {
		return err
	}
	return json.Unmarshal(b, into)
}

// As is the same cluster, acted in as a service account: what that may not do is refused. Watches and kinds are the
// cluster's own. Source: https://kubernetes.io/docs/reference/access-authn-authz/authentication/#user-impersonation
func (c *Cluster) As(namespace, account string) (*Cluster, error) {
	if account == "" {
		return c, nil
	}
	user := "system:serviceaccount:" + namespace + ":" + account
	c.mu.Lock()
	defer c.mu.Unlock()
	if a := c.actors[user]; a != nil {
		return a, nil
	}
	rc := rest.CopyConfig(c.rest)
	rc.Impersonate = rest.ImpersonationConfig{UserName: user, Groups: []string{"system:serviceaccounts", "system:serviceaccounts:" + namespace, "system:authenticated"}}
	dyn, err := dynamic.NewForConfig(rc)
	if err != nil {
		return nil, fmt.Errorf("act as %s in cluster %s: %w", user, c.Config.Name, err)
	}
	a := &Cluster{Config: c.Config, log: c.log, rest: rc, dyn: dyn, raw: c.raw, disco: c.disco, plain: c.plain, mapper: c.mapper, base: c, ctx: c.ctx, cancel: func() {}}
	c.actors[user] = a
	return a, nil
}

// LastVersion is the cluster's version, asked for again every ten minutes.
func (c *Cluster) LastVersion(ctx context.Context) (string, error) {
	c.mu.Lock()
	v, at := c.version, c.verAt
	c.mu.Unlock()
	if v != "" && time.Since(at) < 10*time.Minute {
		return v, nil
	}
	v, err := c.Version(ctx)
	if err == nil {
		c.mu.Lock()
		c.version, c.verAt = v, time.Now()
		c.mu.Unlock()
	}
	return v, err
}

// APIs lists what the cluster serves: group/version, and group/version/Kind. It is asked anew when a kind was not known,
// and every ten minutes.
//
// whole is false when an API whose own server is away is missing among them: what a chart makes for it would be missing
// with it.
func (c *Cluster) APIs() (apis []string, whole bool, err error) {
	c.mu.Lock()
	have, at := c.apis, c.apisAt
	c.mu.Unlock()
	if len(have) > 0 && time.Since(at) < 10*time.Minute {
		return have, true, nil
	}
	c.mapping.Lock()
	c.disco.Invalidate()
	_, lists, err := c.disco.ServerGroupsAndResources()
	c.mapping.Unlock()
	switch {
	case err != nil && len(have) > 0:
		return have, true, nil // as they were a moment ago
	case err != nil && len(lists) == 0:
		return nil, false, c.explain("ask for its kinds", err)
	}
	whole = err == nil
	out := []string{}
	for _, l := range lists {
		out = append(out, l.GroupVersion)
		for _, r := range l.APIResources {
			if !strings.Contains(r.Name, "/") {
				out = append(out, l.GroupVersion+"/"+r.Kind)
			}
		}
	}
	slices.Sort(out)
	out = slices.Compact(out)
	if whole {
		c.mu.Lock()
		c.apis, c.apisAt = out, time.Now()
		c.mu.Unlock()
	}
	return out, whole, nil
}

// OpenAPI is the cluster's description of its kinds: OpenAPI v2, JSON.
func (c *Cluster) OpenAPI(ctx context.Context) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	b, err := c.raw.Get().AbsPath("/openapi/v2").SetHeader("Accept", "application/json").DoRaw(ctx)
	return b, c.explain("ask for its schema", err)
}

// Found is an object of a namespace, as it is in the cluster.
type Found struct {
	Version string
	Body    map[string]any
}

// Everything lists all objects of a namespace that can be listed and changed, of every kind, by kind and name.
func (c *Cluster) Everything(ctx context.Context, namespace string) (out []Found, err error) {
	err = c.everything(ctx, namespace, metav1.ListOptions{}, func(f Found) { out = append(out, f) })
	return out, err
}

// Marked gives each object that bears a ward's mark, of every kind that can be listed and changed, watched or not. No more than a
// page of them is in memory at a time.
func (c *Cluster) Marked(ctx context.Context, each func(Found)) error {
	return c.everything(ctx, "", metav1.ListOptions{LabelSelector: object.WardLabel}, each)
}

// everything gives objects of every kind: of a namespace, or with "" of all of them and of none.
func (c *Cluster) everything(ctx context.Context, namespace string, opts metav1.ListOptions, each func(Found)) error {
	c.mapping.Lock()
	lists, err := c.disco.ServerPreferredResources()
	c.mapping.Unlock()
	if err != nil && len(lists) == 0 {
		return c.explain("ask for its kinds", err)
	}
	for _, l := range lists {
		gv, err := schema.ParseGroupVersion(l.GroupVersion)
		if err != nil {
			return err
		}
		for _, r := range l.APIResources {
			if namespace != "" && !r.Namespaced || strings.Contains(r.Name, "/") || !slices.Contains(r.Verbs, "list") || !slices.Contains(r.Verbs, "patch") || !slices.Contains(r.Verbs, "get") {
				continue
			}
			err := c.pages(ctx, gv.WithResource(r.Name), namespace, opts, func(body map[string]any) {
				body["apiVersion"], body["kind"] = l.GroupVersion, r.Kind
				each(Found{l.GroupVersion, body})
			})
			if err != nil && !apierrors.IsForbidden(err) && !apierrors.IsMethodNotSupported(err) {
				return err
			}
		}
	}
	return nil
}

// Close ends every watch and waits for them.
func (c *Cluster) Close() {
	c.cancel()
	c.done.Wait()
}

// Server is the address of the API server.
func (c *Cluster) Server() string { return c.rest.Host }

// Version asks the API server for its version; it is also how a cluster is tried out.
func (c *Cluster) Version(ctx context.Context) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	raw, err := c.raw.Get().AbsPath("/version").DoRaw(ctx)
	if err != nil {
		return "", c.explain("ask for its version", err)
	}
	var v struct {
		GitVersion string `json:"gitVersion"`
	}
	if err := json.Unmarshal(raw, &v); err != nil {
		return "", fmt.Errorf("cluster %s answered something that is not Kubernetes: %w", c.Config.Name, err)
	}
	return v.GitVersion, nil
}

// UnreachableError tells that the cluster did not answer, as opposed to answering no.
type UnreachableError struct{ err error }

// Unreachable is err as one that says nothing but that the cluster did not answer.
func Unreachable(err error) error { return &UnreachableError{err} }

func (e *UnreachableError) Error() string { return e.err.Error() }
func (e *UnreachableError) Unwrap() error { return e.err }

// explain wraps an error of client-go with what was being done; network trouble becomes an UnreachableError.
func (c *Cluster) explain(doing string, err error) error {
	if err == nil {
		return nil
	}
	var status apierrors.APIStatus
	if errors.As(err, &status) {
		return fmt.Errorf("%s: %w", doing, err)
	}
	return &UnreachableError{fmt.Errorf("cluster %s does not answer (%s): %w", c.Config.Name, doing, err)}
}

// NoKindError tells that the cluster said that it has no such kind; a definition that was just made may not be listed yet.
// An API whose server does not answer is none: it is an error of the other sorts.
type NoKindError struct{ text string }

func (e *NoKindError) Error() string { return e.text }

// NotServed tells that the cluster does not serve a kind: it does not list it, or it lists it and does not answer
// for it yet.
func NotServed(err error) bool {
	var none *NoKindError
	return errors.As(err, &none) || apierrors.IsNotFound(err) && strings.Contains(err.Error(), "could not find the requested resource")
}

// Transient tells whether the same call may well go through a little later.
// Source: https://kubernetes.io/docs/reference/using-api/api-concepts/ (429, 5xx), and no answer at all.
func Transient(err error) bool {
	var gone *UnreachableError
	if errors.As(err, &gone) {
		return true
	}
	return apierrors.IsTooManyRequests(err) || apierrors.IsServerTimeout(err) || apierrors.IsTimeout(err) ||
		apierrors.IsServiceUnavailable(err) || apierrors.IsInternalError(err) || apierrors.IsConflict(err)
}

// unchangeable are the API server's words for a change that can't be made in place.
// Source: the validation of k8s.io/kubernetes (FieldImmutableErrorMsg and the messages of single kinds).
var unchangeable = []string{"immutable", "may not change once set", "updates to statefulset spec for fields other than", "pod updates may not change fields other than",
	"cannot change roleRef", "updates to parameters are forbidden", "updates to provisioner are forbidden"}

// Immutable tells that the API server refused an apply only because the change can't be made in place, and names
// the fields.
func Immutable(err error) (fields string, ok bool) {
	var status apierrors.APIStatus
	if !errors.As(err, &status) || !apierrors.IsInvalid(err) && !apierrors.IsForbidden(err) {
		return "", false
	}
	details := status.Status().Details
	if details == nil || len(details.Causes) == 0 {
		return "", false
	}
	var names []string
	for _, c := range details.Causes {
		known := slices.ContainsFunc(unchangeable, func(w string) bool { return strings.Contains(c.Message, w) })
		if !known {
			return "", false // something else is wrong as well; making it anew would not help
		}
		if c.Field != "" && !slices.Contains(names, c.Field) {
			names = append(names, c.Field)
		}
	}
	return strings.Join(names, ", "), true
}

// mappingOf finds the resource of a kind; a kind the cluster does not know is asked for again once, since a
// definition may just have been made.
func (c *Cluster) mappingOf(gvk schema.GroupVersionKind) (*meta.RESTMapping, error) {
	if c.base != nil {
		return c.base.mappingOf(gvk)
	}
	c.mapping.Lock()
	defer c.mapping.Unlock()
	m, err := c.mapper.RESTMapping(gvk.GroupKind(), gvk.Version)
	if meta.IsNoMatchError(err) {
		c.mapper.Reset()
		c.mu.Lock()
		c.apisAt = time.Time{}
		c.mu.Unlock()
		m, err = c.mapper.RESTMapping(gvk.GroupKind(), gvk.Version)
	}
	if meta.IsNoMatchError(err) {
		found, err := c.asked(gvk) // the mapper leaves out, without a word, what it got no answer about
		if err != nil {
			return nil, err
		}
		if found != nil {
			return found, nil
		}
		return nil, &NoKindError{fmt.Sprintf("cluster %s knows no kind %s in %s; is its definition missing, or the apiVersion mistyped?", c.Config.Name, gvk.Kind, gvk.GroupVersion())}
	}
	if err != nil {
		return nil, c.explain("ask for its kinds", err)
	}
	return m, nil
}

// asked asks the API server itself whether it serves a kind: nil without an error is its own no.
func (c *Cluster) asked(gvk schema.GroupVersionKind) (*meta.RESTMapping, error) {
	list, err := c.plain.ServerResourcesForGroupVersion(gvk.GroupVersion().String())
	if apierrors.IsNotFound(err) {
		return nil, nil
	}
	if err != nil {
		return nil, c.explain("ask for the kinds of "+gvk.GroupVersion().String(), err)
	}
	for _, r := range list.APIResources {
		if r.Kind != gvk.Kind || strings.Contains(r.Name, "/") {
			continue
		}
		scope := meta.RESTScopeRoot
		if r.Namespaced {
			scope = meta.RESTScopeNamespace
		}
		return &meta.RESTMapping{Resource: gvk.GroupVersion().WithResource(r.Name), GroupVersionKind: gvk, Scope: scope}, nil
	}
	return nil, nil
}

// elsewhere finds a kind in another version than the one that is served no more; a NoKindError when there is none.
func (c *Cluster) elsewhere(gvk schema.GroupVersionKind, none error) (*meta.RESTMapping, error) {
	groups, err := c.plain.ServerGroups()
	if err != nil {
		return nil, c.explain("ask for its kinds", err)
	}
	for _, g := range groups.Groups {
		if g.Name != gvk.Group {
			continue
		}
		for _, v := range g.Versions {
			if m, err := c.asked(gvk.GroupKind().WithVersion(v.Version)); m != nil || err != nil {
				return m, err
			}
		}
	}
	return nil, none
}

// UnknownKind tells whether a call failed because the cluster has no such kind, by its own word.
func UnknownKind(err error) bool {
	var none *NoKindError
	return errors.As(err, &none)
}

// Namespaced tells whether an object's kind lives in namespaces.
func (c *Cluster) Namespaced(o object.Object) (bool, error) {
	m, err := c.mappingOf(gvkOf(o.Version, o.Ref.Kind))
	if err != nil {
		return false, err
	}
	return m.Scope.Name() == meta.RESTScopeNameNamespace, nil
}

func gvkOf(version, kind string) schema.GroupVersionKind {
	gv, _ := schema.ParseGroupVersion(version)
	return gv.WithKind(kind)
}

func (c *Cluster) resource(version string, ref object.Ref) (dynamic.ResourceInterface, error) {
	m, err := c.mappingOf(gvkOf(version, ref.Kind))
	if err != nil {
		return nil, err
	}
	return c.mapped(m, ref), nil
}

// anyVersion is resource for what is there already: where its version is served no more, the object is in another.
func (c *Cluster) anyVersion(version string, ref object.Ref) (dynamic.ResourceInterface, error) {
	gvk := gvkOf(version, ref.Kind)
	m, err := c.mappingOf(gvk)
	if UnknownKind(err) {
		m, err = c.elsewhere(gvk, err)
	}
	if err != nil {
		return nil, err
	}
	return c.mapped(m, ref), nil
}

func (c *Cluster) mapped(m *meta.RESTMapping, ref object.Ref) dynamic.ResourceInterface {
	if m.Scope.Name() == meta.RESTScopeNameNamespace {
		return c.dyn.Resource(m.Resource).Namespace(ref.Namespace)
	}
	return c.dyn.Resource(m.Resource)
}

// Apply sends a server-side apply and returns the API server's answer. With dryRun nothing changes.
func (c *Cluster) Apply(ctx context.Context, o object.Object, dryRun bool) (map[string]any, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	r, err := c.resource(o.Version, o.Ref)
	if err != nil {
		return nil, err
	}
	data, err := json.Marshal(o.Body)
	if err != nil {
		return nil, err
	}
	force := true
	opts := metav1.PatchOptions{FieldManager: object.Manager, Force: &force}
	if dryRun {
		opts.DryRun = []string{metav1.DryRunAll}
	}
	answer, err := r.Patch(ctx, o.Ref.Name, types.ApplyPatchType, data, opts)
	if err != nil {
		return nil, c.explain("apply "+o.Ref.String(), spared(o.Ref, err))
	}
	return answer.Object, nil
}

// Patch sends a JSON Patch and returns the API server's answer. With dryRun nothing changes.
func (c *Cluster) Patch(ctx context.Context, version string, ref object.Ref, ops []object.Operation, dryRun bool) (map[string]any, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	r, err := c.resource(version, ref)
	if err != nil {
		return nil, err
	}
	data, err := json.Marshal(ops)
	if err != nil {
		return nil, err
	}
	opts := metav1.PatchOptions{FieldManager: object.Manager}
	if dryRun {
		opts.DryRun = []string{metav1.DryRunAll}
	}
	answer, err := r.Patch(ctx, ref.Name, types.JSONPatchType, data, opts)
	if err != nil {
		return nil, c.explain("change "+ref.String(), spared(ref, err))
	}
	return answer.Object, nil
}

// Get reads a live object; ErrGone when there is none. Where its version is served no more, it is read in another, which
// its apiVersion tells. The answer is the cluster's newest state, not one that a cache holds.
func (c *Cluster) Get(ctx context.Context, version string, ref object.Ref) (map[string]any, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	r, err := c.anyVersion(version, ref)
	if err != nil {
		return nil, err
	}
	o, err := r.Get(ctx, ref.Name, metav1.GetOptions{})
	if absent(err) {
		return nil, fmt.Errorf("%s: %w", ref, ErrGone)
	}
	if err != nil {
		return nil, c.explain("read "+ref.String(), err)
	}
	return o.Object, nil
}

// absent tells that an API server said that there is no such object, and not that it does not serve the kind for now, or
// that something between here and there knows no such address.
func absent(err error) bool {
	var status apierrors.APIStatus
	if !apierrors.IsNotFound(err) || !errors.As(err, &status) {
		return false
	}
	d := status.Status().Details
	return d != nil && d.Name != "" && !strings.Contains(err.Error(), "could not find the requested resource")
}

// Remove deletes an object and what it owns, and returns once it is gone; a workload is gone when its Pods are. An object
// that was deleted and made again by someone else (another uid) is left alone.
func (c *Cluster) Remove(ctx context.Context, version string, ref object.Ref, uid string) error {
	var r dynamic.ResourceInterface
	var err error
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
		if r, err = c.anyVersion(version, ref); UnknownKind(err) {
			return nil // its definition is gone, and every object of it
		}
		if err == nil {
			break
		}
		if !Transient(err) || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(pause):
		}
	}
	how := metav1.DeletePropagationBackground
	if health.HasBelow(ref) {
		how = metav1.DeletePropagationForeground
	}
	opts := metav1.DeleteOptions{PropagationPolicy: &how}
	if uid != "" {
		id := types.UID(uid)
		opts.Preconditions = &metav1.Preconditions{UID: &id}
	}
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
		err = r.Delete(ctx, ref.Name, opts)
		if apierrors.IsConflict(err) { // another uid, or the moment was bad
			if live, err := r.Get(ctx, ref.Name, metav1.GetOptions{}); absent(err) || err == nil && uid != "" && string(live.GetUID()) != uid {
				return nil
			}
		}
		if err == nil || ctx.Err() != nil || !Transient(c.explain("", err)) {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
	if absent(err) {
		return nil
	}
	if err != nil {
		return c.explain("remove "+ref.String(), err)
	}
	wait := 50 * time.Millisecond
	var waitsFor []string
	for {
		live, err := r.Get(ctx, ref.Name, metav1.GetOptions{})
		if absent(err) || err == nil && uid != "" && string(live.GetUID()) != uid {
			return nil
		}
		if err == nil {
			waitsFor = live.GetFinalizers()
			if live.GetDeletionTimestamp() == nil { // the cluster's data were put back meanwhile: nobody has deleted it
				_ = r.Delete(ctx, ref.Name, opts)
			}
		}
		if err != nil && ctx.Err() == nil && !Transient(c.explain("", err)) {
			return c.explain("wait until "+ref.String()+" is gone", err)
		}
		select {
		case <-ctx.Done():
			if len(waitsFor) > 0 {
				what := strings.ReplaceAll(strings.Join(waitsFor, ", "), metav1.FinalizerDeleteDependents, "the end of its Pods")
				return fmt.Errorf("%s was deleted but is not gone: it waits for %s", ref, what)
			}
			return fmt.Errorf("%s was deleted but is not gone yet: %w", ref, ctx.Err())
		case <-time.After(wait):
			wait = min(wait*2, time.Second)
		}
	}
}

// BoundLater tells whether a claim is bound only when a Pod uses it, and none does yet: its storage class says so.
// Source: https://kubernetes.io/docs/concepts/storage/storage-classes/#volume-binding-mode
func (c *Cluster) BoundLater(ctx context.Context, claim map[string]any) (bool, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	o := unstructured.Unstructured{Object: claim}
	if o.GetAnnotations()["volume.kubernetes.io/selected-node"] != "" {
		return false, nil
	}
	name, given, _ := unstructured.NestedString(claim, "spec", "storageClassName")
	var all storagev1.StorageClassList
	if err := c.read(ctx, &all, "/apis/storage.k8s.io/v1/storageclasses", nil); err != nil {
		return false, c.explain("list storage classes", err)
	}
	for _, class := range all.Items {
		if class.Name == name || !given && class.Annotations["storageclass.kubernetes.io/is-default-class"] == "true" {
			return class.VolumeBindingMode != nil && *class.VolumeBindingMode == storagev1.VolumeBindingWaitForFirstConsumer, nil
		}
	}
	return false, nil
}

// list reads a whole list.
func (c *Cluster) list(ctx context.Context, gvr schema.GroupVersionResource, namespace string, opts metav1.ListOptions) (out []map[string]any, err error) {
	err = c.pages(ctx, gvr, namespace, opts, func(body map[string]any) { out = append(out, body) })
	return out, err
}

// pages gives each object of a list, which is read page by page.
func (c *Cluster) pages(ctx context.Context, gvr schema.GroupVersionResource, namespace string, opts metav1.ListOptions, each func(map[string]any)) error {
	opts.Limit = 500
	for {
		var page *unstructured.UnstructuredList
		var err error
		if namespace == "" {
			page, err = c.dyn.Resource(gvr).List(ctx, opts)
		} else {
			page, err = c.dyn.Resource(gvr).Namespace(namespace).List(ctx, opts)
		}
		if err != nil {
			return c.explain("list "+gvr.Resource, err)
		}
		for i := range page.Items {
			each(page.Items[i].Object)
		}
		if opts.Continue = page.GetContinue(); opts.Continue == "" {
			return nil
		}
	}
}

// Missing tells that an apply failed because a namespace or a kind is not there.
func Missing(err error) bool {
	var none *NoKindError
	return apierrors.IsNotFound(err) || errors.As(err, &none)
}
