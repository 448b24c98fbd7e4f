// Package nodes stands in for the nodes of a cluster: it registers Nodes, binds Pods to them, and writes Pod
// status, events and logs as a kubelet would, with the behaviour of each image read from a catalogue. Nothing
// runs. Start with Start.
package nodes

import (
	"context"
	"crypto/tls"
	"fmt"
	"hash/fnv"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"time"

	coordination "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/resource"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/informers"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/cache"
	"k8s.io/client-go/util/retry"
)

// Yard is the stand-in for all nodes of one cluster.
type Yard struct {
	client    kubernetes.Interface
	catalogue *Catalogue
	names     []string
	server    *httptest.Server
	egress    *http.Server // the API server's way to the Pods; nil when it goes by itself
	port      int32
	serving   *serving
	done      sync.WaitGroup

	mu   sync.Mutex
	pods map[types.UID]*pod
	next int
}

// pod is what a node knows of one Pod.
type pod struct {
	cancel     context.CancelFunc
	mu         sync.Mutex
	containers map[string]*containerLog
}

// containerLog is what a container has written since it began, and before that.
type containerLog struct {
	now, before []string
	ended       bool // it writes no more
}

// Start registers count Nodes in a cluster and keeps them until the context ends. Close waits for the end.
func Start(ctx context.Context, cfg *rest.Config, catalogue *Catalogue, count int) (*Yard, error) {
	client, err := kubernetes.NewForConfig(cfg)
	if err != nil {
		return nil, err
	}
	f := &Yard{client: client, catalogue: catalogue, pods: map[types.UID]*pod{}}
	if f.serving, err = newServing(); err != nil {
		return nil, err
	}
	f.server = httptest.NewUnstartedServer(http.HandlerFunc(f.kubelet))
	f.server.TLS = &tls.Config{MinVersion: tls.VersionTLS12}
	f.server.StartTLS()
	_, port, err := net.SplitHostPort(f.server.Listener.Addr().String())
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	f.port = int32(n)
	for i := range count {
		f.names = append(f.names, fmt.Sprintf("pier-%d", i+1))
	}
	for _, name := range f.names {
		if err := f.register(ctx, name); err != nil {
			f.server.Close()
			return nil, err
		}
	}
	f.done.Go(func() { f.beat(ctx) })
	factory := informers.NewSharedInformerFactory(client, 0)
	informer := factory.Core().V1().Pods().Informer()
	if _, err := informer.AddEventHandler(cache.ResourceEventHandlerFuncs{
		AddFunc:    func(o any) { f.saw(ctx, o.(*corev1.Pod)) },
		UpdateFunc: func(_, o any) { f.saw(ctx, o.(*corev1.Pod)) },
		DeleteFunc: func(o any) {
			if p, ok := o.(*corev1.Pod); ok {
				f.forget(p.UID)
			}
		},
	}); err != nil {
		return nil, err
	}
	factory.Start(ctx.Done())
	f.done.Go(func() {
		<-ctx.Done()
		factory.Shutdown()
	})
	return f, nil
}

// Close waits until everything has ended after the context did.
func (f *Yard) Close() {
	f.server.CloseClientConnections()
	f.server.Close()
	_ = f.serving.server.Close()
	if f.egress != nil {
		_ = f.egress.Close()
	}
	f.done.Wait()
}

func (f *Yard) register(ctx context.Context, name string) error {
	node := &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: name, Labels: map[string]string{"kubernetes.io/hostname": name, "kubernetes.io/os": "linux", "kubernetes.io/arch": "amd64"}}}
	_, err := f.client.CoreV1().Nodes().Create(ctx, node, metav1.CreateOptions{})
	if err != nil && !apierrors.IsAlreadyExists(err) {
		return fmt.Errorf("register node %s: %w", name, err)
	}
	return f.nodeStatus(ctx, name)
}

func (f *Yard) nodeStatus(ctx context.Context, name string) error {
	return retry.RetryOnConflict(retry.DefaultBackoff, func() error { return f.writeNodeStatus(ctx, name) }) // the node controller writes to it too
}

