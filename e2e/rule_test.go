package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"vigila.dev/vigila/internal/client"
)

// replicasRule is a rule of one's own: so many replicas, and not fewer.
const replicasRule = `apiVersion: admissionregistration.k8s.io/v1
kind: ValidatingAdmissionPolicy
metadata:
  name: enough-replicas
  annotations: {vigila.dev/otherwise: warn, vigila.dev/why: One is none., vigila.dev/mend: "Write replicas: 2."}
spec:
  matchConstraints:
    resourceRules: [{apiGroups: [apps], apiVersions: [v1], operations: [CREATE, UPDATE], resources: [deployments]}]
  validations: [{expression: object.spec.replicas > 1, messageExpression: "'it runs ' + string(object.spec.replicas) + ' times in ' + params.cluster.name"}]
`

// rulebook is one in the repository of a ward.
func rulebook(more string) map[string]string {
	return map[string]string{".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\nours: [images-pinned]\n" + more, ".vigila/rules/replicas.yaml": replicasRule}
}

// TestWhatBreaksARuleIsNotSynced: it is told before the merge and before the sync, may be let through by a person with a reason, or by an exception,
// and keeps nobody from going back.
func TestWhatBreaksARuleIsNotSynced(t *testing.T) {
	t.Parallel()
	s := newService(t)
	files := rulebook("")
	files["app/a.yaml"] = deployment("gate-quick:1", 2)
	s.push("First", files)
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	s.until("is in step", inStepAndReady)
	assert.Contains(t, s.ok("rule", "list", "--holding"), "images-pinned")
	assert.Contains(t, s.ok("rule", "broken"), "Nothing that is declared breaks a rule that holds.")

	// The same change before the merge, on the work tree, against main.
	tree := t.TempDir()
	git(t, "", "clone", "--quiet", s.origin(), tree)
	require.NoError(t, os.WriteFile(filepath.Join(tree, "app/a.yaml"), []byte(deployment("gate-quick:latest", 1)), 0o600))
	out, code := checkTree(t, tree, "--since", "main")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "app/a.yaml:1: Deployment/berth-planner: container app takes registry.brindle.example/gate-quick:latest, which is not one version (rule images-pinned)")
	assert.Contains(t, out, "app/a.yaml:1: warning: Deployment/berth-planner: it runs 1 times in")
	out, code = checkTree(t, tree, "--since", "nowhere")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, `--since is "nowhere", and this repository has no such branch or commit`)

	s.push("Newest", map[string]string{"app/a.yaml": deployment("gate-quick:latest", 1)})
	w := s.until("is stopped", func(w client.Ward) bool { return len(w.Guards) == 1 && w.Run.Number == 0 })
	assert.Equal(t, "rule:images-pinned", w.Guards[0].Name)
	assert.Contains(t, w.Says, "Stopped before harm: Deployment/berth-planner breaks rule images-pinned: container app takes registry.brindle.example/gate-quick:latest")
	assert.Contains(t, w.Todo, "Name the version")
	assert.Contains(t, w.Todo, "--allow rule:images-pinned --why REASON")
	assert.Equal(t, 2, w.BrokenRules)
	assert.NotContains(t, podImage(s), "latest", "nothing of it is applied")
	broken := s.ok("rule", "broken", "--ward", s.name+"@quay")
	assert.Regexp(t, `images-pinned  ▲ refuses\n  Name the version[^\n]*\n  \S+@quay  Deployment/berth-planner: container app takes registry.brindle.example/gate-quick:latest, which is not one version  app/a.yaml:1`, broken)
	assert.Contains(t, broken, "enough-replicas  warns\n  Write replicas: 2.\n")
	s.fails(3, "Guard rule:images-pinned:", "diff", s.name)

	// A person lets it through, and says why.
	s.fails(1, "to let a rule be broken needs a reason", "sync", s.name, "--allow", "rule:images-pinned")
	s.ok("sync", s.name, "--allow", "rule:images-pinned", "--why", "a gale")
	s.until("is let through", inStepAndReady)
	assert.Contains(t, podImage(s), "latest")
	assert.Contains(t, s.ok("logbook", s.name), "a gale (allows rule:images-pinned)")

	// What is in step stays so, and what is put back brings in nothing new.
	s.push("A name", map[string]string{"app/b.yaml": config("horn", "sound", "loud")})
	s.until("has the rest", func(w client.Ward) bool {
		return inStepAndReady(w) && len(w.Guards) == 0 && strings.Contains(w.Applied.Subject, "A name")
	})

	// An exception in the rulebook lets it be, until its day.
	s.push("Another", map[string]string{"app/a.yaml": deployment("gate-quick:latest", 2)})
	s.until("is stopped again", func(w client.Ward) bool { return len(w.Guards) == 1 && w.Run.Number == 0 })
	s.push("Let it be", rulebook("except: [{rule: images-pinned, of: Deployment/berth-planner, why: for the fair, owner: ticketing, until: 2099-01-01}]\n"))
	s.until("is let be", func(w client.Ward) bool {
		return inStepAndReady(w) && w.BrokenRules == 0 && len(w.Guards) == 0 && replicas(t, s) == 2
	})
	assert.Contains(t, s.ok("rule", "broken"), "an exception lets it be until 2099-01-01: for the fair (ticketing)")

	// A way back asks no rule.
	s.push("It ended", rulebook("except: [{rule: images-pinned, of: Deployment/berth-planner, why: for the fair, owner: ticketing, until: 2020-01-01}]\n"))
	s.until("is told", func(w client.Ward) bool { return w.BrokenRules == 1 })
	assert.Contains(t, s.ok("rule", "broken"), "an exception let it be until 2020-01-01")
	s.ok("rollback", s.name, "1", "--why", "as it was")
	s.until("went back", func(w client.Ward) bool {
		return w.Hold.By != "" && w.Run.Number == 0 && strings.HasSuffix(podImage(s), "gate-quick:1")
	})
}

