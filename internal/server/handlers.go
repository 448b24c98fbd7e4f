package server

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/compare"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/logbook"
	"vigila.dev/vigila/internal/core/nearest"
	"vigila.dev/vigila/internal/core/roster"
	"vigila.dev/vigila/internal/core/run"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

const (
	defaultLimit = 100
	maxLimit     = 1000
)

// page checks and completes limit and offset.
func page(c *gin.Context, limit, offset int) (int, int, bool) {
	if limit == 0 && c.Query("limit") == "" {
		limit = defaultLimit
	}
	if limit < 1 || limit > maxLimit || offset < 0 {
		problem(c, http.StatusBadRequest, "The page can't be read", fmt.Sprintf("limit must be 1 to %d and offset 0 or more", maxLimit))
		return 0, 0, false
	}
	return limit, offset, true
}

// answer answers with what a call came to, as the API shows it, or with what went wrong.
func answer[T, A any](s *server, c *gin.Context, show func(T) A) func(T, error) {
	return func(v T, err error) {
		if err != nil {
			s.fail(c, err)
			return
		}
		c.JSON(http.StatusOK, show(v))
	}
}

// do makes a change for whoever asks. It is not cut short when they go away; and gin's own context is another request's by the time that a transaction lets go of it.
func do[T any](s *server, c *gin.Context, w keeper.Wish[T]) (T, error) {
	return keeper.Do(context.WithoutCancel(c.Request.Context()), s.Keeper, actor(c), w)
}

// actor is whoever asks, with what they may.
func actor(c *gin.Context) keeper.Actor {
	w := who(c)
	return keeper.Actor{Name: w.Name, Through: through(c), Person: w.Person(), Rights: &w.Rights}
}

// through is what somebody asks through, as far as a request tells: browsers say themselves that a page of the same origin asks, and so does the command line.
func through(c *gin.Context) string {
	switch {
	case c.GetHeader("Sec-Fetch-Site") == "same-origin":
		return "console"
	case strings.HasPrefix(c.GetHeader("User-Agent"), client):
		return "command line"
	}
	return "API"
}

// client is how the command line calls itself.
const client = "vigila/"

