package soak

import (
	"slices"
	"testing"
)

// TestADifferenceIsOfOneCommit: what the next commit wants of an object is another thing, and has its own time to be seen. A ward that
// had reached the one just before the other came was called false.
func TestADifferenceIsOfOneCommit(t *testing.T) {
	w := newWard(3)
	of := func() difference {
		all := w.differs(nil)
		i := slices.IndexFunc(all, func(d difference) bool { return d.text == "ConfigMap/c001 is missing" })
		if i < 0 {
			t.Fatalf("what is missing is not told: %s", texts(all))
		}
		return all[i]
	}
	first := of()
	if again := of(); again != first {
		t.Errorf("the same is another: %v, %v", first, again)
	}
	w.configs["c001"]++
	if next := of(); next == first {
		t.Error("what another commit wants is taken for the same")
	}
}
