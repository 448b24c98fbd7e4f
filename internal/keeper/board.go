package keeper

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/link"
)

// Line is a ward as lists know it. It never changes once it is made.
type Line struct {
	View *standing.View // but for when its lookout was heard of last; Now has that
	Text string         // what searches look into, in small letters, but for the names of its objects
	// What is asked of every line comes first: there may be very many.
	ID, Cluster, Owner string
	Standing           compare.Standing
	Health             health.Word
	NeedsYou, Quiet    bool
	named              bool // its objects may have names that a list may ask for
	of                 *placement
	from               madeOf
}

// Now is the ward as it stands.
func (l *Line) Now() *standing.View { return l.of.View() }

// Names are those of its objects, in small letters, as far as a list may ask for them: no lookout is asked.
func (l *Line) Names(ctx context.Context) (string, error) {
	if !l.named {
		return "", nil
	}
	var names []string
	var err error
	if l.of.cluster.away == nil {
		names, err = namesOf.ask(ctx, l.of, nothingAsked{})
	} else {
		names = l.of.namesHere()
	}
	return strings.ToLower(strings.Join(names, " ")), err
}

// madeOf is what the view of a line was made from.
type madeOf struct {
	view *standing.View
	by   *link.Peer // the connection that it was told by, and
	now  *link.Peer // the one that is there; both nil where no lookout keeps it
	long bool       // the lookout is away for long
	at   time.Time  // it was heard of last, while it is away
	said bool       // what it declares is known here
}

// board is all wards in the order that people read them in. Whoever reads it brings it up to date: what has not changed since is not looked
// at again, so that a list of very many wards costs what has changed.
type board struct {
	mu    sync.Mutex
	moved uint64 // which wards there are, when it was read last, and
	sent  uint64 // what had been told of them by then
	order []*Line
}

// Lines are all wards, what needs a person first. The list is nobody's to change.
func (k *Keeper) Lines() []*Line {
	b := &k.board
	b.mu.Lock()
	defer b.mu.Unlock()
	k.mu.RLock()
	moved := k.kept.moved
	var all []*placement
	if moved != b.moved {
		all = slices.Collect(maps.Values(k.kept.all))
	}
	k.mu.RUnlock()
	sent := k.broker.sent.Load() // whatever is another is told of, after it is
	if moved == b.moved && sent == b.sent {
		return b.order
	}
	b.sent = sent
	clusters := map[*away]madeOf{}
	if moved != b.moved {
		have := make(map[*placement]*Line, len(b.order))
		for _, l := range b.order {
			have[l.of] = l
		}
		order := make([]*Line, 0, len(all))
		for _, p := range all {
			l := have[p]
			if from := p.madeOf(clusters); l == nil || l.from != from {
				l = p.line(from)
			}
			order = append(order, l)
		}
		slices.SortFunc(order, before)
		b.order, b.moved = beside(order), moved
		return b.order
	}
	var fresh []*Line
	for _, l := range b.order {
		if from := l.of.madeOf(clusters); from != l.from {
			fresh = append(fresh, l.of.line(from))
		}
	}
	if len(fresh) > 0 {
		b.order = b.with(fresh)
	}
	if len(fresh) > len(b.order)/8 {
		b.order = beside(b.order)
	}
	return b.order
}

// beside is the same lines, one beside the other in memory, and so are their texts: whoever goes through all of them has little else to wait for.
func beside(order []*Line) []*Line {
	size := 0
	for _, l := range order {
		size += len(l.Text)
	}
	var texts strings.Builder
	texts.Grow(size)
	for _, l := range order {
		texts.WriteString(l.Text)
	}
	all, lines, at := texts.String(), make([]Line, len(order)), 0
	out := make([]*Line, len(order))
	for i, l := range order {
		lines[i] = *l
		lines[i].Text = all[at : at+len(l.Text)]
		at += len(l.Text)
		out[i] = &lines[i]
	}
	return out
}

// with is the order with some lines in the place of those of the same wards.
func (b *board) with(fresh []*Line) []*Line {
	of := make(map[*placement]bool, len(fresh))
	for _, l := range fresh {
		of[l.of] = true
	}
	slices.SortFunc(fresh, before)
	out := make([]*Line, 0, len(b.order))
	for _, l := range b.order {
		if of[l.of] {
			continue
		}
		for len(fresh) > 0 && before(fresh[0], l) < 0 {
			out, fresh = append(out, fresh[0]), fresh[1:]
		}
		out = append(out, l)
	}
	return append(out, fresh...)
}

func before(a, b *Line) int { return standing.Compare(a.View, b.View) }

// madeOf is what the ward's line is to be made from by now. clusters holds what was found out of lookouts already.
func (p *placement) madeOf(clusters map[*away]madeOf) madeOf {
	out := madeOf{view: p.Placement.View()}
	a := p.cluster.away
	if a == nil {
		return out
	}
	of, known := clusters[a]
	if !known {
		a.mu.Lock()
		of.now = a.peer
		if a.peer == nil {
			of.at = a.kept.Told.Heard
		}
		of.long = time.Since(a.since) > awayLong
		a.mu.Unlock()
		clusters[a] = of
	}
	out.by, out.now, out.at, out.said = p.toldBy.Load(), of.now, of.at, p.Says() != nil
	out.long = of.long && (out.now == nil || out.by != out.now)
	return out
}

// line makes the ward's line.
func (p *placement) line(from madeOf) *Line {
	v := from.view
	if p.cluster.away != nil && (from.now == nil || from.by != from.now) {
		v = p.View()
	}
	parts := []string{v.ID, v.Ward.Owner, v.Ward.About, v.Ward.From.Repo, v.Ward.From.Path, v.Roster, v.Chart, string(v.Standing), string(v.Health.Word), v.Says}
	for _, r := range []*logbook.Revision{v.Revision, v.Applied} {
		if r != nil {
			parts = append(parts, r.ID, r.Subject)
		}
	}
	return &Line{View: v, Text: strings.ToLower(strings.Join(parts, " ")), ID: v.ID, Cluster: v.Cluster, Owner: v.Ward.Owner, Standing: v.Standing, Health: v.Health.Word, NeedsYou: v.NeedsYou, Quiet: standing.Quietly(v), named: p.cluster.away == nil || from.said || len(v.Astray) > 0, of: p, from: from}
}
