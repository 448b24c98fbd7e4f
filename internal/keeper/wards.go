package keeper

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
)

// addFile checks repository, clusters and order first, and returns the placements.
func (k *Keeper) addFile(ctx context.Context, name, text string) ([]string, error) {
	wards, err := ward.Parse(name, []byte(text))
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	k.changing.Lock()
	defer k.changing.Unlock()
	known := k.known(nil)
	var errs []error
	for _, w := range wards {
		for _, text := range known.Missing(w) {
			errs = append(errs, fmt.Errorf("%s:%d: %s", name, w.Line, text))
		}
	}
	for _, w := range wards {
		for _, p := range k.named(w.Name) {
			if p.Roster != "" {
				return nil, fault(Conflict, "ward %s is declared by roster %s, in %s; change it there", w.Name, p.Roster, p.Source)
			}
		}
		if err := k.idle(k.named(w.Name)); err != nil {
			return nil, err
		}
	}
	if cycle := k.cycle(wards); len(cycle) > 0 {
		errs = append(errs, fmt.Errorf("%s: %s", name, roster.Cycled(cycle)))
	}
	if err := errors.Join(errs...); err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	docs := object.Split([]byte(text))
	var ids []string
	for i, w := range wards {
		file := strings.TrimLeft(string(docs[i].Text), "\n")
		if err := k.put(ctx, w, record.Ward{Name: w.Name, File: file}, "the ward no longer goes there"); err != nil {
			return ids, err
		}
		for _, c := range k.matching(w) {
			ids = append(ids, ward.ID(w.Name, c))
		}
		if l, err := k.source(w.From.Repo); err == nil {
			l.LookSoon() // whoever adds a ward wants to see it as it is now
		}
	}
	return ids, nil
}

// known is what there is to keep wards of, and in, with the registered wards as they are given.
func (k *Keeper) known(wards []record.Ward) roster.Known {
	out := roster.Known{Clusters: map[string]map[string]string{}, Wards: map[string]roster.Kept{}}
	for _, w := range keptOf(wards) {
		out.Wards[w.Name] = w
	}
	k.mu.RLock()
	defer k.mu.RUnlock()
	out.Repos = slices.Sorted(maps.Keys(k.repos))
	for name, c := range k.clusters {
		out.Clusters[name] = c.conf.Labels
	}
	return out
}

// matching lists the clusters that a ward goes into, by name.
func (k *Keeper) matching(w ward.Ward) []string { return k.known(nil).Matching(w) }

// cycle finds wards that wait for each other, with these added to the registered ones: the first is named again at the end.
func (k *Keeper) cycle(added []ward.Ward) []string {
	after := map[string][]string{}
	k.mu.RLock()
	for _, p := range k.kept.all {
		after[p.Ward.Name] = p.Ward.After
	}
	k.mu.RUnlock()
	var from []string
	for _, w := range added {
		after[w.Name] = w.After
		from = append(from, w.Name)
	}
	return roster.Cycle(after, from)
}

// put stores a ward and opens its placements. What stays where it goes no more is left behind, or dismantled before.
// changing is held.
func (k *Keeper) put(ctx context.Context, w ward.Ward, of record.Ward, why string) error {
	return k.putIn(ctx, w, of, k.matching(w), why)
}

// putIn is put into clusters that somebody else has chosen.
func (k *Keeper) putIn(ctx context.Context, w ward.Ward, of record.Ward, clusters []string, why string) error {
	for _, p := range k.named(w.Name) {
		if !slices.Contains(clusters, p.cluster.conf.Name) {
			if err := k.leave(ctx, p, why); err != nil {
				return err
			}
		}
	}
	if err := k.store.PutWard(ctx, of, clusters); err != nil {
		return err
	}
	for _, p := range k.named(w.Name) {
		p.close()
		k.forget(p)
	}
	placements, err := k.store.Placements(ctx, w.Name)
	if err != nil {
		return err
	}
	for _, p := range placements {
		if p.Leaving != nil { // it is wanted again
			if err := k.store.Commit(ctx, p.ID, record.SetLeaving{}); err != nil {
				return err
			}
			p.Leaving = nil
		}
		if err := k.openPlacement(ctx, p, w, of); err != nil {
			return err
		}
		if _, err := k.store.RemoveLeftBehind(ctx, p.ID); err != nil { // it is kept again
			return err
		}
	}
	return nil
}

// replace places wards anew after a cluster came or its labels changed. changing is held.
func (k *Keeper) replace(ctx context.Context, cluster string) error {
	wards, err := k.store.Wards(ctx)
	if err != nil {
		return err
	}
	for _, rec := range wards {
		one, err := parseWard(rec)
		if err != nil {
			continue // it is blind, and says so
		}
		var have []string
		set := false // the cluster's labels choose what its placement is like
		for _, p := range k.named(rec.Name) {
			have = append(have, p.cluster.conf.Name)
			set = set || p.cluster.conf.Name == cluster && len(one.Set) > 0
		}
		slices.Sort(have)
		if slices.Equal(have, k.matching(one)) && !set {
			continue
		}
		if err := k.idle(k.named(rec.Name)); err != nil {
			return err
		}
		if err := k.put(ctx, one, rec, "the labels of cluster "+cluster+" match no more"); err != nil {
			return err
		}
	}
	return nil
}

// keptIn lists what is kept in a cluster.
func (k *Keeper) keptIn(cluster string) (out []*placement) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return slices.AppendSeq(out, maps.Values(k.kept.in[cluster]))
}

