package e2e

import (
	"fmt"
	"os"
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

// lane asks how it is with a lane of the test's name.
func (s *service) lane() client.Lane {
	s.t.Helper()
	r, err := s.api.GetLaneWithResponse(s.t.Context(), s.name)
	require.NoError(s.t, err)
	if r.JSON200 == nil {
		return client.Lane{}
	}
	return *r.JSON200
}

// stopUntil waits until a stop of the lane is as it should be.
func (s *service) stopUntil(name, what string, cond func(client.LaneStop) bool) client.LaneStop {
	s.t.Helper()
	for end := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		l := s.lane()
		said := "there is no such stop: " + l.Says
		for _, x := range l.Stops {
			if x.Name == name {
				if cond(x) {
					return x
				}
				said = x.Says
			}
		}
		require.True(s.t, time.Now().Before(end), "%s; %s says: %s", what, name, said)
	}
}

// has waits until a lot has arrived at a stop.
func (s *service) arrives(stop string, lot int) client.LaneStop {
	s.t.Helper()
	return s.stopUntil(stop, fmt.Sprintf("lot %d arrives", lot), func(x client.LaneStop) bool { return x.Passage.Lot == lot && x.Arrived })
}

// laneFile is a lane of the test's name; its wards are NAME-STOP.
func (s *service) laneFile(stops ...string) string {
	text := "vigila: lane/v1\nname: " + s.name + "\ncarries:\n  - versions: app/{stop}/versions.yaml\n  - files: app/{stop}/config/**\nkeeps: [\"**/site.yaml\"]\nstops:\n"
	for _, stop := range stops {
		name, rest, _ := strings.Cut(stop, " ")
		text += fmt.Sprintf("  - {name: %s, wards: [%s-%s], %s}\n", name, s.name, name, rest)
	}
	return text
}

// environment are the files of a stop's ward: its config, and a deployment whose version comes from its versions file.
func (s *service) environment(stop, image string) map[string]string {
	return map[string]string{
		"app/" + stop + "/d.yaml":             strings.ReplaceAll(deployment("gate:0", 1), "registry.brindle.example/gate:0", image+":0"),
		"app/" + stop + "/config/tariff.yaml": config("tariff", "zones", "3"),
		"app/" + stop + "/config/site.yaml":   config("site", "name", stop),
		"app/" + stop + "/versions.yaml":      "vigila: versions/v1\nimages:\n  " + image + ": {tag: \"0\"}\n",
		"wards/" + stop + ".yaml":             fmt.Sprintf("vigila: ward/v1\nname: %[1]s-%[2]s\nfrom: {path: app/%[2]s, versions: [app/%[2]s/versions.yaml]}\ninto: {cluster: quay, namespace: %[1]s-%[2]s, create_namespace: true}\nkeep: {sync: auto, every: 1s}\nsettle: {within: 20s}\n", s.name, stop),
	}
}

func together(all ...map[string]string) map[string]string {
	out := map[string]string{}
	for _, m := range all {
		for k, v := range m {
			out[k] = v
		}
	}
	return out
}

// lives is what a file of the test's repository says on main.
func (s *service) says(file string) string {
	s.t.Helper()
	return git(s.t, filepath.Join(labDir, "git", s.name+".git"), "show", "main:"+file)
}

