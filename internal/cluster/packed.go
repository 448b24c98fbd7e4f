package cluster

import (
	"encoding/json"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"
	utiljson "k8s.io/apimachinery/pkg/util/json"
)

// packed is an object of a list that is being read, as its JSON: decoded it takes ten times the memory, and all of a list is held
// until its last object has come.
type packed struct {
	metav1.ObjectMeta // its name and namespace, by which a list keeps objects apart
	text              []byte
}

// pack makes an object small. What can't be packed stays as it is.
func pack(obj any) (any, error) {
	o, ok := obj.(*unstructured.Unstructured)
	if !ok {
		return obj, nil
	}
	text, err := json.Marshal(o.Object)
	if err != nil {
		return obj, nil
	}
	return &packed{metav1.ObjectMeta{Namespace: o.GetNamespace(), Name: o.GetName()}, text}, nil
}

// unpack is the object that was packed: whole numbers are whole again.
func unpack(obj any) (*unstructured.Unstructured, error) {
	p, ok := obj.(*packed)
	if !ok {
		return obj.(*unstructured.Unstructured), nil
	}
	out := &unstructured.Unstructured{}
	err := utiljson.Unmarshal(p.text, &out.Object)
	return out, err
}
