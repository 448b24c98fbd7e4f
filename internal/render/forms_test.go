package render

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/declared"
	"vigila.dev/vigila/internal/core/object"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

// memory is a tree of texts.
type memory map[string]string

func (m memory) Name() string { return "moorings" }

func (m memory) Hash(p string) (string, error) {
	if t, ok := m[p]; ok {
		return object.Hash(t), nil
	}
	files, err := m.Files(p, func(string) bool { return true })
	if err != nil || len(files) == 0 {
		return "", nil
	}
	var all []any
	for _, f := range files {
		all = append(all, f.Path, string(f.Data))
	}
	return object.Hash(all), nil
}

func (m memory) Read(p string) ([]byte, error) {
	if t, ok := m[p]; ok {
		return []byte(t), nil
	}
	return nil, fmt.Errorf("no %q: %w", p, repo.ErrNoPath)
}

func (m memory) List(p string) ([]repo.Entry, error) {
	seen := map[string]bool{}
	var out []repo.Entry
	for name := range m {
		rest, ok := strings.CutPrefix(name, p+"/")
		if p == "" {
			rest, ok = name, true
		}
		if !ok {
			continue
		}
		first, _, dir := strings.Cut(rest, "/")
		if !seen[first] {
			seen[first] = true
			out = append(out, repo.Entry{Name: first, Dir: dir})
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no %q: %w", p, repo.ErrNoPath)
	}
	slices.SortFunc(out, func(a, b repo.Entry) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func (m memory) Files(p string, want func(string) bool) ([]repo.File, error) {
	var out []repo.File
	for name, text := range m {
		if name == p || (p == "" || strings.HasPrefix(name, p+"/")) && want(path.Base(name)) {
			out = append(out, repo.File{Path: name, Data: []byte(text)})
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no %q: %w", p, repo.ErrNoPath)
	}
	slices.SortFunc(out, func(a, b repo.File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

func request(t *testing.T, from string, tree memory) Request {
	t.Helper()
	all, err := ward.Parse("w.yaml", []byte("vigila: ward/v1\nname: gate\nfrom:\n  repo: moorings\n"+indent(from)+"into: {cluster: quay, namespace: harbour}\n"))
	require.NoError(t, err)
	return Request{Ward: all[0], Tree: tree, Cluster: Cluster{Name: "quay", Labels: map[string]string{"tier": "rehearsal"}, Version: "v1.35.2", APIs: []string{"v1", "apps/v1"}}}
}

func indent(s string) string {
	if s == "" {
		return ""
	}
	return "  " + strings.ReplaceAll(strings.TrimSpace(s), "\n", "\n  ") + "\n"
}

func renders(t *testing.T, from string, tree memory) *Result {
	t.Helper()
	out, err := Render(t.Context(), request(t, from, tree))
	require.NoError(t, err)
	return out
}

// refusal is the error of a rendering that must not work.
func refusal(t *testing.T, from string, tree memory) string {
	t.Helper()
	_, err := Render(t.Context(), request(t, from, tree))
	require.Error(t, err)
	return err.Error()
}

func names(objects []object.Object) []string {
	var out []string
	for _, o := range objects {
		out = append(out, o.Ref.Short())
	}
	return out
}

func body(t *testing.T, r *Result, short string) map[string]any {
	t.Helper()
	for _, o := range r.Objects {
		if o.Ref.Short() == short {
			return o.Body
		}
	}
	require.Failf(t, "not rendered", "%s is not among %v", short, names(r.Objects))
	return nil
}

func at2(t *testing.T, v any, keys ...any) any {
	t.Helper()
	for _, k := range keys {
		switch k := k.(type) {
		case string:
			m, ok := v.(map[string]any)
			require.True(t, ok, "%v in %v", k, v)
			v = m[k]
		case int:
			l, ok := v.([]any)
			require.True(t, ok && k < len(l), "%v in %v", k, v)
			v = l[k]
		}
	}
	return v
}

func config(name string, data ...string) string {
	text := "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: " + name + "}\ndata:\n"
	for i := 0; i+1 < len(data); i += 2 {
		text += "  " + data[i] + ": " + data[i+1] + "\n"
	}
	return text
}

const deployment = "apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: gate}\nspec:\n  replicas: 1\n  template:\n    spec:\n      containers:\n        - {name: gate, image: registry.brindle.example/gate}\n"

func TestPlainFilesAreChosen(t *testing.T) {
	tree := memory{"app/a.yaml": config("a", "k", "v"), "app/b.json": `{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"b"}}`,
		"app/tests/c.yaml": config("c", "k", "v"), "app/readme.md": "#", "other/d.yaml": config("d", "k", "v")}
	assert.Equal(t, []string{"ConfigMap/a", "ConfigMap/b", "ConfigMap/c"}, names(renders(t, "path: app", tree).Objects))
	assert.Equal(t, []string{"ConfigMap/a"}, names(renders(t, "path: app\ninclude: ['*.yaml']\nexclude: ['tests/**']", tree).Objects))
	assert.Equal(t, []string{"ConfigMap/b"}, names(renders(t, "path: app/b.json", tree).Objects))
	r := renders(t, "path: app", tree)
	assert.Equal(t, []declared.Input{{Repo: "moorings", Path: "app", Hash: must(tree.Hash("app"))}}, r.Inputs, "one hash stands for the whole path")
	assert.Contains(t, refusal(t, "path: app\nvalues: {a: 1}", tree), "plain files take none")
	tree["app/sub/Chart.yaml"] = "name: x"
	assert.Contains(t, refusal(t, "path: app", tree), "app/sub/Chart.yaml:1: this is a chart below plain files; point from.path at app/sub")
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func overlayTree() memory {
	return memory{
		"base/kustomization.yaml":       "resources: [deploy.yaml, config.yaml]\n",
		"base/deploy.yaml":              deployment,
		"base/config.yaml":              config("tides", "mark", "high"),
		"parts/loud/kustomization.yaml": "apiVersion: kustomize.config.k8s.io/v1alpha1\nkind: Component\npatches:\n  - path: loud.yaml\n",
		"parts/loud/loud.yaml":          "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: tides}\ndata: {volume: '11'}\n",
		"envs/quay/settings.env":        "berth=7\n",
		"envs/quay/kustomization.yaml": `namePrefix: quay-
resources: [../../base, extra.yaml]
components: [../../parts/loud]
images:
  - {name: registry.brindle.example/gate, newTag: "1.4.2"}
configMapGenerator:
  - {name: settings, envs: [settings.env]}
patches:
  - target: {kind: Deployment}
    patch: |
      - {op: replace, path: /spec/replicas, value: 3}
replacements:
  - source: {kind: ConfigMap, name: tides, fieldPath: data.mark}
    targets:
      - select: {kind: Deployment, name: gate}
        fieldPaths: [metadata.annotations.mark]
        options: {create: true}
`,
		"envs/quay/extra.yaml": config("extra", "from", "overlay"),
		"unused/x.yaml":        "not: read",
	}
}

func TestOverlaysAreMadeFromTheTree(t *testing.T) {
	tree := overlayTree()
	r := renders(t, "path: envs/quay", tree)
	assert.Equal(t, OverlayForm, r.Form)
	all := names(r.Objects)
	require.Len(t, all, 4)
	d := body(t, r, "Deployment/quay-gate")
	assert.Equal(t, int64(3), at2(t, d, "spec", "replicas"))
	assert.Equal(t, "registry.brindle.example/gate:1.4.2", at2(t, d, "spec", "template", "spec", "containers", 0, "image"))
	assert.Equal(t, "high", at2(t, d, "metadata", "annotations", "mark"), "replacements")
	assert.NotContains(t, at2(t, d, "metadata", "annotations"), originAnnotation, "notes of where it comes from stay inside")
	assert.Equal(t, "11", at2(t, body(t, r, "ConfigMap/quay-tides"), "data", "volume"), "components")
	assert.True(t, slices.ContainsFunc(all, func(n string) bool { return strings.HasPrefix(n, "ConfigMap/quay-settings-") }), "generators add a hash: %v", all)
	for _, o := range r.Objects {
		if o.Ref.Kind == "Deployment" {
			assert.Equal(t, "base/deploy.yaml:1", o.At(), "an object is known by the file it comes from")
		}
	}
	var read []string
	for _, in := range r.Inputs {
		read = append(read, in.Path)
		assert.NotEmpty(t, in.Hash)
	}
	assert.Equal(t, []string{"base", "envs/quay", "parts/loud"}, read, "bases are inputs; what is not read is none")

	again := renders(t, "path: envs/quay", tree)
	assert.Equal(t, asText(t, r), asText(t, again))
}

func asText(t *testing.T, r *Result) string {
	t.Helper()
	var out bytes.Buffer
	for _, o := range r.Objects {
		b, err := json.Marshal(o.Body)
		require.NoError(t, err)
		fmt.Fprintf(&out, "%s %s\n", o.File, b)
	}
	return out.String()
}

func TestOverlaysFetchAndStartNothing(t *testing.T) {
	called := 0
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { called++; fmt.Fprint(w, config("x", "k", "v")) }))
	defer srv.Close()
	for name, c := range map[string]struct{ file, want string }{
		"an address":     {"resources: [" + srv.URL + "/x.yaml]", "o/kustomization.yaml:1: resources: " + srv.URL + "/x.yaml is remote"},
		"a git host":     {"resources:\n  - github.com/someone/bases//web?ref=v1", "o/kustomization.yaml:2: resources: github.com/someone/bases//web?ref=v1 is remote"},
		"over ssh":       {"bases: ['git@git.brindle.example:bases.git']", "is remote"},
		"a patch":        {"patches:\n  - path: " + srv.URL + "/p.yaml", "o/kustomization.yaml:2: path: " + srv.URL + "/p.yaml is remote; put the file into the repository"},
		"a generator":    {"configMapGenerator:\n  - name: g\n    files: [x=" + srv.URL + "/f]", "files: " + srv.URL + "/f is remote"},
		"the schema":     {"openapi:\n  path: " + srv.URL + "/s.json", "is remote"},
		"a chart":        {"helmCharts: [{name: x}]", "an overlay can't pull a chart"},
		"a plugin":       {"transformers:\n  - |-\n    apiVersion: brindle.example/v1\n    kind: LoudTransformer\n    metadata: {name: x}", "a plugin from outside"},
		"a function":     {"transformers:\n  - |-\n    apiVersion: v1\n    kind: Fn\n    metadata: {name: x, annotations: {config.kubernetes.io/function: 'exec: {path: /bin/true}'}}", "a plugin that starts something"},
		"leaves it":      {"resources: [../../etc/passwd]", "leaves the repository"},
		"is missing":     {"resources: [gone.yaml]", "o/kustomization.yaml:1: resources: there is no base o/gone.yaml in the repository"},
		"no overlay":     {"resources: [../plain]", "is a directory without a kustomization.yaml"},
		"unknown key":    {"resources: [d.yaml]\nresorces: []", "o/kustomization.yaml:1: the overlay can't be made"},
		"nothing":        {"resources: []", "o/kustomization.yaml:1: this overlay is made of nothing"},
		"no mapping":     {"- a", "it must be a mapping"},
		"not yaml":       {"a: [", "o/kustomization.yaml:1: this is not valid YAML"},
		"a bad patch":    {"resources: [d.yaml]\npatches:\n  - {target: {kind: Deployment}, patch: '- {op: replace, path: /spec/nope/nope, value: 1}'}", "the overlay can't be made"},
		"declared twice": {"resources: [d.yaml, d.yaml]", "the overlay can't be made"},
	} {
		tree := memory{"o/kustomization.yaml": c.file, "o/d.yaml": deployment, "plain/x.yaml": deployment}
		assert.Contains(t, refusal(t, "path: o", tree), c.want, name)
	}
	assert.Zero(t, called, "nothing was fetched")
}

func chartTree() memory {
	return memory{
		"c/Chart.yaml":                    "apiVersion: v2\nname: gate\nversion: 1.2.3\nappVersion: '9'\nkubeVersion: '>=1.30'\ndependencies:\n  - {name: db, version: '>=1 <2', alias: store, condition: store.enabled, import-values: [link]}\n  - {name: audit, version: 1.x, tags: [extras]}\n  - {name: shared, version: 1.x, repository: 'file://../shared'}\n",
		"c/values.yaml":                   "image: {name: gate, tag: '1'}\nreplicas: 2\nport: 8080\nempty: gone\nstore: {size: 5}\nglobal: {team: ticketing}\ntags: {extras: false}\n",
		"c/values.schema.json":            `{"type":"object","properties":{"replicas":{"type":"integer","minimum":1}}}`,
		"c/.helmignore":                   "*.bak\n/junk/\n",
		"c/junk/x.txt":                    "junk",
		"c/notes.txt":                     "line one\nline two\n",
		"c/crds/berth.yaml":               "apiVersion: apiextensions.k8s.io/v1\nkind: CustomResourceDefinition\nmetadata: {name: berths.brindle.example}\nspec: {group: brindle.example, names: {kind: Berth, plural: berths}, scope: Namespaced, versions: []}\n",
		"c/templates/_helpers.tpl":        `{{- define "gate.labels" -}}` + "\napp: {{ .Chart.Name }}\nteam: {{ .Values.global.team }}\n{{- end }}",
		"c/templates/deploy.yaml":         "apiVersion: apps/v1\nkind: Deployment\nmetadata:\n  name: {{ .Release.Name }}\n  labels: {{- include \"gate.labels\" . | nindent 4 }}\nspec:\n  replicas: {{ .Values.replicas }}\n  template:\n    spec:\n      containers:\n        - name: gate\n          image: \"{{ .Values.image.name }}:{{ .Values.image.tag | default .Chart.AppVersion }}\"\n          ports: [{containerPort: {{ .Values.port }}}]\n",
		"c/templates/config.yaml":         "apiVersion: v1\nkind: ConfigMap\nmetadata:\n  name: facts\n  namespace: {{ .Release.Namespace }}\ndata:\n  {{- with .Values.empty }}\n  empty: {{ . }}\n  {{- end }}\n  kube: {{ .Capabilities.KubeVersion.Version }}/{{ .Capabilities.KubeVersion.Minor }}\n  has: {{ .Capabilities.APIVersions.Has \"apps/v1\" | quote }}\n  hasnt: {{ .Capabilities.APIVersions.Has \"monitoring/v1\" | quote }}\n  lines: {{ .Files.Lines \"notes.txt\" | len | quote }}\n  junk: {{ .Files.Get \"junk/x.txt\" | quote }}\n  imported: {{ .Values.host | quote }}\n  missing: \"{{ .Values.nothing }}\"\n  tpl: {{ tpl \"{{ .Values.replicas }} of {{ .Chart.Name }}\" . | quote }}\n  basePath: {{ .Template.BasePath }}\n  shared: {{ include \"shared.hello\" . }}\n  found: {{ len (lookup \"v1\" \"Secret\" \"a\" \"b\") | quote }}\n",
		"c/templates/NOTES.txt":           "{{ fail \"never rendered\" }}",
		"c/charts/db/Chart.yaml":          "apiVersion: v2\nname: db\nversion: 1.4.0\n",
		"c/charts/db/values.yaml":         "size: 1\nenabled: true\nexports: {link: {host: db.harbour}}\n",
		"c/charts/db/templates/set.yaml":  "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: {{ .Release.Name }}-{{ .Chart.Name }}}\ndata: {size: '{{ .Values.size }}', team: {{ .Values.global.team }}}\n",
		"c/charts/audit/Chart.yaml":       "apiVersion: v2\nname: audit\nversion: 1.0.0\n",
		"c/charts/audit/templates/a.yaml": config("audit", "on", "'yes'"),
		"shared/Chart.yaml":               "apiVersion: v2\nname: shared\nversion: 1.0.0\ntype: library\n",
		"shared/templates/_hello.tpl":     `{{ define "shared.hello" }}hello {{ .Release.Name }}{{ end }}`,
		"values/quay.yaml":                "replicas: 4\nimage: {tag: '2'}\n",
		"values/more.yaml":                "image: {tag: '3'}\nempty: null\n",
	}
}

func TestChartsRender(t *testing.T) {
	r := renders(t, "path: c\nvalues_in: [values/quay.yaml, values/more.yaml]\nvalues: {port: 9000}", chartTree())
	assert.Equal(t, "gate 1.2.3", r.Chart)
	assert.ElementsMatch(t, []string{"CustomResourceDefinition/berths.brindle.example", "ConfigMap/facts", "Deployment/gate", "ConfigMap/gate-store"}, names(r.Objects))
	d := body(t, r, "Deployment/gate")
	assert.Equal(t, int64(4), at2(t, d, "spec", "replicas"), "files of values lie over the chart's own")
	assert.Equal(t, "gate:3", at2(t, d, "spec", "template", "spec", "containers", 0, "image"), "in order, key by key")
	assert.Equal(t, int64(9000), at2(t, d, "spec", "template", "spec", "containers", 0, "ports", 0, "containerPort"), "and the ward's own over them")
	assert.Equal(t, map[string]any{"app": "gate", "team": "ticketing"}, at2(t, d, "metadata", "labels"))
	f := at2(t, body(t, r, "ConfigMap/facts"), "data").(map[string]any)
	assert.Equal(t, map[string]any{"kube": "v1.35.2/35", "has": "true", "hasnt": "false", "lines": "2", "junk": "", "imported": "db.harbour", "missing": "", "tpl": "4 of gate",
		"basePath": "gate/templates", "shared": "hello gate", "found": "0"}, f, "a null takes a value away; nothing is looked up")
	assert.Equal(t, map[string]any{"size": "5", "team": "ticketing"}, at2(t, body(t, r, "ConfigMap/gate-store"), "data"), "sub-charts see their own values and what is global")
	assert.Equal(t, asText(t, r), asText(t, renders(t, "path: c\nvalues_in: [values/quay.yaml, values/more.yaml]\nvalues: {port: 9000}", chartTree())))

	off := renders(t, "path: c\nvalues: {store: {enabled: false}, tags: {extras: true}}\nrelease: east", chartTree())
	assert.ElementsMatch(t, []string{"CustomResourceDefinition/berths.brindle.example", "ConfigMap/facts", "Deployment/east", "ConfigMap/audit"}, names(off.Objects), "conditions and tags")

	var inputs []string
	for _, in := range r.Inputs {
		inputs = append(inputs, in.Path)
	}
	assert.ElementsMatch(t, []string{"c", "shared", "values/more.yaml", "values/quay.yaml", "cluster"}, inputs)
}

func TestWhatIsWrongWithAChartIsSaidWithItsPlace(t *testing.T) {
	for name, c := range map[string]struct {
		file, text, from, want string
	}{
		"a missing value": {"c/templates/x.yaml", "a: 1\nb: {{ .Values.a.b.c }}", "", "c/templates/x.yaml:2: .Values.a.b.c: there is no such value, so it has no"},
		"in a helper":     {"c/templates/x.yaml", `{{ define "h" }}` + "\n{{ required \"give a berth\" .Values.berth }}{{ end }}\n{{ include \"h\" . }}", "", `c/templates/x.yaml:2: required "give a berth" .Values.berth: give a berth (from c/templates/x.yaml:3)`},
		"fail":            {"c/templates/x.yaml", `{{ fail "no berth" }}`, "", `c/templates/x.yaml:1: fail "no berth": no berth`},
		"syntax":          {"c/templates/x.yaml", "a\n{{ if }}", "", "c/templates/x.yaml:2: this is not a valid template: missing value for if"},
		"no function":     {"c/templates/x.yaml", "{{ nope 1 }}", "", `function "nope" not defined`},
		"no such helper":  {"c/templates/x.yaml", `{{ include "nope" . }}`, "", `c/templates/x.yaml:1: include "nope" .: template: no template "nope"`},
		"bad output":      {"c/templates/x.yaml", "apiVersion: v1\nkind: ConfigMap\n  metadata: x", "", `c/templates/x.yaml:1: line 3 of what it renders: "metadata: x": this is not valid YAML`},
		"of a secret":     {"c/templates/x.yaml", "kind: Secret\ndata:\n  a: b\n c: hunter2", "", "line 3 of what it renders: this is not valid YAML"},
		"the schema":      {"", "", "values: {replicas: 0, image: {tag: 4}}", "w.yaml:6: value replicas: minimum: got 0, want 1, says chart gate"},
		"the cluster":     {"c/Chart.yaml", "apiVersion: v2\nname: gate\nversion: 1.2.3\nkubeVersion: '>=1.99'\n", "", "c/Chart.yaml:4: chart gate 1.2.3 wants Kubernetes >=1.99; cluster quay has v1.35.2"},
		"a dependency":    {"c/Chart.yaml", "apiVersion: v2\nname: gate\nversion: 1.2.3\ndependencies:\n  - name: sonar\n    version: 2.x\n    repository: https://charts.brindle.example\n", "", "c/Chart.yaml:5: it depends on sonar 2.x, which is not in its charts directory"},
		"another version": {"c/charts/db/Chart.yaml", "apiVersion: v2\nname: db\nversion: 3.0.0\n", "", "it depends on db >=1 <2, but c/charts/db holds version 3.0.0"},
		"no name":         {"c/Chart.yaml", "version: 1.0.0", "", "c/Chart.yaml:1: a chart needs name and version"},
		"a library":       {"c/Chart.yaml", "name: x\nversion: 1.0.0\ntype: library", "", "c/Chart.yaml:3: this is a library chart"},
		"no values file":  {"", "", "values_in: [values/none.yaml]", `values of ward gate: no "values/none.yaml"`},
		"odd values":      {"values/list.yaml", "- a", "values_in: [values/list.yaml]", "values/list.yaml:1: a file of values must be a mapping"},
		"the clock":       {"c/templates/x.yaml", "{{ now }}", "", "c/templates/x.yaml:1: now: now reads the clock"},
		"chance":          {"c/templates/x.yaml", "{{ randAlphaNum 8 }}", "", "randAlphaNum gives another value at each rendering"},
		"the environment": {"c/templates/x.yaml", `{{ env "HOME" }}`, "", "env reads the environment"},
		"the network":     {"c/templates/x.yaml", `{{ getHostByName "localhost" }}`, "", "asks the network"},
		"a hidden clock":  {"c/templates/x.yaml", `{{ date "2006" "x" }}`, "", "reads the clock"},
		"a far schema":    {"c/values.schema.json", `{"$ref":"http://127.0.0.1:1/x.json"}`, "", "a schema can't refer to anything outside its file"},
		"twice":           {"c/templates/x.yaml", config("facts", "a", "b") + "---\n" + config("other", "a", "b") + "---\n" + config("other", "a", "c"), "", "ConfigMap/other is declared twice"},
	} {
		tree := chartTree()
		if c.file != "" {
			tree[c.file] = c.text
		}
		assert.Contains(t, refusal(t, "path: c\n"+c.from, tree), c.want, name)
	}
}

func TestNoTemplateGoesOnForEver(t *testing.T) {
	for name, text := range map[string]string{
		"loops in loops":     `{{ range $a := until 5000 }}{{ range until 5000 }}{{ range until 5000 }}{{ end }}{{ end }}{{ end }}`,
		"without any call":   `{{- $l := .Values.l -}}{{- range $l }}{{- range $l }}{{- range $l }}{{- range $l }}{{- range $l }}{{- range $l }}{{- range $l }}{{- range $l }}{{- range $l }}{{- end }}{{- end }}{{- end }}{{- end }}{{- end }}{{- end }}{{- end }}{{- end }}{{- end }}`,
		"over a number":      `{{- range 2000000000 }}{{- end }}`,
		"includes itself":    `{{ define "a" }}{{ include "a" . }}{{ end }}{{ include "a" . }}`,
		"template in itself": `{{ define "a" }}{{ template "a" . }}{{ end }}{{ template "a" . }}`,
		"tpl of itself":      `{{ tpl .Values.self . }}`,
		"doubling text":      `{{ $x := "abcdefgh" }}{{ range until 60 }}{{ $x = print $x $x }}{{ end }}`,
		"doubling by printf": `{{ $x := "abcdefgh" }}{{ range until 60 }}{{ $x = printf "%s%s" $x $x }}{{ end }}`,
		"doubling replace":   `{{ $x := "abcdefgh" }}{{ range until 60 }}{{ $x = replace "a" $x $x }}{{ end }}`,
		"doubling mappings":  `{{ $x := dict "a" "b" }}{{ range until 60 }}{{ $x = dict "a" $x "b" $x }}{{ end }}{{ toYaml $x }}`,
		"a value in itself":  `{{ $x := dict }}{{ $_ := set $x "a" $x }}{{ $x }}`,
		"merged into itself": `{{ $x := dict }}{{ $_ := merge $x (dict "a" (dict "b" $x)) }}{{ $x }}`,
		"values in itself":   `{{ $_ := set .Values "a" .Values }}{{ .Values }}`,
		"nested deep":        `{{ $x := dict }}{{ range until 5000 }}{{ $x = dict "a" $x }}{{ end }}{{ $x }}`,
		"lists in lists":     `{{ $x := list }}{{ range until 900000 }}{{ $x = list $x }}{{ end }}{{ $x }}`,
		"doubling lists":     `{{ $x := list 1 }}{{ range until 60 }}{{ $x = concat $x $x }}{{ end }}`,
		"repeat":             `{{ repeat 2000000000 "x" }}`,
		"until":              `{{ until 2000000000 }}`,
		"much text":          `{{ range until 1000 }}{{ repeat 1000000 "x" }}{{ end }}`,
		"a wide format":      `{{ range until 1000 }}{{ printf "%999999d" 1 }}{{ end }}`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			tree := memory{"c/Chart.yaml": "name: x\nversion: 1.0.0", "c/templates/x.yaml": text, "c/values.yaml": "l: [1,2,3,4,5,6,7,8,9,10]\nself: '{{ tpl .Values.self . }}'\n"}
			_, err := Render(t.Context(), request(t, "path: c", tree))
			require.Error(t, err)
			assert.Regexp(t, "too much|without end|depth", err.Error())
		})
	}
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(fmt.Errorf("the service is ending"))
	_, err := Render(ctx, request(t, "path: c", memory{"c/Chart.yaml": "name: x\nversion: 1.0.0", "c/templates/x.yaml": `{{ range until 900000 }}{{ end }}`}))
	assert.ErrorContains(t, err, "the service is ending")
}

func TestLifecycleOfChartsBecomesTasks(t *testing.T) {
	hook := func(name, when string, more ...string) string {
		notes := "helm.sh/hook: " + when
		for _, m := range more {
			notes += ", " + m
		}
		return "apiVersion: batch/v1\nkind: Job\nmetadata: {name: " + name + ", annotations: {" + notes + "}}\n---\n"
	}
	tree := memory{"c/Chart.yaml": "name: x\nversion: 1.0.0", "c/templates/all.yaml": hook("late", "'pre-install,pre-upgrade'", `helm.sh/hook-weight: "5"`) + hook("early", "pre-upgrade", `helm.sh/hook-weight: "-5"`, "helm.sh/hook-delete-policy: hook-succeeded") +
		hook("done", "post-install", "helm.sh/hook-delete-policy: 'hook-succeeded,hook-failed'") + hook("check", "test") + hook("bye", "pre-delete") +
		"apiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: {name: tides, annotations: {helm.sh/resource-policy: keep}}\n---\n" + config("plain", "a", "b")}
	r := renders(t, "path: c", tree)
	turns := map[string]object.Turn{}
	for _, o := range r.Objects {
		turn, err := o.Turn()
		require.NoError(t, err)
		turns[o.Ref.Name] = turn
	}
	assert.Equal(t, map[string]object.Turn{
		"early": {Step: -1, Stepped: true, Task: object.Before, Clean: object.CleanSuccess},
		"late":  {Step: 0, Stepped: true, Task: object.Before, Clean: object.CleanNever},
		"done":  {Step: 0, Stepped: true, Task: object.After, Clean: object.CleanAlways},
		"tides": {Clean: object.CleanSuccess, NoPrune: true},
		"plain": {Clean: object.CleanSuccess},
	}, turns)
	assert.Equal(t, []string{"1 object that the chart keeps for pre-delete: left out, they belong to no run", "1 object that the chart keeps for test: left out, they belong to no run"}, r.Notes)
	tree["c/templates/all.yaml"] = hook("late", "pre-install", `helm.sh/hook-weight: "x"`)
	assert.Contains(t, refusal(t, "path: c", tree), `helm.sh/hook-weight is "x"; it must be a whole number in quotes`)
}

// TestTheFunctionsThatChartsRelyOn is the written list: what a chart may call, with what it gives.
func TestTheFunctionsThatChartsRelyOn(t *testing.T) {
	for expr, want := range map[string]string{
		`default "x" .Values.none`: "x", `.Values.s | upper | quote`: `"ABC"`, `trunc 2 .Values.s`: "ab", `.Values.num | int`: "7", `add 1 .Values.num`: "8", `kindOf .Values.num`: "float64",
		`ternary "a" "b" true`: "a", `coalesce .Values.none .Values.s`: "abc", `hasKey .Values "s"`: "true", `dig "m" "deep" "d" .Values.AsMap`: "v", `list 1 2 | join "-"`: "1-2",
		`(dict "b" 1 "a" 2) | toYaml`: "a: 2\nb: 1", `(dict "a" (list 1)) | toJson`: `{"a":[1]}`, `keys (dict "b" 1 "a" 2) | join ","`: "a,b", `values (dict "b" 1 "a" 2) | join ","`: "2,1",
		`"a: [1, x]" | fromYaml | toJson`: `{"a":[1,"x"]}`, `"[1,2]" | fromYamlArray | len`: "2", `contains "yaml" (fromYaml "a: [").Error`: "true", `"{\"a\":1}" | fromJson | toYaml`: "a: 1",
		`(dict "a" "b") | toToml`: "a = 'b'", `b64enc "x"`: "eA==", `sha256sum "x" | trunc 8`: "2d711642", `semverCompare ">=1.30-0" .Capabilities.KubeVersion.Version`: "true",
		`(semver "1.2.3").Minor`: "2", `regexReplaceAll "[^a-z]" "a1b" "-"`: "a-b", `indent 2 "x"`: "  x", `nindent 2 "x"`: "\n  x", `first (list 4 5)`: "4", `until 3`: "[0 1 2]",
		`splitList "," "a,b" | last`: "b", `trimSuffix "c" .Values.s`: "ab", `replace "b" "-" .Values.s`: "a-c", `printf "%s-%v" .Values.s .Values.num`: "abc-7", `required "r" .Values.s`: "abc",
		`empty .Values.none`: "true", `not .Values.none`: "true", `eq .Values.s "abc"`: "true", `and true .Values.s`: "abc", `or .Values.none "z"`: "z", `index .Values.l 1`: "z", `len .Values.l`: "2",
		`toString .Values.num`: "7", `squote 1`: "'1'", `cat "a" "b"`: "a b", `date "2006-01-02" 0`: "1970-01-01", `merge (dict "a" 1) (dict "a" 2 "b" 3) | toJson`: `{"a":1,"b":3}`, `omit (dict "a" 1 "b" 2) "a" | toJson`: `{"b":2}`,
		`deepCopy (dict "a" 1) | toJson`: `{"a":1}`, `uniq (list 1 1 2) | len`: "2", `has 1 (list 1)`: "true", `typeIs "string" .Values.s`: "true", `int64 "5"`: "5", `max 1 3`: "3", `div 7 2`: "3", `snakecase "aB"`: "a_b",
		`.Values.s | toYaml`: "abc", `urlParse "http://a/b" | dig "host" ""`: "a", `lookup "v1" "Pod" "" "" | toJson`: "{}", `seq 1 3`: "1 2 3", `mustToJson .Values.l`: `["x","z"]`, `.Release.Service`: "Vigila", `.Release.IsInstall`: "true",
		`.Files.Glob "f/*" | len`: "2", `(.Files.Glob "f/*").AsConfig`: "a.txt: A\nb.txt: B", `(.Files.Glob "f/a*").AsSecrets`: "a.txt: QQ==", `.Files.GetBytes "f/a.txt" | toString`: "A", `.Capabilities.KubeVersion.Major`: "1",
		`hasPrefix "v3" .Capabilities.HelmVersion.Version`: "true", `.Chart.Version`: "1.0.0", `.Template.Name`: "x/templates/x.yaml", `.Values.num`: "7",
	} {
		tree := memory{"c/Chart.yaml": "name: x\nversion: 1.0.0", "c/f/a.txt": "A", "c/f/b.txt": "B", "c/values.yaml": "s: abc\nnum: 7\nm: {deep: v}\nl: [x, z]\n",
			"c/templates/x.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: x}\ndata:\n  out: {{ (" + expr + ") | toString | quote }}\n"}
		if strings.Contains(expr, "AsMap") {
			tree["c/templates/x.yaml"] = strings.ReplaceAll(tree["c/templates/x.yaml"], ".Values.AsMap", ".Values")
		}
		if strings.HasPrefix(expr, "dig") {
			expr = `dig "m" "deep" "d" .Values`
		}
		r, err := Render(t.Context(), request(t, "path: c", tree))
		if assert.NoError(t, err, expr) {
			assert.Equal(t, want, at2(t, body(t, r, "ConfigMap/x"), "data", "out"), expr)
		}
	}
}

func TestTemplatesGiveTypedValues(t *testing.T) {
	tree := memory{
		"t/template.yaml": "vigila: template/v1\nname: service\nparameters:\n  required: [image]\n  properties:\n    image: {type: string}\n    replicas: {type: integer, default: 2}\n    ports: {type: array, items: {type: integer}, default: []}\n    labels: {type: object, default: {}}\n    debug: {type: boolean, default: false}\nfiles: ['*.yaml']\n",
		"t/deploy.yaml":   "apiVersion: apps/v1\nkind: Deployment\nmetadata:\n  name: ${{ ward.name }}\n  labels: ${{ params.labels }}\n  annotations: {where: 'on ${{ cluster.name }} (${{ cluster.labels.tier }})'}\nspec:\n  replicas: ${{ params.replicas * 2 }}\n  paused: ${{ params.debug ? true : nothing }}\n  template:\n    spec:\n      containers:\n        - name: main\n          image: ${{ params.image }}\n          ports: ${{ params.ports.map(p, {'containerPort': p}) }}\n          args: ['--a', \"${{ params.debug ? '--debug' : nothing }}\"]\n",
		"t/each.yaml":     "${{ params.ports.map(p, {'apiVersion': 'v1', 'kind': 'ConfigMap', 'metadata': {'name': 'port-' + string(p)}}) }}\n",
		"t/never.yaml":    "${{ params.debug ? {'kind': 'X'} : nothing }}\n",
	}
	r := renders(t, "path: t\nvalues: {image: 'gate:1', ports: [80, 443], labels: {team: signals}}", tree)
	assert.Equal(t, TemplateForm, r.Form)
	assert.ElementsMatch(t, []string{"Deployment/gate", "ConfigMap/port-80", "ConfigMap/port-443"}, names(r.Objects))
	d := body(t, r, "Deployment/gate")
	assert.Equal(t, map[string]any{"replicas": int64(4), "template": map[string]any{"spec": map[string]any{"containers": []any{map[string]any{"name": "main", "image": "gate:1",
		"ports": []any{map[string]any{"containerPort": int64(80)}, map[string]any{"containerPort": int64(443)}}, "args": []any{"--a"}}}}}}, d["spec"], "types stay; null takes away")
	assert.Equal(t, "on quay (rehearsal)", at2(t, d, "metadata", "annotations", "where"))
	assert.Equal(t, "t/deploy.yaml:1", r.Objects[0].At())
	for name, c := range map[string]struct{ file, text, from, want string }{
		"missing":        {"", "", "values: {}", "w.yaml:3: value image is missing, and template t needs it"},
		"mistyped":       {"", "", "values: {image: x, replica: 2}", "w.yaml:6: value replica: template t takes none of that name; did you mean replicas?"},
		"wrong type":     {"", "", "values: {image: x, replicas: two}", "replicas: got string, want integer"},
		"no such param":  {"t/x.yaml", "a: 1\nb: ${{ params.nope }}", "values: {image: x}", "t/x.yaml:2: ${{ params.nope }}: there is no nope; params has: debug, image, labels, ports, replicas"},
		"not closed":     {"t/x.yaml", "a: ${{ params.image", "values: {image: x}", "t/x.yaml:1: ${{ without }}"},
		"not an expr":    {"t/x.yaml", "a: ${{ 1 + }}", "values: {image: x}", "t/x.yaml:1: ${{ 1 + }}:"},
		"glue":           {"t/x.yaml", "a: x-${{ params.ports }}", "values: {image: x}", "gives a list within a text"},
		"no object":      {"t/x.yaml", "${{ 5 }}", "values: {image: x}", "t/x.yaml:1: this gives something that is not an object"},
		"too much":       {"t/x.yaml", "${{ [1,2,3,4,5,6,7,8,9,10].map(a, [1,2,3,4,5,6,7,8,9,10].map(b, [1,2,3,4,5,6,7,8,9,10].map(c, [1,2,3,4,5,6,7,8,9,10].map(d, [1,2,3,4,5,6,7,8,9,10].map(e, [1,2,3,4,5,6,7,8,9,10].map(f, [1,2,3,4,5,6,7,8,9,10].map(g, a))))))) }}", "values: {image: x}", "it does too much"},
		"unknown key":    {"t/template.yaml", "vigila: template/v1\nparams: {}", "", "t/template.yaml:2: unknown key params"},
		"another format": {"t/template.yaml", "vigila: template/v9", "", "the first key must be vigila: template/v1"},
	} {
		broken := memory{}
		for k, v := range tree {
			broken[k] = v
		}
		if c.file != "" {
			broken[c.file] = c.text
		}
		assert.Contains(t, refusal(t, "path: t\n"+c.from, broken), c.want, name)
	}
}

// TestTheOverlayLibraryReachesNothing: a generator's settings may be made by an overlay of their own, where no look at the files
// finds an address; it is not asked for all the same, and neither is git.
func TestTheOverlayLibraryReachesNothing(t *testing.T) {
	was := http.DefaultTransport
	t.Cleanup(func() { http.DefaultTransport = was })
	t.Setenv("GIT_ALLOW_PROTOCOL", "none")
	Offline()
	http.DefaultTransport = refusing{}
	asked := 0
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked++
		_, _ = w.Write([]byte("seen: yes\n"))
	}))
	defer srv.Close()
	settings := func(kind, more string) string {
		return "apiVersion: builtin\nkind: " + kind + "\nmetadata: {name: seen}\n" + more
	}
	for name, tree := range map[string]memory{
		"files of a made generator": {"o/kustomization.yaml": "generators: [gens]\n", "o/gens/kustomization.yaml": "resources: [gen.yaml]\n", "o/gens/gen.yaml": settings("ConfigMapGenerator", "files: ['x="+srv.URL+"/x']\n")},
		"nested below resources":    {"o/kustomization.yaml": "resources: [inner]\n", "o/inner/kustomization.yaml": "generators: [gens]\n", "o/inner/gens/kustomization.yaml": "resources: [more]\n", "o/inner/gens/more/kustomization.yaml": "resources: [gen.yaml]\n", "o/inner/gens/more/gen.yaml": settings("ConfigMapGenerator", "envs: ['"+srv.URL+"/x']\n")},
		"patched in":                {"o/kustomization.yaml": "generators: [gens]\n", "o/gens/kustomization.yaml": "resources: [gen.yaml]\npatches: [{target: {kind: ConfigMapGenerator}, patch: '[{op: add, path: /files, value: [\"x=" + strings.Replace(srv.URL, "http", "ht\\\\u0074p", 1) + "/x\"]}]'}]\n", "o/gens/gen.yaml": settings("ConfigMapGenerator", "")},
	} {
		got, err := Render(t.Context(), request(t, "path: o", tree))
		if err == nil {
			for _, o := range got.Objects {
				assert.NotContains(t, fmt.Sprint(o.Body), "seen: yes", name)
			}
		}
		assert.Zero(t, asked, name)
	}
}