// TestRulesAreTriedOutBeforeTheyHold, over all that is declared, and a rulebook that can't be read lets nothing pass.
func TestRulesAreTriedOutBeforeTheyHold(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.push("First", map[string]string{"app/a.yaml": deployment("gate-quick:1", 1) + "---\napiVersion: v1\nkind: Secret\nmetadata: {name: s}\nstringData: {password: spring-tide-word}\n"})
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	s.until("is in step", inStepAndReady)
	at := filepath.Join(t.TempDir(), "rule.yaml")
	require.NoError(t, os.WriteFile(at, []byte(replicasRule), 0o600))
	out, _, code := s.cli("rule", "try", at)
	assert.Equal(t, 3, code)
	assert.Contains(t, out, s.name+"@quay  Deployment/berth-planner: it runs 1 times in quay  app/a.yaml:1")
	assert.Contains(t, out, "enough-replicas over ")
	assert.Contains(t, s.pipe(strings.ReplaceAll(replicasRule, "> 1", "> 0"), "rule", "try", "-"), "nothing would break it")
	s.fails(1, "bad.yaml:9: spec.validations[0].expression does not compile: line 1, column", "rule", "try", write(t, "bad.yaml", strings.ReplaceAll(replicasRule, "object.spec.replicas > 1", "object.spec.replicas >")))

	// What is in git as it is is warned of, and no value is shown anywhere.
	broken := s.ok("rule", "broken", "-o", "json")
	assert.Contains(t, broken, "secret-literal")
	assert.Contains(t, broken, "the value of password stands in git as it is")
	assert.NotContains(t, broken, "spring-tide")
	sees := strings.NewReplacer("apiGroups: [apps]", `apiGroups: [""]`, "[deployments]", "[secrets]", "object.spec.replicas > 1", "false", "'it runs ' + string(object.spec.replicas) + ' times in ' + params.cluster.name", "string(object.?data.?password.orValue(object.?stringData.?password.orValue(''))) + string(params.ward.objects.Secret[0].?data.?password.orValue(''))").Replace(replicasRule)
	peek, errs, _ := s.cli("rule", "try", write(t, "peek.yaml", sees))
	assert.Contains(t, peek, "***", errs)
	assert.NotContains(t, peek, "spring-tide")

	s.push("A rule that is none", map[string]string{".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\n", ".vigila/rules/bad.yaml": strings.ReplaceAll(replicasRule, "> 1", ">")})
	w := s.until("says so", func(w client.Ward) bool { return !w.Repository.Known && w.Repository.Problem != "" })
	assert.Contains(t, w.Repository.Problem, ".vigila/rules/bad.yaml:9: spec.validations[0].expression does not compile")
	s.push("Mended", map[string]string{".vigila/rules/bad.yaml": replicasRule})
	s.until("goes on", func(w client.Ward) bool { return inStepAndReady(w) && w.BrokenRules == 2 })

	// The rules of the day, over the API.
	var list client.RuleList
	r, err := http.NewRequest(http.MethodGet, s.url+"/api/v1/rules/enough-replicas", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+s.token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&list))
	require.Len(t, list.Items, 1)
	assert.Equal(t, replicasRule, list.Items[0].Text)
	assert.Equal(t, 1, list.Items[0].WarnedOf)
	assert.Equal(t, []string{s.name + "@quay"}, list.Items[0].UsedBy)
}

