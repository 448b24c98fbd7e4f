package rule

import (
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	admission "k8s.io/api/admissionregistration/v1"

	"vigila.dev/vigila/internal/core/object"
)

// own is compiled once for all tests.
var own = sync.OnceValue(Load)

// TestOurs: every rule of ours has its reason and its mend, a case that passes and one that does not, and all of them do as they say.
func TestOurs(t *testing.T) {
	files := OurFiles()
	for _, name := range Names() {
		r := own()[name]
		require.NotNil(t, r, "%s.yaml holds no rule of that name", name)
		assert.NotEmpty(t, r.Why, name)
		assert.NotEmpty(t, r.Mend, name)
		data, has := files[name+casesSuffix]
		require.True(t, has, "%s has no cases", name)
		cases, err := ParseCases(name+casesSuffix, data)
		require.NoError(t, err)
		tried, err := Test(own().List(), cases)
		require.NoError(t, err)
		pass := map[bool]int{}
		for _, x := range tried {
			pass[x.Passes]++
			assert.Empty(t, x.Wrong, "%s: %s", name, x.Name)
			for _, f := range Only(own()[name]).Judge(Facts{Ward: x.Ward, Cluster: x.Cluster}, x.Objects, x.Own) {
				assert.False(t, f.Unclear, "%s: %s: %s", name, x.Name, f.Text)
			}
		}
		assert.NotZero(t, pass[true], name)
		assert.NotZero(t, pass[false], name)
	}
}

// TestAKindIsNotRenamedAwayFromARule: what a declaration says of its kinds, in a definition that it bears itself, hides nothing from a rule, and lets nothing
// out of one.
func TestAKindIsNotRenamedAwayFromARule(t *testing.T) {
	rights := "apiVersion: rbac.authorization.k8s.io/v1\nkind: ClusterRole\nmetadata: {name: all}\nrules: [{apiGroups: ['*'], resources: ['*'], verbs: ['*']}]\n"
	named := func(plural string) string {
		return "---\napiVersion: apiextensions.k8s.io/v1\nkind: CustomResourceDefinition\nmetadata: {name: " + plural + ".rbac.authorization.k8s.io}\nspec: {group: rbac.authorization.k8s.io, names: {kind: ClusterRole, plural: " + plural + "}}\n"
	}
	leaveOut := *own()["cluster-rights"]
	match := *leaveOut.match
	match.out = append(slices.Clone(match.out), admission.NamedRuleWithOperations{RuleWithOperations: admission.RuleWithOperations{Rule: admission.Rule{APIGroups: []string{"*"}, APIVersions: []string{"*"}, Resources: []string{"kelps"}}}})
	leaveOut.match = &match
	for _, of := range []*Rule{own()["cluster-rights"], &leaveOut} {
		for _, text := range []string{rights, rights + named("kelps"), rights + named("configmaps")} {
			all, err := object.Parse("all.yaml", []byte(text))
			require.NoError(t, err)
			found := Only(of).Judge(Facts{Ward: map[string]any{"name": "services", "namespace": "team-1"}, Cluster: map[string]any{"name": "quay"}}, all, nil)
			require.Len(t, found, 1, text)
			assert.Equal(t, "ClusterRole/all", found[0].Ref.Short(), text)
		}
	}
}
