package keeper

import (
	"context"
	"encoding/base64"
	"errors"

	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/record"
)

// SetClusterSignIn says which provider's people the API server of a cluster takes, and what it is to that provider: by their own sign-in, with their
// own rights there. An empty Provider takes it back.
type SetClusterSignIn struct {
	Cluster string
	record.TakesPeople
}

// Subject says what is asked for.
func (w SetClusterSignIn) Subject() Subject {
	return Subject{"say who signs in to", "cluster", w.Cluster}
}

func (w SetClusterSignIn) do(ctx context.Context, k *Keeper, _ Actor) (Cluster, error) {
	k.changing.Lock()
	defer k.changing.Unlock()
	k.mu.RLock()
	c := k.clusters[w.Cluster]
	k.mu.RUnlock()
	if c == nil {
		return Cluster{}, k.unknownCluster(w.Cluster)
	}
	if w.Provider != "" {
		if _, err := k.provider(w.Provider); err != nil {
			return Cluster{}, err
		}
		if w.Client == "" {
			return Cluster{}, fault(Invalid, "client: what the API server is to provider %s is missing (--oidc-client-id there, or issuer.audiences)", w.Provider)
		}
	}
	rec := c.record()
	if rec.People = w.TakesPeople; w.Provider == "" {
		rec.People = record.TakesPeople{}
	}
	if err := k.store.PutCluster(ctx, rec); err != nil {
		return Cluster{}, err
	}
	k.mu.Lock()
	c.conf = rec
	k.mu.Unlock()
	k.broker.send(Note{"cluster", w.Cluster})
	out := c.info(ctx)
	out.Wards = k.wardsIn(w.Cluster)
	return out, nil
}

// mayHaveKubeconfig tells whether somebody can be given a kubeconfig of a cluster: they have signed in by the provider that it takes.
func (w Who) mayHaveKubeconfig(c record.Cluster) bool {
	return c.People.Provider != "" && c.People.Provider == w.Provider
}

// Kubeconfig is a kubeconfig of a cluster for whoever asks: it holds where the cluster is, and a command that signs them in by their provider. Nothing in
// it is Vigila's, and nothing secret. Errors are a *Fault.
func (k *Keeper) Kubeconfig(ctx context.Context, w Who, name string) (string, error) {
	page, err := k.ClusterPage(ctx, w, name)
	if err != nil {
		return "", err
	}
	k.mu.RLock()
	c := k.clusters[name]
	k.mu.RUnlock()
	rec := c.record()
	p, known := k.providerNamed(rec.People.Provider)
	switch {
	case rec.People.Provider == "" || !known:
		return "", fault(Conflict, "nobody has said that the API server of cluster %s takes people of a provider: vigila cluster sign-in %s --provider NAME --client ID", name, name)
	case !w.mayHaveKubeconfig(rec):
		return "", fault(Denied, "the API server of cluster %s takes people of provider %s, and %s has not signed in by it", page.Name, rec.People.Provider, w.Name)
	case c.conn == nil:
		return "", fault(Unreachable, "cluster %s is not connected", name)
	}
	server, ca, err := c.conn.Public()
	if err != nil {
		return "", err
	}
	args := []string{"credential", "--issuer", p.Issuer, "--client", rec.People.Client}
	if p.CA != "" {
		args = append(args, "--ca-data", base64.StdEncoding.EncodeToString([]byte(p.CA)))
	}
	user := p.Name + "-" + name
	at := map[string]any{"server": server}
	if len(ca) > 0 {
		at["certificate-authority-data"] = base64.StdEncoding.EncodeToString(ca)
	}
	text, err := yaml.Marshal(map[string]any{"apiVersion": "v1", "kind": "Config", "current-context": name,
		"clusters": []any{map[string]any{"name": name, "cluster": at}},
		"contexts": []any{map[string]any{"name": name, "context": map[string]any{"cluster": name, "user": user}}},
		"users": []any{map[string]any{"name": user, "user": map[string]any{"exec": map[string]any{"apiVersion": "client.authentication.k8s.io/v1", "command": "vigila", "args": args, "interactiveMode": "IfAvailable",
			"provideClusterInfo": false, "installHint": "vigila is the command line of Vigila; vigila --help"}}}}})
	return string(text), errors.Join(err)
}
