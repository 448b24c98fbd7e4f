package health

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"sigs.k8s.io/yaml"
)

func TestWhatNobodyWaitsFor(t *testing.T) {
	for name, c := range map[string]struct {
		group, kind, body string
		want              Result
	}{
		"a paused Deployment":                            {"apps", "Deployment", "spec: {paused: true, replicas: 2}\nstatus: {observedGeneration: 1, replicas: 2, updatedReplicas: 0}", Result{Word: Ready, Reason: "paused: its newest version is not rolled out"}},
		"a paused one that was not seen yet":             {"apps", "Deployment", "metadata: {generation: 2}\nspec: {paused: true}\nstatus: {observedGeneration: 1}", Result{Word: Settling, Reason: "its controller has not seen the change yet"}},
		"a StatefulSet whose Pods are ready too shortly": {"apps", "StatefulSet", "spec: {replicas: 2, minReadySeconds: 30}\nstatus: {observedGeneration: 1, readyReplicas: 2, availableReplicas: 1, updatedReplicas: 2}", Result{Word: Settling, Reason: "1 of 2 ready"}},
		"one without such a wish":                        {"apps", "StatefulSet", "spec: {replicas: 2}\nstatus: {observedGeneration: 1, readyReplicas: 2, updatedReplicas: 2}", Result{Word: Ready}},
	} {
		t.Run(name, func(t *testing.T) {
			var body map[string]any
			assert.NoError(t, yaml.Unmarshal([]byte(c.body), &body))
			assert.Equal(t, c.want, Of(c.group, c.kind, body))
		})
	}
	hung := map[string]any{"metadata": map[string]any{"name": "p-1"}, "status": map[string]any{"phase": "Running"}}
	r, ok := Cause([]map[string]any{hung})
	assert.True(t, ok)
	assert.Equal(t, Result{Word: Settling, Reason: "Pod p-1 is running, not ready"}, r)
}
