package server

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"vigila.dev/vigila/internal/observe"
)

// TestTheRulesAskForWhatThereIs: every metric that a rule or the dashboard asks for is told at /metrics, with the labels that it is asked by.
func TestTheRulesAskForWhatThereIs(t *testing.T) {
	s := serve(t)
	there := map[string][]string{}
	all := make(chan *prometheus.Desc, 1000)
	s.registry.Describe(all)
	close(all)
	form := regexp.MustCompile(`fqName: "([^"]+)".*variableLabels: \{([^}]*)\}`)
	for d := range all {
		m := form.FindStringSubmatch(d.String())
		require.NotNil(t, m, d.String())
		there[m[1]] = strings.Split(m[2], ",")
	}
	require.Contains(t, there, "vigila_troubles")
	there["vigila_backup_newest_timestamp_seconds"] = []string{""} // of a service that takes backups, in cmd/vigila

	var file struct {
		Groups []struct{ Rules []struct{ Expr string } }
	}
	require.NoError(t, yaml.Unmarshal(observe.Rules, &file))
	var asked []string
	for _, r := range file.Groups[0].Rules {
		asked = append(asked, r.Expr)
	}
	for _, p := range observe.Panels {
		for _, q := range p.Queries {
			asked = append(asked, q.Expr)
		}
	}
	series, by := regexp.MustCompile(`\b((?:vigila|process|go)_[a-z_]+)(?:\{([^}]*)\})?`), regexp.MustCompile(`\bby \(([^)]*)\)`)
	label := regexp.MustCompile(`(\w+)(?:=|!=|=~|!~)"`)
	used := map[string]bool{}
	for _, expr := range asked {
		known := map[string]bool{"job": true, "instance": true}
		for _, m := range series.FindAllStringSubmatch(expr, -1) {
			name := m[1]
			for _, part := range []string{"_bucket", "_count", "_sum"} {
				if base, is := strings.CutSuffix(name, part); is && there[name] == nil {
					name = base
					known["le"] = true
				}
			}
			labels, is := there[name]
			assert.True(t, is, "there is no %s: %s", name, expr)
			used[name] = true
			for _, l := range label.FindAllStringSubmatch(m[2], -1) {
				assert.Contains(t, labels, l[1], expr)
			}
			for _, l := range labels {
				known[l] = true
			}
		}
		for _, m := range by.FindAllStringSubmatch(expr, -1) {
			for _, l := range strings.Split(m[1], ", ") {
				assert.True(t, known[l], "%s has no label %s", expr, l)
			}
		}
	}
	for name := range there {
		if strings.HasPrefix(name, "vigila_") && name != "vigila_build_info" {
			assert.True(t, used[name], fmt.Sprintf("%s is told, and nobody asks for it", name))
		}
	}
}
