package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"

	"vigila.dev/vigila/internal/client"
	"vigila.dev/vigila/internal/visible"
)

func (a *app) kits() *cobra.Command {
	c := &cobra.Command{Use: "kit", Short: "Make a new service from a form, change it, and switch components on and off, all as proposals",
		Long: `A kit is a template with a form, declared in a roster (vigila schema kit). One that makes files, such as those of a new service, asks
for its parameters and proposes the files; they can be changed by the same form later. One that is switched is a component of a
cluster or an environment: on, off, with options, in one file in git that you may write as well (vigila schema components).
Nothing is kept before its proposal is merged, and what it would do to the clusters is shown first.`,
		Example: "  vigila kit list\n  vigila kit new web-service\n  vigila kit change services/tide-table --set replicas=3\n  vigila kit on metrics quay"}
	c.AddCommand(a.kitList(), a.kitShow(), a.kitNew(), a.kitChange(), a.kitMade(), a.kitRenew(), a.kitComponents(), a.kitTurn(true), a.kitTurn(false))
	return c
}

func (a *app) kitList() *cobra.Command {
	return list(a, listing[client.Kit]{
		command: &cobra.Command{Use: "list", Short: "List the kits that you may use", Example: "  vigila kit list\n  vigila kit list --search service"},
		none:    "No kit matches.",
		first:   "There are no kits. One is a directory with a kit.yaml in a roster; its format: vigila schema kit",
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Kit, int, error) {
			r, err := conn.ListKitsWithResponse(ctx, &client.ListKitsParams{Search: f.search, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Kit) {
			rows := [][]cell{{{"KIT", "soft"}, {"WHAT IT IS", "soft"}, {"FOR CLUSTERS", "soft"}, {"OWNER", "soft"}, {"ABOUT", "soft"}}}
			for _, k := range items {
				rows = append(rows, []cell{{k.Name, "bold"}, plain(pick(k.Switched, "component", "makes files")), plain(pick(len(k.Fits) == 0, "all", labels(k.Fits))), plain(orDash(k.Owner)), plain(visible.Line(k.About))})
			}
			p.table(rows)
			p.line("\n%s", p.paint("soft", "What one asks for: vigila kit show NAME     Use it: vigila kit new NAME, or vigila kit on NAME CLUSTER"))
		},
	})
}

func labels(m map[string]string) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(m)) {
		out = append(out, k+": "+m[k])
	}
	return strings.Join(out, ", ")
}

func (a *app) kitShow() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "show NAME", Short: "Show what a kit asks for, and where its files go", Example: "  vigila kit show web-service",
		Args: exactly(1, "the name of a kit"), ValidArgsFunction: a.first(kitNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			k, err := kitOf(c.Context(), conn, args[0])
			if err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), k); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			p.line("%s  %s", p.paint("bold", k.Name), visible.Line(k.About))
			where := fmt.Sprintf("makes files in %s, branch %s", k.Repo, k.Branch)
			if k.Switched {
				where = "a component, switched in roster " + k.Roster
				if len(k.Requires) > 0 {
					where += "; needs " + strings.Join(k.Requires, ", ")
				}
			}
			if len(k.Fits) > 0 {
				where += "; for clusters with " + labels(k.Fits)
			}
			if k.Things > 0 {
				where += "; has made " + count(k.Things, "thing")
			}
			p.line("%s", p.paint("soft", upper(where)+"  ("+k.DeclaredAt+")"))
			for _, s := range k.Sections {
				p.line("")
				if s.Title != "" {
					p.line("%s", p.paint("bold", s.Title))
				}
				for _, q := range questionsOf(k, s.OfParameters) {
					what := q.kind
					if q.required {
						what += ", needed"
					}
					p.line("  %-20s %s", q.name(), strings.TrimSuffix(visible.Line(q.title+". "+q.text), ". "))
					more := what
					if q.fallback != "" {
						more += "; " + q.fallback + " when left out"
					}
					if q.example != "" {
						more += "; for instance " + q.example
					}
					p.line("  %-20s %s", "", p.paint("soft", visible.Line(more)))
				}
			}
			use := "vigila kit new " + k.Name
			if k.Switched {
				use = "vigila kit on " + k.Name + " " + pick(len(k.Choices) > 0, strings.Join(k.Choices[:min(1, len(k.Choices))], ""), "CLUSTER")
			}
			p.line("\n%s", p.paint("soft", "Use it: "+use))
			return nil
		}),
	})
}

