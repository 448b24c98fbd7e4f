package e2e

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// signedIn is the same service, asked by somebody whom the provider knows, with a token of theirs.
func (s *service) signedIn(who, token, role string) *service {
	s.t.Helper()
	b := newBrowser(s.t)
	b.open(s.url + "/")
	b.signsIn(who)
	b.shows("No wards yet")
	text := b.value(fmt.Sprintf(`(() => {
		const ask = (method, path, headers, body) => {
			const x = new XMLHttpRequest();
			x.open(method, path, false);
			for (const [k, v] of Object.entries(headers)) x.setRequestHeader(k, v);
			x.send(body);
			return x.responseText;
		};
		const me = JSON.parse(ask("GET", "/api/v1/me", {}));
		return ask("POST", "/api/v1/tokens", {"Content-Type": "application/json", "X-CSRF-Token": me.csrf}, JSON.stringify({name: %q, role: %q, for: 3600}));
	})()`, token, role))
	other := *s
	other.token = regexp.MustCompile(`vigila_[\w-]{43}`).FindString(text)
	require.NotEmpty(s.t, other.token, text)
	var err error
	other.api, err = client.New(client.Context{Name: "test", URL: s.url, Token: other.token})
	require.NoError(s.t, err)
	return &other
}

// TestApprovals: a repository, and a stop of a lane, want so many approvals of such people; the author's own does not count, not even by
// another of their tokens, nor one of what it was before.
func TestApprovals(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/c.yaml": config("berths", "count", "7")})
	s.ok("provider", "add", "brindle", providerURL, "--client", "vigila", "--secret-file", s.file("secret", providerSecret), "--admin", "user:admin@brindle.example", "--operator", "group:harbour-ops")
	s.ok("team", "add", s.file("team.yaml", "vigila: team/v1\nname: ticketing\nmembers: [{group: \"brindle:ticketing\"}]\nmay: [{do: [approve], repos: ["+s.name+"]}]\n"))
	s.fails(1, "there is no team tickets", "repo", "approvals", s.name, "--count", "1", "--of", "tickets")
	s.fails(2, "say how many", "repo", "approvals", s.name)
	assert.Contains(t, s.ok("repo", "approvals", s.name, "--count", "2", "--of", "ticketing,operator,admin"), "need 2 approvals of ticketing or operator or admin")

	author := s.signedIn("admin", "admins-own", "admin")
	r, err := author.api.ProposeFilesWithResponse(t.Context(), s.name, client.ProposeFiles{Branch: "more", Subject: "More berths", Files: []client.ProposedFile{{Path: "app/c.yaml", Text: config("berths", "count", "8")}}})
	require.NoError(t, author.api.Check(r, err))
	s.fails(1, "is not merged: repository "+s.name+" wants 2 approvals of ticketing or operator or admin", "propose", "merge", "1")
	again := author.withToken("admins-other", "--role", "admin")
	again.ok("propose", "approve", "1")
	s.fails(1, "wants 2 approvals", "propose", "merge", "1")
	assert.NotContains(t, s.proposal(1).Lacks, "has", "another token of the author's is the author")

	desk := s.withToken("desk", "--may", "approve", "--repos", s.name)
	assert.Contains(t, desk.ok("propose", "list"), "More berths")
	assert.Contains(t, desk.ok("propose", "show", "1"), "app/c.yaml  changed", "who is to approve it sees it")
	desk.ok("propose", "approve", "1")
	assert.NotContains(t, s.proposal(1).Lacks, "desk", "it is of no team that is meant")
	desk.fails(1, "there is nothing such", "propose", "merge", "1")
	works := s.withToken("works", "--role", "operator")
	works.ok("propose", "approve", "1")
	assert.Contains(t, s.proposal(1).Lacks, "and has works")

	b := newBrowser(t)
	b.open(s.url + "/proposals/1")
	b.signsIn("reader") // of the team, who sees nothing but that
	b.shows("More berths")
	b.shows("Waits for approvals")
	b.click("Approve")
	s.proposalUntil(1, "has both", func(p client.Proposal) bool { return p.Lacks == "" })
	assert.Equal(t, "brindle:reader@brindle.example", s.proposal(1).Approvals[len(s.proposal(1).Approvals)-1].By)

	s.pushTo("more", "Even more", map[string]string{"app/c.yaml": config("berths", "count", "9")}) // by somebody, unseen
	s.ok("repo", "look", s.name)
	s.proposalUntil(1, "needs them anew", func(p client.Proposal) bool { return p.Lacks != "" })
	s.fails(1, "wants 2 approvals", "propose", "merge", "1")
	s.ok("repo", "approvals", s.name, "--count", "1")
	s.proposalUntil(1, "is judged by what is wanted now", func(p client.Proposal) bool { return strings.HasSuffix(p.Lacks, "wants 1 approval") })
	s.fails(1, "wants 1 approval", "propose", "merge", "1")
	works.ok("propose", "approve", "1")
	s.ok("propose", "merge", "1")

	// What a token may ends with what its maker may.
	walks := author.withToken("walks", "--role", "operator")
	walks.ok("repo", "look", s.name)
	s.ok("provider", "add", "brindle", providerURL, "--client", "vigila", "--secret-file", s.file("secret", providerSecret), "--admin", "user:nobody@brindle.example", "--reader", "user:admin@brindle.example")
	walks.fails(1, "walks", "repo", "approvals", s.name, "--count", "0")
	walks.ok("ward", "list")
	s.ok("provider", "remove", "brindle")
	_, _, code := walks.cli("repo", "list")
	assert.NotZero(t, code)
	assert.Contains(t, s.ok("token", "list"), "made by brindle:admin@brindle.example")
}

