package rule

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
)

// policy is a rule of Deployments that says what is given.
func policy(name, more, spec string) string {
	return fmt.Sprintf(`apiVersion: admissionregistration.k8s.io/v1
kind: ValidatingAdmissionPolicy
metadata:
  name: %s
%s
spec:
  matchConstraints:
    resourceRules:
    - {apiGroups: [apps], apiVersions: [v1], operations: [CREATE, UPDATE], resources: [deployments]}
%s
`, name, more, spec)
}

const twice = `  validations:
  - expression: object.spec.replicas > 1
    message: it runs once
`

func TestMistakesInRulesHaveTheirPlace(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"another kind":          {"apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\n", "r.yaml:1: a rulebook holds rules alone, each apiVersion: admissionregistration.k8s.io/v1, kind: ValidatingAdmissionPolicy; this is ConfigMap of v1"},
		"an older version":      {strings.Replace(policy("a", "", twice), "io/v1\n", "io/v1beta1\n", 1), "this is ValidatingAdmissionPolicy of admissionregistration.k8s.io/v1beta1"},
		"an unknown field":      {policy("a", "", "  validation: []\n"), `the policy can't be read: unknown field "validation"`},
		"no name":               {policy("A_b", "", twice), `r.yaml:4: metadata.name is "A_b"`},
		"nothing to hold":       {policy("a", "", "  failurePolicy: Fail\n"), "spec.validations is missing"},
		"params of another":     {policy("a", "", "  paramKind: {apiVersion: v1, kind: ConfigMap}\n"+twice), "params holds the ward and the cluster here"},
		"a word":                {policy("a", "  annotations: {vigila.dev/otherwise: deny}", twice), `vigila.dev/otherwise is "deny"; it is refuse or warn`},
		"an annotation":         {policy("a", "  annotations: {vigila.dev/mends: x}", twice), "unknown annotation vigila.dev/mends; did you mean vigila.dev/mend?"},
		"whom it is for":        {policy("a", "  annotations: {vigila.dev/for: '{owner: x}'}", twice), `unknown field "owner"`},
		"no pattern":            {policy("a", "  annotations: {vigila.dev/for: '{owners: [\"[\"]}'}", twice), `"[" is no pattern`},
		"it does not compile":   {policy("a", "", "  validations:\n  - expression: object.spec.replicas >\n"), "r.yaml:11: spec.validations[0].expression does not compile: line 1"},
		"no yes or no":          {policy("a", "", "  validations:\n  - expression: \"'a'\"\n"), "it gives string, and is to give bool"},
		"an unknown variable":   {policy("a", "", "  validations:\n  - expression: variables.many > 1\n"), "undefined field 'many'"},
		"nobody's rights":       {policy("a", "", "  validations:\n  - expression: authorizer.path('/').check('get').allowed()\n"), "nobody's rights are known where no API server is asked"},
		"a bad message":         {policy("a", "", "  validations:\n  - expression: 'true'\n    messageExpression: '1'\n"), "spec.validations[0].messageExpression does not compile: it gives int, and is to give string"},
		"a bad selector":        {strings.Replace(policy("a", "", twice), "    resourceRules:", "    objectSelector: {matchExpressions: [{key: a, operator: Like}]}\n    resourceRules:", 1), "objectSelector can't be read"},
		"nothing that is there": {strings.Replace(policy("a", "", twice), "[CREATE, UPDATE]", "[DELETE]", 1), "it looks at nothing that is declared"},
		"a subresource":         {strings.Replace(policy("a", "", twice), "[deployments]", "[deployments/scale]", 1), "it looks at nothing that is declared"},
		"no resources":          {strings.Replace(policy("a", "", twice), "[deployments]", "[]", 1), "apiGroups, apiVersions, operations and resources are all needed"},
		"a failure policy":      {policy("a", "", "  failurePolicy: Maybe\n"+twice), `failurePolicy is "Maybe"`},
		"a variable twice":      {policy("a", "", "  variables: [{name: a, expression: '1'}, {name: a, expression: '2'}]\n"+twice), `variable "a" is there twice`},
		"no YAML":               {"a: [", "r.yaml:1:"},
	} {
		_, err := Parse("r.yaml", []byte(c.text))
		assert.ErrorContains(t, err, c.want, name)
	}
	rules, err := Parse("r.yaml", []byte(policy("a", "", twice)+"---\n"+policy("b", "", "  validations: [{expression: nope}]\n")+"---\napiVersion: admissionregistration.k8s.io/v1\nkind: ValidatingAdmissionPolicyBinding\nmetadata: {name: a}\nspec: {policyName: a, validationActions: [Deny]}\n"))
	assert.ErrorContains(t, err, "r.yaml:24: spec.validations[0].expression", "the line in the whole file")
	require.Len(t, rules, 1, "what is good is read all the same, and a binding is passed over")
	assert.Equal(t, "a", rules[0].Name)
}