// TestAChangeGoesFromEnvironmentToEnvironment: an image is pushed, found, written and synced at quay; it arrives, is proposed to skerry, its
// effect is reviewed, it is merged and synced there. What else would come along is said before. A bad one stops where it failed, and is
// offered to nobody; and back to the lot before.
func TestAChangeGoesFromEnvironmentToEnvironment(t *testing.T) {
	t.Parallel()
	s := newService(t)
	host := dockRegistry(t)
	image := host + "/harbour/gate"
	s.push("All", together(s.environment("quay", image), s.environment("skerry", image), s.environment("holm", image), map[string]string{
		"wards/lane.yaml":   s.laneFile("quay lets_in: by itself", "skerry after: [quay], lets_in: ask, by: proposal", "holm after: [skerry], lets_in: by itself"),
		"wards/follow.yaml": "vigila: follow/v1\nname: " + s.name + "\nimage: " + image + "\nversions: \">=1 <3\"\ninto: {file: app/quay/versions.yaml}\nevery: 10s\n"}))
	s.ok("registry", "add", "harbour", host)
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.arrives("quay", 1)
	s.arrives("skerry", 1)
	s.arrives("holm", 1)
	assert.Equal(t, "all that has begun has arrived", s.lane().Says)

	first := pushImage(t, image+":1.0.0", "amd64")
	s.ok("follow", "look", s.name)
	quay := s.arrives("quay", 2)
	assert.Equal(t, []string{s.name + " 1.0.0", "Vigila"}, []string{quay.Passage.Subject, quay.Passage.By})
	skerry := s.stopUntil("skerry", "lot 2 is proposed", func(x client.LaneStop) bool { return x.Proposal > 0 })
	assert.Equal(t, "lot 1 has arrived; lot 2 waits to be let in", skerry.Says)
	assert.True(t, skerry.NeedsYou)
	p := s.proposal(skerry.Proposal)
	assert.Equal(t, []string{"Let lot 2 of " + s.name + " into skerry: " + s.name + " 1.0.0", "vigila", "lane"}, []string{p.Title, p.By, string(p.Kind)})
	assert.Contains(t, p.Why, "Changed by lot 2 at skerry:\n  "+image+"  0 to 1.0.0")
	out := s.ok("propose", "show", fmt.Sprint(p.Number))
	assert.Contains(t, out, s.name+"-skerry@quay")
	assert.Contains(t, out, image+":1.0.0@"+first)
	assert.NotContains(t, out, s.name+"-holm@quay")
	s.ok("propose", "merge", fmt.Sprint(p.Number), "--commit", p.Commit)
	skerry = s.arrives("skerry", 2)
	assert.Equal(t, "admin", skerry.Passage.By)
	holm := s.arrives("holm", 2)
	assert.Equal(t, "vigila", holm.Passage.By, "which asks nobody")
	assert.Equal(t, s.says("app/quay/versions.yaml"), s.says("app/holm/versions.yaml"))
	account := s.ok("audit")
	for _, want := range []string{"write 1.0.0 of follow " + s.name + "  done  vigila", "let in lot 2 of lane " + s.name + "  done  vigila", "merge proposal " + fmt.Sprint(p.Number) + "  done  admin, command line"} {
		assert.Contains(t, account, want)
	}

	// an edit by hand at skerry, and one that was never promoted, are told before anything is let in
	s.push("Cheaper on the skerry", map[string]string{"app/skerry/config/tariff.yaml": config("tariff", "zones", "2")})
	skerry = s.stopUntil("skerry", "the edit is seen", func(x client.LaneStop) bool { return x.Passage.Over == 2 })
	assert.Contains(t, skerry.Says, "what was lot 2, changed by hand,")
	s.push("A notice", map[string]string{"app/quay/config/notice.yaml": config("notice", "text", "gale")})
	s.arrives("quay", 3)
	s.stopUntil("skerry", "lot 3 is proposed", func(x client.LaneStop) bool { return x.Proposal > 0 && x.Offer.Lot == 3 })
	s.ok("propose", "withdraw", fmt.Sprint(s.proposed()[0].Number), "--why", "no notices")
	skerry = s.stopUntil("skerry", "what was withdrawn waits", func(x client.LaneStop) bool { return strings.Contains(x.Offer.Waits, "no notices") })
	assert.Zero(t, skerry.Proposal)
	second := pushImage(t, image+":1.1.0", "amd64")
	s.ok("follow", "look", s.name)
	s.arrives("quay", 4)
	skerry = s.stopUntil("skerry", "lot 4 is proposed", func(x client.LaneStop) bool { return x.Proposal > 0 && x.Offer.Lot == 4 })
	p = s.proposal(skerry.Proposal)
	for _, want := range []string{"Changed by lot 4 at skerry:\n  " + image + "  1.0.0 to 1.1.0", "What comes along with it at skerry:", "app/skerry/config/notice.yaml  added  (of lot 3 A notice, never let in here)", "app/skerry/config/tariff.yaml  changed  (changed here by hand, which is undone)"} {
		assert.Contains(t, p.Why, want)
	}
	out, _, code := s.cli("lane", "preview", s.name, "--to", "skerry", "--only-this")
	assert.Equal(t, 3, code)
	assert.NotContains(t, out, "notice")
	assert.Contains(t, out, "1.0.0 to 1.1.0")
	s.ok("lane", "promote", s.name, "--to", "skerry", "--only-this")
	live := s.proposed()
	require.Len(t, live, 1, "it takes the place of the one before")
	assert.Equal(t, "Let the change of lot 4 of "+s.name+" alone into skerry: "+s.name+" 1.1.0", live[0].Title)
	s.ok("propose", "merge", fmt.Sprint(live[0].Number))
	skerry = s.arrives("skerry", 4)
	assert.True(t, skerry.Passage.OnlyThis)
	assert.Contains(t, s.says("app/skerry/config/tariff.yaml"), `zones: "2"`)
	assert.Contains(t, s.says("app/skerry/versions.yaml"), second)
	out, _, code = s.cli("lane", "compare", s.name, "quay", "skerry")
	assert.Equal(t, 3, code)
	for _, want := range []string{"app/skerry/config/notice.yaml  removed", "app/skerry/config/tariff.yaml  changed", "ConfigMap notice", s.name + "-skerry@quay"} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "site", "what is a stop's own is not compared")

	// a bad one stops where it failed
	pushImage(t, image+":1.2.0-crash", "amd64")
	s.ok("follow", "take", s.name, "1.2.0-crash")
	quay = s.stopUntil("quay", "lot 5 failed", func(x client.LaneStop) bool { return x.Passage.Failed != "" })
	assert.Contains(t, quay.Says, "lot 5 failed: "+s.name+"-quay@quay: ")
	assert.Equal(t, 4, s.stopUntil("skerry", "is looked at", func(x client.LaneStop) bool { return true }).Passage.Lot)
	assert.NotEqual(t, 5, s.stopUntil("skerry", "is looked at", func(x client.LaneStop) bool { return true }).Offer.Lot, "it is offered to nobody")
	s.fails(1, "it failed at quay: "+s.name+"-quay@quay", "lane", "promote", s.name, "--to", "skerry", "--lot", "5", "--along")

	// and back
	s.ok("lane", "promote", s.name, "--to", "quay", "--lot", "4", "--along")
	s.arrives("quay", 4)
	s.ok("lane", "promote", s.name, "--to", "holm", "--lot", "1", "--along", "--why", "the gates are loud")
	holm = s.arrives("holm", 1)
	assert.Equal(t, []string{"admin", "the gates are loud"}, []string{holm.Passage.By, holm.Passage.Why})
	assert.Equal(t, []int{2}, holm.Passage.Along)
	out = s.ok("lane", "show", s.name)
	for _, want := range []string{"quay    #4", "skerry  #4 alone", "holm    #1", "#5 ", "quay failed"} {
		assert.Contains(t, out, want)
	}
	assert.Contains(t, s.ok("lane", "list"), "quay #4, skerry #4 alone, holm #1")
}

