package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"vigila.dev/vigila/internal/client"
)

// lanesOf makes many lanes of five stops each in one repository.
func lanesOf(n int) map[string]string {
	out := map[string]string{}
	for i := range n {
		name := laneName(i)
		lane := "vigila: lane/v1\nname: " + name + "\ncarries: [{versions: \"s/" + name + "/{stop}/versions.yaml\"}, {files: \"s/" + name + "/{stop}/config/**\"}]\nstops:\n"
		for k := range 5 {
			after := ""
			if k > 0 {
				after = fmt.Sprintf("after: [stop-%d], ", k-1)
			}
			lane += fmt.Sprintf("  - {name: stop-%d, %swards: [%s-%d], lets_in: by itself}\n", k, after, name, k)
			out[fmt.Sprintf("s/%s/stop-%d/versions.yaml", name, k)] = versionsAt(0)
			out[fmt.Sprintf("s/%s/stop-%d/config/hours.yaml", name, k)] = manifest(name, 0, 1)
		}
		out["lanes/"+name+".yaml"] = lane
	}
	return out
}

func laneName(i int) string { return fmt.Sprintf("lane-%04d", i) }

func versionsAt(n int) string {
	return fmt.Sprintf("vigila: versions/v1\nimages:\n  registry.brindle.example/gate: {tag: 1.%d.0}\n", n)
}

// lanes: from a push until its lane has the new lot, beside a bare fetch of the same commit.
func (w *world) lanes(ctx context.Context, n int) (row, error) {
	const rounds = 21
	r := row{what: fmt.Sprintf("commit merged until its lane has the new lot, by a push, %d lanes of 5 stops in one repository", n), against: "a bare `git fetch` of that commit", goal: "within the fetch and 100 ms",
		how: fmt.Sprintf("Each commit changes the version at the first stop of one lane. From sending the signed push until, after a server-sent event, the API tells of the new lot. The bare fetch brings a mirror of its own up to the same commit from the same server. In turns, median of %d.", rounds)}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s, err := w.service(ctx, "lanes")
	if s != nil {
		defer s.stop()
	}
	if err != nil {
		return r, err
	}
	p := &pushed{w: w, s: s, wards: n, changed: make(chan string, 100_000), bare: filepath.Join(w.dir, "lanes.git")}
	if p.repo, err = w.repository("lanes"); err != nil {
		return r, err
	}
	if err := errors.Join(p.repo.push("First", lanesOf(n)), s.cli("repo", "add", "lanes", p.repo.url), s.cli("roster", "add", "lanes", "--repo", "lanes", "--path", "lanes")); err != nil {
		return r, err
	}
	if err := until(ctx, "every lane has its first lot", func() (bool, error) {
		a, err := s.api.ListLanesWithResponse(ctx, &client.ListLanesParams{Limit: 1000})
		if err := s.api.Check(a, err); err != nil {
			return false, err
		}
		known := 0
		for _, l := range a.JSON200.Items {
			if l.Newest.Number > 0 {
				known++
			}
		}
		return known == n, nil
	}); err != nil {
		return r, err
	}
	if err := errors.Join(p.listen(ctx, "lanes"), git("", "init", "-q", "--bare", p.bare)); err != nil {
		return r, err
	}
	if _, err := p.fetch(); err != nil {
		return r, err
	}
	ours, limit, profile, err := s.inTurns(rounds, func(round int) (time.Duration, time.Duration, error) { return p.lot(ctx, round*37%n, round+1) })
	if err != nil {
		return r, err
	}
	o, l := quantile(ours, .5), quantile(limit, .5)
	r.ours, r.limit = ms(o), ms(l)
	r.verdict, r.met, r.profiles = fmt.Sprintf("%.2f times, %+.1f ms over the fetch", float64(o)/float64(l), float64((o-l).Microseconds())/1000), o <= l+100*time.Millisecond, []string{profile}
	return r, nil
}

