package cluster

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/rest"

	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
)

// Owned is one object below another, with its depth (1: a child).
type Owned struct {
	Ref    object.Ref
	Depth  int
	Health health.Result
	Body   map[string]any
}

var made = []schema.GroupVersionResource{
	{Group: "apps", Version: "v1", Resource: "replicasets"},
	{Group: "batch", Version: "v1", Resource: "jobs"},
	{Version: "v1", Resource: "pods"},
}

// Children is what the controllers made in a namespace, by the uid of its owner.
type Children map[string][]map[string]any

// Children reads what the controllers of workloads made in a namespace.
func (c *Cluster) Children(ctx context.Context, namespace string) (Children, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	out := Children{}
	for _, gvr := range made {
		items, err := c.list(ctx, gvr, namespace, metav1.ListOptions{})
		if err != nil {
			return nil, err
		}
		for _, item := range items {
			meta, _ := item["metadata"].(map[string]any)
			owners, _ := meta["ownerReferences"].([]any)
			for _, o := range owners {
				if m, ok := o.(map[string]any); ok && m["controller"] == true {
					id, _ := m["uid"].(string)
					out[id] = append(out[id], item)
				}
			}
		}
	}
	for _, items := range out {
		sort.Slice(items, func(i, j int) bool { return name(items[i]) < name(items[j]) })
	}
	return out, nil
}

// Below lists what an object owns, as an outline: each object followed by its own. Old ReplicaSets without
// Pods are left out.
func (c Children) Below(uid string) []Owned { return c.below(uid, 1) }

// Leads lists the EndpointSlices of a Service: which Pods it leads to.
func (c *Cluster) Leads(ctx context.Context, namespace, service string) ([]map[string]any, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	return c.list(ctx, schema.GroupVersionResource{Group: "discovery.k8s.io", Version: "v1", Resource: "endpointslices"}, namespace, metav1.ListOptions{LabelSelector: "kubernetes.io/service-name=" + service})
}

// AskPod sends a GET to a port of a Pod, through the API server. The answer may be the API server's own: a Status that says why not.
// Source: https://kubernetes.io/docs/tasks/access-application-cluster/access-cluster-services/
func (c *Cluster) AskPod(ctx context.Context, namespace, pod string, port int, path string, headers map[string]string) (*http.Response, error) {
	base, _, err := rest.DefaultServerUrlFor(c.rest)
	if err != nil {
		return nil, err
	}
	client, err := rest.HTTPClientFor(c.rest)
	if err != nil {
		return nil, err
	}
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	path, query, _ := strings.Cut(path, "?")
	u := *base
	u.Path = strings.TrimSuffix(u.Path, "/") + fmt.Sprintf("/api/v1/namespaces/%s/pods/%s:%d/proxy/%s", namespace, pod, port, strings.TrimPrefix(path, "/"))
	u.RawQuery = query
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, err
	}
	for k, v := range headers {
		req.Header.Set(k, v)
	}
	answer, err := client.Do(req)
	if err != nil {
		return nil, c.explain("ask Pod "+pod, err)
	}
	return answer, nil
}

func (c Children) below(uid string, depth int) []Owned {
	var out []Owned
	for _, item := range c[uid] {
		o, err := object.FromBody(item)
		if err != nil {
			continue
		}
		id, _ := item["metadata"].(map[string]any)["uid"].(string)
		if o.Ref.Kind == "ReplicaSet" && len(c[id]) == 0 {
			continue
		}
		out = append(out, Owned{o.Ref, depth, health.Of(o.Ref.Group, o.Ref.Kind, item), item})
		out = append(out, c.below(id, depth+1)...)
	}
	return out
}

func name(body map[string]any) string {
	meta, _ := body["metadata"].(map[string]any)
	s, _ := meta["name"].(string)
	return s
}

// Event is one event of the cluster about an object.
type Event struct {
	At      time.Time
	Warning bool
	Reason  string
	Text    string
	About   object.Ref
	Count   int
}

