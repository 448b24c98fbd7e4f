package keeper

import (
	"errors"
	"slices"
	"time"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
)

func (p *placement) watchKind(version, kind string) {
	k := [2]string{version, kind}
	if !slices.Contains(p.kinds, k) {
		p.kinds = append(p.kinds, k)
		p.cluster.need(k, p.id)
	}
}

// dropKinds lets go of the watches of kinds that the ward has nothing of any more: the definition of such a kind
// may be gone, and a watch of it broken for ever.
func (p *placement) dropKinds() {
	needed := map[[2]string]bool{}
	for _, t := range p.tasks {
		needed[[2]string{t.Version, t.Ref.Kind}] = true
	}
	if p.declared != nil {
		for _, k := range p.declared.kinds {
			needed[k] = true
		}
	}
	p.kinds = slices.DeleteFunc(p.kinds, func(k [2]string) bool {
		if needed[k] || p.kept[k] > 0 {
			return false
		}
		p.cluster.release(k, p.id)
		return true
	})
}

// clusterKnown tells whether everything this ward keeps has been looked at and is being watched. A kind that is read for the
// first time since the ward has something of it makes nobody blind: what the ward keeps of it was seen when it was applied.
func (p *placement) clusterKnown() cluster.State {
	if p.broken != "" {
		return cluster.State{Problem: p.broken}
	}
	if p.cluster.conn == nil {
		return cluster.State{Problem: p.cluster.err.Error()}
	}
	p.settle()
	kinds := make([][2]string, 0, len(p.kept))
	for k := range p.kept {
		kinds = append(kinds, k)
	}
	s := p.cluster.conn.Known(kinds)
	s.Known = s.Known || s.Reading
	if len(kinds) > 0 && !p.cluster.conn.ScalersKnown() {
		s.Known = false // an autoscaler not yet seen would make its work look like drift
	}
	if len(p.unseen) > 0 {
		s.Known = false
	}
	return s
}

// seek sees to it that something is on its way for everything that is not known: the watch of each kind, and for each
// object that no watch has brought a look by name once its kind was read. It follows from what is known, so nobody
// has to remember to ask. It tells when it wants to be asked again; zero when there is nothing to seek.
func (p *placement) seek() time.Duration {
	if p.cluster.conn == nil || p.broken != "" {
		return 0
	}
	p.settle()
	for k := range p.kept {
		p.watchKind(k[0], k[1])
	}
	if len(p.unseen)+len(p.doubts) == 0 {
		return 0
	}
	const pause = 200 * time.Millisecond
	if wait := time.Until(p.sought.Add(pause)); wait > 0 && wait <= pause {
		return wait
	}
	p.sought = time.Now()
	if p.depth() > 0 { // what waits to be taken in may be just that
		return pause
	}
	read := map[[2]string]bool{}
	for _, these := range []map[object.Ref]bool{p.unseen, p.doubts} {
		for ref := range these {
			b, l := p.baselines[ref], p.known(ref)
			if p.looks[ref] != nil || p.ofRun(ref) || b.Intent != 0 && (p.run != nil || !p.repository.Known || p.declares(ref) || l != nil && l.verified) {
				continue // what is in doubt and declared is pending, and applied again
			}
			kind := [2]string{b.Version, ref.Kind}
			if _, asked := read[kind]; !asked {
				read[kind] = p.cluster.conn.Known([][2]string{kind}).Known
			}
			if read[kind] {
				p.verify(ref)
			}
		}
	}
	return pause
}

// declares tells whether an object is declared now, or is part of what was applied as a whole: a ward that was rolled
// back keeps that.
func (p *placement) declares(ref object.Ref) bool {
	if p.declared.find(ref) != nil {
		return true
	}
	_, held := p.appliedWhole()[ref]
	return held
}

