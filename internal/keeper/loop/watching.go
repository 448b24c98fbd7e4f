package loop

import (
	"errors"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/index"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/record"
)

func (p *Placement) watchKind(k object.Kind) {
	if !p.kinds[k] {
		p.kinds[k] = true
		p.out(Watch{k})
	}
}

// dropKinds lets go of the watches of kinds that the ward has nothing of any more: the definition of such a kind
// may be gone, and a watch of it broken for ever.
func (p *Placement) dropKinds() {
	needed := map[object.Kind]bool{}
	for _, t := range p.tasks.all {
		needed[t.Watch()] = true
	}
	if p.declared != nil {
		for _, k := range p.declared.Kinds {
			needed[k] = true
		}
	}
	for k := range p.kinds {
		if !needed[k] && !p.index.KeepsKind(k) {
			delete(p.kinds, k)
			p.out(Unwatch{k})
		}
	}
}

// clusterKnown tells whether everything this ward keeps has been looked at and is being watched. A kind that is read for the
// first time since the ward has something of it makes nobody blind: what the ward keeps of it was seen when it was applied.
func (p *Placement) clusterKnown() Sight {
	if p.Broken != "" {
		return Sight{Problem: p.Broken}
	}
	if p.Reach.Down() != nil {
		return Sight{Problem: p.Reach.Down().Error()}
	}
	kinds := p.index.Kinds()
	s := p.Reach.Known(kinds)
	s.Known = s.Known || s.Reading
	if len(kinds) > 0 && !p.Reach.ScalersKnown() {
		s.Known = false // an autoscaler not yet seen would make its work look like drift
	}
	if p.index.Unseen() > 0 {
		s.Known = false
	}
	return s
}

// seek sees to it that something is on its way for everything that is not known: the watch of each kind, and looks by name. It
// tells when it wants to be asked again; zero when there is nothing to seek.
func (p *Placement) seek(now time.Time) (again time.Time) {
	if p.Reach.Down() != nil || p.Broken != "" {
		return time.Time{}
	}
	for _, k := range p.index.Kinds() {
		p.watchKind(k)
	}
	again = p.index.Seek(now, index.Seeking{
		Read:  func(k object.Kind) bool { return p.Reach.Known([]object.Kind{k}).Known },
		Waits: p.more,
		Pending: func(ref object.Ref, _ compare.Baseline) bool { // what is in doubt and declared is applied again
			return p.run != nil || !p.repository.Known || p.Declares(ref)
		},
	})
	due, next := p.index.Due(now)
	for _, l := range due {
		p.out(LookUp{l})
	}
	return sooner(again, next)
}