func kitOf(ctx context.Context, conn *client.Conn, name string) (*client.Kit, error) {
	r, err := conn.GetKitWithResponse(ctx, name)
	if err := conn.Check(r, err); err != nil {
		return nil, err
	}
	return r.JSON200, nil
}

// formOf is a kit with what its form asks for, once something is given.
func formOf(ctx context.Context, conn *client.Conn, k *client.Kit, given map[string]any) (*client.Kit, error) {
	if !k.Follows {
		return k, nil
	}
	r, err := conn.GetKitFormWithResponse(ctx, k.Name, client.KitWish{Given: given})
	if err := conn.Check(r, err); err != nil {
		return nil, err
	}
	return r.JSON200, nil
}

// question is what a form asks for one parameter.
type question struct {
	at                  []string
	title, text, kind   string
	fallback, example   string
	required            bool
	choices             []string
	truth, whole, plain bool // of a truth value, a number, a text
}

func (q question) name() string { return strings.Join(q.at, ".") }

// questionsOf are the questions for some parameters; those of a mapping one by one.
func questionsOf(k *client.Kit, names []string) []question {
	return asked(k, k.Parameters, names, nil)
}

func asked(k *client.Kit, schema map[string]any, names, at []string) (out []question) {
	props, _ := schema["properties"].(map[string]any)
	required, _ := schema["required"].([]any)
	if names == nil {
		names = slices.Sorted(maps.Keys(props))
	}
	for _, name := range names {
		p, _ := props[name].(map[string]any)
		here := append(slices.Clone(at), name)
		if _, inner := p["properties"].(map[string]any); inner {
			out = append(out, asked(k, p, nil, here)...)
			continue
		}
		text := func(key string) string { s, _ := p[key].(string); return s }
		q := question{at: here, title: text("title"), text: strings.TrimSpace(text("description")), kind: text("type"), required: slices.Contains(required, any(name))}
		if q.title == "" {
			q.title = name
		}
		if d, has := p["default"]; has {
			q.fallback = asText(d)
			if s, is := d.(string); is && strings.Contains(s, "${{") {
				q.fallback = "follows from others: " + s
			}
			q.required = false
		}
		if all, _ := p["examples"].([]any); len(all) > 0 {
			q.example = asText(all[0])
		}
		q.truth, q.whole, q.plain = q.kind == "boolean", q.kind == "integer" || q.kind == "number", q.kind == "string" || q.kind == ""
		q.kind = map[string]string{"boolean": "yes or no", "integer": "a whole number", "number": "a number", "string": "a text", "": "a value", "array": "a list", "object": "a mapping"}[q.kind]
		if all, _ := p["enum"].([]any); len(all) > 0 {
			for _, x := range all {
				q.choices = append(q.choices, asText(x))
			}
		}
		if text("format") == "cluster" {
			q.choices = k.Choices
		}
		if len(q.choices) > 0 {
			q.kind = "one of " + strings.Join(q.choices, ", ")
		}
		out = append(out, q)
	}
	return out
}