// appliedWhole are the objects of what was applied as a whole, to their hashes.
func (p *placement) appliedWhole() map[object.Ref]string {
	if p.snapshot == "" {
		return nil
	}
	if p.appliedIn != p.snapshot {
		of, err := p.k.store.SnapshotHashes(p.ctx, p.snapshot)
		if err != nil {
			p.log.Error("what was applied can't be read", "error", err)
			return nil
		}
		p.appliedIn, p.appliedOf = p.snapshot, of
	}
	return p.appliedOf
}

// forgetGone forgets objects that nobody declares and that are gone: whoever deleted them did what was left to do.
func (p *placement) forgetGone() {
	if p.run != nil || p.declared == nil || p.declared.waits != "" || !p.repository.Known {
		return
	}
	p.settle()
	var gone []object.Ref
	for ref := range p.odd {
		if l := p.known(ref); l != nil && !l.present && l.verified && !p.declares(ref) {
			gone = append(gone, ref)
		}
	}
	for _, ref := range gone {
		if err := p.letGo(ref); err != nil {
			p.log.Error("an object that is gone can't be forgotten", "object", ref.String(), "error", err)
		}
	}
}

// letGo keeps an object no more; what is in the cluster stays as it is.
func (p *placement) letGo(ref object.Ref) error {
	if err := p.k.store.RemoveBaseline(p.ctx, p.id, ref); err != nil {
		return err
	}
	delete(p.lives, ref)
	delete(p.noticed, ref)
	p.drop(ref)
	p.cluster.drop(ref)
	return nil
}

// keep takes a baseline in, without its detail.
func (p *placement) keep(b compare.Baseline) {
	old, had := p.baselines[b.Ref]
	if had {
		p.uncount(old)
		if b.Seen == 0 && b.UID == old.UID {
			b.Seen = old.Seen
		}
	}
	p.kept[[2]string{b.Version, b.Ref.Kind}]++
	p.baselines[b.Ref] = b.Light()
	p.behind = nil
	p.mark(b.Ref)
}

// drop forgets a baseline.
func (p *placement) drop(ref object.Ref) {
	if b, had := p.baselines[ref]; had {
		p.uncount(b)
	}
	delete(p.baselines, ref)
	p.behind = nil
	p.mark(ref)
}

func (p *placement) uncount(b compare.Baseline) {
	k := [2]string{b.Version, b.Ref.Kind}
	if p.kept[k]--; p.kept[k] <= 0 {
		delete(p.kept, k)
	}
}

// mark notes that something of an object has changed; settle looks at it before anybody asks.
func (p *placement) mark(ref object.Ref) {
	if p.dirty == nil {
		p.dirty = map[object.Ref]bool{}
	}
	p.dirty[ref] = true
}

// settle makes odd, unseen and doubts what they should be: whether there is anything to say of each object, so that a look
// at the ward costs as much as there is to say, whatever its size.
func (p *placement) settle() {
	if len(p.dirty) == 0 {
		return
	}
	dirty := p.dirty
	if len(dirty) > 64 {
		p.dirty = nil // a map never shrinks
	}
	for ref := range dirty {
		delete(dirty, ref)
		p.touch(ref)
	}
}

func (p *placement) touch(ref object.Ref) {
	b, kept := p.baselines[ref]
	l := p.lives[ref]
	if l != nil && kept && b.Intent == 0 && l.plain() && l.uid == b.UID { // thousands are: the baseline says it all
		b.Seen = l.revision
		p.baselines[ref] = b
		delete(p.lives, ref)
	}
	l = p.known(ref)
	seen := l != nil && (l.watched || l.verified)
	note := func(in *map[object.Ref]bool, yes bool) {
		switch {
		case yes:
			if *in == nil {
				*in = map[object.Ref]bool{}
			}
			(*in)[ref] = true
		case !(*in)[ref]:
		case len(*in) == 1:
			*in = map[object.Ref]bool{} // a map never shrinks, and at the start these are as large as the ward
		default:
			delete(*in, ref)
		}
	}
	note(&p.doubts, kept && b.Intent != 0)
	note(&p.unseen, kept && b.Intent == 0 && !seen)
	note(&p.odd, kept && (!seen || !l.present || l.health.Word != health.Ready || l.trouble != none || b.UID == ""))
}