// done makes a change that has no answer.
func done(s *server, c *gin.Context, w keeper.Wish[keeper.Nothing]) {
	if _, err := do(s, c, w); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func slice[T any](all []T, limit, offset int) []T {
	from := min(offset, len(all))
	return all[from:min(from+limit, len(all))]
}

// GetMe is GET /me.
func (s *server) GetMe(c *gin.Context) {
	w := who(c)
	out := Me{Name: w.Name, Role: roleOf(w), Expires: w.Ends, Version: s.Version, Session: w.Session, Provider: w.Provider, Teams: w.Teams()}
	if text, cookie := credential(c); cookie {
		out.Csrf = csrfOf(text)
	}
	c.JSON(http.StatusOK, out)
}

// ListWards is GET /wards.
func (s *server) ListWards(c *gin.Context, q ListWardsParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	if who(c).Rights.All() { // to others, only what they see is there to be asked for
		if err := s.Keeper.Check(keeper.Filter{Cluster: q.Cluster, Owner: q.Owner, Roster: q.Roster}); err != nil {
			s.fail(c, err)
			return
		}
	}
	for _, f := range []struct {
		kind, word string
		known      []string
	}{{"standing", string(q.Standing), compare.Standings()}, {"health", string(q.Health), health.Words()}, {"group to fold by", string(q.Fold), []string{"cluster", "owner"}}} {
		if f.word != "" && !slices.Contains(f.known, f.word) {
			problem(c, http.StatusUnprocessableEntity, "This can't be taken", fmt.Sprintf("there is no %s %q; %s", f.kind, f.word, nearest.Words(f.word, f.known)))
			return
		}
	}
	words := strings.Fields(strings.ToLower(q.Search))
	all := s.Keeper.SeenLines(who(c))
	match := make([]*keeper.Line, 0, len(all))
	for _, l := range all {
		if q.wants(l) && matches(c, l, words) {
			match = append(match, l)
		}
	}
	out := WardList{Items: []Ward{}, Total: len(match), Groups: groupsOf(match)}
	for _, l := range match {
		if l.NeedsYou {
			out.NeedYou++
		}
		if l.Standing == compare.InStep {
			out.InStep++
		}
	}
	lines := match
	if group := groupers[string(q.Fold)]; group != nil {
		folded, rest := standing.Fold(match, func(l *keeper.Line) bool { return l.Quiet }, group)
		for i, g := range out.Groups {
			if quiet := folded[g.Name]; string(g.By) == string(q.Fold) && len(quiet) > 0 {
				out.Groups[i].Folded, out.Groups[i].Watch = len(quiet), stretchesOf(s.commons.of(string(q.Fold)+"/"+g.Name, quiet))
			}
		}
		lines, out.Folded = rest, len(match)-len(rest)
	}
	for _, l := range slice(lines, limit, offset) {
		w := wardOf(l.Now())
		w.Run.Objects = nil // one ward has them; a list with those of every run would be long
		out.Items = append(out.Items, w)
	}
	c.JSON(http.StatusOK, out)
}

// wants tells whether a ward is among those that are asked for, words aside.
func (q ListWardsParams) wants(l *keeper.Line) bool {
	is := func(want, have string) bool { return want == "" || want == have }
	return is(string(q.Standing), string(l.Standing)) && is(string(q.Health), string(l.Health)) && is(q.Cluster, l.Cluster) && is(q.Owner, l.Owner) && (!q.NeedsYou || l.NeedsYou) && (!q.Quiet || l.Quiet) &&
		(q.Roster == "" || q.Roster == l.View.Roster) && (!q.Held || l.View.Hold != nil)
}

// groupers tell which group a ward belongs to, by what they are grouped by.
var groupers = map[string]func(*keeper.Line) string{
	"cluster": func(l *keeper.Line) string { return l.Cluster },
	"owner":   func(l *keeper.Line) string { return l.Owner },
}

// groupsOf counts wards by cluster and by owner.
func groupsOf(all []*keeper.Line) (out []WardGroup) {
	for _, by := range []string{"cluster", "owner"} {
		group, at, last := groupers[by], map[string]int{}, -1
		for _, l := range all { // those of a cluster come one after the other, mostly
			name := group(l)
			if last < 0 || out[last].Name != name {
				i, known := at[name]
				if !known {
					i = len(out)
					at[name] = i
					out = append(out, WardGroup{By: WardGroupBy(by), Name: name})
				}
				last = i
			}
			out[last].Total++
			if l.Standing == compare.InStep {
				out[last].InStep++
			}
		}
	}
	return out
}

// matches tells whether every word of a search is somewhere in what is known of a ward, the names of its objects too.
func matches(ctx context.Context, l *keeper.Line, words []string) bool {
	names, asked := "", false
	for _, word := range words {
		if strings.Contains(l.Text, word) {
			continue
		}
		if !asked {
			var err error
			if names, err = l.Names(ctx); err != nil { // it has just been removed
				return false
			}
			asked = true
		}
		if !strings.Contains(names, word) {
			return false
		}
	}
	return true
}

// AddWards is POST /wards.
func (s *server) AddWards(c *gin.Context) {
	in, ok := body[AddWards](c)
	if !ok {
		return
	}
	if in.Name == "" {
		in.Name = "ward.yaml"
	}
	answer(s, c, func(ids []string) AddedWards { return AddedWards{Items: ids} })(do(s, c, keeper.AddWards{File: in.Name, Text: in.File}))
}

// GetWard is GET /wards/{ward}.
func (s *server) GetWard(c *gin.Context, name WardID) {
	v, err := s.Keeper.Ward(name)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := WardDetail{Ward: wardOf(v), File: v.File, Outline: []Object{}, ToldBy: s.Keeper.AlertsOf(v)}
	for _, verb := range who(c).Verbs(v) {
		out.YouMay = append(out.YouMay, Verb(verb))
	}
	if m, is := s.Keeper.MutedUntil(v.ID); is {
		out.Muted = muteOf(m)
	}
	objects, err := s.Keeper.Objects(c, name)
	if err != nil {
		s.fail(c, err)
		return
	}
	below := s.Keeper.Outline(c, v, objects)
	for _, o := range objects {
		x := objectOf(o)
		for _, b := range below[o.Ref] {
			x.Below = append(x.Below, Below{Kind: b.Ref.Kind, Name: b.Ref.Name, Depth: b.Depth, Health: Health(b.Health.Word), Reason: b.Health.Reason})
		}
		out.Outline = append(out.Outline, x)
	}
	c.JSON(http.StatusOK, out)
}

// RemoveWard is DELETE /wards/{ward}.
func (s *server) RemoveWard(c *gin.Context, name WardID, q RemoveWardParams) {
	if _, err := do(s, c, keeper.RemoveWard{Ward: name, Why: q.Why, Dismantle: q.Dismantle, Allow: q.Allow}); err != nil {
		s.fail(c, err)
		return
	}
	if v, err := s.Keeper.Ward(name); q.Dismantle && err == nil {
		out := StartedRun{}
		if v.Run != nil {
			out.Entry = v.Run.Number
		}
		c.JSON(http.StatusAccepted, out)
		return
	}
	c.Status(http.StatusNoContent)
}

// DiffWard is GET /wards/{ward}/diff.
func (s *server) DiffWard(c *gin.Context, name WardID) {
	d, err := s.Keeper.Diff(c, name)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := WardDiff{Ward: wardOf(d.View), Changes: []PendingObject{}, Drift: []Object{}, Guards: guardsOf(d.Guards)}
	for _, o := range d.Objects {
		out.Changes = append(out.Changes, pendingOf(o))
	}
	for _, o := range d.View.Astray {
		out.Drift = append(out.Drift, objectOf(o))
	}
	c.JSON(http.StatusOK, out)
}

// PreviewRun is POST /wards/{ward}/preview.
func (s *server) PreviewRun(c *gin.Context, name WardID) {
	in, ok := body[StartRun](c)
	if !ok {
		return
	}
	d, err := s.Keeper.Preview(c, name, askOf(c, in))
	if err != nil {
		s.fail(c, err)
		return
	}
	out := RunPreview{Ward: wardOf(d.View), Revision: revisionOf(d.Revision), Objects: []PendingObject{}, Guards: guardsOf(d.Guards), Allowed: guardsOf(d.Allowed)}
	for _, o := range d.Objects {
		out.Objects = append(out.Objects, pendingOf(o))
	}
	for _, x := range d.Canaries {
		out.Canaries = append(out.Canaries, PlannedCanary{Of: x.Of, Shares: sharesOf(x.Shares), WithinSeconds: int(x.Within.Seconds())})
	}
	for _, ref := range d.BeforeCanary {
		out.BeforeCanary = append(out.BeforeCanary, ref.Short())
	}
	for _, ref := range d.TasksBefore {
		out.TasksBeforeCanary = append(out.TasksBeforeCanary, ref.Short())
	}
	c.JSON(http.StatusOK, out)
}

// CompareEntries is GET /wards/{ward}/compare.
func (s *server) CompareEntries(c *gin.Context, name WardID, q CompareEntriesParams) {
	if q.From < 0 || q.To < 0 || q.From+q.To == 0 {
		problem(c, http.StatusBadRequest, "These can't be compared", "from and to are numbers of entries, 1 or more; without to, what the repository declares now is taken, without from, the entry before")
		return
	}
	d, err := s.Keeper.Compare(c, name, q.From, q.To)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := Comparison{Objects: []MovedObject{}}
	if d.From != nil {
		out.From = entryOf(d.From)
		out.From.Objects = nil
	}
	if d.To != nil {
		out.To = entryOf(d.To)
		out.To.Objects = nil
	} else {
		out.Revision = revisionOf(d.Revision)
	}
	for _, o := range d.Objects {
		out.Objects = append(out.Objects, movedOf(o))
	}
	c.JSON(http.StatusOK, out)
}

func movedOf(o compare.Moved) MovedObject {
	return MovedObject{Key: o.Ref.Key(), Kind: o.Ref.Kind, Namespace: o.Ref.Namespace, Name: o.Ref.Name, Change: MovedObjectChange(o.Change), Fields: differences(o.Fields, nil)}
}

// ListRejections is GET /wards/{ward}/rejections.
func (s *server) ListRejections(c *gin.Context, name WardID) {
	all, err := s.Keeper.Rejections(name)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := RejectionList{Items: []Rejection{}}
	for _, r := range all {
		out.Items = append(out.Items, Rejection{Revision: Revision{Id: r.Revision, Subject: r.Subject}, Why: r.Why, By: r.By, At: r.At})
	}
	c.JSON(http.StatusOK, out)
}

// RejectRevision is POST /wards/{ward}/rejections.
func (s *server) RejectRevision(c *gin.Context, name WardID) {
	in, ok := body[RejectRevision](c)
	if !ok {
		return
	}
	answer(s, c, wardOf)(do(s, c, keeper.RejectRevision{Ward: name, Revision: in.Revision, Why: in.Why}))
}

// LiftRejection is DELETE /wards/{ward}/rejections/{revision}.
func (s *server) LiftRejection(c *gin.Context, name WardID, revision string, q LiftRejectionParams) {
	answer(s, c, wardOf)(do(s, c, keeper.LiftRejection{Ward: name, Revision: revision, Why: q.Why}))
}

// ProposeRollback is POST /wards/{ward}/proposals.
func (s *server) ProposeRollback(c *gin.Context, name WardID) {
	in, ok := body[ProposeRollback](c)
	if !ok {
		return
	}
	answer(s, c, proposalOf)(do(s, c, keeper.ProposeBack{Ward: name, Branch: in.Branch, Entry: in.ToEntry}))
}

// GetTaskLog is GET /wards/{ward}/entries/{number}/log.
func (s *server) GetTaskLog(c *gin.Context, name WardID, number int, q GetTaskLogParams) {
	if q.Follow {
		s.followTaskLog(c, name, number, q.Key)
		return
	}
	text, err := s.Keeper.TaskLog(c, name, number, q.Key)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.String(http.StatusOK, "%s", text)
}

// followTaskLog answers with the log of a task as it grows: until the task has ended, whoever reads it has left, their token has
// ended, or the service ends.
func (s *server) followTaskLog(c *gin.Context, name WardID, number int, key string) {
	ctx, cancel := context.WithCancel(c.Request.Context())
	defer cancel()
	go func() {
		beat := time.NewTicker(heartbeat)
		defer beat.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-s.Ending:
				cancel()
			case <-beat.C:
				if !s.still(c) {
					cancel()
				}
			}
		}
	}()
	w := &flushed{c: c}
	switch err := s.Keeper.FollowTaskLog(ctx, name, number, key, w); {
	case err == nil:
		w.begin()
	case !w.begun:
		s.fail(c, err)
	case ctx.Err() == nil: // its beginning is on its way; the reader is told where it breaks off
		_, _ = fmt.Fprintf(w, "(it breaks off here: %v)\n", err)
	}
}

