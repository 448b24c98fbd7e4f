// Package slipway stands in for what makes clusters of Cluster API objects (https://cluster-api.sigs.k8s.io): it follows the Clusters of a
// management cluster, starts one more real API server of the lab for each, writes its kubeconfig into the Secret that the API names, and ends
// it again with its object. Start with Start.
package slipway

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sync"
	"time"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/util/json"
	"k8s.io/apimachinery/pkg/util/yaml"
	"k8s.io/client-go/dynamic"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/rest"
)

//go:embed clusters.yaml
var definitions []byte

const (
	group     = "cluster.x-k8s.io"
	owner     = "vigila-lab-slipway"
	finalizer = group + "/lab"
	// pause is between two looks; whoever waits for a cluster waits for seconds anyway.
	pause = 500 * time.Millisecond
)

var (
	clusters = schema.GroupVersionResource{Group: group, Version: "v1beta2", Resource: "clusters"}
	infra    = schema.GroupVersionResource{Group: "infrastructure." + group, Version: "v1", Resource: "labclusters"}
	crds     = schema.GroupVersionResource{Group: "apiextensions.k8s.io", Version: "v1", Resource: "customresourcedefinitions"}
)

// Plane starts and ends clusters.
type Plane interface {
	// Begin starts a cluster with so many nodes, and returns the path of its kubeconfig once it answers.
	Begin(ctx context.Context, name string, nodes int) (kubeconfig string, err error)
	// End ends a cluster that was begun.
	End(name string)
}

// Slipway follows the Clusters of a management cluster.
type Slipway struct {
	dyn    dynamic.Interface
	client kubernetes.Interface
	plane  Plane
	began  map[string]string // clusters that are up, to their kubeconfigs
	done   sync.WaitGroup
}

// Start defines the API's kinds in the management cluster, and follows them until the context ends.
func Start(ctx context.Context, cfg *rest.Config, plane Plane) (*Slipway, error) {
	dyn, err := dynamic.NewForConfig(cfg)
	if err != nil {
		return nil, err
	}
	client, err := kubernetes.NewForConfig(cfg)
	if err != nil {
		return nil, err
	}
	f := &Slipway{dyn: dyn, client: client, plane: plane, began: map[string]string{}}
	if err := f.define(ctx); err != nil {
		return nil, err
	}
	f.done.Go(func() { f.follow(ctx) })
	return f, nil
}

// Close waits until everything has ended after the context did.
func (f *Slipway) Close() { f.done.Wait() }

// define installs the kinds, unless they are there, and waits until they are served.
func (f *Slipway) define(ctx context.Context) error {
	for read := yaml.NewYAMLOrJSONDecoder(bytes.NewReader(definitions), 4096); ; {
		o := &unstructured.Unstructured{}
		if err := read.Decode(o); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return err
		}
		if _, err := f.dyn.Resource(crds).Create(ctx, o, metav1.CreateOptions{FieldManager: owner}); err != nil && !apierrors.IsAlreadyExists(err) {
			return fmt.Errorf("define %s: %w", o.GetName(), err)
		}
	}
	for _, r := range []schema.GroupVersionResource{clusters, infra} {
		for {
			_, err := f.dyn.Resource(r).List(ctx, metav1.ListOptions{Limit: 1})
			if err == nil {
				break
			}
			if !wait(ctx, 100*time.Millisecond) {
				return fmt.Errorf("%s is not served: %w", r.Resource, err)
			}
		}
	}
	return nil
}

