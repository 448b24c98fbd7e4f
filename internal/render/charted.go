package render

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"text/template"

	"github.com/Masterminds/semver/v3"
	"github.com/bmatcuk/doublestar/v4"

	"vigila.dev/vigila/internal/core/express"
	"vigila.dev/vigila/internal/core/object"
)

// Files is what templates see as .Files: everything in the chart that is no template.
type Files map[string][]byte

// Get is a file's text; "" when there is none.
func (f Files) Get(name string) string { return string(f[name]) }

// GetBytes is a file's bytes.
func (f Files) GetBytes(name string) []byte { return f[name] }

// Glob chooses files.
func (f Files) Glob(pattern string) Files {
	out := Files{}
	for name, data := range f {
		if ok, _ := doublestar.Match(pattern, name); ok {
			out[name] = data
		}
	}
	return out
}

// Lines are the lines of a file.
func (f Files) Lines(name string) []string {
	text := strings.TrimSuffix(string(f[name]), "\n")
	if text == "" {
		return []string{}
	}
	return strings.Split(text, "\n")
}

// AsConfig is the data of a ConfigMap, AsSecrets that of a Secret; keys are the files' own names.
func (f Files) AsConfig() (string, error) { return f.data(func(b []byte) string { return string(b) }) }

// AsSecrets see AsConfig.
func (f Files) AsSecrets() (string, error) { return f.data(base64.StdEncoding.EncodeToString) }

func (f Files) data(as func([]byte) string) (string, error) {
	out := map[string]any{}
	for name, b := range f {
		out[path.Base(name)] = as(b)
	}
	if len(out) == 0 {
		return "", nil
	}
	toYAML := functions(&budget{ctx: context.Background()})["toYaml"].(func(any) (string, error))
	return toYAML(out)
}

// KubeVersion is what templates see as .Capabilities.KubeVersion.
type KubeVersion struct{ Version, Major, Minor string }

// String is the version.
func (k KubeVersion) String() string { return k.Version }

// GitVersion is the version.
func (k KubeVersion) GitVersion() string { return k.Version }

// APIVersions is what templates see as .Capabilities.APIVersions.
type APIVersions []string

// Has tells whether the cluster serves a group and version, or a kind of one.
func (a APIVersions) Has(api string) bool { return slices.Contains(a, api) }

// defaultVersion is taken when a chart is rendered for no cluster in particular.
const defaultVersion = "v1.35.0"

// Capabilities is what templates see of the cluster.
type Capabilities struct {
	KubeVersion KubeVersion
	APIVersions APIVersions
	HelmVersion struct{ Version, GitCommit, GitTreeState, GoVersion string } // which version of the format's functions there are
}

func capabilities(c Cluster) *Capabilities {
	out := &Capabilities{APIVersions: c.APIs}
	text := c.Version
	if text == "" {
		text = defaultVersion
	}
	out.KubeVersion.Version = text
	if v, err := semver.NewVersion(text); err == nil {
		out.KubeVersion.Major, out.KubeVersion.Minor = strconv.FormatUint(v.Major(), 10), strconv.FormatUint(v.Minor(), 10)
	}
	if len(c.APIs) == 0 {
		out.APIVersions = builtinAPIs
	}
	out.HelmVersion.Version = "v3.17.0"
	return out
}

// builtinAPIs are taken for a cluster that is not known: what every cluster of defaultVersion serves.
var builtinAPIs = APIVersions{"v1", "apps/v1", "batch/v1", "autoscaling/v1", "autoscaling/v2", "policy/v1", "rbac.authorization.k8s.io/v1", "networking.k8s.io/v1",
	"storage.k8s.io/v1", "scheduling.k8s.io/v1", "apiextensions.k8s.io/v1", "admissionregistration.k8s.io/v1", "apiregistration.k8s.io/v1", "coordination.k8s.io/v1", "discovery.k8s.io/v1",
	"certificates.k8s.io/v1", "node.k8s.io/v1", "events.k8s.io/v1", "flowcontrol.apiserver.k8s.io/v1", "apps/v1/Deployment", "apps/v1/StatefulSet", "apps/v1/DaemonSet", "batch/v1/CronJob", "batch/v1/Job",
	"networking.k8s.io/v1/Ingress", "networking.k8s.io/v1/NetworkPolicy", "policy/v1/PodDisruptionBudget", "autoscaling/v2/HorizontalPodAutoscaler", "v1/Service", "v1/ConfigMap", "v1/Secret"}

// limited collects the text of one template.
type limited struct {
	bytes.Buffer
	b   *budget
	sum *int
}

