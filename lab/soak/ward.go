package soak

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
)

// shared is a namespace that no ward keeps; class a storage class that binds once a Pod uses a claim.
const shared, class = "soundings", "disks"

// ward is what the soak itself knows of one ward: what it has pushed.
type ward struct {
	name    string
	index   int
	configs map[string]int // the ConfigMaps that are declared, to their version
	next    int
	broken  bool            // its last commit can't be parsed
	deleted map[string]bool // objects that were deleted by hand once
	adopted map[string]bool // objects that somebody else made by a client-side apply, with a key that is not declared
	claims  map[string]bool
	scaler  int    // version of the autoscaling API that its autoscaler is declared in
	moving  string // an object in a namespace of nobody, handed to and fro with the next ward; empty while the other has it
	secret  int    // version of the value that its Secret refers to; 0 when it has none
	version int    // of its image and its terms
	gone    bool   // it is being removed with its objects, or was
}

func newWard(i int) *ward {
	w := &ward{name: fmt.Sprintf("pier-%02d", i), index: i, configs: map[string]int{}, deleted: map[string]bool{}, adopted: map[string]bool{}, claims: map[string]bool{}, scaler: 1 + i%2, version: 1}
	if i%2 == 0 {
		w.moving = fmt.Sprintf("buoy-%02d", i)
	} else {
		w.secret = 1
	}
	for range 8 {
		w.next++
		w.configs[fmt.Sprintf("c%03d", w.next)] = 1
	}
	return w
}

// reports tells whether drift is only reported, not restored; tasks, whether a task runs before each sync.
func (w *ward) reports() bool { return w.index%3 == 1 }
func (w *ward) tasks() bool   { return w.index%3 == 2 }

func (w *ward) gate() string {
	drift := "restore"
	if w.reports() {
		drift = "report"
	}
	canary := ""
	if w.releases() {
		canary = fmt.Sprintf("canary: [{of: Deployment/%s, by: replicas, shares: [{at: 50, for: %s}], within: 2m}]\n", w.name, share)
	}
	return fmt.Sprintf("vigila: ward/v1\nname: %[1]s\nfrom: {repo: moorings, path: %[1]s}\ninto: {cluster: quay, namespace: %[1]s, create_namespace: true}\nkeep: {sync: auto, drift: %[2]s, every: 1s}\nsettle: {within: 3m}\n%[3]s", w.name, drift, canary)
}

// value is what the store has for its Secret.
func (w *ward) value() string { return fmt.Sprintf("kelp of %s, %d", w.name, w.secret) }

// vault is its Secret: with the value, as it is to be in the cluster, or with a reference, as it is in the repository.
func (w *ward) vault(value map[string]any) map[string]any {
	out := map[string]any{"apiVersion": "v1", "kind": "Secret", "metadata": map[string]any{"name": "vault"}}
	maps.Copy(out, value)
	return out
}

// declared is every object that should be in the cluster, by kind/name, without what is the same everywhere.
func (w *ward) declared() map[string]map[string]any {
	out := map[string]map[string]any{}
	for name, version := range w.configs {
		out["ConfigMap/"+name] = map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": name, "labels": map[string]any{"app": w.name}},
			"data": map[string]any{"v": fmt.Sprint(version), "pier": w.name}}
	}
	// A name that is legal for RBAC alone.
	out["Role/"+w.name+":a|b"] = map[string]any{"apiVersion": "rbac.authorization.k8s.io/v1", "kind": "Role", "metadata": map[string]any{"name": w.name + ":a|b"},
		"rules": []any{map[string]any{"apiGroups": []any{""}, "resources": []any{"configmaps"}, "verbs": []any{"get"}}}}
	for name := range w.claims {
		out["PersistentVolumeClaim/"+name] = map[string]any{"apiVersion": "v1", "kind": "PersistentVolumeClaim", "metadata": map[string]any{"name": name},
			"spec": map[string]any{"storageClassName": class, "accessModes": []any{"ReadWriteOnce"}, "resources": map[string]any{"requests": map[string]any{"storage": "1Gi"}}}}
	}
	if w.moving != "" {
		out["ConfigMap/"+w.moving] = map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": w.moving, "namespace": shared}, "data": map[string]any{"light": "on"}}
	}
	out["HorizontalPodAutoscaler/"+w.name] = map[string]any{"apiVersion": fmt.Sprintf("autoscaling/v%d", w.scaler), "kind": "HorizontalPodAutoscaler", "metadata": map[string]any{"name": w.name},
		"spec": map[string]any{"minReplicas": 1, "maxReplicas": 3, "scaleTargetRef": map[string]any{"apiVersion": "apps/v1", "kind": "Deployment", "name": w.name}}}
	if w.secret > 0 {
		out["Secret/vault"] = w.vault(map[string]any{"data": map[string]any{"k": base64.StdEncoding.EncodeToString([]byte(w.value()))}})
	}
	labels := map[string]any{"app": w.name}
	out["Deployment/"+w.name] = map[string]any{"apiVersion": "apps/v1", "kind": "Deployment", "metadata": map[string]any{"name": w.name},
		"spec": map[string]any{"replicas": 1, "selector": map[string]any{"matchLabels": labels}, "template": map[string]any{"metadata": map[string]any{"labels": labels},
			"spec": map[string]any{"containers": []any{map[string]any{"name": "app", "image": fmt.Sprintf("registry.brindle.example/pier:%d", w.version)}}}}}}
	if w.releases() {
		out["ConfigMap/terms"] = map[string]any{"apiVersion": "v1", "kind": "ConfigMap", "metadata": map[string]any{"name": "terms"}, "data": map[string]any{"version": fmt.Sprint(w.version)}}
	}
	return out
}