// TestALaneOutlivesTheService: whenever it is killed, a lot is written once, and proposed once; who let it in is remembered.
func TestALaneOutlivesTheService(t *testing.T) {
	t.Parallel()
	s := newService(t)
	const image = "registry.brindle.example/gate"
	s.push("All", together(s.environment("quay", image), s.environment("skerry", image), s.environment("holm", image), map[string]string{
		"wards/lane.yaml": s.laneFile("quay lets_in: by itself", "skerry after: [quay], lets_in: by itself", "holm after: [quay], lets_in: ask, by: proposal")}))
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	for _, stop := range []string{"quay", "skerry", "holm"} {
		s.arrives(stop, 1)
	}
	const rounds = 6
	for i := range rounds {
		s.push(fmt.Sprintf("Tariff %d", i), map[string]string{"app/quay/config/tariff.yaml": config("tariff", "zones", fmt.Sprint(10+i))})
		switch i % 3 { // while it is found, while it is on its way, and while it is written or proposed further on
		case 1:
			s.stopUntil("quay", "it is there", func(x client.LaneStop) bool { return x.Passage.Lot == i+2 })
		case 2:
			s.arrives("quay", i+2)
		}
		s.kill()
		s.start()
		s.arrives("skerry", i+2)
	}
	last := rounds + 1
	s.stopUntil("holm", "the last lot is proposed", func(x client.LaneStop) bool { return x.Proposal > 0 && x.Offer.Lot == last })
	bare := filepath.Join(labDir, "git", s.name+".git")
	var subjects []string
	for _, row := range strings.Split(git(t, bare, "log", "--author=Vigila", "--format=%s", "--reverse", "main"), "\n") {
		if row != "" {
			subjects = append(subjects, row)
		}
	}
	var want []string
	for i := range rounds {
		want = append(want, fmt.Sprintf("Let lot %d of %s into skerry: Tariff %d", i+2, s.name, i))
	}
	assert.Equal(t, want, subjects, "each once, in their order")
	live := s.proposed()
	require.Len(t, live, 1)
	assert.Equal(t, fmt.Sprintf("Let lot %d of %s into holm: Tariff %d", last, s.name, rounds-1), live[0].Title)
	assert.Equal(t, 1, strings.Count(git(t, bare, "branch", "--list"), "vigila/"), "of those before it no branch is left")
	assert.Equal(t, "vigila", s.stopUntil("skerry", "is there", func(x client.LaneStop) bool { return true }).Passage.By)
}