// TestRulesInTheConsole: what holds, what breaks it, and what would.
func TestRulesInTheConsole(t *testing.T) {
	t.Parallel()
	s := newService(t)
	files := rulebook("")
	files["app/a.yaml"] = deployment("gate-quick:latest", 1)
	s.push("First", files)
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	s.until("is stopped", func(w client.Ward) bool { return len(w.Guards) == 1 && w.Run.Number == 0 })
	b := newBrowser(t)
	b.open(s.url + "/#sign-in=" + s.token)
	b.shows("Watch")
	b.opens(`//nav//a[text()="Set up"]`, "Rules")
	b.opens(`//nav//a[text()="Rules"]`, "1 object would be refused at the next sync that touches it.")
	b.opens(`//tr[@data-rule="images-pinned"]//a[contains(., "1 object")]`, "What breaks images-pinned")
	b.shows("container app takes registry.brindle.example/gate-quick:latest")
	b.shows("app/a.yaml:1")
	b.opens(`//a[text()="All that breaks rules"]`, "it runs 1 times in quay")
	b.opens(`//a[text()="The rules"]`, "Try a rule")
	b.opens(`//tr[@data-rule="enough-replicas"]//button`, "kind: ValidatingAdmissionPolicy")
	b.do(chromedp.KeyEvent("\u001b"))
	b.click("Try a rule")
	b.fill("policy", strings.ReplaceAll(replicasRule, "> 1", "> 5"))
	b.click("Try it")
	b.shows("1 would break it, of 2 objects of 1 ward.")

	// To let it through needs a reason.
	b.open(s.url + "/wards/" + s.name + "@quay")
	b.shows("2 things break rules")
	b.click("Sync 2 objects…")
	b.opens(`//label[contains(., "rule:images-pinned")]//input`, "Why, for whoever looks next")
	b.do(chromedp.SendKeys(chromedp.Search(`//label[contains(., "Why, for whoever looks next")]/input`), "a gale"))
	b.click("Sync, and allow it")
	s.until("is let through", inStepAndReady)
	assert.Contains(t, s.ok("logbook", s.name), "a gale (allows rule:images-pinned)")
}

// podImage is the image that the live Deployment's Pods take.
func podImage(s *service) string {
	containers, _, err := unstructured.NestedSlice(s.live("deployments", "berth-planner").Object, "spec", "template", "spec", "containers")
	require.NoError(s.t, err)
	return containers[0].(map[string]any)["image"].(string)
}

// checkTree runs vigila check on a work tree; out is both of its outputs.
func checkTree(t *testing.T, dir string, args ...string) (out string, code int) {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "vigila"), append([]string{"check"}, args...)...)
	cmd.Dir = dir
	b, err := cmd.CombinedOutput()
	if err != nil {
		require.IsType(t, &exec.ExitError{}, err, string(b))
	}
	return string(b), cmd.ProcessState.ExitCode()
}

func write(t *testing.T, name, text string) string {
	t.Helper()
	at := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
	return at
}

