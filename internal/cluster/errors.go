package cluster

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"

	"vigila.dev/vigila/internal/core/object"
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

// ours are refusals that say nothing of an object but its name: rights, quotas, and a namespace that is not there.
var ours = regexp.MustCompile(`^(secrets|serviceaccounts)? ?"[^"]*" is forbidden: (User "[^"]*" cannot [a-z]+ resource "[^"]*" in API group "[^"]*"( in the namespace "[^"]*")?$|exceeded quota: |unable to create new content in namespace )|^namespaces "[^"]*" not found$`)

// denied is how an admission webhook or policy begins a refusal: its name, before what it has to say.
var denied = regexp.MustCompile(`^admission webhook "[^"]*" denied the request|^[A-Za-z0-9.-]+ "[^"]*" is forbidden: ValidatingAdmissionPolicy '[^']*' with binding '[^']*' denied request`)

// spared is a refusal of a Secret without what the API server quotes in it: values are among that. What is left are the
// fields, the kind of mistake, and who refused.
func spared(ref object.Ref, err error) error {
	var status apierrors.APIStatus
	if err == nil || !ref.Secret() || !errors.As(err, &status) {
		return err
	}
	s := status.Status()
	if ours.MatchString(s.Message) {
		return err
	}
	text := fmt.Sprintf("Secret %q is refused (%s, %d)", ref.Name, cmp.Or(string(s.Reason), "no reason given"), s.Code)
	if by := denied.FindString(s.Message); by != "" {
		text = by
	}
	if s.Details != nil {
		d := *s.Details
		d.Causes = slices.Clone(d.Causes)
		for i, c := range d.Causes {
			d.Causes[i].Message = string(c.Type)
			for _, word := range unchangeable {
				if strings.Contains(c.Message, word) {
					d.Causes[i].Message = "field is " + word
				}
			}
			text += fmt.Sprintf("; %s: %s", c.Field, d.Causes[i].Message)
		}
		s.Details = &d
	}
	s.Message = text + "; its values are not shown, so the API server's own words are left out"
	return &apierrors.StatusError{ErrStatus: s}
}
