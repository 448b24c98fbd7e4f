package keeper

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/lane"
	"vigila.dev/vigila/internal/core/proposal"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/versions"
	"vigila.dev/vigila/internal/keeper/loop"
	"vigila.dev/vigila/internal/repo"
)

// Lane is a lane as it stands.
type Lane struct {
	lane.Lane
	Roster  string
	Places  []LaneStop // its stops, in the order of its file
	Memory  lane.Memory
	Looked  time.Time
	Problem string // why it can't be read
	Said    string
	Loud    bool // it waits for a person
}

// LaneStop is a stop as it stands.
type LaneStop struct {
	lane.Stop
	Has     lane.State
	Arrival lane.Arrival
	Offer   lane.Offer
	Along   []lane.Change // what the offer would change
	Problem string        // why what it has can't be read, or what it takes can't be written
	Said    string
	Loud    bool
}

// lanes are the lanes that rosters declare.
type lanes struct {
	mu     *sync.Mutex
	loops  map[string]*laneLoop
	byWard map[string][]*laneLoop // by the names of wards, without their clusters
	heads  map[[2]string]string   // by repository and branch, the commit that lanes were told of
}

func newLanes() lanes {
	return lanes{mu: &sync.Mutex{}, loops: map[string]*laneLoop{}, byWard: map[string][]*laneLoop{}, heads: map[[2]string]string{}}
}

// laneLoop lets the lots of one lane go their way.
type laneLoop struct {
	k      *Keeper
	roster *rosterLoop
	ctx    context.Context
	cancel context.CancelFunc
	wake   chan struct{}

	looking sync.Mutex  // one look at a time
	known   bool        // what is remembered was read; guarded by looking, like the next two
	memory  lane.Memory // as the record has it
	read    map[string]contentRead

	mu   sync.Mutex
	lane lane.Lane
	view *Lane
}

// contentRead is what a stop has, by the hashes of what it was read from.
type contentRead struct {
	hash    string
	content lane.Content
}

// all lists the lanes that are declared, by name.
func (s *lanes) all() (out []*laneLoop) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range s.loops {
		if l.ctx.Err() == nil {
			out = append(out, l)
		}
	}
	return out
}

func (s *lanes) of(name string) *laneLoop {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l := s.loops[name]; l != nil && l.ctx.Err() == nil {
		return l
	}
	return nil
}

// arrange finds out anew which lanes listen to which wards.
func (s *lanes) arrange() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.byWard = map[string][]*laneLoop{}
	for name, l := range s.loops {
		if l.ctx.Err() != nil {
			delete(s.loops, name)
			continue
		}
		for _, stop := range l.declared().Stops {
			for _, w := range stop.Wards {
				w, _, _ = strings.Cut(w, "@")
				if !slices.Contains(s.byWard[w], l) {
					s.byWard[w] = append(s.byWard[w], l)
				}
			}
		}
	}
}

// setLanes takes the lanes that a roster's files declare. Those of a file that can't be read stay as they were.
func (l *rosterLoop) setLanes(in *roster.Files) (problems []roster.Problem) {
	k, conf := l.k, l.record()
	want := map[string]lane.Lane{}
	for _, x := range in.Lanes {
		no := func(format string, args ...any) {
			problems = append(problems, roster.Problem{File: x.File, Line: x.Line, Text: fmt.Sprintf(format, args...)})
		}
		first, twice := want[x.Name]
		elsewhere := k.lanes.of(x.Name)
		outside := slices.IndexFunc(x.Carries, func(c lane.Carry) bool { return !strings.HasPrefix(c.Path(), conf.Path+"/") })
		with, at := l.alsoWrites(&x, want)
		switch {
		case twice:
			no("lane %s is declared twice; first at %s:%d", x.Name, first.File, first.Line)
		case elsewhere != nil && elsewhere.roster != l:
			no("lane %s is declared by roster %s already", x.Name, elsewhere.roster.record().Name)
		case conf.Limits.Any() && conf.Path != "" && outside >= 0:
			no("it is more than its roster may: roster %s has limits, so lanes carry what is below %s alone, not %s", conf.Name, conf.Path, x.Carries[outside].Path())
		case with != "":
			no("%s is written by %s as well, so that they would undo each other; keep one of them", at, with)
		default:
			want[x.Name] = x
		}
	}
	for _, old := range k.lanes.all() {
		x := old.declared()
		if _, is := want[x.Name]; old.roster == l && !is && in.Broken[x.File] == "" {
			old.cancel()
		}
	}
	for name, x := range want {
		old := k.lanes.of(name)
		if old == nil {
			old = &laneLoop{k: k, roster: l, wake: make(chan struct{}, 1), lane: x, read: map[string]contentRead{}}
			old.ctx, old.cancel = context.WithCancel(l.ctx)
			k.lanes.mu.Lock()
			k.lanes.loops[name] = old
			k.lanes.mu.Unlock()
			k.spawn(old.run)
			continue
		}
		old.mu.Lock()
		moved := !reflect.DeepEqual(old.lane, x)
		old.lane = x
		old.mu.Unlock()
		if moved {
			old.nudge()
		}
	}
	k.lanes.arrange()
	return problems
}

