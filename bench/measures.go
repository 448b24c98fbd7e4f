package main

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	utiljson "k8s.io/apimachinery/pkg/util/json"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
)

// core holds objects against their baselines, beside decoding the same objects from JSON: what nobody who watches a
// cluster can avoid.
func core() row {
	texts := liveObjects(300)
	var bodies []map[string]any
	var baselines []compare.Baseline
	mask := compare.Mask(func(v string) string { return v })
	for _, text := range texts {
		var body map[string]any
		if err := utiljson.Unmarshal(text, &body); err != nil {
			panic(err)
		}
		o, err := object.FromBody(body)
		if err != nil {
			panic(err)
		}
		bodies = append(bodies, body)
		baselines = append(baselines, compare.NewBaseline(o.Ref, "h", nil, body, nil, mask, nil, time.Now()).Light())
	}
	decode := testing.Benchmark(func(b *testing.B) {
		b.ReportAllocs()
		for i := range b.N {
			var v map[string]any
			if err := json.Unmarshal(texts[i%len(texts)], &v); err != nil {
				b.Fatal(err)
			}
		}
	})
	ours := testing.Benchmark(func(b *testing.B) {
		b.ReportAllocs()
		for i := range b.N {
			j := i % len(bodies)
			if !baselines[j].Same(mask.Imprint(baselines[j].Ref, bodies[j], nil), object.UID(bodies[j])) {
				b.Fatal("an object that nobody touched differs from its baseline")
			}
		}
	})
	say := func(r testing.BenchmarkResult) string {
		return fmt.Sprintf("%.0f a second, %d allocations", float64(r.N)/r.T.Seconds(), r.AllocsPerOp())
	}
	ratio := float64(decode.NsPerOp()) / float64(ours.NsPerOp())
	return row{what: "the core: objects compared a second, allocations an object", against: "JSON decoding of the same objects", goal: "no slower", ours: say(ours), limit: say(decode),
		verdict: fmt.Sprintf("%.2f times as fast", ratio), met: ratio >= 1 && ours.AllocsPerOp() <= decode.AllocsPerOp(),
		how: "300 live ConfigMaps, Services and Deployments with their managedFields, as an API server answers them: the look that every watch event gets, beside encoding/json into a map. One core."}
}

