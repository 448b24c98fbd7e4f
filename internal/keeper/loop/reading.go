package loop

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"vigila.dev/vigila/internal/core/canary"
	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/record"
)

func (p *Placement) tookIn(ev WasRead) {
	p.taking++
	p.looks.last[ev.Name] = ev.AsOf
	if ev.Name == p.Ward.From.Repo {
		p.repository.Next = ev.AsOf.Next
	}
	if ev.AsOf.Known {
		p.render(ev.AsOf)
		return
	}
	if !p.rendering {
		p.taken(p.taking)
	}
	p.notRead(ev.AsOf.Problem)
	p.away = ev.Name
	p.looked()
}

// taken notes that so many looks have been taken in.
func (p *Placement) taken(n int64) {
	p.hears.Taken.Add(n)
	p.taking -= n
}

func (p *Placement) foundSame(ev WasSame) {
	p.looks.last[ev.Name] = ev.AsOf
	// What could not be rendered then may be now, and a chart may see more of the cluster than it did.
	if p.declared == nil || !p.repository.Known || p.declared.Form == declared.Chart {
		p.repository.Next = ev.AsOf.Next
		p.render(ev.AsOf)
		return
	}
	if ev.Name == p.Ward.From.Repo {
		p.repository.At, p.repository.Next = ev.AsOf.At, ev.AsOf.Next
	}
}

// outdated tells that what is said of a repository that could not be reached is over, however long it takes to read what it declares.
func (p *Placement) outdated() bool { return p.away != "" && p.looks.last[p.away].Known }

// notRead notes why what the ward declares can't be read.
func (p *Placement) notRead(problem string) {
	p.repository.Known, p.repository.Problem = false, problem
	p.away = ""
}

// elsewhere is the first of the ward's other repositories that can't be read, and why; "" when all can.
func (p *Placement) elsewhere() (name, problem string) {
	for _, name := range p.Ward.Reads() {
		if a, told := p.looks.last[name]; told && !a.Known {
			return name, a.Problem
		}
	}
	return "", ""
}

func (p *Placement) looked() {
	if p.rendering {
		return
	}
	for _, t := range p.looking {
		p.out(Answer{Ticket: t})
	}
	p.looking = nil
}

// render has the ward's revision resolved and, when its tree is another, read and rendered; one at a time.
func (p *Placement) render(a standing.AsOf) {
	if p.rendering {
		p.renderNext = true
		return
	}
	if p.rendering = true; p.renderFrom.IsZero() {
		p.renderFrom = p.at
		p.out(Later{p.long(), Woken{}}) // by then it is said
	}
	old := p.declared
	if old == nil {
		old = p.stored
	}
	p.out(Read{a, old, p.taking}) // what comes while it is rendered is taken in by the next rendering
}

// long is how long what it declares may be read before that is spoken of.
func (p *Placement) long() time.Duration {
	if p.declared.Known() {
		return standing.ReadLong
	}
	return standing.RenderLong
}

// tookRendering takes in what was read.
func (p *Placement) tookRendering(ev Rendered) {
	p.rendering = false
	p.rendered(ev.AsOf, ev.Declared, ev.Failed)
	if ev.Failed == nil {
		p.renderFrom = time.Time{} // what is read next is another thing
	}
	if p.renderNext {
		p.taken(ev.Told)
		p.renderNext = false
		p.render(ev.AsOf)
	} else {
		p.renderFrom = time.Time{}
		p.taken(p.taking)
	}
	p.looked()
}