func (f *Yard) writeNodeStatus(ctx context.Context, name string) error {
	node, err := f.client.CoreV1().Nodes().Get(ctx, name, metav1.GetOptions{})
	if err != nil {
		return err
	}
	room := corev1.ResourceList{corev1.ResourceCPU: resource.MustParse("16"), corev1.ResourceMemory: resource.MustParse("64Gi"), corev1.ResourcePods: resource.MustParse("250")}
	now := metav1.Now()
	node.Status = corev1.NodeStatus{Capacity: room, Allocatable: room,
		Conditions:      []corev1.NodeCondition{{Type: corev1.NodeReady, Status: corev1.ConditionTrue, Reason: "KubeletReady", Message: "the stand-in is up", LastHeartbeatTime: now, LastTransitionTime: now}},
		Addresses:       []corev1.NodeAddress{{Type: corev1.NodeInternalIP, Address: "127.0.0.1"}, {Type: corev1.NodeHostName, Address: name}},
		DaemonEndpoints: corev1.NodeDaemonEndpoints{KubeletEndpoint: corev1.DaemonEndpoint{Port: f.port}},
		NodeInfo:        corev1.NodeSystemInfo{KubeletVersion: "v1.37.2", OSImage: "Vigila lab", OperatingSystem: "linux", Architecture: "amd64", ContainerRuntimeVersion: "lab://1"}}
	_, err = f.client.CoreV1().Nodes().UpdateStatus(ctx, node, metav1.UpdateOptions{})
	return err
}

// beat renews the nodes' leases, as the node controller expects.
func (f *Yard) beat(ctx context.Context) {
	for {
		for _, name := range f.names {
			holder, seconds, now := name, int32(40), metav1.NowMicro()
			lease := &coordination.Lease{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: corev1.NamespaceNodeLease},
				Spec: coordination.LeaseSpec{HolderIdentity: &holder, LeaseDurationSeconds: &seconds, RenewTime: &now}}
			old, err := f.client.CoordinationV1().Leases(corev1.NamespaceNodeLease).Get(ctx, name, metav1.GetOptions{})
			if err == nil {
				old.Spec = lease.Spec
				_, _ = f.client.CoordinationV1().Leases(corev1.NamespaceNodeLease).Update(ctx, old, metav1.UpdateOptions{})
			} else if apierrors.IsNotFound(err) {
				_, _ = f.client.CoordinationV1().Leases(corev1.NamespaceNodeLease).Create(ctx, lease, metav1.CreateOptions{})
			}
		}
		if !pause(ctx, 10*time.Second) {
			return
		}
	}
}

func pause(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
}

func (f *Yard) forget(uid types.UID) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if p := f.pods[uid]; p != nil {
		p.cancel()
		delete(f.pods, uid)
	}
}

// saw takes a Pod in: a new one is placed, a placed one is run, a deleted one is let go.
func (f *Yard) saw(ctx context.Context, p *corev1.Pod) {
	f.mu.Lock()
	defer f.mu.Unlock()
	known := f.pods[p.UID]
	if p.DeletionTimestamp != nil {
		if known != nil {
			known.cancel()
			delete(f.pods, p.UID)
		}
		f.done.Go(func() {
			zero := int64(0)
			f.event(ctx, p, corev1.EventTypeNormal, "Killing", "Stopping containers")
			_ = f.client.CoreV1().Pods(p.Namespace).Delete(ctx, p.Name, metav1.DeleteOptions{GracePeriodSeconds: &zero, Preconditions: &metav1.Preconditions{UID: &p.UID}})
		})
		return
	}
	if known != nil || p.Status.Phase == corev1.PodSucceeded || p.Status.Phase == corev1.PodFailed {
		return
	}
	pctx, cancel := context.WithCancel(ctx)
	known = &pod{cancel: cancel, containers: map[string]*containerLog{}}
	for _, c := range p.Spec.Containers {
		known.containers[c.Name] = &containerLog{}
	}
	f.pods[p.UID] = known
	node := f.place(p)
	f.done.Go(func() {
		if p.Spec.NodeName == "" {
			b := &corev1.Binding{ObjectMeta: metav1.ObjectMeta{Name: p.Name, Namespace: p.Namespace, UID: p.UID}, Target: corev1.ObjectReference{Kind: "Node", Name: node}}
			if err := f.client.CoreV1().Pods(p.Namespace).Bind(pctx, b, metav1.CreateOptions{}); err != nil && !apierrors.IsConflict(err) {
				return
			}
			f.event(pctx, p, corev1.EventTypeNormal, "Scheduled", fmt.Sprintf("Successfully assigned %s/%s to %s", p.Namespace, p.Name, node))
		}
		f.play(pctx, p, known)
	})
}

