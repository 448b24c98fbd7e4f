// Package internal holds a test of the shape of the code: imports point downwards.
package internal

import (
	"go/ast"
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

// may lists each package, and what of ours it may import: a name that ends in / is everything below it. A package that is not
// listed has no place yet, and is refused.
var may = map[string][]string{
	"internal/core/object":   {},
	"internal/core/health":   {"internal/core/object"},
	"internal/core/compare":  {"internal/core/health", "internal/core/object", "internal/core/secret"},
	"internal/core/plan":     {"internal/core/compare", "internal/core/object", "internal/core/secret"},
	"internal/core/secret":   {"internal/core/object"},
	"internal/core/nearest":  {},
	"internal/core/glob":     {},
	"internal/core/rule":     {"internal/core/document", "internal/core/nearest", "internal/core/object", "internal/core/secret"},
	"internal/core/ward":     {"internal/core/glob", "internal/core/judge", "internal/core/nearest", "internal/core/object"},
	"internal/core/audit":    {},
	"internal/core/grant":    {"internal/core/document", "internal/core/nearest", "internal/core/object"},
	"internal/core/logbook":  {"internal/core/object"},
	"internal/core/follow":   {"internal/core/document", "internal/core/object"},
	"internal/core/versions": {"internal/core/nearest", "internal/core/object"},
	"internal/core/judge":    {},
	"internal/core/express":  {"internal/core/nearest", "internal/core/object"},
	"internal/core/schema":   {"internal/core/nearest"},
	"internal/core/kit":      {"internal/core/document", "internal/core/express", "internal/core/nearest", "internal/core/object", "internal/core/schema"},
	"internal/core/proposal": {},
	"internal/core/document": {"internal/core/nearest", "internal/core/object"},
	"internal/core/alert":    {"internal/core/document", "internal/core/nearest", "internal/core/object"},
	"internal/core/lane":     {"internal/core/document", "internal/core/glob", "internal/core/nearest", "internal/core/object"},
	"internal/core/canary":   {"internal/core/health", "internal/core/judge", "internal/core/nearest", "internal/core/object", "internal/core/ward"},
	"internal/core/run":      {"internal/core/canary", "internal/core/health", "internal/core/logbook", "internal/core/object", "internal/core/plan", "internal/core/ward"},

	"internal/core/declared": {"internal/core/compare", "internal/core/health", "internal/core/index", "internal/core/logbook", "internal/core/object", "internal/core/plan", "internal/core/rule", "internal/core/secret", "internal/core/ward"},
	"internal/core/index":    {"internal/core/compare", "internal/core/health", "internal/core/object", "internal/core/ward"},
	"internal/core/roster":   {"internal/core/alert", "internal/core/compare", "internal/core/declared", "internal/core/follow", "internal/core/grant", "internal/core/health", "internal/core/kit", "internal/core/lane", "internal/core/logbook", "internal/core/nearest", "internal/core/object", "internal/core/rule", "internal/core/standing", "internal/core/ward"},
	"internal/core/standing": {"internal/core/alert", "internal/core/canary", "internal/core/compare", "internal/core/health", "internal/core/logbook", "internal/core/object", "internal/core/plan", "internal/core/rule", "internal/core/run", "internal/core/ward"},

	"internal/repo":           {"internal/bounded", "internal/core/proposal"},
	"internal/charts":         {"internal/bounded", "internal/registry"},
	"internal/registry":       {"internal/core/follow", "internal/loopback"},
	"internal/host":           {"internal/bounded", "internal/loopback"},
	"internal/render":         {"internal/core/", "internal/repo"},
	"internal/cluster":        {"internal/bounded", "internal/core/", "internal/loopback"},
	"internal/record":         {"internal/core/"},
	"internal/secrets":        {"internal/bounded", "internal/core/object", "internal/loopback"},
	"internal/signin":         {"internal/bounded", "internal/core/grant", "internal/loopback"},
	"internal/notify":         {"internal/bounded", "internal/core/alert", "internal/loopback", "internal/visible"},
	"internal/metrics":        {"internal/bounded", "internal/core/judge", "internal/core/ward"},
	"internal/keeper":         {"internal/keeper/", "internal/core/", "internal/repo", "internal/render", "internal/charts", "internal/cluster", "internal/record", "internal/loopback", "internal/metrics", "internal/registry", "internal/host", "internal/secrets", "internal/notify", "internal/signin", "internal/link"},
	"internal/keeper/drive":   {"internal/core/", "internal/cluster", "internal/record"},
	"internal/keeper/loop":    {"internal/core/", "internal/keeper/drive", "internal/record"},
	"internal/keeper/reading": {"internal/core/", "internal/cluster", "internal/keeper/sources", "internal/record", "internal/render", "internal/repo"},
	"internal/keeper/sources": {"internal/core/logbook", "internal/core/standing", "internal/charts", "internal/record", "internal/repo"},

	"internal/backup":   {"internal/record"},
	"internal/link":     {"internal/bounded"},
	"internal/standby":  {"internal/link", "internal/record"},
	"internal/lookout":  {"internal/core/roster", "internal/core/ward", "internal/secrets", "internal/keeper", "internal/link", "internal/record"},
	"internal/check":    {"internal/core/", "internal/repo", "internal/render", "internal/visible"},
	"internal/server":   {"internal/core/", "internal/cluster", "internal/keeper", "internal/link", "internal/record", "internal/standby"},
	"internal/client":   {"internal/loopback"},
	"internal/cli":      {"internal/client", "internal/observe", "internal/core/grant", "internal/core/nearest", "internal/visible", "internal/loopback"},
	"internal/visible":  {},
	"internal/bounded":  {},
	"internal/loopback": {},
	"internal/observe":  {},
}

// pure is what the core must not touch: IO, the network, storage, Kubernetes clients.
var pure = []string{"os", "net", "net/http", "io", "context", "log", "log/slog", "database/sql", "os/exec", "sync"}

// loop is what one ward does because of what happens to it: it does nothing itself, but for telling a log.
const loop = "internal/keeper/loop"

// clocks are the functions of package time that ask what time it is, or wait; the core is told.
var clocks = []string{"Now", "Since", "Until", "After", "AfterFunc", "Sleep", "Tick", "NewTimer", "NewTicker"}

func TestImportsPointDownwards(t *testing.T) {
	seen := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		dir := "internal/" + filepath.ToSlash(filepath.Dir(path))
		allowed, listed := may[dir]
		assert.True(t, listed, "%s has no place in the house: list it, and what it may import", dir)
		seen[dir] = true
		core := strings.HasPrefix(dir, "internal/core/") || dir == loop
		for _, i := range file.Imports {
			name := strings.Trim(i.Path.Value, `"`)
			if ours, ok := strings.CutPrefix(name, module); ok {
				fits := func(a string) bool { return ours == a || strings.HasSuffix(a, "/") && strings.HasPrefix(ours, a) }
				assert.True(t, slices.ContainsFunc(allowed, fits), "%s imports %s, which lies above it", path, ours)
			}
			if core {
				assert.False(t, slices.Contains(pure, name) && !(dir == loop && name == "log/slog"), "%s imports %s, and does no IO", path, name)
				assert.NotContains(t, name, "client-go", path)
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if x, ok := n.(*ast.SelectorExpr); core && ok {
				if of, ok := x.X.(*ast.Ident); ok && of.Name == "time" {
					assert.NotContains(t, clocks, x.Sel.Name, "%s is told the time", path)
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	for dir := range may {
		assert.True(t, seen[dir], "%s is listed, and not there", dir)
	}
}

// TestTheKeeperStaysInRooms: no type of it has more than 15 fields, no function more than 80 lines.
func TestTheKeeperStaysInRooms(t *testing.T) {
	files, err := filepath.Glob("keeper/*.go")
	require.NoError(t, err)
	rooms, err := filepath.Glob("keeper/*/*.go")
	require.NoError(t, err)
	files = append(files, rooms...)
	require.NotEmpty(t, rooms)
	set := token.NewFileSet()
	for _, path := range files {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.FuncDecl:
				lines := set.Position(n.End()).Line - set.Position(n.Pos()).Line + 1
				assert.LessOrEqual(t, lines, 80, "%s: %s has %d lines", path, n.Name.Name, lines)
			case *ast.TypeSpec:
				if of, ok := n.Type.(*ast.StructType); ok {
					fields := 0
					for _, f := range of.Fields.List {
						fields += max(1, len(f.Names))
					}
					assert.LessOrEqual(t, fields, 15, "%s: %s has %d fields", path, n.Name.Name, fields)
				}
			}
			return true
		})
	}
}