// watchChanged runs when a watch came up or broke. Objects that a fresh list did not hold are looked for by name.
func (p *placement) watchChanged() {
	if p.cluster.conn == nil {
		return
	}
	p.behind, p.sought = nil, time.Time{} // an autoscaler may have come or gone; what a fresh list did not hold is looked for
	for k := range p.kept {               // without its kind no object of it is there
		if p.cluster.conn.Lacking(k[0], k[1]) {
			for ref, b := range p.baselines {
				if l := p.known(ref); b.Version == k[0] && ref.Kind == k[1] && l != nil && l.present {
					p.verify(ref)
				}
			}
		}
	}
}

// listed looks for the objects that were here and are not in a fresh list of their kind.
func (p *placement) listed(group, kind string, all map[object.Ref]bool) {
	for ref := range p.baselines {
		if ref.Group != group || ref.Kind != kind || all[ref] {
			continue
		}
		if l := p.known(ref); l != nil && l.present && !l.unmarked {
			p.verify(ref)
		}
	}
}

// live is what is known of an object, to be changed.
func (p *placement) live(ref object.Ref) *liveObject {
	l := p.known(ref)
	if l == nil {
		l = &liveObject{health: health.Result{Word: health.Unknown}, trouble: none}
	}
	if b, kept := p.baselines[ref]; kept {
		ref = b.Ref // the same texts, once in memory
		if b.Seen != 0 {
			b.Seen = 0
			p.baselines[ref] = b
		}
	}
	p.lives[ref] = l
	p.mark(ref)
	return l
}

// known is what is known of an object; nil when nothing is.
func (p *placement) known(ref object.Ref) *liveObject {
	if l := p.lives[ref]; l != nil {
		return l
	}
	if b := p.baselines[ref]; b.Seen != 0 {
		return &liveObject{present: true, watched: true, revision: b.Seen, uid: b.UID, health: health.Result{Word: health.Ready}, trouble: none}
	}
	return nil
}

// plain tells that there is nothing more to say of an object than which version of it was seen.
func (l *liveObject) plain() bool {
	return l.present && l.watched && !l.unmarked && !l.below && !l.brief && l.trouble == none && l.health == health.Result{Word: health.Ready}
}

// tracked tells whether the ward has anything to do with an object.
func (p *placement) tracked(ref object.Ref) bool {
	if _, ok := p.baselines[ref]; ok {
		return true
	}
	if _, ok := p.tasks[ref]; ok {
		return true
	}
	return p.declared.find(ref) != nil
}

// versionOf is the version in which the ward deals with an object; "" when it does not.
func (p *placement) versionOf(ref object.Ref) string {
	if b, kept := p.baselines[ref]; kept {
		return b.Version
	}
	if t, task := p.tasks[ref]; task {
		return t.Version
	}
	if d := p.declared.find(ref); d != nil {
		return d.version
	}
	return ""
}

