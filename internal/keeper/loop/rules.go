package loop

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/run"
)

// RuleGuard begins the names of guards that stand before what breaks a rule.
const RuleGuard = "rule:"

// broken counts what refuses at a time: exceptions end, and nobody tells.
func broken(d *declared.Declaration, now time.Time) (n int) {
	if d == nil {
		return 0
	}
	for _, f := range d.Findings {
		if f.Refuse && !f.Except.Holds(now) {
			n++
		}
	}
	return n
}

// findings counts what breaks rules at a time, exceptions left out.
func findings(d *declared.Declaration, now time.Time) (n int) {
	if d == nil {
		return 0
	}
	for _, f := range d.Findings {
		if !f.Except.Holds(now) {
			n++
		}
	}
	return n
}

// guardRules stands before objects that break a rule, one guard a rule. What a ward's own file breaks stands before all of them.
func (p *Placement) guardRules(d *declared.Declaration, refs []object.Ref) (out []plan.Guard) {
	if d == nil || len(refs) == 0 || len(d.Findings) == 0 {
		return nil
	}
	planned := make(map[object.Ref]bool, len(refs))
	for _, ref := range refs {
		planned[ref] = true
	}
	return GuardsOf(d.Findings, p.at, func(f rule.Finding) bool { return f.Own() || planned[f.Ref] })
}

// GuardsOf are the guards that follow from findings that refuse, of those that are meant: one a rule, in their order.
func GuardsOf(all []rule.Finding, now time.Time, meant func(rule.Finding) bool) (out []plan.Guard) {
	first, more := map[string]int{}, map[string]int{}
	for _, f := range all {
		if !f.Refuse || f.Except.Holds(now) || !meant(f) {
			continue
		}
		name := RuleGuard + f.Rule
		if _, told := first[name]; told {
			more[name]++
			continue
		}
		first[name] = len(out)
		text := fmt.Sprintf("%s breaks rule %s: %s", f.Ref.Short(), f.Rule, f.Text)
		if f.Unclear {
			text = fmt.Sprintf("%s: %s", f.Ref.Short(), f.Text)
		}
		if f.Except != nil {
			text += fmt.Sprintf(" (its exception ended on %s)", f.Except.Day())
		}
		out = append(out, plan.Guard{Name: name, Text: text, Instead: f.Mend})
	}
	for name, i := range first {
		if n := more[name]; n > 0 {
			out[i].Text += fmt.Sprintf(", and %d more", n)
		}
	}
	return out
}

// withRules looks whether what a sync applies breaks a rule. A way back is kept from nothing, and putting back what drifted brings in nothing new.
func (m *making) withRules() {
	if m.ask.Kind != run.Sync || m.ask.carry != nil {
		return
	}
	d := m.declared
	if m.ask.Declared != nil {
		d = m.ask.Declared
	}
	var passed []string
	for _, g := range m.guardRules(d, append(m.out.Plan.Refs(), m.out.Plan.Tasks()...)) {
		if slices.Contains(m.ask.Allow, g.Name) {
			passed = append(passed, g.Name)
			continue
		}
		m.out.Plan.Guards = append(m.out.Plan.Guards, g)
	}
	if len(passed) > 0 {
		m.entry.Why = strings.TrimSpace(fmt.Sprintf("%s (allows %s)", m.entry.Why, strings.Join(passed, ", ")))
		m.out.Entry = m.entry
	}
}
