package secrets

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"

	"vigila.dev/vigila/internal/core/object"
)

// Cluster reads and changes Secrets of a Kubernetes cluster. What is not there is ErrNone, what is not answered an *Error that is Away.
type Cluster interface {
	Secret(ctx context.Context, namespace, name string) (body map[string]any, err error)
	// SetSecret sets one key of a Secret, whose body is was; nil when it is to be made.
	SetSecret(ctx context.Context, namespace, name, key, value string, was map[string]any) error
	Try(ctx context.Context, namespace string) error
}

// namespace is a store whose places are the Secrets of one namespace of a cluster.
type namespace struct {
	name, space string
	cluster     Cluster
}

// NewNamespace opens a store of the Secrets of a namespace: a path is the name of one.
func NewNamespace(name, space string, c Cluster) Store { return namespace{name, space, c} }

func (n namespace) Version(ctx context.Context, path string) (string, error) {
	v, err := n.Read(ctx, path)
	return v.Version, err
}

func (n namespace) Read(ctx context.Context, path string) (out Values, err error) {
	body, err := n.cluster.Secret(ctx, n.space, path)
	if err != nil {
		return out, err
	}
	meta, _ := body["metadata"].(map[string]any)
	out.Version, _ = meta["resourceVersion"].(string)
	out.Keys = map[string]string{}
	data, _ := body["data"].(map[string]any)
	for key, v := range data {
		encoded, _ := v.(string)
		b, err := base64.StdEncoding.DecodeString(encoded)
		if err != nil {
			return Values{}, refused("store %s: the value of %s#%s is not in base64", n.name, path, key)
		}
		out.Keys[key] = string(b)
	}
	return out, nil
}

func (n namespace) Set(ctx context.Context, path, key, value string) error {
	was, err := n.cluster.Secret(ctx, n.space, path)
	if err != nil && !errors.Is(err, ErrNone) {
		return err
	}
	if was != nil {
		if ward := object.Label(was, object.WardLabel); ward != "" {
			return refused("store %s: Secret %s/%s is kept by ward %s, so what is set there would be put back; keep values in Secrets that no ward declares", n.name, n.space, path, ward)
		}
	}
	return n.cluster.SetSecret(ctx, n.space, path, key, value, was)
}

func (n namespace) Try(ctx context.Context) error {
	if err := n.cluster.Try(ctx, n.space); err != nil {
		return fmt.Errorf("store %s: %w", n.name, err)
	}
	return nil
}
