package ward

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/core/object"
)

const whole = `vigila: ward/v1
name: berth-planner
about: Assigns incoming ferries to berths.
owner: harbour-ops
from: {repo: moorings, ref: main, path: ./services/berth-planner/}
into: {cluster: quay, namespace: berth-planner, create_namespace: true}
keep: {sync: auto, drift: restore, prune: false, every: 90s, additions: remove, reapply: true, newer: replace, take_over: [old-tool]}
settle: {within: 3m, otherwise: stop}
after: [platform-base]
leave:
  - {of: Deployment/berth-*, fields: [/spec/replicas]}
links: {Runbook: "https://docs.brindle.example/berths"}
`

func TestParseReadsEveryKey(t *testing.T) {
	all, err := Parse("w.yaml", []byte(whole))
	require.NoError(t, err)
	require.Len(t, all, 1)
	w := all[0]
	assert.Equal(t, From{Repo: "moorings", Ref: "main", Path: "services/berth-planner"}, w.From)
	assert.Equal(t, Into{Cluster: "quay", Namespace: "berth-planner", CreateNamespace: true}, w.Into)
	assert.Equal(t, Keep{Sync: "auto", Drift: "restore", Prune: false, Additions: "remove", Every: 90 * time.Second, Reapply: true, OnRemoval: "leave", Newer: "replace", Restart: "never", TakeOver: []string{"old-tool"}}, w.Keep)
	assert.Equal(t, Settle{Within: 3 * time.Minute, Otherwise: "stop"}, w.Settle)
	assert.Equal(t, []string{"platform-base"}, w.After)
	assert.Len(t, w.Left(object.Ref{Kind: "Deployment", Name: "berth-planner"}), 1)
	assert.Empty(t, w.Left(object.Ref{Kind: "Service", Name: "berth-planner"}))
	any := Leave{Kind: "*", Name: "berth-?"}
	assert.True(t, any.Matches(object.Ref{Kind: "Service", Name: "berth-a"}), "a pattern of kinds too")
	assert.False(t, any.Matches(object.Ref{Kind: "Service", Name: "berth-planner"}))
}

func TestDefaults(t *testing.T) {
	all, err := Parse("w.yaml", []byte("vigila: ward/v1\nname: a\nfrom: {repo: r}\ninto: {cluster: c}\n"))
	require.NoError(t, err)
	assert.Equal(t, Keep{Sync: "ask", Drift: "report", Prune: true, Additions: "report", Every: time.Minute, OnRemoval: "leave", Newer: "wait", Restart: "never"}, all[0].Keep)
	assert.Equal(t, Settle{Within: 5 * time.Minute, Otherwise: "rollback"}, all[0].Settle)
	assert.Equal(t, "main", all[0].From.Ref)
}

