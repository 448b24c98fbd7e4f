package check

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/repo"
)

const (
	service = "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: gate}\nspec: {replicas: 1, selector: {matchLabels: {a: b}}, template: {metadata: {labels: {a: b}}, spec: {containers: [{name: gate, image: \"gate:latest\"}]}}}\n"
	owned   = `apiVersion: admissionregistration.k8s.io/v1
kind: ValidatingAdmissionPolicy
metadata:
  name: owner-known
  annotations: {vigila.dev/mend: "Write owner: with a team.", vigila.dev/why: Nobody is called at night.}
spec:
  matchConstraints:
    resourceRules: [{apiGroups: [vigila.dev], apiVersions: [v1], operations: [CREATE], resources: [wards, lanes]}]
  validations: [{expression: "object.?owner.orValue('') != ''", messageExpression: "object.kind + ' has no owner in ' + params.cluster.name"}]
`
)

// checked writes a tree and checks it.
func checked(t *testing.T, files map[string]string, opts Options) *Report {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		at := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
	}
	if opts.Now.IsZero() {
		opts.Now = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	}
	r, err := Dir(t.Context(), repo.Folder{Root: root}, "", opts)
	require.NoError(t, err)
	return r
}

func told(t *testing.T, r *Report) string {
	t.Helper()
	var out bytes.Buffer
	r.Text(&out)
	return out.String()
}

// TestRulesHoldForWhatTheyLieBeside: those of the repository for all, a roster's for its wards, and those beside plain files for them.
func TestRulesHoldForWhatTheyLieBeside(t *testing.T) {
	const pinned = "vigila: rulebook/v1\nname: house\nours: [images-pinned]\n"
	const latest = "app/a.yaml:1: Deployment/gate: container gate takes gate:latest, which is not one version (rule images-pinned)\n"
	rosters := "vigila: roster/v1\nname: ticketing\nfrom: {path: teams}\n---\nvigila: roster/v1\nname: pilots\nfrom: {path: pilots}\n"
	for name, c := range map[string]struct {
		files map[string]string
		want  []string
	}{
		"none":                                 {map[string]string{"wards/gate.yaml": gate, "app/a.yaml": service}, nil},
		"of the repository":                    {map[string]string{"wards/gate.yaml": gate, "app/a.yaml": service, ".vigila/rules/rulebook.yaml": pinned}, []string{latest}},
		"beside the manifests":                 {map[string]string{"wards/gate.yaml": gate, "app/a.yaml": service, "app/rules/rulebook.yaml": pinned}, []string{latest}},
		"of its roster":                        {map[string]string{"rosters.yaml": rosters, "teams/gate.yaml": gate, "app/a.yaml": service, "teams/rules/rulebook.yaml": pinned}, []string{latest}},
		"of another roster":                    {map[string]string{"rosters.yaml": rosters, "teams/gate.yaml": gate, "app/a.yaml": service, "pilots/rules/rulebook.yaml": pinned}, nil},
		"of the repository, for no ward":       {map[string]string{"app/a.yaml": service, ".vigila/rules/rulebook.yaml": pinned}, []string{latest}},
		"an exception":                         {map[string]string{"wards/gate.yaml": gate, "app/a.yaml": service, ".vigila/rules/rulebook.yaml": pinned + "except: [{rule: images-pinned, of: Deployment/gate, why: for the fair, owner: ticketing, until: 2026-11-27}]\n"}, nil},
		"an exception that ended":              {map[string]string{"wards/gate.yaml": gate, "app/a.yaml": service, ".vigila/rules/rulebook.yaml": pinned + "except: [{rule: images-pinned, of: Deployment/gate, why: for the fair, owner: ticketing, until: 2026-11-26}]\n"}, []string{"its exception ended on 2026-11-26 (.vigila/rules/rulebook.yaml, ticketing: for the fair)"}},
		"a ward's own file":                    {map[string]string{"wards/gate.yaml": gate, "app/a.yaml": config, ".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\n", ".vigila/rules/owner.yaml": owned}, []string{"wards/gate.yaml:1: Ward/gate: Ward has no owner in quay (rule owner-known)\n\nWhat to write instead:\n  owner-known: Write owner: with a team.\n"}},
		"a lane's":                             {map[string]string{"lane.yaml": "vigila: lane/v1\nname: gates\ncarries: [{versions: \"v/{stop}.yaml\"}]\nstops: [{name: a, wards: [x@a], lets_in: by itself}, {name: b, after: [a], wards: [x@b], lets_in: ask}]\n", ".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\n", ".vigila/rules/owner.yaml": owned}, []string{"lane.yaml:1: Lane/gates: Lane has no owner in "}},
		"a rule that does not compile":         {map[string]string{"wards/gate.yaml": gate, "app/a.yaml": config, ".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\n", ".vigila/rules/bad.yaml": "kind: ValidatingAdmissionPolicy\n"}, []string{".vigila/rules/bad.yaml:1: a rulebook holds rules alone"}},
		"a case that is not as it says":        {map[string]string{".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\n", ".vigila/rules/owner.yaml": owned, ".vigila/rules/owner.cases.yaml": "vigila: rule-cases/v1\nrule: owner-known\ncases:\n  - {name: none, passes: true, objects: [{vigila: ward/v1, name: a}]}\n"}, []string{".vigila/rules/owner.cases.yaml:4: case \"none\" of rule owner-known: it is to pass, and does not: Ward has no owner in case"}},
		"what lies in a rulebook is no object": {map[string]string{"wards/gate.yaml": gate, "app/a.yaml": config, "app/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\n", "app/rules/owner.yaml": owned + "---\napiVersion: admissionregistration.k8s.io/v1\nkind: ValidatingAdmissionPolicyBinding\nmetadata: {name: a}\n"}, []string{"Ward has no owner"}},
		"in each cluster by its labels": {map[string]string{"wards/gate.yaml": "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {clusters: {sea: open}, namespace: fares}\n", "app/a.yaml": config, "c.yaml": "vigila: cluster/v1\nname: quay\nlabels: {sea: open, tier: rehearsal}\n---\nvigila: cluster/v1\nname: skerry\nlabels: {sea: open, tier: production}\n",
			".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\n", ".vigila/rules/owner.yaml": "# for production\n" + string(bytes.Replace([]byte(owned), []byte("annotations: {"), []byte("annotations: {vigila.dev/for: '{clusters: {tier: production}}', "), 1))}, []string{"wards/gate.yaml:1: Ward/gate: Ward has no owner in skerry"}},
	} {
		out := checked(t, c.files, Options{})
		assert.Equal(t, len(c.want), out.Errors(false), "%s: %s", name, told(t, out))
		for _, want := range c.want {
			assert.Contains(t, told(t, out), want, name)
		}
	}
}

