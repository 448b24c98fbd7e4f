package kit

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
)

const service = `vigila: kit/v1
name: web-service
about: A service with a route and a lane.
makes: {path: "services/${{ params.name }}"}
files:
  - {file: ward.yaml, to: "wards/${{ params.name }}.yaml"}
  - {file: route.yaml, when: params.route.public}
parameters:
  required: [name, owner]
  properties:
    name: {type: string, title: Name, pattern: "^[a-z-]+$", examples: [tide-table]}
    owner: {type: string, title: Owner, examples: [signals]}
    replicas: {type: integer, default: 2, minimum: 1}
    route:
      type: object
      properties:
        public: {type: boolean, default: true}
        host: {type: string, default: "${{ params.name }}.brindle.example"}
    address: {type: string, default: "${{ 'https://' + params.route.host }}"}
groups: [{title: What it is, of: [name, owner]}]
may: {clusters: {tier: rehearsal}}
links: {Site: "${{ params.address }}"}
`

func read(t *testing.T, text string) *Kit {
	t.Helper()
	k, err := Parse("kits/web/kit.yaml", []byte(text))
	require.NoError(t, err)
	return k
}

var files = []File{
	{"kits/web/kit.yaml", []byte(service)},
	{"kits/web/files/ward.yaml", []byte("vigila: ward/v1\nname: ${{ params.name }}\nowner: ${{ params.owner }}\n")},
	{"kits/web/files/deployment.yaml", []byte("# Of ${{ params.owner }}\nkind: Deployment\nspec:\n  replicas: ${{ params.replicas }} # as many as were asked for\n  paused: ${{ nothing }}\n  note: \"${{ params.name }}: ours\"\n")},
	{"kits/web/files/route.yaml", []byte("kind: Route\nhost: ${{ params.route.host }}\n")},
	{"kits/web/files/README.md", []byte("# ${{ params.name }}\n\nkept by ${{ params.owner }}\n")},
}

func TestWhatAKitMakes(t *testing.T) {
	k := read(t, service)
	assert.Equal(t, []string{"name", "owner", "replicas", "route", "address"}, k.Order)
	require.NoError(t, k.Probe(files))
	given := map[string]any{"name": "tide-table", "owner": "yes"}
	values, wrong, err := k.Complete(given)
	require.NoError(t, err)
	assert.Empty(t, wrong)
	assert.Equal(t, map[string]any{"name": "tide-table", "owner": "yes", "replicas": int64(2), "route": map[string]any{"public": true, "host": "tide-table.brindle.example"}, "address": "https://tide-table.brindle.example"}, values, "a default follows from one that follows from another")
	assert.Equal(t, map[string]any{"name": "tide-table", "owner": "yes"}, given, "what was given stays as it was")
	at := strings.Repeat("ab", 20)
	made, err := k.Make(values, given, files, at)
	require.NoError(t, err)
	got := map[string]string{}
	for _, f := range made.Files {
		got[f.Path] = string(f.Data)
	}
	assert.Equal(t, map[string]string{
		"wards/tide-table.yaml":               "vigila: ward/v1\nname: tide-table\nowner: \"yes\"\n",
		"services/tide-table/deployment.yaml": "# Of yes\nkind: Deployment\nspec:\n  replicas: 2 # as many as were asked for\n  note: 'tide-table: ours'\n",
		"services/tide-table/route.yaml":      "kind: Route\nhost: tide-table.brindle.example\n",
		"services/tide-table/README.md":       "# tide-table\n\nkept by yes\n",
		"services/tide-table/.made.yaml":      "# A kit made what is here. To change it by its form: vigila kit change services/tide-table\nvigila: made/v1\nkit: web-service\nat: " + at + "\nwith:\n  name: tide-table\n  owner: \"yes\"\n",
	}, got)
	assert.Equal(t, map[string]string{"Site": "https://tide-table.brindle.example"}, made.Links)
	back, err := ParseMade("services/tide-table/.made.yaml", []byte(got["services/tide-table/.made.yaml"]))
	require.NoError(t, err)
	assert.Equal(t, Made{Kit: "web-service", At: at, With: given, Path: "services/tide-table"}, back)

	values["route"] = map[string]any{"public": false}
	made, err = k.Make(values, given, files, at)
	require.NoError(t, err)
	for _, f := range made.Files {
		assert.NotContains(t, f.Path, "route")
	}
}

