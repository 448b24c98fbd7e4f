package standing

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
)

// verbs say what a run is doing.
var verbs = map[logbook.Kind]string{"sync": "Sync", "restore": "Restore", "rollback": "Rollback", "dismantle": "Dismantle"}

// which differences are meant.
type which bool

const (
	all       which = false
	contested which = true
)

func firstAddition(v *View) (Object, compare.Difference) {
	for _, o := range v.Astray {
		if len(o.Additions) > 0 {
			return o, o.Additions[0]
		}
	}
	return Object{}, compare.Difference{}
}

func firstDrift(v *View, of which) (Object, compare.Difference) {
	for _, o := range v.Astray {
		if o.Gone && (of == all || o.Standing == compare.Contested) {
			return o, compare.Difference{}
		}
		for i, d := range o.Drift {
			if of == all || o.Contested[i] {
				return o, d
			}
		}
		if of == contested && o.Standing == compare.Contested && len(o.Additions) > 0 {
			return o, o.Additions[0]
		}
	}
	return Object{}, compare.Difference{}
}

// DriftWords say what happened to a field, or to an object: "kubectl-scale changed spec.replicas of …". Values of Secrets
// are not in them.
func DriftWords(ref object.Ref, d compare.Difference) string {
	who := orElse(d.Who, "somebody")
	if d.Likely {
		who = "probably " + who
	}
	from, to := brief(d.From), brief(d.To)
	switch {
	case d.Change == compare.Remade:
		return fmt.Sprintf("%s deleted %s and made it again", who, ref.Short())
	case d.Path == "" && d.Change == compare.Removed:
		return fmt.Sprintf("%s deleted %s", who, ref.Short())
	case d.Change == compare.Removed:
		return fmt.Sprintf("%s removed %s of %s", who, d.Path, ref.Short())
	case d.Change == compare.Added && d.From == nil && !ref.Secret() && len(to) <= 80:
		return fmt.Sprintf("%s set %s of %s to %s", who, d.Path, ref.Short(), to)
	case ref.Secret() || len(from)+len(to) > 80:
		return fmt.Sprintf("%s changed %s of %s", who, d.Path, ref.Short())
	}
	return fmt.Sprintf("%s changed %s of %s from %s to %s", who, d.Path, ref.Short(), from, to)
}

// AddedWords say what somebody added to an object.
func AddedWords(ref object.Ref, d compare.Difference) string {
	return fmt.Sprintf("%s added %s to %s", orElse(d.Who, "somebody"), d.Path, ref.Short())
}

// EndWords say that something is as it was applied again, though Vigila did not put it back.
func EndWords(ref object.Ref, d compare.Difference) string {
	switch {
	case d.Path == "":
		return ref.Short() + " is there again"
	case ref.Secret() || len(brief(d.From)) > 80:
		return fmt.Sprintf("%s of %s is as it was applied again", d.Path, ref.Short())
	}
	return fmt.Sprintf("%s of %s is %s again", d.Path, ref.Short(), orElse(brief(d.From), "empty"))
}

// told is how many differences one sentence tells of; how many more there are it says.
const told = 40

// Listed puts what there is to tell of several differences into one sentence.
func Listed(all []string) string {
	if more := len(all) - told; more > 0 {
		all = append(all[:told:told], fmt.Sprintf("and %d more", more))
	}
	return strings.Join(all, "; ")
}

// hinted is how many fields a hint names at most; more are better found on the ward's page.
const hinted = 6

// leaveHint is what to write into the ward file to leave everything that others changed, or else added, to them.
func leaveHint(v *View) string {
	drift := func(o Object) []compare.Difference { return o.Drift }
	additions := func(o Object) []compare.Difference { return o.Additions }
	var hints []string
	fields := 0
	for _, of := range []func(Object) []compare.Difference{drift, additions} {
		for _, o := range v.Astray {
			var names []string
			for _, d := range of(o) {
				if d.Pointer != "" && !slices.Contains(names, d.Pointer) {
					names = append(names, d.Pointer)
				}
			}
			if fields += len(names); len(names) > 0 {
				hints = append(hints, fmt.Sprintf("{of: %s, fields: [%s]}", o.Ref.Short(), strings.Join(names, ", ")))
			}
		}
		if len(hints) > 0 {
			break
		}
	}
	switch {
	case len(hints) == 0:
		return ""
	case fields > hinted:
		return "Leave fields to others with leave: in the ward file"
	}
	return "Leave it to others: leave: [" + strings.Join(hints, ", ") + "]"
}

// allowing says what to do about guards that can be allowed: what to declare instead, where that is better.
func (s *saying) allowing() string {
	do := "vigila sync " + s.ID + " --allow " + guardNames(s.Guards)
	i := slices.IndexFunc(s.Guards, func(g plan.Guard) bool { return g.Instead != "" })
	if i < 0 {
		return "To go on: " + do
	}
	return strings.TrimSuffix(s.Guards[i].Instead, ".") + ". To go on all the same: " + do + " --why REASON"
}

func guardNames(gs []plan.Guard) string {
	var names []string
	for _, g := range gs {
		names = append(names, g.Name)
	}
	return strings.Join(names, ",")
}

func objects(n int) string {
	if n == 1 {
		return "1 object"
	}
	return fmt.Sprintf("%d objects", n)
}

// brief is a value in a sentence: a text as it is, anything else as JSON.
func brief(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	b, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// Capital is a text that begins with a capital letter.
func Capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func orElse(a, b string) string {
	if a != "" {
		return a
	}
	return b
}
