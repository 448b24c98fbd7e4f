package loop

import (
	"fmt"

	"vigila.dev/vigila/internal/core/plan"
)

// FaultKind says what sort of no an answer is.
type FaultKind int

// The kinds of fault.
const (
	NotFound FaultKind = iota + 1
	Invalid
	Conflict
	Guarded
	Unreachable
	Unwritten // it can't be written down now, and is tried again
	Denied    // whoever asks may not
)

// Fault is a request that can't be met, with the reason and what to do.
type Fault struct {
	Kind   FaultKind
	Text   string
	Guards []plan.Guard
	Run    int  // the entry of the run that is in the way; 0 when none is
	Soon   bool // it is otherwise in a moment: whoever asked for it may wait that long
}

func (f *Fault) Error() string { return f.Text }

func fault(kind FaultKind, format string, args ...any) *Fault {
	return &Fault{Kind: kind, Text: fmt.Sprintf(format, args...)}
}