const book = `vigila: rulebook/v1
name: harbour
ours: [images-pinned]
otherwise: {images-pinned: warn, two: refuse}
except:
  - {rule: two, of: Deployment/tide-*, wards: [tide*], why: it answers to no one, owner: harbour-ops, until: 2027-01-31}
`

func TestRulebooks(t *testing.T) {
	files := func(more ...string) []File {
		out := []File{{"rules/rulebook.yaml", []byte(book)}, {"rules/two.yaml", []byte(policy("two", "  annotations: {vigila.dev/otherwise: warn, vigila.dev/mend: run it twice}", twice))}, {"app/deploy.yaml", []byte("kind: Deployment\n")}}
		for i := 0; i+1 < len(more); i += 2 {
			out = append(out, File{more[i], []byte(more[i+1])})
		}
		return out
	}
	s, err := Compile(files(), own())
	require.NoError(t, err, "what is not in its directory is none of its rules")
	var names []string
	for _, h := range s.Rules() {
		names = append(names, fmt.Sprint(h.Book, " ", h.Name, " ", h.Otherwise, " ", h.Ours))
	}
	assert.Equal(t, []string{"harbour images-pinned warn true", "harbour two refuse false", "vigila secret-literal warn true"}, names)

	for name, c := range map[string]struct{ book, want string }{
		"an unknown key":       {"vigila: rulebook/v1\nname: a\nexcepts: []\n", "rules/rulebook.yaml:3: unknown key excepts; did you mean except?"},
		"none of ours":         {"vigila: rulebook/v1\nname: a\nours: [image-pinned]\n", "Vigila has no rule image-pinned of its own; did you mean images-pinned?"},
		"a word":               {"vigila: rulebook/v1\nname: a\notherwise: {two: deny}\n", `otherwise.two is "deny"`},
		"a rule that is not":   {"vigila: rulebook/v1\nname: a\notherwise: {too: warn}\n", "otherwise names too, and this rulebook has no such rule; did you mean two?"},
		"excepted from nought": {"vigila: rulebook/v1\nname: a\nexcept: [{rule: too, of: A/b, why: c, owner: d, until: 2027-01-01}]\n", "except names too"},
		"no reason":            {"vigila: rulebook/v1\nname: a\nexcept: [{rule: two, of: A/b, owner: d, until: 2027-01-01}]\n", "an exception needs why"},
		"no end":               {"vigila: rulebook/v1\nname: a\nexcept: [{rule: two, of: A/b, why: c, owner: d, until: soon}]\n", `until is "soon"; write its last day`},
		"no object":            {"vigila: rulebook/v1\nname: a\nexcept: [{rule: two, of: b, why: c, owner: d, until: 2027-01-01}]\n", `of is "b"; write Kind/name`},
		"two of them":          {"vigila: rulebook/v1\nname: a\n---\nvigila: rulebook/v1\nname: b\n", "a rulebook file holds one document"},
	} {
		_, err := Compile([]File{{"rules/rulebook.yaml", []byte(c.book)}, {"rules/two.yaml", []byte(policy("two", "", twice))}}, own())
		assert.ErrorContains(t, err, c.want, name)
	}
	_, err = Compile(files("rules/more/again.yaml", policy("two", "", twice)), own())
	assert.ErrorContains(t, err, "rules/more/again.yaml:1: there is a rule two already, at rules/two.yaml:1")
	_, err = Compile(files("other/rulebook.yaml", book), own())
	assert.ErrorContains(t, err, "there is a rulebook harbour already, at rules/rulebook.yaml")
	_, err = Compile(files("rules/nested/rulebook.yaml", "vigila: rulebook/v1\nname: nested\n", "rules/nested/again.yaml", policy("two", "", twice)), own())
	assert.NoError(t, err, "a rulebook within another has rules of its own")
	s, err = Compile([]File{{"r/rulebook.yaml", []byte("vigila: rulebook/v1\nname: a\notherwise: {secret-literal: off}\n")}}, own())
	require.NoError(t, err)
	assert.Empty(t, s.Rules(), "what holds by itself can be switched off")
}

