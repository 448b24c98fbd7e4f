// Package loop is what one ward in one cluster does because of what happens to it. Step takes an event in and calls nothing; Settle
// looks at where the ward stands then; Ready gives back what is to be done: writes, which come first, then calls, looks, watches and
// words. Events and effects are plain values. What it reads of others (who keeps an object, what the record holds, what is known of the
// cluster) it reads through the interfaces of Deps, then and there. The flow follows go.etcd.io/raft's Ready. Start with Placement.
package loop

import (
	"errors"
	"log/slog"
	"sync/atomic"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

// Placement is one ward in one cluster. It is touched by one goroutine alone, but for what it shows.
type Placement struct {
	Identity
	Deps
	shown
	*inner // nil once it rests
}

// inner is what it knows by itself.
type inner struct {
	reading
	writing
	work
	told
	index *index.Index // the objects that it keeps
	will  run.Will     // what it holds as a whole, and what was decided
	line  standing.Line
	kinds map[object.Kind]bool // what is watched for it
}

// Identity is what makes a ward this one; another file makes another.
type Identity struct {
	ID, Cluster string
	Ward        *ward.Ward // nobody changes it
	File        string
	Roster      string    // that declares it; "" when a person registered it
	Source      string    // the file in the roster's repository
	Made        time.Time // when the ward came into this cluster
	Broken      string    // why what the record holds of it can't be used; nothing runs then
}

// Deps are what a placement reads of the world.
type Deps struct {
	Reach  Reach
	Others Others
	Stores Stores
	Book   Book
	Log    *slog.Logger
	*Common
}

// Common is the same for all placements.
type Common struct {
	Service string // the id of this service
	Mask    compare.Mask
	Clock   func() time.Time // for how long drawing takes; nothing is decided by it
	Runs    func() int64     // how many go on, each ward's own among them
}

// Reach is what is known of the cluster from its watches.
type Reach interface {
	Down() error // why there is no connection to it; nil when there is one
	Known([]object.Kind) Sight
	ScalersKnown() bool
	Scaler(object.Ref) string // the autoscaler of a workload; "" when there is none
	Lacking(object.Kind) bool // the cluster has no such kind
	Rewound() bool            // its data were put back to what they once were
}

// Sight tells whether some kinds are watched and known.
type Sight struct {
	Known   bool
	Reading bool // some are being read for the first time, and nothing is wrong with any
	At      time.Time
	Problem string
}

// Others are the wards beside this one.
type Others interface {
	Keeper(object.Ref) (id string, declares bool) // the other ward that keeps an object; "" when none does
	Claim(object.Ref)
	ClaimFor(object.Ref) (ward string) // claims an object unless another has it: that one's name
	Drop(object.Ref)
	Heir(object.Ref) string              // the ward that an object is handed over to instead of being removed
	KeptElsewhere(object.Ref) bool       // the same ward keeps it in another cluster
	Unread(m Marks, leaving bool) string // who has not taken in yet what had been read when it was first asked
	Neighbour(id string) *standing.View  // nil when there is none
	Twins() map[string]*standing.View    // the same ward in other clusters, by cluster; nil where that is not known yet
}

// Stores are where secret values live, as far as the ward may use them: what is known of a place, never a value.
type Stores interface {
	Known(secret.Place) secret.Known
}

// ErrEnding is a Book's answer once the ward is being closed.
var ErrEnding = errors.New("the ward is being closed")

// Book is what the record holds of the ward.
type Book interface {
	Detail(object.Ref) (*compare.Detail, error)
	Found() (map[object.Ref]*fieldpath.Set, error)
	Removed(uid string) (bool, error)
	Entry(number int) (logbook.Entry, error)
	Entries() ([]logbook.Entry, error)
	Snapshot(id string, only ...object.Ref) ([]declared.Whole, error)
	SnapshotHashes(id string) (map[object.Ref]string, error)
}

// Past is what the record held when the service started.
type Past struct {
	record.Placement
	Baselines  map[object.Ref]compare.Baseline
	Doing      map[object.Ref]bool   // what a run was about to apply
	Handed     map[object.Ref]string // what was handed over and perhaps never taken, to its version
	Number     int                   // of the newest entry
	Rejections map[string]logbook.Rejection
	Tasks      map[object.Ref]record.TaskObject
	Rules      health.Rules
	Restores   []logbook.Restored
	Stretches  []logbook.Stretch
	Entries    []logbook.Entry // of the span that is drawn, oldest first
	Newest     []logbook.Entry // a few, newest first
	Stored     *declared.Declaration
	Canary     *canary.State // that went on when the service ended
}

// shown is what others may read at any time.
type shown struct {
	view   atomic.Pointer[standing.View]
	says   atomic.Pointer[declared.Declaration] // what it declares
	ending atomic.Pointer[logbook.Entry]        // the run that ended last, until the record has its end
	hears  Hearing                              // looks at its repository that it was told of, and has taken in
}

// View is the ward as it stands now. It may be read by anybody.
func (p *Placement) View() *standing.View { return p.view.Load() }

// Show lets others read what was told of a ward that is kept elsewhere; nil is what is known already.
func (p *Placement) Show(v *standing.View, d *declared.Declaration) {
	if v != nil {
		p.view.Store(v)
	}
	if d != nil {
		p.says.Store(d)
	}
}

// Says is what it declares; nil when that is not known. It may be read by anybody.
func (p *Placement) Says() *declared.Declaration { return p.says.Load() }

// Hears counts the looks at its repository. It may be used by anybody.
func (p *Placement) Hears() *Hearing { return &p.hears }

// Newest is an entry as it stands now: the record has a run that goes on as it began, and its end a moment after it is told. It may be
// asked by anybody.
func (p *Placement) Newest(e logbook.Entry) logbook.Entry {
	v := p.View() // before what is ending: a run is in the one, or in the other, or in the record
	if v.Run != nil && v.Run.Number == e.Number {
		return *v.Run
	}
	if x := p.ending.Load(); x != nil && x.Number == e.Number {
		return *x
	}
	return e
}

// reading is what is known of its repositories.
type reading struct {
	repository standing.AsOf // the repository, as this ward needs it: rendered too
	looks
	declared   *declared.Declaration
	stored     *declared.Declaration // what was declared before the service started; used if the tree is still the same
	misfiled   string                // what is wrong with the ward's file since it was last read well
	limited    string                // what its roster's limits say against its file
	idle       []string              // what of the ward's file and rules means nothing that is declared
	heldBack   string                // what they say against what it declares
	rendering  bool
	renderNext bool
	renderFrom time.Time // since when it is rendered
	taking     int64     // looks that it was told of, and that no rendering has taken in yet
	marks      Marks     // what others have to have taken in before anything is removed
	looking    []Ticket  // people who wait for the rendering that goes on
}

// looks are those at its repositories.
type looks struct {
	last map[string]standing.AsOf // of each, as far as it was looked at
	away string                   // the one that could not be reached, where that is what repository.Problem tells
}

// writing is what is on its way to the record.
type writing struct {
	at        time.Time // when the event that is taken in was
	outs      []Effect  // what the events of this turn want done, however the writes go
	now       batch     // what they have changed
	flying    *batch    // what is being written down
	unwritten string    // why it can't be
	number    int       // of the newest entry
	more      bool      // more events have come already
}

// work is what is to be done, and what goes on.
type work struct {
	run       *activeRun
	tasks     tasks
	late      map[object.Ref]bool   // what a run was about to apply when the service was killed: a call on its way may still land
	strays    map[object.Ref]*stray // objects that bear the ward's mark and that nobody keeps
	finishing bool                  // the end of its removal is on its way
	canary    *canary.State         // that went on when the service ended, and goes on once the cluster is known
	behind    *behind               // what the repository moved, as it was found out last
	around    uint64                // grows when others let go of an object, when the watches that tell of autoscalers change, and when stores tell something
	appliedIn string                // the snapshot that appliedOf is of
	appliedOf map[object.Ref]string // the objects of what was applied as a whole, to their hashes
}

// told is what people were told.
type told struct {
	noticed    map[object.Ref][]compare.Difference // drift that the logbook tells of
	toldBefore string                              // what it told of before the service was started anew
	notedAt    time.Time                           // when it was told something of drift last,
	notePause  time.Duration                       // and how long it is told nothing more then
	viewed     time.Time                           // when the view was made last
	viewCost   time.Duration                       // and how long that took
}

// New is a placement of which nothing is known yet.
func New(of Identity, deps Deps, now time.Time) *Placement {
	p := &Placement{Identity: of, Deps: deps, inner: &inner{kinds: map[object.Kind]bool{}, reading: reading{looks: looks{last: map[string]standing.AsOf{}}}, writing: writing{at: now},
		told: told{noticed: map[object.Ref][]compare.Difference{}}}}
	p.will.Rejections = map[string]logbook.Rejection{}
	p.index = index.New(p, index.Settings{Service: p.Service, Mask: p.Mask, Additions: p.Ward.Keep.Additions})
	return p
}

// Load takes in what the record holds.
func (p *Placement) Load(past Past) {
	p.Made, p.will.Applied, p.will.Snapshot, p.will.Done, p.will.Hold, p.will.Leaving = past.Made, past.Applied, past.Snapshot, past.Placement.Tasks, past.Hold, past.Leaving
	for _, b := range past.Baselines {
		p.index.Keep(b)
	}
	p.late, p.number, p.stored, p.index.Rules = past.Doing, past.Number, past.Stored, past.Rules
	p.canary = past.Canary
	for _, t := range past.Tasks {
		p.tasks.put(t)
	}
	if past.Rejections != nil {
		p.will.Rejections = past.Rejections
	}
	for ref, version := range past.Handed {
		p.noteStray(ref, version).handed = true
	}
	for _, r := range past.Restores {
		p.index.Contests.Restored(r.Ref, r.Path, r.Who, r.At)
	}
	p.line = standing.NewLine(past.Stretches, past.Entries)
	for i, e := range past.Newest {
		if run.Is(e.Kind) {
			p.will.Last = &past.Newest[i]
			break
		}
		if e.Kind == logbook.Drifts {
			p.toldBefore += e.Why + "\n"
		}
	}
}

// Open begins: what is known of its repositories by now, and what has to be watched. It is called once, before the first event.
func (p *Placement) Open(repository standing.AsOf, others map[string]standing.AsOf) {
	p.repository = repository
	p.repository.Known = false // read, perhaps, but not rendered by this ward yet
	if repository.Problem != "" {
		p.away = p.Ward.From.Repo
	}
	for name, a := range others {
		p.looks.last[name] = a
	}
	p.view.Store(p.build())
	for ref := range p.index.All() {
		p.Others.Claim(ref)
	}
	if p.Reach.Down() != nil {
		return
	}
	for _, k := range p.index.Kinds() {
		p.watchKind(k)
	}
	for _, t := range p.tasks.all {
		p.watchKind(t.Watch())
	}
}

// Rest lets go of all but what is shown: the ward is kept elsewhere, and what happens to it is told there. No event may come any more.
func (p *Placement) Rest() { p.inner = nil }

// Interrupted is the entry of the run that goes on, should the ward be closed now; ok is false when none does.
func (p *Placement) Interrupted(now time.Time) (e logbook.Entry, ok bool) {
	if p.inner == nil || p.run == nil {
		return e, false
	}
	e = p.run.entry
	e.Outcome, e.Reason, e.Ended = run.Interrupted, "the ward was changed or removed while it ran", now
	return e, true
}

// keptByAnother tells whether another ward keeps an object.
func (p *Placement) keptByAnother(ref object.Ref) bool {
	id, _ := p.Others.Keeper(ref)
	return id != ""
}

// Hearing counts the looks at a repository that somebody was told of, and those of them that were taken in.
type Hearing struct{ Told, Taken atomic.Int64 }

// Marks are what several had been told when somebody first asked.
type Marks map[*Hearing]int64

// Heard tells whether somebody has taken in all that had been told when it was first asked. What is read since then is not waited
// for: on a busy machine there is always something.
func (m Marks) Heard(h *Hearing) bool {
	mark, asked := m[h]
	if !asked {
		mark = h.Told.Load()
		m[h] = mark
	}
	return h.Taken.Load() >= mark
}

// unread names who has not taken in yet what was read of the ward's repository, and so may still come to declare what is
// to be removed; "" when everybody has. Who can't read it is not waited for, nor, by a ward that leaves its roster, the
// roster that lets it go.
func (p *Placement) unread() string {
	if p.marks == nil {
		p.marks = Marks{}
	}
	who := p.Others.Unread(p.marks, p.will.Leaving != nil)
	if who == "" {
		p.marks = nil // the next time is about what is read by then
	}
	return who
}

// resume takes up what a crash left: a failed run that was about to go back, goes back.
func (p *Placement) resume() {
	if p.will.TakesUp(p.Ward.Settle.Otherwise == ward.GoBack) {
		p.goBack(nil, "the service ended before it had gone back")
	}
}
