package keeper

import (
	"context"
	"errors"
	"slices"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper/drive"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/render"
)

// near is the cluster as one ward, and the reading of its declaration, know it.
type near struct{ c *clusterLoop }

// watched is what a ward knows of the cluster from the watches of this process: nothing, where a lookout has them.
func (l *clusterLoop) watched() loop.Reach {
	if l.away != nil {
		return unwatched{near{l}}
	}
	return near{l}
}

// unwatched is a cluster that a lookout watches.
type unwatched struct{ near }

func (u unwatched) Down() error {
	at, _ := u.c.away.heard()
	return errors.New(awayText(u.c.away.name, at))
}

func (n near) Down() error {
	if n.c.away != nil {
		return n.c.away.down()
	}
	if n.c.conn == nil {
		return n.c.err
	}
	return nil
}

func (n near) Known(kinds []object.Kind) loop.Sight {
	s := n.c.conn.Known(kinds)
	return loop.Sight{Known: s.Known, Reading: s.Reading, At: s.At, Problem: s.Problem}
}

func (n near) ScalersKnown() bool           { return n.c.conn.ScalersKnown() }
func (n near) Scaler(ref object.Ref) string { return n.c.conn.Scaler(ref) }
func (n near) Lacking(k object.Kind) bool   { return n.c.conn.Lacking(k) }
func (n near) Rewound() bool                { return n.c.rewound.Load() }

func (n near) Name() string              { return n.c.record().Name }
func (n near) Labels() map[string]string { return n.c.labels() }

// Namespaces is part of reading.Cluster.
func (n near) Namespaces() (only, may []string) { return n.c.namespaces() }

func (n near) Facts(ctx context.Context) (out render.Cluster, whole bool, err error) {
	out = render.Cluster{Name: n.Name(), Labels: n.Labels()}
	if n.c.away != nil {
		return n.c.away.renderFacts(out)
	}
	if n.c.conn == nil {
		return out, false, n.c.err
	}
	if out.Version, err = n.c.conn.LastVersion(ctx); err != nil {
		return out, false, err
	}
	out.APIs, whole, err = n.c.conn.APIs()
	return out, whole, err
}

func (n near) Namespaced(o object.Object) (bool, error) {
	if n.c.away != nil {
		return n.c.away.namespaced(o)
	}
	if n.c.conn == nil {
		return false, n.c.err
	}
	return n.c.conn.Namespaced(o)
}

// past is what the record holds of one ward.
type past struct{ p *placement }

func (b past) Detail(ref object.Ref) (*compare.Detail, error) {
	d, err := b.p.k.ledger.Detail(b.p.ctx, b.p.ID, ref)
	if err != nil && b.p.ctx.Err() != nil {
		return nil, loop.ErrEnding
	}
	return d, err
}

func (b past) Found() (map[object.Ref]*fieldpath.Set, error) {
	return b.p.k.ledger.Found(b.p.ctx, b.p.ID)
}

func (b past) Removed(uid string) (bool, error) { return b.p.k.ledger.Removed(b.p.ctx, b.p.ID, uid) }

func (b past) Entry(number int) (logbook.Entry, error) {
	return b.p.k.ledger.Entry(b.p.ctx, b.p.ID, number)
}

func (b past) Entries() ([]logbook.Entry, error) {
	all, _, err := b.p.k.ledger.Entries(b.p.ctx, record.Find{Placement: b.p.ID})
	return all, err
}

func (b past) Snapshot(id string, only ...object.Ref) ([]declared.Whole, error) {
	return b.p.k.ledger.Snapshot(b.p.ctx, id, only...)
}

func (b past) SnapshotHashes(id string) (map[object.Ref]string, error) {
	return b.p.k.ledger.SnapshotHashes(b.p.ctx, id)
}

// others are the wards beside one.
type others struct{ p *placement }

func (o others) Keeper(ref object.Ref) (id string, declares bool) {
	other := o.p.cluster.keeper(ref)
	if other == nil || other == o.p {
		return "", false
	}
	return other.ID, other.Says().Find(ref) != nil
}

func (o others) Claim(ref object.Ref) { o.p.cluster.claim(ref, o.p) }

func (o others) ClaimFor(ref object.Ref) string {
	if other := o.p.cluster.claimFor(ref, o.p); other != nil {
		return other.Ward.Name
	}
	return ""
}

func (o others) Drop(ref object.Ref) { o.p.cluster.drop(ref, o.p) }

func (o others) Heir(ref object.Ref) string { return o.p.heir(ref) }

func (o others) KeptElsewhere(ref object.Ref) bool { return o.p.k.keptElsewhere(ref, o.p) }

func (o others) Unread(m loop.Marks, leaving bool) string {
	if up := o.p.k.up; up != nil && !up.cleared(o.p, leaving) {
		return clearly
	}
	return o.p.unread(m, leaving)
}