// alsoWrites finds who else writes to what a lane writes: another lane, or a follow.
func (l *rosterLoop) alsoWrites(x *lane.Lane, declared map[string]lane.Lane) (who, at string) {
	for _, o := range declared {
		if o.Name != x.Name && x.Clash(&o) != "" {
			return "lane " + o.Name, x.Clash(&o)
		}
	}
	for _, other := range l.k.lanes.all() {
		if o := other.declared(); other.roster != l && o.Name != x.Name && x.Clash(&o) != "" {
			return "lane " + o.Name, x.Clash(&o)
		}
	}
	writes := x.Writes()
	for _, f := range l.k.Follows() {
		if stop, is := writes[f.Into]; is && f.Repo == x.Repo && f.Ref == x.Ref {
			return fmt.Sprintf("follow %s, at stop %s", f.Name, stop), f.Into
		}
	}
	return "", ""
}

func (l *laneLoop) declared() lane.Lane {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.lane
}

func (l *laneLoop) nudge() {
	rouse(l.wake)
}

// The times between looks that nothing has asked for.
const (
	laneEvery = 5 * time.Minute
	laneSoon  = 500 * time.Millisecond // a ward that has not taken in yet what it was told tells nobody when it finds that nothing is new
	laneRetry = 30 * time.Second
	// laneTimeout bounds one look, with what is written after it.
	laneTimeout = 5 * time.Minute
)

func (l *laneLoop) run() {
	for {
		next := l.look(l.ctx)
		if l.ctx.Err() != nil {
			return
		}
		if !rest(l.ctx, l.wake, max(time.Until(next), 50*time.Millisecond)) {
			return
		}
	}
}

// keepLanes lets lanes look when a ward that they listen to has changed, or a proposal.
func (k *Keeper) keepLanes() {
	listener := k.Listen()
	defer listener.Close()
	for {
		select {
		case <-k.ctx.Done():
			return
		case <-listener.Wake():
		}
		told := map[*laneLoop]bool{}
		for _, n := range listener.Take() {
			switch n.Kind {
			case "ward":
				name, _, _ := strings.Cut(n.Name, "@")
				k.lanes.mu.Lock()
				for _, l := range k.lanes.byWard[name] {
					told[l] = true
				}
				k.lanes.mu.Unlock()
				k.wardChanged(n.Name)
			case "proposal":
				for _, l := range k.lanes.all() {
					told[l] = told[l] || l.proposes(n.Name)
				}
			}
		}
		for l, is := range told {
			if is {
				l.nudge()
			}
		}
	}
}

// proposes tells whether a proposal is one of the lane's.
func (l *laneLoop) proposes(number string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.view != nil && slices.ContainsFunc(l.view.Places, func(s LaneStop) bool {
		return s.Has.Letting != nil && fmt.Sprint(s.Has.Letting.Proposal) == number || fmt.Sprint(s.Has.Proposal) == number
	})
}