func wait(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

func (f *Slipway) follow(ctx context.Context) {
	for wait(ctx, pause) {
		list, err := f.dyn.Resource(clusters).List(ctx, metav1.ListOptions{})
		if err != nil {
			continue // it is asked again
		}
		for i := range list.Items {
			if err := f.look(ctx, &list.Items[i]); err != nil && ctx.Err() == nil {
				fmt.Fprintf(os.Stderr, "slipway: cluster %s: %v\n", list.Items[i].GetName(), err)
			}
		}
	}
}

// look brings one Cluster further.
func (f *Slipway) look(ctx context.Context, o *unstructured.Unstructured) error {
	name, at := o.GetName(), f.dyn.Resource(clusters).Namespace(o.GetNamespace())
	if o.GetDeletionTimestamp() != nil {
		f.plane.End(name)
		delete(f.began, name)
		err := f.client.CoreV1().Secrets(o.GetNamespace()).Delete(ctx, name+"-kubeconfig", metav1.DeleteOptions{})
		if err != nil && !apierrors.IsNotFound(err) {
			return err
		}
		rest := slices.DeleteFunc(o.GetFinalizers(), func(x string) bool { return x == finalizer })
		_, err = at.Patch(ctx, name, types.MergePatchType, patch(map[string]any{"metadata": map[string]any{"finalizers": rest, "resourceVersion": o.GetResourceVersion()}}), metav1.PatchOptions{FieldManager: owner})
		if apierrors.IsNotFound(err) {
			err = nil
		}
		return err
	}
	if f.began[name] != "" {
		return nil
	}
	if !slices.Contains(o.GetFinalizers(), finalizer) {
		_, err := at.Patch(ctx, name, types.MergePatchType, patch(map[string]any{"metadata": map[string]any{"finalizers": append(o.GetFinalizers(), finalizer), "resourceVersion": o.GetResourceVersion()}}), metav1.PatchOptions{FieldManager: owner})
		return err // and go on with the next look
	}
	if err := f.say(ctx, o, "Provisioning", false); err != nil {
		return err
	}
	nodes := int64(1)
	if ref, found, _ := unstructured.NestedString(o.Object, "spec", "infrastructureRef", "name"); found {
		machines, err := f.dyn.Resource(infra).Namespace(o.GetNamespace()).Get(ctx, ref, metav1.GetOptions{})
		if apierrors.IsNotFound(err) {
			return nil // it comes with what declares both
		}
		if err != nil {
			return err
		}
		if n, found, _ := unstructured.NestedInt64(machines.Object, "spec", "nodes"); found {
			nodes = n
		}
	}
	kubeconfig, err := f.plane.Begin(ctx, name, int(nodes))
	if err != nil {
		return err
	}
	text, err := os.ReadFile(kubeconfig)
	if err != nil {
		return err
	}
	secret := &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: name + "-kubeconfig", Namespace: o.GetNamespace(), Labels: map[string]string{group + "/cluster-name": name},
		OwnerReferences: []metav1.OwnerReference{{APIVersion: o.GetAPIVersion(), Kind: o.GetKind(), Name: name, UID: o.GetUID()}}},
		Type: group + "/secret", Data: map[string][]byte{"value": text}}
	if _, err := f.client.CoreV1().Secrets(o.GetNamespace()).Create(ctx, secret, metav1.CreateOptions{FieldManager: owner}); err != nil && !apierrors.IsAlreadyExists(err) {
		return err
	}
	f.began[name] = kubeconfig
	return f.say(ctx, o, "Provisioned", true)
}

func patch(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // maps of texts alone
	}
	return b
}

// say writes how far a Cluster is into its status.
func (f *Slipway) say(ctx context.Context, o *unstructured.Unstructured, phase string, up bool) error {
	status, why := "False", "Provisioning"
	if up {
		status, why = "True", "Available"
	}
	_, err := f.dyn.Resource(clusters).Namespace(o.GetNamespace()).Patch(ctx, o.GetName(), types.MergePatchType, patch(map[string]any{"status": map[string]any{
		"phase": phase, "observedGeneration": o.GetGeneration(), "initialization": map[string]any{"infrastructureProvisioned": up, "controlPlaneInitialized": up},
		"conditions": []any{map[string]any{"type": "Available", "status": status, "reason": why, "message": "", "lastTransitionTime": time.Now().UTC().Format(time.RFC3339), "observedGeneration": o.GetGeneration()}},
	}}), metav1.PatchOptions{FieldManager: owner}, "status")
	return err
}