func (o others) Neighbour(id string) *standing.View {
	o.p.k.mu.RLock()
	other := o.p.k.kept.all[id]
	o.p.k.mu.RUnlock()
	if other == nil {
		return nil
	}
	return other.View()
}

func (o others) Twins() map[string]*standing.View {
	if up := o.p.k.up; up != nil {
		up.mu.Lock()
		defer up.mu.Unlock()
		return up.twins[o.p.ID]
	}
	o.p.k.mu.RLock()
	defer o.p.k.mu.RUnlock()
	out := map[string]*standing.View{}
	for _, x := range o.p.k.kept.named[o.p.Ward.Name] {
		if x != o.p {
			out[x.cluster.conf.Name] = x.View()
		}
	}
	return out
}

// heir names the ward that an object is handed over to instead of being removed: one that declares it in the same cluster;
// for a namespace also one that is kept in it.
func (p *placement) heir(ref object.Ref) string {
	for _, other := range p.neighbours() {
		if other.View().Leaving != nil {
			continue
		}
		if d := other.Says().Find(ref); d != nil && d.Task == object.NoTask {
			return other.ID
		}
		if ref.Group == "" && ref.Kind == "Namespace" && other.Ward.Into.Namespace == ref.Name {
			return other.ID
		}
	}
	return ""
}

// spare tells who wants an object when the turn comes to remove it. A run may take long: by then another ward may declare the
// object, or, where the run follows the repository, this one again. loop.ErrUnread tells that somebody has to read first what has come
// since. It is asked beside the ward's goroutine.
func (p *placement) spare(r loop.Removal) (s drive.Spared, err error) {
	if r.Theirs != "" {
		s.Theirs = r.Theirs
		return s, nil
	}
	if !r.Kept {
		return s, nil
	}
	if r.Intent.Kind == run.Sync || r.Intent.Kind == run.Dismantle {
		if up := p.k.up; up != nil { // a run that was begun goes on without the service: then nobody is told of anything new
			if err := up.clear(p.ctx, p, r.Leaving); err != nil && !errors.Is(err, errAlone) {
				return s, loop.ErrUnread
			}
		}
		if p.unread(r.Asked, r.Leaving) != "" {
			return s, loop.ErrUnread
		}
	}
	if r.Intent.Kind == run.Sync && r.Intent.Follows {
		if p.Broken == "" && !r.Asked.Heard(p.Hears()) {
			return s, loop.ErrUnread
		}
		if says := p.Says(); says != nil {
			if d := says.Find(r.Ref); d != nil && d.Task == object.NoTask {
				s.Again = says.Revision.Short()
				return s, nil
			}
		}
	}
	s.Heir = p.heir(r.Ref)
	return s, nil
}

// neighbours are the other wards of the cluster, by id.
func (p *placement) neighbours() []*placement {
	p.k.mu.RLock()
	defer p.k.mu.RUnlock()
	var out []*placement
	for _, other := range p.k.kept.in[p.cluster.conf.Name] {
		if other != p && other.cluster == p.cluster {
			out = append(out, other)
		}
	}
	slices.SortFunc(out, func(a, b *placement) int {
		if a.ID < b.ID {
			return -1
		}
		return 1
	})
	return out
}

// unread names who has not taken in yet what was read of the ward's repository when it was first asked, and so may still come to
// declare what is to be removed; "" when everybody has. Who can't read it is not waited for, nor, by a ward that leaves its roster,
// the roster that lets it go.
func (p *placement) unread(m loop.Marks, leaving bool) string {
	if !leaving {
		p.k.mu.RLock()
		var reading string
		for name, l := range p.k.rosters {
			if l.record().Repo == p.Ward.From.Repo && !m.Heard(&l.hears) {
				reading = "roster " + name + ", which reads the same commit"
			}
		}
		p.k.mu.RUnlock()
		if reading != "" {
			return reading
		}
	}
	for _, other := range p.neighbours() {
		if other.Ward.From.Repo == p.Ward.From.Repo && other.Broken == "" && (!m.Heard(other.Hears()) || other.Says() == nil && other.View().Repository.Problem == "") {
			return other.ID + ", which reads the same commit"
		}
	}
	return ""
}

// finish forgets a ward whose removal is through. What it keeps still is left behind, and listed as that.
func (k *Keeper) finish(p *placement) error {
	k.changing.Lock()
	defer k.changing.Unlock()
	k.mu.RLock()
	still := k.kept.all[p.ID] == p
	k.mu.RUnlock()
	leaving := p.View().Leaving
	if !still || leaving == nil { // a lookout may say that it is through with what nobody has begun
		return nil
	}
	return k.retire(k.ctx, p, *leaving)
}