func (p *Placement) rendered(a standing.AsOf, d *declared.Declaration, failed *Unreadable) {
	if failed != nil {
		p.heldBack = ""
		switch {
		case failed.HeldBack: // it was read well, and is not let in
			p.heldBack = failed.Text
			p.readAt(a)
			p.repository.Known = p.declared != nil
		case failed.Unasked:
			if p.repository.Known = false; p.repository.Problem == "" || p.outdated() {
				p.notRead(failed.Text)
			}
			p.out(Later{rereadPause, ReadAgain{a}})
		case failed.Unchecked:
			p.notRead("its kinds can't be checked: " + failed.Text)
			if p.Reach.Down() == nil {
				p.out(Later{rereadPause, ReadAgain{a}})
			}
		default:
			p.notRead(failed.Text)
		}
		return
	}
	if p.declared == nil || p.declared.Revision.ID != d.Revision.ID {
		p.will.Failures = 0
	}
	d.Share(p.index.Baselines())
	p.declared, p.stored, p.heldBack = d, nil, ""
	p.says.Store(d)
	p.idle = p.meansNothing(d)
	p.out(Use{Places(d)})
	if d.Files != nil || len(p.index.Rules) > 0 {
		p.setRules(d)
	}
	p.readAt(a)
	if name, problem := p.elsewhere(); name != "" {
		p.notRead(problem)
		p.away = name
	}
	if p.Reach.Down() == nil {
		for _, k := range d.Kinds {
			p.watchKind(k)
		}
		p.dropKinds()
	}
}

// problem is why what the ward declares can't be read, as far as that holds still.
func (p *Placement) problem() string {
	if p.outdated() && p.rendering {
		return ""
	}
	return p.repository.Problem
}

// notReadYet is said of what is being read, or waits for that.
const notReadYet = "the repository has not been read yet"

// readAt notes that what the ward declares was read, as of a look.
func (p *Placement) readAt(a standing.AsOf) {
	p.repository = standing.AsOf{Known: true, At: a.At, Next: p.repository.Next}
	p.away = ""
}

// meansNothing lists what the ward file, or a health rule beside the ward's objects, says of objects that are not declared.
func (p *Placement) meansNothing(d *declared.Declaration) (out []string) {
	if !d.Known() {
		return nil
	}
	refs := make([]object.Ref, len(d.Objects))
	for i, o := range d.Objects {
		refs[i] = o.Ref
	}
	for _, l := range p.Ward.Idle(refs) {
		out = append(out, fmt.Sprintf("leave means %s, and nothing of that name is declared", l.Of()))
	}
	for _, c := range p.Ward.Canary {
		if !slices.ContainsFunc(refs, func(ref object.Ref) bool { return canary.Means(c.Of, ref) }) {
			out = append(out, fmt.Sprintf("canary means %s, and nothing of that name is declared", c.Of))
		}
	}
	for _, c := range p.Ward.Canary {
		if text := p.Ward.NoCheck(c, d.Checks); text != "" {
			out = append(out, text)
		}
	}
	own := map[string]bool{}
	for _, f := range d.Files { // those for the whole repository may be for others
		if p.Ward.From.Path != "" && (f.Path == p.Ward.From.Path || strings.HasPrefix(f.Path, p.Ward.From.Path+"/")) {
			own[path.Base(f.Path)] = true
		}
	}
	for _, r := range d.Rules {
		file, _, _ := strings.Cut(r.At, ":")
		if own[file] && !slices.ContainsFunc(refs, func(x object.Ref) bool { return x.Group == r.Group && x.Kind == r.Kind }) {
			out = append(out, fmt.Sprintf("the health rule at %s is for %s, and none is declared", r.At, r.Kind))
		}
	}
	slices.Sort(out)
	return out
}

// strangers lists the wards of after that are not in the cluster, so that they would be waited for for ever.
func (p *Placement) strangers() (out []string) {
	for _, name := range p.Ward.After {
		if id := ward.ID(name, p.Cluster); p.Others.Neighbour(id) == nil {
			out = append(out, "after means "+id+", which is not known")
		}
	}
	return out
}

// setRules takes newly read health rules; what they say of objects is known with their next event, so those of their
// kinds are looked at again.
func (p *Placement) setRules(d *declared.Declaration) {
	old := p.index.Rules
	p.index.Rules = d.Rules
	p.write(record.SetRules{Files: d.Files})
	for ref := range p.index.All() {
		k := [2]string{ref.Group, ref.Kind}
		if p.index.Known(ref) != nil && (old[k] != nil || d.Rules[k] != nil) {
			p.index.Judge(p.at, ref)
		}
	}
}

// rereadPause is how long it takes until what could not be checked against the cluster is read again.
const rereadPause = 2 * time.Second