// TestStopsTakeLotsTogether: two stops take a lot by one commit; a stop that is held takes none, closed hours need a reason, and what people
// do meanwhile on the same branch is kept.
func TestStopsTakeLotsTogether(t *testing.T) {
	t.Parallel()
	s := newService(t)
	const image = "registry.brindle.example/gate"
	closed := time.Now().UTC().Add(12 * time.Hour).Weekday().String()[:3]
	never := fmt.Sprintf("%s 00:00-00:01 UTC", closed)
	if time.Now().UTC().Hour() < 12 { // half a day on it is still today
		never = fmt.Sprintf("%s 23:58-23:59 UTC", closed)
	}
	s.push("All", together(s.environment("quay", image), s.environment("skerry", image), s.environment("holm", image), s.environment("isle", image), map[string]string{
		"wards/lane.yaml": s.laneFile("quay lets_in: by itself", "skerry after: [quay], lets_in: by itself, settled: 1s", "holm after: [quay], lets_in: by itself, together: skerry", "isle after: [quay], lets_in: by itself, hours: \""+never+"\"")}))
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	for _, stop := range []string{"quay", "skerry", "holm", "isle"} {
		s.arrives(stop, 1)
	}
	s.fails(1, "lots begin at stop quay", "lane", "hold", s.name, "quay", "--why", "gale")
	s.ok("lane", "hold", s.name, "holm", "--why", "gale")
	s.fails(1, "is held already, by admin: gale", "lane", "hold", s.name, "holm", "--why", "storm")
	var others sync.WaitGroup
	others.Go(func() { // people, on the same branch
		for i := range 10 {
			assert.NoError(t, s.pushAmong(fmt.Sprintf("notes/%d.md", i), "low water\n"))
		}
	})
	require.NoError(t, s.pushAmong("app/quay/config/tariff.yaml", config("tariff", "zones", "4")))
	s.arrives("quay", 2)
	x := s.stopUntil("skerry", "its neighbour is held", func(x client.LaneStop) bool { return x.Offer.Lot == 2 })
	assert.Equal(t, "holm is held by admin: gale", x.Offer.Waits)
	s.fails(1, "holm is held by admin: gale. To let it in all the same, say why", "lane", "promote", s.name, "--to", "skerry")
	isle := s.stopUntil("isle", "it is closed", func(x client.LaneStop) bool { return x.Offer.Lot == 2 })
	assert.Equal(t, "lets lots in "+never, isle.Offer.Waits)
	assert.False(t, isle.NeedsYou, "which opens by itself")
	s.fails(1, "isle lets lots in "+never, "lane", "promote", s.name, "--to", "isle")
	s.ok("lane", "promote", s.name, "--to", "isle", "--why", "the ferry waits")
	isle = s.arrives("isle", 2)
	require.Len(t, isle.Passage.Against, 1)
	assert.Equal(t, "the ferry waits", isle.Passage.Why, "which is loud")
	s.ok("lane", "release", s.name, "holm")
	s.arrives("skerry", 2)
	s.arrives("holm", 2)
	others.Wait()
	bare := filepath.Join(labDir, "git", s.name+".git")
	log := git(t, bare, "log", "--format=%s", "main")
	assert.Equal(t, 1, strings.Count(log, "Let lot 2 of "+s.name+" into skerry and holm: app/quay/config/tariff.yaml"), "both by one")
	assert.Equal(t, 10, strings.Count(log, "notes/"), "nobody's commit is lost, and none is there twice")
	body := git(t, bare, "log", "--grep=into isle", "--format=%B", "main")
	assert.Contains(t, body, "the ferry waits")
	assert.Contains(t, body, "Lane: "+s.name+"\nLot: 2\nStop: isle")
	s.fails(1, "has what lot 2 carries already", "lane", "promote", s.name, "--to", "skerry", "--lot", "2")
	s.fails(1, "has no lot 9", "lane", "promote", s.name, "--to", "skerry", "--lot", "9")
	s.fails(1, `there is no stop "skery"; did you mean skerry?`, "lane", "promote", s.name, "--to", "skery")
	s.fails(1, `there is no lane "none"`, "lane", "show", "none")
}

