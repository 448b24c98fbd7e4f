package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// forms is one service with many wards from one roster: a third each of plain files, overlays and charts.
type forms struct {
	world *world
	wards int
	s     *service
	repo  *repository
	files map[string]string
	cold  time.Duration
}

func formName(i int) string {
	return fmt.Sprintf("%s-%04d", []string{"plain", "overlay", "chart"}[i%3], i)
}

// tree makes the files of the wards, and those of the roster.
func (f *forms) tree() map[string]string {
	out := map[string]string{"base/kustomization.yaml": "resources: [config.yaml, app.yaml]\n", "base/config.yaml": manifest("mooring", 0, 1), "base/app.yaml": manifest("mooring", 1, 1)}
	for i := range f.wards {
		n := formName(i)
		dir := "apps/" + n + "/"
		switch i % 3 {
		case 0:
			out[dir+"config.yaml"], out[dir+"app.yaml"] = manifest(n, 0, 1), manifest(n, 1, 1)
		case 1:
			out[dir+"kustomization.yaml"] = fmt.Sprintf("resources: [../../base]\nnamePrefix: p%d-\nlabels: [{pairs: {pier: %q}}]\n", i, n)
		case 2:
			out[dir+"Chart.yaml"] = fmt.Sprintf("apiVersion: v2\nname: %s\nversion: 1.0.0\n", n)
			out[dir+"values.yaml"] = "berths: 7\nlabels: {tier: rehearsal, team: harbour-ops}\n"
			out[dir+"templates/_labels.tpl"] = `{{- define "labels" }}{{ toYaml .Values.labels }}{{ end }}`
			out[dir+"templates/config.yaml"] = "apiVersion: v1\nkind: ConfigMap\nmetadata:\n  name: {{ .Release.Name }}\n  labels: {{- include \"labels\" . | nindent 4 }}\ndata:\n  berths: {{ .Values.berths | quote }}\n"
			out[dir+"templates/app.yaml"] = strings.ReplaceAll(manifest("NAME", 1, 1), "NAME", "{{ .Release.Name }}")
		}
		out["wards/"+n+".yaml"] = fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nfrom: {path: apps/%[1]s}\ninto: {cluster: quay, namespace: default}\nkeep: {sync: ask, every: 1h}\n", n)
	}
	return out
}

// known waits until every ward of the service has been rendered.
func (f *forms) known(ctx context.Context) error {
	return until(ctx, "every ward is known", func() (bool, error) {
		r, err := f.s.api.ListWardsWithResponse(ctx, &client.ListWardsParams{Limit: 1, Standing: "behind"})
		if err := f.s.api.Check(r, err); err != nil {
			return false, err
		}
		return r.JSON200.Total == f.wards, nil
	})
}

func (f *forms) render(ctx context.Context) (row, error) {
	r := row{what: fmt.Sprintf("a roster of %d wards (plain files, overlays, charts) added until all are rendered", f.wards), against: "the same renderings alone, from files, on all cores", goal: "within 2 times plus 2 s",
		how: "From vigila roster add until the API calls every ward behind (never synced): the ward files are read, the wards registered, their trees rendered, placed and written. Alone: the same renderer over the same files, without git, record or cluster. The service renders overlays and charts in a process of their own each; alone they are rendered in one process, overlays by turns.",
		why: `What stands alone only renders. The service also reads each ward's file and registers it (some ten small queries each), reads the
trees through git, places and hashes the objects, and writes the rendering, the objects and the declaration down, encrypted and
compressed, so that it is never done again: a restart takes a tenth of the time and renders nothing.`}
	var err error
	if f.s, err = f.world.service(ctx, "forms"); err != nil {
		return r, err
	}
	if f.repo, err = f.world.repository("forms"); err != nil {
		return r, err
	}
	f.files = f.tree()
	if err := errors.Join(f.repo.push("First", f.files), f.s.cli("repo", "add", "forms", f.repo.url)); err != nil {
		return r, err
	}
	profile, err := f.s.profiled(func() error {
		start := time.Now()
		if err := f.s.cli("roster", "add", "forms", "--repo", "forms", "--path", "wards"); err != nil {
			return err
		}
		err := f.known(ctx)
		f.cold = time.Since(start)
		return err
	})
	if err != nil {
		return r, err
	}
	limit, err := f.alone(ctx)
	if err != nil {
		return r, err
	}
	n, err := f.s.metric("vigila_renders_total")
	if err != nil {
		return r, err
	}
	r.ours, r.limit = fmt.Sprintf("%.1f s, %.0f rendered", f.cold.Seconds(), n), fmt.Sprintf("%.1f s", limit.Seconds())
	r.verdict, r.met, r.profiles = fmt.Sprintf("%.2f times", f.cold.Seconds()/limit.Seconds()), f.cold <= 2*limit+2*time.Second, []string{profile}
	return r, nil
}