// place chooses a node: the one a DaemonSet names, else one after the other.
func (f *Yard) place(p *corev1.Pod) string {
	if a := p.Spec.Affinity; a != nil && a.NodeAffinity != nil && a.NodeAffinity.RequiredDuringSchedulingIgnoredDuringExecution != nil {
		for _, t := range a.NodeAffinity.RequiredDuringSchedulingIgnoredDuringExecution.NodeSelectorTerms {
			for _, m := range t.MatchFields {
				if m.Key == "metadata.name" && len(m.Values) > 0 {
					return m.Values[0]
				}
			}
		}
	}
	f.next++
	return f.names[f.next%len(f.names)]
}

// play lives a Pod's life until it ends or is let go.
func (f *Yard) play(ctx context.Context, p *corev1.Pod, k *pod) {
	started := metav1.Now()
	ends := p.Spec.RestartPolicy != corev1.RestartPolicyAlways
	waiting := func(reason, message string) corev1.ContainerState {
		return corev1.ContainerState{Waiting: &corev1.ContainerStateWaiting{Reason: reason, Message: message}}
	}
	states := make([]corev1.ContainerStatus, len(p.Spec.Containers))
	for i, c := range p.Spec.Containers {
		states[i] = corev1.ContainerStatus{Name: c.Name, Image: c.Image, State: waiting("ContainerCreating", "")}
	}
	write := func(phase corev1.PodPhase) {
		ready := corev1.ConditionTrue
		for _, s := range states {
			if !s.Ready {
				ready = corev1.ConditionFalse
			}
		}
		f.status(ctx, p, phase, ready, states, started)
	}
	write(corev1.PodPending)
	var mu sync.Mutex // states, while containers live side by side
	set := func(i int, phase corev1.PodPhase, change func(*corev1.ContainerStatus)) {
		mu.Lock()
		defer mu.Unlock()
		change(&states[i])
		write(phase)
	}
	var wg sync.WaitGroup
	failed := false
	for i, c := range p.Spec.Containers {
		im := f.catalogue.find(c.Image, ends)
		if im.Behaviour == "crash" && p.Spec.RestartPolicy == corev1.RestartPolicyNever {
			im.Behaviour = "exits" // once, and nobody starts it again
		}
		wg.Go(func() {
			switch im.Behaviour {
			case "pull-fails":
				f.pullFails(ctx, p, i, c, set)
				return
			case "crash":
				f.crashes(ctx, p, k, i, c, im, set)
				return
			}
			if !pause(ctx, 150*time.Millisecond) {
				return
			}
			f.event(ctx, p, corev1.EventTypeNormal, "Pulled", fmt.Sprintf("Container image %q already present on machine", c.Image))
			f.event(ctx, p, corev1.EventTypeNormal, "Started", "Started container "+c.Name)
			last := im.Behaviour == "exits" || ends && im.Behaviour != "ready"
			k.write(c.Name, im.Logs[:min(len(im.Logs), 1)])
			if !last {
				k.write(c.Name, im.Logs)
			}
			now := metav1.Now()
			yes := true
			set(i, corev1.PodRunning, func(s *corev1.ContainerStatus) {
				s.State, s.Started, s.ContainerID = corev1.ContainerState{Running: &corev1.ContainerStateRunning{StartedAt: now}}, &yes, "lab://"+string(p.UID)+"/"+c.Name
			})
			if im.Behaviour == "never-ready" {
				f.event(ctx, p, corev1.EventTypeWarning, "Unhealthy", "Readiness probe failed: it does not answer")
				<-ctx.Done()
				return
			}
			if !last && !pause(ctx, im.After) || last && !k.tell(ctx, c.Name, im) {
				return
			}
			if last {
				mu.Lock()
				failed = failed || im.Exit != 0
				mu.Unlock()
				set(i, corev1.PodRunning, func(s *corev1.ContainerStatus) {
					s.State = corev1.ContainerState{Terminated: &corev1.ContainerStateTerminated{ExitCode: im.Exit, Reason: exitReason(im.Exit), StartedAt: now, FinishedAt: metav1.Now(), Message: lastOf(im)}}
				})
				return
			}
			if i == 0 { // the first container is the one that answers
				defer f.serving.begin(p, im)()
			}
			set(i, corev1.PodRunning, func(s *corev1.ContainerStatus) { s.Ready = true })
			<-ctx.Done()
		})
	}
	wg.Wait()
	if ctx.Err() == nil && ends {
		phase := corev1.PodSucceeded
		if failed {
			phase = corev1.PodFailed
		}
		write(phase)
	}
}

