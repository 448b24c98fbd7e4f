package versions

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"sigs.k8s.io/yaml"

	"vigila.dev/vigila/internal/core/object"
)

var digest = "sha256:" + strings.Repeat("0a", 32)

func parsed(t *testing.T, text string) *File {
	t.Helper()
	f, err := Parse("v.yaml", []byte("vigila: versions/v1\n"+text))
	require.NoError(t, err)
	return f
}

func TestAVersionsFile(t *testing.T) {
	f := parsed(t, "about: of the gates\nimages:\n  registry.brindle.example/fare-gate: {tag: 2.8.1, digest: \""+digest+"\"}\n  horn: 1.2\ncharts: {gates: 1.4.2}\npaths: [{of: Berth.harbour.brindle.example, at: [spec.image, \"spec.workers[].image\"]}]\n")
	assert.Equal(t, Image{Tag: "2.8.1", Digest: digest, File: "v.yaml", Line: 4}, f.Images["registry.brindle.example/fare-gate"])
	assert.Equal(t, Image{Tag: "1.2", File: "v.yaml", Line: 5}, f.Images["horn"], "a tag that looks like a number is one")
	assert.Equal(t, Chart{"1.4.2", "v.yaml", 6}, f.Charts["gates"])
	assert.Equal(t, []Path{{"harbour.brindle.example", "Berth", []string{"spec", "image"}}, {"harbour.brindle.example", "Berth", []string{"spec", "workers[]", "image"}}}, f.Paths)
	assert.True(t, Is([]byte("vigila: versions/v1\n")))
	assert.True(t, json.Valid(Schema))
}

func TestMistakesInAVersionsFile(t *testing.T) {
	const head = "vigila: versions/v1\n"
	for name, c := range map[string]struct{ text, want string }{
		"nothing":                 {"", "v.yaml:1: the file is empty"},
		"two documents":           {head + "---\n" + head, "v.yaml:3: a versions file has one document"},
		"another format":          {"vigila: versions/v2\n", `the first key must be vigila: versions/v1, not "versions/v2"`},
		"an unknown key":          {head + "image: {}\n", "v.yaml:2: unknown key image; did you mean images?"},
		"no YAML":                 {head + "images: [\n", "v.yaml:"},
		"a list":                  {head + "images: [a]\n", "v.yaml:2: images must be a mapping of keys"},
		"a tag in the name":       {head + "images: {\"a.example/x:1\": 2}\n", `v.yaml:2: images: "a.example/x:1" is no name of an image's repository; write it without tag and digest`},
		"a digest in the name":    {head + "images: {\"a.example/x@" + digest + "\": 2}\n", "write it without tag and digest"},
		"neither":                 {head + "images:\n  a.example/x: {}\n", "v.yaml:3: images.a.example/x has neither a tag nor a digest"},
		"no tag":                  {head + "images: {a.example/x: a b}\n", `images.a.example/x.tag: "a b" is no tag`},
		"no digest":               {head + "images: {a.example/x: {digest: \"sha256:12\"}}\n", `images.a.example/x.digest: "sha256:12" is no digest`},
		"a slip":                  {head + "images: {a.example/x: {digst: 1}}\n", "unknown key images.a.example/x.digst; did you mean digest?"},
		"twice":                   {head + "images:\n  a.example/x: 1\n  a.example/x: 2\n", "v.yaml:4: images.a.example/x is given twice; it is already at line 3"},
		"twice by another name":   {head + "images:\n  horn: 1\n  docker.io/library/horn: 2\n", "v.yaml:4: images.docker.io/library/horn is the same image as horn at line 3"},
		"a chart without":         {head + "charts: {gates: }\n", "charts.gates has no version"},
		"a place of nothing":      {head + "paths: [{at: spec.image}]\n", "each entry of paths needs of: Kind.group"},
		"a place that is none":    {head + "paths: [{of: Berth.x, at: spec..image}]\n", `paths.at: "spec..image" is no place`},
		"places that are no list": {head + "paths: {of: Berth.x, at: spec.image}\n", "v.yaml:2: paths must be a list"},
	} {
		_, err := Parse("v.yaml", []byte(c.text))
		assert.ErrorContains(t, err, c.want, name)
	}
}

