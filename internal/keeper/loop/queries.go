package loop

import (
	"cmp"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/keeper/drive"
)

// Trial is the dry run of one object of a run.
type Trial struct {
	Order drive.Order
	Kept  bool                 // the ward keeps it already
	Added []compare.Difference // what others added, and the run takes away
}

// Trials are the dry runs of a prepared run.
func (p *Placement) Trials(made *Prepared) map[object.Ref]Trial {
	out := map[object.Ref]Trial{}
	for ref, o := range made.Objects {
		b, kept := p.index.Baseline(ref)
		out[ref] = Trial{Kept: kept && b.UID != "", Added: p.index.Unwanted(ref),
			Order: drive.Order{Object: o, Before: b, Turn: made.Order[ref], Left: p.index.Leave(ref), Allow: made.Allow}}
	}
	return out
}

// ShownFrom is the snapshot that an object is shown from: what is declared now, else what was applied last.
func (p *Placement) ShownFrom() string {
	if p.declared != nil && p.declared.Snapshot != "" {
		return p.declared.Snapshot
	}
	return p.will.Snapshot
}

// DeclaredNow is the snapshot of what is declared now.
func (p *Placement) DeclaredNow() (string, error) {
	if p.declared == nil || p.declared.Snapshot == "" {
		return "", fault(Conflict, "what %s declares now is not known: %s", p.ID, cmp.Or(p.problem(), notReadYet))
	}
	return p.declared.Snapshot, nil
}

// Names lists its objects as Kind/name.
func (p *Placement) Names() []string {
	out := make([]string, 0, p.index.Len())
	for ref := range p.index.All() {
		out = append(out, ref.Short())
	}
	if p.declared != nil {
		for _, o := range p.declared.Objects {
			if !p.index.Keeps(o.Ref) {
				out = append(out, o.Ref.Short())
			}
		}
	}
	return out
}

// Going tells whether a run goes on.
func (p *Placement) Going() bool { return p.run != nil }

// TaskNow is how far a task of the run that goes on is: the uid of its object once that is made, and whether it has ended; is tells
// whether it is a task of that run at all.
func (p *Placement) TaskNow(number int, ref object.Ref) (uid string, ended, is bool) {
	a := p.runs(number)
	if a == nil || a.of(ref).task == nil {
		return "", false, false
	}
	t := a.of(ref).task
	return t.uid, t.ended, true
}