// lot pushes a new version to the first stop of one lane.
func (p *pushed) lot(ctx context.Context, i, version int) (ours, limit time.Duration, err error) {
	name := laneName(i)
	a, err := p.s.api.GetLaneWithResponse(ctx, name)
	if err := p.s.api.Check(a, err); err != nil {
		return 0, 0, err
	}
	before := a.JSON200.Newest.Number
	start, limit, err := p.commit(ctx, "Version of "+name, map[string]string{"s/" + name + "/stop-0/versions.yaml": versionsAt(version)})
	if err != nil {
		return 0, 0, err
	}
	for {
		select {
		case c := <-p.changed:
			if c != name {
				continue
			}
		case <-time.After(10 * time.Second):
			return 0, 0, fmt.Errorf("%s has no new lot", name)
		}
		a, err := p.s.api.GetLaneWithResponse(ctx, name)
		if err := p.s.api.Check(a, err); err != nil {
			return 0, 0, err
		}
		if a.JSON200.Newest.Number > before {
			return time.Since(start), limit, nil
		}
	}
}

// effect: what a branch would do, beside rendering both of its sides alone.
func (w *world) effect(ctx context.Context) (row, error) {
	const wards, rounds = 60, 7
	r := row{what: fmt.Sprintf("the effect of a branch that changes what %d overlays of %d wards read", wards/3, wards), against: "rendering both sides of the same alone, from files, on all cores", goal: "within 3 times plus 1 s",
		how: fmt.Sprintf("From the call until its answer: both sides rendered, compared field by field, and what would change tried out on the API server. Each round changes another value, so that nothing is remembered of it. Median of %d.", rounds)}
	f := &forms{world: w, wards: wards}
	var err error
	if f.s, err = w.service(ctx, "effects"); err != nil {
		return r, err
	}
	defer f.s.stop()
	if f.repo, err = w.repository("forms"); err != nil {
		return r, err
	}
	f.files = f.tree()
	if err := errors.Join(f.repo.push("First", f.files), f.s.cli("repo", "add", "forms", f.repo.url), f.s.cli("roster", "add", "forms", "--repo", "forms", "--path", "wards")); err != nil {
		return r, err
	}
	if err := f.known(ctx); err != nil {
		return r, err
	}
	var ours, limit []time.Duration
	for round := range rounds {
		branch := fmt.Sprintf("berths-%d", round)
		if err := errors.Join(git(f.repo.work, "checkout", "-q", "-b", branch, "main"), os.WriteFile(filepath.Join(f.repo.work, "base/config.yaml"), []byte(manifest("mooring", 0, 7+round)), 0o600),
			git(f.repo.work, "commit", "-q", "-a", "-m", branch), git(f.repo.work, "push", "-q", f.repo.url, branch)); err != nil {
			return r, err
		}
		look, err := f.s.api.LookAtRepoWithResponse(ctx, "forms")
		if err := f.s.api.Check(look, err); err != nil {
			return r, err
		}
		start := time.Now()
		e, err := f.s.api.GetBranchEffectWithResponse(ctx, "forms", &client.GetBranchEffectParams{Branch: branch})
		if err := f.s.api.Check(e, err); err != nil {
			return r, err
		}
		ours = append(ours, time.Since(start))
		if len(e.JSON200.Effects) != wards/3 {
			return r, fmt.Errorf("it touches %d wards", len(e.JSON200.Effects))
		}
		now, err := f.overlays(ctx)
		if err != nil {
			return r, err
		}
		if err := git(f.repo.work, "checkout", "-q", "main"); err != nil {
			return r, err
		}
		before, err := f.overlays(ctx)
		if err != nil {
			return r, err
		}
		limit = append(limit, now+before)
	}
	o, l := quantile(ours, .5), quantile(limit, .5)
	r.ours, r.limit = ms(o), ms(l)
	r.verdict, r.met = fmt.Sprintf("%.2f times", float64(o)/float64(l)), o <= 3*l+time.Second
	return r, nil
}
