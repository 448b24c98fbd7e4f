package kit

import (
	"maps"
	"path"
	"strings"

	"vigila.dev/vigila/internal/core/schema"
)

// FromChart is the name of the kit that Vigila brings along: a ward from a packaged chart, with its values as a form.
const FromChart = "from-chart"

// Offer is what there is to choose, by what was chosen already.
type Offer struct {
	Rosters  []string
	Repos    []string       // chart repositories
	Charts   []string       // of the chosen one; none where it does not list them
	Versions []string       // of the chosen chart, newest first
	Values   map[string]any // the JSON Schema of the chosen version's values; nil while none is chosen
}

// chartWard is what a ward from a chart declares.
const chartWard = `vigila: ward/v1
name: ${{ params.name }}
owner: ${{ has(params.owner) ? params.owner : nothing }}
from:
  chart: {repo: "${{ params.chart_repo }}", name: "${{ params.chart }}", version: "${{ params.version }}"}
  values: ${{ has(params.values) ? params.values : nothing }}
into: {cluster: "${{ params.cluster }}", namespace: "${{ params.namespace }}", create_namespace: true}
keep: {sync: "${{ params.sync }}"}
`

// ForChart is the kit for a chart, as far as one is chosen; below is the path of the roster that it goes to.
func ForChart(o Offer, below string) (*Kit, []File, error) {
	text := func(title, about string, more map[string]any) map[string]any {
		out := map[string]any{"type": "string", "title": title, "description": about}
		maps.Copy(out, more)
		return out
	}
	among := func(all []string) map[string]any {
		if len(all) == 0 {
			return nil
		}
		list := make([]any, len(all))
		for i, x := range all {
			list[i] = x
		}
		return map[string]any{"enum": list}
	}
	first := func(all []string) map[string]any {
		out := among(all)
		if len(all) > 0 {
			out["default"] = all[0]
		}
		return out
	}
	props := map[string]any{
		"chart_repo": text("Chart repository", "That it comes from.", among(o.Repos)),
		"chart":      text("Chart", "Its name there.", among(o.Charts)),
		"version":    text("Version", "One version, or a range such as \">=1.4 <2\".", map[string]any{"examples": anyOf(o.Versions)}),
		"roster":     text("Roster", "That declares its ward.", first(o.Rosters)),
		"name":       text("Name", "Of the ward. Small letters, digits and dashes.", map[string]any{"pattern": "^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$"}),
		"owner":      text("Owner", "The team that answers for it.", nil),
		"cluster":    text("Cluster", "Where it goes.", map[string]any{"format": ClusterFormat}),
		"namespace":  text("Namespace", "Of its objects; it is made.", map[string]any{"default": "${{ params.name }}"}),
		"sync":       text("A new revision", "ask: a person syncs. auto: it is synced by itself.", map[string]any{"enum": []any{"ask", "auto"}, "default": "ask"}),
	}
	k := &Kit{Name: FromChart, About: "A ward from a packaged chart of a known chart repository, with its values as a form.", Dir: "", Line: 1,
		Makes: Makes{Path: path.Join(below, "charts", "${{ params.name }}")}, Order: []string{"chart_repo", "chart", "version", "roster", "name", "owner", "cluster", "namespace", "sync"},
		Groups: []Group{{"The chart", []string{"chart_repo", "chart", "version"}}, {"Its ward", []string{"name", "owner", "cluster", "namespace", "sync", "roster"}}}}
	required := []any{"chart_repo", "chart", "version", "name", "cluster"}
	if o.Values != nil {
		v := copied(o.Values)
		v["title"], v["description"] = "Values", "What is left empty is as the chart has it."
		props["values"] = v
		k.Order = append(k.Order, "values")
		k.Groups = append(k.Groups, Group{"Its values", []string{"values"}})
	}
	k.Parameters = schema.Parameters(map[string]any{"required": required, "properties": props})
	var err error
	k.shape, err = shapeOf(k.Parameters)
	return k, []File{{path.Join(Below, "ward.yaml"), []byte(chartWard)}}, err
}

func anyOf(all []string) []any {
	out := make([]any, 0, len(all))
	for _, x := range all {
		out = append(out, x)
	}
	return out
}

// maxInline is how deep references are followed.
const maxInline = 12

// ChartValues is the JSON Schema that a form is made from: the chart's own, with its references in their places and without defaults, since
// the chart has them; or what its values tell of their types, where it has none.
func ChartValues(own, values map[string]any) map[string]any {
	if own == nil {
		own = told(values)
	}
	out, _ := inline(own, own, 0).(map[string]any)
	hint(out, values)
	out["type"] = "object"
	for _, key := range []string{"$schema", "$id", "definitions", "$defs"} {
		delete(out, key)
	}
	return out
}

func inline(v any, root map[string]any, depth int) any {
	switch x := v.(type) {
	case map[string]any:
		if at, is := x["$ref"].(string); is {
			if depth > maxInline || !strings.HasPrefix(at, "#/") {
				return map[string]any{}
			}
			var to any = root
			for _, part := range strings.Split(strings.TrimPrefix(at, "#/"), "/") {
				m, _ := to.(map[string]any)
				to = m[strings.NewReplacer("~1", "/", "~0", "~").Replace(part)]
			}
			if to == nil {
				return map[string]any{}
			}
			return inline(to, root, depth+1)
		}
		out := make(map[string]any, len(x))
		for key, y := range x {
			out[key] = inline(y, root, depth)
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i, y := range x {
			out[i] = inline(y, root, depth)
		}
		return out
	}
	return v
}

// hint shows the chart's own values as examples, in place of defaults: they are the chart's, and follow it.
func hint(of, values map[string]any) {
	delete(of, "default")
	props, _ := of["properties"].(map[string]any)
	for name, p := range props {
		m, is := p.(map[string]any)
		if !is {
			continue
		}
		inner, _ := values[name].(map[string]any)
		hint(m, inner)
		if v, has := values[name]; has && inner == nil && v != nil && v != "" {
			m["examples"] = []any{v}
		}
	}
}

// told is what values tell of their types.
func told(values map[string]any) map[string]any {
	props := map[string]any{}
	for name, v := range values {
		p := map[string]any{}
		switch x := v.(type) {
		case map[string]any:
			if p["type"] = "object"; len(x) > 0 {
				p = told(x)
			}
		case []any:
			p["type"] = "array"
		case string:
			p["type"] = "string"
		case bool:
			p["type"] = "boolean"
		case int64:
			p["type"] = "integer"
		case float64:
			p["type"] = "number"
		}
		props[name] = p
	}
	return map[string]any{"type": "object", "properties": props}
}
