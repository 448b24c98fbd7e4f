package server

import (
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/express"
	"vigila.dev/vigila/internal/core/kit"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper"
)

func kitOf(x keeper.Kit) Kit {
	out := Kit{Name: x.Name, About: strings.TrimSpace(x.About), Owner: x.Owner, Switched: x.Switch != nil, Repo: x.Repo, Branch: x.Ref, Roster: x.Roster, DeclaredAt: fmt.Sprintf("%s:%d", path.Join(x.Dir, kit.FileName), x.Line), Fits: x.Clusters}
	if x.Name == kit.FromChart {
		out.DeclaredAt, out.Follows = "brought along by Vigila", true
	}
	if x.Switch != nil {
		out.Requires = x.Switch.Needs
	} else {
		out.Repo, out.Branch = x.Target()
	}
	return out
}

// sectionsOf are the parameters of a kit, under the titles that they are asked for.
func sectionsOf(x keeper.Kit) []FormSection {
	var out []FormSection
	rest := slices.Clone(x.Order)
	for _, g := range x.Groups {
		out = append(out, FormSection{Title: g.Title, OfParameters: g.Of})
		rest = slices.DeleteFunc(rest, func(name string) bool { return slices.Contains(g.Of, name) })
	}
	if len(rest) > 0 {
		title := ""
		if len(out) > 0 {
			title = "Beside that"
		}
		out = append(out, FormSection{Title: title, OfParameters: rest})
	}
	return out
}

// ListKits is GET /kits.
func (s *server) ListKits(c *gin.Context, q ListKitsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []Kit{}
	for _, x := range s.Keeper.SeenKits(who(c)) {
		if holds(q.Search, x.Name, x.About, x.Owner) {
			items = append(items, kitOf(x))
		}
	}
	c.JSON(http.StatusOK, KitList{Total: len(items), Items: slice(items, limit, offset)})
}

// GetKit is GET /kits/{name}.
func (s *server) GetKit(c *gin.Context, name ItemName) {
	x, err := s.Keeper.SeenKit(who(c), name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, s.formOf(c, x))
}

// GetKitForm is POST /kits/{name}/form.
func (s *server) GetKitForm(c *gin.Context, name ItemName) {
	if in, ok := body[KitWish](c); ok {
		answer(s, c, func(x keeper.Kit) Kit { return s.formOf(c, x) })(s.Keeper.KitForm(c, who(c), name, wishOf(name, in).Values))
	}
}

// formOf is a kit with all that its form needs.
func (s *server) formOf(c *gin.Context, x keeper.Kit) Kit {
	out := kitOf(x)
	out.Parameters, out.Sections, out.Choices = x.Parameters, sectionsOf(x), s.Keeper.Choices(x)
	all, _ := s.Keeper.Makings(c, who(c)) // what can't be read is told where they are listed
	for _, m := range all {
		if m.Kit == x.Name {
			out.Things++
		}
	}
	return out
}

func wishOf(name string, in KitWish) keeper.KitWish {
	given, _ := express.Whole(in.Given).(map[string]any)
	if given == nil {
		given = map[string]any{}
	}
	return keeper.KitWish{Kit: name, Made: in.ChangeOf, Place: in.Place, Use: in.Use, Values: given}
}

// TryKit is POST /kits/{name}/try.
func (s *server) TryKit(c *gin.Context, name ItemName) {
	in, ok := body[KitWish](c)
	if !ok {
		return
	}
	answer(s, c, func(t *keeper.KitTry) KitTry {
		out := KitTry{Completed: t.Values, Mistakes: []ValueMistake{}, Path: t.Path, Links: t.Links, Conflicts: t.Conflicts}
		if out.Completed == nil {
			out.Completed = map[string]any{}
		}
		if out.Conflicts == nil {
			out.Conflicts = []string{}
		}
		for _, m := range t.Mistakes {
			at := m.At
			if at == nil {
				at = []string{}
			}
			out.Mistakes = append(out.Mistakes, ValueMistake{AtValue: at, Says: strings.TrimPrefix(m.Text, ": ")})
		}
		if t.Effect != nil {
			out.Effect = effectOf(t.Effect)
		}
		return out
	})(s.Keeper.TryKit(c.Request.Context(), who(c), wishOf(name, in))) // whoever types on lets go of it
}

