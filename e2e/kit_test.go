package e2e

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/client"
)

// withToken is the same service, asked with a token that is made for it.
func (s *service) withToken(args ...string) *service {
	s.t.Helper()
	other := *s
	other.token = regexp.MustCompile(`vigila_[\w-]{43}`).FindString(s.ok(append([]string{"token", "make"}, args...)...))
	require.NotEmpty(s.t, other.token)
	var err error
	other.api, err = client.New(client.Context{Name: "test", URL: s.url, Token: other.token})
	require.NoError(s.t, err)
	return &other
}

// kits are the files of a kit that makes a service, and of two components, as a roster has them.
func (s *service) kits() map[string]string {
	return map[string]string{
		"wards/kits/desk/kit.yaml": fmt.Sprintf(`vigila: kit/v1
name: desk-%[1]s
about: A desk that sells something.
makes: {path: "desks/${{ params.name }}"}
files:
  - {file: ward.yaml, to: "wards/${{ params.name }}.yaml"}
parameters:
  required: [name, owner, cluster]
  properties:
    name: {type: string, title: Name, pattern: "^[a-z0-9-]+$"}
    owner: {type: string, title: Owner, enum: [ticketing, signals]}
    cluster: {type: string, title: Cluster, format: cluster}
    windows: {type: integer, title: Windows, default: 2, minimum: 1}
    sign: {type: string, title: Sign, default: "${{ 'Desk ' + params.name }}"}
may: {clusters: {tier: rehearsal}}
`, s.name),
		"wards/kits/desk/files/ward.yaml": "vigila: ward/v1\nname: ${{ params.name }}\nowner: ${{ params.owner }}\nfrom: {path: \"desks/${{ params.name }}\"}\ninto: {cluster: \"${{ params.cluster }}\", namespace: " + s.name + ", create_namespace: true}\nkeep: {sync: auto, every: 1s}\n",
		"wards/kits/desk/files/desk.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: \"${{ params.name }}\"}\ndata:\n  # how many there are\n  windows: \"${{ params.windows }} windows\"\n  sign: ${{ params.sign }}\n  open: \"9:00\"\n",
		"wards/kits/bells/kit.yaml":       "vigila: kit/v1\nname: bells-" + s.name + "\nswitch:\n  from: {path: components/bells}\n  into: {namespace: " + s.name + "-bells, create_namespace: true}\n  keep: {sync: auto, every: 1s, on_removal: dismantle}\nparameters: {properties: {times: {type: integer, default: 3}}}\n",
		"wards/kits/clocks/kit.yaml":      "vigila: kit/v1\nname: clocks-" + s.name + "\nswitch:\n  needs: [bells-" + s.name + "]\n  from: {path: components/clocks}\n  into: {namespace: " + s.name + "-bells}\n  keep: {sync: auto, every: 1s, on_removal: dismantle}\n",
		"components/bells/template.yaml":  "vigila: template/v1\nname: bells\nparameters: {properties: {times: {type: integer}}}\n",
		"components/bells/c.yaml":         "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: bells}\ndata: {times: \"${{ string(params.times) }}\"}\n",
		"components/clocks/c.yaml":        config("clocks", "hands", "2"),
	}
}

