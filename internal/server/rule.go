package server

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/keeper"
)

// ListRules is GET /rules.
func (s *server) ListRules(c *gin.Context, q ListRulesParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	out := RuleList{Items: []Rule{}}
	for _, r := range s.Keeper.Rules() {
		if (!q.Holding || !r.Off()) && holds(q.Search, append([]string{r.Name, r.Book, r.Why, r.Means(), string(r.Otherwise)}, r.Wards...)...) {
			out.Items = append(out.Items, ruleOf(r))
		}
	}
	out.Total = len(out.Items)
	out.Items = slice(out.Items, limit, offset)
	c.JSON(http.StatusOK, out)
}

// GetRule is GET /rules/{name}.
func (s *server) GetRule(c *gin.Context, name ItemName) {
	answer(s, c, func(all []keeper.RuleNow) RuleList {
		out := RuleList{Items: []Rule{}, Total: len(all)}
		for _, r := range all {
			x := ruleOf(r)
			x.Text = r.Text
			out.Items = append(out.Items, x)
		}
		return out
	})(s.Keeper.Rule(name))
}

func ruleOf(r keeper.RuleNow) Rule {
	out := Rule{Name: r.Name, Book: r.Book, Ours: r.Ours, Off: r.Off(), Says: string(r.Otherwise), Why: r.Why, Instead: r.Mend, LooksAt: r.Means(), ForWhom: r.For.String(), UsedBy: r.Wards,
		Breaking: r.Refused, WarnedOf: r.Warned, LetBe: r.Excepted, LetBeEnded: r.Ended}
	switch {
	case r.File != "":
		out.DeclaredAt = fmt.Sprintf("%s:%d", r.File, r.Line)
	case r.BookFile != "":
		out.DeclaredAt = r.BookFile
	}
	if out.UsedBy == nil {
		out.UsedBy = []string{}
	}
	return out
}

// ListFindings is GET /findings.
func (s *server) ListFindings(c *gin.Context, q ListFindingsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	all, err := s.Keeper.Findings(q.Ward)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := FindingList{Items: []Finding{}}
	for _, f := range all {
		switch {
		case f.Excepted:
			out.LetBe++
		case f.Refuse:
			out.Breaking++
		default:
			out.WarnedOf++
		}
		if (q.Rule == "" || q.Rule == f.Rule) && (!q.Refused || f.Refuses()) && holds(q.Search, f.Ward, f.Rule, f.Book, f.Ref.String(), f.File, f.Text) {
			out.Items = append(out.Items, findingOf(f))
		}
	}
	out.Total = len(out.Items)
	out.Items = slice(out.Items, limit, offset)
	c.JSON(http.StatusOK, out)
}

func findingOf(f keeper.FindingNow) Finding {
	out := Finding{Ward: f.Ward, Rule: f.Rule, Book: f.Book, Says: string(rule.Warn), Kind: f.Ref.Kind, Namespace: f.Ref.Namespace, Name: f.Ref.Name, File: f.File, Line: f.Line, Text: f.Text, Instead: f.Mend, Unclear: f.Unclear}
	switch {
	case f.Excepted:
		out.Says = "excepted"
	case f.Refuse:
		out.Says = string(rule.Refuse)
	}
	if e := f.Except; e != nil {
		out.Exception = RuleException{Why: e.Why, Owner: e.Owner, LastDay: e.Day(), HasEnded: !f.Excepted}
	}
	return out
}

// TryRules is POST /rules/try.
func (s *server) TryRules(c *gin.Context) {
	in, ok := body[TryRules](c)
	if !ok {
		return
	}
	answer(s, c, func(t *keeper.RuleTrial) RuleTrial {
		out := RuleTrial{Rules: []string{}, WardsTried: t.Wards, ObjectsTried: t.Objects, Unread: t.Unread, Items: []Finding{}}
		for _, r := range t.Rules {
			out.Rules = append(out.Rules, r.Name)
		}
		slices.SortFunc(out.Rules, strings.Compare)
		for _, f := range t.Findings {
			out.Items = append(out.Items, findingOf(f))
		}
		return out
	})(s.Keeper.TryRules(c.Request.Context(), in.File, in.Text))
}
