// Package internal holds a test of the shape of the code: imports point downwards.
package internal

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "vigila.dev/vigila/"

// may lists, for each package or tree of packages, what of ours it may import.
var may = map[string][]string{
	"internal/core":    {"internal/core"},
	"internal/repo":    {},
	"internal/charts":  {},
	"internal/render":  {"internal/core", "internal/repo"},
	"internal/cluster": {"internal/core"},
	"internal/record":  {"internal/core"},
	"internal/keeper":  {"internal/core", "internal/repo", "internal/render", "internal/charts", "internal/cluster", "internal/record"},
	"internal/check":   {"internal/core", "internal/repo", "internal/render"},
	"internal/server":  {"internal/core", "internal/cluster", "internal/keeper", "internal/record"},
	"internal/client":  {},
	"internal/cli":     {"internal/client"},
	"console":          {},
}

// pure is what the core must not touch: IO, clocks, the network, storage, Kubernetes clients.
var pure = []string{"os", "net", "net/http", "io", "context", "log", "log/slog", "database/sql", "os/exec", "sync"}

func TestImportsPointDownwards(t *testing.T) {
	checked := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && slices.Contains([]string{"node_modules", "lab", ".git", ".demo", "bin"}, d.Name()) {
			return filepath.SkipDir
		}
		if filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		dir := filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), "../"))
		for tree, allowed := range may {
			if dir != tree && !strings.HasPrefix(dir, tree+"/") {
				continue
			}
			checked++
			for _, i := range file.Imports {
				name := strings.Trim(i.Path.Value, `"`)
				if ours, ok := strings.CutPrefix(name, module); ok {
					assert.True(t, slices.ContainsFunc(allowed, func(a string) bool { return ours == a || strings.HasPrefix(ours, a+"/") }),
						"%s imports %s, which lies above it", path, ours)
				}
				if tree == "internal/core" {
					assert.NotContains(t, pure, name, "%s is of the core, which does no IO", path)
					assert.NotContains(t, name, "client-go", path)
				}
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, checked, 25, "the test looks at the code")
}