// TestKits: a service is made from a form, changed by hand and by the form, and a newer kit is offered to it; components are switched on and
// off in one file; and a team does what it was given, and sees nothing else.
func TestKits(t *testing.T) {
	t.Parallel()
	s := newService(t)
	desk := "desk-" + s.name
	s.push("Kits", s.kits())
	s.ok("cluster", "add", "quay", "--label", "tier=rehearsal")
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.rosterUntil(s.name, "is read", func(r client.Roster) bool { return r.Standing == "in step" })

	assert.Regexp(t, `(?m)^desk-\S+ +makes files +tier: rehearsal`, s.ok("kit", "list"))
	assert.Contains(t, s.ok("kit", "show", desk), "one of quay, needed")
	s.fails(1, "owner is missing", "kit", "new", desk, "--set", "name=fares")
	s.fails(1, "windows: minimum: got 0, want 1", "kit", "new", desk, "--set", "name=fares", "--set", "owner=ticketing", "--set", "cluster=quay", "--set", "windows=0")
	s.fails(1, "there is no cluster kelp", "kit", "new", desk, "--set", "name=fares", "--set", "owner=ticketing", "--set", "cluster=kelp")
	s.fails(1, "did you mean windows?", "kit", "new", desk, "--set", "name=fares", "--set", "owner=ticketing", "--set", "cluster=quay", "--set", "window=2")
	name := s.name + "-fares"
	fares := []string{"kit", "new", desk, "--set", "name=" + name, "--set", "owner=ticketing", "--set", "cluster=quay"}
	out, _, code := s.cli(append(fares, "--try")...)
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "+  windows: 2 windows")
	assert.Contains(t, out, "+  # how many there are", "comments stay")
	assert.Contains(t, out, name+"@quay  new")
	assert.Empty(t, s.proposed(), "trying writes nothing")
	assert.Contains(t, s.ok(fares...), "#1  Add desks/"+name)
	assert.Contains(t, s.ok(fares...), "#1  Add desks/"+name, "the same wish is the same proposal")
	s.ok("propose", "merge", "1")
	s.untilOf(name+"@quay", "in step", inStepAndReady)
	s.fails(1, "is there already, and this did not make it", fares...)
	s.fails(1, "no kit has made desks/none", "kit", "change", "desks/none")
	assert.Contains(t, s.ok("kit", "change", "desks/"+name), "It would change nothing")

	// By hand, and by the form.
	s.push("Open earlier", map[string]string{"desks/" + name + "/desk.yaml": strings.Replace(s.says("desks/"+name+"/desk.yaml"), "9:00", "8:00", 1)})
	s.ok("look", name)
	assert.Contains(t, s.ok("kit", "change", "desks/"+name, "--set", "windows=5"), "#2  Change desks/"+name)
	s.ok("propose", "merge", "2")
	now := s.says("desks/" + name + "/desk.yaml")
	assert.Contains(t, now, "windows: 5 windows")
	assert.Contains(t, now, "8:00", "what was changed by hand stays")
	assert.Contains(t, s.says("desks/"+name+"/.made.yaml"), "windows: 5")

	// A newer kit, which says another time as well.
	assert.Contains(t, s.ok("kit", "renew", desk), "the kit is as it was")
	files := s.kits()
	s.push("Signs are lit", map[string]string{"wards/kits/desk/files/desk.yaml": strings.Replace(files["wards/kits/desk/files/desk.yaml"], "data:\n", "data:\n  lit: \"yes\"\n", 1)})
	s.ok("roster", "look", s.name)
	assert.Contains(t, s.ok("kit", "made"), "the kit is another since")
	assert.Contains(t, s.ok("kit", "renew", desk), "is proposed as #3")
	s.ok("propose", "merge", "3")
	assert.Contains(t, s.says("desks/"+name+"/desk.yaml"), "lit: \"yes\"")
	assert.NotContains(t, s.ok("kit", "made"), "another since")
	s.push("Open at noon", map[string]string{"wards/kits/desk/files/desk.yaml": strings.Replace(strings.Replace(files["wards/kits/desk/files/desk.yaml"], "data:\n", "data:\n  lit: \"yes\"\n", 1), "9:00", "12:00", 1)})
	s.ok("roster", "look", s.name)
	assert.Contains(t, s.ok("kit", "renew", desk), "was changed by hand since the kit made it")
	assert.Empty(t, s.proposed())

	// Components.
	s.fails(1, "clocks-"+s.name+" needs bells-"+s.name+", which is off here", "kit", "on", "clocks-"+s.name, "quay")
	assert.Contains(t, s.ok("kit", "on", "bells-"+s.name, "quay", "--set", "times=8"), "Switch bells-"+s.name+" on in quay")
	s.ok("propose", "merge", "4")
	s.untilOf("bells-"+s.name+"-quay@quay", "in step", inStepAndReady)
	assert.Contains(t, s.says("wards/components/quay.yaml"), "bells-"+s.name+": {use: true, with: {times: 8}}")
	assert.Regexp(t, `(?m)^bells-\S+ +quay +on +times: 8 `, s.ok("kit", "components"))
	s.push("Clocks, by hand", map[string]string{"wards/components/quay.yaml": s.says("wards/components/quay.yaml") + "  clocks-" + s.name + ": {use: true} # by hand\n"})
	s.ok("roster", "look", s.name)
	s.untilOf("clocks-"+s.name+"-quay@quay", "in step", inStepAndReady)
	s.fails(1, "needs bells-", "kit", "off", "bells-"+s.name, "quay")
	s.ok("kit", "off", "clocks-"+s.name, "quay")
	s.ok("propose", "merge", "5")
	assert.Contains(t, s.says("wards/components/quay.yaml"), "clocks-"+s.name+": {use: false} # by hand", "what else is in the file stays")
	s.rosterUntil(s.name, "has let it go", func(r client.Roster) bool { return r.Wards == 2 })
	s.gone(s.name+"-bells", "clocks")

	// A team.
	team := s.withToken("tickets", "--may", "see,propose", "--wards", "owner=ticketing", "--kits", desk)
	assert.NotContains(t, team.ok("kit", "list"), "bells")
	assert.Equal(t, "There are no kits. One is a directory with a kit.yaml in a roster; its format: vigila schema kit\n", s.withToken("others", "--may", "see", "--wards", "owner=signals").ok("kit", "list"))
	team.fails(1, "there is no kit bells", "kit", "on", "bells-"+s.name, "quay")
	team.fails(1, "you may not have that", "kit", "new", desk, "--set", "name="+s.name+"-lights", "--set", "owner=signals", "--set", "cluster=quay")
	out = team.ok("kit", "new", desk, "--set", "name="+s.name+"-tours", "--set", "owner=ticketing", "--set", "cluster=quay")
	assert.Contains(t, out, "#6  Add desks/"+s.name+"-tours")
	team.fails(1, "no kit has made desks/"+name+"-none", "kit", "change", "desks/"+name+"-none")
	foreign := s.withToken("lights", "--may", "see,propose", "--wards", "owner=signals", "--kits", desk)
	try, err := foreign.api.TryKitWithResponse(t.Context(), desk, client.KitWish{ChangeOf: "desks/" + name, Given: map[string]any{"name": name, "owner": "signals", "cluster": "quay"}})
	assert.ErrorContains(t, foreign.api.Check(try, err), "no kit has made desks/"+name, "another team's is not there")
	r, err := team.api.ProposeKitWithResponse(t.Context(), desk, client.KitWish{Given: map[string]any{"name": s.name + "-lights", "owner": "signals", "cluster": "quay"}})
	assert.ErrorContains(t, team.api.Check(r, err), "may not propose "+s.name+"-lights@quay by kit "+desk)
	s.fails(1, "kits is missing, and wards", "token", "make", "x", "--may", "propose")
	assert.Contains(t, s.ok("may", "tickets", "propose", "--kit", desk), "yes")
	s.fails(1, "belong together", "may", "tickets", "propose", name)
}

