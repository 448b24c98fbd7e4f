package keeper

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// File and Files are those of package repo.
type (
	File  = repo.File
	Files = repo.Files
)

// Adoption is a draft of what would declare the things that are in a namespace already.
type Adoption struct {
	Files   []repo.File
	Objects int
	Skipped [][2]string // object and why
}

// Adopt drafts manifests and a ward file for what is in a namespace of a cluster. Nothing changes; the first
// difference of the ward is its mark alone.
func (k *Keeper) Adopt(ctx context.Context, clusterName, namespace, wardName, dir, from string) (Adoption, error) {
	k.mu.RLock()
	c := k.clusters[clusterName]
	k.mu.RUnlock()
	if c == nil {
		return Adoption{}, k.unknownCluster(clusterName)
	}
	if c.conn == nil {
		return Adoption{}, fault(Unreachable, "%v", c.err)
	}
	if err := ward.Name(namespace); err != nil {
		return Adoption{}, fault(Invalid, "namespace: %v", err)
	}
	if wardName = cmp.Or(wardName, namespace); ward.Name(wardName) != nil {
		return Adoption{}, fault(Invalid, "ward: %v", ward.Name(wardName))
	}
	dir = strings.Trim(cmp.Or(dir, wardName), "/")
	if _, err := c.conn.Get(ctx, "v1", object.Ref{Kind: "Namespace", Name: namespace}); errors.Is(err, cluster.ErrGone) {
		return Adoption{}, fault(NotFound, "cluster %s has no namespace %s", clusterName, namespace)
	} else if err != nil {
		return Adoption{}, err
	}
	all, err := c.conn.Everything(ctx, namespace)
	if err != nil {
		return Adoption{}, err
	}
	var out Adoption
	byFile := map[string][]string{}
	for _, f := range all {
		o, err := object.FromBody(f.Body)
		if err != nil {
			continue
		}
		if why := notAdopted(o); why != "" {
			if why != byCluster {
				out.Skipped = append(out.Skipped, [2]string{o.Ref.Short(), why})
			}
			continue
		}
		if kept := object.Label(f.Body, object.WardLabel); kept != "" {
			out.Skipped = append(out.Skipped, [2]string{o.Ref.Short(), "ward " + kept + " keeps it"})
			continue
		}
		text, err := yaml.Marshal(object.Cleaned(f.Body))
		if err != nil {
			return Adoption{}, err
		}
		name := path.Join(dir, strings.ToLower(o.Ref.Kind)+".yaml")
		byFile[name] = append(byFile[name], string(text))
		out.Objects++
	}
	if out.Objects == 0 {
		return out, fault(Conflict, "there is nothing in namespace %s of cluster %s to adopt%s", namespace, clusterName, skippedText(out.Skipped))
	}
	for name, texts := range byFile {
		out.Files = append(out.Files, repo.File{Path: name, Data: []byte(strings.Join(texts, "---\n"))})
	}
	file := fmt.Sprintf("vigila: ward/v1\nname: %s\nabout: Adopted from namespace %s of cluster %s.\nfrom: {", wardName, namespace, clusterName)
	if from != "" {
		file += "repo: " + from + ", "
	}
	file += fmt.Sprintf("path: %s}\ninto: {cluster: %s, namespace: %s}\nkeep: {sync: ask, drift: report, prune: false} # prune: true once you trust it\n", dir, clusterName, namespace)
	out.Files = append(out.Files, repo.File{Path: path.Join("wards", wardName+".yaml"), Data: []byte(file)})
	slices.SortFunc(out.Files, func(a, b repo.File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

func skippedText(skipped [][2]string) string {
	if len(skipped) == 0 {
		return ""
	}
	return fmt.Sprintf("; %s was left out: %s", skipped[0][0], skipped[0][1])
}

// byCluster is why an object is passed over without a word.
const byCluster = "the cluster makes it"

// notAdopted says why an object is not declared; "" when it is.
func notAdopted(o object.Object) string {
	meta, _ := o.Body["metadata"].(map[string]any)
	if owners, ok := meta["ownerReferences"].([]any); ok && len(owners) > 0 {
		return byCluster // by its owner
	}
	switch o.Ref.Kind {
	case "Event", "Endpoints", "EndpointSlice", "Lease", "ControllerRevision", "PodMetrics", "Binding", "TokenRequest":
		return byCluster
	case "Secret":
		if t, _ := o.Body["type"].(string); t == "kubernetes.io/service-account-token" {
			return byCluster
		}
		return "a Secret never enters git; it is left as it is"
	case "ConfigMap":
		if o.Ref.Name == "kube-root-ca.crt" {
			return byCluster
		}
	case "ServiceAccount":
		if o.Ref.Name == "default" {
			return byCluster
		}
	case "Pod":
		return "a Pod without an owner is not declared; give it a Deployment"
	case "Job":
		return "a Job has run already; declare it as a task if it is to run again"
	}
	return ""
}

// Schema is how a cluster describes its kinds: OpenAPI v2, JSON.
func (k *Keeper) Schema(ctx context.Context, clusterName string) ([]byte, error) {
	k.mu.RLock()
	c := k.clusters[clusterName]
	k.mu.RUnlock()
	switch {
	case c == nil:
		return nil, k.unknownCluster(clusterName)
	case c.conn == nil:
		return nil, fault(Unreachable, "%v", c.err)
	}
	b, err := c.conn.OpenAPI(ctx)
	if err != nil {
		return nil, fault(Unreachable, "%v", err)
	}
	return b, nil
}