// flushed is an answer in plain text that is sent as it grows.
type flushed struct {
	c     *gin.Context
	begun bool
}

func (f *flushed) begin() {
	if !f.begun {
		f.begun = true
		f.c.Header("Content-Type", "text/plain; charset=utf-8")
		f.c.Status(http.StatusOK)
	}
}

func (f *flushed) Write(b []byte) (int, error) {
	f.begin()
	n, err := f.c.Writer.Write(b)
	f.c.Writer.Flush()
	return n, err
}

// askOf is the run that a body asks for.
func askOf(c *gin.Context, in StartRun) keeper.Ask {
	return keeper.Ask{Kind: run.Kind(in.Kind), By: who(c).Name, Why: in.Why, ToEntry: in.ToEntry, Allow: in.Allow, Only: in.Only, Revision: in.Revision,
		Retry: in.Retry, Reapply: in.Reapply, Tasks: in.Tasks, Now: in.Now}
}

// LookNow is POST /wards/{ward}/look.
func (s *server) LookNow(c *gin.Context, name WardID) {
	answer(s, c, wardOf)(s.Keeper.Look(c, name))
}

// HasRevision is GET /wards/{ward}/has/{revision}.
func (s *server) HasRevision(c *gin.Context, name WardID, revision string) {
	answer(s, c, func(h keeper.Held) HasRevision { return HasRevision{Has: h.Holds, Read: h.Read, Head: h.Head} })(s.Keeper.Holds(c, name, revision))
}