// TestKitsInTheConsole: the form is made from the kit's schema; mistakes stand beside their fields, and the files and what they would do are
// there before anything is proposed.
func TestKitsInTheConsole(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("Kits", s.kits())
	s.ok("cluster", "add", "quay", "--label", "tier=rehearsal")
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.rosterUntil(s.name, "is read", func(r client.Roster) bool { return r.Standing == "in step" })
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("New from a kit")
	b.open(s.url + "/kits")
	b.opens(`//a[text()="Make one"]`, "New: desk-")
	b.shows("once the form is filled in")
	b.click("Propose it")
	b.shows("is missing")
	field := func(name, text string) {
		t.Helper()
		b.do(chromedp.SendKeys(chromedp.CSS(fmt.Sprintf("[id=%q]", "root."+name)), text))
	}
	field("name", "Not This")
	b.shows("does not match pattern")
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`document.getElementById("root.name").select(); true`))
	require.NoError(t, err)
	field("name", s.name+"-fares")
	field("owner", "ticketing")
	field("cluster", "quay")
	b.shows("Tried out: the API server of quay takes it.")
	b.shows("Desk " + s.name + "-fares")
	b.shows("desks/" + s.name + "-fares/.made.yaml")
	assert.NotContains(t, b.text(), "is missing")
	field("windows", "0")
	b.shows("got 0, want 1")
	_, err = chromedp.Run(b.ctx, chromedp.Evaluate[bool](`document.getElementById("root.windows").select(); true`))
	require.NoError(t, err)
	field("windows", "4")
	b.shows("windows: 4 windows")
	b.click("Propose it")
	b.shows("Add desks/" + s.name + "-fares, by kit desk-")
	s.ok("propose", "merge", "1")
	s.untilOf(s.name+"-fares@quay", "in step", inStepAndReady)

	b.open(s.url + "/kits")
	b.opens(`//a[text()="Change it"]`, "Change desks/"+s.name+"-fares")
	b.shows("Nothing would be another.")
	assert.Equal(t, "4", b.value(`document.getElementById("root.windows").value`))
	b.open(s.url + "/clusters/quay")
	b.shows("Who may what")
	b.shows("bells-" + s.name)
	b.opens(fmt.Sprintf(`//li[@data-component="bells-%s quay"]//a[text()="Switch it on"]`, s.name), "Switch bells-"+s.name+" on in quay")
	b.shows("1 file on a branch of " + s.name)
	b.click("Propose it")
	b.shows("Waits for a review")
	assert.Len(t, s.proposed(), 1)
}