// lanesRead lets the lanes of a repository look whose files its commits have changed.
func (k *Keeper) lanesRead(name string) {
	moved := map[string]*repo.Moved{} // by branch; nil where what has moved is not known
	for _, l := range k.lanes.all() {
		x := l.declared()
		if x.Repo != name {
			continue
		}
		m, asked := moved[x.Ref]
		if !asked {
			m = k.movedSince(name, x.Ref)
			moved[x.Ref] = m
		}
		if m == nil || slices.ContainsFunc(x.Stops, func(s lane.Stop) bool {
			return slices.ContainsFunc(x.Carries, func(c lane.Carry) bool { return m.Touches(lane.At(c.Path(), s.Name)) })
		}) {
			l.nudge()
		}
	}
}

// movedSince is what a branch has changed since lanes were told of it last; nil when that is not known.
func (k *Keeper) movedSince(name, ref string) *repo.Moved {
	mirror, err := k.gitOf(name)
	if err != nil {
		return nil
	}
	head, err := mirror.Branch(ref)
	k.lanes.mu.Lock()
	was := k.lanes.heads[[2]string{name, ref}]
	k.lanes.heads[[2]string{name, ref}] = head
	k.lanes.mu.Unlock()
	if err != nil || was == "" || head == "" {
		return nil
	}
	m, err := mirror.Moved(was, head)
	if err != nil {
		return nil
	}
	return m
}

// look looks at what the stops have and how their wards are, and lets in what may go on by itself.
func (l *laneLoop) look(ctx context.Context) (next time.Time) {
	l.looking.Lock()
	defer l.looking.Unlock()
	ctx, cancel := context.WithTimeout(ctx, laneTimeout)
	defer cancel()
	s, err := l.see(ctx)
	if err != nil || l.ctx.Err() != nil {
		return time.Now().Add(laneRetry)
	}
	l.letGo(ctx, s)
	l.show(s)
	return s.next
}

// sight is one look at a lane.
type sight struct {
	Lane
	mirror *repo.Mirror
	head   repo.Revision
	states map[string]lane.State
	past   lane.Past
	next   time.Time
}

// soon asks for another look at a time.
func (s *sight) soon(at time.Time) {
	if !at.IsZero() && at.Before(s.next) {
		s.next = at
	}
}

// see looks at the lane; whoever calls it holds looking. An error tells that nothing is remembered, so that nothing may be done.
func (l *laneLoop) see(ctx context.Context) (*sight, error) {
	x := l.declared()
	now := time.Now().UTC().Round(0)
	s := &sight{Lane: Lane{Lane: x, Roster: l.roster.record().Name, Looked: now}, states: map[string]lane.State{}, next: now.Add(laneEvery)}
	if !l.known {
		m, err := l.k.store.Lane(ctx, x.Name)
		if err != nil {
			s.Problem = "what is remembered of it can't be read: " + err.Error()
			l.show(s)
			return nil, err
		}
		l.memory, l.known = m, true
	}
	m := l.memory
	if s.Problem = l.reads(ctx, s); s.Problem == "" {
		m = l.stops(ctx, s, m)
		if err := l.remember(ctx, m); err != nil {
			return nil, err
		}
	} else {
		s.Places = make([]LaneStop, len(x.Stops))
		for i, stop := range x.Stops {
			s.Places[i] = LaneStop{Stop: stop, Has: m.State(stop.Name)}
		}
	}
	l.offers(ctx, s)
	return s, nil
}

// remember writes down what is known of the lane by now.
func (l *laneLoop) remember(ctx context.Context, m lane.Memory) error {
	if err := l.k.store.PutLane(ctx, l.declared().Name, l.memory, m); err != nil {
		if l.ctx.Err() == nil {
			l.k.log.Error("a lane can't be remembered; nothing is let in until it can", "lane", l.declared().Name, "error", err)
		}
		return err
	}
	l.memory = m
	return nil
}

// reads opens the repository of a lane; it answers why it can't be read.
func (l *laneLoop) reads(ctx context.Context, s *sight) (problem string) {
	source, err := l.k.source(s.Repo)
	if err != nil {
		return err.Error()
	}
	if s.mirror, err = l.k.gitOf(s.Repo); err != nil {
		return err.Error()
	}
	if st := source.State(); !st.AsOf.Known {
		if st.AsOf.Problem == "" {
			source.LookSoon()
			return s.Repo + " has not been looked at yet"
		}
		return st.AsOf.Problem
	}
	if s.head, err = s.mirror.Resolve(ctx, s.Ref); err != nil {
		return err.Error()
	}
	return ""
}