func deployment(name, more string) object.Object {
	objects, err := object.Parse("d.yaml", []byte("apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: "+name+", namespace: tides"+more+"}\nspec: {replicas: 1, template: {spec: {containers: [{name: a, image: a:1}]}}}\n"))
	if err != nil {
		panic(err)
	}
	return objects[0]
}

func TestExceptionsHoldUntilTheirDay(t *testing.T) {
	s, err := Compile([]File{{"rules/rulebook.yaml", []byte(book)}, {"rules/two.yaml", []byte(policy("two", "", twice))}}, own())
	require.NoError(t, err)
	day := func(text string) time.Time {
		at, err := time.Parse(time.RFC3339, text)
		require.NoError(t, err)
		return at
	}
	found := s.Judge(Facts{Ward: map[string]any{"name": "tides", "owner": ""}}, []object.Object{deployment("tide-gauge", ""), deployment("berths", "")}, nil)
	require.Len(t, found, 2)
	assert.Equal(t, "Deployment/tide-gauge", found[0].Ref.Short())
	assert.True(t, found[0].Except.Holds(day("2027-01-31T23:59:59Z")))
	assert.False(t, found[0].Except.Holds(day("2027-02-01T00:00:00Z")))
	assert.Equal(t, "2027-01-31", found[0].Except.Day())
	assert.Nil(t, found[1].Except, "it is of another name")
	assert.Equal(t, Finding{Rule: "two", Book: "harbour", Refuse: true, Ref: found[1].Ref, File: "d.yaml", Line: 1, Text: "it runs once"}, found[1])
	found = s.Judge(Facts{Ward: map[string]any{"name": "gauges"}}, []object.Object{deployment("tide-gauge", "")}, nil)
	require.Len(t, found, 1)
	assert.Nil(t, found[0].Except, "it is of another ward")
	assert.Empty(t, s.Ended(day("2027-01-31T12:00:00Z")))
	assert.Len(t, s.Ended(day("2027-02-01T00:00:00Z")), 1)
}

