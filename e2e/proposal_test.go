package e2e

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// proposal asks for one.
func (s *service) proposal(number int) client.Proposal {
	s.t.Helper()
	r, err := s.api.GetProposalWithResponse(s.t.Context(), number)
	require.NoError(s.t, s.api.Check(r, err))
	return *r.JSON200
}

// proposed lists the proposals that have not ended.
func (s *service) proposed() []client.Proposal {
	s.t.Helper()
	r, err := s.api.ListProposalsWithResponse(s.t.Context(), &client.ListProposalsParams{Live: true, Limit: 100})
	require.NoError(s.t, s.api.Check(r, err))
	return r.JSON200.Items
}

// proposalUntil waits until a proposal is as it should be.
func (s *service) proposalUntil(number int, what string, cond func(client.Proposal) bool) client.Proposal {
	s.t.Helper()
	for end := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		p := s.proposal(number)
		if cond(p) {
			return p
		}
		require.True(s.t, time.Now().Before(end), "%s; proposal %d is %s and says: %s", what, number, p.Standing, p.Says)
	}
}

// effect asks what a branch would do.
func (s *service) effect(branch string) client.Effect {
	s.t.Helper()
	r, err := s.api.GetBranchEffectWithResponse(s.t.Context(), s.name, &client.GetBranchEffectParams{Branch: branch})
	require.NoError(s.t, s.api.Check(r, err))
	return *r.JSON200
}

// branch pushes a branch of the test's repository, on top of main, and lets it be seen. Its commit is the answer.
func (s *service) branch(name string, files map[string]string) string {
	s.t.Helper()
	id := s.pushTo(name, name, files)
	r, err := s.api.LookAtRepoWithResponse(s.t.Context(), s.name)
	require.NoError(s.t, s.api.Check(r, err))
	return id
}