// stops looks at each stop: what it has, and whether that has arrived.
func (l *laneLoop) stops(ctx context.Context, s *sight, m lane.Memory) lane.Memory {
	for _, stop := range s.Stops {
		at := LaneStop{Stop: stop}
		content, err := l.content(s.mirror.At(s.head.ID), &s.Lane.Lane, stop.Name)
		if err != nil { // what it has is not known, so nothing is said of it, and nothing is let in
			at.Problem = err.Error()
			at.Has = m.State(stop.Name)
			s.Places = append(s.Places, at)
			continue
		}
		m = l.saw(ctx, s, m, stop, content)
		var wards []lane.Ward
		for _, name := range stop.Wards {
			w, soon := l.ward(ctx, s, stop, name, content)
			if wards = append(wards, w); soon {
				s.soon(s.Looked.Add(laneSoon))
			}
		}
		m, at.Arrival = m.Arrive(stop, s.Looked, wards)
		if !at.Arrival.Here {
			s.soon(at.Arrival.When)
		}
		at.Has = m.State(stop.Name)
		at.Has.Wards = wards
		s.Places = append(s.Places, at)
	}
	return m
}

// content is what a stop has at a commit.
func (l *laneLoop) content(t *repo.Tree, x *lane.Lane, stop string) (lane.Content, error) {
	hash := fmt.Sprint(x.Keeps, x.Carries, len(x.Stops))
	for _, c := range x.Carries {
		h, err := t.Hash(lane.At(c.Path(), stop))
		if err != nil {
			return nil, err
		}
		hash += " " + h
	}
	if was, known := l.read[stop]; known && was.hash == hash {
		return was.content, nil
	}
	out := lane.Content{}
	for _, c := range x.Carries {
		if err := carried(t, x, c, stop, out); err != nil {
			return nil, err
		}
	}
	l.read[stop] = contentRead{hash, out}
	return out, nil
}

// chartOf is how a chart's name is written where images are.
const chartOf = "chart "

// carried reads one of the things that are carried.
func carried(t *repo.Tree, x *lane.Lane, c lane.Carry, stop string, out lane.Content) error {
	at := lane.At(c.Path(), stop)
	if c.Versions == "" {
		leaves, err := t.Leaves(at)
		if err != nil {
			return err
		}
		for file, leaf := range leaves {
			if p := c.Path() + strings.TrimPrefix(file, at); !x.KeepsPath(p) {
				out[lane.Key{Path: p}] = leaf.Mode + " " + leaf.ID
			}
		}
		return nil
	}
	data, err := t.Read(at)
	if errors.Is(err, repo.ErrNoPath) {
		return nil
	}
	if err != nil {
		return err
	}
	file, err := versions.Parse(at, data)
	if err != nil {
		return err
	}
	for image, v := range file.Images {
		out[lane.Key{Path: c.Path(), Of: image}] = strings.TrimSpace(v.Tag + " " + v.Digest)
	}
	for name, v := range file.Charts {
		out[lane.Key{Path: c.Path(), Of: chartOf + name}] = v.Version
	}
	return nil
}

