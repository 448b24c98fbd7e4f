package main

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vigila.dev/vigila/internal/check"
	"vigila.dev/vigila/internal/core/ward"
	"vigila.dev/vigila/internal/repo"
)

func file(t *testing.T, text string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "vigila.yaml")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	return name
}

func TestSettingsByFileEnvironmentAndFlag(t *testing.T) {
	c := serveCommand()
	s, err := readSettings(c, "")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:7740", s.Listen, "loopback unless told otherwise")

	conf := file(t, "listen: 127.0.0.1:1\nparallel: 3\nallow_local_repos: true\n")
	s, err = readSettings(serveCommand(), conf)
	require.NoError(t, err)
	assert.Equal(t, []any{"127.0.0.1:1", 3, true}, []any{s.Listen, s.Parallel, s.AllowLocalRepos})

	t.Setenv("VIGILA_LISTEN", "127.0.0.1:2")
	t.Setenv("VIGILA_LOG_FORMAT", "json")
	s, err = readSettings(serveCommand(), conf)
	require.NoError(t, err)
	assert.Equal(t, []any{"127.0.0.1:2", "json", 3}, []any{s.Listen, s.LogFormat, s.Parallel}, "the environment wins over the file")

	c = serveCommand()
	require.NoError(t, c.Flags().Parse([]string{"--listen", "127.0.0.1:3"}))
	s, err = readSettings(c, conf)
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:3", s.Listen, "a flag wins over both")
}

func TestMistakesInSettingsAreNamed(t *testing.T) {
	for text, want := range map[string]string{
		"lissten: x":                                 "unknown key lissten; known: listen, data",
		"parallel: 0":                                "parallel is 0; it must be 1 to 256",
		"log_format: xml":                            `log_format is "xml"; write text or json`,
		"parallel: [1":                               "configuration",
		"parallel: lots\n":                           "parallel",
		"profiles: 0.0.0.0:7741":                     `profiles is "0.0.0.0:7741"; write a loopback address with a port`,
		"profiles: here":                             `profiles is "here"`,
		"lease: vigila":                              `lease is "vigila"; write NAMESPACE/NAME`,
		"lease: Vigila/Ops":                          `lease is "Vigila/Ops"`,
		"lease_kubeconfig: k":                        "lease_kubeconfig needs lease",
		"stand_by_of: https://b":                     "stand_by_of needs lease: without it nobody decides which of the two works",
		"stand_by_ca_file: f":                        "stand_by_ca_file needs stand_by_of",
		"lease: a/b\nstand_by_of: ' , '":             `stand_by_of is " , "; write addresses`,
		"lease: a/b\nstand_by_of: b.brindle.example": `stand_by_of: "b.brindle.example" is no address of a service`,
	} {
		_, err := readSettings(serveCommand(), file(t, text))
		assert.ErrorContains(t, err, want, text)
	}
	_, err := readSettings(serveCommand(), "/nonexistent")
	assert.ErrorContains(t, err, "configuration /nonexistent")
}

func TestRenderReadsWhatAWardWould(t *testing.T) {
	c := renderCommand()
	var out strings.Builder
	c.SetOut(&out)
	c.SetArgs([]string{"../../lab/demo/moorings/02-services/services/berth-planner/skerry"})
	require.NoError(t, c.Execute())
	for _, want := range []string{"# lab/demo/moorings/02-services/services/berth-planner/base/deployment.yaml:1", "kind: Deployment", "kind: Service", "kind: ConfigMap"} {
		assert.Contains(t, out.String(), want)
	}
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.yaml"), []byte("kind: ["), 0o600))
	c = renderCommand()
	c.SetArgs([]string{dir})
	c.SilenceErrors, c.SilenceUsage = true, true
	assert.ErrorContains(t, c.Execute(), "a.yaml:1: this is not valid YAML")
}

func TestDays(t *testing.T) {
	for text, want := range map[string]time.Duration{"": 0, "0": 0, "90d": 90 * 24 * time.Hour, "720h": 720 * time.Hour} {
		got, err := days(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"d", "-1d", "-5h", "ninety", "1.5d"} {
		_, err := days(text)
		assert.Error(t, err, text)
	}
}

func TestSchemasOfEveryFormat(t *testing.T) {
	for name, title := range map[string]string{"ward": "Vigila ward", "health": "Vigila health rule", "lane": "Vigila lane"} {
		c := schemaCommand()
		var out bytes.Buffer
		c.SetOut(&out)
		c.SetArgs([]string{name})
		require.NoError(t, c.Execute())
		var schema struct{ Title string }
		require.NoError(t, json.Unmarshal(out.Bytes(), &schema))
		assert.Equal(t, title, schema.Title)
	}
	c := schemaCommand()
	c.SetArgs([]string{"boat"})
	c.SilenceUsage, c.SilenceErrors = true, true
	assert.ErrorContains(t, c.Execute(), "vigila schema knows these formats: alert, checks, cluster, components, follow, health, kit, lane, repo, roster, rule-cases, rulebook, store, team, template, versions, ward")
}

// TestSchemasAreWhereEditorsFindThem: in the repository, and each of Vigila's own files says so, once.
func TestSchemasAreWhereEditorsFindThem(t *testing.T) {
	dir := t.TempDir()
	out, err := exec.Command("git", "init", "--quiet", dir).CombinedOutput()
	require.NoError(t, err, string(out))
	gate := "vigila: ward/v1\nname: gate\nfrom: {path: app}\ninto: {cluster: quay, namespace: fares}\n"
	files := map[string]string{"wards/deep/gate.yaml": gate, "clusters.yaml": "---\nvigila: cluster/v1\nname: quay\n", "app/a.yaml": "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: horn}\n"}
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	save := func() string {
		c := schemaCommand()
		var out bytes.Buffer
		c.SetOut(&out)
		c.SetArgs([]string{"--save", dir})
		require.NoError(t, c.Execute())
		return out.String()
	}
	read := func(name string) string {
		b, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return string(b)
	}
	assert.Contains(t, save(), "wards/deep/gate.yaml says where its schema is")
	assert.Equal(t, "# yaml-language-server: $schema=../../.vigila/schemas/ward.schema.json\n"+gate, read("wards/deep/gate.yaml"))
	assert.Equal(t, "# yaml-language-server: $schema=.vigila/schemas/cluster.schema.json\n"+files["clusters.yaml"], read("clusters.yaml"))
	assert.Equal(t, files["app/a.yaml"], read("app/a.yaml"))
	assert.Equal(t, string(ward.Schema), read(".vigila/schemas/ward.schema.json"))
	assert.NotContains(t, save(), "gate.yaml", "it says so already")
	r, err := check.Dir(t.Context(), repo.Folder{Root: dir}, "", check.Options{})
	require.NoError(t, err)
	assert.Empty(t, r.Findings, "and everything is as it was")
	assert.Equal(t, 1, r.Wards)
}

func TestRenderNamesMistakesInRules(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "h.yaml"), []byte("vigila: health/v1\nof: Berth.x\nready: object.\n"), 0o600))
	c := renderCommand()
	c.SetArgs([]string{dir})
	c.SilenceUsage, c.SilenceErrors = true, true
	assert.ErrorContains(t, c.Execute(), "h.yaml:3: ready is no valid CEL")
}
