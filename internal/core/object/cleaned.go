package object

import "strings"

// Cleaned is a live object as somebody would write it down: without what the API server and controllers fill in.
// Source: https://kubernetes.io/docs/concepts/overview/working-with-objects/
func Cleaned(live map[string]any) map[string]any {
	out := Clone(live)
	delete(out, "status")
	meta, _ := out["metadata"].(map[string]any)
	for _, k := range []string{"managedFields", "uid", "resourceVersion", "generation", "creationTimestamp", "selfLink", "deletionTimestamp", "deletionGracePeriodSeconds"} {
		delete(meta, k)
	}
	if notes, ok := meta["annotations"].(map[string]any); ok {
		for _, k := range []string{"kubectl.kubernetes.io/last-applied-configuration", "deployment.kubernetes.io/revision", "deprecated.daemonset.template.generation",
			"pv.kubernetes.io/bind-completed", "pv.kubernetes.io/bound-by-controller", "volume.kubernetes.io/storage-provisioner", "volume.beta.kubernetes.io/storage-provisioner", "volume.kubernetes.io/selected-node"} {
			delete(notes, k)
		}
		for k := range notes {
			if strings.HasPrefix(k, "vigila.dev/") {
				delete(notes, k)
			}
		}
		if len(notes) == 0 {
			delete(meta, "annotations")
		}
	}
	if labels, ok := meta["labels"].(map[string]any); ok {
		if delete(labels, WardLabel); len(labels) == 0 {
			delete(meta, "labels")
		}
	}
	spec, _ := out["spec"].(map[string]any)
	switch kind, _ := out["kind"].(string); kind {
	case "Service":
		if ip, _ := spec["clusterIP"].(string); ip != "None" {
			delete(spec, "clusterIP")
			delete(spec, "clusterIPs")
		}
	case "ServiceAccount":
		delete(out, "secrets") // of clusters that still make them
	case "Deployment", "StatefulSet", "DaemonSet", "ReplicaSet":
		template, _ := spec["template"].(map[string]any)
		if m, ok := template["metadata"].(map[string]any); ok {
			delete(m, "creationTimestamp")
		}
		if claims, ok := spec["volumeClaimTemplates"].([]any); ok {
			for _, c := range claims {
				if m, ok := c.(map[string]any); ok {
					delete(m, "status")
					if meta, ok := m["metadata"].(map[string]any); ok {
						delete(meta, "creationTimestamp")
					}
				}
			}
		}
	}
	return out
}
