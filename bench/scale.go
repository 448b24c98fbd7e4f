package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/tools/clientcmd"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/client"
)

// runScale measures many lookouts. All of it is on loopback and ends by itself.
func runScale(ctx context.Context, o options) ([]row, error) {
	ctx, cancel := context.WithTimeout(ctx, 90*time.Minute)
	defer cancel()
	w, err := newWorld(ctx, "skerry")
	if err != nil {
		return nil, err
	}
	defer w.close()
	f := &coast{world: w, n: o.lookouts}
	defer f.end()
	var t taken
	return t.all(ctx, o, []measure{{"crowd", func(ctx context.Context) (row, error) { return w.simulated(ctx, o.crowd) }}, {"apply", f.up(f.apply)}, {"rest", f.up(f.rest)}, {"wire", f.up(f.wire)}, {"commit", f.up(f.commit)}, {"hand", f.up(f.hand)}, {"herd", f.up(f.herd)}})
}

// up brings the coast up before a measure.
func (f *coast) up(do func(context.Context) (row, error)) func(context.Context) (row, error) {
	return func(ctx context.Context) (row, error) {
		if err := f.ready(ctx); err != nil {
			return row{}, err
		}
		return do(ctx)
	}
}

// What each lookout keeps.
const (
	wardsEach  = 20
	objectsOf  = 50 // a ward
	bareSample = 4000
)

// coast is a service whose clusters are kept by lookouts, each a process of its own, which share the lab's API servers: a namespace each.
type coast struct {
	world *world
	n     int

	*service
	repo     *repository
	lookouts []*exec.Cmd
	dyn      map[string]dynamic.Interface
	took     time.Duration // until all was in step
	bare     time.Duration // an object's bare apply, many at a time
}

func (f *coast) sea(i int) string     { return fmt.Sprintf("sea-%03d", i) }
func (f *coast) ward(i, j int) string { return fmt.Sprintf("mooring-%03d-%02d", i, j) }
func (f *coast) plane(i int) string   { return []string{"quay", "skerry"}[i%2] }

func (f *coast) end() {
	for _, l := range f.lookouts {
		_ = l.Process.Signal(syscall.SIGTERM)
	}
	for _, l := range f.lookouts {
		_ = l.Wait()
	}
}

// file is a ward's file, and objects are those it keeps, all in the namespace of its lookout.
func (f *coast) file(i, j int) string {
	name := f.ward(i, j)
	return fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nowner: harbour-ops\nfrom: {repo: coast, path: %[2]s/%[1]s}\ninto: {cluster: %[2]s, namespace: %[2]s}\nkeep: {sync: auto, drift: report, every: 1h}\nsettle: {within: 40m}\n", name, f.sea(i)) // all begin at once, and share what the API servers can take
}

// object is a ConfigMap or a network policy. Workloads would be ready as fast as the controllers of the lab are, which take their time.
func (f *coast) object(name string, n, version int) string { return manifest(name, 3*(n%2), version) }

func (f *coast) objects(i, j, version int) string {
	var b strings.Builder
	for n := range objectsOf {
		b.WriteString("---\n" + f.object(fmt.Sprintf("%s-%02d", f.ward(i, j), n), n, version))
	}
	return b.String()
}

