package object

import (
	"time"

	"sigs.k8s.io/structured-merge-diff/v6/fieldpath"
)

// restartedAt is the annotation by which a rollout is started again without a change.
// Source: https://kubernetes.io/docs/reference/kubectl/generated/kubectl_rollout/kubectl_rollout_restart/
const restartedAt = "kubectl.kubernetes.io/restartedAt"

// Restart is somebody's wish that the Pods of a workload be made anew. It is no addition: taking it away would make them
// anew once more.
type Restart struct {
	Who  string
	When time.Time
}

// RestartOf reads the last restart of a workload that another client asked for; nil when none did.
func RestartOf(body map[string]any) *Restart {
	path := fieldpath.MakePathOrDie("spec", "template", "metadata", "annotations", restartedAt)
	v, there := lookup(body, path)
	if !there {
		return nil
	}
	for _, o := range Owners(body) {
		if o.Manager != Manager && o.Set.Has(path) {
			r := &Restart{Who: o.Manager, When: o.Time}
			if text, ok := v.(string); ok {
				if at, err := time.Parse(time.RFC3339, text); err == nil {
					r.When = at
				}
			}
			return r
		}
	}
	return nil
}

// isRestart tells whether a path is that of a restart.
func isRestart(p fieldpath.Path) bool {
	last := p[len(p)-1]
	return last.FieldName != nil && *last.FieldName == restartedAt
}