// StartRun is POST /wards/{ward}/runs.
func (s *server) StartRun(c *gin.Context, name WardID) {
	in, ok := body[StartRun](c)
	if !ok {
		return
	}
	n, err := do(s, c, keeper.StartRun{Ward: name, Ask: askOf(c, in)})
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusAccepted, StartedRun{Entry: n})
}

// StopRun is DELETE /wards/{ward}/runs/current.
func (s *server) StopRun(c *gin.Context, name WardID) {
	done(s, c, keeper.StopRun{Ward: name})
}

// HoldWard is PUT /wards/{ward}/hold.
func (s *server) HoldWard(c *gin.Context, name WardID) {
	in, ok := body[HoldWard](c)
	if !ok {
		return
	}
	answer(s, c, wardOf)(do(s, c, keeper.HoldWard{Ward: name, Why: in.Why, Until: in.Until}))
}

// ReleaseWard is DELETE /wards/{ward}/hold.
func (s *server) ReleaseWard(c *gin.Context, name WardID, q ReleaseWardParams) {
	answer(s, c, wardOf)(do(s, c, keeper.ReleaseWard{Ward: name, Why: q.Why}))
}

// ListWardEntries is GET /wards/{ward}/entries.
func (s *server) ListWardEntries(c *gin.Context, name WardID, q ListWardEntriesParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	entries, total, err := s.Keeper.Entries(c, name, record.Find{Search: q.Search, Since: q.Since, Limit: limit, Offset: offset})
	s.answerEntries(c, entries, total, err == nil && s.Keeper.Gone(c, name), err)
}