func asText(v any) string {
	if s, is := v.(string); is {
		return s
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}

// form is what is given to a kit by flags.
type form struct {
	set        []string
	file       string
	try        bool
	title, why string
}

func (f *form) flags(c *cobra.Command) {
	x := c.Flags()
	x.StringArrayVar(&f.set, "set", nil, "NAME=VALUE of a parameter; NAME.NAME for one within another; may be given again. NAME= takes it back to its default")
	x.StringVar(&f.file, "values", "", "a YAML file of parameters; - is standard input")
	x.BoolVar(&f.try, "try", false, "only show what would be made, and what it would do to the clusters")
	x.StringVar(&f.title, "title", "", "of the proposal")
	x.StringVar(&f.why, "why", "", "why; it stands in the commit")
}

// read lays what is given by flags over what there is.
func (f *form) read(c *cobra.Command, k *client.Kit, given map[string]any) error {
	if f.file != "" {
		data, err := readFile(f.file, c.InOrStdin())
		if err != nil {
			return err
		}
		over := map[string]any{}
		if err := yaml.Unmarshal(data, &over); err != nil {
			return usage("%s: %v", f.file, err)
		}
		maps.Copy(given, over)
	}
	all := map[string]question{}
	for _, s := range k.Sections {
		for _, q := range questionsOf(k, s.OfParameters) {
			all[q.name()] = q
		}
	}
	for _, x := range f.set {
		name, value, is := strings.Cut(x, "=")
		if !is || name == "" {
			return usage("--set is %q; write NAME=VALUE", x)
		}
		q, known := all[name]
		if !known {
			q = question{at: strings.Split(name, ".")}
		}
		q.put(given, value)
	}
	return nil
}

// put sets a value as it was typed; nothing takes it back.
func (q question) put(given map[string]any, typed string) {
	at, into := q.at, given
	for ; len(at) > 1; at = at[1:] {
		inner, is := into[at[0]].(map[string]any)
		if !is {
			inner = map[string]any{}
			into[at[0]] = inner
		}
		into = inner
	}
	if typed == "" {
		delete(into, at[0])
		return
	}
	into[at[0]] = typed
	if q.plain {
		return
	}
	if q.truth {
		switch strings.ToLower(typed) {
		case "y", "yes", "true":
			into[at[0]] = true
		case "n", "no", "false":
			into[at[0]] = false
		}
		return
	}
	var v any
	if yaml.Unmarshal([]byte(typed), &v) == nil && v != nil {
		into[at[0]] = v
	}
}

func at(given map[string]any, path []string) any {
	var v any = given
	for _, name := range path {
		m, _ := v.(map[string]any)
		v = m[name]
	}
	return v
}

// asks puts questions one by one; empty answers leave what there is.
func (a *app) asks(c *cobra.Command, in *bufio.Reader, k *client.Kit, given map[string]any, only func(question) bool) error {
	p := a.printer(c.ErrOrStderr())
	for _, s := range k.Sections {
		headed := s.Title == ""
		for _, q := range questionsOf(k, s.OfParameters) {
			if !only(q) {
				continue
			}
			if !headed {
				p.line("\n%s", p.paint("bold", s.Title))
				headed = true
			}
			have := at(given, q.at)
			hint := q.fallback
			if have != nil {
				hint = asText(have)
			} else if hint == "" && q.example != "" {
				hint = "for instance " + q.example
			}
			if q.text != "" {
				p.line("  %s", p.paint("soft", visible.Line(q.text)))
			}
			for {
				fmt.Fprintf(c.ErrOrStderr(), "  %s (%s)%s: ", visible.Line(q.title), q.kind, pick(hint == "", "", " ["+visible.Line(hint)+"]"))
				row, err := in.ReadString('\n')
				if err != nil && row == "" {
					return &Exit{Code: ExitFailed, Text: "the questions were left; nothing was proposed"}
				}
				if row = strings.TrimSpace(row); row != "" {
					q.put(given, row)
				}
				if row != "" || have != nil || !q.required {
					break
				}
			}
		}
	}
	return nil
}

// interactive tells whether somebody can be asked.
func interactive(in io.Reader) bool {
	f, ok := in.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// wish tries what is given, asks where somebody can be asked, shows what it comes to, and proposes it.
func (a *app) wish(c *cobra.Command, conn *client.Conn, k *client.Kit, f *form, w client.KitWish) error {
	in := bufio.NewReader(c.InOrStdin())
	ask := interactive(c.InOrStdin()) && a.output == "text"
	if ask && w.Place == "" && len(f.set) == 0 && f.file == "" {
		seen := map[string]bool{}
		for more := true; more; { // what is asked next may follow from what was answered
			more = false
			if err := a.asks(c, in, k, w.Given, func(q question) bool {
				fresh := !seen[q.name()]
				seen[q.name()], more = true, more || fresh
				return fresh
			}); err != nil {
				return err
			}
			if !k.Follows {
				break
			}
			var err error
			if k, err = formOf(c.Context(), conn, k, w.Given); err != nil {
				return err
			}
		}
	}
	var t *client.KitTry
	for {
		r, err := conn.TryKitWithResponse(c.Context(), k.Name, w)
		if err := conn.Check(r, err); err != nil {
			return err
		}
		t = r.JSON200
		wrong := map[string]bool{}
		for _, m := range t.Mistakes {
			wrong[strings.Join(m.AtValue, ".")] = true
		}
		delete(wrong, "")
		if !ask || len(wrong) == 0 {
			break
		}
		a.printer(c.ErrOrStderr()).mistakes(t.Mistakes)
		if err := a.asks(c, in, k, w.Given, func(q question) bool { return wrong[q.name()] }); err != nil {
			return err
		}
	}
	p := a.printer(c.OutOrStdout())
	bad := len(t.Mistakes)+len(t.Conflicts) > 0
	if f.try || bad {
		if done, err := a.document(c.OutOrStdout(), t); done {
			if err == nil && bad {
				err = &Exit{Code: ExitFailed}
			}
			return err
		}
	}
	if len(t.Conflicts) > 0 {
		p.line("%s", p.paint("failing", "These were changed by hand since, in the same places that would be another:"))
		for _, x := range t.Conflicts {
			p.line("  %s", visible.Line(x))
		}
		p.line("Change them by hand, or take back what was changed, and ask again.")
	}
	p.mistakes(t.Mistakes)
	if bad {
		return &Exit{Code: ExitFailed}
	}
	if len(t.Effect.Files) == 0 {
		p.line("It would change nothing: it is so already.")
		return nil
	}
	if f.try {
		p.effect(&t.Effect)
		return exitOf(&t.Effect)
	}
	if ask {
		p.effect(&t.Effect)
		fmt.Fprintf(c.ErrOrStderr(), "\nPropose it? [y/N] ")
		row, _ := in.ReadString('\n') // the end of the input is no
		if row = strings.ToLower(strings.TrimSpace(row)); row != "y" && row != "yes" {
			return &Exit{Code: ExitFailed, Text: "nothing was proposed"}
		}
	}
	w.Title, w.Why = f.title, f.why
	r, err := conn.ProposeKitWithResponse(c.Context(), k.Name, w)
	if err := conn.Check(r, err); err != nil {
		return err
	}
	if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
		return err
	}
	x := r.JSON200
	if x.Standing == "merged" {
		p.line("It is the first commit of %s: %s", x.Base, visible.Line(x.Title))
		return nil
	}
	p.line("#%d  %s", x.Number, visible.Line(x.Title))
	p.line("%s", p.paint("soft", fmt.Sprintf("On branch %s of %s, %s. What it would do: vigila propose show %d     Merge it: vigila propose merge %d", x.Branch, x.Repo, counted(len(t.Effect.Files), "file", "files"), x.Number, x.Number)))
	return nil
}

func (p *printer) mistakes(all []client.ValueMistake) {
	for _, m := range all {
		name := strings.Join(m.AtValue, ".")
		p.line("%s", p.paint("failing", "▲ "+visible.Line(pick(name == "" || strings.HasPrefix(m.Says, " "), name+m.Says, name+": "+m.Says))))
	}
}

func (a *app) kitNew() *cobra.Command {
	var f form
	c := &cobra.Command{
		Use: "new KIT", Short: "Make something new by a kit: its questions one by one, or --set, and then a proposal",
		Long: `Make something new by a kit. At a terminal its questions are asked one by one; what it would make and do is shown, and then it is
proposed. Elsewhere, or with --set and --values, nothing is asked. Nothing is kept before the proposal is merged.`,
		Example: "  vigila kit new web-service\n  vigila kit new web-service --set name=tide-table --set owner=signals --set cluster=quay --try",
		Args:    exactly(1, "the name of a kit"), ValidArgsFunction: a.first(kitNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			k, err := kitOf(c.Context(), conn, args[0])
			if err != nil {
				return err
			}
			given := map[string]any{}
			if err := f.read(c, k, given); err != nil {
				return err
			}
			if k, err = formOf(c.Context(), conn, k, given); err != nil {
				return err
			}
			if k.Follows { // with what there is to choose now, it is known what is a number
				given = map[string]any{}
				if err := f.read(c, k, given); err != nil {
					return err
				}
			}
			return a.wish(c, conn, k, &f, client.KitWish{Given: given})
		}),
	}
	f.flags(c)
	return a.reading(c)
}