func (w *limited) Write(p []byte) (int, error) {
	if *w.sum += len(p); *w.sum > maxOutput {
		return 0, express.ErrTooMuch
	}
	if err := w.b.step(); err != nil {
		return 0, err
	}
	return w.Buffer.Write(p)
}

// job is one template to execute.
type job struct {
	c    *chart
	name string // as templates are known: chart/templates/x.yaml
	file string // where it is, for messages
	data map[string]any
}

func (l *chartLoader) render(ctx context.Context, root *chart, vals map[string]any) error {
	b := &budget{ctx: ctx}
	t := template.New("").Option("missingkey=zero")
	t.Funcs(functions(b))
	t.Funcs(template.FuncMap{"include": includes(b, t), "tpl": tpls(b, t)})
	places := map[string]string{}
	var jobs []job
	if err := l.prepare(t, root, vals, places, &jobs); err != nil {
		return err
	}
	bounded(t)
	slices.SortStableFunc(jobs, func(a, b job) int { return strings.Compare(a.name, b.name) })
	var objects []object.Object
	var errs []error
	sum := 0
	for _, j := range jobs {
		w := &limited{b: b, sum: &sum}
		err := execute(t, w, j)
		if err != nil {
			errs = append(errs, explain(j, err, places))
			if errors.Is(err, express.ErrTooMuch) || ctx.Err() != nil || len(errs) >= 20 {
				break
			}
			continue
		}
		text := strings.ReplaceAll(w.String(), "<no value>", "")
		made, err := object.Parse(j.file, []byte(text))
		if err != nil {
			errs = append(errs, inRendered(j.file, text, err))
			continue
		}
		for i := range made {
			made[i].Line = 1 // the place in the rendered text says nothing
		}
		objects = append(objects, made...)
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	crds, err := l.crds(root)
	if err != nil {
		return err
	}
	if objects, err = l.mapped(objects); err != nil {
		return err
	}
	l.out.Objects, err = collect(append(crds, objects...))
	return err
}

// prepare parses the templates of a chart and of those in it; those in it first, so that a chart can replace what they
// define.
func (l *chartLoader) prepare(t *template.Template, c *chart, vals map[string]any, places map[string]string, jobs *[]job) error {
	data := l.data(c, vals)
	subs := data["Subcharts"].(map[string]any)
	for _, s := range c.subs {
		sub, _ := vals[s.as].(map[string]any)
		if err := l.prepare(t, s, sub, places, jobs); err != nil {
			return err
		}
		subs[s.as] = l.data(s, sub)
	}
	for _, f := range c.files {
		rest, ok := strings.CutPrefix(f.Path, "templates/")
		if !ok {
			continue
		}
		name, file := c.id+"/"+f.Path, path.Join(c.where, f.Path)
		places[name] = file
		if _, err := t.New(name).Parse(string(f.Data)); err != nil {
			return explain(job{c: c, name: name, file: file}, err, places)
		}
		base := path.Base(rest)
		if c.meta.Type == "library" || strings.HasPrefix(base, "_") || base == "NOTES.txt" || strings.HasSuffix(base, ".tpl") {
			continue
		}
		with := maps.Clone(data)
		with["Template"] = map[string]any{"Name": name, "BasePath": c.id + "/templates"}
		*jobs = append(*jobs, job{c, name, file, with})
	}
	return nil
}

// data is what a template sees as its dot.
func (l *chartLoader) data(c *chart, vals map[string]any) map[string]any {
	files := Files{}
	for _, f := range c.files {
		if !strings.HasPrefix(f.Path, "templates/") && !strings.HasPrefix(f.Path, "crds/") {
			files[f.Path] = f.Data
		}
	}
	w := l.request.Ward
	name := w.From.Release
	if name == "" {
		name = w.Name
	}
	meta := c.meta
	meta.Name = c.as
	if vals == nil {
		vals = map[string]any{}
	}
	return map[string]any{
		"Values": vals, "Chart": meta, "Files": files, "Capabilities": capabilities(l.request.Cluster), "Subcharts": map[string]any{},
		"Release": map[string]any{"Name": name, "Namespace": w.Into.Namespace, "Service": "Vigila", "IsInstall": true, "IsUpgrade": false, "Revision": 1},
	}
}

func execute(t *template.Template, w *limited, j job) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("template: %s:1: executing %q at <>: %v", j.name, j.name, p)
		}
	}()
	return t.ExecuteTemplate(w, j.name, j.data)
}