// ListEntries is GET /entries.
func (s *server) ListEntries(c *gin.Context, q ListEntriesParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	find := record.Find{Search: q.Search, Since: q.Since, Limit: limit, Offset: offset}
	if w := who(c); !w.Rights.All() {
		find.Only = true
		for _, v := range s.Keeper.Seen(w) {
			find.Among = append(find.Among, v.ID)
		}
	}
	entries, total, err := s.Keeper.AllEntries(c, find)
	s.answerEntries(c, entries, total, false, err)
}

func (s *server) answerEntries(c *gin.Context, entries []logbook.Entry, total int, removed bool, err error) {
	if err != nil {
		s.fail(c, err)
		return
	}
	out := EntryList{Items: []Entry{}, Total: total, Removed: removed}
	for _, e := range entries {
		x := entryOf(&e)
		x.Objects = nil // one entry has them; a list of a hundred would be long
		out.Items = append(out.Items, x)
	}
	c.JSON(http.StatusOK, out)
}

// GetEntry is GET /wards/{ward}/entries/{number}.
func (s *server) GetEntry(c *gin.Context, name WardID, number int) {
	answer(s, c, func(e logbook.Entry) Entry { return entryOf(&e) })(s.Keeper.Entry(c, name, number))
}

// GetObject is GET /wards/{ward}/object.
func (s *server) GetObject(c *gin.Context, name WardID, q GetObjectParams) {
	d, err := s.Keeper.Object(c, name, q.Key)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := ObjectDetail{Object: objectOf(d.Object), DeclaredYaml: d.Declared, LiveYaml: d.Live, Events: []ClusterEvent{}, Pods: []Pod{}}
	for _, e := range d.Events {
		out.Events = append(out.Events, ClusterEvent{At: e.At, IsWarning: e.Warning, Reason: e.Reason, Text: e.Text, About: e.About.Short(), Count: e.Count})
	}
	for _, p := range d.Pods {
		out.Pods = append(out.Pods, podOf(p))
	}
	c.JSON(http.StatusOK, out)
}

// GetLogs is GET /wards/{ward}/logs.
func (s *server) GetLogs(c *gin.Context, name WardID, q GetLogsParams) {
	tail := q.Tail
	if tail == 0 {
		tail = 200
	}
	if tail < 1 || tail > 5000 {
		problem(c, http.StatusBadRequest, "The log can't be read", "tail must be 1 to 5000 lines")
		return
	}
	text, err := s.Keeper.Logs(c, name, q.Key, q.Pod, q.Container, q.Previous, tail)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.String(http.StatusOK, "%s", text)
}

// holds tells whether every word of a search is somewhere in some texts.
func holds(search string, texts ...string) bool {
	all := strings.ToLower(strings.Join(texts, " "))
	for _, word := range strings.Fields(strings.ToLower(search)) {
		if !strings.Contains(all, word) {
			return false
		}
	}
	return true
}

// ListRepos is GET /repos.
func (s *server) ListRepos(c *gin.Context, q ListReposParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []Repo{}
	for _, r := range s.Keeper.Repos() {
		if holds(q.Search, r.Name, r.URL, r.More.About, r.More.Roster, r.Repository.Problem, strings.Join(r.Branches, " ")) {
			items = append(items, repoOf(r))
		}
	}
	c.JSON(http.StatusOK, RepoList{Total: len(items), Items: slice(items, limit, offset)})
}