func exitReason(code int32) string {
	if code == 0 {
		return "Completed"
	}
	return "Error"
}

// lastOf is the termination message: as with terminationMessagePolicy FallbackToLogsOnError.
func lastOf(im Image) string {
	if im.Exit == 0 || len(im.Logs) == 0 {
		return ""
	}
	return im.Logs[len(im.Logs)-1]
}

type setter func(i int, phase corev1.PodPhase, change func(*corev1.ContainerStatus))

func (f *Yard) pullFails(ctx context.Context, p *corev1.Pod, i int, c corev1.Container, set setter) {
	message := fmt.Sprintf("failed to pull and unpack image %q: not found", c.Image)
	for wait := 2 * time.Second; ; wait = min(wait*2, 5*time.Minute) {
		f.event(ctx, p, corev1.EventTypeNormal, "Pulling", fmt.Sprintf("Pulling image %q", c.Image))
		if !pause(ctx, 300*time.Millisecond) {
			return
		}
		f.event(ctx, p, corev1.EventTypeWarning, "Failed", message)
		for _, reason := range []string{"ErrImagePull", "ImagePullBackOff"} {
			set(i, corev1.PodPending, func(s *corev1.ContainerStatus) {
				s.State = corev1.ContainerState{Waiting: &corev1.ContainerStateWaiting{Reason: reason, Message: message}}
			})
		}
		if !pause(ctx, wait) {
			return
		}
	}
}

// crashes runs a container that exits, with the kubelet's back-off: 10 s doubling to 5 min, a tenth of it here.
func (f *Yard) crashes(ctx context.Context, p *corev1.Pod, k *pod, i int, c corev1.Container, im Image, set setter) {
	for back := time.Second; ; back = min(back*2, 30*time.Second) {
		if !pause(ctx, 150*time.Millisecond) {
			return
		}
		begun := metav1.Now()
		k.write(c.Name, im.Logs)
		f.event(ctx, p, corev1.EventTypeNormal, "Started", "Started container "+c.Name)
		set(i, corev1.PodRunning, func(s *corev1.ContainerStatus) {
			s.State = corev1.ContainerState{Running: &corev1.ContainerStateRunning{StartedAt: begun}}
		})
		if !pause(ctx, im.After) {
			return
		}
		ended := &corev1.ContainerStateTerminated{ExitCode: im.Exit, Reason: exitReason(im.Exit), StartedAt: begun, FinishedAt: metav1.Now(), Message: lastOf(im)}
		f.event(ctx, p, corev1.EventTypeWarning, "BackOff", fmt.Sprintf("Back-off restarting failed container %s in pod %s", c.Name, p.Name))
		set(i, corev1.PodRunning, func(s *corev1.ContainerStatus) {
			s.LastTerminationState = corev1.ContainerState{Terminated: ended}
			s.State = corev1.ContainerState{Waiting: &corev1.ContainerStateWaiting{Reason: "CrashLoopBackOff", Message: fmt.Sprintf("back-off %s restarting failed container=%s", back, c.Name)}}
		})
		if !pause(ctx, back) {
			return
		}
		set(i, corev1.PodRunning, func(s *corev1.ContainerStatus) { s.RestartCount++ })
	}
}

func (k *pod) write(container string, rows []string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	l := k.containers[container]
	l.before, l.now, l.ended = l.now, rows, false
}

// tell writes what a container that ends has to say, row by row until then; false when it was let go before.
func (k *pod) tell(ctx context.Context, container string, im Image) bool {
	rows := max(len(im.Logs), 1)
	for n := range rows {
		if !pause(ctx, im.After/time.Duration(rows)) {
			return false
		}
		k.mu.Lock()
		k.containers[container].now = im.Logs[:min(n+2, len(im.Logs))]
		k.containers[container].ended = n+1 == rows
		k.mu.Unlock()
	}
	return true
}