// TestWhatLooksLikeASecretIsShownToNobody, in whatever kind it stands: not in a difference, the logbook, the page, a log, or the effect of a branch; and neither
// is what an object says of its fields.
func TestWhatLooksLikeASecretIsShownToNobody(t *testing.T) {
	t.Parallel()
	s := newService(t)
	with := func(password, plan string) string {
		return "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: gate, annotations: {vigila.dev/secret-fields: /data/plan}}\ndata:\n  plan: " + plan + "\n  app.properties: |\n    mode=night\n    password=" + password + "\n"
	}
	s.push("First", map[string]string{"app/a.yaml": with("Xk29vmQ8plfe", "by-the-north-pier"), ".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\nours: [secret-looking]\n"})
	s.add(s.wardFile("sync: ask, drift: report, every: 1s", "within: 60s"))
	s.until("is there", func(w client.Ward) bool { return w.Pending > 0 })
	out, _, _ := s.cli("sync", s.name, "--preview")
	told := []string{out, s.ok("sync", s.name)}
	s.until("is in step", inStepAndReady)
	s.push("Second", map[string]string{"app/a.yaml": with("Zk31wnR7qmgd", "by-the-south-pier")})
	s.until("is behind", func(w client.Ward) bool { return w.Pending > 0 })
	out, _, _ = s.cli("diff", s.name)
	assert.Contains(t, out, "mode=night", "what is none is shown")
	assert.Regexp(t, `password=secret [0-9a-f]+`, out)
	told = append(told, out, s.ok("sync", s.name))
	s.until("is in step again", inStepAndReady)
	s.edit("somebody", "configmap/gate", "data.plan=by-the-east-pier")
	s.until("has drifted", func(w client.Ward) bool { return w.Standing == "drifted" })
	out, _, _ = s.cli("diff", s.name)
	assert.Contains(t, out, "data.plan")
	told = append(told, out, s.ok("ward", "show", s.name), s.ok("logbook", s.name), s.ok("logbook", s.name, "2", "-o", "json"), s.ok("rule", "broken"))
	out, _, _ = s.cli("compare", s.name, "1", "2")
	told = append(told, out)
	r, err := s.api.GetObjectWithResponse(t.Context(), s.name+"@quay", &client.GetObjectParams{Key: s.object("ConfigMap", "gate").Key})
	require.NoError(t, s.api.Check(r, err))
	told = append(told, r.JSON200.LiveYaml, r.JSON200.DeclaredYaml)
	assert.Contains(t, r.JSON200.LiveYaml, "mode=night")
	s.branch("third", map[string]string{"app/a.yaml": with("Qm44xsT9rnhe", "by-the-west-pier")})
	effect, err := json.Marshal(s.effect("third"))
	require.NoError(t, err)
	told = append(told, string(effect), s.log.String())
	for i, text := range told {
		assert.NotEmpty(t, text, i)
		for _, word := range []string{"Xk29vmQ8plfe", "Zk31wnR7qmgd", "Qm44xsT9rnhe", "-pier"} {
			assert.NotContains(t, text, word, i)
		}
	}
}

// TestABranchSaysWhichRulesItBreaks: what it changes, and what a rule would say that it brings in.
func TestABranchSaysWhichRulesItBreaks(t *testing.T) {
	t.Parallel()
	s := newService(t)
	files := rulebook("")
	files["app/a.yaml"] = deployment("gate-quick:1", 1)
	s.push("First", files)
	s.add(s.wardFile("sync: auto, drift: restore, every: 1s", "within: 60s"))
	s.until("is in step", inStepAndReady)
	s.branch("newest", map[string]string{"app/a.yaml": deployment("gate-quick:latest", 1)})
	s.fails(1, "Guard rule:images-pinned stops it: Deployment/berth-planner breaks rule images-pinned", "propose", "effect", "--repo", s.name, "--branch", "newest")
	s.branch("strict", map[string]string{".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\nours: [images-pinned, resources-stated]\notherwise: {resources-stated: refuse}\n"})
	effect := s.effect("strict")
	require.Len(t, effect.Effects, 1)
	require.Len(t, effect.Effects[0].Breaks, 1, "what it broke before is not told again")
	assert.Equal(t, "resources-stated refuse", effect.Effects[0].Breaks[0].Rule+" "+effect.Effects[0].Breaks[0].Says)
	s.fails(3, "It would break rule resources-stated, which refuses its next change: Deployment/berth-planner: container app states no cpu or memory request", "propose", "effect", "--repo", s.name, "--branch", "strict")
}