// alone renders the same wards without anything else.
func (f *forms) alone(ctx context.Context) (time.Duration, error) { return f.rendered(ctx, 0, 1) }

// overlays renders those of them alone that are overlays.
func (f *forms) overlays(ctx context.Context) (time.Duration, error) { return f.rendered(ctx, 1, 3) }

// rendered renders every so many of the wards, from one on.
func (f *forms) rendered(ctx context.Context, first, every int) (time.Duration, error) {
	tree := repo.Folder{Root: f.repo.work}
	cluster := render.Cluster{Name: "quay", Version: "v1.37.0", APIs: []string{"v1", "apps/v1"}}
	var next atomic.Int64
	var wg sync.WaitGroup
	errs := make([]error, runtime.NumCPU())
	start := time.Now()
	for c := range errs {
		wg.Go(func() {
			for i := first + every*int(next.Add(1)-1); i < f.wards; i = first + every*int(next.Add(1)-1) {
				n := formName(i)
				w := ward.Ward{Name: n, From: ward.From{Repo: "forms", Ref: "main", Path: "apps/" + n}, Into: ward.Into{Namespace: "default"}}
				if _, err := render.Render(ctx, render.Request{Ward: w, Cluster: cluster, Tree: tree}); err != nil {
					errs[c] = err
					return
				}
			}
		})
	}
	wg.Wait()
	return time.Since(start), errors.Join(errs...)
}

func (f *forms) warm(ctx context.Context) (row, error) {
	r := row{what: fmt.Sprintf("restart with these %d wards until all are known", f.wards), against: "the same, rendered for the first time", goal: "nothing rendered; a fifth of the time",
		how: "kill -9, and the start until the API calls every ward behind again."}
	if f.s == nil {
		return r, errors.New("it needs the measure render in the same run")
	}
	f.s.stop()
	start := time.Now()
	if err := f.s.start(ctx); err != nil {
		return r, err
	}
	if err := f.known(ctx); err != nil {
		return r, err
	}
	took := time.Since(start)
	n, err := f.s.metric("vigila_renders_total")
	if err != nil {
		return r, err
	}
	r.ours, r.limit = fmt.Sprintf("%.1f s, %.0f rendered", took.Seconds(), n), fmt.Sprintf("%.1f s", f.cold.Seconds())
	r.verdict, r.met = fmt.Sprintf("%.2f times", took.Seconds()/f.cold.Seconds()), n == 0 && 5*took <= f.cold
	return r, nil
}

