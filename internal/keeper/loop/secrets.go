package loop

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/standing"
)

// Guards that can't be allowed: what is not there can't be applied, and what may not be used is not asked for.
const (
	MissingGuard = "missing-secret"
	RefusedGuard = "refused-secret"
)

// secrets tells how references stand.
func (p *Placement) secrets(refs []secret.Ref) secret.Standing {
	if len(refs) == 0 {
		return secret.Standing{}
	}
	return secret.Stand(refs, p.Stores.Known, p.Mask)
}

// Places lists where the values are that a declaration refers to.
func Places(d *declared.Declaration) []secret.Place {
	if d == nil {
		return nil
	}
	all := map[secret.Place]bool{}
	for _, o := range d.Objects {
		for _, r := range o.Secrets {
			all[r.Place()] = true
		}
	}
	return slices.SortedFunc(maps.Keys(all), secret.Place.Compare)
}

// unreadStores says of which stores it is not known what they have now.
func (p *Placement) unreadStores() (out []string) {
	if !p.declared.Known() {
		return nil
	}
	for _, place := range Places(p.declared) {
		if k := p.Stores.Known(place); k.Problem != "" && k.Refused == "" {
			out = append(out, "whether secret values are others is not known: "+k.Problem)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// hashNow is the hash that an object would be applied under now.
func (p *Placement) hashNow(o declared.Whole) string {
	side := declared.Side{Index: p.index, Scaler: p.Scaler, Secrets: p.secrets}
	return side.HashNow(plan.Declared{Ref: o.Object.Ref, Hash: o.Hash, Secrets: secret.Of(o.Object)})
}

// guardSecrets stands before objects that refer to what is missing, or may not be used. What is told of a Secret is not told once more
// of the workload that reads it.
func (p *Placement) guardSecrets(refs []object.Ref) (out []plan.Guard) {
	refs = slices.SortedStableFunc(slices.Values(refs), secretsFirst)
	told := map[secret.Ref]bool{}
	for _, ref := range refs {
		if o := p.declared.Find(ref); o != nil && len(o.Secrets) > 0 {
			out = append(out, untold(told, ref, p.secrets(o.Secrets))...)
		}
	}
	return out
}

func secretsFirst(a, b object.Ref) int {
	switch {
	case a.Secret() == b.Secret():
		return 0
	case a.Secret():
		return -1
	}
	return 1
}

// untold are the guards of an object, less what is told already.
func untold(told map[secret.Ref]bool, ref object.Ref, s secret.Standing) []plan.Guard {
	s.Missing = slices.DeleteFunc(s.Missing, func(r secret.Ref) bool { return told[r] })
	for _, r := range s.Missing {
		told[r] = true
	}
	if !ref.Secret() {
		s.Refused = "" // its Secret says so
	}
	return guardsOf(ref, s)
}

func guardsOf(ref object.Ref, s secret.Standing) (out []plan.Guard) {
	if s.Refused != "" {
		out = append(out, plan.Guard{Name: RefusedGuard, Text: fmt.Sprintf("%s refers to what it may not use: %s", ref.Short(), s.Refused),
			Mend: "Let the ward use the store, or write another reference: vigila store list"})
	}
	if len(s.Missing) > 0 {
		e := secret.MissingError{Refs: s.Missing}
		mend := "Set it: " + e.Command()
		if s.SetBy != "" {
			mend = standing.Capital(s.SetBy)
		}
		out = append(out, plan.Guard{Name: MissingGuard, Text: fmt.Sprintf("%s needs %s, and store %s has no such value", ref.Short(), list(s.Missing), s.Missing[0].Store), Mend: mend})
	}
	return out
}

func list(refs []secret.Ref) string {
	words := make([]string, len(refs))
	for i, r := range refs {
		words[i] = r.Short()
	}
	if n := len(words); n > 1 {
		return strings.Join(words[:n-1], ", ") + " and " + words[n-1]
	}
	return words[0]
}

// unknownSecrets names the store of which it is not known what some objects refer to; "" when all is known.
func (p *Placement) unknownSecrets(refs []object.Ref) string {
	for _, ref := range refs {
		if o := p.declared.Find(ref); o != nil && len(o.Secrets) > 0 && ref.Secret() {
			if s := p.secrets(o.Secrets); s.Unknown+s.Unread != "" {
				return "a secret value of " + ref.Short() + ": " + cmp.Or(s.Unknown, s.Unread)
			}
		}
	}
	return ""
}

// withSecrets looks whether what the run applies has the values that it refers to. A way back is kept from nothing, and neither is putting back
// what else has drifted: what has none is left as it is then, and told.
func (m *making) withSecrets() {
	spare := m.in.Spare || m.ask.Kind == run.Restore && m.ask.By == logbook.Vigila
	planned := map[object.Ref]bool{}
	for _, ref := range append(m.out.Plan.Refs(), m.out.Plan.Tasks()...) {
		planned[ref] = true
	}
	left, told := map[object.Ref]plan.Guard{}, map[secret.Ref]bool{}
	for _, d := range slices.SortedStableFunc(slices.Values(m.in.Declared), func(a, b plan.Declared) int { return secretsFirst(a.Ref, b.Ref) }) {
		if len(d.Secrets) == 0 || !planned[d.Ref] || spare && !d.Ref.Secret() {
			continue
		}
		s := m.secrets(d.Secrets)
		switch guards := guardsOf(d.Ref, s); {
		case s.Good() && s.Unread == "":
		case spare && len(guards) > 0:
			left[d.Ref] = guards[0]
		case spare:
			left[d.Ref] = plan.Guard{Name: MissingGuard, Text: d.Ref.Short() + " is left as it is: " + cmp.Or(s.Unknown, s.Unread)}
		case len(guards) > 0:
			m.out.Plan.Guards = append(m.out.Plan.Guards, untold(told, d.Ref, s)...)
		case d.Ref.Secret(): // a workload notes what it has noted before
			m.out.Unknown = "a secret value of " + d.Ref.Short() + ": " + cmp.Or(s.Unknown, s.Unread)
		}
	}
	if len(left) > 0 {
		m.out.Plan = m.out.Plan.Without(left)
	}
}
