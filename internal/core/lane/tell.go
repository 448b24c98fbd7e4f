package lane

import (
	"fmt"
	"strings"
)

// Describe says in some lines what a lot would change at a stop: its own change first, and then, apart, what would come along with it.
func (l Lots) Describe(number int, stop string, changes []Change) string {
	var own, along []string
	for _, c := range changes {
		row := fmt.Sprintf("  %s  %s", c.At(stop), c.What())
		if !c.Unseen() {
			own = append(own, row)
			continue
		}
		along = append(along, row+"  ("+c.Whose(l, number)+")")
	}
	var out []string
	if len(own) > 0 {
		out = append(out, fmt.Sprintf("Changed by lot %d at %s:", number, stop))
		out = append(out, own...)
	}
	if len(along) > 0 {
		out = append(out, fmt.Sprintf("What comes along with it at %s:", stop))
		out = append(out, along...)
	}
	if len(out) == 0 {
		return stop + " has all of it already."
	}
	return strings.Join(out, "\n")
}

// What is how a thing changes: a version to another, a file that is changed, added or removed.
func (c Change) What() string {
	switch {
	case c.Of != "" && c.From == "":
		return "to " + short(c.To)
	case c.Of != "" && c.To == "":
		return short(c.From) + " is taken away"
	case c.Of != "":
		from, to := short(c.From), short(c.To)
		if from == to { // another digest of the same tag
			from, to = digest(c.From), digest(c.To)
		}
		return from + " to " + to
	case c.From == "":
		return "added"
	case c.To == "":
		return "removed"
	}
	return "changed"
}

// short is a version without its digest, where it has a tag.
func short(version string) string {
	tag, _, _ := strings.Cut(version, " ")
	return digest(tag)
}

// digest is a digest as far as people read it.
func digest(version string) string {
	at := strings.Index(version, "sha")
	if i := strings.Index(version, ":"); at >= 0 && i > at && len(version) > i+13 {
		return version[:i+13]
	}
	return version
}

// Whose tells why a change is more than the lot's own.
func (c Change) Whose(l Lots, number int) string {
	var of []string
	for _, n := range c.Lots {
		if x, known := l.Lot(n); known {
			of = append(of, strings.TrimSpace(fmt.Sprintf("lot %d %s", n, x.Subject)))
		}
	}
	back := len(c.Lots) > 0 && c.Lots[len(c.Lots)-1] > number
	switch {
	case c.ByHand:
		return "changed here by hand, which is undone"
	case back:
		return "takes back " + strings.Join(of, ", ")
	case len(of) > 0:
		return "of " + strings.Join(of, ", ") + ", never let in here"
	}
	return "not as any lot had it"
}
