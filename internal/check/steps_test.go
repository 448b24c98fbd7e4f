package check

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/repo"
)

// TestRepositoriesOfBefore: what was written for earlier versions, with every format as it was then, is read as it was meant.
func TestRepositoriesOfBefore(t *testing.T) {
	files, err := filepath.Glob("testdata/steps/*.tar.gz")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 6)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			t.Parallel()
			root := t.TempDir()
			unpack(t, file, root)
			r, err := Dir(t.Context(), repo.Folder{Root: root}, "", Options{})
			require.NoError(t, err)
			var out bytes.Buffer
			r.Text(&out)
			assert.Zero(t, r.Errors(false), out.String())
			assert.GreaterOrEqual(t, r.Wards, 7)
			assert.GreaterOrEqual(t, r.Objects, 40)
		})
	}
}

func unpack(t *testing.T, file, root string) {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	for in := tar.NewReader(z); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
		at := filepath.Join(root, filepath.FromSlash(h.Name))
		if h.Typeflag == tar.TypeDir {
			require.NoError(t, os.MkdirAll(at, 0o700))
			continue
		}
		data, err := io.ReadAll(in)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(at, data, 0o600))
	}
}
