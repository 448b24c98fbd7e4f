package keeper

import (
	"context"
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
	then    []effect                       // calls, and whatever must not come before it is written down
	replies []func(error)                  // to people who wait
	details map[object.Ref]*compare.Detail // of the baselines among the writes
	done    chan struct{}                  // closed when the record has answered
	err     error                          // why it was not written; to be read after done
}

func (b *batch) size() int { return len(b.writes) + len(b.then) }

// write changes the record, once the events that wait have been taken in. Nothing that comes after is called before it is there.
func (p *placement) write(all ...record.Write) {
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

// settleUp does what the events of this turn want done, and writes down what they have changed, beside the ward's goroutine: a database
// that is locked or full must not hold up the truth. One transaction is on its way at a time; what comes meanwhile goes with the next.
func (p *placement) settleUp() {
	for len(p.outs) > 0 || p.flying == nil && p.now.size() > 0 {
		outs := p.outs
		p.outs = nil
		for _, e := range outs {
			p.carryOut(e)
		}
		if p.flying != nil || p.now.size() == 0 {
			continue
		}
		b := p.now
		if p.now = (batch{}); len(b.writes) == 0 {
			p.through(&b)
			continue
		}
		p.flying = &b
		p.out(commit{&b})
	}
}

// through does what has waited for a batch to be written down.
func (p *placement) through(b *batch) {
	for _, e := range b.then {
		p.carryOut(e)
	}
	for _, reply := range b.replies {
		reply(nil)
	}
}

func (p *placement) commit(b *batch) {
	b.done = make(chan struct{})
	p.k.spawn(func() {
		b.err = p.ledger.Commit(context.WithoutCancel(p.ctx), p.id, b.writes...)
		close(b.done)
		p.post(written{b})
	})
}

// rewritePause is how long it takes until what could not be written down is tried again.
const rewritePause = time.Second

// written takes in whether a batch is in the record. What is not is tried until it is, and so long nothing is called.
func (p *placement) written(b *batch) {
	if b.err == nil {
		p.flying, p.unwritten = nil, ""
		p.through(b)
		return
	}
	if p.unwritten != b.err.Error() {
		what := &record.NotWrittenError{}
		errors.As(b.err, &what)
		p.log.Error("what is done can't be written down; nothing more is done until it is", "error", b.err, "change", what.What)
	}
	p.unwritten = b.err.Error()
	for _, reply := range b.replies {
		reply(fault(Unwritten, "%s: what was asked for can't be written down: %v. It is tried again until it is, and nothing is done before", p.id, b.err))
	}
	b.replies = nil
	p.out(later{rewritePause, rewrite{b}})
}

// lastWrites writes down what is left when the ward's goroutine ends.
func (p *placement) lastWrites() {
	writes := p.now.writes
	if b := p.flying; b != nil {
		if <-b.done; b.err != nil {
			writes = append(b.writes, writes...)
		}
	}
	if len(writes) == 0 {
		return
	}
	if err := p.ledger.Commit(context.WithoutCancel(p.ctx), p.id, writes...); err != nil {
		p.log.Error("what was done last can't be written down", "error", err)
	}
}

// Detail reads the larger part of an object's baseline.
func (p *placement) Detail(ref object.Ref) (*compare.Detail, error) {
	if d := p.now.details[ref]; d != nil {
		return d, nil
	}
	if p.flying != nil && p.flying.details[ref] != nil {
		return p.flying.details[ref], nil
	}
	return p.ledger.Detail(p.ctx, p.id, ref)
}

// found is what others owned of the ward's objects when they were first applied.
func (p *placement) found() (map[object.Ref]*fieldpath.Set, error) {
	out, err := p.ledger.Found(p.ctx, p.id)
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
func (p *placement) addEntry(e logbook.Entry) logbook.Entry {
	p.number++
	e.Placement, e.Number = p.id, p.number
	p.write(record.AddEntry{Entry: e})
	return e
}
