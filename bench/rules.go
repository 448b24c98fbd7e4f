package main

import (
	"encoding/json"
	"fmt"
	"time"

	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/rule"
)

// ruled are so many objects as a repository of services declares them, and their JSON.
func ruled(n int) (out []object.Object, texts [][]byte) {
	for i := 0; len(out) < n; i++ {
		name, ns := fmt.Sprintf("service-%d", i), fmt.Sprintf("team-%d", i%200)
		labels := fmt.Sprintf(`{"app.kubernetes.io/name":%q,"app.kubernetes.io/part-of":"brindle"}`, name)
		meta := fmt.Sprintf(`"metadata":{"name":%q,"namespace":%q,"labels":%s}`, name, ns, labels)
		for _, text := range []string{
			fmt.Sprintf(`{"apiVersion":"apps/v1","kind":"Deployment",%s,"spec":{"replicas":2,"selector":{"matchLabels":%[2]s},"template":{"metadata":{"labels":%[2]s},"spec":{
				"securityContext":{"runAsNonRoot":true,"seccompProfile":{"type":"RuntimeDefault"}},"containers":[{"name":"serve","image":"registry.brindle.example/%[3]s:1.4.2","args":["--listen=:8080"],
				"ports":[{"name":"http","containerPort":8080}],"env":[{"name":"TIDE_URL","value":"http://tide-gauge:8080"},{"name":"PASSWORD","valueFrom":{"secretKeyRef":{"name":%[3]q,"key":"password"}}}],
				"readinessProbe":{"httpGet":{"path":"/ready","port":"http"}},"resources":{"requests":{"cpu":"50m","memory":"64Mi"},"limits":{"memory":"128Mi"}},
				"securityContext":{"allowPrivilegeEscalation":false,"capabilities":{"drop":["ALL"]}}}]}}}}`, meta, labels, name),
			fmt.Sprintf(`{"apiVersion":"v1","kind":"Service",%s,"spec":{"selector":%s,"ports":[{"name":"http","port":80,"targetPort":"http"}]}}`, meta, labels),
			fmt.Sprintf(`{"apiVersion":"v1","kind":"ConfigMap",%s,"data":{"tides.yaml":"gauges: [north, south]\nevery: 10m\n","mode":"night"}}`, meta),
			fmt.Sprintf(`{"apiVersion":"v1","kind":"ServiceAccount",%s}`, meta),
			fmt.Sprintf(`{"apiVersion":"v1","kind":"Secret",%s,"stringData":{"password":"secret://harbour/%s#password"}}`, meta, name),
			fmt.Sprintf(`{"apiVersion":"policy/v1","kind":"PodDisruptionBudget",%s,"spec":{"minAvailable":1,"selector":{"matchLabels":%s}}}`, meta, labels),
		} {
			var body map[string]any
			if err := json.Unmarshal([]byte(text), &body); err != nil {
				panic(err)
			}
			o, err := object.FromBody(body)
			if err != nil {
				panic(err)
			}
			out, texts = append(out, o), append(texts, []byte(text))
		}
	}
	return out[:n], texts[:n]
}

// rules holds 10,000 objects against twenty rules: all of them, and again once one has changed.
func rules() row {
	const n, want = 10000, 20
	objects, texts := ruled(n)
	held := rule.Load().List()
	for i := 0; len(held) < want; i++ {
		held = append(held, held[i])
	}
	set := rule.Only(held[:want]...)
	facts := rule.Facts{Ward: map[string]any{"name": "services", "owner": "harbour-ops", "namespace": "", "settle": map[string]any{"within": int64(300), "otherwise": "rollback"}},
		Cluster: map[string]any{"name": "quay", "labels": map[string]any{}, "version": "v1.37.2"}}
	best := func(do func()) time.Duration {
		least := time.Duration(0)
		for range 3 {
			start := time.Now()
			do()
			if took := time.Since(start); least == 0 || took < least {
				least = took
			}
		}
		return least
	}
	decode := best(func() {
		for _, t := range texts {
			var body map[string]any
			if err := json.Unmarshal(t, &body); err != nil {
				panic(err)
			}
		}
	})
	var found []rule.Finding
	all := best(func() { found = set.Judge(facts, objects, nil) })
	changed := objects[n/2].Ref
	var refs []object.Ref
	for _, o := range objects {
		refs = append(refs, o.Ref)
	}
	one := best(func() {
		set.Judge(facts, objects, nil, rule.Before{Findings: found, Refs: refs, Same: func(o object.Object) bool { return o.Ref != changed }})
	})
	return row{what: "20 rules over 10000 objects, all of them and once one has changed", against: "JSON decoding of the same objects", goal: "no slower", ours: ms(all) + "; " + ms(one), limit: ms(decode),
		verdict: fmt.Sprintf("%.1f times; %.1f times", float64(all)/float64(decode), float64(one)/float64(decode)), met: all <= decode && one <= decode,
		how: "Deployments, Services, ConfigMaps, ServiceAccounts, references to secrets and budgets, as a repository declares them, in 200 namespaces; the rules that come along, some of them twice. The best of three; one core.",
		why: `Expressions are evaluated by the interpreter that an API server uses, with its limits of cost, which are counted at each step; decoding is one pass
over the text. It is done once a rendering, and after a change only what has changed is looked at, and by rules that look at others too (does a Service lead to a Pod?) what is in the same namespace.`}
}