// AddRepo is POST /repos.
func (s *server) AddRepo(c *gin.Context) {
	in, ok := body[AddRepo](c)
	if !ok {
		return
	}
	follows := []string{string(AddRepoFollowSubmodules), string(AddRepoFollowLargeFiles)}
	for _, f := range in.Follow {
		if !slices.Contains(follows, string(f)) {
			problem(c, http.StatusUnprocessableEntity, "This can't be taken", fmt.Sprintf("follow: there is no %q to follow; %s", f, nearest.Words(string(f), follows)))
			return
		}
	}
	r := keeper.AddRepo{Trust: in.Trust}
	r.Name, r.URL, r.User, r.Password, r.Key, r.Passphrase, r.SignKey = in.Name, in.Url, in.User, in.Password, in.Key, in.Passphrase, in.SignKey
	r.RepoMore = record.RepoMore{Charts: in.Charts, Bearer: in.Bearer, CA: in.Ca, KnownHosts: in.KnownHosts, Signers: in.Signers,
		Submodules: slices.Contains(in.Follow, AddRepoFollowSubmodules), LargeFiles: slices.Contains(in.Follow, AddRepoFollowLargeFiles)}
	answer(s, c, repoOf)(do(s, c, r))
}

// LookAtRepo is POST /repos/{name}/look.
func (s *server) LookAtRepo(c *gin.Context, name ItemName) {
	answer(s, c, repoOf)(s.Keeper.LookAtRepo(c, name))
}

// ProposeFiles is POST /repos/{name}/files.
func (s *server) ProposeFiles(c *gin.Context, name ItemName) {
	in, ok := body[ProposeFiles](c)
	if !ok {
		return
	}
	f := keeper.Files{Base: in.Base, Branch: in.Branch, Subject: in.Subject, Body: in.Body}
	for _, x := range in.Files {
		f.Files = append(f.Files, keeper.File{Path: x.Path, Data: []byte(x.Text)})
	}
	answer(s, c, proposalOf)(do(s, c, keeper.ProposeFiles{Repo: name, Files: f}))
}

// ListRosters is GET /rosters.
func (s *server) ListRosters(c *gin.Context, q ListRostersParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	all, err := s.Keeper.Rosters(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	items := []Roster{}
	for _, r := range all {
		if holds(q.Search, r.Name, r.Repo, r.Path, r.Parent, r.Says, string(r.Standing)) {
			items = append(items, rosterOf(r))
		}
	}
	c.JSON(http.StatusOK, RosterList{Total: len(items), Items: slice(items, limit, offset)})
}

// AddRoster is POST /rosters.
func (s *server) AddRoster(c *gin.Context) {
	in, ok := body[AddRoster](c)
	if !ok {
		return
	}
	answer(s, c, rosterOf)(do(s, c, keeper.AddRoster{Roster: roster.Roster{Name: in.Name, Repo: in.Repo, Ref: in.Ref, Path: in.Path, Teams: in.DeclaresTeams,
		Limits: roster.Limits{Namespaces: in.Limits.Namespaces, Clusters: in.Limits.Clusters, As: in.Limits.As, Repos: in.Limits.Repos}}}))
}

// GetRoster is GET /rosters/{name}.
func (s *server) GetRoster(c *gin.Context, name ItemName) {
	answer(s, c, rosterOf)(s.Keeper.Roster(c, name))
}

// RemoveRoster is DELETE /rosters/{name}.
func (s *server) RemoveRoster(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveRoster{Name: name})
}

// LookAtRoster is POST /rosters/{name}/look.
func (s *server) LookAtRoster(c *gin.Context, name ItemName) {
	answer(s, c, rosterOf)(s.Keeper.LookRoster(c, name))
}

// SyncRoster is POST /rosters/{name}/sync.
func (s *server) SyncRoster(c *gin.Context, name ItemName) {
	in, ok := body[SyncRoster](c)
	if !ok {
		return
	}
	answer(s, c, rosterOf)(do(s, c, keeper.SyncRoster{Name: name, Allow: in.Allow}))
}