func (a *app) kitChange() *cobra.Command {
	var f form
	c := &cobra.Command{
		Use: "change PATH", Short: "Change what a kit made, by the same form, with the values that it has",
		Long: `Change what a kit made, by the same form, with the values that it has now. What was changed by hand stays, where the kit does not
want the same lines to be another.`,
		Example: "  vigila kit change services/tide-table\n  vigila kit change services/tide-table --set replicas=3 --try",
		Args:    exactly(1, "the path of what a kit made; see vigila kit made"), ValidArgsFunction: a.first(madePaths),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.ListMadeWithResponse(c.Context(), &client.ListMadeParams{Path: strings.Trim(args[0], "/"), Limit: 1})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if len(r.JSON200.Items) == 0 {
				return &Exit{Code: ExitFailed, Text: fmt.Sprintf("no kit has made %s; see vigila kit made%s", args[0], pick(r.JSON200.Problem == "", "", " ("+r.JSON200.Problem+")"))}
			}
			m := r.JSON200.Items[0]
			if m.Kit == "" {
				return &Exit{Code: ExitFailed, Text: "its record can't be read: " + m.Other}
			}
			k, err := kitOf(c.Context(), conn, m.Kit)
			if err != nil {
				return err
			}
			if k, err = formOf(c.Context(), conn, k, m.Given); err != nil {
				return err
			}
			if err := f.read(c, k, m.Given); err != nil {
				return err
			}
			return a.wish(c, conn, k, &f, client.KitWish{Given: m.Given, ChangeOf: m.Path})
		}),
	}
	f.flags(c)
	return a.reading(c)
}

