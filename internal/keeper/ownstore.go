package keeper

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/record"
	"vigila.dev/vigila/internal/secrets"
)

// inACluster is a store of a cluster: the Secrets of a namespace of it, or a server that its lookout asks. Of a cluster that the service reaches they are
// read by it. What a lookout keeps or asks stays there: the service is told digests of the values, and the lookout itself fills in what its own wards
// refer to.
type inACluster struct {
	k    *Keeper
	conf record.ValueStore
}

// keptBy is the lookout that a store is read by; nil for one that the service reads.
func (k *Keeper) keptBy(c record.ValueStore) *away {
	if c.Cluster == "" {
		return nil
	}
	if l := k.clusterNamed(c.Cluster); l != nil {
		return l.away
	}
	return nil
}

func (s inACluster) at() (secrets.Store, error) {
	if a := s.k.keptBy(s.conf); a != nil {
		return atLookout{a, s.conf}, nil
	}
	if s.conf.Kind == record.KVStore {
		return nil, &secrets.Error{Text: fmt.Sprintf("store %s: its server is asked by the lookout of %s, and no lookout keeps that any more; give its address: vigila store add %s URL", s.conf.Name, s.conf.Cluster, s.conf.Name)}
	}
	return secrets.NewNamespace(s.conf.Name, s.conf.Namespace, inCluster{s.k, s.conf.Cluster}), nil
}

func (s inACluster) Version(ctx context.Context, path string) (string, error) {
	at, err := s.at()
	if err != nil {
		return "", err
	}
	return at.Version(ctx, path)
}

func (s inACluster) Read(ctx context.Context, path string) (secrets.Values, error) {
	at, err := s.at()
	if err != nil {
		return secrets.Values{}, err
	}
	return at.Read(ctx, path)
}

func (s inACluster) Set(ctx context.Context, path, key, value string) error {
	at, err := s.at()
	if err != nil {
		return err
	}
	return at.Set(ctx, path, key, value)
}

func (s inACluster) Try(ctx context.Context) error {
	at, err := s.at()
	if err != nil {
		return err
	}
	return at.Try(ctx)
}

// atLookout is a store that a lookout reads: Secrets of its own cluster, or a server that it has been given what signs in to.
type atLookout struct {
	a    *away
	conf record.ValueStore
}

func (s atLookout) ask(ctx context.Context, q askSecret) (out toldSecret, err error) {
	q.Store, q.Namespace = s.conf.Name, s.conf.Namespace
	if err := s.a.call(ctx, "secret", q, &out); err != nil {
		var f *Fault
		return out, &secrets.Error{Text: fmt.Sprintf("store %s: %v", s.conf.Name, err), Away: errors.As(err, &f) && f.Kind == Unreachable}
	}
	switch {
	case out.None:
		return out, secrets.ErrNone
	case out.Failed != "":
		return out, &secrets.Error{Text: out.Failed, Away: out.Away}
	}
	return out, nil
}

func (s atLookout) Version(ctx context.Context, path string) (string, error) {
	out, err := s.ask(ctx, askSecret{Name: path, Version: true})
	return out.Version, err
}

func (s atLookout) Read(ctx context.Context, path string) (secrets.Values, error) {
	out, err := s.ask(ctx, askSecret{Name: path})
	return secrets.Values{Version: out.Version, Keys: out.Digests, Digests: true}, err
}

func (s atLookout) Set(ctx context.Context, path, key, value string) error {
	_, err := s.ask(ctx, askSecret{Name: path, Key: key, Value: value})
	if errors.Is(err, secrets.ErrNone) {
		return nil
	}
	return err
}

func (s atLookout) Try(ctx context.Context) error {
	if _, err := s.ask(ctx, askSecret{}); !errors.Is(err, secrets.ErrNone) {
		return err
	}
	return nil
}

// ---- at the lookout

// secretsOf is a store that the lookout reads: the Secrets of a namespace of its own cluster, or a server that it was given where there is no namespace. Its
// limits hold for what is read as for what is written.
func (u *uplink) secretsOf(store, namespace string) (secrets.Store, error) {
	if namespace == "" {
		if u.of.Stores == nil {
			return nil, &secrets.Error{Text: fmt.Sprintf("store %s: the lookout of %s was given no stores; say in a file where it is, and give that to the lookout with --stores", store, u.own().conf.Name)}
		}
		return u.of.Stores(store)
	}
	if ns := u.limits.Namespaces; len(ns) > 0 && !slices.Contains(ns, namespace) {
		return nil, &secrets.Error{Text: fmt.Sprintf("store %s: the lookout's own limits let it into %s, not into %s", store, strings.Join(ns, ", "), namespace)}
	}
	return secrets.NewNamespace(store, namespace, inCluster{u.k, u.own().conf.Name}), nil
}

// secret answers what the service asks of a place: its version, digests of its values, or that one is set. No value of it is in an answer.
func (u *uplink) secret(ctx context.Context, q askSecret) (out toldSecret) {
	ctx, cancel := context.WithTimeout(ctx, storeTimeout)
	defer cancel()
	s, err := u.secretsOf(q.Store, q.Namespace)
	switch {
	case err != nil:
	case q.Name == "":
		if err = s.Try(ctx); err == nil {
			err = secrets.ErrNone
		}
	case q.Key != "":
		if err = s.Set(ctx, q.Name, q.Key, q.Value); err == nil {
			err = secrets.ErrNone
		}
	case q.Version:
		out.Version, err = s.Version(ctx, q.Name)
	default:
		var v secrets.Values
		v, err = s.Read(ctx, q.Name)
		out.Version, out.Digests = v.Version, map[string]string{}
		for key, value := range v.Keys {
			out.Digests[key] = u.k.mask(value)
		}
	}
	var why *secrets.Error
	switch {
	case errors.Is(err, secrets.ErrNone):
		return toldSecret{None: true}
	case err != nil:
		return toldSecret{Failed: err.Error(), Away: errors.As(err, &why) && why.Away}
	}
	return out
}

// ownValues reads the values of a place of a store that the lookout reads.
func (u *uplink) ownValues(ctx context.Context, at secret.Place, namespace string) (map[string]string, error) {
	s, err := u.secretsOf(at.Store, namespace)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, storeTimeout)
	defer cancel()
	v, err := s.Read(ctx, at.Path)
	return v.Keys, err
}