// saw takes in what a stop has; where that is new it finds out where it comes from.
func (l *laneLoop) saw(ctx context.Context, s *sight, m lane.Memory, stop lane.Stop, content lane.Content) lane.Memory {
	let := m.Stops[stop.Name].Letting
	var of *proposal.Proposal
	if let != nil && let.Proposal > 0 {
		p, err := l.k.Proposal(ctx, let.Proposal)
		switch {
		case err == nil:
			of = p
		case errors.As(err, new(*Fault)): // it never came to be
			m = m.NotLetIn(stop.Name)
		}
	}
	cur, going := m.Current(stop.Name)
	if going && cur.ID == content.ID() {
		if cur.Proposal > 0 && s.Looked.Sub(cur.Since) < mergedWithin { // who has merged it on a code host is known a moment later
			if p, err := l.k.Proposal(ctx, cur.Proposal); err == nil && p.EndedBy != "" {
				m = m.LetInBy(stop.Name, p.EndedBy)
			}
		}
		if of != nil && of.Over() { // and changed nothing here, or was withdrawn
			m = m.NotLetIn(stop.Name)
		}
		return m
	}
	paths := make([]string, len(s.Carries))
	for i, c := range s.Carries {
		paths[i] = lane.At(c.Path(), stop.Name)
	}
	seen := lane.Seen{At: s.Looked, Content: content}
	if rev, err := s.mirror.LastChange(ctx, s.head, paths...); err == nil {
		seen.Commit, seen.Subject, seen.Author = rev.ID, rev.Subject, rev.Author
	}
	if len(stop.After) == 0 {
		const most = 20
		if brings, more, err := s.mirror.Between(ctx, cur.Commit, s.head.ID, most, paths...); err == nil {
			for _, b := range brings {
				seen.Brings = append(seen.Brings, lane.Brought{Commit: b.ID, Subject: b.Subject, Author: b.Author})
			}
			seen.More = more
		}
	}
	if of != nil && of.Standing == proposal.Merged {
		seen.Merged, seen.By = true, of.EndedBy
		if seen.By == "" {
			seen.By = seen.Author
		}
	}
	return m.Saw(stop, seen)
}

// ward is what a ward of a stop says; soon tells that it has not taken in yet what it was told.
func (l *laneLoop) ward(ctx context.Context, s *sight, stop lane.Stop, name string, content lane.Content) (out lane.Ward, soon bool) {
	out = lane.Ward{ID: name}
	p, err := l.k.one(name)
	if err != nil {
		out.Says = err.Error()
		return out, false
	}
	out.ID = p.ID
	if p.Broken != "" {
		out.Says = p.Broken
		return out, false
	}
	source, err := l.k.source(s.Repo)
	if err != nil {
		out.Says = err.Error()
		return out, false
	}
	told := source.Told(p, s.Ref)
	v := p.View()
	switch {
	case !reads(p, s, stop):
		out.Says = fmt.Sprintf("it reads nothing of what is carried here, from %s at %s", s.Repo, s.Ref)
		return out, false
	case told == "":
		out.Says = "has not been told of " + s.Repo + " yet"
		return out, true
	}
	had := content
	if told != s.head.ID {
		if had, err = l.contentOf(s, told, stop.Name); err != nil || had.ID() != content.ID() {
			out.Says = "has not been told yet"
			return out, true
		}
	}
	if !(loop.Marks{}).Heard(p.Hears()) {
		out.Says = "is being rendered"
		return out, true
	}
	if v.Standing == compare.InStep && v.Run == nil { // a view that is a moment old may be of the commit before
		if v, err = p.fresh(ctx); err != nil {
			out.Says = err.Error()
			return out, true
		}
	}
	out.Says, out.Failed = v.Says, v.Rejected
	if out.Holds = v.Standing == compare.InStep && v.Run == nil; out.Holds {
		out.Ready = readySince(v)
	}
	return out, false
}

// contentOf is content at another commit, which is remembered by nobody.
func (l *laneLoop) contentOf(s *sight, commit, stop string) (lane.Content, error) {
	kept, had := l.read[stop]
	out, err := l.content(s.mirror.At(commit), &s.Lane.Lane, stop)
	if had {
		l.read[stop] = kept
	}
	return out, err
}

// reads tells whether a ward reads anything that is carried to a stop.
func reads(p *placement, s *sight, stop lane.Stop) bool {
	for _, i := range p.Interests(s.Repo) {
		for _, path := range i.Paths {
			for _, c := range s.Carries {
				at := lane.At(c.Path(), stop.Name)
				if i.Ref == s.Ref && (path == "" || path == at || strings.HasPrefix(at, path+"/") || strings.HasPrefix(path, at+"/")) {
					return true
				}
			}
		}
	}
	return false
}

// readySince is since when a ward is in step and ready; zero when it is not.
func readySince(v *standing.View) (since time.Time) {
	if v.Standing != compare.InStep || v.Health.Word != health.Ready {
		return since
	}
	for _, x := range slices.Backward(v.Standings) {
		if x.Standing != string(compare.InStep) || x.Health != string(health.Ready) {
			break
		}
		since = x.From
	}
	if since.IsZero() {
		since = v.Since
	}
	return since
}

