package ward

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const spreadOut = `vigila: ward/v1
name: tide-gauge
from:
  path: services/tide-gauge
  include: ["*.yaml"]
  values: {gauges: 2, image: {name: gauge, tag: "1"}}
  values_in: [values/common.yaml, {repo: settings, ref: v1, path: a.yaml}]
into: {clusters: {sea: sound}, namespace: tides, as: deployer}
keep: {on_removal: dismantle}
set:
  - where: {labels: {tier: production}}
    from: {values: {gauges: 9, image: {tag: "2"}}, values_in: [values/production.yaml]}
    keep: {sync: auto}
  - where: {cluster: skerry}
    from: {path: services/tide-gauge/skerry, ref: ">=1.4 <2", values: {gauges: null}}
    into: {namespace: tides-skerry}
spread: {one_at_a_time: [quay, skerry]}
`

func TestAWardIsWhatItsBlocksMakeOfIt(t *testing.T) {
	all, err := ParseIn(From{Repo: "moorings", Ref: "release"}, "w.yaml", []byte(spreadOut))
	require.NoError(t, err)
	w := all[0]
	assert.Equal(t, "moorings", w.From.Repo, "it comes from where its file lives")
	assert.Equal(t, "release", w.From.Ref)
	assert.Equal(t, []ValuesFile{{Path: "values/common.yaml"}, {Repo: "settings", Ref: "v1", Path: "a.yaml"}}, w.From.ValuesIn)
	assert.Equal(t, "deployer", w.Into.As)
	assert.Equal(t, Dismantle, w.Keep.OnRemoval)

	quay := w.For("quay", map[string]string{"sea": "sound", "tier": "rehearsal"})
	assert.Equal(t, w, quay, "no block is meant for it")
	skerry := w.For("skerry", map[string]string{"sea": "sound", "tier": "production"})
	assert.Equal(t, "services/tide-gauge/skerry", skerry.From.Path)
	assert.Equal(t, ">=1.4 <2", skerry.From.Ref)
	assert.Equal(t, "tides-skerry", skerry.Into.Namespace)
	assert.Equal(t, Auto, skerry.Keep.Sync)
	assert.Equal(t, map[string]any{"gauges": nil, "image": map[string]any{"name": "gauge", "tag": "2"}}, skerry.From.Values, "block over block, key by key")
	assert.Len(t, skerry.From.ValuesIn, 3)
	assert.Len(t, w.From.ValuesIn, 2, "the ward itself is not changed")
	assert.EqualValues(t, 2, w.From.Values["gauges"])

	clusters := []string{"far", "quay", "skerry"}
	assert.Empty(t, w.Spread.Before("quay", clusters))
	assert.Equal(t, []string{"quay"}, w.Spread.Before("skerry", clusters))
	assert.Equal(t, []string{"quay", "skerry"}, w.Spread.Before("far", clusters), "those that are not named come last")
	assert.Equal(t, []string{"far"}, Spread{InTurn: true}.Before("quay", clusters), "by name")
	assert.Empty(t, Spread{}.Before("skerry", clusters), "all at once")
}

func TestAChartNeedsNoPath(t *testing.T) {
	all, err := Parse("w.yaml", []byte("vigila: ward/v1\nname: a\nfrom: {chart: {repo: charts, name: gate, version: 1.x}}\ninto: {cluster: c}\n"))
	require.NoError(t, err)
	assert.Equal(t, Chart{"charts", "gate", "1.x"}, all[0].From.Chart)
	assert.Equal(t, "charts", all[0].From.Repo)
}

func TestMistakesOfTheNewerKeys(t *testing.T) {
	for name, c := range map[string]struct{ from, into, more, want string }{
		"half a chart":      {"{repo: r, chart: {name: x}}", "{cluster: c}", "", "from.chart needs repo: a known chart repository, name: and version:"},
		"chart and path":    {"{repo: r, path: a, chart: {repo: r, name: x, version: 1.x}}", "{cluster: c}", "", "from has both chart and path"},
		"chart and globs":   {"{repo: r, include: ['*'], chart: {repo: r, name: x, version: 1.x}}", "{cluster: c}", "", "from.include and from.exclude choose plain files"},
		"a bad glob":        {"{repo: r, include: ['[']}", "{cluster: c}", "", `from.include: "[" is not a valid pattern`},
		"values no mapping": {"{repo: r, values: [1]}", "{cluster: c}", "", "from.values must be a mapping"},
		"values of before":  {"{repo: r, values_from: [x]}", "{cluster: c}", "", "from.values_from is called values_in now"},
		"values leave":      {"{repo: r, values_in: [../x]}", "{cluster: c}", "", "leaves the repository"},
		"values nowhere":    {"{repo: r, values_in: [{repo: s}]}", "{cluster: c}", "", "needs the path of a file"},
		"as what":           {"{repo: r}", "{cluster: c, as: d}", "", "into.as names a service account of into.namespace, which is not given"},
		"set where":         {"{repo: r}", "{cluster: c}", "set: [{from: {path: x}}]", "each entry of set needs where:"},
		"set who":           {"{repo: r}", "{cluster: c}", "set: [{where: {cluster: a, labels: {b: c}}}]", "each entry of set needs where:"},
		"set which":         {"{repo: r}", "{cluster: c}", "set: [{where: {cluster: a}, from: {repo: x}}]", "unknown key set.from.repo"},
		"spread over one":   {"{repo: r}", "{cluster: c}", "spread: {one_at_a_time: true}", "spread needs into.clusters: ward a goes into one cluster"},
		"spread how":        {"{repo: r}", "{clusters: {a: b}}", "spread: {one_at_a_time: quickly}", `spread.one_at_a_time is "quickly"; write true or false`},
		"no repository":     {"{path: x}", "{cluster: c}", "", "from.repo is missing"},
	} {
		_, err := Parse("w.yaml", []byte("vigila: ward/v1\nname: a\nfrom: "+c.from+"\ninto: "+c.into+"\n"+c.more))
		assert.ErrorContains(t, err, c.want, name)
	}
}

