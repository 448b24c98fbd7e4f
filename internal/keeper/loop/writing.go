package loop

import (
	"errors"
	"maps"
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/record"
)

// batch is what came of one or more events: changes to the record, made in one transaction, and what is done once they are there.
type batch struct {
	writes  []record.Write
	then    []Effect                       // calls, and whatever must not come before it is written down
	replies []Answer                       // to people who wait
	details map[object.Ref]*compare.Detail // of the baselines among the writes
}

func (b *batch) size() int { return len(b.writes) + len(b.then) }

// write changes the record, once the events that wait have been taken in. Nothing that comes after is called before it is there.
func (p *Placement) write(all ...record.Write) {
	p.now.writes = append(p.now.writes, all...)
	for _, w := range all {
		switch w := w.(type) {
		case record.PutBaselines:
			for _, b := range w.All {
				p.now.detail(b.Ref, b.Detail)
			}
		case record.Doubt:
			for _, ref := range w.Refs {
				p.now.detail(ref, nil)
			}
		}
	}
}

func (b *batch) detail(ref object.Ref, d *compare.Detail) {
	if b.details == nil {
		b.details = map[object.Ref]*compare.Detail{}
	}
	if d == nil {
		d = compare.NoDetail()
	}
	b.details[ref] = d
}

// Ready is what is to be done now. One transaction is on its way at a time; what comes meanwhile goes with the next, and nothing that
// was to come after a change comes before that is written down.
func (p *Placement) Ready() (out []Effect) {
	for {
		out = append(out, p.outs...)
		p.outs = nil
		if p.flying != nil || p.now.size() == 0 {
			return out
		}
		b := p.now
		if p.now = (batch{}); len(b.writes) == 0 {
			p.through(&b)
			continue
		}
		p.flying = &b
		p.out(Commit{b.writes})
	}
}

// through goes on with what has waited for a batch to be written down.
func (p *Placement) through(b *batch) {
	for _, e := range b.then {
		switch e := e.(type) {
		case happen:
			p.step(e.event)
		case letGo:
			if !p.index.Keeps(e.ref) { // it may have been made again meanwhile
				p.Others.Drop(e.ref)
			}
		case endTold:
			p.ending.CompareAndSwap(e.entry, nil)
		case nothing:
		default:
			p.out(e)
		}
	}
	for _, a := range b.replies {
		p.out(a)
	}
}

// rewritePause is how long it takes until what could not be written down is tried again.
const rewritePause = time.Second

// written takes in whether a batch is in the record. What is not is tried until it is, and so long nothing is called.
func (p *Placement) written(problem error) {
	b := p.flying
	if problem == nil {
		p.flying, p.unwritten = nil, ""
		p.through(b)
		return
	}
	if p.unwritten != problem.Error() {
		what := &record.NotWrittenError{}
		errors.As(problem, &what)
		p.Log.Error("what is done can't be written down; nothing more is done until it is", "error", problem, "change", what.What)
	}
	p.unwritten = problem.Error()
	for _, a := range b.replies {
		a.Err = fault(Unwritten, "%s: what was asked for can't be written down: %v. It is tried again until it is, and nothing is done before", p.ID, problem)
		p.out(a)
	}
	b.replies = nil
	p.out(Later{rewritePause, rewrite{}})
}

// Unwrote is what is to be written down yet; failed tells that the last Commit did not go through.
func (p *Placement) Unwrote(failed bool) []record.Write {
	if p.flying != nil && failed {
		return append(p.flying.writes, p.now.writes...)
	}
	return p.now.writes
}

// Detail reads the larger part of an object's baseline.
func (p *Placement) Detail(ref object.Ref) (*compare.Detail, error) {
	if d := p.now.details[ref]; d != nil {
		return d, nil
	}
	if p.flying != nil && p.flying.details[ref] != nil {
		return p.flying.details[ref], nil
	}
	return p.Book.Detail(ref)
}

// found is what others owned of the ward's objects when they were first applied.
func (p *Placement) found() (map[object.Ref]*fieldpath.Set, error) {
	out, err := p.Book.Found()
	if err != nil {
		return nil, err
	}
	all := map[object.Ref]*compare.Detail{}
	if p.flying != nil {
		maps.Copy(all, p.flying.details)
	}
	maps.Copy(all, p.now.details)
	for ref, d := range all {
		if d.Found != nil && !d.Found.Empty() {
			out[ref] = d.Found
		}
	}
	return out, nil
}

// addEntry writes a new entry under the next number.
func (p *Placement) addEntry(e logbook.Entry) logbook.Entry {
	p.number++
	e.Placement, e.Number = p.ID, p.number
	p.write(record.AddEntry{Entry: e})
	return e
}