// Events lists what happened to some objects of a namespace, newest first.
func (c *Cluster) Events(ctx context.Context, namespace string, about []object.Ref) ([]Event, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	query := map[string]string{"limit": "1000"}
	if len(about) == 1 {
		query["fieldSelector"] = "involvedObject.name=" + about[0].Name
	}
	var list corev1.EventList
	if err := c.read(ctx, &list, path.Join("/api/v1/namespaces", namespace, "events"), query); err != nil {
		return nil, c.explain("list events", err)
	}
	var out []Event
	for i := range list.Items {
		if e := eventOf(&list.Items[i]); slices.Contains(about, e.About) {
			out = append(out, e)
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].At.After(out[j].At) })
	return out, nil
}

// Node is a machine of a cluster, as it says itself.
type Node struct {
	Name    string
	Ready   bool
	Closed  bool   // no new Pods are put there
	Says    string // why it is not ready, or what presses it
	Version string // of its kubelet
	Since   time.Time
	CPU     int64 // for Pods, in thousandths of a core
	Memory  int64 // for Pods, in bytes
	Pods    int64 // as many as it takes
}

// Public is where the cluster is, and the certificates (PEM) that its API server is signed with beside those that everybody trusts: nothing secret.
func (c *Cluster) Public() (server string, ca []byte, err error) {
	if ca = c.rest.CAData; len(ca) == 0 && c.rest.CAFile != "" {
		ca, err = os.ReadFile(c.rest.CAFile)
	}
	return c.rest.Host, ca, err
}

// maxNodes bounds what is read of a cluster's nodes; there is no larger one that is supported.
const maxNodes = 5000