// sawLive takes a state of an object in. proof tells that it was asked for by name, and so is the cluster's newest: older
// than what was known it is when the cluster was restored to an earlier state.
func (p *placement) sawLive(ref object.Ref, body map[string]any, proof bool) {
	if !p.tracked(ref) && !p.landed(ref, body) {
		if other := p.cluster.marked(body); other != nil && other != p {
			other.saw(ref, body, false)
		}
		return
	}
	if v, _ := body["apiVersion"].(string); v != p.versionOf(ref) {
		if proof { // the version that it was applied in is served no more
			p.sawOtherwise(ref, body)
		}
		return // the watch of its own version brings it as it is to be looked at
	}
	rv := compare.ResourceVersion(body)
	if l := p.known(ref); !proof && l != nil && l.present && (rv < l.revision || rv == l.revision && l.watched) {
		return // an older state, or the one that is known: an apply brings it twice, as its answer and by the watch
	}
	l := p.live(ref)
	if l.uid = object.UID(body); l.uid == p.baselines[ref].UID {
		l.uid = p.baselines[ref].UID // the same text, once in memory
	}
	l.present, l.watched, l.verified, l.revision = true, true, l.verified || proof, rv
	l.unmarked = object.Label(body, object.WardLabel) == ""
	if _, task := p.tasks[ref]; task {
		p.sawTask(ref, body)
		return
	}
	l.read(ref, body)
	l.health = p.rules.Of(ref.Group, ref.Kind, body)
	if l.health.Word == health.Ready {
		if l.causeKnown = false; l.cause != nil {
			l.cause = nil
		}
	} else {
		p.lookBelow(ref, 300*time.Millisecond)
		p.lookAtClaim(ref, body)
	}
	b, kept := p.baselines[ref]
	applied := b.Intent == 0 || p.run != nil && p.run.appliedAt[ref] > 0
	if kept && applied && (rv >= b.Revision || proof && !p.ofRun(ref)) {
		p.weigh(b, l, body)
	} else if kept && p.ofRun(ref) {
		p.run.early[ref] = body
	}
	if kept && l.unmarked {
		p.lookAgain(ref)
	}
	p.feedHealth(ref)
}

// sawOtherwise takes in that an object is there in another version than the one it was applied in, which is served no more:
// its fields can't be compared before it is applied in the new one.
func (p *placement) sawOtherwise(ref object.Ref, body map[string]any) {
	l := p.live(ref)
	l.uid = object.UID(body)
	l.present, l.verified, l.revision, l.trouble = true, true, compare.ResourceVersion(body), none
	l.health = p.rules.Of(ref.Group, ref.Kind, body)
	p.feedHealth(ref)
}

// read notes what of a state counts when the object is gone, or is to be removed.
func (l *liveObject) read(ref object.Ref, body map[string]any) {
	l.unbound, l.later, l.ended = false, false, false
	spec, _ := body["spec"].(map[string]any)
	switch ref.Group + "/" + ref.Kind {
	case "batch/Job":
		l.brief, l.finished = spec["ttlSecondsAfterFinished"] != nil, health.Finished(body)
	case "/PersistentVolumeClaim":
		status, _ := body["status"].(map[string]any)
		volume, _ := spec["volumeName"].(string)
		l.unbound = volume == "" && (status["phase"] == nil || status["phase"] == "Pending")
	}
}

// lookAtClaim finds out whether a claim that is not bound waits for its first Pod, and not for a volume.
func (p *placement) lookAtClaim(ref object.Ref, body map[string]any) {
	l := p.lives[ref]
	if l == nil || !l.unbound || p.cluster.conn == nil {
		return
	}
	revision := l.revision
	p.k.spawn(func() {
		if later, err := p.cluster.conn.BoundLater(p.ctx, body); err == nil && later {
			p.post(func() {
				if now := p.known(ref); now != nil && now.present && now.revision == revision && p.baselines[ref].Ref == ref {
					p.live(ref).later = true
					p.feedHealth(ref)
				}
			})
		}
	})
}

