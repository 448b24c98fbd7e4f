package keeper

import (
	"fmt"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/keeper/loop"
)

// The bounds of a comment: it is read by people.
const (
	maxCommentWards   = 30
	maxCommentFields  = 20 // of a ward
	maxCommentValue   = 120
	maxCommentMessage = 400
)

// effectText is an effect as a comment in Markdown. What comes from a repository stands as code, so that it can't mention anybody or be
// anything else.
func effectText(e *Effect, link string) string {
	var b strings.Builder
	line := func(format string, args ...any) {
		b.WriteString(strings.TrimRight(fmt.Sprintf(format, args...), " ") + "\n")
	}
	line("**What this does to the clusters**, with %s on top of %s of %s", code(short(e.HeadAt)), code(short(e.BaseAt)), code(e.Base))
	line("")
	switch {
	case len(e.Conflicts) > 0:
		line("It does not go together with %s, which has changed these as well:", code(e.Base))
		for _, f := range e.Conflicts {
			line("- %s", code(f))
		}
		return b.String()
	case len(e.Wards) == 0:
		line("It changes no ward. %s", othersStay(e.Same))
	default:
		line("It changes %s. %s", counted(len(e.Wards), "ward"), othersStay(e.Same))
	}
	for _, p := range e.Problems {
		line("- ▲ %s: %s", code(fmt.Sprintf("%s:%d", p.File, p.Line)), code(p.Text))
	}
	for i, w := range e.Wards {
		if i == maxCommentWards {
			line("\nand %s more.", counted(len(e.Wards)-i, "ward"))
			break
		}
		wardText(line, w, link)
	}
	return b.String()
}

func short(r Revision) string { return fmt.Sprintf("%.7s", r.ID) }

func counted(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

func othersStay(same int) string {
	switch same {
	case 0:
		return ""
	case 1:
		return "1 other ward reads what it changes, and stays as it is."
	}
	return fmt.Sprintf("%d other wards read what it changes, and stay as they are.", same)
}

func wardText(line func(string, ...any), w WardEffect, link string) {
	name := code(w.ID)
	if link != "" && w.Change != compare.Added {
		name = fmt.Sprintf("[%s](%s/wards/%s)", w.ID, link, w.ID)
	}
	said := map[compare.Change]string{compare.Added: " is new", compare.Removed: " goes: its file is gone, or it goes elsewhere. Its objects stay, and are listed as left behind"}[w.Change]
	if w.Dismantles {
		said = " goes: its file is gone, or it goes elsewhere. Its objects are removed with it, as its file says (keep.on_removal: dismantle)"
	}
	line("\n### %s%s", name, said)
	wrong := func(format string, args ...any) { line("- ▲ "+format, args...) }
	if w.Problem != "" {
		wrong("It could not be read any more: %s", code(w.Problem))
		return
	}
	if w.Waits != "" {
		wrong("It would declare nothing: it %s", code(w.Waits))
	}
	for _, f := range w.Breaks {
		if !slices.ContainsFunc(w.Guards, func(g plan.Guard) bool { return g.Name == loop.RuleGuard+f.Rule }) {
			line("- It would break rule %s, which %s: %s", code(f.Rule), map[bool]string{true: "refuses its next change", false: "warns"}[f.Refuse], code(f.Ref.Short()+": "+f.Text))
		}
	}
	for _, g := range w.Guards {
		wrong("Guard %s stops it: %s", code(g.Name), code(g.Text))
	}
	for ref, says := range w.Refused {
		wrong("%s would be refused: %s", code(ref.Kind+" "+ref.Name), code(says))
	}
	for _, c := range w.Canaries {
		line("- %s is released in shares", code(c.Of))
	}
	if w.Untried != "" {
		line("- It was not tried out on the API server: %s", code(w.Untried))
	}
	if len(w.Objects) == 0 {
		line("No object changes.")
		return
	}
	line("\n| object | field | now | then |\n|---|---|---|---|")
	rows := 0
	for _, o := range w.Objects {
		object := code(o.Ref.Kind + " " + o.Ref.Name)
		if o.Change != compare.Changed {
			line("| %s | %s | | |", object, map[compare.Change]string{compare.Added: "new", compare.Removed: "gone"}[o.Change])
			rows++
			continue
		}
		for _, f := range o.Fields {
			if rows++; rows > maxCommentFields {
				break
			}
			line("| %s | %s | %s | %s |", object, code(f.Path), valueText(f.From, f.Change == compare.Added), valueText(f.To, f.Change == compare.Removed))
		}
	}
	if rows > maxCommentFields {
		line("\nand more fields.")
	}
}

func valueText(v any, none bool) string {
	if none || v == nil {
		return "nothing"
	}
	text := fmt.Sprint(v)
	if r := []rune(text); len(r) > maxCommentValue {
		text = string(r[:maxCommentValue]) + "…"
	}
	return code(text)
}

// code is a text as a code span of Markdown (CommonMark 0.31, section 6.1), which also stands in a table.
func code(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' {
			return ' '
		}
		return r
	}, text)
	if r := []rune(text); len(r) > maxCommentMessage {
		text = string(r[:maxCommentMessage]) + "…"
	}
	text = strings.ReplaceAll(text, "|", "¦") // which would end a cell, even in a span
	longest, run := 0, 0
	for _, r := range text {
		if r == '`' {
			run++
			longest = max(longest, run)
		} else {
			run = 0
		}
	}
	fence := strings.Repeat("`", longest+1)
	if longest > 0 || text == "" || strings.TrimSpace(text) != text {
		return fence + " " + text + " " + fence
	}
	return fence + text + fence
}