// TestMembersDeclareAndSetUp: what is for operators else can be given by the piece.
func TestMembersDeclareAndSetUp(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/c.yaml": config("berths", "count", "7")})
	file := func(name, owner string) string {
		return s.file(name+".yaml", fmt.Sprintf("vigila: ward/v1\nname: %s\nowner: %s\nfrom: {repo: %s, path: app}\ninto: {cluster: quay, namespace: %[3]s, create_namespace: true}\n", name, owner, s.name))
	}
	hidden := s.name + "-lights"
	s.ok("ward", "add", file(hidden, "signals"))
	desk := s.withToken("desk", "--may", "declare", "--wards", "owner=ticketing")
	desk.ok("ward", "add", file(s.name, "ticketing"))
	desk.fails(1, "may not declare", "ward", "add", file(s.name+"-other", "signals"))
	desk.fails(1, "there is nothing such", "ward", "add", file(hidden, "ticketing"))
	desk.fails(1, "there is no ward", "ward", "remove", hidden)
	assert.NotContains(t, desk.ok("ward", "list"), hidden)
	desk.ok("ward", "remove", s.name)
	desk.fails(1, "wants an operator's", "repo", "remove", s.name)

	works := s.withToken("works", "--may", "sources,clusters", "--wards", "owner=nobody")
	assert.Contains(t, works.ok("repo", "list"), s.name)
	works.ok("repo", "add", "other", s.origin())
	works.ok("repo", "remove", "other")
	works.ok("cluster", "add", "quay", "--label", "tier=rehearsal")
	works.fails(1, "an admin's", "token", "list")
	works.fails(1, "wants a reader's", "store", "list")
	reader := s.withToken("walks", "--may", "see", "--wards", "owner=signals")
	reader.fails(1, "a reader's", "repo", "list")
	people := s.withToken("office", "--may", "people", "--wards", "owner=nobody")
	assert.Contains(t, people.ok("token", "list"), "desk")
	people.fails(1, "an operator's", "repo", "add", "other", s.origin())
}

// TestAStopWantsApprovals: a lot that nobody is asked for is merged once it has them, and not before.
func TestAStopWantsApprovals(t *testing.T) {
	t.Parallel()
	s := newService(t)
	image := "registry.brindle.example/gate"
	s.push("All", together(s.environment("quay", image), s.environment("skerry", image), map[string]string{
		"wards/lane.yaml": s.laneFile("quay lets_in: by itself", "skerry after: [quay], lets_in: by itself, by: proposal, approvals: {count: 1, of: [operator]}")}))
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.arrives("skerry", 1)
	s.push("Four zones", map[string]string{"app/quay/config/tariff.yaml": config("tariff", "zones", "4")})
	s.arrives("quay", 2)
	x := s.stopUntil("skerry", "lot 2 is proposed", func(x client.LaneStop) bool { return x.Proposal > 0 })
	assert.Equal(t, 1, x.WantsApprovals.HowMany)
	p := s.proposalUntil(x.Proposal, "waits for them", func(p client.Proposal) bool { return p.Lacks != "" })
	assert.Equal(t, "Stop skerry wants 1 approval of operator", strings.ToUpper(p.Lacks[:1])+p.Lacks[1:])
	s.fails(1, "is not merged: stop skerry wants 1 approval of operator", "propose", "merge", fmt.Sprint(p.Number))
	s.ok("propose", "approve", fmt.Sprint(p.Number)) // by an admin, who is no operator by name
	assert.NotEmpty(t, s.proposal(p.Number).Lacks)
	s.withToken("works", "--role", "operator").ok("propose", "approve", fmt.Sprint(p.Number))
	assert.Equal(t, "vigila", s.arrives("skerry", 2).Passage.By)
	assert.Contains(t, s.says("app/skerry/config/tariff.yaml"), `"4"`)
}
