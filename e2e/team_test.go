package e2e

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/client"
)

// apiCalls are the calls of the API that read, as api/openapi.yaml lists them.
func apiCalls(t *testing.T) (paths []string) {
	t.Helper()
	text, err := os.ReadFile("../api/openapi.yaml")
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]any `json:"paths"`
	}
	require.NoError(t, yaml.Unmarshal(text, &doc))
	for path, methods := range doc.Paths {
		if _, reads := methods["get"]; reads && path != "/events" {
			paths = append(paths, path)
		}
	}
	require.Greater(t, len(paths), 40)
	return paths
}

func (s *service) get(path string) (int, string) {
	s.t.Helper()
	q, err := http.NewRequestWithContext(s.t.Context(), http.MethodGet, s.url+path, nil)
	require.NoError(s.t, err)
	q.Header.Set("Authorization", "Bearer "+s.token)
	r, err := http.DefaultClient.Do(q)
	require.NoError(s.t, err)
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	require.NoError(s.t, err)
	return r.StatusCode, string(b)
}

// TestTeamsSeeWhatIsTheirs: whoever has no role sees and does what their team may, and of everything else not even the name.
func TestTeamsSeeWhatIsTheirs(t *testing.T) {
	t.Parallel()
	s := newService(t)
	ward := func(name, owner string) string {
		return fmt.Sprintf("vigila: ward/v1\nname: %s\nowner: %s\nfrom: {repo: %s, path: %[1]s}\ninto: {cluster: quay, namespace: %[3]s, create_namespace: true}\nkeep: {sync: ask, every: 1s}\n", name, owner, s.name)
	}
	s.push("All", map[string]string{"kelp-desk/c.yaml": config("tickets", "count", "7") + "---\n" + config("shared", "of", "both") + "---\n" + secretFrom("kelp"), "hidden-harbour/c.yaml": config("tides", "count", "9") + "---\n" + config("shared", "of", "both") + "---\n" + secretFrom("mole")})
	s.ok("store", "add", "harbour", kvBase, "--token-file", s.file("kv-token", kvToken), "--every", "5s")
	value := func(as *service, of string) (string, int) {
		cmd := exec.Command(filepath.Join(bin, "vigila"), "secret", "set", "harbour/"+s.name+"/"+of+"#password")
		cmd.Env = append(os.Environ(), "VIGILA_URL="+as.url, "VIGILA_TOKEN="+as.token)
		cmd.Stdin = strings.NewReader("open-sesame-" + of)
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	text, set := value(s, "mole")
	require.Zero(t, set, text)
	s.add(ward("kelp-desk", "ticketing"))
	s.add(ward("hidden-harbour", "signals"))
	s.ok("sync", "hidden-harbour")
	_, _, _ = s.cli("look", "kelp-desk")
	s.ok("hold", "hidden-harbour", "--why", "a gale off the mole")

	s.ok("provider", "add", "brindle", providerURL, "--client", "vigila", "--secret-file", s.file("secret", providerSecret), "--operator", "group:harbour-ops")
	team := func(name, may string) string {
		return fmt.Sprintf("vigila: team/v1\nname: %[1]s\nmembers: [{group: \"brindle:%[1]s\"}]\nmay:\n  - {do: [%s], wards: {owner: %[1]s}}\n", name, may)
	}
	s.fails(1, `brindel:ticketing: there is no provider "brindel"`, "team", "add", s.file("team.yaml", strings.ReplaceAll(team("ticketing", "see"), "brindle:", "brindel:")))
	s.fails(1, "team.yaml:5: wards is missing", "team", "add", s.file("team.yaml", strings.ReplaceAll(team("ticketing", "see"), "owner: ticketing", "")))
	out := s.ok("team", "add", s.file("team.yaml", team("ticketing", "see, look, hold")+"---\n"+team("signals", "see, sync, roll back")))
	assert.Contains(t, out, "ticketing, signals")
	assert.Regexp(t, `may see, look, hold: wards of owner ticketing`, s.ok("team", "list"))
	s.fails(2, "a token has a role, or what --may says; not both", "token", "make", "x", "--may", "see", "--wards", "owner=ticketing", "--role", "reader")
	s.fails(1, "wards is missing", "token", "make", "x", "--may", "sync")
	s.fails(1, `"halt"`, "token", "make", "x", "--may", "halt", "--wards", "owner=ticketing")
	token := func(args ...string) *service {
		other := *s
		other.token = regexp.MustCompile(`vigila_[\w-]{43}`).FindString(s.ok(append([]string{"token", "make"}, args...)...))
		require.NotEmpty(t, other.token)
		var err error
		other.api, err = client.New(client.Context{Name: "test", URL: s.url, Token: other.token})
		require.NoError(t, err)
		return &other
	}
	desk := token("desk", "--may", "see,look,hold,set-secrets", "--wards", "owner=ticketing")
	signals := token("mole", "--may", "see,sync,allow", "--wards", "owner=signals", "--guards", "mass-removal")
	reader, operator := token("walks", "--role", "reader"), token("works", "--role", "operator")

	// Everything that can be read, by each of the four.
	revision := s.ward0("kelp-desk").Revision.Id
	fill := strings.NewReplacer("{number}", "1", "{revision}", revision, "{code}", "BCDF-GHJK")
	seen := map[string]string{}
	for who, x := range map[string]*service{"desk": desk, "signals": signals, "reader": reader, "operator": operator} {
		var all strings.Builder
		for _, path := range apiCalls(t) {
			path = fill.Replace(path)
			own := map[string]string{"desk": "kelp-desk", "signals": "hidden-harbour"}[who]
			if own == "" {
				own = "hidden-harbour@quay"
			}
			for _, name := range []string{s.name, "quay", "brindle"} {
				p := strings.NewReplacer("{ward}", own, "{name}", name).Replace(path)
				query := url.Values{"limit": {"100"}, "from": {"1"}, "verb": {"see"}, "ward": {own}, "key": {"/ConfigMap/" + s.name + "/shared"}, "one": {"a"}, "other": {"b"}, "repo": {s.name}, "branch": {"main"}}
				status, body := x.get("/api/v1" + p + "?" + query.Encode())
				fmt.Fprintf(&all, "%s %d %s\n", p, status, body)
				assert.NotEqual(t, http.StatusInternalServerError, status, p)
				if p == path {
					break
				}
			}
		}
		seen[who] = all.String()
	}
	for who, hidden := range map[string][]string{"desk": {"hidden-harbour", "tides", "signals", "gale off the mole"}, "signals": {"kelp-desk", "tickets", "ticketing"}} {
		for _, name := range hidden {
			at := strings.Index(seen[who], name)
			assert.Negative(t, at, "%s is told of %s: %s", who, name, seen[who][max(0, at-300):min(len(seen[who]), max(0, at)+100)])
		}
	}
	assert.Contains(t, seen["desk"], "kelp-desk@quay")
	assert.Contains(t, seen["signals"], "gale off the mole")
	for _, who := range []string{"reader", "operator"} {
		assert.Contains(t, seen[who], "kelp-desk@quay")
		assert.Contains(t, seen[who], "hidden-harbour@quay")
	}
	// What is there and may not be seen answers as what is not there.
	for _, path := range apiCalls(t) {
		if !strings.Contains(path, "{ward}") {
			continue
		}
		ask := func(name string) string {
			status, body := desk.get("/api/v1" + fill.Replace(strings.ReplaceAll(path, "{ward}", name)) + "?from=1&key=x")
			return fmt.Sprint(status, strings.ReplaceAll(body, name, "X"))
		}
		assert.Equal(t, ask("nobody-knows"), ask("hidden-harbour"), path)
		assert.Equal(t, ask("nobody-knows@quay"), ask("hidden-harbour@quay"), path)
	}
	for _, args := range [][]string{{"sync"}, {"hold", "--why", "x"}, {"release"}, {"look"}, {"rollback", "1"}, {"reject", revision, "--why", "x"}} {
		one, other := append([]string{args[0], "nobody-knows"}, args[1:]...), append([]string{args[0], "hidden-harbour"}, args[1:]...)
		_, no, code := desk.cli(one...)
		_, hidden, same := desk.cli(other...)
		assert.Equal(t, 1, code, "%v %s", args, no)
		assert.Equal(t, code, same)
		assert.Equal(t, strings.ReplaceAll(no, "nobody-knows", "X"), strings.ReplaceAll(hidden, "hidden-harbour", "X"), "%v", args)
	}

	// What a team may, it does; what it may not is refused with what would be needed, and both are in the account.
	list := desk.ok("ward", "list")
	assert.Contains(t, list, "kelp-desk@quay")
	assert.Contains(t, list, "1 ward")
	assert.NotContains(t, desk.ok("logbook"), "hidden-harbour")
	desk.ok("hold", "kelp-desk", "--why", "tickets first")
	desk.ok("look", "kelp-desk")
	desk.fails(1, "desk may not sync kelp-desk@quay: nothing gives it: neither a team nor a role (operator)", "sync", "kelp-desk")
	desk.fails(1, "token desk is a member's, and this wants a reader's", "repo", "list")
	signals.fails(1, "mole may not hold hidden-harbour@quay", "release", "hidden-harbour")
	signals.fails(1, "mole may not allow guard empty of hidden-harbour@quay: token mole gives it for wards of signals, guards mass-removal", "sync", "hidden-harbour", "--allow", "empty")
	signals.fails(1, "mole may not reject hidden-harbour@quay", "sync", "hidden-harbour", "--retry")
	assert.Regexp(t, `hold ward kelp-desk\S* +done +desk`, s.ok("audit", "--who", "desk"))
	assert.Contains(t, s.ok("audit", "--who", "mole"), "refused")
	s.fails(1, "", "may", "desk", "sync", "kelp-desk")
	assert.Contains(t, s.said("may", "desk", "sync", "kelp-desk"), "no  desk may not sync kelp-desk@quay: nothing gives it")
	assert.Contains(t, desk.ok("may", "me", "hold", "kelp-desk"), "yes  desk may hold kelp-desk@quay: token desk")
	desk.fails(1, "what others may is told to operators", "may", "walks", "see", "kelp-desk")
	s.fails(1, "", "may", "brindle:signals@brindle.example", "see", "hidden-harbour")
	assert.Contains(t, s.said("may", "brindle:signals@brindle.example", "see", "hidden-harbour"), "what their groups give is known once they have signed in")

	// Values of secrets: of those that nobody's but their wards refer to.
	secrets := desk.ok("secret", "list")
	assert.Contains(t, secrets, "kelp#password")
	assert.NotContains(t, secrets, "mole")
	for _, of := range []string{"mole", "nobody-knows"} {
		errs, code := value(desk, of)
		assert.Equal(t, 1, code)
		assert.Contains(t, errs, "there is nothing such that desk may do something to")
	}
	errs, code := value(desk, "kelp")
	require.Zero(t, code, errs)
	errs, code = value(signals, "mole")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "mole may not set secrets hidden-harbour@quay")
	assert.NotContains(t, s.log.String(), "open-sesame")

	// In the browser: their wards, their controls, and who could do what they can't.
	b := newBrowser(t)
	b.open(s.url + "/")
	b.signsIn("signals")
	b.shows("hidden-harbour")
	assert.Contains(t, s.said("may", "brindle:signals@brindle.example", "see", "hidden-harbour"), "yes  brindle:signals@brindle.example may see hidden-harbour@quay: team signals, line 11")
	assert.NotContains(t, b.text(), "kelp-desk")
	assert.NotContains(t, b.text(), "Set up")
	b.open(s.url + "/wards/hidden-harbour@quay")
	b.do(chromedp.WaitReady(chromedp.Search(`//button[normalize-space()='Release' and @disabled and contains(@title, "No team of yours may hold here; an operator may.")]`)))
	b.do(chromedp.WaitReady(chromedp.Search(`//button[normalize-space()='Sync' and not(@disabled)]`)))
	b.open(s.url + "/wards/kelp-desk@quay")
	b.shows(`there is no ward "kelp-desk@quay"`)
	s.ok("team", "remove", "signals")
	b.open(s.url + "/")
	b.shows("Sign in with brindle")
}

