package keeper

import (
	"context"
	"time"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/keeper/reading"
	"vigila.dev/vigila/internal/keeper/sources"
	"vigila.dev/vigila/internal/repo"
)

// Every is how often the ward wants its repositories to be looked at.
func (p *placement) Every() time.Duration { return p.Ward.Keep.Every }

// WasRead is told after a look at one of the ward's repositories that found something new, or went wrong, or can't
// tell whether anything is new.
func (p *placement) WasRead(name string, a standing.AsOf) {
	p.Hears().Told.Add(1)
	p.post(loop.WasRead{Name: name, AsOf: a})
}

// IsSame is told after a look at a repository that found nothing new for this ward.
func (p *placement) IsSame(name string, a standing.AsOf) { p.post(loop.WasSame{Name: name, AsOf: a}) }

// reads is what the ward reads its declaration from.
func (p *placement) reads(main *sources.Loop, limits roster.Limits) *reading.Ward {
	out := p.k.readsOf(p.Ward, p.Roster, limits, main, p.cluster)
	out.ID, out.File, out.Source, out.Log, out.Keeps = p.ID, p.File, p.Source, p.Log, func() int { return p.View().Kept }
	return out
}

// readsOf is what a ward that is not kept yet would be read from, in a cluster.
func (k *Keeper) readsOf(w *ward.Ward, of string, limits roster.Limits, main *sources.Loop, c *clusterLoop) *reading.Ward {
	return &reading.Ward{ID: ward.ID(w.Name, c.record().Name), Ward: w, Roster: of, Limits: limits, Main: main,
		Deps: reading.Deps{Common: k.reads, Cluster: near{c}, Keeps: func() int { return 0 }, Log: k.log}}
}

// Interests lists what the ward reads of a repository.
func (p *placement) Interests(name string) []sources.Interest { return p.reading.Interests(name) }

// shelves are what readings know of the house.
type shelves struct{ k *Keeper }

func (s shelves) Source(name string) (*sources.Loop, error) { return s.k.source(name) }

func (s shelves) ChartsAt(address string) (found *sources.Loop) {
	s.k.mu.RLock()
	defer s.k.mu.RUnlock()
	for _, l := range s.k.repos {
		if shelf, ok := l.Charts(); ok && repo.SameURL(shelf.URL(), address) {
			found = l
		}
	}
	return found
}

func (s shelves) RosterNow(name string) (roster.Roster, bool) {
	s.k.mu.RLock()
	l := s.k.rosters[name]
	s.k.mu.RUnlock()
	if l == nil {
		return roster.Roster{}, false
	}
	return l.record(), true
}

func (s shelves) RosterRules(name string) (out []repo.File) {
	now, _ := s.RosterNow(name)
	for _, f := range now.Rules {
		out = append(out, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	return out
}

func (s shelves) PutSnapshot(ctx context.Context, all []declared.Whole) (string, error) {
	return s.k.putSnapshot(ctx, all)
}