func TestAnchorsStay(t *testing.T) {
	k := read(t, service)
	one := func(text string) (string, error) {
		values, _, err := k.Complete(map[string]any{"name": "a", "owner": "b"})
		require.NoError(t, err)
		k.Files = nil
		made, err := k.Make(values, nil, []File{{"kits/web/files/x.yaml", []byte(text)}}, "")
		if err != nil {
			return "", err
		}
		return string(made.Files[1].Data), nil
	}
	got, err := one("a: &it ${{ params.name }}\nb: *it\n")
	require.NoError(t, err)
	assert.Equal(t, "a: &it a\nb: *it\n", got)
	_, err = one("a: &it ${{ nothing }}\nb: *it\n")
	assert.ErrorContains(t, err, "what is made of it is no YAML")
}

func TestWhatDoesNotFit(t *testing.T) {
	k := read(t, service)
	for _, c := range []struct {
		what  string
		given map[string]any
		want  []string
	}{
		{"nothing given", map[string]any{}, []string{"name is missing, and kit web-service needs it", "owner is missing, and kit web-service needs it"}},
		{"a mistyped name", map[string]any{"name": "a", "owner": "b", "replica": int64(3)}, []string{"replica: kit web-service takes none of that name; did you mean replicas?"}},
		{"within", map[string]any{"name": "a", "owner": "b", "route": map[string]any{"public": "yes"}}, []string{"route.public: got string, want boolean, says kit web-service"}},
		{"a pattern", map[string]any{"name": "A b", "owner": "b"}, []string{"name: 'A b' does not match pattern '^[a-z-]+$', says kit web-service"}},
	} {
		_, wrong, err := k.Complete(c.given)
		require.NoError(t, err, c.what)
		var got []string
		for _, m := range wrong {
			got = append(got, strings.Join(m.At, ".")+m.Text)
		}
		assert.Equal(t, c.want, got, c.what)
	}
}

func TestBadKits(t *testing.T) {
	with := func(old, now string) string { return strings.Replace(service, old, now, 1) }
	for _, c := range []struct{ file, text, want string }{
		{"kits/web/other.yaml", service, "a kit's file is called kit.yaml"},
		{"kit.yaml", service, "a kit needs a directory of its own"},
		{"k/kit.yaml", with("makes: {path: \"services/${{ params.name }}\"}", ""), "makes is missing"},
		{"k/kit.yaml", with("params.name }}\"}", "params.name \"}"), "${{ without }}"},
		{"k/kit.yaml", with("when: params.route.public", "when: params.route.("), "k/kit.yaml:7: when: "},
		{"k/kit.yaml", with("'https://' +", "https://' +"), "the default of address"},
		{"k/kit.yaml", with("services/${{ params.name }}", "services/${{ params.nmae }}"), "makes.path: ${{ params.nmae }}: there is no params.nmae; did you mean name?"},
		{"k/kit.yaml", with("'https://' + params.route.host", "'https://' + params.rout.host"), "the default of address: ${{ 'https://' + params.rout.host }}: there is no params.rout; did you mean route?"},
		{"k/kit.yaml", with("when: params.route.public", "when: has(params.rute)"), "k/kit.yaml:7: when: there is no params.rute; did you mean route?"},
		{"k/kit.yaml", with("of: [name, owner]", "of: [name, boss]"), "group What it is has boss, which is no parameter; they are: name, owner, replicas, route, address"},
		{"k/kit.yaml", with("type: integer", "type: whole"), "parameters: this is not a JSON Schema"},
		{"k/kit.yaml", with("    replicas:", "    no:"), "k/kit.yaml:13: a parameter can't be called no"},
		{"k/kit.yaml", with("about:", "abuot:"), "unknown key abuot; did you mean about?"},
		{"k/kit.yaml", service + "---\n" + service, "a kit's file holds one document"},
		{"k/kit.yaml", "vigila: kit/v1\nname: a\nswitch: {from: {path: x}}\nmakes: {path: y}\n", "a kit either makes files or is switched"},
		{"k/kit.yaml", "vigila: kit/v1\nname: a\nswitch: {from: {path: x}, into: {cluster: quay}}\n", "switch.into.cluster is not said here"},
		{"k/kit.yaml", "vigila: kit/v1\nname: a\nswitch: {into: {namespace: x}}\n", "switch.from is missing"},
	} {
		_, err := Parse(c.file, []byte(c.text))
		assert.ErrorContains(t, err, c.want)
	}
	k := read(t, service)
	assert.ErrorContains(t, k.Probe(files[:1]), "there is no file ward.yaml below kits/web/files")
	assert.ErrorContains(t, k.Probe([]File{files[1], files[3], {"kits/web/files/x.yaml", []byte("a: 1\nb: ${{ params.onwer }}\n")}}), "kits/web/files/x.yaml:2: ${{ params.onwer }}: there is no params.onwer; did you mean owner?")
	assert.ErrorContains(t, k.Probe([]File{files[1], files[3], {"kits/web/files/x.yaml", []byte("a: 1\nb: ${{ parms.name }}\n")}}), "kits/web/files/x.yaml:2: ${{ parms.name }}: undeclared reference to 'parms'")
}