// ready brings up the coast, once.
func (f *coast) ready(ctx context.Context) (err error) {
	if f.service != nil {
		return nil
	}
	f.dyn = map[string]dynamic.Interface{}
	for _, name := range []string{"quay", "skerry"} {
		rc, err := clientcmd.BuildConfigFromFlags("", f.world.kubeconfigOf(name))
		if err != nil {
			return err
		}
		rc.QPS = -1
		if f.dyn[name], err = dynamic.NewForConfig(rc); err != nil {
			return err
		}
	}
	if err := f.bareApplies(ctx); err != nil {
		return err
	}
	port, err := freePort()
	if err != nil {
		return err
	}
	s := &service{world: f.world, dir: filepath.Join(f.world.dir, "coast"), listen: fmt.Sprintf("127.0.0.1:%d", port)}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return err
	}
	f.world.all = append(f.world.all, s)
	if err := s.start(ctx); err != nil {
		return err
	}
	f.service = s
	if f.repo, err = f.world.repository("coast"); err != nil {
		return err
	}
	files := map[string]string{}
	for i := range f.n {
		for j := range wardsEach {
			files[f.sea(i)+"/"+f.ward(i, j)+"/all.yaml"] = f.objects(i, j, 1)
		}
	}
	if err := errors.Join(f.repo.push("First", files), f.cli("repo", "add", "coast", f.repo.url)); err != nil {
		return err
	}
	for i := range f.n {
		if err := f.join(ctx, i); err != nil {
			return err
		}
	}
	if err := until(ctx, "all lookouts have joined", func() (bool, error) { n, err := f.here(ctx); return n == f.n, err }); err != nil {
		return err
	}
	began := time.Now()
	var text strings.Builder
	for i := range f.n {
		for j := range wardsEach {
			text.WriteString("---\n" + f.file(i, j))
		}
	}
	if err := f.add(text.String()); err != nil {
		return err
	}
	if err := within(ctx, 40*time.Minute, "every ward is in step", func() (bool, error) {
		time.Sleep(time.Second)
		n, err := f.count(ctx, &client.ListWardsParams{Standing: client.StandingInStep, Health: client.HealthReady})
		return n == f.n*wardsEach, err
	}); err != nil {
		return err
	}
	f.took = time.Since(began)
	return nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// bareApplies takes how long the API servers need for an object, 16 at a time at each, while nobody else is there.
func (f *coast) bareApplies(ctx context.Context) error {
	for i := range f.n {
		ns := &unstructured.Unstructured{Object: map[string]any{"apiVersion": "v1", "kind": "Namespace", "metadata": map[string]any{"name": f.sea(i)}}}
		if _, err := f.dyn[f.plane(i)].Resource(kinds[3]).Create(ctx, ns, metav1.CreateOptions{}); err != nil {
			return err
		}
	}
	start := time.Now()
	var all sync.WaitGroup
	errs := make([]error, 32)
	for worker := range errs {
		all.Go(func() {
			for n := worker; n < bareSample && errs[worker] == nil; n += len(errs) {
				var o unstructured.Unstructured
				if errs[worker] = yaml.Unmarshal([]byte(f.object(fmt.Sprintf("bare-%04d", n), n, 1)), &o.Object); errs[worker] != nil {
					return
				}
				_, errs[worker] = f.dyn[f.plane(n/len(errs)+n)].Resource(kinds[2*(n%2)]).Namespace("default").Apply(ctx, o.GetName(), &o, metav1.ApplyOptions{FieldManager: "bare", Force: true})
			}
		})
	}
	all.Wait()
	f.bare = time.Since(start) / bareSample
	return errors.Join(errs...)
}

// join starts the lookout of one cluster.
func (f *coast) join(ctx context.Context, i int) error {
	r, err := f.api.LetLookoutJoinWithResponse(ctx, f.sea(i), client.LetLookoutJoin{Labels: map[string]string{"coast": "real"}})
	if err := f.api.Check(r, err); err != nil {
		return err
	}
	dir := filepath.Join(f.dir, f.sea(i))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(f.world.bin, "vigila"), "lookout", "--service", f.address, "--service-key", r.JSON200.ServiceKey, "--kubeconfig", f.world.kubeconfigOf(f.plane(i)), "--data", filepath.Join(dir, "data"), "--only-namespace", f.sea(i), "--log-format", "json", "--profiles", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), "VIGILA_JOIN="+r.JSON200.JoinToken)
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		return err
	}
	f.lookouts = append(f.lookouts, cmd)
	return nil
}

func (f *coast) clusters(ctx context.Context) ([]client.Cluster, error) {
	r, err := f.api.ListClustersWithResponse(ctx, &client.ListClustersParams{Search: "coast=real", Limit: 1000})
	if err := f.api.Check(r, err); err != nil {
		return nil, err
	}
	return r.JSON200.Items, nil
}

// here is how many lookouts are connected.
func (f *coast) here(ctx context.Context) (n int, err error) {
	all, err := f.clusters(ctx)
	for _, c := range all {
		if c.Lookout.Here {
			n++
		}
	}
	return n, err
}

// count is how many wards there are of some sort.
func (s *service) count(ctx context.Context, q *client.ListWardsParams) (int, error) {
	q.Limit = 1
	r, err := s.api.ListWardsWithResponse(ctx, q)
	if err := s.api.Check(r, err); err != nil {
		return 0, err
	}
	return r.JSON200.Total, nil
}