// reconnect opens the wards in a cluster anew, since it is reached by another connection now.
func (k *Keeper) reconnect(ctx context.Context, cluster string) error {
	wards, err := k.store.Wards(ctx)
	if err != nil {
		return err
	}
	for _, rec := range wards {
		if !slices.ContainsFunc(k.named(rec.Name), func(p *placement) bool { return p.cluster.conf.Name == cluster }) {
			continue
		}
		one, err := parseWard(rec)
		if err != nil {
			continue // it is blind, and says so
		}
		if err := k.put(ctx, one, rec, "cluster "+cluster+" is reached in another way"); err != nil {
			return err
		}
	}
	return nil
}

func (k *Keeper) forget(p *placement) {
	k.mu.Lock()
	k.kept.leave(p)
	k.mu.Unlock()
	p.cluster.unclaim(p)
	p.cluster.releaseAll(p.ID)
	if p.repo != nil {
		p.repo.Unsubscribe(p)
	}
	for _, name := range p.Ward.Reads() {
		if l, err := k.source(name); err == nil {
			l.Unsubscribe(p)
		}
	}
	k.broker.send(Note{"ward", p.ID})
}

func (k *Keeper) remove(ctx context.Context, name string, l logbook.Leaving) error {
	l.At = time.Now()
	k.changing.Lock()
	defer k.changing.Unlock()
	ps := k.named(name)
	if len(ps) == 0 {
		return k.unknown(name)
	}
	for _, p := range ps {
		if v := p.View(); v.Run != nil && v.Run.Kind != run.Dismantle {
			return k.idle(ps)
		}
		if l := k.rosterOf(p); l != nil && !l.lets(p.Ward.Name) {
			return fault(Conflict, "ward %s is declared by roster %s; remove %s there, and it is not kept any more", p.Ward.Name, p.Roster, p.Source)
		}
	}
	for _, p := range ps {
		if l.Dismantle && p.Broken == "" {
			if _, err := p.want(ctx, loop.Leave{Leaving: l}); err != nil {
				return err
			}
			if _, err := p.fresh(ctx); err != nil {
				return err
			}
			continue
		}
		if err := k.idle([]*placement{p}); err != nil {
			return err
		}
		if err := k.retire(ctx, p, l); err != nil {
			return err
		}
	}
	return nil
}

// rosterOf is the roster that declares a ward; nil when none does.
func (k *Keeper) rosterOf(p *placement) *rosterLoop {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.rosters[p.Roster]
}

// idle refuses to change or remove wards in the middle of a run.
func (k *Keeper) idle(ps []*placement) error {
	for _, p := range ps {
		if v := p.View(); v.Run != nil {
			return fault(Conflict, "%s is in the middle of %s #%d; wait for it, or stop it first: vigila sync %s --stop", p.ID, v.Run.Kind, v.Run.Number, p.ID)
		}
	}
	return nil
}

func (k *Keeper) named(name string) []*placement {
	k.mu.RLock()
	defer k.mu.RUnlock()
	if p := k.kept.all[name]; p != nil {
		return []*placement{p}
	}
	out := slices.Collect(maps.Values(k.kept.named[name]))
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

func (k *Keeper) unknown(name string) error {
	k.mu.RLock()
	defer k.mu.RUnlock()
	var ids []string
	for id := range k.kept.all {
		ids = append(ids, id)
	}
	return unknown("ward", name, ids, "vigila ward add FILE")
}

// one finds a single placement by name@cluster, or by the name alone where there is one.
func (k *Keeper) one(name string) (*placement, error) {
	ps := k.named(name)
	switch len(ps) {
	case 0:
		return nil, k.unknown(name)
	case 1:
		return ps[0], nil
	}
	var ids []string
	for _, p := range ps {
		ids = append(ids, p.ID)
	}
	return nil, fault(Invalid, "%s is placed in several clusters; say which: %s", name, strings.Join(ids, ", "))
}

// Views lists every ward as it stands.
func (k *Keeper) Views() []*standing.View {
	k.mu.RLock()
	defer k.mu.RUnlock()
	out := make([]*standing.View, 0, len(k.kept.all))
	for _, p := range k.kept.all {
		out = append(out, p.View())
	}
	return out
}

// Ward is one ward as it stands.
func (k *Keeper) Ward(name string) (*standing.View, error) {
	p, err := k.one(name)
	if err != nil {
		return nil, err
	}
	return p.View(), nil
}

// AllEntries searches the logbooks of all wards, the newest first; total is how many there are.
func (k *Keeper) AllEntries(ctx context.Context, find record.Find) (page []logbook.Entry, total int, err error) {
	page, total, err = k.store.Entries(ctx, find)
	k.mu.RLock()
	defer k.mu.RUnlock()
	for i, e := range page {
		if p := k.kept.all[e.Placement]; p != nil && e.Ended.IsZero() {
			page[i] = p.Newest(e)
		}
	}
	return page, total, err
}

// Writable tells why nothing can be written down; nil when it can.
func (k *Keeper) Writable(ctx context.Context) error { return k.store.Ping(ctx) }

// dependents wakes the wards that wait for one that changed.
func (k *Keeper) dependents(of *placement) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, p := range k.kept.after[of.Ward.Name] {
		if p.cluster == of.cluster {
			p.post(loop.Woken{})
		}
	}
	for _, p := range k.kept.named[of.Ward.Name] {
		if p != of && p.Ward.Spread.InTurn {
			p.post(loop.Woken{})
		}
	}
}
