package keeper

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/cluster"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/standing"
	"vigila.dev/vigila/internal/record"
)

// Clusters that are objects of another, in the words of the Cluster API (https://cluster-api.sigs.k8s.io): a Cluster, and beside it, once its
// control plane answers, a Secret with a kubeconfig.
const (
	clusterGroup      = "cluster.x-k8s.io"
	kubeconfigSecret  = "-kubeconfig"
	clusterLabel      = clusterGroup + "/cluster-name"
	clusterSecretType = clusterGroup + "/secret"
	secretVersion     = "v1"
)

// NewCluster is a cluster that a ward has made, and that is not known yet.
type NewCluster struct {
	Name, Namespace string
	Ward            string // NAME@CLUSTER
	Ready           bool   // it can be added
	Says            string
	Labels, Links   map[string]string
}

// NewClusters lists the clusters that wards make and that are not known yet, by name.
func (k *Keeper) NewClusters(ctx context.Context, w Who) []NewCluster {
	var out []NewCluster
	for _, p := range k.makers() {
		if !w.Sees(p.View()) {
			continue
		}
		all, err := objectsOf.ask(ctx, p, nothingAsked{})
		if err != nil {
			continue // its ward says why it can't be read
		}
		for _, o := range all {
			if o.Ref.Group != clusterGroup || o.Ref.Kind != "Cluster" {
				continue
			}
			k.mu.RLock()
			known := k.clusters[o.Ref.Name] != nil
			k.mu.RUnlock()
			if known {
				continue
			}
			out = append(out, k.newCluster(ctx, p, o))
		}
	}
	slices.SortFunc(out, func(a, b NewCluster) int { return strings.Compare(a.Name+" "+a.Ward, b.Name+" "+b.Ward) })
	return out
}

// makers are the wards that keep objects which are clusters.
func (k *Keeper) makers() (out []*placement) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, c := range k.clusters {
		c.mu.Lock()
		for kind, ids := range c.needs {
			if group, _, _ := strings.Cut(kind.Version, "/"); group != clusterGroup || kind.Kind != "Cluster" {
				continue
			}
			for id := range ids {
				if p := k.kept.all[id]; p != nil {
					out = append(out, p)
				}
			}
		}
		c.mu.Unlock()
	}
	return out
}

func (k *Keeper) newCluster(ctx context.Context, p *placement, o standing.Object) NewCluster {
	n := NewCluster{Name: o.Ref.Name, Namespace: o.Ref.Namespace, Ward: p.ID, Links: p.Ward.Links, Labels: map[string]string{}}
	if p.cluster.conn == nil {
		n.Says = "cluster " + p.cluster.record().Name + ", which makes it, is not connected"
		return n
	}
	body, err := p.cluster.conn.Get(ctx, o.Version, o.Ref)
	switch {
	case errors.Is(err, cluster.ErrGone):
		n.Says = "its object is not there yet"
		return n
	case err != nil:
		n.Says = err.Error()
		return n
	}
	meta, _ := body["metadata"].(map[string]any)
	labels, _ := meta["labels"].(map[string]any)
	for key, v := range labels {
		if text, is := v.(string); is && !strings.Contains(key, "/") { // the others are what tools say to each other
			n.Labels[key] = text
		}
	}
	if _, err := k.kubeconfigOf(ctx, p, n); err != nil {
		if n.Says = err.Error(); errors.Is(err, errNotMade) {
			n.Says = "its control plane does not answer yet"
			if status, _ := body["status"].(map[string]any); status != nil {
				if phase, _ := status["phase"].(string); phase != "" {
					n.Says += "; it is " + phase
				}
			}
		}
		return n
	}
	n.Ready, n.Says = true, "it answers, and can be added"
	return n
}

// errNotMade tells that there is no kubeconfig of a cluster yet.
var errNotMade = errors.New("there is no kubeconfig of it yet")

// kubeconfigOf is the kubeconfig of a cluster that a ward has made. It goes nowhere but to the record, sealed.
func (k *Keeper) kubeconfigOf(ctx context.Context, p *placement, n NewCluster) (string, error) {
	body, err := p.cluster.conn.Get(ctx, secretVersion, object.Ref{Kind: "Secret", Namespace: n.Namespace, Name: n.Name + kubeconfigSecret})
	if errors.Is(err, cluster.ErrGone) {
		return "", errNotMade
	}
	if err != nil {
		return "", err
	}
	meta, _ := body["metadata"].(map[string]any)
	labels, _ := meta["labels"].(map[string]any)
	if of, _ := body["type"].(string); of != clusterSecretType || labels[clusterLabel] != n.Name {
		return "", fmt.Errorf("Secret %s%s of namespace %s is not what makes clusters wrote: it has not type %s and label %s: %s", n.Name, kubeconfigSecret, n.Namespace, clusterSecretType, clusterLabel, n.Name)
	}
	data, _ := body["data"].(map[string]any)
	value, _ := data["value"].(string)
	text, err := base64.StdEncoding.DecodeString(value)
	if err != nil || len(text) == 0 {
		return "", fmt.Errorf("Secret %s%s of namespace %s holds no kubeconfig under value", n.Name, kubeconfigSecret, n.Namespace)
	}
	return string(text), nil
}

// AddMadeCluster adds a cluster that a ward has made, with the labels that its object has, until a roster says others.
type AddMadeCluster struct{ Name, Ward string }

// Subject says what is asked for.
func (w AddMadeCluster) Subject() Subject { return Subject{"add", "cluster", w.Name} }

func (w AddMadeCluster) do(ctx context.Context, k *Keeper, _ Actor) (Cluster, error) {
	p, err := k.one(w.Ward)
	if err != nil {
		return Cluster{}, err
	}
	k.mu.RLock()
	known := k.clusters[w.Name] != nil
	k.mu.RUnlock()
	if known {
		return Cluster{}, fault(Conflict, "cluster %s is known already", w.Name)
	}
	all, err := objectsOf.ask(ctx, p, nothingAsked{})
	if err != nil {
		return Cluster{}, err
	}
	for _, o := range all {
		if o.Ref.Group != clusterGroup || o.Ref.Kind != "Cluster" || o.Ref.Name != w.Name {
			continue
		}
		n := k.newCluster(ctx, p, o)
		if !n.Ready {
			return Cluster{}, fault(Conflict, "cluster %s can't be added: %s", w.Name, n.Says)
		}
		text, err := k.kubeconfigOf(ctx, p, n)
		if err != nil {
			return Cluster{}, fault(Conflict, "cluster %s can't be added: %v", w.Name, err)
		}
		return k.addCluster(ctx, record.Cluster{Name: w.Name, KubeconfigText: text, Labels: n.Labels, ClusterMore: record.ClusterMore{Links: n.Links, About: "Made by ward " + p.ID + "."}})
	}
	return Cluster{}, fault(NotFound, "ward %s makes no cluster %s; see vigila cluster offered", p.ID, w.Name)
}