// status writes a Pod's status as a kubelet does, with its own field manager.
func (f *Yard) status(ctx context.Context, p *corev1.Pod, phase corev1.PodPhase, ready corev1.ConditionStatus, states []corev1.ContainerStatus, started metav1.Time) {
	for ctx.Err() == nil {
		live, err := f.client.CoreV1().Pods(p.Namespace).Get(ctx, p.Name, metav1.GetOptions{})
		if err != nil || live.UID != p.UID {
			return
		}
		now := metav1.Now()
		since := func(t corev1.PodConditionType, s corev1.ConditionStatus) corev1.PodCondition {
			for _, c := range live.Status.Conditions {
				if c.Type == t && c.Status == s {
					return c
				}
			}
			return corev1.PodCondition{Type: t, Status: s, LastTransitionTime: now}
		}
		live.Status.Phase, live.Status.StartTime, live.Status.ContainerStatuses = phase, &started, states
		live.Status.HostIP, live.Status.PodIP = "127.0.0.1", podIP(p.UID)
		live.Status.PodIPs = []corev1.PodIP{{IP: live.Status.PodIP}}
		live.Status.Conditions = []corev1.PodCondition{since(corev1.PodScheduled, corev1.ConditionTrue), since(corev1.PodInitialized, corev1.ConditionTrue),
			since(corev1.ContainersReady, ready), since(corev1.PodReady, ready)}
		_, err = f.client.CoreV1().Pods(p.Namespace).UpdateStatus(ctx, live, metav1.UpdateOptions{FieldManager: "kubelet"})
		if err == nil || !apierrors.IsConflict(err) {
			return
		}
	}
}

func podIP(uid types.UID) string {
	h := fnv.New32a()
	_, _ = h.Write([]byte(uid))
	n := h.Sum32()
	return fmt.Sprintf("10.1.%d.%d", n>>8&0xff, n&0xff|1)
}

// event writes an event, and counts one that is there already, as a kubelet does.
func (f *Yard) event(ctx context.Context, p *corev1.Pod, kind, reason, message string) {
	h := fnv.New32a()
	_, _ = h.Write([]byte(reason + message))
	name := fmt.Sprintf("%s.%x", p.Name, h.Sum32())
	now := metav1.Now()
	events := f.client.CoreV1().Events(p.Namespace)
	if old, err := events.Get(ctx, name, metav1.GetOptions{}); err == nil {
		old.Count++
		old.LastTimestamp = now
		_, _ = events.Update(ctx, old, metav1.UpdateOptions{})
		return
	}
	_, _ = events.Create(ctx, &corev1.Event{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: p.Namespace},
		InvolvedObject: corev1.ObjectReference{Kind: "Pod", APIVersion: "v1", Namespace: p.Namespace, Name: p.Name, UID: p.UID},
		Type:           kind, Reason: reason, Message: message, Count: 1, FirstTimestamp: now, LastTimestamp: now,
		Source: corev1.EventSource{Component: "kubelet", Host: p.Spec.NodeName}}, metav1.CreateOptions{})
}

// kubelet answers what the API server asks a kubelet for: /containerLogs/NAMESPACE/POD/CONTAINER.
func (f *Yard) kubelet(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	if len(parts) != 4 || parts[0] != "containerLogs" {
		http.Error(w, "the lab's node serves container logs only", http.StatusNotFound)
		return
	}
	live, err := f.client.CoreV1().Pods(parts[1]).Get(r.Context(), parts[2], metav1.GetOptions{})
	if err != nil {
		http.Error(w, err.Error(), http.StatusNotFound)
		return
	}
	f.mu.Lock()
	k := f.pods[live.UID]
	f.mu.Unlock()
	if k == nil {
		return
	}
	read := func() (rows []string, ended bool) {
		k.mu.Lock()
		defer k.mu.Unlock()
		l := k.containers[parts[3]]
		switch {
		case l == nil:
			return nil, true
		case r.URL.Query().Get("previous") == "true":
			return l.before, true
		}
		return l.now, l.ended
	}
	rows, ended := read()
	told := 0
	if n, err := strconv.Atoi(r.URL.Query().Get("tailLines")); err == nil && n < len(rows) {
		told = len(rows) - n
	}
	for {
		for ; told < len(rows); told++ {
			fmt.Fprintln(w, rows[told])
		}
		if ended || r.URL.Query().Get("follow") != "true" {
			return
		}
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
		if !pause(r.Context(), 100*time.Millisecond) {
			return
		}
		f.mu.Lock()
		gone := f.pods[live.UID] != k
		f.mu.Unlock()
		if rows, ended = read(); gone {
			ended = true
		}
	}
}
