package keeper

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/alert"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/follow"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/core/kit"
	"vigila.dev/vigila/internal/core/lane"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

// RuleNow is a rule as it holds for the wards of today, or one of Vigila's own that holds for none.
type RuleNow struct {
	rule.Held
	Wards []string // that it holds for
	// Of what they declare so much breaks it: what refuses, what is warned of, what an exception lets be, and of these what an exception let be once.
	Refused, Warned, Excepted, Ended int
}

// Off tells that it holds for no ward.
func (r RuleNow) Off() bool { return len(r.Wards) == 0 }

// FindingNow is something that a ward declares, and that breaks a rule.
type FindingNow struct {
	Ward string // name@cluster
	rule.Finding
	Excepted bool // an exception lets it be, today
}

// Refuses tells whether it stops a sync of what it is about.
func (f FindingNow) Refuses() bool { return f.Refuse && !f.Excepted }

// everyWard are all placements, by their names.
func (k *Keeper) everyWard() []*placement {
	k.mu.RLock()
	defer k.mu.RUnlock()
	out := make([]*placement, 0, len(k.kept.all))
	for _, p := range k.kept.all {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b *placement) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// rulesOf are the rulebooks that hold for what a ward declares; nil when that is not known, or they can't be read.
func rulesOf(d *declared.Declaration) *rule.Set {
	if d == nil {
		return nil
	}
	var files []repo.File
	for _, f := range d.Files {
		files = append(files, repo.File{Path: f.Path, Data: []byte(f.Text)})
	}
	set, err := render.Rulebooks(files)
	if err != nil {
		return nil // the reading says so
	}
	return set
}

// commonRules are the rulebooks and the like that hold for everything from a repository.
func commonRules(tree *repo.Tree) ([]repo.File, error) {
	hash, err := tree.Hash(render.RulesDir)
	if err != nil || hash == "" {
		return nil, err
	}
	return tree.Files(render.RulesDir, render.Wanted)
}

// isDeclaration tells whether a file of a roster declares something: wards, clusters, follows, lanes, alerts, teams, kits.
func isDeclaration(data []byte) bool {
	return ward.IsRoster(data) || follow.Is(data) || lane.Is(data) || alert.Is(data) || grant.Is(data) || kit.Is(data) || kit.IsComponents(data)
}

// readRoster reads the files of a roster. One with a document that breaks a rule which refuses is like one that can't be read: what it declared before stays in
// force. Wards are held against rules with what they declare, and stop by themselves.
func readRoster(r roster.Roster, files, common []repo.File, kept []roster.Kept) (*roster.Files, []roster.Problem) {
	kits := render.InKit(files)
	files = slices.DeleteFunc(slices.Clone(files), func(f repo.File) bool { return kits(f.Path) })
	refused, more := refusedFiles(r, files, common, time.Now())
	var left []roster.File
	for _, f := range files {
		if refused[f.Path] == "" {
			left = append(left, roster.File(f))
		}
	}
	in, problems := roster.Read(r, left, render.RulesDir, kept)
	maps.Copy(in.Broken, refused)
	return in, append(problems, more...)
}

// refusedFiles are the files of a roster that declare more than wards and may not, and why: they break rules which refuse, or nobody knows what the rules are.
func refusedFiles(r roster.Roster, files, common []repo.File, now time.Time) (refused map[string]string, problems []roster.Problem) {
	refused = map[string]string{}
	all := slices.Clone(files)
	for _, f := range common {
		if !slices.ContainsFunc(files, func(x repo.File) bool { return x.Path == f.Path }) {
			all = append(all, f)
		}
	}
	set, unread := render.Rulebooks(all)
	if unread != nil {
		problems = roster.Places(r.Path, unread)
	}
	book := render.InRulebook(all)
	for _, f := range files {
		if book(f.Path) || !isDeclaration(f.Data) {
			continue
		}
		own, err := render.Documents(f.Path, f.Data)
		own = slices.DeleteFunc(own, func(d rule.Document) bool { return d.Resource == "wards" })
		if err != nil || len(own) == 0 { // what reads it says so
			continue
		}
		if unread != nil {
			refused[f.Path] = "the rules that it is to keep can't be read: " + unread.Error()
			continue
		}
		for _, x := range set.Judge(render.RuleFacts(ward.Ward{}, r.Name, render.Cluster{}), nil, own) {
			if !x.Refuse || x.Except.Holds(now) {
				continue
			}
			p := roster.Problem{File: f.Path, Line: max(x.Line, 1), Text: fmt.Sprintf("%s: %s (rule %s)", x.Ref.Short(), x.Text, x.Rule)}
			if x.Mend != "" {
				p.Text += "; " + x.Mend
			}
			problems = append(problems, p)
			if refused[f.Path] == "" {
				refused[f.Path] = fmt.Sprintf("%s:%d: %s", p.File, p.Line, p.Text)
			}
		}
	}
	return refused, problems
}

// Rules lists the rules that hold, what is broken first, and then those of Vigila's own that hold nowhere.
func (k *Keeper) Rules() []RuleNow {
	now := time.Now()
	var out []*RuleNow
	at := map[string]*RuleNow{}
	for _, p := range k.everyWard() {
		d := p.Says()
		set := rulesOf(d)
		if set == nil {
			continue
		}
		facts := render.RuleFacts(*p.Ward, p.Roster, render.Cluster{Name: p.Cluster, Labels: p.cluster.labels()})
		for _, h := range set.Rules() {
			if !h.Concerns(facts) {
				continue
			}
			key := h.Book + "\n" + h.BookFile + "\n" + h.Name + "\n" + string(h.Otherwise) + "\n" + object.Hash(h.Text)
			r := at[key]
			if r == nil {
				r = &RuleNow{Held: h}
				at[key], out = r, append(out, r)
			}
			r.Wards = append(r.Wards, p.ID)
			for _, f := range d.Findings {
				if f.Rule == h.Name && f.Book == h.Book {
					r.count(f, now)
				}
			}
		}
	}
	for _, own := range render.OwnRules().List() {
		if !slices.ContainsFunc(out, func(r *RuleNow) bool { return r.Ours && r.Name == own.Name }) {
			out = append(out, &RuleNow{Held: rule.Held{Rule: own, Otherwise: own.Otherwise, Ours: true}})
		}
	}
	all := make([]RuleNow, len(out))
	for i, r := range out {
		all[i] = *r
	}
	slices.SortStableFunc(all, func(a, b RuleNow) int {
		off := map[bool]int{true: 1}
		return cmp.Or(off[a.Off()]-off[b.Off()], b.Refused-a.Refused, b.Warned-a.Warned, strings.Compare(a.Name, b.Name), strings.Compare(a.Book, b.Book))
	})
	return all
}

func (r *RuleNow) count(f rule.Finding, now time.Time) {
	switch {
	case f.Except.Holds(now):
		r.Excepted++
		return
	case f.Except != nil:
		r.Ended++
	}
	if f.Refuse {
		r.Refused++
	} else {
		r.Warned++
	}
}

// Findings lists what breaks rules, what refuses first, then by ward; of one ward, or of all when it is "".
func (k *Keeper) Findings(ward string) ([]FindingNow, error) {
	now := time.Now()
	placed := k.everyWard()
	if ward != "" {
		p, err := k.one(ward)
		if err != nil {
			return nil, err
		}
		placed = []*placement{p}
	}
	var out []FindingNow
	for _, p := range placed {
		if d := p.Says(); d != nil {
			for _, f := range d.Findings {
				out = append(out, FindingNow{p.ID, f, f.Except.Holds(now)})
			}
		}
	}
	inOrder(out)
	return out, nil
}

func inOrder(all []FindingNow) {
	order := func(f FindingNow) int {
		switch {
		case f.Excepted:
			return 2
		case f.Refuse:
			return 0
		}
		return 1
	}
	slices.SortStableFunc(all, func(a, b FindingNow) int {
		return cmp.Or(order(a)-order(b), strings.Compare(a.Rule, b.Rule), strings.Compare(a.Ward, b.Ward), a.Ref.Compare(b.Ref))
	})
}

// Rule is a rule by its name, as it holds; several where books have rules of the same name.
func (k *Keeper) Rule(name string) ([]RuleNow, error) {
	var out []RuleNow
	var names []string
	for _, r := range k.Rules() {
		if names = append(names, r.Name); r.Name == name {
			out = append(out, r)
		}
	}
	if len(out) == 0 {
		return nil, fault(NotFound, "there is no rule %s; %s", name, nearest.Words(name, names))
	}
	return out, nil
}

// RuleTrial is what of everything that is kept now would break rules.
type RuleTrial struct {
	Rules    []*rule.Rule
	Wards    int // that were looked at
	Objects  int
	Unread   []string // wards of which it is not known what they declare
	Findings []FindingNow
}

// mostTried is how large the text of rules may be that are tried, in bytes, and mostFound how much may break them before the rest is only counted.
const (
	mostTried = 1 << 20
	mostFound = 10000
)

// TryRules holds everything that wards declare now against rules that hold nowhere yet.
func (k *Keeper) TryRules(ctx context.Context, file, text string) (*RuleTrial, error) {
	if len(text) > mostTried {
		return nil, fault(Invalid, "the rules are more than %d bytes; try them in parts", mostTried)
	}
	rules, err := rule.Parse(cmp.Or(file, "rule"), []byte(text))
	if err != nil {
		return nil, fault(Invalid, "%v", err)
	}
	if len(rules) == 0 {
		return nil, fault(Invalid, "there is no rule in it; a rule is a ValidatingAdmissionPolicy of admissionregistration.k8s.io/v1")
	}
	out, set := &RuleTrial{Rules: rules}, rule.Only(rules...)
	for _, p := range k.everyWard() {
		d := p.Says()
		if d == nil || d.Snapshot == "" {
			if d == nil || d.Waits == "" {
				out.Unread = append(out.Unread, p.ID)
			}
			continue
		}
		if err := k.tryOn(ctx, p, d, set, out); err != nil {
			return nil, err
		}
		if len(out.Findings) > mostFound {
			return nil, fault(Invalid, "more than %d objects break it; narrow what it looks at, or whom it is for (vigila.dev/for)", mostFound)
		}
	}
	inOrder(out.Findings)
	return out, nil
}

// tryOn holds one ward against rules.
func (k *Keeper) tryOn(ctx context.Context, p *placement, d *declared.Declaration, set *rule.Set, out *RuleTrial) error {
	whole, err := k.store.Snapshot(ctx, d.Snapshot)
	if err != nil {
		return fmt.Errorf("read what %s declares: %w", p.ID, err)
	}
	objects := make([]object.Object, len(whole))
	for i, w := range whole {
		objects[i] = w.Object
		if o := d.Find(w.Object.Ref); o != nil {
			objects[i].File, objects[i].Line = o.File, o.Line
		}
	}
	facts, _, err := near{p.cluster}.Facts(ctx)
	if err != nil {
		facts = render.Cluster{Name: p.Cluster, Labels: p.cluster.labels()}
	}
	own, err := render.WardDocument(*p.Ward, p.Source, p.File)
	if err != nil {
		own = nil // its file says so itself
	}
	out.Wards++
	out.Objects += len(objects)
	for _, f := range set.Judge(render.RuleFacts(*p.Ward, p.Roster, facts), objects, own) {
		f.Text = secret.Conceal("", f.Text, k.mask)
		out.Findings = append(out.Findings, FindingNow{Ward: p.ID, Finding: f})
	}
	return nil
}
