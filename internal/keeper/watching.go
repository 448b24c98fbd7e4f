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
	var keep [][2]string
	for _, b := range p.baselines {
		keep = append(keep, [2]string{b.Version, b.Ref.Kind})
	}
	for _, t := range p.tasks {
		keep = append(keep, [2]string{t.Version, t.Ref.Kind})
	}
	if p.declared != nil {
		for _, o := range p.declared.objects {
			keep = append(keep, [2]string{o.version, o.Ref.Kind})
		}
	}
	p.kinds = slices.DeleteFunc(p.kinds, func(k [2]string) bool {
		if slices.Contains(keep, k) {
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
	var kinds [][2]string
	for _, b := range p.baselines {
		if k := [2]string{b.Version, b.Ref.Kind}; !slices.Contains(kinds, k) {
			kinds = append(kinds, k)
		}
	}
	s := p.cluster.conn.Known(kinds)
	if len(kinds) > 0 && !p.cluster.conn.ScalersKnown() {
		s.Known = false // an autoscaler not yet seen would make its work look like drift
	}
	for ref, b := range p.baselines {
		if b.Intent != 0 {
			continue
		}
		if l := p.lives[ref]; l == nil || !l.watched && !l.verified {
			s.Known = false
		}
	}
	return s
}

// watchChanged runs when a watch came up or broke. Objects that a fresh list did not hold are looked for by name.
func (p *placement) watchChanged() {
	if p.cluster.conn == nil {
		return
	}
	for ref, b := range p.baselines {
		l := p.lives[ref]
		if l == nil && b.Intent == 0 && p.cluster.conn.Known([][2]string{{b.Version, b.Ref.Kind}}).Known {
			p.verify(ref)
		}
	}
}

func (p *placement) live(ref object.Ref) *liveObject {
	l := p.lives[ref]
	if l == nil {
		l = &liveObject{health: health.Result{Word: health.Unknown}}
		p.lives[ref] = l
	}
	return l
}

// tracked tells whether the ward has anything to do with an object.
func (p *placement) tracked(ref object.Ref) bool {
	if _, ok := p.baselines[ref]; ok {
		return true
	}
	if _, ok := p.tasks[ref]; ok {
		return true
	}
	if p.declared != nil {
		_, ok := p.declared.index[ref]
		return ok
	}
	return false
}

// sawLive takes the newest state of an object in.
func (p *placement) sawLive(ref object.Ref, body map[string]any) {
	if !p.tracked(ref) {
		return
	}
	l := p.live(ref)
	rv := compare.ResourceVersion(body)
	if rv < l.revision && l.present {
		return
	}
	l.uid = object.UID(body)
	l.present, l.watched, l.revision = true, true, rv
	l.unmarked = object.Label(body, object.WardLabel) == ""
	if _, task := p.tasks[ref]; task {
		p.sawTask(ref, body)
		return
	}
	l.health = p.rules.Of(ref.Group, ref.Kind, body)
	if l.health.Word == health.Ready {
		l.cause, l.causeKnown = nil, false
	} else {
		p.lookBelow(ref, 300*time.Millisecond)
	}
	b, kept := p.baselines[ref]
	applied := b.Intent == 0 || p.run != nil && p.run.appliedAt[ref] > 0
	if kept && applied && rv >= b.Revision {
		mask := p.k.store.Vault().Digest
		drift := compare.Drift(b, body, mask)
		if len(drift) > 0 && len(l.drift) == 0 {
			l.since = time.Now()
		}
		l.drift, l.added = drift, nil
		if p.ward.Keep.Additions != "ignore" {
			l.added = compare.Additions(b, body, p.left(ref), mask)
		}
	}
	if kept && l.unmarked {
		p.lookAgain(ref)
	}
	p.feedHealth(ref)
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
	l := p.lives[ref]
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
		if l := p.lives[ref]; l != nil {
			delete(p.lives, ref)
		}
		return
	}
	asked := int64(0)
	if l := p.lives[ref]; l != nil {
		asked = l.revision
	}
	p.k.spawn(func() {
		body, err := p.cluster.conn.Get(p.ctx, b.Version, ref)
		p.post(func() {
			if l := p.lives[ref]; l != nil && l.revision > asked {
				return // something newer was seen meanwhile
			}
			switch {
			case err == nil:
				p.live(ref).verified = true
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
	l.added, l.unmarked = nil, false
	if l.present || l.since.IsZero() {
		l.since = time.Now()
	}
	l.present, l.verified, l.drift, l.cause = false, true, nil, nil
	l.health = health.Result{Word: health.Absent, Reason: "it is not in the cluster"}
	if p.run != nil && p.run.appliedAt[ref] > 0 {
		p.feed(run.Seen{At: time.Now(), Ref: ref, Health: l.health})
	}
}

// lookBelow finds out why a workload is not ready, from the Pods below it, again and again until it is.
func (p *placement) lookBelow(ref object.Ref, after time.Duration) {
	l := p.live(ref)
	if l.below || !cluster.HasBelow(ref) {
		return
	}
	l.below = true
	uid := l.uid
	time.AfterFunc(after, func() {
		select {
		case p.cluster.slow <- struct{}{}:
		case <-p.ctx.Done():
			return
		}
		children, err := p.cluster.conn.Children(p.ctx, ref.Namespace)
		<-p.cluster.slow
		p.post(func() {
			l.below = false
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
				l.cause = nil
				if r, bad := health.Cause(pods); bad {
					l.cause = &r
				}
			}
			p.feedHealth(ref)
			p.lookBelow(ref, 2*time.Second)
		})
	})
}