// liveObjects are objects as an API server answers them, of three kinds that most clusters are full of.
func liveObjects(n int) (texts [][]byte) {
	for i := range n {
		var text string
		name := fmt.Sprintf("berth-%d", i)
		fields := func(set string) string {
			return `"managedFields":[{"manager":"vigila","operation":"Apply","apiVersion":"v1","time":"2026-11-23T06:00:00Z","fieldsType":"FieldsV1","fieldsV1":` + set + `}`
		}
		meta := fmt.Sprintf(`"metadata":{"name":%q,"namespace":"harbour","uid":"1f0e3c1e-7a55-4f2e-9d0a-%012d","resourceVersion":"%d","creationTimestamp":"2026-11-23T06:00:00Z","labels":{"app":%q,"vigila.dev/ward":"harbour"},`, name, i, 1000+i, name)
		labels := `"f:metadata":{"f:labels":{"f:app":{},"f:vigila.dev/ward":{}}}`
		switch i % 3 {
		case 0:
			text = `{"apiVersion":"v1","kind":"ConfigMap",` + meta + fields(`{`+labels+`,"f:data":{"f:interval":{},"f:mode":{},"f:table":{}}}`) + `]},"data":{"interval":"30s","mode":"lee","table":"a long table of tides, berths and times, one to a line"}}`
		case 1:
			text = `{"apiVersion":"v1","kind":"Service",` + meta + fields(`{`+labels+`,"f:spec":{"f:ports":{"k:{\"port\":80,\"protocol\":\"TCP\"}":{".":{},"f:port":{},"f:targetPort":{}}},"f:selector":{}}}`) + `]},"spec":{"clusterIP":"10.0.0.7","clusterIPs":["10.0.0.7"],"internalTrafficPolicy":"Cluster","ipFamilies":["IPv4"],"ports":[{"port":80,"protocol":"TCP","targetPort":8080}],"selector":{"app":"` + name + `"},"sessionAffinity":"None","type":"ClusterIP"},"status":{"loadBalancer":{}}}`
		default:
			text = `{"apiVersion":"apps/v1","kind":"Deployment",` + meta + fields(`{`+labels+`,"f:spec":{"f:replicas":{},"f:selector":{},"f:template":{"f:metadata":{"f:labels":{"f:app":{}}},"f:spec":{"f:containers":{"k:{\"name\":\"app\"}":{".":{},"f:name":{},"f:image":{},"f:env":{"k:{\"name\":\"MODE\"}":{".":{},"f:name":{},"f:value":{}}},"f:ports":{"k:{\"containerPort\":8080,\"protocol\":\"TCP\"}":{".":{},"f:containerPort":{}}},"f:resources":{"f:limits":{"f:cpu":{},"f:memory":{}}}}}}}}}`) +
				`,{"manager":"kube-controller-manager","operation":"Update","apiVersion":"apps/v1","time":"2026-11-23T06:00:05Z","fieldsType":"FieldsV1","subresource":"status","fieldsV1":{"f:status":{"f:availableReplicas":{},"f:conditions":{".":{},"k:{\"type\":\"Available\"}":{".":{},"f:lastTransitionTime":{},"f:status":{},"f:type":{}}},"f:observedGeneration":{},"f:readyReplicas":{},"f:replicas":{},"f:updatedReplicas":{}}}}]},"spec":{"progressDeadlineSeconds":600,"replicas":2,"revisionHistoryLimit":10,"selector":{"matchLabels":{"app":"` + name + `"}},"strategy":{"rollingUpdate":{"maxSurge":"25%","maxUnavailable":"25%"},"type":"RollingUpdate"},"template":{"metadata":{"labels":{"app":"` + name + `"}},"spec":{"containers":[{"env":[{"name":"MODE","value":"lee"}],"image":"registry.brindle.example/berth-planner:1.4.0","imagePullPolicy":"IfNotPresent","name":"app","ports":[{"containerPort":8080,"protocol":"TCP"}],"resources":{"limits":{"cpu":"1","memory":"128Mi"}},"terminationMessagePath":"/dev/termination-log","terminationMessagePolicy":"File"}],"dnsPolicy":"ClusterFirst","restartPolicy":"Always","schedulerName":"default-scheduler","securityContext":{},"terminationGracePeriodSeconds":30}}},"status":{"availableReplicas":2,"conditions":[{"lastTransitionTime":"2026-11-23T06:00:05Z","status":"True","type":"Available"}],"observedGeneration":1,"readyReplicas":2,"replicas":2,"updatedReplicas":2}}`
		}
		texts = append(texts, []byte(text))
	}
	return texts
}

