// Package edit changes a live object under a chosen field manager: what an engineer in a hurry does. Start with
// Set.
package edit

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/discovery"
	"k8s.io/client-go/discovery/cached/memory"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/restmapper"
)

// Set writes values at dotted paths of an object (deployment/berth-planner, spec.replicas=5) with a merge patch.
// A value is JSON when it parses as JSON, else a text; "null" removes the field. subresource is status, scale or empty.
func Set(ctx context.Context, cfg *rest.Config, namespace, object, manager, subresource string, values map[string]string) error {
	kind, name, ok := strings.Cut(object, "/")
	if !ok {
		return fmt.Errorf("%q is not KIND/NAME", object)
	}
	r, err := resource(cfg, namespace, kind)
	if err != nil {
		return err
	}
	patch := map[string]any{}
	for path, text := range values {
		var v any
		if err := json.Unmarshal([]byte(text), &v); err != nil {
			v = text
		}
		put(patch, strings.Split(path, "."), v)
	}
	body, err := json.Marshal(patch)
	if err != nil {
		return err
	}
	var sub []string
	if subresource != "" {
		sub = append(sub, subresource)
	}
	_, err = r.Patch(ctx, name, types.MergePatchType, body, metav1.PatchOptions{FieldManager: manager}, sub...)
	return err
}

// Delete removes an object.
func Delete(ctx context.Context, cfg *rest.Config, namespace, object string) error {
	kind, name, ok := strings.Cut(object, "/")
	if !ok {
		return fmt.Errorf("%q is not KIND/NAME", object)
	}
	r, err := resource(cfg, namespace, kind)
	if err != nil {
		return err
	}
	return r.Delete(ctx, name, metav1.DeleteOptions{})
}

func put(m map[string]any, path []string, v any) {
	if len(path) == 1 {
		m[path[0]] = v
		return
	}
	next, ok := m[path[0]].(map[string]any)
	if !ok {
		next = map[string]any{}
		m[path[0]] = next
	}
	put(next, path[1:], v)
}

func resource(cfg *rest.Config, namespace, kind string) (dynamic.ResourceInterface, error) {
	disco, err := discovery.NewDiscoveryClientForConfig(cfg)
	if err != nil {
		return nil, err
	}
	mapper := restmapper.NewShortcutExpander(restmapper.NewDeferredDiscoveryRESTMapper(memory.NewMemCacheClient(disco)), disco, nil)
	gvr, err := mapper.ResourceFor(schema.GroupVersionResource{Resource: strings.ToLower(kind)})
	if err != nil {
		return nil, fmt.Errorf("kind %s: %w", kind, err)
	}
	gvk, err := mapper.KindFor(gvr)
	if err != nil {
		return nil, err
	}
	m, err := mapper.RESTMapping(gvk.GroupKind(), gvk.Version)
	if err != nil {
		return nil, err
	}
	dyn, err := dynamic.NewForConfig(cfg)
	if err != nil {
		return nil, err
	}
	if m.Scope.Name() == meta.RESTScopeNameNamespace {
		return dyn.Resource(gvr).Namespace(namespace), nil
	}
	return dyn.Resource(gvr), nil
}
