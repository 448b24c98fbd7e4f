package roster

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// MassRemoval is the guard that stops a roster from letting many wards go at once.
const MassRemoval = "mass-removal"

// Leaving is what a roster declares no more.
type Leaving struct {
	Wards   []string
	Rosters []string // those in them too, the outer first
	Of      int      // wards that it had, and those of the rosters that leave
}

// Left says what has left the files of a roster. A file that can't be read is no removal: neither of its own wards, nor of any
// roster, since that may have been declared there. parents are all rosters, to the one that declares each.
func (f *Files) Left(r Roster, kept []Kept, parents map[string]string) Leaving {
	var out Leaving
	declares := map[string]bool{}
	for _, w := range f.Wards {
		declares["ward "+w.Name] = true
	}
	for _, x := range f.Rosters {
		declares["roster "+x.Name] = true
	}
	if len(f.Broken) == 0 {
		for _, name := range slices.Sorted(maps.Keys(parents)) {
			if parents[name] == r.Name && !declares["roster "+name] {
				out.Rosters = append(out.Rosters, name)
			}
		}
	}
	for i := 0; i < len(out.Rosters); i++ { // and those in them
		for _, name := range slices.Sorted(maps.Keys(parents)) {
			if parents[name] == out.Rosters[i] && !slices.Contains(out.Rosters, name) {
				out.Rosters = append(out.Rosters, name)
			}
		}
	}
	for _, k := range kept {
		own, inner := k.Roster == r.Name, slices.Contains(out.Rosters, k.Roster)
		if own || inner {
			out.Of++
		}
		if inner || own && !declares["ward "+k.Name] && f.Broken[k.Source] == "" {
			out.Wards = append(out.Wards, k.Name)
		}
	}
	return out
}

// Guarded says why a person has to allow it first: more than five and more than half leave, or all of several. "" when nobody has to.
func (l Leaving) Guarded() string {
	n := len(l.Wards)
	if many, all := n > 5 && 2*n > l.Of, n == l.Of && l.Of > 1; !many && !all {
		return ""
	}
	names := slices.Clone(l.Wards)
	if len(names) > 6 {
		names = append(names[:6], fmt.Sprintf("%d more", n-6))
	}
	return fmt.Sprintf("%d of its %d wards are not in its files any more: %s", n, l.Of, strings.Join(names, ", "))
}