// PreviewRoster is GET /rosters/{name}/preview.
func (s *server) PreviewRoster(c *gin.Context, name ItemName) {
	all, err := s.Keeper.PreviewRoster(c, name)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := RosterPreview{Items: []Bringing{}}
	for _, x := range all {
		out.Items = append(out.Items, Bringing{Ward: x.Ward, Sync: x.Sync, Why: x.Why, Pending: x.Pending})
	}
	c.JSON(http.StatusOK, out)
}

// ForgetLeft is DELETE /left/{placement}.
func (s *server) ForgetLeft(c *gin.Context, placement string) {
	done(s, c, keeper.ForgetLeft{Placement: placement})
}

// DraftAdoption is POST /clusters/{name}/adopt.
func (s *server) DraftAdoption(c *gin.Context, name ItemName) {
	in, ok := body[DraftAdoption](c)
	if !ok {
		return
	}
	a, err := s.Keeper.Adopt(c, name, in.Namespace, in.Ward, in.Path, in.Repo)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := Adoption{ObjectCount: a.Objects, Files: []ProposedFile{}}
	for _, f := range a.Files {
		out.Files = append(out.Files, ProposedFile{Path: f.Path, Text: string(f.Data)})
	}
	out.Skipped = make([]struct {
		Name string `json:"name"`
		Why  string `json:"why"`
	}, len(a.Skipped))
	for i, x := range a.Skipped {
		out.Skipped[i].Name, out.Skipped[i].Why = x[0], x[1]
	}
	c.JSON(http.StatusOK, out)
}

// GetClusterSchema is GET /clusters/{name}/schema.
func (s *server) GetClusterSchema(c *gin.Context, name ItemName) {
	b, err := s.Keeper.Schema(c, name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/json", b)
}

// ListContexts is POST /contexts.
func (s *server) ListContexts(c *gin.Context) {
	in, ok := body[Kubeconfig](c)
	if !ok {
		return
	}
	answer(s, c, func(names []string) ContextList { return ContextList{Items: append([]string{}, names...)} })(s.Keeper.Contexts(in.KubeconfigFile))
}

// RemoveRepo is DELETE /repos/{name}.
func (s *server) RemoveRepo(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveRepo{Name: name})
}

// MakePushKey is POST /repos/{name}/push-key.
func (s *server) MakePushKey(c *gin.Context, name ItemName) {
	s.makePushKey(c, record.PushedRepo, name)
}

// MakeRegistryPushKey is POST /registries/{name}/push-key.
func (s *server) MakeRegistryPushKey(c *gin.Context, name ItemName) {
	s.makePushKey(c, record.PushedRegistry, name)
}

func (s *server) makePushKey(c *gin.Context, of record.Pushed, name string) {
	answer(s, c, func(key string) PushKey { return PushKey{Key: key, Path: pushesTo(of, name)} })(do(s, c, keeper.MakePushKey{Of: of, Name: name}))
}

// pushesTo is where pushes are told.
func pushesTo(of record.Pushed, name string) string {
	return "/api/v1/" + string(of) + "/" + name + "/pushes"
}

// GetPushes is GET /repos/{name}/pushes.
func (s *server) GetPushes(c *gin.Context, name ItemName) {
	s.pushes(c, record.PushedRepo, name)
}

// GetRegistryPushes is GET /registries/{name}/pushes.
func (s *server) GetRegistryPushes(c *gin.Context, name ItemName) {
	s.pushes(c, record.PushedRegistry, name)
}

func (s *server) pushes(c *gin.Context, of record.Pushed, name string) {
	answer(s, c, func(p keeper.Pushes) Pushes { return Pushes{Path: pushesTo(of, name), HasKey: p.Key, Last: p.Last} })(s.Keeper.Pushes(c, of, name))
}

// MakeStorePushKey is POST /stores/{name}/push-key.
func (s *server) MakeStorePushKey(c *gin.Context, name ItemName) {
	s.makePushKey(c, record.PushedStore, name)
}

// GetStorePushes is GET /stores/{name}/pushes.
func (s *server) GetStorePushes(c *gin.Context, name ItemName) {
	s.pushes(c, record.PushedStore, name)
}

// TakeStorePush is POST /stores/{name}/pushes.
func (s *server) TakeStorePush(c *gin.Context, name ItemName) {
	s.takePush(c, record.PushedStore, name)
}

// TakePush is POST /repos/{name}/pushes.
func (s *server) TakePush(c *gin.Context, name ItemName) { s.takePush(c, record.PushedRepo, name) }

