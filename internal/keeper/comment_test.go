package keeper

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/plan"
	"vigila.dev/vigila/internal/core/roster"
)

func TestWhatIsQuotedStandsAsCode(t *testing.T) {
	for text, want := range map[string]string{
		"a":            "`a`",
		"":             "`  `",
		" a":           "`  a `",
		"a`b":          "`` a`b ``",
		"``":           "``` `` ```",
		"a|b":          "`a¦b`",
		"@everybody":   "`@everybody`",
		"a\nb\x1b[31m": "`a b [31m`",
	} {
		assert.Equal(t, want, code(text))
	}
	assert.Len(t, []rune(code(strings.Repeat("é", 9000))), maxCommentMessage+3)
}

// TestACommentTellsTheEffect, whatever is in it: each line that a repository has a say in stands as code.
func TestACommentTellsTheEffect(t *testing.T) {
	ref := object.Ref{Kind: "ConfigMap", Name: "fares"}
	e := &Effect{Base: "main", Same: 2, Problems: []roster.Problem{{File: "w.yaml", Line: 3, Text: "unknown key frm @all"}}, Wards: []WardEffect{
		{ID: "gate@quay", Change: compare.Changed, Objects: []compare.Moved{
			{Ref: ref, Change: compare.Changed, Fields: []compare.Difference{{Path: "data.zones", Change: compare.Changed, From: "3", To: "a|b\n| ![x](y) <script>"}, {Path: "data.new", Change: compare.Added, To: "1"}}},
			{Ref: object.Ref{Kind: "Service", Name: "gate"}, Change: compare.Removed}}},
		{ID: "tide@quay", Change: compare.Changed, Problem: "c.yaml:3: not YAML"},
		{ID: "bell@quay", Change: compare.Added, Guards: []plan.Guard{{Name: "mass-removal", Text: "five of seven"}}, Refused: map[object.Ref]string{ref: "no"}, Untried: "its cluster does not answer"}}}
	e.BaseAt.ID, e.HeadAt.ID = "1734be7aaaa", "bcdd80caaaa"
	text := effectText(e, "https://vigila.brindle.example")
	for _, want := range []string{"with `bcdd80c` on top of `1734be7` of `main`\n", "It changes 3 wards. 2 other wards read what it changes, and stay as they are.", "- ▲ `w.yaml:3`: `unknown key frm @all`",
		"### [gate@quay](https://vigila.brindle.example/wards/gate@quay)", "| `ConfigMap fares` | `data.zones` | `3` | `a¦b ¦ ![x](y) <script>` |", "| `ConfigMap fares` | `data.new` | nothing | `1` |", "| `Service gate` | gone | | |",
		"It could not be read any more: `c.yaml:3: not YAML`", "### `bell@quay` is new", "Guard `mass-removal` stops it: `five of seven`", "`ConfigMap fares` would be refused: `no`", "It was not tried out on the API server: `its cluster does not answer`"} {
		assert.Contains(t, text, want)
	}
	assert.Contains(t, effectText(&Effect{Base: "main", Conflicts: []string{"a.yaml"}}, ""), "It does not go together with `main`, which has changed these as well:\n- `a.yaml`")
	assert.Contains(t, effectText(&Effect{Base: "main"}, ""), "It changes no ward.\n")
	many := &Effect{Wards: make([]WardEffect, 40)}
	assert.Contains(t, effectText(many, ""), "and 10 wards more.")
}