var separators = []string{"---\n", "---  # another\n", "---\t# tab\n", "...\n---\n", "--- ", "--- !!map\n"}

func (w *ward) files() map[string]string {
	out := map[string]string{}
	declared := w.declared()
	if w.secret > 0 {
		declared["Secret/vault"] = w.vault(map[string]any{"stringData": map[string]any{"k": "secret://harbour/" + w.name + "#k"}})
	}
	stream := ""
	for i, key := range slices.Sorted(maps.Keys(declared)) {
		text, err := json.Marshal(declared[key])
		if err != nil {
			panic(err)
		}
		if i%2 == 0 { // half of them in one file, with every separator that YAML knows
			stream += separators[i/2%len(separators)] + string(text) + "\n"
			continue
		}
		kind, name, _ := cut(key)
		out[kind+"-"+strings.ReplaceAll(name, "|", "_")+".json"] = string(text)
	}
	out["stream.yaml"] = stream
	if w.tasks() {
		out["task.yaml"] = "apiVersion: batch/v1\nkind: Job\nmetadata: {name: migrate, annotations: {vigila.dev/task: before}}\nspec: {template: {spec: {restartPolicy: Never, containers: [{name: migrate, image: registry.brindle.example/migrate:1}]}}}\n"
	}
	if w.broken {
		out["broken.yaml"] = "apiVersion: v1\nkind: [\n"
	}
	return out
}

func cut(key string) (kind, name string, ok bool) {
	for i := range key {
		if key[i] == '/' {
			return key[:i], key[i+1:], true
		}
	}
	return key, "", false
}

func (w *ward) names() []string {
	var out []string
	for n := range w.configs {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

func (w *ward) some(dice *rand.Rand) string {
	names := w.names()
	return names[dice.IntN(len(names))]
}

func (w *ward) alter(dice *rand.Rand) string {
	w.broken = false
	n := 1 + dice.IntN(4)
	for range n {
		w.configs[w.some(dice)]++
	}
	return fmt.Sprintf("changes %d objects", n)
}

func (w *ward) add(dice *rand.Rand) string {
	w.broken = false
	n := 1 + dice.IntN(3)
	for range n {
		w.next++
		w.configs[fmt.Sprintf("c%03d", w.next)] = 1
	}
	return fmt.Sprintf("adds %d objects", n)
}

// remove takes few objects away: a mass removal would rightly be asked about.
func (w *ward) remove(dice *rand.Rand) string {
	w.broken = false
	if len(w.configs) < 8 {
		return w.add(dice)
	}
	name := w.some(dice)
	delete(w.configs, name)
	return "removes " + name
}

// claim declares a claim that nothing uses, or takes it away again.
func (w *ward) claim(*rand.Rand) string {
	w.broken = false
	if w.claims["charts"] {
		delete(w.claims, "charts")
		return "lets its claim go"
	}
	w.claims["charts"] = true
	return "claims a volume"
}

// rewrite declares the autoscaler in the other version of its API.
func (w *ward) rewrite(*rand.Rand) string {
	w.broken = false
	w.scaler = 3 - w.scaler
	return fmt.Sprintf("declares its autoscaler as autoscaling/v%d", w.scaler)
}

func (w *ward) smash(*rand.Rand) string {
	w.broken = true
	return "can't be parsed any more"
}
