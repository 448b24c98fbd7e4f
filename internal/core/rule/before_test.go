package rule

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
)

// TestCostFollowsTheChange: what was found before and what is found anew are together what all of it would be found, whatever has changed, come and gone; and a
// rule that looks at one object alone is not asked about what is as it was.
func TestCostFollowsTheChange(t *testing.T) {
	set := Only(own().List()...)
	facts := Facts{Ward: map[string]any{"name": "services", "owner": "harbour-ops", "namespace": "team-1", "settle": map[string]any{"within": int64(60), "otherwise": "rollback"}}, Cluster: map[string]any{"name": "quay", "labels": map[string]any{}, "version": "v1.37.2"}}
	all, _ := objects(t, 120)
	spaces, err := object.Parse("n.yaml", []byte("apiVersion: v1\nkind: Namespace\nmetadata: {name: team-1}\n---\napiVersion: rbac.authorization.k8s.io/v1\nkind: ClusterRole\nmetadata: {name: all}\nrules: [{apiGroups: ['*'], resources: ['*'], verbs: ['*']}]\n"))
	require.NoError(t, err)
	for i := range all { // a few namespaces, so that some of them stay as they are
		all[i].Ref.Namespace = fmt.Sprint("team-", i/6%5)
		all[i].Body["metadata"].(map[string]any)["namespace"] = all[i].Ref.Namespace
	}
	all = append(all, spaces...)
	dice := rand.New(rand.NewPCG(7, 11))
	was := all
	found := set.Judge(facts, was, nil)
	require.NotEmpty(t, found)
	for range 40 {
		now := slices.Clone(was)
		for range dice.IntN(4) {
			i := dice.IntN(len(now))
			switch dice.IntN(3) {
			case 0:
				now = slices.Delete(now, i, i+1)
			case 1:
				body := object.Clone(now[i].Body)
				meta := body["metadata"].(map[string]any)
				meta["labels"] = map[string]any{"app.kubernetes.io/name": fmt.Sprint("other-", dice.IntN(5))}
				if spec, ok := body["spec"].(map[string]any); ok && now[i].Ref.Kind == "Deployment" {
					spec["replicas"] = int64(dice.IntN(3))
				}
				now[i].Body = body
			case 2:
				if o := all[dice.IntN(len(all))]; !slices.ContainsFunc(now, func(x object.Object) bool { return x.Ref == o.Ref }) {
					now = append(now, o)
				}
			}
		}
		for i := range now {
			now[i].Line++ // something was written above it
		}
		before := Before{Findings: found, Same: func(o object.Object) bool {
			i := slices.IndexFunc(was, func(x object.Object) bool { return x.Ref == o.Ref })
			return i >= 0 && object.Hash(was[i].Body) == object.Hash(o.Body)
		}}
		for _, o := range was {
			before.Refs = append(before.Refs, o.Ref)
		}
		whole := set.Judge(facts, now, nil)
		assert.Equal(t, whole, set.Judge(facts, now, nil, before))
		was, found = now, whole
	}
	var alone []string
	for _, r := range own().List() {
		if r.alone {
			alone = append(alone, r.Name)
		}
	}
	assert.Equal(t, []string{"api-leaving", "api-removed", "cluster-rights", "deadline-fits", "images-pinned", "own-namespace", "pod-security-baseline", "pod-security-restricted", "probes-stated", "resources-stated", "secret-literal", "secret-looking", "ward-owned"}, alone)
}

// TestRulesTakeSoMuchTogether: each may take what an API server lets it for each object, which of very many is days. What was not looked at is not well.
func TestRulesTakeSoMuchTogether(t *testing.T) {
	facts := Facts{Ward: map[string]any{"name": "services"}}
	var all []object.Object
	for i := range 1000 {
		more, err := object.Parse("d.yaml", fmt.Appendf(nil, "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: d%d, namespace: a}\nspec: {replicas: 1, template: {spec: {containers: [%s]}}}\n", i, strings.Repeat("{name: a}, ", 400)))
		require.NoError(t, err)
		all = append(all, more...)
	}
	judged := func(spec string, more ...string) []Finding {
		rules, err := Parse("r.yaml", []byte(policy("slow", strings.Join(more, ""), spec)))
		require.NoError(t, err)
		return Only(rules...).Judge(facts, all, nil)
	}
	was := maxSpent
	maxSpent = 2_000_000
	defer func() { maxSpent = was }()
	const warns = "  annotations: {vigila.dev/otherwise: warn}"
	const slowly = "  validations:\n  - expression: object.spec.template.spec.containers.all(a, object.spec.template.spec.containers.all(b, a.name == b.name))\n    message: they differ\n"
	found := judged(slowly)
	require.NotEmpty(t, found)
	last := found[len(found)-1]
	assert.True(t, last.Cut && last.Refuse && last.Unclear)
	assert.Contains(t, last.Text, "the rules take more than they may for one ward")
	assert.Less(t, len(found), 900)

	slow := found
	for i := 1; len(all) < maxFound+500; i++ {
		o := all[i]
		o.Ref.Name += "x"
		all = append(all, o)
	}
	assert.Len(t, judged(twice), maxFound+500, "each is refused")
	found = judged(twice, warns)
	require.Len(t, found, maxFound+1, "so much is only warned of, which keeps nobody from syncing")
	assert.Equal(t, []any{true, false}, []any{found[maxFound].Cut, found[maxFound].Refuse})
	assert.Contains(t, found[maxFound].Text, "5000 things are warned of or refused; what else would be warned of was not looked for")
	for i := 1; len(all) < 2*maxFound+500; i++ {
		o := all[i]
		o.Ref.Name += "y"
		all = append(all, o)
	}
	found = judged(twice)
	require.Len(t, found, 2*maxFound+1)
	assert.Contains(t, found[2*maxFound].Text, "10000 things break the rules; what comes after them was not held against them")
	all = all[:1000]
	found = judged(slowly, warns)
	assert.Len(t, found, len(slow))
	assert.False(t, found[len(found)-1].Refuse, "rules that only warn refuse nothing")
}
