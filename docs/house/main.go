// Command house draws which package imports which into docs/architecture.md, between its two marks: go run ./docs/house.
package main

import (
	"fmt"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

const (
	module = "vigila.dev/vigila/"
	begin  = "<!-- drawn by go run ./docs/house -->\n"
	end    = "<!-- until here -->\n"
	page   = "docs/architecture.md"
)

func main() {
	if err := draw(page); err != nil {
		fmt.Fprintln(os.Stderr, "house:", err)
		os.Exit(1)
	}
}

func draw(file string) error {
	all, err := read("internal", "cmd/vigila")
	if err != nil {
		return err
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	before, rest, ok := strings.Cut(string(b), begin)
	_, after, whole := strings.Cut(rest, end)
	if !ok || !whole {
		return fmt.Errorf("%s has not the lines %q and %q", file, strings.TrimSpace(begin), strings.TrimSpace(end))
	}
	return os.WriteFile(file, []byte(before+begin+graph(all)+end+after), 0o644)
}

// imports are the packages, to those of ours that each imports.
type imports map[string]map[string]bool

func read(roots ...string) (imports, error) {
	out := imports{}
	for _, root := range roots {
		err := filepath.WalkDir(root, func(file string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || filepath.Ext(file) != ".go" || strings.HasSuffix(file, "_test.go") {
				return err
			}
			parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
			if err != nil {
				return err
			}
			dir := filepath.ToSlash(filepath.Dir(file))
			if out[dir] == nil {
				out[dir] = map[string]bool{}
			}
			for _, i := range parsed.Imports {
				name, err := strconv.Unquote(i.Path.Value)
				if err != nil {
					return err
				}
				if ours, ok := strings.CutPrefix(name, module); ok && strings.HasPrefix(ours, "internal/") {
					out[dir][ours] = true
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// reaches tells whether one package imports another by way of a third.
func (all imports) reaches(from, to string) bool {
	for next := range all[from] {
		if next != to && (all[next][to] || all.reaches(next, to)) {
			return true
		}
	}
	return false
}

// graph is a Mermaid flowchart; an import that follows from others is left out.
func graph(all imports) string {
	var out strings.Builder
	out.WriteString("```mermaid\nflowchart TD\n")
	names := slices.Sorted(maps.Keys(all))
	for _, group := range []struct{ title, prefix string }{{"core: no IO, no clock", "internal/core/"}, {"", ""}} {
		indent := "  "
		if group.title != "" {
			fmt.Fprintf(&out, "  subgraph core [%q]\n", group.title)
			indent = "    "
		}
		for _, n := range names {
			if strings.HasPrefix(n, "internal/core/") == (group.prefix != "") {
				fmt.Fprintf(&out, "%s%s\n", indent, path.Base(n))
			}
		}
		if group.title != "" {
			out.WriteString("  end\n")
		}
	}
	for _, from := range names {
		for _, to := range slices.Sorted(maps.Keys(all[from])) {
			if !all.reaches(from, to) {
				fmt.Fprintf(&out, "  %s --> %s\n", path.Base(from), path.Base(to))
			}
		}
	}
	out.WriteString("```\n")
	return out.String()
}
