package follow

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const whole = "vigila: follow/v1\nname: fare-gate\nimage: registry.brindle.example/fare-gate\nversions: \">=2.8 <3\"\nplatforms: [linux/amd64]\nat_least_old: 2h\ninto: {file: services/fare-gate/versions.yaml}\n"

func rule(t *testing.T, text string) Rule {
	t.Helper()
	all, err := Parse("moorings", "main", "f.yaml", []byte(text))
	require.NoError(t, err)
	require.Len(t, all, 1)
	return all[0]
}

func TestAFollow(t *testing.T) {
	r := rule(t, whole)
	assert.Equal(t, Rule{Name: "fare-gate", Image: "registry.brindle.example/fare-gate", Range: ">=2.8 <3", Platforms: []string{"linux/amd64"}, AtLeastOld: 2 * time.Hour, Repo: "moorings", Ref: "main", Into: "services/fare-gate/versions.yaml", By: ByCommit, Every: 5 * time.Minute, File: "f.yaml", Line: 1}, r)
	assert.Equal(t, []string{"registry.brindle.example", "fare-gate", ">=2.8 <3"}, []string{r.Host(), r.Path(), r.Wants()})
	r.Image = "horn"
	assert.Equal(t, []string{"index.docker.io", "library/horn"}, []string{r.Host(), r.Path()})
	assert.True(t, Is([]byte(whole)))
	assert.True(t, json.Valid(Schema))
	all, err := Parse("m", "main", "f.yaml", []byte(whole+"---\n"+whole))
	require.NoError(t, err)
	assert.Equal(t, 9, all[1].Line)
}

func TestMistakesOfAFollow(t *testing.T) {
	const head = "vigila: follow/v1\nname: a\nimage: a.example/x\ninto: {file: v.yaml}\n"
	for name, c := range map[string]struct{ text, want string }{
		"another format":      {"vigila: follow/v2\nname: a\nimage: a.example/x\nversions: \">1\"\ninto: {file: v.yaml}\n", "the first key must be vigila: follow/v1"},
		"no name":             {"vigila: follow/v1\nimage: a.example/x\nversions: \">1\"\ninto: {file: v.yaml}\n", `name is ""`},
		"no versions":         {head, "versions is missing"},
		"no range":            {head + "versions: new\n", `f.yaml:5: versions: "new" is no range of versions`},
		"no expression":       {head + "versions: {match: \"(\", order: text}\n", `versions.match is "("; write a regular expression`},
		"no order":            {head + "versions: {match: a}\n", `versions.order is ""; write number (of the first group), time (since when they are there) or text`},
		"a number of nothing": {head + "versions: {match: a, order: number}\n", "versions.match has no group that is the number"},
		"an image with a tag": {"vigila: follow/v1\nname: a\nimage: a.example/x:1\nversions: \">1\"\ninto: {file: v.yaml}\n", "f.yaml:3: image is \"a.example/x:1\", which is no name of an image's repository; write it without tag and digest"},
		"nowhere":             {"vigila: follow/v1\nname: a\nimage: a.example/x\nversions: \">1\"\n", "into.file is missing"},
		"out of the way":      {"vigila: follow/v1\nname: a\nimage: a.example/x\nversions: \">1\"\ninto: {file: ../v.yaml}\n", "which is no path below the root"},
		"into git":            {"vigila: follow/v1\nname: a\nimage: a.example/x\nversions: \">1\"\ninto: {file: .git/config}\n", "which is no path below the root"},
		"a platform":          {head + "versions: \">1\"\nplatforms: [amd64]\n", `platforms: "amd64" is none`},
		"too often":           {head + "versions: \">1\"\nevery: 1s\n", `every is "1s"; write a time such as 5m or 2h, at least 10s`},
		"a slip":              {head + "versions: \">1\"\nevry: 1m\n", "f.yaml:6: unknown key evry; did you mean every?"},
		"twice":               {head + "versions: \">1\"\nname: b\n", "name is given twice"},
		"a list":              {"- a\n", "a follow must be a mapping of keys"},
		"both":                {head + "versions: \">1\"\nchart: {repo: charts, name: a}\n", "there is an image and a chart"},
		"half a chart":        {"vigila: follow/v1\nname: a\nchart: {name: gates}\nversions: \">1\"\ninto: {file: v.yaml}\n", "f.yaml:3: chart needs a repo, a known chart repository, and the name of a chart in it"},
		"a chart's platforms": {"vigila: follow/v1\nname: a\nchart: {repo: charts, name: gates}\nplatforms: [linux/amd64]\nversions: \">1\"\ninto: {file: v.yaml}\n", "f.yaml:4: a chart has no platforms"},
		"by nobody":           {head + "versions: \">1\"\nby: magic\n", `by is "magic"; write commit`},
	} {
		_, err := Parse("moorings", "main", "f.yaml", []byte(c.text))
		assert.ErrorContains(t, err, c.want, name)
	}
}

