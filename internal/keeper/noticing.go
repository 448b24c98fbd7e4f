package keeper

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/record"
)

// Entries that are no runs: drift that was noticed, and drift that ended by itself.
const driftKind = "drift"

// told is how many differences one entry tells of; how many more there are it says.
const told = 40

// driftOf lists what others changed of an object, its deletion too.
func (p *placement) driftOf(ref object.Ref) []compare.Difference {
	l := p.known(ref)
	if l == nil {
		return nil
	}
	if !l.present && l.verified && !l.ended {
		return []compare.Difference{{Change: compare.Removed}}
	}
	return p.drift(ref)
}

// driftWhy says what a restore puts back.
func (p *placement) driftWhy(refs []object.Ref) string {
	var all []string
	for _, ref := range refs {
		for _, d := range p.driftOf(ref) {
			all = append(all, driftWords(ref, d))
		}
		if l := p.known(ref); l != nil && p.ward.Keep.Additions == "remove" {
			for _, d := range l.added {
				all = append(all, fmt.Sprintf("%s added %s to %s", orElse(d.Who, "somebody"), d.Path, ref.Short()))
			}
		}
	}
	return listed(all)
}

func listed(all []string) string {
	if more := len(all) - told; more > 0 {
		all = append(all[:told:told], fmt.Sprintf("and %d more", more))
	}
	return strings.Join(all, "; ")
}

// noteDrift writes drift into the logbook that is not put back at once, and the end of such drift: who changed which field
// from what to what is to be read there when nothing else tells of it any more.
func (p *placement) noteDrift() time.Duration {
	if p.run != nil || p.leaving != nil || p.declared == nil || !p.clusterKnown().Known {
		return 0 // a restore tells what it puts back; what can't be seen has not ended
	}
	if wait := time.Until(p.notedAt.Add(p.notePause)); wait > 0 && wait <= p.notePause {
		return wait // somebody changes something all the time; its newest value is told a little later
	}
	astray := p.astray()
	var began, ended []string
	by := map[string]bool{}
	now := map[object.Ref]bool{}
	for _, ref := range astray.refs {
		now[ref] = true
		if p.ward.Keep.Drift == "restore" && p.hold == nil && p.failures == 0 && (slices.Contains(astray.restorable, ref) || slices.Contains(astray.waiting, ref)) {
			continue // it is about to be put back, and the entry of that tells of it
		}
		drift := p.driftOf(ref)
		if !reflect.DeepEqual(p.noticed[ref], drift) {
			for _, d := range drift {
				if !slices.ContainsFunc(p.noticed[ref], func(x compare.Difference) bool { return reflect.DeepEqual(x, d) }) {
					words := driftWords(ref, d)
					if strings.Contains(p.toldBefore, words) {
						continue // before the service was started anew
					}
					began = append(began, words)
					by[orElse(d.Who, "somebody")] = true
				}
			}
			p.noticed[ref] = drift
		}
	}
	for _, ref := range slices.SortedFunc(maps.Keys(p.noticed), object.Ref.Compare) {
		if !now[ref] {
			if _, kept := p.baselines[ref]; kept {
				for _, d := range p.noticed[ref] {
					ended = append(ended, endWords(ref, d))
				}
			}
			delete(p.noticed, ref)
		}
	}
	p.toldBefore = ""
	if len(began)+len(ended) > 0 {
		quick := time.Since(p.notedAt) < 2*max(p.notePause, 5*time.Second)
		if p.notePause = min(2*p.notePause, 10*time.Minute); !quick || p.notePause == 0 {
			p.notePause = 5 * time.Second
		}
		p.notedAt = time.Now()
	}
	if len(began) > 0 {
		p.tell(strings.Join(slices.Sorted(maps.Keys(by)), ", "), listed(began))
	}
	if len(ended) > 0 {
		p.tell("somebody", listed(ended))
	}
	return 0
}

// endWords say that something is as it was applied again, though Vigila did not put it back.
func endWords(ref object.Ref, d compare.Difference) string {
	switch {
	case d.Path == "":
		return ref.Short() + " is there again"
	case ref.Secret() || len(brief(d.From)) > 80:
		return fmt.Sprintf("%s of %s is as it was applied again", d.Path, ref.Short())
	}
	return fmt.Sprintf("%s of %s is %s again", d.Path, ref.Short(), orElse(brief(d.From), "empty"))
}

// tell writes about drift into the logbook.
func (p *placement) tell(by, why string) {
	now := time.Now()
	_, err := p.k.store.AddEntry(p.ctx, record.Entry{Placement: p.id, Kind: driftKind, Outcome: string(run.Done), By: by, Why: why, Revision: p.applied, Started: now, Ended: now})
	if err != nil {
		p.log.Error("drift can't be written down", "error", err)
		return
	}
	p.k.broker.send(Note{"ward", p.id})
}

// putBack notes that a run has put drift back, or taken it in: that is its entry's to tell.
func (p *placement) putBack(a *activeRun) {
	for ref := range a.appliedAt {
		delete(p.noticed, ref)
	}
}
