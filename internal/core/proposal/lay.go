package proposal

import (
	"slices"
	"strings"
)

// Leaf is a file of a tree as git keeps it: its mode and the hash of its contents. The zero Leaf is a file that is not there.
type Leaf struct{ Mode, ID string }

// Change is one file that a branch has changed.
type Change struct {
	Path     string
	Old, New Leaf
}

// Laid is what a branch's changes come to on top of a base that has moved on.
type Laid struct {
	Write []Change // Old is what the base has
	Both  []Change // changed by both: Old is what it was before, New what the branch says; what the base says is to be laid together with it
	Same  []string // the base says by now what the branch wants
}

// Lay lays the changes of a branch over a base. There are those that the base has changed as well: whether they go together is told by
// their contents. The rule is git's own three-way merge, file by file, without following renames (git-merge-tree(1)).
func Lay(changes []Change, base func(path string) (Leaf, error)) (out Laid, err error) {
	for _, c := range changes {
		now, err := base(c.Path)
		if err != nil {
			return out, err
		}
		switch now {
		case c.New:
			out.Same = append(out.Same, c.Path)
		case c.Old:
			out.Write = append(out.Write, c)
		default:
			out.Both = append(out.Both, c)
		}
	}
	by := func(a, b Change) int { return strings.Compare(a.Path, b.Path) }
	slices.SortFunc(out.Write, by)
	slices.SortFunc(out.Both, by)
	return out, nil
}

// Text tells whether both sides of a file are there and of the same mode as before, so that its lines can be laid together.
func (c Change) Text(base Leaf) bool {
	const regular = "100"
	return c.Old.ID != "" && c.New.ID != "" && base.ID != "" && c.Old.Mode == c.New.Mode && base.Mode == c.Old.Mode && strings.HasPrefix(base.Mode, regular)
}