func TestTheNewestGoesFirst(t *testing.T) {
	r := rule(t, whole)
	fits, beyond := r.Sorted([]string{"latest", "2.8", "2.7.9", "2.10.0", "2.9.1", "3.0.0", "3.1.0-rc.1", "2.8.1_x1", "2.9.1-rc.2", "v2.8.4"})
	assert.Equal(t, []string{"2.10.0", "2.9.1", "v2.8.4", "2.8.1_x1", "2.8"}, fits, "no release candidates, unless the range names one")
	assert.Equal(t, "3.0.0", beyond)
	_, beyond = r.Sorted([]string{"2.9.0", "1.0.0"})
	assert.Empty(t, beyond, "what is older is nothing to tell")

	number := rule(t, "vigila: follow/v1\nname: a\nimage: a.example/x\nversions: {match: \"^main-(\\\\d+)$\", order: number}\ninto: {file: v.yaml}\n")
	fits, _ = number.Sorted([]string{"main-9", "main-10", "main-123456789012345678901234567890", "main-x", "main-10-rc"})
	assert.Equal(t, []string{"main-123456789012345678901234567890", "main-10", "main-9"}, fits)
	text := rule(t, "vigila: follow/v1\nname: a\nimage: a.example/x\nversions: {match: \"^2026\", order: text}\ninto: {file: v.yaml}\n")
	fits, _ = text.Sorted([]string{"2026-11-02", "2026-11-26", "2025-01-01"})
	assert.Equal(t, []string{"2026-11-26", "2026-11-02"}, fits)
}

func TestWhyAVersionIsNotTaken(t *testing.T) {
	r := rule(t, whole)
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	amd := []string{"linux/amd64", "linux/arm64/v8"}
	for name, c := range map[string]struct {
		facts Facts
		seen  Seen
		want  string
		wait  time.Time
	}{
		"it may be":                          {Facts{Platforms: amd}, Seen{At: now.Add(-3 * time.Hour)}, "", time.Time{}},
		"another platform":                   {Facts{Platforms: []string{"linux/arm64"}}, Seen{At: now.Add(-3 * time.Hour)}, "it is not there for linux/amd64; it has linux/arm64", time.Time{}},
		"no platform":                        {Facts{}, Seen{At: now.Add(-3 * time.Hour)}, "it says none", time.Time{}},
		"too new":                            {Facts{Platforms: amd}, Seen{At: now.Add(-time.Hour)}, "it is taken once it is 2 h old, at Nov 26 13:00 UTC", now.Add(time.Hour)},
		"too new, whatever its builder says": {Facts{Platforms: amd, Created: now.Add(-900 * time.Hour)}, Seen{At: now.Add(-time.Hour)}, "it is taken once it is 2 h old, at Nov 26 13:00 UTC", now.Add(time.Hour)},
		"there before anybody looked":        {Facts{Platforms: amd, Created: now.Add(-900 * time.Hour)}, Seen{At: now, Standing: true}, "", time.Time{}},
		"of tomorrow":                        {Facts{Platforms: amd, Created: now.Add(24 * time.Hour)}, Seen{At: now, Standing: true}, "it is taken once it is 2 h old, at Nov 26 14:00 UTC", now.Add(2 * time.Hour)},
	} {
		why, wait := r.Refuses(c.facts, c.seen, now)
		if c.want == "" {
			assert.Empty(t, why, name)
		}
		assert.Contains(t, why, c.want, name)
		assert.Equal(t, c.wait, wait, name)
	}
	r.Platforms = []string{"linux/arm64"}
	why, _ := r.Refuses(Facts{Platforms: amd}, Seen{At: now.Add(-3 * time.Hour)}, now)
	assert.Empty(t, why, "any variant of it")
}