// ProposeKit is POST /kits/{name}/proposals.
func (s *server) ProposeKit(c *gin.Context, name ItemName) {
	if in, ok := body[KitWish](c); ok {
		answer(s, c, proposalOf)(do(s, c, keeper.ProposeKit{KitWish: wishOf(name, in), Title: in.Title, Why: in.Why}))
	}
}

// RenewKit is POST /kits/{name}/renew.
func (s *server) RenewKit(c *gin.Context, name ItemName) {
	in, ok := body[RenewKit](c)
	if !ok {
		return
	}
	answer(s, c, func(all []keeper.Renewal) RenewalList {
		out := RenewalList{Items: []Renewal{}}
		for _, r := range all {
			out.Items = append(out.Items, Renewal{Path: r.Made, Proposal: r.Proposal, Says: r.Says})
		}
		return out
	})(do(s, c, keeper.RenewKit{Kit: name, Made: in.Only}))
}

// ListMade is GET /made.
func (s *server) ListMade(c *gin.Context, q ListMadeParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	all, err := s.Keeper.Makings(c, who(c))
	items := []Made{}
	for _, m := range all {
		if (q.Kit == "" || m.Kit == q.Kit) && (q.Path == "" || m.Path == q.Path) && holds(q.Search, append(slices.Clone(m.Wards), m.Path, m.Kit)...) {
			one := Made{Path: m.Path, Repo: m.Repo, Branch: m.Ref, Kit: m.Kit, Commit: m.At, Given: m.With, Other: m.Other, OfWards: m.Wards}
			if one.Given == nil {
				one.Given = map[string]any{}
			}
			items = append(items, one)
		}
	}
	out := MadeList{Total: len(items), Items: slice(items, limit, offset)}
	if err != nil && who(c).Rights.All() {
		out.Problem = err.Error()
	}
	c.JSON(http.StatusOK, out)
}

// ListComponents is GET /components.
func (s *server) ListComponents(c *gin.Context, q ListComponentsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []Component{}
	for _, x := range s.Keeper.Components(who(c)) {
		if (q.Cluster == "" || slices.Contains(x.Where, q.Cluster)) && holds(q.Search, x.Kit.Name, x.Place, x.Kit.About) {
			items = append(items, s.componentOf(c, x))
		}
	}
	c.JSON(http.StatusOK, ComponentList{Total: len(items), Items: slice(items, limit, offset)})
}

func (s *server) componentOf(c *gin.Context, x keeper.Component) Component {
	out := Component{Kit: x.Kit.Name, About: strings.TrimSpace(x.Kit.About), Place: x.Place, InClusters: x.Where, Stated: x.Listed, Use: x.On, Given: x.With, Requires: x.Kit.Switch.Needs, DeclaredIn: x.File, Problem: x.Problem}
	if out.Requires == nil {
		out.Requires = []string{}
	}
	if out.InClusters == nil {
		out.InClusters = []string{}
	}
	for _, v := range s.Keeper.Seen(who(c)) {
		if v.Ward.Name == x.Ward && slices.Contains(x.Where, v.Cluster) {
			out.Kept = append(out.Kept, keptComponentOf(v))
		}
	}
	slices.SortFunc(out.Kept, func(a, b KeptComponent) int { return strings.Compare(a.Ward, b.Ward) })
	return out
}

func keptComponentOf(v *standing.View) KeptComponent {
	return KeptComponent{Ward: v.ID, Standing: Standing(v.Standing), Health: Health(v.Health.Word), Says: v.Says, NeedsYou: v.NeedsYou}
}