func (f *forms) touch(ctx context.Context) (row, error) {
	const rounds = 12
	r := row{what: fmt.Sprintf("one of these %d wards touched, a chart or plain files, until its new revision is known", f.wards), against: "a bare `git fetch` of that commit", goal: "within 2 times plus 100 ms; exactly one rendered",
		how: fmt.Sprintf("A commit changes one chart's values or one plain file; vigila repo look asks for the look and returns once every ward was told, then the ward is asked for. Median of %d, with the start of the command line taken off.", rounds)}
	if f.s == nil {
		return r, errors.New("it needs the measure render in the same run")
	}
	defer f.s.stop()
	bare := filepath.Join(f.world.dir, "bare-forms.git")
	if err := errors.Join(git("", "init", "-q", "--bare", bare), git(bare, "fetch", "-q", f.repo.url, "+refs/heads/*:refs/heads/*")); err != nil {
		return r, err
	}
	var ours, limit []time.Duration
	before, err := f.s.metric("vigila_renders_total")
	if err != nil {
		return r, err
	}
	profile, err := f.s.profiled(func() error {
		for n := range rounds {
			i := n*99%(f.wards-2)/3*3 + 2*(n%2) // charts and plain files in turns
			name, subject := formName(i), fmt.Sprintf("Change %d", n)
			file := map[int]string{0: "config.yaml", 2: "values.yaml"}[i%3]
			text := f.files["apps/"+name+"/"+file]
			if err := f.repo.push(subject, map[string]string{"apps/" + name + "/" + file: text + fmt.Sprintf("# round %d\n", n)}); err != nil {
				return err
			}
			start := time.Now()
			if err := git(bare, "fetch", "-q", f.repo.url, "+refs/heads/*:refs/heads/*"); err != nil {
				return err
			}
			limit = append(limit, time.Since(start))
			start = time.Now()
			a, err := f.s.api.LookAtRepoWithResponse(ctx, "forms")
			if err := f.s.api.Check(a, err); err != nil {
				return err
			}
			if err := until(ctx, name+" is known", func() (bool, error) {
				x, err := f.s.api.GetWardWithResponse(ctx, name+"@quay")
				if err := f.s.api.Check(x, err); err != nil {
					return false, err
				}
				return x.JSON200.Ward.Revision.Subject == subject, nil
			}); err != nil {
				return err
			}
			ours = append(ours, time.Since(start))
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	after, err := f.s.metric("vigila_renders_total")
	if err != nil {
		return r, err
	}
	o, l := quantile(ours, .5), quantile(limit, .5)
	r.ours, r.limit = fmt.Sprintf("%s, %.2f rendered a commit", ms(o), (after-before)/rounds), ms(l)
	r.verdict, r.met, r.profiles = fmt.Sprintf("%.2f times", float64(o)/float64(l)), o <= 2*l+100*time.Millisecond && after-before == rounds, []string{profile}
	return r, nil
}

// large measures a repository of many files.
func (w *world) large(ctx context.Context, count int) (row, error) {
	const rounds = 7
	r := row{what: fmt.Sprintf("a repository of %d files added until a ward of 10 of them is known", count), against: "a bare clone of it", goal: "no slower; a commit is known within 2 times a bare `git fetch` plus 50 ms",
		how: fmt.Sprintf("The server allows partial clones, so files come when they are read. From vigila repo add and vigila ward add until the ward is behind, once; then a commit to the ward's path until it is known, median of %d.", rounds)}
	s, err := w.service(ctx, "large")
	if err != nil {
		return r, err
	}
	defer s.stop()
	rp, err := w.repository("large")
	if err != nil {
		return r, err
	}
	if err := git(filepath.Join(w.dir, "lab", "git", "large.git"), "config", "uploadpack.allowFilter", "true"); err != nil {
		return r, err
	}
	files := make(map[string]string, count)
	for i := range count - 10 {
		files[fmt.Sprintf("sea/%03d/%05d.txt", i/250, i)] = fmt.Sprintf("depth at %d: %s\n", i, strings.Repeat(fmt.Sprint(i*7919%9973, " "), 60))
	}
	for i := range 10 {
		files[fmt.Sprintf("app/%d.yaml", i)] = manifest(fmt.Sprintf("depth-%d", i), 0, 1)
	}
	if err := rp.push("All", files); err != nil {
		return r, err
	}
	start := time.Now()
	bare := filepath.Join(w.dir, "bare-large.git")
	if err := git("", "clone", "-q", "--bare", rp.url, bare); err != nil {
		return r, err
	}
	clone := time.Since(start)
	var ours, limit []time.Duration
	var took time.Duration
	known := func(subject string) error {
		return until(ctx, "the ward is known", func() (bool, error) {
			all, err := s.wards(ctx)
			return err == nil && all["large"].Revision.Subject == subject, err
		})
	}
	profile, err := s.profiled(func() error {
		start := time.Now()
		if err := errors.Join(s.cli("repo", "add", "large", rp.url), s.add(strings.Replace(gate("large", "large", "app", "sync: ask, drift: report"), "namespace: large", "namespace: large-files", 1)), known("All")); err != nil {
			return err
		}
		took = time.Since(start)
		for n := range rounds {
			subject := fmt.Sprintf("Change %d", n)
			if err := rp.push(subject, map[string]string{"app/3.yaml": manifest("depth-3", 0, 2+n)}); err != nil {
				return err
			}
			start := time.Now()
			if err := git(bare, "fetch", "-q", rp.url, "+refs/heads/*:refs/heads/*"); err != nil {
				return err
			}
			limit = append(limit, time.Since(start))
			start = time.Now()
			a, err := s.api.LookNowWithResponse(ctx, "large")
			if err := s.api.Check(a, err); err != nil {
				return err
			}
			if a.JSON200.Revision.Subject != subject {
				return fmt.Errorf("after a look it is at %q", a.JSON200.Revision.Subject)
			}
			ours = append(ours, time.Since(start))
		}
		return nil
	})
	if err != nil {
		return r, err
	}
	size := func(dir string) (n int64) {
		_ = filepath.Walk(dir, func(_ string, i os.FileInfo, err error) error {
			if err == nil && !i.IsDir() {
				n += i.Size()
			}
			return nil
		})
		return n >> 20
	}
	o, l := quantile(ours, .5), quantile(limit, .5)
	r.ours = fmt.Sprintf("%.1f s and %d MiB on disk; a commit %s", took.Seconds(), size(filepath.Join(s.dir, "data", "mirrors")), ms(o))
	r.limit = fmt.Sprintf("%.1f s and %d MiB; %s", clone.Seconds(), size(bare), ms(l))
	r.verdict, r.met, r.profiles = fmt.Sprintf("%.2f times; %.2f times", took.Seconds()/clone.Seconds(), float64(o)/float64(l)), took <= clone && o <= 2*l+50*time.Millisecond, []string{profile}
	return r, nil
}