// declares is a ward file of a roster.
func (s *service) declares(name, path string) string {
	return fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nfrom: {path: %[2]s}\ninto: {cluster: quay, namespace: %[3]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\nsettle: {within: 30s}\n", name, path, s.name)
}

// TestABranchIsReviewedByItsEffect: what a branch would do to wards is told field by field and tried out, and its files are shown without
// what is secret.
func TestABranchIsReviewedByItsEffect(t *testing.T) {
	t.Parallel()
	s := newService(t)
	chart := map[string]string{"Chart.yaml": "apiVersion: v2\nname: tide\nversion: 1.0.0\n", "values.yaml": "password: tidewater-old\n",
		"templates/s.yaml": "apiVersion: v1\nkind: Secret\nmetadata: {name: tide}\nstringData: {password: {{ .Values.password }}}\n"}
	files := map[string]string{"a/one.yaml": config("one", "berths", "1"), "a/two.yaml": config("two", "berths", "1"), "b/c.yaml": config("b", "berths", "1"), "gone/c.yaml": config("gone", "berths", "1"),
		"wards/a.yaml": s.declares(s.name, "a"), "wards/b.yaml": s.declares(s.name+"-b", "b"), "wards/gone.yaml": strings.Replace(s.declares(s.name+"-gone", "gone"), "keep: {", "keep: {on_removal: dismantle, ", 1), "wards/tide.yaml": s.declares(s.name+"-tide", "tide"), "README.md": "Berths.\n"}
	for name, text := range chart {
		files["tide/"+name] = text
	}
	s.push("First", files)
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	for _, w := range []string{s.name, s.name + "-b", s.name + "-gone", s.name + "-tide"} {
		s.untilOf(w+"@quay", "in step", inStepAndReady)
	}

	s.branch("beside", map[string]string{"README.md": "Berths and tides.\n"})
	e := s.effect("beside")
	assert.Empty(t, e.Effects)
	assert.Equal(t, []client.FileEffect{{Path: "README.md", Change: "changed", Hidden: "no ward and no roster reads it"}}, e.Files)
	out := s.ok("propose", "effect", "--repo", s.name, "--branch", "beside")
	assert.Contains(t, out, "It changes no ward.")

	s.branch("work", map[string]string{"a/one.yaml": config("one", "berths", "2"), "a/three.yaml": "apiVersion: v1\nkind: Service\nmetadata: {name: three}\nspec: {ports: [{port: 700000}]}\n", "a/two.yaml": "",
		"b/notes.yaml": "# nothing\n", "wards/gone.yaml": "", "new/c.yaml": config("new", "berths", "1"), "wards/new.yaml": s.declares(s.name+"-new", "new"), "tide/values.yaml": "password: tidewater-new\n",
		"wards/wrong.yaml": "vigila: ward/v1\nname: wrong\nfrm: {}\n",
		"a/.env":           "TOKEN=seagull7\n", "wards/notes.yaml": "token: seagull7\n"})
	e = s.effect("work")
	byWard := map[string]client.WardEffect{}
	for _, w := range e.Effects {
		byWard[strings.TrimPrefix(w.Ward, s.name)] = w
	}
	assert.Equal(t, 1, e.Same, "b reads what changes, and declares the same")
	require.Len(t, byWard, 4, "%v", byWard)
	a := byWard["@quay"]
	var changes []string
	for _, o := range a.Objects {
		changes = append(changes, fmt.Sprint(o.Change, " ", o.Kind, "/", o.Name))
	}
	assert.ElementsMatch(t, []string{"changed ConfigMap/one", "removed ConfigMap/two", "added Service/three"}, changes)
	require.Len(t, a.Refusals, 1)
	assert.Contains(t, a.Refusals[0].Says, "port")
	assert.Equal(t, "added", string(byWard["-new@quay"].Change))
	assert.Empty(t, byWard["-new@quay"].Untried+byWard["-new@quay"].Problem)
	assert.Empty(t, byWard["-new@quay"].Refusals)
	require.Len(t, byWard["-new@quay"].Objects, 1, "the namespace is there already")
	assert.Equal(t, "removed", string(byWard["-gone@quay"].Change))
	assert.True(t, byWard["-gone@quay"].Dismantles, "as its file says")
	require.NotEmpty(t, e.Problems)
	assert.Contains(t, e.Problems[0].Text, "frm")
	tide := byWard["-tide@quay"]
	require.Len(t, tide.Objects, 1)
	text, err := json.Marshal(e)
	require.NoError(t, err)
	for _, secret := range []string{"tidewater", "seagull7", // in files that nobody reads
		base64.StdEncoding.EncodeToString([]byte("tidewater-new")), base64.StdEncoding.EncodeToString([]byte("tidewater-old"))} {
		assert.NotContains(t, string(text), secret, "a secret value is shown nowhere, not as a line of a values file either")
	}
	out, errs, code := s.cli("propose", "effect", "--repo", s.name, "--branch", "work")
	assert.Equal(t, 1, code, errs)
	for _, want := range []string{"Service three would be refused", "+password: secret ", `-data: {berths: "1"}`, `+data: {berths: "2"}`, "wards/wrong.yaml:3"} {
		assert.Contains(t, out, want)
	}

	s.branch("broken", map[string]string{"tide/templates/s.yaml": "{{ nope }}\n", "tide/values.yaml": "password: tidewater-next\n"})
	e = s.effect("broken")
	require.Len(t, e.Effects, 1)
	assert.Contains(t, e.Effects[0].Problem, "nope")
	text, err = json.Marshal(e)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "tidewater")
	s.branch("guarded", map[string]string{"a/one.yaml": "", "a/two.yaml": "", "a/note.txt": "empty\n"})
	e = s.effect("guarded")
	require.Len(t, e.Effects, 1)
	assert.Equal(t, "empty-render", e.Effects[0].Guards[0].Name)
	s.fails(1, "is no branch", "propose", "effect", "--repo", s.name, "--branch", strings.TrimSpace(git(t, filepath.Join(labDir, "git", s.name+".git"), "rev-parse", "main")))
	s.fails(1, `no branch, tag or commit "none"`, "propose", "effect", "--repo", s.name, "--branch", "none")
	s.fails(2, "--repo and --branch", "propose", "effect")
	assert.True(t, inStepAndReady(s.ward()), "and nothing was done")
}