func TestEveryImageGetsItsVersion(t *testing.T) {
	f := parsed(t, "images:\n  a.example/gate: {tag: 2.8.1, digest: \""+digest+"\"}\n  horn: 3\n  a.example:5000/tide: {digest: \""+digest+"\"}\npaths: [{of: Berth.harbour.brindle.example, at: [spec.image, \"spec.workers[].image\"]}]\n")
	gate := "a.example/gate:2.8.1@" + digest
	for name, c := range map[string]struct{ text, want string }{
		"a Deployment": {"apiVersion: apps/v1\nkind: Deployment\nmetadata: {name: x}\nspec: {template: {spec: {initContainers: [{image: \"horn:1\"}], containers: [{image: \"a.example/gate:1@sha256:00\"}, {image: \"b.example/gate:1\"}], volumes: [{name: v, image: {reference: a.example/gate}}]}}}",
			`{containers: [{image: "` + gate + `"}, {image: "b.example/gate:1"}], initContainers: [{image: "horn:3"}], volumes: [{image: {reference: "` + gate + `"}, name: v}]}`},
		"a CronJob": {"apiVersion: batch/v1\nkind: CronJob\nmetadata: {name: x}\nspec: {jobTemplate: {spec: {template: {spec: {containers: [{image: \"a.example:5000/tide\"}], ephemeralContainers: [{image: \"docker.io/library/horn\"}]}}}}}",
			`{containers: [{image: "a.example:5000/tide@` + digest + `"}], ephemeralContainers: [{image: "docker.io/library/horn:3"}]}`},
		"a kind of one's own": {"apiVersion: harbour.brindle.example/v1\nkind: Berth\nmetadata: {name: x}\nspec: {image: \"horn:1\", workers: [{image: \"horn:1\"}, {name: y}], other: \"horn:1\"}",
			`{image: "horn:3", workers: [{image: "horn:3"}, {name: y}], other: "horn:1"}`},
		"a path of another kind": {"apiVersion: harbour.brindle.example/v1\nkind: Boat\nmetadata: {name: x}\nspec: {image: \"horn:1\"}", `{image: "horn:1"}`},
	} {
		all, err := object.Parse("a.yaml", []byte(c.text))
		require.NoError(t, err, name)
		f.Lay(all)
		var want any
		require.NoError(t, yaml.Unmarshal([]byte(c.want), &want), name)
		got := all[0].Body["spec"].(map[string]any)
		for _, key := range []string{"jobTemplate", "spec", "template", "spec"} {
			if m, is := got[key].(map[string]any); is {
				got = m
			}
		}
		assert.Equal(t, object.Hash(want), object.Hash(got), "%s: %v", name, got)
	}
	assert.Empty(t, f.Lay(nil))
}

func TestTheLastFileIsOnTop(t *testing.T) {
	f := Over(parsed(t, "images: {horn: 1, tide: 1}\ncharts: {gates: 1.0.0}\n"), parsed(t, "images: {docker.io/library/horn: 2}\ncharts: {gates: 1.1.0}\n"))
	im, written, ok := f.Find("horn")
	assert.Equal(t, []any{"2", "docker.io/library/horn", true}, []any{im.Tag, written, ok})
	assert.Equal(t, "1", f.Images["tide"].Tag)
	assert.Equal(t, "1.1.0", f.Charts["gates"].Version)
	_, _, ok = f.Find("b.example/horn")
	assert.False(t, ok)
}