// Nodes lists the machines of the cluster, by name.
func (c *Cluster) Nodes(ctx context.Context) ([]Node, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	var out []Node
	query := map[string]string{"limit": "500"}
	for {
		var list corev1.NodeList
		if err := c.read(ctx, &list, "/api/v1/nodes", query); err != nil {
			return nil, c.explain("list nodes", err)
		}
		for i := range list.Items {
			out = append(out, nodeOf(&list.Items[i]))
		}
		if query["continue"] = list.Continue; list.Continue == "" || len(out) >= maxNodes {
			break
		}
	}
	slices.SortFunc(out, func(a, b Node) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func nodeOf(n *corev1.Node) Node {
	room := n.Status.Allocatable
	out := Node{Name: n.Name, Closed: n.Spec.Unschedulable, Version: n.Status.NodeInfo.KubeletVersion, CPU: room.Cpu().MilliValue(), Memory: room.Memory().Value(), Pods: room.Pods().Value(), Says: "it has told nothing yet"}
	for _, x := range n.Status.Conditions {
		switch {
		case x.Type == corev1.NodeReady:
			out.Ready, out.Since = x.Status == corev1.ConditionTrue, x.LastTransitionTime.UTC()
			if out.Says = ""; !out.Ready {
				out.Says = strings.TrimSuffix(x.Reason+": "+x.Message, ": ")
			}
		case x.Status == corev1.ConditionTrue && out.Says == "": // such as MemoryPressure
			out.Says = strings.TrimSuffix(string(x.Type)+": "+x.Message, ": ")
		}
	}
	return out
}

// maxWarnings bounds what is read of a cluster's warnings.
const maxWarnings = 5000

// Warnings lists the warnings of a cluster since a time, newest first; all is false where there are more than are read.
func (c *Cluster) Warnings(ctx context.Context, since time.Time) (out []Event, all bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	read := 0
	all = true
	for _, only := range c.spaces() {
		at := "/api/v1/events"
		if only != "" {
			at = path.Join("/api/v1/namespaces", only, "events")
		}
		query := map[string]string{"limit": "500", "fieldSelector": "type=" + corev1.EventTypeWarning}
		for {
			var list corev1.EventList
			if err := c.read(ctx, &list, at, query); err != nil {
				return nil, false, c.explain("list events", err)
			}
			for i := range list.Items {
				if e := eventOf(&list.Items[i]); !e.At.Before(since) {
					out = append(out, e)
				}
			}
			read += len(list.Items)
			query["continue"] = list.Continue
			if list.Continue == "" {
				break
			}
			if read >= maxWarnings {
				all = false
				break
			}
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].At.After(out[j].At) })
	return out, all, nil
}

func eventOf(e *corev1.Event) Event {
	ref := object.Ref{Group: gvkOf(e.InvolvedObject.APIVersion, "").Group, Kind: e.InvolvedObject.Kind, Namespace: e.InvolvedObject.Namespace, Name: e.InvolvedObject.Name}
	at := e.LastTimestamp.Time
	if at.IsZero() {
		at = e.EventTime.Time
	}
	if at.IsZero() {
		at = e.CreationTimestamp.Time
	}
	return Event{At: at.UTC(), Warning: e.Type == corev1.EventTypeWarning, Reason: e.Reason, Text: e.Message, About: ref, Count: int(max(e.Count, 1))}
}

// maxLog bounds one answer of Logs, in bytes.
const maxLog = 4 << 20

// podLog asks for the log of a container.
func (c *Cluster) podLog(namespace, pod, container string) *rest.Request {
	q := c.raw.Get().AbsPath("/api/v1/namespaces", namespace, "pods", pod, "log")
	if container != "" {
		q = q.Param("container", container)
	}
	return q
}

// Logs reads the end of a container's log; previous is the container before its last restart.
func (c *Cluster) Logs(ctx context.Context, namespace, pod, container string, previous bool, tail int64) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	s, err := c.podLog(namespace, pod, container).Param("previous", strconv.FormatBool(previous)).Param("tailLines", strconv.FormatInt(tail, 10)).Param("limitBytes", strconv.Itoa(maxLog)).Stream(ctx)
	if err != nil {
		return "", c.explain(fmt.Sprintf("read the log of %s", pod), err)
	}
	defer s.Close()
	var b strings.Builder
	if _, err := io.Copy(&b, io.LimitReader(s, maxLog)); err != nil {
		return b.String(), c.explain(fmt.Sprintf("read the log of %s", pod), err)
	}
	return b.String(), nil
}

// ErrNotStarted tells that a container has written nothing yet, since it has not begun.
var ErrNotStarted = errors.New("its container has not started yet")

// Follow writes a container's log as it grows, until the container ends or ctx does.
func (c *Cluster) Follow(ctx context.Context, namespace, pod, container string, w io.Writer) error {
	s, err := c.podLog(namespace, pod, container).Param("follow", "true").Stream(ctx)
	if apierrors.IsBadRequest(err) { // as the API server answers before it has one
		return ErrNotStarted
	}
	if err != nil {
		return c.explain(fmt.Sprintf("read the log of %s", pod), err)
	}
	defer s.Close()
	if _, err = io.Copy(w, s); err != nil && ctx.Err() == nil {
		return c.explain(fmt.Sprintf("read the log of %s", pod), err)
	}
	return ctx.Err()
}

// Container is one container of a Pod.
type Container struct {
	Pod, Name string
	Several   bool // the Pod has others
}

// Containers lists the containers of a Pod in the order they run: first those that prepare it.
func Containers(pod map[string]any) []Container {
	var out []Container
	spec, _ := pod["spec"].(map[string]any)
	for _, part := range []string{"initContainers", "containers"} {
		all, _ := spec[part].([]any)
		for _, c := range all {
			if m, ok := c.(map[string]any); ok {
				n, _ := m["name"].(string)
				out = append(out, Container{Pod: name(pod), Name: n})
			}
		}
	}
	for i := range out {
		out[i].Several = len(out) > 1
	}
	return out
}