// TestAProposalIsReviewedAndMerged: one wish is one proposal, whoever asks however often; others' commits on either branch are kept, and
// what was approved is what is merged.
func TestAProposalIsReviewedAndMerged(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/c.yaml": config("c", "berths", "1"), "app/d.yaml": config("d", "berths", "1"), "wards/w.yaml": s.declares(s.name, "app")})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.until("in step", inStepAndReady)
	propose := func(path, text string) (client.Proposal, error) {
		r, err := s.api.ProposeFilesWithResponse(t.Context(), s.name, client.ProposeFiles{Subject: "Set " + path, Body: "It is time.", Branch: "vigila/" + strings.ReplaceAll(path, "/", "-"), Files: []client.ProposedFile{{Path: path, Text: text}}})
		if err := s.api.Check(r, err); err != nil {
			return client.Proposal{}, err
		}
		return *r.JSON200, nil
	}
	var many sync.WaitGroup
	numbers := make([]int, 8)
	for i := range numbers {
		many.Go(func() {
			p, err := propose("app/c.yaml", config("c", "berths", "2"))
			assert.NoError(t, err)
			numbers[i] = p.Number
		})
	}
	many.Wait()
	assert.Equal(t, []int{1, 1, 1, 1, 1, 1, 1, 1}, numbers, "the same wish is one proposal")
	p := s.proposal(1)
	assert.Equal(t, []string{"open", "waits for a review"}, []string{string(p.Standing), p.Says})
	out := s.ok("propose", "show", "1")
	for _, want := range []string{"#1  Set app/c.yaml", "It is time.", "It changes 1 ward.", s.name + "@quay", "ConfigMap c", "data.berths", "propose merge 1"} {
		assert.Contains(t, out, want)
	}
	s.fails(1, "is the branch that it is held against", "propose", "effect", "--repo", s.name, "--branch", "main")

	s.ok("propose", "approve", "1", "--commit", p.Commit[:9])
	s.push("Meanwhile", map[string]string{"app/d.yaml": config("d", "berths", "2")})
	s.ok("propose", "merge", "1", "--commit", p.Commit)
	w := s.until("in step with both", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Set app/c.yaml" })
	assert.NotEqual(t, p.Commit, w.Applied.Id, "the base had moved")
	p = s.proposal(1)
	assert.Equal(t, []string{"merged", w.Applied.Id}, []string{string(p.Standing), p.Result})
	s.fails(1, "proposal 1 has ended: merged by", "propose", "merge", "1")
	assert.NotContains(t, git(t, filepath.Join(labDir, "git", s.name+".git"), "branch", "--list"), "vigila/")

	p, err := propose("app/c.yaml", config("c", "berths", "3"))
	require.NoError(t, err)
	s.ok("propose", "approve", fmt.Sprint(p.Number))
	s.branch(p.Branch, map[string]string{"app/c.yaml": config("c", "berths", "3"), "app/e.yaml": config("e", "berths", "1")})
	now := s.proposalUntil(p.Number, "somebody pushed to its branch", func(x client.Proposal) bool { return x.Commit != p.Commit })
	assert.False(t, now.Own)
	assert.Contains(t, now.Says, "before its branch was changed")
	s.fails(1, "was changed since", "propose", "merge", fmt.Sprint(p.Number), "--commit", p.Commit)
	s.push("Against it", map[string]string{"app/c.yaml": config("c", "berths", "4")})
	s.proposalUntil(p.Number, "both have changed it", func(x client.Proposal) bool { return x.Standing == "stale" })
	out, _, _ = s.cli("propose", "show", fmt.Sprint(p.Number))
	assert.Contains(t, out, "hanged on main as well, in another way: app/c.yaml")
	s.fails(1, "can't be merged", "propose", "merge", fmt.Sprint(p.Number))
	s.push("As before", map[string]string{"app/c.yaml": config("c", "berths", "2")})
	s.proposalUntil(p.Number, "they go together again", func(x client.Proposal) bool { return x.Standing == "open" })
	s.ok("propose", "merge", fmt.Sprint(p.Number))
	last := git(t, filepath.Join(labDir, "git", s.name+".git"), "log", "-1", "--format=%s %P", "main")
	assert.Contains(t, last, now.Commit, "the commit of somebody else is merged as it is")

	p, err = propose("app/c.yaml", config("c", "berths", "5"))
	require.NoError(t, err)
	s.ok("propose", "withdraw", fmt.Sprint(p.Number), "--why", "after the season")
	assert.Equal(t, "withdrawn by admin: after the season", s.proposal(p.Number).Says)
	again, err := propose("app/c.yaml", config("c", "berths", "5"))
	require.NoError(t, err, "a person may ask again")
	assert.NotEqual(t, p.Number, again.Number)
	git(t, filepath.Join(labDir, "git", s.name+".git"), "branch", "-D", again.Branch)
	s.proposalUntil(again.Number, "its branch was deleted", func(x client.Proposal) bool { return x.Standing == "withdrawn" })
	_, err = propose("app/c.yaml", config("c", "berths", "3"))
	require.ErrorContains(t, err, "there is nothing to propose")
	assert.Empty(t, s.proposed())
	s.fails(1, "there is no proposal 99", "propose", "show", "99")
	s.fails(2, "is not the number of a proposal", "propose", "show", "x")
}

// TestAKillMakesNoSecondProposal: killed at any moment, the service comes back to one proposal, one branch and one commit of a wish.
func TestAKillMakesNoSecondProposal(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/c.yaml": config("c", "berths", "0")})
	bare := filepath.Join(labDir, "git", s.name+".git")
	for round := 1; round <= 6; round++ {
		ask := func() error {
			r, err := s.api.ProposeFilesWithResponse(t.Context(), s.name, client.ProposeFiles{Subject: fmt.Sprint("Round ", round), Branch: fmt.Sprint("vigila/round-", round), Files: []client.ProposedFile{{Path: "app/c.yaml", Text: config("c", "berths", fmt.Sprint(round))}}})
			return s.api.Check(r, err)
		}
		answered := make(chan error, 1)
		go func() { answered <- ask() }()
		time.Sleep(time.Duration(round*round) * 4 * time.Millisecond) // at another moment each time
		s.kill()
		<-answered
		s.start()
		for end := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
			err := ask()
			if err == nil {
				break
			}
			require.True(t, time.Now().Before(end), "%v", err)
		}
		live := s.proposed()
		require.Len(t, live, 1)
		require.Equal(t, fmt.Sprint("Round ", round), live[0].Title)
		require.Equal(t, "1\n", git(t, bare, "rev-list", "--count", "main.."+live[0].Branch))
		go func() {
			r, err := s.api.MergeProposalWithResponse(t.Context(), live[0].Number, client.MergeProposal{})
			answered <- s.api.Check(r, err)
		}()
		time.Sleep(time.Duration(round*round) * 4 * time.Millisecond)
		s.kill()
		<-answered
		s.start()
		for end := time.Now().Add(patience); s.proposal(live[0].Number).Standing != "merged"; time.Sleep(100 * time.Millisecond) {
			r, err := s.api.MergeProposalWithResponse(t.Context(), live[0].Number, client.MergeProposal{})
			err = s.api.Check(r, err)
			require.True(t, time.Now().Before(end), "%v", err)
		}
		require.Equal(t, fmt.Sprintln(round+1), git(t, bare, "rev-list", "--count", "main"), "one commit a wish")
	}
	assert.Empty(t, s.proposed())
}

