package main

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vigila.dev/vigila/internal/cli"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/rule"
	"vigila.dev/vigila/internal/render"
	"vigila.dev/vigila/internal/visible"
)

// ruleTestCommand tries the cases that lie beside rules.
func ruleTestCommand() *cobra.Command {
	var ours bool
	c := &cobra.Command{
		Use: "test [PATH]", Short: "Try the cases that lie beside rules; needs neither service nor cluster",
		Long: `Try the cases that lie beside rules: files that begin with vigila: rule-cases/v1, and say of objects whether a rule lets them pass, and what it
is to say where it does not. vigila check does the same with the cases in rulebooks. With --ours the cases of the rules that Vigila brings
along are tried. It exits 1 when a case is not as it says.`,
		Example:     "  vigila rule test .vigila/rules\n  vigila rule test --ours",
		Annotations: map[string]string{cli.Below: "rule"},
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 || ours && len(args) > 0 {
				return &cli.Exit{Code: cli.ExitUsage, Text: "vigila rule test takes one path, or --ours"}
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			var files []rule.File
			if ours {
				for _, name := range slices.Sorted(maps.Keys(rule.OurFiles())) {
					files = append(files, rule.File{Path: name, Data: rule.OurFiles()[name]})
				}
			} else {
				at := "."
				if len(args) == 1 {
					at = args[0]
				}
				in, rel, err := tree(at, "")
				if err != nil {
					return err
				}
				all, err := in.Files(rel, render.Wanted)
				if err != nil {
					return err
				}
				for _, f := range all {
					files = append(files, rule.File(f))
				}
			}
			return tryCases(c, files)
		},
	}
	c.Flags().BoolVar(&ours, "ours", false, "those of the rules that Vigila brings along")
	return c
}

// tryCases tries every case among some files on the rules among them.
func tryCases(c *cobra.Command, files []rule.File) error {
	var rules []*rule.Rule
	var cases []rule.Case
	var errs []error
	for _, f := range files {
		switch {
		case rule.IsCases(f.Data):
			more, err := rule.ParseCases(f.Path, f.Data)
			cases, errs = append(cases, more...), append(errs, err)
		case object.FirstKey(f.Data, "vigila", "") || !strings.Contains(string(f.Data), "ValidatingAdmissionPolicy"):
		default:
			more, err := rule.Parse(f.Path, f.Data)
			rules, errs = append(rules, more...), append(errs, err)
		}
	}
	tried, err := rule.Test(rules, cases)
	errs = append(errs, err)
	out, failed := c.OutOrStdout(), 0
	with := map[string]bool{}
	for _, t := range tried {
		with[t.Rule] = true
		if t.Wrong != "" {
			failed++
			fmt.Fprintf(out, "▲ %s:%d: %s, %s: %s\n", visible.Line(t.File), t.Line, t.Rule, visible.Line(t.Name), visible.Text(t.Wrong))
		}
	}
	var without []string
	for _, r := range rules {
		if !with[r.Name] {
			without = append(without, r.Name)
		}
	}
	fmt.Fprintf(out, "%d of %d cases are as they say; rules with cases: %d\n", len(tried)-failed, len(tried), len(with))
	if len(without) > 0 {
		fmt.Fprintf(out, "Without a case: %s\n", strings.Join(without, ", "))
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	if failed > 0 {
		return &cli.Exit{Code: cli.ExitFailed}
	}
	return nil
}