func (a *app) kitMade() *cobra.Command {
	var kit string
	c := list(a, listing[client.Made]{
		command:  &cobra.Command{Use: "made", Short: "List what kits have made, and what a kit would make otherwise by now", Example: "  vigila kit made\n  vigila kit made --kit web-service"},
		none:     "No kit has made such a thing.",
		first:    "No kit has made anything yet: vigila kit new KIT",
		narrowed: func() bool { return kit != "" },
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Made, int, error) {
			r, err := conn.ListMadeWithResponse(ctx, &client.ListMadeParams{Search: f.search, Kit: kit, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Made) {
			rows := [][]cell{{{"PATH", "soft"}, {"KIT", "soft"}, {"WARDS", "soft"}, {"IN", "soft"}, {"", "soft"}}}
			for _, m := range items {
				rows = append(rows, []cell{{m.Path, "bold"}, plain(orDash(m.Kit)), plain(orDash(few(m.OfWards))), plain(m.Repo + " " + m.Branch), {visible.Line(m.Other), "drifted"}})
			}
			p.table(rows)
			p.line("\n%s", p.paint("soft", "Change one: vigila kit change PATH     Offer a newer kit to all that it made: vigila kit renew KIT"))
		},
	})
	c.Flags().StringVar(&kit, "kit", "", "only what this kit made")
	_ = c.RegisterFlagCompletionFunc("kit", a.complete(kitNames)) // never fails: the flag is there
	return c
}

func (a *app) kitRenew() *cobra.Command {
	return a.reading(&cobra.Command{
		Use: "renew KIT [PATH…]", Short: "Offer what a kit makes by now to what it made before: a proposal for each thing",
		Long: `Offer what a kit makes by now to what it made before: a proposal for each thing that would be another. What was changed by hand
stays; where the kit wants the same lines to be another it says so, and proposes nothing.`,
		Example: "  vigila kit renew web-service\n  vigila kit renew web-service services/tide-table",
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: a.first(kitNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			r, err := conn.RenewKitWithResponse(c.Context(), args[0], client.RenewKit{Only: args[1:]})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			if done, err := a.document(c.OutOrStdout(), r.JSON200); done {
				return err
			}
			p := a.printer(c.OutOrStdout())
			if len(r.JSON200.Items) == 0 {
				p.line("Kit %s has made nothing yet.", args[0])
			}
			for _, x := range r.JSON200.Items {
				p.line("%s  %s", p.paint("bold", visible.Line(x.Path)), pick(x.Proposal > 0, fmt.Sprintf("is proposed as #%d: vigila propose show %d", x.Proposal, x.Proposal), visible.Line(x.Says)))
			}
			return nil
		}),
	})
}