// weigh holds a live object against its baseline. Nearly always their imprints are the same, and that is all.
func (p *placement) weigh(b compare.Baseline, l *liveObject, body map[string]any) {
	mask := compare.Mask(p.k.store.Vault().Digest)
	left := p.left(b.Ref)
	if l.trouble != none {
		l.foreign = ""
	}
	if id := object.Service(body); id != "" && id != p.k.store.ServiceID() {
		l.upset().foreign = id
	}
	now := mask.Imprint(b.Ref, body, left)
	if b.Same(now, l.uid) {
		if l.trouble != none && l.cause == nil {
			l.trouble = none
		} else if l.trouble != none {
			l.imprint, l.drift, l.added = now, nil, nil
		}
		return
	}
	if l.trouble != none && l.imprint == now && b.UID == l.uid {
		return // as it was when it was looked at before
	}
	detail, err := p.k.store.Detail(p.ctx, p.id, b.Ref)
	if err != nil {
		if p.ctx.Err() == nil {
			p.log.Error("a baseline can't be read", "object", b.Ref.String(), "error", err)
		}
		l.watched, l.verified = false, false // what can't be compared is not known
		p.lookLater(b.Ref, &lookup{judge: true})
		return
	}
	b.Detail = detail
	b = b.Without(p.ward.Left(b.Ref)) // the ward file may leave more to others than it did then
	drift := compare.Drift(b, body, mask)
	if l.uid == b.UID && compare.ResourceVersion(body) < b.Revision {
		for i := range drift { // nobody changed it since: it is as it was before
			drift[i].Who, drift[i].Likely, drift[i].When = restoredCluster, false, time.Time{}
		}
	}
	t := l.upset()
	if len(drift) > 0 && len(t.drift) == 0 {
		t.since = time.Now()
	}
	for i := range drift {
		if t.foreign != "" {
			drift[i].Who = anotherService(t.foreign)
		}
	}
	t.imprint, t.drift, t.added, t.restart = now, drift, nil, object.RestartOf(body)
	if p.ward.Keep.Additions != "ignore" {
		t.added = compare.Additions(b, body, left, mask)
	}
}

// restoredCluster is who is said to have changed what was different before the cluster's data were put back.
const restoredCluster = "a restore of the cluster's data"

// anotherService is how a second Vigila on the same cluster is told of.
func anotherService(id string) string { return "another Vigila (" + id + ")" }

// weighEarly holds a state that was seen before its baseline was known against it, unless a newer one was seen since.
func (p *placement) weighEarly(b compare.Baseline, body map[string]any) {
	l := p.live(b.Ref)
	if rv := compare.ResourceVersion(body); !l.present || rv < l.revision || rv < b.Revision {
		return
	}
	p.weigh(b, l, body)
}

// landed takes up an object that a call made after the service that sent it was killed, and that nobody wants any more:
// else it would be left behind.
func (p *placement) landed(ref object.Ref, body map[string]any) bool {
	if !p.late[ref] || object.Label(body, object.WardLabel) != p.ward.Name || object.Service(body) != p.k.store.ServiceID() {
		return false
	}
	if meta, _ := body["metadata"].(map[string]any); meta["deletionTimestamp"] != nil {
		return false // it is on its way out
	}
	version, _ := body["apiVersion"].(string)
	b := compare.Baseline{Ref: ref, Version: version}
	if err := p.k.store.PutBaselines(p.ctx, p.id, []compare.Baseline{b}); err != nil {
		p.log.Error("an object that was made late can't be written down", "object", ref.String(), "error", err)
		return false
	}
	p.log.Warn("an apply of a killed service has landed late; the object is kept until it is removed", "object", ref.String())
	p.keep(b)
	p.cluster.claim(ref, p)
	return true
}

// lookForLate looks once more for an object that was just removed: the apply of a killed service may have landed between
// the removal and its answer, when its event still seemed to be about what was being removed.
func (p *placement) lookForLate(b compare.Baseline) {
	if !p.late[b.Ref] {
		return
	}
	p.k.spawn(func() {
		if body, err := p.cluster.conn.Get(p.ctx, b.Version, b.Ref); err == nil {
			p.post(func() { p.sawLive(b.Ref, body, true) })
		}
	})
}

// left lists the fields of an object that are left to others: as the ward says, and the replicas of what an
// autoscaler scales.
func (p *placement) left(ref object.Ref) []object.Pointer {
	out := p.ward.Left(ref)
	if p.scaler(ref) != "" {
		out = append(out[:len(out):len(out)], replicas)
	}
	return out
}