// alone is a service with one repository and one ward, in step.
func (w *world) alone(ctx context.Context, name, keep string, files map[string]string) (*service, *repository, error) {
	s, err := w.service(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	r, err := w.repository(name)
	if err != nil {
		return nil, nil, err
	}
	if err := errors.Join(r.push("First", files), s.cli("repo", "add", name, r.url), s.add(gate(name, name, name, keep)), s.cli("sync", name)); err != nil {
		return nil, nil, err
	}
	return s, r, s.all(ctx, "the ward is in step", 1, inStep)
}

// sync: how fast changed objects are applied, beside a bare loop.
func (w *world) sync(ctx context.Context) (row, error) {
	const objects, parallel, rounds = 1000, 8, 5
	r := row{what: fmt.Sprintf("sync of %d changed objects", objects), against: "a bare loop of server-side applies at the same concurrency", goal: "0.9 of its rate",
		how: fmt.Sprintf("%d ConfigMaps in a namespace, every one changed; the run from its entry's start to its end, all seen ready. The loop applies as many like them in another namespace with the same client library. %d at a time, in turns, median of %d. Whoever keeps watch has the API server send every change to its watch as well; what that alone costs is told by the loop with a bare watch of what it applies beside it.", objects, parallel, rounds)}
	r.why = "The loop applies and forgets. Vigila also receives every change by its watch and compares it, writes each baseline down before it calls the object applied, and draws the run's progress: on two cores that are both busy all the time (nine tenths in user space, six tenths of both in the API server), so what Vigila takes, half a core, is missing there. Nothing waits; starting and ending the run takes about 3 % of it, the rest is spread over each object."
	files := func(version int) map[string]string {
		out := map[string]string{}
		for i := range objects {
			out[fmt.Sprintf("pier/part-%02d.yaml", i/50)] += "---\n" + manifest(fmt.Sprintf("pier-%04d", i), 2*i, version)
		}
		return out
	}
	s, repo, err := w.alone(ctx, "pier", "sync: ask, drift: report", files(1))
	if err != nil {
		return r, err
	}
	defer s.stop()
	namespaces := w.dyn.Resource(schema.GroupVersionResource{Version: "v1", Resource: "namespaces"})
	if _, err := namespaces.Patch(ctx, "bare", types.ApplyPatchType, []byte(`{"apiVersion":"v1","kind":"Namespace","metadata":{"name":"bare"}}`), metav1.PatchOptions{FieldManager: "bare"}); err != nil {
		return r, err
	}
	force := true
	loop := func(version int, watched bool) (time.Duration, error) {
		if watched {
			watch, err := w.dyn.Resource(configMaps).Namespace("bare").Watch(ctx, metav1.ListOptions{})
			if err != nil {
				return 0, err
			}
			defer watch.Stop()
			go func() {
				for range watch.ResultChan() { // each is decoded, no more
				}
			}()
		}
		var all []object.Object
		for i := range objects {
			made, err := object.Parse("x.yaml", []byte(manifest(fmt.Sprintf("pier-%04d", i), 2*i, version)))
			if err != nil {
				return 0, err
			}
			all = append(all, made...)
		}
		start := time.Now()
		next := make(chan object.Object)
		errs := make([]error, parallel)
		var wg sync.WaitGroup
		for k := range parallel {
			wg.Go(func() {
				for o := range next {
					text, err := json.Marshal(o.Body)
					if err == nil {
						_, err = w.dyn.Resource(configMaps).Namespace("bare").Patch(ctx, o.Ref.Name, types.ApplyPatchType, text, metav1.PatchOptions{FieldManager: "bare", Force: &force})
					}
					errs[k] = errors.Join(errs[k], err)
				}
			})
		}
		for _, o := range all {
			next <- o
		}
		close(next)
		wg.Wait()
		return time.Since(start), errors.Join(errs...)
	}
	if _, err := loop(1, false); err != nil {
		return r, err
	}
	var ours, limit, beside []time.Duration
	profile, err := s.profiled(func() error {
		for version := 2; version < 2+rounds; version++ {
			d, err := loop(2*version, false)
			if err != nil {
				return err
			}
			limit = append(limit, d)
			if d, err = loop(2*version+1, true); err != nil {
				return err
			}
			beside = append(beside, d)
			if err := errors.Join(repo.push("Another version", files(version)), s.cli("look", "pier")); err != nil {
				return err
			}
			started, err := s.api.StartRunWithResponse(ctx, "pier@quay", client.StartRun{Kind: "sync"})
			if err := s.api.Check(started, err); err != nil {
				return err
			}
			if err := s.all(ctx, "the ward is in step", 1, inStep); err != nil {
				return err
			}
			x, err := s.api.ListWardEntriesWithResponse(ctx, "pier@quay", &client.ListWardEntriesParams{Limit: 1})
			if err := s.api.Check(x, err); err != nil {
				return err
			}
			e := x.JSON200.Items[0]
			ours = append(ours, e.Ended.Sub(e.Started))
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	o, l := quantile(ours, .5), quantile(limit, .5)
	rate := func(d time.Duration) string { return fmt.Sprintf("%.0f a second", objects/d.Seconds()) }
	ratio := float64(l) / float64(o)
	r.ours, r.limit, r.verdict, r.met, r.profiles = rate(o), rate(l)+"; with a bare watch beside it "+rate(quantile(beside, .5)), fmt.Sprintf("%.2f of the rate", ratio), ratio >= .9, []string{profile}
	return r, nil
}

// preview: what a sync would do, beside the cluster's own client, which asks about every object.
func (w *world) preview(ctx context.Context) (row, error) {
	const objects = 500
	r := row{what: fmt.Sprintf("preview of 5 pending objects in a ward of %d", objects), against: fmt.Sprintf("`kubectl diff --server-side` of the %d", objects), goal: "20 times faster",
		how: "Both are commands, timed from start to end: `vigila diff`, median of 9, and kubectl 1.37, built from its module, median of 3."}
	files := map[string]string{}
	for i := range objects {
		files[fmt.Sprintf("slip/%03d.yaml", i)] = manifest(fmt.Sprintf("slip-%03d", i), i, 1)
	}
	s, repo, err := w.alone(ctx, "slip", "sync: ask, drift: report", files)
	if err != nil {
		return r, err
	}
	defer s.stop()
	changed := map[string]string{}
	for i := range 5 {
		changed[fmt.Sprintf("slip/%03d.yaml", 10*i)] = manifest(fmt.Sprintf("slip-%03d", 10*i), 10*i, 2)
	}
	if err := errors.Join(repo.push("Five changes", changed), s.cli("look", "slip")); err != nil {
		return r, err
	}
	timed := func(n, code int, make func() *exec.Cmd, want string) (time.Duration, error) {
		var times []time.Duration
		for range n {
			cmd := make()
			start := time.Now()
			out, err := cmd.CombinedOutput()
			times = append(times, time.Since(start))
			var exit *exec.ExitError
			if err != nil && !errors.As(err, &exit) || cmd.ProcessState.ExitCode() != code || !strings.Contains(string(out), want) {
				return 0, fmt.Errorf("%s: %w: %.2000s", cmd, err, out)
			}
		}
		return quantile(times, .5), nil
	}
	ours, err := timed(9, 3, func() *exec.Cmd { return s.command("diff", "slip") }, "slip-040")
	if err != nil {
		return r, err
	}
	limit, err := timed(3, 1, func() *exec.Cmd {
		return exec.Command(filepath.Join(w.bin, "kubectl"), "diff", "--server-side", "--field-manager", "vigila", "--force-conflicts", "--kubeconfig", w.kubeconfig(), "-n", "slip", "-f", filepath.Join(repo.work, "slip"))
	}, "slip-040")
	if err != nil {
		return r, err
	}
	ratio := float64(limit) / float64(ours)
	r.ours, r.limit, r.verdict, r.met = ms(ours), ms(limit), fmt.Sprintf("%.1f times faster", ratio), ratio >= 20
	if !r.met {
		profile, err := s.profiled(func() error {
			_, err := timed(30, 3, func() *exec.Cmd { return s.command("diff", "slip") }, "slip-040")
			return err
		})
		if err != nil {
			return r, err
		}
		r.profiles = []string{profile}
	}
	return r, nil
}

// pushed measures pushes to one repository of many wards.
type pushed struct {
	w       *world
	s       *service
	repo    *repository
	wards   int
	path    string // of pushes
	sign    string
	changed chan string
	bare    string // what the bare fetch brings up to date
}

func (p *pushed) name(i int) string { return fmt.Sprintf("mooring-%04d", i) }

// wardsPushed makes a service with many wards of one repository in step, which wait to be asked.
func (w *world) wardsPushed(ctx context.Context, wards int) (*pushed, error) {
	s, err := w.service(ctx, "harbour")
	if err != nil {
		return nil, err
	}
	p := &pushed{w: w, s: s, wards: wards, changed: make(chan string, 100_000), bare: filepath.Join(w.dir, "bare.git")}
	return p, p.prepare(ctx)
}

func (p *pushed) prepare(ctx context.Context) (err error) {
	s := p.s
	if p.repo, err = p.w.repository("harbour"); err != nil {
		return err
	}
	files, auto := map[string]string{}, ""
	for i := range p.wards {
		files["wards/"+p.name(i)+"/config.yaml"] = manifest(p.name(i), 0, 1)
		auto += "---\n" + strings.Replace(gate(p.name(i), "harbour", "wards/"+p.name(i), "sync: auto, drift: report"), "namespace: "+p.name(i)+", create_namespace: true", "namespace: default", 1)
	}
	if err := errors.Join(p.repo.push("First", files), s.cli("repo", "add", "harbour", p.repo.url), s.add(auto)); err != nil {
		return err
	}
	if err := s.all(ctx, "every ward is in step", p.wards, inStep); err != nil {
		return err
	}
	if err := s.add(strings.ReplaceAll(auto, "sync: auto", "sync: ask")); err != nil {
		return err
	}
	if err := s.all(ctx, "every ward is in step", p.wards, inStep); err != nil {
		return err
	}
	if err := p.listen(ctx, "harbour"); err != nil {
		return err
	}
	if err := git("", "init", "-q", "--bare", p.bare); err != nil {
		return err
	}
	_, err = p.fetch()
	return err
}

// listen makes the key of pushes to a repository, and hears of what changes.
func (p *pushed) listen(ctx context.Context, repository string) error {
	key, err := p.s.api.MakePushKeyWithResponse(ctx, repository)
	if err := p.s.api.Check(key, err); err != nil {
		return err
	}
	mac := hmac.New(sha256.New, []byte(key.JSON200.Key))
	mac.Write([]byte("{}"))
	p.path, p.sign = key.JSON200.Path, hex.EncodeToString(mac.Sum(nil))
	go func() { _ = p.s.api.Stream(ctx, func(e client.Event) { p.changed <- e.Name }) }()
	return nil
}

// tell sends a signed push.
func (p *pushed) tell(ctx context.Context) error {
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, p.s.address+p.path, strings.NewReader("{}"))
	if err != nil {
		return err
	}
	q.Header.Set("Vigila-Signature", p.sign)
	a, err := http.DefaultClient.Do(q)
	if err != nil {
		return err
	}
	_ = a.Body.Close()
	if a.StatusCode != http.StatusAccepted {
		return fmt.Errorf("the push was answered %s", a.Status)
	}
	return nil
}

func (p *pushed) fetch() (time.Duration, error) {
	start := time.Now()
	err := git(p.bare, "fetch", "-q", p.repo.url, "+refs/heads/*:refs/heads/*")
	return time.Since(start), err
}

// commit pushes a commit, has the bare fetch bring it up, and tells the service of it, from when on is measured.
func (p *pushed) commit(ctx context.Context, subject string, files map[string]string) (start time.Time, limit time.Duration, err error) {
	if err := p.repo.push(subject, files); err != nil {
		return start, 0, err
	}
	if limit, err = p.fetch(); err != nil {
		return start, 0, err
	}
	start = time.Now()
	return start, limit, p.tell(ctx)
}

// one pushes a commit to one ward: how long a bare fetch of it takes, and how long it takes from the push until the ward is
// called behind.
func (p *pushed) one(ctx context.Context, n int) (ours, limit time.Duration, err error) {
	i := n * 37 % p.wards
	start, limit, err := p.commit(ctx, "Change "+p.name(i), map[string]string{"wards/" + p.name(i) + "/config.yaml": manifest(p.name(i), 0, 2+n)})
	if err != nil {
		return 0, 0, err
	}
	for behind := false; !behind; {
		select {
		case c := <-p.changed:
			if c != p.name(i)+"@quay" {
				continue
			}
		case <-time.After(10 * time.Second):
			return 0, 0, fmt.Errorf("%s is not called behind", p.name(i))
		}
		x, err := p.s.api.GetWardWithResponse(ctx, p.name(i)+"@quay")
		if err := p.s.api.Check(x, err); err != nil {
			return 0, 0, err
		}
		behind = x.JSON200.Ward.Standing == "behind"
	}
	return time.Since(start), limit, nil
}

// push: from a push until the API says behind, beside a bare fetch of the same commit.
func (w *world) push(ctx context.Context, wards int) (row, error) {
	const rounds = 21
	r := row{what: fmt.Sprintf("commit pushed until the standing is behind, by a push, %d wards in one repository", wards), against: "a bare `git fetch` of that commit", goal: "within 2 times plus 50 ms; exactly the touched ward rendered",
		how: fmt.Sprintf("Each commit changes one ward. From sending the signed push until, after a server-sent event, the API calls that ward behind. The bare fetch brings a mirror of its own up to the same commit from the same server. In turns, median of %d. vigila_renders_total tells how many trees were rendered.", rounds)}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	p, err := w.wardsPushed(ctx, wards)
	if p != nil {
		defer p.s.stop()
	}
	if err != nil {
		return r, err
	}
	rendered := 0.0
	ours, limit, profile, err := p.s.inTurns(rounds, func(n int) (o, l time.Duration, err error) {
		before, err := p.s.metric("vigila_renders_total")
		if err != nil {
			return 0, 0, err
		}
		if o, l, err = p.one(ctx, n); err != nil {
			return 0, 0, err
		}
		after, err := p.s.metric("vigila_renders_total")
		rendered += after - before
		return o, l, err
	})
	if err != nil {
		return r, err
	}
	o, l := quantile(ours, .5), quantile(limit, .5)
	r.ours, r.limit = fmt.Sprintf("%s, %.2f trees rendered a commit", ms(o), rendered/rounds), ms(l)
	r.verdict, r.met, r.profiles = fmt.Sprintf("%.2f times, %+.1f ms over twice", float64(o)/float64(l), float64((o-2*l).Microseconds())/1000), o <= 2*l+50*time.Millisecond && rendered == rounds, []string{profile}
	return r, nil
}

// hostile: the same pushes, beside wards from a repository of bombs and endless things that are being rendered.
func (w *world) hostile(ctx context.Context) (row, error) {
	const rounds, wards = 21, 200
	r := row{what: fmt.Sprintf("commit pushed until the standing is behind, %d wards beside those of a hostile repository", wards), against: "the same without the hostile repository", goal: "within 2 times; the service under 400 MB",
		how: fmt.Sprintf("`vigila-lab hostile` pushes bombs, endless trees, overlays and templates that never finish. The wards from them are added, and while they are rendered and killed the pushes are measured as above, median of %d each way. Memory is the most that the service had resident (VmHWM), without the processes that it starts.", rounds)}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	p, err := w.wardsPushed(ctx, wards)
	if p != nil {
		defer p.s.stop()
	}
	if err != nil {
		return r, err
	}
	measure := func(from int) (time.Duration, error) {
		var all []time.Duration
		for n := range rounds {
			d, _, err := p.one(ctx, from+n)
			if err != nil {
				return 0, err
			}
			all = append(all, d)
		}
		return quantile(all, .5), nil
	}
	quiet, err := measure(0)
	if err != nil {
		return r, err
	}
	bad, err := w.repository("wreckers")
	if err != nil {
		return r, err
	}
	out, err := exec.CommandContext(ctx, filepath.Join("bin", "vigila-lab"), "hostile", bad.url).Output()
	if err != nil {
		return r, fmt.Errorf("vigila-lab hostile: %w", err)
	}
	var things []struct{ Path string }
	if err := json.Unmarshal(out, &things); err != nil {
		return r, err
	}
	text := ""
	for _, x := range things {
		text += "---\n" + gate("wreck-"+x.Path, "wreckers", x.Path, "sync: ask")
	}
	if err := errors.Join(p.s.cli("repo", "add", "wreckers", bad.url), p.s.add(text)); err != nil {
		return r, err
	}
	beside, err := measure(rounds)
	if err != nil {
		return r, err
	}
	most, err := p.s.resident("VmHWM")
	if err != nil {
		return r, err
	}
	r.ours, r.limit = fmt.Sprintf("%s; %.0f MB at most", ms(beside), most/1e6), ms(quiet)
	r.verdict, r.met = fmt.Sprintf("%.2f times", float64(beside)/float64(quiet)), beside <= 2*quiet && most < 400e6
	return r, nil
}