// offers tells what is offered to each stop.
func (l *laneLoop) offers(ctx context.Context, s *sight) {
	s.Memory = l.memory
	s.past = s.Memory.Past()
	for i := range s.Places {
		at := &s.Places[i]
		s.states[at.Name] = at.Has
	}
	for i := range s.Places { // what people have said no to
		at := &s.Places[i]
		if at.Together != "" || len(at.After) == 0 || s.By(s.Group(at.Stop)) != lane.ByProposal {
			continue
		}
		if o := s.Offers(at.Stop, s.Looked, s.Memory.Lots, s.states, s.past); o.Lot == 0 {
			continue
		}
		if refused, err := l.refused(ctx, s, at.Stop); err == nil {
			st := s.states[at.Name]
			st.Refused = refused
			s.states[at.Name] = st
		}
	}
	for i := range s.Places {
		at := &s.Places[i]
		at.Offer = s.Offers(at.Stop, s.Looked, s.Memory.Lots, s.states, s.past)
		if at.Offer.Lot > 0 {
			at.Along = s.Memory.Lots.Along(at.Offer.Lot, at.Has.Content, at.Has.Took)
			s.soon(at.Offer.Next)
		}
	}
}

// refused lists the lots whose proposals people have withdrawn.
func (l *laneLoop) refused(ctx context.Context, s *sight, stop lane.Stop) (map[int]string, error) {
	said, err := l.k.withdrawn(ctx, s.Repo, proposal.Origin{Kind: proposal.Lane, Of: s.Name + " " + stop.Name})
	out := map[int]string{}
	for want, why := range said {
		var n int
		if _, err := fmt.Sscanf(want, "lot %d", &n); err == nil {
			out[n] = why
		}
	}
	return out, err
}

// show lets everybody see how the lane stands.
func (l *laneLoop) show(s *sight) {
	s.Said, s.Loud = "", false
	first := func(said string, loud bool) {
		if s.Said == "" || loud && !s.Loud {
			s.Said, s.Loud = said, loud
		}
	}
	if s.Problem != "" {
		first(s.Problem, true)
	}
	for i := range s.Places {
		at := &s.Places[i]
		if at.Said, at.Loud = s.Says(at.Stop, at.Has, at.Arrival, at.Offer); at.Problem != "" {
			at.Said, at.Loud = at.Problem, true
		}
		if at.Problem != "" {
			first("at "+at.Name+": "+at.Problem, true)
		} else if said, loud := s.Lane.Tells(at.Stop, at.Has, at.Arrival, at.Offer); said != "" {
			first(said, loud)
		}
	}
	if s.Said == "" {
		s.Said = "all that has begun has arrived"
	}
	l.mu.Lock()
	was := l.view
	v := s.Lane
	l.view = &v
	l.mu.Unlock()
	if was == nil || !sameLane(was, &v) {
		if was == nil || was.Said != v.Said {
			l.k.log.Info("a lane", "lane", v.Name, "says", v.Said)
		}
		l.k.broker.send(Note{"lane", v.Name})
	}
}

func sameLane(a, b *Lane) bool {
	x, y := *a, *b
	x.Looked, y.Looked = time.Time{}, time.Time{}
	return reflect.DeepEqual(x, y)
}

// now is the lane as it was last seen.
func (l *laneLoop) now() Lane {
	of := l.roster.record().Name
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.view != nil {
		return *l.view
	}
	return Lane{Lane: l.lane, Roster: of, Said: "has not been looked at yet"}
}

// Lanes lists the lanes by name.
func (k *Keeper) Lanes() []Lane {
	var out []Lane
	for _, l := range k.lanes.all() {
		out = append(out, l.now())
	}
	slices.SortFunc(out, func(a, b Lane) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Lane is a lane by its name.
func (k *Keeper) Lane(name string) (Lane, error) {
	l, err := k.laneNamed(name)
	if err != nil {
		return Lane{}, err
	}
	return l.now(), nil
}

func (k *Keeper) laneNamed(name string) (*laneLoop, error) {
	if l := k.lanes.of(name); l != nil {
		return l, nil
	}
	var known []string
	for _, x := range k.Lanes() {
		known = append(known, x.Name)
	}
	return nil, unknown("lane", name, known, "declare it in a roster: vigila schema lane")
}
