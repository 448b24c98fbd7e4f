package observe

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// promtool runs Debian's promtool, which scripts/prepare installs.
func promtool(t *testing.T, args ...string) {
	t.Helper()
	out, err := exec.Command("promtool", args...).CombinedOutput()
	require.NoError(t, err, string(out))
}

// TestPrometheusTakesTheRules, and every question of the dashboard.
func TestPrometheusTakesTheRules(t *testing.T) {
	dir := t.TempDir()
	rules := filepath.Join(dir, "rules.yaml")
	require.NoError(t, os.WriteFile(rules, Rules, 0o600))
	promtool(t, "check", "rules", rules)
	var recorded []map[string]string
	for _, p := range Panels {
		for _, q := range p.Queries {
			recorded = append(recorded, map[string]string{"record": "asked", "expr": strings.ReplaceAll(q.Expr, "$__rate_interval", "5m")})
		}
	}
	text, err := yaml.Marshal(map[string]any{"groups": []any{map[string]any{"name": "dashboard", "rules": recorded}}})
	require.NoError(t, err)
	asked := filepath.Join(dir, "asked.yaml")
	require.NoError(t, os.WriteFile(asked, text, 0o600))
	promtool(t, "check", "rules", "--lint=none", asked)
}

// TestWhatTheRulesSay plays time series against the rules, by promtool: which alerts fire, and with which words.
func TestWhatTheRulesSay(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rules.yaml"), Rules, 0o600))
	text, err := os.ReadFile(filepath.Join("testdata", "rules_test.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rules_test.yaml"), text, 0o600))
	promtool(t, "test", "rules", filepath.Join(dir, "rules_test.yaml"))

	var file struct {
		Groups []struct{ Rules []struct{ Alert string } }
	}
	require.NoError(t, yaml.Unmarshal(Rules, &file))
	for _, r := range file.Groups[0].Rules {
		assert.Contains(t, string(text), "alertname: "+r.Alert+"\n", "no case shows that it fires")
	}
}

func TestTheDashboardHasRoomForAll(t *testing.T) {
	var d struct {
		Panels []struct {
			ID      int
			Title   string
			GridPos struct{ X, Y, W, H int }
			Targets []struct{ Expr string }
		}
	}
	require.NoError(t, json.Unmarshal(Dashboard(), &d))
	require.Len(t, d.Panels, len(Panels))
	for i, p := range d.Panels {
		assert.NotEmpty(t, p.Targets, p.Title)
		assert.LessOrEqual(t, p.GridPos.X+p.GridPos.W, 24, p.Title)
		for _, q := range d.Panels[:i] {
			a, b := p.GridPos, q.GridPos
			assert.True(t, a.X >= b.X+b.W || b.X >= a.X+a.W || a.Y >= b.Y+b.H || b.Y >= a.Y+a.H, "%s lies on %s", p.Title, q.Title)
			assert.NotEqual(t, p.ID, q.ID)
		}
	}
}
