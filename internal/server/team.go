package server

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/document"
	"vigila.dev/vigila/internal/core/grant"
	"vigila.dev/vigila/internal/keeper"
)

// veiled keeps an answer back until it is whole, to take out of it what whoever asks may not see.
type veiled struct {
	gin.ResponseWriter
	body   *bytes.Buffer
	stream bool
}

// bodies are answers that are kept back, used again and again: a long list would be made anew for every member who asks.
var bodies = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// maxKept is how large one may be to be used again, in bytes.
const maxKept = 4 << 20

func (v *veiled) isJSON() bool { return strings.Contains(v.Header().Get("Content-Type"), "json") }

func (v *veiled) Write(b []byte) (int, error) {
	if v.stream || !v.isJSON() {
		v.stream = true
		return v.ResponseWriter.Write(b)
	}
	return v.body.Write(b)
}

func (v *veiled) WriteString(s string) (int, error) { return v.Write([]byte(s)) }

// veil lets a member's answers go out without the names of wards that they don't see: those of one that theirs waits for, or that keeps what theirs wants.
func (s *server) veil(c *gin.Context) {
	w := who(c)
	if w.Rights.All() {
		return
	}
	v := &veiled{ResponseWriter: c.Writer, body: bodies.Get().(*bytes.Buffer)}
	defer func() {
		if v.body.Cap() <= maxKept {
			v.body.Reset()
			bodies.Put(v.body)
		}
	}()
	c.Writer = v
	defer func() { c.Writer = v.ResponseWriter }() // also where something panics, which is answered outside
	c.Next()
	if v.body.Len() > 0 {
		_, _ = v.ResponseWriter.Write(s.Keeper.Veil(w, v.body.Bytes())) // a reader who has left
	}
}

func rightsOf(all []grant.Grant) (out []Rights) {
	for _, g := range all {
		r := Rights{Verbs: []Verb{}, OfWards: g.Wards.Names, OfOwners: g.Wards.Owners, OfClusters: g.Wards.Clusters, OfRosters: g.Wards.Rosters, OfLanes: g.Lanes, AtStops: g.Stops, OfGuards: g.Guards, ByKits: g.Kits, OfRepos: g.Repos}
		for _, v := range g.Do {
			r.Verbs = append(r.Verbs, Verb(v))
		}
		out = append(out, r)
	}
	return out
}

// grantsOf reads what a token is to be given; a verb that there is not stays as it is, and is refused where it is made.
func grantsOf(all []Rights) (out []grant.Grant) {
	for _, r := range all {
		g := grant.Grant{Wards: document.Wards{Names: r.OfWards, Owners: r.OfOwners, Clusters: r.OfClusters, Rosters: r.OfRosters}, Lanes: r.OfLanes, Stops: r.AtStops, Guards: r.OfGuards, Kits: r.ByKits, Repos: r.OfRepos}
		for _, v := range r.Verbs {
			g.Do = append(g.Do, grant.Verb(v))
		}
		out = append(out, g)
	}
	return out
}

func teamOf(t grant.Team) Team {
	out := Team{Name: t.Name, About: t.About, Members: []string{}, Rights: rightsOf(t.May), Roster: t.Roster}
	if t.Roster != "" {
		out.DeclaredAt = fmt.Sprintf("%s:%d", t.File, t.Line)
	}
	for _, g := range t.Members.Groups {
		out.Members = append(out.Members, "group:"+g)
	}
	for _, u := range t.Members.Users {
		out.Members = append(out.Members, "user:"+u)
	}
	return out
}

// ListTeams is GET /teams.
func (s *server) ListTeams(c *gin.Context, q ListTeamsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []Team{}
	for _, t := range s.Keeper.Teams() {
		x := teamOf(t)
		texts := append([]string{x.Name, x.About}, x.Members...)
		for _, r := range x.Rights {
			for _, v := range r.Verbs {
				texts = append(texts, string(v))
			}
			for _, all := range [][]string{r.OfWards, r.OfOwners, r.OfClusters, r.OfRosters, r.OfLanes, r.AtStops, r.OfGuards, r.ByKits, r.OfRepos} {
				texts = append(texts, all...)
			}
		}
		if holds(q.Search, texts...) {
			items = append(items, x)
		}
	}
	c.JSON(http.StatusOK, TeamList{Total: len(items), Items: slice(items, limit, offset)})
}

// PutTeam is POST /teams.
func (s *server) PutTeam(c *gin.Context) {
	in, ok := body[PutTeam](c)
	if !ok {
		return
	}
	if in.Name == "" {
		in.Name = "team.yaml"
	}
	answer(s, c, func(names []string) TeamNames { return TeamNames{Items: names} })(do(s, c, keeper.PutTeam{File: in.Name, Text: in.File}))
}

// RemoveTeam is DELETE /teams/{name}.
func (s *server) RemoveTeam(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveTeam{Name: name})
}

// Decide is GET /may.
func (s *server) Decide(c *gin.Context, q DecideParams) {
	if (q.Ward == "") == (q.Lane == "") && (q.Kit == "" || q.Ward != "") {
		problem(c, http.StatusBadRequest, "The question can't be read", "name a ward, a lane or a kit")
		return
	}
	answer(s, c, func(all []keeper.Decided) DecisionList {
		out := DecisionList{Items: []Decision{}}
		for _, d := range all {
			out.Items = append(out.Items, Decision{Name: d.Who, OfWhat: d.To, May: d.May, Why: d.Why})
		}
		return out
	})(s.Keeper.Decide(c.Request.Context(), who(c), keeper.Asked{Who: q.Who, Verb: q.Verb, Ward: q.Ward, Lane: q.Lane, Stop: q.Stop, Guard: q.Guard, Kit: q.Kit}))
}