func TestWhatARosterDeclares(t *testing.T) {
	text := "# all of it\nvigila: cluster/v1\nname: quay\nlabels: {tier: rehearsal}\nnamespaces: [a, b]\n---\nvigila: repo/v1\nname: settings\nurl: https://git.brindle.example/settings.git\nfollow: [submodules]\n---\n" +
		"vigila: roster/v1\nname: team\nfrom: {path: team}\nlimits: {namespaces: [a], as: deployer}\n---\nvigila: ward/v1\nname: w\nfrom: {path: app}\ninto: {cluster: quay}\n"
	require.True(t, IsRoster([]byte(text)))
	d, err := ParseDeclared(From{Repo: "moorings", Ref: "main"}, "all.yaml", []byte(text))
	require.NoError(t, err)
	assert.Equal(t, []Cluster{{Name: "quay", Labels: map[string]string{"tier": "rehearsal"}, Namespaces: []string{"a", "b"}, Line: 2}}, d.Clusters)
	assert.Equal(t, []Repo{{Name: "settings", URL: "https://git.brindle.example/settings.git", Follow: []string{"submodules"}, Line: 7}}, d.Repos)
	assert.Equal(t, []Roster{{Name: "team", From: From{Repo: "moorings", Ref: "main", Path: "team"}, Namespaces: []string{"a"}, As: "deployer", Line: 12}}, d.Rosters)
	require.Len(t, d.Wards, 1)
	assert.Equal(t, 17, d.Wards[0].Line, "lines are those of the whole file")
	for text, want := range map[string]string{
		"vigila: cluster/v1\nserver: x":               "all.yaml:2: unknown key server",
		"vigila: repo/v1\nname: a":                    "all.yaml:1: the repository has no url",
		"vigila: repo/v1\nname: a\npassword: x":       "unknown key password",
		"vigila: roster/v1\nname: A b":                `name: "A b" is not a name`,
		"vigila: lane/v1\nname: a":                    `the first key must be vigila: ward/v1, cluster/v1, repo/v1, roster/v1 or store/v1, not "lane/v1"`,
		"---\n\n---\nvigila: ward/v1\nname: a\nx: 1":  "all.yaml:6: unknown key x",
		"vigila: cluster/v1\nname: a\nnamespaces: []": "all.yaml:3: namespaces is empty",
		"vigila: cluster/v1\nname: [":                 "all.yaml:2: this is not valid YAML",
	} {
		_, err := ParseDeclared(From{}, "all.yaml", []byte(text))
		assert.ErrorContains(t, err, want)
	}
}

func TestDeclaredStores(t *testing.T) {
	d, err := ParseDeclared(From{Repo: "moorings"}, "stores.yaml", []byte(`vigila: store/v1
name: harbour
about: What services sign in with.
every: 30s
url: https://secrets.brindle.example
mount: kv/harbour
sign_in: role
role: 8f2c0d1e
for: {owners: [signals], clusters: [quay]}
---
vigila: store/v1
name: vault
namespace: quay/harbour-secrets
---
vigila: store/v1
name: sealed
files: moorings/deep/secrets
ref: main
`))
	require.NoError(t, err)
	assert.Equal(t, []Store{{Name: "harbour", About: "What services sign in with.", Every: 30 * time.Second, URL: "https://secrets.brindle.example", Mount: "kv/harbour", SignIn: "role", Role: "8f2c0d1e", Owners: []string{"signals"}, Clusters: []string{"quay"}, Line: 1},
		{Name: "vault", Cluster: "quay", Namespace: "harbour-secrets", Line: 11}, {Name: "sealed", Repo: "moorings", Dir: "deep/secrets", Ref: "main", Line: 15}}, d.Stores)
	for text, want := range map[string]string{
		"name: a\n": "s.yaml:1: say where the store is, once",
		"name: a\nurl: https://a.example\nfiles: b/c\n":        "say where the store is, once",
		"name: a\nnamespace: quay\n":                           `s.yaml:3: namespace is "quay"; write CLUSTER/NAMESPACE`,
		"name: a\nnamespace: quay/a\nmount: x\n":               "mount, ca, server_namespace, sign_in, sign_in_at and role belong to a server",
		"name: a\nurl: https://a.example\ntoken: x\n":          "s.yaml:4: unknown key token",
		"name: a\nurl: https://a.example\nsign_in: password\n": "sign_in",
		"name: a\nurl: https://a.example\nevery: 1s\n":         "every",
		"url: https://a.example\n":                             "the store has no name",
		"name: a\nurl: https://a.example\nfor: {owner: [b]}\n": "unknown key for.owner",
		"name: a\nurl: https://a.example\nref: main\n":         "ref belongs to files",
	} {
		_, err := ParseDeclared(From{Repo: "moorings"}, "s.yaml", []byte("vigila: store/v1\n"+text))
		assert.ErrorContains(t, err, want, text)
	}
}
