package keeper

import (
	"context"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"vigila.dev/vigila/internal/cluster"
)

func TestANamespaceIsReadOnceForAllWhoWait(t *testing.T) {
	var mu sync.Mutex
	reads := map[string]int{}
	b := newBelow(func(_ context.Context, namespace string) (cluster.Children, error) {
		mu.Lock()
		defer mu.Unlock()
		reads[namespace]++
		return cluster.Children{namespace: nil}, nil
	})
	var told sync.WaitGroup
	for i := range 1000 {
		namespace := []string{"harbour", "quay"}[i%2]
		told.Add(1)
		b.want(context.Background(), namespace, 0, func(c cluster.Children, err error) {
			assert.NoError(t, err)
			assert.Contains(t, c, namespace)
			told.Done()
		})
	}
	told.Wait()
	mu.Lock()
	defer mu.Unlock()
	assert.Less(t, reads["harbour"]+reads["quay"], 20, "a thousand workloads are not a thousand lists")
	assert.Positive(t, reads["quay"])
}
