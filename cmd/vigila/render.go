package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"

	"github.com/spf13/cobra"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/cli"
	"vigila.dev/vigila/internal/core/health"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/repo"
)

func renderCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "render PATH", Short: "Print the objects that a path declares; needs neither service nor cluster",
		Long: `Print the objects that a path declares, as Vigila reads them: every YAML and JSON file at or below it. Mistakes, those
in health rules too, are reported with file and line. It needs neither the service nor a cluster.`,
		Example: "  vigila render services/berth-planner/quay",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return &cli.Exit{Code: cli.ExitUsage, Text: "vigila render needs a path"}
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			files, err := readTree(args[0])
			if err != nil {
				return err
			}
			objects, err := render.Plain(files)
			_, mistakes := render.Rules(files)
			if err := errors.Join(err, mistakes); err != nil {
				return err
			}
			for _, o := range objects {
				b, err := yaml.Marshal(o.Body)
				if err != nil {
					return err
				}
				fmt.Fprintf(c.OutOrStdout(), "---\n# %s\n%s", o.At(), b)
			}
			if len(objects) == 0 {
				fmt.Fprintf(c.ErrOrStderr(), "%s declares no objects\n", args[0])
			}
			return nil
		},
	}
	return c
}

// readTree reads what a ward with this path would be given.
func readTree(root string) ([]repo.File, error) {
	var files []repo.File
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && d.Name() == ".git" {
			return filepath.SkipDir
		}
		if !d.Type().IsRegular() || path != root && !render.Wanted(d.Name()) {
			return nil
		}
		data, err := os.ReadFile(path)
		files = append(files, repo.File{Path: filepath.ToSlash(path), Data: data})
		return err
	})
	sort.Slice(files, func(i, j int) bool { return files[i].Path < files[j].Path })
	return files, err
}

// formats are the file formats of Vigila, by name.
var formats = map[string][]byte{"ward": ward.Schema, "health": health.Schema}

func schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema FORMAT", Short: "Print the JSON Schema of a file format, for editors",
		Long:    "Print the JSON Schema of a file format, so that editors complete and check it. The formats are ward (what is kept where)\nand health (your own health rule for a kind).",
		Example: "  vigila schema ward > ward.schema.json\n  vigila schema health > health.schema.json",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 || formats[args[0]] == nil {
				return &cli.Exit{Code: cli.ExitUsage, Text: "vigila schema knows two formats: vigila schema ward, vigila schema health"}
			}
			return nil
		},
		ValidArgs: []string{"ward", "health"},
		RunE: func(c *cobra.Command, args []string) error {
			_, err := c.OutOrStdout().Write(formats[args[0]])
			return err
		},
	}
}