var replicas = func() object.Pointer {
	p, err := object.ParsePointer("/spec/replicas")
	if err != nil {
		panic(err)
	}
	return p
}()

// scaler names the autoscaler of a workload, live or declared by this ward; empty when there is none.
func (p *placement) scaler(ref object.Ref) string {
	if p.cluster.conn != nil {
		if name := p.cluster.conn.Scaler(ref); name != "" {
			return name
		}
	}
	return p.scaled[ref]
}

// drift is what others changed of an object, less what an autoscaler does.
func (p *placement) drift(ref object.Ref) []compare.Difference {
	l := p.lives[ref]
	if l == nil || len(l.drift) == 0 || p.scaler(ref) == "" {
		if l == nil {
			return nil
		}
		return l.drift
	}
	return slices.DeleteFunc(slices.Clone(l.drift), func(d compare.Difference) bool { return d.Path == "spec.replicas" })
}

// lookAgain looks at an object that no watch brings any more, since it has lost the ward's label, every now and
// then until it is marked again.
func (p *placement) lookAgain(ref object.Ref) {
	if p.recheck[ref] {
		return
	}
	p.recheck[ref] = true
	time.AfterFunc(15*time.Second, func() {
		p.post(func() {
			delete(p.recheck, ref)
			if l := p.lives[ref]; l != nil && l.unmarked && p.ctx.Err() == nil {
				p.verify(ref)
			}
		})
	})
}

// feedHealth tells a run that goes on how an object does, unless the news is older than its own apply.
func (p *placement) feedHealth(ref object.Ref) {
	if p.run == nil {
		return
	}
	l := p.known(ref)
	if l.health.Final && cluster.HasBelow(ref) && !l.causeKnown {
		return // why is told by what is below, and that is being looked at
	}
	if l.revision >= p.run.appliedAt[ref] {
		p.feed(run.Seen{At: time.Now(), Ref: ref, Health: l.state()})
	}
}

// lookup is a look at one object by name.
type lookup struct {
	asked int64 // the newest revision that was known then
	again bool  // it was asked for once more meanwhile
	judge bool  // the state is to be judged anew, though it may be the one that is known
}

// verify looks for an object by name: it left the watch, or was never in it. One look is on its way at a time for each
// object, and one that is not answered is made again until it is.
func (p *placement) verify(ref object.Ref) { p.lookUp(ref, false) }

// look reads an object by name and judges its state anew, though it may be known.
func (p *placement) look(ref object.Ref) { p.lookUp(ref, true) }

func (p *placement) lookUp(ref object.Ref, judge bool) {
	b, kept := p.baselines[ref]
	if !kept {
		delete(p.lives, ref)
		p.mark(ref)
		return
	}
	if l := p.looks[ref]; l != nil {
		l.again, l.judge = true, l.judge || judge
		return
	}
	l := &lookup{judge: judge}
	if now := p.known(ref); now != nil {
		l.asked = now.revision
	}
	if p.looks == nil {
		p.looks = map[object.Ref]*lookup{}
	}
	p.looks[ref] = l
	p.k.spawn(func() {
		body, err := p.cluster.conn.Get(p.ctx, b.Version, ref)
		p.post(func() { p.lookedUp(ref, l, body, err) })
	})
}

// lookLater makes a look in a moment; until then it counts as on its way.
func (p *placement) lookLater(ref object.Ref, l *lookup) {
	if p.looks == nil {
		p.looks = map[object.Ref]*lookup{}
	}
	p.looks[ref] = l
	time.AfterFunc(2*time.Second, func() {
		p.post(func() {
			delete(p.looks, ref)
			p.lookUp(ref, l.judge)
		})
	})
}