// pushAmong pushes a file while others push as well, as people do: again on top of what is there then, until nobody was first.
func (s *service) pushAmong(file, text string) error {
	work := s.t.TempDir()
	if out, err := tryGit("", "clone", "--quiet", s.origin(), work); err != nil {
		return fmt.Errorf("%s: %w", out, err)
	}
	for try := 0; ; try++ {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(work, file)), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(work, file), []byte(text), 0o600); err != nil {
			return err
		}
		for _, args := range [][]string{{"add", "-A"}, {"commit", "--quiet", "-m", file}} {
			if out, err := tryGit(work, args...); err != nil {
				return fmt.Errorf("%s: %w", out, err)
			}
		}
		out, err := tryGit(work, "push", "--quiet", "origin", "HEAD:main")
		if err == nil {
			return nil
		}
		if try == 200 {
			return fmt.Errorf("%s: %w", out, err)
		}
		for _, args := range [][]string{{"fetch", "--quiet", "origin"}, {"reset", "--quiet", "--hard", "origin/main"}} {
			if out, err := tryGit(work, args...); err != nil {
				return fmt.Errorf("%s: %w", out, err)
			}
		}
	}
}

// TestALotIsLetInByItsProposal: where nobody is asked it is merged by itself; where somebody is, what stands against the lot stands against the
// merge, and a reason for it stays with the lot.
func TestALotIsLetInByItsProposal(t *testing.T) {
	t.Parallel()
	s := newService(t)
	const image = "registry.brindle.example/gate"
	s.push("All", together(s.environment("quay", image), s.environment("skerry", image), s.environment("holm", image), map[string]string{
		"wards/lane.yaml": s.laneFile("quay lets_in: by itself", "skerry after: [quay], lets_in: by itself, by: proposal", "holm after: [quay], lets_in: ask, by: proposal")}))
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	for _, stop := range []string{"quay", "skerry", "holm"} {
		s.arrives(stop, 1)
	}
	s.push("Tariff", map[string]string{"app/quay/config/tariff.yaml": config("tariff", "zones", "4")})
	s.arrives("skerry", 2)
	holm := s.stopUntil("holm", "lot 2 is proposed", func(x client.LaneStop) bool { return x.Proposal > 0 })
	r, err := s.api.ListProposalsWithResponse(t.Context(), &client.ListProposalsParams{Search: "skerry", Limit: 10})
	require.NoError(t, s.api.Check(r, err))
	require.Len(t, r.JSON200.Items, 1)
	assert.Equal(t, "merged by vigila", r.JSON200.Items[0].Says)
	s.ok("lane", "hold", s.name, "holm", "--why", "gale")
	n := fmt.Sprint(holm.Proposal)
	s.fails(1, "is not merged: holm is held by admin: gale. To merge it all the same, say why", "propose", "merge", n)
	s.ok("propose", "merge", n, "--why", "the ferry waits")
	holm = s.arrives("holm", 2)
	assert.Equal(t, []string{"holm is held by admin: gale"}, holm.Passage.Against)
	assert.Equal(t, []string{"admin", "the ferry waits"}, []string{holm.Passage.By, holm.Passage.Why})
	out := s.ok("lane", "show", s.name)
	assert.Contains(t, out, "holm: let in although holm is held by admin: gale: the ferry waits")
	assert.Contains(t, out, "held by admin: gale")
	s.kill()
	s.start()
	assert.Equal(t, holm.Passage, s.arrives("holm", 2).Passage, "all of it is remembered")
}

