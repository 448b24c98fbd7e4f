package repo

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestMovedReadsWhatACommitTouches(t *testing.T) {
	dir, m := origin(t)
	first := commit(t, dir, "First", map[string]string{"a/one.yaml": "1", "a/deep/er/two.yaml": "2", "b/three.yaml": "3", "top.yaml": "4"})
	require.NoError(t, os.Remove(filepath.Join(dir, "b/three.yaml")))
	second := commit(t, dir, "Second", map[string]string{"a/deep/er/two.yaml": "2!", "c/d/new.yaml": "5"})
	require.NoError(t, m.Fetch(t.Context()))
	moved, err := m.Moved(first, second)
	require.NoError(t, err)
	for path, want := range map[string]bool{"": true, "a": true, "a/deep": true, "a/deep/er": true, "a/deep/er/two.yaml": true, "a/one.yaml": false, "a/deeper": false,
		"b": true, "b/three.yaml": true, "c": true, "c/d": true, "c/d/new.yaml": true, "top.yaml": false, "nowhere": false, "cd": false} {
		assert.Equal(t, want, moved.Touches(path), path)
	}
	same, err := m.Moved(second, second)
	require.NoError(t, err)
	assert.False(t, same.Touches(""))
	for path, want := range map[string]string{"a": second, "a/one.yaml": first, "c/d": second, "": second} {
		rev, err := m.LastChange(t.Context(), Revision{ID: second}, path)
		require.NoError(t, err)
		assert.Equal(t, want, rev.ID, path)
	}
	_, err = m.Moved(first, "0000000")
	assert.Error(t, err)
}