// sooner is the first of two times; a zero one is never.
func sooner(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// Declares tells whether somebody would put an object back: it is declared now, or is part of what was applied as a whole, which
// a ward that was rolled back keeps. While it is not known what is declared, everything is.
func (p *Placement) Declares(ref object.Ref) bool {
	if p.declared == nil || p.declared.Find(ref) != nil {
		return true
	}
	_, held := p.appliedWhole()[ref]
	return held
}

// Left lists the fields of an object that the ward file leaves to others.
func (p *Placement) Left(ref object.Ref) []object.Pointer { return p.Ward.Left(ref) }

// Scaler names the autoscaler of a workload, live or declared by this ward; empty when there is none.
func (p *Placement) Scaler(ref object.Ref) string {
	if p.Reach.Down() == nil {
		if name := p.Reach.Scaler(ref); name != "" {
			return name
		}
	}
	if p.declared == nil {
		return ""
	}
	return p.declared.Scaled[ref]
}

// Version is the apiVersion in which the ward deals with an object; "" when it does not.
func (p *Placement) Version(ref object.Ref) string {
	if b, kept := p.index.Baseline(ref); kept {
		return b.Version
	}
	if t, task := p.tasks.all[ref]; task {
		return t.Version
	}
	if d := p.declared.Find(ref); d != nil {
		return d.Version
	}
	return ""
}

// Working tells whether the run that goes on works on an object.
func (p *Placement) Working(ref object.Ref) bool {
	x := p.piece(ref)
	return x != nil && x.works
}

// piece is an object of the run that goes on; nil when there is no run, or it is none of it.
func (p *Placement) piece(ref object.Ref) *piece {
	if p.run == nil {
		return nil
	}
	return p.run.pieces[ref]
}

// Moving is the apiVersion in which that run applies it.
func (p *Placement) Moving(ref object.Ref) string {
	if !p.Working(ref) {
		return ""
	}
	return p.run.of(ref).object.Object.Version
}

// Applied is the resourceVersion of the answer to its apply; 0 when there is none.
func (p *Placement) Applied(ref object.Ref) int64 {
	if x := p.piece(ref); x != nil {
		return x.appliedAt
	}
	return 0
}

// appliedWhole are the objects of what was applied as a whole, to their hashes.
func (p *Placement) appliedWhole() map[object.Ref]string {
	if p.will.Snapshot == "" {
		return nil
	}
	if p.appliedIn != p.will.Snapshot {
		of, err := p.Book.SnapshotHashes(p.will.Snapshot)
		if err != nil {
			p.Log.Error("what was applied can't be read", "error", err)
			return nil
		}
		p.appliedIn, p.appliedOf = p.will.Snapshot, of
	}
	return p.appliedOf
}

// forgetGone forgets objects that nobody declares and that are gone: whoever deleted them did what was left to do.
func (p *Placement) forgetGone() {
	if p.run != nil || !p.declared.Known() || !p.repository.Known {
		return
	}
	doubted := 0
	for _, ref := range p.index.Gone() {
		b, _ := p.index.Baseline(ref)
		doubted = max(doubted, b.Intent)
		p.letGo(ref)
	}
	if doubted > 0 { // it is not there, and so in doubt no more
		p.write(record.SettleIntents{Number: doubted, Doubtful: p.doubtful()})
	}
}

// doubtful lists what may have been applied without an answer.
func (p *Placement) doubtful() (out []object.Ref) {
	for ref, b := range p.index.All() {
		if b.Intent != 0 {
			out = append(out, ref)
		}
	}
	return out
}

// letGo keeps an object no more; what is in the cluster stays as it is.
func (p *Placement) letGo(ref object.Ref) {
	p.drop(ref)
	delete(p.noticed, ref)
	p.index.Forget(ref)
}

// drop forgets a baseline, and lets others have the object once that is written down. uids are those of others that it had.
func (p *Placement) drop(ref object.Ref, uids ...string) {
	p.index.Drop(ref)
	p.write(record.RemoveBaseline{Ref: ref, UIDs: uids, At: p.at})
	p.after(letGo{ref})
}

// watchChanged runs when a watch came up or broke. Objects that a fresh list did not hold are looked for by name.
func (p *Placement) watchChanged() {
	if p.Reach.Down() != nil {
		return
	}
	p.around++
	p.index.SeekAtOnce()
	for _, k := range p.index.Kinds() { // without its kind no object of it is there
		if p.Reach.Lacking(k) {
			p.index.Lacking(p.at, k)
		}
	}
}

// tracked tells whether the ward has anything to do with an object.
func (p *Placement) tracked(ref object.Ref) bool {
	_, task := p.tasks.all[ref]
	return task || p.index.Keeps(ref) || p.declared.Find(ref) != nil
}

// sawLive takes a state of an object in.
func (p *Placement) sawLive(ref object.Ref, body map[string]any, how index.How) {
	if !p.tracked(ref) && !p.landed(ref, body, how) {
		p.out(PassOn{ref, body})
		return
	}
	if _, task := p.tasks.all[ref]; task {
		if v, _ := body["apiVersion"].(string); v == p.Version(ref) && !p.index.Stale(ref, compare.ResourceVersion(body), how) {
			p.sawTask(ref, body, p.index.Seen(ref, body, how))
		}
		return
	}
	if !p.index.Keeps(ref) {
		p.stray(ref, body) // it is declared; should it be so no more, nothing else tells of it
	}
	p.carry(p.index.Saw(p.at, ref, body, how))
}

// carry does what the index wants done.
func (p *Placement) carry(effects []index.Effect) {
	for _, e := range effects {
		switch e := e.(type) {
		case index.LookBelow:
			p.out(LookBelow{e})
		case index.LookAtClaim:
			p.lookAtClaim(e)
		case index.News:
			p.feedHealth(e.Ref)
		case index.Early:
			if x := p.piece(e.Ref); x != nil {
				x.early = e.Body
			}
		case index.Rewound:
			p.out(PutBack{})
		case index.Undefined:
			p.out(Undefine{e.Group})
		case index.Unread:
			if !errors.Is(e.Err, ErrEnding) {
				p.Log.Error("a baseline can't be read", "object", e.Ref.String(), "error", e.Err)
			}
		}
	}
}

// lookAtClaim finds out whether a claim that is not bound waits for its first Pod, and not for a volume.
func (p *Placement) lookAtClaim(c index.LookAtClaim) {
	if p.Reach.Down() == nil {
		p.out(LookAtClaim{c})
	}
}

// landed takes up an object that nobody wants any more, and that would be left behind: one that a call made after the service
// that sent it was killed, or one that is there again because the cluster's data were put back: one that was removed by its
// uid, or, once that is seen to have happened, that this ward has applied. That is asked for by name first: a watch brings late what was before the removal.
func (p *Placement) landed(ref object.Ref, body map[string]any, how index.How) bool {
	if object.Label(body, object.WardLabel) != p.Ward.Name || object.Service(body) != p.Service {
		return false
	}
	if meta, _ := body["metadata"].(map[string]any); meta["deletionTimestamp"] != nil {
		return false // it is on its way out
	}
	if p.keptByAnother(ref) {
		return false // it was handed over since, and is that one's: who sees that its mark is an old one
	}
	if p.Others.Heir(ref) != "" { // it waits for the one that it was handed over to; should that never come, it is a stray
		p.remember(ref, p.stray(ref, body))
		return false
	}
	again, err := p.Book.Removed(object.UID(body))
	if err != nil {
		p.Log.Error("what was removed can't be read", "error", err)
	}
	version, _ := body["apiVersion"].(string)
	if s := p.stray(ref, body); s != nil && !again {
		if p.Reach.Rewound() {
			p.remember(ref, s)
		}
		again = p.declared != nil && (p.Reach.Rewound() || s.asked) && !p.Others.KeptElsewhere(ref)
	}
	if again && how != index.Named {
		p.lookFor(ref, version)
	}
	if !p.late[ref] && !(again && how == index.Named) {
		return false
	}
	b := compare.Baseline{Ref: ref, Version: version}
	p.write(record.PutBaselines{All: []compare.Baseline{b}})
	p.Log.Warn("an object is there again that nobody declares; it is kept until it is removed", "object", ref.String(), "restored", again)
	if again {
		p.out(PutBack{})
	}
	p.forgetStray(ref)
	p.index.Keep(b)
	p.Others.Claim(ref)
	return true
}

// stray is an object that bears the ward's mark, was applied by it, and that nobody keeps.
type stray struct {
	version string
	due     time.Time // when it is looked for by name
	asked   bool
	handed  bool      // the record knows of it
	fetched time.Time // since when another ward keeps it, and is not at work on it; zero when none does
}

// stray notes an object that bears the ward's mark, put on by this ward and not by one of its name that left it; nil when it does
// not.
func (p *Placement) stray(ref object.Ref, body map[string]any) *stray {
	at, marked := object.Marked(body, p.Ward.Name)
	if !marked || object.Service(body) != p.Service || at.Before(p.Made.Truncate(time.Second)) {
		return nil
	}
	version, _ := body["apiVersion"].(string)
	return p.noteStray(ref, version)
}

// remember writes a stray down: after a kill its kind may be watched by nobody, and nothing would bring it again.
func (p *Placement) remember(ref object.Ref, s *stray) {
	if s != nil && !s.handed {
		s.handed = true
		p.write(record.HandOver{Ref: ref, Version: s.version})
	}
}

func (p *Placement) noteStray(ref object.Ref, version string) *stray {
	s := p.strays[ref]
	if s == nil {
		if p.strays == nil {
			p.strays = map[object.Ref]*stray{}
		}
		s = &stray{due: p.at.Add(strayPause)}
		p.strays[ref] = s
	}
	s.version = version
	return s
}

func (p *Placement) forgetStray(ref object.Ref) {
	if s := p.strays[ref]; s != nil && s.handed {
		p.write(record.Fetched{Ref: ref})
	}
	delete(p.strays, ref)
}

// strayPause is how long it takes until a stray is looked for: what was just removed, or is being handed over, is one for a moment.
const strayPause = 30 * time.Second

// lookForStrays looks for strays by name: at once when the cluster's data are known to have been put back, else after a while. It
// tells when the next one is due.
func (p *Placement) lookForStrays(now time.Time) (next time.Time) {
	if p.declared == nil || p.Reach.Down() != nil {
		return time.Time{}
	}
	for ref, s := range p.strays {
		b, kept := p.index.Baseline(ref)
		another := p.keptByAnother(ref)
		if !another {
			s.fetched = time.Time{} // who was about to keep it does not
		}
		switch {
		case kept && b.UID == "": // a run is about to make it its own; should it not come to it, nobody keeps it
		case kept || p.tasks.all[ref].UID != "":
			p.forgetStray(ref)
		case another:
			if s.fetched.IsZero() || p.keeperWorks(ref) {
				s.fetched = now
			}
			if now.Sub(s.fetched) < strayPause { // a run that is about to make it its own may be stopped before
				next = sooner(next, s.fetched.Add(strayPause))
				continue
			}
			p.forgetStray(ref)
		case p.declared.Find(ref) != nil: // it is known to be there already, and adopted with the next sync
		case p.Others.Heir(ref) != "": // nobody tells when it is none any more
			next = sooner(next, now.Add(strayPause))
		case now.Before(s.due) && !(p.Reach.Rewound() && !s.asked):
			next = sooner(next, s.due)
		default:
			s.asked, s.due = true, now.Add(strayPause) // and again, should it not be answered
			p.remember(ref, s)
			next = sooner(next, s.due)
			p.lookFor(ref, s.version)
		}
	}
	return next
}

// keeperWorks tells whether the ward that keeps an object is in the middle of a run.
func (p *Placement) keeperWorks(ref object.Ref) bool {
	id, _ := p.Others.Keeper(ref)
	v := p.Others.Neighbour(id)
	return v != nil && v.Run != nil
}

// lookForLate looks once more for an object that was just removed: the apply of a killed service may have landed between
// the removal and its answer, when its event still seemed to be about what was being removed.
func (p *Placement) lookForLate(b compare.Baseline) {
	if p.late[b.Ref] {
		p.lookFor(b.Ref, b.Version)
	}
}

// lookFor asks for an object that the ward has nothing to do with, and takes in what comes.
func (p *Placement) lookFor(ref object.Ref, version string) { p.out(LookFor{ref, version}) }

// feedHealth tells a run that goes on how an object does, unless the news is older than its own apply.
func (p *Placement) feedHealth(ref object.Ref) {
	if p.run == nil {
		return
	}
	p.watchBeside(ref)
	if p.run == nil {
		return
	}
	l := p.index.Known(ref)
	if l == nil || l.Health.Final && health.HasBelow(ref) && !l.CauseKnown {
		return // why is told by what is below, and that is being looked at
	}
	if l.Revision >= p.Applied(ref) {
		p.feed(run.Seen{At: p.at, Ref: ref, Health: l.State()})
	}
}