func TestMistakesNameThePlaceAndTheMend(t *testing.T) {
	for name, c := range map[string]struct{ from, to, want string }{
		"unknown key":        {"drift: restore", "drfit: restore", "w.yaml:7: unknown key keep.drfit; did you mean drift?"},
		"unknown at the top": {"owner:", "zzzzzz:", "w.yaml:4: unknown key zzzzzz; known here: about, after"},
		"a choice":           {"sync: auto", "sync: always", `w.yaml:7: keep.sync is "always"; write auto or ask`},
		"a time":             {"within: 3m", "within: 3", `w.yaml:8: settle.within is "3"; write a time such as 30s`},
		"a name":             {"name: berth-planner", "name: Berth_Planner", `w.yaml:2: name: "Berth_Planner" is not a name`},
		"a pointer":          {"[/spec/replicas]", "[spec.replicas]", `w.yaml:11: leave.fields: "spec.replicas" is not a JSON pointer`},
		"of":                 {"Deployment/berth-*", "berth", `w.yaml:11: leave.of is "berth"; write Kind/name`},
		"both clusters":      {"cluster: quay", "cluster: quay, clusters: {a: b}", "w.yaml:6: into has both cluster and clusters"},
		"no cluster":         {"cluster: quay, ", "", "w.yaml:6: into names no cluster"},
		"leaving the tree":   {"./services/berth-planner/", "../other", "leaves the repository"},
		"no repository":      {"repo: moorings, ", "", "w.yaml:1: from.repo is missing"},
		"itself":             {"[platform-base]", "[berth-planner]", "waits for itself"},
		"three choices":      {"additions: remove", "additions: keep", `w.yaml:7: keep.additions is "keep"; write report, remove or ignore`},
		"taking over itself": {"old-tool", "vigila", "w.yaml:7: keep.take_over names vigila, which is Vigila itself"},
		"a wrong version":    {"ward/v1", "ward/v9", `the first key must be vigila: ward/v1, not "ward/v9"`},
		"twice":              {"owner: harbour-ops", "name: again", "w.yaml:4: name is given twice; it is already at line 2"},
		"broken":             {"after: [platform-base]", "after: [platform-base", "w.yaml:"},
		"not a bool":         {"prune: false", `prune: "no"`, `keep.prune is "no"; write true or false`},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, whole, c.from)
			_, err := Parse("w.yaml", []byte(strings.Replace(whole, c.from, c.to, 1)))
			require.ErrorContains(t, err, c.want)
		})
	}
	_, err := Parse("w.yaml", nil)
	require.ErrorContains(t, err, "the file is empty")
	_, err = Parse("w.yaml", []byte(whole+"---\n"+whole))
	require.ErrorContains(t, err, "w.yaml:14: ward berth-planner is declared twice; its first declaration is at line 1")
}

func TestAllMistakesAreToldAtOnce(t *testing.T) {
	_, err := Parse("w.yaml", []byte("vigila: ward/v1\nname: A\nfrom: {repo: r, brnch: x}\ninto: {}\n"))
	require.Error(t, err)
	assert.Len(t, strings.Split(err.Error(), "\n"), 3)
}

func TestIsFile(t *testing.T) {
	assert.True(t, IsFile([]byte("# a ward\n---\nvigila: ward/v1\n")))
	assert.False(t, IsFile([]byte("apiVersion: v1\nvigila: x\n")))
	assert.False(t, IsFile(nil))
}

// TestTheSchemaKnowsTheSameKeys holds the published schema against the parser: every key of the schema is
// taken, and the parser's own list of known keys has no more.
func TestTheSchemaKnowsTheSameKeys(t *testing.T) {
	type node struct {
		Properties map[string]node
		Items      *node
	}
	var schema node
	require.NoError(t, json.Unmarshal(Schema, &schema))
	for path, n := range map[string]node{"": schema, "from": schema.Properties["from"], "into": schema.Properties["into"], "keep": schema.Properties["keep"], "settle": schema.Properties["settle"]} {
		text := "vigila: ward/v1\nzzzzzzzzzz: 1\n"
		if path != "" {
			text = "vigila: ward/v1\n" + path + ": {zzzzzzzzzz: 1}\n"
		}
		_, err := Parse("w.yaml", []byte(text))
		require.Error(t, err)
		_, known, found := strings.Cut(err.Error(), "known here: ")
		require.True(t, found, err)
		known, _, _ = strings.Cut(known, "\n")
		var want []string
		for k := range n.Properties {
			want = append(want, k)
		}
		assert.ElementsMatch(t, want, strings.Split(known, ", "), path)
	}
}

func TestTheDemosWardsParse(t *testing.T) {
	files, err := filepath.Glob("../../../lab/demo/moorings/*/wards/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	read := 0
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		if !IsRoster(text) { // lanes and follows have readers of their own
			continue
		}
		read++
		_, err = ParseDeclared(From{Repo: "moorings", Ref: "main"}, f, text)
		assert.NoError(t, err)
	}
	assert.GreaterOrEqual(t, read, 10)
}