func (f *coast) apply(context.Context) (row, error) {
	n := f.n * wardsEach * objectsOf
	limit := time.Duration(n) * f.bare
	ratio := float64(f.took) / float64(limit)
	return row{what: fmt.Sprintf("%d lookouts, each a process with %d objects in %d wards, until every ward is in step", f.n, wardsEach*objectsOf, wardsEach), against: "the bare applies", goal: "within 2 times",
		how:  fmt.Sprintf("From registering the %d wards, when all lookouts have joined, until the API calls every one in step and ready. The bare applies are server-side applies of %d such objects, 16 at a time at each of the two API servers, before any lookout is there, times the number of objects.", f.n*wardsEach, bareSample),
		ours: fmt.Sprintf("%.0f s", f.took.Seconds()), limit: fmt.Sprintf("%.0f s", limit.Seconds()), verdict: fmt.Sprintf("%.2f times", ratio), met: ratio <= 2}, nil
}

// rest: what the service takes while all is in step.
func (f *coast) rest(ctx context.Context) (row, error) {
	const quiet = 2 * time.Minute
	r := row{what: fmt.Sprintf("the service at rest with %d lookouts and %d wards in step", f.n, f.n*wardsEach), against: "nothing", goal: "under 300 MB and 0.1 of a core", limit: "0",
		how: fmt.Sprintf("Resident memory (VmRSS) after, and processor time (utime and stime) over, %s in which nothing happens, half a minute after the last ward came into step. Lookouts and wards look hourly at their repository.", quiet)}
	if err := sleep(ctx, 30*time.Second); err != nil {
		return r, err
	}
	before, err := cpuOf(f.cmd.Process.Pid)
	if err != nil {
		return r, err
	}
	if err := sleep(ctx, quiet); err != nil {
		return r, err
	}
	after, err := cpuOf(f.cmd.Process.Pid)
	if err != nil {
		return r, err
	}
	rss, err := f.resident("VmRSS")
	if err != nil {
		return r, err
	}
	cores := (after - before).Seconds() / quiet.Seconds()
	r.ours = fmt.Sprintf("%.0f MB, %.3f of a core", rss/1e6, cores)
	r.verdict, r.met = r.ours, rss < 300e6 && cores < 0.1
	return r, f.why(&r)
}