// TestSince tells of what a change brings in, and not of what was there.
func TestSince(t *testing.T) {
	before := map[string]string{"wards/gate.yaml": gate, "app/a.yaml": service, ".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\nours: [images-pinned]\n"}
	with := func(more map[string]string) *Report {
		files := map[string]string{}
		for k, v := range before {
			files[k] = v
		}
		for k, v := range more {
			files[k] = v
		}
		r := checked(t, files, Options{})
		r.Since(checked(t, before, Options{}))
		return r
	}
	assert.Empty(t, with(nil).Findings)
	assert.Empty(t, with(map[string]string{"app/a.yaml": "# moved\n\n" + service}).Findings, "it is another line, and the same object")
	r := with(map[string]string{"app/b.yaml": string(bytes.ReplaceAll([]byte(service), []byte("name: gate}"), []byte("name: berths}")))})
	require.Len(t, r.Findings, 1, "of what is new alone")
	assert.Contains(t, r.Findings[0].Text, "Deployment/berths")
	r = with(map[string]string{"app/a.yaml": string(bytes.ReplaceAll([]byte(service), []byte("replicas: 1"), []byte("replicas: 2")))})
	assert.Len(t, r.Findings, 1, "who changes it mends it")
	assert.Contains(t, told(t, with(map[string]string{"wards/gate.yaml": gate + "kepe: 1\n"})), "wards/gate.yaml:5: unknown key kepe")
}

// TestExceptionsThatEndedAreTold, also where nothing breaks their rule any more.
func TestExceptionsThatEndedAreTold(t *testing.T) {
	r := checked(t, map[string]string{"wards/gate.yaml": gate, "app/a.yaml": config, ".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\nours: [images-pinned]\nexcept:\n  - {rule: images-pinned, of: Deployment/gate, why: for the fair, owner: ticketing, until: 2026-11-26}\n  - {rule: images-pinned, of: Deployment/b, why: c, owner: d, until: 2026-11-27}\n"}, Options{})
	assert.Equal(t, 0, r.Errors(false))
	assert.Contains(t, told(t, r), ".vigila/rules/rulebook.yaml:5: warning: the exception of rule images-pinned for Deployment/gate ended on 2026-11-26 (ticketing: for the fair); take it out")
	assert.Len(t, r.Findings, 1)
}

func TestReportsOfRules(t *testing.T) {
	r := checked(t, map[string]string{"wards/gate.yaml": gate, "app/a.yaml": service, ".vigila/rules/rulebook.yaml": "vigila: rulebook/v1\nname: house\nours: [images-pinned, resources-stated]\n"}, Options{})
	assert.Equal(t, []int{1, 2}, []int{r.Errors(false), r.Errors(true)})
	assert.Contains(t, told(t, r), "app/a.yaml:1: warning: Deployment/gate: container gate states no cpu")
	assert.Contains(t, told(t, r), ": 1 mistake, 1 warning\n")
	var out bytes.Buffer
	require.NoError(t, r.SARIF(&out, "v1"))
	var sarif struct {
		Runs []struct {
			Tool struct {
				Driver struct {
					Rules []struct {
						ID   string
						Help struct{ Text string }
					}
				}
			}
			Results []struct {
				RuleID, Level string
				Message       struct{ Text string }
			}
		}
	}
	require.NoError(t, json.Unmarshal(out.Bytes(), &sarif))
	var ids []string
	for _, x := range sarif.Runs[0].Tool.Driver.Rules {
		ids = append(ids, x.ID)
	}
	assert.Equal(t, []string{"render", "schema", "ward", "rule:images-pinned", "rule:resources-stated", "rule:secret-literal"}, ids)
	assert.Contains(t, sarif.Runs[0].Tool.Driver.Rules[3].Help.Text, "Name the version")
	assert.Equal(t, "warning error", sarif.Runs[0].Results[0].Level+" "+sarif.Runs[0].Results[1].Level)
	out.Reset()
	require.NoError(t, r.JUnit(&out))
	assert.Contains(t, out.String(), `tests="1" failures="1"`)
	assert.Contains(t, out.String(), "<system-out>app/a.yaml:1: Deployment/gate: container gate states no cpu")
	out.Reset()
	require.NoError(t, r.JSON(&out))
	assert.Contains(t, out.String(), `"level": "warning"`)
}