func TestNothingIsMadeOutsideTheRepository(t *testing.T) {
	for _, name := range []string{"../../etc", "a/../../b", ".git", "/", "a//b", "..", "x/.GIT/hooks", "a\nb", "a\tb", "a\u202eb", "a\\b", "a\xffb", "a\x00"} {
		k := read(t, strings.Replace(service, `pattern: "^[a-z-]+$", `, "", 1))
		k.Makes.Path = "${{ params.name }}"
		values, wrong, err := k.Complete(map[string]any{"name": name, "owner": "a"})
		require.NoError(t, err)
		require.Empty(t, wrong)
		_, err = k.Make(values, nil, files, "")
		assert.ErrorContains(t, err, "which is no path of a file in a repository", name)
	}
	k := read(t, strings.Replace(service, "wards/${{ params.name }}.yaml", "services/${{ params.name }}/deployment.yaml", 1))
	values, _, err := k.Complete(map[string]any{"name": "a", "owner": "a"})
	require.NoError(t, err)
	_, err = k.Make(values, nil, files, "")
	assert.ErrorContains(t, err, "would both be services/a/deployment.yaml")
}

const metrics = "vigila: kit/v1\nname: metrics\nabout: Numbers.\nowner: harbour-ops\nswitch:\n  needs: [certificates]\n  from: {path: components/metrics}\n  into: {namespace: metrics}\nparameters: {properties: {days: {type: integer, default: 7}}}\n"
const certificates = "vigila: kit/v1\nname: certificates\nswitch: {from: {path: components/certificates}}\n"

func TestComponents(t *testing.T) {
	kits := []*Kit{read(t, metrics), read(t, certificates), read(t, service)}
	wards := func(text string) (string, error) {
		all, err := ParseComponents("c.yaml", []byte(text))
		require.NoError(t, err)
		var out []string
		var errs []string
		for _, c := range all {
			made, err := c.Wards(kits)
			if err != nil {
				errs = append(errs, err.Error())
			}
			for _, w := range made {
				out = append(out, string(w.Text))
			}
		}
		if len(errs) > 0 {
			return strings.Join(out, "---\n"), assert.AnError
		}
		return strings.Join(out, "---\n"), nil
	}
	head := "vigila: components/v1\nname: quay\ncomponents:\n"
	got, err := wards(head + "  metrics: {use: true, with: {days: 3}}\n  certificates: {use: true}\n")
	require.NoError(t, err)
	assert.Equal(t, "vigila: ward/v1\nabout: Numbers.\nafter:\n  - certificates-quay\nfrom:\n  path: components/metrics\n  values:\n    days: 3\ninto:\n  cluster: quay\n  namespace: metrics\nname: metrics-quay\nowner: harbour-ops\n---\nvigila: ward/v1\nabout: \"\"\nfrom:\n  path: components/certificates\ninto:\n  cluster: quay\nname: certificates-quay\n", got)
	got, err = wards("vigila: components/v1\nname: rehearsal\nclusters: {tier: rehearsal}\ncomponents:\n  certificates: {use: true}\n  metrics: {use: false, with: {days: 1}}\n")
	require.NoError(t, err)
	assert.Contains(t, got, "clusters:\n    tier: rehearsal\nname: certificates-rehearsal\n")
	assert.NotContains(t, got, "metrics")

	kits[1].Clusters = map[string]string{"sound": "brindle"}
	got, err = wards("vigila: components/v1\nname: rehearsal\nclusters: {tier: rehearsal}\ncomponents:\n  certificates: {use: true}\n")
	require.NoError(t, err)
	assert.Contains(t, got, "clusters:\n    sound: brindle\n    tier: rehearsal\n", "into those of them alone that the kit is for")
	_, err = wards("vigila: components/v1\nname: rehearsal\nclusters: {sound: other}\ncomponents:\n  certificates: {use: true}\n")
	assert.Error(t, err)
	kits[1].Clusters = nil

	for _, c := range []struct{ text, want string }{
		{"  metrics: {use: true}\n", "c.yaml:4: metrics needs certificates, which is off here"},
		{"  metric: {use: true}\n", "there is no kit metric that can be switched; did you mean metrics?"},
		{"  web-service: {use: true}\n", "there is no kit web-service that can be switched"},
		{"  certificates: {use: true}\n  metrics: {use: true, with: {days: many}}\n", "c.yaml:5: components.metrics.with.days: got string, want integer"},
		{"  certificates: {use: true, with: {a: 1}}\n", "kit certificates has no parameters"},
	} {
		all, err := ParseComponents("c.yaml", []byte(head+c.text))
		require.NoError(t, err, c.text)
		_, err = all[0].Wards(kits)
		assert.ErrorContains(t, err, c.want)
	}
	for text, want := range map[string]string{
		head + "  metrics: {}\n": "say whether it is on", head + "  metrics: {use: perhaps}\n": "true or false", head + "  metrics: on\n": "must be a mapping",
		"vigila: components/v1\nname: quay\nclusters: {}\ncomponents: {}\n": "clusters is empty",
	} {
		_, err := ParseComponents("c.yaml", []byte(text))
		assert.ErrorContains(t, err, want)
	}
}