// TestWhatARuleLooksAt: for whom it is, and what its constraints mean.
func TestWhatARuleLooksAt(t *testing.T) {
	one := func(text string) *Rule {
		rules, err := Parse("r.yaml", []byte(text))
		require.NoError(t, err)
		return rules[0]
	}
	constrained := func(more string) string {
		return strings.Replace(policy("a", "", twice), "    resourceRules:", more+"\n    resourceRules:", 1)
	}
	ns, err := object.Parse("n.yaml", []byte("apiVersion: v1\nkind: Namespace\nmetadata: {name: tides, labels: {tier: production}}\n"))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		text  string
		facts Facts
		found int
	}{
		"everybody":                   {policy("a", "", twice), Facts{}, 1},
		"its owner":                   {policy("a", "  annotations: {vigila.dev/for: '{owners: [ticket*]}'}", twice), Facts{Ward: map[string]any{"owner": "ticketing"}}, 1},
		"another's":                   {policy("a", "  annotations: {vigila.dev/for: '{owners: [ticket*]}'}", twice), Facts{Ward: map[string]any{"owner": "signals"}}, 0},
		"its cluster":                 {policy("a", "  annotations: {vigila.dev/for: '{clusters: {tier: production}}'}", twice), Facts{Cluster: map[string]any{"labels": map[string]any{"tier": "production"}}}, 1},
		"another cluster":             {policy("a", "  annotations: {vigila.dev/for: '{clusters: {tier: production}}'}", twice), Facts{Cluster: map[string]any{"labels": map[string]any{"tier": "rehearsal"}}}, 0},
		"labels of the object":        {constrained("    objectSelector: {matchLabels: {a: b}}"), Facts{}, 1},
		"other labels":                {constrained("    objectSelector: {matchLabels: {a: c}}"), Facts{}, 0},
		"labels of its namespace":     {constrained("    namespaceSelector: {matchLabels: {tier: production}}"), Facts{}, 1},
		"the name of its namespace":   {constrained("    namespaceSelector: {matchLabels: {kubernetes.io/metadata.name: tides}}"), Facts{}, 1},
		"another namespace":           {constrained("    namespaceSelector: {matchLabels: {tier: rehearsal}}"), Facts{}, 0},
		"excluded":                    {constrained("    excludeResourceRules: [{apiGroups: ['*'], apiVersions: ['*'], operations: ['*'], resources: ['*'], resourceNames: [gauge]}]"), Facts{}, 0},
		"another version":             {strings.Replace(policy("a", "", twice), "apiVersions: [v1]", "apiVersions: [v2]", 1), Facts{}, 0},
		"what lives in no namespace":  {strings.Replace(policy("a", "", twice), "resources: [deployments]", "resources: [deployments], scope: Cluster", 1), Facts{}, 0},
		"every kind is no ward file":  {strings.Replace(policy("a", "", "  validations: [{expression: 'false', message: no}]\n"), "apiGroups: [apps]", "apiGroups: ['*']", 1), Facts{}, 1},
		"a condition that is not met": {policy("a", "", "  matchConditions: [{name: many, expression: 'object.spec.replicas > 3'}]\n"+twice), Facts{}, 0},
		"a namespace that is known":   {policy("a", "", "  validations: [{expression: \"namespaceObject.metadata.labels.tier != 'production'\"}]\n"), Facts{}, 1},
		"as if it were created":       {policy("a", "", "  validations: [{expression: \"oldObject != null || request.operation != 'CREATE' || request.resource.resource != 'deployments' || request.namespace != 'tides'\"}]\n"), Facts{}, 1},
		"what stands beside it":       {policy("a", "", "  validations: [{expression: \"params.ward.objects.Namespace.size() == 1 && params.ward.objects.Tide.size() == 0 && params.ward.pods.size() > 2\"}]\n"), Facts{}, 1},
	} {
		ward, err := Described("ward/v1", map[string]any{"vigila": "ward/v1", "name": "tides"}, "w.yaml", 1)
		require.NoError(t, err)
		found := Only(one(c.text)).Judge(c.facts, []object.Object{ns[0], deployment("gauge", ", labels: {a: b}")}, []Document{ward})
		for _, f := range found {
			assert.False(t, f.Unclear, "%s: %s", name, f.Text)
		}
		assert.Len(t, found, c.found, name)
	}
}

// TestWhatCanNotBeEvaluated refuses, or warns where the policy says so; loops without end are none.
func TestWhatCanNotBeEvaluated(t *testing.T) {
	for text, c := range map[string]struct {
		refuse bool
		want   string
	}{
		policy("a", "", "  validations: [{expression: object.spec.nothing > 1}]\n"):                                           {true, "rule a can't be evaluated (r.yaml:10): no such key: nothing"},
		policy("a", "", "  failurePolicy: Ignore\n  validations: [{expression: object.spec.nothing > 1}]\n"):                  {false, "no such key: nothing"},
		policy("a", "", "  matchConditions: [{name: odd, expression: object.spec.nothing > 1}]\n"+twice):                      {true, "its condition odd: no such key"},
		policy("a", "", "  variables: [{name: x, expression: object.no}]\n  validations: [{expression: variables.x == 1}]\n"): {true, "variable x: no such key: no"},
		policy("a", "", "  variables: [{name: x, expression: '[1,2,3,4,5,6,7,8,9,10]'}]\n  validations: [{expression: 'variables.x.all(a, variables.x.all(b, variables.x.all(c, variables.x.all(d, variables.x.all(e, variables.x.all(f, a + b + c + d + e + f > 0))))))'}]\n"): {true, "cost"},
	} {
		rules, err := Parse("r.yaml", []byte(text))
		require.NoError(t, err)
		found := Only(rules[0]).Judge(Facts{}, []object.Object{deployment("a", "")}, nil)
		require.Len(t, found, 1, text)
		assert.True(t, found[0].Unclear)
		assert.Equal(t, c.refuse, found[0].Refuse)
		assert.Contains(t, found[0].Text, c.want)
	}
}