// TestProposalsInTheConsole: a change is read by its effect, approved, merged and withdrawn in the browser.
func TestProposalsInTheConsole(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/c.yaml": config("c", "berths", "1"), "wards/w.yaml": s.declares(s.name, "app")})
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.until("in step", inStepAndReady)
	propose := func(n string) {
		r, err := s.api.ProposeFilesWithResponse(t.Context(), s.name, client.ProposeFiles{Subject: "Set " + n + " berths", Body: "For the ferries.", Branch: "vigila/berths-" + n, Files: []client.ProposedFile{{Path: "app/c.yaml", Text: config("c", "berths", n)}}})
		require.NoError(t, s.api.Check(r, err))
	}
	propose("2")
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows(s.name)
	nav := `//nav//a[text()="Proposals"]`
	b.opens(nav, "1 change to repositories that nobody has merged yet")
	b.opens(`//a[contains(., "#1 Set 2 berths")]`, "It changes 1 ward")
	b.shows("For the ferries.")
	b.shows("data.berths")
	b.shows("the API server of quay takes it")
	b.shows("+data: {berths: \"2\"}")
	b.click("Approve")
	b.shows("pproved by admin; waits for its merge")
	propose("3")
	b.click("Merge")
	b.shows("Wards that sync by themselves do so at once.")
	b.do(chromedp.Click(`//div[@role="dialog"]//button[text()="Merge"]`))
	b.shows("erged by admin")
	s.until("holds it", func(w client.Ward) bool { return inStepAndReady(w) && w.Applied.Subject == "Set 2 berths" })
	b.opens(nav, "#2 Set 3 berths")
	b.opens(`//a[contains(., "#2 Set 3 berths")]`, "Does not go together with main")
	b.click("Withdraw")
	b.do(chromedp.Click(`//div[@role="dialog"]//button[text()="Withdraw"]`))
	b.shows("ithdrawn by admin")
	b.opens(nav, "No change to a repository waits for anybody.")
}