func TestAnImageIsTakenApart(t *testing.T) {
	for image, want := range map[string][3]string{
		"horn":                       {"horn", "", ""},
		"horn:1":                     {"horn", "1", ""},
		"a.example:5000/horn":        {"a.example:5000/horn", "", ""},
		"a.example:5000/x/horn:1@d:": {"a.example:5000/x/horn", "1", "d:"},
	} {
		repository, tag, digest := Split(image)
		assert.Equal(t, want, [3]string{repository, tag, digest}, image)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("images: {horn: 1}")
	f.Add("paths: [{of: A.b, at: [a[].b]}]")
	f.Fuzz(func(t *testing.T, text string) {
		file, err := Parse("v.yaml", []byte("vigila: versions/v1\n"+text))
		if err == nil {
			file.Lay([]object.Object{{Ref: object.Ref{Kind: "Pod"}, Body: map[string]any{"spec": map[string]any{"containers": []any{map[string]any{"image": "horn:1"}}}}}})
		}
	})
}

func TestAVersionIsWritten(t *testing.T) {
	for name, c := range map[string]struct{ before, want string }{
		"a new file": {"", "vigila: versions/v1\nimages:\n  a.example/gate: {tag: 2.9.0, digest: '" + digest + "'}\n"},
		"a change": {"# ours\nvigila: versions/v1\n# the gates\nimages:\n  # till spring\n  a.example/gate: {tag: 2.8.1} # since May\n  horn: 1.2\ncharts: {gates: 1.0.0}\n",
			"# ours\nvigila: versions/v1\n# the gates\nimages:\n  # till spring\n  a.example/gate: {tag: 2.9.0, digest: '" + digest + "'} # since May\n  horn: 1.2\ncharts: {gates: 1.0.0}\n"},
		"one more":    {"vigila: versions/v1\nimages: {horn: 1.2}\n", "vigila: versions/v1\nimages:\n  horn: 1.2\n  a.example/gate: {tag: 2.9.0, digest: '" + digest + "'}\n"},
		"the first":   {"vigila: versions/v1\ncharts: {gates: 1.0.0}\n", "vigila: versions/v1\ncharts: {gates: 1.0.0}\nimages:\n  a.example/gate: {tag: 2.9.0, digest: '" + digest + "'}\n"},
		"a plain tag": {"vigila: versions/v1\nimages:\n  a.example/gate: 2.8.1\n", "vigila: versions/v1\nimages:\n  a.example/gate: {tag: 2.9.0, digest: '" + digest + "'}\n"},
	} {
		out, err := Set("v.yaml", []byte(c.before), "a.example/gate", Image{Tag: "2.9.0", Digest: digest})
		require.NoError(t, err, name)
		assert.Equal(t, strings.ReplaceAll(c.want, "'"+digest+"'", digest), strings.NewReplacer("'"+digest+"'", digest, `"`+digest+`"`, digest).Replace(string(out)), name)
	}
	out, err := Set("v.yaml", []byte("vigila: versions/v1\nimages: {horn: 1.2}\n"), "docker.io/library/horn", Image{Tag: "1.10"})
	require.NoError(t, err)
	f, err := Parse("v.yaml", out)
	require.NoError(t, err)
	assert.Equal(t, "1.10", f.Images["horn"].Tag, "under the name that is there, and a text that looks like a number is one")
	for before, want := range map[string]string{
		"": "vigila: versions/v1\ncharts:\n  gates: 1.4.2\n",
		"vigila: versions/v1\ncharts:\n  gates: 1.0.0 # since May\n  horn: 1.0.0\n": "vigila: versions/v1\ncharts:\n  gates: 1.4.2 # since May\n  horn: 1.0.0\n",
		"vigila: versions/v1\nimages: {horn: 1.2}\n":                                "vigila: versions/v1\nimages: {horn: 1.2}\ncharts:\n  gates: 1.4.2\n",
	} {
		out, err := SetChart("v.yaml", []byte(before), "gates", "1.4.2")
		require.NoError(t, err)
		assert.Equal(t, want, string(out))
	}
	_, err = SetChart("v.yaml", []byte("vigila: versions/v1\ncharts: []\n"), "gates", "1.4.2")
	assert.ErrorContains(t, err, "v.yaml:2")
	_, err = Set("v.yaml", []byte("vigila: versions/v1\nimages: {a: {}}\n"), "a", Image{Tag: "1"})
	assert.ErrorContains(t, err, "v.yaml:2: images.a has neither", "a file with mistakes is left alone")
}

func TestAVersionIsTakenAway(t *testing.T) {
	const text = "vigila: versions/v1\nimages:\n  # the gates\n  a.example/gate: 1.0\n  b: {tag: 2.0} # why\ncharts: {gates: 1.4.2, piers: 2}\n"
	out, err := Unset("v.yaml", []byte(text), "docker.io/library/b")
	require.NoError(t, err)
	f, err := Parse("v.yaml", out)
	require.NoError(t, err)
	assert.Len(t, f.Images, 1, "the same image by another name")
	assert.Contains(t, string(out), "# the gates")
	out, err = UnsetChart("v.yaml", out, "gates")
	require.NoError(t, err)
	assert.NotContains(t, string(out), "gates:")
	assert.Contains(t, string(out), "piers: 2")
	same, err := Unset("v.yaml", out, "none")
	require.NoError(t, err)
	assert.Equal(t, string(out), string(same))
	_, err = Unset("v.yaml", []byte("images: 1"), "a")
	require.Error(t, err)
}