// TestAClusterFromAKit: files of the Cluster API make one more real API server; it is offered once it answers, added with a word, and what was
// said of it in git, its labels and what is on in it, holds from then on. It ends with its files.
func TestAClusterFromAKit(t *testing.T) {
	t.Parallel()
	s := newService(t)
	files := s.kits()
	files["wards/kits/islet/kit.yaml"] = "vigila: kit/v1\nname: islet-" + s.name + `
makes: {path: "clusters/${{ params.name }}"}
files:
  - {file: ward.yaml, to: "wards/${{ params.name }}-cluster.yaml"}
  - {file: declared.yaml, to: "wards/${{ params.name }}.yaml"}
  - {file: components.yaml, to: "wards/components/${{ params.name }}.yaml"}
parameters:
  required: [name]
  properties: {name: {type: string}, nodes: {type: integer, default: 2}}
`
	files["wards/kits/islet/files/ward.yaml"] = "vigila: ward/v1\nname: ${{ params.name }}-cluster\nfrom: {path: \"clusters/${{ params.name }}\"}\ninto: {cluster: quay, namespace: " + s.name + ", create_namespace: true}\nkeep: {sync: auto, every: 1s, on_removal: dismantle}\nlinks: {Tickets: \"https://tickets.brindle.example/${{ params.name }}\"}\n"
	files["wards/kits/islet/files/cluster.yaml"] = "apiVersion: cluster.x-k8s.io/v1beta2\nkind: Cluster\nmetadata: {name: \"${{ params.name }}\", labels: {tier: rehearsal, x.brindle.example/own: tool}}\nspec:\n  infrastructureRef: {apiGroup: infrastructure.cluster.x-k8s.io, kind: LabCluster, name: \"${{ params.name }}\"}\n---\napiVersion: infrastructure.cluster.x-k8s.io/v1\nkind: LabCluster\nmetadata: {name: \"${{ params.name }}\"}\nspec: {nodes: \"${{ params.nodes }}\"}\n"
	files["wards/kits/islet/files/declared.yaml"] = "vigila: cluster/v1\nname: ${{ params.name }}\nabout: An islet.\nlabels: {tier: rehearsal, sound: brindle}\nlinks: {Tickets: \"https://tickets.brindle.example/${{ params.name }}\"}\n"
	files["wards/kits/islet/files/components.yaml"] = "vigila: components/v1\nname: ${{ params.name }}\ncomponents:\n  bells-" + s.name + ": {use: true, with: {times: 4}}\n"
	s.push("Kits", files)
	s.ok("roster", "add", s.name, "--repo", s.name, "--path", "wards")
	s.rosterUntil(s.name, "is read", func(r client.Roster) bool { return r.Standing == "in step" })
	assert.Contains(t, s.ok("cluster", "offered"), "No ward makes a cluster")
	s.ok("kit", "new", "islet-"+s.name, "--set", "name=eider")
	s.ok("propose", "merge", "1")
	s.untilOf("eider-cluster@quay", "in step", func(w client.Ward) bool { return w.Standing == "in step" })
	assert.Contains(t, s.ok("roster", "show", s.name), "cluster eider is declared, but not connected yet")

	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("eider-cluster")
	b.open(s.url + "/clusters")
	b.shows("It answers, and can be added")
	b.click("Add it")
	s.untilOf("bells-"+s.name+"-eider@eider", "in step", inStepAndReady)
	b.open(s.url + "/clusters/eider")
	b.shows("An islet.")
	b.shows("2 machines: 32 cores")
	b.shows("Tickets")
	page := s.ok("cluster", "show", "eider", "-o", "json")
	assert.Contains(t, page, `"sound": "brindle"`, "as git says")
	assert.NotContains(t, s.ok("cluster", "list", "-o", "json")+page+s.log.String(), "client-key", "of how it is reached nothing is told")
	assert.Contains(t, s.ok("cluster", "offered"), "No ward makes a cluster")
	s.fails(1, "cluster eider is known already", "cluster", "add", "eider", "--from", "eider-cluster@quay")
	s.fails(1, "makes no cluster elsewhere", "cluster", "add", "elsewhere", "--from", "eider-cluster@quay")
	assert.Contains(t, s.ok("audit"), "add cluster eider")
}
