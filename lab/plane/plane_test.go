package plane

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	certutil "k8s.io/client-go/util/cert"
)

// TestACertificateIsReadWhole: the API server makes the file before it fills it. One that was read in between made a kubeconfig that
// trusts nobody, and the lab never came up.
func TestACertificateIsReadWhole(t *testing.T) {
	whole, _, err := certutil.GenerateSelfSignedCertKey("127.0.0.1", nil, nil)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "apiserver.crt")
	_, err = certificate(file)
	assert.ErrorIs(t, err, os.ErrNotExist)
	for _, part := range []int{0, 10, len(whole) / 2, len(whole) - 10} {
		require.NoError(t, os.WriteFile(file, whole[:part], 0o600))
		_, err = certificate(file)
		assert.ErrorContains(t, err, "is not written yet", "%d of %d bytes", part, len(whole))
	}
	require.NoError(t, os.WriteFile(file, whole, 0o600))
	b, err := certificate(file)
	require.NoError(t, err)
	assert.Equal(t, whole, b)
}

func TestPortsAreNotThoseOfConnections(t *testing.T) {
	one, err := FreePort(0)
	require.NoError(t, err)
	assert.True(t, one >= lowestPort && one < highestPort, one)
	again, err := FreePort(one)
	require.NoError(t, err)
	assert.Equal(t, one, again, "the same as before, where it is free")
	seen := map[int]bool{one: true}
	for range 500 {
		port, err := FreePort(0)
		require.NoError(t, err)
		assert.False(t, seen[port], "%d is given twice, before anybody could listen on it", port)
		seen[port] = true
	}
}