func TestTurningOneLeavesTheRest(t *testing.T) {
	text := "# ours\nvigila: components/v1\nname: quay\ncomponents:\n  # numbers\n  metrics: {use: true, with: {days: 3}} # three will do\n  certificates: {use: true}\n---\nvigila: components/v1\nname: skerry\ncomponents:\n  metrics: {use: false}\n"
	got, err := Turn("c.yaml", []byte(text), "quay", "metrics", false, map[string]any{"days": int64(3)})
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(text, "metrics: {use: true", "metrics: {use: false", 1), string(got))
	got, err = Turn("c.yaml", []byte(text), "skerry", "logs", true, map[string]any{"to": "a b"})
	require.NoError(t, err)
	assert.Equal(t, text+"  logs: {use: true, with: {to: a b}}\n", string(got))
	got, err = Turn("c.yaml", nil, "holm", "logs", true, nil)
	require.NoError(t, err)
	assert.Equal(t, "# Which components are on in holm. The form writes this file, and so may you.\nvigila: components/v1\nname: holm\ncomponents:\n  logs: {use: true}\n", string(got))
	_, err = Turn("c.yaml", []byte(text), "holm", "logs", true, nil)
	assert.ErrorContains(t, err, "it switches nothing in holm")
}

// FuzzMake: whatever somebody gives, what a kit makes is YAML that says just that.
func FuzzMake(f *testing.F) {
	f.Add("a: b", "x\ny")
	f.Add("#", "- ")
	f.Add("'\"", "\u2028 ${{")
	f.Fuzz(func(t *testing.T, name, owner string) {
		if !utf8.ValidString(name) || !utf8.ValidString(owner) {
			return // JSON and YAML, that values come by, hold no such text
		}
		k, err := Parse("kits/web/kit.yaml", []byte(strings.Replace(service, `pattern: "^[a-z-]+$", `, "", 1)))
		if err != nil {
			t.Fatal(err)
		}
		k.Makes.Path = "services/x"
		k.Files[0].To = "w.yaml"
		given := map[string]any{"name": name, "owner": owner}
		values, _, err := k.Complete(given)
		if err != nil {
			return
		}
		made, err := k.Make(values, given, files, strings.Repeat("a", 40))
		if err != nil {
			return
		}
		for _, x := range made.Files {
			if x.Path == "w.yaml" {
				v, err := object.DecodeYAML(x.Path, object.Split(x.Data)[0])
				require.NoError(t, err, "%s", x.Data)
				assert.Equal(t, map[string]any{"vigila": "ward/v1", "name": name, "owner": owner}, v, "%s", x.Data)
			}
			if x.Path == "services/x/.made.yaml" {
				back, err := ParseMade(x.Path, x.Data)
				if err == nil {
					assert.Equal(t, given, back.With, "%s", x.Data)
				}
			}
		}
	})
}

// TestDefaultsThatFollowFromEachOther are so many at most: each round tells one more, and asks all of the others.
func TestDefaultsThatFollowFromEachOther(t *testing.T) {
	chain := func(n int) *Kit {
		text := "vigila: kit/v1\nname: chain\nabout: a\nowner: signals\nmakes: {path: x}\nparameters:\n  properties:\n"
		for i := range n {
			text += fmt.Sprintf("    p%03d: {type: string, default: \"${{ params.p%03d }}\"}\n", i, i+1)
		}
		return read(t, text+fmt.Sprintf("    p%03d: {type: string}\n", n))
	}
	values, _, err := chain(maxFollowing).Complete(map[string]any{fmt.Sprintf("p%03d", maxFollowing): "tide"})
	require.NoError(t, err)
	assert.Equal(t, "tide", values["p000"])
	_, _, err = chain(maxFollowing + 1).Complete(map[string]any{})
	assert.ErrorContains(t, err, "kit chain has 201 parameters whose defaults follow from others; at most 200 may")
}