// includes is the function include: a template's text as a value.
func includes(b *budget, t *template.Template) func(string, any) (string, error) {
	sum := 0
	return func(name string, data any) (string, error) {
		if b.depth++; b.depth > maxInclude {
			return "", fmt.Errorf("%s includes itself without end", name)
		}
		defer func() { b.depth-- }()
		if err := b.step(); err != nil {
			return "", err
		}
		one := 0
		w := &limited{b: b, sum: &one}
		if err := t.ExecuteTemplate(w, name, data); err != nil {
			return "", err
		}
		if sum += one; sum > 16*maxOutput {
			return "", express.ErrTooMuch
		}
		return w.String(), nil
	}
}

// tpls is the function tpl: a text of the values, executed as a template.
func tpls(b *budget, t *template.Template) func(string, any) (string, error) {
	return func(text string, data any) (string, error) {
		if !strings.Contains(text, "{{") {
			return text, nil
		}
		if b.depth++; b.depth > maxInclude {
			return "", errors.New("tpl calls itself without end")
		}
		defer func() { b.depth-- }()
		own, err := t.Clone()
		if err != nil {
			return "", err
		}
		own.Funcs(template.FuncMap{"include": includes(b, own), "tpl": tpls(b, own)})
		x, err := own.New("a text of the values").Parse(text)
		if err != nil {
			return "", err
		}
		ticks(x.Tree.Root)
		one := 0
		w := &limited{b: b, sum: &one}
		if err := x.Execute(w, data); err != nil {
			return "", err
		}
		return strings.ReplaceAll(w.String(), "<no value>", ""), nil
	}
}

var (
	execError  = regexp.MustCompile(`template: ([^:]+):(\d+)(?::\d+)?: executing "[^"]*" at <(.*?)>: `)
	parseError = regexp.MustCompile(`template: ([^:]+):(\d+)(?::\d+)?: `)
)

// explain turns the template library's error into one that names template, line and value.
func explain(j job, err error, places map[string]string) error {
	text := err.Error()
	if errors.Is(err, express.ErrTooMuch) {
		text = strings.TrimSuffix(text, express.ErrTooMuch.Error()) + express.ErrTooMuch.Error()
	}
	all := execError.FindAllStringSubmatchIndex(text, -1)
	find := func(m []int, n int) string { return text[m[2*n]:m[2*n+1]] }
	place := func(name string) string {
		if p, ok := places[name]; ok {
			return p
		}
		return name
	}
	if len(all) == 0 {
		if m := parseError.FindStringSubmatchIndex(text); m != nil {
			line, _ := strconv.Atoi(find(m, 2))
			return &object.SyntaxError{File: place(find(m, 1)), Line: line, Text: "this is not a valid template: " + text[m[1]:]}
		}
		return &object.SyntaxError{File: j.file, Line: 1, Text: text}
	}
	last := all[len(all)-1]
	line, _ := strconv.Atoi(find(last, 2))
	what := strings.TrimSpace(text[last[1]:])
	if i := strings.Index(what, "error calling "); i == 0 {
		_, what, _ = strings.Cut(what, ": ")
	}
	switch {
	case strings.HasPrefix(what, "nil pointer evaluating interface {}."):
		what = "there is no such value, so it has no " + strings.TrimPrefix(what, "nil pointer evaluating interface {}.")
	case strings.HasPrefix(what, "map has no entry"):
		what = "there is no such value"
	}
	out := &object.SyntaxError{File: place(find(last, 1)), Line: line, Text: find(last, 3) + ": " + what}
	if len(all) > 1 {
		first := all[0]
		out.Text += fmt.Sprintf(" (from %s:%s)", place(find(first, 1)), find(first, 2))
	}
	return out
}

// inRendered says where in the rendered text of a template a mistake is, with the line itself, unless a Secret may be in it:
// what can't be read can't be told apart.
func inRendered(file, text string, err error) error {
	var at *object.SyntaxError
	if !errors.As(err, &at) {
		return err
	}
	rows := strings.Split(text, "\n")
	shown := ""
	if at.Line >= 1 && at.Line <= len(rows) && !strings.Contains(strings.ToLower(text), "secret") {
		shown = fmt.Sprintf(": %q", strings.TrimSpace(rows[at.Line-1]))
	}
	return &object.SyntaxError{File: file, Line: 1, Text: fmt.Sprintf("line %d of what it renders%s: %s", at.Line, shown, at.Text)}
}