func (a *app) kitComponents() *cobra.Command {
	var cluster string
	c := list(a, listing[client.Component]{
		command:  &cobra.Command{Use: "components", Short: "List the components that can be switched, and which are on where", Example: "  vigila kit components\n  vigila kit components --cluster quay"},
		none:     "No component matches.",
		first:    "No kit can be switched. One with switch: is a component; its format: vigila schema kit",
		narrowed: func() bool { return cluster != "" },
		ask: func(ctx context.Context, conn *client.Conn, f *pageFlags) (any, []client.Component, int, error) {
			r, err := conn.ListComponentsWithResponse(ctx, &client.ListComponentsParams{Search: f.search, Cluster: cluster, Limit: f.limit, Offset: f.offset()})
			if err := conn.Check(r, err); err != nil {
				return nil, nil, 0, err
			}
			return r.JSON200, r.JSON200.Items, r.JSON200.Total, nil
		},
		print: func(p *printer, items []client.Component) {
			rows := [][]cell{{{"COMPONENT", "soft"}, {"IN", "soft"}, {"", "soft"}, {"OPTIONS", "soft"}, {"HOW IT IS", "soft"}}}
			for _, x := range items {
				how := visible.Line(x.Problem)
				for _, w := range x.Kept {
					how = strings.TrimPrefix(how+"; "+w.Ward+": "+visible.Line(w.Says), "; ")
				}
				if how == "" && len(x.Requires) > 0 {
					how = "needs " + strings.Join(x.Requires, ", ")
				}
				rows = append(rows, []cell{{x.Kit, "bold"}, plain(x.Place), {pick(x.Use, "on", "off"), pick(x.Use, "", "soft")}, plain(orDash(options(x.Given))), {how, pick(x.Problem == "", "", "failing")}})
			}
			p.table(rows)
			p.line("\n%s", p.paint("soft", "Switch one: vigila kit on NAME PLACE     and off: vigila kit off NAME PLACE"))
		},
	})
	c.Flags().StringVar(&cluster, "cluster", "", "only those that are, or could be, in this cluster")
	_ = c.RegisterFlagCompletionFunc("cluster", a.complete(clusterNames)) // never fails: the flag is there
	return c
}

// options are values in a line.
func options(given map[string]any) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(given)) {
		out = append(out, k+": "+visible.Line(asText(given[k])))
	}
	return strings.Join(out, ", ")
}

func (a *app) kitTurn(on bool) *cobra.Command {
	var f form
	word := pick(on, "on", "off")
	c := &cobra.Command{
		Use: word + " KIT PLACE", Short: "Switch a component " + word + " in a cluster or an environment, as a proposal",
		Long: pick(on, `Switch a component on in a cluster or an environment: a proposal that changes one file in git. Its options stay as they are there, but
for those that are set.`,
			`Switch a component off in a cluster or an environment: a proposal that changes one file in git. What becomes of its objects once its ward
is not declared any more is as its kit says (keep.on_removal), or you are asked. Its options stay in the file.`),
		Example: "  vigila kit " + word + " metrics quay\n  vigila kit " + word + " metrics rehearsal --try",
		Args:    exactly(2, "the name of a kit, and a cluster or an environment"), ValidArgsFunction: a.first(kitNames),
		RunE: a.with(func(c *cobra.Command, conn *client.Conn, args []string) error {
			k, err := kitOf(c.Context(), conn, args[0])
			if err != nil {
				return err
			}
			if !k.Switched {
				return usage("kit %s makes files, and can't be switched: vigila kit new %s", k.Name, k.Name)
			}
			r, err := conn.ListComponentsWithResponse(c.Context(), &client.ListComponentsParams{Limit: most})
			if err := conn.Check(r, err); err != nil {
				return err
			}
			given := map[string]any{}
			for _, x := range r.JSON200.Items {
				if x.Kit == k.Name && x.Place == args[1] && x.Given != nil {
					given = x.Given
				}
			}
			if err := f.read(c, k, given); err != nil {
				return err
			}
			return a.wish(c, conn, k, &f, client.KitWish{Given: given, Place: args[1], Use: on})
		}),
	}
	f.flags(c)
	return a.reading(c)
}

func kitNames(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListKitsWithResponse(ctx, &client.ListKitsParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, k := range r.JSON200.Items {
		out = append(out, k.Name+"\t"+visible.Line(k.About))
	}
	return out
}

func madePaths(ctx context.Context, conn *client.Conn, _ []string) (out []string) {
	r, err := conn.ListMadeWithResponse(ctx, &client.ListMadeParams{Limit: most})
	if conn.Check(r, err) != nil {
		return nil
	}
	for _, m := range r.JSON200.Items {
		out = append(out, m.Path+"\tby kit "+m.Kit)
	}
	return out
}
