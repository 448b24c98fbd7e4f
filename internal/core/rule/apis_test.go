package rule

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"k8s.io/client-go/kubernetes/scheme"
)

// lifecycle is what generated types of k8s.io/api say of themselves.
type lifecycle interface {
	APILifecycleRemoved() (major, minor int)
}

type deprecated interface {
	APILifecycleDeprecated() (major, minor int)
}

// TestRemovedAPIs: the tables of our rules are those of Kubernetes' own types.
func TestRemovedAPIs(t *testing.T) {
	var rows []string
	for gvk, typ := range scheme.Scheme.AllKnownTypes() {
		x := reflect.New(typ).Interface()
		l, ok := x.(lifecycle)
		if !ok || strings.HasSuffix(gvk.Kind, "List") || gvk.Version == "__internal" {
			continue
		}
		major, removed := l.APILifecycleRemoved()
		since := 0
		if d, ok := x.(deprecated); ok {
			_, since = d.APILifecycleDeprecated()
		}
		if major != 1 || removed == 0 {
			continue
		}
		rows = append(rows, fmt.Sprintf("'%s %s': [%d, %d]", gvk.GroupVersion(), gvk.Kind, cmp.Or(since, removed), removed))
	}
	slices.Sort(rows)
	table := "      {" + strings.Join(rows, ",\n       ") + "}\n"
	for _, name := range []string{"api-removed.yaml", "api-leaving.yaml"} {
		assert.Contains(t, string(OurFiles()[name]), table, "%s: write the table anew:\n%s", name, table)
	}
}