func (p *placement) lookedUp(ref object.Ref, l *lookup, body map[string]any, err error) {
	gone := errors.Is(err, cluster.ErrGone) || cluster.UnknownKind(err)
	if err != nil && !gone {
		if now := p.known(ref); now != nil && now.revision <= l.asked { // it was in doubt, and nobody has said anything since
			now = p.live(ref)
			now.watched, now.verified = false, false
		}
		p.lookLater(ref, l)
		return
	}
	delete(p.looks, ref)
	now := p.known(ref)
	newer := now != nil && now.revision > l.asked
	switch {
	case newer && !l.again && !l.judge: // something newer was seen meanwhile
	case newer || l.again:
		p.lookUp(ref, l.judge)
	case gone:
		p.gone(ref)
	case now != nil && now.present && now.watched && !l.judge && now.revision == compare.ResourceVersion(body) && now.uid == object.UID(body):
		p.live(ref).verified = true
	default:
		p.sawLive(ref, body, true)
	}
}

// gone takes in that an object is not there.
func (p *placement) gone(ref object.Ref) {
	b, kept := p.baselines[ref]
	if !kept {
		delete(p.lives, ref)
		p.mark(ref)
		return
	}
	l := p.live(ref)
	since := l.since
	if l.present || since.IsZero() {
		since = time.Now()
	}
	first := l.present || !l.verified
	known := l.present // what it was like when it was seen last
	l.trouble = &trouble{since: since}
	l.present, l.verified, l.unmarked, l.later, l.unbound = false, true, false, false, false
	l.health = health.Result{Word: health.Absent, Reason: "it is not in the cluster"}
	if first {
		l.ended = b.UID != "" && p.endsByItself(b, l, known)
	}
	if l.ended {
		l.health = health.Result{Word: health.Ready, Reason: "finished, and removed by its own rule"}
	}
	if p.run != nil && p.run.appliedAt[ref] > 0 {
		p.feed(run.Seen{At: time.Now(), Ref: ref, Health: l.health})
	}
}

// endsByItself tells whether an object that is not there has ended as it says itself: a Job that is removed some time after
// it has finished. What it was like is not known when nobody was looking; then that is what is most likely.
func (p *placement) endsByItself(b compare.Baseline, l *liveObject, known bool) bool {
	if b.Ref.Group != "batch" || b.Ref.Kind != "Job" {
		return false
	}
	if known {
		return l.brief && l.finished
	}
	d, err := p.k.store.Detail(p.ctx, p.id, b.Ref)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(d.Fields, func(f object.Field) bool { return f.Path == "spec.ttlSecondsAfterFinished" })
}

// lastSeen takes in the last state of an object that has left the watch.
func (p *placement) lastSeen(ref object.Ref, body map[string]any) {
	if l := p.known(ref); l != nil && l.present && l.uid == object.UID(body) && ref.Kind == "Job" {
		p.live(ref).read(ref, body)
	}
	p.verify(ref)
}

// lookBelow finds out why a workload is not ready, from the Pods below it, again and again until it is.
func (p *placement) lookBelow(ref object.Ref, after time.Duration) {
	l := p.lives[ref]
	if l == nil || l.below || !cluster.HasBelow(ref) {
		return
	}
	l.below = true
	uid := l.uid
	p.cluster.below.want(p.k.ctx, ref.Namespace, after, func(children cluster.Children, err error) {
		p.post(func() {
			l.below = false
			p.mark(ref)
			if l.health.Word == health.Ready || !l.present || p.lives[ref] != l {
				return
			}
			l.causeKnown = true
			if err == nil && l.uid == uid {
				var pods []map[string]any
				for _, o := range children.Below(uid) {
					if o.Ref.Kind == "Pod" {
						pods = append(pods, o.Body)
					}
				}
				if r, bad := health.Cause(pods); bad {
					l.upset().cause = &r
				} else if l.cause != nil {
					l.upset().cause = nil
				}
			}
			p.feedHealth(ref)
			p.lookBelow(ref, 2*time.Second)
		})
	})
}