// TestFilesOfARosterKeepRules: a file of Vigila's own that breaks a rule is like one that can't be read: it is told with its line, and what it declared before stays; an exception
// lets it be.
func TestFilesOfARosterKeepRules(t *testing.T) {
	t.Parallel()
	s := newService(t)
	book := "vigila: rulebook/v1\nname: sound\n"
	alertText := func(more string) map[string]string {
		return map[string]string{"wards/alerts.yaml": "vigila: alert/v1\nname: watch\n" + more + "to: [rule-chat]\n"}
	}
	s.push("All", together(alertText(""), map[string]string{".vigila/rules/rulebook.yaml": book, "wards/one.yaml": wardText("ruled-one", "ruled-one", auto), "apps/ruled-one/c.yaml": config("mark", "v", "1"),
		".vigila/rules/alerts.yaml": "apiVersion: admissionregistration.k8s.io/v1\nkind: ValidatingAdmissionPolicy\nmetadata: {name: alerts-say-why, annotations: {vigila.dev/mend: 'Say it in for.'}}\nspec:\n  matchConstraints: {resourceRules: [{apiGroups: [vigila.dev], apiVersions: [v1], operations: [CREATE, UPDATE], resources: [alerts]}]}\n  validations: [{expression: has(object.for), message: it does not say what it is for}]\n"}))
	s.ok("alert", "way", "add", "rule-chat", "--kind", "chat", "--url-file", s.file("address", "http://127.0.0.1:1/x"))
	s.ok("roster", "add", "sound", "--repo", s.name, "--path", "wards")
	problem := func(what string) {
		t.Helper()
		r := s.rosterUntil("sound", what, func(r client.Roster) bool { return len(r.Problems) == 1 })
		assert.Equal(t, []any{"wards/alerts.yaml", 1}, []any{r.Problems[0].File, r.Problems[0].Line})
		assert.Equal(t, "Alert/watch: it does not say what it is for (rule alerts-say-why); Say it in for.", r.Problems[0].Text)
	}
	problem("says that the alert breaks a rule")
	s.untilOf("ruled-one@quay", "is in step: it is another file", inStepAndReady)
	assert.Contains(t, s.ok("alert", "list"), "Nobody is told of anything")
	s.push("Say why", alertText("for: the watch\nafter: 2m\n"))
	s.rosterUntil("sound", "takes it", func(r client.Roster) bool { return len(r.Problems) == 0 })
	assert.Contains(t, s.ok("alert", "list", "-o", "json"), `"after_seconds": 120`)
	s.push("Say it no more", alertText("after: 3m\n"))
	problem("says so again")
	assert.Contains(t, s.ok("alert", "list", "-o", "json"), `"after_seconds": 120`, "as it was")
	s.push("A mistake in the rulebook", together(alertText("for: the watch\nafter: 4m\n"), map[string]string{".vigila/rules/rulebook.yaml": book + "our: []\n"}))
	r := s.rosterUntil("sound", "says where the mistake is", func(r client.Roster) bool { return len(r.Problems) == 1 && r.Problems[0].Line == 3 })
	assert.Equal(t, []string{".vigila/rules/rulebook.yaml", "unknown key our; did you mean ours?"}, []string{r.Problems[0].File, r.Problems[0].Text})
	assert.Contains(t, s.ok("alert", "list", "-o", "json"), `"after_seconds": 120`, "nobody knows what it is to keep")
	s.push("Say it no more, again", alertText("after: 3m\n"))
	s.push("An exception", map[string]string{".vigila/rules/rulebook.yaml": book + "except:\n  - {rule: alerts-say-why, of: Alert/watch, why: it moves, owner: signals, until: 2036-12-31}\n"})
	s.rosterUntil("sound", "lets it be", func(r client.Roster) bool { return len(r.Problems) == 0 })
	assert.Contains(t, s.ok("alert", "list", "-o", "json"), `"after_seconds": 180`)
}