// TestNoRuleSeesASecret: whatever a rule says of a Secret, its value is not in it.
func TestNoRuleSeesASecret(t *testing.T) {
	rules, err := Parse("r.yaml", []byte(strings.NewReplacer("apiGroups: [apps]", `apiGroups: ["", apps]`, "[deployments]", "[secrets, deployments]").Replace(policy("a", "", `  validations:
  - expression: "false"
    messageExpression: "'it says ' + params.ward.objects.Secret.map(s, s.data.map(k, s.data[k]).join(' ') + s.stringData.map(k, s.stringData[k]).join(' ')).join(' ')"
`))))
	require.NoError(t, err)
	objects, err := object.Parse("s.yaml", []byte("apiVersion: v1\nkind: Secret\nmetadata: {name: s, namespace: tides}\ndata: {a: b3BlbnNlc2FtZQ==}\nstringData: {b: opensesame, c: \"x${{ secret('harbour/a#b') }}opensesame\", d: 'secret://harbour/a#b'}\n"))
	require.NoError(t, err)
	found := Only(rules[0]).Judge(Facts{}, append(objects, deployment("a", "")), nil)
	require.Len(t, found, 2)
	for _, f := range found {
		assert.Contains(t, f.Text, "secret://harbour/a#b")
		assert.NotContains(t, f.Text, "opensesame")
		assert.NotContains(t, f.Text, "b3BlbnNlc2FtZQ")
	}
}

func TestCasesSayWhatIsNotAsTheySay(t *testing.T) {
	rules, err := Parse("r.yaml", []byte(policy("two", "", twice)))
	require.NoError(t, err)
	text := func(cases string) string { return "vigila: rule-cases/v1\nrule: two\ncases:\n" + cases }
	d := "objects: [{apiVersion: apps/v1, kind: Deployment, metadata: {name: a}, spec: {replicas: %d}}]}\n"
	cases, err := ParseCases("c.yaml", []byte(text("  - {name: a, passes: true, "+fmt.Sprintf(d, 2)+"  - {name: b, passes: true, "+fmt.Sprintf(d, 1)+"  - {name: c, passes: false, "+fmt.Sprintf(d, 2)+"  - {name: d, passes: false, says: twice, "+fmt.Sprintf(d, 1))))
	require.NoError(t, err)
	tried, err := Test(rules, cases)
	require.NoError(t, err)
	var wrong []string
	for _, x := range tried {
		wrong = append(wrong, x.Wrong)
	}
	assert.Equal(t, []string{"", "it is to pass, and does not: it runs once", "it is not to pass, and does", `it is to say "twice", and says: it runs once`}, wrong)
	_, err = Test(nil, cases[:1])
	assert.ErrorContains(t, err, "c.yaml:4: there is no rule two beside these cases")
	for more, want := range map[string]string{
		"  - {name: a, objects: []}\n":                        "a case needs name, passes (true or false) and objects",
		"  - {name: a, passes: maybe, objects: []}\n":         "passes is true or false",
		"  - {name: a, passes: true, objects: [{kind: A}]}\n": "it has no apiVersion",
		"  - {name: a, pass: true}\n":                         "unknown key pass; did you mean passes?",
	} {
		_, err := ParseCases("c.yaml", []byte(text(more)))
		assert.ErrorContains(t, err, want)
	}
}
