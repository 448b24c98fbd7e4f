package keeper

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"vigila.dev/vigila/internal/core/kit"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/schema"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/render"
)

// chartKits are the kits that Vigila brings along: one for packaged charts, where there is a chart repository and a roster that its wards can go to.
func (k *Keeper) chartKits() []Kit {
	if len(k.chartRepos()) == 0 {
		return nil
	}
	all := k.chartRosters()
	if len(all) == 0 {
		return nil
	}
	own, _, err := kit.ForChart(kit.Offer{}, all[0].Path)
	if err != nil {
		k.log.Error("the form for charts can't be made", "error", err)
		return nil
	}
	return []Kit{{own, all[0].Name, all[0].Repo, all[0].Ref}}
}

func (k *Keeper) chartRepos() (names []string) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for name, l := range k.repos {
		if _, is := l.Charts(); is {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// chartRosters are the rosters that the ward of a chart can go to, by name; those that nobody limits first.
func (k *Keeper) chartRosters() (out []roster.Roster) {
	for _, l := range k.rosterLoops() {
		out = append(out, l.record())
	}
	slices.SortFunc(out, func(a, b roster.Roster) int {
		if a.Limits.Any() != b.Limits.Any() {
			if b.Limits.Any() {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}

// maxVersions is how many versions of a chart are offered.
const maxVersions = 50

// chartKit is the kit for charts as far as something is chosen in given. What can't be told of the choice is a mistake beside it.
func (k *Keeper) chartKit(ctx context.Context, given map[string]any) (Kit, []kit.File, []schema.Mistake, error) {
	text := func(name string) string { s, _ := given[name].(string); return s }
	rosters := k.chartRosters()
	if len(rosters) == 0 {
		return Kit{}, nil, nil, fault(Conflict, "there is no roster that the ward of a chart could go to: vigila roster add NAME --repo NAME --path PATH")
	}
	o := kit.Offer{Repos: k.chartRepos()}
	at := rosters[0]
	for _, r := range rosters {
		if o.Rosters = append(o.Rosters, r.Name); r.Name == text("roster") {
			at = r
		}
	}
	var wrong []schema.Mistake
	no := func(name string, err error) {
		wrong = append(wrong, schema.Mistake{At: []string{name}, Text: ": " + err.Error()})
	}
	if l, err := k.source(text("chart_repo")); err == nil && text("chart_repo") != "" {
		if shelf, is := l.Charts(); is {
			o.Charts = shelf.Names()
			if err := k.chosen(ctx, l, given, &o); err != nil {
				no(err.about, err.error)
			}
		}
	}
	own, files, err := kit.ForChart(o, at.Path)
	return Kit{own, at.Name, at.Repo, at.Ref}, files, wrong, err
}

// choiceError is what is wrong with one of the choices.
type choiceError struct {
	error
	about string
}

// chosen fills in what there is to choose of a chart, once one is.
func (k *Keeper) chosen(ctx context.Context, l *sources.Loop, given map[string]any, o *kit.Offer) *choiceError {
	text := func(name string) string { s, _ := given[name].(string); return s }
	shelf, _ := l.Charts()
	if text("chart") == "" {
		return nil
	}
	versions, err := shelf.Versions(ctx, text("chart"))
	if err != nil {
		return &choiceError{err, "chart"}
	}
	var sorted []*semver.Version
	for _, v := range versions {
		if x, err := semver.NewVersion(v.Version); err == nil {
			sorted = append(sorted, x)
		}
	}
	slices.SortFunc(sorted, func(a, b *semver.Version) int { return b.Compare(a) })
	for _, v := range sorted[:min(len(sorted), maxVersions)] {
		o.Versions = append(o.Versions, v.Original())
	}
	if text("version") == "" {
		return nil
	}
	c, err := shelf.Load(ctx, text("chart"), text("version"))
	if err != nil {
		return &choiceError{err, "version"}
	}
	chart, err := render.OpenChart(c.Data, text("chart")+" "+c.Version)
	if err != nil {
		return &choiceError{err, "version"}
	}
	o.Values = kit.ChartValues(chart.Schema, chart.Values)
	runs := k.versionOf(ctx, text("cluster"))
	if runs == "" || chart.Suits(runs) {
		return nil
	}
	best := "none of the newest does"
	for _, v := range o.Versions[:min(len(o.Versions), maxTried)] {
		older, err := shelf.Load(ctx, text("chart"), v)
		if err != nil {
			continue // another may be there
		}
		if x, err := render.OpenChart(older.Data, v); err == nil && x.Suits(runs) {
			best = "the newest that fits is " + v
			break
		}
	}
	return &choiceError{fmt.Errorf("%s %s wants Kubernetes %s, and cluster %s has %s; %s", text("chart"), c.Version, chart.Wants, text("cluster"), runs, best), "version"}
}

// maxTried is how many versions of a chart are looked into for one that fits.
const maxTried = 12

// versionOf is the version of Kubernetes that a cluster runs; "" where it is not known.
func (k *Keeper) versionOf(ctx context.Context, name string) string {
	k.mu.RLock()
	c := k.clusters[name]
	k.mu.RUnlock()
	if c != nil && c.away != nil {
		return c.away.facts().Version
	}
	if c == nil || c.conn == nil {
		return ""
	}
	v, err := c.conn.Version(ctx)
	if err != nil {
		return ""
	}
	return v
}

// KitForm is a kit with what its form asks for, as far as something is given: of a chart's, what is to be chosen follows from what was.
func (k *Keeper) KitForm(ctx context.Context, w Who, name string, given map[string]any) (Kit, error) {
	x, err := k.SeenKit(w, name)
	if err != nil || name != kit.FromChart {
		return x, err
	}
	x, _, _, err = k.chartKit(ctx, given)
	return x, err
}

// kitFor is a kit at its newest, with its files and the commit that it is at.
func (k *Keeper) kitFor(ctx context.Context, w KitWish) (x Kit, now *kit.Kit, files []kit.File, at string, wrong []schema.Mistake, err error) {
	if w.Kit == kit.FromChart {
		x, files, wrong, err = k.chartKit(ctx, w.Values)
		if err != nil {
			return
		}
		mirror, err2 := k.gitOf(x.Repo)
		if err2 != nil {
			return x, nil, nil, "", nil, err2
		}
		head, err2 := mirror.Resolve(ctx, x.Ref)
		return x, x.Kit, files, head.ID, wrong, err2
	}
	if x, err = k.kit(w.Kit); err != nil {
		return
	}
	own, err := k.gitOf(x.Repo)
	if err != nil {
		return
	}
	head, err := own.Resolve(ctx, x.Ref)
	if err == nil {
		head, err = own.LastChange(ctx, head, x.Dir) // so that the record is another only when the kit is
	}
	if err != nil {
		return
	}
	now, files, err = k.kitAt(x, head.ID)
	if err != nil {
		err = fault(Invalid, "%v", err)
	}
	return x, now, files, head.ID, nil, err
}