// TestMistakesOfLanes: each is told at its place, and what was declared well before stays in force.
func TestMistakesOfLanes(t *testing.T) {
	t.Parallel()
	s := newService(t)
	const image = "registry.brindle.example/gate"
	good := s.laneFile("quay lets_in: by itself", "skerry after: [quay], lets_in: ask")
	s.push("All", together(s.environment("quay", image), map[string]string{"wards/lane.yaml": good,
		"wards/again.yaml":  strings.Replace(good, "name: "+s.name+"\n", "name: again\n", 1),
		"wards/follow.yaml": "vigila: follow/v1\nname: " + s.name + "\nimage: " + image + "\nversions: \">=1\"\ninto: {file: app/skerry/versions.yaml}\n"}))
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	r := s.rosterUntil(s.name, "it tells of both", func(r client.Roster) bool { return len(r.Problems) > 1 })
	texts := fmt.Sprint(r.Problems)
	assert.Contains(t, texts, "app/skerry/versions.yaml is written by follow "+s.name+", at stop skerry as well")
	s.push("One", map[string]string{"wards/again.yaml": "", "wards/follow.yaml": ""})
	x := s.stopUntil("skerry", "its ward is not known", func(x client.LaneStop) bool { return strings.Contains(x.Says, "nothing is there yet") })
	assert.False(t, x.Arrived)
	s.arrives("quay", 1)
	assert.Equal(t, 1, s.stopUntil("skerry", "it is offered", func(x client.LaneStop) bool { return x.Offer.Lot > 0 }).Offer.Lot)
	s.push("Broken", map[string]string{"wards/lane.yaml": strings.Replace(good, "after: [quay]", "after: [kay]", 1)})
	r = s.rosterUntil(s.name, "it tells of it", func(r client.Roster) bool { return len(r.Problems) == 1 })
	assert.Equal(t, "stop skerry is after kay, and there is no such stop; there are quay and skerry", r.Problems[0].Text)
	assert.Equal(t, 9, r.Problems[0].Line)
	assert.Len(t, s.lane().Stops, 2, "the lane is as it was")
	s.push("Versions", map[string]string{"app/quay/versions.yaml": "vigila: versions/v1\nimages: {a: {}}\n", "wards/lane.yaml": good})
	x = s.stopUntil("quay", "it can't be read", func(x client.LaneStop) bool { return x.Problem != "" })
	assert.Contains(t, x.Says, "app/quay/versions.yaml:2: images.a has neither a tag nor a digest")
	assert.Equal(t, 1, x.Passage.Lot, "nothing is concluded from it")
	s.fails(1, "stop quay: app/quay/versions.yaml:2", "lane", "promote", s.name, "--to", "quay", "--lot", "1")
	s.push("No more", map[string]string{"wards/lane.yaml": ""})
	for end := time.Now().Add(patience); strings.Contains(s.ok("lane", "list"), s.name); time.Sleep(100 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "the lane is still there")
	}
	assert.Contains(t, s.ok("lane", "list"), "There is no lane.")
}

// TestALaneInTheConsole: a lane is read, a stop held and released, stops are compared, and a lot is let in with what comes along, in the
// browser.
func TestALaneInTheConsole(t *testing.T) {
	t.Parallel()
	s := newService(t)
	const image = "registry.brindle.example/gate"
	s.push("All", together(s.environment("quay", image), s.environment("skerry", image), map[string]string{"wards/lane.yaml": s.laneFile("quay lets_in: by itself", "skerry after: [quay], lets_in: ask, who: [harbour-ops]")}))
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.arrives("quay", 1)
	s.arrives("skerry", 1)
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.opens(`//nav//a[text()="Lanes"]`, "All that has begun has arrived")
	b.opens(`//a[text()="`+s.name+`"]`, "lots begin here")
	s.push("Notice", map[string]string{"app/quay/config/notice.yaml": config("notice", "text", "gale")})
	s.arrives("quay", 2)
	b.shows("Lot 2 is offered")
	b.shows("Waits to be let in by harbour-ops")
	b.choose("Hold skerry…")
	b.do(chromedp.SendKeys(`//div[@role="dialog"]//input`, "gale"))
	b.click("Hold it")
	b.shows("Held by admin")
	s.push("Tariff", map[string]string{"app/quay/config/tariff.yaml": config("tariff", "zones", "4")})
	s.arrives("quay", 3)
	b.shows("Lot 3 is offered")
	b.shows("One thing more than lot 3 itself would come along.")
	b.click("Compare stops")
	b.shows("With all that quay has, at skerry:")
	b.shows("data.zones")
	b.click("Close")
	b.click("Review and let it in")
	b.shows("Comes along with lot 3")
	b.shows("never let in here")
	b.shows("Against it: skerry is held by admin: gale")
	b.do(chromedp.SendKeys(`//div[@role="dialog"]//label[contains(., "Why")]/input`, "the ferry waits"))
	b.click("Let it in with what comes along")
	x := s.arrives("skerry", 3)
	assert.Equal(t, []string{"admin", "the ferry waits"}, []string{x.Passage.By, x.Passage.Why})
	assert.Equal(t, []int{2}, x.Passage.Along)
	b.shows("Let in although skerry is held by admin: gale: the ferry waits")
	b.choose("Release skerry…")
	b.click("Release it")
	b.shows("All that has begun has arrived")
	s.stopUntil("skerry", "it is released", func(x client.LaneStop) bool { return x.HeldBy.By == "" })
}