// crds reads the crds directories: plain definitions, not templates.
func (l *chartLoader) crds(c *chart) ([]object.Object, error) {
	var out []object.Object
	for _, f := range c.files {
		if !strings.HasPrefix(f.Path, "crds/") || !Wanted(f.Path) {
			continue
		}
		objects, err := object.Parse(path.Join(c.where, f.Path), f.Data)
		if err != nil {
			return nil, err
		}
		out = append(out, objects...)
	}
	for _, s := range c.subs {
		objects, err := l.crds(s)
		if err != nil {
			return nil, err
		}
		out = append(out, objects...)
	}
	return out, nil
}

// Annotations of the chart format that say when an object has its turn.
const (
	hookAnnotation   = "helm.sh/hook"
	weightAnnotation = "helm.sh/hook-weight"
	cleanAnnotation  = "helm.sh/hook-delete-policy"
	policyAnnotation = "helm.sh/resource-policy"
)

// mapped turns the lifecycle annotations of charts into those of Vigila, as docs/rendering.md tells.
func (l *chartLoader) mapped(objects []object.Object) ([]object.Object, error) {
	type hook struct {
		o      object.Object
		weight int
	}
	var kept []object.Object
	var before, after []hook
	low, high := 0, 0
	skipped := map[string]int{}
	for _, o := range objects {
		meta, _ := o.Body["metadata"].(map[string]any)
		notes, _ := meta["annotations"].(map[string]any)
		if policy, _ := notes[policyAnnotation].(string); policy == "keep" {
			guard, _ := notes[object.GuardAnnotation].(string)
			if guard == "" {
				notes[object.GuardAnnotation] = object.NoPrune
			}
		}
		text, _ := notes[hookAnnotation].(string)
		if strings.TrimSpace(text) == "" {
			kept = append(kept, o)
			if t, err := o.Turn(); err == nil {
				low, high = min(low, t.Step), max(high, t.Step)
			}
			continue
		}
		weight := 0
		if w, ok := notes[weightAnnotation].(string); ok {
			n, err := strconv.Atoi(strings.TrimSpace(w))
			if err != nil {
				return nil, &object.SyntaxError{File: o.File, Line: o.Line, Text: fmt.Sprintf("%s: %s is %q; it must be a whole number in quotes", o.Ref.Short(), weightAnnotation, w)}
			}
			weight = n
		}
		pre, post, def := false, false, false
		var others []string
		for _, h := range strings.Split(text, ",") {
			switch h = strings.TrimSpace(h); h {
			case "pre-install", "pre-upgrade":
				pre = true
			case "post-install", "post-upgrade":
				post = true
			case "crd-install":
				def = true
			case "":
			default:
				others = append(others, h)
			}
		}
		switch {
		case def:
			kept = append(kept, o)
		case o.Ref.Kind == "CustomResourceDefinition": // as a task it would go again
			kept = append(kept, o)
		case pre:
			before = append(before, hook{o, weight})
		case post:
			after = append(after, hook{o, weight})
		default:
			skipped[strings.Join(others, ", ")]++
			continue
		}
		if !def && (pre || post) {
			clean := ""
			policy, _ := notes[cleanAnnotation].(string)
			switch {
			case strings.Contains(policy, "hook-succeeded") && strings.Contains(policy, "hook-failed"):
				clean = "always"
			case strings.Contains(policy, "hook-succeeded"):
				clean = "success"
			default:
				clean = "never"
			}
			if o.Ref.Kind != "CustomResourceDefinition" {
				notes[object.CleanAnnotation] = clean
				notes[object.TaskAnnotation] = string(object.Before)
				if !pre {
					notes[object.TaskAnnotation] = string(object.After)
				}
			}
		}
	}
	for _, why := range sortedKeys(skipped) {
		l.out.Notes = append(l.out.Notes, fmt.Sprintf("%s that the chart keeps for %s: left out, they belong to no run", plural(skipped[why], "object"), why))
	}
	place := func(hooks []hook, first int) {
		slices.SortStableFunc(hooks, func(a, b hook) int { return a.weight - b.weight })
		step, last := first, 0
		for i, h := range hooks {
			if i > 0 && h.weight != last {
				step++
			}
			last = h.weight
			if h.o.Ref.Kind != "CustomResourceDefinition" {
				h.o.Body["metadata"].(map[string]any)["annotations"].(map[string]any)[object.StepAnnotation] = strconv.Itoa(step)
			}
			kept = append(kept, h.o)
		}
	}
	weights := map[int]bool{}
	for _, h := range before {
		weights[h.weight] = true
	}
	place(before, low-max(len(weights)-1, 0))
	place(after, high)
	return kept, nil
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
