package loop

import (
	"cmp"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
)

// driftWhy says what a restore puts back.
func (p *Placement) driftWhy(refs []object.Ref) string {
	var all []string
	for _, ref := range refs {
		for _, d := range p.index.Changes(ref) {
			all = append(all, standing.DriftWords(ref, d))
		}
		for _, d := range p.index.Unwanted(ref) {
			all = append(all, standing.AddedWords(ref, d))
		}
	}
	return standing.Listed(all)
}

// noteDrift writes drift into the logbook that is not put back at once, and the end of such drift: who changed which field
// from what to what is to be read there when nothing else tells of it any more.
func (p *Placement) noteDrift() time.Duration {
	if p.run != nil || p.will.Leaving != nil || p.declared == nil || !p.clusterKnown().Known {
		return 0 // a restore tells what it puts back; what can't be seen has not ended
	}
	if wait := p.notedAt.Add(p.notePause).Sub(p.at); wait > 0 && wait <= p.notePause {
		return wait // somebody changes something all the time; its newest value is told a little later
	}
	astray := p.astray()
	var began, ended []string
	by := map[string]bool{}
	now := map[object.Ref]bool{}
	for _, ref := range astray.Refs {
		now[ref] = true
		if p.Ward.Keep.Drift == ward.Restore && p.will.Hold == nil && p.will.Failures == 0 && (slices.Contains(astray.Restorable, ref) || slices.Contains(astray.Waiting, ref)) {
			continue // it is about to be put back, and the entry of that tells of it
		}
		drift := p.index.Changes(ref)
		if !reflect.DeepEqual(p.noticed[ref], drift) {
			for _, d := range drift {
				if !slices.ContainsFunc(p.noticed[ref], func(x compare.Difference) bool { return reflect.DeepEqual(x, d) }) {
					words := standing.DriftWords(ref, d)
					if strings.Contains(p.toldBefore, words) {
						continue // before the service was started anew
					}
					began = append(began, words)
					by[cmp.Or(d.Who, "somebody")] = true
				}
			}
			p.noticed[ref] = drift
		}
	}
	for _, ref := range slices.SortedFunc(maps.Keys(p.noticed), object.Ref.Compare) {
		if !now[ref] {
			if p.index.Keeps(ref) {
				for _, d := range p.noticed[ref] {
					ended = append(ended, standing.EndWords(ref, d))
				}
			}
			delete(p.noticed, ref)
		}
	}
	p.toldBefore = ""
	if len(began)+len(ended) > 0 {
		quick := p.at.Sub(p.notedAt) < 2*max(p.notePause, 5*time.Second)
		if p.notePause = min(2*p.notePause, 10*time.Minute); !quick || p.notePause == 0 {
			p.notePause = 5 * time.Second
		}
		p.notedAt = p.at
	}
	if len(began) > 0 {
		p.tell(strings.Join(slices.Sorted(maps.Keys(by)), ", "), standing.Listed(began))
	}
	if len(ended) > 0 {
		p.tell("somebody", standing.Listed(ended))
	}
	return 0
}

// tell writes about drift into the logbook.
func (p *Placement) tell(by, why string) {
	now := p.at
	p.addEntry(logbook.Entry{Kind: logbook.Drifts, Outcome: run.Done, By: by, Why: why, Revision: p.will.Applied, Started: now, Ended: now})
	p.after(Note{})
}

// putBack notes that a run has put drift back, or taken it in: that is its entry's to tell.
func (p *Placement) putBack(a *activeRun) {
	for ref, x := range a.pieces {
		if x.appliedAt > 0 {
			delete(p.noticed, ref)
		}
	}
}
