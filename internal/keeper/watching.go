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

// clusterKnown tells whether everything this ward keeps has been looked at and is being watched.
func (p *placement) clusterKnown() cluster.State {
	if p.cluster.conn == nil {
		return cluster.State{Problem: p.cluster.err.Error()}
	}
	kinds := make([][2]string, 0, len(p.kept))
	for k := range p.kept {
		kinds = append(kinds, k)
	}
	s := p.cluster.conn.Known(kinds)
	if len(kinds) > 0 && !p.cluster.conn.ScalersKnown() {
		s.Known = false // an autoscaler not yet seen would make its work look like drift
	}
	if len(p.unseen) > 0 {
		s.Known = false
	}
	return s
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
	p.touch(b.Ref)
}

// drop forgets a baseline.
func (p *placement) drop(ref object.Ref) {
	if b, had := p.baselines[ref]; had {
		p.uncount(b)
	}
	delete(p.baselines, ref)
	p.behind = nil
	p.touch(ref)
}

func (p *placement) uncount(b compare.Baseline) {
	k := [2]string{b.Version, b.Ref.Kind}
	if p.kept[k]--; p.kept[k] <= 0 {
		delete(p.kept, k)
	}
}

// touch must be called whenever a baseline or what is known of a live object has changed: it notes whether there is
// anything to say of the object, so that a look at the ward costs as much as there is to say, whatever its size.
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
			(*in)[ref] = true
		case !(*in)[ref]:
		case len(*in) == 1:
			*in = map[object.Ref]bool{} // a map never shrinks, and at the start these are as large as the ward
		default:
			delete(*in, ref)
		}
	}
	note(&p.unseen, kept && b.Intent == 0 && !seen)
	note(&p.odd, kept && (!seen || !l.present || l.health.Word != health.Ready || l.trouble != none || b.UID == ""))
}

// watchChanged runs when a watch came up or broke. Objects that a fresh list did not hold are looked for by name.
func (p *placement) watchChanged() {
	if p.cluster.conn == nil {
		return
	}
	p.behind = nil // an autoscaler may have come or gone
	for ref := range p.unseen {
		b := p.baselines[ref]
		if p.lives[ref] == nil && p.cluster.conn.Known([][2]string{{b.Version, b.Ref.Kind}}).Known {
			p.verify(ref)
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

// live is what is known of an object, to be changed; touch must be called after.
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
	return l.present && l.watched && !l.unmarked && !l.below && l.trouble == none && l.health == health.Result{Word: health.Ready}
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

// sawLive takes the newest state of an object in.
func (p *placement) sawLive(ref object.Ref, body map[string]any) {
	if !p.tracked(ref) && !p.landed(ref, body) {
		if other := p.cluster.marked(body); other != nil && other != p {
			other.saw(ref, body)
		}
		return
	}
	rv := compare.ResourceVersion(body)
	if l := p.known(ref); l != nil && l.present && (rv < l.revision || rv == l.revision && l.watched) {
		return // an older state, or the one that is known: an apply brings it twice, as its answer and by the watch
	}
	l := p.live(ref)
	defer p.touch(ref)
	if l.uid = object.UID(body); l.uid == p.baselines[ref].UID {
		l.uid = p.baselines[ref].UID // the same text, once in memory
	}
	l.present, l.watched, l.revision = true, true, rv
	l.unmarked = object.Label(body, object.WardLabel) == ""
	if _, task := p.tasks[ref]; task {
		p.sawTask(ref, body)
		return
	}
	l.health = p.rules.Of(ref.Group, ref.Kind, body)
	if l.health.Word == health.Ready {
		if l.causeKnown = false; l.cause != nil {
			l.cause = nil
		}
	} else {
		p.lookBelow(ref, 300*time.Millisecond)
	}
	b, kept := p.baselines[ref]
	applied := b.Intent == 0 || p.run != nil && p.run.appliedAt[ref] > 0
	if kept && applied && rv >= b.Revision {
		p.weigh(b, l, body)
	} else if kept && p.ofRun(ref) {
		p.run.early[ref] = body
	}
	if kept && l.unmarked {
		p.lookAgain(ref)
	}
	p.feedHealth(ref)
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
		time.AfterFunc(2*time.Second, func() { p.post(func() { p.verify(b.Ref) }) })
		return
	}
	b.Detail = detail
	b = b.Without(p.ward.Left(b.Ref)) // the ward file may leave more to others than it did then
	drift := compare.Drift(b, body, mask)
	t := l.upset()
	if len(drift) > 0 && len(t.drift) == 0 {
		t.since = time.Now()
	}
	for i := range drift {
		if t.foreign != "" {
			drift[i].Who = anotherService(t.foreign)
		}
	}
	t.imprint, t.drift, t.added = now, drift, nil
	if p.ward.Keep.Additions != "ignore" {
		t.added = compare.Additions(b, body, left, mask)
	}
}

// anotherService is how a second Vigila on the same cluster is told of.
func anotherService(id string) string { return "another Vigila (" + id + ")" }

// weighEarly holds a state that was seen before its baseline was known against it, unless a newer one was seen since.
func (p *placement) weighEarly(b compare.Baseline, body map[string]any) {
	l := p.live(b.Ref)
	defer p.touch(b.Ref)
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
			p.post(func() { p.sawLive(b.Ref, body) })
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

// verify looks for an object by name: it left the watch, or was never in it.
func (p *placement) verify(ref object.Ref) {
	b, ok := p.baselines[ref]
	if !ok {
		delete(p.lives, ref)
		return
	}
	asked := int64(0)
	if l := p.known(ref); l != nil {
		asked = l.revision
	}
	p.k.spawn(func() {
		body, err := p.cluster.conn.Get(p.ctx, b.Version, ref)
		p.post(func() {
			if l := p.known(ref); l != nil && l.revision > asked {
				return // something newer was seen meanwhile
			}
			switch {
			case err == nil:
				p.live(ref).verified = true
				p.touch(ref)
				p.sawLive(ref, body)
			case errors.Is(err, cluster.ErrGone):
				p.gone(ref)
			default:
				time.AfterFunc(2*time.Second, func() { p.post(func() { p.verify(ref) }) })
			}
		})
	})
}

func (p *placement) gone(ref object.Ref) {
	l := p.live(ref)
	defer p.touch(ref)
	since := l.since
	if l.present || since.IsZero() {
		since = time.Now()
	}
	l.trouble = &trouble{since: since}
	l.present, l.verified, l.unmarked = false, true, false
	l.health = health.Result{Word: health.Absent, Reason: "it is not in the cluster"}
	if p.run != nil && p.run.appliedAt[ref] > 0 {
		p.feed(run.Seen{At: time.Now(), Ref: ref, Health: l.health})
	}
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
			defer p.touch(ref)
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