// cpuOf is the processor time that a process has taken. Source: proc(5); a tick is a hundredth of a second on Linux.
func cpuOf(pid int) (time.Duration, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
	var ticks int64
	for _, i := range []int{11, 12} {
		n, err := strconv.ParseInt(fields[i], 10, 64)
		if err != nil {
			return 0, err
		}
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond, nil
}

// wire: what goes between the service and its lookouts in step.
func (f *coast) wire(ctx context.Context) (row, error) {
	const watched = 2 * time.Minute
	r := row{what: fmt.Sprintf("bytes between the service and a lookout in step, an hour, the most of %d", f.n), against: "nothing", goal: "under 50 KB", limit: "0",
		how: fmt.Sprintf("What the service has received and sent by each lookout's connection within %s, times %d; frames as they are written, without those of TLS, WebSocket and TCP around them.", watched, time.Hour/watched)}
	hourly, err := hourlyBytes(ctx, watched, func() (map[string]int64, error) {
		all, err := f.clusters(ctx)
		out := map[string]int64{}
		for _, c := range all {
			out[c.Name] = c.Lookout.Received + c.Lookout.Sent
		}
		return out, err
	})
	if err != nil {
		return r, err
	}
	var most, sum int64
	for _, n := range hourly {
		most, sum = max(most, n), sum+n
	}
	r.ours = fmt.Sprintf("%.1f KB, %.1f KB on average", float64(most)/1000, float64(sum)/1000/float64(len(hourly)))
	r.verdict, r.met = r.ours, most < 50_000
	return r, nil
}

// commit: from a push until the lookout begins to apply.
func (f *coast) commit(ctx context.Context) (row, error) {
	const rounds = 21
	r := row{what: fmt.Sprintf("a commit that touches one ward of %d, until its lookout begins to apply", f.n*wardsEach), against: "a bare `git fetch` of that commit", goal: "within 2 times plus 150 ms",
		how: fmt.Sprintf("From sending the signed push until the start that the run's entry in the logbook has; the lookout runs on the same clock. The bare fetch brings a mirror of its own up to the same commit from the same server. In turns, median of %d.", rounds)}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	p := &pushed{w: f.world, s: f.service, repo: f.repo, changed: make(chan string, 100_000), bare: filepath.Join(f.world.dir, "coast-bare.git")}
	if err := p.listen(ctx, "coast"); err != nil {
		return r, err
	}
	if err := git("", "init", "-q", "--bare", p.bare); err != nil {
		return r, err
	}
	if _, err := p.fetch(); err != nil {
		return r, err
	}
	ours, limit, profile, err := f.inTurns(rounds, func(n int) (ours, limit time.Duration, err error) {
		i, j := n*37%f.n, n*7%wardsEach
		name := f.ward(i, j)
		start, limit, err := p.commit(ctx, "Change "+name, map[string]string{f.sea(i) + "/" + name + "/all.yaml": f.objects(i, j, 2+n)})
		if err != nil {
			return 0, 0, err
		}
		err = until(ctx, name+" has been synced", func() (bool, error) {
			x, err := f.api.ListWardEntriesWithResponse(ctx, name+"@"+f.sea(i), &client.ListWardEntriesParams{Limit: 1})
			if err := f.api.Check(x, err); err != nil {
				return false, err
			}
			if len(x.JSON200.Items) == 0 || x.JSON200.Items[0].Started.Before(start.Truncate(time.Millisecond)) || x.JSON200.Items[0].Ended.IsZero() {
				return false, nil
			}
			ours = x.JSON200.Items[0].Started.Sub(start)
			return true, nil
		})
		return ours, limit, err
	})
	if err != nil {
		return r, err
	}
	o, l := quantile(ours, .5), quantile(limit, .5)
	r.ours, r.limit = ms(o), ms(l)
	r.verdict, r.met, r.profiles = fmt.Sprintf("%.2f times, %+.1f ms over twice", float64(o)/float64(l), float64((o-2*l).Microseconds())/1000), o <= 2*l+150*time.Millisecond, []string{profile}
	return r, f.all(ctx)
}

// all waits until every ward is in step.
func (f *coast) all(ctx context.Context) error {
	return until(ctx, "every ward is in step", func() (bool, error) {
		n, err := f.count(ctx, &client.ListWardsParams{Standing: client.StandingInStep, Health: client.HealthReady})
		return n == f.n*wardsEach, err
	})
}

// hand: a write by hand in a lookout's cluster until the service's API shows it.
func (f *coast) hand(ctx context.Context) (row, error) {
	const writes = 200
	r := row{what: fmt.Sprintf("write by hand in a lookout's cluster until the service's API shows the drift, %d lookouts, p50 and p99", f.n), against: "the same writes seen by a bare watch", goal: "p99 within 3 times plus 20 ms",
		how: fmt.Sprintf("%d merge patches of one field, each in another lookout's namespace, one after the other, timed from before the patch. The bare watch is a client-go watch of the marked ConfigMaps of that namespace. The API counts as showing it when, after a server-sent event of the ward, that has one drifted field more.", writes)}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	changed := make(chan string, 10_000)
	go func() { _ = f.api.Stream(ctx, func(e client.Event) { changed <- e.Name }) }()
	ours, limit, profile, err := f.inTurns(writes, func(n int) (time.Duration, time.Duration, error) {
		return f.write(ctx, n%f.n, n/f.n%wardsEach, changed)
	})
	if err != nil {
		return r, err
	}
	o, l := quantile(ours, .99), quantile(limit, .99)
	r.ours, r.limit = ms(quantile(ours, .5))+", "+ms(o), ms(quantile(limit, .5))+", "+ms(l)
	r.verdict, r.met, r.profiles = fmt.Sprintf("p99 %.2f times, %+.1f ms over thrice", float64(o)/float64(l), float64((o-3*l).Microseconds())/1000), o <= 3*l+20*time.Millisecond, []string{profile}
	for n := range writes { // put back for what follows
		if err := f.cli("restore", f.ward(n%f.n, n/f.n%wardsEach)); err != nil {
			return r, err
		}
	}
	return r, f.all(ctx)
}

func (f *coast) write(ctx context.Context, i, j int, changed <-chan string) (ours, bare time.Duration, err error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	ns, id, name := f.sea(i), f.ward(i, j)+"@"+f.sea(i), f.ward(i, j)+"-00"
	of := f.dyn[f.plane(i)].Resource(configMaps).Namespace(ns)
	list, err := of.List(ctx, metav1.ListOptions{LabelSelector: "vigila.dev/ward", Limit: 1})
	if err != nil {
		return 0, 0, err
	}
	watch, err := of.Watch(ctx, metav1.ListOptions{LabelSelector: "vigila.dev/ward", ResourceVersion: list.GetResourceVersion()})
	if err != nil {
		return 0, 0, err
	}
	defer watch.Stop()
	seen := make(chan time.Time, 1)
	go func() {
		for ev := range watch.ResultChan() {
			if o, ok := ev.Object.(*unstructured.Unstructured); ok && o.GetName() == name {
				seen <- time.Now()
				return
			}
		}
	}()
	start := time.Now()
	failed := make(chan error, 1)
	go func() {
		_, err := of.Patch(ctx, name, types.MergePatchType, []byte(`{"data":{"interval":"1s"}}`), metav1.PatchOptions{FieldManager: "engineer-in-a-hurry"})
		failed <- err
	}()
	for {
		select {
		case <-ctx.Done():
			return 0, 0, fmt.Errorf("the API does not show the drift of %s", id)
		case c := <-changed:
			if c != id {
				continue
			}
		case <-time.After(time.Second): // the stream of events has only just begun
		}
		x, err := f.api.GetWardWithResponse(ctx, id)
		if err := f.api.Check(x, err); err != nil {
			return 0, 0, err
		}
		if x.JSON200.Ward.DriftedFields == 1 {
			break
		}
	}
	ours = time.Since(start)
	if err := <-failed; err != nil {
		return 0, 0, err
	}
	select {
	case at := <-seen:
		return ours, at.Sub(start), nil
	case <-ctx.Done():
		return 0, 0, errors.New("the bare watch has not seen the write")
	}
}

// herd: the service is killed, and comes back.
func (f *coast) herd(ctx context.Context) (row, error) {
	const goal = 15 * time.Second
	r := row{what: fmt.Sprintf("the service is killed and comes back, until all %d lookouts are connected and every standing is known", f.n), against: "nothing", goal: "15 s, and no herd", limit: "0",
		how: "SIGKILL, then a start a second later, and once more after half a minute away; from the start of the process until the API tells that every lookout is here and calls no ward blind. The most that came within one second is by the service's log."}
	var worst time.Duration
	var says []string
	for _, away := range []time.Duration{time.Second, 30 * time.Second} {
		_ = f.cmd.Process.Kill()
		_ = f.cmd.Wait()
		if err := sleep(ctx, away); err != nil {
			return r, err
		}
		start := time.Now()
		if err := f.start(ctx); err != nil {
			return r, err
		}
		if err := until(ctx, "all are back", func() (bool, error) {
			time.Sleep(100 * time.Millisecond)
			here, err := f.here(ctx)
			if err != nil || here != f.n {
				return false, err
			}
			blind, err := f.count(ctx, &client.ListWardsParams{Standing: client.StandingBlind})
			return blind == 0, err
		}); err != nil {
			return r, err
		}
		d := time.Since(start)
		most, err := f.mostInASecond()
		if err != nil {
			return r, err
		}
		worst = max(worst, d)
		says = append(says, fmt.Sprintf("%.1f s after %s away, at most %d came within a second", d.Seconds(), away, most))
		if err := f.all(ctx); err != nil {
			return r, err
		}
	}
	r.ours = strings.Join(says, "; ")
	r.verdict, r.met = fmt.Sprintf("%.1f s", worst.Seconds()), worst <= goal
	return r, f.why(&r)
}

var cameAt = regexp.MustCompile(`"time":"[^"]*T([0-9:]+)\.[^"]*","level":"INFO","msg":"a lookout is here"`)

// mostInASecond is how many lookouts came within the same second at most, since the service started.
func (f *coast) mostInASecond() (most int, err error) {
	b, err := os.ReadFile(filepath.Join(f.dir, "log"))
	if err != nil {
		return 0, err
	}
	by := map[string]int{}
	for _, m := range cameAt.FindAllSubmatch(b, -1) {
		by[string(m[1])]++
		most = max(most, by[string(m[1])])
	}
	return most, nil
}
