package main

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/cli"
	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/core/secret"
	"vigila.dev/vigila/internal/visible"
)

// liftedFile is a file whose values move into a store.
type liftedFile struct {
	path string
	mode fs.FileMode
	was  []byte
	now  []byte
	of   []secret.Lifted
}

// liftCommand moves the values of a work tree's Secrets into a store.
func liftCommand() *cobra.Command {
	var to string
	var preview, over bool
	c := &cobra.Command{
		Use: "lift PATH --to STORE/PATH", Short: "Move the values of a work tree's Secrets into a store, and write references in their place",
		Long: `Move the values that the Secrets of a file, or of the files below a directory, hold into a store, each at PATH/NAME#KEY of it, and write
references in their place; comments and layout stay. Values are set first: a file is written only once all of its values are in the
store. One that has another value there already is not set, unless --over says so. Commit the files then, and see to it that the values
change: git's history still has them.

Files that are no YAML as they are, such as the templates of a chart, are passed over and told; write references into their values.`,
		Example:     "  vigila secret lift services/fare-gate --to harbour/quay --preview\n  vigila secret lift services/fare-gate --to harbour/quay",
		Annotations: map[string]string{cli.Below: "secret"},
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 || to == "" {
				return &cli.Exit{Code: cli.ExitUsage, Text: "vigila secret lift needs a path, and --to STORE/PATH"}
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			at, err := secret.ParsePlace(to)
			if err != nil {
				return &cli.Exit{Code: cli.ExitUsage, Text: err.Error()}
			}
			files, passed, err := liftable(args[0], at)
			if err != nil {
				return err
			}
			out := c.OutOrStdout()
			for _, p := range passed {
				fmt.Fprintf(out, "passed over: %s\n", visible.Line(p))
			}
			if len(files) == 0 {
				fmt.Fprintln(out, "No Secret there holds a value as it is.")
				return nil
			}
			if preview {
				for _, f := range files {
					for _, x := range f.of {
						fmt.Fprintf(out, "%s:%d  %s  to %s\n", visible.Line(f.path), x.Line, visible.Line(x.Name), x.Ref.Short())
					}
				}
				fmt.Fprintln(out, "A preview; nothing is set, and nothing written.")
				return nil
			}
			name, _ := c.Flags().GetString("context")
			conn, err := client.Dial(name)
			if err != nil {
				return err
			}
			for _, f := range files {
				for _, x := range f.of {
					r, err := conn.SetSecretWithResponse(c.Context(), client.SetSecret{Reference: x.Ref.Short(), Value: x.Value, OnlyNew: !over})
					if err := conn.Check(r, err); err != nil {
						return fmt.Errorf("%s:%d: %w; this file and those after it are as they were", f.path, x.Line, err)
					}
				}
				if err := f.write(); err != nil {
					return err
				}
				fmt.Fprintf(out, "%s: %d %s in %s\n", visible.Line(f.path), len(f.of), plural(len(f.of), "value"), at.Store)
			}
			fmt.Fprintln(out, "Commit the files. The values are in git's history still: set others with vigila secret set.")
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&to, "to", "", "where in which store: STORE/PATH; each Secret has its name below that")
	f.BoolVar(&preview, "preview", false, "say what would be moved, and do nothing")
	f.BoolVar(&over, "over", false, "also where the store has another value")
	return c
}

func plural(n int, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}

// liftable reads the files below a path whose Secrets hold values. Those that can't be read as YAML are told, one with a mistake ends it.
func liftable(path string, at secret.Place) (out []liftedFile, passed []string, err error) {
	var errs []error
	err = filepath.WalkDir(path, func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && d.Name() == ".git":
			return filepath.SkipDir
		case d.IsDir() || !d.Type().IsRegular() || !slices.Contains([]string{".yaml", ".yml", ".json"}, filepath.Ext(name)):
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		text, err := os.ReadFile(name)
		if err != nil || !bytes.Contains(text, []byte("Secret")) {
			return err
		}
		now, of, err := secret.Lift(name, text, func(of, key string) (secret.Ref, error) {
			return secret.Parse(secret.Place{Store: at.Store, Path: at.Path + "/" + of}.Of(key).Short())
		})
		switch {
		case err != nil && strings.Contains(string(text), "{{"):
			passed = append(passed, name+": it is a template; write references into its values")
		case err != nil:
			errs = append(errs, err)
		case len(of) > 0:
			out = append(out, liftedFile{name, info.Mode().Perm(), text, now, of})
		}
		return nil
	})
	return out, passed, errors.Join(append(errs, err)...)
}

// write writes the file, unless somebody else has meanwhile.
func (f liftedFile) write() error {
	now, err := os.ReadFile(f.path)
	if err != nil {
		return err
	}
	if !bytes.Equal(now, f.was) {
		return fmt.Errorf("%s was changed meanwhile; its values are in the store, and it is left as it is: run it again", f.path)
	}
	tmp := f.path + ".vigila-new"
	if err := os.WriteFile(tmp, f.now, f.mode); err != nil {
		return err
	}
	return os.Rename(tmp, f.path)
}
