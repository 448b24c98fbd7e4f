package document

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/core/object"
)

func TestEveryMistakeHasItsLine(t *testing.T) {
	type thing struct {
		name  string
		after []string
	}
	read := func(text string) (out []thing, err error) {
		err = Each("f.yaml", []byte(text), func(d *Reader, root *yaml.Node) {
			var x thing
			d.Keys(root, "a thing", map[string]func(*yaml.Node){"name": d.Text(&x.name, "name"), "after": d.Texts(&x.after, "after")})
			if d.Good() {
				out = append(out, x)
			}
		})
		return out, err
	}
	all, err := read("name: a\nafter: [b, c]\n---\nname: d\n")
	assert.NoError(t, err)
	assert.Equal(t, []thing{{"a", []string{"b", "c"}}, {"d", nil}}, all)
	all, err = read("name: good\n---\nnam: a\nname: [b]\n---\nname: a\nname: b\nafter: c\n---\nafter: [{}]\n---\n- a\n---\n\tx\n")
	assert.Equal(t, []thing{{"good", nil}}, all, "the others are read all the same")
	for _, want := range []string{"f.yaml:3: unknown key nam; did you mean name?", "f.yaml:4: name must be a text", "f.yaml:7: name is given twice", "f.yaml:8: after must be a list", "f.yaml:10: after must be a list of texts", "f.yaml:12: a thing must be a mapping of keys", "f.yaml:14"} {
		assert.ErrorContains(t, err, want)
	}
}

// TestAFileOfMistakes is told of in short, and at once: nobody reads a million mistakes, and each took its time.
func TestAFileOfMistakes(t *testing.T) {
	var keys strings.Builder
	for i := range 300_000 {
		fmt.Fprintf(&keys, "key-%d: x\n", i)
	}
	few := strings.SplitAfterN(keys.String(), "\n", object.MostEntries+1)
	for name, c := range map[string]struct{ text, want string }{
		"keys":                          {strings.Join(few[:object.MostEntries], ""), "there are more mistakes"},
		"very many keys":                {keys.String(), "this has 300000 entries; a list or a mapping of such a file may have 10000"},
		"documents":                     {strings.Repeat("nope: x\n---\n", 9_000), "there are more mistakes"},
		"too many":                      {strings.Repeat("nope: x\n---\n", 100_000), "this file has 100000 documents; one of its kind may have 10000"},
		"a mapping where there is none": {"well: {" + strings.ReplaceAll(strings.Join(few[:object.MostEntries], ""), "\n", ", ") + "}\n", "well is true or false"},
	} {
		text := c.text
		err := Each("a.yaml", []byte(text), func(d *Reader, root *yaml.Node) {
			well := false
			d.Keys(root, "this", map[string]func(*yaml.Node){"name": d.Text(new(string), "name"), "well": d.Truth(&well, "well")})
		})
		require.ErrorContains(t, err, c.want, name)
		assert.Less(t, len(err.Error()), 50_000, name)
	}
}