// secretFrom is a Secret whose value is in the store.
func secretFrom(of string) string {
	return "apiVersion: v1\nkind: Secret\nmetadata: {name: " + of + "}\nstringData: {password: \"secret://harbour/teamsseewhatistheirs/" + of + "#password\"}\n"
}

// said is what the command line prints, whatever it comes to.
func (s *service) said(args ...string) string {
	s.t.Helper()
	out, _, _ := s.cli(args...)
	return out
}

// ward0 is a ward by its name.
func (s *service) ward0(name string) client.Ward {
	s.t.Helper()
	r, err := s.api.GetWardWithResponse(s.t.Context(), name)
	require.NoError(s.t, s.api.Check(r, err))
	return r.JSON200.Ward
}

// TestTeamsOfARoster: a roster that was let to says who may what, and what leaves its files is given no more.
func TestTeamsOfARoster(t *testing.T) {
	t.Parallel()
	s := newService(t)
	team := func(name, more string) string {
		return "vigila: team/v1\nname: " + name + "\nmembers: [{user: \"brindle:reader@brindle.example\"}]\nmay:\n  - {do: [see, sync" + more + "], wards: {owner: ticketing}}\n"
	}
	s.push("All", map[string]string{"desk/c.yaml": config("tickets", "count", "7"), "wards/teams.yaml": team("ticketing", ""),
		"wards/desk.yaml": fmt.Sprintf("vigila: ward/v1\nname: %s\nowner: ticketing\nfrom: {path: desk}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {sync: ask, every: 1s}\n", s.name)})
	s.ok("provider", "add", "brindle", providerURL, "--client", "vigila", "--secret-file", s.file("secret", providerSecret), "--operator", "group:harbour-ops")
	may := func(verb string) string {
		return s.said("may", "brindle:reader@brindle.example", verb, s.name)
	}
	roster := []string{"roster", "add", s.name, "--repo", s.name, "--path", "wards"}
	out := s.ok(roster...)
	assert.Contains(t, out, "wards/teams.yaml:1: teams are declared here, and nobody has let roster "+s.name+" do that")
	s.until("it is behind", func(w client.Ward) bool { return w.Standing == "behind" })
	assert.Contains(t, may("sync"), "no  ")
	assert.Contains(t, s.ok("team", "list"), "There are no teams")

	out = s.ok(append(roster, "--teams")...)
	assert.NotContains(t, out, "teams.yaml")
	assert.Contains(t, s.ok("team", "list"), "declared by roster "+s.name+", in wards/teams.yaml:1")
	assert.Contains(t, may("sync"), "yes  brindle:reader@brindle.example may sync "+s.name+"@quay: team ticketing, line 5")
	assert.Contains(t, may("hold"), "no  ")
	s.fails(1, "team ticketing is declared by roster "+s.name+"; take it out there: wards/teams.yaml", "team", "remove", "ticketing")
	s.fails(1, "team ticketing is declared by roster "+s.name+"; change it there", "team", "add", s.file("team.yaml", team("ticketing", "")))
	s.ok("team", "add", s.file("team.yaml", team("signals", "")))

	eventually := func(verb, want string) {
		t.Helper()
		require.Eventually(t, func() bool { s.ok("look", s.name); return strings.Contains(may(verb), want) }, patience, 200*time.Millisecond, "%s: %s", verb, want)
	}
	s.push("They hold as well", map[string]string{"wards/teams.yaml": team("ticketing", ", hold")})
	eventually("hold", "yes  ")
	s.push("A slip", map[string]string{"wards/teams.yaml": team("ticketing", ", halt")})
	require.Eventually(t, func() bool {
		return strings.Contains(s.ok("roster", "list"), `wards/teams.yaml:5: do: nobody can "halt"`)
	}, patience, 200*time.Millisecond)
	assert.Contains(t, may("hold"), "yes  ", "a file that can't be read takes nothing away")
	s.push("Of a provider that nobody knows, and one that is there already", map[string]string{"wards/teams.yaml": team("ticketing", "") + "---\n" + strings.ReplaceAll(team("crew", ""), "brindle:", "crew:") + "---\n" + team("signals", "")})
	eventually("hold", "no  ")
	list := s.ok("roster", "show", s.name)
	assert.Contains(t, list, `there is no provider "crew"`)
	assert.Contains(t, list, "team signals was given by command; remove it first: vigila team remove signals")
	s.ok("team", "remove", "signals")
	s.push("Nobody any more", map[string]string{"wards/teams.yaml": ""})
	eventually("sync", "no  ")
	assert.Contains(t, s.ok("team", "list"), "There are no teams")
	assert.Regexp(t, `let go team ticketing +done +roster `+s.name, s.ok("audit", "--search", "team ticketing"))
}