// TakeRegistryPush is POST /registries/{name}/pushes.
func (s *server) TakeRegistryPush(c *gin.Context, name ItemName) {
	s.takePush(c, record.PushedRegistry, name)
}

// takePush takes a push. What is signed with nothing, or is for nobody, is not even read.
func (s *server) takePush(c *gin.Context, of record.Pushed, name string) {
	sign := signature(c)
	if c.Request.ContentLength > maxPush {
		problem(c, http.StatusRequestEntityTooLarge, "The push is too large", fmt.Sprintf("at most %d bytes are read", maxPush))
		return
	}
	ok := sign != keeper.Signature{} && s.Keeper.TakesPushes(c, of, name)
	if ok {
		err := bodyTo(c, maxPush, pushTime, func(body io.Reader) (err error) {
			ok, err = s.Keeper.Push(c, of, name, body, sign)
			return err
		})
		if err != nil && !c.IsAborted() {
			s.fail(c, err)
		}
		if err != nil {
			return
		}
	}
	if !ok {
		if n, say := s.unsigned.note(time.Now()); say {
			s.Log.Warn("pushes were not signed with the right key", "times", n, "the last for", fmt.Sprintf("%.63q", name), "from", c.ClientIP())
		}
		problem(c, http.StatusUnauthorized, "The signature is not right", "Vigila-Signature must be the HMAC-SHA256 of the body with the push key, in hex, or Authorization the key itself after Bearer; vigila repo pushes NAME --new-key makes a new one, as vigila registry pushes and vigila store pushes do")
		return
	}
	c.Status(http.StatusAccepted)
}

// ListClusters is GET /clusters.
func (s *server) ListClusters(c *gin.Context, q ListClustersParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	items := []Cluster{}
	for _, x := range s.Keeper.Clusters(c) {
		labels := ""
		for k, v := range x.Labels {
			labels += " " + k + "=" + v
		}
		if holds(q.Search, x.Name, x.Server, x.Version, x.About, labels, x.Live.Problem) {
			items = append(items, clusterOf(x))
		}
	}
	c.JSON(http.StatusOK, ClusterList{Total: len(items), Items: slice(items, limit, offset)})
}

// AddCluster is POST /clusters.
func (s *server) AddCluster(c *gin.Context) {
	in, ok := body[AddCluster](c)
	if !ok {
		return
	}
	if in.MadeByWard != "" {
		answer(s, c, clusterOf)(do(s, c, keeper.AddMadeCluster{Name: in.Name, Ward: in.MadeByWard}))
		return
	}
	x := record.Cluster{Name: in.Name, Kubeconfig: in.KubeconfigFile, KubeconfigText: in.Kubeconfig, Context: in.Context, Token: in.Token, Labels: in.Labels}
	x.ClusterMore = record.ClusterMore{Server: in.Server, CA: in.Ca, InCluster: in.InCluster, Links: in.Links, About: in.About, Only: in.OnlyNamespaces}
	answer(s, c, clusterOf)(do(s, c, keeper.AddCluster{Cluster: x}))
}

// RemoveCluster is DELETE /clusters/{name}.
func (s *server) RemoveCluster(c *gin.Context, name ItemName) {
	done(s, c, keeper.RemoveCluster{Name: name})
}

// heartbeat is how often a silent event stream shows that it lives, and whether its token does.
var heartbeat = 10 * time.Second

// StreamEvents is GET /events: server-sent events
// (https://html.spec.whatwg.org/multipage/server-sent-events.html).
func (s *server) StreamEvents(c *gin.Context) {
	l := s.Keeper.Listen()
	defer l.Close()
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	_, _ = c.Writer.WriteString(": hello\n\n")
	c.Writer.Flush()
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	for {
		select {
		case <-c.Request.Context().Done():
			return
		case <-s.Ending:
			return
		case <-beat.C:
			if !s.still(c) {
				return
			}
			if _, err := c.Writer.WriteString(": still here\n\n"); err != nil {
				return
			}
		case <-l.Wake():
			for _, n := range l.Take() {
				if !s.Keeper.Hears(who(c), n) {
					continue
				}
				if _, err := fmt.Fprintf(c.Writer, "event: %s\ndata: {\"name\":%q}\n\n", n.Kind, n.Name); err != nil {
					return
				}
			}
		}
		c.Writer.Flush()
	}
}
