package cluster

import (
	"errors"
	"strings"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
)

// Outside tells whether a call failed for a reason that says nothing about the object it carried: no answer, a cluster
// that is busy, no rights, a namespace that is not there or on its way out, a kind whose definition is somebody else's. The
// same may go well another time. What admission, quotas and validation refuse is the object's own.
// Source: https://kubernetes.io/docs/reference/using-api/api-concepts/ and the messages of k8s.io/apiserver.
func Outside(err error) bool {
	var status apierrors.APIStatus
	switch {
	case err == nil:
		return false
	case Transient(err), UnknownKind(err), NotServed(err), apierrors.IsUnauthorized(err):
		return true
	case !errors.As(err, &status):
		return false
	case apierrors.HasStatusCause(err, corev1.NamespaceTerminatingCause):
		return true
	case apierrors.IsForbidden(err): // "deployments.apps "x" is forbidden: User "y" cannot patch resource "deployments" …"
		return strings.Contains(err.Error(), " cannot ") && strings.Contains(err.Error(), " resource ")
	case apierrors.IsNotFound(err):
		d := status.Status().Details
		return d != nil && d.Kind == "namespaces"
	}
	return false
}
