package rule

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
)

// objects are n objects as a repository of services holds them, and their JSON.
func objects(b testing.TB, n int) (out []object.Object, texts [][]byte) {
	for i := 0; len(out) < n; i++ {
		name, ns := fmt.Sprintf("service-%d", i), fmt.Sprintf("team-%d", i%200)
		labels := fmt.Sprintf(`{"app.kubernetes.io/name":%q,"app.kubernetes.io/part-of":"brindle","vigila.dev/ward":"services"}`, name)
		for _, text := range []string{
			fmt.Sprintf(`{"apiVersion":"apps/v1","kind":"Deployment","metadata":{"name":%q,"namespace":%q,"labels":%s},"spec":{"replicas":2,"progressDeadlineSeconds":120,"selector":{"matchLabels":%[3]s},
				"template":{"metadata":{"labels":%[3]s},"spec":{"serviceAccountName":%[1]q,"securityContext":{"runAsNonRoot":true,"seccompProfile":{"type":"RuntimeDefault"}},
				"containers":[{"name":"serve","image":"registry.brindle.example/%[1]s:1.4.%[4]d","args":["--listen=:8080","--tides=/etc/tides"],"ports":[{"name":"http","containerPort":8080}],
				"env":[{"name":"TIDE_URL","value":"http://tide-gauge:8080"},{"name":"PASSWORD","valueFrom":{"secretKeyRef":{"name":%[1]q,"key":"password"}}}],
				"readinessProbe":{"httpGet":{"path":"/ready","port":"http"}},"resources":{"requests":{"cpu":"50m","memory":"64Mi"},"limits":{"memory":"128Mi"}},
				"securityContext":{"allowPrivilegeEscalation":false,"capabilities":{"drop":["ALL"]}},"volumeMounts":[{"name":"tides","mountPath":"/etc/tides"}]}],
				"volumes":[{"name":"tides","configMap":{"name":%[1]q}}]}}}}`, name, ns, labels, i%9),
			fmt.Sprintf(`{"apiVersion":"v1","kind":"Service","metadata":{"name":%q,"namespace":%q,"labels":%s},"spec":{"selector":%[3]s,"ports":[{"name":"http","port":80,"targetPort":"http"}]}}`, name, ns, labels),
			fmt.Sprintf(`{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":%q,"namespace":%q,"labels":%s},"data":{"tides.yaml":"harbour: %[1]s\ngauges: [north, south]\nevery: 10m\n","mode":"night"}}`, name, ns, labels),
			fmt.Sprintf(`{"apiVersion":"v1","kind":"ServiceAccount","metadata":{"name":%q,"namespace":%q,"labels":%s}}`, name, ns, labels),
			fmt.Sprintf(`{"apiVersion":"v1","kind":"Secret","metadata":{"name":%q,"namespace":%q,"labels":%s},"stringData":{"password":"secret://harbour/%[1]s#password"}}`, name, ns, labels),
			fmt.Sprintf(`{"apiVersion":"policy/v1","kind":"PodDisruptionBudget","metadata":{"name":%q,"namespace":%q,"labels":%s},"spec":{"minAvailable":1,"selector":{"matchLabels":%[3]s}}}`, name, ns, labels),
		} {
			var body map[string]any
			require.NoError(b, json.Unmarshal([]byte(text), &body))
			o, err := object.FromBody(body)
			require.NoError(b, err)
			out, texts = append(out, o), append(texts, []byte(text))
		}
	}
	return out[:n], texts[:n]
}

// BenchmarkRules holds 10,000 objects against twenty rules, and prints how long that takes against decoding their JSON once.
func BenchmarkRules(b *testing.B) {
	all, texts := objects(b, 10000)
	rules := own().List()
	for i := 0; len(rules) < 20; i++ {
		rules = append(rules, rules[i])
	}
	set := Only(rules[:20]...)
	facts := Facts{Ward: map[string]any{"name": "services", "owner": "harbour-ops", "namespace": "", "settle": map[string]any{"within": 300, "otherwise": "rollback"}},
		Cluster: map[string]any{"name": "quay", "labels": map[string]any{}, "version": "v1.37.2"}}
	b.Run("decode", func(b *testing.B) {
		for range b.N {
			for _, t := range texts {
				var body map[string]any
				require.NoError(b, json.Unmarshal(t, &body))
			}
		}
	})
	b.Run("judge", func(b *testing.B) {
		for range b.N {
			set.Judge(facts, all, nil)
		}
	})
	for _, r := range own().List() {
		one := Only(r)
		b.Run(r.Name, func(b *testing.B) {
			for range b.N {
				one.Judge(facts, all, nil)
			}
		})
	}
}