// TestTeamsLetLotsIn: at the stops that are theirs, by a proposal as well; of the others' they see that there is one, and no more.
func TestTeamsLetLotsIn(t *testing.T) {
	t.Parallel()
	s := newService(t)
	const image = "registry.brindle.example/gate"
	s.push("All", together(s.environment("quay", image), s.environment("skerry", image), s.environment("holm", image), map[string]string{
		"wards/lane.yaml": s.laneFile("quay lets_in: by itself", "skerry after: [quay], lets_in: ask", "holm after: [quay], lets_in: ask, by: proposal")}))
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	for _, stop := range []string{"quay", "skerry", "holm"} {
		s.arrives(stop, 1)
	}
	s.push("Tariff", map[string]string{"app/quay/config/tariff.yaml": config("tariff", "zones", "10")})
	number := fmt.Sprint(s.stopUntil("holm", "the lot is proposed", func(x client.LaneStop) bool { return x.Proposal > 0 && x.Offer.Lot == 2 }).Proposal)
	token := func(name, stop string) *service {
		other := *s
		other.token = regexp.MustCompile(`vigila_[\w-]{43}`).FindString(s.ok("token", "make", name, "--may", "promote", "--lanes", s.name, "--stops", stop))
		return &other
	}
	skerry, holm := token("skerry-mate", "skerry"), token("holm-mate", "holm")
	assert.Contains(t, skerry.ok("lane", "show", s.name), "At skerry lot 2 waits to be let in")
	assert.Contains(t, skerry.ok("propose", "show", number), "Tariff")
	skerry.fails(1, "skerry-mate may not promote lane "+s.name+" at holm: token skerry-mate gives it for lanes "+s.name+", stops skerry", "propose", "merge", number)
	holm.fails(1, "holm-mate may not promote lane "+s.name+" at skerry", "lane", "promote", s.name, "--to", "skerry")
	skerry.ok("lane", "promote", s.name, "--to", "skerry")
	s.arrives("skerry", 2)
	holm.ok("propose", "merge", number)
	s.arrives("holm", 2)
	assert.Contains(t, s.ok("audit", "--who", "holm-mate"), "merge proposal")
	other := *s
	other.token = regexp.MustCompile(`vigila_[\w-]{43}`).FindString(s.ok("token", "make", "nobody", "--may", "see", "--wards", "owner=nobody"))
	other.fails(1, "there is no proposal "+number, "propose", "show", number)
	other.fails(1, "there is no lane", "lane", "show", s.name)
	assert.NotContains(t, other.ok("propose", "list"), "Tariff")
}
